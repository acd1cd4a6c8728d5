//! The operations of the intermediate form, one by one. What each does is said where the interpreter does it; here it is only
//! written down once more for the processor.

use cranelift_codegen::ir::condcodes::IntCC;
use cranelift_codegen::ir::{
    BlockArg, InstBuilder, Value,
    types::{I32, I32X4, I64},
};
use fendle_lang::code::ir::{M, Op, R, Site, To};
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

impl Emitter<'_> {
    /// Writes an operation; false when nothing runs on behind it.
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
            Op::Div { d, a, b, site } => self.divide(d, a, b, site, false, &op),
            Op::Mod { d, a, b, site } => self.divide(d, a, b, site, true, &op),
            Op::Pow { .. } => self.step(&op),
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
                self.b.ins().istore32(heap(), s, self.mem, (to.0 * 4) as i32);
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
                self.b.ins().istore32(heap(), s, self.mem, (to.0 * 4) as i32);
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
            Op::ShapeMove { .. }
            | Op::ShapeAnchor { .. }
            | Op::ShapeKind { .. }
            | Op::ShapeTurnOf { .. }
            | Op::ShapeLen { .. }
            | Op::ShapeCell { .. } => self.shape(&op),
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
            | Op::OpenLane { .. }
            | Op::ShapeTurn { .. }
            | Op::ShapeMake { .. } => self.step(&op),
            Op::Recall { d, memo, to } => {
                let known = self.b.ins().load(I64, table(), self.known, i32::from(memo / 64) * 8);
                let known = self.b.ins().band_imm(known, 1i64 << (memo % 64));
                let old = self.get(d);
                let v = self.b.ins().load(I64, table(), self.memo, i32::from(memo) * 8);
                // Only where it jumps is it the value: elsewhere it is computed and written before it is read.
                let v = self.b.ins().select(known, v, old);
                self.set(d, v);
                self.jump_if(known, to);
            }
            Op::Remember { s, memo } => {
                let s = self.get(s);
                self.b.ins().store(table(), s, self.memo, i32::from(memo) * 8);
                let at = i32::from(memo / 64) * 8;
                let known = self.b.ins().load(I64, table(), self.known, at);
                let known = self.b.ins().bor_imm(known, 1i64 << (memo % 64));
                self.b.ins().store(table(), known, self.known, at);
            }
            Op::Score { s, site } => {
                let s = self.get(s);
                let old = self.b.ins().load(I64, table(), self.score, 0);
                let (new, sound) = self.added(old, s);
                let zero = self.number(0);
                self.unless_broken(sound, site, zero);
                self.b.ins().store(table(), new, self.score, 0);
            }
            // Who asks for the places of a refusal interprets.
            Op::RefuseAt { .. } | Op::RefuseIn { .. } => {}
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
            Op::Merge { point } => {
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

    /// Division and rest as Euclid's: small numbers by unsigned division, others by the interpreter.
    fn divide(&mut self, d: R, a: R, b: R, _site: Site, rest: bool, op: &Op) {
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
        self.b.ins().iadd(self.mem, bytes)
    }

    /// Stores into the state now, and remembers it.
    fn put(&mut self, slot: Value, s: R) {
        self.mark(slot);
        let bytes = self.b.ins().ishl_imm(slot, 2);
        let at = self.b.ins().iadd(self.mem, bytes);
        let s = self.get(s);
        self.b.ins().istore32(heap(), s, at, (self.code.now * 4) as i32);
        self.wrote(None);
    }

    fn is_written_out(&self, len: u32) -> bool {
        len <= WRITTEN_OUT_MAX
    }

    fn copy(&mut self, d: M, s: M, len: u32) {
        self.wrote(Some((d, len)));
        let mut i = 0;
        while i < len {
            let n = if len - i >= 4 { 4 } else { 1 };
            let v = if n == 4 { self.load_four(s.0 + i) } else { self.load_one(s.0 + i, I32) };
            self.store_raw(v, d.0 + i);
            i += n;
        }
    }

    fn clear(&mut self, d: M, len: u32, op: &Op) {
        if !self.is_written_out(len) {
            self.step(op);
            return;
        }
        self.wrote(Some((d, len)));
        let one = self.b.ins().iconst(I32, 0);
        let four = self.b.ins().splat(I32X4, one);
        let mut i = 0;
        while i < len {
            let n = if len - i >= 4 { 4 } else { 1 };
            self.store_raw(if n == 4 { four } else { one }, d.0 + i);
            i += n;
        }
    }

    /// Whether all numbers of a block are in their range.
    fn check_block(&mut self, base: M, len: u32, dom: u16, op: &Op) {
        if !self.is_written_out(len) {
            self.step(op);
            return;
        }
        let (lo, hi, maybe) = self.code.doms[dom as usize];
        let mut wrong = None;
        let mut i = 0;
        while i < len {
            let n = if len - i >= 4 { 4 } else { 1 };
            let v = if n == 4 { self.load_four(base.0 + i) } else { self.load_one(base.0 + i, I32) };
            let fixed = |e: &mut Self, x: i32| {
                let x = e.b.ins().iconst(I32, i64::from(x as u32));
                if n == 4 { e.b.ins().splat(I32X4, x) } else { x }
            };
            let (lo, hi, none) = (fixed(self, lo), fixed(self, hi), fixed(self, NONE as i32));
            let low = self.b.ins().icmp(IntCC::SignedLessThan, v, lo);
            let high = self.b.ins().icmp(IntCC::SignedGreaterThan, v, hi);
            let mut bad = self.b.ins().bor(low, high);
            if maybe {
                let other = self.b.ins().icmp(IntCC::NotEqual, v, none);
                bad = self.b.ins().band(bad, other);
            }
            let any = if n == 4 { self.b.ins().vany_true(bad) } else { bad };
            wrong = Some(match wrong {
                None => any,
                Some(w) => self.b.ins().bor(w, any),
            });
            i += n;
        }
        if let Some(wrong) = wrong {
            let easy = self.b.ins().icmp_imm(IntCC::Equal, wrong, 0);
            self.or_step(easy, op, None);
        }
    }

    /// Whether two blocks hold the same.
    fn same(&mut self, d: R, a: M, b: M, len: u32, op: &Op) {
        if !self.is_written_out(len) || len == 0 {
            self.step(op);
            return;
        }
        let (mut fours, mut ones) = (None, None);
        let mut i = 0;
        while i < len {
            let n = if len - i >= 4 { 4 } else { 1 };
            let sum = if n == 4 { &mut fours } else { &mut ones };
            let (x, y) = if n == 4 {
                (self.load_four(a.0 + i), self.load_four(b.0 + i))
            } else {
                (self.load_one(a.0 + i, I32), self.load_one(b.0 + i, I32))
            };
            let differ = self.b.ins().bxor(x, y);
            *sum = Some(match *sum {
                None => differ,
                Some(s) => self.b.ins().bor(s, differ),
            });
            i += n;
        }
        let fours = fours.map(|f| self.b.ins().vany_true(f));
        let ones = ones.map(|o| self.b.ins().icmp_imm(IntCC::NotEqual, o, 0));
        let differ = match (fours, ones) {
            (Some(f), Some(o)) => self.b.ins().bor(f, o),
            (Some(x), None) | (None, Some(x)) => x,
            (None, None) => unreachable!("the block is not empty"),
        };
        let same = self.b.ins().icmp_imm(IntCC::Equal, differ, 0);
        self.set_condition(d, same);
    }

    fn join(&mut self, how: Join, d: M, a: M, b: M, op: &Op) {
        let len = self.code.cells;
        self.wrote(Some((d, len)));
        let in_place = |x: M| x == d || apart(d, x, len);
        if !self.is_written_out(len) || !in_place(a) || !in_place(b) {
            self.step(op);
            return;
        }
        let mut i = 0;
        while i < len {
            let n = if len - i >= 4 { 4 } else { 1 };
            let load = |e: &mut Self, m: M| {
                if n == 4 { e.load_four(m.0 + i) } else { e.load_one(m.0 + i, I32) }
            };
            let (x, y) = (load(self, a), load(self, b));
            let v = match how {
                Join::Union => self.b.ins().bor(x, y),
                Join::Both => self.b.ins().band(x, y),
                Join::Minus => {
                    let mut one = self.b.ins().iconst(I32, 1);
                    if n == 4 {
                        one = self.b.ins().splat(I32X4, one);
                    }
                    let other = self.b.ins().isub(one, y);
                    self.b.ins().band(x, other)
                }
            };
            self.store_raw(v, d.0 + i);
            i += n;
        }
    }

    /// The next cell, from the one in `d` on, that holds `v`, or anything but 0.
    fn next(&mut self, d: R, base: M, v: Option<i32>, to: To) {
        let cells = self.code.cells;
        let from = self.get(d);
        let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, from, i64::from(cells));
        self.unless_stray(inside);
        if cells > 64 {
            return self.next_by_loop(d, base, v, to, from);
        }
        let found = match self.mask(base.0, v) {
            None if self.is_fixed(base.0, cells) => {
                let block = &self.fixed[base.0 as usize..(base.0 + cells) as usize];
                let hit = |x: i32| v.map_or(x != 0, |v| x == v);
                let bits: u64 = block.iter().enumerate().map(|(i, x)| u64::from(hit(*x)) << i).sum();
                self.number(bits as i64)
            }
            None => self.cells_hit(base, v),
            Some((mask, known)) => {
                let (look, on) = (self.b.create_block(), self.b.create_block());
                let is_known = self.b.use_var(known);
                self.b.ins().brif(is_known, on, &[], look, &[]);
                self.b.switch_to_block(look);
                let found = self.cells_hit(base, v);
                self.b.def_var(mask, found);
                let one = self.number(1);
                self.b.def_var(known, one);
                self.b.ins().jump(on, &[]);
                self.b.switch_to_block(on);
                self.b.use_var(mask)
            }
        };
        // Those from `d` on. It may be the number of cells, which is 64 at most: shifts count modulo 64, so that case is set
        // apart.
        let ones = self.number(-1);
        let mask = self.b.ins().ishl(ones, from);
        let zero = self.number(0);
        let on_board = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, from, i64::from(cells));
        let mask = self.b.ins().select(on_board, mask, zero);
        let found = self.b.ins().band(found, mask);
        let none = self.b.ins().icmp_imm(IntCC::Equal, found, 0);
        self.jump_if(none, to);
        let cell = self.b.ins().ctz(found);
        self.set(d, cell);
    }

    /// The cells that hold `v`, or anything but 0: one bit a cell, found four at a time.
    fn cells_hit(&mut self, base: M, v: Option<i32>) -> Value {
        let cells = self.code.cells;
        let mut found = self.number(0);
        let mut i = 0;
        while i < cells {
            let n = if cells - i >= 4 { 4 } else { 1 };
            let bits = if n == 4 {
                let values = self.load_four(base.0 + i);
                let want = self.b.ins().iconst(I32, i64::from(v.unwrap_or(0) as u32));
                let want = self.b.ins().splat(I32X4, want);
                let how = if v.is_some() { IntCC::Equal } else { IntCC::NotEqual };
                let hit = self.b.ins().icmp(how, values, want);
                let bits = self.b.ins().vhigh_bits(I32, hit);
                self.b.ins().uextend(I64, bits)
            } else {
                let value = self.load_at(base.0 + i);
                let how = if v.is_some() { IntCC::Equal } else { IntCC::NotEqual };
                let hit = self.b.ins().icmp_imm(how, value, i64::from(v.unwrap_or(0)));
                self.b.ins().uextend(I64, hit)
            };
            let bits = self.b.ins().ishl_imm(bits, i64::from(i));
            found = self.b.ins().bor(found, bits);
            i += n;
        }
        found
    }

    fn next_by_loop(&mut self, d: R, base: M, v: Option<i32>, to: To, from: Value) {
        let (head, body, hit) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        self.b.append_block_param(head, I64);
        self.b.ins().jump(head, &[BlockArg::Value(from)]);
        self.b.switch_to_block(head);
        let cell = self.b.block_params(head)[0];
        let left = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, cell, i64::from(self.code.cells));
        let to = self.target(to);
        self.b.ins().brif(left, body, &[], to, &[]);
        self.b.switch_to_block(body);
        let bytes = self.b.ins().ishl_imm(cell, 2);
        let at = self.b.ins().iadd(self.mem, bytes);
        let value = self.b.ins().sload32(heap(), at, (base.0 * 4) as i32);
        let how = if v.is_some() { IntCC::Equal } else { IntCC::NotEqual };
        let found = self.b.ins().icmp_imm(how, value, i64::from(v.unwrap_or(0)));
        let next = self.b.ins().iadd_imm(cell, 1);
        self.b.ins().brif(found, hit, &[], head, &[BlockArg::Value(next)]);
        self.b.switch_to_block(hit);
        self.set(d, cell);
    }

    /// Row and column of a place, and whether they are on the board.
    fn on_board(&mut self, place: Value) -> (Value, Value, Value) {
        let row = self.b.ins().sshr_imm(place, 16);
        let row = self.b.ins().iadd_imm(row, -code::BIAS);
        let col = self.b.ins().band_imm(place, 0xffff);
        let col = self.b.ins().iadd_imm(col, -code::BIAS);
        let row_on = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, row, self.rows);
        let col_on = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, col, self.cols);
        let on = self.b.ins().band(row_on, col_on);
        (row, col, on)
    }

    fn cell_at(&mut self, row: Value, col: Value) -> Value {
        let first = self.b.ins().imul_imm(row, self.cols);
        self.b.ins().iadd(first, col)
    }

    /// Whether a sum of a place and an offset is still exact.
    fn is_place(&mut self, v: Value) -> Value {
        let row = self.b.ins().sshr_imm(v, 16);
        let col = self.b.ins().band_imm(v, 0xffff);
        let row = self.is_between(row, 1, 2 * code::BIAS - 1);
        let col = self.is_between(col, 1, 2 * code::BIAS - 1);
        self.b.ins().band(row, col)
    }

    /// Rows and columns of an offset.
    fn offset_parts(&mut self, v: Value) -> (Value, Value) {
        let cols = self.b.ins().iadd_imm(v, code::ROW >> 1);
        let cols = self.b.ins().band_imm(cols, 0xffff);
        let cols = self.b.ins().iadd_imm(cols, -(code::ROW >> 1));
        let rows = self.b.ins().isub(v, cols);
        (self.b.ins().sshr_imm(rows, 16), cols)
    }

    /// Whether rows and columns of an offset are near enough.
    fn near(&mut self, rows: Value, cols: Value) -> Value {
        let most = code::BIAS / 2 - 1;
        let rows = self.is_between(rows, -most, most);
        let cols = self.is_between(cols, -most, most);
        self.b.ins().band(rows, cols)
    }

    fn place_of(&mut self, row: Value, col: Value) -> Value {
        let row = self.b.ins().iadd_imm(row, code::BIAS);
        let row = self.b.ins().ishl_imm(row, 16);
        let col = self.b.ins().iadd_imm(col, code::BIAS);
        self.b.ins().iadd(row, col)
    }

    fn geometry(&mut self, op: &Op) {
        let zero = self.number(0);
        match *op {
            Op::PlaceOf { d, c } => {
                let c = self.get(c);
                let cells = self.rows * self.cols;
                let easy = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, c, cells);
                let safe = self.b.ins().select(easy, c, zero);
                let table = (0..cells).map(|c| code::place(c / self.cols, c % self.cols)).collect();
                let v = self.entry(table, safe);
                self.or_step(easy, op, Some((d, v)));
            }
            Op::CellOf { d, p, site } => {
                let p = self.get(p);
                let (row, col, on) = self.on_board(p);
                self.unless_broken(on, site, zero);
                let cell = self.cell_at(row, col);
                self.set(d, cell);
            }
            Op::CellOr { d, p, to } => {
                let p = self.get(p);
                let (row, col, on) = self.on_board(p);
                let off = self.b.ins().icmp_imm(IntCC::Equal, on, 0);
                self.jump_if(off, to);
                let cell = self.cell_at(row, col);
                self.set(d, cell);
            }
            Op::OnBoard { d, p } => {
                let p = self.get(p);
                let (_, _, on) = self.on_board(p);
                self.set_condition(d, on);
            }
            Op::Shift { d, p, o, site } | Op::ShiftBack { d, p, o, site } => {
                let (p, o) = (self.get(p), self.get(o));
                let back = matches!(op, Op::ShiftBack { .. });
                let v = if back { self.b.ins().isub(p, o) } else { self.b.ins().iadd(p, o) };
                let sound = self.is_place(v);
                self.unless_broken(sound, site, zero);
                self.set(d, v);
            }
            Op::OffAdd { d, a, b, site } | Op::OffSub { d, a, b, site } => {
                let (a, b) = (self.get(a), self.get(b));
                let minus = matches!(op, Op::OffSub { .. });
                let v = if minus { self.b.ins().isub(a, b) } else { self.b.ins().iadd(a, b) };
                let (rows, cols) = self.offset_parts(v);
                let sound = self.near(rows, cols);
                self.unless_broken(sound, site, zero);
                self.set(d, v);
            }
            Op::OffMul { d, a, b, site } => {
                let (o, n) = (self.get(a), self.get(b));
                let few = self.is_between(n, -(code::BIAS - 1), code::BIAS - 1);
                let (rows, cols) = self.offset_parts(o);
                let (rows, cols) = (self.b.ins().imul(rows, n), self.b.ins().imul(cols, n));
                let near = self.near(rows, cols);
                let sound = self.b.ins().band(few, near);
                self.unless_broken(sound, site, zero);
                let v = self.b.ins().imul(o, n);
                self.set(d, v);
            }
            Op::DirOff { d, a } => {
                let a = self.get(a);
                let v = self.look_up(DIR_STEPS.iter().map(|(r, c)| r * code::ROW + c).collect(), a);
                self.set(d, v);
            }
            Op::Row { d, p } => {
                let p = self.get(p);
                let v = self.b.ins().sshr_imm(p, 16);
                let v = self.b.ins().iadd_imm(v, 1 - code::BIAS);
                self.set(d, v);
            }
            Op::Col { d, p } => {
                let p = self.get(p);
                let v = self.b.ins().band_imm(p, 0xffff);
                let v = self.b.ins().iadd_imm(v, 1 - code::BIAS);
                self.set(d, v);
            }
            Op::PlaceAt { d, a, b, site } => {
                let (row, col) = (self.get(a), self.get(b));
                let sound = self.near(row, col);
                self.unless_broken(sound, site, zero);
                let (row, col) = (self.b.ins().iadd_imm(row, -1), self.b.ins().iadd_imm(col, -1));
                let v = self.place_of(row, col);
                self.set(d, v);
            }
            Op::Opposite { d, a } => self.turn(d, a, 2),
            Op::Turned { d, a } => self.turn(d, a, 1),
            _ => unreachable!("only places and directions are sent here"),
        }
    }

    /// A direction turned by so many quarters.
    fn turn(&mut self, d: R, a: R, by: i64) {
        let a = self.get(a);
        let v = self.look_up((0..8).map(|v| v / 4 * 4 + (v + by) % 4).collect(), a);
        self.set(d, v);
    }

    fn lane(&mut self, op: &Op) {
        let (rows, cols) = (self.rows, self.cols);
        match *op {
            Op::LanesLen { d, a, site } => {
                let a = self.get(a);
                let sound = self.is_between(a, 0, 3);
                self.unless_broken(sound, site, a);
                let v = self.entry(vec![cols, rows, cols, rows], a);
                self.set(d, v);
            }
            Op::LaneAt { d, a, i } => {
                // Lane number i of direction a: first cell  i * each + from,  then the direction back and the length.
                let (a, i) = (self.get(a), self.get(i));
                let three = self.number(3);
                let a = self.b.ins().umin(a, three);
                let each = self.entry(vec![1, cols, 1, cols], a);
                let from = self.entry(vec![0, cols - 1, (rows - 1) * cols, 0], a);
                let rest = self.entry(vec![2 << 32 | rows, 3 << 32 | cols, rows, 1 << 32 | cols], a);
                let first = self.b.ins().imul(i, each);
                let first = self.b.ins().iadd(first, from);
                let first = self.b.ins().ishl_imm(first, 40);
                let v = self.b.ins().bor(first, rest);
                self.set(d, v);
            }
            Op::LaneLen { d, a } => {
                let a = self.get(a);
                let v = self.b.ins().band_imm(a, 0xffff_ffff);
                self.set(d, v);
            }
            Op::LaneVertical { d, a } => {
                let a = self.get(a);
                let dir = self.b.ins().sshr_imm(a, 32);
                let dir = self.b.ins().band_imm(dir, 0xff & !2);
                let v = self.b.ins().icmp_imm(IntCC::Equal, dir, 0);
                self.set_condition(d, v);
            }
            Op::LaneCell { d, a, i } => {
                let (a, i) = (self.get(a), self.get(i));
                let dir = self.b.ins().sshr_imm(a, 32);
                let dir = self.b.ins().band_imm(dir, 0xff);
                let step = self.look_up(DIR_STEPS.iter().map(|(r, c)| r * cols + c).collect(), dir);
                let first = self.b.ins().sshr_imm(a, 40);
                let far = self.b.ins().imul(i, step);
                let v = self.b.ins().iadd(first, far);
                self.set(d, v);
            }
            _ => unreachable!("only lanes are sent here"),
        }
    }

    /// Writes what is done when the condition holds; else the interpreter does it.
    fn either(&mut self, easy: Value, op: &Op, write: impl FnOnce(&mut Self)) {
        let (fast, slow, on) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        self.b.set_cold_block(slow);
        self.b.ins().brif(easy, fast, &[], slow, &[]);
        self.b.switch_to_block(fast);
        write(self);
        self.b.ins().jump(on, &[]);
        self.b.switch_to_block(slow);
        self.step(op);
        self.b.ins().jump(on, &[]);
        self.b.switch_to_block(on);
        self.wrote(None);
    }

    /// A number of the memory at a computed index.
    fn load_index(&mut self, index: Value) -> Value {
        let at = self.address(index);
        self.b.ins().sload32(heap(), at, 0)
    }

    /// Stores into a list at a computed index, and remembers it where the list is part of the state.
    fn store_index(&mut self, index: Value, value: Value, list: u16) {
        let at = self.address(index);
        self.b.ins().istore32(heap(), value, at, 0);
        if self.code.lists[list as usize].puts {
            let slot = self.b.ins().iadd_imm(index, -i64::from(self.code.now));
            self.mark(slot);
        }
    }

    /// Lists: one entry at a time; more are for the interpreter.
    fn list(&mut self, op: &Op) {
        match *op {
            Op::ListTail { s, n, to, list } => {
                let (s, n) = (self.get(s), self.get(n));
                let one = self.b.ins().icmp_imm(IntCC::Equal, n, 1);
                let pad = self.code.lists[list as usize].pad;
                self.either(one, op, |e| {
                    let len = e.load_index(s);
                    let last = e.b.ins().iadd(s, len);
                    let value = e.load_index(last);
                    e.b.ins().istore32(heap(), value, e.mem, (to.0 * 4) as i32);
                    let pad = e.number(pad.into());
                    e.store_index(last, pad, list);
                    let less = e.b.ins().iadd_imm(len, -1);
                    e.store_index(s, less, list);
                });
            }
            Op::ListJoin { d, n, from, list, .. } => {
                let (d, n) = (self.get(d), self.get(n));
                let one = self.b.ins().icmp_imm(IntCC::Equal, n, 1);
                let len = self.load_index(d);
                let cap = self.code.lists[list as usize].cap;
                let room = self.b.ins().icmp_imm(IntCC::SignedLessThan, len, i64::from(cap));
                let easy = self.b.ins().band(one, room);
                self.either(easy, op, |e| {
                    let value = e.load_at(from.0);
                    let more = e.b.ins().iadd_imm(len, 1);
                    let spot = e.b.ins().iadd(d, more);
                    e.store_index(spot, value, list);
                    e.store_index(d, more, list);
                });
            }
            Op::ListAdd { a, v, list, .. } => {
                if self.code.lists[list as usize].bag {
                    self.step(op);
                    return;
                }
                let (a, v) = (self.get(a), self.get(v));
                let small = self.is_small(v);
                let len = self.load_index(a);
                let cap = self.code.lists[list as usize].cap;
                let room = self.b.ins().icmp_imm(IntCC::SignedLessThan, len, i64::from(cap));
                let easy = self.b.ins().band(small, room);
                self.either(easy, op, |e| {
                    let more = e.b.ins().iadd_imm(len, 1);
                    let spot = e.b.ins().iadd(a, more);
                    e.store_index(spot, v, list);
                    e.store_index(a, more, list);
                });
            }
            Op::ListCheck { s, list, site } => {
                let s = self.get(s);
                let info = self.code.lists[list as usize];
                let len = self.load_index(s);
                let (head, body, on) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
                self.b.append_block_param(head, I64);
                let one = self.number(1);
                self.b.ins().jump(head, &[BlockArg::Value(one)]);
                self.b.switch_to_block(head);
                let i = self.b.block_params(head)[0];
                let left = self.b.ins().icmp(IntCC::SignedLessThanOrEqual, i, len);
                self.b.ins().brif(left, body, &[], on, &[]);
                self.b.switch_to_block(body);
                let index = self.b.ins().iadd(s, i);
                let value = self.load_index(index);
                let mut sound = self.is_between(value, info.lo.into(), info.hi.into());
                if info.maybe {
                    let none = self.b.ins().icmp_imm(IntCC::Equal, value, NONE);
                    sound = self.b.ins().bor(sound, none);
                }
                self.unless_broken(sound, site, value);
                let next = self.b.ins().iadd_imm(i, 1);
                self.b.ins().jump(head, &[BlockArg::Value(next)]);
                self.b.switch_to_block(on);
            }
            _ => unreachable!("only these are sent here"),
        }
    }

    /// A quotient and the rest, of a number below 2^31 and a fixed divisor, by multiplication (Granlund & Montgomery 1994):
    /// with 2^s >= n, m = ceil(2^(31+s) / n) is below 2^32, and x / n = x * m >> (31 + s).
    fn divided(&mut self, x: Value, n: i64) -> (Value, Value) {
        let s = 64 - ((n - 1).max(0) as u64).leading_zeros();
        let m = (1u64 << (31 + s)).div_ceil(n as u64);
        let product = self.b.ins().imul_imm(x, m as i64);
        let quotient = self.b.ins().ushr_imm(product, i64::from(31 + s));
        let whole = self.b.ins().imul_imm(quotient, n);
        (quotient, self.b.ins().isub(x, whole))
    }

    fn shape(&mut self, op: &Op) {
        let (Op::ShapeMove { d, p, shapes, .. }
        | Op::ShapeAnchor { d, p, shapes }
        | Op::ShapeKind { d, p, shapes }
        | Op::ShapeTurnOf { d, p, shapes }
        | Op::ShapeLen { d, p, shapes }
        | Op::ShapeCell { d, p, shapes, .. }) = *op
        else {
            unreachable!("only shapes are sent here")
        };
        let table = &self.code.shapes[shapes as usize];
        let (rows, cols, margin) = (table.rows, table.cols, table.margin);
        let all = table.all.len() as i64;
        let longest = table.cells.iter().map(Vec::len).max().unwrap_or(0) as i64;
        if all * rows * cols >= 1 << 31 || all == 0 || rows * cols == 0 {
            self.step(op);
            return;
        }
        // A placed shape is a number below that; what is not is for the interpreter.
        let p = self.get(p);
        let easy = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, p, all * rows * cols);
        let zero = self.number(0);
        let p = self.b.ins().select(easy, p, zero);
        let (line, col) = self.divided(p, cols);
        let (turn, row) = self.divided(line, rows);
        let anchor = |e: &mut Self| {
            let (row, col) = (e.b.ins().iadd_imm(row, -margin), e.b.ins().iadd_imm(col, -margin));
            e.place_of(row, col)
        };
        let (easy, v) = match *op {
            Op::ShapeMove { o, .. } => {
                let o = self.get(o);
                let (r, c) = self.offset_parts(o);
                let (row, col) = (self.b.ins().iadd(row, r), self.b.ins().iadd(col, c));
                let on_row = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, row, rows);
                let on_col = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, col, cols);
                let on = self.b.ins().band(on_row, on_col);
                let first = self.b.ins().imul_imm(turn, rows);
                let line = self.b.ins().iadd(first, row);
                let first = self.b.ins().imul_imm(line, cols);
                let v = self.b.ins().iadd(first, col);
                (self.b.ins().band(easy, on), v)
            }
            Op::ShapeAnchor { .. } => (easy, anchor(self)),
            Op::ShapeKind { .. } => {
                let kinds = self.code.shapes[shapes as usize].all.iter().map(|a| a.0).collect();
                (easy, self.entry(kinds, turn))
            }
            Op::ShapeTurnOf { .. } => {
                let turns = self.code.shapes[shapes as usize].all.iter().map(|a| a.1).collect();
                (easy, self.entry(turns, turn))
            }
            Op::ShapeLen { .. } => {
                let lens = self.code.shapes[shapes as usize].cells.iter().map(|c| c.len() as i64).collect();
                (easy, self.entry(lens, turn))
            }
            Op::ShapeCell { i, .. } => {
                // All offsets in one table; a shape with fewer cells has unused places.
                let i = self.get(i);
                let short = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, i, longest);
                let easy = self.b.ins().band(easy, short);
                let i = self.b.ins().select(short, i, zero);
                let mut offsets = vec![];
                for cells in &self.code.shapes[shapes as usize].cells {
                    let unused = longest as usize - cells.len();
                    offsets.extend(cells.iter().copied().chain(std::iter::repeat_n(0, unused)));
                }
                let first = self.b.ins().imul_imm(turn, longest);
                let at = self.b.ins().iadd(first, i);
                let offset = self.entry(offsets, at);
                let place = anchor(self);
                (easy, self.b.ins().iadd(place, offset))
            }
            _ => unreachable!("all shapes are handled"),
        };
        self.or_step(easy, op, Some((d, v)));
    }
}

/// Whether two blocks of this length share no number.
fn apart(a: M, b: M, len: u32) -> bool {
    a.0 + len <= b.0 || b.0 + len <= a.0
}
