//! What passes between Rust and the machine code.

use std::mem::offset_of;
use std::ptr::null_mut;

use fendle_lang::code::machine::{Break, Flow, Machine, Parts};

/// What the code of a program is given: where the parts of the machine lie, and room for what it gives back.
#[repr(C)]
pub(crate) struct Context {
    mem: *mut i32,
    regs: *mut i64,
    changed: *mut u64,
    memo: *mut i64,
    known: *mut u64,
    fuel: *mut i64,
    score: *mut i64,
    digits: *mut u64,
    /// Room for successors: states by number, moves, scores.
    pub(crate) out_states: *mut u64,
    pub(crate) out_moves: *mut u32,
    pub(crate) out_scores: *mut i64,
    /// The machine itself, for calls back.
    machine: *mut (),
    /// The value given, or the one that broke something.
    pub(crate) value: i64,
    /// The fault site.
    pub(crate) site: u32,
}

/// Offsets of the context's parts, for the code.
pub(crate) mod at {
    use super::{Context, offset_of};

    pub(crate) const MEM: i32 = offset_of!(Context, mem) as i32;
    pub(crate) const REGS: i32 = offset_of!(Context, regs) as i32;
    pub(crate) const CHANGED: i32 = offset_of!(Context, changed) as i32;
    pub(crate) const MEMO: i32 = offset_of!(Context, memo) as i32;
    pub(crate) const KNOWN: i32 = offset_of!(Context, known) as i32;
    pub(crate) const FUEL: i32 = offset_of!(Context, fuel) as i32;
    pub(crate) const SCORE: i32 = offset_of!(Context, score) as i32;
    pub(crate) const DIGITS: i32 = offset_of!(Context, digits) as i32;
    pub(crate) const OUT_STATES: i32 = offset_of!(Context, out_states) as i32;
    pub(crate) const OUT_MOVES: i32 = offset_of!(Context, out_moves) as i32;
    pub(crate) const OUT_SCORES: i32 = offset_of!(Context, out_scores) as i32;
    pub(crate) const VALUE: i32 = offset_of!(Context, value) as i32;
    pub(crate) const SITE: i32 = offset_of!(Context, site) as i32;
}

impl Context {
    #[inline]
    pub(crate) fn of(machine: &mut Machine<'_>) -> Context {
        let Parts { mem, regs, changed, memo, known, fuel, score, digits } = machine.parts();
        let machine = std::ptr::from_mut(machine).cast();
        let (out_states, out_moves, out_scores) = (null_mut(), null_mut(), null_mut());
        Context {
            mem,
            regs,
            changed,
            memo,
            known,
            fuel,
            score,
            digits,
            out_states,
            out_moves,
            out_scores,
            machine,
            value: 0,
            site: 0,
        }
    }
}

/// The code of a program: it is given a context and the operation to begin at, and returns an [`Ended`] as a number.
pub(crate) type Entry = unsafe extern "C" fn(*mut Context, u64) -> u64;

/// How the code of a program ended: a kind in the low byte, a number above it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Ended {
    Done,
    Give,
    Refused(u32),
    NotOffered,
    Paused(u32),
    Cut,
    Broken,
    Stray,
}

impl Ended {
    /// As a number.
    pub(crate) const fn number(self) -> i64 {
        let (kind, with) = match self {
            Ended::Done => (0, 0),
            Ended::Give => (1, 0),
            Ended::Refused(n) => (2, n),
            Ended::NotOffered => (3, 0),
            Ended::Paused(n) => (4, n),
            Ended::Cut => (5, 0),
            Ended::Broken => (6, 0),
            Ended::Stray => (7, 0),
        };
        kind | (with as i64) << 8
    }

    /// From a number.
    #[inline]
    pub(crate) const fn of(number: u64) -> Ended {
        let with = (number >> 8) as u32;
        match number & 0xff {
            0 => Ended::Done,
            1 => Ended::Give,
            2 => Ended::Refused(with),
            3 => Ended::NotOffered,
            4 => Ended::Paused(with),
            5 => Ended::Cut,
            6 => Ended::Broken,
            _ => Ended::Stray,
        }
    }
}

// As a number and back, every ending is itself: its number is the same once more, and each has another one.
const _: () = {
    let endings = [
        Ended::Done,
        Ended::Give,
        Ended::Refused(0),
        Ended::Refused(u32::MAX),
        Ended::NotOffered,
        Ended::Paused(77),
        Ended::Cut,
        Ended::Broken,
        Ended::Stray,
    ];
    let mut i = 0;
    while i < endings.len() {
        let number = endings[i].number();
        assert!(Ended::of(number as u64).number() == number);
        let mut k = 0;
        while k < i {
            assert!(endings[k].number() != number);
            k += 1;
        }
        i += 1;
    }
};

/// The function at an address where code was put.
pub(crate) fn entry(code: *const u8) -> Entry {
    // SAFETY: the address is that of a finished function with the signature that `emit::signature` gives it.
    unsafe { std::mem::transmute::<*const u8, Entry>(code) }
}

/// Interprets the operation at `pc`: 0 when the program goes on behind it, 1 when it broke.
pub(crate) extern "C" fn step(context: *mut Context, pc: u64) -> u64 {
    // SAFETY: the context is that of the call which is running; its machine is borrowed by that call alone, and nothing in
    // Rust looks at it before the code returns.
    let (context, machine) = unsafe {
        let context = &mut *context;
        let machine: &mut Machine<'_> = &mut *context.machine.cast();
        (context, machine)
    };
    match machine.step(pc as u32) {
        Ok(Flow::Next(_)) => 0,
        Ok(Flow::Ends(_)) => unreachable!("operations that end a program are written out"),
        Err(Break { site, value }) => {
            context.site = site.0;
            context.value = value;
            1
        }
    }
}

/// The machine of a context.
///
/// # Safety
///
/// The context must be that of a call which is running: its machine is borrowed by that call alone, and nothing in Rust looks at
/// it before the code returns.
unsafe fn machine_of<'m>(context: *mut Context) -> &'m mut Machine<'m> {
    // SAFETY: the caller's promise.
    unsafe { &mut *(*context).machine.cast() }
}

/// Writes one field of a state from its digit.
pub(crate) extern "C" fn write_field(context: *mut Context, field: u64, digit: u64) -> u64 {
    // SAFETY: called by code that runs in this context.
    unsafe { machine_of(context) }.write_field(field as usize, digit);
    0
}

/// The digit of one field of the state now; all ones when it has none.
pub(crate) extern "C" fn digit_field(context: *mut Context, field: u64, _: u64) -> u64 {
    // SAFETY: called by code that runs in this context.
    let machine = unsafe { machine_of(context) };
    let keys = machine.keys().expect("code for numbers runs on a machine for numbers");
    keys.digit(field as usize, machine.values_now()).unwrap_or(u64::MAX)
}

/// Whether the values of the state now that are in no field are what they always are.
pub(crate) extern "C" fn fixed_field(context: *mut Context, _: u64, _: u64) -> u64 {
    // SAFETY: called by code that runs in this context.
    let machine = unsafe { machine_of(context) };
    let keys = machine.keys().expect("code for numbers runs on a machine for numbers");
    u64::from(keys.is_fixed(machine.values_now()))
}

/// Writes one field of a state from its packed words.
pub(crate) extern "C" fn read_packed(context: *mut Context, field: u64, words: u64) -> u64 {
    // SAFETY: called by code that runs in this context, with the address of a packed state of its machine.
    let (machine, words) = unsafe {
        let machine = machine_of(context);
        let words = std::slice::from_raw_parts(words as usize as *const u64, machine.words());
        (machine, words)
    };
    machine.read_packed(field as usize, words);
    0
}

/// Packs one field of the state now: 1, or 0 when it is no rearrangement any more.
pub(crate) extern "C" fn patch_packed(context: *mut Context, field: u64, words: u64) -> u64 {
    // SAFETY: called by code that runs in this context, with the address of room for a packed state of its machine that nothing else
    // looks at.
    let (machine, words) = unsafe {
        let machine = machine_of(context);
        let words = std::slice::from_raw_parts_mut(words as usize as *mut u64, machine.words());
        (machine, words)
    };
    u64::from(machine.patch_packed(field as usize, words))
}
