//! Conditions of every cell at once.
//!
//! `any(c on tile: tile[c] > 0 and tile[c] == (tile[c + right] outside 0))` asks the same of every cell. Where all that it asks are
//! comparisons of what lies at known steps from the cell, nothing in it can break, and it is found for all cells together: blocks are
//! compared as a whole, which gives a bit a cell ([`Op::Compare`]), and "and", "or" and "not" are operations on words.

use super::bits::{Bits, both, without};
use super::values::computed;
use super::*;
use crate::code::ir::Comparison;

/// Boards of more cells are looked at cell by cell.
const CELLS_AT_ONCE: usize = 256;

/// Expressions that are looked at for one question.
const LOOKS_MAX: usize = 1 << 14;

/// Inner loops over at most so many things are written out.
const INNER_MAX: i64 = 32;

/// Values of a block from which on how they compare is remembered of a state: fewer are compared as fast as they are recalled.
const REMEMBERED_MIN: u8 = 24;

/// What an expression is, seen from every cell.
#[derive(Clone, Debug)]
pub(super) enum Seen {
    /// The same for all cells.
    Same(O),
    /// Known for each of them.
    Known(Vec<i64>),
    /// The cell, or the place, that lies by this step (down, right) from it.
    Step(i64, i64),
    /// What a block holds there, with what it is off the board. Where nothing is given for that it is not asked there.
    Held { base: M, step: (i64, i64), outside: Option<i64> },
    /// Whether the cell at this step is in a set of one word, with what is said off the board.
    In { set: O, step: (i64, i64), outside: Option<i64> },
    /// A condition that differs from cell to cell, by its number in [`Sight::conditions`].
    Truth(usize),
}

/// What is written for one question about all cells.
#[derive(Default)]
pub(super) struct Sight {
    /// What local names stand for, seen from every cell, by the number in [`Local::Each`].
    names: Vec<Seen>,
    conditions: Vec<Bits>,
    /// The cells that are asked.
    asked: Vec<u64>,
    /// Blocks that have been compared: with another one that begins so many places later, or with a value; words that no cell asked for
    /// are left out.
    compared: HashMap<(M, Other, Comparison), Vec<Option<O>>>,
    moved: HashMap<(M, Other, Comparison, i64), Vec<O>>,
    /// Where the operations end that may be written, and the count of expressions that may be looked at.
    ops_end: usize,
    looks_end: usize,
}

/// What a block is compared with.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Other {
    /// Another block, from the place with this distance on.
    Block(M, i64),
    /// A number.
    Number(i64),
    /// The number in a register.
    Register(R),
}

impl Other {
    /// How many places fewer can be compared than there are cells.
    fn ahead(self) -> i64 {
        if let Other::Block(_, ahead) = self { ahead } else { 0 }
    }
}

impl Lower<'_> {
    /// The cells of the board for which a filter and a condition hold; `None` where it has to be asked cell by cell, and then nothing was
    /// written.
    pub(super) fn at_once(&mut self, local: LocalId, parts: &[&Expr]) -> Option<Bits> {
        // A loop that looks at each cell takes a few operations for each.
        let most = 24 + 6 * self.b.cells().min(64);
        self.at_once_in(local, parts, self.all_cells(), most)
    }

    /// The same of these cells alone, with at most so many operations.
    pub(super) fn at_once_in(
        &mut self,
        local: LocalId,
        parts: &[&Expr],
        asked: Vec<u64>,
        most: usize,
    ) -> Option<Bits> {
        let cells = self.b.cells();
        if cells == 0 || cells > CELLS_AT_ONCE || self.full {
            return None;
        }
        let sight = Sight {
            asked: asked.clone(),
            ops_end: self.code.ops.len() + most,
            looks_end: self.looked + LOOKS_MAX,
            ..Sight::default()
        };
        let sight = std::mem::replace(&mut self.sight, sight);
        let before = self.frame[local];
        let out = self.attempt(|l| {
            l.frame[local] = Local::Each(l.named(Seen::Step(0, 0)));
            let mut out = Bits::fixed(asked);
            for part in parts {
                let more = l.truth_at(part, &out.most.clone())?;
                out = l.bits_and(&out, &more);
            }
            l.is_worth_it().then_some(out)
        });
        self.sight = sight;
        self.frame[local] = before;
        out
    }

    /// Whether what is written is still shorter than a loop, and is found soon enough.
    fn is_worth_it(&self) -> bool {
        self.code.ops.len() <= self.sight.ops_end && self.looked <= self.sight.looks_end
    }

    /// The cells of a set that is a block.
    pub(super) fn cells_in(&mut self, base: M) -> Option<Bits> {
        if !(1..=CELLS_AT_ONCE).contains(&self.b.cells()) {
            return None;
        }
        let sight = std::mem::take(&mut self.sight);
        self.sight.asked = self.all_cells();
        let words = self.compare(base, (Other::Number(0), Comparison::Differs), 0);
        self.sight = sight;
        Some(self.found(words))
    }

    /// Whether an expression names something that is seen from every cell, so that it has no one value here.
    pub(super) fn differs_by_cell(&self, e: &Expr) -> bool {
        let mut found = false;
        if !self.sight.names.is_empty() {
            e.each(&mut |part| {
                found |= matches!(part.kind, Ek::Local(l) if matches!(self.frame[l], Local::Each(_)));
            });
        }
        found
    }

    fn named(&mut self, seen: Seen) -> u16 {
        self.sight.names.push(seen);
        (self.sight.names.len() - 1) as u16
    }

    fn condition(&mut self, bits: Bits) -> Seen {
        self.sight.conditions.push(bits);
        Seen::Truth(self.sight.conditions.len() - 1)
    }

    /// The cells from which a step stays on the board.
    fn staying(&self, (down, right): (i64, i64)) -> Vec<u64> {
        let sides = (self.b.rows as i64, self.b.cols as i64);
        self.cells_where(|c| code::beside(c, (down, right), sides).is_some())
    }

    /// Whether a step stays on the board from every cell that is looked at.
    fn stays(&self, step: (i64, i64), live: &[u64]) -> bool {
        without(live, &self.staying(step)).iter().all(|w| *w == 0)
    }

    /// A condition, seen from the cells in `live`: elsewhere it is not asked, and may say anything.
    fn truth_at(&mut self, e: &Expr, live: &[u64]) -> Option<Bits> {
        self.looked += 1;
        if !self.is_worth_it() {
            return None;
        }
        match &e.kind {
            Ek::Not(a) => {
                let a = self.truth_at(a, live)?;
                Some(self.bits_minus(&Bits::fixed(live.to_vec()), &a))
            }
            Ek::And(a, b) => {
                let a = self.truth_at(a, live)?;
                let b = self.truth_at(b, &both(live, &a.most))?;
                Some(self.bits_and(&a, &b))
            }
            Ek::Or(a, b) => {
                let a = self.truth_at(a, live)?;
                let b = self.truth_at(b, &without(live, &a.least))?;
                Some(self.bits_or(&a, &b))
            }
            Ek::Cmp(how, a, b) => {
                let (a, b) = (self.seen(a, live)?, self.seen(b, live)?);
                self.compared(*how, a, b, live)
            }
            Ek::Quant(q) if matches!(q.kind, QuantKind::Any | QuantKind::All) => self.inner(q, live),
            _ => {
                let seen = self.seen(e, live)?;
                self.as_truth(seen, live)
            }
        }
    }

    fn as_truth(&mut self, seen: Seen, live: &[u64]) -> Option<Bits> {
        match seen {
            Seen::Same(truth) => Some(self.bits_of_truth(truth)),
            Seen::Truth(i) => Some(self.sight.conditions[i].clone()),
            Seen::In { set, step, outside } => {
                let by = -(step.0 * self.b.cols as i64 + step.1);
                let words = self.bits_moved(&[set], by, 1);
                let on = self.staying(step);
                let off = without(&self.all_cells(), &on);
                let held = Bits { words, least: vec![0], most: vec![u64::MAX] };
                let held = self.bits_and(&held, &Bits::fixed(on));
                Some(match outside {
                    Some(o) if o != 0 => self.bits_or(&held, &Bits::fixed(off)),
                    _ => held,
                })
            }
            Seen::Step(..) => None,
            held => self.compared(Cmp::Ne, held, Seen::Same(O::K(0)), live),
        }
    }

    /// What an expression is, seen from the cells in `live`. `None` where it takes more than comparisons, or might break.
    fn seen(&mut self, e: &Expr, live: &[u64]) -> Option<Seen> {
        self.looked += 1;
        match &e.kind {
            Ek::Const(v) => Some(Seen::Same(O::K(*v))),
            Ek::Local(l) => match self.frame[*l] {
                Local::Each(i) => Some(self.sight.names[usize::from(i)].clone()),
                Local::Val(o) => Some(Seen::Same(o)),
                Local::Var(r) => Some(Seen::Same(O::R(r))),
                _ => None,
            },
            Ek::Var(..) if !e.ty.is_block() => Some(Seen::Same(self.value(e))),
            Ek::Index(block, index) => self.seen_in(block, index, None, live),
            Ek::IndexOutside(block, place, outside) => {
                let Seen::Same(O::K(outside)) = self.seen(outside, live)? else { return None };
                self.seen_in(block, place, Some(outside), live)
            }
            Ek::Neg(a) => {
                let a = self.seen(a, live)?;
                self.counted(Arith::Sub, Seen::Same(O::K(0)), a)
            }
            Ek::Arith(op, a, b) => {
                let (a, b) = (self.seen(a, live)?, self.seen(b, live)?);
                self.counted(*op, a, b)
            }
            Ek::Cond(c, a, b) => match self.seen(c, live)? {
                Seen::Same(O::K(0)) => self.seen(b, live),
                Seen::Same(O::K(_)) => self.seen(a, live),
                _ => None,
            },
            Ek::Shift(p, o, sense) => {
                let (p, o) = (self.seen(p, live)?, self.known_offset(o, live)?);
                let (down, right) = code::offset_parts(sense.signed(o));
                match p {
                    Seen::Step(r, c) => self.step_to(r + down, c + right),
                    Seen::Same(O::K(p)) if code::is_place(p + sense.signed(o)) => {
                        Some(Seen::Same(O::K(p + sense.signed(o))))
                    }
                    _ => None,
                }
            }
            Ek::OffAdd(..) | Ek::OffMul(..) | Ek::DirOffset(..) => {
                self.known_offset(e, live).map(|o| Seen::Same(O::K(o)))
            }
            Ek::ToPlace(c) => match self.seen(c, live)? {
                Seen::Same(O::K(c)) => Some(Seen::Same(self.place_of(O::K(c)))),
                step @ Seen::Step(..) => Some(step),
                _ => None,
            },
            // Breaks where it is off the board.
            Ek::ToCell(p) => match self.seen(p, live)? {
                Seen::Step(r, c) if self.stays((r, c), live) => Some(Seen::Step(r, c)),
                _ => None,
            },
            Ek::OnBoard(p) => match self.seen(p, live)? {
                Seen::Step(r, c) => {
                    let on = Bits::fixed(self.staying((r, c)));
                    Some(self.condition(on))
                }
                _ => None,
            },
            Ek::Within(a, dom) => {
                let (lo, hi) = range_of(self.b, dom);
                match self.seen(a, live)? {
                    Seen::Same(O::K(v)) if v >= lo && v <= hi => Some(Seen::Same(O::K(v))),
                    _ => None,
                }
            }
            Ek::Builtin(op, args) => self.seen_builtin(*op, args, live),
            Ek::Call(f, args) => {
                let model = self.b.model.clone();
                let def = &model.fns[*f];
                let args: Option<Vec<Local>> = args.iter().map(|a| self.seen_arg(a, live)).collect();
                self.inlined(&def.locals, args?, |l| l.seen(&def.body, live))
            }
            Ek::Not(_) | Ek::And(..) | Ek::Or(..) | Ek::Cmp(..) | Ek::Quant(_) if e.ty == Ty::Bool => {
                let bits = self.truth_at(e, live)?;
                Some(self.condition(bits))
            }
            _ => None,
        }
    }

    fn seen_arg(&mut self, a: &Expr, live: &[u64]) -> Option<Local> {
        if let Some(bits) = self.set_bits(a) {
            return Some(Local::Bits(bits));
        }
        if a.ty.is_block() {
            return if matches!(a.ty, Ty::Grid(_) | Ty::Set) {
                self.plain_block(a).map(Local::Block)
            } else {
                None
            };
        }
        Some(match self.seen(a, live)? {
            Seen::Same(o) => Local::Val(o),
            other => Local::Each(self.named(other)),
        })
    }

    fn step_to(&self, down: i64, right: i64) -> Option<Seen> {
        // Farther away a place can no longer be named, and breaks.
        (down.abs() < code::BIAS / 4 && right.abs() < code::BIAS / 4).then_some(Seen::Step(down, right))
    }

    /// A grid or a set at a place.
    fn seen_in(&mut self, block: &Expr, at: &Expr, outside: Option<i64>, live: &[u64]) -> Option<Seen> {
        if !matches!(block.ty, Ty::Grid(_) | Ty::Set) {
            return None;
        }
        if let Some(set) = self.set_bits(block) {
            return match self.seen(at, live)? {
                Seen::Step(r, c) if outside.is_some() || self.stays((r, c), live) => {
                    Some(Seen::In { set, step: (r, c), outside })
                }
                Seen::Same(cell) if outside.is_none() && at.ty == Ty::Cell => {
                    Some(Seen::Same(self.is_member(set, cell)))
                }
                _ => None,
            };
        }
        let base = self.plain_block(block)?;
        match self.seen(at, live)? {
            Seen::Step(r, c) if outside.is_some() || self.stays((r, c), live) => {
                Some(Seen::Held { base, step: (r, c), outside })
            }
            // A cell is always on the board.
            Seen::Same(cell) if outside.is_none() && at.ty == Ty::Cell => {
                let cell = inside(cell, self.b.cells());
                Some(Seen::Same(O::R(self.load(base, cell))))
            }
            _ => None,
        }
    }

    fn seen_builtin(&mut self, op: Builtin, args: &[Expr], live: &[u64]) -> Option<Seen> {
        match op {
            Builtin::Rows => return Some(Seen::Same(O::K(self.b.rows as i64))),
            Builtin::Cols => return Some(Seen::Same(O::K(self.b.cols as i64))),
            Builtin::Row | Builtin::Col | Builtin::Opposite | Builtin::Turned => {}
            _ => return None,
        }
        match (op, self.seen(&args[0], live)?) {
            (Builtin::Row | Builtin::Col, Seen::Step(r, c)) => {
                let cols = self.b.cols as i64;
                let of = |i: i64| if op == Builtin::Row { i / cols + r + 1 } else { i % cols + c + 1 };
                Some(Seen::Known((0..self.b.cells() as i64).map(of).collect()))
            }
            (Builtin::Opposite, Seen::Same(O::K(v))) => Some(Seen::Same(O::K(v / 4 * 4 + (v + 2) % 4))),
            (Builtin::Turned, Seen::Same(O::K(v))) => Some(Seen::Same(O::K(v / 4 * 4 + (v + 1) % 4))),
            _ => None,
        }
    }

    /// An offset that is known here.
    fn known_offset(&mut self, e: &Expr, live: &[u64]) -> Option<i64> {
        let parts =
            |l: &mut Self, a: &Expr, b: &Expr| Some((l.known_offset(a, live)?, l.known_offset(b, live)?));
        let offset = match &e.kind {
            Ek::OffAdd(a, b, sense) => {
                let (a, b) = parts(self, a, b)?;
                a + sense.signed(b)
            }
            Ek::OffMul(a, b) => {
                let (a, b) = parts(self, a, b)?;
                let (r, c) = code::offset_parts(a);
                let near = |n: i64| n.checked_mul(b).is_some_and(|n| n.abs() < code::BIAS / 4);
                if !near(r) || !near(c) {
                    return None;
                }
                a * b
            }
            Ek::DirOffset(a) => {
                let Seen::Same(O::K(v)) = self.seen(a, live)? else { return None };
                let (r, c) = DIR_STEPS[v as usize];
                r * code::ROW + c
            }
            _ => match self.seen(e, live)? {
                Seen::Same(O::K(v)) => return Some(v),
                _ => return None,
            },
        };
        code::is_offset(offset).then_some(offset)
    }

    /// Arithmetic on what is known.
    fn counted(&mut self, op: Arith, a: Seen, b: Seen) -> Option<Seen> {
        let one = |a: i64, b: i64| computed(op, a, b);
        if let (Seen::Same(O::K(a)), Seen::Same(O::K(b))) = (&a, &b) {
            return one(*a, *b).map(|v| Seen::Same(O::K(v)));
        }
        let (a, b) = (self.listed(&a)?, self.listed(&b)?);
        let all: Option<Vec<i64>> = a.iter().zip(&b).map(|(a, b)| one(*a, *b)).collect();
        all.map(Seen::Known)
    }

    /// What is known of each cell in every state; 0 where it is not asked.
    fn listed(&self, seen: &Seen) -> Option<Vec<i64>> {
        match seen {
            Seen::Same(O::K(v)) => Some(vec![*v; self.b.cells()]),
            Seen::Known(all) => Some(all.clone()),
            Seen::Held { base, step, outside } if (base.0 as usize + self.b.cells()) <= self.b.data.len() => {
                let sides = (self.b.rows as i64, self.b.cols as i64);
                let at = |c: i64| match code::beside(c, *step, sides) {
                    Some(there) => self.b.data[base.0 as usize + there as usize].into(),
                    None => outside.unwrap_or(0),
                };
                Some((0..self.b.cells() as i64).map(at).collect())
            }
            _ => None,
        }
    }

    /// A loop inside, over few known things.
    fn inner(&mut self, q: &Quant, live: &[u64]) -> Option<Bits> {
        let things: Vec<Seen> = match &q.over {
            Range::Dirs(n) => (0..i64::from(*n)).map(|i| Seen::Same(O::K(i))).collect(),
            Range::Enum(e) => {
                (0..self.b.model.enums[*e].values.len() as i64).map(|i| Seen::Same(O::K(i))).collect()
            }
            Range::Ints(lo, hi) => {
                let (Seen::Same(O::K(lo)), Seen::Same(O::K(hi))) =
                    (self.seen(lo, live)?, self.seen(hi, live)?)
                else {
                    return None;
                };
                if hi.checked_sub(lo)? >= INNER_MAX {
                    return None;
                }
                (lo..=hi).map(|i| Seen::Same(O::K(i))).collect()
            }
            Range::Around(place, offsets) => {
                let Seen::Step(r, c) = self.seen(place, live)? else { return None };
                let steps: Option<Vec<Seen>> = offsets
                    .iter()
                    .map(|o| {
                        let (down, right) = code::offset_parts(self.known_offset(o, live)?);
                        self.step_to(r + down, c + right)
                    })
                    .collect();
                steps?
            }
            Range::Offsets(offsets) => {
                let all: Option<Vec<Seen>> =
                    offsets.iter().map(|o| self.known_offset(o, live).map(|o| Seen::Same(O::K(o)))).collect();
                all?
            }
            _ => return None,
        };
        let any = q.kind == QuantKind::Any;
        let all = self.all_cells();
        let mut out = Bits::fixed(if any { vec![0; all.len()] } else { all.clone() });
        for thing in things {
            // Asked only where it is not decided yet, and, of cells around, on the board.
            let mut open = if any { without(live, &out.least) } else { both(live, &out.most) };
            let mut guard = Bits::fixed(all.clone());
            if let (Range::Around(..), Seen::Step(r, c)) = (&q.over, &thing) {
                guard = Bits::fixed(self.staying((*r, *c)));
                open = both(&open, &guard.most);
            }
            self.frame[q.local] = match thing {
                Seen::Same(o) => Local::Val(o),
                other => Local::Each(self.named(other)),
            };
            if let Some(filter) = &q.filter {
                let held = self.truth_at(filter, &open)?;
                guard = self.bits_and(&guard, &held);
                open = both(&open, &guard.most);
            }
            let held = match &q.body {
                Some(body) if !guard.is_never() => self.truth_at(body, &open)?,
                _ => Bits::fixed(all.clone()),
            };
            out = if any {
                let hit = self.bits_and(&guard, &held);
                self.bits_or(&out, &hit)
            } else {
                let miss = self.bits_minus(&guard, &held);
                self.bits_minus(&out, &miss)
            };
        }
        Some(out)
    }

    /// A comparison, seen from every cell in `live`.
    fn compared(&mut self, how: Cmp, a: Seen, b: Seen, live: &[u64]) -> Option<Bits> {
        if let (Seen::Same(a), Seen::Same(b)) = (&a, &b) {
            let truth = match (*a, *b) {
                (O::K(a), O::K(b)) => O::K(how.holds(a, b).into()),
                (a, b) => {
                    let (a, b) = (self.reg(a), self.reg(b));
                    self.unary(|d| match how {
                        Cmp::Eq => Op::Eq { d, a, b },
                        Cmp::Ne => Op::Ne { d, a, b },
                        Cmp::Lt => Op::Lt { d, a, b },
                        Cmp::Le => Op::Le { d, a, b },
                    })
                }
            };
            return Some(self.bits_of_truth(truth));
        }
        if let (Some(a), Some(b)) = (self.listed(&a), self.listed(&b)) {
            return Some(Bits::fixed(self.cells_where(|c| how.holds(a[c as usize], b[c as usize]))));
        }
        if let (Seen::Step(r, c), Seen::Step(r2, c2)) = (&a, &b) {
            let same = (r, c) == (r2, c2);
            return match how {
                Cmp::Eq => Some(self.bits_of_truth(O::K(same.into()))),
                Cmp::Ne => Some(self.bits_of_truth(O::K((!same).into()))),
                Cmp::Lt | Cmp::Le => None,
            };
        }
        let is_truth = |s: &Seen| matches!(s, Seen::Truth(_) | Seen::In { .. });
        if is_truth(&a) || is_truth(&b) {
            let (a, b) = (self.as_truth(a, live)?, self.as_truth(b, live)?);
            let (more, less) = (self.bits_minus(&a, &b), self.bits_minus(&b, &a));
            let differ = self.bits_or(&more, &less);
            return match how {
                Cmp::Eq => Some(self.bits_not(&differ)),
                Cmp::Ne => Some(differ),
                Cmp::Lt | Cmp::Le => None,
            };
        }
        // What lies off the board for one or both of them is compared apart.
        let nowhere = vec![0; live.len()];
        let mut out = Bits::fixed(nowhere);
        for (a, on_a) in self.by_board(a, live) {
            for (b, on_b) in self.by_board(b.clone(), live) {
                let here = both(&both(&on_a, &on_b), live);
                if here.iter().all(|w| *w == 0) {
                    continue;
                }
                let held = match (&a, &b) {
                    (Seen::Same(_), Seen::Same(_)) => self.compared(how, a.clone(), b, &here)?,
                    _ => self.held(how, &a, &b)?,
                };
                if here == live {
                    // It is the same for all that are asked, and for the others it may say anything.
                    return Some(held);
                }
                let held = self.bits_and(&held, &Bits::fixed(here));
                out = self.bits_or(&out, &held);
            }
        }
        Some(out)
    }

    /// What is seen on the board and what off it, with the cells from which it is so.
    fn by_board(&self, seen: Seen, live: &[u64]) -> Vec<(Seen, Vec<u64>)> {
        match seen {
            Seen::Held { base, step, outside: Some(outside) } => {
                let on = self.staying(step);
                let off = without(live, &on);
                vec![(Seen::Held { base, step, outside: None }, on), (Seen::Same(O::K(outside)), off)]
            }
            other => vec![(other, live.to_vec())],
        }
    }

    /// A comparison in which a block takes part: right wherever it is on the board.
    fn held(&mut self, how: Cmp, a: &Seen, b: &Seen) -> Option<Bits> {
        let straight = Comparison::from(how);
        let turned = straight.turned();
        let number = |o: O| match o {
            O::K(v) => Other::Number(v),
            O::R(r) => Other::Register(r),
        };
        let cols = self.b.cols as i64;
        let flat = |(down, right): (i64, i64)| down * cols + right;
        let all = self.all_cells();
        let (base, other, how, step) = match (a, b) {
            (Seen::Held { base, step, .. }, Seen::Same(o)) => (*base, number(*o), straight, *step),
            (Seen::Same(o), Seen::Held { base, step, .. }) => (*base, number(*o), turned, *step),
            (Seen::Held { base: x, step: s, .. }, Seen::Held { base: y, step: t, .. }) => {
                let ahead = flat(*t) - flat(*s);
                if x == y && ahead == 0 {
                    return Some(self.bits_of_truth(O::K(how.holds(0, 0).into())));
                }
                // From the earlier place to the later one, so that both orders of the same two are found once.
                if ahead < 0 {
                    (*y, Other::Block(*x, -ahead), turned, *t)
                } else {
                    (*x, Other::Block(*y, ahead), straight, *s)
                }
            }
            _ => return None,
        };
        let by = -flat(step);
        let words = match self.sight.moved.get(&(base, other, how, by)) {
            Some(words) => words.clone(),
            None => {
                let found = self.compare(base, (other, how), -by);
                let words = self.bits_moved(&found, by, all.len());
                self.sight.moved.insert((base, other, how, by), words.clone());
                words
            }
        };
        // Bits that were moved past the end of a row, or off the board, say nothing.
        let len = all.iter().map(|w| i64::from(w.count_ones())).sum::<i64>() - other.ahead();
        let mut most = vec![0u64; all.len()];
        for at in (by..by + len).filter(|at| (0..64 * all.len() as i64).contains(at)) {
            most[at as usize / 64] |= 1 << (at % 64);
        }
        let on = Bits::fixed(self.staying(step));
        Some(self.bits_and(&Bits { words, least: vec![0; all.len()], most }, &on))
    }

    /// A block compared as a whole: bit `i` says what holds at place `i` of it, as far as a cell is asked for which that is the place so many
    /// places later; words in which no such place lies are 0.
    fn compare(&mut self, base: M, (other, how): (Other, Comparison), later: i64) -> Vec<O> {
        let ahead = other.ahead() as u32;
        let len = (self.b.cells() as u32).saturating_sub(ahead);
        let in_state = |m: M| (self.code.now..self.code.now + self.code.state_len).contains(&m.0);
        let of_state = in_state(base)
            && match other {
                Other::Block(b, _) => in_state(b),
                Other::Number(_) => true,
                Other::Register(_) => false,
            };
        let mut words = self.sight.compared.get(&(base, other, how)).cloned().unwrap_or_default();
        words.resize(len.div_ceil(64) as usize, None);
        let asked = self.sight.asked.clone();
        for place in (0..self.b.cells() as i64).filter(|c| asked[*c as usize / 64] >> (c % 64) & 1 == 1) {
            let place = place + later;
            let Some(word) =
                usize::try_from(place / 64).ok().filter(|_| (0..i64::from(len)).contains(&place))
            else {
                continue;
            };
            if words[word].is_some() {
                continue;
            }
            let from = word as u32 * 64;
            let n = (len - from).min(64) as u8;
            let a = M(base.0 + from);
            let find = |l: &mut Self| match other {
                Other::Block(b, _) => {
                    l.unary(|d| Op::CompareBlocks { d, a, b: M(b.0 + ahead + from), n, how })
                }
                Other::Number(v) => match i32::try_from(v) {
                    Ok(v) => l.unary(|d| Op::CompareTo { d, a, v, n, how }),
                    Err(_) => {
                        let v = l.reg(O::K(v));
                        l.unary(|d| Op::Compare { d, a, v, n, how })
                    }
                },
                Other::Register(v) => l.unary(|d| Op::Compare { d, a, v, n, how }),
            };
            let memo = if of_state && n >= REMEMBERED_MIN {
                self.memo(Remembered::Compared(a, other, how))
            } else {
                None
            };
            words[word] = Some(match memo {
                Some(memo) => self.remembered(memo, find),
                None => find(self),
            });
        }
        let found = words.iter().map(|w| w.unwrap_or(O::K(0))).collect();
        self.sight.compared.insert((base, other, how), words);
        found
    }
}
