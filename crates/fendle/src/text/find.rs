//! `find` as text.

use fendle_ask::Answer;
use fendle_ask::find::Found;
use fendle_core::numbers::{counted, grouped};

use super::{beside, move_lines, named, position_lines, wrapped};

/// The nearest position in which a condition holds.
pub fn lines(a: &Answer<Found>) -> Vec<String> {
    let f = &a.found;
    let mut out = named(&a.asked);
    if f.hides {
        out.insert(out.len() - 1, "among all positions of this layout, whoever knows it or not".into());
    }
    let so_far = if f.complete { "" } else { " so far" };
    let many = counted(f.count, "such position", "such positions");
    let states = counted(f.states, "state", "states");
    match (&f.moves, &f.position) {
        (Some(moves), Some(position)) => {
            let depth = counted(moves.len() as u64, "move", "moves");
            out.push(match f.any {
                true => format!("such a position after {depth}; not always the nearest ({states} seen)"),
                false => format!("{many}{so_far}, among {states}; the nearest after {depth}"),
            });
            if let Some(start) = &f.begins_at {
                out.push(format!("from the start that --at takes as: {start}"));
            }
            out.extend(move_lines(moves));
            out.push(String::new());
            out.extend(beside(&[position_lines(position)]));
            out.push(String::new());
            out.push(format!("as --at takes it: {}", position.line));
        }
        _ if f.count > 0 => out.push(format!("{many}{so_far}, among {states}")),
        _ if f.why_none.is_some() => {
            let why = f.why_none.as_deref().unwrap_or_default();
            out.extend(wrapped(&format!("no such position: {why}")));
        }
        _ if f.complete => out.push(format!(
            "no such position: proved by looking at all {} reachable states",
            grouped(f.states)
        )),
        _ => out.push(format!("undecided: none among the {states} that were seen")),
    }
    if let Some(by) = &a.stopped_by {
        out.push(format!("not seen whole: {}", by.words));
    }
    out
}
