//! The position, and what is on it, counted.

use std::collections::BTreeMap;

use fendle_lang::Bound;
use fendle_lang::model::{EndKind, Extent, Scalar, Show, VarId};
use fendle_lang::run::Eval;
use serde::Serialize;

use crate::answer::{Answer, Asked, Verdict};
use crate::load::Loaded;
use crate::position::Position;

/// A position and what stands on it.
#[derive(Clone, Debug, Serialize)]
pub struct Shown {
    /// The model's name.
    pub model: String,
    /// Rows of the board; 0 without one.
    pub rows: usize,
    /// Columns of the board.
    pub cols: usize,
    /// The position.
    pub position: Position,
    /// How the game stands, by the rules alone.
    pub status: String,
    /// What stands on the board: what, and how many, in a fixed order.
    #[serde(serialize_with = "as_map")]
    pub counts: Vec<(String, usize)>,
}

fn as_map<S: serde::Serializer>(list: &[(String, usize)], s: S) -> Result<S::Ok, S::Error> {
    list.iter().cloned().collect::<BTreeMap<_, _>>().serialize(s)
}

/// Shows where a level begins.
#[must_use]
pub fn show(level: &Loaded) -> Answer<Shown> {
    let b = &level.game.bound;
    let state = &b.position;
    let mut counts = counts(b, state);
    if b.as_player {
        // What is hidden is not counted for the player, nor what is free of it.
        let told =
            |name: &str| !b.model.vars.iter().any(|v| v.hidden && name.split(' ').next() == Some(&v.name));
        counts.retain(|(name, _)| name != "free" && told(name));
    }
    let found = Shown {
        model: b.model.name.clone(),
        rows: b.rows,
        cols: b.cols,
        position: Position::new(b, state),
        status: status_text(b, state),
        counts,
    };
    Answer::new(Asked::of(level), Verdict::Holds, found)
}

/// The status of a position by the rules alone.
#[must_use]
pub fn status_text(b: &Bound, state: &[i32]) -> String {
    match Eval::new(b).status(state) {
        Ok(None) => "running".into(),
        // Past the endings of the model stands the state of what was set aside.
        Ok(Some(e)) => b.ending_words(e),
        Err(fault) => format!("the model breaks: {fault}"),
    }
}

/// The word for an ending, as a game tells it: won, lost, over.
#[must_use]
pub fn status_word(b: &Bound, state: &[i32]) -> &'static str {
    match Eval::new(b).status(state) {
        Ok(Some(e)) => match b.model.endings.get(e).map(|e| e.kind) {
            Some(EndKind::Goal) => "won",
            Some(EndKind::Lost) => "lost",
            _ => "over",
        },
        _ => "running",
    }
}

/// What stands on the board, counted: (what, how many), in a fixed order.
fn counts(b: &Bound, state: &[i32]) -> Vec<(String, usize)> {
    let model = &b.model;
    let mut out = vec![];
    for (v, def) in model.variables() {
        let slot = &b.slots[v];
        if !slot.active || !matches!(def.shape, Extent::Grid | Extent::Set) {
            continue;
        }
        let region = if def.state { state } else { &b.data };
        let values = &region[slot.base..slot.base + slot.len];
        if def.dom.scalar() == Scalar::Bool {
            out.push((def.name.clone(), values.iter().filter(|x| **x != 0).count()));
            continue;
        }
        let mut by_value: BTreeMap<i32, usize> = BTreeMap::new();
        for &x in values {
            *by_value.entry(x).or_default() += 1;
        }
        // Boards on which everything is different have nothing to count.
        if def.state && by_value.values().any(|n| *n > 1) && by_value.len() <= 16 {
            for (x, n) in by_value {
                out.push((format!("{} {}", def.name, b.value_text(v, x.into())), n));
            }
        }
    }
    for show in &model.shows {
        if let Show::Drawing { vars, .. } = show {
            let free = (0..b.cells()).filter(|&c| vars.iter().all(|&v| is_free(b, state, v, c))).count();
            out.push(("free".into(), free));
        }
    }
    out
}

/// Whether a drawing shows nothing of a variable on a cell.
fn is_free(b: &Bound, state: &[i32], v: VarId, cell: usize) -> bool {
    let (slot, def) = (&b.slots[v], &b.model.vars[v]);
    let region = if def.state { state } else { &b.data };
    match def.shape {
        Extent::Grid | Extent::Set => i64::from(region[slot.base + cell]) == slot.plain(),
        _ => !b.stands_at(v, state, cell),
    }
}
