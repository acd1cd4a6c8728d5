//! Packed states, each kept whole and numbered in the order in which they were added, and the index that finds them.
//!
//! ```text
//! chunks   [state 0][state 1]...   ceil(bits / 8) bytes each, 4096 to a chunk
//! index    lines of 16 entries, 64 bytes each: one line of the cache. A line is filled from its first entry on; what finds it
//!          full goes to the next one. An entry is 0, or  tag | number + 1, with as many bits for the number as it needs
//! ```
//!
//! With n states of b bytes: b n for the states and 5 to 8 bytes a state for the index (load between 0.5 and 0.8). All entries of a line are
//! compared with a tag at once, so most look-ups wait for one line and one state.

use super::by_words;
use super::id::{hash, slot_bits};
use crate::model::Layout;

/// States in one chunk.
pub(super) const CHUNK: usize = 4096;
/// Entries of a line.
const LINE: usize = 16;
/// States that are looked for together, so that the memory answers them together.
pub(super) const GROUP: usize = 16;

/// Lines of memory that are read in order in the time that one state takes that is looked for in what lies far away.
const LOOKS_READ_AHEAD: usize = 4;

/// Some entries of the index.
#[derive(Clone, Copy)]
#[repr(align(64))]
struct Line([u32; LINE]);

impl Line {
    const EMPTY: Line = Line([0; LINE]);

    /// The places of the entries that have a tag, which was brought to its place, as bits. Where the tag is 0 those of empty entries are among
    /// them.
    #[inline(always)]
    fn with_tag(&self, tag: u32, number_mask: u32) -> u32 {
        which_are(&self.0, !number_mask, tag)
    }

    #[inline(always)]
    fn is_full(&self) -> bool {
        self.0[LINE - 1] != 0
    }

    /// How many entries there are: where the next one goes, if the line is not full.
    #[inline(always)]
    fn len(&self) -> usize {
        // Those from there on are empty, and no other.
        (which_are(&self.0, u32::MAX, 0) | 1 << LINE).trailing_zeros() as usize
    }
}

/// Which of some numbers are this one in the bits of a mask, as bits.
///
/// What the processor has for it compares four at a time, and makes bits of sixteen answers at once: a third of the steps that the compiler finds.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
fn which_are(numbers: &[u32; LINE], mask: u32, wanted: u32) -> u32 {
    use safe_arch::{
        bitand_m128i, cmp_eq_mask_i32_m128i, m128i, move_mask_i8_m128i, pack_i16_to_i8_m128i,
        pack_i32_to_i16_m128i, set_splat_i32_m128i,
    };
    let (mask, wanted) = (set_splat_i32_m128i(mask as i32), set_splat_i32_m128i(wanted as i32));
    let fours = numbers.as_chunks::<4>().0;
    let four = |i: usize| cmp_eq_mask_i32_m128i(bitand_m128i(m128i::from(fours[i]), mask), wanted);
    let eight = |i: usize| pack_i32_to_i16_m128i(four(i), four(i + 1));
    move_mask_i8_m128i(pack_i16_to_i8_m128i(eight(0), eight(2))) as u32
}

/// The same for other processors.
#[cfg(not(target_arch = "x86_64"))]
fn which_are(numbers: &[u32; LINE], mask: u32, wanted: u32) -> u32 {
    which_are_plainly(numbers, mask, wanted)
}

/// The same, one number after the other.
#[cfg(any(test, not(target_arch = "x86_64")))]
fn which_are_plainly(numbers: &[u32; LINE], mask: u32, wanted: u32) -> u32 {
    let of_place = |(i, number): (usize, &u32)| u32::from(number & mask == wanted) << i;
    numbers.iter().enumerate().fold(0, |found, number| found | of_place(number))
}

/// Packed states, numbered from 0 in the order in which they were added.
pub(crate) struct StateTable {
    /// Most states.
    most: usize,
    words: usize,
    width: usize,
    last_mask: u64,
    chunks: Vec<Vec<u8>>,
    lines: Vec<Line>,
    /// Bits of an entry that hold a number, fewer than 32; the others hold a tag.
    number_bits: u32,
    len: usize,
}

impl StateTable {
    pub(crate) fn new(layout: Layout, most: usize) -> StateTable {
        let words = layout.words();
        let width = layout.bytes();
        let last_bytes = width - 8 * (words - 1);
        let last_mask = if last_bytes == 8 { u64::MAX } else { (1 << (8 * last_bytes)) - 1 };
        StateTable { most, words, width, last_mask, chunks: vec![], lines: vec![], number_bits: 8, len: 0 }
    }

    /// How many states there are.
    pub(crate) fn len(&self) -> usize {
        self.len
    }

    /// The bytes of a state, in words of eight; of the last one not all bits belong to it.
    #[inline(always)]
    fn wholes<const WORDS: usize>(&self, local: usize) -> &[[u8; 8]] {
        let words = if WORDS == 0 { self.words } else { WORDS };
        let at = (local % CHUNK) * self.width;
        self.chunks[local / CHUNK][at..at + 8 * words].as_chunks().0
    }

    /// Whether a state is this one. `WORDS` is how many words a state has, or 0.
    #[inline(always)]
    fn equals<const WORDS: usize>(&self, local: usize, state: &[u64]) -> bool {
        let wholes = self.wholes::<WORDS>(local);
        let last = wholes.len() - 1;
        let state = &state[..=last];
        let raw = |i: usize| u64::from_le_bytes(wholes[i]);
        (0..last).all(|i| raw(i) == state[i]) && raw(last) & self.last_mask == state[last]
    }

    /// Writes the words of a state. `WORDS` is how many words a state has, or 0.
    #[inline(always)]
    pub(super) fn read<const WORDS: usize>(&self, local: usize, out: &mut [u64]) {
        let wholes = self.wholes::<WORDS>(local);
        for (word, bytes) in out.iter_mut().zip(wholes) {
            *word = u64::from_le_bytes(*bytes);
        }
        out[wholes.len() - 1] &= self.last_mask;
    }

    /// Appends the words of a state.
    #[inline]
    pub(crate) fn push_state(&self, local: usize, out: &mut Vec<u64>) {
        let first = out.len();
        out.resize(first + self.words, 0);
        let out = &mut out[first..];
        by_words!(self.words, WORDS => self.read::<WORDS>(local, out))
    }

    /// Appends the words of states in a row.
    pub(crate) fn push_states(&self, locals: std::ops::Range<usize>, out: &mut Vec<u64>) {
        by_words!(self.words, WORDS => self.push_each::<WORDS>(locals, out))
    }

    /// The same for states of `WORDS` words, or of any number of them where that is 0.
    fn push_each<const WORDS: usize>(&self, locals: std::ops::Range<usize>, out: &mut Vec<u64>) {
        let words = if WORDS == 0 { self.words } else { WORDS };
        let first = out.len();
        out.resize(first + locals.len() * words, 0);
        for (local, state) in locals.zip(out[first..].chunks_exact_mut(words)) {
            self.read::<WORDS>(local, state);
        }
    }

    /// The line where a state with this hash is looked for first.
    #[inline(always)]
    fn line_of(&self, hash: u64) -> usize {
        ((u128::from(slot_bits(hash)) * self.lines.len() as u128) >> 64) as usize
    }

    /// The tag of a hash, in its place.
    #[inline(always)]
    fn tag(&self, hash: u64) -> u32 {
        (hash as u32).wrapping_shl(self.number_bits)
    }

    #[inline(always)]
    fn number_mask(&self) -> u32 {
        1u32.wrapping_shl(self.number_bits) - 1
    }

    /// The number of a state in a line that has this tag, if it is there.
    #[inline(always)]
    fn find_in<const WORDS: usize>(&self, line: &Line, tag: u32, mask: u32, state: &[u64]) -> Option<u32> {
        let mut left = line.with_tag(tag, mask);
        while left != 0 {
            let number = line.0[left.trailing_zeros() as usize] & mask;
            left &= left - 1;
            if number != 0 && self.equals::<WORDS>(number as usize - 1, state) {
                return Some(number - 1);
            }
        }
        None
    }

    /// The local number of a state with this tag, which is looked for from a line on, or the line that has room for it.
    #[inline(always)]
    fn look_up<const WORDS: usize>(&self, state: &[u64], (line, tag): (usize, u32)) -> Result<u32, usize> {
        let mut at = line;
        let mask = self.number_mask();
        loop {
            let line = &self.lines[at];
            if let Some(number) = self.find_in::<WORDS>(line, tag, mask, state) {
                return Ok(number);
            }
            if !line.is_full() {
                return Err(at);
            }
            at += 1;
            if at == self.lines.len() {
                at = 0;
            }
        }
    }

    /// The local number of a state, if it is there.
    pub(crate) fn find(&self, state: &[u64], hash: u64) -> Option<u32> {
        self.find_at::<0>(state, self.place(hash))
    }

    /// Where a state with this hash is looked for first, and its tag.
    #[inline(always)]
    pub(super) fn place(&self, hash: u64) -> (usize, u32) {
        (self.line_of(hash), self.tag(hash))
    }

    /// Looks at the line of a place, so that it is near when it is needed.
    #[inline(always)]
    pub(super) fn touch_line(&self, (line, _): (usize, u32)) -> u32 {
        self.lines.get(line).map_or(0, |line| line.0[0])
    }

    /// Looks at the state that is most likely the one with this place.
    #[inline(always)]
    pub(super) fn touch_state(&self, (line, tag): (usize, u32)) -> u32 {
        let Some(line) = self.lines.get(line) else { return 0 };
        let mask = self.number_mask();
        let with_tag = line.with_tag(tag, mask);
        let number = line.0[with_tag.trailing_zeros() as usize % LINE] & mask;
        if with_tag == 0 || number == 0 {
            return 0;
        }
        let local = number as usize - 1;
        self.chunks[local / CHUNK][(local % CHUNK) * self.width].into()
    }

    /// The local number of a state of `WORDS` words with this place, if it is there.
    #[inline(always)]
    pub(super) fn find_at<const WORDS: usize>(&self, state: &[u64], place: (usize, u32)) -> Option<u32> {
        if self.lines.is_empty() {
            return None;
        }
        self.look_up::<WORDS>(state, place).ok()
    }

    /// Finds or adds a state: its number, and whether it is new. `None` when the table holds all it may.
    #[inline]
    pub(crate) fn insert(&mut self, state: &[u64], hash: u64) -> Option<(u32, bool)> {
        self.make_room(1);
        self.find_or_add::<0>(state, self.place(hash))
    }

    /// Makes the index large enough for so many more states.
    #[inline(always)]
    fn make_room(&mut self, more: usize) {
        while (self.len + more - 1) * 5 >= self.lines.len() * (LINE * 4) {
            self.grow();
        }
    }

    /// The same as `insert` where the index has room for one more, of a state of `WORDS` words, or of any number of them where that is 0: with the line
    /// where it is looked for first, and its tag.
    #[inline(always)]
    fn find_or_add<const WORDS: usize>(
        &mut self,
        state: &[u64],
        (line, tag): (usize, u32),
    ) -> Option<(u32, bool)> {
        match self.look_up::<WORDS>(state, (line, tag)) {
            Ok(number) => Some((number, false)),
            Err(_) if self.len == self.most => None,
            Err(at) => {
                let local = self.len as u32;
                let line = &mut self.lines[at];
                line.0[line.len() % LINE] = tag | (local + 1);
                self.append(state);
                Some((local, true))
            }
        }
    }

    /// Inserts whole states one after the other, and tells `met` the number of each and whether it is new, until `met` says
    /// that it is enough. False when the table is full; the rest is then not inserted.
    ///
    /// Looks at the lines of a group before any is needed, so that the memory answers them together.
    pub(crate) fn insert_all(&mut self, states: &[u64], met: impl FnMut(u32, bool) -> bool) -> bool {
        by_words!(self.words, WORDS => self.insert_each::<WORDS>(states, met))
    }

    /// The same for states of `WORDS` words, or of any number of them where that is 0.
    fn insert_each<const WORDS: usize>(
        &mut self,
        states: &[u64],
        mut met: impl FnMut(u32, bool) -> bool,
    ) -> bool {
        let words = if WORDS == 0 { self.words } else { WORDS };
        for group in states.chunks(GROUP * words) {
            // Lines stay where they are while a group is inserted.
            self.make_room(group.len() / words);
            let mut places = [(0, 0); GROUP];
            let mut taken = 0;
            for (place, state) in places.iter_mut().zip(group.chunks_exact(words)) {
                let hash = hash(state);
                *place = self.place(hash);
                taken |= self.touch_line(*place);
            }
            std::hint::black_box(taken);
            for (place, state) in places.into_iter().zip(group.chunks_exact(words)) {
                let Some((number, new)) = self.find_or_add::<WORDS>(state, place) else { return false };
                if !met(number, new) {
                    return true;
                }
            }
        }
        true
    }

    #[inline(always)]
    fn append(&mut self, state: &[u64]) {
        let local = self.len;
        if local.is_multiple_of(CHUNK) {
            // The first chunk grows as needed, so that tiny spaces stay tiny.
            self.chunks.push(if local == 0 { vec![] } else { vec![0; self.chunk_bytes()] });
        }
        let at = (local % CHUNK) * self.width;
        let end = at + 8 * state.len();
        let most = self.chunk_bytes();
        let chunk = self.chunks.last_mut().expect("a chunk");
        if chunk.len() < end {
            chunk.resize((2 * end).min(most), 0);
        }
        // What the last word writes beyond the state belongs to the next one, which writes it anew.
        for (bytes, word) in chunk[at..end].as_chunks_mut().0.iter_mut().zip(state) {
            *bytes = word.to_le_bytes();
        }
        self.len += 1;
    }

    /// Bytes of a whole chunk: the last word of its last state may be read beyond its end.
    fn chunk_bytes(&self) -> usize {
        CHUNK * self.width + 8
    }

    fn grow(&mut self) {
        by_words!(self.words, WORDS => self.grow_each::<WORDS>())
    }

    /// Grows the index by three fifths: each time it looks at all states again. They are of `WORDS` words, or of any number of them where that is 0.
    fn grow_each<const WORDS: usize>(&mut self) {
        let lines = (self.lines.len() + self.lines.len() * 3 / 5).max(self.lines.len() + 1);
        self.lines = vec![];
        self.lines = vec![Line::EMPTY; lines];
        self.number_bits = usize::BITS - (lines * LINE).leading_zeros();
        let words = if WORDS == 0 { self.words } else { WORDS };
        let mut state = vec![0; words];
        // How many entries each line has so far.
        let mut lens = vec![0u8; lines];
        // Of a group all lines are looked at before any is filled.
        let mut places = [(0, 0); GROUP];
        for first in (0..self.len).step_by(GROUP) {
            let n = GROUP.min(self.len - first);
            let mut taken = 0;
            for (i, place) in places[..n].iter_mut().enumerate() {
                self.read::<WORDS>(first + i, &mut state);
                let hash = hash(&state[..words]);
                *place = self.place(hash);
                taken |= self.touch_line(*place);
            }
            std::hint::black_box(taken);
            for (i, &(line, tag)) in places[..n].iter().enumerate() {
                let mut at = line;
                while usize::from(lens[at]) == LINE {
                    at += 1;
                    if at == lines {
                        at = 0;
                    }
                }
                self.lines[at].0[usize::from(lens[at]) % LINE] = tag | ((first + i) as u32 + 1);
                lens[at] += 1;
            }
        }
    }

    /// Says that so many states are inserted next. Where they will look at most of the table anyway, all of it is read here in order: memory gives what
    /// lies in a row several times as fast as what lies anywhere.
    pub(crate) fn read_ahead(&self, states: usize) {
        let state_lines = self.len * self.width / size_of::<Line>();
        if states * LOOKS_READ_AHEAD < self.lines.len() + state_lines {
            return;
        }
        let index = self.lines.iter().fold(0, |all, line| all | line.0[0]);
        let of_chunk =
            |chunk: &Vec<u8>| chunk.iter().step_by(size_of::<Line>()).fold(0, |all, byte| all | byte);
        let states = self.chunks.iter().map(of_chunk).fold(0, |all, byte| all | byte);
        std::hint::black_box((index, states));
    }

    /// Bytes that the index takes.
    pub(crate) fn index_bytes(&self) -> u64 {
        (size_of::<Line>() * self.lines.len()) as u64
    }

    /// Gives the memory of the index back: nothing is found any more.
    pub(crate) fn forget_index(&mut self) {
        self.lines = vec![];
    }

    /// Takes the state added last out again.
    ///
    /// Clearing its entry is safe: nothing was added after it, so it is the last one of its line, and nothing went past that line because
    /// of it.
    pub(crate) fn pop(&mut self) {
        let local = self.len - 1;
        let mut state = Vec::with_capacity(self.words);
        self.push_state(local, &mut state);
        let mut at = self.line_of(hash(&state));
        let mask = self.number_mask();
        loop {
            let line = &mut self.lines[at];
            let last = line.len() - 1;
            if line.0[last] & mask == local as u32 + 1 {
                line.0[last] = 0;
                break;
            }
            at = (at + 1) % self.lines.len();
        }
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
            more => more.len() * self.chunk_bytes(),
        };
        self.index_bytes() + chunks as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_entries_of_a_line_are_found_by_their_tags() {
        let mut random = crate::numbers::Random::new(7);
        for _ in 0..2_000 {
            let number_mask = u32::MAX >> (8 + random.below(16));
            let len = random.below(LINE as u64) as usize;
            let tag = |random: &mut crate::numbers::Random| (random.below(3) as u32) << 29 & !number_mask;
            let mut line = Line::EMPTY;
            for i in 0..len {
                assert_eq!(line.len(), i);
                line.0[i] = tag(&mut random) | (1 + random.below(u64::from(number_mask)) as u32);
            }
            assert_eq!((line.len(), line.is_full()), (len, false));
            let wanted = tag(&mut random);
            let there: Vec<usize> = (0..LINE).filter(|i| line.0[*i] & !number_mask == wanted).collect();
            let found = line.with_tag(wanted, number_mask);
            assert_eq!((0..32).filter(|i| found >> i & 1 == 1).collect::<Vec<usize>>(), there);
            assert_eq!(which_are_plainly(&line.0, !number_mask, wanted), found);
        }
    }

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

    /// A table beside a list and a map: what is inserted one by one or many at once, looked for, and taken out again.
    #[test]
    fn a_table_does_what_a_list_and_a_map_do() {
        let mut random = crate::numbers::Random::new(5);
        for bits in [1, 6, 20, 52, 63, 64, 65, 81, 127, 128, 129, 221] {
            let layout = Layout::new(bits);
            let (words, most) = (layout.words(), [40, 3_000][random.below(2) as usize]);
            let mut table = StateTable::new(layout, most);
            let mut list: Vec<Vec<u64>> = vec![];
            let mut map = std::collections::HashMap::new();
            // Few different states, so that many are met again.
            let mut state = |kinds: u64| -> Vec<u64> {
                let n = random.below(kinds);
                let mut state: Vec<u64> =
                    (0..words as u64).map(|i| (n + i).wrapping_mul(0x9e37_79b9_7f4a_7c15)).collect();
                state[words - 1] &= u64::MAX >> (64 * words as u32 - bits);
                state
            };
            for round in 0..60 {
                match round % 4 {
                    0 | 1 => {
                        let many: Vec<Vec<u64>> = (0..round * 7).map(|_| state(2_000)).collect();
                        let mut met = vec![];
                        let fits = table.insert_all(&many.concat(), |number, new| {
                            met.push((number, new));
                            true
                        });
                        let mut wanted = vec![];
                        let mut all = true;
                        for state in many {
                            let next = list.len() as u32;
                            let new = !map.contains_key(&state);
                            if new && list.len() == most {
                                all = false;
                                break;
                            }
                            let number = *map.entry(state.clone()).or_insert(next);
                            wanted.push((number, new));
                            if new {
                                list.push(state);
                            }
                        }
                        assert_eq!((fits, met), (all, wanted), "{bits} bits, round {round}");
                    }
                    2 => {
                        for _ in 0..20 {
                            let s = state(4_000);
                            assert_eq!(table.find(&s, hash(&s)), map.get(&s).copied(), "{bits} bits");
                        }
                    }
                    _ => {
                        for _ in 0..(round / 4 * 3).min(list.len()) {
                            table.pop();
                            map.remove(&list.pop().expect("as many"));
                        }
                    }
                }
                assert_eq!(table.len(), list.len());
            }
            let mut all = vec![];
            table.push_states(0..list.len(), &mut all);
            assert_eq!(all, list.concat(), "{bits} bits");
            let middle = list.len() / 3..list.len() / 2;
            let mut some = vec![7];
            table.push_states(middle.clone(), &mut some);
            assert_eq!(some[1..], list[middle].concat());
        }
    }

    #[test]
    fn whoever_is_told_can_end_inserting() {
        let mut table = StateTable::new(Layout::new(30), 1 << 20);
        let states: Vec<u64> = (0..100).collect();
        let mut told = 0;
        assert!(table.insert_all(&states, |_, _| {
            told += 1;
            told < 37
        }));
        assert_eq!((told, table.len()), (37, 37));
        assert!(table.insert_all(&states, |number, new| {
            assert_eq!(new, number >= 37);
            true
        }));
        assert_eq!(table.len(), 100);
    }
}
