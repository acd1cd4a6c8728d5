//! Spaces, chance, faults and what can be known, on models that are given as tables or as plain code.

mod contract;
mod faults;
mod infer;
mod odds;
mod spaces;
mod structure;
mod twins;
