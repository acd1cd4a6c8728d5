//! Search that is guided: by what relaxed puzzles say of a state, and by how far its goal looks.
//!
//! ```text
//! ground    what is searched: states, what can be reached from each, and how far they look (a model, or a puzzle of ways)
//! best      the most promising state first; shortest ways with proof, or any way soon (Hart, Nilsson, Raphael 1968; Pohl 1970)
//! deepen    depth first under a rising bound: shortest ways in little memory (Korf 1985)
//! beam      the best of each depth only: a way where the best first one runs astray
//! dive      depth first, moves that leave few (or many) moves first (Warnsdorff 1823)
//! shorten   parts of a solution solved again
//! ```
//!
//! Nothing here is believed: whoever asks plays a solution anew. Equal questions give equal answers, on any number of threads.

pub mod beam;
pub mod best;
pub mod deepen;
pub mod dive;
pub mod ground;
pub mod shorten;
pub mod ways;

pub use ground::{Ground, Reach, Reached, Request, Scout};

use crate::limits::{Limit, Limits, Progress, Watch};
use crate::model::{Fault, Stopped};

/// A way that was found: the labels of its steps, which the ground understands.
pub type Steps = Vec<u32>;

/// What a search has found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// A way to a goal.
    pub steps: Option<Steps>,
    /// What that way costs.
    pub cost: u32,
    /// No way costs less than this; `None`: there is no way.
    pub least: Option<u32>,
    /// What stopped it.
    pub limit: Option<Limit>,
    /// It stopped since it had used up what it was given.
    pub gave_up: bool,
    /// It stopped since the model broke.
    pub broke: bool,
    /// Where that was, as far as it is known: the steps to the state, and the fault.
    pub broken: Option<(Steps, Fault)>,
    /// States that were seen.
    pub states: u64,
    /// States that relaxed puzzles said no goal can be reached from.
    pub cut: u64,
}

impl Found {
    /// Whether it ended since nothing was left to be seen.
    #[must_use]
    pub fn has_seen_all(&self) -> bool {
        self.least.is_none() && self.limit.is_none() && !self.gave_up && !self.broke
    }

    /// What is known before anything was seen.
    fn begun() -> Found {
        Found { least: Some(0), ..Found::default() }
    }

    /// The same, ended by a fault or a limit.
    fn stopped(mut self, by: Stopped) -> Found {
        match by {
            Stopped::Fault(_) => self.broke = true,
            Stopped::Limit(limit) => self.limit = Some(limit),
        }
        self
    }

    /// Looks at the start: `Err` where that is the end of the search already.
    fn look_at_start(mut self, scout: &mut dyn Scout, start: &[u64]) -> Result<(Found, Reached), Found> {
        match scout.start(start) {
            Err(by) => Err(self.stopped(by)),
            Ok(None) => {
                self.least = None;
                Err(self)
            }
            Ok(Some(r)) if r.goal => {
                self.steps = Some(vec![]);
                Err(self)
            }
            Ok(Some(r)) => Ok((self, r)),
        }
    }

    /// Asks the watch and the limit of memory; `bytes` are those that the search takes.
    fn limited(&self, progress: &Progress, limits: &Limits, watch: &dyn Watch) -> Option<Limit> {
        watch.look(progress).or((progress.bytes > limits.memory_bytes).then_some(Limit::Memory))
    }
}

/// One who looks at states for each thread.
fn scouts<'g>(ground: &'g dyn Ground, limits: &Limits) -> Vec<Box<dyn Scout + 'g>> {
    let threads = if limits.threads == 0 { rayon::current_num_threads() } else { limits.threads };
    (0..threads.max(1)).map(|_| ground.scout()).collect()
}

/// Hashes of packed states that were met.
type Met = std::collections::HashSet<u64, std::hash::BuildHasherDefault<Plain>>;

/// Steps of a [`Pace`](crate::limits::Pace) for each state that another one leads to: the rules run, and what is promised of it is asked.
const REACH_STEPS: u64 = 16;

/// About so many bytes are taken by one of them.
const MET_BYTES: u64 = 18;

/// Takes a hash as it is.
#[derive(Clone, Copy, Default)]
struct Plain(u64);

impl std::hash::Hasher for Plain {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, bytes: &[u8]) {
        for b in bytes {
            self.0 = self.0.rotate_left(8) ^ u64::from(*b);
        }
    }
    fn write_u64(&mut self, n: u64) {
        self.0 = n;
    }
}
