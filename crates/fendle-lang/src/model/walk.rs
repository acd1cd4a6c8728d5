//! The parts of checked expressions and statements, for rules that look at whole bodies.

use crate::model::*;

impl Range {
    /// The expressions that say what is run over.
    #[must_use]
    pub fn exprs(&self) -> Vec<&Expr> {
        match self {
            Range::Board | Range::Dirs(_) | Range::Enum(_) => vec![],
            Range::Cells(e) | Range::Lanes(e) | Range::Lane(e) | Range::List(e) | Range::Covered(e) => {
                vec![e]
            }
            Range::Around(e, by) => std::iter::once(e).chain(by).collect(),
            Range::Offsets(by) => by.iter().collect(),
            Range::Ints(lo, hi) => vec![lo, hi],
        }
    }
}

impl Expr {
    /// Whether two expressions are written alike, changes between cells and places aside: where both stand side by side, they
    /// have one value. What it cannot tell is not the same.
    #[must_use]
    pub fn says_same(&self, other: &Expr) -> bool {
        /// An expression without changes between cells and places.
        fn bare(e: &Expr) -> &Expr {
            match &e.kind {
                Ek::ToPlace(inner) | Ek::ToCell(inner) => bare(inner),
                _ => e,
            }
        }
        let (a, b) = (bare(self), bare(other));
        let both =
            |x: &[Expr], y: &[Expr]| x.len() == y.len() && x.iter().zip(y).all(|(x, y)| x.says_same(y));
        match (&a.kind, &b.kind) {
            (Ek::Const(x), Ek::Const(y)) => x == y && a.ty == b.ty,
            (Ek::Var(w, x), Ek::Var(u, y)) => w == u && x == y,
            (Ek::Local(x), Ek::Local(y)) => x == y,
            (Ek::Index(x, i), Ek::Index(y, j))
            | (Ek::Entry(x, i), Ek::Entry(y, j))
            | (Ek::OffMul(x, i), Ek::OffMul(y, j)) => x.says_same(y) && i.says_same(j),
            (Ek::Shift(x, i, m), Ek::Shift(y, j, n)) | (Ek::OffAdd(x, i, m), Ek::OffAdd(y, j, n)) => {
                m == n && x.says_same(y) && i.says_same(j)
            }
            (Ek::End(x, m), Ek::End(y, n)) => m == n && x.says_same(y),
            (Ek::Arith(o, x, i), Ek::Arith(p, y, j)) => o == p && x.says_same(y) && i.says_same(j),
            (Ek::Neg(x), Ek::Neg(y))
            | (Ek::DirOffset(x), Ek::DirOffset(y))
            | (Ek::Given(x), Ek::Given(y)) => x.says_same(y),
            (Ek::Part(x, r, i), Ek::Part(y, s, j)) => r == s && i == j && x.says_same(y),
            (Ek::Builtin(f, x), Ek::Builtin(g, y)) => f == g && both(x, y),
            (Ek::Call(f, x), Ek::Call(g, y)) => f == g && both(x, y),
            (Ek::Within(x, _), Ek::Within(y, _)) => x.says_same(y),
            _ => false,
        }
    }

    /// The expressions that this one is made of, in the order in which they are written.
    #[must_use]
    pub fn parts(&self) -> Vec<&Expr> {
        match &self.kind {
            Ek::Const(_) | Ek::Var(..) | Ek::Local(_) | Ek::Asked(_) | Ek::Can(None) => vec![],
            Ek::Not(a)
            | Ek::Neg(a)
            | Ek::DirOffset(a)
            | Ek::ToPlace(a)
            | Ek::Within(a, _)
            | Ek::ToCell(a)
            | Ek::OnBoard(a)
            | Ek::End(a, _)
            | Ek::Part(a, ..)
            | Ek::Given(a) => vec![a],
            Ek::Index(a, b)
            | Ek::Arith(_, a, b)
            | Ek::Cmp(_, a, b)
            | Ek::SameBlock(a, b, _)
            | Ek::And(a, b)
            | Ek::Or(a, b)
            | Ek::Shift(a, b, _)
            | Ek::OffAdd(a, b, _)
            | Ek::OffMul(a, b)
            | Ek::Union(a, b)
            | Ek::Minus(a, b)
            | Ek::Both(a, b)
            | Ek::Entry(a, b)
            | Ek::InList(a, b)
            | Ek::MoveShape(a, b, _) => vec![a, b],
            Ek::IndexOutside(a, b, c) | Ek::Cond(a, b, c) => vec![a, b, c],
            Ek::Call(_, args) | Ek::Builtin(_, args) | Ek::MakeRecord(_, args) => args.iter().collect(),
            Ek::Can(Some((_, args))) => args.iter().collect(),
            Ek::Leads(_, of, cond) => of.iter().flat_map(|m| &m.1).chain([&**cond]).collect(),
            Ek::Quant(q) => q.over.exprs().into_iter().chain(&q.filter).chain(&q.body).collect(),
            Ek::Flood(f) => [&f.from].into_iter().chain(&f.by).chain([&f.cond]).collect(),
        }
    }

    /// How many local names it takes where it stands outside any body: those of what it counts, sums, or goes through.
    #[must_use]
    pub fn own_names(&self) -> usize {
        let mut count = 0;
        self.each(&mut |e| {
            let last = match &e.kind {
                Ek::Quant(q) => Some(q.local),
                Ek::Flood(f) => f.next.max(Some(f.local)),
                _ => None,
            };
            count = last.map_or(count, |local| count.max(local.0 + 1));
        });
        count
    }

    /// Calls `see` with this expression and everything inside it, from the outside in.
    pub fn each<'e>(&'e self, see: &mut dyn FnMut(&'e Expr)) {
        see(self);
        for part in self.parts() {
            part.each(see);
        }
    }
}

impl Target {
    /// The expression that says which part of a variable is meant.
    #[must_use]
    pub fn exprs(&self) -> Vec<&Expr> {
        match self {
            Target::Local(_) | Target::Var(_) => vec![],
            Target::LocalAt(_, e) | Target::VarAt(_, e) => vec![e],
            Target::Entry(list, spot) => {
                let at = if let Spot::At(e) = spot { Some(e) } else { None };
                list.exprs().into_iter().chain(at).collect()
            }
        }
    }

    /// The state variable that is written, if it is one.
    #[must_use]
    pub fn var(&self) -> Option<VarId> {
        match self {
            Target::Var(v) | Target::VarAt(v, _) => Some(*v),
            Target::Entry(list, _) => list.var(),
            Target::Local(_) | Target::LocalAt(..) => None,
        }
    }

    /// The local name that is written, if it is one.
    #[must_use]
    pub fn local(&self) -> Option<LocalId> {
        match self {
            Target::Local(l) | Target::LocalAt(l, _) | Target::Entry(ListRef::Local(l), _) => Some(*l),
            _ => None,
        }
    }
}

impl ListRef {
    fn exprs(&self) -> Vec<&Expr> {
        if let ListRef::VarAt(_, e) = self { vec![e] } else { vec![] }
    }

    /// The state variable that holds the list, if it is one.
    #[must_use]
    pub fn var(&self) -> Option<VarId> {
        match self {
            ListRef::Var(v) | ListRef::VarAt(v, _) => Some(*v),
            ListRef::Local(_) => None,
        }
    }
}

impl Stmt {
    /// The expressions that stand in this statement itself.
    #[must_use]
    pub fn exprs(&self) -> Vec<&Expr> {
        match &self.kind {
            St::Assign(t, e) => t.exprs().into_iter().chain([e]).collect(),
            St::Swap(a, b) => a.exprs().into_iter().chain(b.exprs()).collect(),
            St::If(e, ..) | St::Score(e) | St::Tally(_, e) | St::Require(e, _) => vec![e],
            St::For { over, filter, .. } => over.exprs().into_iter().chain(filter).collect(),
            St::Repeat { bound, cond, .. } => vec![bound, cond],
            St::Draw { from, into, .. } => {
                let mut out: Vec<&Expr> = into.iter().flat_map(Target::exprs).collect();
                match from {
                    DrawFrom::Range { over, filter, weight } => {
                        out.extend(over.exprs().into_iter().chain(filter).chain(weight));
                    }
                    DrawFrom::Values(values) => out.extend(values.iter().flat_map(|(v, w)| [v, w])),
                }
                out
            }
            St::NewList { value, max, .. } => value.iter().chain([max]).collect(),
            St::Push(l, e) | St::Drop(l, e) => l.exprs().into_iter().chain([e]).collect(),
            St::Pop(l) | St::Clear(l) => l.exprs(),
            St::Take(n, a, b) => [n].into_iter().chain(a.exprs()).chain(b.exprs()).collect(),
            St::Write { parts, fill, into, along } => {
                parts.iter().chain([fill]).chain(into.exprs()).chain([along]).collect()
            }
            St::CutOut { filter, into, fill, from, .. } => {
                [filter, fill, from].into_iter().chain(into.exprs()).collect()
            }
            St::Insert { row, into, at, from } => [row, at, from].into_iter().chain(into.exprs()).collect(),
            St::Refuse { at, unless, .. } => at.iter().chain(unless).collect(),
            St::Note(_, at) => at.iter().collect(),
            St::Call(_, args) => args.iter().collect(),
            St::Phase(..) | St::Judge | St::End(_) => vec![],
        }
    }

    /// The blocks of statements inside this one.
    #[must_use]
    pub fn blocks(&self) -> Vec<&[Stmt]> {
        match &self.kind {
            St::If(_, a, b) => vec![a, b],
            St::For { body, .. } | St::Repeat { body, .. } | St::Phase(_, body) => vec![body],
            St::Draw { rest, other, .. } => {
                std::iter::once(rest.as_slice()).chain(other.as_deref()).collect()
            }
            _ => vec![],
        }
    }

    /// Calls `see` with this statement and every one inside it.
    pub fn each<'s>(&'s self, see: &mut dyn FnMut(&'s Stmt)) {
        see(self);
        for stmt in self.blocks().into_iter().flatten() {
            stmt.each(see);
        }
    }

    /// The state variables that this statement itself writes.
    #[must_use]
    pub fn written(&self) -> Vec<VarId> {
        match &self.kind {
            St::Assign(t, _) => t.var().into_iter().collect(),
            St::Swap(a, b) => a.var().into_iter().chain(b.var()).collect(),
            St::Draw { into, .. } => into.iter().filter_map(Target::var).collect(),
            St::Push(l, _) | St::Drop(l, _) | St::Pop(l) | St::Clear(l) => l.var().into_iter().collect(),
            St::Take(_, a, b) => a.var().into_iter().chain(b.var()).collect(),
            St::Write { into, .. } | St::CutOut { into, .. } | St::Insert { into, .. } => {
                into.var().into_iter().collect()
            }
            _ => vec![],
        }
    }
}
