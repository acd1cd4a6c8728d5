//! How many shuffles give which depth: the number of shuffles is not the depth.

use std::collections::BTreeMap;
use std::sync::Arc;

use fendle_core::{Limits, Verdict as Solvable};
use fendle_lang::run::setup::Dice;
use rayon::prelude::*;
use serde::Serialize;

use super::draft::{BOARD_STATES, Shared, solved_start};
use super::maker::shuffled;
use crate::answer::{Answer, Asked, Trouble, Verdict};
use crate::budget::Budget;
use crate::load::{Loaded, Store};

/// The depths after so many shuffles.
#[derive(Clone, Debug, Serialize)]
pub struct Row {
    /// Moves of the shuffle.
    pub shuffles: u32,
    /// Boards that were made.
    pub samples: u64,
    /// How often each depth came.
    pub depths: BTreeMap<u32, u64>,
    /// Boards that cannot be solved.
    pub unsolvable: u64,
    /// Boards whose depth is not known: a limit.
    pub open: u64,
}

impl Row {
    /// The mean depth.
    #[must_use]
    pub fn mean(&self) -> Option<f64> {
        let (n, sum) = self.depths.iter().fold((0u64, 0u64), |(n, s), (d, k)| (n + k, s + u64::from(*d) * k));
        (n > 0).then(|| sum as f64 / n as f64)
    }
}

/// The depths by the number of shuffles.
#[derive(Clone, Debug, Serialize)]
pub struct Depths {
    /// One row for each number of shuffles.
    pub rows: Vec<Row>,
    /// The depth of the farthest position, where the whole space is known.
    pub farthest: Option<u32>,
}

/// Shuffles a level again and again and finds out how deep it came.
///
/// # Errors
///
/// [`Trouble`] where nothing can be shuffled.
pub fn depths(
    store: &Store,
    level: &Loaded,
    (from, to): (u32, u32),
    samples: u64,
    budget: &Arc<Budget>,
) -> Result<Answer<Depths>, Trouble> {
    if level.game.bound.model.hides() {
        return Err("levels with hidden things have no depth that shuffles would give".into());
    }
    let start = solved_start(store, level, budget);
    let shared = Shared::of(&level.game.at(start.clone()), budget);
    let most = budget.wanted().max_states.unwrap_or(BOARD_STATES);
    let limits = Limits { threads: 1, max_states: most, ..budget.limits() };
    let seed = budget.wanted().seed;
    let mut rows = vec![];
    for shuffles in from..=to {
        if budget.is_stopped() {
            break;
        }
        // None: it got stuck. Some(Err): not known.
        let one = |n: u64| -> Option<Result<Option<u32>, ()>> {
            let mut dice =
                Dice::new(seed ^ (u64::from(shuffles) << 32) ^ n.wrapping_mul(0x9E37_79B9_7F4A_7C15));
            let state = shuffled(level, &start, shuffles, &mut dice)?;
            if let Some(depth) = shared.as_ref().and_then(|s| s.depth(&level.game, &state)) {
                return Some(Ok(depth));
            }
            let game = level.game.at(state);
            Some(match fendle_core::solve(&game, limits, &**budget).map(|s| s.verdict) {
                Ok(Solvable::Solvable(route)) => Ok(Some(route.moves.len() as u32)),
                Ok(Solvable::Unsolvable) => Ok(None),
                _ => Err(()),
            })
        };
        let found: Vec<_> = (0..samples).into_par_iter().map(one).collect();
        let mut row = Row { shuffles, samples: 0, depths: BTreeMap::new(), unsolvable: 0, open: 0 };
        for depth in found.into_iter().flatten() {
            row.samples += 1;
            match depth {
                Ok(Some(d)) => *row.depths.entry(d).or_default() += 1,
                Ok(None) => row.unsolvable += 1,
                Err(()) => row.open += 1,
            }
        }
        rows.push(row);
    }
    let farthest = shared.as_ref().map(Shared::farthest);
    let limit = budget.stopped();
    let made = rows.iter().map(|r| r.samples).sum();
    let holds = if limit.is_some() { Verdict::Undecided } else { Verdict::Holds };
    Ok(Answer::new(Asked::of(level), holds, Depths { rows, farthest })
        .stopped(limit, budget)
        .took(budget, made))
}
