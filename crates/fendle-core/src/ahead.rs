//! Look-ahead: the move that is best over the next few moves, with exact draws, and with a promise behind them.
//!
//! Best play by depth: a state is worth the best of its moves, a move the weighted mean of its outcomes, each looked at one
//! move less deep; at the end stands what the model promises ([`Worker::promise`]), or what a short played-out game shows.
//! Depths are tried one after the other as long as the next one is likely to fit the budget of states. Where the next moves draw
//! nothing (a piece is steered before the next one is drawn), the draws that can be reached are looked at instead, however
//! many moves away. Positions before a
//! draw, states, and what was found of them are kept and shared, also from one move of the play to the next (D. Michie, *Game-
//! playing and game-learning automata*, 1966).

use std::collections::HashSet;

use crate::limits::{Pace, Watch};
use crate::model::{Aim, Expansion, Layout, Model, MoveId, Odds, Status, Stopped, Worker};
use crate::numbers::Random;
use crate::space::hash;
use crate::space::table::StateTable;

/// Outcomes less likely than this are looked at two moves less deep.
const UNLIKELY: f64 = 0.03;
/// Outcomes of a draw that are written down; of a draw with more, so many are drawn by seed.
const WRITTEN: usize = 256;
const DRAWN: usize = 16;
/// Moves of a played-out game.
const PLAYED_OUT: u32 = 12;
/// What looking at one state counts, in steps of a [`Pace`].
const STEPS: u64 = 64;
/// States that are kept from one move to the next.
const KEPT: usize = 1 << 17;
/// Known states that are gone through for the work of one that is looked at.
const VISITS: u64 = 32;
/// Budgets that walking to a draw may use up: what it finds serves all moves on the way.
const WALKS: u64 = 8;
/// No depth goes beyond this.
const DEEPEST: u8 = 40;

/// What ends the looking to one depth.
enum Halt {
    /// The budget of states is used up: what was found at the depth before counts.
    Enough,
    Stopped(Stopped),
}

impl<S: Into<Stopped>> From<S> for Halt {
    fn from(stopped: S) -> Halt {
        Halt::Stopped(stopped.into())
    }
}

/// What is known of a state.
#[derive(Clone, Copy)]
struct Info {
    /// What it is worth by itself: where play has ended, or what it promises. Not known: not a number.
    own: f64,
    ended: bool,
    /// Its arcs, once it was expanded.
    arcs: Option<(u32, u32)>,
    /// The greatest depth to which it was looked at, and what it was worth then.
    depth: u8,
    value: f64,
    /// Everything behind it was seen to its end: the value is no hope.
    exact: bool,
}

/// A move: where it leads, and the score on the way.
#[derive(Clone, Copy)]
struct Arc {
    of: MoveId,
    /// A state, or a draw above [`DRAW`].
    to: u32,
    score: f64,
}

const DRAW: u32 = 1 << 31;

/// A player that looks ahead. Remembers what it has met.
pub struct Ahead<'m> {
    model: &'m dyn Model,
    worker: Box<dyn Worker + 'm>,
    layout: Layout,
    form: Option<Layout>,
    /// States that may be looked at for one move.
    budget: u64,
    states: StateTable,
    infos: Vec<Info>,
    arcs: Vec<Arc>,
    positions: StateTable,
    /// The draw of each position.
    draw_of: Vec<u32>,
    /// The outcomes of each draw, once they were made, and the score in the mean.
    draws: Vec<Option<(u32, u32, f64)>>,
    outcomes: Vec<(u32, f64)>,
    out: Expansion,
    words: Vec<u64>,
    pace: Pace<'m>,
    work: u64,
    /// Known states that were gone through.
    visits: u64,
    /// Something was hoped for in what is being looked at: a state that has not ended was not looked at further.
    hoped: bool,
    /// The work at which the looking to this depth is broken off.
    until: u64,
    /// Draws that had too many outcomes, and those that had not: where nearly all have, none is tried.
    too_many: (u64, u64),
    /// States that were looked at since it was made.
    pub looked_at: u64,
}

impl<'m> Ahead<'m> {
    /// A player for a model that looks at about so many states for each move, while somebody watches.
    #[must_use]
    pub fn new(model: &'m dyn Model, budget: u64, watch: &'m dyn Watch) -> Ahead<'m> {
        let (layout, form) = (model.layout(), model.positions());
        let mut worker = model.worker();
        worker.limit_outcomes(WRITTEN);
        Ahead {
            model,
            worker,
            layout,
            form,
            budget,
            states: StateTable::new(layout, 1 << 30),
            infos: vec![],
            arcs: vec![],
            positions: StateTable::new(form.unwrap_or(layout), 1 << 30),
            draw_of: vec![],
            draws: vec![],
            outcomes: vec![],
            out: Expansion::default(),
            words: vec![],
            pace: Pace::new(watch),
            work: 0,
            visits: 0,
            hoped: false,
            until: u64::MAX,
            too_many: (0, 0),
            looked_at: 0,
        }
    }

    /// The best move from a running state, the first of equals; `None` where no move is allowed.
    ///
    /// # Errors
    ///
    /// [`Stopped`] by a fault that was met, or a limit.
    pub fn choose(&mut self, state: &[u64]) -> Result<Option<MoveId>, Stopped> {
        if self.infos.len() > KEPT {
            self.forget();
        }
        let root = self.state(state);
        let begun = self.work;
        self.until = u64::MAX;
        let (first, last) = match self.expand(root) {
            Ok(arcs) => arcs,
            Err(Halt::Stopped(stopped)) => return Err(stopped),
            Err(Halt::Enough) => return Ok(None),
        };
        let walks = (first..last).any(|a| self.sure(a).is_some());
        // A brief look first: where everything is seen there is no better answer.
        let (mut best, whole) =
            self.deepening(root, if walks { self.budget / WALKS / 2 } else { self.budget })?;
        if walks && !whole {
            best = match self.walk(root) {
                Ok(Some(found)) => Some(found),
                Ok(None) | Err(Halt::Enough) => self.deepening(root, self.budget)?.0.or(best),
                Err(Halt::Stopped(stopped)) => return Err(stopped),
            };
        }
        self.looked_at += self.work - begun;
        Ok(best)
    }

    /// The best move by looking deeper and deeper, as far as the budget goes; and whether everything was seen.
    fn deepening(&mut self, root: u32, budget: u64) -> Result<(Option<MoveId>, bool), Stopped> {
        let (mut best, mut before) = (None, 0u64);
        let begun = self.work;
        for depth in 1..=DEEPEST {
            let from = self.work;
            self.hoped = false;
            // The next moves are always looked at.
            self.until = if depth == 1 { u64::MAX } else { begun + budget };
            match self.best(root, depth) {
                Ok(found) => best = found.or(best),
                Err(Halt::Enough) => break,
                Err(Halt::Stopped(stopped)) => return Err(stopped),
            }
            let now = self.work - from;
            let growth = now.checked_div(before.max(1)).unwrap_or(4).clamp(4, 64);
            before = now;
            if !self.hoped {
                return Ok((best, true));
            }
            // The next depth would show nothing new, or go far beyond the budget.
            if now == 0 && depth > 1 || self.work - begun + now * growth / 2 > budget {
                break;
            }
        }
        Ok((best, false))
    }

    /// Where some next move draws nothing: the move that leads to the best of all draws and ends that can be reached without
    /// one, the nearest of equals, as far as the budget goes. `None` where nothing is reached.
    fn walk(&mut self, root: u32) -> Result<Option<MoveId>, Halt> {
        let (first, last) = self.expand(root)?;
        self.until = self.work + WALKS * self.budget;
        // Each state with the arc of the root that leads to it, nearest first.
        let mut queue: Vec<(u32, MoveId, f64)> = vec![];
        let mut seen = HashSet::from([root]);
        let mut best: Option<(f64, MoveId)> = None;
        // An end that is no goal is nothing to walk to while there is anything else.
        let mut met = false;
        let mut better = |value: f64, of: MoveId| {
            if best.is_none_or(|b| value > b.0) {
                best = Some((value, of));
            }
        };
        for a in first..last {
            let of = self.arcs[a as usize].of;
            match self.sure(a) {
                Some((to, score)) if seen.insert(to) => queue.push((to, of, score)),
                Some(_) => {}
                None => {
                    met = true;
                    better(self.arc(a, 0)?, of);
                }
            }
        }
        let mut at = 0;
        while let Some(&(s, of, gained)) = queue.get(at) {
            at += 1;
            let arcs = match self.expand(s) {
                Ok(arcs) => arcs,
                Err(Halt::Enough) => break,
                Err(stopped) => return Err(stopped),
            };
            if self.infos[s as usize].ended {
                let own = self.infos[s as usize].own;
                met |= self.model.has_goal() && own >= 1.0;
                better(gained + own, of);
                continue;
            }
            for a in arcs.0..arcs.1 {
                match self.sure(a) {
                    Some((to, score)) if seen.insert(to) => queue.push((to, of, gained + score)),
                    Some(_) => {}
                    None => match self.arc(a, 0) {
                        Ok(value) => {
                            met = true;
                            better(gained + value, of);
                        }
                        Err(Halt::Enough) => {}
                        Err(stopped) => return Err(stopped),
                    },
                }
            }
        }
        Ok(best.filter(|_| met).map(|b| b.1))
    }

    /// The state that an arc leads to, where nothing is drawn, and the score on the way.
    fn sure(&self, arc: u32) -> Option<(u32, f64)> {
        let Arc { to, score, .. } = self.arcs[arc as usize];
        let (first, last, more) = self.draws[(to & !DRAW) as usize]?;
        (last - first == 1).then(|| (self.outcomes[first as usize].0, score + more))
    }

    /// The best move of a state by looking so deep, the first of equals.
    fn best(&mut self, s: u32, depth: u8) -> Result<Option<MoveId>, Halt> {
        let (first, last) = self.expand(s)?;
        let mut found: Option<(f64, MoveId)> = None;
        for arc in first..last {
            let value = self.arc(arc, depth)?;
            if found.is_none_or(|(v, _)| value > v) {
                found = Some((value, self.arcs[arc as usize].of));
            }
        }
        Ok(found.map(|f| f.1))
    }

    /// Counts a state that is looked at.
    fn look_at_one(&mut self) -> Result<(), Halt> {
        if self.work >= self.until {
            return Err(Halt::Enough);
        }
        self.work += 1;
        Ok(self.pace.step(STEPS)?)
    }

    fn forget(&mut self) {
        self.states = StateTable::new(self.layout, 1 << 30);
        self.positions = StateTable::new(self.form.unwrap_or(self.layout), 1 << 30);
        self.infos.clear();
        self.arcs.clear();
        self.draw_of.clear();
        self.draws.clear();
        self.outcomes.clear();
    }

    fn state(&mut self, state: &[u64]) -> u32 {
        let (s, new) = self.states.insert(state, hash(state)).expect("far from full");
        if new {
            let own = f64::NAN;
            self.infos.push(Info { own, ended: false, arcs: None, depth: 0, value: own, exact: false });
        }
        s
    }

    /// The sense of a value: more is better, after this sign.
    fn sign(&self) -> f64 {
        match self.model.aim() {
            Some(aim) if !self.model.has_goal() && !aim.wants_most() => -1.0,
            _ => 1.0,
        }
    }

    /// What a state is worth in which play has ended.
    fn end(&mut self, state: &[u64], status: Status) -> Result<f64, Halt> {
        if self.model.has_goal() {
            return Ok(f64::from(u8::from(status == Status::Goal)));
        }
        match self.model.aim() {
            Some(Aim::Most | Aim::Least) => Ok(self.sign() * self.worker.measure(state)? as f64),
            _ => Ok(0.0),
        }
    }

    /// The moves of a state. Also finds out whether play has ended there.
    fn expand(&mut self, s: u32) -> Result<(u32, u32), Halt> {
        if let Some(arcs) = self.infos[s as usize].arcs {
            return Ok(arcs);
        }
        self.look_at_one()?;
        let mut words = std::mem::take(&mut self.words);
        words.clear();
        self.states.push_state(s as usize, &mut words);
        let mut out = std::mem::take(&mut self.out);
        out.clear();
        if self.form.is_some() {
            self.worker.expand_to_draws(&words, false, &mut out);
        } else {
            self.worker.expand(&words, false, &mut out);
        }
        if let Some((_, fault)) = out.faults.first() {
            return Err((*fault).into());
        }
        let head = out.heads[0];
        if head.status != Status::Running || out.runs.is_empty() && out.unfinished.is_empty() {
            let own = self.end(&words, head.status)?;
            let info = &mut self.infos[s as usize];
            (info.own, info.ended) = (own, true);
        }
        let first = self.arcs.len() as u32;
        let (w, f) = (self.layout.words(), self.form.map_or(1, Layout::words));
        let (mut outcome, mut position) = (0, 0);
        let scored = self.counts_scores();
        for r in &out.runs {
            let score;
            let to = match r.outcomes {
                0 => {
                    let words = &out.positions[position * f..(position + 1) * f];
                    score = if scored { out.position_scores[position] as f64 } else { 0.0 };
                    position += 1;
                    let (p, new) = self.positions.insert(words, hash(words)).expect("far from full");
                    if new {
                        self.draw_of.push(self.draws.len() as u32);
                        self.draws.push(None);
                    }
                    DRAW | self.draw_of[p as usize]
                }
                n => {
                    score = 0.0;
                    let (first, sum) = self.put(&out, outcome, n as usize, w);
                    outcome += n as usize;
                    self.draws.push(Some((first, first + n, if scored { sum } else { 0.0 })));
                    DRAW | (self.draws.len() - 1) as u32
                }
            };
            self.arcs.push(Arc { of: r.of, to, score: self.sign() * score });
        }
        let arcs = (first, self.arcs.len() as u32);
        self.infos[s as usize].arcs = Some(arcs);
        (self.words, self.out) = (words, out);
        Ok(arcs)
    }

    fn counts_scores(&self) -> bool {
        !self.model.has_goal() && self.model.aim().is_some_and(Aim::is_score)
    }

    /// Keeps some outcomes; gives the first, and the score in the mean.
    fn put(&mut self, out: &Expansion, from: usize, len: usize, words: usize) -> (u32, f64) {
        let first = self.outcomes.len() as u32;
        let odds = |i: usize| out.odds.get(i).copied().unwrap_or(Odds::SURE);
        let total: f64 = (from..from + len).map(|i| odds(i).weight as f64).sum();
        let mut sum = 0.0;
        for i in from..from + len {
            let s = self.state(&out.outcomes[i * words..(i + 1) * words]);
            sum += odds(i).score as f64;
            self.outcomes.push((s, odds(i).weight as f64 / total));
        }
        (first, self.sign() * sum / total)
    }

    fn arc(&mut self, arc: u32, depth: u8) -> Result<f64, Halt> {
        let Arc { to, score, .. } = self.arcs[arc as usize];
        let draw = (to & !DRAW) as usize;
        let (first, last, more) = match self.draws[draw] {
            Some(known) => known,
            None => self.drawn(draw)?,
        };
        let mut sum = score + more;
        for i in first..last {
            let (s, p) = self.outcomes[i as usize];
            let less = if p < UNLIKELY && last - first > 1 { 2 } else { 1 };
            sum += p * self.value(s, depth.saturating_sub(less))?;
        }
        Ok(sum)
    }

    /// Makes the outcomes of a draw.
    fn drawn(&mut self, draw: usize) -> Result<(u32, u32, f64), Halt> {
        self.look_at_one()?;
        let position = self.draw_of.partition_point(|d| (*d as usize) < draw);
        let mut words = std::mem::take(&mut self.words);
        words.clear();
        self.positions.push_state(position, &mut words);
        let mut out = std::mem::take(&mut self.out);
        out.clear();
        let (many, few) = self.too_many;
        let tried = many < 4 || many < 4 * few;
        if tried {
            self.worker.draw(&words, &mut out);
        }
        if let Some((_, fault)) = out.faults.first() {
            return Err((*fault).into());
        }
        if !tried || !out.unfinished.is_empty() {
            self.too_many.0 += 1;
            let found = self.drawn_by_seed(&words)?;
            self.draws[draw] = Some(found);
            (self.words, self.out) = (words, out);
            return Ok(found);
        }
        self.too_many.1 += 1;
        let len = out.runs.first().map_or(0, |r| r.outcomes as usize);
        let (first, sum) = self.put(&out, 0, len, self.layout.words());
        let sum = if self.counts_scores() && len > 0 { sum } else { 0.0 };
        let found = (first, first + len as u32, sum);
        self.draws[draw] = Some(found);
        (self.words, self.out) = (words, out);
        Ok(found)
    }

    /// Draws some outcomes of a position that has too many, the same ones every time.
    fn drawn_by_seed(&mut self, position: &[u64]) -> Result<(u32, u32, f64), Halt> {
        let mut random = Random::new(hash(position));
        let first = self.outcomes.len() as u32;
        let (mut next, mut sum) = (vec![], 0.0);
        for _ in 0..DRAWN {
            self.look_at_one()?;
            let score = self.worker.sample_draw(position, &mut |w| random.pick(w), &mut next)?;
            sum += score as f64 / DRAWN as f64;
            let s = self.state(&next);
            self.outcomes.push((s, 1.0 / DRAWN as f64));
        }
        let sum = if self.counts_scores() { self.sign() * sum } else { 0.0 };
        Ok((first, first + DRAWN as u32, sum))
    }

    fn value(&mut self, s: u32, depth: u8) -> Result<f64, Halt> {
        let info = self.infos[s as usize];
        if info.ended {
            return Ok(info.own);
        }
        if info.exact {
            return Ok(info.value);
        }
        if depth == 0 {
            let own = if info.own.is_nan() { self.leaf(s)? } else { info.own };
            self.hoped |= !self.infos[s as usize].ended;
            return Ok(own);
        }
        if info.depth == depth {
            self.hoped = true;
            return Ok(info.value);
        }
        // Going through what is known is work too: where moves go back and forth there is no end of ways.
        self.visits += 1;
        if self.visits.is_multiple_of(VISITS) {
            self.look_at_one()?;
        }
        let (first, last) = self.expand(s)?;
        let info = self.infos[s as usize];
        if info.ended {
            return Ok(info.own);
        }
        let mut best = f64::NEG_INFINITY;
        let hoped = std::mem::take(&mut self.hoped);
        for arc in first..last {
            best = best.max(self.arc(arc, depth)?);
        }
        let info = &mut self.infos[s as usize];
        (info.depth, info.value, info.exact) = (depth, best, !self.hoped);
        self.hoped |= hoped;
        Ok(best)
    }

    /// What a state promises at the end of the look-ahead.
    fn leaf(&mut self, s: u32) -> Result<f64, Halt> {
        self.look_at_one()?;
        let mut words = vec![];
        self.states.push_state(s as usize, &mut words);
        let status = self.worker.status(&words)?;
        if status != Status::Running {
            let own = self.end(&words, status)?;
            let info = &mut self.infos[s as usize];
            (info.own, info.ended) = (own, true);
            return Ok(own);
        }
        let own = match (self.worker.promise(&words)?, self.model.has_goal(), self.model.aim()) {
            (Some(p), true, _) => p.clamp(0.0, 1.0),
            (Some(p), false, _) => self.sign() * p,
            (None, true, _) => self.played_out(&words)?,
            (None, false, Some(Aim::Most | Aim::Least)) => self.sign() * self.worker.measure(&words)? as f64,
            (None, false, _) => 0.0,
        };
        self.infos[s as usize].own = own;
        Ok(own)
    }

    /// A short game of random moves, the same for the same state: 1 where it is won; where it ends badly, the less the sooner;
    /// else a half.
    fn played_out(&mut self, state: &[u64]) -> Result<f64, Halt> {
        let (mut state, mut next) = (state.to_vec(), vec![]);
        let mut random = Random::new(hash(&state));
        for k in 0..PLAYED_OUT {
            self.look_at_one()?;
            let status = self.worker.status(&state)?;
            if status == Status::Goal {
                return Ok(1.0);
            }
            let moves = if status == Status::Running { self.worker.allowed(&state)? } else { vec![] };
            if moves.is_empty() {
                return Ok(0.5 * f64::from(k) / f64::from(PLAYED_OUT));
            }
            let of = moves[random.below(moves.len() as u64) as usize];
            self.worker.sample(&state, of, &mut |w| random.pick(w), &mut next)?;
            std::mem::swap(&mut state, &mut next);
        }
        Ok(0.5)
    }
}
