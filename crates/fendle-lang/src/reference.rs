//! The reference executor: walks the checked tree, plainly and slowly.
//!
//! It shares nothing with the fast executor beyond the tree and the codes of directions and
//! places. It replays solutions, plays traces, runs examples, and decides in tests whether the
//! fast one is right.

use std::collections::HashMap;
use std::fmt;

use crate::ast::QuantKind;
use crate::bind::Bound;
use crate::chance::Chance;
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
    NotSpread,
    AlwaysBroken,
    KeepsBroken,
    StepBudget,
    ListFull,
    ListEmpty,
    NoEntry,
    NotInList,
    NothingToDraw,
    BadWeight,
    TooFine,
    TooManyOutcomes,
    NoneGiven,
    WrittenTooLong,
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
            FaultKind::NotSpread => write!(f, "these lists no longer hold each of their values once"),
            FaultKind::AlwaysBroken => write!(f, "a law of the model is broken"),
            FaultKind::KeepsBroken => write!(f, "a move changes this quantity, which no move should"),
            FaultKind::ListFull => write!(f, "this list is full: it holds {v}"),
            FaultKind::ListEmpty => write!(f, "this list is empty"),
            FaultKind::NoEntry => write!(f, "this list has no entry {v}"),
            FaultKind::NotInList => write!(f, "this is not in there"),
            FaultKind::NothingToDraw => {
                write!(f, "there is nothing to draw from; say what happens then with `else {{ ... }}`")
            }
            FaultKind::BadWeight => write!(f, "{v} is no weight: 0 to {WEIGHT_MAX} are"),
            FaultKind::TooFine => write!(
                f,
                "the chances of this move are too fine to be kept exactly; a lower bound of its cascade, with `else cut`, sets rare branches aside"
            ),
            FaultKind::TooManyOutcomes => write!(f, "this move has more than {OUTCOMES_MAX} outcomes"),
            FaultKind::NoneGiven => write!(f, "this is `none`, and a value is wanted"),
            FaultKind::WrittenTooLong => write!(f, "{v} values do not fit this lane"),
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
/// Greatest weight of one thing that is drawn from.
pub const WEIGHT_MAX: i64 = 1 << 20;
/// Most outcomes of one move that are kept at a time.
pub const OUTCOMES_MAX: usize = 1 << 20;
/// Most ways through one move that this executor tries.
const SCRIPTS_MAX: usize = 1 << 16;

/// A value: one number, or a block of them.
#[derive(Clone, Debug, PartialEq, Eq)]
enum V {
    One(i64),
    Block(Vec<i32>),
    /// The entries of a list, and how many it may hold.
    List(Vec<i64>, i64),
}

impl V {
    fn one(&self) -> i64 {
        match self {
            V::One(v) => *v,
            _ => unreachable!("the checker separates blocks from single values"),
        }
    }
    fn block(self) -> Vec<i32> {
        match self {
            V::Block(v) => v,
            _ => unreachable!("the checker separates blocks from single values"),
        }
    }
    fn list(self) -> Vec<i64> {
        match self {
            V::List(v, _) => v,
            _ => unreachable!("the checker separates lists from other values"),
        }
    }
}

type Run<T> = Result<T, RunFault>;

/// How a block of statements ended.
enum Flow {
    Next,
    Refused(usize, Vec<i64>),
    Ended,
    /// Set aside by `else cut`.
    Cut,
    /// A start that is dropped.
    Dropped(usize),
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
    /// Something was drawn.
    Draw {
        /// What, as it is written.
        what: String,
        /// Its chance among what could be drawn there.
        chance: Chance,
        /// How many things could.
        of: usize,
    },
}

/// One outcome of a move that was made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Made {
    /// The new state.
    pub state: Vec<i32>,
    /// Its chance among the outcomes of the move.
    pub chance: Chance,
    /// Score gained.
    pub score: i64,
    /// What was added to each tally.
    pub tallies: Vec<i64>,
    /// Phases, notes and draws in order.
    pub events: Vec<TraceEvent>,
    /// Set aside by `else cut`: the state says nothing.
    pub cut: bool,
}

impl Made {
    /// What was drawn on the way, in order.
    pub fn draws(&self) -> impl Iterator<Item = &str> {
        self.events.iter().filter_map(|e| match e {
            TraceEvent::Draw { what, .. } => Some(what.as_str()),
            _ => None,
        })
    }
}

/// A start that a setup drew, or why it was dropped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Drawn {
    /// A start and its chance before dropped ones are taken out.
    Start(Vec<i32>, Chance),
    /// Dropped by the `require` at this place.
    Dropped(Span, Chance),
}

/// Says which of the things that can be drawn is drawn.
enum Chooser<'a> {
    /// What to take at each draw; the first thing where it ends. Holds how many there were.
    Script { take: Vec<usize>, seen: Vec<usize> },
    /// At random: given the weights.
    Random(&'a mut dyn FnMut(&[u64]) -> usize),
}

impl Chooser<'_> {
    /// One of so many things, each as likely.
    fn one_of(&mut self, count: usize) -> usize {
        match self {
            Chooser::Script { take, seen } => {
                let pick = take.get(seen.len()).copied().unwrap_or(0);
                seen.push(count);
                pick
            }
            Chooser::Random(random) => random(&vec![1; count]),
        }
    }
}

/// The script of the next way: the last draw that has something left takes its next thing. False after the last.
fn next_way(take: &mut Vec<usize>, seen: &[usize]) -> bool {
    take.resize(seen.len(), 0);
    while let (Some(t), n) = (take.last().copied(), take.len())
        && t + 1 == seen[n - 1]
    {
        take.pop();
    }
    match take.last_mut() {
        Some(t) => {
            *t += 1;
            true
        }
        None => false,
    }
}

/// Answers what only an analysis knows of a state.
pub type Oracle<'a> = &'a dyn Fn(&[i32], Asked) -> i64;

/// What a move did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// An `offer` does not hold: the move is not listed.
    NotOffered,
    /// Refused: the number of the statement and the places it names.
    Refused(usize, Vec<i64>),
    /// Made: one entry for each way that the draws can fall, in the order of what they draw from.
    Done(Vec<Made>),
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
    chance: Chance,
    chooser: Chooser<'b>,
    oracle: Option<Oracle<'b>>,
    unknown: Option<Unknown>,
    open: Option<Box<OpenState>>,
    /// What a setup starts from, instead of the level's own start.
    base: Option<Vec<i32>>,
}

/// Hidden values that are tried one way after the other.
struct Unknown {
    known: HashMap<usize, i32>,
    /// What was read, in order: the value's place in the state, and which it was.
    seen: Vec<(usize, i32)>,
    whole: bool,
}

/// A state of which nothing is known at first: each value is settled when it is read or written, in every way that
/// its type allows, one way after the other.
#[derive(Default)]
struct OpenState {
    settled: Vec<bool>,
    /// What was settled, in order: the value's place in the state, and which it was.
    seen: Vec<(usize, i32)>,
    /// Values that are ruled out, by place.
    not: Vec<(usize, i32)>,
    /// The variable of each place.
    var_of: Vec<usize>,
    /// Something was read that is not followed.
    lost: bool,
    /// No value was left: this way is none.
    none_left: bool,
}

/// What was settled on the way to a value, and the value.
pub(crate) type OpenValue = (Vec<(usize, i32)>, i64);

/// One way that an open state can go.
pub(crate) struct OpenWay<'w> {
    /// What was settled on this way: places in the state and their values, each place once.
    pub seen: &'w [(usize, i32)],
    /// The state after the move; it counts only where something was settled.
    pub after: &'w [i32],
}

/// One way that the part of a move which can lose may go.
pub(crate) struct LosingWay {
    /// The hidden values that it read: their places in the state.
    pub reads: Vec<(usize, i32)>,
    /// Whether the game is lost.
    pub lost: bool,
    /// The chance of its draws.
    pub chance: Chance,
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
            chance: Chance::SURE,
            chooser: Chooser::Script { take: vec![], seen: vec![] },
            oracle: None,
            unknown: None,
            open: None,
            base: None,
        }
    }

    /// The same, able to answer questions that only an analysis can.
    #[must_use]
    pub fn with_oracle(b: &'b Bound, oracle: Oracle<'b>) -> Eval<'b> {
        Eval { oracle: Some(oracle), ..Eval::new(b) }
    }

    /// The same, with a layout of hidden things that setups start from.
    #[must_use]
    pub fn with_layout(b: &'b Bound, layout: Vec<i32>) -> Eval<'b> {
        Eval { base: Some(layout), ..Eval::new(b) }
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

    /// A value and its weight at one place.
    pub(crate) fn weighted_at(&mut self, v: &Expr, w: &Expr, locals: usize, at: i64) -> Run<(i64, u64)> {
        let mut frame = vec![V::One(at); locals];
        Ok((self.one(v, &mut frame)?, self.weight(w, &mut frame)?))
    }

    /// What a `tell` runs over: one element where it runs over nothing.
    pub fn tell_elements(&mut self, tell: &TellDef) -> Vec<i64> {
        match &tell.over {
            None => vec![0],
            Some((_, over)) => {
                let mut frame = vec![V::One(0); tell.locals.len()];
                self.range(over, &mut frame).unwrap_or_default()
            }
        }
    }

    /// What the player is told of a state: for each `tell` and each of its elements the value, or
    /// `None` where it is not told.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn told(&mut self, state: &[i32]) -> Run<Vec<Vec<Option<i64>>>> {
        self.now = state.to_vec();
        self.before = state.to_vec();
        let model = self.b.model.clone();
        let mut out = vec![];
        for tell in &model.tells {
            let mut values = vec![];
            for x in self.tell_elements(tell) {
                self.fuel = STEP_BUDGET;
                let mut frame = vec![V::One(0); tell.locals.len()];
                if let Some((local, _)) = &tell.over {
                    frame[*local] = V::One(x);
                }
                let is_told = match &tell.filter {
                    Some(f) => self.one(f, &mut frame)? != 0,
                    None => true,
                };
                values.push(if is_told { Some(self.one(&tell.value, &mut frame)?) } else { None });
            }
            out.push(values);
        }
        Ok(out)
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

    /// Makes a move in a state, in all ways that its draws can fall. A won state is played on as
    /// if it were running.
    ///
    /// # Errors
    ///
    /// A model fault; the state is not changed.
    pub fn apply(&mut self, state: &[i32], of: usize, params: &[i64]) -> Run<Outcome> {
        let mut out = vec![];
        let mut many = false;
        let found = self.each_way(state, of, params, SCRIPTS_MAX, &mut |made| {
            out.push(made);
            many = out.len() > SCRIPTS_MAX;
            !many
        })?;
        match found {
            Some(other) => Ok(other),
            None if many => {
                let span = self.b.model.moves[of].span;
                Err(RunFault { kind: FaultKind::TooManyOutcomes, span, value: 0 })
            }
            None => Ok(Outcome::Done(out)),
        }
    }

    /// A way through the move that leads to this state, if there is one.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn apply_to(
        &mut self,
        state: &[i32],
        of: usize,
        params: &[i64],
        target: &[i32],
    ) -> Run<Option<Made>> {
        let mut hit = None;
        self.each_way(state, of, params, SCRIPTS_MAX << 8, &mut |made| {
            if made.state == target {
                hit = Some(made);
            }
            hit.is_none()
        })?;
        Ok(hit)
    }

    /// Makes a move in each way that its draws can fall, while `more` says so. What the move is
    /// instead, when it is not made.
    fn each_way(
        &mut self,
        state: &[i32],
        of: usize,
        params: &[i64],
        most: usize,
        more: &mut dyn FnMut(Made) -> bool,
    ) -> Run<Option<Outcome>> {
        let mut take: Vec<usize> = vec![];
        for _ in 0..=most {
            self.chooser = Chooser::Script { take: take.clone(), seen: vec![] };
            match self.apply_once(state, of, params)? {
                Outcome::Done(made) => {
                    for m in made {
                        if !more(m) {
                            return Ok(None);
                        }
                    }
                }
                other => return Ok(Some(other)),
            }
            let Chooser::Script { seen, .. } = &self.chooser else { return Ok(None) };
            if !next_way(&mut take, seen) {
                return Ok(None);
            }
        }
        Ok(None)
    }

    /// Makes a move, drawing at random: `random` gets weights and says which one.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn apply_drawn(
        &mut self,
        state: &[i32],
        of: usize,
        params: &[i64],
        random: &'b mut dyn FnMut(&[u64]) -> usize,
    ) -> Run<Outcome> {
        self.chooser = Chooser::Random(random);
        let out = self.apply_once(state, of, params);
        self.chooser = Chooser::Script { take: vec![], seen: vec![] };
        out
    }

    /// Makes a move once, drawing as the chooser says.
    fn apply_once(&mut self, state: &[i32], of: usize, params: &[i64]) -> Run<Outcome> {
        let model = self.b.model.clone();
        let def = &model.moves[of];
        let ended = self.b.ended_at();
        self.fuel = STEP_BUDGET;
        self.now = state.to_vec();
        self.now[ended] = 0;
        self.before = self.now.clone();
        if let Some(open) = &mut self.open {
            open.settled[ended] = true;
        }
        self.score = 0;
        self.tallies = vec![0; model.tallies.len()];
        self.events.clear();
        self.chance = Chance::SURE;
        let mut frame = vec![V::One(0); def.locals.len()];
        for (slot, &p) in frame.iter_mut().zip(params) {
            *slot = V::One(p);
        }
        for offer in &def.offers {
            if self.one(offer, &mut frame)? == 0 {
                return Ok(Outcome::NotOffered);
            }
        }
        let mut flow = self.block(&def.body, &mut frame)?;
        if let (Flow::Next, Some(after)) = (&flow, &model.after) {
            flow = self.lone_block(after)?;
        }
        for tick in model.ticks.iter().filter(|t| t.on.is_none_or(|m| m == of)) {
            if !matches!(flow, Flow::Next) {
                break;
            }
            if let Some((clock, every)) = &tick.clock {
                let at = self.b.slots[*clock].base;
                let every = self.lone(every)?;
                self.settle(at);
                self.now[at] += 1;
                if i64::from(self.now[at]) < every {
                    continue;
                }
                self.now[at] = 0;
            }
            flow = self.lone_block(&tick.body)?;
        }
        let cut = match flow {
            Flow::Refused(site, at) => return Ok(Outcome::Refused(site, at)),
            Flow::Cut => true,
            _ => false,
        };
        if cut {
            self.now = self.b.cut_state();
        } else if self.open.is_none() {
            if self.now[ended] != 0 && self.conditions()? == Some(self.now[ended] as usize - 1) {
                // The condition alone says the same: one state, not two.
                self.now[ended] = 0;
            }
            self.check_rearranged()?;
        }
        Ok(Outcome::Done(vec![Made {
            state: self.now.clone(),
            chance: self.chance,
            score: self.score,
            tallies: self.tallies.clone(),
            events: std::mem::take(&mut self.events),
            cut,
        }]))
    }

    fn lone_block(&mut self, def: &ProcDef) -> Run<Flow> {
        let mut frame = vec![V::One(0); def.locals.len()];
        self.block(&def.body, &mut frame)
    }

    fn check_rearranged(&self) -> Run<()> {
        for (v, var) in self.b.model.vars.iter().enumerate().filter(|(_, d)| d.rearranged.is_some()) {
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
        for spread in &self.b.model.spreads {
            if !self.b.is_spread(spread.var, &self.now) {
                return Err(RunFault { kind: FaultKind::NotSpread, span: spread.span, value: 0 });
            }
        }
        Ok(())
    }

    /// Draws one start.
    fn set_up(&mut self) -> Run<Drawn> {
        let model = self.b.model.clone();
        let Some(setup) = &model.setup else { return Ok(Drawn::Start(self.b.start.clone(), Chance::SURE)) };
        self.fuel = STEP_BUDGET;
        self.now = self.base.clone().unwrap_or_else(|| self.b.start.clone());
        self.before = self.now.clone();
        self.events.clear();
        self.chance = Chance::SURE;
        match self.lone_block(&setup.body)? {
            Flow::Dropped(at) => {
                let span = Span::new(at >> 32, at & 0xffff_ffff);
                Ok(Drawn::Dropped(span, self.chance))
            }
            _ => {
                self.check_rearranged()?;
                self.b.keep_starts(&mut self.now);
                Ok(Drawn::Start(self.now.clone(), self.chance))
            }
        }
    }

    /// All starts that the setup can draw, each as often as there are ways to it. `None` when there
    /// are more than `most` ways.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn all_starts(&mut self, most: usize) -> Run<Option<Vec<Drawn>>> {
        let mut out = vec![];
        let mut take: Vec<usize> = vec![];
        loop {
            self.chooser = Chooser::Script { take: take.clone(), seen: vec![] };
            out.push(self.set_up()?);
            let Chooser::Script { seen, .. } = &self.chooser else { return Ok(Some(out)) };
            // How many ways there are at least, from the first way alone.
            let ways = seen.iter().try_fold(1usize, |n, s| n.checked_mul(*s)).unwrap_or(usize::MAX);
            if out.len() > most || out.len() == 1 && ways > most.saturating_mul(4) {
                return Ok(None);
            }
            if !next_way(&mut take, seen) {
                return Ok(Some(out));
            }
        }
    }

    /// Draws one start at random.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn draw_start(&mut self, random: &'b mut dyn FnMut(&[u64]) -> usize) -> Run<Drawn> {
        self.chooser = Chooser::Random(random);
        let out = self.set_up();
        self.chooser = Chooser::Script { take: vec![], seen: vec![] };
        out
    }

    /// Which of several weighted things is drawn.
    fn choose(&mut self, weights: &[u64], span: Span) -> Run<usize> {
        let at = match &mut self.chooser {
            Chooser::Script { take, seen } => {
                let at = take.get(seen.len()).copied().unwrap_or(0);
                seen.push(weights.len());
                at
            }
            Chooser::Random(random) => random(weights),
        };
        let total = weights.iter().sum();
        self.chance = match self.chance.then(weights[at], total) {
            Some(c) => c,
            None => return Self::fault(FaultKind::TooFine, span, 0),
        };
        Ok(at)
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
                let mut value = self.eval(value, frame)?;
                if let (V::List(items, cap), Target::Local(l)) = (&mut value, target)
                    && let V::List(_, bound) = &frame[*l]
                {
                    *cap = *bound;
                    if items.len() as i64 > *cap {
                        return Self::fault(FaultKind::ListFull, span, *cap);
                    }
                }
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
            St::Repeat { bound, cond, body, cut } => {
                let bound = self.one(bound, frame)?;
                let mut done = 0;
                while self.one(cond, frame)? != 0 {
                    if done >= bound {
                        if *cut {
                            return Ok(Flow::Cut);
                        }
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
                        V::List(..) => unreachable!("places are named, not lists"),
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
            St::Draw { local, from, into, rest, other } => {
                let mut things: Vec<(i64, u64)> = vec![];
                match from {
                    DrawFrom::Range { over, filter, weight } => {
                        for x in self.range(over, frame)? {
                            self.burn(span)?;
                            frame[*local] = V::One(x);
                            if let Some(f) = filter
                                && self.one(f, frame)? == 0
                            {
                                continue;
                            }
                            let w = match weight {
                                Some(w) => self.weight(w, frame)?,
                                None => 1,
                            };
                            things.push((x, w));
                        }
                    }
                    DrawFrom::Values(values) => {
                        for (v, w) in values {
                            let x = self.one(v, frame)?;
                            things.push((x, self.weight(w, frame)?));
                        }
                    }
                }
                things.retain(|t| t.1 > 0);
                if things.is_empty() {
                    return match other {
                        Some(other) => self.block(other, frame),
                        None => Self::fault(FaultKind::NothingToDraw, span, 0),
                    };
                }
                let weights: Vec<u64> = things.iter().map(|t| t.1).collect();
                let at = self.choose(&weights, span)?;
                let x = things[at].0;
                frame[*local] = V::One(x);
                let what = match into {
                    // As it will stand on the board.
                    Some(Target::Var(v) | Target::VarAt(v, _)) => self.b.value_text(*v, x),
                    _ => self.drawn_text(from, x),
                };
                let chance = Chance::new(weights[at].into(), weights.iter().sum::<u64>().into());
                self.events.push(TraceEvent::Draw { what, chance, of: things.len() });
                if let Some(into) = into {
                    let index = self.target_index(into, frame)?;
                    self.assign(into, index, V::One(x), span, frame)?;
                }
                return self.block(rest, frame);
            }
            St::NewList { local, value, max } => {
                let items = match value {
                    Some(e) => self.eval(e, frame)?.list(),
                    None => vec![],
                };
                let max = self.one(max, frame)?;
                if !(0..=crate::bind::LIST_MAX).contains(&max) {
                    return Self::fault(FaultKind::OutOfDomain, span, max);
                }
                if items.len() as i64 > max {
                    return Self::fault(FaultKind::ListFull, span, max);
                }
                frame[*local] = V::List(items, max);
            }
            St::Push(list, value) => {
                let v = self.one(value, frame)?;
                let key = self.list_key(list, frame)?;
                let (mut items, cap) = self.list_now(list, key, frame);
                if items.len() as i64 >= cap {
                    return Self::fault(FaultKind::ListFull, span, cap);
                }
                items.push(v);
                self.list_store(list, key, items, span, frame)?;
            }
            St::Pop(list) => {
                let key = self.list_key(list, frame)?;
                let (mut items, _) = self.list_now(list, key, frame);
                if items.pop().is_none() {
                    return Self::fault(FaultKind::ListEmpty, span, 0);
                }
                self.list_store(list, key, items, span, frame)?;
            }
            St::Clear(list) => {
                let key = self.list_key(list, frame)?;
                self.list_store(list, key, vec![], span, frame)?;
            }
            St::Drop(list, value) => {
                let v = self.one(value, frame)?;
                let key = self.list_key(list, frame)?;
                let (mut items, _) = self.list_now(list, key, frame);
                match items.iter().position(|x| *x == v) {
                    Some(i) => items.remove(i),
                    None => return Self::fault(FaultKind::NotInList, span, v),
                };
                self.list_store(list, key, items, span, frame)?;
            }
            St::Take(count, from, onto) => {
                let n = self.one(count, frame)?;
                let key = self.list_key(from, frame)?;
                let to_key = self.list_key(onto, frame)?;
                let (mut items, _) = self.list_now(from, key, frame);
                if n < 0 || n > items.len() as i64 {
                    return Self::fault(FaultKind::NoEntry, span, n);
                }
                let moved = items.split_off(items.len() - n as usize);
                self.list_store(from, key, items, span, frame)?;
                let (mut items, cap) = self.list_now(onto, to_key, frame);
                if items.len() as i64 + n > cap {
                    return Self::fault(FaultKind::ListFull, span, cap);
                }
                items.extend(moved);
                self.list_store(onto, to_key, items, span, frame)?;
            }
            St::Write { parts, fill, into, along } => {
                let lane = self.one(along, frame)?;
                let cells = self.lane_cells(lane);
                let mut values = vec![];
                for p in parts {
                    match self.eval(p, frame)? {
                        V::List(items, _) => values.extend(items),
                        v => values.push(v.one()),
                    }
                }
                let fill = self.one(fill, frame)?;
                if values.len() > cells.len() {
                    return Self::fault(FaultKind::WrittenTooLong, span, values.len() as i64);
                }
                values.resize(cells.len(), fill);
                for (c, v) in cells.into_iter().zip(values) {
                    self.assign_cell(into, c as usize, v, span, frame)?;
                }
            }
            St::CutOut { local, columns, filter, into, fill, from } => {
                let mut gone = vec![];
                for lane in self.side_lanes(if *columns { 0 } else { 3 }) {
                    self.burn(span)?;
                    frame[*local] = V::One(lane);
                    gone.push(self.one(filter, frame)? != 0);
                }
                let fill = self.one(fill, frame)?;
                let from = self.one(from, frame)?;
                let (low, high) = if *columns { (3, 1) } else { (0, 2) };
                if from != low && from != high {
                    return Self::fault(FaultKind::OutOfDomain, span, from);
                }
                let old = self.grid_now(into, frame);
                // What stays keeps its order and moves away from where the filling comes in.
                let kept: Vec<usize> = (0..gone.len()).filter(|&i| !gone[i]).collect();
                let shift = if from == low { gone.len() - kept.len() } else { 0 };
                for i in 0..gone.len() {
                    let source = i.checked_sub(shift).and_then(|k| kept.get(k)).copied();
                    for j in 0..self.across(*columns) {
                        let at = |i: usize| if *columns { j * self.b.cols + i } else { i * self.b.cols + j };
                        let v = source.map_or(fill, |s| old[at(s)].into());
                        let cell = at(i);
                        self.assign_cell(into, cell, v, span, frame)?;
                    }
                }
            }
            St::Insert { row, into, at, from } => {
                let items = self.eval(row, frame)?.list();
                let lane = self.one(at, frame)?;
                let from = self.one(from, frame)?;
                let (first, dir, len) = code::lane_parts(lane);
                let columns = dir == 0 || dir == 2;
                let (low, high) = if columns { (3, 1) } else { (0, 2) };
                if from != low && from != high {
                    return Self::fault(FaultKind::OutOfDomain, span, from);
                }
                if items.len() as i64 != len {
                    return Self::fault(FaultKind::WrittenTooLong, span, items.len() as i64);
                }
                let old = self.grid_now(into, frame);
                let cols = self.b.cols;
                let k = if columns { first as usize % cols } else { first as usize / cols };
                let lines = if columns { cols } else { self.b.rows };
                let at = |i: usize, j: usize| if columns { j * cols + i } else { i * cols + j };
                for j in 0..self.across(columns) {
                    // From the side it comes in, what lies there moves on, and the last falls off.
                    if from == low {
                        for i in k + 1..lines {
                            let v = old[at(i - 1, j)].into();
                            self.assign_cell(into, at(i, j), v, span, frame)?;
                        }
                    } else {
                        for i in 0..k {
                            let v = old[at(i + 1, j)].into();
                            self.assign_cell(into, at(i, j), v, span, frame)?;
                        }
                    }
                }
                for (c, v) in self.lane_cells(lane).into_iter().zip(items) {
                    self.assign_cell(into, c as usize, v, span, frame)?;
                }
            }
            St::Require(cond, _) => {
                if self.one(cond, frame)? == 0 {
                    return Ok(Flow::Dropped((cond.span.start as usize) << 32 | cond.span.end as usize));
                }
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
            Dom::Maybe(_) if v == NONE => return Ok(()),
            Dom::Maybe(inner) => return self.in_domain(inner, v, span),
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
            Target::Entry(list, spot) => {
                let key = self.list_key(list, frame)?;
                let (items, _) = self.list_now(list, key, frame);
                let i = match spot {
                    Spot::First => 0,
                    Spot::Last => items.len() as i64 - 1,
                    Spot::At(e) => {
                        let n = self.one(e, frame)?;
                        if n < 1 || n > items.len() as i64 {
                            return Self::fault(FaultKind::NoEntry, e.span, n);
                        }
                        n - 1
                    }
                };
                if i < 0 || items.is_empty() {
                    return Self::fault(FaultKind::ListEmpty, self.list_span(list), 0);
                }
                Ok(key << 16 | i as usize)
            }
            _ => Ok(0),
        }
    }

    fn list_span(&self, list: &ListRef) -> Span {
        match list {
            ListRef::VarAt(_, e) => e.span,
            ListRef::Var(v) => self.b.model.vars[*v].span,
            ListRef::Local(_) => Span::default(),
        }
    }

    fn weight(&mut self, w: &Expr, frame: &mut [V]) -> Run<u64> {
        let v = self.one(w, frame)?;
        if !(0..=WEIGHT_MAX).contains(&v) {
            return Self::fault(FaultKind::BadWeight, w.span, v);
        }
        Ok(v as u64)
    }

    /// What was drawn, as it is written.
    fn drawn_text(&self, from: &DrawFrom, x: i64) -> String {
        let ty = match from {
            DrawFrom::Values(values) => values.first().map_or(Ty::Int, |v| v.0.ty),
            DrawFrom::Range { over, .. } => match over {
                Range::Board | Range::Cells(_) | Range::Around(..) | Range::Lane(_) => Ty::Cell,
                Range::Dirs(_) => Ty::Dir,
                Range::Enum(e) => Ty::Enum(*e),
                Range::List(e) => match e.ty {
                    Ty::List(s, _) => s.ty(),
                    _ => Ty::Int,
                },
                Range::Lanes(_) => {
                    let (first, dir, _) = code::lane_parts(x);
                    let (r, c) = (first as usize / self.b.cols + 1, first as usize % self.b.cols + 1);
                    return if dir % 2 == 0 { format!("c{c}") } else { format!("r{r}") };
                }
                _ => Ty::Int,
            },
        };
        match ty.scalar() {
            Some(s) => self.b.scalar_text(s, x, false),
            None => x.to_string(),
        }
    }

    fn list_key(&mut self, list: &ListRef, frame: &mut [V]) -> Run<usize> {
        match list {
            ListRef::VarAt(_, e) => Ok(self.one(e, frame)? as usize),
            _ => Ok(0),
        }
    }

    /// The entries of a list, and how many it may hold.
    fn list_now(&mut self, list: &ListRef, key: usize, frame: &[V]) -> (Vec<i64>, i64) {
        match list {
            ListRef::Local(l) => match &frame[*l] {
                V::List(items, cap) => (items.clone(), *cap),
                _ => unreachable!("a local list"),
            },
            ListRef::Var(v) | ListRef::VarAt(v, _) => {
                self.settle_all(*v);
                let slot = &self.b.slots[*v];
                let at = slot.base + key * (slot.cap + 1);
                let len = self.now[at] as usize;
                (self.now[at + 1..=at + len].iter().map(|&x| x.into()).collect(), slot.cap as i64)
            }
        }
    }

    fn list_store(
        &mut self,
        list: &ListRef,
        key: usize,
        mut items: Vec<i64>,
        span: Span,
        frame: &mut [V],
    ) -> Run<()> {
        let bag = |shape: Shape| matches!(shape, Shape::List(true) | Shape::Lists(_, true));
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
                self.settle_all(*v);
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

    fn across(&self, columns: bool) -> usize {
        if columns { self.b.rows } else { self.b.cols }
    }

    fn grid_now(&mut self, into: &Target, frame: &[V]) -> Vec<i32> {
        match into {
            Target::Local(l) => frame[*l].clone().block(),
            Target::Var(v) => {
                self.settle_all(*v);
                let slot = &self.b.slots[*v];
                self.now[slot.base..slot.base + slot.len].to_vec()
            }
            _ => unreachable!("a grid is a variable or a local one"),
        }
    }

    fn assign_cell(&mut self, into: &Target, cell: usize, v: i64, span: Span, frame: &mut [V]) -> Run<()> {
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

    fn lane_cells(&self, lane: i64) -> Vec<i64> {
        let (first, dir, len) = code::lane_parts(lane);
        let (dr, dc) = DIR_STEPS[dir as usize];
        let step = dr * self.b.cols as i64 + dc;
        (0..len).map(|i| first + i * step).collect()
    }

    /// Each lane begins at the wall that `d` points at and runs away from it.
    fn side_lanes(&self, d: i64) -> Vec<i64> {
        let (rows, cols) = (self.b.rows as i64, self.b.cols as i64);
        match d {
            0 => (0..cols).map(|c| code::lane(c, 2, rows)).collect(),
            1 => (0..rows).map(|r| code::lane(r * cols + cols - 1, 3, cols)).collect(),
            2 => (0..cols).map(|c| code::lane((rows - 1) * cols + c, 0, rows)).collect(),
            _ => (0..rows).map(|r| code::lane(r * cols, 1, cols)).collect(),
        }
    }

    fn read(&mut self, target: &Target, index: usize, frame: &[V]) -> V {
        match target {
            Target::Local(l) => frame[*l].clone(),
            Target::LocalAt(l, _) => V::One(frame[*l].clone().block()[index].into()),
            Target::Var(v) => V::One(self.element(When::Now, *v, 0)),
            Target::VarAt(v, _) => V::One(self.element(When::Now, *v, index)),
            Target::Entry(list, _) => {
                let (items, _) = self.list_now(list, index >> 16, frame);
                V::One(items[index & 0xffff])
            }
        }
    }

    fn assign(&mut self, target: &Target, index: usize, value: V, span: Span, frame: &mut [V]) -> Run<()> {
        match target {
            Target::Local(l) => {
                frame[*l] = value;
            }
            Target::Entry(list, _) => {
                let key = index >> 16;
                let (mut items, _) = self.list_now(list, key, frame);
                items[index & 0xffff] = value.one();
                self.list_store(list, key, items, span, frame)?;
            }
            Target::VarAt(v, _) if matches!(self.b.model.vars[*v].shape, Shape::Lists(..)) => {
                let list = ListRef::VarAt(*v, Expr { kind: Ek::Const(0), ty: Ty::Int, span });
                self.list_store(&list, index, value.list(), span, frame)?;
            }
            Target::Var(v) if matches!(self.b.model.vars[*v].shape, Shape::List(_)) => {
                self.list_store(&ListRef::Var(*v), 0, value.list(), span, frame)?;
            }
            Target::Var(v) if matches!(self.b.model.vars[*v].shape, Shape::Lists(..)) => {
                // Another variable of the same keys: list by list, since bounds may differ.
                let values = value.block();
                let keys = self.b.slots[*v].len / (self.b.slots[*v].cap + 1);
                let each = values.len() / keys.max(1);
                for key in 0..keys {
                    let part = &values[key * each..(key + 1) * each];
                    let items = part[1..=part[0] as usize].iter().map(|&x| x.into()).collect();
                    let list = ListRef::VarAt(*v, Expr { kind: Ek::Const(0), ty: Ty::Int, span });
                    self.list_store(&list, key, items, span, frame)?;
                }
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
                    V::List(..) => unreachable!("lists were stored above"),
                }
            }
        }
        Ok(())
    }

    fn store(&mut self, slot: &crate::bind::Slot, index: usize, value: i64, span: Span) -> Run<()> {
        if !slot.holds(value) {
            return Err(RunFault { kind: FaultKind::OutOfDomain, span, value });
        }
        self.settle(slot.base + index);
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
                if d > 3 {
                    return Err(RunFault { kind: FaultKind::OutOfDomain, span: dir.span, value: d });
                }
                self.side_lanes(d)
            }
            Range::Lane(lane) => {
                let lane = self.one(lane, frame)?;
                self.lane_cells(lane)
            }
            Range::List(list) => self.eval(list, frame)?.list(),
            Range::Offsets(offsets) => {
                let mut out = vec![];
                for o in offsets {
                    out.push(self.one(o, frame)?);
                }
                out
            }
            Range::Covered(p) => {
                let Ty::Placed(s) = p.ty else { return Ok(vec![]) };
                let p = self.one(p, frame)?;
                self.b.covered(s, p).into_iter().map(|(r, c)| code::place(r, c)).collect()
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
                if let Some(unknown) = &mut self.unknown
                    && self.b.model.vars[*v].hidden
                {
                    match self.b.model.vars[*v].shape {
                        Shape::One => return Ok(V::One(self.element(*when, *v, 0))),
                        // Read as a whole: not followed cell by cell.
                        _ => unknown.whole = true,
                    }
                }
                if self.open.is_some() && *when != When::Start {
                    self.settle_all(*v);
                }
                let def = &self.b.model.vars[*v];
                let slot = &self.b.slots[*v];
                let region = match (def.state, when) {
                    (false, _) => &self.b.data,
                    (true, When::Now) => &self.now,
                    (true, When::Before) => &self.before,
                    (true, When::Start) => &self.b.start,
                };
                let values = &region[slot.base..slot.base + slot.len];
                if let Shape::List(_) = def.shape {
                    let items = values[1..=values[0] as usize].iter().map(|&x| x.into()).collect();
                    return Ok(V::List(items, slot.cap as i64));
                }
                if def.shape != Shape::One {
                    return Ok(V::Block(values.to_vec()));
                }
                values[0].into()
            }
            Ek::Index(block, index) if matches!(block.ty, Ty::Lists(..)) => {
                let i = self.one(index, frame)? as usize;
                let Ek::Var(_, v) = &block.kind else { unreachable!("lists by key are variables") };
                let cap = self.b.slots[*v].cap;
                let all = self.eval(block, frame)?.block();
                let part = &all[i * (cap + 1)..];
                let items = part[1..=part[0] as usize].iter().map(|&x| x.into()).collect();
                return Ok(V::List(items, cap as i64));
            }
            Ek::Index(block, index) => {
                let i = self.one(index, frame)?;
                match &block.kind {
                    Ek::Var(when, v) => self.element(*when, *v, i as usize),
                    _ => self.eval(block, frame)?.block()[i as usize].into(),
                }
            }
            Ek::IndexOutside(block, place, outside) => {
                let p = self.one(place, frame)?;
                match self.cell_of(p) {
                    Some(c) => match &block.kind {
                        Ek::Var(when, v) => self.element(*when, *v, c as usize),
                        _ => self.eval(block, frame)?.block()[c as usize].into(),
                    },
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
            Ek::Cmp(op @ (Cmp::Eq | Cmp::Ne), a, b) if self.open.is_some() => {
                let same = self.asks_same(a, b, frame)?;
                i64::from(same == (*op == Cmp::Eq))
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
            Ek::SameBlock(a, b, negate) if self.open.is_some() => {
                let same = self.asks_same_block(a, b, frame)?;
                i64::from(same != *negate)
            }
            Ek::SameBlock(a, b, negate) => {
                let same = match (self.eval(a, frame)?, self.eval(b, frame)?) {
                    (V::List(a, _), V::List(b, _)) => a == b,
                    (a, b) => a == b,
                };
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
            Ek::Within(a, dom) if matches!(a.ty, Ty::List(..)) => {
                let list = self.eval(a, frame)?;
                for v in list.clone().list() {
                    self.in_domain(dom, v, span)?;
                }
                return Ok(list);
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
            Ek::Entry(list, index) => {
                let i = self.one(index, frame)?;
                let items = self.eval(list, frame)?.list();
                if i < 1 || i > items.len() as i64 {
                    return Self::fault(FaultKind::NoEntry, span, i);
                }
                items[i as usize - 1]
            }
            Ek::End(list, last) => {
                let items = self.eval(list, frame)?.list();
                let end = if *last { items.last() } else { items.first() };
                match end {
                    Some(v) => *v,
                    None => return Self::fault(FaultKind::ListEmpty, span, 0),
                }
            }
            Ek::InList(value, list) => {
                let v = self.one(value, frame)?;
                i64::from(self.eval(list, frame)?.list().contains(&v))
            }
            Ek::MakeRecord(r, parts) => {
                let slots = self.b.records[*r].clone();
                let mut code = 0;
                for (part, slot) in parts.iter().zip(slots) {
                    code += (self.one(part, frame)? - slot.lo) * slot.stride;
                }
                code
            }
            Ek::Part(record, r, i) => {
                let slot = self.b.records[*r][*i];
                slot.lo + self.one(record, frame)? / slot.stride % slot.count
            }
            Ek::Given(a) => {
                let v = self.one(a, frame)?;
                if v == NONE {
                    return Self::fault(FaultKind::NoneGiven, span, 0);
                }
                v
            }
            Ek::MoveShape(p, o, minus) => {
                let Ty::Placed(s) = p.ty else { return Self::fault(FaultKind::TooFarAway, span, 0) };
                let (p, o) = (self.one(p, frame)?, self.one(o, frame)?);
                let (r, c) = code::offset_parts(o);
                let (all, row, col) = self.b.shape_parts(s, p);
                let sign = if *minus { -1 } else { 1 };
                match self.b.shape_code(s, all, row + sign * r, col + sign * c) {
                    Some(v) => v,
                    None => return Self::fault(FaultKind::TooFarAway, span, 0),
                }
            }
            Ek::Can(of) => i64::from(!self.tried(of.as_ref(), frame)?.is_empty()),
            Ek::Leads(every, of, cond) => {
                let outcomes = self.tried(of.as_ref(), frame)?;
                let (now, before) = (self.now.clone(), self.before.clone());
                let mut holds = *every && !outcomes.is_empty();
                for state in outcomes {
                    self.now = state;
                    self.before = self.now.clone();
                    if (self.one(cond, frame)? != 0) != *every {
                        holds = !*every;
                        break;
                    }
                }
                (self.now, self.before) = (now, before);
                i64::from(holds)
            }
            Ek::Asked(asked) => match self.oracle {
                Some(oracle) => oracle(&self.now, *asked),
                None => {
                    self.lose_sight();
                    0
                }
            },
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

    /// One value of a variable.
    fn element(&mut self, when: When, v: usize, at: usize) -> i64 {
        let def = &self.b.model.vars[v];
        let at = self.b.slots[v].base + at;
        if def.hidden && self.unknown.is_some() {
            return self.guessed(v, at);
        }
        if def.state && when != When::Start {
            self.settle(at);
        }
        let region = match (def.state, when) {
            (false, _) => &self.b.data,
            (true, When::Now) => &self.now,
            (true, When::Before) => &self.before,
            (true, When::Start) => &self.b.start,
        };
        region[at].into()
    }

    /// A hidden value that nobody knows: each in turn, as if it were drawn.
    fn guessed(&mut self, v: usize, at: usize) -> i64 {
        let slot = &self.b.slots[v];
        let Some(unknown) = &mut self.unknown else { return self.now[at].into() };
        if let Some((_, value)) = unknown.seen.iter().find(|(x, _)| *x == at) {
            return (*value).into();
        }
        let values: Vec<i32> = match unknown.known.get(&at) {
            Some(&known) => vec![known],
            None => (slot.lo as i32..=slot.hi as i32).collect(),
        };
        let pick = self.chooser.one_of(values.len());
        unknown.seen.push((at, values[pick]));
        values[pick].into()
    }

    // ---- open states ----

    fn lose_sight(&mut self) {
        if let Some(open) = &mut self.open {
            open.lost = true;
        }
    }

    /// The values that a place of an open state can still hold.
    fn left_for(&self, open: &OpenState, at: usize) -> Vec<i32> {
        let v = open.var_of[at];
        let (def, slot) = (&self.b.model.vars[v], &self.b.slots[v]);
        let allowed = |x: i32| !open.not.contains(&(at, x));
        if def.rearranged.is_some() {
            let part = slot.base..slot.base + slot.len;
            let mut left = self.b.start[part.clone()].to_vec();
            for (_, x) in open.seen.iter().filter(|(p, _)| part.contains(p)) {
                if let Some(i) = left.iter().position(|l| l == x) {
                    left.swap_remove(i);
                }
            }
            left.sort_unstable();
            left.dedup();
            left.retain(|x| allowed(*x));
            return left;
        }
        if !slot.active {
            return vec![slot.pad() as i32];
        }
        let none = slot.maybe.then_some(NONE as i32);
        none.into_iter().chain(slot.lo as i32..=slot.hi as i32).filter(|x| allowed(*x)).collect()
    }

    /// Whether a rearranged grid has a value elsewhere, as often as it holds it.
    fn is_placed(&self, open: &OpenState, at: usize, value: i64) -> bool {
        let v = open.var_of[at];
        if self.b.model.vars[v].rearranged.is_none() {
            return false;
        }
        let slot = &self.b.slots[v];
        let part = slot.base..slot.base + slot.len;
        let placed = open.seen.iter().filter(|(p, x)| part.contains(p) && i64::from(*x) == value).count();
        placed == self.b.start[part].iter().filter(|x| i64::from(**x) == value).count()
    }

    /// Whether a rearranged grid has no more room for a value than it still has to hold it.
    fn must_be_here(&self, open: &OpenState, at: usize, value: i32) -> bool {
        let v = open.var_of[at];
        if self.b.model.vars[v].rearranged.is_none() {
            return false;
        }
        let slot = &self.b.slots[v];
        let part = slot.base..slot.base + slot.len;
        let all = self.b.start[part.clone()].iter().filter(|x| **x == value).count();
        let placed = open.seen.iter().filter(|(p, x)| part.contains(p) && *x == value).count();
        let room = part.filter(|p| !open.settled[*p] && !open.not.contains(&(*p, value))).count();
        room + placed == all
    }

    fn settle_as(&mut self, at: usize, value: i32) {
        let Some(open) = &mut self.open else { return };
        open.settled[at] = true;
        open.seen.push((at, value));
        self.now[at] = value;
        self.before[at] = value;
    }

    /// Settles a place of an open state, if it is not settled yet.
    fn settle(&mut self, at: usize) {
        let Some(open) = &self.open else { return };
        if open.settled[at] {
            return;
        }
        let values = self.left_for(open, at);
        let value = match values.len() {
            0 => {
                let least = self.b.slots[open.var_of[at]].lo as i32;
                if let Some(open) = &mut self.open {
                    open.none_left = true;
                }
                least
            }
            1 => values[0],
            n => values[self.chooser.one_of(n)],
        };
        self.settle_as(at, value);
    }

    fn settle_all(&mut self, v: usize) {
        if self.open.is_none() || !self.b.model.vars[v].state {
            return;
        }
        if matches!(self.b.model.vars[v].shape, Shape::List(_) | Shape::Lists(..)) {
            self.lose_sight();
        }
        let slot = &self.b.slots[v];
        for at in slot.base..slot.base + slot.len {
            self.settle(at);
        }
    }

    /// Where the one value of an open state stands that an expression reads, if it is that plain and not settled.
    fn open_place(&mut self, e: &Expr, frame: &mut [V]) -> Run<Option<usize>> {
        let (v, i) = match &e.kind {
            Ek::Var(When::Now | When::Before, v) if self.b.model.vars[*v].shape == Shape::One => (*v, 0),
            Ek::Index(block, index) if !matches!(block.ty, Ty::Lists(..)) => match &block.kind {
                Ek::Var(When::Now | When::Before, v) => (*v, self.one(index, frame)? as usize),
                _ => return Ok(None),
            },
            _ => return Ok(None),
        };
        let at = self.b.slots[v].base + i;
        Ok(self.open.as_ref().is_some_and(|o| self.b.model.vars[v].state && !o.settled[at]).then_some(at))
    }

    /// Whether an unsettled place holds a value: one way if it must or cannot, else two.
    fn asks_if(&mut self, at: usize, value: i64) -> bool {
        let Some(open) = &self.open else { return false };
        if self.is_placed(open, at, value) {
            return false;
        }
        let left = self.left_for(open, at);
        let Some(&value) = left.iter().find(|x| i64::from(**x) == value) else { return false };
        let yes = left.len() == 1 || self.must_be_here(open, at, value) || self.chooser.one_of(2) == 0;
        if yes {
            self.settle_as(at, value);
        } else if let Some(open) = &mut self.open {
            open.not.push((at, value));
        }
        yes
    }

    fn asks_same(&mut self, a: &Expr, b: &Expr, frame: &mut [V]) -> Run<bool> {
        for (x, y) in [(a, b), (b, a)] {
            if let Some(at) = self.open_place(x, frame)? {
                let value = self.one(y, frame)?;
                // The other side may have settled it.
                if self.open.as_ref().is_some_and(|o| !o.settled[at]) {
                    return Ok(self.asks_if(at, value));
                }
            }
        }
        Ok(self.one(a, frame)? == self.one(b, frame)?)
    }

    fn asks_same_block(&mut self, a: &Expr, b: &Expr, frame: &mut [V]) -> Run<bool> {
        for (x, y) in [(a, b), (b, a)] {
            let Ek::Var(When::Now | When::Before, v) = x.kind else { continue };
            let list = matches!(self.b.model.vars[v].shape, Shape::List(_) | Shape::Lists(..));
            if !self.b.model.vars[v].state || list {
                continue;
            }
            let V::Block(values) = self.eval(y, frame)? else { continue };
            let slot = self.b.slots[v].clone();
            for (i, value) in values.into_iter().enumerate() {
                let at = slot.base + i;
                let same = match self.open.as_ref().is_some_and(|o| o.settled[at]) {
                    true => self.now[at] == value,
                    false => self.asks_if(at, value.into()),
                };
                if !same {
                    return Ok(false);
                }
            }
            return Ok(true);
        }
        Ok(match (self.eval(a, frame)?, self.eval(b, frame)?) {
            (V::List(a, _), V::List(b, _)) => a == b,
            (a, b) => a == b,
        })
    }

    fn open_up(&mut self, take: &[usize]) {
        let mut var_of = vec![0; self.b.start.len()];
        for (v, slot) in self.b.slots.iter().enumerate().filter(|(v, _)| self.b.model.vars[*v].state) {
            var_of[slot.base..slot.base + slot.len].fill(v);
        }
        let settled = vec![false; self.b.start.len()];
        self.open = Some(Box::new(OpenState { settled, var_of, ..OpenState::default() }));
        self.chooser = Chooser::Script { take: take.to_vec(), seen: vec![] };
        self.fuel = STEP_BUDGET;
    }

    /// Makes a move in an open state, in every way that the types and the draws allow. Ways that are refused or break the
    /// model are none. `each` says whether to go on. False when it did not, or when something was read that is not
    /// followed: then the ways are not all.
    pub(crate) fn open_ways(
        &mut self,
        of: usize,
        params: &[i64],
        each: &mut dyn FnMut(Option<OpenWay<'_>>) -> bool,
    ) -> bool {
        let start = self.b.start.clone();
        let mut take = vec![];
        loop {
            self.open_up(&take);
            let done = self.apply_once(&start, of, params);
            let Some(open) = self.open.take() else { return false };
            if open.lost {
                return false;
            }
            let go_on = match done {
                Ok(Outcome::Done(made)) if !open.none_left && !made[0].cut => {
                    each(Some(OpenWay { seen: &open.seen, after: &made[0].state }))
                }
                _ => each(None),
            };
            let Chooser::Script { seen, .. } = &self.chooser else { return false };
            if !go_on {
                return false;
            }
            if !next_way(&mut take, seen) {
                return true;
            }
        }
    }

    /// The value of an expression in an open state, in every way: what was read, and the value. `None` when there are
    /// more than `most` ways, or something is read that is not followed.
    pub(crate) fn open_values(&mut self, e: &Expr, frame: &[i64], most: usize) -> Option<Vec<OpenValue>> {
        let mut out = vec![];
        let mut take = vec![];
        loop {
            self.open_up(&take);
            self.now = self.b.start.clone();
            self.before = self.now.clone();
            let mut frame: Vec<V> = frame.iter().map(|v| V::One(*v)).collect();
            let value = self.one(e, &mut frame);
            let open = self.open.take()?;
            if open.lost || out.len() >= most {
                return None;
            }
            if !open.none_left {
                // A fault is no value: nothing can be said.
                out.push((open.seen, value.ok()?));
            }
            let Chooser::Script { seen, .. } = &self.chooser else { return None };
            if !next_way(&mut take, seen) {
                return Some(out);
            }
        }
    }

    /// Runs the part of a move that can lose the game, in every way that hidden values it reads can be. `body`
    /// is that part; `after` what follows it. Empty when the move is not allowed. `None` when there are more than `most` ways, or hidden values are
    /// read in a way that is not followed.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub(crate) fn ways_to_lose(
        &mut self,
        state: &[i32],
        (of, params): (usize, &[i64]),
        (body, after, status): (&[Stmt], &[&ProcDef], bool),
        known: &HashMap<usize, i32>,
        most: usize,
    ) -> Run<Option<Vec<LosingWay>>> {
        let model = self.b.model.clone();
        let def = &model.moves[of];
        let lost = |e: usize| model.endings[e].kind == EndKind::Lost;
        let mut out = vec![];
        let mut take: Vec<usize> = vec![];
        loop {
            self.chooser = Chooser::Script { take: take.clone(), seen: vec![] };
            self.unknown = Some(Unknown { known: known.clone(), seen: vec![], whole: false });
            self.fuel = STEP_BUDGET;
            self.now = state.to_vec();
            let ended = self.b.ended_at();
            self.now[ended] = 0;
            self.before = self.now.clone();
            self.chance = Chance::SURE;
            let mut frame = vec![V::One(0); def.locals.len()];
            for (slot, &p) in frame.iter_mut().zip(params) {
                *slot = V::One(p);
            }
            for offer in &def.offers {
                if self.one(offer, &mut frame)? == 0 {
                    self.unknown = None;
                    return Ok(Some(vec![]));
                }
            }
            let mut flow = self.block(body, &mut frame)?;
            if matches!(flow, Flow::Refused(..)) {
                self.unknown = None;
                return Ok(Some(vec![]));
            }
            for block in after {
                if matches!(flow, Flow::Next) {
                    flow = self.lone_block(block)?;
                }
            }
            let mut is_lost = self.now[ended] != 0 && lost(self.now[ended] as usize - 1);
            if !is_lost && status && matches!(flow, Flow::Next) {
                is_lost = self.conditions()?.is_some_and(lost);
            }
            let Some(unknown) = self.unknown.take() else { return Ok(None) };
            if unknown.whole || out.len() >= most {
                return Ok(None);
            }
            out.push(LosingWay { reads: unknown.seen, lost: is_lost, chance: self.chance });
            let Chooser::Script { seen, .. } = &self.chooser else { return Ok(None) };
            if !next_way(&mut take, seen) {
                return Ok(Some(out));
            }
        }
    }

    /// The value of an expression whose local names hold these numbers.
    pub(crate) fn scalar_in(&mut self, e: &Expr, frame: &[i64]) -> Run<i64> {
        let mut frame: Vec<V> = frame.iter().map(|v| V::One(*v)).collect();
        self.one(e, &mut frame)
    }

    /// What a loop runs over, with these numbers in the local names.
    pub(crate) fn range_in(&mut self, over: &Range, frame: &[i64]) -> Run<Vec<i64>> {
        let mut frame: Vec<V> = frame.iter().map(|v| V::One(*v)).collect();
        self.range(over, &mut frame)
    }

    /// Takes a state as the one that expressions are about.
    pub(crate) fn look_at(&mut self, state: &[i32]) {
        self.fuel = STEP_BUDGET;
        self.now = state.to_vec();
        self.before = state.to_vec();
    }

    /// The states that a move leads to from here; those of all moves without one. None where the
    /// game has ended.
    fn tried(&mut self, of: Option<&(usize, Vec<Expr>)>, frame: &mut [V]) -> Run<Vec<Vec<i32>>> {
        let moves = match of {
            Some((m, args)) => {
                let mut params = vec![];
                for a in args {
                    params.push(self.one(a, frame)?);
                }
                vec![(*m, params)]
            }
            None => crate::lower::move_list(self.b).unwrap_or_default(),
        };
        self.lose_sight();
        let mut inner = Eval::new(self.b);
        inner.now = self.now.clone();
        let mut out = vec![];
        // Laws are looked at elsewhere: a start that is still being drawn may break them.
        if self.now[self.b.ended_at()] != 0 || inner.conditions()?.is_some() {
            return Ok(out);
        }
        for (m, params) in moves {
            if let Outcome::Done(made) = inner.apply(&self.now, m, &params)? {
                out.extend(made.into_iter().map(|m| m.state));
            }
        }
        Ok(out)
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
            Builtin::ListLen => self.eval(&args[0], frame)?.list().len() as i64,
            Builtin::LaneStart => {
                let (first, _, _) = code::lane_parts(self.one(&args[0], frame)?);
                self.place_of(first)
            }
            Builtin::TurnShape | Builtin::Anchor | Builtin::KindOf | Builtin::TurnOf => {
                let Ty::Placed(s) = args[0].ty else { return Self::fault(FaultKind::TooFarAway, span, 0) };
                let p = self.one(&args[0], frame)?;
                let (all, row, col) = self.b.shape_parts(s, p);
                let def = &self.b.model.shapes[s];
                let (shape, turn) = def.all[all as usize];
                match op {
                    Builtin::Anchor => code::place(row, col),
                    Builtin::KindOf => shape as i64,
                    Builtin::TurnOf => turn as i64,
                    _ => {
                        let (first, turns) = (def.firsts[shape], def.shapes[shape].turns.len() as i64);
                        let by = self.one(&args[1], frame)?;
                        let turn = (turn as i64 + by).rem_euclid(turns);
                        self.b.shape_code(s, first as i64 + turn, row, col).unwrap_or(p)
                    }
                }
            }
            Builtin::Placed(s) => {
                let kind = self.one(&args[0], frame)?;
                let (row, col) = code::row_col(self.one(&args[1], frame)?);
                let first = self.b.model.shapes[s].firsts[kind as usize] as i64;
                match self.b.shape_code(s, first, row, col) {
                    Some(v) => v,
                    None => return Self::fault(FaultKind::TooFarAway, span, 0),
                }
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
        let mut items = vec![];
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
                QuantKind::List => {
                    if items.len() as i64 == KEPT_MAX {
                        return Self::fault(FaultKind::ListFull, span, KEPT_MAX);
                    }
                    let v = body.unwrap_or(x);
                    if i32::try_from(v).is_err() {
                        return Self::fault(FaultKind::OutOfDomain, span, v);
                    }
                    items.push(v);
                }
            }
        }
        Ok(match q.kind {
            QuantKind::Count | QuantKind::Sum => V::One(total),
            QuantKind::All => V::One(1),
            QuantKind::Any => V::One(0),
            QuantKind::Set => V::Block(set),
            QuantKind::List => {
                let n = items.len() as i64;
                V::List(items, n)
            }
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
