//! Numbers, tables and lists as text.

use std::collections::HashMap;

use unicode_width::UnicodeWidthStr;

/// A table: the first column left, the others right where all cells below the head are numbers.
#[must_use]
pub fn table(head: &[&str], rows: &[Vec<String>]) -> Vec<String> {
    let cols = head.len();
    let numeric: Vec<bool> = (0..cols)
        .map(|c| c > 0 && rows.iter().all(|r| r[c].chars().all(|x| x.is_ascii_digit() || ",.-%".contains(x))))
        .collect();
    let widths: Vec<usize> = (0..cols)
        .map(|c| rows.iter().map(|r| r[c].width()).chain([head[c].width()]).max().unwrap_or(0))
        .collect();
    let line = |cells: &[&str]| {
        let mut out = String::new();
        for (c, cell) in cells.iter().enumerate() {
            let gap = " ".repeat(widths[c] - cell.width());
            let text = if numeric[c] { format!("{gap}{cell}") } else { format!("{cell}{gap}") };
            out.push_str(&text);
            out.push_str("  ");
        }
        out.trim_end().to_string()
    };
    let mut out = vec![line(head), widths.iter().map(|w| "-".repeat(*w)).collect::<Vec<_>>().join("  ")];
    for row in rows {
        out.push(line(&row.iter().map(String::as_str).collect::<Vec<_>>()));
    }
    out
}

/// Words joined by `; `, broken into lines of at most `width`.
#[must_use]
pub fn folded(words: &[String], width: usize) -> Vec<String> {
    let mut out: Vec<String> = vec![];
    for (i, word) in words.iter().enumerate() {
        let word = if i + 1 < words.len() { format!("{word};") } else { word.clone() };
        match out.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(&word);
            }
            _ => out.push(word),
        }
    }
    out
}

/// A sentence in lines of at most `width`, all but the first indented by two.
#[must_use]
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut out: Vec<String> = vec![];
    for word in text.split(' ') {
        match out.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            Some(_) => out.push(format!("  {word}")),
            None => out.push(word.into()),
        }
    }
    out
}

/// Lines that were there and are not any more, then lines that are new: each with `was` or `is` before it.
#[must_use]
pub fn went_and_came(before: &[String], now: &[String]) -> Vec<String> {
    let count = |lines: &[String]| {
        let mut out: HashMap<String, i64> = HashMap::new();
        lines.iter().filter(|l| !l.trim().is_empty()).for_each(|l| *out.entry(l.clone()).or_default() += 1);
        out
    };
    let only = |lines: &[String], mut others: HashMap<String, i64>, word: &str| -> Vec<String> {
        let mut out = vec![];
        for line in lines.iter().filter(|l| !l.trim().is_empty()) {
            let left = others.entry(line.clone()).or_default();
            *left -= 1;
            if *left < 0 {
                out.push(format!("{word:4}{line}"));
            }
        }
        out
    };
    let mut out = only(before, count(now), "was");
    out.extend(only(now, count(before), "is"));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_and_lists_keep_to_their_width() {
        assert_eq!(wrapped("one two three four", 9), ["one two", "  three", "  four"]);
        assert_eq!(wrapped("unbreakable", 4), ["unbreakable"]);
        let list = ["go up", "go left", "go down"].map(String::from);
        assert_eq!(folded(&list, 15), ["go up; go left;", "go down"]);
        assert!(folded(&[], 10).is_empty());
    }

    #[test]
    fn tables_align() {
        let rows = vec![vec!["a".into(), "1".into()], vec!["bcd".into(), "1,000".into()]];
        assert_eq!(
            table(&["name", "n"], &rows),
            ["name      n", "----  -----", "a         1", "bcd   1,000"]
        );
    }

    #[test]
    fn changes_are_lines_that_went_and_lines_that_came() {
        let lines = |text: &str| text.lines().map(String::from).collect::<Vec<_>>();
        let list = went_and_came(&lines("a\nsolvable in 3\n\nb\nb"), &lines("a\nsolvable in 4\nb\n\nc"));
        assert_eq!(list, ["was solvable in 3", "was b", "is  solvable in 4", "is  c"]);
        assert!(went_and_came(&lines("a\nb"), &lines("b\n\na")).is_empty(), "order alone is no change");
    }
}
