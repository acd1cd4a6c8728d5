//! Statements, draws and loops.

use super::*;

impl Lower<'_> {
    pub(super) fn block(&mut self, block: &[Stmt]) {
        self.sometimes(|l| l.statements(block));
    }

    pub(super) fn statements(&mut self, block: &[Stmt]) {
        let frame = self.frame.clone();
        let next = self.next;
        for stmt in block {
            if self.full {
                return;
            }
            self.stmt(stmt);
        }
        self.frame = frame;
        // Registers are used again, so nothing may be known of them.
        self.cells.retain(|(p, c)| p.0 < next && c.0 < next);
        self.next = next;
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each kind of statement")]
    pub(super) fn stmt(&mut self, stmt: &Stmt) {
        let span = stmt.span;
        match &stmt.kind {
            St::Assign(target, value) => self.assign_stmt(target, value, span),
            St::Swap(a, b) => {
                let ia = self.index_of(a);
                let ib = self.index_of(b);
                let va = self.read(a, ia);
                let vb = self.read(b, ib);
                self.write(a, ia, O::R(vb), span);
                self.write(b, ib, O::R(va), span);
            }
            St::If(cond, then, other) if self.known(cond).is_some() => {
                // The level alone decides: what it leaves out is not there.
                self.block(if self.known(cond) == Some(1) { then } else { other });
            }
            St::If(cond, then, other) => self.branch(cond, then, other),
            St::For { local, over, filter, body } => self.for_stmt(*local, over, filter.as_ref(), body, span),
            St::Repeat { bound, cond, body, cut } => self.repeat(bound, cond, body, *cut, span),
            St::Phase(_, body) => {
                self.block(body);
                self.merge(body, span);
            }
            St::Draw { local, from, into, rest, other } => {
                self.draw(*local, from, into.as_ref(), rest, other.as_deref(), span);
            }
            St::NewList { local, value, max } => self.new_list(*local, value.as_ref(), max, span),
            St::Push(list, value) => {
                let v = self.value(value);
                let v = self.reg(v);
                let list = self.list_ref(list);
                self.push(list, v, span);
            }
            St::Pop(list) => {
                let list = self.list_ref(list);
                let i = self.spot(list, &Spot::Last, span);
                self.touched(list);
                self.emit(Op::ListDrop { a: list.addr, i, list: list.number });
            }
            St::Clear(list) => {
                let list = self.list_ref(list);
                let empty = self.local_list(0);
                let info = self.code.lists[usize::from(empty)];
                self.emit(Op::Reset { d: info.base, len: info.len });
                let s = self.reg(O::K(info.base.0.into()));
                self.touched(list);
                let site = self.site(FaultKind::ListFull, span);
                self.emit(Op::ListCopy { d: list.addr, s, list: list.number, from: empty, site });
            }
            St::Drop(list, value) => self.drop_entry(list, value, span),
            St::Take(count, from, onto) => self.take(count, from, onto, span),
            St::Write { parts, fill, into, along } => self.write_lane(parts, fill, into, along, span),
            St::CutOut { local, columns, filter, into, fill, from } => {
                self.cut_out(*local, *columns, filter, into, (fill, from), span);
            }
            St::Insert { row, into, at, from } => self.insert_lane(row, into, at, from, span),
            // Starts are drawn by the reference executor.
            St::Require(..) => {}
            St::Refuse { site, at, unless } => self.refuse(*site, at, unless.as_ref()),
            St::Judge => {
                let model = self.b.model.clone();
                let finish = self.finish;
                for s in &model.statuses {
                    self.inlined(&s.cond.locals, vec![], |l| l.cond(&s.cond.expr, finish, true));
                }
            }
            St::End(ending) => {
                self.clean = false;
                let s = self.reg(O::K(*ending as i64 + 1));
                let to = M(self.code.now + self.code.state_len - 1);
                self.emit(Op::PutAt { to, s });
                self.emit(Op::Jump { to: To(self.finish) });
            }
            St::Note(_, at) => {
                if let Some(e) = at {
                    self.value(e);
                }
            }
            St::Score(e) => {
                let s = self.value(e);
                let s = self.reg(s);
                let site = self.site(FaultKind::Overflow, span);
                self.emit(Op::Score { s, site });
            }
            St::Tally(_, e) => {
                self.value(e);
            }
            St::Call(p, args) => {
                let model = self.b.model.clone();
                let def = &model.procs[*p];
                let args = self.kept_args(args);
                self.inlined(&def.locals, args, |l| l.block(&def.body));
            }
        }
    }

    /// Refuses the move with the cells that are to blame, unless a condition holds.
    fn refuse(&mut self, site: usize, at: &[Expr], unless: Option<&Expr>) {
        let ok = self.label();
        if let Some(e) = unless {
            self.cond(e, ok, true);
        }
        self.sometimes(|l| {
            for e in at {
                if let Some(bits) = l.set_bits(e) {
                    let s = l.reg(bits);
                    l.emit(Op::RefuseAmong { s });
                } else if e.ty.is_block() {
                    let (base, _) = l.block_of(e);
                    l.emit(Op::RefuseIn { base });
                } else {
                    let p = l.value(e);
                    let p = l.reg(p);
                    l.emit(Op::RefuseAt { p });
                }
            }
        });
        self.emit(Op::Refuse { which: site as u32 });
        self.here(ok);
    }

    /// Moves the last entries of one list onto another.
    fn take(&mut self, count: &Expr, from: &ListRef, onto: &ListRef, span: Span) {
        let n = self.value(count);
        let n = self.reg(n);
        let from = self.list_ref(from);
        let onto = self.list_ref(onto);
        let len = self.list_len(from);
        let (ok, bad) = (self.label(), self.label());
        let zero = self.reg(O::K(0));
        self.emit(Op::JumpLt { a: n, b: zero, to: To(bad) });
        self.emit(Op::JumpLe { a: n, b: len, to: To(ok) });
        self.here(bad);
        let site = self.site(FaultKind::NoEntry, span);
        self.emit(Op::FaultWith { s: n, site });
        self.here(ok);
        self.touched(from);
        self.touched(onto);
        let room = self.code.lists[usize::from(from.number)].cap as usize;
        let to = self.pushed(room);
        self.emit(Op::ListTail { s: from.addr, n, to, list: from.number });
        let have = self.list_len(onto);
        let sum = self.fresh();
        self.emit(Op::Sum { d: sum, a: have, b: n });
        self.check_limit(sum, onto.limit, span);
        let site = self.site(FaultKind::ListFull, span);
        let check = self.site(FaultKind::OutOfDomain, span);
        self.emit(Op::ListJoin { d: onto.addr, n, from: to, list: onto.number, site });
        self.check_entries(onto, from.number, check);
    }

    /// Takes the first entry of a value out of a list.
    fn drop_entry(&mut self, list: &ListRef, value: &Expr, span: Span) {
        let v = self.value(value);
        let v = self.reg(v);
        let list = self.list_ref(list);
        let i = self.fresh();
        self.emit(Op::ListFind { d: i, a: list.addr, v, list: list.number });
        let ok = self.label();
        self.emit(Op::JumpIf { a: i, to: To(ok) });
        let site = self.site(FaultKind::NotInList, span);
        self.emit(Op::FaultWith { s: v, site });
        self.here(ok);
        self.touched(list);
        self.emit(Op::ListDrop { a: list.addr, i, list: list.number });
    }

    /// Does something again while a condition holds, up to a bound.
    fn repeat(&mut self, bound: &Expr, cond: &Expr, body: &[Stmt], cut: bool, span: Span) {
        let bound = self.value(bound);
        let bound = self.copy(bound);
        if changes_state(body) {
            self.clean = false;
        }
        let known = self.cells.len();
        let done = self.copy(O::K(0));
        let (top, exit, go) = (self.label(), self.label(), self.label());
        self.here(top);
        self.cond(cond, exit, false);
        self.emit(Op::JumpLt { a: done, b: bound, to: To(go) });
        if cut {
            self.emit(Op::Cut {});
        } else {
            let site = self.site(FaultKind::RepeatBound, span);
            self.emit(Op::FaultWith { s: bound, site });
        }
        self.here(go);
        self.emit(Op::Inc { d: done });
        self.block(body);
        self.merge(body, span);
        let site = self.site(FaultKind::StepBudget, span);
        self.emit(Op::Loop { to: To(top), site });
        self.here(exit);
        self.cells.truncate(known);
    }

    /// A condition, and what is done where it holds or not.
    fn branch(&mut self, cond: &Expr, then: &[Stmt], other: &[Stmt]) {
        let (no, end) = (self.label(), self.label());
        self.cond(cond, no, false);
        let clean = self.clean;
        self.block(then);
        let after_then = self.clean;
        if !other.is_empty() {
            self.emit(Op::Jump { to: To(end) });
        }
        self.here(no);
        self.clean = clean;
        self.block(other);
        self.here(end);
        self.clean &= after_then;
    }

    pub(super) fn merge(&mut self, body: &[Stmt], span: Span) {
        if self.draws && draws(self.b, body) {
            let point = self.point(span);
            self.emit(Op::Merge { point });
        }
    }

    pub(super) fn draw(
        &mut self,
        local: LocalId,
        from: &DrawFrom,
        into: Option<&Target>,
        rest: &[Stmt],
        other: Option<&[Stmt]>,
        span: Span,
    ) {
        let point = self.point(span);
        self.emit(Op::BeforeDraw { point });
        let least = self.reg(O::K(0));
        let count = self.copy(O::K(0));
        let push_weight = |l: &mut Self, w: &Expr, skip: Label, weights: M, n: R| {
            let v = l.value(w);
            let s = l.reg(v);
            let site = l.site(FaultKind::BadWeight, w.span);
            l.emit(Op::Check { s, lo: 0, hi: WEIGHT_MAX as i32, site });
            l.emit(Op::JumpLe { a: s, b: least, to: To(skip) });
            l.emit(Op::Push { d: n, base: weights, s });
        };
        let (base, weights) = match from {
            DrawFrom::Range { over, filter, weight } => {
                let room = self.room(over);
                let base = self.pushed(room);
                let weights = match weight {
                    Some(_) => self.pushed(room),
                    None => M(0),
                };
                self.each(local, over, None, filter.as_ref(), span, &mut |l, _| {
                    let skip = l.label();
                    if let Some(w) = weight {
                        let n = l.copy(O::R(count));
                        push_weight(l, w, skip, weights, n);
                    }
                    let o = l.local_value(local);
                    let s = l.reg(o);
                    l.emit(Op::Push { d: count, base, s });
                    l.here(skip);
                });
                (base, weights)
            }
            DrawFrom::Values(values) => {
                let (base, weights) = (self.pushed(values.len()), self.pushed(values.len()));
                for (v, w) in values {
                    let v = self.value(v);
                    let s = self.reg(v);
                    let skip = self.label();
                    self.sometimes(|l| {
                        let n = l.copy(O::R(count));
                        push_weight(l, w, skip, weights, n);
                        l.emit(Op::Push { d: count, base, s });
                    });
                    self.here(skip);
                }
                (base, weights)
            }
        };
        let (go, end) = (self.label(), self.label());
        self.emit(Op::JumpIf { a: count, to: To(go) });
        let clean = self.clean;
        match other {
            Some(other) => {
                self.block(other);
                self.emit(Op::Jump { to: To(end) });
            }
            None => {
                let site = self.site(FaultKind::NothingToDraw, span);
                self.emit(Op::Fault { site });
            }
        }
        self.here(go);
        let left = std::mem::replace(&mut self.clean, clean);
        let d = self.fresh();
        let point = self.point(span);
        self.emit(Op::Draw { d, n: count, base, weights, point });
        self.frame[local] = Local::Val(O::R(d));
        if let Some(into) = into {
            let i = self.index_of(into);
            self.write(into, i, O::R(d), span);
        }
        if other.is_some() {
            self.block(rest);
        }
        self.here(end);
        self.clean &= left;
    }

    pub(super) fn for_stmt(
        &mut self,
        local: LocalId,
        over: &Range,
        filter: Option<&Expr>,
        body: &[Stmt],
        span: Span,
    ) {
        if filter.is_none() {
            // What is run over is fixed before the body can change it.
            let fixed = match over {
                Range::Cells(set) => match self.set_bits(set) {
                    Some(bits) => Some(Kept::Bits(bits)),
                    None if matches!(set.kind, Ek::Flood(_)) => None,
                    None => {
                        let (s, len) = self.block_of(set);
                        let d = self.scratch(len);
                        self.emit(Op::CopyBlock { d, s, len: len as u32 });
                        Some(Kept::Block(d))
                    }
                },
                Range::List(list) if !matches!(list.kind, Ek::Quant(_)) => {
                    let from = self.list_of(list);
                    let info = self.code.lists[usize::from(from.number)];
                    let copy = self.local_list(info.cap as usize);
                    let info = self.code.lists[usize::from(copy)];
                    let d = self.reg(O::K(info.base.0.into()));
                    let site = self.site(FaultKind::ListFull, span);
                    self.emit(Op::ListCopy { d, s: from.addr, list: copy, from: from.number, site });
                    Some(Kept::Block(info.base))
                }
                _ => None,
            };
            if changes_state(body) {
                self.clean = false;
            }
            self.each(local, over, fixed, None, span, &mut |l, _| l.block(body));
            return;
        }
        let room = self.room(over);
        let base = self.pushed(room);
        let count = self.copy(O::K(0));
        let ints = matches!(over, Range::Ints(..));
        self.each(local, over, None, filter, span, &mut |l, _| {
            if ints {
                let most = l.reg(O::K(KEPT_MAX));
                let ok = l.label();
                l.emit(Op::JumpLt { a: count, b: most, to: To(ok) });
                let over = l.reg(O::K(KEPT_MAX + 1));
                let site = l.site(FaultKind::LoopTooLong, span);
                l.emit(Op::FaultWith { s: over, site });
                l.here(ok);
            }
            let o = l.local_value(local);
            let s = l.reg(o);
            l.emit(Op::Push { d: count, base, s });
        });
        if changes_state(body) {
            self.clean = false;
        }
        let k = self.copy(O::K(0));
        let (top, exit) = (self.label(), self.label());
        self.here(top);
        self.emit(Op::JumpLe { a: count, b: k, to: To(exit) });
        let d = self.fresh();
        self.emit(Op::Entry { d, base, i: k });
        self.frame[local] = Local::Val(O::R(d));
        self.block(body);
        self.emit(Op::Inc { d: k });
        let site = self.site(FaultKind::StepBudget, span);
        self.emit(Op::Loop { to: To(top), site });
        self.here(exit);
    }
}
