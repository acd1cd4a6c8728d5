//! The operations of the intermediate form, one by one. What each does is said where the interpreter does it; here it is only
//! written down once more for the processor.

mod bits;
mod blocks;
mod lists;
mod places;

use cranelift_codegen::ir::condcodes::IntCC;
use cranelift_codegen::ir::{
    BlockArg, InstBuilder, Value,
    types::{I32, I32X4, I64},
};
use fendle_lang::code::ir::{M, Op, R, To};
use fendle_lang::model::{DIR_STEPS, NONE, code};
use fendle_lang::run::LOOP_MAX;

use crate::context::Ended;
use crate::emit::{Emitter, WRITTEN_OUT_MAX, heap, loose, table};

/// How two blocks become one.
#[derive(Clone, Copy)]
enum Join {
    Union,
    Minus,
    Both,
}

impl Emitter<'_, '_> {
    /// Writes an operation; false when nothing runs on behind it.
    #[expect(clippy::too_many_lines, reason = "one arm for each operation")]
    pub(crate) fn operation(&mut self, op: Op) -> bool {
        match op {
            Op::Const { d, v } => {
                let v = self.number(v);
                self.set(d, v);
            }
            Op::Copy { d, s } => {
                let v = self.get(s);
                self.set(d, v);
            }
            Op::Add { .. } | Op::Sub { .. } | Op::Mul { .. } | Op::Neg { .. } | Op::Abs { .. } => {
                self.arithmetic(&op);
            }
            Op::Div { d, a, b, .. } => self.divide(d, a, b, false, &op),
            Op::Mod { d, a, b, .. } => self.divide(d, a, b, true, &op),
            Op::Pow { d, a, b, .. } => self.power(d, a, b, &op),
            Op::Min { d, a, b } => {
                let (a, b) = (self.get(a), self.get(b));
                let v = self.b.ins().smin(a, b);
                self.set(d, v);
            }
            Op::Max { d, a, b } => {
                let (a, b) = (self.get(a), self.get(b));
                let v = self.b.ins().smax(a, b);
                self.set(d, v);
            }
            Op::Eq { d, a, b } => self.compare(IntCC::Equal, d, a, b),
            Op::Ne { d, a, b } => self.compare(IntCC::NotEqual, d, a, b),
            Op::Lt { d, a, b } => self.compare(IntCC::SignedLessThan, d, a, b),
            Op::Le { d, a, b } => self.compare(IntCC::SignedLessThanOrEqual, d, a, b),
            Op::Not { d, a } => {
                let a = self.get(a);
                let v = self.b.ins().icmp_imm(IntCC::Equal, a, 0);
                self.set_condition(d, v);
            }
            Op::Jump { to } => {
                let to = self.target(to);
                self.b.ins().jump(to, &[]);
                return false;
            }
            Op::JumpIf { a, to } => {
                let a = self.get(a);
                let c = self.b.ins().icmp_imm(IntCC::NotEqual, a, 0);
                self.jump_if(c, to);
            }
            Op::JumpUnless { a, to } => {
                let a = self.get(a);
                let c = self.b.ins().icmp_imm(IntCC::Equal, a, 0);
                self.jump_if(c, to);
            }
            Op::JumpEq { a, b, to } => self.jump_on(IntCC::Equal, a, b, to),
            Op::JumpNe { a, b, to } => self.jump_on(IntCC::NotEqual, a, b, to),
            Op::JumpLt { a, b, to } => self.jump_on(IntCC::SignedLessThan, a, b, to),
            Op::JumpLe { a, b, to } => self.jump_on(IntCC::SignedLessThanOrEqual, a, b, to),
            Op::Inc { d } => {
                let v = self.get(d);
                let v = self.b.ins().iadd_imm(v, 1);
                self.set(d, v);
            }
            Op::Loop { to, site } => {
                self.burn(site);
                let to = self.target(to);
                self.b.ins().jump(to, &[]);
                return false;
            }
            Op::LoopTo { d, n, to, site } => {
                let v = self.get(d);
                let v = self.b.ins().iadd_imm(v, 1);
                self.set(d, v);
                let again = self.b.ins().icmp_imm(IntCC::SignedLessThan, v, i64::from(n));
                let (round, on) = (self.b.create_block(), self.b.create_block());
                self.b.ins().brif(again, round, &[], on, &[]);
                self.b.switch_to_block(round);
                self.burn(site);
                let to = self.target(to);
                self.b.ins().jump(to, &[]);
                self.b.switch_to_block(on);
            }
            Op::CheckLoop { a, b, .. } => {
                let (a, b) = (self.get(a), self.get(b));
                // In 32 bits nothing overflows; other numbers are for the interpreter.
                let (small_a, small_b) = (self.is_small(a), self.is_small(b));
                let small = self.b.ins().band(small_a, small_b);
                let rounds = self.b.ins().isub(b, a);
                let few = self.b.ins().icmp_imm(IntCC::SignedLessThan, rounds, LOOP_MAX);
                let easy = self.b.ins().band(small, few);
                self.or_step(easy, &op, None);
            }
            Op::Load { d, base, i } => {
                let at = self.place(base, i);
                let v = self.b.ins().sload32(heap(), at, 0);
                self.set(d, v);
            }
            Op::LoadAt { d, from } => {
                let v = self.load_at(from.0);
                self.set(d, v);
            }
            Op::LoadFrom { d, a, .. } => {
                let a = self.get(a);
                let at = self.address(a);
                let v = self.b.ins().sload32(heap(), at, 0);
                self.set(d, v);
            }
            Op::Store { base, i, s } => {
                let at = self.place(base, i);
                let s = self.get(s);
                self.b.ins().istore32(heap(), s, at, 0);
                self.wrote(None);
            }
            Op::StoreAt { to, s } => {
                self.wrote(Some((to, 1)));
                let s = self.get(s);
                self.b.ins().istore32(heap(), s, self.loaded.mem, (to.0 * 4) as i32);
            }
            Op::Put { base, i, s } => {
                let slot = self.get(i);
                let slot = self.b.ins().iadd_imm(slot, i64::from(base.0 - self.code.now));
                self.put(slot, s);
            }
            Op::PutAt { to, s } => {
                self.wrote(Some((to, 1)));
                self.mark_fixed(to, 1);
                let s = self.get(s);
                self.b.ins().istore32(heap(), s, self.loaded.mem, (to.0 * 4) as i32);
            }
            Op::PutInto { a, s, list } => {
                let a = self.get(a);
                if self.code.lists[list as usize].puts {
                    let slot = self.b.ins().iadd_imm(a, -i64::from(self.code.now));
                    self.put(slot, s);
                } else {
                    let at = self.address(a);
                    let s = self.get(s);
                    self.b.ins().istore32(heap(), s, at, 0);
                    self.wrote(None);
                }
            }
            Op::PutBlock { d, s, len } => {
                if self.is_written_out(len) && apart(d, s, len) {
                    self.mark_fixed(d, len);
                    self.copy(d, s, len);
                } else {
                    self.step(&op);
                }
            }
            Op::CopyBlock { d, s, len } => {
                if self.is_written_out(len) && apart(d, s, len) {
                    self.copy(d, s, len);
                } else {
                    self.step(&op);
                }
            }
            Op::Check { s, lo, hi, site } => {
                let s = self.get(s);
                let inside = self.is_between(s, lo.into(), hi.into());
                self.unless_broken(inside, site, s);
            }
            Op::CheckBlock { base, len, dom, .. } => self.check_block(base, len, dom, &op),
            Op::ClearCells { d } => self.clear(d, self.code.cells, &op),
            Op::Reset { d, len } => self.clear(d, len, &op),
            Op::SameBlock { d, a, b, len } => self.same(d, a, b, len, &op),
            Op::Union { d, a, b } => self.join(Join::Union, d, a, b, &op),
            Op::Minus { d, a, b } => self.join(Join::Minus, d, a, b, &op),
            Op::Both { d, a, b } => self.join(Join::Both, d, a, b, &op),
            Op::NextIn { d, base, to } => self.next(d, base, None, to),
            Op::NextEq { d, base, v, to } => self.next(d, base, Some(v), to),
            Op::CompareBlocks { .. } | Op::Compare { .. } | Op::CompareTo { .. } => self.compare_blocks(&op),
            Op::BitAnd { .. }
            | Op::BitOr { .. }
            | Op::BitMinus { .. }
            | Op::BitMove { .. }
            | Op::BitCount { .. }
            | Op::BitAt { .. }
            | Op::CellsOf { .. }
            | Op::FloodBits { .. }
            | Op::Spread { .. }
            | Op::NextBit { .. } => self.bits(&op),
            Op::Push { d, base, s } => {
                let n = self.get(d);
                let at = self.pair(base, n);
                let s = self.get(s);
                self.b.ins().store(loose(), s, at, 0);
                self.wrote(None);
                let n = self.b.ins().iadd_imm(n, 1);
                self.set(d, n);
            }
            Op::Entry { d, base, i } => {
                let i = self.get(i);
                let at = self.pair(base, i);
                let v = self.b.ins().load(I64, loose(), at, 0);
                self.set(d, v);
            }
            Op::Sum { d, a, b } | Op::Peek { d, p: a, o: b } => {
                let (a, b) = (self.get(a), self.get(b));
                let v = self.b.ins().iadd(a, b);
                self.set(d, v);
            }
            Op::CheckEntry { i, n, site } => {
                let (i, n) = (self.get(i), self.get(n));
                let low = self.b.ins().icmp_imm(IntCC::SignedGreaterThanOrEqual, i, 1);
                let high = self.b.ins().icmp(IntCC::SignedLessThanOrEqual, i, n);
                let inside = self.b.ins().band(low, high);
                self.unless_broken(inside, site, i);
            }
            Op::PlaceOf { .. }
            | Op::CellOf { .. }
            | Op::CellOr { .. }
            | Op::Beside { .. }
            | Op::OnBoard { .. }
            | Op::Shift { .. }
            | Op::ShiftBack { .. }
            | Op::OffAdd { .. }
            | Op::OffSub { .. }
            | Op::OffMul { .. }
            | Op::DirOff { .. }
            | Op::Row { .. }
            | Op::Col { .. }
            | Op::PlaceAt { .. }
            | Op::Opposite { .. }
            | Op::Turned { .. } => self.geometry(&op),
            Op::LanesLen { .. }
            | Op::LaneAt { .. }
            | Op::LaneLen { .. }
            | Op::LaneVertical { .. }
            | Op::LaneCell { .. } => self.lane(&op),
            Op::Gather { base, lane, how, v, fill } => self.gather(base, lane, (how, v), fill),
            Op::ShapeMove { .. }
            | Op::ShapeTurn { .. }
            | Op::ShapeAnchor { .. }
            | Op::ShapeKind { .. }
            | Op::ShapeTurnOf { .. }
            | Op::ShapeLen { .. }
            | Op::ShapeCell { .. } => self.shape(&op),
            Op::ShapeBits { d, p, word, shapes } => self.covered(d, p, (shapes, word), &op),
            Op::ShapeFits { d, p, s, word, shapes } => self.fits(d, (p, s), (shapes, word), &op),
            Op::ListTail { .. } | Op::ListJoin { .. } | Op::ListAdd { .. } | Op::ListCheck { .. } => {
                self.list(&op)
            }
            Op::Parity { .. }
            | Op::Distinct { .. }
            | Op::ListCopy { .. }
            | Op::ListSame { .. }
            | Op::ListFind { .. }
            | Op::ListDrop { .. }
            | Op::CutLanes { .. }
            | Op::FloodEqual { .. }
            | Op::OpenLane { .. }
            | Op::ShapeMirror { .. }
            | Op::ShapePart { .. } => self.step(&op),
            Op::ShapeMake { d, k, p, shapes, .. } => self.make_shape(d, (k, p), shapes, &op),
            Op::Recall { d, memo, to } => {
                let known = self.b.ins().load(I64, table(), self.loaded.known, i32::from(memo / 64) * 8);
                let known = self.b.ins().band_imm(known, 1i64 << (memo % 64));
                let old = self.get(d);
                let v = self.b.ins().load(I64, table(), self.loaded.memo, i32::from(memo) * 8);
                // Only where it jumps is it the value: elsewhere it is computed and written before it is read.
                let v = self.b.ins().select(known, v, old);
                self.set(d, v);
                self.jump_if(known, to);
            }
            Op::Remember { s, memo } => {
                let s = self.get(s);
                self.b.ins().store(table(), s, self.loaded.memo, i32::from(memo) * 8);
                let at = i32::from(memo / 64) * 8;
                let known = self.b.ins().load(I64, table(), self.loaded.known, at);
                let known = self.b.ins().bor_imm(known, 1i64 << (memo % 64));
                self.b.ins().store(table(), known, self.loaded.known, at);
            }
            Op::Score { s, site } => {
                let s = self.get(s);
                let old = self.b.ins().load(I64, table(), self.loaded.score, 0);
                let (new, sound) = self.added(old, s);
                let zero = self.number(0);
                self.unless_broken(sound, site, zero);
                self.b.ins().store(table(), new, self.loaded.score, 0);
            }
            // Who asks for the places of a refusal interprets.
            Op::RefuseAt { .. } | Op::RefuseIn { .. } | Op::RefuseAmong { .. } => {}
            Op::Refuse { which } => return self.ends(Ended::Refused(which)),
            Op::NotOffered {} => return self.ends(Ended::NotOffered),
            Op::Done {} => return self.ends(Ended::Done),
            Op::Cut {} => return self.ends(Ended::Cut),
            Op::Give { s } => {
                let s = self.get(s);
                self.give(s);
                return false;
            }
            Op::Fault { site } => {
                let zero = self.number(0);
                self.break_here(site, zero);
                return false;
            }
            Op::FaultWith { s, site } => {
                let s = self.get(s);
                self.break_here(site, s);
                return false;
            }
            Op::Draw { n, point, .. } => {
                self.pause(point, Some(n));
                return false;
            }
            Op::Merge { point } | Op::BeforeDraw { point } => {
                self.pause(point, None);
                return false;
            }
        }
        true
    }

    fn ends(&mut self, ended: Ended) -> bool {
        self.end(ended);
        false
    }

    /// A condition as 0 or 1.
    fn set_condition(&mut self, d: R, condition: Value) {
        let v = self.b.ins().uextend(I64, condition);
        self.set(d, v);
    }

    fn compare(&mut self, how: IntCC, d: R, a: R, b: R) {
        let (a, b) = (self.get(a), self.get(b));
        let v = self.b.ins().icmp(how, a, b);
        self.set_condition(d, v);
    }

    fn jump_on(&mut self, how: IntCC, a: R, b: R, to: To) {
        let (a, b) = (self.get(a), self.get(b));
        let c = self.b.ins().icmp(how, a, b);
        self.jump_if(c, to);
    }

    /// Whether a value lies in a range.
    fn is_between(&mut self, v: Value, lo: i64, hi: i64) -> Value {
        let above = self.b.ins().iadd_imm(v, -lo);
        self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, above, hi - lo)
    }

    /// Whether a value fits 32 bits.
    fn is_small(&mut self, v: Value) -> Value {
        self.is_between(v, i32::MIN.into(), i32::MAX.into())
    }

    /// A sum, and whether it is exact.
    fn added(&mut self, a: Value, b: Value) -> (Value, Value) {
        let sum = self.b.ins().iadd(a, b);
        let (x, y) = (self.b.ins().bxor(a, sum), self.b.ins().bxor(b, sum));
        let both = self.b.ins().band(x, y);
        let sound = self.b.ins().icmp_imm(IntCC::SignedGreaterThanOrEqual, both, 0);
        (sum, sound)
    }

    fn arithmetic(&mut self, op: &Op) {
        let (d, v, sound, site) = match *op {
            Op::Add { d, a, b, site } => {
                let (a, b) = (self.get(a), self.get(b));
                let (v, sound) = self.added(a, b);
                (d, v, sound, site)
            }
            Op::Sub { d, a, b, site } => {
                let (a, b) = (self.get(a), self.get(b));
                let v = self.b.ins().isub(a, b);
                let (x, y) = (self.b.ins().bxor(a, b), self.b.ins().bxor(a, v));
                let both = self.b.ins().band(x, y);
                (d, v, self.b.ins().icmp_imm(IntCC::SignedGreaterThanOrEqual, both, 0), site)
            }
            Op::Mul { d, a, b, site } => {
                let (a, b) = (self.get(a), self.get(b));
                let v = self.b.ins().imul(a, b);
                let high = self.b.ins().smulhi(a, b);
                let sign = self.b.ins().sshr_imm(v, 63);
                (d, v, self.b.ins().icmp(IntCC::Equal, high, sign), site)
            }
            Op::Neg { d, a, site } => {
                let a = self.get(a);
                let sound = self.b.ins().icmp_imm(IntCC::NotEqual, a, i64::MIN);
                (d, self.b.ins().ineg(a), sound, site)
            }
            Op::Abs { d, a, site } => {
                let a = self.get(a);
                let sound = self.b.ins().icmp_imm(IntCC::NotEqual, a, i64::MIN);
                let negative = self.b.ins().ineg(a);
                (d, self.b.ins().smax(a, negative), sound, site)
            }
            _ => unreachable!("only sums and their like are sent here"),
        };
        let zero = self.number(0);
        self.unless_broken(sound, site, zero);
        self.set(d, v);
    }

    /// A power: of a base that is fixed by a table, as far as powers fit; else by the interpreter.
    fn power(&mut self, d: R, a: R, b: R, op: &Op) {
        let base = self.get(a);
        let Some(base) = self.known(base) else { return self.step(op) };
        let powers: Vec<i64> = (0..64).map_while(|e| base.checked_pow(e)).collect();
        let exponent = self.get(b);
        let easy = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, exponent, powers.len() as i64);
        let zero = self.number(0);
        let index = self.b.ins().select(easy, exponent, zero);
        let value = self.entry(powers, index);
        self.or_step(easy, op, Some((d, value)));
    }

    /// Division and rest as Euclid's: small numbers by unsigned division, others by the interpreter.
    fn divide(&mut self, d: R, a: R, b: R, rest: bool, op: &Op) {
        let (a, b) = (self.get(a), self.get(b));
        let low = self.is_between(a, 0, i64::from(i32::MAX));
        let above = self.is_between(b, 1, i64::from(i32::MAX));
        let easy = self.b.ins().band(low, above);
        let one = self.number(1);
        let divisor = self.b.ins().select(above, b, one);
        let (a, divisor) = (self.b.ins().ireduce(I32, a), self.b.ins().ireduce(I32, divisor));
        let v = if rest { self.b.ins().urem(a, divisor) } else { self.b.ins().udiv(a, divisor) };
        let v = self.b.ins().uextend(I64, v);
        self.or_step(easy, op, Some((d, v)));
    }

    /// The address of entry `i` of a block.
    fn place(&mut self, base: M, i: R) -> Value {
        let i = self.get(i);
        let index = self.b.ins().iadd_imm(i, i64::from(base.0));
        self.address(index)
    }

    /// The address of entry `i` of a block of numbers that take two places.
    fn pair(&mut self, base: M, i: Value) -> Value {
        let twice = self.b.ins().ishl_imm(i, 1);
        let index = self.b.ins().iadd_imm(twice, i64::from(base.0));
        let last = i64::from(self.code.memory) - 1;
        let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, index, last);
        self.unless_stray(inside);
        let bytes = self.b.ins().ishl_imm(index, 2);
        self.b.ins().iadd(self.loaded.mem, bytes)
    }

    /// Stores into the state now, and remembers it.
    fn put(&mut self, slot: Value, s: R) {
        self.mark(slot);
        let bytes = self.b.ins().ishl_imm(slot, 2);
        let at = self.b.ins().iadd(self.loaded.mem, bytes);
        let s = self.get(s);
        self.b.ins().istore32(heap(), s, at, (self.code.now * 4) as i32);
        self.wrote(None);
    }
}

/// Whether two blocks of this length share no number.
fn apart(a: M, b: M, len: u32) -> bool {
    a.0 + len <= b.0 || b.0 + len <= a.0
}
