//! Moves that draw: their branches, and the outcomes that these lead to.

use super::*;

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
pub(super) struct Branch {
    pub(super) point: u16,
    pub(super) pc: u32,
    /// Where its values begin, and how many there are.
    pub(super) at: usize,
    pub(super) len: usize,
    pub(super) chance: Chance,
    pub(super) score: Mean,
    pub(super) fuel: i64,
}

/// Branches and their values. The values of a branch: live registers, the state, live scratch.
#[derive(Default)]
pub(super) struct Branches {
    pub(super) list: Vec<Branch>,
    pub(super) values: Vec<i64>,
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

/// Looks for equal things among few one by one, among many in a table.
pub(super) const SCAN_MAX: usize = 32;

pub(super) fn mixed(words: impl Iterator<Item = u64>) -> u64 {
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

/// What one branch counts beside its values and its loop steps.
const BRANCH_WORK: u64 = 64;
/// Most work for the outcomes of one move, about a second of it: past this they count as too many.
const WORK_MAX: u64 = 1 << 27;
/// What one outcome may take where few are written down.
const OUTCOME_WORK: u64 = 1 << 10;
/// Most values of branches that wait.
const VALUES_MAX: usize = 1 << 24;

impl<'c> Machine<'c> {
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
        let words = self.words();
        out.packed.resize(words, 0);
        let mut halt = first;
        let mut chance = Chance::SURE;
        let mut score = Mean::ZERO;
        let mut too_fine = Site(0);
        let mut too_many = Site(0);
        let mut work = 0;
        let most_work = WORK_MAX.min(OUTCOME_WORK * self.outcomes_max as u64);
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
                        too_many = p.too_many;
                        if out.stack.list.len() + out.parked.list.len() + n as usize > self.outcomes_max {
                            return Err(Break { site: too_many, value: 0 });
                        }
                        // The last first, so that the first is taken first.
                        let before = chance;
                        let (mut chance, mut last) = (before, None);
                        for i in (0..n).rev() {
                            let v = entry(&self.mem, base, i);
                            let w = weight(&self.mem, i);
                            if last != Some(w) {
                                last = Some(w);
                                let then = before.then(w, total);
                                chance = then.ok_or(Break { site: too_fine, value: 0 })?;
                            }
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
                    _ => unreachable!("programs that do not stop before draws pause at draws and merges"),
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
            halt = self.go(branch.pc + 1, false)?;
            let values = out.stack.values.len() + out.parked.values.len();
            work += BRANCH_WORK + branch.len as u64 + 8 * (branch.fuel - self.fuel).unsigned_abs();
            if work > most_work || values > VALUES_MAX || out.parts.len() > self.outcomes_max {
                return Err(Break { site: too_many, value: 0 });
            }
        }
    }

    /// Makes a move that draws in one way, as the dice fall: they get weights and say which. `first` is how the move paused.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks.
    pub fn one_outcome(&mut self, first: Halt, dice: &mut dyn FnMut(&[u64]) -> usize) -> Result<Halt, Break> {
        let mut halt = first;
        let mut list: Vec<u64> = vec![];
        while let Halt::Paused(pc) = halt {
            if let Op::Draw { d, n, base, weights, .. } = self.code.ops[pc as usize] {
                let entry = |mem: &[i32], base: M, i: i64| {
                    let at = base.0 as usize + 2 * i as usize;
                    i64::from(mem[at] as u32) | i64::from(mem[at + 1]) << 32
                };
                let n = self.r(n);
                list.clear();
                list.extend(
                    (0..n).map(|i| if weights.0 == 0 { 1 } else { entry(&self.mem, weights, i) as u64 }),
                );
                let i = if n > 1 { dice(&list) as i64 } else { 0 };
                let v = entry(&self.mem, base, i);
                self.w(d, v);
            }
            halt = self.run(pc + 1)?;
        }
        match halt {
            Halt::Cut => self.set_cut(),
            Halt::Done => self.settle_end()?,
            _ => {}
        }
        Ok(halt)
    }

    /// Appends what a branch needs to go on.
    pub(super) fn save(&self, point: u16, drawn: Option<i64>, values: &mut Vec<i64>) {
        let p = &self.code.points[point as usize];
        values.extend(drawn);
        values.extend(p.regs.iter().map(|r| self.regs[r.0 as usize]));
        let now = self.code.now as usize..(self.code.now + self.code.state_len) as usize;
        values.extend(self.mem[now].iter().map(|&v| i64::from(v)));
        for &(at, len) in &p.blocks {
            values.extend(self.mem[at as usize..(at + len) as usize].iter().map(|&v| i64::from(v)));
        }
    }

    pub(super) fn resume(&mut self, branch: &Branch, values: &[i64]) {
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
    pub(super) fn set_cut(&mut self) {
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        self.mem[now..now + len].copy_from_slice(&self.start);
        self.mem[now + len - 1] = self.cut;
        self.all_changed = true;
    }
}
