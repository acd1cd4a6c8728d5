//! Depth first under a rising bound (Korf 1985, "Depth-first iterative-deepening"): shortest ways, proved, in little memory.
//!
//! Runs the ways of a puzzle themselves, forwards and back again: a few places change, and only the relaxed puzzles that
//! follow what has moved are asked anew.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use rayon::prelude::*;

use crate::limits::{Limit, Pace, Watch};
use crate::model::MoveId;
use crate::relaxed::bounds::Judge;
use crate::relaxed::numbers::Spot;
use crate::relaxed::pattern::NEVER;
use crate::relaxed::task::Link;
use crate::relaxed::tree::{Ask, Tree};
use crate::relaxed::{Bounds, Task};

/// What deepening found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Deepened {
    /// A shortest way: its moves. The first in move order among the shortest.
    pub moves: Option<Vec<MoveId>>,
    /// No way is shorter; `None`: there is no way.
    pub least: Option<u32>,
    /// What stopped it.
    pub limit: Option<Limit>,
    /// Positions looked at.
    pub looked: u64,
}

/// Beginnings of ways that are shared among threads.
const SHARES: usize = 400;
/// Steps of one beginning.
const SHARE_DEPTH: usize = 12;

/// What is known of the ways before any is taken.
struct Prepared<'t> {
    task: &'t Task,
    bounds: &'t Bounds,
    tree: Tree,
    /// Kinds of one thing that the tree follows.
    followed: Vec<u32>,
    /// For each way a number of what it changes, and that of what takes this back.
    changes: Vec<(u32, u32)>,
    /// Whether every number of the bounds comes from a sum of tables that follow single things: then they are kept up to date.
    is_light: bool,
    /// For each way what comes to where, what went from where, by tables and fields; and the tables that it touches.
    moved: Vec<Moved>,
}

#[derive(Default)]
struct Moved {
    /// A table, its field, where the thing is before and behind.
    fields: Vec<(u32, u32, u32, u32)>,
    /// Followed things: number, before, behind.
    lies: Vec<(u32, u32, u32)>,
    /// Tables whose number may change.
    tables: Vec<u32>,
}

impl<'t> Prepared<'t> {
    fn new(task: &'t Task, bounds: &'t Bounds) -> Prepared<'t> {
        let followed: Vec<u32> = (task.links().iter())
            .filter_map(|l| if let Link::Kind(k) = l { Some(*k) } else { None })
            .collect();
        let ask = |&(place, value): &(u32, i32)| {
            let kind = task.kind_of(place, value);
            match kind.and_then(|k| followed.iter().position(|f| *f as usize == k)) {
                Some(t) => Ask::Lies(t as u32, place),
                None => Ask::Holds(place, value),
            }
        };
        let tree = Tree::new(task.ways.iter().map(|w| w.reads.iter().map(ask).collect()));
        let mut names: HashMap<Vec<(u32, i32, i32)>, u32> = HashMap::new();
        let mut name = |mut changes: Vec<(u32, i32, i32)>| {
            changes.sort_unstable();
            let next = names.len() as u32;
            *names.entry(changes).or_insert(next)
        };
        let changes = (task.ways.iter())
            .map(|w| {
                let back = w.changes.iter().map(|c| (c.0, c.2, c.1)).collect();
                (name(w.changes.clone()), name(back))
            })
            .collect();
        let one_sum = bounds.sums.len() == 1 && bounds.sums[0].assigns.is_empty();
        let ones: Option<Vec<Vec<(u32, usize)>>> = bounds.tables.iter().map(|t| t.ones()).collect();
        let is_light = one_sum && bounds.single.is_empty() && bounds.declared.is_none() && ones.is_some();
        let mut moved = vec![];
        for way in &task.ways {
            let mut m = Moved::default();
            for &(to, _, value) in &way.changes {
                let Some(k) = task.kind_of(to, value) else { continue };
                let gone = way.changes.iter().find(|c| task.kind_of(c.0, c.1) == Some(k));
                let Some(&(from, _, _)) = gone else { continue };
                if let Some(t) = followed.iter().position(|f| *f as usize == k) {
                    m.lies.push((t as u32, from, to));
                }
                for (t, fields) in ones.iter().flatten().enumerate() {
                    for (kind, field) in fields.iter().filter(|f| f.0 as usize == k) {
                        m.fields.push((t as u32, *field as u32, from, to));
                        if bounds.tables[t].uses(Link::Kind(*kind)) && !m.tables.contains(&(t as u32)) {
                            m.tables.push(t as u32);
                        }
                    }
                }
            }
            moved.push(m);
        }
        Prepared { task, bounds, tree, followed, changes, is_light, moved }
    }
}

/// One who goes deep.
struct Diver<'p> {
    p: &'p Prepared<'p>,
    judge: Judge<'p>,
    values: Vec<i32>,
    lies: Vec<u32>,
    spots: Vec<Spot>,
    /// What each table says.
    says: Vec<u8>,
    sum: u32,
    stack: Vec<u32>,
    path: Vec<u32>,
    /// The least sum above the limit that was met.
    next: u32,
    looked: u64,
    /// How many more may be looked at before more are asked for.
    granted: u64,
}

/// Positions that all threads together may look at.
struct Allowance {
    given: AtomicU64,
    most: u64,
}

/// So many positions are granted at once.
const GRANT: u64 = 128;

impl Allowance {
    /// Some more positions, none of them beyond what is allowed.
    fn grant(&self) -> Result<u64, Limit> {
        let more = |given: u64| (given < self.most).then(|| self.most.min(given + GRANT));
        let before = self.given.fetch_update(Ordering::Relaxed, Ordering::Relaxed, more);
        before.map(|before| GRANT.min(self.most - before)).map_err(|_| Limit::MaxStates)
    }
}

impl<'p> Diver<'p> {
    fn new(p: &'p Prepared<'p>) -> Diver<'p> {
        let mut judge = p.bounds.judge(p.task);
        judge.things.find(p.task, &p.task.start);
        let lies =
            p.followed.iter().map(|k| judge.things.of[*k as usize].first().copied().unwrap_or(0)).collect();
        let mut spots: Vec<Spot> = p.bounds.tables.iter().map(|t| t.numbers.spot()).collect();
        let mut says = vec![];
        if p.is_light {
            for (table, spot) in p.bounds.tables.iter().zip(&mut spots) {
                table.fill(spot, &judge.things, &p.task.start, &[]);
                says.push(table.look(spot));
            }
        }
        let sum = says.iter().map(|s| u32::from(*s)).sum();
        Diver {
            p,
            judge,
            values: p.task.start.clone(),
            lies,
            spots,
            says,
            sum,
            stack: vec![],
            path: vec![],
            next: u32::MAX,
            looked: 0,
            granted: 0,
        }
    }

    /// Counts a position that is looked at.
    #[inline]
    fn count(&mut self, allowance: &Allowance) -> Result<(), Limit> {
        if self.granted == 0 {
            self.granted = allowance.grant()?;
        }
        self.granted -= 1;
        self.looked += 1;
        Ok(())
    }

    /// Takes a way; false where no goal can be reached behind it. It has to be taken back all the same.
    fn take(&mut self, way: u32, old: &mut [u8; 8]) -> bool {
        let p = self.p;
        for &(place, _, to) in &p.task.ways[way as usize].changes {
            self.values[place as usize] = to;
        }
        let moved = &p.moved[way as usize];
        for &(thing, _, to) in &moved.lies {
            self.lies[thing as usize] = to;
        }
        if !p.is_light {
            return match self.judge.says(&self.values).least {
                None => false,
                Some(least) => {
                    self.sum = least;
                    true
                }
            };
        }
        for &(table, field, _, to) in &moved.fields {
            self.spots[table as usize].parts[field as usize][0] = to;
        }
        let mut open = true;
        for (i, &t) in moved.tables.iter().enumerate() {
            let is = p.bounds.tables[t as usize].look(&self.spots[t as usize]);
            let was = std::mem::replace(&mut self.says[t as usize], is);
            if i < old.len() {
                old[i] = was;
            }
            open &= is != NEVER;
            self.sum = self.sum + u32::from(is) - u32::from(was);
        }
        open
    }

    fn take_back(&mut self, way: u32, old: &[u8; 8], sum: u32) {
        let p = self.p;
        for &(place, from, _) in &p.task.ways[way as usize].changes {
            self.values[place as usize] = from;
        }
        let moved = &p.moved[way as usize];
        for &(thing, from, _) in &moved.lies {
            self.lies[thing as usize] = from;
        }
        self.sum = sum;
        if p.is_light {
            for &(table, field, from, _) in &moved.fields {
                self.spots[table as usize].parts[field as usize][0] = from;
            }
            for (i, &t) in moved.tables.iter().enumerate() {
                self.says[t as usize] = match old.get(i) {
                    Some(was) => *was,
                    None => p.bounds.tables[t as usize].look(&self.spots[t as usize]),
                };
            }
        }
    }

    /// Goes on below the limit; true when a goal was found, whose way then stands in `path`.
    fn dive(
        &mut self,
        paid: u32,
        limit: u32,
        last: Option<u32>,
        (pace, allowance): (&mut Pace, &Allowance),
    ) -> Result<bool, Limit> {
        let from = self.stack.len();
        let p = self.p;
        let back = last.map(|w| p.changes[w as usize].1);
        {
            let stack = &mut self.stack;
            p.tree.each(&self.values, &self.lies, &mut |way| {
                if Some(p.changes[way as usize].0) != back {
                    stack.push(way);
                }
            });
        }
        self.stack[from..].sort_unstable();
        pace.step(4)?;
        let sum = self.sum;
        for i in from..self.stack.len() {
            let way = self.stack[i];
            let mut old = [0; 8];
            self.count(allowance)?;
            let open = self.take(way, &mut old);
            if open {
                let all = paid + 1 + self.sum;
                if all <= limit {
                    self.path.push(way);
                    if p.task.is_goal(&self.values)
                        || self.dive(paid + 1, limit, Some(way), (pace, allowance))?
                    {
                        return Ok(true);
                    }
                    self.path.pop();
                } else {
                    self.next = self.next.min(all);
                }
            }
            self.take_back(way, &old, sum);
        }
        self.stack.truncate(from);
        Ok(false)
    }

    /// Looks at all ways of a length up to `limit` that begin like this one; true when one leads to a goal.
    fn follow(
        &mut self,
        share: &[u32],
        limit: u32,
        watch: &dyn Watch,
        allowance: &Allowance,
    ) -> Result<bool, Limit> {
        self.count(allowance)?;
        if !self.p.is_light {
            self.sum = self.judge.says(&self.values).least.unwrap_or(0);
        }
        for (depth, &way) in share.iter().enumerate() {
            let open = self.take(way, &mut [0; 8]);
            let all = depth as u32 + 1 + self.sum;
            if !open || all > limit {
                self.next = if open { all } else { u32::MAX };
                return Ok(false);
            }
            self.path.push(way);
        }
        let mut pace = Pace::new(watch);
        Ok(self.p.task.is_goal(&self.values)
            || self.dive(share.len() as u32, limit, share.last().copied(), (&mut pace, allowance))?)
    }
}

/// What came of one beginning.
#[derive(Default)]
struct Found {
    path: Option<Vec<u32>>,
    /// The least sum above the limit that was met.
    next: Option<u32>,
    looked: u64,
    stopped: Option<Limit>,
}

/// Looks for a shortest way of an exact puzzle (see [`Task::exact`]). `rose` is told each bound that is proved. Stops when the bound reaches
/// `below`: then a way of that length is shortest; and with [`Limit::MaxStates`] when it has looked at more than `most` positions.
#[must_use]
pub fn deepen(
    task: &Task,
    bounds: &Bounds,
    (below, most): (u32, u64),
    watch: &dyn Watch,
    rose: &mut dyn FnMut(u32),
) -> Deepened {
    let p = Prepared::new(task, bounds);
    let mut root = Diver::new(&p);
    let mut out = Deepened { moves: None, least: Some(0), limit: None, looked: 0 };
    if task.is_goal(&task.start) {
        out.moves = Some(vec![]);
        return out;
    }
    let Some(mut limit) = root.judge.says(&task.start).least else {
        out.least = None;
        return out;
    };
    if !p.is_light {
        root.sum = limit;
    }
    limit = limit.max(1);
    drop(root);
    let shares = shares(&p);
    let allowance = Allowance { given: AtomicU64::new(0), most };
    loop {
        out.least = Some(limit);
        rose(limit);
        if limit >= below {
            return out;
        }
        let first = AtomicUsize::new(usize::MAX);
        let follow = |(number, share): (usize, &Vec<u32>)| {
            if first.load(Ordering::Relaxed) < number {
                return Found::default();
            }
            let mut diver = Diver::new(&p);
            let won = diver.follow(share, limit, watch, &allowance);
            // What was granted and not needed is for others.
            allowance.given.fetch_sub(diver.granted, Ordering::Relaxed);
            if won == Ok(true) {
                first.fetch_min(number, Ordering::Relaxed);
            }
            Found {
                path: (won == Ok(true)).then_some(diver.path),
                next: (diver.next < u32::MAX).then_some(diver.next),
                looked: diver.looked,
                stopped: won.err(),
            }
        };
        let parts: Vec<Found> = shares.par_iter().enumerate().map(follow).collect();
        let mut next = None;
        let mut path = None;
        // What lies behind the first way in order may have been left out: it is not counted.
        for part in parts {
            if path.is_none() {
                out.limit = out.limit.or(part.stopped);
                out.looked += part.looked;
                next = next.into_iter().chain(part.next).min();
                path = part.path;
            }
        }
        if let (Some(path), true) = (path, out.limit.is_none()) {
            out.moves = Some(path.iter().map(|w| task.ways[*w as usize].of).collect());
            return out;
        }
        if out.limit.is_some() {
            return out;
        }
        let Some(next) = next else {
            out.least = None;
            return out;
        };
        limit = next;
    }
}

/// Beginnings of all ways, in move order: none is the beginning of another, and together they begin all ways that do not go back at once.
/// A beginning that has come to a goal ends there.
fn shares(p: &Prepared) -> Vec<Vec<u32>> {
    let mut out: Vec<Vec<u32>> = vec![vec![]];
    for _ in 0..SHARE_DEPTH {
        if out.len() >= SHARES {
            break;
        }
        let mut next = vec![];
        for share in &out {
            let mut values = p.task.start.clone();
            let mut lies: Vec<u32> = Diver::new(p).lies;
            for &way in share {
                p.task.ways[way as usize].changes.iter().for_each(|c| values[c.0 as usize] = c.2);
                p.moved[way as usize].lies.iter().for_each(|l| lies[l.0 as usize] = l.2);
            }
            if p.task.is_goal(&values) {
                next.push(share.clone());
                continue;
            }
            let back = share.last().map(|w| p.changes[*w as usize].1);
            let mut open = vec![];
            p.tree.each(&values, &lies, &mut |way| {
                if Some(p.changes[way as usize].0) != back {
                    open.push(way);
                }
            });
            open.sort_unstable();
            next.extend(open.iter().map(|way| [share.as_slice(), &[*way]].concat()));
        }
        out = next;
    }
    out
}
