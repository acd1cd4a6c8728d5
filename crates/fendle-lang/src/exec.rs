//! Runs the intermediate form. Nothing is allocated for a state.

use crate::alike::Canon;
use crate::bind::Bound;
use crate::chance::{Chance, gcd, lcm};
use crate::codec::Codec;
use crate::hir::{DIR_STEPS, code};
use crate::ir::{Code, M, Op, R, Site};
use crate::reference::{LOOP_MAX, OUTCOMES_MAX, STEP_BUDGET};

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
    /// Suspended at the operation at this place: a draw or a merge.
    Paused(u32),
    /// Set aside.
    Cut,
}

/// One outcome of a move, beside its packed state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Outcome {
    /// Its chance.
    pub chance: Chance,
    /// The mean of its score, over the ways that lead to it.
    pub score: Mean,
}

/// A mean of scores and its extremes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mean {
    /// Numerator.
    pub num: i128,
    /// Denominator, above 0.
    pub den: i128,
    /// Least score.
    pub least: i64,
    /// Greatest score.
    pub most: i64,
}

impl Mean {
    const ZERO: Mean = Mean { num: 0, den: 1, least: 0, most: 0 };

    fn plus(self, score: i64) -> Option<Mean> {
        Some(Mean {
            num: self.num.checked_add(i128::from(score).checked_mul(self.den)?)?,
            den: self.den,
            least: self.least.checked_add(score)?,
            most: self.most.checked_add(score)?,
        })
    }

    /// The mean of two things with these chances.
    fn joined(self, at: Chance, other: Mean, other_at: Chance) -> Option<Mean> {
        let (least, most) = (self.least.min(other.least), self.most.max(other.most));
        if self.num == other.num && self.den == other.den {
            return Some(Mean { least, most, ..self });
        }
        // (p a + q b) / (p + q), with p and q over one denominator.
        let den = lcm(at.den, other_at.den)?;
        let p = i128::try_from(at.num.checked_mul(den / at.den)?).ok()?;
        let q = i128::try_from(other_at.num.checked_mul(den / other_at.den)?).ok()?;
        let a = self.num.checked_mul(other.den)?.checked_mul(p)?;
        let b = other.num.checked_mul(self.den)?.checked_mul(q)?;
        let num = a.checked_add(b)?;
        let den = self.den.checked_mul(other.den)?.checked_mul(p.checked_add(q)?)?;
        let g = gcd(num.unsigned_abs(), den.unsigned_abs()).max(1) as i128;
        Some(Mean { num: num / g, den: den / g, least, most })
    }
}

/// A branch of a move that was suspended.
#[derive(Clone, Copy)]
struct Branch {
    point: u16,
    pc: u32,
    /// Where its values begin, and how many there are.
    at: usize,
    len: usize,
    chance: Chance,
    score: Mean,
    fuel: i64,
}

/// Branches and their values. The values of a branch: live registers, the state, live scratch.
#[derive(Default)]
struct Branches {
    list: Vec<Branch>,
    values: Vec<i64>,
}

/// The outcomes of one move, and what they were made with.
#[derive(Default)]
pub struct Outcomes {
    /// Packed states, one after the other.
    pub states: Vec<u64>,
    /// One entry a state.
    pub parts: Vec<Outcome>,
    stack: Branches,
    parked: Branches,
    table: Vec<u32>,
    packed: Vec<u64>,
}

const FILE: usize = 1 << 16;

/// Scratch memory for one thread.
pub struct Machine<'c> {
    code: &'c Code,
    codec: &'c Codec,
    canon: Option<&'c Canon>,
    /// The state now in its canonical form.
    settled: std::cell::RefCell<Vec<i32>>,
    /// As long as a register number can say, so that no access needs a check.
    regs: Box<[i64; FILE]>,
    mem: Vec<i32>,
    memo: Vec<i64>,
    known: Vec<u64>,
    /// The values of the state now that have been stored since it was last restored.
    changed: Vec<u32>,
    /// Branches ran: anything may have been.
    all_changed: bool,
    start: Vec<i32>,
    cut: i32,
    fuel: i64,
    rows: i64,
    cols: i64,
    /// Score of the last move.
    pub score: i64,
    /// Places named by the last refusal.
    pub places: Vec<i64>,
}

/// Looks for equal things among few one by one, among many in a table.
const SCAN_MAX: usize = 32;

fn mixed(words: impl Iterator<Item = u64>) -> u64 {
    words.fold(0x9e37_79b9_7f4a_7c15, |h, w| {
        let h = (h ^ w).wrapping_mul(0xff51_afd7_ed55_8ccd);
        h ^ h >> 32
    })
}

impl Outcomes {
    /// The number of an equal thing among those before, or room for a new one in the table.
    fn find(
        table: &mut Vec<u32>,
        len: usize,
        hash_of: impl Fn(usize) -> u64,
        same: impl Fn(usize) -> bool,
        hash: u64,
    ) -> Option<usize> {
        if len < SCAN_MAX {
            table.clear();
            return (0..len).find(|&i| same(i));
        }
        if table.len() < 2 * (len + 1) {
            let room = (4 * (len + 1)).next_power_of_two();
            table.clear();
            table.resize(room, 0);
            for i in 0..len {
                let mut slot = hash_of(i) as usize & (room - 1);
                while table[slot] != 0 {
                    slot = (slot + 1) & (room - 1);
                }
                table[slot] = i as u32 + 1;
            }
        }
        let mask = table.len() - 1;
        let mut slot = hash as usize & mask;
        while table[slot] != 0 {
            let i = table[slot] as usize - 1;
            if same(i) {
                return Some(i);
            }
            slot = (slot + 1) & mask;
        }
        table[slot] = len as u32 + 1;
        None
    }

    /// Adds the packed outcome, or its chance to an equal one. `None` when chances no longer fit.
    fn add(&mut self, words: usize, chance: Chance, score: Mean) -> Option<()> {
        let Outcomes { states, parts, packed, table, .. } = self;
        let hash_of = |i: usize| mixed(states[i * words..(i + 1) * words].iter().copied());
        let same = |i: usize| states[i * words..(i + 1) * words] == packed[..];
        let hash = mixed(packed.iter().copied());
        match Self::find(table, parts.len(), hash_of, same, hash) {
            Some(i) => {
                let old = parts[i];
                parts[i] = Outcome {
                    chance: old.chance.or(chance)?,
                    score: old.score.joined(old.chance, score, chance)?,
                };
            }
            None => {
                states.extend_from_slice(packed);
                parts.push(Outcome { chance, score });
            }
        }
        Some(())
    }

    /// Joins the waiting branches that are equal, and lets them go on.
    fn merge(&mut self, too_fine: Site) -> Result<(), Break> {
        let Branches { list, values } = &mut self.parked;
        let mut merged: Vec<Branch> = vec![];
        let mut table = vec![];
        let of = |b: &Branch| &values[b.at..b.at + b.len];
        for b in list.iter() {
            let hash = |b: &Branch| mixed(of(b).iter().map(|&x| x as u64).chain([b.pc.into()]));
            let hash_of = |k: usize| hash(&merged[k]);
            let same = |k: usize| merged[k].pc == b.pc && of(&merged[k]) == of(b);
            match Self::find(&mut table, merged.len(), hash_of, same, hash(b)) {
                Some(k) => {
                    let m = &mut merged[k];
                    let joined = m.score.joined(m.chance, b.score, b.chance);
                    let (Some(score), Some(chance)) = (joined, m.chance.or(b.chance)) else {
                        return Err(Break { site: too_fine, value: 0 });
                    };
                    (m.score, m.chance, m.fuel) = (score, chance, m.fuel.min(b.fuel));
                }
                None => merged.push(*b),
            }
        }
        // The first goes on first: it lies last.
        for m in merged.iter().rev() {
            let of = |b: &Branch| &values[b.at..b.at + b.len];
            let at = self.stack.values.len();
            self.stack.values.extend_from_slice(of(m));
            self.stack.list.push(Branch { at, ..*m });
        }
        list.clear();
        values.clear();
        Ok(())
    }
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
            canon: b.canon.as_ref(),
            settled: vec![].into(),
            regs,
            mem,
            memo: vec![0; code.memos as usize],
            known: vec![0; (code.memos as usize).div_ceil(64)],
            changed: vec![],
            all_changed: false,
            start: b.start.clone(),
            cut: b.model.endings.len() as i32 + 1,
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
        self.all_changed = false;
        self.mem.copy_within(before..before + len, self.code.now as usize);
    }

    /// The values of the loaded state.
    #[must_use]
    pub fn loaded(&self) -> &[i32] {
        let (before, len) = (self.code.before as usize, self.code.state_len as usize);
        &self.mem[before..before + len]
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
        if self.all_changed {
            self.mem.copy_within(before..before + self.code.state_len as usize, now);
            self.all_changed = false;
        }
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
            self.settle_end()?;
        }
        Ok(halt)
    }

    /// An ending that a statement wrote and a condition says as well is written once.
    fn settle_end(&mut self) -> Result<(), Break> {
        let ended = (self.code.now + self.code.state_len) as usize - 1;
        if self.mem[ended] != 0 {
            let value = self.ask_as_is(self.code.status_changed)?;
            if value == i64::from(self.mem[ended]) {
                // The condition alone says the same: one state, not two.
                self.mem[ended] = 0;
                self.changed.push(self.code.state_len - 1);
            }
        }
        Ok(())
    }

    /// Makes a move that draws, in all ways that the draws can fall. Equal outcomes are one. `first`
    /// is how [`Machine::try_move`] paused.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks on one of the ways.
    pub fn all_outcomes(&mut self, first: Halt, out: &mut Outcomes) -> Result<(), Break> {
        out.states.clear();
        out.parts.clear();
        out.stack.list.clear();
        out.stack.values.clear();
        out.parked.list.clear();
        out.parked.values.clear();
        let words = self.codec.layout().words();
        out.packed.resize(words, 0);
        let mut halt = first;
        let mut chance = Chance::SURE;
        let mut score = Mean::ZERO;
        let mut too_fine = Site(0);
        loop {
            let fine = |x: Option<Mean>, site: Site| x.ok_or(Break { site, value: 0 });
            match halt {
                Halt::Paused(pc) => match self.code.ops[pc as usize] {
                    Op::Draw { n, base, weights, point, .. } => {
                        let p = &self.code.points[point as usize];
                        too_fine = p.too_fine;
                        score = fine(score.plus(self.score), too_fine)?;
                        let n = self.r(n);
                        let entry = |mem: &[i32], base: M, i: i64| {
                            let at = base.0 as usize + 2 * i as usize;
                            i64::from(mem[at] as u32) | i64::from(mem[at + 1]) << 32
                        };
                        let weight = |mem: &[i32], i: i64| {
                            if weights.0 == 0 { 1 } else { entry(mem, weights, i) as u64 }
                        };
                        let total: u64 = (0..n).map(|i| weight(&self.mem, i)).sum();
                        if out.stack.list.len() + out.parked.list.len() + n as usize > OUTCOMES_MAX {
                            return Err(Break { site: p.too_many, value: 0 });
                        }
                        // The last first, so that the first is taken first.
                        for i in (0..n).rev() {
                            let v = entry(&self.mem, base, i);
                            let w = weight(&self.mem, i);
                            let chance = chance.then(w, total).ok_or(Break { site: too_fine, value: 0 })?;
                            let at = out.stack.values.len();
                            self.save(point, Some(v), &mut out.stack.values);
                            let (fuel, len) = (self.fuel, out.stack.values.len() - at);
                            out.stack.list.push(Branch { point, pc, at, len, chance, score, fuel });
                        }
                    }
                    Op::Merge { point } => {
                        too_fine = self.code.points[point as usize].too_fine;
                        score = fine(score.plus(self.score), too_fine)?;
                        let at = out.parked.values.len();
                        self.save(point, None, &mut out.parked.values);
                        let (fuel, len) = (self.fuel, out.parked.values.len() - at);
                        out.parked.list.push(Branch { point, pc, at, len, chance, score, fuel });
                    }
                    _ => unreachable!("programs pause at draws and merges"),
                },
                Halt::Done | Halt::Cut => {
                    score = fine(score.plus(self.score), too_fine)?;
                    if halt == Halt::Cut {
                        self.set_cut();
                    } else {
                        self.settle_end()?;
                    }
                    self.pack_now(&mut out.packed)?;
                    out.add(words, chance, score).ok_or(Break { site: too_fine, value: 0 })?;
                }
                // A refusal cannot follow a draw.
                _ => return Ok(()),
            }
            // On with the next branch; when none runs, with those that wait to be merged.
            if out.stack.list.is_empty() {
                out.merge(too_fine)?;
            }
            let Some(branch) = out.stack.list.pop() else { return Ok(()) };
            self.resume(&branch, &out.stack.values);
            out.stack.values.truncate(branch.at);
            (chance, score) = (branch.chance, branch.score);
            halt = self.run(branch.pc + 1)?;
        }
    }

    /// Appends what a branch needs to go on.
    fn save(&self, point: u16, drawn: Option<i64>, values: &mut Vec<i64>) {
        let p = &self.code.points[point as usize];
        values.extend(drawn);
        values.extend(p.regs.iter().map(|r| self.regs[r.0 as usize]));
        let now = self.code.now as usize..(self.code.now + self.code.state_len) as usize;
        values.extend(self.mem[now].iter().map(|&v| i64::from(v)));
        for &(at, len) in &p.blocks {
            values.extend(self.mem[at as usize..(at + len) as usize].iter().map(|&v| i64::from(v)));
        }
    }

    fn resume(&mut self, branch: &Branch, values: &[i64]) {
        let p = &self.code.points[branch.point as usize];
        let mut from = values[branch.at..].iter().copied();
        if let Op::Draw { d, .. } = self.code.ops[branch.pc as usize] {
            let v = from.next().unwrap_or(0);
            self.w(d, v);
        }
        for r in &p.regs {
            self.regs[r.0 as usize] = from.next().unwrap_or(0);
        }
        let now = self.code.now as usize..(self.code.now + self.code.state_len) as usize;
        for (m, v) in self.mem[now].iter_mut().zip(&mut from) {
            *m = v as i32;
        }
        for &(at, len) in &p.blocks {
            for (m, v) in self.mem[at as usize..(at + len) as usize].iter_mut().zip(&mut from) {
                *m = v as i32;
            }
        }
        self.fuel = branch.fuel;
        self.score = 0;
        self.all_changed = true;
    }

    /// The state that stands for what was set aside.
    fn set_cut(&mut self) {
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        self.mem[now..now + len].copy_from_slice(&self.start);
        self.mem[now + len - 1] = self.cut;
        self.all_changed = true;
    }

    /// Packs the state now, whatever was changed.
    fn pack_now(&self, out: &mut [u64]) -> Result<(), Break> {
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        out.fill(0);
        let mut settled = self.settled.borrow_mut();
        let values = match self.canon {
            None => &self.mem[now..now + len],
            Some(canon) => {
                settled.clear();
                settled.extend_from_slice(&self.mem[now..now + len]);
                canon.settle(&mut settled);
                &settled
            }
        };
        self.codec.pack(values, out).map_err(|bad| {
            let site = self.code.pack_sites.iter().find(|(v, _)| *v == bad.0).map_or(Site(0), |s| s.1);
            Break { site, value: 0 }
        })
    }

    /// Packs the state that the last move led to. `out` holds the packed words of the loaded
    /// state, as it is without its ended part.
    ///
    /// # Errors
    ///
    /// [`Break`] when a rearranged grid no longer is one.
    #[inline]
    pub fn pack(&mut self, out: &mut [u64]) -> Result<(), Break> {
        if self.canon.is_some() {
            return self.pack_now(out);
        }
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
                    let (lo, hi, maybe) = self.code.doms[dom as usize];
                    let block = &self.mem[base.0 as usize..(base.0 + len) as usize];
                    let none = crate::hir::NONE as i32;
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
                    let (_, turn, first, turns) = table.all[(p / area) as usize];
                    let turn = turn.wrapping_add(self.r(by)).rem_euclid(turns);
                    self.w(d, (first + turn) * area + p % area);
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
                Op::Draw { .. } | Op::Merge { .. } => return Ok(Halt::Paused(pc as u32)),
                Op::Cut {} => return Ok(Halt::Cut),
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

    /// Remembers what of the state was stored to.
    #[inline]
    fn touch(&mut self, list: u16, at: usize, len: usize) {
        if self.code.lists[list as usize].puts {
            let from = at as u32 - self.code.now;
            self.changed.extend(from..from + len as u32);
        }
    }

    fn cut_lanes(&mut self, d: M, s: M, gone: M, fill: i32, flags: u8) {
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

    fn open_lane(&mut self, d: M, s: M, lane: i64, flags: u8) {
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

    fn join(&mut self, d: M, a: M, b: M, f: impl Fn(i32, i32) -> i32) {
        for c in 0..self.code.cells as usize {
            self.mem[d.0 as usize + c] = f(self.mem[a.0 as usize + c], self.mem[b.0 as usize + c]);
        }
    }
}
