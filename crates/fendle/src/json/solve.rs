//! `solve` as JSON.

use std::path::PathBuf;

use fendle_ask::Answer;
use fendle_ask::solve::Solved;
use serde_json::{Value, json};

/// A solution or a proof; `proof_file`: what was written of it, in words; `drawn`: the picture that was written.
pub fn value(a: &Answer<Solved>, proof_file: Option<&str>, drawn: &[PathBuf]) -> Value {
    let mut out = super::answer_and_file(a, drawn);
    out["proof_file"] = json!(proof_file);
    out
}
