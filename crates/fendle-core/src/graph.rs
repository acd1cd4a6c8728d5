//! A visited space as a graph on dense ids: arrows, strongly connected parts, distances.
//!
//! Ids are those of [`StateId`]; a few of them, less than one in a hundred of a large space, name no
//! state and have no arrows. Everything here is linear in states and transitions, and asks a [`Pace`] on the way.
//!
//! # Cost
//!
//! Arrows take 4 bytes a transition and 4 a state; parts 4 bytes a state, and 16 while they are found;
//! distances 4 bytes a state, and two bits while they are found.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering::Relaxed};

use rayon::prelude::*;

use crate::bits::Bits;
use crate::components::{Components, Digraph, components};
use crate::explore::by_number::{PANE, WINDOW, Workers};
use crate::explore::{Explored, pool};
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::{Model, Targets};
use crate::space::{Class, Edge, SHARDS, Space, StateId, Targets as Record};

/// States whose arrows are looked at together.
const GROUP: usize = 16;

/// No distance: never reached.
pub const NEVER: u32 = u32::MAX;

/// All transitions of a space, in one direction, by state.
pub struct Arrows {
    first: Vec<u32>,
    to: Vec<u32>,
}

/// Bytes that [`Arrows`] of a space take.
#[must_use]
pub fn arrows_bytes(space: &Space, transitions: u64) -> u64 {
    4 * (space.ids_len() as u64 + 1 + transitions)
}

impl Arrows {
    /// From each state to those that its moves lead to, in move order; as often as moves lead there.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended it; [`Limit::Memory`] past 2^32 transitions.
    pub fn forward(space: &Space, pace: &mut Pace<'_>) -> Result<Arrows, Limit> {
        pool(&OnceLock::new(), 1).install(|| Arrows::of_log(space, pace))
    }

    /// The same on all threads of the pool that it is called in: each shard knows where its arrows go once all degrees are known.
    pub(crate) fn of_log(space: &Space, pace: &mut Pace<'_>) -> Result<Arrows, Limit> {
        let slots = |len: usize| -> Vec<AtomicU32> { (0..len).map(|_| AtomicU32::new(0)).collect() };
        let look: &Pace<'_> = pace;
        let each = |see: &(dyn Fn(StateId, Record<'_>) + Sync)| {
            (0..SHARDS).into_par_iter().try_for_each(|shard| {
                (0..space.levels_len()).try_for_each(|depth| {
                    look.now()?;
                    space.each_record_in(shard, depth, see);
                    Ok(())
                })
            })
        };
        let first = slots(space.ids_len() + 1);
        each(&|id, edges| first[id.index()].store(edges.len() as u32, Relaxed))?;
        let mut first: Vec<u32> = first.into_iter().map(AtomicU32::into_inner).collect();
        let mut sum = 0u32;
        for f in &mut first {
            let degree = std::mem::replace(f, sum);
            sum = sum.checked_add(degree).filter(|sum| *sum < u32::MAX).ok_or(Limit::Memory)?;
        }
        let to = slots(sum as usize);
        each(&|id, edges| {
            let mut at = first[id.index()] as usize;
            edges.each_state(space.sure, |target| {
                to[at].store(target.number(), Relaxed);
                at += 1;
            });
        })?;
        pace.step(2 * space.states_len())?;
        Ok(Arrows { first, to: to.into_iter().map(AtomicU32::into_inner).collect() })
    }

    /// The same for states by number whose moves draw nothing: the rules are asked again, on all threads. `None` for other spaces.
    fn by_number(model: &dyn Model, found: &Explored, pace: &mut Pace<'_>) -> Result<Option<Arrows>, Limit> {
        let (space, past_goals) = (&found.space, found.past_goals);
        let Some(dense) = space.dense.as_ref().filter(|_| space.is_sure()) else { return Ok(None) };
        let transitions = found.counts.transitions;
        let workers = Workers::default();
        let mut first = Vec::with_capacity(space.ids_len() + 1);
        // As many as were counted; after a limit there may be more.
        let mut to: Vec<u32> = Vec::with_capacity(transitions as usize);
        let range = dense.range();
        let ask = |start: u64, look: &Pace<'_>| -> Vec<Result<_, Limit>> {
            let end = (start + WINDOW).min(range);
            let pane = |n| {
                look.now()?;
                let (mut numbers, mut targets) = (vec![], Targets::default());
                let from = start + n * PANE;
                dense.each_seen(from, (from + PANE).min(end), |number, _| numbers.push(number));
                workers.with((space, model), |worker| targets.ask(worker, &numbers, past_goals, dense.leaps));
                Ok((numbers, targets))
            };
            (0..(end - start).div_ceil(PANE)).into_par_iter().map(pane).collect()
        };
        let mut append = |panes: Vec<Result<(Vec<u64>, Targets), Limit>>| {
            for pane in panes {
                let (numbers, targets) = pane?;
                let mut at = to.len() as u32;
                to.extend_from_slice(&targets.numbers);
                for (number, head) in numbers.iter().zip(&targets.heads) {
                    first.resize(*number as usize + 1, at);
                    at += head.map_or(0, |h| h.1);
                }
                if to.len() as u64 >= u64::from(u32::MAX) {
                    return Err(Limit::Memory);
                }
            }
            Ok(())
        };
        // While the rules are asked of some numbers, what they said of those before is put behind each other.
        let mut before = vec![];
        for start in (0..range).step_by(WINDOW as usize) {
            let look: &Pace<'_> = pace;
            let (panes, appended) = rayon::join(|| ask(start, look), || append(std::mem::take(&mut before)));
            appended?;
            before = panes;
            pace.step(WINDOW)?;
        }
        append(before)?;
        first.resize(space.ids_len() + 1, to.len() as u32);
        Ok(Some(Arrows { first, to }))
    }

    /// The same arrows from where they lead. O(|S| + |T|).
    pub(crate) fn reversed(&self) -> Arrows {
        let mut first = vec![0u32; self.first.len()];
        self.to.iter().for_each(|t| first[*t as usize] += 1);
        let mut sum = 0;
        for f in &mut first {
            sum += *f;
            *f = sum;
        }
        let mut to = vec![0u32; self.to.len()];
        for from in (0..self.first.len() as u32 - 1).rev() {
            for target in self.from(StateId::from_number(from)) {
                let slot = &mut first[*target as usize];
                *slot -= 1;
                to[*slot as usize] = from;
            }
        }
        Arrows { first, to }
    }

    /// From each state to those that have a move to it.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended it; [`Limit::Memory`] past 2^32 transitions.
    pub fn backward(space: &Space, pace: &mut Pace<'_>) -> Result<Arrows, Limit> {
        let mut first = vec![0u32; space.ids_len() + 1];
        let levels = space.levels_len();
        let mut all = 0u64;
        for depth in 0..levels {
            space.each_edges(depth, |_, edges| {
                all += edges.len() as u64;
                edges.iter().for_each(|e| first[e.to.index()] += 1);
            });
            pace.step(2 * space.level_len(depth))?;
        }
        if all >= u64::from(u32::MAX) {
            return Err(Limit::Memory);
        }
        // Counts become ends, and filling from the back turns ends into beginnings.
        let mut sum = 0;
        for f in &mut first {
            sum += *f;
            *f = sum;
        }
        let mut to = vec![0u32; sum as usize];
        for depth in 0..levels {
            space.each_edges(depth, |id, edges| {
                for e in edges.iter().rev() {
                    let slot = &mut first[e.to.index()];
                    *slot -= 1;
                    to[*slot as usize] = id.number();
                }
            });
            pace.step(2 * space.level_len(depth))?;
        }
        Ok(Arrows { first, to })
    }

    /// Where the arrows with these numbers lead.
    #[inline]
    pub(crate) fn targets(&self, arrows: std::ops::Range<usize>) -> &[u32] {
        &self.to[arrows]
    }

    /// Where the arrows of some states lead, at most [`GROUP`]. All of them are looked at before any is given, so that the memory answers them together.
    #[inline]
    fn arrows_of(&self, ids: &[u32]) -> impl Iterator<Item = &[u32]> {
        debug_assert!(ids.len() <= GROUP, "no more than a group");
        let mut spans = [(0, 0); GROUP];
        let mut touched = 0;
        for (span, id) in spans.iter_mut().zip(ids) {
            *span = (self.first[*id as usize] as usize, self.first[*id as usize + 1] as usize);
        }
        for (start, _) in &spans[..ids.len()] {
            touched |= self.to.get(*start).map_or(0, |to| *to);
        }
        std::hint::black_box(touched);
        spans.into_iter().take(ids.len()).map(|(start, end)| &self.to[start..end])
    }

    /// Where the arrows of a state lead.
    #[inline]
    #[must_use]
    pub fn from(&self, id: StateId) -> &[u32] {
        let i = id.index();
        &self.to[self.first[i] as usize..self.first[i + 1] as usize]
    }
}

/// All transitions of a space, depth by depth: from its log, or from arrows that were made again.
pub struct Transitions<'a> {
    pub(crate) space: &'a Space,
    made: Option<Made>,
}

struct Made {
    arrows: Arrows,
    /// The states by depth, and where each depth begins; found when it is asked for first.
    by_depth: OnceLock<(Vec<u32>, Vec<usize>)>,
}

impl<'a> Transitions<'a> {
    /// Those in the log of a space; none where it keeps none.
    #[must_use]
    pub fn logged(space: &'a Space) -> Transitions<'a> {
        Transitions { space, made: None }
    }

    /// Whether the transitions of a space are in its log, or the rules can be asked for them again: of states by number whose
    /// moves draw nothing.
    pub(crate) fn are_known(space: &Space) -> bool {
        space.has_edges() || space.dense.is_some() && space.is_sure()
    }

    /// From the log, or by asking the rules again. `None` where neither can be. 8 bytes a state and 4 a transition in the second
    /// case, and 4 a number.
    pub(crate) fn of(
        model: &dyn Model,
        found: &'a Explored,
        pace: &mut Pace<'_>,
    ) -> Result<Option<Transitions<'a>>, Limit> {
        let space = &found.space;
        if space.has_edges() {
            return Ok(Some(Transitions::logged(space)));
        }
        let made = Arrows::by_number(model, found, pace)?;
        Ok(made.map(|arrows| Transitions { space, made: Some(Made { arrows, by_depth: OnceLock::new() }) }))
    }

    /// The arrows, where they were made.
    pub(crate) fn arrows(&self) -> Option<&Arrows> {
        self.made.as_ref().map(|m| &m.arrows)
    }

    /// The states of a depth.
    pub(crate) fn level(&self, depth: u32) -> Box<dyn Iterator<Item = StateId> + '_> {
        let (Some(made), Some(dense)) = (&self.made, &self.space.dense) else {
            return self.space.level(depth);
        };
        let (order, first) =
            made.by_depth.get_or_init(|| dense.by_depth(0..self.space.levels_len() as usize));
        let here = &order[first[depth as usize]..first[depth as usize + 1]];
        Box::new(here.iter().map(|n| StateId::from_number(*n)))
    }

    /// Calls `visit` with the states of a depth that were expanded, and their transitions.
    pub fn each(&self, depth: u32, mut visit: impl FnMut(StateId, &[Edge])) {
        let Some(made) = &self.made else { return self.space.each_edges(depth, visit) };
        let mut edges: Vec<Edge> = vec![];
        for id in self.level(depth) {
            edges.clear();
            edges.extend(made.arrows.from(id).iter().map(|to| sure_edge(*to)));
            visit(id, &edges);
        }
    }

    /// Calls `visit` with the transitions of one state.
    pub(crate) fn each_of(&self, id: StateId, mut visit: impl FnMut(Edge)) {
        match &self.made {
            None => self.space.each_edges_of(id, visit),
            Some(made) => made.arrows.from(id).iter().for_each(|to| visit(sure_edge(*to))),
        }
    }
}

/// An edge of a move that draws nothing.
fn sure_edge(to: u32) -> Edge {
    Edge { to: StateId::from_number(to), last: true }
}

impl Digraph for Arrows {
    fn len(&self) -> usize {
        self.first.len() - 1
    }
    #[inline]
    fn first(&self, node: u32) -> u32 {
        self.first[node as usize]
    }
    #[inline]
    fn target(&self, arrow: u32) -> u32 {
        self.to[arrow as usize]
    }
}

/// For each state the number of its strongly connected part. An arrow between two parts leads from the smaller number
/// to the greater one.
pub struct Parts {
    of: Components,
    /// How many parts there are.
    pub count: u32,
}

impl Parts {
    /// Finds the strongly connected parts of what can be reached from the starts: see [`components`].
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended it.
    pub fn of(space: &Space, arrows: &Arrows, pace: &mut Pace<'_>) -> Result<Parts, Limit> {
        let starts = space.starts().iter().map(|s| s.number());
        let of = components(arrows, starts, |_| true, pace)?;
        Ok(Parts { count: of.count(), of })
    }

    /// The part that a state belongs to.
    #[inline]
    #[must_use]
    pub fn part(&self, id: StateId) -> u32 {
        self.of.part(id.number())
    }
}

/// For each state the least number of moves: from a winnable one to a goal, from a dead one to a state that is stuck,
/// lost or over; 0 for those. With chance: if every draw falls well, or badly. None where something nearer was not seen, which may
/// be a goal.
pub struct Distances(Vec<u32>);

/// Running states by the number of their allowed moves. O(|T|).
#[must_use]
pub fn by_moves(transitions: &Transitions<'_>) -> Vec<u64> {
    let space = transitions.space;
    let mut out = vec![];
    for depth in 0..space.levels_len() {
        transitions.each(depth, |id, edges| {
            if matches!(space.class(id), Class::Goal | Class::Lost | Class::Over) {
                return;
            }
            let moves = edges.iter().filter(|e| e.last).count();
            if out.len() <= moves {
                out.resize(moves + 1, 0);
            }
            out[moves] += 1;
        });
    }
    out
}

/// Breadth first against the arrows, from a ring of nodes, through those that are `fresh`: each is taken out and gets its distance.
fn back_from(
    back: &Arrows,
    mut ring: Vec<u32>,
    far: &mut [u32],
    mut fresh: Bits,
    pace: &mut Pace<'_>,
) -> Result<(), Limit> {
    let mut next = vec![];
    let mut distance = 0;
    while !ring.is_empty() {
        distance += 1;
        for group in ring.chunks(GROUP) {
            pace.step(group.len() as u64)?;
            for arrows in back.arrows_of(group) {
                for &from in arrows {
                    if fresh.remove(from) {
                        far[from as usize] = distance;
                        next.push(from);
                    }
                }
            }
        }
        ring.clear();
        std::mem::swap(&mut ring, &mut next);
    }
    Ok(())
}

impl Distances {
    /// Goals and winnable states by their distance to a goal; of states of chance, if all draws are lucky.
    #[must_use]
    pub fn to_goal(&self, space: &Space) -> Vec<u64> {
        let mut out = vec![];
        for id in space.ids() {
            if let (Class::Goal | Class::Winnable, Some(d)) = (space.class(id), self.get(id)) {
                if out.len() <= d as usize {
                    out.resize(d as usize + 1, 0);
                }
                out[d as usize] += 1;
            }
        }
        out
    }

    /// Backwards and breadth first. O(|S| + |T|).
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended it.
    pub fn of(space: &Space, back: &Arrows, pace: &mut Pace<'_>) -> Result<Distances, Limit> {
        let mut far = vec![NEVER; space.ids_len()];
        let [mut won, mut ended, mut open]: [Vec<u32>; 3] = Default::default();
        // What else leads to a goal is winnable: that need not be asked. Then all winnable states have their distance, and from
        // the other ends only dead ones are wanted. Open states have no distance, and none is told by way of them.
        let [mut running, mut dead] = [0; 2].map(|_| Bits::below(far.len() as u64));
        for part in 0..SHARDS {
            space.each_in_part(part, |id, class| {
                let n = id.number();
                match class {
                    Class::Goal => won.push(n),
                    Class::Lost | Class::Over | Class::Stuck => ended.push(n),
                    Class::Open => open.push(n),
                    _ => {
                        running.insert(n);
                        if class == Class::Dead {
                            dead.insert(n);
                        }
                    }
                }
            });
        }
        for id in won.iter().chain(&ended).chain(&open) {
            far[*id as usize] = 0;
        }
        back_from(back, won, &mut far, running, pace)?;
        back_from(back, ended, &mut far, dead, pace)?;
        for id in &open {
            far[*id as usize] = NEVER;
        }
        if !open.is_empty() {
            // From dead states nothing open can be reached.
            let mut unseen = vec![NEVER; far.len()];
            open.retain(|id| !space.knows_moves(StateId::from_number(*id)));
            let mut others = Bits::below(far.len() as u64);
            for id in space.ids() {
                others.insert(id.number());
            }
            for id in &open {
                unseen[*id as usize] = 0;
                others.remove(*id);
            }
            back_from(back, open, &mut unseen, others, pace)?;
            for (far, unseen) in far.iter_mut().zip(unseen) {
                if unseen < *far {
                    *far = NEVER;
                }
            }
        }
        Ok(Distances(far))
    }

    /// The same of what was explored, the arrows made for it and given back: from the log, or by asking the rules again as
    /// [`Explored::transitions`] does.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that the watch names, or memory.
    pub fn of_explored(
        model: &dyn Model,
        found: &Explored,
        limits: &Limits,
        watch: &dyn Watch,
    ) -> Result<Distances, Limit> {
        let (space, counts) = (&found.space, &found.counts);
        if space.has_edges() {
            return Distances::in_space(space, watch);
        }
        // Arrows both ways at once, and the distances: to goals, and to what was not seen.
        let bytes = 2 * arrows_bytes(space, counts.transitions) + 8 * space.ids_len() as u64;
        if space.bytes() + bytes > limits.memory_bytes {
            return Err(Limit::Memory);
        }
        let mut pace = Pace::new(watch);
        let forward = pool(&OnceLock::new(), limits.threads)
            .install(|| Arrows::by_number(model, found, &mut pace))?
            .ok_or(Limit::Memory)?;
        let back = forward.reversed();
        drop(forward);
        Distances::of(space, &back, &mut pace)
    }

    /// The same of a space with a log, the arrows made for it and given back.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that the watch names.
    pub fn in_space(space: &Space, watch: &dyn Watch) -> Result<Distances, Limit> {
        let progress = Progress { states: space.states_len(), ..Progress::default() };
        // After a limit what was seen is still put in order.
        let stopped = watch.look(&progress).is_some();
        let pace = if stopped { Pace::wrapping_up(watch) } else { Pace::new(watch) };
        let mut pace = pace.at(progress);
        Distances::of(space, &Arrows::backward(space, &mut pace)?, &mut pace)
    }

    /// The distance of a state; `None` where there is none.
    #[inline]
    #[must_use]
    pub fn get(&self, id: StateId) -> Option<u32> {
        Some(self.0[id.index()]).filter(|d| *d != NEVER)
    }
}
