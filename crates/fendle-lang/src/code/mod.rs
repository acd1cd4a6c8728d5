//! The rules of one level as flat code: made from the checked tree, verified, and run without allocating for a state.

pub mod game;
pub mod ir;
pub mod leaps;
pub mod lower;
pub mod machine;
pub mod native;
pub mod numbered;
mod runner;

pub(crate) use runner::told_words;

pub use game::Game;
