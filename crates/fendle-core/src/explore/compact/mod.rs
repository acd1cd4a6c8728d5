//! A sweep over a table of remainders.
//!
//! Where memory runs short the log of edges goes first. Nothing names states then, so where it runs short once more they may move: states of one word go from
//! the hashed tables into a table of remainders (see [`crate::space::remainders`]), which takes a third to a half of the memory, and the sweep goes on there. When
//! it has ended, the slot of a state is its number.
//!
//! ```text
//! gather   of each slice some states of the depth: of a list while they are few, else those that have the mark of new states
//! expand   the rules run on them, and the outcomes are sorted by slice
//! insert   each slice gives its sources the marks of their classes, and takes its outcomes in source order
//! ```
//!
//! Each step touches one slice on one thread, so there are no locks, and the table is the same on any number of threads.

mod filling;

use std::sync::Mutex;

use self::filling::{Book, Compact, Lane, NEW, new_mark};
use super::rounds::{LOOK, ROUND_SHARE, expand_few};
use super::*;
use crate::contract::debug_check;
use crate::space::cells::Cells;
use crate::space::dense::Mark;
use crate::space::number_bits;
use crate::space::remainders::{Remainders, SLICES, Slice, WORD_BITS_MAX};
use crate::space::slots::Slots;

/// Bytes that a round takes for each outcome.
const OUTCOME_BYTES: u64 = 48;
/// Fewest states of a slice in one round, unless each is dear.
const BATCH_MIN: u64 = 4;
/// Most of them: so many that a round looks at most lines of a large table.
const BATCH_MAX: u64 = 1 << 14;
/// One in so many states may be listed as the next sources.
const LISTED: u64 = 32;
/// Bits that numbers of stills may get longer by before the table is made again.
const STILLS_GROW: u32 = 2;
/// States that are asked whether they are won between two looks at the watch.
const ASKED: usize = 1 << 10;
/// States of a shard that move into the table together.
const MOVED: usize = 1 << 16;

/// Tells whoever counts memory that some was freed. Nothing is stopped by it.
fn tell_freed(watch: &dyn Watch, progress: &Progress) {
    let _ = watch.look(progress);
}

impl<'m> Sweep<'m> {
    /// Whether the states may move into a table of remainders, and fit one.
    pub(super) fn may_move(&self) -> bool {
        self.limits.drop_edges
            && self.space.dense.is_none()
            && self.space.layout.words() == 1
            && self.word_bits() <= WORD_BITS_MAX
    }

    /// Bits of the words that states are so far.
    fn word_bits(&self) -> u32 {
        match (&self.space.stills, &self.space.numbering) {
            (Some(stills), _) => crate::space::read(stills).word_bits(),
            (None, Some(numbering)) => number_bits(numbering.range()),
            (None, None) => self.space.layout.bits,
        }
    }

    /// Bits of the words that a table made now is to hold.
    fn table_bits(&self) -> u32 {
        let later = if self.space.stills.is_some() { STILLS_GROW } else { 0 };
        (self.word_bits() + later).min(WORD_BITS_MAX)
    }

    /// Goes on in a table of remainders until done or stopped. States of `depth` end at these local numbers; some of them may have been expanded.
    pub(super) fn sweep_remainders(
        &mut self,
        mut depth: u32,
        ends: &[u32; SHARDS],
        until: Until,
        watch: &dyn Watch,
    ) -> Stop {
        // Memory is what it is about; another limit ends it before the states move.
        let stopped = watch.look(&self.progress(depth)).filter(|limit| *limit != Limit::Memory);
        if let Some(limit) = stopped {
            return Stop::Hit(limit);
        }
        let mut compact = match self.move_states(depth, ends, watch) {
            Ok(compact) => compact,
            Err((compact, limit)) => {
                self.end_remainders(*compact, watch);
                // What some states lead to was left behind: of none is it known what can come.
                if let Some(dense) = &self.space.dense {
                    dense.rename(Class::Running, Class::Open);
                    dense.rename(Class::Idle, Class::Open);
                }
                return Stop::Hit(limit);
            }
        };
        let stop = loop {
            if until == Until::FirstGoal
                && let Some(stop) = self.goals_in_slots(&mut compact, depth, watch)
            {
                break stop;
            }
            if let Until::Moves(last) = until
                && depth > last
            {
                break Stop::Enough;
            }
            let stop = self.expand_slots(&mut compact, depth, watch);
            let new = std::mem::take(&mut compact.new);
            if new > 0 {
                compact.per_depth.push(new);
                depth += 1;
            }
            match stop {
                _ if !compact.faults.is_empty() => break Stop::Fault,
                Some(stop) => break stop,
                None if new == 0 => break Stop::Complete,
                None => compact.begin_depth(depth),
            }
        };
        self.end_remainders(compact, watch);
        stop
    }

    /// Moves all states into a table of remainders, shard by shard, so that there are never two of all. Where a limit other than memory ends that, what was
    /// moved so far is given with it, and the rest is gone.
    fn move_states(
        &mut self,
        depth: u32,
        ends: &[u32; SHARDS],
        watch: &dyn Watch,
    ) -> Result<Compact, (Box<Compact>, Limit)> {
        self.space.drop_log();
        (self.given, self.numbered) = (vec![], vec![]);
        self.lanes = vec![];
        let space = &self.space;
        let word = |id: &StateId| {
            let mut out = vec![];
            space.push_words(*id, &mut out);
            out[0]
        };
        let per_depth: Vec<u64> = (0..=depth)
            .map(|d| if d < depth { space.level_len(d) } else { self.states_until(d, ends) })
            .collect();
        let mut compact = Compact {
            table: Remainders::new(self.table_bits()),
            book: Book::new(),
            lanes: (0..SLICES).map(|_| Lane::default()).collect(),
            by_list: false,
            listed: false,
            new: space.states_len() - per_depth.iter().sum::<u64>(),
            per_depth,
            new_depths: [depth, depth + 1],
            expanded: space.expanded_len(),
            starts: space.starts.iter().map(word).collect(),
            faults: self.faults.iter().map(|(id, fault)| (word(id), *fault)).collect(),
        };
        self.faults.clear();
        let progress = self.progress(depth);
        let stopped = || watch.look(&progress).filter(|limit| *limit != Limit::Memory);
        for (n, &end) in ends.iter().enumerate() {
            let empty = Shard::new(n, self.space.layout);
            let shard = std::mem::replace(&mut self.space.shards[n], empty);
            let levels = &self.space.levels;
            let (mut depth_of, mut depth_ends) = (0, 0);
            // The marks of the classes at this depth, 0 where none was needed so far.
            let mut mark_of = [0; 16];
            let mut words = vec![];
            for first in (0..shard.len()).step_by(MOVED) {
                let last = (first + MOVED).min(shard.len());
                words.clear();
                shard.table.push_states(first..last, &mut words);
                let mut moved: Vec<Vec<(u64, Mark)>> = vec![vec![]; SLICES];
                for (local, word) in (first as u32..).zip(&words) {
                    while local >= depth_ends && depth_of <= depth {
                        depth_ends = if depth_of == depth { end } else { levels.range(n, depth_of, 0).end };
                        depth_of += 1;
                        mark_of = [0; 16];
                    }
                    let mark = if local >= end {
                        new_mark(depth + 1)
                    } else if local >= shard.expanded() {
                        new_mark(depth)
                    } else {
                        let class = shard.classes.get(local);
                        let mark = &mut mark_of[class as usize];
                        if *mark == 0 {
                            *mark = compact.book.mark(depth_of - 1, class);
                        }
                        *mark
                    };
                    let (slice, rest) = compact.table.split(*word);
                    moved[slice].push((rest, mark));
                }
                compact.add(&moved, (&self.pool, self.limits.threads));
                if let Some(limit) = stopped() {
                    self.space.shards = (0..SHARDS).map(|n| Shard::new(n, self.space.layout)).collect();
                    self.space.levels = crate::space::levels::Levels::new();
                    compact.end_here(depth);
                    return Err((Box::new(compact), limit));
                }
            }
        }
        self.space.levels = crate::space::levels::Levels::new();
        Ok(compact)
    }

    /// How many states of a depth there are before these local numbers.
    fn states_until(&self, depth: u32, ends: &[u32; SHARDS]) -> u64 {
        let first = |n: usize| self.space.level_of(n, depth).start;
        (0..SHARDS).map(|n| u64::from(ends[n] - first(n))).sum()
    }

    fn pool(&self) -> &rayon::ThreadPool {
        pool(&self.pool, self.limits.threads)
    }

    /// How far it got.
    fn compact_progress(&self, compact: &Compact, depth: u32) -> Progress {
        let lists: usize = compact.lanes.iter().map(|lane| lane.list.capacity() + lane.next.capacity()).sum();
        Progress {
            states: compact.table.len(),
            expanded: compact.expanded,
            depth,
            bytes: compact.table.bytes() + 8 * lists as u64 + self.space.bytes() + self.model.bytes(),
            numbers: None,
        }
    }

    /// Marks the won states of a depth.
    fn goals_in_slots(&mut self, compact: &mut Compact, depth: u32, watch: &dyn Watch) -> Option<Stop> {
        let progress = self.compact_progress(compact, depth);
        let hit: Mutex<Option<Limit>> = Mutex::new(None);
        let (space, model, workers) = (&self.space, self.model, &self.workers);
        let (mix, slices) = compact.table.apart();
        let check = |(n, slice): (usize, &mut Slice)| {
            let (mut won, mut asked) = (vec![], 0usize);
            let goes_on = || {
                let mut hit = hit.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                *hit = hit.or_else(|| watch.look(&progress));
                hit.is_none()
            };
            let by = |worker: &mut dyn Worker| {
                slice.each_with(0, new_mark(depth), |slot| {
                    // A fault shows again, with its route, when the level is expanded.
                    if worker.status(&[mix.word(n, slice.rest(slot))]) == Ok(Status::Goal) {
                        won.push(slot);
                    }
                    asked += 1;
                    !asked.is_multiple_of(ASKED) || goes_on()
                });
            };
            workers.lend(|| space.worker(model), by);
            won
        };
        let won: Vec<Vec<usize>> = if progress.states < SMALL_ROUND as u64 {
            slices.iter_mut().enumerate().map(check).collect()
        } else {
            self.pool().install(|| slices.par_iter_mut().enumerate().map(check).collect())
        };
        // Of goals that lie alike near the first way in move order is told, so all of them are wanted.
        let hit = hit.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(limit) = hit {
            return Some(Stop::Hit(limit));
        }
        if won.iter().any(|won| !won.is_empty()) {
            compact.table.make_room_for_marks(compact.book.most());
            let goal = compact.book.mark(depth, Class::Goal);
            for (slice, won) in compact.table.slices.iter_mut().zip(won) {
                won.iter().for_each(|slot| slice.set_mark(*slot, goal));
            }
            return Some(Stop::Complete);
        }
        if let Some(limit) = watch.look(&progress) {
            return Some(Stop::Hit(limit));
        }
        self.looked_through = self.looked_through.max(depth + 1);
        None
    }

    /// States of a slice that are expanded in one round: more in a large table, as long as a round takes a small part of it, and fewer where little
    /// memory is left.
    fn compact_batch(&self, progress: &Progress) -> usize {
        let batch = u64::from(self.model.batch().max(1));
        if batch == 1 {
            return 1;
        }
        let branching = self.transitions / progress.expanded.max(1) + 2;
        let states_in = |bytes: u64| bytes / ROUND_SHARE / OUTCOME_BYTES / (SLICES as u64 * branching);
        let left = self.limits.memory_bytes.saturating_sub(progress.bytes);
        let most = states_in(progress.bytes).clamp(batch, BATCH_MAX);
        most.min(states_in(left)).max(BATCH_MIN) as usize
    }

    /// Expands the states of a depth.
    fn expand_slots(&mut self, compact: &mut Compact, depth: u32, watch: &dyn Watch) -> Option<Stop> {
        loop {
            let progress = self.compact_progress(compact, depth);
            if let Some(limit) = watch.look(&progress) {
                return Some(Stop::Hit(limit));
            }
            // What wider marks will take, now or when classes are told.
            let wider = compact.table.bytes_for_marks(compact.book.most_in_the_end(depth as usize + 2));
            if progress.bytes + wider > self.limits.memory_bytes {
                return Some(Stop::Hit(Limit::Memory));
            }
            compact.table.make_room_for_marks(compact.book.most());
            let round = compact.gather(depth, self.compact_batch(&progress));
            if round == 0 {
                return None;
            }
            let branching = self.transitions / progress.expanded.max(1) + 2;
            // Room for the outcomes, for one slice that grows, and for new states.
            let slack = round as u64 * branching * OUTCOME_BYTES + progress.bytes / 32;
            if progress.bytes + wider + slack > self.limits.memory_bytes {
                return Some(Stop::Hit(Limit::Memory));
            }
            // A slice that grows gets a fifth more slots, and all of them are numbers in the end.
            let slots = compact.table.slots();
            if slots + slots / 4 + round as u64 * branching > u64::from(u32::MAX) {
                return Some(Stop::Hit(Limit::TableFull));
            }
            if let Err(limit) = self.expand_gathered(compact, round, watch, &progress) {
                return Some(Stop::Hit(limit));
            }
            if self.word_bits() > compact.table.bits() {
                // Names became too long: the states are asked again.
                compact.make_wider(self.table_bits(), (&self.pool, self.limits.threads));
                continue;
            }
            self.sort_outcomes(compact, round);
            let room = self.limits.max_states - compact.table.len();
            if !self.insert_outcomes(compact, (depth, round), room, watch) {
                return Some(Stop::Hit(Limit::MaxStates));
            }
            self.note_round(compact);
        }
    }

    /// The rules run on the sources of a round. A limit drops it.
    fn expand_gathered(
        &self,
        compact: &mut Compact,
        round: usize,
        watch: &dyn Watch,
        progress: &Progress,
    ) -> Result<(), Limit> {
        let (space, model, workers) = (&self.space, self.model, &self.workers);
        let look_after = if space.sure { LOOK } else { 1 };
        let hit: Mutex<Option<Limit>> = Mutex::new(None);
        let expand = |lane: &mut Lane| {
            lane.out.clear();
            lane.out.leave_out_odds();
            if lane.words.is_empty() {
                return;
            }
            workers.lend(
                || space.worker(model),
                |worker| {
                    let few = lane.words.chunks(look_after);
                    let look = || watch.look(progress);
                    let done = expand_few(worker, few, self.past_goals, (&hit, &look), &mut lane.out);
                    lane.keep(done);
                    if space.numbering.is_none() && space.stills.is_none() {
                        debug_check(model, done, &lane.out);
                    }
                },
            );
        };
        self.each_lane(round, &mut compact.lanes, expand);
        let hit = hit.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(limit) = hit {
            return Err(limit);
        }
        space.name(compact.lanes.iter_mut().map(|lane| &mut lane.out));
        Ok(())
    }

    /// Says of each source of a round which class it has, and of each outcome which slice it belongs to.
    fn sort_outcomes(&self, compact: &mut Compact, round: usize) {
        let (space, model, workers, waiting) = (&self.space, self.model, &self.workers, &self.waiting);
        let table = &compact.table;
        let sort = |lane: &mut Lane| {
            if lane.words.is_empty() {
                lane.classes.clear();
                lane.given.clear();
                return;
            }
            lane.idle.clear();
            if !waiting.is_empty() {
                workers.lend(
                    || space.worker(model),
                    |worker| find_idle(worker, 1, waiting, &lane.words, &lane.out, &mut lane.idle),
                );
            }
            lane.sort(table);
        };
        self.each_lane(round, &mut compact.lanes, sort);
    }

    /// Does something for each lane: on all threads where the round is large.
    fn each_lane(&self, round: usize, lanes: &mut [Lane], work: impl Fn(&mut Lane) + Sync + Send) {
        // A few states that are dear are worth several threads.
        let small = if self.model.batch() == 1 { 4 } else { SMALL_ROUND };
        if round < small {
            lanes.iter_mut().for_each(work);
        } else {
            self.pool().install(|| lanes.par_iter_mut().for_each(work));
        }
    }

    /// Gives the sources of a round the marks of their classes, and puts their outcomes into the table. False where there are more than `room` new ones:
    /// the sources are then not expanded.
    fn insert_outcomes(
        &self,
        compact: &mut Compact,
        (depth, round): (u32, usize),
        room: u64,
        watch: &dyn Watch,
    ) -> bool {
        let progress = self.compact_progress(compact, depth);
        let mut mark_of = [0; 16];
        for class in compact.lanes.iter().flat_map(|lane| &lane.classes) {
            if mark_of[*class as usize] == 0 {
                mark_of[*class as usize] = compact.book.mark(depth, *class);
            }
        }
        let outcomes: u64 = compact.lanes.iter().map(|lane| lane.given.len() as u64).sum();
        let surely = outcomes <= room;
        let (_, slices) = compact.table.apart();
        let mut next: Vec<Vec<u64>> = compact.lanes.iter_mut().map(|l| std::mem::take(&mut l.next)).collect();
        let (lanes, listed) = (&compact.lanes, compact.listed);
        let insert = |(n, (slice, next)): (usize, (&mut Slice, &mut Vec<u64>)), room: u64| {
            let (before, slots) = (slice.len(), slice.slots());
            if surely {
                lanes[n].mark_sources(slice, &mark_of);
            }
            let given: usize = lanes
                .iter()
                .filter(|lane| !lane.words.is_empty())
                .map(|l| (l.firsts[n + 1] - l.firsts[n]) as usize)
                .sum();
            slice.read_ahead(given);
            let most =
                |slice: &Slice| usize::try_from(room).unwrap_or(usize::MAX >> 1) - (slice.len() - before);
            for lane in lanes.iter().filter(|lane| !lane.words.is_empty()) {
                let given = &lane.given[lane.firsts[n] as usize..lane.firsts[n + 1] as usize];
                let listing = |rest| {
                    if listed {
                        next.push(rest);
                    }
                };
                let most = most(slice);
                if !slice.insert_all(given, (new_mark(depth + 1), most), listing) {
                    return (slice.len() - before, false);
                }
            }
            if slice.slots() > slots {
                // Before the next one grows.
                tell_freed(watch, &progress);
            }
            (slice.len() - before, true)
        };
        let all = slices.iter_mut().zip(&mut next).enumerate();
        let (new, fits) = if surely && round >= SMALL_ROUND {
            let found = self.pool().install(|| {
                let all = slices.par_iter_mut().zip(&mut next).enumerate();
                all.map(|one| insert(one, u64::MAX >> 1).0 as u64).sum()
            });
            (found, true)
        } else {
            let (mut new, mut fits) = (0, true);
            for one in all {
                let here;
                (here, fits) = insert(one, room - new);
                new += here as u64;
                if !fits {
                    break;
                }
            }
            (new, fits)
        };
        if fits && !surely {
            for (lane, slice) in lanes.iter().zip(slices) {
                lane.mark_sources_again(slice, &mark_of);
            }
        }
        compact.new += new;
        for (lane, next) in compact.lanes.iter_mut().zip(next) {
            lane.next = next;
        }
        let listed_most = compact.table.len() / LISTED;
        if compact.listed && compact.new > listed_most {
            compact.listed = false;
            compact.lanes.iter_mut().for_each(|lane| lane.next = vec![]);
        }
        fits
    }

    /// Counts what a round found.
    fn note_round(&mut self, compact: &mut Compact) {
        for lane in compact.lanes.iter().filter(|lane| !lane.words.is_empty()) {
            compact.expanded += lane.words.len() as u64;
            self.transitions += lane.given.len() as u64;
            self.edges += lane.edges;
            self.set_aside |= lane.out.heads.iter().any(|head| head.status == Status::Cut);
            if let Some((_, limit)) = lane.out.unfinished.first() {
                self.unfinished.get_or_insert(*limit);
            }
            compact.faults.extend(lane.out.faults.iter().map(|(k, fault)| (lane.words[*k as usize], *fault)));
        }
    }

    /// The table grows no more: its slots are the numbers of the states.
    fn end_remainders(&mut self, compact: Compact, watch: &dyn Watch) {
        let progress = self.compact_progress(&compact, compact.new_depths[0]);
        let Compact { table, mut book, per_depth, new_depths, expanded, starts, faults, lanes, .. } = compact;
        drop(lanes);
        let levels = per_depth.len();
        // New states were not expanded.
        let mut renamed: Vec<Mark> = vec![0; 1 + NEW.len()];
        for depth in new_depths {
            renamed[new_mark(depth) as usize] = book.mark(depth, Class::Open) - NEW.len() as Mark;
        }
        let marks = book.most_in_the_end(levels);
        // The marks of new states have no use any more.
        renamed.extend((1 + NEW.len()..book.meaning.len()).map(|mark| (mark - NEW.len()) as Mark));
        let meaning = &book.meaning[NEW.len()..];
        let (slots, cells) =
            Slots::of(table, &renamed, Cells::width_for(marks), || tell_freed(watch, &progress));
        let number =
            |word: u64| slots.number(word).map(|n| StateId::from_number(n as u32)).expect("it is there");
        self.space.starts = starts.into_iter().map(number).collect();
        self.faults = faults.into_iter().map(|(word, fault)| (number(word), fault)).collect();
        self.workers = Workers::default();
        self.space.dense = Some(Dense::of_slots(slots, cells, meaning, per_depth, expanded));
    }
}
