//! What was met while a space is written out: states, and positions before a draw, each once.
//!
//! Where they have small numbers, a bit says whether a number was met, and tables hold numbers until everything was seen; then
//! each number becomes its place in the order in which it was met. Else a table finds them.

use std::sync::Arc;

use rayon::prelude::*;

use super::make_room;
use crate::bits::Bits;
use crate::model::{Layout, Numbering};
use crate::space::hash;
use crate::space::table::StateTable;

/// Set in the vertex of an arc that leads to a node, while the number of states is not known.
pub(super) const NODE: u32 = 1 << 31;
/// Set beside [`NODE`] where nodes have numbers, for one that is no position.
pub(super) const UNNUMBERED: u32 = 1 << 30;
/// Ranges of numbers that can be told apart from both.
pub(super) const RANGE_MAX: u64 = UNNUMBERED as u64;

/// The place of each number in the order in which numbers were met.
pub(super) struct Places {
    bits: Bits,
    /// How many numbers were met below those of each word.
    before: Vec<u32>,
    /// For the numbers that were met, ascending.
    of: Vec<u32>,
}

impl Places {
    /// From the numbers as they were met; `NODE` is none. 4 bytes a number and half a bit for each of the range.
    /// O(range / 64 + numbers).
    fn new(bits: Bits, met: &[u32]) -> Places {
        let mut sum = 0;
        let count = |word: &u64| {
            let before = sum;
            sum += word.count_ones();
            before
        };
        let before = bits.words().iter().map(count).collect();
        let mut places = Places { bits, before, of: vec![0; sum as usize] };
        for (place, n) in met.iter().enumerate().filter(|n| *n.1 != NODE) {
            let rank = places.rank(*n);
            places.of[rank] = place as u32;
        }
        places
    }

    /// How many numbers below this one were met.
    #[inline]
    fn rank(&self, n: u32) -> usize {
        let word = n as usize / 64;
        let below = self.bits.words()[word] & ((1 << (n % 64)) - 1);
        (self.before[word] + below.count_ones()) as usize
    }

    #[inline]
    fn get(&self, n: u32) -> u32 {
        self.of[self.rank(n)]
    }
}

/// States in the order in which they were met.
pub(super) enum States {
    /// Packed, or numbers of a large range.
    Table(StateTable, Option<Arc<dyn Numbering>>),
    /// Numbers of a small range. The bits are gone when everything was seen.
    Numbers { numbering: Arc<dyn Numbering>, met: Bits, list: Vec<u32> },
}

impl States {
    /// For packed states, most of them.
    pub(super) fn packed(layout: Layout, most: usize) -> States {
        States::Table(StateTable::new(layout, most), None)
    }

    /// For numbers of a small range.
    pub(super) fn numbers(numbering: Arc<dyn Numbering>) -> States {
        States::Numbers { met: Bits::below(numbering.range()), numbering, list: vec![] }
    }

    pub(super) fn len(&self) -> usize {
        match self {
            States::Table(table, _) => table.len(),
            States::Numbers { list, .. } => list.len(),
        }
    }

    /// Appends state number `i` as it is kept.
    #[inline]
    pub(super) fn push_state(&self, i: usize, out: &mut Vec<u64>) {
        match self {
            States::Table(table, _) => table.push_state(i, out),
            States::Numbers { list, .. } => out.push(list[i].into()),
        }
    }

    /// The packed words of a state.
    pub(super) fn state(&self, i: usize) -> Vec<u64> {
        let mut out = vec![];
        self.push_state(i, &mut out);
        match self {
            States::Numbers { numbering, .. } | States::Table(_, Some(numbering)) => numbering.state(out[0]),
            States::Table(_, None) => out,
        }
    }

    /// What stands for a state in the tables, if it was met.
    pub(super) fn find(&self, state: &[u64]) -> Option<u32> {
        match self {
            States::Table(table, _) => table.find(state, hash(state)),
            States::Numbers { met, .. } => Some(state[0] as u32).filter(|n| met.contains(*n)),
        }
    }

    /// What stands for a state in the tables, and whether it is new. `None` when there is no room for more.
    #[inline]
    pub(super) fn insert(&mut self, state: &[u64]) -> Option<(u32, bool)> {
        match self {
            States::Table(table, _) => table.insert(state, hash(state)),
            States::Numbers { met, list, .. } => {
                let n = state[0] as u32;
                let new = met.insert(n);
                if new {
                    make_room(list, 1);
                    list.push(n);
                }
                Some((n, new))
            }
        }
    }

    /// The same for many, for each of which `place` is called. False when there is no room for more.
    pub(super) fn insert_all(&mut self, states: &[u64], mut place: impl FnMut(u32)) -> bool {
        match self {
            States::Table(table, _) => table.insert_all(states, |n, _| {
                place(n);
                true
            }),
            States::Numbers { met, list, .. } => {
                for state in states {
                    let n = *state as u32;
                    if met.insert(n) {
                        make_room(list, 1);
                        list.push(n);
                    }
                    place(n);
                }
                true
            }
        }
    }

    /// Bytes that serve to find states.
    pub(super) fn index_bytes(&self) -> u64 {
        match self {
            States::Table(table, _) => table.index_bytes(),
            States::Numbers { met, .. } => met.bytes(),
        }
    }

    pub(super) fn bytes(&self) -> u64 {
        match self {
            States::Table(table, _) => table.bytes(),
            States::Numbers { met, list, .. } => met.bytes() + 4 * list.capacity() as u64,
        }
    }

    /// Whether tables hold numbers, not places.
    pub(super) fn is_numbered(&self) -> bool {
        matches!(self, States::Numbers { .. })
    }

    /// Forgets how states are found. Gives the place of each number, where tables hold numbers.
    pub(super) fn close(&mut self) -> Option<Places> {
        match self {
            States::Table(table, _) => {
                table.forget_index();
                None
            }
            States::Numbers { met, list, .. } => {
                list.shrink_to_fit();
                Some(Places::new(std::mem::replace(met, Bits::below(0)), list))
            }
        }
    }
}

/// Nodes, in the order in which they were met, and the positions that they stand for.
pub(super) enum Nodes {
    /// Positions are found by a table, and each has a node.
    Table(StateTable, Vec<u32>),
    /// Positions have numbers: that of each node, or [`NODE`].
    Numbers(Bits, Vec<u32>),
}

impl Nodes {
    pub(super) fn bytes(&self) -> u64 {
        match self {
            Nodes::Table(table, of) => table.bytes() + 4 * of.capacity() as u64,
            Nodes::Numbers(met, list) => met.bytes() + 4 * list.capacity() as u64,
        }
    }
}

/// Numbers in a large table, on several threads: how many at a time.
const PIECE: usize = 1 << 14;

/// Replaces what stands for vertices by their numbers: states first, then nodes.
pub(super) fn put_places(to: &mut [u32], states: Option<&Places>, nodes: Option<&Places>, states_len: u32) {
    let place = |v: u32| match (v & NODE != 0, v & UNNUMBERED != 0) {
        (false, _) => states.map_or(v, |p| p.get(v)),
        (true, false) if nodes.is_some() => nodes.map_or(v, |p| p.get(v & !NODE)) + states_len,
        (true, true) if nodes.is_some() => (v & !(NODE | UNNUMBERED)) + states_len,
        (true, _) => (v & !NODE) + states_len,
    };
    to.par_chunks_mut(PIECE).for_each(|piece| piece.iter_mut().for_each(|v| *v = place(*v)));
}

/// The places of positions by number; `None` where they are found by a table.
pub(super) fn close_nodes(nodes: Nodes) -> Option<Places> {
    match nodes {
        Nodes::Table(..) => None,
        Nodes::Numbers(met, list) => Some(Places::new(met, &list)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_those_in_the_order_of_meeting() {
        let mut bits = Bits::below(5000);
        let met: Vec<u32> = (0..1200u32).map(|i| i * 1237 % 5000).collect();
        for n in &met {
            assert!(bits.insert(*n) && !bits.insert(*n) && bits.contains(*n));
        }
        let mut list = met.clone();
        list.insert(7, NODE);
        let places = Places::new(bits, &list);
        for (i, n) in met.iter().enumerate() {
            assert_eq!(places.get(*n) as usize, i + usize::from(i >= 7), "number {n}");
        }
        let mut to = vec![met[3], NODE | met[8], NODE | UNNUMBERED | 7];
        put_places(&mut to, Some(&places), Some(&places), 1000);
        assert_eq!(to, [3, 1009, 1007]);
        let mut to = vec![5, NODE | 6];
        put_places(&mut to, None, None, 1000);
        assert_eq!(to, [5, 1006]);
    }
}
