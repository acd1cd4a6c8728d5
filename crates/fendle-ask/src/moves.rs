//! Every move: allowed with its outcomes, or refused with the reason, the line and the cells.
//!
//! That a move is allowed is told at once, whatever it may lead to. Outcomes are written down where they can be counted
//! within what is reasonable; else some of them are drawn by seed.

use fendle_core::knowledge::Knowing;
use fendle_core::{Expansion, Limit, Model as _, MoveId, Odds, Place, Status};
use fendle_lang::play::{Tried, place_name, step_drawn};
use fendle_lang::run::setup::Dice;
use fendle_lang::{Bound, Game};
use serde::Serialize;

use crate::answer::{Answer, Asked, Trouble, Verdict, fault_report, limit_of, trouble_of};
use crate::budget::Budget;
use crate::knowledge::{Play, play};
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::show::status_text;

/// Outcomes that are drawn of a move that has too many to be counted.
const SAMPLES: usize = 4;

/// One outcome of an allowed move.
#[derive(Clone, Debug, Serialize)]
pub struct Outcome {
    /// Where it leads.
    pub position: Position,
    /// How often, relative to the others.
    pub weight: u64,
    /// How the game stands there.
    pub status: String,
}

/// An allowed move.
#[derive(Clone, Debug, Serialize)]
pub struct Allowed {
    /// The move as it is written.
    #[serde(rename = "move")]
    pub name: String,
    /// The first outcome.
    pub position: Option<Position>,
    /// How the game stands there.
    pub status: Option<String>,
    /// Sum of the weights.
    pub total_weight: u64,
    /// What it can lead to: all of it, unless it is sampled.
    pub outcomes: Vec<Outcome>,
    /// There are too many outcomes to be counted: those given are drawn by seed, and their weights say nothing.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub sampled: bool,
}

/// A refused move.
#[derive(Clone, Debug, Serialize)]
pub struct Refused {
    /// The move as it is written.
    #[serde(rename = "move")]
    pub name: String,
    /// The reason in the model's words.
    pub why: String,
    /// The line of the refusing statement.
    pub line: usize,
    /// The cells that refuse, by name.
    pub at: Vec<String>,
    /// Those of them that are on the board: row and column from 0.
    #[serde(skip)]
    pub cells: Vec<(usize, usize)>,
}

/// Every move of a position.
#[derive(Clone, Debug, Serialize)]
pub struct Moves {
    /// The position.
    pub position: Position,
    /// How the game stands.
    pub status: String,
    /// The game goes on.
    #[serde(skip)]
    pub running: bool,
    /// The model's file, for the lines of refusals.
    #[serde(skip)]
    pub model_file: String,
    /// Allowed moves in move order.
    pub allowed: Vec<Allowed>,
    /// Refused moves in move order.
    pub refused: Vec<Refused>,
}

/// Lists the moves of the position that a level begins with.
///
/// # Errors
///
/// [`Trouble`] when the model breaks there.
pub fn moves(store: &Store, level: &Loaded, budget: &Budget) -> Result<Answer<Moves>, Trouble> {
    let game = &level.game;
    let b = &game.bound;
    let words = game.pack(&b.position);
    let mut worker = game.worker();
    let at_start = |fault| {
        let route = fendle_core::Route { moves: vec![], states: vec![words.clone()] };
        let report = fault_report(store, level, &fendle_core::explore::Faulted { fault, route });
        Trouble::Fault(Box::new(report))
    };
    let status = worker.status(&words).map_err(at_start)?;
    let running = status == Status::Running;
    let refused =
        if running || status == Status::Goal { worker.refusals(&words).map_err(at_start)? } else { vec![] };
    let as_player = b.as_player && b.model.hides();
    let allowed = if as_player {
        // What the player may see next, with its chance; nothing of what is hidden.
        match play(level, false, "moves", budget) {
            Ok(Play::Knowing(knowing, _)) => seen_next(game, &knowing, budget),
            Ok(Play::Open) => outcomes(store, level, &words, budget)?,
            Err(Trouble::Limit(_)) => {
                let list = worker.allowed(&words).map_err(at_start)?;
                list.into_iter().map(|of| allowed(b, game.move_name(of), vec![], false)).collect()
            }
            Err(other) => return Err(other),
        }
    } else {
        outcomes(store, level, &words, budget)?
    };
    let line_of =
        |site: u32| store.sources.line_col(b.model.file, b.model.refuses[site as usize].span.start).0;
    let on_board = |p: &Place| {
        let (r, c) = (usize::try_from(p.row).ok()?, usize::try_from(p.col).ok()?);
        (r < b.rows && c < b.cols).then_some((r, c))
    };
    let refused = refused
        .into_iter()
        .map(|r| Refused {
            name: game.move_name(r.of),
            line: line_of(r.site),
            at: r.at.iter().map(|p| place_name(b, (p.row.into(), p.col.into()))).collect(),
            cells: r.at.iter().filter_map(on_board).collect(),
            why: r.why,
        })
        .collect();
    let found = Moves {
        position: Position::new(b, &b.position),
        status: status_text(b, &b.position),
        running,
        model_file: store.sources.name(b.model.file).to_string(),
        allowed,
        refused,
    };
    Ok(Answer::new(Asked::of(level), Verdict::Holds, found).took(budget, 0))
}

fn allowed(b: &Bound, name: String, list: Vec<(Vec<i32>, u64)>, sampled: bool) -> Allowed {
    // What is drawn for the player is a world of its own, whatever the level says is seen.
    let shown = Bound { seen: vec![None; b.seen.len()], ..b.clone() };
    let outcomes: Vec<Outcome> = list
        .into_iter()
        .map(|(state, weight)| Outcome {
            position: Position::new(&shown, &state),
            status: status_text(b, &state),
            weight,
        })
        .collect();
    Allowed {
        name,
        position: outcomes.first().map(|o| o.position.clone()),
        status: outcomes.first().map(|o| o.status.clone()),
        total_weight: outcomes.iter().map(|o| o.weight).sum(),
        outcomes,
        sampled,
    }
}

/// The allowed moves with what they lead to.
fn outcomes(store: &Store, level: &Loaded, words: &[u64], budget: &Budget) -> Result<Vec<Allowed>, Trouble> {
    let game = &level.game;
    let b = &game.bound;
    let mut worker = game.worker();
    let mut out = Expansion::default();
    worker.expand(words, true, &mut out);
    if let Some(&(_, fault)) = out.faults.first() {
        let route = fendle_core::Route { moves: vec![], states: vec![words.to_vec()] };
        let report = fault_report(store, level, &fendle_core::explore::Faulted { fault, route });
        return Err(Trouble::Fault(Box::new(report)));
    }
    let mut list = vec![];
    let mut states = out.outcomes.chunks_exact(words.len());
    let mut at = 0;
    for run in &out.runs {
        let n = run.outcomes as usize;
        let weights = (at..at + n).map(|i| out.odds.get(i).copied().unwrap_or(Odds::SURE).weight);
        at += n;
        let own = states.by_ref().take(n).map(|s| game.unpack(s)).zip(weights).collect();
        list.push((run.of, allowed(b, game.move_name(run.of), own, false)));
    }
    if !out.unfinished.is_empty() {
        // The moves whose outcomes are too many to be counted.
        let counted: Vec<MoveId> = list.iter().map(|m| m.0).collect();
        let all = worker.allowed(words).unwrap_or_default();
        for of in all.into_iter().filter(|of| !counted.contains(of)) {
            list.push((of, drawn(store, level, of, budget)?));
        }
        list.sort_by_key(|m| m.0);
    }
    Ok(list.into_iter().map(|m| m.1).collect())
}

/// A move with a few outcomes that are drawn by seed.
fn drawn(store: &Store, level: &Loaded, of: MoveId, budget: &Budget) -> Result<Allowed, Trouble> {
    let b = &level.game.bound;
    let mut dice = Dice::new(budget.wanted().seed);
    let mut list = vec![];
    for _ in 0..SAMPLES {
        let step = step_drawn(b, &level.moves, &b.position, of.0 as usize, true, &mut dice);
        match step {
            Ok(Tried::Made(mut made)) => list.push((made.remove(0).made.state, 1)),
            Ok(_) => {}
            // A play that is too long to be drawn shows nothing, and the move is allowed all the same.
            Err(f) if limit_of(&f, budget).is_some() => break,
            Err(f) => {
                return Err(trouble_of(
                    store,
                    level,
                    budget,
                    &f,
                    (&b.position, Some(level.moves.name(of.0 as usize))),
                ));
            }
        }
    }
    Ok(allowed(b, level.game.move_name(of), list, true))
}

/// Every move of what is known, with what the player may see after it: one world for each.
fn seen_next(game: &Game, knowing: &Knowing<'_>, budget: &Budget) -> Vec<Allowed> {
    let mut out = Expansion::default();
    knowing.worker().expand(&knowing.packed(knowing.begins()[0].0), true, &mut out);
    debug_assert!(out.unfinished.iter().all(|u| u.1 != Limit::Time) || budget.is_stopped());
    let mut at = 0;
    out.runs
        .iter()
        .map(|run| {
            let range = at..at + run.outcomes as usize;
            at = range.end;
            let list = range.map(|i| {
                let odds = out.odds.get(i).copied().unwrap_or(Odds::SURE);
                (game.unpack(&knowing.worlds(knowing.number(&out.outcomes[i..=i]))[0].0), odds.weight)
            });
            allowed(&game.bound, game.move_name(run.of), list.collect(), false)
        })
        .collect()
}
