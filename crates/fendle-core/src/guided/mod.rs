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

pub use ground::{Ground, Reach, Reached, Scout};

use crate::limits::Limit;

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
    /// It stopped since it had used up what it was given; or the model broke.
    pub gave_up: bool,
    /// States that were seen.
    pub states: u64,
    /// States that relaxed puzzles said no goal can be reached from.
    pub cut: u64,
}
