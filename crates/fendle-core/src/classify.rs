//! Says of every visited state whether a goal can still be reached, and counts fatal moves.
//!
//! Exact for what was seen: with open states left, a state is dead only if neither a goal nor
//! an open state can be reached from it, so it stays dead whatever the open ones are.
//!
//! # How
//!
//! "Winnable" is the least set that holds every running state with an edge to a goal or to a
//! winnable state. It is filled by sweeps over the stored edges, from the deepest level up and
//! then from the start down, until a whole sweep changes nothing. A sweep is O(|S| + |T|) and
//! reads memory in order; it settles every way to a goal that only goes deeper (or only
//! back) at once, so the number of sweeps is that of the turns a way takes between going
//! deeper and going back, at most |S|. One bit a state is needed beside the class bytes; what the first look at a level leaves is kept aside
//! with what it leads to, in at most an eighth of the bytes of the space, so that later sweeps need not read the log again.
//!
//! Every sweep asks whether to stop. What was found to be winnable until then stays so; what was not classified is open.

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering::Relaxed};

use rayon::prelude::*;

use crate::edges::Edges;
use crate::explore::Exploration;
use crate::limits::Limit;
use crate::model::{Expansion, Model};
use crate::passes::Passes;
use crate::route::Route;
use crate::space::dense::Dense;
use crate::space::log::Targets;
use crate::space::{Class, Edge, MARKS_APART, SHARDS, Space, StateId};

const SMALL_LEVEL: u64 = 4096;
/// The part of what a space takes that may be taken for states that are looked at again.
const LEFT_SHARE: u64 = 8;
/// The bytes that may be taken for those of one shard and depth: so many, and some for each state that is there.
const LEFT_ROOM: u64 = 256;
const LEFT_BYTES: u64 = 8;
/// The part of the states of a depth below which those that are left are asked one by one.
const FEW: u64 = 4;

/// One bit a state: small enough to stay near the processor while edges are followed.
///
/// A word holds 64 states of one shard, and the 64 words of all shards lie in a row ([`place`]). So whoever works on a part of the space is the only one
/// that writes to its words, and need not do so in one step, which would make all reads before it wait.
#[derive(Default)]
pub(crate) struct Marks(Vec<AtomicU64>);

/// The word of a state, and its bit there.
#[inline]
fn place(id: StateId) -> (usize, u64) {
    let number = id.index();
    let (block, in_word, shard) = (number / MARKS_APART, number / SHARDS % 64, number % SHARDS);
    (block * SHARDS + shard, 1 << in_word)
}

impl Marks {
    /// Marks the states of the wanted classes. O(|S|) time, |S| / 8 bytes.
    pub(crate) fn of(space: &Space, wanted: impl Fn(Class) -> bool + Sync) -> Marks {
        let [marks] = Marks::of_each(space, |class| [wanted(class)]);
        marks
    }

    /// Several marks at once, in one pass over the states: which of them those of a class have.
    pub(crate) fn of_each<const N: usize>(
        space: &Space,
        wanted: impl Fn(Class) -> [bool; N] + Sync,
    ) -> [Marks; N] {
        let words = space.ids_len().div_ceil(MARKS_APART) * SHARDS;
        let marks = [(); N].map(|()| Marks((0..words).map(|_| AtomicU64::new(0)).collect()));
        (0..SHARDS).into_par_iter().for_each(|n| {
            space.each_in_part(n, |id, class| {
                for (marks, wanted) in marks.iter().zip(wanted(class)) {
                    if wanted {
                        marks.set(id);
                    }
                }
            });
        });
        marks
    }

    /// Only the thread that works on the part of this state calls this.
    #[inline]
    fn set(&self, id: StateId) {
        let (word, bit) = place(id);
        let word = &self.0[word];
        word.store(word.load(Relaxed) | bit, Relaxed);
    }

    /// As [`Marks::set`].
    fn clear(&self, id: StateId) {
        let (word, bit) = place(id);
        let word = &self.0[word];
        word.store(word.load(Relaxed) & !bit, Relaxed);
    }

    #[inline]
    pub(crate) fn has(&self, id: StateId) -> bool {
        let (word, bit) = place(id);
        self.0.get(word).is_some_and(|w| w.load(Relaxed) & bit != 0)
    }

    fn count(&self) -> u64 {
        self.0.iter().map(|w| u64::from(w.load(Relaxed).count_ones())).sum()
    }
}

/// What one pass over the shards of a depth found in each of them, in order; on all threads where the depth is large. Before each shard
/// it is asked whether to stop.
fn in_each_shard<T: Send>(
    source: &Edges<'_>,
    depth: u32,
    one: impl Fn(usize) -> Result<T, Limit> + Sync + Send,
) -> Result<Vec<T>, Limit> {
    in_parts(source, depth, 1, |parts| one(parts.start))
}

/// The same for so many shards, or parts of a range of numbers, at once.
fn in_parts<T: Send>(
    source: &Edges<'_>,
    depth: u32,
    together: usize,
    some: impl Fn(Range<usize>) -> Result<T, Limit> + Sync + Send,
) -> Result<Vec<T>, Limit> {
    let some = |n| match (source.stop)() {
        Some(limit) => Err(limit),
        None => some(n * together..(n + 1) * together),
    };
    let count = SHARDS / together;
    if source.space.level_len(depth) < SMALL_LEVEL {
        (0..count).map(some).collect()
    } else {
        (0..count).into_par_iter().map(some).collect()
    }
}

/// Repeats `sweep` over the depths, from the deepest up and then from the start down, until a whole sweep changes nothing.
fn until_stable(
    levels: u32,
    mut sweep: impl FnMut(&mut dyn Iterator<Item = u32>) -> Result<bool, Limit>,
) -> Result<(), Limit> {
    while sweep(&mut (0..levels).rev())? && sweep(&mut (0..levels))? {}
    Ok(())
}

/// Adds to `marks` every winnable state with a move that `good` accepts, until no more are found.
/// `good` sees the outcomes of one move and the marks so far. O(|S| + |T|) a sweep, as for [`Spread`].
fn attract(
    source: &Edges<'_>,
    marks: &Marks,
    good: impl Fn(&[Edge], &Marks) -> bool + Sync,
) -> Result<(), Limit> {
    let space = source.space;
    until_stable(space.levels_len(), |order| {
        let mut any = false;
        for depth in order {
            let found = in_each_shard(source, depth, |n| {
                let mut changed = false;
                let wanted = |id, class| class == Class::Winnable && !marks.has(id);
                source.each(n, depth, wanted, |id, edges| {
                    if moves_of(edges).any(|outcomes| good(outcomes, marks)) {
                        marks.set(id);
                        changed = true;
                    }
                })?;
                Ok(changed)
            })?;
            any |= found.contains(&true);
        }
        Ok(any)
    })
}

/// The states that are won against every draw, and those that are won with probability 1; goals are
/// among both.
///
/// Certain: the least set that holds the goals and every state with a move all of whose outcomes are
/// in it. Almost certain: the greatest set from whose states a goal can be reached by moves that never
/// leave it (de Alfaro, *Formal Verification of Probabilistic Systems*, 1997, 3.3).
fn winning_sets(source: &Edges<'_>) -> Result<(Marks, Marks), Limit> {
    let space = source.space;
    let goals = |c: Class| c == Class::Goal;
    let certain = Marks::of(space, goals);
    attract(source, &certain, |outcomes, marks| outcomes.iter().all(|e| marks.has(e.to)))?;
    let mut inside = Marks::of(space, Class::is_hopeful);
    loop {
        let reach = Marks::of(space, goals);
        attract(source, &reach, |outcomes, marks| {
            outcomes.iter().all(|e| inside.has(e.to)) && outcomes.iter().any(|e| marks.has(e.to))
        })?;
        if reach.count() == inside.count() {
            return Ok((certain, reach));
        }
        inside = reach;
    }
}

/// Idle states whose waiting leads only to idle or stuck states are stuck; the others are running.
fn classify_idle(source: &Edges<'_>) -> Result<(), Limit> {
    let space = source.space;
    let depths_in = |part| {
        let mut depths = BTreeSet::new();
        space.each_in_part(part, |id, class| {
            if class == Class::Idle {
                depths.insert(space.depth_of(id));
            }
        });
        depths
    };
    let depths: BTreeSet<u32> = (0..SHARDS).into_par_iter().flat_map_iter(depths_in).collect();
    if depths.is_empty() {
        return Ok(());
    }
    let stuck = Marks::of(space, |c| matches!(c, Class::Idle | Class::Stuck));
    let waking = || loop {
        let mut gone: Vec<StateId> = vec![];
        for &depth in &depths {
            let found = in_each_shard(source, depth, |n| {
                let mut gone = vec![];
                let idle = |_, class| class == Class::Idle;
                source.each(n, depth, idle, |id, edges| {
                    if edges.iter().any(|e| !stuck.has(e.to)) {
                        gone.push(id);
                    }
                })?;
                Ok(gone)
            })?;
            gone.extend(found.into_iter().flatten());
        }
        if gone.is_empty() {
            return Ok(());
        }
        for id in gone {
            space.set_class(id, Class::Running);
            stuck.clear(id);
        }
    };
    let done = waking();
    // Where that was stopped nothing is claimed of the rest.
    let rest = if done.is_ok() { Class::Stuck } else { Class::Open };
    (0..SHARDS).into_par_iter().for_each(|part| {
        space.each_in_part(part, |id, class| {
            if class == Class::Idle {
                space.set_class(id, rest);
            }
        });
    });
    done
}

/// The running states of a depth for which nothing was found so far, with what they lead to: where they are few, they are looked at again here and
/// not in the log.
#[derive(Default)]
struct Left {
    /// Each with where its targets end.
    states: Vec<(StateId, u32)>,
    targets: Vec<StateId>,
}

impl Left {
    fn bytes(&self) -> u64 {
        (size_of_val(self.states.as_slice()) + size_of_val(self.targets.as_slice())) as u64
    }

    fn push(&mut self, state: StateId, targets: impl FnOnce(&mut Vec<StateId>)) {
        targets(&mut self.targets);
        self.states.push((state, self.targets.len() as u32));
    }

    fn append(&mut self, other: &Left) {
        let before = self.targets.len() as u32;
        self.states.extend(other.states.iter().map(|(state, end)| (*state, before + end)));
        self.targets.extend_from_slice(&other.targets);
    }

    /// Takes out the states that lead to a marked one, and calls `hit` for each: they are marked at once.
    fn visit(&mut self, marks: &Marks, mut hit: impl FnMut(StateId)) {
        let Left { states, targets } = self;
        // How much of the first ones stays, and where the targets of the next one begin.
        let (mut kept, mut kept_targets, mut first) = (0, 0, 0);
        for i in 0..states.len() {
            let (state, end) = (states[i].0, states[i].1 as usize);
            if targets[first..end].iter().any(|to| marks.has(*to)) {
                hit(state);
            } else {
                targets.copy_within(first..end, kept_targets);
                kept_targets += end - first;
                states[kept] = (state, kept_targets as u32);
                kept += 1;
            }
            first = end;
        }
        states.truncate(kept);
        targets.truncate(kept_targets);
    }
}

/// Gives the class `to` to every running state with a way to a state of a class that `seed`
/// accepts.
struct Spread<'s, 'e> {
    source: &'s Edges<'e>,
    to: Class,
    marks: Marks,
    /// For each depth how many running states the last look at it left.
    missed: Vec<u64>,
    /// For each depth the least depth that those lead to, as far as it is known; without a log it is found when they are looked at.
    reach: Vec<u32>,
    /// Whether most running states of the depth looked at last lead to a marked one.
    mostly_found: bool,
    /// For each depth what is left of it, where that was kept.
    left: Vec<Option<Left>>,
    /// Bytes that may still be taken for more of them.
    room: u64,
}

impl<'s, 'e> Spread<'s, 'e> {
    /// `memory`: bytes that are free.
    fn new(source: &'s Edges<'e>, (to, seed): (Class, Class), memory: u64) -> Spread<'s, 'e> {
        let space = source.space;
        // Lists that grow may take twice what they hold, beside those of all shards together. Without a log what is free is worth it: a state that is
        // left is expanded again.
        let room = if space.logged { (space.bytes() / LEFT_SHARE).min(memory / 2) } else { memory / 3 };
        Spread {
            source,
            to,
            marks: Marks::of(space, |class| class == seed),
            missed: vec![u64::MAX; space.levels_len() as usize],
            reach: (0..space.levels_len())
                .map(|depth| if space.dense.is_some() { 0 } else { space.levels.reach(depth) })
                .collect(),
            mostly_found: false,
            left: (0..space.levels_len()).map(|_| None).collect(),
            room,
        }
    }

    /// Looks at the running states of one depth. Says whether one was found.
    fn visit(&mut self, depth: u32) -> Result<bool, Limit> {
        let Spread { source, to: to_class, marks, missed, reach, mostly_found, left, room } = self;
        let space = source.space;
        let hit = |id: StateId, hits: &mut u64| {
            space.set_class(id, *to_class);
            marks.set(id);
            *hits += 1;
        };
        let left = &mut left[depth as usize];
        if let Some(left) = left {
            if let Some(limit) = (source.stop)() {
                return Err(limit);
            }
            let mut hits = 0;
            left.visit(marks, |id| hit(id, &mut hits));
            return Ok(hits > 0);
        }
        let states = space.level_len(depth);
        // Where the first target is most often the one, or few states are asked, looking at all targets is more than is needed.
        let alone = *mostly_found || missed[depth as usize] < states / FEW;
        // Each shard keeps no more than its part, and only where few are left.
        let few = if space.logged { LEFT_ROOM + states / SHARDS as u64 * LEFT_BYTES } else { u64::MAX };
        let together = source.parts_together(depth);
        let most = (*room * together as u64 / SHARDS as u64).min(few);
        let found = in_parts(source, depth, together, |parts| {
            let n = parts.start;
            let (mut hits, mut misses, mut kept, mut reach) = (0, 0, Some(Left::default()), u32::MAX);
            let mut targets: Vec<StateId> = vec![];
            let running = |class| class == Class::Running;
            let mut keep = |id, targets: &dyn Fn(&mut Vec<StateId>)| {
                misses += 1;
                if let Some(left) = &mut kept {
                    left.push(id, targets);
                    if left.bytes() > most {
                        kept = None;
                    }
                }
            };
            if space.logged {
                let hit = |local| hit(StateId::new(n, local), &mut hits);
                let miss = |local, targets: Targets<'_>| {
                    keep(StateId::new(n, local), &|all| targets.each_state(space.sure, |to| all.push(to)));
                };
                space.each_by_target((n, depth, alone), |_, c| running(c), |id| marks.has(id), hit, miss);
            } else {
                source.each_in(
                    parts,
                    depth,
                    |_, class| running(class),
                    |id, edges| {
                        if edges.iter().any(|e| marks.has(e.to)) {
                            hit(id, &mut hits);
                            return;
                        }
                        // Only a running state can be marked later, or just was by another thread.
                        targets.clear();
                        for to in edges.iter().map(|e| e.to).filter(|to| *to != id) {
                            let (at, class) = space.depth_and_class(to);
                            if running(class) || class == *to_class {
                                reach = reach.min(at);
                                targets.push(to);
                            }
                        }
                        if !targets.is_empty() {
                            keep(id, &|all| all.extend_from_slice(&targets));
                        }
                    },
                )?;
            }
            Ok((hits, misses, kept, reach))
        })?;
        let hits: u64 = found.iter().map(|f| f.0).sum();
        let misses = found.iter().map(|f| f.1).sum();
        missed[depth as usize] = misses;
        if !space.logged {
            // Where nothing is left no change matters any more.
            reach[depth as usize] = found.iter().map(|f| f.3).min().unwrap_or(u32::MAX);
        }
        *mostly_found = hits > misses;
        if found.iter().all(|f| f.2.is_some()) {
            let of_shards = || found.iter().filter_map(|f| f.2.as_ref());
            let mut all = Left {
                states: Vec::with_capacity(of_shards().map(|left| left.states.len()).sum()),
                targets: Vec::with_capacity(of_shards().map(|left| left.targets.len()).sum()),
            };
            of_shards().for_each(|of_shard| all.append(of_shard));
            *room -= all.bytes();
            *left = Some(all);
        }
        Ok(hits > 0)
    }

    /// Gives the memory back that is taken for what is left of depths; false where none may be taken.
    fn gives_back(&mut self) -> bool {
        self.left.iter_mut().for_each(|left| *left = None);
        std::mem::take(&mut self.room) > 0
    }

    fn run(&mut self) -> Result<(), Limit> {
        let space = self.source.space;
        // No way leads to what is not there.
        if self.marks.count() == 0 {
            return Ok(());
        }
        let levels = space.levels_len();
        // An edge leads at most one level down and at most to `reach` up. A level is looked at again
        // only when one of the levels between has changed since.
        let mut clock = 1u64;
        let mut changed_at = vec![1u64; levels as usize + 2];
        let mut seen_at = vec![0u64; levels as usize];
        until_stable(levels, |order| {
            let mut any = false;
            for d in order {
                let i = d as usize;
                let from = self.reach[i] as usize;
                let latest = changed_at.get(from..=i + 1).and_then(|changes| changes.iter().copied().max());
                if latest.is_none_or(|latest| latest <= seen_at[i]) {
                    continue;
                }
                clock += 1;
                seen_at[i] = clock;
                let found = match self.visit(d) {
                    // What it marked stays marked.
                    Err(Limit::Memory) if self.gives_back() => {
                        self.visit(d)?;
                        true
                    }
                    found => found?,
                };
                if found {
                    clock += 1;
                    changed_at[i] = clock;
                    any = true;
                }
            }
            Ok(any)
        })
    }
}

/// Splits the edges of a state into its moves.
fn moves_of(edges: &[Edge]) -> impl Iterator<Item = &[Edge]> {
    edges.split_inclusive(|e| e.last)
}

/// The least depth with a fatal move, and the states there that have one.
pub(crate) type Nearest = (u32, Vec<StateId>);

/// Classifies every running state and fills the counts. Returns the least depth with a
/// fatal move and the states there that have one. A limit that `stop` names is noted in the counts. `memory`: bytes that are free.
pub(crate) fn classify(
    model: &dyn Model,
    space: &Space,
    past_goals: bool,
    counts: &mut Exploration,
    memory: u64,
    stop: &(dyn Fn() -> Option<Limit> + Sync),
) -> (Option<Nearest>, (Marks, Marks)) {
    let source = Edges::new((space, model), past_goals, memory, stop);
    let sorted = classes(&source, counts, memory);
    if let Err(limit) = sorted {
        counts.note_limit(limit);
        counts.complete = false;
    }
    let tally: [AtomicU64; 9] = Default::default();
    let rest = match sorted {
        Ok(rest) => rest,
        // Not looked at to the end: it may be winnable or not.
        Err(_) => Class::Open,
    };
    let nearest_goal = AtomicU32::new(u32::MAX);
    if let Some(dense) = &space.dense {
        dense.rename(Class::Running, rest);
        (0..SHARDS).into_par_iter().for_each(|n| {
            for (mark, count) in space.marks_in_part(n) {
                let class = dense.class_of(mark);
                tally[class as usize].fetch_add(count, Relaxed);
                if class == Class::Goal {
                    nearest_goal.fetch_min(dense.depth_of(mark), Relaxed);
                }
            }
        });
    } else {
        (0..SHARDS).into_par_iter().for_each(|n| {
            let mut local_tally = [0u64; 9];
            let mut first_goal = None;
            space.each_in_part(n, |id, mut class| {
                if class == Class::Running {
                    class = rest;
                    space.set_class(id, rest);
                }
                local_tally[class as usize] += 1;
                if class == Class::Goal {
                    // Those that are nearer come first.
                    first_goal.get_or_insert(id);
                }
            });
            if let Some(id) = first_goal {
                nearest_goal.fetch_min(space.depth_of(id), Relaxed);
            }
            for (sum, n) in tally.iter().zip(local_tally) {
                sum.fetch_add(n, Relaxed);
            }
        });
    }
    let count = |class: Class| tally[class as usize].load(Relaxed);
    counts.open = count(Class::Open);
    counts.goal = count(Class::Goal);
    counts.lost = count(Class::Lost);
    counts.over = count(Class::Over);
    counts.stuck = count(Class::Stuck);
    counts.dead = count(Class::Dead);
    counts.winnable = count(Class::Winnable);
    counts.free = count(Class::Free);
    if counts.goal > 0 {
        counts.shortest = Some(nearest_goal.into_inner());
    }
    if counts.winnable == 0 && !(past_goals && counts.goal > 0) || sorted.is_err() {
        return (None, Default::default());
    }
    let marks = if space.sure { Ok(Default::default()) } else { winning_sets(&source) };
    let marks = marks.unwrap_or_else(|limit| {
        counts.note_limit(limit);
        Default::default()
    });
    if !space.sure {
        counts.certain = marks.0.count().saturating_sub(counts.goal);
        counts.almost_certain = marks.1.count().saturating_sub(counts.goal);
    }
    let nearest = fatal_moves(&source, counts).unwrap_or_else(|limit| {
        counts.note_limit(limit);
        None
    });
    (nearest, marks)
}

/// Whether a move does nothing but let time pass.
fn waits(model: &dyn Model) -> bool {
    (0..model.moves_len()).any(|m| model.is_waiting(crate::model::MoveId(m as u32)))
}

/// A space by number from one start in which all moves can be taken back and a goal was met: every running state is a way to every
/// other one.
fn all_return(space: &Space) -> Option<&Dense> {
    let dense = space.dense.as_ref().filter(|d| d.numbering().is_some_and(|n| n.can_return()))?;
    (space.starts().len() == 1 && space.sure && dense.has_met(Class::Goal)).then_some(dense)
}

/// How many classes [`classify`] may give to states of one depth that were running before, beside the one that all others of them
/// get.
pub(crate) fn new_classes(model: &dyn Model, space: &Space, counts: &Exploration) -> u64 {
    let spread = if model.has_goal() && all_return(space).is_none() { 1 } else { 0 };
    let open = u64::from(!counts.is_whole());
    // What waits may turn out to be stuck, running, or not known.
    let idle = if waits(model) { 3 } else { 0 };
    spread + open + idle
}

/// Gives their class to the states that can still be won, and to those of which that is not known. What is then still
/// running is of the class that is returned. `memory`: bytes that are free.
fn classes(source: &Edges<'_>, counts: &Exploration, memory: u64) -> Result<Class, Limit> {
    let model = source.model;
    if waits(model) {
        classify_idle(source)?;
    }
    if !model.has_goal() {
        return Ok(Class::Free);
    }
    if let Some(dense) = all_return(source.space) {
        dense.rename(Class::Running, Class::Winnable);
        return Ok(Class::Dead);
    }
    let back = Passes::back(source);
    let spread = |to, seed| match &back {
        Some(back) => back.spread(to, seed),
        None => Spread::new(source, (to, seed), memory).run(),
    };
    spread(Class::Winnable, Class::Goal)?;
    if !counts.is_whole() {
        // Reuses `Open` as the mark: a running state with a way to an open one is open.
        spread(Class::Open, Class::Open)?;
    }
    Ok(Class::Dead)
}

/// Counts the fatal moves and draws. Where play goes on past goals, won states count as running ones.
fn fatal_moves(source: &Edges<'_>, counts: &mut Exploration) -> Result<Option<Nearest>, Limit> {
    let space = source.space;
    if counts.dead + counts.stuck + counts.lost + counts.over == 0 {
        return Ok(None);
    }
    let hopeful = |class| class == Class::Winnable || source.past_goals && class == Class::Goal;
    if let Some(passes) = Passes::of(source) {
        let bad = counts.dead + counts.stuck + counts.lost + counts.over;
        let fatal = passes.fatal(hopeful, (counts.winnable, bad))?;
        (counts.fatal_moves, counts.fatal_draws) = (fatal.moves, fatal.draws);
        let nearest = fatal.nearest();
        counts.first_fatal_depth = nearest.as_ref().map(|n| n.0);
        return Ok(nearest);
    }
    let bad = Marks::of(space, Class::is_bad);
    let mut nearest = None;
    for depth in 0..space.levels_len() {
        let found = in_each_shard(source, depth, |n| {
            let (mut fatal, mut draws) = (0u64, 0u64);
            let mut holders = vec![];
            if space.logged && space.sure {
                // Each edge is a move.
                let wanted = |_, class| hopeful(class);
                space.each_with_targets(
                    n,
                    depth,
                    wanted,
                    |id| bad.has(id),
                    |local, fallen| {
                        fatal += fallen;
                        holders.push(StateId::new(n, local));
                    },
                );
                return Ok((fatal, holders, draws));
            }
            source.each(
                n,
                depth,
                |_, class| hopeful(class),
                |id, edges| {
                    let mut here = 0;
                    for outcomes in moves_of(edges) {
                        let fallen = outcomes.iter().filter(|e| bad.has(e.to)).count();
                        if fallen == outcomes.len() {
                            here += 1;
                        } else if fallen > 0 && outcomes.iter().any(|e| space.class(e.to).is_hopeful()) {
                            // Where the others were not seen to their end the move may be fatal as a whole.
                            draws += fallen as u64;
                        }
                    }
                    if here > 0 {
                        holders.push(id);
                    }
                    fatal += here;
                },
            )?;
            Ok((fatal, holders, draws))
        })?;
        let here: u64 = found.iter().map(|f| f.0).sum();
        counts.fatal_moves += here;
        counts.fatal_draws += found.iter().map(|f| f.2).sum::<u64>();
        if here > 0 && nearest.is_none() {
            counts.first_fatal_depth = Some(depth);
            nearest = Some((depth, found.into_iter().flat_map(|f| f.1).collect()));
        }
    }
    Ok(nearest)
}

/// Adds the first fatal move of the last state of `route`, in move order.
pub(crate) fn append_fatal_move(model: &dyn Model, space: &Space, past_goals: bool, route: &mut Route) {
    let Some(last) = route.states.last().cloned() else { return };
    let mut out = Expansion::default();
    model.worker().expand(&last, past_goals, &mut out);
    let words = model.layout().words();
    let mut outcomes = out.outcomes.chunks_exact(words);
    for run in &out.runs {
        let targets: Vec<&[u64]> = outcomes.by_ref().take(run.outcomes as usize).collect();
        if targets.iter().all(|t| space.find(t).is_some_and(|id| space.class(id).is_bad())) {
            route.moves.push(run.of);
            route.states.push(targets[0].to_vec());
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::explore::explore;
    use crate::limits::{Limits, NoWatch};
    use crate::numbers::Random;
    use crate::table::{Row, Table};

    /// Where moves lead, by row: mostly a little on or back, sometimes far away, so that sweeps turn often.
    fn random_moves(random: &mut Random, rows: usize) -> Vec<Vec<usize>> {
        let below = |random: &mut Random, n: usize| random.below(n as u64) as usize;
        let leads = |random: &mut Random, row: usize| match below(random, 60) {
            0 => below(random, rows),
            1..40 => (row + 1 + below(random, 3)).min(rows - 1),
            _ => row.saturating_sub(below(random, 5)),
        };
        let of_row = |row| {
            let moves = if below(random, 20) == 0 { 0 } else { 2 + below(random, 3) };
            (0..moves).map(|_| leads(random, row)).collect()
        };
        (0..rows).map(of_row).collect()
    }

    /// Each state has a bit of its own, and no word holds states of two shards, nor of two parts of a range of numbers.
    #[test]
    fn who_works_on_a_part_is_the_only_one_that_writes_to_its_words() {
        let ids = 3 * MARKS_APART as u32;
        let places: Vec<(usize, u64)> = (0..ids).map(|n| place(StateId::from_number(n))).collect();
        assert!(places.iter().all(|(word, bit)| *word < ids as usize / 64 && bit.is_power_of_two()));
        let mut apart = places.clone();
        apart.sort_unstable();
        apart.dedup();
        assert_eq!(apart.len(), places.len());
        let mut shards = vec![None; ids as usize / 64];
        for (n, (word, _)) in places.iter().enumerate() {
            let shard = StateId::from_number(n as u32).shard();
            assert_eq!(*shards[*word].get_or_insert((shard, n / MARKS_APART)), (shard, n / MARKS_APART));
        }
    }

    /// Whether what a sweep leaves is kept aside or read in the log again: what can still be won is what following moves back from the goals says.
    #[test]
    fn what_a_sweep_leaves_is_found_wherever_it_is_kept() {
        let mut random = Random::new(9);
        let (mut kept, mut winnable) = (0, 0);
        for round in 0..45 {
            let rows = [40, 400, 3_000][round % 3];
            let moves = random_moves(&mut random, rows);
            let goals: Vec<bool> = (0..rows).map(|row| row + 1 == rows || random.below(1_000) == 0).collect();
            let mut wins = goals.clone();
            loop {
                let more: Vec<usize> =
                    (0..rows).filter(|row| !wins[*row] && moves[*row].iter().any(|to| wins[*to])).collect();
                more.iter().for_each(|row| wins[*row] = true);
                if more.is_empty() {
                    break;
                }
            }
            let row = |(row, leads): (usize, &Vec<usize>)| match goals[row] {
                true => Row::goal(),
                false => Row::running(leads.iter().enumerate().map(|(of, to)| (of as u32, *to))),
            };
            let table = Table::new(moves.iter().enumerate().map(row)).with_goal();
            let logged = explore(&table, Limits::default(), false, &NoWatch).expect("a sound start");
            let limits = Limits { drop_edges: true, remainders_from: 1, ..Limits::default() };
            let alone = explore(&table, limits, false, &NoWatch).expect("a sound start");
            assert!(logged.space.has_edges() && !alone.space.has_edges());
            let spaces = [&logged.space, &alone.space].into_iter();
            for (space, memory) in spaces.flat_map(|space| [0, 40_000, 1 << 30].map(|memory| (space, memory)))
            {
                let runs = |class| matches!(class, Class::Winnable | Class::Dead);
                let running: Vec<StateId> = space.ids().filter(|id| runs(space.class(*id))).collect();
                running.iter().for_each(|id| space.set_class(*id, Class::Running));
                // Memory may run short once: what was kept aside is given back then.
                let asked = AtomicU32::new(0);
                let short =
                    || (memory == 40_000 && asked.fetch_add(1, Relaxed) == 90).then_some(Limit::Memory);
                let source = Edges::new((space, &table), false, memory, &short);
                let mut spread = Spread::new(&source, (Class::Winnable, Class::Goal), memory);
                spread.run().expect("nobody stops it");
                let left = spread.left.iter().flatten().filter(|left| !left.states.is_empty()).count();
                assert!(memory > 0 || left == 0);
                kept += left;
                for id in running {
                    let can_win = wins[space.state(id)[0] as usize];
                    let class = if can_win { Class::Winnable } else { Class::Running };
                    assert_eq!(space.class(id), class, "round {round}, memory {memory}, {id}");
                    winnable += u32::from(can_win);
                    space.set_class(id, if can_win { Class::Winnable } else { Class::Dead });
                }
            }
        }
        assert!(kept > 100 && winnable > 1_000, "{kept} levels kept aside, {winnable} states");
    }
}
