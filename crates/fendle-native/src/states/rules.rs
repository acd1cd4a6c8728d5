//! Laws, status and moves of a state in one call.

use fendle_lang::code::ir::{Positions, Program, may_store_below};
use fendle_lang::code::machine::{BEFORE_DRAW, POSITION_STEPS};
use fendle_lang::run::STEP_BUDGET;
use fendle_lang::state::packing::PackedRow;

use super::*;
use crate::context::Ended;
use crate::emit::{self, Loaded, On};

/// Operations up to which the program of a move is written into the function that tries them, and how many these may be together.
const INLINED_MAX: usize = 160;
const ALL_INLINED_MAX: usize = 1500;
/// Values up to which fixed changes of a move are packed one after the other.
const FIXED_MAX: usize = 8;
/// Values of a state up to which it is restored whole.
const COPIED_MAX: u32 = 32;

/// `none` as a value of a state.
pub(crate) const NONE: i32 = fendle_lang::model::NONE as i32;

/// How a successor is written down.
pub(crate) enum Successor<'s> {
    /// As its number, by a function that makes it from that of its parent. With positions moves can stop before their first draw; these
    /// have numbers above the range of the states.
    Number { key: FuncRef, range: u64, positions: Option<&'s Positions> },
    /// As so many packed words, by a [`Pack`] that also takes back what was changed.
    ///
    /// `places`: the values that have a place of their own in the words.
    Packed { pack: FuncRef, words: usize, places: &'s [PackedRow] },
}

/// What trying one move after the other needs.
struct Tries<'s> {
    successor: &'s Successor<'s>,
    /// Takes back what a move changed.
    restore: FuncRef,
    loaded: Loaded,
    state: Value,
    /// Where successors, moves and scores are written.
    states: Value,
    moves: Value,
    scores: Value,
    /// Whether the programs of short moves are written into this function.
    inlines: bool,
}

/// Whether an operation can store to this place of the memory, as statements do that end the game.
fn writes(op: &Op, at: u32) -> bool {
    match *op {
        Op::PutAt { to, .. } => to.0 == at,
        Op::Put { base, .. } => base.0 == at,
        Op::PutBlock { d, len, .. } => d.0 <= at && at < d.0 + len,
        _ => false,
    }
}

impl Writer<'_> {
    /// Calls a program that gives a value; anything else is slow.
    fn ask(&mut self, program: u32) -> Value {
        let Program { entry, end, .. } = self.code.programs[program as usize];
        if let &[Op::Const { d, v }, Op::Give { s }] = &self.code.ops[entry as usize..end as usize]
            && d == s
        {
            return self.number(v as u64);
        }
        let fuel = self.b.ins().load(I64, MemFlags::trusted(), self.context, at::FUEL);
        let budget = self.number(STEP_BUDGET as u64);
        self.b.ins().store(MemFlags::trusted(), budget, fuel, 0);
        let ended = self.call_program(program);
        let gave = self.b.ins().icmp_imm(IntCC::Equal, ended, 1);
        self.unless_slow(gave);
        self.b.ins().load(I64, MemFlags::trusted(), self.context, at::VALUE)
    }

    fn call_program(&mut self, program: u32) -> Value {
        let function = self.programs.entry(self.code, program);
        self.lacks_program |= function.is_none();
        let function = self.number(function.map_or(0, |f| f as usize as u64));
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
            self.take_back(w, word);
        }
        let zero = self.number(0);
        self.finish(zero);
    }

    /// Takes back the values of one word of `changed` that have a bit.
    pub(crate) fn take_back(&mut self, word: usize, bits: Value) {
        let nothing = self.number(0);
        let (before, now) = (self.before(word * 64), self.now(word * 64));
        self.for_each_bit(bits, nothing, |w, _, at, nothing| {
            let value = w.b.ins().sload32(heap(), at, before);
            w.b.ins().istore32(heap(), value, at, now);
            nothing
        });
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

    pub(crate) fn moves(&mut self, successor: &Successor<'_>, restore: FuncRef) {
        let code = self.code;
        let &[_, state, from, to] = self.params.as_slice() else { unreachable!("four parameters") };
        let loaded = Loaded::of(&mut self.b, self.context);
        let field = |w: &mut Self, at| w.b.ins().load(I64, MemFlags::trusted(), w.context, at);
        let states = field(self, at::OUT_STATES);
        let moves = field(self, at::OUT_MOVES);
        let scores = field(self, at::OUT_SCORES);
        // Blocks that take how many moves were made so far: one for each move that is tried, and the end.
        let blocks: Vec<Block> = (0..=code.tried.len()).map(|_| self.block_with(1)).collect();
        self.begin_with_wanted(from, &blocks);
        let len_of = |number: &u32| code.programs[code.moves[*number as usize].program as usize].len();
        let total: usize = code.tried.iter().map(len_of).filter(|len| *len <= INLINED_MAX).sum();
        let tries = Tries {
            successor,
            restore,
            loaded,
            state,
            states,
            moves,
            scores,
            inlines: total <= ALL_INLINED_MAX,
        };
        let end = blocks[code.tried.len()];
        for (i, &of) in code.tried.iter().enumerate() {
            self.b.switch_to_block(blocks[i]);
            let count = self.b.block_params(blocks[i])[0];
            let count = self.try_move(&tries, of, count);
            let last = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, to, i64::from(of));
            self.b.ins().brif(last, end, &[BlockArg::Value(count)], blocks[i + 1], &[BlockArg::Value(count)]);
        }
        self.b.switch_to_block(end);
        let count = self.b.block_params(end)[0];
        self.finish(count);
    }

    /// A block that takes so many numbers.
    pub(crate) fn block_with(&mut self, numbers: usize) -> Block {
        let block = self.b.create_block();
        for _ in 0..numbers {
            self.b.append_block_param(block, I64);
        }
        block
    }

    /// Goes to the first move that is wanted, with none made.
    fn begin_with_wanted(&mut self, from: Value, blocks: &[Block]) {
        let tried = &self.code.tried;
        let zero = self.number(0);
        let mut switch = cranelift_frontend::Switch::new();
        let mut entries = vec![];
        for (i, (number, block)) in tried.iter().zip(blocks).enumerate() {
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
        entries.push((none, blocks[tried.len()]));
        for (entry, block) in entries {
            self.b.switch_to_block(entry);
            self.b.ins().jump(block, &[BlockArg::Value(zero)]);
        }
    }

    /// Tries a move, writes down what it leads to, and takes back what it changed: how many were made then.
    fn try_move(&mut self, tries: &Tries<'_>, of: u32, count: Value) -> Value {
        let flags = MemFlags::trusted();
        let zero = self.number(0);
        let &Tries { loaded, moves, scores, .. } = tries;
        let program = &self.code.programs[self.code.moves[of as usize].program as usize];
        let has_score = self.holds(program, |op| matches!(op, Op::Score { .. }));
        if has_score {
            self.b.ins().store(flags, zero, loaded.score, 0);
        }
        let on =
            On { done: self.b.create_block(), refused: self.b.create_block(), other: self.block_with(1) };
        let inlined = tries.inlines && program.len() <= INLINED_MAX && !emit::stops(self.code, program);
        let fixed = if inlined { self.fixed_changes(program, tries.successor) } else { None };
        self.run_move(tries, of, (inlined, fixed.is_some()), on);
        let next = self.block_with(1);
        // Nothing was changed by a move of fixed changes that is refused.
        let back = if fixed.is_some() { next } else { self.block_with(1) };
        // What is added to the number of the state, and to that of the move.
        let made = self.block_with(2);
        self.b.switch_to_block(on.other);
        let ended = self.b.block_params(on.other)[0];
        if let &Successor::Number { range, positions: Some(positions), .. } = tries.successor {
            self.before_draws(program, ended, loaded.fuel, (positions, range), made);
        }
        // Refused or not offered: nothing is made of it.
        let kind = self.b.ins().band_imm(ended, 0xff);
        let kind = self.b.ins().iadd_imm(kind, -2);
        let refused = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, kind, 2);
        self.unless_slow(refused);
        self.b.ins().jump(on.refused, &[]);
        self.b.switch_to_block(on.refused);
        self.b.ins().jump(back, &[BlockArg::Value(count)]);
        self.b.switch_to_block(on.done);
        if self.holds(program, |op| writes(op, self.end_slot())) {
            self.write_end_once();
        }
        self.b.ins().jump(made, &[BlockArg::Value(zero), BlockArg::Value(zero)]);
        self.b.switch_to_block(made);
        let (above, mark) = (self.b.block_params(made)[0], self.b.block_params(made)[1]);
        let eight = self.b.ins().ishl_imm(count, 3);
        let four = self.b.ins().ishl_imm(count, 2);
        let clean = match &fixed {
            Some(changes) => {
                self.write_fixed_changes(tries, count, changes);
                true
            }
            None => self.write_successor(tries, count, above),
        };
        let at = self.b.ins().iadd(moves, four);
        let number = self.b.ins().iadd_imm(mark, i64::from(of));
        self.b.ins().istore32(flags, number, at, 0);
        let gained = if has_score { self.b.ins().load(I64, table(), loaded.score, 0) } else { zero };
        let at = self.b.ins().iadd(scores, eight);
        self.b.ins().store(flags, gained, at, 0);
        let more = self.b.ins().iadd_imm(count, 1);
        self.b.ins().jump(if clean { next } else { back }, &[BlockArg::Value(more)]);
        if back != next {
            self.restore_if_changed(tries, back, next);
        }
        self.b.switch_to_block(next);
        self.b.block_params(next)[0]
    }

    /// Takes back what a move changed, where it changed something.
    fn restore_if_changed(&mut self, tries: &Tries<'_>, back: Block, next: Block) {
        self.b.switch_to_block(back);
        let count = self.b.block_params(back)[0];
        let zero = self.number(0);
        let words = self.changed_words();
        let dirty = words.into_iter().reduce(|a, b| self.b.ins().bor(a, b)).unwrap_or(zero);
        let restoring = self.b.create_block();
        self.b.ins().brif(dirty, restoring, &[], next, &[BlockArg::Value(count)]);
        self.b.switch_to_block(restoring);
        self.b.ins().call(tries.restore, &[self.context]);
        self.b.ins().jump(next, &[BlockArg::Value(count)]);
    }

    /// Where a statement writes down that the game has ended.
    fn end_slot(&self) -> u32 {
        self.code.now + self.code.state_len - 1
    }

    /// Runs the program of a move, as a part of this function or by a call. It need not remember what it changes where that is fixed.
    fn run_move(&mut self, tries: &Tries<'_>, of: u32, (inlined, fixed): (bool, bool), on: On) {
        let code = self.code;
        let entry = &code.moves[of as usize];
        let program = &code.programs[entry.program as usize];
        let loaded = tries.loaded;
        if inlined {
            let of = (self.programs.board(), code, &mut *self.tables);
            let with = (program, entry.args.as_slice());
            emit::inline(&mut self.b, of, loaded, with, (STEP_BUDGET, !fixed), on);
            return;
        }
        let flags = MemFlags::trusted();
        for (r, v) in program.params.iter().zip(&entry.args) {
            let v = self.number(*v as u64);
            self.b.ins().store(flags, v, loaded.regs, i32::from(r.0) * 8);
        }
        let budget = self.number(STEP_BUDGET as u64);
        self.b.ins().store(flags, budget, loaded.fuel, 0);
        let ended = self.call_program(entry.program);
        self.b.ins().brif(ended, on.other, &[BlockArg::Value(ended)], on.done, &[]);
    }

    /// Writes the state now where successor number `count` goes. Says whether what was changed was also taken back.
    fn write_successor(&mut self, tries: &Tries<'_>, count: Value, above: Value) -> bool {
        let &Tries { state, states, .. } = tries;
        match *tries.successor {
            Successor::Number { key, .. } => {
                let call = self.b.ins().call(key, &[self.context, state]);
                let new = self.b.inst_results(call)[0];
                let known = self.b.ins().icmp_imm(IntCC::NotEqual, new, -1);
                self.unless_slow(known);
                let new = self.b.ins().iadd(new, above);
                let bytes = self.b.ins().ishl_imm(count, 3);
                let at = self.b.ins().iadd(states, bytes);
                self.b.ins().store(MemFlags::trusted(), new, at, 0);
                false
            }
            Successor::Packed { pack, words, .. } => {
                let bytes = self.b.ins().imul_imm(count, 8 * words as i64);
                let at = self.b.ins().iadd(states, bytes);
                let call = self.b.ins().call(pack, &[self.context, state, at]);
                let packed = self.b.inst_results(call)[0];
                let known = self.b.ins().icmp_imm(IntCC::NotEqual, packed, -1);
                self.unless_slow(known);
                true
            }
        }
    }

    /// The values that a program changes, where these are always the same few, each with a place of its own in the packed words, and the move is never
    /// refused once it changed one.
    fn fixed_changes(&self, p: &Program, successor: &Successor<'_>) -> Option<Vec<PackedRow>> {
        let Successor::Packed { places, .. } = successor else { return None };
        let ops = &self.code.ops[p.entry as usize..p.end as usize];
        let mut changes: Vec<PackedRow> = vec![];
        let mut first = None;
        for (pc, op) in (p.entry..).zip(ops) {
            match *op {
                Op::PutAt { to, .. } if to.0 != self.end_slot() => {
                    first.get_or_insert(pc);
                    let place = places.iter().find(|place| place.slot as u32 == to.0 - self.code.now)?;
                    if !changes.contains(place) {
                        changes.push(*place);
                    }
                }
                Op::Refuse { .. } | Op::NotOffered {} if first.is_some() => return None,
                op if may_store_below(&op, self.code.now + self.code.state_len) => return None,
                _ => {}
            }
            // No way leads back before the first change.
            let mut behind = true;
            op.jumps(&mut |to| behind &= first.is_none_or(|first| to.0 >= first));
            if !behind {
                return None;
            }
        }
        (changes.len() <= FIXED_MAX).then_some(changes)
    }

    /// Writes the words of a successor that differs from its parent in these values at most, and takes these back.
    fn write_fixed_changes(&mut self, tries: &Tries<'_>, count: Value, changes: &[PackedRow]) {
        let &Successor::Packed { words, .. } = tries.successor else { unreachable!("packed states") };
        let flags = MemFlags::trusted();
        let bytes = self.b.ins().imul_imm(count, 8 * words as i64);
        let at = self.b.ins().iadd(tries.states, bytes);
        let mut packed: Vec<Value> =
            (0..words).map(|i| self.b.ins().load(I64, flags, tries.state, 8 * i as i32)).collect();
        for place in changes {
            let (before, now) = (self.before(place.slot), self.now(place.slot));
            let old = self.b.ins().sload32(heap(), self.mem, before);
            let (mut was, mut is) = (old, self.load_now(place.slot));
            self.b.ins().istore32(heap(), old, self.mem, now);
            if place.none {
                let lo = self.number(i64::from(place.lo) as u64);
                for value in [&mut was, &mut is] {
                    *value = self.none_as(*value, lo);
                }
            }
            // Fields take bits of their own, so adding the difference changes these bits only.
            let more = self.b.ins().isub(is, was);
            let (word, bit) = (place.bit as usize / 64, i64::from(place.bit % 64));
            let here = self.b.ins().ishl_imm(more, bit);
            let new = self.b.ins().iadd(packed[word], here);
            if place.crosses() {
                let up = self.number(64 - bit as u64);
                let above = self.above((packed[word], new), more, up);
                packed[word + 1] = self.b.ins().iadd(packed[word + 1], above);
            }
            packed[word] = new;
        }
        for (i, word) in packed.into_iter().enumerate() {
            self.b.ins().store(flags, word, at, 8 * i as i32);
        }
    }

    /// What is added to the next word where a difference was added to one that begins there: what lies above its bits, and what does not fit the lower word and is
    /// carried. `up`: the bits that lie in the lower one.
    pub(crate) fn above(&mut self, (old, new): (Value, Value), more: Value, up: Value) -> Value {
        let carried = self.b.ins().icmp(IntCC::UnsignedLessThan, new, old);
        let carried = self.b.ins().uextend(I64, carried);
        let above = self.b.ins().sshr(more, up);
        self.b.ins().iadd(above, carried)
    }

    /// A value, or what `none` counts as where it is that.
    pub(crate) fn none_as(&mut self, value: Value, counts_as: Value) -> Value {
        let is_none = self.b.ins().icmp_imm(IntCC::Equal, value, i64::from(NONE));
        self.b.ins().select(is_none, counts_as, value)
    }

    /// Whether a program has such an operation.
    fn holds(&self, p: &Program, is: impl Fn(&Op) -> bool) -> bool {
        self.code.ops[p.entry as usize..p.end as usize].iter().any(is)
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
