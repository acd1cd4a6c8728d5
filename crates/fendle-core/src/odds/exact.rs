//! Values as fractions, where they are not too long.
//!
//! A vertex on no cycle is valued from those behind it. In a part with cycles a way of playing is guessed from the bounds, its
//! equations are solved, and it is accepted when no option is better than what it gives: then it is the best (Howard, *Dynamic
//! Programming and Markov Processes*, 1960). Where one is better the way is changed and valued again.

use num_rational::BigRational;
use num_traits::{One, Zero};

use super::graph::Pattern;
use super::knot::{Knot, NONE};
use super::order::{Arrows, Local, Parts};
use super::values::{Solved, Task};
use crate::components::components;
use crate::limits::{Limit, Pace};

/// What valuing one vertex by fractions counts, in steps of a [`Pace`].
const STEPS: u64 = 64;
/// Most decisions that are solved for together.
const TOGETHER: usize = 64;
/// How often a way of playing is changed.
const CHANGES: usize = 100;

fn int(n: i128) -> BigRational {
    BigRational::from_integer(n.into())
}

impl Task<'_> {
    /// The scores of a pattern that matter, as one sum.
    fn exact_scores(&self, pattern: &Pattern) -> i128 {
        self.each_score(pattern).map(i128::from).sum()
    }

    /// The value of an arc, given those behind it.
    pub(super) fn exact_arc(&self, arc: usize, values: &[BigRational]) -> BigRational {
        let behind = &values[self.g.to(arc) as usize];
        match self.gain(arc) {
            0 => behind.clone(),
            gain => behind + int(gain.into()),
        }
    }

    fn exact_node(&self, node: u32, value: impl Fn(u32) -> BigRational) -> BigRational {
        let (out, pattern) = self.g.outcomes(node);
        let mut sum = int(self.exact_scores(pattern));
        for (t, w) in out.iter().zip(&pattern.weights) {
            let v = value(*t);
            if !v.is_zero() {
                sum += v * int((*w).into());
            }
        }
        sum / BigRational::from_integer(pattern.total().into())
    }

    fn is_better(&self, a: &BigRational, b: &BigRational) -> bool {
        if self.most { a > b } else { a < b }
    }

    /// All values as fractions; `None` where they grow past `budget` bytes, or no best way of playing was proved. Vertices of
    /// which nothing is known must not matter.
    pub(super) fn exact(
        &self,
        parts: &Parts,
        solved: &Solved,
        budget: u64,
        pace: &mut Pace<'_>,
    ) -> Result<Option<Vec<BigRational>>, Limit> {
        let g = self.g;
        let n = g.vertices_len();
        let sure = |v: usize| match solved.values[v] {
            (lo, hi) if lo == hi => BigRational::from_float(lo),
            _ => None,
        };
        let mut values: Vec<BigRational> =
            (0..n).map(|v| sure(v).unwrap_or_else(BigRational::zero)).collect();
        let mut bytes = n as u64 * 64;
        let mut local = Local::default();
        let size = |v: &BigRational| (v.numer().bits() + v.denom().bits()) / 8;
        for part in parts.iter() {
            pace.step(STEPS)?;
            let members: Vec<u32> =
                part.iter().copied().filter(|v| self.is_open(*v) && sure(*v as usize).is_none()).collect();
            let Some(&v) = members.first() else { continue };
            if parts.has_cycle(part) {
                // All of a part is solved together, whatever the bounds say of single vertices.
                let members: Vec<u32> = part.iter().copied().filter(|v| self.is_open(*v)).collect();
                local.take(g, &members);
                if !self.exact_part(&local, solved, &mut values, pace)? {
                    return Ok(None);
                }
                bytes += members.iter().map(|v| size(&values[*v as usize])).sum::<u64>();
            } else {
                let value = if g.is_state(v) {
                    let arcs = g.arcs(v).filter(|a| self.permits(g.to(*a)));
                    let best = arcs.map(|a| self.exact_arc(a, &values));
                    best.reduce(|a, b| if self.is_better(&b, &a) { b } else { a }).unwrap_or_default()
                } else {
                    self.exact_node(v, |t| values[t as usize].clone())
                };
                bytes += size(&value);
                values[v as usize] = value;
            }
            if bytes > budget {
                return Ok(None);
            }
        }
        Ok(Some(values))
    }

    /// Values a part with cycles. False where that does not succeed.
    fn exact_part(
        &self,
        local: &Local,
        solved: &Solved,
        values: &mut [BigRational],
        pace: &mut Pace<'_>,
    ) -> Result<bool, Limit> {
        let g = self.g;
        let Some(knot) = self.knot(local, pace)? else { return Ok(false) };
        let n = knot.states.len();
        let first = |d: usize| {
            let wanted = solved.choices.get(&knot.states[d][0]);
            wanted.and_then(|c| knot.options[d].iter().position(|o| o == c)).unwrap_or(0)
        };
        let mut chosen: Vec<usize> = (0..n).map(first).collect();
        let mut x: Vec<BigRational> = vec![];
        let mut best = false;
        for _ in 0..CHANGES {
            match self.valued(&knot, local, &chosen, values, pace)? {
                Some(found) => x = found,
                None => return Ok(false),
            }
            best = true;
            for (d, taken) in chosen.iter_mut().enumerate() {
                for k in 0..knot.options[d].len() {
                    pace.step(STEPS)?;
                    let v = self.exact_option(&knot, local, knot.options[d][k], &x, values);
                    let now = self.exact_option(&knot, local, knot.options[d][*taken], &x, values);
                    if self.is_better(&v, &now) {
                        *taken = k;
                        best = false;
                    }
                }
            }
            if best {
                break;
            }
        }
        if !best {
            return Ok(false);
        }
        for (i, v) in local.members.iter().enumerate() {
            if knot.decision_of[i] != NONE {
                values[*v as usize] = &x[knot.decision_of[i] as usize] + int(knot.shift[i].into());
            }
        }
        for v in local.members.iter().filter(|v| !g.is_state(**v)) {
            values[*v as usize] = self.exact_node(*v, |t| values[t as usize].clone());
        }
        Ok(true)
    }

    fn exact_option(
        &self,
        knot: &Knot,
        local: &Local,
        (state, arc): (u32, u32),
        x: &[BigRational],
        values: &[BigRational],
    ) -> BigRational {
        let value = |t: u32| match local.number(t) {
            Some(i) if knot.decision_of[i] != NONE => {
                &x[knot.decision_of[i] as usize] + int(knot.shift[i].into())
            }
            _ => values[t as usize].clone(),
        };
        let to = self.g.to(arc as usize);
        let behind = if self.g.is_state(to) { value(to) } else { self.exact_node(to, value) };
        let shift = local.number(state).map_or(0, |i| knot.shift[i]);
        behind + int(i128::from(self.gain(arc as usize)) - i128::from(shift))
    }

    /// What each decision is worth when the chosen options are taken. `None` where play would not end, or too many decisions
    /// hang together.
    fn valued(
        &self,
        knot: &Knot,
        local: &Local,
        chosen: &[usize],
        values: &[BigRational],
        pace: &mut Pace<'_>,
    ) -> Result<Option<Vec<BigRational>>, Limit> {
        let g = self.g;
        let n = knot.states.len();
        // Each decision as a sum of others with chances, and a number.
        // The decisions that follow each by the chosen options.
        let mut graph = Arrows::new();
        let mut rows: Vec<(Vec<(u32, BigRational)>, BigRational)> = vec![];
        for (d, taken) in chosen.iter().enumerate() {
            let Some(&(state, arc)) = knot.options[d].get(*taken) else { return Ok(None) };
            let to = g.to(arc as usize);
            let shift = local.number(state).map_or(0, |i| knot.shift[i]);
            let mut sum = int(i128::from(self.gain(arc as usize)) - i128::from(shift));
            let mut row: Vec<(u32, BigRational)> = vec![];
            let mut add = |t: u32, p: BigRational, sum: &mut BigRational| match local.number(t) {
                Some(i) if knot.decision_of[i] != NONE => {
                    *sum += &p * int(knot.shift[i].into());
                    row.push((knot.decision_of[i], p));
                }
                _ => *sum += &p * &values[t as usize],
            };
            if g.is_state(to) {
                add(to, BigRational::one(), &mut sum);
            } else {
                let (out, pattern) = g.outcomes(to);
                let total = int(pattern.total() as i128);
                sum += int(self.exact_scores(pattern)) / &total;
                for (t, w) in out.iter().zip(&pattern.weights) {
                    add(*t, int((*w).into()) / &total, &mut sum);
                }
            }
            graph.push(row.iter().map(|r| r.0));
            rows.push((row, sum));
        }
        let mut x = vec![BigRational::zero(); n];
        for part in components(&graph, 0..n as u32, |_| true, pace)?.lists() {
            if part.len() > TOGETHER {
                return Ok(None);
            }
            pace.step(STEPS * (part.len() as u64).pow(3))?;
            if !solve(&part, &rows, &mut x) {
                return Ok(None);
            }
        }
        Ok(Some(x))
    }
}

/// Solves the equations of some decisions, given the values of those that they lead to, by Gauss' elimination. False where
/// there is no single solution.
fn solve(part: &[u32], rows: &[(Vec<(u32, BigRational)>, BigRational)], x: &mut [BigRational]) -> bool {
    let n = part.len();
    let at = |d: u32| part.binary_search(&d).ok();
    // (1 - P) x = b, with b in the last column.
    let mut m: Vec<Vec<BigRational>> = vec![vec![BigRational::zero(); n + 1]; n];
    for (i, d) in part.iter().enumerate() {
        let (row, sum) = &rows[*d as usize];
        m[i][i] += BigRational::one();
        m[i][n] = sum.clone();
        for (to, p) in row {
            match at(*to) {
                Some(j) => m[i][j] -= p,
                None => {
                    let known = &x[*to as usize] * p;
                    m[i][n] += known;
                }
            }
        }
    }
    for c in 0..n {
        let Some(pivot) = (c..n).find(|r| !m[*r][c].is_zero()) else { return false };
        m.swap(c, pivot);
        let inverse = m[c][c].recip();
        for v in &mut m[c][c..] {
            *v *= &inverse;
        }
        let row = m[c].clone();
        for r in (0..n).filter(|r| *r != c) {
            if m[r][c].is_zero() {
                continue;
            }
            let k = m[r][c].clone();
            for (v, b) in m[r].iter_mut().zip(&row).skip(c) {
                *v -= &k * b;
            }
        }
    }
    for (i, d) in part.iter().enumerate() {
        x[*d as usize] = std::mem::take(&mut m[i][n]);
    }
    true
}
