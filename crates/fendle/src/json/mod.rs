//! Answers as JSON values. An answer serialises itself, with what it took beside; the files here are for the questions
//! whose value has something more to it.

pub mod check;
pub mod compare;
pub mod graph;
pub mod show;
pub mod solve;
pub mod why;

use std::path::PathBuf;

use fendle_ask::{Answer, Effort};
use serde::Serialize;
use serde_json::{Value, json};

use crate::memory;

/// An answer with what it took.
pub fn answer<T: Serialize>(a: &Answer<T>) -> Value {
    let mut out = json!(a);
    out["effort"] = effort(&a.effort);
    out
}

/// The same, naming the file that was written.
pub fn answer_and_file<T: Serialize>(a: &Answer<T>, wrote: &[PathBuf]) -> Value {
    let mut out = answer(a);
    if let Some(path) = wrote.first() {
        out["wrote"] = json!(path);
    }
    out
}

/// What a question took.
pub fn effort(effort: &Effort) -> Value {
    json!({
        "seconds": effort.seconds,
        "states_per_second": effort.states_per_second,
        "peak_memory_bytes": memory::peak(),
    })
}
