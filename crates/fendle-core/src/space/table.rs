//! Packed states, each kept whole and numbered in the order in which they were added, and the index that finds them.
//!
//! ```text
//! chunks   [state 0][state 1]...   ceil(bits / 8) bytes each, 4096 to a chunk
//! index    open addressing, linear probing; a slot is 0, or  tag | number + 1, with as many bits for the number as it needs
//! ```
//!
//! With n states of b bytes: b n for the states and 4.7 to 5.9 bytes a state for the index (load between 0.68 and 0.85).

use super::id::{hash, slot_bits};
use crate::model::Layout;

/// States in one chunk.
pub(super) const CHUNK: usize = 4096;

/// Packed states, numbered from 0 in the order in which they were added.
pub(crate) struct StateTable {
    /// Most states.
    most: usize,
    words: usize,
    width: usize,
    last_mask: u64,
    chunks: Vec<Vec<u8>>,
    index: Vec<u32>,
    /// Bits of a slot that hold a number; the others hold a tag.
    number_bits: u32,
    len: usize,
}

impl StateTable {
    pub(crate) fn new(layout: Layout, most: usize) -> StateTable {
        let words = layout.words();
        let width = layout.bytes();
        let last_bytes = width - 8 * (words - 1);
        let last_mask = if last_bytes == 8 { u64::MAX } else { (1 << (8 * last_bytes)) - 1 };
        StateTable { most, words, width, last_mask, chunks: vec![], index: vec![], number_bits: 24, len: 0 }
    }

    /// How many states there are.
    pub(crate) fn len(&self) -> usize {
        self.len
    }

    #[inline]
    fn word(&self, local: usize, i: usize) -> u64 {
        let at = (local % CHUNK) * self.width + 8 * i;
        let chunk = &self.chunks[local / CHUNK];
        let raw = u64::from_le_bytes(chunk[at..at + 8].try_into().expect("eight bytes"));
        if i + 1 == self.words { raw & self.last_mask } else { raw }
    }

    #[inline]
    fn equals(&self, local: usize, state: &[u64]) -> bool {
        (0..self.words).all(|i| self.word(local, i) == state[i])
    }

    /// Appends the words of a state.
    pub(crate) fn push_state(&self, local: usize, out: &mut Vec<u64>) {
        for i in 0..self.words {
            out.push(self.word(local, i));
        }
    }

    #[inline]
    fn slot(&self, hash: u64) -> usize {
        ((u128::from(slot_bits(hash)) * self.index.len() as u128) >> 64) as usize
    }

    /// The tag of a hash, in its place.
    #[inline]
    fn tag(&self, hash: u64) -> u32 {
        (hash as u32) << self.number_bits
    }

    /// The tag and the number in a slot that is not empty.
    #[inline]
    fn parts(&self, entry: u32) -> (u32, u32) {
        let mask = (1 << self.number_bits) - 1;
        (entry & !mask, (entry & mask) - 1)
    }

    /// The local number of a state, if it is there.
    pub(crate) fn find(&self, state: &[u64], hash: u64) -> Option<u32> {
        if self.index.is_empty() {
            return None;
        }
        let tag = self.tag(hash);
        let mut slot = self.slot(hash);
        loop {
            let entry = self.index[slot];
            if entry == 0 {
                return None;
            }
            let (found, local) = self.parts(entry);
            if found == tag && self.equals(local as usize, state) {
                return Some(local);
            }
            slot += 1;
            if slot == self.index.len() {
                slot = 0;
            }
        }
    }

    /// Finds or adds a state: its number, and whether it is new. `None` when the table holds all it may.
    #[inline]
    pub(crate) fn insert(&mut self, state: &[u64], hash: u64) -> Option<(u32, bool)> {
        if self.len * 20 >= self.index.len() * 17 {
            self.grow();
        }
        let tag = self.tag(hash);
        let mut slot = self.slot(hash);
        loop {
            let entry = self.index[slot];
            if entry == 0 {
                break;
            }
            let (found, local) = self.parts(entry);
            if found == tag && self.equals(local as usize, state) {
                return Some((local, false));
            }
            slot += 1;
            if slot == self.index.len() {
                slot = 0;
            }
        }
        if self.len == self.most {
            return None;
        }
        let local = self.len;
        self.index[slot] = tag | (local as u32 + 1);
        self.append(state);
        Some((local as u32, true))
    }

    /// Inserts whole states one after the other, and tells `met` the number of each and whether it is new, until `met` says
    /// that it is enough. False when the table is full; the rest is then not inserted.
    ///
    /// Looks at a group of slots before any is needed, so that the memory answers them together.
    pub(crate) fn insert_all(&mut self, states: &[u64], mut met: impl FnMut(u32, bool) -> bool) -> bool {
        const GROUP: usize = 16;
        if self.index.is_empty() {
            self.grow();
        }
        let words = self.words;
        for group in states.chunks(GROUP * words) {
            let n = group.len() / words;
            let mut hashes = [0u64; GROUP];
            let mut entries = [0u32; GROUP];
            for (i, state) in group.chunks_exact(words).enumerate() {
                hashes[i] = hash(state);
                entries[i] = self.index[self.slot(hashes[i])];
            }
            let mut same = [None; GROUP];
            for (i, state) in group.chunks_exact(words).enumerate() {
                let entry = entries[i];
                // What is found here stays found: inserting takes nothing away.
                if entry != 0 {
                    let (found, local) = self.parts(entry);
                    same[i] =
                        (found == self.tag(hashes[i]) && self.equals(local as usize, state)).then_some(local);
                }
            }
            for (i, state) in group.chunks_exact(words).enumerate().take(n) {
                let (number, new) = match same[i] {
                    Some(number) => (number, false),
                    None => match self.insert(state, hashes[i]) {
                        Some(found) => found,
                        None => return false,
                    },
                };
                if !met(number, new) {
                    return true;
                }
            }
        }
        true
    }

    fn append(&mut self, state: &[u64]) {
        let local = self.len;
        if local.is_multiple_of(CHUNK) {
            // The first chunk grows as needed, so that tiny spaces stay tiny.
            let room = if local == 0 { 0 } else { CHUNK };
            self.chunks.push(Vec::with_capacity(room * self.width + 16));
        }
        let at = (local % CHUNK) * self.width;
        let chunk = self.chunks.last_mut().expect("a chunk");
        chunk.resize(at + 8 * self.words + 8, 0);
        for (i, word) in state.iter().enumerate() {
            chunk[at + 8 * i..at + 8 * i + 8].copy_from_slice(&word.to_le_bytes());
        }
        chunk.truncate(at + self.width + 8);
        self.len += 1;
    }

    fn grow(&mut self) {
        // Large tables grow in larger steps: each one looks at all states again.
        let more = if self.len < 1 << 20 { self.index.len() / 5 } else { self.index.len() / 5 * 3 };
        let room = (self.index.len() + more).max(16);
        self.index = vec![];
        self.index = vec![0; room];
        self.number_bits = (usize::BITS - room.leading_zeros()).max(24);
        // Of a group all slots are looked at before any is filled, so that the memory answers them together.
        const GROUP: usize = 32;
        let mut state = Vec::with_capacity(self.words);
        let mut hashes = [0u64; GROUP];
        for first in (0..self.len).step_by(GROUP) {
            let n = GROUP.min(self.len - first);
            let mut taken = 0;
            for (i, hash_of) in hashes[..n].iter_mut().enumerate() {
                state.clear();
                self.push_state(first + i, &mut state);
                *hash_of = hash(&state);
                taken |= self.index[self.slot(*hash_of)];
            }
            std::hint::black_box(taken);
            for (i, &hash) in hashes[..n].iter().enumerate() {
                let mut slot = self.slot(hash);
                while self.index[slot] != 0 {
                    slot += 1;
                    if slot == room {
                        slot = 0;
                    }
                }
                self.index[slot] = self.tag(hash) | ((first + i) as u32 + 1);
            }
        }
    }

    /// Bytes that the index takes.
    pub(crate) fn index_bytes(&self) -> u64 {
        4 * self.index.len() as u64
    }

    /// Gives the memory of the index back: nothing is found any more.
    pub(crate) fn forget_index(&mut self) {
        self.index = vec![];
    }

    /// Takes the state added last out again.
    ///
    /// Clearing its slot is safe: nothing was added after it, so no probe runs through it.
    pub(crate) fn pop(&mut self) {
        let local = self.len - 1;
        let mut state = Vec::with_capacity(self.words);
        self.push_state(local, &mut state);
        let mut slot = self.slot(hash(&state));
        while self.index[slot] == 0 || self.parts(self.index[slot]).1 != local as u32 {
            slot = (slot + 1) % self.index.len();
        }
        self.index[slot] = 0;
        self.len = local;
        if local.is_multiple_of(CHUNK) {
            self.chunks.pop();
        }
    }

    /// Bytes taken. O(1): only the first chunk is smaller than the others.
    pub(crate) fn bytes(&self) -> u64 {
        let chunks = match self.chunks.as_slice() {
            [] => 0,
            [only] => only.capacity(),
            more => more.len() * (CHUNK * self.width + 16),
        };
        4 * self.index.len() as u64 + chunks as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_state_is_found_again_in_one_word_and_in_two() {
        for bits in [1, 7, 8, 22, 63, 64, 65, 100, 128, 130] {
            let layout = Layout::new(bits);
            let mut table = StateTable::new(layout, 1 << 20);
            let words = layout.words();
            let count = if bits < 14 { 1 << bits } else { 10_000u64 };
            let state = |i: u64| -> Vec<u64> {
                let mut s = vec![0; words];
                s[0] = i;
                // The top bit of the layout is used too.
                if i % 3 == 1 && bits > 14 {
                    s[words - 1] |= 1 << ((bits - 1) % 64);
                }
                s
            };
            for i in 0..count {
                let s = state(i);
                let (id, new) = table.insert(&s, hash(&s)).expect("room");
                assert!(new, "bits {bits}, state {i}");
                assert_eq!(u64::from(id), i);
            }
            for i in 0..count {
                let s = state(i);
                assert_eq!(table.insert(&s, hash(&s)).map(|x| x.1), Some(false));
                let mut back = vec![];
                table.push_state(i as usize, &mut back);
                assert_eq!(back, s, "bits {bits}");
            }
            for i in (count / 2..count).rev() {
                table.pop();
                let s = state(i);
                assert_eq!(table.find(&s, hash(&s)), None);
            }
            assert_eq!(table.len() as u64, count / 2);
            let s = state(count / 2 - 1);
            assert!(count < 2 || table.find(&s, hash(&s)).is_some());
        }
    }
}
