//! `find` as text.

use fendle_ask::Answer;
use fendle_ask::find::{Draws, Found};
use fendle_ask::near::{Near, Plays};
use fendle_core::numbers::{counted, grouped};

use super::{beside, move_lines, named, position_lines, wrapped};

/// Whether a condition is brought about within the next moves.
pub fn near(a: &Answer<Near>) -> Vec<String> {
    let n = &a.found;
    let mut out = named(&a.asked);
    let who = match n.plays {
        Plays::Some => "some way of playing comes to such a position",
        Plays::Every => "whatever the player does, play comes to such a position",
    };
    let draws = match (n.chance, n.draws) {
        (false, _) => "",
        (true, Draws::Some) => ", if the draws fall so",
        (true, Draws::Every) => ", whatever is drawn",
    };
    let states = counted(n.states, "state", "states");
    let within = counted(n.within.into(), "move", "moves");
    out.extend(wrapped(&match (n.after, n.complete) {
        (Some(0), _) => "it is such a position already".to_string(),
        (Some(k), true) => {
            format!("{who} within {}{draws}, and not sooner; {states}", counted(k.into(), "move", "moves"))
        }
        (Some(k), false) => format!(
            "{who} within {}{draws}, as far as was seen; {states}",
            counted(k.into(), "move", "moves")
        ),
        (None, true) => {
            let none = match n.plays {
                Plays::Some => "no way of playing comes to such a position",
                Plays::Every => "the player can keep from such a position",
            };
            let draws = match (n.chance, n.plays, n.draws) {
                (false, ..) | (true, Plays::Some, Draws::Some) => "",
                (true, Plays::Some, Draws::Every) => " against every draw",
                (true, Plays::Every, Draws::Every) => ", or some draws do,",
                (true, Plays::Every, Draws::Some) => ", whatever is drawn,",
            };
            format!("{none}{draws} within {within}: proved by looking at all {states} of these moves")
        }
        (None, false) => format!("undecided: none is known among what was seen: {states}"),
    }));
    if !n.first.is_empty() {
        out.extend(wrapped(&format!("it begins with: {}", n.first.join(", or "))));
    }
    if let Some(by) = &a.stopped_by {
        out.push(format!("not seen whole: {}", by.words));
    }
    out
}

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
            out.push(match (f.any, &f.sampled) {
                (true, _) => format!("such a position after {depth}; not always the nearest ({states} seen)"),
                (false, Some(s)) => format!(
                    "such a position after {depth}, sampled: not always the nearest ({}, seed {})",
                    counted(s.plays, "play", "plays"),
                    s.seed
                ),
                (false, None) => format!("{many}{so_far}, among {states}; the nearest after {depth}"),
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
        _ => {
            out.push(format!("undecided: none is known among what was seen: {states}"));
            if let Some(s) = &f.sampled {
                out.push(format!(
                    "sampled: none in {} with {}, seed {}; that proves nothing",
                    counted(s.plays, "play", "plays"),
                    counted(s.positions, "position", "positions"),
                    s.seed
                ));
            }
        }
    }
    if let Some(by) = &a.stopped_by {
        out.push(format!("not seen whole: {}", by.words));
    }
    out
}
