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

    /// Boards with their rows and columns numbered, and values, as plain lines for notes.
    #[must_use]
    pub fn plain_lines(&self) -> Vec<String> {
        let mut out = vec![];
        for Picture { rows, .. } in &self.drawn.pictures {
            let columns: Vec<String> =
                (1..=rows.first().map_or(0, Vec::len)).map(|c| c.to_string()).collect();
            let widest = rows.iter().flatten().chain(&columns).map(|c| c.chars().count()).max().unwrap_or(1);
            let line = |head: String, row: &[String]| {
                let cells: String = row.iter().map(|c| format!("  {c:>widest$}")).collect();
                format!("{head:>2}{cells}").trim_end().to_string()
            };
            out.push(line(String::new(), &columns));
            out.extend(rows.iter().enumerate().map(|(r, row)| line((r + 1).to_string(), row)));
        }
        out.extend(self.drawn.values.iter().map(|(name, value)| format!("{name} = {value}")));
        out
    }
}
