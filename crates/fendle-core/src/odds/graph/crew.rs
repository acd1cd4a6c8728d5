//! Runs the rules while a space is written out: chunk by chunk on all threads, and what is done goes into the tables meanwhile, in
//! a fixed order.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering::Relaxed};
use std::sync::{Mutex, MutexGuard, PoisonError, mpsc};

use super::write::Halted;
use crate::explore::find_idle;
use crate::limits::{Limit, Progress, Watch};
use crate::model::{Expansion, Model, Status, Worker};

/// States or positions that one thread works on at a time.
pub(super) const CHUNK: usize = 64;
/// Outcomes after which a chunk is broken off: states with thousands of outcomes fill the memory else.
const CHUNK_OUTCOMES: usize = 1 << 14;
/// Chunks that may be done before the one that is put into the tables next.
const AHEAD: usize = 64;
/// Positions of a chunk with too many outcomes after which the others are not tried: each takes up to a second.
const GIVEN_UP: usize = 2;
/// Fewer states than this are worked on by one thread, unless they are dear: handing them out costs more.
const SMALL: usize = 256;
/// Lanes that are kept for their memory.
const SPARE: usize = 256;

/// What is done with states or positions.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Work {
    /// States are expanded.
    Expand,
    /// The same, as far as the first draw of each move.
    ExpandToDraws,
    /// Positions before a draw are drawn from.
    Draw,
}

/// One chunk of a batch, and what the rules gave.
#[derive(Default)]
pub(super) struct Lane {
    states: Vec<u64>,
    pub(super) out: Expansion,
    pub(super) idle: Vec<u32>,
    /// It was broken off: what follows belongs to a later batch.
    pub(super) early: bool,
    /// A limit ended it.
    hit: Option<Limit>,
}

/// Those who run the rules.
pub(super) struct Crew<'m> {
    model: &'m dyn Model,
    watch: &'m dyn Watch,
    /// States are given by number.
    by_number: bool,
    /// For each move whether it only waits; empty where none does.
    waiting: Vec<bool>,
    workers: Mutex<Vec<Box<dyn Worker + 'm>>>,
    spare: Mutex<Vec<Lane>>,
}

fn locked<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<'m> Crew<'m> {
    pub(super) fn new(
        model: &'m dyn Model,
        watch: &'m dyn Watch,
        by_number: bool,
        waiting: Vec<bool>,
    ) -> Crew<'m> {
        Crew { model, watch, by_number, waiting, workers: Mutex::default(), spare: Mutex::default() }
    }

    /// Works on states or positions of so many words each. `put` is given each chunk as soon as it and all before it are done,
    /// and says whether it wants the next one.
    ///
    /// # Errors
    ///
    /// What `put` says, or a limit.
    pub(super) fn run(
        &self,
        pool: &rayon::ThreadPool,
        (source, words): (&[u64], usize),
        work: Work,
        progress: &Progress,
        put: &mut dyn FnMut(Lane) -> Result<bool, Halted>,
    ) -> Result<(), Halted> {
        // States that are dear are handed out one by one.
        let dear = self.model.batch() == 1;
        let (chunk, small) = if dear { (1, 4) } else { (CHUNK, SMALL) };
        let chunks: Vec<&[u64]> = source.chunks(chunk * words).collect();
        let (claimed, taken, stop) = (AtomicUsize::new(0), AtomicUsize::new(0), AtomicBool::new(false));
        let claim = || Some(claimed.fetch_add(1, Relaxed)).filter(|i| *i < chunks.len());
        let helpers = match source.len() / words < small {
            true => 0,
            false => pool.current_num_threads() - 1,
        };
        let (done, arrived) = mpsc::channel();
        pool.in_place_scope(|scope| {
            for _ in 0..helpers {
                let done = done.clone();
                let (claim, chunks, taken, stop) = (&claim, &chunks, &taken, &stop);
                scope.spawn(move |_| {
                    while let Some(i) = claim() {
                        // What is far ahead waits, or it would fill the memory.
                        while i > taken.load(Relaxed) + AHEAD && !stop.load(Relaxed) {
                            std::thread::yield_now();
                        }
                        if stop.load(Relaxed)
                            || done.send((i, self.lane(chunks[i], words, work, progress))).is_err()
                        {
                            return;
                        }
                    }
                });
            }
            drop(done);
            let mut ready: Vec<Option<Lane>> = chunks.iter().map(|_| None).collect();
            let mut all = || {
                for next in 0..chunks.len() {
                    // This thread works, too, as long as what it waits for is not done.
                    let lane = loop {
                        arrived.try_iter().for_each(|(i, lane)| ready[i] = Some(lane));
                        if let Some(lane) = ready[next].take() {
                            break lane;
                        }
                        match claim() {
                            Some(i) => ready[i] = Some(self.lane(chunks[i], words, work, progress)),
                            None => match arrived.recv() {
                                Ok((i, lane)) => ready[i] = Some(lane),
                                // A helper panicked: so does whoever waits for it.
                                Err(_) => return Ok(()),
                            },
                        }
                    };
                    taken.store(next, Relaxed);
                    if let Some(limit) = lane.hit {
                        return Err(limit.into());
                    }
                    if !put(lane)? {
                        break;
                    }
                }
                Ok(())
            };
            let said = all();
            stop.store(true, Relaxed);
            said
        })
    }

    /// Works on one chunk.
    fn lane(&self, states: &[u64], words: usize, work: Work, progress: &Progress) -> Lane {
        let mut lane = locked(&self.spare).pop().unwrap_or_default();
        lane.states.clear();
        lane.out.clear();
        lane.idle.clear();
        (lane.early, lane.hit) = (false, None);
        let worker = locked(&self.workers).pop();
        let mut worker = worker.unwrap_or_else(|| match self.by_number {
            false => self.model.worker(),
            true => self.model.worker_by_number(),
        });
        // Limits are looked at now and then.
        let slice = if self.model.batch() == 1 { 1 } else { 16 };
        for some in states.chunks(slice * words) {
            if lane.out.outcomes_len() > CHUNK_OUTCOMES {
                lane.early = true;
                break;
            }
            lane.hit = self.watch.look(progress);
            if lane.hit.is_some() {
                break;
            }
            match work {
                Work::Expand => worker.expand(some, false, &mut lane.out),
                Work::ExpandToDraws => worker.expand_to_draws(some, false, &mut lane.out),
                Work::Draw => {
                    for position in some.chunks_exact(words) {
                        if lane.out.unfinished.len() < GIVEN_UP {
                            worker.draw(position, &mut lane.out);
                        } else {
                            lane.out.give_up(Limit::Outcomes);
                            lane.out.end_state(Status::Running, None);
                        }
                    }
                }
            }
        }
        if work != Work::Draw && !self.waiting.is_empty() {
            lane.states.extend_from_slice(&states[..lane.out.heads.len() * words]);
            find_idle(&mut *worker, words, &self.waiting, &lane.states, &lane.out, &mut lane.idle);
        }
        locked(&self.workers).push(worker);
        lane
    }

    /// Keeps a lane whose memory can be used again, unless that is much.
    pub(super) fn spare(&self, lane: Lane) {
        let mut spare = locked(&self.spare);
        if spare.len() < SPARE && lane.out.outcomes_len() <= CHUNK_OUTCOMES {
            spare.push(lane);
        }
    }

    /// The same for another model.
    pub(super) fn on<'n>(&self, model: &'n dyn Model) -> Crew<'n>
    where
        'm: 'n,
    {
        Crew::new(model, self.watch, self.by_number, self.waiting.clone())
    }

    /// The same for states by number.
    pub(super) fn by_number(&self) -> Crew<'m> {
        Crew::new(self.model, self.watch, true, self.waiting.clone())
    }
}
