//! Plays a game many times by a simple policy: estimates where exact answers are out of reach.
//!
//! Never a proof. O(plays x moves) expansions.

use crate::limits::{Limit, Pace, Watch};
use crate::model::{Expansion, Fault, Model, Odds, Status};

/// How a simulated player chooses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Policy {
    /// Any allowed move, each equally often.
    Random,
    /// The move with the greatest expected score at once; the first of equals.
    Greedy,
}

/// What the plays gave.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Simulated {
    /// Plays that ended, or reached the bound on moves.
    pub plays: u64,
    /// Plays that were won.
    pub won: u64,
    /// Plays cut by the bound on moves.
    pub unfinished: u64,
    /// Sum of scores, and of their squares.
    pub score: (f64, f64),
    /// Sum of moves.
    pub moves: u64,
    /// What ended the playing before all plays were played.
    pub limit: Option<Limit>,
}

/// The 95 % interval of a share (Wilson, 1927).
#[must_use]
pub fn share_interval(hits: u64, of: u64) -> (f64, f64) {
    if of == 0 {
        return (0.0, 1.0);
    }
    let (n, z) = (of as f64, 1.959_964f64);
    let p = hits as f64 / n;
    let mid = (p + z * z / (2.0 * n)) / (1.0 + z * z / n);
    let half = z / (1.0 + z * z / n) * (p * (1.0 - p) / n + z * z / (4.0 * n * n)).sqrt();
    ((mid - half).max(0.0), (mid + half).min(1.0))
}

/// The 95 % interval of a mean, by the normal approximation.
#[must_use]
pub fn mean_interval(sum: f64, squares: f64, n: u64) -> (f64, f64) {
    let n = n.max(1) as f64;
    let mean = sum / n;
    let variance = ((squares - sum * mean) / (n - 1.0).max(1.0)).max(0.0);
    let half = 1.959_964 * (variance / n).sqrt();
    (mean - half, mean + half)
}

/// Plays `plays` games of at most `most` moves. `dice` gets weights and says which. A play that is stopped counts for nothing.
///
/// # Errors
///
/// A [`Fault`] that was met.
pub fn simulate(
    model: &dyn Model,
    policy: Policy,
    (plays, most): (u64, u64),
    dice: &mut dyn FnMut(&[u64]) -> usize,
    watch: &dyn Watch,
) -> Result<Simulated, Fault> {
    let starts = model.starts()?;
    let weights: Vec<u64> = starts.iter().map(|s| s.weight).collect();
    let words = model.layout().words();
    let mut worker = model.worker();
    let mut out = Expansion::default();
    let mut sum = Simulated::default();
    let pace = Pace::new(watch);
    'plays: for _ in 0..plays {
        let start = if starts.len() > 1 { dice(&weights) } else { 0 };
        let mut state = starts[start].state.clone();
        let (mut score, mut moves) = (0f64, 0);
        loop {
            if let Err(limit) = pace.now() {
                sum.limit = Some(limit);
                break 'plays;
            }
            out.clear();
            worker.expand(&state, false, &mut out);
            if let Some((_, fault)) = out.faults.first() {
                return Err(*fault);
            }
            if let Some((_, limit)) = out.unfinished.first() {
                sum.limit = Some(*limit);
                break 'plays;
            }
            let head = out.heads[0];
            if head.status == Status::Goal {
                sum.won += 1;
            }
            if head.status != Status::Running || out.runs.is_empty() {
                break;
            }
            if moves == most {
                sum.unfinished += 1;
                break;
            }
            let odds = |i: usize| out.odds.get(i).copied().unwrap_or(Odds::SURE);
            let firsts: Vec<usize> = out
                .runs
                .iter()
                .scan(0, |at, r| {
                    let first = *at;
                    *at += r.outcomes as usize;
                    Some(first)
                })
                .collect();
            let run = match policy {
                Policy::Random => dice(&vec![1; out.runs.len()]),
                Policy::Greedy => {
                    let mean = |k: usize| {
                        let range = firsts[k]..firsts[k] + out.runs[k].outcomes as usize;
                        let weight: f64 = range.clone().map(|i| odds(i).weight as f64).sum();
                        range.map(|i| odds(i).score as f64).sum::<f64>() / weight
                    };
                    let means: Vec<f64> = (0..out.runs.len()).map(mean).collect();
                    let best = means.iter().copied().fold(f64::NEG_INFINITY, f64::max);
                    means.iter().position(|m| *m == best).unwrap_or(0)
                }
            };
            let range = firsts[run]..firsts[run] + out.runs[run].outcomes as usize;
            let drawn = if range.len() > 1 {
                let weights: Vec<u64> = range.clone().map(|i| odds(i).weight).collect();
                range.start + dice(&weights)
            } else {
                range.start
            };
            score += odds(drawn).score as f64 / odds(drawn).weight as f64;
            moves += 1;
            state.copy_from_slice(&out.outcomes[drawn * words..(drawn + 1) * words]);
        }
        sum.plays += 1;
        sum.moves += moves;
        sum.score.0 += score;
        sum.score.1 += score * score;
    }
    Ok(sum)
}
