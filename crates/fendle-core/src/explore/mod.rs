//! Visits every reachable state, breadth first.
//!
//! Depths count moves from the nearest start. A search that hit a limit says which one, and
//! its counts are of what was seen: never a "no".
//!
//! # How
//!
//! Level by level, and each level in rounds of at most [`Model::batch`] states a shard:
//!
//! ```text
//! expand   each source shard runs the rules on its states and sorts the outcomes by target shard
//! insert   each target shard takes its outcomes in source order and numbers the new ones
//! log      each source shard writes its edges, now that the targets have numbers
//! ```
//!
//! Each step touches one shard on one thread, so there are no locks, and the numbering is the
//! same on any number of threads. The watch is asked while a round is expanded; a round that it stops is dropped whole.
//! O(|S| + |T|) time; for the memory see [`crate::space`].

pub(crate) mod by_number;
mod compact;
mod rounds;
mod stills;

use std::sync::{Arc, OnceLock};

use by_number::{ByNumber, Workers};
use rayon::prelude::*;
use rounds::{Given, Lane, LevelEnd, Numbered};
use serde::Serialize;

use crate::classify;
use crate::graph::{Transitions, arrows_bytes};
use crate::limits::{Limit, Limits, Pace, Progress, Stop, Watch};
use crate::model::{Expansion, Fault, Head, Layout, Model, MoveId, Run, Status, Worker};
use crate::route::{self, Route};
use crate::space::dense::Dense;
use crate::space::{Class, Edge, SHARDS, Shard, Space, StateId, hash, shard_of};

/// Rounds below this many states run on one thread: handing them out costs more.
const SMALL_ROUND: usize = 512;
/// Numbers of a range that is worth threads from its first depth on.
const LARGE_RANGE: u64 = 1 << 16;

/// What a search is after.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Until {
    /// The whole space.
    Everything,
    /// The first depth with a goal.
    FirstGoal,
    /// All that so many moves lead to; what can be done there, too.
    Moves(u32),
}

/// A sweep under way.
pub(crate) struct Sweep<'m> {
    model: &'m dyn Model,
    limits: Limits,
    past_goals: bool,
    pub(crate) space: Space,
    lanes: Vec<Lane>,
    workers: Workers<'m>,
    given: Vec<Given>,
    numbered: Vec<Numbered>,
    pool: Arc<OnceLock<rayon::ThreadPool>>,
    pub(crate) transitions: u64,
    pub(crate) edges: u64,
    /// Branches of chance were set aside.
    pub(crate) set_aside: bool,
    /// A limit of the machine ended some move: its state stays open.
    unfinished: Option<Limit>,
    /// There are more starts than states are allowed.
    starts_left_out: bool,
    waiting: Vec<bool>,
    faults: Vec<(StateId, Fault)>,
    by_number: ByNumber<'m>,
    /// States after which it is looked again whether stills pay.
    stills_asked_at: u64,
    /// Depths of which no state is missing and none is won, where goals are looked for depth by depth.
    pub(crate) looked_through: u32,
}

impl<'m> Sweep<'m> {
    pub(crate) fn new(model: &'m dyn Model, limits: Limits, past_goals: bool) -> Result<Sweep<'m>, Fault> {
        let mut space = Space::new(model.layout(), model.is_sure());
        let mut starts_left_out = false;
        for start in model.starts()? {
            let hash = hash(&start.state);
            let full = space.starts.len() as u64 >= limits.max_states;
            let shard = &mut space.shards[shard_of(hash)];
            if full && shard.table.find(&start.state, hash).is_none() {
                starts_left_out = true;
                continue;
            }
            match shard.insert(&start.state, hash) {
                Some((id, true)) => {
                    space.starts.push(id);
                    space.start_weights.push(start.weight);
                }
                Some((id, false)) => {
                    let i = space.starts.iter().position(|s| *s == id).expect("a start met before");
                    space.start_weights[i] = space.start_weights[i].saturating_add(start.weight);
                }
                None => starts_left_out = true,
            }
        }
        let lanes = (0..SHARDS).map(|_| Lane::default()).collect();
        Ok(Sweep {
            model,
            limits,
            past_goals,
            space,
            lanes,
            workers: Workers::default(),
            given: (0..SHARDS).map(|_| Given::default()).collect(),
            numbered: (0..SHARDS).map(|_| Numbered::default()).collect(),
            pool: Arc::default(),
            transitions: 0,
            edges: 0,
            set_aside: false,
            unfinished: None,
            starts_left_out,
            waiting: if (0..model.moves_len()).any(|m| model.is_waiting(MoveId(m as u32))) {
                (0..model.moves_len()).map(|m| model.is_waiting(MoveId(m as u32))).collect()
            } else {
                vec![]
            },
            faults: vec![],
            by_number: ByNumber::default(),
            stills_asked_at: 0,
            looked_through: 0,
        })
    }

    /// Runs until done or stopped. A fault ends the sweep after its level.
    pub(crate) fn run(&mut self, until: Until, watch: &dyn Watch) -> Stop {
        if self.starts_left_out {
            return Stop::Hit(Limit::MaxStates);
        }
        match (self.sweep(until, watch), self.unfinished) {
            (Stop::Complete, Some(limit)) => Stop::Hit(limit),
            (stop, _) => stop,
        }
    }

    fn sweep(&mut self, until: Until, watch: &dyn Watch) -> Stop {
        let mut depth = 0;
        loop {
            self.change_to_numbers(watch);
            if self.space.dense.is_some() {
                let large = self.space.dense.as_ref().is_some_and(|d| d.range() >= LARGE_RANGE);
                match self.on_pool_whole(large, |sweep| sweep.sweep_numbers(depth, until, watch)) {
                    Some(stop) => return stop,
                    None => self.begin_without_guess(),
                }
            }
            self.change_to_stills();
            if std::mem::take(&mut self.by_number.again) {
                depth = 0;
            }
            if until == Until::FirstGoal
                && let Some(stop) = self.look_for_goals(depth, watch)
            {
                return stop;
            }
            if let Until::Moves(last) = until
                && depth > last
            {
                return Stop::Enough;
            }
            let ends: [u32; SHARDS] = std::array::from_fn(|n| self.space.level_of(n, depth).end);
            let states = self.space.states_len();
            let large = self.space.level_len(depth) >= SMALL_ROUND as u64;
            let ended = if states >= self.limits.remainders_from && self.may_move() {
                LevelEnd::Short
            } else {
                self.on_pool_whole(large, |sweep| sweep.expand_level(depth, &ends, watch))
            };
            if ended == LevelEnd::Short {
                let large = self.space.states_len() >= SMALL_ROUND as u64;
                return self.on_pool_whole(large, |sweep| sweep.sweep_remainders(depth, &ends, until, watch));
            }
            let grew = self.space.shards.iter().zip(&ends).any(|(s, &e)| s.len() > e as usize);
            if grew {
                self.space.shards.iter_mut().for_each(Shard::begin_depth);
                self.space.levels.push(ends);
                depth += 1;
            }
            if !self.faults.is_empty() {
                return Stop::Fault;
            }
            match ended {
                LevelEnd::Stopped(stop) => return stop,
                _ if !grew => return Stop::Complete,
                _ => {}
            }
        }
    }

    fn look_for_goals(&mut self, depth: u32, watch: &dyn Watch) -> Option<Stop> {
        let model = self.model;
        let space = &self.space;
        let workers = &self.workers;
        let check = |n: usize, lane: &mut Lane| {
            let (shard, level) = (&space.shards[n], space.level_of(n, depth));
            if level.is_empty() {
                return false;
            }
            let by = |worker: &mut dyn Worker| {
                let mut goals = false;
                for local in level {
                    lane.states.clear();
                    shard.table.push_state(local as usize, &mut lane.states);
                    // A fault shows again, with its route, when the level is expanded.
                    if worker.status(&lane.states) == Ok(Status::Goal) {
                        shard.classes.set(local, Class::Goal);
                        goals = true;
                    }
                }
                goals
            };
            workers.lend(|| space.worker(model), by)
        };
        let goals = if self.space.level_len(depth) < SMALL_ROUND as u64 {
            self.lanes.iter_mut().enumerate().fold(false, |any, (n, l)| check(n, l) | any)
        } else {
            let pool = pool(&self.pool, self.limits.threads);
            let lanes = &mut self.lanes;
            pool.install(|| {
                lanes.par_iter_mut().enumerate().map(|(n, l)| check(n, l)).reduce(|| false, |a, b| a | b)
            })
        };
        // Where memory ran short the level may still be expanded, with some of it given back.
        let stopped = watch.look(&self.progress(depth)).filter(|limit| *limit != Limit::Memory);
        if goals {
            return Some(Stop::Complete);
        }
        self.looked_through = self.looked_through.max(depth + 1);
        stopped.map(Stop::Hit)
    }

    fn progress(&self, depth: u32) -> Progress {
        Progress {
            states: self.space.states_len(),
            expanded: self.space.expanded_len(),
            depth,
            bytes: self.space.bytes() + self.model.bytes(),
            numbers: self.space.dense.as_ref().filter(|d| d.numbering().is_some()).map(Dense::range),
        }
    }

    /// The fault at the least depth, first in move order, with the way to it.
    pub(crate) fn first_fault(&self) -> Option<Faulted> {
        let depth = self.faults.iter().map(|(id, _)| self.space.depth_of(*id)).min()?;
        let targets: Vec<StateId> = self.faults.iter().map(|f| f.0).collect();
        let never = || None;
        let route = route::first_route(self.model, &self.space, depth, &targets, self.past_goals, &never);
        let route = route.ok()??;
        let end = self.space.find(route.states.last()?)?;
        let fault = self.faults.iter().find(|f| f.0 == end)?.1;
        Some(Faulted { fault, route })
    }

    /// Does something that is worth several threads on a thread of the pool, so that no step of it has to wake one and wait for it.
    fn on_pool_whole<T: Send>(&mut self, large: bool, work: impl FnOnce(&mut Self) -> T + Send) -> T {
        if !large {
            return work(self);
        }
        let of_sweep = Arc::clone(&self.pool);
        pool(&of_sweep, self.limits.threads).install(|| work(self))
    }

    pub(crate) fn on_pool<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        if self.space.states_len() < SMALL_ROUND as u64 {
            work()
        } else {
            pool(&self.pool, self.limits.threads).install(work)
        }
    }
}

pub(crate) fn pool(cell: &OnceLock<rayon::ThreadPool>, threads: usize) -> &rayon::ThreadPool {
    cell.get_or_init(|| {
        let wanted = rayon::ThreadPoolBuilder::new().num_threads(threads).build();
        // Where the system starts no more threads, this one does it all.
        wanted.unwrap_or_else(|_| {
            let alone = rayon::ThreadPoolBuilder::new().num_threads(1).use_current_thread().build();
            alone.expect("a pool of the thread that is there")
        })
    })
}

/// The states of a batch in which only waiting is allowed and changes nothing but clocks.
pub(crate) fn find_idle(
    worker: &mut dyn Worker,
    words: usize,
    waiting: &[bool],
    states: &[u64],
    out: &Expansion,
    idle: &mut Vec<u32>,
) {
    let mut runs = out.runs.as_slice();
    // Runs that were passed over since outcomes were counted last, and the outcomes before them.
    let (mut passed, mut outcome) = (runs, 0);
    for (k, head) in out.heads.iter().enumerate() {
        let (of_state, rest) = runs.split_at(head.runs as usize);
        runs = rest;
        if head.status != Status::Running
            || of_state.is_empty()
            || !of_state.iter().all(|r| waiting[r.of.0 as usize])
        {
            continue;
        }
        let outcomes = |runs: &[Run]| runs.iter().map(|r| r.outcomes as usize).sum::<usize>();
        outcome += outcomes(&passed[..passed.len() - runs.len() - of_state.len()]);
        let len = outcomes(of_state);
        let targets = &out.outcomes[outcome * words..(outcome + len) * words];
        (passed, outcome) = (runs, outcome + len);
        let state = &states[k * words..(k + 1) * words];
        if targets.chunks_exact(words).all(|t| worker.same_but_clocks(state, t)) {
            idle.push(k as u32);
        }
    }
}

pub(crate) fn class_of(head: &Head) -> Class {
    match head.status {
        Status::Goal => Class::Goal,
        Status::Lost(_) => Class::Lost,
        Status::Over(_) => Class::Over,
        // Nothing is known of what was set aside.
        Status::Cut => Class::Open,
        Status::Running if head.runs == 0 => Class::Stuck,
        Status::Running => Class::Running,
    }
}

/// A fault and the shortest way to it: `route` ends in the state where it shows.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Faulted {
    /// What broke.
    pub fault: Fault,
    /// From a start to the state where it broke.
    pub route: Route,
}

/// The counts of a space. `goal + lost + over + stuck + dead + winnable + free + open = states`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Exploration {
    /// Whether everything reachable was seen.
    pub complete: bool,
    /// The limit that cut the search short.
    pub limit: Option<Limit>,
    /// Distinct states.
    pub states: u64,
    /// (state, allowed move, outcome) triples.
    pub transitions: u64,
    /// Distinct (state, state) pairs.
    pub edges: u64,
    /// Greatest depth, in moves.
    pub depth: u32,
    /// States at each depth.
    pub per_depth: Vec<u64>,
    /// Won states.
    pub goal: u64,
    /// Lost states.
    pub lost: u64,
    /// States that ended otherwise.
    pub over: u64,
    /// Running states without an allowed move.
    pub stuck: u64,
    /// Running states with moves, from which no goal can be reached.
    pub dead: u64,
    /// Running states from which a goal can be reached.
    pub winnable: u64,
    /// Running states of a model without a goal.
    pub free: u64,
    /// States that were not expanded or not classified.
    pub open: u64,
    /// Moves of winnable states all of whose outcomes are dead, stuck, lost or over.
    pub fatal_moves: u64,
    /// Least depth of a state with a fatal move.
    pub first_fatal_depth: Option<u32>,
    /// Least number of moves to a goal: with chance, if all draws fall well.
    pub shortest: Option<u32>,
    /// Whether a move can have several outcomes.
    pub chance: bool,
    /// Winnable states from which some way of playing wins against every draw.
    pub certain: u64,
    /// Winnable states from which some way of playing wins with probability 1.
    pub almost_certain: u64,
    /// Outcomes that are dead, stuck, lost or over, of moves of winnable states that also have others.
    pub fatal_draws: u64,
    /// Whether branches of chance were set aside: what depends on them is open.
    pub cut: bool,
    /// Bits of one packed state.
    pub bits_per_state: u32,
    /// Whether the transitions were kept in memory; if not they were made again where they were needed.
    pub edges_kept: bool,
    /// Where states were numbers of a small range: how many numbers there are.
    pub numbers: Option<u64>,
}

impl Exploration {
    /// Whether everything that can be reached was seen, and no branch of chance was set aside.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.complete && !self.cut
    }

    /// Notes a limit: the first one is told, or an interrupt, whatever was hit before it.
    pub(crate) fn note_limit(&mut self, limit: Limit) {
        if self.limit.is_none() || limit == Limit::Interrupted {
            self.limit = Some(limit);
        }
    }

    /// What kept it from being whole: the limit that was hit, or branches that were set aside. `None` also where the model broke.
    #[must_use]
    pub fn cut_short(&self) -> Option<Limit> {
        self.limit.or(self.cut.then_some(Limit::SetAside))
    }

    /// The counts by the names that answers for programs give them.
    #[must_use]
    pub fn named(&self) -> [(&'static str, u64); 13] {
        [
            ("states", self.states),
            ("transitions", self.transitions),
            ("edges", self.edges),
            ("depth", self.depth.into()),
            ("goal", self.goal),
            ("lost", self.lost),
            ("over", self.over),
            ("stuck", self.stuck),
            ("dead", self.dead),
            ("winnable", self.winnable),
            ("fatal_moves", self.fatal_moves),
            ("certain", self.certain),
            ("fatal_draws", self.fatal_draws),
        ]
    }
}

/// The result of [`explore`]: counts, the space behind them, and what broke.
pub struct Explored {
    /// The counts.
    pub counts: Exploration,
    /// The states behind the counts.
    pub space: Space,
    /// Whether play went on from won states.
    pub past_goals: bool,
    /// The way to the nearest fatal move: the last move is fatal.
    pub nearest_fatal: Option<Route>,
    /// The first model fault, if the model broke. The counts are then of what was seen.
    pub fault: Option<Faulted>,
}

impl Explored {
    /// Nothing explored, of states of this layout.
    #[must_use]
    pub fn empty(layout: Layout) -> Explored {
        let space = Space::new(layout, true);
        Explored {
            counts: Exploration::default(),
            space,
            past_goals: false,
            nearest_fatal: None,
            fault: None,
        }
    }

    /// The first shortest way in move order to one of these states that lies at `depth`, while somebody watches: where the edges
    /// were dropped it takes as long as the search did.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended it.
    pub fn route_watched(
        &self,
        model: &dyn Model,
        depth: u32,
        targets: &[StateId],
        past_goals: bool,
        watch: &dyn Watch,
    ) -> Result<Option<Route>, Limit> {
        let progress = Progress { states: self.counts.states, depth, ..Progress::default() };
        let stop = || watch.look(&progress);
        route::first_route(model, &self.space, depth, targets, past_goals, &stop)
    }

    /// The first shortest solution in move order, `None` where no goal was seen.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended the looking.
    pub fn solution(&self, model: &dyn Model, watch: &dyn Watch) -> Result<Option<Route>, Limit> {
        let Some(depth) = self.counts.shortest else { return Ok(None) };
        self.route_watched(model, depth, &self.goals_at(depth), false, watch)
    }

    /// All transitions: from the log, or from the rules, which are asked again where states are numbers and draw nothing. `None` where
    /// neither can be, or where the memory of `limits` would not do.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that the watch names.
    pub fn transitions(
        &self,
        model: &dyn Model,
        limits: &Limits,
        watch: &dyn Watch,
    ) -> Result<Option<Transitions<'_>>, Limit> {
        let (space, counts) = (&self.space, &self.counts);
        let bytes = arrows_bytes(space, counts.transitions) + 4 * counts.states;
        if !space.has_edges() && space.bytes() + bytes > limits.memory_bytes {
            return Ok(None);
        }
        let progress = Progress { states: counts.states, depth: counts.depth, bytes, ..Progress::default() };
        let mut pace = Pace::new(watch).at(progress);
        pool(&OnceLock::new(), limits.threads).install(|| Transitions::of(model, self, &mut pace))
    }

    /// The states that can still be won and are farthest from a goal, with how many moves they need: for a space that is kept by number, of a
    /// model whose rules can be followed back; `None` for others. `memory`: the bytes that may be taken for it.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that ended it.
    pub fn farthest(
        &self,
        model: &dyn Model,
        memory: u64,
        watch: &dyn Watch,
    ) -> Option<Result<(u32, Vec<StateId>), Limit>> {
        let progress =
            Progress { states: self.counts.states, depth: self.counts.depth, ..Progress::default() };
        let stop = || watch.look(&progress);
        let source = crate::edges::Edges::new((&self.space, model), false, 0, &stop);
        let found = crate::passes::Passes::back(&source)?.farthest(memory);
        Some(found.map(|(moves, numbers)| {
            (moves, numbers.into_iter().map(|n| StateId::from_number(n as u32)).collect())
        }))
    }

    /// The won states at one depth.
    #[must_use]
    pub fn goals_at(&self, depth: u32) -> Vec<StateId> {
        self.space.level(depth).filter(|id| self.space.class(*id) == Class::Goal).collect()
    }
}

/// Visits and classifies everything reachable from the starts.
///
/// With `past_goals` won states are expanded too.
///
/// # Errors
///
/// A [`Fault`] when a start cannot be built. A fault met later is part of the result.
///
/// # Examples
///
/// A counter from 0 to 10 that goes up by two or three, and is won at 10:
///
/// ```
/// use fendle_core::{Limits, NoWatch, explore, table::{Table, Row}};
///
/// let rows = (0..=10).map(|n| match n {
///     10 => Row::goal(),
///     _ => Row::running([("two", n + 2), ("three", n + 3)].into_iter().filter(|m| m.1 <= 10)),
/// });
/// let found = explore(&Table::new(rows), Limits::default(), false, &NoWatch).expect("a sound model");
/// assert_eq!((found.counts.states, found.counts.goal, found.counts.shortest), (10, 1, Some(4)));
/// assert_eq!(found.counts.stuck, 1, "from 9 nothing goes on");
/// ```
pub fn explore(
    model: &dyn Model,
    limits: Limits,
    past_goals: bool,
    watch: &dyn Watch,
) -> Result<Explored, Fault> {
    explore_until(model, limits, past_goals, Until::Everything, watch)
}

/// Visits what so many moves lead to, and tries all moves there. What lies behind is not looked at, so that no state is told to be dead or winnable on
/// good grounds; edges are kept where `limits` does not drop them. [`Exploration::complete`] says whether there is no more.
///
/// # Errors
///
/// A [`Fault`] when a start cannot be built. A fault met later is part of the result.
pub fn explore_near(
    model: &dyn Model,
    limits: Limits,
    moves: u32,
    watch: &dyn Watch,
) -> Result<Explored, Fault> {
    explore_until(model, limits, false, Until::Moves(moves), watch)
}

fn explore_until(
    model: &dyn Model,
    limits: Limits,
    past_goals: bool,
    until: Until,
    watch: &dyn Watch,
) -> Result<Explored, Fault> {
    let mut sweep = Sweep::new(model, limits, past_goals)?;
    let stop = sweep.run(until, watch);
    let fault = sweep.first_fault();
    sweep.end_rounds();
    sweep.space.half_known = sweep.set_aside || sweep.unfinished.is_some() || !sweep.faults.is_empty();
    let dense = sweep.space.dense.as_ref();
    let mut counts = Exploration {
        complete: stop == Stop::Complete,
        limit: if let Stop::Hit(limit) = stop { Some(limit) } else { None },
        states: sweep.space.states_len(),
        transitions: sweep.transitions,
        edges: sweep.edges,
        depth: sweep.space.levels_len() - 1,
        per_depth: (0..sweep.space.levels_len()).map(|d| sweep.space.level_len(d)).collect(),
        bits_per_state: model.layout().bits,
        edges_kept: sweep.space.logged || dense.is_some_and(|d| d.arrows.is_some()),
        numbers: dense.filter(|d| d.numbering().is_some()).map(Dense::range),
        chance: !model.is_sure(),
        cut: sweep.set_aside,
        ..Exploration::default()
    };
    // Marks for the classes that sorting tells apart.
    let classes = classify::new_classes(model, &sweep.space, &counts);
    let roomy =
        sweep.space.dense.as_mut().is_none_or(|d| d.make_room_for_classes(classes, limits.memory_bytes));
    // After a limit what was seen is still put in order, for as long as the watch allows.
    let progress = sweep.progress(counts.depth);
    let late = counts.limit.is_some();
    let stop = || match roomy {
        false => Some(Limit::Memory),
        true if late => watch.wrap_up(&progress),
        true => watch.look(&progress).and_then(|limit| match limit {
            // All is seen, and what classes take is little beside it.
            Limit::Memory => watch.wrap_up(&progress),
            other => Some(other),
        }),
    };
    let memory = limits.memory_bytes.saturating_sub(progress.bytes);
    let (nearest, marks) =
        sweep.on_pool(|| classify::classify(model, &sweep.space, past_goals, &mut counts, memory, &stop));
    (sweep.space.certain, sweep.space.almost_certain) = marks;
    let mut nearest_fatal = None;
    if let Some((depth, states)) = nearest {
        match route::first_route(model, &sweep.space, depth, &states, past_goals, &stop) {
            Ok(Some(mut route)) => {
                classify::append_fatal_move(model, &sweep.space, past_goals, &mut route);
                nearest_fatal = Some(route);
            }
            Ok(None) => {}
            Err(limit) => counts.note_limit(limit),
        }
    }
    counts.complete &= counts.limit.is_none();
    Ok(Explored { counts, space: sweep.space, past_goals, nearest_fatal, fault })
}
