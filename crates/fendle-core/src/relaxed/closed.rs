//! Closed sets of relaxed puzzles: some things of a puzzle, all positions that they come to, and that none of these can be won.
//!
//! This is the proof of a bound that says "no way" in a form that is rechecked without a search: each position of the set is looked at by itself. Nothing
//! here uses the tables and numbers that found it.
//!
//! ```text
//! position   the places of the kept things, kind by kind, ascending; then the values of the kept places
//! ways       for each choice of which of the things that a way moves are kept
//! left out   stands nowhere, and there are only so many of each kind
//! ```

use std::collections::HashSet;

use super::task::{Link, Task, TaskWay};

/// What stands for a kept thing that is gone.
const GONE: i32 = -1;

/// Most places that one way changes.
const CROWD: usize = 16;

/// A position of the kept things.
pub type Spots = Vec<i32>;

/// Which things and places are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kept {
    /// Kinds and how many things of each, by kind.
    pub kinds: Vec<(u32, u32)>,
    /// Places outside the groups, ascending.
    pub places: Vec<u32>,
}

/// Why a set is no proof.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotClosed {
    /// The start is not in it.
    Start,
    /// One of its positions may be won.
    Won,
    /// A way leads out of it.
    Leads,
    /// Somebody said stop.
    Stopped,
}

/// A puzzle in which only some things are kept.
pub struct Alone<'t> {
    task: &'t Task,
    kept: Kept,
    /// Things of each kind that are not kept, at the most.
    left_out: Vec<u32>,
}

impl<'t> Alone<'t> {
    /// Keeps these, and what takes part in every way. `None` where the puzzle has no such things.
    #[must_use]
    pub fn new(task: &'t Task, kept: &Kept) -> Option<Alone<'t>> {
        let mut kept = kept.clone();
        for link in task.links() {
            match link {
                Link::Kind(k) if kept.kinds.iter().all(|x| x.0 != k) => kept.kinds.push((k, 1)),
                Link::Place(p) if !kept.places.contains(&p) => kept.places.push(p),
                _ => {}
            }
        }
        kept.kinds.sort_unstable();
        kept.places.sort_unstable();
        let mut left_out: Vec<u32> = task.kinds.iter().map(|k| k.count).collect();
        for (k, n) in &kept.kinds {
            let left = left_out.get_mut(*k as usize)?;
            *left = left.checked_sub(*n).filter(|_| *n > 0)?;
        }
        let twice =
            kept.kinds.windows(2).any(|w| w[0].0 == w[1].0) || kept.places.windows(2).any(|w| w[0] == w[1]);
        // Each choice of what comes where is looked at.
        let crowd = |w: &TaskWay| w.changes.iter().filter(|c| c.1 != c.2).count() > CROWD;
        if task.ways.iter().any(crowd) {
            return None;
        }
        let plain = |p: &u32| task.group.get(*p as usize).is_some_and(Option::is_none);
        (!twice && kept.places.iter().all(plain)).then_some(Alone { task, kept, left_out })
    }

    /// How many numbers a position has.
    #[must_use]
    pub fn width(&self) -> usize {
        self.kept.kinds.iter().map(|k| k.1 as usize).sum::<usize>() + self.kept.places.len()
    }

    /// The position of the things that lie in these places of a state, and of what takes part in every way. `None` where they are not the kept
    /// ones.
    #[must_use]
    pub fn position(&self, values: &[i32], things: &[u32]) -> Option<Spots> {
        let mut out = vec![];
        let mut used = 0;
        for &(k, n) in &self.kept.kinds {
            let kind = &self.task.kinds[k as usize];
            let here = |p: &u32| values.get(*p as usize) == Some(&kind.value);
            let of_kind = |p: &u32| kind.places.contains(p) && here(p);
            let mut list: Vec<u32> = things.iter().copied().filter(|p| of_kind(p)).collect();
            used += list.len();
            if list.is_empty() {
                // What takes part in every way is not named.
                list = kind.places.iter().copied().filter(here).collect();
            }
            list.sort_unstable();
            list.dedup();
            if list.len() != n as usize {
                return None;
            }
            out.extend(list.into_iter().map(|p| p as i32));
        }
        if used != things.len() {
            return None;
        }
        out.extend(self.kept.places.iter().map(|p| values[*p as usize]));
        Some(out)
    }

    /// The kept kinds with the places of their things, in a position.
    fn things<'p>(&'p self, at: &'p [i32]) -> impl Iterator<Item = (u32, &'p [i32])> {
        let mut from = 0;
        self.kept.kinds.iter().map(move |(k, n)| {
            let part = &at[from..from + *n as usize];
            from += *n as usize;
            (*k, part)
        })
    }

    /// The kind of the kept thing in a place.
    fn lies(&self, at: &[i32], place: u32) -> Option<u32> {
        self.things(at).find(|(_, list)| list.contains(&(place as i32))).map(|t| t.0)
    }

    /// Whether a place may hold a value, in a position; a thing that is not kept is counted in `others`.
    fn may_hold(&self, at: &[i32], place: u32, value: i32, others: &mut [u32]) -> bool {
        if self.task.group[place as usize].is_none() {
            let kept = self.kept.places.iter().position(|p| *p == place);
            let first = at.len() - self.kept.places.len();
            return kept.is_none_or(|i| at[first + i] == value);
        }
        match self.lies(at, place) {
            Some(kind) => self.task.kinds[kind as usize].value == value,
            None => match self.task.kind_of(place, value) {
                Some(kind) => {
                    others[kind] += 1;
                    others[kind] <= self.left_out[kind]
                }
                None => true,
            },
        }
    }

    /// Whether a position may be one of a won state.
    #[must_use]
    pub fn may_be_won(&self, at: &[i32]) -> bool {
        self.task.goals.iter().any(|goal| {
            let mut others = vec![0; self.left_out.len()];
            goal.iter().all(|&(place, value)| self.may_hold(at, place, value, &mut others))
        })
    }

    /// Calls `see` with every position that one way leads to.
    pub fn each_next(&self, at: &[i32], see: &mut dyn FnMut(Spots)) {
        for way in &self.task.ways {
            let mut others = vec![0; self.left_out.len()];
            if way.reads.iter().all(|&(place, value)| self.may_hold(at, place, value, &mut others)) {
                self.each_after(at, way, see);
            }
        }
    }

    /// The positions after one way: for each choice of where the kept things that it moves come to.
    fn each_after(&self, at: &[i32], way: &TaskWay, see: &mut dyn FnMut(Spots)) {
        let mut plain = at.to_vec();
        let first = at.len() - self.kept.places.len();
        for (i, place) in self.kept.places.iter().enumerate() {
            if let Some(change) = way.changes.iter().find(|c| c.0 == *place) {
                plain[first + i] = change.2;
            }
        }
        let mut all = vec![plain];
        let mut from = 0;
        for &(k, n) in &self.kept.kinds {
            let kind = &self.task.kinds[k as usize];
            let part = from..from + n as usize;
            from += n as usize;
            let of_kind = |place: u32, value: i32| {
                value == kind.value && self.task.group[place as usize] == Some(kind.group)
            };
            let leave: Vec<i32> =
                way.changes.iter().filter(|c| of_kind(c.0, c.1) && c.1 != c.2).map(|c| c.0 as i32).collect();
            let come: Vec<i32> =
                way.changes.iter().filter(|c| of_kind(c.0, c.2) && c.1 != c.2).map(|c| c.0 as i32).collect();
            let moved = at[part.clone()].iter().filter(|p| leave.contains(p)).count();
            if moved == 0 {
                continue;
            }
            // As many as vanish may be kept ones, or others.
            let vanish = leave.len().saturating_sub(come.len());
            let fewest = moved.saturating_sub(vanish).min(come.len());
            let most = moved.min(come.len());
            let mut next = vec![];
            for chosen in 0u32..1 << come.len() {
                if !(fewest..=most).contains(&(chosen.count_ones() as usize)) {
                    continue;
                }
                let mut list: Vec<i32> =
                    at[part.clone()].iter().copied().filter(|p| !leave.contains(p)).collect();
                list.extend(come.iter().enumerate().filter(|c| chosen >> c.0 & 1 == 1).map(|c| *c.1));
                list.resize(n as usize, GONE);
                list.sort_unstable();
                for before in &all {
                    let mut after = before.clone();
                    after[part.clone()].copy_from_slice(&list);
                    next.push(after);
                }
            }
            all = next;
        }
        all.into_iter().for_each(see);
    }

    /// All positions that can be come to from one, sorted; `None` where one of them may be won, there are more than `most`, or somebody said stop.
    #[must_use]
    pub fn closure(&self, from: Spots, most: usize, stop: &dyn Fn() -> bool) -> Option<Vec<Spots>> {
        let mut met: HashSet<Spots> = HashSet::from([from.clone()]);
        let mut open = vec![from];
        while let Some(at) = open.pop() {
            if met.len() > most || self.may_be_won(&at) || stop() {
                return None;
            }
            self.each_next(&at, &mut |next| {
                if !met.contains(&next) {
                    met.insert(next.clone());
                    open.push(next);
                }
            });
        }
        let mut out: Vec<Spots> = met.into_iter().collect();
        out.sort_unstable();
        Some(out)
    }

    /// Whether a set holds the start and nothing that may be won, and no way leads out of it. The number of ways that were looked at.
    ///
    /// # Errors
    ///
    /// Why it is no proof.
    pub fn check(
        &self,
        start: &Spots,
        set: &HashSet<Spots>,
        stop: &dyn Fn() -> bool,
    ) -> Result<u64, NotClosed> {
        if !set.contains(start) {
            return Err(NotClosed::Start);
        }
        let mut ways = 0;
        for at in set {
            if stop() {
                return Err(NotClosed::Stopped);
            }
            if at.len() != self.width() || self.may_be_won(at) {
                return Err(NotClosed::Won);
            }
            let mut inside = true;
            self.each_next(at, &mut |next| {
                ways += 1;
                inside &= set.contains(&next);
            });
            if !inside {
                return Err(NotClosed::Leads);
            }
        }
        Ok(ways)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::MoveId;
    use crate::numbers::Random;
    use crate::relaxed::Kind;

    /// Things on a line of places, each of which goes to a free neighbour; walls are places that are left out.
    fn line(places: u32, count: u32, goal: &[u32], start: &[u32], one_way: bool) -> Task {
        let mut ways = vec![];
        for p in 0..places {
            let mut step = |to: u32| {
                ways.push(TaskWay {
                    of: MoveId(0),
                    count: 1,
                    reads: vec![(p, 1), (to, 0)],
                    changes: vec![(p, 1, 0), (to, 0, 1)],
                });
            };
            if p + 1 < places {
                step(p + 1);
            }
            if p > 0 && !one_way {
                step(p - 1);
            }
        }
        Task {
            start: (0..places).map(|p| i32::from(start.contains(&p))).collect(),
            values: vec![vec![0, 1]; places as usize],
            group: vec![Some(0); places as usize],
            names: (0..places).map(|p| p.to_string()).collect(),
            ways,
            goals: vec![goal.iter().map(|p| (*p, 1)).collect()],
            kinds: vec![Kind {
                name: "barge".into(),
                group: 0,
                value: 1,
                places: (0..places).collect(),
                count,
                falls: false,
            }],
            exact: true,
            turns: vec![],
        }
    }

    fn one() -> Kept {
        Kept { kinds: vec![(0, 1)], places: vec![] }
    }

    #[test]
    fn what_has_gone_too_far_never_comes_back() {
        // Two barges that go to the right alone; the berths are 1 and 2, and one of them lies at 3.
        let task = line(5, 2, &[1, 2], &[0, 3], true);
        let alone = Alone::new(&task, &one()).expect("a kind");
        let start = alone.position(&task.start, &[3]).expect("a barge lies there");
        let set = alone.closure(start.clone(), 100, &|| false).expect("it never comes back");
        assert_eq!(set, [[3], [4]]);
        let whole: HashSet<Spots> = set.iter().cloned().collect();
        assert!(alone.check(&start, &whole, &|| false).is_ok());
        // The other one can do it, as far as it alone is looked at.
        assert_eq!(alone.closure(alone.position(&task.start, &[0]).expect("there"), 100, &|| false), None);
        // Forgeries.
        let without: HashSet<Spots> = HashSet::from([vec![3]]);
        assert_eq!(alone.check(&start, &without, &|| false), Err(NotClosed::Leads));
        assert_eq!(alone.check(&vec![2], &whole, &|| false), Err(NotClosed::Start));
        let more: HashSet<Spots> = whole.iter().cloned().chain([vec![1]]).collect();
        assert_eq!(alone.check(&start, &more, &|| false), Err(NotClosed::Won));
        assert_eq!(alone.position(&task.start, &[1]), None, "no barge lies there");
        assert!(Alone::new(&task, &Kept { kinds: vec![(0, 3)], places: vec![] }).is_none());
    }

    #[test]
    fn a_closed_set_is_never_told_of_a_puzzle_that_has_a_way() {
        let mut random = Random::new(5);
        let (mut told, mut solvable) = (0, 0);
        for _ in 0..400 {
            let places = 3 + random.below(4) as u32;
            let count = 1 + random.below(u64::from(places).min(3)) as u32;
            let mut pick = |n: u32| {
                let mut all: Vec<u32> = (0..places).collect();
                (0..n).map(|_| all.swap_remove(random.below(all.len() as u64) as usize)).collect::<Vec<u32>>()
            };
            let (goal, start) = (pick(count), pick(count));
            let task = line(places, count, &goal, &start, random.below(2) == 0);
            // The whole puzzle, state by state.
            let mut met: HashSet<Vec<i32>> = HashSet::from([task.start.clone()]);
            let mut open = vec![task.start.clone()];
            let mut won = false;
            while let Some(state) = open.pop() {
                won |= task.is_goal(&state);
                for way in &task.ways {
                    if way.reads.iter().all(|r| state[r.0 as usize] == r.1) {
                        let mut next = state.clone();
                        way.changes.iter().for_each(|c| next[c.0 as usize] = c.2);
                        if met.insert(next.clone()) {
                            open.push(next);
                        }
                    }
                }
            }
            solvable += u32::from(won);
            for keep in 1..=count {
                let kept = Kept { kinds: vec![(0, keep)], places: vec![] };
                let alone = Alone::new(&task, &kept).expect("a kind");
                let first = alone.position(&task.start, &start[..keep as usize]).expect("they lie there");
                if let Some(set) = alone.closure(first.clone(), 10_000, &|| false) {
                    told += 1;
                    assert!(!won, "{task:?}");
                    let set: HashSet<Spots> = set.into_iter().collect();
                    assert!(alone.check(&first, &set, &|| false).is_ok());
                }
                if keep == count && !won {
                    // With everything kept it is the puzzle itself.
                    assert!(alone.closure(first, 10_000, &|| false).is_some(), "{task:?}");
                }
            }
        }
        assert!(told > 50 && solvable > 50, "{told} {solvable}");
    }
}
