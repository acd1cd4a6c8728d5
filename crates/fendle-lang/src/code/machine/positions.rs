//! Moves that stop before their first draw, and go on from there.

use super::*;
use crate::state::packing::{get, or_bits};

/// Steps that a move may take before a position, and that are then left for what follows it.
pub const POSITION_STEPS: i64 = STEP_BUDGET / 2;

impl Machine<'_> {
    /// Whether moves stop before their first draw, at the points that say so. See [`Positions`].
    pub fn stop_before_draws(&mut self, stops: bool) {
        self.stops = stops;
    }

    /// Whether they do.
    #[must_use]
    pub fn stops(&self) -> bool {
        self.stops
    }

    /// Runs until the program ends or pauses; before a draw only if it `stops` there.
    pub(super) fn go(&mut self, entry: u32, stops: bool) -> Result<Halt, Break> {
        let halt = self.run(entry)?;
        self.on(halt, stops)
    }

    /// Goes on from a pause; before a draw only if it does not stop there.
    pub(super) fn on(&mut self, mut halt: Halt, stops: bool) -> Result<Halt, Break> {
        while let Halt::Paused(pc) = halt
            && !stops
            && matches!(self.code.ops[pc as usize], Op::BeforeDraw { .. })
        {
            halt = self.run(pc + 1)?;
        }
        Ok(halt)
    }

    /// Where a move stopped before a draw: appends the position to `out`. False where it cannot be written down; the move then
    /// goes on by [`Machine::on_to_draw`].
    ///
    /// # Panics
    ///
    /// When the machine is paused somewhere else.
    pub fn write_position(&self, positions: &Positions, halt: Halt, out: &mut Vec<u64>) -> bool {
        let point = match halt {
            Halt::Paused(pc) => self.code.ops[pc as usize],
            _ => Op::Done {},
        };
        let Op::BeforeDraw { point } = point else { panic!("the machine is paused before a draw") };
        let Some((number, held)) = positions.at(point) else { return false };
        if self.fuel < POSITION_STEPS {
            return false;
        }
        let at = out.len();
        out.resize(at + positions.layout().words(), 0);
        let words = &mut out[at..];
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        let packed = self.packing.layout().words();
        if self.packing.pack(&self.mem[now..now + len], &mut words[..packed]).is_err() {
            out.truncate(at);
            return false;
        }
        let mut bit = positions.state_bits() as usize;
        or_bits(words, &mut bit, Positions::continuation_bits(), u64::from(*number));
        for r in &held.regs {
            or_bits(words, &mut bit, 64, self.r(*r) as u64);
        }
        for &(block, len) in &held.blocks {
            for v in &self.mem[block as usize..(block + len) as usize] {
                or_bits(words, &mut bit, 32, u64::from(*v as u32));
            }
        }
        true
    }

    /// The same by number, where states are given by number and positions hold nothing else; `state` is the loaded one. `None`
    /// where it has none: the move then goes on by [`Machine::on_to_draw`], or the state now has no number.
    pub fn number_position(&mut self, positions: &Positions, halt: Halt, state: u64) -> Option<u64> {
        let Halt::Paused(pc) = halt else { return None };
        let Op::BeforeDraw { point } = self.code.ops[pc as usize] else { return None };
        let (number, _) = positions.at(point)?;
        if self.fuel < POSITION_STEPS {
            return None;
        }
        let mut words = [state];
        self.pack(&mut words).ok()?;
        Some(words[0] + self.keys()?.range() * u64::from(*number))
    }

    /// Whether a pause is one before a draw.
    #[must_use]
    pub fn is_before_draw(&self, halt: Halt) -> bool {
        matches!(halt, Halt::Paused(pc) if matches!(self.code.ops[pc as usize], Op::BeforeDraw { .. }))
    }

    /// Goes on from where a move stopped before a draw, to the draw itself or to what comes instead of it.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    pub fn on_to_draw(&mut self, halt: Halt) -> Result<Halt, Break> {
        let Halt::Paused(pc) = halt else { return Ok(halt) };
        let halt = self.go(pc + 1, false)?;
        if halt == Halt::Done {
            self.write_end_once()?;
        }
        Ok(halt)
    }

    /// The state of the position that was entered last, packed.
    #[must_use]
    pub fn entered(&self) -> &[u64] {
        &self.entered
    }

    /// Takes a position before a draw as the state that play is in, and goes on to the draw.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    pub fn enter_position(&mut self, positions: &Positions, words: &[u64]) -> Result<Halt, Break> {
        let (before, now, len) =
            (self.code.before as usize, self.code.now as usize, self.code.state_len as usize);
        let packed = self.packing.layout().words();
        let mut bit = positions.state_bits() as usize;
        let state = &mut self.entered;
        state.clear();
        state.extend_from_slice(&words[..packed]);
        if !bit.is_multiple_of(64) {
            state[packed - 1] &= (1 << (bit % 64)) - 1;
        }
        self.packing.unpack(state, &mut self.mem[before..before + len]);
        self.mem.copy_within(before..before + len, now);
        self.known.fill(0);
        self.changed.fill(0);
        let number = get(words, &mut bit, Positions::continuation_bits());
        let (_, held) = positions.continuation(number as u16);
        for r in &held.regs {
            let v = get(words, &mut bit, 64) as i64;
            self.w(*r, v);
        }
        for &(block, len) in &held.blocks {
            for m in &mut self.mem[block as usize..(block + len) as usize] {
                *m = get(words, &mut bit, 32) as u32 as i32;
            }
        }
        self.go_on_from(positions, number as u16)
    }

    /// The same for a position by number.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    pub fn enter_numbered(&mut self, positions: &Positions, position: u64) -> Result<Halt, Break> {
        let range = self.keys().map_or(u64::MAX, Keys::range);
        let state = [position % range];
        self.entered.clear();
        self.entered.extend_from_slice(&state);
        self.load(&state);
        self.go_on_from(positions, (position / range) as u16)
    }

    /// Goes on from a position that was loaded.
    fn go_on_from(&mut self, positions: &Positions, continuation: u16) -> Result<Halt, Break> {
        self.fuel = POSITION_STEPS;
        self.score = 0;
        self.places.clear();
        let halt = self.go(positions.continuation(continuation).0, false)?;
        if halt == Halt::Done {
            self.write_end_once()?;
        }
        Ok(halt)
    }
}
