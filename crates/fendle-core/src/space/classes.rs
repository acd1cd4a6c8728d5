//! What is known of each state of a shard, and how many edges it has: one byte a state.
//!
//! ```text
//! number of edges (4 bits; 15 stands for more) | class (4 bits)
//! ```

use std::sync::atomic::{AtomicU8, Ordering};

use super::table::CHUNK;

/// The degree from which on a state is called wide: the log then holds the exact number.
pub(super) const WIDE_DEGREE: usize = 15;

/// What is known of a visited state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(u8)]
pub enum Class {
    /// Not expanded, or not classified, because a limit was hit.
    Open = 0,
    /// Won.
    Goal = 1,
    /// Lost.
    Lost = 2,
    /// Ended otherwise.
    Over = 3,
    /// Running, and no move is allowed.
    Stuck = 4,
    /// Running, moves are left, and no goal can be reached.
    Dead = 5,
    /// Running, and a goal can be reached.
    Winnable = 6,
    /// Running, in a model without a goal.
    Free = 7,
    /// Expanded, and not yet classified: only while a search runs.
    Running = 8,
    /// The same, where only waiting is left and changes nothing but clocks.
    Idle = 9,
}

impl Class {
    /// Whether nothing can be won from it any more: dead, stuck, lost, or ended otherwise.
    #[inline]
    #[must_use]
    pub fn is_bad(self) -> bool {
        matches!(self, Class::Dead | Class::Stuck | Class::Lost | Class::Over)
    }

    /// Whether it is won, or can be.
    #[inline]
    #[must_use]
    pub fn is_hopeful(self) -> bool {
        matches!(self, Class::Winnable | Class::Goal)
    }

    /// The class with this number.
    #[inline]
    pub(super) fn of_number(byte: u8) -> Class {
        match byte & 15 {
            1 => Class::Goal,
            2 => Class::Lost,
            3 => Class::Over,
            4 => Class::Stuck,
            5 => Class::Dead,
            6 => Class::Winnable,
            7 => Class::Free,
            8 => Class::Running,
            9 => Class::Idle,
            _ => Class::Open,
        }
    }
}

/// Class and degree of one state.
pub(super) struct Known(AtomicU8);

impl Known {
    #[inline]
    pub(super) fn get(&self) -> (Class, usize) {
        let byte = self.0.load(Ordering::Relaxed);
        (Class::of_number(byte), usize::from(byte >> 4))
    }

    #[inline]
    pub(super) fn degree(&self) -> usize {
        usize::from(self.0.load(Ordering::Relaxed) >> 4)
    }
}

/// The class and degree of every state of one shard, by local number.
#[derive(Default)]
pub(crate) struct Classes {
    chunks: Vec<Vec<Known>>,
    len: usize,
}

impl Classes {
    /// Adds states, open and without edges, until there are so many.
    pub(crate) fn grow_to(&mut self, len: usize) {
        while self.len < len {
            if self.len.is_multiple_of(CHUNK) {
                // The first chunk grows as needed, so that tiny spaces stay tiny.
                self.chunks.push(Vec::with_capacity(if self.len == 0 { 0 } else { CHUNK }));
            }
            let chunk = self.chunks.last_mut().expect("a chunk");
            let most = (len - self.len).min(CHUNK - chunk.len());
            chunk.extend((0..most).map(|_| Known(AtomicU8::new(0))));
            self.len += most;
        }
    }

    /// Takes the last state out again.
    pub(crate) fn pop(&mut self) {
        self.len -= 1;
        if let Some(chunk) = self.chunks.last_mut() {
            chunk.pop();
        }
        if self.len.is_multiple_of(CHUNK) {
            self.chunks.pop();
        }
    }

    #[inline]
    fn raw(&self, local: u32) -> &Known {
        &self.chunks[local as usize / CHUNK][local as usize % CHUNK]
    }

    /// The class of a state.
    pub(crate) fn get(&self, local: u32) -> Class {
        self.raw(local).get().0
    }

    /// Only the thread that works on this shard calls this: reading and writing need not be one step.
    pub(crate) fn set(&self, local: u32, class: Class) {
        let byte = &self.raw(local).0;
        byte.store(byte.load(Ordering::Relaxed) & 0xf0 | class as u8, Ordering::Relaxed);
    }

    /// How many edges a state has; 15 stands for any greater number.
    pub(crate) fn degree(&self, local: u32) -> usize {
        self.raw(local).degree()
    }

    /// Sets class and degree of the states from one on, and says how many they were.
    pub(super) fn set_expanded(&mut self, first: u32, states: impl Iterator<Item = (Class, usize)>) -> u32 {
        let mut local = first as usize;
        for (class, degree) in states {
            let byte = self.chunks[local / CHUNK][local % CHUNK].0.get_mut();
            *byte = class as u8 | (degree.min(WIDE_DEGREE) as u8) << 4;
            local += 1;
        }
        local as u32 - first
    }

    /// Class and degree of the states from `first` to `end`, in order.
    #[inline]
    pub(super) fn each(&self, first: u32, end: u32, mut visit: impl FnMut(u32, Class, usize)) {
        self.each_piece(first, end, |first, piece| {
            for (local, known) in (first..).zip(piece) {
                let (class, degree) = known.get();
                visit(local, class, degree);
            }
        });
    }

    /// What is known of the states from `first` to `end`, in order, as many at a time as lie in a row: the first of them, and these.
    #[inline]
    pub(super) fn each_piece(&self, first: u32, end: u32, mut visit: impl FnMut(u32, &[Known])) {
        let mut first = first;
        while first < end {
            let (chunk, from) = (first as usize / CHUNK, first as usize % CHUNK);
            let to = CHUNK.min(from + (end - first) as usize);
            visit(first, &self.chunks[chunk][from..to]);
            first += (to - from) as u32;
        }
    }

    /// Bytes taken.
    pub(crate) fn bytes(&self) -> u64 {
        match self.chunks.as_slice() {
            [] => 0,
            [only] => only.capacity() as u64,
            more => (more.len() * CHUNK) as u64,
        }
    }
}
