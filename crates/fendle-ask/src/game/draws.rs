//! What a running game draws, beside what the model draws: each outcome, and how often it comes.

use fendle_lang::play::Played;
use serde::Deserialize;
use serde_json::value::RawValue;

use super::lockstep::{Draw, Lockstep, Step, same};
use super::{Told, phases_of, read, weights};

/// Outcomes that are asked for one by one after they were listed, for each move.
const MADE: usize = 8;
/// Seeds that are tried for each outcome that is looked for.
const SEEDS: u32 = 6;
/// Seeds that are tried for one move, at the most.
const SEEDS_MAX: u32 = 400;

/// All outcomes of a move, as the game tells them; none where it refuses the move.
#[derive(Debug, Deserialize)]
pub(super) struct Outcomes {
    outcomes: Vec<Told>,
}

impl Lockstep<'_> {
    /// Compares the outcomes that a game lists with those of the model, and their chances. The states that are to be compared later, and how the
    /// game is made to come there.
    pub(super) fn outcomes(
        &mut self,
        (number, list): (usize, Outcomes),
        outcomes: &[Played],
        way: &[Step],
        before: &[i32],
    ) -> Vec<(Vec<i32>, Draw)> {
        let b = &self.level.game.bound;
        let list = list.outcomes;
        let first = &outcomes[0].made.state;
        if list.is_empty() {
            let words = "the model makes this move, and the game lists no outcome of it".to_string();
            self.phases = phases_of(b, Some(&outcomes[0]));
            self.differs("allowed", words, way, Some(number), (before, Some(first), None));
            return vec![];
        }
        let mut weights = vec![0u64; outcomes.len()];
        let mut from = vec![None; outcomes.len()];
        for (k, told) in list.iter().enumerate() {
            let Some(at) = outcomes.iter().position(|p| self.apart(told, &p.made.state).is_none()) else {
                self.fits_none(told, outcomes, way, (number, before));
                return vec![];
            };
            if self.scores_apart(told, &outcomes[at], way, (number, before)) {
                return vec![];
            }
            weights[at] = weights[at].saturating_add(told.weight.unwrap_or(1));
            from[at].get_or_insert(k as u32);
        }
        let total: u64 = weights.iter().fold(0, |a, w| a.saturating_add(*w));
        let wrong = weights.iter().zip(outcomes).position(|(w, p)| {
            let chance = p.made.chance;
            u128::from(*w).checked_mul(chance.den) != u128::from(total).checked_mul(chance.num)
        });
        if let Some(at) = wrong {
            let (drawn, ours) = (outcomes[at].draws_text(), outcomes[at].made.chance);
            let (kind, words) = match weights[at] {
                0 => (
                    "draw",
                    format!("the model draws `{drawn}`, and it is not among the outcomes of the game"),
                ),
                w => (
                    "weights",
                    format!("the game draws `{drawn}` with chance {w}/{total}, and the model with {ours}"),
                ),
            };
            self.phases = phases_of(b, Some(&outcomes[at]));
            let state = &outcomes[at].made.state;
            self.differs(kind, words, way, Some(number), (before, Some(state), None));
            return vec![];
        }
        if self.draws.take() && self.makes_others(number, &list, way, before) {
            return vec![];
        }
        (outcomes.iter().zip(from))
            .filter_map(|(p, k)| Some((p.made.state.clone(), Draw::Outcome(k?))))
            .collect()
    }

    /// Whether an outcome that is asked for is another one than the list said; it is told.
    fn makes_others(&mut self, number: usize, list: &[Told], way: &[Step], before: &[i32]) -> bool {
        for (k, listed) in list.iter().enumerate().take(MADE) {
            let made = self.go_to(before, way).and_then(|_| self.move_by(number, Draw::Outcome(k as u32)));
            let made = match made.and_then(|text| read::<Told>("move", &text)) {
                Ok(made) => made,
                Err(words) => {
                    self.differs("no answer", words, way, Some(number), (before, None, None));
                    return true;
                }
            };
            if !same(&made, listed) {
                let words =
                    format!("outcome {k} of the game's list comes to something else when it is asked for");
                self.differs("two results", words, way, Some(number), (before, None, made.position()));
                return true;
            }
        }
        false
    }

    /// Makes a move with draws again and again, and compares how often each outcome comes with its chance. Whether something is wrong.
    pub(super) fn weights(
        &mut self,
        number: usize,
        outcomes: &[Played],
        way: &[Step],
        before: &[i32],
    ) -> bool {
        if !self.draws.take() {
            return false;
        }
        let mut counts = vec![0u32; outcomes.len()];
        for seed in 0..weights::tries(outcomes) {
            let Some(at) = self.drawn_by((number, seed), outcomes, way, before) else { return false };
            counts[at] += 1;
        }
        let Some((at, words)) = weights::unlikely(&counts, outcomes) else { return false };
        self.differs("weights", words, way, Some(number), (before, Some(&outcomes[at].made.state), None));
        true
    }

    /// Which outcome a game comes to by a seed; `None` where it does not answer, or comes to none of them.
    fn drawn_by(
        &mut self,
        (number, seed): (usize, u32),
        outcomes: &[Played],
        way: &[Step],
        before: &[i32],
    ) -> Option<usize> {
        let text = self.go_to(before, way).and_then(|_| self.move_by(number, Draw::Seed(seed)));
        let told: Told = text.and_then(|t: Box<RawValue>| read("move", &t)).ok()?;
        let at = outcomes.iter().position(|p| self.apart(&told, &p.made.state).is_none());
        if at.is_none() {
            self.fits_none(&told, outcomes, way, (number, before));
        }
        at
    }

    /// The outcomes that a game which only plays comes to by one seed or another; those that no seed is found for are not followed.
    pub(super) fn by_seeds(
        &mut self,
        number: usize,
        outcomes: &[Played],
        way: &[Step],
        before: &[i32],
    ) -> Vec<(Vec<i32>, Draw)> {
        let mut seeds: Vec<Option<u32>> = vec![None; outcomes.len()];
        let most = (outcomes.len() as u32).saturating_mul(SEEDS).min(SEEDS_MAX);
        for seed in 0..most {
            let Some(at) = self.drawn_by((number, seed), outcomes, way, before) else { return vec![] };
            seeds[at].get_or_insert(seed);
            if seeds.iter().all(Option::is_some) {
                break;
            }
        }
        self.skipped |= seeds.contains(&None);
        (outcomes.iter().zip(seeds))
            .filter_map(|(p, seed)| Some((p.made.state.clone(), Draw::Seed(seed?))))
            .collect()
    }
}
