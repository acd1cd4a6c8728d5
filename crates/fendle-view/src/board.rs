//! Boards as text.

use std::collections::BTreeSet;

use unicode_width::UnicodeWidthStr;

/// A board to be drawn: short texts in rows of equal length.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Board {
    /// Row by row.
    pub rows: Vec<Vec<String>>,
    /// Cells to be marked, as (row, column) from 0.
    pub marks: BTreeSet<(usize, usize)>,
    /// Names of the columns, for piles that stand side by side; empty on a board, where rows and columns are numbered.
    pub heads: Vec<String>,
    /// Every second row begins half a cell further to the right.
    pub shifted: bool,
}

/// Boards wider than this, in columns of text, are drawn without blanks and names.
const WIDE: usize = 96;

impl Board {
    /// The board as lines of text. Marked cells stand in square brackets.
    ///
    /// ```
    /// use fendle_view::board::Board;
    /// let rows = vec![vec!["1".into(), "2".into()], vec!["3".into(), ".".into()]];
    /// let board = Board { rows, marks: [(1, 1)].into(), ..Board::default() };
    /// assert_eq!(board.lines(), ["    1  2", "1   1  2", "2   3 [.]"]);
    /// ```
    #[must_use]
    pub fn lines(&self) -> Vec<String> {
        if !self.heads.is_empty() {
            return self.piles();
        }
        let cols = self.rows.first().map_or(0, Vec::len);
        let cell = self.rows.iter().flatten().map(|c| c.width()).max().unwrap_or(1);
        let wide = cell.max(cols.to_string().len());
        let side = self.rows.len().to_string().len();
        if side + 2 + cols * (wide + 2) > WIDE && !self.shifted {
            return self.compact(cell);
        }
        let half = " ".repeat((wide + 2) / 2);
        let pad = |text: &str, width: usize| format!("{}{text}", " ".repeat(width - text.width().min(width)));
        let mut out = vec![];
        let mut head = " ".repeat(side + 2);
        for c in 1..=cols {
            head.push_str(&format!(" {} ", pad(&c.to_string(), wide)));
        }
        out.push(head.trim_end().to_string());
        for (r, row) in self.rows.iter().enumerate() {
            let mut line = format!("{}  ", pad(&(r + 1).to_string(), side));
            if self.shifted && r % 2 == 1 {
                line.push_str(&half);
            }
            for (c, text) in row.iter().enumerate() {
                let text = pad(text, wide);
                if self.marks.contains(&(r, c)) {
                    // The bracket hugs the text, not the padding.
                    let inner = text.trim_start();
                    line.push_str(&format!("{}[{inner}]", " ".repeat(text.len() - inner.len())));
                } else {
                    line.push_str(&format!(" {text} "));
                }
            }
            out.push(line.trim_end().to_string());
        }
        out
    }

    /// Piles side by side, each as wide as what lies in it, as many next to each other as fit.
    fn piles(&self) -> Vec<String> {
        let blocks: Vec<Vec<String>> = (self.heads.iter().enumerate())
            .map(|(c, head)| {
                let entries = self.rows.iter().filter_map(|r| r.get(c)).cloned();
                std::iter::once(head.clone()).chain(entries).collect()
            })
            .collect();
        side_by_side(&blocks, 2, WIDE)
    }

    fn compact(&self, cell: usize) -> Vec<String> {
        let gap = if cell > 1 { " " } else { "" };
        let mut out: Vec<String> = self
            .rows
            .iter()
            .map(|row| {
                let cells: Vec<String> =
                    row.iter().map(|c| format!("{}{c}", " ".repeat(cell - c.width()))).collect();
                cells.join(gap)
            })
            .collect();
        if !self.marks.is_empty() {
            let names: Vec<String> =
                self.marks.iter().map(|(r, c)| format!("r{}c{}", r + 1, c + 1)).collect();
            out.push(format!("marked: {}", names.join(", ")));
        }
        out
    }
}

/// Blocks of lines next to each other, `gap` blanks between, as many to a line as fit `width`.
#[must_use]
pub fn side_by_side(blocks: &[Vec<String>], gap: usize, width: usize) -> Vec<String> {
    let mut out = vec![];
    let mut from = 0;
    while from < blocks.len() {
        let mut to = from;
        let mut used = 0;
        while to < blocks.len() {
            let w = blocks[to].iter().map(|l| l.width()).max().unwrap_or(0) + gap;
            if to > from && used + w - gap > width {
                break;
            }
            used += w;
            to += 1;
        }
        if from > 0 {
            out.push(String::new());
        }
        let height = blocks[from..to].iter().map(Vec::len).max().unwrap_or(0);
        for i in 0..height {
            let mut line = String::new();
            for block in &blocks[from..to] {
                let w = block.iter().map(|l| l.width()).max().unwrap_or(0);
                let text = block.get(i).map_or("", String::as_str);
                line.push_str(text);
                line.push_str(&" ".repeat(w - text.width() + gap));
            }
            out.push(line.trim_end().to_string());
        }
        from = to;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn board(rows: &[&str]) -> Board {
        let rows = rows.iter().map(|r| r.chars().map(String::from).collect()).collect();
        Board { rows, ..Board::default() }
    }

    #[test]
    fn wide_boards_lose_their_names_but_no_cell() {
        let row = "abcdefghij".repeat(6);
        let mut b = board(&[&row, &row]);
        b.marks.insert((1, 2));
        assert_eq!(b.lines(), [row.clone(), row, "marked: r2c3".to_string()]);
    }

    #[test]
    fn piles_stand_side_by_side_and_rows_are_shifted_by_half_a_cell() {
        let rows = vec![vec!["9.tar".into(), "1".into()], vec!["8".into(), String::new()]];
        let piles = Board { rows, heads: vec!["a".into(), "b".into()], ..Board::default() };
        assert_eq!(piles.lines(), ["a      b", "9.tar  1", "8"]);
        let six = Board { shifted: true, ..board(&["ab", "cd", "ef"]) };
        assert_eq!(six.lines(), ["    1  2", "1   a  b", "2    c  d", "3   e  f"]);
    }

    #[test]
    fn blocks_wrap_where_the_width_ends() {
        let block = |t: &str| vec![t.to_string()];
        let lines = side_by_side(&[block("aaaa"), block("bbbb"), block("cc")], 2, 10);
        assert_eq!(lines, ["aaaa  bbbb", "", "cc"]);
    }
}
