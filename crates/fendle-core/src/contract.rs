//! Whether a [`Model`] keeps its promises: run any implementation through [`check_model`] before its answers are believed.
//!
//! Checked on up to a given number of states, the nearest first: that there is a start; that packed states have the
//! promised length and no stray bits; that every state gets one head, ended states no moves, and moves come in
//! their order, each once, with outcomes and whole weights; that the same state always gives the same, whatever was
//! asked before and in whatever batch; that statuses, allowed and refused moves agree wherever they can be asked; that a
//! model that calls itself sure is; that move names are there and differ.
//!
//! Says nothing of whether the rules are the ones that were meant.

use std::collections::{HashSet, VecDeque};

use crate::model::{Expansion, Fault, Head, Layout, Model, MoveId, Odds, Run, Status, Worker};

/// What a model was checked on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Kept {
    /// States that were looked at.
    pub states: usize,
    /// Whether that was everything reachable.
    pub all: bool,
}

/// A promise that is broken: in words, with the packed state where it shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Broken {
    /// What is wrong.
    pub what: String,
    /// The state.
    pub state: Vec<u64>,
}

impl std::fmt::Display for Broken {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} (on the packed state {:x?})", self.what, self.state)
    }
}

/// What expanding one state gave, to be compared.
#[derive(Clone, Debug, PartialEq)]
struct One {
    head: Option<Head>,
    runs: Vec<Run>,
    outcomes: Vec<u64>,
    odds: Vec<Odds>,
    fault: Option<Fault>,
    unfinished: bool,
}

fn expand_one(worker: &mut dyn Worker, state: &[u64], past_goals: bool) -> One {
    let mut out = Expansion::default();
    worker.expand(state, past_goals, &mut out);
    One {
        head: out.heads.first().copied().filter(|_| out.heads.len() == 1),
        fault: out.faults.first().map(|f| f.1),
        unfinished: !out.unfinished.is_empty(),
        odds: if out.odds.is_empty() { vec![Odds::SURE; out.outcomes_len()] } else { out.odds },
        runs: out.runs,
        outcomes: out.outcomes,
    }
}

/// Bits of a packed state that the layout leaves out must be 0.
pub(crate) fn has_stray_bits(layout: Layout, state: &[u64]) -> bool {
    let used = layout.bits % 64;
    used != 0 && state.last().is_some_and(|w| w >> used != 0)
}

/// Checks a model on up to `most` states.
///
/// # Errors
///
/// The first promise that is broken.
///
/// # Examples
///
/// ```
/// use fendle_core::{contract::check_model, table::{Row, Table}};
///
/// let kept = check_model(&Table::new([Row::running([("on", 1)]), Row::goal()]), 100).expect("a sound model");
/// assert_eq!((kept.states, kept.all), (2, true));
/// ```
pub fn check_model(model: &dyn Model, most: usize) -> Result<Kept, Broken> {
    let layout = model.layout();
    let words = layout.words();
    let broken = |what: String, state: &[u64]| Err(Broken { what, state: state.to_vec() });
    let mut names = HashSet::new();
    for m in 0..model.moves_len().min(1 << 16) {
        let name = model.move_name(MoveId(m as u32));
        if name.is_empty() || !names.insert(name.clone()) {
            return broken(format!("move {m} has no name of its own: `{name}`"), &[]);
        }
    }
    let starts = match model.starts() {
        Ok(starts) => starts,
        Err(f) => return broken(format!("the starts break: {}", model.fault_text(&f)), &[]),
    };
    if starts.is_empty() {
        return broken("there is no start".into(), &[]);
    }
    if starts.iter().any(|s| s.weight == 0) {
        return broken("a start has the weight 0".into(), &[]);
    }
    let (mut first, mut second) = (model.worker(), model.worker());
    let mut seen: HashSet<Vec<u64>> = HashSet::new();
    let mut queue: VecDeque<Vec<u64>> = starts.into_iter().map(|s| s.state).collect();
    let mut before: Option<(Vec<u64>, One)> = None;
    let mut kept = Kept { states: 0, all: true };
    while let Some(state) = queue.pop_front() {
        if state.len() != words {
            return broken(format!("a state has {} words; {words} are promised", state.len()), &state);
        }
        if has_stray_bits(layout, &state) {
            return broken(format!("a bit past the {} promised ones is set", layout.bits), &state);
        }
        if !seen.insert(state.clone()) {
            continue;
        }
        if kept.states == most {
            kept.all = false;
            break;
        }
        kept.states += 1;
        let one = expand_one(&mut *first, &state, false);
        if let Err(what) = one_state(model, &mut *second, &state, &one) {
            return broken(what, &state);
        }
        // The same again, after something else, and in one batch with the state before.
        if expand_one(&mut *second, &state, false) != one {
            return broken("two workers expand it differently".into(), &state);
        }
        if let Some((other, was)) = before.replace((state.clone(), one.clone())) {
            if expand_one(&mut *first, &other, false) != was {
                return broken("it expands differently after another state was asked about".into(), &other);
            }
            let both = [other.as_slice(), &state].concat();
            let mut out = Expansion::default();
            second.expand(&both, false, &mut out);
            let joined: Vec<u64> = was.outcomes.iter().chain(&one.outcomes).copied().collect();
            if out.heads.len() != 2 || out.outcomes != joined {
                return broken("two states in one batch expand differently than one by one".into(), &state);
            }
        }
        queue.extend(one.outcomes.chunks_exact(words).map(<[u64]>::to_vec));
    }
    Ok(kept)
}

/// The promises about one state that was expanded.
fn one_state(model: &dyn Model, worker: &mut dyn Worker, state: &[u64], one: &One) -> Result<(), String> {
    let Some(head) = one.head else { return Err("it does not get exactly one head".into()) };
    let status = worker.status(state);
    match status {
        Ok(s) if s != head.status => return Err(format!("its status is {s:?} or {:?}", head.status)),
        Err(f) if one.fault.is_none() => {
            return Err(format!("its status breaks ({}), and expanding it does not", model.fault_text(&f)));
        }
        _ => {}
    }
    if head.status == Status::Goal && !model.has_goal() {
        return Err("it is won, and the model says that it has no goal".into());
    }
    if head.status != Status::Running && !one.runs.is_empty() {
        return Err("it has ended and still has moves".into());
    }
    if head.runs as usize != one.runs.len() {
        return Err(format!("its head counts {} moves, and there are {}", head.runs, one.runs.len()));
    }
    if one.runs.windows(2).any(|r| r[0].of >= r[1].of) {
        return Err("its moves do not come in their order, each once".into());
    }
    if one.runs.iter().any(|r| r.of.0 as usize >= model.moves_len()) {
        return Err("it has a move past the number of moves".into());
    }
    let sum: usize = one.runs.iter().map(|r| r.outcomes as usize).sum();
    if one.runs.iter().any(|r| r.outcomes == 0) || sum * state.len() != one.outcomes.len() {
        return Err("the numbers of its outcomes are wrong".into());
    }
    if one.odds.len() != sum || one.odds.iter().any(|o| o.weight == 0) {
        return Err("not every outcome has a weight".into());
    }
    if model.is_sure() && one.runs.iter().any(|r| r.outcomes > 1) {
        return Err("a move has several outcomes, and the model calls itself sure".into());
    }
    if one.fault.is_none() && !one.unfinished && head.status == Status::Running {
        let allowed = worker.allowed(state).map_err(|f| model.fault_text(&f))?;
        if !allowed.iter().copied().eq(one.runs.iter().map(|r| r.of)) {
            return Err("the moves called allowed are not those that it expands to".into());
        }
        let refused = worker.refusals(state).map_err(|f| model.fault_text(&f))?;
        if refused.windows(2).any(|r| r[0].of >= r[1].of) {
            return Err("its refusals do not come in move order".into());
        }
        if refused.iter().any(|r| allowed.contains(&r.of)) {
            return Err("a move is refused and allowed".into());
        }
    }
    let (mut told, mut again) = (vec![], vec![]);
    worker.told(state, &mut told);
    worker.told(state, &mut again);
    if told != again {
        return Err("what is told of it changes".into());
    }
    Ok(())
}

/// Assertions at the door of a search, in builds that keep them: what a worker wrote about `states` fits together.
pub(crate) fn debug_check(model: &dyn Model, states: usize, out: &Expansion) {
    if cfg!(debug_assertions) {
        let words = model.layout().words();
        debug_assert_eq!(out.heads.len(), states, "one head a state");
        let outcomes: usize = out.runs.iter().map(|r| r.outcomes as usize).sum();
        debug_assert_eq!(outcomes * words, out.outcomes.len(), "outcomes as counted");
        let strays = out.outcomes.chunks_exact(words).any(|s| has_stray_bits(model.layout(), s));
        debug_assert!(!strays, "bits past those promised are 0");
        debug_assert!(out.odds.is_empty() || out.odds.len() == outcomes, "odds for all or none");
    }
}
