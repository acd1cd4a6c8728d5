//! The rules of one level as flat code: made from the checked tree, verified, and run without allocating for a state.

pub mod executor;
pub mod game;
pub mod ir;
pub mod lower;
pub mod machine;
mod runner;

pub use executor::Executor;
pub use game::Game;
