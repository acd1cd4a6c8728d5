//! Sums over parts with cycles and draws: expected moves, expected scores.
//!
//! As in optimistic value iteration (Hartmanns and Kaminski, *Optimistic value iteration*, 2020): the equations are iterated,
//! and what they come to is a guess. A guess a little better is a bound if no option is better than it says; a guess a little
//! worse is one if a way of playing that ends is seen to reach it.

use super::interval::Bounds;
use super::knot::{Knot, NONE, Rounds, rounds};
use super::order::Local;
use super::values::{Choices, ROUNDS, Solved, Task};
use crate::limits::{Limit, Pace};

/// How much better or worse the guesses are, at each move, beside the greatest value.
const TILTS: [f64; 5] = [1e-13, 1e-11, 1e-9, 1e-6, 1e-3];
/// Most rounds for one of them.
const TILTED_ROUNDS: usize = 2000;
/// Rounds end when no value changes by more than this, beside itself.
const STILL: f64 = 1e-15;

fn middle((lo, hi): Bounds) -> f64 {
    f64::midpoint(lo, hi)
}

/// The equations of a part, as they are iterated.
struct Equations<'e> {
    task: &'e Task<'e>,
    knot: &'e Knot,
    local: &'e Local,
    values: &'e [Bounds],
    /// The decisions, those with a way out first.
    order: Vec<usize>,
}

impl Equations<'_> {
    fn option(&self, x: &[Bounds], d: usize, option: usize) -> Bounds {
        self.knot.option(self.task, self.local, x, self.values, self.knot.options[d][option])
    }

    /// The best option of a decision, the first of equals.
    fn best(&self, x: &[Bounds], d: usize) -> Option<usize> {
        let mut best: Option<(f64, usize)> = None;
        for k in 0..self.knot.options[d].len() {
            let value = middle(self.option(x, d, k));
            if best.is_none_or(|(b, _)| if self.task.most { value > b } else { value < b }) {
                best = Some((value, k));
            }
        }
        best.map(|b| b.1)
    }

    /// Iterates, by the best options or by those that were chosen, with `tilt` added at each move.
    fn run(
        &self,
        x: &mut [Bounds],
        chosen: Option<&[usize]>,
        tilt: f64,
        rounds: usize,
        pace: &mut Pace<'_>,
    ) -> Result<(), Limit> {
        let worst = if self.task.most { f64::NEG_INFINITY } else { f64::INFINITY };
        for _ in 0..rounds {
            let mut change = 0.0f64;
            for &d in &self.order {
                pace.step(4 * self.knot.options[d].len() as u64)?;
                let option = chosen.map_or_else(|| self.best(x, d), |c| Some(c[d]));
                let v = option.map_or(worst, |k| middle(self.option(x, d, k))) + tilt;
                change = change.max((v - x[d].0).abs() / v.abs().max(1.0));
                x[d] = (v, v);
            }
            if change < STILL {
                break;
            }
        }
        Ok(())
    }

    /// Values near `x` that surely bound the true ones: no way of playing is better; or, by the options that were chosen, what
    /// these reach at the least.
    fn bound(
        &self,
        x: &[Bounds],
        chosen: Option<&[usize]>,
        pace: &mut Pace<'_>,
    ) -> Result<Option<Vec<f64>>, Limit> {
        // Upwards: the most that can be had, or the least number of moves that a way of playing needs at the most.
        let up = self.task.most == chosen.is_none();
        let great = x.iter().map(|b| b.0.abs()).fold(1.0f64, f64::max);
        for tilt in TILTS {
            let mut guess = x.to_vec();
            self.run(&mut guess, chosen, if up { tilt } else { -tilt } * great, TILTED_ROUNDS, pace)?;
            let holds = |d: usize, k: usize| {
                let v = self.option(&guess, d, k);
                if up { v.1 <= guess[d].0 } else { v.0 >= guess[d].0 }
            };
            let all = (0..guess.len()).all(|d| match chosen {
                Some(c) => holds(d, c[d]),
                None => (0..self.knot.options[d].len()).all(|k| holds(d, k)),
            });
            if all {
                return Ok(Some(guess.iter().map(|b| b.0).collect()));
            }
        }
        Ok(None)
    }
}

impl Task<'_> {
    /// Sums in a part with cycles and draws.
    pub(super) fn sums(
        &self,
        local: &Local,
        solved: &mut Solved,
        pace: &mut Pace<'_>,
    ) -> Result<Choices, Limit> {
        let groups = match rounds(self, &local.members, pace)? {
            Rounds::Free(groups) => groups,
            Rounds::Gain => {
                self.without_bound(local, solved);
                solved.cycle.get_or_insert_default();
                return Ok(vec![]);
            }
            Rounds::Unknown => {
                self.not_known(local, solved);
                return Ok(vec![]);
            }
        };
        let knot = Knot::new(self, local, &groups);
        let n = knot.states.len();
        let order = self.nearest_first(&knot, local);
        let equations = Equations { task: self, knot: &knot, local, values: &solved.values, order };
        let mut x: Vec<Bounds> = vec![(0.0, 0.0); n];
        equations.run(&mut x, None, 0.0, ROUNDS, pace)?;
        let chosen: Option<Vec<usize>> = (0..n).map(|d| equations.best(&x, d)).collect();
        let beyond = equations.bound(&x, None, pace)?;
        let reached = match chosen.filter(|c| self.ends_by(&knot, local, c)) {
            Some(chosen) => equations.bound(&x, Some(&chosen), pace)?,
            None => None,
        };
        let (lower, upper) = if self.most { (reached, beyond) } else { (beyond, reached) };
        let at = |side: &Option<Vec<f64>>, d: usize, open: f64| side.as_ref().map_or(open, |s| s[d]);
        let x: Vec<Bounds> =
            (0..n).map(|d| (at(&lower, d, f64::NEG_INFINITY), at(&upper, d, f64::INFINITY))).collect();
        solved.unknown |= lower.is_none() || upper.is_none();
        Ok(self.write_values(&knot, local, &x, solved))
    }

    /// Whether play leaves the part with probability 1 by the chosen options: from every decision there is a way out.
    fn ends_by(&self, knot: &Knot, local: &Local, chosen: &[usize]) -> bool {
        let g = self.g;
        let n = knot.states.len();
        let mut behind: Vec<Vec<u32>> = vec![vec![]; n];
        let mut work = vec![];
        for (d, taken) in chosen.iter().enumerate() {
            let Some((_, arc)) = knot.options[d].get(*taken) else { return false };
            let to = g.to(*arc as usize);
            let one = [to];
            let targets: &[u32] = if g.is_state(to) { &one } else { g.outcomes(to).0 };
            let mut out = false;
            for t in targets {
                match local.number(*t).map(|i| knot.decision_of[i]) {
                    Some(e) if e != NONE => behind[e as usize].push(d as u32),
                    _ => out = true,
                }
            }
            if out {
                work.push(d);
            }
        }
        let mut seen = vec![false; n];
        work.iter().for_each(|d| seen[*d] = true);
        while let Some(d) = work.pop() {
            for &from in &behind[d] {
                if !std::mem::replace(&mut seen[from as usize], true) {
                    work.push(from as usize);
                }
            }
        }
        seen.iter().all(|s| *s)
    }
}
