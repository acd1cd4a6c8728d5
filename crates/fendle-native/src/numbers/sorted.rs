//! Lists that together hold each number once and are sorted: one digit a number, on which list it is.

use fendle_lang::state::keys::{Sorted, Sorting};

use super::*;
use crate::emit::heap;
use crate::numbers::unpack::divided;

impl Writer<'_> {
    /// Writes the lists of a digit. Their lengths lie in one word, a byte each; there are at most eight lists of fewer than 64 places.
    pub(super) fn unpack_sorted(&mut self, digit: Value, of: &Sorted) {
        let len = of.start(of.lists);
        let pad = self.b.ins().iconst(I32, i64::from(of.pad as u32));
        let four = self.b.ins().splat(I32X4, pad);
        let mut slot = of.slot;
        while slot < of.slot + len {
            let (value, n) = if of.slot + len - slot >= 4 { (four, 4) } else { (pad, 1) };
            let (before, now) = (self.before(slot), self.now(slot));
            self.b.ins().store(loose(), value, self.mem, before);
            self.b.ins().store(loose(), value, self.mem, now);
            slot += n;
        }
        let mut lengths = self.number(0);
        let mut above = self.number(0);
        let small = of.total < 1 << 31;
        for (at, weight) in of.weights.iter().enumerate().rev() {
            let here = match weight {
                1 => digit,
                _ if small => divided(&mut self.b, digit, *weight),
                _ => {
                    let weight = self.number(*weight);
                    self.b.ins().udiv(digit, weight)
                }
            };
            let whole = self.b.ins().imul_imm(above, of.lists as i64);
            let list = self.b.ins().isub(here, whole);
            above = here;
            let shift = self.b.ins().ishl_imm(list, 3);
            let one = self.number(1);
            let more = self.b.ins().ishl(one, shift);
            lengths = self.b.ins().iadd(lengths, more);
            let height = self.b.ins().ushr(lengths, shift);
            let height = self.b.ins().band_imm(height, 0xff);
            let start = self.b.ins().imul_imm(list, of.start(1) as i64);
            let place = self.b.ins().iadd(start, height);
            // A number below the range has such digits only; what lies outside would be another value of the state.
            let last = self.number(len as u64 - 1);
            let place = self.b.ins().umin(place, last);
            let bytes = self.b.ins().ishl_imm(place, 2);
            let address = self.b.ins().iadd(self.mem, bytes);
            let value = self.number(i64::from(of.number(at)) as u64);
            let (before, now) = (self.before(of.slot), self.now(of.slot));
            self.b.ins().istore32(heap(), value, address, before);
            self.b.ins().istore32(heap(), value, address, now);
        }
        for list in 0..of.lists {
            let height = self.b.ins().ushr_imm(lengths, 8 * list as i64);
            let height = self.b.ins().band_imm(height, 0xff);
            self.store_both(height, of.slot + of.start(list));
        }
    }

    /// Whether one list is one number shorter than before, another one is one longer, and all others are as long as they were; and which ones these
    /// are: one more than their numbers, so that 0 is none.
    fn one_moved(&mut self, of: &Sorted) -> (Value, Value, Value) {
        let (mut gives, mut takes, mut others) = (self.number(0), self.number(0), self.number(0));
        for list in 0..of.lists {
            let first = of.slot + of.start(list);
            let (at, now) = (self.before(first), self.load_now(first));
            let before = self.b.ins().sload32(heap(), self.mem, at);
            let grown = self.b.ins().isub(now, before);
            let number = self.number(list as u64 + 1);
            for (by, which) in [(-1, &mut gives), (1, &mut takes)] {
                let is = self.b.ins().icmp_imm(IntCC::Equal, grown, by);
                *which = self.b.ins().select(is, number, *which);
            }
            let other = self.b.ins().icmp_imm(IntCC::NotEqual, grown, 0);
            let other = self.b.ins().uextend(I64, other);
            others = self.b.ins().iadd(others, other);
        }
        let two = self.b.ins().icmp_imm(IntCC::Equal, others, 2);
        let gave = self.b.ins().icmp_imm(IntCC::NotEqual, gives, 0);
        let took = self.b.ins().icmp_imm(IntCC::NotEqual, takes, 0);
        let both = self.b.ins().band(gave, took);
        (self.b.ins().band(two, both), gives, takes)
    }

    /// The digit of the lists now: where one number went from the end of a list to the end of another one and nothing else was written, from
    /// the old one; else all over again.
    pub(super) fn moved_or_sorted(&mut self, field: usize, changed: &[Value], of: &Sorted) -> Value {
        let len = of.start(of.lists);
        if len > 64 {
            return self.key_sorted(of);
        }
        let (one, fast) = (self.b.create_block(), self.b.create_block());
        let (slow, done) = (self.b.create_block(), self.b.create_block());
        self.b.append_block_param(done, I64);
        let (is_one, gives, takes) = self.one_moved(of);
        self.b.ins().brif(is_one, one, &[], slow, &[]);
        self.b.switch_to_block(one);
        let first_of = |w: &mut Self, number: Value| {
            let list = w.b.ins().iadd_imm(number, -1);
            w.b.ins().imul_imm(list, of.start(1) as i64)
        };
        let value = |w: &mut Self, place: Value, before: bool| {
            let last = w.number(len as u64 - 1);
            let place = w.b.ins().umin(place, last);
            let bytes = w.b.ins().ishl_imm(place, 2);
            let address = w.b.ins().iadd(w.mem, bytes);
            let at = if before { w.before(of.slot) } else { w.now(of.slot) };
            w.b.ins().sload32(heap(), address, at)
        };
        let (from, to) = (first_of(self, gives), first_of(self, takes));
        let (was_len, is_len) = (value(self, from, true), value(self, to, false));
        let fits = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, is_len, of.cap as i64);
        self.unless_slow(fits);
        // The places of the number before and now, and what lies under it now: its length, if nothing does.
        let was_at = self.b.ins().iadd(from, was_len);
        let is_at = self.b.ins().iadd(to, is_len);
        let under_at = self.b.ins().iadd_imm(is_at, -1);
        let (was, is, under) =
            (value(self, was_at, true), value(self, is_at, false), value(self, under_at, false));
        let (at, below) = (self.distance(of, is), self.distance(of, under));
        let same = self.b.ins().icmp(IntCC::Equal, was, is);
        let sorted = self.b.ins().icmp(IntCC::SignedLessThan, at, below);
        let first = self.b.ins().icmp_imm(IntCC::Equal, is_len, 1);
        let sorted = self.b.ins().bor(sorted, first);
        // What was written lies there, or is a length.
        let (word, bit) = (of.slot / 64, (of.slot % 64) as i64);
        let mut written = self.b.ins().ushr_imm(changed[word], bit);
        if bit > 0 && word + 1 < changed.len() {
            let more = self.b.ins().ishl_imm(changed[word + 1], 64 - bit);
            written = self.b.ins().bor(written, more);
        }
        let unit = self.number(1);
        let (mine, new) = (self.b.ins().ishl(unit, was_at), self.b.ins().ishl(unit, is_at));
        let allowed = self.b.ins().bor(mine, new);
        let lengths: u64 = (0..of.lists).map(|list| 1 << of.start(list)).sum();
        let beyond = if len == 64 { 0 } else { u64::MAX << len };
        let allowed = self.b.ins().bor_imm(allowed, (lengths | beyond) as i64);
        let rest = self.b.ins().band_not(written, allowed);
        let nothing_else = self.b.ins().icmp_imm(IntCC::Equal, rest, 0);
        let easy = self.b.ins().band(same, sorted);
        let easy = self.b.ins().band(easy, nothing_else);
        self.b.ins().brif(easy, fast, &[], slow, &[]);
        self.b.switch_to_block(fast);
        // The number was there before, so it has a weight.
        let last = self.number(of.weights.len() as u64 - 1);
        let at = self.b.ins().umin(at, last);
        let weights = self.table(of.weights.iter().map(|w| *w as i64).collect());
        let weight = self.entry(weights, at);
        let lists = self.b.ins().isub(takes, gives);
        let change = self.b.ins().imul(weight, lists);
        let old = self.b.ins().load(I64, table(), self.digits, (field * 8) as i32);
        let new = self.b.ins().iadd(old, change);
        self.b.ins().jump(done, &[BlockArg::Value(new)]);
        self.b.switch_to_block(slow);
        let all = self.key_sorted(of);
        self.b.ins().jump(done, &[BlockArg::Value(all)]);
        self.b.switch_to_block(done);
        self.b.block_params(done)[0]
    }

    /// How far a number stands from the one that comes last on every list.
    fn distance(&mut self, of: &Sorted, value: Value) -> Value {
        let last = i64::from(of.last);
        if of.sorting == Sorting::Falls {
            self.b.ins().iadd_imm(value, -last)
        } else {
            let last = self.number(last as u64);
            self.b.ins().isub(last, value)
        }
    }

    /// The digit of the lists now. Where one is not sorted, or a number is missing or there twice, there is none.
    pub(super) fn key_sorted(&mut self, of: &Sorted) -> Value {
        let n = of.weights.len();
        let (mut rank, mut seen, mut count) = (self.number(0), self.number(0), self.number(0));
        for list in 0..of.lists {
            let first = of.slot + of.start(list);
            let len = self.load_now(first);
            let fits = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, len, of.cap as i64);
            self.unless_slow(fits);
            count = self.b.ins().iadd(count, len);
            let weights = of.weights.iter().map(|w| (*w * list as u64) as i64).collect();
            let weights = self.table(weights);
            let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
            // Places looked at, the number below, the sum so far, and what was seen.
            for _ in 0..4 {
                self.b.append_block_param(head, I64);
            }
            let (zero, all) = (self.number(0), self.number(n as u64));
            self.b.ins().jump(head, &[zero, all, rank, seen].map(BlockArg::Value));
            self.b.switch_to_block(head);
            let &[i, below, sum, met] = self.b.block_params(head) else { unreachable!("four parameters") };
            let more = self.b.ins().icmp(IntCC::UnsignedLessThan, i, len);
            self.b.ins().brif(more, body, &[], done, &[]);
            self.b.switch_to_block(body);
            let bytes = self.b.ins().ishl_imm(i, 2);
            let address = self.b.ins().iadd(self.mem, bytes);
            let now = self.now(first + 1);
            let value = self.b.ins().sload32(heap(), address, now);
            let at = self.distance(of, value);
            let sorted = self.b.ins().icmp(IntCC::UnsignedLessThan, at, below);
            self.unless_slow(sorted);
            let counts = self.entry(weights, at);
            let more = self.b.ins().iadd(sum, counts);
            let one = self.number(1);
            let bit = self.b.ins().ishl(one, at);
            let also = self.b.ins().bor(met, bit);
            let next = self.b.ins().iadd_imm(i, 1);
            self.b.ins().jump(head, &[next, at, more, also].map(BlockArg::Value));
            self.b.switch_to_block(done);
            (rank, seen) = (sum, met);
        }
        let all = self.b.ins().icmp_imm(IntCC::Equal, count, n as i64);
        let each = self.b.ins().icmp_imm(IntCC::Equal, seen, ((1u64 << n) - 1) as i64);
        let once = self.b.ins().band(all, each);
        self.unless_slow(once);
        rank
    }
}
