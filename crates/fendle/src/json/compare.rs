//! `compare --spaces` as JSON.

use fendle_ask::Answer;
use fendle_ask::compare::Compared;
use serde_json::{Value, json};

/// Two spaces side by side. Each side names its own level.
pub fn value(a: &Answer<Compared>) -> Value {
    let mut out = json!(a.found);
    out["effort"] = super::effort(&a.effort);
    if let Some(by) = &a.stopped_by {
        out["stopped_by"] = json!(by);
    }
    out
}
