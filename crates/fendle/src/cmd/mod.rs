//! One module a command, and what they share.

pub mod audit;
pub mod check;
pub mod compare;
pub mod demo;
pub mod explore;
pub mod find;
pub mod graph;
pub mod infer;
pub mod moves;
pub mod new;
pub mod odds;
pub mod proof;
pub mod review;
pub mod shell;
pub mod show;
pub mod solve;
pub mod structure;
pub mod trace;
pub mod why;

use std::collections::BTreeSet;

use fendle_core::explore::Faulted;
use fendle_core::{Class, Model as _, Route};
use fendle_lang::play::{MoveTable, Played, replay, step};
use fendle_lang::position::Drawn;
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

/// What stands at the head of an answer: the level and how play begins.
///
/// # Errors
///
/// When it cannot be written.
pub fn named(s: &mut Session, loaded: &Loaded) -> Result<(), Trouble> {
    s.line(title(loaded))?;
    if let Some(words) = loaded.begin.words() {
        s.line(words)?;
    }
    s.line("")?;
    Ok(())
}

/// What stands at the head of an answer about a position: the level, how play begins, the board.
///
/// # Errors
///
/// When it cannot be written.
pub fn head(s: &mut Session, loaded: &Loaded) -> Result<(), Trouble> {
    named(s, loaded)?;
    s.lines(&position_lines(&loaded.game.bound, &loaded.game.bound.position, &BTreeSet::new()))?;
    s.line("")?;
    Ok(())
}

/// The names of a route's moves.
pub fn move_names(game: &Game, route: &Route) -> Vec<String> {
    if game.bound.canon.is_some()
        && let Ok(moves) = MoveTable::new(&game.bound)
        && let Ok(played) = played_route(game, &moves, route)
    {
        return played.moves.iter().map(|(n, _)| moves.name(*n).to_string()).collect();
    }
    route.moves.iter().map(|&m| game.move_name(m)).collect()
}

/// A route as the reference executor plays it.
pub struct PlayedRoute {
    /// The moves with what they did.
    pub moves: Vec<(usize, Played)>,
    /// The states, the start first. Where things are alike, those that play really reaches.
    pub states: Vec<Vec<i32>>,
}

/// Plays a route by the reference executor.
///
/// # Errors
///
/// What does not hold: a mistake of the search.
pub fn played_route(game: &Game, moves: &MoveTable, route: &Route) -> Result<PlayedRoute, String> {
    let numbers: Vec<usize> = route.moves.iter().map(|m| m.0 as usize).collect();
    let mut states: Vec<Vec<i32>> = route.states.iter().map(|w| game.unpack(w)).collect();
    // Of several starts that are alike, one that is really drawn.
    if let Some((start, _)) = game.starts.iter().find(|(s, _)| *game.settled(s) == states[0]) {
        states[0].clone_from(start);
    }
    let played = replay(&game.bound, moves, &numbers, &states)?;
    for (state, (_, p)) in states[1..].iter_mut().zip(&played) {
        state.clone_from(&p.made.state);
    }
    Ok(PlayedRoute { moves: played, states })
}

/// The names of a route's moves with what is drawn on the way, as the reference executor plays it.
pub fn lucky_names(game: &Game, moves: &MoveTable, route: &Route) -> Vec<String> {
    match played_route(game, moves, route) {
        Ok(played) => played.moves.iter().map(|(n, p)| call_text(moves.name(*n), p)).collect(),
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
    let (names, during, last) = fault_place(game, faulted);
    let way = match names.len() {
        0 => "at the start".to_string(),
        n => format!("after {n} moves: {}", names.join("; ")),
    };
    let during = match during {
        Some(name) => format!("{way}; while trying: {name}"),
        None => format!("{way}; while asking for the status"),
    };
    d = d.note(during);
    if let Some(last) = last {
        let lines = position_lines(&game.bound, &last, &BTreeSet::new());
        d = d.note(format!("the state there:\n{}", lines.join("\n")));
    }
    s.reporter.show(&store.sources, &[d]);
    Trouble::Reported
}

/// The moves to a fault, the move that was tried there, and the state there.
fn fault_place(game: &Game, faulted: &Faulted) -> (Vec<String>, Option<String>, Option<Vec<i32>>) {
    let route = &faulted.route;
    let mut during = faulted.fault.during.map(|m| game.move_name(m));
    let mut last = route.states.last().map(|w| game.unpack(w));
    if game.bound.canon.is_some()
        && let Ok(moves) = MoveTable::new(&game.bound)
        && let Ok(played) = played_route(game, &moves, route)
        && let Some(state) = played.states.last()
    {
        // Where play really is, the move that breaks may have another name.
        let breaks = |n: &usize| step(&game.bound, &moves, state, *n, false).is_err();
        if let (Some(_), Some(n)) = (&during, (0..moves.list.len()).find(breaks)) {
            during = Some(moves.name(n).to_string());
        }
        last = Some(state.clone());
    }
    (move_names(game, route), during, last)
}

/// A fault as JSON.
pub fn fault_json(store: &Store, game: &Game, faulted: &Faulted) -> Value {
    let fault = game.run_fault(&faulted.fault);
    let (line, column) = store.sources.line_col(game.bound.model.file, fault.span.start);
    let (names, during, last) = fault_place(game, faulted);
    json!({
        "message": fault.to_string(),
        "file": store.sources.name(game.bound.model.file),
        "line": line,
        "column": column,
        "moves": names,
        "during": during,
        "position": last.map(|s| game.bound.line(&s)),
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
