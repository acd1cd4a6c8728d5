//! A play under way: moves are made and taken back, and it can be asked what is allowed and why not.

use super::{MoveTable, Played, Tried, step, step_drawn};
use crate::run::setup::Dice;
use crate::run::{Eval, RunFault};
use crate::state::Bound;

/// What trying a move did to a session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Turn {
    /// It was made.
    Made(Box<Played>),
    /// It was not, and play stands where it stood: refused, not offered, or the game has ended.
    NotMade(Tried),
}

/// A play under way, by the reference executor. What was taken back can be made again until another move is made.
pub struct Session<'b> {
    bound: &'b Bound,
    moves: &'b MoveTable,
    /// The states passed through, the start first.
    states: Vec<Vec<i32>>,
    /// The moves made, with what they did; those past `at` were taken back.
    made: Vec<(usize, Played)>,
    at: usize,
}

impl<'b> Session<'b> {
    /// A play that begins where the bound model's does.
    #[must_use]
    pub fn new(bound: &'b Bound, moves: &'b MoveTable) -> Session<'b> {
        Session { bound, moves, states: vec![bound.position.clone()], made: vec![], at: 0 }
    }

    /// Where play stands.
    #[must_use]
    pub fn state(&self) -> &[i32] {
        &self.states[self.at]
    }

    /// The moves made so far, with what they did.
    #[must_use]
    pub fn made(&self) -> &[(usize, Played)] {
        &self.made[..self.at]
    }

    /// The ending that holds where play stands.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn ended(&self) -> Result<Option<usize>, RunFault> {
        Eval::new(self.bound).status(self.state())
    }

    /// Makes a move, drawing by the dice.
    ///
    /// # Errors
    ///
    /// A model fault; play then stands where it stood.
    pub fn apply(&mut self, number: usize, dice: &mut Dice) -> Result<Turn, RunFault> {
        let step = step_drawn(self.bound, self.moves, self.state(), number, false, dice)?;
        Ok(self.take(number, step))
    }

    /// Takes over a move that was tried where play stands: its first outcome.
    pub fn take(&mut self, number: usize, step: Tried) -> Turn {
        match step {
            Tried::Made(mut outcomes) if !outcomes.is_empty() => {
                let played = outcomes.remove(0);
                self.states.truncate(self.at + 1);
                self.made.truncate(self.at);
                self.states.push(played.made.state.clone());
                self.made.push((number, played.clone()));
                self.at += 1;
                Turn::Made(Box::new(played))
            }
            other => Turn::NotMade(other),
        }
    }

    /// Takes the last move back; false at the start.
    pub fn undo(&mut self) -> bool {
        let any = self.at > 0;
        self.at -= usize::from(any);
        any
    }

    /// Makes the move that was taken back last once more, with the same draws; false where there is none.
    pub fn redo(&mut self) -> bool {
        let more = self.at < self.made.len();
        self.at += usize::from(more);
        more
    }

    /// Every move where play stands: what it would do, or why not. Refused ones name the statement and its places.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn options(&self) -> Result<Vec<(usize, Tried)>, RunFault> {
        (0..self.moves.list.len())
            .map(|n| Ok((n, step(self.bound, self.moves, self.state(), n, false)?)))
            .collect()
    }
}
