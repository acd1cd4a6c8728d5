//! Runs the intermediate form. Nothing is allocated for a state.

mod outcomes;
mod run;

pub use outcomes::{Mean, Outcome, Outcomes};

use crate::code::ir::{Code, M, Op, R, Site};
use crate::model::{DIR_STEPS, code};
use crate::run::{LOOP_MAX, OUTCOMES_MAX, STEP_BUDGET};
use crate::state::Bound;
use crate::state::canon::Canon;
use crate::state::chance::Chance;
use crate::state::packing::Codec;
use fendle_core::numbers::{gcd, lcm};

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
}

const FILE: usize = 1 << 16;

/// Scratch memory for one thread.
pub struct Machine<'c> {
    code: &'c Code,
    codec: &'c Codec,
    canon: Option<&'c Canon>,
    /// The state now in its canonical form.
    settled: std::cell::RefCell<Vec<i32>>,
    /// As many as a register number can say.
    regs: Vec<i64>,
    mem: Vec<i32>,
    memo: Vec<i64>,
    known: Vec<u64>,
    /// One bit for each value of the state now that has been stored since it was last restored.
    changed: Vec<u64>,
    native: Option<&'c dyn Native>,
    /// Branches ran: anything may have been.
    all_changed: bool,
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
        let mut mem = b.data.clone();
        for _ in 0..3 {
            mem.extend_from_slice(&b.start);
        }
        mem.resize(code.memory as usize, 0);
        Machine {
            code,
            codec: &b.codec,
            canon: b.canon.as_ref(),
            settled: vec![].into(),
            regs: vec![0; FILE],
            mem,
            memo: vec![0; code.memos as usize],
            known: vec![0; (code.memos as usize).div_ceil(64)],
            changed: vec![0; (code.state_len as usize).div_ceil(64)],
            native: None,
            all_changed: false,
            start: b.start.clone(),
            cut: b.model.endings.len() as i32 + 1,
            fuel: 0,
            rows: b.rows as i64,
            cols: b.cols as i64,
            score: 0,
            places: vec![],
        }
    }

    /// Runs programs by this native code of the same level from now on, or by interpreting them.
    pub fn set_native(&mut self, native: Option<&'c dyn Native>) {
        self.native = native;
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
        }
    }

    /// The code that it runs.
    #[must_use]
    pub fn code(&self) -> &'c Code {
        self.code
    }

    /// Takes a packed state as the one that moves start from.
    #[inline]
    pub fn load(&mut self, state: &[u64]) {
        let (before, len) = (self.code.before as usize, self.code.state_len as usize);
        self.codec.unpack(state, &mut self.mem[before..before + len]);
        self.known.fill(0);
        self.changed.fill(0);
        self.all_changed = false;
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
        let at = (self.code.before + self.code.state_len) as usize - 1;
        self.mem[at] = 0;
        self.mem[at + self.code.state_len as usize] = 0;
    }

    #[inline]
    fn restore(&mut self) {
        let (before, now) = (self.code.before as usize, self.code.now as usize);
        if self.all_changed {
            self.mem.copy_within(before..before + self.code.state_len as usize, now);
            self.all_changed = false;
        }
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
        self.restore();
        let entry = &self.code.moves[number];
        let program = &self.code.programs[entry.program as usize];
        for (r, &v) in program.params.iter().zip(&entry.args) {
            self.regs[r.0 as usize] = v;
        }
        self.fuel = STEP_BUDGET;
        self.score = 0;
        self.places.clear();
        let halt = self.run(program.entry)?;
        if halt == Halt::Done {
            self.settle_end()?;
        }
        Ok(halt)
    }

    /// An ending that a statement wrote and a condition says as well is written once.
    fn settle_end(&mut self) -> Result<(), Break> {
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
        self.codec.pack(values, out).map_err(|bad| {
            let site = self.code.pack_sites.iter().find(|(v, _)| *v == bad.0).map_or(Site(0), |s| s.1);
            Break { site, value: 0 }
        })
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
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        self.codec.patch(&self.mem[now..now + len], &self.changed, out).map_err(|bad| {
            let site = self.code.pack_sites.iter().find(|(v, _)| *v == bad.0).map_or(Site(0), |s| s.1);
            Break { site, value: 0 }
        })
    }

    /// Packs the loaded state itself.
    pub fn pack_loaded(&self, out: &mut [u64]) {
        let (before, len) = (self.code.before as usize, self.code.state_len as usize);
        // A loaded state came from packed words, so it can be packed.
        let _ = self.codec.pack(&self.mem[before..before + len], out);
    }
}
