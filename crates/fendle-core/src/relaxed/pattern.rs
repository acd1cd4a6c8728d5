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

use std::collections::{BTreeMap, HashSet};

use super::task::{Link, Task, TaskWay};
use super::tree::{Ask, Tree};
use crate::limits::{Limit, Pace, Watch};

/// From here there is no way to the goal, not even for these things alone.
pub const NEVER: u8 = 255;
/// So many moves, or more.
pub const FAR: u8 = 254;
/// Most positions of one relaxed puzzle.
pub const POSITIONS_MAX: u64 = 1 << 31;
/// Things of one way that may be kept or not.
const CHOICES_MAX: usize = 8;
/// Most things of one kind that are kept together, where there are more.
pub const SOME_MAX: u32 = 4;
/// Most digits of a position.
pub(crate) const DIGITS: usize = 24;

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

/// A part of the number of a position.
#[derive(Clone, Debug)]
enum Field {
    /// One thing that is always there, by its rank among the places that the fields `before` it in the same domain leave.
    One { kind: u32, domain: usize, before: Vec<usize>, radix: u64 },
    /// Several things, or one that may be gone.
    Some { kind: u32, keep: u32, falls: bool, domain: usize, radix: u64 },
    /// A place outside the groups.
    Place { place: u32, values: Vec<i32> },
}

/// Places as numbers from 0.
#[derive(Clone, Debug, Default)]
struct Domain {
    places: Vec<u32>,
    number: Vec<u32>,
}

/// How positions are numbered.
#[derive(Clone, Debug)]
pub(crate) struct Numbers {
    fields: Vec<Field>,
    domains: Vec<Domain>,
    /// `choose[k][n]`: sets of k out of n.
    choose: Vec<Vec<u64>>,
    size: u64,
    /// How many values the last digit has, where that is a link.
    last: Option<u64>,
}

/// What stands where in a position: for each field its places, or the value.
#[derive(Clone, Debug, Default)]
pub(crate) struct Spot {
    pub(crate) parts: Vec<Vec<u32>>,
}

impl Field {
    fn radix(&self) -> u64 {
        match self {
            Field::One { radix, .. } | Field::Some { radix, .. } => *radix,
            Field::Place { values, .. } => values.len() as u64,
        }
    }
}

fn choose_table(most: usize, n: usize) -> Vec<Vec<u64>> {
    let mut out = vec![vec![1u64; n + 1]];
    for k in 1..=most {
        let mut row = vec![0u64; n + 1];
        for i in 1..=n {
            row[i] = row[i - 1].saturating_add(out[k - 1][i - 1]);
        }
        out.push(row);
    }
    out
}

impl Numbers {
    /// `None` where there are too many.
    pub(crate) fn new(task: &Task, pattern: &Pattern) -> Option<Numbers> {
        let links = task.links();
        let is_link = |k: u32| links.contains(&Link::Kind(k));
        let mut kinds = pattern.kinds.clone();
        kinds.sort_by_key(|k| (is_link(k.0), k.0));
        let mut places = pattern.places.clone();
        places.sort_by_key(|p| (links.contains(&Link::Place(*p)), *p));
        let mut out = Numbers { fields: vec![], domains: vec![], choose: vec![], size: 1, last: None };
        let mut domain_of: BTreeMap<u32, usize> = BTreeMap::new();
        let (mut deepest, mut widest) = (1, 1);
        for &(k, keep) in &kinds {
            let kind = &task.kinds[k as usize];
            let domain = *domain_of.entry(kind.group).or_insert_with(|| {
                let mut all: Vec<u32> = (kinds.iter())
                    .filter(|x| task.kinds[x.0 as usize].group == kind.group)
                    .flat_map(|x| task.kinds[x.0 as usize].places.iter().copied())
                    .collect();
                all.sort_unstable();
                all.dedup();
                let mut number = vec![u32::MAX; task.start.len()];
                all.iter().enumerate().for_each(|(i, p)| number[*p as usize] = i as u32);
                out.domains.push(Domain { places: all, number });
                out.domains.len() - 1
            });
            let n = out.domains[domain].places.len();
            widest = widest.max(n);
            deepest = deepest.max(keep as usize);
            if keep == 1 && !kind.falls {
                let same = |f: &Field| matches!(f, Field::One { domain: d, .. } if *d == domain);
                let before: Vec<usize> = (0..out.fields.len()).filter(|i| same(&out.fields[*i])).collect();
                let radix = n.checked_sub(before.len()).filter(|r| *r > 0)? as u64;
                out.fields.push(Field::One { kind: k, domain, before, radix });
            } else {
                let sets = |k: u32| choose_table(k as usize, n)[k as usize][n];
                let radix = if kind.falls { (0..=keep).map(sets).sum() } else { sets(keep) };
                if radix == 0 {
                    return None;
                }
                out.fields.push(Field::Some { kind: k, keep, falls: kind.falls, domain, radix });
            }
        }
        for &place in &places {
            out.fields.push(Field::Place { place, values: task.values[place as usize].clone() });
        }
        // Several things in a domain of others could not be told from these by a rank of free places: ones come first and together.
        let digits: usize = (out.fields.iter())
            .map(|f| if let Field::Some { keep, .. } = f { *keep as usize } else { 1 })
            .sum();
        if digits > DIGITS || out.fields.is_empty() {
            return None;
        }
        for field in &out.fields {
            out.size = out.size.checked_mul(field.radix()).filter(|s| *s <= POSITIONS_MAX)?;
        }
        out.choose = choose_table(deepest + 1, widest);
        let is_linked = match out.fields.last() {
            Some(Field::One { kind, .. }) => is_link(*kind),
            Some(Field::Place { place, .. }) => links.contains(&Link::Place(*place)),
            _ => false,
        };
        out.last = out.fields.last().filter(|_| is_linked && out.fields.len() > 1).map(Field::radix);
        Some(out)
    }

    pub(crate) fn size(&self) -> u64 {
        self.size
    }

    /// How many values the last digit has, where it is a link.
    pub(crate) fn last_radix(&self) -> Option<u64> {
        self.last
    }

    pub(crate) fn spot(&self) -> Spot {
        Spot { parts: vec![Vec::with_capacity(8); self.fields.len()] }
    }

    /// The number of a position; `None` where a thing is where it cannot be.
    #[inline]
    pub(crate) fn rank(&self, spot: &Spot) -> Option<u64> {
        self.rank_of(spot, self.fields.len())
    }

    /// The number that the first fields make.
    #[inline]
    fn rank_of(&self, spot: &Spot, fields: usize) -> Option<u64> {
        let mut out = 0u64;
        for (i, field) in self.fields[..fields].iter().enumerate() {
            let part = &spot.parts[i];
            let digit = match field {
                Field::One { domain, before, .. } => {
                    let number = &self.domains[*domain].number;
                    let here = *number.get(part[0] as usize)?;
                    if here == u32::MAX {
                        return None;
                    }
                    let mut digit = here;
                    for field in before {
                        digit -= u32::from(number[spot.parts[*field][0] as usize] < here);
                    }
                    u64::from(digit)
                }
                Field::Some { keep, falls, domain, .. } => {
                    let number = &self.domains[*domain].number;
                    let len = part.len();
                    let n = self.domains[*domain].places.len();
                    let mut digit = 0;
                    if len > *keep as usize || len < *keep as usize && !*falls {
                        return None;
                    }
                    if *falls {
                        for size in 0..len {
                            digit += self.choose[size][n];
                        }
                    }
                    for (j, place) in part.iter().enumerate() {
                        let here = number[*place as usize];
                        if here == u32::MAX {
                            return None;
                        }
                        digit += self.choose[j + 1][here as usize];
                    }
                    digit
                }
                Field::Place { values, .. } => values.binary_search(&(part[0] as i32)).ok()? as u64,
            };
            out = out * field.radix() + digit;
        }
        Some(out)
    }

    /// The position with a number.
    pub(crate) fn unrank(&self, mut number: u64, spot: &mut Spot) {
        let mut digits = [0u64; DIGITS];
        for (i, field) in self.fields.iter().enumerate().rev() {
            digits[i] = number % field.radix();
            number /= field.radix();
        }
        for (i, field) in self.fields.iter().enumerate() {
            let mut part = std::mem::take(&mut spot.parts[i]);
            part.clear();
            match field {
                Field::One { domain, before, .. } => {
                    let d = &self.domains[*domain];
                    let mut here = digits[i] as u32;
                    // The earlier things, in ascending order, push it on.
                    let mut taken = [0u32; DIGITS];
                    let n = before.len();
                    for (slot, field) in taken.iter_mut().zip(before) {
                        *slot = d.number[spot.parts[*field][0] as usize];
                    }
                    taken[..n].sort_unstable();
                    for t in &taken[..n] {
                        here += u32::from(*t <= here);
                    }
                    part.push(d.places[here as usize]);
                }
                Field::Some { keep, falls, domain, .. } => {
                    let d = &self.domains[*domain];
                    let n = d.places.len();
                    let (mut rest, mut size) = (digits[i], *keep as usize);
                    if *falls {
                        size = 0;
                        while rest >= self.choose[size][n] {
                            rest -= self.choose[size][n];
                            size += 1;
                        }
                    }
                    let mut below = n;
                    for j in (1..=size).rev() {
                        let row = &self.choose[j][..below];
                        let at = row.partition_point(|c| *c <= rest) - 1;
                        rest -= row[at];
                        part.push(d.places[at]);
                        below = at;
                    }
                    part.reverse();
                }
                Field::Place { values, .. } => part.push(values[digits[i] as usize] as u32),
            }
            spot.parts[i] = part;
        }
    }
}

/// A way as a relaxed puzzle sees it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct Coarse {
    reads: Vec<(u32, i32)>,
    changes: Vec<(u32, i32, i32)>,
}

/// The ways of a relaxed puzzle, and what each counts; `None` where a way meets too many things. A thing of field f is written f + 1
/// in its place, and 0 where nothing that is kept stands.
fn project(task: &Task, pattern: &Pattern, numbers: &Numbers) -> Option<Vec<(Coarse, u32)>> {
    let field_of_kind = |k: usize| {
        numbers.fields.iter().position(|f| match f {
            Field::One { kind, .. } | Field::Some { kind, .. } => *kind as usize == k,
            Field::Place { .. } => false,
        })
    };
    let fields: Vec<Option<usize>> = (0..task.kinds.len()).map(field_of_kind).collect();
    let groups: HashSet<u32> =
        (fields.iter().zip(&task.kinds)).filter(|(f, _)| f.is_some()).map(|(_, k)| k.group).collect();
    let kept_place = |p: u32| pattern.places.contains(&p);
    let keep = |k: usize| pattern.kinds.iter().find(|x| x.0 as usize == k).map_or(0, |x| x.1);
    let counted = task.counted_for();
    let mut out: BTreeMap<Coarse, u32> = BTreeMap::new();
    for (way, counted) in task.ways.iter().zip(&counted) {
        // Things that this way meets, of kinds that are kept: the place, the kind, and whether it has to be among the kept.
        let met: Vec<(u32, usize, bool)> = (way.reads.iter())
            .filter_map(|&(place, value)| {
                let k = task.kind_of(place, value)?;
                fields[k]?;
                Some((place, k, keep(k) == task.kinds[k].count))
            })
            .collect();
        let open: Vec<usize> = (0..met.len()).filter(|i| !met[*i].2).collect();
        if open.len() > CHOICES_MAX {
            return None;
        }
        for choice in 0..1u32 << open.len() {
            let is_in = |place: u32| {
                met.iter().position(|m| m.0 == place).is_some_and(|i| {
                    met[i].2 || open.iter().position(|o| *o == i).is_some_and(|bit| choice >> bit & 1 == 1)
                })
            };
            let too_many = (0..task.kinds.len()).any(|k| {
                fields[k].is_some()
                    && met.iter().filter(|m| m.1 == k && is_in(m.0)).count() > keep(k) as usize
            });
            if too_many {
                continue;
            }
            let coarse = |place: u32, value: i32| -> Option<i32> {
                match task.group[place as usize] {
                    Some(g) if groups.contains(&g) => {
                        let field = task.kind_of(place, value).and_then(|k| fields[k]);
                        Some(field.filter(|_| is_in(place)).map_or(0, |f| f as i32 + 1))
                    }
                    Some(_) => None,
                    None => kept_place(place).then_some(value),
                }
            };
            let reads: Vec<(u32, i32)> =
                way.reads.iter().filter_map(|&(p, v)| Some((p, coarse(p, v)?))).collect();
            // What leaves one place comes to another, in order.
            let mut changes: Vec<(u32, i32, i32)> = vec![];
            for &(place, from, to) in &way.changes {
                let Some(was) = coarse(place, from) else { continue };
                let is = match task.group[place as usize] {
                    None => to,
                    Some(_) => match task.kind_of(place, to).filter(|k| fields[*k].is_some()) {
                        None => 0,
                        Some(k) => {
                            let comes = |c: &&(u32, i32, i32)| task.kind_of(c.0, c.2) == Some(k);
                            let goes = |c: &&(u32, i32, i32)| task.kind_of(c.0, c.1) == Some(k);
                            let nth = way.changes.iter().filter(comes).position(|c| c.0 == place)?;
                            let source = way.changes.iter().filter(goes).nth(nth);
                            let kept = source.is_some_and(|c| is_in(c.0));
                            if kept { fields[k].expect("kept") as i32 + 1 } else { 0 }
                        }
                    },
                };
                if was != is {
                    changes.push((place, was, is));
                }
            }
            if changes.is_empty() {
                continue;
            }
            let cost = match pattern.counts {
                Counts::All => 1,
                Counts::Own => {
                    u32::from(counted.is_some_and(|(k, place)| fields[k].is_some() && is_in(place)))
                }
            };
            let known = out.entry(Coarse { reads, changes }).or_insert(cost);
            *known = cost.min(*known);
        }
    }
    Some(out.into_iter().collect())
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
        Numbers::new(task, pattern).map(|n| n.size)
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
        let mut cells = vec![NEVER; numbers.size as usize];
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
        if let Some(last) = self.numbers.last.filter(|_| !self.folded) {
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
        self.numbers.size
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

/// Calls `see` with the number of each position that is a goal.
fn each_goal(
    task: &Task,
    pattern: &Pattern,
    numbers: &Numbers,
    see: &mut dyn FnMut(u64) -> Result<(), Limit>,
) -> Result<(), Limit> {
    let links = task.links();
    for goal in &task.goals {
        // For each field the places, or values, that a won state may have there.
        let mut allowed: Vec<(Vec<u32>, bool)> = vec![];
        for field in &numbers.fields {
            allowed.push(match field {
                Field::Place { place, values } => {
                    let pinned = goal.iter().find(|g| g.0 == *place).map(|g| g.1);
                    let here = values.iter().filter(|v| pinned.is_none_or(|p| p == **v));
                    (here.map(|v| *v as u32).collect(), false)
                }
                Field::One { kind, domain, .. } | Field::Some { kind, domain, .. } => {
                    let k = &task.kinds[*kind as usize];
                    let places = &numbers.domains[*domain].places;
                    let at = |p: u32| goal.iter().find(|g| g.0 == p).map(|g| g.1);
                    let wanted: Vec<u32> =
                        places.iter().copied().filter(|p| at(*p) == Some(k.value)).collect();
                    let is_own = !links.contains(&Link::Kind(*kind));
                    if let (Some(to), true) = (&pattern.to, is_own) {
                        (to.clone(), false)
                    } else if wanted.len() as u32 >= k.count {
                        (wanted, false)
                    } else {
                        let free = places.iter().copied().filter(|p| at(*p).is_none_or(|v| v == k.value));
                        (free.collect(), k.falls)
                    }
                }
            });
        }
        let mut spot = numbers.spot();
        fields_of(numbers, &allowed, 0, &mut spot, see)?;
    }
    Ok(())
}

/// Goes through what is allowed, a field at a time.
fn fields_of(
    numbers: &Numbers,
    allowed: &[(Vec<u32>, bool)],
    at: usize,
    spot: &mut Spot,
    see: &mut dyn FnMut(u64) -> Result<(), Limit>,
) -> Result<(), Limit> {
    let Some(field) = numbers.fields.get(at) else {
        return numbers.rank(spot).map_or(Ok(()), see);
    };
    let (list, fewer) = &allowed[at];
    match field {
        Field::One { domain, .. } => {
            for p in list {
                let taken = numbers.fields[..at].iter().zip(&spot.parts).any(|(f, part)| match f {
                    Field::One { domain: d, .. } | Field::Some { domain: d, .. } => {
                        d == domain && part.contains(p)
                    }
                    Field::Place { .. } => false,
                });
                if !taken {
                    spot.parts[at] = vec![*p];
                    fields_of(numbers, allowed, at + 1, spot, see)?;
                }
            }
        }
        Field::Place { .. } => {
            for v in list {
                spot.parts[at] = vec![*v];
                fields_of(numbers, allowed, at + 1, spot, see)?;
            }
        }
        Field::Some { keep, domain, .. } => {
            let free: Vec<u32> = (list.iter().copied())
                .filter(|p| {
                    !numbers.fields[..at].iter().zip(&spot.parts).any(|(f, part)| match f {
                        Field::One { domain: d, .. } | Field::Some { domain: d, .. } => {
                            d == domain && part.contains(p)
                        }
                        Field::Place { .. } => false,
                    })
                })
                .collect();
            let least = if *fewer { 0 } else { *keep as usize };
            for size in least..=*keep as usize {
                let mut chosen: Vec<usize> = (0..size).collect();
                if size > free.len() {
                    break;
                }
                loop {
                    spot.parts[at] = chosen.iter().map(|i| free[*i]).collect();
                    fields_of(numbers, allowed, at + 1, spot, see)?;
                    if !next_subset(&mut chosen, free.len()) {
                        break;
                    }
                }
            }
        }
    }
    Ok(())
}

/// The next set of numbers below `n`, in lexicographic order; false after the last.
pub(crate) fn next_subset(chosen: &mut [usize], n: usize) -> bool {
    let k = chosen.len();
    let Some(i) = (0..k).rev().find(|i| chosen[*i] < n - k + i) else { return false };
    chosen[i] += 1;
    for j in i + 1..k {
        chosen[j] = chosen[j - 1] + 1;
    }
    true
}

/// Positions of at most eight single things in at most 64 places of one group, packed a byte a thing.
struct Singles {
    /// For each place its number; 64 where nothing of these can be.
    number: [u8; 256],
    radix: Vec<u32>,
}

impl Singles {
    fn of(numbers: &Numbers) -> Option<Singles> {
        let [domain] = numbers.domains.as_slice() else { return None };
        let is_one = |f: &Field| matches!(f, Field::One { .. });
        let small = domain.places.len() <= 64 && domain.number.len() <= 256 && numbers.fields.len() <= 8;
        if !small || !numbers.fields.iter().all(is_one) {
            return None;
        }
        let mut number = [64; 256];
        domain.places.iter().enumerate().for_each(|(i, p)| number[*p as usize] = i as u8);
        Some(Singles { number, radix: numbers.fields.iter().map(|f| f.radix() as u32).collect() })
    }

    /// The number of a packed position, as [`Numbers::rank`] gives it; past all numbers where a thing is where it cannot be.
    #[inline]
    fn rank(&self, packed: u64) -> u32 {
        let (mut taken, mut out) = (0u64, 0u32);
        for (i, radix) in self.radix.iter().enumerate() {
            let here = u32::from(self.number[(packed >> (8 * i)) as u8 as usize]);
            if here == 64 {
                return u32::MAX;
            }
            let bit = 1u64 << here;
            out = out * radix + here - (taken & (bit - 1)).count_ones();
            taken |= bit;
        }
        out
    }
}

/// The search from the goals backwards.
struct Backwards<'t> {
    numbers: &'t Numbers,
    ways: &'t [(Coarse, u32)],
    tree: Tree,
    /// The fields whose one thing is followed by the tree, and the number by which it knows them.
    followed: Vec<Option<u32>>,
    places: usize,
    /// For each place whether it lies in a group.
    holds_things: Vec<bool>,
}

impl<'t> Backwards<'t> {
    fn new(task: &Task, numbers: &'t Numbers, ways: &'t [(Coarse, u32)]) -> Backwards<'t> {
        let links = task.links();
        let mut next = 0;
        let followed: Vec<Option<u32>> = (numbers.fields.iter())
            .map(|f| match f {
                Field::One { kind, .. } if links.contains(&Link::Kind(*kind)) => {
                    next += 1;
                    Some(next - 1)
                }
                _ => None,
            })
            .collect();
        let tree = Tree::new(ways.iter().map(|(way, _)| {
            let mut asks: Vec<Ask> = vec![];
            let after =
                |place: u32, value: i32| way.changes.iter().find(|c| c.0 == place).map_or(value, |c| c.2);
            for &(place, value) in &way.reads {
                let value = after(place, value);
                let thing = match task.group[place as usize] {
                    Some(_) if value > 0 => followed[value as usize - 1],
                    _ => None,
                };
                asks.push(match thing {
                    Some(t) => Ask::Lies(t, place),
                    None => Ask::Holds(place, value),
                });
            }
            asks
        }));
        let holds_things = task.group.iter().map(Option::is_some).collect();
        Backwards { numbers, ways, tree, followed, places: task.start.len(), holds_things }
    }

    /// Fills the cells with distances; `now` are the goals.
    fn run(&self, cells: &mut [u8], mut now: Vec<u32>, pace: &mut Pace) -> Result<(), Limit> {
        let numbers = self.numbers;
        let mut next: Vec<u32> = vec![];
        let mut level = 0u8;
        let mut board = vec![0i32; self.places];
        let mut lies = vec![0u32; self.followed.iter().flatten().count()];
        let (mut here, mut before) = (numbers.spot(), numbers.spot());
        let mut found: Vec<u32> = vec![];
        while !now.is_empty() {
            while let Some(number) = now.pop() {
                if cells[number as usize] < level {
                    continue;
                }
                numbers.unrank(u64::from(number), &mut here);
                for (i, field) in numbers.fields.iter().enumerate() {
                    match field {
                        Field::Place { place, .. } => board[*place as usize] = here.parts[i][0] as i32,
                        _ => here.parts[i].iter().for_each(|p| board[*p as usize] = i as i32 + 1),
                    }
                    if let Some(t) = self.followed[i] {
                        lies[t as usize] = here.parts[i][0];
                    }
                }
                found.clear();
                self.tree.each(&board, &lies, &mut |way| found.push(way));
                for &way in &found {
                    let (way, cost) = &self.ways[way as usize];
                    let is = level.saturating_add(*cost as u8).min(FAR);
                    for (to, from) in before.parts.iter_mut().zip(&here.parts) {
                        to.clone_from(from);
                    }
                    self.undo(way, &mut before);
                    let Some(number) = numbers.rank(&before) else { continue };
                    let cell = &mut cells[number as usize];
                    if *cell > is {
                        *cell = is;
                        let list = if *cost == 0 { &mut now } else { &mut next };
                        list.push(number as u32);
                    }
                }
                for (i, field) in numbers.fields.iter().enumerate() {
                    if !matches!(field, Field::Place { .. }) {
                        here.parts[i].iter().for_each(|p| board[*p as usize] = 0);
                    }
                }
                pace.step(6)?;
            }
            std::mem::swap(&mut now, &mut next);
            level = (level + 1).min(FAR);
        }
        Ok(())
    }

    /// The same where a position is a few single things: it waits as their places, packed, so that nothing is unranked.
    fn run_singles(
        &self,
        singles: &Singles,
        cells: &mut [u8],
        goals: Vec<u32>,
        pace: &mut Pace,
    ) -> Result<(), Limit> {
        let mut spot = self.numbers.spot();
        let mut now: Vec<(u32, u64)> = (goals.into_iter())
            .map(|number| {
                self.numbers.unrank(u64::from(number), &mut spot);
                (number, spot.parts.iter().rev().fold(0, |all, part| all << 8 | u64::from(part[0])))
            })
            .collect();
        let mut next: Vec<(u32, u64)> = vec![];
        let mut level = 0u8;
        let mut board = vec![0i32; self.places];
        let mut lies = vec![0u32; self.followed.iter().flatten().count()];
        let mut found: Vec<u32> = vec![];
        let fields = singles.radix.len();
        while !now.is_empty() {
            while let Some((number, packed)) = now.pop() {
                if cells[number as usize] < level {
                    continue;
                }
                for i in 0..fields {
                    let place = (packed >> (8 * i)) as u8;
                    board[place as usize] = i as i32 + 1;
                    if let Some(t) = self.followed[i] {
                        lies[t as usize] = place.into();
                    }
                }
                found.clear();
                self.tree.each(&board, &lies, &mut |way| found.push(way));
                for &way in &found {
                    let (way, cost) = &self.ways[way as usize];
                    let is = level.saturating_add(*cost as u8).min(FAR);
                    let mut before = packed;
                    for &(place, was, _) in &way.changes {
                        if was > 0 {
                            let shift = 8 * (was - 1);
                            before = before & !(0xff << shift) | u64::from(place) << shift;
                        }
                    }
                    let number = singles.rank(before);
                    let Some(cell) = cells.get_mut(number as usize) else { continue };
                    if *cell > is {
                        *cell = is;
                        let list = if *cost == 0 { &mut now } else { &mut next };
                        list.push((number, before));
                    }
                }
                for i in 0..fields {
                    board[(packed >> (8 * i)) as u8 as usize] = 0;
                }
                pace.step(3)?;
            }
            std::mem::swap(&mut now, &mut next);
            level = (level + 1).min(FAR);
        }
        Ok(())
    }

    /// The position before a way.
    fn undo(&self, way: &Coarse, spot: &mut Spot) {
        for (i, field) in self.numbers.fields.iter().enumerate() {
            let mark = i as i32 + 1;
            let part = &mut spot.parts[i];
            match field {
                Field::Place { place, .. } => {
                    if let Some(c) = way.changes.iter().find(|c| c.0 == *place) {
                        part[0] = c.1 as u32;
                    }
                }
                Field::One { .. } => {
                    if let Some(c) =
                        way.changes.iter().find(|c| c.1 == mark && self.holds_things[c.0 as usize])
                    {
                        part[0] = c.0;
                    }
                }
                Field::Some { .. } => {
                    // Places outside the groups hold values, not things.
                    let things = || way.changes.iter().filter(|c| self.holds_things[c.0 as usize]);
                    if things().any(|c| c.1 == mark || c.2 == mark) {
                        part.retain(|p| !things().any(|c| c.0 == *p && c.2 == mark));
                        part.extend(things().filter(|c| c.1 == mark).map(|c| c.0));
                        part.sort_unstable();
                    }
                }
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

/// Whether a way that is listed is one that a state's values allow; for tests and checks.
#[must_use]
pub fn applies(way: &TaskWay, values: &[i32]) -> bool {
    way.reads.iter().all(|(p, v)| values[*p as usize] == *v)
}
