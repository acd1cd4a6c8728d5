//! `compare --spaces` as text.

use fendle_ask::Answer;
use fendle_ask::compare::{Compared, Only};
use fendle_core::numbers::{counted, grouped};
use fendle_view::text::table;

use super::{stopped_line, wrapped};

/// Two spaces side by side.
pub fn lines(a: &Answer<Compared>) -> Vec<String> {
    let c = &a.found;
    let mut out =
        vec![format!("first:  {}", c.first.title), format!("second: {}", c.second.title), String::new()];
    let (x, y) = (&c.first.counts, &c.second.counts);
    let number = |n: Option<u32>| n.map_or("none".to_string(), |n| grouped(n.into()));
    let rows: Vec<Vec<String>> = [
        ("states", grouped(x.states), grouped(y.states)),
        ("transitions", grouped(x.transitions), grouped(y.transitions)),
        ("edges", grouped(x.edges), grouped(y.edges)),
        ("depth", grouped(x.depth.into()), grouped(y.depth.into())),
        ("won", grouped(x.goal), grouped(y.goal)),
        ("lost", grouped(x.lost), grouped(y.lost)),
        ("over", grouped(x.over), grouped(y.over)),
        ("stuck", grouped(x.stuck), grouped(y.stuck)),
        ("dead", grouped(x.dead), grouped(y.dead)),
        ("winnable", grouped(x.winnable), grouped(y.winnable)),
        ("free", grouped(x.free), grouped(y.free)),
        ("open", grouped(x.open), grouped(y.open)),
        ("fatal moves", grouped(x.fatal_moves), grouped(y.fatal_moves)),
        ("least moves", number(x.shortest), number(y.shortest)),
    ]
    .into_iter()
    .map(|(name, a, b)| {
        let differs = if a == b { "" } else { "differs" };
        vec![name.into(), a, b, differs.into()]
    })
    .collect();
    out.extend(table(&["", "first", "second", ""], &rows).iter().map(|l| l.trim_end().to_string()));
    out.push(String::new());
    out.extend(wrapped(&c.shapes.words()));
    out.extend(stopped_line(a));
    out.push(String::new());
    let Some(m) = &c.matched else {
        out.push(
            "their states are not written alike, or are too many: they cannot be matched one by one".into(),
        );
        return out;
    };
    out.push(format!(
        "{} in both, as they are written; {} of them with another status",
        counted(m.states_in_both, "state is", "states are"),
        grouped(m.other_status)
    ));
    let edges = ("edge between states of both", "edges between states of both");
    only(&mut out, "first", &m.states_only_in_first, ("state", "states"));
    only(&mut out, "second", &m.states_only_in_second, ("state", "states"));
    only(&mut out, "first", &m.edges_only_in_first, edges);
    only(&mut out, "second", &m.edges_only_in_second, edges);
    out
}

fn only(out: &mut Vec<String>, which: &str, what: &Only, (one, many): (&str, &str)) {
    out.push(format!("{} only in the {which}", counted(what.count, one, many)));
    out.extend(what.examples.iter().map(|e| format!("  {e}")));
    let more = what.count - what.examples.len() as u64;
    if more > 0 {
        out.push(format!("  ... and {} more", grouped(more)));
    }
}
