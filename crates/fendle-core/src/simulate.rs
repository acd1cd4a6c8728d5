//! Plays a game many times by a simple policy: estimates where exact answers are out of reach.
//!
//! Never a proof. O(plays x moves) expansions.

use std::sync::OnceLock;

use rayon::prelude::*;

use crate::ahead::Ahead;
use crate::explore::pool;
use crate::limits::{Limit, Pace, Watch};
use crate::model::{Expansion, Fault, Model, MoveId, Odds, Status, Stopped, Worker};

/// How a simulated player chooses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Policy {
    /// Any allowed move, each equally often.
    Random,
    /// The move with the greatest expected score at once; the first of equals.
    Greedy,
    /// The move that is best over the next moves, looking at about so many states for each: see [`crate::ahead`].
    Ahead(u64),
}

/// What the plays gave.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Simulated {
    /// Plays that ended, or reached the bound on moves.
    pub plays: u64,
    /// Plays that were won.
    pub won: u64,
    /// Plays cut by the bound on moves, or by that on states that were looked at.
    pub unfinished: u64,
    /// Nothing is drawn, and the policy draws nothing: every play is the same, and one was played.
    pub same: bool,
    /// Sum of scores, and of their squares.
    pub score: (f64, f64),
    /// Sum of moves.
    pub moves: u64,
    /// States that were looked at to choose the moves, by look-ahead.
    pub looked_at: u64,
    /// Whether each play was won, and its score, in their order.
    pub each: Vec<(bool, f64)>,
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

/// One play.
struct Played {
    won: bool,
    unfinished: bool,
    score: f64,
    moves: u64,
    looked_at: u64,
}

/// States that could be looked at in the time in which a move is made and drawn.
pub const MOVE_WORK: u64 = 10;

/// Plays by look-ahead that begin together: players that remember what they have met are worth it, and what was stopped is known soon.
pub const AHEAD_TOGETHER: u64 = 8;

/// Dice for one play: get weights and say which.
pub type Dice = Box<dyn FnMut(&[u64]) -> usize + Send>;

/// Plays `plays` games of at most `most` moves. `dice` makes the dice of a play from its number, so that the same play of
/// another policy has the same luck. A play that is stopped counts for nothing. Plays run on `threads` threads (0: one for each
/// core); what they give does not depend on that. Past `work` states that were looked at to choose moves, a move that was made
/// counting as [`MOVE_WORK`] of them, no more plays begin; a single play takes no more than a share of that, as many of them as are
/// played at once. Where every play would be the same, one is played.
///
/// # Errors
///
/// A [`Fault`] that was met.
pub fn simulate(
    model: &dyn Model,
    policy: Policy,
    (plays, most, work): (u64, u64, u64),
    dice: &(dyn Fn(u64) -> Dice + Sync),
    threads: usize,
    watch: &dyn Watch,
) -> Result<Simulated, Fault> {
    let starts = model.starts()?;
    let weights: Vec<u64> = starts.iter().map(|s| s.weight).collect();
    // A few plays for each thread at a time: what was stopped is known soon, and players remember what they have met.
    let batch = if matches!(policy, Policy::Ahead(_)) { AHEAD_TOGETHER } else { 64 };
    let share = if work == u64::MAX { work } else { work / batch };
    let one = |player: &mut Player<'_>, number: u64| {
        let mut dice = dice(number);
        let start = if starts.len() > 1 { dice(&weights) } else { 0 };
        player.play(&starts[start].state, (most, share), &mut dice, watch)
    };
    let same = model.is_sure() && starts.len() == 1 && policy != Policy::Random;
    let plays = if same { plays.min(1) } else { plays };
    let mut sum = Simulated { same, ..Simulated::default() };
    let cell = OnceLock::new();
    let mut at = 0;
    while at < plays && sum.limit.is_none() && sum.looked_at + MOVE_WORK * sum.moves < work {
        let count = batch.min(plays - at);
        let lanes = if plays < 8 || !model.is_shared() { 1 } else { 8 };
        let lane = |n: u64| {
            let mut player = Player::new(model, policy, watch);
            (0..count).filter(|i| i % lanes == n).map(|i| one(&mut player, at + i)).collect::<Vec<_>>()
        };
        let found: Vec<Vec<_>> = if lanes == 1 {
            vec![lane(0)]
        } else {
            pool(&cell, threads).install(|| (0..lanes).into_par_iter().map(lane).collect())
        };
        for i in 0..count {
            match found[(i % lanes) as usize][(i / lanes) as usize] {
                Ok(ref p) => {
                    sum.plays += 1;
                    sum.won += u64::from(p.won);
                    sum.unfinished += u64::from(p.unfinished);
                    sum.moves += p.moves;
                    sum.looked_at += p.looked_at;
                    sum.score.0 += p.score;
                    sum.score.1 += p.score * p.score;
                    sum.each.push((p.won, p.score));
                }
                Err(Stopped::Limit(limit)) => sum.limit = sum.limit.or(Some(limit)),
                Err(Stopped::Fault(fault)) => return Err(fault),
            }
        }
        at += count;
    }
    Ok(sum)
}

/// Somebody who plays by a policy.
struct Player<'m> {
    policy: Policy,
    worker: Box<dyn Worker + 'm>,
    out: Expansion,
    ahead: Option<Ahead<'m>>,
}

impl<'m> Player<'m> {
    fn new(model: &'m dyn Model, policy: Policy, watch: &'m dyn Watch) -> Player<'m> {
        let ahead = match policy {
            Policy::Ahead(states) => Some(Ahead::new(model, states, watch)),
            _ => None,
        };
        Player { policy, worker: model.worker(), out: Expansion::default(), ahead }
    }

    fn play(
        &mut self,
        start: &[u64],
        (most, share): (u64, u64),
        dice: &mut Dice,
        watch: &dyn Watch,
    ) -> Result<Played, Stopped> {
        let pace = Pace::new(watch);
        let mut state = start.to_vec();
        let looked_at = self.ahead.as_ref().map_or(0, |a| a.looked_at);
        let mut played = Played { won: false, unfinished: false, score: 0.0, moves: 0, looked_at: 0 };
        let mut next = vec![];
        loop {
            pace.now().map_err(Stopped::Limit)?;
            let status = self.worker.status(&state)?;
            played.won = status == Status::Goal;
            let moves = if status == Status::Running { self.worker.allowed(&state)? } else { vec![] };
            if moves.is_empty() {
                break;
            }
            let looked = self.ahead.as_ref().map_or(0, |a| a.looked_at) - looked_at;
            if played.moves == most || looked + MOVE_WORK * played.moves >= share {
                played.unfinished = true;
                break;
            }
            let of = match (self.policy, &mut self.ahead) {
                (Policy::Random, _) => moves[dice(&vec![1; moves.len()])],
                (_, Some(ahead)) => ahead.choose(&state)?.unwrap_or(moves[0]),
                _ => self.greedy(&state)?,
            };
            played.score += self.worker.sample(&state, of, dice, &mut next)? as f64;
            played.moves += 1;
            std::mem::swap(&mut state, &mut next);
        }
        played.looked_at = self.ahead.as_ref().map_or(0, |a| a.looked_at) - looked_at;
        Ok(played)
    }
    /// The move with the greatest expected score at once.
    fn greedy(&mut self, state: &[u64]) -> Result<MoveId, Stopped> {
        let out = &mut self.out;
        out.clear();
        self.worker.expand(state, false, out);
        if let Some((_, fault)) = out.faults.first() {
            return Err((*fault).into());
        }
        if let Some((_, limit)) = out.unfinished.first() {
            return Err(Stopped::Limit(*limit));
        }
        let odds = |i: usize| out.odds.get(i).copied().unwrap_or(Odds::SURE);
        let mut best: Option<(f64, MoveId)> = None;
        let mut first = 0;
        for r in &out.runs {
            let range = first..first + r.outcomes as usize;
            first = range.end;
            let weight: f64 = range.clone().map(|i| odds(i).weight as f64).sum();
            let mean = range.map(|i| odds(i).score as f64).sum::<f64>() / weight;
            if best.is_none_or(|b| mean > b.0) {
                best = Some((mean, r.of));
            }
        }
        Ok(best.map_or(MoveId(0), |b| b.1))
    }
}
