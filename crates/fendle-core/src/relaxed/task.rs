//! A puzzle as places that hold values, and the ways in which its moves can run.

use super::turns::Turn;
use crate::model::MoveId;

/// One way in which a move can run.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct TaskWay {
    /// The move.
    pub of: MoveId,
    /// What it counts: 1, unless something else than moves is counted.
    pub count: u32,
    /// Places and what they have to hold, by place.
    pub reads: Vec<(u32, i32)>,
    /// Places that change, what they held, and what they hold then. What changes is also read.
    pub changes: Vec<(u32, i32, i32)>,
}

/// Things that are told apart by nothing but where they are: all that is one value in one group of places, of which
/// there never become more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kind {
    /// How it is called.
    pub name: String,
    /// The group of places in which it lies: kinds of one group never lie in the same place.
    pub group: u32,
    /// The value that says that one of them is there.
    pub value: i32,
    /// The places where one can ever be, ascending.
    pub places: Vec<u32>,
    /// How many there are at the start.
    pub count: u32,
    /// There may become fewer.
    pub falls: bool,
}

/// A puzzle as the relaxed puzzles are made from it.
#[derive(Clone, Debug, Default)]
pub struct Task {
    /// What each place holds at the start.
    pub start: Vec<i32>,
    /// For each place the values that it can ever hold, ascending.
    pub values: Vec<Vec<i32>>,
    /// For each place the group of places in which kinds of things lie, if it is in one.
    pub group: Vec<Option<u32>>,
    /// For each place how it is called.
    pub names: Vec<String>,
    /// Every way in which a move can run from a state that can be reached, at the least.
    pub ways: Vec<TaskWay>,
    /// A won state holds all of one of these, at the least.
    pub goals: Vec<Vec<(u32, i32)>>,
    /// The kinds of things.
    pub kinds: Vec<Kind>,
    /// Each way can be taken in every running state that holds what it reads, and the states that hold what one of the goals says
    /// are those that are won.
    pub exact: bool,
    /// The ways to turn or mirror it after which it is the same puzzle.
    pub turns: Vec<Turn>,
}

/// A place outside any group that says where one thing is, or a kind of one thing: what takes part in all ways.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Link {
    /// A kind with one thing.
    Kind(u32),
    /// A place outside the groups.
    Place(u32),
}

impl Task {
    /// The kind of a value in a place.
    #[must_use]
    pub fn kind_of(&self, place: u32, value: i32) -> Option<usize> {
        let group = self.group[place as usize]?;
        self.kinds.iter().position(|k| k.group == group && k.value == value)
    }

    /// What takes part in every way: the agent, the gap.
    #[must_use]
    pub fn links(&self) -> Vec<Link> {
        let mut out = vec![];
        for (k, kind) in self.kinds.iter().enumerate() {
            let reads = |w: &TaskWay| {
                w.reads.iter().any(|r| r.1 == kind.value && self.group[r.0 as usize] == Some(kind.group))
            };
            if kind.count == 1 && !kind.falls && !self.ways.is_empty() && self.ways.iter().all(reads) {
                out.push(Link::Kind(k as u32));
            }
        }
        for place in 0..self.start.len() as u32 {
            let reads = |w: &TaskWay| w.reads.iter().any(|r| r.0 == place);
            let outside = self.group[place as usize].is_none() && self.values[place as usize].len() > 1;
            if outside && !self.ways.is_empty() && self.ways.iter().all(reads) {
                out.push(Link::Place(place));
            }
        }
        out
    }

    /// For each way the kind whose thing it is counted for: the first one that it moves, links left out. Each way is counted for one
    /// thing at the most, which is why counts of different things add up.
    #[must_use]
    pub fn counted_for(&self) -> Vec<Option<(usize, u32)>> {
        let links = self.links();
        (self.ways.iter())
            .map(|w| {
                w.changes.iter().find_map(|&(place, from, _)| {
                    let k = self.kind_of(place, from)?;
                    (!links.contains(&Link::Kind(k as u32))).then_some((k, place))
                })
            })
            .collect()
    }

    /// The logarithm to the base 2 of how many states there are at most: all placements of the kinds, and all values of the other
    /// places.
    #[must_use]
    pub fn size_log2(&self) -> f64 {
        let mut out = 0.0;
        // Where things of a group lie, no others of it do; kinds with many places come after those with few.
        let mut kinds: Vec<&Kind> = self.kinds.iter().collect();
        kinds.sort_by_key(|k| k.places.len());
        for (n, kind) in kinds.iter().enumerate() {
            let within =
                |k: &&&Kind| k.group == kind.group && k.places.iter().all(|p| kind.places.contains(p));
            let taken: u32 =
                kinds[..n].iter().filter(within).map(|k| if k.falls { 0 } else { k.count }).sum();
            // So many of them there are; where they fall, each smaller number counts as well.
            let (mut placements, mut all) = (0.0f64, 0.0f64);
            for i in 0..kind.count {
                let free = (kind.places.len() as f64 - f64::from(taken + i)).max(1.0);
                placements += (free / f64::from(i + 1)).log2();
                let (more, less) = if all > placements { (all, placements) } else { (placements, all) };
                all = more + (1.0 + (less - more).exp2()).log2();
            }
            out += if kind.falls { all } else { placements };
        }
        let values = self.values.iter().zip(&self.group).filter(|v| v.1.is_none()).map(|v| v.0);
        out + values.map(|v| (v.len().max(1) as f64).log2()).sum::<f64>()
    }

    /// Whether a state is one that a goal describes.
    #[must_use]
    pub fn is_goal(&self, values: &[i32]) -> bool {
        self.goals.iter().any(|g| g.iter().all(|&(place, value)| values[place as usize] == value))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_size_of_a_puzzle_counts_all_placements() {
        let task = |count: u32, falls: bool| {
            let kind =
                Kind { name: "peg".into(), group: 0, value: 1, places: (0..33).collect(), count, falls };
            Task {
                values: vec![vec![0, 1]; 33],
                group: vec![Some(0); 33],
                kinds: vec![kind],
                ..Task::default()
            }
        };
        // 33 places of which 32 are taken, and all sets but the full one.
        assert!((task(32, false).size_log2() - 33f64.log2()).abs() < 1e-9);
        assert!((task(32, true).size_log2() - (2f64.powi(33) - 1.0).log2()).abs() < 1e-6);
        assert!((task(2, true).size_log2() - (1.0 + 33.0 + 528.0f64).log2()).abs() < 1e-9);
    }
}
