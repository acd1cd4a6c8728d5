//! Fendle's modelling language: from source text to a model that every analysis runs.
//!
//! ```text
//! text --lexer, parser--> syntax tree --check--> checked tree --+--> reference executor
//!                                                               |
//!                          level file --bind--> bound model ----+--lower--> code --> fast executor
//! ```
//!
//! This room knows nothing of terminals, searches, or the file system: texts come in,
//! values and diagnostics go out.

pub mod alike;
pub mod ast;
pub mod bind;
pub mod chance;
pub mod check;
pub mod codec;
pub mod dead;
pub mod diag;
pub mod effects;
pub mod examples;
pub mod exec;
pub mod hidden;
pub mod hir;
pub mod invariant;
pub mod ir;
pub mod keeps;
pub mod known;
pub mod laws;
pub mod level;
pub mod lexer;
pub mod lower;
pub mod model;
pub mod parser;
pub mod parts;
pub mod play;
pub mod player;
pub mod recheck;
pub mod reference;
pub mod scatter;
pub mod setup;
pub mod shape;
mod walk;

pub use bind::{Bound, bind};
pub use diag::{Diagnostic, FileId, Severity, Sources, Span};
pub use level::{Level, LevelFile};
pub use model::Game;

/// Reads a condition about reached states of a model whose text is known to be right: the model's own
/// expressions, and the words of the analyses. Errors point into `text`, which is `file`.
pub fn question(
    (model_file, model_text): (FileId, &str),
    file: FileId,
    text: &str,
    errors: &mut Vec<Diagnostic>,
) -> Option<hir::Body> {
    let mut quiet = vec![];
    let source = parser::parse(model_file, model_text, &mut quiet);
    let expr = parser::parse_expr(file, text, errors)?;
    check::check_question(model_file, &source, (&expr, file), errors)
}

/// Parses and checks a model. `None` when anything is wrong; errors are appended.
pub fn compile(file: FileId, text: &str, errors: &mut Vec<Diagnostic>) -> Option<hir::Model> {
    let before = errors.len();
    let source = parser::parse(file, text, errors);
    let parsed = errors.len() == before;
    // Checking goes on after syntax errors, so that one run shows everything.
    let model = check::check(file, &source, errors);
    diag::settle(errors);
    if parsed { model } else { None }
}
