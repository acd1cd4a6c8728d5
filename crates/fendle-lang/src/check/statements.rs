//! Statements.

use super::*;

/// A statement takes more of a stack than an expression.
const STATEMENT: u32 = 2;

impl Checker<'_> {
    pub(super) fn block(&mut self, block: &[tree::Stmt]) -> Vec<Stmt> {
        self.nested(|c| c.statements(block))
    }

    pub(super) fn statements(&mut self, block: &[tree::Stmt]) -> Vec<Stmt> {
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
            if !self.may_nest(STATEMENT, stmt.span) {
                continue;
            }
            self.nesting += STATEMENT;
            let checked = self.stmt(stmt);
            self.nesting -= STATEMENT;
            self.forget_changed(std::slice::from_ref(stmt));
            if let Some(kind) = checked {
                out.push(Stmt { kind, span: stmt.span });
            }
        }
        out
    }

    pub(super) fn stmt(&mut self, stmt: &tree::Stmt) -> Option<St> {
        Some(match &stmt.kind {
            S::Let {
                name,
                ty: Some(tree::Type { kind: tree::TypeKind::List { elem, max, bag }, .. }),
                value,
                mutable,
            } => return self.list_statement(name, elem, max, *bag, value, *mutable),
            S::Let { name, ty, value, mutable } => {
                self.let_statement(name, ty.as_ref(), value, *mutable, stmt.span)
            }
            S::Assign { target, op, value } => return self.assign_statement(target, *op, value, stmt.span),
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
            S::If { cond, then, other } => self.if_statement(cond, then, other),
            S::For { binder, body } => self.nested(|c| {
                c.forget_changed(body);
                let (local, over, filter) = c.binder(binder);
                let body = c.looped(stmt.span, body);
                St::For { local, over, filter, body }
            }),
            S::Repeat { bound, cond, body, cut } => self.repeat_statement(bound, cond, body, *cut, stmt.span),
            S::Draw { .. } => return self.draw(stmt, &[]),
            S::Method(e) => return self.method(e),
            S::Write { parts, fill, into, along } => return self.write_statement(parts, fill, into, along),
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
                return self.cut_statement(binder, grid, fill, from, stmt.span);
            }
            S::Insert { row, grid, at, from } => return self.insert_statement(row, grid, at, from),
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
                    .push("move it above all other statements of the move; only names given with `let` may stand before it".into());
                return None;
            }
            S::Refuse { why, at, unless } => self.refuse_statement(why, at, unless.as_ref(), stmt.span),
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
                return self.member_statement(matches!(stmt.kind, S::Add(..)), cell, set, stmt.span);
            }
            S::Call(name, args) => return self.call_statement(name, args),
        })
    }

    /// A call of a procedure, and what it does where it is called: refusing, drawing.
    fn call_statement(&mut self, name: &Name, args: &[A]) -> Option<St> {
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
        Some(St::Call(ProcId(p), args))
    }

    /// `add CELL to SET` or `remove CELL from SET`; of a bag, an entry.
    fn member_statement(&mut self, add: bool, cell: &A, set: &A, span: Span) -> Option<St> {
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
                self.error("M051", span, "a list has an order").notes.push("write `LIST.push(x)`".into());
                return None;
            }
            let mut value = self.coerce(cell, elem.ty());
            if let Some(dom) = self.list_dom(&list) {
                value = within(value, &dom);
            }
            return Some(if add { St::Push(list, value) } else { St::Drop(list, value) });
        }
        let cell = self.coerce(cell, Ty::Cell);
        if let (Ty::Part(p, Scalar::Bool), Target::VarAt(v, first)) = (ty, &target)
            && self.pairs[p].1 == Keyed::Cell
            && cell.ty == Ty::Cell
        {
            let at = self.second_index(p, first.clone(), cell);
            let value = Expr { kind: Ek::Const(i64::from(add)), ty: Ty::Bool, span };
            return Some(St::Assign(Target::VarAt(*v, at), value));
        }
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
        Some(St::Assign(target, Expr { kind: Ek::Const(i64::from(add)), ty: Ty::Bool, span }))
    }

    /// `refuse WHY at CELLS unless COND`: only where a move can still be refused.
    fn refuse_statement(&mut self, why: &str, at: &[A], unless: Option<&A>, span: Span) -> St {
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
            self.error("M022", span, what).notes.push(instead.into());
        }
        if self.drawn {
            self.error("M046", span, "a move is not refused after a draw")
                .notes
                .push("what is refused would tell what was drawn; refuse before the draw".into());
        }
        self.refused_here = true;
        let unless = unless.map(|e| {
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
        self.refuses.push(RefuseSite { why: why.to_string(), span });
        St::Refuse { site, at, unless }
    }

    /// `insert ROW into GRID at LANE, from SIDE`.
    fn insert_statement(&mut self, row: &A, grid: &A, at: &A, from: &A) -> Option<St> {
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
        Some(St::Insert { row, into, at, from })
    }

    /// `cut r in rows where C out of GRID, FILL from SIDE`.
    fn cut_statement(
        &mut self,
        binder: &tree::Binder,
        grid: &A,
        fill: &A,
        from: &A,
        span: Span,
    ) -> Option<St> {
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
        self.nested(|c| {
            let (local, _, filter) = c.binder(binder);
            let Some(filter) = filter else {
                c.error("M053", span, "which ones? add `where`");
                return None;
            };
            Some(St::CutOut { local, columns, filter, into, fill, from })
        })
    }

    /// `write PARTS, then FILL, into GRID along LANE`.
    fn write_statement(&mut self, parts: &[A], fill: &A, into: &A, along: &A) -> Option<St> {
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
        Some(St::Write { parts, fill, into, along })
    }

    /// `repeat BOUND while COND { BODY }`, with or without `else cut`.
    fn repeat_statement(&mut self, bound: &A, cond: &A, body: &[tree::Stmt], cut: bool, span: Span) -> St {
        let bound = self.expr(bound);
        let bound = self.coerce(bound, Ty::Int);
        self.forget_changed(body);
        let cond = self.expr(cond);
        let cond = self.coerce(cond, Ty::Bool);
        let drawn = std::mem::replace(&mut self.drawn, false);
        let body = self.nested(|c| {
            c.note_facts(&cond, true);
            c.looped(span, body)
        });
        if cut && !self.drawn {
            self.error("M052", span, "nothing is drawn in this loop, so it need not be cut")
                .notes
                .push("without `else cut`, more rounds than the bound are a fault of the model".into());
        }
        self.drawn |= drawn;
        self.cuts |= cut;
        if cut && self.place == Place::Setup {
            self.error("M052", span, "a setup is not cut; use `require`");
        }
        St::Repeat { bound, cond, body, cut }
    }

    /// `if COND { THEN } else { OTHER }`: what is known in each block, and whether anything was drawn in one.
    fn if_statement(&mut self, cond: &A, then: &[tree::Stmt], other: &[tree::Stmt]) -> St {
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

    /// `TARGET = VALUE`, or with an operator before the sign.
    fn assign_statement(&mut self, target: &A, op: Option<BinOp>, value: &A, span: Span) -> Option<St> {
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
                    self.error("M018", span, "a tally is only added to")
                        .notes
                        .push(format!("write `{n} += ...`; its start is 0"));
                    return None;
                }
            };
            return Some(St::Tally(t, value));
        }
        if let K::Field(base, part) = &target.kind
            && let Some(whole) = self.changed_record(base, part, op, value, span)
        {
            return whole;
        }
        let (to, ty) = self.target(target)?;
        if let Ty::Part(p, Scalar::Bool) = ty
            && self.pairs[p].1 == Keyed::Cell
            && op.is_none()
        {
            return self.assign_set(to, value, span);
        }
        let value = match op {
            None => self.expr(value),
            Some(op) => {
                let whole = A { kind: K::Bin(op, Box::new(target.clone()), Box::new(value.clone())), span };
                self.expr(&whole)
            }
        };
        let mut value = self.coerce(value, ty);
        if let Target::Local(l) = to
            && let Some(dom) = self.scope.locals[l].dom.clone()
        {
            value = within(value, &dom);
        }
        Some(St::Assign(to, value))
    }

    /// `let NAME: TYPE = VALUE`, or `var`.
    fn let_statement(
        &mut self,
        name: &Name,
        ty: Option<&tree::Type>,
        value: &A,
        mutable: bool,
        span: Span,
    ) -> St {
        let value = self.expr(value);
        let mut dom = None;
        let (ty, value) = match ty {
            None => (value.ty, value),
            Some(t) if matches!(&t.kind, tree::TypeKind::Named(n) if n == "place") => {
                (Ty::Place, self.coerce(value, Ty::Place))
            }
            Some(t) if matches!(t.kind, tree::TypeKind::Set) => (Ty::Set, self.coerce(value, Ty::Set)),
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
        if matches!(ty, Ty::List(..)) && mutable {
            self.error("M058", name.span, "a list that changes needs a bound")
                .notes
                .push(format!("write `var {}: list of 0..9 max 4 = ...`", name.text));
        }
        if matches!(ty, Ty::Lists(..)) {
            self.error("M014", span, "one list at a time can be named, not a whole array of them");
        }
        // A copy of a whole grid of bools can be changed like any set of cells.
        let local = self.bind(name, ty, mutable, dom);
        St::Assign(Target::Local(local), value)
    }

    /// `let NAME: list of ELEM max MAX = VALUE`: a list that can be changed, with its bound.
    fn list_statement(
        &mut self,
        name: &Name,
        elem: &tree::Type,
        max: &A,
        bag: bool,
        value: &A,
        mutable: bool,
    ) -> Option<St> {
        let dom = self.dom(elem)?;
        let scalar = dom.scalar();
        let max = self.expr(max);
        let max = self.coerce(max, Ty::Int);
        let want = Ty::List(scalar, bag);
        let value = match &value.kind {
            K::Empty => None,
            _ => {
                let value = self.expr(value);
                let value = self.coerce(value, want);
                Some(within(value, &dom))
            }
        };
        let local = self.bind(name, want, mutable, Some(dom));
        Some(St::NewList { local, value, max })
    }

    /// A set into an array of sets, cell by cell: where it goes and what it is are found before anything changes.
    fn assign_set(&mut self, to: Target, value: &A, span: Span) -> Option<St> {
        let Target::VarAt(v, first) = to else { return None };
        let value = self.expr(value);
        let value = self.coerce(value, Ty::Set);
        if value.ty == Ty::Bad {
            return None;
        }
        let mut fresh = |what: &str, ty| {
            let local = LocalId(self.scope.locals.len());
            let name = format!("{what} {local:?}");
            self.scope.locals.push(LocalDef { name, ty, mutable: false, dom: None, span });
            local
        };
        let (at, set, cell) = (fresh("at", Ty::Int), fresh("set", Ty::Set), fresh("cell", Ty::Cell));
        let read = |l: LocalId, ty| Expr { kind: Ek::Local(l), ty, span };
        let index = Ek::Arith(Arith::Add, Box::new(read(at, Ty::Int)), Box::new(read(cell, Ty::Int)));
        let entry = Ek::Index(Box::new(read(set, Ty::Set)), Box::new(read(cell, Ty::Cell)));
        let put = St::Assign(
            Target::VarAt(v, Expr { kind: index, ty: Ty::Int, span }),
            Expr { kind: entry, ty: Ty::Bool, span },
        );
        let stmt = |kind| Stmt { kind, span };
        let body = vec![
            stmt(St::Assign(Target::Local(at), first)),
            stmt(St::Assign(Target::Local(set), value)),
            stmt(St::For { local: cell, over: Range::Board, filter: None, body: vec![stmt(put)] }),
        ];
        Some(St::If(Expr { kind: Ek::Const(1), ty: Ty::Bool, span }, body, vec![]))
    }

    /// A part of a record assigned to: the record with its other parts as they are. `None` where `base` is no record.
    #[allow(clippy::option_option)]
    fn changed_record(
        &mut self,
        base: &A,
        part: &Name,
        op: Option<BinOp>,
        value: &A,
        span: Span,
    ) -> Option<Option<St>> {
        if matches!(&base.kind, K::Name(n) if n == "before" || n == "start") {
            return None;
        }
        let said = self.errors.len();
        let old = self.expr(base);
        let Ty::Record(r) = old.ty else {
            self.errors.truncate(said);
            return None;
        };
        let parts = self.records[r].parts.clone();
        let Some(at) = parts.iter().position(|p| p.0 == part.text) else {
            let whole =
                A { kind: K::Field(Box::new(base.clone()), part.clone()), span: base.span.to(part.span) };
            self.expr(&whole);
            return Some(None);
        };
        let value = match op {
            None => self.expr(value),
            Some(op) => {
                let read = A { kind: K::Field(Box::new(base.clone()), part.clone()), span };
                self.expr(&A { kind: K::Bin(op, Box::new(read), Box::new(value.clone())), span })
            }
        };
        let (to, _) = match self.target(base) {
            Some(target) => target,
            None => return Some(None),
        };
        let dom = &parts[at].1;
        let value = self.coerce(value, dom.scalar().ty());
        let value = within(value, dom);
        let make = |i: usize, d: &Dom| {
            let kind = Ek::Part(Box::new(old.clone()), r, i);
            Expr { kind, ty: d.scalar().ty(), span }
        };
        let all =
            parts.iter().enumerate().map(|(i, (_, d))| if i == at { value.clone() } else { make(i, d) });
        let record = Expr { kind: Ek::MakeRecord(r, all.collect()), ty: Ty::Record(r), span };
        Some(Some(St::Assign(to, record)))
    }

    /// The body of a loop: what it draws comes before what it refuses, the next time round.
    pub(super) fn looped(&mut self, span: Span, body: &[tree::Stmt]) -> Vec<Stmt> {
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

    pub(super) fn end(&mut self, kind: EndKind, why: Option<String>) -> St {
        self.ends_by_statement = true;
        St::End(self.ending(kind, why))
    }
}
