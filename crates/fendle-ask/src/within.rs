//! What can be had, and what can happen, within the next few moves.

use fendle_core::Model as _;
use fendle_core::odds::{Broken, Value, Within, within};
use serde::Serialize;

use crate::answer::{Answer, Asked, Trouble, Verdict, start_breaks};
use crate::budget::Budget;
use crate::knowledge::play;
use crate::load::Loaded;

/// What a move from the start is worth.
#[derive(Clone, Debug, Serialize)]
pub struct NearWorth {
    /// The move.
    #[serde(rename = "move")]
    pub name: String,
    /// How many outcomes it has.
    pub outcomes: u32,
    /// The best probability to have won by then.
    pub best_probability: Value,
    /// The least probability to have ended badly by then.
    pub least_ruin: Value,
}

/// Answers for the next moves.
#[derive(Clone, Debug, Serialize)]
pub struct Near {
    /// `with knowledge` or `layout known`.
    pub played: &'static str,
    /// How many moves were looked ahead.
    pub within: u32,
    /// Everything that can happen in so many moves was seen.
    pub complete: bool,
    /// States that were seen.
    pub states: u64,
    /// The best probability to have won by then; `None` without a goal, or where nothing was found.
    pub best_probability: Option<Value>,
    /// The least number of moves by which some way of playing has won against every draw.
    pub sure_win: Option<u32>,
    /// The least probability to have ended badly by then: lost, stuck, or over without being won.
    pub least_ruin: Option<Value>,
    /// After how many moves at the earliest play can have ended badly, whatever the player does.
    pub forced_ruin: Option<u32>,
    /// What each move from the start is worth.
    pub moves: Vec<NearWorth>,
    /// The model has a goal.
    #[serde(skip)]
    pub has_goal: bool,
}

/// Asks what the next `moves` moves can bring.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to be looked at, or the model breaks within these moves.
pub fn ask(level: &Loaded, moves: u32, budget: &Budget) -> Result<Answer<Near>, Trouble> {
    let game = &level.game;
    let play = play(level, true, "odds", budget)?;
    let (model, worlds, limits) = play.on(game, budget);
    let (found, limit, states) = match within(model, moves, &limits, budget) {
        Ok(w) => {
            let (limit, states) = (w.limit, w.states);
            (Some(w), limit, states)
        }
        Err(Broken::Limit(limit, states)) => (None, Some(limit), states),
        Err(Broken::Fault(fault)) => return Err(start_breaks(level, &fault)),
    };
    let of = |w: &Within| {
        let one = |m: &fendle_core::odds::NearMove| NearWorth {
            name: game.move_name(m.of),
            outcomes: m.outcomes,
            best_probability: m.win.clone(),
            least_ruin: m.ruin.clone(),
        };
        w.from_start.iter().map(one).collect()
    };
    let near = Near {
        played: if worlds > 0 { "with knowledge" } else { "layout known" },
        within: moves,
        complete: limit.is_none(),
        states,
        best_probability: found.as_ref().and_then(|w| w.win.clone()),
        sure_win: found.as_ref().and_then(|w| w.sure_win),
        least_ruin: found.as_ref().map(|w| w.ruin.clone()),
        forced_ruin: found.as_ref().and_then(|w| w.forced_ruin),
        moves: found.as_ref().map(of).unwrap_or_default(),
        has_goal: game.has_goal(),
    };
    let holds = if limit.is_none() { Verdict::Holds } else { Verdict::Undecided };
    Ok(Answer::new(Asked::known(level), holds, near).stopped(limit, budget).took(budget, states))
}
