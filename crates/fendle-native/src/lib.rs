//! Machine code for the rules of a level, made while the program runs.
//!
//! [`compile`] turns the verified intermediate form of a level ([`fendle_lang::code::ir`]) into machine code of this computer.
//! A [`Machine`] that is given it ([`Machine::set_native`]) does exactly what it does when it interprets: the same values, the
//! same fault at the same place. Only the places that a refusal names are left out; whoever asks for them interprets.
//!
//! ```text
//! one function a program        fn(context, entry) -> how it ended; made when the program is first run
//! registers                     values of the function; in the machine's memory only across a pause or a call back
//! memory of the machine         read and written in place; every computed address is checked against its bounds
//! rare operations               call the interpreter for that one operation
//! ```
//!
//! # Why the `unsafe` in here is sound
//!
//! Machine code is called through a function pointer and given raw pointers, so the compiler cannot check it. What it rests on:
//!
//! - The intermediate form has passed its verifier, which is asked again here: registers exist, jumps stay inside their
//!   program, fixed blocks lie inside the memory.
//! - Every address that is computed while the code runs is compared with the bounds of the memory before it is used; outside,
//!   the code returns `Ended::Stray` and Rust panics, as the interpreter does on an index that is out of bounds.
//! - The pointers of a `Context` come from the one machine that is borrowed mutably for the whole call, and point into
//!   buffers whose length never changes. A machine whose buffers have other sizes than those that the code was made for
//!   (`Sizes`) is refused.
//! - The code's own memory is freed when [`NativeCode`] is dropped; a machine borrows it for as long as it may call it.
//! - What makes code is used by one thread at a time, under a lock; code that was handed out is neither moved nor changed.

mod context;
mod emit;
mod numbers;
mod operations;
mod owned;
mod packed;
mod states;

use std::sync::{Arc, Mutex, MutexGuard, OnceLock};
use std::time::{Duration, Instant};

use cranelift_codegen::isa::OwnedTargetIsa;
use cranelift_codegen::settings::{self, Configurable};
use cranelift_frontend::FunctionBuilderContext;
use cranelift_module::{Linkage, Module};
use fendle_lang::Bound;
use fendle_lang::code::ir::{Code, Positions, Site};
use fendle_lang::code::leaps::LeapPlan;
use fendle_lang::code::machine::{Break, Halt, Machine, Native, NativeNumbers, NativePacked};
use fendle_lang::state::{Codec, Keys};

use context::{Context, Ended, Entry};
use emit::Board;
use owned::OwnedModule;

/// Operations above which a level is interpreted: making machine code of it would take longer than most questions.
pub const OPERATIONS_MAX: usize = 40_000;

/// The sizes of the buffers of a machine, which bound every address that the code can reach.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Sizes {
    operations: usize,
    memory: u32,
    state_len: u32,
    now: u32,
    memos: u32,
}

impl Sizes {
    #[inline]
    fn of(code: &Code) -> Sizes {
        let &Code { memory, state_len, now, memos, .. } = code;
        Sizes { operations: code.ops.len(), memory, state_len, now, memos }
    }
}

/// Why a level has no native code.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoNative {
    /// This machine has no supported processor, or does not let code be made.
    Machine(String),
    /// The level has more operations than [`OPERATIONS_MAX`].
    TooLong(usize),
    /// An operation could not be translated: a mistake in fendle, and no harm, since the interpreter runs everything.
    Translation(String),
}

impl std::fmt::Display for NoNative {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            NoNative::Machine(why) => write!(f, "this machine does not allow it ({why})"),
            NoNative::TooLong(n) => write!(f, "the rules have {n} operations, more than {OPERATIONS_MAX}"),
            NoNative::Translation(why) => write!(f, "it could not be made ({why})"),
        }
    }
}

/// The machine code of one level. That of a program is made when it is first run.
pub struct NativeCode {
    workshop: Mutex<Workshop>,
    /// The code of each program; `None` where it could not be made, and the program is interpreted.
    entries: Vec<OnceLock<Option<Entry>>>,
    /// The program that each operation belongs to.
    program_of: Vec<u32>,
    /// Rows and columns.
    sides: (i64, i64),
    /// The numbers of the memory that never change.
    fixed: Box<[i32]>,
    /// What placed shapes cover.
    covered: emit::Covered,
    sizes: Sizes,
}

/// What makes the code of programs, and what was made so far.
struct Workshop {
    module: OwnedModule,
    context: cranelift_codegen::Context,
    builders: FunctionBuilderContext,
    /// Tables that the code reads.
    tables: Vec<Box<[i64]>>,
    bytes: usize,
    time: Duration,
}

// SAFETY: what makes code is touched under its lock alone, and lends nothing that belongs to one thread; the code writes only through the pointers that
// a call passes.
unsafe impl Send for NativeCode {}
// SAFETY: as above.
unsafe impl Sync for NativeCode {}

/// Prepares the machine code of a level: a program takes about 30 microseconds an operation when it is first run.
///
/// # Errors
///
/// [`NoNative`] says why there is none; the level can be interpreted.
pub fn compile(bound: &Bound, code: &Code) -> Result<NativeCode, NoNative> {
    let began = Instant::now();
    if code.ops.len() > OPERATIONS_MAX {
        return Err(NoNative::TooLong(code.ops.len()));
    }
    code.verify().map_err(|bad| NoNative::Translation(bad.join("; ")))?;
    let module = OwnedModule::new()?;
    let mut program_of = vec![0; code.ops.len()];
    for (number, p) in code.programs.iter().enumerate() {
        program_of[p.entry as usize..p.end as usize].fill(number as u32);
    }
    let sides = (bound.rows as i64, bound.cols as i64);
    let made = NativeCode {
        workshop: Mutex::new(Workshop {
            context: module.make_context(),
            module,
            builders: FunctionBuilderContext::new(),
            tables: vec![],
            bytes: 0,
            time: began.elapsed(),
        }),
        entries: code.programs.iter().map(|_| OnceLock::new()).collect(),
        program_of,
        sides,
        fixed: bound.data.iter().chain(&bound.start).copied().collect(),
        covered: emit::covered(code, sides),
        sizes: Sizes::of(code),
    };
    // Whether this machine lets code be made at all is known when some was.
    if let Some(entry) = made.entries.get(code.status as usize) {
        let _ = entry.set(Some(made.translate(code, code.status)?));
    }
    Ok(made)
}

/// The processor that code is made for.
fn isa() -> Result<OwnedTargetIsa, NoNative> {
    let machine = |e: &dyn std::fmt::Display| NoNative::Machine(e.to_string());
    let mut flags = settings::builder();
    for (name, value) in
        [("opt_level", "speed"), ("enable_verifier", if cfg!(debug_assertions) { "true" } else { "false" })]
    {
        flags.set(name, value).map_err(|e| machine(&e))?;
    }
    let builder = cranelift_native::builder().map_err(|e| machine(&e))?;
    builder.finish(settings::Flags::new(flags)).map_err(|e| machine(&e))
}

impl NativeCode {
    /// What is fixed in the level.
    fn board(&self) -> Board<'_> {
        Board { rows: self.sides.0, cols: self.sides.1, values: &self.fixed, covered: &self.covered }
    }

    /// The code of a program of the level, made now if it was not made before. `None` where that could not be done.
    #[inline]
    fn entry(&self, code: &Code, program: u32) -> Option<Entry> {
        *self.entries[program as usize].get_or_init(|| {
            let made = self.translate(code, program);
            debug_assert!(made.is_ok(), "program {program}: {}", made.as_ref().expect_err("an error"));
            made.ok()
        })
    }

    /// What makes code; none where making some broke off, since what it left behind is not known.
    fn workshop(&self) -> Result<MutexGuard<'_, Workshop>, NoNative> {
        self.workshop.lock().map_err(|_| NoNative::Translation("making code broke off before".into()))
    }

    /// Makes the code of a program.
    fn translate(&self, code: &Code, program: u32) -> Result<Entry, NoNative> {
        let translation = |e: &dyn std::fmt::Debug| NoNative::Translation(format!("{e:?}"));
        let began = Instant::now();
        let mut workshop = self.workshop()?;
        let Workshop { module, context, builders, tables, bytes, time } = &mut *workshop;
        context.func.signature = emit::signature(module);
        let of = &code.programs[program as usize];
        emit::program(self.board(), code, of, &mut context.func, builders, tables);
        let name = format!("p{program}");
        let id = module
            .declare_function(&name, Linkage::Local, &context.func.signature)
            .map_err(|e| translation(&e))?;
        let defined = module.define_function(id, context).map_err(|e| translation(&e));
        *bytes += context.compiled_code().map_or(0, |c| c.code_buffer().len());
        module.clear_context(context);
        defined?;
        module.finalize_definitions().map_err(|e| NoNative::Machine(e.to_string()))?;
        *time += began.elapsed();
        Ok(context::entry(module.get_finalized_function(id)))
    }

    /// How many programs of the level have code so far.
    #[must_use]
    pub fn made_len(&self) -> usize {
        self.entries.iter().filter(|entry| matches!(entry.get(), Some(Some(_)))).count()
    }

    /// Makes the code of all programs of the level: bytes of it, and the time that making it took in all.
    ///
    /// # Errors
    ///
    /// [`NoNative`] says why some of it could not be made.
    pub fn make_all(&self, code: &Code) -> Result<(usize, Duration), NoNative> {
        for (program, entry) in (0..).zip(&self.entries) {
            if entry.get().is_none() {
                let _ = entry.set(Some(self.translate(code, program)?));
            }
        }
        let workshop = self.workshop()?;
        Ok((workshop.bytes, workshop.time))
    }
}

/// How a program ended, as the machine says it.
#[inline]
fn how_it_ended(ended: Ended, context: &Context) -> Result<Halt, Break> {
    match ended {
        Ended::Done => Ok(Halt::Done),
        Ended::Give => Ok(Halt::Give(context.value)),
        Ended::Refused(which) => Ok(Halt::Refused(which)),
        Ended::NotOffered => Ok(Halt::NotOffered),
        Ended::Paused(pc) => Ok(Halt::Paused(pc)),
        Ended::Cut => Ok(Halt::Cut),
        Ended::Broken => Err(Break { site: Site(context.site), value: context.value }),
        Ended::Stray => panic!("a rule reached outside the memory: this is a mistake in fendle"),
    }
}

impl NativeCode {
    /// Runs from an operation on, on a machine of this level.
    #[inline]
    fn run_own(&self, machine: &mut Machine<'_>, entry: u32) -> Result<Halt, Break> {
        let Some(function) = self.entry(machine.code(), self.program_of[entry as usize]) else {
            return machine.interpret(entry);
        };
        let mut context = Context::of(machine);
        // SAFETY: see the head of this crate: the code is that of this level, and the context points into this machine.
        let ended = unsafe { function(&raw mut context, u64::from(entry)) };
        how_it_ended(Ended::of(ended), &context)
    }
}

impl Native for NativeCode {
    #[inline]
    fn run(&self, machine: &mut Machine<'_>, entry: u32) -> Result<Halt, Break> {
        assert_eq!(Sizes::of(machine.code()), self.sizes, "the code of another level");
        self.run_own(machine, entry)
    }

    #[inline]
    fn try_next(&self, machine: &mut Machine<'_>, moves: &[u32]) -> Option<(usize, Result<Halt, Break>)> {
        assert_eq!(Sizes::of(machine.code()), self.sizes, "the code of another level");
        for (i, &number) in moves.iter().enumerate() {
            let entry = machine.begin_move(number as usize);
            let halt = self.run_own(machine, entry);
            if !matches!(halt, Ok(Halt::Refused(_) | Halt::NotOffered)) {
                return Some((i, halt));
            }
        }
        None
    }

    fn numbered(
        self: Arc<Self>,
        code: &Code,
        keys: &Keys,
        positions: Option<&Positions>,
        leaps: Option<LeapPlan>,
    ) -> Result<Box<dyn NativeNumbers>, String> {
        Ok(Box::new(numbers::compile(self, code, keys, positions, leaps)?))
    }

    fn packed(self: Arc<Self>, code: &Code, codec: &Codec) -> Result<Box<dyn NativePacked>, String> {
        Ok(Box::new(packed::compile(self, code, codec)?))
    }
}

/// Makes native code, for [`fendle_lang::code::native::WhenItPays`].
///
/// # Errors
///
/// Words for why there is none.
pub fn make(bound: &Bound, code: &Code) -> Result<Arc<dyn Native>, String> {
    compile(bound, code).map(|native| Arc::new(native) as Arc<dyn Native>).map_err(|e| e.to_string())
}
