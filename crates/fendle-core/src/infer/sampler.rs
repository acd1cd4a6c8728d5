//! Draws layouts that agree with every clue.

use super::count::Forward;
use super::facts::Facts;
use super::parts::{Frontier, Group, Pattern};
use super::{NoAnswer, System};

/// Draws layouts that agree with every clue, each with its weight. Choices are weighed as floating-point numbers: good
/// for estimates, not for proofs.
pub struct Sampler {
    parts: Vec<(Pattern, Vec<Group>, Forward<f64>)>,
    sea: Vec<Group>,
    /// For each part, then each group of the sea: what its first weight adds to the total, and the weights in proportion.
    rows: Vec<(i64, Vec<f64>)>,
    /// For each of them what those behind it can add.
    behind: Vec<(i64, Vec<f64>)>,
    range: (i64, i64),
    fixed: Vec<bool>,
}

/// Which of several weighted things, by a number from 0 to 1.
fn pick(weights: &[f64], at: f64) -> usize {
    let mut left = at * weights.iter().sum::<f64>();
    for (i, w) in weights.iter().enumerate() {
        if left < *w {
            return i;
        }
        left -= w;
    }
    weights.iter().rposition(|w| *w > 0.0).unwrap_or(0)
}

/// In proportion, the greatest 1.
fn tamed(mut row: Vec<f64>) -> Vec<f64> {
    let most = row.iter().copied().fold(0.0, f64::max);
    if most > 0.0 {
        row.iter_mut().for_each(|w| *w /= most);
    }
    row
}

fn times(a: &(i64, Vec<f64>), b: &(i64, Vec<f64>)) -> (i64, Vec<f64>) {
    let mut row = vec![0.0; a.1.len() + b.1.len() - 1];
    for (i, x) in a.1.iter().enumerate() {
        for (j, y) in b.1.iter().enumerate() {
            row[i + j] += x * y;
        }
    }
    (a.0 + b.0, tamed(row))
}

/// The weights of filling so many cells of a group of the sea, in proportion: by logarithms, since they have no bound.
fn ways(g: &Group) -> Vec<f64> {
    let cells = g.cells.len();
    let (filled, empty) = ((g.weights.0 as f64).ln(), (g.weights.1 as f64).ln());
    let mut logs = vec![];
    let mut choose = 0.0f64;
    for n in 0..=cells {
        let of = |log: f64, n: usize| if n == 0 { 0.0 } else { log * n as f64 };
        logs.push(choose + of(filled, n) + of(empty, cells - n));
        choose += ((cells - n) as f64).ln() - ((n + 1) as f64).ln();
    }
    let most = logs.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    logs.into_iter().map(|l| (l - most).exp()).collect()
}

impl System {
    /// Prepares drawing layouts at random among all that agree, each with its weight.
    ///
    /// # Errors
    ///
    /// [`NoAnswer`].
    pub fn sampler(&self) -> Result<Sampler, NoAnswer> {
        let mut facts = Facts::default();
        facts.read(self)?;
        let Frontier { parts, sea } = Frontier::new(&facts);
        let mut counted = vec![];
        let mut rows = vec![];
        for (pattern, groups) in parts {
            let forward = Forward::<f64>::new(&pattern)?;
            let (first, row) = forward.end();
            rows.push((first, tamed(row.to_vec())));
            counted.push((pattern, groups, forward));
        }
        for g in &sea {
            let (n, k) = (g.cells.len() as i64, i64::from(g.total));
            let mut row = vec![0.0; (n * k.abs()) as usize + 1];
            for (i, w) in (0..).zip(ways(g)) {
                row[(i * k - (n * k).min(0)) as usize] += w;
            }
            rows.push(((n * k).min(0), row));
        }
        let mut behind = vec![(0, vec![1.0])];
        for row in rows.iter().rev() {
            behind.push(times(behind.last().expect("one"), row));
        }
        behind.reverse();
        let range = facts.total.map_or((0, 0), |t| facts.want[t]);
        let (first, all) = &behind[0];
        if (*first..).zip(all).all(|(k, w)| *w == 0.0 || !(range.0..=range.1).contains(&k)) {
            return Err(NoAnswer::Contradiction);
        }
        behind.remove(0);
        let fixed = facts.value.iter().map(|f| *f == Some(true)).collect();
        Ok(Sampler { parts: counted, sea, rows, behind, range, fixed })
    }
}

impl Sampler {
    /// One layout. `random` gives numbers from 0 to 1.
    pub fn draw(&self, random: &mut dyn FnMut() -> f64) -> Vec<bool> {
        let mut out = self.fixed.clone();
        let mut sum = 0i64;
        for (i, ((first, row), (rest_first, rest))) in self.rows.iter().zip(&self.behind).enumerate() {
            // How much this one adds: by its own weight, and what those behind it can do with the rest.
            let weights: Vec<f64> = (*first..)
                .zip(row)
                .map(|(add, w)| {
                    let fits = |k: &i64| (self.range.0..=self.range.1).contains(&(sum + add + k));
                    w * (*rest_first..).zip(rest).filter(|(k, _)| fits(k)).map(|(_, r)| r).sum::<f64>()
                })
                .collect();
            let at = pick(&weights, random());
            sum += first + at as i64;
            if let Some((pattern, groups, forward)) = self.parts.get(i) {
                for (g, n) in groups.iter().zip(forward.draw(pattern, at, random, &pick)) {
                    fill(&g.cells, n as usize, &mut out, random);
                }
                continue;
            }
            let g = &self.sea[i - self.parts.len()];
            let n = match g.total {
                0 => pick(&ways(g), random()),
                k => ((first + at as i64) / i64::from(k)) as usize,
            };
            fill(&g.cells, n, &mut out, random);
        }
        out
    }
}

/// Fills so many of some cells, each choice equally likely.
fn fill(cells: &[u32], n: usize, out: &mut [bool], random: &mut dyn FnMut() -> f64) {
    let mut left = n;
    for (i, &c) in cells.iter().enumerate() {
        let room = (cells.len() - i) as f64;
        if random() * room < left as f64 {
            out[c as usize] = true;
            left -= 1;
        }
    }
}
