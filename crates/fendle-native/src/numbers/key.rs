//! From the values that were changed to the number of a successor.

use super::*;
use crate::emit::heap;

/// A single value that can be all of some numbers in a row.
#[derive(Clone, Copy)]
pub(super) struct Run {
    pub(super) slot: usize,
    pub(super) lo: i32,
    pub(super) len: u32,
    stride: u64,
}

impl Run {
    pub(super) fn of(described: &Described<'_>, stride: u64) -> Option<Run> {
        let Described::Single { slot, values } = *described else { return None };
        let in_a_row = values.windows(2).all(|w| i64::from(w[1]) == i64::from(w[0]) + 1);
        in_a_row.then_some(Run { slot, lo: values[0], len: values.len() as u32, stride })
    }
}

impl Writer<'_> {
    pub(super) fn key(&mut self, keys: &Keys) {
        let words = (self.code.state_len as usize).div_ceil(64);
        let changed = self.changed_words();
        let mut fixed = vec![u64::MAX; words];
        let last = self.code.state_len as usize % 64;
        if last > 0 {
            fixed[words - 1] = (1 << last) - 1;
        }
        let mut sum = self.params[1];
        let mut runs: Vec<Run> = vec![];
        for (field, (described, stride, slots, _)) in keys.describe().into_iter().enumerate() {
            if let Some(run) = Run::of(&described, stride) {
                fixed[run.slot / 64] &= !(1 << (run.slot % 64));
                runs.push(run);
                continue;
            }
            let mut mask = vec![0u64; words];
            for s in &slots {
                mask[s / 64] |= 1 << (s % 64);
            }
            for (f, m) in fixed.iter_mut().zip(&mask) {
                *f &= !m;
            }
            let touched = self.any(&changed, &mask);
            let (here, on) = (self.b.create_block(), self.b.create_block());
            self.b.append_block_param(on, I64);
            self.b.ins().brif(touched, here, &[], on, &[BlockArg::Value(sum)]);
            self.b.switch_to_block(here);
            let digit = match described {
                Described::Single { slot, values } => self.key_single(slot, values),
                Described::Members { slots, least, most, firsts, ways }
                    if slots[slots.len() - 1] - slots[0] < 64 =>
                {
                    self.key_members(slots, (least, most), firsts, ways)
                }
                Described::Order { slots, values, weights, parity, .. } => {
                    self.swapped_or_ordered(field, &changed, slots, values, weights, parity)
                }
                Described::Sorted(lists) => self.moved_or_sorted(field, &changed, lists),
                _ => self.key_other(field),
            };
            let old = self.b.ins().load(I64, table(), self.digits, (field * 8) as i32);
            let change = self.b.ins().isub(digit, old);
            let change = self.b.ins().imul_imm(change, stride as i64);
            let new = self.b.ins().iadd(sum, change);
            self.b.ins().jump(on, &[BlockArg::Value(new)]);
            self.b.switch_to_block(on);
            sum = self.b.block_params(on)[0];
        }
        for (word, changed) in changed.iter().enumerate() {
            let here: Vec<Run> = runs.iter().filter(|r| r.slot / 64 == word).copied().collect();
            sum = self.key_runs(word, *changed, &here, sum);
        }
        // A value that never changes was written: the same one, or there is no number.
        let touched = self.any(&changed, &fixed);
        let (here, on) = (self.b.create_block(), self.b.create_block());
        self.b.ins().brif(touched, here, &[], on, &[]);
        self.b.switch_to_block(here);
        let function = self.number(fixed_field as *const () as usize as u64);
        let zero = self.number(0);
        let call = self.b.ins().call_indirect(self.call_back, function, &[self.context, zero, zero]);
        let same = self.b.inst_results(call)[0];
        self.unless_slow(same);
        self.b.ins().jump(on, &[]);
        self.b.switch_to_block(on);
        self.finish(sum);
    }

    /// Adds to a number what single values without gaps changed, one after the other: those of the bits of one word.
    fn key_runs(&mut self, word: usize, changed: Value, runs: &[Run], sum: Value) -> Value {
        let Some(first) = runs.first() else { return sum };
        let alike = runs.iter().all(|r| (r.lo, r.len) == (first.lo, first.len));
        // What the digit counts, the least value, how many values there can be.
        let row = |r: &Run| (r.slot, [r.stride as i64, i64::from(r.lo), i64::from(r.len), 0]);
        let rows: Vec<_> = runs.iter().map(row).collect();
        self.for_each_change((word, changed), &rows, sum, |w, change, sum| {
            let inside = if alike {
                let above = w.b.ins().iadd_imm(change.is, -i64::from(first.lo));
                w.b.ins().icmp_imm(IntCC::UnsignedLessThan, above, i64::from(first.len))
            } else {
                let (lo, len) = (w.of_row(change, 1), w.of_row(change, 2));
                let above = w.b.ins().isub(change.is, lo);
                w.b.ins().icmp(IntCC::UnsignedLessThan, above, len)
            };
            w.unless_slow(inside);
            let stride = w.of_row(change, 0);
            let change = w.b.ins().isub(change.is, change.was);
            let change = w.b.ins().imul(change, stride);
            w.b.ins().iadd(sum, change)
        })
    }

    /// The digit of a value that can be some numbers with gaps between them.
    fn key_single(&mut self, slot: usize, values: &[i32]) -> Value {
        let value = self.load_now(slot);
        let (lo, hi) = (i64::from(values[0]), i64::from(values[values.len() - 1]));
        let above = self.b.ins().iadd_imm(value, -lo);
        let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, above, hi - lo);
        self.unless_slow(inside);
        if hi - lo > 1 << 16 {
            // Far apart: looked for one after the other.
            let mut found = self.number(SLOW);
            for (digit, v) in values.iter().enumerate() {
                let here = self.b.ins().icmp_imm(IntCC::Equal, value, i64::from(*v));
                let digit = self.number(digit as u64);
                found = self.b.ins().select(here, digit, found);
            }
            let known = self.b.ins().icmp_imm(IntCC::NotEqual, found, -1);
            self.unless_slow(known);
            return found;
        }
        let mut digits = vec![-1; (hi - lo) as usize + 1];
        for (digit, v) in values.iter().enumerate() {
            digits[(i64::from(*v) - lo) as usize] = digit as i64;
        }
        let table = self.table(digits);
        let digit = self.entry(table, above);
        let known = self.b.ins().icmp_imm(IntCC::SignedGreaterThanOrEqual, digit, 0);
        self.unless_slow(known);
        digit
    }

    fn key_members(
        &mut self,
        slots: &[usize],
        (least, most): (usize, usize),
        firsts: &[u64],
        (ways, row): (&[u64], usize),
    ) -> Value {
        // One bit a place, four at a time.
        let (first, last) = (slots[0], slots[slots.len() - 1]);
        let mut bits = self.number(0);
        let mut i = first;
        while i <= last {
            let n = if last - i >= 3 { 4 } else { 1 };
            let at = self.now(i);
            let here = if n == 4 {
                let values = self.b.ins().load(I32X4, loose(), self.mem, at);
                let zero = self.b.ins().iconst(I32, 0);
                let zero = self.b.ins().splat(I32X4, zero);
                let set = self.b.ins().icmp(IntCC::NotEqual, values, zero);
                let bits = self.b.ins().vhigh_bits(I32, set);
                self.b.ins().uextend(I64, bits)
            } else {
                let value = self.load_now(i);
                let set = self.b.ins().icmp_imm(IntCC::NotEqual, value, 0);
                self.b.ins().uextend(I64, set)
            };
            let here = self.b.ins().ishl_imm(here, (i - first) as i64);
            bits = self.b.ins().bor(bits, here);
            i += n;
        }
        let mask: u64 = slots.iter().map(|s| 1u64 << (s - first)).sum();
        let bits = self.b.ins().band_imm(bits, mask as i64);
        // For each bit, what it counts as member number k.
        let mut by_bit = vec![0i64; (last - first + 1) * row];
        for (n, slot) in slots.iter().enumerate() {
            for k in 0..row {
                by_bit[(slot - first) * row + k] = ways[n * row + k] as i64;
            }
        }
        let counts = self.table(by_bit);
        let firsts = self.table(firsts.iter().map(|f| *f as i64).collect());
        let k = self.b.ins().popcnt(bits);
        let fits = fits(&mut self.b, k, (least, most));
        self.unless_slow(fits);
        let rank = set_rank(&mut self.b, bits, counts, row);
        let before = self.entry(firsts, k);
        self.b.ins().iadd(rank, before)
    }

    /// The digit of an arrangement: where just two values were swapped that lie near to each other, from the old one; else all
    /// over again.
    ///
    /// Let u be the value with the earlier digit of the two, v the other one, and let u move up. Its own digit grows by one for
    /// the place that v leaves, and by one for each place between them that is taken later. The digit of a value between them,
    /// taken after u and before v, grows by one. That of v falls by one for each place between them that is taken after v.
    /// All others stay.
    #[expect(clippy::too_many_lines, reason = "two ways to write one digit, which share what they read")]
    fn swapped_or_ordered(
        &mut self,
        field: usize,
        changed: &[Value],
        slots: &[usize],
        values: &[i32],
        weights: &[u64],
        parity: Option<(bool, &[(u8, u32)])>,
    ) -> Value {
        let first = slots[0];
        let in_a_row = slots.windows(2).all(|w| w[1] == w[0] + 1);
        let in_one_word = first / 64 == slots[slots.len() - 1] / 64;
        if !in_a_row || !in_one_word || slots.len() < 3 {
            return self.key_order(slots, values, weights, parity);
        }
        let (two, near, fast) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        let (slow, done) = (self.b.create_block(), self.b.create_block());
        self.b.append_block_param(done, I64);
        // Which two places: p below q.
        let bits = self.b.ins().ushr_imm(changed[first / 64], (first % 64) as i64);
        let bits = self.b.ins().band_imm(bits, (1i64 << slots.len()) - 1);
        let less = self.b.ins().iadd_imm(bits, -1);
        let upper = self.b.ins().band(bits, less);
        let lower_gone = self.b.ins().iadd_imm(upper, -1);
        let third = self.b.ins().band(upper, lower_gone);
        let has_upper = self.b.ins().icmp_imm(IntCC::NotEqual, upper, 0);
        let no_third = self.b.ins().icmp_imm(IntCC::Equal, third, 0);
        let is_two = self.b.ins().band(has_upper, no_third);
        self.b.ins().brif(is_two, two, &[], slow, &[]);
        self.b.switch_to_block(two);
        let (p, q) = (self.b.ins().ctz(bits), self.b.ins().ctz(upper));
        let far = self.b.ins().isub(q, p);
        let value = |w: &mut Self, place: Value, before: bool| {
            let bytes = w.b.ins().ishl_imm(place, 2);
            let at = w.b.ins().iadd(w.mem, bytes);
            let offset = if before { w.before(first) } else { w.now(first) };
            w.b.ins().sload32(heap(), at, offset)
        };
        let (p_was, q_was) = (value(self, p, true), value(self, q, true));
        let (p_is, q_is) = (value(self, p, false), value(self, q, false));
        let same_p = self.b.ins().icmp(IntCC::Equal, p_is, q_was);
        let same_q = self.b.ins().icmp(IntCC::Equal, q_is, p_was);
        let swapped = self.b.ins().band(same_p, same_q);
        let is_near = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, far, NEAR);
        let easy = self.b.ins().band(swapped, is_near);
        self.b.ins().brif(easy, near, &[], slow, &[]);
        self.b.switch_to_block(near);
        // All values are those of the arrangement before, so each has a number.
        let lo = values.iter().copied().min().unwrap_or(0);
        let hi = values.iter().copied().max().unwrap_or(0);
        let mut numbers = vec![0i64; (hi - lo) as usize + 1];
        for (i, v) in values.iter().enumerate() {
            numbers[(v - lo) as usize] = i as i64;
        }
        let numbers = self.table(numbers);
        let weights_at = self.table(weights.iter().map(|w| *w as i64).collect());
        let most = self.number((hi - lo) as u64);
        let number_of = |w: &mut Self, value: Value| {
            let above = w.b.ins().iadd_imm(value, -i64::from(lo));
            let index = w.b.ins().umin(above, most);
            w.entry(numbers, index)
        };
        let (a, b) = (number_of(self, p_was), number_of(self, q_was));
        let (u, v) = (self.b.ins().umin(a, b), self.b.ins().umax(a, b));
        let (head, body) = (self.b.create_block(), self.b.create_block());
        for _ in 0..4 {
            self.b.append_block_param(head, I64);
        }
        let (zero, next) = (self.number(0), self.b.ins().iadd_imm(p, 1));
        let args = [next, zero, zero, zero].map(BlockArg::Value);
        self.b.ins().jump(head, &args);
        self.b.switch_to_block(head);
        let &[place, after_u, after_v, between] = self.b.block_params(head) else {
            unreachable!("four parameters")
        };
        let left = self.b.ins().icmp(IntCC::UnsignedLessThan, place, q);
        self.b.ins().brif(left, body, &[], fast, &[]);
        self.b.switch_to_block(body);
        let x = value(self, place, false);
        let x = number_of(self, x);
        let later_u = self.b.ins().icmp(IntCC::UnsignedGreaterThan, x, u);
        let later_v = self.b.ins().icmp(IntCC::UnsignedGreaterThan, x, v);
        let weight = self.entry(weights_at, x);
        let earlier_v = self.b.ins().icmp(IntCC::UnsignedLessThan, x, v);
        let inside = self.b.ins().band(later_u, earlier_v);
        let counted = self.b.ins().select(inside, weight, zero);
        let (later_u, later_v) = (self.b.ins().uextend(I64, later_u), self.b.ins().uextend(I64, later_v));
        let args = [
            self.b.ins().iadd_imm(place, 1),
            self.b.ins().iadd(after_u, later_u),
            self.b.ins().iadd(after_v, later_v),
            self.b.ins().iadd(between, counted),
        ];
        self.b.ins().jump(head, &args.map(BlockArg::Value));
        self.b.switch_to_block(fast);
        let (weight_u, weight_v) = (self.entry(weights_at, u), self.entry(weights_at, v));
        let steps = self.b.ins().iadd_imm(after_u, 1);
        let of_u = self.b.ins().imul(weight_u, steps);
        let of_v = self.b.ins().imul(weight_v, after_v);
        let grown = self.b.ins().iadd(of_u, between);
        let grown = self.b.ins().isub(grown, of_v);
        let fallen = self.b.ins().ineg(grown);
        let up = self.b.ins().icmp(IntCC::UnsignedLessThan, a, b);
        let change = self.b.ins().select(up, grown, fallen);
        let old = self.b.ins().load(I64, table(), self.digits, (field * 8) as i32);
        let digit = self.b.ins().iadd(old, change);
        self.b.ins().jump(done, &[BlockArg::Value(digit)]);
        self.b.switch_to_block(slow);
        let digit = self.key_order(slots, values, weights, parity);
        self.b.ins().jump(done, &[BlockArg::Value(digit)]);
        self.b.switch_to_block(done);
        self.b.block_params(done)[0]
    }

    fn key_order(
        &mut self,
        slots: &[usize],
        values: &[i32],
        weights: &[u64],
        parity: Option<(bool, &[(u8, u32)])>,
    ) -> Value {
        let n = slots.len();
        let lo = values.iter().copied().min().unwrap_or(0);
        let hi = values.iter().copied().max().unwrap_or(0);
        let in_order = values.iter().enumerate().all(|(i, v)| *v == lo + i as i32);
        let numbers = if in_order {
            None
        } else {
            let mut numbers = vec![15i64; (hi - lo) as usize + 1];
            for (i, v) in values.iter().enumerate() {
                numbers[(v - lo) as usize] = i as i64;
            }
            Some(self.table(numbers))
        };
        // Nibble i: the place of value number i.
        let mut places = self.number(0);
        let mut seen = self.number(0);
        let mut inside = None;
        let one = self.number(1);
        let most = self.number((hi - lo) as u64);
        for (place, slot) in slots.iter().enumerate() {
            let value = self.load_now(*slot);
            let above = self.b.ins().iadd_imm(value, -i64::from(lo));
            let ok = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, above, i64::from(hi - lo));
            inside = Some(match inside {
                None => ok,
                Some(x) => self.b.ins().band(x, ok),
            });
            let number = match numbers {
                None => above,
                Some(table) => {
                    let index = self.b.ins().umin(above, most);
                    self.entry(table, index)
                }
            };
            let bit = self.b.ins().ishl(one, number);
            seen = self.b.ins().bor(seen, bit);
            let shift = self.b.ins().ishl_imm(number, 2);
            let place = self.number(place as u64);
            let nibble = self.b.ins().ishl(place, shift);
            places = self.b.ins().bor(places, nibble);
        }
        let all = self.b.ins().icmp_imm(IntCC::Equal, seen, (1i64 << n) - 1);
        let sound = match inside {
            None => all,
            Some(x) => self.b.ins().band(x, all),
        };
        self.unless_slow(sound);
        let (rank, mut odd) = ranked(&mut self.b, places, weights);
        if let Some((want, counts)) = parity {
            for (number, bits) in counts {
                let place = self.b.ins().ushr_imm(places, i64::from(*number) * 4);
                let place = self.b.ins().band_imm(place, 15);
                let bits = self.number(u64::from(*bits));
                let one = self.b.ins().ushr(bits, place);
                odd = self.b.ins().bxor(odd, one);
            }
            let odd = self.b.ins().band_imm(odd, 1);
            let sound = self.b.ins().icmp_imm(IntCC::Equal, odd, i64::from(want));
            self.unless_slow(sound);
        }
        rank
    }

    fn key_other(&mut self, field: usize) -> Value {
        let function = self.number(digit_field as *const () as usize as u64);
        let (field, zero) = (self.number(field as u64), self.number(0));
        let call = self.b.ins().call_indirect(self.call_back, function, &[self.context, field, zero]);
        let digit = self.b.inst_results(call)[0];
        let known = self.b.ins().icmp_imm(IntCC::NotEqual, digit, -1);
        self.unless_slow(known);
        digit
    }
}

/// The rank of an arrangement, and a number that is odd where the sum of its digits is: nibble i of `places` is the place of value
/// number i.
pub(super) fn ranked(b: &mut FunctionBuilder<'_>, places: Value, weights: &[u64]) -> (Value, Value) {
    // Nibble p: how many free places lie before place p.
    let mut before = b.ins().iconst(I64, 0xfedc_ba98_7654_3210_u64 as i64);
    let ones = b.ins().iconst(I64, 0x1111_1111_1111_1110);
    let mut rank = b.ins().iconst(I64, 0);
    let mut odd = b.ins().iconst(I64, 0);
    for (number, weight) in weights.iter().enumerate().take(weights.len() - 1) {
        let place = b.ins().ushr_imm(places, (number * 4) as i64);
        let place = b.ins().band_imm(place, 15);
        let shift = b.ins().ishl_imm(place, 2);
        let digit = b.ins().ushr(before, shift);
        let digit = b.ins().band_imm(digit, 15);
        let less = b.ins().ishl(ones, shift);
        before = b.ins().isub(before, less);
        odd = b.ins().bxor(odd, digit);
        if *weight > 0 {
            let counts = b.ins().imul_imm(digit, *weight as i64);
            rank = b.ins().iadd(rank, counts);
        }
    }
    (rank, odd)
}

/// Whether there are as many members as there can be.
pub(super) fn fits(b: &mut FunctionBuilder<'_>, len: Value, (least, most): (usize, usize)) -> Value {
    let enough = b.ins().icmp_imm(IntCC::UnsignedGreaterThanOrEqual, len, least as i64);
    let few = b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, len, most as i64);
    b.ins().band(enough, few)
}

/// The rank of a set among those of its size: at `counts` entry `bit * row + k` is what a bit counts as member number k. There must be
/// fewer members than a row has entries.
pub(super) fn set_rank(b: &mut FunctionBuilder<'_>, set: Value, counts: Value, row: usize) -> Value {
    let (head, body, done) = (b.create_block(), b.create_block(), b.create_block());
    for _ in 0..3 {
        b.append_block_param(head, I64);
    }
    let zero = b.ins().iconst(I64, 0);
    b.ins().jump(head, &[set, zero, zero].map(BlockArg::Value));
    b.switch_to_block(head);
    let &[left, k, rank] = b.block_params(head) else { unreachable!("three parameters") };
    b.ins().brif(left, body, &[], done, &[]);
    b.switch_to_block(body);
    let k_next = b.ins().iadd_imm(k, 1);
    let bit = b.ins().ctz(left);
    let index = b.ins().imul_imm(bit, row as i64);
    let index = b.ins().iadd(index, k_next);
    let count = entry_of(b, counts, index);
    let rank_next = b.ins().iadd(rank, count);
    let less = b.ins().iadd_imm(left, -1);
    let left_next = b.ins().band(left, less);
    b.ins().jump(head, &[left_next, k_next, rank_next].map(BlockArg::Value));
    b.switch_to_block(done);
    rank
}
