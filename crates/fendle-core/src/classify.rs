//! Says of every visited state whether a goal can still be reached, and counts fatal moves.
//!
//! Exact for what was seen: with open states left, a state is dead only if neither a goal nor
//! an open state can be reached from it, so it stays dead whatever the open ones are.
//!
//! # How
//!
//! "Winnable" is the least set that holds every running state with an edge to a goal or to a
//! winnable state. It is filled by sweeps over the stored edges, from the deepest level up and
//! then from the start down, until a whole sweep changes nothing. A sweep is O(|S| + |T|) and
//! reads memory in order; it settles every way to a goal that only goes deeper (or only
//! back) at once, so the number of sweeps is that of the turns a way takes between going
//! deeper and going back, at most |S|. No memory is needed beside the class bytes.

use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

use rayon::prelude::*;

use crate::explore::Exploration;
use crate::model::{Expansion, Model};
use crate::route::Route;
use crate::space::{Class, Edge, Space, StateId};

const SMALL_LEVEL: u64 = 4096;

/// Marks as `to` every running state with a way to a state that `seed` accepts, over states
/// marked on the way.
fn spread(space: &Space, to: Class, seed: impl Fn(Class) -> bool + Sync) {
    let running = Class::Running as u8;
    let levels = space.levels_len();
    let visit_level = |depth: u32| -> bool {
        let one = |shard: &crate::space::Shard| {
            let mut changed = false;
            shard.each_edges(
                depth,
                space.sure,
                |local| shard.raw_class(local).load(Relaxed) == running,
                |local, edges| {
                    if edges.iter().any(|e| {
                        let class = space.class(e.to);
                        class == to || seed(class)
                    }) {
                        shard.set_class(local, to);
                        changed = true;
                    }
                },
            );
            changed
        };
        if space.level_len(depth) < SMALL_LEVEL {
            space.shards.iter().fold(false, |any, s| one(s) | any)
        } else {
            space.shards.par_iter().map(one).reduce(|| false, |a, b| a | b)
        }
    };
    loop {
        let up = (0..levels).rev().fold(false, |any, d| visit_level(d) | any);
        if !up {
            return;
        }
        let down = (0..levels).fold(false, |any, d| visit_level(d) | any);
        if !down {
            return;
        }
    }
}

fn is_bad(class: Class) -> bool {
    matches!(class, Class::Dead | Class::Stuck | Class::Lost | Class::Over)
}

/// Splits the edges of a state into its moves.
fn moves_of(edges: &[Edge]) -> impl Iterator<Item = &[Edge]> {
    edges.split_inclusive(|e| e.last)
}

/// Classifies every running state and fills the counts. Returns the least depth with a
/// fatal move and the states there that have one.
pub(crate) fn classify(
    model: &dyn Model,
    space: &Space,
    counts: &mut Exploration,
) -> Option<(u32, Vec<StateId>)> {
    let rest = if model.has_goal() {
        spread(space, Class::Winnable, |c| c == Class::Goal);
        if !counts.complete {
            // Reuses `Open` as the mark: a running state with a way to an open one is open.
            spread(space, Class::Open, |c| c == Class::Open);
        }
        Class::Dead
    } else {
        Class::Free
    };
    let tally: [AtomicU64; 9] = Default::default();
    space.shards.par_iter().for_each(|shard| {
        let mut local_tally = [0u64; 9];
        for local in 0..shard.len() as u32 {
            let mut class = shard.class(local);
            if class == Class::Running {
                class = rest;
                shard.set_class(local, rest);
            }
            local_tally[class as usize] += 1;
        }
        for (sum, n) in tally.iter().zip(local_tally) {
            sum.fetch_add(n, Relaxed);
        }
    });
    let count = |class: Class| tally[class as usize].load(Relaxed);
    counts.open = count(Class::Open);
    counts.goal = count(Class::Goal);
    counts.lost = count(Class::Lost);
    counts.over = count(Class::Over);
    counts.stuck = count(Class::Stuck);
    counts.dead = count(Class::Dead);
    counts.winnable = count(Class::Winnable);
    counts.free = count(Class::Free);
    if counts.goal > 0 {
        counts.shortest =
            (0..space.levels_len()).find(|&d| space.level(d).any(|id| space.class(id) == Class::Goal));
    }
    let mut nearest: Option<(u32, Vec<StateId>)> = None;
    for depth in 0..space.levels_len() {
        let one = |(n, shard): (usize, &crate::space::Shard)| {
            let mut fatal = 0u64;
            let mut holders = vec![];
            shard.each_edges(
                depth,
                space.sure,
                |local| shard.class(local) == Class::Winnable,
                |local, edges| {
                    let here = moves_of(edges)
                        .filter(|outcomes| outcomes.iter().all(|e| is_bad(space.class(e.to))))
                        .count() as u64;
                    if here > 0 {
                        holders.push(StateId(local << 6 | n as u32));
                    }
                    fatal += here;
                },
            );
            (fatal, holders)
        };
        let found: Vec<(u64, Vec<StateId>)> = if space.level_len(depth) < SMALL_LEVEL {
            space.shards.iter().enumerate().map(one).collect()
        } else {
            space.shards.par_iter().enumerate().map(one).collect()
        };
        let here: u64 = found.iter().map(|f| f.0).sum();
        counts.fatal_moves += here;
        if here > 0 && nearest.is_none() {
            counts.first_fatal_depth = Some(depth);
            nearest = Some((depth, found.into_iter().flat_map(|f| f.1).collect()));
        }
    }
    nearest
}

/// Adds the first fatal move of the last state of `route`, in move order.
pub(crate) fn append_fatal_move(model: &dyn Model, space: &Space, route: &mut Route) {
    let Some(last) = route.states.last().cloned() else { return };
    let mut out = Expansion::default();
    model.worker().expand(&last, false, &mut out);
    let words = model.layout().words();
    let mut outcomes = out.outcomes.chunks_exact(words);
    for run in &out.runs {
        let targets: Vec<&[u64]> = outcomes.by_ref().take(run.outcomes as usize).collect();
        if targets.iter().all(|t| space.find(t).is_some_and(|id| is_bad(space.class(id)))) {
            route.moves.push(run.of);
            route.states.push(targets[0].to_vec());
            return;
        }
    }
}
