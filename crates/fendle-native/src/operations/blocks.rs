//! Blocks of numbers: copied, compared, joined and looked through, four at a time.

use super::*;

impl Emitter<'_, '_> {
    pub(super) fn is_written_out(&self, len: u32) -> bool {
        len <= WRITTEN_OUT_MAX
    }

    pub(super) fn copy(&mut self, d: M, s: M, len: u32) {
        self.wrote(Some((d, len)));
        let mut i = 0;
        while i < len {
            let n = if len - i >= 4 { 4 } else { 1 };
            let v = if n == 4 { self.load_four(s.0 + i) } else { self.load_one(s.0 + i, I32) };
            self.store_raw(v, d.0 + i);
            i += n;
        }
    }

    pub(super) fn clear(&mut self, d: M, len: u32, op: &Op) {
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
    pub(super) fn check_block(&mut self, base: M, len: u32, dom: u16, op: &Op) {
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
    pub(super) fn same(&mut self, d: R, a: M, b: M, len: u32, op: &Op) {
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

    pub(super) fn join(&mut self, how: Join, d: M, a: M, b: M, op: &Op) {
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
    pub(super) fn next(&mut self, d: R, base: M, v: Option<i32>, to: To) {
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
    pub(super) fn cells_hit(&mut self, base: M, v: Option<i32>) -> Value {
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

    pub(super) fn next_by_loop(&mut self, d: R, base: M, v: Option<i32>, to: To, from: Value) {
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
        let at = self.b.ins().iadd(self.loaded.mem, bytes);
        let value = self.b.ins().sload32(heap(), at, (base.0 * 4) as i32);
        let how = if v.is_some() { IntCC::Equal } else { IntCC::NotEqual };
        let found = self.b.ins().icmp_imm(how, value, i64::from(v.unwrap_or(0)));
        let next = self.b.ins().iadd_imm(cell, 1);
        self.b.ins().brif(found, hit, &[], head, &[BlockArg::Value(next)]);
        self.b.switch_to_block(hit);
        self.set(d, cell);
    }
}
