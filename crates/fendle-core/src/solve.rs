//! Finds a shortest solution, or exhausts the space, or says which limit ended the search.
//!
//! Does not say why a puzzle is unsolvable beyond "everything was seen"; a proof from the
//! rules is the model's to give, before this search is asked.

use crate::explore::{Faulted, Sweep, Until};
use crate::limits::{Limit, Limits, Progress, Stop, Watch};
use crate::model::{Fault, Model};
use crate::route::{self, Route};
use crate::space::{Class, Space};

/// What a search proved.
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub enum Verdict {
    /// The route ends in a goal, no goal lies fewer moves away, and among the
    /// shortest routes it is the first in move order.
    Solvable(Route),
    /// Every reachable state was expanded and none is a goal.
    Unsolvable,
    /// States remain unseen and no goal is among those seen: nothing is proved.
    Undecided(Limit),
    /// The model broke before an answer was found.
    Faulted(Faulted),
}

/// A verdict and how much was looked at for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Solved {
    /// What was proved.
    pub verdict: Verdict,
    /// Distinct states seen.
    pub states: u64,
    /// Transitions taken.
    pub transitions: u64,
    /// A goal, if there is one, is at least so many moves away: as many depths were seen whole, and none of their states is won.
    pub least: u32,
    /// Bytes taken by the tables.
    pub bytes: u64,
}

/// Searches breadth first for a goal. O(|S| + |T|) up to the depth of the nearest goal.
///
/// # Errors
///
/// A [`Fault`] when a start cannot be built.
pub fn solve(model: &dyn Model, limits: Limits, watch: &dyn Watch) -> Result<Solved, Fault> {
    solve_seeing(model, limits, watch, &mut |_| {})
}

/// The same; `closed` is shown the space where it is exhausted and holds no goal.
///
/// # Errors
///
/// A [`Fault`] when a start cannot be built.
pub fn solve_seeing(
    model: &dyn Model,
    limits: Limits,
    watch: &dyn Watch,
    closed: &mut dyn FnMut(&Space),
) -> Result<Solved, Fault> {
    // Edges serve the one way that is looked for at the end.
    let limits = Limits { drop_edges: true, ..limits };
    let mut sweep = Sweep::new(model, limits, false)?;
    let stop = sweep.run(Until::FirstGoal, watch);
    let space = &sweep.space;
    let last = space.levels_len() - 1;
    let goals: Vec<_> = space.level(last).filter(|&id| space.class(id) == Class::Goal).collect();
    let progress = Progress { states: space.states_len(), depth: last, ..Progress::default() };
    let verdict = if !goals.is_empty() {
        match route::first_route(model, space, last, &goals, false, &|| watch.look(&progress)) {
            Ok(route) => Verdict::Solvable(route.expect("a goal that was reached has a route")),
            Err(limit) => Verdict::Undecided(limit),
        }
    } else if let Some(fault) = sweep.first_fault() {
        Verdict::Faulted(fault)
    } else {
        match stop {
            Stop::Hit(limit) => Verdict::Undecided(limit),
            // What lies behind them was not seen.
            _ if sweep.set_aside => Verdict::Undecided(Limit::SetAside),
            _ => {
                closed(space);
                Verdict::Unsolvable
            }
        }
    };
    Ok(Solved {
        verdict,
        states: space.states_len(),
        transitions: sweep.transitions,
        least: sweep.looked_through,
        bytes: space.bytes(),
    })
}
