//! The visited states of a space in which a state is its number: one cell a number, and nothing else.
//!
//! ```text
//! cells    number 0 | number 1 | ...      8 bits each; 16, then 32, when that many marks are needed
//! a cell   0: never seen;  else a mark: the depth and class that it stands for
//! book     mark -> (depth, class)         handed out when a pair is met first, taken back when no cell has it
//! ```
//!
//! Nothing is hashed and no key is kept. Cells are changed by several threads at once: a cell goes from 0 to the mark of the
//! next depth by whoever comes first, and only one thread at a time works on a state that has a mark.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::atomic::{AtomicU32, Ordering::Relaxed};
use std::sync::{Arc, Mutex};

use super::arrows::{ArrowLog, Arrows};
use super::cells::Cells;
pub(crate) use super::cells::Mark;
use super::classes::Class;
use super::slots::Slots;
use crate::model::{Numbering, Worker};

/// Marks that one more depth may need: one for each class, and one for the depth behind it.
pub(crate) const MARKS_OF_DEPTH: u64 = 11;
/// Classes that sorting may give to states of a depth beside those that they have.
pub(crate) const LATER_CLASSES: usize = 4;

/// Which marks are handed out.
struct Book {
    /// The mark of each depth and class in use.
    used: HashMap<u32, Mark>,
    /// The marks of each depth.
    of_depth: Vec<Vec<Mark>>,
    free: Vec<Mark>,
    next: Mark,
}

impl Book {
    /// Notes that a mark stands for a depth and class, which are joined.
    fn hand_out(&mut self, mark: Mark, what: u32) {
        let depth = (what >> 4) as usize;
        if self.of_depth.len() <= depth {
            self.of_depth.resize(depth + 1, vec![]);
        }
        self.of_depth[depth].push(mark);
        self.used.insert(what, mark);
    }
}

/// Depth and class in one number.
fn joined(depth: u32, class: Class) -> u32 {
    depth << 4 | class as u32
}

/// What gives states their numbers.
pub(crate) enum Keys {
    /// The model: the numbers are a small range of what its states can be.
    Numbering(Arc<dyn Numbering>),
    /// Their slots in a table of remainders, of words that may be numbers, or say a still and moving bits, or are packed states.
    Slots(Arc<Slots>),
}

/// A space whose states are their numbers.
pub(crate) struct Dense {
    pub(crate) keys: Keys,
    cells: Cells,
    /// Depth and class of each mark, joined.
    meaning: Vec<AtomicU32>,
    book: Mutex<Book>,
    /// States at each depth, and in all.
    per_depth: Vec<u64>,
    len: u64,
    /// States whose moves were tried.
    pub(crate) expanded: u64,
    /// There are so many states that it pays to ask where moves lead without making them.
    pub(crate) leaps: bool,
    /// The edges that were met so far, where the rules do not tell what leads into a state and there is room.
    pub(crate) log: Option<ArrowLog>,
    /// The same from behind, when all states were expanded.
    pub(crate) arrows: Option<Arrows>,
}

impl Dense {
    pub(crate) fn new(numbering: Arc<dyn Numbering>) -> Dense {
        let cells = Cells::new(numbering.range(), 8);
        let book = Mutex::new(Book { used: HashMap::new(), of_depth: vec![], free: vec![], next: 1 });
        let meaning = (0..256).map(|_| AtomicU32::new(0)).collect();
        Dense {
            keys: Keys::Numbering(numbering),
            cells,
            meaning,
            book,
            per_depth: vec![],
            len: 0,
            expanded: 0,
            leaps: false,
            log: None,
            arrows: None,
        }
    }

    /// States in slots, with their marks: `meaning` says of each mark which depth and class it stands for, and no two stand for the same. `per_depth`
    /// is how many states lie at each depth.
    pub(crate) fn of_slots(
        slots: Slots,
        cells: Cells,
        meaning: &[(u32, Class)],
        per_depth: Vec<u64>,
        expanded: u64,
    ) -> Dense {
        let joined = |m: &(u32, Class)| joined(m.0, m.1);
        let mut book =
            Book { used: HashMap::new(), of_depth: vec![], free: vec![], next: meaning.len() as Mark };
        // Nothing has the first one.
        for (mark, m) in meaning.iter().enumerate().skip(1) {
            book.hand_out(mark as Mark, joined(m));
        }
        let mut all: Vec<AtomicU32> = meaning.iter().map(|m| AtomicU32::new(joined(m))).collect();
        // Room for the classes that sorting tells apart.
        let later = LATER_CLASSES * per_depth.len();
        all.resize_with(meaning.len() + later, || AtomicU32::new(0));
        Dense {
            keys: Keys::Slots(Arc::new(slots)),
            cells,
            meaning: all,
            book: Mutex::new(book),
            len: per_depth.iter().sum(),
            per_depth,
            expanded,
            leaps: false,
            log: None,
            arrows: None,
        }
    }

    /// How the model numbers states, where that is what gives them their numbers.
    pub(crate) fn numbering(&self) -> Option<&Arc<dyn Numbering>> {
        match &self.keys {
            Keys::Numbering(numbering) => Some(numbering),
            Keys::Slots(_) => None,
        }
    }

    /// Their slots, where those give them their numbers.
    pub(crate) fn slots(&self) -> Option<&Arc<Slots>> {
        match &self.keys {
            Keys::Numbering(_) => None,
            Keys::Slots(slots) => Some(slots),
        }
    }

    fn book(&self) -> std::sync::MutexGuard<'_, Book> {
        self.book.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Bytes that a space of this range takes: the cells to begin with, and a bit a number while it is sorted.
    pub(crate) fn bytes_for(range: u64) -> u64 {
        range + range / 8
    }

    pub(crate) fn range(&self) -> u64 {
        match &self.keys {
            Keys::Numbering(numbering) => numbering.range(),
            Keys::Slots(slots) => slots.range(),
        }
    }

    /// Bytes of the cells, of the edges that are kept, and of what the rules keep beside them.
    pub(crate) fn bytes(&self) -> u64 {
        let log = self.log.as_ref().map_or(0, |l| l.bytes(self.range()));
        let arrows = self.arrows.as_ref().map_or(0, Arrows::bytes);
        let keys = match &self.keys {
            Keys::Numbering(numbering) => numbering.bytes(),
            Keys::Slots(slots) => slots.bytes(),
        };
        self.cells.bytes() + log + arrows + keys
    }

    /// Turns the edges that were met round: nothing more is expanded.
    pub(crate) fn turn_log_round(&mut self) {
        if let Some(log) = self.log.take() {
            self.arrows = Arrows::of(&log, self);
        }
    }

    pub(crate) fn len(&self) -> u64 {
        self.len
    }

    /// States at each depth.
    pub(crate) fn per_depth(&self) -> &[u64] {
        &self.per_depth
    }

    /// Adds a depth that holds so many states.
    pub(crate) fn add_depth(&mut self, states: u64) {
        self.per_depth.push(states);
        self.len += states;
    }

    /// Room for all marks that one more depth may need; see [`Dense::make_room`].
    pub(crate) fn make_room_for_depth(&mut self, memory: u64) -> bool {
        self.make_room(MARKS_OF_DEPTH, memory)
    }

    /// Room for so many more classes at each depth; see [`Dense::make_room`].
    pub(crate) fn make_room_for_classes(&mut self, classes: u64, memory: u64) -> bool {
        self.make_room(classes * self.per_depth.len() as u64, memory)
    }

    /// Makes the cells as wide as so many more marks may need. False when it would all take more than `memory` bytes then: nothing is changed.
    fn make_room(&mut self, more: u64, memory: u64) -> bool {
        let next = u64::from(self.book().next) + more;
        let width = Cells::width_for(next);
        if width > self.cells.width() {
            let more = self.range() * u64::from(width - self.cells.width()) / 8;
            if self.bytes() + more > memory {
                return false;
            }
            self.cells.widen(width);
        }
        // Grows by doubling, so that a deep space costs no more than its marks.
        if next as usize > self.meaning.len() {
            let len = (next as usize).next_power_of_two();
            self.meaning.resize_with(len, || AtomicU32::new(0));
        }
        true
    }

    /// The mark of a depth and class; one is handed out when there is none yet, for which room must have been made.
    pub(crate) fn mark(&self, depth: u32, class: Class) -> Mark {
        let what = joined(depth, class);
        let mut book = self.book();
        if let Some(mark) = book.used.get(&what) {
            return *mark;
        }
        let mark = book.free.pop().unwrap_or(book.next);
        assert!(u64::from(mark) <= self.cells.mask(), "room is made before marks are handed out");
        book.next = book.next.max(mark + 1);
        book.hand_out(mark, what);
        self.meaning[mark as usize].store(what, Relaxed);
        mark
    }

    /// One more than the greatest mark.
    pub(crate) fn marks_len(&self) -> usize {
        self.book().next as usize
    }

    /// The marks of a class at all depths, by depth.
    pub(crate) fn marks_of(&self, class: Class) -> Vec<Mark> {
        (0..self.per_depth.len() as u32).map(|d| self.mark(d, class)).collect()
    }

    /// Whether a state of this class was met.
    pub(crate) fn has_met(&self, class: Class) -> bool {
        self.book().used.keys().any(|what| what & 15 == class as u32)
    }

    /// Gives a mark back that no cell has any more.
    pub(crate) fn take_back(&self, depth: u32, class: Class) {
        let mut book = self.book();
        if let Some(mark) = book.used.remove(&joined(depth, class)) {
            book.of_depth[depth as usize].retain(|other| *other != mark);
            book.free.push(mark);
        }
    }

    /// Makes every state of one class one of another, at all depths: only the meaning of marks changes.
    pub(crate) fn rename(&self, from: Class, to: Class) {
        let mut book = self.book();
        let old: Vec<(u32, Mark)> =
            book.used.iter().filter(|u| u.0 & 15 == from as u32).map(|u| (*u.0, *u.1)).collect();
        for (what, mark) in old {
            let new = what & !15 | to as u32;
            book.used.remove(&what);
            // Where the other class has a mark of its own, both mean the same from now on.
            book.used.entry(new).or_insert(mark);
            self.meaning[mark as usize].store(new, Relaxed);
        }
    }

    /// Brings numbers into the order in which a worker leaps fastest.
    pub(crate) fn order_for_targets(&self, worker: &dyn Worker, numbers: &mut Vec<u64>) {
        if self.leaps {
            worker.order_for_targets(numbers);
        }
    }

    /// The states of some depths, depth by depth and ascending, and where each depth begins, with one entry more at the end. 4 bytes
    /// a state.
    pub(crate) fn by_depth(&self, depths: Range<usize>) -> (Vec<u32>, Vec<usize>) {
        let mut first = vec![0usize];
        for len in &self.per_depth[depths.clone()] {
            first.push(first[first.len() - 1] + *len as usize);
        }
        let mut at = first.clone();
        let mut order = vec![0u32; at[at.len() - 1]];
        self.each_seen(0, self.range(), |number, mark| {
            let depth = (self.depth_of(mark) as usize).wrapping_sub(depths.start);
            if depth < depths.len() {
                order[at[depth]] = number as u32;
                at[depth] += 1;
            }
        });
        (order, first)
    }

    /// Depths in groups that hold at the most so many states together, or are one depth.
    pub(crate) fn depth_groups(&self, states: u64) -> Vec<Range<usize>> {
        let mut out: Vec<Range<usize>> = vec![];
        let mut sum = 0;
        for (depth, len) in self.per_depth.iter().enumerate() {
            sum += len;
            match out.last_mut() {
                Some(group) if sum <= states => group.end = depth + 1,
                _ => {
                    sum = *len;
                    out.push(depth..depth + 1);
                }
            }
        }
        out
    }

    #[inline(always)]
    pub(crate) fn get(&self, number: u64) -> Mark {
        self.cells.get(number)
    }

    #[inline(always)]
    pub(crate) fn class_of(&self, mark: Mark) -> Class {
        Class::of_number((self.meaning[mark as usize].load(Relaxed) & 15) as u8)
    }

    #[inline(always)]
    pub(crate) fn depth_of(&self, mark: Mark) -> u32 {
        self.meaning[mark as usize].load(Relaxed) >> 4
    }

    /// Gives a mark to a number without one; false when somebody else just gave it this one.
    #[inline(always)]
    pub(crate) fn claim(&self, number: u64, mark: Mark) -> bool {
        self.cells.claim(number, mark)
    }

    /// Changes a mark that nobody else changes now; to 0, it was never seen.
    #[inline(always)]
    pub(crate) fn change(&self, number: u64, from: Mark, to: Mark) {
        self.cells.change(number, from, to);
    }

    /// Changes a mark if it still is `from`; false when it is not.
    #[inline(always)]
    pub(crate) fn exchange(&self, number: u64, from: Mark, to: Mark) -> bool {
        self.cells.exchange(number, from, to)
    }

    /// Calls `see` with the numbers below `end`, from `start` on, that have this mark, until it says no.
    pub(crate) fn each_with(&self, start: u64, end: u64, mark: Mark, mut see: impl FnMut(u64) -> bool) {
        self.cells.each_of(start..end, &[mark], |number, _| see(number));
    }

    /// Calls `see` with the numbers below `end`, from `start` on, that lie at a depth, and their marks. In one pass, since few depths have more than a
    /// few marks.
    pub(crate) fn each_at(&self, start: u64, end: u64, depth: u32, mut see: impl FnMut(u64, Mark)) {
        let marks = self.book().of_depth.get(depth as usize).cloned().unwrap_or_default();
        if !marks.is_empty() {
            self.cells.each_of(start..end, &marks, |number, mark| {
                see(number, mark);
                true
            });
        }
    }

    /// Calls `see` with the numbers below `end`, from `start` on, that have a mark, and their marks.
    pub(crate) fn each_seen(&self, start: u64, end: u64, see: impl FnMut(u64, Mark)) {
        self.cells.each_seen(start..end, see);
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    /// Numbers that are their own states.
    #[derive(Debug)]
    pub(crate) struct Plain(pub(crate) u64);

    impl Numbering for Plain {
        fn range(&self) -> u64 {
            self.0
        }
        fn number(&self, state: &[u64]) -> Option<u64> {
            Some(state[0])
        }
        fn state(&self, number: u64) -> Vec<u64> {
            vec![number]
        }
        fn values(&self, number: u64, out: &mut Vec<i32>) {
            *out = vec![number as i32];
        }
        fn divisor(&self) -> u64 {
            self.0
        }
        fn number_of(&self, values: &[i32]) -> Option<u64> {
            Some(values[0] as u64)
        }
    }

    #[test]
    fn states_come_depth_by_depth_in_groups_of_depths() {
        let mut dense = Dense::new(Arc::new(Plain(1_000)));
        // Number n lies at depth n mod 7, but for the last depth, which is large.
        let depth_of = |n: u64| if n < 500 { n % 7 } else { 7 };
        for n in 0..1_000 {
            dense.make_room_for_depth(u64::MAX);
            let mark = dense.mark(depth_of(n) as u32, Class::Running);
            assert!(dense.claim(n, mark));
        }
        (0..8).for_each(|d| dense.add_depth((0..1_000).filter(|n| depth_of(*n) == d).count() as u64));
        let groups = dense.depth_groups(150);
        assert_eq!(groups, [0..2, 2..4, 4..6, 6..7, 7..8], "some 71 states a depth, and 500");
        for depths in groups.into_iter().chain([0..8, 3..6]) {
            let (order, first) = dense.by_depth(depths.clone());
            let want: Vec<Vec<u32>> = depths
                .map(|d| (0..1_000).filter(|n| depth_of(*n) == d as u64).map(|n| n as u32).collect())
                .collect();
            assert_eq!(order, want.concat());
            let lens: Vec<usize> = first.windows(2).map(|w| w[1] - w[0]).collect();
            assert_eq!(lens, want.iter().map(Vec::len).collect::<Vec<_>>());
        }
    }

    #[test]
    fn cells_keep_depth_and_class_through_widening_and_renaming() {
        let mut dense = Dense::new(Arc::new(Plain(10_007)));
        let classes = [Class::Open, Class::Goal, Class::Running];
        for n in (0..10_007).step_by(3) {
            assert!(dense.make_room_for_depth(u64::MAX));
            let mark = dense.mark((n % 300) as u32, classes[n as usize / 3 % 3]);
            assert!(dense.claim(n, mark) && !dense.claim(n, mark));
        }
        assert_eq!(dense.bytes(), 10_008 * 2, "more pairs than eight bits tell apart");
        assert!(
            !dense.make_room(70_000, 40_000),
            "cells of four bytes take 40,032, and there are never two of them"
        );
        assert!(dense.make_room(70_000, 40_032));
        assert_eq!(dense.bytes(), 10_008 * 4);
        dense.rename(Class::Running, Class::Dead);
        let mut seen = 0;
        dense.each_seen(0, 10_007, |n, mark| {
            let class = classes[n as usize / 3 % 3];
            let class = if class == Class::Running { Class::Dead } else { class };
            assert_eq!((dense.depth_of(mark), dense.class_of(mark)), ((n % 300) as u32, class));
            seen += 1;
        });
        assert_eq!(seen, 10_007_u64.div_ceil(3));
        let mark = dense.get(300);
        let mut same = vec![];
        dense.each_with(1, 10_000, mark, |n| {
            same.push(n);
            same.len() < 4
        });
        let want: Vec<u64> = (1..10_000).filter(|n| n % 3 == 0 && dense.get(*n) == mark).take(4).collect();
        assert_eq!(same, want);
        assert!(dense.exchange(300, mark, 7) && !dense.exchange(300, mark, 7));
        dense.change(300, 7, 0);
        assert_eq!((dense.get(300), dense.get(297) != 0, dense.get(303) != 0), (0, true, true));
    }
}
