//! `draft` and `mend` as text.

use fendle_ask::making::depths::Depths;
use fendle_ask::making::draft::{Draft, Drafted};
use fendle_ask::making::mend::{Mend, Mended};
use fendle_ask::making::wish::figure_text;
use fendle_ask::{Answer, Loaded};
use fendle_core::numbers::{counted, grouped};
use fendle_view::text::table;

use super::{beside, headed, named, position_lines, wrapped};

/// Boards that are drawn on the terminal.
const DRAWN: usize = 6;
/// Mends that are told.
const TOLD: usize = 8;

fn figure(value: Option<f64>) -> String {
    value.map_or("-".into(), figure_text)
}

/// Boards that were made, and why others fell away. `verbose`: also how many a second.
pub fn draft(a: &Answer<Draft>, verbose: bool) -> Vec<String> {
    let d = &a.found;
    let mut out = named(&a.asked);
    if let Some(deepest) = &d.deepest {
        out.extend(wrapped(&format!(
            "the farthest of {} {} {}, proved: {}",
            counted(deepest.of, "position", "positions"),
            if deepest.count == 1 { "needs" } else { "need" },
            counted(deepest.moves.into(), "move", "moves"),
            counted(deepest.count, "such position", "such positions"),
        )));
    } else {
        let rate = if verbose {
            format!(" ({} a second)", grouped(a.effort.states_per_second))
        } else {
            String::new()
        };
        out.extend(wrapped(&format!("wanted: {}; made by {}", d.want, d.by.word())));
        out.extend(wrapped(&format!(
            "{} kept, of {} as wanted, of {}{rate}",
            counted(d.boards.len() as u64, "board", "boards"),
            grouped(d.good),
            counted(d.tried, "try", "tries"),
        )));
    }
    if let Some(by) = &a.stopped_by {
        out.push(format!("stopped by {}", by.words));
    }
    if !d.boards.is_empty() {
        let names = &d.shown;
        let chosen = d.boards.first().map_or(&[][..], |b| &b.values[..]);
        let head: Vec<&str> = std::iter::once("board")
            .chain(chosen.iter().map(|v| v.0.as_str()))
            .chain(names.iter().copied())
            .collect();
        let row = |b: &Drafted| {
            let values = b.values.iter().map(|v| v.1.to_string());
            let figures = names.iter().map(|n| figure(b.figures.get(n).copied().flatten()));
            std::iter::once(b.name.clone()).chain(values).chain(figures).collect::<Vec<String>>()
        };
        let rows: Vec<Vec<String>> = d.boards.iter().map(row).collect();
        out.push(String::new());
        out.extend(table(&head, &rows));
        out.push(String::new());
        let drawn: Vec<Vec<String>> =
            d.boards.iter().take(DRAWN).map(|b| headed(&b.name, position_lines(&b.position))).collect();
        out.extend(beside(&drawn));
    }
    if !d.fell.is_empty() {
        out.push(String::new());
        out.push("fell away:".into());
        let mut list: Vec<(&String, &u64)> = d.fell.iter().collect();
        list.sort_by(|a, b| b.1.cmp(a.1).then(a.0.cmp(b.0)));
        out.extend(list.into_iter().map(|(why, n)| format!("{:>9}  {why}", grouped(*n))));
    }
    out
}

/// The depths by the number of shuffles.
pub fn depths(a: &Answer<Depths>) -> Vec<String> {
    let mut out = named(&a.asked);
    if let Some(by) = &a.stopped_by {
        out.push(format!("stopped by {}", by.words));
    }
    let row = |r: &fendle_ask::making::depths::Row| {
        let end = |d: Option<&u32>| d.map_or("-".into(), ToString::to_string);
        vec![
            r.shuffles.to_string(),
            grouped(r.samples),
            end(r.depths.keys().next()),
            r.mean().map_or("-".into(), |m| format!("{m:.1}")),
            end(r.depths.keys().last()),
            grouped(r.unsolvable + r.open),
        ]
    };
    let rows: Vec<Vec<String>> = a.found.rows.iter().map(row).collect();
    out.push(String::new());
    out.extend(table(&["shuffles", "boards", "least", "mean", "most", "not solved"], &rows));
    if let Some(farthest) = a.found.farthest {
        out.push(String::new());
        out.push(format!(
            "the farthest of all positions needs {}",
            counted(farthest.into(), "move", "moves")
        ));
    }
    out
}

/// The fewest changes.
pub fn mend(a: &Answer<Mended>, level: &Loaded) -> Vec<String> {
    let m = &a.found;
    let mut out = named(&a.asked);
    let tried = counted(m.tried, "set of changes was tried", "sets of changes were tried");
    let open = match m.undecided {
        0 => String::new(),
        n => format!("; {} not decided within the limits of a board", counted(n, "was", "were")),
    };
    let sentence = match (m.cost, m.proved) {
        (Some(0), _) => format!("{}: it is so already", m.want),
        (Some(n), true) => format!("{}: {} enough, and no fewer, proved; {tried}", m.want, changes(n, true)),
        (Some(n), false) => format!("{}: {} enough; {tried}{open}", m.want, changes(n, true)),
        (None, true) => format!("{}: {} enough, proved; {tried}", m.want, changes(m.all_up_to, false)),
        (None, false) => match &a.stopped_by {
            Some(by) => format!(
                "undecided: stopped by {}; up to {} none was enough; {tried}{open}",
                by.words, m.all_up_to
            ),
            None => format!("undecided: none of up to {} was found to be enough; {tried}{open}", m.all_up_to),
        },
    };
    out.extend(wrapped(&sentence));
    if let (Some(_), Some(by)) = (m.cost, &a.stopped_by) {
        out.push(format!("stopped by {}: there may be more ways of this cost", by.words));
    }
    if m.cost == Some(0) || m.mends.is_empty() {
        return out;
    }
    let more = m.found - (m.mends.len().min(TOLD)) as u64;
    out.push(format!(
        "{} of this cost{}",
        counted(m.found, "way", "ways"),
        if more > 0 { format!("; the first {TOLD}:") } else { ":".into() }
    ));
    for mend in m.mends.iter().take(TOLD) {
        let list: Vec<String> =
            mend.changes.iter().map(|c| format!("{} {} -> {} ({})", c.cell, c.from, c.to, c.does)).collect();
        let figures: Vec<String> =
            mend.figures.iter().map(|(name, v)| format!("{name} {}", figure(*v))).collect();
        out.extend(wrapped(&format!("  {}: {}", list.join(", "), figures.join(", "))));
    }
    let b = &level.game.bound;
    let before = fendle_ask::Position::new(b, &b.position);
    let first: &Mend = &m.mends[0];
    out.push(String::new());
    out.extend(beside(&[
        headed("before", position_lines(&before)),
        headed("after", position_lines(&first.position)),
    ]));
    out
}

fn changes(cost: u32, are: bool) -> String {
    match (cost, are) {
        (1, true) => "a change of cost 1 is".into(),
        (n, true) => format!("changes of cost {n} are"),
        (n, false) => format!("no changes of cost {n} or less are"),
    }
}
