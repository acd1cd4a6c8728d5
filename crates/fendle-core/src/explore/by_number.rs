//! A sweep over a space whose states are numbers.
//!
//! A sweep begins with hashed tables, which cost nothing while a space is small. When enough states were met for the size of
//! the range, they move into a dense space (see [`crate::space`]) and the sweep goes on there:
//!
//! ```text
//! piece     some sources of a depth, ascending: of a list while they are few, else those of a part of the range, found by
//!           looking through its cells
//! expand    threads run the rules on batches of a piece
//! claim     each outcome that has no mark gets that of the next depth
//! mark      each source gets the mark of its class
//! ```
//!
//! Which thread claims a state does not matter: the set of states is the same, and nothing depends on an order.

use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use super::*;
use crate::model::{Numbering, Targets};
use crate::space::arrows::ArrowLog;
use crate::space::dense::Mark;
use crate::space::number_bits;

/// Numbers of a range for each state that was met, up to which it is worth while.
const SPARSE: u64 = 1024;
/// A range that is small enough whatever was met.
const SMALL_RANGE: u64 = 1 << 24;
/// Numbers that may be looked through for each state in one pass by depth.
const DEEP: u64 = 4096;
/// How many times more states there are before a numbering is asked for again.
const AGAIN: u64 = 8;
/// Least effort that looking for numbers is worth, in states.
const EFFORT: u64 = 1 << 16;
/// Most numbers of a dense space.
const DENSE_MAX: u64 = 1 << 31;
/// Sources of one piece that is listed.
const PIECE: usize = 1 << 16;
/// Sources of one batch.
const BATCH: usize = 1024;
/// Numbers of one piece that is a part of the range.
pub(crate) const WINDOW: u64 = 1 << 20;
/// Numbers of one batch of it.
pub(crate) const PANE: u64 = 1 << 15;
/// Sources between two looks at the watch; with chance it is one.
const LOOK: usize = 256;
/// Targets of one state that are compared with each other one by one.
const FEW: usize = 32;
/// How many times as many states as are needed for numbers make leaps pay: their code takes some 50 milliseconds to make.
const LEAPS_FROM: u64 = 4;
/// One in so many numbers of the range may be listed as the next sources.
const LISTED: u64 = 96;

/// What a sweep by number needs beside the space.
#[derive(Default)]
pub(super) struct ByNumber<'m> {
    workers: Workers<'m>,
    /// The sources of the next depth, ascending, while they are few.
    list: Option<Vec<u32>>,
    /// States after which a numbering is asked for again.
    asked_at: u64,
    /// The sweep began again: it is at depth 0.
    pub(super) again: bool,
    /// A state was met that has no number.
    stray: bool,
}

/// Workers that wait for work: there are as many as were needed at once, since each has memory of its own.
#[derive(Default)]
pub(crate) struct Workers<'m>(Mutex<Vec<Box<dyn Worker + 'm>>>);

impl<'m> Workers<'m> {
    /// Lends a worker for states as a space holds them to some work.
    pub(crate) fn with<T>(
        &self,
        (space, model): (&Space, &'m dyn Model),
        work: impl FnOnce(&mut dyn Worker) -> T,
    ) -> T {
        self.lend(|| space.worker(model), work)
    }

    /// Lends a worker to some work; all that are made are of one kind.
    pub(super) fn lend<T>(
        &self,
        make: impl FnOnce() -> Box<dyn Worker + 'm>,
        work: impl FnOnce(&mut dyn Worker) -> T,
    ) -> T {
        let waiting = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let idle = waiting().pop();
        let mut worker = idle.unwrap_or_else(make);
        let found = work(&mut *worker);
        waiting().push(worker);
        found
    }

    /// Runs `work` on batches of some numbers, and gives what they found, in order.
    pub(crate) fn in_batches<T: Send>(
        &self,
        of: (&Space, &'m dyn Model),
        numbers: &[u64],
        parallel: bool,
        work: impl Fn(&mut dyn Worker, &[u64]) -> T + Sync + Send,
    ) -> Vec<T> {
        let one = |batch: &[u64]| self.with(of, |worker| work(worker, batch));
        if parallel {
            numbers.par_chunks(BATCH).map(one).collect()
        } else {
            numbers.chunks(BATCH).map(one).collect()
        }
    }
}

/// Some sources of a depth.
enum Piece<'p> {
    Listed(&'p [u32]),
    /// All that there are in a part of the range.
    Within(Range<u64>),
}

/// The pieces of a depth, ascending.
fn pieces(list: Option<&[u32]>, range: u64) -> Box<dyn Iterator<Item = Piece<'_>> + '_> {
    match list {
        Some(list) => Box::new(list.chunks(PIECE).map(Piece::Listed)),
        None => {
            let starts = (0..range).step_by(WINDOW as usize);
            Box::new(starts.map(move |at| Piece::Within(at..(at + WINDOW).min(range))))
        }
    }
}

/// A depth that is being expanded.
struct Expanding<'e> {
    dense: &'e Dense,
    waiting: &'e [bool],
    past_goals: bool,
    sure: bool,
    depth: u32,
    /// The marks of this depth and the next one before they are expanded.
    open: Mark,
    next: Mark,
    /// New states are listed, not only counted.
    listed: bool,
    /// Edges are written down.
    logged: bool,
    watch: &'e dyn Watch,
    progress: Progress,
}

/// What one batch found.
#[derive(Default)]
struct Found {
    new: u64,
    /// The new states, where they are listed.
    list: Vec<u32>,
    /// The edges, where they are written down: see [`ArrowLog`].
    log: Vec<u32>,
    expanded: u64,
    transitions: u64,
    edges: u64,
    set_aside: bool,
    left_open: bool,
    unfinished: Option<Limit>,
    faults: Vec<(StateId, Fault)>,
    hit: Option<Limit>,
    /// A state was met that has no number: all else is void.
    stray: bool,
}

impl<'m> Sweep<'m> {
    /// Moves the states into a dense space, if that pays now. States of `depth` are not expanded yet.
    pub(super) fn change_to_numbers(&mut self, watch: &dyn Watch) {
        let states = self.space.states_len();
        // Where edges are kept, what asks for them may go by the order of states: it stays what it was.
        if !self.limits.drop_edges || states < self.limits.number_from.max(self.by_number.asked_at) {
            return;
        }
        self.by_number.asked_at = states * AGAIN;
        let progress = self.progress(self.space.levels_len() - 1);
        let effort = states.max(EFFORT) as usize;
        let Some(numbering) = self.model.numbering(effort, &mut || watch.look(&progress).is_some()) else {
            return;
        };
        let range = numbering.range();
        if range > DENSE_MAX {
            // The tables stay, and hold numbers from now on.
            self.by_number.asked_at = u64::MAX;
            let short = Layout::new(number_bits(range)).bytes() < self.space.layout.bytes();
            let better = (short || !self.model.packed_is_fast()) && numbering.is_fast();
            if better && self.space.numbering.is_none() {
                self.begin_with(numbering);
            }
            return;
        }
        if range > SMALL_RANGE && range / SPARSE > states {
            // Perhaps later.
            self.by_number.asked_at = range / SPARSE;
            return;
        }
        // Where nothing is known from behind, sorting the states looks through the cells once for each depth.
        let levels = u64::from(self.space.levels_len());
        let back = self.space.sure && self.waiting.is_empty() && self.model.worker_by_number().goes_back();
        let branching = self.transitions / progress.expanded.max(1) + 1;
        let arrows = ArrowLog::bytes_for(range, range * branching);
        let logged = !back && self.space.sure && self.space.logged && arrows <= self.limits.memory_bytes / 4;
        let from_behind = back || logged && self.waiting.is_empty();
        if !from_behind && levels.saturating_mul(range) > DEEP * states {
            self.by_number.asked_at = 2 * states;
            return;
        }
        if progress.bytes + Dense::bytes_for(range) + numbering.bytes() > self.limits.memory_bytes {
            return;
        }
        let mut dense = Dense::new(numbering.clone());
        let levels = self.space.levels_len();
        let mut last = vec![];
        // The number of each state, by its id.
        let mut numbers = vec![0u32; if logged { self.space.ids_len() } else { 0 }];
        for depth in 0..levels {
            if !dense.make_room_for_depth(self.limits.memory_bytes - progress.bytes) {
                return;
            }
            let mut here = 0;
            for id in self.space.level(depth) {
                let Some(number) = numbering.number(&self.space.state(id)) else {
                    if numbering.is_guess() {
                        self.model.guess_failed();
                        self.by_number.asked_at = states;
                    }
                    return;
                };
                let mark = dense.mark(depth, self.space.class(id));
                here += u64::from(dense.claim(number, mark));
                if logged {
                    numbers[id.index()] = number as u32;
                }
                if depth + 1 == levels {
                    last.push(number as u32);
                }
            }
            dense.add_depth(here);
        }
        dense.expanded = self.space.expanded_len();
        dense.log = logged.then(|| self.edges_between(&numbers));
        let numbers: Option<Vec<u64>> =
            self.space.starts.iter().map(|s| numbering.number(&self.space.state(*s))).collect();
        let Some(numbers) = numbers else { return };
        self.space.starts = numbers.into_iter().map(|n| StateId::from_number(n as u32)).collect();
        self.space.drop_log();
        let layout = self.space.layout;
        self.space.stills = None;
        self.space.shards = (0..SHARDS).map(|n| Shard::new(n, layout)).collect();
        self.space.dense = Some(dense);
        self.workers = Workers::default();
        last.sort_unstable();
        self.by_number.list = Some(last);
    }

    /// The edges that the log holds, between the numbers of states, which are given by id.
    fn edges_between(&self, numbers: &[u32]) -> ArrowLog {
        let mut log = ArrowLog::default();
        for depth in 0..self.space.levels_len() {
            let (mut batch, mut met) = (vec![], 0);
            self.space.each_edges(depth, |id, edges| {
                batch.extend([numbers[id.index()], edges.len() as u32]);
                batch.extend(edges.iter().map(|e| numbers[e.to.index()]));
                met += edges.len() as u64;
            });
            log.append(batch, met);
        }
        log
    }

    /// Begins again with tables that hold numbers: what was seen so far is little, and seen again in no time.
    fn begin_with(&mut self, numbering: Arc<dyn Numbering>) {
        let number = |id: &StateId| Some(vec![numbering.number(&self.space.state(*id))?]);
        let Some(starts) = self.space.starts.iter().map(number).collect() else { return };
        let layout = Layout::new(number_bits(numbering.range()));
        let space = Space { packed: self.space.packed, ..Space::new(layout, self.space.sure) };
        self.begin_again(space, starts);
        self.space.numbering = Some(numbering);
    }

    /// Begins again with packed states: the numbers were a guess, and a state has none.
    pub(super) fn begin_without_guess(&mut self) {
        self.model.guess_failed();
        let starts = self.space.starts.iter().map(|id| self.space.state(*id)).collect();
        self.begin_again(Space::new(self.model.layout(), self.space.sure), starts);
        self.by_number = ByNumber { again: true, ..ByNumber::default() };
    }

    /// Begins again in an empty space, with the same starts.
    pub(super) fn begin_again(&mut self, mut space: Space, starts: Vec<Vec<u64>>) {
        for state in starts {
            let hash = hash(&state);
            let (id, _) =
                space.shards[shard_of(hash)].insert(&state, hash).expect("there was room for it before");
            space.starts.push(id);
        }
        space.start_weights = std::mem::take(&mut self.space.start_weights);
        self.space = space;
        (self.transitions, self.edges) = (0, 0);
        (self.set_aside, self.unfinished) = (false, None);
        self.faults.clear();
        self.workers = Workers::default();
        self.by_number.again = true;
    }

    /// Goes on from this depth until done or stopped. `None` when a state was met that has no number.
    pub(super) fn sweep_numbers(&mut self, depth: u32, until: Until, watch: &dyn Watch) -> Option<Stop> {
        let stop = self.sweep_depths(depth, until, watch);
        if let Some(dense) = &mut self.space.dense {
            dense.turn_log_round();
        }
        stop
    }

    fn sweep_depths(&mut self, mut depth: u32, until: Until, watch: &dyn Watch) -> Option<Stop> {
        loop {
            if until == Until::FirstGoal
                && let Some(stop) = self.goals_by_number(depth, watch)
            {
                return Some(stop);
            }
            let (new, stop) = self.expand_numbers(depth, watch);
            if self.by_number.stray {
                return None;
            }
            if new > 0 {
                depth += 1;
            }
            if !self.faults.is_empty() {
                return Some(Stop::Fault);
            }
            match stop {
                Some(stop) => return Some(stop),
                None if new == 0 => return Some(Stop::Complete),
                None => {}
            }
        }
    }

    fn dense(&self) -> &Dense {
        self.space.dense.as_ref().expect("a sweep by number has a dense space")
    }

    /// Runs `work` on batches of the sources in a piece, which have the mark `open`, on all threads where it is large, and gives what
    /// they found, in order.
    fn in_batches<T: Send>(
        &self,
        piece: &Piece<'_>,
        open: Mark,
        work: impl Fn(&mut dyn Worker, &[u64]) -> T + Sync + Send,
    ) -> Vec<T> {
        let workers = &self.by_number.workers;
        match piece {
            Piece::Listed(list) => {
                let sources: Vec<u64> = list.iter().map(|n| u64::from(*n)).collect();
                let of = (&self.space, self.model);
                if sources.len() < SMALL_ROUND {
                    return workers.in_batches(of, &sources, false, work);
                }
                let pool = pool(&self.pool, self.limits.threads);
                pool.install(|| workers.in_batches(of, &sources, true, work))
            }
            Piece::Within(range) => {
                let dense = self.dense();
                let pane = |n: u64| {
                    let start = range.start + n * PANE;
                    let mut sources = vec![];
                    dense.each_with(start, (start + PANE).min(range.end), open, |number| {
                        sources.push(number);
                        true
                    });
                    workers.with((&self.space, self.model), |worker| {
                        dense.order_for_targets(worker, &mut sources);
                        work(worker, &sources)
                    })
                };
                let panes = (range.end - range.start).div_ceil(PANE);
                let pool = pool(&self.pool, self.limits.threads);
                pool.install(|| (0..panes).into_par_iter().map(pane).collect())
            }
        }
    }

    /// Marks the won states of a depth.
    fn goals_by_number(&mut self, depth: u32, watch: &dyn Watch) -> Option<Stop> {
        let open = self.dense().mark(depth, Class::Open);
        let goal = self.dense().mark(depth, Class::Goal);
        let mut goals = false;
        for piece in pieces(self.by_number.list.as_deref(), self.dense().range()) {
            if let Some(limit) = watch.look(&self.progress(depth)) {
                return Some(Stop::Hit(limit));
            }
            let dense = self.dense();
            let leaps = self.space.sure && dense.leaps;
            let found = self.in_batches(&piece, open, |worker, batch| {
                let mut targets = Targets::default();
                let mut won = 0;
                for slice in batch.chunks(LOOK) {
                    let known = leaps && worker.targets(slice, false, &mut targets);
                    for (i, number) in slice.iter().enumerate() {
                        let head = targets.heads.get(i).filter(|_| known);
                        // A fault shows again, with its route, when the level is expanded.
                        let is_won = match head {
                            Some(Some((status, _))) => *status == Status::Goal,
                            _ => worker.status(&[*number]) == Ok(Status::Goal),
                        };
                        if is_won {
                            dense.change(*number, open, goal);
                            won += 1;
                        }
                    }
                }
                won
            });
            goals |= found.iter().any(|n| *n > 0);
        }
        if goals {
            return Some(Stop::Complete);
        }
        self.looked_through = self.looked_through.max(depth + 1);
        None
    }

    /// Forgets so many of the new states that a piece led to, those with the greatest numbers, and that the piece was expanded at all. Gives the
    /// number of those that stay.
    fn drop_excess(
        &self,
        piece: Piece<'_>,
        mut met: Vec<u32>,
        excess: usize,
        (depth, open, next): (u32, Mark, Mark),
    ) -> u64 {
        met.sort_unstable();
        let keep = met.len() - excess.min(met.len());
        let dense = self.dense();
        met[keep..].iter().for_each(|n| dense.change(u64::from(*n), next, 0));
        match piece {
            Piece::Listed(list) => {
                list.iter().for_each(|n| dense.change(u64::from(*n), dense.get(u64::from(*n)), open));
            }
            Piece::Within(range) => dense.each_seen(range.start, range.end, |n, mark| {
                if dense.depth_of(mark) == depth {
                    dense.change(n, mark, open);
                }
            }),
        }
        keep as u64
    }

    /// Expands the states of a depth. Gives the number of new ones.
    #[expect(clippy::too_many_lines, reason = "one pass: what a piece found is used up where it is found")]
    fn expand_numbers(&mut self, depth: u32, watch: &dyn Watch) -> (u64, Option<Stop>) {
        let memory = self.limits.memory_bytes;
        if !self.space.dense.as_mut().expect("dense").make_room_for_depth(memory) {
            return (0, Some(Stop::Hit(Limit::Memory)));
        }
        let dense = self.space.dense.as_mut().expect("dense");
        // What was turned round before does not hold what is met now.
        dense.arrows = None;
        dense.leaps |= dense.len() >= self.limits.number_from.saturating_mul(LEAPS_FROM);
        let list = self.by_number.list.take();
        let open = self.dense().mark(depth, Class::Open);
        let next = self.dense().mark(depth + 1, Class::Open);
        let listed_most = self.dense().range() / LISTED;
        let most_new = WINDOW.saturating_mul(self.model.moves_len() as u64);
        let mut listed = Some(vec![]);
        let (mut new, mut left_open) = (0u64, false);
        let mut stop = None;
        for piece in pieces(list.as_deref(), self.dense().range()) {
            if stop.is_some() {
                break;
            }
            let progress = self.progress(depth);
            if let Some(limit) = watch.look(&progress) {
                stop = Some(Stop::Hit(limit));
                break;
            }
            let expanding = Expanding {
                dense: self.dense(),
                waiting: &self.waiting,
                past_goals: self.past_goals,
                sure: self.space.sure,
                depth,
                open,
                next,
                listed: listed.is_some() || self.dense().len() + new + most_new > self.limits.max_states,
                logged: self.dense().log.is_some(),
                watch,
                progress,
            };
            let found = self.in_batches(&piece, open, |worker, batch| expanding.run(worker, batch));
            if found.iter().any(|f| f.stray) {
                self.by_number.stray = true;
                return (0, None);
            }
            let here: u64 = found.iter().map(|f| f.new).sum();
            let states = self.dense().len() + new + here;
            if states > self.limits.max_states {
                let excess = (states - self.limits.max_states) as usize;
                let met: Vec<u32> = found.into_iter().flat_map(|f| f.list).collect();
                new += self.drop_excess(piece, met, excess, (depth, open, next));
                left_open = true;
                stop = Some(Stop::Hit(Limit::MaxStates));
                break;
            }
            new += here;
            let mut expanded = 0;
            let log = &mut self.space.dense.as_mut().expect("dense").log;
            for f in found {
                if let Some(log) = log {
                    log.append(f.log, f.transitions);
                }
                if let Some(list) = &mut listed {
                    list.extend_from_slice(&f.list);
                }
                expanded += f.expanded;
                self.transitions += f.transitions;
                self.edges += f.edges;
                self.set_aside |= f.set_aside;
                left_open |= f.left_open;
                self.unfinished = self.unfinished.or(f.unfinished);
                self.faults.extend(f.faults);
                stop = stop.or(f.hit.map(Stop::Hit));
            }
            let dense = self.space.dense.as_mut().expect("dense");
            dense.expanded += expanded;
            // It may take half of what there is.
            if dense.bytes() > memory / 2 {
                dense.log = None;
            }
            if listed.as_ref().is_some_and(|l| l.len() as u64 > listed_most) {
                listed = None;
            }
        }
        let dense = self.space.dense.as_mut().expect("dense");
        if new > 0 {
            dense.add_depth(new);
        }
        if stop.is_none() && !left_open {
            dense.take_back(depth, Class::Open);
        }
        if let Some(list) = &mut listed {
            list.sort_unstable();
        }
        self.by_number.list = listed;
        (new, stop)
    }
}

impl Found {
    #[inline(always)]
    fn add(&mut self, number: u32, listed: bool) {
        self.new += 1;
        if listed {
            self.list.push(number);
        }
    }
}

/// Room to work in, for one batch.
#[derive(Default)]
struct Scratch {
    out: Expansion,
    targets: Targets,
    marks: Vec<Mark>,
    distinct: Vec<u64>,
    idle: Vec<u32>,
    /// States of which the rules have to be asked.
    asked: Vec<u64>,
    /// The mark of each class at the depth of the sources, 0 while it was not needed.
    mark_of: [Mark; 16],
}

impl Expanding<'_> {
    /// Expands a batch of sources.
    fn run(&self, worker: &mut dyn Worker, batch: &[u64]) -> Found {
        let mut found = Found::default();
        let mut scratch = Scratch::default();
        let look = if self.sure { LOOK } else { 1 };
        for slice in batch.chunks(look) {
            if let Some(limit) = self.watch.look(&self.progress) {
                found.hit = Some(limit);
                return found;
            }
            let leaps = self.sure && self.dense.leaps && self.waiting.is_empty() && !self.logged;
            if leaps && worker.targets(slice, self.past_goals, &mut scratch.targets) {
                self.leap(slice, &mut scratch, &mut found);
                let asked = std::mem::take(&mut scratch.asked);
                if !asked.is_empty() {
                    self.ask(worker, &asked, &mut scratch, &mut found);
                }
            } else {
                self.ask(worker, slice, &mut scratch, &mut found);
            }
            found.expanded += slice.len() as u64;
        }
        found
    }

    /// Gives a source the mark of its class.
    #[inline]
    fn close(&self, source: u64, class: Class, mark_of: &mut [Mark; 16]) {
        let mark = &mut mark_of[class as usize];
        if *mark == 0 {
            *mark = self.dense.mark(self.depth, class);
        }
        self.dense.change(source, self.open, *mark);
    }

    /// Claims what the moves of some sources lead to, which is known without making them. What is not known is left in
    /// `scratch.asked`.
    fn leap(&self, slice: &[u64], scratch: &mut Scratch, found: &mut Found) {
        let Expanding { dense, next, .. } = *self;
        let Scratch { targets, marks, distinct, asked, mark_of, .. } = scratch;
        asked.clear();
        // All cells are looked at first: the processor waits for many of them at once.
        marks.clear();
        marks.extend(targets.numbers.iter().map(|n| dense.get(u64::from(*n))));
        for (target, mark) in targets.numbers.iter().zip(&*marks) {
            if *mark == 0 && dense.claim(u64::from(*target), next) {
                found.add(*target, self.listed);
            }
        }
        let mut at = 0;
        for (source, head) in slice.iter().zip(&targets.heads) {
            let Some((status, runs)) = *head else {
                asked.push(*source);
                continue;
            };
            let own = &targets.numbers[at..at + runs as usize];
            at += own.len();
            found.edges += if own.len() <= FEW {
                own.iter().enumerate().filter(|(i, n)| !own[..*i].contains(n)).count() as u64
            } else {
                distinct.clear();
                distinct.extend(own.iter().map(|n| u64::from(*n)));
                distinct.sort_unstable();
                distinct.dedup();
                distinct.len() as u64
            };
            self.close(*source, class_of(&Head { status, runs }), mark_of);
        }
        found.transitions += targets.numbers.len() as u64;
    }

    /// Expands some sources by the rules.
    fn ask(&self, worker: &mut dyn Worker, slice: &[u64], scratch: &mut Scratch, found: &mut Found) {
        let Expanding { dense, depth, next, .. } = *self;
        let Scratch { out, marks, distinct, idle, mark_of, .. } = scratch;
        out.clear();
        worker.expand(slice, self.past_goals, out);
        if !out.strays.is_empty() {
            found.stray = true;
            return;
        }
        if !self.waiting.is_empty() {
            idle.clear();
            find_idle(worker, 1, self.waiting, slice, out, idle);
        }
        marks.clear();
        marks.extend(out.outcomes.iter().map(|n| dense.get(*n)));
        let (mut outcome, mut run) = (0, 0);
        for (head, source) in out.heads.iter().zip(slice) {
            distinct.clear();
            let runs = &out.runs[run..run + head.runs as usize];
            run += runs.len();
            let len: usize = runs.iter().map(|r| r.outcomes as usize).sum();
            let targets = &out.outcomes[outcome..outcome + len];
            for (target, mark) in targets.iter().zip(&marks[outcome..]) {
                if *mark == 0 && dense.claim(*target, next) {
                    found.add(*target as u32, self.listed);
                }
                if len <= FEW && !distinct.contains(target) {
                    distinct.push(*target);
                }
            }
            if len > FEW {
                distinct.extend_from_slice(targets);
                distinct.sort_unstable();
                distinct.dedup();
            }
            if self.logged {
                found.log.extend([*source as u32, len as u32]);
                found.log.extend(targets.iter().map(|t| *t as u32));
            }
            outcome += len;
            found.transitions += len as u64;
            found.edges += distinct.len() as u64;
            found.set_aside |= head.status == Status::Cut;
            self.close(*source, class_of(head), mark_of);
        }
        let set = |k: u32, class: Class| {
            let number = slice[k as usize];
            dense.change(number, dense.get(number), dense.mark(depth, class));
        };
        idle.drain(..).for_each(|k| set(k, Class::Idle));
        for &(k, limit) in &out.unfinished {
            set(k, Class::Open);
            found.left_open = true;
            found.unfinished.get_or_insert(limit);
        }
        for &(k, fault) in &out.faults {
            set(k, Class::Open);
            found.left_open = true;
            found.faults.push((StateId::from_number(slice[k as usize] as u32), fault));
        }
        found.left_open |= out.heads.iter().any(|h| h.status == Status::Cut);
    }
}
