//! The loop that runs operations.

use super::*;

/// Truths as bits, the first one lowest.
fn bits_of(truths: impl Iterator<Item = bool>) -> i64 {
    truths.enumerate().fold(0u64, |bits, (i, truth)| bits | u64::from(truth) << i) as i64
}

impl<'c> Machine<'c> {
    #[inline(always)]
    pub(super) fn r(&self, r: R) -> i64 {
        self.regs[r.0 as usize]
    }

    #[inline(always)]
    pub(super) fn w(&mut self, r: R, v: i64) {
        self.regs[r.0 as usize] = v;
    }

    #[inline(always)]
    pub(super) fn cell_of(&self, place: i64) -> Option<i64> {
        let (r, c) = ((place >> 16) - code::BIAS, (place & 0xffff) - code::BIAS);
        let on = (r as u64) < self.rows as u64 && (c as u64) < self.cols as u64;
        on.then(|| r * self.cols + c)
    }

    pub(super) fn cells_of(&self, m: M) -> &[i32] {
        &self.mem[m.0 as usize..m.0 as usize + self.code.cells as usize]
    }

    #[inline(always)]
    pub(super) fn burn(&mut self, site: Site) -> Result<(), Break> {
        self.fuel -= 1;
        if self.fuel < 0 { Err(Break { site, value: 0 }) } else { Ok(()) }
    }

    /// Runs from this operation on until the program ends or pauses, by native code where there is some.
    pub(super) fn run(&mut self, entry: u32) -> Result<Halt, Break> {
        match self.native {
            Some(native) => native.run(self, entry),
            None => self.interpret(entry),
        }
    }

    /// Interprets from this operation on until the program ends or pauses.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    pub fn interpret(&mut self, entry: u32) -> Result<Halt, Break> {
        match self.execute::<false>(entry)? {
            Flow::Ends(halt) => Ok(halt),
            Flow::Next(_) => unreachable!("only single steps go on elsewhere"),
        }
    }

    /// Interprets one operation: native code calls this for operations that it does not write out.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    pub fn step(&mut self, pc: u32) -> Result<Flow, Break> {
        self.execute::<true>(pc)
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each operation")]
    fn execute<const ONE: bool>(&mut self, entry: u32) -> Result<Flow, Break> {
        let ops: &'c [Op] = &self.code.ops;
        let mut pc = entry as usize;
        macro_rules! checked {
            ($d:expr, $site:expr, $e:expr) => {
                match $e {
                    Some(v) => self.w($d, v),
                    None => return Err(Break { site: $site, value: 0 }),
                }
            };
        }
        macro_rules! jump {
            ($to:expr) => {{
                pc = $to.0 as usize;
                if ONE {
                    return Ok(Flow::Next(pc as u32));
                }
                continue;
            }};
        }
        loop {
            match ops[pc] {
                Op::Const { d, v } => self.w(d, v),
                Op::Copy { d, s } => self.w(d, self.r(s)),
                Op::Add { d, a, b, site } => checked!(d, site, self.r(a).checked_add(self.r(b))),
                Op::Sub { d, a, b, site } => checked!(d, site, self.r(a).checked_sub(self.r(b))),
                Op::Mul { d, a, b, site } => checked!(d, site, self.r(a).checked_mul(self.r(b))),
                Op::Div { d, a, b, site } => match self.r(a).checked_div_euclid(self.r(b)) {
                    Some(v) => self.w(d, v),
                    None => return Err(Break { site, value: self.r(a) }),
                },
                Op::Mod { d, a, b, site } => match self.r(a).checked_rem_euclid(self.r(b)) {
                    Some(v) => self.w(d, v),
                    None => return Err(Break { site, value: self.r(a) }),
                },
                Op::Pow { d, a, b, site } => {
                    checked!(d, site, u32::try_from(self.r(b)).ok().and_then(|b| self.r(a).checked_pow(b)));
                }
                Op::Min { d, a, b } => self.w(d, self.r(a).min(self.r(b))),
                Op::Max { d, a, b } => self.w(d, self.r(a).max(self.r(b))),
                Op::Neg { d, a, site } => checked!(d, site, self.r(a).checked_neg()),
                Op::Abs { d, a, site } => checked!(d, site, self.r(a).checked_abs()),
                Op::Eq { d, a, b } => self.w(d, i64::from(self.r(a) == self.r(b))),
                Op::Ne { d, a, b } => self.w(d, i64::from(self.r(a) != self.r(b))),
                Op::Lt { d, a, b } => self.w(d, i64::from(self.r(a) < self.r(b))),
                Op::Le { d, a, b } => self.w(d, i64::from(self.r(a) <= self.r(b))),
                Op::Not { d, a } => self.w(d, i64::from(self.r(a) == 0)),
                Op::Jump { to } => jump!(to),
                Op::JumpIf { a, to } => {
                    if self.r(a) != 0 {
                        jump!(to);
                    }
                }
                Op::JumpUnless { a, to } => {
                    if self.r(a) == 0 {
                        jump!(to);
                    }
                }
                Op::JumpEq { a, b, to } => {
                    if self.r(a) == self.r(b) {
                        jump!(to);
                    }
                }
                Op::JumpNe { a, b, to } => {
                    if self.r(a) != self.r(b) {
                        jump!(to);
                    }
                }
                Op::JumpLt { a, b, to } => {
                    if self.r(a) < self.r(b) {
                        jump!(to);
                    }
                }
                Op::JumpLe { a, b, to } => {
                    if self.r(a) <= self.r(b) {
                        jump!(to);
                    }
                }
                Op::Inc { d } => self.w(d, self.r(d) + 1),
                Op::Loop { to, site } => {
                    self.burn(site)?;
                    jump!(to);
                }
                Op::LoopTo { d, n, to, site } => {
                    let next = self.r(d) + 1;
                    self.w(d, next);
                    if next < i64::from(n) {
                        self.burn(site)?;
                        jump!(to);
                    }
                }
                Op::CheckLoop { a, b, site } => {
                    let (a, b) = (self.r(a), self.r(b));
                    if b.saturating_sub(a) >= LOOP_MAX {
                        return Err(Break { site, value: b.saturating_sub(a).saturating_add(1) });
                    }
                }
                Op::Load { d, base, i } => {
                    let v = self.mem[base.0 as usize + self.r(i) as usize];
                    self.w(d, v.into());
                }
                Op::LoadAt { d, from } => {
                    let v = self.mem[from.0 as usize];
                    self.w(d, v.into());
                }
                Op::Store { base, i, s } => {
                    let at = base.0 as usize + self.r(i) as usize;
                    self.mem[at] = self.r(s) as i32;
                }
                Op::StoreAt { to, s } => self.mem[to.0 as usize] = self.r(s) as i32,
                Op::Put { base, i, s } => {
                    let at = base.0 + self.r(i) as u32;
                    self.mark((at - self.code.now) as usize, 1);
                    self.mem[at as usize] = self.r(s) as i32;
                }
                Op::PutAt { to, s } => {
                    self.mark((to.0 - self.code.now) as usize, 1);
                    self.mem[to.0 as usize] = self.r(s) as i32;
                }
                Op::PutBlock { d, s, len } => {
                    self.mark((d.0 - self.code.now) as usize, len as usize);
                    self.mem.copy_within(s.0 as usize..(s.0 + len) as usize, d.0 as usize);
                }
                Op::Check { s, lo, hi, site } => {
                    let v = self.r(s);
                    if v < i64::from(lo) || v > i64::from(hi) {
                        return Err(Break { site, value: v });
                    }
                }
                Op::CheckBlock { base, len, dom, site } => {
                    let (lo, hi, maybe) = self.code.doms[dom as usize];
                    let block = &self.mem[base.0 as usize..(base.0 + len) as usize];
                    let none = crate::model::NONE as i32;
                    if let Some(&v) = block.iter().find(|v| (**v < lo || **v > hi) && !(maybe && **v == none))
                    {
                        return Err(Break { site, value: v.into() });
                    }
                }
                Op::CopyBlock { d, s, len } => {
                    self.mem.copy_within(s.0 as usize..(s.0 + len) as usize, d.0 as usize);
                }
                Op::ClearCells { d } => {
                    let cells = self.code.cells as usize;
                    self.mem[d.0 as usize..d.0 as usize + cells].fill(0);
                }
                Op::SameBlock { d, a, b, len } => {
                    let same = self.mem[a.0 as usize..(a.0 + len) as usize]
                        == self.mem[b.0 as usize..(b.0 + len) as usize];
                    self.w(d, i64::from(same));
                }
                Op::Union { d, a, b } => self.join(d, a, b, |x, y| x | y),
                Op::Minus { d, a, b } => self.join(d, a, b, |x, y| x & (1 - y)),
                Op::Both { d, a, b } => self.join(d, a, b, |x, y| x & y),
                Op::PlaceOf { d, c } => {
                    let c = self.r(c);
                    // Boards are small: 32-bit division is several times faster.
                    let (row, col) = (c as u32 / self.cols as u32, c as u32 % self.cols as u32);
                    self.w(d, code::place(row.into(), col.into()));
                }
                Op::CellOf { d, p, site } => match self.cell_of(self.r(p)) {
                    Some(c) => self.w(d, c),
                    None => return Err(Break { site, value: 0 }),
                },
                Op::CellOr { d, p, to } => match self.cell_of(self.r(p)) {
                    Some(c) => self.w(d, c),
                    None => jump!(to),
                },
                Op::Beside { d, c, o, to } => {
                    // What is no cell has none beside it.
                    let cell = Some(self.r(c)).filter(|c| (0..i64::from(self.code.cells)).contains(c));
                    let by = code::offset_parts(o.into());
                    match cell.and_then(|c| code::beside(c, by, (self.rows, self.cols))) {
                        Some(beside) => self.w(d, beside),
                        None => jump!(to),
                    }
                }
                Op::OnBoard { d, p } => {
                    let on = self.cell_of(self.r(p)).is_some();
                    self.w(d, i64::from(on));
                }
                Op::Shift { d, p, o, site } => {
                    let v = self.r(p) + self.r(o);
                    checked!(d, site, code::is_place(v).then_some(v));
                }
                Op::ShiftBack { d, p, o, site } => {
                    let v = self.r(p) - self.r(o);
                    checked!(d, site, code::is_place(v).then_some(v));
                }
                Op::Peek { d, p, o } => self.w(d, self.r(p) + self.r(o)),
                Op::OffAdd { d, a, b, site } => {
                    let v = self.r(a) + self.r(b);
                    checked!(d, site, code::is_offset(v).then_some(v));
                }
                Op::OffSub { d, a, b, site } => {
                    let v = self.r(a) - self.r(b);
                    checked!(d, site, code::is_offset(v).then_some(v));
                }
                Op::OffMul { d, a, b, site } => {
                    let (o, n) = (self.r(a), self.r(b));
                    let (r, c) = code::offset_parts(o);
                    let far = n.unsigned_abs() >= code::BIAS as u64
                        || (r * n).abs() >= code::BIAS / 2
                        || (c * n).abs() >= code::BIAS / 2;
                    checked!(d, site, (!far).then_some(o.wrapping_mul(n)));
                }
                Op::DirOff { d, a } => {
                    let (r, c) = DIR_STEPS[self.r(a) as usize];
                    self.w(d, r * code::ROW + c);
                }
                Op::Row { d, p } => self.w(d, (self.r(p) >> 16) - code::BIAS + 1),
                Op::Col { d, p } => self.w(d, (self.r(p) & 0xffff) - code::BIAS + 1),
                Op::PlaceAt { d, a, b, site } => {
                    let place = code::named_place(self.r(a), self.r(b));
                    checked!(d, site, place);
                }
                Op::Opposite { d, a } => {
                    let v = self.r(a);
                    self.w(d, v / 4 * 4 + (v + 2) % 4);
                }
                Op::Turned { d, a } => {
                    let v = self.r(a);
                    self.w(d, v / 4 * 4 + (v + 1) % 4);
                }
                Op::LanesLen { d, a, site } => match self.r(a) {
                    0 | 2 => self.w(d, self.cols),
                    1 | 3 => self.w(d, self.rows),
                    v => return Err(Break { site, value: v }),
                },
                Op::LaneAt { d, a, i } => {
                    self.w(d, code::lane_at(self.r(a), self.r(i), (self.rows, self.cols)));
                }
                Op::LaneVertical { d, a } => {
                    let dir = code::lane_parts(self.r(a)).1;
                    self.w(d, i64::from(dir == 0 || dir == 2));
                }
                Op::Sum { d, a, b } => self.w(d, self.r(a) + self.r(b)),
                Op::CheckEntry { i, n, site } => {
                    let i = self.r(i);
                    if i < 1 || i > self.r(n) {
                        return Err(Break { site, value: i });
                    }
                }
                Op::LoadFrom { d, a, .. } => {
                    let v = self.mem[self.r(a) as usize];
                    self.w(d, v.into());
                }
                Op::PutInto { a, s, list } => {
                    let at = self.r(a) as usize;
                    self.mem[at] = self.r(s) as i32;
                    self.touch(list, at, 1);
                }
                Op::ListCopy { d, s, list, site, .. } => {
                    let (d, s) = (self.r(d) as usize, self.r(s) as usize);
                    let info = self.code.lists[list as usize];
                    let n = self.mem[s] as usize;
                    if n > info.cap as usize {
                        return Err(Break { site, value: info.cap.into() });
                    }
                    self.mem.copy_within(s..=s + n, d);
                    self.mem[d + n + 1..=d + info.cap as usize].fill(info.pad);
                    self.touch(list, d, info.cap as usize + 1);
                }
                Op::ListCheck { s, list, site } => {
                    let at = self.r(s) as usize;
                    let info = &self.code.lists[list as usize];
                    let n = self.mem[at] as usize;
                    if let Some(&v) = self.mem[at + 1..=at + n].iter().find(|v| !info.holds((**v).into())) {
                        return Err(Break { site, value: v.into() });
                    }
                }
                Op::ListSame { d, a, b, .. } => {
                    let (a, b) = (self.r(a) as usize, self.r(b) as usize);
                    let n = self.mem[a] as usize;
                    let same =
                        self.mem[a] == self.mem[b] && self.mem[a + 1..=a + n] == self.mem[b + 1..=b + n];
                    self.w(d, i64::from(same));
                }
                Op::ListFind { d, a, v, .. } => {
                    let at = self.r(a) as usize;
                    let v = self.r(v);
                    let n = self.mem[at] as usize;
                    let found = self.mem[at + 1..=at + n].iter().position(|x| i64::from(*x) == v);
                    self.w(d, found.map_or(0, |i| i as i64 + 1));
                }
                Op::ListAdd { a, v, list, site } => {
                    let at = self.r(a) as usize;
                    let v = self.r(v);
                    let info = self.code.lists[list as usize];
                    let n = self.mem[at] as usize;
                    if n >= info.cap as usize {
                        return Err(Break { site, value: info.cap.into() });
                    }
                    let mut spot = at + n + 1;
                    if info.bag {
                        while spot > at + 1 && i64::from(self.mem[spot - 1]) > v {
                            self.mem[spot] = self.mem[spot - 1];
                            spot -= 1;
                        }
                    }
                    // Values outside 32 bits are in no range: they break where the range is checked.
                    self.mem[spot] = i32::try_from(v).unwrap_or(i32::MAX);
                    self.mem[at] = n as i32 + 1;
                    self.touch(list, at, n + 2);
                }
                Op::ListDrop { a, i, list } => {
                    let at = self.r(a) as usize;
                    let i = self.r(i) as usize;
                    let n = self.mem[at] as usize;
                    self.mem.copy_within(at + i + 1..at + n + 1, at + i);
                    self.mem[at + n] = self.code.lists[list as usize].pad;
                    self.mem[at] = n as i32 - 1;
                    self.touch(list, at, n + 1);
                }
                Op::ListTail { s, n, to, list } => {
                    let at = self.r(s) as usize;
                    let n = self.r(n) as usize;
                    let len = self.mem[at] as usize;
                    let first = at + 1 + len - n;
                    self.mem.copy_within(first..first + n, to.0 as usize);
                    self.mem[first..first + n].fill(self.code.lists[list as usize].pad);
                    self.mem[at] = (len - n) as i32;
                    self.touch(list, at, len + 1);
                }
                Op::ListJoin { d, n, from, list, site } => {
                    let at = self.r(d) as usize;
                    let n = self.r(n) as usize;
                    let len = self.mem[at] as usize;
                    let cap = self.code.lists[list as usize].cap;
                    if len + n > cap as usize {
                        return Err(Break { site, value: cap.into() });
                    }
                    self.mem.copy_within(from.0 as usize..from.0 as usize + n, at + 1 + len);
                    self.mem[at] = (len + n) as i32;
                    self.touch(list, at, len + n + 1);
                }
                Op::Reset { d, len } => self.mem[d.0 as usize..(d.0 + len) as usize].fill(0),
                Op::CutLanes { d, s, gone, fill, flags } => {
                    let fill = self.r(fill) as i32;
                    self.cut_lanes(d, s, gone, fill, flags);
                }
                Op::FloodEqual { d, base, from, v, beside } => {
                    let (from, v) = (self.r(from) as usize, self.r(v));
                    self.flood_equal((d, base), from, v, beside);
                }
                Op::Gather { base, lane, how, v, fill } => {
                    let lane = self.r(lane);
                    self.gather(base, lane, (how, v), fill);
                }
                Op::OpenLane { d, s, lane, flags } => {
                    let lane = self.r(lane);
                    self.open_lane(d, s, lane, flags);
                }
                Op::ShapeMove { d, p, o, shapes, site } => {
                    let table = &self.code.shapes[shapes as usize];
                    let (p, (r, c)) = (self.r(p), code::offset_parts(self.r(o)));
                    let (all, row, col) =
                        (p / table.cols / table.rows, p / table.cols % table.rows, p % table.cols);
                    let (row, col) = (row + r, col + c);
                    let on = row >= 0 && col >= 0 && row < table.rows && col < table.cols;
                    checked!(d, site, on.then_some((all * table.rows + row) * table.cols + col));
                }
                Op::ShapeTurn { d, p, by, shapes } => {
                    let table = &self.code.shapes[shapes as usize];
                    let (p, area) = (self.r(p), table.rows * table.cols);
                    let all = p / area;
                    let (_, _, first, turns) = table.all[all as usize];
                    let turn = (all - first).wrapping_add(self.r(by)).rem_euclid(turns);
                    self.w(d, (first + turn) * area + p % area);
                }
                Op::ShapeBits { d, p, word, shapes } => {
                    let covered =
                        self.code.shapes[shapes as usize].covered(self.r(p), (self.rows, self.cols), word);
                    self.w(d, covered.0 as i64);
                }
                Op::ShapeFits { d, p, s, word, shapes } => {
                    let (bits, whole) =
                        self.code.shapes[shapes as usize].covered(self.r(p), (self.rows, self.cols), word);
                    let is_last = (self.rows * self.cols - 1) / 64 == i64::from(word);
                    self.w(d, ((whole || !is_last) && bits & !(self.r(s) as u64) == 0).into());
                }
                Op::ShapeMake { d, k, p, shapes, site } => {
                    let table = &self.code.shapes[shapes as usize];
                    let (row, col) = code::row_col(self.r(p));
                    let (row, col) = (row + table.margin, col + table.margin);
                    let on = row >= 0 && col >= 0 && row < table.rows && col < table.cols;
                    let first = table.firsts[self.r(k) as usize];
                    checked!(d, site, on.then_some((first * table.rows + row) * table.cols + col));
                }
                Op::ShapeAnchor { d, p, shapes } => {
                    let table = &self.code.shapes[shapes as usize];
                    let p = self.r(p);
                    let (row, col) = (p / table.cols % table.rows, p % table.cols);
                    self.w(d, code::place(row - table.margin, col - table.margin));
                }
                Op::ShapeKind { d, p, shapes } => {
                    let table = &self.code.shapes[shapes as usize];
                    let v = table.all[(self.r(p) / (table.rows * table.cols)) as usize].0;
                    self.w(d, v);
                }
                Op::ShapeTurnOf { d, p, shapes } => {
                    let table = &self.code.shapes[shapes as usize];
                    let v = table.all[(self.r(p) / (table.rows * table.cols)) as usize].1;
                    self.w(d, v);
                }
                Op::ShapeMirror { d, p, shapes } => {
                    let table = &self.code.shapes[shapes as usize];
                    let (p, area) = (self.r(p), table.rows * table.cols);
                    let turn = table.mirrors[(p / area) as usize];
                    self.w(d, turn * area + p % area);
                }
                Op::ShapePart { d, p, at, shapes, site } => {
                    let table = &self.code.shapes[shapes as usize];
                    let p = self.r(p);
                    let (row, col) = (p / table.cols % table.rows, p % table.cols);
                    let offset = self.r(at) - code::place(row - table.margin, col - table.margin);
                    let turn = (p / (table.rows * table.cols)) as usize;
                    let cell = table.cells[turn].iter().position(|o| *o == offset);
                    checked!(d, site, cell.map(|i| table.parts[turn][i]));
                }
                Op::ShapeLen { d, p, shapes } => {
                    let table = &self.code.shapes[shapes as usize];
                    let n = table.cells[(self.r(p) / (table.rows * table.cols)) as usize].len();
                    self.w(d, n as i64);
                }
                Op::ShapeCell { d, p, i, shapes } => {
                    let table = &self.code.shapes[shapes as usize];
                    let p = self.r(p);
                    let (row, col) = (p / table.cols % table.rows, p % table.cols);
                    let offset = table.cells[(p / (table.rows * table.cols)) as usize][self.r(i) as usize];
                    self.w(d, code::place(row - table.margin, col - table.margin) + offset);
                }
                Op::Draw { .. } | Op::Merge { .. } | Op::BeforeDraw { .. } => {
                    return Ok(Flow::Ends(Halt::Paused(pc as u32)));
                }
                Op::Cut {} => return Ok(Flow::Ends(Halt::Cut)),
                Op::LaneLen { d, a } => self.w(d, code::lane_parts(self.r(a)).2),
                Op::LaneCell { d, a, i } => {
                    self.w(d, code::lane_cell(self.r(a), self.r(i), self.cols));
                }
                Op::Parity { d, base, len, site } => {
                    let v = &self.mem[base.0 as usize..(base.0 + len) as usize];
                    let mut odd = false;
                    for i in 0..v.len() {
                        for j in 0..i {
                            if v[i] == v[j] {
                                return Err(Break { site, value: v[i].into() });
                            }
                            odd ^= v[j] > v[i];
                        }
                    }
                    self.w(d, i64::from(odd));
                }
                Op::Distinct { d, base, len } => {
                    let v = &self.mem[base.0 as usize..(base.0 + len) as usize];
                    let distinct = (0..v.len()).all(|i| v[..i].iter().all(|x| *x != v[i]));
                    self.w(d, i64::from(distinct));
                }
                Op::NextIn { d, base, to } => {
                    let from = self.r(d) as usize;
                    match self.cells_of(base)[from..].iter().position(|v| *v != 0) {
                        Some(n) => self.w(d, (from + n) as i64),
                        None => jump!(to),
                    }
                }
                Op::NextEq { d, base, v, to } => {
                    let from = self.r(d) as usize;
                    match self.cells_of(base)[from..].iter().position(|x| *x == v) {
                        Some(n) => self.w(d, (from + n) as i64),
                        None => jump!(to),
                    }
                }
                Op::CompareBlocks { d, a, b, n, how } => {
                    let (a, b, n) = (a.0 as usize, b.0 as usize, usize::from(n));
                    let pairs = self.mem[a..a + n].iter().zip(&self.mem[b..b + n]);
                    let bits = bits_of(pairs.map(|(x, y)| how.holds((*x).into(), (*y).into())));
                    self.w(d, bits);
                }
                Op::Compare { d, a, v, n, how } => {
                    let (a, n, v) = (a.0 as usize, usize::from(n), self.r(v));
                    let bits = bits_of(self.mem[a..a + n].iter().map(|x| how.holds((*x).into(), v)));
                    self.w(d, bits);
                }
                Op::CompareTo { d, a, v, n, how } => {
                    let (a, n) = (a.0 as usize, usize::from(n));
                    let bits = bits_of(self.mem[a..a + n].iter().map(|x| how.holds((*x).into(), v.into())));
                    self.w(d, bits);
                }
                Op::BitAnd { d, a, b } => self.w(d, self.r(a) & self.r(b)),
                Op::BitOr { d, a, b } => self.w(d, self.r(a) | self.r(b)),
                Op::BitMinus { d, a, b } => self.w(d, self.r(a) & !self.r(b)),
                Op::BitMove { d, s, by } => self.w(d, code::bits_moved(self.r(s), by)),
                Op::BitCount { d, s } => self.w(d, self.r(s).count_ones().into()),
                Op::BitAt { d, s, i } => {
                    let i = self.r(i);
                    self.w(d, if (0..64).contains(&i) { self.r(s) >> i & 1 } else { 0 });
                }
                Op::CellsOf { d, s } => {
                    let (d, bits) = (d.0 as usize, self.r(s));
                    for (i, cell) in self.mem[d..d + self.code.cells as usize].iter_mut().enumerate() {
                        *cell = if i < 64 { (bits >> i & 1) as i32 } else { 0 };
                    }
                }
                Op::FloodBits { d, m, from, steps } => {
                    let reached = self.code.steps[usize::from(steps)].flood(self.r(m) as u64, self.r(from));
                    self.w(d, reached as i64);
                }
                Op::Spread { d, s, steps } => {
                    let all = self.code.steps[usize::from(steps)].spread(self.r(s) as u64);
                    self.w(d, all as i64);
                }
                Op::NextBit { d, s, to } => {
                    let from = self.r(d);
                    let left = if (0..64).contains(&from) { self.r(s) as u64 >> from << from } else { 0 };
                    if left == 0 {
                        jump!(to);
                    }
                    self.w(d, left.trailing_zeros().into());
                }
                Op::Push { d, base, s } => {
                    let n = self.r(d);
                    let v = self.r(s);
                    let at = base.0 as usize + 2 * n as usize;
                    self.mem[at] = v as i32;
                    self.mem[at + 1] = (v >> 32) as i32;
                    self.w(d, n + 1);
                }
                Op::Entry { d, base, i } => {
                    let at = base.0 as usize + 2 * self.r(i) as usize;
                    let v = i64::from(self.mem[at] as u32) | i64::from(self.mem[at + 1]) << 32;
                    self.w(d, v);
                }
                Op::Recall { d, memo, to } => {
                    let m = memo as usize;
                    if self.known[m / 64] >> (m % 64) & 1 == 1 {
                        self.w(d, self.memo[m]);
                        jump!(to);
                    }
                }
                Op::Remember { s, memo } => {
                    let m = memo as usize;
                    self.memo[m] = self.r(s);
                    self.known[m / 64] |= 1 << (m % 64);
                }
                Op::Score { s, site } => match self.score.checked_add(self.r(s)) {
                    Some(v) => self.score = v,
                    None => return Err(Break { site, value: 0 }),
                },
                Op::RefuseAt { p } => self.places.push(self.r(p)),
                Op::RefuseIn { base } => {
                    for c in 0..self.code.cells as usize {
                        if self.mem[base.0 as usize + c] != 0 {
                            let c = c as i64;
                            self.places.push(code::place(c / self.cols, c % self.cols));
                        }
                    }
                }
                Op::RefuseAmong { s } => {
                    let cells = (0..i64::from(self.code.cells.min(64))).filter(|c| self.r(s) >> c & 1 == 1);
                    let places = cells.map(|c| code::place(c / self.cols, c % self.cols));
                    let places: Vec<i64> = places.collect();
                    self.places.extend(places);
                }
                Op::Refuse { which } => return Ok(Flow::Ends(Halt::Refused(which))),
                Op::NotOffered {} => return Ok(Flow::Ends(Halt::NotOffered)),
                Op::Fault { site } => return Err(Break { site, value: 0 }),
                Op::FaultWith { s, site } => return Err(Break { site, value: self.r(s) }),
                Op::Give { s } => return Ok(Flow::Ends(Halt::Give(self.r(s)))),
                Op::Done {} => return Ok(Flow::Ends(Halt::Done)),
            }
            pc += 1;
            if ONE {
                return Ok(Flow::Next(pc as u32));
            }
        }
    }

    /// Remembers that `len` values of the state from `slot` on were stored to.
    #[inline(always)]
    pub(super) fn mark(&mut self, slot: usize, len: usize) {
        for s in slot..slot + len {
            self.changed[s / 64] |= 1 << (s % 64);
        }
    }

    /// Remembers what of the state was stored to.
    #[inline]
    pub(super) fn touch(&mut self, list: u16, at: usize, len: usize) {
        if self.code.lists[list as usize].puts {
            self.mark(at - self.code.now as usize, len);
        }
    }
}
