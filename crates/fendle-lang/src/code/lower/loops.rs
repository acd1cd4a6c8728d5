//! Loops over ranges, quantifiers, floods; a search that is one scan.

use super::*;

/// What every loop over a range needs, whatever it runs over.
struct EachLoop<'e> {
    /// The local name that stands for the thing.
    local: LocalId,
    /// Only things for which this holds.
    filter: Option<&'e Expr>,
    /// Behind the loop.
    exit: Label,
    /// Where a round is counted against the budget of steps.
    burn: Site,
}

/// What cells around are told from.
enum Around {
    /// A cell.
    Cell(R),
    /// A place, which may lie off the board.
    Place(O),
}

impl Lower<'_> {
    // ---- loops ----

    /// Runs `f` for every thing in `over` that passes `filter`, with `local` standing for it;
    /// `f` may jump to the label it is given, which lies behind the loop.
    pub(super) fn each(
        &mut self,
        local: LocalId,
        over: &Range,
        fixed: Option<Kept>,
        filter: Option<&Expr>,
        span: Span,
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        self.sometimes(|l| l.each_inner(local, over, fixed, filter, span, f));
    }

    #[allow(clippy::too_many_arguments)]
    pub(super) fn each_inner(
        &mut self,
        local: LocalId,
        over: &Range,
        fixed: Option<Kept>,
        filter: Option<&Expr>,
        span: Span,
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        let exit = self.label();
        let burn = self.site(FaultKind::StepBudget, span);
        let known: Option<usize> = match over {
            Range::Dirs(n) => Some(usize::from(*n)),
            Range::Enum(e) => Some(self.b.model.enums[*e].values.len()),
            Range::Around(_, o) | Range::Offsets(o) => Some(o.len()),
            _ => None,
        };
        let few = known.filter(|n| *n <= UNROLL_MAX).map(|n| (0..n as i64).collect());
        let few = few.or_else(|| self.known_numbers(over)).map(|all: Vec<i64>| (all, UNROLLED));
        let lanes = || self.known_lanes(over).map(|all| (all, LANES_UNROLLED));
        if let Some((elements, most)) = few.or_else(lanes)
            && self.unrolled * elements.len().max(1) <= most
        {
            self.unroll(local, over, elements, filter, exit, f);
            self.here(exit);
            return;
        }
        let each = EachLoop { local, filter, exit, burn };
        match over {
            Range::Board | Range::Cells(_) => self.each_cell(&each, over, fixed, f),
            Range::Ints(lo, hi) => self.each_number(&each, (lo, hi), f),
            _ => self.each_counted(&each, over, known, fixed, f),
        }
        self.here(exit);
    }

    /// Runs over the cells of the board or of a set, found one after the other by what the first condition asks where that is a scan.
    fn each_cell(
        &mut self,
        each: &EachLoop<'_>,
        over: &Range,
        fixed: Option<Kept>,
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        let EachLoop { local, filter, exit, burn } = *each;
        let (top, again) = (self.label(), self.label());
        let n = self.b.cells() as u32;
        if n == 0 {
            // A model without a board has no cells to run over.
            return;
        }
        let (mut block, mut set) = (None, None);
        match (over, fixed) {
            (_, Some(Kept::Block(base))) => block = Some(base),
            (_, Some(Kept::Bits(bits))) => set = Some(bits),
            (Range::Cells(e), None) => {
                set = self.set_bits(e);
                if set.is_none() {
                    block = Some(self.block_of(e).0);
                }
            }
            _ => {}
        }
        let i = self.copy(O::K(0));
        self.frame[local] = Local::Val(O::R(i));
        let mut parts = vec![];
        if let Some(filter) = filter {
            conjuncts(filter, &mut parts);
        }
        let scan = match (block, parts.first()) {
            (Some(base), _) => Some((base, None)),
            (None, Some(first)) if set.is_none() => {
                let scan = self.scan(first, local);
                if scan.is_some() {
                    parts.remove(0);
                }
                scan
            }
            _ => None,
        };
        let mut bits = if scan.is_none() && n <= 64 { self.bits_of_first(local, &mut parts) } else { None };
        if let Some(set) = set {
            let set = self.reg(set);
            bits = Some(match bits {
                None => set,
                Some(b) => {
                    let d = self.fresh();
                    self.emit(Op::BitAnd { d, a: set, b });
                    d
                }
            });
        }
        self.frame[local] = Local::Val(O::R(i));
        self.here(top);
        match scan {
            Some((base, None)) => self.emit(Op::NextIn { d: i, base, to: To(exit) }),
            Some((base, Some(v))) => self.emit(Op::NextEq { d: i, base, v, to: To(exit) }),
            None => {}
        }
        if let Some(s) = bits {
            self.emit(Op::NextBit { d: i, s, to: To(exit) });
        }
        for part in parts {
            self.cond(part, again, false);
        }
        f(self, exit);
        self.here(again);
        self.emit(Op::LoopTo { d: i, n, to: To(top), site: burn });
    }

    /// The cells for which the first conditions hold, as many of these as can be asked of all cells at once; they are taken out of the list.
    fn bits_of_first(&mut self, local: LocalId, parts: &mut Vec<&Expr>) -> Option<R> {
        for n in (1..=parts.len()).rev() {
            if let Some(found) = self.at_once(local, &parts[..n]) {
                parts.drain(..n);
                return Some(self.reg(found.words[0]));
            }
        }
        None
    }

    /// Runs over numbers from one to another.
    fn each_number(
        &mut self,
        each: &EachLoop<'_>,
        (lo, hi): (&Expr, &Expr),
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        let EachLoop { local, filter, exit, burn } = *each;
        let (top, again) = (self.label(), self.label());
        let a = self.value(lo);
        let b = self.value(hi);
        let (i, b) = (self.copy(a), self.copy(b));
        let site = self.site(FaultKind::LoopTooLong, lo.span.to(hi.span));
        self.emit(Op::CheckLoop { a: i, b, site });
        self.frame[local] = Local::Val(O::R(i));
        self.here(top);
        self.emit(Op::JumpLt { a: b, b: i, to: To(exit) });
        if let Some(filter) = filter {
            self.cond(filter, again, false);
        }
        f(self, exit);
        self.here(again);
        self.emit(Op::Inc { d: i });
        self.emit(Op::Loop { to: To(top), site: burn });
    }

    /// Runs over counted things: entry k of n, found by one operation.
    #[expect(
        clippy::too_many_lines,
        reason = "one arm for each thing that can be run over, before the loop and in it"
    )]
    fn each_counted(
        &mut self,
        each: &EachLoop<'_>,
        over: &Range,
        known: Option<usize>,
        fixed: Option<Kept>,
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        let EachLoop { local, filter, exit, burn } = *each;
        let (top, again) = (self.label(), self.label());
        // Counted things: entry k of n, found by one operation.
        let mut number = 0;
        let (n, what): (R, Option<R>) = match over {
            Range::Lanes(dir) => {
                let a = self.value(dir);
                let a = self.copy(a);
                let d = self.fresh();
                let site = self.site(FaultKind::OutOfDomain, dir.span);
                self.emit(Op::LanesLen { d, a, site });
                (d, Some(a))
            }
            Range::Lane(lane) => {
                let a = self.value(lane);
                let a = self.copy(a);
                let d = self.fresh();
                self.emit(Op::LaneLen { d, a });
                (d, Some(a))
            }
            Range::List(list) => {
                let at = match fixed {
                    Some(Kept::Block(base)) => {
                        let is = |l: &ListInfo| l.base == base && !l.puts;
                        number = self.code.lists.iter().position(is).unwrap_or(0) as u16;
                        self.reg(O::K(base.0.into()))
                    }
                    _ => {
                        let at = self.list_of(list);
                        number = at.number;
                        // Evaluated here, and not again while the loop runs.
                        self.copy(O::R(at.addr))
                    }
                };
                let d = self.fresh();
                self.emit(Op::LoadFrom { d, a: at, list: number });
                (d, Some(at))
            }
            Range::Covered(p) => {
                let shapes = self.shapes_of(p);
                let p = self.value(p);
                let p = self.copy(p);
                let d = self.fresh();
                self.emit(Op::ShapeLen { d, p, shapes });
                (d, Some(p))
            }
            _ => (self.copy(O::K(known.unwrap_or(0) as i64)), None),
        };
        let around = if let Range::Around(_, offsets) | Range::Offsets(offsets) = over {
            let p = match over {
                Range::Around(cell, _) => {
                    let p = self.value(cell);
                    self.copy(p)
                }
                _ => R(0),
            };
            let base = self.pushed(offsets.len());
            let count = self.copy(O::K(0));
            for o in offsets {
                let s = self.value(o);
                let s = self.reg(s);
                self.emit(Op::Push { d: count, base, s });
            }
            Some((p, base))
        } else {
            None
        };
        let k = self.copy(O::K(0));
        self.here(top);
        self.emit(Op::JumpLe { a: n, b: k, to: To(exit) });
        let d = self.fresh();
        match (over, what, around) {
            (Range::Lanes(_), Some(a), _) => self.emit(Op::LaneAt { d, a, i: k }),
            (Range::Lane(_), Some(a), _) => self.emit(Op::LaneCell { d, a, i: k }),
            (Range::List(_), Some(a), _) => {
                let i = self.fresh();
                self.emit(Op::Copy { d: i, s: k });
                self.emit(Op::Inc { d: i });
                let at = self.fresh();
                self.emit(Op::Sum { d: at, a, b: i });
                self.emit(Op::LoadFrom { d, a: at, list: number });
            }
            (Range::Covered(p), Some(a), _) => {
                let shapes = self.shapes_of(p);
                self.emit(Op::ShapeCell { d, p: a, i: k, shapes });
            }
            (Range::Offsets(_), _, Some((_, base))) => self.emit(Op::Entry { d, base, i: k }),
            (_, _, Some((p, base))) => {
                let o = self.fresh();
                self.emit(Op::Entry { d: o, base, i: k });
                let q = self.fresh();
                self.emit(Op::Peek { d: q, p, o });
                self.emit(Op::CellOr { d, p: q, to: To(again) });
            }
            _ => self.emit(Op::Copy { d, s: k }),
        }
        self.frame[local] = Local::Val(O::R(d));
        if let Some(filter) = filter {
            self.cond(filter, again, false);
        }
        f(self, exit);
        self.here(again);
        self.emit(Op::Inc { d: k });
        self.emit(Op::Loop { to: To(top), site: burn });
    }

    /// Numbers from one to another, where both are known and there are few.
    fn known_numbers(&self, over: &Range) -> Option<Vec<i64>> {
        let Range::Ints(lo, hi) = over else { return None };
        let end = |e: &Expr| match e.kind {
            Ek::Local(l) => match self.frame[l] {
                Local::Val(O::K(known)) => Some(known),
                _ => None,
            },
            _ => self.known(e),
        };
        let (lo, hi) = (end(lo)?, end(hi)?);
        (hi.saturating_sub(lo) < UNROLL_MAX as i64).then(|| (lo..=hi).collect())
    }

    /// The lanes at a wall that is known here, or the cells of a lane that is.
    pub(super) fn known_lanes(&self, over: &Range) -> Option<Vec<i64>> {
        let (rows, cols) = (self.b.rows as i64, self.b.cols as i64);
        let (Range::Lanes(e) | Range::Lane(e)) = over else { return None };
        let known = match e.kind {
            Ek::Local(l) => match self.frame[l] {
                Local::Val(O::K(known)) => known,
                _ => return None,
            },
            _ => self.known(e)?,
        };
        if let Range::Lane(_) = over {
            return Some((0..code::lane_parts(known).2).map(|i| code::lane_cell(known, i, cols)).collect());
        }
        // A slanting one is refused when it runs.
        let sides = [cols, rows, cols, rows];
        let n = *sides.get(known as usize)?;
        Some((0..n).map(|i| code::lane_at(known, i, (rows, cols))).collect())
    }

    pub(super) fn unroll(
        &mut self,
        local: LocalId,
        over: &Range,
        elements: Vec<i64>,
        filter: Option<&Expr>,
        exit: Label,
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        let bare = matches!(over, Range::Offsets(_));
        let around: Option<(Around, Vec<O>)> =
            if let Range::Around(_, offsets) | Range::Offsets(offsets) = over {
                // All offsets are known before the body runs, as for every range.
                let place = match over {
                    Range::Around(at, _) => match &at.kind {
                        Ek::ToPlace(c) if !matches!(c.kind, Ek::ToCell(_)) => match self.value(c) {
                            O::R(cell) => Around::Cell(self.copy(O::R(cell))),
                            known => Around::Place(self.place_of(known)),
                        },
                        _ => {
                            let place = self.value(at);
                            Around::Place(O::R(self.copy(place)))
                        }
                    },
                    _ => Around::Place(O::K(0)),
                };
                let offsets = offsets
                    .iter()
                    .map(|o| {
                        let v = self.value(o);
                        if let O::R(_) = v { O::R(self.copy(v)) } else { v }
                    })
                    .collect();
                Some((place, offsets))
            } else {
                None
            };
        let n = elements.len();
        self.unrolled *= n.max(1);
        for (k, element) in elements.into_iter().enumerate() {
            let again = self.label();
            let next = self.next;
            let known = self.cells.len();
            let element = match &around {
                Some((_, offsets)) if bare => offsets[k],
                Some((Around::Cell(c), offsets)) => match offsets[k] {
                    O::K(o) if code::is_offset(o) => O::R(self.beside(*c, o, again)),
                    o => {
                        let p = self.place_of(O::R(*c));
                        O::R(self.peeked(p, o, again))
                    }
                },
                Some((Around::Place(place), offsets)) => O::R(self.peeked(*place, offsets[k], again)),
                None => O::K(element),
            };
            self.frame[local] = Local::Val(element);
            if let Some(filter) = filter {
                self.cond(filter, again, false);
            }
            f(self, exit);
            self.here(again);
            self.cells.truncate(known);
            self.next = next;
        }
        self.unrolled /= n.max(1);
    }

    /// The cell of a place that lies by an offset from another one; goes on at `off` where it is off the board.
    fn peeked(&mut self, place: O, by: O, off: Label) -> R {
        let (p, o) = (self.reg(place), self.reg(by));
        let (q, d) = (self.fresh(), self.fresh());
        self.emit(Op::Peek { d: q, p, o });
        self.emit(Op::CellOr { d, p: q, to: To(off) });
        d
    }

    pub(super) fn shapes_of(&self, e: &Expr) -> u16 {
        if let Ty::Placed(s) = e.ty { s as u16 } else { 0 }
    }

    /// `block[c]` and `block[c] == constant` over all cells are one scanning operation.
    pub(super) fn scan(&mut self, e: &Expr, local: LocalId) -> Option<(M, Option<i32>)> {
        let is_element = |i: &Expr| matches!(i.kind, Ek::Local(l) if l == local);
        match &e.kind {
            Ek::Index(block, i) if e.ty == Ty::Bool && is_element(i) => {
                self.plain_block(block).map(|m| (m, None))
            }
            Ek::Cmp(Cmp::Eq, a, b) => {
                let (Ek::Index(block, i), true) = (&a.kind, !heavy(b)) else { return None };
                if !is_element(i) || !matches!(b.kind, Ek::Const(_) | Ek::Var(..) | Ek::Local(_)) {
                    return None;
                }
                let base = self.plain_block(block)?;
                let Ek::Const(v) = b.kind else { return None };
                i32::try_from(v).ok().map(|v| (base, Some(v)))
            }
            _ => None,
        }
    }

    /// Where a flood goes through all cells that hold one value, by known steps: the block, the value, and what lies beside each cell.
    fn flood_of_equals(&mut self, f: &Flood) -> Option<(M, O, u16)> {
        let is_cell = |e: &Expr| matches!(e.kind, Ek::Local(l) if l == f.local);
        if f.next.is_some() || self.b.cells() == 0 || self.b.cells() > usize::from(u16::MAX) {
            return None;
        }
        let steps: Option<Vec<i64>> = f.by.iter().map(|o| self.known(o)).collect();
        let steps: Vec<(i64, i64)> = steps?.into_iter().map(code::offset_parts).collect();
        let (block, value) = match &f.cond.kind {
            Ek::Index(block, i) if f.cond.ty == Ty::Bool && is_cell(i) => (block, None),
            Ek::Cmp(Cmp::Eq, a, b) => match (&a.kind, &b.kind) {
                (Ek::Index(block, i), _) if is_cell(i) => (block, Some(b)),
                (_, Ek::Index(block, i)) if is_cell(i) => (block, Some(a)),
                _ => return None,
            },
            _ => return None,
        };
        // What is the same at every cell, and cannot break: it is looked at once.
        let is_fixed = |e: &Expr| match &e.kind {
            Ek::Const(_) | Ek::Var(..) => !e.ty.is_block(),
            Ek::Local(l) => *l != f.local && !e.ty.is_block(),
            Ek::Index(_, i) => matches!(i.kind, Ek::Local(l) if l != f.local) && i.ty == Ty::Cell,
            _ => false,
        };
        if value.is_some_and(|e| !is_fixed(e)) {
            return None;
        }
        let base = self.plain_block(block)?;
        if let Some(Ek::Index(own, _)) = value.map(|e| &e.kind) {
            self.plain_block(own)?;
        }
        let value = value.map_or(O::K(1), |e| self.value(e));
        let beside = Beside::new((self.b.rows as i64, self.b.cols as i64), &steps);
        let known = self.code.beside.iter().position(|b| *b == beside);
        let number = known.unwrap_or_else(|| {
            self.code.beside.push(beside);
            self.code.beside.len() - 1
        });
        Some((base, value, u16::try_from(number).ok()?))
    }

    /// The cells that a flood reaches, on a small board, where the condition is found for all cells at once.
    pub(super) fn flood_bits(&mut self, f: &Flood) -> Option<O> {
        if f.next.is_some() {
            return None;
        }
        let steps: Option<Vec<i64>> = f.by.iter().map(|o| self.known(o)).collect();
        let by: Vec<(i64, i64)> = steps?.into_iter().map(code::offset_parts).collect();
        let steps = Steps::new((self.b.rows as i64, self.b.cols as i64), &by);
        let known = self.code.steps.iter().position(|s| *s == steps);
        let number = u16::try_from(known.unwrap_or(self.code.steps.len())).ok()?;
        let from = self.value(&f.from);
        let from = self.reg(from);
        let mut parts = vec![];
        conjuncts(&f.cond, &mut parts);
        let through = self.at_once(f.local, &parts)?.words[0];
        let m = self.reg(through);
        if known.is_none() {
            self.code.steps.push(steps);
        }
        let d = self.fresh();
        self.emit(Op::FloodBits { d, m, from, steps: number });
        if !f.rim {
            return Some(O::R(d));
        }
        let rim = self.fresh();
        self.emit(Op::Spread { d: rim, s: d, steps: number });
        Some(O::R(rim))
    }

    /// The set of the cells that a flood reaches.
    pub(super) fn flood(&mut self, f: &Flood, span: Span) -> M {
        let cells = self.b.cells();
        let from = self.value(&f.from);
        let from = self.copy(from);
        let inside = match self.flood_of_equals(f) {
            Some((base, v, beside)) => {
                let inside = self.scratch(cells);
                let v = self.reg(v);
                self.emit(Op::FloodEqual { d: inside, base, from, v, beside });
                inside
            }
            None => self.flood_step_by_step(f, from, span),
        };
        if !f.rim {
            return inside;
        }
        let site = self.site(FaultKind::StepBudget, span);
        let one = self.reg(O::K(1));
        let rim = self.scratch(cells);
        self.emit(Op::CopyBlock { d: rim, s: inside, len: cells as u32 });
        let i = self.copy(O::K(0));
        let (top, exit) = (self.label(), self.label());
        self.here(top);
        self.emit(Op::NextIn { d: i, base: inside, to: To(exit) });
        self.around_cell(i, &f.by, &mut |l, n| l.emit(Op::Store { base: rim, i: n, s: one }));
        self.emit(Op::LoopTo { d: i, n: cells as u32, to: To(top), site });
        self.here(exit);
        rim
    }

    /// The cells that a flood reaches from one, without a rim: depth first; the stack and the marks lie in scratch memory.
    fn flood_step_by_step(&mut self, f: &Flood, from: R, span: Span) -> M {
        let cells = self.b.cells();
        let (inside, tested, stack) = (self.scratch(cells), self.scratch(cells), self.pushed(cells));
        let one = self.reg(O::K(1));
        let zero = self.reg(O::K(0));
        self.emit(Op::ClearCells { d: inside });
        self.emit(Op::ClearCells { d: tested });
        let len = self.copy(O::K(0));
        self.emit(Op::Push { d: len, base: stack, s: from });
        self.emit(Op::Store { base: tested, i: from, s: one });
        let (top, exit) = (self.label(), self.label());
        self.here(top);
        self.emit(Op::JumpLe { a: len, b: zero, to: To(exit) });
        let minus = self.reg(O::K(-1));
        let site = self.site(FaultKind::StepBudget, span);
        self.emit(Op::Add { d: len, a: len, b: minus, site });
        let c = self.fresh();
        self.emit(Op::Entry { d: c, base: stack, i: len });
        self.frame[f.local] = Local::Val(O::R(c));
        let again = self.label();
        if f.next.is_none() {
            self.cond(&f.cond, again, false);
        }
        self.emit(Op::Store { base: inside, i: c, s: one });
        self.around_cell(c, &f.by, &mut |l, n| {
            let skip = l.label();
            let t = l.load(tested, O::R(n));
            l.emit(Op::JumpIf { a: t, to: To(skip) });
            if let Some(next) = f.next {
                l.frame[next] = Local::Val(O::R(n));
                l.cond(&f.cond, skip, false);
            }
            l.emit(Op::Store { base: tested, i: n, s: one });
            l.emit(Op::Push { d: len, base: stack, s: n });
            l.here(skip);
        });
        self.here(again);
        self.emit(Op::Loop { to: To(top), site });
        self.here(exit);
        inside
    }

    pub(super) fn around_cell(&mut self, cell: R, by: &[Expr], f: &mut dyn FnMut(&mut Self, R)) {
        for o in by {
            let off = self.label();
            let d = match self.value(o) {
                O::K(o) if code::is_offset(o) => self.beside(cell, o, off),
                o => {
                    let p = self.place_of(O::R(cell));
                    self.peeked(p, o, off)
                }
            };
            f(self, d);
            self.here(off);
        }
    }

    /// How many cells meet a condition, where it is asked of all of them at once.
    fn counted_at_once(&mut self, q: &Quant) -> Option<O> {
        if q.kind != QuantKind::Count {
            return None;
        }
        let mut parts = vec![];
        if let Some(filter) = &q.filter {
            conjuncts(filter, &mut parts);
        }
        let found = self.found_at_once(q, &parts)?;
        let mut sum = O::K(0);
        for word in found.words.into_iter().filter(|w| *w != O::K(0)) {
            let s = self.reg(word);
            let one = self.unary(|d| Op::BitCount { d, s });
            sum = match sum {
                O::K(_) => one,
                O::R(a) => {
                    let b = self.reg(one);
                    self.unary(|d| Op::Sum { d, a, b })
                }
            };
        }
        Some(sum)
    }

    pub(super) fn quant(&mut self, q: &Quant, e: &Expr) -> O {
        if matches!(q.kind, QuantKind::All | QuantKind::Any) {
            return self.truth(e);
        }
        if let Some(count) = self.counted_at_once(q) {
            return count;
        }
        let span = e.span;
        let d = self.copy(O::K(0));
        let found = self.copy(O::K(0));
        let missing = self.site(FaultKind::NoMatch, span);
        let twice = self.site(FaultKind::TwoMatches, span);
        let overflow = self.site(FaultKind::Overflow, span);
        self.each(q.local, &q.over, None, q.filter.as_ref(), span, &mut |l, exit| {
            let body = q.body.as_ref().map(|b| l.value(b));
            match q.kind {
                QuantKind::Count => l.emit(Op::Inc { d }),
                QuantKind::First => {
                    let x = l.local_value(q.local);
                    l.set(d, x);
                    l.emit(Op::Inc { d: found });
                    l.emit(Op::Jump { to: To(exit) });
                }
                QuantKind::The => {
                    let fine = l.label();
                    l.emit(Op::JumpUnless { a: found, to: To(fine) });
                    let two = l.reg(O::K(2));
                    l.emit(Op::FaultWith { s: two, site: twice });
                    l.here(fine);
                    let x = l.local_value(q.local);
                    l.set(d, x);
                    l.emit(Op::Inc { d: found });
                }
                QuantKind::Sum => {
                    let b = l.reg(body.unwrap_or(O::K(0)));
                    l.emit(Op::Add { d, a: d, b, site: overflow });
                }
                QuantKind::Min | QuantKind::Max => {
                    let b = l.reg(body.unwrap_or(O::K(0)));
                    let (first, end) = (l.label(), l.label());
                    l.emit(Op::JumpUnless { a: found, to: To(first) });
                    l.emit(if q.kind == QuantKind::Min {
                        Op::Min { d, a: d, b }
                    } else {
                        Op::Max { d, a: d, b }
                    });
                    l.emit(Op::Jump { to: To(end) });
                    l.here(first);
                    l.emit(Op::Copy { d, s: b });
                    let one = l.reg(O::K(1));
                    l.emit(Op::Copy { d: found, s: one });
                    l.here(end);
                }
                QuantKind::All | QuantKind::Any | QuantKind::Set | QuantKind::List => {}
            }
        });
        if matches!(q.kind, QuantKind::The | QuantKind::First | QuantKind::Min | QuantKind::Max) {
            let ok = self.label();
            self.emit(Op::JumpIf { a: found, to: To(ok) });
            self.emit(Op::Fault { site: missing });
            self.here(ok);
        }
        O::R(d)
    }
}
