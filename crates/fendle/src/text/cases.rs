//! `cases` as text, and what the examples of a model would not notice.

use fendle_ask::Answer;
use fendle_ask::cases::examples::SharpExamples;
use fendle_ask::cases::{Case, Cases, Spot};
use fendle_core::numbers::{counted, grouped};
use fendle_view::text::table;

use super::{named, wrapped};

/// Lines of a list that are printed where no more are asked for.
const LISTED: usize = 12;

/// Test cases, and what they are worth. `each`: also every case.
pub fn lines(a: &Answer<Cases>, each: bool, verbose: bool) -> Vec<String> {
    let c = &a.found;
    let mut out = named(&a.asked);
    let all = if c.complete { ", all that can be reached" } else { "" };
    out.extend(wrapped(&format!(
        "{} from {}{all}, and {} in them",
        counted(c.cases.len() as u64, "case", "cases"),
        counted(c.positions, "position", "positions"),
        counted(c.tried, "move that was tried", "moves that were tried"),
    )));
    if let Some(by) = &a.stopped_by {
        out.push(format!("stopped by {}: there may be better ones", by.words));
    }
    if each {
        let row = |(n, case): (usize, &Case)| {
            vec![(n + 1).to_string(), case.name.clone(), case.shows.first().cloned().unwrap_or_default()]
        };
        let rows: Vec<Vec<String>> = c.cases.iter().enumerate().map(row).collect();
        out.push(String::new());
        out.extend(table(&["", "case", "the first to show, among others"], &rows));
    }
    out.push(String::new());
    let ways = &c.coverage;
    out.push(format!("covered: {} of {} ways through the rules", ways.ways, ways.of));
    listed(&mut out, "not covered, by these cases or by any move that was tried", &ways.missing, verbose);
    match (&ways.impossible[..], verbose) {
        ([], _) => {}
        (list, true) => listed(&mut out, "that no move on this level can go", list, true),
        (list, false) => {
            out.push(format!("  {} more that no move on this level can go (-v)", list.len()));
        }
    }
    for ending in &ways.endings_missing {
        out.push(format!("  no case comes to the end: {ending}"));
    }
    let s = &c.sharpness;
    out.push(format!(
        "sharp: {} of {} are caught",
        grouped(s.caught as u64),
        counted(s.variants as u64, "faulty variant of the rules", "faulty variants of the rules"),
    ));
    listed(&mut out, "told by reasons, named cells or phases alone", &s.told, verbose);
    listed(&mut out, "caught by cases that were left out (--most)", &s.left_out, verbose);
    listed(&mut out, "not caught, by any move that was tried", &s.not_caught, verbose);
    if s.not_looked > 0 {
        out.push(format!("  {} not looked at to the end", s.not_looked));
    }
    match (&s.no_change[..], verbose) {
        ([], _) => {}
        (list, true) => {
            listed(&mut out, "no change on this level, in any move that can be reached", list, true)
        }
        (list, false) => out.push(format!(
            "  {} no change on this level, in any move that can be reached",
            if list.len() == 1 { "1 makes".into() } else { format!("{} make", list.len()) }
        )),
    }
    out
}

fn listed(out: &mut Vec<String>, what: &str, list: &[Spot], verbose: bool) {
    if list.is_empty() {
        return;
    }
    out.push(format!("  {} {what}:", list.len()));
    let most = if verbose { usize::MAX } else { LISTED };
    for spot in list.iter().take(most) {
        let lines = wrapped(&format!("{}:{}: {}", spot.file, spot.line, spot.words));
        out.extend(lines.into_iter().map(|l| format!("    {l}")));
    }
    if list.len() > most {
        out.push(format!("    ... and {} more (-v)", list.len() - most));
    }
}

/// What the examples of a model would not notice.
pub fn examples(s: &SharpExamples, verbose: bool) -> Vec<String> {
    let mut out = vec![format!(
        "{}: {} of {} are noticed by its {}",
        s.file,
        grouped(s.noticed as u64),
        counted(s.variants as u64, "faulty variant", "faulty variants"),
        counted(s.examples as u64, "example", "examples"),
    )];
    listed(&mut out, "not noticed by any example", &s.not_noticed, verbose);
    if s.not_tried > 0 {
        out.push(format!("  {} not tried: stopped by a limit", s.not_tried));
    }
    out
}
