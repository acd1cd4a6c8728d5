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
mod sorted;
mod unpack;

use std::sync::Arc;

use cranelift_codegen::ir::condcodes::IntCC;
use cranelift_codegen::ir::{
    AbiParam, Block, BlockArg, InstBuilder, MemFlags, Value,
    types::{I32, I32X4, I64},
};
use cranelift_frontend::{FunctionBuilder, FunctionBuilderContext};
use fendle_core::MoveId;
use fendle_lang::code::ir::{Code, Positions};
use fendle_lang::code::leaps::LeapPlan;
use fendle_lang::code::machine::{BEFORE_DRAW, LeapsMade, Machine, NativeNumbers, Successors};
use fendle_lang::code::numbered::Backward;
use fendle_lang::state::Keys;
use fendle_lang::state::keys::Described;

use crate::context::{Context, digit_field, fixed_field, write_field};
use crate::emit::{loose, table};
use crate::states::{ENDED, OfState, SLOW, StateCode, Successor, Writer, entry_of, kept_table};
use crate::{NativeCode, Sizes};
use leaps::WhenLeapt;

/// Places between two values that were swapped, up to which the old number is changed instead of computed anew.
const NEAR: i64 = 6;
/// Sets of members up to which they are listed.
const SETS_MAX: u64 = 1 << 18;

/// The code of one level for states by number.
pub(crate) struct NumberCode {
    code: StateCode,
    key: OfState,
    /// Leaps, where they are known: their code is made when it is asked for.
    leaps: Option<WhenLeapt>,
    range: u64,
    /// Digits of a number.
    fields_len: usize,
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
    let range = keys.range();
    let code = StateCode::new(programs, code, &[2, 2, 2, 1, 4], |number, w, functions| match number {
        0 => w.unpack(keys),
        1 => w.load(functions[0]),
        2 => w.key(keys),
        3 => w.restore(),
        _ => w.moves(&Successor::Number { key: functions[2], range, positions }, functions[3]),
    })?;
    // SAFETY: the function at this address has two parameters, as was said above.
    let key = unsafe { std::mem::transmute::<*const u8, OfState>(code.functions.address(2)) };
    Ok(NumberCode {
        leaps: plan.filter(|_| range <= 1 << 31).map(|plan| WhenLeapt::new(keys.clone(), plan)),
        code,
        key,
        range,
        fields_len: keys.fields_len(),
    })
}

impl NumberCode {
    /// A context for a machine, which must be one for these numbers.
    #[inline]
    fn context(&self, machine: &mut Machine<'_>, state: u64) -> Context {
        let keys = machine.keys().map(|k| (k.range(), k.fields_len()));
        let same =
            Sizes::of(machine.code()) == self.code.sizes && keys == Some((self.range, self.fields_len));
        assert!(same && state < self.range, "the code of another level");
        Context::of(machine)
    }
}

impl NativeNumbers for NumberCode {
    fn expand(&self, machine: &mut Machine<'_>, states: &[u64], past_goals: &[bool], out: &mut Successors) {
        let Some(greatest) = states.iter().max() else { return out.heads.clear() };
        let mut context = self.context(machine, *greatest);
        // SAFETY: see the head of this crate; the context is one for these numbers, none of which is out of their range.
        unsafe { self.code.expand(&mut context, (states.iter().copied(), 1), past_goals, out) }
    }

    #[inline]
    fn load(&self, machine: &mut Machine<'_>, state: u64) {
        let mut context = self.context(machine, state);
        // SAFETY: as above.
        unsafe { (self.code.unpack)(&raw mut context, state) };
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
        assert!((number as usize) < self.code.moves_len, "a move that there is");
        let mut context = self.context(machine, state);
        let (mut states, mut moves, mut scores) = ([0u64], [0u32], [0i64]);
        context.out_states = states.as_mut_ptr();
        context.out_moves = moves.as_mut_ptr();
        context.out_scores = scores.as_mut_ptr();
        // SAFETY: as above; one move needs room for one entry.
        let made = unsafe {
            (self.code.unpack)(&raw mut context, state);
            self.code.tried(&mut context, state, (number.into(), number.into()))
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
        unsafe { (self.code.unpack)(&raw mut context, state) };
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
            let status = unsafe { self.code.status(&mut context, number) };
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
