//! Reasons: effects of the rules, kept quantities and their proofs, dead parts, laws, proofs checked again.

pub mod counting;
pub mod dead;
pub mod effects;
pub mod exchange;
pub mod gap;
pub mod invariant;
pub mod keeps;
pub mod laws;
pub mod leaps;
pub mod numbering;
pub mod parts;
pub mod recheck;
pub mod relaxed;
pub mod turned;
pub mod wanted;
