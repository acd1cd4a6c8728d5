//! Places, directions, lanes and placed shapes.

use fendle_lang::code::ir::Comparison;

use super::bits::condition;
use super::*;
use crate::emit::quotient;

/// Most values of placed shapes of which a table says what they cover, or where they get to.
const TABLE_MAX: i64 = 1 << 14;

impl Emitter<'_, '_> {
    /// Row and column of a place, and whether they are on the board.
    pub(super) fn on_board(&mut self, place: Value) -> (Value, Value, Value) {
        let row = self.b.ins().sshr_imm(place, 16);
        let row = self.b.ins().iadd_imm(row, -code::BIAS);
        let col = self.b.ins().band_imm(place, 0xffff);
        let col = self.b.ins().iadd_imm(col, -code::BIAS);
        let row_on = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, row, self.rows);
        let col_on = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, col, self.cols);
        let on = self.b.ins().band(row_on, col_on);
        (row, col, on)
    }

    pub(super) fn cell_at(&mut self, row: Value, col: Value) -> Value {
        let first = self.b.ins().imul_imm(row, self.cols);
        self.b.ins().iadd(first, col)
    }

    /// Whether a sum of a place and an offset is still exact.
    pub(super) fn is_place(&mut self, v: Value) -> Value {
        let row = self.b.ins().sshr_imm(v, 16);
        let col = self.b.ins().band_imm(v, 0xffff);
        let row = self.is_between(row, 1, 2 * code::BIAS - 1);
        let col = self.is_between(col, 1, 2 * code::BIAS - 1);
        self.b.ins().band(row, col)
    }

    /// Rows and columns of an offset.
    pub(super) fn offset_parts(&mut self, v: Value) -> (Value, Value) {
        let cols = self.b.ins().iadd_imm(v, code::ROW >> 1);
        let cols = self.b.ins().band_imm(cols, 0xffff);
        let cols = self.b.ins().iadd_imm(cols, -(code::ROW >> 1));
        let rows = self.b.ins().isub(v, cols);
        (self.b.ins().sshr_imm(rows, 16), cols)
    }

    /// Whether rows and columns of an offset are near enough.
    pub(super) fn near(&mut self, rows: Value, cols: Value) -> Value {
        let most = code::BIAS / 2 - 1;
        let rows = self.is_between(rows, -most, most);
        let cols = self.is_between(cols, -most, most);
        self.b.ins().band(rows, cols)
    }

    pub(super) fn place_of(&mut self, row: Value, col: Value) -> Value {
        let row = self.b.ins().iadd_imm(row, code::BIAS);
        let row = self.b.ins().ishl_imm(row, 16);
        let col = self.b.ins().iadd_imm(col, code::BIAS);
        self.b.ins().iadd(row, col)
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each operation about places")]
    pub(super) fn geometry(&mut self, op: &Op) {
        let zero = self.number(0);
        match *op {
            Op::PlaceOf { d, c } => {
                let c = self.get(c);
                let cells = self.rows * self.cols;
                let easy = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, c, cells);
                let safe = self.b.ins().select(easy, c, zero);
                let table = (0..cells).map(|c| code::place(c / self.cols, c % self.cols)).collect();
                let v = self.entry(table, safe);
                self.or_step(easy, op, Some((d, v)));
            }
            Op::CellOf { d, p, site } => {
                let p = self.get(p);
                let (row, col, on) = self.on_board(p);
                self.unless_broken(on, site, zero);
                let cell = self.cell_at(row, col);
                self.set(d, cell);
            }
            Op::CellOr { d, p, to } => {
                let p = self.get(p);
                let (row, col, on) = self.on_board(p);
                let off = self.b.ins().icmp_imm(IntCC::Equal, on, 0);
                self.jump_if(off, to);
                let cell = self.cell_at(row, col);
                self.set(d, cell);
            }
            Op::Beside { d, c, o, to } => {
                let c = self.get(c);
                let by = code::offset_parts(o.into());
                let beside = |c| code::beside(c, by, (self.rows, self.cols)).unwrap_or(-1);
                let cells = self.rows * self.cols;
                // What is no cell has none beside it.
                let table: Vec<i64> = (0..cells).map(beside).chain([-1]).collect();
                let last = self.number(cells);
                let c = self.b.ins().umin(c, last);
                let cell = self.entry(table, c);
                let off = self.b.ins().icmp_imm(IntCC::SignedLessThan, cell, 0);
                self.jump_if(off, to);
                self.set(d, cell);
            }
            Op::OnBoard { d, p } => {
                let p = self.get(p);
                let (_, _, on) = self.on_board(p);
                self.set_condition(d, on);
            }
            Op::Shift { d, p, o, site } | Op::ShiftBack { d, p, o, site } => {
                let (p, o) = (self.get(p), self.get(o));
                let back = matches!(op, Op::ShiftBack { .. });
                let v = if back { self.b.ins().isub(p, o) } else { self.b.ins().iadd(p, o) };
                let sound = self.is_place(v);
                self.unless_broken(sound, site, zero);
                self.set(d, v);
            }
            Op::OffAdd { d, a, b, site } | Op::OffSub { d, a, b, site } => {
                let (a, b) = (self.get(a), self.get(b));
                let minus = matches!(op, Op::OffSub { .. });
                let v = if minus { self.b.ins().isub(a, b) } else { self.b.ins().iadd(a, b) };
                let (rows, cols) = self.offset_parts(v);
                let sound = self.near(rows, cols);
                self.unless_broken(sound, site, zero);
                self.set(d, v);
            }
            Op::OffMul { d, a, b, site } => {
                let (o, n) = (self.get(a), self.get(b));
                let few = self.is_between(n, -(code::BIAS - 1), code::BIAS - 1);
                let (rows, cols) = self.offset_parts(o);
                let (rows, cols) = (self.b.ins().imul(rows, n), self.b.ins().imul(cols, n));
                let near = self.near(rows, cols);
                let sound = self.b.ins().band(few, near);
                self.unless_broken(sound, site, zero);
                let v = self.b.ins().imul(o, n);
                self.set(d, v);
            }
            Op::DirOff { d, a } => {
                let a = self.get(a);
                let v = self.look_up(DIR_STEPS.iter().map(|(r, c)| r * code::ROW + c).collect(), a);
                self.set(d, v);
            }
            Op::Row { d, p } => {
                let p = self.get(p);
                let v = self.b.ins().sshr_imm(p, 16);
                let v = self.b.ins().iadd_imm(v, 1 - code::BIAS);
                self.set(d, v);
            }
            Op::Col { d, p } => {
                let p = self.get(p);
                let v = self.b.ins().band_imm(p, 0xffff);
                let v = self.b.ins().iadd_imm(v, 1 - code::BIAS);
                self.set(d, v);
            }
            Op::PlaceAt { d, a, b, site } => {
                let (row, col) = (self.get(a), self.get(b));
                let sound = self.near(row, col);
                self.unless_broken(sound, site, zero);
                let (row, col) = (self.b.ins().iadd_imm(row, -1), self.b.ins().iadd_imm(col, -1));
                let v = self.place_of(row, col);
                self.set(d, v);
            }
            Op::Opposite { d, a } => self.turn(d, a, 2),
            Op::Turned { d, a } => self.turn(d, a, 1),
            _ => unreachable!("only places and directions are sent here"),
        }
    }

    /// A direction turned by so many quarters.
    pub(super) fn turn(&mut self, d: R, a: R, by: i64) {
        let a = self.get(a);
        let v = self.look_up((0..8).map(|v| v / 4 * 4 + (v + by) % 4).collect(), a);
        self.set(d, v);
    }

    pub(super) fn lane(&mut self, op: &Op) {
        let (rows, cols) = (self.rows, self.cols);
        match *op {
            Op::LanesLen { d, a, site } => {
                let a = self.get(a);
                let sound = self.is_between(a, 0, 3);
                self.unless_broken(sound, site, a);
                let v = self.entry(vec![cols, rows, cols, rows], a);
                self.set(d, v);
            }
            Op::LaneAt { d, a, i } => {
                // Lane number i of direction a: first cell  i * each + from,  then the direction back and the length.
                let (a, i) = (self.get(a), self.get(i));
                let three = self.number(3);
                let a = self.b.ins().umin(a, three);
                let each = self.entry(vec![1, cols, 1, cols], a);
                let from = self.entry(vec![0, cols - 1, (rows - 1) * cols, 0], a);
                let rest = self.entry(vec![2 << 32 | rows, 3 << 32 | cols, rows, 1 << 32 | cols], a);
                let first = self.b.ins().imul(i, each);
                let first = self.b.ins().iadd(first, from);
                let first = self.b.ins().ishl_imm(first, 40);
                let v = self.b.ins().bor(first, rest);
                self.set(d, v);
            }
            Op::LaneLen { d, a } => {
                let a = self.get(a);
                let v = self.b.ins().band_imm(a, 0xffff_ffff);
                self.set(d, v);
            }
            Op::LaneVertical { d, a } => {
                let a = self.get(a);
                let dir = self.b.ins().sshr_imm(a, 32);
                let dir = self.b.ins().band_imm(dir, 0xff & !2);
                let v = self.b.ins().icmp_imm(IntCC::Equal, dir, 0);
                self.set_condition(d, v);
            }
            Op::LaneCell { d, a, i } => {
                let (a, i) = (self.get(a), self.get(i));
                let dir = self.b.ins().sshr_imm(a, 32);
                let dir = self.b.ins().band_imm(dir, 0xff);
                let step = self.look_up(DIR_STEPS.iter().map(|(r, c)| r * cols + c).collect(), dir);
                let first = self.b.ins().sshr_imm(a, 40);
                let far = self.b.ins().imul(i, step);
                let v = self.b.ins().iadd(first, far);
                self.set(d, v);
            }
            _ => unreachable!("only lanes are sent here"),
        }
    }

    /// Moves the values along a lane that compare so to its beginning, one after the other; where nothing is kept, a place holds what it held.
    pub(super) fn gather(&mut self, base: M, lane: R, (how, v): (Comparison, i32), fill: i32) {
        let cols = self.cols;
        let lane = self.get(lane);
        let dir = self.b.ins().sshr_imm(lane, 32);
        let dir = self.b.ins().band_imm(dir, 0xff);
        let step = self.look_up(DIR_STEPS.iter().map(|(r, c)| r * cols + c).collect(), dir);
        let first = self.b.ins().sshr_imm(lane, 40);
        let len = self.b.ins().band_imm(lane, 0xffff_ffff);
        // Both ends of the lane are checked, so that what lies between them is on the board.
        let last = self.b.ins().iadd_imm(len, -1);
        let last = self.b.ins().imul(last, step);
        let last = self.b.ins().iadd(first, last);
        let cells = i64::from(self.code.cells);
        let from = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, first, cells);
        let to = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, last, cells);
        let inside = self.b.ins().band(from, to);
        self.unless_stray(inside);
        self.wrote(Some((base, self.code.cells)));
        let zero = self.number(0);
        let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        for _ in 0..3 {
            self.b.append_block_param(head, I64);
        }
        self.b.append_block_param(done, I64);
        self.b.append_block_param(done, I64);
        // How many were looked at, the cell, and the cell that the next kept value goes to.
        let start = [zero, first, first].map(BlockArg::Value);
        self.b.ins().jump(head, &start);
        self.b.switch_to_block(head);
        let &[i, cell, to] = self.b.block_params(head) else { unreachable!("three parameters") };
        let more = self.b.ins().icmp(IntCC::UnsignedLessThan, i, len);
        self.b.ins().brif(more, body, &[], done, &[BlockArg::Value(cell), BlockArg::Value(to)]);
        self.b.switch_to_block(body);
        let value = self.cell_value(base, cell);
        let keep = self.b.ins().icmp_imm(condition(how), value, i64::from(v));
        let old = self.cell_value(base, to);
        let new = self.b.ins().select(keep, value, old);
        self.put_cell(base, to, old, new);
        let next = self.b.ins().iadd(to, step);
        let to = self.b.ins().select(keep, next, to);
        let i = self.b.ins().iadd_imm(i, 1);
        let cell = self.b.ins().iadd(cell, step);
        self.b.ins().jump(head, &[i, cell, to].map(BlockArg::Value));
        self.b.switch_to_block(done);
        let &[end, to] = self.b.block_params(done) else { unreachable!("two parameters") };
        let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        self.b.append_block_param(head, I64);
        self.b.ins().jump(head, &[BlockArg::Value(to)]);
        self.b.switch_to_block(head);
        let to = self.b.block_params(head)[0];
        let full = self.b.ins().icmp(IntCC::Equal, to, end);
        self.b.ins().brif(full, done, &[], body, &[]);
        self.b.switch_to_block(body);
        let old = self.cell_value(base, to);
        let new = self.number(fill.into());
        self.put_cell(base, to, old, new);
        let next = self.b.ins().iadd(to, step);
        self.b.ins().jump(head, &[BlockArg::Value(next)]);
        self.b.switch_to_block(done);
    }

    fn cell_address(&mut self, cell: Value) -> Value {
        let bytes = self.b.ins().ishl_imm(cell, 2);
        self.b.ins().iadd(self.loaded.mem, bytes)
    }

    /// What a block holds at a cell that is known to be on the board.
    fn cell_value(&mut self, base: M, cell: Value) -> Value {
        let at = self.cell_address(cell);
        self.b.ins().sload32(heap(), at, (base.0 * 4) as i32)
    }

    /// Stores a value of the state now, and remembers it where it is another one.
    fn put_cell(&mut self, base: M, cell: Value, old: Value, new: Value) {
        let at = self.cell_address(cell);
        self.b.ins().istore32(heap(), new, at, (base.0 * 4) as i32);
        let differs = self.b.ins().icmp(IntCC::NotEqual, old, new);
        let differs = self.b.ins().uextend(I64, differs);
        let slot = self.b.ins().iadd_imm(cell, i64::from(base.0 - self.code.now));
        self.mark_if(slot, differs);
    }

    /// A quotient and the rest, of a number below 2^31 and a fixed divisor: see [`quotient`].
    pub(super) fn divided(&mut self, x: Value, n: i64) -> (Value, Value) {
        let (multiplier, shift) = quotient(n as u64);
        let product = self.b.ins().imul_imm(x, multiplier as i64);
        let quotient = self.b.ins().ushr_imm(product, i64::from(shift));
        let whole = self.b.ins().imul_imm(quotient, n);
        (quotient, self.b.ins().isub(x, whole))
    }

    /// What a placed shape covers, from a table.
    pub(super) fn covered(&mut self, d: R, p: R, (shapes, word): (u16, u8), op: &Op) {
        let table = &self.code.shapes[shapes as usize];
        let len = table.values_len();
        let entries: Vec<i64> = self.covers[&(shapes, word)].iter().map(|(bits, _)| *bits as i64).collect();
        if entries.is_empty() {
            self.step(op);
            return;
        }
        let p = self.get(p);
        let easy = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, p, len);
        let zero = self.number(0);
        let index = self.b.ins().select(easy, p, zero);
        let v = self.entry(entries, index);
        self.or_step(easy, op, Some((d, v)));
    }

    /// Whether all that a placed shape covers of one word is among some cells: a table says what it covers. Of the last word it says of what lies off the
    /// board that it covers a cell that never is among them, or, in a word without room for one, another table says so.
    pub(super) fn fits(&mut self, d: R, (p, s): (R, R), (shapes, word): (u16, u8), op: &Op) {
        let table = &self.code.shapes[shapes as usize];
        let len = table.values_len();
        let cells = self.rows * self.cols - 64 * i64::from(word);
        if !(1..=TABLE_MAX).contains(&len) || cells < 1 {
            self.step(op);
            return;
        }
        let covered = &self.covers[&(shapes, word)];
        // Every placed shape is a number below that: the last entry is for none.
        let p = self.get(p);
        let last = self.number(len);
        let index = self.b.ins().umin(p, last);
        let off = if cells < 64 { 1u64 << 63 } else { 0 };
        let bits = covered.iter().map(|(bits, whole)| (if *whole { *bits } else { bits | off }) as i64);
        let bits = self.entry(bits.chain([off as i64]).collect(), index);
        let s = self.get(s);
        let s = self.b.ins().band_imm(s, (u64::MAX >> (64 - cells.min(64))) as i64);
        let missed = self.b.ins().band_not(bits, s);
        let mut fits = self.b.ins().icmp_imm(IntCC::Equal, missed, 0);
        if cells == 64 {
            let whole = covered.iter().map(|(_, whole)| i16::from(*whole));
            let whole = self.small_entry(&whole.chain([0]).collect::<Vec<i16>>(), index);
            let whole = self.b.ins().icmp_imm(IntCC::NotEqual, whole, 0);
            fits = self.b.ins().band(fits, whole);
        }
        self.set_condition(d, fits);
    }

    /// A placed shape moved or turned by what is known here, from a table: false where that would be too large, or nothing is known.
    fn placed_from_table(&mut self, op: &Op) -> bool {
        let (d, p, by, shapes) = match *op {
            Op::ShapeMove { d, p, o, shapes, .. } => (d, p, o, shapes),
            Op::ShapeTurn { d, p, by, shapes } => (d, p, by, shapes),
            _ => return false,
        };
        let table = &self.code.shapes[shapes as usize];
        let (rows, cols, len) = (table.rows, table.cols, table.values_len());
        let by = self.get(by);
        let Some(by) = self.known(by).filter(|_| (1..=TABLE_MAX).contains(&len)) else { return false };
        let (down, right) = code::offset_parts(by);
        let place = |p: i64| {
            let (line, col) = (p / cols, p % cols);
            let (all, row) = (line / rows, line % rows);
            let (all, row, col) = match op {
                Op::ShapeMove { .. } => (all, row + down, col + right),
                _ => {
                    let (_, _, first, turns) = table.all[all as usize];
                    (first + (all - first).wrapping_add(by).rem_euclid(turns), row, col)
                }
            };
            let on = (0..rows).contains(&row) && (0..cols).contains(&col);
            // What breaks, and what no placed shape is, is for the interpreter.
            if on { ((all * rows + row) * cols + col) as i16 } else { -1 }
        };
        self.placed_at(d, p, (0..len).map(place).collect(), op);
        true
    }

    /// A shape at a place that is known here, from a table of the shapes.
    pub(super) fn make_shape(&mut self, d: R, (k, p): (R, R), shapes: u16, op: &Op) {
        let table = &self.code.shapes[shapes as usize];
        let (rows, cols) = (table.rows, table.cols);
        let p = self.get(p);
        let Some(p) = self.known(p).filter(|_| (1..=TABLE_MAX).contains(&table.values_len())) else {
            self.step(op);
            return;
        };
        let (row, col) = code::row_col(p);
        let (row, col) = (row + table.margin, col + table.margin);
        let on = (0..rows).contains(&row) && (0..cols).contains(&col);
        // What breaks, and what no shape is, is for the interpreter.
        let place = |first: &i64| if on { ((first * rows + row) * cols + col) as i16 } else { -1 };
        self.placed_at(d, k, table.firsts.iter().map(place).collect(), op);
    }

    /// Writes an entry of a table of placed shapes; where it is below 0, or `index` is past its end, the interpreter runs the operation.
    fn placed_at(&mut self, d: R, index: R, mut entries: Vec<i16>, op: &Op) {
        let index = self.get(index);
        let last = self.number(entries.len() as i64);
        let index = self.b.ins().umin(index, last);
        entries.push(-1);
        let v = self.small_entry(&entries, index);
        let easy = self.b.ins().icmp_imm(IntCC::SignedGreaterThanOrEqual, v, 0);
        self.or_step(easy, op, Some((d, v)));
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each operation about shapes")]
    pub(super) fn shape(&mut self, op: &Op) {
        let (Op::ShapeMove { d, p, shapes, .. }
        | Op::ShapeTurn { d, p, shapes, .. }
        | Op::ShapeAnchor { d, p, shapes }
        | Op::ShapeKind { d, p, shapes }
        | Op::ShapeTurnOf { d, p, shapes }
        | Op::ShapeLen { d, p, shapes }
        | Op::ShapeCell { d, p, shapes, .. }) = *op
        else {
            unreachable!("only shapes are sent here")
        };
        if self.placed_from_table(op) {
            return;
        }
        let table = &self.code.shapes[shapes as usize];
        let (rows, cols, margin) = (table.rows, table.cols, table.margin);
        let all = table.all.len() as i64;
        let longest = table.cells.iter().map(Vec::len).max().unwrap_or(0) as i64;
        if all * rows * cols >= 1 << 31 || all == 0 || rows * cols == 0 {
            self.step(op);
            return;
        }
        // A placed shape is a number below that; what is not is for the interpreter.
        let p = self.get(p);
        let easy = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, p, all * rows * cols);
        let zero = self.number(0);
        let p = self.b.ins().select(easy, p, zero);
        let (line, col) = self.divided(p, cols);
        let (turn, row) = self.divided(line, rows);
        let anchor = |e: &mut Self| {
            let (row, col) = (e.b.ins().iadd_imm(row, -margin), e.b.ins().iadd_imm(col, -margin));
            e.place_of(row, col)
        };
        let (easy, v) = match *op {
            Op::ShapeMove { o, .. } => {
                let o = self.get(o);
                let (r, c) = self.offset_parts(o);
                let (row, col) = (self.b.ins().iadd(row, r), self.b.ins().iadd(col, c));
                let on_row = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, row, rows);
                let on_col = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, col, cols);
                let on = self.b.ins().band(on_row, on_col);
                let first = self.b.ins().imul_imm(turn, rows);
                let line = self.b.ins().iadd(first, row);
                let first = self.b.ins().imul_imm(line, cols);
                let v = self.b.ins().iadd(first, col);
                (self.b.ins().band(easy, on), v)
            }
            Op::ShapeTurn { by, .. } => {
                // Shapes have one, two or four turns: of the quarters only the last two bits count.
                let all = &self.code.shapes[shapes as usize].all;
                let turned = |by: i64| {
                    all.iter()
                        .enumerate()
                        .map(move |(i, a)| a.2 + (i as i64 - a.2 + by).rem_euclid(a.3.max(1)))
                };
                let table: Vec<i64> = (0..4).flat_map(turned).collect();
                let regular = all.iter().all(|a| matches!(a.3, 1 | 2 | 4));
                let (by, n) = (self.get(by), all.len() as i64);
                let quarters = self.b.ins().band_imm(by, 3);
                let at = self.b.ins().imul_imm(quarters, n);
                let at = self.b.ins().iadd(at, turn);
                let new = self.entry(table, at);
                let first = self.b.ins().imul_imm(new, rows);
                let line = self.b.ins().iadd(first, row);
                let first = self.b.ins().imul_imm(line, cols);
                let v = self.b.ins().iadd(first, col);
                let regular = self.b.ins().iconst(cranelift_codegen::ir::types::I8, i64::from(regular));
                (self.b.ins().band(easy, regular), v)
            }
            Op::ShapeAnchor { .. } => (easy, anchor(self)),
            Op::ShapeKind { .. } => {
                let kinds = self.code.shapes[shapes as usize].all.iter().map(|a| a.0).collect();
                (easy, self.entry(kinds, turn))
            }
            Op::ShapeTurnOf { .. } => {
                let turns = self.code.shapes[shapes as usize].all.iter().map(|a| a.1).collect();
                (easy, self.entry(turns, turn))
            }
            Op::ShapeLen { .. } => {
                let lens = self.code.shapes[shapes as usize].cells.iter().map(|c| c.len() as i64).collect();
                (easy, self.entry(lens, turn))
            }
            Op::ShapeCell { i, .. } => {
                // All offsets in one table; a shape with fewer cells has unused places.
                let i = self.get(i);
                let short = self.b.ins().icmp_imm(IntCC::UnsignedLessThan, i, longest);
                let easy = self.b.ins().band(easy, short);
                let i = self.b.ins().select(short, i, zero);
                let mut offsets = vec![];
                for cells in &self.code.shapes[shapes as usize].cells {
                    let unused = longest as usize - cells.len();
                    offsets.extend(cells.iter().copied().chain(std::iter::repeat_n(0, unused)));
                }
                let first = self.b.ins().imul_imm(turn, longest);
                let at = self.b.ins().iadd(first, i);
                let offset = self.entry(offsets, at);
                let place = anchor(self);
                (easy, self.b.ins().iadd(place, offset))
            }
            _ => unreachable!("all shapes are handled"),
        };
        self.or_step(easy, op, Some((d, v)));
    }
}
