//! Passes over a space by number, without edges: the rules are asked again.
//!
//! Most go from states to those that lead to them. The rules name the candidates ([`Worker::sources`]); one counts when it was met and its move, made forwards, leads here. So
//! no edges are kept, and a pass costs about what expanding the same states costs.

use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

use rayon::prelude::*;

use crate::classify::Nearest;
use crate::edges::Edges;
use crate::explore::by_number::Workers;
use crate::limits::Limit;
use crate::model::{Expansion, MoveId, Targets, Worker};
use crate::space::dense::{Dense, Mark};
use crate::space::{Class, StateId};

/// Numbers that are handled at once.
const PIECE: usize = 1 << 16;

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

/// A space by number, and workers for passes over it.
pub(crate) struct Passes<'a> {
    source: &'a Edges<'a>,
    dense: &'a Dense,
    workers: Workers<'a>,
}

/// A move that was found from behind: where it is made, with the mark of that state, and where it leads.
struct Step {
    from: u64,
    mark: Mark,
    to: u64,
    /// The move, where it has to be tried.
    of: Option<MoveId>,
}

impl<'a> Passes<'a> {
    /// For a space by number.
    pub(crate) fn of(source: &'a Edges<'a>) -> Option<Passes<'a>> {
        let dense = source.space.dense.as_ref()?;
        Some(Passes { source, dense, workers: Workers::default() })
    }

    /// For a space by number whose rules can be followed back and draw nothing.
    pub(crate) fn back(source: &'a Edges<'a>) -> Option<Passes<'a>> {
        Passes::of(source).filter(|p| p.goes_back())
    }

    fn goes_back(&self) -> bool {
        self.source.space.sure && self.source.model.worker_by_number().goes_back()
    }

    fn in_batches<T: Send>(
        &self,
        numbers: &[u64],
        work: impl Fn(&mut dyn Worker, &[u64]) -> T + Sync + Send,
    ) -> Result<Vec<T>, Limit> {
        match (self.source.stop)() {
            Some(limit) => Err(limit),
            None => Ok(self.workers.in_batches(self.source.model, numbers, numbers.len() > 512, work)),
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
        let mut steps: Vec<Step> = vec![];
        let mut origins = Targets::default();
        if worker.origins(numbers, &mut origins) {
            let mut at = 0;
            for (&to, head) in numbers.iter().zip(&origins.heads) {
                let len = head.map_or(0, |h| h.1 as usize);
                let own = &origins.numbers[at..at + len];
                at += len;
                steps.extend(own.iter().map(|&from| Step { from: from.into(), mark: 0, to, of: None }));
            }
        } else {
            let mut candidates = vec![];
            for &to in numbers {
                candidates.clear();
                worker.sources(to, &mut candidates);
                steps.extend(candidates.iter().map(|&(from, of)| Step { from, mark: 0, to, of: Some(of) }));
            }
        }
        // All cells are looked at first: the processor waits for many of them at once.
        for step in &mut steps {
            step.mark = self.dense.get(step.from);
        }
        steps.retain(|s| s.mark != 0 && accept(s.mark));
        for step in steps {
            let leads = |of| worker.leads(step.from, of, step.to);
            if self.dense.get(step.from) == step.mark && step.of.is_none_or(leads) {
                each(step);
            }
        }
    }

    /// Calls `see` with pieces of the numbers whose class is wanted.
    fn each_piece(
        &self,
        wanted: impl Fn(Class) -> bool,
        mut see: impl FnMut(&[u64]) -> Result<(), Limit>,
    ) -> Result<(), Limit> {
        let mut piece = vec![];
        let range = self.dense.range();
        for start in (0..range).step_by(PIECE) {
            self.dense.each_seen(start, (start + PIECE as u64).min(range), |number, mark| {
                if wanted(self.dense.class_of(mark)) {
                    piece.push(number);
                }
            });
            if piece.len() >= PIECE {
                see(&piece)?;
                piece.clear();
            }
        }
        if piece.is_empty() { Ok(()) } else { see(&piece) }
    }

    /// Gives the class `to` to every running state with a way to a state of the class `seed`. O(|S| + |T|) in all.
    pub(crate) fn spread(&self, to: Class, seed: Class) -> Result<(), Limit> {
        let dense = self.dense;
        let after: Vec<Mark> = dense.marks_of(to);
        let spread = |worker: &mut dyn Worker, batch: &[u64]| {
            let mut found: Vec<u32> = vec![];
            let running = |mark| dense.class_of(mark) == Class::Running;
            self.steps_into(worker, batch, running, |step| {
                if dense.exchange(step.from, step.mark, after[dense.depth_of(step.mark) as usize]) {
                    found.push(step.from as u32);
                }
            });
            found
        };
        // In pieces that are given back as soon as they were looked at.
        let mut now: Vec<Vec<u32>> = vec![];
        let keep = |found: Vec<Vec<u32>>, list: &mut Vec<Vec<u32>>| {
            let sum: Vec<u32> = found.concat();
            if !sum.is_empty() {
                list.push(sum);
            }
        };
        self.each_piece(
            |class| class == seed,
            |piece| {
                keep(self.in_batches(piece, spread)?, &mut now);
                Ok(())
            },
        )?;
        while !now.is_empty() {
            let mut next = vec![];
            let mut piece: Vec<u64> = vec![];
            while let Some(list) = now.pop() {
                for part in list.chunks(PIECE) {
                    piece.clear();
                    piece.extend(part.iter().map(|n| u64::from(*n)));
                    keep(self.in_batches(&piece, spread)?, &mut next);
                }
            }
            now = next;
        }
        Ok(())
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
        self.each_piece(
            |class| class == Class::Goal,
            |piece| {
                now.extend(self.in_batches(piece, behind)?);
                Ok(())
            },
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
            self.each_piece(Class::is_bad, |piece| {
                let found = self.in_batches(piece, |worker, batch| {
                    let mut found = Fatal::default();
                    self.steps_into(worker, batch, hopeful, |step| {
                        found.add(step.from, dense.depth_of(step.mark), 1)
                    });
                    found
                })?;
                found.into_iter().for_each(|f| all.join(f));
                Ok(())
            })?;
        } else {
            self.each_piece(is_hopeful, |piece| {
                let found = self.in_batches(piece, |worker, batch| {
                    let mut found = Fatal::default();
                    batch.chunks(128).for_each(|batch| self.fatal_from(worker, batch, &mut found));
                    found
                })?;
                found.into_iter().for_each(|f| all.join(f));
                Ok(())
            })?;
        }
        all.holders.sort_unstable();
        all.holders.dedup();
        Ok(all)
    }

    /// Counts the fatal moves and draws of some states.
    fn fatal_from(&self, worker: &mut dyn Worker, batch: &[u64], found: &mut Fatal) {
        let (dense, past_goals) = (self.dense, self.source.past_goals);
        let is_bad = |m: &&Mark| **m != 0 && dense.class_of(**m).is_bad();
        let mut targets = Targets::default();
        let mut out = Expansion::default();
        let known = self.source.space.sure && worker.targets(batch, past_goals, &mut targets);
        if known && targets.heads.iter().all(Option::is_some) {
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
        worker.expand(batch, past_goals, &mut out);
        let marks: Vec<Mark> = out.outcomes.iter().map(|n| dense.get(*n)).collect();
        let (mut run, mut outcome) = (0, 0);
        for (head, number) in out.heads.iter().zip(batch) {
            let mut here = 0;
            for r in &out.runs[run..run + head.runs as usize] {
                let targets = &marks[outcome..outcome + r.outcomes as usize];
                outcome += targets.len();
                match targets.iter().filter(is_bad).count() {
                    n if n == targets.len() => here += 1,
                    n => found.draws += n as u64,
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
