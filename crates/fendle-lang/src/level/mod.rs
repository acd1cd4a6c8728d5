//! A model and one level become a bound model.

pub mod bind;
mod binding;
mod likeness;

pub use crate::syntax::level::{Level, LevelFile, read};
pub use bind::{bind, bind_until};
