//! Positions as pictures: what of a model's variables stands on each cell, and how it is drawn.
//!
//! A model's `picture` block decides. Where it says nothing: grids of bools and other values of the level are fixed things
//! that fill their cell; sets of the level are wishes, dashed frames; sets and grids of the state are pieces, rounded
//! blocks; cell variables are agents, rings with a dot. A model without a board is drawn as piles, where it has lists by
//! key. What is on no cell is written in words.

use fendle_lang::Bound;
use fendle_lang::model::{self, Base, Drawee, Extent, NONE, Range, Scalar, TellDef, VarId};
use fendle_lang::position::Drawn;
use fendle_lang::reasons::dead::{Fact, cells_of, only_part};
use fendle_view::scene::Scene;
use fendle_view::tiles::{Figure, Paint, Theme, Thing, Tiles};

use crate::session::Trouble;

/// The board of a position with what stands on it; `None` where the model has neither a board nor piles.
pub fn tiles(b: &Bound, state: &[i32], title: &str) -> Option<Tiles> {
    let mut out = cells(b, state)?;
    out.title = title.to_string();
    out.alt = b.shown_line(state);
    out.lines = words(b, b.draw(state));
    Some(out)
}

/// Only what stands on the cells, without words.
pub fn cells(b: &Bound, state: &[i32]) -> Option<Tiles> {
    if b.cells() == 0 {
        return piles(b, state);
    }
    let cells = vec![vec![]; b.cells()];
    let mut out = Tiles { rows: b.rows, cols: b.cols, cells, shifted: b.model.shifted, ..Tiles::default() };
    if b.model.hides() && !b.as_player && b.model.looks.is_empty() {
        // What lies under what: the drawing in words says it best.
        let drawn = b.draw(state);
        for (cell, text) in out.cells.iter_mut().zip(drawn.pictures.first()?.rows.iter().flatten()) {
            if text != "." && !text.trim().is_empty() {
                cell.push(Thing::new(Figure::Label, Paint::Named(INK), text.clone()));
            }
        }
        return Some(out);
    }
    layers(b, state, &mut out);
    if b.as_player {
        told(b, state, &mut out);
    }
    Some(out)
}

/// What the drawing says that is on no cell.
fn words(b: &Bound, drawn: Drawn) -> Vec<String> {
    let is_drawn = |name: &str| {
        b.model.var(name).is_some_and(|v| {
            let def = &b.model.vars[v];
            match def.shape {
                Extent::Grid | Extent::Set => true,
                Extent::One => {
                    matches!(def.dom.scalar(), Scalar::Cell | Scalar::Placed(_) | Scalar::Maybe(Base::Cell))
                }
                Extent::Array(_) | Extent::List(_) if b.cells() > 0 => matches!(
                    def.dom.scalar(),
                    Scalar::Cell | Scalar::Placed(_) | Scalar::Maybe(Base::Cell | Base::Placed(_))
                ),
                Extent::Lists(..) => b.cells() == 0,
                _ => false,
            }
        })
    };
    drawn.values.into_iter().filter(|(n, _)| !is_drawn(n)).map(|(n, v)| format!("{n} = {v}")).collect()
}

const SLATE: usize = 8;
const INK: usize = 10;

/// What a thing looks like: as the model says, and by default as given.
fn thing(b: &Bound, of: Drawee, value: i64, plain: bool, default: (Figure, usize, String)) -> Thing {
    let look = b.model.look(of, value, plain).unwrap_or_default();
    let figure = look.figure.map_or(default.0, |f| Figure::ALL[f].1);
    let paint = match look.paint {
        Some(model::Paint::Named(n)) => Paint::Named(n),
        Some(model::Paint::Rgb(r, g, b)) => Paint::Rgb((r, g, b)),
        None => Paint::Named(default.1),
    };
    Thing::new(figure, paint, look.label.unwrap_or(default.2))
}

fn layers(b: &Bound, state: &[i32], out: &mut Tiles) {
    let model = &b.model;
    let (mut fixed, mut piece) = (0, 0);
    let opened: Vec<VarId> = match b.as_player {
        true => model.tells.iter().filter_map(TellDef::opened).collect(),
        false => vec![],
    };
    // The level below, then pieces, then agents.
    for (pass, state_vars) in [(0, false), (1, true), (2, true)] {
        if pass == 1 {
            derived(b, state, out);
        }
        for (v, def) in model.variables().filter(|(_, d)| d.state == state_vars) {
            let slot = &b.slots[v];
            let twin = model.vars.iter().any(|d| d.rearranged == Some(v));
            let unseen = b.as_player && (def.hidden || def.untold || opened.contains(&v));
            if def.shadow_of.is_some() || twin || !slot.active || unseen {
                continue;
            }
            let from = if def.state { state } else { &b.data };
            let values = &from[slot.base..slot.base + slot.len];
            let of = Drawee::Var(v);
            match (pass, def.shape, def.dom.scalar()) {
                (0 | 1, Extent::Grid | Extent::Set, scalar) if pass == usize::from(def.state) => {
                    let set = def.shape == Extent::Set;
                    let bare = is_bare(b, v);
                    let asked = model.looks.iter().any(|r| r.of.contains(&of) && r.values.is_some());
                    for (cell, &x) in out.cells.iter_mut().zip(values) {
                        let label = if bare { String::new() } else { glyph(b, v, x) };
                        // Nought is nothing, and so is what is drawn as an empty cell.
                        let plain = x == 0
                            && matches!(scalar, Scalar::Bool | Scalar::Int | Scalar::Cell | Scalar::Enum(_))
                            || label == "."
                            || matches!(scalar, Scalar::Maybe(_)) && i64::from(x) == NONE;
                        if plain && (!asked || model.look(of, x.into(), true).is_none()) {
                            continue;
                        }
                        let number =
                            piece + if bare { 0 } else { (i64::from(x) - slot.lo.max(1)).max(0) as usize };
                        let default = match (def.state, set) {
                            (false, true) => (Figure::Frame, 1, label),
                            (false, false) => FIXED[fixed % FIXED.len()].with(label),
                            (true, _) => (Figure::Slab, number % 8, label),
                        };
                        cell.push(thing(b, of, x.into(), plain, default));
                    }
                    fixed += usize::from(!def.state && !set);
                    piece += usize::from(def.state);
                }
                (1, _, Scalar::Placed(_) | Scalar::Maybe(Base::Placed(_))) if def.shape != Extent::Grid => {
                    shapes(b, v, in_use(def.shape, values), &mut piece, out);
                }
                (0 | 2, Extent::Array(_) | Extent::List(_), Scalar::Cell | Scalar::Maybe(Base::Cell)) => {
                    let names = b.standing_names(v);
                    for (k, &value) in in_use(def.shape, values).iter().enumerate() {
                        let cell = usize::try_from(value).ok().and_then(|c| out.cells.get_mut(c));
                        let Some(cell) = cell else { continue };
                        let form = if def.state { Figure::Buoy } else { Figure::Frame };
                        let key = k as i64 + b.first_key(v);
                        cell.push(thing(b, of, key, false, (form, piece % 8, names[k].clone())));
                        piece += usize::from(def.state);
                    }
                }
                (0, Extent::One, Scalar::Cell) => {
                    if let Some(cell) = usize::try_from(values[0]).ok().and_then(|c| out.cells.get_mut(c)) {
                        cell.push(thing(b, of, 1, false, (Figure::Frame, 3, String::new())));
                    }
                }
                (2, Extent::One, Scalar::Cell | Scalar::Maybe(Base::Cell)) => {
                    if let Some(cell) = usize::try_from(values[0]).ok().and_then(|c| out.cells.get_mut(c)) {
                        cell.push(thing(b, of, 1, false, (Figure::Buoy, piece % 8, String::new())));
                        piece += 1;
                    }
                }
                _ => {}
            }
        }
    }
}

/// The values of a variable; of a list those that are in use.
fn in_use(shape: Extent, values: &[i32]) -> &[i32] {
    match shape {
        Extent::List(_) => &values[1..=values[0].max(0) as usize],
        _ => values,
    }
}

/// Placed shapes, each as one piece; of several the first cell names it. Parts have their own looks.
fn shapes(b: &Bound, v: VarId, values: &[i32], piece: &mut usize, out: &mut Tiles) {
    let def = &b.model.vars[v];
    let (Scalar::Placed(s) | Scalar::Maybe(Base::Placed(s))) = def.dom.scalar() else { return };
    let names = b.standing_names(v);
    for (k, &value) in values.iter().enumerate().filter(|(_, x)| i64::from(**x) != NONE) {
        let covered = b.covered(s, value.into());
        let (all, ..) = b.shape_parts(s, value.into());
        let Some(&(shape, turn)) = b.model.shapes[s].all.get(all as usize) else { continue };
        let parts = b.model.shapes[s].shapes[shape].parts.get(turn);
        for (i, &(r, c)) in covered.iter().enumerate() {
            let on = r >= 0 && c >= 0 && (r as usize) < b.rows && (c as usize) < b.cols;
            if !on {
                continue;
            }
            let straight = [(r - 1, c), (r, c + 1), (r + 1, c), (r, c - 1)];
            let aslant = [(r - 1, c + 1), (r + 1, c + 1), (r + 1, c - 1), (r - 1, c - 1)];
            let beside: [_; 8] = std::array::from_fn(|i| if i < 4 { straight[i] } else { aslant[i - 4] });
            let value = parts.map_or(shape as i64, |p| p[i]);
            let mut thing = thing(b, Drawee::Var(v), value, false, (Figure::Slab, *piece % 8, String::new()));
            thing.joined = beside.map(|p| covered.contains(&p));
            if def.shape != Extent::One && i == 0 && thing.label.is_empty() {
                thing.label.clone_from(&names[k]);
            }
            out.cells[r as usize * b.cols + c as usize].push(thing);
        }
        *piece += 1;
    }
}

/// Derived sets, over the ground and under the pieces.
fn derived(b: &Bound, state: &[i32], out: &mut Tiles) {
    let hidden = |v: VarId| b.model.vars[v].hidden || b.model.vars[v].untold;
    for (i, (_, f)) in b.model.derived.iter().enumerate() {
        let of = Drawee::Derived(i);
        // A set that stands for itself in no line of the model is left to the words.
        let asked = b.model.looks.iter().any(|r| r.of.contains(&of));
        if !asked || b.as_player && b.model.reads(&b.model.fns[*f].body).into_iter().any(hidden) {
            continue;
        }
        for (cell, _) in b.derived_set(state, *f).unwrap_or_default().iter().enumerate().filter(|(_, x)| **x)
        {
            out.cells[cell].push(thing(b, of, 1, false, (Figure::Dot, 6, String::new())));
        }
    }
}

/// A fixed thing by default: form and colour.
struct Ground(Figure, usize);

const FIXED: [Ground; 4] = [
    Ground(Figure::Block, SLATE),
    Ground(Figure::Waves, 2),
    Ground(Figure::Gravel, 6),
    Ground(Figure::Hatch, 7),
];

impl Ground {
    fn with(&self, label: String) -> (Figure, usize, String) {
        (self.0, self.1, label)
    }
}

/// What the player is told cell by cell: words; what is not told lies covered.
fn told(b: &Bound, state: &[i32], out: &mut Tiles) {
    for (t, (tell, values)) in b.model.tells.iter().zip(b.told(state)).enumerate() {
        if !matches!(tell.over, Some((_, Range::Board))) {
            continue;
        }
        for (cell, value) in out.cells.iter_mut().zip(values) {
            let things = match value {
                Some(v) => {
                    let plain = v == 0 && tell.value.ty.scalar() == Some(Scalar::Int);
                    let label = if plain { String::new() } else { b.told_text(t, Some(v)) };
                    thing(b, Drawee::Tell(t), v, plain, (Figure::Label, INK, label))
                }
                None => Thing::new(Figure::Hatch, Paint::Named(SLATE), ""),
            };
            // The cover lies over the ground and under what is seen on it.
            let at = if value.is_none() { 0 } else { cell.len() };
            cell.insert(at, things);
        }
    }
}

/// Lists by key as piles, side by side, from the foot up.
fn piles(b: &Bound, state: &[i32]) -> Option<Tiles> {
    let model = &b.model;
    let lists = |v: &VarId| model.vars[*v].state && b.slots[*v].active && model.vars[*v].shadow_of.is_none();
    let vars: Vec<VarId> = model
        .var_ids()
        .filter(lists)
        .filter(|v| matches!(model.vars[*v].shape, Extent::Lists(..)) && !model.vars[*v].hidden)
        .collect();
    // As tall as any pile of them can become, where what is in them stays what it is.
    let entries = |v: VarId| {
        let slot = &b.slots[v];
        let chunks = state[slot.base..slot.base + slot.len].chunks(slot.cap + 1);
        chunks.map(|list| list[0].max(0) as usize).sum::<usize>().clamp(1, slot.cap.max(1))
    };
    let rows = vars.iter().map(|v| entries(*v)).max()?;
    let mut columns: Vec<(String, Vec<Thing>)> = vec![];
    for (k, v) in vars.iter().enumerate() {
        let Extent::Lists(key, _) = model.vars[*v].shape else { continue };
        let (slot, scalar) = (&b.slots[*v], model.vars[*v].dom.scalar());
        let names = b.key_names(key);
        for (name, list) in names.iter().zip(state[slot.base..slot.base + slot.len].chunks(slot.cap + 1)) {
            let entry = |x: &i32| {
                let label = b.scalar_text(scalar, (*x).into(), false);
                let mut out = thing(
                    b,
                    Drawee::Var(*v),
                    (*x).into(),
                    false,
                    (Figure::Slab, (i64::from(*x) - slot.lo).unsigned_abs() as usize % 8, label),
                );
                if scalar == Scalar::Int && slot.hi > slot.lo {
                    out.wide =
                        (40 + 60 * (i64::from(*x) - slot.lo) / (slot.hi - slot.lo)).clamp(20, 100) as u8;
                }
                out
            };
            let things = list[1..].iter().take(list[0].max(0) as usize).map(entry).collect();
            // Of several variables the first pile names its own.
            let first = columns.last().is_none_or(|c| c.0.is_empty() && c.1.is_empty());
            let head = if vars.len() > 1 && first {
                format!("{} {name}", model.vars[*v].name)
            } else {
                name.clone()
            };
            columns.push((head, things));
        }
        if k + 1 < vars.len() {
            columns.push((String::new(), vec![]));
        }
    }
    let cols = columns.len();
    let mut out = Tiles { rows, cols, cells: vec![vec![]; rows * cols], ..Tiles::default() };
    for (c, (name, things)) in columns.into_iter().enumerate() {
        for (k, t) in things.into_iter().enumerate().filter(|(k, _)| *k < rows) {
            out.cells[(rows - 1 - k) * cols + c].push(t);
        }
        out.piles.push(name);
    }
    Some(out)
}

/// Whether a variable is there or not, and no more.
pub fn is_bare(b: &Bound, v: VarId) -> bool {
    let def = &b.model.vars[v];
    def.shape == Extent::Set || def.dom.scalar() == Scalar::Bool
}

/// What is written on a value of a grid: its glyph, where the model gives one, else the value.
fn glyph(b: &Bound, v: VarId, x: i32) -> String {
    let shown = b.model.values_show(v).and_then(|(list, _)| list.iter().find(|g| g.0 == i64::from(x)));
    match shown {
        Some((_, text)) => text.clone(),
        None => b.scalar_text(b.model.vars[v].dom.scalar(), x.into(), false),
    }
}

/// A part of a position: its cells and the walls beside them, the rest blank.
pub fn part(b: &Bound, state: &[i32], facts: &[Fact], title: &str) -> Option<Tiles> {
    let mut out = tiles(b, &only_part(b, state, facts), title)?;
    let (cells, beside) = cells_of(b, facts);
    out.blank = (0..b.cells()).map(|c| !cells.contains(&c) && !beside.contains(&c)).collect();
    Some(out)
}

/// The board of a position as a picture.
///
/// # Errors
///
/// Words where the model has no board.
pub fn scene(b: &Bound, state: &[i32], title: &str, theme: Theme) -> Result<Scene, Trouble> {
    match tiles(b, state, title) {
        Some(t) => Ok(t.scene(theme)),
        None => Err(Trouble::words("this model has no board to be drawn; `fendle show` writes its values")),
    }
}
