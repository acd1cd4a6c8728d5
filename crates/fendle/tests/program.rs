//! The built program, run on files in temporary folders as its users run it.

mod answers;
mod arguments;
mod cases;
mod chance;
mod cli;
mod common;
mod counting;
mod docs;
mod drafting;
mod faulty_variants;
mod frozen;
mod games;
mod harbour;
mod honest;
mod large;
mod limits;
mod making;
mod maps;
mod newer_families;
mod numbers;
mod pictures;
mod playing;
mod spaces;
mod watching;
mod why;
