//! What runs the code of a level. The interpreter is one; whatever else runs the same code stands behind the same door.

use super::machine::{Break, Halt, Machine, Outcomes};

/// Runs the programs of one level on one state after the other. Nothing is allocated for a state.
pub trait Executor: Send {
    /// Takes a packed state as the one that moves start from.
    fn load(&mut self, state: &[u64]);

    /// The values of the loaded state.
    fn loaded(&self) -> &[i32];

    /// The ended part of the loaded state: 0 while it runs.
    fn ended(&self) -> i32;

    /// Treats a loaded state that ended as running.
    fn forget_ended(&mut self);

    /// Runs a program that gives a value, on the loaded state.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    fn ask(&mut self, program: u32) -> Result<i64, Break>;

    /// The same on the state as the last move left it.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    fn ask_as_is(&mut self, program: u32) -> Result<i64, Break>;

    /// Tries a move on the loaded state. After [`Halt::Done`] the new state can be packed.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    fn try_move(&mut self, number: usize) -> Result<Halt, Break>;

    /// Goes on from a move that paused at a draw, through all outcomes.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks, or there are too many outcomes.
    fn all_outcomes(&mut self, first: Halt, out: &mut Outcomes) -> Result<(), Break>;

    /// Packs the state that the last move led to. `out` holds the packed words of the loaded state, as it is without its ended
    /// part.
    ///
    /// # Errors
    ///
    /// [`Break`] when a rearranged grid no longer is one.
    fn pack(&mut self, out: &mut [u64]) -> Result<(), Break>;

    /// Packs the loaded state itself.
    fn pack_loaded(&self, out: &mut [u64]);

    /// Score of the last move.
    fn score(&self) -> i64;

    /// Places that the last refusal named.
    fn places(&self) -> &[i64];
}

impl Executor for Machine<'_> {
    #[inline]
    fn load(&mut self, state: &[u64]) {
        Machine::load(self, state);
    }
    fn loaded(&self) -> &[i32] {
        Machine::loaded(self)
    }
    #[inline]
    fn ended(&self) -> i32 {
        Machine::ended(self)
    }
    fn forget_ended(&mut self) {
        Machine::forget_ended(self);
    }
    #[inline]
    fn ask(&mut self, program: u32) -> Result<i64, Break> {
        Machine::ask(self, program)
    }
    fn ask_as_is(&mut self, program: u32) -> Result<i64, Break> {
        Machine::ask_as_is(self, program)
    }
    #[inline]
    fn try_move(&mut self, number: usize) -> Result<Halt, Break> {
        Machine::try_move(self, number)
    }
    fn all_outcomes(&mut self, first: Halt, out: &mut Outcomes) -> Result<(), Break> {
        Machine::all_outcomes(self, first, out)
    }
    #[inline]
    fn pack(&mut self, out: &mut [u64]) -> Result<(), Break> {
        Machine::pack(self, out)
    }
    fn pack_loaded(&self, out: &mut [u64]) {
        Machine::pack_loaded(self, out);
    }
    fn score(&self) -> i64 {
        self.score
    }
    fn places(&self) -> &[i64] {
        &self.places
    }
}
