//! Several relaxed puzzles together: what they say of a state.

use super::numbers::{Spot, next_subset};
use super::pattern::{NEVER, Table, Things};
use super::task::Task;

/// Ways to choose the kept things of one relaxed puzzle above which it is not asked.
const SUBSETS_MAX: u64 = 2_000;

/// What relaxed puzzles say of a state.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Says {
    /// Moves that a goal needs at the least; `None`: no goal can be reached.
    pub least: Option<u32>,
    /// The greatest of the sums alone: what it counts is counted for things that are moved.
    pub sum: u32,
}

/// Things of one kind that go to places of their own: each place by the one that serves best.
#[derive(Clone, Debug)]
pub struct Assign {
    /// The kind.
    pub kind: u32,
    /// The places that want one each.
    pub to: Vec<u32>,
    /// For each place of the puzzle, and each that wants one, the moves between them.
    pub(crate) cost: Vec<u8>,
}

/// What is counted apart from each other, and adds up.
#[derive(Clone, Debug, Default)]
pub struct Sum {
    /// Tables, by number.
    pub tables: Vec<usize>,
    /// Assignments, by number.
    pub assigns: Vec<usize>,
}

/// A number that is the sum of what single places hold: what an author's bound is made of.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Weights {
    /// For each place what each value counts.
    pub of: Vec<Vec<(i32, i64)>>,
    /// What is added.
    pub base: i64,
}

/// Relaxed puzzles, and how they are taken together: the greatest of the sums and of the single ones.
#[derive(Clone, Debug, Default)]
pub struct Bounds {
    /// Their tables.
    pub tables: Vec<Table>,
    /// Assignments.
    pub assigns: Vec<Assign>,
    /// What adds up.
    pub sums: Vec<Sum>,
    /// Tables that stand alone; of a kind of which some are kept each choice is looked at.
    pub single: Vec<usize>,
    /// The author's bound, where it is proved.
    pub declared: Option<Weights>,
}

impl Bounds {
    /// Whether nothing is known.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.tables.is_empty() && self.declared.is_none()
    }

    /// Bytes of all tables.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.tables.iter().map(Table::bytes).sum()
    }

    /// One who asks these bounds of states.
    #[must_use]
    pub fn judge<'b>(&'b self, task: &'b Task) -> Judge<'b> {
        Judge {
            bounds: self,
            task,
            things: Things::new(task),
            spots: self.tables.iter().map(|t| t.numbers.spot()).collect(),
            partial: self.tables.iter().map(|t| t.partial(task)).collect(),
            assigned: self.assigns.iter().map(|a| Assigned::new(a, task)).collect(),
            chosen: vec![],
            numbers: vec![],
            terms: vec![],
        }
    }
}

/// What was assigned before: things of one kind, where they stood, and what it cost.
struct Assigned {
    /// For places and berths, by place.
    width: usize,
    known: Vec<(u64, u32)>,
    work: Matching,
}

/// Assignments that are remembered.
const KNOWN: usize = 1 << 14;

impl Assigned {
    fn new(assign: &Assign, _task: &Task) -> Assigned {
        Assigned { width: assign.to.len(), known: vec![(0, 0); KNOWN], work: Matching::default() }
    }

    /// The least sum; `None` where not all can be served.
    fn look(&mut self, assign: &Assign, things: &[u32]) -> Option<u32> {
        if things.len() < self.width {
            return None;
        }
        let mut hash = 0x9e37_79b9_7f4a_7c15u64;
        for t in things {
            hash = (hash ^ u64::from(*t)).wrapping_mul(0xff51_afd7_ed55_8ccd);
            hash ^= hash >> 29;
        }
        hash |= 1;
        let slot = (hash >> 40) as usize % KNOWN;
        if self.known[slot].0 != hash {
            let width = self.width;
            let cost = |berth: usize, thing: usize| {
                let c = assign.cost[things[thing] as usize * width + berth];
                if c == NEVER { Matching::NONE } else { i64::from(c) }
            };
            let sum = self.work.least(width, things.len(), &cost);
            self.known[slot] = (hash, sum.map_or(u32::MAX, |s| s as u32));
        }
        Some(self.known[slot].1).filter(|s| *s != u32::MAX)
    }
}

/// The cheapest assignment of columns to rows, by shortest augmenting paths (Jonker and Volgenant 1987). O(rows squared times columns).
#[derive(Clone, Debug, Default)]
pub struct Matching {
    row_of: Vec<usize>,
    rows: Vec<i64>,
    cols: Vec<i64>,
    least: Vec<i64>,
    way: Vec<usize>,
    used: Vec<bool>,
}

impl Matching {
    /// The cost of what does not go together.
    pub const NONE: i64 = 1 << 30;

    /// The least sum of costs such that each row has a column of its own; `None` where there is no such choice.
    pub fn least(&mut self, rows: usize, cols: usize, cost: &dyn Fn(usize, usize) -> i64) -> Option<i64> {
        if rows > cols {
            return None;
        }
        // Rows and columns are counted from 1; column 0 is where a row waits.
        self.row_of.clear();
        self.row_of.resize(cols + 1, 0);
        self.rows.clear();
        self.rows.resize(rows + 1, 0);
        self.cols.clear();
        self.cols.resize(cols + 1, 0);
        self.way.clear();
        self.way.resize(cols + 1, 0);
        for row in 1..=rows {
            self.row_of[0] = row;
            let mut at = 0;
            self.least.clear();
            self.least.resize(cols + 1, i64::MAX);
            self.used.clear();
            self.used.resize(cols + 1, false);
            loop {
                self.used[at] = true;
                let here = self.row_of[at];
                let (mut delta, mut next) = (i64::MAX, 0);
                for col in 1..=cols {
                    if self.used[col] {
                        continue;
                    }
                    let reduced = cost(here - 1, col - 1) - self.rows[here] - self.cols[col];
                    if reduced < self.least[col] {
                        self.least[col] = reduced;
                        self.way[col] = at;
                    }
                    if self.least[col] < delta {
                        delta = self.least[col];
                        next = col;
                    }
                }
                for col in 0..=cols {
                    if self.used[col] {
                        self.rows[self.row_of[col]] += delta;
                        self.cols[col] -= delta;
                    } else if col > 0 {
                        self.least[col] -= delta;
                    }
                }
                at = next;
                if self.row_of[at] == 0 {
                    break;
                }
            }
            while at != 0 {
                let from = self.way[at];
                self.row_of[at] = self.row_of[from];
                at = from;
            }
        }
        let sum: i64 =
            (1..=cols).filter(|c| self.row_of[*c] > 0).map(|c| cost(self.row_of[c] - 1, c - 1)).sum();
        (sum < Matching::NONE).then_some(sum)
    }
}

/// Why relaxed puzzles say that there is no way: the things that alone cannot get there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoWay {
    /// The table that says it; `None`: not every place that wants a thing can be served.
    pub table: Option<usize>,
    /// The places of the kept things, in the state.
    pub things: Vec<u32>,
    /// The places outside the groups that take part.
    pub places: Vec<u32>,
}

/// Asks bounds of states, with memory of its own.
pub struct Judge<'b> {
    bounds: &'b Bounds,
    task: &'b Task,
    pub(crate) things: Things,
    spots: Vec<Spot>,
    partial: Vec<Option<(u32, u32)>>,
    assigned: Vec<Assigned>,
    chosen: Vec<u32>,
    numbers: Vec<usize>,
    /// What things add to the number of a set.
    terms: Vec<u64>,
}

/// How many sets of `keep` there are of at least so many things.
fn sets(things: u64, keep: u32) -> u64 {
    (0..u64::from(keep)).fold(1, |sets, i| sets * (things - i) / (i + 1))
}

impl Judge<'_> {
    /// What all say of a state.
    pub fn says(&mut self, values: &[i32]) -> Says {
        let mut things = std::mem::take(&mut self.things);
        things.find(self.task, values);
        self.things = things;
        self.says_of_things(values)
    }

    /// The same where the things were found before.
    pub(crate) fn says_of_things(&mut self, values: &[i32]) -> Says {
        let mut best = 0u32;
        for s in 0..self.bounds.sums.len() {
            match self.sum(s, values) {
                None => return Says::default(),
                Some(sum) => best = best.max(sum),
            }
        }
        let sum = best;
        for i in 0..self.bounds.single.len() {
            match self.greatest(self.bounds.single[i], values) {
                NEVER => return Says::default(),
                n => best = best.max(n.into()),
            }
        }
        if let Some(weights) = &self.bounds.declared {
            best = best.max(weights.value(values).max(0) as u32);
        }
        Says { least: Some(best), sum }
    }

    /// A sum of what is counted apart.
    pub fn sum(&mut self, number: usize, values: &[i32]) -> Option<u32> {
        let sum = &self.bounds.sums[number];
        let mut all = 0;
        for &t in &sum.tables {
            let (table, spot) = (&self.bounds.tables[t], &mut self.spots[t]);
            table.fill(spot, &self.things, values, &[]);
            match table.look(spot) {
                NEVER => return None,
                n => all += u32::from(n),
            }
        }
        for &a in &sum.assigns {
            let assign = &self.bounds.assigns[a];
            all += self.assigned[a].look(assign, &self.things.of[assign.kind as usize])?;
        }
        Some(all)
    }

    /// The greatest number that a table says of any choice of its things.
    pub fn greatest(&mut self, t: usize, values: &[i32]) -> u8 {
        if let Some((kind, keep)) = self.partial[t] {
            let things = &self.things.of[kind as usize];
            if things.len() > keep as usize && sets(things.len() as u64, keep) <= SUBSETS_MAX {
                let (table, spot) = (&self.bounds.tables[t], &mut self.spots[t]);
                table.fill(spot, &self.things, values, &things[..keep as usize]);
                let of = (kind, keep as usize);
                if let Some(n) = table.greatest_of_sets(spot, of, things, &mut self.terms) {
                    return n;
                }
            }
        }
        self.each_choice(t, values, &mut |_, _| {})
    }

    /// The same; `see` is told each choice and its number, until one says that there is no way.
    fn each_choice(&mut self, t: usize, values: &[i32], see: &mut dyn FnMut(&[u32], u8)) -> u8 {
        let table = &self.bounds.tables[t];
        let spot = &mut self.spots[t];
        let Some((kind, keep)) = self.partial[t] else {
            table.fill(spot, &self.things, values, &[]);
            let n = table.look(spot);
            see(&[], n);
            return n;
        };
        let all = &self.things.of[kind as usize];
        if all.len() <= keep as usize {
            // Some are gone: what is left is all.
            if all.len() < keep as usize && !self.task.kinds[kind as usize].falls {
                return 0;
            }
            self.chosen.clone_from(all);
            table.fill(spot, &self.things, values, &self.chosen);
            let n = table.look(spot);
            see(&self.chosen, n);
            return n;
        }
        if sets(all.len() as u64, keep) > SUBSETS_MAX {
            return 0;
        }
        self.numbers.clear();
        self.numbers.extend(0..keep as usize);
        let mut best = 0;
        loop {
            self.chosen.clear();
            self.chosen.extend(self.numbers.iter().map(|i| all[*i]));
            table.fill(spot, &self.things, values, &self.chosen);
            let n = table.look(spot);
            see(&self.chosen, n);
            best = best.max(n);
            if best == NEVER || !next_subset(&mut self.numbers, all.len()) {
                return best;
            }
        }
    }

    /// Whether there is a way for the same things where a place outside the groups holds another value.
    fn matters(&self, t: usize, place: u32, values: &[i32], chosen: &[u32]) -> bool {
        let table = &self.bounds.tables[t];
        let mut spot = table.numbers.spot();
        let mut values = values.to_vec();
        self.task.values[place as usize].iter().any(|v| {
            values[place as usize] = *v;
            table.fill(&mut spot, &self.things, &values, chosen);
            table.look(&spot) != NEVER
        })
    }

    /// Which things of a state alone have no way, if that is so: those of the smallest relaxed puzzle that says it.
    pub fn no_way(&mut self, values: &[i32]) -> Option<NoWay> {
        let mut things = std::mem::take(&mut self.things);
        things.find(self.task, values);
        self.things = things;
        let mut tables: Vec<usize> = self.bounds.single.clone();
        tables.extend(self.bounds.sums.iter().flat_map(|s| s.tables.iter().copied()));
        tables.sort_by_key(|t| (self.bounds.tables[*t].numbers.size(), *t));
        tables.dedup();
        for t in tables {
            let mut found = None;
            self.each_choice(t, values, &mut |chosen, n| {
                if n == NEVER && found.is_none() {
                    found = Some(chosen.to_vec());
                }
            });
            if let Some(chosen) = found {
                let pattern = &self.bounds.tables[t].pattern;
                let mut things = chosen;
                for &(k, keep) in &pattern.kinds {
                    if keep == self.task.kinds[k as usize].count {
                        things.extend(&self.things.of[k as usize]);
                    }
                }
                things.sort_unstable();
                things.dedup();
                // A place whose value does not matter takes no part.
                let places = pattern.places.clone();
                let matters = |p: &u32| self.matters(t, *p, values, &things);
                let places = places.into_iter().filter(matters).collect();
                return Some(NoWay { table: Some(t), things, places });
            }
        }
        for s in 0..self.bounds.sums.len() {
            if self.sum(s, values).is_none() {
                // Whatever else there is, these cannot all be served.
                let kinds = self.bounds.sums[s].assigns.iter().map(|a| self.bounds.assigns[*a].kind);
                let things = kinds.flat_map(|k| self.things.of[k as usize].clone()).collect();
                return Some(NoWay { table: None, things, places: vec![] });
            }
        }
        None
    }
}

impl Weights {
    /// The sum in a state.
    #[must_use]
    pub fn value(&self, values: &[i32]) -> i64 {
        let of =
            |(list, value): (&Vec<(i32, i64)>, &i32)| list.iter().find(|w| w.0 == *value).map_or(0, |w| w.1);
        self.base + self.of.iter().zip(values).map(of).sum::<i64>()
    }

    /// Whether no way lets it fall by more than one, and every goal leaves it at 0 at the most: then it is never more than the moves
    /// that are needed.
    #[must_use]
    pub fn is_proved(&self, task: &Task) -> bool {
        let of =
            |place: u32, value: i32| self.of[place as usize].iter().find(|w| w.0 == value).map_or(0, |w| w.1);
        let falls =
            |w: &super::task::TaskWay| w.changes.iter().map(|c| of(c.0, c.1) - of(c.0, c.2)).sum::<i64>();
        let in_goal = |goal: &Vec<(u32, i32)>| -> i64 {
            let at = |place: u32| match goal.iter().find(|g| g.0 == place) {
                Some(g) => of(place, g.1),
                None => task.values[place as usize].iter().map(|v| of(place, *v)).max().unwrap_or(0),
            };
            self.base + (0..task.start.len() as u32).map(at).sum::<i64>()
        };
        task.ways.iter().all(|w| falls(w) <= 1) && task.goals.iter().all(|g| in_goal(g) <= 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_cheapest_assignment_is_that_of_trying_all() {
        let mut work = Matching::default();
        let mut seed = 7u64;
        for _ in 0..300 {
            let mut next = |n: u64| {
                seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                (seed >> 33) % n
            };
            let (rows, cols) = (1 + next(4) as usize, 4);
            let cost: Vec<i64> = (0..rows * cols)
                .map(|_| if next(5) == 0 { Matching::NONE } else { next(9) as i64 })
                .collect();
            let mut best: Option<i64> = None;
            for code in 0..cols.pow(rows as u32) {
                let pick: Vec<usize> = (0..rows).map(|r| code / cols.pow(r as u32) % cols).collect();
                let mut sorted = pick.clone();
                sorted.sort_unstable();
                sorted.dedup();
                let sum: i64 = pick.iter().enumerate().map(|(r, c)| cost[r * cols + c]).sum();
                if sorted.len() == rows && sum < Matching::NONE {
                    best = Some(best.map_or(sum, |b: i64| b.min(sum)));
                }
            }
            assert_eq!(work.least(rows, cols, &|r, c| cost[r * cols + c]), best);
        }
    }
}
