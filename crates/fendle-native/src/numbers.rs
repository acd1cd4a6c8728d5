//! Code for states by number: from a number to the values of its state and back, and all moves of a state in one call.
//!
//! ```text
//! unpack(context, state)              writes the values of a state; nothing is changed or remembered yet
//! load(context, state)                the same, then laws and status: the status, or SLOW
//! key(context, state)                 the number of the state now, by the fields that were changed; or NONE
//! restore(context)                    takes back what was changed
//! moves(context, state, from, to)     tries these moves: how many were made, or SLOW
//! ```
//!
//! Whatever is rare ends in `SLOW`: the machine then does the whole state once more.

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
use fendle_lang::Bound;
use fendle_lang::code::ir::{Code, Op};
use fendle_lang::code::machine::{Machine, NativeNumbers, Successors};
use fendle_lang::code::numbered::Backward;
use fendle_lang::run::STEP_BUDGET;
use fendle_lang::state::Keys;
use fendle_lang::state::keys::Described;

use crate::context::{Context, at, digit_field, fixed_field, write_field};
use crate::emit::{heap, loose, table};
use crate::{NativeCode, Sizes, isa};

/// What a function returns when the machine itself has to look, or a state has no number.
const SLOW: u64 = u64::MAX;
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

/// Makes the code. `None` when a model has something that is left to the machine: moves that draw, very many moves or values.
pub(crate) fn compile(
    programs: Arc<NativeCode>,
    bound: &Bound,
    code: &Code,
    keys: &Keys,
) -> Result<NumberCode, String> {
    if !code.points.is_empty() {
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
        let mut w = Writer::new(bound, code, keys, &programs, &mut context.func, &mut builders, &mut tables);
        match number {
            0 => w.unpack(),
            1 => w.load(functions[0]),
            2 => w.key(),
            3 => w.restore(),
            _ => w.moves(functions[2], functions[3]),
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
            1 => Some(states[0]),
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
        let mut context = self.context(machine, state);
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
        _bound: &Bound,
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
        let entries = entries.into_boxed_slice();
        let found = self.tables.iter().position(|t| *t == entries).unwrap_or_else(|| {
            self.tables.push(entries);
            self.tables.len() - 1
        });
        let address = self.tables[found].as_ptr() as usize as u64;
        self.number(address)
    }

    /// An entry of a table; the index is known to be inside.
    fn entry(&mut self, table: Value, index: Value) -> Value {
        let bytes = self.b.ins().ishl_imm(index, 3);
        let at = self.b.ins().iadd(table, bytes);
        self.b.ins().load(I64, MemFlags::trusted().with_readonly(), at, 0)
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

    // ---- from a number to values ----

    fn unpack(&mut self) {
        let keys = self.keys;
        let zero = self.number(0);
        for w in 0..(self.code.state_len as usize).div_ceil(64) {
            self.b.ins().store(table(), zero, self.changed, (w * 8) as i32);
        }
        let known = self.b.ins().load(I64, MemFlags::trusted(), self.context, at::KNOWN);
        for w in 0..(self.code.memos as usize).div_ceil(64) {
            self.b.ins().store(table(), zero, known, (w * 8) as i32);
        }
        self.write_base();
        let mut rest = self.params[1];
        for (field, (described, stride, ..)) in keys.describe().into_iter().enumerate().rev() {
            let digit = if stride == 1 {
                rest
            } else if keys.range() > u64::from(u32::MAX) {
                let s = self.number(stride);
                self.b.ins().udiv(rest, s)
            } else {
                // Division of 32 bits is several times faster.
                let (x, s) = (self.b.ins().ireduce(I32, rest), self.b.ins().iconst(I32, stride as i64));
                let q = self.b.ins().udiv(x, s);
                self.b.ins().uextend(I64, q)
            };
            if stride > 1 {
                let whole = self.b.ins().imul_imm(digit, stride as i64);
                rest = self.b.ins().isub(rest, whole);
            }
            self.b.ins().store(table(), digit, self.digits, (field * 8) as i32);
            match described {
                Described::Single { slot, values } => self.unpack_single(digit, slot, values),
                Described::Members { slots, least, most, firsts, ways } => {
                    self.unpack_members(digit, slots, (least, most), firsts, ways);
                }
                Described::Order { slots, values, weights, inverses, parity } => {
                    self.unpack_order(digit, slots, values, (weights, inverses), parity);
                }
                Described::Other => self.call_field(write_field as *const () as usize, field, digit),
            }
        }
        let zero = self.number(0);
        self.finish(zero);
    }

    /// Writes the values that are in no field. Runs of them are copied, four at a time.
    fn write_base(&mut self) {
        let keys = self.keys;
        let mut free = vec![false; keys.values_len()];
        for (_, _, slots, _) in keys.describe() {
            slots.into_iter().for_each(|s| free[s] = true);
        }
        // What moves wrote is taken back when they are done, so the fixed values are the same for all states of a machine. They
        // are written all the same: the machine may have loaded another state in between.
        let mut slot = 0;
        while slot < free.len() {
            if free[slot] {
                slot += 1;
                continue;
            }
            let base = &keys.base()[slot..];
            if slot + 4 <= free.len()
                && !free[slot..slot + 4].iter().any(|f| *f)
                && base[..4].iter().all(|v| *v == base[0])
            {
                let value = self.b.ins().iconst(I32, i64::from(base[0] as u32));
                let four = self.b.ins().splat(I32X4, value);
                let (before, now) = (self.before(slot), self.now(slot));
                self.b.ins().store(loose(), four, self.mem, before);
                self.b.ins().store(loose(), four, self.mem, now);
                slot += 4;
            } else {
                let value = self.number(i64::from(base[0]) as u64);
                self.store_both(value, slot);
                slot += 1;
            }
        }
    }

    fn unpack_single(&mut self, digit: Value, slot: usize, values: &[i32]) {
        let in_a_row = values.windows(2).all(|w| w[1] == w[0] + 1);
        let value = if in_a_row {
            self.b.ins().iadd_imm(digit, i64::from(values[0]))
        } else {
            let table = self.table(values.iter().map(|v| i64::from(*v)).collect());
            self.entry(table, digit)
        };
        self.store_both(value, slot);
    }

    fn unpack_members(
        &mut self,
        digit: Value,
        slots: &[usize],
        (least, most): (usize, usize),
        firsts: &[u64],
        (ways, row): (&[u64], usize),
    ) {
        let (first_slot, last_slot) = (slots[0], slots[slots.len() - 1]);
        if firsts[most + 1] <= SETS_MAX && last_slot - first_slot < 64 {
            self.unpack_listed_members(digit, slots, (least, most), firsts, (ways, row));
            return;
        }
        let firsts_at = self.table(firsts.iter().map(|f| *f as i64).collect());
        let mut k = self.number(most as u64);
        if least < most {
            // As many members as there are entries not above the digit, less one.
            let mut count = self.number(least as u64);
            for first in &firsts[least + 1..=most] {
                let above = self.b.ins().icmp_imm(IntCC::UnsignedGreaterThanOrEqual, digit, *first as i64);
                let above = self.b.ins().uextend(I64, above);
                count = self.b.ins().iadd(count, above);
            }
            k = count;
        }
        let first = self.entry(firsts_at, k);
        let mut rest = self.b.ins().isub(digit, first);
        let ways_at = self.table(ways.iter().map(|w| *w as i64).collect());
        let zero = self.number(0);
        for place in (0..slots.len()).rev() {
            let bytes = self.b.ins().ishl_imm(k, 3);
            let at = self.b.ins().iadd(ways_at, bytes);
            let flags = MemFlags::trusted().with_readonly();
            let below = self.b.ins().load(I64, flags, at, (place * row * 8) as i32);
            let here = self.b.ins().icmp(IntCC::UnsignedLessThanOrEqual, below, rest);
            let less = self.b.ins().select(here, below, zero);
            rest = self.b.ins().isub(rest, less);
            let here = self.b.ins().uextend(I64, here);
            k = self.b.ins().isub(k, here);
            self.store_both(here, slots[place]);
        }
    }

    /// Few sets are listed: one bit a value from the first place to the last, spread over the values four at a time.
    fn unpack_listed_members(
        &mut self,
        digit: Value,
        slots: &[usize],
        (least, most): (usize, usize),
        firsts: &[u64],
        (ways, row): (&[u64], usize),
    ) {
        let (first, last) = (slots[0], slots[slots.len() - 1]);
        // Values in between that are in no field belong to the same set, and keep what they always hold.
        let base = self.keys.base();
        let mut fixed = 0u64;
        for (slot, value) in base.iter().enumerate().take(last + 1).skip(first) {
            if !slots.contains(&slot) {
                fixed |= u64::from(*value != 0) << (slot - first);
            }
        }
        let mut sets = Vec::with_capacity(firsts[most + 1] as usize);
        for k in least..=most {
            for rank in 0..firsts[k + 1] - firsts[k] {
                let (mut rest, mut left, mut place, mut bits) = (rank, k, slots.len(), fixed);
                while left > 0 {
                    place -= 1;
                    let below = ways[place * row + left];
                    if below <= rest {
                        rest -= below;
                        left -= 1;
                        bits |= 1 << (slots[place] - first);
                    }
                }
                sets.push(bits as i64);
            }
        }
        let sets = self.table(sets);
        let bits = self.entry(sets, digit);
        let pair = |n: i64| [n & 1 | (n >> 1 & 1) << 32, n >> 2 & 1 | (n >> 3 & 1) << 32];
        let spread = self.table((0..16).flat_map(pair).collect());
        let mut slot = first;
        while slot <= last {
            let here = self.b.ins().ushr_imm(bits, (slot - first) as i64);
            if last - slot >= 3 {
                let nibble = self.b.ins().band_imm(here, 15);
                let bytes = self.b.ins().ishl_imm(nibble, 4);
                let at = self.b.ins().iadd(spread, bytes);
                let four = self.b.ins().load(I32X4, MemFlags::new().with_notrap().with_readonly(), at, 0);
                let (before, now) = (self.before(slot), self.now(slot));
                self.b.ins().store(loose(), four, self.mem, before);
                self.b.ins().store(loose(), four, self.mem, now);
                slot += 4;
            } else {
                let bit = self.b.ins().band_imm(here, 1);
                self.store_both(bit, slot);
                slot += 1;
            }
        }
    }

    fn unpack_order(
        &mut self,
        digit: Value,
        slots: &[usize],
        values: &[i32],
        (weights, inverses): (&[u64], &[u64]),
        parity: Option<(bool, &[(u8, u32)])>,
    ) {
        let n = slots.len();
        let mut free = self.number(0xfedc_ba98_7654_3210);
        let mut rest = digit;
        let mut odd = self.number(0);
        let known = if parity.is_some() { n - 2 } else { n };
        for number in 0..known {
            let q = match weights[number] {
                1 => rest,
                _ => {
                    let inverse = self.number(inverses[number]);
                    self.b.ins().umulhi(rest, inverse)
                }
            };
            let whole = self.b.ins().imul_imm(q, weights[number] as i64);
            rest = self.b.ins().isub(rest, whole);
            odd = self.b.ins().bxor(odd, q);
            let place = self.take(&mut free, q);
            if let Some((_, counts)) = parity {
                for (_, bits) in counts.iter().filter(|c| usize::from(c.0) == number) {
                    let bits = self.number(u64::from(*bits));
                    let one = self.b.ins().ushr(bits, place);
                    odd = self.b.ins().bxor(odd, one);
                }
            }
            let value = self.number(i64::from(values[number]) as u64);
            self.store_both_at(value, slots, place);
        }
        if let Some((want, _)) = parity {
            let first = self.b.ins().band_imm(free, 15);
            let second = self.b.ins().ushr_imm(free, 4);
            let second = self.b.ins().band_imm(second, 15);
            let odd = self.b.ins().band_imm(odd, 1);
            let swap = self.b.ins().icmp_imm(IntCC::NotEqual, odd, i64::from(want));
            let x = self.b.ins().select(swap, second, first);
            let y = self.b.ins().select(swap, first, second);
            for (place, value) in [(x, values[n - 2]), (y, values[n - 1])] {
                let value = self.number(i64::from(value) as u64);
                self.store_both_at(value, slots, place);
            }
        }
    }

    /// Takes entry `digit` out of a list of nibbles.
    fn take(&mut self, free: &mut Value, digit: Value) -> Value {
        let shift = self.b.ins().ishl_imm(digit, 2);
        let above = self.b.ins().ushr(*free, shift);
        let place = self.b.ins().band_imm(above, 15);
        let all = self.number(u64::MAX);
        let mask = self.b.ins().ishl(all, shift);
        let low = self.b.ins().band_not(*free, mask);
        let above = self.b.ins().ushr_imm(above, 4);
        let high = self.b.ins().ishl(above, shift);
        *free = self.b.ins().bor(low, high);
        place
    }

    /// Calls back with a field and its digit.
    fn call_field(&mut self, function: usize, field: usize, digit: Value) {
        let function = self.number(function as u64);
        let field = self.number(field as u64);
        self.b.ins().call_indirect(self.call_back, function, &[self.context, field, digit]);
    }

    // ---- from values to a number ----

    fn key(&mut self) {
        let keys = self.keys;
        let words = (self.code.state_len as usize).div_ceil(64);
        let changed: Vec<Value> =
            (0..words).map(|w| self.b.ins().load(I64, table(), self.changed, (w * 8) as i32)).collect();
        let mut fixed = vec![u64::MAX; words];
        let last = self.code.state_len as usize % 64;
        if last > 0 {
            fixed[words - 1] = (1 << last) - 1;
        }
        let mut sum = self.params[1];
        for (field, (described, stride, slots, _)) in keys.describe().into_iter().enumerate() {
            let mut mask = vec![0u64; words];
            for s in &slots {
                mask[s / 64] |= 1 << (s % 64);
            }
            for (f, m) in fixed.iter_mut().zip(&mask) {
                *f &= !m;
            }
            let touched = self.any(&changed, &mask);
            let (here, on) = (self.b.create_block(), self.b.create_block());
            self.b.append_block_param(on, I64);
            self.b.ins().brif(touched, here, &[], on, &[BlockArg::Value(sum)]);
            self.b.switch_to_block(here);
            let digit = match described {
                Described::Single { slot, values } => self.key_single(slot, values),
                Described::Members { slots, least, most, firsts, ways }
                    if slots[slots.len() - 1] - slots[0] < 64 =>
                {
                    self.key_members(slots, (least, most), firsts, ways)
                }
                Described::Order { slots, values, weights, parity, .. } => {
                    self.swapped_or_ordered(field, &changed, slots, values, weights, parity)
                }
                _ => self.key_other(field),
            };
            let old = self.b.ins().load(I64, table(), self.digits, (field * 8) as i32);
            let change = self.b.ins().isub(digit, old);
            let change = self.b.ins().imul_imm(change, stride as i64);
            let new = self.b.ins().iadd(sum, change);
            self.b.ins().jump(on, &[BlockArg::Value(new)]);
            self.b.switch_to_block(on);
            sum = self.b.block_params(on)[0];
        }
        // A value that never changes was written: the same one, or there is no number.
        let touched = self.any(&changed, &fixed);
        let (here, on) = (self.b.create_block(), self.b.create_block());
        self.b.ins().brif(touched, here, &[], on, &[]);
        self.b.switch_to_block(here);
        let function = self.number(fixed_field as *const () as usize as u64);
        let zero = self.number(0);
        let call = self.b.ins().call_indirect(self.call_back, function, &[self.context, zero, zero]);
        let same = self.b.inst_results(call)[0];
        self.unless_slow(same);
        self.b.ins().jump(on, &[]);
        self.b.switch_to_block(on);
        self.finish(sum);
    }

    /// Whether a bit of a mask is set in some words.
    fn any(&mut self, words: &[Value], mask: &[u64]) -> Value {
        let mut all = self.number(0);
        for (word, mask) in words.iter().zip(mask).filter(|w| *w.1 != 0) {
            let here = self.b.ins().band_imm(*word, *mask as i64);
            all = self.b.ins().bor(all, here);
        }
        all
    }

    fn key_single(&mut self, slot: usize, values: &[i32]) -> Value {
        let value = self.load_now(slot);
        let (lo, hi) = (i64::from(values[0]), i64::from(values[values.len() - 1]));
        let above = self.b.ins().iadd_imm(value, -lo);
        let inside = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, above, hi - lo);
        self.unless_slow(inside);
        if hi - lo + 1 == values.len() as i64 {
            return above;
        }
        if hi - lo > 1 << 16 {
            // Far apart: looked for one after the other.
            let mut found = self.number(SLOW);
            for (digit, v) in values.iter().enumerate() {
                let here = self.b.ins().icmp_imm(IntCC::Equal, value, i64::from(*v));
                let digit = self.number(digit as u64);
                found = self.b.ins().select(here, digit, found);
            }
            let known = self.b.ins().icmp_imm(IntCC::NotEqual, found, -1);
            self.unless_slow(known);
            return found;
        }
        let mut digits = vec![-1; (hi - lo) as usize + 1];
        for (digit, v) in values.iter().enumerate() {
            digits[(i64::from(*v) - lo) as usize] = digit as i64;
        }
        let table = self.table(digits);
        let digit = self.entry(table, above);
        let known = self.b.ins().icmp_imm(IntCC::SignedGreaterThanOrEqual, digit, 0);
        self.unless_slow(known);
        digit
    }

    fn key_members(
        &mut self,
        slots: &[usize],
        (least, most): (usize, usize),
        firsts: &[u64],
        (ways, row): (&[u64], usize),
    ) -> Value {
        // One bit a place, four at a time.
        let (first, last) = (slots[0], slots[slots.len() - 1]);
        let mut bits = self.number(0);
        let mut i = first;
        while i <= last {
            let n = if last - i >= 3 { 4 } else { 1 };
            let at = self.now(i);
            let here = if n == 4 {
                let values = self.b.ins().load(I32X4, loose(), self.mem, at);
                let zero = self.b.ins().iconst(I32, 0);
                let zero = self.b.ins().splat(I32X4, zero);
                let set = self.b.ins().icmp(IntCC::NotEqual, values, zero);
                let bits = self.b.ins().vhigh_bits(I32, set);
                self.b.ins().uextend(I64, bits)
            } else {
                let value = self.load_now(i);
                let set = self.b.ins().icmp_imm(IntCC::NotEqual, value, 0);
                self.b.ins().uextend(I64, set)
            };
            let here = self.b.ins().ishl_imm(here, (i - first) as i64);
            bits = self.b.ins().bor(bits, here);
            i += n;
        }
        let mask: u64 = slots.iter().map(|s| 1u64 << (s - first)).sum();
        let bits = self.b.ins().band_imm(bits, mask as i64);
        // For each bit, what it counts as member number k.
        let mut by_bit = vec![0i64; (last - first + 1) * row];
        for (n, slot) in slots.iter().enumerate() {
            for k in 0..row {
                by_bit[(slot - first) * row + k] = ways[n * row + k] as i64;
            }
        }
        let counts = self.table(by_bit);
        let firsts = self.table(firsts.iter().map(|f| *f as i64).collect());
        let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        for _ in 0..3 {
            self.b.append_block_param(head, I64);
        }
        let zero = self.number(0);
        self.b.ins().jump(head, &[BlockArg::Value(bits), BlockArg::Value(zero), BlockArg::Value(zero)]);
        self.b.switch_to_block(head);
        let &[left, k, rank] = self.b.block_params(head) else { unreachable!("three parameters") };
        self.b.ins().brif(left, body, &[], done, &[]);
        self.b.switch_to_block(body);
        let k_next = self.b.ins().iadd_imm(k, 1);
        let fits = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, k_next, most as i64);
        self.unless_slow(fits);
        let bit = self.b.ins().ctz(left);
        let index = self.b.ins().imul_imm(bit, row as i64);
        let index = self.b.ins().iadd(index, k_next);
        let count = self.entry(counts, index);
        let rank_next = self.b.ins().iadd(rank, count);
        let less = self.b.ins().iadd_imm(left, -1);
        let left_next = self.b.ins().band(left, less);
        let args = [BlockArg::Value(left_next), BlockArg::Value(k_next), BlockArg::Value(rank_next)];
        self.b.ins().jump(head, &args);
        self.b.switch_to_block(done);
        let enough = self.b.ins().icmp_imm(IntCC::UnsignedGreaterThanOrEqual, k, least as i64);
        self.unless_slow(enough);
        let before = self.entry(firsts, k);
        self.b.ins().iadd(rank, before)
    }

    /// The digit of an arrangement: where just two values were swapped that lie near to each other, from the old one; else all
    /// over again.
    ///
    /// Let u be the value with the earlier digit of the two, v the other one, and let u move up. Its own digit grows by one for
    /// the place that v leaves, and by one for each place between them that is taken later. The digit of a value between them,
    /// taken after u and before v, grows by one. That of v falls by one for each place between them that is taken after v.
    /// All others stay.
    fn swapped_or_ordered(
        &mut self,
        field: usize,
        changed: &[Value],
        slots: &[usize],
        values: &[i32],
        weights: &[u64],
        parity: Option<(bool, &[(u8, u32)])>,
    ) -> Value {
        let first = slots[0];
        let in_a_row = slots.windows(2).all(|w| w[1] == w[0] + 1);
        let in_one_word = first / 64 == slots[slots.len() - 1] / 64;
        if !in_a_row || !in_one_word || slots.len() < 3 {
            return self.key_order(slots, values, weights, parity);
        }
        let (two, near, fast) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        let (slow, done) = (self.b.create_block(), self.b.create_block());
        self.b.append_block_param(done, I64);
        // Which two places: p below q.
        let bits = self.b.ins().ushr_imm(changed[first / 64], (first % 64) as i64);
        let bits = self.b.ins().band_imm(bits, (1i64 << slots.len()) - 1);
        let less = self.b.ins().iadd_imm(bits, -1);
        let upper = self.b.ins().band(bits, less);
        let lower_gone = self.b.ins().iadd_imm(upper, -1);
        let third = self.b.ins().band(upper, lower_gone);
        let has_upper = self.b.ins().icmp_imm(IntCC::NotEqual, upper, 0);
        let no_third = self.b.ins().icmp_imm(IntCC::Equal, third, 0);
        let is_two = self.b.ins().band(has_upper, no_third);
        self.b.ins().brif(is_two, two, &[], slow, &[]);
        self.b.switch_to_block(two);
        let (p, q) = (self.b.ins().ctz(bits), self.b.ins().ctz(upper));
        let far = self.b.ins().isub(q, p);
        let value = |w: &mut Self, place: Value, before: bool| {
            let bytes = w.b.ins().ishl_imm(place, 2);
            let at = w.b.ins().iadd(w.mem, bytes);
            let offset = if before { w.before(first) } else { w.now(first) };
            w.b.ins().sload32(heap(), at, offset)
        };
        let (p_was, q_was) = (value(self, p, true), value(self, q, true));
        let (p_is, q_is) = (value(self, p, false), value(self, q, false));
        let same_p = self.b.ins().icmp(IntCC::Equal, p_is, q_was);
        let same_q = self.b.ins().icmp(IntCC::Equal, q_is, p_was);
        let swapped = self.b.ins().band(same_p, same_q);
        let is_near = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, far, NEAR);
        let easy = self.b.ins().band(swapped, is_near);
        self.b.ins().brif(easy, near, &[], slow, &[]);
        self.b.switch_to_block(near);
        // All values are those of the arrangement before, so each has a number.
        let lo = values.iter().copied().min().unwrap_or(0);
        let hi = values.iter().copied().max().unwrap_or(0);
        let mut numbers = vec![0i64; (hi - lo) as usize + 1];
        for (i, v) in values.iter().enumerate() {
            numbers[(v - lo) as usize] = i as i64;
        }
        let numbers = self.table(numbers);
        let weights_at = self.table(weights.iter().map(|w| *w as i64).collect());
        let most = self.number((hi - lo) as u64);
        let number_of = |w: &mut Self, value: Value| {
            let above = w.b.ins().iadd_imm(value, -i64::from(lo));
            let index = w.b.ins().umin(above, most);
            w.entry(numbers, index)
        };
        let (a, b) = (number_of(self, p_was), number_of(self, q_was));
        let (u, v) = (self.b.ins().umin(a, b), self.b.ins().umax(a, b));
        let (head, body) = (self.b.create_block(), self.b.create_block());
        for _ in 0..4 {
            self.b.append_block_param(head, I64);
        }
        let (zero, next) = (self.number(0), self.b.ins().iadd_imm(p, 1));
        let args = [next, zero, zero, zero].map(BlockArg::Value);
        self.b.ins().jump(head, &args);
        self.b.switch_to_block(head);
        let &[place, after_u, after_v, between] = self.b.block_params(head) else {
            unreachable!("four parameters")
        };
        let left = self.b.ins().icmp(IntCC::UnsignedLessThan, place, q);
        self.b.ins().brif(left, body, &[], fast, &[]);
        self.b.switch_to_block(body);
        let x = value(self, place, false);
        let x = number_of(self, x);
        let later_u = self.b.ins().icmp(IntCC::UnsignedGreaterThan, x, u);
        let later_v = self.b.ins().icmp(IntCC::UnsignedGreaterThan, x, v);
        let weight = self.entry(weights_at, x);
        let earlier_v = self.b.ins().icmp(IntCC::UnsignedLessThan, x, v);
        let inside = self.b.ins().band(later_u, earlier_v);
        let counted = self.b.ins().select(inside, weight, zero);
        let (later_u, later_v) = (self.b.ins().uextend(I64, later_u), self.b.ins().uextend(I64, later_v));
        let args = [
            self.b.ins().iadd_imm(place, 1),
            self.b.ins().iadd(after_u, later_u),
            self.b.ins().iadd(after_v, later_v),
            self.b.ins().iadd(between, counted),
        ];
        self.b.ins().jump(head, &args.map(BlockArg::Value));
        self.b.switch_to_block(fast);
        let (weight_u, weight_v) = (self.entry(weights_at, u), self.entry(weights_at, v));
        let steps = self.b.ins().iadd_imm(after_u, 1);
        let of_u = self.b.ins().imul(weight_u, steps);
        let of_v = self.b.ins().imul(weight_v, after_v);
        let grown = self.b.ins().iadd(of_u, between);
        let grown = self.b.ins().isub(grown, of_v);
        let fallen = self.b.ins().ineg(grown);
        let up = self.b.ins().icmp(IntCC::UnsignedLessThan, a, b);
        let change = self.b.ins().select(up, grown, fallen);
        let old = self.b.ins().load(I64, table(), self.digits, (field * 8) as i32);
        let digit = self.b.ins().iadd(old, change);
        self.b.ins().jump(done, &[BlockArg::Value(digit)]);
        self.b.switch_to_block(slow);
        let digit = self.key_order(slots, values, weights, parity);
        self.b.ins().jump(done, &[BlockArg::Value(digit)]);
        self.b.switch_to_block(done);
        self.b.block_params(done)[0]
    }

    fn key_order(
        &mut self,
        slots: &[usize],
        values: &[i32],
        weights: &[u64],
        parity: Option<(bool, &[(u8, u32)])>,
    ) -> Value {
        let n = slots.len();
        let lo = values.iter().copied().min().unwrap_or(0);
        let hi = values.iter().copied().max().unwrap_or(0);
        let in_order = values.iter().enumerate().all(|(i, v)| *v == lo + i as i32);
        let numbers = if in_order {
            None
        } else {
            let mut numbers = vec![15i64; (hi - lo) as usize + 1];
            for (i, v) in values.iter().enumerate() {
                numbers[(v - lo) as usize] = i as i64;
            }
            Some(self.table(numbers))
        };
        // Nibble i: the place of value number i.
        let mut places = self.number(0);
        let mut seen = self.number(0);
        let mut inside = None;
        let one = self.number(1);
        let most = self.number((hi - lo) as u64);
        for (place, slot) in slots.iter().enumerate() {
            let value = self.load_now(*slot);
            let above = self.b.ins().iadd_imm(value, -i64::from(lo));
            let ok = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, above, i64::from(hi - lo));
            inside = Some(match inside {
                None => ok,
                Some(x) => self.b.ins().band(x, ok),
            });
            let number = match numbers {
                None => above,
                Some(table) => {
                    let index = self.b.ins().umin(above, most);
                    self.entry(table, index)
                }
            };
            let bit = self.b.ins().ishl(one, number);
            seen = self.b.ins().bor(seen, bit);
            let shift = self.b.ins().ishl_imm(number, 2);
            let place = self.number(place as u64);
            let nibble = self.b.ins().ishl(place, shift);
            places = self.b.ins().bor(places, nibble);
        }
        let all = self.b.ins().icmp_imm(IntCC::Equal, seen, (1i64 << n) - 1);
        let sound = match inside {
            None => all,
            Some(x) => self.b.ins().band(x, all),
        };
        self.unless_slow(sound);
        // Nibble p: how many free places lie before place p.
        let mut before = self.number(0xfedc_ba98_7654_3210);
        let ones = self.number(0x1111_1111_1111_1110);
        let mut rank = self.number(0);
        let mut odd = self.number(0);
        for (number, weight) in weights.iter().enumerate().take(n - 1) {
            let place = self.b.ins().ushr_imm(places, (number * 4) as i64);
            let place = self.b.ins().band_imm(place, 15);
            let shift = self.b.ins().ishl_imm(place, 2);
            let digit = self.b.ins().ushr(before, shift);
            let digit = self.b.ins().band_imm(digit, 15);
            let less = self.b.ins().ishl(ones, shift);
            before = self.b.ins().isub(before, less);
            odd = self.b.ins().bxor(odd, digit);
            if *weight > 0 {
                let counts = self.b.ins().imul_imm(digit, *weight as i64);
                rank = self.b.ins().iadd(rank, counts);
            }
        }
        if let Some((want, counts)) = parity {
            for (number, bits) in counts {
                let place = self.b.ins().ushr_imm(places, i64::from(*number) * 4);
                let place = self.b.ins().band_imm(place, 15);
                let bits = self.number(u64::from(*bits));
                let one = self.b.ins().ushr(bits, place);
                odd = self.b.ins().bxor(odd, one);
            }
            let odd = self.b.ins().band_imm(odd, 1);
            let sound = self.b.ins().icmp_imm(IntCC::Equal, odd, i64::from(want));
            self.unless_slow(sound);
        }
        rank
    }

    fn key_other(&mut self, field: usize) -> Value {
        let function = self.number(digit_field as *const () as usize as u64);
        let (field, zero) = (self.number(field as u64), self.number(0));
        let call = self.b.ins().call_indirect(self.call_back, function, &[self.context, field, zero]);
        let digit = self.b.inst_results(call)[0];
        let known = self.b.ins().icmp_imm(IntCC::NotEqual, digit, -1);
        self.unless_slow(known);
        digit
    }

    // ---- rules ----

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

    fn load(&mut self, unpack: cranelift_codegen::ir::FuncRef) {
        let state = self.params[1];
        self.b.ins().call(unpack, &[self.context, state]);
        // A state that ended by a statement is for the machine.
        let ended = self.load_now(self.code.state_len as usize - 1);
        let running = self.b.ins().icmp_imm(IntCC::Equal, ended, 0);
        self.unless_slow(running);
        if !self.code.law_sites.is_empty() {
            let broken = self.ask(self.code.laws);
            let sound = self.b.ins().icmp_imm(IntCC::Equal, broken, 0);
            self.unless_slow(sound);
        }
        let status = self.ask(self.code.status);
        self.finish(status);
    }

    fn restore(&mut self) {
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

    fn moves(&mut self, key: cranelift_codegen::ir::FuncRef, restore: cranelift_codegen::ir::FuncRef) {
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
        let blocks: Vec<Block> = (0..=code.moves.len())
            .map(|_| {
                let block = self.b.create_block();
                self.b.append_block_param(block, I64);
                block
            })
            .collect();
        let zero = self.number(0);
        let budget = self.number(STEP_BUDGET as u64);
        if code.moves.is_empty() {
            self.b.ins().jump(blocks[0], &[BlockArg::Value(zero)]);
        } else {
            // To the first move that is wanted.
            let mut switch = cranelift_frontend::Switch::new();
            let mut entries = vec![];
            for (i, block) in blocks.iter().enumerate().take(code.moves.len()) {
                let entry = self.b.create_block();
                switch.set_entry(i as u128, entry);
                entries.push((entry, *block));
            }
            let none = self.b.create_block();
            switch.emit(&mut self.b, from, none);
            for (entry, block) in entries {
                self.b.switch_to_block(entry);
                self.b.ins().jump(block, &[BlockArg::Value(zero)]);
            }
            self.b.switch_to_block(none);
            self.b.ins().jump(blocks[code.moves.len()], &[BlockArg::Value(zero)]);
        }
        for (i, entry) in code.moves.iter().enumerate() {
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
            self.b.ins().brif(ended, other, &[], done, &[]);
            // Refused or not offered: nothing is made of it.
            self.b.switch_to_block(other);
            let kind = self.b.ins().band_imm(ended, 0xff);
            let kind = self.b.ins().iadd_imm(kind, -2);
            let refused = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, kind, 2);
            self.unless_slow(refused);
            self.b.ins().jump(back, &[BlockArg::Value(count)]);
            self.b.switch_to_block(done);
            if self.statement_ends {
                self.settle_end();
            }
            let call = self.b.ins().call(key, &[self.context, state]);
            let new = self.b.inst_results(call)[0];
            let known = self.b.ins().icmp_imm(IntCC::NotEqual, new, -1);
            self.unless_slow(known);
            let eight = self.b.ins().ishl_imm(count, 3);
            let four = self.b.ins().ishl_imm(count, 2);
            let at = self.b.ins().iadd(states, eight);
            self.b.ins().store(flags, new, at, 0);
            let at = self.b.ins().iadd(moves, four);
            let number = self.number(i as u64);
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
            let last = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, to, i as i64);
            let end = blocks[code.moves.len()];
            self.b.ins().brif(last, end, &[BlockArg::Value(count)], blocks[i + 1], &[BlockArg::Value(count)]);
        }
        let end = blocks[code.moves.len()];
        self.b.switch_to_block(end);
        let count = self.b.block_params(end)[0];
        self.finish(count);
    }

    /// An ending that a statement wrote and a condition says as well is written once.
    fn settle_end(&mut self) {
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
