//! Laws, status and moves of a state in one call.

use fendle_lang::code::ir::{Positions, Program};
use fendle_lang::code::machine::{BEFORE_DRAW, POSITION_STEPS};
use fendle_lang::run::STEP_BUDGET;

use super::*;
use crate::context::Ended;

/// Values of a state up to which it is restored whole.
const COPIED_MAX: u32 = 32;

/// How a successor is written down.
pub(crate) enum Successor<'s> {
    /// As its number, by a function that makes it from that of its parent. With positions moves can stop before their first draw; these
    /// have numbers above the range of the states.
    Number { key: FuncRef, range: u64, positions: Option<&'s Positions> },
    /// As so many packed words, by a [`Pack`].
    Packed { pack: FuncRef, words: usize },
}

impl Writer<'_> {
    /// Calls a program that gives a value; anything else is slow.
    fn ask(&mut self, program: u32) -> Value {
        let fuel = self.b.ins().load(I64, MemFlags::trusted(), self.context, at::FUEL);
        let budget = self.number(STEP_BUDGET as u64);
        self.b.ins().store(MemFlags::trusted(), budget, fuel, 0);
        let ended = self.call_program(program);
        let gave = self.b.ins().icmp_imm(IntCC::Equal, ended, 1);
        self.unless_slow(gave);
        self.b.ins().load(I64, MemFlags::trusted(), self.context, at::VALUE)
    }

    fn call_program(&mut self, program: u32) -> Value {
        let function = self.number(self.programs.address(program) as u64);
        let entry = self.number(self.code.programs[program as usize].entry.into());
        let call = self.b.ins().call_indirect(self.call, function, &[self.context, entry]);
        self.b.inst_results(call)[0]
    }

    pub(crate) fn load(&mut self, unpack: FuncRef) {
        let state = self.params[1];
        self.b.ins().call(unpack, &[self.context, state]);
        if !self.code.law_sites.is_empty() {
            let broken = self.ask(self.code.laws);
            let sound = self.b.ins().icmp_imm(IntCC::Equal, broken, 0);
            self.unless_slow(sound);
        }
        let (by_statement, running) = (self.b.create_block(), self.b.create_block());
        let ended = self.load_now(self.code.state_len as usize - 1);
        self.b.ins().brif(ended, by_statement, &[], running, &[]);
        self.b.switch_to_block(by_statement);
        let told = self.b.ins().bor_imm(ended, ENDED as i64);
        self.b.ins().return_(&[told]);
        self.b.switch_to_block(running);
        let status = self.ask(self.code.status);
        self.finish(status);
    }

    pub(crate) fn restore(&mut self) {
        if self.code.state_len <= COPIED_MAX {
            self.restore_all();
            return;
        }
        for w in 0..(self.code.state_len as usize).div_ceil(64) {
            let word = self.b.ins().load(I64, table(), self.changed, (w * 8) as i32);
            let zero = self.number(0);
            self.b.ins().store(table(), zero, self.changed, (w * 8) as i32);
            let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
            self.b.append_block_param(head, I64);
            self.b.ins().jump(head, &[BlockArg::Value(word)]);
            self.b.switch_to_block(head);
            let left = self.b.block_params(head)[0];
            self.b.ins().brif(left, body, &[], done, &[]);
            self.b.switch_to_block(body);
            // Only bits of values of the state are ever set, so the place is inside.
            let slot = self.b.ins().ctz(left);
            let bytes = self.b.ins().ishl_imm(slot, 2);
            let at = self.b.ins().iadd(self.mem, bytes);
            let (before, now) = (self.before(w * 64), self.now(w * 64));
            let value = self.b.ins().sload32(heap(), at, before);
            self.b.ins().istore32(heap(), value, at, now);
            let less = self.b.ins().iadd_imm(left, -1);
            let rest = self.b.ins().band(left, less);
            self.b.ins().jump(head, &[BlockArg::Value(rest)]);
            self.b.switch_to_block(done);
        }
        let zero = self.number(0);
        self.finish(zero);
    }

    /// Copies a state of few values whole, which is faster than looking for those that were changed.
    fn restore_all(&mut self) {
        let len = self.code.state_len as usize;
        let mut slot = 0;
        while slot < len {
            let (ty, n) = if len - slot >= 4 { (I32X4, 4) } else { (I32, 1) };
            let (before, now) = (self.before(slot), self.now(slot));
            let value = self.b.ins().load(ty, loose(), self.mem, before);
            self.b.ins().store(loose(), value, self.mem, now);
            slot += n;
        }
        let zero = self.number(0);
        self.b.ins().store(table(), zero, self.changed, 0);
        self.finish(zero);
    }

    #[expect(clippy::too_many_lines, reason = "the code of one function, written from its head to its end")]
    pub(crate) fn moves(&mut self, successor: &Successor<'_>, restore: FuncRef) {
        let code = self.code;
        let &[_, state, from, to] = self.params.as_slice() else { unreachable!("four parameters") };
        let flags = MemFlags::trusted();
        let field = |w: &mut Self, at| w.b.ins().load(I64, flags, w.context, at);
        let regs = field(self, at::REGS);
        let fuel = field(self, at::FUEL);
        let score = field(self, at::SCORE);
        let states = field(self, at::OUT_STATES);
        let moves = field(self, at::OUT_MOVES);
        let scores = field(self, at::OUT_SCORES);
        let tried = &code.tried;
        let blocks: Vec<Block> = (0..=tried.len())
            .map(|_| {
                let block = self.b.create_block();
                self.b.append_block_param(block, I64);
                block
            })
            .collect();
        let zero = self.number(0);
        let budget = self.number(STEP_BUDGET as u64);
        if tried.is_empty() {
            self.b.ins().jump(blocks[0], &[BlockArg::Value(zero)]);
        } else {
            // To the first move that is wanted.
            let mut switch = cranelift_frontend::Switch::new();
            let mut entries = vec![];
            for (i, (number, block)) in tried.iter().zip(&blocks).enumerate() {
                let entry = self.b.create_block();
                switch.set_entry(u128::from(*number), entry);
                if i == 0 && *number != 0 {
                    // Who asks for all moves begins at 0.
                    switch.set_entry(0, entry);
                }
                entries.push((entry, *block));
            }
            let none = self.b.create_block();
            switch.emit(&mut self.b, from, none);
            for (entry, block) in entries {
                self.b.switch_to_block(entry);
                self.b.ins().jump(block, &[BlockArg::Value(zero)]);
            }
            self.b.switch_to_block(none);
            self.b.ins().jump(blocks[tried.len()], &[BlockArg::Value(zero)]);
        }
        for (i, &of) in tried.iter().enumerate() {
            let entry = &code.moves[of as usize];
            self.b.switch_to_block(blocks[i]);
            let count = self.b.block_params(blocks[i])[0];
            let program = &code.programs[entry.program as usize];
            for (r, v) in program.params.iter().zip(&entry.args) {
                let v = self.number(*v as u64);
                self.b.ins().store(flags, v, regs, i32::from(r.0) * 8);
            }
            self.b.ins().store(flags, budget, fuel, 0);
            if self.scores {
                self.b.ins().store(flags, zero, score, 0);
            }
            let ended = self.call_program(entry.program);
            let (done, other, back) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
            self.b.append_block_param(back, I64);
            let made = self.b.create_block();
            // What is added to the number of the state, and to that of the move.
            self.b.append_block_param(made, I64);
            self.b.append_block_param(made, I64);
            self.b.ins().brif(ended, other, &[], done, &[]);
            self.b.switch_to_block(other);
            if let &Successor::Number { range, positions: Some(positions), .. } = successor {
                self.before_draws(program, ended, fuel, (positions, range), made);
            }
            // Refused or not offered: nothing is made of it.
            let kind = self.b.ins().band_imm(ended, 0xff);
            let kind = self.b.ins().iadd_imm(kind, -2);
            let refused = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, kind, 2);
            self.unless_slow(refused);
            self.b.ins().jump(back, &[BlockArg::Value(count)]);
            self.b.switch_to_block(done);
            if self.statement_ends {
                self.write_end_once();
            }
            self.b.ins().jump(made, &[BlockArg::Value(zero), BlockArg::Value(zero)]);
            self.b.switch_to_block(made);
            let (above, mark) = (self.b.block_params(made)[0], self.b.block_params(made)[1]);
            let eight = self.b.ins().ishl_imm(count, 3);
            let four = self.b.ins().ishl_imm(count, 2);
            match *successor {
                Successor::Number { key, .. } => {
                    let call = self.b.ins().call(key, &[self.context, state]);
                    let new = self.b.inst_results(call)[0];
                    let known = self.b.ins().icmp_imm(IntCC::NotEqual, new, -1);
                    self.unless_slow(known);
                    let new = self.b.ins().iadd(new, above);
                    let at = self.b.ins().iadd(states, eight);
                    self.b.ins().store(flags, new, at, 0);
                }
                Successor::Packed { pack, words } => {
                    let bytes = self.b.ins().imul_imm(count, 8 * words as i64);
                    let at = self.b.ins().iadd(states, bytes);
                    let call = self.b.ins().call(pack, &[self.context, state, at]);
                    let packed = self.b.inst_results(call)[0];
                    let known = self.b.ins().icmp_imm(IntCC::NotEqual, packed, -1);
                    self.unless_slow(known);
                }
            }
            let at = self.b.ins().iadd(moves, four);
            let number = self.b.ins().iadd_imm(mark, i64::from(of));
            self.b.ins().istore32(flags, number, at, 0);
            let gained = if self.scores { self.b.ins().load(I64, table(), score, 0) } else { zero };
            let at = self.b.ins().iadd(scores, eight);
            self.b.ins().store(flags, gained, at, 0);
            let more = self.b.ins().iadd_imm(count, 1);
            self.b.ins().jump(back, &[BlockArg::Value(more)]);
            self.b.switch_to_block(back);
            let count = self.b.block_params(back)[0];
            let mut dirty = zero;
            for w in 0..(code.state_len as usize).div_ceil(64) {
                let word = self.b.ins().load(I64, table(), self.changed, (w * 8) as i32);
                dirty = self.b.ins().bor(dirty, word);
            }
            let (clean, on) = (self.b.create_block(), self.b.create_block());
            self.b.ins().brif(dirty, clean, &[], on, &[]);
            self.b.switch_to_block(clean);
            self.b.ins().call(restore, &[self.context]);
            self.b.ins().jump(on, &[]);
            self.b.switch_to_block(on);
            let last = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, to, i64::from(of));
            let end = blocks[tried.len()];
            self.b.ins().brif(last, end, &[BlockArg::Value(count)], blocks[i + 1], &[BlockArg::Value(count)]);
        }
        let end = blocks[tried.len()];
        self.b.switch_to_block(end);
        let count = self.b.block_params(end)[0];
        self.finish(count);
    }

    /// Where a program stopped before a draw: goes to `made` with what is added to the numbers of its state and its move.
    fn before_draws(
        &mut self,
        program: &Program,
        ended: Value,
        fuel: Value,
        (positions, range): (&Positions, u64),
        made: Block,
    ) {
        for pc in program.entry..program.end {
            let Op::BeforeDraw { point } = self.code.ops[pc as usize] else { continue };
            let Some((continuation, _)) = positions.at(point) else { continue };
            let (here, on) = (self.b.create_block(), self.b.create_block());
            let is = self.b.ins().icmp_imm(IntCC::Equal, ended, Ended::Paused(pc).number());
            self.b.ins().brif(is, here, &[], on, &[]);
            self.b.switch_to_block(here);
            // A move that took very many steps is for the machine.
            let left = self.b.ins().load(I64, MemFlags::trusted(), fuel, 0);
            let enough = self.b.ins().icmp_imm(IntCC::SignedGreaterThanOrEqual, left, POSITION_STEPS);
            self.unless_slow(enough);
            let above = self.number(range * u64::from(*continuation));
            let mark = self.number(BEFORE_DRAW.into());
            self.b.ins().jump(made, &[BlockArg::Value(above), BlockArg::Value(mark)]);
            self.b.switch_to_block(on);
        }
    }

    /// An ending that a statement wrote and a condition says as well is written once.
    fn write_end_once(&mut self) {
        let slot = self.code.state_len as usize - 1;
        let ended = self.load_now(slot);
        let (here, on) = (self.b.create_block(), self.b.create_block());
        self.b.ins().brif(ended, here, &[], on, &[]);
        self.b.switch_to_block(here);
        let value = self.ask(self.code.status_changed);
        let same = self.b.ins().icmp(IntCC::Equal, value, ended);
        let zero = self.number(0);
        let new = self.b.ins().select(same, zero, ended);
        let at = self.now(slot);
        self.b.ins().istore32(heap(), new, self.mem, at);
        let word = ((slot / 64) * 8) as i32;
        let old = self.b.ins().load(I64, table(), self.changed, word);
        let bit = self.number(1 << (slot % 64));
        let marked = self.b.ins().bor(old, bit);
        self.b.ins().store(table(), marked, self.changed, word);
        self.b.ins().jump(on, &[]);
        self.b.switch_to_block(on);
    }
}
