//! `bound` as text.

use fendle_ask::Answer;
use fendle_ask::bound::{Bounded, ShownPuzzle, alone_words};
use fendle_core::numbers::{bytes, counted, grouped};

use fendle_view::text::table;

use super::{named, position_lines, wrapped};

/// What relaxed puzzles say of a position.
pub fn lines(a: &Answer<Bounded>) -> Vec<String> {
    let b = &a.found;
    let mut out = named(&a.asked);
    out.extend(position_lines(&b.position));
    out.push(String::new());
    if let Some(why) = b.unknown {
        out.extend(wrapped(&format!("nothing is known: {why}")));
        return out;
    }
    out.extend(wrapped(&match (b.won, b.least, &b.dead_part) {
        (true, ..) => "the position is won already".to_string(),
        (_, Some(n), _) => format!("a goal needs {} at the least", counted(n.into(), "move", "moves")),
        (_, None, Some(part)) => {
            format!("no goal can be reached: {}, wherever the rest stands", alone_words(part, "the goal"))
        }
        (_, None, None) => "no goal can be reached".into(),
    }));
    for words in b.words.iter().filter(|_| b.least.is_some() && !b.won) {
        out.extend(wrapped(&format!("  {words}")));
    }
    if let Some((here, proved)) = b.declared {
        let says = if proved {
            "and is proved: no move lets it fall by more than one, and it is 0 wherever the goal holds"
        } else {
            "which is not proved, so it does not count here"
        };
        out.extend(wrapped(&format!("the model's own bound is {here}, {says}")));
    }
    if b.parts.is_empty() {
        out.extend(wrapped("no relaxed puzzle is small enough, or none says anything"));
        return out;
    }
    out.push(String::new());
    let row = |p: &ShownPuzzle| {
        vec![
            p.about.clone(),
            p.counts.into(),
            grouped(p.positions),
            grouped(p.no_way),
            p.most.to_string(),
            p.here.map_or("no way".into(), |n| n.to_string()),
        ]
    };
    let rows: Vec<Vec<String>> = b.parts.iter().map(row).collect();
    out.extend(table(&["relaxed puzzle", "counts", "positions", "no way from", "most", "here"], &rows));
    out.push(String::new());
    let kept = match b.fetched {
        0 => String::new(),
        n => format!(", {n} of them kept from an earlier run"),
    };
    let damaged = match b.damaged {
        0 => String::new(),
        n => format!("; {} damaged and made again", counted(n as u64, "kept table was", "kept tables were")),
    };
    let tables = counted(b.parts.len() as u64, "table", "tables");
    out.extend(wrapped(&format!("{tables}, {}{kept}{damaged}", bytes(b.bytes))));
    out
}
