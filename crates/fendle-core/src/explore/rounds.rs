//! The rounds of a level: expand, insert, log.

use std::sync::Mutex;

use super::*;
use crate::contract::debug_check;
use crate::space::by_words;
use crate::space::levels::Levels;

/// States of one shard expanded between two looks at the watch; with chance it is one.
pub(super) const LOOK: usize = 32;
/// Outcomes of one shard after which its part of a round ends: states with thousands of outcomes fill the memory else.
const LANE_OUTCOMES: usize = 1 << 14;
/// States of a space from which rounds grow with it, and bytes that a round takes for each outcome.
const LARGE: u64 = 1 << 18;
const OUTCOME_BYTES: u64 = 45;
/// Most states of a shard in one round, and the part of what a space takes that a round may take.
const BATCH_MAX: u64 = 2048;
pub(super) const ROUND_SHARE: u64 = 5;

/// What one shard does in a round.
#[derive(Default)]
pub(super) struct Lane {
    first: u32,
    count: u32,
    pub(super) states: Vec<u64>,
    out: Expansion,
    /// States of this round in which nothing but waiting is left, and waiting changes only clocks.
    idle: Vec<u32>,
    set_aside: bool,
    unfinished: Option<Limit>,
    /// The states that the outcomes are.
    targets: Vec<StateId>,
    transitions: u64,
    edges: u64,
    /// Least depth that an edge of this round leads to.
    reach: u32,
    faults: Vec<(StateId, Fault)>,
}

/// How the expansion of a level ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum LevelEnd {
    /// All of its states were expanded.
    Expanded,
    /// Memory ran short, or remainders were asked for: the states are to move into a table of remainders, and the rest of the level is expanded there.
    Short,
    /// Something ended the whole sweep.
    Stopped(Stop),
}

/// Where what belongs to each shard begins, with one entry more.
#[derive(Clone, Copy)]
struct Firsts([u32; SHARDS + 1]);

impl Default for Firsts {
    fn default() -> Firsts {
        Firsts([0; SHARDS + 1])
    }
}

impl Firsts {
    fn of(&self, shard: usize) -> std::ops::Range<usize> {
        self.0[shard] as usize..self.0[shard + 1] as usize
    }
}

/// The outcomes of a round in one shard, brought into the order of the shards that they belong to.
#[derive(Default)]
pub(super) struct Given {
    states: Vec<u64>,
    /// Which outcome of the lane each of them is.
    from: Vec<u32>,
    /// The shard of each outcome, in the order of the lane.
    shards: Vec<u8>,
    /// Where those of each shard begin, counted in states; of a shard that expanded nothing in this round it says nothing.
    firsts: Firsts,
}

/// The numbers that the outcomes in one shard were given, source shard by source shard.
#[derive(Default)]
pub(super) struct Numbered {
    ids: Vec<StateId>,
    /// Where those from each source shard begin; of shards that expanded nothing in this round it says nothing.
    firsts: Firsts,
}

impl<'m> Sweep<'m> {
    /// States of a shard that are expanded in one round. In a large space they are more, so that many states look at a shard while it is in
    /// the cache or read it in order, as long as a round takes a small part of what the space takes and that leaves room.
    fn batch(&self, depth: u32) -> u32 {
        let batch = self.model.batch().max(1);
        let progress = self.progress(depth);
        if batch == 1
            || progress.states < LARGE
            || progress.bytes + progress.bytes / 3 > self.limits.memory_bytes
        {
            return batch;
        }
        let branching = self.transitions / progress.expanded.max(1) + 1;
        let fits = progress.bytes / ROUND_SHARE / OUTCOME_BYTES / (SHARDS as u64 * branching);
        batch.max(fits.min(BATCH_MAX) as u32)
    }

    pub(super) fn expand_level(&mut self, depth: u32, ends: &[u32; SHARDS], watch: &dyn Watch) -> LevelEnd {
        loop {
            let batch = self.batch(depth);
            let mut round = 0;
            for (lane, (shard, &end)) in self.lanes.iter_mut().zip(self.space.shards.iter().zip(ends)) {
                lane.first = shard.expanded();
                lane.count = (end - lane.first).min(batch);
                round += lane.count as usize;
            }
            if round == 0 {
                return LevelEnd::Expanded;
            }
            let progress = self.progress(depth);
            // Room for the round itself: as many new states as the branching so far lets expect,
            // with their index, class and edges, and the chunks they may open.
            let branching = self.transitions / progress.expanded.max(1) + 2;
            // The first chunks grow by doubling; later ones have a fixed size.
            let young = progress.states < 1 << 19;
            let grown = if young { progress.bytes } else { progress.bytes / 8 };
            let slack = round as u64 * branching * (self.space.layout.bytes() as u64 + 16) + grown;
            let is_short = progress.bytes + slack > self.limits.memory_bytes;
            let before: Vec<usize> = self.space.shards.iter().map(Shard::len).collect();
            let hit = watch.look(&progress).or(is_short.then_some(Limit::Memory));
            let expanded = hit.map_or_else(|| self.expand_round(round, watch, &progress), Err);
            match expanded {
                Ok(()) => {}
                Err(Limit::Memory) if self.limits.drop_edges && self.space.logged => {
                    // The log may go; what is left is the table and the classes.
                    self.space.drop_log();
                    continue;
                }
                Err(Limit::Memory) if self.may_move() => return LevelEnd::Short,
                Err(limit) => return LevelEnd::Stopped(Stop::Hit(limit)),
            }
            let fits = self.insert_round(round);
            let states = self.space.states_len();
            if !fits || states > self.limits.max_states {
                self.take_back(&before, states.saturating_sub(self.limits.max_states));
                let limit = if fits { Limit::MaxStates } else { Limit::TableFull };
                return LevelEnd::Stopped(Stop::Hit(limit));
            }
            self.log_round(round, depth);
        }
    }

    /// Takes the newest states out again, from the last shard on, until the limit holds.
    fn take_back(&mut self, before: &[usize], mut excess: u64) {
        for (shard, &keep) in self.space.shards.iter_mut().zip(before).rev() {
            while excess > 0 && shard.len() > keep {
                shard.pop();
                excess -= 1;
            }
        }
    }

    /// Gives the memory of the rounds back: no other one follows.
    pub(super) fn end_rounds(&mut self) {
        (self.lanes, self.given, self.numbered) = (vec![], vec![], vec![]);
    }

    /// Step one of a round: the rules run on its states. A limit drops the round.
    fn expand_round(&mut self, round: usize, watch: &dyn Watch, progress: &Progress) -> Result<(), Limit> {
        let model = self.model;
        let words = self.space.layout.words();
        let past_goals = self.past_goals;
        let space = &self.space;
        let (shards, workers) = (&space.shards, &self.workers);
        let waiting = &self.waiting;
        let look_after = if self.space.sure { LOOK } else { 1 };
        let hit: Mutex<Option<Limit>> = Mutex::new(None);
        // Once each outcome has its words.
        let sort = |lane: &mut Lane, given: &mut Given| {
            if !waiting.is_empty() {
                workers.lend(
                    || space.worker(model),
                    |worker| find_idle(worker, words, waiting, &lane.states, &lane.out, &mut lane.idle),
                );
            }
            given.sort(&lane.out, words);
        };
        let expand = |n: usize, lane: &mut Lane, given: &mut Given| {
            lane.states.clear();
            lane.out.clear();
            lane.out.leave_out_odds();
            if lane.count == 0 {
                return;
            }
            let locals = lane.first as usize..(lane.first + lane.count) as usize;
            shards[n].table.push_states(locals, &mut lane.states);
            let by = |worker: &mut dyn Worker| {
                let few = lane.states.chunks(look_after * words);
                let look = || watch.look(progress);
                let done = expand_few(worker, few, past_goals, (&hit, &look), &mut lane.out);
                lane.states.truncate(done);
                if space.numbering.is_none() && space.stills.is_none() {
                    debug_check(model, done / words, &lane.out);
                }
            };
            workers.lend(|| space.worker(model), by);
            if space.stills.is_none() {
                sort(lane, given);
            }
        };
        // A few states that are dear are worth several threads.
        let small = if self.model.batch() == 1 { 4 } else { SMALL_ROUND };
        let (lanes, given) = (&mut self.lanes, &mut self.given);
        let pool = (round >= small).then(|| pool(&self.pool, self.limits.threads));
        each_source(pool, lanes, given, expand);
        let hit = hit.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        if hit.is_none() && space.stills.is_some() {
            space.name(lanes.iter_mut().filter(|lane| lane.count > 0).map(|lane| &mut lane.out));
            each_source(pool, lanes, given, |_, lane, given| {
                if lane.count > 0 {
                    sort(lane, given);
                }
            });
        }
        hit.map_or(Ok(()), Err)
    }

    /// Step two of a round: the outcomes are inserted. False when a shard is full.
    fn insert_round(&mut self, round: usize) -> bool {
        let sources: Vec<(usize, &Given)> =
            (0..SHARDS).filter(|n| self.lanes[*n].count > 0).map(|n| (n, &self.given[n])).collect();
        let words = self.space.layout.words();
        let insert = |n: usize, shard: &mut Shard, numbered: &mut Numbered| {
            numbered.ids.clear();
            shard.table.read_ahead(sources.iter().map(|(_, given)| given.firsts.of(n).len()).sum());
            for (source, given) in &sources {
                numbered.firsts.0[*source] = numbered.ids.len() as u32;
                let range = given.firsts.of(n);
                let states = &given.states[range.start * words..range.end * words];
                if !states.is_empty() && !shard.insert_all(states, &mut numbered.ids) {
                    return false;
                }
            }
            true
        };
        let shards = &mut self.space.shards;
        let numbered = &mut self.numbered;
        if round < SMALL_ROUND {
            let mut all = shards.iter_mut().zip(numbered).enumerate();
            return all.all(|(n, (shard, numbered))| insert(n, shard, numbered));
        }
        pool(&self.pool, self.limits.threads).install(|| {
            let all = shards.par_iter_mut().zip(numbered).enumerate();
            all.map(|(n, (shard, numbered))| insert(n, shard, numbered)).reduce(|| true, |a, b| a & b)
        })
    }

    /// Step three: edges and classes of the round's source states.
    fn log_round(&mut self, round: usize, depth: u32) {
        let (sure, logged) = (self.space.sure, self.space.logged);
        let levels = &self.space.levels;
        let (numbered, given) = (&self.numbered, &self.given);
        let log = |n: usize, shard: &mut Shard, lane: &mut Lane| {
            lane.find_targets(n, (&given[n], numbered), levels, depth);
            lane.faults.clear();
            if sure {
                lane.log_sure(shard, logged);
            } else {
                lane.log_drawn(shard, logged);
            }
            lane.set_aside |= lane.out.heads.iter().any(|head| head.status == Status::Cut);
            for k in lane.idle.drain(..) {
                shard.classes.set(lane.first + k, Class::Idle);
            }
            for &(k, limit) in &lane.out.unfinished {
                shard.classes.set(lane.first + k, Class::Open);
                lane.unfinished.get_or_insert(limit);
            }
            for &(k, fault) in &lane.out.faults {
                shard.classes.set(lane.first + k, Class::Open);
                lane.faults.push((StateId::new(n, lane.first + k), fault));
            }
        };
        let shards = &mut self.space.shards;
        let lanes = &mut self.lanes;
        if round < SMALL_ROUND {
            let all = shards.iter_mut().zip(lanes.iter_mut()).enumerate();
            all.filter(|(_, (_, lane))| lane.count > 0).for_each(|(n, (shard, lane))| log(n, shard, lane));
        } else {
            pool(&self.pool, self.limits.threads).install(|| {
                let all = shards.par_iter_mut().zip(lanes.par_iter_mut()).enumerate();
                all.filter(|(_, (_, lane))| lane.count > 0)
                    .for_each(|(n, (shard, lane))| log(n, shard, lane));
            });
        }
        for lane in lanes.iter().filter(|l| l.count > 0) {
            self.set_aside |= lane.set_aside;
            self.unfinished = self.unfinished.or(lane.unfinished);
            self.transitions += lane.transitions;
            self.edges += lane.edges;
            self.space.levels.note_reach(depth, lane.reach);
            self.faults.extend_from_slice(&lane.faults);
        }
    }
}

/// Does something for each source shard: on all threads of a pool, or on this one.
fn each_source(
    pool: Option<&rayon::ThreadPool>,
    lanes: &mut [Lane],
    given: &mut [Given],
    work: impl Fn(usize, &mut Lane, &mut Given) + Sync + Send,
) {
    match pool {
        None => {
            let all = lanes.iter_mut().zip(given).enumerate();
            all.for_each(|(n, (lane, given))| work(n, lane, given));
        }
        Some(pool) => pool.install(|| {
            let all = lanes.par_iter_mut().zip(given).enumerate();
            all.for_each(|(n, (lane, given))| work(n, lane, given));
        }),
    }
}

/// Runs the rules on some states, a few at a time, until a limit is hit, which is noted, or there are many outcomes. Gives how many words were done.
pub(super) fn expand_few<'s>(
    worker: &mut dyn Worker,
    states: impl Iterator<Item = &'s [u64]>,
    past_goals: bool,
    (hit, look): (&Mutex<Option<Limit>>, &dyn Fn() -> Option<Limit>),
    out: &mut Expansion,
) -> usize {
    let mut done = 0;
    for few in states {
        if out.outcomes_len() > LANE_OUTCOMES {
            break;
        }
        let mut hit = hit.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        *hit = hit.or_else(look);
        if hit.is_some() {
            break;
        }
        drop(hit);
        worker.expand(few, past_goals, out);
        done += few.len();
    }
    done
}

impl Lane {
    /// Looks up which states the outcomes are that the states of shard `n` led to, and the least depth among them.
    fn find_targets(
        &mut self,
        n: usize,
        (given, numbered): (&Given, &[Numbered]),
        levels: &Levels,
        depth: u32,
    ) {
        // An edge that leads no further up than others is not looked up.
        let mut reach = levels.reach(depth).min(depth.saturating_sub(1));
        self.targets.clear();
        self.targets.resize(given.from.len(), StateId::new(0, 0));
        for (target, Numbered { ids, firsts }) in numbered.iter().enumerate() {
            let from = &given.from[given.firsts.of(target)];
            if from.is_empty() {
                continue;
            }
            let first = firsts.0[n] as usize;
            let mut near = StateId::new(0, levels.firsts(reach)[target]);
            for (&at, &to) in from.iter().zip(&ids[first..first + from.len()]) {
                self.targets[at as usize] = to;
                // Of one shard the ids are in the order of the local numbers.
                if to < near {
                    reach = levels.depth_of(target, to.local());
                    near = StateId::new(0, levels.firsts(reach)[target]);
                }
            }
        }
        self.reach = reach;
        self.transitions = self.targets.len() as u64;
    }

    /// Keeps classes and edges of states all of whose moves have one outcome.
    fn log_sure(&mut self, shard: &mut Shard, logged: bool) {
        let degrees = self.out.heads.iter().map(|head| head.runs as usize);
        if logged {
            shard.log_sure(&self.targets, degrees.clone());
        }
        shard.expand(self.out.heads.iter().map(class_of).zip(degrees.clone()));
        let mut sorted = vec![];
        let mut left = self.targets.as_slice();
        self.edges = degrees.map(|degree| distinct(take_first(&mut left, degree), &mut sorted)).sum();
    }

    /// Keeps classes and edges of states whose moves have any number of outcomes.
    fn log_drawn(&mut self, shard: &mut Shard, logged: bool) {
        let mut edges: Vec<Edge> = Vec::with_capacity(16);
        let mut sorted: Vec<StateId> = vec![];
        let (mut left, mut runs) = (self.targets.as_slice(), self.out.runs.as_slice());
        self.edges = 0;
        for head in &self.out.heads {
            edges.clear();
            let before = left;
            for run in take_first(&mut runs, head.runs as usize) {
                let of_move = take_first(&mut left, run.outcomes as usize);
                edges.extend(of_move.iter().map(|&to| Edge { to, last: false }));
                if let Some(edge) = edges.last_mut() {
                    edge.last = true;
                }
            }
            self.edges += distinct(&before[..edges.len()], &mut sorted);
            if logged {
                shard.log_edges(&edges);
            }
            shard.expand(std::iter::once((class_of(head), edges.len())));
        }
    }
}

/// Takes so many from the front of a list.
#[inline]
pub(super) fn take_first<'a, T>(left: &mut &'a [T], count: usize) -> &'a [T] {
    let (first, rest) = left.split_at(count);
    *left = rest;
    first
}

/// How many different states these are. Few are looked through, many are sorted in a buffer.
#[inline]
pub(super) fn distinct<T: Copy + Ord>(targets: &[T], sorted: &mut Vec<T>) -> u64 {
    if targets.len() <= 32 {
        let is_met = |(i, to)| targets[..i].iter().fold(false, |met, earlier| met | (earlier == to));
        return targets.iter().enumerate().filter(|target| !is_met(*target)).count() as u64;
    }
    distinct_of_many(targets, sorted)
}

#[cold]
fn distinct_of_many<T: Copy + Ord>(targets: &[T], sorted: &mut Vec<T>) -> u64 {
    sorted.clear();
    sorted.extend_from_slice(targets);
    sorted.sort_unstable();
    sorted.dedup();
    sorted.len() as u64
}

impl Given {
    /// Takes outcomes of so many words.
    fn sort(&mut self, out: &Expansion, words: usize) {
        by_words!(words, WORDS => self.sort_each::<WORDS>(&out.outcomes, words))
    }

    /// The same for states of `WORDS` words, or of any number of them where that is 0.
    fn sort_each<const WORDS: usize>(&mut self, outcomes: &[u64], words: usize) {
        let words = if WORDS == 0 { words } else { WORDS };
        let Given { states, from, shards, firsts } = self;
        let mut counts = [0u32; SHARDS];
        shards.clear();
        shards.extend(outcomes.chunks_exact(words).map(|state| {
            let target = shard_of(hash(state));
            counts[target] += 1;
            target as u8
        }));
        let mut sum = 0;
        for (first, count) in firsts.0.iter_mut().zip(counts) {
            *first = sum;
            sum += count;
        }
        firsts.0[SHARDS] = sum;
        let mut at: [u32; SHARDS] = std::array::from_fn(|n| firsts.0[n]);
        states.resize(outcomes.len(), 0);
        from.resize(shards.len(), 0);
        for (i, (state, target)) in outcomes.chunks_exact(words).zip(&*shards).enumerate() {
            // A shard's number, as the compiler need not check again.
            let at = &mut at[usize::from(*target) % SHARDS];
            let place = *at as usize;
            from[place] = i as u32;
            if WORDS == 1 {
                states[place] = state[0];
            } else {
                states[place * words..(place + 1) * words].copy_from_slice(state);
            }
            *at += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Outcomes of any number of words come to their shards, each shard's in the order in which they were given.
    #[test]
    fn outcomes_are_given_to_the_shards_of_their_hashes() {
        let mut random = crate::numbers::Random::new(3);
        for words in [1, 2, 3, 5] {
            let mut given = Given::default();
            for len in [0, 1, 700, 40] {
                let mut out = Expansion::default();
                let states: Vec<Vec<u64>> = (0..len)
                    .map(|_| (0..words).map(|_| random.below(u64::MAX)).collect::<Vec<u64>>())
                    .collect();
                states.iter().for_each(|s| out.outcome(s));
                given.sort(&out, words);
                for n in 0..SHARDS {
                    let wanted: Vec<u64> =
                        states.iter().filter(|s| shard_of(hash(s)) == n).flatten().copied().collect();
                    let range = given.firsts.of(n);
                    assert_eq!(given.states[range.start * words..range.end * words], wanted, "{words} words");
                }
                for (place, state) in given.states.chunks_exact(words).enumerate() {
                    assert_eq!(state, states[given.from[place] as usize]);
                }
            }
        }
    }

    #[test]
    fn states_that_several_moves_lead_to_count_once() {
        let mut random = crate::numbers::Random::new(4);
        for len in [0, 1, 2, 5, 32, 33, 90] {
            let targets: Vec<StateId> =
                (0..len).map(|_| StateId::from_number(random.below(len / 2 + 1) as u32)).collect();
            let set: std::collections::BTreeSet<StateId> = targets.iter().copied().collect();
            assert_eq!(distinct(&targets, &mut vec![]), set.len() as u64);
        }
    }
}
