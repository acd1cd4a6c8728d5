//! The reference executor: walks the checked tree, plainly and slowly.
//!
//! It shares nothing with the fast executor beyond the tree and the codes of directions and
//! places. It replays solutions, plays traces, runs examples, and decides in tests whether the
//! fast one is right.

use std::fmt;

use crate::ast::QuantKind;
use crate::bind::Bound;
use crate::diag::Span;
use crate::hir::*;

/// Ways in which a model can break while it runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum FaultKind {
    OutOfDomain,
    OffBoard,
    Overflow,
    DivideByZero,
    RepeatBound,
    LoopTooLong,
    NoMatch,
    TwoMatches,
    ParityOfEqual,
    TooFarAway,
    NotRearranged,
    AlwaysBroken,
    KeepsBroken,
    StepBudget,
}

/// A model fault: what broke, where in the model, on which value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub struct RunFault {
    pub kind: FaultKind,
    pub span: Span,
    pub value: i64,
}

impl fmt::Display for RunFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let v = self.value;
        match self.kind {
            FaultKind::OutOfDomain => write!(f, "{v} is not among the values this may hold"),
            FaultKind::OffBoard => write!(f, "this place is off the board"),
            FaultKind::Overflow => write!(f, "this number grows too large"),
            FaultKind::DivideByZero => write!(f, "division by zero"),
            FaultKind::RepeatBound => {
                write!(f, "still not done after {v} rounds, the bound of this `repeat`")
            }
            FaultKind::LoopTooLong => write!(f, "this loop would run {v} times; {LOOP_MAX} are allowed"),
            FaultKind::NoMatch => write!(f, "nothing matches, and one is wanted"),
            FaultKind::TwoMatches => write!(f, "more than one matches, and exactly one is wanted"),
            FaultKind::ParityOfEqual => write!(f, "`parity` of a grid in which {v} stands twice"),
            FaultKind::TooFarAway => write!(f, "this place is too far from the board"),
            FaultKind::NotRearranged => write!(f, "this grid is no rearrangement of its start any more"),
            FaultKind::AlwaysBroken => write!(f, "a law of the model is broken"),
            FaultKind::KeepsBroken => write!(f, "a move changes this quantity, which no move should"),
            FaultKind::StepBudget => write!(f, "one transition took more than {STEP_BUDGET} loop steps"),
        }
    }
}

/// Most steps of one numeric loop.
pub const LOOP_MAX: i64 = 1 << 16;
/// Most elements that a filtered numeric loop of a statement may keep.
pub const KEPT_MAX: i64 = 1 << 12;
/// Most loop steps of one transition.
pub const STEP_BUDGET: i64 = 20_000_000;

/// A value: one number, or a block of them.
#[derive(Clone, Debug, PartialEq, Eq)]
enum V {
    One(i64),
    Block(Vec<i32>),
}

impl V {
    fn one(&self) -> i64 {
        match self {
            V::One(v) => *v,
            V::Block(_) => unreachable!("the checker separates blocks from single values"),
        }
    }
    fn block(self) -> Vec<i32> {
        match self {
            V::Block(v) => v,
            V::One(_) => unreachable!("the checker separates blocks from single values"),
        }
    }
}

type Run<T> = Result<T, RunFault>;

/// How a block of statements ended.
enum Flow {
    Next,
    Refused(usize, Vec<i64>),
    Ended,
}

/// Something worth showing between two positions.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TraceEvent {
    /// A phase ended: its name, how deep it is nested, its number if it ran more than once.
    Phase {
        /// The name.
        name: String,
        /// The state at its end.
        state: Vec<i32>,
    },
    /// A note of the model, with the place it is about.
    Note {
        /// The words.
        text: String,
        /// Row and column from 0; may be off the board.
        at: Option<(i64, i64)>,
    },
}

/// What a move did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// An `offer` does not hold: the move is not listed.
    NotOffered,
    /// Refused: the number of the statement and the places it names.
    Refused(usize, Vec<i64>),
    /// Made.
    Done {
        /// The new state.
        state: Vec<i32>,
        /// Score gained.
        score: i64,
        /// What was added to each tally.
        tallies: Vec<i64>,
        /// Phases and notes in order.
        events: Vec<TraceEvent>,
    },
}

/// One executor for one bound model.
pub struct Eval<'b> {
    b: &'b Bound,
    now: Vec<i32>,
    before: Vec<i32>,
    score: i64,
    tallies: Vec<i64>,
    events: Vec<TraceEvent>,
    fuel: i64,
}

impl<'b> Eval<'b> {
    /// An executor; cheap to make.
    #[must_use]
    pub fn new(b: &'b Bound) -> Eval<'b> {
        Eval {
            b,
            now: b.position.clone(),
            before: b.position.clone(),
            score: 0,
            tallies: vec![0; b.model.tallies.len()],
            events: vec![],
            fuel: STEP_BUDGET,
        }
    }

    /// The value of an expression that reads level values only.
    pub(crate) fn lone(&mut self, e: &Expr) -> Run<i64> {
        self.one(e, &mut [])
    }

    fn body(&mut self, body: &Body) -> Run<i64> {
        let mut frame = vec![V::One(0); body.locals.len()];
        self.one(&body.expr, &mut frame)
    }

    /// The value of a stand-alone expression in a state.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn value_in(&mut self, body: &Body, state: &[i32]) -> Run<i64> {
        self.fuel = STEP_BUDGET;
        self.now = state.to_vec();
        self.before = state.to_vec();
        self.body(body)
    }

    /// The ending that holds in a state, as an index into the model's endings.
    ///
    /// # Errors
    ///
    /// A model fault, a broken `always` included.
    pub fn status(&mut self, state: &[i32]) -> Run<Option<usize>> {
        self.fuel = STEP_BUDGET;
        self.now = state.to_vec();
        self.before = state.to_vec();
        let model = self.b.model.clone();
        for law in &model.always {
            if self.body(&law.cond)? == 0 {
                return Err(RunFault { kind: FaultKind::AlwaysBroken, span: law.span, value: 0 });
            }
        }
        let ended = state[self.b.ended_at()];
        if ended != 0 {
            return Ok(Some(ended as usize - 1));
        }
        self.conditions()
    }

    /// All conditions that hold in a state, whatever their order.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn all_statuses(&mut self, state: &[i32]) -> Run<Vec<usize>> {
        self.now = state.to_vec();
        let model = self.b.model.clone();
        let mut out = vec![];
        for s in &model.statuses {
            if self.body(&s.cond)? != 0 {
                out.push(s.ending);
            }
        }
        Ok(out)
    }

    fn conditions(&mut self) -> Run<Option<usize>> {
        let model = self.b.model.clone();
        for s in &model.statuses {
            if self.body(&s.cond)? != 0 {
                return Ok(Some(s.ending));
            }
        }
        Ok(None)
    }

    /// Makes a move in a state. A won state is played on as if it were running.
    ///
    /// # Errors
    ///
    /// A model fault; the state is not changed.
    pub fn apply(&mut self, state: &[i32], of: usize, params: &[i64]) -> Run<Outcome> {
        let model = self.b.model.clone();
        let def = &model.moves[of];
        let ended = self.b.ended_at();
        self.fuel = STEP_BUDGET;
        self.now = state.to_vec();
        self.now[ended] = 0;
        self.before = self.now.clone();
        self.score = 0;
        self.tallies = vec![0; model.tallies.len()];
        self.events.clear();
        let mut frame = vec![V::One(0); def.locals.len()];
        for (slot, &p) in frame.iter_mut().zip(params) {
            *slot = V::One(p);
        }
        for offer in &def.offers {
            if self.one(offer, &mut frame)? == 0 {
                return Ok(Outcome::NotOffered);
            }
        }
        match self.block(&def.body, &mut frame)? {
            Flow::Refused(site, at) => return Ok(Outcome::Refused(site, at)),
            Flow::Ended => {}
            Flow::Next => {
                if let Some(after) = &model.after {
                    let mut frame = vec![V::One(0); after.locals.len()];
                    self.block(&after.body, &mut frame)?;
                }
            }
        }
        if self.now[ended] != 0 && self.conditions()? == Some(self.now[ended] as usize - 1) {
            // The condition alone says the same: one state, not two.
            self.now[ended] = 0;
        }
        for (v, var) in model.vars.iter().enumerate().filter(|(_, d)| d.rearranged.is_some()) {
            let slot = &self.b.slots[v];
            let sorted = |s: &[i32]| {
                let mut s = s[slot.base..slot.base + slot.len].to_vec();
                s.sort_unstable();
                s
            };
            if sorted(&self.now) != sorted(&self.b.start) {
                return Err(RunFault { kind: FaultKind::NotRearranged, span: var.span, value: 0 });
            }
        }
        Ok(Outcome::Done {
            state: self.now.clone(),
            score: self.score,
            tallies: self.tallies.clone(),
            events: std::mem::take(&mut self.events),
        })
    }

    // ---- statements ----

    fn block(&mut self, block: &[Stmt], frame: &mut [V]) -> Run<Flow> {
        for stmt in block {
            match self.stmt(stmt, frame)? {
                Flow::Next => {}
                other => return Ok(other),
            }
        }
        Ok(Flow::Next)
    }

    fn burn(&mut self, span: Span) -> Run<()> {
        self.fuel -= 1;
        if self.fuel < 0 {
            return Err(RunFault { kind: FaultKind::StepBudget, span, value: 0 });
        }
        Ok(())
    }

    fn stmt(&mut self, stmt: &Stmt, frame: &mut [V]) -> Run<Flow> {
        let span = stmt.span;
        match &stmt.kind {
            St::Assign(target, value) => {
                let value = self.eval(value, frame)?;
                let index = self.target_index(target, frame)?;
                self.assign(target, index, value, span, frame)?;
            }
            St::Swap(a, b) => {
                let ia = self.target_index(a, frame)?;
                let ib = self.target_index(b, frame)?;
                let va = self.read(a, ia, frame);
                let vb = self.read(b, ib, frame);
                self.assign(a, ia, vb, span, frame)?;
                self.assign(b, ib, va, span, frame)?;
            }
            St::If(cond, then, other) => {
                let branch = if self.one(cond, frame)? != 0 { then } else { other };
                return self.block(branch, frame);
            }
            St::For { local, over, filter, body } => {
                let all = self.range(over, frame)?;
                let mut list = vec![];
                for x in all {
                    if let Some(f) = filter {
                        self.burn(span)?;
                        frame[*local] = V::One(x);
                        if self.one(f, frame)? == 0 {
                            continue;
                        }
                        if matches!(over, Range::Ints(..)) && list.len() as i64 == KEPT_MAX {
                            let value = KEPT_MAX + 1;
                            return Err(RunFault { kind: FaultKind::LoopTooLong, span, value });
                        }
                    }
                    list.push(x);
                }
                for x in list {
                    self.burn(span)?;
                    frame[*local] = V::One(x);
                    match self.block(body, frame)? {
                        Flow::Next => {}
                        other => return Ok(other),
                    }
                }
            }
            St::Repeat { bound, cond, body } => {
                let bound = self.one(bound, frame)?;
                let mut done = 0;
                while self.one(cond, frame)? != 0 {
                    if done >= bound {
                        return Err(RunFault { kind: FaultKind::RepeatBound, span, value: bound });
                    }
                    done += 1;
                    self.burn(span)?;
                    match self.block(body, frame)? {
                        Flow::Next => {}
                        other => return Ok(other),
                    }
                }
            }
            St::Phase(name, body) => {
                let flow = self.block(body, frame)?;
                if !matches!(flow, Flow::Refused(..)) {
                    self.events.push(TraceEvent::Phase { name: name.clone(), state: self.now.clone() });
                }
                return Ok(flow);
            }
            St::Refuse { site, at, unless } => {
                if let Some(e) = unless
                    && self.one(e, frame)? != 0
                {
                    return Ok(Flow::Next);
                }
                let mut places = vec![];
                for e in at {
                    match self.eval(e, frame)? {
                        V::One(p) => places.push(p),
                        V::Block(cells) => {
                            for (c, &v) in cells.iter().enumerate() {
                                if v != 0 {
                                    places.push(self.place_of(c as i64));
                                }
                            }
                        }
                    }
                }
                return Ok(Flow::Refused(*site, places));
            }
            St::Judge => {
                if self.conditions()?.is_some() {
                    return Ok(Flow::Ended);
                }
            }
            St::End(ending) => {
                let at = self.b.ended_at();
                self.now[at] = *ending as i32 + 1;
                return Ok(Flow::Ended);
            }
            St::Note(text, at) => {
                let at = match at {
                    Some(e) => Some(code::row_col(self.one(e, frame)?)),
                    None => None,
                };
                self.events.push(TraceEvent::Note { text: text.clone(), at });
            }
            St::Score(e) => {
                let v = self.one(e, frame)?;
                self.score = self.score.checked_add(v).ok_or(RunFault {
                    kind: FaultKind::Overflow,
                    span,
                    value: 0,
                })?;
            }
            St::Tally(t, e) => {
                let v = self.one(e, frame)?;
                self.tallies[*t] = self.tallies[*t].wrapping_add(v);
            }
            St::Call(p, args) => {
                let model = self.b.model.clone();
                let def = &model.procs[*p];
                let mut inner = vec![V::One(0); def.locals.len()];
                for (slot, a) in inner.iter_mut().zip(args) {
                    *slot = self.eval(a, frame)?;
                }
                return self.block(&def.body, &mut inner);
            }
        }
        Ok(Flow::Next)
    }

    fn in_domain(&mut self, dom: &Dom, v: i64, span: Span) -> Run<()> {
        let (lo, hi) = match dom {
            Dom::Range(lo, hi) => (self.lone(lo)?, self.lone(hi)?),
            Dom::Dir4 => (0, 3),
            _ => return Ok(()),
        };
        if v < lo || v > hi {
            return Err(RunFault { kind: FaultKind::OutOfDomain, span, value: v });
        }
        Ok(())
    }

    fn target_index(&mut self, target: &Target, frame: &mut [V]) -> Run<usize> {
        match target {
            Target::LocalAt(_, e) | Target::VarAt(_, e) => Ok(self.one(e, frame)? as usize),
            _ => Ok(0),
        }
    }

    fn read(&self, target: &Target, index: usize, frame: &[V]) -> V {
        match target {
            Target::Local(l) => frame[*l].clone(),
            Target::LocalAt(l, _) => V::One(frame[*l].clone().block()[index].into()),
            Target::Var(v) => V::One(self.now[self.b.slots[*v].base].into()),
            Target::VarAt(v, _) => V::One(self.now[self.b.slots[*v].base + index].into()),
        }
    }

    fn assign(&mut self, target: &Target, index: usize, value: V, span: Span, frame: &mut [V]) -> Run<()> {
        match target {
            Target::Local(l) => {
                frame[*l] = value;
            }
            Target::LocalAt(l, _) => {
                let v = value.one();
                if i32::try_from(v).is_err() {
                    return Self::fault(FaultKind::OutOfDomain, span, v);
                }
                let V::Block(block) = &mut frame[*l] else { unreachable!("a local block") };
                block[index] = v as i32;
            }
            Target::Var(v) | Target::VarAt(v, _) => {
                let slot = self.b.slots[*v].clone();
                match value {
                    V::Block(values) => {
                        for (i, x) in values.into_iter().enumerate() {
                            self.store(&slot, i, x.into(), span)?;
                        }
                    }
                    V::One(x) => self.store(&slot, index, x, span)?,
                }
            }
        }
        Ok(())
    }

    fn store(&mut self, slot: &crate::bind::Slot, index: usize, value: i64, span: Span) -> Run<()> {
        let (lo, hi) = if slot.active { (slot.lo, slot.hi) } else { (slot.lo, slot.lo) };
        if value < lo || value > hi {
            return Err(RunFault { kind: FaultKind::OutOfDomain, span, value });
        }
        self.now[slot.base + index] = value as i32;
        Ok(())
    }

    // ---- expressions ----

    fn one(&mut self, e: &Expr, frame: &mut [V]) -> Run<i64> {
        Ok(self.eval(e, frame)?.one())
    }

    fn place_of(&self, cell: i64) -> i64 {
        let cols = self.b.cols as i64;
        code::place(cell / cols, cell % cols)
    }

    fn cell_of(&self, place: i64) -> Option<i64> {
        let (r, c) = code::row_col(place);
        (r >= 0 && c >= 0 && r < self.b.rows as i64 && c < self.b.cols as i64)
            .then(|| r * self.b.cols as i64 + c)
    }

    fn range(&mut self, range: &Range, frame: &mut [V]) -> Run<Vec<i64>> {
        Ok(match range {
            Range::Board => (0..self.b.cells() as i64).collect(),
            Range::Cells(set) => {
                let set = self.eval(set, frame)?.block();
                (0..set.len() as i64).filter(|&c| set[c as usize] != 0).collect()
            }
            Range::Around(cell, offsets) => {
                let place = self.one(cell, frame)?;
                let mut out = vec![];
                for o in offsets {
                    let p = place + self.one(o, frame)?;
                    out.extend(self.cell_of(p));
                }
                out
            }
            Range::Dirs(n) => (0..i64::from(*n)).collect(),
            Range::Ints(lo, hi) => {
                let (a, b) = (self.one(lo, frame)?, self.one(hi, frame)?);
                if b.saturating_sub(a) >= LOOP_MAX {
                    let value = b.saturating_sub(a).saturating_add(1);
                    return Err(RunFault { kind: FaultKind::LoopTooLong, span: lo.span.to(hi.span), value });
                }
                (a..=b).collect()
            }
            Range::Enum(e) => (0..self.b.model.enums[*e].values.len() as i64).collect(),
            Range::Lanes(dir) => {
                let d = self.one(dir, frame)?;
                let (rows, cols) = (self.b.rows as i64, self.b.cols as i64);
                // Each lane begins at the wall that `d` points at and runs away from it.
                match d {
                    0 => (0..cols).map(|c| code::lane(c, 2, rows)).collect(),
                    1 => (0..rows).map(|r| code::lane(r * cols + cols - 1, 3, cols)).collect(),
                    2 => (0..cols).map(|c| code::lane((rows - 1) * cols + c, 0, rows)).collect(),
                    3 => (0..rows).map(|r| code::lane(r * cols, 1, cols)).collect(),
                    _ => return Err(RunFault { kind: FaultKind::OutOfDomain, span: dir.span, value: d }),
                }
            }
            Range::Lane(lane) => {
                let (first, dir, len) = code::lane_parts(self.one(lane, frame)?);
                let (dr, dc) = DIR_STEPS[dir as usize];
                let step = dr * self.b.cols as i64 + dc;
                (0..len).map(|i| first + i * step).collect()
            }
        })
    }

    fn fault<T>(kind: FaultKind, span: Span, value: i64) -> Run<T> {
        Err(RunFault { kind, span, value })
    }

    fn eval(&mut self, e: &Expr, frame: &mut [V]) -> Run<V> {
        let span = e.span;
        Ok(V::One(match &e.kind {
            Ek::Const(v) => *v,
            Ek::Local(l) => return Ok(frame[*l].clone()),
            Ek::Var(when, v) => {
                let def = &self.b.model.vars[*v];
                let slot = &self.b.slots[*v];
                let region = match (def.state, when) {
                    (false, _) => &self.b.data,
                    (true, When::Now) => &self.now,
                    (true, When::Before) => &self.before,
                    (true, When::Start) => &self.b.start,
                };
                let values = &region[slot.base..slot.base + slot.len];
                if def.shape != Shape::One {
                    return Ok(V::Block(values.to_vec()));
                }
                values[0].into()
            }
            Ek::Index(block, index) => {
                let i = self.one(index, frame)?;
                self.eval(block, frame)?.block()[i as usize].into()
            }
            Ek::IndexOutside(block, place, outside) => {
                let p = self.one(place, frame)?;
                match self.cell_of(p) {
                    Some(c) => self.eval(block, frame)?.block()[c as usize].into(),
                    None => self.one(outside, frame)?,
                }
            }
            Ek::Not(a) => i64::from(self.one(a, frame)? == 0),
            Ek::Neg(a) => match self.one(a, frame)?.checked_neg() {
                Some(v) => v,
                None => return Self::fault(FaultKind::Overflow, span, 0),
            },
            Ek::Arith(op, a, b) => {
                let (a, b) = (self.one(a, frame)?, self.one(b, frame)?);
                arith(*op, a, b, span)?
            }
            Ek::Cmp(op, a, b) => {
                let (a, b) = (self.one(a, frame)?, self.one(b, frame)?);
                i64::from(match op {
                    Cmp::Eq => a == b,
                    Cmp::Ne => a != b,
                    Cmp::Lt => a < b,
                    Cmp::Le => a <= b,
                })
            }
            Ek::SameBlock(a, b, negate) => {
                let same = self.eval(a, frame)? == self.eval(b, frame)?;
                i64::from(same != *negate)
            }
            Ek::And(a, b) => {
                if self.one(a, frame)? == 0 {
                    0
                } else {
                    self.one(b, frame)?
                }
            }
            Ek::Or(a, b) => {
                if self.one(a, frame)? != 0 {
                    1
                } else {
                    self.one(b, frame)?
                }
            }
            Ek::Cond(c, a, b) => {
                if self.one(c, frame)? != 0 {
                    self.one(a, frame)?
                } else {
                    self.one(b, frame)?
                }
            }
            Ek::Shift(p, o, minus) => {
                let (p, o) = (self.one(p, frame)?, self.one(o, frame)?);
                let moved = if *minus { p - o } else { p + o };
                if !code::is_place(moved) {
                    return Self::fault(FaultKind::TooFarAway, span, 0);
                }
                moved
            }
            Ek::OffAdd(a, b, minus) => {
                let (a, b) = (self.one(a, frame)?, self.one(b, frame)?);
                let sum = if *minus { a - b } else { a + b };
                if !code::is_offset(sum) {
                    return Self::fault(FaultKind::TooFarAway, span, 0);
                }
                sum
            }
            Ek::OffMul(o, n) => {
                let (o, n) = (self.one(o, frame)?, self.one(n, frame)?);
                let (r, c) = code::offset_parts(o);
                if n.unsigned_abs() >= code::BIAS as u64
                    || (r * n).abs() >= code::BIAS / 2
                    || (c * n).abs() >= code::BIAS / 2
                {
                    return Self::fault(FaultKind::TooFarAway, span, 0);
                }
                o * n
            }
            Ek::DirOffset(d) => {
                let (r, c) = DIR_STEPS[self.one(d, frame)? as usize];
                r * code::ROW + c
            }
            Ek::ToPlace(c) => {
                let c = self.one(c, frame)?;
                self.place_of(c)
            }
            Ek::Within(a, dom) => {
                let v = self.one(a, frame)?;
                self.in_domain(dom, v, span)?;
                v
            }
            Ek::ToCell(p) => {
                let p = self.one(p, frame)?;
                match self.cell_of(p) {
                    Some(c) => c,
                    None => return Self::fault(FaultKind::OffBoard, span, 0),
                }
            }
            Ek::OnBoard(p) => {
                let p = self.one(p, frame)?;
                i64::from(self.cell_of(p).is_some())
            }
            Ek::Union(a, b) | Ek::Minus(a, b) | Ek::Both(a, b) => {
                let (a, b) = (self.eval(a, frame)?.block(), self.eval(b, frame)?.block());
                let join = |x: i32, y: i32| match &e.kind {
                    Ek::Union(..) => x | y,
                    Ek::Minus(..) => x & (1 - y),
                    _ => x & y,
                };
                return Ok(V::Block(a.into_iter().zip(b).map(|(x, y)| join(x, y)).collect()));
            }
            Ek::Call(f, args) => {
                let model = self.b.model.clone();
                let def = &model.fns[*f];
                let mut inner = vec![V::One(0); def.locals.len()];
                for (slot, a) in inner.iter_mut().zip(args) {
                    *slot = self.eval(a, frame)?;
                }
                return self.eval(&def.body, &mut inner);
            }
            Ek::Builtin(op, args) => self.builtin(*op, args, span, frame)?,
            Ek::Quant(q) => return self.quant(q, span, frame),
            Ek::Flood(f) => {
                let from = self.one(&f.from, frame)?;
                let cells = self.b.cells();
                let mut inside = vec![0; cells];
                let mut tested = vec![false; cells];
                let mut queue = vec![from];
                tested[from as usize] = true;
                while let Some(c) = queue.pop() {
                    self.burn(span)?;
                    frame[f.local] = V::One(c);
                    if self.one(&f.cond, frame)? == 0 {
                        continue;
                    }
                    inside[c as usize] = 1;
                    for n in self.neighbours(c, &f.by, frame)? {
                        if !std::mem::replace(&mut tested[n as usize], true) {
                            queue.push(n);
                        }
                    }
                }
                if f.rim {
                    let core = inside.clone();
                    for c in (0..cells as i64).filter(|&c| core[c as usize] != 0) {
                        for n in self.neighbours(c, &f.by, frame)? {
                            inside[n as usize] = 1;
                        }
                    }
                }
                return Ok(V::Block(inside));
            }
        }))
    }

    fn neighbours(&mut self, cell: i64, by: &[Expr], frame: &mut [V]) -> Run<Vec<i64>> {
        let place = self.place_of(cell);
        let mut out = vec![];
        for o in by {
            let p = place + self.one(o, frame)?;
            out.extend(self.cell_of(p));
        }
        Ok(out)
    }

    fn builtin(&mut self, op: Builtin, args: &[Expr], span: Span, frame: &mut [V]) -> Run<i64> {
        Ok(match op {
            Builtin::Row => code::row_col(self.one(&args[0], frame)?).0 + 1,
            Builtin::Col => code::row_col(self.one(&args[0], frame)?).1 + 1,
            Builtin::Abs => match self.one(&args[0], frame)?.checked_abs() {
                Some(v) => v,
                None => return Self::fault(FaultKind::Overflow, span, 0),
            },
            Builtin::Opposite => {
                let d = self.one(&args[0], frame)?;
                if d < 4 { (d + 2) % 4 } else { 4 + (d + 2) % 4 }
            }
            Builtin::Turned => {
                let d = self.one(&args[0], frame)?;
                if d < 4 { (d + 1) % 4 } else { 4 + (d + 1) % 4 }
            }
            Builtin::Len => code::lane_parts(self.one(&args[0], frame)?).2,
            Builtin::Rows => self.b.rows as i64,
            Builtin::Cols => self.b.cols as i64,
            Builtin::PlaceAt => {
                let (r, c) = (self.one(&args[0], frame)?, self.one(&args[1], frame)?);
                let near = |x: i64| x > -code::BIAS / 2 && x < code::BIAS / 2;
                if !near(r) || !near(c) {
                    return Self::fault(FaultKind::TooFarAway, span, 0);
                }
                code::place(r - 1, c - 1)
            }
            Builtin::Distinct => {
                let mut v = self.eval(&args[0], frame)?.block();
                v.sort_unstable();
                i64::from(v.windows(2).all(|w| w[0] != w[1]))
            }
            Builtin::Parity => {
                let v = self.eval(&args[0], frame)?.block();
                let mut odd = false;
                for i in 0..v.len() {
                    for j in 0..i {
                        if v[j] == v[i] {
                            return Self::fault(FaultKind::ParityOfEqual, span, v[i].into());
                        }
                        odd ^= v[j] > v[i];
                    }
                }
                i64::from(odd)
            }
        })
    }

    fn quant(&mut self, q: &Quant, span: Span, frame: &mut [V]) -> Run<V> {
        let list = self.range(&q.over, frame)?;
        let mut total = 0i64;
        let mut found: Option<i64> = None;
        let mut set = vec![0; if q.kind == QuantKind::Set { self.b.cells() } else { 0 }];
        for x in list {
            self.burn(span)?;
            frame[q.local] = V::One(x);
            if let Some(f) = &q.filter
                && self.one(f, frame)? == 0
            {
                continue;
            }
            let body = match &q.body {
                Some(b) => Some(self.one(b, frame)?),
                None => None,
            };
            match q.kind {
                QuantKind::Count => total += 1,
                QuantKind::All if body == Some(0) => return Ok(V::One(0)),
                QuantKind::Any if body != Some(0) => return Ok(V::One(1)),
                QuantKind::All | QuantKind::Any => {}
                QuantKind::First => return Ok(V::One(x)),
                QuantKind::The if found.is_some() => return Self::fault(FaultKind::TwoMatches, span, 2),
                QuantKind::The => found = Some(x),
                QuantKind::Sum => {
                    total = match total.checked_add(body.unwrap_or(0)) {
                        Some(t) => t,
                        None => return Self::fault(FaultKind::Overflow, span, 0),
                    }
                }
                QuantKind::Min => found = Some(found.map_or(body.unwrap_or(0), |f| f.min(body.unwrap_or(0)))),
                QuantKind::Max => found = Some(found.map_or(body.unwrap_or(0), |f| f.max(body.unwrap_or(0)))),
                QuantKind::Set => set[x as usize] = 1,
            }
        }
        Ok(match q.kind {
            QuantKind::Count | QuantKind::Sum => V::One(total),
            QuantKind::All => V::One(1),
            QuantKind::Any => V::One(0),
            QuantKind::Set => V::Block(set),
            QuantKind::First | QuantKind::The | QuantKind::Min | QuantKind::Max => match found {
                Some(v) => V::One(v),
                None => return Self::fault(FaultKind::NoMatch, span, 0),
            },
        })
    }
}

/// Arithmetic with the meaning that both executors share by definition: division and `mod`
/// round down, so that `x mod 2` is 0 or 1.
fn arith(op: Arith, a: i64, b: i64, span: Span) -> Run<i64> {
    let exact = match op {
        Arith::Add => a.checked_add(b),
        Arith::Sub => a.checked_sub(b),
        Arith::Mul => a.checked_mul(b),
        Arith::Div | Arith::Mod => {
            let v = if op == Arith::Div { a.checked_div_euclid(b) } else { a.checked_rem_euclid(b) };
            return v.ok_or(RunFault { kind: FaultKind::DivideByZero, span, value: a });
        }
        Arith::Pow => u32::try_from(b).ok().and_then(|b| a.checked_pow(b)),
        Arith::Min => Some(a.min(b)),
        Arith::Max => Some(a.max(b)),
    };
    exact.ok_or(RunFault { kind: FaultKind::Overflow, span, value: 0 })
}
