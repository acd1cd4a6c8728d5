//! Lists: where they lie, how long they can be, what changes them.

use super::*;

impl Lower<'_> {
    // ---- lists ----

    pub(super) fn list_number(&mut self, info: ListInfo) -> u16 {
        if let Some(i) = self.code.lists.iter().position(|l| *l == info) {
            return i as u16;
        }
        if self.code.lists.len() >= usize::from(u16::MAX) {
            self.full = true;
            return 0;
        }
        self.code.lists.push(info);
        self.code.lists.len() as u16 - 1
    }

    /// What is known of a variable that is a list or several.
    pub(super) fn var_list(&mut self, v: VarId, region: u32, puts: bool) -> (u16, usize) {
        let slot = self.b.slots[v].clone();
        let bag = matches!(self.b.model.vars[v].shape, Extent::List(true) | Extent::Lists(_, true));
        let cap = if slot.active { slot.cap } else { 0 };
        let info = ListInfo {
            base: M(region + slot.base as u32),
            len: slot.len as u32,
            cap: cap as u32,
            pad: slot.pad() as i32,
            lo: slot.lo as i32,
            hi: slot.hi as i32,
            maybe: slot.maybe,
            bag,
            puts,
        };
        (self.list_number(info), slot.cap)
    }

    pub(super) fn local_list(&mut self, cap: usize) -> u16 {
        let len = cap + 1;
        let base = self.scratch(len);
        let info = ListInfo {
            base,
            len: len as u32,
            cap: cap as u32,
            pad: 0,
            lo: i32::MIN,
            hi: i32::MAX,
            maybe: true,
            bag: false,
            puts: false,
        };
        self.list_number(info)
    }

    pub(super) fn list_at(&mut self, number: u16, offset: O, limit: O) -> ListAt {
        let base = i64::from(self.code.lists[usize::from(number)].base.0);
        let addr = match offset {
            O::K(k) => self.reg(O::K(base + k)),
            O::R(b) => {
                let a = self.reg(O::K(base));
                let d = self.fresh();
                self.emit(Op::Sum { d, a, b });
                d
            }
        };
        ListAt { addr, number, limit }
    }

    /// The list that an expression is.
    pub(super) fn list_of(&mut self, e: &Expr) -> ListAt {
        match &e.kind {
            Ek::Var(when, v) => {
                let (region, puts) = self.region(*when, *v);
                let (number, cap) = self.var_list(*v, region, puts);
                self.list_at(number, O::K(0), O::K(cap as i64))
            }
            Ek::Index(block, index) => {
                let Ek::Var(when, v) = &block.kind else { return self.no_list() };
                let key = self.value(index);
                let (region, puts) = self.region(*when, *v);
                let (number, cap) = self.var_list(*v, region, puts);
                let offset = self.stride(key, cap + 1);
                self.list_at(number, offset, O::K(cap as i64))
            }
            Ek::Local(l) => match self.frame[*l] {
                Local::List { number, limit } => self.list_at(number, O::K(0), limit),
                _ => self.no_list(),
            },
            Ek::Quant(q) => self.comprehension(q, e.span),
            Ek::Within(inner, dom) => {
                let at = self.list_of(inner);
                let (lo, hi) = range_of(self.b, dom);
                let narrow = |v: i64| v.clamp(i32::MIN.into(), i32::MAX.into()) as i32;
                let maybe = matches!(dom, Dom::Maybe(_));
                let info = self.code.lists[usize::from(at.number)];
                let list = self.list_number(ListInfo { lo: narrow(lo), hi: narrow(hi), maybe, ..info });
                let site = self.site(FaultKind::OutOfDomain, e.span);
                self.emit(Op::ListCheck { s: at.addr, list, site });
                at
            }
            _ => self.no_list(),
        }
    }

    /// Stands for a list where the checker has found something else.
    pub(super) fn no_list(&mut self) -> ListAt {
        let number = self.local_list(0);
        self.list_at(number, O::K(0), O::K(0))
    }

    pub(super) fn stride(&mut self, key: O, by: usize) -> O {
        match inside(key, 1 << 16) {
            O::K(k) => O::K(k * by as i64),
            O::R(a) => {
                let b = self.reg(O::K(by as i64));
                // Keys are checked: this cannot overflow.
                let site = Site(0);
                self.ensure_site();
                self.unary(|d| Op::Mul { d, a, b, site })
            }
        }
    }

    pub(super) fn list_ref(&mut self, list: &ListRef) -> ListAt {
        match list {
            ListRef::Local(l) => match self.frame[*l] {
                Local::List { number, limit } => self.list_at(number, O::K(0), limit),
                _ => self.no_list(),
            },
            ListRef::Var(v) => {
                let (number, cap) = self.var_list(*v, self.code.now, true);
                self.list_at(number, O::K(0), O::K(cap as i64))
            }
            ListRef::VarAt(v, key) => {
                let key = self.value(key);
                let (number, cap) = self.var_list(*v, self.code.now, true);
                let offset = self.stride(key, cap + 1);
                self.list_at(number, offset, O::K(cap as i64))
            }
        }
    }

    pub(super) fn touched(&mut self, list: ListAt) {
        if self.code.lists[usize::from(list.number)].puts {
            self.clean = false;
        }
    }

    pub(super) fn list_len(&mut self, list: ListAt) -> R {
        let d = self.fresh();
        self.emit(Op::LoadFrom { d, a: list.addr, list: list.number });
        d
    }

    pub(super) fn entry_addr(&mut self, list: ListAt, i: R) -> R {
        let d = self.fresh();
        self.emit(Op::Sum { d, a: list.addr, b: i });
        d
    }

    /// The entry's number from 1, known to be there.
    pub(super) fn spot(&mut self, list: ListAt, spot: &Spot, span: Span) -> R {
        let n = self.list_len(list);
        match spot {
            Spot::At(e) => {
                let i = self.value(e);
                let i = self.reg(i);
                let site = self.site(FaultKind::NoEntry, e.span);
                self.emit(Op::CheckEntry { i, n, site });
                i
            }
            Spot::First | Spot::Last => {
                let ok = self.label();
                self.emit(Op::JumpIf { a: n, to: To(ok) });
                let site = self.site(FaultKind::ListEmpty, span);
                self.emit(Op::Fault { site });
                self.here(ok);
                if matches!(spot, Spot::Last) { n } else { self.reg(O::K(1)) }
            }
        }
    }

    /// The span that an empty list is reported at.
    pub(super) fn list_span(&self, list: &ListRef) -> Span {
        match list {
            ListRef::VarAt(_, e) => e.span,
            ListRef::Var(v) => self.b.model.vars[*v].span,
            ListRef::Local(_) => Span::default(),
        }
    }

    /// Breaks with the value of `report` unless `n <= most`.
    pub(super) fn at_most(&mut self, n: R, most: R, report: R, kind: FaultKind, span: Span) {
        let ok = self.label();
        self.emit(Op::JumpLe { a: n, b: most, to: To(ok) });
        let site = self.site(kind, span);
        self.emit(Op::FaultWith { s: report, site });
        self.here(ok);
    }

    /// Breaks unless `n` entries are within the bound of a local list.
    pub(super) fn check_limit(&mut self, n: R, limit: O, span: Span) {
        let limit = self.reg(limit);
        self.at_most(n, limit, limit, FaultKind::ListFull, span);
    }

    pub(super) fn comprehension(&mut self, q: &Quant, span: Span) -> ListAt {
        let room = self.room(&q.over);
        let number = self.local_list(room);
        let info = self.code.lists[usize::from(number)];
        self.emit(Op::Reset { d: info.base, len: info.len });
        let list = self.list_at(number, O::K(0), O::K(room as i64));
        let range = self.site(FaultKind::OutOfDomain, span);
        let full = self.site(FaultKind::ListFull, span);
        self.each(q.local, &q.over, None, q.filter.as_ref(), span, &mut |l, _| {
            let v = match &q.body {
                Some(body) => l.value(body),
                None => l.local_value(q.local),
            };
            let v = l.reg(v);
            l.emit(Op::Check { s: v, lo: i32::MIN, hi: i32::MAX, site: range });
            l.emit(Op::ListAdd { a: list.addr, v, list: number, site: full });
        });
        list
    }

    /// Most things that a range can hold.
    pub(super) fn room(&self, over: &Range) -> usize {
        match over {
            Range::Board | Range::Cells(_) => self.b.cells(),
            Range::Around(_, o) | Range::Offsets(o) => o.len(),
            Range::Dirs(n) => usize::from(*n),
            Range::Enum(e) => self.b.model.enums[*e].values.len(),
            Range::Lanes(_) | Range::Lane(_) => self.b.rows.max(self.b.cols),
            Range::Ints(lo, hi) => match (self.known(lo), self.known(hi)) {
                (Some(lo), Some(hi)) => hi.saturating_sub(lo).saturating_add(1).clamp(0, KEPT_MAX) as usize,
                _ => KEPT_MAX as usize,
            },
            Range::List(e) => self.list_room(e),
            Range::Covered(_) => {
                self.code.shapes.iter().flat_map(|s| s.cells.iter().map(Vec::len)).max().unwrap_or(0)
            }
        }
    }

    pub(super) fn list_room(&self, e: &Expr) -> usize {
        match &e.kind {
            Ek::Var(_, v) => self.b.slots[*v].cap,
            Ek::Index(block, _) => self.list_room(block),
            Ek::Local(l) => match self.frame[*l] {
                Local::List { number, .. } => self.code.lists[usize::from(number)].cap as usize,
                _ => 0,
            },
            Ek::Quant(q) => self.room(&q.over),
            Ek::Within(inner, _) => self.list_room(inner),
            _ => 0,
        }
    }

    pub(super) fn new_list(&mut self, local: LocalId, value: Option<&Expr>, max: &Expr, span: Span) {
        let value = value.map(|e| self.list_of(e));
        let max_value = self.value(max);
        let room = match max_value {
            O::K(k) => k.clamp(0, crate::state::LIST_MAX) as usize,
            // Only the lengths of lanes and lists are not known before.
            O::R(_) => match &max.kind {
                Ek::Builtin(Builtin::Len, _) => self.b.rows.max(self.b.cols),
                _ => self.b.rows.max(self.b.cols).max(64),
            },
        };
        let limit = match max_value {
            O::K(k) if (0..=crate::state::LIST_MAX).contains(&k) => O::K(k),
            o => {
                let s = self.copy(o);
                let site = self.site(FaultKind::OutOfDomain, span);
                self.emit(Op::Check { s, lo: 0, hi: crate::state::LIST_MAX as i32, site });
                O::R(s)
            }
        };
        let number = self.local_list(room);
        let info = self.code.lists[usize::from(number)];
        self.emit(Op::Reset { d: info.base, len: info.len });
        if let Some(from) = value {
            let n = self.list_len(from);
            self.check_limit(n, limit, span);
            let d = self.reg(O::K(info.base.0.into()));
            let site = self.site(FaultKind::ListFull, span);
            self.emit(Op::ListCopy { d, s: from.addr, list: number, from: from.number, site });
        }
        self.frame[local] = Local::List { number, limit };
    }

    pub(super) fn push(&mut self, list: ListAt, v: R, span: Span) {
        let info = self.code.lists[usize::from(list.number)];
        let n = self.list_len(list);
        let ok = self.label();
        let limit = self.reg(list.limit);
        self.emit(Op::JumpLt { a: n, b: limit, to: To(ok) });
        let full = self.site(FaultKind::ListFull, span);
        self.emit(Op::FaultWith { s: limit, site: full });
        self.here(ok);
        self.touched(list);
        let range = self.site(FaultKind::OutOfDomain, span);
        if info.puts {
            self.emit(Op::ListAdd { a: list.addr, v, list: list.number, site: full });
            self.emit(Op::ListCheck { s: list.addr, list: list.number, site: range });
        } else {
            self.emit(Op::Check { s: v, lo: i32::MIN, hi: i32::MAX, site: range });
            self.emit(Op::ListAdd { a: list.addr, v, list: list.number, site: full });
        }
    }

    pub(super) fn copy_list(&mut self, d: ListAt, s: ListAt, span: Span) {
        let n = self.list_len(s);
        self.check_limit(n, d.limit, span);
        self.touched(d);
        let site = self.site(FaultKind::ListFull, span);
        let range = self.site(FaultKind::OutOfDomain, span);
        self.emit(Op::ListCopy { d: d.addr, s: s.addr, list: d.number, from: s.number, site });
        self.check_entries(d, s.number, range);
    }

    /// Breaks when an entry of a list that came from another one is out of range, if that can be.
    pub(super) fn check_entries(&mut self, list: ListAt, from: u16, site: Site) {
        let (to, from) = (self.code.lists[usize::from(list.number)], self.code.lists[usize::from(from)]);
        let holds = to.holds(from.lo.into()) && to.holds(from.hi.into()) && (to.maybe || !from.maybe);
        if !holds {
            self.emit(Op::ListCheck { s: list.addr, list: list.number, site });
        }
    }

    pub(super) fn assign_list(&mut self, target: &Target, value: &Expr, span: Span) {
        let from = self.list_of(value);
        let list = match target {
            Target::Var(v) => self.list_ref(&ListRef::Var(*v)),
            Target::VarAt(v, key) => self.list_ref(&ListRef::VarAt(*v, key.clone())),
            Target::Local(l) => match self.frame[*l] {
                Local::List { .. } => self.list_ref(&ListRef::Local(*l)),
                _ => {
                    // A name for a list: a copy, since what it names may change.
                    let cap = self.code.lists[usize::from(from.number)].cap as usize;
                    let number = self.local_list(cap);
                    self.frame[*l] = Local::List { number, limit: O::K(cap as i64) };
                    self.list_at(number, O::K(0), O::K(cap as i64))
                }
            },
            _ => return,
        };
        self.copy_list(list, from, span);
    }

    pub(super) fn entry_list(&mut self, list: &ListRef) -> u16 {
        match list {
            ListRef::Local(l) => match self.frame[*l] {
                Local::List { number, .. } => number,
                _ => 0,
            },
            ListRef::Var(v) | ListRef::VarAt(v, _) => self.var_list(*v, self.code.now, true).0,
        }
    }
}
