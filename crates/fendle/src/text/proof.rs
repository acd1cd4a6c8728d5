//! `check --proof` as text.

use fendle_ask::Answer;
use fendle_ask::proof::Rechecked;

use super::{position_lines, stopped_line, wrapped};

/// Whether a proof holds.
pub fn lines(a: &Answer<Rechecked>) -> Vec<String> {
    let r = &a.found;
    match (&r.what, &r.why) {
        (Some(what), _) => {
            let mut out = vec![a.asked.title.clone()];
            if let Some(p) = &r.position {
                out.push(String::new());
                out.extend(position_lines(p));
                out.push(String::new());
            }
            out.extend(wrapped(&format!("the proof holds: {what}")));
            out
        }
        (None, Some(why)) if r.proof == "refused" => wrapped(&format!("refused: {why}")),
        (None, _) => vec![format!("undecided: {}", stopped_line(a).unwrap_or("stopped".into()))],
    }
}
