//! A relaxed puzzle: some of the things only, with the number of moves that it needs from each of its positions.
//!
//! ```text
//! position   one thing    a place                  its rank among the places that the things before it leave free
//!            several      a set of places          its rank among all sets of that size (or of at most that size)
//!            a place      the value that it holds   its number among the values that can be there
//! number     first thing .. last thing, kept places, the link        the link is the last digit
//! ```
//!
//! A way of the puzzle is a way of the relaxed puzzle for each choice of which of the things that it meets are among those that are
//! kept. What is left out stands nowhere. Distances are found from the goals backwards, once a position: one byte each.

use std::collections::BTreeMap;

use super::backwards::{Backwards, each_goal, project};
use super::numbers::{Field, Numbers, Singles, Spot};
use super::task::{Link, Task};
use crate::limits::{Limit, Pace, Watch};

/// From here there is no way to the goal, not even for these things alone.
pub const NEVER: u8 = 255;
/// So many moves, or more.
pub const FAR: u8 = 254;
/// Most positions of one relaxed puzzle.
pub const POSITIONS_MAX: u64 = 1 << 31;
/// Most things of one kind that are kept together, where there are more.
pub const SOME_MAX: u32 = 4;

/// Which moves a relaxed puzzle counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Counts {
    /// Every move.
    All,
    /// Those that are counted for one of its own things: see [`Task::counted_for`].
    Own,
}

/// Which things are kept.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Pattern {
    /// Kinds, and how many things of each.
    pub kinds: Vec<(u32, u32)>,
    /// Places outside the groups.
    pub places: Vec<u32>,
    /// Which moves count.
    pub counts: Counts,
    /// Where the things have to come to; `None`: what the goals say of them.
    pub to: Option<Vec<u32>>,
}
/// A relaxed puzzle with what it needs from each position.
#[derive(Clone, Debug)]
pub struct Table {
    /// Its things.
    pub pattern: Pattern,
    pub(crate) numbers: Numbers,
    /// Moves by position; with `folded` the least over all places of the link.
    pub(crate) cells: Vec<u8>,
    pub(crate) folded: bool,
    /// The greatest number of moves that it ever needs.
    pub most: u8,
    /// Positions from which there is no way.
    pub never: u64,
}

impl Table {
    /// How many positions a pattern has; `None` where there are too many.
    #[must_use]
    pub fn size(task: &Task, pattern: &Pattern) -> Option<u64> {
        Numbers::new(task, pattern).map(|n| n.size())
    }

    /// Finds the distances of all positions, from the goals backwards. O(positions times ways that lead into one); one byte a
    /// position, and four for those of one distance while it is made. With `fold` the link is left out at the end: only the least over
    /// its places is kept. `Ok(None)` where the pattern cannot be made.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that stopped it.
    pub fn new(
        task: &Task,
        pattern: &Pattern,
        fold: bool,
        watch: &dyn Watch,
    ) -> Result<Option<Table>, Limit> {
        let Some(numbers) = Numbers::new(task, pattern) else { return Ok(None) };
        let Some(ways) = project(task, pattern, &numbers) else { return Ok(None) };
        let mut cells = vec![NEVER; numbers.size() as usize];
        let mut pace = Pace::new(watch);
        let mut now: Vec<u32> = vec![];
        each_goal(task, pattern, &numbers, &mut |number| {
            if cells[number as usize] == NEVER {
                cells[number as usize] = 0;
                now.push(number as u32);
            }
            pace.step(8)
        })?;
        let search = Backwards::new(task, &numbers, &ways);
        match Singles::of(&numbers) {
            Some(singles) => search.run_singles(&singles, &mut cells, now, &mut pace)?,
            None => search.run(&mut cells, now, &mut pace)?,
        }
        let mut out = Table {
            pattern: pattern.clone(),
            never: cells.iter().filter(|c| **c == NEVER).count() as u64,
            most: cells.iter().copied().filter(|c| *c != NEVER).max().unwrap_or(0),
            numbers,
            cells,
            folded: false,
        };
        if fold {
            out.fold();
        }
        Ok(Some(out))
    }

    /// Leaves the link out.
    pub(crate) fn fold(&mut self) {
        if let Some(last) = self.numbers.last_radix().filter(|_| !self.folded) {
            self.cells =
                self.cells.chunks(last as usize).map(|c| c.iter().copied().min().unwrap_or(NEVER)).collect();
            self.folded = true;
            self.most = self.cells.iter().copied().filter(|c| *c != NEVER).max().unwrap_or(0);
        }
    }

    /// Tells for each place of the one thing of a kind the least number over all that else may be.
    pub(crate) fn least_by_thing(&self, kind: u32, see: &mut dyn FnMut(u32, u8)) {
        let mut spot = self.numbers.spot();
        let field = self.numbers.fields.iter().position(|f| match f {
            Field::One { kind: k, .. } | Field::Some { kind: k, .. } => *k == kind,
            Field::Place { .. } => false,
        });
        let Some(field) = field else { return };
        let mut least: BTreeMap<u32, u8> = BTreeMap::new();
        for (n, cell) in self.cells.iter().enumerate() {
            self.numbers.unrank(n as u64, &mut spot);
            if let Some(place) = spot.parts[field].first() {
                let entry = least.entry(*place).or_insert(NEVER);
                *entry = (*entry).min(*cell);
            }
        }
        least.into_iter().for_each(|(p, n)| see(p, n));
    }

    /// The kind of which only some things are kept, and how many.
    #[must_use]
    pub fn partial(&self, task: &Task) -> Option<(u32, u32)> {
        self.pattern.kinds.iter().copied().find(|k| k.1 < task.kinds[k.0 as usize].count)
    }

    /// Positions of the relaxed puzzle.
    #[must_use]
    pub fn positions(&self) -> u64 {
        self.numbers.size()
    }

    /// Bytes that it takes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.cells.len() as u64
    }

    /// How many fields tell where a position stands in the table.
    fn fields_in_use(&self) -> usize {
        self.numbers.fields.len() - usize::from(self.folded)
    }

    /// Whether the place of a kind, or the value of a place, is looked at.
    pub(crate) fn uses(&self, link: super::task::Link) -> bool {
        self.numbers.fields[..self.fields_in_use()].iter().any(|f| match (f, link) {
            (Field::One { kind, .. } | Field::Some { kind, .. }, super::task::Link::Kind(k)) => *kind == k,
            (Field::Place { place, .. }, super::task::Link::Place(p)) => *place == p,
            _ => false,
        })
    }

    /// For each kind of which one thing is followed its field; `None` if a field is of another sort.
    pub(crate) fn ones(&self) -> Option<Vec<(u32, usize)>> {
        (self.numbers.fields.iter().enumerate())
            .map(|(i, f)| if let Field::One { kind, .. } = f { Some((*kind, i)) } else { None })
            .collect()
    }

    /// What is needed where the things stand so.
    #[inline]
    pub(crate) fn look(&self, spot: &Spot) -> u8 {
        self.numbers.rank_of(spot, self.fields_in_use()).map_or(NEVER, |n| self.cells[n as usize])
    }

    /// The greatest number over all sets of `keep` of some things of a kind, ascending, with what else there is in a position, in which any such set stands; `None` where what
    /// sets add to the number of a position depends on that. `terms` is room to work in. O(sets).
    pub(crate) fn greatest_of_sets(
        &self,
        spot: &Spot,
        (kind, keep): (u32, usize),
        things: &[u32],
        terms: &mut Vec<u64>,
    ) -> Option<u8> {
        let position = (spot, self.fields_in_use());
        let first = self.numbers.terms_of_sets(position, (kind, keep), things, terms)?;
        Some(first.map_or(NEVER, |number| self.greatest_set(terms, things.len(), (0, 0), number)))
    }

    /// The same over the sets whose first things were chosen: `number` is what they add, `nth` how many they are, and the next one is not before `from`.
    fn greatest_set(&self, terms: &[u64], things: usize, (nth, from): (usize, usize), number: u64) -> u8 {
        let left = terms.len() / things - nth - 1;
        let of_next = (from..things - left).map(|i| (i, number + terms[nth * things + i]));
        let found = match left {
            0 => of_next.map(|(_, number)| self.cells[number as usize]).max(),
            _ => of_next.map(|(i, number)| self.greatest_set(terms, things, (nth + 1, i + 1), number)).max(),
        };
        found.unwrap_or(0)
    }

    /// Fills in where the things of a state stand; of the kind of which only some are kept those that are `chosen`.
    #[inline]
    pub(crate) fn fill(&self, spot: &mut Spot, things: &Things, values: &[i32], chosen: &[u32]) {
        for (field, part) in self.numbers.fields.iter().zip(&mut spot.parts) {
            part.clear();
            match field {
                Field::One { kind, .. } => {
                    let all = &things.of[*kind as usize];
                    // One that is always there; of several the chosen one.
                    part.push(if all.len() == 1 { all[0] } else { chosen[0] });
                }
                Field::Some { kind, keep, falls, .. } => {
                    let all = &things.of[*kind as usize];
                    if all.len() <= *keep as usize && (chosen.is_empty() || *falls) {
                        part.extend_from_slice(all);
                    } else {
                        part.extend_from_slice(chosen);
                    }
                }
                Field::Place { place, .. } => part.push(values[*place as usize] as u32),
            }
        }
    }
}

/// Where the things of a state are, by kind, ascending.
#[derive(Clone, Debug, Default)]
pub struct Things {
    pub(crate) of: Vec<Vec<u32>>,
    /// For each group the least value of its kinds, and the kind of each value from it on.
    kinds: Vec<(i32, Vec<u32>)>,
}

impl Things {
    /// For the kinds of a puzzle, nothing placed.
    #[must_use]
    pub fn new(task: &Task) -> Things {
        let groups = task.kinds.iter().map(|k| k.group + 1).max().unwrap_or(0);
        let kinds = (0..groups).map(|g| {
            let here: Vec<(usize, i32)> =
                task.kinds.iter().enumerate().filter(|k| k.1.group == g).map(|(i, k)| (i, k.value)).collect();
            let lo = here.iter().map(|h| h.1).min().unwrap_or(0);
            let hi = here.iter().map(|h| h.1).max().unwrap_or(0);
            let mut list = vec![u32::MAX; (hi - lo + 1) as usize];
            here.iter().for_each(|(k, v)| list[(v - lo) as usize] = *k as u32);
            (lo, list)
        });
        Things { of: vec![vec![]; task.kinds.len()], kinds: kinds.collect() }
    }

    /// The kind of a value in a group of places.
    #[inline]
    pub(crate) fn kind(&self, group: u32, value: i32) -> Option<usize> {
        let (lo, list) = &self.kinds[group as usize];
        let kind = *list.get(value.wrapping_sub(*lo) as u32 as usize)?;
        (kind != u32::MAX).then_some(kind as usize)
    }

    /// Finds the things of a state.
    pub fn find(&mut self, task: &Task, values: &[i32]) {
        self.of.iter_mut().for_each(Vec::clear);
        for (place, group) in task.group.iter().enumerate() {
            if let Some(k) = group.and_then(|g| self.kind(g, values[place])) {
                self.of[k].push(place as u32);
            }
        }
    }
}

/// A pattern that follows whole kinds and their links only; see [`Pattern`].
#[must_use]
pub fn of_kinds(task: &Task, kinds: &[u32], counts: Counts) -> Pattern {
    let mut out = Pattern { kinds: vec![], places: vec![], counts, to: None };
    out.kinds.extend(kinds.iter().map(|k| (*k, task.kinds[*k as usize].count)));
    add_links(task, &mut out);
    out
}

/// Adds what takes part in all ways.
pub(crate) fn add_links(task: &Task, pattern: &mut Pattern) {
    for link in task.links() {
        match link {
            Link::Kind(k) if !pattern.kinds.iter().any(|x| x.0 == k) => pattern.kinds.push((k, 1)),
            Link::Place(p) if !pattern.places.contains(&p) => pattern.places.push(p),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numbers::Random;
    use crate::relaxed::numbers::next_subset;
    use crate::relaxed::task::Kind;

    /// Of things in nine places, of which some cannot be in the last one, and of which some may be gone.
    #[test]
    fn the_greatest_number_of_sets_is_that_of_asking_each_set() {
        let mut random = Random::new(21);
        let cases = [(1, false), (1, true), (2, false), (2, true), (3, false), (3, true), (4, false)];
        for (keep, falls) in [cases, cases, cases].concat() {
            let kind =
                Kind { name: "one".into(), group: 0, value: 1, places: (0..8).collect(), count: 6, falls };
            let task = Task {
                start: vec![0; 10],
                values: [vec![vec![0, 1]; 9], vec![vec![2, 5, 7]]].concat(),
                group: [vec![Some(0); 9], vec![None]].concat(),
                kinds: vec![kind],
                ..Task::default()
            };
            // With a place beside them, and without one.
            let places = if random.below(2) == 0 { vec![9] } else { vec![] };
            let pattern =
                Pattern { kinds: vec![(0, keep)], places: places.clone(), counts: Counts::All, to: None };
            let numbers = Numbers::new(&task, &pattern).expect("few");
            let cells: Vec<u8> = (0..numbers.size()).map(|_| random.below(200) as u8).collect();
            let table = Table { pattern, numbers, cells, folded: false, most: 199, never: 0 };
            let mut terms = vec![];
            for bits in 0u32..1 << 9 {
                let things: Vec<u32> = (0..9).filter(|place| bits >> place & 1 == 1).collect();
                if things.len() <= keep as usize {
                    continue;
                }
                let mut chosen: Vec<usize> = (0..keep as usize).collect();
                let beside: Vec<Vec<u32>> =
                    places.iter().map(|_| vec![[2, 5, 7][random.below(3) as usize]]).collect();
                let spot = |chosen: &[usize]| {
                    let set: Vec<u32> = chosen.iter().map(|i| things[*i]).collect();
                    Spot { parts: [vec![set], beside.clone()].concat() }
                };
                let any = spot(&chosen);
                let mut greatest = 0;
                loop {
                    greatest = greatest.max(table.look(&spot(&chosen)));
                    if !next_subset(&mut chosen, things.len()) {
                        break;
                    }
                }
                let found = table.greatest_of_sets(&any, (0, keep as usize), &things, &mut terms);
                assert_eq!(found, Some(greatest), "{keep} of {things:?}");
            }
        }
    }
}
