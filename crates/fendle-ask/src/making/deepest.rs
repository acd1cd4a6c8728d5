//! The farthest starts of all: by going back from the goals.

use std::collections::BTreeSet;
use std::sync::Arc;

use fendle_core::{Class, Limits};
use fendle_lang::Game;
use rayon::prelude::*;

use super::boards::{Board, Template};
use super::draft::{Deepest, Draft, Drafted, Order, SHARED_STATES, Shared, expect_of};
use super::figures::Figures;
use super::wish::figures_json;
use crate::answer::Trouble;
use crate::budget::Budget;
use crate::load::Loaded;
use crate::position::Position;

/// Placements that are all taken as starts.
const PLACEMENTS_MAX: usize = 400_000;

/// All ways to put the glyphs on plain cells, as boards; `None` where there are too many.
fn placements(template: &Template, order: &Order) -> Option<Vec<Board>> {
    let plain = template.plain()?.to_string();
    let mut list = vec![template.board.clone()];
    for put in &order.put {
        // Each cell after the one before: a set of cells is met once.
        let mut next: Vec<(Board, usize)> = list.into_iter().map(|b| (b, 0)).collect();
        for _ in 0..put.least {
            let mut more = vec![];
            for (board, from) in &next {
                for at in
                    (*from..board.cells.len()).filter(|c| board.cells[*c] == plain && order.takes(put, *c))
                {
                    let mut board = board.clone();
                    board.cells[at].clone_from(&put.glyph);
                    more.push((board, at + 1));
                    if more.len() > PLACEMENTS_MAX {
                        return None;
                    }
                }
            }
            next = more;
        }
        list = next.into_iter().map(|b| b.0).collect();
    }
    Some(list)
}

/// The farthest starts of a space.
struct Farthest {
    moves: u32,
    count: u64,
    /// Some of them.
    states: Vec<Vec<i32>>,
    /// States of the space.
    of: u64,
}

/// The farthest starts, from a space that is kept by number; `None` where it is not, or cannot be gone through backwards.
fn farthest_by_number(game: &Game, keep: usize, budget: &Budget) -> Result<Option<Farthest>, Trouble> {
    let limits = Limits { drop_edges: true, ..budget.limits() };
    let Ok(found) = fendle_core::explore(game, limits, true, budget) else { return Ok(None) };
    if let Some(limit) = found.counts.limit {
        return Err(Trouble::Limit(limit));
    }
    if found.counts.numbers.is_none() || !found.counts.complete || found.fault.is_some() {
        return Ok(None);
    }
    match found.farthest(game, limits.memory_bytes, budget) {
        None => Ok(None),
        Some(Err(limit)) => Err(Trouble::Limit(limit)),
        Some(Ok((moves, ids))) => {
            let states = ids.iter().take(keep).map(|id| game.unpack(&found.space.state(*id))).collect();
            Ok(Some(Farthest { moves, count: ids.len() as u64, states, of: found.counts.states }))
        }
    }
}

/// The farthest starts, from a space whose distances are all made.
fn farthest(game: &Game, keep: usize, budget: &Budget) -> Result<Farthest, Trouble> {
    let Some(shared) = Shared::of(game, budget) else {
        return match budget.stopped() {
            Some(limit) => Err(Trouble::Limit(limit)),
            None => Err(Trouble::Undecided(format!(
                "more than {SHARED_STATES} positions, or moves with chance: the farthest start is not known"
            ))),
        };
    };
    let space = &shared.found.space;
    let mut best = Farthest { moves: 0, count: 0, states: vec![], of: shared.found.counts.states };
    for id in space.ids().filter(|id| space.class(*id) == Class::Winnable) {
        let Some(moves) = shared.distances.get(id) else { continue };
        if moves > best.moves {
            best = Farthest { moves, count: 0, states: vec![], ..best };
        }
        if moves == best.moves {
            best.count += 1;
            if best.states.len() < keep {
                best.states.push(game.unpack(&space.state(id)));
            }
        }
    }
    Ok(best)
}

/// Fills a draft with the farthest starts.
///
/// # Errors
///
/// [`Trouble`] where they cannot be found.
pub(super) fn deepest(
    level: &Loaded,
    template: &Template,
    order: &Order,
    out: &mut Draft,
    budget: &Arc<Budget>,
) -> Result<(), Trouble> {
    let mut game = level.game.at(level.game.bound.position.clone());
    if !order.put.is_empty() {
        if order.put.iter().any(|p| p.least != p.greatest) {
            return Err("--by deepest puts an exact number of each glyph, such as \"o 2\"".into());
        }
        let Some(list) = placements(template, order) else {
            return Err(Trouble::Undecided(format!("there are more than {PLACEMENTS_MAX} placements")));
        };
        let states: Vec<Vec<i32>> = (list.par_iter())
            .filter_map(|board| {
                let own = template.load(board, "placement", budget)?;
                let b = &own.game.bound;
                // Positions of one level: what a glyph says of the level itself would make another one.
                (b.data == level.game.bound.data).then(|| b.position.clone())
            })
            .collect();
        if states.is_empty() {
            return Err("none of the placements is a position of this level".into());
        }
        out.tried = states.len() as u64;
        game.starts = states.into_iter().map(|s| (s, 1)).collect();
    }
    let best = match farthest_by_number(&game, order.keep, budget)? {
        Some(best) => best,
        None => farthest(&game, order.keep, budget)?,
    };
    out.tried = out.tried.max(best.of);
    out.deepest = Some(Deepest { moves: best.moves, count: best.count, of: best.of });
    out.good = best.count;
    for (n, state) in best.states.into_iter().enumerate() {
        let figures = Figures::from([("moves", f64::from(best.moves)), ("solvable", 1.0)]);
        let name = format!("deepest {}", n + 1);
        let board = template.drawn(&level.game.bound, &state);
        out.boards.push(Drafted {
            text: template.text(&board, &name, &expect_of(&figures, &BTreeSet::new())),
            name,
            number: n as u64 + 1,
            values: vec![],
            figures: figures_json(&figures),
            position: Position::new(&level.game.bound, &state),
            board,
            level: None,
        });
    }
    Ok(())
}
