//! Runs the intermediate form. Nothing is allocated for a state.

use crate::bind::Bound;
use crate::codec::Codec;
use crate::hir::{DIR_STEPS, code};
use crate::ir::{Code, M, Op, R, Site};
use crate::reference::{LOOP_MAX, STEP_BUDGET};

/// Something broke at a site, on a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Break {
    /// Where.
    pub site: Site,
    /// The value that broke it.
    pub value: i64,
}

/// How a program ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Halt {
    /// A move was made.
    Done,
    /// A value was given.
    Give(i64),
    /// The move was refused by this statement.
    Refused(u32),
    /// The move is not offered.
    NotOffered,
}

const FILE: usize = 1 << 16;

/// Scratch memory for one thread.
pub struct Machine<'c> {
    code: &'c Code,
    codec: &'c Codec,
    /// As long as a register number can say, so that no access needs a check.
    regs: Box<[i64; FILE]>,
    mem: Vec<i32>,
    memo: Vec<i64>,
    known: Vec<u64>,
    /// The values of the state now that have been stored since it was last restored.
    changed: Vec<u32>,
    fuel: i64,
    rows: i64,
    cols: i64,
    /// Score of the last move.
    pub score: i64,
    /// Places named by the last refusal.
    pub places: Vec<i64>,
}

impl<'c> Machine<'c> {
    /// A machine for a bound model and its code.
    #[must_use]
    pub fn new(b: &'c Bound, code: &'c Code) -> Machine<'c> {
        let mut mem = b.data.clone();
        for _ in 0..3 {
            mem.extend_from_slice(&b.start);
        }
        mem.resize(code.memory as usize, 0);
        let regs = vec![0i64; FILE].into_boxed_slice().try_into().expect("as many as were asked for");
        Machine {
            code,
            codec: &b.codec,
            regs,
            mem,
            memo: vec![0; code.memos as usize],
            known: vec![0; (code.memos as usize).div_ceil(64)],
            changed: vec![],
            fuel: 0,
            rows: b.rows as i64,
            cols: b.cols as i64,
            score: 0,
            places: vec![],
        }
    }

    /// Takes a packed state as the one that moves start from.
    #[inline]
    pub fn load(&mut self, state: &[u64]) {
        let (before, len) = (self.code.before as usize, self.code.state_len as usize);
        self.codec.unpack(state, &mut self.mem[before..before + len]);
        self.known.fill(0);
        self.changed.clear();
        self.mem.copy_within(before..before + len, self.code.now as usize);
    }

    /// The ended part of the loaded state.
    #[inline]
    #[must_use]
    pub fn ended(&self) -> i32 {
        self.mem[(self.code.before + self.code.state_len) as usize - 1]
    }

    /// Treats a loaded state that ended as running.
    pub fn forget_ended(&mut self) {
        let at = (self.code.before + self.code.state_len) as usize - 1;
        self.mem[at] = 0;
        self.mem[at + self.code.state_len as usize] = 0;
    }

    #[inline]
    fn restore(&mut self) {
        let (before, now) = (self.code.before as usize, self.code.now as usize);
        for &slot in &self.changed {
            self.mem[now + slot as usize] = self.mem[before + slot as usize];
        }
        self.changed.clear();
    }

    /// Runs a program that gives a value, on the loaded state.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    #[inline]
    pub fn ask(&mut self, program: u32) -> Result<i64, Break> {
        self.restore();
        self.ask_as_is(program)
    }

    /// The same on the state as the last move left it.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    pub fn ask_as_is(&mut self, program: u32) -> Result<i64, Break> {
        self.fuel = STEP_BUDGET;
        match self.run(self.code.programs[program as usize].entry)? {
            Halt::Give(v) => Ok(v),
            _ => Ok(0),
        }
    }

    /// Tries a move on the loaded state. After [`Halt::Done`] the new state can be packed.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    #[inline]
    pub fn try_move(&mut self, number: usize) -> Result<Halt, Break> {
        self.restore();
        let entry = &self.code.moves[number];
        let program = &self.code.programs[entry.program as usize];
        for (r, &v) in program.params.iter().zip(&entry.args) {
            self.regs[r.0 as usize] = v;
        }
        self.fuel = STEP_BUDGET;
        self.score = 0;
        self.places.clear();
        let halt = self.run(program.entry)?;
        if halt == Halt::Done {
            let ended = (self.code.now + self.code.state_len) as usize - 1;
            if self.mem[ended] != 0 {
                let value = self.ask_as_is(self.code.status_changed)?;
                if value == i64::from(self.mem[ended]) {
                    // The condition alone says the same: one state, not two.
                    self.mem[ended] = 0;
                    self.changed.push(self.code.state_len - 1);
                }
            }
        }
        Ok(halt)
    }

    /// Packs the state that the last move led to. `out` holds the packed words of the loaded
    /// state, as it is without its ended part.
    ///
    /// # Errors
    ///
    /// [`Break`] when a rearranged grid no longer is one.
    #[inline]
    pub fn pack(&mut self, out: &mut [u64]) -> Result<(), Break> {
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        self.codec.patch(&self.mem[now..now + len], &self.changed, out).map_err(|bad| {
            let site = self.code.pack_sites.iter().find(|(v, _)| *v == bad.0).map_or(Site(0), |s| s.1);
            Break { site, value: 0 }
        })
    }

    /// Packs the loaded state itself.
    pub fn pack_loaded(&self, out: &mut [u64]) {
        let (before, len) = (self.code.before as usize, self.code.state_len as usize);
        // A loaded state came from packed words, so it can be packed.
        let _ = self.codec.pack(&self.mem[before..before + len], out);
    }

    #[inline(always)]
    fn r(&self, r: R) -> i64 {
        self.regs[r.0 as usize]
    }

    #[inline(always)]
    fn w(&mut self, r: R, v: i64) {
        self.regs[r.0 as usize] = v;
    }

    #[inline(always)]
    fn cell_of(&self, place: i64) -> Option<i64> {
        let (r, c) = ((place >> 16) - code::BIAS, (place & 0xffff) - code::BIAS);
        let on = (r as u64) < self.rows as u64 && (c as u64) < self.cols as u64;
        on.then(|| r * self.cols + c)
    }

    fn cells_of(&self, m: M) -> &[i32] {
        &self.mem[m.0 as usize..m.0 as usize + self.code.cells as usize]
    }

    #[inline(always)]
    fn burn(&mut self, site: Site) -> Result<(), Break> {
        self.fuel -= 1;
        if self.fuel < 0 { Err(Break { site, value: 0 }) } else { Ok(()) }
    }

    fn run(&mut self, entry: u32) -> Result<Halt, Break> {
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
                    self.changed.push(at - self.code.now);
                    self.mem[at as usize] = self.r(s) as i32;
                }
                Op::PutAt { to, s } => {
                    self.changed.push(to.0 - self.code.now);
                    self.mem[to.0 as usize] = self.r(s) as i32;
                }
                Op::PutBlock { d, s, len } => {
                    let from = d.0 - self.code.now;
                    self.changed.extend(from..from + len);
                    self.mem.copy_within(s.0 as usize..(s.0 + len) as usize, d.0 as usize);
                }
                Op::Check { s, lo, hi, site } => {
                    let v = self.r(s);
                    if v < i64::from(lo) || v > i64::from(hi) {
                        return Err(Break { site, value: v });
                    }
                }
                Op::CheckBlock { base, len, dom, site } => {
                    let (lo, hi) = self.code.doms[dom as usize];
                    let block = &self.mem[base.0 as usize..(base.0 + len) as usize];
                    if let Some(&v) = block.iter().find(|v| **v < lo || **v > hi) {
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
                    let (r, c) = (self.r(a), self.r(b));
                    // As two comparisons each, so that the least number has no absolute value to overflow.
                    let near = |x: i64| x > -code::BIAS / 2 && x < code::BIAS / 2;
                    checked!(d, site, (near(r) && near(c)).then(|| code::place(r - 1, c - 1)));
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
                    let i = self.r(i);
                    let (rows, cols) = (self.rows, self.cols);
                    let lane = match self.r(a) {
                        0 => code::lane(i, 2, rows),
                        1 => code::lane(i * cols + cols - 1, 3, cols),
                        2 => code::lane((rows - 1) * cols + i, 0, rows),
                        _ => code::lane(i * cols, 1, cols),
                    };
                    self.w(d, lane);
                }
                Op::LaneLen { d, a } => self.w(d, code::lane_parts(self.r(a)).2),
                Op::LaneCell { d, a, i } => {
                    let (first, dir, _) = code::lane_parts(self.r(a));
                    let (dr, dc) = DIR_STEPS[dir as usize];
                    let i = self.r(i);
                    self.w(d, first + i * (dr * self.cols + dc));
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
                Op::Refuse { which } => return Ok(Halt::Refused(which)),
                Op::NotOffered {} => return Ok(Halt::NotOffered),
                Op::Fault { site } => return Err(Break { site, value: 0 }),
                Op::FaultWith { s, site } => return Err(Break { site, value: self.r(s) }),
                Op::Give { s } => return Ok(Halt::Give(self.r(s))),
                Op::Done {} => return Ok(Halt::Done),
            }
            pc += 1;
        }
    }

    fn join(&mut self, d: M, a: M, b: M, f: impl Fn(i32, i32) -> i32) {
        for c in 0..self.code.cells as usize {
            self.mem[d.0 as usize + c] = f(self.mem[a.0 as usize + c], self.mem[b.0 as usize + c]);
        }
    }
}
