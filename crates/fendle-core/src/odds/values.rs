//! Values of states for the best way of playing: exact fractions, or bounds from both sides.

use num_rational::BigRational;
use num_traits::Zero;

use super::graph::{Graph, RunAt, end_components};
use super::{Value, above, below};
use crate::limits::{Limit, Pace};
use crate::space::StateId;

/// Values of all states: exact fractions, or bounds.
pub(super) enum Values {
    /// One for each state.
    Exact(Vec<BigRational>),
    /// At least and at most, for each state.
    Bounds(Vec<(f64, f64)>),
}

impl Values {
    pub(super) fn get(&self, s: u32) -> Value {
        match self {
            Values::Exact(v) => Value::Exact(v[s as usize].clone()),
            Values::Bounds(v) => Value::Between(v[s as usize].0, v[s as usize].1),
        }
    }
}

/// What is computed: how a run is valued, and which of two runs is better.
pub(super) struct Task<'g> {
    pub(super) g: &'g Graph,
    /// Value of a state that is not looked into.
    pub(super) fixed: Box<dyn Fn(u32) -> Option<(i64, i64)> + 'g>,
    /// Whether a run may be taken.
    pub(super) allowed: Box<dyn Fn(RunAt) -> bool + 'g>,
    pub(super) most: bool,
    /// What every move adds: 0, 1 for counting moves, or the score.
    pub(super) gain: Gain,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Gain {
    Nothing,
    One,
    Score,
}

impl Task<'_> {
    pub(super) fn exact_run(&self, r: RunAt, values: &[BigRational]) -> BigRational {
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

    /// The values of states that have one of their own, 0 for the others.
    fn fixed_values(&self) -> Vec<BigRational> {
        let value = |s| (self.fixed)(s).map_or(0, |(v, _)| v);
        (0..self.g.classes.len() as u32).map(|s| BigRational::from_integer(value(s).into())).collect()
    }

    /// Exact values of states without cycles, successors first. `None` past the budget of bytes.
    pub(super) fn exact(
        &self,
        parts: &[Vec<u32>],
        budget: u64,
        pace: &mut Pace<'_>,
    ) -> Result<Option<Vec<BigRational>>, Limit> {
        let n = self.g.classes.len();
        let mut values = self.fixed_values();
        let mut bytes = n as u64 * 64;
        for part in parts {
            pace.step(FRACTION_STEPS)?;
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
                return Ok(None);
            }
            values[s as usize] = best;
        }
        Ok(Some(values))
    }

    /// Exact values of states on cycles, where some best way of playing goes round none of them (staying in one
    /// state for a while aside). A way is guessed from the bounds, valued exactly, and then proved: no run is
    /// better than what it gives. For probabilities such values are above the true ones, for moves that each
    /// cost one they are the only solution (Bertsekas and Tsitsiklis, 1991). `None` where no such way is found.
    pub(super) fn exact_by_policy(
        &self,
        parts: &[Vec<u32>],
        bounds: &[(f64, f64)],
        budget: u64,
        pace: &mut Pace<'_>,
    ) -> Result<Option<Vec<BigRational>>, Limit> {
        let n = self.g.classes.len();
        let mut values = self.fixed_values();
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
            pace.step(FRACTION_STEPS)?;
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
                return Ok(None);
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
            return Ok(None);
        }
        for &s in &open {
            pace.step(FRACTION_STEPS)?;
            for &r in self.g.runs(s).iter().filter(|r| (self.allowed)(**r)) {
                let v = self.exact_run(r, &values);
                if if self.most { v > values[s as usize] } else { v < values[s as usize] } {
                    return Ok(None);
                }
            }
        }
        Ok(Some(values))
    }

    /// Bounds on the value of a run, rounded outward. All values are at least 0.
    pub(super) fn bound_run(&self, r: RunAt, values: &[(f64, f64)]) -> (f64, f64) {
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

    pub(super) fn best(&self, s: u32, values: &[(f64, f64)]) -> Option<(f64, f64)> {
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
/// What valuing one state by fractions counts, in steps of a [`Pace`].
const FRACTION_STEPS: u64 = 64;
/// Most rounds over one part.
const ROUNDS: usize = 200_000;

/// Bounds on the best probability to win.
pub(super) fn win_bounds(
    g: &Graph,
    task: &Task<'_>,
    parts: &[Vec<u32>],
    pace: &mut Pace<'_>,
) -> Result<Vec<(f64, f64)>, Limit> {
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
        let ends = end_components(g, part, pace)?;
        let mut of_end = std::collections::HashMap::new();
        for (k, end) in ends.iter().enumerate() {
            end.iter().for_each(|s| {
                of_end.insert(*s, k);
            });
        }
        for _ in 0..ROUNDS {
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
            pace.step(8 * part.len() as u64)?;
        }
    }
    Ok(values)
}

/// Bounds on the least expected number of moves, in states that reach a goal with probability 1.
pub(super) fn move_bounds(
    g: &Graph,
    task: &Task<'_>,
    parts: &[Vec<u32>],
    pace: &mut Pace<'_>,
) -> Result<Vec<(f64, f64)>, Limit> {
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
            pace.step(8 * part.len() as u64)?;
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
                    pace.step(8 * part.len() as u64)?;
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
            if !wide || step == 0.0 {
                break;
            }
        }
    }
    Ok(values)
}

pub(super) fn weighted(starts: &[StateId], weights: &[u64], values: &Values) -> Value {
    let total: u128 = weights.iter().map(|w| u128::from(*w)).sum();
    match values {
        Values::Exact(v) => {
            let mut sum = BigRational::zero();
            for (s, w) in starts.iter().zip(weights) {
                sum += &v[s.index()] * BigRational::from_integer((*w).into());
            }
            Value::Exact(sum / BigRational::from_integer(total.into()))
        }
        Values::Bounds(v) => {
            let (mut lo, mut hi) = (0.0, 0.0);
            for (s, w) in starts.iter().zip(weights) {
                lo += v[s.index()].0 * *w as f64;
                hi += v[s.index()].1 * *w as f64;
            }
            let slack = (3 * starts.len() + 12) as f64 * f64::EPSILON;
            let total = total as f64;
            if starts.len() == 1 {
                let (lo, hi) = v[starts[0].index()];
                return Value::Between(lo, hi);
            }
            Value::Between((lo / total * (1.0 - slack)).max(0.0), hi / total * (1.0 + slack))
        }
    }
}
