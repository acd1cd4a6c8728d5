//! `fendle review`: what each move of a finished or broken-off play cost.

use fendle_ask::Want;
use fendle_ask::review::review;

use crate::args::LevelArgs;
use crate::session::{Ended, Session};
use crate::{json, text};

/// Runs the command.
pub fn run(s: &mut Session, args: &LevelArgs, moves: &str) -> Ended {
    let level = s.load(args, Want::One)?;
    let moves = &s.moves(moves)?;
    let answer = review(&mut s.store, &level, moves, &s.budget)?;
    s.give(&answer, json::answer, text::review::lines)
}
