//! `show` as text.

use fendle_ask::Answer;
use fendle_ask::show::Shown;

use super::{named, position_lines};

/// The position and what is on it.
pub fn lines(a: &Answer<Shown>) -> Vec<String> {
    let s = &a.found;
    let mut out = named(&a.asked);
    out.extend(position_lines(&s.position));
    out.push(String::new());
    if !s.counts.is_empty() {
        let words: Vec<String> = s.counts.iter().map(|(n, c)| format!("{c} {n}")).collect();
        out.push(words.join(", "));
    }
    out.push(s.status.clone());
    out
}
