//! What models and levels say, followed through every way in which it is worked out.

mod alike;
mod arithmetic;
mod cells_at_once;
mod common;
mod corpus;
mod diagnostics;
mod families;
mod hidden;
mod invariants;
mod keeps;
mod leaps;
mod level_mistakes;
mod looks;
mod meaning;
mod mistaken_rules;
mod mistakes;
mod newer;
mod numbers;
mod odds_by_number;
mod one_mistake;
mod plain;
mod positions;
mod random_models;
mod relaxed;
mod session;
mod variants;
