//! Runs the intermediate form. Nothing is allocated for a state.

mod blocks;
mod outcomes;
mod positions;
mod run;

pub use positions::POSITION_STEPS;

pub use outcomes::{Mean, Outcome, Outcomes};

use crate::code::ir::{Code, M, Op, Positions, R, Site};
use crate::code::leaps::LeapPlan;
use crate::code::numbered::Backward;
use crate::model::{DIR_STEPS, code};
use crate::run::{LOOP_MAX, OUTCOMES_MAX, STEP_BUDGET};
use crate::state::Bound;
use crate::state::canon::Canon;
use crate::state::chance::Chance;
use crate::state::keys::Keys;
use crate::state::packing::{Codec, NotRearranged};
use fendle_core::numbers::{gcd, lcm};
use fendle_core::{Layout, MoveId};
use std::sync::Arc;

/// Something broke at a site, on a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Break {
    /// Where.
    pub site: Site,
    /// The value that broke it.
    pub value: i64,
}

/// How a program ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Halt {
    /// A move was made.
    Done,
    /// A value was given.
    Give(i64),
    /// The move was refused by this statement.
    Refused(u32),
    /// The move is not offered.
    NotOffered,
    /// Suspended at the operation at this place: a draw or a merge.
    Paused(u32),
    /// Set aside.
    Cut,
}

/// Where a single operation leads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Flow {
    /// To the operation at this place.
    Next(u32),
    /// The program ends or pauses here.
    Ends(Halt),
}

/// Native code for the programs of one level.
pub trait Native: Send + Sync {
    /// Runs from this operation on, which is the first of a program or follows a pause, until the program ends or pauses,
    /// with the same effect on the machine as interpreting it, save that it names no places of refusals.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    fn run(&self, machine: &mut Machine<'_>, entry: u32) -> Result<Halt, Break>;

    /// Tries some moves, one after the other, until a program ends otherwise than by refusing its move or not offering it: which move that
    /// is, and how its program ended or paused.
    fn try_next(&self, machine: &mut Machine<'_>, moves: &[u32]) -> Option<(usize, Result<Halt, Break>)>;

    /// Native code for states by number of the same level. With `positions` moves can stop before their first draw: they hold
    /// nothing but the state ([`Positions::bare`]). With `leaps` it knows where moves lead without making them.
    ///
    /// # Errors
    ///
    /// Words for why there is none.
    fn numbered(
        self: Arc<Self>,
        code: &Code,
        keys: &Keys,
        positions: Option<&Positions>,
        leaps: Option<LeapPlan>,
    ) -> Result<Box<dyn NativeNumbers>, String>;

    /// Native code for packed states of the same level.
    ///
    /// # Errors
    ///
    /// Words for why there is none.
    fn packed(self: Arc<Self>, code: &Code, codec: &Codec) -> Result<Box<dyn NativePacked>, String>;
}

/// Native code that takes and gives packed states. The machine is one for packed states of the same level.
pub trait NativePacked: Send + Sync + std::fmt::Debug {
    /// Expands states, one after the other, until one is met that only the machine itself can expand, as where a move draws: they have a
    /// head each in `out`, and all their moves. States are not brought into a canonical form.
    fn expand(&self, machine: &mut Machine<'_>, states: &[u64], past_goals: &[bool], out: &mut Successors);

    /// Loads a state: [`Machine::load`].
    fn load(&self, machine: &mut Machine<'_>, state: &[u64]);

    /// Packs the state now, where `out` holds the words of the one that was loaded. False when the machine itself has to look.
    fn pack(&self, machine: &mut Machine<'_>, out: &mut [u64]) -> bool;
}

/// Native code that takes and gives states by number. The machine is one for the same numbers
/// ([`Machine::numbered`]).
pub trait NativeNumbers: Send + Sync + std::fmt::Debug {
    /// Expands states, one after the other, until one is met that only the machine itself can expand: they have a head each in `out`,
    /// and all their moves. Where moves draw, they stop before it.
    fn expand(&self, machine: &mut Machine<'_>, states: &[u64], past_goals: &[bool], out: &mut Successors);

    /// Loads a state: [`Machine::load`].
    fn load(&self, machine: &mut Machine<'_>, state: u64);

    /// The number of the state now, where `state` is the one that was loaded. `None` when the machine itself has to look.
    fn number(&self, machine: &mut Machine<'_>, state: u64) -> Option<u64>;

    /// Makes one move from a running state. `None` when it is not made, or only the machine itself can tell.
    fn lead(&self, machine: &mut Machine<'_>, state: u64, number: u32) -> Option<u64>;

    /// Loads a state and appends the states and moves that may have led to it. `values` is room to work in.
    fn sources(
        &self,
        machine: &mut Machine<'_>,
        state: u64,
        back: &Backward,
        values: &mut Vec<i32>,
        out: &mut Vec<(u64, MoveId)>,
    );

    /// Where the moves of many states lead, by leaps. `past_goals` says for each ending whether moves go on from it. False when
    /// that is not known; then nothing is written.
    fn leap(
        &self,
        machine: &mut Machine<'_>,
        numbers: &[u64],
        past_goals: &[bool],
        out: &mut LeapsMade,
    ) -> bool;

    /// Leaps are fastest for states in groups with the same `number / stride % len`: stride and length, if it matters.
    fn groups(&self) -> Option<(u64, u64)>;

    /// The states from which one move leads into each of these, by leaps. False as above.
    fn leap_back(&self, numbers: &[u64], out: &mut LeapsMade) -> bool;

    /// Bytes of memory that leaps take, once they are asked for.
    fn leap_bytes(&self) -> u64;
}

/// Where leaps led from some states.
#[derive(Clone, Debug, Default)]
pub struct LeapsMade {
    /// For each state its status code in the low byte, and above it how many numbers follow; [`LeapsMade::ASK`] where only the
    /// rules can tell.
    pub heads: Vec<u32>,
    /// The numbers that were reached, state by state.
    pub numbers: Vec<u32>,
}

impl LeapsMade {
    /// The head of a state of which the rules have to be asked.
    pub const ASK: u32 = u32::MAX;
}

/// Set in the number of a move that stops before a draw.
pub const BEFORE_DRAW: u32 = 1 << 31;

/// The site of a break that is none of the model: a state has no number, and a wider range may have one for it.
pub const NO_NUMBER: Site = Site(u32::MAX);

/// The successors of some states, those of one state after those of the one before.
#[derive(Clone, Debug, Default)]
pub struct Successors {
    /// States by number, or positions before a draw; or packed states, one after the other. There may be room behind the last one.
    pub states: Vec<u64>,
    /// The move that leads to each, with [`BEFORE_DRAW`] for one that stops before a draw.
    pub moves: Vec<u32>,
    /// The score of each.
    pub scores: Vec<i64>,
    /// Of each state that was expanded its status as the rules give it, and how many successors it has.
    pub heads: Vec<(i64, u32)>,
}

impl Successors {
    /// How many successors there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.heads.iter().map(|h| h.1 as usize).sum()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// Where the parts of a machine lie, for native code. They stay where they are as long as the machine lives.
#[derive(Clone, Copy, Debug)]
pub struct Parts {
    /// The memory, [`Code::memory`] numbers.
    pub mem: *mut i32,
    /// The registers, as many as a register number can say.
    pub regs: *mut i64,
    /// One bit for each value of the state that was stored to.
    pub changed: *mut u64,
    /// What is remembered of the state.
    pub memo: *mut i64,
    /// One bit for each number that is remembered.
    pub known: *mut u64,
    /// Steps left.
    pub fuel: *mut i64,
    /// Score of the move.
    pub score: *mut i64,
    /// The digits of the loaded state's number; dangling where states are packed.
    pub digits: *mut u64,
}

/// How states are written as words.
enum Coder<'c> {
    /// Packed, all that the types allow.
    Packed(&'c Codec),
    /// As numbers of a small range, and the digits of the number of the loaded state.
    Numbered(&'c Keys, Vec<u64>),
}

const FILE: usize = 1 << 16;

/// Scratch memory for one thread.
pub struct Machine<'c> {
    code: &'c Code,
    coder: Coder<'c>,
    /// Says which states are typed, whatever the coder.
    packing: &'c Codec,
    canon: Option<&'c Canon>,
    /// The state now in its canonical form.
    settled: std::cell::RefCell<Vec<i32>>,
    /// As many as a register number can say.
    regs: Vec<i64>,
    mem: Vec<i32>,
    /// Cells that a flood has reached and not left yet.
    reached: Vec<u16>,
    memo: Vec<i64>,
    known: Vec<u64>,
    /// One bit for each value of the state now that has been stored since it was last restored.
    changed: Vec<u64>,
    native: Option<&'c dyn Native>,
    /// Native code for the numbers.
    numbers: Option<&'c dyn NativeNumbers>,
    /// Native code for packed states.
    packed: Option<&'c dyn NativePacked>,
    /// The first state that was met without a number, packed; empty where there was none.
    stray: std::cell::RefCell<Vec<u64>>,
    /// Moves stop before their first draw.
    stops: bool,
    /// Most outcomes of a move that are written down.
    outcomes_max: usize,
    /// The packed state of a position that is entered.
    entered: Vec<u64>,
    start: Vec<i32>,
    cut: i32,
    fuel: i64,
    rows: i64,
    cols: i64,
    /// Score of the last move.
    pub score: i64,
    /// Places named by the last refusal.
    pub places: Vec<i64>,
}

impl<'c> Machine<'c> {
    /// A machine for a bound model and its code.
    #[must_use]
    pub fn new(b: &'c Bound, code: &'c Code) -> Machine<'c> {
        let mut mem = vec![0; code.memory as usize];
        mem[..b.data.len()].copy_from_slice(&b.data);
        for at in [b.data.len(), code.before as usize, code.now as usize] {
            mem[at..at + b.start.len()].copy_from_slice(&b.start);
        }
        Machine {
            code,
            coder: Coder::Packed(&b.codec),
            packing: &b.codec,
            canon: b.canon.as_ref(),
            settled: vec![].into(),
            regs: vec![0; FILE],
            mem,
            reached: vec![],
            memo: vec![0; code.memos as usize],
            known: vec![0; (code.memos as usize).div_ceil(64)],
            changed: vec![0; (code.state_len as usize).div_ceil(64)],
            native: None,
            numbers: None,
            packed: None,
            stray: vec![].into(),
            stops: false,
            outcomes_max: OUTCOMES_MAX,
            entered: vec![],
            start: b.start.clone(),
            cut: b.model.endings.len() as i32 + 1,
            fuel: 0,
            rows: b.rows as i64,
            cols: b.cols as i64,
            score: 0,
            places: vec![],
        }
    }

    /// The same for states as numbers: each is one word.
    #[must_use]
    pub fn numbered(b: &'c Bound, code: &'c Code, keys: &'c Keys) -> Machine<'c> {
        let coder = Coder::Numbered(keys, vec![0; keys.fields_len()]);
        Machine { coder, ..Machine::new(b, code) }
    }

    /// Words of one state.
    #[must_use]
    pub fn words(&self) -> usize {
        match &self.coder {
            Coder::Packed(codec) => codec.layout().words(),
            Coder::Numbered(..) => 1,
        }
    }

    /// The shape of its states, where they are packed.
    #[must_use]
    pub fn layout(&self) -> Option<Layout> {
        match &self.coder {
            Coder::Packed(codec) => Some(codec.layout()),
            Coder::Numbered(..) => None,
        }
    }

    /// Runs programs by this native code of the same level from now on, or by interpreting them.
    pub fn set_native(&mut self, native: Option<&'c dyn Native>) {
        self.native = native;
    }

    /// Loads and numbers states by this native code for the numbers of this machine from now on.
    pub fn set_numbers(&mut self, numbers: Option<&'c dyn NativeNumbers>) {
        self.numbers = numbers;
    }

    /// Loads and packs states by this native code for packed states from now on.
    pub fn set_packed(&mut self, packed: Option<&'c dyn NativePacked>) {
        self.packed = packed;
    }

    /// The native code for packed states that it uses.
    #[must_use]
    pub fn packed(&self) -> Option<&'c dyn NativePacked> {
        self.packed
    }

    /// The first state that was met without a number since this was asked last, packed; empty where there was none.
    pub fn take_stray(&mut self) -> Vec<u64> {
        std::mem::take(self.stray.get_mut())
    }

    /// Where its parts lie.
    #[must_use]
    pub fn parts(&mut self) -> Parts {
        Parts {
            mem: self.mem.as_mut_ptr(),
            regs: self.regs.as_mut_ptr(),
            changed: self.changed.as_mut_ptr(),
            memo: self.memo.as_mut_ptr(),
            known: self.known.as_mut_ptr(),
            fuel: &raw mut self.fuel,
            score: &raw mut self.score,
            digits: match &mut self.coder {
                Coder::Packed(_) => std::ptr::NonNull::dangling().as_ptr(),
                Coder::Numbered(_, digits) => digits.as_mut_ptr(),
            },
        }
    }

    /// Writes down no more outcomes of a move than this, which is at most [`OUTCOMES_MAX`].
    pub fn limit_outcomes(&mut self, most: usize) {
        self.outcomes_max = most.min(OUTCOMES_MAX);
    }

    /// How it numbers states.
    #[must_use]
    pub fn keys(&self) -> Option<&'c Keys> {
        match &self.coder {
            Coder::Packed(_) => None,
            Coder::Numbered(keys, _) => Some(keys),
        }
    }

    /// The values of the state now.
    #[must_use]
    pub fn values_now(&self) -> &[i32] {
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        &self.mem[now..now + len]
    }

    /// Changes some values of the state now: places and values.
    pub fn put_all(&mut self, values: &[(u32, i32)]) {
        for &(slot, value) in values {
            let slot = slot as usize;
            self.mem[self.code.now as usize + slot] = value;
            self.changed[slot / 64] |= 1 << (slot % 64);
        }
    }

    /// The number of the loaded state, whose number is given, with some values changed. The loaded state stays.
    pub fn with_changed(&mut self, state: u64, values: &[(u32, i32)]) -> Option<u64> {
        self.put_all(values);
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        let number = match &self.coder {
            Coder::Packed(_) => None,
            Coder::Numbered(keys, digits) => self.number_by(keys, state, digits, &self.mem[now..now + len]),
        };
        self.take_back(values);
        number
    }

    /// The number of the state now, whose values these are; that of the loaded state is given. Native code does not keep all digits of the
    /// state that it loads.
    fn number_by(&self, keys: &Keys, loaded: u64, digits: &[u64], values: &[i32]) -> Option<u64> {
        match self.numbers {
            Some(_) => keys.key(values),
            None => keys.patched(loaded, digits, values, &self.changed),
        }
    }

    /// Takes such changes back.
    pub fn take_back(&mut self, values: &[(u32, i32)]) {
        for &(slot, _) in values {
            let slot = slot as usize;
            self.mem[self.code.now as usize + slot] = self.mem[self.code.before as usize + slot];
            self.changed[slot / 64] = 0;
        }
    }

    /// Writes one field of the loaded state, and of the state now, from its digit.
    pub fn write_field(&mut self, field: usize, digit: u64) {
        let (before, now, len) =
            (self.code.before as usize, self.code.now as usize, self.code.state_len as usize);
        if let Coder::Numbered(keys, _) = &self.coder {
            keys.write(field, digit, &mut self.mem[before..before + len]);
            keys.write(field, digit, &mut self.mem[now..now + len]);
        }
    }

    /// Writes one field of the loaded state, and of the state now, from packed words.
    pub fn read_packed(&mut self, field: usize, words: &[u64]) {
        let (before, now, len) =
            (self.code.before as usize, self.code.now as usize, self.code.state_len as usize);
        self.packing.read_field(field, words, &mut self.mem[before..before + len]);
        self.packing.read_field(field, words, &mut self.mem[now..now + len]);
    }

    /// Packs one field of the state now. False where it is no rearrangement any more.
    pub fn patch_packed(&self, field: usize, words: &mut [u64]) -> bool {
        self.packing.patch_field(field, self.values_now(), words).is_ok()
    }

    /// The code that it runs.
    #[must_use]
    pub fn code(&self) -> &'c Code {
        self.code
    }

    /// Takes a packed state as the one that moves start from.
    #[inline]
    pub fn load(&mut self, state: &[u64]) {
        if let Some(numbers) = self.numbers {
            return numbers.load(self, state[0]);
        }
        if let Some(packed) = self.packed {
            return packed.load(self, state);
        }
        let (before, len) = (self.code.before as usize, self.code.state_len as usize);
        let values = &mut self.mem[before..before + len];
        match &mut self.coder {
            Coder::Packed(codec) => codec.unpack(state, values),
            Coder::Numbered(keys, digits) => keys.unpack(state[0], values, digits),
        }
        self.known.fill(0);
        self.changed.fill(0);
        self.mem.copy_within(before..before + len, self.code.now as usize);
    }

    /// The values of the loaded state.
    #[must_use]
    pub fn loaded(&self) -> &[i32] {
        let (before, len) = (self.code.before as usize, self.code.state_len as usize);
        &self.mem[before..before + len]
    }

    /// The ended part of the loaded state.
    #[inline]
    #[must_use]
    pub fn ended(&self) -> i32 {
        self.mem[(self.code.before + self.code.state_len) as usize - 1]
    }

    /// Treats a loaded state that ended as running.
    pub fn forget_ended(&mut self) {
        for state in [self.code.before, self.code.now] {
            self.mem[(state + self.code.state_len) as usize - 1] = 0;
        }
    }

    #[inline]
    fn restore(&mut self) {
        let (before, now) = (self.code.before as usize, self.code.now as usize);
        for (w, bits) in self.changed.iter_mut().enumerate() {
            let mut left = std::mem::take(bits);
            while left != 0 {
                let slot = w * 64 + left.trailing_zeros() as usize;
                left &= left - 1;
                self.mem[now + slot] = self.mem[before + slot];
            }
        }
    }

    /// Runs a program that gives a value, on the loaded state.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    #[inline]
    pub fn ask(&mut self, program: u32) -> Result<i64, Break> {
        self.restore();
        self.ask_as_is(program)
    }

    /// The same on the state as the last move left it.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    pub fn ask_as_is(&mut self, program: u32) -> Result<i64, Break> {
        self.fuel = STEP_BUDGET;
        match self.run(self.code.programs[program as usize].entry)? {
            Halt::Give(v) => Ok(v),
            _ => Ok(0),
        }
    }

    /// Tries a move on the loaded state. After [`Halt::Done`] the new state can be packed.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    #[inline]
    pub fn try_move(&mut self, number: usize) -> Result<Halt, Break> {
        let entry = self.begin_move(number);
        let halt = self.run(entry);
        self.end_move(halt)
    }

    /// Takes back what an earlier move changed, and gives the program of a move its values: the operation that it begins with.
    #[inline]
    pub fn begin_move(&mut self, number: usize) -> u32 {
        self.restore();
        let entry = &self.code.moves[number];
        let program = &self.code.programs[entry.program as usize];
        for (r, &v) in program.params.iter().zip(&entry.args) {
            self.regs[r.0 as usize] = v;
        }
        self.fuel = STEP_BUDGET;
        self.score = 0;
        self.places.clear();
        program.entry
    }

    /// Goes on where the program of a move ended or paused, until the move is made or pauses where this machine stops.
    fn end_move(&mut self, halt: Result<Halt, Break>) -> Result<Halt, Break> {
        let halt = self.on(halt?, self.stops)?;
        if halt == Halt::Done {
            self.write_end_once()?;
        }
        Ok(halt)
    }

    /// Tries some moves, one after the other, until one is neither refused nor left unoffered: which of them that is, and how it went.
    #[inline]
    pub fn try_next(&mut self, moves: &[u32]) -> Option<(usize, Result<Halt, Break>)> {
        match self.native {
            Some(native) => {
                let (i, halt) = native.try_next(self, moves)?;
                Some((i, self.end_move(halt)))
            }
            None => moves.iter().enumerate().find_map(|(i, &number)| match self.try_move(number as usize) {
                Ok(Halt::Refused(_) | Halt::NotOffered) => None,
                tried => Some((i, tried)),
            }),
        }
    }

    /// An ending that a statement wrote and a condition says as well is written once.
    fn write_end_once(&mut self) -> Result<(), Break> {
        let ended = (self.code.now + self.code.state_len) as usize - 1;
        if self.mem[ended] != 0 {
            let value = self.ask_as_is(self.code.status_changed)?;
            if value == i64::from(self.mem[ended]) {
                // The condition alone says the same: one state, not two.
                self.mem[ended] = 0;
                let last = self.code.state_len as usize - 1;
                self.changed[last / 64] |= 1 << (last % 64);
            }
        }
        Ok(())
    }

    /// Packs the state now, whatever was changed.
    fn pack_now(&self, out: &mut [u64]) -> Result<(), Break> {
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        out.fill(0);
        let mut settled = self.settled.borrow_mut();
        let values = match self.canon {
            None => &self.mem[now..now + len],
            Some(canon) => {
                settled.clear();
                settled.extend_from_slice(&self.mem[now..now + len]);
                canon.settle(&mut settled);
                &settled
            }
        };
        match &self.coder {
            Coder::Packed(codec) => codec.pack(values, out).map_err(|bad| self.not_rearranged(bad)),
            Coder::Numbered(keys, _) => {
                out[0] = keys.key(values).ok_or(()).or_else(|()| self.outside(values))?;
                Ok(())
            }
        }
    }

    /// Where a state breaks that is no rearrangement any more.
    fn not_rearranged(&self, bad: NotRearranged) -> Break {
        let site = self.code.pack_sites.iter().find(|(v, _)| v.0 == bad.0).map_or(Site(0), |s| s.1);
        Break { site, value: 0 }
    }

    /// Says how a state breaks that has no number.
    #[cold]
    fn outside(&self, values: &[i32]) -> Result<u64, Break> {
        let mut words = vec![0; self.packing.layout().words()];
        match self.packing.pack(values, &mut words) {
            Err(bad) => Err(self.not_rearranged(bad)),
            Ok(()) => {
                let narrow = self.keys().is_some_and(Keys::is_narrow);
                assert!(narrow, "a state that cannot be was reached: this is a mistake in fendle");
                let mut stray = self.stray.borrow_mut();
                if stray.is_empty() {
                    *stray = words;
                }
                Err(Break { site: NO_NUMBER, value: 0 })
            }
        }
    }

    /// Packs the state that the last move led to, whatever it began from.
    ///
    /// # Errors
    ///
    /// [`Break`] when a rearranged grid no longer is one.
    pub fn pack_whole(&self, out: &mut [u64]) -> Result<(), Break> {
        self.pack_now(out)
    }

    /// Packs the state that the last move led to. `out` holds the packed words of the loaded
    /// state, as it is without its ended part.
    ///
    /// # Errors
    ///
    /// [`Break`] when a rearranged grid no longer is one.
    #[inline]
    pub fn pack(&mut self, out: &mut [u64]) -> Result<(), Break> {
        if self.canon.is_some() {
            return self.pack_now(out);
        }
        if let Some(numbers) = self.numbers
            && let Some(number) = numbers.number(self, out[0])
        {
            out[0] = number;
            return Ok(());
        }
        if let Some(packed) = self.packed
            && packed.pack(self, out)
        {
            return Ok(());
        }
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        let values = &self.mem[now..now + len];
        match &self.coder {
            Coder::Packed(codec) => {
                codec.patch(values, &self.changed, out).map_err(|bad| self.not_rearranged(bad))
            }
            Coder::Numbered(keys, digits) => {
                let key = self.number_by(keys, out[0], digits, values);
                out[0] = key.ok_or(()).or_else(|()| self.outside(values))?;
                Ok(())
            }
        }
    }

    /// Packs the loaded state itself, after [`Machine::forget_ended`].
    pub fn pack_loaded(&mut self, out: &mut [u64]) {
        let (before, len) = (self.code.before as usize, self.code.state_len as usize);
        let values = &mut self.mem[before..before + len];
        match &mut self.coder {
            // A loaded state came from packed words, so it can be packed.
            Coder::Packed(codec) => drop(codec.pack(values, out)),
            Coder::Numbered(keys, digits) => {
                out[0] = keys.key(values).expect("a state that goes on where it ended can be");
                keys.unpack(out[0], values, digits);
            }
        }
    }
}
