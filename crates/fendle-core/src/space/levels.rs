//! Which states lie at which depth: in each shard those of one depth have consecutive local numbers.

use std::ops::Range;

use super::id::SHARDS;

/// The depths of a space, from 0.
pub(crate) struct Levels {
    /// For each depth the first local number of each shard.
    firsts: Vec<[u32; SHARDS]>,
    /// For each depth the least depth that an edge from it leads to.
    reach: Vec<u32>,
}

impl Levels {
    /// One depth, which begins at 0 everywhere.
    pub(crate) fn new() -> Levels {
        Levels { firsts: vec![[0; SHARDS]], reach: vec![0] }
    }

    /// How many depths there are.
    pub(crate) fn len(&self) -> u32 {
        self.firsts.len() as u32
    }

    /// Opens the next depth: its states begin at these local numbers.
    pub(crate) fn push(&mut self, firsts: [u32; SHARDS]) {
        self.reach.push(self.firsts.len() as u32);
        self.firsts.push(firsts);
    }

    /// The first local number of each shard at a depth.
    pub(crate) fn firsts(&self, depth: u32) -> &[u32; SHARDS] {
        &self.firsts[depth as usize]
    }

    /// The local numbers of one depth in a shard that holds `len` states.
    pub(crate) fn range(&self, shard: usize, depth: u32, len: usize) -> Range<u32> {
        let at = |d: usize| self.firsts.get(d).map_or(len as u32, |f| f[shard]);
        at(depth as usize)..at(depth as usize + 1)
    }

    /// The depth of a state. O(log depth).
    pub(crate) fn depth_of(&self, shard: usize, local: u32) -> u32 {
        self.firsts.partition_point(|f| f[shard] <= local) as u32 - 1
    }

    /// The least depth that an edge from this one leads to.
    pub(crate) fn reach(&self, depth: u32) -> u32 {
        self.reach[depth as usize]
    }

    /// Notes that an edge from a depth leads to another one.
    pub(crate) fn note_reach(&mut self, depth: u32, to: u32) {
        let reach = &mut self.reach[depth as usize];
        *reach = (*reach).min(to);
    }
}
