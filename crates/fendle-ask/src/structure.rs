//! The structure of a space: where it dies and how late that shows, what every solution must do, how wide the way is, what
//! of the level is not needed.

use fendle_core::graph::Distances;
use fendle_core::structure::{NotSeen, Structure, structure};
use fendle_core::{Explored, Limit, Limits, Model, solve};
use fendle_lang::Game;
use fendle_lang::reasons::parts::{Removed, goal_done, without_each};
use fendle_lang::run::Eval;
use serde::{Serialize, Serializer};
use serde_json::json;

use crate::budget::Budget;
use crate::explore::Drawer;
use crate::load::Loaded;
use crate::position::Position;
use crate::routes::{call_text, played_route};
use fendle_core::numbers::{counted, grouped};

/// States that may be searched, all levels with something taken out together, without being asked to.
const IDLE_STATES: u64 = 4_000_000;
/// States by which it is told which cells are one body.
const BODY_STATES: usize = 2_000;
/// States above which the model's bound is looked at on the solution only.
const BOUND_STATES: u64 = 300_000;

/// A move of a shortest solution that seems to go away from the goal.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Detour {
    /// Its number in the solution, from 1.
    pub number: usize,
    /// The move.
    #[serde(rename = "move")]
    pub name: String,
    /// Parts of the goal that were done and are not any more.
    pub parts_undone: usize,
    /// The bound before and after, where it grows.
    pub bound: Option<(i64, i64)>,
}

/// Where the model's bound is broken first.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct BrokenBound {
    /// The position.
    pub position: Position,
    /// The moves that the bound says are needed.
    pub says: i64,
    /// The moves that are enough.
    pub moves: u32,
}

/// What the model's bound on the moves left is worth.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct BoundCheck {
    /// States looked at.
    pub states: u64,
    /// All that can be won.
    pub whole: bool,
    /// How often it says more moves than are needed.
    pub broken: u64,
    /// The first such state.
    pub first: Option<BrokenBound>,
}

/// A part of a level without which nothing changes.
#[derive(Clone, Debug, PartialEq)]
pub struct IdlePart {
    /// What kind of thing.
    pub kind: Removed,
    /// What it is.
    pub name: String,
    /// Where it is.
    pub cell: String,
}

impl Serialize for IdlePart {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        json!({"kind": self.kind.word(), "what": self.name, "at": self.cell}).serialize(s)
    }
}

/// Walls, pieces and cells without which nothing changes.
#[derive(Clone, Debug, PartialEq)]
pub enum Idle {
    /// Tried.
    Tried {
        /// How many parts.
        tried: usize,
        /// Those that are idle.
        idle: Vec<IdlePart>,
        /// Those that were not decided within the limits.
        open: usize,
    },
    /// Not tried, and why.
    NotTried(String),
    /// Stopped before all were tried.
    Stopped(Limit),
}

impl Serialize for Idle {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        match self {
            Idle::Tried { tried, idle, open } => json!({"tried": tried, "undecided": open, "idle": idle}),
            Idle::NotTried(why) => json!({"tried": 0, "why": why}),
            Idle::Stopped(limit) => {
                json!({"tried": 0, "why": "stopped before all were tried", "limit": limit})
            }
        }
        .serialize(s)
    }
}

/// What was found of the structure, where there is one.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Parts {
    /// The structure itself.
    #[serde(flatten)]
    pub structure: Structure,
    /// Positions on every way from the start to a goal, in the order of the ways, with their depths.
    pub must_pass: Vec<Position>,
    /// Their depths.
    #[serde(skip)]
    pub must_pass_depths: Vec<u32>,
    /// Moves of a shortest solution that go away from the goal.
    pub detours: Option<Vec<Detour>>,
    /// What the model's bound is worth.
    pub bound: Option<BoundCheck>,
    /// Parts of the level that are not needed.
    pub idle: Idle,
    /// Every move has one outcome.
    #[serde(skip)]
    pub sure: bool,
}

/// The structure of a space, or why there is none.
#[derive(Clone, Debug, PartialEq)]
pub struct Structured(pub Result<Box<Parts>, NotSeen>);

impl Structured {
    /// The limit that cut it short, if one did.
    #[must_use]
    pub fn limit(&self) -> Option<Limit> {
        match &self.0 {
            Err(NotSeen::Stopped(limit)) => Some(*limit),
            Err(NotSeen::Memory { .. }) => Some(Limit::Memory),
            Err(NotSeen::Open) => None,
            Ok(parts) => match parts.idle {
                Idle::Stopped(limit) => Some(limit),
                _ => None,
            },
        }
    }
}

impl Serialize for Structured {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        match &self.0 {
            Ok(parts) => {
                let mut value = json!(parts);
                value["computed"] = json!(true);
                value["delay"]["mean"] = json!(parts.structure.delay.mean());
                value.serialize(s)
            }
            Err(e) => {
                let why = match e {
                    NotSeen::Open => "the space was not seen whole".to_string(),
                    NotSeen::Memory { bytes } => format!("it takes {bytes} bytes more"),
                    NotSeen::Stopped(_) => "stopped".into(),
                };
                json!({"computed": false, "why": why}).serialize(s)
            }
        }
    }
}

/// Computes the structure and what belongs to it. `known`: the layout is, or nothing is hidden; `idle`: idle parts are
/// tried however long it takes.
#[must_use]
pub fn structured(
    level: &Loaded,
    model: &dyn Model,
    found: &Explored,
    limits: &Limits,
    (known, idle): (bool, bool),
    budget: &Budget,
    drawer: &Drawer<'_>,
) -> Structured {
    let game = &level.game;
    let (s, far) = match structure(model, found, limits, budget) {
        Ok(pair) => pair,
        Err(e) => return Structured(Err(e)),
    };
    let plain = known && game.starts.len() <= 1;
    let idle = match (plain, game.bound.model.has_goal()) {
        (true, true) if found.counts.shortest.is_none() => Idle::NotTried(
            "this level cannot be won: nothing that is taken out could change that for the worse".into(),
        ),
        (true, true) => idle_parts(game, found, limits, idle, budget),
        _ => Idle::NotTried("asked of levels with one start, a goal and nothing hidden, seen whole".into()),
    };
    let parts = Parts {
        must_pass: s.must_pass.iter().map(|id| drawer.position(&found.space.state(*id))).collect(),
        must_pass_depths: s.must_pass.iter().map(|id| found.space.depth_of(*id)).collect(),
        detours: if plain { detours(level, found, budget) } else { None },
        bound: if plain { check_bound(game, found, &far, budget) } else { None },
        idle,
        sure: model.is_sure(),
        structure: s,
    };
    Structured(Ok(Box::new(parts)))
}

/// The moves of the first shortest solution that go away from the goal.
fn detours(level: &Loaded, found: &Explored, budget: &Budget) -> Option<Vec<Detour>> {
    let game = &level.game;
    let b = &game.bound;
    let route = found.solution(game, budget).ok()??;
    let played = played_route(game, &level.moves, &route).ok()?;
    let mut out = vec![];
    for (i, (pair, (n, p))) in played.states.windows(2).zip(&played.moves).enumerate() {
        let bound = b.model.bound.as_ref().and_then(|(body, _)| {
            let mut eval = Eval::new(b);
            let (was, is) = (eval.value_in(body, &pair[0]).ok()?, eval.value_in(body, &pair[1]).ok()?);
            (is > was).then_some((was, is))
        });
        let parts_undone = match (goal_done(b, &pair[0]), goal_done(b, &pair[1])) {
            (Some(was), Some(is)) if was.len() == is.len() => {
                was.iter().zip(&is).filter(|(was, is)| **was && !**is).count()
            }
            _ => 0,
        };
        if bound.is_some() || parts_undone > 0 {
            let name = call_text(level.moves.name(*n), p);
            out.push(Detour { number: i + 1, name, bound, parts_undone });
        }
    }
    Some(out)
}

/// Compares the model's bound with the true distances.
fn check_bound(game: &Game, found: &Explored, far: &Distances, budget: &Budget) -> Option<BoundCheck> {
    let (body, _) = game.bound.model.bound.as_ref()?;
    let (space, mut eval) = (&found.space, Eval::new(&game.bound));
    let mut whole = found.counts.states <= BOUND_STATES;
    let mut out = BoundCheck { states: 0, whole, broken: 0, first: None };
    let levels = if whole { space.levels_len() } else { found.counts.shortest.unwrap_or(0).min(1) };
    for id in (0..levels).flat_map(|d| space.level(d)) {
        if out.states % 64 == 63 && budget.is_stopped() {
            whole = false;
            break;
        }
        if !space.class(id).is_hopeful() {
            continue;
        }
        let Some(d) = far.get(id) else { continue };
        let state = game.unpack(&space.state(id));
        let Ok(says) = eval.value_in(body, &state) else { continue };
        out.states += 1;
        if says > i64::from(d) {
            out.broken += 1;
            let position = || Position::new(&game.bound, &state);
            out.first.get_or_insert_with(|| BrokenBound { position: position(), says, moves: d });
        }
    }
    out.whole = whole;
    Some(out)
}

/// Takes each wall, piece and cell out alone and solves the level again.
fn idle_parts(game: &Game, found: &Explored, limits: &Limits, anyway: bool, budget: &Budget) -> Idle {
    // Some states of all kinds show which cells of a grid are one body.
    let space = &found.space;
    let some = space.sample(BODY_STATES);
    let reached: Vec<Vec<i32>> = some.iter().map(|id| game.unpack(&space.state(*id))).collect();
    let list = without_each(&game.bound, &reached);
    let work = found.counts.states.saturating_mul(list.len() as u64);
    if work > IDLE_STATES && !anyway {
        return Idle::NotTried(format!(
            "not tried: {} levels with one part taken out, of about {} each; --idle tries them",
            grouped(list.len() as u64),
            counted(found.counts.states, "state", "states")
        ));
    }
    let most = found.counts.states.saturating_mul(8).saturating_add(100_000).min(limits.max_states);
    let limits = Limits { max_states: most, ..*limits };
    let tried = list.len();
    let (mut idle, mut open) = (vec![], 0);
    let least = found.counts.shortest;
    for without in list {
        if let Some(limit) = budget.stopped() {
            return Idle::Stopped(limit);
        }
        let part = IdlePart { kind: without.kind, name: without.name.clone(), cell: without.cell.clone() };
        let Ok(game) = without.game() else { continue };
        match solve(&game, limits, budget).map(|s| s.verdict) {
            Ok(fendle_core::Verdict::Solvable(route)) if least == Some(route.moves.len() as u32) => {
                idle.push(part);
            }
            Ok(fendle_core::Verdict::Undecided(limit @ (Limit::Interrupted | Limit::Time))) => {
                return Idle::Stopped(limit);
            }
            Ok(fendle_core::Verdict::Undecided(_)) => open += 1,
            // A model that breaks without the part needs it.
            _ => {}
        }
    }
    Idle::Tried { tried, idle, open }
}
