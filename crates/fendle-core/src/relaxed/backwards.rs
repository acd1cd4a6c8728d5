//! From the goals backwards: the ways of a relaxed puzzle, its goals, and the search that fills its table.

use std::collections::{BTreeMap, HashSet};

use super::numbers::{Field, Numbers, Singles, Spot, next_subset};
use super::pattern::{Counts, FAR, Pattern};
use super::task::{Link, Task};
use super::tree::{Ask, Tree};
use crate::limits::{Limit, Pace};

/// Things of one way that may be kept or not.
const CHOICES_MAX: usize = 8;

/// A way as a relaxed puzzle sees it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Coarse {
    reads: Vec<(u32, i32)>,
    changes: Vec<(u32, i32, i32)>,
}

/// The ways of a relaxed puzzle, and what each counts; `None` where a way meets too many things. A thing of field f is written f + 1
/// in its place, and 0 where nothing that is kept stands.
pub(super) fn project(task: &Task, pattern: &Pattern, numbers: &Numbers) -> Option<Vec<(Coarse, u32)>> {
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
                // Distances grow by single steps: what counts more counts 1 here.
                _ if way.count == 0 => 0,
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

/// Calls `see` with the number of each position that is a goal.
pub(super) fn each_goal(
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

/// The search from the goals backwards.
pub(super) struct Backwards<'t> {
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
    pub(super) fn new(task: &Task, numbers: &'t Numbers, ways: &'t [(Coarse, u32)]) -> Backwards<'t> {
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
    pub(super) fn run(&self, cells: &mut [u8], mut now: Vec<u32>, pace: &mut Pace) -> Result<(), Limit> {
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

    /// The same where a position is a few single things: it waits packed, so that nothing is unranked.
    pub(super) fn run_singles(
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
                (number, singles.pack(&spot))
            })
            .collect();
        let mut next: Vec<(u32, u64)> = vec![];
        let mut level = 0u8;
        let mut board = vec![0i32; self.places];
        let mut lies = vec![0u32; self.followed.iter().flatten().count()];
        // For each way what it leaves of a packed position when it is taken back, what it puts there, and what it costs.
        let back: Vec<Option<(u64, u64, u32)>> = (self.ways.iter())
            .map(|(way, cost)| {
                let mut things = way.changes.iter().filter(|c| c.1 > 0);
                let (keep, set) = things.try_fold((u64::MAX, 0), |(keep, set), &(place, was, _)| {
                    let thing = was as usize - 1;
                    let there = singles.moved(0, thing, place)?;
                    Some((keep & !(0xff << (8 * thing)), set | there))
                })?;
                Some((keep, set, *cost))
            })
            .collect();
        // What leads here: the number, the position, and what it costs.
        let mut found: Vec<(u32, u64, u32)> = vec![];
        let fields = singles.radix.len();
        while !now.is_empty() {
            while let Some((number, packed)) = now.pop() {
                if cells[number as usize] < level {
                    continue;
                }
                for i in 0..fields {
                    let place = singles.place(packed, i);
                    board[place as usize] = i as i32 + 1;
                    if let Some(t) = self.followed[i] {
                        lies[t as usize] = place;
                    }
                }
                found.clear();
                self.tree.each(&board, &lies, &mut |way| {
                    if let Some((keep, set, cost)) = back[way as usize] {
                        let before = packed & keep | set;
                        found.push((singles.rank(before), before, cost));
                    }
                });
                // All are found before any is looked up, so that the memory answers them together.
                for &(number, before, cost) in &found {
                    let is = level.saturating_add(cost as u8).min(FAR);
                    let Some(cell) = cells.get_mut(number as usize) else { continue };
                    if *cell > is {
                        *cell = is;
                        let list = if cost == 0 { &mut now } else { &mut next };
                        list.push((number, before));
                    }
                }
                for i in 0..fields {
                    board[singles.place(packed, i) as usize] = 0;
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
