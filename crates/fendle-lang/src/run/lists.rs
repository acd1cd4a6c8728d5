//! Lists, and grids taken row by row.

use super::*;

impl<'b> Eval<'b> {
    pub(super) fn list_span(&self, list: &ListRef) -> Span {
        match list {
            ListRef::VarAt(_, e) => e.span,
            ListRef::Var(v) => self.b.model.vars[*v].span,
            ListRef::Local(_) => Span::default(),
        }
    }

    pub(super) fn list_key(&mut self, list: &ListRef, frame: &mut [V]) -> Run<usize> {
        match list {
            ListRef::VarAt(_, e) => Ok(self.one(e, frame)? as usize),
            _ => Ok(0),
        }
    }

    /// The entries of a list, and how many it may hold.
    pub(super) fn list_now(&mut self, list: &ListRef, key: usize, frame: &[V]) -> (Vec<i64>, i64) {
        match list {
            ListRef::Local(l) => match &frame[*l] {
                V::List(items, cap) => (items.clone(), *cap),
                _ => unreachable!("a local list"),
            },
            ListRef::Var(v) | ListRef::VarAt(v, _) => {
                self.pin_all(*v);
                let slot = &self.b.slots[*v];
                let at = slot.base + key * (slot.cap + 1);
                let len = self.now[at] as usize;
                (self.now[at + 1..=at + len].iter().map(|&x| x.into()).collect(), slot.cap as i64)
            }
        }
    }

    pub(super) fn list_store(
        &mut self,
        list: &ListRef,
        key: usize,
        mut items: Vec<i64>,
        span: Span,
        frame: &mut [V],
    ) -> Run<()> {
        let bag = |shape: Extent| matches!(shape, Extent::List(true) | Extent::Lists(_, true));
        match list {
            ListRef::Local(l) => {
                if let Some(&bad) = items.iter().find(|v| i32::try_from(**v).is_err()) {
                    return Self::fault(FaultKind::OutOfDomain, span, bad);
                }
                if let V::List(old, _) = &mut frame[*l] {
                    *old = items;
                }
            }
            ListRef::Var(v) | ListRef::VarAt(v, _) => {
                self.pin_all(*v);
                let slot = self.b.slots[*v].clone();
                if bag(self.b.model.vars[*v].shape) {
                    items.sort_unstable();
                }
                if items.len() > slot.cap || !slot.active && !items.is_empty() {
                    return Self::fault(FaultKind::ListFull, span, slot.cap as i64);
                }
                if let Some(&bad) = items.iter().find(|x| !slot.holds(**x)) {
                    return Self::fault(FaultKind::OutOfDomain, span, bad);
                }
                let at = slot.base + key * (slot.cap + 1);
                self.now[at] = items.len() as i32;
                items.resize(slot.cap, slot.pad());
                for (o, x) in self.now[at + 1..].iter_mut().zip(items) {
                    *o = x as i32;
                }
            }
        }
        Ok(())
    }

    pub(super) fn across(&self, columns: bool) -> usize {
        if columns { self.b.rows } else { self.b.cols }
    }

    pub(super) fn grid_now(&mut self, into: &Target, frame: &[V]) -> Vec<i32> {
        match into {
            Target::Local(l) => frame[*l].clone().block(),
            Target::Var(v) => {
                self.pin_all(*v);
                let slot = &self.b.slots[*v];
                self.now[slot.base..slot.base + slot.len].to_vec()
            }
            _ => unreachable!("a grid is a variable or a local one"),
        }
    }

    pub(super) fn assign_cell(
        &mut self,
        into: &Target,
        cell: usize,
        v: i64,
        span: Span,
        frame: &mut [V],
    ) -> Run<()> {
        match into {
            Target::Local(l) => {
                if let V::Block(block) = &mut frame[*l] {
                    block[cell] = v as i32;
                }
                Ok(())
            }
            Target::Var(var) => {
                let slot = self.b.slots[*var].clone();
                self.store(&slot, cell, v, span)
            }
            _ => unreachable!("a grid is a variable or a local one"),
        }
    }

    pub(super) fn lane_cells(&self, lane: i64) -> Vec<i64> {
        let (first, dir, len) = code::lane_parts(lane);
        let (dr, dc) = DIR_STEPS[dir as usize];
        let step = dr * self.b.cols as i64 + dc;
        (0..len).map(|i| first + i * step).collect()
    }

    /// Each lane begins at the wall that `d` points at and runs away from it.
    pub(super) fn side_lanes(&self, d: i64) -> Vec<i64> {
        let (rows, cols) = (self.b.rows as i64, self.b.cols as i64);
        match d {
            0 => (0..cols).map(|c| code::lane(c, 2, rows)).collect(),
            1 => (0..rows).map(|r| code::lane(r * cols + cols - 1, 3, cols)).collect(),
            2 => (0..cols).map(|c| code::lane((rows - 1) * cols + c, 0, rows)).collect(),
            _ => (0..rows).map(|r| code::lane(r * cols, 1, cols)).collect(),
        }
    }
}
