//! Passes over a space by number, without edges: the rules are asked again.
//!
//! Most go from states to those that lead to them. The rules name the candidates ([`Worker::sources`]); one counts when it was met and its move, made forwards, leads here. So
//! no edges are kept, and a pass costs about what expanding the same states costs.

use std::ops::Range;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

use rayon::prelude::*;

use crate::classify::Nearest;
use crate::edges::Edges;
use crate::explore::by_number::{PANE, WINDOW};
use crate::limits::Limit;
use crate::model::{Expansion, Model, MoveId, Targets, Worker};
use crate::space::dense::{Dense, Mark};
use crate::space::{Class, Space, StateId};

/// Numbers of a list that are handled at once.
const PIECE: usize = 1 << 16;
/// States that a worker is asked about at once.
const BATCH: usize = 256;
/// The same where looking for what moves lead to is faster for many at once.
const LARGE_BATCH: usize = 1 << 13;
/// Moves that a state has more or less.
const USUAL_MOVES: usize = 8;

/// Fatal moves and draws.
#[derive(Default)]
pub(crate) struct Fatal {
    /// Moves all of whose outcomes are bad.
    pub(crate) moves: u64,
    /// Bad outcomes of other moves.
    pub(crate) draws: u64,
    /// The least depth of a state with a fatal move, and the states of that depth that have one.
    depth: u32,
    holders: Vec<StateId>,
}

impl Fatal {
    fn add(&mut self, number: u64, depth: u32, moves: u64) {
        self.moves += moves;
        self.hold(depth, [StateId::from_number(number as u32)]);
    }

    fn hold(&mut self, depth: u32, list: impl IntoIterator<Item = StateId>) {
        if self.holders.is_empty() || depth < self.depth {
            self.depth = depth;
            self.holders.clear();
        }
        if depth == self.depth {
            self.holders.extend(list);
        }
    }

    fn join(&mut self, other: Fatal) {
        self.moves += other.moves;
        self.draws += other.draws;
        if !other.holders.is_empty() {
            self.hold(other.depth, other.holders);
        }
    }

    /// The nearest, if there is one.
    pub(crate) fn nearest(self) -> Option<Nearest> {
        (!self.holders.is_empty()).then_some((self.depth, self.holders))
    }
}

/// Passes over a space by number.
pub(crate) struct Passes<'s, 'm> {
    source: &'s Edges<'m>,
    dense: &'m Dense,
}

/// A move that was found from behind: where it is made, with the mark of that state, and where it leads.
struct Step {
    from: u64,
    mark: Mark,
    to: u64,
}

impl<'s, 'm> Passes<'s, 'm> {
    /// For a space by number.
    pub(crate) fn of(source: &'s Edges<'m>) -> Option<Passes<'s, 'm>> {
        let dense = source.space.dense.as_ref()?;
        Some(Passes { source, dense })
    }

    /// For a space by number whose rules can be followed back and draw nothing.
    pub(crate) fn back(source: &'s Edges<'m>) -> Option<Passes<'s, 'm>> {
        Passes::of(source).filter(|p| p.goes_back())
    }

    fn goes_back(&self) -> bool {
        let arrows = self.dense.arrows.is_some();
        self.source.space.sure && (arrows || self.source.space.worker(self.source.model).goes_back())
    }

    /// What workers are made for.
    fn workers_for(&self) -> (&'m Space, &'m dyn Model) {
        (self.source.space, self.source.model)
    }

    fn in_batches<T: Send>(
        &self,
        numbers: &[u64],
        work: impl Fn(&mut dyn Worker, &[u64]) -> T + Sync + Send,
    ) -> Result<Vec<T>, Limit> {
        match (self.source.stop)() {
            Some(limit) => Err(limit),
            None => {
                Ok(self.source.workers.in_batches(self.workers_for(), numbers, numbers.len() > 512, work))
            }
        }
    }

    /// The moves from states with an accepted mark into these. `each` sees them one after the other and may change marks;
    /// a state whose mark has changed meanwhile is left out.
    fn steps_into(
        &self,
        worker: &mut dyn Worker,
        numbers: &[u64],
        accept: impl Fn(Mark) -> bool,
        mut each: impl FnMut(Step),
    ) {
        let dense = self.dense;
        if let Some(arrows) = &dense.arrows {
            for &to in numbers {
                for &from in arrows.origins(to) {
                    let (from, mark) = (u64::from(from), dense.get(from.into()));
                    if mark != 0 && accept(mark) {
                        each(Step { from, mark, to });
                    }
                }
            }
            return;
        }
        let mut origins = Targets::default();
        if dense.leaps && worker.origins(numbers, &mut origins) {
            // All cells are looked at first: the processor waits for many of them at once.
            let marks: Vec<Mark> = origins.numbers.iter().map(|n| dense.get(u64::from(*n))).collect();
            let mut found = origins.numbers.iter().zip(marks);
            for (&to, head) in numbers.iter().zip(&origins.heads) {
                for (&from, mark) in found.by_ref().take(head.map_or(0, |h| h.1 as usize)) {
                    let from = u64::from(from);
                    if mark != 0 && accept(mark) && dense.get(from) == mark {
                        each(Step { from, mark, to });
                    }
                }
            }
            return;
        }
        let mut candidates = vec![];
        let mut steps: Vec<(Step, MoveId)> = vec![];
        for &to in numbers {
            candidates.clear();
            worker.sources(to, &mut candidates);
            steps.extend(candidates.iter().map(|&(from, of)| (Step { from, mark: dense.get(from), to }, of)));
        }
        for (step, of) in steps.into_iter().filter(|s| s.0.mark != 0 && accept(s.0.mark)) {
            if dense.get(step.from) == step.mark && worker.leads(step.from, of, step.to) {
                each(step);
            }
        }
    }

    /// Runs `work` on the numbers in parts of the range that `list` gives, on all threads: part by part, in their order.
    fn in_panes<T: Send>(
        &self,
        list: impl Fn(Range<u64>, &mut Vec<u64>) + Sync + Send,
        work: impl Fn(&mut dyn Worker, Range<u64>, Vec<u64>) -> T + Sync + Send,
        mut see: impl FnMut(T),
    ) -> Result<(), Limit> {
        let range = self.dense.range();
        for start in (0..range).step_by(WINDOW as usize) {
            let end = (start + WINDOW).min(range);
            let found: Vec<Result<Option<T>, Limit>> = (0..(end - start).div_ceil(PANE))
                .into_par_iter()
                .map(|n| {
                    if let Some(limit) = (self.source.stop)() {
                        return Err(limit);
                    }
                    let pane = start + n * PANE..(start + (n + 1) * PANE).min(end);
                    let mut numbers = vec![];
                    list(pane.clone(), &mut numbers);
                    // Most parts of a sparse space hold nothing.
                    if numbers.is_empty() {
                        return Ok(None);
                    }
                    let found =
                        self.source.workers.with(self.workers_for(), |worker| work(worker, pane, numbers));
                    Ok(Some(found))
                })
                .collect();
            for f in found {
                f?.into_iter().for_each(&mut see);
            }
        }
        Ok(())
    }

    /// The numbers of a pane whose class is wanted.
    fn of_class(&self, wanted: impl Fn(Class) -> bool, pane: Range<u64>, out: &mut Vec<u64>) {
        self.dense.each_seen(pane.start, pane.end, |number, mark| {
            if wanted(self.dense.class_of(mark)) {
                out.push(number);
            }
        });
    }

    /// Gives the class `to` to every running state with a way to a state of the class `seed`. O(|S| + |T|) in all, and one bit a
    /// number: whether what leads there is still to be looked for. What a part of the range finds in itself it follows at once.
    pub(crate) fn spread(&self, to: Class, seed: Class) -> Result<(), Limit> {
        let dense = self.dense;
        let after: Vec<Mark> = dense.marks_of(to);
        let running = |mark| dense.class_of(mark) == Class::Running;
        let waiting: Vec<AtomicU64> = (0..dense.range().div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
        let take = |pane: Range<u64>, out: &mut Vec<u64>| {
            for w in pane.start / 64..pane.end.div_ceil(64) {
                let word = &waiting[w as usize];
                if word.load(Relaxed) == 0 {
                    continue;
                }
                let mut bits = word.swap(0, Relaxed);
                while bits != 0 {
                    out.push(w * 64 + u64::from(bits.trailing_zeros()));
                    bits &= bits - 1;
                }
            }
        };
        let follow = |worker: &mut dyn Worker, pane: Range<u64>, mut numbers: Vec<u64>| {
            while !numbers.is_empty() {
                dense.order_for_targets(worker, &mut numbers);
                for batch in numbers.chunks(BATCH) {
                    self.steps_into(worker, batch, running, |step| {
                        if dense.exchange(step.from, step.mark, after[dense.depth_of(step.mark) as usize]) {
                            waiting[(step.from / 64) as usize].fetch_or(1 << (step.from % 64), Relaxed);
                        }
                    });
                }
                numbers.clear();
                take(pane.clone(), &mut numbers);
            }
        };
        self.in_panes(|pane, out| self.of_class(|c| c == seed, pane, out), follow, |()| ())?;
        loop {
            let mut found = false;
            self.in_panes(take, follow, |()| found = true)?;
            if !found {
                return Ok(());
            }
        }
    }

    /// How many moves the states need that are farthest from a goal of all that can still be won, and their numbers, ascending. Goes back from the goals,
    /// one move after the other; one bit a number, and lists of the states of two distances. O(|S| + |T|).
    pub(crate) fn farthest(&self, memory: u64) -> Result<(u32, Vec<u64>), Limit> {
        let dense = self.dense;
        let reached: Vec<AtomicU64> = (0..dense.range().div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
        let bytes = reached.len() as u64 * 8;
        let winnable = |mark| dense.class_of(mark) == Class::Winnable;
        let behind = |worker: &mut dyn Worker, batch: &[u64]| {
            let mut found: Vec<u32> = vec![];
            let fresh = |from: u64| reached[(from >> 6) as usize].load(Relaxed) >> (from & 63) & 1 == 0;
            self.steps_into(worker, batch, winnable, |step| {
                let bit = 1 << (step.from & 63);
                if fresh(step.from) && reached[(step.from >> 6) as usize].fetch_or(bit, Relaxed) & bit == 0 {
                    found.push(step.from as u32);
                }
            });
            found
        };
        let mut now: Vec<Vec<u32>> = vec![];
        self.in_panes(
            |pane, out| self.of_class(|c| c == Class::Goal, pane, out),
            |worker, _, numbers| numbers.chunks(BATCH).map(|batch| behind(worker, batch)).collect::<Vec<_>>(),
            |found| now.extend(found),
        )?;
        now.retain(|list| !list.is_empty());
        let mut farthest = (0, vec![]);
        while !now.is_empty() {
            let len: usize = now.iter().map(Vec::len).sum();
            if bytes + 12 * len as u64 > memory {
                return Err(Limit::Memory);
            }
            let mut next = vec![];
            let mut piece: Vec<u64> = vec![];
            for part in now.iter().flat_map(|list| list.chunks(PIECE)) {
                // Short lists together make one piece.
                piece.extend(part.iter().map(|n| u64::from(*n)));
                if piece.len() >= PIECE {
                    next.extend(self.in_batches(&piece, behind)?);
                    piece.clear();
                }
            }
            next.extend(self.in_batches(&piece, behind)?);
            next.retain(|list| !list.is_empty());
            farthest = (farthest.0 + 1, now);
            now = next;
        }
        let mut numbers: Vec<u64> = farthest.1.concat().into_iter().map(u64::from).collect();
        numbers.sort_unstable();
        Ok((farthest.0, numbers))
    }

    /// Counts the moves from hopeful states all of whose outcomes are bad, and the bad outcomes of other moves. Looks from the
    /// side with fewer states, where that can be chosen: `hopeful` and `bad` say how many there are.
    pub(crate) fn fatal(
        &self,
        is_hopeful: impl Fn(Class) -> bool + Sync + Send,
        (hopeful, bad): (u64, u64),
    ) -> Result<Fatal, Limit> {
        let mut all = Fatal::default();
        let dense = self.dense;
        if bad < hopeful && self.goes_back() {
            let hopeful = |mark| is_hopeful(dense.class_of(mark));
            self.in_panes(
                |pane, out| self.of_class(Class::is_bad, pane, out),
                |worker, _, mut numbers| {
                    let mut found = Fatal::default();
                    dense.order_for_targets(worker, &mut numbers);
                    for batch in numbers.chunks(BATCH) {
                        self.steps_into(worker, batch, hopeful, |step| {
                            found.add(step.from, dense.depth_of(step.mark), 1)
                        });
                    }
                    found
                },
                |found| all.join(found),
            )?;
        } else {
            let targets = if dense.slots().is_some() { self.source.targets_together() } else { 0 };
            let together = (targets / USUAL_MOVES).clamp(BATCH, LARGE_BATCH);
            self.in_panes(
                |pane, out| self.of_class(&is_hopeful, pane, out),
                |worker, _, mut numbers| {
                    let mut found = Fatal::default();
                    dense.order_for_targets(worker, &mut numbers);
                    for batch in numbers.chunks(together) {
                        self.fatal_from(worker, batch, &mut found);
                    }
                    found
                },
                |found| all.join(found),
            )?;
        }
        all.holders.sort_unstable();
        all.holders.dedup();
        Ok(all)
    }

    /// Counts the fatal moves and draws of some states.
    fn fatal_from(&self, worker: &mut dyn Worker, batch: &[u64], found: &mut Fatal) {
        let (dense, past_goals) = (self.dense, self.source.past_goals);
        let is_bad = |m: &&Mark| **m != 0 && dense.class_of(**m).is_bad();
        if self.source.space.sure {
            let mut targets = Targets::default();
            targets.ask(worker, batch, past_goals, dense.leaps);
            let marks: Vec<Mark> = targets.numbers.iter().map(|n| dense.get(u64::from(*n))).collect();
            let mut at = 0;
            for (head, number) in targets.heads.iter().flatten().zip(batch) {
                let own = &marks[at..at + head.1 as usize];
                at += own.len();
                let here = own.iter().filter(is_bad).count() as u64;
                if here > 0 {
                    found.add(*number, dense.depth_of(dense.get(*number)), here);
                }
            }
            return;
        }
        let mut out = Expansion::default();
        worker.expand(batch, past_goals, &mut out);
        let marks: Vec<Mark> = out.outcomes.iter().map(|n| dense.get(*n)).collect();
        let (mut run, mut outcome) = (0, 0);
        for (head, number) in out.heads.iter().zip(batch) {
            let mut here = 0;
            for r in &out.runs[run..run + head.runs as usize] {
                let targets = &marks[outcome..outcome + r.outcomes as usize];
                outcome += targets.len();
                let is_hopeful = |m: &Mark| *m != 0 && dense.class_of(*m).is_hopeful();
                match targets.iter().filter(is_bad).count() {
                    n if n == targets.len() => here += 1,
                    n if n > 0 && targets.iter().any(is_hopeful) => found.draws += n as u64,
                    _ => {}
                }
            }
            run += head.runs as usize;
            if here > 0 {
                found.add(*number, dense.depth_of(dense.get(*number)), here);
            }
        }
    }

    /// The states of a depth with a move into one of `below`, sorted.
    pub(crate) fn above(&self, depth: u32, below: &[StateId]) -> Result<Vec<StateId>, Limit> {
        let dense = self.dense;
        let past_goals = self.source.past_goals;
        let goes_on = |class| match class {
            Class::Goal => past_goals,
            Class::Lost | Class::Over => false,
            _ => true,
        };
        let numbers: Vec<u64> = below.iter().map(|id| u64::from(id.number())).collect();
        let found = self.in_batches(&numbers, |worker, batch| {
            let mut found = vec![];
            let accept = |mark| dense.depth_of(mark) == depth && goes_on(dense.class_of(mark));
            self.steps_into(worker, batch, accept, |step| found.push(StateId::from_number(step.from as u32)));
            found
        })?;
        let mut all = found.concat();
        all.par_sort_unstable();
        all.dedup();
        Ok(all)
    }
}
