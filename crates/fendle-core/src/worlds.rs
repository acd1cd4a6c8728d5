//! Play tried out to the end over a few worlds of which one is true, and nobody knows which.
//!
//! For choosing moves in played games, not for proofs: a move that is safe in every world and shows something is made at
//! once, without looking at others. Chances are floating-point numbers.

use std::collections::HashMap;

use crate::model::{Expansion, Model, MoveId, Status, Worker};

/// A state of the model, and how likely it is the true one.
pub type World = (Vec<u64>, f64);

/// Deepest line that is tried out.
const DEEPEST: usize = 200;

/// The move with the best chance to reach a goal from these worlds, which look alike, and that chance. `None` where no
/// move is allowed, a move draws, the model breaks, or more than `most` worlds would have to be looked at.
///
/// Of equals the first in move order that risks least is taken.
#[must_use]
pub fn best_move(
    model: &dyn Model,
    worker: &mut dyn Worker,
    worlds: &[World],
    most: usize,
) -> Option<(MoveId, f64)> {
    if !model.is_sure() || worlds.is_empty() {
        return None;
    }
    let words = model.layout().words();
    let mut trial = Trial { worker, words, left: most, memo: HashMap::new() };
    trial.best(worlds, 0, None)?
}

struct Trial<'w> {
    worker: &'w mut dyn Worker,
    words: usize,
    left: usize,
    /// What sets of worlds are worth, by their states.
    memo: HashMap<Vec<u64>, f64>,
}

/// One move in every world.
struct Tried {
    of: MoveId,
    won: f64,
    lost: f64,
    /// Worlds that go on, by what is told of them.
    on: Vec<(Vec<u64>, Vec<World>)>,
}

impl Trial<'_> {
    /// Every move in every world; a move that some world does not allow is none.
    fn moves(&mut self, worlds: &[World]) -> Option<Vec<Tried>> {
        let mut moves: Vec<(Tried, usize)> = vec![];
        let mut out = Expansion::default();
        for (state, weight) in worlds {
            self.left = self.left.checked_sub(1)?;
            out.clear();
            self.worker.expand(state, false, &mut out);
            if !out.faults.is_empty() || !out.unfinished.is_empty() {
                return None;
            }
            for (at, run) in out.runs.iter().enumerate() {
                if run.outcomes != 1 {
                    return None;
                }
                let next = &out.outcomes[at * self.words..(at + 1) * self.words];
                let i = match moves.binary_search_by_key(&run.of, |m| m.0.of) {
                    Ok(i) => i,
                    Err(i) => {
                        moves.insert(i, (Tried { of: run.of, won: 0.0, lost: 0.0, on: vec![] }, 0));
                        i
                    }
                };
                moves[i].1 += 1;
                let tried = &mut moves[i].0;
                match self.worker.status(next).ok()? {
                    Status::Goal => tried.won += weight,
                    Status::Running => {
                        let mut told = vec![];
                        self.worker.told(next, &mut told);
                        match tried.on.iter_mut().find(|g| g.0 == told) {
                            Some(g) => g.1.push((next.to_vec(), *weight)),
                            None => tried.on.push((told, vec![(next.to_vec(), *weight)])),
                        }
                    }
                    _ => tried.lost += weight,
                }
            }
        }
        Some(moves.into_iter().filter(|m| m.1 == worlds.len()).map(|m| m.0).collect())
    }

    /// The best move and its chance; the inner `None` where nothing is allowed.
    fn best(
        &mut self,
        worlds: &[World],
        depth: usize,
        before: Option<&[u64]>,
    ) -> Option<Option<(MoveId, f64)>> {
        if depth > DEEPEST {
            return None;
        }
        let mut told = vec![];
        let told = match before {
            Some(told) => told,
            None => {
                self.worker.told(&worlds[0].0, &mut told);
                &told
            }
        };
        let all: f64 = worlds.iter().map(|w| w.1).sum();
        let mut moves = self.moves(worlds)?;
        moves.sort_by(|a, b| a.lost.total_cmp(&b.lost).then(a.of.cmp(&b.of)));
        let mut best: Option<(MoveId, f64)> = None;
        for tried in moves {
            if best.is_some_and(|b| b.1 >= all - tried.lost - 1e-12) {
                break;
            }
            // What shows nothing new: it leads nowhere, or round in a circle.
            if tried.won + tried.lost == 0.0 && tried.on.iter().all(|g| g.0 == told) {
                continue;
            }
            let mut value = tried.won;
            for (told, worlds) in &tried.on {
                value += self.value(worlds, depth + 1, told)?;
            }
            if best.is_none_or(|b| value > b.1 + 1e-12) {
                best = Some((tried.of, value));
            }
            if tried.lost == 0.0 {
                break;
            }
        }
        Some(best)
    }

    fn value(&mut self, worlds: &[World], depth: usize, told: &[u64]) -> Option<f64> {
        let key: Vec<u64> = worlds.iter().flat_map(|w| &w.0).copied().collect();
        if let Some(value) = self.memo.get(&key) {
            return Some(*value);
        }
        let value = self.best(worlds, depth, Some(told))?.map_or(0.0, |b| b.1);
        self.memo.insert(key, value);
        Some(value)
    }
}
