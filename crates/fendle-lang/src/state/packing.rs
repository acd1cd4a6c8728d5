//! Values of a state to packed bits and back.
//!
//! ```text
//! bits:  | field 0 | field 1 | ... | ended |
//!        a plain field holds  value - lo  in ceil(log2(hi - lo + 1)) bits, cell after cell
//!        a rearranged grid holds its rank among all arrangements of its values
//! ```

use fendle_core::Layout;

use super::collections::{HEAPED_MAX, Heaps, Spread};
use super::ranker::Ranker;

/// A fault while packing: the field number whose values are no rearrangement any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NotRearranged(pub usize);

#[derive(Clone, Debug)]
enum Field {
    /// Numbers spread over lists: the rank of their order times the rank of the lengths.
    Spread {
        slot: usize,
        len: usize,
        spread: Spread,
        bit: u32,
        width: u32,
        tag: usize,
    },
    /// The same where the ranks do not fit: the lengths of all lists, then the numbers one after the other.
    Heaps {
        heaps: Heaps,
        bit: u32,
        tag: usize,
    },
    /// Values in a row, each of which can hold so many.
    Row {
        row: PackedRow,
        count: u64,
    },
    Rank {
        slot: usize,
        len: usize,
        ranker: Ranker,
        bit: u32,
        width: u32,
        tag: usize,
    },
}

impl Field {
    /// How many values each packed number of the field takes.
    fn values_len(&self) -> impl Iterator<Item = u64> + use<> {
        match self {
            Field::Row { row, count } => std::iter::repeat_n(*count, row.len),
            Field::Rank { ranker, .. } => std::iter::repeat_n(ranker.total, 1),
            Field::Spread { spread, .. } => std::iter::repeat_n(spread.total, 1),
            // Their typed states are not counted.
            Field::Heaps { .. } => std::iter::repeat_n(1, 0),
        }
    }

    /// Bits that it takes.
    fn bits(&self) -> u32 {
        match self {
            Field::Row { row, .. } => row.width * row.len as u32,
            Field::Rank { width, .. } | Field::Spread { width, .. } => *width,
            Field::Heaps { heaps, .. } => heaps.bits(),
        }
    }

    /// Writes its values from packed words, from a bit on that is moved behind it.
    #[inline(always)]
    fn read(&self, words: &[u64], bit: &mut usize, values: &mut [i32]) {
        match self {
            Field::Row { row, .. } => {
                let out = &mut values[row.slot..row.slot + row.len];
                if row.width == 0 {
                    out.fill(row.value(0));
                    return;
                }
                for v in out {
                    *v = row.value(get(words, bit, row.width) as u32);
                }
            }
            Field::Rank { slot, len, ranker, width, .. } => {
                let rank = if *width == 0 { 0 } else { get(words, bit, *width) };
                ranker.unrank(rank, &mut values[*slot..*slot + *len]);
            }
            Field::Spread { slot, len, spread, width, .. } => {
                let rank = if *width == 0 { 0 } else { get(words, bit, *width) };
                spread.unrank(rank, &mut values[*slot..*slot + *len]);
            }
            Field::Heaps { heaps, .. } => heaps.read(words, bit, values),
        }
    }
}

/// Packs and unpacks the states of one bound model.
#[derive(Clone, Debug, Default)]
pub struct Codec {
    fields: Vec<Field>,
    bits: u32,
    /// Whether some packed words are no state: lists leave entries unused.
    gaps: bool,
    /// Where each value of a state is packed.
    places: Vec<Packed>,
}

/// Where one value of a state is packed.
#[derive(Clone, Copy, Debug)]
enum Packed {
    /// Nowhere: it never changes.
    Fixed,
    /// In `width` bits from `bit` on, less `lo`.
    Bits { bit: u32, width: u32, lo: i32, none: bool },
    /// In the rank that is this field.
    Rank { field: u32 },
}

/// Values in a row that are packed alike, each in `width` bits: what is packed is the value less `lo`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PackedRow {
    /// The first value.
    pub slot: usize,
    /// How many there are.
    pub len: usize,
    /// Where the first one is packed.
    pub bit: u32,
    /// Bits of each; with none they always hold the same.
    pub width: u32,
    /// What 0 stands for.
    pub lo: i32,
    /// Whether 0 stands for `none` instead.
    pub none: bool,
}

impl PackedRow {
    /// The value that a packed number stands for.
    #[inline(always)]
    #[must_use]
    pub fn value(&self, code: u32) -> i32 {
        if self.none && code == 0 { NONE } else { (code as i32).wrapping_add(self.lo) }
    }

    /// Each value by itself, as a row of one.
    pub fn single(self) -> impl Iterator<Item = PackedRow> {
        (0..self.len).map(move |i| PackedRow {
            slot: self.slot + i,
            bit: self.bit + self.width * i as u32,
            len: 1,
            ..self
        })
    }

    /// Whether a value begins in one word of 64 bits and ends in the next.
    #[must_use]
    pub fn crosses(&self) -> bool {
        self.width > 0 && self.bit % 64 + self.width > 64
    }
}

/// A field of a packed state, for code that is written for one layout.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PackedField {
    /// Values in a row, each by itself.
    Row(PackedRow),
    /// Values that are packed together, as a rank or one after the other: [`Codec::read_field`] and [`Codec::patch_field`] know how.
    Together {
        /// The number of the field.
        field: usize,
        /// Its values.
        slots: Vec<usize>,
    },
}

/// Bits needed to tell `count` values apart.
pub(super) fn width_of(count: u64) -> u32 {
    64 - count.saturating_sub(1).leading_zeros()
}

impl Codec {
    /// Adds `len` values from `slot` on, each in `lo..=hi`.
    pub fn plain(&mut self, slot: usize, len: usize, lo: i64, hi: i64) {
        self.add(slot, len, lo, hi, false);
    }

    /// The same for values that may be `none`.
    pub fn maybe(&mut self, slot: usize, len: usize, lo: i64, hi: i64) {
        self.add(slot, len, lo - 1, hi, true);
    }

    /// Says that the fields added hold a list: not every combination of values is a state.
    pub fn has_gaps(&mut self) {
        self.gaps = true;
    }

    fn add(&mut self, slot: usize, len: usize, lo: i64, hi: i64, none: bool) {
        let width = width_of((hi - lo + 1) as u64);
        let first = self.bits;
        self.bits += width * len as u32;
        if self.places.len() < slot + len {
            self.places.resize(slot + len, Packed::Fixed);
        }
        if width > 0 {
            for i in 0..len {
                self.places[slot + i] =
                    Packed::Bits { bit: first + width * i as u32, width, lo: lo as i32, none };
            }
        }
        let row = PackedRow { slot, len, bit: first, width, lo: lo as i32, none };
        self.fields.push(Field::Row { row, count: (hi - lo + 1) as u64 });
    }

    /// Adds a grid that is always a rearrangement of `values`. False if the number of
    /// arrangements does not fit 64 bits: then nothing was added.
    pub fn rearranged(&mut self, slot: usize, values: &[i32], tag: usize) -> bool {
        let Some(ranker) = Ranker::new(values) else { return false };
        let width = width_of(ranker.total);
        let first = self.bits;
        self.bits += width;
        if self.places.len() < slot + values.len() {
            self.places.resize(slot + values.len(), Packed::Fixed);
        }
        let field = self.fields.len() as u32;
        self.places[slot..slot + values.len()].fill(Packed::Rank { field });
        self.fields.push(Field::Rank { slot, len: values.len(), ranker, bit: first, width, tag });
        true
    }

    /// Adds `lists` lists of at most `cap` entries that together hold each of `lo..=hi` once. False
    /// if the number of arrangements does not fit 64 bits, or a list could not hold all: then
    /// nothing was added.
    pub fn spread(
        &mut self,
        slot: usize,
        lists: usize,
        cap: usize,
        (lo, hi): (i64, i64),
        pad: i64,
        tag: usize,
    ) -> bool {
        let Some(spread) = Spread::new(lists, cap, lo, hi, pad) else { return false };
        let (width, len) = (width_of(spread.total), lists * (cap + 1));
        let first = self.bits;
        self.bits += width;
        if self.places.len() < slot + len {
            self.places.resize(slot + len, Packed::Fixed);
        }
        let field = self.fields.len() as u32;
        self.places[slot..slot + len].fill(Packed::Rank { field });
        self.fields.push(Field::Spread { slot, len, spread, bit: first, width, tag });
        true
    }

    /// Adds lists in several places, given by their first value, their number and their most entries, that together hold each of
    /// `lo..=hi` once. False where they are too many: then nothing was added.
    pub fn heaps(
        &mut self,
        parts: &[(usize, usize, usize)],
        (lo, hi): (i64, i64),
        pad: i64,
        tag: usize,
    ) -> bool {
        let Some(n) = usize::try_from(hi - lo + 1).ok().filter(|n| (1..=HEAPED_MAX).contains(n)) else {
            return false;
        };
        let heaps = Heaps { parts: parts.to_vec(), lo: lo as i32, pad: pad as i32, n };
        let bit = self.bits;
        self.bits += heaps.bits();
        self.gaps = true;
        let field = self.fields.len() as u32;
        for &(slot, lists, cap) in parts {
            let len = lists * (cap + 1);
            if self.places.len() < slot + len {
                self.places.resize(slot + len, Packed::Fixed);
            }
            self.places[slot..slot + len].fill(Packed::Rank { field });
        }
        self.fields.push(Field::Heaps { heaps, bit, tag });
        true
    }

    /// The shape of a packed state.
    #[must_use]
    pub fn layout(&self) -> Layout {
        Layout::new(self.bits)
    }

    /// How many typed states there are, if that fits 64 bits.
    #[must_use]
    pub fn states_len(&self) -> Option<u64> {
        if self.gaps {
            return None;
        }
        self.fields.iter().try_fold(1u64, |n, f| f.values_len().try_fold(n, u64::checked_mul))
    }

    /// Packs typed state number `n`, below [`Codec::states_len`].
    pub fn nth(&self, mut n: u64, out: &mut [u64]) {
        out.fill(0);
        let mut bit = 0usize;
        for field in &self.fields {
            let width = match field {
                Field::Row { row, .. } => row.width,
                Field::Rank { width, .. } | Field::Spread { width, .. } => *width,
                Field::Heaps { heaps, .. } => heaps.bits(),
            };
            for count in field.values_len() {
                let value = n % count;
                n /= count;
                if width > 0 {
                    out[bit / 64] |= value << (bit % 64);
                    if bit % 64 + width as usize > 64 {
                        out[bit / 64 + 1] |= value >> (64 - bit % 64);
                    }
                }
                bit += width as usize;
            }
        }
    }

    /// The fields, in order.
    #[must_use]
    pub fn describe(&self) -> Vec<PackedField> {
        let one = |(number, field): (usize, &Field)| {
            let together = |slots: Vec<usize>| PackedField::Together { field: number, slots };
            match field {
                Field::Row { row, .. } => PackedField::Row(*row),
                Field::Rank { slot, len, .. } | Field::Spread { slot, len, .. } => {
                    together((*slot..slot + len).collect())
                }
                Field::Heaps { heaps, .. } => together(
                    (heaps.parts.iter())
                        .flat_map(|(slot, lists, cap)| *slot..slot + lists * (cap + 1))
                        .collect(),
                ),
            }
        };
        self.fields.iter().enumerate().map(one).collect()
    }

    /// Writes the values of one field from packed words.
    pub fn read_field(&self, field: usize, words: &[u64], values: &mut [i32]) {
        let mut bit = self.fields[..field].iter().map(|f| f.bits() as usize).sum();
        self.fields[field].read(words, &mut bit, values);
    }

    /// Packs the values into `out`, which holds [`Layout::words`] words.
    ///
    /// # Errors
    ///
    /// When a rearranged grid no longer is one.
    #[inline]
    pub fn pack(&self, values: &[i32], out: &mut [u64]) -> Result<(), NotRearranged> {
        let mut at = 0usize;
        let mut filled = 0u32;
        let mut acc = 0u64;
        for field in &self.fields {
            match field {
                Field::Row { row, .. } => {
                    if row.width == 0 {
                        continue;
                    }
                    for &v in &values[row.slot..row.slot + row.len] {
                        let value = code_of(v, row.lo, row.none);
                        put(out, &mut at, &mut acc, &mut filled, value, row.width);
                    }
                }
                Field::Rank { slot, len, ranker, width, tag, .. } => {
                    let rank = ranker.rank(&values[*slot..*slot + *len]).ok_or(NotRearranged(*tag))?;
                    if *width > 0 {
                        put(out, &mut at, &mut acc, &mut filled, rank, *width);
                    }
                }
                Field::Spread { slot, len, spread, width, tag, .. } => {
                    let rank = spread.rank(&values[*slot..*slot + *len]).ok_or(NotRearranged(*tag))?;
                    if *width > 0 {
                        put(out, &mut at, &mut acc, &mut filled, rank, *width);
                    }
                }
                Field::Heaps { heaps, tag, .. } => {
                    let put = |value, width| put(out, &mut at, &mut acc, &mut filled, value, width);
                    heaps.codes(values, put).ok_or(NotRearranged(*tag))?;
                }
            }
        }
        if at < out.len() {
            out[at] = acc;
        }
        Ok(())
    }

    /// Packs a state that differs from an already packed one only in values whose bits are set in `changed`:
    /// `out` holds the packed words of the other one.
    ///
    /// # Errors
    ///
    /// When a rearranged grid no longer is one.
    #[inline]
    pub fn patch(&self, values: &[i32], changed: &[u64], out: &mut [u64]) -> Result<(), NotRearranged> {
        let mut ranked = None;
        for (w, &word) in changed.iter().enumerate() {
            // Where many values changed their neighbours are packed with them, as many as fill a word at once.
            let last =
                (word.count_ones() >= MANY_CHANGED).then(|| 64 * w + 63 - word.leading_zeros() as usize);
            let mut left = word;
            while left != 0 {
                let slot = 64 * w + left.trailing_zeros() as usize;
                left &= left - 1;
                match self.places[slot] {
                    Packed::Fixed => {}
                    Packed::Bits { bit, width, lo, none } => {
                        let mut value = code_of(values[slot], lo, none);
                        let mut wide = width;
                        let mut next = slot + 1;
                        while last.is_some_and(|last| next <= last)
                            && wide + width <= 64
                            && matches!(self.places[next], Packed::Bits { bit: b, width: w, lo: l, none: n }
                                if (b, w, l, n) == (bit + wide, width, lo, none))
                        {
                            value |= code_of(values[next], lo, none) << wide;
                            wide += width;
                            left &= !(1 << (next % 64));
                            next += 1;
                        }
                        overwrite(out, bit, wide, value);
                    }
                    Packed::Rank { field } if ranked == Some(field) => {}
                    Packed::Rank { field } => {
                        ranked = Some(field);
                        self.patch_field(field as usize, values, out)?;
                    }
                }
            }
        }
        Ok(())
    }

    /// Packs a field anew whose values are packed together.
    ///
    /// # Errors
    ///
    /// When a rearranged grid no longer is one.
    pub fn patch_field(&self, field: usize, values: &[i32], out: &mut [u64]) -> Result<(), NotRearranged> {
        match &self.fields[field] {
            Field::Row { .. } => {}
            Field::Heaps { heaps, bit, tag } => {
                let mut bit = *bit;
                let put = |value, width| {
                    overwrite(out, bit, width, value);
                    bit += width;
                };
                heaps.codes(values, put).ok_or(NotRearranged(*tag))?;
            }
            Field::Spread { slot, len, spread, bit, width, tag } => {
                let rank = spread.rank(&values[*slot..*slot + *len]).ok_or(NotRearranged(*tag))?;
                overwrite(out, *bit, *width, rank);
            }
            Field::Rank { slot, len, ranker, bit, width, tag } => {
                let rank = ranker.rank(&values[*slot..*slot + *len]).ok_or(NotRearranged(*tag))?;
                overwrite(out, *bit, *width, rank);
            }
        }
        Ok(())
    }

    /// The inverse of [`Codec::pack`].
    #[inline]
    pub fn unpack(&self, words: &[u64], values: &mut [i32]) {
        let mut bit = 0usize;
        for field in &self.fields {
            field.read(words, &mut bit, values);
        }
    }
}

/// The numbers of the bits that are set, ascending.
pub(crate) fn set_bits(words: &[u64]) -> impl Iterator<Item = usize> + '_ {
    words.iter().enumerate().flat_map(|(w, &bits)| {
        std::iter::successors((bits != 0).then_some(bits), |left| {
            let rest = left & (left - 1);
            (rest != 0).then_some(rest)
        })
        .map(move |left| w * 64 + left.trailing_zeros() as usize)
    })
}

/// Changed values in 64 from which those between them are packed, too.
const MANY_CHANGED: u32 = 8;

/// `none` as a value of a state.
const NONE: i32 = crate::model::NONE as i32;

#[inline(always)]
fn code_of(value: i32, lo: i32, none: bool) -> u64 {
    if none && value == NONE { 0 } else { u64::from(value.wrapping_sub(lo) as u32) }
}

#[inline]
fn put(out: &mut [u64], at: &mut usize, acc: &mut u64, filled: &mut u32, value: u64, width: u32) {
    *acc |= value << *filled;
    *filled += width;
    if *filled >= 64 {
        out[*at] = *acc;
        *at += 1;
        *filled -= 64;
        *acc = if *filled == 0 { 0 } else { value >> (width - *filled) };
    }
}

#[inline]
fn overwrite(out: &mut [u64], bit: u32, width: u32, value: u64) {
    if width == 0 {
        return;
    }
    let (word, shift) = ((bit / 64) as usize, bit % 64);
    let mask = u64::MAX >> (64 - width);
    out[word] = out[word] & !(mask << shift) | value << shift;
    if shift + width > 64 {
        let back = 64 - shift;
        out[word + 1] = out[word + 1] & !(mask >> back) | value >> back;
    }
}

#[inline]
pub(crate) fn get(words: &[u64], bit: &mut usize, width: u32) -> u64 {
    let (word, shift) = (*bit / 64, *bit % 64);
    *bit += width as usize;
    let mut value = words[word] >> shift;
    if shift + width as usize > 64 {
        value |= words[word + 1] << (64 - shift);
    }
    if width == 64 { value } else { value & ((1 << width) - 1) }
}

/// Writes `width` bits, at most 64, where all bits are 0 so far.
pub(crate) fn or_bits(words: &mut [u64], bit: &mut usize, width: u32, value: u64) {
    let (word, shift) = (*bit / 64, *bit % 64);
    words[word] |= value << shift;
    if shift > 0 && shift + width as usize > 64 {
        words[word + 1] |= value >> (64 - shift);
    }
    *bit += width as usize;
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// All arrangements of a multiset by plain recursion.
    fn arrangements(values: &[i32]) -> BTreeSet<Vec<i32>> {
        if values.is_empty() {
            return BTreeSet::from([vec![]]);
        }
        let mut out = BTreeSet::new();
        for i in 0..values.len() {
            let mut rest = values.to_vec();
            let v = rest.remove(i);
            for mut tail in arrangements(&rest) {
                tail.insert(0, v);
                out.insert(tail);
            }
        }
        out
    }

    #[test]
    fn ranks_are_a_bijection_in_lexicographic_order() {
        for values in [vec![0, 1, 2, 3, 4], vec![0, 1, 1, 2, 2, 2], vec![5, 5, 5], vec![-3, 900, 2000, 7]] {
            let mut codec = Codec::default();
            assert!(codec.rearranged(0, &values, 0));
            let all = arrangements(&values);
            for (i, a) in all.iter().enumerate() {
                let mut words = vec![0; codec.layout().words()];
                codec.pack(a, &mut words).expect("a rearrangement");
                assert_eq!(words[0], i as u64, "{a:?}");
                let mut back = vec![0; a.len()];
                codec.unpack(&words, &mut back);
                assert_eq!(&back, a);
            }
            assert_eq!(codec.layout().bits, width_of(all.len() as u64).max(1));
        }
    }

    #[test]
    fn ten_distinct_values_take_22_bits_and_sixteen_take_45() {
        for (n, bits) in [(4, 5), (9, 19), (10, 22), (16, 45), (20, 62)] {
            let mut codec = Codec::default();
            assert!(codec.rearranged(0, &(0..n).collect::<Vec<_>>(), 0));
            assert_eq!(codec.layout().bits, bits);
        }
        assert!(!Codec::default().rearranged(0, &(0..30).collect::<Vec<_>>(), 0));
    }

    #[test]
    fn a_lost_value_is_noticed() {
        let mut codec = Codec::default();
        codec.rearranged(0, &[0, 1, 2, 2], 7);
        let mut out = [0];
        assert_eq!(codec.pack(&[0, 1, 1, 2], &mut out), Err(NotRearranged(7)));
        assert_eq!(codec.pack(&[0, 1, 2, 9], &mut out), Err(NotRearranged(7)));
        let mut codec = Codec::default();
        codec.rearranged(0, &[0, 1, 2, 3], 8);
        assert_eq!(codec.pack(&[0, 1, 1, 2], &mut out), Err(NotRearranged(8)));
    }

    #[test]
    fn heaps_come_back_and_a_lost_card_is_noticed() {
        // 30 cards on two places of lists: 4 with at most 30 each, and one with at most 9.
        let mut codec = Codec::default();
        codec.plain(0, 1, 0, 9);
        assert!(codec.heaps(&[(1, 4, 30), (125, 1, 9)], (1, 30), 1, 3));
        assert_eq!(codec.layout().bits, 4 + 4 * 5 + 4 + 30 * 5);
        let mut values = vec![1; 135];
        values[0] = 7;
        for list in [1, 32, 63, 94, 125] {
            values[list] = 0;
        }
        let lay = |values: &mut Vec<i32>, list: usize, card: i32| {
            values[list] += 1;
            let at = list + values[list] as usize;
            values[at] = card;
        };
        (1..=13).for_each(|c| lay(&mut values, 32, c));
        (14..=21).for_each(|c| lay(&mut values, 125, 35 - c));
        (22..=30).for_each(|c| lay(&mut values, 94, c));
        let mut words = vec![0; codec.layout().words()];
        codec.pack(&values, &mut words).expect("all are there");
        let mut back = vec![0; values.len()];
        codec.unpack(&words, &mut back);
        assert_eq!(back, values);
        // One card moves; patching gives what packing gives.
        values[32] -= 1;
        values[32 + 13] = 1;
        lay(&mut values, 1, 13);
        let mut changed = vec![0u64; 3];
        for slot in [1, 2, 32, 45] {
            changed[slot / 64] |= 1 << (slot % 64);
        }
        let mut patched = words.clone();
        codec.patch(&values, &changed, &mut patched).expect("all are there");
        codec.pack(&values, &mut words).expect("all are there");
        assert_eq!(patched, words);
        values[2] = 12;
        assert_eq!(codec.pack(&values, &mut words), Err(NotRearranged(3)));
    }

    #[test]
    fn patching_gives_what_packing_gives() {
        let mut codec = Codec::default();
        codec.plain(0, 40, 0, 4);
        codec.rearranged(40, &[0, 1, 2, 3, 4], 0);
        codec.plain(45, 30, -9, 100);
        codec.plain(75, 1, 3, 3);
        let mut values: Vec<i32> =
            (0..40).map(|i| i % 5).chain(0..5).chain((0..30).map(|i| i - 9)).chain([3]).collect();
        let mut words = vec![0; codec.layout().words()];
        codec.pack(&values, &mut words).expect("fits");
        for round in 0..200u32 {
            let (a, b) = (round * 7 % 40, 45 + round * 11 % 30);
            values[a as usize] = (round * 3 % 5) as i32;
            values[b as usize] = (round * 13 % 110) as i32 - 9;
            values.swap(40 + (round % 5) as usize, 40 + (round / 5 % 5) as usize);
            let mut changed = [0u64; 2];
            for slot in [a, b, 40, 41, 42, 43, 44, 75] {
                changed[slot as usize / 64] |= 1 << (slot % 64);
            }
            if round % 3 == 0 {
                // Many at once, with some between them that did not change.
                for slot in (0..75).filter(|s| s % 2 == 0 || s % 7 < 3) {
                    changed[slot / 64] |= 1 << (slot % 64);
                    values[slot] = match slot {
                        0..40 => (slot as u32 * round % 5) as i32,
                        45.. => (slot as u32 * round % 110) as i32 - 9,
                        _ => values[slot],
                    };
                }
            }
            codec.patch(&values, &changed, &mut words).expect("fits");
            let mut whole = vec![0; words.len()];
            codec.pack(&values, &mut whole).expect("fits");
            assert_eq!(words, whole, "round {round}");
        }
    }

    #[test]
    fn plain_fields_cross_words() {
        let mut codec = Codec::default();
        codec.plain(0, 50, 0, 4);
        codec.plain(50, 1, 7, 7);
        codec.plain(51, 3, -100, 100);
        assert_eq!(codec.layout().bits, 150 + 24);
        let values: Vec<i32> = (0..50).map(|i| i % 5).chain([7, -100, 3, 100]).collect();
        let mut words = vec![0; codec.layout().words()];
        codec.pack(&values, &mut words).expect("plain");
        let mut back = vec![0; values.len()];
        codec.unpack(&words, &mut back);
        assert_eq!(back, values);
    }
}
