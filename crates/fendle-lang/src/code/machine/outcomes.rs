//! Moves that draw: their branches, and the outcomes that these lead to.

use super::*;

/// One outcome of a move, beside its packed state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Outcome {
    /// Its chance, which need not be in lowest terms.
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

    #[inline]
    fn plus(self, score: i64) -> Option<Mean> {
        if score == 0 {
            return Some(self);
        }
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

/// A place where a move was suspended, with the ways in which it goes on from there: the values of a draw that were not drawn
/// yet, or the one way of a branch that waited for others.
#[derive(Clone, Copy)]
struct Frame {
    point: u16,
    pc: u32,
    /// Where its numbers begin in [`Saved`].
    at: Marker,
    /// How many ways there are, and which one is next.
    len: u32,
    next: u32,
    /// The sum of the weights.
    total: u64,
    /// The chance of coming here, and that of the last way, which had this weight.
    chance: Chance,
    last: (u64, Chance),
    score: Mean,
    fuel: i64,
}

/// How a move came to a draw: which one it is, and where it stands in the program, with what chance, and what it scored.
#[derive(Clone, Copy)]
struct Met {
    point: u16,
    pc: u32,
    chance: Chance,
    score: Mean,
}

/// The ends of the lists of [`Saved`].
#[derive(Clone, Copy, Default)]
struct Marker {
    regs: usize,
    cells: usize,
    marks: usize,
    draws: usize,
}

/// What suspended branches need to go on, one behind the other.
#[derive(Default)]
struct Saved {
    /// Live registers.
    regs: Vec<i64>,
    /// The state, and live scratch.
    cells: Vec<i32>,
    /// Which values of the state were stored to, one bit each.
    marks: Vec<u64>,
    /// The values of draws, and their weights.
    draws: Vec<(i64, u64)>,
}

impl Saved {
    fn end(&self) -> Marker {
        Marker {
            regs: self.regs.len(),
            cells: self.cells.len(),
            marks: self.marks.len(),
            draws: self.draws.len(),
        }
    }

    fn truncate(&mut self, at: Marker) {
        self.regs.truncate(at.regs);
        self.cells.truncate(at.cells);
        self.marks.truncate(at.marks);
        self.draws.truncate(at.draws);
    }

    /// How many numbers there are.
    fn len(&self) -> usize {
        self.regs.len() + self.cells.len() + self.draws.len()
    }
}

/// Branches that wait.
#[derive(Default)]
struct Branches {
    list: Vec<Frame>,
    saved: Saved,
    /// The ways of all of them that were not gone yet.
    ways: usize,
}

impl Branches {
    fn clear(&mut self) {
        self.list.clear();
        self.saved.truncate(Marker::default());
        self.ways = 0;
    }

    /// Live registers, the state and live scratch of branch number `n`.
    fn held(&self, n: usize) -> (&[i64], &[i32]) {
        let at = self.list[n].at;
        let end = self.list.get(n + 1).map_or_else(|| self.saved.end(), |f| f.at);
        (&self.saved.regs[at.regs..end.regs], &self.saved.cells[at.cells..end.cells])
    }
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
        let Outcomes { stack, parked, .. } = self;
        let mut merged: Vec<(usize, Frame)> = vec![];
        let mut table = vec![];
        for (n, b) in parked.list.iter().enumerate() {
            let hash = |n: usize| {
                let (regs, cells) = parked.held(n);
                let cells = cells.iter().map(|x| *x as u64);
                mixed(regs.iter().map(|x| *x as u64).chain(cells).chain([parked.list[n].pc.into()]))
            };
            let hash_of = |k: usize| hash(merged[k].0);
            let same = |k: usize| merged[k].1.pc == b.pc && parked.held(merged[k].0) == parked.held(n);
            match Self::find(&mut table, merged.len(), hash_of, same, hash(n)) {
                Some(k) => {
                    let m = &mut merged[k].1;
                    let joined = m.score.joined(m.chance, b.score, b.chance);
                    let (Some(score), Some(chance)) = (joined, m.chance.or(b.chance)) else {
                        return Err(Break { site: too_fine, value: 0 });
                    };
                    (m.score, m.chance, m.fuel) = (score, chance, m.fuel.min(b.fuel));
                }
                None => merged.push((n, *b)),
            }
        }
        // The first goes on first: it lies last.
        for (n, frame) in merged.iter().rev() {
            let at = stack.saved.end();
            let (regs, cells) = parked.held(*n);
            stack.saved.regs.extend_from_slice(regs);
            stack.saved.cells.extend_from_slice(cells);
            let words = if parked.list.is_empty() { 0 } else { parked.saved.marks.len() / parked.list.len() };
            stack.saved.marks.extend_from_slice(&parked.saved.marks[frame.at.marks..frame.at.marks + words]);
            stack.list.push(Frame { at, ..*frame });
        }
        stack.ways += merged.len();
        parked.clear();
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
    /// is how [`Machine::try_move`] paused, or [`Machine::enter_position`]; `source` is what was loaded, packed, as running.
    ///
    /// # Errors
    ///
    /// [`Break`] when the model breaks on one of the ways.
    #[expect(clippy::too_many_lines, reason = "one loop: how a way ended, and how the next one begins")]
    pub fn all_outcomes(&mut self, first: Halt, source: &[u64], out: &mut Outcomes) -> Result<(), Break> {
        out.states.clear();
        out.parts.clear();
        out.stack.clear();
        out.parked.clear();
        let mut halt = first;
        let mut chance = Chance::SURE;
        let mut score = Mean::ZERO;
        let mut too_fine = Site(0);
        let mut too_many = Site(0);
        let mut work = 0;
        let most_work = WORK_MAX.min(OUTCOME_WORK * self.outcomes_max as u64);
        loop {
            // The first way of a draw that was just met goes on from where the machine is.
            let mut here = false;
            let gained = score.plus(self.score);
            match halt {
                Halt::Paused(pc) => match self.code.ops[pc as usize] {
                    Op::Draw { n, base, weights, point, .. } => {
                        let p = &self.code.points[point as usize];
                        (too_fine, too_many) = (p.too_fine, p.too_many);
                        score = gained.ok_or(Break { site: too_fine, value: 0 })?;
                        let n = self.r(n) as usize;
                        if out.stack.ways + out.parked.list.len() + n > self.outcomes_max {
                            return Err(Break { site: too_many, value: 0 });
                        }
                        let met = Met { point, pc, chance, score };
                        self.meet_draw(met, (n, base, weights), &mut out.stack)
                            .ok_or(Break { site: too_fine, value: 0 })?;
                        here = n > 0;
                    }
                    Op::Merge { point } => {
                        too_fine = self.code.points[point as usize].too_fine;
                        score = gained.ok_or(Break { site: too_fine, value: 0 })?;
                        let at = out.parked.saved.end();
                        self.save(point, &mut out.parked.saved);
                        let (fuel, last) = (self.fuel, (0, chance));
                        let (len, next, total) = (1, 0, 1);
                        let frame = Frame { point, pc, at, len, next, total, chance, last, score, fuel };
                        out.parked.list.push(frame);
                    }
                    _ => unreachable!("programs that do not stop before draws pause at draws and merges"),
                },
                Halt::Done | Halt::Cut => {
                    score = gained.ok_or(Break { site: too_fine, value: 0 })?;
                    if halt == Halt::Cut {
                        self.set_cut();
                    } else {
                        self.write_end_once()?;
                    }
                    out.packed.clear();
                    out.packed.extend_from_slice(source);
                    self.pack(&mut out.packed)?;
                    out.add(source.len(), chance, score).ok_or(Break { site: too_fine, value: 0 })?;
                }
                // A refusal cannot follow a draw.
                _ => return Ok(()),
            }
            // On with the next branch; when none runs, with those that wait to be merged.
            if out.stack.list.is_empty() {
                out.merge(too_fine)?;
            }
            let Some(frame) = out.stack.list.last_mut() else { return Ok(()) };
            if !here {
                self.restore_branch(frame, &out.stack.saved);
            }
            chance = frame.chance;
            let mut size = self.saved_len(frame.point);
            if let Op::Draw { d, .. } = self.code.ops[frame.pc as usize] {
                let (v, w) = out.stack.saved.draws[frame.at.draws + frame.next as usize];
                self.w(d, v);
                if w != frame.last.0 {
                    // It was seen to fit when the draw was met.
                    let then = frame.chance.then_as_it_is(w, frame.total);
                    frame.last = (w, then.ok_or(Break { site: too_fine, value: 0 })?);
                }
                chance = frame.last.1;
                size += 1;
            }
            self.fuel = frame.fuel;
            self.score = 0;
            score = frame.score;
            frame.next += 1;
            let (pc, fuel) = (frame.pc, frame.fuel);
            if frame.next == frame.len {
                let at = frame.at;
                out.stack.list.pop();
                out.stack.saved.truncate(at);
            }
            out.stack.ways -= 1;
            halt = self.go(pc + 1, false)?;
            let values = out.stack.saved.len() + out.parked.saved.len();
            work += BRANCH_WORK + size as u64 + 8 * (fuel - self.fuel).unsigned_abs();
            if work > most_work || values > VALUES_MAX || out.parts.len() > self.outcomes_max {
                return Err(Break { site: too_many, value: 0 });
            }
        }
    }

    /// Keeps what has to be known to go on from a draw in each way that it can fall. `None` where a chance no longer fits.
    fn meet_draw(&self, met: Met, (n, base, weights): (usize, M, M), stack: &mut Branches) -> Option<()> {
        let Met { point, pc, chance, score } = met;
        let at = stack.saved.end();
        self.save(point, &mut stack.saved);
        let total = self.draws(n, base, weights, &mut stack.saved.draws);
        // Chances that no longer fit are told before anything is drawn; the last one first.
        let mut last = (0, Chance::SURE);
        for (_, w) in stack.saved.draws[at.draws..].iter().rev() {
            if *w != last.0 {
                last = (*w, chance.then_as_it_is(*w, total)?);
            }
        }
        stack.ways += n;
        if n > 0 {
            let (len, next, fuel) = (n as u32, 0, self.fuel);
            stack.list.push(Frame { point, pc, at, len, next, total, chance, last, score, fuel });
        } else {
            stack.saved.truncate(at);
        }
        Some(())
    }

    /// Appends the values that can be drawn and their weights, and gives the sum of these.
    fn draws(&self, n: usize, base: M, weights: M, out: &mut Vec<(i64, u64)>) -> u64 {
        let entry = |base: M, i: usize| {
            let at = base.0 as usize + 2 * i;
            i64::from(self.mem[at] as u32) | i64::from(self.mem[at + 1]) << 32
        };
        let weight = |i: usize| if weights.0 == 0 { 1 } else { entry(weights, i) as u64 };
        let first = out.len();
        out.extend((0..n).map(|i| (entry(base, i), weight(i))));
        out[first..].iter().map(|d| d.1).sum()
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
            Halt::Done => self.write_end_once()?,
            _ => {}
        }
        Ok(halt)
    }

    /// How many numbers a branch that is suspended at a point is.
    fn saved_len(&self, point: u16) -> usize {
        let p = &self.code.points[point as usize];
        let blocks: u32 = p.blocks.iter().map(|b| b.1).sum();
        p.regs.len() + (self.code.state_len + blocks) as usize
    }

    /// Appends what a branch needs to go on.
    fn save(&self, point: u16, saved: &mut Saved) {
        let p = &self.code.points[point as usize];
        saved.regs.extend(p.regs.iter().map(|r| self.regs[r.0 as usize]));
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        saved.cells.extend_from_slice(&self.mem[now..now + len]);
        for &(at, len) in &p.blocks {
            saved.cells.extend_from_slice(&self.mem[at as usize..(at + len) as usize]);
        }
        saved.marks.extend_from_slice(&self.changed);
    }

    /// Takes up a suspended branch as it was saved.
    fn restore_branch(&mut self, frame: &Frame, saved: &Saved) {
        let p = &self.code.points[frame.point as usize];
        for (r, v) in p.regs.iter().zip(&saved.regs[frame.at.regs..]) {
            self.regs[r.0 as usize] = *v;
        }
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        let mut at = frame.at.cells;
        self.mem[now..now + len].copy_from_slice(&saved.cells[at..at + len]);
        at += len;
        for &(block, len) in &p.blocks {
            let len = len as usize;
            self.mem[block as usize..block as usize + len].copy_from_slice(&saved.cells[at..at + len]);
            at += len;
        }
        let words = self.changed.len();
        self.changed.copy_from_slice(&saved.marks[frame.at.marks..frame.at.marks + words]);
    }

    /// The state that stands for what was set aside.
    fn set_cut(&mut self) {
        let (now, len) = (self.code.now as usize, self.code.state_len as usize);
        self.mem[now..now + len].copy_from_slice(&self.start);
        self.mem[now + len - 1] = self.cut;
        for (w, bits) in self.changed.iter_mut().enumerate() {
            *bits = u64::MAX >> (64 - (len - w * 64).min(64));
        }
    }
}
