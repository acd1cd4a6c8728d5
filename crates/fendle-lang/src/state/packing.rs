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

    /// The bits of a packed state that belong to these values, each of which is packed by itself; `None` where one is packed together with
    /// others.
    #[must_use]
    pub fn bits_of(&self, slots: impl Iterator<Item = usize>) -> Option<Vec<u64>> {
        let mut mask = vec![0; self.layout().words()];
        for slot in slots {
            match self.places.get(slot)? {
                Packed::Fixed => {}
                Packed::Bits { bit, width, .. } => {
                    overwrite(&mut mask, *bit, *width, u64::MAX >> (64 - width))
                }
                Packed::Rank { .. } => return None,
            }
        }
        Some(mask)
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
