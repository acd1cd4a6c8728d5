//! A set of small numbers, one bit each.

/// Some of the numbers below a range. A bit for each number of the range.
pub(crate) struct Bits {
    words: Vec<u64>,
}

impl Bits {
    /// None of the numbers below a range.
    pub(crate) fn below(range: u64) -> Bits {
        Bits { words: vec![0; range.div_ceil(64) as usize] }
    }

    /// Adds a number. Whether it is new.
    #[inline]
    pub(crate) fn insert(&mut self, n: u32) -> bool {
        let (word, bit) = (&mut self.words[n as usize / 64], 1 << (n % 64));
        let new = *word & bit == 0;
        *word |= bit;
        new
    }

    /// Takes a number out. Whether it was there.
    #[inline]
    pub(crate) fn remove(&mut self, n: u32) -> bool {
        let (word, bit) = (&mut self.words[n as usize / 64], 1 << (n % 64));
        let held = *word & bit != 0;
        *word &= !bit;
        held
    }

    /// Whether a number is there.
    #[inline]
    pub(crate) fn contains(&self, n: u32) -> bool {
        self.words[n as usize / 64] >> (n % 64) & 1 != 0
    }

    /// The numbers, 64 to a word, the least one in the lowest bit.
    pub(crate) fn words(&self) -> &[u64] {
        &self.words
    }

    /// Bytes that it takes.
    pub(crate) fn bytes(&self) -> u64 {
        8 * self.words.len() as u64
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;
    use crate::numbers::Random;

    /// Beside a set of the standard library, in any order of adding and taking out.
    #[test]
    fn numbers_are_added_and_taken_out() {
        let mut random = Random::new(11);
        for range in [1, 63, 64, 65, 300] {
            let (mut bits, mut set) = (Bits::below(range), BTreeSet::new());
            for _ in 0..1000 {
                let n = random.below(range) as u32;
                if random.below(2) == 0 {
                    assert_eq!(bits.insert(n), set.insert(n));
                } else {
                    assert_eq!(bits.remove(n), set.remove(&n));
                }
            }
            assert!((0..range as u32).all(|n| bits.contains(n) == set.contains(&n)));
            assert_eq!(bits.words().iter().map(|w| w.count_ones() as usize).sum::<usize>(), set.len());
        }
    }
}
