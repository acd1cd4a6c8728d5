//! What a question may cost: one deadline, one budget of memory, one way to be interrupted, for all of its phases.
//!
//! A [`Budget`] is made once for a question, when its command begins. Every loop that can run for long looks at it, through
//! [`Watch`]. After a limit was hit, what was seen is put in order for half a second at the most; where memory ran short, which says nothing of time, as long
//! as that takes. Files that take long to be written look at a [`Patience`].

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};

use fendle_core::limits::NUMBER_FROM;
use fendle_core::{Limit, Limits, Progress, Watch};
use fendle_lang::code::native::Maker;
use serde::Serialize;

use crate::bound::TableStore;

/// What the program itself takes, and an answer beside the tables.
const PROGRAM_BYTES: u64 = 16 << 20;

/// What an answer takes beside all that is counted already.
const ANSWER_BYTES: u64 = 4 << 20;

/// How long what was seen may be put in order after a limit was hit.
const WRAP_UP: Duration = Duration::from_millis(400);

/// How long something may be written after time ran out or somebody interrupted.
const WRITING: Duration = Duration::from_millis(800);

/// The limits that are asked for.
#[derive(Clone, Copy, Debug)]
pub struct Wanted {
    /// Most distinct states.
    pub max_states: Option<u64>,
    /// Bytes of memory.
    pub memory: u64,
    /// Time for everything.
    pub time: Option<Duration>,
    /// Threads; 0 means one for each core.
    pub threads: usize,
    /// Seed for everything that is drawn.
    pub seed: u64,
    /// What makes native code of the rules where that pays; without it the interpreter runs them all.
    pub native: Option<Maker>,
}

impl Default for Wanted {
    fn default() -> Wanted {
        Wanted { max_states: None, memory: 4 << 30, time: None, threads: 0, seed: 1, native: None }
    }
}

/// Who is told how far a search is, how long it has taken, and what was found so far.
pub type Listener = Box<dyn Fn(&Progress, Duration, &SoFar) + Send + Sync>;

/// Who is told, in words, when something better was found.
pub type Teller = Box<dyn Fn(&str) + Send + Sync>;

/// What a search for a solution has found so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SoFar {
    /// What is being tried, in words.
    pub trying: Option<&'static str>,
    /// Moves of the best solution.
    pub best: Option<usize>,
    /// No solution has fewer.
    pub least: Option<u32>,
}

/// What stands around a question: who may interrupt it, who is told how far it is, and how much memory is in use.
pub struct Surroundings {
    /// Set when somebody asks to stop.
    pub interrupted: &'static AtomicBool,
    /// Told how far a search is, now and then.
    pub listener: Option<Listener>,
    /// Bytes that the process holds now, where that is known.
    pub memory_now: Option<fn() -> u64>,
    /// Where tables are kept from one run to the next.
    pub tables: Option<Box<dyn TableStore>>,
    /// Told when something better was found.
    pub teller: Option<Teller>,
}

static NEVER: AtomicBool = AtomicBool::new(false);

impl Default for Surroundings {
    fn default() -> Surroundings {
        Surroundings { interrupted: &NEVER, listener: None, memory_now: None, tables: None, teller: None }
    }
}

/// How long something may still be written: as long as there is time, and a little longer, so that what was found before a limit comes to its file. Once it
/// is over it stays so.
pub struct Patience<'b> {
    budget: &'b Budget,
    began: Instant,
    over: OnceLock<Limit>,
}

impl Patience<'_> {
    /// Looks at the clock: the limit that ends it, where time ran out or somebody interrupted, and neither that nor the beginning was just now. Memory does
    /// not end it: what is written takes none.
    pub fn look(&self) -> Option<Limit> {
        self.is_over().or_else(|| {
            self.budget.stopped()?;
            let hit = *self.budget.hit.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            let (limit, when) = hit.filter(|(limit, _)| matches!(limit, Limit::Time | Limit::Interrupted))?;
            let is_over = when.max(self.began).elapsed() >= WRITING;
            is_over.then(|| *self.over.get_or_init(|| limit))
        })
    }

    /// The limit that ended it, as was seen at a look.
    #[must_use]
    pub fn is_over(&self) -> Option<Limit> {
        self.over.get().copied()
    }
}

/// One deadline and one budget for all phases of a question.
pub struct Budget {
    wanted: Wanted,
    began: Instant,
    around: Surroundings,
    /// The limit that was told of first, and when. Memory may run short and some be given back: then it is the first other one.
    hit: Mutex<Option<(Limit, Instant)>>,
    so_far: Mutex<SoFar>,
}

impl Budget {
    /// Begins now.
    #[must_use]
    pub fn new(wanted: Wanted, around: Surroundings) -> Budget {
        Budget { wanted, began: Instant::now(), around, hit: Mutex::new(None), so_far: Mutex::default() }
    }

    /// A budget without a deadline, for what is small by itself.
    #[must_use]
    pub fn plain(wanted: Wanted) -> Budget {
        Budget::new(Wanted { time: None, ..wanted }, Surroundings::default())
    }

    /// A part of what is left, for something that helps and is not what was asked for: at most so many states, and so long. An interrupt ends
    /// it, too.
    #[must_use]
    pub fn part(&self, max_states: u64, time: Duration) -> Budget {
        let left = self.wanted.time.map(|t| t.saturating_sub(self.began.elapsed()) / 4);
        let wanted = Wanted {
            max_states: Some(self.wanted.max_states.map_or(max_states, |n| n.min(max_states))),
            time: Some(left.map_or(time, |left| left.min(time))),
            ..self.wanted
        };
        let around = Surroundings {
            interrupted: self.around.interrupted,
            memory_now: self.around.memory_now,
            ..Surroundings::default()
        };
        Budget::new(wanted, around)
    }

    /// A share of the time that is left, for one phase of a question: what follows it has the rest. It is the whole where no time was said.
    #[must_use]
    pub fn share(&self, part: f64) -> Share<'_> {
        let until = self.wanted.time.filter(|_| part < 1.0).map(|_| {
            let now = self.seconds();
            let least = self.left().as_secs_f64() * part;
            (now + least, now + least * WRAP_UP_SHARE)
        });
        Share { budget: self, until }
    }

    /// Does work on as many threads as were asked for.
    pub fn pooled<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        match rayon::ThreadPoolBuilder::new().num_threads(self.wanted.threads).build() {
            Ok(pool) => pool.install(work),
            Err(_) => work(),
        }
    }

    /// How much time is left; an hour where no time was said.
    #[must_use]
    pub fn left(&self) -> Duration {
        self.wanted.time.map_or(Duration::from_secs(3600), |t| t.saturating_sub(self.began.elapsed()))
    }

    /// The limits that were asked for.
    #[must_use]
    pub fn wanted(&self) -> &Wanted {
        &self.wanted
    }

    /// Where tables are kept from one run to the next.
    #[must_use]
    pub fn tables(&self) -> Option<&dyn TableStore> {
        self.around.tables.as_deref()
    }

    /// What was found so far.
    #[must_use]
    pub fn so_far(&self) -> SoFar {
        *self.so_far.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    fn found(&self, words: &str, change: impl FnOnce(&mut SoFar)) {
        change(&mut self.so_far.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
        if let Some(teller) = &self.around.teller {
            teller(&format!("{:7.2} s  {words}", self.seconds()));
        }
    }

    /// Tells whoever listens how far a search is.
    fn tell(&self, progress: &Progress) {
        if let Some(listener) = &self.around.listener {
            listener(progress, self.began.elapsed(), &self.so_far());
        }
    }

    /// Says what is tried next.
    pub fn note(&self, trying: &'static str) {
        self.found(trying, |s| s.trying = Some(trying));
    }

    /// Says that a better solution was found.
    pub fn note_best(&self, moves: usize) {
        self.found(&format!("a solution of {moves} moves"), |s| s.best = Some(moves));
    }

    /// Says that no solution has fewer moves.
    pub fn note_least(&self, moves: u32) {
        if self.so_far().least.is_none_or(|l| l < moves) {
            self.found(&format!("none has fewer than {moves} moves"), |s| s.least = Some(moves));
        }
    }

    /// Seconds since it began.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        self.began.elapsed().as_secs_f64()
    }

    /// The limits of a search, from what was asked for.
    #[must_use]
    pub fn limits(&self) -> Limits {
        Limits {
            max_states: self.wanted.max_states.unwrap_or(u64::MAX),
            // The program itself, and what an answer takes beside the tables.
            memory_bytes: self
                .wanted
                .memory
                .saturating_sub((self.wanted.memory / 16).max(PROGRAM_BYTES))
                .max(1 << 19),
            threads: self.wanted.threads,
            drop_edges: false,
            number_from: NUMBER_FROM,
            remainders_from: u64::MAX,
        }
    }

    /// The same for at most so many states.
    #[must_use]
    pub fn limits_within(&self, most: u64) -> Limits {
        let limits = self.limits();
        Limits { max_states: limits.max_states.min(most), ..limits }
    }

    /// Whether to stop, and why.
    #[must_use]
    pub fn stopped(&self) -> Option<Limit> {
        self.stopped_past(self.memory_line())
    }

    /// The same where so many bytes may be in use.
    fn stopped_past(&self, line: u64) -> Option<Limit> {
        let limit = if self.around.interrupted.load(Ordering::Relaxed) {
            Some(Limit::Interrupted)
        } else if self.wanted.time.is_some_and(|t| self.began.elapsed() >= t) {
            Some(Limit::Time)
        } else if self.is_filled(line) {
            Some(Limit::Memory)
        } else {
            None
        };
        if let Some(limit) = limit {
            let mut hit = self.hit.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            if hit.is_none_or(|(first, _)| first == Limit::Memory && limit != Limit::Memory) {
                *hit = Some((limit, Instant::now()));
            }
        }
        limit
    }

    /// The limit that was told of first, though it may not hold any more.
    #[must_use]
    pub fn was_hit(&self) -> Option<Limit> {
        self.hit.lock().unwrap_or_else(std::sync::PoisonError::into_inner).map(|(limit, _)| limit)
    }

    /// Whether more than so many bytes are in use.
    fn is_filled(&self, line: u64) -> bool {
        self.around.memory_now.is_some_and(|now| now() > line)
    }

    /// Bytes in use, the program's own pages among them, from which on a question stops: a little before the budget, so that the answer still
    /// fits.
    fn memory_line(&self) -> u64 {
        let all = self.wanted.memory;
        all.saturating_sub((all / 32).max(ANSWER_BYTES)).max(all / 2)
    }

    /// The same for loops that only want to know whether.
    pub fn is_stopped(&self) -> bool {
        self.stopped().is_some()
    }

    /// The patience with something that is written from now on.
    #[must_use]
    pub fn patience(&self) -> Patience<'_> {
        Patience { budget: self, began: Instant::now(), over: OnceLock::new() }
    }

    /// A limit in words.
    #[must_use]
    pub fn words(&self, limit: Limit) -> String {
        match limit {
            Limit::MaxStates => {
                let most = self.wanted.max_states.unwrap_or(0);
                format!("the limit of {} states (--max-states)", fendle_core::numbers::grouped(most))
            }
            Limit::Memory => {
                format!("the memory budget of {} (--memory)", fendle_core::numbers::bytes(self.wanted.memory))
            }
            Limit::Time => format!("the time of {:?} (--time)", self.wanted.time.unwrap_or_default()),
            Limit::Interrupted => "an interrupt".into(),
            Limit::SetAside => {
                "branches of chance that were set aside past the bound of their cascade".into()
            }
            Limit::TableFull => "a table of states that holds as many as it can number".into(),
            Limit::Outcomes => "a move with more outcomes than are written down".into(),
            Limit::TooFine => {
                "chances that are too fine to be kept exactly (in a cascade a lower bound, with `else cut`, sets rare branches aside)"
                    .into()
            },
            Limit::Layouts => format!(
                "more than {} layouts of what is hidden, which are weighed one by one here",
                fendle_core::numbers::grouped(crate::knowledge::WORLDS_MAX as u64)
            ),
        }
    }

    /// What it took so far.
    #[must_use]
    pub fn effort(&self, states: u64) -> Effort {
        let seconds = self.seconds();
        Effort { seconds, states_per_second: (states as f64 / seconds.max(1e-9)) as u64 }
    }
}

impl Watch for Budget {
    fn look(&self, progress: &Progress) -> Option<Limit> {
        self.tell(progress);
        self.stopped()
    }

    fn wrap_up(&self, progress: &Progress) -> Option<Limit> {
        self.tell(progress);
        let hit = *self.hit.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        match hit {
            // What was seen is put in order in memory that was left for it, and takes the time that it takes. Another limit begins its own moment.
            Some((Limit::Memory, _)) => {
                self.stopped_past(self.wanted.memory).filter(|limit| *limit == Limit::Memory)
            }
            Some((_, at)) if at.elapsed() > WRAP_UP => self.stopped(),
            // The memory is still the memory.
            Some(_) => self.is_filled(self.wanted.memory).then_some(Limit::Memory),
            // The search ended by itself, or by a limit of its own such as a number of states: the deadline is still the deadline.
            None => self.stopped_past(self.wanted.memory),
        }
    }
}

/// How much longer than its share a phase may put in order what it saw.
const WRAP_UP_SHARE: f64 = 1.25;

/// A share of a budget's time.
pub struct Share<'b> {
    budget: &'b Budget,
    /// Seconds after which it is used up, and those after which nothing more is put in order.
    until: Option<(f64, f64)>,
}

impl Watch for Share<'_> {
    fn look(&self, progress: &Progress) -> Option<Limit> {
        let is_over = self.until.is_some_and(|t| self.budget.seconds() > t.0);
        self.budget.look(progress).or(is_over.then_some(Limit::Time))
    }

    fn wrap_up(&self, progress: &Progress) -> Option<Limit> {
        let is_over = self.until.is_some_and(|t| self.budget.seconds() > t.1);
        self.budget.wrap_up(progress).or(is_over.then_some(Limit::Time))
    }
}

/// How much time an answer took, kept apart from what it says.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Effort {
    /// Seconds since the question was begun.
    pub seconds: f64,
    /// Distinct states a second.
    pub states_per_second: u64,
}
