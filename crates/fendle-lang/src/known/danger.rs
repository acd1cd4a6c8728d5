//! Which moves can lose, and by which hidden cells.

use super::*;

/// The parts of the rules that can lose the game.
pub struct Danger<'m> {
    model: &'m Model,
    /// Variables that the conditions of losing read.
    read: Vec<bool>,
    procs: Vec<bool>,
}

impl<'m> Danger<'m> {
    /// Looks through a model.
    #[must_use]
    pub fn new(model: &'m Model) -> Danger<'m> {
        let mut read = vec![false; model.vars.len()];
        for s in model.statuses.iter().filter(|s| model.endings[s.ending].kind == EndKind::Lost) {
            reads(model, &s.cond.expr, &mut read);
        }
        let mut d = Danger { model, read, procs: vec![false; model.procs.len()] };
        for _ in 0..=model.procs.len() {
            for (i, p) in model.procs.iter().enumerate() {
                d.procs[i] = p.body.iter().any(|s| d.stmt(s));
            }
        }
        d
    }

    pub(super) fn stmt(&self, s: &Stmt) -> bool {
        let mut dangerous = false;
        s.each(&mut |s| {
            dangerous |= match &s.kind {
                St::End(e) => self.model.endings[*e].kind == EndKind::Lost,
                // Whether the move is allowed at all is asked here too.
                St::Refuse { .. } => true,
                St::Judge => self.read.iter().any(|r| *r),
                St::Call(p, _) => self.procs[p.0],
                _ => s.written().into_iter().any(|v| self.read[v]),
            };
        });
        dangerous
    }

    /// The body of a move up to the last statement that can lose, the blocks behind it that can, and whether
    /// conditions have to be asked.
    pub(super) fn part(&self, of: usize) -> (&'m [Stmt], Vec<&'m ProcDef>, bool) {
        let m = &self.model.moves[of];
        let blocks: Vec<&ProcDef> = (self.model.after.iter())
            .chain(self.model.ticks.iter().filter(|t| t.on.is_none_or(|o| o == of)).map(|t| &t.body))
            .collect();
        let last = blocks.iter().rposition(|b| b.body.iter().any(|s| self.stmt(s)));
        let status = self.read.iter().any(|r| *r);
        match last {
            Some(i) => (&m.body, blocks[..=i].to_vec(), status),
            None => {
                let n = m.body.iter().rposition(|s| self.stmt(s)).map_or(0, |i| i + 1);
                (&m.body[..n], vec![], status)
            }
        }
    }
}

pub(super) fn reads(model: &Model, e: &Expr, out: &mut [bool]) {
    let mut fns = vec![];
    e.each(&mut |e| match &e.kind {
        Ek::Var(_, v) => out[*v] = true,
        Ek::Call(f, _) => fns.push(*f),
        _ => {}
    });
    for f in fns {
        reads(model, &model.fns[f].body, out);
    }
}

/// One way that a move may go wrong or not: what has to be so, whether the game is lost then, and the chance of draws.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// Unknown cells and what they are.
    pub cells: Vec<(u32, bool)>,
    /// Lost.
    pub lost: bool,
    /// Numerator and denominator of the chance of what is drawn.
    pub chance: (u128, u128),
}

/// Most ways of one move that are followed.
pub(super) const WAYS_MAX: usize = 512;
