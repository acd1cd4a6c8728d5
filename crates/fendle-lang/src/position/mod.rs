//! Positions as text, both ways: boards read into values, positions drawn, and the one-line form.

pub mod draw;
mod line;
pub mod read;
mod told;

pub use draw::{Drawn, Picture};
pub use read::UNTOLD;
