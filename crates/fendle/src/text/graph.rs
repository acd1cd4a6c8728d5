//! `graph` as text: what was written.

use std::path::PathBuf;

use fendle_ask::graph::{Graph, Matching};
use fendle_core::numbers::counted;

/// What was written, and what has to be said of it.
pub fn lines(graphs: &[&Graph], files: &[PathBuf], matching: Option<&Matching>) -> Vec<String> {
    let names: Vec<String> = files.iter().map(|f| f.display().to_string()).collect();
    let size = |g: &&Graph| {
        let nodes = counted(g.nodes.len() as u64, "node", "nodes");
        format!("{nodes}, {}", counted(g.arrows.len() as u64, "arrow", "arrows"))
    };
    let sizes: Vec<String> = graphs.iter().map(size).collect();
    let mut out = vec![format!("wrote {}: {}", names.join(" and "), sizes.join("; beside it "))];
    if let Some(m) = matching {
        out.push(format!("{} in both, matched {}", counted(m.pairs.len() as u64, "state", "states"), m.how));
    }
    out.extend(graphs.iter().flat_map(|g| g.notes.iter().cloned()));
    out
}
