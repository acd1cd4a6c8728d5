//! Parts of a solution solved again: from each of its states a breadth-first search looks for a later one that is nearer than the solution
//! thought.

use std::collections::HashMap;

use crate::limits::{Limit, Progress, Watch};
use crate::model::{Expansion, Model, MoveId, Worker};
use crate::route::Route;

/// Shortens a route of a model without chance until no part can be shortened within `states` states, or the watch says to stop; `better` is
/// told each length. Gives what stopped it.
pub fn shorten(
    model: &dyn Model,
    route: &mut Route,
    states: usize,
    watch: &dyn Watch,
    better: &mut dyn FnMut(usize),
) -> Option<Limit> {
    let mut worker = model.worker();
    let mut at = 0;
    while at + 1 < route.states.len() {
        let progress = Progress { depth: route.moves.len() as u32, ..Progress::default() };
        if let Some(limit) = watch.look(&progress) {
            return Some(limit);
        }
        match short_cut(&mut *worker, route, at, states) {
            Some((to, moves, passed)) => {
                route.moves.splice(at..to, moves);
                route.states.splice(at + 1..=to, passed);
                better(route.moves.len());
                // What lies just before may be shortened, too.
                at = at.saturating_sub(12);
            }
            None => at += 1,
        }
    }
    None
}

/// A later state of the route that is nearer than it thought, with the moves to it and the states that these come to.
type ShortCut = (usize, Vec<MoveId>, Vec<Vec<u64>>);

fn short_cut(worker: &mut dyn Worker, route: &Route, at: usize, most: usize) -> Option<ShortCut> {
    let words = route.states[at].len();
    let later: HashMap<&[u64], usize> =
        route.states.iter().enumerate().skip(at + 1).map(|(i, s)| (s.as_slice(), i)).collect();
    let mut known: HashMap<Vec<u64>, u32> = HashMap::new();
    let mut list: Vec<(Vec<u64>, u32, MoveId)> = vec![(route.states[at].clone(), 0, MoveId(0))];
    known.insert(route.states[at].clone(), 0);
    let (mut next, mut depth, mut level_end) = (0, 1usize, 1);
    let mut best: Option<(usize, u32)> = None;
    let mut out = Expansion::default();
    while next < list.len() && list.len() < most {
        if next == level_end {
            depth += 1;
            level_end = list.len();
        }
        out.clear();
        worker.expand(&list[next].0, false, &mut out);
        if !out.faults.is_empty() || !out.unfinished.is_empty() {
            return None;
        }
        let mut i = 0;
        for run in &out.runs {
            for _ in 0..run.outcomes {
                let state = &out.outcomes[i * words..(i + 1) * words];
                i += 1;
                if known.contains_key(state) {
                    continue;
                }
                known.insert(state.to_vec(), list.len() as u32);
                list.push((state.to_vec(), next as u32, run.of));
                if let Some(&to) = later.get(state) {
                    let saves = |to: usize, n: usize| (to - at).saturating_sub(n);
                    let so_far = best.map_or(0, |(to, number)| saves(to, depth_of(&list, number)));
                    if saves(to, depth) > so_far {
                        best = Some((to, list.len() as u32 - 1));
                    }
                }
            }
        }
        next += 1;
    }
    let (to, mut number) = best?;
    let (mut moves, mut passed) = (vec![], vec![]);
    while number != 0 {
        let (state, parent, of) = &list[number as usize];
        moves.push(*of);
        passed.push(state.clone());
        number = *parent;
    }
    moves.reverse();
    passed.reverse();
    Some((to, moves, passed))
}

fn depth_of(list: &[(Vec<u64>, u32, MoveId)], mut number: u32) -> usize {
    let mut depth = 0;
    while number != 0 {
        number = list[number as usize].1;
        depth += 1;
    }
    depth
}
