//! How many different solutions a level has.

use fendle_core::count::solutions;
use fendle_core::structure::NotSeen;
use fendle_core::{Exploration, Limit};
use serde::Serialize;

use crate::answer::{Answer, Asked, Trouble, Verdict, fault_report};
use crate::budget::Budget;
use crate::explore::searched;
use crate::knowledge::{needs_known, needs_layout};
use crate::load::{Loaded, Store};

/// How many ways lead to won positions. Numbers of ways are decimal digits, since they may be long.
#[derive(Clone, Debug, Serialize)]
pub struct CountedSolutions {
    /// Distinct won positions that can be reached; what is alike counts once. Where a limit was hit: those that were seen.
    pub won: u64,
    /// Whether all were seen.
    pub complete: bool,
    /// Moves of the shortest solutions.
    pub moves: Option<u32>,
    /// How many shortest solutions there are.
    pub shortest: Option<String>,
    /// How many solutions there are in all; `None`: without end, or not counted.
    pub all: Option<String>,
    /// Play can come back to a position that it has left, so that there is no end of solutions.
    pub endless: bool,
    /// Ways are sequences of positions, since moves that are alike are one; else sequences of moves, and of draws.
    pub by_positions: bool,
    /// Why ways were not counted.
    pub not_counted: Option<String>,
    /// Positions that ended otherwise: lost, over, stuck.
    pub ended_otherwise: u64,
    /// States that were seen.
    pub states: u64,
}

/// Counts the solutions of a level whose layout is known, or that hides nothing.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to be counted.
pub fn count_solutions(
    store: &Store,
    level: &Loaded,
    budget: &Budget,
) -> Result<Answer<CountedSolutions>, Trouble> {
    if level.known {
        needs_layout(level, "solve --known")?;
    }
    needs_known(level, "solve --count")?;
    let game = &level.game;
    if !game.bound.model.has_goal() {
        return Err("this model has no goal, so there are no solutions to be counted".into());
    }
    let found = searched(level, game, budget)?;
    let c: &Exploration = &found.counts;
    let by_positions = game.bound.canon.is_some();
    let mut out = CountedSolutions {
        won: c.goal,
        complete: c.is_whole(),
        moves: c.shortest,
        shortest: None,
        all: None,
        endless: false,
        by_positions,
        not_counted: None,
        ended_otherwise: c.lost + c.over + c.stuck,
        states: c.states,
    };
    let mut limit = c.cut_short();
    if let Some(faulted) = &found.fault {
        let fault = Some(fault_report(store, level, faulted));
        out.complete = false;
        return Ok(Answer::new(Asked::of(level), Verdict::Fails, out).faulted(fault).took(budget, c.states));
    }
    match solutions(&found, by_positions, &budget.limits(), budget) {
        Ok(s) => {
            out.shortest = s.shortest.map(|s| s.1);
            out.endless = s.all.is_none();
            out.all = s.all;
        }
        Err(NotSeen::Open) => out.not_counted = Some("the space was not seen whole".into()),
        Err(NotSeen::Memory { .. }) => {
            out.not_counted = Some("its transitions do not fit the memory".into());
            limit = limit.or(Some(Limit::Memory));
        }
        Err(NotSeen::Stopped(by)) => {
            out.not_counted = Some(format!("stopped by {}", budget.words(by)));
            limit = limit.or(Some(by));
        }
    }
    let holds = match (limit, out.won) {
        (Some(_), _) => Verdict::Undecided,
        (None, 0) => Verdict::Fails,
        (None, _) => Verdict::Holds,
    };
    let states = c.states;
    Ok(Answer::new(Asked::of(level), holds, out).stopped(limit, budget).took(budget, states))
}
