//! Whole rows and columns: written, cut out, inserted.

use super::*;
use crate::code::ir::Comparison;

impl Lower<'_> {
    /// Stores one value of a grid: a variable or a local one.
    pub(super) fn write_cell(&mut self, into: &Target, cell: O, v: R, span: Span) {
        let target = match into {
            Target::Var(v) => Target::VarAt(*v, Expr { kind: Ek::Const(0), ty: Ty::Cell, span }),
            Target::Local(l) => Target::LocalAt(*l, Expr { kind: Ek::Const(0), ty: Ty::Cell, span }),
            _ => return,
        };
        self.write(&target, cell, O::R(v), span);
    }

    pub(super) fn write_lane(
        &mut self,
        parts: &[Expr],
        fill: &Expr,
        into: &Target,
        along: &Expr,
        span: Span,
    ) {
        let lane = self.value(along);
        if let Some((base, how, v, fill)) = self.gathered(parts, fill, into, along) {
            let lane = self.reg(lane);
            self.clean = false;
            self.emit(Op::Gather { base, lane, how, v, fill });
            return;
        }
        let known = match lane {
            O::K(known) => {
                Some(known).filter(|l| self.unrolled * code::lane_parts(*l).2 as usize <= LANES_UNROLLED)
            }
            O::R(_) => None,
        };
        let lane = self.copy(lane);
        // All values are known before the first is written.
        let sides = self.b.rows.max(self.b.cols);
        let room: usize = parts.iter().map(|p| if p.ty.is_block() { self.list_room(p) } else { 1 }).sum();
        let base = self.pushed(room.max(sides));
        let count = self.copy(O::K(0));
        let burn = self.site(FaultKind::StepBudget, span);
        for p in parts {
            if p.ty.is_block() {
                let list = self.list_of(p);
                let n = self.list_len(list);
                let n = self.copy(O::R(n));
                let k = self.copy(O::K(0));
                let (top, exit) = (self.label(), self.label());
                self.here(top);
                self.emit(Op::JumpLe { a: n, b: k, to: To(exit) });
                self.emit(Op::Inc { d: k });
                let a = self.entry_addr(list, k);
                let s = self.fresh();
                self.emit(Op::LoadFrom { d: s, a, list: list.number });
                self.emit(Op::Push { d: count, base, s });
                self.emit(Op::Loop { to: To(top), site: burn });
                self.here(exit);
            } else {
                let v = self.value(p);
                let s = self.reg(v);
                self.emit(Op::Push { d: count, base, s });
            }
        }
        let fill = self.value(fill);
        let fill = self.reg(fill);
        let len = self.fresh();
        self.emit(Op::LaneLen { d: len, a: lane });
        self.at_most(count, len, count, FaultKind::WrittenTooLong, span);
        if let Some(lane) = known {
            for i in 0..code::lane_parts(lane).2 {
                let k = self.reg(O::K(i));
                let cell = code::lane_cell(lane, i, self.b.cols as i64);
                self.write_entry((count, base, fill), k, into, O::K(cell), span);
            }
            return;
        }
        let k = self.copy(O::K(0));
        let (top, exit) = (self.label(), self.label());
        self.here(top);
        self.emit(Op::JumpLe { a: len, b: k, to: To(exit) });
        let cell = self.fresh();
        self.emit(Op::LaneCell { d: cell, a: lane, i: k });
        self.write_entry((count, base, fill), k, into, O::R(cell), span);
        self.emit(Op::Inc { d: k });
        self.emit(Op::Loop { to: To(top), site: burn });
        self.here(exit);
    }

    /// Where what is written along a lane of the state is what of it compares so with a number, and then one number: the grid, the
    /// comparison, and what fills the rest.
    fn gathered(
        &mut self,
        parts: &[Expr],
        fill: &Expr,
        into: &Target,
        along: &Expr,
    ) -> Option<(M, Comparison, i32, i32)> {
        let ([Expr { kind: Ek::Quant(q), .. }], Target::Var(grid)) = (parts, into) else { return None };
        let (QuantKind::List, Range::Lane(of), Some(filter)) = (q.kind, &q.over, &q.filter) else {
            return None;
        };
        let same_lane = match (&of.kind, &along.kind) {
            (Ek::Local(a), Ek::Local(b)) => a == b,
            _ => false,
        };
        let is_there = |e: &Expr| match &e.kind {
            Ek::Index(block, c) => {
                matches!(block.kind, Ek::Var(When::Now, v) if v == *grid)
                    && matches!(c.kind, Ek::Local(l) if l == q.local)
            }
            _ => false,
        };
        let slot = self.b.slots[*grid].clone();
        let fill = i32::try_from(self.known(fill)?).ok()?;
        if !same_lane || !q.body.as_ref().is_some_and(is_there) || !slot.active {
            return None;
        }
        if !(slot.lo..=slot.hi).contains(&fill.into()) {
            return None;
        }
        let (how, v) = match &filter.kind {
            Ek::Cmp(how, a, b) if is_there(a) => (Comparison::from(*how), self.known(b)?),
            Ek::Cmp(how, a, b) if is_there(b) => (Comparison::from(*how).turned(), self.known(a)?),
            _ if is_there(filter) => (Comparison::Differs, 0),
            _ => return None,
        };
        Some((M(self.code.now + slot.base as u32), how, i32::try_from(v).ok()?, fill))
    }

    /// Writes number `k` of so many values into a cell, or what fills the rest.
    fn write_entry(&mut self, (count, base, fill): (R, M, R), k: R, into: &Target, cell: O, span: Span) {
        let (filling, store) = (self.label(), self.label());
        let v = self.fresh();
        self.emit(Op::JumpLe { a: count, b: k, to: To(filling) });
        self.emit(Op::Entry { d: v, base, i: k });
        self.emit(Op::Jump { to: To(store) });
        self.here(filling);
        self.emit(Op::Copy { d: v, s: fill });
        self.here(store);
        self.write_cell(into, cell, v, span);
    }

    /// The grid that is written, as it is now.
    pub(super) fn grid_of(&self, into: &Target) -> Option<M> {
        match into {
            Target::Var(v) => Some(M(self.code.now + self.b.slots[*v].base as u32)),
            Target::Local(l) => match self.frame[*l] {
                Local::Block(m) => Some(m),
                _ => None,
            },
            _ => None,
        }
    }

    pub(super) fn put_grid(&mut self, into: &Target, d: M, s: M) {
        let len = self.b.cells() as u32;
        if matches!(into, Target::Var(_)) {
            self.clean = false;
            self.emit(Op::PutBlock { d, s, len });
        } else {
            self.emit(Op::CopyBlock { d, s, len });
        }
    }

    /// Breaks unless a value may stand in the grid.
    pub(super) fn check_cell(&mut self, into: &Target, s: R, span: Span) {
        let site = self.site(FaultKind::OutOfDomain, span);
        if let Target::Var(v) = into {
            let slot = self.b.slots[*v].clone();
            self.check_slot(&slot, s, site);
        }
    }

    pub(super) fn check_slot(&mut self, slot: &crate::state::Slot, s: R, site: Site) {
        if !slot.active {
            let pad = slot.pad() as i32;
            self.emit(Op::Check { s, lo: pad, hi: pad, site });
            return;
        }
        let fine = self.label();
        if slot.maybe {
            let none = self.reg(O::K(NONE));
            self.emit(Op::JumpEq { a: s, b: none, to: To(fine) });
        }
        self.emit(Op::Check { s, lo: slot.lo as i32, hi: slot.hi as i32, site });
        self.here(fine);
    }

    pub(super) fn cut_out(
        &mut self,
        local: LocalId,
        columns: bool,
        filter: &Expr,
        into: &Target,
        (fill, from): (&Expr, &Expr),
        span: Span,
    ) {
        let lines = if columns { self.b.cols } else { self.b.rows };
        let gone = self.scratch(lines.max(1));
        self.emit(Op::Reset { d: gone, len: lines.max(1) as u32 });
        let dir = Expr { kind: Ek::Const(if columns { 0 } else { 3 }), ty: Ty::Dir, span };
        let k = self.copy(O::K(0));
        let any = self.copy(O::K(0));
        let one = self.reg(O::K(1));
        self.each(local, &Range::Lanes(dir), None, None, span, &mut |l, _| {
            let skip = l.label();
            l.cond(filter, skip, false);
            l.emit(Op::Store { base: gone, i: k, s: one });
            l.emit(Op::Copy { d: any, s: one });
            l.here(skip);
            l.emit(Op::Inc { d: k });
        });
        let fill = self.value(fill);
        let fill = self.copy(fill);
        let (low, high) = if columns { (3, 1) } else { (0, 2) };
        let at_low = match from.kind {
            Ek::Const(d) if d == low => true,
            Ek::Const(d) if d == high => false,
            _ => return,
        };
        let Some(s) = self.grid_of(into) else { return };
        // Nothing comes in where nothing is taken out.
        let end = self.label();
        self.emit(Op::JumpUnless { a: any, to: To(end) });
        self.check_cell(into, fill, span);
        let d = self.scratch(self.b.cells());
        let flags = u8::from(columns) | u8::from(at_low) << 1;
        self.emit(Op::CutLanes { d, s, gone, fill, flags });
        self.put_grid(into, s, d);
        self.here(end);
    }

    pub(super) fn insert_lane(&mut self, row: &Expr, into: &Target, at: &Expr, from: &Expr, span: Span) {
        let list = self.list_of(row);
        let lane = self.value(at);
        let lane = self.copy(lane);
        let Ek::Const(from) = from.kind else { return };
        let Some(s) = self.grid_of(into) else { return };
        // Rows are opened from up or down, columns from left or right.
        let vertical = self.fresh();
        self.emit(Op::LaneVertical { d: vertical, a: lane });
        let want = self.reg(O::K(i64::from(from == 1 || from == 3)));
        let right_way = self.label();
        self.emit(Op::JumpEq { a: vertical, b: want, to: To(right_way) });
        let site = self.site(FaultKind::OutOfDomain, span);
        let wrong = self.reg(O::K(from));
        self.emit(Op::FaultWith { s: wrong, site });
        self.here(right_way);
        let n = self.list_len(list);
        let len = self.fresh();
        self.emit(Op::LaneLen { d: len, a: lane });
        let fits = self.label();
        self.emit(Op::JumpEq { a: n, b: len, to: To(fits) });
        let site = self.site(FaultKind::WrittenTooLong, span);
        self.emit(Op::FaultWith { s: n, site });
        self.here(fits);
        let d = self.scratch(self.b.cells());
        let flags = u8::from(from == 0 || from == 3) << 1;
        self.emit(Op::OpenLane { d, s, lane, flags });
        let k = self.copy(O::K(0));
        let (top, exit) = (self.label(), self.label());
        let burn = self.site(FaultKind::StepBudget, span);
        self.here(top);
        self.emit(Op::JumpLe { a: len, b: k, to: To(exit) });
        let cell = self.fresh();
        self.emit(Op::LaneCell { d: cell, a: lane, i: k });
        self.emit(Op::Inc { d: k });
        let a = self.entry_addr(list, k);
        let v = self.fresh();
        self.emit(Op::LoadFrom { d: v, a, list: list.number });
        self.check_cell(into, v, span);
        self.emit(Op::Store { base: d, i: cell, s: v });
        self.emit(Op::Loop { to: To(top), site: burn });
        self.here(exit);
        self.put_grid(into, s, d);
    }
}
