//! How far a goal looks: a number that is 0 where the goal holds, made from the condition itself.
//!
//! ```text
//! a and b      the sum                a == b, a <= b   by how much it fails, for numbers; rows and columns, for cells
//! a or b       the less               grids            cells that differ
//! all(...)     the sum over all       else             1 where it does not hold
//! ```
//!
//! It guides a search and proves nothing: a move may change much of it at once, or have to make it worse.

use std::sync::Arc;

use crate::code::Game;
use crate::model::*;
use crate::source::Span;
use crate::syntax::tree::QuantKind;

/// The same game, whose promise of a state is how far its goal looks; where the author gives a promise, how much of that is missing. `None` where
/// the goal is no condition of the state, or the code gets too large.
#[must_use]
pub fn with_gap(game: &Game) -> Option<Game> {
    let mut bound = game.bound.clone();
    let mut model = (*bound.model).clone();
    let (looks, span) = match model.promise.take() {
        // Local names of both would stand in each other's way.
        Some((e, of, span)) if of.locals.is_empty() => {
            let missing = Ek::Arith(Arith::Sub, Box::new(of.expr), Box::new(e.expr));
            (Body { expr: at_least_0(int(missing, span)), locals: e.locals }, span)
        }
        _ => {
            if model.wins_by_statement() {
                return None;
            }
            let goals: Vec<Body> = (model.statuses.iter())
                .filter(|s| model.endings[s.ending].kind == EndKind::Goal)
                .map(|s| s.cond.clone())
                .collect();
            let [goal] = goals.as_slice() else { return None };
            let mut making = Making { model: &mut model, known: vec![], locals: goal.locals.clone() };
            let expr = making.gap(&goal.expr, true);
            let span = goal.expr.span;
            let locals = making.locals;
            (Body { expr, locals }, span)
        }
    };
    let one = Body { expr: int(Ek::Const(1), span), locals: vec![] };
    model.promise = Some((looks, one, span));
    bound.model = Arc::new(model);
    let mut out = Game::new(bound).ok()?;
    out.checked.clone_from(&game.checked);
    out.native = game.native.anew();
    Some(out)
}

fn int(kind: Ek, span: Span) -> Expr {
    Expr { kind, ty: Ty::Int, span }
}

fn at_least_0(e: Expr) -> Expr {
    let span = e.span;
    int(Ek::Arith(Arith::Max, Box::new(e), Box::new(int(Ek::Const(0), span))), span)
}

/// Whether evaluating an expression can break where it is not asked: an entry that is not there, a value that is `none`.
fn may_break(e: &Expr) -> bool {
    let mut found = false;
    e.each(&mut |x| {
        found |= match &x.kind {
            Ek::Given(_) | Ek::Entry(..) | Ek::End(..) | Ek::ToCell(_) | Ek::Within(..) | Ek::Call(..) => {
                true
            }
            Ek::Arith(op, ..) => matches!(op, Arith::Div | Arith::Mod | Arith::Pow),
            Ek::Index(..) => true,
            Ek::Quant(q) => {
                matches!(q.kind, QuantKind::The | QuantKind::First | QuantKind::Min | QuantKind::Max)
            }
            _ => false,
        }
    });
    found
}

struct Making<'m> {
    model: &'m mut Model,
    /// For a function, and whether it is to hold, the one that says how far it looks.
    known: Vec<(FnId, bool, FnId)>,
    locals: Vec<LocalDef>,
}

impl Making<'_> {
    /// How far a condition is from holding; with `wanted` false from not holding.
    fn gap(&mut self, e: &Expr, wanted: bool) -> Expr {
        let span = e.span;
        let two = |op: Arith, a: Expr, b: Expr| int(Ek::Arith(op, Box::new(a), Box::new(b)), span);
        match (&e.kind, wanted) {
            (Ek::Not(x), _) => self.gap(x, !wanted),
            (Ek::And(a, b), true) | (Ek::Or(a, b), false) => {
                let (first, mut second) = (self.gap(a, wanted), self.gap(b, wanted));
                if may_break(b) {
                    // It is only asked where the first part is as wanted.
                    second = self.asked(a, wanted, second, int(Ek::Const(1), span));
                }
                two(Arith::Add, first, second)
            }
            (Ek::Or(a, b), true) | (Ek::And(a, b), false) => {
                let (first, second) = (self.gap(a, wanted), self.gap(b, wanted));
                if may_break(b) {
                    let less = two(Arith::Min, first, second);
                    return self.asked(a, wanted, int(Ek::Const(0), span), less);
                }
                two(Arith::Min, first, second)
            }
            (Ek::Cmp(Cmp::Eq, a, b), true) | (Ek::Cmp(Cmp::Ne, a, b), false) => self.apart(e, a, b),
            (Ek::Cmp(Cmp::Le, a, b), true) if a.ty == Ty::Int => {
                at_least_0(two(Arith::Sub, (**a).clone(), (**b).clone()))
            }
            (Ek::Cmp(Cmp::Lt, a, b), true) if a.ty == Ty::Int => {
                let by = two(Arith::Sub, (**a).clone(), (**b).clone());
                at_least_0(two(Arith::Add, by, int(Ek::Const(1), span)))
            }
            (Ek::Cmp(Cmp::Lt, a, b), false) if a.ty == Ty::Int => {
                at_least_0(two(Arith::Sub, (**b).clone(), (**a).clone()))
            }
            (Ek::Cmp(Cmp::Le, a, b), false) if a.ty == Ty::Int => {
                let by = two(Arith::Sub, (**b).clone(), (**a).clone());
                at_least_0(two(Arith::Add, by, int(Ek::Const(1), span)))
            }
            (Ek::SameBlock(a, b, sameness), _)
                if sameness.fits(true) == wanted && matches!(a.ty, Ty::Grid(_)) =>
            {
                let ty = if let Ty::Grid(s) = a.ty { s.ty() } else { Ty::Int };
                let local = LocalId(self.locals.len());
                let dom = Some(Dom::Cell);
                self.locals.push(LocalDef {
                    name: format!("cell {local:?}"),
                    ty: Ty::Cell,
                    mutable: false,
                    dom,
                    span,
                });
                let at = |x: &Expr| {
                    let cell = Expr { kind: Ek::Local(local), ty: Ty::Cell, span };
                    Expr { kind: Ek::Index(Box::new(x.clone()), Box::new(cell)), ty, span }
                };
                let differs =
                    Expr { kind: Ek::Cmp(Cmp::Ne, Box::new(at(a)), Box::new(at(b))), ty: Ty::Bool, span };
                let quant = Quant {
                    kind: QuantKind::Count,
                    local,
                    over: Range::Board,
                    filter: Some(differs),
                    body: None,
                };
                int(Ek::Quant(Box::new(quant)), span)
            }
            (Ek::Quant(q), _) if (q.kind == QuantKind::All) == wanted => {
                let is_all = matches!(q.kind, QuantKind::All | QuantKind::Any);
                match (&q.body, is_all) {
                    (Some(body), true) => {
                        let body = Some(self.gap(body, wanted));
                        int(Ek::Quant(Box::new(Quant { kind: QuantKind::Sum, body, ..(**q).clone() })), span)
                    }
                    _ => self.plain(e, wanted),
                }
            }
            (Ek::Call(f, args), _) => match self.function(*f, wanted) {
                Some(f) => int(Ek::Call(f, args.clone()), span),
                None => self.plain(e, wanted),
            },
            _ => self.plain(e, wanted),
        }
    }

    /// One number where a condition is as wanted, another where not.
    fn asked(&self, cond: &Expr, wanted: bool, yes: Expr, no: Expr) -> Expr {
        let (yes, no) = if wanted { (yes, no) } else { (no, yes) };
        int(Ek::Cond(Box::new(cond.clone()), Box::new(yes), Box::new(no)), cond.span)
    }

    /// 0 where a condition is as wanted, else 1.
    fn plain(&self, e: &Expr, wanted: bool) -> Expr {
        self.asked(e, wanted, int(Ek::Const(0), e.span), int(Ek::Const(1), e.span))
    }

    /// How far two values are from being equal.
    fn apart(&self, e: &Expr, a: &Expr, b: &Expr) -> Expr {
        let span = e.span;
        let between = |a: Expr, b: Expr| {
            let by = int(Ek::Arith(Arith::Sub, Box::new(a), Box::new(b)), span);
            int(Ek::Builtin(Builtin::Abs, vec![by]), span)
        };
        match (a.ty, b.ty) {
            (Ty::Int, Ty::Int) => between(a.clone(), b.clone()),
            (Ty::Cell, Ty::Cell) => {
                let of = |what: Builtin, x: &Expr| int(Ek::Builtin(what, vec![x.clone()]), span);
                let rows = between(of(Builtin::Row, a), of(Builtin::Row, b));
                let cols = between(of(Builtin::Col, a), of(Builtin::Col, b));
                int(Ek::Arith(Arith::Add, Box::new(rows), Box::new(cols)), span)
            }
            _ => {
                let is_eq = matches!(e.kind, Ek::Cmp(Cmp::Eq, ..));
                self.plain(e, is_eq)
            }
        }
    }

    /// The function that says how far another one looks.
    fn function(&mut self, f: FnId, wanted: bool) -> Option<FnId> {
        if let Some(known) = self.known.iter().find(|k| k.0 == f && k.1 == wanted) {
            return Some(known.2);
        }
        let def = self.model.fns[f].clone();
        let kept = std::mem::replace(&mut self.locals, def.locals.clone());
        let body = self.gap(&def.body, wanted);
        let locals = std::mem::replace(&mut self.locals, kept);
        let name = format!("how far {}{}", if wanted { "" } else { "not " }, def.name);
        self.model.fns.push(FnDef { name, params: def.params, locals, body });
        let new = FnId(self.model.fns.len() - 1);
        self.known.push((f, wanted, new));
        Some(new)
    }
}
