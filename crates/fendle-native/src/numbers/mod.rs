//! Code for states by number: from a number to the values of its state and back, and all moves of a state in one call.
//!
//! ```text
//! unpack(context, state)              writes the values of a state; nothing is changed or remembered yet
//! load(context, state)                the same, then laws and status: the status, with ENDED where a statement said it; or SLOW
//! key(context, state)                 the number of the state now, by the fields that were changed; or NONE
//! restore(context)                    takes back what was changed
//! moves(context, state, from, to)     tries these moves: how many were made, or SLOW
//! ```
//!
//! Whatever is rare ends in `SLOW`: the machine then does the whole state once more.

mod deltas;
mod key;
mod leaps;
mod rules;
mod sorted;
mod unpack;

use std::sync::Arc;

use cranelift_codegen::ir::condcodes::IntCC;
use cranelift_codegen::ir::{
    AbiParam, Block, BlockArg, Function, InstBuilder, MemFlags, SigRef, UserFuncName, Value,
    types::{I32, I32X4, I64},
};
use cranelift_frontend::{FunctionBuilder, FunctionBuilderContext};
use cranelift_jit::{JITBuilder, JITModule};
use cranelift_module::{Linkage, Module, default_libcall_names};
use fendle_core::MoveId;
use fendle_lang::code::ir::{Code, Op, Positions};
use fendle_lang::code::leaps::LeapPlan;
use fendle_lang::code::machine::{
    BEFORE_DRAW, LeapsMade, Machine, NativeNumbers, POSITION_STEPS, Successors,
};
use fendle_lang::code::numbered::Backward;
use fendle_lang::run::STEP_BUDGET;
use fendle_lang::state::Keys;
use fendle_lang::state::keys::Described;

use crate::context::{Context, Ended, at, digit_field, fixed_field, write_field};
use crate::emit::{heap, loose, table};
use crate::{NativeCode, Sizes, isa};
use leaps::WhenLeapt;

/// What a function returns when the machine itself has to look, or a state has no number.
const SLOW: u64 = u64::MAX;
/// A bit beside the status of a state that was ended by a statement, not by a condition.
const ENDED: u64 = 1 << 32;
/// Moves above which they are not written out one after the other.
const MOVES_MAX: usize = 512;
/// Places between two values that were swapped, up to which the old number is changed instead of computed anew.
const NEAR: i64 = 6;
/// Sets of members up to which they are listed.
const SETS_MAX: u64 = 1 << 18;
/// Values of a state above which fields are not told apart by masks.
const VALUES_MAX: usize = 1024;

type Unpack = unsafe extern "C" fn(*mut Context, u64) -> u64;
type Moves = unsafe extern "C" fn(*mut Context, u64, u64, u64) -> u64;

/// The code of one level for states by number.
pub(crate) struct NumberCode {
    /// Freed when this is dropped.
    module: Option<JITModule>,
    /// The programs that it calls.
    _programs: Arc<NativeCode>,
    _tables: Vec<Box<[i64]>>,
    unpack: Unpack,
    load: Unpack,
    key: Unpack,
    moves: Moves,
    /// Leaps, where they are known: their code is made when it is asked for.
    leaps: Option<WhenLeapt>,
    moves_len: usize,
    range: u64,
    /// Digits of a number.
    fields_len: usize,
    sizes: Sizes,
}

// SAFETY: as for `NativeCode`: nothing in it changes after it was made.
unsafe impl Send for NumberCode {}
// SAFETY: as above.
unsafe impl Sync for NumberCode {}

impl Drop for NumberCode {
    fn drop(&mut self) {
        if let Some(module) = self.module.take() {
            // SAFETY: machines borrow this value while they can call its code, so none is left.
            unsafe { module.free_memory() };
        }
    }
}

impl std::fmt::Debug for NumberCode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "code for numbers below {}", self.range)
    }
}

/// Makes the code. With `positions` moves can stop before their first draw; without, levels with draws are left to the machine,
/// as are those with very many moves or values.
pub(crate) fn compile(
    programs: Arc<NativeCode>,
    code: &Code,
    keys: &Keys,
    positions: Option<&Positions>,
    plan: Option<LeapPlan>,
) -> Result<NumberCode, String> {
    if !code.points.is_empty() && positions.is_none() {
        return Err("moves draw".into());
    }
    if code.moves.len() > MOVES_MAX || code.state_len as usize > VALUES_MAX {
        return Err("there are too many moves or values".into());
    }
    let isa = isa().map_err(|e| e.to_string())?;
    let mut module = JITModule::new(JITBuilder::with_isa(isa, default_libcall_names()));
    let mut builders = FunctionBuilderContext::new();
    let mut tables = vec![];
    let mut ids = vec![];
    for (number, params) in [2, 2, 2, 1, 4].into_iter().enumerate() {
        let mut signature = module.make_signature();
        signature.params = vec![AbiParam::new(I64); params];
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
        let mut w = Writer::new(code, keys, &programs, &mut context.func, &mut builders, &mut tables);
        match number {
            0 => w.unpack(),
            1 => w.load(functions[0]),
            2 => w.key(),
            3 => w.restore(),
            _ => w.moves(functions[2], functions[3], positions),
        }
        w.b.seal_all_blocks();
        w.b.finalize();
        module.define_function(*id, &mut context).map_err(|e| format!("{e:?}"))?;
    }
    module.finalize_definitions().map_err(|e| e.to_string())?;
    let address = |i: usize| module.get_finalized_function(ids[i].0);
    // SAFETY: the functions at these addresses have the signatures that were given to them above.
    let (unpack, load, key, moves) = unsafe {
        (
            std::mem::transmute::<*const u8, Unpack>(address(0)),
            std::mem::transmute::<*const u8, Unpack>(address(1)),
            std::mem::transmute::<*const u8, Unpack>(address(2)),
            std::mem::transmute::<*const u8, Moves>(address(4)),
        )
    };
    Ok(NumberCode {
        module: Some(module),
        leaps: plan.filter(|_| keys.range() <= 1 << 31).map(|plan| WhenLeapt::new(keys.clone(), plan)),
        _programs: programs,
        _tables: tables,
        unpack,
        load,
        key,
        moves,
        moves_len: code.moves.len(),
        range: keys.range(),
        fields_len: keys.fields_len(),
        sizes: Sizes::of(code),
    })
}

impl NumberCode {
    /// A context for a machine, which must be one for these numbers.
    #[inline]
    fn context(&self, machine: &mut Machine<'_>, state: u64) -> Context {
        let keys = machine.keys().map(|k| (k.range(), k.fields_len()));
        let same = Sizes::of(machine.code()) == self.sizes && keys == Some((self.range, self.fields_len));
        assert!(same && state < self.range, "the code of another level");
        Context::of(machine)
    }
}

impl NativeNumbers for NumberCode {
    #[inline]
    fn expand(
        &self,
        machine: &mut Machine<'_>,
        state: u64,
        past_goals: &[bool],
        out: &mut Successors,
    ) -> Option<i64> {
        if out.states.len() < self.moves_len {
            out.states.resize(self.moves_len, 0);
            out.moves.resize(self.moves_len, 0);
            out.scores.resize(self.moves_len, 0);
        }
        out.len = 0;
        let mut context = self.context(machine, state);
        context.out_states = out.states.as_mut_ptr();
        context.out_moves = out.moves.as_mut_ptr();
        context.out_scores = out.scores.as_mut_ptr();
        // SAFETY: see the head of this crate; the buffers have room for one entry a move.
        unsafe {
            let status = (self.load)(&raw mut context, state);
            if status == SLOW {
                return None;
            }
            if status & ENDED != 0 {
                let ended = status & !ENDED;
                // Who goes on from there is the machine.
                let goes_on = past_goals.get(ended as usize - 1).is_some_and(|g| *g);
                return (!goes_on).then_some(ended as i64);
            }
            if status == 0 || past_goals.get(status as usize - 1).is_some_and(|g| *g) {
                let made = (self.moves)(&raw mut context, state, 0, u64::MAX);
                if made == SLOW {
                    return None;
                }
                out.len = made as usize;
            }
            Some(status as i64)
        }
    }

    #[inline]
    fn load(&self, machine: &mut Machine<'_>, state: u64) {
        let mut context = self.context(machine, state);
        // SAFETY: as above.
        unsafe { (self.unpack)(&raw mut context, state) };
    }

    #[inline]
    fn number(&self, machine: &mut Machine<'_>, state: u64) -> Option<u64> {
        let mut context = self.context(machine, state);
        // SAFETY: as above; the machine holds the digits of the state that it loaded.
        let key = unsafe { (self.key)(&raw mut context, state) };
        (key != SLOW).then_some(key)
    }

    #[inline]
    fn lead(&self, machine: &mut Machine<'_>, state: u64, number: u32) -> Option<u64> {
        assert!((number as usize) < self.moves_len, "a move that there is");
        let mut context = self.context(machine, state);
        let (mut states, mut moves, mut scores) = ([0u64], [0u32], [0i64]);
        context.out_states = states.as_mut_ptr();
        context.out_moves = moves.as_mut_ptr();
        context.out_scores = scores.as_mut_ptr();
        // SAFETY: as above; one move needs room for one entry.
        let made = unsafe {
            (self.unpack)(&raw mut context, state);
            (self.moves)(&raw mut context, state, number.into(), number.into())
        };
        match made {
            0 => None,
            1 => (moves[0] & BEFORE_DRAW == 0).then_some(states[0]),
            _ => {
                // The machine may know more.
                machine.load(&[state]);
                let made = machine.try_move(number as usize);
                let mut words = [state];
                let done = made == Ok(fendle_lang::code::machine::Halt::Done);
                (done && machine.pack(&mut words).is_ok()).then_some(words[0])
            }
        }
    }

    #[inline]
    fn sources(
        &self,
        machine: &mut Machine<'_>,
        state: u64,
        back: &Backward,
        values: &mut Vec<i32>,
        out: &mut Vec<(u64, MoveId)>,
    ) {
        let mut context = self.context(machine, state);
        // SAFETY: as above.
        unsafe { (self.unpack)(&raw mut context, state) };
        values.clear();
        values.extend_from_slice(machine.loaded());
        back.each(values, |of, before| {
            machine.put_all(before);
            // SAFETY: as above; the buffers that the context points to stay where they are.
            let key = unsafe { (self.key)(&raw mut context, state) };
            machine.take_back(before);
            if key != SLOW {
                out.push((key, of));
            }
        });
    }

    fn leap(
        &self,
        machine: &mut Machine<'_>,
        numbers: &[u64],
        past_goals: &[bool],
        out: &mut LeapsMade,
    ) -> bool {
        let Some(leaps) = self.leaps.as_ref().and_then(WhenLeapt::get) else { return false };
        assert!(numbers.iter().all(|n| *n < self.range), "numbers of another level");
        leaps.leap(numbers, past_goals, out, |number| {
            let mut context = self.context(machine, number);
            // SAFETY: as above.
            let status = unsafe { (self.load)(&raw mut context, number) };
            // All ones, slow among them, say of a head that the state has to be asked.
            if status & ENDED != 0 { u32::MAX } else { status as u32 }
        });
        true
    }

    fn groups(&self) -> Option<(u64, u64)> {
        self.leaps.as_ref()?.get()?.groups
    }

    fn leap_back(&self, numbers: &[u64], out: &mut LeapsMade) -> bool {
        assert!(numbers.iter().all(|n| *n < self.range), "numbers of another level");
        self.leaps.as_ref().and_then(WhenLeapt::get).is_some_and(|l| l.leap_back(numbers, out))
    }

    fn leap_bytes(&self) -> u64 {
        self.leaps.as_ref().map_or(0, WhenLeapt::bytes)
    }
}

/// The address of a table of fixed numbers, which is kept as long as the code.
fn kept_table(b: &mut FunctionBuilder<'_>, tables: &mut Vec<Box<[i64]>>, entries: Vec<i64>) -> Value {
    let entries = entries.into_boxed_slice();
    let found = tables.iter().position(|t| *t == entries).unwrap_or_else(|| {
        tables.push(entries);
        tables.len() - 1
    });
    b.ins().iconst(I64, tables[found].as_ptr() as usize as i64)
}

/// An entry of a table; the index is known to be inside.
fn entry_of(b: &mut FunctionBuilder<'_>, table: Value, index: Value) -> Value {
    let bytes = b.ins().ishl_imm(index, 3);
    let at = b.ins().iadd(table, bytes);
    b.ins().load(I64, MemFlags::trusted().with_readonly(), at, 0)
}

/// Writes one function.
struct Writer<'w> {
    b: FunctionBuilder<'w>,
    code: &'w Code,
    keys: &'w Keys,
    programs: &'w NativeCode,
    tables: &'w mut Vec<Box<[i64]>>,
    params: Vec<Value>,
    context: Value,
    mem: Value,
    changed: Value,
    digits: Value,
    call: SigRef,
    call_back: SigRef,
    slow: Block,
    statement_ends: bool,
    scores: bool,
}

impl<'w> Writer<'w> {
    fn new(
        code: &'w Code,
        keys: &'w Keys,
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
        let ended = code.now + code.state_len - 1;
        let statement_ends = code.ops.iter().any(|op| match *op {
            Op::PutAt { to, .. } => to.0 == ended,
            Op::Put { base, .. } => base.0 == ended,
            Op::PutBlock { d, len, .. } => d.0 <= ended && ended < d.0 + len,
            _ => false,
        });
        let scores = code.ops.iter().any(|op| matches!(op, Op::Score { .. }));
        Writer {
            b,
            code,
            keys,
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
            statement_ends,
            scores,
        }
    }

    fn number(&mut self, n: u64) -> Value {
        self.b.ins().iconst(I64, n as i64)
    }

    /// Ends the function, and writes the way out for what is slow.
    fn finish(&mut self, value: Value) {
        self.b.ins().return_(&[value]);
        self.b.switch_to_block(self.slow);
        let slow = self.number(SLOW);
        self.b.ins().return_(&[slow]);
    }

    /// Goes on only when the condition holds.
    fn unless_slow(&mut self, easy: Value) {
        let on = self.b.create_block();
        self.b.ins().brif(easy, on, &[], self.slow, &[]);
        self.b.switch_to_block(on);
    }

    /// A table of fixed numbers.
    fn table(&mut self, entries: Vec<i64>) -> Value {
        kept_table(&mut self.b, self.tables, entries)
    }

    /// An entry of a table; the index is known to be inside.
    fn entry(&mut self, table: Value, index: Value) -> Value {
        entry_of(&mut self.b, table, index)
    }

    /// Where a value of the state lies in the memory, in bytes.
    fn before(&self, slot: usize) -> i32 {
        ((self.code.before as usize + slot) * 4) as i32
    }

    fn now(&self, slot: usize) -> i32 {
        ((self.code.now as usize + slot) * 4) as i32
    }

    fn load_now(&mut self, slot: usize) -> Value {
        let at = self.now(slot);
        self.b.ins().sload32(heap(), self.mem, at)
    }

    /// Stores a value of the loaded state, which is also the state now.
    fn store_both(&mut self, value: Value, slot: usize) {
        let (before, now) = (self.before(slot), self.now(slot));
        self.b.ins().istore32(heap(), value, self.mem, before);
        self.b.ins().istore32(heap(), value, self.mem, now);
    }

    /// The same at a place that is computed: `slots[index]`, the index being known to be inside.
    fn store_both_at(&mut self, value: Value, slots: &[usize], index: Value) {
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
}
