//! Relaxed puzzles: parts of a puzzle that are small enough to be known wholly, and what they say of the whole.
//!
//! ```text
//! task      a puzzle as places, values and ways (what a move needs, what it changes)
//! tree      which ways can be taken where a board holds these values; forwards and backwards
//! pattern   some of the things only, and the moves that they need from everywhere: a table
//! numbers   positions of these as numbers
//! backwards the ways as they look to these, and the search from the goals that fills the table
//! bounds    several patterns together: the greatest, or the sum where no move is counted twice
//! choose    which patterns, by what they add on positions that were met
//! cache     tables as bytes, with what they were made for and a checksum
//! closed    the proof that there is no way, position by position, without any of these
//! ```
//!
//! A pattern leaves things out. Every play of the puzzle is a play of the pattern, so what the pattern needs at the least
//! the puzzle needs at the least (Culberson and Schaeffer 1998, "Pattern databases"), and what cannot be won there
//! cannot be won at all. Where each move is counted by one pattern alone their numbers add up (Korf and Felner 2002,
//! "Disjoint pattern database heuristics").

mod backwards;
pub mod bounds;
pub mod cache;
pub mod choose;
pub mod closed;
pub(crate) mod numbers;
pub mod pattern;
pub mod task;
pub mod tree;
pub mod turns;

pub use bounds::{Bounds, Says};
pub use pattern::{Pattern, Table};
pub use task::{Kind, Task, TaskWay};
pub use turns::Turn;
