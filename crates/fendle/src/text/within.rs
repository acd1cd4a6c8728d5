//! `odds --within` as text.

use fendle_ask::Answer;
use fendle_ask::within::Near;
use fendle_core::numbers::{counted, grouped};
use fendle_view::text::table;

use super::{named, value_text};

/// What the next moves can bring.
pub fn lines(a: &Answer<Near>) -> Vec<String> {
    let n = &a.found;
    let mut out = named(&a.asked);
    let moves = counted(n.within.into(), "move", "moves");
    let states = counted(n.states, "state", "states");
    match &a.stopped_by {
        Some(by) => out.push(format!(
            "stopped by {} after {states}: the bounds hold whatever was not seen within {moves}",
            by.words
        )),
        None => out.push(format!("within {moves}, {states}:")),
    }
    let mut rows: Vec<(&str, String)> = vec![];
    let after = |k: u32| counted(k.into(), "move", "moves");
    // What was not found may lie in what was not seen.
    let not = |what: &str| if n.complete { what.to_string() } else { "not known".to_string() };
    if n.has_goal {
        let sure = match n.sure_win {
            Some(k) => format!("yes, by {}, whatever is drawn", after(k)),
            None => not("no: no way of playing has surely won by then"),
        };
        rows.push(("sure win", sure));
        if let Some(v) = &n.best_probability {
            rows.push(("best probability", value_text(v, true)));
        }
    }
    let forced = match n.forced_ruin {
        Some(0) => "it has ended badly already".into(),
        Some(k) => format!("after {} at the earliest, if everything falls badly", after(k)),
        None => not("no: some way of playing gets past these moves, whatever is drawn"),
    };
    rows.push(("can be forced", forced));
    if let Some(v) = &n.least_ruin {
        rows.push(("least ruin", value_text(v, true)));
    }
    out.extend(rows.iter().map(|(name, text)| format!("{name:<18}{text}")));
    out.push("ruin is an end that is not won: lost, stuck, or over".into());
    if !n.moves.is_empty() {
        out.push(String::new());
        let mut head = vec!["move", "outcomes"];
        if n.has_goal {
            head.push("best probability");
        }
        head.push("least ruin");
        let row = |m: &fendle_ask::within::NearWorth| {
            let mut row = vec![m.name.clone(), grouped(m.outcomes.into())];
            if n.has_goal {
                row.push(value_text(&m.best_probability, true));
            }
            row.push(value_text(&m.least_ruin, true));
            row
        };
        out.extend(table(&head, &n.moves.iter().map(row).collect::<Vec<_>>()));
    }
    out
}
