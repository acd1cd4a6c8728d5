//! `show` as JSON.

use std::collections::BTreeMap;

use fendle_ask::Answer;
use fendle_ask::show::Shown;
use serde_json::{Map, Value, json};

/// The position with its boards cell by cell.
pub fn value(a: &Answer<Shown>) -> Value {
    let drawn = &a.found.position.drawn;
    let boards: Map<String, Value> = drawn.pictures.iter().map(|p| (p.name.clone(), json!(p.rows))).collect();
    let values: BTreeMap<_, _> = drawn.values.iter().cloned().collect();
    let mut out = json!(a);
    out["boards"] = json!(boards);
    out["values"] = json!(values);
    out
}
