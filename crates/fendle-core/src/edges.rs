//! The transitions of a space, from its log where that was kept, else from the rules again.
//!
//! A search that runs out of memory can drop the log of its edges and go on with the table alone. What looks at edges
//! afterwards, level by level, then expands the states once more and looks their targets up: several times slower, and no
//! memory beside a batch.

use std::ops::Range;

use crate::explore::by_number::Workers;
use crate::limits::Limit;
use crate::model::{Expansion, Model, Worker};
use crate::space::{Class, Edge, SHARDS, Space, StateId};

/// States expanded together.
const BATCH: usize = 256;
/// Most of them where looking for many targets at once is faster.
const BATCH_MAX: usize = 1 << 15;
/// About how many targets a batch may have then, and bytes that each takes.
const TARGETS_MAX: u64 = 1 << 17;
const TARGETS_MIN: u64 = 1 << 12;
const TARGET_BYTES: u64 = 90;
/// States of a depth that are worth a thread where looking for many targets at once is faster.
const WORTH_A_THREAD: u64 = 1 << 16;

/// Where edges come from.
pub(crate) struct Edges<'a> {
    pub(crate) space: &'a Space,
    pub(crate) model: &'a dyn Model,
    pub(crate) past_goals: bool,
    /// Bytes that are free for looking at edges.
    pub(crate) memory: u64,
    /// Asked before each batch and each level of a shard; a limit ends the pass.
    pub(crate) stop: &'a (dyn Fn() -> Option<Limit> + Sync),
    /// Those who expand states again.
    pub(crate) workers: Workers<'a>,
}

impl<'a> Edges<'a> {
    pub(crate) fn new(
        (space, model): (&'a Space, &'a dyn Model),
        past_goals: bool,
        memory: u64,
        stop: &'a (dyn Fn() -> Option<Limit> + Sync),
    ) -> Edges<'a> {
        Edges { space, model, past_goals, memory, stop, workers: Workers::default() }
    }

    /// How many of the [`SHARDS`] parts of a depth are best looked at together: more than one where looking for many targets at once is faster.
    pub(crate) fn parts_together(&self, depth: u32) -> usize {
        if !self.space.holds_remainders() {
            return 1;
        }
        let threads = rayon::current_num_threads() as u64;
        let wanted = (self.space.level_len(depth) / WORTH_A_THREAD).max(threads);
        SHARDS / (wanted.next_power_of_two() as usize).min(SHARDS)
    }

    /// About how many targets are looked for at once.
    pub(crate) fn targets_together(&self) -> usize {
        let threads = rayon::current_num_threads() as u64;
        (self.memory / 8 / threads / TARGET_BYTES).clamp(TARGETS_MIN, TARGETS_MAX) as usize
    }

    /// Calls `visit(local, edges)` for the expanded states of one depth in one shard that are `wanted`, in local order.
    pub(crate) fn each(
        &self,
        shard: usize,
        depth: u32,
        wanted: impl Fn(StateId, Class) -> bool,
        visit: impl FnMut(StateId, &[Edge]),
    ) -> Result<(), Limit> {
        self.each_in(shard..shard + 1, depth, wanted, visit)
    }

    /// The same for some parts of a depth, one after the other.
    pub(crate) fn each_in(
        &self,
        parts: Range<usize>,
        depth: u32,
        wanted: impl Fn(StateId, Class) -> bool,
        mut visit: impl FnMut(StateId, &[Edge]),
    ) -> Result<(), Limit> {
        let space = self.space;
        if space.logged {
            for shard in parts {
                let id = |local| StateId::new(shard, local);
                let wanted = |local, class| wanted(id(local), class);
                space.each_edges_in(shard, depth, wanted, |local, edges| visit(id(local), edges));
            }
            return Ok(());
        }
        let list: Vec<StateId> = parts.flat_map(|part| space.wanted_in(part, depth, &wanted)).collect();
        if list.is_empty() {
            return Ok(());
        }
        self.workers.with((space, self.model), |worker| self.expand_again(worker, &list, visit))
    }

    /// Expands states of which no edges are kept.
    fn expand_again(
        &self,
        worker: &mut dyn Worker,
        list: &[StateId],
        mut visit: impl FnMut(StateId, &[Edge]),
    ) -> Result<(), Limit> {
        let space = self.space;
        let (mut states, mut out, mut edges, mut found) = (vec![], Expansion::default(), vec![], vec![]);
        out.leave_out_odds();
        let together = self.targets_together();
        let (mut left, mut size) = (list, BATCH);
        while !left.is_empty() {
            let batch;
            (batch, left) = left.split_at(size.min(left.len()));
            if let Some(limit) = (self.stop)() {
                return Err(limit);
            }
            states.clear();
            out.clear();
            for id in batch {
                space.push_words(*id, &mut states);
            }
            worker.expand(&states, self.past_goals, &mut out);
            if space.holds_remainders() {
                size = (batch.len() * together / out.outcomes_len().max(1)).clamp(1, BATCH_MAX);
            }
            found.clear();
            space.find_all(&out.outcomes, &mut found);
            let mut targets = found.iter();
            let mut runs = out.runs.iter();
            for (id, head) in batch.iter().zip(&out.heads) {
                edges.clear();
                for run in runs.by_ref().take(head.runs as usize) {
                    for o in 1..=run.outcomes {
                        // A search that was cut short may lack what a state that broke leads to.
                        let target = targets.next().copied().flatten();
                        edges.extend(target.map(|to| Edge { to, last: o == run.outcomes }));
                    }
                }
                visit(*id, &edges);
            }
        }
        Ok(())
    }

    /// The same for all shards of one depth.
    pub(crate) fn each_of_level(
        &self,
        depth: u32,
        mut visit: impl FnMut(StateId, &[Edge]),
    ) -> Result<(), Limit> {
        if let Some(limit) = (self.stop)() {
            return Err(limit);
        }
        let together = self.parts_together(depth);
        for first in (0..SHARDS).step_by(together) {
            self.each_in(first..first + together, depth, |_, _| true, &mut visit)?;
        }
        Ok(())
    }
}
