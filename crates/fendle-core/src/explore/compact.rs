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

use std::collections::HashMap;
use std::sync::Mutex;

use super::rounds::{LOOK, ROUND_SHARE, distinct, expand_few, take_first};
use super::*;
use crate::contract::debug_check;
use crate::space::cells::Cells;
use crate::space::dense::{LATER_CLASSES, MARKS_OF_DEPTH, Mark};
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

/// Marks of states that were not expanded yet, by whether their depth is odd; those of other depths and classes come after them.
const NEW: [Mark; 2] = [1, 2];

fn new_mark(depth: u32) -> Mark {
    NEW[depth as usize % 2]
}

/// Which depth and class each mark stands for.
struct Book {
    marks: HashMap<(u32, u8), Mark>,
    meaning: Vec<(u32, Class)>,
}

impl Book {
    fn new() -> Book {
        // No mark, and those of new states, stand for nothing in the book.
        Book { marks: HashMap::new(), meaning: vec![(0, Class::Open); 1 + NEW.len()] }
    }

    fn mark(&mut self, depth: u32, class: Class) -> Mark {
        *self.marks.entry((depth, class as u8)).or_insert_with(|| {
            self.meaning.push((depth, class));
            self.meaning.len() as Mark - 1
        })
    }

    /// The greatest mark that may be needed when one more depth was expanded.
    fn most(&self) -> u64 {
        self.meaning.len() as u64 + MARKS_OF_DEPTH
    }

    /// The greatest one that may be needed when so many depths were seen and classes are told later.
    fn most_in_the_end(&self, depths: usize) -> u64 {
        self.most() + LATER_CLASSES as u64 * (depths as u64 + 1)
    }
}

/// Tells whoever counts memory that some was freed. Nothing is stopped by it.
fn tell_freed(watch: &dyn Watch, progress: &Progress) {
    let _ = watch.look(progress);
}

/// What one slice does in a round.
#[derive(Default)]
struct Lane {
    /// Rests of the states of this depth and of the next one, where they are listed, and how many of the first ones were expanded.
    list: Vec<u64>,
    listed_done: usize,
    next: Vec<u64>,
    /// Where the next state of this depth is looked for, and how many slots there were when that was noted.
    cursor: (usize, usize),
    /// The sources of this round.
    slots: Vec<usize>,
    rests: Vec<u64>,
    words: Vec<u64>,
    out: Expansion,
    idle: Vec<u32>,
    classes: Vec<Class>,
    /// Rests of the outcomes by slice, and where those of each slice begin, with one entry more.
    given: Vec<u64>,
    firsts: Vec<u32>,
    /// Slice and rest of each outcome.
    split: Vec<(u8, u64)>,
    edges: u64,
}

/// A table of remainders that is being filled.
struct Compact {
    table: Remainders,
    book: Book,
    lanes: Vec<Lane>,
    /// The states of the depth that is expanded are listed.
    by_list: bool,
    /// Those of the next one are.
    listed: bool,
    per_depth: Vec<u64>,
    /// The depth that is expanded, and the next one: new states lie there.
    new_depths: [u32; 2],
    /// States at the next depth so far.
    new: u64,
    expanded: u64,
    /// Words of the starts, and of the states on which the model broke.
    starts: Vec<u64>,
    faults: Vec<(u64, Fault)>,
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

impl Compact {
    /// Counts again what is there, when not all states were moved. Starts, and states on which the model broke, are there at any rate.
    fn end_here(&mut self, depth: u32) {
        let kept: Vec<u64> = self.starts.iter().copied().chain(self.faults.iter().map(|f| f.0)).collect();
        // What their depths and classes were went with the others.
        let open = self.book.mark(0, Class::Open);
        self.table.make_room_for_marks(self.book.most());
        for word in kept {
            let (slice, rest) = self.table.split(word);
            if self.table.slices[slice].find(rest).is_none() {
                self.table.slices[slice].add(rest, open);
            }
        }
        self.per_depth = vec![0; depth as usize + 2];
        self.expanded = 0;
        let book = &self.book;
        for slice in &self.table.slices {
            slice.each(|_, mark| {
                let is_new = NEW.contains(&mark);
                let at = if is_new {
                    depth + u32::from(mark != new_mark(depth))
                } else {
                    book.meaning[mark as usize].0
                };
                self.per_depth[at as usize] += 1;
                self.expanded += u64::from(!is_new);
            });
        }
        while self.per_depth.last() == Some(&0) {
            self.per_depth.pop();
        }
        self.new = 0;
    }

    /// Adds states by slice, on all threads where they are many.
    fn add(&mut self, moved: &[Vec<(u64, Mark)>], (cell, threads): (&OnceLock<rayon::ThreadPool>, usize)) {
        self.table.make_room_for_marks(self.book.most());
        let (_, slices) = self.table.apart();
        let add = |(slice, moved): (&mut Slice, &Vec<(u64, Mark)>)| {
            moved.iter().for_each(|(rest, mark)| slice.add(*rest, *mark));
        };
        if moved.iter().map(Vec::len).sum::<usize>() < SMALL_ROUND {
            slices.iter_mut().zip(moved).for_each(add);
        } else {
            pool(cell, threads).install(|| slices.par_iter_mut().zip(moved).for_each(add));
        }
    }

    /// Moves all states into a table for longer words.
    fn make_wider(&mut self, bits: u32, pool: (&OnceLock<rayon::ThreadPool>, usize)) {
        let mut old = std::mem::replace(&mut self.table, Remainders::new(bits));
        for n in 0..SLICES {
            let mut moved: Vec<Vec<(u64, Mark)>> = vec![vec![]; SLICES];
            let slice = old.take_slice(n);
            slice.each(|slot, mark| {
                let (to, rest) = self.table.split(old.word(n, slice.rest(slot)));
                moved[to].push((rest, mark));
            });
            drop(slice);
            self.add(&moved, pool);
        }
        (self.by_list, self.listed) = (false, false);
        self.lanes = (0..SLICES).map(|_| Lane::default()).collect();
    }

    /// What was new lies at the depth that is expanded from now on.
    fn begin_depth(&mut self, depth: u32) {
        self.new_depths = [depth, depth + 1];
        self.by_list = self.listed;
        self.listed = true;
        for lane in &mut self.lanes {
            lane.list = std::mem::take(&mut lane.next);
            (lane.listed_done, lane.cursor) = (0, (0, 0));
        }
    }

    /// Takes the next states of a depth, so many of each slice. Gives how many they are.
    fn gather(&mut self, depth: u32, batch: usize) -> usize {
        let mut round = 0;
        for (n, lane) in self.lanes.iter_mut().enumerate() {
            let slice = &self.table.slices[n];
            lane.slots.clear();
            lane.rests.clear();
            if self.by_list {
                let left = &lane.list[lane.listed_done..];
                lane.rests.extend_from_slice(&left[..batch.min(left.len())]);
                lane.slots.extend(lane.rests.iter().map(|rest| slice.find(*rest).expect("it was added")));
            } else {
                // Where the slice has grown since, slots are others.
                let from = if lane.cursor.1 == slice.slots() { lane.cursor.0 } else { 0 };
                lane.cursor = (slice.slots(), slice.slots());
                slice.each_with(from, new_mark(depth), |slot| {
                    if lane.slots.len() == batch {
                        lane.cursor.0 = slot;
                        return false;
                    }
                    lane.slots.push(slot);
                    true
                });
                lane.rests.extend(lane.slots.iter().map(|slot| slice.rest(*slot)));
            }
            lane.words.clear();
            lane.words.extend(lane.rests.iter().map(|rest| self.table.word(n, *rest)));
            round += lane.words.len();
        }
        round
    }
}

impl Lane {
    /// Only the first sources of the round were expanded, so many.
    fn keep(&mut self, done: usize) {
        if let Some(slot) = self.slots.get(done) {
            self.cursor.0 = *slot;
        }
        self.listed_done += done;
        self.words.truncate(done);
        self.rests.truncate(done);
        self.slots.truncate(done);
    }

    /// Finds the classes of the sources, and sorts the outcomes by slice.
    fn sort(&mut self, table: &Remainders) {
        let Lane { out, classes, idle, given, firsts, split, edges, .. } = self;
        classes.clear();
        classes.extend(out.heads.iter().map(class_of));
        idle.iter().for_each(|k| classes[*k as usize] = Class::Idle);
        let open = out.unfinished.iter().map(|u| u.0).chain(out.faults.iter().map(|f| f.0));
        open.for_each(|k| classes[k as usize] = Class::Open);
        // Different words are different states.
        let (mut left, mut runs, mut sorted) = (out.outcomes.as_slice(), out.runs.as_slice(), vec![]);
        *edges = 0;
        for head in &out.heads {
            let runs = take_first(&mut runs, head.runs as usize);
            let count = runs.iter().map(|run| run.outcomes as usize).sum();
            *edges += distinct(take_first(&mut left, count), &mut sorted);
        }
        let mut counts = [0u32; SLICES];
        split.clear();
        split.extend(out.outcomes.iter().map(|word| {
            let (slice, rest) = table.split(*word);
            counts[slice] += 1;
            (slice as u8, rest)
        }));
        firsts.clear();
        firsts.push(0);
        firsts.extend(counts.iter().scan(0, |sum, count| {
            *sum += count;
            Some(*sum)
        }));
        let mut at: [u32; SLICES] = std::array::from_fn(|n| firsts[n]);
        given.resize(split.len(), 0);
        for (slice, rest) in &*split {
            let at = &mut at[usize::from(*slice) % SLICES];
            given[*at as usize] = *rest;
            *at += 1;
        }
    }

    /// Gives the sources the marks of their classes.
    fn mark_sources(&self, slice: &mut Slice, mark_of: &[Mark; 16]) {
        for (slot, class) in self.slots.iter().zip(&self.classes) {
            slice.set_mark(*slot, mark_of[*class as usize]);
        }
    }

    /// The same where slots may be others by now.
    fn mark_sources_again(&self, slice: &mut Slice, mark_of: &[Mark; 16]) {
        for (rest, class) in self.rests.iter().zip(&self.classes) {
            let slot = slice.find(*rest).expect("it was expanded");
            slice.set_mark(slot, mark_of[*class as usize]);
        }
    }
}
