//! One program of the intermediate form as one function: its blocks, its ways in and out, and what operations share.

use cranelift_codegen::ir::condcodes::IntCC;
use cranelift_codegen::ir::{
    AbiParam, AliasRegion, Block, BlockArg, Function, InstBuilder, InstructionData, MemFlags, Opcode, SigRef,
    Signature, Type, UserFuncName, Value,
    types::{I32X4, I64},
};
use cranelift_frontend::{FunctionBuilder, FunctionBuilderContext, Variable};
use cranelift_jit::JITModule;
use cranelift_module::Module;
use fendle_lang::code::ir::{Code, M, Op, Program, R, Site, To};
use std::collections::BTreeMap;

use crate::context::{Ended, at, step};
use crate::states::{entry_of, kept_table};

/// The signature of the code of a program, see [`crate::context::Entry`].
pub(crate) fn signature(module: &JITModule) -> Signature {
    let mut out = module.make_signature();
    out.params.extend([AbiParam::new(I64), AbiParam::new(I64)]);
    out.returns.push(AbiParam::new(I64));
    out
}

/// Numbers above which a block is worked on by the interpreter instead of being written out.
pub(crate) const WRITTEN_OUT_MAX: u32 = 128;

/// What is fixed in a level.
#[derive(Clone, Copy)]
pub(crate) struct Board<'c> {
    pub(crate) rows: i64,
    pub(crate) cols: i64,
    /// The numbers at the low end of the memory that never change: level data and the start.
    pub(crate) values: &'c [i32],
    /// What placed shapes cover.
    pub(crate) covered: &'c Covered,
}

/// What each placed shape of a table of shapes covers of a word of the board: the cells as bits, and whether all of it lies on the board. By the number
/// of the table and the word.
pub(crate) type Covered = BTreeMap<(u16, u8), Vec<(u64, bool)>>;

/// What the operations of a code ask of placed shapes, found once.
pub(crate) fn covered(code: &Code, (rows, cols): (i64, i64)) -> Covered {
    let mut out = Covered::new();
    for op in &code.ops {
        if let Op::ShapeBits { shapes, word, .. } | Op::ShapeFits { shapes, word, .. } = *op {
            out.entry((shapes, word)).or_insert_with(|| {
                let table = &code.shapes[shapes as usize];
                (0..table.values_len()).map(|p| table.covered(p, (rows, cols), word)).collect()
            });
        }
    }
    out
}

/// The parts of a context, as a function loads them at its beginning.
#[derive(Clone, Copy)]
pub(crate) struct Loaded {
    context: Value,
    pub(crate) mem: Value,
    pub(crate) regs: Value,
    pub(crate) changed: Value,
    pub(crate) memo: Value,
    pub(crate) known: Value,
    pub(crate) score: Value,
    pub(crate) fuel: Value,
}

impl Loaded {
    pub(crate) fn of(b: &mut FunctionBuilder<'_>, context: Value) -> Loaded {
        let mut part = |at| b.ins().load(I64, MemFlags::trusted(), context, at);
        Loaded {
            context,
            mem: part(at::MEM),
            regs: part(at::REGS),
            changed: part(at::CHANGED),
            memo: part(at::MEMO),
            known: part(at::KNOWN),
            score: part(at::SCORE),
            fuel: part(at::FUEL),
        }
    }
}

/// Where a longer function goes on behind a program that is part of it.
#[derive(Clone, Copy)]
pub(crate) struct On {
    /// Where the program is done.
    pub(crate) done: Block,
    /// Where it was refused, or not offered.
    pub(crate) refused: Block,
    /// Where it ended otherwise; takes the number.
    pub(crate) other: Block,
}

/// Where the code of a program goes on when it has ended.
#[derive(Clone, Copy)]
pub(crate) enum Leads {
    /// It returns a number, see [`Ended`].
    Back,
    /// It is part of a longer function, and goes on there.
    On(On),
}

/// Writes one program.
pub(crate) struct Emitter<'e, 'f> {
    pub(crate) b: &'e mut FunctionBuilder<'f>,
    pub(crate) code: &'e Code,
    pub(crate) rows: i64,
    pub(crate) cols: i64,
    pub(crate) tables: &'e mut Vec<Box<[i64]>>,
    /// The numbers at the low end of the memory that never change.
    pub(crate) fixed: &'e [i32],
    /// What placed shapes cover.
    pub(crate) covers: &'e Covered,
    /// For blocks that are looked through: which cells are hit, one bit each, and whether that is up to date.
    masks: Vec<(u32, Option<i32>, Variable, Variable)>,
    /// The operation that is being written.
    pub(crate) pc: u32,
    pub(crate) loaded: Loaded,
    /// The changed values of a state of few, as long as the program runs.
    marks: Option<Variable>,
    /// Whether it is remembered which values of the state are stored to at fixed places.
    marked: bool,
    fuel: Variable,
    vars: BTreeMap<u16, Variable>,
    blocks: BTreeMap<u32, Block>,
    /// Leaves with a broken rule: takes the site and the value.
    broken: Block,
    /// Leaves with the number given.
    leave: Block,
    leads: Leads,
    signature: SigRef,
}

/// Writes the function of a program.
pub(crate) fn program(
    board: Board<'_>,
    code: &Code,
    p: &Program,
    function: &mut Function,
    builders: &mut FunctionBuilderContext,
    tables: &mut Vec<Box<[i64]>>,
) {
    function.name = UserFuncName::user(0, p.entry);
    let mut b = FunctionBuilder::new(function, builders);
    let first = b.create_block();
    b.append_block_params_for_function_params(first);
    b.switch_to_block(first);
    let (context, entry) = (b.block_params(first)[0], b.block_params(first)[1]);
    let loaded = Loaded::of(&mut b, context);
    let mut e = Emitter::new(&mut b, (board, code, tables), loaded, Leads::Back);
    let steps = e.b.ins().load(I64, MemFlags::trusted(), e.loaded.fuel, 0);
    e.b.def_var(e.fuel, steps);
    e.take_marks();
    e.ways_in(p, entry);
    e.body(p);
    e.ways_out();
    b.seal_all_blocks();
    b.finalize();
}

/// Whether a program may stop and go on later.
pub(crate) fn stops(code: &Code, p: &Program) -> bool {
    let mut ops = code.ops[p.entry as usize..p.end as usize].iter();
    ops.any(|op| matches!(op, Op::Draw { .. } | Op::Merge { .. } | Op::BeforeDraw { .. }))
}

/// Writes a program that never stops into a longer function, with these arguments, where nothing of the loaded state was changed yet. It takes
/// its steps from a budget of its own, and remembers what it changes where that is wanted.
pub(crate) fn inline(
    b: &mut FunctionBuilder<'_>,
    of: (Board<'_>, &Code, &mut Vec<Box<[i64]>>),
    loaded: Loaded,
    (p, args): (&Program, &[i64]),
    (budget, marked): (i64, bool),
    on: On,
) {
    let mut e = Emitter::new(b, of, loaded, Leads::On(on));
    let steps = e.number(budget);
    e.b.def_var(e.fuel, steps);
    e.marked = marked;
    if !marked {
        e.marks = None;
    }
    if let Some(marks) = e.marks {
        let none = e.number(0);
        e.b.def_var(marks, none);
    }
    e.declare(p);
    for (r, v) in p.params.iter().zip(args) {
        let v = e.number(*v);
        e.set(*r, v);
    }
    let first = e.blocks[&p.entry];
    e.b.ins().jump(first, &[]);
    e.body(p);
    e.ways_out();
}

impl<'e, 'f> Emitter<'e, 'f> {
    fn new(
        b: &'e mut FunctionBuilder<'f>,
        (board, code, tables): (Board<'e>, &'e Code, &'e mut Vec<Box<[i64]>>),
        loaded: Loaded,
        leads: Leads,
    ) -> Emitter<'e, 'f> {
        let fuel = b.declare_var(I64);
        let marks = (code.state_len <= 64).then(|| b.declare_var(I64));
        let (broken, leave) = (b.create_block(), b.create_block());
        b.append_block_param(broken, I64);
        b.append_block_param(broken, I64);
        b.append_block_param(leave, I64);
        b.set_cold_block(broken);
        let signature = b.import_signature({
            let mut s = b.func.signature.clone();
            s.params = vec![AbiParam::new(I64), AbiParam::new(I64)];
            s
        });
        let Board { rows, cols, values: fixed, covered: covers } = board;
        Emitter {
            b,
            code,
            rows,
            cols,
            tables,
            fixed,
            covers,
            masks: vec![],
            pc: 0,
            loaded,
            marks,
            marked: true,
            fuel,
            vars: BTreeMap::new(),
            blocks: BTreeMap::new(),
            broken,
            leave,
            leads,
            signature,
        }
    }

    /// Declares what remembers the cells that are hit in each block that is looked through.
    fn declare_masks(&mut self, ops: &[Op]) {
        if self.code.cells > 64 {
            return;
        }
        for op in ops {
            let (base, v) = match *op {
                Op::NextIn { base, .. } => (base.0, None),
                Op::NextEq { base, v, .. } => (base.0, Some(v)),
                _ => continue,
            };
            if self.is_fixed(base, self.code.cells) || self.masks.iter().any(|m| (m.0, m.1) == (base, v)) {
                continue;
            }
            let (mask, known) = (self.b.declare_var(I64), self.b.declare_var(I64));
            let zero = self.number(0);
            self.b.def_var(mask, zero);
            self.b.def_var(known, zero);
            self.masks.push((base, v, mask, known));
        }
    }

    /// Whether a block never changes.
    pub(crate) fn is_fixed(&self, base: u32, len: u32) -> bool {
        (base + len) as usize <= self.fixed.len()
    }

    /// What remembers the cells that are hit in a block, and whether it is up to date.
    pub(crate) fn mask(&self, base: u32, v: Option<i32>) -> Option<(Variable, Variable)> {
        self.masks.iter().find(|m| (m.0, m.1) == (base, v)).map(|m| (m.2, m.3))
    }

    /// Notes that numbers may have been written: from `at` on so many, or somewhere.
    pub(crate) fn wrote(&mut self, at: Option<(M, u32)>) {
        let cells = self.code.cells;
        for i in 0..self.masks.len() {
            let (base, _, _, known) = self.masks[i];
            if at.is_none_or(|(m, len)| m.0 < base + cells && base < m.0 + len) {
                let zero = self.number(0);
                self.b.def_var(known, zero);
            }
        }
    }

    /// Declares registers and blocks.
    fn declare(&mut self, p: &Program) {
        let ops = &self.code.ops[p.entry as usize..p.end as usize];
        self.declare_masks(ops);
        let mut heads = vec![p.entry];
        let named = ops.iter().flat_map(registers).chain(p.params.iter().copied());
        for r in named {
            if !self.vars.contains_key(&r.0) {
                let var = self.b.declare_var(I64);
                self.vars.insert(r.0, var);
            }
        }
        heads.extend(ops.iter().flat_map(jumps).map(|to| to.0));
        heads.extend(self.resumed(p).iter().map(|r| r.0));
        for pc in heads {
            if !self.blocks.contains_key(&pc) {
                let block = self.b.create_block();
                self.blocks.insert(pc, block);
            }
        }
    }

    /// Where a program goes on after it stopped: the operation, the point, and the register of what was drawn.
    fn resumed(&self, p: &Program) -> Vec<(u32, u16, Option<R>)> {
        let behind = |pc: u32| match self.code.ops[pc as usize] {
            Op::Draw { point, d, .. } => Some((pc + 1, point, Some(d))),
            Op::Merge { point } | Op::BeforeDraw { point } => Some((pc + 1, point, None)),
            _ => None,
        };
        (p.entry..p.end).filter_map(behind).collect()
    }

    /// Declares registers and blocks, and jumps to where the program begins or goes on.
    fn ways_in(&mut self, p: &Program, entry: Value) {
        self.declare(p);
        for (pc, point, drawn) in self.resumed(p) {
            let (here, on) = (self.b.create_block(), self.b.create_block());
            let is = self.b.ins().icmp_imm(IntCC::Equal, entry, i64::from(pc));
            self.b.ins().brif(is, here, &[], on, &[]);
            self.b.switch_to_block(here);
            let regs: Vec<R> = self.code.points[point as usize].regs.iter().copied().chain(drawn).collect();
            self.reload(&regs);
            self.b.ins().jump(self.blocks[&pc], &[]);
            self.b.switch_to_block(on);
        }
        self.reload(&p.params);
        self.b.ins().jump(self.blocks[&p.entry], &[]);
    }

    fn body(&mut self, p: &Program) {
        let mut open = false;
        for pc in p.entry..p.end {
            if let Some(&block) = self.blocks.get(&pc) {
                if open {
                    self.b.ins().jump(block, &[]);
                }
                self.b.switch_to_block(block);
                open = true;
            }
            if !open {
                // Nothing leads here.
                continue;
            }
            self.pc = pc;
            open = self.operation(self.code.ops[pc as usize]);
        }
        if open {
            // The verifier lets no program run past its end.
            self.end(Ended::Stray);
        }
    }

    fn ways_out(&mut self) {
        let flags = MemFlags::trusted();
        self.b.switch_to_block(self.broken);
        let (site, value) = (self.b.block_params(self.broken)[0], self.b.block_params(self.broken)[1]);
        let site = self.b.ins().ireduce(cranelift_codegen::ir::types::I32, site);
        self.b.ins().store(flags, site, self.loaded.context, at::SITE);
        self.b.ins().store(flags, value, self.loaded.context, at::VALUE);
        let number = self.number(Ended::Broken.number());
        self.b.ins().jump(self.leave, &[BlockArg::Value(number)]);
        self.b.switch_to_block(self.leave);
        let number = self.b.block_params(self.leave)[0];
        match self.leads {
            Leads::Back => {
                let steps = self.b.use_var(self.fuel);
                self.b.ins().store(flags, steps, self.loaded.fuel, 0);
                self.put_marks();
                self.b.ins().return_(&[number]);
            }
            Leads::On(on) => {
                self.put_marks();
                self.b.ins().jump(on.other, &[BlockArg::Value(number)]);
            }
        }
    }

    /// The value of a register.
    pub(crate) fn get(&mut self, r: R) -> Value {
        self.b.use_var(self.vars[&r.0])
    }

    /// Gives a register its value.
    pub(crate) fn set(&mut self, r: R, value: Value) {
        self.b.def_var(self.vars[&r.0], value);
    }

    /// A fixed number.
    pub(crate) fn number(&mut self, n: i64) -> Value {
        self.b.ins().iconst(I64, n)
    }

    /// The block that a jump leads to.
    pub(crate) fn target(&self, to: To) -> Block {
        self.blocks[&to.0]
    }

    /// Goes to a place when the condition holds, else on.
    pub(crate) fn jump_if(&mut self, condition: Value, to: To) {
        let (there, on) = (self.target(to), self.b.create_block());
        self.b.ins().brif(condition, there, &[], on, &[]);
        self.b.switch_to_block(on);
    }

    /// Goes on only when the condition holds; else the program breaks here.
    pub(crate) fn unless_broken(&mut self, sound: Value, site: Site, value: Value) {
        let on = self.b.create_block();
        let site = self.number(site.0.into());
        let args = [BlockArg::Value(site), BlockArg::Value(value)];
        self.b.ins().brif(sound, on, &[], self.broken, &args);
        self.b.switch_to_block(on);
    }

    /// The program breaks here.
    pub(crate) fn break_here(&mut self, site: Site, value: Value) {
        let site = self.number(site.0.into());
        self.b.ins().jump(self.broken, &[BlockArg::Value(site), BlockArg::Value(value)]);
    }

    /// Takes a step from the budget.
    pub(crate) fn burn(&mut self, site: Site) {
        let steps = self.b.use_var(self.fuel);
        let left = self.b.ins().iadd_imm(steps, -1);
        self.b.def_var(self.fuel, left);
        let sound = self.b.ins().icmp_imm(IntCC::SignedGreaterThanOrEqual, left, 0);
        let zero = self.number(0);
        self.unless_broken(sound, site, zero);
    }

    /// Ends the program.
    pub(crate) fn end(&mut self, ended: Ended) {
        if let (Leads::On(on), Ended::Done | Ended::Refused(_) | Ended::NotOffered) = (self.leads, ended) {
            self.put_marks();
            self.b.ins().jump(if ended == Ended::Done { on.done } else { on.refused }, &[]);
            return;
        }
        let number = self.number(ended.number());
        self.b.ins().jump(self.leave, &[BlockArg::Value(number)]);
    }

    /// Ends the program with a value.
    pub(crate) fn give(&mut self, value: Value) {
        self.b.ins().store(MemFlags::trusted(), value, self.loaded.context, at::VALUE);
        self.end(Ended::Give);
    }

    /// Goes on only when the condition holds, which it does unless fendle itself is wrong.
    pub(crate) fn unless_stray(&mut self, inside: Value) {
        let on = self.b.create_block();
        let number = self.number(Ended::Stray.number());
        self.b.ins().brif(inside, on, &[], self.leave, &[BlockArg::Value(number)]);
        self.b.switch_to_block(on);
    }

    /// Goes on at once when the condition holds; else the interpreter runs the operation, and its result is what
    /// `registers` hold.
    pub(crate) fn or_step(&mut self, easy: Value, op: &Op, result: Option<(R, Value)>) {
        let (on, slow) = (self.b.create_block(), self.b.create_block());
        self.b.set_cold_block(slow);
        match result {
            Some((r, value)) => {
                self.b.append_block_param(on, I64);
                self.b.ins().brif(easy, on, &[BlockArg::Value(value)], slow, &[]);
                self.b.switch_to_block(slow);
                self.step(op);
                let value = self.get(r);
                self.b.ins().jump(on, &[BlockArg::Value(value)]);
                self.b.switch_to_block(on);
                let value = self.b.block_params(on)[0];
                self.set(r, value);
            }
            None => {
                self.b.ins().brif(easy, on, &[], slow, &[]);
                self.b.switch_to_block(slow);
                self.step(op);
                self.b.ins().jump(on, &[]);
                self.b.switch_to_block(on);
            }
        }
    }

    /// Lets the interpreter run the operation.
    pub(crate) fn step(&mut self, op: &Op) {
        let (mut reads, mut writes) = (vec![], vec![]);
        op.visit(&mut |r, written| if written { writes.push(r) } else { reads.push(r) });
        self.spill(&reads);
        self.put_marks();
        let function = self.number(step as *const () as usize as i64);
        let pc = self.number(self.pc.into());
        let call = self.b.ins().call_indirect(self.signature, function, &[self.loaded.context, pc]);
        let broke = self.b.inst_results(call)[0];
        let on = self.b.create_block();
        let number = self.number(Ended::Broken.number());
        self.take_marks();
        self.b.ins().brif(broke, self.leave, &[BlockArg::Value(number)], on, &[]);
        self.b.switch_to_block(on);
        self.reload(&writes);
        self.wrote(None);
    }

    /// Stops at a draw or a merge: what goes on later finds its registers in the machine.
    pub(crate) fn pause(&mut self, point: u16, also: Option<R>) {
        let regs: Vec<R> = self.code.points[point as usize].regs.iter().copied().chain(also).collect();
        self.spill(&regs);
        self.end(Ended::Paused(self.pc));
    }

    /// Writes the marks of changed values back to the machine.
    fn put_marks(&mut self) {
        if let Some(marks) = self.marks {
            let word = self.b.use_var(marks);
            self.b.ins().store(table(), word, self.loaded.changed, 0);
        }
    }

    /// Takes them over from the machine.
    fn take_marks(&mut self) {
        if let Some(marks) = self.marks {
            let word = self.b.ins().load(I64, table(), self.loaded.changed, 0);
            self.b.def_var(marks, word);
        }
    }

    fn spill(&mut self, regs: &[R]) {
        for r in regs {
            let value = self.get(*r);
            self.b.ins().store(MemFlags::trusted(), value, self.loaded.regs, i32::from(r.0) * 8);
        }
    }

    fn reload(&mut self, regs: &[R]) {
        for r in regs {
            // A register that is live without being used in the program is of no use here.
            if self.vars.contains_key(&r.0) {
                let value = self.b.ins().load(I64, MemFlags::trusted(), self.loaded.regs, i32::from(r.0) * 8);
                self.set(*r, value);
            }
        }
    }

    /// The number that a value always is, where that can be seen at once.
    pub(crate) fn known(&self, value: Value) -> Option<i64> {
        let dfg = &self.b.func.dfg;
        let inst = dfg.value_def(dfg.resolve_aliases(value)).inst()?;
        match dfg.insts[inst] {
            InstructionData::UnaryImm { opcode: Opcode::Iconst, imm } => Some(imm.bits()),
            _ => None,
        }
    }

    /// The address of number `index` of the memory, which is checked against its end.
    pub(crate) fn address(&mut self, index: Value) -> Value {
        if let Some(known) = self.known(index).filter(|n| (0..i64::from(self.code.memory)).contains(n)) {
            return self.b.ins().iadd_imm(self.loaded.mem, known * 4);
        }
        let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, index, i64::from(self.code.memory));
        self.unless_stray(inside);
        let bytes = self.b.ins().ishl_imm(index, 2);
        self.b.ins().iadd(self.loaded.mem, bytes)
    }

    /// Loads the number at a fixed place.
    pub(crate) fn load_at(&mut self, m: u32) -> Value {
        match self.fixed.get(m as usize) {
            Some(value) => {
                let value = i64::from(*value);
                self.number(value)
            }
            None => self.b.ins().sload32(heap(), self.loaded.mem, (m * 4) as i32),
        }
    }

    /// Loads four numbers.
    pub(crate) fn load_four(&mut self, m: u32) -> Value {
        self.b.ins().load(I32X4, loose(), self.loaded.mem, (m * 4) as i32)
    }

    /// Loads one number as it lies in memory.
    pub(crate) fn load_one(&mut self, m: u32, ty: Type) -> Value {
        self.b.ins().load(ty, heap(), self.loaded.mem, (m * 4) as i32)
    }

    /// Stores one or four numbers as they are.
    pub(crate) fn store_raw(&mut self, value: Value, m: u32) {
        self.b.ins().store(loose(), value, self.loaded.mem, (m * 4) as i32);
    }

    /// Remembers that numbers of the state from a fixed one on were stored to.
    pub(crate) fn mark_fixed(&mut self, m: M, len: u32) {
        if !self.marked {
            return;
        }
        let first = m.0 - self.code.now;
        let mut slot = first;
        while slot < first + len {
            let (word, bit) = (slot / 64, slot % 64);
            let n = (64 - bit).min(first + len - slot);
            let mask = (u64::MAX >> (64 - n)) << bit;
            if let Some(marks) = self.marks {
                let old = self.b.use_var(marks);
                let new = self.b.ins().bor_imm(old, mask as i64);
                self.b.def_var(marks, new);
                slot += n;
                continue;
            }
            let old = self.b.ins().load(I64, table(), self.loaded.changed, (word * 8) as i32);
            let mask = self.number(mask as i64);
            let new = self.b.ins().bor(old, mask);
            self.b.ins().store(table(), new, self.loaded.changed, (word * 8) as i32);
            slot += n;
        }
    }

    /// Remembers that number `slot` of the state was stored to; it is checked against the end of the state.
    pub(crate) fn mark(&mut self, slot: Value) {
        let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, slot, i64::from(self.code.state_len));
        self.unless_stray(inside);
        let one = self.number(1);
        self.mark_if(slot, one);
    }

    /// Remembers that number `slot` of the state, which is known to be there, was stored to, where `bit` is 1 and not 0.
    pub(crate) fn mark_if(&mut self, slot: Value, bit: Value) {
        // Shifts count modulo 64.
        let mask = self.b.ins().ishl(bit, slot);
        if let Some(marks) = self.marks {
            let old = self.b.use_var(marks);
            let new = self.b.ins().bor(old, mask);
            self.b.def_var(marks, new);
            return;
        }
        let word = self.b.ins().ushr_imm(slot, 6);
        let bytes = self.b.ins().ishl_imm(word, 3);
        let at = self.b.ins().iadd(self.loaded.changed, bytes);
        let old = self.b.ins().load(I64, table(), at, 0);
        let new = self.b.ins().bor(old, mask);
        self.b.ins().store(table(), new, at, 0);
    }

    /// Entry `index` of a table of fixed numbers; the index is checked.
    pub(crate) fn look_up(&mut self, table: Vec<i64>, index: Value) -> Value {
        if let Some(v) = self.known(index).and_then(|i| table.get(usize::try_from(i).ok()?)) {
            return self.number(*v);
        }
        let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, index, table.len() as i64);
        self.unless_stray(inside);
        self.entry(table, index)
    }

    /// Entry `index` of a table of small fixed numbers, which takes a quarter of the room; the index must have been checked.
    pub(crate) fn small_entry(&mut self, table: &[i16], index: Value) -> Value {
        let in_a_row = |four: &[i16]| {
            let mut bytes = [0; 8];
            for (two, number) in bytes.chunks_exact_mut(2).zip(four) {
                two.copy_from_slice(&number.to_ne_bytes());
            }
            i64::from_ne_bytes(bytes)
        };
        let base = kept_table(self.b, self.tables, table.chunks(4).map(in_a_row).collect());
        let bytes = self.b.ins().ishl_imm(index, 1);
        let at = self.b.ins().iadd(base, bytes);
        self.b.ins().sload16(I64, MemFlags::trusted().with_readonly(), at, 0)
    }

    /// Entry `index` of a table of fixed numbers; the index must have been checked.
    pub(crate) fn entry(&mut self, table: Vec<i64>, index: Value) -> Value {
        let base = kept_table(self.b, self.tables, table);
        entry_of(self.b, base, index)
    }
}

/// How a number below 2^31 is divided by a fixed one: x / n = x * m >> s, with m below 2^32 (Granlund & Montgomery, *Division by
/// invariant integers using multiplication*, 1994: with 2^k >= n, m = ceil(2^(31+k) / n) and s = 31 + k).
pub(crate) fn quotient(n: u64) -> (u64, u32) {
    let k = 64 - (n.max(1) - 1).leading_zeros();
    ((1u64 << (31 + k)).div_ceil(n), 31 + k)
}

/// Flags of an access to the memory of the machine, which shares nothing with its other parts.
pub(crate) fn heap() -> MemFlags {
    MemFlags::trusted().with_alias_region(Some(AliasRegion::Heap))
}

/// The same for an access that need not be aligned.
pub(crate) fn loose() -> MemFlags {
    MemFlags::new().with_notrap().with_alias_region(Some(AliasRegion::Heap))
}

/// Flags of an access to what the machine remembers.
pub(crate) fn table() -> MemFlags {
    MemFlags::trusted().with_alias_region(Some(AliasRegion::Table))
}

/// The registers that an operation names.
fn registers(op: &Op) -> Vec<R> {
    let mut out = vec![];
    op.visit(&mut |r, _| out.push(r));
    out
}

/// The places that an operation can jump to.
fn jumps(op: &Op) -> impl Iterator<Item = To> {
    let mut out = vec![];
    op.jumps(&mut |to| out.push(to));
    out.into_iter()
}
