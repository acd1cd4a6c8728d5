//! Solutions on boards too large to be seen whole: what relaxed puzzles prove, any way soon, a shortest one where that can be proved.
//!
//! ```text
//! relaxed puzzles   no way even there: unsolvable                    a lower bound everywhere else
//! all states        where there are few
//! any way           several searches in turn, each given more from round to round; parts of what they find are solved again
//! shortest          deepening, or the least sum first, until the bound meets the solution, or a limit
//! ```

use fendle_core::explore::Faulted;
use fendle_core::guided::beam::{self, Wide};
use fendle_core::guided::best::{self, Ask, Order};
use fendle_core::guided::deepen::deepen;
use fendle_core::guided::dive::{self, Dive, Prefer};
use fendle_core::guided::ground::{Ground, Moves, Unpack};
use fendle_core::guided::shorten::shorten;
use fendle_core::guided::ways::WaysGround;
use fendle_core::guided::{Found, Steps};
use fendle_core::model::{Expansion, Model};
use fendle_core::relaxed::Task;
use fendle_core::relaxed::bounds::Bounds;
use fendle_core::relaxed::choose::Effort;
use fendle_core::solve::{Verdict, solve};
use fendle_core::{Limit, Limits, MoveId, Route};
use fendle_lang::Game;
use fendle_lang::reasons::gap::with_gap;
use fendle_lang::reasons::relaxed::ends_otherwise;

use crate::bound::{Relaxed, alone_words, no_way_words, puzzle_of_large, relax, relax_kept};
use crate::budget::Budget;

/// Whether a level has more states than are looked through one by one, as far as its ways tell.
#[must_use]
pub fn is_large(game: &Game, budget: &Budget) -> bool {
    puzzle_of_large(game, LARGE_BITS, budget).is_some()
}

/// The relaxed puzzles with which a hunt begins: small ones, or larger ones that were kept from an earlier run.
///
/// # Errors
///
/// The [`Limit`] that stopped it.
pub fn first_relaxed(game: &Game, task: Task, budget: &Budget) -> Result<Relaxed, Limit> {
    if task.size_log2() > LARGE_BITS {
        for effort in [LAST_EFFORT, NEXT_EFFORT] {
            if let Some(kept) = relax_kept(game, &task, effort, budget) {
                return Ok(kept);
            }
        }
    }
    relax(game, task, FIRST_EFFORT, budget)
}

/// What is asked for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Promise {
    /// The best answer that the limits allow.
    #[default]
    Best,
    /// The first solution.
    Any,
    /// Only a solution that is proved to be shortest.
    Shortest,
}

/// Relaxed puzzles before any search.
pub const FIRST_EFFORT: Effort = Effort { positions: 1 << 21, all: 1 << 23 };
/// Those of a search that goes on.
const NEXT_EFFORT: Effort = Effort { positions: 7 << 20, all: 64 << 20 };
/// Those where all else is not enough.
const LAST_EFFORT: Effort = Effort { positions: 60 << 20, all: 200 << 20 };
/// Levels with more bits than this get larger relaxed puzzles where the first are not enough.
pub(crate) const LARGE_BITS: f64 = 30.0;
/// Levels with more are not solved shortest in no time: a solution is shortened first.
const HARD_BITS: f64 = 50.0;
/// States of the first round of a search for any way.
const ROUND: u64 = 60_000;
/// Rounds without a proof, where the first solution is enough.
const ANY_ROUNDS: u32 = 2;
/// States of each depth that the first beam keeps.
const WIDTH: usize = 600;
/// The same of the first beam for a better solution.
const BETTER_WIDTH: usize = 1_500;
/// Rounds.
const ROUNDS: u32 = 9;
/// States from each position of a solution in which it may be shortened.
const SHORTEN_STATES: usize = 2_000;
/// Positions for which deepening is tried first.
const DEEP_STATES: u64 = 4_000_000;
/// States for which the first proof is tried, before any way is looked for with more effort.
pub(crate) const PROOF_STATES: u64 = 2_000_000;

/// How far one way of searching got.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attempt {
    /// Which, in words.
    pub what: &'static str,
    /// States that it saw.
    pub states: u64,
    /// How it ended, in words.
    pub end: String,
}

/// What was found.
#[derive(Default)]
pub struct Hunted {
    /// The best solution, as the search knows it, and the game whose states it names.
    pub route: Option<(Game, Route)>,
    /// No solution has fewer moves; `None`: there is none.
    pub least: Option<u32>,
    /// Why there is none, where that is so.
    pub why_none: Option<WhyNone>,
    /// The limit that ended it.
    pub limit: Option<Limit>,
    /// The model broke.
    pub fault: Option<Faulted>,
    /// States that were seen.
    pub states: u64,
    /// What was tried.
    pub tried: Vec<Attempt>,
}

/// A search for solutions of one game.
pub struct Hunt<'b> {
    game: &'b Game,
    promise: Promise,
    budget: &'b Budget,
    /// Solutions are shortened before a shortest one is looked for.
    shortens: bool,
    /// Rounds at the most.
    rounds: u32,
    /// A search met a state in which the model broke.
    broke: bool,
    out: Hunted,
}

impl<'b> Hunt<'b> {
    /// The same where so many states were seen already: they count against those that are allowed.
    #[must_use]
    pub fn after(mut self, states: u64) -> Hunt<'b> {
        self.out.states += states;
        self
    }

    /// For a game without chance that begins at one position, of which is known that no solution has fewer moves than `least`.
    #[must_use]
    pub fn new(game: &'b Game, promise: Promise, least: u32, budget: &'b Budget) -> Hunt<'b> {
        let out = Hunted { least: Some(least), ..Hunted::default() };
        Hunt { game, promise, budget, shortens: true, rounds: ROUNDS, broke: false, out }
    }

    /// The same with fewer rounds.
    #[must_use]
    pub fn rounds(self, rounds: u32) -> Hunt<'b> {
        Hunt { rounds, ..self }
    }

    /// Searches. `relaxed` is what was found of it already.
    #[must_use]
    pub fn run(mut self, relaxed: Option<Relaxed>) -> Hunted {
        let mut relaxed = relaxed;
        if let Some(r) = &relaxed {
            self.say_no_way(r);
        }
        self.search(&mut relaxed);
        if self.out.limit.is_none() {
            let is_spent = self.is_spent() && !self.is_settled();
            self.out.limit = self.budget.stopped().or(is_spent.then_some(Limit::MaxStates));
        }
        self.out
    }

    /// Whether all states that were asked for have been seen.
    fn is_spent(&self) -> bool {
        self.limits().max_states == 0
    }

    /// What is left of the states that were asked for.
    fn limits(&self) -> Limits {
        let limits = self.budget.limits();
        Limits { max_states: limits.max_states.saturating_sub(self.out.states), ..limits }
    }

    fn is_done(&self) -> bool {
        self.is_settled() || self.out.limit.is_some() || self.is_spent()
    }

    /// Whether all that was asked is known.
    fn is_settled(&self) -> bool {
        let has = self.out.route.is_some();
        let is_enough = has && (self.promise == Promise::Any || self.is_proved());
        self.out.least.is_none() || self.out.fault.is_some() || is_enough
    }

    fn is_proved(&self) -> bool {
        self.out.route.as_ref().is_some_and(|r| self.out.least.is_none_or(|l| l as usize >= r.1.moves.len()))
    }

    fn below(&self) -> u32 {
        self.out.route.as_ref().map_or(u32::MAX, |r| r.1.moves.len() as u32)
    }

    fn say_no_way(&mut self, r: &Relaxed) {
        let says = r.bounds.judge(&r.task).says(&r.task.start);
        match says.least {
            Some(least) => self.rise(least),
            None => {
                self.out.least = None;
                self.out.why_none = Some(why_no_way(r));
            }
        }
    }

    fn rise(&mut self, least: u32) {
        if let Some(known) = &mut self.out.least
            && *known < least
        {
            *known = least;
            self.budget.note_least(least);
        }
    }

    fn search(&mut self, relaxed: &mut Option<Relaxed>) {
        let looking = with_gap(self.game);
        // Where single things move one at a time and a bound adds up, deepening proves most in least time.
        // The ways know nothing of an end that is no goal.
        let deep = !ends_otherwise(self.game)
            && relaxed.as_ref().is_some_and(|r| r.task.exact && is_additive(&r.bounds));
        self.shortens = !deep || relaxed.as_ref().is_none_or(|r| r.task.size_log2() > HARD_BITS);
        for round in 0..self.rounds {
            if self.is_done() {
                return;
            }
            if round > 0 && self.out.route.is_none() || round == 0 {
                self.any_way(relaxed.as_ref(), looking.as_ref(), round);
            }
            if self.is_done() {
                return;
            }
            let more = relaxed.as_ref().and_then(|r| next_effort(r.effort));
            if let (Some(r), Some(more)) = (&*relaxed, more) {
                let is_large = r.task.size_log2() > LARGE_BITS;
                // The largest take longer to make than many boards take to solve.
                if is_large && (deep && r.effort == FIRST_EFFORT || round > 0) {
                    // They take a while: what is known is made better first.
                    if round == 0 && self.shortens && self.out.route.is_some() {
                        self.better(Some(r), looking.as_ref(), 0);
                    }
                    self.budget.note("larger relaxed puzzles");
                    match relax(self.game, r.task.clone(), more, self.budget) {
                        Ok(found) => {
                            self.say_no_way(&found);
                            *relaxed = Some(found);
                        }
                        Err(limit) => self.out.limit = Some(limit),
                    }
                }
            }
            if self.is_done() {
                return;
            }
            if self.shortens && self.out.route.is_some() {
                self.better(relaxed.as_ref(), looking.as_ref(), round);
            }
            if self.is_done() {
                return;
            }
            if self.promise == Promise::Any && round < ANY_ROUNDS {
                continue;
            }
            // A solution that can be proved soon is; on hard boards better ones and better bounds are looked for in turn.
            let more = relaxed.as_ref().and_then(|r| next_effort(r.effort));
            let is_last = round + 1 == ROUNDS || !self.shortens && self.out.route.is_some() && more.is_none();
            match relaxed {
                // The nearest state in which it breaks is looked for, as on small boards.
                _ if self.broke => self.look_through((!is_last).then_some(PROOF_STATES << (2 * round))),
                Some(r) if deep => self.deepen(r, (!is_last).then_some(DEEP_STATES << (2 * round))),
                _ => self.prove(relaxed.as_ref(), (!is_last).then_some(PROOF_STATES << (2 * round))),
            }
        }
    }

    /// One round of searches for any way.
    fn any_way(&mut self, relaxed: Option<&Relaxed>, looking: Option<&Game>, round: u32) {
        let states = ROUND << (2 * round);
        let seed = self.budget.wanted().seed + u64::from(round);
        let best = |paid, least, guess| How::Best(Order { paid, least, guess }, states);
        let beam = |guess, many| {
            let width = WIDTH << (2 * round);
            How::Beam(Wide { width, least: 1, guess, below: u32::MAX, states: 4 * states, seed, many })
        };
        let dive = |prefer, share| How::Dive(Dive { prefer, states: states / share, seed });
        if let Some(r) = relaxed.filter(|r| r.task.exact) {
            let ground = WaysGround::new(&r.task, &r.bounds);
            let moves = |steps: &Steps| ground.moves(steps);
            let own = self.game.apart();
            let on: On = (&ground, (&own, &moves));
            self.try_to("weighted search over ways", on, best(1, 3, 0));
            self.try_to("beam over ways", on, beam(0, false));
            self.try_to("greedy search over ways", on, best(0, 4, 1));
        }
        let Some(looking) = looking else { return };
        let unpack = |state: &[u64], values: &mut Vec<i32>| unpacked(looking, state, values);
        let bounds = relaxed.map(|r| (&r.task, &r.bounds, &unpack as &Unpack));
        let start = looking.pack(&looking.bound.position);
        let ground = Moves { model: looking, start, bounds, asks_promise: true, counts: false };
        let own = self.game.clone();
        let on: On = (&ground, (&own, &moves_of));
        self.try_to("depth first, few moves on", on, dive(Prefer::Few, 4));
        self.try_to("weighted search", on, best(1, 1, 4));
        self.try_to("weighted search, shorter ways", on, best(1, 1, 2));
        self.try_to("greedy search", on, best(0, 1, 1));
        self.try_to("beam", on, beam(1, false));
        self.try_to("beam, many moves on", on, beam(1, true));
        self.try_to("depth first, the nearest", on, dive(Prefer::Near, 2));
        self.try_to("depth first, many moves on", on, dive(Prefer::Many, 4));
    }

    /// A wider beam for a solution that is better than the one known.
    fn better(&mut self, relaxed: Option<&Relaxed>, looking: Option<&Game>, round: u32) {
        self.budget.note("wider beam");
        let wide = Wide {
            width: BETTER_WIDTH << (2 * round),
            least: 1,
            guess: 0,
            below: u32::MAX,
            states: u64::MAX,
            seed: self.budget.wanted().seed + u64::from(round),
            many: false,
        };
        if let Some(r) = relaxed.filter(|r| r.task.exact) {
            let ground = WaysGround::new(&r.task, &r.bounds);
            let below = if ground.is_folded() { u32::MAX } else { self.below() };
            let found = beam::search(&ground, Wide { below, ..wide }, &self.limits(), self.budget);
            let own = self.game.apart();
            self.take("wider beam", found, false, (&own, &|steps: &Steps| ground.moves(steps)));
        } else if let Some(looking) = looking {
            let start = looking.pack(&looking.bound.position);
            let ground = Moves { model: looking, start, bounds: None, asks_promise: true, counts: false };
            let wide = Wide { below: self.below(), guess: 1, many: round % 2 == 1, ..wide };
            let found = beam::search(&ground, wide, &self.limits(), self.budget);
            let own = self.game.clone();
            self.take("wider beam", found, false, (&own, &moves_of));
        }
    }

    /// One search for any way, while there is none.
    fn try_to(&mut self, what: &'static str, (ground, to): On, how: How) {
        if self.is_done() || self.out.route.is_some() {
            return;
        }
        self.budget.note(what);
        let (limits, watch) = (self.limits(), self.budget);
        let found = match how {
            How::Best(order, states) => {
                best::search(ground, Ask { order, any: true, below: u32::MAX, states }, &limits, watch)
            }
            How::Beam(wide) => beam::search(ground, wide, &limits, watch),
            How::Dive(dive) => dive::search(ground, dive, &limits, watch),
        };
        self.take(what, found, matches!(how, How::Best(..)), to);
    }

    /// Takes what a search has found; `proves`: having seen all that is open it has proved that there is nothing.
    fn take(&mut self, what: &'static str, found: Found, proves: bool, (game, moves): Names) {
        self.out.states += found.states;
        self.note_end(what, &found);
        match found.steps {
            Some(steps) => {
                if let Some(route) = route_of(game, &moves(&steps)) {
                    self.improve(game, route);
                }
            }
            None if proves && found.has_seen_all() => self.seen_all(found.states, found.cut),
            None => {}
        }
    }

    /// Notes how a search ended.
    fn note_end(&mut self, what: &'static str, found: &Found) {
        self.out.limit = found.limit.filter(|_| found.steps.is_none());
        self.broke |= found.broke;
        let end = match (&found.steps, found.limit) {
            (Some(steps), _) => format!("found {} steps", steps.len()),
            (_, Some(limit)) => self.budget.words(limit),
            _ if found.broke => "the model broke".into(),
            _ if found.gave_up => "gave up".into(),
            _ => "saw all".into(),
        };
        self.out.tried.push(Attempt { what, states: found.states, end });
    }

    fn seen_all(&mut self, states: u64, cut: u64) {
        self.out.least = None;
        self.out.why_none = Some(WhyNone::Seen { states, cut });
    }

    /// Keeps a way that is better than what is known, shortened where that is wanted.
    fn improve(&mut self, game: &Game, mut route: Route) {
        if route.moves.len() as u32 >= self.below() {
            return;
        }
        self.budget.note_best(route.moves.len());
        if self.promise != Promise::Any && self.shortens {
            self.budget.note("parts of the solution again");
            shorten(game, &mut route, SHORTEN_STATES, self.budget, &mut |n| self.budget.note_best(n));
        }
        self.out.route = Some((game.clone(), route));
    }

    fn deepen(&mut self, r: &Relaxed, looks: Option<u64>) {
        self.budget.note("deepening");
        let budget = self.budget;
        let left = self.limits().max_states;
        let most = looks.unwrap_or(u64::MAX).min(left);
        // Also where a solution of this length is known: the first in move order is told, whatever was found before.
        let below = self.below().saturating_add(1);
        let found = deepen(&r.task, &r.bounds, (below, most), budget, &mut |n| budget.note_least(n));
        self.out.states += found.looked;
        let end = match (&found.moves, found.limit) {
            (Some(moves), _) => format!("found {} moves", moves.len()),
            (_, Some(_)) => format!("looked at all below {}", found.least.unwrap_or(0)),
            _ => "saw all".into(),
        };
        self.out.tried.push(Attempt { what: "deepening", states: found.looked, end });
        match found.least {
            Some(least) => self.rise(least),
            None => self.seen_all(found.looked, 0),
        }
        if let Some(moves) = found.moves {
            let own = self.game.apart();
            if let Some(route) = route_of(&own, &moves) {
                self.rise(moves.len() as u32);
                self.out.route = Some((own, route));
            }
        }
        // What it was given for this round is no limit of the question.
        self.out.limit = found.limit.filter(|l| *l != Limit::MaxStates || most == left);
    }

    /// The least sum first, over the moves themselves.
    fn prove(&mut self, relaxed: Option<&Relaxed>, states: Option<u64>) {
        let game = self.game;
        if relaxed.is_none_or(|r| r.bounds.is_empty()) {
            return self.look_through(states);
        }
        // Where boards that are turned or mirrored are the same, one of them is enough; the ways know nothing of other ends.
        if let Some(r) = relaxed.filter(|r| r.task.exact && !r.task.turns.is_empty() && !ends_otherwise(game))
        {
            let ground = WaysGround::new(&r.task, &r.bounds);
            if !ground.is_folded() {
                let own = game.apart();
                return self.prove_on(&ground, (&own, &|steps: &Steps| ground.moves(steps)), states);
            }
        }
        let unpack = |state: &[u64], values: &mut Vec<i32>| unpacked(game, state, values);
        let bounds = relaxed.map(|r| (&r.task, &r.bounds, &unpack as &Unpack));
        let start = game.pack(&game.bound.position);
        let ground = Moves { model: game, start, bounds, asks_promise: false, counts: false };
        self.prove_on(&ground, (game, &moves_of), states);
    }

    /// The same on one ground.
    fn prove_on(&mut self, ground: &dyn Ground, (game, moves): Names, states: Option<u64>) {
        self.budget.note("shortest ways first");
        let ask = Ask {
            order: Order::SHORTEST,
            any: false,
            below: self.below(),
            states: states.unwrap_or(u64::MAX),
        };
        let found = best::search(ground, ask, &self.limits(), self.budget);
        self.out.states += found.states;
        self.note_end("shortest ways first", &found);
        match found.least {
            None if found.has_seen_all() && self.out.route.is_none() => {
                self.seen_all(found.states, found.cut)
            }
            None => {}
            Some(least) => self.rise(least),
        }
        if let Some(steps) = found.steps
            && let Some(route) = route_of(game, &moves(&steps))
        {
            self.budget.note_best(route.moves.len());
            self.out.route = Some((game.clone(), route));
        }
    }
}

/// That a goal is at least so many moves away.
pub(crate) fn no_goal_words(least: u32) -> String {
    match least.checked_sub(1) {
        Some(moves) => {
            let moves = fendle_core::numbers::counted(moves.into(), "move", "moves");
            format!("no goal within {moves} of the start")
        }
        None => "before anything was looked at".into(),
    }
}

impl Hunt<'_> {
    /// All states, by depth: where no bound tells which are worth more.
    fn look_through(&mut self, states: Option<u64>) {
        self.budget.note("all states, by depth");
        let mut limits = self.limits();
        let wanted = limits.max_states;
        limits.max_states = wanted.min(states.unwrap_or(u64::MAX));
        let Ok(solved) = solve(self.game, limits, self.budget) else { return };
        self.out.states += solved.states;
        let mut end = "saw all".to_string();
        match solved.verdict {
            Verdict::Solvable(route) => {
                end = format!("found {} moves", route.moves.len());
                self.rise(route.moves.len() as u32);
                self.out.route = Some((self.game.clone(), route));
            }
            Verdict::Unsolvable => self.seen_all(solved.states, 0),
            Verdict::Undecided(limit) => {
                self.rise(solved.least);
                end = no_goal_words(solved.least);
                if limit != Limit::MaxStates || limits.max_states == wanted {
                    self.out.limit = Some(limit);
                }
            }
            Verdict::Faulted(fault) => {
                end = "the model broke".into();
                self.out.fault = Some(fault);
            }
        }
        self.out.tried.push(Attempt { what: "all states, by depth", states: solved.states, end });
    }
}

/// Why there is no solution.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WhyNone {
    /// There is no way even in a relaxed puzzle: the things that alone have none.
    Relaxed(Vec<String>),
    /// All states were seen, but those from which relaxed puzzles said that there is no way.
    Seen {
        /// States seen.
        states: u64,
        /// States that were left out.
        cut: u64,
    },
}

impl WhyNone {
    /// In words; `what`: what no state is, such as `won`, and `wants`: who wants it, such as `the goal`.
    #[must_use]
    pub fn words_of(&self, what: &str, wants: &str) -> String {
        match self {
            WhyNone::Relaxed(part) => {
                let alone = alone_words(part, wants);
                format!("{alone}, wherever the rest stands (a relaxed puzzle, seen whole)")
            }
            WhyNone::Seen { states, cut } => {
                let shown = fendle_core::numbers::counted(*states, "state", "states");
                let rest = if *cut == 0 {
                    ""
                } else {
                    ", and from the others relaxed puzzles prove that there is no way"
                };
                format!("none of the {shown} that can be reached is {what}{rest}")
            }
        }
    }

    /// Why there is no solution, in words.
    #[must_use]
    pub fn words(&self) -> String {
        self.words_of("won", "the goal")
    }

    /// For programs.
    #[must_use]
    pub fn json(&self) -> serde_json::Value {
        match self {
            WhyNone::Relaxed(part) => serde_json::json!({"kind": "relaxed puzzle", "dead_part": part}),
            WhyNone::Seen { states, cut } => {
                serde_json::json!({"kind": "exhausted search", "states": states, "cut": cut})
            }
        }
    }
}

/// There is no way even in a relaxed puzzle.
pub(crate) fn why_no_way(r: &Relaxed) -> WhyNone {
    let part = r.bounds.judge(&r.task).no_way(&r.task.start);
    WhyNone::Relaxed(part.map(|p| no_way_words(&r.task, &r.task.start, &p)).unwrap_or_default())
}

/// The game whose moves a way is made of, and how its steps become moves.
type Names<'n> = (&'n Game, &'n dyn Fn(&Steps) -> Vec<MoveId>);

/// What is searched, and what its steps mean.
type On<'n> = (&'n dyn Ground, Names<'n>);

/// How any way is looked for.
#[derive(Clone, Copy)]
enum How {
    /// The most promising state first, and how many states are looked at.
    Best(Order, u64),
    /// The best of each depth.
    Beam(Wide),
    /// Depth first.
    Dive(Dive),
}

fn is_additive(bounds: &Bounds) -> bool {
    bounds.single.is_empty() && bounds.sums.len() == 1 && bounds.sums[0].assigns.is_empty()
}

fn next_effort(effort: Effort) -> Option<Effort> {
    match effort {
        FIRST_EFFORT => Some(NEXT_EFFORT),
        NEXT_EFFORT => Some(LAST_EFFORT),
        _ => None,
    }
}

/// The values of a packed state.
pub(crate) fn unpacked(game: &Game, state: &[u64], values: &mut Vec<i32>) {
    values.resize(game.bound.start.len(), 0);
    game.bound.codec.unpack(state, values);
}

/// The moves of steps that are named by them.
pub(crate) fn moves_of(steps: &Steps) -> Vec<MoveId> {
    steps.iter().map(|s| MoveId(*s)).collect()
}

/// The states that moves without chance lead to; `None` where one of them is not allowed.
pub(crate) fn route_of(game: &Game, moves: &[MoveId]) -> Option<Route> {
    let mut worker = game.worker();
    let mut out = Expansion::default();
    let mut route = Route { moves: moves.to_vec(), states: vec![game.pack(&game.bound.position)] };
    for of in moves {
        let here = route.states.last()?;
        let words = here.len();
        out.clear();
        worker.expand(here, false, &mut out);
        let run = out.runs.iter().position(|r| r.of == *of)?;
        let at: usize = out.runs[..run].iter().map(|r| r.outcomes as usize).sum();
        let next = out.outcomes[at * words..(at + 1) * words].to_vec();
        route.states.push(next);
    }
    Some(route)
}
