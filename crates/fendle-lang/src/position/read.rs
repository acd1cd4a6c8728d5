//! Boards and values as text, read into the values of variables. Errors point at the character.

use fendle_core::numbers::counted;

use crate::model::*;
use crate::run::Eval;
use crate::source::{Diagnostic, FileId, Label, Span};
use crate::state::{Bound, SIDE_MAX, Slot};
use crate::syntax::level::{CELLS_MAX, Key, Raw, RawKind};

/// What stands in a board for what the player is not told.
pub const UNTOLD: &str = "~";

/// Cells by their names, such as `r1c1 r2c3`, where a text is nothing else.
pub(crate) fn cell_list(text: &str) -> Option<Vec<(usize, usize)>> {
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

pub(crate) fn parse_cell(text: &str, rows: usize, cols: usize) -> Option<i64> {
    let (r, c) = text.strip_prefix('r')?.split_once('c')?;
    let (r, c): (usize, usize) = (r.parse().ok()?, c.parse().ok()?);
    (r >= 1 && c >= 1 && r <= rows && c <= cols).then(|| ((r - 1) * cols + c - 1) as i64)
}

/// Whether a grid is written as one glyph a cell, without blanks.
pub(crate) fn is_joined(model: &Model, var: VarId) -> bool {
    model.values_show(var).map_or(model.vars[var].dom.scalar() == Scalar::Bool, |s| s.1)
}

/// Whether no row has a blank though each is longer than one sign: the values that want blanks between them run together.
pub(crate) fn is_without_blanks(rows: &[(usize, &str)]) -> bool {
    rows.iter().all(|(_, r)| !r.contains(char::is_whitespace) && r.chars().count() > 1)
}

/// The lines of a text board that hold something, with their byte offsets. A text in one line has slashes between its rows.
pub(crate) fn lines(text: &str) -> Vec<(usize, &str)> {
    let mut out = vec![];
    let mut at = 0;
    let between = if text.trim().contains('\n') { '\n' } else { '/' };
    for line in text.split(between) {
        let trimmed = line.trim();
        if !trimmed.is_empty() {
            out.push((at + line.find(trimmed).unwrap_or(0), trimmed));
        }
        at += line.len() + 1;
    }
    out
}

/// The parts of one line with their offsets: characters, or words. Where characters are wanted and each but the last has one blank behind it, these blanks
/// are no cells: boards are often written so.
pub(crate) fn parts(line: &str, joined: bool) -> Vec<(usize, &str)> {
    let is_apart = |(i, c): (usize, char)| c.is_whitespace() == (i % 2 == 1);
    let count = line.chars().count();
    let apart = count >= 3 && count % 2 == 1 && line.chars().enumerate().all(is_apart);
    if joined && !apart {
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
    pub(crate) fn spot(&self, offset: usize, len: usize) -> Span {
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
pub(crate) type Word<'a> = (&'a str, Span);

/// A list as it is kept: its length, its entries, and the rest unused.
pub(crate) fn list_block(slot: &Slot, mut entries: Vec<i64>, bag: bool) -> Vec<Option<i64>> {
    if bag {
        entries.sort_unstable();
    }
    let mut out = vec![Some(entries.len() as i64)];
    out.extend(entries.into_iter().map(Some));
    out.resize(slot.cap + 1, Some(slot.pad()));
    out
}

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

    pub(crate) fn is_joined(&self, var: VarId) -> bool {
        is_joined(self.model, var)
    }

    /// Splits a text board and checks that it is rectangular and of the wanted size.
    pub(crate) fn board<'t>(
        &mut self,
        text: Text<'t>,
        joined: bool,
        size: Option<(usize, usize)>,
    ) -> Option<Vec<Vec<Word<'t>>>> {
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
    pub(crate) fn value(
        &mut self,
        b: &Bound,
        var: VarId,
        text: &str,
        file: FileId,
        span: Span,
    ) -> Option<i64> {
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
            self.error("L025", file, span, message).labels.push(Label {
                file: model_file,
                span: declared,
                text: "declared here".into(),
            });
            return None;
        }
        Some(value)
    }

    pub(crate) fn known_values(&self, b: &Bound, var: VarId) -> String {
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
        var: VarId,
        text: Text<'_>,
        open: bool,
    ) -> Option<Vec<Option<i64>>> {
        let def = &self.model.vars[var];
        match def.shape {
            Extent::One => {
                let trimmed = text.text.trim();
                let at = text.text.find(trimmed).unwrap_or(0);
                Some(vec![Some(self.value(b, var, trimmed, text.file, text.spot(at, trimmed.len()))?)])
            }
            Extent::Set | Extent::Grid
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
            Extent::Grid | Extent::Set => {
                let joined = self.is_joined(var);
                if !joined && self.is_run_together(b, var, text) {
                    return None;
                }
                let rows = self.board(text, joined, Some((b.rows, b.cols)))?;
                let mut out = vec![];
                let before = self.errors.len();
                for (part, span) in rows.into_iter().flatten() {
                    if open && part == "?" {
                        out.push(None);
                        continue;
                    }
                    if let Some(v) = self.value(b, var, part, text.file, span) {
                        out.push(Some(v));
                    }
                }
                self.told_once(before);
                (self.errors.len() == before).then_some(out)
            }
            Extent::Array(Keyed::Pair(p)) => self.pair_block(b, var, self.model.pairs[p], text, open),
            Extent::Array(_) | Extent::List(_) if self.is_standing_board(b, var, text) => {
                self.standing_board(b, var, text)
            }
            Extent::List(bag) => {
                let entries = self.entries(b, var, text.text, text, 0)?;
                Some(list_block(&b.slots[var], entries, bag))
            }
            Extent::Array(e) | Extent::Lists(e, _) => {
                let keys = b.key_names(e);
                let slot = b.slots[var].clone();
                let lists = matches!(def.shape, Extent::Lists(..));
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
                    if let Extent::Lists(_, bag) = def.shape {
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

    /// An array of arrays, of grids or of sets: `key: values, key: values`, for each first key the values of the second ones, or
    /// a board.
    fn pair_block(
        &mut self,
        b: &Bound,
        var: VarId,
        (first, second): (Keyed, Keyed),
        text: Text<'_>,
        open: bool,
    ) -> Option<Vec<Option<i64>>> {
        let (firsts, each) = (b.key_names(first), b.keys_len(second));
        let name = self.model.vars[var].name.clone();
        let mut out: Vec<Option<Vec<Option<i64>>>> = vec![None; firsts.len()];
        let mut at = 0;
        for entry in text.text.split(',') {
            let from = at;
            at += entry.len() + 1;
            let span = text.spot(from, entry.len());
            let key = entry.split_once(':').map(|(k, v)| (k.trim(), v, entry.len() - v.len()));
            let Some((key, value, skip)) = key else {
                self.error("L026", text.file, span, "write `key: values, key: values`");
                return None;
            };
            let Some(k) = firsts.iter().position(|n| n == key) else {
                self.error("L026", text.file, span, format!("`{key}` is no key of `{name}`"))
                    .notes
                    .push(format!("its keys are: {}", firsts.join(", ")));
                return None;
            };
            let inner =
                Text { text: value, at: text.at.map(|a| a + (from + skip) as u32), span, file: text.file };
            let parts: Vec<(&str, Span)> = if second == Keyed::Cell {
                let joined = self.is_joined(var);
                self.board(inner, joined, Some((b.rows, b.cols)))?.into_iter().flatten().collect()
            } else {
                parts(value, false).into_iter().map(|(i, p)| (p, inner.spot(i, p.len()))).collect()
            };
            if parts.len() != each {
                let message = format!("`{name}` wants {each} values for `{key}`, these are {}", parts.len());
                self.error("L026", text.file, span, message);
                return None;
            }
            let mut values = vec![];
            for (part, span) in parts {
                let open = open && part == "?";
                values.push(if open { None } else { Some(self.value(b, var, part, text.file, span)?) });
            }
            out[k] = Some(values);
        }
        if let Some(k) = out.iter().position(Option::is_none) {
            self.error("L026", text.file, text.span, format!("`{name}` has no values for `{}`", firsts[k]));
            return None;
        }
        Some(out.into_iter().flatten().flatten().collect())
    }

    /// Whether a text is a board with the signs of the cells of an array or list, not their names.
    fn is_standing_board(&self, b: &Bound, var: VarId, text: Text<'_>) -> bool {
        let def = &self.model.vars[var];
        matches!(def.dom.scalar(), Scalar::Cell | Scalar::Maybe(Base::Cell))
            && b.cells() > 0
            && cell_list(text.text).is_none()
            && !text.text.contains(':')
            && !matches!(text.text.trim(), "empty" | "")
    }

    /// Cells of an array or list drawn as a board: each by its sign, `.` where nothing stands.
    fn standing_board(&mut self, b: &Bound, var: VarId, text: Text<'_>) -> Option<Vec<Option<i64>>> {
        let def = &self.model.vars[var];
        let (name, slot) = (def.name.clone(), b.slots[var].clone());
        let glyphs = b.standing_glyphs(var);
        let mut cells: Vec<Option<i64>> = vec![None; glyphs.len()];
        for (cell, (part, span)) in
            self.board(text, true, Some((b.rows, b.cols)))?.into_iter().flatten().enumerate()
        {
            if part == "." {
                continue;
            }
            let Some(k) = glyphs.iter().position(|g| part.starts_with(*g)) else {
                let known: Vec<String> = glyphs.iter().map(|g| format!("`{g}`")).collect();
                self.error("L024", text.file, span, format!("`{part}` stands for nothing of `{name}`"))
                    .notes
                    .push(format!("write `.` where nothing stands, or one of {}", known.join(", ")));
                return None;
            };
            if cells[k].replace(cell as i64).is_some() {
                self.error("L028", text.file, span, format!("a second `{part}`, and one is wanted"));
                return None;
            }
        }
        if let Extent::List(bag) = def.shape {
            let count = cells.iter().take_while(|c| c.is_some()).count();
            if cells[count..].iter().any(Option::is_some) {
                let message = format!("`{name}` has no entry `{}`, and a later one", glyphs[count]);
                self.error("L028", text.file, text.span, message);
                return None;
            }
            return Some(list_block(&slot, cells[..count].iter().flatten().copied().collect(), bag));
        }
        let maybe = matches!(def.dom, Dom::Maybe(_));
        for (k, cell) in cells.iter_mut().enumerate() {
            if cell.is_none() && maybe {
                *cell = Some(NONE);
            } else if cell.is_none() {
                let message = format!("this board holds no `{}`, and one is wanted", glyphs[k]);
                self.error("L028", text.file, text.span, message);
                return None;
            }
        }
        Some(cells)
    }

    /// Whether a board is written without blanks though its values want them; says so, once.
    fn is_run_together(&mut self, b: &Bound, var: VarId, text: Text<'_>) -> bool {
        let rows = lines(text.text);
        let Some(&(at, row)) = rows.first() else { return false };
        if !is_without_blanks(&rows) || b.cols == 1 && self.parses(b, var, row) {
            return false;
        }
        let name = self.model.vars[var].name.clone();
        let span = text.spot(at, row.len());
        self.error("L024", text.file, span, format!("`{row}` is no value of `{name}`")).notes.push(format!(
            "write blanks between the values; `show {name} joined {{ ... }}` in the model takes one character a cell instead"
        ));
        true
    }

    /// Whether a text is a value of a variable.
    fn parses(&self, b: &Bound, var: VarId, text: &str) -> bool {
        let glyph = self.model.values_show(var).is_some_and(|(list, _)| list.iter().any(|(_, g)| g == text));
        glyph || b.parse_scalar(self.model.vars[var].dom.scalar(), text).is_some()
    }

    /// Tells a mistake that stands in several cells of a board once, and in how many others it stands. The mistakes of the board are
    /// those behind the first `before`.
    fn told_once(&mut self, before: usize) {
        let mut others: Vec<u64> = vec![];
        for error in self.errors.split_off(before) {
            let same = |e: &Diagnostic| e.code == error.code && e.message == error.message;
            match self.errors[before..].iter().position(same) {
                Some(first) => others[first] += 1,
                None => {
                    self.errors.push(error);
                    others.push(0);
                }
            }
        }
        for (error, n) in self.errors[before..].iter_mut().zip(others).filter(|e| e.1 > 0) {
            error.notes.push(format!("the same in {}", counted(n, "other cell", "other cells")));
        }
    }

    /// The entries of a list: values separated by blanks, or `empty`.
    pub(crate) fn entries(
        &mut self,
        b: &Bound,
        var: VarId,
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
    ) -> Option<Vec<(VarId, Vec<Option<i64>>)>> {
        let Show::Drawing { name, vars, rules, .. } = show else { return None };
        let rows = self.board(text, true, Some((b.rows, b.cols)))?;
        let cells = b.rows * b.cols;
        let mut out: Vec<(VarId, Vec<Option<i64>>)> = vars
            .iter()
            .map(|&v| {
                let def = &self.model.vars[v];
                match def.shape {
                    Extent::One | Extent::List(_) | Extent::Lists(..) | Extent::Array(_) => (v, vec![]),
                    _ => {
                        // Slots of later variables may not be known yet.
                        let maybe = matches!(def.dom, Dom::Maybe(_));
                        (v, vec![Some(if maybe { NONE } else { b.slots[v].plain() }); cells])
                    }
                }
            })
            .collect();
        let mut spots: Vec<Vec<(i64, Span)>> = vec![vec![]; vars.len()];
        let before = self.errors.len();
        let mut opens = false;
        for (cell, (part, span)) in rows.into_iter().flatten().enumerate() {
            if open && part == "?" {
                opens = true;
                for (v, values) in &mut out {
                    if matches!(self.model.vars[*v].shape, Extent::Grid | Extent::Set) {
                        values[cell] = None;
                    }
                }
                continue;
            }
            let Some(DrawRule { facts, .. }) = rules.iter().find(|r| part.starts_with(r.glyph)) else {
                let glyphs = rules.iter().map(|r| r.glyph.to_string()).collect::<Vec<_>>().join(" ");
                self.error("L027", text.file, span, format!("`{part}` is no glyph of `{name}`"))
                    .notes
                    .push(format!("its glyphs are: {glyphs}"));
                continue;
            };
            for fact in facts {
                let def = &self.model.vars[fact.var];
                if is_untold_by_drawing(def) {
                    if open {
                        // Only how it looks is compared.
                        continue;
                    }
                    self.does_not_tell(def, text.file, span);
                    return None;
                }
                let i = vars.iter().position(|v| *v == fact.var).expect("a variable of the drawing");
                if !matches!(self.model.vars[fact.var].shape, Extent::Grid | Extent::Set) {
                    spots[i].push((cell as i64, span));
                } else {
                    out[i].1[cell] = Some(fact.value);
                }
            }
        }
        if self.errors.len() > before {
            self.told_once(before);
            return None;
        }
        for ((var, values), spots) in out.iter_mut().zip(&spots) {
            let def = &self.model.vars[*var];
            if !matches!(def.shape, Extent::Grid | Extent::Set) && !is_untold_by_drawing(def) {
                *values = self.stands_at((b, *var), spots, text, opens)?;
            }
        }
        out.retain(|(v, values)| !is_untold_by_drawing(&self.model.vars[*v]) && !values.is_empty());
        Some(out)
    }

    /// Says that a drawing does not tell what a variable holds.
    fn does_not_tell(&mut self, def: &VarDef, file: FileId, span: Span) {
        let name = &def.name;
        let (what, how) = match def.shape {
            Extent::One => ("how", "SHAPE.TURN@r1c1"),
            Extent::List(_) => ("in which order", "r1c1 r1c2"),
            _ => ("which of", "KEY: r1c1, KEY: r1c2"),
        };
        let lies = if def.shape == Extent::One { "lies" } else { "stands here" };
        let message = format!("a drawing does not say {what} `{name}` {lies}");
        let note = format!("leave it out here and write `start.{name} = \"{how}\"`");
        self.error("L039", file, span, message).notes.push(note);
    }

    /// What a variable holds that is drawn where it stands: a cell, or cells in any order. `opens`: some cells are left open.
    fn stands_at(
        &mut self,
        (b, var): (&Bound, VarId),
        spots: &[(i64, Span)],
        text: Text<'_>,
        opens: bool,
    ) -> Option<Vec<Option<i64>>> {
        let (def, slot) = (&self.model.vars[var], &b.slots[var]);
        if def.shape == Extent::List(true) {
            let entries: Vec<i64> = spots.iter().map(|s| s.0).collect();
            if entries.len() > slot.cap {
                let message = format!("`{}` holds at most {} entries", def.name, slot.cap);
                self.error("L038", text.file, text.span, message);
                return None;
            }
            return Some(if opens { vec![] } else { list_block(slot, entries, true) });
        }
        match spots {
            [(cell, _)] => Some(vec![Some(*cell)]),
            [] if !opens && matches!(def.dom, Dom::Maybe(_)) => Some(vec![Some(NONE)]),
            [] if opens => Some(vec![None]),
            [] => {
                let message = format!("this board holds no `{}`, and one is wanted", def.name);
                self.error("L028", text.file, text.span, message);
                None
            }
            [(_, first), (_, second), ..] => {
                let message = format!("a second `{}`, and one is wanted", def.name);
                let label = Label { file: text.file, span: *first, text: "the first".into() };
                self.error("L028", text.file, *second, message).labels.push(label);
                None
            }
        }
    }
}

/// Whether a drawing shows that something of a variable stands on a cell, and not what.
pub(crate) fn is_untold_by_drawing(def: &VarDef) -> bool {
    matches!(def.dom.scalar(), Scalar::Placed(_) | Scalar::Maybe(Base::Placed(_)))
        || matches!(def.shape, Extent::Array(_) | Extent::List(false))
}

pub(crate) fn unknown_key(binder: &mut Binder<'_>, file: FileId, key: &Key, state: bool) {
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
    let near = crate::source::near(&key.text, known.iter().map(String::as_str)).map(str::to_string);
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

impl Binder<'_> {
    /// What a level says is seen of one `tell`: values, and `~` where nothing is told.
    pub(crate) fn told_board(
        &mut self,
        b: &Bound,
        tell: &TellDef,
        raw: &Raw,
        file: FileId,
    ) -> Option<Vec<Option<i64>>> {
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
}
