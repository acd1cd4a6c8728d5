//! Finds, among the shortest ways to a set of states, the first one in move order.
//!
//! Says nothing of longer ways. O(|S| + |T|) over the levels above the targets; the answer
//! does not depend on how the states are numbered. Needs 4 bytes for each state on a shortest way,
//! beside the space.

use crate::edges::Edges;
use crate::limits::Limit;
use crate::model::{Expansion, Model, MoveId};
use crate::passes::Passes;
use crate::space::{Space, StateId};

/// A way through the space: `states` has one entry more than `moves`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Route {
    /// The moves in order.
    pub moves: Vec<MoveId>,
    /// The packed states passed through, the start first.
    pub states: Vec<Vec<u64>>,
}

fn has(sorted: &[StateId], id: StateId) -> bool {
    sorted.binary_search(&id).is_ok()
}

/// The first shortest route in move order from a start to one of `targets`, all of which that
/// matter lie at `depth`. Where a move has several outcomes the route follows the first
/// outcome that lies on a shortest way. `None` if no target lies at `depth`. `stop` is asked level by level.
pub(crate) fn first_route(
    model: &dyn Model,
    space: &Space,
    depth: u32,
    targets: &[StateId],
    past_goals: bool,
    stop: &(dyn Fn() -> Option<Limit> + Sync),
) -> Result<Option<Route>, Limit> {
    let source = Edges::new((space, model), past_goals, 0, stop);
    // wanted[d] holds, sorted, the states of depth d that lie on a shortest way to a target.
    let mut wanted: Vec<Vec<StateId>> = vec![vec![]; depth as usize + 1];
    let mut last: Vec<StateId> = targets.iter().copied().filter(|&t| space.depth_of(t) == depth).collect();
    last.sort_unstable();
    wanted[depth as usize] = last;
    let back = Passes::back(&source);
    for d in (0..depth).rev() {
        if let Some(back) = &back {
            wanted[d as usize] = back.above(d, &wanted[d as usize + 1])?;
            continue;
        }
        let (above, below) = wanted.split_at_mut(d as usize + 1);
        let (above, below) = (&mut above[d as usize], &below[0]);
        source.each_of_level(d, |id, edges| {
            if edges.iter().any(|e| has(below, e.to)) {
                above.push(id);
            }
        })?;
        above.sort_unstable();
    }
    let Some(&start) = space.starts().iter().find(|s| has(&wanted[0], **s)) else { return Ok(None) };
    let mut here = start;
    let mut route = Route { moves: vec![], states: vec![space.state(here)] };
    let mut worker = model.worker();
    let mut out = Expansion::default();
    let words = model.layout().words();
    for next in &wanted[1..] {
        out.clear();
        worker.expand(&space.state(here), past_goals, &mut out);
        let mut outcomes = out.outcomes.chunks_exact(words);
        let step = out.runs.iter().find_map(|run| {
            let mut targets = outcomes.by_ref().take(run.outcomes as usize);
            let hit = targets.find_map(|s| space.find(s).filter(|id| has(next, *id)));
            targets.for_each(drop);
            hit.map(|id| (run.of, id))
        });
        let Some((of, id)) = step else { return Ok(None) };
        here = id;
        route.moves.push(of);
        route.states.push(space.state(id));
    }
    Ok(Some(route))
}
