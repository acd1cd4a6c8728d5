//! The transitions of a space, from its log where that was kept, else from the rules again.
//!
//! A search that runs out of memory can drop the log of its edges and go on with the table alone. What looks at edges
//! afterwards, level by level, then expands the states once more and looks their targets up: several times slower, and no
//! memory beside a batch.

use crate::limits::Limit;
use crate::model::{Expansion, Model};
use crate::space::dense::Dense;
use crate::space::{Class, Edge, SHARDS, Space, StateId};

/// States expanded together.
const BATCH: usize = 256;

/// Where edges come from.
pub(crate) struct Edges<'a> {
    pub(crate) space: &'a Space,
    pub(crate) model: &'a dyn Model,
    pub(crate) past_goals: bool,
    /// Asked before each batch and each level of a shard; a limit ends the pass.
    pub(crate) stop: &'a (dyn Fn() -> Option<Limit> + Sync),
}

impl Edges<'_> {
    /// Calls `visit(local, edges)` for the expanded states of one depth in one shard that are `wanted`, in local order.
    pub(crate) fn each(
        &self,
        shard: usize,
        depth: u32,
        wanted: impl Fn(StateId, Class) -> bool,
        mut visit: impl FnMut(StateId, &[Edge]),
    ) -> Result<(), Limit> {
        let space = self.space;
        let id = |local| StateId::new(shard, local);
        if space.logged {
            let wanted = |local, class| wanted(id(local), class);
            space.each_edges_in(shard, depth, wanted, |local, edges| visit(id(local), edges));
            return Ok(());
        }
        if let Some(dense) = &space.dense {
            return self.each_by_number(dense, shard, depth, wanted, visit);
        }
        let own = &space.shards[shard];
        let words = space.layout.words();
        let range = space.level_of(shard, depth);
        let list: Vec<u32> = (range.start..range.end.min(own.expanded()))
            .filter(|l| wanted(id(*l), own.classes.get(*l)))
            .collect();
        if list.is_empty() {
            return Ok(());
        }
        let mut worker = space.worker(self.model);
        let (mut states, mut out, mut edges) = (vec![], Expansion::default(), vec![]);
        for batch in list.chunks(BATCH) {
            if let Some(limit) = (self.stop)() {
                return Err(limit);
            }
            states.clear();
            out.clear();
            for local in batch {
                own.table.push_state(*local as usize, &mut states);
            }
            worker.expand(&states, self.past_goals, &mut out);
            let mut outcomes = out.outcomes.chunks_exact(words);
            let mut runs = out.runs.iter();
            for (local, head) in batch.iter().zip(&out.heads) {
                edges.clear();
                for run in runs.by_ref().take(head.runs as usize) {
                    for o in 1..=run.outcomes {
                        // A search that was cut short may lack what a state that broke leads to.
                        let target = outcomes.next().and_then(|s| space.find_words(s));
                        edges.extend(target.map(|to| Edge { to, last: o == run.outcomes }));
                    }
                }
                visit(id(*local), &edges);
            }
        }
        Ok(())
    }

    /// The same for states by number; the part is a piece of the range.
    fn each_by_number(
        &self,
        dense: &Dense,
        part: usize,
        depth: u32,
        wanted: impl Fn(StateId, Class) -> bool,
        mut visit: impl FnMut(StateId, &[Edge]),
    ) -> Result<(), Limit> {
        let (from, to) = self.space.part(part);
        let mut list = vec![];
        dense.each_seen(from, to, |number, mark| {
            let id = StateId::from_number(number as u32);
            if dense.depth_of(mark) == depth && wanted(id, dense.class_of(mark)) {
                list.push(number);
            }
        });
        if list.is_empty() {
            return Ok(());
        }
        let mut worker = self.model.worker_by_number();
        let (mut out, mut edges) = (Expansion::default(), vec![]);
        for batch in list.chunks(BATCH) {
            if let Some(limit) = (self.stop)() {
                return Err(limit);
            }
            out.clear();
            worker.expand(batch, self.past_goals, &mut out);
            let mut outcomes = out.outcomes.iter();
            let mut runs = out.runs.iter();
            for (number, head) in batch.iter().zip(&out.heads) {
                edges.clear();
                for run in runs.by_ref().take(head.runs as usize) {
                    for o in 1..=run.outcomes {
                        let target = outcomes.next().filter(|t| dense.get(**t) != 0);
                        edges.extend(
                            target.map(|t| Edge {
                                to: StateId::from_number(*t as u32),
                                last: o == run.outcomes,
                            }),
                        );
                    }
                }
                visit(StateId::from_number(*number as u32), &edges);
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
        for n in 0..SHARDS {
            self.each(n, depth, |_, _| true, |id, edges| visit(id, edges))?;
        }
        Ok(())
    }
}
