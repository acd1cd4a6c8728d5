//! States as numbers from a small range: a state *is* its number, so that tables need no keys.
//!
//! ```text
//! key = digit of field 0 * stride 0 + digit of field 1 * stride 1 + ...      below the range
//!
//! field      what it holds                                    its digit
//! single    one value                                        its place among the values that can be there
//! members   a set whose size is kept, or only falls           rank among all such sets (combinatorial number system)
//! order     values that all differ, rearranged                rank of the arrangement (factorial number system), halved
//!                                                             where a kept parity decides the last two
//! groups    values that repeat, rearranged                    a rank of sets, one value after the other
//! piles     numbers spread over lists                         as in the packing
//! sorted    the same, where every list is sorted              one digit a number: on which list it is
//! ```
//!
//! Parts are laid out by [`Keys::new`] from what can be in play from the given starts (see `run::ways`); a state outside
//! has no key. Ranks: Knuth, TAOCP 4A, 7.2.1.2 and 7.2.1.3.

use super::collections::Spread;
pub use super::collections::{Sorted, Sorting};
use super::packing::set_bits;

/// Most numbers of a range. Dense tables hold less: they say so.
pub const RANGE_MAX: u64 = 1 << 62;
/// Most places of a field `members` or `groups`.
const PLACES_MAX: usize = 64;
/// Most values of a field `order`: nibbles of one word.
const ORDER_MAX: usize = 15;

/// The number of ways to choose `k` of `n`, for n up to [`PLACES_MAX`]; what does not fit is the greatest number.
fn choose(n: usize, k: usize) -> u64 {
    (1..=k as u128)
        .try_fold(1u128, |c, i| Some(c.checked_mul((n as u128 + 1).checked_sub(i)?)? / i))
        .map_or(0, |c| u64::try_from(c).unwrap_or(u64::MAX))
}

/// `table[n * row + k]` = ways to choose k of n.
#[derive(Clone, Debug)]
struct Binomials {
    row: usize,
    table: Vec<u64>,
}

impl Binomials {
    fn new(n: usize, k: usize) -> Binomials {
        let row = k + 1;
        let table =
            (0..=n).flat_map(|n| (0..=k).map(move |k| if k > n { 0 } else { choose(n, k) })).collect();
        Binomials { row, table }
    }

    #[inline(always)]
    fn get(&self, n: usize, k: usize) -> u64 {
        self.table[n * self.row + k]
    }
}

/// A kept parity of an arrangement: that of the arrangement itself plus one for some values at some places.
#[derive(Clone, Debug)]
pub struct KeptParity {
    /// For some values of the grid the places of the state where they count one.
    pub counts: Vec<(i32, Vec<usize>)>,
}

/// One field of a key.
#[derive(Clone, Debug)]
enum Field {
    Single { slot: usize, values: Vec<i32>, lo: i32, digits: Vec<u32> },
    Members(Members),
    Order(Order),
    Groups(Groups),
    Piles { slot: usize, len: usize, piles: Spread },
    Sorted(Sorted),
}

/// Members of a set by place: `least..=most` of them.
#[derive(Clone, Debug)]
struct Members {
    slots: Vec<usize>,
    least: usize,
    most: usize,
    /// `firsts[k]` sets have fewer members than k.
    firsts: Vec<u64>,
    ways: Binomials,
}

/// An arrangement of values that all differ. Digits are taken value by value: the place of each among those that are left.
#[derive(Clone, Debug)]
struct Order {
    slots: Vec<usize>,
    /// In the order of their digits; those that a parity counts come first.
    values: Vec<i32>,
    /// The number of a value by `value - lo`.
    lo: i32,
    numbers: Vec<u8>,
    weights: Vec<u64>,
    /// `ceil(2^64 / weight)`, to divide by multiplying.
    inverses: Vec<u64>,
    parity: Option<OrderParity>,
}

#[derive(Clone, Debug)]
struct OrderParity {
    odd: bool,
    /// Number of a value, and the places where it counts one, as bits.
    counts: Vec<(u8, u32)>,
}

/// An arrangement of values that repeat.
#[derive(Clone, Debug)]
struct Groups {
    slots: Vec<usize>,
    /// Each value, how often it occurs, and how many arrangements there are of the groups behind it.
    values: Vec<(i32, usize, u64)>,
    ways: Binomials,
}

/// A field as native code writes it out.
#[derive(Clone, Debug)]
pub enum Described<'k> {
    /// One value: its place in the state, and the values by digit.
    Single {
        /// The place.
        slot: usize,
        /// The value of each digit, ascending.
        values: &'k [i32],
    },
    /// Members of a set.
    Members {
        /// The places that may hold a member.
        slots: &'k [usize],
        /// Fewest members.
        least: usize,
        /// Most members.
        most: usize,
        /// Digits of sets with fewer members than k are below entry k.
        firsts: &'k [u64],
        /// Entry `n * row + k`: ways to choose k of n.
        ways: (&'k [u64], usize),
    },
    /// An arrangement of values that all differ.
    Order {
        /// The places.
        slots: &'k [usize],
        /// The values in the order of their digits.
        values: &'k [i32],
        /// What each digit counts.
        weights: &'k [u64],
        /// For each weight above 1 a number to multiply by instead of dividing, of which the upper word counts.
        inverses: &'k [u64],
        /// Whether the sum of all digits and of what follows is odd, and for some values (by number) the places where they
        /// count one, as bits. The last two digits are then not written.
        parity: Option<(bool, &'k [(u8, u32)])>,
    },
    /// Lists that together hold each number once and are sorted.
    Sorted(&'k Sorted),
    /// What is left to [`Keys`].
    Other,
}

/// How the states of a space are numbered.
#[derive(Clone, Debug)]
pub struct Keys {
    fields: Vec<Field>,
    strides: Vec<u64>,
    /// The field of each value of a state.
    field_of: Vec<u8>,
    /// Values that never change, and room for the others.
    base: Vec<i32>,
    range: u64,
    /// Not every state that can be has a key.
    narrow: bool,
}

/// What is to become a field.
#[derive(Clone, Debug)]
pub enum FieldPlan {
    /// One value, which can be one of these, ascending.
    Single(usize, Vec<i32>),
    /// Places that hold 0 or 1, with so many ones at least and at most.
    Members(Vec<usize>, usize, usize),
    /// Places that always hold an arrangement of the values that they hold now.
    Arranged(Vec<usize>, Option<KeptParity>),
    /// Lists that together hold each number of a range once: first value, lists, most entries, numbers, what fills unused places, and how they
    /// are sorted if they are.
    Piles(usize, usize, usize, (i64, i64), i64, Option<Sorting>),
}

const NO_FIELD: u8 = 255;

impl Keys {
    /// Lays the fields out. `base` holds the values that are in no field. `None` when the range is above [`RANGE_MAX`] or a field
    /// is too large.
    #[must_use]
    pub fn new(base: Vec<i32>, wanted: Vec<FieldPlan>) -> Option<Keys> {
        let mut keys = Keys {
            fields: vec![],
            strides: vec![],
            field_of: vec![NO_FIELD; base.len()],
            base,
            range: 1,
            narrow: false,
        };
        for w in wanted {
            let (field, total) = match w {
                FieldPlan::Single(_, values) if values.len() <= 1 => continue,
                FieldPlan::Single(slot, values) => Field::single(slot, values)?,
                FieldPlan::Members(slots, least, most) => Field::members(slots, least, most)?,
                FieldPlan::Arranged(slots, parity) => Field::arranged(slots, &keys.base, parity)?,
                FieldPlan::Piles(slot, lists, cap, (lo, hi), pad, None) => {
                    let piles = Spread::new(lists, cap, lo, hi, pad)?;
                    let total = piles.total;
                    (Field::Piles { slot, len: lists * (cap + 1), piles }, total)
                }
                FieldPlan::Piles(slot, lists, cap, range, pad, Some(sorting)) => {
                    let sorted = Sorted::new(slot, (lists, cap), range, pad, sorting)?;
                    let total = sorted.total;
                    (Field::Sorted(sorted), total)
                }
            };
            let number = u8::try_from(keys.fields.len()).ok().filter(|n| *n != NO_FIELD)?;
            for slot in field.slots() {
                keys.field_of[slot] = number;
            }
            keys.strides.push(keys.range);
            keys.range = keys.range.checked_mul(total).filter(|r| *r <= RANGE_MAX)?;
            keys.fields.push(field);
        }
        Some(keys)
    }

    /// Keys are below this.
    #[must_use]
    pub fn range(&self) -> u64 {
        self.range
    }

    /// The same keys, of which it is only known that the states seen so far have one.
    #[must_use]
    pub fn as_narrow(self) -> Keys {
        Keys { narrow: true, ..self }
    }

    /// Whether states may be met that have no key.
    #[must_use]
    pub fn is_narrow(&self) -> bool {
        self.narrow
    }

    /// What the digit counts that is nearest to the root of the range: dividing by it tells digits from digits.
    #[must_use]
    pub fn divisor(&self) -> u64 {
        let root = self.range.isqrt();
        self.strides
            .iter()
            .copied()
            .min_by_key(|s| if *s < root { root / s } else { s / root })
            .unwrap_or(self.range)
    }

    /// Each field, what its digit counts, the places that it holds, and how many digits there are.
    #[must_use]
    pub fn describe(&self) -> Vec<(Described<'_>, u64, Vec<usize>, u64)> {
        let describe = |field| match field {
            &Field::Single { slot, ref values, .. } => Described::Single { slot, values },
            Field::Members(m) => Described::Members {
                slots: &m.slots,
                least: m.least,
                most: m.most,
                firsts: &m.firsts,
                ways: (&m.ways.table, m.ways.row),
            },
            Field::Order(o) => Described::Order {
                slots: &o.slots,
                values: &o.values,
                weights: &o.weights,
                inverses: &o.inverses,
                parity: o.parity.as_ref().map(|p| (p.odd, p.counts.as_slice())),
            },
            Field::Sorted(sorted) => Described::Sorted(sorted),
            Field::Groups(_) | Field::Piles { .. } => Described::Other,
        };
        let ends = self.strides.iter().skip(1).chain([&self.range]);
        let fields = self.fields.iter().zip(self.strides.iter().zip(ends));
        fields.map(|(field, (stride, end))| (describe(field), *stride, field.slots(), end / stride)).collect()
    }

    /// Whether the values that are in no field are what they always are.
    #[must_use]
    pub fn is_fixed(&self, values: &[i32]) -> bool {
        let mut all = values.iter().zip(&self.base).zip(&self.field_of);
        all.all(|((v, b), field)| *field != NO_FIELD || v == b)
    }

    /// The digit of one field.
    #[must_use]
    pub fn digit(&self, field: usize, values: &[i32]) -> Option<u64> {
        self.fields[field].digit(values)
    }

    /// Writes the values of one field.
    pub fn write(&self, field: usize, digit: u64, values: &mut [i32]) {
        self.fields[field].write(digit, values);
    }

    /// The values of a state that are in no field, at their places.
    #[must_use]
    pub fn base(&self) -> &[i32] {
        &self.base
    }

    /// How many values a state has.
    #[must_use]
    pub fn values_len(&self) -> usize {
        self.base.len()
    }

    /// How many fields there are.
    #[must_use]
    pub fn fields_len(&self) -> usize {
        self.fields.len()
    }

    /// The key of a state; `None` for one that cannot be.
    #[must_use]
    pub fn key(&self, values: &[i32]) -> Option<u64> {
        if !self.is_fixed(values) {
            return None;
        }
        let digits = self.fields.iter().zip(&self.strides);
        digits.into_iter().try_fold(0, |key, (field, stride)| Some(key + field.digit(values)? * stride))
    }

    /// The key of a state that differs from the one with the given digits and key only where bits are set in `changed`.
    #[inline]
    #[must_use]
    pub fn patched(&self, key: u64, digits: &[u64], values: &[i32], changed: &[u64]) -> Option<u64> {
        let mut touched = [0u64; 4];
        for slot in set_bits(changed) {
            let field = self.field_of[slot];
            if field == NO_FIELD {
                if values[slot] != self.base[slot] {
                    return None;
                }
            } else {
                touched[usize::from(field / 64)] |= 1 << (field % 64);
            }
        }
        let mut key = key;
        for field in set_bits(&touched) {
            let digit = self.fields[field].digit(values)?;
            key = key.wrapping_add(digit.wrapping_sub(digits[field]).wrapping_mul(self.strides[field]));
        }
        Some(key)
    }

    /// The state of a key below the range, and its digits.
    #[inline]
    pub fn unpack(&self, key: u64, values: &mut [i32], digits: &mut [u64]) {
        let mut at = self.fields.len();
        self.each_digit(key, values, |digit| {
            at -= 1;
            digits[at] = digit;
        });
    }

    /// The same without the digits.
    pub fn write_all(&self, key: u64, values: &mut [i32]) {
        self.each_digit(key, values, |_| ());
    }

    /// Writes the state of a key, and tells its digits from the last to the first.
    #[inline]
    fn each_digit(&self, key: u64, values: &mut [i32], mut see: impl FnMut(u64)) {
        values.copy_from_slice(&self.base);
        let mut rest = key;
        for (field, stride) in self.fields.iter().zip(&self.strides).rev() {
            let digit = if *stride == 1 { rest } else { rest / stride };
            rest -= digit * stride;
            field.write(digit, values);
            see(digit);
        }
    }
}

impl Field {
    fn single(slot: usize, values: Vec<i32>) -> Option<(Field, u64)> {
        let (lo, hi) = (*values.first()?, *values.last()?);
        let mut digits = vec![];
        if i64::from(hi) - i64::from(lo) < 4096 {
            digits = vec![u32::MAX; (hi - lo) as usize + 1];
            for (i, v) in values.iter().enumerate() {
                digits[(v - lo) as usize] = i as u32;
            }
        }
        let total = values.len() as u64;
        Some((Field::Single { slot, values, lo, digits }, total))
    }

    fn members(slots: Vec<usize>, least: usize, most: usize) -> Option<(Field, u64)> {
        if slots.len() > PLACES_MAX || most > slots.len() {
            return None;
        }
        let ways = Binomials::new(slots.len(), most + 1);
        let mut firsts = vec![0; most + 2];
        for k in least..=most {
            firsts[k + 1] = choose(slots.len(), k).checked_add(firsts[k])?;
        }
        let total = firsts[most + 1];
        Some((Field::Members(Members { slots, least, most, firsts, ways }), total))
    }

    fn arranged(slots: Vec<usize>, start: &[i32], parity: Option<KeptParity>) -> Option<(Field, u64)> {
        let mut sorted: Vec<i32> = slots.iter().map(|s| start[*s]).collect();
        sorted.sort_unstable();
        if sorted.windows(2).all(|w| w[0] != w[1]) {
            return Field::order(slots, sorted, start, parity);
        }
        if slots.len() > PLACES_MAX {
            return None;
        }
        let ways = Binomials::new(slots.len(), slots.len());
        let mut groups: Vec<(i32, usize, u64)> = vec![];
        for v in sorted {
            match groups.last_mut() {
                Some(g) if g.0 == v => g.1 += 1,
                _ => groups.push((v, 1, 1)),
            }
        }
        let mut total = 1u64;
        let mut left = 0;
        for g in groups.iter_mut().rev() {
            left += g.1;
            g.2 = total;
            total = total.checked_mul(choose(left, g.1))?;
        }
        Some((Field::Groups(Groups { slots, values: groups, ways }), total))
    }

    fn order(
        slots: Vec<usize>,
        sorted: Vec<i32>,
        start: &[i32],
        parity: Option<KeptParity>,
    ) -> Option<(Field, u64)> {
        let n = sorted.len();
        if n > ORDER_MAX || n != slots.len() || n == 0 {
            return None;
        }
        let (lo, hi) = (sorted[0], sorted[n - 1]);
        if i64::from(hi) - i64::from(lo) >= 4096 {
            return None;
        }
        let counted = |v: &i32| parity.as_ref().is_some_and(|p| p.counts.iter().any(|c| c.0 == *v));
        let mut values = sorted.clone();
        values.sort_by_key(|v| !counted(v));
        // The last two are decided by the parity only where it does not count them.
        let halved = parity.is_some() && n >= 3 && !counted(&values[n - 2]) && !counted(&values[n - 1]);
        let mut numbers = vec![u8::MAX; (hi - lo) as usize + 1];
        for (i, v) in values.iter().enumerate() {
            numbers[(v - lo) as usize] = i as u8;
        }
        let parity = parity.filter(|_| halved).map(|p| {
            let counts = (p.counts.iter())
                .filter_map(|(v, at)| {
                    let number = values.iter().position(|x| x == v)?;
                    let bits =
                        at.iter().filter_map(|a| slots.iter().position(|s| s == a)).map(|i| 1u32 << i).sum();
                    Some((number as u8, bits))
                })
                .collect();
            OrderParity { odd: false, counts }
        });
        let mut weights = vec![1u64; n];
        for i in (0..n - 1).rev() {
            weights[i] = weights[i + 1] * (n - 1 - i) as u64;
        }
        if parity.is_some() {
            weights.iter_mut().for_each(|w| *w /= 2);
        }
        let total = weights[0] * n as u64;
        let inverses = weights.iter().map(|w| (u64::MAX / w.max(&1)).wrapping_add(1)).collect();
        let mut order = Order { slots, values, lo, numbers, weights, inverses, parity };
        // The parity is that of the start, however the values are numbered.
        if order.rank(start).is_none()
            && let Some(parity) = &mut order.parity
        {
            parity.odd = true;
        }
        order.rank(start)?;
        Some((Field::Order(order), total))
    }

    fn slots(&self) -> Vec<usize> {
        match self {
            Field::Single { slot, .. } => vec![*slot],
            Field::Members(m) => m.slots.clone(),
            Field::Order(o) => o.slots.clone(),
            Field::Groups(g) => g.slots.clone(),
            Field::Piles { slot, len, .. } => (*slot..slot + len).collect(),
            Field::Sorted(sorted) => sorted.places().collect(),
        }
    }

    #[inline]
    fn digit(&self, values: &[i32]) -> Option<u64> {
        match self {
            Field::Single { slot, values: all, lo, digits } => {
                let v = values[*slot];
                if digits.is_empty() {
                    return all.binary_search(&v).ok().map(|i| i as u64);
                }
                let at = usize::try_from(i64::from(v) - i64::from(*lo)).ok()?;
                digits.get(at).filter(|d| **d != u32::MAX).map(|d| u64::from(*d))
            }
            Field::Members(m) => m.rank(values),
            Field::Order(o) => o.rank(values),
            Field::Groups(g) => g.rank(values),
            Field::Piles { slot, len, piles } => piles.rank(&values[*slot..slot + len]),
            Field::Sorted(sorted) => sorted.rank(values),
        }
    }

    #[inline]
    fn write(&self, digit: u64, values: &mut [i32]) {
        match self {
            Field::Single { slot, values: all, .. } => values[*slot] = all[digit as usize],
            Field::Members(m) => m.unrank(digit, values),
            Field::Order(o) => o.unrank(digit, values),
            Field::Groups(g) => g.unrank(digit, values),
            Field::Piles { slot, len, piles } => piles.unrank(digit, &mut values[*slot..slot + len]),
            Field::Sorted(sorted) => sorted.unrank(digit, values),
        }
    }
}

impl Members {
    #[inline]
    fn rank(&self, values: &[i32]) -> Option<u64> {
        let mut bits = 0u64;
        for (i, slot) in self.slots.iter().enumerate() {
            bits |= u64::from(values[*slot] != 0) << i;
        }
        let mut rank = 0;
        let mut k = 0;
        while bits != 0 {
            k += 1;
            if k > self.most {
                return None;
            }
            rank += self.ways.get(bits.trailing_zeros() as usize, k);
            bits &= bits - 1;
        }
        (k >= self.least).then(|| rank + self.firsts[k])
    }

    #[inline]
    fn unrank(&self, rank: u64, values: &mut [i32]) {
        let mut k = self.most;
        while self.firsts[k] > rank {
            k -= 1;
        }
        let mut rest = rank - self.firsts[k];
        // The greatest place first: the greatest p with (p choose k) <= rest.
        let mut place = self.slots.len();
        for slot in &self.slots {
            values[*slot] = 0;
        }
        while k > 0 {
            place -= 1;
            let below = self.ways.get(place, k);
            if below <= rest {
                rest -= below;
                values[self.slots[place]] = 1;
                k -= 1;
            }
        }
    }
}

/// One in every nibble.
const ONES: u64 = 0x1111_1111_1111_1111;
/// In nibble i the number i.
const COUNTING: u64 = 0xfedc_ba98_7654_3210;

impl Order {
    #[inline]
    fn rank(&self, values: &[i32]) -> Option<u64> {
        let n = self.slots.len();
        let mut place_of = [u8::MAX; ORDER_MAX + 1];
        for (i, slot) in self.slots.iter().enumerate() {
            let at = values[*slot].wrapping_sub(self.lo) as u32 as usize;
            let number = *self.numbers.get(at)?;
            if number == u8::MAX {
                return None;
            }
            place_of[usize::from(number)] = i as u8;
        }
        // Nibble p: how many free places lie before place p.
        let mut before = COUNTING;
        let mut rank = 0;
        let mut odd = 0;
        for (place, weight) in place_of[..n].iter().zip(&self.weights) {
            if *place == u8::MAX {
                return None;
            }
            let shift = u32::from(*place) * 4;
            let digit = before >> shift & 15;
            rank += digit * weight;
            odd ^= digit;
            before = before.wrapping_sub((ONES << shift) << 4);
        }
        if let Some(parity) = &self.parity {
            // The digit before the last has the weight 0 then: it must be the one that the parity tells.
            for (number, bits) in &parity.counts {
                odd ^= u64::from(bits >> place_of[usize::from(*number)] & 1);
            }
            if (odd & 1 == 1) != parity.odd {
                return None;
            }
        }
        Some(rank)
    }

    #[inline]
    fn unrank(&self, rank: u64, values: &mut [i32]) {
        let n = self.slots.len();
        // Free places as nibbles, the first in the lowest.
        let mut free = COUNTING;
        let mut rest = rank;
        let mut odd = 0;
        let known = if self.parity.is_some() { n - 2 } else { n };
        for (number, weight) in self.weights[..known].iter().enumerate() {
            let mut digit = ((u128::from(rest) * u128::from(self.inverses[number])) >> 64) as u64;
            if *weight == 1 {
                digit = rest;
            }
            rest -= digit * weight;
            odd ^= digit;
            let place = take(&mut free, digit);
            if let Some(parity) = &self.parity {
                for (_, bits) in parity.counts.iter().filter(|c| usize::from(c.0) == number) {
                    odd ^= u64::from(bits >> place & 1);
                }
            }
            values[self.slots[place]] = self.values[number];
        }
        if let Some(parity) = &self.parity {
            let swap = (odd & 1 == 1) != parity.odd;
            let (x, y) = (take(&mut free, 0), take(&mut free, 0));
            let (x, y) = if swap { (y, x) } else { (x, y) };
            values[self.slots[x]] = self.values[n - 2];
            values[self.slots[y]] = self.values[n - 1];
        }
    }
}

/// Takes entry number `digit` out of a list of nibbles.
#[inline(always)]
fn take(free: &mut u64, digit: u64) -> usize {
    let shift = (digit * 4) as u32;
    let place = *free >> shift & 15;
    let low = *free & ((1 << shift) - 1);
    *free = low | ((*free >> shift) >> 4) << shift;
    place as usize
}

impl Groups {
    #[inline]
    fn rank(&self, values: &[i32]) -> Option<u64> {
        let mut free = [0u8; PLACES_MAX];
        let mut left = self.slots.len();
        for (i, f) in free[..left].iter_mut().enumerate() {
            *f = i as u8;
        }
        let mut rank = 0;
        for (value, count, behind) in &self.values {
            let (mut digit, mut k, mut kept) = (0, 0, 0);
            for i in 0..left {
                if values[self.slots[usize::from(free[i])]] == *value {
                    k += 1;
                    if k > *count {
                        return None;
                    }
                    digit += self.ways.get(i, k);
                } else {
                    free[kept] = free[i];
                    kept += 1;
                }
            }
            if k != *count {
                return None;
            }
            left = kept;
            rank += digit * behind;
        }
        (left == 0).then_some(rank)
    }

    #[inline]
    fn unrank(&self, rank: u64, values: &mut [i32]) {
        let mut free = [0u8; PLACES_MAX];
        let mut left = self.slots.len();
        for (i, f) in free[..left].iter_mut().enumerate() {
            *f = i as u8;
        }
        let mut rest = rank;
        for (value, count, behind) in &self.values {
            let mut digit = rest / behind;
            rest -= digit * behind;
            let mut k = *count;
            let mut chosen = 0u64;
            let mut i = left;
            while k > 0 {
                i -= 1;
                let below = self.ways.get(i, k);
                if below <= digit {
                    digit -= below;
                    chosen |= 1 << i;
                    k -= 1;
                }
            }
            let mut kept = 0;
            for i in 0..left {
                if chosen >> i & 1 == 1 {
                    values[self.slots[usize::from(free[i])]] = *value;
                } else {
                    free[kept] = free[i];
                    kept += 1;
                }
            }
            left = kept;
        }
    }
}
