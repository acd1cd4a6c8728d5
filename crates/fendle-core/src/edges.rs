//! The transitions of a space, from its log where that was kept, else from the rules again.
//!
//! A search that runs out of memory can drop the log of its edges and go on with the table alone. What looks at edges
//! afterwards, level by level, then expands the states once more and looks their targets up: several times slower, and no
//! memory beside a batch.

use crate::limits::Limit;
use crate::model::{Expansion, Model};
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
        let words = space.words();
        let list = space.wanted_in(shard, depth, wanted);
        if list.is_empty() {
            return Ok(());
        }
        let mut worker = space.worker(self.model);
        let (mut states, mut out, mut edges) = (vec![], Expansion::default(), vec![]);
        out.leave_out_odds();
        for batch in list.chunks(BATCH) {
            if let Some(limit) = (self.stop)() {
                return Err(limit);
            }
            states.clear();
            out.clear();
            for id in batch {
                space.push_words(*id, &mut states);
            }
            worker.expand(&states, self.past_goals, &mut out);
            let mut outcomes = out.outcomes.chunks_exact(words);
            let mut runs = out.runs.iter();
            for (id, head) in batch.iter().zip(&out.heads) {
                edges.clear();
                for run in runs.by_ref().take(head.runs as usize) {
                    for o in 1..=run.outcomes {
                        // A search that was cut short may lack what a state that broke leads to.
                        let target = outcomes.next().and_then(|s| space.find_words(s));
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
        for n in 0..SHARDS {
            self.each(n, depth, |_, _| true, |id, edges| visit(id, edges))?;
        }
        Ok(())
    }
}
