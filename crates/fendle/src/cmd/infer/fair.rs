//! `fendle infer --no-guess`: can this layout be finished from its opening by certain steps alone?

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};

use fendle_core::infer::{Fraction, Inferred, Kind, about, fraction, most_disjoint};
use fendle_lang::Bound;
use fendle_lang::known::Way;
use fendle_lang::known::player::{Player, Stopped, exact_risk};
use fendle_lang::model::{EndKind, Scalar, Shape};
use fendle_lang::play::{MoveTable, Step, step};
use fendle_lang::state::cell_name;
use fendle_view::board::{Board, side_by_side};
use fendle_view::text::{counted, grouped};
use serde_json::{Value as Json, json};

use super::{chance_text, kind_words, place_name, risk_board};
use crate::args::Format;
use crate::cmd::{WIDTH, move_lines, title};
use crate::files::Loaded;
use crate::{Exit, Session, Trouble};

/// Most states of knowledge that are looked at for safe ways.
const STATES_MAX: usize = 20_000;
/// Most layouts among which two that agree are looked for.
const TIED_MAX: usize = 20_000;

/// A guess that the player is forced into.
pub struct Guess {
    /// Moves made before it.
    pub after: usize,
    name: String,
    /// The chance to lose by it.
    pub risk: Fraction,
    /// The least risk loses in this layout; this one does not.
    unlucky: Option<String>,
    state: Vec<i32>,
    board: Vec<String>,
    /// Another layout that agrees, and the cells in which it differs.
    other: Option<(Vec<bool>, Vec<u32>)>,
}

/// What the play found.
pub struct Report {
    /// The moves made.
    pub moves: Vec<String>,
    /// Guesses on the way.
    pub guesses: Vec<Guess>,
    /// Whether the goal was reached.
    pub won: bool,
    /// Steps of each kind that were needed to go on.
    kinds: BTreeMap<Kind, usize>,
    /// For each hazard that became certain: after how many moves, by how many independent sets of clues.
    hazards: Vec<(String, usize, (usize, bool))>,
    never: Vec<String>,
}

/// Runs it.
pub fn run(s: &mut Session, loaded: &Loaded, shown: &Bound) -> Result<Exit, Trouble> {
    let b = &loaded.game.bound;
    if b.seen.iter().any(Option::is_some) {
        return Err(Trouble::Message(
            "--no-guess plays a layout, and this level gives only what is seen".into(),
        ));
    }
    let report = match played(b, &loaded.moves, &loaded.history) {
        Ok(report) => report,
        Err(Stopped::Fault(f)) => return Err(Trouble::Message(format!("the model breaks: {f}"))),
        Err(why) => {
            s.line(format!("undecided: {why}"))?;
            return Ok(Exit::Undecided);
        }
    };
    let ways = safe_ways(b, &loaded.moves, &loaded.history).map_err(|e| Trouble::Message(e.to_string()))?;
    let survive = report.survive();
    let fair = report.is_fair();
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "no_guess": fair,
            "moves": report.moves,
            "finished": report.won,
            "steps_by_kind": report.kinds.iter().map(|(k, n)| (kind_words(*k).to_string(), json!(n))).collect::<serde_json::Map<_, _>>(),
            "guesses": report.guesses.iter().map(|g| guess_json(b, g)).collect::<Vec<_>>(),
            "chance_to_survive_all": {"exact": survive.to_string(), "about": about(&survive)},
            "hazards": report.hazards.iter().map(|(c, after, (n, exact))| json!({
                "cell": c, "known_after_moves": after, "independent_sets": {"at_least": n, "exact": exact},
            })).collect::<Vec<_>>(),
            "never_known": report.never,
            "safe_ways": ways.as_ref().map(ways_json),
        }))?;
    } else {
        s.line(title(loaded))?;
        if let Some(words) = loaded.begin.words() {
            s.line(words)?;
        }
        s.line("")?;
        s.lines(&crate::cmd::position_lines(
            shown,
            &loaded.history[loaded.history.len() - 1],
            &BTreeSet::new(),
        ))?;
        s.line("")?;
        write_text(s, b, &report)?;
        if let Some(ways) = &ways {
            s.line("")?;
            write_ways(s, ways)?;
        }
    }
    Ok(if fair { Exit::Yes } else { Exit::No })
}

impl Report {
    /// Finished, and no guess was forced.
    pub fn is_fair(&self) -> bool {
        self.won && self.guesses.is_empty()
    }
    /// The chance to survive all guesses.
    pub fn survive(&self) -> Fraction {
        self.guesses.iter().fold(fraction(1, 1), |p, g| p * (fraction(1, 1) - &g.risk))
    }
}

/// Plays on from what was seen: what is certain, and where nothing is, the least risk that does not lose here.
///
/// # Errors
///
/// [`Stopped`].
pub fn played(b: &Bound, table: &MoveTable, history: &[Vec<i32>]) -> Result<Report, Stopped> {
    let mut player = Player::new(b, table, history)?;
    let mut report = Report {
        moves: vec![],
        guesses: vec![],
        won: false,
        kinds: BTreeMap::new(),
        hazards: vec![],
        never: vec![],
    };
    let truth = history.last().cloned().unwrap_or_default();
    let mut certain: BTreeSet<u32> = BTreeSet::new();
    let is_goal = |e: usize| b.model.endings[e].kind == EndKind::Goal;
    loop {
        let found = player.infer()?;
        let system = &player.known.system;
        let prover = system.prover();
        for c in 0..player.known.cells.len() as u32 {
            if found.certain(c) == Some(true) && certain.insert(c) {
                let (var, at) = player.known.cells[c as usize];
                let n = if system.fixed[c as usize].is_some() {
                    (1, true)
                } else {
                    prover.independent(c, true, &prover.clues_for(c, true))
                };
                report.hazards.push((place_name(b, var, at), report.moves.len(), n));
            }
        }
        let moves = match player.safe_way(&found)? {
            Some(moves) => {
                if let Some(kind) = kind_needed(&player, &found) {
                    *report.kinds.entry(kind).or_default() += 1;
                }
                moves
            }
            None => match guess(b, table, &player, &found, report.moves.len())? {
                Some((guess, chosen)) => {
                    report.guesses.push(guess);
                    match chosen {
                        Some(m) => vec![m],
                        None => break,
                    }
                }
                None => break,
            },
        };
        report.moves.extend(moves.iter().map(|&m| table.name(m).to_string()));
        if let Some(Some(ended)) = player.make(&moves)? {
            report.won = is_goal(ended);
            break;
        }
    }
    for (c, &place) in player.known.places.iter().enumerate() {
        if truth[place] != 0 && !certain.contains(&(c as u32)) {
            let (var, at) = player.known.cells[c];
            report.never.push(place_name(b, var, at));
        }
    }
    Ok(report)
}

/// The hardest kind of step that is needed before something is known to be free.
fn kind_needed(player: &Player<'_>, found: &Inferred) -> Option<Kind> {
    let system = &player.known.system;
    let mut hardest = None;
    for step in system.steps(found) {
        hardest = hardest.max(Some(step.kind));
        if step.cells.iter().any(|c| !c.1) {
            return hardest;
        }
    }
    None
}

type Guessed = Option<(Guess, Option<usize>)>;

/// The least risk, and whether it can be taken in this layout.
fn guess(
    b: &Bound,
    table: &MoveTable,
    player: &Player<'_>,
    found: &Inferred,
    after: usize,
) -> Result<Guessed, Stopped> {
    let mut list: Vec<(usize, Fraction)> = vec![];
    for (m, ways) in player.ways(&player.state)? {
        let Some(ways) = ways else { continue };
        let risk = exact_risk(&player.known, found, &ways)?;
        if risk != fraction(0, 1) {
            list.push((m, risk));
        }
    }
    list.sort_by(|x, y| x.1.cmp(&y.1).then(x.0.cmp(&y.0)));
    let Some((first, risk)) = list.first().cloned() else { return Ok(None) };
    let lives = |m: usize| -> Result<bool, Stopped> {
        Ok(match step(b, table, &player.state, m, false)? {
            Step::Made(made) => {
                made.iter().all(|p| p.ended.is_none_or(|e| b.model.endings[e].kind != EndKind::Lost))
            }
            _ => false,
        })
    };
    let mut chosen = None;
    for (m, _) in &list {
        if lives(*m)? {
            chosen = Some(*m);
            break;
        }
    }
    let board = risk_lines(b, player, found);
    let unlucky = chosen.filter(|m| *m != first).map(|m| table.name(m).to_string());
    let guess = Guess {
        after,
        name: table.name(first).to_string(),
        risk,
        unlucky,
        state: player.state.clone(),
        board,
        other: tied(player, found),
    };
    Ok(Some((guess, chosen)))
}

fn risk_lines(b: &Bound, player: &Player<'_>, found: &Inferred) -> Vec<String> {
    let known = &player.known;
    let reports: Vec<super::CellReport> = (0..known.cells.len() as u32)
        .map(|c| super::CellReport {
            at: known.cells[c as usize],
            name: String::new(),
            chance: found.chance(c),
            certain: found.certain(c),
            fixed: false,
            proof: None,
            ways: None,
        })
        .collect();
    let mut out = vec![];
    for v in fendle_lang::run::scatter::hidden_vars(b) {
        if matches!(b.model.vars[v].shape, Shape::Grid | Shape::Set) {
            out.extend(risk_board(b, v, &reports, &player.state));
        }
    }
    out
}

/// Another layout that agrees with everything seen, as like the true one as can be.
fn tied(player: &Player<'_>, found: &Inferred) -> Option<(Vec<bool>, Vec<u32>)> {
    let known = &player.known;
    let truth: Vec<bool> = known.places.iter().map(|p| player.state[*p] != 0).collect();
    let open = |c: u32| found.certain(c).is_none();
    let differing = |s: &[bool]| -> Vec<u32> {
        (0..s.len() as u32).filter(|&c| s[c as usize] != truth[c as usize]).collect()
    };
    let mut best: Option<(Vec<bool>, Vec<u32>)> = None;
    // Part by part, the rest as it truly is; then everything at once.
    let whole: Vec<u32> = (0..truth.len() as u32).collect();
    for part in found.parts.iter().filter(|p| p.iter().any(|c| open(*c))).chain([&whole]) {
        let mut system = known.system.clone();
        for (c, f) in system.fixed.iter_mut().enumerate() {
            if f.is_none() && !part.contains(&(c as u32)) {
                *f = Some(truth[c]);
            }
        }
        for (s, _) in system.solutions(TIED_MAX).unwrap_or_default() {
            let d = differing(&s);
            if !d.is_empty() && best.as_ref().is_none_or(|b| d.len() < b.1.len()) {
                best = Some((s, d));
            }
        }
        if best.is_some() {
            break;
        }
    }
    best
}

fn guess_json(b: &Bound, g: &Guess) -> Json {
    json!({
        "after_moves": g.after,
        "move": g.name,
        "risk": {"exact": g.risk.to_string(), "about": about(&g.risk)},
        "loses_here_so_taken_instead": g.unlucky,
        "position": b.player_line(&g.state),
        "tied_cells": g.other.as_ref().map(|(_, d)| d.iter().map(|c| json!(c)).collect::<Vec<_>>()),
    })
}

fn layout_lines(
    b: &Bound,
    values: &dyn Fn(usize) -> bool,
    marks: &BTreeSet<(usize, usize)>,
    state: &[i32],
) -> Vec<String> {
    let mut out = vec![];
    let mut from = 0;
    for v in fendle_lang::run::scatter::hidden_vars(b) {
        let len = b.slots[v].len;
        if matches!(b.model.vars[v].shape, Shape::Grid | Shape::Set) {
            let mut rows: Vec<Vec<String>> = (0..b.rows)
                .map(|r| {
                    (0..b.cols)
                        .map(|c| if values(from + r * b.cols + c) { "!" } else { "." }.to_string())
                        .collect()
                })
                .collect();
            for (t, told) in b.told(state).iter().enumerate() {
                if told.len() == b.cells() {
                    for (c, v) in told.iter().enumerate().filter(|(_, v)| v.is_some()) {
                        rows[c / b.cols][c % b.cols] = format!("({})", b.told_text(t, *v));
                    }
                }
            }
            out.extend(Board { rows, marks: marks.clone() }.lines());
        }
        from += len;
    }
    out
}

/// Writes what the play found.
///
/// # Errors
///
/// When nothing can be written.
pub fn write_text(s: &mut Session, b: &Bound, r: &Report) -> Result<(), Trouble> {
    let survive = &r.survive();
    let n = counted(r.moves.len() as u64, "move", "moves");
    if r.won && r.guesses.is_empty() {
        s.line(format!("no guess: finished by certain steps alone, in {n}"))?;
        s.lines(&move_lines(&r.moves))?;
    } else if r.guesses.is_empty() {
        s.line(format!(
            "not finished: nothing new can be reached after {n}, and nothing is left to guess at"
        ))?;
    } else {
        s.line(format!(
            "{} forced; chance to survive them all: {}",
            counted(r.guesses.len() as u64, "guess is", "guesses are"),
            chance_text(survive)
        ))?;
    }
    for g in r.guesses.iter().take(6) {
        s.line("")?;
        let instead = match &g.unlucky {
            Some(other) => format!("; it loses in this layout, so play goes on with {other}"),
            None => String::new(),
        };
        if g.risk == fraction(1, 1) {
            s.line(format!("after {}: every way on loses", counted(g.after as u64, "move", "moves")))?;
            s.lines(&g.board)?;
            continue;
        }
        s.line(format!(
            "after {}: the least risk is {}, {}{instead}",
            counted(g.after as u64, "move", "moves"),
            g.name,
            chance_text(&g.risk)
        ))?;
        let mut blocks = vec![vec!["percent, + free, ! sure".to_string()]];
        blocks[0].extend(g.board.clone());
        if let Some((other, cells)) = &g.other {
            // The unknowns are numbered variable after variable.
            let vars: Vec<usize> = fendle_lang::run::scatter::hidden_vars(b).collect();
            let place = |c: usize| {
                let mut c = c;
                for &v in &vars {
                    if c < b.slots[v].len {
                        return (v, c);
                    }
                    c -= b.slots[v].len;
                }
                (vars[0], 0)
            };
            let marks: BTreeSet<(usize, usize)> = cells
                .iter()
                .map(|c| place(*c as usize).1)
                .map(|i| (i / b.cols.max(1), i % b.cols.max(1)))
                .collect();
            let truth = |i: usize| {
                let (v, at) = place(i);
                g.state[b.slots[v].base + at] != 0
            };
            let mut here = vec!["this layout".to_string()];
            here.extend(layout_lines(b, &truth, &marks, &g.state));
            let mut there = vec!["agrees as well".to_string()];
            there.extend(layout_lines(b, &|i| other[i], &marks, &g.state));
            blocks.push(here);
            blocks.push(there);
        }
        s.lines(&side_by_side(&blocks, 4, WIDTH))?;
        if let Some((_, tied)) = &g.other {
            let names: Vec<String> =
                tied.iter().map(|c| cell_name(*c as usize % b.cells().max(1), b.cols)).collect();
            s.line(format!("cannot be told apart: {}", names.join(" ")))?;
        }
    }
    if r.guesses.len() > 6 {
        s.line(format!("and {} more (--format json)", r.guesses.len() - 6))?;
    }
    s.line("")?;
    if !r.kinds.is_empty() {
        let words: Vec<String> = r.kinds.iter().map(|(k, n)| format!("{n} {}", kind_words(*k))).collect();
        s.line(format!("to go on took: {}", words.join(", ")))?;
    }
    let mut by: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for (cell, _, (n, exact)) in &r.hazards {
        let words = if *exact { grouped(*n as u64) } else { format!("at least {n}") };
        by.entry(words).or_default().push(cell);
    }
    for (n, list) in by {
        s.line(format!(
            "known when it matters by {n} independent {} of clues: {}",
            if n.ends_with(" 1") || n == "1" { "set" } else { "sets" },
            list.join(" ")
        ))?;
    }
    if !r.never.is_empty() {
        s.line(format!("never known: {}", r.never.join(" ")))?;
    }
    Ok(())
}

/// Ways to the goal that never need a guess.
pub struct Ways {
    /// The shortest.
    pub shortest: Option<Vec<String>>,
    /// Sets of cells entered, and whether there may be more.
    sets: usize,
    /// Not all states of knowledge were looked at.
    pub more: bool,
    /// How many share no cell but the ends; and whether that is the greatest number.
    apart: (usize, bool),
}

fn ways_json(w: &Ways) -> Json {
    json!({
        "shortest": w.shortest,
        "differ_in_cells": w.sets,
        "more": w.more,
        "share_no_cell": {"at_least": w.apart.0, "exact": w.apart.1},
    })
}

/// Writes what is known of safe ways.
///
/// # Errors
///
/// When nothing can be written.
pub fn write_ways(s: &mut Session, w: &Ways) -> Result<(), Trouble> {
    match &w.shortest {
        Some(moves) => {
            s.line(format!(
                "the shortest safe way to the goal: {}",
                counted(moves.len() as u64, "move", "moves")
            ))?;
            s.lines(&move_lines(moves))?;
            let more = if w.more { "more than " } else { "" };
            s.line(format!(
                "{more}{} that differ in the cells entered",
                counted(w.sets as u64, "safe way", "safe ways")
            ))?;
            let (n, exact) = w.apart;
            let least = if exact { "" } else { "at least " };
            s.line(format!("the most of them that share no cell but the ends: {least}{n}"))?;
        }
        None if w.more => s.line(format!(
            "no safe way to the goal was found among {} states of knowledge: undecided",
            grouped(STATES_MAX as u64)
        ))?,
        None => s.line("no safe way to the goal: information runs out")?,
    }
    Ok(())
}

/// For a game in which one thing walks: the ways to the goal on which every step is certain when it is made.
///
/// # Errors
///
/// [`Stopped`].
pub fn safe_ways(b: &Bound, table: &MoveTable, history: &[Vec<i32>]) -> Result<Option<Ways>, Stopped> {
    let walkers: Vec<usize> = (0..b.model.vars.len())
        .filter(|&v| {
            let def = &b.model.vars[v];
            let plain = def.state && !def.hidden && def.shadow_of.is_none();
            plain && def.shape == Shape::One && def.dom.scalar() == Scalar::Cell
        })
        .collect();
    let ([walker], true) = (walkers.as_slice(), b.model.has_goal()) else { return Ok(None) };
    let at = b.slots[*walker].base;
    let start = history.last().cloned().unwrap_or_default();
    let mut from: HashMap<Vec<i32>, Option<(Vec<i32>, usize)>> = [(start.clone(), None)].into();
    let mut queue: VecDeque<Vec<i32>> = [start.clone()].into();
    // What is certain, by what was told.
    let mut certain: HashMap<Vec<Vec<Option<i64>>>, Vec<Option<bool>>> = HashMap::new();
    let mut goals: Vec<Vec<i32>> = vec![];
    let mut more = false;
    while let Some(state) = queue.pop_front() {
        if from.len() > STATES_MAX {
            more = true;
            break;
        }
        let mut seen = history.to_vec();
        seen.push(state.clone());
        let told = b.told(&state);
        let player = Player::new(b, table, &seen)?;
        if !certain.contains_key(&told) {
            let found = player.infer()?;
            let all = (0..player.known.cells.len() as u32).map(|c| found.certain(c)).collect();
            certain.insert(told.clone(), all);
        }
        let known = &certain[&told];
        let safe = |ways: &[Way]| {
            ways.iter()
                .filter(|w| w.lost)
                .all(|w| w.cells.iter().any(|(c, v)| known[*c as usize].is_some_and(|k| k != *v)))
        };
        for (m, ways) in player.ways(&state)? {
            if !ways.as_deref().is_some_and(safe) {
                continue;
            }
            let Step::Made(list) = step(b, table, &state, m, false)? else { continue };
            let [played] = list.as_slice() else { continue };
            let next = &played.made.state;
            if from.contains_key(next) {
                continue;
            }
            from.insert(next.clone(), Some((state.clone(), m)));
            match played.ended {
                Some(e) if b.model.endings[e].kind == EndKind::Goal => goals.push(next.clone()),
                Some(_) => {}
                None => queue.push_back(next.clone()),
            }
        }
    }
    let way = |goal: &Vec<i32>| {
        let mut moves = vec![];
        let mut cells = BTreeSet::new();
        let mut here = goal;
        while let Some(Some((before, m))) = from.get(here) {
            moves.push(*m);
            cells.insert(here[at] as usize);
            here = before;
        }
        moves.reverse();
        cells.remove(&(goal[at] as usize));
        cells.remove(&(start[at] as usize));
        (moves, cells)
    };
    let all: Vec<(Vec<usize>, BTreeSet<usize>)> = goals.iter().map(way).collect();
    let shortest = all
        .iter()
        .min_by_key(|w| w.0.len())
        .map(|w| w.0.iter().map(|&m| table.name(m).to_string()).collect());
    let sets: BTreeSet<&BTreeSet<usize>> = all.iter().map(|w| &w.1).collect();
    let minimal: Vec<Vec<usize>> = sets
        .iter()
        .filter(|s| !sets.iter().any(|o| o != *s && o.is_subset(s)))
        .map(|s| s.iter().copied().collect())
        .collect();
    let (apart, exact) = most_disjoint(&minimal);
    Ok(Some(Ways { shortest, sets: sets.len(), more, apart: (apart, exact && !more) }))
}
