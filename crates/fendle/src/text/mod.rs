//! Answers as text to be read, in 80 to 100 columns. One file a question; each takes an answer and gives lines.

pub mod audit;
pub mod bound;
pub mod cases;
pub mod check;
pub mod compare;
pub mod explore;
pub mod fairness;
pub mod find;
pub mod graph;
pub mod infer;
pub mod junit;
pub mod making;
pub mod moves;
pub mod odds;
pub mod proof;
pub mod review;
pub mod show;
pub mod solve;
pub mod structure;
pub mod trace;
pub mod why;
pub mod within;

use std::collections::BTreeSet;

use fendle_ask::{Answer, Asked, Loaded, Position};
use fendle_core::Limit;
use fendle_core::infer::{Fraction, about};
use fendle_core::odds::Value;
use fendle_lang::position::Drawn;
use fendle_view::board::{Board, side_by_side};
use fendle_view::text::folded;

/// Columns of text that output is made for.
pub const WIDTH: usize = 96;
/// Fractions longer than this are printed as decimals; JSON has them whole.
const FRACTION_MAX: usize = 48;

/// What ran the rules of a level, in one line.
pub fn executor(level: &Loaded) -> String {
    match level.game.native.outcome() {
        None => "the rules were run by the interpreter".into(),
        Some(Ok(())) => "the rules were run as native code".into(),
        Some(Err(why)) => format!("the rules were run by the interpreter: {why}"),
    }
}

/// Cells that are marked: row and column from 0.
pub type Marks = BTreeSet<(usize, usize)>;

/// A position as lines: its boards, then its other values.
pub fn position_lines(p: &Position) -> Vec<String> {
    drawn_lines(&p.drawn, &Marks::new())
}

/// What of a position differs from another one.
pub fn changed_lines(p: &Position, base: &Position) -> Vec<String> {
    drawn_lines(&p.drawn.against(&base.drawn), &Marks::new())
}

/// The same with marked cells.
pub fn drawn_lines(drawn: &Drawn, marks: &Marks) -> Vec<String> {
    let boards = drawn.pictures.iter().filter(|p| p.heads.is_empty()).count();
    let blocks: Vec<Vec<String>> = drawn
        .pictures
        .iter()
        .map(|p| {
            let piled = !p.heads.is_empty();
            let marks = if piled { Marks::new() } else { marks.clone() };
            let board = Board { rows: p.rows.clone(), marks, heads: p.heads.clone(), shifted: p.shifted };
            let mut lines = board.lines();
            if boards > 1 && !piled {
                lines.insert(0, p.name.clone());
            }
            lines
        })
        .collect();
    let mut out = side_by_side(&blocks, 4, WIDTH);
    for (name, value) in &drawn.values {
        let line = format!("{name} = {value}");
        if line.chars().count() <= WIDTH {
            out.push(line);
            continue;
        }
        // What goes on is indented below.
        let folded = fendle_view::text::wrapped(&line, WIDTH - 2);
        out.extend(
            folded
                .into_iter()
                .enumerate()
                .map(|(i, l)| if i == 0 { l } else { format!("  {}", l.trim_start()) }),
        );
    }
    out
}

/// A block that is headed by words.
pub fn headed(words: impl Into<String>, lines: Vec<String>) -> Vec<String> {
    std::iter::once(words.into()).chain(lines).collect()
}

/// Blocks side by side.
pub fn beside(blocks: &[Vec<String>]) -> Vec<String> {
    side_by_side(blocks, 4, WIDTH)
}

/// What stands at the head of an answer: the level and how play begins.
pub fn named(asked: &Asked) -> Vec<String> {
    let mut out = vec![asked.title.clone()];
    out.extend(asked.begin_words.clone());
    out.push(String::new());
    out
}

/// What stands at the head of an answer about a position: the level, how play begins, the board.
pub fn head(asked: &Asked, position: &Position) -> Vec<String> {
    let mut out = named(asked);
    out.extend(position_lines(position));
    out.push(String::new());
    out
}

/// A move whose draws are too many for a line, with the first of them; JSON has them all.
fn shortened(name: &str) -> String {
    match name.split_once(" / ") {
        Some((of, draws)) if draws.split(' ').count() > 12 => {
            let words: Vec<&str> = draws.split(' ').collect();
            format!("{of} / {} ... {} draws", words[..8].join(" "), words.len())
        }
        _ => name.to_string(),
    }
}

/// Moves as folded lines, each indented.
pub fn move_lines(names: &[String]) -> Vec<String> {
    let short: Vec<String> = names.iter().map(|n| shortened(n)).collect();
    folded(&short, WIDTH - 2).into_iter().map(|l| format!("  {l}")).collect()
}

/// Words folded to the width, as lines.
pub fn wrapped(text: &str) -> Vec<String> {
    fendle_view::text::wrapped(text, WIDTH)
}

/// A value in words: a fraction where it is short, and a decimal.
pub fn value_text(v: &Value, percent: bool) -> String {
    let (scale, unit) = if percent { (100.0, " %") } else { (1.0, "") };
    match v {
        Value::Exact(r) => {
            let text = r.to_string();
            let whole = !text.contains('/');
            if whole && !percent {
                return text;
            }
            let about = format!("{:.6}{unit}", scale * v.middle());
            if whole {
                format!("{text}, {}", about.replace(".000000", ""))
            } else if text.len() <= FRACTION_MAX {
                format!("{text} = {about}")
            } else {
                format!("{about} (exact, as a fraction of {} digits: --format json)", text.len())
            }
        }
        Value::Between(lo, hi) => {
            bounds_text((scale * lo).next_down(), (scale * hi).next_up(), unit, percent)
        }
    }
}

/// Bounds with the digits that are certain: one number where both round to it, else both.
fn bounds_text(lo: f64, hi: f64, unit: &str, percent: bool) -> String {
    // What must not be rounded to certainty.
    let is_edge = |text: &str| percent && matches!(text.parse(), Ok(0.0 | 100.0));
    for places in (6..=10).rev() {
        let (a, b) = (format!("{lo:.places$}"), format!("{hi:.places$}"));
        if a == b && !is_edge(&a) {
            // Zeros at the end say nothing past six places.
            let kept = a.trim_end_matches('0').len().max(a.len() - places + 6);
            return format!("{}{unit}", &a[..kept]);
        }
    }
    let (lo, hi) = if percent { (lo.max(0.0), hi.min(100.0)) } else { (lo, hi) };
    let places = (3 - (hi - lo).log10().floor() as i32).clamp(2, 12) as usize;
    let scale = 10f64.powi(places as i32);
    // The bounds must still be bounds when they are rounded.
    let (lo, hi) = ((lo * scale).floor() / scale, (hi * scale).ceil() / scale);
    let plain = |x: f64| {
        let text = format!("{x:.places$}");
        text.trim_end_matches('0').trim_end_matches('.').to_string()
    };
    format!("between {}{unit} and {}{unit}", plain(lo), plain(hi))
}

/// A probability in full.
pub fn chance_text(p: &Fraction) -> String {
    let text = p.to_string();
    let about = format!("{:.2} %", 100.0 * about(p));
    if text.len() <= 24 { format!("{text} = {about}") } else { format!("about {about}") }
}

/// What cut an answer short, in a sentence of its own; nothing where nothing did.
pub fn stopped_line<T>(a: &Answer<T>) -> Option<String> {
    a.stopped_by.as_ref().map(|s| format!("stopped by {}", s.words))
}

/// A limit that was hit before anything was found.
pub fn undecided(limit: Limit, words: &str) -> String {
    match limit {
        Limit::Layouts => format!(
            "undecided: {words}; `fendle infer` counts them where what is told are counts, --known takes the layout as known"
        ),
        _ => format!("undecided: stopped by {words}"),
    }
}
