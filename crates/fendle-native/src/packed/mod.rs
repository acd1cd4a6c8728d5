//! Code for packed states: from packed words to values and back, and all moves of a state in one call.
//!
//! ```text
//! pack(context, parent, out)          the words of the state now, from those of the loaded one and the values that were changed; or SLOW
//! pack_back(context, parent, out)     the same, and takes back what was changed
//! ```
//!
//! The other functions are those of [`crate::states`].

mod pack;
mod unpack;

use std::sync::Arc;

use cranelift_codegen::ir::{InstBuilder, MemFlags, Value, types::I64};
use fendle_core::Layout;
use fendle_lang::code::ir::Code;
use fendle_lang::code::machine::{Machine, NativePacked, Successors};
use fendle_lang::state::Codec;
use fendle_lang::state::packing::{PackedField, PackedRow};

use crate::context::Context;
use crate::states::{NONE, Pack, SLOW, StateCode, Successor, Writer};
use crate::{NativeCode, Sizes};

/// The code of one level for packed states.
pub(crate) struct PackedCode {
    code: StateCode,
    pack: Pack,
    layout: Layout,
}

impl std::fmt::Debug for PackedCode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "code for packed states of {} bits", self.layout.bits)
    }
}

/// What is done with the changed values of a state that was packed.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Then {
    Keep,
    TakeBack,
}

/// Makes the code. Levels with very many moves or values are left to the machine.
pub(crate) fn compile(programs: Arc<NativeCode>, code: &Code, codec: &Codec) -> Result<PackedCode, String> {
    let words = codec.layout().words();
    let alone = codec.describe().into_iter().filter_map(|field| match field {
        PackedField::Row(row) if row.width > 0 => Some(row.single()),
        _ => None,
    });
    let places: Vec<PackedRow> = alone.flatten().collect();
    let code = StateCode::new(programs, code, &[2, 2, 3, 1, 4, 3], |number, w, functions| match number {
        0 => w.unpack_words(codec),
        1 => w.load(functions[0]),
        2 => w.pack(codec, Then::Keep),
        3 => w.restore(),
        4 => w.moves(&Successor::Packed { pack: functions[5], words, places: &places }, functions[3]),
        _ => w.pack(codec, Then::TakeBack),
    })?;
    // SAFETY: the function at this address has three parameters, as was said above.
    let pack = unsafe { std::mem::transmute::<*const u8, Pack>(code.functions.address(2)) };
    Ok(PackedCode { code, pack, layout: codec.layout() })
}

impl PackedCode {
    /// A context for a machine, which must be one for these states.
    #[inline]
    fn context(&self, machine: &mut Machine<'_>, state: &[u64]) -> Context {
        let same = Sizes::of(machine.code()) == self.code.sizes && machine.layout() == Some(self.layout);
        assert!(same && state.len() == self.layout.words(), "the code of another level");
        Context::of(machine)
    }
}

/// The address of the words of a state.
fn address(state: &[u64]) -> u64 {
    state.as_ptr() as usize as u64
}

impl NativePacked for PackedCode {
    fn expand(&self, machine: &mut Machine<'_>, states: &[u64], past_goals: &[bool], out: &mut Successors) {
        let words = self.layout.words();
        let Some(first) = states.get(..words) else { return out.heads.clear() };
        let mut context = self.context(machine, first);
        let states = states.chunks_exact(words).map(address);
        // SAFETY: see the head of this crate; each state has as many words as the code reads.
        unsafe { self.code.expand(&mut context, (states, words), past_goals, out) }
    }

    #[inline]
    fn load(&self, machine: &mut Machine<'_>, state: &[u64]) {
        let mut context = self.context(machine, state);
        // SAFETY: as above.
        unsafe { (self.code.unpack)(&raw mut context, address(state)) };
    }

    #[inline]
    fn pack(&self, machine: &mut Machine<'_>, out: &mut [u64]) -> bool {
        let mut context = self.context(machine, out);
        let words = out.as_mut_ptr() as usize as u64;
        // SAFETY: as above; the words are read before they are written, and those of the parent may be those of the successor.
        unsafe { (self.pack)(&raw mut context, words, words) != SLOW }
    }
}
