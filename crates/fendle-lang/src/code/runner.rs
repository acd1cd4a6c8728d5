//! A game as the search asks it: what the rules say of packed states, by whichever executor runs them.

use fendle_core::numbers::{gcd, gcd64, lcm};
use fendle_core::{Expansion, Fault, Head, Limit, MoveId, Odds, Place, Refusal, Status, Targets, Worker};

use super::game::Game;
use super::ir::{CountOf, Positions};
use super::machine::{BEFORE_DRAW, Break, Halt, LeapsMade, Machine, Outcome, Outcomes, Successors};
use super::numbered::Numbered;
use crate::model::{COUNT_MAX, EndKind, VarDef, code};
use crate::run::Eval;
use crate::state::Bound;

/// Moves that are tried in the time that a state takes beside them.
const MOVES_AS_A_STATE: u64 = 64;

/// Plays the rules of a game for the search, on one thread.
pub(super) struct Runner<'g> {
    game: &'g Game,
    machine: Machine<'g>,
    /// How states are numbered, where they are given by number.
    numbered: Option<&'g Numbered>,
    /// Values of a state that is looked at from behind.
    values: Vec<i32>,
    /// For each ending whether it is won.
    goals: Vec<bool>,
    successors: Successors,
    leaps: LeapsMade,
    /// The state that moves are tried on, packed, as running.
    source: Vec<u64>,
    words: Vec<u64>,
    watched: Vec<i64>,
    outcomes: Outcomes,
    weights: Vec<(u64, i64)>,
    /// Looks at outcomes of chance while the first one stays at the state that is expanded.
    other: Option<Machine<'g>>,
    clocks: Clocks,
}

/// How two states are compared but for their clocks.
enum Clocks {
    /// There are none: by their words.
    None,
    /// By their packed words, but for these bits.
    Bits(Vec<u64>),
    /// By their values: a number does not show them.
    ByValue,
}

impl Clocks {
    /// Those of a game, in states that are packed or are numbers.
    fn of(game: &Game, numbered: bool) -> Clocks {
        let vars = game.bound.model.vars.iter().zip(&game.bound.slots);
        let mut slots = vars.filter(|(def, _)| def.clock).map(|(_, slot)| slot.base).peekable();
        if slots.peek().is_none() {
            return Clocks::None;
        }
        let bits = if numbered { None } else { game.bound.codec.bits_of(slots) };
        bits.map_or(Clocks::ByValue, Clocks::Bits)
    }
}

/// Whole weights for outcomes, and mean scores times weight. `None` when they do not fit.
fn weigh(parts: &[Outcome], out: &mut Vec<(u64, i64)>) -> Option<()> {
    if weigh_small(parts, out).is_some() {
        return Some(());
    }
    out.clear();
    let mut den = 1u128;
    for p in parts {
        den = lcm(den, p.chance.den)?;
    }
    // So that every weight times its mean is whole.
    let mut scale = 1u128;
    for p in parts {
        let weight = p.chance.num.checked_mul(den / p.chance.den)?;
        let mean = p.score.den.unsigned_abs();
        scale = lcm(scale, mean / gcd(mean, weight.checked_mul(p.score.num.unsigned_abs())?).max(1))?;
    }
    for p in parts {
        let weight = p.chance.num.checked_mul(den / p.chance.den)?.checked_mul(scale)?;
        let score = i128::try_from(weight).ok()?.checked_mul(p.score.num)? / p.score.den;
        out.push((u64::try_from(weight).ok()?, i64::try_from(score).ok()?));
    }
    // As small as they can be.
    let g = out.iter().fold(0u128, |g, (w, s)| gcd(gcd(g, (*w).into()), s.unsigned_abs().into())).max(1);
    for (w, s) in out {
        *w = (u128::from(*w) / g) as u64;
        *s = (i128::from(*s) / g as i128) as i64;
    }
    Some(())
}

/// The same where all numbers are small, which is several times faster.
fn weigh_small(parts: &[Outcome], out: &mut Vec<(u64, i64)>) -> Option<()> {
    out.clear();
    // Mostly all chances have one denominator.
    let mut den = u64::try_from(parts.first()?.chance.den).ok()?;
    let mut last = (den, 1);
    for p in parts {
        let each = u64::try_from(p.chance.den).ok()?;
        if each != den && !den.is_multiple_of(each) {
            den = (den / gcd64(den, each)).checked_mul(each)?;
            last.0 = 0;
        }
    }
    let mut g = 0;
    for p in parts {
        if p.score.den != 1 {
            return None;
        }
        let each = p.chance.den as u64;
        if each != last.0 {
            last = (each, den / each);
        }
        let weight = u64::try_from(p.chance.num).ok()?.checked_mul(last.1)?;
        let score = i64::try_from(p.score.num).ok()?.checked_mul(i64::try_from(weight).ok()?)?;
        if g != 1 {
            g = gcd64(gcd64(g, weight), score.unsigned_abs());
        }
        out.push((weight, score));
    }
    if g > 1 {
        for (w, s) in out {
            *w /= g;
            *s /= g as i64;
        }
    }
    Some(())
}

/// Numbers in groups with the same `number / stride % len`, these in the order in which they are given: by counting. `None` when
/// there are too few of them.
fn in_groups(numbers: &[u64], (stride, len): (u64, u64)) -> Option<Vec<u64>> {
    let (stride, len) = (u32::try_from(stride).ok()?, u32::try_from(len).ok()?);
    if numbers.len() < 2 * len as usize {
        return None;
    }
    // Numbers that are grouped are below 2^31.
    let key = |n: u64| (n as u32 / stride % len) as usize;
    let mut at = vec![0u32; len as usize + 1];
    for n in numbers {
        at[key(*n) + 1] += 1;
    }
    for i in 1..at.len() {
        at[i] += at[i - 1];
    }
    let mut out = vec![0; numbers.len()];
    for n in numbers {
        let at = &mut at[key(*n)];
        out[*at as usize] = *n;
        *at += 1;
    }
    Some(out)
}

fn broken(b: Break, during: Option<MoveId>) -> Fault {
    Fault { site: b.site.0, value: b.value, during }
}

fn machine_of<'g>(game: &'g Game, numbered: Option<&'g Numbered>) -> Machine<'g> {
    let mut machine = match numbered {
        None => Machine::new(&game.bound, &game.code),
        Some(n) => Machine::numbered(&game.bound, &game.code, &n.keys),
    };
    machine.set_native(game.native.get());
    machine.set_numbers(numbered.and_then(|n| n.native.as_deref()));
    if numbered.is_none() {
        machine.set_packed(game.native.packed());
    }
    machine
}

impl<'g> Runner<'g> {
    /// For a game, by native code where that was made.
    pub(super) fn new(game: &'g Game) -> Runner<'g> {
        Runner::with(game, None)
    }

    /// For a game whose states are given by number.
    pub(super) fn by_number(game: &'g Game, numbered: &'g Numbered) -> Runner<'g> {
        Runner::with(game, Some(numbered))
    }

    fn with(game: &'g Game, numbered: Option<&'g Numbered>) -> Runner<'g> {
        let machine = machine_of(game, numbered);
        let words = machine.words();
        Runner {
            game,
            machine,
            numbered,
            values: vec![],
            goals: game.bound.model.endings.iter().map(|e| e.kind == EndKind::Goal).collect(),
            successors: Successors::default(),
            leaps: LeapsMade::default(),
            source: vec![0; words],
            words: vec![0; words],
            watched: vec![],
            outcomes: Outcomes::default(),
            weights: vec![],
            other: None,
            clocks: Clocks::of(game, numbered.is_some()),
        }
    }

    /// Counts states that will be expanded, one with many moves as several, and takes native code that was made meanwhile, or pays now.
    fn grow_native(&mut self, states: u64) {
        let Game { native, bound, code, .. } = self.game;
        let tried = 1 + code.moves.len() as u64 / MOVES_AS_A_STATE;
        if let Some(made) = native.after(states * tried, bound, code) {
            self.machine.set_native(Some(made));
            if self.numbered.is_none() {
                let whole = self.expands_natively();
                self.machine.set_packed(native.packed_when_it_pays(bound, code, whole));
            }
        }
    }

    /// Whether native code can expand whole states: that for numbers stops before draws, that for packed states does not know them nor
    /// canonical forms.
    fn expands_natively(&self) -> bool {
        let sure = self.game.code.points.is_empty();
        let can = match self.numbered {
            Some(_) => sure || self.machine.stops(),
            None => sure && self.game.bound.canon.is_none(),
        };
        can && !self.game.checked.contains(&true)
    }

    /// Whether native code expands whole packed states now.
    pub(super) fn expands_packed(&self) -> bool {
        self.machine.packed().is_some() && self.expands_natively()
    }

    /// Expands states by native code, if there is any, until one is met that it cannot: how many it did.
    fn expand_natively(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) -> usize {
        let past: &[bool] = if past_goals { &self.goals } else { &[] };
        let Runner { game, machine, successors, .. } = self;
        match self.numbered {
            Some(numbered) => match numbered.native.as_deref() {
                Some(native) => native.expand(machine, states, past, successors),
                None => return 0,
            },
            None => match machine.packed() {
                Some(native) => native.expand(machine, states, past, successors),
                None => return 0,
            },
        }
        take(successors, self.words.len(), |status| game.status_of(status), out);
        successors.heads.len()
    }

    /// Computes the quantities that are checked along the way.
    fn quantities(&mut self) -> Option<Fault> {
        self.watched.clear();
        for (checked, &(program, _, _)) in self.game.checked.iter().zip(&self.game.code.keeps) {
            if *checked {
                match self.machine.ask(program) {
                    Ok(v) => self.watched.push(v),
                    Err(b) => return Some(broken(b, None)),
                }
            }
        }
        None
    }

    fn changed_quantity(&mut self, of: MoveId) -> Option<Fault> {
        let mut i = 0;
        for (checked, &(_, program, site)) in self.game.checked.iter().zip(&self.game.code.keeps) {
            if *checked && i < self.watched.len() {
                match self.machine.ask_as_is(program) {
                    Ok(v) if v == self.watched[i] => {}
                    Ok(v) => return Some(Fault { site: site.0, value: v, during: Some(of) }),
                    Err(b) => return Some(broken(b, Some(of))),
                }
                i += 1;
            }
        }
        None
    }

    /// Packs the outcome that was drawn, and tells its score.
    fn sampled(
        &mut self,
        made: Result<Halt, Break>,
        of: Option<MoveId>,
        next: &mut Vec<u64>,
    ) -> Result<i64, Fault> {
        next.clear();
        next.resize(self.words.len(), 0);
        made.and_then(|_| self.machine.pack_whole(next)).map_err(|b| broken(b, of))?;
        Ok(self.machine.score)
    }

    /// The limit of the machine that a break stands for, if it is none of the model.
    fn limit_of(&self, b: Break) -> Option<Limit> {
        self.game.code.sites.get(b.site.0 as usize)?.kind.limit()
    }

    /// How moves are written down that stop before their first draw, as this runner gives them.
    fn positions(&self) -> Option<&'g Positions> {
        let bare = self.numbered.is_none_or(|n| n.continuations.is_some());
        self.game.positions().filter(|_| bare)
    }

    /// Writes down where the machine stopped before a draw, if that can be.
    fn stopped(&mut self, halt: Halt, of: MoveId, out: &mut Expansion) -> bool {
        let positions = self.positions().expect("a machine stops only where there are positions");
        let written = if self.numbered.is_some() {
            let number = self.machine.number_position(positions, halt, self.source[0]);
            out.positions.extend(number);
            number.is_some()
        } else {
            self.machine.write_position(positions, halt, &mut out.positions)
        };
        if written {
            out.end_before_draw(of, self.machine.score);
        }
        written
    }

    /// Notes a state that has no number, if one was met.
    fn note_stray(&mut self, out: &mut Expansion) {
        if self.numbered.is_some_and(|n| n.keys.is_narrow()) {
            out.strays.extend(self.machine.take_stray());
        }
    }

    /// Writes the outcomes of a move that paused at a draw. The inner error tells a limit from a fault.
    fn drawn(
        &mut self,
        of: MoveId,
        first: Halt,
        out: &mut Expansion,
    ) -> Result<Option<Fault>, Result<Limit, Fault>> {
        if let Err(b) = self.machine.all_outcomes(first, &self.source, &mut self.outcomes) {
            return Err(self.limit_of(b).ok_or(broken(b, Some(of))));
        }
        let parts = &self.outcomes.parts;
        if weigh(parts, &mut self.weights).is_none() {
            return Err(Ok(Limit::TooFine));
        }
        let mut fault = None;
        let states = self.outcomes.states.chunks_exact(self.words.len());
        for ((state, part), &(weight, score)) in states.zip(parts).zip(&self.weights) {
            if !self.watched.is_empty() && fault.is_none() {
                let machine = self.other.get_or_insert_with(|| machine_of(self.game, self.numbered));
                machine.load(state);
                if i64::from(machine.ended()) <= self.game.bound.model.endings.len() as i64 {
                    let mut i = 0;
                    for (checked, &(program, _, site)) in self.game.checked.iter().zip(&self.game.code.keeps)
                    {
                        if *checked {
                            match machine.ask(program) {
                                Ok(v) if self.watched.get(i).is_none_or(|w| *w == v) => {}
                                Ok(v) => fault = Some(Fault { site: site.0, value: v, during: Some(of) }),
                                Err(b) => fault = Some(broken(b, Some(of))),
                            }
                            i += 1;
                        }
                    }
                }
            }
            let odds = Odds { weight, score, least: part.score.least, most: part.score.most };
            out.outcome_with(state, odds);
        }
        out.end_move(of);
        Ok(fault)
    }

    /// Makes a move to see whether it leads to a state; both are numbers.
    fn leads_for_sure(&mut self, from: u64, of: MoveId, to: u64) -> bool {
        if let Some(native) = self.numbered.and_then(|n| n.native.as_deref()) {
            return native.lead(&mut self.machine, from, of.0) == Some(to);
        }
        self.machine.load(&[from]);
        let mut words = [from];
        let made = self.machine.try_move(of.0 as usize);
        made == Ok(Halt::Done) && self.machine.pack(&mut words).is_ok() && words == [to]
    }

    /// Gives the leaps that were made to the search.
    fn give_leaps(&mut self, out: &mut Targets) {
        std::mem::swap(&mut out.numbers, &mut self.leaps.numbers);
        out.heads.clear();
        out.heads.extend(self.leaps.heads.iter().map(|head| {
            let told = || (self.game.status_of(i64::from(head & 0xff)), head >> 8);
            (*head != LeapsMade::ASK).then(told)
        }));
    }

    /// The status of the loaded state.
    fn loaded_status(&mut self) -> Result<Status, Fault> {
        let code = &self.game.code;
        let ended = self.machine.ended();
        if ended != 0 && self.game.status_of(ended.into()) == Status::Cut {
            return Ok(Status::Cut);
        }
        if !code.law_sites.is_empty() {
            let law = self.machine.ask(code.laws).map_err(|b| broken(b, None))?;
            if law != 0 {
                let site = code.law_sites[law as usize - 1];
                return Err(Fault { site: site.0, value: 0, during: None });
            }
        }
        if ended != 0 {
            return Ok(self.game.status_of(ended.into()));
        }
        let given = self.machine.ask(code.status).map_err(|b| broken(b, None))?;
        Ok(self.game.status_of(given))
    }
}

impl Runner<'_> {
    /// What the model promises of the loaded state.
    fn loaded_promise(&mut self) -> Result<Option<f64>, Fault> {
        let Some((program, of)) = self.game.code.promise else { return Ok(None) };
        let mut ask = |p| self.machine.ask(p).map_err(|b| broken(b, None));
        let (e, of) = (ask(program)?, ask(of)?);
        Ok(Some(if of == 0 { 0.0 } else { e as f64 / of as f64 }))
    }
}

impl Worker for Runner<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        self.machine.load(state);
        self.loaded_status()
    }

    fn expand_to_draws(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        self.machine.stop_before_draws(self.positions().is_some());
        self.expand(states, past_goals, out);
        self.machine.stop_before_draws(false);
    }

    fn draw(&mut self, positions: &[u64], out: &mut Expansion) {
        let Some(form) = self.positions() else { return };
        self.watched.clear();
        let words = if self.numbered.is_some() { 1 } else { form.layout().words() };
        for position in positions.chunks_exact(words) {
            let entered = match self.numbered {
                Some(_) => self.machine.enter_numbered(form, position[0]),
                None => self.machine.enter_position(form, position),
            };
            let made = match entered {
                Ok(halt) => {
                    self.source.copy_from_slice(self.machine.entered());
                    self.drawn(MoveId(0), halt, out)
                }
                Err(b) => Err(self.limit_of(b).ok_or(broken(b, None))),
            };
            match made {
                Ok(fault) => out.end_state(Status::Running, fault),
                Err(Err(fault)) => out.end_state(Status::Running, Some(fault)),
                Err(Ok(limit)) => {
                    out.give_up(limit);
                    out.end_state(Status::Running, None);
                }
            }
            self.note_stray(out);
        }
    }

    fn limit_outcomes(&mut self, most: usize) {
        self.machine.limit_outcomes(most);
    }

    fn sample(
        &mut self,
        state: &[u64],
        of: MoveId,
        dice: &mut dyn FnMut(&[u64]) -> usize,
        next: &mut Vec<u64>,
    ) -> Result<i64, Fault> {
        self.grow_native(1);
        self.machine.load(state);
        self.machine.forget_ended();
        let made = self.machine.try_move(of.0 as usize).and_then(|first| match first {
            Halt::Paused(_) | Halt::Cut => self.machine.one_outcome(first, dice),
            made => Ok(made),
        });
        self.sampled(made, Some(of), next)
    }

    fn sample_draw(
        &mut self,
        position: &[u64],
        dice: &mut dyn FnMut(&[u64]) -> usize,
        next: &mut Vec<u64>,
    ) -> Result<i64, Fault> {
        let Some(form) = self.game.positions() else { return Ok(0) };
        let made = self.machine.enter_position(form, position);
        let made = made.and_then(|first| match first {
            Halt::Paused(_) | Halt::Cut => self.machine.one_outcome(first, dice),
            made => Ok(made),
        });
        self.sampled(made, None, next)
    }

    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        let len = (states.len() / self.words.len()) as u64;
        self.grow_native(len);
        let natively = self.expands_natively();
        let words = self.words.len();
        let mut left = states;
        while !left.is_empty() {
            if natively {
                let done = self.expand_natively(left, past_goals, out);
                left = &left[done * words..];
                if left.is_empty() {
                    return;
                }
            }
            let state;
            (state, left) = left.split_at(words);
            self.machine.load(state);
            let status = match self.loaded_status() {
                Ok(status) => status,
                Err(fault) => {
                    out.end_state(Status::Running, Some(fault));
                    continue;
                }
            };
            if status != Status::Running && !(past_goals && status == Status::Goal) {
                out.end_state(status, None);
                continue;
            }
            self.source.copy_from_slice(state);
            if self.machine.ended() != 0 {
                self.machine.forget_ended();
                self.machine.pack_loaded(&mut self.source);
            }
            let mut fault = self.quantities();
            let mut moves = self.game.code.tried.as_slice();
            while let Some((i, mut tried)) = self.machine.try_next(moves) {
                let of = MoveId(moves[i]);
                moves = &moves[i + 1..];
                if let Ok(halt) = tried
                    && self.machine.is_before_draw(halt)
                {
                    if self.stopped(halt, of, out) {
                        continue;
                    }
                    tried = self.machine.on_to_draw(halt);
                }
                let made = match tried {
                    Ok(Halt::Done) => {
                        self.words.copy_from_slice(&self.source);
                        self.machine.pack(&mut self.words).map(|()| true)
                    }
                    Ok(halt @ (Halt::Paused(_) | Halt::Cut)) => match self.drawn(of, halt, out) {
                        Ok(broken) => {
                            fault = fault.or(broken);
                            continue;
                        }
                        Err(Err(broken)) => {
                            fault = fault.or(Some(broken));
                            continue;
                        }
                        // Nothing more is asked of this state: it stays open.
                        Err(Ok(limit)) => {
                            out.give_up(limit);
                            break;
                        }
                    },
                    Ok(_) => Ok(false),
                    Err(b) => Err(b),
                };
                match made {
                    Ok(true) => {
                        fault = fault.or_else(|| self.changed_quantity(of));
                        if self.machine.score == 0 {
                            out.outcome(&self.words);
                        } else {
                            out.outcome_with(&self.words, Odds::scored(1, self.machine.score));
                        }
                        out.end_move(of);
                    }
                    Ok(false) => {}
                    Err(b) => fault = fault.or(Some(broken(b, Some(of)))),
                }
            }
            out.end_state(status, fault);
            self.note_stray(out);
        }
    }

    fn goes_back(&self) -> bool {
        self.numbered.is_some_and(|n| n.back.is_some())
    }

    fn sources(&mut self, state: u64, out: &mut Vec<(u64, MoveId)>) {
        let Some((numbered, back)) = self.numbered.and_then(|n| Some((n, n.back.as_ref()?))) else { return };
        if let Some(native) = &*numbered.native {
            native.sources(&mut self.machine, state, back, &mut self.values, out);
            return;
        }
        self.machine.load(&[state]);
        self.values.clear();
        self.values.extend_from_slice(self.machine.loaded());
        let machine = &mut self.machine;
        back.each(&self.values, |of, before| {
            out.extend(machine.with_changed(state, before).map(|from| (from, of)));
        });
    }

    fn leads(&mut self, from: u64, of: MoveId, to: u64) -> bool {
        let exact = self.numbered.and_then(|n| n.back.as_ref()).is_some_and(|b| b.exact);
        if exact {
            // What was found from behind reads nothing else.
            debug_assert!(self.leads_for_sure(from, of, to), "a way turned round leads elsewhere");
            return true;
        }
        self.leads_for_sure(from, of, to)
    }

    fn targets(&mut self, numbers: &[u64], past_goals: bool, out: &mut Targets) -> bool {
        let Some(native) = self.numbered.and_then(|n| n.native.as_deref()) else { return false };
        let past: &[bool] = if past_goals { &self.goals } else { &[] };
        let known = native.leap(&mut self.machine, numbers, past, &mut self.leaps);
        if known {
            self.give_leaps(out);
        }
        known
    }

    fn order_for_targets(&self, numbers: &mut Vec<u64>) {
        let groups = self.numbered.and_then(|n| n.native.as_deref()?.groups());
        if let Some(ordered) = groups.and_then(|g| in_groups(numbers, g)) {
            *numbers = ordered;
        }
    }

    fn origins(&mut self, numbers: &[u64], out: &mut Targets) -> bool {
        let Some(native) = self.numbered.and_then(|n| n.native.as_deref()) else { return false };
        let known = native.leap_back(numbers, &mut self.leaps);
        if known {
            self.give_leaps(out);
        }
        known
    }

    fn measure(&mut self, state: &[u64]) -> Result<i64, Fault> {
        self.machine.load(state);
        match self.game.code.aim {
            Some(program) => self.machine.ask(program).map_err(|b| broken(b, None)),
            None => Ok(0),
        }
    }

    fn status_and_promise(&mut self, state: &[u64]) -> Result<(Status, Option<f64>), Fault> {
        self.machine.load(state);
        let status = self.loaded_status()?;
        let promise = if status == Status::Running {
            self.loaded_promise().ok().map(|p| p.unwrap_or(0.0))
        } else {
            None
        };
        Ok((status, promise))
    }

    fn promise(&mut self, state: &[u64]) -> Result<Option<f64>, Fault> {
        self.machine.load(state);
        self.loaded_promise()
    }

    fn counts(&mut self, state: &[u64], of: MoveId) -> Result<u32, Fault> {
        match self.game.code.counts.get(of.0 as usize) {
            None => Ok(1),
            Some(CountOf::Known(n)) => Ok(*n),
            Some(&CountOf::Asked(program, site)) => {
                self.machine.load(state);
                let value = self.machine.ask(program).map_err(|b| broken(b, Some(of)))?;
                if (0..=COUNT_MAX).contains(&value) {
                    Ok(value as u32)
                } else {
                    Err(broken(Break { site, value }, Some(of)))
                }
            }
        }
    }

    fn told(&mut self, state: &[u64], out: &mut Vec<u64>) {
        let model = &self.game.bound.model;
        if !model.hides() {
            out.extend_from_slice(state);
            return;
        }
        self.machine.load(state);
        let values = self.machine.loaded();
        for part in shown(&self.game.bound) {
            out.extend(values[part].iter().map(|&v| v as u32 as u64));
        }
        out.push(u64::from(self.machine.ended() as u32));
        for &program in self.game.tells.iter() {
            // What breaks here is told as something of its own.
            out.push(self.machine.ask(program).map_or(u64::MAX, |v| v as u64));
        }
    }

    fn same_but_clocks(&mut self, a: &[u64], b: &[u64]) -> bool {
        match &self.clocks {
            Clocks::None => return a == b,
            Clocks::Bits(clocks) => return a.iter().zip(b).zip(clocks).all(|((a, b), c)| (a ^ b) & !c == 0),
            Clocks::ByValue => {}
        }
        let (mut a, mut b) = match self.numbered {
            None => (self.game.unpack(a), self.game.unpack(b)),
            Some(n) => (n.values(a[0]), n.values(b[0])),
        };
        for (def, slot) in self.game.bound.model.vars.iter().zip(&self.game.bound.slots) {
            if def.clock {
                a[slot.base] = 0;
                b[slot.base] = 0;
            }
        }
        a == b
    }

    fn allowed(&mut self, state: &[u64]) -> Result<Vec<MoveId>, Fault> {
        let status = self.status(state)?;
        if !matches!(status, Status::Running | Status::Goal) {
            return Ok(vec![]);
        }
        self.machine.forget_ended();
        let mut out = vec![];
        let mut left = self.game.code.tried.as_slice();
        while let Some((i, tried)) = self.machine.try_next(left) {
            let of = MoveId(left[i]);
            left = &left[i + 1..];
            // A refusal cannot follow a draw.
            tried.map_err(|b| broken(b, Some(of)))?;
            out.push(of);
        }
        Ok(out)
    }

    fn refusals(&mut self, state: &[u64]) -> Result<Vec<Refusal>, Fault> {
        self.machine.load(state);
        // Native code names no places.
        self.machine.set_native(None);
        let mut out = vec![];
        for &number in &self.game.code.tried {
            let (of, number) = (MoveId(number), number as usize);
            if let Halt::Refused(site) = self.machine.try_move(number).map_err(|b| broken(b, Some(of)))? {
                let at = self
                    .machine
                    .places
                    .iter()
                    .map(|&p| {
                        let (row, col) = code::row_col(p);
                        Place { row: row as i32, col: col as i32 }
                    })
                    .collect();
                let why = self.game.bound.model.refuses[site as usize].why.clone();
                out.push(Refusal { of, why, at, site });
            }
        }
        Ok(out)
    }
}

/// The parts of a state that the player sees.
fn shown(b: &Bound) -> impl Iterator<Item = std::ops::Range<usize>> + '_ {
    let model = &b.model;
    let is_shown = |def: &VarDef| {
        def.state && !def.hidden && !def.untold && !def.shadow_of.is_some_and(|v| model.vars[v].hidden)
    };
    model.vars.iter().zip(&b.slots).filter_map(move |(def, slot)| match def.shuffled {
        // Of a hidden list how long it is.
        Some(_) => Some(slot.base..slot.base + 1),
        None => is_shown(def).then(|| slot.base..slot.base + slot.len),
    })
}

/// How many told words say what is seen, and how many each `tell` gives after them.
pub(crate) fn told_words(b: &Bound) -> (usize, Vec<usize>) {
    let seen: usize = shown(b).map(|part| part.len()).sum();
    let mut eval = Eval::new(b);
    (seen + 1, b.model.tells.iter().map(|t| eval.tell_elements(t).len()).collect())
}

/// Takes the successors that native code made, for states of so many words.
fn take(made: &Successors, words: usize, status: impl Fn(i64) -> Status, out: &mut Expansion) {
    let len = made.len();
    let (moves, scores) = (&made.moves[..len], &made.scores[..len]);
    let heads = made.heads.iter().map(|(given, runs)| Head { status: status(*given), runs: *runs });
    // Looked at to the end, which takes fewer steps than looking for the first.
    let before_draw = moves.iter().fold(0, |all, of| all | of) & BEFORE_DRAW != 0;
    let scored = !out.leaves_out_odds() && scores.iter().fold(0, |all, score| all | score) != 0;
    if !before_draw && !scored {
        let moves = moves.iter().map(|m| MoveId(*m));
        return out.sure_states(heads, moves, &made.states[..len * words]);
    }
    let mut states = made.states.chunks_exact(words);
    let mut moves = moves.iter().zip(scores);
    for head in heads {
        for ((&of, &score), state) in moves.by_ref().zip(states.by_ref()).take(head.runs as usize) {
            if of & BEFORE_DRAW != 0 {
                out.positions.extend_from_slice(state);
                out.end_before_draw(MoveId(of & !BEFORE_DRAW), score);
                continue;
            }
            match score {
                0 => out.outcome(state),
                score => out.outcome_with(state, Odds::scored(1, score)),
            }
            out.end_move(MoveId(of));
        }
        out.end_state(head.status, None);
    }
}
