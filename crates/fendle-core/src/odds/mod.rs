//! What chance does to a puzzle: the best probability to win, the least expected number of moves, the
//! best value of an aim, each for the best way of playing.
//!
//! Every number is an interval of two doubles that surely holds the true one: each step rounds outward. Where the space is
//! small, or when asked, it is a fraction too. What is possible, certain and almost certain is decided by the graph alone,
//! never by a number. Says nothing of single ways of playing; see [`mod@crate::simulate`] for those.
//!
//! # How
//!
//! ```text
//! graph     the space is written out, positions before a draw made once and shared
//! order     strongly connected parts, each after those that it leads to
//! classes   what the graph alone decides: winnable, certain, almost certain, ends; fatal moves and draws
//! values    bounds of all vertices, one pass; inside parts with cycles shortest ways, or iteration (knot, sums)
//! exact     fractions, where they are wanted and not too long
//! ```
//!
//! O(|S| + |T|) time without cycles; 16 bytes a state and position beside the graph.

mod classes;
mod exact;
mod graph;
mod guide;
mod interval;
mod knot;
mod order;
mod sums;
mod values;
mod within;

use num_rational::BigRational;
use num_traits::{ToPrimitive, Zero};
use rayon::prelude::*;
use serde::{Serialize, Serializer};

use crate::explore::Exploration;
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::{Aim, Fault, Model, MoveId, Stopped};
use crate::route::Route;
use crate::space::Class;
use classes::{ALMOST, CERTAIN, ENDS, Marks, REACHES, SEEN};
use graph::Graph;
pub use guide::Guide;
use interval::Bounds;
use order::Parts;
use values::{Gain, Solved, Task};
pub use within::{NearMove, Within, within};

/// A value that is known exactly, or from both sides.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// Exact.
    Exact(BigRational),
    /// At least the first and at most the second, both rounded outward.
    Between(f64, f64),
}

/// For programs: both bounds, a number near the value, and the fraction as text where it is known.
impl Serialize for Value {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeMap;
        let mut map = s.serialize_map(None)?;
        if let Value::Exact(r) = self {
            map.serialize_entry("exact", &r.to_string())?;
        }
        map.serialize_entry("about", &self.middle())?;
        map.serialize_entry("at_least", &self.low())?;
        map.serialize_entry("at_most", &self.high())?;
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
            Value::Exact(r) => near(r).0,
            Value::Between(lo, _) => *lo,
        }
    }
    /// An upper bound.
    #[must_use]
    pub fn high(&self) -> f64 {
        match self {
            Value::Exact(r) => near(r).1,
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

/// The best value of an aim, among the plays that end.
#[derive(Clone, Debug, PartialEq)]
pub enum AimValue {
    /// This value, expected where chance takes part.
    Best(Value),
    /// It can be made as good as one likes. Without chance, a cycle that gains every time round: it begins and ends in the
    /// same state.
    Unbounded(Option<Route>),
    /// No play ever ends.
    NeverEnds,
    /// Not found, and why.
    Unknown(&'static str),
}

/// When values are computed as fractions, too.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Fractions {
    /// Where the space is small.
    #[default]
    WhereSmall,
    /// Always, as long as they fit a quarter of the memory.
    Always,
    /// Never.
    Never,
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
    /// Without chance: a play that reaches the best value of the aim.
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
    /// What was counted on the way. Edges are not.
    pub counts: Exploration,
    /// Fractions were asked for, and grew past the budget or were not proved.
    pub no_fractions: bool,
}

/// Why there are no answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoOdds {
    /// The model broke.
    Fault(Fault),
    /// This limit ended the computing, after so much was counted: states, those that are won, the nearest of these.
    Limit(Limit, Box<Exploration>),
}

/// Why a question about the next moves has no answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Broken {
    /// The model broke.
    Fault(Fault),
    /// This limit ended the computing, after so many states.
    Limit(Limit, u64),
}

/// The doubles around a fraction, or the one that it is.
fn near(r: &BigRational) -> Bounds {
    let x = r.to_f64().unwrap_or(f64::INFINITY);
    match BigRational::from_float(x) {
        Some(same) if same == *r => (x, x),
        _ => (x.next_down(), x.next_up()),
    }
}

/// Vertices and arrows of a space that is small enough for fractions.
const SMALL: usize = 200_000;
/// States that are looked at before the limits are looked at again.
const PIECE: u32 = 1 << 18;
/// Bytes that the fractions of a small space may take.
const SMALL_BYTES: u64 = 64 << 20;

/// Answers for everything that can be reached from the model's starts.
///
/// A limit that is met while the space is written out is noted in the counts; the intervals are then as wide as what was not
/// seen makes them.
///
/// # Errors
///
/// [`NoOdds`] when the model breaks, or a limit is hit later.
pub fn odds(
    model: &dyn Model,
    limits: &Limits,
    fractions: Fractions,
    watch: &dyn Watch,
) -> Result<Answers, NoOdds> {
    let mut g = Graph::written(model, limits, watch)?;
    valued(model, &mut g, limits, fractions, watch).map_err(|stop| match stop {
        Stopped::Fault(fault) => NoOdds::Fault(fault),
        Stopped::Limit(limit) => {
            let limit = g.limit.unwrap_or(limit);
            NoOdds::Limit(
                limit,
                Exploration { limit: Some(limit), complete: false, ..seen(model, &g) }.into(),
            )
        }
    })
}

/// Answers for a space that was written out.
fn valued(
    model: &dyn Model,
    g: &mut Graph,
    limits: &Limits,
    fractions: Fractions,
    watch: &dyn Watch,
) -> Result<Answers, Stopped> {
    let progress = Progress {
        states: g.states_len() as u64,
        expanded: g.states_len() as u64,
        depth: g.levels.len().saturating_sub(2) as u32,
        bytes: g.bytes(),
        numbers: None,
    };
    let pace = if g.limit.is_some() { Pace::wrapping_up(watch) } else { Pace::new(watch) };
    let mut pace = pace.at(progress);
    let parts = Parts::of(g, &mut pace)?;
    let marks = Marks::find(g, &parts, model.has_goal(), &mut pace)?;
    let g: &Graph = g;
    let counts = counted(model, g, &marks);
    let size = g.vertices_len() + g.arrows_len();
    let budget = match fractions {
        Fractions::Always => limits.memory_bytes / 4,
        Fractions::WhereSmall if size <= SMALL => SMALL_BYTES.min(limits.memory_bytes / 4),
        _ => 0,
    };
    let asked = Asking { model, g, parts: &parts, marks: &marks, budget };
    let mut answers = Answers {
        win: None,
        certain: g.starts.iter().all(|s| marks.has(s.0, CERTAIN)),
        almost_certain: g.starts.iter().all(|s| marks.has(s.0, ALMOST)),
        moves: None,
        aim: None,
        aim_play: None,
        blunders: None,
        from_start: asked.first_moves(),
        aside: asked.aside(&counts),
        acyclic: true,
        counts,
        no_fractions: false,
    };
    if model.has_goal() {
        asked.win(&mut answers, &mut pace)?;
        if answers.almost_certain {
            asked.moves(&mut answers, &mut pace)?;
        }
    }
    if let Some(aim) = model.aim() {
        asked.aim(aim, &mut answers, &mut pace)?;
    }
    answers.no_fractions &= fractions == Fractions::Always;
    Ok(answers)
}

/// What is known of the space by its marks.
fn counted(model: &dyn Model, g: &Graph, marks: &Marks) -> Exploration {
    let counts = seen(model, g);
    // Without chance both are the states that can be won: they are not counted apart.
    let among = |mark: u8| match model.is_sure() {
        true => 0,
        false => (0..g.states_len()).filter(|s| marks.of[*s] & mark != 0).count() as u64,
    };
    Exploration {
        transitions: g.transitions(),
        fatal_moves: marks.fatal_moves,
        fatal_draws: marks.fatal_draws,
        certain: among(CERTAIN).saturating_sub(counts.goal),
        almost_certain: among(ALMOST).saturating_sub(counts.goal),
        ..counts
    }
}

/// What was counted while the space was written out.
fn seen(model: &dyn Model, g: &Graph) -> Exploration {
    let mut tally = [0u64; 16];
    for class in &g.classes {
        tally[*class as usize] += 1;
    }
    let of = |class: Class| tally[class as usize];
    let states = g.states_len() as u64;
    let levels = g.levels.windows(2).map(|w| u64::from(w[1] - w[0]));
    let per_depth: Vec<u64> = levels.collect();
    let first_goal = g.classes.iter().position(|c| *c == Class::Goal);
    Exploration {
        complete: g.limit.is_none(),
        limit: g.limit,
        states,
        depth: per_depth.len().saturating_sub(1) as u32,
        per_depth,
        goal: of(Class::Goal),
        lost: of(Class::Lost),
        over: of(Class::Over),
        stuck: of(Class::Stuck),
        dead: of(Class::Dead),
        winnable: of(Class::Winnable),
        free: of(Class::Free),
        open: of(Class::Open),
        // States are numbered nearest first.
        shortest: first_goal.map(|s| g.levels.partition_point(|first| *first as usize <= s) as u32 - 1),
        chance: !model.is_sure(),
        cut: g.set_aside,
        bits_per_state: model.layout().bits,
        ..Exploration::default()
    }
}

/// Values of all vertices, as fractions where they were found.
struct Found {
    solved: Solved,
    exact: Option<Vec<BigRational>>,
}

/// Bounds as a value: exact where they meet.
fn value_of((lo, hi): Bounds) -> Value {
    match BigRational::from_float(lo) {
        Some(r) if lo == hi => Value::Exact(r),
        _ => Value::Between(lo, hi),
    }
}

/// The bounds of a chance: rounding goes outwards, and no chance is below 0 or above 1.
fn within_one((lo, hi): Bounds) -> Bounds {
    (lo.clamp(0.0, 1.0), hi.clamp(0.0, 1.0))
}

/// The bounds of a chance as a value.
fn chance_of(bounds: Bounds) -> Value {
    value_of(within_one(bounds))
}

impl Value {
    /// The same, which is a chance.
    fn within_one(self) -> Value {
        match self {
            Value::Between(lo, hi) => chance_of((lo, hi)),
            exact => exact,
        }
    }
}

struct Asking<'g> {
    model: &'g dyn Model,
    g: &'g Graph,
    parts: &'g Parts,
    marks: &'g Marks,
    /// Bytes that fractions may take.
    budget: u64,
}

impl Asking<'_> {
    /// Values all vertices.
    fn found(&self, task: &Task<'_>, no_fractions: &mut bool, pace: &mut Pace<'_>) -> Result<Found, Limit> {
        let wanted = self.budget > 0;
        let solved = task.solve(self.parts, wanted, pace)?;
        let starts = || self.g.starts.iter().map(|s| solved.values[s.0 as usize]);
        // Bounds that meet are exact as they are; what nothing is known of, or has no bound, has no fraction.
        let sure = starts().all(|b| b.0 == b.1) && task.mark.is_some();
        let open = self.g.limit.is_some() || self.g.set_aside || solved.unknown || solved.cycle.is_some();
        let exact = match wanted && !sure && !open {
            true => task.exact(self.parts, &solved, self.budget, pace)?,
            false => None,
        };
        *no_fractions |= exact.is_none() && !sure;
        Ok(Found { solved, exact })
    }

    /// The mean over the weighted starts.
    fn weighted(&self, found: &Found) -> Value {
        let starts = &self.g.starts;
        if let [(s, _)] = starts[..] {
            return self.at(found, s);
        }
        match &found.exact {
            Some(x) => {
                let total: BigRational = starts.iter().map(|s| BigRational::from_integer(s.1.into())).sum();
                let each =
                    starts.iter().map(|(s, w)| &x[*s as usize] * BigRational::from_integer((*w).into()));
                Value::Exact(each.sum::<BigRational>() / total)
            }
            None => {
                let values = &found.solved.values;
                value_of(interval::mean(starts.iter().map(|(s, w)| (*w, values[*s as usize])), 0.0))
            }
        }
    }

    /// The value of a vertex.
    fn at(&self, found: &Found, v: u32) -> Value {
        match &found.exact {
            Some(x) => Value::Exact(x[v as usize].clone()),
            None => value_of(found.solved.values[v as usize]),
        }
    }

    /// The value of an arc.
    fn arc(&self, task: &Task<'_>, found: &Found, arc: usize) -> Value {
        match &found.exact {
            Some(x) => Value::Exact(task.exact_arc(arc, x)),
            None => value_of(task.arc(arc, &found.solved.values)),
        }
    }

    /// Whether not everything was seen: states, or what is drawn after moves of states that were.
    fn is_open(&self, answers: &Answers) -> bool {
        answers.counts.open > 0 || self.g.limit.is_some()
    }

    /// The start, where there is one.
    fn only_start(&self) -> Option<u32> {
        match self.g.starts[..] {
            [(s, _)] => Some(s),
            _ => None,
        }
    }

    fn first_moves(&self) -> Vec<MoveOdds> {
        let g = self.g;
        let one = |a: usize| MoveOdds { of: g.of(a), outcomes: g.outcomes_len(a), win: None, aim: None };
        self.only_start().map(|s| g.arcs(s).map(one).collect()).unwrap_or_default()
    }

    /// With what chance each arc is set aside.
    fn aside(&self, counts: &Exploration) -> Option<(BigRational, Vec<BigRational>)> {
        if !(counts.cut && counts.complete) {
            return None;
        }
        let g = self.g;
        let stands = |t: u32| g.aside.binary_search(&t).is_ok();
        let of = |a: usize| {
            let to = g.to(a);
            if g.is_state(to) {
                return BigRational::from_integer(i32::from(stands(to)).into());
            }
            let (out, pattern) = g.outcomes(to);
            let aside = out.iter().zip(&pattern.weights).filter(|(t, _)| stands(**t));
            let weight: u128 = aside.map(|(_, w)| u128::from(*w)).sum();
            BigRational::new(weight.into(), pattern.total().into())
        };
        let most = (0..g.arcs_len()).map(of).max().unwrap_or_else(BigRational::zero);
        let here = self.only_start().map(|s| g.arcs(s).map(of).collect()).unwrap_or_default();
        Some((most, here))
    }

    fn win(&self, answers: &mut Answers, pace: &mut Pace<'_>) -> Result<(), Limit> {
        let g = self.g;
        let nothing = |_: u32| 0;
        let task = Task {
            g,
            marks: self.marks,
            most: true,
            gain: Gain::Nothing,
            mark: None,
            breaks_off: false,
            at_end: &nothing,
        };
        answers.acyclic = self.parts.has_none()
            || !self.parts.iter().any(|p| self.parts.has_cycle(p) && p.iter().any(|v| task.is_open(*v)));
        let found = self.found(&task, &mut answers.no_fractions, pace)?;
        answers.win = Some(self.weighted(&found).within_one());
        if let Some(s) = self.only_start() {
            for (m, a) in answers.from_start.iter_mut().zip(g.arcs(s)) {
                m.win = Some(self.arc(&task, &found, a).within_one());
            }
        }
        let lowers = |s: u32, a: &usize| match &found.exact {
            Some(x) => x[g.to(*a) as usize] < x[s as usize],
            None => found.solved.values[g.to(*a) as usize].1 < found.solved.values[s as usize].0,
        };
        // A move to what cannot be won is fatal, not a blunder.
        let of_state = |s: u32| match g.classes[s as usize] {
            Class::Winnable => {
                g.arcs(s).filter(|a| self.marks.has(g.to(*a), REACHES)).filter(|a| lowers(s, a)).count()
                    as u64
            }
            _ => 0,
        };
        let states = g.states_len() as u32;
        let (mut blunders, mut from) = (0, 0);
        while from < states {
            let to = (from + PIECE).min(states);
            pace.step(2 * u64::from(to - from))?;
            let piece = (from..to).into_par_iter().with_min_len(1 << 12).map(of_state);
            blunders += g.on_threads(|| piece.sum::<u64>());
            from = to;
        }
        answers.blunders = Some(blunders);
        Ok(())
    }

    fn moves(&self, answers: &mut Answers, pace: &mut Pace<'_>) -> Result<(), Limit> {
        let g = self.g;
        let nothing = |_: u32| 0;
        let task = Task {
            g,
            marks: self.marks,
            most: false,
            gain: Gain::One,
            mark: Some(ALMOST),
            breaks_off: false,
            at_end: &nothing,
        };
        let found = self.found(&task, &mut answers.no_fractions, pace)?;
        let mut value = self.weighted(&found);
        if self.is_open(answers) {
            // What was not seen may hold a shorter way, but none shorter than the way there. States lie by depth.
            let ends = |s: u32| match g.classes[s as usize] {
                Class::Goal | Class::Open => true,
                _ => g.arcs(s).any(|a| !g.is_state(g.to(a)) && !g.leads_on(g.to(a))),
            };
            let nearest = (0..g.states_len() as u32).find(|s| ends(*s));
            let level = |s: u32| g.levels.partition_point(|first| *first <= s) - 1;
            value = Value::Between((nearest.map_or(0, level) as f64).min(value.low()), value.high());
        }
        answers.moves = Some(value);
        Ok(())
    }

    fn aim(&self, aim: Aim, answers: &mut Answers, pace: &mut Pace<'_>) -> Result<(), Stopped> {
        let (model, g, marks) = (self.model, self.g, self.marks);
        if self.is_open(answers) {
            answers.aim = Some(AimValue::Unknown("states are open: not everything was seen"));
            return Ok(());
        }
        let ended =
            |s: u32| matches!(g.classes[s as usize], Class::Goal | Class::Lost | Class::Over | Class::Stuck);
        let states = 0..g.states_len() as u32;
        let ends = states.clone().any(ended);
        let mut measured: Vec<i64> = vec![];
        if !aim.is_score() {
            let mut worker = model.worker();
            measured.resize(g.states_len(), 0);
            for s in states.filter(|s| !ends || ended(*s)) {
                pace.step(16)?;
                measured[s as usize] = worker.measure(&g.state(s))?;
            }
            if !ends && model.is_sure() {
                // Play never ends: the best that is ever reached.
                let best = if aim.wants_most() { measured.iter().max() } else { measured.iter().min() };
                let best = BigRational::from_integer(best.copied().unwrap_or(0).into());
                answers.aim = Some(AimValue::Best(Value::Exact(best)));
                return Ok(());
            }
        }
        if !g.starts.iter().all(|s| marks.has(s.0, ENDS)) {
            let never = model.is_sure() && self.only_start().is_some() || !ends;
            answers.aim = Some(match (never, self.gains_for_ever(aim, pace)?) {
                (true, Some(cycle)) => AimValue::Unbounded(Some(cycle)),
                (true, None) => AimValue::NeverEnds,
                (false, _) => AimValue::Unknown("no way of playing ends with probability 1"),
            });
            return Ok(());
        }
        let at_end = |s: u32| measured.get(s as usize).copied().unwrap_or(0);
        let task = Task {
            g,
            marks,
            most: aim.wants_most(),
            gain: if aim.is_score() { Gain::Score } else { Gain::Nothing },
            mark: Some(ENDS),
            breaks_off: false,
            at_end: &at_end,
        };
        let found = self.found(&task, &mut answers.no_fractions, pace)?;
        let value = self.weighted(&found);
        let endless = |v: &Value| matches!(v, Value::Between(a, b) if a == b && a.is_infinite());
        if endless(&value) {
            let cycle = found.solved.cycle.as_ref().filter(|c| !c.is_empty());
            answers.aim = Some(AimValue::Unbounded(cycle.map(|c| self.round(c))));
            return Ok(());
        }
        if let Value::Between(a, b) = value
            && (a.is_infinite() || b.is_infinite())
        {
            answers.aim = Some(AimValue::Unknown("what its cycles gain and cost could not be told apart"));
            return Ok(());
        }
        answers.aim = Some(AimValue::Best(value));
        if let Some(s) = self.only_start() {
            for (m, a) in answers.from_start.iter_mut().zip(g.arcs(s)) {
                let value = self.arc(&task, &found, a);
                let known = marks.has(g.to(a), ENDS) && value.low().is_finite() && value.high().is_finite();
                m.aim = known.then_some(value);
            }
            if model.is_sure() {
                answers.aim_play = self.best_play(&task, &found, s);
            }
        }
        Ok(())
    }

    /// Without chance, where no play ends: a cycle that gains every time round.
    fn gains_for_ever(&self, aim: Aim, pace: &mut Pace<'_>) -> Result<Option<Route>, Limit> {
        if !aim.is_score() || !self.model.is_sure() {
            return Ok(None);
        }
        let nothing = |_: u32| 0;
        let task = Task {
            g: self.g,
            marks: self.marks,
            most: aim.wants_most(),
            gain: Gain::Score,
            mark: Some(SEEN),
            breaks_off: true,
            at_end: &nothing,
        };
        let cycle = task.solve(self.parts, false, pace)?.cycle;
        Ok(cycle.filter(|c| !c.is_empty()).map(|c| self.round(&c)))
    }

    /// A cycle as a route.
    fn round(&self, cycle: &[(u32, u32)]) -> Route {
        let mut states: Vec<Vec<u64>> = cycle.iter().map(|c| self.g.state(c.0)).collect();
        states.extend(states.first().cloned());
        Route { moves: cycle.iter().map(|c| self.g.of(c.1 as usize)).collect(), states }
    }

    /// Without chance: a shortest play along moves that keep the best value, first in move order.
    fn best_play(&self, task: &Task<'_>, found: &Found, start: u32) -> Option<Route> {
        let g = self.g;
        let values = &found.solved.values;
        let mut from: Vec<(u32, u32)> = vec![(u32::MAX, 0); g.states_len()];
        let mut queue = std::collections::VecDeque::from([start]);
        from[start as usize] = (start, 0);
        while let Some(s) = queue.pop_front() {
            if !g.leads_on(s) {
                let mut route = Route { moves: vec![], states: vec![g.state(s)] };
                let mut at = s;
                while at != start {
                    let (before, arc) = from[at as usize];
                    route.moves.push(g.of(arc as usize));
                    route.states.push(g.state(before));
                    at = before;
                }
                route.moves.reverse();
                route.states.reverse();
                return Some(route);
            }
            for a in g.arcs(s) {
                let to = g.to(a);
                if from[to as usize].0 == u32::MAX
                    && self.marks.has(to, ENDS)
                    && task.arc(a, values) == values[s as usize]
                {
                    from[to as usize] = (s, a as u32);
                    queue.push_back(to);
                }
            }
        }
        None
    }
}
