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

pub mod check;
pub mod code;
pub mod known;
pub mod level;
pub mod model;
pub mod play;
pub mod position;
pub mod reasons;
pub mod run;
pub mod source;
pub mod state;
pub mod syntax;
pub mod variants;

pub use code::Game;
pub use level::{Level, LevelFile, bind, bind_until};
pub use source::{Diagnostic, FileId, Severity, Sources, Span};
pub use state::Bound;

/// Reads a condition about reached states of a model whose text is known to be right: the model's own
/// expressions, and the words of the analyses. Errors point into `text`, which is `file`.
pub fn question(
    (model_file, model_text): (FileId, &str),
    file: FileId,
    text: &str,
    errors: &mut Vec<Diagnostic>,
) -> Option<model::Body> {
    let mut quiet = vec![];
    let source = syntax::parser::parse(model_file, model_text, &mut quiet);
    let expr = syntax::parser::parse_expr(file, text, errors)?;
    check::check_question(model_file, &source, (&expr, file), errors)
}

/// Parses and checks a model. `None` when anything is wrong; errors are appended.
pub fn compile(file: FileId, text: &str, errors: &mut Vec<Diagnostic>) -> Option<model::Model> {
    let before = errors.len();
    let source = syntax::parser::parse(file, text, errors);
    let parsed = errors.len() == before;
    // Checking goes on after syntax errors, so that one run shows everything.
    let model = check::check(file, &source, errors);
    source::tidy(errors);
    if parsed { model } else { None }
}
