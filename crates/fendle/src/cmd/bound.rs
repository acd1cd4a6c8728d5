//! `fendle bound`: what relaxed puzzles say of a level.

use fendle_ask::Want;
use fendle_ask::bound::{BOUND_EFFORT, bound};
use fendle_core::relaxed::choose::Effort;

use crate::args::LevelArgs;
use crate::session::{Ended, Session};
use crate::{json, text};

/// Runs the command.
pub fn run(s: &mut Session, args: &LevelArgs, positions: Option<u64>) -> Ended {
    let level = s.load(args, Want::All)?;
    let effort = match positions {
        None => BOUND_EFFORT,
        Some(n) => Effort { positions: n, all: n.saturating_mul(8) },
    };
    let answer = bound(&level, effort, &s.budget)?;
    s.give(&answer, json::answer, text::bound::lines)
}
