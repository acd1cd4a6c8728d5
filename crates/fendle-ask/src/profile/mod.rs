//! A pack's levels side by side, in their order: figures of difficulty, where they jump, and neighbours that ask the same of a player.

pub mod patterns;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use fendle_core::shape::{Likeness, likeness};
use fendle_core::{Explored, Limits};
use fendle_lang::Diagnostic;
use rayon::prelude::*;
use serde::Serialize;

use crate::answer::Trouble;
use crate::audit::Job;
use crate::budget::Budget;
use crate::load::{Loaded, Store, Want, load_source};
use crate::making::figures::{Judged, judge};
use crate::making::wish::{Wish, figures_json};
use patterns::{Asks, asks};

/// States of a level that is looked at whole.
const STATES: u64 = 500_000;
/// Steps of comparing the shapes of two spaces.
const SHAPE_STEPS: u64 = 2_000_000;
/// How many times more or less a figure is where it jumps.
const JUMP: f64 = 2.0;

/// The figures of a profile, in the order of the table, and what each is about.
pub const FIGURES: [(&str, &str); 9] = [
    ("moves", "moves of a shortest solution"),
    ("states", "positions that can be reached"),
    ("branching", "moves in a position, in the mean"),
    ("corridor", "the share of moves that keep the level winnable"),
    ("fatal_moves", "moves after which nothing is won any more"),
    ("first_fatal_depth", "moves before the first fatal one can come"),
    ("delay", "moves until a fatal move shows, in the mean"),
    ("detours", "moves of a shortest solution that go away from the goal"),
    ("guesses", "guesses that hidden things force"),
];

/// One level of a profile.
#[derive(Clone, Debug, Serialize)]
pub struct Profiled {
    /// The file.
    pub file: String,
    /// The level.
    pub level: String,
    /// Its figures; those that are not known are left out.
    pub figures: BTreeMap<&'static str, Option<f64>>,
    /// Why figures are missing, where some are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub missing: Option<String>,
}

/// Where a figure jumps from one level to the next.
#[derive(Clone, Debug, Serialize)]
pub struct Jump {
    /// The later level.
    pub level: String,
    /// The figure.
    pub figure: &'static str,
    /// Its value before.
    pub before: f64,
    /// Its value there.
    pub after: f64,
}

/// A pack's levels side by side.
#[derive(Clone, Debug, Serialize)]
pub struct Profile {
    /// The levels, in the order of the pack.
    pub levels: Vec<Profiled>,
    /// Where moves, branching or fatal moves are twice as many as in the level before, or half.
    pub jumps: Vec<Jump>,
    /// Neighbours that ask the same of a player.
    pub alike: Vec<Alike>,
}

/// Two neighbours that ask the same of a player.
#[derive(Clone, Debug, Serialize)]
pub struct Alike {
    /// The levels.
    pub levels: [String; 2],
    /// What is the same: `shape of space`, `dead parts`, `must-pass pattern`.
    pub same: Vec<&'static str>,
}

/// Makes the profile of levels.
#[must_use]
pub fn profile(store: &Store, jobs: &[Job], budget: &Arc<Budget>, errors: &mut Vec<Diagnostic>) -> Profile {
    let limits = Limits {
        threads: 1,
        max_states: budget.wanted().max_states.unwrap_or(STATES),
        drop_edges: false,
        ..budget.limits()
    };
    let found: Vec<(One, Vec<Diagnostic>)> = (jobs.par_iter())
        .map(|job| {
            let mut own = vec![];
            (one(store, job, &limits, budget, &mut own), own)
        })
        .collect();
    let mut out = Profile { levels: vec![], jumps: vec![], alike: vec![] };
    let mut before: Option<(Loaded, Explored)> = None;
    let mut asked_before = Asks::default();
    for (One { row, level, asks }, own) in found {
        errors.extend(own);
        if let Some(last) = out.levels.last() {
            out.jumps.extend(jumps(last, &row));
        }
        // Shapes are compared one after the other: two spaces are held at a time.
        let here = level.filter(|l| !l.game.bound.model.hides()).and_then(|level| {
            let space = fendle_core::explore(&level.game, limits, false, &**budget).ok()?;
            space.counts.complete.then_some((level, space))
        });
        let mut same = asked_before.in_common(&asks);
        if let (Some((_, x)), Some((_, y))) = (&before, &here)
            && x.counts.states == y.counts.states
            && x.counts.per_depth == y.counts.per_depth
            && matches!(likeness(&x.space, &y.space, SHAPE_STEPS, &**budget), Ok(Likeness::Same(_)))
        {
            same.insert(0, "shape of space");
        }
        if let Some(last) = out.levels.last().filter(|_| !same.is_empty()) {
            out.alike.push(Alike { levels: [last.level.clone(), row.level.clone()], same });
        }
        (before, asked_before) = (here, asks);
        out.levels.push(row);
    }
    out
}

/// What was found of one level.
struct One {
    row: Profiled,
    level: Option<Loaded>,
    asks: Asks,
}

fn one(store: &Store, job: &Job, limits: &Limits, budget: &Arc<Budget>, errors: &mut Vec<Diagnostic>) -> One {
    let mut row = Profiled {
        file: job.path.clone(),
        level: job.source.level.name.clone(),
        figures: BTreeMap::new(),
        missing: None,
    };
    let level = match load_source(&job.source, Want::All, budget, errors) {
        Ok(level) => level,
        Err(Trouble::Limit(limit)) => {
            row.missing = Some(format!("stopped by {}", budget.words(limit)));
            return One { row, level: None, asks: Asks::default() };
        }
        Err(_) => {
            row.missing = Some("it cannot be loaded".into());
            return One { row, level: None, asks: Asks::default() };
        }
    };
    let hides = level.game.bound.model.hides();
    // Each group of figures by itself: one that is not known does not take the others with it.
    let groups: &[&[&'static str]] = match hides {
        true => &[&["guesses", "moves"]],
        false => &[&["moves", "solvable"], &["states", "fatal_moves", "first_fatal_depth"]],
    };
    for names in groups {
        let any = format!("{0} or not {0}", names[0]);
        let Ok(wish) = Wish::read(&any) else { continue };
        let besides: BTreeSet<&'static str> = names.iter().copied().collect();
        match judge(store, &level, (&wish, &besides), limits, budget) {
            Judged::Good(figures) => row.figures.extend(figures_json(&figures)),
            Judged::Breaks => row.missing = Some("the model breaks".into()),
            _ => row.missing = row.missing.or(Some("the level is too large to be seen whole".into())),
        }
    }
    let mut asked = Asks::default();
    if !hides && row.figures.contains_key("states") {
        let (found, figures) = asks(store, &level, limits.max_states, budget);
        asked = found;
        match figures {
            Some(figures) => row.figures.extend(figures_json(&figures)),
            None => row.missing = row.missing.or(Some("its structure is not known".into())),
        }
    }
    row.figures.retain(|name, _| FIGURES.iter().any(|f| f.0 == *name));
    One { row, level: Some(level), asks: asked }
}

/// The figures that jump from one level to the next.
fn jumps(before: &Profiled, after: &Profiled) -> Vec<Jump> {
    let mut out = vec![];
    for figure in ["moves", "branching", "fatal_moves", "guesses"] {
        let value = |p: &Profiled| p.figures.get(figure).copied().flatten();
        let (Some(x), Some(y)) = (value(before), value(after)) else { continue };
        // From nothing to something is a jump where it is more than a little.
        let (low, high) = (x.min(y), x.max(y));
        if high >= JUMP * low.max(1.0) && high - low >= 2.0 {
            out.push(Jump { level: after.level.clone(), figure, before: x, after: y });
        }
    }
    out
}
