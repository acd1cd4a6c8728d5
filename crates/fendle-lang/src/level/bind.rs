//! A checked model and one level become a bound model: sizes, ranges and starts are known.
//!
//! Also the text forms of positions, both ways: boards, and one line. Errors point at the
//! character in the level file.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::binding::Binding;
use super::likeness::{NotAlike, canon};
use crate::model::*;
use crate::position::read::{Binder, Text, cell_list, is_without_blanks, lines, parts};
use crate::run::Eval;
use crate::source::{Diagnostic, FileId};
use crate::state::{Bound, Codec, LIST_MAX, PartSlot, SIDE_MAX, Slot, Stop, TABLE_MAX};
use crate::syntax::level::{CELLS_MAX, Key, Level, Raw, RawKind};
use crate::syntax::tree::{BoardText, Name, ShapeDef};

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
    let b = Bound {
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
    let mut binding = Binding::new(binder, b, (file, level), sets);
    binding.names();
    binding.misnamed = binding.binder.errors.len() > before;
    // Level values first: ranges and sizes may depend on those declared above.
    for state in [false, true] {
        for var in model.var_ids().filter(|&v| model.vars[v].state == state) {
            binding.variable(var)?;
        }
    }
    if binding.binder.errors.len() > before {
        // A size that fits no board is one mistake.
        let found = binding.binder.errors.split_off(before);
        let mut sizes = BTreeSet::new();
        let mut is_new = |d: &Diagnostic| d.code != "L023" || sizes.insert(d.message.clone());
        binding.binder.errors.extend(found.into_iter().filter(|d| is_new(d)));
        return None;
    }
    binding.starts()?;
    binding.spreads()?;
    binding.codec();
    let mut b = binding.b;
    b.position = b.start.clone();
    likeness(&mut b, errors, file, level);
    (errors.len() == before).then_some(b)
}

/// How states that differ only in names are brought to one form; what keeps them apart is told.
fn likeness(b: &mut Bound, errors: &mut Vec<Diagnostic>, file: FileId, level: &Level) {
    let model = Arc::clone(&b.model);
    let mut binder = Binder { model: &model, errors };
    match canon(b) {
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
}

/// The value of an expression that only the level decides.
pub(super) fn constant(binder: &mut Binder<'_>, b: &Bound, e: &Expr) -> Option<i64> {
    match Eval::new(b).lone(e) {
        Ok(v) => Some(v),
        Err(fault) => {
            let message = fault.to_string();
            binder.error("L036", b.model.file, fault.span, message);
            None
        }
    }
}

pub(super) fn raw_values(
    binder: &mut Binder<'_>,
    b: &Bound,
    var: VarId,
    raw: &Raw,
    file: FileId,
) -> Option<Vec<i64>> {
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
    pub(super) fn opened(
        &mut self,
        b: &Bound,
        var: VarId,
        file: FileId,
        level: &Level,
    ) -> Option<Option<Vec<i64>>> {
        for tell in self.model.tells.iter().filter(|t| t.opened() == Some(var)) {
            if let Some((_, raw)) = level.told.iter().find(|(k, _)| k.text == tell.name) {
                let told = self.told_board(b, tell, raw, file)?;
                return Some(Some(told.into_iter().map(|v| i64::from(v.is_some())).collect()));
            }
        }
        Some(None)
    }

    /// Reads what the level says is seen.
    pub(super) fn told(&mut self, b: &mut Bound, file: FileId, level: &Level) -> Option<()> {
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
    pub(super) fn layouts(&mut self, b: &Bound, file: FileId, level: &Level) -> Option<()> {
        for (v, def) in self.model.variables() {
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
    pub(super) fn dom_range(&mut self, b: &Bound, dom: &Dom) -> Option<(i64, i64)> {
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
    pub(super) fn side_types(&mut self, b: &mut Bound, def: &VarDef) -> Option<()> {
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
