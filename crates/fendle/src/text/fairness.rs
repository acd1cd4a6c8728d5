//! `infer --no-guess` as text.

use std::collections::BTreeMap;

use fendle_ask::fairness::{Fairness, Guess, STATES_MAX, Ways};
use fendle_ask::infer::kind_words;
use fendle_ask::{Answer, Loaded};
use fendle_core::infer::fraction;
use fendle_core::numbers::{counted, grouped};
use fendle_lang::Bound;
use fendle_lang::model::{Extent, VarId};
use fendle_lang::run::scatter::hidden_vars;
use fendle_lang::state::cell_name;
use fendle_view::board::Board;

use super::infer::{put_told, risk_board};
use super::{Marks, beside, chance_text, headed, move_lines, named, position_lines};

/// Guesses that are drawn.
const DRAWN: usize = 6;

/// Whether a level can be finished without a guess.
pub fn lines(a: &Answer<Fairness>, level: &Loaded) -> Vec<String> {
    let f = &a.found;
    let mut out = named(&a.asked);
    out.extend(position_lines(&f.start));
    out.push(String::new());
    body(&mut out, f, level);
    out
}

/// The same without its head.
pub fn body(out: &mut Vec<String>, f: &Fairness, level: &Loaded) {
    let b = &level.game.bound;
    let n = counted(f.moves.len() as u64, "move", "moves");
    if f.finished && f.guesses.is_empty() {
        out.push(format!("no guess: finished by certain steps alone, in {n}"));
        out.extend(move_lines(&f.moves));
    } else if f.guesses.is_empty() {
        out.push(format!(
            "not finished: nothing new can be reached after {n}, and nothing is left to guess at"
        ));
    } else {
        out.push(format!(
            "{} forced; chance to survive them all: {}",
            counted(f.guesses.len() as u64, "guess is", "guesses are"),
            chance_text(&f.chance_to_survive_all)
        ));
    }
    f.guesses.iter().take(DRAWN).for_each(|g| guess(out, b, g));
    if f.guesses.len() > DRAWN {
        out.push(format!("and {} more (--format json)", f.guesses.len() - DRAWN));
    }
    out.push(String::new());
    if !f.steps_by_kind.is_empty() {
        let words: Vec<String> =
            f.steps_by_kind.iter().map(|(k, n)| format!("{n} {}", kind_words(*k))).collect();
        out.push(format!("to go on took: {}", words.join(", ")));
    }
    let mut by: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for h in &f.hazards {
        let (n, exact) = h.sets;
        let words = if exact { grouped(n as u64) } else { format!("at least {n}") };
        by.entry(words).or_default().push(&h.cell);
    }
    for (n, list) in by {
        let sets = if n.ends_with(" 1") || n == "1" { "set" } else { "sets" };
        out.push(format!("known when it matters by {n} independent {sets} of clues: {}", list.join(" ")));
    }
    if !f.never_known.is_empty() {
        out.push(format!("never known: {}", f.never_known.join(" ")));
    }
    if let Some(w) = &f.safe_ways {
        out.push(String::new());
        ways(out, w);
    }
}

fn guess(out: &mut Vec<String>, b: &Bound, g: &Guess) {
    let after = counted(g.after as u64, "move", "moves");
    let state = &g.position.state;
    let on_board = |v: &VarId| matches!(b.model.vars[*v].shape, Extent::Grid | Extent::Set);
    let risks: Vec<String> =
        hidden_vars(b).filter(on_board).flat_map(|v| risk_board(b, v, &g.cells, state)).collect();
    out.push(String::new());
    if g.risk == fraction(1, 1) {
        out.push(format!("after {after}: every way on loses"));
        out.extend(risks);
        return;
    }
    let instead = match &g.instead {
        Some(other) => format!("; it loses in this layout, so play goes on with {other}"),
        None => String::new(),
    };
    out.push(format!("after {after}: the least risk is {}, {}{instead}", g.name, chance_text(&g.risk)));
    let mut blocks = vec![headed("percent, + free, ! sure", risks)];
    // The unknowns are numbered variable after variable.
    let vars: Vec<VarId> = hidden_vars(b).collect();
    let place = |mut c: usize| {
        for &v in &vars {
            if c < b.slots[v].len {
                return (v, c);
            }
            c -= b.slots[v].len;
        }
        (vars[0], 0)
    };
    if let Some(tied) = &g.tied {
        let cells = tied.cells.iter().map(|c| place(*c as usize).1);
        let marks: Marks = cells.map(|i| (i / b.cols.max(1), i % b.cols.max(1))).collect();
        let truth = |i: usize| {
            let (v, at) = place(i);
            state[b.slots[v].base + at] != 0
        };
        blocks.push(headed("this layout", layout_lines(b, &truth, &marks, state)));
        blocks.push(headed("agrees as well", layout_lines(b, &|i| tied.layout[i], &marks, state)));
    }
    out.extend(beside(&blocks));
    if let Some(tied) = &g.tied {
        let names: Vec<String> =
            tied.cells.iter().map(|c| cell_name(*c as usize % b.cells().max(1), b.cols)).collect();
        out.push(format!("cannot be told apart: {}", names.join(" ")));
    }
}

fn layout_lines(b: &Bound, filled: &dyn Fn(usize) -> bool, marks: &Marks, state: &[i32]) -> Vec<String> {
    let mut out = vec![];
    let mut from = 0;
    for v in hidden_vars(b) {
        if matches!(b.model.vars[v].shape, Extent::Grid | Extent::Set) {
            let glyph = |i: usize| if filled(from + i) { "!" } else { "." }.to_string();
            let row = |r: usize| (0..b.cols).map(|c| glyph(r * b.cols + c)).collect();
            let mut rows: Vec<Vec<String>> = (0..b.rows).map(row).collect();
            put_told(b, state, &mut rows, |text| format!("({text})"));
            out.extend(Board { rows, marks: marks.clone(), ..Board::default() }.lines());
        }
        from += b.slots[v].len;
    }
    out
}

fn ways(out: &mut Vec<String>, w: &Ways) {
    let Some(moves) = &w.shortest else {
        out.push(match w.more {
            true => format!(
                "no safe way to the goal was found among {} states of knowledge: undecided",
                grouped(STATES_MAX as u64)
            ),
            false => "no safe way to the goal: information runs out".into(),
        });
        return;
    };
    let n = counted(moves.len() as u64, "move", "moves");
    out.push(format!("the shortest safe way to the goal: {n}"));
    out.extend(move_lines(moves));
    let more = if w.more { "more than " } else { "" };
    let ways = counted(w.sets as u64, "safe way", "safe ways");
    out.push(format!("{more}{ways} that differ in the cells entered"));
    let (n, exact) = w.apart;
    let least = if exact { "" } else { "at least " };
    out.push(format!("the most of them that share no cell but the ends: {least}{n}"));
}
