//! The rounds of a level: expand, insert, log.

use std::sync::Mutex;

use super::*;
use crate::contract::debug_check;

/// States of one shard expanded between two looks at the watch; with chance it is one.
const SLICE: usize = 16;
/// Outcomes of one shard after which its part of a round ends: states with thousands of outcomes fill the memory else.
const LANE_OUTCOMES: usize = 1 << 14;
/// States of a space from which rounds grow with it, and bytes that a round takes for each outcome.
const LARGE: u64 = 1 << 18;
const OUTCOME_BYTES: u64 = 45;
/// Most states of a shard in one round.
const BATCH_MAX: u64 = 1024;

/// What one shard does in a round.
#[derive(Default)]
pub(super) struct Lane<'m> {
    pub(super) worker: Option<Box<dyn Worker + 'm>>,
    first: u32,
    count: u32,
    pub(super) states: Vec<u64>,
    out: Expansion,
    order: Vec<u8>,
    /// States of this round in which nothing but waiting is left, and waiting changes only clocks.
    idle: Vec<u32>,
    set_aside: bool,
    unfinished: Option<Limit>,
    transitions: u64,
    edges: u64,
    /// Least depth that an edge of this round leads to.
    reach: u32,
    faults: Vec<(StateId, Fault)>,
}

/// The outcomes that one shard has for another, and the numbers that they were given.
#[derive(Default)]
pub(super) struct Bucket {
    states: Vec<u64>,
    ids: Vec<StateId>,
}

impl Bucket {
    fn clear(&mut self) {
        self.states.clear();
        self.ids.clear();
    }
}

impl<'m> Sweep<'m> {
    /// States of a shard that are expanded in one round. In a large space they are more, so that many states look at a shard while it is in
    /// the cache, as long as a round takes less than an eighth of what the space takes and that leaves room.
    fn batch(&self, depth: u32) -> u32 {
        let batch = self.model.batch().max(1);
        let progress = self.progress(depth);
        if batch == 1
            || progress.states < LARGE
            || progress.bytes + progress.bytes / 4 > self.limits.memory_bytes
        {
            return batch;
        }
        let branching = self.transitions / progress.expanded.max(1) + 1;
        let fits = progress.bytes / 8 / OUTCOME_BYTES / (SHARDS as u64 * branching);
        batch.max(fits.min(BATCH_MAX) as u32)
    }

    pub(super) fn expand_level(
        &mut self,
        depth: u32,
        ends: &[u32; SHARDS],
        watch: &dyn Watch,
    ) -> Option<Stop> {
        loop {
            let batch = self.batch(depth);
            let mut round = 0;
            for (lane, (shard, &end)) in self.lanes.iter_mut().zip(self.space.shards.iter().zip(ends)) {
                lane.first = shard.expanded();
                lane.count = (end - lane.first).min(batch);
                round += lane.count as usize;
            }
            if round == 0 {
                return None;
            }
            let progress = self.progress(depth);
            if let Some(limit) = watch.look(&progress) {
                return Some(Stop::Hit(limit));
            }
            // Room for the round itself: as many new states as the branching so far lets expect,
            // with their index, class and edges, and the chunks they may open.
            let branching = self.transitions / progress.expanded.max(1) + 2;
            // The first chunks grow by doubling; later ones have a fixed size.
            let young = progress.states < 1 << 19;
            let grown = if young { progress.bytes } else { progress.bytes / 8 };
            let slack = round as u64 * branching * (self.space.layout.bytes() as u64 + 16) + grown;
            if progress.bytes + slack > self.limits.memory_bytes {
                // The log may go; what is left is the table and the classes.
                if !(self.limits.drop_edges && self.space.logged) {
                    return Some(Stop::Hit(Limit::Memory));
                }
                self.space.drop_log();
                continue;
            }
            let before: Vec<usize> = self.space.shards.iter().map(Shard::len).collect();
            if let Err(limit) = self.expand_round(round, watch, &progress) {
                return Some(Stop::Hit(limit));
            }
            let fits = self.insert_round(round);
            let states = self.space.states_len();
            if !fits || states > self.limits.max_states {
                self.take_back(&before, states.saturating_sub(self.limits.max_states));
                return Some(Stop::Hit(if fits { Limit::MaxStates } else { Limit::TableFull }));
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

    /// Step one of a round: the rules run on its states. A limit drops the round.
    fn expand_round(&mut self, round: usize, watch: &dyn Watch, progress: &Progress) -> Result<(), Limit> {
        let model = self.model;
        let words = self.space.layout.words();
        let past_goals = self.past_goals;
        let space = &self.space;
        let shards = &space.shards;
        let waiting = &self.waiting;
        let slice = if self.space.sure { SLICE } else { 1 };
        let hit: Mutex<Option<Limit>> = Mutex::new(None);
        let expand = |n: usize, lane: &mut Lane<'m>, row: &mut [Bucket]| {
            lane.states.clear();
            lane.out.clear();
            lane.order.clear();
            if lane.count == 0 {
                return;
            }
            for local in lane.first..lane.first + lane.count {
                shards[n].table.push_state(local as usize, &mut lane.states);
            }
            let worker = lane.worker.get_or_insert_with(|| space.worker(model));
            let mut done = 0;
            for slice in lane.states.chunks(slice * words) {
                if lane.out.outcomes_len() > LANE_OUTCOMES {
                    break;
                }
                let mut hit = hit.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                *hit = hit.or_else(|| watch.look(progress));
                if hit.is_some() {
                    return;
                }
                drop(hit);
                worker.expand(slice, past_goals, &mut lane.out);
                done += slice.len();
            }
            lane.states.truncate(done);
            if space.numbering.is_none() {
                debug_check(model, done / words, &lane.out);
            }
            if !waiting.is_empty() {
                find_idle(&mut **worker, words, waiting, &lane.states, &lane.out, &mut lane.idle);
            }
            for state in lane.out.outcomes.chunks_exact(words) {
                let target = shard_of(hash(state));
                lane.order.push(target as u8);
                row[target].states.extend_from_slice(state);
            }
        };
        let lanes = &mut self.lanes;
        let buckets = &mut self.buckets;
        // Of a small round only the rows of its own shards are looked at again.
        let few = round < SMALL_ROUND;
        for (lane, row) in lanes.iter().zip(buckets.chunks_exact_mut(SHARDS)) {
            if lane.count > 0 || !few {
                row.iter_mut().for_each(Bucket::clear);
            }
        }
        // A few states that are dear are worth several threads.
        let small = if self.model.batch() == 1 { 4 } else { SMALL_ROUND };
        if round < small {
            for (n, (lane, row)) in lanes.iter_mut().zip(buckets.chunks_exact_mut(SHARDS)).enumerate() {
                if lane.count > 0 {
                    expand(n, lane, row);
                }
            }
        } else {
            pool(&self.pool, self.limits.threads).install(|| {
                lanes
                    .par_iter_mut()
                    .zip(buckets.par_chunks_exact_mut(SHARDS))
                    .enumerate()
                    .for_each(|(n, (lane, row))| expand(n, lane, row));
            });
        }
        hit.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner).map_or(Ok(()), Err)
    }

    /// Step two of a round: the outcomes are inserted. False when a shard is full.
    fn insert_round(&mut self, round: usize) -> bool {
        let insert = |shard: &mut Shard, row: &mut [Bucket]| {
            row.iter_mut().all(|bucket| shard.insert_all(&bucket.states, &mut bucket.ids))
        };
        let shards = &mut self.space.shards;
        let buckets = &mut self.buckets;
        if round < SMALL_ROUND {
            // Shard by shard would look at all buckets, most of them empty; each shard is given the same states in the same order.
            let rows =
                self.lanes.iter().zip(buckets.chunks_exact_mut(SHARDS)).filter(|(lane, _)| lane.count > 0);
            let mut full = [false; SHARDS];
            for (_, row) in rows {
                for (n, bucket) in row.iter_mut().enumerate().filter(|(_, b)| !b.states.is_empty()) {
                    full[n] = full[n] || !shards[n].insert_all(&bucket.states, &mut bucket.ids);
                }
            }
            return !full.contains(&true);
        }
        transpose(buckets);
        let fits = pool(&self.pool, self.limits.threads).install(|| {
            shards
                .par_iter_mut()
                .zip(buckets.par_chunks_exact_mut(SHARDS))
                .map(|(shard, row)| insert(shard, row))
                .reduce(|| true, |a, b| a & b)
        });
        transpose(buckets);
        fits
    }

    /// Step three: edges and classes of the round's source states.
    fn log_round(&mut self, round: usize, depth: u32) {
        let (sure, logged) = (self.space.sure, self.space.logged);
        let levels = &self.space.levels;
        // Most edges lead one level up or down, or stay: only the others are looked up.
        let near = levels.firsts(depth.saturating_sub(1));
        let log = |n: usize, shard: &mut Shard, lane: &mut Lane<'m>, row: &mut [Bucket]| {
            lane.transitions = 0;
            lane.edges = 0;
            lane.reach = depth.saturating_sub(1);
            lane.faults.clear();
            let mut cursors = [0usize; SHARDS];
            let (mut outcome, mut run) = (0, 0);
            let mut edges: Vec<Edge> = Vec::with_capacity(16);
            let mut distinct: Vec<StateId> = Vec::with_capacity(16);
            for (k, head) in lane.out.heads.iter().enumerate() {
                let local = lane.first + k as u32;
                edges.clear();
                distinct.clear();
                for r in &lane.out.runs[run..run + head.runs as usize] {
                    for o in 1..=r.outcomes {
                        let target = lane.order[outcome] as usize;
                        let id = row[target].ids[cursors[target]];
                        cursors[target] += 1;
                        outcome += 1;
                        let (shard, local) = (id.shard(), id.local());
                        if local < near[shard] {
                            lane.reach = lane.reach.min(levels.depth_of(shard, local));
                        }
                        edges.push(Edge { to: id, last: o == r.outcomes });
                        // Few are looked through, many are sorted.
                        if edges.len() <= 32 && !distinct.contains(&id) {
                            distinct.push(id);
                        }
                    }
                }
                run += head.runs as usize;
                lane.transitions += edges.len() as u64;
                if edges.len() > 32 {
                    distinct.clear();
                    distinct.extend(edges.iter().map(|e| e.to));
                    distinct.sort_unstable();
                    distinct.dedup();
                }
                lane.edges += distinct.len() as u64;
                if logged {
                    shard.log_edges(&edges, sure);
                } else {
                    shard.skip_edges(edges.len());
                }
                shard.classes.set(local, class_of(head));
                lane.set_aside |= head.status == Status::Cut;
            }
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
        let buckets = &mut self.buckets;
        if round < SMALL_ROUND {
            for (n, ((shard, lane), row)) in
                shards.iter_mut().zip(lanes.iter_mut()).zip(buckets.chunks_exact_mut(SHARDS)).enumerate()
            {
                if lane.count > 0 {
                    log(n, shard, lane, row);
                }
            }
        } else {
            pool(&self.pool, self.limits.threads).install(|| {
                shards
                    .par_iter_mut()
                    .zip(lanes.par_iter_mut())
                    .zip(buckets.par_chunks_exact_mut(SHARDS))
                    .enumerate()
                    .for_each(|(n, ((shard, lane), row))| log(n, shard, lane, row));
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

/// Exchanges rows and columns: what each shard gives, and what each takes.
fn transpose(buckets: &mut [Bucket]) {
    for row in 0..SHARDS {
        for col in 0..row {
            buckets.swap(row * SHARDS + col, col * SHARDS + row);
        }
    }
}
