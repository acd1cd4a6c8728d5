//! Expressions to values.

use super::*;

/// A known index that is out of range: its check breaks before it is used.
pub(super) fn inside(index: O, len: usize) -> O {
    match index {
        O::K(k) if k < 0 || k >= len as i64 => O::K(0),
        other => other,
    }
}

/// Arithmetic on two numbers; `None` where it breaks.
pub(super) fn computed(op: Arith, a: i64, b: i64) -> Option<i64> {
    match op {
        Arith::Add => a.checked_add(b),
        Arith::Sub => a.checked_sub(b),
        Arith::Mul => a.checked_mul(b),
        Arith::Div => a.checked_div_euclid(b),
        Arith::Mod => a.checked_rem_euclid(b),
        Arith::Pow => u32::try_from(b).ok().and_then(|b| a.checked_pow(b)),
        Arith::Min => Some(a.min(b)),
        Arith::Max => Some(a.max(b)),
    }
}

impl Lower<'_> {
    /// The address of a block of cells that needs no work.
    pub(super) fn plain_block(&mut self, e: &Expr) -> Option<M> {
        match &e.kind {
            Ek::Var(..) => Some(self.block_of(e).0),
            Ek::Local(l) => match self.frame[*l] {
                Local::Block(m) => Some(m),
                _ => None,
            },
            _ => None,
        }
    }

    // ---- expressions ----

    pub(super) fn block_of(&mut self, e: &Expr) -> (M, usize) {
        let cells = self.b.cells();
        if let Some(bits) = self.set_bits(e) {
            let s = self.reg(bits);
            let d = self.scratch(cells);
            self.emit(Op::CellsOf { d, s });
            return (d, cells);
        }
        match &e.kind {
            Ek::Var(when, v) => {
                let slot = &self.b.slots[*v];
                let region = match (self.b.model.vars[*v].state, when) {
                    (false, _) => 0,
                    (true, When::Now) => self.code.now,
                    (true, When::Before) => self.code.before,
                    (true, When::Start) => self.start,
                };
                (M(region + slot.base as u32), slot.len)
            }
            Ek::Local(l) => match self.frame[*l] {
                Local::Block(m) => {
                    // Arrays keep their own length; boards and sets hold one number a cell.
                    let len = match e.ty {
                        Ty::Array(k, _) => self.b.keys_len(k),
                        _ => cells,
                    };
                    (m, len)
                }
                _ => (M(0), 0),
            },
            Ek::Union(a, b) | Ek::Minus(a, b) | Ek::Both(a, b) => {
                let (x, _) = self.block_of(a);
                let (y, _) = self.block_of(b);
                let d = self.scratch(cells);
                self.emit(match &e.kind {
                    Ek::Union(..) => Op::Union { d, a: x, b: y },
                    Ek::Minus(..) => Op::Minus { d, a: x, b: y },
                    _ => Op::Both { d, a: x, b: y },
                });
                (d, cells)
            }
            Ek::Quant(q) => {
                let d = self.scratch(cells);
                self.emit(Op::ClearCells { d });
                let one = self.reg(O::K(1));
                self.each(q.local, &q.over, None, q.filter.as_ref(), e.span, &mut |l, _| {
                    let o = l.local_value(q.local);
                    let i = l.reg(o);
                    l.emit(Op::Store { base: d, i, s: one });
                });
                (d, cells)
            }
            Ek::Flood(f) => (self.flood(f, e.span), cells),
            Ek::Call(f, args) => {
                if self.full {
                    return (M(0), 0);
                }
                let model = self.b.model.clone();
                let def = &model.fns[*f];
                let args = self.args(args);
                let memo = if e.ty == Ty::Set { self.memo_of_call(*f, &args) } else { None };
                let find = |l: &mut Self| l.inlined(&def.locals, args, |l| l.block_of(&def.body));
                match memo {
                    Some(memo) => (self.remembered_block(memo, |l| find(l).0), cells),
                    None => find(self),
                }
            }
            _ => (M(0), 0),
        }
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each kind of expression")]
    pub(super) fn value(&mut self, e: &Expr) -> O {
        if self.full {
            return O::K(0);
        }
        let span = e.span;
        match &e.kind {
            Ek::Const(v) => O::K(*v),
            Ek::Local(l) => self.local_value(*l),
            Ek::Var(when, v) => {
                let slot = &self.b.slots[*v];
                if !self.b.model.vars[*v].state {
                    return O::K(self.b.data[slot.base].into());
                }
                if *when == When::Start {
                    return O::K(self.b.start[slot.base].into());
                }
                let (base, _) = self.block_of(e);
                O::R(self.load(base, O::K(0)))
            }
            Ek::Index(block, index) => {
                let i = self.value(index);
                match self.set_bits(block) {
                    Some(bits) => self.is_member(bits, i),
                    None => self.value_in(block, i),
                }
            }
            Ek::IndexOutside(block, place, outside) => {
                let d = self.fresh();
                let (off, end) = (self.label(), self.label());
                let c = self.cell_or(place, off);
                self.sometimes(|l| {
                    match l.set_bits(block) {
                        Some(bits) => {
                            let held = l.is_member(bits, O::R(c));
                            l.set(d, held);
                        }
                        None => {
                            let (base, _) = l.block_of(block);
                            l.emit(Op::Load { d, base, i: c });
                        }
                    }
                    l.emit(Op::Jump { to: To(end) });
                });
                self.here(off);
                self.sometimes(|l| {
                    let o = l.value(outside);
                    l.set(d, o);
                });
                self.here(end);
                O::R(d)
            }
            Ek::Not(a) => match self.value(a) {
                O::K(v) => O::K(i64::from(v == 0)),
                O::R(a) => self.unary(|d| Op::Not { d, a }),
            },
            Ek::Neg(a) => match self.value(a) {
                O::K(v) if v != i64::MIN => O::K(-v),
                o => {
                    let a = self.reg(o);
                    let site = self.site(FaultKind::Overflow, span);
                    self.unary(|d| Op::Neg { d, a, site })
                }
            },
            Ek::Arith(op, a, b) => {
                let (a, b) = (self.value(a), self.value(b));
                self.arith(*op, a, b, span)
            }
            Ek::Cmp(op, a, b) => {
                let (a, b) = (self.value(a), self.value(b));
                if let (O::K(a), O::K(b)) = (a, b) {
                    return O::K(i64::from(op.holds(a, b)));
                }
                let (a, b) = (self.reg(a), self.reg(b));
                self.unary(|d| match op {
                    Cmp::Eq => Op::Eq { d, a, b },
                    Cmp::Ne => Op::Ne { d, a, b },
                    Cmp::Lt => Op::Lt { d, a, b },
                    Cmp::Le => Op::Le { d, a, b },
                })
            }
            Ek::SameBlock(a, b, sameness) if matches!(a.ty, Ty::List(..)) => {
                let a = self.list_of(a);
                let b = self.list_of(b);
                let d = self.fresh();
                self.emit(Op::ListSame { d, a: a.addr, b: b.addr, list: a.number, other: b.number });
                if *sameness == Sameness::Unlike { self.unary(|n| Op::Not { d: n, a: d }) } else { O::R(d) }
            }
            Ek::SameBlock(a, b, sameness) => {
                if let Some((a, b)) = self.two_sets(a, b) {
                    let (a, b) = (self.reg(a), self.reg(b));
                    return self.unary(|d| match sameness {
                        Sameness::Same => Op::Eq { d, a, b },
                        Sameness::Unlike => Op::Ne { d, a, b },
                    });
                }
                let (a, len) = self.block_of(a);
                let (b, _) = self.block_of(b);
                let d = self.fresh();
                self.emit(Op::SameBlock { d, a, b, len: len as u32 });
                if *sameness == Sameness::Unlike { self.unary(|n| Op::Not { d: n, a: d }) } else { O::R(d) }
            }
            Ek::And(..) | Ek::Or(..) => self.truth(e),
            Ek::Cond(c, a, b) => {
                let d = self.fresh();
                let (no, end) = (self.label(), self.label());
                self.cond(c, no, false);
                self.sometimes(|l| {
                    let o = l.value(a);
                    l.set(d, o);
                });
                self.emit(Op::Jump { to: To(end) });
                self.here(no);
                self.sometimes(|l| {
                    let o = l.value(b);
                    l.set(d, o);
                });
                self.here(end);
                O::R(d)
            }
            Ek::Shift(..)
            | Ek::OffAdd(..)
            | Ek::OffMul(..)
            | Ek::DirOffset(..)
            | Ek::ToPlace(..)
            | Ek::ToCell(..)
            | Ek::OnBoard(..)
            | Ek::MoveShape(..) => self.on_places(e),
            // The place of a cell that came from a place.
            Ek::Within(a, dom) => {
                let o = self.value(a);
                let (lo, hi) = range_of(self.b, dom);
                if let O::K(v) = o
                    && v >= lo
                    && v <= hi
                {
                    return o;
                }
                let s = self.reg(o);
                let site = self.site(FaultKind::OutOfDomain, span);
                let fine = self.label();
                if matches!(dom, Dom::Maybe(_)) {
                    let none = self.reg(O::K(NONE));
                    self.emit(Op::JumpEq { a: s, b: none, to: To(fine) });
                }
                let narrow = |v: i64| v.clamp(i32::MIN.into(), i32::MAX.into()) as i32;
                self.emit(Op::Check { s, lo: narrow(lo), hi: narrow(hi), site });
                self.here(fine);
                o
            }
            Ek::Call(f, args) => self.call(*f, args),
            Ek::Builtin(op, args) => self.builtin(*op, args, span),
            Ek::Quant(q) => self.quant(q, e),
            Ek::Entry(..)
            | Ek::End(..)
            | Ek::InList(..)
            | Ek::MakeRecord(..)
            | Ek::Part(..)
            | Ek::Given(..) => self.on_parts(e),
            // Questions about moves and analyses are the reference executor's: there is no code.
            Ek::Can(_) | Ek::Leads(..) | Ek::Asked(_) => {
                self.full = true;
                O::K(0)
            }
            // Blocks are read by `block_of`.
            Ek::Union(..) | Ek::Minus(..) | Ek::Both(..) | Ek::Flood(_) => O::K(0),
        }
    }

    /// What a block holds at an index.
    fn value_in(&mut self, block: &Expr, i: O) -> O {
        let known = matches!(&block.kind, Ek::Var(_, v) if !self.b.model.vars[*v].state);
        let (base, len) = self.block_of(block);
        match inside(i, len) {
            O::K(k) if known => O::K(self.b.data[base.0 as usize + k as usize].into()),
            i => O::R(self.load(base, i)),
        }
    }

    /// Entries of lists, parts of records, what may be none.
    fn on_parts(&mut self, e: &Expr) -> O {
        let span = e.span;
        match &e.kind {
            Ek::Entry(list, index) => {
                let i = self.value(index);
                let i = self.reg(i);
                let at = self.list_of(list);
                let n = self.list_len(at);
                let site = self.site(FaultKind::NoEntry, span);
                self.emit(Op::CheckEntry { i, n, site });
                let a = self.entry_addr(at, i);
                self.unary(|d| Op::LoadFrom { d, a, list: at.number })
            }
            Ek::End(list, end) => {
                let at = self.list_of(list);
                let spot = if *end == ListEnd::Last { &Spot::Last } else { &Spot::First };
                let i = self.spot(at, spot, span);
                let a = self.entry_addr(at, i);
                self.unary(|d| Op::LoadFrom { d, a, list: at.number })
            }
            Ek::InList(value, list) => {
                let v = self.value(value);
                let v = self.reg(v);
                let at = self.list_of(list);
                let d = self.fresh();
                self.emit(Op::ListFind { d, a: at.addr, v, list: at.number });
                let zero = self.reg(O::K(0));
                self.unary(|n| Op::Lt { d: n, a: zero, b: d })
            }
            Ek::MakeRecord(r, parts) => {
                let slots = self.b.records[*r].clone();
                let mut sum = O::K(0);
                for (part, slot) in parts.iter().zip(slots) {
                    let v = self.value(part);
                    let v = self.arith(Arith::Sub, v, O::K(slot.lo), span);
                    let v = self.arith(Arith::Mul, v, O::K(slot.stride), span);
                    sum = self.arith(Arith::Add, sum, v, span);
                }
                sum
            }
            Ek::Part(record, r, i) => {
                let slot = self.b.records[*r][*i];
                let v = self.value(record);
                let v = if slot.stride == 1 { v } else { self.arith(Arith::Div, v, O::K(slot.stride), span) };
                let v = self.arith(Arith::Mod, v, O::K(slot.count), span);
                if slot.lo == 0 { v } else { self.arith(Arith::Add, v, O::K(slot.lo), span) }
            }
            Ek::Given(a) => {
                let v = self.value(a);
                let v = self.reg(v);
                let none = self.reg(O::K(NONE));
                let fine = self.label();
                self.emit(Op::JumpNe { a: v, b: none, to: To(fine) });
                let site = self.site(FaultKind::NoneGiven, span);
                self.emit(Op::Fault { site });
                self.here(fine);
                O::R(v)
            }
            _ => unreachable!("what is said of entries and parts"),
        }
    }

    /// The place of a cell.
    pub(super) fn place_of(&mut self, cell: O) -> O {
        match cell {
            O::K(v) => {
                let cols = self.b.cols.max(1) as i64;
                O::K(code::place(v / cols, v % cols))
            }
            O::R(c) => self.unary(|d| Op::PlaceOf { d, c }),
        }
    }

    /// A place that lies by an offset from another one.
    fn shift(&mut self, p: O, o: O, sense: Sense, span: Span) -> O {
        // A step backwards by a known offset is a step by its opposite.
        let (o, sense) = match o {
            O::K(v) => (O::K(sense.signed(v)), Sense::Plus),
            o => (o, sense),
        };
        if let (O::K(p), O::K(o)) = (p, o)
            && code::is_place(p + o)
        {
            return O::K(p + o);
        }
        let (p, o) = (self.reg(p), self.reg(o));
        let site = self.site(FaultKind::TooFarAway, span);
        self.unary(|d| match sense {
            Sense::Plus => Op::Shift { d, p, o, site },
            Sense::Minus => Op::ShiftBack { d, p, o, site },
        })
    }

    /// The cell of a place; goes on at `off` where it is off the board. A known step from a cell is one operation.
    pub(super) fn cell_or(&mut self, place: &Expr, off: Label) -> R {
        let p = match &place.kind {
            Ek::Shift(from, by, sense) => match &from.kind {
                Ek::ToPlace(c) if !matches!(c.kind, Ek::ToCell(_)) => {
                    let (cell, by) = (self.value(c), self.value(by));
                    if let (O::R(c), O::K(by)) = (cell, by)
                        && code::is_offset(by)
                    {
                        return self.beside(c, sense.signed(by), off);
                    }
                    let from = self.place_of(cell);
                    self.shift(from, by, *sense, place.span)
                }
                _ => self.value(place),
            },
            _ => self.value(place),
        };
        let p = self.reg(p);
        let c = self.fresh();
        self.emit(Op::CellOr { d: c, p, to: To(off) });
        c
    }

    /// The cell that lies by a known offset from a cell; goes on at `off` where that is off the board.
    pub(super) fn beside(&mut self, c: R, o: i64, off: Label) -> R {
        if o == 0 {
            return c;
        }
        let d = self.fresh();
        // An offset is below 2^30.
        self.emit(Op::Beside { d, c, o: o as i32, to: To(off) });
        d
    }

    /// Places, offsets, cells and placed shapes.
    fn on_places(&mut self, e: &Expr) -> O {
        let span = e.span;
        match &e.kind {
            Ek::Shift(p, o, sense) => {
                let (p, o) = (self.value(p), self.value(o));
                self.shift(p, o, *sense, span)
            }
            Ek::OffAdd(a, b, sense) => {
                let (a, b) = (self.value(a), self.value(b));
                if let (O::K(a), O::K(b)) = (a, b) {
                    let sum = a + sense.signed(b);
                    if code::is_offset(sum) {
                        return O::K(sum);
                    }
                }
                let (a, b) = (self.reg(a), self.reg(b));
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(|d| match sense {
                    Sense::Plus => Op::OffAdd { d, a, b, site },
                    Sense::Minus => Op::OffSub { d, a, b, site },
                })
            }
            Ek::OffMul(o, n) => {
                let (a, b) = (self.value(o), self.value(n));
                if let (O::K(a), O::K(b)) = (a, b)
                    && b.unsigned_abs() < code::BIAS as u64 / 2
                {
                    let (r, c) = code::offset_parts(a);
                    if (r * b).abs() < code::BIAS / 2 && (c * b).abs() < code::BIAS / 2 {
                        return O::K(a * b);
                    }
                }
                let (a, b) = (self.reg(a), self.reg(b));
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(|d| Op::OffMul { d, a, b, site })
            }
            Ek::DirOffset(a) => match self.value(a) {
                O::K(v) => {
                    let (r, c) = DIR_STEPS[v as usize];
                    O::K(r * code::ROW + c)
                }
                O::R(a) => self.unary(|d| Op::DirOff { d, a }),
            },
            Ek::ToPlace(c) if matches!(&c.kind, Ek::ToCell(p) if matches!(p.kind, Ek::Local(_))) => {
                let Ek::ToCell(p) = &c.kind else { return O::K(0) };
                self.value(p)
            }
            Ek::ToPlace(c) => {
                let c = self.value(c);
                self.place_of(c)
            }
            Ek::ToCell(p) => {
                let named = matches!(p.kind, Ek::Local(_));
                let p = self.value(p);
                let p = self.reg(p);
                if let Some((_, c)) = self.cells.iter().find(|(q, _)| named && *q == p) {
                    return O::R(*c);
                }
                let site = self.site(FaultKind::OffBoard, span);
                let cell = self.unary(|d| Op::CellOf { d, p, site });
                if let (true, O::R(c)) = (named, cell) {
                    self.cells.push((p, c));
                }
                cell
            }
            Ek::OnBoard(p) => {
                let p = self.value(p);
                let p = self.reg(p);
                self.unary(|d| Op::OnBoard { d, p })
            }
            Ek::MoveShape(p, o, sense) => {
                let shapes = self.shapes_of(p);
                let (p, o) = (self.value(p), self.value(o));
                let o = match o {
                    O::K(v) => O::K(sense.signed(v)),
                    O::R(a) if *sense == Sense::Minus => {
                        let zero = self.reg(O::K(0));
                        let site = self.site(FaultKind::TooFarAway, span);
                        self.unary(|d| Op::OffSub { d, a: zero, b: a, site })
                    }
                    o => o,
                };
                let (p, o) = (self.reg(p), self.reg(o));
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(|d| Op::ShapeMove { d, p, o, shapes, site })
            }
            _ => unreachable!("what is said of places"),
        }
    }

    pub(super) fn unary(&mut self, op: impl FnOnce(R) -> Op) -> O {
        let d = self.fresh();
        self.emit(op(d));
        O::R(d)
    }

    pub(super) fn arith(&mut self, op: Arith, a: O, b: O, span: Span) -> O {
        if let (O::K(a), O::K(b)) = (a, b)
            && let Some(v) = computed(op, a, b)
        {
            return O::K(v);
        }
        let (a, b) = (self.reg(a), self.reg(b));
        let kind =
            if matches!(op, Arith::Div | Arith::Mod) { FaultKind::DivideByZero } else { FaultKind::Overflow };
        let site = self.site(kind, span);
        self.unary(|d| match op {
            Arith::Add => Op::Add { d, a, b, site },
            Arith::Sub => Op::Sub { d, a, b, site },
            Arith::Mul => Op::Mul { d, a, b, site },
            Arith::Div => Op::Div { d, a, b, site },
            Arith::Mod => Op::Mod { d, a, b, site },
            Arith::Pow => Op::Pow { d, a, b, site },
            Arith::Min => Op::Min { d, a, b },
            Arith::Max => Op::Max { d, a, b },
        })
    }

    pub(super) fn call(&mut self, f: FnId, args: &[Expr]) -> O {
        let model = self.b.model.clone();
        let def = &model.fns[f];
        let args = self.args(args);
        let memo = self.memo_of_call(f, &args);
        let find = |l: &mut Self| l.inlined(&def.locals, args, |l| l.value(&def.body));
        match memo {
            Some(memo) => self.remembered(memo, find),
            None => find(self),
        }
    }

    /// The number under which what a function gives is remembered of the loaded state: where its arguments are known and it takes more than a few operations.
    pub(super) fn memo_of_call(&mut self, f: FnId, args: &[Local]) -> Option<u16> {
        let known: Option<Vec<i64>> =
            args.iter().map(|a| if let Local::Val(O::K(k)) = a { Some(*k) } else { None }).collect();
        let model = &self.b.model;
        known.filter(|_| heavy(&model.fns[f].body)).and_then(|key| self.memo(Remembered::Function(f, key)))
    }

    /// A set of cells that is found once for a loaded state: its block is written by nothing else.
    fn remembered_block(&mut self, memo: u16, find: impl FnOnce(&mut Self) -> M) -> M {
        let len = self.b.cells();
        let d = match self.kept.get(&memo) {
            Some(d) => *d,
            None => {
                let d = self.scratch(len);
                self.kept.insert(memo, d);
                d
            }
        };
        self.remembered(memo, |l| {
            let s = find(l);
            l.emit(Op::CopyBlock { d, s, len: len as u32 });
            O::K(1)
        });
        d
    }

    /// The number under which something is remembered of the loaded state; `None` where the state may have been changed, or too much is
    /// remembered already.
    pub(super) fn memo(&mut self, what: Remembered) -> Option<u16> {
        if !self.clean || self.memos.len() >= MEMOS_MAX {
            return None;
        }
        let next = self.memos.len() as u16;
        Some(*self.memos.entry(what).or_insert(next))
    }

    /// A value that is found once for a loaded state.
    pub(super) fn remembered(&mut self, memo: u16, find: impl FnOnce(&mut Self) -> O) -> O {
        let d = self.fresh();
        let end = self.label();
        self.emit(Op::Recall { d, memo, to: To(end) });
        self.sometimes(|l| {
            let o = find(l);
            l.set(d, o);
        });
        self.emit(Op::Remember { s: d, memo });
        self.here(end);
        O::R(d)
    }

    /// Does not remember what is asked in one place only, and not in a loop: how blocks compare.
    pub(super) fn forget_what_is_asked_once(&mut self) {
        let ops = &self.code.ops;
        let mut asked: HashMap<u16, Vec<usize>> = HashMap::new();
        for (i, op) in ops.iter().enumerate() {
            if let Op::Recall { memo, .. } = op {
                asked.entry(*memo).or_default().push(i);
            }
        }
        let compared = self.memos.iter().filter(|m| matches!(m.0, Remembered::Compared(..)));
        let compared: HashSet<u16> = compared.map(|m| *m.1).collect();
        let in_a_loop = |at: usize| {
            let jumps_over = |(i, op): (usize, &Op)| {
                let mut back = false;
                op.jumps(&mut |to| back |= to.0 as usize <= at && i >= at);
                back
            };
            ops.iter().enumerate().any(jumps_over)
        };
        let once: HashSet<u16> = asked
            .into_iter()
            .filter(|(memo, places)| compared.contains(memo) && places.len() == 1 && !in_a_loop(places[0]))
            .map(|(memo, _)| memo)
            .collect();
        if once.is_empty() {
            return;
        }
        let kept: Vec<bool> = (ops.iter())
            .map(|op| !matches!(op, Op::Recall { memo, .. } | Op::Remember { memo, .. } if once.contains(memo)))
            .collect();
        keep_in_code(&mut self.code, &kept);
    }

    pub(super) fn builtin(&mut self, op: Builtin, args: &[Expr], span: Span) -> O {
        match op {
            Builtin::Rows => return O::K(self.b.rows as i64),
            Builtin::Cols => return O::K(self.b.cols as i64),
            Builtin::ListLen => {
                let at = self.list_of(&args[0]);
                return O::R(self.list_len(at));
            }
            Builtin::LaneStart => {
                let a = self.value(&args[0]);
                let a = self.reg(a);
                let zero = self.reg(O::K(0));
                let c = self.fresh();
                self.emit(Op::LaneCell { d: c, a, i: zero });
                return self.unary(|d| Op::PlaceOf { d, c });
            }
            Builtin::TurnShape => {
                let shapes = self.shapes_of(&args[0]);
                let (p, by) = (self.value(&args[0]), self.value(&args[1]));
                let (p, by) = (self.reg(p), self.reg(by));
                return self.unary(|d| Op::ShapeTurn { d, p, by, shapes });
            }
            Builtin::PartAt => {
                let shapes = self.shapes_of(&args[0]);
                let (p, at) = (self.value(&args[0]), self.value(&args[1]));
                let (p, at) = (self.reg(p), self.reg(at));
                let site = self.site(FaultKind::NotCovered, span);
                return self.unary(|d| Op::ShapePart { d, p, at, shapes, site });
            }
            Builtin::Anchor | Builtin::KindOf | Builtin::TurnOf | Builtin::MirrorShape => {
                let shapes = self.shapes_of(&args[0]);
                let p = self.value(&args[0]);
                let p = self.reg(p);
                return self.unary(|d| match op {
                    Builtin::Anchor => Op::ShapeAnchor { d, p, shapes },
                    Builtin::KindOf => Op::ShapeKind { d, p, shapes },
                    Builtin::MirrorShape => Op::ShapeMirror { d, p, shapes },
                    _ => Op::ShapeTurnOf { d, p, shapes },
                });
            }
            Builtin::Placed(s) => {
                let shapes = s as u16;
                let (k, p) = (self.value(&args[0]), self.value(&args[1]));
                let (k, p) = (self.reg(k), self.reg(p));
                let site = self.site(FaultKind::TooFarAway, span);
                return self.unary(|d| Op::ShapeMake { d, k, p, shapes, site });
            }
            Builtin::Parity | Builtin::Distinct => {
                let (base, len) = self.block_of(&args[0]);
                let len = len as u32;
                let site = self.site(FaultKind::ParityOfEqual, span);
                return self.unary(|d| match op {
                    Builtin::Parity => Op::Parity { d, base, len, site },
                    _ => Op::Distinct { d, base, len },
                });
            }
            _ => {}
        }
        let a = self.value(&args[0]);
        if let (Builtin::Opposite | Builtin::Turned, O::K(v)) = (op, a) {
            let by = if op == Builtin::Opposite { 2 } else { 1 };
            return O::K(v / 4 * 4 + (v + by) % 4);
        }
        if let (Builtin::Len, O::K(lane)) = (op, a) {
            return O::K(code::lane_parts(lane).2);
        }
        let a = self.reg(a);
        match op {
            Builtin::Row => self.unary(|d| Op::Row { d, p: a }),
            Builtin::Col => self.unary(|d| Op::Col { d, p: a }),
            Builtin::Opposite => self.unary(|d| Op::Opposite { d, a }),
            Builtin::Turned => self.unary(|d| Op::Turned { d, a }),
            Builtin::Len => self.unary(|d| Op::LaneLen { d, a }),
            Builtin::Abs => {
                let site = self.site(FaultKind::Overflow, span);
                self.unary(|d| Op::Abs { d, a, site })
            }
            _ => {
                let b = self.value(&args[1]);
                let b = self.reg(b);
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(|d| Op::PlaceAt { d, a, b, site })
            }
        }
    }

    pub(super) fn set(&mut self, d: R, o: O) {
        match o {
            O::R(s) => self.emit(Op::Copy { d, s }),
            O::K(v) => self.emit(Op::Const { d, v }),
        }
    }
}
