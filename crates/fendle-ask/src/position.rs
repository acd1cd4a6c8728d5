//! A position as answers hold it: in one line, as boards of short texts, and as the values behind both.

use fendle_lang::Bound;
use fendle_lang::position::{Drawn, Picture};
use serde::{Serialize, Serializer};

/// A position. For programs it is its line, as `--at` takes it.
#[derive(Clone, Debug, PartialEq)]
pub struct Position {
    /// The position in one line.
    pub line: String,
    /// Its boards, and its other values.
    pub drawn: Drawn,
    /// The values behind it, in the order of the bound model's state.
    pub state: Vec<i32>,
}

impl Serialize for Position {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(&self.line)
    }
}

impl Position {
    /// A position as its bound model shows it: to the author, or to the player.
    #[must_use]
    pub fn new(b: &Bound, state: &[i32]) -> Position {
        Position { line: b.shown_line(state), drawn: b.draw(state), state: state.to_vec() }
    }

    /// Boards and values as plain lines, for notes.
    #[must_use]
    pub fn plain_lines(&self) -> Vec<String> {
        let mut out = vec![];
        for Picture { rows, joined, .. } in &self.drawn.pictures {
            let widest = rows.iter().flatten().map(|c| c.chars().count()).max().unwrap_or(1);
            let gap = if *joined && widest == 1 { "" } else { " " };
            let line = |row: &Vec<String>| {
                let cells: Vec<String> = row.iter().map(|c| format!("{c:>widest$}")).collect();
                cells.join(gap).trim_end().to_string()
            };
            out.extend(rows.iter().map(line));
        }
        out.extend(self.drawn.values.iter().map(|(name, value)| format!("{name} = {value}")));
        out
    }
}
