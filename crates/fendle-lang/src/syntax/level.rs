//! Level files: TOML to values, each with its place in the file.
//!
//! Knows nothing of models: [`mod@crate::bind`] gives the values their meaning.

use toml_edit::{ImDocument, Item, Table, Value};

use crate::source::{Diagnostic, FileId, Span, near};

/// Greatest size of a level file, in bytes.
pub const FILE_BYTES_MAX: u64 = 8 << 20;
/// Greatest number of cells on a board.
pub const CELLS_MAX: usize = 1 << 14;

/// A value as written.
#[derive(Clone, Debug, PartialEq)]
pub struct Raw {
    /// What it is.
    pub kind: RawKind,
    /// Where it is.
    pub span: Span,
}

/// Kinds of written values.
#[derive(Clone, Debug, PartialEq)]
pub enum RawKind {
    /// A text; with the byte of its first character where text and file agree byte by byte.
    Text(String, Option<u32>),
    /// A whole number.
    Int(i64),
    /// A bool.
    Bool(bool),
    /// A table of values.
    Table(Vec<(Key, Raw)>),
    /// A list of values.
    List(Vec<Raw>),
}

/// A key and its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Key {
    /// The key.
    pub text: String,
    /// Its place.
    pub span: Span,
}

/// One level of a file.
#[derive(Clone, Debug, Default)]
pub struct Level {
    /// Its name; `1`, `2`, ... where none is given.
    pub name: String,
    /// What is printed above it.
    pub title: String,
    /// Its place: the name where there is one.
    pub span: Span,
    /// Rows and columns, where given.
    pub size: Option<((usize, usize), Span)>,
    /// Values for the model's `level` names; those of the file come first, later ones win.
    pub values: Vec<(Key, Raw)>,
    /// The start of `state` variables and drawings.
    pub start: Vec<(Key, Raw)>,
    /// What the player sees of hidden things, where the level gives no layout.
    pub told: Vec<(Key, Raw)>,
    /// What is expected.
    pub expect: Vec<(Key, Raw)>,
    /// Drawings that take the place of those of the model's shapes; those of the file come first, later ones win.
    pub shapes: Vec<(Key, Raw)>,
    /// How boards are drafted from it; those of the file come first, later ones win.
    pub draft: Vec<(Key, Raw)>,
}

/// A level file.
#[derive(Clone, Debug)]
pub struct LevelFile {
    /// The file.
    pub file: FileId,
    /// A library name or a path relative to the file.
    pub model: Key,
    /// What the file is called.
    pub title: String,
    /// Its levels, at least one.
    pub levels: Vec<Level>,
}

/// Numbers that may be expected of a level, beside `solvable`.
pub const EXPECT_COUNTS: &[&str] = &[
    "moves",
    "states",
    "transitions",
    "edges",
    "depth",
    "goal",
    "lost",
    "over",
    "stuck",
    "dead",
    "winnable",
    "free",
    "fatal_moves",
    "certain",
    "almost_certain",
    "fatal_draws",
    "guesses",
];

/// What may stand under `draft`: the options of drafting that belong to a level.
pub const DRAFT_KEYS: &[&str] = &[
    "by",
    "want",
    "most",
    "keep",
    "tries",
    "shuffles",
    "backwards",
    "put",
    "cells",
    "may",
    "fixed",
    "mirrored",
    "apart",
    "tune",
    "first",
    "safe",
];

struct Reader<'a> {
    file: FileId,
    text: &'a str,
    errors: &'a mut Vec<Diagnostic>,
}

/// Reads a level file. `None` when it cannot be used at all; errors are appended.
pub fn read(file: FileId, text: &str, errors: &mut Vec<Diagnostic>) -> Option<LevelFile> {
    let before = errors.len();
    read_on(file, text, errors).filter(|_| errors.len() == before)
}

/// The same, and what could be read is given whatever is wrong with the rest, so that more mistakes can be found in it.
pub fn read_on(file: FileId, text: &str, errors: &mut Vec<Diagnostic>) -> Option<LevelFile> {
    let doc = match ImDocument::parse(text) {
        Ok(doc) => doc,
        Err(e) => {
            let span = e.span().map_or(Span::default(), |r| Span::new(r.start, r.end));
            let message = e.message().lines().next().unwrap_or("unreadable").to_string();
            errors.push(
                Diagnostic::error("L001", file, span, format!("this is no level file: {message}"))
                    .note("level files are TOML; see `fendle new slide` for one to start from"),
            );
            return None;
        }
    };
    let mut r = Reader { file, text, errors };
    let root = doc.as_table();
    r.keys(root, &["model", "title", "size", "values", "shapes", "draft", "level"], "a level file");
    let model = match root.get_key_value("model") {
        Some((_, item)) => match item.as_str() {
            Some(name) => Key { text: name.to_string(), span: item_span(item) },
            None => {
                r.error("L002", item_span(item), "`model` is the name of a model, in quotes");
                return None;
            }
        },
        None => {
            let end = text.find('\n').unwrap_or(text.len());
            r.error("L003", Span::new(0, end), "this level file names no model")
                .notes
                .push("begin it with `model = \"slide\"`, a library name or a path".into());
            return None;
        }
    };
    let title = r.text_of(root, "title");
    let size = r.size(root);
    let values = r.table(root, "values");
    let shapes = r.table(root, "shapes");
    let draft = r.draft(root);
    let mut levels = vec![];
    match root.get("level") {
        Some(Item::ArrayOfTables(list)) => {
            for (i, table) in list.iter().enumerate() {
                let own = r.level(table, i + 1);
                levels.push(Level {
                    size: own.size.or(size),
                    values: [values.clone(), own.values].concat(),
                    shapes: [shapes.clone(), own.shapes].concat(),
                    draft: [draft.clone(), own.draft].concat(),
                    ..own
                });
            }
        }
        Some(other) => {
            r.error("L004", item_span(other), "levels are written as `[[level]]`");
        }
        None => {
            let end = text.find('\n').unwrap_or(text.len());
            r.error("L005", Span::new(0, end), "this file holds no level")
                .notes
                .push("add one: a line `[[level]]`, then `name = \"...\"` and its start".into());
        }
    }
    for (i, level) in levels.iter().enumerate() {
        if let Some(first) = levels[..i].iter().find(|l| l.name == level.name) {
            let first = first.span;
            let error =
                Diagnostic::error("L006", file, level.span, format!("two levels are named `{}`", level.name));
            r.errors.push(error.also(file, first, "the first one"));
        }
    }
    Some(LevelFile { file, model, title, levels })
}

fn item_span(item: &Item) -> Span {
    item.span().map_or(Span::default(), |s| Span::new(s.start, s.end))
}

impl Reader<'_> {
    /// One level as it stands, without what the file says of all.
    fn level(&mut self, table: &toml_edit::Table, number: usize) -> Level {
        const KEYS: [&str; 9] =
            ["name", "title", "size", "values", "shapes", "start", "told", "expect", "draft"];
        self.keys(table, &KEYS, "a level");
        let mut name = self.text_of(table, "name");
        if name.is_empty() {
            name = number.to_string();
        }
        let own = table.get("name").map(item_span);
        let span = own.or_else(|| table.span().map(|s| Span::new(s.start, s.end))).unwrap_or_default();
        let expect = self.table(table, "expect");
        self.expect(&expect);
        Level {
            name,
            title: self.text_of(table, "title"),
            span,
            size: self.size(table),
            values: self.table(table, "values"),
            start: self.table(table, "start"),
            told: self.table(table, "told"),
            expect,
            shapes: self.table(table, "shapes"),
            draft: self.draft(table),
        }
    }

    fn error(&mut self, code: &'static str, span: Span, message: impl Into<String>) -> &mut Diagnostic {
        self.errors.push(Diagnostic::error(code, self.file, span, message));
        self.errors.last_mut().expect("just pushed")
    }

    fn keys(&mut self, table: &Table, known: &[&str], what: &str) {
        for (name, item) in table.iter() {
            if known.contains(&name) {
                continue;
            }
            let span =
                table.key(name).and_then(|k| k.span()).map_or(item_span(item), |s| Span::new(s.start, s.end));
            let near = near(name, known.iter().copied());
            let error = self.error("L007", span, format!("{what} has no key `{name}`"));
            match near {
                Some(n) => error.notes.push(format!("did you mean `{n}`?")),
                None => error.notes.push(format!("its keys are: {}", known.join(", "))),
            }
        }
    }

    fn text_of(&mut self, table: &Table, key: &str) -> String {
        match table.get(key) {
            None => String::new(),
            Some(item) => match item.as_str() {
                Some(s) => s.to_string(),
                None => {
                    self.error("L008", item_span(item), format!("`{key}` is a text in quotes"));
                    String::new()
                }
            },
        }
    }

    fn size(&mut self, table: &Table) -> Option<((usize, usize), Span)> {
        let item = table.get("size")?;
        let span = item_span(item);
        let list: Option<Vec<i64>> =
            item.as_array().map(|a| a.iter().filter_map(Value::as_integer).collect());
        match list.as_deref() {
            Some(&[r, c]) if r > 0 && c > 0 => Some(((r as usize, c as usize), span)),
            _ => {
                self.error("L009", span, "`size` is `[rows, columns]`, both at least 1");
                None
            }
        }
    }

    fn expect(&mut self, expect: &[(Key, Raw)]) {
        for (key, raw) in expect {
            let good = match key.text.as_str() {
                "solvable" | "no_guess" => matches!(raw.kind, RawKind::Bool(_)),
                "chance" => matches!(raw.kind, RawKind::Text(..)),
                k if EXPECT_COUNTS.contains(&k) => matches!(raw.kind, RawKind::Int(n) if n >= 0),
                other => {
                    let near =
                        near(other, EXPECT_COUNTS.iter().copied().chain(["solvable", "no_guess", "chance"]));
                    let error = self.error("L010", key.span, format!("`{other}` cannot be expected"));
                    match near {
                        Some(n) => error.notes.push(format!("did you mean `{n}`?")),
                        None => error.notes.push(format!(
                            "what can be: solvable, no_guess, chance, {}",
                            EXPECT_COUNTS.join(", ")
                        )),
                    }
                    true
                }
            };
            if !good {
                let want = match key.text.as_str() {
                    "solvable" | "no_guess" => "true or false",
                    "chance" => "a fraction in quotes, such as \"5/20\"",
                    _ => "a count",
                };
                self.error("L010", raw.span, format!("`{}` is {want}", key.text));
            }
        }
    }

    /// How boards are drafted: texts and whole numbers, under known names.
    fn draft(&mut self, table: &Table) -> Vec<(Key, Raw)> {
        let list = self.table(table, "draft");
        for (key, raw) in &list {
            if !DRAFT_KEYS.contains(&key.text.as_str()) {
                let near = near(&key.text, DRAFT_KEYS.iter().copied());
                let error = self.error("L007", key.span, format!("`draft` has no key `{}`", key.text));
                error.notes.push(match near {
                    Some(n) => format!("did you mean `{n}`?"),
                    None => format!("its keys are: {}", DRAFT_KEYS.join(", ")),
                });
            } else if !matches!(raw.kind, RawKind::Text(..) | RawKind::Int(_) | RawKind::Bool(_)) {
                self.error("L012", raw.span, format!("`draft.{}` is a text, a number, or true", key.text));
            }
        }
        list
    }

    fn table(&mut self, table: &Table, key: &str) -> Vec<(Key, Raw)> {
        let Some(item) = table.get(key) else { return vec![] };
        let Some(inner) = item.as_table_like() else {
            self.error("L011", item_span(item), format!("`{key}` is a table: `{key}.NAME = ...`"));
            return vec![];
        };
        let mut out = vec![];
        for (name, item) in inner.iter() {
            let span =
                inner.key(name).and_then(|k| k.span()).map_or(item_span(item), |s| Span::new(s.start, s.end));
            if let Some(raw) = self.raw(item) {
                out.push((Key { text: name.to_string(), span }, raw));
            }
        }
        out
    }

    fn raw(&mut self, item: &Item) -> Option<Raw> {
        let span = item_span(item);
        if let Some(table) = item.as_table_like() {
            let mut out = vec![];
            for (name, item) in table.iter() {
                let at = table
                    .key(name)
                    .and_then(|k| k.span())
                    .map_or(item_span(item), |s| Span::new(s.start, s.end));
                out.push((Key { text: name.to_string(), span: at }, self.raw(item)?));
            }
            return Some(Raw { kind: RawKind::Table(out), span });
        }
        match item.as_value() {
            Some(value) => self.value(value),
            None => {
                self.error("L012", span, "a value is wanted here");
                None
            }
        }
    }

    fn value(&mut self, value: &Value) -> Option<Raw> {
        let span = value.span().map_or(Span::default(), |s| Span::new(s.start, s.end));
        let kind = match value {
            Value::Integer(n) => RawKind::Int(*n.value()),
            Value::Boolean(b) => RawKind::Bool(*b.value()),
            Value::String(s) => {
                let text = s.value().clone();
                // Where the file holds the text byte for byte, errors can point into it.
                let at = self.text[span.range()]
                    .find(text.as_str())
                    .filter(|_| !text.is_empty() && !text.contains('\r'));
                let text = text.replace("\r\n", "\n");
                RawKind::Text(text, at.map(|a| span.start + a as u32))
            }
            Value::Array(list) => {
                let mut out = vec![];
                for v in list {
                    out.push(self.value(v)?);
                }
                RawKind::List(out)
            }
            Value::InlineTable(_) => return self.raw(&Item::Value(value.clone())),
            _ => {
                self.error("L012", span, "only texts, whole numbers, true and false are values here");
                return None;
            }
        };
        Some(Raw { kind, span })
    }
}
