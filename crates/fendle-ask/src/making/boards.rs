//! Boards as texts: what a level draws, cell by cell, and a level made of it.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use fendle_lang::model::{DrawRule, Model, Show, VarId};
use fendle_lang::state::cell_name;
use fendle_lang::syntax::level::{Key, Level, Raw, RawKind};
use fendle_lang::{Bound, Span};

use crate::answer::Trouble;
use crate::budget::Budget;
use crate::load::{Loaded, Source, Want, load_source};

/// A board: the glyphs of its cells row by row, and whatever else the level begins with.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Board {
    /// The glyphs.
    pub cells: Vec<String>,
    /// Other boards and values, by name, as `start` takes them.
    pub rest: Vec<(String, String)>,
    /// Level values that were chosen for it.
    pub values: Vec<(String, i64)>,
}

/// What may change on a board.
#[derive(Clone, Debug, Default)]
pub struct May {
    /// Glyphs that may come and go.
    pub glyphs: BTreeSet<String>,
    /// Variables that may change.
    pub vars: BTreeSet<VarId>,
}

impl May {
    /// Whether one glyph may become another; `vars`: the variables in which they differ.
    #[must_use]
    pub fn allows(&self, template: &Template, from: &str, to: &str, vars: &BTreeSet<VarId>) -> bool {
        let named = |g: &str| self.glyphs.contains(g) || template.plain() == Some(g);
        vars.is_subset(&self.vars) || named(from) && named(to)
    }
}

/// What boards are made from: a level, and how its board is drawn.
#[derive(Clone)]
pub struct Template {
    source: Source,
    /// The drawing that is changed, by name.
    name: String,
    joined: bool,
    /// Rows of the board.
    pub rows: usize,
    /// Columns.
    pub cols: usize,
    /// What each glyph says of its cell: pairs of a variable and its value; empty for plain ground.
    facts: BTreeMap<String, BTreeSet<(VarId, i64)>>,
    /// The board of the level.
    pub board: Board,
}

/// The glyphs of a drawing, with what they say. Those that are drawn only under a condition say it just so.
pub(super) fn glyphs(show: &Show) -> BTreeMap<String, BTreeSet<(VarId, i64)>> {
    match show {
        Show::Values { var, glyphs, .. } => glyphs
            .iter()
            .map(|(value, glyph)| {
                let facts = if *value == 0 { BTreeSet::new() } else { BTreeSet::from([(*var, *value)]) };
                (glyph.clone(), facts)
            })
            .collect(),
        Show::Drawing { rules, .. } => (rules.iter())
            .map(|DrawRule { glyph, facts, .. }| {
                (glyph.to_string(), facts.iter().map(|f| (f.var, f.value)).collect())
            })
            .collect(),
    }
}

impl Template {
    /// The template that a loaded level is, with the level as it was written. Where the model draws no board, such as cards or rings on posts, it
    /// has no cells that could be changed.
    #[must_use]
    pub fn new(level: &Loaded, source: Source) -> Template {
        let b = &level.game.bound;
        let drawn = b.draw(&b.position);
        let of = |name: &str| show_of(&b.model, name);
        let picture = drawn.pictures.iter().find(|p| p.heads.is_empty() && of(&p.name).is_some());
        let name = picture.map_or(String::new(), |p| p.name.clone());
        let mut out = Template {
            source,
            facts: of(&name).map(glyphs).unwrap_or_default(),
            joined: picture.is_some_and(|p| p.joined),
            rows: picture.map_or(0, |p| p.rows.len()),
            cols: picture.and_then(|p| p.rows.first()).map_or(0, Vec::len),
            name,
            board: Board { cells: vec![], rest: vec![], values: vec![] },
        };
        out.board = out.drawn(b, &b.position);
        out
    }

    /// Whether there are cells that could be changed.
    ///
    /// # Errors
    ///
    /// Words where there are none.
    pub fn has_board(&self) -> Result<(), Trouble> {
        match self.board.cells.is_empty() {
            true => Err(Trouble::Message(format!(
                "the model `{}` draws no board that can be changed",
                self.source.model.name
            ))),
            false => Ok(()),
        }
    }

    /// The board that a state draws.
    #[must_use]
    pub fn drawn(&self, b: &Bound, state: &[i32]) -> Board {
        let drawn = b.draw(state);
        let cells = drawn.pictures.iter().find(|p| p.name == self.name).map(|p| p.rows.concat());
        let rest = b.line_parts(state).into_iter().filter(|(name, _)| *name != self.name).collect();
        Board { cells: cells.unwrap_or_default(), rest, values: vec![] }
    }

    /// Whether a glyph is one of the drawing.
    #[must_use]
    pub fn knows(&self, glyph: &str) -> bool {
        self.facts.contains_key(glyph)
    }

    /// The glyphs that words name: glyphs themselves, or variables, for every glyph that says something of them.
    ///
    /// # Errors
    ///
    /// Words for a name that is neither.
    pub fn named(&self, words: &str) -> Result<BTreeSet<String>, String> {
        let mut out = BTreeSet::new();
        for word in words.split([',', ' ']).map(str::trim).filter(|w| !w.is_empty()) {
            if self.knows(word) {
                out.insert(word.to_string());
                continue;
            }
            let var = self.source.model.var_where(|v| v.name == word);
            let of = (self.facts.iter())
                .filter(|(_, facts)| var.is_some_and(|var| facts.iter().any(|f| f.0 == var)))
                .map(|(glyph, _)| glyph.clone());
            let before = out.len();
            out.extend(of);
            if out.len() == before {
                let known: Vec<&str> = self.facts.keys().map(String::as_str).collect();
                return Err(format!(
                    "`{word}` is no glyph of {} and no variable that it draws; glyphs are: {}",
                    self.name,
                    known.join(" ")
                ));
            }
        }
        Ok(out)
    }

    /// The glyph of plain ground, if the drawing has one.
    #[must_use]
    pub fn plain(&self) -> Option<&str> {
        self.facts.iter().find(|(_, facts)| facts.is_empty()).map(|(glyph, _)| glyph.as_str())
    }

    /// The variables in which two glyphs of the drawing differ: what it takes to change one into the other.
    #[must_use]
    pub fn differing(&self, a: &str, b: &str) -> BTreeSet<VarId> {
        match (self.facts.get(a), self.facts.get(b)) {
            (Some(x), Some(y)) => x.symmetric_difference(y).map(|f| f.0).collect(),
            _ => BTreeSet::new(),
        }
    }

    /// The glyphs of the drawing.
    pub fn glyphs(&self) -> impl Iterator<Item = &str> {
        self.facts.keys().map(String::as_str)
    }

    /// What may change, from words: glyphs of the drawing, and variables that it draws.
    ///
    /// # Errors
    ///
    /// Words for a name that is neither.
    pub fn may(&self, words: &str) -> Result<May, String> {
        let mut out = May::default();
        for word in words.split([',', ' ']).map(str::trim).filter(|w| !w.is_empty()) {
            match self.variable(word) {
                _ if self.knows(word) => out.glyphs.insert(word.to_string()),
                Some(var) => out.vars.insert(var),
                None => return Err(self.named(word).err().unwrap_or_default()),
            };
        }
        Ok(out)
    }

    /// The number of a variable that the drawing draws.
    #[must_use]
    pub fn variable(&self, name: &str) -> Option<VarId> {
        let var = self.source.model.var_where(|v| v.name == name)?;
        self.facts.values().flatten().any(|f| f.0 == var).then_some(var)
    }

    /// The cell's name.
    #[must_use]
    pub fn cell(&self, at: usize) -> String {
        cell_name(at, self.cols)
    }

    /// What is changed from one glyph to another, in words: `wall comes, barge goes`.
    #[must_use]
    pub fn change(&self, from: &str, to: &str) -> String {
        let none = BTreeSet::new();
        let (x, y) = (self.facts.get(from).unwrap_or(&none), self.facts.get(to).unwrap_or(&none));
        let name = |f: &(VarId, i64)| self.source.model.vars[f.0].name.clone();
        let goes = x.difference(y).map(|f| format!("{} goes", name(f)));
        let comes = y.difference(x).map(|f| format!("{} comes", name(f)));
        goes.chain(comes).collect::<Vec<_>>().join(", ")
    }

    fn rows_text(&self, board: &Board, between: &str) -> String {
        let gap = if self.joined { "" } else { " " };
        board.cells.chunks(self.cols.max(1)).map(|r| r.join(gap)).collect::<Vec<_>>().join(between)
    }

    /// The level that a board makes, as it would be written.
    fn level(&self, board: &Board, name: &str) -> Level {
        let key = |text: &str| Key { text: text.into(), span: Span::default() };
        let text = |text: String| Raw { kind: RawKind::Text(text, None), span: Span::default() };
        let mut level = self.source.level.clone();
        level.name = name.into();
        level.values.retain(|(k, _)| !self.is_drawn(&k.text) && board.values.iter().all(|v| v.0 != k.text));
        let number = |n: i64| Raw { kind: RawKind::Int(n), span: Span::default() };
        level.values.extend(board.values.iter().map(|(name, n)| (key(name), number(*n))));
        level.draft.clear();
        level.told.clear();
        level.expect.clear();
        level.start.clear();
        if !self.name.is_empty() {
            level.start.push((key(&self.name), text(self.rows_text(board, "\n"))));
        }
        level.start.extend(board.rest.iter().map(|(n, t)| (key(n), text(t.replace('/', "\n")))));
        level
    }

    /// Whether a level value is told by the drawing.
    fn is_drawn(&self, name: &str) -> bool {
        match show_of(&self.source.model, &self.name) {
            Some(Show::Drawing { vars, .. }) => vars.iter().any(|v| self.source.model.vars[*v].name == name),
            _ => false,
        }
    }

    /// Loads the level that a board makes. `None` where the model refuses it, or reads it as another board: then it is no board.
    #[must_use]
    pub fn load(&self, board: &Board, name: &str, budget: &Arc<Budget>) -> Option<Loaded> {
        let source = Source { level: self.level(board, name), ..self.source.clone() };
        let loaded = load_source(&source, Want::One, budget, &mut vec![]).ok()?;
        let b = &loaded.game.bound;
        let read = self.drawn(b, &b.position);
        let same = read.cells == board.cells && (!self.name.is_empty() || read.rest == board.rest);
        same.then_some(loaded)
    }

    /// The rows of the level's board; and the names of what the board does not show.
    #[must_use]
    pub fn rows_of_board(&self) -> (Vec<Vec<String>>, Vec<String>) {
        let rows = self.board.cells.chunks(self.cols.max(1)).map(<[String]>::to_vec).collect();
        (rows, self.board.rest.iter().map(|r| r.0.clone()).collect())
    }

    /// The model.
    #[must_use]
    pub fn model(&self) -> &Model {
        &self.source.model
    }

    /// Whether the model has a level value of this name that whole numbers can be.
    #[must_use]
    pub fn has_value(&self, name: &str) -> bool {
        self.source.model.vars.iter().any(|v| !v.state && v.name == name)
    }

    /// The boards of levels that were drafted from this one, with the numbers of their tries; what is no such board is left out.
    #[must_use]
    pub fn earlier(&self, levels: &[Level], tuned: &[String], budget: &Arc<Budget>) -> Vec<(u64, Board)> {
        let number = |name: &str| name.rsplit(' ').next().and_then(|n| n.parse::<u64>().ok());
        let board = |level: &Level| {
            let source = Source { level: level.clone(), ..self.source.clone() };
            let loaded = load_source(&source, Want::One, budget, &mut vec![]).ok()?;
            let mut board = self.drawn(&loaded.game.bound, &loaded.game.bound.position);
            let value = |name: &String| {
                let raw = level.values.iter().rev().find(|(k, _)| k.text == *name)?;
                if let RawKind::Int(n) = raw.1.kind { Some((name.clone(), n)) } else { None }
            };
            board.values = tuned.iter().filter_map(value).collect();
            (board.cells.len() == self.board.cells.len()).then_some(board)
        };
        levels.iter().filter_map(|l| Some((number(&l.name).unwrap_or(1), board(l)?))).collect()
    }

    /// The level's own wishes for drafting.
    #[must_use]
    pub fn draft(&self) -> &[(Key, Raw)] {
        &self.source.level.draft
    }

    /// The board's level as the text of a level file, below the head of the file.
    #[must_use]
    pub fn text(&self, board: &Board, name: &str, expect: &[(String, String)]) -> String {
        let level = self.level(board, name);
        let mut out = format!("[[level]]\nname = {}\n", quoted(name));
        for (key, raw) in &level.values {
            out.push_str(&format!("values.{} = {}\n", key.text, raw_text(&raw.kind)));
        }
        if !self.name.is_empty() {
            out.push_str(&format!("start.{} = '''\n{}\n'''\n", self.name, self.rows_text(board, "\n")));
        }
        for (key, text) in &board.rest {
            out.push_str(&format!("start.{key} = {}\n", quoted(text)));
        }
        if !expect.is_empty() {
            let list: Vec<String> = expect.iter().map(|(k, v)| format!("{k} = {v}")).collect();
            out.push_str(&format!("expect = {{ {} }}\n", list.join(", ")));
        }
        out
    }

    /// The board in one form for all that are turned or mirrored: the least of them. Boards of another shape are turned by half a turn alone.
    #[must_use]
    pub fn unturned(&self, board: &Board) -> Vec<String> {
        let (rows, cols) = (self.rows, self.cols);
        let at = |r: usize, c: usize| board.cells[r * cols + c].clone();
        let mut forms: Vec<Vec<String>> = vec![];
        for (flip_rows, flip_cols) in [(false, false), (false, true), (true, false), (true, true)] {
            let row = |r: usize| if flip_rows { rows - 1 - r } else { r };
            let col = |c: usize| if flip_cols { cols - 1 - c } else { c };
            forms.push((0..rows * cols).map(|i| at(row(i / cols), col(i % cols))).collect());
            if rows == cols {
                forms.push((0..rows * cols).map(|i| at(row(i % cols), col(i / cols))).collect());
            }
        }
        forms.into_iter().min().unwrap_or_default()
    }
}

fn show_of<'m>(model: &'m Model, name: &str) -> Option<&'m Show> {
    model.shows.iter().find(|show| match show {
        Show::Values { var, .. } => model.vars[*var].name == name,
        Show::Drawing { name: own, .. } => own == name,
    })
}

/// A text in quotes, as TOML has it.
fn quoted(text: &str) -> String {
    serde_json::to_string(text).unwrap_or_default()
}

/// A written value, as TOML has it.
fn raw_text(kind: &RawKind) -> String {
    match kind {
        RawKind::Text(text, _) if text.contains('\n') && !text.contains("'''") => {
            format!("'''\n{}\n'''", text.trim_matches('\n'))
        }
        RawKind::Text(text, _) => quoted(text),
        RawKind::Int(n) => n.to_string(),
        RawKind::Bool(b) => b.to_string(),
        RawKind::List(list) => {
            format!("[{}]", list.iter().map(|r| raw_text(&r.kind)).collect::<Vec<_>>().join(", "))
        }
        RawKind::Table(list) => {
            let parts: Vec<String> =
                list.iter().map(|(k, r)| format!("{} = {}", quoted(&k.text), raw_text(&r.kind))).collect();
            format!("{{ {} }}", parts.join(", "))
        }
    }
}
