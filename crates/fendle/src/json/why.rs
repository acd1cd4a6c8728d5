//! `why` as JSON.

use fendle_ask::why::{Why, why_json};
use fendle_ask::{Answer, Loaded};
use serde_json::{Value, json};

/// The reasons of one position.
pub fn value(a: &Answer<Why>, level: &Loaded) -> Value {
    let mut out = why_json(level, &a.found, a.stopped_by.as_ref());
    out["level"] = json!(a.asked.level);
    if let Some(by) = &a.stopped_by {
        out["stopped_by"] = json!(by);
    }
    out
}
