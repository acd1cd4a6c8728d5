//! Rules run on states that are slots of a table of remainders.

use std::sync::Arc;

use super::on_stills::append_named;
use super::slots::Slots;
use crate::model::{Expansion, Fault, Status, Worker};

/// A worker to which a state is the number of its slot: what words are made of, asked of a worker for those. An outcome that is not in the table, which
/// only a search that was cut short has, is [`Slots::nobody`].
pub(crate) struct OnSlots<'m> {
    worker: Box<dyn Worker + 'm>,
    slots: Arc<Slots>,
    words: Vec<u64>,
    out: Expansion,
    named: Vec<u64>,
}

impl<'m> OnSlots<'m> {
    pub(crate) fn new(worker: Box<dyn Worker + 'm>, slots: Arc<Slots>) -> OnSlots<'m> {
        let (words, out, named) = Default::default();
        OnSlots { worker, slots, words, out, named }
    }

    /// Writes words for numbers.
    fn unfold(&mut self, numbers: &[u64]) {
        self.words.clear();
        self.words.extend(numbers.iter().map(|number| self.slots.word(*number)));
    }
}

impl Worker for OnSlots<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        self.unfold(state);
        self.worker.status(&self.words)
    }

    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        self.unfold(states);
        self.out.clear();
        if out.leaves_out_odds() {
            self.out.leave_out_odds();
        }
        self.worker.expand(&self.words, past_goals, &mut self.out);
        self.named.clear();
        // What a still without a number makes is no word that could be in the table.
        self.slots.push_numbers(&self.out.outcomes, &mut self.named);
        append_named(&self.out, &self.named, out);
    }

    fn limit_outcomes(&mut self, most: usize) {
        self.worker.limit_outcomes(most);
    }

    fn same_but_clocks(&mut self, a: &[u64], b: &[u64]) -> bool {
        self.unfold(&[a[0], b[0]]);
        self.worker.same_but_clocks(&self.words[..1], &self.words[1..])
    }
}
