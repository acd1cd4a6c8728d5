//! A checked model and one level become a bound model: sizes, ranges and starts are known.
//!
//! Also the text forms of positions, both ways: boards, and one line. Errors point at the
//! character in the level file.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::likeness::{NotAlike, canon};
use crate::model::*;
use crate::position::read::{Binder, Text, cell_list, is_without_blanks, lines, parts, unknown_key};
use crate::run::Eval;
use crate::source::{Diagnostic, FileId, Span};
use crate::state::{Bound, Codec, LIST_MAX, PartSlot, SIDE_MAX, Slot, Stop, TABLE_MAX};
use crate::syntax::level::{CELLS_MAX, Key, Level, Raw, RawKind};
use crate::syntax::tree::{BoardText, Name, ShapeDef};

/// The mistake that a level gives nothing for a variable without a default.
fn missing(binder: &mut Binder<'_>, file: FileId, level: &Level, def: &VarDef, hint: String) {
    let error = Diagnostic::error("L033", file, level.span, format!("this level gives no `{}`", def.name));
    let error = error.also(binder.model.file, def.span, "declared here, without a default");
    binder.errors.push(error.note(hint));
}

/// Binds a model to a level. `sets` are values that win over the level's (`--set`).
///
/// `None` when anything is wrong; errors are appended.
pub fn bind(
    model: &Arc<Model>,
    file: FileId,
    level: &Level,
    sets: &[(Key, Raw, FileId)],
    errors: &mut Vec<Diagnostic>,
) -> Option<Bound> {
    bind_until(model, file, level, sets, &Stop::default(), errors)
}

/// The model with the shapes that a level draws in place of its own; `None` inside where it draws none.
#[allow(clippy::option_option)]
fn redrawn(
    model: &Arc<Model>,
    file: FileId,
    level: &Level,
    errors: &mut Vec<Diagnostic>,
) -> Option<Option<Arc<Model>>> {
    if level.shapes.is_empty() {
        return Some(None);
    }
    let mut out = Model::clone(model);
    let before = errors.len();
    for (key, raw) in &level.shapes {
        let named = |g: &ShapesDef| g.shapes.iter().position(|s| s.name == key.text);
        let Some((group, at)) = out.shapes.iter().enumerate().find_map(|(g, d)| Some((g, named(d)?))) else {
            let known: Vec<&str> =
                out.shapes.iter().flat_map(|g| &g.shapes).map(|s| s.name.as_str()).collect();
            let message = format!("the model `{}` has no shape named `{}`", out.name, key.text);
            let mut error = Diagnostic::error("L035", file, key.span, message);
            error.notes.push(match crate::source::near(&key.text, known.iter().copied()) {
                Some(n) => format!("did you mean `{n}`?"),
                None => format!("there are: {}", known.join(", ")),
            });
            errors.push(error);
            continue;
        };
        let list = match &raw.kind {
            RawKind::List(list) => list.iter().collect(),
            _ => vec![raw],
        };
        let turns: Option<Vec<BoardText>> = list
            .into_iter()
            .map(|raw| match &raw.kind {
                RawKind::Text(text, at) => {
                    let text = if text.contains('\n') { text.clone() } else { text.replace('/', "\n") };
                    Some(BoardText { text, at: at.unwrap_or(raw.span.start), span: raw.span })
                }
                _ => None,
            })
            .collect();
        let Some(turns) = turns else {
            let words = "a shape is a drawing in quotes, or a list of its turns";
            errors.push(Diagnostic::error("L037", file, raw.span, words));
            continue;
        };
        let name = Name { text: key.text.clone(), span: key.span };
        let def = ShapeDef { name, corner: None, cell: None, turns };
        let parts = out.shapes[group].of.map(|e| out.enums[e].values.clone());
        match crate::check::shapes::turns(&def, parts.as_deref(), out.shapes[group].mirrored) {
            Ok(turns) => out.shapes[group].shapes[at] = turns,
            Err((span, message, note)) => {
                errors.push(Diagnostic::error("M049", file, span, message).note(note));
            }
        }
    }
    out.shapes.iter_mut().for_each(ShapesDef::number);
    (errors.len() == before).then(|| Some(Arc::new(out)))
}

/// The same, and what is evaluated then and later asks `stop`.
pub fn bind_until(
    model: &Arc<Model>,
    file: FileId,
    level: &Level,
    sets: &[(Key, Raw, FileId)],
    stop: &Stop,
    errors: &mut Vec<Diagnostic>,
) -> Option<Bound> {
    let before = errors.len();
    let redrawn = redrawn(model, file, level, errors)?;
    let model = redrawn.as_ref().unwrap_or(model);
    let mut binder = Binder { model, errors };
    let (rows, cols) = binder.find_size(file, level)?;
    let mut b = Bound {
        model: Arc::clone(model),
        name: level.name.clone(),
        rows,
        cols,
        slots: vec![Slot::default(); model.vars.len()],
        data: vec![],
        start: vec![],
        position: vec![],
        records: vec![],
        ranges: vec![],
        spreads: vec![None; model.vars.len()],
        collections: vec![],
        drawn: false,
        codec: Codec::default(),
        scattered: vec![],
        seen: vec![None; model.tells.len()],
        as_player: false,
        canon: None,
        stop: stop.clone(),
    };
    for (key, _, at) in sets {
        if !model.vars.iter().any(|v| !v.state && v.name == key.text) {
            unknown_key(&mut binder, *at, key, false);
        }
    }
    for (list, state) in [(&level.values, false), (&level.start, true)] {
        for (key, _) in list {
            let drawing = state
                && model.shows.iter().any(|s| matches!(s, Show::Drawing { name, .. } if *name == key.text));
            if !drawing && !model.vars.iter().any(|v| v.state == state && v.name == key.text) {
                unknown_key(&mut binder, file, key, state);
            }
        }
    }
    // What seems to be missing may be what was given under another name.
    let misnamed = binder.errors.len() > before;
    let mut undrawn: Vec<usize> = vec![];
    // Variables with a mistake in what is given for them: they stand empty, so that one run shows every mistake.
    let mut wrong: Vec<usize> = vec![];
    let mut drawn: Vec<(usize, Vec<Option<i64>>)> = vec![];
    let mut drawn_read = false;
    // Level values first: ranges and sizes may depend on those declared above.
    let order: Vec<usize> = (0..model.vars.len())
        .filter(|&v| !model.vars[v].state)
        .chain((0..model.vars.len()).filter(|&v| model.vars[v].state))
        .collect();
    for var in order {
        let def = &model.vars[var];
        let cells = b.rows * b.cols;
        if let Some((r, c)) = &def.sized {
            let (r, c) = (constant(&mut binder, &b, r)?, constant(&mut binder, &b, c)?);
            if r < 1 || c < 1 || r as usize * c as usize > CELLS_MAX {
                binder.error(
                    "L022",
                    file,
                    level.span,
                    format!("`{}` would be {r} x {c} cells; 1 to {CELLS_MAX} are allowed", def.name),
                );
                return None;
            }
            if b.rows == 0 {
                (b.rows, b.cols) = (r as usize, c as usize);
            } else if (b.rows, b.cols) != (r as usize, c as usize) {
                let message =
                    format!("`{}` is {r} x {c}, the level's board is {} x {}", def.name, b.rows, b.cols);
                binder.error("L023", file, level.span, message);
                return None;
            }
        }
        let keyed_by_side = matches!(
            def.shape,
            Extent::Array(Keyed::Row | Keyed::Column) | Extent::Lists(Keyed::Row | Keyed::Column, _)
        ) || matches!(def.shape, Extent::Array(Keyed::Pair(p)) if model.pairs[p].1 == Keyed::Cell);
        if matches!(def.shape, Extent::Grid | Extent::Set) || is_placed(&def.dom) || keyed_by_side {
            if b.rows == 0 {
                let message = format!("nothing says how large the board of `{}` is", def.name);
                binder
                    .error("L029", file, level.span, message)
                    .notes
                    .push("give a text board, or `size = [rows, columns]`".into());
                return None;
            }
            if !drawn_read {
                drawn_read = true;
                for (key, raw) in &level.start {
                    let named = |s: &&Show| matches!(s, Show::Drawing { name, .. } if *name == key.text);
                    let Some(show) = model.shows.iter().find(named) else { continue };
                    let Show::Drawing { vars, .. } = show else { continue };
                    let RawKind::Text(text, at) = &raw.kind else {
                        binder.error("L030", file, raw.span, "a drawing is a text board in '''");
                        wrong.extend(vars);
                        continue;
                    };
                    // Slots of later variables are not known yet; glyph values are plain numbers.
                    let text = Text { text, at: *at, span: raw.span, file };
                    match binder.drawing(&b, show, text, false) {
                        Some(list) => drawn.extend(list),
                        None => wrong.extend(vars),
                    }
                }
            }
        }
        let cells = if b.rows > 0 { b.rows * b.cols } else { cells };
        binder.side_types(&mut b, def)?;
        let cap = match &def.max {
            None => 0,
            Some(max) => {
                let n = constant(&mut binder, &b, max)?;
                if !(0..=LIST_MAX).contains(&n) {
                    let message = format!("a list of {n} entries; 0 to {LIST_MAX} are allowed");
                    binder.error("L031", model.file, max.span, message);
                    return None;
                }
                n as usize
            }
        };
        let len = match def.shape {
            Extent::One => 1,
            Extent::Grid | Extent::Set => cells,
            Extent::Array(key) => b.keys_len(key),
            Extent::List(_) => 1 + cap,
            Extent::Lists(key, _) => b.keys_len(key) * (1 + cap),
        };
        let maybe = matches!(def.dom, Dom::Maybe(_));
        let active = match &def.when {
            None => true,
            Some(when) => constant(&mut binder, &b, when)? != 0,
        };
        let (mut lo, mut hi) = binder.dom_range(&b, &def.dom)?;
        if !active {
            // It holds one value only.
            hi = hi.max(lo);
        }
        if lo > hi || lo < -(1 << 30) || hi > 1 << 30 {
            binder.error(
                "L031",
                file,
                level.span,
                format!("`{}` would hold {lo} to {hi}: empty, or too wide", def.name),
            );
            return None;
        }
        if let Some(target) = def.rearranged {
            let t = &b.slots[target];
            let values = &b.data[t.base..t.base + t.len];
            lo = values.iter().copied().min().unwrap_or(0).into();
            hi = values.iter().copied().max().unwrap_or(0).into();
        }
        b.slots[var] = Slot { active, lo, hi, base: 0, len, cap, maybe };
        let slot = b.slots[var].clone();
        let given = if def.state {
            level.start.iter().rev().find(|(k, _)| k.text == def.name).map(|(_, r)| (r, file))
        } else {
            sets.iter().rev().find(|(k, ..)| k.text == def.name).map(|(_, r, f)| (r, *f)).or_else(|| {
                level.values.iter().rev().find(|(k, _)| k.text == def.name).map(|(_, r)| (r, file))
            })
        };
        let from_drawing = drawn.iter().find(|(v, _)| *v == var);
        if let (Some((raw, at)), Some(_)) = (given, from_drawing) {
            binder.error("L032", at, raw.span, format!("`{}` is in the drawing already", def.name));
            wrong.push(var);
        }
        let twice = given.is_some() && from_drawing.is_some();
        let empty = || -> Vec<i64> {
            let mut out = vec![slot.pad(); len];
            if cap + 1 > 0 && matches!(def.shape, Extent::List(_) | Extent::Lists(..)) {
                out.iter_mut().step_by(cap + 1).for_each(|n| *n = 0);
            }
            out
        };
        let values: Vec<i64> = if let Some(of) = def.shadow_of {
            // Declared behind what it keeps.
            let from = b.slots[of].clone();
            b.start[from.base..from.base + from.len].iter().map(|&v| v.into()).collect()
        } else if def.rearranged.is_some_and(|target| wrong.contains(&target)) {
            // What it may hold is not known.
            wrong.push(var);
            empty()
        } else if !active || twice || given.is_none() && wrong.contains(&var) {
            empty()
        } else if let Some((raw, at)) = given {
            raw_values(&mut binder, &b, var, raw, at).unwrap_or_else(|| {
                wrong.push(var);
                empty()
            })
        } else if let Some((_, values)) = from_drawing {
            let values: Vec<i64> = values.iter().map(|v| v.expect("read without `?`")).collect();
            match values.iter().find(|v| !slot.holds(**v)) {
                Some(v) => {
                    let message = format!("`{}` holds {lo} to {hi}, a glyph says {v}", def.name);
                    binder.error("L025", file, level.span, message);
                    wrong.push(var);
                    empty()
                }
                None => values,
            }
        } else if let Some(opened) = binder.opened(&b, var, file, level)? {
            opened
        } else if !def.defaults.is_empty() {
            let mut values = vec![];
            for e in &def.defaults {
                let value = constant(&mut binder, &b, e)?;
                if !slot.holds(value) {
                    binder.error("L025", model.file, e.span, format!("{value} is not in {lo} to {hi}"));
                    return None;
                }
                values.push(value);
            }
            values
        } else if let Some(default) = &def.default {
            let value = constant(&mut binder, &b, default)?;
            if !slot.holds(value) {
                binder.error("L025", model.file, default.span, format!("{value} is not in {lo} to {hi}"));
                return None;
            }
            vec![value; len]
        } else if let Some(target) = def.rearranged {
            if def.hidden {
                b.scattered.push(var);
            }
            let t = &b.slots[target];
            b.data[t.base..t.base + t.len].iter().map(|&v| v.into()).collect()
        } else if let Some(target) = def.shuffled {
            b.scattered.push(var);
            let t = &b.slots[target];
            b.data[t.base..t.base + t.len].iter().map(|&v| v.into()).collect()
        } else if matches!(def.shape, Extent::List(_) | Extent::Lists(..)) {
            // A list that is not given is empty.
            empty()
        } else if def.hidden {
            // Drawn from what is known of it.
            b.scattered.push(var);
            empty()
        } else if def.state && model.setup.is_some() {
            // What the setup does not draw has its least value: nothing of it can be forgotten,
            // since a level that gives a part of the start gives all of it.
            undrawn.push(var);
            empty()
        } else if misnamed {
            wrong.push(var);
            empty()
        } else {
            let what = if def.state { "start" } else { "values" };
            missing(&mut binder, file, level, def, format!("add `{what}.{} = ...`", def.name));
            wrong.push(var);
            empty()
        };
        if let Some(target) = def
            .rearranged
            .or(def.shuffled)
            .filter(|target| active && !wrong.contains(target) && !wrong.contains(&var))
        {
            let t = &b.slots[target];
            let mut want: Vec<i64> = b.data[t.base..t.base + t.len].iter().map(|&v| v.into()).collect();
            let mut have = values.clone();
            if def.shuffled.is_some() {
                for list in [&mut want, &mut have] {
                    list.truncate(1 + list[0] as usize);
                    list.remove(0);
                }
            }
            want.sort_unstable();
            have.sort_unstable();
            if want != have {
                let name = &model.vars[target].name;
                let extra = have.iter().find(|v| count(&have, **v) > count(&want, **v)).copied();
                let message = match extra {
                    Some(v) => format!(
                        "`{}` must hold the values of `{name}` in another order; {v} is there {} times instead of {}",
                        def.name,
                        count(&have, v),
                        count(&want, v)
                    ),
                    None => format!("`{}` must hold the values of `{name}` in another order", def.name),
                };
                let (span, at) = given.map_or((level.span, file), |(raw, at)| {
                    (spot_of(&binder, &b, var, raw, at, extra).unwrap_or(raw.span), at)
                });
                binder.error("L034", at, span, message);
                wrong.push(var);
            }
        }
        let region = if def.state { &mut b.start } else { &mut b.data };
        b.slots[var].base = region.len();
        region.extend(values.iter().map(|&v| v as i32));
    }
    if binder.errors.len() > before {
        // A size that fits no board is one mistake.
        let found = binder.errors.split_off(before);
        let mut sizes = BTreeSet::new();
        let mut is_new = |d: &Diagnostic| d.code != "L023" || sizes.insert(d.message.clone());
        binder.errors.extend(found.into_iter().filter(|d| is_new(d)));
        return None;
    }
    if model.moves.iter().any(|m| m.params.iter().any(|d| matches!(d, Dom::Cell))) && b.rows == 0 {
        binder
            .error("L029", file, level.span, "nothing says how large the board is, and a move takes a cell")
            .notes
            .push("give a text board, or `size = [rows, columns]`".into());
        return None;
    }
    let says = |key: &Key| {
        let drawing = model.shows.iter().find_map(|s| match s {
            Show::Drawing { name, vars, .. } if *name == key.text => Some(vars),
            _ => None,
        });
        match drawing {
            Some(vars) => vars.iter().any(|v| !model.vars[*v].hidden),
            None => !model.vars.iter().any(|v| v.hidden && v.name == key.text),
        }
    };
    b.drawn = model.setup.is_some() && level.told.is_empty() && !level.start.iter().any(|(k, _)| says(k));
    binder.told(&mut b, file, level)?;
    binder.layouts(&b, file, level)?;
    if let (false, Some(&v)) = (b.drawn, undrawn.first()) {
        let def = &model.vars[v];
        let hint =
            format!("add `start.{} = ...`, or leave out the whole start: then the setup draws it", def.name);
        missing(&mut binder, file, level, def, hint);
        return None;
    }
    for (i, spread) in model.spreads.iter().enumerate() {
        let (lo, hi) = match &spread.range {
            Some((lo, hi)) => (constant(&mut binder, &b, lo)?, constant(&mut binder, &b, hi)?),
            None => (b.slots[spread.vars[0]].lo, b.slots[spread.vars[0]].hi),
        };
        b.collections.push((lo, hi));
        if let [var] = spread.vars.as_slice()
            && matches!(model.vars[*var].shape, Extent::Lists(..))
        {
            b.spreads[*var] = Some((lo, hi));
        }
        let start = b.start.clone();
        if !b.drawn && !b.is_spread(i, &start) {
            let mut error = b.not_spread(i, &start, file, level.span);
            let text = "declared here".into();
            error.labels.push(crate::source::Label { file: model.file, span: spread.span, text });
            binder.errors.push(error);
            return None;
        }
    }
    // The ended part.
    let ended = b.start.len();
    b.start.push(0);
    for (v, def) in model.vars.iter().enumerate().filter(|(_, d)| d.state) {
        let slot = &b.slots[v];
        // What a given start was costs no bits.
        if !slot.active || def.shadow_of.is_some() && !b.drawn {
            for i in 0..slot.len {
                let value = i64::from(b.start[slot.base + i]);
                b.codec.plain(slot.base + i, 1, value, value);
            }
            continue;
        }
        if let Some((lo, hi)) = b.spreads[v]
            && b.codec.spread(slot.base, slot.len / (slot.cap + 1), slot.cap, (lo, hi), slot.pad(), v)
        {
            continue;
        }
        let of = model.spreads.iter().position(|s| s.vars.contains(&v));
        if let Some(i) = of {
            // The first one of them packs all.
            let vars = &model.spreads[i].vars;
            let part = |v: &usize| {
                let slot = &b.slots[*v];
                (slot.base, slot.len / (slot.cap + 1), slot.cap)
            };
            let parts: Vec<_> = vars.iter().map(part).collect();
            if vars[0] != v || b.codec.heaps(&parts, b.collections[i], slot.pad(), v) {
                continue;
            }
        }
        if let Extent::List(_) | Extent::Lists(..) = def.shape {
            b.codec.has_gaps();
            for list in 0..slot.len / (slot.cap + 1) {
                let base = slot.base + list * (slot.cap + 1);
                b.codec.plain(base, 1, 0, slot.cap as i64);
                if slot.maybe {
                    b.codec.maybe(base + 1, slot.cap, slot.lo, slot.hi);
                } else {
                    b.codec.plain(base + 1, slot.cap, slot.lo, slot.hi);
                }
            }
            continue;
        }
        if slot.maybe {
            b.codec.maybe(slot.base, slot.len, slot.lo, slot.hi);
            continue;
        }
        let packed = def.rearranged.is_some()
            && b.codec.rearranged(slot.base, &b.start[slot.base..slot.base + slot.len], v);
        if !packed {
            b.codec.plain(slot.base, slot.len, slot.lo, slot.hi);
        }
    }
    b.codec.plain(ended, 1, 0, model.ended_codes());
    b.position = b.start.clone();
    match canon(&b) {
        Ok(found) => b.canon = found,
        Err(NotAlike::LevelTells(v, at)) => {
            let message = format!("`{}` tells apart what the model declares to be alike", model.vars[v].name);
            binder.error("L080", file, level.span, message).labels.push(crate::source::Label {
                file: model.file,
                span: at,
                text: "declared here".into(),
            });
        }
        Err(NotAlike::TooMany(most, at)) => {
            let message =
                format!("more than {most} ways to rename what is alike: they are not brought into one form");
            binder.error("L081", model.file, at, message);
        }
    }
    (binder.errors.len() == before).then_some(b)
}

fn count(list: &[i64], v: i64) -> usize {
    list.iter().filter(|x| **x == v).count()
}

/// Where in a text board a value stands for the last time.
fn spot_of(
    binder: &Binder<'_>,
    b: &Bound,
    var: usize,
    raw: &Raw,
    file: FileId,
    v: Option<i64>,
) -> Option<Span> {
    let RawKind::Text(text, at) = &raw.kind else { return None };
    let mut quiet = vec![];
    let mut inner = Binder { model: binder.model, errors: &mut quiet };
    let text = Text { text, at: *at, span: raw.span, file };
    let joined = inner.is_joined(var);
    let rows = inner.board(text, joined, None)?;
    let mut last = None;
    for (part, span) in rows.into_iter().flatten() {
        if inner.value(b, var, part, file, span) == v {
            last = Some(span);
        }
    }
    last
}

/// The value of an expression that only the level decides.
fn constant(binder: &mut Binder<'_>, b: &Bound, e: &Expr) -> Option<i64> {
    match Eval::new(b).lone(e) {
        Ok(v) => Some(v),
        Err(fault) => {
            let message = fault.to_string();
            binder.error("L036", b.model.file, fault.span, message);
            None
        }
    }
}

fn raw_values(binder: &mut Binder<'_>, b: &Bound, var: usize, raw: &Raw, file: FileId) -> Option<Vec<i64>> {
    let def = &binder.model.vars[var];
    let words = match (&raw.kind, def.shape) {
        (RawKind::Text(text, at), _) => {
            let text = Text { text, at: *at, span: raw.span, file };
            return binder.block(b, var, text, false).map(|v| v.into_iter().flatten().collect());
        }
        (RawKind::Int(n), Extent::One) => n.to_string(),
        (RawKind::Bool(v), Extent::One) => v.to_string(),
        (RawKind::Table(entries), Extent::Array(_) | Extent::Lists(..)) => {
            let mut words = vec![];
            for (key, value) in entries {
                words.push(format!("{}: {}", key.text, raw_words(binder, value, file, &def.shape)?));
            }
            words.join(", ")
        }
        (RawKind::List(entries), Extent::List(_)) => {
            let words: Option<Vec<String>> =
                entries.iter().map(|e| raw_words(binder, e, file, &Extent::One)).collect();
            words?.join(" ")
        }
        (RawKind::List(entries), Extent::Array(key) | Extent::Lists(key, _)) => {
            let names = match key {
                Keyed::Pair(p) => b.key_names(binder.model.pairs[p].0),
                _ => b.key_names(key),
            };
            if names.len() != entries.len() {
                let message =
                    format!("`{}` wants {} entries, these are {}", def.name, names.len(), entries.len());
                binder.error("L037", file, raw.span, message);
                return None;
            }
            let mut words = vec![];
            for (key, value) in names.iter().zip(entries) {
                words.push(format!("{key}: {}", raw_words(binder, value, file, &def.shape)?));
            }
            words.join(", ")
        }
        (RawKind::Int(_) | RawKind::Bool(_), Extent::Grid | Extent::Set) => {
            binder
                .error("L037", file, raw.span, format!("`{}` is a board, this is a single value", def.name))
                .notes
                .push("write its rows between ''' and '''".into());
            return None;
        }
        _ => {
            binder.error("L037", file, raw.span, format!("this is no value for `{}`", def.name));
            return None;
        }
    };
    let text = Text { text: &words, at: None, span: raw.span, file };
    binder.block(b, var, text, false).map(|v| v.into_iter().flatten().collect())
}

/// A value of a level file as words.
fn raw_words(binder: &mut Binder<'_>, raw: &Raw, file: FileId, shape: &Extent) -> Option<String> {
    Some(match (&raw.kind, shape) {
        (RawKind::Int(n), _) => n.to_string(),
        (RawKind::Bool(v), _) => v.to_string(),
        (RawKind::Text(t, _), _) => t.replace(',', " "),
        (RawKind::List(list), Extent::Lists(..) | Extent::Array(Keyed::Pair(_))) => {
            let words: Option<Vec<String>> =
                list.iter().map(|e| raw_words(binder, e, file, &Extent::One)).collect();
            words?.join(" ")
        }
        _ => {
            binder.error("L037", file, raw.span, "a single value is wanted here");
            return None;
        }
    })
}

impl Binder<'_> {
    /// The values of a variable that decides what is told, from what the level says is seen.
    #[allow(clippy::option_option)]
    fn opened(&mut self, b: &Bound, var: usize, file: FileId, level: &Level) -> Option<Option<Vec<i64>>> {
        for tell in self.model.tells.iter().filter(|t| t.opened() == Some(var)) {
            if let Some((_, raw)) = level.told.iter().find(|(k, _)| k.text == tell.name) {
                let told = self.told_board(b, tell, raw, file)?;
                return Some(Some(told.into_iter().map(|v| i64::from(v.is_some())).collect()));
            }
        }
        Some(None)
    }

    /// Reads what the level says is seen.
    fn told(&mut self, b: &mut Bound, file: FileId, level: &Level) -> Option<()> {
        for (key, raw) in &level.told {
            let Some(t) = self.model.tells.iter().position(|t| t.name == key.text) else {
                let known: Vec<String> = self.model.tells.iter().map(|t| t.name.clone()).collect();
                let error =
                    self.error("L035", file, key.span, format!("nothing named `{}` is told", key.text));
                error.notes.push(match crate::source::near(&key.text, known.iter().map(String::as_str)) {
                    Some(n) => format!("did you mean `{n}`?"),
                    None => format!("told are: {}", known.join(", ")),
                });
                return None;
            };
            let tell = self.model.tells[t].clone();
            b.seen[t] = Some(self.told_board(b, &tell, raw, file)?);
        }
        if !level.told.is_empty() && b.scattered.is_empty() {
            let span = level.told[0].0.span;
            self.error("L083", file, span, "the level gives the layout, so what is told follows from it")
                .notes
                .push("leave out one of the two".into());
            return None;
        }
        Some(())
    }

    /// A layout that the level gives must be one that can be drawn.
    fn layouts(&mut self, b: &Bound, file: FileId, level: &Level) -> Option<()> {
        for (v, def) in self.model.vars.iter().enumerate() {
            if !def.hidden || b.scattered.contains(&v) || !b.slots[v].active {
                continue;
            }
            let Some(with) = def.prior.as_ref().and_then(|p| p.with.as_ref()) else { continue };
            let mut state = b.start.clone();
            state.push(0);
            let holds = Eval::new(b).value_in(with, &state);
            let message = match holds {
                Ok(0) => match crate::run::scatter::exact_count(b, v) {
                    Some(n) => {
                        let slot = &b.slots[v];
                        let have =
                            b.start[slot.base..slot.base + slot.len].iter().filter(|x| **x != 0).count();
                        if have as i64 == n {
                            format!("the layout of `{}` is not one that can be drawn", def.name)
                        } else {
                            format!("`{}` holds {have} here, and {n} are wanted", def.name)
                        }
                    }
                    None => format!("the layout of `{}` is not one that can be drawn", def.name),
                },
                Ok(_) => continue,
                Err(fault) => fault.to_string(),
            };
            let span =
                level.start.iter().find(|(k, _)| k.text == def.name).map_or(level.span, |(_, r)| r.span);
            let (declared, model_file) = (with.expr.span, self.model.file);
            self.error("L084", file, span, message).labels.push(crate::source::Label {
                file: model_file,
                span: declared,
                text: "this is what is known of it".into(),
            });
            return None;
        }
        Some(())
    }

    /// Rows and columns of a text board, not yet checked.
    fn shape_of(&self, joined: bool, text: &str) -> Option<(usize, usize)> {
        let rows = lines(text);
        let cols = parts(rows.first()?.1, joined).len();
        Some((rows.len(), cols))
    }

    fn find_size(&mut self, file: FileId, level: &Level) -> Option<(usize, usize)> {
        if let Some(((r, c), span)) = level.size {
            if r * c > CELLS_MAX || r > SIDE_MAX || c > SIDE_MAX {
                self.error(
                    "L022",
                    file,
                    span,
                    format!("{r} x {c} cells are too many; {CELLS_MAX} are allowed, {SIDE_MAX} in a line"),
                );
                return None;
            }
            return Some((r, c));
        }
        // A value that a later one replaces says nothing.
        let last = |i: usize, key: &Key| level.values[i + 1..].iter().all(|(k, _)| k.text != key.text);
        let values = level.values.iter().enumerate().filter(|(i, (k, _))| last(*i, k)).map(|(_, v)| v);
        let mut without_blanks = None;
        for (key, raw) in level.start.iter().chain(values).chain(&level.told) {
            let RawKind::Text(text, _) = &raw.kind else { continue };
            // A board without the blanks that its values want says nothing of the size, where another one does.
            let spaced = matches!(self.model.var(&key.text), Some(v) if !self.is_joined(v));
            let rows = lines(text);
            let run_together = rows.len() > 1 && is_without_blanks(&rows);
            if cell_list(text).is_some() || spaced && run_together {
                let is_board = self
                    .model
                    .var(&key.text)
                    .is_some_and(|v| matches!(self.model.vars[v].shape, Extent::Grid | Extent::Set));
                if is_board && cell_list(text).is_none() && without_blanks.is_none() {
                    without_blanks = self.shape_of(true, text).filter(|(r, c)| r * c <= CELLS_MAX);
                }
                continue;
            }
            let joined = match self.model.var(&key.text) {
                Some(v) if matches!(self.model.vars[v].shape, Extent::Grid | Extent::Set) => {
                    self.is_joined(v)
                }
                Some(_) => continue,
                None if self.model.tells.iter().any(|t| t.name == key.text) => !text.trim().contains(' '),
                None => true,
            };
            if let Some(size) = self.shape_of(joined, text) {
                // Too large or ragged boards are reported where they are read.
                if size.0 * size.1 <= CELLS_MAX {
                    return Some(size);
                }
                let text = Text { text, at: None, span: raw.span, file };
                self.board(text, joined, None);
                return None;
            } else {
                let text = Text { text, at: None, span: raw.span, file };
                self.board(text, joined, None);
                return None;
            }
        }
        // The mistake is told where its values are read.
        Some(without_blanks.unwrap_or((0, 0)))
    }

    /// Least and greatest value of a domain; `none` aside.
    fn dom_range(&mut self, b: &Bound, dom: &Dom) -> Option<(i64, i64)> {
        Some(match dom {
            Dom::Range(lo, hi) => (constant(self, b, lo)?, constant(self, b, hi)?),
            Dom::First(e, count) => {
                let (n, all) = (constant(self, b, count)?, self.model.enums[*e].values.len() as i64);
                if n < 1 || n > all {
                    let message = format!(
                        "the first {n} of `{}` are wanted, which has {all}",
                        self.model.enums[*e].name
                    );
                    self.error("L031", self.model.file, count.span, message);
                    return None;
                }
                (0, n - 1)
            }
            Dom::Maybe(inner) => self.dom_range(b, inner)?,
            _ => b.plain_range(dom),
        })
    }

    /// The record and the key range that a variable is made of; what they name is known by now.
    fn side_types(&mut self, b: &mut Bound, def: &VarDef) -> Option<()> {
        b.records.resize(self.model.records.len(), vec![]);
        b.ranges.resize(self.model.ranges.len(), (0, -1));
        let inner = match &def.dom {
            Dom::Maybe(inner) => inner,
            dom => dom,
        };
        if let Dom::Record(r) = inner
            && b.records[*r].is_empty()
        {
            let record = &self.model.records[*r];
            let mut stride = 1i64;
            for (name, dom) in &record.parts {
                let (lo, hi) = self.dom_range(b, dom)?;
                let count = (hi - lo + 1).max(1);
                b.records[*r].push(PartSlot { lo, count, stride });
                stride = stride.saturating_mul(count);
                if stride > 1 << 30 {
                    let message = format!("`{}` would hold too many values with `{name}`", record.name);
                    self.error("L031", self.model.file, def.span, message);
                    return None;
                }
            }
        }
        let keys = match def.shape {
            Extent::Array(Keyed::Pair(p)) => vec![self.model.pairs[p].0, self.model.pairs[p].1],
            Extent::Array(key) | Extent::Lists(key, _) => vec![key],
            _ => vec![],
        };
        for key in keys {
            let Keyed::Range(r) = key else { continue };
            let (lo, hi) = self.model.ranges[r].clone();
            let (lo, hi) = (constant(self, b, &lo)?, constant(self, b, &hi)?);
            let most = if def.state { LIST_MAX } else { TABLE_MAX };
            if hi < lo - 1 || hi - lo > most {
                let message = format!("`{}` would be keyed by {lo} to {hi}: too many", def.name);
                self.error("L031", self.model.file, def.span, message);
                return None;
            }
            b.ranges[r] = (lo, hi);
        }
        Some(())
    }
}
