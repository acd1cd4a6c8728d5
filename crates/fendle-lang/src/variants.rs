//! Faulty variants of a model: its text with one small mistake in the rules, of the kinds that people make when they write a game.
//!
//! A variant is an edit of the text. Whether it can be compiled is not known here: an edit that the language refuses is a mistake that
//! nobody can make in it.

use crate::run::marks::{Mark, Way};
use crate::source::{FileId, Span};
use crate::syntax::parser::parse;
use crate::syntax::tree::{
    BinOp, Binder, Block, DrawFrom, Expr, ExprKind, Item, QuantKind, Source, Stmt, StmtKind,
};
use std::collections::HashSet;

/// A small mistake in the rules of a model.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Variant {
    /// The part of the text that is replaced; empty where something is put in.
    pub span: Span,
    /// What stands there instead.
    pub text: String,
    /// What is wrong now, in words that follow the line.
    pub words: String,
    /// The innermost statement around it, and the way that it has to go for the mistake to be met; `None` where none is around it.
    pub within: Option<Mark>,
}

impl Variant {
    /// The text of the model with the mistake.
    #[must_use]
    pub fn applied(&self, model: &str) -> String {
        format!("{}{}{}", &model[..self.span.start as usize], self.text, &model[self.span.end as usize..])
    }
}

/// Characters of the text that are quoted in words.
const QUOTED: usize = 48;

/// The variants of a model whose text is known to be right, in the order of the text. Only what moves, what happens after them, and
/// endings are made of is changed; not setups, drawings, laws, examples.
#[must_use]
pub fn variants(file: FileId, text: &str) -> Vec<Variant> {
    let source = parse(file, text, &mut vec![]);
    let used = used(&source);
    let mut w = Writer { text, out: vec![], within: None };
    for item in &source.items {
        match item {
            Item::Fn { name, body, .. } if used.contains(&name.text) => w.value(body),
            Item::Derived { name, value, .. } if used.contains(&name.text) => w.value(value),
            Item::Proc { name, body, .. } if used.contains(&name.text) => w.block(body),
            Item::Move { body, .. } | Item::Tick { body, .. } | Item::After(body, _) => w.block(body),
            Item::Goal(cond, _) | Item::Lost(cond, ..) | Item::Over(cond, ..) => w.condition(cond),
            _ => {}
        }
    }
    let mut met = HashSet::new();
    w.out.retain(|v| met.insert((v.span, v.text.clone())));
    w.out.sort_by_key(|v| v.span);
    w.out
}

/// The names that rules lead to: those in moves, what happens after them, and endings, and what these are made of.
fn used(source: &Source) -> HashSet<String> {
    let mut named = Named::default();
    for item in &source.items {
        match item {
            Item::Move { body, .. } | Item::Tick { body, .. } | Item::After(body, _) => named.block(body),
            Item::Goal(cond, _) | Item::Lost(cond, ..) | Item::Over(cond, ..) => named.expr(cond),
            _ => {}
        }
    }
    loop {
        let before = named.names.len();
        for item in &source.items {
            match item {
                Item::Fn { name, body: value, .. } | Item::Derived { name, value, .. }
                    if named.names.contains(&name.text) =>
                {
                    named.expr(value);
                }
                Item::Proc { name, body, .. } if named.names.contains(&name.text) => named.block(body),
                _ => {}
            }
        }
        if named.names.len() == before {
            return named.names;
        }
    }
}

#[derive(Default)]
struct Named {
    names: HashSet<String>,
}

impl Named {
    fn block(&mut self, block: &Block) {
        for stmt in block {
            if let StmtKind::Call(name, _) = &stmt.kind {
                self.names.insert(name.text.clone());
            }
            exprs(stmt).into_iter().for_each(|e| self.expr(e));
            blocks(stmt).into_iter().for_each(|b| self.block(b));
        }
    }

    fn expr(&mut self, e: &Expr) {
        match &e.kind {
            ExprKind::Name(name) => {
                self.names.insert(name.clone());
            }
            ExprKind::Call(name, _) => {
                self.names.insert(name.text.clone());
            }
            _ => {}
        }
        parts(e).into_iter().for_each(|e| self.expr(e));
    }
}

/// The blocks in a statement.
fn blocks(stmt: &Stmt) -> Vec<&Block> {
    match &stmt.kind {
        StmtKind::If { then, other, .. } => vec![then, other],
        StmtKind::For { body, .. } | StmtKind::Repeat { body, .. } | StmtKind::Phase { body, .. } => {
            vec![body]
        }
        StmtKind::Draw { other, .. } => other.iter().collect(),
        _ => vec![],
    }
}

/// The expressions of a binder.
fn binder_exprs(binder: &Binder) -> Vec<&Expr> {
    let upto = binder.upto.as_deref();
    std::iter::once(&*binder.over).chain(upto).chain(binder.filter.as_deref()).collect()
}

/// The expressions in a statement, those of its blocks left out.
fn exprs(stmt: &Stmt) -> Vec<&Expr> {
    match &stmt.kind {
        StmtKind::Let { value, .. } | StmtKind::Score(value) | StmtKind::Method(value) => vec![value],
        StmtKind::Assign { target, value, .. } => vec![target, value],
        StmtKind::Swap(a, b) | StmtKind::Add(a, b) | StmtKind::Remove(a, b) => vec![a, b],
        StmtKind::If { cond, .. } | StmtKind::Offer(cond) | StmtKind::Require { cond, .. } => vec![cond],
        StmtKind::For { binder, .. } => binder_exprs(binder),
        StmtKind::Repeat { bound, cond, .. } => vec![bound, cond],
        StmtKind::Draw { target, from, .. } => {
            let mut out: Vec<&Expr> = target.iter().collect();
            match from {
                DrawFrom::Range { binder, weight } => {
                    out.extend(binder_exprs(binder));
                    out.extend(weight);
                }
                DrawFrom::Values(values) => {
                    out.extend(values.iter().flat_map(|(v, w)| std::iter::once(v).chain(w)))
                }
            }
            out
        }
        StmtKind::Write { parts, fill, into, along } => parts.iter().chain([fill, into, along]).collect(),
        StmtKind::Take { count, from, onto } => vec![count, from, onto],
        StmtKind::CutOut { binder, grid, fill, from } => {
            binder_exprs(binder).into_iter().chain([grid, fill, from]).collect()
        }
        StmtKind::Insert { row, grid, at, from } => vec![row, grid, at, from],
        StmtKind::Refuse { at, unless, .. } => at.iter().chain(unless).collect(),
        StmtKind::Note { at, .. } => at.iter().collect(),
        StmtKind::Call(_, args) => args.iter().collect(),
        StmtKind::Phase { .. } | StmtKind::Judge | StmtKind::Win | StmtKind::Lose(_) | StmtKind::Stop(_) => {
            vec![]
        }
    }
}

/// The expressions that an expression is made of.
fn parts(e: &Expr) -> Vec<&Expr> {
    match &e.kind {
        ExprKind::Field(a, _) | ExprKind::Not(a) | ExprKind::Neg(a) => vec![a],
        ExprKind::Index(a, b) | ExprKind::Outside(a, b) | ExprKind::Bin(_, a, b) => vec![a, b],
        ExprKind::Cond(a, b, c) => vec![a, b, c],
        ExprKind::Call(_, args) | ExprKind::Can(_, args) => args.iter().collect(),
        ExprKind::Leads(_, _, args, c) => args.iter().chain([&**c]).collect(),
        ExprKind::Method(a, _, args) => std::iter::once(&**a).chain(args).collect(),
        ExprKind::Record(_, fields) => fields.iter().map(|(_, e)| e).collect(),
        ExprKind::Quant { binder, body, .. } => {
            binder_exprs(binder).into_iter().chain(body.as_deref()).collect()
        }
        ExprKind::Flood { from, by, cond, .. } => {
            std::iter::once(&**from).chain(by).chain([&**cond]).collect()
        }
        ExprKind::Int(_)
        | ExprKind::Bool(_)
        | ExprKind::Name(_)
        | ExprKind::Empty
        | ExprKind::Lost
        | ExprKind::Board(_) => vec![],
    }
}

struct Writer<'t> {
    text: &'t str,
    out: Vec<Variant>,
    within: Option<Mark>,
}

impl Writer<'_> {
    fn push(&mut self, span: Span, text: impl Into<String>, words: impl Into<String>) {
        self.out.push(Variant { span, text: text.into(), words: words.into(), within: self.within });
    }

    /// A part of the text, on one line and not too long.
    fn quoted(&self, span: Span) -> String {
        let one: Vec<&str> = self.text[span.range()].split_whitespace().collect();
        let one = one.join(" ");
        match one.char_indices().nth(QUOTED) {
            Some((at, _)) => format!("`{}...`", &one[..at]),
            None => format!("`{one}`"),
        }
    }

    fn block(&mut self, block: &Block) {
        for stmt in block {
            self.stmt(stmt);
        }
        for pair in block.windows(2) {
            self.swapped(&pair[0], &pair[1]);
        }
    }

    /// Two statements in the other order, where one of them asks or ends something and the other changes something.
    fn swapped(&mut self, a: &Stmt, b: &Stmt) {
        let changes = |s: &Stmt| {
            matches!(
                s.kind,
                StmtKind::Assign { .. }
                    | StmtKind::Swap(..)
                    | StmtKind::Add(..)
                    | StmtKind::Remove(..)
                    | StmtKind::Method(_)
                    | StmtKind::Write { .. }
                    | StmtKind::CutOut { .. }
                    | StmtKind::Insert { .. }
                    | StmtKind::Take { .. }
                    | StmtKind::Call(..)
                    | StmtKind::Phase { .. }
            )
        };
        let asks = |s: &Stmt| {
            matches!(
                s.kind,
                StmtKind::If { .. }
                    | StmtKind::For { .. }
                    | StmtKind::Repeat { .. }
                    | StmtKind::Judge
                    | StmtKind::Phase { .. }
                    | StmtKind::Call(..)
                    | StmtKind::Refuse { .. }
            )
        };
        // A refusal that comes later refuses all the same.
        let later = matches!(a.kind, StmtKind::Refuse { .. });
        if later || !(changes(a) && asks(b) || asks(a) && changes(b)) {
            return;
        }
        let (first, gap, second) = (
            &self.text[a.span.range()],
            &self.text[a.span.end as usize..b.span.start as usize],
            &self.text[b.span.range()],
        );
        let text = format!("{second}{gap}{first}");
        let words = format!("{} comes before {}", self.quoted(b.span), self.quoted(a.span));
        self.push(a.span.to(b.span), text, words);
    }

    fn stmt(&mut self, stmt: &Stmt) {
        let quoted = self.quoted(stmt.span);
        match &stmt.kind {
            StmtKind::Refuse { why, unless, .. } => {
                match unless {
                    Some(cond) => {
                        self.push(cond.span, "true", format!("\"{why}\" is never a reason to refuse"));
                        self.inside(cond);
                    }
                    None => {
                        self.push(stmt.span, "", format!("\"{why}\" is no reason to refuse"));
                    }
                }
                return;
            }
            StmtKind::Offer(cond) => {
                self.push(cond.span, "true", format!("{quoted} is left out"));
                self.condition(cond);
            }
            StmtKind::If { cond, then, other } => {
                let condition = self.quoted(cond.span);
                self.push(cond.span, "true", format!("the `if` does not ask {condition}"));
                self.turned(cond);
                self.inside(cond);
                if other.is_empty() && !then.is_empty() {
                    self.push(
                        cond.span,
                        "false",
                        format!("what `if {}` does is left out", strip(&condition)),
                    );
                }
            }
            StmtKind::Repeat { cond, .. } => self.condition(cond),
            StmtKind::For { binder, .. } => self.binder(binder),
            StmtKind::Draw { from, .. } => match from {
                DrawFrom::Range { binder, weight } => {
                    self.binder(binder);
                    weight.iter().for_each(|w| self.value(w));
                }
                DrawFrom::Values(values) => {
                    for (v, w) in values {
                        self.value(v);
                        w.iter().for_each(|w| self.value(w));
                    }
                }
            },
            StmtKind::Assign { target, value, .. } => {
                self.push(stmt.span, "", format!("{quoted} is left out"));
                self.value(target);
                self.value(value);
            }
            StmtKind::Let { value, .. } => self.value(value),
            StmtKind::CutOut { binder, .. } => {
                self.push(stmt.span, "", format!("{quoted} is left out"));
                self.binder(binder);
            }
            StmtKind::Swap(..)
            | StmtKind::Add(..)
            | StmtKind::Remove(..)
            | StmtKind::Method(_)
            | StmtKind::Write { .. }
            | StmtKind::Insert { .. }
            | StmtKind::Take { .. }
            | StmtKind::Call(..)
            | StmtKind::Score(_)
            | StmtKind::Judge
            | StmtKind::Win
            | StmtKind::Lose(_)
            | StmtKind::Stop(_) => {
                self.push(stmt.span, "", format!("{quoted} is left out"));
                exprs(stmt).into_iter().for_each(|e| self.value(e));
            }
            StmtKind::Phase { .. } | StmtKind::Note { .. } | StmtKind::Require { .. } => {}
        }
        let ways = match &stmt.kind {
            StmtKind::If { .. } => &[Way::Held, Way::NotHeld][..],
            StmtKind::Phase { .. } => &[Way::Reached],
            StmtKind::Draw { .. } => &[Way::Nothing],
            _ => &[Way::Held],
        };
        let around = self.within;
        for (block, way) in blocks(stmt).into_iter().zip(ways) {
            self.within = Some(Mark { span: stmt.span, way: *way });
            self.block(block);
        }
        self.within = around;
    }

    /// A condition that may be turned round, and what it is made of.
    fn condition(&mut self, cond: &Expr) {
        self.turned(cond);
        self.inside(cond);
    }

    fn turned(&mut self, cond: &Expr) {
        // These are turned by their sign or word.
        let by_itself = matches!(
            cond.kind,
            ExprKind::Not(_)
                | ExprKind::Bin(BinOp::Eq | BinOp::Ne, ..)
                | ExprKind::Quant { kind: QuantKind::All | QuantKind::Any, .. }
        );
        if !by_itself {
            let words = format!("{} is asked the other way round", self.quoted(cond.span));
            self.push(cond.span, format!("not ({})", &self.text[cond.span.range()]), words);
        }
    }

    /// What a condition is made of: parts of it left out, and mistakes in its values.
    fn inside(&mut self, cond: &Expr) {
        match &cond.kind {
            ExprKind::Bin(op @ (BinOp::And | BinOp::Or), a, b) => {
                let nothing = if *op == BinOp::And { "true" } else { "false" };
                for side in [a, b] {
                    self.push(side.span, nothing, format!("{} is not asked", self.quoted(side.span)));
                    self.inside(side);
                }
            }
            ExprKind::Cond(..) | ExprKind::Not(_) | ExprKind::Bin(..) | ExprKind::Quant { .. } => {
                self.value(cond);
            }
            _ => parts(cond).into_iter().for_each(|e| self.value(e)),
        }
    }

    /// Mistakes in a value.
    fn value(&mut self, e: &Expr) {
        match &e.kind {
            ExprKind::Int(n) => {
                self.push(e.span, (n + 1).to_string(), format!("{} instead of {n}", n + 1));
                if *n > 1 {
                    self.push(e.span, (n - 1).to_string(), format!("{} instead of {n}", n - 1));
                }
            }
            ExprKind::Not(a) => {
                let words = format!("{} is asked the other way round", self.quoted(a.span));
                self.push(e.span, format!("({})", &self.text[a.span.range()]), words);
                self.inside(a);
            }
            ExprKind::Bin(BinOp::And | BinOp::Or, ..) => self.inside(e),
            ExprKind::Bin(op, a, b) => {
                if *op == BinOp::Eq {
                    let (x, y) = (&self.text[a.span.range()], &self.text[b.span.range()]);
                    let text = format!(
                        "(count(near_cell in board where (near_cell in {x}) != (near_cell in {y})) <= 1)"
                    );
                    let words = format!("one cell off is enough for {}", self.quoted(e.span));
                    self.push(e.span, text, words);
                }
                self.sign(*op, a, b);
                self.value(a);
                self.value(b);
            }
            ExprKind::Cond(cond, a, b) => {
                self.condition(cond);
                self.value(a);
                self.value(b);
            }
            ExprKind::Quant { kind, binder, body } => {
                let word = match kind {
                    QuantKind::All => Some(("all", "any")),
                    QuantKind::Any => Some(("any", "all")),
                    QuantKind::Min => Some(("min", "max")),
                    QuantKind::Max => Some(("max", "min")),
                    _ => None,
                };
                if let Some((is, other)) = word
                    && self.text[e.span.range()].starts_with(is)
                {
                    let at = Span::new(e.span.start as usize, e.span.start as usize + is.len());
                    self.push(at, other, format!("`{other}` instead of `{is}`"));
                }
                if let (QuantKind::All, Some(body)) = (kind, body) {
                    let end = binder.upto.as_ref().map_or(binder.over.span.end, |u| u.span.end) as usize;
                    let over = &self.text[binder.name.span.start as usize..end];
                    let kept = binder.filter.as_ref().map_or("true", |f| &self.text[f.span.range()]);
                    let body = &self.text[body.span.range()];
                    let text = format!("(count({over} where ({kept}) and not ({body})) <= 1)");
                    self.push(e.span, text, format!("all but one is enough for {}", self.quoted(e.span)));
                }
                self.binder(binder);
                body.iter().for_each(|b| self.inside(b));
            }
            ExprKind::Flood { cond, from, .. } => {
                self.inside(cond);
                self.value(from);
            }
            _ => parts(e).into_iter().for_each(|e| self.value(e)),
        }
    }

    /// Another sign between two values.
    fn sign(&mut self, op: BinOp, a: &Expr, b: &Expr) {
        let (is, other) = match op {
            BinOp::Lt => ("<", "<="),
            BinOp::Le => ("<=", "<"),
            BinOp::Gt => (">", ">="),
            BinOp::Ge => (">=", ">"),
            BinOp::Eq => ("==", "!="),
            BinOp::Ne => ("!=", "=="),
            BinOp::Add => ("+", "-"),
            BinOp::Sub => ("-", "+"),
            _ => return,
        };
        let from = a.span.end as usize;
        let gap = &self.text[from..(b.span.start as usize).max(from)];
        // A comment between them may hold anything.
        if let Some(at) = gap.find(is).filter(|_| !gap.contains("//")) {
            let span = Span::new(from + at, from + at + is.len());
            let words = format!("`{other}` instead of `{is}` in {}", self.quoted(a.span.to(b.span)));
            self.push(span, other, words);
        }
    }

    /// A loop that leaves something out.
    fn binder(&mut self, binder: &Binder) {
        let name = &binder.name.text;
        if let Some(filter) = &binder.filter {
            self.push(filter.span, "true", format!("{} is not asked", self.quoted(filter.span)));
            self.condition(filter);
        }
        match &binder.upto {
            Some(upto) => {
                let (first, last) = (binder.over.span, upto.span);
                self.push(last, format!("{} - 1", &self.text[last.range()]), "the last one is left out");
                self.push(first, format!("{} + 1", &self.text[first.range()]), "the first one is left out");
                self.value(&binder.over);
                self.value(upto);
            }
            None => {
                self.value(&binder.over);
                // What is drawn has no name of its own to be asked by.
                if name.starts_with("drawn ") {
                    return;
                }
                let left_out = [
                    (format!("row({name}) < rows()"), "the last row is left out"),
                    (format!("col({name}) < cols()"), "the last column is left out"),
                    (format!("row({name}) > 1"), "the first row is left out"),
                    (format!("col({name}) > 1"), "the first column is left out"),
                    (
                        format!("not (row({name}) == rows() and col({name}) == cols())"),
                        "the last cell is left out",
                    ),
                    (format!("{name} != up"), "up is left out"),
                    (format!("{name} != right"), "right is left out"),
                    (format!("{name} != down"), "down is left out"),
                    (format!("{name} != left"), "left is left out"),
                ];
                let over = self.quoted(binder.name.span.to(binder.over.span));
                for (cond, words) in left_out {
                    let words = format!("{words} of {over}");
                    match &binder.filter {
                        Some(f) => {
                            let text = format!("({}) and {cond}", &self.text[f.span.range()]);
                            self.push(f.span, text, words);
                        }
                        None => {
                            let end = binder.over.span.end as usize;
                            self.push(Span::new(end, end), format!(" where {cond}"), words);
                        }
                    }
                }
            }
        }
    }
}

/// Without the quotes of a quotation.
fn strip(quoted: &str) -> &str {
    quoted.trim_matches('`')
}
