//! Sets of cells as bits of a register.

use fendle_lang::code::ir::Comparison;

use super::*;

/// The same comparison, as the processor names it.
fn condition(how: Comparison) -> IntCC {
    match how {
        Comparison::Equal => IntCC::Equal,
        Comparison::Differs => IntCC::NotEqual,
        Comparison::Below => IntCC::SignedLessThan,
        Comparison::AtMost => IntCC::SignedLessThanOrEqual,
        Comparison::Above => IntCC::SignedGreaterThan,
        Comparison::AtLeast => IntCC::SignedGreaterThanOrEqual,
    }
}

impl Emitter<'_> {
    /// Compares blocks, four values at a time.
    pub(super) fn compare_blocks(&mut self, op: &Op) {
        match *op {
            Op::CompareBlocks { d, a, b, n, how } => {
                let found = self.compared(how, n.into(), |e, i, len| {
                    if len == 4 {
                        (e.load_four(a.0 + i), e.load_four(b.0 + i))
                    } else {
                        (e.load_one(a.0 + i, I32), e.load_one(b.0 + i, I32))
                    }
                });
                self.set(d, found);
            }
            Op::Compare { d, a, v, n, how } => {
                let v = self.get(v);
                // Values of blocks have 32 bits: a number that has more compares the same way with all of them.
                let fits = self.is_small(v);
                let one = self.b.ins().ireduce(I32, v);
                let four = self.b.ins().splat(I32X4, one);
                let found = self.compared(how, n.into(), |e, i, len| {
                    if len == 4 { (e.load_four(a.0 + i), four) } else { (e.load_one(a.0 + i, I32), one) }
                });
                if self.known(v).is_some_and(|v| i32::try_from(v).is_ok()) {
                    self.set(d, found);
                } else {
                    self.or_step(fits, op, Some((d, found)));
                }
            }
            _ => unreachable!("only comparisons of blocks are sent here"),
        }
    }

    /// Bit `i` says how the values number `i` compare; `load` gives those from `i` on, four or one.
    fn compared(
        &mut self,
        how: Comparison,
        n: u32,
        mut load: impl FnMut(&mut Self, u32, u32) -> (Value, Value),
    ) -> Value {
        let mut found = self.number(0);
        let mut i = 0;
        while i < n {
            let len = if n - i >= 4 { 4 } else { 1 };
            let (a, b) = load(self, i, len);
            let hit = self.b.ins().icmp(condition(how), a, b);
            let hit = if len == 4 { self.b.ins().vhigh_bits(I32, hit) } else { hit };
            let hit = self.b.ins().uextend(I64, hit);
            let hit = self.b.ins().ishl_imm(hit, i64::from(i));
            found = self.b.ins().bor(found, hit);
            i += len;
        }
        found
    }

    /// Operations on words of bits.
    pub(super) fn bits(&mut self, op: &Op) {
        match *op {
            Op::BitAnd { d, a, b } => {
                let (a, b) = (self.get(a), self.get(b));
                let v = self.b.ins().band(a, b);
                self.set(d, v);
            }
            Op::BitOr { d, a, b } => {
                let (a, b) = (self.get(a), self.get(b));
                let v = self.b.ins().bor(a, b);
                self.set(d, v);
            }
            Op::BitMinus { d, a, b } => {
                let (a, b) = (self.get(a), self.get(b));
                let v = self.b.ins().band_not(a, b);
                self.set(d, v);
            }
            Op::BitMove { d, s, by } => {
                let s = self.get(s);
                let v = match by {
                    0..64 => self.b.ins().ishl_imm(s, i64::from(by)),
                    -63..0 => self.b.ins().ushr_imm(s, i64::from(-by)),
                    _ => self.number(0),
                };
                self.set(d, v);
            }
            Op::BitCount { d, s } => {
                let s = self.get(s);
                let v = self.b.ins().popcnt(s);
                self.set(d, v);
            }
            Op::NextBit { d, s, to } => {
                let (from, s) = (self.get(d), self.get(s));
                // Shifts count modulo 64, so what lies behind all bits is set apart.
                let ones = self.number(-1);
                let left = self.b.ins().ishl(ones, from);
                let left = self.b.ins().band(s, left);
                let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, from, 64);
                let zero = self.number(0);
                let left = self.b.ins().select(inside, left, zero);
                let none = self.b.ins().icmp_imm(IntCC::Equal, left, 0);
                self.jump_if(none, to);
                let next = self.b.ins().ctz(left);
                self.set(d, next);
            }
            _ => unreachable!("only operations on bits are sent here"),
        }
    }
}
