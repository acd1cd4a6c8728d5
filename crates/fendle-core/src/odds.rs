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
//! strongly connected part, successors first (Tarjan, 1972). Inside a part with a cycle the bounds are
//! iterated from below and from above; the upper bound of an end component is pulled down to its
//! best exit in every round (Haddad and Monmege, *Interval iteration for MDPs*, 2018; Kelmendi et al.,
//! 2018), since otherwise it would stay at 1 for ever. Expected moves: value iteration from
//! below, and a guess from above that is accepted only when one step of the equations does not
//! raise it (Hartmanns and Kaminski, *Optimistic value iteration*, 2020).
//!
//! O(|S| + |T|) numbers of memory and time for exact answers, whose fractions may grow with the depth.

use num_rational::BigRational;
use num_traits::{ToPrimitive, Zero};

use crate::explore::Explored;
use crate::limits::{Limits, Progress, Watch};
use crate::model::{Aim, Expansion, Fault, Model, MoveId, Odds};
use crate::route::Route;
use crate::space::{Class, Space, StateId};

/// A value that is known exactly, or from both sides.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// Exact.
    Exact(BigRational),
    /// At least the first and at most the second, both rounded outward.
    Between(f64, f64),
}

impl Value {
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

/// One step down.
fn below(x: f64) -> f64 {
    if x <= 0.0 && x > -f64::MIN_POSITIVE { x } else { x.next_down() }
}

/// One step up.
fn above(x: f64) -> f64 {
    x.next_up()
}

#[derive(Clone, Copy)]
struct RunAt {
    of: MoveId,
    first: u32,
    len: u32,
}

/// The space written out: for each state its runs, for each run its outcomes.
struct Graph {
    /// First run of a state, by id; one more entry at the end.
    runs_of: Vec<(u32, u32)>,
    runs: Vec<RunAt>,
    to: Vec<u32>,
    odds: Vec<Odds>,
    classes: Vec<Class>,
}

impl Graph {
    fn runs(&self, s: u32) -> &[RunAt] {
        let (from, to) = self.runs_of[s as usize];
        &self.runs[from as usize..to as usize]
    }
    fn outcomes(&self, r: RunAt) -> impl Iterator<Item = (u32, Odds)> + '_ {
        let range = r.first as usize..(r.first + r.len) as usize;
        self.to[range.clone()].iter().copied().zip(self.odds[range].iter().copied())
    }
    fn total(&self, r: RunAt) -> u128 {
        self.odds[r.first as usize..(r.first + r.len) as usize].iter().map(|o| u128::from(o.weight)).sum()
    }

    /// `None` when it would not fit the memory, or the watch says stop.
    fn new(model: &dyn Model, space: &Space, limits: &Limits, watch: &dyn Watch) -> Option<Graph> {
        let ids = space.ids_len();
        let mut g = Graph {
            runs_of: vec![(0, 0); ids],
            runs: vec![],
            to: vec![],
            odds: vec![],
            classes: vec![Class::Open; ids],
        };
        let words = model.layout().words();
        let mut worker = model.worker();
        let mut out = Expansion::default();
        for depth in 0..space.levels_len() {
            for (n, id) in space.level(depth).enumerate() {
                let class = space.class(id);
                g.classes[id.0 as usize] = class;
                if !matches!(class, Class::Winnable | Class::Dead | Class::Free | Class::Open) {
                    continue;
                }
                out.clear();
                worker.expand(&space.state(id), false, &mut out);
                let from = g.runs.len() as u32;
                let mut states = out.outcomes.chunks_exact(words);
                let mut at = 0;
                let before = (g.runs.len(), g.to.len());
                let mut whole = true;
                for run in &out.runs {
                    let first = g.to.len() as u32;
                    for state in states.by_ref().take(run.outcomes as usize) {
                        match space.find(state) {
                            Some(t) => g.to.push(t.0),
                            None => whole = false,
                        }
                        g.odds.push(out.odds.get(at).copied().unwrap_or(Odds::SURE));
                        at += 1;
                    }
                    g.runs.push(RunAt { of: run.of, first, len: run.outcomes });
                }
                if !whole {
                    // Not expanded within the limits: nothing is known behind it.
                    g.runs.truncate(before.0);
                    g.to.truncate(before.1);
                    g.odds.truncate(before.1);
                    g.classes[id.0 as usize] = Class::Open;
                }
                g.runs_of[id.0 as usize] = (from, g.runs.len() as u32);
                if n % 4096 == 0 {
                    let bytes = (g.to.len() * 36 + g.runs.len() * 12 + ids * 9) as u64;
                    let progress = Progress { states: space.states_len(), expanded: n as u64, depth, bytes };
                    if space.bytes() + bytes > limits.memory_bytes || watch.look(&progress).is_some() {
                        return None;
                    }
                }
            }
        }
        Some(g)
    }

    /// Strongly connected parts of the states that `inside` accepts, successors first (Tarjan).
    fn parts(&self, inside: impl Fn(u32) -> bool) -> Vec<Vec<u32>> {
        let n = self.classes.len();
        let mut index = vec![0u32; n];
        let mut low = vec![0u32; n];
        let mut on = vec![false; n];
        let (mut next, mut stack, mut parts) = (1u32, vec![], vec![]);
        // (state, next outcome): the outcomes of a state lie one after the other.
        let mut work: Vec<(u32, u32)> = vec![];
        let range = |s: u32| {
            let runs = self.runs(s);
            match (runs.first(), runs.last()) {
                (Some(a), Some(b)) => (a.first, b.first + b.len),
                _ => (0, 0),
            }
        };
        for root in 0..n as u32 {
            if index[root as usize] != 0 || !inside(root) {
                continue;
            }
            work.push((root, range(root).0));
            while let Some(&mut (s, ref mut at)) = work.last_mut() {
                let i = s as usize;
                if index[i] == 0 {
                    index[i] = next;
                    low[i] = next;
                    next += 1;
                    stack.push(s);
                    on[i] = true;
                }
                let end = range(s).1;
                let mut deeper = None;
                while *at < end {
                    let t = self.to[*at as usize];
                    *at += 1;
                    if !inside(t) {
                        continue;
                    }
                    if index[t as usize] == 0 {
                        deeper = Some(t);
                        break;
                    }
                    if on[t as usize] {
                        low[i] = low[i].min(index[t as usize]);
                    }
                }
                if let Some(t) = deeper {
                    work.push((t, range(t).0));
                    continue;
                }
                work.pop();
                if let Some(&(parent, _)) = work.last() {
                    low[parent as usize] = low[parent as usize].min(low[i]);
                }
                if low[i] == index[i] {
                    let mut part = vec![];
                    while let Some(t) = stack.pop() {
                        on[t as usize] = false;
                        part.push(t);
                        if t == s {
                            break;
                        }
                    }
                    parts.push(part);
                }
            }
        }
        parts
    }

    fn has_loop(&self, part: &[u32]) -> bool {
        part.len() > 1 || self.runs(part[0]).iter().any(|r| self.outcomes(*r).any(|(t, _)| t == part[0]))
    }
}

/// Values of all states: exact fractions, or bounds.
enum Values {
    Exact(Vec<BigRational>),
    Bounds(Vec<(f64, f64)>),
}

impl Values {
    fn get(&self, s: u32) -> Value {
        match self {
            Values::Exact(v) => Value::Exact(v[s as usize].clone()),
            Values::Bounds(v) => Value::Between(v[s as usize].0, v[s as usize].1),
        }
    }
}

/// What is computed: how a run is valued, and which of two runs is better.
struct Task<'g> {
    g: &'g Graph,
    /// Value of a state that is not looked into.
    fixed: Box<dyn Fn(u32) -> Option<(i64, i64)> + 'g>,
    /// Whether a run may be taken.
    allowed: Box<dyn Fn(RunAt) -> bool + 'g>,
    most: bool,
    /// What every move adds: 0, 1 for counting moves, or the score.
    gain: Gain,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Gain {
    Nothing,
    One,
    Score,
}

impl Task<'_> {
    fn exact_run(&self, r: RunAt, values: &[BigRational]) -> BigRational {
        let total = self.g.total(r);
        let mut sum = BigRational::zero();
        let mut score = 0i128;
        for (t, o) in self.g.outcomes(r) {
            let v = &values[t as usize];
            if !v.is_zero() {
                sum += v * BigRational::from_integer(o.weight.into());
            }
            score += i128::from(o.score);
        }
        match self.gain {
            Gain::Nothing => {}
            Gain::One => sum += BigRational::from_integer(total.into()),
            Gain::Score => sum += BigRational::from_integer(score.into()),
        }
        sum / BigRational::from_integer(total.into())
    }

    /// Exact values of states without cycles, successors first. `None` past the budget of bytes.
    fn exact(&self, parts: &[Vec<u32>], budget: u64) -> Option<Vec<BigRational>> {
        let n = self.g.classes.len();
        let mut values: Vec<BigRational> = (0..n as u32)
            .map(|s| match (self.fixed)(s) {
                Some((v, _)) if v != 0 => BigRational::from_integer(v.into()),
                _ => BigRational::zero(),
            })
            .collect();
        let mut bytes = n as u64 * 64;
        for part in parts {
            let s = part[0];
            let mut best: Option<BigRational> = None;
            for &r in self.g.runs(s).iter().filter(|r| (self.allowed)(**r)) {
                let v = self.exact_run(r, &values);
                let better = best.as_ref().is_none_or(|b| if self.most { v > *b } else { v < *b });
                if better {
                    best = Some(v);
                }
            }
            let best = best.unwrap_or_else(BigRational::zero);
            bytes += (best.numer().bits() + best.denom().bits()) / 8;
            if bytes > budget {
                return None;
            }
            values[s as usize] = best;
        }
        Some(values)
    }

    /// Exact values of states on cycles, where some best way of playing goes round none of them (staying in one
    /// state for a while aside). A way is guessed from the bounds, valued exactly, and then proved: no run is
    /// better than what it gives. For probabilities such values are above the true ones, for moves that each
    /// cost one they are the only solution (Bertsekas and Tsitsiklis, 1991). `None` where no such way is found.
    fn exact_by_policy(
        &self,
        parts: &[Vec<u32>],
        bounds: &[(f64, f64)],
        budget: u64,
    ) -> Option<Vec<BigRational>> {
        let n = self.g.classes.len();
        let mut values: Vec<BigRational> = (0..n as u32)
            .map(|s| match (self.fixed)(s) {
                Some((v, _)) if v != 0 => BigRational::from_integer(v.into()),
                _ => BigRational::zero(),
            })
            .collect();
        let mut known: Vec<bool> = (0..n as u32).map(|s| (self.fixed)(s).is_some()).collect();
        let open: Vec<u32> = parts.iter().flatten().copied().collect();
        // Runs that may be best, and how many of their outcomes are not valued yet.
        let mut waiting: Vec<(u32, RunAt, u32)> = vec![];
        let mut behind: Vec<Vec<u32>> = vec![vec![]; n];
        let mut ready: std::collections::VecDeque<u32> = Default::default();
        for &s in &open {
            let (lo, hi) = bounds[s as usize];
            for &r in self.g.runs(s).iter().filter(|r| (self.allowed)(**r)) {
                let (a, b) = self.bound_run(r, bounds);
                let near = 1e-7 * hi.abs().max(1.0);
                if if self.most { b < lo - near } else { a > hi + near } {
                    continue;
                }
                let mut to: Vec<u32> = self.g.outcomes(r).map(|o| o.0).filter(|t| *t != s).collect();
                to.sort_unstable();
                to.dedup();
                let at = waiting.len() as u32;
                let left = to.iter().filter(|t| !known[**t as usize]).count() as u32;
                for t in to.into_iter().filter(|t| !known[*t as usize]) {
                    behind[t as usize].push(at);
                }
                waiting.push((s, r, left));
                if left == 0 {
                    ready.push_back(at);
                }
            }
        }
        let mut bytes = n as u64 * 64;
        let mut valued = 0;
        while let Some(at) = ready.pop_front() {
            let (s, r, _) = waiting[at as usize];
            if known[s as usize] {
                continue;
            }
            let total = self.g.total(r);
            let stay: u128 = self.g.outcomes(r).filter(|o| o.0 == s).map(|o| u128::from(o.1.weight)).sum();
            if stay == total {
                continue;
            }
            // The state's own value is still 0 here: what stays counts for nothing.
            let v = self.exact_run(r, &values) * BigRational::new(total.into(), (total - stay).into());
            bytes += (v.numer().bits() + v.denom().bits()) / 8;
            if bytes > budget {
                return None;
            }
            values[s as usize] = v;
            known[s as usize] = true;
            valued += 1;
            for &w in &behind[s as usize] {
                let left = &mut waiting[w as usize].2;
                *left -= 1;
                if *left == 0 {
                    ready.push_back(w);
                }
            }
        }
        if valued < open.len() {
            return None;
        }
        let best = open.iter().all(|&s| {
            self.g.runs(s).iter().filter(|r| (self.allowed)(**r)).all(|&r| {
                let v = self.exact_run(r, &values);
                if self.most { v <= values[s as usize] } else { v >= values[s as usize] }
            })
        });
        best.then_some(values)
    }

    /// Bounds on the value of a run, rounded outward. All values are at least 0.
    fn bound_run(&self, r: RunAt, values: &[(f64, f64)]) -> (f64, f64) {
        let total = self.g.total(r) as f64;
        let (mut lo, mut hi) = (0.0f64, 0.0f64);
        for (t, o) in self.g.outcomes(r) {
            let (a, b) = values[t as usize];
            lo += o.weight as f64 * a;
            hi += o.weight as f64 * b;
        }
        lo /= total;
        hi /= total;
        if self.gain == Gain::One {
            lo += 1.0;
            hi += 1.0;
        }
        // Sums and products of n + 4 numbers that are not negative: the relative error is below this.
        let slack = (3 * r.len + 12) as f64 * f64::EPSILON;
        (below(lo * (1.0 - slack)).max(0.0), above(hi * (1.0 + slack)))
    }

    fn best(&self, s: u32, values: &[(f64, f64)]) -> Option<(f64, f64)> {
        let mut best: Option<(f64, f64)> = None;
        for &r in self.g.runs(s).iter().filter(|r| (self.allowed)(**r)) {
            let (lo, hi) = self.bound_run(r, values);
            best = Some(match best {
                None => (lo, hi),
                Some((a, b)) if self.most => (a.max(lo), b.max(hi)),
                Some((a, b)) => (a.min(lo), b.min(hi)),
            });
        }
        best
    }
}

/// How near the bounds of a start must come.
const NEAR: f64 = 1e-10;
/// Most rounds over one part.
const ROUNDS: usize = 200_000;

/// The largest sets of states of a part, with the runs that never leave them, in which play can stay for
/// ever (end components). By repeated splitting: de Alfaro, 1997, 3.3.
fn end_components(g: &Graph, part: &[u32]) -> Vec<Vec<u32>> {
    let mut work = vec![part.to_vec()];
    let mut out = vec![];
    while let Some(set) = work.pop() {
        let mut inside: std::collections::HashSet<u32> = set.iter().copied().collect();
        // States whose runs all leave go; until none does.
        loop {
            let stays = |s: &u32| g.runs(*s).iter().any(|r| g.outcomes(*r).all(|(t, _)| inside.contains(&t)));
            let gone: Vec<u32> = inside.iter().copied().filter(|s| !stays(s)).collect();
            if gone.is_empty() {
                break;
            }
            gone.iter().for_each(|s| {
                inside.remove(s);
            });
        }
        if inside.is_empty() {
            continue;
        }
        // Strongly connected by the runs that stay.
        let mut sub = Graph {
            runs_of: vec![(0, 0); g.classes.len()],
            runs: vec![],
            to: vec![],
            odds: vec![],
            classes: g.classes.clone(),
        };
        let mut list: Vec<u32> = inside.iter().copied().collect();
        list.sort_unstable();
        for &s in &list {
            let from = sub.runs.len() as u32;
            for r in g.runs(s) {
                if g.outcomes(*r).all(|(t, _)| inside.contains(&t)) {
                    let first = sub.to.len() as u32;
                    for (t, o) in g.outcomes(*r) {
                        sub.to.push(t);
                        sub.odds.push(o);
                    }
                    sub.runs.push(RunAt { of: r.of, first, len: r.len });
                }
            }
            sub.runs_of[s as usize] = (from, sub.runs.len() as u32);
        }
        let parts = sub.parts(|s| inside.contains(&s));
        if parts.len() == 1 && parts[0].len() == list.len() {
            out.push(list);
        } else {
            work.extend(parts);
        }
    }
    out
}

/// Bounds on the best probability to win.
fn win_bounds(g: &Graph, task: &Task<'_>, parts: &[Vec<u32>], watch: &dyn Watch) -> Vec<(f64, f64)> {
    let mut values: Vec<(f64, f64)> = (0..g.classes.len() as u32)
        .map(|s| match (task.fixed)(s) {
            Some((lo, hi)) => (lo as f64, hi as f64),
            None => (0.0, 1.0),
        })
        .collect();
    for part in parts {
        if !g.has_loop(part) {
            if let Some((lo, hi)) = task.best(part[0], &values) {
                values[part[0] as usize] = (lo.max(0.0), hi.min(1.0));
            }
            continue;
        }
        let ends = end_components(g, part);
        let mut of_end = std::collections::HashMap::new();
        for (k, end) in ends.iter().enumerate() {
            end.iter().for_each(|s| {
                of_end.insert(*s, k);
            });
        }
        for round in 0..ROUNDS {
            let mut widest = 0.0f64;
            let mut changed = false;
            for &s in part {
                if let Some((lo, hi)) = task.best(s, &values) {
                    let old = values[s as usize];
                    let new = (old.0.max(lo), old.1.min(hi));
                    changed |= new != old;
                    values[s as usize] = new;
                }
                widest = widest.max(values[s as usize].1 - values[s as usize].0);
            }
            for (k, end) in ends.iter().enumerate() {
                let stays = |r: &RunAt| g.outcomes(*r).all(|(t, _)| of_end.get(&t) == Some(&k));
                let exit = end
                    .iter()
                    .flat_map(|s| g.runs(*s))
                    .filter(|r| !stays(r))
                    .map(|r| task.bound_run(*r, &values).1)
                    .fold(0.0f64, f64::max);
                // All of an end component can reach each other: the best exit is open to all.
                let low = end.iter().map(|s| values[*s as usize].0).fold(0.0f64, f64::max);
                for s in end {
                    let old = values[*s as usize];
                    let new = (old.0.max(low), old.1.min(exit));
                    changed |= new != old;
                    values[*s as usize] = new;
                }
            }
            if widest < NEAR || !changed {
                break;
            }
            if round % 256 == 255 && watch.look(&Progress::default()).is_some() {
                break;
            }
        }
    }
    values
}

/// Bounds on the least expected number of moves, in states that reach a goal with probability 1.
fn move_bounds(g: &Graph, task: &Task<'_>, parts: &[Vec<u32>], watch: &dyn Watch) -> Vec<(f64, f64)> {
    let n = g.classes.len();
    let mut values: Vec<(f64, f64)> = (0..n as u32)
        .map(|s| if (task.fixed)(s).is_some() { (0.0, 0.0) } else { (0.0, f64::INFINITY) })
        .collect();
    for part in parts {
        if !g.has_loop(part) {
            if let Some(v) = task.best(part[0], &values) {
                values[part[0] as usize] = v;
            }
            continue;
        }
        let mut need = 64;
        for round in 1..ROUNDS {
            let mut step = 0.0f64;
            for &s in part {
                if let Some((lo, _)) = task.best(s, &values) {
                    let old = values[s as usize].0;
                    step = step.max(lo - old);
                    values[s as usize].0 = old.max(lo);
                }
            }
            if round < need && step > 0.0 {
                continue;
            }
            need = round + round / 2 + 64;
            // A guess a little above; if one step raises no state, it is above the true values.
            for relative in [1e-11, 1e-8, 1e-5, 1e-2] {
                let mut guess = values.clone();
                for &s in part {
                    guess[s as usize].1 = above(guess[s as usize].0 * (1.0 + relative) + relative);
                }
                let mut holds = false;
                for _ in 0..64 {
                    holds = true;
                    let mut lower = guess.clone();
                    for &s in part {
                        if let Some((_, hi)) = task.best(s, &guess) {
                            holds &= hi <= guess[s as usize].1;
                            lower[s as usize].1 = hi.min(guess[s as usize].1);
                        }
                    }
                    if holds {
                        break;
                    }
                    guess = lower;
                }
                if holds {
                    for &s in part {
                        values[s as usize].1 = guess[s as usize].1;
                    }
                    break;
                }
            }
            let wide = part.iter().map(|s| values[*s as usize]).any(|(lo, hi)| hi - lo > 1e-9 * hi.max(1.0));
            if !wide || watch.look(&Progress::default()).is_some() || step == 0.0 {
                break;
            }
        }
    }
    values
}

/// Answers for an explored space.
///
/// # Errors
///
/// A [`Fault`] when the aim's value breaks the model.
pub fn odds(
    model: &dyn Model,
    found: &Explored,
    limits: &Limits,
    watch: &dyn Watch,
) -> Result<Option<Answers>, Fault> {
    let space = &found.space;
    let Some(g) = Graph::new(model, space, limits, watch) else { return Ok(None) };
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
    let first = (starts.len() == 1).then(|| starts[0].0);
    let mut moves: Vec<MoveOdds> = first
        .map(|s| {
            g.runs(s).iter().map(|r| MoveOdds { of: r.of, outcomes: r.len, win: None, aim: None }).collect()
        })
        .unwrap_or_default();
    if model.has_goal() {
        let fixed = |s: u32| match g.classes[s as usize] {
            Class::Goal => Some((1, 1)),
            Class::Winnable if space.is_almost_certain(StateId(s)) => Some((1, 1)),
            Class::Winnable => None,
            Class::Open => Some((0, 1)),
            _ => Some((0, 0)),
        };
        let parts = g.parts(|s| fixed(s).is_none());
        answers.acyclic = !parts.iter().any(|p| g.has_loop(p));
        let task = Task {
            g: &g,
            fixed: Box::new(fixed),
            allowed: Box::new(|_| true),
            most: true,
            gain: Gain::Nothing,
        };
        let exact = if answers.acyclic && !open { task.exact(&parts, budget) } else { None };
        let values = match exact {
            Some(v) => Values::Exact(v),
            None => {
                let bounds = win_bounds(&g, &task, &parts, watch);
                let sure = if open { None } else { task.exact_by_policy(&parts, &bounds, budget) };
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
            answers.moves = Some(least_moves(&g, space, starts, weights, budget, watch));
        }
    }
    if found.counts.cut && found.counts.complete {
        // The state that stands for them has ended in its own way: it is open and leads nowhere.
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
        let (value, by_move, play) = aim_value(model, found, &g, aim, budget)?;
        answers.aim_play = play;
        for (m, v) in moves.iter_mut().zip(by_move) {
            m.aim = v;
        }
        answers.aim = Some(value);
    }
    answers.from_start = moves;
    Ok(Some(answers))
}

fn weighted(starts: &[StateId], weights: &[u64], values: &Values) -> Value {
    let total: u128 = weights.iter().map(|w| u128::from(*w)).sum();
    match values {
        Values::Exact(v) => {
            let mut sum = BigRational::zero();
            for (s, w) in starts.iter().zip(weights) {
                sum += &v[s.0 as usize] * BigRational::from_integer((*w).into());
            }
            Value::Exact(sum / BigRational::from_integer(total.into()))
        }
        Values::Bounds(v) => {
            let (mut lo, mut hi) = (0.0, 0.0);
            for (s, w) in starts.iter().zip(weights) {
                lo += v[s.0 as usize].0 * *w as f64;
                hi += v[s.0 as usize].1 * *w as f64;
            }
            let slack = (3 * starts.len() + 12) as f64 * f64::EPSILON;
            let total = total as f64;
            if starts.len() == 1 {
                let (lo, hi) = v[starts[0].0 as usize];
                return Value::Between(lo, hi);
            }
            Value::Between((lo / total * (1.0 - slack)).max(0.0), hi / total * (1.0 + slack))
        }
    }
}

fn least_moves(
    g: &Graph,
    space: &Space,
    starts: &[StateId],
    weights: &[u64],
    budget: u64,
    watch: &dyn Watch,
) -> Value {
    let sure = |s: u32| {
        let class = g.classes[s as usize];
        class == Class::Goal || class == Class::Winnable && space.is_almost_certain(StateId(s))
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
    let parts = g.parts(|s| fixed(s).is_none());
    let exact = if parts.iter().any(|p| g.has_loop(p)) { None } else { task.exact(&parts, budget) };
    let values = match exact {
        Some(v) => Values::Exact(v),
        None => {
            let bounds = move_bounds(g, &task, &parts, watch);
            task.exact_by_policy(&parts, &bounds, budget).map_or(Values::Bounds(bounds), Values::Exact)
        }
    };
    weighted(starts, weights, &values)
}

type AimAnswer = (AimValue, Vec<Option<Value>>, Option<Route>);

fn aim_value(
    model: &dyn Model,
    found: &Explored,
    g: &Graph,
    aim: Aim,
    budget: u64,
) -> Result<AimAnswer, Fault> {
    let space = &found.space;
    let unknown = |why| Ok((AimValue::Unknown(why), vec![], None));
    if found.counts.open > 0 {
        return unknown("states are open: not everything was seen");
    }
    let running = |s: u32| matches!(g.classes[s as usize], Class::Winnable | Class::Dead | Class::Free);
    let seen: Vec<bool> = {
        let mut seen = vec![false; g.classes.len()];
        for depth in 0..space.levels_len() {
            space.level(depth).for_each(|id| seen[id.0 as usize] = true);
        }
        seen
    };
    let parts = g.parts(|s| seen[s as usize] && running(s));
    let loops: Vec<&Vec<u32>> = parts.iter().filter(|p| g.has_loop(p)).collect();
    let mut measured = vec![0i64; g.classes.len()];
    let ends = (0..g.classes.len()).any(|s| seen[s] && !running(s as u32));
    if !aim.is_score() {
        let mut worker = model.worker();
        for s in (0..g.classes.len()).filter(|&s| seen[s] && (!ends || !running(s as u32))) {
            measured[s] = worker.measure(&space.state(StateId(s as u32)))?;
        }
        if !ends {
            // Play never ends: the best that is ever reached.
            let all = (0..g.classes.len()).filter(|&s| seen[s]).map(|s| measured[s]);
            let best = if aim.wants_most() { all.max() } else { all.min() };
            let value = BigRational::from_integer(best.unwrap_or(0).into());
            return Ok((AimValue::Best(Value::Exact(value)), vec![], None));
        }
    }
    if !loops.is_empty() {
        let inside = |part: &[u32]| {
            let set: std::collections::HashSet<u32> = part.iter().copied().collect();
            let scores: Vec<(i64, i64)> = part
                .iter()
                .flat_map(|s| g.runs(*s))
                .flat_map(|r| g.outcomes(*r))
                .filter(|(t, _)| set.contains(t))
                .map(|(_, o)| (o.least, o.most))
                .collect();
            scores
        };
        if aim.is_score() {
            let scores: Vec<(i64, i64)> = loops.iter().flat_map(|p| inside(p)).collect();
            let gains = |s: &(i64, i64)| if aim == Aim::MostScore { s.1 > 0 } else { s.0 < 0 };
            let costs = |s: &(i64, i64)| if aim == Aim::MostScore { s.0 < 0 } else { s.1 > 0 };
            if scores.iter().any(gains) {
                if model.is_sure() && !scores.iter().any(costs) {
                    return Ok((AimValue::Unbounded, vec![], None));
                }
                return unknown("the space has cycles that gain and cost, or whose gain depends on chance");
            }
        }
        if !model.is_sure() {
            return unknown("the space has cycles, and chance takes part");
        }
        return Ok((looped_aim(g, &parts, &measured, aim, space.starts()), vec![], None));
    }
    let task = Task {
        g,
        fixed: Box::new(|s| {
            (!seen[s as usize] || !running(s)).then(|| (measured[s as usize], measured[s as usize]))
        }),
        allowed: Box::new(|_| true),
        most: aim.wants_most(),
        gain: if aim.is_score() { Gain::Score } else { Gain::Nothing },
    };
    let Some(values) = task.exact(&parts, budget) else {
        return unknown("the fractions grow past the budget");
    };
    let by_move = match space.starts() {
        [one] => g.runs(one.0).iter().map(|r| Some(Value::Exact(task.exact_run(*r, &values)))).collect(),
        _ => vec![],
    };
    let play = match space.starts() {
        [one] if model.is_sure() => {
            let mut play = Route { moves: vec![], states: vec![space.state(*one)] };
            let mut s = one.0;
            // Without cycles every step leads on, and play ends.
            while let Some(r) = g
                .runs(s)
                .iter()
                .filter(|_| running(s))
                .find(|r| task.exact_run(**r, &values) == values[s as usize])
            {
                s = g.to[r.first as usize];
                play.moves.push(r.of);
                play.states.push(space.state(StateId(s)));
            }
            Some(play)
        }
        _ => None,
    };
    let best = weighted(space.starts(), space.start_weights(), &Values::Exact(values));
    Ok((AimValue::Best(best), by_move, play))
}

/// Without chance, and with cycles that gain nothing: the best way out of each part.
fn looped_aim(g: &Graph, parts: &[Vec<u32>], measured: &[i64], aim: Aim, starts: &[StateId]) -> AimValue {
    let mut best: Vec<Option<i64>> = measured
        .iter()
        .enumerate()
        .map(|(s, m)| {
            (!matches!(g.classes[s], Class::Winnable | Class::Dead | Class::Free))
                .then_some(if aim.is_score() { 0 } else { *m })
        })
        .collect();
    for part in parts {
        let set: std::collections::HashSet<u32> = part.iter().copied().collect();
        let mut value: Option<i64> = None;
        for r in part.iter().flat_map(|s| g.runs(*s)) {
            for (t, o) in g.outcomes(*r) {
                if set.contains(&t) {
                    continue;
                }
                let gain = if aim.is_score() { o.score } else { 0 };
                if let Some(v) = best[t as usize].map(|v| v + gain) {
                    value =
                        Some(value.map_or(v, |old| if aim.wants_most() { old.max(v) } else { old.min(v) }));
                }
            }
        }
        for s in part {
            best[*s as usize] = value;
        }
    }
    match starts.first().and_then(|s| best[s.0 as usize]) {
        Some(v) if starts.len() == 1 => AimValue::Best(Value::Exact(BigRational::from_integer(v.into()))),
        Some(_) => AimValue::Unknown("several starts"),
        // Play can only go round for ever: it gains nothing.
        None if aim.is_score() => AimValue::Best(Value::Exact(BigRational::zero())),
        None => AimValue::Unknown("play from here never ends"),
    }
}
