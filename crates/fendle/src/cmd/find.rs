//! `fendle find`: the nearest reachable position in which a condition holds.

use fendle_ask::Want;
use fendle_ask::find::{find, find_any};
use fendle_ask::near::{Plays, near as ask_near};

use crate::args::{DrawsArg, LevelArgs};
use crate::session::{Ended, Session};
use crate::{json, text};

/// Whether the condition can be brought about within the next moves.
pub fn near(
    s: &mut Session,
    args: &LevelArgs,
    condition: &str,
    (moves, whatever, draws): (u32, bool, DrawsArg),
) -> Ended {
    let mut level = s.load(args, Want::All)?;
    let plays = if whatever { Plays::Every } else { Plays::Some };
    let answer = ask_near(&mut s.store, &mut level, condition, (moves, plays, draws.draws()), &s.budget)?;
    s.give(&answer, json::answer, text::find::near)
}

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    condition: &str,
    (draws, before, any): (DrawsArg, u32, bool),
) -> Ended {
    let mut level = s.load(args, Want::All)?;
    let answer = match any {
        true => find_any(&mut s.store, &mut level, condition, &s.budget)?,
        false => find(&mut s.store, &mut level, condition, (draws.draws(), before), &s.budget)?,
    };
    s.give(&answer, json::answer, text::find::lines)
}
