//! One module a command, and what they share.

pub mod audit;
pub mod check;
pub mod demo;
pub mod explore;
pub mod find;
pub mod moves;
pub mod new;
pub mod odds;
pub mod shell;
pub mod show;
pub mod solve;
pub mod trace;

use std::collections::BTreeSet;

use fendle_core::explore::Faulted;
use fendle_core::{Class, Model as _, Route};
use fendle_lang::bind::Drawn;
use fendle_lang::play::{MoveTable, Played, replay};
use fendle_lang::{Bound, Diagnostic, Game};
use fendle_view::board::{Board, side_by_side};
use fendle_view::text::folded;
use serde_json::{Value, json};

use crate::files::{Loaded, Store};
use crate::{Session, Trouble};

/// Columns of text that output is made for.
pub const WIDTH: usize = 96;

/// A position as lines: its boards, then its other values.
pub fn position_lines(b: &Bound, state: &[i32], marks: &BTreeSet<(usize, usize)>) -> Vec<String> {
    let Drawn { pictures, values } = b.draw(state);
    let blocks: Vec<Vec<String>> = pictures
        .iter()
        .map(|p| {
            let mut lines = Board { rows: p.rows.clone(), marks: marks.clone() }.lines();
            if pictures.len() > 1 {
                lines.insert(0, p.name.clone());
            }
            lines
        })
        .collect();
    let mut out = side_by_side(&blocks, 4, WIDTH);
    for (name, value) in values {
        out.push(format!("{name} = {value}"));
    }
    out
}

/// `Ferry deck: two lorries late (slide, 3 x 3)`.
pub fn title(loaded: &Loaded) -> String {
    title_of(&loaded.file_title, &loaded.level.name, &loaded.level.title, &loaded.game.bound)
}

/// The same from its parts.
pub fn title_of(file: &str, name: &str, title: &str, b: &Bound) -> String {
    let mut out = String::new();
    if !file.is_empty() {
        out.push_str(file);
        out.push_str(": ");
    }
    out.push_str(name);
    if !title.is_empty() {
        out.push_str(&format!(", {title}"));
    }
    let size = if b.rows > 0 { format!(", {} x {}", b.rows, b.cols) } else { String::new() };
    format!("{out} ({}{size})", b.model.name)
}

/// The names of a route's moves.
pub fn move_names(game: &Game, route: &Route) -> Vec<String> {
    route.moves.iter().map(|&m| game.move_name(m)).collect()
}

/// The names of a route's moves with what is drawn on the way, as the reference executor plays it.
pub fn lucky_names(game: &Game, moves: &MoveTable, route: &Route) -> Vec<String> {
    let numbers: Vec<usize> = route.moves.iter().map(|m| m.0 as usize).collect();
    let states: Vec<Vec<i32>> = route.states.iter().map(|w| game.unpack(w)).collect();
    match replay(&game.bound, moves, &numbers, &states) {
        Ok(played) => numbers.iter().zip(&played).map(|(&n, p)| call_text(moves.name(n), p)).collect(),
        Err(_) => move_names(game, route),
    }
}

/// A move and what was drawn, as both are written.
pub fn call_text(name: &str, played: &Played) -> String {
    match played.draws_text() {
        d if d.is_empty() => name.to_string(),
        d => format!("{name} / {d}"),
    }
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

/// A class in one word.
pub fn class_word(class: Class) -> &'static str {
    match class {
        Class::Goal => "won",
        Class::Lost => "lost",
        Class::Over => "over",
        Class::Stuck => "stuck",
        Class::Dead => "dead",
        Class::Winnable => "winnable",
        Class::Free => "free",
        Class::Open | Class::Running | Class::Idle => "open",
    }
}

/// Reports a model fault: its place, the state drawn, and the moves that lead there.
pub fn fault_trouble(s: &Session, store: &Store, game: &Game, faulted: &Faulted) -> Trouble {
    let fault = game.run_fault(&faulted.fault);
    let model = &game.bound.model;
    let mut message = format!("model fault: {fault}");
    let law = model.always.iter().find(|a| a.span == fault.span).map(|a| ("always", &a.why));
    let kept = model.keeps.iter().find(|k| k.span == fault.span).map(|k| ("keeps", &k.why));
    if let Some((word, why)) = law.or(kept) {
        message = format!("model fault: {fault} ({word} ... because \"{why}\")");
    }
    let mut d = Diagnostic::error("F001", model.file, fault.span, message);
    let names = move_names(game, &faulted.route);
    let way = match names.len() {
        0 => "at the start".to_string(),
        n => format!("after {n} moves: {}", names.join("; ")),
    };
    let during = match faulted.fault.during {
        Some(m) => format!("{way}; while trying: {}", game.move_name(m)),
        None => format!("{way}; while asking for the status"),
    };
    d = d.note(during);
    if let Some(last) = faulted.route.states.last() {
        let lines = position_lines(&game.bound, &game.unpack(last), &BTreeSet::new());
        d = d.note(format!("the state there:\n{}", lines.join("\n")));
    }
    s.reporter.show(&store.sources, &[d]);
    Trouble::Reported
}

/// A fault as JSON.
pub fn fault_json(store: &Store, game: &Game, faulted: &Faulted) -> Value {
    let fault = game.run_fault(&faulted.fault);
    let (line, column) = store.sources.line_col(game.bound.model.file, fault.span.start);
    json!({
        "message": fault.to_string(),
        "file": store.sources.name(game.bound.model.file),
        "line": line,
        "column": column,
        "moves": move_names(game, &faulted.route),
        "during": faulted.fault.during.map(|m| game.move_name(m)),
        "position": faulted.route.states.last().map(|w| game.bound.line(&game.unpack(w))),
    })
}

/// Diagnostics as JSON.
pub fn diagnostics_json(store: &Store, list: &[Diagnostic]) -> Value {
    list.iter()
        .map(|d| {
            let label = &d.labels[0];
            let (line, column) = store.sources.line_col(label.file, label.span.start);
            json!({
                "severity": if d.severity == fendle_lang::Severity::Error { "error" } else { "warning" },
                "code": d.code,
                "message": d.message,
                "file": store.sources.name(label.file),
                "line": line,
                "column": column,
                "notes": d.notes,
            })
        })
        .collect()
}
