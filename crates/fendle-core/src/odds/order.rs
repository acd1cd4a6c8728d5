//! The order in which vertices are valued: strongly connected parts, each after those that it leads to.

use std::sync::atomic::AtomicU32;
use std::sync::atomic::Ordering::Relaxed;

use rayon::prelude::*;

use super::graph::Graph;
use crate::components::{Digraph, components};
use crate::limits::{Limit, Pace};

/// All vertices, part by part.
pub(super) struct Parts {
    order: Vec<u32>,
    /// Without cycles: where each layer begins in the order, with one entry more. No arrow leads from one vertex of a layer to
    /// another.
    layers: Vec<u32>,
    /// Where each part begins, with one entry more; empty where every part is one vertex.
    first: Vec<u32>,
    /// Vertices with an arrow to themselves, ascending.
    round: Vec<u32>,
}

impl Parts {
    /// Finds them. O(V + E) time, 16 bytes a vertex while it runs.
    pub(super) fn of(g: &Graph, pace: &mut Pace<'_>) -> Result<Parts, Limit> {
        if let Some(layers) = Parts::layers(g, pace)? {
            return Ok(layers);
        }
        let found = components(g, 0..g.vertices_len() as u32, |_| true, pace)?;
        let (order, first) = found.in_order();
        // In the order of the tables, which is many times faster than part by part.
        let mut round = vec![];
        for v in 0..g.vertices_len() as u32 {
            pace.step(1)?;
            if (g.first(v)..g.first(v + 1)).any(|a| g.target(a) == v) {
                round.push(v);
            }
        }
        Ok(Parts { order, layers: vec![], first, round })
    }

    /// The same where there is no cycle: again and again all vertices that nothing leads to any more are taken away (Kahn,
    /// *Topological sorting of large networks*, Communications of the ACM 5, 1962). O(V + E) time, 8 bytes a vertex. `None`
    /// where there is a cycle.
    fn layers(g: &Graph, pace: &mut Pace<'_>) -> Result<Option<Parts>, Limit> {
        let count = g.vertices_len();
        let mut left: Vec<AtomicU32> = vec![];
        left.resize_with(count, AtomicU32::default);
        let note = |v: u32| {
            g.each(v, |t| {
                left[t as usize].fetch_add(1, Relaxed);
            });
        };
        for first in (0..count as u32).step_by(PIECE) {
            let piece = first..(first + PIECE as u32).min(count as u32);
            pace.step(piece.len() as u64)?;
            g.on_threads(|| piece.into_par_iter().with_min_len(FEW).for_each(note));
        }
        let mut order: Vec<u32> = Vec::with_capacity(count);
        order.extend((0..count as u32).filter(|v| left[*v as usize].load(Relaxed) == 0));
        // Whoever takes the last arrow to a vertex away adds it to the next layer.
        let take = |some: &[u32]| {
            let mut next = vec![];
            for v in some {
                g.each(*v, |t| {
                    if left[t as usize].fetch_sub(1, Relaxed) == 1 {
                        next.push(t);
                    }
                });
            }
            next
        };
        let mut ends = vec![0];
        let mut at = 0;
        while at < order.len() {
            let end = order.len();
            ends.push(end as u32);
            while at < end {
                let to = (at + PIECE).min(end);
                pace.step((to - at) as u64)?;
                let piece = &order[at..to];
                let next: Vec<Vec<u32>> = match piece.len() < FEW {
                    true => vec![take(piece)],
                    false => g.on_threads(|| piece.par_chunks(FEW).map(take).collect()),
                };
                next.iter().for_each(|n| order.extend_from_slice(n));
                at = to;
            }
        }
        if order.len() < count {
            return Ok(None);
        }
        order.reverse();
        let layers = ends.iter().rev().map(|e| count as u32 - e).collect();
        Ok(Some(Parts { order, layers, first: vec![], round: vec![] }))
    }

    /// Whether no vertex lies on a cycle.
    pub(super) fn has_none(&self) -> bool {
        !self.layers.is_empty()
    }

    /// Without cycles: gives each vertex its entry in a list, when those behind it have theirs. `entry` is given the vertex and
    /// the list; large layers are worked on by all threads.
    pub(super) fn fill<T: Copy + Send + Sync>(
        &self,
        g: &Graph,
        list: &mut [T],
        entry: impl Fn(u32, &[T]) -> T + Sync,
        pace: &mut Pace<'_>,
    ) -> Result<(), Limit> {
        let mut made = vec![];
        for ends in self.layers.windows(2) {
            for piece in self.order[ends[0] as usize..ends[1] as usize].chunks(PIECE) {
                pace.step(2 * piece.len() as u64)?;
                if piece.len() < FEW {
                    piece.iter().for_each(|v| list[*v as usize] = entry(*v, list));
                    continue;
                }
                let all = &*list;
                let one = |v: &u32| entry(*v, all);
                g.on_threads(|| piece.par_iter().with_min_len(FEW / 2).map(one).collect_into_vec(&mut made));
                for (v, x) in piece.iter().zip(&made) {
                    list[*v as usize] = *x;
                }
            }
        }
        Ok(())
    }

    /// How many there are.
    pub(super) fn len(&self) -> usize {
        if self.first.is_empty() { self.order.len() } else { self.first.len() - 1 }
    }

    /// The vertices of a part.
    #[inline]
    pub(super) fn get(&self, part: usize) -> &[u32] {
        match self.first.get(part..part + 2) {
            Some(ends) => &self.order[ends[0] as usize..ends[1] as usize],
            None => &self.order[part..=part],
        }
    }

    /// All of them, successors first.
    pub(super) fn iter(&self) -> impl Iterator<Item = &[u32]> {
        (0..self.len()).map(|i| self.get(i))
    }

    /// Whether a part holds a cycle.
    #[inline]
    pub(super) fn has_cycle(&self, part: &[u32]) -> bool {
        part.len() > 1 || !self.round.is_empty() && self.round.binary_search(&part[0]).is_ok()
    }
}

/// Vertices of a layer that are worked on before the limits are looked at again.
const PIECE: usize = 1 << 17;
/// Fewer vertices are worked on by one thread.
const FEW: usize = 1 << 11;

/// Arrows between some vertices, with numbers of their own.
#[derive(Default)]
pub(super) struct Arrows {
    first: Vec<u32>,
    to: Vec<u32>,
}

impl Arrows {
    /// None yet.
    pub(super) fn new() -> Arrows {
        Arrows { first: vec![0], to: vec![] }
    }

    /// Adds the arrows of the next vertex.
    pub(super) fn push(&mut self, targets: impl Iterator<Item = u32>) {
        self.to.extend(targets);
        self.first.push(self.to.len() as u32);
    }
}

impl Digraph for Arrows {
    fn len(&self) -> usize {
        self.first.len() - 1
    }
    fn first(&self, node: u32) -> u32 {
        self.first[node as usize]
    }
    fn target(&self, arrow: u32) -> u32 {
        self.to[arrow as usize]
    }
}

/// Numbers for the vertices of one part, and what leads to each of them from inside.
///
/// Made once and used for one part after the other. Takes memory for the part and its own arrows alone; a part that is a good
/// deal of the graph has a table of 4 bytes a vertex of the graph, too.
#[derive(Default)]
pub(super) struct Local {
    /// The number of each vertex of the graph; empty for small parts, whose members are looked through.
    of: Vec<u32>,
    /// The vertices, by number: ascending.
    pub(super) members: Vec<u32>,
    first: Vec<u32>,
    from: Vec<u32>,
}

/// No number.
const NONE: u32 = u32::MAX;
/// A part of more than one in so many vertices has a table.
const LARGE: usize = 16;

impl Local {
    /// Takes up a part. O(its arrows).
    pub(super) fn take(&mut self, g: &Graph, part: &[u32]) {
        debug_assert!(part.is_sorted());
        let large = part.len() > g.vertices_len() / LARGE;
        self.members.clear();
        self.members.extend_from_slice(part);
        self.of.clear();
        if large {
            self.of.resize(g.vertices_len(), NONE);
            for (i, v) in part.iter().enumerate() {
                self.of[*v as usize] = i as u32;
            }
        }
        let mut first = std::mem::take(&mut self.first);
        let mut from = std::mem::take(&mut self.from);
        first.clear();
        first.resize(part.len() + 1, 0);
        for v in part {
            g.each(*v, |t| {
                if let Some(i) = self.number(t) {
                    first[i + 1] += 1;
                }
            });
        }
        for i in 0..part.len() {
            first[i + 1] += first[i];
        }
        from.clear();
        from.resize(first[part.len()] as usize, 0);
        let mut next = first.clone();
        for (i, v) in part.iter().enumerate() {
            g.each(*v, |t| {
                if let Some(slot) = self.number(t).map(|n| &mut next[n]) {
                    from[*slot as usize] = i as u32;
                    *slot += 1;
                }
            });
        }
        (self.first, self.from) = (first, from);
    }

    /// The number of a vertex, if it belongs to the part.
    #[inline]
    pub(super) fn number(&self, v: u32) -> Option<usize> {
        if self.of.is_empty() {
            return self.members.binary_search(&v).ok();
        }
        let n = self.of[v as usize];
        (n != NONE).then_some(n as usize)
    }

    /// How many vertices there are.
    pub(super) fn len(&self) -> usize {
        self.members.len()
    }

    /// The numbers of those that lead to a vertex, once for each arrow.
    pub(super) fn sources(&self, number: usize) -> &[u32] {
        &self.from[self.first[number] as usize..self.first[number + 1] as usize]
    }
}
