//! Every way in which a move can run, as what it reads and what it changes; and from that, which values can ever be.
//!
//! Where the effects (`reasons::effects`) tell what the moves can change in *any* typed state, this also keeps what has to hold for
//! it. So a value that no play from the given starts can bring about is left out, with all that would follow from it: a
//! body that never gets behind a wall, a cell that the agent never enters. What is left in is more than what can be
//! reached, never less: what two values need together is not asked.

use std::collections::{HashMap, HashSet};

use super::{Eval, Followed, move_list};
use crate::state::Bound;

/// Ways through the moves above which they are not followed.
pub const WAYS_MAX: usize = 200_000;

/// A value that changes: its place in the state, what it was, what it becomes.
pub type Change = (usize, i32, i32);

/// One way in which a move can run.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Way {
    /// The move, by its place in move order.
    pub of: u32,
    /// What is read or overwritten: places of the state and their values before, by place.
    pub reads: Vec<(usize, i32)>,
    /// What changes, by place.
    pub changes: Vec<Change>,
    /// Whether the move runs this way in every state that holds what it reads: other places may hold anything.
    pub exact: bool,
    /// What the move counts.
    pub count: u32,
}

/// All ways of all moves that change something, each once.
#[derive(Clone, Debug, Default)]
pub struct Ways {
    /// The ways, in move order.
    pub list: Vec<Way>,
    /// Ways in which a move is made and changes nothing, in move order.
    pub idle: Vec<Way>,
    /// What is read, places and their values, where a move breaks the model or takes too many steps: perhaps not all of it.
    pub broken: Vec<Vec<(usize, i32)>>,
}

impl Ways {
    /// The ways of all moves of a bound model. `None` when there are more than `most`, when something is read that is not
    /// followed, when branches can be set aside, or when `stop`, which is asked now and then, says so.
    #[must_use]
    pub fn of(b: &Bound, most: usize, stop: &mut dyn FnMut() -> bool) -> Option<Ways> {
        // What is brought into one form changes in other ways than the rules say.
        if b.model.cuts || b.canon.is_some() {
            return None;
        }
        let (mut list, mut idle, mut broken) = (vec![], vec![], vec![]);
        let mut seen: HashSet<Way> = HashSet::new();
        let (mut left, mut asked) = (most, 0u64);
        let ended = b.ended_at();
        for (number, (of, params)) in move_list(b).ok()?.into_iter().enumerate() {
            let followed = Eval::new(b).open_ways(of, &params, &mut |way, cost| {
                left = left.saturating_sub(cost);
                asked += 1;
                if let Followed::Broke(seen) = way {
                    let mut reads = seen.to_vec();
                    reads.sort_unstable();
                    broken.push(reads);
                } else if let Followed::Made(way) = way {
                    let mut reads: Vec<(usize, i32)> = way.seen.to_vec();
                    reads.sort_unstable();
                    let mut changes: Vec<Change> = (reads.iter())
                        .filter(|(at, was)| way.after[*at] != *was)
                        .map(|(at, was)| (*at, *was, way.after[*at]))
                        .collect();
                    if way.after[ended] != 0 && !changes.iter().any(|c| c.0 == ended) {
                        changes.push((ended, 0, way.after[ended]));
                    }
                    reads.extend(way.told);
                    reads.sort_unstable();
                    let way = Way { of: number as u32, reads, changes, exact: way.exact, count: way.count };
                    if seen.insert(way.clone()) {
                        if way.changes.is_empty() { idle.push(way) } else { list.push(way) }
                    }
                }
                left > 0 && !(asked % 1024 == 0 && stop())
            });
            if !followed {
                return None;
            }
        }
        Some(Ways { list, idle, broken })
    }

    /// Whether every open way is taken back by another one: what holds after it is all that the other reads, and that changes
    /// just this back. Then whoever goes from one running state to another can return.
    #[must_use]
    pub fn can_be_undone(&self, can: &CanBe) -> bool {
        let open: Vec<&Way> = self.list.iter().zip(&can.open).filter(|w| *w.1).map(|w| w.0).collect();
        let back = |way: &Way| -> Vec<Change> {
            let mut out: Vec<Change> = way.changes.iter().map(|c| (c.0, c.2, c.1)).collect();
            out.sort_unstable();
            out
        };
        let mut by_changes: HashMap<Vec<Change>, Vec<&Way>> = HashMap::new();
        for way in open.iter().filter(|w| w.exact) {
            let mut changes = way.changes.clone();
            changes.sort_unstable();
            by_changes.entry(changes).or_default().push(way);
        }
        open.iter().all(|way| {
            let after = |at: usize| {
                let change = way.changes.iter().find(|c| c.0 == at).map(|c| c.2);
                change.or_else(|| way.reads.iter().find(|r| r.0 == at).map(|r| r.1))
            };
            let others = by_changes.get(&back(way)).map_or(&[][..], Vec::as_slice);
            others.iter().any(|u| u.reads.iter().all(|(at, value)| after(*at) == Some(*value)))
        })
    }

    /// The values that can be, and the ways that can be taken, in any play from these starts. By propagation: a way is
    /// opened when the last value that it reads has become possible. O(sum of reads).
    #[must_use]
    pub fn can_be(&self, starts: &[&[i32]]) -> CanBe {
        let mut waiting: HashMap<(usize, i32), Vec<u32>> = HashMap::new();
        let mut missing: Vec<u32> = vec![];
        for (n, way) in self.list.iter().enumerate() {
            missing.push(way.reads.len() as u32);
            for read in &way.reads {
                waiting.entry(*read).or_default().push(n as u32);
            }
        }
        let len = starts.first().map_or(0, |s| s.len());
        let mut values: Vec<Vec<i32>> = vec![vec![]; len];
        let mut fresh: Vec<(usize, i32)> =
            starts.iter().flat_map(|s| s.iter().copied().enumerate().collect::<Vec<_>>()).collect();
        let mut open = vec![false; self.list.len()];
        let take = |n: u32, open: &mut Vec<bool>, fresh: &mut Vec<(usize, i32)>| {
            open[n as usize] = true;
            fresh.extend(self.list[n as usize].changes.iter().map(|c| (c.0, c.2)));
        };
        for n in (0..self.list.len() as u32).filter(|n| missing[*n as usize] == 0) {
            take(n, &mut open, &mut fresh);
        }
        while let Some((at, value)) = fresh.pop() {
            if values[at].contains(&value) {
                continue;
            }
            values[at].push(value);
            for n in waiting.remove(&(at, value)).unwrap_or_default() {
                missing[n as usize] -= 1;
                if missing[n as usize] == 0 {
                    take(n, &mut open, &mut fresh);
                }
            }
        }
        values.iter_mut().for_each(|v| v.sort_unstable());
        CanBe { values, open }
    }
}

/// What can be in any play from some starts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CanBe {
    /// For each place of the state the values that it can hold, ascending.
    pub values: Vec<Vec<i32>>,
    /// For each way whether it can be taken.
    pub open: Vec<bool>,
}

/// How the number of members of a set, or of cells with a value, can change.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Count {
    /// It stays.
    Kept,
    /// It stays or gets less.
    Falls,
    /// Nothing is known.
    Free,
}

impl CanBe {
    /// Whether all of these places can hold these values.
    #[must_use]
    pub fn allows(&self, reads: &[(usize, i32)]) -> bool {
        reads.iter().all(|(at, value)| self.values[*at].binary_search(value).is_ok())
    }

    /// How the number of places of a range that hold `value` can change.
    #[must_use]
    pub fn count(&self, ways: &Ways, places: std::ops::Range<usize>, value: i32) -> Count {
        let mut kind = Count::Kept;
        for (way, _) in ways.list.iter().zip(&self.open).filter(|w| *w.1) {
            let change: i32 = (way.changes.iter())
                .filter(|c| places.contains(&c.0))
                .map(|c| i32::from(c.2 == value) - i32::from(c.1 == value))
                .sum();
            match change {
                0 => {}
                1.. => return Count::Free,
                _ => kind = Count::Falls,
            }
        }
        kind
    }
}
