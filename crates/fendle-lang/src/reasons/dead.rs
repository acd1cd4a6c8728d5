//! Parts of positions that are enough to be dead, and the spaces over which that is said.

use std::collections::BTreeSet;

use fendle_core::part::Differences;
use fendle_core::{Class, Model as _, Space, StateId};

use crate::Game;
use crate::model::*;
use crate::reasons::effects::{Effects, values_of, var_of_places};
use crate::state::Bound;
use crate::state::cell_name;

/// Placements above which they are not enumerated.
pub const PLACEMENTS_MAX: u64 = 400_000;

/// One value of a state: its place and what stands there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Fact {
    /// Place in the state.
    pub at: usize,
    /// The value there.
    pub value: i32,
}

/// Facts of a state that hold in no state which can be won.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeadPart {
    /// The facts, by place. Empty where nothing can be won at all.
    pub facts: Vec<Fact>,
}

/// Writes the values of a state of a space.
pub fn write_values(game: &Game, space: &Space, id: StateId, values: &mut Vec<i32>) {
    if !space.values(id, values) {
        values.resize(game.bound.start.len(), 0);
        game.bound.codec.unpack(&space.state(id), values);
    }
}

/// A smallest-by-inclusion part of a dead state that is dead wherever it stands in this space: every state with the same
/// facts is dead, stuck, lost or over. `None` when the state itself agrees with one that is not.
///
/// States that were not classified count as hopeful. `None` also when `stop` says so. O(|S| times values).
#[must_use]
pub fn minimal_part(
    game: &Game,
    space: &Space,
    state: &[i32],
    stop: &mut dyn FnMut() -> bool,
) -> Option<DeadPart> {
    let b = &game.bound;
    let places = b.ended_at();
    let mut differences = Differences::new(places);
    let mut values = vec![0; b.start.len()];
    for (n, id) in space.ids().enumerate() {
        if n % 4096 == 4095 && stop() {
            return None;
        }
        if !space.class(id).is_bad() {
            write_values(game, space, id, &mut values);
            differences.add((0..places).map(|i| values[i] != state[i]));
        }
    }
    let vars = var_of_places(b);
    let cost: Vec<u32> = (0..places)
        .map(|i| match vars[i].map(|v| b.model.vars[v].shape) {
            // What stands on a cell is said first, then where single things are, then what is missing.
            Some(Extent::Grid | Extent::Set) if state[i] != 0 => 0,
            Some(Extent::One) => 1,
            _ => 2,
        })
        .collect();
    let part = differences.part(&cost)?;
    Some(DeadPart { facts: part.into_iter().map(|at| Fact { at, value: state[at] }).collect() })
}

/// A dead part and how many dead states of the space hold it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern {
    /// The part.
    pub part: DeadPart,
    /// A state that holds it, one of the nearest.
    pub example: Vec<i32>,
    /// Dead and stuck states that hold it.
    pub states: u64,
}

/// The dead parts of a space.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Gallery {
    /// Distinct parts, most frequent first.
    pub patterns: Vec<Pattern>,
    /// Dead and stuck states.
    pub dead: u64,
    /// Those that hold one of the parts.
    pub explained: u64,
    /// Those whose smallest part is held by no other state: that says which state it is, and is no reason.
    pub alone: u64,
    /// Somebody said stop before all were looked at.
    pub stopped: bool,
}

/// Minimal dead parts that together explain the dead and stuck states of a space: nearest states first, a state that
/// holds a part already found is explained by it. Stops after `most` parts or when `stop` says so.
#[must_use]
pub fn gallery(game: &Game, space: &Space, most: usize, stop: &mut dyn FnMut() -> bool) -> Gallery {
    let mut dead: Vec<StateId> = vec![];
    dead.extend(space.ids().filter(|id| matches!(space.class(*id), Class::Dead | Class::Stuck)));
    let mut out = Gallery { dead: dead.len() as u64, ..Gallery::default() };
    let mut explained = vec![false; dead.len()];
    let mut alone = vec![];
    let mut values = vec![0; game.bound.start.len()];
    for first in 0..dead.len() {
        if explained[first] {
            continue;
        }
        if out.patterns.len() == most {
            break;
        }
        if stop() {
            out.stopped = true;
            break;
        }
        let example = game.unpack(&space.state(dead[first]));
        let Some(part) = minimal_part(game, space, &example, stop) else { continue };
        let mut holders = vec![];
        for (i, id) in dead.iter().enumerate() {
            write_values(game, space, *id, &mut values);
            if part.facts.iter().all(|f| values[f.at] == f.value) {
                holders.push(i);
            }
        }
        if holders.len() < 2 {
            alone.push(first);
            continue;
        }
        holders.iter().for_each(|i| explained[*i] = true);
        out.patterns.push(Pattern { part, example, states: holders.len() as u64 });
    }
    out.explained = explained.iter().filter(|e| **e).count() as u64;
    out.alone = alone.iter().filter(|i| !explained[**i]).count() as u64;
    out.patterns.sort_by(|a, b| b.states.cmp(&a.states).then_with(|| a.part.facts.cmp(&b.part.facts)));
    out
}

/// States that nobody need be able to reach, over which something is said.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Typed {
    /// Every state that the types allow.
    All,
    /// Every placement of the same pieces on the cells that moves can change, with every value that moves give to single
    /// variables.
    Placements,
}

/// With `all`, all typed states of a game; without it, or where those are too many, all placements of its pieces. At most
/// [`PLACEMENTS_MAX`]; states in which the model breaks are left out.
#[must_use]
pub fn typed_states(
    game: &Game,
    effects: Option<&Effects>,
    all: bool,
    stop: &mut dyn FnMut() -> bool,
) -> Option<(Typed, Vec<Vec<i32>>)> {
    let b = &game.bound;
    let sound = |list: Vec<Vec<i32>>| -> Vec<Vec<i32>> {
        let mut worker = game.worker();
        let mut words = vec![0; b.codec.layout().words()];
        let mut fits = |s: &Vec<i32>| b.codec.pack(s, &mut words).is_ok() && worker.status(&words).is_ok();
        list.into_iter().filter(|s| fits(s)).collect()
    };
    if let Some(n) = b.codec.states_len().filter(|n| all && *n <= PLACEMENTS_MAX) {
        let mut words = vec![0; b.codec.layout().words()];
        let all = (0..n).map(|i| {
            b.codec.nth(i, &mut words);
            game.unpack(&words)
        });
        let all = all.filter(|s| s[b.ended_at()] == 0).collect();
        return Some((Typed::All, sound(all)));
    }
    let effects = effects?;
    let mut moves = vec![false; b.start.len()];
    let mut met: BTreeSet<(usize, i32)> = BTreeSet::new();
    for c in effects.list.iter().flatten() {
        moves[c.0] = true;
        met.insert((c.0, c.2));
    }
    let mut states = vec![b.position.clone()];
    if stop() {
        return None;
    }
    for (v, def) in b.model.variables().filter(|(_, d)| d.state) {
        let slot = &b.slots[v];
        let places: Vec<usize> = (slot.base..slot.base + slot.len).filter(|p| moves[*p]).collect();
        let mut next = vec![];
        match def.shape {
            Extent::Grid | Extent::Set => {
                let mut pieces: Vec<i32> = places.iter().map(|p| b.position[*p]).collect();
                pieces.sort_unstable();
                for s in &states {
                    let mut order = pieces.clone();
                    loop {
                        let mut s = s.clone();
                        places.iter().zip(&order).for_each(|(p, x)| s[*p] = *x);
                        next.push(s);
                        if next.len() as u64 > PLACEMENTS_MAX {
                            return None;
                        }
                        if !next_order(&mut order) {
                            break;
                        }
                    }
                }
            }
            Extent::One => {
                for s in &states {
                    let now = s[slot.base];
                    let can = |x: &i32| *x == now || met.contains(&(slot.base, *x));
                    for x in values_of(b, v).into_iter().filter(can) {
                        let mut s = s.clone();
                        s[slot.base] = x;
                        next.push(s);
                    }
                    if next.len() as u64 > PLACEMENTS_MAX {
                        return None;
                    }
                }
            }
            _ if places.is_empty() => continue,
            _ => return None,
        }
        states = next;
    }
    Some((Typed::Placements, sound(states)))
}

/// The next arrangement of values in lexicographic order; false after the last.
fn next_order(values: &mut [i32]) -> bool {
    let Some(i) = (1..values.len()).rev().find(|i| values[i - 1] < values[*i]) else { return false };
    let j = (i..values.len()).rev().find(|j| values[*j] > values[i - 1]).unwrap_or(i);
    values.swap(i - 1, j);
    values[i..].reverse();
    true
}

/// A state with nothing on the cells that a part is about but the part itself: what stands there by chance is put away, so
/// that a drawing shows the part alone. Only for drawings: it need be no state of the level.
#[must_use]
pub fn only_part(b: &Bound, state: &[i32], facts: &[Fact]) -> Vec<i32> {
    let (cells, beside) = cells_of(b, facts);
    let shown = |c: usize| cells.contains(&c) || beside.contains(&c);
    let away = (0..b.cells()).find(|c| !shown(*c));
    let is_fact = |at: usize| facts.iter().any(|f| f.at == at);
    let mut out = state.to_vec();
    for (v, def) in b.model.variables().filter(|(_, d)| d.state && d.shadow_of.is_none()) {
        let slot = &b.slots[v];
        match (def.shape, def.dom.scalar()) {
            (Extent::Grid | Extent::Set, scalar) if slot.active && def.rearranged.is_none() => {
                let nothing = match scalar {
                    Scalar::Bool | Scalar::Int | Scalar::Maybe(_) => slot.plain(),
                    _ => slot.lo,
                };
                for c in (0..slot.len).filter(|c| shown(*c) && !is_fact(slot.base + c)) {
                    out[slot.base + c] = nothing as i32;
                }
            }
            (Extent::One, Scalar::Cell | Scalar::Maybe(Base::Cell)) if !is_fact(slot.base) => {
                let here = usize::try_from(out[slot.base]).is_ok_and(shown);
                if let (true, Some(away)) = (here, away) {
                    out[slot.base] = away as i32;
                }
            }
            _ => {}
        }
    }
    out
}

/// A fact in words: `barge at r2c3`, `no barge at r2c3`, `tile[r1c1] = 5`, `tug = r2c2`.
#[must_use]
pub fn fact_text(b: &Bound, fact: Fact) -> String {
    let Some(v) = var_of_places(b)[fact.at] else { return "ended".into() };
    let def = &b.model.vars[v];
    let i = fact.at - b.slots[v].base;
    let text = || b.scalar_text(def.dom.scalar(), fact.value.into(), false);
    match def.shape {
        Extent::Set => {
            let not = if fact.value == 0 { "no " } else { "" };
            format!("{not}{} at {}", def.name, cell_name(i, b.cols))
        }
        Extent::Grid => format!("{}[{}] = {}", def.name, cell_name(i, b.cols), text()),
        Extent::Array(key) => format!("{}[{}] = {}", def.name, b.key_names(key)[i], text()),
        Extent::One => format!("{} = {}", def.name, text()),
        Extent::List(_) | Extent::Lists(..) => {
            let cap = b.slots[v].cap + 1;
            let list = match def.shape {
                Extent::Lists(key, _) => format!("{}[{}]", def.name, b.key_names(key)[i / cap]),
                _ => def.name.clone(),
            };
            match i % cap {
                0 => format!("len({list}) = {}", fact.value),
                n => format!("{list}[{n}] = {}", text()),
            }
        }
    }
}

/// The cells that facts are about, by number, and the cells beside them on which a grid of the level holds something:
/// walls, water and the like.
#[must_use]
pub fn cells_of(b: &Bound, facts: &[Fact]) -> (Vec<usize>, Vec<usize>) {
    let vars = var_of_places(b);
    let mut cells = vec![];
    for f in facts {
        let Some(v) = vars[f.at] else { continue };
        let def = &b.model.vars[v];
        match (def.shape, def.dom.scalar()) {
            (Extent::Grid | Extent::Set, _) => cells.push(f.at - b.slots[v].base),
            (Extent::One | Extent::Array(_), Scalar::Cell | Scalar::Maybe(Base::Cell)) if f.value >= 0 => {
                cells.push(f.value as usize);
            }
            _ => {}
        }
    }
    cells.sort_unstable();
    cells.dedup();
    let stands = |cell: usize| {
        b.model.variables().any(|(v, d)| {
            let twin = b.model.vars.iter().any(|t| t.rearranged == Some(v));
            !d.state
                && d.shape == Extent::Grid
                && !d.hidden
                && !twin
                && !matches!(i64::from(b.data[b.slots[v].base + cell]), 0 | NONE)
        })
    };
    let mut beside = vec![];
    for &c in &cells {
        let (r, col) = (c / b.cols.max(1), c % b.cols.max(1));
        for (dr, dc) in &DIR_STEPS[..4] {
            let (r, col) = (r as i64 + dr, col as i64 + dc);
            if r >= 0 && col >= 0 && r < b.rows as i64 && col < b.cols as i64 {
                let cell = r as usize * b.cols + col as usize;
                if stands(cell) && !cells.contains(&cell) {
                    beside.push(cell);
                }
            }
        }
    }
    beside.sort_unstable();
    beside.dedup();
    (cells, beside)
}
