//! `check` as JSON.

use fendle_ask::check::Checked;
use fendle_ask::{Answer, End, Store};
use serde_json::{Value, json};

/// Models, levels and diagnostics.
pub fn value(a: &Answer<Checked>, store: &Store, end: End) -> Value {
    let mut out = a.found.json(store, end == End::Yes);
    if let Some(by) = &a.stopped_by {
        out["stopped_by"] = json!(by);
    }
    out
}
