//! From a number to the values of its state.

use std::ops::Range;

use super::key::Run;
use super::*;
use crate::emit::quotient;

impl Writer<'_> {
    pub(super) fn unpack(&mut self, keys: &Keys) {
        self.forget();
        self.write_base(keys);
        let key = self.params[1];
        let fields = keys.describe();
        // What the part above holds of the number divided by where that part begins.
        let mut above = self.number(0);
        for part in parts(&fields).into_iter().rev() {
            let base = fields[part.start].1;
            let here = if base == 1 {
                key
            } else if keys.range() >= 1 << 31 {
                let base = self.number(base);
                self.b.ins().udiv(key, base)
            } else {
                divided(&mut self.b, key, base)
            };
            let total: u64 = fields[part.clone()].iter().map(|f| f.3).product();
            let whole = self.b.ins().imul_imm(above, total as i64);
            let number = self.b.ins().isub(here, whole);
            above = here;
            self.unpack_part(keys, number, base, part, &fields);
        }
        let zero = self.number(0);
        self.finish(zero);
    }

    /// Writes the values of some fields that lie together, from their part of the number.
    fn unpack_part(
        &mut self,
        keys: &Keys,
        number: Value,
        base: u64,
        part: Range<usize>,
        fields: &[Field<'_>],
    ) {
        let spread = self.table_of_four(1, |bit| bit as i32);
        // The number divided by what the field above counts.
        let mut above = self.number(0);
        let mut end = part.end;
        while end > part.start {
            let flags = four_flags(&fields[part.start..end]);
            let field = end - if flags.is_some() { 4 } else { 1 };
            let (described, stride, _, digits) = &fields[field];
            let digits = if flags.is_some() { 16 } else { *digits };
            // Each division is of the number itself, so none waits for another.
            let here = match stride / base {
                1 => number,
                by if by.is_power_of_two() => self.b.ins().ushr_imm(number, i64::from(by.trailing_zeros())),
                by => divided(&mut self.b, number, by),
            };
            let whole = self.b.ins().imul_imm(above, digits as i64);
            let digit = self.b.ins().isub(here, whole);
            above = here;
            end = field;
            if let Some(slot) = flags {
                self.write_four(digit, slot, spread);
                continue;
            }
            if Run::of(described, *stride).is_none() {
                self.b.ins().store(table(), digit, self.digits, (field * 8) as i32);
            }
            match *described {
                Described::Single { slot, values } => self.unpack_single(digit, slot, values),
                Described::Members { slots, least, most, firsts, ways } => {
                    self.unpack_members(digit, slots, (least, most), firsts, (ways, keys.base()));
                }
                Described::Order { slots, values, weights, inverses, parity } => {
                    self.unpack_order(digit, slots, values, (weights, inverses), parity);
                }
                Described::Sorted(lists) => self.unpack_sorted(digit, lists),
                Described::Other => self.call_field(write_field as *const () as usize, field, digit),
            }
        }
    }

    /// Writes the values that are in no field. Runs of them are copied, four at a time.
    fn write_base(&mut self, keys: &Keys) {
        let mut free = vec![false; keys.values_len()];
        for (_, _, slots, _) in keys.describe() {
            slots.into_iter().for_each(|s| free[s] = true);
        }
        // What moves wrote is taken back when they are done, so the fixed values are the same for all states of a machine. They
        // are written all the same: the machine may have loaded another state in between.
        let mut slot = 0;
        while slot < free.len() {
            if free[slot] {
                slot += 1;
                continue;
            }
            let base = &keys.base()[slot..];
            if slot + 4 <= free.len()
                && !free[slot..slot + 4].iter().any(|f| *f)
                && base[..4].iter().all(|v| *v == base[0])
            {
                self.store_same_four(base[0], slot);
                slot += 4;
            } else {
                let value = self.number(i64::from(base[0]) as u64);
                self.store_both(value, slot);
                slot += 1;
            }
        }
    }

    fn unpack_single(&mut self, digit: Value, slot: usize, values: &[i32]) {
        let in_a_row = values.windows(2).all(|w| w[1] == w[0] + 1);
        let value = if in_a_row {
            self.b.ins().iadd_imm(digit, i64::from(values[0]))
        } else {
            let table = self.table(values.iter().map(|v| i64::from(*v)).collect());
            self.entry(table, digit)
        };
        self.store_both(value, slot);
    }

    fn unpack_members(
        &mut self,
        digit: Value,
        slots: &[usize],
        (least, most): (usize, usize),
        firsts: &[u64],
        ((ways, row), base): ((&[u64], usize), &[i32]),
    ) {
        let (first_slot, last_slot) = (slots[0], slots[slots.len() - 1]);
        if firsts[most + 1] <= SETS_MAX && last_slot - first_slot < 64 {
            self.unpack_listed_members(digit, slots, (least, most), firsts, ((ways, row), base));
            return;
        }
        let firsts_at = self.table(firsts.iter().map(|f| *f as i64).collect());
        let ways_at = self.table(ways.iter().map(|w| *w as i64).collect());
        let members =
            set_members(&mut self.b, digit, slots.len(), (least, firsts), (firsts_at, ways_at, row));
        for (here, slot) in members.into_iter().zip(slots) {
            self.store_both(here, *slot);
        }
    }

    /// Few sets are listed: one bit a value from the first place to the last, spread over the values four at a time.
    fn unpack_listed_members(
        &mut self,
        digit: Value,
        slots: &[usize],
        (least, most): (usize, usize),
        firsts: &[u64],
        ((ways, row), base): ((&[u64], usize), &[i32]),
    ) {
        let (first, last) = (slots[0], slots[slots.len() - 1]);
        // Values in between that are in no field belong to the same set, and keep what they always hold.
        let mut fixed = 0u64;
        for (slot, value) in base.iter().enumerate().take(last + 1).skip(first) {
            if !slots.contains(&slot) {
                fixed |= u64::from(*value != 0) << (slot - first);
            }
        }
        let bits: Vec<u64> = slots.iter().map(|s| 1 << (s - first)).collect();
        let mut sets = listed_sets(&bits, (least, most), firsts, (ways, row));
        sets.iter_mut().for_each(|set| *set |= fixed as i64);
        let sets = self.table(sets);
        let bits = self.entry(sets, digit);
        let spread = self.table_of_four(1, |bit| bit as i32);
        let mut slot = first;
        while slot <= last {
            let here = self.b.ins().ushr_imm(bits, (slot - first) as i64);
            if last - slot >= 3 {
                let nibble = self.b.ins().band_imm(here, 15);
                self.write_four(nibble, slot, spread);
                slot += 4;
            } else {
                let bit = self.b.ins().band_imm(here, 1);
                self.store_both(bit, slot);
                slot += 1;
            }
        }
    }

    fn unpack_order(
        &mut self,
        digit: Value,
        slots: &[usize],
        values: &[i32],
        (weights, inverses): (&[u64], &[u64]),
        parity: Option<(bool, &[(u8, u32)])>,
    ) {
        let places = order_places(&mut self.b, digit, slots.len(), (weights, inverses), parity);
        for (place, value) in places.into_iter().zip(values) {
            let value = self.number(i64::from(*value) as u64);
            self.store_both_at(value, slots, place);
        }
    }

    /// Calls back with a field and its digit.
    fn call_field(&mut self, function: usize, field: usize, digit: Value) {
        let function = self.number(function as u64);
        let field = self.number(field as u64);
        self.b.ins().call_indirect(self.call_back, function, &[self.context, field, digit]);
    }
}

/// A field as [`Keys::describe`] gives it.
type Field<'k> = (Described<'k>, u64, Vec<usize>, u64);

/// Fields in parts of fewer than 2^31 numbers each, which are divided by multiplying; a larger field is a part of its own.
fn parts(fields: &[Field<'_>]) -> Vec<Range<usize>> {
    let mut out: Vec<Range<usize>> = vec![];
    let mut total = 1u64;
    for (i, field) in fields.iter().enumerate() {
        match out.last_mut() {
            Some(part) if total.saturating_mul(field.3) < 1 << 31 => {
                part.end = i + 1;
                total *= field.3;
            }
            _ => {
                out.push(i..i + 1);
                total = field.3;
            }
        }
    }
    out
}

/// Where the last four of some fields lie, if they are values of 0 or 1 in a row.
fn four_flags(fields: &[Field<'_>]) -> Option<usize> {
    let four = &fields[fields.len().checked_sub(4)?..];
    let Described::Single { slot: first, .. } = four[0].0 else { return None };
    let flag = |i: usize| matches!(four[i].0, Described::Single { slot, values } if slot == first + i && values == [0, 1]);
    (0..4).all(flag).then_some(first)
}

/// A quotient of a number below 2^31 and a fixed divisor, by multiplication: see [`quotient`].
pub(super) fn divided(b: &mut FunctionBuilder<'_>, x: Value, n: u64) -> Value {
    let (multiplier, shift) = quotient(n);
    let product = b.ins().imul_imm(x, multiplier as i64);
    b.ins().ushr_imm(product, i64::from(shift))
}

/// Takes entry `digit` out of a list of nibbles.
fn take(b: &mut FunctionBuilder<'_>, free: &mut Value, digit: Value) -> Value {
    let shift = b.ins().ishl_imm(digit, 2);
    let above = b.ins().ushr(*free, shift);
    let place = b.ins().band_imm(above, 15);
    let all = b.ins().iconst(I64, -1);
    let mask = b.ins().ishl(all, shift);
    let low = b.ins().band_not(*free, mask);
    let above = b.ins().ushr_imm(above, 4);
    let high = b.ins().ishl(above, shift);
    *free = b.ins().bor(low, high);
    place
}

/// For each place of a set whether it holds a member, from its digit. `firsts` says how many sets have fewer members than k, and is at
/// the first address; at the second one entry `n * row + k` is in how many ways k of n are chosen.
pub(super) fn set_members(
    b: &mut FunctionBuilder<'_>,
    digit: Value,
    len: usize,
    (least, firsts): (usize, &[u64]),
    (firsts_at, ways_at, row): (Value, Value, usize),
) -> Vec<Value> {
    // As many members as there are entries not above the digit, less one.
    let mut k = b.ins().iconst(I64, least as i64);
    for first in &firsts[least + 1..firsts.len() - 1] {
        let above = b.ins().icmp_imm(IntCC::UnsignedGreaterThanOrEqual, digit, *first as i64);
        let above = b.ins().uextend(I64, above);
        k = b.ins().iadd(k, above);
    }
    let first = entry_of(b, firsts_at, k);
    let mut rest = b.ins().isub(digit, first);
    let zero = b.ins().iconst(I64, 0);
    let mut out = vec![zero; len];
    for place in (0..len).rev() {
        let bytes = b.ins().ishl_imm(k, 3);
        let at = b.ins().iadd(ways_at, bytes);
        let flags = MemFlags::trusted().with_readonly();
        let below = b.ins().load(I64, flags, at, (place * row * 8) as i32);
        let here = b.ins().icmp(IntCC::UnsignedLessThanOrEqual, below, rest);
        let less = b.ins().select(here, below, zero);
        rest = b.ins().isub(rest, less);
        out[place] = b.ins().uextend(I64, here);
        k = b.ins().isub(k, out[place]);
    }
    out
}

/// For each value of an order its place, from the digit.
pub(super) fn order_places(
    b: &mut FunctionBuilder<'_>,
    digit: Value,
    len: usize,
    (weights, inverses): (&[u64], &[u64]),
    parity: Option<(bool, &[(u8, u32)])>,
) -> Vec<Value> {
    let mut free = b.ins().iconst(I64, 0xfedc_ba98_7654_3210_u64 as i64);
    let mut odd = b.ins().iconst(I64, 0);
    let (mut rest, mut places) = (digit, vec![]);
    let known = if parity.is_some() { len - 2 } else { len };
    for number in 0..known {
        let q = match weights[number] {
            1 => rest,
            _ => {
                let inverse = b.ins().iconst(I64, inverses[number] as i64);
                b.ins().umulhi(rest, inverse)
            }
        };
        let whole = b.ins().imul_imm(q, weights[number] as i64);
        rest = b.ins().isub(rest, whole);
        odd = b.ins().bxor(odd, q);
        let place = take(b, &mut free, q);
        for (_, bits) in parity.iter().flat_map(|p| p.1).filter(|c| usize::from(c.0) == number) {
            let bits = b.ins().iconst(I64, i64::from(*bits));
            let one = b.ins().ushr(bits, place);
            odd = b.ins().bxor(odd, one);
        }
        places.push(place);
    }
    if let Some((want, _)) = parity {
        let first = b.ins().band_imm(free, 15);
        let second = b.ins().ushr_imm(free, 4);
        let second = b.ins().band_imm(second, 15);
        let odd = b.ins().band_imm(odd, 1);
        let swap = b.ins().icmp_imm(IntCC::NotEqual, odd, i64::from(want));
        places.push(b.ins().select(swap, second, first));
        places.push(b.ins().select(swap, first, second));
    }
    places
}

/// All sets of a field `members` in the order of their digits, each as the sum of the bits of its places.
pub(super) fn listed_sets(
    bits: &[u64],
    (least, most): (usize, usize),
    firsts: &[u64],
    (ways, row): (&[u64], usize),
) -> Vec<i64> {
    let mut sets = Vec::with_capacity(firsts[most + 1] as usize);
    for k in least..=most {
        for rank in 0..firsts[k + 1] - firsts[k] {
            let (mut rest, mut left, mut place, mut set) = (rank, k, bits.len(), 0);
            while left > 0 {
                place -= 1;
                let below = ways[place * row + left];
                if below <= rest {
                    rest -= below;
                    left -= 1;
                    set |= bits[place];
                }
            }
            sets.push(set as i64);
        }
    }
    sets
}
