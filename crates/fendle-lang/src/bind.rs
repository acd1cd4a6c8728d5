//! A checked model and one level become a bound model: sizes, ranges and starts are known.
//!
//! Also the text forms of positions, both ways: boards, and one line. Errors point at the
//! character in the level file.

use std::sync::Arc;

use crate::alike::{Canon, NotAlike, canon};
use crate::codec::Codec;
use crate::diag::{Diagnostic, FileId, Span};
use crate::hir::*;
use crate::level::{CELLS_MAX, Key, Level, Raw, RawKind};
use crate::reference::Eval;

/// Most entries of a list.
pub const LIST_MAX: i64 = 4096;
/// What stands in a board for what the player is not told.
pub const UNTOLD: &str = "~";
/// Greatest length of a row or column.
pub const SIDE_MAX: usize = 4096;

/// Where a variable lies and what it may hold.
#[derive(Clone, Debug, Default)]
pub struct Slot {
    /// False for a state variable whose `if` does not hold: no bits, always `lo`.
    pub active: bool,
    /// Least value.
    pub lo: i64,
    /// Greatest value.
    pub hi: i64,
    /// First value in the level's data or in the state.
    pub base: usize,
    /// Number of values.
    pub len: usize,
    /// Most entries of a list.
    pub cap: usize,
    /// Whether a value may be `none`.
    pub maybe: bool,
}

impl Slot {
    /// What stands in unused entries of a list.
    #[must_use]
    pub fn pad(&self) -> i64 {
        if self.maybe { NONE } else { self.lo }
    }

    /// Whether it may hold a value.
    #[must_use]
    pub fn holds(&self, value: i64) -> bool {
        if !self.active {
            return value == self.pad();
        }
        value >= self.lo && value <= self.hi || self.maybe && value == NONE
    }
}

/// A part of a record: least value, number of values, and what one step of it counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PartSlot {
    /// Least value.
    pub lo: i64,
    /// Number of values.
    pub count: i64,
    /// What one step counts in the record's number.
    pub stride: i64,
}

/// A model with one level: ready to run.
#[derive(Clone, Debug)]
pub struct Bound {
    /// The model.
    pub model: Arc<Model>,
    /// The level's name.
    pub name: String,
    /// Rows of the board; 0 without a board.
    pub rows: usize,
    /// Columns of the board.
    pub cols: usize,
    /// One entry a variable.
    pub slots: Vec<Slot>,
    /// The level's values.
    pub data: Vec<i32>,
    /// The level's own start: all state variables, then the ended part.
    pub start: Vec<i32>,
    /// Where play begins: the start, or what `--at` gave.
    pub position: Vec<i32>,
    /// The parts of each record type.
    pub records: Vec<Vec<PartSlot>>,
    /// The ranges that arrays are keyed by.
    pub ranges: Vec<(i64, i64)>,
    /// For variables whose lists hold a conserved collection: its least and greatest number.
    pub spreads: Vec<Option<(i64, i64)>>,
    /// The level gives no start of its own: `setup` draws it.
    pub drawn: bool,
    /// Packs states.
    pub codec: Codec,
    /// Hidden variables whose layout the level does not give.
    pub scattered: Vec<usize>,
    /// For each `tell`, what the level says is seen, where it does.
    pub seen: Vec<Option<Vec<Option<i64>>>>,
    /// Positions are drawn as the player sees them.
    pub as_player: bool,
    /// Brings states into one form where things are alike.
    pub canon: Option<Canon>,
}

/// What stands on a board: rows of short texts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// The drawing's or the grid's name.
    pub name: String,
    /// Row by row; all rows are equally long.
    pub rows: Vec<Vec<String>>,
    /// One glyph a cell, to be written without blanks between.
    pub joined: bool,
}

/// A position as text: boards, then single values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drawn {
    /// The boards.
    pub pictures: Vec<Picture>,
    /// Other variables and their values.
    pub values: Vec<(String, String)>,
}

/// `r1c3` for a cell of a board with that many columns.
#[must_use]
pub fn cell_name(cell: usize, cols: usize) -> String {
    format!("r{}c{}", cell / cols.max(1) + 1, cell % cols.max(1) + 1)
}

/// Cells by their names, such as `r1c1 r2c3`, where a text is nothing else.
fn cell_list(text: &str) -> Option<Vec<(usize, usize)>> {
    let number = |s: &str| s.bytes().all(|b| b.is_ascii_digit()).then(|| s.parse().ok())?;
    let words: Option<Vec<(usize, usize)>> = text
        .split_whitespace()
        .map(|w| {
            let (r, c) = w.strip_prefix('r')?.split_once('c')?;
            Some((number(r)?, number(c)?))
        })
        .collect();
    words.filter(|w| !w.is_empty())
}

fn parse_cell(text: &str, rows: usize, cols: usize) -> Option<i64> {
    let (r, c) = text.strip_prefix('r')?.split_once('c')?;
    let (r, c): (usize, usize) = (r.parse().ok()?, c.parse().ok()?);
    (r >= 1 && c >= 1 && r <= rows && c <= cols).then(|| ((r - 1) * cols + c - 1) as i64)
}

/// Whether a grid is written as one glyph a cell, without blanks.
fn is_joined(model: &Model, var: usize) -> bool {
    model.values_show(var).map_or(model.vars[var].dom.scalar() == Scalar::Bool, |s| s.1)
}

/// The lines of a text board that hold something, with their byte offsets.
fn lines(text: &str) -> Vec<(usize, &str)> {
    let mut out = vec![];
    let mut at = 0;
    for line in text.split('\n') {
        let trimmed = line.trim();
        if !trimmed.is_empty() {
            out.push((at + line.find(trimmed).unwrap_or(0), trimmed));
        }
        at += line.len() + 1;
    }
    out
}

/// The parts of one line with their offsets: characters, or words.
fn parts(line: &str, joined: bool) -> Vec<(usize, &str)> {
    if joined {
        return line.char_indices().map(|(i, c)| (i, &line[i..i + c.len_utf8()])).collect();
    }
    let mut out = vec![];
    let mut from = None;
    for (i, c) in line.char_indices().chain([(line.len(), ' ')]) {
        match (c.is_whitespace(), from) {
            (false, None) => from = Some(i),
            (true, Some(f)) => {
                out.push((f, &line[f..i]));
                from = None;
            }
            _ => {}
        }
    }
    out
}

/// A text to be read as a board: where it came from, for errors.
#[derive(Clone, Copy)]
pub(crate) struct Text<'a> {
    pub text: &'a str,
    pub at: Option<u32>,
    pub span: Span,
    pub file: FileId,
}

impl Text<'_> {
    fn spot(&self, offset: usize, len: usize) -> Span {
        match self.at {
            Some(at) => Span::new(at as usize + offset, at as usize + offset + len),
            None => self.span,
        }
    }
}

pub(crate) struct Binder<'a> {
    pub model: &'a Model,
    pub errors: &'a mut Vec<Diagnostic>,
}

/// One part of a board and its place.
type Part<'a> = (&'a str, Span);

impl Binder<'_> {
    pub(crate) fn error(
        &mut self,
        code: &'static str,
        file: FileId,
        span: Span,
        message: impl Into<String>,
    ) -> &mut Diagnostic {
        self.errors.push(Diagnostic::error(code, file, span, message));
        self.errors.last_mut().expect("just pushed")
    }

    fn is_joined(&self, var: usize) -> bool {
        is_joined(self.model, var)
    }

    /// Splits a text board and checks that it is rectangular and of the wanted size.
    fn board<'t>(
        &mut self,
        text: Text<'t>,
        joined: bool,
        size: Option<(usize, usize)>,
    ) -> Option<Vec<Vec<Part<'t>>>> {
        let rows: Vec<Vec<(usize, &str)>> = lines(text.text)
            .into_iter()
            .map(|(at, line)| parts(line, joined).into_iter().map(|(i, p)| (at + i, p)).collect())
            .collect();
        let Some(first) = rows.first() else {
            self.error("L020", text.file, text.span, "this board has no cells")
                .notes
                .push("write its rows between ''' and '''".into());
            return None;
        };
        let cols = first.len();
        for (r, row) in rows.iter().enumerate() {
            if row.len() != cols {
                let (at, part) = if row.len() > cols { row[cols] } else { row[row.len() - 1] };
                let message = format!("row {} has {} cells, row 1 has {cols}", r + 1, row.len());
                let mut error = Diagnostic::error("L021", text.file, text.spot(at, part.len()), message)
                    .note("all rows of a board are equally long");
                if row.len() > cols {
                    error = error.here("one too many");
                } else {
                    error = error.here("the row ends here");
                }
                self.errors.push(error);
                return None;
            }
        }
        if rows.len() * cols > CELLS_MAX || rows.len() > SIDE_MAX || cols > SIDE_MAX {
            self.error(
                "L022",
                text.file,
                text.span,
                format!(
                    "{} x {cols} cells are too many; {CELLS_MAX} are allowed, {SIDE_MAX} in a line",
                    rows.len()
                ),
            );
            return None;
        }
        if let Some((r, c)) = size
            && (r, c) != (rows.len(), cols)
        {
            let message = format!("this board is {} x {cols}, the level's is {r} x {c}", rows.len());
            // Points at the first character past the wanted size, or at the last one.
            let (at, part) = if rows.len() > r {
                rows[r][0]
            } else if cols > c {
                rows[0][c]
            } else {
                rows[rows.len() - 1][cols - 1]
            };
            self.error("L023", text.file, text.spot(at, part.len()), message);
            return None;
        }
        Some(
            rows.into_iter()
                .map(|row| row.into_iter().map(|(at, p)| (p, text.spot(at, p.len()))).collect())
                .collect(),
        )
    }

    /// One value from text, checked against the variable's range.
    fn value(&mut self, b: &Bound, var: usize, text: &str, file: FileId, span: Span) -> Option<i64> {
        let def = &self.model.vars[var];
        let slot = &b.slots[var];
        let shown = self
            .model
            .values_show(var)
            .and_then(|(glyphs, _)| glyphs.iter().find(|(_, g)| g == text).map(|(v, _)| *v));
        let parsed = shown.or_else(|| b.parse_scalar(def.dom.scalar(), text));
        let Some(value) = parsed else {
            let known = self.known_values(b, var);
            self.error("L024", file, span, format!("`{text}` is no value of `{}`", def.name))
                .notes
                .push(format!("its values are: {known}"));
            return None;
        };
        if !slot.holds(value) {
            let message = format!("`{}` holds {} to {}, this is {text}", def.name, slot.lo, slot.hi);
            let (declared, model_file) = (def.span, self.model.file);
            self.error("L025", file, span, message).labels.push(crate::diag::Label {
                file: model_file,
                span: declared,
                text: "declared here".into(),
            });
            return None;
        }
        Some(value)
    }

    fn known_values(&self, b: &Bound, var: usize) -> String {
        let slot = &b.slots[var];
        let glyphs = self.model.values_show(var).map_or(&[][..], |s| s.0);
        let mut out: Vec<String> = glyphs.iter().map(|(_, g)| format!("`{g}`")).collect();
        let scalar = match self.model.vars[var].dom.scalar() {
            Scalar::Maybe(base) => {
                out.push("none".into());
                base.scalar()
            }
            other => other,
        };
        out.push(match scalar {
            Scalar::Bool => "true or x, false or .".into(),
            Scalar::Int => format!("{} to {}", slot.lo, slot.hi),
            Scalar::Enum(e) => self.model.enums[e].values.join(", "),
            Scalar::Dir => DIRS[..=slot.hi.clamp(0, 7) as usize].join(", "),
            Scalar::Cell => format!("r1c1 to r{}c{}", b.rows, b.cols),
            Scalar::Record(r) => {
                let parts = &self.model.records[r].parts;
                format!(
                    "{}, such as {}",
                    parts.iter().map(|p| p.0.as_str()).collect::<Vec<_>>().join("."),
                    b.scalar_text(scalar, 0, false)
                )
            }
            Scalar::Placed(s) => format!(
                "a shape, its turn and place, such as {}.0@r1c1",
                self.model.shapes[s].shapes.first().map_or("", |s| s.name.as_str())
            ),
            Scalar::Maybe(_) => String::new(),
        });
        out.join(", ")
    }

    /// A whole variable from text. `None` marks cells left open by `?`.
    pub(crate) fn block(
        &mut self,
        b: &Bound,
        var: usize,
        text: Text<'_>,
        open: bool,
    ) -> Option<Vec<Option<i64>>> {
        let def = &self.model.vars[var];
        match def.shape {
            Shape::One => {
                let trimmed = text.text.trim();
                let at = text.text.find(trimmed).unwrap_or(0);
                Some(vec![Some(self.value(b, var, trimmed, text.file, text.spot(at, trimmed.len()))?)])
            }
            Shape::Set | Shape::Grid
                if def.dom.scalar() == Scalar::Bool && cell_list(text.text).is_some() =>
            {
                let mut out = vec![Some(0); b.cells()];
                for (r, c) in cell_list(text.text).unwrap_or_default() {
                    if r > b.rows || c > b.cols || r == 0 || c == 0 {
                        let message = format!("r{r}c{c} is not on the board of {} x {}", b.rows, b.cols);
                        self.error("L024", text.file, text.span, message);
                        return None;
                    }
                    out[(r - 1) * b.cols + c - 1] = Some(1);
                }
                Some(out)
            }
            Shape::Grid | Shape::Set => {
                let joined = self.is_joined(var);
                let rows = self.board(text, joined, Some((b.rows, b.cols)))?;
                let mut out = vec![];
                let mut good = true;
                for (part, span) in rows.into_iter().flatten() {
                    if open && part == "?" {
                        out.push(None);
                        continue;
                    }
                    match self.value(b, var, part, text.file, span) {
                        Some(v) => out.push(Some(v)),
                        None => good = false,
                    }
                }
                good.then_some(out)
            }
            Shape::List(bag) => {
                let entries = self.entries(b, var, text.text, text, 0)?;
                Some(list_block(&b.slots[var], entries, bag))
            }
            Shape::Array(e) | Shape::Lists(e, _) => {
                let keys = b.key_names(e);
                let slot = b.slots[var].clone();
                let lists = matches!(def.shape, Shape::Lists(..));
                let each = if lists { slot.cap + 1 } else { 1 };
                let mut out = vec![None; keys.len() * each];
                let mut at = 0;
                for entry in text.text.split(',') {
                    let span = text.spot(at, entry.len());
                    at += entry.len() + 1;
                    let Some((key, value)) = entry.split_once(':') else {
                        self.error("L026", text.file, span, "write `key: value, key: value`");
                        return None;
                    };
                    let Some(k) = keys.iter().position(|k| k == key.trim()) else {
                        let message = format!("`{}` is no key of `{}`", key.trim(), def.name);
                        self.error("L026", text.file, span, message)
                            .notes
                            .push(format!("its keys are: {}", keys.join(", ")));
                        return None;
                    };
                    if let Shape::Lists(_, bag) = def.shape {
                        let from = span.start as usize - text.at.unwrap_or(0) as usize;
                        let entries = self.entries(b, var, value, text, from + key.len() + 1)?;
                        for (o, v) in out[k * each..].iter_mut().zip(list_block(&slot, entries, bag)) {
                            *o = v;
                        }
                        continue;
                    }
                    out[k] = Some(self.value(b, var, value.trim(), text.file, span)?);
                }
                if let Some(k) = out.iter().position(Option::is_none) {
                    let message = format!("`{}` has no value for `{}`", def.name, keys[k / each]);
                    self.error("L026", text.file, text.span, message);
                    return None;
                }
                Some(out)
            }
        }
    }

    /// The entries of a list: values separated by blanks, or `empty`.
    fn entries(
        &mut self,
        b: &Bound,
        var: usize,
        part: &str,
        text: Text<'_>,
        from: usize,
    ) -> Option<Vec<i64>> {
        let cap = b.slots[var].cap;
        let mut out = vec![];
        if part.trim() == "empty" {
            return Some(out);
        }
        for (at, word) in parts(&part.replace(['\n', ','], " "), false) {
            let span = text.spot(from + at, word.len());
            out.push(self.value(b, var, word, text.file, span)?);
            if out.len() > cap {
                let name = self.model.vars[var].name.clone();
                self.error("L038", text.file, span, format!("`{name}` holds at most {cap} entries"));
                return None;
            }
        }
        Some(out)
    }

    /// Reads a drawing into values of its variables; `?` leaves a cell open (value `None`).
    /// A cell variable gets the cell at which it is drawn.
    #[allow(clippy::type_complexity)]
    pub(crate) fn drawing(
        &mut self,
        b: &Bound,
        show: &Show,
        text: Text<'_>,
        open: bool,
    ) -> Option<Vec<(usize, Vec<Option<i64>>)>> {
        let Show::Drawing { name, vars, rules, .. } = show else { return None };
        let rows = self.board(text, true, Some((b.rows, b.cols)))?;
        let cells = b.rows * b.cols;
        let mut out: Vec<(usize, Vec<Option<i64>>)> = vars
            .iter()
            .map(|&v| {
                let def = &self.model.vars[v];
                match def.shape {
                    Shape::One | Shape::List(_) | Shape::Lists(..) | Shape::Array(_) => (v, vec![]),
                    _ => {
                        let slot = &b.slots[v];
                        (v, vec![Some(if slot.lo > 0 { slot.lo } else { 0 }); cells])
                    }
                }
            })
            .collect();
        let mut spots: Vec<Vec<(i64, Span)>> = vec![vec![]; vars.len()];
        let mut unknown = false;
        let mut opens = false;
        for (cell, (part, span)) in rows.into_iter().flatten().enumerate() {
            if open && part == "?" {
                opens = true;
                for (v, values) in &mut out {
                    if self.model.vars[*v].shape != Shape::One {
                        values[cell] = None;
                    }
                }
                continue;
            }
            let Some((_, facts)) = rules.iter().find(|(g, _)| part.starts_with(*g)) else {
                unknown = true;
                let glyphs = rules.iter().map(|(g, _)| g.to_string()).collect::<Vec<_>>().join(" ");
                self.error("L027", text.file, span, format!("`{part}` is no glyph of `{name}`"))
                    .notes
                    .push(format!("its glyphs are: {glyphs}"));
                continue;
            };
            for fact in facts {
                if matches!(self.model.vars[fact.var].dom, Dom::Placed(_)) {
                    let name = self.model.vars[fact.var].name.clone();
                    self.error("L039", text.file, span, format!("a drawing does not say how `{name}` lies"))
                        .notes
                        .push(format!("leave it out here and write `start.{name} = \"SHAPE.TURN@r1c1\"`"));
                    return None;
                }
                let i = vars.iter().position(|v| *v == fact.var).expect("a variable of the drawing");
                if self.model.vars[fact.var].shape == Shape::One {
                    spots[i].push((cell as i64, span));
                } else {
                    out[i].1[cell] = Some(fact.value);
                }
            }
        }
        if unknown {
            return None;
        }
        for (i, (var, values)) in out.iter_mut().enumerate() {
            let def = &self.model.vars[*var];
            if def.shape != Shape::One || matches!(def.dom, Dom::Placed(_)) {
                continue;
            }
            match spots[i].as_slice() {
                [(cell, _)] => *values = vec![Some(*cell)],
                [] if opens => *values = vec![None],
                [] => {
                    let message = format!("this board holds no `{}`, and one is wanted", def.name);
                    self.error("L028", text.file, text.span, message);
                    return None;
                }
                [(_, first), (_, second), ..] => {
                    let message = format!("a second `{}`, and one is wanted", def.name);
                    let (first, second, file) = (*first, *second, text.file);
                    self.error("L028", file, second, message).labels.push(crate::diag::Label {
                        file,
                        span: first,
                        text: "the first".into(),
                    });
                    return None;
                }
            }
        }
        out.retain(|(v, _)| !matches!(self.model.vars[*v].dom, Dom::Placed(_)));
        Some(out)
    }

    /// What a level says is seen of one `tell`: values, and `~` where nothing is told.
    fn told_board(&mut self, b: &Bound, tell: &TellDef, raw: &Raw, file: FileId) -> Option<Vec<Option<i64>>> {
        let RawKind::Text(text, at) = &raw.kind else {
            self.error("L037", file, raw.span, "what is told is written as a text");
            return None;
        };
        let text = Text { text, at: *at, span: raw.span, file };
        let scalar = tell.value.ty.scalar()?;
        let parts: Vec<(&str, Span)> = if matches!(tell.over, Some((_, Range::Board))) {
            let joined = !text.text.trim().contains(' ');
            self.board(text, joined, Some((b.rows, b.cols)))?.into_iter().flatten().collect()
        } else {
            parts(text.text, false).into_iter().map(|(at, p)| (p, text.spot(at, p.len()))).collect()
        };
        let wanted = Eval::new(b).tell_elements(tell).len();
        if parts.len() != wanted {
            let message = format!("{} values are told here, `{}` tells {wanted}", parts.len(), tell.name);
            self.error("L082", file, raw.span, message);
            return None;
        }
        let mut out = vec![];
        for (part, span) in parts {
            if part == UNTOLD {
                out.push(None);
            } else if let Some(v) = b.parse_scalar(scalar, part) {
                out.push(Some(v));
            } else {
                self.error("L024", file, span, format!("`{part}` is no value that `{}` tells", tell.name))
                    .notes
                    .push(format!("write the value, or `{UNTOLD}` where nothing is told"));
                return None;
            }
        }
        Some(out)
    }

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
                error.notes.push(match crate::diag::near(&key.text, known.iter().map(String::as_str)) {
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
                Ok(0) => match crate::scatter::exact_count(b, v) {
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
            self.error("L084", file, span, message).labels.push(crate::diag::Label {
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
        for (key, raw) in level.start.iter().chain(values).chain(&level.told) {
            let RawKind::Text(text, _) = &raw.kind else { continue };
            if cell_list(text).is_some() {
                continue;
            }
            let joined = match self.model.var(&key.text) {
                Some(v) if matches!(self.model.vars[v].shape, Shape::Grid | Shape::Set) => self.is_joined(v),
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
        Some((0, 0))
    }
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
    let before = errors.len();
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
        drawn: false,
        codec: Codec::default(),
        scattered: vec![],
        seen: vec![None; model.tells.len()],
        as_player: false,
        canon: None,
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
    if binder.errors.len() > before {
        return None;
    }
    let mut undrawn: Vec<usize> = vec![];
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
            Shape::Array(Keyed::Row | Keyed::Column) | Shape::Lists(Keyed::Row | Keyed::Column, _)
        );
        if matches!(def.shape, Shape::Grid | Shape::Set) || is_placed(&def.dom) || keyed_by_side {
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
                    let Some(show) = model
                        .shows
                        .iter()
                        .find(|s| matches!(s, Show::Drawing { name, .. } if *name == key.text))
                    else {
                        continue;
                    };
                    let RawKind::Text(text, at) = &raw.kind else {
                        binder.error("L030", file, raw.span, "a drawing is a text board in '''");
                        return None;
                    };
                    // Slots of later variables are not known yet; glyph values are plain numbers.
                    let text = Text { text, at: *at, span: raw.span, file };
                    drawn.extend(binder.drawing(&b, show, text, false)?);
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
            Shape::One => 1,
            Shape::Grid | Shape::Set => cells,
            Shape::Array(key) => b.keys_len(key),
            Shape::List(_) => 1 + cap,
            Shape::Lists(key, _) => b.keys_len(key) * (1 + cap),
        };
        let maybe = matches!(def.dom, Dom::Maybe(_));
        let (mut lo, mut hi) = binder.dom_range(&b, &def.dom)?;
        if lo > hi || lo < -(1 << 30) || hi > 1 << 30 {
            binder.error(
                "L031",
                file,
                level.span,
                format!("`{}` would hold {lo} to {hi}: empty, or too wide", def.name),
            );
            return None;
        }
        let active = match &def.when {
            None => true,
            Some(when) => constant(&mut binder, &b, when)? != 0,
        };
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
            return None;
        }
        let empty = || -> Vec<i64> {
            let mut out = vec![slot.pad(); len];
            if cap + 1 > 0 && matches!(def.shape, Shape::List(_) | Shape::Lists(..)) {
                out.iter_mut().step_by(cap + 1).for_each(|n| *n = 0);
            }
            out
        };
        let values: Vec<i64> = if let Some(of) = def.shadow_of {
            // Declared behind what it keeps.
            let from = b.slots[of].clone();
            b.start[from.base..from.base + from.len].iter().map(|&v| v.into()).collect()
        } else if !active {
            empty()
        } else if let Some((raw, at)) = given {
            raw_values(&mut binder, &b, var, raw, at)?
        } else if let Some((_, values)) = from_drawing {
            let values: Vec<i64> = values.iter().map(|v| v.expect("read without `?`")).collect();
            if let Some(v) = values.iter().find(|v| **v < lo || **v > hi) {
                let message = format!("`{}` holds {lo} to {hi}, a glyph says {v}", def.name);
                binder.error("L025", file, level.span, message);
                return None;
            }
            values
        } else if let Some(opened) = binder.opened(&b, var, file, level)? {
            opened
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
        } else if matches!(def.shape, Shape::List(_) | Shape::Lists(..)) {
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
        } else {
            let what = if def.state { "start" } else { "values" };
            let (declared, model_file) = (def.span, model.file);
            let error = binder.error("L033", file, level.span, format!("this level gives no `{}`", def.name));
            error.labels.push(crate::diag::Label {
                file: model_file,
                span: declared,
                text: "declared here, without a default".into(),
            });
            error.notes.push(format!("add `{what}.{} = ...`", def.name));
            return None;
        };
        if let Some(target) = def.rearranged {
            let t = &b.slots[target];
            let mut want: Vec<i64> = b.data[t.base..t.base + t.len].iter().map(|&v| v.into()).collect();
            let mut have = values.clone();
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
                return None;
            }
        }
        let region = if def.state { &mut b.start } else { &mut b.data };
        b.slots[var].base = region.len();
        region.extend(values.iter().map(|&v| v as i32));
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
        let (declared, model_file) = (def.span, model.file);
        let error = binder.error("L033", file, level.span, format!("this level gives no `{}`", def.name));
        error.labels.push(crate::diag::Label {
            file: model_file,
            span: declared,
            text: "declared here, without a default".into(),
        });
        error.notes.push(format!(
            "add `start.{} = ...`, or leave out the whole start: then the setup draws it",
            def.name
        ));
        return None;
    }
    for spread in &model.spreads {
        let (lo, hi) = (constant(&mut binder, &b, &spread.lo)?, constant(&mut binder, &b, &spread.hi)?);
        b.spreads[spread.var] = Some((lo, hi));
        let start = b.start.clone();
        if !b.drawn && !b.is_spread(spread.var, &start) {
            let name = &model.vars[spread.var].name;
            let message = format!("the lists of `{name}` must hold each of {lo} to {hi} once");
            binder.error("L034", file, level.span, message).labels.push(crate::diag::Label {
                file: model.file,
                span: spread.span,
                text: "declared here".into(),
            });
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
        if let Shape::List(_) | Shape::Lists(..) = def.shape {
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
            binder.error("L080", file, level.span, message).labels.push(crate::diag::Label {
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

fn unknown_key(binder: &mut Binder<'_>, file: FileId, key: &Key, state: bool) {
    let mut known: Vec<String> =
        binder.model.vars.iter().filter(|v| v.state == state).map(|v| v.name.clone()).collect();
    if state {
        for show in &binder.model.shows {
            if let Show::Drawing { name, .. } = show {
                known.push(name.clone());
            }
        }
    }
    let elsewhere = binder.model.vars.iter().any(|v| v.name == key.text && v.state != state);
    let near = crate::diag::near(&key.text, known.iter().map(String::as_str)).map(str::to_string);
    let what = if state { "state variable or drawing" } else { "level value" };
    let name = binder.model.name.clone();
    let error = binder.error(
        "L035",
        file,
        key.span,
        format!("the model `{name}` has no {what} named `{}`", key.text),
    );
    if elsewhere {
        let place = if state { "values" } else { "start" };
        error.notes.push(format!("write `{place}.{}`", key.text));
    } else if let Some(n) = near {
        error.notes.push(format!("did you mean `{n}`?"));
    } else if !known.is_empty() {
        error.notes.push(format!("there are: {}", known.join(", ")));
    }
}

/// A list as it is kept: its length, its entries, and the rest unused.
fn list_block(slot: &Slot, mut entries: Vec<i64>, bag: bool) -> Vec<Option<i64>> {
    if bag {
        entries.sort_unstable();
    }
    let mut out = vec![Some(entries.len() as i64)];
    out.extend(entries.into_iter().map(Some));
    out.resize(slot.cap + 1, Some(slot.pad()));
    out
}

impl Binder<'_> {
    /// Least and greatest value of a domain; `none` aside.
    fn dom_range(&mut self, b: &Bound, dom: &Dom) -> Option<(i64, i64)> {
        Some(match dom {
            Dom::Range(lo, hi) => (constant(self, b, lo)?, constant(self, b, hi)?),
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
        if let Shape::Array(Keyed::Range(r)) | Shape::Lists(Keyed::Range(r), _) = def.shape {
            let (lo, hi) = self.model.ranges[r].clone();
            let (lo, hi) = (constant(self, b, &lo)?, constant(self, b, &hi)?);
            if hi < lo - 1 || hi - lo > LIST_MAX {
                let message = format!("`{}` would be keyed by {lo} to {hi}: too many", def.name);
                self.error("L031", self.model.file, def.span, message);
                return None;
            }
            b.ranges[r] = (lo, hi);
        }
        Some(())
    }
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
        (RawKind::Int(n), Shape::One) => n.to_string(),
        (RawKind::Bool(v), Shape::One) => v.to_string(),
        (RawKind::Table(entries), Shape::Array(_) | Shape::Lists(..)) => {
            let mut words = vec![];
            for (key, value) in entries {
                words.push(format!("{}: {}", key.text, raw_words(binder, value, file, &def.shape)?));
            }
            words.join(", ")
        }
        (RawKind::List(entries), Shape::List(_)) => {
            let words: Option<Vec<String>> =
                entries.iter().map(|e| raw_words(binder, e, file, &Shape::One)).collect();
            words?.join(" ")
        }
        (RawKind::List(entries), Shape::Array(key) | Shape::Lists(key, _)) => {
            let names = b.key_names(key);
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
        (RawKind::Int(_) | RawKind::Bool(_), Shape::Grid | Shape::Set) => {
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
fn raw_words(binder: &mut Binder<'_>, raw: &Raw, file: FileId, shape: &Shape) -> Option<String> {
    Some(match (&raw.kind, shape) {
        (RawKind::Int(n), _) => n.to_string(),
        (RawKind::Bool(v), _) => v.to_string(),
        (RawKind::Text(t, _), _) => t.replace(',', " "),
        (RawKind::List(list), Shape::Lists(..)) => {
            let words: Option<Vec<String>> =
                list.iter().map(|e| raw_words(binder, e, file, &Shape::One)).collect();
            words?.join(" ")
        }
        _ => {
            binder.error("L037", file, raw.span, "a single value is wanted here");
            return None;
        }
    })
}

impl Bound {
    /// Writes what each variable is now into what keeps its start.
    pub fn keep_starts(&self, state: &mut [i32]) {
        for (v, def) in self.model.vars.iter().enumerate() {
            if let Some(of) = def.shadow_of {
                let (to, from) = (&self.slots[v], &self.slots[of]);
                state.copy_within(from.base..from.base + from.len, to.base);
            }
        }
    }

    /// The state that stands for branches which were set aside.
    #[must_use]
    pub fn cut_state(&self) -> Vec<i32> {
        let mut state = self.start.clone();
        let at = self.ended_at();
        state[at] = self.model.endings.len() as i32 + 1;
        for (v, spread) in self.spreads.iter().enumerate() {
            if let Some((lo, hi)) = *spread {
                // Any arrangement will do: it says nothing.
                let slot = &self.slots[v];
                let part = &mut state[slot.base..slot.base + slot.len];
                part.fill(slot.pad() as i32);
                part.iter_mut().step_by(slot.cap + 1).for_each(|n| *n = 0);
                part[0] = (hi - lo + 1) as i32;
                for (i, x) in (lo..=hi).enumerate().take(slot.cap) {
                    part[1 + i] = x as i32;
                }
            }
        }
        state
    }

    /// Whether the lists of a variable together hold each number of their collection once.
    #[must_use]
    pub fn is_spread(&self, var: usize, state: &[i32]) -> bool {
        let Some((lo, hi)) = self.spreads[var] else { return true };
        let slot = &self.slots[var];
        let mut all: Vec<i64> = state[slot.base..slot.base + slot.len]
            .chunks(slot.cap + 1)
            .flat_map(|list| list[1..=list[0] as usize].iter().map(|&x| x.into()))
            .collect();
        all.sort_unstable();
        all.into_iter().eq(lo..=hi)
    }

    /// How many keys an array has.
    #[must_use]
    pub fn keys_len(&self, key: Keyed) -> usize {
        match key {
            Keyed::Enum(e) => self.model.enums[e].values.len(),
            Keyed::Row => self.rows,
            Keyed::Column => self.cols,
            Keyed::Range(r) => {
                let (lo, hi) = self.ranges.get(r).copied().unwrap_or((0, -1));
                (hi - lo + 1).max(0) as usize
            }
        }
    }

    /// The keys of an array as they are written.
    #[must_use]
    pub fn key_names(&self, key: Keyed) -> Vec<String> {
        match key {
            Keyed::Enum(e) => self.model.enums[e].values.clone(),
            Keyed::Row => (1..=self.rows).map(|n| n.to_string()).collect(),
            Keyed::Column => (1..=self.cols).map(|n| n.to_string()).collect(),
            Keyed::Range(r) => {
                let (lo, hi) = self.ranges.get(r).copied().unwrap_or((0, -1));
                (lo..=hi).map(|n| n.to_string()).collect()
            }
        }
    }

    /// Least and greatest value of a domain that no expression decides.
    #[must_use]
    pub fn plain_range(&self, dom: &Dom) -> (i64, i64) {
        match dom {
            Dom::Bool => (0, 1),
            Dom::Enum(e) => (0, self.model.enums[*e].values.len() as i64 - 1),
            Dom::Dir4 => (0, 3),
            Dom::Dir8 => (0, 7),
            Dom::Cell => (0, self.cells() as i64 - 1),
            Dom::Record(r) => {
                (0, self.records.get(*r).map_or(1, |p| p.iter().map(|p| p.count).product()) - 1)
            }
            Dom::Placed(s) => {
                let def = &self.model.shapes[*s];
                let (h, w) = self.shape_sides(*s);
                (0, def.all.len() as i64 * h * w - 1)
            }
            Dom::Maybe(d) => self.plain_range(d),
            Dom::Range(..) => (0, -1),
        }
    }

    /// Rows and columns in which an anchor of these shapes may lie.
    #[must_use]
    pub fn shape_sides(&self, shapes: usize) -> (i64, i64) {
        let m = self.model.shapes[shapes].margin;
        (self.rows as i64 + 2 * m, self.cols as i64 + 2 * m)
    }

    /// A placed shape as one number; `None` when its anchor is too far from the board.
    #[must_use]
    pub fn shape_code(&self, shapes: usize, all: i64, row: i64, col: i64) -> Option<i64> {
        let m = self.model.shapes[shapes].margin;
        let (h, w) = self.shape_sides(shapes);
        let (r, c) = (row + m, col + m);
        (r >= 0 && c >= 0 && r < h && c < w).then(|| (all * h + r) * w + c)
    }

    /// The inverse of [`Bound::shape_code`]: number among all turns, row and column of the anchor.
    #[must_use]
    pub fn shape_parts(&self, shapes: usize, code: i64) -> (i64, i64, i64) {
        let m = self.model.shapes[shapes].margin;
        let (h, w) = self.shape_sides(shapes);
        (code / w / h, code / w % h - m, code % w - m)
    }

    /// The places that a placed shape covers, as (row, column) from 0.
    #[must_use]
    pub fn covered(&self, shapes: usize, code: i64) -> Vec<(i64, i64)> {
        let def = &self.model.shapes[shapes];
        let (all, row, col) = self.shape_parts(shapes, code);
        let Some(&(shape, turn)) = def.all.get(all as usize) else { return vec![] };
        def.shapes[shape].turns[turn].iter().map(|&(r, c)| (row + r, col + c)).collect()
    }

    /// A single value from its text.
    #[must_use]
    pub fn parse_scalar(&self, scalar: Scalar, text: &str) -> Option<i64> {
        match scalar {
            Scalar::Bool => match text {
                "true" | "x" => Some(1),
                "false" | "." => Some(0),
                _ => None,
            },
            Scalar::Int => text.parse().ok(),
            Scalar::Enum(e) => self.model.enums[e].values.iter().position(|v| v == text).map(|i| i as i64),
            Scalar::Dir => DIRS.iter().position(|d| *d == text).map(|i| i as i64),
            Scalar::Cell => parse_cell(text, self.rows, self.cols),
            Scalar::Maybe(_) if text == "none" => Some(NONE),
            Scalar::Maybe(base) => self.parse_scalar(base.scalar(), text),
            Scalar::Record(r) => {
                let parts = &self.model.records[r].parts;
                let words: Vec<&str> = text.split('.').collect();
                if words.len() != parts.len() {
                    return None;
                }
                let mut code = 0;
                for (((_, dom), word), slot) in parts.iter().zip(words).zip(&self.records[r]) {
                    let v = self.parse_scalar(dom.scalar(), word)? - slot.lo;
                    if v < 0 || v >= slot.count {
                        return None;
                    }
                    code += v * slot.stride;
                }
                Some(code)
            }
            Scalar::Placed(s) => {
                let (shape, at) = text.split_once('@')?;
                let (name, turn) = shape.split_once('.').unwrap_or((shape, "0"));
                let def = &self.model.shapes[s];
                let i = def.shapes.iter().position(|d| d.name == name)?;
                let turn: usize = turn.parse().ok()?;
                if turn >= def.shapes[i].turns.len() {
                    return None;
                }
                let (r, c) = at.strip_prefix('r')?.split_once('c')?;
                let (r, c): (i64, i64) = (r.parse().ok()?, c.parse().ok()?);
                self.shape_code(s, (def.firsts[i] + turn) as i64, r - 1, c - 1)
            }
        }
    }

    /// Cells of the board.
    #[must_use]
    pub fn cells(&self) -> usize {
        self.rows * self.cols
    }

    /// Where the ended part lies in a state.
    #[must_use]
    pub fn ended_at(&self) -> usize {
        self.start.len() - 1
    }

    /// A value as it is written.
    #[must_use]
    pub fn value_text(&self, var: usize, value: i64) -> String {
        let glyphs = self.model.values_show(var).map_or(&[][..], |s| s.0);
        if let Some((_, g)) = glyphs.iter().find(|(x, _)| *x == value) {
            return g.clone();
        }
        let def = &self.model.vars[var];
        let board = def.shape != Shape::One;
        self.scalar_text(def.dom.scalar(), value, board)
    }

    /// A single value of a type as it is written.
    #[must_use]
    pub fn scalar_text(&self, scalar: Scalar, value: i64, on_board: bool) -> String {
        match scalar {
            Scalar::Bool if on_board => (if value != 0 { "x" } else { "." }).into(),
            Scalar::Bool => (if value != 0 { "true" } else { "false" }).into(),
            Scalar::Int => value.to_string(),
            Scalar::Enum(e) => self.model.enums[e].values[value as usize].clone(),
            Scalar::Dir => DIRS[value as usize].into(),
            Scalar::Cell => cell_name(value as usize, self.cols),
            Scalar::Maybe(_) if value == NONE => "none".into(),
            Scalar::Maybe(base) => self.scalar_text(base.scalar(), value, false),
            Scalar::Record(r) => {
                let parts = &self.model.records[r].parts;
                let words: Vec<String> = parts
                    .iter()
                    .zip(&self.records[r])
                    .map(|((_, dom), p)| {
                        self.scalar_text(dom.scalar(), p.lo + value / p.stride % p.count, false)
                    })
                    .collect();
                words.join(".")
            }
            Scalar::Placed(s) => {
                let def = &self.model.shapes[s];
                let (all, row, col) = self.shape_parts(s, value);
                let (shape, turn) = def.all[all as usize];
                format!("{}.{turn}@r{}c{}", def.shapes[shape].name, row + 1, col + 1)
            }
        }
    }

    /// A list as it is written.
    fn list_text(&self, var: usize, list: &[i32]) -> String {
        let entries: Vec<String> =
            list[1..=list[0] as usize].iter().map(|&v| self.value_text(var, v.into())).collect();
        if entries.is_empty() { "empty".into() } else { entries.join(" ") }
    }

    fn values_of<'s>(&'s self, var: usize, state: &'s [i32]) -> &'s [i32] {
        let slot = &self.slots[var];
        let region = if self.model.vars[var].state { state } else { &self.data };
        &region[slot.base..slot.base + slot.len]
    }

    /// A drawing, and whether it says everything about its variables.
    fn draw_one(
        &self,
        state: &[i32],
        vars: &[usize],
        rules: &[(char, Vec<Fact>)],
    ) -> (Vec<Vec<String>>, bool) {
        let mut exact = true;
        if vars.iter().any(|&v| matches!(self.model.vars[v].dom, Dom::Placed(_))) {
            // A drawing does not say how a shape lies.
            exact = false;
        }
        let value_at = |var: usize, cell: usize| -> i64 {
            let values = self.values_of(var, state);
            if let Dom::Placed(s) = self.model.vars[var].dom {
                let at = ((cell / self.cols) as i64, (cell % self.cols) as i64);
                return i64::from(self.slots[var].active && self.covered(s, values[0].into()).contains(&at));
            }
            if self.model.vars[var].shape == Shape::One {
                i64::from(values[0] as usize == cell)
            } else {
                values[cell].into()
            }
        };
        let plain = |var: usize| -> i64 {
            if self.model.vars[var].shape == Shape::One { 0 } else { self.slots[var].lo.max(0) }
        };
        let rows = (0..self.rows)
            .map(|r| {
                (0..self.cols)
                    .map(|c| {
                        let cell = r * self.cols + c;
                        let holds = |facts: &[Fact]| facts.iter().all(|f| value_at(f.var, cell) == f.value);
                        let whole = |facts: &[Fact]| {
                            vars.iter().all(|&v| {
                                let want = facts.iter().find(|f| f.var == v).map_or(plain(v), |f| f.value);
                                value_at(v, cell) == want
                            })
                        };
                        if let Some((g, _)) = rules.iter().find(|(_, f)| whole(f)) {
                            return g.to_string();
                        }
                        exact = false;
                        rules
                            .iter()
                            .filter(|(_, f)| holds(f))
                            .max_by_key(|(_, f)| f.len())
                            .map_or("?".to_string(), |(g, _)| g.to_string())
                    })
                    .collect()
            })
            .collect();
        (rows, exact)
    }

    fn grid_picture(&self, var: usize, state: &[i32]) -> Picture {
        let def = &self.model.vars[var];
        let joined = is_joined(&self.model, var);
        let values = self.values_of(var, state);
        let rows = values
            .chunks(self.cols.max(1))
            .map(|row| row.iter().map(|&v| self.value_text(var, v.into())).collect())
            .collect();
        Picture { name: def.name.clone(), rows, joined }
    }

    fn draw_with(&self, state: &[i32], exact_only: bool) -> Drawn {
        let model = &self.model;
        let mut covered = vec![false; model.vars.len()];
        let mut pictures = vec![];
        for show in &model.shows {
            if let Show::Drawing { name, vars, rules, .. } = show {
                let (rows, exact) = self.draw_one(state, vars, rules);
                if exact || !exact_only {
                    vars.iter().for_each(|&v| covered[v] = true);
                    pictures.push(Picture { name: name.clone(), rows, joined: true });
                }
            }
        }
        let mut values = vec![];
        for (v, def) in model.vars.iter().enumerate() {
            if covered[v] || !def.state || !self.slots[v].active || def.shadow_of.is_some() {
                continue;
            }
            if def.clock && self.values_of(v, state)[0] == 0 && !exact_only {
                continue;
            }
            match def.shape {
                Shape::Grid | Shape::Set => pictures.push(self.grid_picture(v, state)),
                Shape::List(_) => {
                    values.push((def.name.clone(), self.list_text(v, self.values_of(v, state))));
                }
                Shape::Lists(key, _) => {
                    let lists = self.values_of(v, state).chunks(self.slots[v].cap + 1);
                    let text: Vec<String> = self
                        .key_names(key)
                        .iter()
                        .zip(lists)
                        .map(|(k, list)| format!("{k}: {}", self.list_text(v, list)))
                        .collect();
                    values.push((def.name.clone(), text.join(", ")));
                }
                Shape::One => {
                    values.push((def.name.clone(), self.value_text(v, self.values_of(v, state)[0].into())));
                }
                Shape::Array(e) => {
                    let keys = self.key_names(e);
                    let text: Vec<String> = keys
                        .iter()
                        .zip(self.values_of(v, state))
                        .map(|(k, &x)| {
                            format!("{k}: {}", self.scalar_text(def.dom.scalar(), x.into(), false))
                        })
                        .collect();
                    values.push((def.name.clone(), text.join(", ")));
                }
            }
        }
        let ended = state[self.ended_at()];
        if ended != 0 {
            values.push(("ended".into(), ended.to_string()));
        }
        Drawn { pictures, values }
    }

    /// What the player is told of a state: what the level says is seen, or what follows from the layout.
    #[must_use]
    pub fn told(&self, state: &[i32]) -> Vec<Vec<Option<i64>>> {
        let mut told = Eval::new(self).told(state).unwrap_or_default();
        told.resize(self.model.tells.len(), vec![]);
        for (t, s) in told.iter_mut().zip(&self.seen) {
            if let Some(s) = s {
                t.clone_from(s);
            }
        }
        told
    }

    /// A told value, or what stands for none.
    #[must_use]
    pub fn told_text(&self, tell: usize, value: Option<i64>) -> String {
        let scalar = self.model.tells[tell].value.ty.scalar();
        value.zip(scalar).map_or(UNTOLD.to_string(), |(v, s)| self.scalar_text(s, v, false))
    }

    /// The position as the player sees it.
    fn draw_told(&self, state: &[i32]) -> Drawn {
        let model = &self.model;
        let mut shown = state.to_vec();
        for (def, slot) in model.vars.iter().zip(&self.slots).filter(|(d, _)| d.hidden || d.untold) {
            // What is hidden is drawn as if nothing were there.
            if def.rearranged.is_none() {
                shown[slot.base..slot.base + slot.len].fill(slot.pad() as i32);
            }
        }
        let mut drawn = self.draw_with(&shown, false);
        let opened: Vec<usize> = model.tells.iter().filter_map(TellDef::opened).collect();
        // What the told boards say anyway, and what is hidden, is left out.
        let silent = |v: usize| model.vars[v].hidden || model.vars[v].untold || opened.contains(&v);
        let keep = |name: &str| {
            let show = model.shows.iter().find_map(|s| match s {
                Show::Drawing { name: n, vars, .. } if n == name => Some(vars),
                _ => None,
            });
            match show {
                Some(vars) => !vars.iter().all(|&v| silent(v)),
                None => model.var(name).is_none_or(|v| !silent(v)),
            }
        };
        drawn.pictures.retain(|p| keep(&p.name));
        drawn.values.retain(|(name, _)| keep(name));
        for (t, (tell, values)) in model.tells.iter().zip(self.told(state)).enumerate() {
            if matches!(tell.over, Some((_, Range::Board))) {
                let rows = values
                    .chunks(self.cols.max(1))
                    .map(|row| row.iter().map(|v| self.told_text(t, *v)).collect())
                    .collect();
                drawn.pictures.push(Picture { name: tell.name.clone(), rows, joined: false });
            } else {
                let text: Vec<String> = values.iter().map(|v| self.told_text(t, *v)).collect();
                drawn.values.push((tell.name.clone(), text.join(" ")));
            }
        }
        drawn
    }

    /// The position in one line, for whom positions are drawn.
    #[must_use]
    pub fn shown_line(&self, state: &[i32]) -> String {
        if self.as_player { self.player_line(state) } else { self.line(state) }
    }

    /// What the player sees, in one line.
    #[must_use]
    pub fn player_line(&self, state: &[i32]) -> String {
        let drawn = self.draw_told(state);
        let boards = drawn.pictures.iter().map(|p| {
            let rows: Vec<String> = p.rows.iter().map(|r| r.join(if p.joined { "" } else { " " })).collect();
            format!("{}={}", p.name, rows.join("/"))
        });
        boards.chain(drawn.values.iter().map(|(n, v)| format!("{n}={v}"))).collect::<Vec<_>>().join("; ")
    }

    /// The position as boards and values, for people.
    #[must_use]
    pub fn draw(&self, state: &[i32]) -> Drawn {
        let mut drawn = match self.as_player || self.seen.iter().any(Option::is_some) {
            true => self.draw_told(state),
            false => self.draw_with(state, false),
        };
        for (name, value) in &mut drawn.values {
            if name == "ended" {
                let number = state[self.ended_at()] as usize - 1;
                *value = self.model.endings.get(number).map_or("set aside".into(), ending_text);
            }
        }
        drawn
    }

    /// The position in one line; [`Bound::parse_line`] reads it back.
    #[must_use]
    pub fn line(&self, state: &[i32]) -> String {
        let drawn = self.draw_with(state, true);
        let mut out: Vec<(String, String)> = drawn
            .pictures
            .iter()
            .map(|p| {
                let rows: Vec<String> =
                    p.rows.iter().map(|r| r.join(if p.joined { "" } else { " " })).collect();
                (p.name.clone(), rows.join("/"))
            })
            .collect();
        out.extend(drawn.values);
        if let [(_, only)] = out.as_slice() {
            return only.clone();
        }
        out.iter().map(|(n, v)| format!("{n}={v}")).collect::<Vec<_>>().join("; ")
    }

    /// Reads what a player sees in the one-line form: boards that are told among the rest. Gives the state, in which
    /// nothing hidden is known, and what is seen. `None` inside where nothing told is written.
    #[allow(clippy::option_option, clippy::type_complexity)]
    pub fn parse_sight(
        &self,
        text: &str,
        file: FileId,
        errors: &mut Vec<Diagnostic>,
    ) -> Option<Option<(Vec<i32>, Vec<Option<Vec<Option<i64>>>>)>> {
        let tells = &self.model.tells;
        let named = |part: &str| {
            let (name, _) = part.split_once('=')?;
            tells.iter().position(|t| t.name == name.trim())
        };
        if !text.split(';').any(|p| named(p).is_some()) {
            return Some(None);
        }
        let mut seen = vec![None; tells.len()];
        let mut rest = String::new();
        let mut at = 0;
        for part in text.split(';') {
            let Some(t) = named(part) else {
                rest.push_str(part);
                rest.push(';');
                at += part.len() + 1;
                continue;
            };
            let skip = part.find('=').unwrap_or(0) + 1;
            let value = part[skip..].replace('/', "\n");
            let span = Span::new(at + skip, at + part.len());
            let raw = Raw { kind: RawKind::Text(value, Some((at + skip) as u32)), span };
            let mut binder = Binder { model: &self.model, errors };
            seen[t] = Some(binder.told_board(self, &tells[t], &raw, file)?);
            // Blanks keep the places of what follows.
            rest.extend(std::iter::repeat_n(' ', part.len()));
            rest.push(';');
            at += part.len() + 1;
        }
        let mut state = self.parse_line(&rest, file, errors)?;
        for (tell, values) in tells.iter().zip(&seen) {
            if let (Some(v), Some(values)) = (tell.opened(), values) {
                let base = self.slots[v].base;
                for (i, x) in values.iter().enumerate() {
                    state[base + i] = i32::from(x.is_some());
                }
            }
        }
        Some(Some((state, seen)))
    }

    /// Reads a position in the one-line form; errors point into `text`.
    pub fn parse_line(&self, text: &str, file: FileId, errors: &mut Vec<Diagnostic>) -> Option<Vec<i32>> {
        let before = errors.len();
        let shadows = self.drawn;
        let mut binder = Binder { model: &self.model, errors };
        let mut state = self.start.clone();
        let mut at = 0;
        let bare = !text.contains('=');
        for part in text.split(';') {
            let offset = at;
            at += part.len() + 1;
            if part.trim().is_empty() {
                continue;
            }
            let (name, value, skip) = match part.split_once('=') {
                Some((n, v)) => (n.trim().to_string(), v, n.len() + 1),
                None if bare => {
                    let drawn = self.draw_with(&self.start, true);
                    let name = drawn
                        .pictures
                        .first()
                        .map(|p| p.name.clone())
                        .or_else(|| drawn.values.first().map(|v| v.0.clone()))
                        .unwrap_or_default();
                    (name, part, 0)
                }
                None => {
                    let span = Span::new(offset, offset + part.len());
                    binder.error("L040", file, span, "write `name=value; name=value`");
                    return None;
                }
            };
            let value_at = offset + skip;
            // Rows are split by slashes here and by line ends in a file; both are one byte.
            let board = value.replace('/', "\n");
            let span = Span::new(value_at, value_at + value.len());
            let spec = Text { text: &board, at: Some(value_at as u32), span, file };
            let name_span = Span::new(offset, offset + skip.max(1));
            if name == "ended" {
                let ending = value.trim().parse::<i32>().ok();
                match ending.filter(|&e| e >= 0 && e as usize <= self.model.endings.len()) {
                    Some(e) => state[self.ended_at()] = e,
                    None => {
                        binder.error("L041", file, span, "this is no ending of the model");
                    }
                }
                continue;
            }
            let drawing =
                self.model.shows.iter().find(|s| matches!(s, Show::Drawing { name: n, .. } if *n == name));
            let read: Vec<(usize, Vec<Option<i64>>)> = if let Some(show) = drawing {
                binder.drawing(self, show, spec, false)?
            } else {
                match self.model.var(&name) {
                    Some(v) if self.model.vars[v].state => {
                        vec![(v, binder.block(self, v, spec, false)?)]
                    }
                    _ => {
                        let key = Key { text: name, span: name_span };
                        unknown_key(&mut binder, file, &key, true);
                        return None;
                    }
                }
            };
            for (var, values) in read {
                let slot = &self.slots[var];
                let values: Vec<i32> = values.into_iter().flatten().map(|v| v as i32).collect();
                if self.model.vars[var].state {
                    state[slot.base..slot.base + slot.len].copy_from_slice(&values);
                } else if values != self.data[slot.base..slot.base + slot.len] {
                    let name = self.model.vars[var].name.clone();
                    binder
                        .error("L042", file, span, format!("`{name}` differs from the level's"))
                        .notes
                        .push(
                            "a position changes the state, not the level; use --set or another level".into(),
                        );
                    return None;
                }
            }
        }
        for (v, def) in self.model.vars.iter().enumerate() {
            if def.rearranged.is_some() {
                let slot = &self.slots[v];
                let sorted = |s: &[i32]| {
                    let mut s = s[slot.base..slot.base + slot.len].to_vec();
                    s.sort_unstable();
                    s
                };
                if sorted(&state) != sorted(&self.start) {
                    let message =
                        format!("`{}` must hold the values of the level's start in another order", def.name);
                    binder.error("L034", file, Span::new(0, text.len()), message);
                }
            }
        }
        if shadows {
            // Where starts are drawn, a position that is given begins with itself.
            self.keep_starts(&mut state);
        }
        for spread in &self.model.spreads {
            if binder.errors.len() == before && !self.is_spread(spread.var, &state) {
                let (lo, hi) = self.spreads[spread.var].unwrap_or((0, 0));
                let name = &self.model.vars[spread.var].name;
                let message = format!("the lists of `{name}` must hold each of {lo} to {hi} once");
                binder.error("L034", file, Span::new(0, text.len()), message);
            }
        }
        (binder.errors.len() == before).then_some(state)
    }

    /// The same level begun at another position.
    #[must_use]
    pub fn at(&self, position: Vec<i32>) -> Bound {
        Bound { position, ..self.clone() }
    }
}

/// `won`, `lost: why`, `over: why`.
#[must_use]
pub fn ending_text(ending: &Ending) -> String {
    let word = match ending.kind {
        EndKind::Goal => "won",
        EndKind::Lost => "lost",
        EndKind::Over => "over",
    };
    match &ending.why {
        Some(why) => format!("{word}: {why}"),
        None => word.into(),
    }
}
