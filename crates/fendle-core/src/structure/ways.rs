//! Shortest ways to a goal, and what every way passes.

use std::collections::HashMap;

use num_bigint::BigUint;

use super::{SOLUTIONS_MAX, Share, Shortest, moves_of};
use crate::bits::Bits;
use crate::graph::{Arrows, Distances, Transitions};
use crate::limits::{Limit, Pace};
use crate::model::{Expansion, Model, MoveId};
use crate::numbers::DisjointSets;
use crate::space::{Class, Edge, SHARDS, Space, StateId};

/// The states on every way from the starts to a goal, given one such way: a sweep along it that remembers how far
/// other ways have come. O(|S| + |T|) time at most, two bits a state.
///
/// A state of the given way lies on every way exactly when no other way leads round it; and such a way leaves the
/// given one before it and comes back to it behind it. So other ways are followed only until one comes back behind
/// the state that is looked at; and once one comes to a goal there is nothing more to be found.
pub(super) fn must_pass(
    space: &Space,
    arrows: &Arrows,
    way: &[StateId],
    pace: &mut Pace<'_>,
) -> Result<Vec<StateId>, Limit> {
    let place: HashMap<u32, usize> = way.iter().enumerate().map(|(i, id)| (id.number(), i)).collect();
    let end = way.len();
    // What no other way has come to, and the states of the given one.
    let [mut met, mut on_way] = [0; 2].map(|_| Bits::below(space.ids_len() as u64));
    for id in way {
        on_way.insert(id.number());
    }
    let mut reach: Option<usize> = None;
    let mut work: Vec<u32> = vec![];
    let mut out = vec![];
    let mut visit = |to: u32, work: &mut Vec<u32>, reach: &mut Option<usize>| {
        if on_way.contains(to) {
            *reach = (*reach).max(place.get(&to).copied());
        } else if met.insert(to) {
            match space.class(StateId::from_number(to)) {
                Class::Goal => *reach = Some(end),
                Class::Winnable => work.push(to),
                _ => {}
            }
        }
    };
    for s in space.starts() {
        visit(s.number(), &mut work, &mut reach);
    }
    for (i, id) in way.iter().enumerate() {
        while reach <= Some(i)
            && let Some(state) = work.pop()
        {
            pace.step(1)?;
            for &to in arrows.from(StateId::from_number(state)) {
                visit(to, &mut work, &mut reach);
            }
        }
        if reach == Some(end) {
            break;
        }
        if reach == Some(i) {
            out.push(*id);
        }
        if space.class(*id) != Class::Goal {
            for &to in arrows.from(*id) {
                visit(to, &mut work, &mut reach);
            }
        }
    }
    Ok(out)
}

/// The states on shortest ways to a goal, by depth, sorted. 4 bytes for each.
pub struct OnWay(Vec<Vec<StateId>>);

impl OnWay {
    /// Finds them in the log of a space. `length` is the least depth of a goal. O(|S| + |T|).
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended it.
    pub fn of(space: &Space, length: u32, pace: &mut Pace<'_>) -> Result<OnWay, Limit> {
        OnWay::among(&Transitions::logged(space), length, pace)
    }

    /// Finds them backwards, level by level.
    pub(super) fn among(
        transitions: &Transitions<'_>,
        length: u32,
        pace: &mut Pace<'_>,
    ) -> Result<OnWay, Limit> {
        let space = transitions.space;
        let mut levels = vec![vec![]; length as usize + 1];
        let mut marks = Bits::below(space.ids_len() as u64);
        for d in (0..=length).rev() {
            let mut here: Vec<StateId> = vec![];
            if d == length {
                here.extend(transitions.level(d).filter(|id| space.class(*id) == Class::Goal));
            } else {
                transitions.each(d, |id, edges| {
                    // Marked states lie below: an edge leads at most one level down.
                    if edges.iter().any(|e| marks.contains(e.to.number())) {
                        here.push(id);
                    }
                });
            }
            for id in &here {
                marks.insert(id.number());
            }
            here.sort_unstable();
            levels[d as usize] = here;
            pace.step(2 * space.level_len(d))?;
        }
        Ok(OnWay(levels))
    }

    /// Finds them by their distances: what is as deep as it is near. O(|S|).
    pub(super) fn by(
        space: &Space,
        far: &Distances,
        length: u32,
        pace: &mut Pace<'_>,
    ) -> Result<OnWay, Limit> {
        let mut levels = vec![vec![]; length as usize + 1];
        for part in 0..SHARDS {
            space.each_in_part(part, |id, class| {
                let Some(far) = far.get(id).filter(|d| class.is_hopeful() && *d <= length) else { return };
                let depth = space.depth_of(id);
                if depth + far == length {
                    levels[depth as usize].push(id);
                }
            });
            pace.step((space.ids_len() / SHARDS) as u64)?;
        }
        levels.iter_mut().for_each(|level| level.sort_unstable());
        Ok(OnWay(levels))
    }

    /// Whether a state lies on a shortest way.
    #[must_use]
    pub fn holds(&self, space: &Space, id: StateId) -> bool {
        self.index(space.depth_of(id) as usize, id).is_some()
    }

    /// How many lie at a depth.
    pub(crate) fn level_len(&self, depth: usize) -> usize {
        self.0[depth].len()
    }

    /// The place of a state among those of its depth.
    pub(crate) fn index(&self, depth: usize, id: StateId) -> Option<usize> {
        self.0.get(depth)?.binary_search(&id).ok()
    }

    /// Some shortest way.
    pub(super) fn one_way(&self, transitions: &Transitions<'_>) -> Vec<StateId> {
        let mut out = vec![self.0[0][0]];
        for depth in 1..self.0.len() {
            let here = out[depth - 1];
            let mut next = None;
            transitions.each_of(here, |e| {
                if next.is_none() && self.index(depth, e.to).is_some() {
                    next = Some(e.to);
                }
            });
            out.extend(next);
        }
        out
    }

    /// Counts the shortest solutions.
    pub(super) fn shortest(
        &self,
        model: &dyn Model,
        transitions: &Transitions<'_>,
        pace: &mut Pace<'_>,
    ) -> Result<Shortest, Limit> {
        let space = transitions.space;
        let length = self.0.len() - 1;
        let mut corridor = Share::default();
        let mut ways: Vec<BigUint> = vec![BigUint::from(1u8); self.0[0].len()];
        for depth in 0..length {
            let mut next = vec![BigUint::ZERO; self.0[depth + 1].len()];
            let mut one = |id: StateId, edges: &[Edge]| {
                let Some(i) = self.index(depth, id) else { return };
                for outcomes in moves_of(edges) {
                    corridor.all += 1;
                    corridor.part += u64::from(!outcomes.iter().all(|e| space.class(e.to).is_bad()));
                }
                for e in edges {
                    if let Some(j) = self.index(depth + 1, e.to) {
                        next[j] += &ways[i];
                    }
                }
            };
            if transitions.arrows().is_some() {
                let mut edges = vec![];
                for id in &self.0[depth] {
                    edges.clear();
                    transitions.each_of(*id, |e| edges.push(e));
                    one(*id, &edges);
                }
                pace.step(4 * self.0[depth].len() as u64)?;
            } else {
                transitions.each(depth as u32, &mut one);
                pace.step(4 * space.level_len(depth as u32))?;
            }
            ways = next;
        }
        let count: BigUint = ways.iter().sum();
        let few = u32::try_from(&count).ok().filter(|n| *n <= SOLUTIONS_MAX);
        let classes = match few.filter(|_| space.is_sure()) {
            Some(_) => Some(self.swap_classes(model, space, pace)?),
            None => None,
        };
        Ok(Shortest {
            moves: length as u32,
            count: count.to_string(),
            up_to_swaps: classes,
            states: self.0.iter().map(|l| l.len() as u64).sum(),
            corridor,
        })
    }

    /// Classes of shortest solutions under swaps of neighbouring moves with the same result.
    ///
    /// Every solution is numbered by its place in lexicographic order; a swap changes two terms of that number.
    /// O(solutions times moves).
    fn swap_classes(&self, model: &dyn Model, space: &Space, pace: &mut Pace<'_>) -> Result<u64, Limit> {
        let length = self.0.len() - 1;
        let words = model.layout().words();
        let mut worker = model.worker();
        let mut out = Expansion::default();
        // For each level and state on the way: (move, index at the next level).
        let mut steps: Vec<Vec<Vec<(MoveId, u32)>>> = vec![];
        for depth in 0..length {
            let mut level = vec![];
            for id in &self.0[depth] {
                out.clear();
                worker.expand(&space.state(*id), false, &mut out);
                let here = out.runs.iter().zip(out.outcomes.chunks_exact(words)).filter_map(|(run, to)| {
                    let j = self.index(depth + 1, space.find(to)?)?;
                    Some((run.of, j as u32))
                });
                level.push(here.collect());
            }
            steps.push(level);
        }
        // Solutions from each state on, and before each of its steps.
        let mut left: Vec<Vec<u32>> = vec![vec![1; self.0[length].len()]];
        for level in steps.iter().rev() {
            let below = left.last().expect("a level");
            left.push(level.iter().map(|s| s.iter().map(|(_, j)| below[*j as usize]).sum()).collect());
        }
        left.reverse();
        let before = |depth: usize, i: usize, k: usize| -> u32 {
            steps[depth][i][..k].iter().map(|(_, j)| left[depth + 1][*j as usize]).sum()
        };
        let firsts: Vec<u32> = left[0]
            .iter()
            .scan(0, |sum, n| {
                *sum += n;
                Some(*sum - n)
            })
            .collect();
        let total: u32 = left[0].iter().sum();
        let mut sets = DisjointSets::new(total);
        let mut classes = u64::from(total);
        for (start, first) in firsts.iter().enumerate() {
            // The way under way: at each depth the state and which of its steps is taken.
            let mut way: Vec<(usize, usize)> = vec![(start, 0)];
            let mut number = *first;
            loop {
                while way.len() <= length {
                    let (i, k) = way[way.len() - 1];
                    way.push((steps[way.len() - 1][i][k].1 as usize, 0));
                }
                for d in 0..length.saturating_sub(1) {
                    let ((i, k), (j, l)) = (way[d], way[d + 1]);
                    let (a, b, end) = (steps[d][i][k].0, steps[d + 1][j][l].0, way[d + 2].0);
                    let Some(k2) = steps[d][i].iter().position(|s| s.0 == b) else { continue };
                    let j2 = steps[d][i][k2].1 as usize;
                    let Some(l2) = steps[d + 1][j2].iter().position(|s| s.0 == a && s.1 as usize == end)
                    else {
                        continue;
                    };
                    let other = number - before(d, i, k) - before(d + 1, j, l)
                        + before(d, i, k2)
                        + before(d + 1, j2, l2);
                    classes -= u64::from(sets.join(number, other));
                }
                pace.step(length as u64)?;
                // The next way in order.
                way.pop();
                while let Some((i, k)) = way.pop() {
                    if k + 1 < steps[way.len()][i].len() {
                        way.push((i, k + 1));
                        break;
                    }
                }
                number += 1;
                if way.is_empty() {
                    break;
                }
            }
        }
        Ok(classes)
    }
}
