//! Whether the rules tell cells apart, or what hidden things are called.
//!
//! The proof is a walk over the rules that accepts only what treats all cells in the same way: cells are compared for being
//! equal, handed on, and used to look something up; loops run over the whole board, each round touching nothing but its own
//! cell. Rows, columns, neighbours, a first cell, an order, or a level value that differs from cell to cell are not accepted.
//! Level values are known here: what they rule out is not looked at. Then exchanging cells in a state exchanges them in
//! everything that follows from it.
//!
//! Hidden values are *names* where they are only compared with each other for being equal, or told as they are.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;

use fendle_core::knowledge::{Likeness, Names};

use crate::check::alike::reads_apart;
use crate::code::{Game, told_words};
use crate::model::*;
use crate::run::Eval;
use crate::run::scatter::hidden_vars;
use crate::state::Bound;
use crate::syntax::tree::QuantKind;

/// What may be exchanged in the states of a level without changing anything that can follow.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Exchange {
    /// How many cells there are.
    pub cells: usize,
    /// Where grids begin that hold a value for each cell; names aside.
    pub grids: Vec<usize>,
    /// Places that hold the number of a cell, or of none.
    pub holders: Vec<usize>,
    /// The hidden variable that holds names, if there is one.
    pub names: Option<Named>,
}

/// A hidden grid that holds names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Named {
    /// The variable.
    pub var: VarId,
    /// Where it begins.
    pub grid: usize,
    /// Names that lie there equally often.
    pub groups: Vec<Vec<i32>>,
    /// Which of the told words (`fendle_core::Worker::told`) are names.
    pub told: Vec<usize>,
}

impl Exchange {
    /// The same for packed states of a game of the level.
    #[must_use]
    pub fn of(self, game: &Game) -> Likeness<'_> {
        Likeness {
            unpack: Box::new(|words| game.unpack(words)),
            pack: Box::new(|state| game.pack(state)),
            cells: self.cells,
            grids: self.grids,
            holders: self.holders,
            names: self.names.map(|n| Names { grid: n.grid, groups: n.groups, told: n.told }),
        }
    }
}

struct Walk<'b> {
    b: &'b Bound,
    eval: RefCell<Eval<'b>>,
    /// Functions and procedures that were walked.
    fns: RefCell<HashMap<FnId, bool>>,
    procs: RefCell<HashMap<ProcId, bool>>,
    /// The variable that may hold names, and whether it is used as anything else.
    names: Option<VarId>,
    plain: Cell<bool>,
}

/// What may be exchanged; `None` where the rules tell cells apart, or that is not followed.
#[must_use]
pub fn exchange(b: &Bound) -> Option<Exchange> {
    let model: &Model = &b.model;
    let cells = b.rows * b.cols;
    let followed = model.spreads.is_empty()
        && model.shapes.is_empty()
        && b.canon.is_none()
        && model.ticks.iter().all(|t| t.clock.is_none())
        && model
            .moves
            .iter()
            .flat_map(|m| &m.params)
            .all(|d| matches!(d, Dom::Cell | Dom::Bool | Dom::Range(..) | Dom::Enum(_)));
    if !followed || cells < 2 {
        return None;
    }
    let rearranged = hidden_vars(b).find(|&v| {
        let def = &model.vars[v];
        def.rearranged.is_some() && def.shape == Extent::Grid && def.dom.scalar() == Scalar::Int
    });
    let walk = Walk {
        b,
        eval: RefCell::new(Eval::new(b)),
        fns: RefCell::default(),
        procs: RefCell::default(),
        names: rearranged,
        plain: Cell::new(false),
    };
    let (mut grids, mut holders) = (vec![], vec![]);
    for (v, def) in model.variables() {
        let slot = &b.slots[v];
        if !def.state || !slot.active {
            continue;
        }
        let scalar = def.dom.scalar();
        let is_plain = matches!(
            scalar,
            Scalar::Bool | Scalar::Int | Scalar::Enum(_) | Scalar::Maybe(Base::Int | Base::Enum(_))
        );
        let prior = def.prior.as_ref();
        if def.untold || def.shadow_of.is_some() || prior.is_some_and(|p| p.each.is_some()) {
            return None;
        }
        if prior.and_then(|p| p.with.as_ref()).is_some_and(|w| !walk.expr(&w.expr)) {
            return None;
        }
        match def.shape {
            Extent::Grid | Extent::Set if is_plain && slot.len == cells => {
                if rearranged != Some(v) {
                    grids.push(slot.base);
                }
            }
            Extent::One if is_plain => {}
            Extent::One if matches!(scalar, Scalar::Cell | Scalar::Maybe(Base::Cell)) => {
                holders.push(slot.base)
            }
            _ => return None,
        }
    }
    if !walk.rules() {
        return None;
    }
    let names = rearranged.and_then(|v| walk.named(v));
    if let (Some(v), None) = (rearranged, &names) {
        grids.push(b.slots[v].base);
    }
    Some(Exchange { cells, grids, holders, names })
}

impl Walk<'_> {
    fn rules(&self) -> bool {
        let model = &self.b.model;
        let bodies = (model.statuses.iter().map(|s| &s.cond))
            .chain(model.always.iter().map(|a| &a.cond))
            .chain(model.aim.iter().filter_map(|a| a.what.as_ref()));
        let blocks = model.after.iter().chain(model.ticks.iter().map(|t| &t.body));
        model.moves.iter().all(|m| m.offers.iter().all(|e| self.expr(e)) && self.block(&m.body))
            && bodies.into_iter().all(|b| self.expr(&b.expr))
            && blocks.into_iter().all(|p| self.block(&p.body))
            && model.tells.iter().all(|t| self.tell(t))
    }

    fn tell(&self, t: &TellDef) -> bool {
        let over = t.over.as_ref().is_none_or(|(_, over)| matches!(over, Range::Board));
        let filter = t.filter.as_ref().is_none_or(|f| self.expr(f));
        let value = match self.name_at(&t.value) {
            Some(at) => self.expr(at),
            None => self.expr(&t.value),
        };
        over && filter && value
    }

    /// The names of the variable, where it is used as nothing else.
    fn named(&self, v: VarId) -> Option<Named> {
        let b = self.b;
        let slot = &b.slots[v];
        if self.plain.get() {
            return None;
        }
        let mut often: HashMap<i32, usize> = HashMap::new();
        b.start[slot.base..slot.base + slot.len].iter().for_each(|x| *often.entry(*x).or_default() += 1);
        let mut groups: HashMap<usize, Vec<i32>> = HashMap::new();
        often.iter().for_each(|(x, n)| groups.entry(*n).or_default().push(*x));
        let mut groups: Vec<Vec<i32>> = groups.into_values().collect();
        groups.iter_mut().for_each(|g| g.sort_unstable());
        groups.sort();
        let mut told = vec![];
        let (mut at, tells) = told_words(b);
        for (tell, elements) in b.model.tells.iter().zip(tells) {
            if self.name_at(&tell.value).is_some() {
                told.extend(at..at + elements);
            }
            at += elements;
        }
        Some(Named { var: v, grid: slot.base, groups, told })
    }

    /// Where a name is looked up, if that is all that an expression does.
    fn name_at<'e>(&self, e: &'e Expr) -> Option<&'e Expr> {
        match &e.kind {
            Ek::Index(base, at) if matches!(base.kind, Ek::Var(When::Now | When::Before, v) if Some(v) == self.names) => {
                Some(at)
            }
            _ => None,
        }
    }

    /// The value of an expression that only level values decide, if it is no place.
    fn decided(&self, e: &Expr) -> Option<i64> {
        // What stands behind it is never looked at.
        match &e.kind {
            Ek::Or(a, _) if self.decided(a) == Some(1) => return Some(1),
            Ek::And(a, _) if self.decided(a) == Some(0) => return Some(0),
            _ => {}
        }
        let mut level = !is_place(e.ty);
        e.each(&mut |e| {
            level &= match &e.kind {
                Ek::Const(_)
                | Ek::Not(_)
                | Ek::And(..)
                | Ek::Or(..)
                | Ek::Cmp(..)
                | Ek::Arith(..)
                | Ek::Neg(_)
                | Ek::Cond(..)
                | Ek::Within(..) => true,
                Ek::Var(When::Now, v) => {
                    !self.b.model.vars[*v].state && self.b.model.vars[*v].shape == Extent::One
                }
                _ => false,
            }
        });
        if level { self.eval.borrow_mut().lone(e).ok() } else { None }
    }

    fn expr(&self, e: &Expr) -> bool {
        if self.decided(e).is_some() {
            return true;
        }
        match &e.kind {
            Ek::Const(v) => !is_place(e.ty) || *v == NONE,
            Ek::Local(_) => true,
            Ek::Var(When::Now | When::Before, v) => {
                let def = &self.b.model.vars[*v];
                def.shape == Extent::One && (def.state || !is_place(e.ty))
            }
            Ek::Index(base, at) => {
                if self.name_at(e).is_some() {
                    self.plain.set(true);
                }
                self.grid(base) && self.expr(at)
            }
            Ek::Not(a) | Ek::Neg(a) | Ek::Within(a, _) | Ek::Given(a) => self.expr(a),
            Ek::And(a, b) | Ek::Or(a, b) => self.expr(a) && self.expr(b),
            Ek::Cond(c, a, b) => match self.decided(c) {
                Some(v) => self.expr(if v != 0 { a } else { b }),
                None => self.expr(c) && self.expr(a) && self.expr(b),
            },
            Ek::Arith(_, a, b) => e.ty == Ty::Int && self.expr(a) && self.expr(b),
            Ek::Cmp(op, a, b) => match (self.name_at(a), self.name_at(b)) {
                (Some(x), Some(y)) if matches!(op, Cmp::Eq | Cmp::Ne) => self.expr(x) && self.expr(y),
                _ => {
                    let sized = matches!(op, Cmp::Eq | Cmp::Ne) || a.ty == Ty::Int && b.ty == Ty::Int;
                    sized && self.expr(a) && self.expr(b)
                }
            },
            Ek::Call(f, args) => {
                let known = self.fns.borrow().get(f).copied();
                let good = known.unwrap_or_else(|| {
                    let good = self.expr(&self.b.model.fns[*f].body);
                    self.fns.borrow_mut().insert(*f, good);
                    good
                });
                good && args.iter().all(|a| !a.ty.is_block() && self.expr(a))
            }
            Ek::Quant(q) => {
                use QuantKind as Q;
                matches!(q.kind, Q::Count | Q::All | Q::Any | Q::Sum | Q::Min | Q::Max)
                    && self.over(&q.over).is_some()
                    && q.filter.iter().chain(&q.body).all(|e| self.expr(e))
                    && (!matches!(q.kind, Q::Min | Q::Max)
                        || q.body.as_ref().is_some_and(|b| b.ty == Ty::Int))
            }
            _ => false,
        }
    }

    /// A grid that may be looked into at any cell: of the state, or a level value that is the same at every cell.
    fn grid(&self, base: &Expr) -> bool {
        let Ek::Var(When::Now | When::Before, v) = base.kind else { return false };
        let (def, slot) = (&self.b.model.vars[v], &self.b.slots[v]);
        let even = || self.b.data[slot.base..slot.base + slot.len].windows(2).all(|w| w[0] == w[1]);
        matches!(def.shape, Extent::Grid | Extent::Set) && (def.state || even())
    }

    /// Whether something may be run over, and if so whether it is cells.
    fn over(&self, over: &Range) -> Option<bool> {
        match over {
            Range::Board => Some(true),
            Range::Cells(e) => {
                let set =
                    matches!(e.kind, Ek::Var(When::Now | When::Before, _)) && e.ty == Ty::Set && self.grid(e);
                set.then_some(true)
            }
            Range::Ints(a, b) => (self.expr(a) && self.expr(b)).then_some(false),
            Range::Enum(_) => Some(false),
            _ => None,
        }
    }

    fn block(&self, block: &[Stmt]) -> bool {
        block.iter().all(|s| self.stmt(s))
    }

    fn target(&self, t: &Target) -> bool {
        match t {
            Target::Local(_) => true,
            Target::Var(v) => self.b.model.vars[*v].shape == Extent::One,
            Target::VarAt(v, at) => {
                matches!(self.b.model.vars[*v].shape, Extent::Grid | Extent::Set) && self.expr(at)
            }
            _ => false,
        }
    }

    fn stmt(&self, s: &Stmt) -> bool {
        match &s.kind {
            St::Assign(t, e) => self.target(t) && t.var() != self.names && self.expr(e),
            St::If(c, yes, no) => match self.decided(c) {
                Some(v) => self.block(if v != 0 { yes } else { no }),
                None => self.expr(c) && self.block(yes) && self.block(no),
            },
            St::For { local, over, filter, body } => match self.over(over) {
                None => false,
                Some(cells) => {
                    filter.as_ref().is_none_or(|f| self.expr(f))
                        && self.block(body)
                        && (!cells || is_apart(*local, filter.as_ref(), body))
                }
            },
            St::Refuse { unless, .. } => unless.as_ref().is_none_or(|e| self.expr(e)),
            St::Require(e, _) | St::Score(e) | St::Tally(_, e) => self.expr(e),
            St::Phase(_, body) => self.block(body),
            St::Judge | St::End(_) | St::Note(..) => true,
            St::Call(p, args) => {
                let known = self.procs.borrow().get(p).copied();
                let good = known.unwrap_or_else(|| {
                    let good = self.block(&self.b.model.procs[*p].body);
                    self.procs.borrow_mut().insert(*p, good);
                    good
                });
                good && args.iter().all(|a| !a.ty.is_block() && self.expr(a))
            }
            _ => false,
        }
    }
}

fn is_place(ty: Ty) -> bool {
    !matches!(ty, Ty::Int | Ty::Bool | Ty::Enum(_) | Ty::Maybe(Base::Int | Base::Enum(_)))
}

/// Whether each round of a loop touches only what belongs to its own cell, and reads of what is written only that: then
/// the order of the rounds does not matter.
fn is_apart(local: LocalId, filter: Option<&Expr>, body: &[Stmt]) -> bool {
    let own = |e: &Expr| matches!(e.kind, Ek::Local(l) if l == local);
    let (mut good, mut written, mut exprs) = (true, vec![], vec![]);
    exprs.extend(filter);
    for s in body {
        s.each(&mut |s| {
            written.extend(s.written());
            exprs.extend(s.exprs());
            good &= match &s.kind {
                St::Assign(Target::VarAt(_, at), _) => own(at),
                St::If(..) | St::Score(_) => true,
                _ => false,
            };
        });
    }
    good && exprs.into_iter().all(|e| reads_apart(e, &written, &own))
}
