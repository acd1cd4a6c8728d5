//! `compare` as text: two spaces, or a level beside a running game.

use fendle_ask::Answer;
use fendle_ask::compare::{Compared, Only};
use fendle_ask::game::Compared as Lockstep;
use fendle_core::Exploration;
use fendle_core::numbers::{counted, grouped};
use fendle_view::board::Board;
use fendle_view::text::table;
use serde_json::Value;

use super::{Marks, beside, headed, move_lines, named, position_lines, stopped_line, wrapped};

/// Two spaces side by side.
pub fn lines(a: &Answer<Compared>) -> Vec<String> {
    let c = &a.found;
    let mut out =
        vec![format!("first:  {}", c.first.title), format!("second: {}", c.second.title), String::new()];
    let (x, y) = (&c.first.counts, &c.second.counts);
    let whole = x.is_whole() && y.is_whole();
    let least = |c: &Exploration| match c.shortest {
        Some(n) => grouped(n.into()),
        None if c.is_whole() => "none".into(),
        None => "not seen".into(),
    };
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
        ("least moves", least(x), least(y)),
    ]
    .into_iter()
    .map(|(name, a, b)| {
        // What was not seen may make counts equal, or different.
        let differs = if a == b || !whole { "" } else { "differs" };
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
        "{} in both, as they are written; {} of them {} another status",
        counted(m.states_in_both, "state is", "states are"),
        grouped(m.other_status),
        if whole { "with" } else { "known to have" }
    ));
    let edges = ("edge between states of both", "edges between states of both");
    only(&mut out, "first", &m.states_only_in_first, ("state", "states"));
    only(&mut out, "second", &m.states_only_in_second, ("state", "states"));
    only(&mut out, "first", &m.edges_only_in_first, edges);
    only(&mut out, "second", &m.edges_only_in_second, edges);
    out
}

fn only(out: &mut Vec<String>, which: &str, what: &Option<Only>, (one, many): (&str, &str)) {
    let Some(what) = what else {
        let other = if which == "first" { "second" } else { "first" };
        out.push(format!("{many} only in the {which}: not known, the {other} was not seen whole"));
        return;
    };
    out.push(format!("{} only in the {which}", counted(what.count, one, many)));
    out.extend(what.examples.iter().map(|e| format!("  {e}")));
    let more = what.count - what.examples.len() as u64;
    if more > 0 {
        out.push(format!("  ... and {} more", grouped(more)));
    }
}

/// A level beside a running game, or beside plays that were recorded.
pub fn game(a: &Answer<Lockstep>, recorded: bool) -> Vec<String> {
    let c = &a.found;
    let mut out = named(&a.asked);
    let positions = counted(c.positions, "position", "positions");
    let tried = counted(c.tried, "move was tried", "moves were tried");
    if c.differences.is_empty() {
        out.push(match &a.stopped_by {
            None if recorded => format!(
                "what was recorded is what the model does: {} in {}",
                counted(c.tried, "move", "moves"),
                counted(c.positions - c.tried.min(c.positions), "play", "plays"),
            ),
            None if !c.complete => format!(
                "the game does what the model does in {positions}; {tried}; others were not come to: the game draws, and cannot be led to every outcome"
            ),
            None => {
                format!("the game does what the model does: {positions}, all that can be reached; {tried}")
            }
            Some(by) => format!("undecided: no difference in {positions}; {tried}; stopped by {}", by.words),
        });
        out = out.iter().flat_map(|l| wrapped(l)).collect();
        if c.layouts > 0 {
            let pairs = counted(c.layouts, "pair", "pairs");
            out.extend(wrapped(&format!(
                "what is told is the same in {pairs} of positions that the player cannot tell apart"
            )));
        }
        return out;
    }
    for (i, d) in c.differences.iter().enumerate() {
        if i > 0 {
            out.push(String::new());
        }
        let after = match d.moves.len() {
            0 => "at the start".to_string(),
            n => format!("after {}", counted(n as u64, "move", "moves")),
        };
        let of = d.of.as_ref().map(|m| format!(", {m}")).unwrap_or_default();
        let line = d.line.map(|n| format!("line {n}, ")).unwrap_or_default();
        out.extend(wrapped(&format!("{line}{after}{of}: {}", d.words)));
        out.extend(move_lines(&d.moves));
        let mut blocks = vec![headed("before", position_lines(&d.before))];
        for (name, position) in &d.phases {
            blocks.push(headed(format!("the model, after \"{name}\""), position_lines(position)));
        }
        if let Some(model) = &d.model {
            blocks.push(headed("the model, after it", position_lines(model)));
        }
        if let Some(game) = &d.game {
            blocks.push(headed("the game", told_lines(game)));
        }
        out.push(String::new());
        out.extend(beside(&blocks));
    }
    out.push(String::new());
    out.push(format!(
        "{} in {positions}; {tried}",
        counted(c.differences.len() as u64, "difference", "differences")
    ));
    out
}

/// A position as a game tells it.
fn told_lines(told: &Value) -> Vec<String> {
    let mut out: Vec<String> = told.as_str().map(String::from).into_iter().collect();
    for (name, board) in told["boards"].as_object().into_iter().flatten() {
        if out.is_empty() && told["boards"].as_object().is_some_and(|b| b.len() > 1) {
            out.push(name.clone());
        }
        let rows: Vec<Vec<String>> = (board.as_array().into_iter().flatten())
            .map(|row| match row {
                Value::String(line) => line.chars().map(String::from).collect(),
                Value::Array(cells) => {
                    cells.iter().map(|c| c.as_str().map_or_else(|| c.to_string(), String::from)).collect()
                }
                other => vec![other.to_string()],
            })
            .collect();
        out.extend(Board { rows, marks: Marks::new(), heads: vec![], shifted: false }.lines());
    }
    for (name, value) in told["values"].as_object().into_iter().flatten() {
        out.push(format!("{name} = {}", value.as_str().map_or_else(|| value.to_string(), String::from)));
    }
    out
}
