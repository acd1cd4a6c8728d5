//! The reference executor: walks the checked tree, plainly and slowly.
//!
//! It shares nothing with the fast executor beyond the tree and the codes of directions and
//! places. It replays solutions, plays traces, runs examples, and decides in tests whether the
//! fast one is right.

mod builtins;
mod draws;
mod expressions;
mod faults;
mod lists;
pub mod marks;
pub mod moves;
mod open;
pub mod scatter;
pub mod setup;
mod statements;
pub mod ways;

pub use draws::next_way;
use draws::*;
pub use faults::{FaultKind, RunFault};
use marks::{Mark, Way};
pub use moves::{MOVES_MAX, TooLarge, move_list};
use open::*;
pub(crate) use open::{Followed, OpenValue};

use crate::model::*;
use crate::source::Span;
use crate::state::Bound;
use crate::state::chance::Chance;
use crate::syntax::tree::{HowMany, QuantKind};
use std::collections::HashMap;
use std::fmt;

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

/// Loop steps between two looks at whether to stop.
const STOP_STRIDE: i64 = 1 << 13;
/// Most ways through one move that this executor tries.
const SCRIPTS_MAX: usize = 1 << 16;

crate::model::frames!(V);

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
    /// A start that is dropped by the `require` that stands here.
    Dropped(Span),
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
    /// The ways that its statements went, where somebody wants to know; in order, repeated ones too.
    pub marks: Vec<Mark>,
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

/// Which values of the state something was worked out from.
#[derive(Clone, Debug, Default)]
pub(crate) struct Noted {
    /// Places in the state.
    pub(crate) places: Vec<u32>,
    /// More than can be told by places.
    pub(crate) everything: bool,
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
    /// Parts of expressions that were evaluated: what a way through a move costs.
    evaluated: u64,
    chance: Chance,
    chooser: Chooser<'b>,
    oracle: Option<Oracle<'b>>,
    unknown: Option<Unknown>,
    open: Option<Box<OpenState>>,
    /// What was read, where somebody wants to know.
    noted: Option<Noted>,
    /// The ways that statements went, where somebody wants to know.
    marks: Option<Vec<Mark>>,
    /// What a setup starts from, instead of the level's own start.
    base: Option<Vec<i32>>,
    /// The values of functions without parameters, by the number of the function, while one state is looked at again and again.
    kept: Option<Vec<Option<V>>>,
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
            evaluated: 0,
            chance: Chance::SURE,
            chooser: Chooser::Script { take: vec![], seen: vec![] },
            oracle: None,
            unknown: None,
            open: None,
            noted: None,
            marks: None,
            base: None,
            kept: None,
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

    /// The same, noting the ways that statements go.
    #[must_use]
    pub fn marking(b: &'b Bound) -> Eval<'b> {
        Eval { marks: Some(vec![]), ..Eval::new(b) }
    }

    /// The ways that statements went in the last move, where it was refused.
    pub fn take_marks(&mut self) -> Vec<Mark> {
        self.marks.as_mut().map(std::mem::take).unwrap_or_default()
    }

    pub(super) fn mark(&mut self, span: Span, way: Way) {
        if let Some(marks) = &mut self.marks {
            marks.push(Mark { span, way });
        }
    }

    /// What follows from a state and is shown, in the order of the model: one value, or one for each cell; nothing for what breaks.
    pub fn derived(&mut self, state: &[i32]) -> Vec<Vec<i32>> {
        let model = self.b.model.clone();
        let mut out = vec![];
        for (_, number) in &model.derived {
            self.look_at(state);
            let def = &model.fns[*number];
            let mut frame = vec![V::One(0); def.locals.len()];
            out.push(match self.eval(&def.body, &mut frame) {
                Ok(V::One(v)) => vec![v as i32],
                Ok(V::Block(values)) => values,
                Ok(V::List(values, _)) => values.iter().map(|v| *v as i32).collect(),
                Err(_) => vec![],
            });
        }
        out
    }

    /// The value of an expression that reads level values only.
    pub(crate) fn lone(&mut self, e: &Expr) -> Run<i64> {
        let mut frame = vec![V::One(0); e.own_names()];
        self.one(e, &mut frame)
    }

    /// What a move counts in the state that is looked at, before it is made.
    pub(crate) fn counts(&mut self, of: usize, params: &[i64]) -> Run<u32> {
        let model = self.b.model.clone();
        let cost = match model.count_of(of) {
            Ok(cost) => cost,
            Err(known) => return Ok(known),
        };
        let mut frame = vec![V::One(0); cost.count.locals.len()];
        for (slot, &p) in frame.iter_mut().zip(params) {
            *slot = V::One(p);
        }
        let value = self.one(&cost.count.expr, &mut frame)?;
        if !(0..=COUNT_MAX).contains(&value) {
            return Err(RunFault { kind: FaultKind::BadCount, span: cost.span, value });
        }
        Ok(value as u32)
    }

    /// What a move counts in a state before it is made.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn counts_in(&mut self, state: &[i32], (of, params): (usize, &[i64])) -> Run<u32> {
        self.look_at(state);
        self.counts(of, params)
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

    /// Whether a condition about a cell, its first local name, holds in the state that is looked at; not where it breaks.
    pub(crate) fn holds_at(&mut self, body: &Body, cell: i64) -> bool {
        self.fuel = STEP_BUDGET;
        let mut frame = vec![V::One(0); body.locals.len()];
        frame[0] = V::One(cell);
        self.one(&body.expr, &mut frame).is_ok_and(|v| v != 0)
    }

    /// The cells of a set in the state that is looked at.
    pub(crate) fn set_of(&mut self, body: &Body) -> Run<Vec<bool>> {
        self.fuel = STEP_BUDGET;
        let mut frame = vec![V::One(0); body.locals.len()];
        let set = self.eval(&body.expr, &mut frame)?;
        Ok(set.block().iter().map(|v| *v != 0).collect())
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
        self.look_at(state);
        let model = self.b.model.clone();
        let mut out = vec![];
        for tell in &model.tells {
            let elements = self.tell_elements(tell);
            let values: Run<Vec<_>> = elements.into_iter().map(|x| self.tells(tell, x)).collect();
            out.push(values?);
        }
        Ok(out)
    }

    /// What one element of a `tell` says in the state that is looked at.
    pub(crate) fn tells(&mut self, tell: &TellDef, element: i64) -> Run<Option<i64>> {
        self.fuel = STEP_BUDGET;
        let mut frame = vec![V::One(0); tell.locals.len()];
        if let Some((local, _)) = &tell.over {
            frame[*local] = V::One(element);
        }
        if let Some(f) = &tell.filter
            && self.one(f, &mut frame)? == 0
        {
            return Ok(None);
        }
        Ok(Some(self.one(&tell.value, &mut frame)?))
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
            open.pinned[ended] = true;
        }
        self.score = 0;
        self.tallies = vec![0; model.tallies.len()];
        self.events.clear();
        self.take_marks();
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
                self.pin(at);
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
            marks: self.take_marks(),
        }]))
    }

    fn lone_block(&mut self, def: &ProcDef) -> Run<Flow> {
        let mut frame = vec![V::One(0); def.locals.len()];
        self.block(&def.body, &mut frame)
    }

    fn check_rearranged(&self) -> Run<()> {
        for (v, var) in self.b.model.variables().filter(|(_, d)| d.rearranged.is_some()) {
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
        for (i, spread) in self.b.model.spreads.iter().enumerate() {
            if !self.b.is_spread(i, &self.now) {
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
            Flow::Dropped(at) => Ok(Drawn::Dropped(at, self.chance)),
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
        let span = self.b.model.setup.as_ref().map_or(Span::default(), |s| s.span);
        loop {
            self.go_on(span)?;
            self.chooser = Chooser::Script { take: take.clone(), seen: vec![] };
            match self.set_up() {
                Ok(drawn) => out.push(drawn),
                // Chances that do not fit 128 bits stand for more ways than are ever enumerated.
                Err(fault) if fault.kind == FaultKind::TooFine => return Ok(None),
                Err(fault) => return Err(fault),
            }
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
        self.now.clear();
        self.now.extend_from_slice(state);
        self.before.clone_from(&self.now);
    }

    /// The same for many looks at one state: what depends on the state alone is found once. What is looked at so are rules, which never ask what a move
    /// would lead to: that is for questions.
    pub(crate) fn look_often_at(&mut self, state: &[i32]) {
        self.look_at(state);
        self.kept = Some(vec![None; self.b.model.fns.len()]);
    }

    /// Notes what is read from now on.
    pub(crate) fn note(&mut self) {
        self.fuel = STEP_BUDGET;
        self.noted = Some(Noted::default());
    }

    /// What was read since [`Eval::note`], each place once.
    pub(crate) fn noted(&mut self) -> Noted {
        let mut noted = self.noted.take().unwrap_or_default();
        noted.places.sort_unstable();
        noted.places.dedup();
        noted
    }

    /// One value of a variable was read, or all of them.
    fn was_read(&mut self, v: VarId, at: Option<usize>) {
        let Some(noted) = &mut self.noted else { return };
        if self.b.model.vars[v].state {
            let slot = &self.b.slots[v];
            let part = at.map_or(slot.base..slot.base + slot.len, |at| at..at + 1);
            noted.places.extend(part.map(|p| p as u32));
        }
    }
}
