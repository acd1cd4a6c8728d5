//! The structure of a classified space: where it dies, what every solution must do, how wide the way is.
//!
//! Says nothing of a space that was not seen whole. With chance, a way is one of moves and draws: *every lucky way*
//! passes a must-pass state, and a fatal move is fatal whatever is drawn.
//!
//! All of it is linear in states and transitions, but for what is counted up to swaps, which looks at every shortest solution.

use std::sync::OnceLock;

use num_bigint::BigUint;
use rayon::prelude::*;
use serde::Serialize;

use crate::explore::by_number::WINDOW;
use crate::explore::{Explored, pool};
use crate::graph::{Arrows, Distances, Parts, Transitions, arrows_bytes};
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::{Expansion, Model, MoveId};
use crate::numbers::DisjointSets;
use crate::space::{Class, Edge, SHARDS, Space, StateId};

/// Shortest solutions above which they are not looked at one by one.
pub const SOLUTIONS_MAX: u32 = 1_000_000;

/// Why a structure was not computed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotSeen {
    /// The space was not seen whole.
    Open,
    /// The graph would take this many bytes beside the space, more than the budget.
    Memory {
        /// Bytes wanted.
        bytes: u64,
    },
    /// This limit ended it.
    Stopped(Limit),
}

impl From<Limit> for NotSeen {
    fn from(limit: Limit) -> NotSeen {
        NotSeen::Stopped(limit)
    }
}

/// How long a fatal move goes unnoticed: the least number of moves after it until a state can be stuck, lost or over.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Delay {
    /// Fatal moves after which it can show.
    pub shows: u64,
    /// Fatal moves after which nothing ever shows: play can only go on.
    pub never_shows: u64,
    /// Least delay of those that show.
    pub least: u32,
    /// Greatest delay of those that show.
    pub greatest: u32,
    /// Sum of the delays of those that show.
    pub sum: u64,
}

impl Delay {
    /// Mean delay of those that show.
    #[must_use]
    pub fn mean(&self) -> Option<f64> {
        (self.shows > 0).then(|| self.sum as f64 / self.shows as f64)
    }
}

/// Some of several: `part` of `all`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Share {
    /// How many of them.
    pub part: u64,
    /// Of how many.
    pub all: u64,
}

/// Strongly connected parts of the space, and what leads from one to another for good.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Rooms {
    /// How many rooms there are: every state is in one.
    pub rooms: u64,
    /// States of the largest.
    pub largest: u64,
    /// Pairs of states with a transition from one room to another.
    pub doors: u64,
    /// Rooms that hold a winnable state.
    pub winnable_rooms: u64,
    /// Doors between winnable rooms, or from one to a goal.
    pub winnable_doors: u64,
    /// One chain of doors carries every solution.
    pub essentially_unique: bool,
    /// Rooms of dead states that cannot be left, and in which play goes on for ever.
    pub traps: u64,
    /// States in them.
    pub trap_states: u64,
    /// Least depth of a state in a trap.
    pub trap_depth: Option<u32>,
}

/// The shortest solutions.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Shortest {
    /// Moves of each.
    pub moves: u32,
    /// How many there are, exactly, in decimal digits: sequences of moves, and of draws with chance.
    pub count: String,
    /// How many when those are the same that differ in neighbouring moves which can be swapped with the same result;
    /// `None` with chance or above [`SOLUTIONS_MAX`].
    pub up_to_swaps: Option<u64>,
    /// States that lie on one of them.
    pub states: u64,
    /// Moves allowed on them that keep the game winnable.
    pub corridor: Share,
}

/// What [`structure`] found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Structure {
    /// Fatal moves by the depth of the state that they leave.
    pub fatal_by_depth: Vec<u64>,
    /// How long they go unnoticed.
    pub delay: Delay,
    /// Rooms, doors and traps.
    pub rooms: Rooms,
    /// States on every way from the start to a goal, in the order of the ways.
    #[serde(skip)]
    pub must_pass: Vec<StateId>,
    /// The shortest solutions.
    pub shortest: Option<Shortest>,
    /// Moves of winnable states that keep the game winnable, of all their allowed moves.
    pub corridor: Share,
    /// Allowed moves of running states, of how many running states.
    pub branching: Share,
    /// The most allowed moves of one state.
    pub widest: u32,
    /// Winnable states by their distance to a goal.
    pub by_distance: Vec<u64>,
}

fn moves_of(edges: &[Edge]) -> impl Iterator<Item = &[Edge]> {
    edges.split_inclusive(|e| e.last)
}

/// Computes the structure of a space that was seen whole, and the distances behind it.
///
/// # Errors
///
/// [`NotSeen`] when it cannot be.
pub fn structure(
    model: &dyn Model,
    found: &Explored,
    limits: &Limits,
    watch: &dyn Watch,
) -> Result<(Structure, Distances), NotSeen> {
    let (space, counts) = (&found.space, &found.counts);
    if !counts.is_whole() || counts.open > 0 {
        return Err(NotSeen::Open);
    }
    // Arrows one way, then the other; numbers and stacks beside them. Without a log both at once.
    let arrows = arrows_bytes(space, counts.transitions);
    let again = if space.has_edges() { 0 } else { arrows };
    let bytes = arrows + again + 20 * space.ids_len() as u64;
    if !Transitions::are_known(space)
        || counts.transitions >= u64::from(u32::MAX)
        || space.bytes() + bytes > limits.memory_bytes
    {
        return Err(NotSeen::Memory { bytes });
    }
    let progress = Progress {
        states: counts.states,
        expanded: counts.states,
        depth: counts.depth,
        bytes,
        numbers: None,
    };
    let ask = || Pace::new(watch).at(progress);
    ask().now()?;
    let threads = OnceLock::new();
    pool(&threads, limits.threads).install(|| {
        let made = Transitions::of(model, found, &mut ask())?;
        let Some(transitions) = made else { return Err(NotSeen::Memory { bytes }) };
        Ok(whole(model, &transitions, counts.shortest, &ask)?)
    })
}

/// The structure of a space whose transitions are at hand; with two threads two things are found at once, where the arrows both
/// ways have room.
fn whole<'w>(
    model: &dyn Model,
    transitions: &Transitions<'_>,
    shortest: Option<u32>,
    ask: &(dyn Fn() -> Pace<'w> + Sync),
) -> Result<(Structure, Distances), Limit> {
    let space = transitions.space;
    let folded = |arrows: &Arrows| -> Result<Rooms, Limit> {
        let mut pace = ask();
        let parts = Parts::of(space, arrows, &mut pace)?;
        rooms(transitions, &parts, &mut pace)
    };
    let passed = |arrows: &Arrows, on_way: &Option<OnWay>| match on_way {
        Some(on) => must_pass(space, arrows, &on.one_way(transitions), &mut ask()),
        None => Ok(vec![]),
    };
    let mut out = Structure::default();
    let (far, on_way) = match transitions.arrows() {
        Some(arrows) => {
            let behind = || {
                let far = Distances::of(space, &arrows.reversed(), &mut ask())?;
                let on_way = shortest.map(|length| OnWay::by(space, &far, length, &mut ask())).transpose()?;
                Ok((passed(arrows, &on_way)?, far, on_way))
            };
            let (rooms, behind) = rayon::join(|| folded(arrows), behind);
            let (must_pass, far, on_way) = behind?;
            (out.rooms, out.must_pass) = (rooms?, must_pass);
            (far, on_way)
        }
        None => {
            let on_way = shortest.map(|length| OnWay::among(transitions, length, &mut ask())).transpose()?;
            let arrows = Arrows::forward(space, &mut ask())?;
            (out.rooms, out.must_pass) = (folded(&arrows)?, passed(&arrows, &on_way)?);
            drop(arrows);
            (Distances::of(space, &Arrows::backward(space, &mut ask())?, &mut ask())?, on_way)
        }
    };
    out.walk(transitions, &far, &mut ask())?;
    if let Some(on) = &on_way {
        out.shortest = Some(on.shortest(model, transitions, &mut ask())?);
    }
    Ok((out, far))
}

impl Structure {
    /// One pass over all transitions, on all threads where they are arrows: fatal moves, delays, shares.
    fn walk(
        &mut self,
        transitions: &Transitions<'_>,
        far: &Distances,
        pace: &mut Pace<'_>,
    ) -> Result<(), Limit> {
        let space = transitions.space;
        if let (Some(arrows), Some(dense)) = (transitions.arrows(), &space.dense) {
            let look: &Pace<'_> = pace;
            let panes: Vec<Result<Structure, Limit>> = (0..dense.range().div_ceil(WINDOW))
                .into_par_iter()
                .map(|n| {
                    look.now()?;
                    let mut out = Structure::default();
                    let (start, end) = (n * WINDOW, ((n + 1) * WINDOW).min(dense.range()));
                    dense.each_seen(start, end, |number, mark| {
                        let id = StateId::from_number(number as u32);
                        let moves =
                            arrows.from(id).iter().map(|to| std::iter::once(StateId::from_number(*to)));
                        out.see(space, far, (dense.depth_of(mark), dense.class_of(mark), id), moves);
                    });
                    Ok(out)
                })
                .collect();
            for pane in panes {
                self.add(pane?);
            }
            pace.step(dense.range())?;
        } else {
            transitions.each_anywhere(pace, |depth, id, edges| {
                let moves = moves_of(edges).map(|outcomes| outcomes.iter().map(|e| e.to));
                self.see(space, far, (depth, space.class(id), id), moves);
            })?;
        }
        while self.fatal_by_depth.last() == Some(&0) {
            self.fatal_by_depth.pop();
        }
        Ok(())
    }

    /// Counts a state, given what each of its moves may lead to.
    fn see<M: Iterator<Item = StateId> + Clone>(
        &mut self,
        space: &Space,
        far: &Distances,
        (depth, class, id): (u32, Class, StateId),
        moves: impl Iterator<Item = M>,
    ) {
        if !matches!(class, Class::Winnable | Class::Dead | Class::Stuck | Class::Free) {
            return;
        }
        let mut count = 0;
        for outcomes in moves {
            count += 1;
            if class != Class::Winnable {
                continue;
            }
            if !outcomes.clone().all(|to| space.class(to).is_bad()) {
                self.corridor.part += 1;
                continue;
            }
            add_at(&mut self.fatal_by_depth, depth, 1);
            match outcomes.filter_map(|to| far.get(to)).min() {
                Some(delay) => {
                    let d = &mut self.delay;
                    d.least = if d.shows == 0 { delay } else { d.least.min(delay) };
                    d.greatest = d.greatest.max(delay);
                    d.shows += 1;
                    d.sum += u64::from(delay);
                }
                None => self.delay.never_shows += 1,
            }
        }
        self.widest = self.widest.max(count as u32);
        self.branching.part += count;
        self.branching.all += 1;
        if class == Class::Winnable {
            self.corridor.all += count;
            if let Some(d) = far.get(id) {
                add_at(&mut self.by_distance, d, 1);
            }
        }
    }

    /// Adds what was counted of other states.
    fn add(&mut self, other: Structure) {
        for (depth, n) in other.fatal_by_depth.iter().enumerate() {
            add_at(&mut self.fatal_by_depth, depth as u32, *n);
        }
        for (distance, n) in other.by_distance.iter().enumerate() {
            add_at(&mut self.by_distance, distance as u32, *n);
        }
        let (d, o) = (&mut self.delay, &other.delay);
        d.least = match (d.shows, o.shows) {
            (_, 0) => d.least,
            (0, _) => o.least,
            _ => d.least.min(o.least),
        };
        d.greatest = d.greatest.max(o.greatest);
        d.shows += o.shows;
        d.sum += o.sum;
        d.never_shows += o.never_shows;
        self.widest = self.widest.max(other.widest);
        for (share, more) in [(&mut self.branching, &other.branching), (&mut self.corridor, &other.corridor)]
        {
            share.part += more.part;
            share.all += more.all;
        }
    }
}

/// Adds to an entry of a list that is as long as needed.
fn add_at(list: &mut Vec<u64>, at: u32, n: u64) {
    if list.len() <= at as usize {
        list.resize(at as usize + 1, 0);
    }
    list[at as usize] += n;
}

/// Folds strongly connected parts to rooms and counts what leads out of them.
fn rooms(transitions: &Transitions<'_>, parts: &Parts, pace: &mut Pace<'_>) -> Result<Rooms, Limit> {
    let space = transitions.space;
    let mut sizes = vec![0u32; parts.count as usize];
    let mut marks = vec![0u8; parts.count as usize];
    const LEFT: u8 = 1;
    const WINS: u8 = 2;
    const DEAD: u8 = 4;
    let mut out = Rooms { rooms: parts.count.into(), ..Rooms::default() };
    let mut seen: Vec<u32> = vec![];
    transitions.each_state(pace, |_, class, id| {
        let part = parts.part(id) as usize;
        sizes[part] += 1;
        marks[part] |= match class {
            Class::Winnable => WINS,
            Class::Dead => DEAD,
            _ => 0,
        };
    })?;
    transitions.each_target(pace, |id, targets| {
        let part = parts.part(id);
        seen.clear();
        for &to in targets {
            if parts.part(StateId::from_number(to)) == part {
                continue;
            }
            marks[part as usize] |= LEFT;
            if seen.len() < 64 && seen.contains(&to) {
                continue;
            }
            seen.push(to);
        }
        if seen.len() > 64 {
            seen.sort_unstable();
            seen.dedup();
        }
        out.doors += seen.len() as u64;
        let hopeful = seen.iter().filter(|t| space.class(StateId::from_number(**t)).is_hopeful());
        out.winnable_doors += hopeful.count() as u64;
    })?;
    for (size, mark) in sizes.iter().zip(&marks) {
        out.largest = out.largest.max(u64::from(*size));
        out.winnable_rooms += u64::from(mark & WINS != 0);
        if mark & (DEAD | LEFT) == DEAD {
            out.traps += 1;
            out.trap_states += u64::from(*size);
        }
    }
    if out.traps > 0 {
        let mut nearest = u32::MAX;
        transitions.each_state(pace, |depth, class, id| {
            if depth < nearest
                && class == Class::Dead
                && marks[parts.part(id) as usize] & (DEAD | LEFT) == DEAD
            {
                nearest = depth;
            }
        })?;
        out.trap_depth = Some(nearest);
    }
    // Every winnable room can be reached and has a door to a hopeful one: with as many doors as rooms each has one,
    // and they form one chain.
    let mut firsts = space.starts().iter().map(|s| parts.part(*s));
    let first = firsts.next();
    out.essentially_unique = out.winnable_rooms > 0
        && out.winnable_doors == out.winnable_rooms
        && firsts.all(|p| Some(p) == first);
    Ok(out)
}

/// The states on every way from the starts to a goal, given one such way: a sweep along it that remembers how far
/// other ways have come. O(|S| + |T|) time, one bit a state.
///
/// A state of the given way lies on every way exactly when no other way leads round it; and such a way leaves the
/// given one before it and comes back to it behind it.
fn must_pass(
    space: &Space,
    arrows: &Arrows,
    way: &[StateId],
    pace: &mut Pace<'_>,
) -> Result<Vec<StateId>, Limit> {
    let place: std::collections::HashMap<u32, usize> =
        way.iter().enumerate().map(|(i, id)| (id.number(), i)).collect();
    let end = way.len();
    let mut seen = vec![0u64; space.ids_len().div_ceil(64)];
    // One bit says whether looking a state up among the places of the way is worth while.
    let mut on_way = vec![0u64; seen.len()];
    for id in way {
        on_way[id.index() / 64] |= 1 << (id.index() % 64);
    }
    let mut reach: Option<usize> = None;
    let mut work: Vec<u32> = vec![];
    let mut out = vec![];
    let mut visit = |to: u32, work: &mut Vec<u32>, reach: &mut Option<usize>| {
        let (word, bit) = (to as usize / 64, 1 << (to % 64));
        if on_way[word] & bit != 0 {
            *reach = (*reach).max(place.get(&to).copied());
            return;
        }
        if seen[word] & bit != 0 {
            return;
        }
        match space.class(StateId::from_number(to)) {
            Class::Goal => *reach = Some(end),
            Class::Winnable => {
                seen[word] |= bit;
                work.push(to);
            }
            _ => {}
        }
    };
    for s in space.starts() {
        visit(s.number(), &mut work, &mut reach);
    }
    for (i, id) in way.iter().enumerate() {
        while let Some(state) = work.pop() {
            pace.step(1)?;
            for &to in arrows.from(StateId::from_number(state)) {
                visit(to, &mut work, &mut reach);
            }
        }
        if reach == Some(i) {
            out.push(*id);
        }
        if space.class(*id) != Class::Goal {
            for &to in arrows.from(*id) {
                visit(to, &mut work, &mut reach);
            }
        }
    }
    Ok(out)
}

/// The states on shortest ways to a goal, by depth, sorted. 4 bytes for each.
pub struct OnWay(Vec<Vec<StateId>>);

impl OnWay {
    /// Finds them in the log of a space. `length` is the least depth of a goal. O(|S| + |T|).
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended it.
    pub fn of(space: &Space, length: u32, pace: &mut Pace<'_>) -> Result<OnWay, Limit> {
        OnWay::among(&Transitions::logged(space), length, pace)
    }

    /// Finds them backwards, level by level.
    fn among(transitions: &Transitions<'_>, length: u32, pace: &mut Pace<'_>) -> Result<OnWay, Limit> {
        let space = transitions.space;
        let mut levels = vec![vec![]; length as usize + 1];
        let mut marks = vec![0u64; space.ids_len().div_ceil(64)];
        for d in (0..=length).rev() {
            let mut here: Vec<StateId> = vec![];
            if d == length {
                here.extend(transitions.level(d).filter(|id| space.class(*id) == Class::Goal));
            } else {
                transitions.each(d, |id, edges| {
                    // Marked states lie below: an edge leads at most one level down.
                    if edges.iter().any(|e| marks[e.to.index() / 64] >> (e.to.index() % 64) & 1 == 1) {
                        here.push(id);
                    }
                });
            }
            for id in &here {
                marks[id.index() / 64] |= 1 << (id.index() % 64);
            }
            here.sort_unstable();
            levels[d as usize] = here;
            pace.step(2 * space.level_len(d))?;
        }
        Ok(OnWay(levels))
    }

    /// Finds them by their distances: what is as deep as it is near. O(|S|).
    fn by(space: &Space, far: &Distances, length: u32, pace: &mut Pace<'_>) -> Result<OnWay, Limit> {
        let mut levels = vec![vec![]; length as usize + 1];
        for part in 0..SHARDS {
            space.each_in_part(part, |id, class| {
                let Some(far) = far.get(id).filter(|d| class.is_hopeful() && *d <= length) else { return };
                let depth = space.depth_of(id);
                if depth + far == length {
                    levels[depth as usize].push(id);
                }
            });
            pace.step((space.ids_len() / SHARDS) as u64)?;
        }
        levels.iter_mut().for_each(|level| level.sort_unstable());
        Ok(OnWay(levels))
    }

    /// Whether a state lies on a shortest way.
    #[must_use]
    pub fn holds(&self, space: &Space, id: StateId) -> bool {
        self.index(space.depth_of(id) as usize, id).is_some()
    }

    /// How many lie at a depth.
    pub(crate) fn level_len(&self, depth: usize) -> usize {
        self.0[depth].len()
    }

    /// The place of a state among those of its depth.
    pub(crate) fn index(&self, depth: usize, id: StateId) -> Option<usize> {
        self.0.get(depth)?.binary_search(&id).ok()
    }

    /// Some shortest way.
    fn one_way(&self, transitions: &Transitions<'_>) -> Vec<StateId> {
        let mut out = vec![self.0[0][0]];
        for depth in 1..self.0.len() {
            let here = out[depth - 1];
            let mut next = None;
            transitions.each_of(here, |e| {
                if next.is_none() && self.index(depth, e.to).is_some() {
                    next = Some(e.to);
                }
            });
            out.extend(next);
        }
        out
    }

    /// Counts the shortest solutions.
    fn shortest(
        &self,
        model: &dyn Model,
        transitions: &Transitions<'_>,
        pace: &mut Pace<'_>,
    ) -> Result<Shortest, Limit> {
        let space = transitions.space;
        let length = self.0.len() - 1;
        let mut corridor = Share::default();
        let mut ways: Vec<BigUint> = vec![BigUint::from(1u8); self.0[0].len()];
        for depth in 0..length {
            let mut next = vec![BigUint::ZERO; self.0[depth + 1].len()];
            let mut one = |id: StateId, edges: &[Edge]| {
                let Some(i) = self.index(depth, id) else { return };
                for outcomes in moves_of(edges) {
                    corridor.all += 1;
                    corridor.part += u64::from(!outcomes.iter().all(|e| space.class(e.to).is_bad()));
                }
                for e in edges {
                    if let Some(j) = self.index(depth + 1, e.to) {
                        next[j] += &ways[i];
                    }
                }
            };
            if transitions.arrows().is_some() {
                let mut edges = vec![];
                for id in &self.0[depth] {
                    edges.clear();
                    transitions.each_of(*id, |e| edges.push(e));
                    one(*id, &edges);
                }
                pace.step(4 * self.0[depth].len() as u64)?;
            } else {
                transitions.each(depth as u32, &mut one);
                pace.step(4 * space.level_len(depth as u32))?;
            }
            ways = next;
        }
        let count: BigUint = ways.iter().sum();
        let few = u32::try_from(&count).ok().filter(|n| *n <= SOLUTIONS_MAX);
        let classes = match few.filter(|_| space.is_sure()) {
            Some(_) => Some(self.swap_classes(model, space, pace)?),
            None => None,
        };
        Ok(Shortest {
            moves: length as u32,
            count: count.to_string(),
            up_to_swaps: classes,
            states: self.0.iter().map(|l| l.len() as u64).sum(),
            corridor,
        })
    }

    /// Classes of shortest solutions under swaps of neighbouring moves with the same result.
    ///
    /// Every solution is numbered by its place in lexicographic order; a swap changes two terms of that number.
    /// O(solutions times moves).
    fn swap_classes(&self, model: &dyn Model, space: &Space, pace: &mut Pace<'_>) -> Result<u64, Limit> {
        let length = self.0.len() - 1;
        let words = model.layout().words();
        let mut worker = model.worker();
        let mut out = Expansion::default();
        // For each level and state on the way: (move, index at the next level).
        let mut steps: Vec<Vec<Vec<(MoveId, u32)>>> = vec![];
        for depth in 0..length {
            let mut level = vec![];
            for id in &self.0[depth] {
                out.clear();
                worker.expand(&space.state(*id), false, &mut out);
                let here = out.runs.iter().zip(out.outcomes.chunks_exact(words)).filter_map(|(run, to)| {
                    let j = self.index(depth + 1, space.find(to)?)?;
                    Some((run.of, j as u32))
                });
                level.push(here.collect());
            }
            steps.push(level);
        }
        // Solutions from each state on, and before each of its steps.
        let mut left: Vec<Vec<u32>> = vec![vec![1; self.0[length].len()]];
        for level in steps.iter().rev() {
            let below = left.last().expect("a level");
            left.push(level.iter().map(|s| s.iter().map(|(_, j)| below[*j as usize]).sum()).collect());
        }
        left.reverse();
        let before = |depth: usize, i: usize, k: usize| -> u32 {
            steps[depth][i][..k].iter().map(|(_, j)| left[depth + 1][*j as usize]).sum()
        };
        let firsts: Vec<u32> = left[0]
            .iter()
            .scan(0, |sum, n| {
                *sum += n;
                Some(*sum - n)
            })
            .collect();
        let total: u32 = left[0].iter().sum();
        let mut sets = DisjointSets::new(total);
        let mut classes = u64::from(total);
        for (start, first) in firsts.iter().enumerate() {
            // The way under way: at each depth the state and which of its steps is taken.
            let mut way: Vec<(usize, usize)> = vec![(start, 0)];
            let mut number = *first;
            loop {
                while way.len() <= length {
                    let (i, k) = way[way.len() - 1];
                    way.push((steps[way.len() - 1][i][k].1 as usize, 0));
                }
                for d in 0..length.saturating_sub(1) {
                    let ((i, k), (j, l)) = (way[d], way[d + 1]);
                    let (a, b, end) = (steps[d][i][k].0, steps[d + 1][j][l].0, way[d + 2].0);
                    let Some(k2) = steps[d][i].iter().position(|s| s.0 == b) else { continue };
                    let j2 = steps[d][i][k2].1 as usize;
                    let Some(l2) = steps[d + 1][j2].iter().position(|s| s.0 == a && s.1 as usize == end)
                    else {
                        continue;
                    };
                    let other = number - before(d, i, k) - before(d + 1, j, l)
                        + before(d, i, k2)
                        + before(d + 1, j2, l2);
                    classes -= u64::from(sets.join(number, other));
                }
                pace.step(length as u64)?;
                // The next way in order.
                way.pop();
                while let Some((i, k)) = way.pop() {
                    if k + 1 < steps[way.len()][i].len() {
                        way.push((i, k + 1));
                        break;
                    }
                }
                number += 1;
                if way.is_empty() {
                    break;
                }
            }
        }
        Ok(classes)
    }
}
