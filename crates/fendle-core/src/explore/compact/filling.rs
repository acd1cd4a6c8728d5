//! A table of remainders that is being filled, and what each of its slices does in a round.

use std::collections::HashMap;
use std::sync::OnceLock;

use rayon::prelude::*;

use super::super::rounds::{distinct, take_first};
use super::super::{SMALL_ROUND, class_of, pool};
use crate::model::{Expansion, Fault};
use crate::space::Class;
use crate::space::dense::{LATER_CLASSES, MARKS_OF_DEPTH, Mark};
use crate::space::remainders::{Remainders, SLICES, Slice};

/// Marks of states that were not expanded yet, by whether their depth is odd; those of other depths and classes come after them.
pub(super) const NEW: [Mark; 2] = [1, 2];

pub(super) fn new_mark(depth: u32) -> Mark {
    NEW[depth as usize % 2]
}

/// Which depth and class each mark stands for.
pub(super) struct Book {
    pub(super) marks: HashMap<(u32, u8), Mark>,
    pub(super) meaning: Vec<(u32, Class)>,
}

impl Book {
    pub(super) fn new() -> Book {
        // No mark, and those of new states, stand for nothing in the book.
        Book { marks: HashMap::new(), meaning: vec![(0, Class::Open); 1 + NEW.len()] }
    }

    pub(super) fn mark(&mut self, depth: u32, class: Class) -> Mark {
        *self.marks.entry((depth, class as u8)).or_insert_with(|| {
            self.meaning.push((depth, class));
            self.meaning.len() as Mark - 1
        })
    }

    /// The greatest mark that may be needed when one more depth was expanded.
    pub(super) fn most(&self) -> u64 {
        self.meaning.len() as u64 + MARKS_OF_DEPTH
    }

    /// The greatest one that may be needed when so many depths were seen and classes are told later.
    pub(super) fn most_in_the_end(&self, depths: usize) -> u64 {
        self.most() + LATER_CLASSES as u64 * (depths as u64 + 1)
    }
}

/// What one slice does in a round.
#[derive(Default)]
pub(super) struct Lane {
    /// Rests of the states of this depth and of the next one, where they are listed, and how many of the first ones were expanded.
    pub(super) list: Vec<u64>,
    pub(super) listed_done: usize,
    pub(super) next: Vec<u64>,
    /// Where the next state of this depth is looked for, and how many slots there were when that was noted.
    pub(super) cursor: (usize, usize),
    /// The sources of this round.
    pub(super) slots: Vec<usize>,
    pub(super) rests: Vec<u64>,
    pub(super) words: Vec<u64>,
    pub(super) out: Expansion,
    pub(super) idle: Vec<u32>,
    pub(super) classes: Vec<Class>,
    /// Rests of the outcomes by slice, and where those of each slice begin, with one entry more.
    pub(super) given: Vec<u64>,
    pub(super) firsts: Vec<u32>,
    /// Slice and rest of each outcome.
    pub(super) split: Vec<(u8, u64)>,
    pub(super) edges: u64,
}

/// A table of remainders that is being filled.
pub(super) struct Compact {
    pub(super) table: Remainders,
    pub(super) book: Book,
    pub(super) lanes: Vec<Lane>,
    /// The states of the depth that is expanded are listed.
    pub(super) by_list: bool,
    /// Those of the next one are.
    pub(super) listed: bool,
    pub(super) per_depth: Vec<u64>,
    /// The depth that is expanded, and the next one: new states lie there.
    pub(super) new_depths: [u32; 2],
    /// States at the next depth so far.
    pub(super) new: u64,
    pub(super) expanded: u64,
    /// Words of the starts, and of the states on which the model broke.
    pub(super) starts: Vec<u64>,
    pub(super) faults: Vec<(u64, Fault)>,
}

impl Compact {
    /// Counts again what is there, when not all states were moved. Starts, and states on which the model broke, are there at any rate.
    pub(super) fn end_here(&mut self, depth: u32) {
        let kept: Vec<u64> = self.starts.iter().copied().chain(self.faults.iter().map(|f| f.0)).collect();
        // What their depths and classes were went with the others.
        let open = self.book.mark(0, Class::Open);
        self.table.make_room_for_marks(self.book.most());
        for word in kept {
            let (slice, rest) = self.table.split(word);
            if self.table.slices[slice].find(rest).is_none() {
                self.table.slices[slice].add(rest, open);
            }
        }
        self.per_depth = vec![0; depth as usize + 2];
        self.expanded = 0;
        let book = &self.book;
        for slice in &self.table.slices {
            slice.each(|_, mark| {
                let is_new = NEW.contains(&mark);
                let at = if is_new {
                    depth + u32::from(mark != new_mark(depth))
                } else {
                    book.meaning[mark as usize].0
                };
                self.per_depth[at as usize] += 1;
                self.expanded += u64::from(!is_new);
            });
        }
        while self.per_depth.last() == Some(&0) {
            self.per_depth.pop();
        }
        self.new = 0;
    }

    /// Adds states by slice, on all threads where they are many.
    pub(super) fn add(
        &mut self,
        moved: &[Vec<(u64, Mark)>],
        (cell, threads): (&OnceLock<rayon::ThreadPool>, usize),
    ) {
        self.table.make_room_for_marks(self.book.most());
        let (_, slices) = self.table.apart();
        let add = |(slice, moved): (&mut Slice, &Vec<(u64, Mark)>)| {
            moved.iter().for_each(|(rest, mark)| slice.add(*rest, *mark));
        };
        if moved.iter().map(Vec::len).sum::<usize>() < SMALL_ROUND {
            slices.iter_mut().zip(moved).for_each(add);
        } else {
            pool(cell, threads).install(|| slices.par_iter_mut().zip(moved).for_each(add));
        }
    }

    /// Moves all states into a table for longer words.
    pub(super) fn make_wider(&mut self, bits: u32, pool: (&OnceLock<rayon::ThreadPool>, usize)) {
        let mut old = std::mem::replace(&mut self.table, Remainders::new(bits));
        for n in 0..SLICES {
            let mut moved: Vec<Vec<(u64, Mark)>> = vec![vec![]; SLICES];
            let slice = old.take_slice(n);
            slice.each(|slot, mark| {
                let (to, rest) = self.table.split(old.word(n, slice.rest(slot)));
                moved[to].push((rest, mark));
            });
            drop(slice);
            self.add(&moved, pool);
        }
        (self.by_list, self.listed) = (false, false);
        self.lanes = (0..SLICES).map(|_| Lane::default()).collect();
    }

    /// What was new lies at the depth that is expanded from now on.
    pub(super) fn begin_depth(&mut self, depth: u32) {
        self.new_depths = [depth, depth + 1];
        self.by_list = self.listed;
        self.listed = true;
        for lane in &mut self.lanes {
            lane.list = std::mem::take(&mut lane.next);
            (lane.listed_done, lane.cursor) = (0, (0, 0));
        }
    }

    /// Takes the next states of a depth, so many of each slice. Gives how many they are.
    pub(super) fn gather(&mut self, depth: u32, batch: usize) -> usize {
        let mut round = 0;
        for (n, lane) in self.lanes.iter_mut().enumerate() {
            let slice = &self.table.slices[n];
            lane.slots.clear();
            lane.rests.clear();
            if self.by_list {
                let left = &lane.list[lane.listed_done..];
                lane.rests.extend_from_slice(&left[..batch.min(left.len())]);
                lane.slots.extend(lane.rests.iter().map(|rest| slice.find(*rest).expect("it was added")));
            } else {
                // Where the slice has grown since, slots are others.
                let from = if lane.cursor.1 == slice.slots() { lane.cursor.0 } else { 0 };
                lane.cursor = (slice.slots(), slice.slots());
                slice.each_with(from, new_mark(depth), |slot| {
                    if lane.slots.len() == batch {
                        lane.cursor.0 = slot;
                        return false;
                    }
                    lane.slots.push(slot);
                    true
                });
                lane.rests.extend(lane.slots.iter().map(|slot| slice.rest(*slot)));
            }
            lane.words.clear();
            lane.words.extend(lane.rests.iter().map(|rest| self.table.word(n, *rest)));
            round += lane.words.len();
        }
        round
    }
}

impl Lane {
    /// Only the first sources of the round were expanded, so many.
    pub(super) fn keep(&mut self, done: usize) {
        if let Some(slot) = self.slots.get(done) {
            self.cursor.0 = *slot;
        }
        self.listed_done += done;
        self.words.truncate(done);
        self.rests.truncate(done);
        self.slots.truncate(done);
    }

    /// Finds the classes of the sources, and sorts the outcomes by slice.
    pub(super) fn sort(&mut self, table: &Remainders) {
        let Lane { out, classes, idle, given, firsts, split, edges, .. } = self;
        classes.clear();
        classes.extend(out.heads.iter().map(class_of));
        idle.iter().for_each(|k| classes[*k as usize] = Class::Idle);
        let open = out.unfinished.iter().map(|u| u.0).chain(out.faults.iter().map(|f| f.0));
        open.for_each(|k| classes[k as usize] = Class::Open);
        // Different words are different states.
        let (mut left, mut runs, mut sorted) = (out.outcomes.as_slice(), out.runs.as_slice(), vec![]);
        *edges = 0;
        for head in &out.heads {
            let runs = take_first(&mut runs, head.runs as usize);
            let count = runs.iter().map(|run| run.outcomes as usize).sum();
            *edges += distinct(take_first(&mut left, count), &mut sorted);
        }
        let mut counts = [0u32; SLICES];
        split.clear();
        split.extend(out.outcomes.iter().map(|word| {
            let (slice, rest) = table.split(*word);
            counts[slice] += 1;
            (slice as u8, rest)
        }));
        firsts.clear();
        firsts.push(0);
        firsts.extend(counts.iter().scan(0, |sum, count| {
            *sum += count;
            Some(*sum)
        }));
        let mut at: [u32; SLICES] = std::array::from_fn(|n| firsts[n]);
        given.resize(split.len(), 0);
        for (slice, rest) in &*split {
            let at = &mut at[usize::from(*slice) % SLICES];
            given[*at as usize] = *rest;
            *at += 1;
        }
    }

    /// Gives the sources the marks of their classes.
    pub(super) fn mark_sources(&self, slice: &mut Slice, mark_of: &[Mark; 16]) {
        for (slot, class) in self.slots.iter().zip(&self.classes) {
            slice.set_mark(*slot, mark_of[*class as usize]);
        }
    }

    /// The same where slots may be others by now.
    pub(super) fn mark_sources_again(&self, slice: &mut Slice, mark_of: &[Mark; 16]) {
        for (rest, class) in self.rests.iter().zip(&self.classes) {
            let slot = slice.find(*rest).expect("it was expanded");
            slice.set_mark(slot, mark_of[*class as usize]);
        }
    }
}
