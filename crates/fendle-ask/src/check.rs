//! Are models and levels well formed, do the examples pass, are the starts sane, how many bits is a state.

use std::path::PathBuf;
use std::sync::Arc;

use fendle_core::infer::NoAnswer;
use fendle_core::{Limit, Limits, Model as _, explore};
use fendle_lang::check::alike::tells_apart;
use fendle_lang::known::player::{Player, Stopped as NotInferred};
use fendle_lang::model::{LawDef, Model, NeverDef, ShapeTurns};
use fendle_lang::play::examples::{Stopped, run_all};
use fendle_lang::play::is_stuck;
use fendle_lang::question;
use fendle_lang::reasons::keeps::{Kept, kept};
use fendle_lang::reasons::laws::Turner;
use fendle_lang::run::Eval;
use fendle_lang::state::{Stop, ending_text};
use fendle_lang::{Diagnostic, FileId, Game, Severity};
use serde::Serialize;
use serde_json::{Value, json};

use crate::answer::{Answer, Asked, End, Trouble, Verdict};
use crate::budget::Budget;
use crate::find::{Held, holding};
use crate::load::{Begin, Loaded, Provider, Source, Store, Want, load_source};
use crate::numbers::{Numbers, numbers};
use fendle_core::numbers::{counted, grouped};

/// States looked at for laws: each is played by the reference executor, twice.
const LAW_STATES: u64 = 400;
/// States looked at for two statuses that hold at once.
const OVERLAP_STATES: u64 = 20_000;

/// A model that was checked.
#[derive(Clone, Debug, Serialize)]
pub struct CheckedModel {
    /// Its file.
    pub file: String,
    /// Its name.
    pub model: String,
    /// Examples that pass.
    pub examples_passed: usize,
    /// The titles of those that fail.
    pub examples_failed: Vec<String>,
    /// The model itself, for its shapes.
    #[serde(skip)]
    pub definition: Arc<Model>,
}

/// A level that was checked.
#[derive(Clone, Debug, Serialize)]
pub struct CheckedLevel {
    /// Its file.
    pub file: String,
    /// Its name.
    pub level: String,
    /// Rows of the board; 0 without one.
    pub rows: usize,
    /// Columns.
    pub cols: usize,
    /// Bits of one packed state.
    pub bits_per_state: u32,
    /// Moves with all values of their parameters.
    pub moves: usize,
    /// How the start stands, and where it comes from.
    pub start: String,
    /// Whether two statuses can hold at once.
    pub two_statuses: String,
    /// What is known of each declared quantity.
    pub kept_quantities: Vec<&'static str>,
    /// What is known of each law.
    pub laws: Vec<String>,
    /// What can be in play from its start, and the numbers of its states; `null` with hidden things.
    pub numbers: Option<Numbers>,
    /// Operations of its code.
    pub code_operations: usize,
    /// The code, where it is asked for.
    #[serde(skip)]
    pub code: Option<String>,
}

/// One file of levels, in the order in which files were read.
#[derive(Clone, Debug)]
pub enum Item {
    /// A model: its number among the checked ones.
    Model(usize),
    /// A level file: its path, how many levels it holds, its model's name, and the numbers of the levels that could be bound.
    Levels {
        /// The path.
        path: String,
        /// How many levels there are.
        count: usize,
        /// The model's name.
        model: String,
        /// Those that could be bound, by their numbers among the checked ones.
        rows: Vec<usize>,
        /// The model declares kept quantities.
        keeps: bool,
        /// The model declares laws.
        laws: bool,
    },
}

/// What a check found.
#[derive(Clone, Debug, Default)]
pub struct Checked {
    /// Models.
    pub models: Vec<CheckedModel>,
    /// Levels.
    pub levels: Vec<CheckedLevel>,
    /// Files in their order, for people.
    pub items: Vec<Item>,
    /// Examples and laws that fail.
    pub failed_examples: usize,
    /// Mistakes and warnings.
    pub diagnostics: Vec<Diagnostic>,
    /// Files that could not be read, in words.
    pub unreadable: Vec<String>,
    /// Something was not checked to the end.
    pub stopped: Option<Limit>,
}

impl Checked {
    /// For programs.
    #[must_use]
    pub fn json(&self, store: &Store, ok: bool) -> Value {
        json!({
            "ok": ok,
            "models": self.models,
            "levels": self.levels,
            "failed_examples": self.failed_examples,
            "diagnostics": self.diagnostics.iter().map(|d| diagnostic_json(store, d)).collect::<Vec<_>>(),
        })
    }

    fn verdict(&self) -> Verdict {
        if self.failed_examples > 0 {
            Verdict::Fails
        } else if self.stopped.is_some() {
            Verdict::Undecided
        } else {
            Verdict::Holds
        }
    }

    /// Whether something is wrong with a text: then the answer is neither yes nor no.
    fn is_bad(&self) -> bool {
        let wrong = |d: &Diagnostic| d.severity == Severity::Error && !d.code.starts_with('E');
        !self.unreadable.is_empty() || self.diagnostics.iter().any(wrong)
    }
}

/// How a check ends: something wrong with a text outweighs everything.
#[must_use]
pub fn end_of(answer: &Answer<Checked>) -> End {
    End::of(answer.holds, answer.limit(), answer.found.is_bad())
}

/// A diagnostic for programs.
#[must_use]
pub fn diagnostic_json(store: &Store, d: &Diagnostic) -> Value {
    let label = &d.labels[0];
    let (line, column) = store.sources.line_col(label.file, label.span.start);
    json!({
        "severity": if d.severity == Severity::Error { "error" } else { "warning" },
        "code": d.code,
        "message": d.message,
        "file": store.sources.name(label.file),
        "line": line,
        "column": column,
        "notes": d.notes,
    })
}

struct Checking<'s> {
    store: &'s mut Store,
    budget: &'s Arc<Budget>,
    code: bool,
    out: Checked,
    done: Vec<FileId>,
}

/// Checks models and level files. `code`: also the code of each level.
pub fn check(
    store: &mut Store,
    texts: &dyn Provider,
    files: &[PathBuf],
    code: bool,
    budget: &Arc<Budget>,
) -> Answer<Checked> {
    let mut c = Checking { store, budget, code, out: Checked::default(), done: vec![] };
    for path in files {
        let text = match texts.read(path) {
            Ok(text) => text,
            Err(words) => {
                // The other files are still checked.
                c.out.unreadable.push(words);
                continue;
            }
        };
        if path.extension().is_some_and(|e| e == "fendle") {
            let model = c.store.compile(path.display().to_string(), &text, &mut c.out.diagnostics);
            if let Some(model) = model {
                c.model(&model);
            }
        } else if let Some((levels, model)) = c.store.levels(texts, path, text, &mut c.out.diagnostics) {
            c.model(&model);
            let mut rows = vec![];
            for level in &levels.levels {
                let source = Source {
                    file: levels.file,
                    file_title: levels.title.clone(),
                    model: Arc::clone(&model),
                    level: level.clone(),
                };
                if let Some(checked) = c.level(&source) {
                    rows.push(c.out.levels.len());
                    c.out.levels.push(checked);
                }
            }
            c.out.items.push(Item::Levels {
                path: path.display().to_string(),
                count: levels.levels.len(),
                model: model.name.clone(),
                rows,
                keeps: !model.keeps.is_empty(),
                laws: !model.laws.is_empty() || !model.nevers.is_empty(),
            });
        }
    }
    let out = c.out;
    let asked = Asked { level: String::new(), begin: Begin::Given, title: String::new(), begin_words: None };
    let (holds, limit) = (out.verdict(), out.stopped);
    Answer::new(asked, holds, out).stopped(limit, budget).took(budget, 0)
}

impl Checking<'_> {
    fn stop(&self) -> Stop {
        let budget = Arc::clone(self.budget);
        Stop::new(move || budget.is_stopped())
    }

    fn stopped(&mut self, limit: Option<Limit>) {
        self.out.stopped = self.out.stopped.or(limit).or(self.budget.stopped());
    }

    /// Runs the examples of a model; a level file may have brought it in already.
    fn model(&mut self, model: &Arc<Model>) {
        if self.done.contains(&model.file) {
            return;
        }
        self.done.push(model.file);
        let file = self.store.sources.name(model.file).to_string();
        let results = match run_all(model, self.store.sources.text(model.file), &self.stop()) {
            Ok(results) => results,
            Err(Stopped(results)) => {
                self.stopped(Some(self.budget.stopped().unwrap_or(Limit::Time)));
                results
            }
        };
        let mut failed = vec![];
        for r in &results {
            if !r.failures.is_empty() {
                failed.push(r.title.clone());
                let quoted = |d: &Diagnostic| Diagnostic {
                    message: format!("example \"{}\": {}", r.title, d.message),
                    ..d.clone()
                };
                self.out.diagnostics.extend(r.failures.iter().map(quoted));
            }
        }
        self.out.failed_examples += failed.len();
        self.out.items.push(Item::Model(self.out.models.len()));
        self.out.models.push(CheckedModel {
            file,
            model: model.name.clone(),
            examples_passed: results.len() - failed.len(),
            examples_failed: failed,
            definition: Arc::clone(model),
        });
    }

    fn level(&mut self, source: &Source) -> Option<CheckedLevel> {
        let budget = Arc::clone(self.budget);
        let before = self.out.diagnostics.len();
        let level = match load_source(source, Want::All, &budget, &mut self.out.diagnostics) {
            Ok(level) => level,
            Err(Trouble::Diagnostics(list)) => {
                if self.out.diagnostics.len() == before {
                    self.out.diagnostics.extend(list);
                }
                return None;
            }
            Err(Trouble::Limit(limit)) => {
                self.stopped(Some(limit));
                return None;
            }
            Err(Trouble::Fault(report)) => {
                self.out.diagnostics.push(*report.diagnostic);
                return None;
            }
            Err(Trouble::Message(words) | Trouble::Undecided(words)) => {
                self.out.unreadable.push(format!("{}: {words}", source.level.name));
                return None;
            }
        };
        let start = self.start(source, &level)?;
        self.clues(source, &level);
        self.covered(source, &level);
        let laws = &source.model.laws;
        let mut laws: Vec<String> = laws.iter().map(|law| self.law(source, &level.game, law)).collect();
        for never in &source.model.nevers {
            laws.push(self.never(source, &level, never));
        }
        let two_statuses = self.overlap(&level.game);
        let kept: Vec<&str> = kept(&level.game)
            .iter()
            .map(|k| match k {
                Kept::ProvedFromRules => "proved from the rules",
                Kept::ProvedByEnumeration { .. } => "proved by enumeration",
                Kept::Checked => "checked along the way",
                Kept::NotClaimed => "not claimed for this level",
            })
            .collect();
        let b = &level.game.bound;
        let stop = Arc::clone(self.budget);
        Some(CheckedLevel {
            file: self.store.sources.name(source.file).to_string(),
            level: level.name.clone(),
            rows: b.rows,
            cols: b.cols,
            bits_per_state: level.game.layout().bits,
            moves: level.moves.list.len(),
            start,
            two_statuses,
            kept_quantities: kept,
            laws,
            numbers: numbers(&level.game, &mut || stop.stopped().is_some()),
            code_operations: level.game.code.ops.len(),
            code: self.code.then(|| level.game.code.print()),
        })
    }

    /// Whether some layout agrees with what the level says is seen.
    fn clues(&mut self, source: &Source, level: &Loaded) {
        let b = &level.game.bound;
        if b.seen.iter().all(Option::is_none) {
            return;
        }
        let found = Player::new(b, &level.moves, &level.history).and_then(|p| p.infer());
        if matches!(found, Err(NotInferred::NoAnswer(NoAnswer::Contradiction))) {
            let (file, span) = (source.file, source.level.span);
            let words = format!("no layout agrees with what `{}` says is seen", level.name);
            let note =
                "`fendle infer` shows the clues; a number of them is wrong, or the count of what is hidden";
            self.out.diagnostics.push(Diagnostic::error("L061", file, span, words).note(note));
        }
    }

    /// Warns where a drawing of the start hides something that no glyph shows.
    fn covered(&mut self, source: &Source, level: &Loaded) {
        let b = &level.game.bound;
        for (name, cell) in b.hidden_by_drawings(&b.position) {
            let (file, span) = (source.file, source.level.span);
            let at = fendle_lang::state::cell_name(cell, b.cols);
            let words = format!("`{name}` has no glyph for what stands on {at}: some of it is hidden");
            self.out.diagnostics.push(
                Diagnostic::error("L062", file, span, words)
                    .warning()
                    .note("add a glyph with these facts to the drawing, or make it `layered`"),
            );
        }
    }

    /// How the start stands, with warnings for starts from which nothing can be done.
    fn start(&mut self, source: &Source, level: &Loaded) -> Option<String> {
        let b = &level.game.bound;
        let (file, span) = (source.file, source.level.span);
        let warn = |code, text: String| Diagnostic::error(code, file, span, text).warning();
        let start = match Eval::new(b).status(&b.position) {
            Ok(Some(e)) => {
                let how = b.ending_words(e);
                let warning = warn("L060", format!("`{}` has ended at its start: {how}", level.name));
                let note = "a start should be a position from which something can be done";
                self.out.diagnostics.push(warning.note(note));
                how
            }
            Ok(None) => match is_stuck(b, &level.moves, &b.position) {
                Ok(true) => {
                    let warning = warn("L061", format!("`{}` is stuck at its start", level.name));
                    let note = "no move is allowed; `fendle moves` says why";
                    self.out.diagnostics.push(warning.note(note));
                    "stuck".into()
                }
                Ok(false) => "running".into(),
                Err(f) if f.is_limit() => {
                    self.stopped(None);
                    "running".into()
                }
                Err(f) => f.to_string(),
            },
            Err(f) if f.is_limit() => {
                self.stopped(None);
                return None;
            }
            Err(f) => {
                let text = format!("the start breaks the model: {f}");
                let error = Diagnostic::error("L062", file, span, text);
                self.out.diagnostics.push(error.also(b.model.file, f.span, "here"));
                return None;
            }
        };
        Some(match &level.begin {
            Begin::Given => start,
            Begin::Scattered { .. } => format!("{start}, layout drawn"),
            Begin::Sampled { attempts, .. } => format!("{start}, drawn at attempt {attempts}"),
            Begin::All { starts, .. } => {
                format!("{start}, {} drawn", counted(*starts as u64, "start", "starts"))
            }
        })
    }

    fn limits(&self, states: u64) -> Limits {
        Limits { max_states: states, threads: 1, ..self.budget.limits() }
    }

    /// Looks for the nearest reached state in which a law is broken.
    fn law(&mut self, source: &Source, game: &Game, law: &LawDef) -> String {
        let b = &game.bound;
        let name = if law.mirrored { "mirrored" } else { "turned" };
        let Some(turner) = Turner::new(b, law.mirrored) else {
            return format!("{name}: not for this board");
        };
        let Ok(found) = explore(game, self.limits(LAW_STATES), false, &**self.budget) else {
            return format!("{name}: the start breaks the model");
        };
        for depth in 0..found.space.levels_len() {
            let mut here: Vec<Vec<i32>> =
                found.space.level(depth).map(|id| game.unpack(&found.space.state(id))).collect();
            here.sort();
            for state in here {
                match turner.broken_at(&state) {
                    Ok(None) => {}
                    Ok(Some(broken)) => {
                        let after = counted(depth.into(), "move", "moves");
                        let message = format!("the law `{name}` is broken after {after}: {}", law.why);
                        self.out.diagnostics.push(
                            Diagnostic::error("E004", b.model.file, law.span, message)
                                .also(source.file, source.level.span, "on this level")
                                .note(format!("{} in {}: {}", broken.moved, b.line(&state), broken.words.0))
                                .note(format!("{} on the {name} board: {}", broken.turned, broken.words.1)),
                        );
                        self.out.failed_examples += 1;
                        return format!("{name}: BROKEN");
                    }
                    Err(fault) if fault.is_limit() => {
                        self.stopped(None);
                        return format!("{name}: not decided");
                    }
                    Err(fault) => return format!("{name}: the model breaks: {fault}"),
                }
            }
        }
        self.note_stop(found.counts.limit);
        let seen = grouped(found.counts.states);
        if found.counts.complete {
            format!("{name}: holds in all {seen} states")
        } else {
            format!("{name}: holds in {seen} states looked at")
        }
    }

    /// Looks for the nearest reached state that a law says there is never.
    fn never(&mut self, source: &Source, level: &Loaded, law: &NeverDef) -> String {
        let model = Arc::clone(&level.game.bound.model);
        let text = self.store.sources.text(model.file).to_string();
        let Some(condition) = text.get(law.condition.start as usize..law.condition.end as usize) else {
            return "never: not decided".into();
        };
        let mut errors = vec![];
        let file = self.store.sources.add("LAW", condition);
        let Some(body) = question((model.file, &text), file, condition, &mut errors) else {
            self.out.diagnostics.extend(errors);
            return "never: not decided".into();
        };
        let apart = model.alike.iter().any(|d| tells_apart(&model, d, &body)).then(|| level.game.apart());
        let game = apart.as_ref().unwrap_or(&level.game);
        let Ok(found) = explore(game, self.limits(OVERLAP_STATES), false, &**self.budget) else {
            return "never: the start breaks the model".into();
        };
        let Held { marked, limit: stopped, .. } = match holding(game, &found, (&body, u32::MAX), self.budget)
        {
            Ok(found) => found,
            Err(_) => return "never: the law breaks the model".into(),
        };
        let nearest = (0..found.space.levels_len())
            .find_map(|depth| found.space.level(depth).find(|id| marked.has(*id)).map(|id| (depth, id)));
        if let Some((depth, id)) = nearest {
            let after = counted(depth.into(), "move", "moves");
            let message = format!("a law is broken after {after}: {}", law.why);
            let state = game.unpack(&found.space.state(id));
            self.out.diagnostics.push(
                Diagnostic::error("E004", model.file, law.span, message)
                    .also(source.file, source.level.span, "on this level")
                    .note(format!("it is so in {}", level.game.bound.line(&state))),
            );
            self.out.failed_examples += 1;
            return "never: BROKEN".into();
        }
        self.note_stop(stopped.or(found.counts.limit));
        let seen = grouped(found.counts.states);
        match found.counts.complete && stopped.is_none() {
            true => format!("never: holds in all {seen} states"),
            false => format!("never: none within {seen} states"),
        }
    }

    /// A bound on states is what was wanted; any other limit cut the check short.
    fn note_stop(&mut self, limit: Option<Limit>) {
        if let Some(limit @ (Limit::Time | Limit::Interrupted | Limit::Memory)) = limit {
            self.stopped(Some(limit));
        }
    }

    /// Looks for a state in which two statuses hold at once.
    fn overlap(&mut self, game: &Game) -> String {
        let model = &game.bound.model;
        if model.statuses.len() < 2 {
            return "-".into();
        }
        let Ok(found) = explore(game, self.limits(OVERLAP_STATES), false, &**self.budget) else {
            return "the start breaks the model".into();
        };
        let mut eval = Eval::new(&game.bound);
        for depth in 0..found.space.levels_len() {
            if let (true, limit) = (self.budget.is_stopped(), self.budget.stopped()) {
                self.stopped(limit);
                return "not decided".into();
            }
            let mut here: Vec<(String, Vec<usize>)> = vec![];
            for id in found.space.level(depth) {
                let state = game.unpack(&found.space.state(id));
                if let Ok(list) = eval.all_statuses(&state)
                    && list.len() > 1
                {
                    here.push((game.bound.line(&state), list));
                }
            }
            if let Some((line, list)) = here.into_iter().min() {
                let words: Vec<String> = list.iter().map(|&e| ending_text(&model.endings[e])).collect();
                return format!("{} at depth {depth}: {line}", words.join(" and "));
            }
        }
        self.note_stop(found.counts.limit);
        let seen = grouped(found.counts.states);
        if found.counts.complete {
            format!("never, in all {seen} states")
        } else {
            format!("none within {seen} states")
        }
    }
}

/// Turns of a shape that cover the same cells, seen without the anchor: pairs of their numbers.
#[must_use]
pub fn turns_alike(shape: &ShapeTurns) -> Vec<(usize, usize)> {
    let look = |t: usize| {
        let turn = &shape.turns[t];
        let (r, c) = (turn.iter().map(|c| c.0).min(), turn.iter().map(|c| c.1).min());
        let part = |i: usize| shape.parts.get(t).map_or(0, |p| p[i]);
        let mut out: Vec<(i64, i64, i64)> = turn
            .iter()
            .enumerate()
            .map(|(i, x)| (x.0 - r.unwrap_or(0), x.1 - c.unwrap_or(0), part(i)))
            .collect();
        out.sort_unstable();
        out
    };
    let mut out = vec![];
    for i in 0..shape.turns.len() {
        for j in i + 1..shape.turns.len() {
            if look(i) == look(j) {
                out.push((i, j));
            }
        }
    }
    out
}
