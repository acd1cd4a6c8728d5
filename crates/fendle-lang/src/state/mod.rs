//! States of one level: what its values are and where they lie, packing, the canonical form, the moves.

pub mod bound;
pub mod canon;
pub mod chance;
mod collections;
pub mod keys;
pub mod packing;
mod ranker;
pub mod stop;

pub use bound::*;
pub use canon::Canon;
pub use chance::Chance;
pub use keys::Keys;
pub use packing::Codec;
pub use stop::Stop;
