//! What the rules may do with hidden things.
//!
//! The flow rule: whether a move is offered or refused is told to the player, so neither may depend on
//! what is hidden. An `offer` or a condition of `refuse` must not read it, directly, through functions,
//! or through local names; no `refuse` stands inside a block that what is hidden decides about; and none
//! stands behind a statement that may depend on it. Stricter than needed, and easy to check by eye.

use crate::model::*;
use crate::source::{Diagnostic, Span};

/// Which functions and procedures depend on hidden things.
pub(crate) struct Depends<'m> {
    model: &'m Model,
    fns: Vec<bool>,
    procs: Vec<bool>,
}

impl<'m> Depends<'m> {
    pub(crate) fn new(model: &'m Model) -> Depends<'m> {
        let mut d =
            Depends { model, fns: vec![false; model.fns.len()], procs: vec![false; model.procs.len()] };
        // None recurses: what is true has come through after as many rounds as there are bodies.
        for _ in 0..=model.fns.len() {
            for (i, f) in model.fns.iter().enumerate() {
                d.fns[i] = d.expr(&f.body, &[]);
            }
        }
        for _ in 0..=model.procs.len() {
            for (i, p) in model.procs.iter().enumerate() {
                d.procs[i] = d.block(&p.body, &mut vec![false; p.locals.len()]);
            }
        }
        d
    }

    fn is_hidden(&self, v: VarId) -> bool {
        let def = &self.model.vars[v];
        def.hidden || def.untold
    }

    /// Whether an expression reads what is hidden; `tainted` says which local names hold what was read.
    pub(crate) fn expr(&self, e: &Expr, tainted: &[bool]) -> bool {
        match &e.kind {
            Ek::Var(_, v) => self.is_hidden(*v),
            // How long a hidden list is, is seen.
            Ek::Builtin(Builtin::ListLen, args) if matches!(&args[0].kind, Ek::Var(_, v) if self.model.vars[*v].shuffled.is_some()) => {
                false
            }
            Ek::Local(l) => tainted.get(l.0).copied().unwrap_or(false),
            Ek::Call(f, args) => self.fns[f.0] || args.iter().any(|a| self.expr(a, tainted)),
            // Whether a move is possible never depends on it; what it leads to may.
            Ek::Can(_) => e.parts().into_iter().any(|p| self.expr(p, tainted)),
            Ek::Leads(..) => true,
            _ => e.parts().into_iter().any(|p| self.expr(p, tainted)),
        }
    }

    /// Whether a statement depends on what is hidden; taints the local names that it gives values.
    fn stmt(&self, s: &Stmt, tainted: &mut Vec<bool>) -> bool {
        let mut depends = s.exprs().into_iter().any(|e| self.expr(e, tainted));
        match &s.kind {
            St::Call(p, _) => depends |= self.procs[p.0],
            // What is taken from a hidden list is not known beforehand.
            St::Take(_, from, _) => depends |= from.var().is_some_and(|v| self.is_hidden(v)),
            _ => {}
        }
        if depends {
            match &s.kind {
                St::Assign(t, _) => {
                    if let Some(l) = t.local() {
                        tainted[l] = true;
                    }
                }
                St::For { local, .. } | St::Draw { local, .. } | St::NewList { local, .. } => {
                    tainted[*local] = true
                }
                St::Push(ListRef::Local(l), _) | St::Take(_, _, ListRef::Local(l)) => tainted[*l] = true,
                _ => {}
            }
        }
        for block in s.blocks() {
            depends |= self.block(block, tainted);
        }
        depends
    }

    fn block(&self, block: &[Stmt], tainted: &mut Vec<bool>) -> bool {
        block.iter().fold(false, |d, s| self.stmt(s, tainted) | d)
    }
}

/// Everything in a model that would tell the player, and what is worth pointing out.
#[must_use]
pub fn findings(model: &Model) -> Vec<Diagnostic> {
    let mut out = vec![];
    if !model.hides() {
        if let Some(t) = model.tells.first() {
            out.push(Diagnostic::error(
                "M064",
                model.file,
                t.span,
                "nothing is hidden, so nothing needs telling",
            ));
        }
        return out;
    }
    let d = Depends::new(model);
    let tells = |span: Span, how: &str| {
        Diagnostic::error("M065", model.file, span, "this would tell the player")
            .here(how)
            .note("whether a move is offered or refused is seen; it must not depend on what is hidden")
            .note("let the move be made, and say what comes of it: `lose`, or a `tell`")
    };
    for m in &model.moves {
        for offer in &m.offers {
            if d.expr(offer, &[]) {
                out.push(tells(offer.span, "this reads what is hidden"));
            }
        }
        let mut tainted = vec![false; m.locals.len()];
        let mut behind = false;
        refusals(&d, &m.body, &mut tainted, &mut behind, &mut |span, how| out.push(tells(span, how)));
    }
    for v in model.vars.iter().filter(|v| v.hidden) {
        if v.shape == Extent::One && matches!(v.dom, Dom::Placed(_)) {
            out.push(Diagnostic::error("M063", model.file, v.span, "a placed shape cannot be hidden"));
        }
    }
    for s in &model.statuses {
        if model.endings[s.ending].kind == EndKind::Goal && d.expr(&s.cond.expr, &[]) {
            out.push(
                Diagnostic::error("W010", model.file, s.span, "the goal reads what is hidden")
                    .warning()
                    .note("then \"not yet won\" is itself a clue, and the player gets it for nothing"),
            );
        }
    }
    out
}

fn refusals(
    d: &Depends<'_>,
    block: &[Stmt],
    tainted: &mut Vec<bool>,
    behind: &mut bool,
    say: &mut dyn FnMut(Span, &str),
) {
    for s in block {
        match &s.kind {
            St::Refuse { unless, .. } => {
                if unless.as_ref().is_some_and(|e| d.expr(e, tainted)) {
                    say(s.span, "its condition reads what is hidden");
                } else if *behind {
                    say(s.span, "it stands behind something that depends on what is hidden");
                }
            }
            St::Call(p, _) => {
                let mut refuses = false;
                d.model.procs[*p].body.iter().for_each(|s| {
                    s.each(&mut |s| refuses |= matches!(s.kind, St::Refuse { .. }));
                });
                if refuses && (*behind || d.procs[p.0]) {
                    say(s.span, "a procedure that refuses depends on what is hidden");
                }
                *behind |= d.stmt(s, tainted);
            }
            _ => {
                // The condition of a block decides about the refusals in it.
                let decides = s.exprs().into_iter().any(|e| d.expr(e, tainted));
                let mut inner = *behind || decides;
                for block in s.blocks() {
                    refusals(d, block, tainted, &mut inner, say);
                }
                *behind |= d.stmt(s, tainted) || inner;
            }
        }
    }
}
