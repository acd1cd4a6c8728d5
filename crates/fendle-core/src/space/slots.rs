//! A table of remainders that grows no more: each state has a number then, that of its slot.

use super::cells::{Cells, Mark};
use super::remainders::{Remainders, SLICES};

/// The slots of a finished table, numbered slice by slice. The last number belongs to no slot.
pub(crate) struct Slots {
    /// Without marks.
    table: Remainders,
    /// The first number of each slice, and that behind the last one.
    firsts: [u64; SLICES + 1],
}

impl Slots {
    /// Numbers the slots of a table, and puts their marks in a row: `renamed` gives for each mark the one that it is from now on. The cells get so many
    /// bits. A slice at a time, so that there are never two of all; `given_back` is told after each.
    pub(crate) fn of(
        mut table: Remainders,
        renamed: &[Mark],
        width: u32,
        given_back: impl Fn(),
    ) -> (Slots, Cells) {
        let mut firsts = [0; SLICES + 1];
        for (n, slice) in table.slices.iter().enumerate() {
            firsts[n + 1] = firsts[n] + slice.slots() as u64;
        }
        let mut cells = Cells::new(0, width);
        for (n, slice) in table.slices.iter_mut().enumerate() {
            cells.grow(firsts[n + 1] + 1);
            slice.each(|slot, mark| cells.set(firsts[n] + slot as u64, renamed[mark as usize]));
            slice.take_marks();
            given_back();
        }
        (Slots { table, firsts }, cells)
    }

    /// Numbers are below this.
    pub(crate) fn range(&self) -> u64 {
        self.firsts[SLICES] + 1
    }

    /// A number that no state has.
    pub(crate) fn nobody(&self) -> u64 {
        self.firsts[SLICES]
    }

    /// The number of a word, if it is there.
    pub(crate) fn number(&self, word: u64) -> Option<u64> {
        self.table.find(word).map(|(slice, slot)| self.firsts[slice] + slot as u64)
    }

    /// Appends the numbers of some words; [`Slots::nobody`] for those that are not there.
    pub(crate) fn push_numbers(&self, words: &[u64], out: &mut Vec<u64>) {
        let number = |slice: usize, slot: usize| self.firsts[slice] + slot as u64;
        self.table.find_all(words, (number, self.nobody()), out);
    }

    /// The word with a number that some state has.
    pub(crate) fn word(&self, number: u64) -> u64 {
        let slice = self.firsts.partition_point(|first| *first <= number) - 1;
        let rest = self.table.slices[slice].rest((number - self.firsts[slice]) as usize);
        self.table.word(slice, rest)
    }

    /// Bits of a word.
    pub(crate) fn bits(&self) -> u32 {
        self.table.bits()
    }

    /// Bytes taken.
    pub(crate) fn bytes(&self) -> u64 {
        self.table.bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_and_numbers_stand_for_each_other() {
        let mut table = Remainders::new(30);
        let words: Vec<u64> = (0..5_000u64).map(|n| n * n * 41).collect();
        for (n, word) in words.iter().enumerate() {
            let (slice, rest) = table.split(*word);
            table.slices[slice].add(rest, 1 + n as Mark % 3);
        }
        let (slots, cells) = Slots::of(table, &[0, 5, 6, 500], 16, || {});
        let mut seen = 0;
        cells.each_seen(0..slots.range(), |number, mark| {
            let word = slots.word(number);
            let n = words.iter().position(|w| *w == word).expect("one of them");
            assert_eq!((mark, slots.number(word)), ([5, 6, 500][n % 3], Some(number)));
            let mut all = vec![];
            slots.push_numbers(&[word, 7, word, u64::MAX], &mut all);
            assert_eq!(all, [number, slots.nobody(), number, slots.nobody()]);
            seen += 1;
        });
        // Many at once, some of which are not there.
        let many: Vec<u64> = (0..12_000u64).map(|n| n * n % 5_003 * (n % 5_003) * 41).collect();
        let mut all = vec![3];
        slots.push_numbers(&many, &mut all);
        let one_by_one = many.iter().map(|word| slots.number(*word).unwrap_or(slots.nobody()));
        assert!(all[1..].iter().copied().eq(one_by_one) && all.contains(&slots.nobody()));
        assert_eq!(seen, words.len());
        assert_eq!((slots.number(7), cells.get(slots.nobody())), (None, 0));
    }
}
