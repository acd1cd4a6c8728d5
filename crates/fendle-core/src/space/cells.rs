//! Cells of a few bits each, one for each of some numbers in a row, many of which are looked through at once.

use std::ops::Range;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

/// A mark of a cell.
pub(crate) type Mark = u32;

/// Words of memory that all begin as 0.
fn zeroed(words: usize) -> Vec<AtomicU64> {
    bytemuck::allocation::zeroed_vec(words)
}

/// The cells.
pub(crate) struct Cells {
    words: Vec<AtomicU64>,
    /// Bits of a cell: 8, 16 or 32.
    width: u32,
    /// Cells in a word, as a power of two.
    shift: u32,
}

impl Cells {
    /// Bits of a cell that marks up to this one need.
    pub(crate) fn width_for(most: u64) -> u32 {
        [8, 16, 32].into_iter().find(|width| most < 1 << width).unwrap_or(32)
    }

    /// So many cells of so many bits, all of them 0.
    pub(super) fn new(range: u64, width: u32) -> Cells {
        let shift = (64 / width).trailing_zeros();
        Cells { words: zeroed((range as usize).div_ceil(1 << shift)), width, shift }
    }

    /// Bits of a cell.
    pub(super) fn width(&self) -> u32 {
        self.width
    }

    pub(super) fn bytes(&self) -> u64 {
        self.words.len() as u64 * 8
    }

    #[inline(always)]
    fn at(&self, number: u64) -> (&AtomicU64, u32) {
        let lane = number as u32 & ((1 << self.shift) - 1);
        (&self.words[(number >> self.shift) as usize], lane * self.width)
    }

    /// The greatest mark that a cell can hold.
    #[inline(always)]
    pub(super) fn mask(&self) -> u64 {
        (1 << self.width) - 1
    }

    /// The mark of a number.
    #[inline(always)]
    pub(crate) fn get(&self, number: u64) -> Mark {
        let (word, bit) = self.at(number);
        (word.load(Relaxed) >> bit & self.mask()) as Mark
    }

    /// Gives a mark to a number that has none; false when somebody else just gave it the same one.
    #[inline]
    pub(super) fn claim(&self, number: u64, mark: Mark) -> bool {
        let (word, bit) = self.at(number);
        word.fetch_or(u64::from(mark) << bit, Relaxed) >> bit & self.mask() == 0
    }

    /// Changes a mark that nobody else changes now.
    #[inline]
    pub(super) fn change(&self, number: u64, from: Mark, to: Mark) {
        let (word, bit) = self.at(number);
        word.fetch_xor(u64::from(from ^ to) << bit, Relaxed);
    }

    /// Gives a mark to a number, whatever it had; nobody else looks at these cells now.
    #[inline]
    pub(super) fn set(&mut self, number: u64, mark: Mark) {
        let (mask, bit) = (self.mask(), self.at(number).1);
        let word = self.words[(number >> self.shift) as usize].get_mut();
        *word = *word & !(mask << bit) | u64::from(mark) << bit;
    }

    /// Makes it so many cells, no fewer than before; new ones are 0. A system that can give a large piece of memory another place without copying it does so,
    /// and there are never two of them.
    pub(super) fn grow(&mut self, range: u64) {
        let words = (range as usize).div_ceil(1 << self.shift);
        self.words.reserve_exact(words.saturating_sub(self.words.len()));
        self.words.resize_with(words, AtomicU64::default);
    }

    /// Gives each cell so many bits, no fewer than before. What is there is moved apart from the last word on, so that there are never two of all.
    pub(super) fn widen(&mut self, width: u32) {
        let (narrow, mask) = (self.width, self.mask());
        let times = (width / narrow) as usize;
        let old = self.words.len();
        self.words.reserve_exact(old * (times - 1));
        self.words.resize_with(old * times, AtomicU64::default);
        self.width = width;
        self.shift = (64 / width).trailing_zeros();
        for from in (0..old).rev() {
            let mut word = *self.words[from].get_mut();
            for to in from * times..(from + 1) * times {
                let mut wide = 0;
                for lane in 0..64 / width {
                    wide |= (word & mask) << (lane * width);
                    word >>= narrow;
                }
                *self.words[to].get_mut() = wide;
            }
        }
    }

    /// Calls `see` with the numbers of a range that have a mark, ascending, and their marks.
    pub(super) fn each_seen(&self, range: Range<u64>, mut see: impl FnMut(u64, Mark)) {
        self.each_marked(range, |number, mark| {
            see(number, mark);
            true
        });
    }

    /// Changes a mark, if it still is `from`.
    #[inline]
    pub(super) fn exchange(&self, number: u64, from: Mark, to: Mark) -> bool {
        let (word, bit) = self.at(number);
        let mut old = word.load(Relaxed);
        while old >> bit & self.mask() == u64::from(from) {
            let new = old ^ u64::from(from ^ to) << bit;
            match word.compare_exchange_weak(old, new, Relaxed, Relaxed) {
                Ok(_) => return true,
                Err(now) => old = now,
            }
        }
        false
    }

    /// Calls `see` with the numbers of a range that have one of these marks, ascending, and their marks, until it says no. Words without one are
    /// passed over.
    pub(super) fn each_of(&self, range: Range<u64>, marks: &[Mark], see: impl FnMut(u64, Mark) -> bool) {
        let highs = self.highs();
        let pattern = |mark: &Mark| u64::MAX / self.mask() * u64::from(*mark);
        let found = |word: u64, pattern: u64| !self.not_zero(word ^ pattern) & highs;
        if let [mark] = marks {
            let pattern = pattern(mark);
            return self.scan(range, |word| found(word, pattern), see);
        }
        let patterns: Vec<u64> = marks.iter().map(pattern).collect();
        self.scan(range, |word| patterns.iter().fold(0, |all, pattern| all | found(word, *pattern)), see);
    }

    /// The same for all numbers that have a mark.
    pub(super) fn each_marked(&self, range: Range<u64>, see: impl FnMut(u64, Mark) -> bool) {
        self.scan(range, |word| self.not_zero(word), see);
    }

    /// The high bit of each cell of a word.
    #[inline(always)]
    fn highs(&self) -> u64 {
        (u64::MAX / self.mask()) << (self.width - 1)
    }

    /// The high bit of each cell of a word that is not 0: a carry comes up where a lower bit is set (Warren, Hacker's Delight, 6-1).
    #[inline(always)]
    fn not_zero(&self, word: u64) -> u64 {
        let highs = self.highs();
        (((word & !highs) + !highs) | word) & highs
    }

    /// Calls `see` with the numbers of a range whose cells `wanted` names by their high bits, word by word.
    #[inline(always)]
    fn scan(&self, range: Range<u64>, wanted: impl Fn(u64) -> u64, mut see: impl FnMut(u64, Mark) -> bool) {
        let lanes = 1u64 << self.shift;
        for w in range.start >> self.shift..range.end.div_ceil(lanes) {
            let word = self.words[w as usize].load(Relaxed);
            let mut left = wanted(word);
            while left != 0 {
                let bit = left.trailing_zeros();
                left &= left - 1;
                let lane = bit / self.width;
                let mark = (word >> (lane * self.width) & self.mask()) as Mark;
                let number = w * lanes + u64::from(lane);
                if number >= range.start && number < range.end && !see(number, mark) {
                    return;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numbers::Random;

    /// Cells that get wider, and more of them, keep their marks, and new ones have none.
    #[test]
    fn cells_grow_and_get_wider_in_their_place() {
        let mut random = Random::new(9);
        for range in [0, 1, 8, 9, 1_000] {
            let mut cells = Cells::new(range, 8);
            let marks: Vec<Mark> = (0..range).map(|_| random.below(256) as Mark).collect();
            marks.iter().enumerate().for_each(|(number, mark)| cells.set(number as u64, *mark));
            for (width, more) in [(8, 0), (8, 77), (16, 77), (16, 5_000), (32, 5_000)] {
                cells.widen(width);
                cells.grow(range + more);
                assert_eq!(cells.width(), width);
                for number in 0..range + more {
                    let wanted = marks.get(number as usize).copied().unwrap_or(0);
                    assert_eq!(cells.get(number), wanted, "{number} of {range}, {width} bits");
                }
            }
        }
    }
}
