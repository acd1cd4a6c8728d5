//! `graph` as JSON: what was written.

use std::path::PathBuf;

use fendle_ask::StoppedBy;
use fendle_ask::graph::{Graph, Matching};
use serde_json::{Value, json};

/// The files and what is in them.
pub fn value(
    graphs: &[&Graph],
    files: &[PathBuf],
    matching: Option<&Matching>,
    stopped: Option<&StoppedBy>,
) -> Value {
    json!({
        "wrote": files,
        "graphs": graphs,
        "matched": matching.map(|m| json!({"states": m.pairs.len(), "how": m.how})),
        "complete": stopped.is_none(),
        "stopped_by": stopped,
    })
}
