#![doc = include_str!("../README.md")]
//!
//! # Rooms
//!
//! This room knows nothing of files, text, the modelling language, printing, or the
//! clock. Everything comes in through two narrow doors: a [`Model`] says what the
//! states and moves are, a [`Watch`] says when to stop. Whoever implements [`Model`]
//! gets every analysis.
//!
//! * [`model`]: the contract: starts, moves, outcomes, refusals, statuses, what is told.
//! * [`space`]: the visited states: packed, sharded by hash, kept exactly.
//! * [`table`]: a model written out as a table, for tests and small puzzles; [`contract`]: whether a model keeps its promises.
//! * [`mod@explore`]: the whole reachable space, classified.
//! * [`knowledge`]: what a player can know of hidden things, as a model of its own.
//! * [`infer`]: what follows from clues that count: certainty, exact probabilities, proofs.
//! * [`mod@odds`]: the best probability, the least expected moves, the best value of an aim.
//! * [`mod@simulate`]: estimates by played games.
//! * [`mod@components`]: strongly connected components; [`numbers`]: greatest common divisors and disjoint sets.
//! * [`graph`]: the space as arrows, parts and distances; [`mod@structure`]: fatal moves, rooms, must-pass states, corridors.
//! * [`mod@count`]: how many solutions there are.
//! * [`mod@shape`]: whether two spaces are the same up to renaming.
//! * [`mod@proof`]: proof files, and sets of states as they hold them.
//! * [`part`]: a smallest part of a state that is enough to make it dead.
//! * [`linear`]: spans and kernels modulo a prime, for kept quantities.
//! * [`mod@solve`]: a shortest solution, or what stands in its way.
//! * [`relaxed`]: parts of a puzzle that are known wholly, and what they say of the whole; [`guided`]: search that is guided by it.
//!
//! Equal inputs give equal results, whatever the number of threads.

pub mod ahead;
mod bits;
pub mod classify;
pub mod components;
pub mod contract;
pub mod count;
mod edges;
pub mod explore;
pub mod graph;
pub mod guided;
pub mod infer;
pub mod knowledge;
pub mod limits;
pub mod linear;
pub mod model;
pub mod numbers;
pub mod odds;
pub mod part;
mod passes;
pub mod proof;
pub mod relaxed;
pub mod route;
pub mod shape;
pub mod simulate;
pub mod solve;
pub mod space;
pub mod structure;
pub mod table;
pub mod worlds;

pub use explore::{Exploration, Explored, explore};
pub use limits::{Limit, Limits, NoWatch, Pace, Progress, Stop, Watch};
pub use model::{
    Aim, Expansion, Fault, Head, Layout, Model, MoveId, Numbering, Odds, Place, Refusal, Start, Status,
    Targets, Worker,
};
pub use route::Route;
pub use solve::{Solved, Verdict, solve};
pub use space::{Class, Edge, Space, StateId};
