//! What chance does to a level, and what each move is worth.

use fendle_core::odds::{AimValue, Answers, Fractions, NoOdds, Value, odds};
use fendle_core::simulate::{
    AHEAD_TOGETHER, Dice, Policy, Simulated, mean_interval, share_interval, simulate,
};
use fendle_core::{Aim, Exploration, Limit, Model};
use fendle_lang::run::setup;
use serde::{Serialize, Serializer};
use serde_json::json;

use crate::answer::{Answer, Asked, Trouble, Verdict, fault_report, start_breaks};
use crate::budget::Budget;
use crate::knowledge::{Play, alike, play};
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::routes::move_names;

/// Plays where an exact answer is out of reach and nobody says how many.
const PLAYS: u64 = 2_000;
/// States that look-ahead may look at for each move, where nobody says how many.
pub const AHEAD: u64 = 3_000;
/// States that may be looked at for all plays of such an estimate; a move counts as some of them, so that games without an end do not go on
/// for ever.
const AHEAD_WORK: u64 = 20_000_000;
/// Worlds that are weighed in the time in which a state is looked at.
const WORLDS_A_STATE: u64 = 4;
/// Moves after which a simulated play is broken off.
pub const MOVES_MAX: u64 = 10_000;

/// What a move from the start is worth.
#[derive(Clone, Debug, Serialize)]
pub struct MoveWorth {
    /// The move.
    #[serde(rename = "move")]
    pub name: String,
    /// How many outcomes it has.
    pub outcomes: u32,
    /// The best probability to win after it.
    pub best_probability: Option<Value>,
    /// The best value of the aim after it.
    pub aim: Option<Value>,
}

/// The best value of the aim.
#[derive(Clone, Debug)]
pub struct AimAnswer(pub AimValue);

impl Serialize for AimAnswer {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        match &self.0 {
            AimValue::Best(v) => v.serialize(s),
            AimValue::Unbounded(_) => json!({"unbounded": true}).serialize(s),
            AimValue::NeverEnds => json!({"no_play_ends": true}).serialize(s),
            AimValue::Unknown(why) => json!({"unknown": why}).serialize(s),
        }
    }
}

/// Played games, as an estimate.
#[derive(Clone, Debug, Serialize)]
pub struct Estimate {
    /// The policy: `random`, `greedy`, or `ahead:N`.
    pub policy: String,
    /// The seed.
    pub seed: u64,
    /// Plays that were played.
    pub plays: u64,
    /// Won plays.
    pub won: u64,
    /// Plays broken off after [`MOVES_MAX`] moves, or when their share of the effort was used up.
    pub unfinished: u64,
    /// Nothing is drawn, and the policy draws nothing: every play is the same, and one was played.
    #[serde(skip_serializing_if = "is_false")]
    pub every_play_the_same: bool,
    /// 95 % interval of the share of won plays.
    pub win_share_95: (f64, f64),
    /// Mean score.
    pub mean_score: f64,
    /// 95 % interval of the mean score.
    pub mean_score_95: (f64, f64),
    /// Mean number of moves.
    pub mean_moves: f64,
    /// States looked at to choose a move, in the mean.
    pub states_a_move: f64,
    /// Against the first policy that was asked for, play by play on the same draws as long as play is the same: 95 % intervals
    /// of the difference of the share of won plays, and of the score.
    pub difference_95: Option<((f64, f64), (f64, f64))>,
}

impl Estimate {
    fn of(e: &Simulated, policy: Policy, seed: u64, first: Option<&Simulated>) -> Estimate {
        let plays = e.plays.max(1) as f64;
        let difference = |f: &Simulated| {
            let pairs = || e.each.iter().zip(&f.each);
            let interval = |of: &dyn Fn(&(bool, f64)) -> f64| {
                let each: Vec<f64> = pairs().map(|(a, b)| of(a) - of(b)).collect();
                let squares = each.iter().map(|d| d * d).sum();
                mean_interval(each.iter().sum(), squares, each.len() as u64)
            };
            (interval(&|p| f64::from(u8::from(p.0))), interval(&|p| p.1))
        };
        let exact = |of: f64, else_: (f64, f64)| if e.same && e.unfinished == 0 { (of, of) } else { else_ };
        Estimate {
            policy: policy_word(policy),
            seed,
            plays: e.plays,
            won: e.won,
            unfinished: e.unfinished,
            every_play_the_same: e.same,
            win_share_95: exact(e.won as f64, share_interval(e.won, e.plays)),
            mean_score: e.score.0 / plays,
            mean_score_95: exact(e.score.0, mean_interval(e.score.0, e.score.1, e.plays)),
            mean_moves: e.moves as f64 / plays,
            states_a_move: e.looked_at as f64 / e.moves.max(1) as f64,
            difference_95: first.map(difference),
        }
    }
}

// Serde asks it of a reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_false(b: &bool) -> bool {
    !*b
}

/// The name of a policy.
#[must_use]
pub fn policy_word(policy: Policy) -> String {
    match policy {
        Policy::Random => "random".into(),
        Policy::Greedy => "greedy".into(),
        Policy::Ahead(states) => format!("ahead:{states}"),
    }
}

/// What chance does to a level.
#[derive(Clone, Debug, Serialize)]
pub struct Odds {
    /// `with knowledge` or `layout known`.
    pub played: &'static str,
    /// Everything was seen.
    pub complete: bool,
    /// States seen.
    pub states: u64,
    /// No goal was seen but by a game that was played.
    #[serde(skip_serializing_if = "is_false")]
    pub possible_by_play: bool,
    /// Information states that differ only in which cell is which, or in names, were counted once.
    #[serde(skip_serializing_if = "is_false")]
    pub alike_once: bool,
    /// Whether a goal can be reached at all; `None`: not known.
    pub possible: Option<bool>,
    /// Least moves to a goal, if everything falls well.
    pub shortest_if_lucky: Option<u32>,
    /// Some way of playing wins against every draw.
    pub certain: Option<bool>,
    /// Some way of playing wins with probability 1.
    pub almost_certain: Option<bool>,
    /// The best probability to win.
    pub best_probability: Option<Value>,
    /// The least expected number of moves.
    pub least_expected_moves: Option<Value>,
    /// The best value of the aim.
    pub aim: Option<AimAnswer>,
    /// A play that reaches it.
    pub aim_play: Option<Vec<String>>,
    /// Where it has no bound: the moves of a cycle that gains every time round.
    pub aim_cycle: Option<Vec<String>>,
    /// Where fractions were asked for: whether they grew past the budget, or were not proved.
    pub no_fractions: bool,
    /// The greatest chance with which one move is set aside.
    #[serde(serialize_with = "as_exact")]
    pub set_aside_most: Option<Value>,
    /// Fatal moves in the space.
    pub fatal_moves: u64,
    /// Fatal draws.
    pub fatal_draws: u64,
    /// Moves that only lower the best probability.
    pub blunders: Option<u64>,
    /// What each move from the start is worth.
    pub moves: Option<Vec<MoveWorth>>,
    /// Played games, one entry a policy.
    pub estimates: Vec<Estimate>,
    /// Layouts at the start, with knowledge; 0 without.
    #[serde(skip)]
    pub layouts: usize,
    /// The model has a goal.
    #[serde(skip)]
    pub has_goal: bool,
    /// Chance takes part.
    #[serde(skip)]
    pub chance: bool,
    /// What is to be made most or least of.
    #[serde(skip)]
    pub wanted: Option<Aim>,
    /// Winnable states.
    #[serde(skip)]
    pub winnable: u64,
    /// How many starts there are.
    #[serde(skip)]
    pub starts: usize,
    /// Where play begins.
    #[serde(skip)]
    pub position: Position,
}

/// An exact value as its fraction.
fn as_exact<S: Serializer>(value: &Option<Value>, s: S) -> Result<S::Ok, S::Error> {
    match value {
        Some(Value::Exact(r)) => s.serialize_str(&r.to_string()),
        other => other.serialize(s),
    }
}

impl Odds {
    /// Whether there are exact answers, or bounds that hold.
    #[must_use]
    pub fn is_answered(&self) -> bool {
        self.moves.is_some()
    }
}

/// The answer for an explored level; `worlds`: layouts at the start, with knowledge.
#[must_use]
pub fn answered(
    level: &Loaded,
    c: &Exploration,
    a: Option<&Answers>,
    estimates: Vec<Estimate>,
    worlds: usize,
) -> Odds {
    let game = &level.game;
    let whole = c.limit.is_none() && !c.cut;
    let mut b = game.bound.clone();
    b.as_player |= worlds > 0;
    Odds {
        played: if worlds > 0 { "with knowledge" } else { "layout known" },
        complete: c.is_whole(),
        states: c.states,
        possible: if c.goal > 0 { Some(true) } else { whole.then_some(false) },
        shortest_if_lucky: c.shortest,
        certain: a.map(|a| a.certain).filter(|yes| *yes || whole),
        almost_certain: a.map(|a| a.almost_certain).filter(|yes| *yes || whole),
        best_probability: a.and_then(|a| a.win.clone()),
        least_expected_moves: a.and_then(|a| a.moves.clone()),
        aim: a.and_then(|a| a.aim.clone()).map(AimAnswer),
        aim_play: a.and_then(|a| a.aim_play.as_ref()).map(|p| move_names(level, p)),
        aim_cycle: a.and_then(|a| match &a.aim {
            Some(AimValue::Unbounded(Some(cycle))) => Some(move_names(level, cycle)),
            _ => None,
        }),
        no_fractions: a.is_some_and(|a| a.no_fractions),
        set_aside_most: a.and_then(|a| a.aside.as_ref()).map(|x| Value::Exact(x.0.clone())),
        fatal_moves: c.fatal_moves,
        fatal_draws: c.fatal_draws,
        blunders: a.and_then(|a| a.blunders),
        moves: a.map(|a| {
            let one = |m: &fendle_core::odds::MoveOdds| MoveWorth {
                name: game.move_name(m.of),
                outcomes: m.outcomes,
                best_probability: m.win.clone(),
                aim: m.aim.clone(),
            };
            a.from_start.iter().map(one).collect()
        }),
        estimates,
        alike_once: false,
        possible_by_play: false,
        layouts: worlds,
        has_goal: game.has_goal(),
        chance: c.chance,
        wanted: game.aim(),
        winnable: c.winnable,
        starts: c.per_depth.first().map_or(1, |n| *n as usize),
        position: Position::new(&b, &b.position),
    }
}

/// How it is asked.
#[derive(Clone, Debug, Default)]
pub struct How {
    /// Games to be played too.
    pub plays: Option<u64>,
    /// How they are played; nothing leaves it to Fendle.
    pub policies: Vec<Policy>,
    /// When values are fractions, too.
    pub fractions: Fractions,
}

/// Asks what chance does to a level.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to be explored.
pub fn ask(store: &Store, level: &Loaded, how: How, budget: &Budget) -> Result<Answer<Odds>, Trouble> {
    let game = &level.game;
    let alike = alike(level, true, budget)?;
    let once = alike.is_some();
    let play = match alike {
        Some(knowing) => {
            let layouts = usize::try_from(knowing.layouts()).unwrap_or(usize::MAX);
            Play::Knowing(Box::new(knowing), layouts)
        }
        None => play(level, true, "odds", budget)?,
    };
    let (model, worlds, limits) = play.on(game, budget);
    let broke = |f| start_breaks(level, &f);
    let asked = Asked::known(level);
    // Where exact answers may be out of reach, some of the time is kept for playing.
    let share = budget.share(if model.is_sure() { 1.0 } else { EXACT_SHARE });
    let (counts, answers) = match odds(model, &limits, how.fractions, &share) {
        Ok(a) => (a.counts.clone(), Some(a)),
        Err(NoOdds::Limit(_, counts)) => (*counts, None),
        Err(NoOdds::Fault(fault)) => {
            // Where it broke, by the shortest way, is a matter of the whole space.
            let found = fendle_core::explore(model, limits, false, budget).map_err(broke)?;
            let place = match (&found.fault, worlds) {
                (Some(found), 0) => found.clone(),
                _ => fendle_core::explore::Faulted { fault, ..Default::default() },
            };
            let report = fault_report(store, level, &place);
            let none = answered(level, &found.counts, None, vec![], worlds);
            let answer = Answer::new(asked, Verdict::Undecided, none).faulted(Some(report));
            return Ok(answer.took(budget, found.counts.states));
        }
    };
    let states = counts.states;
    let mut limit = counts.limit;
    let whole = limit.is_none();
    // Where exact answers are out of reach, played games; they say so.
    let mut estimates = vec![];
    if (how.plays.is_some() || !how.policies.is_empty() || !whole) && limit != Some(Limit::Interrupted) {
        let (found, stopped) = estimated(model, worlds, &how, budget).map_err(broke)?;
        // Without exact answers what stopped these is named, unless somebody has interrupted since.
        if whole || stopped == Some(Limit::Interrupted) {
            limit = stopped;
        }
        estimates = found;
    }
    let holds = if whole { Verdict::Holds } else { Verdict::Undecided };
    let mut odds = answered(level, &counts, answers.as_ref(), estimates, worlds);
    odds.alike_once = once;
    // What was reached once can be reached.
    if odds.possible != Some(true) && odds.estimates.iter().any(|e| e.won > 0) {
        odds.possible = Some(true);
        odds.possible_by_play = true;
    }
    Ok(Answer::new(asked, holds, odds).stopped(limit, budget).took(budget, states))
}

/// The share of the time that is given to exact answers, where played games may have to follow.
const EXACT_SHARE: f64 = 0.4;

/// Plays that are played at random where a space cannot be written down.
const AT_RANDOM: u64 = 200;

/// What games that are played at random come to; `None` where the time did not last for one.
///
/// # Errors
///
/// The fault that was met.
pub(crate) fn at_random(
    model: &dyn Model,
    budget: &Budget,
) -> Result<Option<Estimate>, fendle_core::model::Fault> {
    let how = How { plays: Some(AT_RANDOM), policies: vec![Policy::Random], ..How::default() };
    Ok(estimated(model, 0, &how, budget)?.0.pop())
}

/// Plays games by each policy. `worlds`: how many there are at the start of what can be known; 0 where nothing is hidden.
fn estimated(
    model: &dyn Model,
    worlds: usize,
    how: &How,
    budget: &Budget,
) -> Result<(Vec<Estimate>, Option<Limit>), fendle_core::model::Fault> {
    let seed = budget.wanted().seed;
    let dice = |play: u64| -> Dice {
        let mut dice = setup::Dice::new(seed ^ play.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        Box::new(move |weights: &[u64]| dice.pick(weights))
    };
    let own = [Policy::Ahead(AHEAD)];
    let policies = if how.policies.is_empty() { &own[..] } else { &how.policies };
    // As many plays as were asked for; else as many as a fixed effort allows, the same on every machine. Of what can be known each state is
    // a set of worlds; where there are so many that no look-ahead is worth its name, nothing is played.
    let effort = AHEAD_WORK / (1 + worlds as u64 / WORLDS_A_STATE);
    if how.plays.is_none() && how.policies.is_empty() && effort < AHEAD * AHEAD_TOGETHER {
        return Ok((vec![], None));
    }
    let work = if how.plays.is_some() { u64::MAX } else { effort };
    let mut found: Vec<Simulated> = vec![];
    let mut out = vec![];
    let mut limit = None;
    for policy in policies {
        if limit.is_some() {
            break;
        }
        let size = (how.plays.unwrap_or(PLAYS), MOVES_MAX, work);
        let sample = simulate(model, *policy, size, &dice, budget.wanted().threads, budget)?;
        limit = sample.limit;
        if sample.plays > 0 {
            out.push(Estimate::of(&sample, *policy, seed, found.first()));
            found.push(sample);
        }
    }
    Ok((out, limit))
}
