//! When a search must stop, and what it says when it does.
//!
//! A limit is never a "no": it says how far the search got, and never that the model is at fault.

use serde::Serialize;

/// What ended a search before everything was seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Limit {
    /// The greatest number of states was reached.
    MaxStates,
    /// The memory budget was used up.
    Memory,
    /// The time was used up.
    Time,
    /// Somebody asked to stop.
    Interrupted,
    /// Branches of chance were set aside past the bound of their cascade: what lies behind them was not seen.
    SetAside,
    /// A part of the table of states holds as many as it can number, about a thousand million in all.
    TableFull,
    /// A move has more outcomes than are written down.
    Outcomes,
    /// Chances, or the weights of what may be hidden, are too fine to be kept exactly.
    TooFine,
    /// More layouts of hidden things are possible than are weighed one by one.
    Layouts,
}

/// Why a sweep ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stop {
    /// Nothing was left to do.
    Complete,
    /// All that was wanted was seen, and there is more.
    Enough,
    /// A limit was hit with work left.
    Hit(Limit),
    /// The model broke; see the fault that came with it.
    Fault,
}

/// Bounds of a search.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Greatest number of distinct states, starts included.
    pub max_states: u64,
    /// Bytes that the tables of the search may take.
    pub memory_bytes: u64,
    /// Threads to use; 0 means one for each core. Changes no answer.
    pub threads: usize,
    /// Whether the edges may be dropped when memory runs short, and made again where they are needed: slower, and
    /// what asks the space for its edges afterwards finds none.
    pub drop_edges: bool,
    /// States from which on a space is kept by number, where the model numbers them and edges may be dropped; from half as many on what rarely
    /// changes in wide states is kept once. Changes no answer.
    pub number_from: u64,
    /// States from which on only remainders of states are kept, where edges may be dropped and states are one word, whether memory runs short or not.
    /// Changes no answer.
    pub remainders_from: u64,
}

/// Below this many states hashed tables cost nothing, and looking for numbers would take longer than the search.
pub const NUMBER_FROM: u64 = 1 << 15;

impl Default for Limits {
    fn default() -> Limits {
        Limits {
            max_states: u64::MAX,
            memory_bytes: 4 << 30,
            threads: 0,
            drop_edges: false,
            number_from: NUMBER_FROM,
            remainders_from: u64::MAX,
        }
    }
}

/// How far a search got.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Progress {
    /// Distinct states seen.
    pub states: u64,
    /// States whose moves were tried.
    pub expanded: u64,
    /// The depth being worked on, in moves.
    pub depth: u32,
    /// Bytes taken by the tables.
    pub bytes: u64,
    /// Where states are numbers: how many numbers there are.
    pub numbers: Option<u64>,
}

/// Looks over the shoulder of a search: the clock, Ctrl-C and progress bars live behind it.
///
/// Every loop that can run for long asks it, at the latest after some tens of thousands of steps.
pub trait Watch: Sync {
    /// Told how far the search is; a `Some` stops it there.
    fn look(&self, progress: &Progress) -> Option<Limit>;

    /// Asked while what was seen is put in order after a limit was hit: a `Some` leaves the rest undecided. A watch may
    /// allow a little more time for this, so that what is known can be told.
    fn wrap_up(&self, progress: &Progress) -> Option<Limit> {
        let _ = progress;
        None
    }
}

/// Never stops anything.
#[derive(Clone, Copy, Debug, Default)]
pub struct NoWatch;

impl Watch for NoWatch {
    fn look(&self, _: &Progress) -> Option<Limit> {
        None
    }
}

/// Counts the steps of a loop and asks a watch every so often.
///
/// ```
/// use fendle_core::{NoWatch, limits::Pace};
///
/// let mut pace = Pace::new(&NoWatch);
/// for _ in 0..100_000 {
///     pace.step(1)?;
/// }
/// # Ok::<(), fendle_core::Limit>(())
/// ```
pub struct Pace<'w> {
    watch: &'w dyn Watch,
    progress: Progress,
    steps: u64,
    wraps_up: bool,
}

/// Steps between two looks at the watch.
const STRIDE: u64 = 4096;

impl<'w> Pace<'w> {
    /// Asks this watch.
    #[must_use]
    pub fn new(watch: &'w dyn Watch) -> Pace<'w> {
        Pace { watch, progress: Progress::default(), steps: 0, wraps_up: false }
    }

    /// Asks as one who puts in order what was seen before a limit was hit: see [`Watch::wrap_up`].
    #[must_use]
    pub fn wrapping_up(watch: &'w dyn Watch) -> Pace<'w> {
        Pace { wraps_up: true, ..Pace::new(watch) }
    }

    /// Says how far the search is, for whoever watches.
    #[must_use]
    pub fn at(mut self, progress: Progress) -> Pace<'w> {
        self.progress = progress;
        self
    }

    /// The same for one who goes on.
    pub(crate) fn note(&mut self, progress: Progress) {
        self.progress = progress;
    }

    /// Counts `cost` steps, a step being some tens of nanoseconds.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that the watch names.
    #[inline]
    pub fn step(&mut self, cost: u64) -> Result<(), Limit> {
        self.steps += cost;
        if self.steps < STRIDE {
            return Ok(());
        }
        self.steps = 0;
        self.now()
    }

    /// Asks at once.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that the watch names.
    pub fn now(&self) -> Result<(), Limit> {
        let answer =
            if self.wraps_up { self.watch.wrap_up(&self.progress) } else { self.watch.look(&self.progress) };
        answer.map_or(Ok(()), Err)
    }
}
