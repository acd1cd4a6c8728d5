//! Syntax tree to checked tree: names, types, flow facts, and the rules of the language.
//!
//! Reports everything it finds. A part that is wrong becomes [`Ty::Bad`], which fits
//! everything, so that one mistake is one error.
//!
//! Flow: after `refuse ... unless p on G`, inside `if p on G`, and to the right of
//! `p on G and`, the place `p` counts as a cell. Only names that never change are followed.

use std::collections::{HashMap, HashSet};

use crate::ast::{self, BinOp, Expr as A, ExprKind as K, Item, Name, QuantKind, StmtKind as S};
use crate::diag::{Diagnostic, FileId, Span, near};
use crate::hir::*;

#[derive(Clone, Copy, PartialEq, Eq)]
enum Global {
    Const(usize),
    Enum(usize),
    EnumValue(usize, usize),
    Var(usize),
    Tally(usize),
    Fn(usize),
    Proc(usize),
    Move(usize),
    Record(usize),
}

impl Global {
    fn what(self) -> &'static str {
        match self {
            Global::Const(_) => "a constant",
            Global::Enum(_) => "an enum",
            Global::EnumValue(..) => "a value of an enum",
            Global::Var(_) => "a variable",
            Global::Tally(_) => "a tally",
            Global::Fn(_) => "a function",
            Global::Proc(_) => "a procedure",
            Global::Move(_) => "a move",
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
    visible: Vec<usize>,
    on_board: Vec<usize>,
}

struct Checker<'a> {
    file: FileId,
    errors: &'a mut Vec<Diagnostic>,
    globals: HashMap<String, (Global, Span)>,
    /// Names that may be declared in items that could not be read.
    lost: HashSet<String>,
    consts: Vec<Option<Expr>>,
    const_asts: Vec<(Name, A)>,
    enums: Vec<EnumDef>,
    records: Vec<RecordDef>,
    shapes: Vec<ShapesDef>,
    ranges: Vec<(Expr, Expr)>,
    move_asts: Vec<(Name, Vec<ast::Param>)>,
    vars: Vec<VarDef>,
    tallies: Vec<String>,
    fn_asts: Vec<(Name, Vec<ast::Param>, A)>,
    fns: Vec<Option<FnDef>>,
    busy: Vec<usize>,
    proc_asts: Vec<(Name, Vec<ast::Param>, ast::Block)>,
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
pub fn check(file: FileId, source: &ast::Source, errors: &mut Vec<Diagnostic>) -> Option<Model> {
    let wrong =
        |errors: &[Diagnostic]| errors.iter().filter(|e| e.severity == crate::diag::Severity::Error).count();
    let before = wrong(errors);
    let model = Checker::new(file, errors).model(source);
    (wrong(errors) == before).then_some(model)
}

/// Checks one condition about reached states against a model that is known to be right. The
/// condition stands in a file of its own.
pub fn check_question(
    model_file: FileId,
    source: &ast::Source,
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
    if e.ty == Ty::Bad || !matches!(dom, Dom::Range(..) | Dom::Dir4 | Dom::Maybe(_)) {
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
            lost: HashSet::new(),
            consts: vec![],
            const_asts: vec![],
            enums: vec![],
            records: vec![],
            shapes: vec![],
            ranges: vec![],
            move_asts: vec![],
            vars: vec![],
            tallies: vec![],
            fn_asts: vec![],
            fns: vec![],
            busy: vec![],
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
    fn tn(&self, ty: Ty) -> String {
        match ty {
            Ty::Bool => "a bool".into(),
            Ty::Int => "a number".into(),
            Ty::Enum(e) => format!("a value of `{}`", self.enums[e].name),
            Ty::Dir => "a direction".into(),
            Ty::Offset => "an offset".into(),
            Ty::Cell => "a cell".into(),
            Ty::Place => "a place".into(),
            Ty::Lane => "a lane".into(),
            Ty::Set => "a set of cells".into(),
            Ty::Grid(s) => format!("a grid of {}", self.sn(s)),
            Ty::Array(k, s) => format!("an array {} of {}", self.kn(k), self.sn(s)),
            Ty::List(s, bag) => format!("a {} of {}", if bag { "bag" } else { "list" }, self.sn(s)),
            Ty::Lists(k, s, bag) => {
                format!("an array {} of {}s of {}", self.kn(k), if bag { "bag" } else { "list" }, self.sn(s))
            }
            Ty::Record(r) => format!("a `{}`", self.records[r].name),
            Ty::Placed(p) => format!("a placed `{}`", self.shapes[p].name),
            Ty::Maybe(b) => format!("maybe {}", self.sn(b.scalar())),
            Ty::Nothing => "`none`".into(),
            Ty::Bad => "something wrong".into(),
        }
    }
    fn sn(&self, s: Scalar) -> String {
        match s {
            Scalar::Bool => "bool".into(),
            Scalar::Int => "number".into(),
            Scalar::Enum(e) => self.enums[e].name.clone(),
            Scalar::Dir => "direction".into(),
            Scalar::Cell => "cell".into(),
            Scalar::Record(r) => self.records[r].name.clone(),
            Scalar::Placed(p) => format!("placed {}", self.shapes[p].name),
            Scalar::Maybe(b) => format!("maybe {}", self.sn(b.scalar())),
        }
    }
    fn kn(&self, k: Keyed) -> String {
        match k {
            Keyed::Enum(e) => self.enums[e].name.clone(),
            Keyed::Row => "row".into(),
            Keyed::Column => "column".into(),
            Keyed::Range(_) => "of a range".into(),
        }
    }

    fn declare(&mut self, name: &Name, global: Global) -> bool {
        let file = self.file;
        if BUILTINS.contains(&name.text.as_str()) || DIRS.contains(&name.text.as_str()) {
            self.error("M001", name.span, format!("`{}` has a meaning of its own", name.text))
                .notes
                .push("choose another name".into());
            // Uses of it say nothing more.
            self.globals.insert(name.text.clone(), (Global::Const(usize::MAX), name.span));
            return false;
        }
        if let Some(&(other, span)) = self.globals.get(&name.text) {
            if matches!((other, global), (Global::EnumValue(..), Global::EnumValue(..))) {
                // The same value name in two enums: written `kind.value`.
                return true;
            }
            let message = format!("`{}` is already {}", name.text, other.what());
            self.error("M002", name.span, message).labels.push(crate::diag::Label {
                file,
                span,
                text: "declared here".into(),
            });
            return false;
        }
        self.globals.insert(name.text.clone(), (global, name.span));
        true
    }

    fn model(&mut self, source: &ast::Source) -> Model {
        self.lost = source.lost.iter().cloned().collect();
        self.collect(source);
        for i in 0..self.const_asts.len() {
            self.const_value(i);
        }
        for i in 0..self.fn_asts.len() {
            self.function(i, None);
        }
        for i in 0..self.proc_asts.len() {
            self.procedure(i, None);
        }
        let mut moves = vec![];
        let mut after = None;
        let (mut ticks, mut setup, mut aim, mut laws) = (vec![], None, None, vec![]);
        let mut spreads: Vec<SpreadDef> = vec![];
        let mut alike: Vec<AlikeDef> = vec![];
        let mut tells: Vec<TellDef> = vec![];
        let mut conds: Vec<(EndKind, StatusCond)> = vec![];
        let mut order: Option<(Vec<Name>, Span)> = None;
        let mut bound = None;
        let (mut always, mut keeps, mut shows, mut examples) = (vec![], vec![], vec![], vec![]);
        let mut pictures = vec![];
        let mut goal_span: Option<Span> = None;
        for item in &source.items {
            match item {
                Item::Move { name, params, body, waiting } => {
                    let mut def = self.move_def(name, params, body);
                    def.waiting = *waiting;
                    moves.push(def);
                }
                Item::After(block, span) => {
                    if after.is_some() {
                        self.error("M003", *span, "a model has one `after` block");
                    }
                    after = Some(self.lone_block("after", block, Place::After));
                }
                Item::Tick { every, on, body, span } => {
                    let body = self.lone_block("tick", body, Place::Tick);
                    let mut on_move = None;
                    if let Some(on) = on {
                        match self.globals.get(&on.text) {
                            Some(&(Global::Move(m), _)) => on_move = Some(m),
                            _ => {
                                self.error("M047", on.span, format!("no move is named `{}`", on.text))
                                    .notes
                                    .push("declare it: `waiting move wait`".into());
                            }
                        }
                    }
                    let clock = every.as_ref().and_then(|e| self.clock(e, *span));
                    ticks.push(TickDef { on: on_move, clock, body });
                }
                Item::Setup { attempts, body, span } => {
                    if setup.is_some() {
                        self.error("M003", *span, "a model has one `setup` block");
                    }
                    let attempts = attempts.as_ref().map(|e| {
                        let e = self.lone(e, Place::Level);
                        self.coerce(e, Ty::Int)
                    });
                    let body = self.lone_block("setup", body, Place::Setup);
                    setup = Some(SetupDef { body, attempts, span: *span });
                }
                Item::Spread { lo, hi, over, span } => {
                    let lo = self.lone(lo, Place::Level);
                    let hi = self.lone(hi, Place::Level);
                    let (lo, hi) = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
                    match self.globals.get(&over.text) {
                        Some(&(Global::Var(var), _))
                            if self.vars[var].state
                                && matches!(self.vars[var].shape, Shape::Lists(_, false))
                                && self.vars[var].dom.scalar() == Scalar::Int =>
                        {
                            if spreads.iter().any(|s| s.var == var) {
                                self.error(
                                    "M003",
                                    *span,
                                    format!("`{}` has its collection already", over.text),
                                );
                            }
                            spreads.push(SpreadDef { var, lo, hi, span: *span });
                        }
                        Some(_) => {
                            self.error(
                                "M059",
                                over.span,
                                "numbers are spread over a `state` array of lists of numbers",
                            )
                            .notes
                            .push("such as `state post: array 1..3 of list of 1..5 max 5`".into());
                        }
                        None => self.unknown(over, "array of lists"),
                    }
                }
                Item::Var { names, hidden: Some(prior), .. } => {
                    for name in names {
                        self.prior(name, prior);
                    }
                }
                Item::Tell { name, value, binder, when, span } => {
                    let def = self.tell(name.as_ref(), (value, binder.as_ref(), when.as_ref()), *span);
                    if tells.iter().any(|t| t.name == def.name) {
                        self.error("M002", *span, format!("`{}` is told twice", def.name))
                            .notes
                            .push("give it a name: `tell NAME: ...`".into());
                    }
                    tells.push(def);
                }
                Item::Alike { what, when, span } => {
                    let when = when.as_ref().map(|e| self.condition(e, Place::Level).expr);
                    if let Some(kind) = self.likeness(what, *span) {
                        alike.push(AlikeDef { kind, when, span: *span });
                    }
                }
                Item::Aim { most, what, span } => {
                    if aim.is_some() {
                        self.error("M003", *span, "a model has one `aim`");
                    }
                    let what = what.as_ref().map(|e| self.quantity(e));
                    aim = Some(AimDef { most: *most, what, span: *span });
                }
                Item::Law { title, turn, span } => match turn.text.as_str() {
                    "turned" | "mirrored" => {
                        laws.push(LawDef {
                            mirrored: turn.text == "mirrored",
                            why: title.clone(),
                            span: *span,
                        });
                    }
                    _ => {
                        self.error("M048", turn.span, format!("`{}` is no law", turn.text))
                            .notes
                            .push("the laws are `turned` and `mirrored`".into());
                    }
                },
                Item::Goal(e, span) => {
                    if let Some(first) = goal_span {
                        let file = self.file;
                        let error = self.error("M003", *span, "a model has one `goal`");
                        error.notes.push("join two conditions with `and` or `or`".into());
                        error.labels.push(crate::diag::Label { file, span: first, text: "the first".into() });
                    }
                    goal_span = Some(*span);
                    let ending = self.ending(EndKind::Goal, None);
                    let cond = self.condition(e, Place::Cond);
                    conds.push((EndKind::Goal, StatusCond { ending, cond, span: *span }));
                }
                Item::Lost(e, why, span) => {
                    let ending = self.ending(EndKind::Lost, Some(why.clone()));
                    let cond = self.condition(e, Place::Cond);
                    conds.push((EndKind::Lost, StatusCond { ending, cond, span: *span }));
                }
                Item::Over(e, why, span) => {
                    let ending = self.ending(EndKind::Over, why.clone());
                    let cond = self.condition(e, Place::Cond);
                    conds.push((EndKind::Over, StatusCond { ending, cond, span: *span }));
                }
                Item::Status(names, span) => {
                    if order.is_some() {
                        self.error("M003", *span, "the order of statuses is written once");
                    }
                    order = Some((names.clone(), *span));
                }
                Item::Always(e, why, span) => {
                    let cond = self.condition(e, Place::Cond);
                    always.push(Always { cond, why: why.clone(), span: *span });
                }
                Item::Keeps { quantity, when, goal, why, span } => {
                    let quantity = self.quantity(quantity);
                    let when = when.as_ref().map(|e| self.condition(e, Place::Level));
                    let goal = goal.as_ref().map(|e| self.quantity(e));
                    keeps.push(Keeps { quantity, when, goal, why: why.clone(), span: *span });
                }
                Item::Bound(e, span) => {
                    if bound.is_some() {
                        self.error("M003", *span, "a model has one `bound`");
                    }
                    bound = Some((self.quantity(e), *span));
                }
                Item::Show { name, joined, rules } => {
                    if let Some(show) = self.show(name, *joined, rules) {
                        shows.push(show);
                    }
                }
                Item::Picture(rules) => pictures.push(rules),
                Item::Example { title, lines, span } => examples.push((title, lines, *span)),
                _ => {}
            }
        }
        let looks = pictures.into_iter().flatten().filter_map(|r| self.look(r, &tells)).collect();
        let examples = examples
            .into_iter()
            .map(|(title, lines, span)| {
                let lines = lines
                    .iter()
                    .map(|line| {
                        let cond = match line {
                            ast::ExampleLine::See(e) => Some(self.condition(e, Place::Cond)),
                            ast::ExampleLine::Outcomes { what, .. } => match &**what {
                                ast::ExampleLine::See(e) => Some(self.condition(e, Place::Cond)),
                                _ => None,
                            },
                            _ => None,
                        };
                        self.example_names(line);
                        (line.clone(), cond)
                    })
                    .collect();
                Example { title: title.clone(), span, lines }
            })
            .collect();
        if moves.is_empty() && source.name.is_some() {
            let span = source.name.as_ref().map_or(Span::default(), |n| n.span);
            self.error("M004", span, "this model has no move")
                .notes
                .push("add `move NAME(...) { ... }`".into());
        }
        let statuses = self.status_order(conds, order);
        let good = self.errors.iter().all(|e| e.severity != crate::diag::Severity::Error);
        let model = Model {
            file: self.file,
            name: source.name.as_ref().map_or(String::new(), |n| n.text.clone()),
            enums: self.enums.clone(),
            records: self.records.clone(),
            shapes: self.shapes.clone(),
            spreads,
            ranges: self.ranges.clone(),
            vars: self.vars.clone(),
            tallies: self.tallies.clone(),
            fns: self.fns.iter().flatten().cloned().collect(),
            procs: self.procs.iter().flatten().cloned().collect(),
            moves,
            after,
            ticks,
            setup,
            aim,
            laws,
            alike,
            tells,
            refuses: std::mem::take(&mut self.refuses),
            endings: std::mem::take(&mut self.endings),
            statuses,
            always,
            keeps,
            bound,
            shows,
            looks,
            examples,
            ends_by_statement: self.ends_by_statement,
            cuts: self.cuts,
        };
        if good {
            self.prove_alike(&model);
            self.errors.extend(crate::hidden::findings(&model));
        }
        model
    }

    /// What is known beforehand of a hidden variable.
    fn prior(&mut self, name: &Name, prior: &ast::Prior) {
        let Some(&(Global::Var(v), _)) = self.globals.get(&name.text) else { return };
        let dom = self.vars[v].dom.clone();
        if !matches!(self.vars[v].shape, Shape::Grid | Shape::Set | Shape::One | Shape::Array(_)) {
            self.error("M063", name.span, "a grid, a set, an array or a single value can be hidden");
        }
        let each = prior.each.as_ref().map(|(cell, values)| {
            let scope = std::mem::take(&mut self.scope);
            let old = std::mem::replace(&mut self.place, Place::Cond);
            if let Some(cell) = cell {
                self.bind(cell, Ty::Cell, false, None);
            }
            let mut out = vec![];
            for (v, w) in values {
                let v = self.expr(v);
                let v = self.coerce(v, dom.scalar().ty());
                let w = match w {
                    Some(w) => {
                        let w = self.expr(w);
                        self.coerce(w, Ty::Int)
                    }
                    None => Expr { kind: Ek::Const(1), ty: Ty::Int, span: v.span },
                };
                out.push((v, w));
            }
            self.place = old;
            (out, std::mem::replace(&mut self.scope, scope).locals)
        });
        let with = prior.with.as_ref().map(|e| self.condition(e, Place::Cond));
        self.vars[v].prior = Some(Prior { each, with });
    }

    fn tell(
        &mut self,
        name: Option<&Name>,
        (value, binder, when): (&A, Option<&ast::Binder>, Option<&A>),
        span: Span,
    ) -> TellDef {
        let name = match (name, &value.kind) {
            (Some(n), _) => n.text.clone(),
            (None, K::Call(f, _)) => f.text.clone(),
            (None, K::Index(base, _)) if matches!(base.kind, K::Name(_)) => match &base.kind {
                K::Name(n) => n.clone(),
                _ => "told".into(),
            },
            _ => "told".into(),
        };
        self.scope = Scope::default();
        self.place = Place::Cond;
        let (over, filter) = match binder {
            Some(b) => {
                let (local, over, filter) = self.binder(b);
                let fixed = match &over {
                    Range::Board | Range::Dirs(_) | Range::Enum(_) => true,
                    Range::Ints(lo, hi) => !reads_state(&self.vars, lo) && !reads_state(&self.vars, hi),
                    Range::Lanes(d) => matches!(d.kind, Ek::Const(_)),
                    _ => false,
                };
                if !fixed && self.scope.locals[local].ty != Ty::Bad {
                    self.error(
                        "M066",
                        b.over.span,
                        "what is told runs over the board, rows, columns, or a range of the level",
                    )
                    .notes
                    .push("say after `where` for which of them it is told".into());
                }
                (Some((local, over)), filter)
            }
            None => {
                let filter = when.map(|e| {
                    let e = self.expr(e);
                    self.coerce(e, Ty::Bool)
                });
                (None, filter)
            }
        };
        let value = self.expr(value);
        if value.ty.scalar().is_none() && value.ty != Ty::Bad {
            let message = format!("a single value is told, this is {}", self.tn(value.ty));
            self.error("M020", value.span, message);
        }
        let locals = std::mem::take(&mut self.scope).locals;
        TellDef { name, value, over, filter, locals, span }
    }

    /// Rules that tell things apart which are declared to be alike.
    fn prove_alike(&mut self, model: &Model) {
        let file = self.file;
        for def in &model.alike {
            let found = crate::alike::findings(model, def);
            if found.is_empty() {
                continue;
            }
            let error = self.error("M061", def.span, "these are not alike: the rules tell them apart");
            for f in found.iter().take(4) {
                error.labels.push(crate::diag::Label { file, span: f.span, text: f.how.clone() });
            }
            if found.len() > 4 {
                error.notes.push(format!("and {} more places", found.len() - 4));
            }
            error.notes.push("what is alike is only copied, compared for being equal, and counted".into());
        }
    }

    fn likeness(&mut self, what: &ast::Likeness, span: Span) -> Option<Kind> {
        match what {
            ast::Likeness::Names(names) => {
                if let [name] = names.as_slice()
                    && let Some(&(Global::Enum(e), _)) = self.globals.get(&name.text)
                {
                    return Some(Kind::Values(e, (0..self.enums[e].values.len() as i64).collect()));
                }
                let mut out: Option<(usize, Vec<i64>)> = None;
                for name in names {
                    let Some(&(Global::EnumValue(e, v), _)) = self.globals.get(&name.text) else {
                        self.unknown(name, "value of an enum");
                        return None;
                    };
                    let (of, values) = out.get_or_insert((e, vec![]));
                    if *of != e || values.contains(&(v as i64)) {
                        self.error("M062", name.span, "values of one enum, each once, can be alike");
                        return None;
                    }
                    values.push(v as i64);
                }
                let (e, mut values) = out?;
                if values.len() < 2 {
                    self.error("M062", span, "one thing alone is like nothing");
                    return None;
                }
                values.sort_unstable();
                Some(Kind::Values(e, values))
            }
            ast::Likeness::Numbers(lo, hi, vars) => {
                let (lo, hi) = (self.lone(lo, Place::Level), self.lone(hi, Place::Level));
                let (lo, hi) = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
                let mut carriers = vec![];
                for name in vars {
                    match self.globals.get(&name.text) {
                        Some(&(Global::Var(v), _)) => carriers.push(v),
                        _ => {
                            self.unknown(name, "variable");
                            return None;
                        }
                    }
                }
                Some(Kind::Numbers { lo, hi, carriers, except: vec![] })
            }
            ast::Likeness::Piles(of, except) => {
                let key = match self.globals.get(&of.text) {
                    Some(&(Global::Var(v), _)) => match self.vars[v].shape {
                        Shape::Array(k) | Shape::Lists(k, _) => Some(k),
                        _ => None,
                    },
                    _ => {
                        self.unknown(of, "array");
                        return None;
                    }
                };
                match key {
                    Some(Keyed::Range(r)) => {
                        let (lo, hi) = self.ranges[r].clone();
                        let mut out = vec![];
                        for e in except {
                            let e = self.lone(e, Place::Level);
                            out.push(self.coerce(e, Ty::Int));
                        }
                        Some(Kind::Numbers { lo, hi, carriers: vec![], except: out })
                    }
                    Some(Keyed::Enum(k)) => {
                        let mut class: Vec<i64> = (0..self.enums[k].values.len() as i64).collect();
                        for e in except {
                            let e = self.lone(e, Place::Level);
                            match self.coerce(e, Ty::Enum(k)).kind {
                                Ek::Const(v) => class.retain(|c| *c != v),
                                _ => {
                                    self.error("M062", span, "the exceptions are values of the enum");
                                    return None;
                                }
                            }
                        }
                        Some(Kind::Values(k, class))
                    }
                    _ => {
                        self.error(
                            "M062",
                            of.span,
                            "piles are the parts of an array keyed by an enum or a range",
                        )
                        .notes
                        .push("declare it: `state post: array 1..3 of list of 1..9 max 9`".into());
                        None
                    }
                }
            }
        }
    }

    /// A block that stands for itself.
    fn lone_block(&mut self, name: &str, block: &ast::Block, place: Place) -> ProcDef {
        self.place = place;
        self.scope = Scope::default();
        self.drawn = false;
        let body = self.block(block);
        let locals = std::mem::take(&mut self.scope).locals;
        ProcDef { name: name.into(), params: 0, locals, body }
    }

    /// The hidden variable that keeps what another one began with.
    fn shadow(&mut self, v: usize) -> usize {
        if let Some(i) = self.vars.iter().position(|d| d.shadow_of == Some(v)) {
            return i;
        }
        let def = self.vars[v].clone();
        self.vars.push(VarDef {
            name: format!("start.{}", def.name),
            rearranged: None,
            shadow_of: Some(v),
            ..def
        });
        self.vars.len() - 1
    }

    /// The hidden variable that counts moves for a tick, where more than one is waited for.
    fn clock(&mut self, every: &A, span: Span) -> Option<(usize, Expr)> {
        let every = self.lone(every, Place::Level);
        let every = self.coerce(every, Ty::Int);
        if matches!(every.kind, Ek::Const(1)) {
            return None;
        }
        let make = |kind| Expr { kind, ty: Ty::Int, span };
        let one = make(Ek::Const(1));
        let hi = make(Ek::Arith(Arith::Sub, Box::new(every.clone()), Box::new(one)));
        let number = self.vars.iter().filter(|v| v.clock).count();
        self.vars.push(VarDef {
            name: if number == 0 { "clock".into() } else { format!("clock{}", number + 1) },
            span,
            state: true,
            shape: Shape::One,
            dom: Dom::Range(Box::new(make(Ek::Const(0))), Box::new(hi)),
            sized: None,
            rearranged: None,
            when: None,
            default: Some(make(Ek::Const(0))),
            outside: None,
            max: None,
            shadow_of: None,
            clock: true,
            hidden: false,
            untold: false,
            prior: None,
        });
        Some((self.vars.len() - 1, every))
    }

    fn example_names(&mut self, line: &ast::ExampleLine) {
        let (name, state) = match line {
            ast::ExampleLine::Level(n, _) => (n, false),
            ast::ExampleLine::Start(n, _) => (n, true),
            _ => return,
        };
        let known: Vec<String> =
            self.vars.iter().filter(|v| v.state == state).map(|v| v.name.clone()).collect();
        // Drawings are starts too; they are checked where the board is read.
        if !state && !known.contains(&name.text) {
            let near = near(&name.text, known.iter().map(String::as_str)).map(str::to_string);
            let error = self.error("M010", name.span, format!("no level value is named `{}`", name.text));
            if let Some(n) = near {
                error.notes.push(format!("did you mean `{n}`?"));
            }
        }
    }

    fn ending(&mut self, kind: EndKind, why: Option<String>) -> usize {
        let ending = Ending { kind, why };
        self.endings.iter().position(|e| *e == ending).unwrap_or_else(|| {
            self.endings.push(ending);
            self.endings.len() - 1
        })
    }

    fn status_order(
        &mut self,
        mut conds: Vec<(EndKind, StatusCond)>,
        order: Option<(Vec<Name>, Span)>,
    ) -> Vec<StatusCond> {
        let mut kinds: Vec<EndKind> = conds.iter().map(|c| c.0).collect();
        kinds.sort();
        kinds.dedup();
        let word = |k: EndKind| match k {
            EndKind::Goal => "goal",
            EndKind::Lost => "lost",
            EndKind::Over => "over",
        };
        let mut written = vec![];
        let before = self.errors.len();
        if let Some((names, span)) = &order {
            for name in names {
                match [EndKind::Goal, EndKind::Lost, EndKind::Over]
                    .into_iter()
                    .find(|&k| word(k) == name.text)
                {
                    Some(k) if written.contains(&k) => {
                        self.error("M005", name.span, format!("`{}` is named twice", name.text));
                    }
                    Some(k) => written.push(k),
                    None => {
                        self.error("M005", name.span, format!("`{}` is no status", name.text))
                            .notes
                            .push("the statuses are goal, lost and over".into());
                    }
                }
            }
            // A misspelt status is one mistake, not two.
            let understood = self.errors.len() == before;
            for &k in &kinds {
                if understood && !written.contains(&k) {
                    self.error("M006", *span, format!("the order does not say where `{}` stands", word(k)));
                }
            }
        } else if kinds.len() > 1 {
            let span = conds[1].1.span;
            let list = kinds.iter().map(|&k| word(k)).collect::<Vec<_>>().join(", ");
            self.error("M006", span, "two statuses can hold at once, and nothing says which counts")
                .notes
                .push(format!("write the order, for instance `status {list}`"));
        }
        conds.sort_by_key(|(k, _)| written.iter().position(|w| w == k));
        conds.into_iter().map(|c| c.1).collect()
    }

    fn collect(&mut self, source: &ast::Source) {
        self.has_setup = source.items.iter().any(|i| matches!(i, Item::Setup { .. }));
        for item in &source.items {
            match item {
                Item::Const(name, value) if self.declare(name, Global::Const(self.const_asts.len())) => {
                    self.const_asts.push((name.clone(), value.clone()));
                    self.consts.push(None);
                }
                Item::Enum(name, values) => {
                    self.declare_enum(name, &values.iter().collect::<Vec<_>>());
                }
                Item::Shapes(name, defs) => {
                    let kind = self.declare_enum(name, &defs.iter().map(|d| &d.name).collect::<Vec<_>>());
                    self.shapes_def(name, defs, kind);
                }
                Item::Record(name, _) => {
                    self.declare(name, Global::Record(self.records.len()));
                    self.records.push(RecordDef { name: name.text.clone(), parts: vec![] });
                }
                Item::Tally(names) => {
                    for name in names {
                        self.declare(name, Global::Tally(self.tallies.len()));
                        self.tallies.push(name.text.clone());
                    }
                }
                Item::Fn { name, params, body } if self.declare(name, Global::Fn(self.fn_asts.len())) => {
                    self.fn_asts.push((name.clone(), params.clone(), body.clone()));
                    self.fns.push(None);
                }
                Item::Proc { name, params, body }
                    if self.declare(name, Global::Proc(self.proc_asts.len())) =>
                {
                    self.proc_asts.push((name.clone(), params.clone(), body.clone()));
                    self.procs.push(None);
                    self.proc_refuses.push(false);
                    self.proc_draws.push(false);
                }
                Item::Move { name, params, .. } => {
                    self.declare(name, Global::Move(self.move_asts.len()));
                    self.move_asts.push((name.clone(), params.clone()));
                }
                _ => {}
            }
        }
        // Variables come after enums, so that types may name enums declared below.
        let mut record = 0;
        for item in &source.items {
            if let Item::Record(name, parts) = item {
                let mut out: Vec<(String, Dom)> = vec![];
                for part in parts {
                    if out.iter().any(|(n, _)| *n == part.name.text) {
                        self.error("M002", part.name.span, format!("`{}` is listed twice", part.name.text));
                    }
                    match self.dom(&part.ty) {
                        Some(Dom::Record(_) | Dom::Placed(_) | Dom::Maybe(_)) => {
                            self.error("M012", part.ty.span, "a part of a record is a plain value");
                        }
                        Some(dom) => out.push((part.name.text.clone(), dom)),
                        // What is wrong with its type is told; its uses say nothing more.
                        None => {
                            self.lost.insert(part.name.text.clone());
                        }
                    }
                }
                if parts.is_empty() {
                    self.error("M007", name.span, "a record needs at least one part");
                }
                self.records[record].parts = out;
                record += 1;
            }
            if let Item::Var { state, names, ty, when, default, outside, hidden, untold } = item {
                let Some((shape, dom, sized, rearranged, max)) = self.var_type(ty) else {
                    for name in names {
                        let dom = Dom::Bool;
                        self.push_var(
                            name,
                            VarDef {
                                name: name.text.clone(),
                                span: name.span,
                                state: *state,
                                shape: Shape::One,
                                dom,
                                sized: None,
                                rearranged: None,
                                when: None,
                                default: None,
                                outside: None,
                                max: None,
                                shadow_of: None,
                                clock: false,
                                hidden: false,
                                untold: false,
                                prior: None,
                            },
                        );
                        // Uses of a variable whose type is wrong say nothing more.
                        self.globals.remove(&name.text);
                        self.globals.insert(name.text.clone(), (Global::Const(usize::MAX), name.span));
                    }
                    continue;
                };
                if rearranged.is_some() && !*state {
                    self.error("M008", ty.span, "only a state variable can be rearranged");
                }
                let elem = dom.scalar().ty();
                let when = when.as_ref().map(|e| self.condition(e, Place::Level).expr);
                if when.is_some() && !*state {
                    self.error("M008", ty.span, "only a state variable can depend on `if`");
                }
                if default.is_some() && matches!(shape, Shape::List(_) | Shape::Lists(..)) {
                    self.error("M008", ty.span, "a list begins empty, or as the level says");
                }
                let default = default.as_ref().map(|e| {
                    let e = self.lone(e, Place::Level);
                    self.coerce(e, elem)
                });
                let outside = outside.as_ref().map(|e| {
                    let e = self.lone(e, Place::Level);
                    self.coerce(e, elem)
                });
                if outside.is_some() && !matches!(shape, Shape::Grid | Shape::Set) {
                    self.error("M008", ty.span, "`outside` is for grids");
                }
                for name in names {
                    self.push_var(
                        name,
                        VarDef {
                            name: name.text.clone(),
                            span: name.span,
                            state: *state,
                            shape,
                            dom: dom.clone(),
                            sized: sized.clone(),
                            rearranged,
                            when: when.clone(),
                            default: default.clone(),
                            outside: outside.clone(),
                            max: max.clone(),
                            shadow_of: None,
                            clock: false,
                            hidden: hidden.is_some(),
                            untold: *untold,
                            prior: None,
                        },
                    );
                }
            }
        }
    }

    fn declare_enum(&mut self, name: &Name, values: &[&Name]) -> usize {
        let e = self.enums.len();
        self.declare(name, Global::Enum(e));
        if values.is_empty() {
            self.error("M007", name.span, format!("`{}` needs at least one value", name.text));
        }
        let mut seen: Vec<&str> = vec![];
        for (i, value) in values.iter().enumerate() {
            if seen.contains(&value.text.as_str()) {
                self.error("M002", value.span, format!("`{}` is listed twice", value.text));
            }
            seen.push(&value.text);
            self.declare(value, Global::EnumValue(e, i));
        }
        let values = values.iter().map(|v| v.text.clone()).collect();
        self.enums.push(EnumDef { name: name.text.clone(), values });
        e
    }

    fn shapes_def(&mut self, name: &Name, defs: &[ast::ShapeDef], kind: usize) {
        let mut shapes = vec![];
        for def in defs {
            match crate::shape::turns(def) {
                Ok(turns) => shapes.push(turns),
                Err((span, message, note)) => {
                    self.error("M049", span, message).notes.push(note.into());
                }
            }
        }
        let mut firsts = vec![];
        let mut all = vec![];
        for (i, s) in shapes.iter().enumerate() {
            firsts.push(all.len());
            all.extend((0..s.turns.len()).map(|t| (i, t)));
        }
        let reach = shapes.iter().flat_map(|s| s.turns.iter().flatten()).map(|(r, c)| r.abs().max(c.abs()));
        let margin = reach.max().unwrap_or(0) + 3;
        self.shapes.push(ShapesDef { name: name.text.clone(), kind, shapes, firsts, all, margin });
    }

    fn push_var(&mut self, name: &Name, def: VarDef) {
        if self.declare(name, Global::Var(self.vars.len())) {
            self.vars.push(def);
        }
    }

    #[allow(clippy::type_complexity)]
    fn var_type(
        &mut self,
        ty: &ast::Type,
    ) -> Option<(Shape, Dom, Option<(Expr, Expr)>, Option<usize>, Option<Expr>)> {
        let (shape, dom, sized, rearranged) = match &ty.kind {
            ast::TypeKind::List { elem, max, bag } => {
                let (dom, max) = self.list_type(elem, max)?;
                return Some((Shape::List(*bag), dom, None, None, Some(max)));
            }
            ast::TypeKind::Array(_, elem) | ast::TypeKind::ArrayBy(_, _, elem) => {
                let key = self.key(ty)?;
                if let ast::TypeKind::List { elem, max, bag } = &elem.kind {
                    let (dom, max) = self.list_type(elem, max)?;
                    return Some((Shape::Lists(key, *bag), dom, None, None, Some(max)));
                }
                (Shape::Array(key), self.dom(elem)?, None, None)
            }
            ast::TypeKind::Grid(elem, sized) => {
                let dom = self.dom(elem)?;
                let sized = sized.as_ref().map(|(r, c)| {
                    let r = self.lone(r, Place::Level);
                    let c = self.lone(c, Place::Level);
                    (self.coerce(r, Ty::Int), self.coerce(c, Ty::Int))
                });
                (Shape::Grid, dom, sized, None)
            }
            ast::TypeKind::Set => (Shape::Set, Dom::Bool, None, None),
            ast::TypeKind::Rearranged(target) => match self.globals.get(&target.text) {
                Some(&(Global::Var(v), _)) if self.vars[v].shape == Shape::Grid && !self.vars[v].state => {
                    (Shape::Grid, self.vars[v].dom.clone(), None, Some(v))
                }
                _ => {
                    self.error("M009", target.span, "`rearranged` wants a grid of the level, declared above")
                        .notes
                        .push(format!("declare it: `level {}: grid of 0..9`", target.text));
                    return None;
                }
            },
            _ => (Shape::One, self.dom(ty)?, None, None),
        };
        Some((shape, dom, sized, rearranged, None))
    }

    fn list_type(&mut self, elem: &ast::Type, max: &A) -> Option<(Dom, Expr)> {
        let dom = self.dom(elem)?;
        let max = self.lone(max, Place::Level);
        Some((dom, self.coerce(max, Ty::Int)))
    }

    fn key(&mut self, ty: &ast::Type) -> Option<Keyed> {
        match &ty.kind {
            ast::TypeKind::Array(key, _) => match (key.text.as_str(), self.globals.get(&key.text)) {
                ("row", _) => Some(Keyed::Row),
                ("column", _) => Some(Keyed::Column),
                (_, Some(&(Global::Enum(e), _))) => Some(Keyed::Enum(e)),
                _ => {
                    self.unknown(key, "enum");
                    None
                }
            },
            ast::TypeKind::ArrayBy(lo, hi, _) => {
                let lo = self.lone(lo, Place::Level);
                let hi = self.lone(hi, Place::Level);
                let range = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
                self.ranges.push(range);
                Some(Keyed::Range(self.ranges.len() - 1))
            }
            _ => None,
        }
    }

    fn dom(&mut self, ty: &ast::Type) -> Option<Dom> {
        match &ty.kind {
            ast::TypeKind::Range(lo, hi) => {
                let lo = self.lone(lo, Place::Level);
                let hi = self.lone(hi, Place::Level);
                let (lo, hi) = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
                if let (Ek::Const(a), Ek::Const(b)) = (&lo.kind, &hi.kind)
                    && a > b
                    && lo.ty != Ty::Bad
                    && hi.ty != Ty::Bad
                {
                    self.error("M011", ty.span, format!("the range {a}..{b} is empty"));
                    return None;
                }
                Some(Dom::Range(Box::new(lo), Box::new(hi)))
            }
            ast::TypeKind::Named(name) => match name.as_str() {
                "bool" => Some(Dom::Bool),
                "cell" => Some(Dom::Cell),
                "dir4" => Some(Dom::Dir4),
                "dir8" => Some(Dom::Dir8),
                _ => match self.globals.get(name) {
                    Some(&(Global::Enum(e), _)) => Some(Dom::Enum(e)),
                    Some(&(Global::Record(r), _)) => Some(Dom::Record(r)),
                    _ => {
                        let name = Name { text: name.clone(), span: ty.span };
                        self.unknown_type(&name);
                        None
                    }
                },
            },
            ast::TypeKind::Maybe(inner) => {
                let dom = self.dom(inner)?;
                if dom.scalar().base().is_none() {
                    self.error(
                        "M012",
                        ty.span,
                        "`maybe` holds a number, a value of an enum, a cell or the like",
                    )
                    .notes
                    .push("a `maybe bool` is an enum of three values".into());
                    return None;
                }
                Some(Dom::Maybe(Box::new(dom)))
            }
            ast::TypeKind::Placed(name) => match self.shapes.iter().position(|s| s.name == name.text) {
                Some(s) => Some(Dom::Placed(s)),
                None => {
                    self.unknown(name, "group of shapes");
                    None
                }
            },
            ast::TypeKind::Later => None,
            _ => {
                self.error("M012", ty.span, "a single value is wanted here, not a collection").notes.push(
                    "grids, sets and arrays hold bools, ranges, enum values, directions or cells".into(),
                );
                None
            }
        }
    }

    fn unknown_type(&mut self, name: &Name) {
        if self.lost.contains(&name.text) {
            return;
        }
        let mut known: Vec<String> = self.enums.iter().map(|e| e.name.clone()).collect();
        known.extend(self.records.iter().map(|r| r.name.clone()));
        known.extend(
            ["bool", "cell", "dir4", "dir8", "grid", "set", "array", "list", "bag", "maybe", "placed"]
                .map(String::from),
        );
        let near = near(&name.text, known.iter().map(String::as_str)).map(str::to_string);
        let error = self.error("M013", name.span, format!("no type is named `{}`", name.text));
        match near {
            Some(n) => error.notes.push(format!("did you mean `{n}`?")),
            None => error.notes.push(format!("types are: {}, and ranges such as 0..9", known.join(", "))),
        }
    }

    fn unknown(&mut self, name: &Name, what: &str) {
        if self.lost.contains(&name.text) {
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

    // ---- bodies ----

    /// An expression outside any body: no locals of its own survive.
    fn lone(&mut self, e: &A, place: Place) -> Expr {
        let scope = std::mem::take(&mut self.scope);
        let old = std::mem::replace(&mut self.place, place);
        let out = self.expr(e);
        self.scope = scope;
        self.place = old;
        out
    }

    fn body(&mut self, e: &A, place: Place, want: Ty) -> Body {
        let scope = std::mem::take(&mut self.scope);
        let old = std::mem::replace(&mut self.place, place);
        let expr = self.expr(e);
        let expr = self.coerce(expr, want);
        let locals = std::mem::replace(&mut self.scope, scope).locals;
        self.place = old;
        Body { expr, locals }
    }

    fn condition(&mut self, e: &A, place: Place) -> Body {
        self.body(e, place, Ty::Bool)
    }

    fn quantity(&mut self, e: &A) -> Body {
        self.body(e, Place::Cond, Ty::Int)
    }

    fn const_value(&mut self, i: usize) -> Expr {
        if let Some(e) = &self.consts[i] {
            return e.clone();
        }
        let (name, ast) = self.const_asts[i].clone();
        // Marked before it is known: a constant that needs itself is wrong.
        self.consts[i] = Some(Expr { kind: Ek::Const(0), ty: Ty::Bad, span: name.span });
        let e = self.lone(&ast, Place::Const);
        if e.ty.is_block() || matches!(e.ty, Ty::Lane) {
            self.error("M014", ast.span, "a constant is a single value");
        }
        self.consts[i] = Some(e.clone());
        e
    }

    fn params(&mut self, params: &[ast::Param]) -> Vec<Dom> {
        let mut doms = vec![];
        for p in params {
            let (ty, dom) = match &p.ty.kind {
                ast::TypeKind::Named(n) if n == "place" => (Ty::Place, None),
                _ => match self.dom(&p.ty) {
                    Some(dom) => (dom.scalar().ty(), Some(dom)),
                    None => (Ty::Bad, None),
                },
            };
            self.bind(&p.name, ty, false, dom.clone());
            doms.push(dom.unwrap_or(Dom::Bool));
        }
        doms
    }

    fn function(&mut self, i: usize, call: Option<Span>) -> Option<Ty> {
        if self.busy.contains(&i) {
            let (name, ..) = self.fn_asts[i].clone();
            self.error("M015", call.unwrap_or(name.span), format!("`{}` calls itself", name.text))
                .notes
                .push("functions cannot recurse; use `flood`, `for` or `repeat at most`".into());
            return None;
        }
        if let Some(f) = &self.fns[i] {
            return Some(f.body.ty);
        }
        self.busy.push(i);
        let scope = std::mem::take(&mut self.scope);
        let place = std::mem::replace(&mut self.place, Place::Fn);
        let (name, params, body) = self.fn_asts[i].clone();
        self.params(&params);
        let body = self.expr(&body);
        // A grid of bools is given as the set of cells that it is.
        let body = if body.ty == Ty::Grid(Scalar::Bool) { Expr { ty: Ty::Set, ..body } } else { body };
        let ty = body.ty;
        if ty.is_block() && ty != Ty::Set {
            self.error("M014", body.span, "a function gives a single value or a set of cells");
        }
        let locals = std::mem::replace(&mut self.scope, scope).locals;
        self.place = place;
        self.busy.pop();
        self.fns[i] = Some(FnDef { name: name.text, params: params.len(), locals, body });
        Some(ty)
    }

    fn procedure(&mut self, i: usize, call: Option<Span>) {
        if self.proc_busy.contains(&i) {
            let (name, ..) = self.proc_asts[i].clone();
            self.error("M015", call.unwrap_or(name.span), format!("`{}` calls itself", name.text))
                .notes
                .push("procedures cannot recurse; use `for` or `repeat at most`".into());
            return;
        }
        if self.procs[i].is_some() {
            return;
        }
        self.proc_busy.push(i);
        let scope = std::mem::take(&mut self.scope);
        let place = std::mem::replace(&mut self.place, Place::Proc);
        let refused = std::mem::replace(&mut self.refused_here, false);
        let drawn = std::mem::replace(&mut self.drawn, false);
        let (name, params, body) = self.proc_asts[i].clone();
        self.params(&params);
        let body = self.block(&body);
        let locals = std::mem::replace(&mut self.scope, scope).locals;
        self.place = place;
        self.proc_refuses[i] = std::mem::replace(&mut self.refused_here, refused);
        self.proc_draws[i] = std::mem::replace(&mut self.drawn, drawn);
        self.proc_busy.pop();
        self.procs[i] = Some(ProcDef { name: name.text, params: params.len(), locals, body });
    }

    fn move_def(&mut self, name: &Name, params: &[ast::Param], body: &ast::Block) -> MoveDef {
        self.scope = Scope::default();
        self.place = Place::Move;
        self.drawn = false;
        for p in params {
            if matches!(&p.ty.kind, ast::TypeKind::Named(n) if n == "place") {
                self.error("M016", p.ty.span, "a move's parameter is a cell, not a place");
            }
        }
        let doms = self.params(params);
        let offers_len = body.iter().take_while(|s| matches!(s.kind, S::Offer(_))).count();
        let mut offers = vec![];
        for stmt in &body[..offers_len] {
            if let S::Offer(e) = &stmt.kind {
                let e = self.expr(e);
                let e = self.coerce(e, Ty::Bool);
                self.note_facts(&e, true);
                offers.push(e);
            }
        }
        let body = self.block(&body[offers_len..]);
        let locals = std::mem::take(&mut self.scope).locals;
        MoveDef {
            name: name.text.clone(),
            params: doms,
            locals,
            offers,
            body,
            waiting: false,
            span: name.span,
        }
    }

    fn bind(&mut self, name: &Name, ty: Ty, mutable: bool, dom: Option<Dom>) -> usize {
        let file = self.file;
        let clash = self
            .scope
            .visible
            .iter()
            .map(|&l| &self.scope.locals[l])
            .find(|l| l.name == name.text)
            .map(|l| l.span)
            .or_else(|| self.globals.get(&name.text).map(|g| g.1));
        if let Some(span) = clash {
            self.error("M002", name.span, format!("`{}` is already the name of something here", name.text))
                .labels
                .push(crate::diag::Label { file, span, text: "declared here".into() });
        } else if BUILTINS.contains(&name.text.as_str()) || DIRS.contains(&name.text.as_str()) {
            self.error("M001", name.span, format!("`{}` has a meaning of its own", name.text))
                .notes
                .push("choose another name".into());
        }
        let local = self.scope.locals.len();
        self.scope.locals.push(LocalDef { name: name.text.clone(), ty, mutable, dom, span: name.span });
        self.scope.visible.push(local);
        local
    }

    /// Runs `f` with everything it binds or learns forgotten afterwards.
    fn nested<T>(&mut self, f: impl FnOnce(&mut Self) -> T) -> T {
        let (visible, facts) = (self.scope.visible.len(), self.scope.on_board.len());
        let out = f(self);
        self.scope.visible.truncate(visible);
        self.scope.on_board.truncate(facts);
        out
    }

    /// Learns which places are cells when `e` is known to be `truth`.
    fn note_facts(&mut self, e: &Expr, truth: bool) {
        match &e.kind {
            Ek::OnBoard(p) if truth => {
                if let Ek::Local(l) = p.kind
                    && !self.scope.locals[l].mutable
                {
                    self.scope.on_board.push(l);
                }
            }
            Ek::And(a, b) if truth => {
                self.note_facts(a, true);
                self.note_facts(b, true);
            }
            Ek::Or(a, b) if !truth => {
                self.note_facts(a, false);
                self.note_facts(b, false);
            }
            Ek::Not(a) => self.note_facts(a, !truth),
            _ => {}
        }
    }

    fn block(&mut self, block: &[ast::Stmt]) -> Vec<Stmt> {
        self.nested(|c| c.statements(block))
    }

    fn statements(&mut self, block: &[ast::Stmt]) -> Vec<Stmt> {
        let mut out = vec![];
        let mut ended = false;
        for (i, stmt) in block.iter().enumerate() {
            if ended {
                self.error("M017", stmt.span, "this is never reached");
                break;
            }
            ended = matches!(stmt.kind, S::Win | S::Lose(_) | S::Stop(_))
                || matches!(&stmt.kind, S::Refuse { unless: None, .. });
            // Without anything to draw, what follows a `let` in its block is left out.
            if let S::Draw { name: Some(_), other: Some(_), .. } = &stmt.kind {
                if let Some(kind) = self.draw(stmt, &block[i + 1..]) {
                    out.push(Stmt { kind, span: stmt.span });
                }
                break;
            }
            if let Some(kind) = self.stmt(stmt) {
                out.push(Stmt { kind, span: stmt.span });
            }
        }
        out
    }

    fn draw(&mut self, stmt: &ast::Stmt, rest: &[ast::Stmt]) -> Option<St> {
        let S::Draw { name, ty, target, from, other } = &stmt.kind else { return None };
        if self.place == Place::Fn {
            self.error("M046", stmt.span, "a function draws nothing").notes.push("draw in a move".into());
        }
        let want = match ty {
            Some(t) => self.dom(t),
            None => None,
        };
        let into = match target {
            Some(t) => Some(self.target(t)?),
            None => None,
        };
        let want_ty = want.as_ref().map(|d| d.scalar().ty()).or(into.as_ref().map(|i| i.1));
        let (local, from) = match from {
            ast::DrawFrom::Range { binder, weight } => {
                let (local, over, filter) = self.binder(binder);
                let weight = weight.as_ref().map(|w| {
                    let w = self.expr(w);
                    self.coerce(w, Ty::Int)
                });
                (local, DrawFrom::Range { over, filter, weight })
            }
            ast::DrawFrom::Values(values) => {
                let mut out = vec![];
                let mut elem = want_ty;
                for (v, w) in values {
                    let v = self.expr(v);
                    let ty = *elem.get_or_insert(v.ty);
                    if ty.is_block() {
                        self.error("M020", v.span, "single values are drawn");
                        return None;
                    }
                    let mut v = self.coerce(v, ty);
                    if let Some(d) = &want {
                        v = within(v, d);
                    }
                    let w = match w {
                        Some(w) => {
                            let w = self.expr(w);
                            self.coerce(w, Ty::Int)
                        }
                        None => Expr { kind: Ek::Const(1), ty: Ty::Int, span: v.span },
                    };
                    if let Ek::Const(n) = w.kind
                        && n < 0
                    {
                        self.error("M050", w.span, "a weight is not negative");
                    }
                    out.push((v, w));
                }
                let name = name
                    .clone()
                    .unwrap_or(Name { text: format!("drawn {}", stmt.span.start), span: stmt.span });
                let local = self.bind(&name, elem.unwrap_or(Ty::Bad), false, None);
                (local, DrawFrom::Values(out))
            }
        };
        let have = self.scope.locals[local].ty;
        if let Some(want) = want_ty {
            let value = Expr { kind: Ek::Local(local), ty: have, span: stmt.span };
            if self.coerce(value, want).ty == Ty::Bad && have != Ty::Bad {
                return None;
            }
        }
        self.drawn = true;
        let (rest, other) = match other {
            None => (vec![], None),
            Some(other) => {
                let visible = self.scope.visible.clone();
                // Nothing was drawn there: the name means nothing.
                self.scope.visible.retain(|l| *l != local);
                let other = self.block(other);
                self.scope.visible = visible;
                (self.statements(rest), Some(other))
            }
        };
        Some(St::Draw { local, from, into: into.map(|i| i.0), rest, other })
    }

    /// A list that a statement changes.
    fn list_target(&mut self, e: &A) -> Option<(ListRef, Scalar, bool)> {
        let (target, ty) = self.target(e)?;
        let Ty::List(elem, bag) = ty else {
            if ty != Ty::Bad {
                let message = format!("a list is wanted, this is {}", self.tn(ty));
                self.error("M020", e.span, message);
            }
            return None;
        };
        let list = match target {
            Target::Local(l) => ListRef::Local(l),
            Target::Var(v) => ListRef::Var(v),
            Target::VarAt(v, i) => ListRef::VarAt(v, i),
            _ => return None,
        };
        Some((list, elem, bag))
    }

    fn list_dom(&self, list: &ListRef) -> Option<Dom> {
        match list {
            ListRef::Local(l) => self.scope.locals[*l].dom.clone(),
            // Ranges of variables are checked where they are stored.
            ListRef::Var(_) | ListRef::VarAt(..) => None,
        }
    }

    fn method(&mut self, e: &A) -> Option<St> {
        let K::Method(base, name, args) = &e.kind else { return None };
        let (list, elem, bag) = self.list_target(base)?;
        let wants = match name.text.as_str() {
            "push" => 1,
            "pop" | "clear" => 0,
            other => {
                let known = ["push", "pop", "clear"];
                let near = near(other, known)
                    .map_or("lists have push, pop and clear".into(), |n| format!("did you mean `{n}`?"));
                self.error("M051", name.span, format!("a list has no `{other}`")).notes.push(near);
                return None;
            }
        };
        if args.len() != wants {
            let message = format!("`{}` takes {wants} values, {} are given", name.text, args.len());
            self.error("M024", name.span, message);
            return None;
        }
        if bag && name.text != "clear" {
            self.error("M051", name.span, "the things in a bag have no order")
                .notes
                .push("write `add x to bag` and `remove x from bag`".into());
            return None;
        }
        Some(match name.text.as_str() {
            "push" => {
                let value = self.expr(&args[0]);
                let mut value = self.coerce(value, elem.ty());
                if let Some(dom) = self.list_dom(&list) {
                    value = within(value, &dom);
                }
                St::Push(list, value)
            }
            "pop" => St::Pop(list),
            _ => St::Clear(list),
        })
    }

    /// A grid that is written lane by lane: a state variable or a local one.
    fn grid_target(&mut self, e: &A) -> Option<(Target, Ty)> {
        let (target, ty) = self.target(e)?;
        match ty {
            Ty::Grid(s) => Some((target, s.ty())),
            Ty::Set => Some((target, Ty::Bool)),
            Ty::Bad => None,
            _ => {
                let message = format!("a grid is wanted, this is {}", self.tn(ty));
                self.error("M020", e.span, message);
                None
            }
        }
    }

    fn stmt(&mut self, stmt: &ast::Stmt) -> Option<St> {
        Some(match &stmt.kind {
            S::Let {
                name,
                ty: Some(ast::Type { kind: ast::TypeKind::List { elem, max, bag }, .. }),
                value,
                mutable,
            } => {
                let dom = self.dom(elem)?;
                let scalar = dom.scalar();
                let max = self.expr(max);
                let max = self.coerce(max, Ty::Int);
                let want = Ty::List(scalar, *bag);
                let value = match &value.kind {
                    K::Empty => None,
                    _ => {
                        let value = self.expr(value);
                        let value = self.coerce(value, want);
                        Some(within(value, &dom))
                    }
                };
                let local = self.bind(name, want, *mutable, Some(dom));
                St::NewList { local, value, max }
            }
            S::Let { name, ty, value, mutable } => {
                let value = self.expr(value);
                let mut dom = None;
                let (ty, value) = match ty {
                    None => (value.ty, value),
                    Some(t) if matches!(&t.kind, ast::TypeKind::Named(n) if n == "place") => {
                        (Ty::Place, self.coerce(value, Ty::Place))
                    }
                    Some(t) if matches!(t.kind, ast::TypeKind::Set) => (Ty::Set, self.coerce(value, Ty::Set)),
                    Some(t) => match self.dom(t) {
                        Some(d) => {
                            let ty = d.scalar().ty();
                            let value = self.coerce(value, ty);
                            let value = within(value, &d);
                            dom = Some(d);
                            (ty, value)
                        }
                        None => (Ty::Bad, value),
                    },
                };
                if matches!(ty, Ty::List(..)) && *mutable {
                    self.error("M058", name.span, "a list that changes needs a bound")
                        .notes
                        .push(format!("write `var {}: list of 0..9 max 4 = ...`", name.text));
                }
                if matches!(ty, Ty::Lists(..)) {
                    self.error(
                        "M014",
                        stmt.span,
                        "one list at a time can be named, not a whole array of them",
                    );
                }
                // A copy of a whole grid of bools can be changed like any set of cells.
                let local = self.bind(name, ty, *mutable, dom);
                St::Assign(Target::Local(local), value)
            }
            S::Assign { target, op, value } => {
                if let K::Name(n) = &target.kind
                    && let Some(&(Global::Tally(t), _)) = self.globals.get(n)
                {
                    let value = self.expr(value);
                    let value = self.coerce(value, Ty::Int);
                    let value = match op {
                        Some(BinOp::Add) => value,
                        Some(BinOp::Sub) => {
                            let span = value.span;
                            Expr { kind: Ek::Neg(Box::new(value)), ty: Ty::Int, span }
                        }
                        _ => {
                            self.error("M018", stmt.span, "a tally is only added to")
                                .notes
                                .push(format!("write `{n} += ...`; its start is 0"));
                            return None;
                        }
                    };
                    return Some(St::Tally(t, value));
                }
                let (to, ty) = self.target(target)?;
                let value = match op {
                    None => self.expr(value),
                    Some(op) => {
                        let whole = A {
                            kind: K::Bin(*op, Box::new(target.clone()), Box::new(value.clone())),
                            span: stmt.span,
                        };
                        self.expr(&whole)
                    }
                };
                let mut value = self.coerce(value, ty);
                if let Target::Local(l) = to
                    && let Some(dom) = self.scope.locals[l].dom.clone()
                {
                    value = within(value, &dom);
                }
                St::Assign(to, value)
            }
            S::Swap(a, b) => {
                let (ta, tya) = self.target(a)?;
                let (tb, tyb) = self.target(b)?;
                if tya != tyb && tya != Ty::Bad && tyb != Ty::Bad {
                    let message = format!("cannot swap {} with {}", self.tn(tya), self.tn(tyb));
                    self.error("M020", stmt.span, message);
                }
                if tya.is_block() || tyb.is_block() {
                    self.error("M020", stmt.span, "single values are swapped, not whole boards or lists");
                    return None;
                }
                St::Swap(ta, tb)
            }
            S::If { cond, then, other } => {
                let cond = self.expr(cond);
                let cond = self.coerce(cond, Ty::Bool);
                let before = self.drawn;
                let then = self.nested(|c| {
                    c.note_facts(&cond, true);
                    c.block(then)
                });
                let after = std::mem::replace(&mut self.drawn, before);
                let other = self.nested(|c| {
                    c.note_facts(&cond, false);
                    c.block(other)
                });
                self.drawn |= after;
                St::If(cond, then, other)
            }
            S::For { binder, body } => self.nested(|c| {
                let (local, over, filter) = c.binder(binder);
                let body = c.looped(stmt.span, body);
                St::For { local, over, filter, body }
            }),
            S::Repeat { bound, cond, body, cut } => {
                let bound = self.expr(bound);
                let bound = self.coerce(bound, Ty::Int);
                let cond = self.expr(cond);
                let cond = self.coerce(cond, Ty::Bool);
                let drawn = std::mem::replace(&mut self.drawn, false);
                let body = self.looped(stmt.span, body);
                if *cut && !self.drawn {
                    self.error("M052", stmt.span, "nothing is drawn in this loop, so it need not be cut")
                        .notes
                        .push(
                            "without `else cut`, more rounds than the bound are a fault of the model".into(),
                        );
                }
                self.drawn |= drawn;
                self.cuts |= *cut;
                if *cut && self.place == Place::Setup {
                    self.error("M052", stmt.span, "a setup is not cut; use `require`");
                }
                St::Repeat { bound, cond, body, cut: *cut }
            }
            S::Draw { .. } => return self.draw(stmt, &[]),
            S::Method(e) => return self.method(e),
            S::Write { parts, fill, into, along } => {
                let (into, elem) = self.grid_target(into)?;
                let parts = parts
                    .iter()
                    .map(|p| {
                        let p = self.expr(p);
                        match p.ty {
                            Ty::List(s, _) if s.ty() == elem => p,
                            _ => self.coerce(p, elem),
                        }
                    })
                    .collect();
                let fill = self.expr(fill);
                let fill = self.coerce(fill, elem);
                let along = self.expr(along);
                let along = self.coerce(along, Ty::Lane);
                St::Write { parts, fill, into, along }
            }
            S::Take { count, from, onto } => {
                let count = self.expr(count);
                let count = self.coerce(count, Ty::Int);
                let (a, sa, bag_a) = self.list_target(from)?;
                let (b, sb, bag_b) = self.list_target(onto)?;
                if sa != sb || bag_a || bag_b {
                    self.error("M020", stmt.span, "`take` moves entries between two lists of one kind");
                    return None;
                }
                St::Take(count, a, b)
            }
            S::CutOut { binder, grid, fill, from } => {
                let columns = match &binder.over.kind {
                    K::Name(n) if n == "rows" && !binder.on => false,
                    K::Name(n) if n == "columns" && !binder.on => true,
                    _ => {
                        self.error("M053", binder.over.span, "`cut` takes out rows or columns")
                            .notes
                            .push("write `cut r in rows where ... out of G, 0 from up`".into());
                        return None;
                    }
                };
                let (into, elem) = self.grid_target(grid)?;
                let fill = self.expr(fill);
                let fill = self.coerce(fill, elem);
                let from = self.side(from, if columns { &["left", "right"] } else { &["up", "down"] })?;
                return self.nested(|c| {
                    let (local, _, filter) = c.binder(binder);
                    let Some(filter) = filter else {
                        c.error("M053", stmt.span, "which ones? add `where`");
                        return None;
                    };
                    Some(St::CutOut { local, columns, filter, into, fill, from })
                });
            }
            S::Insert { row, grid, at, from } => {
                let (into, elem) = self.grid_target(grid)?;
                let row = self.expr(row);
                let row = match (row.ty, elem.scalar()) {
                    (Ty::List(s, false), Some(e)) if s == e => row,
                    (_, Some(e)) => self.coerce(row, Ty::List(e, false)),
                    _ => return None,
                };
                let at = self.expr(at);
                let at = self.coerce(at, Ty::Lane);
                let from = self.side(from, &["up", "down", "left", "right"])?;
                St::Insert { row, into, at, from }
            }
            S::Require { cond, why } => {
                if self.place != Place::Setup {
                    self.error("M054", stmt.span, "`require` stands in a `setup`")
                        .notes
                        .push("a move is refused with `refuse`".into());
                }
                let cond = self.expr(cond);
                St::Require(self.coerce(cond, Ty::Bool), why.clone())
            }
            S::Phase { name, body } => St::Phase(name.clone(), self.block(body)),
            S::Offer(_) => {
                self.error("M021", stmt.span, "`offer` stands at the top of a move")
                    .notes
                    .push("move it above all other statements of the move".into());
                return None;
            }
            S::Refuse { why, at, unless } => {
                if matches!(self.place, Place::After | Place::Tick | Place::Setup) {
                    let what = match self.place {
                        Place::After => "`after` cannot refuse: the move has been made",
                        Place::Tick => "a tick cannot refuse: time has passed",
                        _ => "a setup refuses nothing",
                    };
                    let instead = if self.place == Place::Setup {
                        "drop a start with `require`"
                    } else {
                        "refuse inside the move instead"
                    };
                    self.error("M022", stmt.span, what).notes.push(instead.into());
                }
                if self.drawn {
                    self.error("M046", stmt.span, "a move is not refused after a draw")
                        .notes
                        .push("what is refused would tell what was drawn; refuse before the draw".into());
                }
                self.refused_here = true;
                let unless = unless.as_ref().map(|e| {
                    let e = self.expr(e);
                    self.coerce(e, Ty::Bool)
                });
                let at = at
                    .iter()
                    .map(|e| {
                        let e = self.expr(e);
                        match e.ty {
                            Ty::Set | Ty::Grid(Scalar::Bool) | Ty::Place | Ty::Bad => e,
                            _ => self.coerce(e, Ty::Place),
                        }
                    })
                    .collect();
                if let Some(e) = &unless {
                    self.note_facts(e, true);
                }
                let site = self.refuses.len();
                self.refuses.push(RefuseSite { why: why.clone(), span: stmt.span });
                St::Refuse { site, at, unless }
            }
            S::Judge => St::Judge,
            S::Win => self.end(EndKind::Goal, None),
            S::Lose(why) => self.end(EndKind::Lost, Some(why.clone())),
            S::Stop(why) => self.end(EndKind::Over, why.clone()),
            S::Note { text, at } => {
                let at = at.as_ref().map(|e| {
                    let e = self.expr(e);
                    self.coerce(e, Ty::Place)
                });
                St::Note(text.clone(), at)
            }
            S::Score(e) => {
                let e = self.expr(e);
                St::Score(self.coerce(e, Ty::Int))
            }
            S::Add(cell, set) | S::Remove(cell, set) => {
                let add = matches!(stmt.kind, S::Add(..));
                let cell = self.expr(cell);
                let (target, ty) = self.target(set)?;
                if let Ty::List(elem, bag) = ty {
                    let list = match target {
                        Target::Local(l) => ListRef::Local(l),
                        Target::Var(v) => ListRef::Var(v),
                        Target::VarAt(v, i) => ListRef::VarAt(v, i),
                        _ => return None,
                    };
                    if add && !bag {
                        self.error("M051", stmt.span, "a list has an order")
                            .notes
                            .push("write `LIST.push(x)`".into());
                        return None;
                    }
                    let mut value = self.coerce(cell, elem.ty());
                    if let Some(dom) = self.list_dom(&list) {
                        value = within(value, &dom);
                    }
                    return Some(if add { St::Push(list, value) } else { St::Drop(list, value) });
                }
                let cell = self.coerce(cell, Ty::Cell);
                if !matches!(ty, Ty::Set | Ty::Grid(Scalar::Bool) | Ty::Bad) {
                    let message = format!("a set of cells is wanted, this is {}", self.tn(ty));
                    self.error("M020", set.span, message);
                    return None;
                }
                let target = match target {
                    Target::Var(v) => Target::VarAt(v, cell),
                    Target::Local(l) => Target::LocalAt(l, cell),
                    _ => return None,
                };
                St::Assign(target, Expr { kind: Ek::Const(i64::from(add)), ty: Ty::Bool, span: stmt.span })
            }
            S::Call(name, args) => {
                let Some(&(Global::Proc(p), _)) = self.globals.get(&name.text) else {
                    match self.globals.get(&name.text) {
                        Some((other, _)) => {
                            let message = format!("`{}` is {}, not a procedure", name.text, other.what());
                            self.error("M023", name.span, message);
                        }
                        None => self.unknown(name, "procedure"),
                    }
                    return None;
                };
                self.procedure(p, Some(name.span));
                if self.proc_refuses[p] {
                    self.refused_here = true;
                    if matches!(self.place, Place::After | Place::Tick | Place::Setup) {
                        self.error("M022", name.span, "nothing can be refused here, and this procedure does");
                    }
                    if self.drawn {
                        self.error(
                            "M046",
                            name.span,
                            "a move is not refused after a draw, and this procedure refuses",
                        );
                    }
                }
                self.drawn |= self.proc_draws[p];
                let params = self.proc_asts[p].1.clone();
                let args = self.args(name, &params, args);
                St::Call(p, args)
            }
        })
    }

    /// A side of the board, by name.
    fn side(&mut self, e: &A, sides: &[&str]) -> Option<Expr> {
        let dir = self.expr(e);
        let dir = self.coerce(dir, Ty::Dir);
        match dir.kind {
            Ek::Const(d) if sides.contains(&DIRS[d as usize]) => Some(dir),
            _ => {
                self.error("M053", e.span, "the side where something comes in is named here")
                    .notes
                    .push(format!("write one of: {}", sides.join(", ")));
                None
            }
        }
    }

    /// The body of a loop: what it draws comes before what it refuses, the next time round.
    fn looped(&mut self, span: Span, body: &ast::Block) -> Vec<Stmt> {
        let (drawn, refused) =
            (std::mem::replace(&mut self.drawn, false), std::mem::replace(&mut self.refused_here, false));
        let said = self.errors.len();
        let body = self.block(body);
        if self.errors[said..].iter().any(|e| e.code == "M046") {
            // The statement itself was named.
        } else if self.drawn && self.refused_here {
            self.error("M046", span, "this loop draws and refuses: a move is not refused after a draw");
        } else if drawn && self.refused_here {
            self.error("M046", span, "a move is not refused after a draw");
        }
        self.drawn |= drawn;
        self.refused_here |= refused;
        body
    }

    fn end(&mut self, kind: EndKind, why: Option<String>) -> St {
        self.ends_by_statement = true;
        St::End(self.ending(kind, why))
    }

    fn args(&mut self, name: &Name, params: &[ast::Param], args: &[A]) -> Vec<Expr> {
        if params.len() != args.len() {
            let message = format!("`{}` takes {} values, {} are given", name.text, params.len(), args.len());
            self.error("M024", name.span, message);
        }
        args.iter()
            .zip(params)
            .map(|(a, p)| {
                let e = self.expr(a);
                if matches!(&p.ty.kind, ast::TypeKind::Named(n) if n == "place") {
                    return self.coerce(e, Ty::Place);
                }
                match self.dom(&p.ty) {
                    Some(dom) => {
                        let e = self.coerce(e, dom.scalar().ty());
                        within(e, &dom)
                    }
                    None => e,
                }
            })
            .collect()
    }

    fn target(&mut self, e: &A) -> Option<(Target, Ty)> {
        match &e.kind {
            K::Name(n) => {
                if let Some(l) = self.local(n) {
                    let def = &self.scope.locals[l];
                    let (ty, span) = (def.ty, def.span);
                    if !def.mutable {
                        let file = self.file;
                        let error = self.error("M025", e.span, format!("`{n}` cannot be changed"));
                        error.labels.push(crate::diag::Label { file, span, text: "declared here".into() });
                        error.notes.push("declare it with `var` to change it".into());
                        return None;
                    }
                    return Some((Target::Local(l), ty));
                }
                match self.globals.get(n) {
                    Some(&(Global::Var(v), _)) if self.vars[v].state => {
                        if self.place == Place::Fn {
                            self.error("M026", e.span, "a function changes nothing");
                            return None;
                        }
                        Some((Target::Var(v), self.vars[v].ty()))
                    }
                    Some(&(Global::Var(_), _)) => {
                        self.error(
                            "M025",
                            e.span,
                            format!("`{n}` belongs to the level and cannot be changed"),
                        )
                        .notes
                        .push("declare it as `state` to change it".into());
                        None
                    }
                    Some(&(Global::Const(usize::MAX), _)) => None,
                    Some((other, _)) => {
                        let message = format!("`{n}` is {} and cannot be changed", other.what());
                        self.error("M025", e.span, message);
                        None
                    }
                    None => {
                        self.unknown(&Name { text: n.clone(), span: e.span }, "variable");
                        None
                    }
                }
            }
            K::Field(base, field) if field.text == "last" || field.text == "first" => {
                let (list, elem, bag) = self.list_target(base)?;
                if bag {
                    self.error("M051", field.span, "the things in a bag have no order");
                    return None;
                }
                let spot = if field.text == "last" { Spot::Last } else { Spot::First };
                Some((Target::Entry(list, spot), elem.ty()))
            }
            K::Index(block, index) => {
                let (target, ty) = self.target(block)?;
                let index = self.expr(index);
                let (elem, index) = match ty {
                    Ty::Set => (Ty::Bool, self.cell_index(index)),
                    Ty::Grid(s) => (s.ty(), self.cell_index(index)),
                    Ty::Array(k, s) => (s.ty(), self.key_index(k, index)),
                    Ty::Lists(k, s, bag) => (Ty::List(s, bag), self.key_index(k, index)),
                    Ty::List(s, false) => {
                        let index = self.coerce(index, Ty::Int);
                        let list = match target {
                            Target::Local(l) => ListRef::Local(l),
                            Target::Var(v) => ListRef::Var(v),
                            Target::VarAt(v, i) => ListRef::VarAt(v, i),
                            _ => return None,
                        };
                        return Some((Target::Entry(list, Spot::At(index)), s.ty()));
                    }
                    Ty::Bad => return None,
                    _ => {
                        let message =
                            format!("only boards, sets and arrays have parts, this is {}", self.tn(ty));
                        self.error("M027", block.span, message);
                        return None;
                    }
                };
                match target {
                    Target::Var(v) => Some((Target::VarAt(v, index), elem)),
                    Target::Local(l) => Some((Target::LocalAt(l, index), elem)),
                    _ => None,
                }
            }
            K::Field(base, _) if matches!(&base.kind, K::Name(n) if n == "before" || n == "start") => {
                self.error("M025", e.span, "the past cannot be changed");
                None
            }
            _ => {
                self.error("M025", e.span, "this cannot be assigned to");
                None
            }
        }
    }

    /// The number of a key, from 0.
    fn key_index(&mut self, key: Keyed, index: Expr) -> Expr {
        let span = index.span;
        let make = |kind| Expr { kind, ty: Ty::Int, span };
        let (lo, hi) = match key {
            Keyed::Enum(e) => return self.coerce(index, Ty::Enum(e)),
            Keyed::Row => (make(Ek::Const(1)), make(Ek::Builtin(Builtin::Rows, vec![]))),
            Keyed::Column => (make(Ek::Const(1)), make(Ek::Builtin(Builtin::Cols, vec![]))),
            Keyed::Range(r) => self.ranges[r].clone(),
        };
        let index = self.coerce(index, Ty::Int);
        if index.ty == Ty::Bad {
            return index;
        }
        let inside = make(Ek::Within(Box::new(index), Dom::Range(Box::new(lo.clone()), Box::new(hi))));
        make(Ek::Arith(Arith::Sub, Box::new(inside), Box::new(lo)))
    }

    fn cell_index(&mut self, index: Expr) -> Expr {
        if index.ty == Ty::Place {
            self.error("M028", index.span, "this place may be off the board").notes.push(
                "test it first, as in `refuse \"the edge\" unless p on board`, or read with `outside`".into(),
            );
            return self.bad(index.span);
        }
        self.coerce(index, Ty::Cell)
    }

    fn local(&self, name: &str) -> Option<usize> {
        self.scope.visible.iter().rev().copied().find(|&l| self.scope.locals[l].name == name)
    }

    // ---- expressions ----

    fn coerce(&mut self, e: Expr, want: Ty) -> Expr {
        if e.ty == want || e.ty == Ty::Bad || want == Ty::Bad {
            return e;
        }
        let span = e.span;
        match (e.ty, want) {
            (Ty::Cell, Ty::Place) => Expr { kind: Ek::ToPlace(Box::new(e)), ty: Ty::Place, span },
            (Ty::Dir, Ty::Offset) => Expr { kind: Ek::DirOffset(Box::new(e)), ty: Ty::Offset, span },
            (Ty::Grid(Scalar::Bool), Ty::Set) | (Ty::Set, Ty::Grid(Scalar::Bool)) => Expr { ty: want, ..e },
            (Ty::Nothing, Ty::Maybe(_)) => Expr { ty: want, ..e },
            (have, Ty::Maybe(b)) if have == b.scalar().ty() => Expr { ty: want, ..e },
            (Ty::Maybe(b), have) if have == b.scalar().ty() => {
                let message = format!("this may be `none`, and {} is wanted", self.tn(want));
                self.error("M055", span, message)
                    .notes
                    .push("test it first, then write `given(x)`: `if x != none { ... given(x) ... }`".into());
                self.bad(span)
            }
            (Ty::Place, Ty::Cell) => {
                self.error("M028", span, "this place may be off the board").notes.push(
                    "test it first: `if p on board { ... }` or `refuse \"...\" unless p on board`".into(),
                );
                self.bad(span)
            }
            _ => {
                let message = format!("expected {}, this is {}", self.tn(want), self.tn(e.ty));
                self.error("M020", span, message);
                self.bad(span)
            }
        }
    }

    fn binder(&mut self, b: &ast::Binder) -> (usize, Range, Option<Expr>) {
        let (over, ty) = self.range(b);
        let local = self.bind(&b.name, ty, false, None);
        let filter = b.filter.as_ref().map(|e| {
            let e = self.expr(e);
            let e = self.coerce(e, Ty::Bool);
            self.note_facts(&e, true);
            e
        });
        (local, over, filter)
    }

    fn range(&mut self, b: &ast::Binder) -> (Range, Ty) {
        if let Some(upto) = &b.upto {
            let lo = self.expr(&b.over);
            let hi = self.expr(upto);
            let (lo, hi) = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
            return (Range::Ints(lo, hi), Ty::Int);
        }
        if b.on {
            self.board_name(&b.over);
            return (Range::Board, Ty::Cell);
        }
        if let K::Name(n) = &b.over.kind
            && self.local(n).is_none()
        {
            match (n.as_str(), self.globals.get(n)) {
                ("dir4", _) => return (Range::Dirs(4), Ty::Dir),
                ("dir8", _) => return (Range::Dirs(8), Ty::Dir),
                ("board", _) => return (Range::Board, Ty::Cell),
                ("rows" | "columns", _) => {
                    let dir = if n == "rows" { 3 } else { 0 };
                    let dir = Expr { kind: Ek::Const(dir), ty: Ty::Dir, span: b.over.span };
                    return (Range::Lanes(dir), Ty::Lane);
                }
                (_, Some(&(Global::Enum(e), _))) => return (Range::Enum(e), Ty::Enum(e)),
                _ => {}
            }
        }
        if let K::Call(name, args) = &b.over.kind {
            match name.text.as_str() {
                "around4" | "around8" | "around" => {
                    let Some(first) = args.first() else {
                        self.error("M024", name.span, format!("`{}` wants a cell", name.text));
                        return (Range::Board, Ty::Bad);
                    };
                    let cell = self.expr(first);
                    let cell = self.coerce(cell, Ty::Place);
                    let offsets = self.offsets(name, &args[1..]);
                    return (Range::Around(cell, offsets), Ty::Cell);
                }
                "offsets" => {
                    let list = args
                        .iter()
                        .map(|a| {
                            let e = self.expr(a);
                            self.coerce(e, Ty::Offset)
                        })
                        .collect();
                    return (Range::Offsets(list), Ty::Offset);
                }
                "cells" if args.len() == 1 => {
                    let p = self.expr(&args[0]);
                    if !matches!(p.ty, Ty::Placed(_) | Ty::Bad) {
                        let message = format!("`cells` wants a placed shape, this is {}", self.tn(p.ty));
                        self.error("M020", p.span, message);
                    }
                    if !matches!(p.ty, Ty::Placed(_)) {
                        return (Range::Board, Ty::Bad);
                    }
                    return (Range::Covered(p), Ty::Place);
                }
                "lanes" => {
                    // `lanes(tile, d)` names the board too; there is one.
                    let dir = match args.as_slice() {
                        [d] => d,
                        [g, d] => {
                            self.board_name(g);
                            d
                        }
                        _ => {
                            self.error(
                                "M024",
                                name.span,
                                "`lanes` wants a direction, as in `lanes(tile, left)`",
                            );
                            return (Range::Board, Ty::Bad);
                        }
                    };
                    let dir = self.expr(dir);
                    let dir = self.coerce(dir, Ty::Dir);
                    return (Range::Lanes(dir), Ty::Lane);
                }
                _ => {}
            }
        }
        let over = self.expr(&b.over);
        match over.ty {
            Ty::Set | Ty::Grid(Scalar::Bool) => (Range::Cells(over), Ty::Cell),
            Ty::Lane => (Range::Lane(over), Ty::Cell),
            Ty::List(s, _) => (Range::List(over), s.ty()),
            Ty::Bad => (Range::Board, Ty::Bad),
            ty => {
                let message = format!("cannot run over {}", self.tn(ty));
                let error = self.error("M029", over.span, message);
                error.notes.push(
                    "run over `c on GRID`, a set of cells, a lane, `dir4`, an enum, `around4(c)` or `1..n`"
                        .into(),
                );
                (Range::Board, Ty::Bad)
            }
        }
    }

    fn offsets(&mut self, name: &Name, args: &[A]) -> Vec<Expr> {
        let count = match name.text.as_str() {
            "around4" => 4,
            "around8" => 8,
            _ => {
                if args.is_empty() {
                    self.error("M024", name.span, "`around` wants offsets, as in `around(c, up, 2 * left)`");
                }
                return args
                    .iter()
                    .map(|a| {
                        let e = self.expr(a);
                        self.coerce(e, Ty::Offset)
                    })
                    .collect();
            }
        };
        if let Some(extra) = args.first() {
            let message = format!("`{}` takes one cell; `around` takes offsets too", name.text);
            self.error("M024", extra.span, message);
        }
        (0..count)
            .map(|d| {
                let dir = Expr { kind: Ek::Const(d), ty: Ty::Dir, span: name.span };
                Expr { kind: Ek::DirOffset(Box::new(dir)), ty: Ty::Offset, span: name.span }
            })
            .collect()
    }

    /// `on` is followed by a grid, a set, or the word `board`.
    fn board_name(&mut self, e: &A) {
        match &e.kind {
            K::Name(n) if n == "board" => {}
            K::Name(n) => match self.globals.get(n) {
                Some(&(Global::Var(v), _)) if matches!(self.vars[v].shape, Shape::Grid | Shape::Set) => {}
                Some(&(Global::Const(usize::MAX), _)) => {}
                Some(_) => {
                    self.error("M030", e.span, format!("`{n}` is no grid"))
                        .notes
                        .push("after `on` stands a grid or the word `board`".into());
                }
                None => self.unknown(&Name { text: n.clone(), span: e.span }, "grid"),
            },
            _ => {
                self.error("M030", e.span, "after `on` stands a grid or the word `board`");
            }
        }
    }

    fn expr(&mut self, e: &A) -> Expr {
        let span = e.span;
        let make = |kind, ty| Expr { kind, ty, span };
        match &e.kind {
            K::Int(n) => make(Ek::Const(*n), Ty::Int),
            K::Bool(b) => make(Ek::Const(i64::from(*b)), Ty::Bool),
            K::Name(n) => self.name(n, span),
            K::Board(_) => {
                self.error("M031", span, "a text board stands only in examples and level files");
                self.bad(span)
            }
            K::Field(base, field) => self.field(base, field, span),
            K::Index(block, index) => {
                let block = self.expr(block);
                let index = self.expr(index);
                self.index(block, index, span)
            }
            K::Outside(index, value) => {
                let K::Index(block, at) = &index.kind else { return self.bad(span) };
                let block = self.expr(block);
                let at = self.expr(at);
                let elem = match block.ty {
                    Ty::Set => Ty::Bool,
                    Ty::Grid(s) => s.ty(),
                    Ty::Bad => return self.bad(span),
                    _ => {
                        self.error("M027", block.span, "`outside` is for grids and sets of cells");
                        return self.bad(span);
                    }
                };
                let at = self.coerce(at, Ty::Place);
                let value = self.expr(value);
                let value = self.coerce(value, elem);
                make(Ek::IndexOutside(Box::new(block), Box::new(at), Box::new(value)), elem)
            }
            K::Not(a) => {
                let a = self.expr(a);
                let a = self.coerce(a, Ty::Bool);
                make(Ek::Not(Box::new(a)), Ty::Bool)
            }
            K::Neg(a) => {
                let a = self.expr(a);
                match a.ty {
                    Ty::Dir | Ty::Offset => {
                        let a = self.coerce(a, Ty::Offset);
                        let zero = make(Ek::Const(0), Ty::Offset);
                        make(Ek::OffAdd(Box::new(zero), Box::new(a), true), Ty::Offset)
                    }
                    _ => {
                        let a = self.coerce(a, Ty::Int);
                        if let Ek::Const(n) = a.kind {
                            return make(Ek::Const(-n), a.ty);
                        }
                        make(Ek::Neg(Box::new(a)), Ty::Int)
                    }
                }
            }
            K::Cond(cond, a, b) => {
                let cond = self.expr(cond);
                let cond = self.coerce(cond, Ty::Bool);
                let a = self.nested(|c| {
                    c.note_facts(&cond, true);
                    c.expr(a)
                });
                let b = self.nested(|c| {
                    c.note_facts(&cond, false);
                    c.expr(b)
                });
                let ty = match (a.ty, b.ty) {
                    (Ty::Nothing, Ty::Maybe(_)) => b.ty,
                    (Ty::Nothing, t) | (t, Ty::Nothing) => {
                        t.scalar().and_then(Scalar::base).map_or(t, Ty::Maybe)
                    }
                    (Ty::Cell, Ty::Place) | (Ty::Place, Ty::Cell) => Ty::Place,
                    (Ty::Dir, Ty::Offset) | (Ty::Offset, Ty::Dir) => Ty::Offset,
                    (Ty::Bad, t) => t,
                    (t, _) => t,
                };
                if ty.is_block() {
                    self.error("M014", span, "`if ... then ... else ...` chooses between single values");
                    return self.bad(span);
                }
                let (a, b) = (self.coerce(a, ty), self.coerce(b, ty));
                make(Ek::Cond(Box::new(cond), Box::new(a), Box::new(b)), ty)
            }
            K::Bin(op, a, b) => self.binary(*op, a, b, span),
            K::Call(name, args) => self.call(name, args, span),
            K::Method(_, name, _) => {
                self.error("M051", name.span, "this is a statement, not a value");
                self.bad(span)
            }
            K::Empty => self.bad(span),
            K::Record(name, parts) => self.record(name, parts, span),
            K::Can(name, args) => {
                let of = self.asked(name, args, span);
                match of {
                    Some(of) => make(Ek::Can(of), Ty::Bool),
                    None => self.bad(span),
                }
            }
            K::Leads(every, name, args, cond) => {
                let of = self.asked(name, args, span);
                let cond = self.expr(cond);
                let cond = self.coerce(cond, Ty::Bool);
                match of {
                    Some(of) => make(Ek::Leads(*every, of, Box::new(cond)), Ty::Bool),
                    None => self.bad(span),
                }
            }
            K::Quant { kind, binder, body } => self.quant(*kind, binder, body.as_deref(), span),
            K::Flood { name, from, by, by_name, cond, rim } => {
                let from = self.expr(from);
                let from = self.coerce(from, Ty::Cell);
                let by_name = by_name.clone().unwrap_or(Name { text: "around4".into(), span });
                let by = match by_name.text.as_str() {
                    "around4" | "around8" | "around" => self.offsets(&by_name, by),
                    other => {
                        self.error("M032", by_name.span, format!("`{other}` is no neighbourhood"))
                            .notes
                            .push("use `around4`, `around8`, or `around(up, left, ...)`".into());
                        vec![]
                    }
                };
                self.nested(|c| {
                    let local = c.bind(name, Ty::Cell, false, None);
                    let cond = c.expr(cond);
                    let cond = c.coerce(cond, Ty::Bool);
                    make(Ek::Flood(Box::new(Flood { local, from, by, cond, rim: *rim })), Ty::Set)
                })
            }
        }
    }

    /// The move of a question; `Some(None)` for any.
    #[allow(clippy::option_option)]
    fn asked(&mut self, name: &Name, args: &[A], span: Span) -> Option<Option<(usize, Vec<Expr>)>> {
        if !matches!(self.place, Place::Question | Place::Setup) {
            self.error("M056", span, "whether a move is allowed is no part of the rules")
                .notes
                .push("questions like this stand in `find`, and in the `require` of a setup".into());
            return None;
        }
        if name.text == "any" {
            return Some(None);
        }
        let Some(&(Global::Move(m), _)) = self.globals.get(&name.text) else {
            self.unknown(name, "move");
            return None;
        };
        let params = self.move_asts[m].1.clone();
        let args = self.args(name, &params, args);
        (args.len() == params.len()).then_some(Some((m, args)))
    }

    fn record(&mut self, name: &Name, parts: &[(Name, A)], span: Span) -> Expr {
        let Some(&(Global::Record(r), _)) = self.globals.get(&name.text) else {
            self.unknown(name, "record");
            return self.bad(span);
        };
        let def = self.records[r].clone();
        let mut out: Vec<Option<Expr>> = vec![None; def.parts.len()];
        for (part, value) in parts {
            let value = self.expr(value);
            match def.parts.iter().position(|(n, _)| *n == part.text) {
                Some(i) => {
                    let dom = &def.parts[i].1;
                    let value = self.coerce(value, dom.scalar().ty());
                    if value.ty == Ty::Bad {
                        return self.bad(span);
                    }
                    if out[i].replace(within(value, dom)).is_some() {
                        self.error("M057", part.span, format!("`{}` is given twice", part.text));
                    }
                }
                None if self.lost.contains(&part.text) => return self.bad(span),
                None => {
                    let message = format!("`{}` has no part `{}`", def.name, part.text);
                    let near = near(&part.text, def.parts.iter().map(|p| p.0.as_str())).map(str::to_string);
                    let error = self.error("M057", part.span, message);
                    if let Some(n) = near {
                        error.notes.push(format!("did you mean `{n}`?"));
                    }
                    return self.bad(span);
                }
            }
        }
        if let Some(i) = out.iter().position(Option::is_none) {
            self.error("M057", span, format!("`{}` is missing", def.parts[i].0));
            return self.bad(span);
        }
        let parts = out.into_iter().flatten().collect();
        Expr { kind: Ek::MakeRecord(r, parts), ty: Ty::Record(r), span }
    }

    fn name(&mut self, n: &str, span: Span) -> Expr {
        let make = |kind, ty| Expr { kind, ty, span };
        match n {
            "none" => return make(Ek::Const(NONE), Ty::Nothing),
            "stay" if !self.globals.contains_key(n) && self.local(n).is_none() => {
                return make(Ek::Const(0), Ty::Offset);
            }
            _ => {}
        }
        if self.place == Place::Question
            && !self.globals.contains_key(n)
            && self.local(n).is_none()
            && let Some((_, asked)) = ASKED.iter().find(|a| a.0 == n)
        {
            let ty = if *asked == Asked::Depth { Ty::Int } else { Ty::Bool };
            return make(Ek::Asked(*asked), ty);
        }
        if let Some(l) = self.local(n) {
            let ty = self.scope.locals[l].ty;
            let local = make(Ek::Local(l), ty);
            if ty == Ty::Place && self.scope.on_board.contains(&l) {
                return make(Ek::ToCell(Box::new(local)), Ty::Cell);
            }
            return local;
        }
        if matches!(self.globals.get(n), Some((Global::Const(usize::MAX), _))) {
            return self.bad(span);
        }
        if let Some(d) = DIRS.iter().position(|d| *d == n) {
            return make(Ek::Const(d as i64), Ty::Dir);
        }
        match self.globals.get(n).copied() {
            Some((Global::Var(v), declared)) => {
                let def = &self.vars[v];
                let (ty, state) = (def.ty(), def.state);
                if state && matches!(self.place, Place::Const | Place::Level) || self.place == Place::Const {
                    let file = self.file;
                    let what = if self.place == Place::Const { "a constant" } else { "the level alone" };
                    self.error("M033", span, format!("`{n}` is not known here: {what} decides this"))
                        .labels
                        .push(crate::diag::Label { file, span: declared, text: "declared here".into() });
                    return self.bad(span);
                }
                make(Ek::Var(When::Now, v), ty)
            }
            Some((Global::Const(usize::MAX), _)) => self.bad(span),
            Some((Global::Const(i), _)) => Expr { span, ..self.const_value(i) },
            Some((Global::EnumValue(e, i), _)) => {
                let homes: Vec<&str> = self
                    .enums
                    .iter()
                    .filter(|d| d.values.iter().any(|v| v == n))
                    .map(|d| d.name.as_str())
                    .collect();
                if homes.len() > 1 {
                    let note = format!("write `{}.{n}` or `{}.{n}`", homes[0], homes[1]);
                    self.error("M034", span, format!("`{n}` is a value of two enums")).notes.push(note);
                    return self.bad(span);
                }
                make(Ek::Const(i as i64), Ty::Enum(e))
            }
            Some((Global::Tally(_), declared)) => {
                let file = self.file;
                let error = self.error("M035", span, format!("the tally `{n}` cannot be read by a rule"));
                error.labels.push(crate::diag::Label { file, span: declared, text: "declared here".into() });
                error
                    .notes
                    .push("a tally is no part of the state; make it a `state` variable to use it".into());
                self.bad(span)
            }
            Some((Global::Fn(_), _)) => {
                self.error("M023", span, format!("`{n}` is a function"))
                    .notes
                    .push(format!("call it: `{n}()`"));
                self.bad(span)
            }
            Some((other, _)) => {
                self.error("M023", span, format!("`{n}` is {}, not a value", other.what()));
                self.bad(span)
            }
            None => {
                if let Some((r, c)) = cell_name(n) {
                    let part = |n: i64| make(Ek::Const(n), Ty::Int);
                    let place = make(Ek::Builtin(Builtin::PlaceAt, vec![part(r), part(c)]), Ty::Place);
                    return make(Ek::ToCell(Box::new(place)), Ty::Cell);
                }
                self.unknown(&Name { text: n.to_string(), span }, "value");
                self.bad(span)
            }
        }
    }

    fn field(&mut self, base: &A, field: &Name, span: Span) -> Expr {
        if let K::Name(n) = &base.kind {
            let when = match n.as_str() {
                "before" => Some(When::Before),
                "start" => Some(When::Start),
                _ => None,
            };
            if let Some(when) = when {
                if when == When::Before
                    && !matches!(self.place, Place::Move | Place::Proc | Place::After | Place::Tick)
                {
                    self.error("M036", span, "`before` is known only while a move is made");
                    return self.bad(span);
                }
                let Some(&(Global::Var(v), _)) = self.globals.get(&field.text) else {
                    self.unknown(field, "state variable");
                    return self.bad(span);
                };
                let ty = self.vars[v].ty();
                if !self.vars[v].state {
                    self.error(
                        "M036",
                        span,
                        format!("`{}` belongs to the level and never changes", field.text),
                    );
                    return self.bad(span);
                }
                if when == When::Start && self.has_setup {
                    // Each drawn start is a start of its own: what it was is part of the state.
                    let shadow = self.shadow(v);
                    return Expr { kind: Ek::Var(When::Now, shadow), ty, span };
                }
                return Expr { kind: Ek::Var(when, v), ty, span };
            }
            if let Some(&(Global::Enum(e), _)) = self.globals.get(n) {
                return match self.enums[e].values.iter().position(|v| *v == field.text) {
                    Some(i) => Expr { kind: Ek::Const(i as i64), ty: Ty::Enum(e), span },
                    None => {
                        let values = self.enums[e].values.join(", ");
                        self.error("M010", field.span, format!("`{n}` has no value `{}`", field.text))
                            .notes
                            .push(format!("its values are: {values}"));
                        self.bad(span)
                    }
                };
            }
        }
        let base = self.expr(base);
        let ty = base.ty;
        match ty {
            Ty::Bad => return self.bad(span),
            Ty::List(s, false) if field.text == "last" || field.text == "first" => {
                let kind = Ek::End(Box::new(base), field.text == "last");
                return Expr { kind, ty: s.ty(), span };
            }
            Ty::Record(r) => {
                let parts = &self.records[r].parts;
                if let Some(i) = parts.iter().position(|(n, _)| *n == field.text) {
                    let ty = parts[i].1.scalar().ty();
                    return Expr { kind: Ek::Part(Box::new(base), r, i), ty, span };
                }
                if self.lost.contains(&field.text) {
                    return self.bad(span);
                }
                let list = parts.iter().map(|p| p.0.as_str()).collect::<Vec<_>>().join(", ");
                let message = format!("`{}` has no part `{}`", self.records[r].name, field.text);
                self.error("M057", field.span, message).notes.push(format!("its parts are: {list}"));
                return self.bad(span);
            }
            _ => {}
        }
        let message = format!("{} has no part `{}`", self.tn(ty), field.text);
        self.error("M037", field.span, message).notes.push(
            "with a dot are written: `before.x`, `start.x`, `ENUM.value`, `list.last`, `list.first`, parts of records"
                .into(),
        );
        self.bad(span)
    }

    fn index(&mut self, block: Expr, index: Expr, span: Span) -> Expr {
        let elem = match block.ty {
            Ty::Set => Ty::Bool,
            Ty::Grid(s) => s.ty(),
            Ty::Array(e, s) => {
                let index = self.key_index(e, index);
                return Expr { kind: Ek::Index(Box::new(block), Box::new(index)), ty: s.ty(), span };
            }
            Ty::Lists(e, s, bag) => {
                let index = self.key_index(e, index);
                return Expr {
                    kind: Ek::Index(Box::new(block), Box::new(index)),
                    ty: Ty::List(s, bag),
                    span,
                };
            }
            Ty::List(s, false) => {
                let index = self.coerce(index, Ty::Int);
                return Expr { kind: Ek::Entry(Box::new(block), Box::new(index)), ty: s.ty(), span };
            }
            Ty::Bad => return self.bad(span),
            ty => {
                let message = format!("only boards, sets and arrays have parts, this is {}", self.tn(ty));
                self.error("M027", block.span, message);
                return self.bad(span);
            }
        };
        if index.ty == Ty::Place
            && let Ek::Var(_, v) = block.kind
            && let Some(outside) = self.vars[v].outside.clone()
        {
            let kind = Ek::IndexOutside(Box::new(block), Box::new(index), Box::new(outside));
            return Expr { kind, ty: elem, span };
        }
        let index = self.cell_index(index);
        Expr { kind: Ek::Index(Box::new(block), Box::new(index)), ty: elem, span }
    }

    fn binary(&mut self, op: BinOp, a: &A, b: &A, span: Span) -> Expr {
        let make = |kind, ty| Expr { kind, ty, span };
        match op {
            BinOp::And | BinOp::Or => {
                let a = self.expr(a);
                let a = self.coerce(a, Ty::Bool);
                let b = self.nested(|c| {
                    c.note_facts(&a, op == BinOp::And);
                    let b = c.expr(b);
                    c.coerce(b, Ty::Bool)
                });
                let (a, b) = (Box::new(a), Box::new(b));
                return make(if op == BinOp::And { Ek::And(a, b) } else { Ek::Or(a, b) }, Ty::Bool);
            }
            BinOp::On => {
                let p = self.expr(a);
                self.board_name(b);
                let p = match &p.kind {
                    // A place already known to be a cell is tested again as a place.
                    Ek::ToCell(inner) => (**inner).clone(),
                    _ => self.coerce(p, Ty::Place),
                };
                return make(Ek::OnBoard(Box::new(p)), Ty::Bool);
            }
            BinOp::In => {
                let c = self.expr(a);
                let set = self.expr(b);
                if let Ty::List(s, _) = set.ty {
                    let c = self.coerce(c, s.ty());
                    return make(Ek::InList(Box::new(c), Box::new(set)), Ty::Bool);
                }
                let set = self.coerce(set, Ty::Set);
                if set.ty == Ty::Bad {
                    return self.bad(span);
                }
                if c.ty == Ty::Place {
                    // A place off the board is in no set.
                    let no = make(Ek::Const(0), Ty::Bool);
                    return make(Ek::IndexOutside(Box::new(set), Box::new(c), Box::new(no)), Ty::Bool);
                }
                let c = self.coerce(c, Ty::Cell);
                return make(Ek::Index(Box::new(set), Box::new(c)), Ty::Bool);
            }
            _ => {}
        }
        let a = self.expr(a);
        let b = self.expr(b);
        if a.ty == Ty::Bad || b.ty == Ty::Bad {
            let ty = match op {
                BinOp::Eq | BinOp::Ne | BinOp::Lt | BinOp::Le | BinOp::Gt | BinOp::Ge => Ty::Bool,
                _ => Ty::Bad,
            };
            return Expr { kind: Ek::Const(0), ty, span };
        }
        match op {
            BinOp::Add | BinOp::Sub => {
                let minus = op == BinOp::Sub;
                match (a.ty, b.ty) {
                    (Ty::Cell | Ty::Place, Ty::Dir | Ty::Offset) => {
                        let (a, b) = (self.coerce(a, Ty::Place), self.coerce(b, Ty::Offset));
                        return make(Ek::Shift(Box::new(a), Box::new(b), minus), Ty::Place);
                    }
                    (Ty::Dir | Ty::Offset, Ty::Dir | Ty::Offset) => {
                        let (a, b) = (self.coerce(a, Ty::Offset), self.coerce(b, Ty::Offset));
                        return make(Ek::OffAdd(Box::new(a), Box::new(b), minus), Ty::Offset);
                    }
                    (Ty::Placed(_), Ty::Dir | Ty::Offset) => {
                        let (ty, b) = (a.ty, self.coerce(b, Ty::Offset));
                        return make(Ek::MoveShape(Box::new(a), Box::new(b), minus), ty);
                    }
                    (Ty::Set | Ty::Grid(Scalar::Bool), Ty::Set | Ty::Grid(Scalar::Bool)) => {
                        let (a, b) = (Box::new(self.coerce(a, Ty::Set)), Box::new(self.coerce(b, Ty::Set)));
                        return make(if minus { Ek::Minus(a, b) } else { Ek::Union(a, b) }, Ty::Set);
                    }
                    _ => {}
                }
            }
            BinOp::Mul => match (a.ty, b.ty) {
                (Ty::Int, Ty::Dir | Ty::Offset) => {
                    let b = self.coerce(b, Ty::Offset);
                    return make(Ek::OffMul(Box::new(b), Box::new(a)), Ty::Offset);
                }
                (Ty::Dir | Ty::Offset, Ty::Int) => {
                    let a = self.coerce(a, Ty::Offset);
                    return make(Ek::OffMul(Box::new(a), Box::new(b)), Ty::Offset);
                }
                _ => {}
            },
            BinOp::Eq | BinOp::Ne => {
                let negate = op == BinOp::Ne;
                if a.ty.is_block() {
                    let b = self.coerce(b, a.ty);
                    return make(Ek::SameBlock(Box::new(a), Box::new(b), negate), Ty::Bool);
                }
                let ty = match (a.ty, b.ty) {
                    (Ty::Cell | Ty::Place, Ty::Cell | Ty::Place) if a.ty != b.ty => Ty::Place,
                    (Ty::Dir | Ty::Offset, Ty::Dir | Ty::Offset) if a.ty != b.ty => Ty::Offset,
                    (_, Ty::Maybe(_)) => b.ty,
                    _ => a.ty,
                };
                let (a, b) = (self.coerce(a, ty), self.coerce(b, ty));
                let cmp = if negate { Cmp::Ne } else { Cmp::Eq };
                return make(Ek::Cmp(cmp, Box::new(a), Box::new(b)), Ty::Bool);
            }
            _ => {}
        }
        let word = match op {
            BinOp::Add => "+",
            BinOp::Sub => "-",
            BinOp::Mul => "*",
            BinOp::Div => "/",
            BinOp::Mod => "mod",
            BinOp::Pow => "**",
            _ => "compare",
        };
        if a.ty != Ty::Int || b.ty != Ty::Int {
            let message = if word == "compare" {
                format!("numbers are compared; this is {} and {}", self.tn(a.ty), self.tn(b.ty))
            } else {
                format!("`{word}` does not join {} and {}", self.tn(a.ty), self.tn(b.ty))
            };
            self.error("M020", span, message);
            return self.bad(span);
        }
        let (a, b) = (Box::new(a), Box::new(b));
        match op {
            BinOp::Lt => make(Ek::Cmp(Cmp::Lt, a, b), Ty::Bool),
            BinOp::Le => make(Ek::Cmp(Cmp::Le, a, b), Ty::Bool),
            BinOp::Gt => make(Ek::Cmp(Cmp::Lt, b, a), Ty::Bool),
            BinOp::Ge => make(Ek::Cmp(Cmp::Le, b, a), Ty::Bool),
            BinOp::Add => make(Ek::Arith(Arith::Add, a, b), Ty::Int),
            BinOp::Sub => make(Ek::Arith(Arith::Sub, a, b), Ty::Int),
            BinOp::Mul => make(Ek::Arith(Arith::Mul, a, b), Ty::Int),
            BinOp::Div => make(Ek::Arith(Arith::Div, a, b), Ty::Int),
            BinOp::Mod => make(Ek::Arith(Arith::Mod, a, b), Ty::Int),
            _ => make(Ek::Arith(Arith::Pow, a, b), Ty::Int),
        }
    }

    fn call(&mut self, name: &Name, args: &[A], span: Span) -> Expr {
        let make = |kind, ty| Expr { kind, ty, span };
        if let Some(&(Global::Fn(f), _)) = self.globals.get(&name.text) {
            if self.place == Place::Const || self.place == Place::Level {
                self.error("M033", span, "a function cannot be called here: the level alone decides this");
                return self.bad(span);
            }
            let Some(ty) = self.function(f, Some(name.span)) else { return self.bad(span) };
            let params = self.fn_asts[f].1.clone();
            let args = self.args(name, &params, args);
            return make(Ek::Call(f, args), ty);
        }
        if matches!(name.text.as_str(), "min" | "max") {
            let op = if name.text == "min" { Arith::Min } else { Arith::Max };
            let mut list = args.iter().map(|a| {
                let e = self.expr(a);
                self.coerce(e, Ty::Int)
            });
            let Some(mut first) = list.next() else {
                drop(list);
                self.error("M024", name.span, format!("`{}` wants at least one number", name.text));
                return self.bad(span);
            };
            for next in list {
                first = make(Ek::Arith(op, Box::new(first), Box::new(next)), Ty::Int);
            }
            return first;
        }
        if name.text == "both" && args.len() == 2 {
            let a = self.expr(&args[0]);
            let b = self.expr(&args[1]);
            let (a, b) = (self.coerce(a, Ty::Set), self.coerce(b, Ty::Set));
            return make(Ek::Both(Box::new(a), Box::new(b)), Ty::Set);
        }
        if let Some(e) = self.special_call(name, args, span) {
            return e;
        }
        let (builtin, wants, ty): (Builtin, &[Ty], Ty) = match name.text.as_str() {
            "row" => (Builtin::Row, &[Ty::Place], Ty::Int),
            "col" => (Builtin::Col, &[Ty::Place], Ty::Int),
            "abs" => (Builtin::Abs, &[Ty::Int], Ty::Int),
            "opposite" => (Builtin::Opposite, &[Ty::Dir], Ty::Dir),
            "turned" => (Builtin::Turned, &[Ty::Dir], Ty::Dir),
            "parity" => (Builtin::Parity, &[Ty::Bad], Ty::Int),
            "distinct" => (Builtin::Distinct, &[Ty::Bad], Ty::Bool),
            "len" => (Builtin::Len, &[Ty::Lane], Ty::Int),
            "rows" => (Builtin::Rows, &[], Ty::Int),
            "cols" => (Builtin::Cols, &[], Ty::Int),
            "place" => (Builtin::PlaceAt, &[Ty::Int, Ty::Int], Ty::Place),
            "around4" | "around8" | "around" | "lanes" | "offsets" | "cells" => {
                self.error("M038", name.span, format!("`{}` is only run over", name.text))
                    .notes
                    .push(format!("as in `for n in {}(...)` or `count(n in {}(...))`", name.text, name.text));
                return self.bad(span);
            }
            _ => {
                match self.globals.get(&name.text) {
                    Some((other, _)) => {
                        let message = format!("`{}` is {}, not a function", name.text, other.what());
                        self.error("M023", name.span, message);
                    }
                    None => self.unknown(name, "function"),
                }
                for a in args {
                    self.expr(a);
                }
                return self.bad(span);
            }
        };
        if args.len() != wants.len() {
            let message = format!("`{}` takes {} values, {} are given", name.text, wants.len(), args.len());
            self.error("M024", name.span, message);
            return self.bad(span);
        }
        let mut out = vec![];
        for (a, &want) in args.iter().zip(wants) {
            let e = self.expr(a);
            let e = self.coerce(e, want);
            if matches!(builtin, Builtin::Parity | Builtin::Distinct)
                && !matches!(e.ty, Ty::Grid(_) | Ty::Bad)
            {
                let message = format!("`{}` wants a grid, this is {}", name.text, self.tn(e.ty));
                self.error("M020", e.span, message);
                return self.bad(span);
            }
            out.push(e);
        }
        make(Ek::Builtin(builtin, out), ty)
    }

    /// Named operations whose meaning depends on what they are given.
    fn special_call(&mut self, name: &Name, args: &[A], span: Span) -> Option<Expr> {
        let make = |kind, ty| Expr { kind, ty, span };
        let word = name.text.as_str();
        if !matches!(word, "len" | "row" | "col" | "turned" | "given" | "kind" | "turn" | "anchor" | "placed")
            || args.is_empty()
        {
            return None;
        }
        let errors = self.errors.len();
        let first = self.expr(&args[0]);
        let builtin = |op, args, ty| Some(Expr { kind: Ek::Builtin(op, args), ty, span });
        match (word, first.ty, args.len()) {
            ("len", Ty::List(..), 1) => return builtin(Builtin::ListLen, vec![first], Ty::Int),
            ("row" | "col", Ty::Lane, 1) => {
                let place = make(Ek::Builtin(Builtin::LaneStart, vec![first]), Ty::Place);
                let op = if word == "row" { Builtin::Row } else { Builtin::Col };
                return builtin(op, vec![place], Ty::Int);
            }
            ("given", Ty::Maybe(b), 1) => return Some(make(Ek::Given(Box::new(first)), b.scalar().ty())),
            ("turned", Ty::Placed(p), 1 | 2) => {
                let by = match args.get(1) {
                    Some(n) => {
                        let n = self.expr(n);
                        self.coerce(n, Ty::Int)
                    }
                    None => make(Ek::Const(1), Ty::Int),
                };
                return builtin(Builtin::TurnShape, vec![first, by], Ty::Placed(p));
            }
            ("kind", Ty::Placed(p), 1) => {
                let kind = self.shapes[p].kind;
                return builtin(Builtin::KindOf, vec![first], Ty::Enum(kind));
            }
            ("turn", Ty::Placed(_), 1) => return builtin(Builtin::TurnOf, vec![first], Ty::Int),
            ("anchor", Ty::Placed(_), 1) => return builtin(Builtin::Anchor, vec![first], Ty::Place),
            ("placed", Ty::Enum(e), 2) => {
                if let Some(p) = self.shapes.iter().position(|s| s.kind == e) {
                    let at = self.expr(&args[1]);
                    let at = self.coerce(at, Ty::Place);
                    return builtin(Builtin::Placed(p), vec![first, at], Ty::Placed(p));
                }
            }
            (_, Ty::Bad, _) => return Some(self.bad(span)),
            _ => {}
        }
        if matches!(word, "given" | "kind" | "turn" | "anchor" | "placed") {
            let wants = match word {
                "given" => "a `maybe`",
                "placed" => "a shape and a place",
                _ => "a placed shape",
            };
            let message = format!("`{word}` wants {wants}, this is {}", self.tn(first.ty));
            self.error("M020", first.span, message);
            return Some(self.bad(span));
        }
        // The usual way checks it again.
        self.errors.truncate(errors);
        None
    }

    fn quant(&mut self, kind: QuantKind, binder: &ast::Binder, body: Option<&A>, span: Span) -> Expr {
        self.nested(|c| {
            let (local, over, filter) = c.binder(binder);
            let elem = c.scope.locals[local].ty;
            let body = body.map(|b| c.expr(b));
            let (body, ty) = match kind {
                QuantKind::Count | QuantKind::The | QuantKind::First | QuantKind::Set => {
                    if let Some(b) = &body {
                        c.error("M039", b.span, "nothing stands after the colon in this form")
                            .notes
                            .push("put the condition after `where`".into());
                    }
                    if kind == QuantKind::Set && !matches!(elem, Ty::Cell | Ty::Bad) {
                        c.error("M039", span, "a set holds cells");
                    }
                    let ty = match kind {
                        QuantKind::Count => Ty::Int,
                        QuantKind::Set => Ty::Set,
                        _ => elem,
                    };
                    (None, ty)
                }
                QuantKind::All | QuantKind::Any => {
                    if body.is_none() && (kind == QuantKind::All || filter.is_none()) {
                        c.error("M039", span, "what is to hold is missing")
                            .notes
                            .push("write it after a colon: `all(c on tile: tile[c] > 0)`".into());
                    }
                    (body.map(|b| c.coerce(b, Ty::Bool)), Ty::Bool)
                }
                QuantKind::List => {
                    let value = body.unwrap_or(Expr { kind: Ek::Local(local), ty: elem, span });
                    let scalar = value.ty.scalar();
                    if scalar.is_none() && value.ty != Ty::Bad {
                        let message = format!("a list holds single values, this is {}", c.tn(value.ty));
                        c.error("M020", value.span, message);
                    }
                    let ty = scalar.map_or(Ty::Bad, |s| Ty::List(s, false));
                    (Some(value), ty)
                }
                QuantKind::Sum | QuantKind::Min | QuantKind::Max => {
                    if body.is_none() {
                        c.error("M039", span, "what is to be added or compared is missing")
                            .notes
                            .push("write it after a colon: `sum(c on tile: tile[c])`".into());
                    }
                    (body.map(|b| c.coerce(b, Ty::Int)), Ty::Int)
                }
            };
            Expr { kind: Ek::Quant(Box::new(Quant { kind, local, over, filter, body })), ty, span }
        })
    }

    // ---- pictures ----

    fn look(&mut self, rule: &ast::LookRule, tells: &[TellDef]) -> Option<LookRule> {
        let name = &rule.target;
        let drawn = |v: &usize| match self.vars[*v].shape {
            Shape::Grid | Shape::Set | Shape::Lists(..) => true,
            Shape::One => matches!(
                self.vars[*v].dom.scalar(),
                Scalar::Cell | Scalar::Placed(_) | Scalar::Maybe(Base::Cell)
            ),
            Shape::Array(_) | Shape::List(_) => false,
        };
        let global = self.globals.get(&name.text).map(|g| g.0);
        let var = match global {
            Some(Global::Var(v)) => Some(v).filter(drawn),
            Some(Global::Const(usize::MAX)) => return None,
            _ => None,
        };
        let tell = tells.iter().position(|t| t.name == name.text);
        let scalar = match (var, tell) {
            (Some(v), _) => self.vars[v].dom.scalar(),
            (None, Some(t)) => tells[t].value.ty.scalar().unwrap_or(Scalar::Int),
            (None, None) if global.is_none() => {
                self.unknown(name, "variable");
                return None;
            }
            (None, None) => {
                self.error("M067", name.span, format!("`{}` stands on no cell of a picture", name.text))
                    .notes
                    .push(
                        "grids, sets, cells, placed shapes, arrays of lists, and what is told can be drawn"
                            .into(),
                    );
                return None;
            }
        };
        let of: Vec<Drawee> = var.map(Drawee::Var).into_iter().chain(tell.map(Drawee::Tell)).collect();
        let valued = var.is_none_or(|v| matches!(self.vars[v].shape, Shape::Grid | Shape::Lists(..)));
        let mut values = None;
        if let Some((from, to)) = &rule.values {
            if !valued {
                self.error(
                    "M067",
                    name.span,
                    format!("`{}` is there or not: it has no values here", name.text),
                );
                return None;
            }
            let mut one = |e: &A| {
                let value = self.lone(e, Place::Level);
                let value = self.coerce(value, scalar.ty());
                match value.kind {
                    Ek::Const(n) => Some(n),
                    _ => {
                        self.error("M041", value.span, "this must be a plain value");
                        None
                    }
                }
            };
            let lo = one(from)?;
            let hi = if let Some(to) = to { one(to)? } else { lo };
            values = Some((lo, hi));
        }
        let mut look = Look { label: rule.label.as_ref().map(|l| l.0.clone()), ..Look::default() };
        let mut twice = None;
        for word in &rule.words {
            let at = |list: &[&str]| list.iter().position(|w| *w == word.text);
            if let Some(f) = at(&FIGURES) {
                twice = twice.or(look.figure.replace(f).map(|_| word.span));
            } else if let Some(p) = at(&PAINTS) {
                twice = twice.or(look.paint.replace(Paint::Named(p)).map(|_| word.span));
            } else {
                let all = || FIGURES.iter().chain(&PAINTS).copied();
                let near = near(&word.text, all()).map(str::to_string);
                let error =
                    self.error("M068", word.span, format!("no form and no colour is named `{}`", word.text));
                error.notes.extend(near.map(|n| format!("did you mean `{n}`?")));
                error.notes.push(format!("forms: {}", FIGURES.join(", ")));
                error.notes.push(format!("colours: {}, and rgb(R, G, B)", PAINTS.join(", ")));
            }
        }
        if let Some((parts, span)) = rule.rgb {
            match parts.map(u8::try_from) {
                [Ok(r), Ok(g), Ok(b)] => {
                    twice = twice.or(look.paint.replace(Paint::Rgb(r, g, b)).map(|_| span));
                }
                _ => {
                    self.error("M068", span, "the parts of a colour are numbers from 0 to 255");
                }
            }
        }
        if let Some(span) = twice {
            self.error("M068", span, "one form and one colour are enough");
        }
        if look == Look::default() && rule.words.is_empty() && rule.rgb.is_none() {
            self.error("M068", name.span, "this says nothing: name a form, a colour or a label in quotes");
        }
        Some(LookRule { of, values, look })
    }

    // ---- show ----

    fn show(&mut self, name: &Name, joined: bool, rules: &[ast::ShowRule]) -> Option<Show> {
        let constant = |e: Expr| if let Ek::Const(n) = e.kind { Some(n) } else { None };
        if let Some(&(global, declared)) = self.globals.get(&name.text) {
            let Global::Var(var) = global else {
                if global != Global::Const(usize::MAX) {
                    let file = self.file;
                    self.error(
                        "M040",
                        name.span,
                        format!("`{}` is {}, not a grid", name.text, global.what()),
                    )
                    .labels
                    .push(crate::diag::Label {
                        file,
                        span: declared,
                        text: "declared here".into(),
                    });
                }
                return None;
            };
            if self.vars[var].shape != Shape::Grid && self.vars[var].shape != Shape::Set {
                self.error("M040", name.span, format!("`{}` is no grid", name.text));
                return None;
            }
            let want = self.vars[var].dom.scalar().ty();
            let mut glyphs: Vec<(i64, String)> = vec![];
            for rule in rules {
                let [fact] = rule.facts.as_slice() else {
                    self.error("M041", rule.span, "a rule for one grid is a value and its glyph");
                    continue;
                };
                let value = self.lone(fact, Place::Level);
                let value = self.coerce(value, want);
                let span = value.span;
                let Some(value) = constant(value) else {
                    self.error("M041", span, "this must be a plain value");
                    continue;
                };
                if glyphs.iter().any(|(v, g)| *v == value || *g == rule.glyph) {
                    self.error("M042", rule.span, "this glyph or value has a rule already");
                }
                if rule.glyph.is_empty()
                    || rule.glyph.contains(|c: char| c.is_whitespace() || "/;=".contains(c))
                    || (joined && rule.glyph.chars().count() != 1)
                {
                    self.error("M043", rule.span, "this cannot be a glyph here").notes.push(
                        "glyphs hold no blanks and none of / ; =, and are one character when joined".into(),
                    );
                }
                glyphs.push((value, rule.glyph.clone()));
            }
            return Some(Show::Values { var, glyphs, joined });
        }
        let mut vars: Vec<usize> = vec![];
        let mut out: Vec<(char, Vec<Fact>)> = vec![];
        for rule in rules {
            let mut chars = rule.glyph.chars();
            let glyph = match (chars.next(), chars.next()) {
                (Some(c), None) if !c.is_whitespace() && !"/;=".contains(c) => c,
                _ => {
                    self.error("M043", rule.span, "a glyph of a drawing is one character")
                        .notes
                        .push("any but blanks and / ; =".into());
                    continue;
                }
            };
            let before = self.errors.len();
            let mut sound = true;
            let mut facts: Vec<Fact> = vec![];
            for fact in &rule.facts {
                let (target, value) = match &fact.kind {
                    K::Bin(BinOp::Eq, t, v) => (&**t, Some(&**v)),
                    _ => (fact, None),
                };
                let K::Name(n) = &target.kind else {
                    self.error("M044", target.span, "a fact is a variable, or `variable = value`");
                    continue;
                };
                let Some(&(Global::Var(var), _)) = self.globals.get(n) else {
                    if !matches!(self.globals.get(n), Some((Global::Const(usize::MAX), _))) {
                        self.unknown(&Name { text: n.clone(), span: target.span }, "variable");
                    }
                    sound = false;
                    continue;
                };
                let def = &self.vars[var];
                let scalar = def.dom.scalar();
                let value = match (def.shape, value) {
                    (Shape::One, None) if matches!(scalar, Scalar::Placed(_)) => 1,
                    (Shape::Grid, Some(v)) => {
                        let v = self.lone(v, Place::Level);
                        let v = self.coerce(v, scalar.ty());
                        match constant(v) {
                            Some(n) => n,
                            None => {
                                self.error("M041", fact.span, "this must be a plain value");
                                continue;
                            }
                        }
                    }
                    (Shape::Grid, None) if scalar == Scalar::Bool => 1,
                    (Shape::Set, None) => 1,
                    (Shape::One, None) if scalar == Scalar::Cell => 1,
                    _ => {
                        self.error("M044", fact.span, format!("a drawing cannot say this of `{n}`"))
                            .notes
                            .push(
                                "it can set a grid of bools, a set, the place of a cell, or `grid = value`"
                                    .into(),
                            );
                        continue;
                    }
                };
                if !vars.contains(&var) {
                    vars.push(var);
                }
                facts.push(Fact { var, value });
            }
            if self.errors.len() > before || !sound {
                continue;
            }
            facts.sort_by_key(|f| f.var);
            if out.iter().any(|(g, _)| *g == glyph) {
                self.error("M042", rule.span, format!("the glyph `{glyph}` has a rule already"));
            } else if out.iter().any(|(_, f)| *f == facts) {
                self.error("M042", rule.span, "another glyph says the same already");
            }
            out.push((glyph, facts));
        }
        if !out.iter().any(|(_, f)| f.is_empty()) && !rules.is_empty() {
            self.error("M045", name.span, format!("`{}` has no glyph for an empty cell", name.text))
                .notes
                .push("add a rule with nothing behind the glyph, such as \".\"".into());
        }
        vars.sort_unstable();
        Some(Show::Drawing { name: name.text.clone(), vars, rules: out, span: name.span })
    }
}
