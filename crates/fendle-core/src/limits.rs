//! When a search must stop, and what it says when it does.
//!
//! A limit is never a "no": it says how far the search got.

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
    /// Branches of chance were set aside past the bound of their cascade.
    SetAside,
}

/// Why a sweep ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stop {
    /// Nothing was left to do.
    Complete,
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
}

impl Default for Limits {
    fn default() -> Limits {
        Limits { max_states: u64::MAX, memory_bytes: 4 << 30, threads: 0, drop_edges: false }
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
}

/// Looks over the shoulder of a search: the clock, Ctrl-C and progress bars live behind it.
///
/// It is asked after each round of at most a few hundred thousand states.
pub trait Watch: Sync {
    /// Told how far the search is; a `Some` stops it there.
    fn look(&self, progress: &Progress) -> Option<Limit>;
}

/// Never stops anything.
#[derive(Clone, Copy, Debug, Default)]
pub struct NoWatch;

impl Watch for NoWatch {
    fn look(&self, _: &Progress) -> Option<Limit> {
        None
    }
}
