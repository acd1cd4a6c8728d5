//! Lists.

use super::*;

impl Emitter<'_, '_> {
    /// Writes what is done when the condition holds; else the interpreter does it.
    pub(super) fn either(&mut self, easy: Value, op: &Op, write: impl FnOnce(&mut Self)) {
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
    pub(super) fn load_index(&mut self, index: Value) -> Value {
        let at = self.address(index);
        self.b.ins().sload32(heap(), at, 0)
    }

    /// Stores into a list at a computed index, and remembers it where the list is part of the state.
    pub(super) fn store_index(&mut self, index: Value, value: Value, list: u16) {
        let at = self.address(index);
        self.b.ins().istore32(heap(), value, at, 0);
        if self.code.lists[list as usize].puts {
            let slot = self.b.ins().iadd_imm(index, -i64::from(self.code.now));
            self.mark(slot);
        }
    }

    /// Lists: one entry at a time; more are for the interpreter.
    pub(super) fn list(&mut self, op: &Op) {
        match *op {
            Op::ListTail { s, n, to, list } => {
                let (s, n) = (self.get(s), self.get(n));
                let one = self.b.ins().icmp_imm(IntCC::Equal, n, 1);
                let pad = self.code.lists[list as usize].pad;
                self.either(one, op, |e| {
                    let len = e.load_index(s);
                    let last = e.b.ins().iadd(s, len);
                    let value = e.load_index(last);
                    e.b.ins().istore32(heap(), value, e.loaded.mem, (to.0 * 4) as i32);
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
}
