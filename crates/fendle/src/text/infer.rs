//! `infer` as text.

use fendle_ask::Answer;
use fendle_ask::Loaded;
use fendle_ask::infer::{
    CellReport, Clue, Inference, Method, MoveReport, PlaceReport, SOLVED_MAX, StepReport, Unsolved,
    kind_words,
};
use fendle_core::infer::{Fraction, about};
use fendle_core::numbers::{counted, grouped};
use fendle_core::odds::Value;
use fendle_core::simulate::share_interval;
use fendle_lang::Bound;
use fendle_lang::known::Left;
use fendle_lang::model::{Extent, Range, VarId};
use fendle_lang::run::scatter::hidden_vars;
use fendle_view::board::Board;
use fendle_view::text::table;
use std::collections::BTreeMap;

use super::{Marks, beside, chance_text, headed, named, position_lines, value_text};

/// Cells and moves that text lists; JSON has all.
const LISTED: usize = 12;
/// Proofs that are drawn.
const DRAWN: usize = 4;
/// Places that are listed where layouts are weighed one by one.
const PLACES: usize = 40;

/// What can be known of a position.
pub fn lines(a: &Answer<Inference>, level: &Loaded, verbose: bool) -> Vec<String> {
    let (i, b) = (&a.found, &level.game.bound);
    let mut out = named(&a.asked);
    match &i.method {
        Method::Counts { cells, steps, layouts, parts } => {
            by_counts(&mut out, b, i, (cells, steps), (layouts.as_deref(), *parts));
            if verbose {
                out.push(String::new());
                out.push(format!("{:.4} s for certainty, probabilities and chances", a.effort.seconds));
            }
        }
        Method::Worlds { why, layouts, places } => {
            out.extend(position_lines(&i.position));
            out.push(String::new());
            let agree = match layouts {
                1 => "1 layout agrees".to_string(),
                n => format!("{} layouts agree", grouped(*n as u64)),
            };
            out.push(format!("{agree} with what was seen; weighed one by one, since {why}"));
            out.push(String::new());
            let rows: Vec<Vec<String>> = places.iter().take(PLACES).map(place).collect();
            out.extend(table(&["cell", "holds"], &rows));
            moves(&mut out, level, i);
        }
        Method::Contradiction => {
            out.extend(position_lines(&i.position));
            out.push(String::new());
            out.push("no layout agrees with what is seen".into());
        }
    }
    if let Some(by) = super::stopped_line(a) {
        out.push(String::new());
        out.push(format!("{by}: what is left out here was not looked at"));
    }
    out
}

fn by_counts(
    out: &mut Vec<String>,
    b: &Bound,
    i: &Inference,
    (cells, steps): (&[CellReport], &[StepReport]),
    (layouts, parts): (Option<&str>, usize),
) {
    let mut blocks = vec![headed("as the player sees it", position_lines(&i.position))];
    for v in hidden_vars(b).filter(|v| matches!(b.model.vars[*v].shape, Extent::Grid | Extent::Set)) {
        let words = format!("{}: percent, + free, ! sure, (n) told", b.model.vars[v].name);
        blocks.push(headed(words, risk_board(b, v, cells, &i.position.state)));
    }
    out.extend(beside(&blocks));
    out.push(String::new());
    let parts = counted(parts as u64, "independent part", "independent parts");
    out.push(match layouts {
        None => format!("layouts have weights of their own; {parts} of the clues"),
        Some(n) if n.len() <= 15 => {
            let n: u64 = n.parse().unwrap_or(0);
            let words = if n == 1 { "layout agrees" } else { "layouts agree" };
            format!("{} {words} with what is seen; {parts} of the clues", grouped(n))
        }
        Some(n) => {
            format!("about 10^{} layouts agree with what is seen; {parts} of the clues", n.len() - 1)
        }
    });
    out.push(String::new());
    certain_steps(out, steps);
    each_cell(out, cells);
    moves_of(out, i, !b.model.has_goal());
    proofs(out, b, cells, &i.position.state);
}

/// A board of what is known of a hidden grid, with what is told on it.
pub fn risk_board(b: &Bound, var: VarId, cells: &[CellReport], state: &[i32]) -> Vec<String> {
    let mut rows: Vec<Vec<String>> = vec![vec![String::new(); b.cols]; b.rows];
    for c in cells.iter().filter(|c| c.at.0 == var) {
        let text = match c.certain {
            Some(true) => "!".into(),
            Some(false) => "+".into(),
            None => percent(&c.chance),
        };
        rows[c.at.1 / b.cols][c.at.1 % b.cols] = text;
    }
    put_told(b, state, &mut rows, |text| format!("({text})"));
    Board { rows, ..Board::default() }.lines()
}

/// Writes what is told on a board.
pub fn put_told(b: &Bound, state: &[i32], rows: &mut [Vec<String>], form: impl Fn(String) -> String) {
    for (t, told) in b.told(state).iter().enumerate() {
        if matches!(b.model.tells[t].over, Some((_, Range::Board))) {
            for (c, v) in told.iter().enumerate().filter(|(_, v)| v.is_some()) {
                rows[c / b.cols][c % b.cols] = form(b.told_text(t, *v));
            }
        }
    }
}

/// A probability in few letters.
pub fn percent(p: &Fraction) -> String {
    let x = 100.0 * about(p);
    if x < 1.0 {
        "<1".into()
    } else if x > 99.0 {
        ">99".into()
    } else {
        format!("{x:.0}")
    }
}

/// Clues in words.
pub fn clues_text(clues: &[Clue]) -> String {
    let words: Vec<&str> = clues.iter().map(|c| c.text.as_str()).collect();
    if words.is_empty() { "what is known beforehand".into() } else { words.join(", ") }
}

fn and_more(out: &mut Vec<String>, all: usize) {
    if all > LISTED {
        out.push(format!("and {} more (--format json)", all - LISTED));
    }
}

fn certain_steps(out: &mut Vec<String>, steps: &[StepReport]) {
    if steps.is_empty() {
        out.push("nothing that is covered is certain".into());
        return;
    }
    out.push("what is certain, in an order to find it:".into());
    let row = |t: &StepReport| {
        let mut by: BTreeMap<bool, Vec<&str>> = BTreeMap::new();
        for (_, name, v) in &t.cells {
            by.entry(*v).or_default().push(name);
        }
        let cells: Vec<String> =
            by.into_iter().map(|(v, c)| format!("{}: {}", c.join(" "), t.what(v))).collect();
        vec![kind_words(t.kind).to_string(), clues_text(&t.clues), cells.join("; ")]
    };
    let rows: Vec<Vec<String>> = steps.iter().take(LISTED).map(row).collect();
    out.extend(table(&["seen by", "clues", "so"], &rows));
    if steps.len() > LISTED {
        let more = counted((steps.len() - LISTED) as u64, "step", "steps");
        out.push(format!("and {more} more (--format json)"));
    }
}

fn each_cell(out: &mut Vec<String>, cells: &[CellReport]) {
    let sure: Vec<&CellReport> = cells.iter().filter(|c| c.certain.is_some() && !c.fixed).collect();
    if !sure.is_empty() {
        out.push(String::new());
        out.push("each by itself, from the clues alone:".into());
        let row = |c: &&CellReport| {
            let how = c
                .proof
                .as_ref()
                .map_or("", |p| if p.smallest { "smallest" } else { "nothing can be left out" });
            let ways = match c.ways {
                Some((n, true)) => grouped(n as u64),
                Some((n, false)) => format!("at least {n}"),
                None => String::new(),
            };
            let is = if c.certain == Some(true) { c.of.clone() } else { "free".into() };
            let clues = c.proof.as_ref().map_or(String::new(), |p| clues_text(&p.clues));
            vec![c.name.clone(), is, clues, how.to_string(), ways]
        };
        let rows: Vec<Vec<String>> = sure.iter().take(LISTED).map(row).collect();
        out.extend(table(&["cell", "is", "by", "set of clues", "independent sets"], &rows));
        and_more(out, sure.len());
    }
    let mut open: Vec<&CellReport> = cells.iter().filter(|c| c.certain.is_none()).collect();
    if open.is_empty() {
        return;
    }
    open.sort_by(|x, y| about(&x.chance).total_cmp(&about(&y.chance)));
    out.push(String::new());
    out.push("the others, least likely first:".into());
    let mut by: Vec<(String, Vec<&str>)> = vec![];
    for c in &open {
        let text = chance_text(&c.chance);
        match by.last_mut() {
            Some((t, names)) if *t == text => names.push(&c.name),
            _ => by.push((text, vec![&c.name])),
        }
    }
    let row = |(text, names): &(String, Vec<&str>)| {
        let more = names.len().saturating_sub(8);
        let mut list = names.iter().take(8).copied().collect::<Vec<_>>().join(" ");
        if more > 0 {
            list.push_str(&format!(" and {more} more"));
        }
        vec![text.clone(), list]
    };
    let rows: Vec<Vec<String>> = by.iter().take(LISTED).map(row).collect();
    out.extend(table(&["chance", "cells"], &rows));
    and_more(out, by.len());
}

fn place(p: &PlaceReport) -> Vec<String> {
    let mut list: Vec<_> = p.values.iter().collect();
    list.sort_by(|a, b| b.2.cmp(&a.2));
    let words: Vec<String> = list
        .iter()
        .take(4)
        .map(
            |(_, name, chance)| {
                if p.values.len() == 1 { format!("{name} for sure") } else { format!("{name}: {chance}") }
            },
        )
        .collect();
    let more = if list.len() > 4 { format!(", and {} more", list.len() - 4) } else { String::new() };
    vec![p.name.clone(), format!("{}{more}", words.join(", "))]
}

fn moves(out: &mut Vec<String>, level: &Loaded, i: &Inference) {
    moves_of(out, i, !level.game.bound.model.has_goal());
}

fn moves_of(out: &mut Vec<String>, i: &Inference, goalless: bool) {
    let moves = &i.moves;
    if moves.is_empty() {
        return;
    }
    out.push(String::new());
    let best = moves.iter().filter_map(|m| m.win.as_ref()).max_by(|a, b| a.low().total_cmp(&b.low()));
    let row = |m: &MoveReport| {
        let mut row = vec![m.name.clone(), m.risk.as_ref().map_or("not followed".into(), chance_text)];
        if i.unsolved.is_none() {
            row.push(m.win.as_ref().map_or(String::new(), |v: &Value| value_text(v, true)));
            let is_best = m.win.is_some() && m.win.as_ref() == best && best.is_some_and(|b| b.low() > 0.0);
            row.push(if is_best { "best".into() } else { String::new() });
        }
        row
    };
    let rows: Vec<Vec<String>> = moves.iter().take(LISTED).map(row).collect();
    let head: &[&str] = match i.unsolved.is_none() {
        true => &["move", "risk to lose at once", "chance to win, best play", ""],
        false => &["move", "risk to lose at once"],
    };
    out.extend(table(head, &rows));
    and_more(out, moves.len());
    guess(out, i);
    let Some(why) = i.unsolved.as_ref().filter(|_| !goalless) else { return };
    let states = |n: u64| counted(n, "information state", "information states");
    let why = match why {
        Unsolved::Contradiction => return,
        Unsolved::Layouts => format!("more than {} layouts agree", grouped(SOLVED_MAX as u64)),
        Unsolved::Dear(n) => {
            format!("it was left after {}; `--time 60s` lets it go on for so long", states(*n))
        }
        Unsolved::Limit(limit, n) => format!("{limit} was hit after {}", states(*n)),
    };
    out.push(format!("the chance to win after each is not computed: {why}"));
    let sampled: Vec<Vec<String>> = moves
        .iter()
        .filter_map(|m| {
            let s = m.sample?;
            let (lo, hi) = share_interval(s.won, s.plays);
            Some(vec![
                m.name.clone(),
                format!("{} of {} won", s.won, s.plays),
                format!("95 % interval {:.1} to {:.1} %", 100.0 * lo, 100.0 * hi),
            ])
        })
        .collect();
    let Some(seed) = moves.iter().find_map(|m| m.sample).map(|s| s.seed) else {
        out.push("--plays 200 estimates it for the moves of least risk".into());
        return;
    };
    out.push(String::new());
    out.push(format!(
        "an estimate, no proof: careful play (what is certain, else a guess that looks ahead) on layouts drawn among those that agree, seed {seed}"
    ));
    out.extend(table(&["move", "plays", "chance to win"], &sampled));
}

/// The guess that looks ahead.
fn guess(out: &mut Vec<String>, i: &Inference) {
    let Some(g) = &i.guess else { return };
    let share = |p: f64| format!("about {:.0} %", 100.0 * p);
    out.push(match g.left {
        Left::Win(p) => format!("nothing is safe; `{}` is the best guess: {} to win, tried out to the end", g.name, share(p)),
        Left::Next(p) => format!(
            "nothing is safe; `{}` looks best ahead: {} to survive it and the least risk after it, in layouts drawn by seed",
            g.name,
            share(p)
        ),
        Left::Unknown => format!("nothing is safe; `{}` is the least risk", g.name),
    });
}

/// The clues of the first proofs, marked on the board beside the cell that they prove.
fn proofs(out: &mut Vec<String>, b: &Bound, cells: &[CellReport], state: &[i32]) {
    let mut blocks = vec![];
    for c in cells {
        let (Some(proof), Extent::Grid | Extent::Set) = (&c.proof, b.model.vars[c.at.0].shape) else {
            continue;
        };
        if blocks.len() == DRAWN || b.cols > 12 {
            break;
        }
        let mut rows = vec![vec![String::from("~"); b.cols]; b.rows];
        put_told(b, state, &mut rows, |text| text);
        let told = proof.clues.iter().filter_map(|clue| clue.cell);
        let marks: Marks = told.map(|c| (c / b.cols, c % b.cols)).collect();
        let filled = c.certain == Some(true);
        rows[c.at.1 / b.cols][c.at.1 % b.cols] = if filled { "!" } else { "+" }.into();
        let total = if proof.clues.iter().any(|c| c.total) { ", and all" } else { "" };
        let is = if filled { c.of.as_str() } else { "free" };
        blocks.push(headed(
            format!("{}: {is}{total}", c.name),
            Board { rows, marks, ..Board::default() }.lines(),
        ));
    }
    if !blocks.is_empty() {
        out.push(String::new());
        out.push("the clues on the board, in brackets, and what they prove:".into());
        out.extend(beside(&blocks));
    }
}
