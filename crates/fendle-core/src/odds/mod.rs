//! What chance does to a puzzle: the best probability to win, the least expected number of moves, the
//! best value of an aim, each for the best way of playing.
//!
//! Exact fractions where nothing that matters lies on a cycle and the numbers stay within a budget; else
//! bounds from both sides that are rounded outward, never a number that merely stopped changing.
//! Says nothing of single ways of playing; see [`mod@crate::simulate`] for those.
//!
//! # How
//!
//! The space is written out once as a graph with weights. States that cannot win have the value 0,
//! states that win with probability 1 the value 1. The others are taken strongly connected part by
//! strongly connected part, successors first. Inside a part with a cycle the bounds are
//! iterated from below and from above; the upper bound of an end component is pulled down to its
//! best exit in every round (Haddad and Monmege, *Interval iteration for MDPs*, 2018; Kelmendi et al.,
//! 2018), since otherwise it would stay at 1 for ever. Expected moves: value iteration from
//! below, and a guess from above that is accepted only when one step of the equations does not
//! raise it (Hartmanns and Kaminski, *Optimistic value iteration*, 2020).
//!
//! O(|S| + |T|) numbers of memory and time for exact answers, whose fractions may grow with the depth.

mod aim;
mod graph;
mod values;

use num_rational::BigRational;
use num_traits::{ToPrimitive, Zero};
use serde::{Serialize, Serializer};

use crate::explore::Explored;
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::{Fault, Model, MoveId};
use crate::route::Route;
use crate::space::{Class, Space, StateId};
use graph::{Graph, RunAt};
use values::{Gain, Task, Values, move_bounds, weighted, win_bounds};

/// A value that is known exactly, or from both sides.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// Exact.
    Exact(BigRational),
    /// At least the first and at most the second, both rounded outward.
    Between(f64, f64),
}

/// For programs: the fraction as text and a number near it, or the two bounds.
impl Serialize for Value {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeMap;
        let mut map = s.serialize_map(Some(2))?;
        match self {
            Value::Exact(r) => {
                map.serialize_entry("exact", &r.to_string())?;
                map.serialize_entry("about", &self.middle())?;
            }
            Value::Between(lo, hi) => {
                map.serialize_entry("at_least", lo)?;
                map.serialize_entry("at_most", hi)?;
            }
        }
        map.end()
    }
}

impl Value {
    /// The middle between the bounds.
    #[must_use]
    pub fn middle(&self) -> f64 {
        f64::midpoint(self.low(), self.high())
    }

    /// A lower bound.
    #[must_use]
    pub fn low(&self) -> f64 {
        match self {
            Value::Exact(r) => below(r.to_f64().unwrap_or(0.0)),
            Value::Between(lo, _) => *lo,
        }
    }
    /// An upper bound.
    #[must_use]
    pub fn high(&self) -> f64 {
        match self {
            Value::Exact(r) => above(r.to_f64().unwrap_or(f64::INFINITY)),
            Value::Between(_, hi) => *hi,
        }
    }
    /// Whether this is surely less than the other.
    #[must_use]
    pub fn is_below(&self, other: &Value) -> bool {
        match (self, other) {
            (Value::Exact(a), Value::Exact(b)) => a < b,
            _ => self.high() < other.low(),
        }
    }
}

/// A move from the start and what it is worth.
#[derive(Clone, Debug, PartialEq)]
pub struct MoveOdds {
    /// The move.
    pub of: MoveId,
    /// How many outcomes it has.
    pub outcomes: u32,
    /// The best probability to win after it.
    pub win: Option<Value>,
    /// The best value of the aim after it.
    pub aim: Option<Value>,
}

/// The best value of an aim.
#[derive(Clone, Debug, PartialEq)]
pub enum AimValue {
    /// This value, expected where chance takes part.
    Best(Value),
    /// It can be made as good as one likes: a cycle gains every time round.
    Unbounded,
    /// Not found, and why.
    Unknown(&'static str),
}

/// The answers.
#[derive(Clone, Debug)]
pub struct Answers {
    /// The best probability to win, over the weighted starts. `None` without a goal.
    pub win: Option<Value>,
    /// Some way of playing wins from every start, whatever is drawn.
    pub certain: bool,
    /// Some way of playing wins from every start with probability 1.
    pub almost_certain: bool,
    /// The least expected number of moves to a goal, where a goal is reached with probability 1.
    pub moves: Option<Value>,
    /// The best value of the aim, over the weighted starts.
    pub aim: Option<AimValue>,
    /// Without chance and cycles: a play that reaches the best value of the aim, first in move order.
    pub aim_play: Option<Route>,
    /// Moves of winnable states that surely lower the best probability and are not fatal.
    pub blunders: Option<u64>,
    /// What each move from the start is worth, in move order; empty with several starts.
    pub from_start: Vec<MoveOdds>,
    /// The greatest chance with which a single move is set aside (`None`: nothing is), and that of each
    /// move from the start, in their order.
    pub aside: Option<(BigRational, Vec<BigRational>)>,
    /// Whether nothing that matters lies on a cycle.
    pub acyclic: bool,
    /// Whether the space was seen whole.
    pub complete: bool,
}

/// Why there are no answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoOdds {
    /// The model broke.
    Fault(Fault),
    /// This limit ended the computing.
    Limit(Limit),
}

impl From<Fault> for NoOdds {
    fn from(fault: Fault) -> NoOdds {
        NoOdds::Fault(fault)
    }
}

impl From<Limit> for NoOdds {
    fn from(limit: Limit) -> NoOdds {
        NoOdds::Limit(limit)
    }
}

/// One step down.
fn below(x: f64) -> f64 {
    if x <= 0.0 && x > -f64::MIN_POSITIVE { x } else { x.next_down() }
}

/// One step up.
fn above(x: f64) -> f64 {
    x.next_up()
}

/// Answers for an explored space.
///
/// # Errors
///
/// [`NoOdds`] when the aim's value breaks the model, or a limit is hit.
pub fn odds(
    model: &dyn Model,
    found: &Explored,
    limits: &Limits,
    watch: &dyn Watch,
) -> Result<Answers, NoOdds> {
    let space = &found.space;
    let g = Graph::new(model, space, limits, watch)?;
    let progress = Progress { states: space.states_len(), depth: found.counts.depth, ..Progress::default() };
    let mut pace = Pace::new(watch).at(progress);
    let budget = limits.memory_bytes / 4;
    let starts = space.starts();
    let weights = space.start_weights();
    let all = |test: &dyn Fn(StateId) -> bool| starts.iter().all(|s| test(*s));
    let open = found.counts.open > 0;
    let mut answers = Answers {
        win: None,
        certain: all(&|s| space.is_certain(s)),
        almost_certain: all(&|s| space.is_almost_certain(s)),
        moves: None,
        aim: None,
        aim_play: None,
        blunders: None,
        from_start: vec![],
        aside: None,
        acyclic: true,
        complete: found.counts.complete && !found.counts.cut,
    };
    let first = (starts.len() == 1).then(|| starts[0].number());
    let mut moves: Vec<MoveOdds> = first
        .map(|s| {
            g.runs(s).iter().map(|r| MoveOdds { of: r.of, outcomes: r.len, win: None, aim: None }).collect()
        })
        .unwrap_or_default();
    if model.has_goal() {
        let fixed = |s: u32| match g.classes[s as usize] {
            Class::Goal => Some((1, 1)),
            Class::Winnable if space.is_almost_certain(StateId::from_number(s)) => Some((1, 1)),
            Class::Winnable => None,
            Class::Open => Some((0, 1)),
            _ => Some((0, 0)),
        };
        let parts = g.parts(|s| fixed(s).is_none(), &mut pace)?;
        answers.acyclic = !parts.iter().any(|p| g.has_loop(p));
        let task = Task {
            g: &g,
            fixed: Box::new(fixed),
            allowed: Box::new(|_| true),
            most: true,
            gain: Gain::Nothing,
        };
        let exact = if answers.acyclic && !open { task.exact(&parts, budget, &mut pace)? } else { None };
        let values = match exact {
            Some(v) => Values::Exact(v),
            None => {
                let bounds = win_bounds(&g, &task, &parts, &mut pace)?;
                let sure =
                    if open { None } else { task.exact_by_policy(&parts, &bounds, budget, &mut pace)? };
                sure.map_or(Values::Bounds(bounds), Values::Exact)
            }
        };
        answers.win = Some(weighted(starts, weights, &values));
        let of_run = |r: RunAt| match &values {
            Values::Exact(v) => Value::Exact(task.exact_run(r, v)),
            Values::Bounds(v) => {
                let (lo, hi) = task.bound_run(r, v);
                Value::Between(lo, hi.min(1.0))
            }
        };
        if let Some(s) = first {
            for (m, r) in moves.iter_mut().zip(g.runs(s)) {
                m.win = Some(of_run(*r));
            }
        }
        let mut blunders = 0;
        for s in 0..g.classes.len() as u32 {
            if g.classes[s as usize] == Class::Winnable {
                let best = values.get(s);
                pace.step(64)?;
                for r in g.runs(s) {
                    let v = of_run(*r);
                    if v.is_below(&best)
                        && v.high() > f64::MIN_POSITIVE
                        && v != Value::Exact(BigRational::zero())
                    {
                        blunders += 1;
                    }
                }
            }
        }
        answers.blunders = Some(blunders);
        if answers.almost_certain {
            answers.moves = Some(least_moves(&g, space, budget, &mut pace)?);
        }
    }
    if found.counts.cut && found.counts.complete {
        // One state stands for all of them: it counts as open, and no move leads out of it.
        let stands = |t: u32| g.classes[t as usize] == Class::Open && g.runs(t).is_empty();
        let of = |r: &RunAt| {
            let weight: u128 =
                g.outcomes(*r).filter(|(t, _)| stands(*t)).map(|(_, o)| u128::from(o.weight)).sum();
            BigRational::new(weight.into(), g.total(*r).into())
        };
        let most = g.runs.iter().map(of).max().unwrap_or_else(BigRational::zero);
        let here = first.map(|s| g.runs(s).iter().map(of).collect()).unwrap_or_default();
        answers.aside = Some((most, here));
    }
    if let Some(aim) = model.aim() {
        let (value, by_move, play) = aim::aim_value(model, found, &g, aim, budget, &mut pace)?;
        answers.aim_play = play;
        for (m, v) in moves.iter_mut().zip(by_move) {
            m.aim = v;
        }
        answers.aim = Some(value);
    }
    answers.from_start = moves;
    Ok(answers)
}

fn least_moves(g: &Graph, space: &Space, budget: u64, pace: &mut Pace<'_>) -> Result<Value, Limit> {
    let (starts, weights) = (space.starts(), space.start_weights());
    let sure = |s: u32| {
        let class = g.classes[s as usize];
        class == Class::Goal || class == Class::Winnable && space.is_almost_certain(StateId::from_number(s))
    };
    let fixed = |s: u32| match g.classes[s as usize] {
        Class::Winnable if sure(s) => None,
        _ => Some((0, 0)),
    };
    let task = Task {
        g,
        fixed: Box::new(fixed),
        // Only runs that never leave the states that surely win.
        allowed: Box::new(|r| g.outcomes(r).all(|(t, _)| sure(t))),
        most: false,
        gain: Gain::One,
    };
    let parts = g.parts(|s| fixed(s).is_none(), pace)?;
    let exact = if parts.iter().any(|p| g.has_loop(p)) { None } else { task.exact(&parts, budget, pace)? };
    let values = match exact {
        Some(v) => Values::Exact(v),
        None => {
            let bounds = move_bounds(g, &task, &parts, pace)?;
            task.exact_by_policy(&parts, &bounds, budget, pace)?.map_or(Values::Bounds(bounds), Values::Exact)
        }
    };
    Ok(weighted(starts, weights, &values))
}
