//! Cells that no clue tells apart, and the parts that hang together by clues.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};

use super::facts::Facts;
use crate::numbers::DisjointSets;

/// Cells that no clue tells apart.
#[derive(Clone, Debug, Default)]
pub(super) struct Group {
    pub(super) cells: Vec<u32>,
    pub(super) weights: (u64, u64),
    /// How often the total counts each cell.
    pub(super) total: i32,
}

/// One group of a part: what of it can be counted.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Size {
    pub(super) cells: u32,
    pub(super) weights: (u64, u64),
    pub(super) total: i32,
    /// The clues of the part that count its cells, and how often.
    pub(super) clues: Vec<(u32, i32)>,
}

/// Everything about a part that its counts depend on; equal ones count alike, wherever they lie.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(super) struct Pattern {
    pub(super) groups: Vec<Size>,
    /// For each clue the range of its sum.
    pub(super) ranges: Vec<(i64, i64)>,
}

/// The open cells, grouped.
#[derive(Default)]
pub(super) struct Frontier {
    /// Each part with its groups, in the order of the pattern.
    pub(super) parts: Vec<(Pattern, Vec<Group>)>,
    /// Groups that only the total counts.
    pub(super) sea: Vec<Group>,
}

/// Mixes whole words; good enough for short lists of small numbers.
#[derive(Default)]
pub(super) struct Mix(u64);

impl Hasher for Mix {
    fn finish(&self) -> u64 {
        self.0 ^ (self.0 >> 29)
    }
    fn write(&mut self, bytes: &[u8]) {
        for chunk in bytes.chunks(8) {
            let mut word = [0; 8];
            word[..chunk.len()].copy_from_slice(chunk);
            self.write_u64(u64::from_le_bytes(word));
        }
    }
    fn write_u64(&mut self, n: u64) {
        self.0 = (self.0.rotate_left(5) ^ n).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    }
    fn write_u32(&mut self, n: u32) {
        self.write_u64(n.into());
    }
    fn write_i32(&mut self, n: i32) {
        self.write_u64(n as u64);
    }
    fn write_i64(&mut self, n: i64) {
        self.write_u64(n as u64);
    }
    fn write_usize(&mut self, n: usize) {
        self.write_u64(n as u64);
    }
}

type Hashed = BuildHasherDefault<Mix>;

impl Frontier {
    /// Groups the cells that are open, in the order of their first cells.
    pub(super) fn new(facts: &Facts) -> Frontier {
        /// What makes cells alike: the clues that count them, the total, and their weights.
        type Alike = (Vec<(u32, i32)>, i32, (u64, u64));
        let mut index: HashMap<Alike, usize, Hashed> = HashMap::default();
        let mut groups: Vec<(Vec<(u32, i32)>, Group)> = vec![];
        let live: Vec<bool> =
            (0..facts.clues.len()).map(|i| Some(i) != facts.total && facts.is_live(i)).collect();
        let mut key: Alike = (vec![], 0, (0, 0));
        for (c, value) in facts.value.iter().enumerate() {
            if value.is_some() {
                continue;
            }
            key.0.clear();
            (key.1, key.2) = (0, facts.weights[c]);
            for &(clue, k) in &facts.of[c] {
                if live[clue as usize] {
                    key.0.push((clue, k));
                } else if facts.total == Some(clue as usize) {
                    key.1 = k;
                }
            }
            let at = match index.get(&key) {
                Some(&at) => at,
                None => {
                    index.insert(key.clone(), groups.len());
                    let group = Group { cells: vec![], weights: key.2, total: key.1 };
                    groups.push((key.0.clone(), group));
                    groups.len() - 1
                }
            };
            groups[at].1.cells.push(c as u32);
        }
        let mut sets = DisjointSets::new(facts.clues.len() as u32);
        for (clues, _) in &groups {
            clues.windows(2).for_each(|w| {
                sets.join(w[0].0, w[1].0);
            });
        }
        let mut out = Frontier::default();
        let mut part_of: HashMap<u32, usize, Hashed> = HashMap::default();
        // The number of a clue in its part.
        let mut local: Vec<u32> = vec![u32::MAX; facts.clues.len()];
        for (clues, group) in groups {
            let Some((first, _)) = clues.first() else {
                out.sea.push(group);
                continue;
            };
            let at = *part_of.entry(sets.find(*first)).or_insert(out.parts.len());
            if at == out.parts.len() {
                out.parts.push((Pattern::default(), vec![]));
            }
            let (pattern, members) = &mut out.parts[at];
            let clues = clues.into_iter().map(|(clue, k)| {
                let number = &mut local[clue as usize];
                if *number == u32::MAX {
                    *number = pattern.ranges.len() as u32;
                    let (want, can) = (facts.want[clue as usize], facts.can[clue as usize]);
                    pattern.ranges.push((want.0.max(can.0), want.1.min(can.1)));
                }
                (*number, k)
            });
            let clues = clues.collect();
            pattern.groups.push(Size {
                cells: group.cells.len() as u32,
                weights: group.weights,
                total: group.total,
                clues,
            });
            members.push(group);
        }
        out
    }
}

impl Pattern {
    /// An order of groups in which few clues are open at a time: always the one that opens fewest new clues, and
    /// among those the one that closes most; begun at a group with few clues.
    pub(super) fn order(&self) -> Vec<usize> {
        let mut left = vec![0usize; self.ranges.len()];
        self.groups.iter().flat_map(|g| &g.clues).for_each(|c| left[c.0 as usize] += 1);
        let mut open = vec![false; self.ranges.len()];
        let mut rest: Vec<usize> = (0..self.groups.len()).collect();
        let mut out = vec![];
        while !rest.is_empty() {
            let any_open = !out.is_empty() && open.iter().any(|o| *o);
            let cost = |g: usize| {
                let (mut new, mut closes, mut touches, mut wait) = (0i64, 0, false, usize::MAX);
                for &(c, _) in &self.groups[g].clues {
                    let c = c as usize;
                    if open[c] {
                        touches = true;
                        // The fewer groups an open clue still waits for, the sooner it is taken.
                        wait = wait.min(left[c]);
                    } else {
                        new += 1;
                    }
                    closes += i64::from(left[c] == 1);
                }
                (!touches && any_open, new - closes, wait)
            };
            let at = (0..rest.len()).min_by_key(|&i| (cost(rest[i]), rest[i])).expect("some are left");
            let g = rest.remove(at);
            for &(c, _) in &self.groups[g].clues {
                left[c as usize] -= 1;
                open[c as usize] = left[c as usize] > 0;
            }
            out.push(g);
        }
        out
    }
}
