//! Rules run on states that are kept as a still and moving bits.

use std::sync::{Arc, RwLock};

use super::stills::{Stills, UNKNOWN};
use super::{by_words, read};
use crate::model::{Expansion, Fault, Head, Layout, Odds, Run, Status, Worker};

/// A worker to which a state is the word that says its still and its moving bits: what packed states are made of, asked of a worker for
/// those. An outcome whose still was not met before is [`UNKNOWN`], and told in [`Expansion::unnamed`].
pub(crate) struct OnStills<'m> {
    worker: Box<dyn Worker + 'm>,
    stills: Arc<RwLock<Stills>>,
    /// Words of a packed state.
    words: usize,
    states: Vec<u64>,
    out: Expansion,
    named: Vec<u64>,
}

impl<'m> OnStills<'m> {
    pub(crate) fn new(
        worker: Box<dyn Worker + 'm>,
        stills: Arc<RwLock<Stills>>,
        packed: Layout,
    ) -> OnStills<'m> {
        let (states, out, named) = Default::default();
        OnStills { worker, stills, words: packed.words(), states, out, named }
    }

    /// Writes packed states for words.
    fn unfold(&mut self, words: &[u64]) {
        let stills = read(&self.stills);
        self.states.clear();
        stills.push_states(words, &mut self.states);
    }

    /// Names the outcomes of these words, which were expanded; packed states have `WORDS` words, or any number of them where that is 0.
    fn name<const WORDS: usize>(&mut self, words: &[u64], out: &mut Expansion) {
        let wide = if WORDS == 0 { self.words } else { WORDS };
        let stills = read(&self.stills);
        let first = out.outcomes_len();
        let named = &mut self.named;
        named.clear();
        named.reserve(self.out.outcomes_len());
        let (mut runs, mut outcomes) = (self.out.runs.as_slice(), self.out.outcomes.as_slice());
        for ((word, state), head) in words.iter().zip(self.states.chunks_exact(wide)).zip(&self.out.heads) {
            let of_state;
            (of_state, runs) = runs.split_at(head.runs as usize);
            let count: usize = of_state.iter().map(|run| run.outcomes as usize).sum();
            let of_state;
            (of_state, outcomes) = outcomes.split_at(count * wide);
            for outcome in of_state.chunks_exact(wide) {
                let name = stills.find_near::<WORDS>(state, *word, outcome);
                if name == UNKNOWN {
                    out.unnamed.0.push((first + named.len()) as u32);
                    out.unnamed.1.extend_from_slice(outcome);
                }
                named.push(name);
            }
        }
    }
}

/// Whether each move has one outcome that nothing is said of, and no state is half known.
fn is_plain(made: &Expansion) -> bool {
    made.runs.len() == made.outcomes_len()
        && made.odds.is_empty()
        && made.faults.is_empty()
        && made.unfinished.is_empty()
}

/// Appends what was made of some states, with other words for the outcomes: one each.
pub(super) fn append_named(made: &Expansion, named: &[u64], out: &mut Expansion) {
    if is_plain(made) {
        out.sure_states(made.heads.iter().copied(), made.runs.iter().map(|run| run.of), named);
        return;
    }
    let (mut runs, mut outcomes) = (made.runs.iter(), 0..made.outcomes_len());
    let (mut faults, mut unfinished) = (made.faults.iter().peekable(), made.unfinished.iter().peekable());
    for (k, Head { status, runs: count }) in made.heads.iter().enumerate() {
        for Run { of, outcomes: count } in runs.by_ref().take(*count as usize) {
            for i in outcomes.by_ref().take(*count as usize) {
                let odds = made.odds.get(i).copied().unwrap_or(Odds::SURE);
                out.outcome_with(&named[i..=i], odds);
            }
            out.end_move(*of);
        }
        if let Some((_, limit)) = unfinished.next_if(|u| u.0 as usize == k) {
            out.unfinished.push((out.heads.len() as u32, *limit));
        }
        let fault = faults.next_if(|f| f.0 as usize == k).map(|f| f.1);
        out.end_state(*status, fault);
    }
}

impl Worker for OnStills<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        self.unfold(state);
        self.worker.status(&self.states)
    }

    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        self.unfold(states);
        self.out.clear();
        if out.leaves_out_odds() {
            self.out.leave_out_odds();
        }
        self.worker.expand(&self.states, past_goals, &mut self.out);
        by_words!(self.words, WORDS => self.name::<WORDS>(states, out));
        append_named(&self.out, &self.named, out);
    }

    fn limit_outcomes(&mut self, most: usize) {
        self.worker.limit_outcomes(most);
    }

    fn same_but_clocks(&mut self, a: &[u64], b: &[u64]) -> bool {
        self.unfold(&[a[0], b[0]]);
        let (a, b) = self.states.split_at(self.words);
        self.worker.same_but_clocks(a, b)
    }
}
