//! Play with hidden things: what the player can know, as a model of its own.
//!
//! An *information state* is the weighted set of worlds (states of the model beneath) that give the same told
//! history. Worlds are kept in the order of their states with weights that have no common divisor, so equal sets
//! are one state, whatever led there, and its packed form is a digest of them: the same in whatever order, and on whatever thread,
//! information states are met (the belief space of a partially observed decision process, Åström 1965;
//! Kaelbling, Littman and Cassandra 1998). [`Knowing`] is a [`Model`] over them: every analysis that works on a
//! model works on what can be known.
//!
//! Costs: an entry of 16 bytes for each world of each information state, and some 100 bytes for each of these.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard};

mod likeness;

use crate::limits::Limit;
use crate::model::{Aim, Expansion, Fault, Layout, Model, MoveId, Odds, Refusal, Start, Status, Worker};
use crate::numbers::gcd;
use crate::space::hash;
pub use likeness::{Likeness, Names};
use likeness::{Named, Weighed};

/// Why an information state cannot be made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotKnown {
    /// The model broke.
    Fault(Fault),
    /// No world is left: what was seen cannot be.
    NoWorld,
    /// A limit of the machine ended a move of one of the worlds.
    Limit(Limit),
}

impl From<Fault> for NotKnown {
    fn from(f: Fault) -> NotKnown {
        NotKnown::Fault(f)
    }
}

/// What is told of one world, as a number, and the world's status.
#[derive(Clone, Copy, Debug)]
struct Seen {
    told: u32,
    status: Status,
}

/// Worlds with weights, ascending by their states; with likeness in the order of its form.
type Worlds = Arc<[(u32, u64)]>;

/// An information state.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Belief {
    worlds: Worlds,
    /// Which names have been told, where there are any.
    named: Named,
}

/// What a world and an information state take beside what they hold: entries of the tables that find them.
const WORLD_BYTES: u64 = 72;
const BELIEF_BYTES: u64 = 104;

#[derive(Default)]
struct Tables {
    /// Words of a world.
    width: usize,
    /// Worlds, one after the other, and a digest of each.
    words: Vec<u64>,
    world_digests: Vec<u64>,
    world_index: HashMap<Box<[u64]>, u32>,
    seen: Vec<Seen>,
    told_index: HashMap<Box<[u64]>, u32>,
    /// Information states, and their digests.
    beliefs: Vec<(Belief, u64)>,
    belief_index: HashMap<Belief, u32>,
    digests: HashMap<u64, u32>,
    /// Bytes that all of these take, about.
    bytes: u64,
}

/// The information states of a model.
pub struct Knowing<'m> {
    inner: &'m dyn Model,
    words: usize,
    tables: Mutex<Tables>,
    starts: Vec<(u32, u64)>,
    like: Option<Likeness<'m>>,
}

/// One outcome of a move: a world, its weight, and its score where that is the same on all ways.
struct Outcome<'o> {
    state: &'o [u64],
    weight: u128,
    odds: Odds,
}

/// Outcomes that look alike: the information state that they make, and which of the outcomes they are.
struct SameSight {
    belief: u32,
    members: Vec<usize>,
}

/// The greatest common divisor of weights, 1 of none; quick where all are the same.
fn common(weights: impl Iterator<Item = u128>) -> u128 {
    weights.fold(0, |g, w| if w == g || w == 0 { g } else { gcd(g, w) }).max(1)
}

impl Outcome<'_> {
    /// A score that is the same on all ways is seen; else only its mean is kept.
    fn score(&self) -> i64 {
        if self.odds.least == self.odds.most { self.odds.least } else { i64::MIN }
    }
}

impl Tables {
    /// The packed state of a world.
    fn state_of(&self, world: u32) -> &[u64] {
        &self.words[world as usize * self.width..(world as usize + 1) * self.width]
    }

    /// The number of a world that was not met before, of which this is told.
    fn new_world(&mut self, state: &[u64], status: Status, told: Vec<u64>) -> u32 {
        let next = self.told_index.len() as u32;
        let told = *self.told_index.entry(told.into()).or_insert(next);
        let id = self.seen.len() as u32;
        self.bytes += 2 * 8 * state.len() as u64 + WORLD_BYTES;
        self.words.extend_from_slice(state);
        self.world_digests.push(hash(state));
        self.world_index.insert(state.into(), id);
        self.seen.push(Seen { told, status });
        id
    }

    /// The information state of these worlds; weights of the same world are added.
    fn belief(&mut self, mut worlds: Vec<(u32, u128)>) -> Result<u32, NotKnown> {
        worlds.sort_unstable_by(|a, b| self.state_of(a.0).cmp(self.state_of(b.0)));
        worlds.dedup_by(|b, a| {
            if a.0 == b.0 {
                a.1 += b.1;
            }
            a.0 == b.0
        });
        self.settled(worlds, Named::default())
    }

    /// The information state of worlds that are in their order, each once.
    fn settled(&mut self, worlds: Vec<(u32, u128)>, named: Named) -> Result<u32, NotKnown> {
        let g = common(worlds.iter().map(|w| w.1));
        let mut out = Vec::with_capacity(worlds.len());
        for (w, weight) in worlds {
            // Most weigh the same.
            let weight = if weight == g { 1 } else { weight / g };
            out.push((w, u64::try_from(weight).map_err(|_| NotKnown::Limit(Limit::TooFine))?));
        }
        let key = Belief { worlds: out.into(), named };
        if let Some(&id) = self.belief_index.get(&key) {
            return Ok(id);
        }
        let id = self.beliefs.len() as u32;
        let digest = self.digest(&key);
        // Two information states with one digest: once in 2^64 pairs. Nothing false is said of them.
        if self.digests.contains_key(&digest) {
            return Err(NotKnown::Limit(Limit::TableFull));
        }
        self.digests.insert(digest, id);
        self.bytes += 16 * key.worlds.len() as u64 + BELIEF_BYTES;
        self.beliefs.push((key.clone(), digest));
        self.belief_index.insert(key, id);
        Ok(id)
    }

    /// A digest of an information state that does not depend on the order in which worlds were met.
    fn digest(&self, of: &Belief) -> u64 {
        let worlds = of.worlds.iter().flat_map(|(w, weight)| [self.world_digests[*w as usize], *weight]);
        let digest = worlds.fold(of.worlds.len() as u64, |h, word| hash(&[h, word]));
        of.named.iter().fold(digest, |h, name| hash(&[h, u64::from(*name) + 1]))
    }
}

impl<'m> Knowing<'m> {
    /// The information states reached from worlds with weights. With `truth`, play begins in the one that holds
    /// this state; else in each of them, with its weight.
    ///
    /// # Errors
    ///
    /// [`NotKnown`].
    pub fn new(
        inner: &'m dyn Model,
        worlds: &[(Vec<u64>, u64)],
        truth: Option<&[u64]>,
    ) -> Result<Knowing<'m>, NotKnown> {
        Knowing::with(inner, worlds, truth, None)
    }

    /// The same where information states that are alike are one. Those in which play begins stay as they are, but for
    /// names that the player has not been told. Worlds that differ only in these may be given once.
    ///
    /// # Errors
    ///
    /// [`NotKnown`].
    pub fn alike(
        inner: &'m dyn Model,
        worlds: &[(Vec<u64>, u64)],
        truth: Option<&[u64]>,
        like: Likeness<'m>,
    ) -> Result<Knowing<'m>, NotKnown> {
        Knowing::with(inner, worlds, truth, Some(like))
    }

    fn with(
        inner: &'m dyn Model,
        worlds: &[(Vec<u64>, u64)],
        truth: Option<&[u64]>,
        like: Option<Likeness<'m>>,
    ) -> Result<Knowing<'m>, NotKnown> {
        let mut worker = inner.worker();
        let knowing = Knowing {
            inner,
            words: inner.layout().words(),
            tables: Tables { width: inner.layout().words(), ..Tables::default() }.into(),
            starts: vec![],
            like,
        };
        let mut all: Vec<Outcome<'_>> = vec![];
        for (state, weight) in worlds {
            all.push(Outcome { state, weight: u128::from(*weight), odds: Odds::SURE });
        }
        if let Some(state) = truth {
            // Without weight: it only says where play begins.
            all.push(Outcome { state, weight: 0, odds: Odds::SURE });
        }
        let named = knowing.like.as_ref().map_or_else(Named::default, Likeness::none_named);
        let parts = knowing.looks(&all, &named, false, &mut *worker)?;
        let mut starts = vec![];
        let mut sums: Vec<u128> = vec![];
        for part in parts {
            if truth.is_none() || part.members.contains(&worlds.len()) {
                let sum = part.members.iter().map(|i| all[*i].weight).sum();
                if sum > 0 {
                    sums.push(sum);
                    starts.push(part.belief);
                }
            }
        }
        let g = sums.iter().fold(0, |g, s| gcd(g, *s)).max(1);
        let weights: Result<Vec<u64>, _> = sums.iter().map(|s| u64::try_from(s / g)).collect();
        let starts: Vec<(u32, u64)> =
            starts.into_iter().zip(weights.map_err(|_| NotKnown::Limit(Limit::TooFine))?).collect();
        if starts.is_empty() {
            return Err(NotKnown::NoWorld);
        }
        Ok(Knowing { starts, ..knowing })
    }

    /// Puts outcomes together that look alike, in the order of their first ones, and makes their information states.
    /// `exchange`: with likeness, brings them into a form that does not depend on which cell is which.
    fn looks(
        &self,
        outcomes: &[Outcome<'_>],
        named: &Named,
        exchange: bool,
        worker: &mut dyn Worker,
    ) -> Result<Vec<SameSight>, NotKnown> {
        match &self.like {
            None => self.plain_looks(outcomes, worker),
            Some(like) => self.like_looks(like, outcomes, named, exchange, worker),
        }
    }

    fn plain_looks(
        &self,
        outcomes: &[Outcome<'_>],
        worker: &mut dyn Worker,
    ) -> Result<Vec<SameSight>, NotKnown> {
        let worlds = self.numbered(outcomes, worker)?;
        let mut t = self.lock();
        let mut index: HashMap<(u32, Status, i64), usize> = HashMap::new();
        /// Worlds with weights, and the outcomes that they come from.
        type Group = (Vec<(u32, u128)>, Vec<usize>);
        let mut groups: Vec<Group> = vec![];
        for (i, (o, world)) in outcomes.iter().zip(worlds).enumerate() {
            let seen = t.seen[world as usize];
            let at = *index.entry((seen.told, seen.status, o.score())).or_insert(groups.len());
            if at == groups.len() {
                groups.push((vec![], vec![]));
            }
            if o.weight > 0 {
                groups[at].0.push((world, o.weight));
            }
            groups[at].1.push(i);
        }
        let mut out = vec![];
        for (worlds, members) in groups {
            // A truth that no world looks like.
            let belief = if worlds.is_empty() { u32::MAX } else { t.belief(worlds)? };
            out.push(SameSight { belief, members });
        }
        Ok(out)
    }

    /// The numbers of the worlds that outcomes are. The rules are asked about new ones while nobody else has to wait.
    fn numbered(&self, outcomes: &[Outcome<'_>], worker: &mut dyn Worker) -> Result<Vec<u32>, NotKnown> {
        let known: Vec<Option<u32>> = {
            let t = self.lock();
            outcomes.iter().map(|o| t.world_index.get(o.state).copied()).collect()
        };
        let mut new: HashMap<&[u64], (Status, Vec<u64>)> = HashMap::new();
        for (o, known) in outcomes.iter().zip(&known) {
            if known.is_none() && !new.contains_key(o.state) {
                let status = worker.status(o.state)?;
                let mut told = vec![];
                worker.told(o.state, &mut told);
                new.insert(o.state, (status, told));
            }
        }
        let mut t = self.lock();
        let mut number = |o: &Outcome<'_>| match t.world_index.get(o.state) {
            Some(id) => *id,
            None => {
                let (status, told) = new.remove(o.state).expect("the rules were asked of each once");
                t.new_world(o.state, status, told)
            }
        };
        Ok(outcomes.iter().zip(known).map(|(o, known)| known.unwrap_or_else(|| number(o))).collect())
    }

    /// The number of one world.
    fn world(&self, state: &[u64], worker: &mut dyn Worker) -> Result<u32, NotKnown> {
        let one = Outcome { state, weight: 0, odds: Odds::SURE };
        Ok(self.numbered(&[one], worker)?[0])
    }

    fn like_looks(
        &self,
        like: &Likeness<'_>,
        outcomes: &[Outcome<'_>],
        named: &Named,
        exchange: bool,
        worker: &mut dyn Worker,
    ) -> Result<Vec<SameSight>, NotKnown> {
        type Key = (Vec<u64>, Status, i64);
        let mut index: HashMap<Key, usize> = HashMap::new();
        let mut groups: Vec<(Named, Vec<Weighed>, Vec<usize>)> = vec![];
        for (i, o) in outcomes.iter().enumerate() {
            let status = worker.status(o.state)?;
            let mut told = vec![];
            worker.told(o.state, &mut told);
            let mut world = (like.unpack)(o.state);
            let named = like.tell(named, &mut told, &mut world);
            let at = *index.entry((told, status, o.score())).or_insert(groups.len());
            if at == groups.len() {
                groups.push((named, vec![], vec![]));
            }
            if o.weight > 0 {
                groups[at].1.push((world, o.weight));
            }
            groups[at].2.push(i);
        }
        let mut out = vec![];
        for (named, mut worlds, members) in groups {
            if worlds.is_empty() {
                out.push(SameSight { belief: u32::MAX, members });
                continue;
            }
            // The form depends on weights: without what they have in common.
            let g = common(worlds.iter().map(|w| w.1));
            worlds.iter_mut().for_each(|w| w.1 = if w.1 == g { 1 } else { w.1 / g });
            let worlds = like.settle(worlds, &named, exchange);
            let packed: Vec<Vec<u64>> = worlds.iter().map(|w| (like.pack)(&w.0)).collect();
            let states = packed.iter().map(|s| Outcome { state: s, weight: 0, odds: Odds::SURE });
            let numbers = self.numbered(&states.collect::<Vec<_>>(), worker)?;
            let numbered = numbers.into_iter().zip(worlds.iter().map(|w| w.1)).collect();
            out.push(SameSight { belief: self.lock().settled(numbered, named)?, members });
        }
        Ok(out)
    }

    fn lock(&self) -> MutexGuard<'_, Tables> {
        self.tables.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// The information states in which play begins, with weights.
    #[must_use]
    pub fn begins(&self) -> &[(u32, u64)] {
        &self.starts
    }

    /// Lets play begin in this information state.
    pub fn begin_at(&mut self, id: u32) {
        self.starts = vec![(id, 1)];
    }

    /// How many layouts are possible where play begins.
    #[must_use]
    pub fn layouts(&self) -> u128 {
        let t = self.lock();
        let count = |b: &Belief| {
            b.worlds.len() as u128 * self.like.as_ref().map_or(1, |like| like.stands_for(&b.named))
        };
        self.starts.iter().map(|s| count(&t.beliefs[s.0 as usize].0)).sum()
    }

    /// The worlds of an information state: states of the model beneath, with weights.
    #[must_use]
    pub fn worlds(&self, id: u32) -> Vec<(Vec<u64>, u64)> {
        let t = self.lock();
        t.beliefs[id as usize].0.worlds.iter().map(|&(w, weight)| (t.state_of(w).to_vec(), weight)).collect()
    }

    /// The information state with these packed words.
    ///
    /// # Panics
    ///
    /// When none of it was met.
    #[must_use]
    pub fn number(&self, state: &[u64]) -> u32 {
        self.lock().digests[&state[0]]
    }

    /// The packed words of an information state.
    #[must_use]
    pub fn packed(&self, id: u32) -> [u64; 1] {
        [self.lock().beliefs[id as usize].1]
    }

    /// The information state after a move that led to something that looks like `seen`.
    ///
    /// # Errors
    ///
    /// [`NotKnown::NoWorld`] when the move cannot lead to it.
    pub fn after(&self, id: u32, of: MoveId, seen: &[u64]) -> Result<u32, NotKnown> {
        let mut worker = self.inner.worker();
        let truth = self.world(seen, &mut *worker)?;
        let Seen { told: wanted, status } = self.lock().seen[truth as usize];
        let mut out = Expansion::default();
        let mut runs = vec![];
        let mut worker = self.inner.worker();
        self.each_move(id, false, &mut *worker, &mut out, &mut |m, parts| {
            if m == of {
                runs = parts;
            }
        })?;
        for (belief, _, _) in runs {
            let t = self.lock();
            let first = t.beliefs[belief as usize].0.worlds[0].0;
            let seen = t.seen[first as usize];
            if seen.told == wanted && seen.status == status {
                return Ok(belief);
            }
        }
        Err(NotKnown::NoWorld)
    }

    /// Every move of an information state with the ones that it leads to: number, weight, odds.
    fn each_move(
        &self,
        id: u32,
        past_goals: bool,
        worker: &mut dyn Worker,
        out: &mut Expansion,
        see: &mut dyn FnMut(MoveId, Vec<(u32, u64, Odds)>),
    ) -> Result<(), NotKnown> {
        out.clear();
        let (Belief { worlds, named }, states) = {
            let t = self.lock();
            let belief = t.beliefs[id as usize].0.clone();
            let states: Vec<u64> = belief.worlds.iter().flat_map(|w| t.state_of(w.0)).copied().collect();
            (belief, states)
        };
        worker.expand(&states, past_goals, out);
        if let Some((_, fault)) = out.faults.first() {
            return Err((*fault).into());
        }
        if let Some((_, limit)) = out.unfinished.first() {
            return Err(NotKnown::Limit(*limit));
        }
        // For each move: the worlds it leads to, with weights over one denominator.
        // World, first outcome, outcomes.
        type Ways = Vec<(usize, usize, usize)>;
        let mut moves: Vec<(MoveId, Ways)> = vec![];
        let (mut run, mut at) = (0, 0);
        for (k, head) in out.heads.iter().enumerate() {
            for r in &out.runs[run..run + head.runs as usize] {
                match moves.binary_search_by_key(&r.of, |m| m.0) {
                    Ok(i) => moves[i].1.push((k, at, r.outcomes as usize)),
                    Err(i) => moves.insert(i, (r.of, vec![(k, at, r.outcomes as usize)])),
                }
                at += r.outcomes as usize;
            }
            run += head.runs as usize;
        }
        let odds = |i: usize| out.odds.get(i).copied().unwrap_or(Odds::SURE);
        for (of, parts) in moves {
            // A move that some world does not allow would tell: it is not offered.
            if parts.len() < worlds.len() {
                continue;
            }
            let sum = |p: &(usize, usize, usize)| {
                (p.1..p.1 + p.2).map(|i| u128::from(odds(i).weight)).sum::<u128>()
            };
            let mut den = 1u128;
            for p in &parts {
                let s = sum(p);
                den = (den / gcd(den, s)).checked_mul(s).ok_or(NotKnown::Limit(Limit::TooFine))?;
            }
            let mut next: Vec<Outcome<'_>> = vec![];
            for p in &parts {
                let scale = den / sum(p);
                for i in p.1..p.1 + p.2 {
                    let state = &out.outcomes[i * self.words..(i + 1) * self.words];
                    let o = odds(i);
                    let weight = u128::from(worlds[p.0].1)
                        .checked_mul(u128::from(o.weight))
                        .and_then(|w| w.checked_mul(scale))
                        .ok_or(NotKnown::Limit(Limit::TooFine))?;
                    next.push(Outcome { state, weight, odds: o });
                }
            }
            let mut out: Vec<(u32, u128, f64, i64, i64)> = vec![];
            for look in self.looks(&next, &named, true, worker)? {
                let members = || look.members.iter().map(|i| &next[*i]);
                let weight: u128 = members().map(|o| o.weight).sum();
                let mean =
                    members().map(|o| o.weight as f64 * (o.odds.score as f64 / o.odds.weight as f64)).sum();
                let least = members().map(|o| o.odds.least).min().unwrap_or(0);
                let most = members().map(|o| o.odds.most).max().unwrap_or(0);
                out.push((look.belief, weight, mean, least, most));
            }
            let g = out.iter().fold(0, |g, o| gcd(g, o.1)).max(1);
            let mut list = vec![];
            for (belief, weight, mean, least, most) in out {
                let weight = u64::try_from(weight / g).map_err(|_| NotKnown::Limit(Limit::TooFine))?;
                let score = if least == most {
                    least.checked_mul(weight as i64).ok_or(NotKnown::Limit(Limit::TooFine))?
                } else {
                    (mean / g as f64).round() as i64
                };
                list.push((belief, weight, Odds { weight, score, least, most }));
            }
            see(of, list);
        }
        Ok(())
    }
}

impl Model for Knowing<'_> {
    fn layout(&self) -> Layout {
        Layout::new(64)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        let start = |&(id, weight): &(u32, u64)| Start { state: self.packed(id).to_vec(), weight };
        Ok(self.starts.iter().map(start).collect())
    }
    fn moves_len(&self) -> usize {
        self.inner.moves_len()
    }
    fn move_name(&self, of: MoveId) -> String {
        self.inner.move_name(of)
    }
    fn has_goal(&self) -> bool {
        self.inner.has_goal()
    }
    fn is_sure(&self) -> bool {
        false
    }
    fn aim(&self) -> Option<Aim> {
        self.inner.aim()
    }
    fn is_waiting(&self, of: MoveId) -> bool {
        self.inner.is_waiting(of)
    }
    fn reason(&self, number: u16) -> String {
        self.inner.reason(number)
    }
    // Each holds many worlds: limits are looked at after every one.
    fn batch(&self) -> u32 {
        1
    }
    fn bytes(&self) -> u64 {
        self.lock().bytes
    }
    fn fault_text(&self, fault: &Fault) -> String {
        self.inner.fault_text(fault)
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(Knower { of: self, inner: self.inner.worker(), out: Expansion::default() })
    }
}

struct Knower<'k> {
    of: &'k Knowing<'k>,
    inner: Box<dyn Worker + 'k>,
    out: Expansion,
}

impl Knower<'_> {
    fn first(&self, state: &[u64]) -> Vec<u64> {
        let t = self.of.lock();
        let belief = t.digests[&state[0]];
        t.state_of(t.beliefs[belief as usize].0.worlds[0].0).to_vec()
    }
}

impl Worker for Knower<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        let t = self.of.lock();
        let belief = t.digests[&state[0]];
        Ok(t.seen[t.beliefs[belief as usize].0.worlds[0].0 as usize].status)
    }

    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        for state in states.chunks_exact(1) {
            let status = match self.status(state) {
                Ok(s) => s,
                Err(f) => {
                    out.end_state(Status::Running, Some(f));
                    continue;
                }
            };
            if status != Status::Running && !(past_goals && status == Status::Goal) {
                out.end_state(status, None);
                continue;
            }
            let Knower { of, inner, out: scratch } = self;
            let id = of.number(state);
            let made = of.each_move(id, past_goals, &mut **inner, scratch, &mut |m, list| {
                for (belief, _, odds) in list {
                    out.outcome_with(&of.packed(belief), odds);
                }
                out.end_move(m);
            });
            match made {
                Ok(()) => out.end_state(status, None),
                Err(NotKnown::Fault(f)) => out.end_state(status, Some(f)),
                // What was played is one of the worlds: there is always one left.
                Err(NotKnown::NoWorld) => out.end_state(status, None),
                Err(NotKnown::Limit(limit)) => {
                    out.give_up(limit);
                    out.end_state(status, None);
                }
            }
        }
    }

    fn refusals(&mut self, state: &[u64]) -> Result<Vec<Refusal>, Fault> {
        let first = self.first(state);
        self.inner.refusals(&first)
    }

    fn measure(&mut self, state: &[u64]) -> Result<i64, Fault> {
        let first = self.first(state);
        self.inner.measure(&first)
    }

    fn same_but_clocks(&mut self, a: &[u64], b: &[u64]) -> bool {
        if a == b {
            return true;
        }
        let (x, y) = (self.of.worlds(self.of.number(a)), self.of.worlds(self.of.number(b)));
        x.len() == y.len()
            && x.iter().zip(&y).all(|(p, q)| p.1 == q.1 && self.inner.same_but_clocks(&p.0, &q.0))
    }
}
