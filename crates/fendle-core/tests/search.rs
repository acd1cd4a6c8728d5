//! Spaces, chance, faults and what can be known, on models that are given as tables or as plain code.

mod contract;
mod faults;
mod games;
mod guided;
mod infer;
mod known;
mod odds;
mod remainders;
mod sealed;
mod spaces;
mod stills;
mod stopped;
mod structure;
mod twins;
mod written;
