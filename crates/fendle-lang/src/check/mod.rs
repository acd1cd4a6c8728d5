//! Syntax tree to checked tree: names, types, flow facts, and the rules of the language.
//!
//! Reports everything it finds. A part that is wrong becomes [`Ty::Bad`], which fits
//! everything, so that one mistake is one error.
//!
//! Flow: after `refuse ... unless p on G`, inside `if p on G`, and to the right of
//! `p on G and`, the place `p` counts as a cell. Only names that never change are followed.

pub mod alike;
mod bodies;
mod declare;
mod draws_and_lists;
mod expressions;
pub mod hidden;
mod hidden_things;
mod likeness;
mod looks;
pub(crate) use looks::stands;
mod model;
mod operators;
pub mod shapes;
mod statements;
mod targets;
mod types;

use crate::model::*;
use crate::source::{Diagnostic, FileId, Span, near};
use crate::syntax::tree::{self, BinOp, Expr as A, ExprKind as K, Item, Name, QuantKind, StmtKind as S};
use std::collections::{HashMap, HashSet};

#[derive(Clone, Copy, PartialEq, Eq)]
enum Global {
    Const(usize),
    Enum(usize),
    EnumValue(usize, usize),
    Var(VarId),
    Tally(usize),
    Fn(usize),
    Proc(usize),
    Record(RecordId),
    /// Declared, but with a mistake that has been told: its uses say nothing more.
    Mistaken,
}

impl Global {
    fn what(self) -> &'static str {
        match self {
            Global::Const(_) | Global::Mistaken => "a constant",
            Global::Enum(_) => "an enum",
            Global::EnumValue(..) => "a value of an enum",
            Global::Var(_) => "a variable",
            Global::Tally(_) => "a tally",
            Global::Fn(_) => "a function",
            Global::Proc(_) => "a procedure",
            Global::Record(_) => "a record",
        }
    }
}

/// Where a body stands: decides what it may contain.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Place {
    Const,
    /// Only level values may be read.
    Level,
    Cond,
    Fn,
    Move,
    Proc,
    After,
    Tick,
    Setup,
    /// A question about reached states: words of the analyses are known.
    Question,
}

#[derive(Default)]
struct Scope {
    locals: Vec<LocalDef>,
    visible: Vec<LocalId>,
    /// Places that are known to be cells.
    on_board: Vec<OnBoard>,
}

/// A place that is known to be a cell, as long as nothing that it depends on has changed.
struct OnBoard {
    place: Expr,
    holds: bool,
}

/// A function as it is written.
#[derive(Clone)]
struct FnTree {
    name: Name,
    params: Vec<tree::Param>,
    result: Option<tree::Type>,
    body: A,
}

/// How deep expressions and statements may be nested, through calls as well: both executors follow a call where it stands, and
/// this is what their stacks hold.
const NESTING_MAX: u32 = 400;

struct Checker<'a> {
    file: FileId,
    errors: &'a mut Vec<Diagnostic>,
    globals: HashMap<String, (Global, Span)>,
    /// The moves: their names are apart from those of values, and a move may be called like a variable.
    moves: HashMap<String, (usize, Span)>,
    /// Names that may be declared in items that could not be read.
    lost: HashSet<String>,
    consts: Vec<Option<Expr>>,
    const_asts: Vec<(Name, A)>,
    enums: Vec<EnumDef>,
    records: Vec<RecordDef>,
    shapes: Vec<ShapesDef>,
    ranges: Vec<(Expr, Expr)>,
    pairs: Vec<(Keyed, Keyed)>,
    move_asts: Vec<(Name, Vec<tree::Param>)>,
    vars: Vec<VarDef>,
    tallies: Vec<String>,
    fn_asts: Vec<FnTree>,
    fns: Vec<Option<FnDef>>,
    /// Functions that are read like a variable.
    derived: HashSet<usize>,
    busy: Vec<usize>,
    /// How many expressions and statements enclose this one, through calls as well.
    nesting: u32,
    /// The greatest that `nesting` has been since the body that is checked began.
    deepest: u32,
    /// How deep the bodies that are checked already are nested in themselves, through calls as well: of functions, of procedures.
    fn_heights: Vec<u32>,
    proc_heights: Vec<u32>,
    /// Said once that calls are nested too deeply.
    too_deep: bool,
    proc_asts: Vec<(Name, Vec<tree::Param>, tree::Block)>,
    procs: Vec<Option<ProcDef>>,
    proc_busy: Vec<usize>,
    proc_refuses: Vec<bool>,
    proc_draws: Vec<bool>,
    /// A draw may have happened on the way here.
    drawn: bool,
    cuts: bool,
    has_setup: bool,
    refuses: Vec<RefuseSite>,
    endings: Vec<Ending>,
    ends_by_statement: bool,
    scope: Scope,
    place: Place,
    refused_here: bool,
}

/// Words that stand alone in expressions and ranges, and cannot be names of values; with what to take instead.
const STANDING: &[(&str, &str)] = &[
    ("before", "earlier"),
    ("start", "origin"),
    ("board", "deck"),
    ("none", "nothing"),
    ("rows", "row_count"),
    ("columns", "column_count"),
    ("dir4", "sides"),
    ("dir8", "sides"),
    ("stay", "still"),
    ("left", "remaining"),
    ("right", "rightward"),
    ("up", "raised"),
    ("down", "lowered"),
];

/// Words with a meaning of their own in expressions.
const BUILTINS: &[&str] = &[
    "row", "col", "abs", "min", "max", "opposite", "turned", "parity", "distinct", "len", "rows", "cols",
    "place", "both", "count", "all", "any", "the", "first", "sum", "set", "flood", "around4", "around8",
    "around", "lanes", "before", "start", "board", "bool", "cell", "dir4", "dir8", "grid", "array", "list",
    "bag", "maybe", "none",
];

/// Words of the analyses, known in questions about reached states.
const ASKED: &[(&str, Asked)] = &[
    ("running", Asked::Running),
    ("won", Asked::Won),
    ("lost", Asked::Lost),
    ("over", Asked::Over),
    ("stuck", Asked::Stuck),
    ("dead", Asked::Dead),
    ("winnable", Asked::Winnable),
    ("certain", Asked::Certain),
    ("depth", Asked::Depth),
];

/// Checks a parsed model. `None` when anything is wrong.
pub fn check(file: FileId, source: &tree::Source, errors: &mut Vec<Diagnostic>) -> Option<Model> {
    let wrong = |errors: &[Diagnostic]| {
        errors.iter().filter(|e| e.severity == crate::source::Severity::Error).count()
    };
    let before = wrong(errors);
    let model = Checker::new(file, errors).model(source);
    (wrong(errors) == before).then_some(model)
}

/// Checks one condition about reached states against a model that is known to be right. The
/// condition stands in a file of its own.
pub fn check_question(
    model_file: FileId,
    source: &tree::Source,
    (question, file): (&A, FileId),
    errors: &mut Vec<Diagnostic>,
) -> Option<Body> {
    let before = errors.len();
    let mut c = Checker::new(model_file, errors);
    c.model(source);
    c.file = file;
    let vars = c.vars.len();
    let body = c.condition(question, Place::Question);
    if c.vars.len() > vars {
        c.error("M036", question.span, "the rules of this model read no `start` of this, so it is not kept");
    }
    (errors.len() == before).then_some(body)
}

/// `r1c3` as row and column.
fn cell_name(text: &str) -> Option<(i64, i64)> {
    let (r, c) = text.strip_prefix('r')?.split_once('c')?;
    let number = |s: &str| s.bytes().all(|b| b.is_ascii_digit()).then(|| s.parse::<i64>().ok())?;
    Some((number(r)?, number(c)?))
}

/// Whether an expression reads the state.
fn reads_state(vars: &[VarDef], e: &Expr) -> bool {
    let mut reads = false;
    e.each(&mut |e| reads |= matches!(e.kind, Ek::Var(_, v) if vars[v].state));
    reads
}

/// Adds the check that a value lies in its declared range, where the type alone does not say so.
fn within(e: Expr, dom: &Dom) -> Expr {
    if e.ty == Ty::Bad || !matches!(dom, Dom::Range(..) | Dom::First(..) | Dom::Dir4 | Dom::Maybe(_)) {
        return e;
    }
    let (ty, span) = (e.ty, e.span);
    Expr { kind: Ek::Within(Box::new(e), dom.clone()), ty, span }
}

impl<'a> Checker<'a> {
    fn new(file: FileId, errors: &'a mut Vec<Diagnostic>) -> Checker<'a> {
        Checker {
            file,
            errors,
            globals: HashMap::new(),
            moves: HashMap::new(),
            lost: HashSet::new(),
            consts: vec![],
            const_asts: vec![],
            enums: vec![],
            records: vec![],
            shapes: vec![],
            ranges: vec![],
            pairs: vec![],
            move_asts: vec![],
            vars: vec![],
            tallies: vec![],
            fn_asts: vec![],
            fns: vec![],
            derived: HashSet::new(),
            busy: vec![],
            nesting: 0,
            deepest: 0,
            fn_heights: vec![],
            proc_heights: vec![],
            too_deep: false,
            proc_asts: vec![],
            procs: vec![],
            proc_busy: vec![],
            proc_refuses: vec![],
            proc_draws: vec![],
            drawn: false,
            cuts: false,
            has_setup: false,
            refuses: vec![],
            endings: vec![],
            ends_by_statement: false,
            scope: Scope::default(),
            place: Place::Cond,
            refused_here: false,
        }
    }
}

impl Checker<'_> {
    fn error(&mut self, code: &'static str, span: Span, message: impl Into<String>) -> &mut Diagnostic {
        self.errors.push(Diagnostic::error(code, self.file, span, message));
        self.errors.last_mut().expect("just pushed")
    }

    fn bad(&self, span: Span) -> Expr {
        Expr { kind: Ek::Const(0), ty: Ty::Bad, span }
    }

    fn declare(&mut self, name: &Name, global: Global) -> bool {
        let file = self.file;
        // What is only ever called or stands for a type may also be the name of a value.
        let derived = matches!(global, Global::Fn(f) if self.derived.contains(&f));
        let is_value = derived
            || matches!(global, Global::Var(_) | Global::Const(_) | Global::EnumValue(..) | Global::Tally(_));
        if self.is_taken(&name.text, is_value) {
            self.say_taken(name);
            // Uses of it say nothing more.
            self.globals.insert(name.text.clone(), (Global::Mistaken, name.span));
            return false;
        }
        if let Some(&(other, span)) = self.globals.get(&name.text) {
            if matches!((other, global), (Global::EnumValue(..), Global::EnumValue(..))) {
                // The same value name in two enums: written `kind.value`.
                return true;
            }
            let message = format!("`{}` is already {}", name.text, other.what());
            self.error("M002", name.span, message).labels.push(crate::source::Label {
                file,
                span,
                text: "declared here".into(),
            });
            return false;
        }
        self.globals.insert(name.text.clone(), (global, name.span));
        true
    }

    /// Whether a word has a meaning of its own where a name of a value (or of something else) is wanted.
    fn is_taken(&self, word: &str, is_value: bool) -> bool {
        let standing = STANDING.iter().any(|s| s.0 == word) || DIRS.contains(&word);
        standing || !is_value && BUILTINS.contains(&word)
    }

    /// Says that a word has a meaning of its own, and which name to take.
    fn say_taken(&mut self, name: &Name) {
        let word = name.text.as_str();
        let instead =
            STANDING.iter().find(|s| s.0 == word).map_or_else(|| format!("my_{word}"), |s| s.1.into());
        self.error("M001", name.span, format!("`{word}` has a meaning of its own"))
            .notes
            .push(format!("take another name, such as `{instead}`"));
    }

    fn unknown(&mut self, name: &Name, what: &str) {
        if self.lost.contains(&name.text) {
            return;
        }
        if self.moves.contains_key(&name.text) {
            self.error("M023", name.span, format!("`{}` is a move, not a {what}", name.text));
            return;
        }
        let mut known: Vec<String> = self.globals.keys().cloned().collect();
        known.extend(self.scope.visible.iter().map(|&l| self.scope.locals[l].name.clone()));
        known.extend(DIRS.map(String::from));
        known.extend(BUILTINS.iter().map(|s| s.to_string()));
        if self.place == Place::Question {
            known.extend(ASKED.iter().map(|a| a.0.to_string()));
        }
        known.sort();
        let near = near(&name.text, known.iter().map(String::as_str)).map(str::to_string);
        let error = self.error("M010", name.span, format!("no {what} is named `{}`", name.text));
        if let Some(n) = near {
            error.notes.push(format!("did you mean `{n}`?"));
        }
    }
}
