//! Which relaxed puzzles: by what they add on positions that were met.

use std::collections::BTreeSet;

use super::bounds::{Assign, Bounds, Sum};
use super::numbers::Spot;
use super::pattern::{Counts, NEVER, Pattern, SOME_MAX, Table, Things, add_links, of_kinds};
use super::task::{Link, Task};
use super::tree::{Ask, Tree};
use crate::limits::{Limit, Watch};
use crate::numbers::Random;

/// What relaxed puzzles may take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Effort {
    /// Most positions of one of them.
    pub positions: u64,
    /// Most positions of all of them.
    pub all: u64,
}

/// Positions that are met on walks from the start.
const SAMPLES: usize = 240;
/// Most choices of like things in one table: a state asks for all of them, and few tell as much.
const CHOICES_MAX: u64 = 1_000;
/// Most things whose pairs are compared.
const PAIRED_MAX: usize = 40;
/// Tables of single places tell little for their size: they get this part of what one table may have.
const PLACES_SHARE: u64 = 8;
/// Most positions of one pair.
const PAIR_POSITIONS: u64 = 400_000;
/// Tables larger than this leave their link out.
const FOLD_FROM: u64 = 1 << 23;
/// Patterns of places outside the groups.
const PLACE_PATTERNS: usize = 6;

/// Makes or fetches a table: a pattern, and whether its link is left out.
pub type Maker<'m> = dyn FnMut(&Task, &[(Pattern, bool)]) -> Result<Vec<Option<Table>>, Limit> + 'm;

/// Makes tables, several at once on several threads.
///
/// # Errors
///
/// The [`Limit`] that stopped it.
pub fn make(task: &Task, wanted: &[(Pattern, bool)], watch: &dyn Watch) -> Result<Vec<Option<Table>>, Limit> {
    use rayon::prelude::*;
    wanted.par_iter().map(|(pattern, fold)| Table::new(task, pattern, *fold, watch)).collect()
}

/// Positions that are met on walks by seed: from the goal, where it says what every place holds, so that all starts of a board have the same
/// relaxed puzzles; else from the start.
#[must_use]
pub fn samples(task: &Task, seed: u64) -> Vec<Vec<i32>> {
    let tree = Tree::new(task.ways.iter().map(|w| w.reads.iter().map(|(p, v)| Ask::Holds(*p, *v)).collect()));
    let mut dice = Random::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    let mut from = task.start.clone();
    if let [goal] = task.goals.as_slice() {
        let varied = task.values.iter().filter(|v| v.len() > 1).count();
        if goal.len() == varied {
            goal.iter().for_each(|g| from[g.0 as usize] = g.1);
        }
    }
    let mut out = vec![from.clone()];
    let mut state = from.clone();
    let (mut open, mut steps) = (vec![], 0);
    while out.len() < SAMPLES && steps < 40 * SAMPLES {
        open.clear();
        tree.each(&state, &[], &mut |w| open.push(w));
        steps += 1;
        if open.is_empty() || steps % 400 == 0 {
            state.clone_from(&from);
            if open.is_empty() && steps == 1 {
                break;
            }
            continue;
        }
        open.sort_unstable();
        let way = &task.ways[open[dice.below(open.len() as u64) as usize] as usize];
        for &(place, _, to) in &way.changes {
            state[place as usize] = to;
        }
        if steps % 5 == 0 {
            out.push(state.clone());
        }
    }
    out
}

/// The values of a table on positions.
fn on(task: &Task, table: &Table, samples: &[Vec<i32>]) -> Vec<u8> {
    let mut things = Things::new(task);
    let mut spot: Spot = table.numbers.spot();
    (samples.iter())
        .map(|s| {
            things.find(task, s);
            table.fill(&mut spot, &things, s, &[]);
            table.look(&spot)
        })
        .collect()
}

/// Chooses relaxed puzzles and makes them.
///
/// # Errors
///
/// The [`Limit`] that stopped it.
pub fn choose(task: &Task, effort: Effort, seed: u64, maker: &mut Maker) -> Result<Bounds, Limit> {
    let mut out = Bounds::default();
    if task.goals.is_empty() || task.ways.is_empty() {
        return Ok(out);
    }
    let links = task.links();
    let is_link = |k: usize| links.contains(&Link::Kind(k as u32));
    let wanted = |k: usize| {
        let kind = &task.kinds[k];
        let at = |g: &(u32, i32)| g.1 == kind.value && task.group[g.0 as usize] == Some(kind.group);
        task.goals.iter().all(|g| g.iter().any(at))
    };
    let moved: BTreeSet<usize> = task.counted_for().iter().flatten().map(|c| c.0).collect();
    let own: Vec<usize> =
        (0..task.kinds.len()).filter(|k| !is_link(*k) && wanted(*k) && moved.contains(k)).collect();
    let mut left = effort.all;
    let mut sum = Sum::default();
    for &k in own.iter().filter(|k| task.kinds[**k].count > 1 || task.kinds[**k].falls) {
        several(task, k, effort, &mut left, (&mut out, &mut sum), maker)?;
    }
    let single: Vec<u32> = (own.iter().copied())
        .filter(|k| task.kinds[*k].count == 1 && !task.kinds[*k].falls)
        .map(|k| k as u32)
        .collect();
    if !single.is_empty() {
        let groups = groups(task, &single, effort, seed, maker)?;
        let patterns: Vec<(Pattern, bool)> = (groups.iter())
            .map(|g| {
                let pattern = of_kinds(task, g, Counts::Own);
                let fold = Table::size(task, &pattern).is_some_and(|s| s >= FOLD_FROM);
                (pattern, fold)
            })
            .collect();
        for table in maker(task, &patterns)?.into_iter().flatten() {
            left = left.saturating_sub(table.bytes());
            sum.tables.push(out.tables.len());
            out.tables.push(table);
        }
    }
    if !sum.tables.is_empty() || !sum.assigns.is_empty() {
        out.sums.push(sum);
    }
    // Places outside the groups, and kinds that are wanted nowhere for sure.
    let beside = of_places(task, &links, effort, &mut left, seed, maker)?;
    for table in beside {
        out.single.push(out.tables.len());
        out.tables.push(table);
    }
    Ok(out)
}

/// Kinds of several like things: each goes to a place of its own, and some of them together may lock each other.
fn several(
    task: &Task,
    k: usize,
    effort: Effort,
    left: &mut u64,
    (out, sum): (&mut Bounds, &mut Sum),
    maker: &mut Maker,
) -> Result<(), Limit> {
    let kind = &task.kinds[k];
    if let [goal] = task.goals.as_slice() {
        let to: Vec<u32> = (goal.iter())
            .filter(|g| g.1 == kind.value && task.group[g.0 as usize] == Some(kind.group))
            .map(|g| g.0)
            .collect();
        let one = |berth: u32| {
            let mut pattern = Pattern {
                kinds: vec![(k as u32, 1)],
                places: vec![],
                counts: Counts::Own,
                to: Some(vec![berth]),
            };
            add_links(task, &mut pattern);
            (pattern, false)
        };
        let patterns: Vec<(Pattern, bool)> = to.iter().map(|b| one(*b)).collect();
        let fits =
            patterns.first().and_then(|p| Table::size(task, &p.0)).is_some_and(|s| s <= effort.positions);
        if fits {
            let tables = maker(task, &patterns)?;
            let mut cost = vec![NEVER; task.start.len() * to.len()];
            for (b, table) in tables.iter().enumerate() {
                // For each place of the thing the least over all that else may be.
                let Some(table) = table else { return Ok(()) };
                table.least_by_thing(k as u32, &mut |place, n| cost[place as usize * to.len() + b] = n);
            }
            sum.assigns.push(out.assigns.len());
            out.assigns.push(Assign { kind: k as u32, to, cost });
        }
    }
    for keep in 1..=kind.count.min(SOME_MAX) {
        // Each state asks for all choices of so many things.
        let choices = (0..keep).fold(1u64, |n, i| n * u64::from(kind.count - i) / u64::from(i + 1));
        if choices > CHOICES_MAX {
            break;
        }
        let mut pattern =
            Pattern { kinds: vec![(k as u32, keep)], places: vec![], counts: Counts::All, to: None };
        add_links(task, &mut pattern);
        let Some(size) = Table::size(task, &pattern).filter(|s| *s <= effort.positions && *s <= *left) else {
            break;
        };
        *left -= size;
        for table in maker(task, &[(pattern, false)])?.into_iter().flatten() {
            out.single.push(out.tables.len());
            out.tables.push(table);
        }
    }
    Ok(())
}

/// Divides single things into groups that are known together: as large as may be, and such that things stand in one group
/// that need more moves together than apart.
fn groups(
    task: &Task,
    single: &[u32],
    effort: Effort,
    seed: u64,
    maker: &mut Maker,
) -> Result<Vec<Vec<u32>>, Limit> {
    let n = single.len();
    // The largest size of a group whose every choice fits.
    let fits = |size: usize| {
        let worst = &single[..size];
        Table::size(task, &of_kinds(task, worst, Counts::Own)).is_some_and(|s| {
            s <= effort.positions && s.saturating_mul(n.div_ceil(size) as u64) <= effort.all * 2
        })
    };
    let size = (1..=n).take_while(|s| fits(*s)).last().unwrap_or(1);
    if size == n {
        return Ok(vec![single.to_vec()]);
    }
    let met = samples(task, seed);
    let mut gain = vec![vec![0i64; n]; n];
    let pair = of_kinds(task, &single[..2.min(n)], Counts::Own);
    if n <= PAIRED_MAX && size > 1 && Table::size(task, &pair).is_some_and(|s| s <= PAIR_POSITIONS) {
        let ones: Vec<(Pattern, bool)> =
            single.iter().map(|k| (of_kinds(task, &[*k], Counts::Own), false)).collect();
        let ones: Vec<Vec<u8>> = (maker(task, &ones)?.iter())
            .map(|t| t.as_ref().map_or_else(|| vec![0; met.len()], |t| on(task, t, &met)))
            .collect();
        let pairs: Vec<(usize, usize)> = (0..n).flat_map(|i| (0..i).map(move |j| (i, j))).collect();
        let patterns: Vec<(Pattern, bool)> = (pairs.iter())
            .map(|(i, j)| (of_kinds(task, &[single[*i], single[*j]], Counts::Own), false))
            .collect();
        for (&(i, j), table) in pairs.iter().zip(maker(task, &patterns)?) {
            let Some(table) = table else { continue };
            let both = on(task, &table, &met);
            let more = |s: usize| i64::from(both[s]) - i64::from(ones[i][s]) - i64::from(ones[j][s]);
            gain[i][j] = (0..met.len()).map(more).sum();
            gain[j][i] = gain[i][j];
        }
    }
    // The best of several climbs: things of two groups change places while that gains.
    let mut dice = Random::new(seed ^ 0x5eed);
    let mut best: Option<(i64, Vec<usize>)> = None;
    for climb in 0..12 {
        let mut group: Vec<usize> = (0..n).map(|i| i / size).collect();
        if climb > 0 {
            for i in (1..n).rev() {
                group.swap(i, dice.below(i as u64 + 1) as usize);
            }
        }
        let value = |g: &[usize]| -> i64 {
            let mut sum = 0;
            for i in 0..n {
                for j in 0..i {
                    sum += if g[i] == g[j] { gain[i][j] } else { 0 };
                }
            }
            sum
        };
        let mut now = value(&group);
        loop {
            let mut step: Option<(i64, usize, usize)> = None;
            for i in 0..n {
                for j in 0..i {
                    if group[i] == group[j] {
                        continue;
                    }
                    group.swap(i, j);
                    let v = value(&group);
                    group.swap(i, j);
                    if v > now && step.is_none_or(|s| v > s.0) {
                        step = Some((v, i, j));
                    }
                }
            }
            let Some((v, i, j)) = step else { break };
            group.swap(i, j);
            now = v;
        }
        if best.as_ref().is_none_or(|b| now > b.0) {
            best = Some((now, group));
        }
    }
    let group = best.map(|b| b.1).unwrap_or_default();
    let mut out = vec![vec![]; n.div_ceil(size)];
    for (i, g) in group.iter().enumerate() {
        out[*g].push(single[i]);
    }
    Ok(out)
}

/// Tables of places outside the groups: from each place that a goal names, what its ways ask for is added as long as it fits.
fn of_places(
    task: &Task,
    links: &[Link],
    effort: Effort,
    left: &mut u64,
    seed: u64,
    maker: &mut Maker,
) -> Result<Vec<Table>, Limit> {
    let is_free = |p: u32| task.group[p as usize].is_none() && task.values[p as usize].len() > 1;
    let mut named: Vec<u32> = task.goals.iter().flatten().map(|g| g.0).filter(|p| is_free(*p)).collect();
    named.sort_unstable();
    named.dedup();
    let mut patterns: Vec<Pattern> = vec![];
    let mut dice = Random::new(seed ^ 0x91ac);
    for i in (1..named.len()).rev() {
        named.swap(i, dice.below(i as u64 + 1) as usize);
    }
    for &from in named.iter().take(PLACE_PATTERNS) {
        let mut pattern = Pattern { kinds: vec![], places: vec![from], counts: Counts::All, to: None };
        add_links(task, &mut pattern);
        if Table::size(task, &pattern).is_none_or(|s| s > effort.positions) {
            pattern = Pattern { kinds: vec![], places: vec![from], counts: Counts::All, to: None };
        }
        loop {
            // What the ways that change the pattern ask for most often, goals first.
            let mut counts: std::collections::BTreeMap<u32, (u64, u64)> = std::collections::BTreeMap::new();
            for way in &task.ways {
                if way.changes.iter().any(|c| pattern.places.contains(&c.0)) {
                    for r in way.reads.iter().filter(|r| is_free(r.0) && !pattern.places.contains(&r.0)) {
                        let entry = counts.entry(r.0).or_default();
                        entry.0 = u64::from(named.contains(&r.0));
                        entry.1 += 1;
                    }
                }
            }
            let mut list: Vec<(u32, (u64, u64))> = counts.into_iter().collect();
            list.sort_by_key(|(p, n)| (std::cmp::Reverse(*n), *p));
            let fits = list.iter().map(|(p, _)| *p).find(|p| {
                let mut more = pattern.clone();
                more.places.push(*p);
                Table::size(task, &more)
                    .is_some_and(|s| s <= (effort.positions / PLACES_SHARE).min(1 << 22) && s <= *left)
            });
            let Some(p) = fits else { break };
            pattern.places.push(p);
            if pattern.places.len() > 20 {
                break;
            }
        }
        pattern.places.sort_unstable();
        let is_only_link = pattern.places.iter().all(|p| links.contains(&Link::Place(*p)));
        let size = Table::size(task, &pattern);
        let has_more = !is_only_link || task.kinds.is_empty();
        if !patterns.contains(&pattern) && size.is_some_and(|s| s <= *left) && has_more {
            *left -= size.unwrap_or(0);
            patterns.push(pattern);
        }
    }
    let wanted: Vec<(Pattern, bool)> = patterns.into_iter().map(|p| (p, false)).collect();
    Ok(maker(task, &wanted)?.into_iter().flatten().filter(|t| t.most > 0 || t.never > 0).collect())
}
