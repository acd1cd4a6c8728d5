//! Which faulty variants of a model test cases catch.

use std::collections::HashSet;
use std::sync::Arc;

use fendle_lang::play::MoveTable;
use fendle_lang::run::marks::Mark;
use fendle_lang::state::Stop;
use fendle_lang::variants::{Variant, variants};
use fendle_lang::{Bound, FileId, Span, compile};
use rayon::prelude::*;
use serde::Serialize;

use super::trial::{Differs, Run, Seen, Trial, try_move, try_whole};
use super::walk::Walk;
use crate::budget::Budget;

/// Parts of expressions that are evaluated to find what catches variants, at the most.
const WORK: u64 = 200_000_000;
/// Trials that are looked at before variants which are caught are left out.
const CHUNK: usize = 512;

/// A faulty variant of the rules.
pub enum Fault {
    /// The text of the model, edited.
    Edit {
        /// The edit.
        variant: Variant,
        /// The level with it.
        bound: Box<Bound>,
    },
    /// An ending that is noticed one move late, by its words.
    Late(String, Span),
}

impl Fault {
    /// Where in the text of the model.
    pub fn span(&self) -> Span {
        match self {
            Fault::Edit { variant, .. } => variant.span,
            Fault::Late(_, span) => *span,
        }
    }

    /// What is wrong.
    pub fn words(&self) -> String {
        match self {
            Fault::Edit { variant, .. } => variant.words.clone(),
            Fault::Late(ending, _) => format!("\"{ending}\" is noticed one move late"),
        }
    }

    /// Whether a trial tells it from the model, whose result is given, with the ways that statements went.
    pub fn differs(
        &self,
        ask: &Asking<'_>,
        trial: &Trial,
        (seen, marks): (&Seen, &[Mark]),
        work: &mut u64,
    ) -> Differs {
        match self {
            Fault::Late(ending, _) => match seen {
                Seen::Made(done) if done.ended.as_ref() == Some(ending) => Differs::Yes,
                _ => Differs::No,
            },
            // What is not run cannot differ.
            Fault::Edit { variant, .. } if variant.within.is_some_and(|m| !marks.contains(&m)) => Differs::No,
            Fault::Edit { variant, bound } => {
                let mut run = Run::default();
                let state = &ask.walk.states[trial.state as usize];
                let step = (trial.number as usize, &trial.take[..]);
                // What lies within a statement says nothing of how the game stands before the move.
                let goes_on = variant.within.is_some() && ask.walk.ended[trial.state as usize].is_none();
                let other = match goes_on {
                    true => try_move(bound, ask.moves, state, step, &mut run),
                    false => try_whole(bound, ask.moves, state, step, &mut run),
                };
                *work += run.work + 20;
                match other {
                    Ok(other) => seen.differs(&other, ask.ended_at),
                    Err(_) => Differs::No,
                }
            }
        }
    }
}

/// What variants are compared with.
pub struct Asking<'a> {
    /// The level.
    pub bound: &'a Bound,
    /// Its moves.
    pub moves: &'a MoveTable,
    /// The positions and moves that were met.
    pub walk: &'a Walk,
    /// The place of the ending in a state.
    pub ended_at: usize,
}

impl Asking<'_> {
    /// What the model does, and the ways that its statements go.
    pub fn truth(&self, trial: &Trial) -> (Seen, Vec<Mark>) {
        let state = &self.walk.states[trial.state as usize];
        if let Some(how) = &self.walk.ended[trial.state as usize] {
            // A variant in which it has not ended may run anything.
            return (Seen::Over(how.clone()), vec![]);
        }
        let step = (trial.number as usize, &trial.take[..]);
        let mut run = Run::default();
        let seen = try_move(self.bound, self.moves, state, step, &mut run).unwrap_or(Seen::NotOffered);
        (seen, run.marks)
    }
}

/// The variants of a level's model that can be compiled.
pub fn faults(bound: &Bound, file: FileId, text: &str, budget: &Arc<Budget>) -> Vec<Fault> {
    let stop = {
        let budget = Arc::clone(budget);
        Stop::new(move || budget.is_stopped())
    };
    let compiled = |variant: Variant| {
        if budget.is_stopped() {
            return None;
        }
        let model = compile(file, &variant.applied(text), &mut vec![])?;
        // The edits touch rules alone: the level's values stand where they stood.
        let same = model.vars.len() == bound.model.vars.len() && model.moves.len() == bound.model.moves.len();
        if !same {
            return None;
        }
        let mut bound = Box::new(bound.clone());
        bound.model = Arc::new(model);
        bound.stop = stop.clone();
        Some(Fault::Edit { variant, bound })
    };
    let mut out: Vec<Fault> = variants(file, text).into_par_iter().filter_map(compiled).collect();
    let mut late = HashSet::new();
    for status in &bound.model.statuses {
        let ending = fendle_lang::state::ending_text(&bound.model.endings[status.ending]);
        if late.insert(ending.clone()) {
            out.push(Fault::Late(ending, status.span));
        }
    }
    out
}

/// What became of a variant.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Fate {
    /// A case catches it.
    Caught,
    /// A case tells it by a reason, a named cell or a phase alone.
    Told,
    /// No case catches it; among the moves that were met none does.
    NotMet,
    /// It changes nothing in any move that can be reached from this start.
    NoChange,
    /// A move that catches it was met, and `--most` left it out.
    LeftOut,
    /// Not decided: a limit.
    NotLooked,
}

/// What catches a variant first among all that was met.
#[derive(Clone, Copy, Debug, Default)]
pub struct Hunted {
    /// The first trial that everybody sees a difference in.
    pub caught: Option<u32>,
    /// The first one that only reasons, named cells or phases tell it by.
    pub told: Option<u32>,
    /// All trials were looked at, or a catch was found.
    pub whole: bool,
}

/// Looks through all that was met for trials that tell these variants from the model.
pub fn hunt(ask: &Asking<'_>, faults: &[&Fault], budget: &Budget) -> Vec<Hunted> {
    let mut out = vec![Hunted::default(); faults.len()];
    let mut open: Vec<usize> = (0..faults.len()).collect();
    let mut work = 0;
    let mut at = 0;
    while at < ask.walk.trials.len() && !open.is_empty() && work < WORK && !budget.is_stopped() {
        let end = (at + CHUNK).min(ask.walk.trials.len());
        let looked: Vec<(Vec<(usize, Differs)>, u64)> = (at..end)
            .into_par_iter()
            .map(|at| {
                let trial = &ask.walk.trials[at];
                let (seen, marks) = ask.truth(trial);
                let mut work = 20;
                let differs = |n: &usize| {
                    let found = faults[*n].differs(ask, trial, (&seen, &marks), &mut work);
                    (found != Differs::No).then_some((*n, found))
                };
                (open.iter().filter_map(differs).collect(), work)
            })
            .collect();
        for (trial, (found, cost)) in looked.into_iter().enumerate() {
            work += cost;
            for (n, differs) in found {
                let first = if differs == Differs::Yes { &mut out[n].caught } else { &mut out[n].told };
                first.get_or_insert((at + trial) as u32);
            }
        }
        open.retain(|n| out[*n].caught.is_none());
        at = end;
    }
    // What was tried while somebody said stop shows no difference.
    let whole = at == ask.walk.trials.len() && !budget.is_stopped();
    out.iter_mut().for_each(|h| h.whole = whole || h.caught.is_some());
    out
}
