//! Operations on whole blocks: floods, lanes, sets.

use super::*;
use crate::code::ir::Comparison;

impl Machine<'_> {
    /// Fills `d` with the cells that are reached from one through cells of `base` that hold a value. O(cells reached), and O(cells) to
    /// clear `d`.
    pub(super) fn flood_equal(&mut self, (d, base): (M, M), from: usize, v: i64, beside: u16) {
        let (d, base, cells) = (d.0 as usize, base.0 as usize, self.code.cells as usize);
        self.mem[d..d + cells].fill(0);
        let code = self.code;
        let beside = &code.beside[usize::from(beside)];
        if from >= cells || i64::from(self.mem[base + from]) != v {
            return;
        }
        self.mem[d + from] = 1;
        self.reached.clear();
        self.reached.push(from as u16);
        while let Some(c) = self.reached.pop() {
            for &next in beside.of(usize::from(c)) {
                let next_at = usize::from(next);
                if self.mem[d + next_at] == 0 && i64::from(self.mem[base + next_at]) == v {
                    self.mem[d + next_at] = 1;
                    self.reached.push(next);
                }
            }
        }
    }

    /// Moves the values along a lane that compare so to its beginning. O(cells of the lane).
    pub(super) fn gather(&mut self, base: M, lane: i64, (how, v): (Comparison, i32), fill: i32) {
        let len = code::lane_parts(lane).2;
        let at = |m: &Self, i: i64| base.0 as usize + code::lane_cell(lane, i, m.cols) as usize;
        let mut to = 0;
        let put = |m: &mut Self, i: i64, value: i32| {
            let at = at(m, i);
            if m.mem[at] != value {
                m.mem[at] = value;
                m.mark(at - m.code.now as usize, 1);
            }
        };
        for i in 0..len {
            let value = self.mem[at(self, i)];
            if how.holds(value.into(), v.into()) {
                put(self, to, value);
                to += 1;
            }
        }
        for i in to..len {
            put(self, i, fill);
        }
    }

    pub(super) fn cut_lanes(&mut self, d: M, s: M, gone: M, fill: i32, flags: u8) {
        let (columns, low) = (flags & 1 != 0, flags & 2 != 0);
        let (rows, cols) = (self.rows as usize, self.cols as usize);
        let (lines, across) = if columns { (cols, rows) } else { (rows, cols) };
        let at = |i: usize, j: usize| if columns { j * cols + i } else { i * cols + j };
        let (d, s, gone) = (d.0 as usize, s.0 as usize, gone.0 as usize);
        // What stays keeps its order and moves away from the side where the filling comes in.
        let mut to: usize = 0;
        for step in 0..lines {
            let i = if low { lines - 1 - step } else { step };
            if self.mem[gone + i] == 0 {
                let target = if low { lines - 1 - to } else { to };
                for j in 0..across {
                    self.mem[d + at(target, j)] = self.mem[s + at(i, j)];
                }
                to += 1;
            }
        }
        for step in to..lines {
            let target = if low { lines - 1 - step } else { step };
            for j in 0..across {
                self.mem[d + at(target, j)] = fill;
            }
        }
    }

    pub(super) fn open_lane(&mut self, d: M, s: M, lane: i64, flags: u8) {
        let low = flags & 2 != 0;
        let (first, dir, _) = code::lane_parts(lane);
        let columns = dir == 0 || dir == 2;
        let (rows, cols) = (self.rows as usize, self.cols as usize);
        let (lines, across) = if columns { (cols, rows) } else { (rows, cols) };
        let k = if columns { first as usize % cols } else { first as usize / cols };
        let at = |i: usize, j: usize| if columns { j * cols + i } else { i * cols + j };
        let (d, s) = (d.0 as usize, s.0 as usize);
        for i in 0..lines {
            let from = match (low, i > k, i < k) {
                (true, true, _) => i - 1,
                (false, _, true) => i + 1,
                _ => i,
            };
            for j in 0..across {
                self.mem[d + at(i, j)] = self.mem[s + at(from, j)];
            }
        }
    }

    pub(super) fn join(&mut self, d: M, a: M, b: M, f: impl Fn(i32, i32) -> i32) {
        for c in 0..self.code.cells as usize {
            self.mem[d.0 as usize + c] = f(self.mem[a.0 as usize + c], self.mem[b.0 as usize + c]);
        }
    }
}
