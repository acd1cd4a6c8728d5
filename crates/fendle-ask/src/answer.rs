//! What every answer has: what was asked, a verdict, what cut it short, and what it took. And the one place that decides how
//! these become an ending.

use fendle_core::explore::Faulted;
use fendle_core::{Fault, Limit};
use fendle_lang::run::RunFault;
use fendle_lang::{Diagnostic, Game};
use serde::Serialize;

use crate::budget::{Budget, Effort};
use crate::load::{Begin, Loaded, Store};
use crate::position::Position;
use crate::routes;

/// Whether what was asked holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// It holds.
    Holds,
    /// It does not.
    Fails,
    /// Not decided: see what cut the answer short.
    Undecided,
}

/// How a question ends, for whoever asked it: an exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum End {
    /// What was asked holds.
    Yes,
    /// It does not.
    No,
    /// Bad usage, model or level, or a model fault.
    Bad,
    /// Not decided.
    Undecided,
    /// Interrupted, with what is known so far.
    Interrupted,
}

impl End {
    /// The exit code of a process.
    #[must_use]
    pub fn code(self) -> u8 {
        match self {
            End::Yes => 0,
            End::No => 1,
            End::Bad => 2,
            End::Undecided => 3,
            End::Interrupted => 130,
        }
    }

    /// The one decision: a fault outweighs everything, an interrupt what is left, and a limit is never a "no".
    #[must_use]
    pub fn of(verdict: Verdict, limit: Option<Limit>, faulted: bool) -> End {
        match (faulted, verdict, limit) {
            (true, ..) => End::Bad,
            (_, _, Some(Limit::Interrupted)) => End::Interrupted,
            (_, Verdict::Holds, _) => End::Yes,
            // What was not seen may hold it.
            (_, Verdict::Fails, Some(_)) | (_, Verdict::Undecided, _) => End::Undecided,
            (_, Verdict::Fails, None) => End::No,
        }
    }

    /// The ending of several answers together: a fault outweighs a difference, a difference what is not decided.
    #[must_use]
    pub fn of_all(list: impl IntoIterator<Item = End>) -> End {
        let rank = |e: &End| match e {
            End::Yes => 0,
            End::Undecided => 1,
            End::No => 2,
            End::Bad => 3,
            End::Interrupted => 4,
        };
        list.into_iter().max_by_key(rank).unwrap_or(End::Yes)
    }
}

/// What was asked about.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Asked {
    /// The level's name.
    pub level: String,
    /// How play begins.
    pub begin: Begin,
    /// `Ferry deck: two lorries late (slide, 3 x 3)`.
    #[serde(skip)]
    pub title: String,
    /// How play begins, in words, where there is something to say.
    #[serde(skip)]
    pub begin_words: Option<String>,
}

impl Asked {
    /// About a loaded level.
    #[must_use]
    pub fn of(level: &Loaded) -> Asked {
        Asked {
            level: level.name.clone(),
            begin: level.begin.clone(),
            title: level.title(),
            begin_words: level.begin.words(),
        }
    }

    /// The same where play is with what can be known: then it may begin in every layout.
    #[must_use]
    pub fn known(level: &Loaded) -> Asked {
        let begin_words = level.begin_words();
        Asked { begin_words, ..Asked::of(level) }
    }
}

/// A limit that cut an answer short.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct StoppedBy {
    /// Which limit.
    pub limit: Limit,
    /// In words that follow "stopped by".
    pub words: String,
}

/// A model fault: where, and how play comes there.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct FaultReport {
    /// What broke.
    pub message: String,
    /// The model's file.
    pub file: String,
    /// Line in it, from 1.
    pub line: usize,
    /// Column, from 1.
    pub column: usize,
    /// The moves that lead there.
    pub moves: Vec<String>,
    /// The move that was tried there.
    pub during: Option<String>,
    /// The state there.
    pub position: Option<Position>,
    /// The same for people.
    #[serde(skip)]
    pub diagnostic: Box<Diagnostic>,
}

/// An answer: what was asked, what was found, and what cut it short.
#[derive(Clone, Debug, Serialize)]
pub struct Answer<T> {
    /// What was asked about.
    #[serde(flatten)]
    pub asked: Asked,
    /// Whether it holds.
    #[serde(skip)]
    pub holds: Verdict,
    /// The limit that cut it short.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stopped_by: Option<StoppedBy>,
    /// The fault that did.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fault: Option<FaultReport>,
    /// The evidence.
    #[serde(flatten)]
    pub found: T,
    /// What it took.
    #[serde(skip)]
    pub effort: Effort,
    /// States that were seen on the way.
    #[serde(skip)]
    pub states: u64,
}

impl<T> Answer<T> {
    /// An answer that nothing cut short.
    pub fn new(asked: Asked, holds: Verdict, found: T) -> Answer<T> {
        Answer { asked, holds, stopped_by: None, fault: None, found, effort: Effort::default(), states: 0 }
    }

    /// The limit that cut it short, if one did.
    #[must_use]
    pub fn stopped(mut self, limit: Option<Limit>, budget: &Budget) -> Answer<T> {
        self.stopped_by = limit.map(|limit| StoppedBy { limit, words: budget.words(limit) });
        self
    }

    /// The fault that cut it short, if one did.
    #[must_use]
    pub fn faulted(mut self, fault: Option<FaultReport>) -> Answer<T> {
        self.fault = fault;
        self
    }

    /// What it took, all phases together.
    #[must_use]
    pub fn took(mut self, budget: &Budget, states: u64) -> Answer<T> {
        self.effort = budget.effort(states);
        self.states = states;
        self
    }

    /// The limit that cut it short.
    #[must_use]
    pub fn limit(&self) -> Option<Limit> {
        self.stopped_by.as_ref().map(|s| s.limit)
    }

    /// How the question ends.
    #[must_use]
    pub fn end(&self) -> End {
        End::of(self.holds, self.limit(), self.fault.is_some())
    }
}

/// Why there is no answer at all.
#[derive(Clone, Debug, PartialEq)]
pub enum Trouble {
    /// What was asked cannot be asked: words for people.
    Message(String),
    /// Mistakes in texts, each with its place.
    Diagnostics(Vec<Diagnostic>),
    /// The model broke before anything was found.
    Fault(Box<FaultReport>),
    /// A limit was hit before anything was found.
    Limit(Limit),
    /// It cannot be decided in the way that was asked: why, in words.
    Undecided(String),
}

impl From<String> for Trouble {
    fn from(text: String) -> Trouble {
        Trouble::Message(text)
    }
}

impl From<&str> for Trouble {
    fn from(text: &str) -> Trouble {
        Trouble::Message(text.into())
    }
}

impl From<Limit> for Trouble {
    fn from(limit: Limit) -> Trouble {
        Trouble::Limit(limit)
    }
}

/// A start that the rules cannot take.
#[must_use]
pub fn start_breaks(level: &Loaded, fault: &Fault) -> Trouble {
    Trouble::Message(format!("the start breaks the model: {}", level.game.run_fault(fault)))
}

/// What a rule that broke while it was run means: a limit of the machine is no fault of the model.
#[must_use]
pub fn limit_of(fault: &RunFault, budget: &Budget) -> Option<Limit> {
    match fault.kind.limit()? {
        // What ended it may be over by now: memory that ran short was given back.
        Limit::Time => Some(budget.stopped().or_else(|| budget.was_hit()).unwrap_or(Limit::Time)),
        other => Some(other),
    }
}

/// What a fault of the reference executor on a state becomes; `during`: the move that was tried.
#[must_use]
pub fn trouble_of(
    store: &Store,
    level: &Loaded,
    budget: &Budget,
    fault: &RunFault,
    at: (&[i32], Option<&str>),
) -> Trouble {
    let (state, during) = at;
    match limit_of(fault, budget) {
        Some(limit) => Trouble::Limit(limit),
        None => {
            Trouble::Fault(Box::new(report(store, level, fault, vec![], during.map(Into::into), Some(state))))
        }
    }
}

/// A fault that a search met, with the way to it.
#[must_use]
pub fn fault_report(store: &Store, level: &Loaded, faulted: &Faulted) -> FaultReport {
    fault_report_of(store, level, &level.game, faulted)
}

/// The same of a game that was made from that of the level.
#[must_use]
pub fn fault_report_of(store: &Store, level: &Loaded, game: &Game, faulted: &Faulted) -> FaultReport {
    let (moves, during, last) = routes::fault_place(level, faulted);
    report(store, level, &game.run_fault(&faulted.fault), moves, during, last.as_deref())
}

fn report(
    store: &Store,
    level: &Loaded,
    fault: &RunFault,
    moves: Vec<String>,
    during: Option<String>,
    state: Option<&[i32]>,
) -> FaultReport {
    let b = &level.game.bound;
    let model = &b.model;
    let mut message = format!("model fault: {fault}");
    let law = model.always.iter().find(|a| a.span == fault.span).map(|a| ("always", &a.why));
    let kept = model.keeps.iter().find(|k| k.span == fault.span).map(|k| ("keeps", &k.why));
    if let Some((word, why)) = law.or(kept) {
        message = format!("model fault: {fault} ({word} ... because \"{why}\")");
    }
    let way = match moves.len() {
        0 => "at the start".to_string(),
        n => format!("after {n} moves: {}", moves.join("; ")),
    };
    let note = match &during {
        Some(name) => format!("{way}; while trying: {name}"),
        None => format!("{way}; while asking for the status"),
    };
    let position = state.map(|s| Position::new(b, s));
    let mut diagnostic = Diagnostic::error("F001", model.file, fault.span, message).note(note);
    if let Some(p) = &position {
        diagnostic = diagnostic.note(format!("the state there:\n{}", p.plain_lines().join("\n")));
    }
    let (line, column) = store.sources.line_col(model.file, fault.span.start);
    FaultReport {
        message: fault.to_string(),
        file: store.sources.name(model.file).to_string(),
        line,
        column,
        moves,
        during,
        position,
        diagnostic: Box::new(diagnostic),
    }
}
