//! One module a command: it asks a question and gives the answer in the form that is wanted. No algorithms.

pub mod audit;
pub mod bound;
pub mod cases;
pub mod check;
pub mod compare;
pub mod demo;
pub mod explore;
pub mod find;
pub mod graph;
pub mod infer;
pub mod making;
pub mod moves;
pub mod new;
pub mod odds;
pub mod play;
pub mod review;
pub mod shell;
pub mod show;
pub mod solve;
pub mod trace;
pub mod why;
