//! Sets of cells as bits of a register.

use fendle_lang::code::ir::Comparison;

use super::*;
use cranelift_codegen::ir::condcodes::CondCode;

/// The same comparison, as the processor names it.
pub(super) fn condition(how: Comparison) -> IntCC {
    match how {
        Comparison::Equal => IntCC::Equal,
        Comparison::Differs => IntCC::NotEqual,
        Comparison::Below => IntCC::SignedLessThan,
        Comparison::AtMost => IntCC::SignedLessThanOrEqual,
        Comparison::Above => IntCC::SignedGreaterThan,
        Comparison::AtLeast => IntCC::SignedGreaterThanOrEqual,
    }
}

impl Emitter<'_, '_> {
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
            Op::CompareTo { d, a, v, n, how } => {
                let one = self.b.ins().iconst(I32, i64::from(v as u32));
                let four = self.b.ins().splat(I32X4, one);
                let found = self.compared(how, n.into(), |e, i, len| {
                    if len == 4 { (e.load_four(a.0 + i), four) } else { (e.load_one(a.0 + i, I32), one) }
                });
                self.set(d, found);
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
        // Processors compare four numbers for "equal" or "greater" in one step; of the others the opposite is found.
        let (how, opposite) = match condition(how) {
            IntCC::Equal | IntCC::SignedGreaterThan | IntCC::SignedLessThan => (condition(how), false),
            other => (other.complement(), true),
        };
        let mut found = self.number(0);
        let mut i = 0;
        while i < n {
            let len = match n - i {
                16.. => 16,
                4.. => 4,
                _ => 1,
            };
            let mut four = |e: &mut Self, i| {
                let (a, b) = load(e, i, len.min(4));
                e.b.ins().icmp(how, a, b)
            };
            let hit = match len {
                16 => {
                    // Numbers of a quarter of the bits are as small as these: 0 or -1.
                    let all = [0, 4, 8, 12].map(|more| four(self, i + more));
                    let low = self.b.ins().snarrow(all[0], all[1]);
                    let high = self.b.ins().snarrow(all[2], all[3]);
                    let all = self.b.ins().snarrow(low, high);
                    self.b.ins().vhigh_bits(I32, all)
                }
                4 => {
                    let hit = four(self, i);
                    self.b.ins().vhigh_bits(I32, hit)
                }
                _ => four(self, i),
            };
            let hit = self.b.ins().uextend(I64, hit);
            let hit = self.b.ins().ishl_imm(hit, i64::from(i));
            found = self.b.ins().bor(found, hit);
            i += len;
        }
        if opposite && n > 0 {
            found = self.b.ins().bxor_imm(found, (u64::MAX >> (64 - n)) as i64);
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
            Op::BitAt { d, s, i } => {
                let (s, i) = (self.get(s), self.get(i));
                let bit = self.b.ins().ushr(s, i);
                let bit = self.b.ins().band_imm(bit, 1);
                // Shifts count modulo 64.
                let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, i, 64);
                let zero = self.number(0);
                let v = self.b.ins().select(inside, bit, zero);
                self.set(d, v);
            }
            Op::CellsOf { d, s } => self.cells_of(d, s),
            Op::FloodBits { d, m, from, steps } => self.flood_bits(d, (m, from), steps),
            Op::Spread { d, s, steps } => {
                let s = self.get(s);
                let v = self.spread(s, steps);
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

    /// Writes a set as a block, four cells at a time.
    fn cells_of(&mut self, d: M, s: R) {
        let cells = self.code.cells;
        self.wrote(Some((d, cells)));
        let s = self.get(s);
        let mut i = 0;
        while i < cells {
            let n = if cells - i >= 4 { 4 } else { 1 };
            let bits = if i < 64 { self.b.ins().ushr_imm(s, i64::from(i)) } else { self.number(0) };
            let v = if n == 4 {
                let first = self.b.ins().band_imm(bits, 1);
                let mut v = self.b.ins().ireduce(I32, first);
                v = self.b.ins().scalar_to_vector(I32X4, v);
                for lane in 1..4u8 {
                    let bit = self.b.ins().ushr_imm(bits, i64::from(lane));
                    let bit = self.b.ins().band_imm(bit, 1);
                    let bit = self.b.ins().ireduce(I32, bit);
                    v = self.b.ins().insertlane(v, bit, lane);
                }
                v
            } else {
                let bit = self.b.ins().band_imm(bits, 1);
                self.b.ins().ireduce(I32, bit)
            };
            self.store_raw(v, d.0 + i);
            i += n;
        }
    }

    /// The cells of a set and those that one step leads to from them.
    fn spread(&mut self, cells: Value, steps: u16) -> Value {
        let mut all = cells;
        for (from, by) in self.code.steps[usize::from(steps)].all.clone() {
            let stay = self.b.ins().band_imm(cells, from as i64);
            let moved = if by >= 0 {
                self.b.ins().ishl_imm(stay, i64::from(by))
            } else {
                self.b.ins().ushr_imm(stay, i64::from(-by))
            };
            all = self.b.ins().bor(all, moved);
        }
        all
    }

    /// Spreads from one cell until nothing is added.
    fn flood_bits(&mut self, d: R, (m, from): (R, R), steps: u16) {
        let (among, from) = (self.get(m), self.get(from));
        let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, from, 64);
        let one = self.number(1);
        let bit = self.b.ins().ishl(one, from);
        let zero = self.number(0);
        let bit = self.b.ins().select(inside, bit, zero);
        let first = self.b.ins().band(among, bit);
        let (round, done) = (self.b.create_block(), self.b.create_block());
        self.b.append_block_param(round, I64);
        self.b.ins().jump(round, &[BlockArg::Value(first)]);
        self.b.switch_to_block(round);
        let reached = self.b.block_params(round)[0];
        let more = self.spread(reached, steps);
        let more = self.b.ins().band(more, among);
        let ended = self.b.ins().icmp(IntCC::Equal, more, reached);
        self.b.ins().brif(ended, done, &[], round, &[BlockArg::Value(more)]);
        self.b.switch_to_block(done);
        self.set(d, reached);
    }
}
