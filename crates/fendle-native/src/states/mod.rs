//! Functions that know the states of a level: what those for states by number and those for packed states share.
//!
//! ```text
//! unpack(context, state)              writes the values of a state; nothing is changed or remembered yet
//! load(context, state)                the same, then laws and status: the status, with ENDED where a statement said it; or SLOW
//! restore(context)                    takes back what was changed
//! moves(context, state, from, to)     tries these moves: how many were made, or SLOW
//! ```
//!
//! A state is its number, or the address of its packed words. Whatever is rare ends in `SLOW`: the machine then does the whole state once
//! more.

mod rules;

pub(crate) use rules::{NONE, Successor};

use std::sync::Arc;

use cranelift_codegen::ir::condcodes::IntCC;
use cranelift_codegen::ir::{
    AbiParam, Block, BlockArg, FuncRef, Function, InstBuilder, MemFlags, SigRef, UserFuncName, Value,
    types::{I32, I32X4, I64},
};
use cranelift_frontend::{FunctionBuilder, FunctionBuilderContext};
use cranelift_module::{Linkage, Module};
use fendle_lang::code::ir::{Code, Op};
use fendle_lang::code::machine::Successors;

use crate::context::{Context, at};
use crate::emit::{heap, loose, table};
use crate::owned::OwnedModule;
use crate::{NativeCode, Sizes};

/// What a function returns when the machine itself has to look, or a state has no number.
pub(crate) const SLOW: u64 = u64::MAX;
/// A bit beside the status of a state that was ended by a statement, not by a condition.
pub(crate) const ENDED: u64 = 1 << 32;
/// Moves above which they are not written out one after the other.
const MOVES_MAX: usize = 512;
/// Values of a state above which they are not told apart by masks.
const VALUES_MAX: usize = 1024;

/// A function of one state.
pub(crate) type OfState = unsafe extern "C" fn(*mut Context, u64) -> u64;
/// A function that packs a successor: the addresses of the words of its parent and of its own.
pub(crate) type Pack = unsafe extern "C" fn(*mut Context, u64, u64) -> u64;
/// A function that tries the moves from one to another.
type Moves = unsafe extern "C" fn(*mut Context, u64, u64, u64) -> u64;

/// Finished functions, and what they need to be there.
pub(crate) struct Functions {
    _module: OwnedModule,
    addresses: Vec<*const u8>,
    _tables: Vec<Box<[i64]>>,
}

impl Functions {
    /// Writes some functions: `params` says of each how many parameters it has, `define` writes the body of one, which may call all of them.
    ///
    /// # Errors
    ///
    /// Words for why there are none.
    fn write(
        code: &Code,
        programs: &NativeCode,
        params: &[usize],
        define: impl Fn(usize, &mut Writer<'_>, &[FuncRef]),
    ) -> Result<Functions, String> {
        if code.moves.len() > MOVES_MAX || code.state_len as usize > VALUES_MAX {
            return Err("there are too many moves or values".into());
        }
        let mut module = OwnedModule::new().map_err(|e| e.to_string())?;
        let mut builders = FunctionBuilderContext::new();
        let mut tables = vec![];
        let mut ids = vec![];
        for (number, params) in params.iter().enumerate() {
            let mut signature = module.make_signature();
            signature.params = vec![AbiParam::new(I64); *params];
            signature.returns.push(AbiParam::new(I64));
            let id = module.declare_function(&format!("n{number}"), Linkage::Local, &signature);
            ids.push((id.map_err(|e| e.to_string())?, signature));
        }
        for (number, (id, signature)) in ids.iter().enumerate() {
            let mut context = module.make_context();
            context.func.signature = signature.clone();
            context.func.name = UserFuncName::user(1, number as u32);
            let mut functions = vec![];
            for (id, _) in &ids {
                functions.push(module.declare_func_in_func(*id, &mut context.func));
            }
            let mut w = Writer::new(code, programs, &mut context.func, &mut builders, &mut tables);
            define(number, &mut w, &functions);
            let lacks_program = w.lacks_program;
            w.b.seal_all_blocks();
            w.b.finalize();
            if lacks_program {
                return Err("a program of the rules has no native code".into());
            }
            module.define_function(*id, &mut context).map_err(|e| format!("{e:?}"))?;
        }
        module.finalize_definitions().map_err(|e| e.to_string())?;
        let addresses = ids.iter().map(|id| module.get_finalized_function(id.0)).collect();
        Ok(Functions { _module: module, addresses, _tables: tables })
    }

    /// The address of a function.
    pub(crate) fn address(&self, number: usize) -> *const u8 {
        self.addresses[number]
    }
}

/// The finished code of one level for states of one kind.
pub(crate) struct StateCode {
    /// `unpack`: [`Machine::load`](fendle_lang::code::machine::Machine::load).
    pub(crate) unpack: OfState,
    load: OfState,
    moves: Moves,
    pub(crate) moves_len: usize,
    pub(crate) sizes: Sizes,
    /// The others, by number.
    pub(crate) functions: Functions,
    /// The programs that they call.
    _programs: Arc<NativeCode>,
}

// SAFETY: as for `NativeCode`: nothing in it changes after it was made.
unsafe impl Send for StateCode {}
// SAFETY: as above.
unsafe impl Sync for StateCode {}

impl StateCode {
    /// Functions with so many parameters: `unpack`, `load`, one that is named by its kind, `restore`, `moves`, and others of its kind.
    pub(crate) fn new(
        programs: Arc<NativeCode>,
        code: &Code,
        params: &[usize],
        define: impl Fn(usize, &mut Writer<'_>, &[FuncRef]),
    ) -> Result<StateCode, String> {
        let functions = Functions::write(code, &programs, params, define)?;
        // SAFETY: the functions at these addresses have as many parameters as these types say.
        let (unpack, load, moves) = unsafe {
            (
                std::mem::transmute::<*const u8, OfState>(functions.address(0)),
                std::mem::transmute::<*const u8, OfState>(functions.address(1)),
                std::mem::transmute::<*const u8, Moves>(functions.address(4)),
            )
        };
        let (moves_len, sizes) = (code.moves.len(), Sizes::of(code));
        Ok(StateCode { unpack, load, moves, moves_len, sizes, functions, _programs: programs })
    }

    /// Loads a state: its status, with [`ENDED`] where a statement said it; or [`SLOW`].
    ///
    /// # Safety
    ///
    /// The context must be that of a machine of this level, and the state one of it.
    #[inline]
    pub(crate) unsafe fn status(&self, context: &mut Context, state: u64) -> u64 {
        // SAFETY: the caller's promise.
        unsafe { (self.load)(std::ptr::from_mut(context), state) }
    }

    /// Tries the moves from one to another one: how many were made, or [`SLOW`].
    ///
    /// # Safety
    ///
    /// As for [`StateCode::status`], which was asked before; the buffers of the context have room for one entry a move.
    #[inline]
    pub(crate) unsafe fn tried(&self, context: &mut Context, state: u64, (from, to): (u64, u64)) -> u64 {
        // SAFETY: the caller's promise.
        unsafe { (self.moves)(std::ptr::from_mut(context), state, from, to) }
    }

    /// Expands states of so many words, one after the other, until one is met that only the machine can expand: `out` is given a head for
    /// each, and room here.
    ///
    /// # Safety
    ///
    /// The context must be that of a machine of this level, and the states ones of it.
    pub(crate) unsafe fn expand(
        &self,
        context: &mut Context,
        (states, words): (impl ExactSizeIterator<Item = u64>, usize),
        past_goals: &[bool],
        out: &mut Successors,
    ) {
        let room = self.moves_len * states.len();
        if out.moves.len() < room || out.states.len() < room * words {
            out.states.resize(room * words, 0);
            out.moves.resize(room, 0);
            out.scores.resize(room, 0);
        }
        out.heads.clear();
        out.heads.reserve(states.len());
        let (first_state, first_move, first_score) =
            (out.states.as_mut_ptr(), out.moves.as_mut_ptr(), out.scores.as_mut_ptr());
        let goes_on = |status: u64| past_goals.get(status as usize - 1).is_some_and(|g| *g);
        let mut len = 0;
        for state in states {
            // SAFETY: fewer states than that were expanded before, with at most as many successors each as there are moves.
            unsafe {
                context.out_states = first_state.add(len * words);
                context.out_moves = first_move.add(len);
                context.out_scores = first_score.add(len);
            }
            // SAFETY: the caller's promise; the buffers have room for one entry a move of this state and of each that follows.
            let (status, made) = unsafe {
                let status = self.status(context, state);
                if status == SLOW {
                    return;
                }
                if status & ENDED != 0 {
                    // Who goes on from there is the machine.
                    if goes_on(status & !ENDED) {
                        return;
                    }
                    (status & !ENDED, 0)
                } else if status == 0 || goes_on(status) {
                    match self.tried(context, state, (0, u64::MAX)) {
                        SLOW => return,
                        made => (status, made),
                    }
                } else {
                    (status, 0)
                }
            };
            out.heads.push((status as i64, made as u32));
            len += made as usize;
        }
    }
}

/// The address of a table of fixed numbers, which is kept as long as the code.
pub(crate) fn kept_table(
    b: &mut FunctionBuilder<'_>,
    tables: &mut Vec<Box<[i64]>>,
    entries: Vec<i64>,
) -> Value {
    let entries = entries.into_boxed_slice();
    let found = tables.iter().position(|t| *t == entries).unwrap_or_else(|| {
        tables.push(entries);
        tables.len() - 1
    });
    b.ins().iconst(I64, tables[found].as_ptr() as usize as i64)
}

/// An entry of a table; the index is known to be inside.
pub(crate) fn entry_of(b: &mut FunctionBuilder<'_>, table: Value, index: Value) -> Value {
    let bytes = b.ins().ishl_imm(index, 3);
    let at = b.ins().iadd(table, bytes);
    b.ins().load(I64, MemFlags::trusted().with_readonly(), at, 0)
}

/// A value that was changed: before and now, and where its row of a table lies.
pub(crate) struct Change {
    /// Before.
    pub(crate) was: Value,
    /// Now.
    pub(crate) is: Value,
    row: Value,
    /// Where it lies now.
    address: Value,
    offset: i32,
}

/// Entries of a row of [`Writer::for_each_change`].
pub(crate) const ROW: usize = 4;

/// Writes one function.
pub(crate) struct Writer<'w> {
    pub(crate) b: FunctionBuilder<'w>,
    pub(crate) code: &'w Code,
    programs: &'w NativeCode,
    pub(crate) tables: &'w mut Vec<Box<[i64]>>,
    pub(crate) params: Vec<Value>,
    pub(crate) context: Value,
    pub(crate) mem: Value,
    pub(crate) changed: Value,
    pub(crate) digits: Value,
    call: SigRef,
    pub(crate) call_back: SigRef,
    slow: Block,
    /// Whether a program is called for which there is no code.
    lacks_program: bool,
}

impl<'w> Writer<'w> {
    fn new(
        code: &'w Code,
        programs: &'w NativeCode,
        function: &'w mut Function,
        builders: &'w mut FunctionBuilderContext,
        tables: &'w mut Vec<Box<[i64]>>,
    ) -> Writer<'w> {
        let mut b = FunctionBuilder::new(function, builders);
        let first = b.create_block();
        b.append_block_params_for_function_params(first);
        b.switch_to_block(first);
        let params = b.block_params(first).to_vec();
        let context = params[0];
        let field = |b: &mut FunctionBuilder<'_>, at| b.ins().load(I64, MemFlags::trusted(), context, at);
        let mem = field(&mut b, at::MEM);
        let changed = field(&mut b, at::CHANGED);
        let digits = field(&mut b, at::DIGITS);
        let call = b.import_signature({
            let mut s = b.func.signature.clone();
            s.params = vec![AbiParam::new(I64); 2];
            s
        });
        let call_back = b.import_signature({
            let mut s = b.func.signature.clone();
            s.params = vec![AbiParam::new(I64); 3];
            s
        });
        let slow = b.create_block();
        b.set_cold_block(slow);
        Writer {
            b,
            code,
            programs,
            tables,
            params,
            context,
            mem,
            changed,
            digits,
            call,
            call_back,
            slow,
            lacks_program: false,
        }
    }

    pub(crate) fn number(&mut self, n: u64) -> Value {
        self.b.ins().iconst(I64, n as i64)
    }

    /// Ends the function, and writes the way out for what is slow.
    pub(crate) fn finish(&mut self, value: Value) {
        self.b.ins().return_(&[value]);
        self.b.switch_to_block(self.slow);
        let slow = self.number(SLOW);
        self.b.ins().return_(&[slow]);
    }

    /// Goes on only when the condition holds.
    pub(crate) fn unless_slow(&mut self, easy: Value) {
        let on = self.b.create_block();
        self.b.ins().brif(easy, on, &[], self.slow, &[]);
        self.b.switch_to_block(on);
    }

    /// A table of fixed numbers.
    pub(crate) fn table(&mut self, entries: Vec<i64>) -> Value {
        kept_table(&mut self.b, self.tables, entries)
    }

    /// An entry of a table; the index is known to be inside.
    pub(crate) fn entry(&mut self, table: Value, index: Value) -> Value {
        entry_of(&mut self.b, table, index)
    }

    /// Where a value of the state lies in the memory, in bytes.
    pub(crate) fn before(&self, slot: usize) -> i32 {
        ((self.code.before as usize + slot) * 4) as i32
    }

    pub(crate) fn now(&self, slot: usize) -> i32 {
        ((self.code.now as usize + slot) * 4) as i32
    }

    pub(crate) fn load_now(&mut self, slot: usize) -> Value {
        let at = self.now(slot);
        self.b.ins().sload32(heap(), self.mem, at)
    }

    /// Stores a value of the loaded state, which is also the state now.
    pub(crate) fn store_both(&mut self, value: Value, slot: usize) {
        let (before, now) = (self.before(slot), self.now(slot));
        self.b.ins().istore32(heap(), value, self.mem, before);
        self.b.ins().istore32(heap(), value, self.mem, now);
    }

    /// The same at a place that is computed: `slots[index]`, the index being known to be inside.
    pub(crate) fn store_both_at(&mut self, value: Value, slots: &[usize], index: Value) {
        let in_a_row = slots.windows(2).all(|w| w[1] == w[0] + 1);
        let (index, first) = if in_a_row {
            (index, slots[0])
        } else {
            let table = self.table(slots.iter().map(|s| *s as i64).collect());
            (self.entry(table, index), 0)
        };
        let bytes = self.b.ins().ishl_imm(index, 2);
        let at = self.b.ins().iadd(self.mem, bytes);
        let (before, now) = (self.before(first), self.now(first));
        self.b.ins().istore32(heap(), value, at, before);
        self.b.ins().istore32(heap(), value, at, now);
    }

    /// Begins `unpack`: nothing of a state is changed or remembered yet.
    pub(crate) fn forget(&mut self) {
        let zero = self.number(0);
        for w in 0..(self.code.state_len as usize).div_ceil(64) {
            self.b.ins().store(table(), zero, self.changed, (w * 8) as i32);
        }
        let known = self.b.ins().load(I64, MemFlags::trusted(), self.context, at::KNOWN);
        for w in 0..(self.code.memos as usize).div_ceil(64) {
            self.b.ins().store(table(), zero, known, (w * 8) as i32);
        }
    }

    /// The words that say what was changed.
    pub(crate) fn changed_words(&mut self) -> Vec<Value> {
        let words = (self.code.state_len as usize).div_ceil(64);
        (0..words).map(|w| self.b.ins().load(I64, table(), self.changed, (w * 8) as i32)).collect()
    }

    /// Whether a bit of a mask is set in some words.
    pub(crate) fn any(&mut self, words: &[Value], mask: &[u64]) -> Value {
        let mut all = self.number(0);
        for (word, mask) in words.iter().zip(mask).filter(|w| *w.1 != 0) {
            let here = self.b.ins().band_imm(*word, *mask as i64);
            all = self.b.ins().bor(all, here);
        }
        all
    }

    /// Goes through the changed values of one word of `changed`, of those that have a row, and sums up: `add` writes how the sum grows by
    /// one of them. A row belongs to the value of this number in the word.
    pub(crate) fn for_each_change(
        &mut self,
        (word, changed): (usize, Value),
        with_row: &[(usize, [i64; ROW])],
        sum: Value,
        add: impl FnOnce(&mut Self, &Change, Value) -> Value,
    ) -> Value {
        let mask: u64 = with_row.iter().map(|(slot, _)| 1 << (slot % 64)).sum();
        let changed = self.b.ins().band_imm(changed, mask as i64);
        let mut rows = vec![0i64; 64 * ROW];
        for (slot, row) in with_row {
            rows[slot % 64 * ROW..][..ROW].copy_from_slice(row);
        }
        let rows = self.table(rows);
        let (before, now) = (self.before(word * 64), self.now(word * 64));
        self.for_each_bit(changed, sum, |w, slot, at, sum| {
            let was = w.b.ins().sload32(heap(), at, before);
            let is = w.b.ins().sload32(heap(), at, now);
            let bytes = w.b.ins().ishl_imm(slot, 5);
            let row = w.b.ins().iadd(rows, bytes);
            add(w, &Change { was, is, row, address: at, offset: now }, sum)
        })
    }

    /// Goes through the bits of a word of `changed` and sums up: `add` is given the number of a bit, the address of the memory as many values later, and
    /// the sum before.
    pub(crate) fn for_each_bit(
        &mut self,
        bits: Value,
        sum: Value,
        add: impl FnOnce(&mut Self, Value, Value, Value) -> Value,
    ) -> Value {
        let head = self.block_with(2);
        let (body, done) = (self.b.create_block(), self.b.create_block());
        self.b.ins().jump(head, &[bits, sum].map(BlockArg::Value));
        self.b.switch_to_block(head);
        let &[left, sum] = self.b.block_params(head) else { unreachable!("two parameters") };
        self.b.ins().brif(left, body, &[], done, &[]);
        self.b.switch_to_block(body);
        // Only bits of values of the state are ever set, so the place is inside.
        let slot = self.b.ins().ctz(left);
        let bytes = self.b.ins().ishl_imm(slot, 2);
        let at = self.b.ins().iadd(self.mem, bytes);
        let more = add(self, slot, at, sum);
        let less = self.b.ins().iadd_imm(left, -1);
        let rest = self.b.ins().band(left, less);
        self.b.ins().jump(head, &[rest, more].map(BlockArg::Value));
        self.b.switch_to_block(done);
        sum
    }

    /// Gives a changed value back what it was.
    pub(crate) fn undo(&mut self, change: &Change) {
        self.b.ins().istore32(heap(), change.was, change.address, change.offset);
    }

    /// An entry of the row of a changed value.
    pub(crate) fn of_row(&mut self, change: &Change, entry: usize) -> Value {
        let flags = MemFlags::trusted().with_readonly();
        self.b.ins().load(I64, flags, change.row, (8 * entry) as i32)
    }

    /// A table for [`Writer::write_four`]: what four values in a row are that take `width` bits each, for all numbers of so many bits.
    pub(crate) fn table_of_four(&mut self, width: u32, value: impl Fn(u32) -> i32) -> Value {
        let one = |n: u32, i: u32| i64::from(value(n >> (i * width) & ((1 << width) - 1)) as u32);
        let two = |n: u32, i: u32| one(n, i) | one(n, i + 1) << 32;
        self.table((0..1 << (4 * width)).flat_map(|n| [two(n, 0), two(n, 2)]).collect())
    }

    /// Writes four values that lie in a row, by what a table says of a number.
    pub(crate) fn write_four(&mut self, number: Value, slot: usize, values: Value) {
        let bytes = self.b.ins().ishl_imm(number, 4);
        let at = self.b.ins().iadd(values, bytes);
        let four = self.b.ins().load(I32X4, MemFlags::new().with_notrap().with_readonly(), at, 0);
        self.store_four(four, slot);
    }

    /// Writes four values that lie in a row.
    pub(crate) fn store_four(&mut self, four: Value, slot: usize) {
        let (before, now) = (self.before(slot), self.now(slot));
        self.b.ins().store(loose(), four, self.mem, before);
        self.b.ins().store(loose(), four, self.mem, now);
    }

    /// Writes four times the same value.
    pub(crate) fn store_same_four(&mut self, value: i32, slot: usize) {
        let value = self.b.ins().iconst(I32, i64::from(value as u32));
        let four = self.b.ins().splat(I32X4, value);
        self.store_four(four, slot);
    }
}
