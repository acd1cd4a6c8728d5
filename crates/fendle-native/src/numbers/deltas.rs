//! What a leap does to the number of a state.

use fendle_lang::code::leaps::{Delta, Leap};

use super::key::{fits, ranked, set_rank};
use super::leaps::{LeapWriter, flags};
use super::*;

impl LeapWriter<'_> {
    /// Writes one leap. Gives where the next number goes.
    pub(super) fn leap(&mut self, leap: &Leap, out: Value) -> Value {
        let Leap::To(deltas) = leap else {
            self.b.ins().jump(self.ask, &[]);
            // Nothing follows.
            let never = self.b.create_block();
            self.b.switch_to_block(never);
            self.b.set_cold_block(never);
            return out;
        };
        let mut number = self.number;
        let mut sound = None;
        for delta in deltas {
            let change = match delta {
                Delta::Add(n) => {
                    number = self.b.ins().iadd_imm(number, *n);
                    continue;
                }
                Delta::Moved { field, from, to } => self.moved(*field, *from, *to),
                Delta::Members { field, on, off } => {
                    let (change, fits) = self.members(*field, *on, *off);
                    sound = Some(sound.map_or(fits, |s| self.b.ins().band(s, fits)));
                    change
                }
                Delta::Swapped { field, places } => self.swapped(*field, *places),
                Delta::Arranged { field, from } => self.arranged(*field, from),
            };
            let stride = match delta {
                Delta::Moved { field, .. }
                | Delta::Members { field, .. }
                | Delta::Swapped { field, .. }
                | Delta::Arranged { field, .. } => self.forms[field].stride,
                Delta::Add(_) => 1,
            };
            let change = self.b.ins().imul_imm(change, stride as i64);
            number = self.b.ins().iadd(number, change);
        }
        if let Some(sound) = sound
            && !self.backwards
        {
            let on = self.b.create_block();
            self.b.ins().brif(sound, on, &[], self.ask, &[]);
            self.b.switch_to_block(on);
        }
        self.b.ins().istore32(flags(), number, out, 0);
        let after = self.b.ins().iadd_imm(out, 4);
        match sound {
            Some(sound) if self.backwards => self.b.ins().select(sound, after, out),
            _ => after,
        }
    }

    /// How the digit of a set changes when one member moves: its own count, and that of each member that it passes.
    fn moved(&mut self, field: usize, from: u8, to: u8) -> Value {
        let Described::Members { ways: (ways, row), .. } = self.forms[&field].described else {
            unreachable!("members move in a set")
        };
        let word = self.forms[&field].word;
        let (lo, hi) = (usize::from(from.min(to)), usize::from(from.max(to)));
        let low = self.constant(((1u64 << lo) - 1) as i64);
        let below = self.b.ins().band(word, low);
        let below = self.b.ins().popcnt(below);
        // How a move from the lower place to the upper one changes the digit; member number k is the one with k - 1 below it.
        let entry = |k: usize, place: usize| ways.get(place * row + k).map_or(0, |w| *w as i64);
        let mut grown;
        if hi == lo + 1 {
            let steps = self.table((0..row).map(|k| entry(k + 1, hi) - entry(k + 1, lo)).collect());
            grown = self.entry(steps, below);
        } else {
            let between = ((1u64 << hi) - 1) & !((1u64 << (lo + 1)) - 1);
            let between = self.constant(between as i64);
            let between = self.b.ins().band(word, between);
            let passed = self.b.ins().popcnt(between);
            let of_lo = self.table((0..row).map(|k| entry(k + 1, lo)).collect());
            let of_hi = self.table((0..row).map(|k| entry(k + 1, hi)).collect());
            let left = self.entry(of_lo, below);
            let there = self.b.ins().iadd(below, passed);
            let got = self.entry(of_hi, there);
            grown = self.b.ins().isub(got, left);
            // The passed ones have one less below them than before.
            let falls: Vec<i64> = (lo + 1..hi)
                .flat_map(|place| (0..row).map(move |k| (place, k)))
                .map(|(place, k)| entry(k + 1, place) - entry(k + 2, place))
                .collect();
            let falls = self.table(falls);
            let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
            for _ in 0..3 {
                self.b.append_block_param(head, I64);
            }
            self.b.ins().jump(head, &[between, below, grown].map(BlockArg::Value));
            self.b.switch_to_block(head);
            let &[left, k, sum] = self.b.block_params(head) else { unreachable!("three parameters") };
            self.b.ins().brif(left, body, &[], done, &[]);
            self.b.switch_to_block(body);
            let place = self.b.ins().ctz(left);
            let place = self.b.ins().iadd_imm(place, -(lo as i64 + 1));
            let index = self.b.ins().imul_imm(place, row as i64);
            let index = self.b.ins().iadd(index, k);
            let fall = self.entry(falls, index);
            let sum_next = self.b.ins().iadd(sum, fall);
            let k_next = self.b.ins().iadd_imm(k, 1);
            let less = self.b.ins().iadd_imm(left, -1);
            let left_next = self.b.ins().band(left, less);
            self.b.ins().jump(head, &[left_next, k_next, sum_next].map(BlockArg::Value));
            self.b.switch_to_block(done);
            grown = sum;
        }
        if from < to { grown } else { self.b.ins().ineg(grown) }
    }

    /// How the digit of a set changes when members come and go, and whether there are as many as there can be.
    fn members(&mut self, field: usize, on: u64, off: u64) -> (Value, Value) {
        let Described::Members { slots, least, most, firsts, ways: (ways, row) } =
            self.forms[&field].described
        else {
            unreachable!("members come and go in a set")
        };
        let (word, digit) = (self.forms[&field].word, self.forms[&field].digit);
        let (on, off) = (self.constant(on as i64), self.constant(off as i64));
        let more = self.b.ins().bor(word, on);
        let set = self.b.ins().band_not(more, off);
        let len = self.b.ins().popcnt(set);
        let fits = fits(&mut self.b, len, (least, most));
        let counts = self.table(ways[..slots.len() * row].iter().map(|w| *w as i64).collect());
        let zero = self.constant(0);
        // Where there are too many nothing is looked up.
        let sound = self.b.ins().select(fits, set, zero);
        let k = self.b.ins().select(fits, len, zero);
        let rank = set_rank(&mut self.b, sound, counts, row);
        let firsts = self.table(firsts.iter().map(|f| *f as i64).collect());
        let first = self.entry(firsts, k);
        let new = self.b.ins().iadd(rank, first);
        (self.b.ins().isub(new, digit), fits)
    }

    /// How the digit of an order changes when two places exchange what they hold.
    ///
    /// Let u be the value with the earlier digit of the two, v the other one, and let u move up. Its own digit grows by one for
    /// the place that v leaves, and by one for each place between them that is taken later. The digit of a value between them,
    /// taken after u and before v, grows by one. That of v falls by one for each place between them that is taken after v.
    /// All others stay.
    fn swapped(&mut self, field: usize, (p, q): (u8, u8)) -> Value {
        let Described::Order { weights, .. } = self.forms[&field].described else {
            unreachable!("values are swapped in an order")
        };
        let first = |w: &Self, place: u8| w.known.contains(&((field, place), 0));
        let (first_p, first_q) = (first(self, p), first(self, q));
        let (x, y) = (self.at(field, p), self.at(field, q));
        let weights_at = self.table(weights.iter().map(|w| *w as i64).collect());
        let zero = self.constant(0);
        let between = i64::from(q - p - 1);
        if first_p || first_q {
            // Value number 0 is taken before all others.
            let v = if first_p { y } else { x };
            let mut grown = self.constant(weights[0] as i64 * (between + 1));
            if between > 0 {
                let of_v = self.entry(weights_at, v);
                for place in p + 1..q {
                    let z = self.at(field, place);
                    let weight = self.entry(weights_at, z);
                    let earlier = self.b.ins().icmp(IntCC::UnsignedLessThan, z, v);
                    let minus = self.b.ins().ineg(of_v);
                    let change = self.b.ins().select(earlier, weight, minus);
                    grown = self.b.ins().iadd(grown, change);
                }
            }
            return if first_p { grown } else { self.b.ins().ineg(grown) };
        }
        let (u, v) = (self.b.ins().umin(x, y), self.b.ins().umax(x, y));
        let (of_u, of_v) = (self.entry(weights_at, u), self.entry(weights_at, v));
        let mut grown = of_u;
        for place in p + 1..q {
            let z = self.at(field, place);
            let after_u = self.b.ins().icmp(IntCC::UnsignedGreaterThan, z, u);
            let after_v = self.b.ins().icmp(IntCC::UnsignedGreaterThan, z, v);
            let weight = self.entry(weights_at, z);
            let later_u = self.b.ins().select(after_u, of_u, zero);
            grown = self.b.ins().iadd(grown, later_u);
            let inside = self.b.ins().select(after_u, weight, zero);
            let minus = self.b.ins().ineg(of_v);
            let change = self.b.ins().select(after_v, minus, inside);
            grown = self.b.ins().iadd(grown, change);
        }
        let fallen = self.b.ins().ineg(grown);
        let up = self.b.ins().icmp(IntCC::UnsignedLessThan, x, y);
        self.b.ins().select(up, grown, fallen)
    }

    /// How the digit of an order changes when its places get what others held.
    fn arranged(&mut self, field: usize, from: &[u8]) -> Value {
        let Described::Order { weights, .. } = self.forms[&field].described else {
            unreachable!("values are arranged in an order")
        };
        let digit = self.forms[&field].digit;
        // Nibble i: the place of value number i.
        let mut places = self.constant(0);
        for (place, from) in from.iter().enumerate() {
            let number = self.at(field, *from);
            let shift = self.b.ins().ishl_imm(number, 2);
            let place = self.constant(place as i64);
            let nibble = self.b.ins().ishl(place, shift);
            places = self.b.ins().bor(places, nibble);
        }
        let (rank, _) = ranked(&mut self.b, places, weights);
        self.b.ins().isub(rank, digit)
    }
}
