//! Which ways through the rules a move took: what test cases cover.

use crate::model::{Model, ProcDef, St, Stmt};
use crate::source::Span;

/// Which way a statement went.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Way {
    /// It was reached: a phase, a note, an end, a `judge`.
    Reached,
    /// The condition of an `if` held, or a loop ran at least once.
    Held,
    /// The condition of an `if` did not hold, or a `repeat` did not run at all.
    NotHeld,
    /// There was nothing to draw, and `else` was done instead.
    Nothing,
    /// The move was refused here.
    Refused,
}

/// A statement, by its place in the text of the model, and the way it went.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Mark {
    /// The statement.
    pub span: Span,
    /// The way it went.
    pub way: Way,
}

/// Every mark that the moves of a model can leave: those of its moves, of what happens after them, and of the procedures that these call.
/// In the order of the text.
#[must_use]
pub fn all_marks(model: &Model) -> Vec<Mark> {
    let mut all = All { model, seen: vec![false; model.procs.len()], out: vec![] };
    for def in &model.moves {
        all.block(&def.body);
    }
    let after = model.after.iter().chain(model.ticks.iter().map(|t| &t.body));
    after.for_each(|def: &ProcDef| all.block(&def.body));
    let mut out = all.out;
    out.sort_unstable();
    out.dedup();
    out
}

struct All<'m> {
    model: &'m Model,
    /// The procedures that were gone through.
    seen: Vec<bool>,
    out: Vec<Mark>,
}

impl All<'_> {
    fn block(&mut self, block: &[Stmt]) {
        for stmt in block {
            let mut can = |way| self.out.push(Mark { span: stmt.span, way });
            match &stmt.kind {
                St::If(_, then, other) => {
                    can(Way::Held);
                    can(Way::NotHeld);
                    self.block(then);
                    self.block(other);
                }
                St::For { body, .. } => {
                    can(Way::Held);
                    self.block(body);
                }
                St::Repeat { body, .. } => {
                    can(Way::Held);
                    can(Way::NotHeld);
                    self.block(body);
                }
                St::Draw { rest, other, .. } => {
                    if other.is_some() {
                        can(Way::Nothing);
                    }
                    self.block(rest);
                    self.block(other.as_deref().unwrap_or_default());
                }
                St::Phase(_, body) => {
                    can(Way::Reached);
                    self.block(body);
                }
                St::Refuse { .. } => can(Way::Refused),
                St::End(_) | St::Judge | St::Note(..) => can(Way::Reached),
                St::Call(proc, _) if !std::mem::replace(&mut self.seen[proc.0], true) => {
                    let model = self.model;
                    self.block(&model.procs[*proc].body);
                }
                _ => {}
            }
        }
    }
}
