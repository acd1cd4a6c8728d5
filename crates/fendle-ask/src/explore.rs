//! The whole reachable space, counted and classified; what it looks like depth by depth; and what a report of a level holds.

use fendle_core::graph::{Distances, by_moves};
use fendle_core::knowledge::Knowing;
use fendle_core::odds::{Fractions, Value, odds};
use fendle_core::{Class, Exploration, Explored, Limit, Limits, Model, Route};
use fendle_lang::reasons::dead::{Gallery, gallery};
use fendle_lang::{Bound, Game};
use serde::Serialize;

use crate::answer::{Answer, Asked, FaultReport, Trouble, Verdict, fault_report, start_breaks};
use crate::budget::Budget;
use crate::knowledge::{Play, play};
use crate::load::{Loaded, Store};
use crate::odds::{Estimate, Odds, answered, at_random};
use crate::position::Position;
use crate::routes::{lucky_names, move_names};
use crate::structure::{Structured, structured};

/// States up to which a report looks for dead parts.
const REPORT_STATES: u64 = 200_000;
/// Numbers of a range for each state, above which a structure is computed from a log of the edges.
const WIDE: u64 = 8;
/// Frames of a report's solution.
const FRAMES: usize = 40;

/// How a space is to be explored.
#[derive(Clone, Copy, Debug, Default)]
pub struct How {
    /// Go on past won states as if they were running.
    pub past_goals: bool,
    /// Also the structure; and whether all parts are tried for idle ones however long it takes.
    pub structure: Option<bool>,
    /// What charts need.
    pub charts: bool,
    /// What a report needs.
    pub report: bool,
}

/// The way to the nearest fatal move: its last move is fatal.
#[derive(Clone, Debug, Serialize)]
pub struct NearestFatal {
    /// The moves.
    pub moves: Vec<String>,
    /// The same with what is drawn on the way.
    #[serde(skip)]
    pub lucky: Vec<String>,
    /// Moves before the fatal one.
    pub depth: usize,
    /// The position from which it is made.
    pub position: Option<Position>,
    /// The position after it.
    #[serde(skip)]
    pub after: Option<Position>,
    /// Its class.
    #[serde(skip)]
    pub after_class: Option<Class>,
}

/// What exploring a level found.
#[derive(Clone, Debug, Serialize)]
pub struct Space {
    /// The counts.
    #[serde(flatten)]
    pub counts: Exploration,
    /// Play went on past won states.
    pub past_goals: bool,
    /// The way to the nearest fatal move.
    pub nearest_fatal_move: Option<NearestFatal>,
    /// `with knowledge` or `layout known`.
    pub played: &'static str,
    /// With knowledge: layouts at the start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layouts: Option<usize>,
    /// With knowledge: the best chance to win.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub best_probability: Option<Option<Value>>,
    /// Games that were played at random, where moves have more outcomes than are written down.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sampled: Option<Estimate>,
    /// The structure, where it was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub structure: Option<Structured>,
    /// Bytes of the tables.
    #[serde(skip)]
    pub table_bytes: u64,
    /// Bits of one state in the tables.
    #[serde(skip)]
    pub table_bits: u32,
    /// Whether the tables hold numbers instead of packed states.
    #[serde(skip)]
    pub tables_hold_numbers: bool,
    /// Whether of each state only a remainder is kept, since memory ran short; its place in the table says the rest.
    #[serde(skip)]
    pub tables_hold_remainders: bool,
    /// How many stills there are, where wide states are kept as a still and moving bits.
    #[serde(skip)]
    pub stills_len: Option<usize>,
    /// What charts draw, where they were asked for.
    #[serde(skip)]
    pub charts: Option<Charts>,
    /// What a report draws, where it was asked for.
    #[serde(skip)]
    pub report: Option<Report>,
}

impl Space {
    /// Whether states are what a player can know.
    #[must_use]
    pub fn is_knowing(&self) -> bool {
        self.layouts.is_some()
    }
}

/// Numbers for charts.
#[derive(Clone, Debug, Default)]
pub struct Charts {
    /// For each depth the states of each class, in the order of [`CLASSES`].
    pub depths: Vec<[u64; 8]>,
    /// Running states by their number of allowed moves; `None` where the transitions were not kept.
    pub branching: Option<Vec<u64>>,
    /// Winnable states by their distance to a goal; `None` where the transitions were not kept, or time ran out.
    pub distances: Option<Vec<u64>>,
}

/// The classes, in the order in which charts stack them.
pub const CLASSES: [Class; 8] = [
    Class::Goal,
    Class::Winnable,
    Class::Free,
    Class::Open,
    Class::Dead,
    Class::Stuck,
    Class::Lost,
    Class::Over,
];

/// What a report of a level holds beside the counts and charts.
#[derive(Clone, Debug, Default)]
pub struct Report {
    /// A shortest solution: the names of its moves, and its positions.
    pub solution: Option<(Vec<String>, Vec<Position>)>,
    /// Chance, where it has a part in it.
    pub odds: Option<Box<Odds>>,
    /// Minimal dead parts.
    pub dead: Option<Gallery>,
}

/// Explores a game, and gives its faults as part of what was found.
///
/// # Errors
///
/// [`Trouble`] when a start cannot be built.
pub fn searched(level: &Loaded, game: &Game, budget: &Budget) -> Result<Explored, Trouble> {
    fendle_core::explore(game, budget.limits(), false, budget).map_err(|f| start_breaks(level, &f))
}

/// The same for at most so many states, where a fault ends the question.
///
/// # Errors
///
/// [`Trouble`] when the model breaks.
pub fn searched_within(
    store: &Store,
    level: &Loaded,
    game: &Game,
    most: u64,
    budget: &Budget,
) -> Result<Explored, Trouble> {
    sound(store, level, fendle_core::explore(game, budget.limits_within(most), false, budget))
}

/// The space of a game of at most so many states; `None` where not all of it was seen, or the model breaks.
pub(crate) fn seen_whole(game: &Game, most: u64, budget: &Budget) -> Option<Explored> {
    let found = fendle_core::explore(game, budget.limits_within(most), false, budget).ok()?;
    (found.counts.is_whole() && found.fault.is_none()).then_some(found)
}

/// The same where something follows that needs time and memory as well: a part of the time that is left, and so many bytes.
///
/// # Errors
///
/// [`Trouble`] when the model breaks.
pub fn searched_in_part(
    store: &Store,
    level: &Loaded,
    part: f64,
    memory_bytes: u64,
    budget: &Budget,
) -> Result<Explored, Trouble> {
    let limits = Limits { memory_bytes, ..budget.limits() };
    sound(store, level, fendle_core::explore(&level.game, limits, false, &budget.share(part)))
}

/// What was seen, where the model does not break.
fn sound(
    store: &Store,
    level: &Loaded,
    found: Result<Explored, fendle_core::Fault>,
) -> Result<Explored, Trouble> {
    let found = found.map_err(|f| start_breaks(level, &f))?;
    match &found.fault {
        Some(fault) => Err(Trouble::Fault(Box::new(fault_report(store, level, fault)))),
        None => Ok(found),
    }
}

/// Whether a space was seen whole by number, and its range has so many more numbers than states that what is asked of its transitions
/// is better asked of a log.
fn is_sparse(found: &Explored) -> bool {
    let space = &found.space;
    let by_number = space.holds_numbers() && !space.has_edges();
    by_number && found.counts.complete && space.ids_len() as u64 > WIDE * found.counts.states
}

/// The same, with states as numbers where that can be and nothing is drawn: then no transition is kept, and the rules can be asked
/// for them again.
///
/// # Errors
///
/// [`Trouble`] when the model breaks.
pub fn searched_by_number(
    store: &Store,
    level: &Loaded,
    game: &Game,
    budget: &Budget,
) -> Result<Explored, Trouble> {
    let explored = |drop_edges: bool| {
        let limits = Limits { drop_edges, ..budget.limits() };
        fendle_core::explore(game, limits, false, budget).map_err(|f| start_breaks(level, &f))
    };
    let mut found = explored(game.is_sure())?;
    if is_sparse(&found) {
        found = explored(false)?;
    }
    match &found.fault {
        Some(fault) => Err(Trouble::Fault(Box::new(fault_report(store, level, fault)))),
        None => Ok(found),
    }
}

/// What is known of a space of information states.
pub struct KnownSpace {
    /// The counts.
    pub counts: Exploration,
    /// Every start can be won, whatever is hidden.
    pub certain: bool,
    /// The fault that ended it.
    pub fault: Option<FaultReport>,
    /// The space behind it.
    pub found: Explored,
}

impl KnownSpace {
    /// Whether a goal can be reached: seen to be, seen not to be, or not decided.
    #[must_use]
    pub fn verdict(&self) -> Verdict {
        match (self.counts.goal > 0, self.limit(), &self.fault) {
            (true, ..) => Verdict::Holds,
            (false, None, None) => Verdict::Fails,
            _ => Verdict::Undecided,
        }
    }

    /// What was not seen, and why.
    #[must_use]
    pub fn limit(&self) -> Option<Limit> {
        self.counts.cut_short()
    }
}

/// Explores what a player can know.
///
/// # Errors
///
/// [`Trouble`] when a start cannot be built.
pub fn what_is_known(
    store: &Store,
    level: &Loaded,
    play: &Play<'_>,
    budget: &Budget,
) -> Result<KnownSpace, Trouble> {
    let (model, _, limits) = play.on(&level.game, budget);
    let found = fendle_core::explore(model, limits, false, budget).map_err(|f| start_breaks(level, &f))?;
    Ok(KnownSpace {
        counts: found.counts.clone(),
        certain: found.space.starts().iter().all(|id| found.space.is_certain(*id)),
        fault: known_fault(store, level, play, &found),
        found,
    })
}

/// The fault of a space. Of one of information states the way is a way of what is known: only the place is told.
fn known_fault(store: &Store, level: &Loaded, play: &Play<'_>, found: &Explored) -> Option<FaultReport> {
    let fault = found.fault.as_ref()?;
    if !play.is_knowing() {
        return Some(fault_report(store, level, fault));
    }
    let place = fendle_core::explore::Faulted { fault: fault.fault, route: Route::default() };
    let mut report = fault_report(store, level, &place);
    report.diagnostic.notes = vec!["met while playing with what can be known; --known shows where".into()];
    report.position = None;
    Some(report)
}

/// Draws states of a game, or of what is known of it.
pub struct Drawer<'g> {
    game: &'g Game,
    knowing: Option<&'g Knowing<'g>>,
    shown: Bound,
}

impl<'g> Drawer<'g> {
    /// For a level as it is played.
    #[must_use]
    pub fn new(game: &'g Game, play: &'g Play<'g>) -> Drawer<'g> {
        match play {
            Play::Open => Drawer { game, knowing: None, shown: game.bound.clone() },
            Play::Knowing(k, _) => {
                let seen = vec![None; game.bound.seen.len()];
                let shown = Bound { as_player: true, seen, ..game.bound.clone() };
                Drawer { game, knowing: Some(k), shown }
            }
        }
    }

    /// A packed state as a position; of an information state one world that stands for it, as the player sees it.
    #[must_use]
    pub fn position(&self, words: &[u64]) -> Position {
        let state = match self.knowing {
            None => self.game.unpack(words),
            Some(k) => self.game.unpack(&k.worlds(k.number(words))[0].0),
        };
        Position::new(&self.shown, &state)
    }
}

/// Explores a level.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to explore.
pub fn explore(store: &Store, level: &Loaded, how: How, budget: &Budget) -> Result<Answer<Space>, Trouble> {
    let play = play(level, true, "explore", budget)?;
    let (model, worlds, limits) = play.on(&level.game, budget);
    // The structure and charts ask for the edges again; where states are numbers and draw nothing they ask the rules.
    let wanted = how.structure.is_some() || how.charts || how.report;
    let keep = wanted && !model.is_sure() || worlds > 0;
    let explored = |keep: bool| {
        let limits = Limits { drop_edges: !keep, ..limits };
        fendle_core::explore(model, limits, how.past_goals, budget).map_err(|f| start_breaks(level, &f))
    };
    let mut found = explored(keep)?;
    if wanted && is_sparse(&found) {
        found = explored(true)?;
    }
    let limits = Limits { drop_edges: !keep, ..limits };
    let drawer = Drawer::new(&level.game, &play);
    let fault = known_fault(store, level, &play, &found);
    let whole = found.counts.limit.is_none() && fault.is_none();
    // With knowledge the best chance to win belongs to the space.
    let best = match (worlds > 0 && whole, level.game.bound.model.has_goal()) {
        (true, true) => odds(model, &limits, Fractions::WhereSmall, budget).ok().and_then(|a| a.win),
        _ => None,
    };
    let wanted = how.structure.filter(|_| fault.is_none());
    let structure =
        wanted.map(|idle| structured(level, model, &found, &limits, (worlds == 0, idle), budget, &drawer));
    let charts = how.charts.then(|| charts(model, &found, budget));
    let report = how.report.then(|| report(level, &found, worlds > 0, &limits, budget));
    let c = &found.counts;
    let sampled = match c.limit {
        Some(Limit::Outcomes) if worlds == 0 => at_random(model, budget).map_err(|f| {
            let place = fendle_core::explore::Faulted { fault: f, ..Default::default() };
            Trouble::Fault(Box::new(fault_report(store, level, &place)))
        })?,
        _ => None,
    };
    let limit = c.limit.or(structure.as_ref().and_then(Structured::limit));
    let space = Space {
        past_goals: how.past_goals,
        nearest_fatal_move: found.nearest_fatal.as_ref().map(|r| nearest(level, &found, &drawer, r)),
        played: if worlds > 0 { "with knowledge" } else { "layout known" },
        layouts: (worlds > 0).then_some(worlds),
        best_probability: (worlds > 0).then_some(best),
        sampled,
        structure,
        table_bytes: found.space.bytes(),
        table_bits: found.space.bits(),
        tables_hold_numbers: found.space.holds_numbers(),
        tables_hold_remainders: found.space.holds_remainders(),
        stills_len: found.space.stills_len(),
        charts,
        report,
        counts: c.clone(),
    };
    let holds = if limit.is_none() { Verdict::Holds } else { Verdict::Undecided };
    let states = c.states;
    Ok(Answer::new(Asked::known(level), holds, space)
        .stopped(limit, budget)
        .faulted(fault)
        .took(budget, states))
}

fn nearest(level: &Loaded, found: &Explored, drawer: &Drawer<'_>, route: &Route) -> NearestFatal {
    let lucky = match drawer.knowing {
        Some(_) => move_names(level, &Route { moves: route.moves.clone(), states: vec![] }),
        None => lucky_names(level, route),
    };
    let moves = match drawer.knowing {
        Some(_) => lucky.clone(),
        None => move_names(level, route),
    };
    let n = route.states.len();
    NearestFatal {
        moves,
        lucky,
        depth: route.moves.len().saturating_sub(1),
        position: n.checked_sub(2).map(|i| drawer.position(&route.states[i])),
        after: route.states.last().map(|s| drawer.position(s)),
        after_class: route.states.last().and_then(|s| found.space.find(s)).map(|id| found.space.class(id)),
    }
}

/// The numbers behind the charts of a space.
fn charts(model: &dyn Model, found: &Explored, budget: &Budget) -> Charts {
    let space = &found.space;
    let mut depths = vec![[0u64; 8]; space.levels_len() as usize];
    for id in space.ids() {
        let class = space.class(id);
        let row = &mut depths[space.depth_of(id) as usize];
        row[CLASSES.iter().position(|c| *c == class).unwrap_or(3)] += 1;
    }
    let mut out = Charts { depths, ..Charts::default() };
    let limits = budget.limits();
    if let Ok(Some(transitions)) = found.transitions(model, &limits, budget) {
        out.branching = Some(by_moves(&transitions));
        drop(transitions);
        let far = Distances::of_explored(model, found, &limits, budget).ok();
        out.distances = far.map(|far| far.to_goal(space));
    }
    out
}

/// What a report of a level holds, each part where it is known in time.
fn report(level: &Loaded, found: &Explored, knowing: bool, limits: &Limits, budget: &Budget) -> Report {
    let (game, c) = (&level.game, &found.counts);
    let mut out = Report::default();
    if knowing {
        return out;
    }
    if let Ok(Some(route)) = found.solution(game, budget) {
        let positions = route.states.iter().take(FRAMES);
        let positions = positions.map(|w| Position::new(&game.bound, &game.unpack(w))).collect();
        out.solution = Some((lucky_names(level, &route), positions));
    }
    // What each move is worth, where chance has a part in it.
    if c.chance
        && c.limit.is_none()
        && let Ok(a) = odds(game, limits, Fractions::WhereSmall, budget)
    {
        out.odds = Some(Box::new(answered(level, &a.counts, Some(&a), vec![], 0)));
    }
    if game.bound.canon.is_none() && c.winnable > 0 && c.dead + c.stuck > 0 && c.states <= REPORT_STATES {
        out.dead = Some(gallery(game, &found.space, 12, &mut || budget.is_stopped()));
    }
    out
}

/// The verdict on a space, as an answer says it first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SpaceVerdict {
    /// A goal can be reached, in so many moves at the least.
    Solvable(Option<u32>),
    /// A goal can be reached if draws fall well; `certain`: from every running state against every draw.
    Possible {
        /// Whether every running state can be won against every draw.
        certain: bool,
        /// Least moves if lucky.
        moves: u32,
    },
    /// There is no goal in the model.
    NoGoal,
    /// Everything was seen and nothing is won.
    Unsolvable,
    /// No goal was seen, and branches of chance were set aside.
    SetAside,
    /// No goal was seen, and not everything was seen.
    NotSeen,
}

impl SpaceVerdict {
    /// Of these counts.
    #[must_use]
    pub fn of(c: &Exploration) -> SpaceVerdict {
        if c.goal > 0 {
            match c.shortest {
                Some(moves) if c.chance && moves > 0 => {
                    let certain = c.certain == c.winnable && c.dead + c.lost + c.stuck + c.over == 0;
                    SpaceVerdict::Possible { certain, moves }
                }
                shortest => SpaceVerdict::Solvable(shortest),
            }
        } else if c.free > 0 {
            SpaceVerdict::NoGoal
        } else if c.cut && c.complete {
            SpaceVerdict::SetAside
        } else if c.complete {
            SpaceVerdict::Unsolvable
        } else {
            SpaceVerdict::NotSeen
        }
    }
}
