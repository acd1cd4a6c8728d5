//! What can be in play from a level's start, and the numbers that its states are given when a space is kept by number.

use fendle_core::numbers::grouped;
use fendle_core::space::number_bits;
use fendle_lang::Game;
use fendle_lang::code::numbered::Guess;
use fendle_lang::model::{Extent, Scalar, VarId};
use fendle_lang::reasons::numbering::{Found, what_can_be};
use fendle_lang::run::ways::Count;
use fendle_lang::state::keys::Described;
use serde::Serialize;

/// Effort, in states that might be expanded instead.
const EFFORT: usize = 1 << 16;

/// What can be, and the numbers.
#[derive(Clone, Debug, Serialize)]
pub struct Numbers {
    /// States are numbers below this; `null` when no range is small enough.
    pub range: Option<u64>,
    /// Bits of such a number.
    pub bits: Option<u32>,
    /// Whether the moves were followed: else what can be is what the types allow.
    pub followed: bool,
    /// Whether every move between running states can be taken back.
    pub can_return: bool,
    /// What each variable of the state can hold.
    pub variables: Vec<Variable>,
}

/// What one variable can hold.
#[derive(Clone, Debug, Serialize)]
pub struct Variable {
    /// Its name.
    pub name: String,
    /// What it can hold, in words.
    pub holds: String,
    /// How many different contents that are, where they are counted.
    pub contents: Option<u64>,
    /// For a board, how many values can be in each cell, row by row.
    pub values_in_cells: Option<Vec<Vec<usize>>>,
}

/// What can be in play from the start of a game. `None` for games with hidden things, and when `stop` says so.
#[must_use]
pub fn numbers(game: &Game, stop: &mut dyn FnMut() -> bool) -> Option<Numbers> {
    let found = what_can_be(game, EFFORT, Guess::Allowed, stop)?;
    let b = &game.bound;
    let range = found.keys.as_ref().map(|k| k.range());
    let variables = (b.model.variables())
        .filter(|(v, def)| def.state && def.shadow_of.is_none() && b.slots[*v].active)
        .map(|(v, _)| variable(game, &found, v))
        .collect();
    Some(Numbers {
        range,
        bits: range.map(number_bits),
        followed: found.is_followed(),
        can_return: found.can_return(),
        variables,
    })
}

fn variable(game: &Game, found: &Found, v: VarId) -> Variable {
    let b = &game.bound;
    let (def, slot) = (&b.model.vars[v], &b.slots[v]);
    let places = slot.base..slot.base + slot.len;
    let values = &found.can.values[places.clone()];
    let free = values.iter().filter(|v| v.len() > 1).count();
    let board =
        slot.len > 1 && slot.len == b.cells() && !matches!(def.shape, Extent::List(_) | Extent::Lists(..));
    let values_in_cells =
        board.then(|| values.chunks(b.cols.max(1)).map(|row| row.iter().map(Vec::len).collect()).collect());
    let parts = found.keys.as_ref().map(|k| k.describe()).unwrap_or_default();
    let mine: Vec<_> = parts.into_iter().filter(|p| places.contains(&p.2[0])).collect();
    let contents = mine.iter().try_fold(1u64, |n, p| n.checked_mul(p.3)).filter(|_| found.keys.is_some());
    let what = if def.dom.scalar() == Scalar::Cell { "cells" } else { "values" };
    let holds = match mine.as_slice() {
        _ if free == 0 => "always the same".into(),
        [(Described::Members { least, most, .. }, ..)] if least == most => format!("{most} of {free} cells"),
        [(Described::Members { most, .. }, ..)] => format!("at most {most} of {free} cells; never gains one"),
        [(Described::Order { parity: Some(_), .. }, ..)] => {
            format!("{free} values in any order; a kept parity leaves half of the orders")
        }
        [(Described::Order { .. }, ..)] => format!("{free} values in any order"),
        [(Described::Sorted(_), ..)] => {
            "numbers spread over lists, each of them sorted: a guess, given up where one is not".into()
        }
        [(Described::Other, ..)] if b.spreads[v].is_some() => "numbers spread over lists".into(),
        [(Described::Other, ..)] => format!("{free} values in any order, some alike"),
        _ if slot.len == 1 => format!("one of {} {what}", grouped(values[0].len() as u64)),
        _ => {
            let most = values.iter().map(Vec::len).max().unwrap_or(0);
            let kept = match found.count(places, 1) {
                Count::Free => "",
                Count::Kept => "; the number of ones is kept",
                Count::Falls => "; the number of ones never rises",
            };
            format!("up to {most} values in {free} of {} places{kept}", slot.len)
        }
    };
    Variable { name: def.name.clone(), holds, contents, values_in_cells }
}
