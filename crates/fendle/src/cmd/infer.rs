//! `fendle infer`: hidden things: what is certain and by which clues, exact probabilities, the chance to win after
//! each choice, and whether a level can be finished without a guess.

use std::collections::{BTreeMap, HashMap};

use fendle_core::infer::{Fraction, Inferred, Kind, NoAnswer, Proof, Step, about, fraction};
use fendle_core::knowledge::Knowing;
use fendle_core::odds::{Value, odds};
use fendle_core::simulate::share_interval;
use fendle_core::{Limits, Watch as _, explore};
use fendle_lang::Bound;
use fendle_lang::known::Source;
use fendle_lang::known::player::{Player, Stopped, exact_risk};
use fendle_lang::model::{Range, Shape};
use fendle_lang::run::setup::Dice;
use fendle_lang::state::cell_name;
use fendle_view::board::{Board, side_by_side};
use fendle_view::text::{counted, grouped, table};
use serde_json::{Value as Json, json};

use super::odds::{value_json, value_text};
use super::{WIDTH, named, title};
use crate::args::{Format, LevelArgs, PictureArgs};
use crate::files::{Loaded, load};
use crate::know::{Play, play, say_too_many};
use crate::watch::{Watcher, effort};
use crate::{Exit, Session, Trouble};

pub mod fair;
mod map;

/// Layouts up to which the chance to win is computed by full search.
const SOLVED_MAX: usize = 4_096;
/// Information states up to which it is.
const STATES_MAX: u64 = 200_000;
/// Moves tried in layouts up to which it is, were every information state as large as the first.
const WORK_MAX: u64 = 12_000_000;
/// Cells and moves that text lists; JSON has all.
const LISTED: usize = 12;

/// What is known of one hidden cell.
pub struct CellReport {
    /// The variable and the index in it.
    pub at: (usize, usize),
    /// As it is written.
    pub name: String,
    /// The chance that it is filled.
    pub chance: Fraction,
    /// Whether that is certain.
    pub certain: Option<bool>,
    /// Told or fixed before anything is inferred.
    pub fixed: bool,
    /// Why it is certain.
    pub proof: Option<Proof>,
    /// For a certain hazard: by how many independent sets of clues, and whether that is the greatest number.
    pub ways: Option<(usize, bool)>,
}

/// What is known of one move.
struct MoveReport {
    name: String,
    risk: Option<Fraction>,
    /// The chance to win after it with best play.
    win: Option<Value>,
    /// Careful plays after it: how many, and how many were won.
    sample: Option<(u64, u64)>,
}

/// What follows where what is told are counts.
pub struct Counted<'b> {
    pub player: Player<'b>,
    pub found: Inferred,
}

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    no_guess: bool,
    plays: Option<u64>,
    picture: &PictureArgs,
) -> Result<Exit, Trouble> {
    let loaded = load(s, args)?;
    let b = &loaded.game.bound;
    if !b.model.hides() {
        return Err(Trouble::Message(format!("the model `{}` hides nothing", b.model.name)));
    }
    let mut seen = b.clone();
    seen.as_player = true;
    let loaded_bound = seen;
    if no_guess && picture.output.is_some() {
        return Err(Trouble::Message("-o draws what is known of one position: leave --no-guess out".into()));
    }
    if no_guess {
        return fair::run(s, &loaded, &loaded_bound);
    }
    let watcher = Watcher::new(&s.common);
    let start = std::time::Instant::now();
    let counted = Player::new(b, &loaded.moves, &loaded.history).and_then(|player| {
        let found = player.infer()?;
        Ok(Counted { player, found })
    });
    let exit = match counted {
        Ok(counted) => by_counts(s, &loaded, (plays, picture), &loaded_bound, &counted, start)?,
        Err(Stopped::NoAnswer(NoAnswer::Contradiction)) => {
            s.line(title(&loaded))?;
            s.line("")?;
            s.lines(&super::position_lines(&loaded_bound, &b.position, &std::collections::BTreeSet::new()))?;
            s.line("")?;
            s.line("no layout agrees with what is seen")?;
            Exit::No
        }
        Err(Stopped::Fault(f)) => return Err(Trouble::Message(format!("the model breaks: {f}"))),
        Err(why) => by_worlds(s, &loaded, (args, picture), &loaded_bound, &why)?,
    };
    watcher.finish();
    if let (Some(path), Exit::Yes, Format::Text) = (&picture.output, exit, s.common.format) {
        s.line("")?;
        s.line(format!("wrote {}", path.display()))?;
    }
    Ok(exit)
}

/// The name of a place in a hidden variable.
fn place_name(b: &Bound, var: usize, index: usize) -> String {
    let def = &b.model.vars[var];
    let many = b.model.vars.iter().filter(|v| v.hidden).count() > 1;
    let name = match def.shape {
        Shape::Grid | Shape::Set => cell_name(index, b.cols),
        Shape::Array(k) => b.key_names(k)[index].clone(),
        _ => return def.name.clone(),
    };
    if many { format!("{} {name}", def.name) } else { name }
}

/// Reports on every hidden cell.
pub fn cells(b: &Bound, counted: &Counted<'_>, proofs: bool) -> Vec<CellReport> {
    let known = &counted.player.known;
    let system = &known.system;
    let prover = system.prover();
    (0..known.cells.len() as u32)
        .map(|c| {
            let at = known.cells[c as usize];
            let certain = counted.found.certain(c);
            let fixed = system.fixed[c as usize].is_some();
            let proof = match certain {
                Some(v) if proofs && !fixed => prover.proof(c, v, &prover.clues_for(c, v)),
                _ => None,
            };
            let ways = match certain {
                Some(true) if proofs && !fixed => {
                    Some(prover.independent(c, true, &prover.clues_for(c, true)))
                }
                _ => None,
            };
            let chance = counted.found.chance(c);
            CellReport { at, name: place_name(b, at.0, at.1), chance, certain, fixed, proof, ways }
        })
        .collect()
}

/// A board of what is known of a hidden grid, with what is told on it.
pub fn risk_board(b: &Bound, var: usize, cells: &[CellReport], state: &[i32]) -> Vec<String> {
    let told = b.told(state);
    let mut rows: Vec<Vec<String>> = vec![vec![String::new(); b.cols]; b.rows];
    for c in cells.iter().filter(|c| c.at.0 == var) {
        let text = match c.certain {
            Some(true) => "!".into(),
            Some(false) => "+".into(),
            None => percent(&c.chance),
        };
        rows[c.at.1 / b.cols][c.at.1 % b.cols] = text;
    }
    for (t, tell) in b.model.tells.iter().enumerate() {
        if matches!(tell.over, Some((_, Range::Board))) {
            for (c, v) in told[t].iter().enumerate().filter(|(_, v)| v.is_some()) {
                rows[c / b.cols][c % b.cols] = format!("({})", b.told_text(t, *v));
            }
        }
    }
    Board { rows, marks: Default::default() }.lines()
}

/// A probability in few letters.
fn percent(p: &Fraction) -> String {
    let x = 100.0 * about(p);
    if x < 1.0 {
        "<1".into()
    } else if x > 99.0 {
        ">99".into()
    } else {
        format!("{x:.0}")
    }
}

/// A probability in full.
pub fn chance_text(p: &Fraction) -> String {
    let text = p.to_string();
    let about = format!("{:.2} %", 100.0 * about(p));
    if text.len() <= 24 { format!("{text} = {about}") } else { format!("about {about}") }
}

/// The clues of a proof in words.
pub fn clues_text(b: &Bound, counted: &Counted<'_>, clues: &[usize]) -> String {
    let words: Vec<String> = clues.iter().map(|&c| counted.player.known.clue_text(b, c)).collect();
    if words.is_empty() { "what is known beforehand".into() } else { words.join(", ") }
}

/// How a step is seen, in words.
pub fn kind_words(kind: Kind) -> &'static str {
    match kind {
        Kind::OneClue => "one clue",
        Kind::TwoClues => "two clues compared",
        Kind::Several => "several clues",
        Kind::Total => "with the number of all",
    }
}

/// What is on a cell, in words.
pub fn what(b: &Bound, var: usize, value: bool) -> String {
    if value { b.model.vars[var].name.clone() } else { "free".into() }
}

/// The chance to win after each move with best play, by number of the move; `None` where it is too dear.
fn best_play(s: &Session, loaded: &Loaded, counted: &Counted<'_>) -> Result<Wins, Trouble> {
    let game = &loaded.game;
    let b = &game.bound;
    let known = &counted.player.known;
    let Some(solutions) = known.system.solutions(SOLVED_MAX) else { return Ok(None) };
    let mut worlds = vec![];
    for (cells, weight) in solutions {
        let mut state = b.position.clone();
        for (c, v) in cells.iter().enumerate() {
            state[known.places[c]] = i32::from(*v);
        }
        // Worlds that the rules themselves rule out are none.
        if fendle_lang::run::Eval::new(b).status(&state).is_ok() {
            worlds.push((game.pack(&state), weight));
        }
    }
    let Ok(knowing) = Knowing::new(game, &worlds, None) else { return Ok(None) };
    best_of(s, loaded, &knowing)
}

type Wins = Option<(HashMap<usize, Value>, Option<Value>)>;

/// The best chance from where play begins, and after each move.
fn best_of(s: &Session, loaded: &Loaded, knowing: &Knowing<'_>) -> Result<Wins, Trouble> {
    let game = &loaded.game;
    let layouts: usize = knowing.begins().iter().map(|b| knowing.worlds(b.0).len()).sum();
    let each = (layouts * loaded.moves.list.len()).max(1) as u64;
    let limits = Limits {
        max_states: (WORK_MAX / each).clamp(64, STATES_MAX).min(crate::watch::limits(&s.common).max_states),
        ..crate::know::in_order(crate::watch::limits(&s.common))
    };
    let watcher = Watcher::new(&s.common);
    let fail = |f| Trouble::Message(format!("the model breaks: {}", crate::know::fault_words(game, &f)));
    let found = explore(knowing, limits, false, &watcher).map_err(fail)?;
    let answers = match found.counts.limit {
        None if found.fault.is_none() => odds(knowing, &found, &limits, &watcher).map_err(fail)?,
        _ => None,
    };
    watcher.finish();
    Ok(answers.map(|a| {
        let wins = a.from_start.iter().filter_map(|m| Some((m.of.0 as usize, m.win.clone()?))).collect();
        (wins, a.win)
    }))
}

fn by_counts(
    s: &mut Session,
    loaded: &Loaded,
    (plays, picture): (Option<u64>, &PictureArgs),
    shown: &Bound,
    counted_: &Counted<'_>,
    start: std::time::Instant,
) -> Result<Exit, Trouble> {
    let b = &loaded.game.bound;
    let known = &counted_.player.known;
    let found = &counted_.found;
    let seconds = start.elapsed().as_secs_f64();
    let cells = cells(b, counted_, true);
    let steps = known.system.steps(found);
    let broke = |f| Trouble::Message(format!("the model breaks: {f}"));
    let best = best_play(s, loaded, counted_)?;
    let mut moves: Vec<MoveReport> = vec![];
    for (n, ways) in counted_.player.ways(&b.position).map_err(broke)? {
        let risk = match &ways {
            Some(ways) => match exact_risk(known, found, ways) {
                Ok(p) => Some(p),
                Err(NoAnswer::Contradiction) => Some(fraction(0, 1)),
                Err(NoAnswer::TooWide) => None,
            },
            None => None,
        };
        let win = best.as_ref().and_then(|(wins, _)| wins.get(&n).cloned());
        moves.push(MoveReport { name: loaded.moves.name(n).to_string(), risk, win, sample: None });
    }
    moves.sort_by(|x, y| {
        let key = |m: &MoveReport| m.risk.as_ref().map_or(2.0, about);
        let win = |m: &MoveReport| m.win.as_ref().map_or(0.0, Value::low);
        key(x).total_cmp(&key(y)).then(win(y).total_cmp(&win(x)))
    });
    if let (None, Some(n)) = (&best, plays) {
        estimate(s, loaded, counted_, &mut moves, n).map_err(|e| Trouble::Message(e.to_string()))?;
    }
    if let Some(path) = &picture.output {
        let mut drawing = map::of_counts(shown, counted_, &cells, &steps)?;
        drawing.wins = moves.iter().filter_map(|m| Some((m.name.clone(), m.win.clone()?))).collect();
        map::write(path, picture, loaded, &drawing)?;
    }
    let unit =
        known.system.weights.iter().enumerate().all(|(c, w)| *w == (1, 1) || known.system.fixed[c].is_some());
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "begin": loaded.begin.json(),
            "position": shown.player_line(&b.position),
            "method": "clues that count, exactly",
            "layouts": if unit { json!(found.all.to_string()) } else { Json::Null },
            "cells": cells.iter().map(|c| cell_json(b, counted_, c)).collect::<Vec<_>>(),
            "steps": steps.iter().map(|t| step_json(b, counted_, t)).collect::<Vec<_>>(),
            "moves": moves.iter().map(|m| json!({
                "move": m.name,
                "risk": m.risk.as_ref().map(|r| json!({"exact": r.to_string(), "about": about(r)})),
                "best_chance_to_win": m.win.as_ref().map(value_json),
                "estimate": m.sample.map(|(won, n)| json!({
                    "policy": "careful", "seed": s.common.seed, "plays": n, "won": won, "win_share_95": share_interval(won, n),
                })),
            })).collect::<Vec<_>>(),
            "best_chance_to_win": best.as_ref().and_then(|b| b.1.as_ref()).map(value_json),
            "parts": found.parts.len(),
            "effort": effort(seconds, 0),
        }))?;
        return Ok(Exit::Yes);
    }
    named(s, loaded)?;
    let mut blocks = vec![super::position_lines(shown, &b.position, &std::collections::BTreeSet::new())];
    blocks[0].insert(0, "as the player sees it".into());
    for v in fendle_lang::run::scatter::hidden_vars(b) {
        if matches!(b.model.vars[v].shape, Shape::Grid | Shape::Set) {
            let mut lines = vec![format!("{}: percent, + free, ! sure, (n) told", b.model.vars[v].name)];
            lines.extend(risk_board(b, v, &cells, &b.position));
            blocks.push(lines);
        }
    }
    s.lines(&side_by_side(&blocks, 4, WIDTH))?;
    s.line("")?;
    let layouts = found.all.to_string();
    let parts = counted(found.parts.len() as u64, "independent part", "independent parts");
    if !unit {
        s.line(format!("layouts have weights of their own; {parts} of the clues"))?;
    } else if layouts.len() <= 15 {
        let n: u64 = layouts.parse().unwrap_or(0);
        let words = if n == 1 { "layout agrees" } else { "layouts agree" };
        s.line(format!("{} {words} with what is seen; {parts} of the clues", grouped(n)))?;
    } else {
        s.line(format!(
            "about 10^{} layouts agree with what is seen; {parts} of the clues",
            layouts.len() - 1
        ))?;
    }
    write_steps(s, b, counted_, &steps)?;
    write_cells(s, b, counted_, &cells)?;
    write_moves(s, loaded, &moves, best.is_some())?;
    write_proofs(s, b, counted_, &cells)?;
    if s.common.verbose {
        s.line("")?;
        s.line(format!("{seconds:.4} s for certainty and probabilities"))?;
    }
    Ok(Exit::Yes)
}

fn write_steps(s: &mut Session, b: &Bound, counted_: &Counted<'_>, steps: &[Step]) -> Result<(), Trouble> {
    s.line("")?;
    if steps.is_empty() {
        s.line("nothing that is covered is certain")?;
        return Ok(());
    }
    s.line("what is certain, in an order to find it:")?;
    let known = &counted_.player.known;
    let rows: Vec<Vec<String>> = steps
        .iter()
        .take(LISTED)
        .map(|t| {
            let mut by: BTreeMap<bool, Vec<String>> = BTreeMap::new();
            for &(c, v) in &t.cells {
                let (var, at) = known.cells[c as usize];
                by.entry(v).or_default().push(place_name(b, var, at));
            }
            let var = known.cells[t.cells[0].0 as usize].0;
            let cells: Vec<String> =
                by.into_iter().map(|(v, c)| format!("{}: {}", c.join(" "), what(b, var, v))).collect();
            vec![kind_words(t.kind).to_string(), clues_text(b, counted_, &t.clues), cells.join("; ")]
        })
        .collect();
    s.lines(&table(&["seen by", "clues", "so"], &rows))?;
    if steps.len() > LISTED {
        s.line(format!(
            "and {} more (--format json)",
            counted((steps.len() - LISTED) as u64, "step", "steps")
        ))?;
    }
    Ok(())
}

fn write_cells(
    s: &mut Session,
    b: &Bound,
    counted_: &Counted<'_>,
    cells: &[CellReport],
) -> Result<(), Trouble> {
    let sure: Vec<&CellReport> = cells.iter().filter(|c| c.certain.is_some() && !c.fixed).collect();
    if !sure.is_empty() {
        s.line("")?;
        s.line("each by itself, from the clues alone:")?;
        let rows: Vec<Vec<String>> = sure
            .iter()
            .take(LISTED)
            .map(|c| {
                let proof = c.proof.as_ref();
                let how =
                    proof.map_or("", |p| if p.smallest { "smallest" } else { "nothing can be left out" });
                let ways = match c.ways {
                    Some((n, true)) => grouped(n as u64),
                    Some((n, false)) => format!("at least {n}"),
                    None => String::new(),
                };
                vec![
                    c.name.clone(),
                    what(b, c.at.0, c.certain == Some(true)),
                    proof.map_or(String::new(), |p| clues_text(b, counted_, &p.clues)),
                    how.to_string(),
                    ways,
                ]
            })
            .collect();
        s.lines(&table(&["cell", "is", "by", "set of clues", "independent sets"], &rows))?;
        if sure.len() > LISTED {
            s.line(format!("and {} more (--format json)", sure.len() - LISTED))?;
        }
    }
    let mut open: Vec<&CellReport> = cells.iter().filter(|c| c.certain.is_none()).collect();
    if open.is_empty() {
        return Ok(());
    }
    open.sort_by(|x, y| about(&x.chance).total_cmp(&about(&y.chance)));
    s.line("")?;
    s.line("the others, least likely first:")?;
    let mut by: Vec<(String, Vec<String>)> = vec![];
    for c in &open {
        let text = chance_text(&c.chance);
        match by.last_mut() {
            Some((t, names)) if *t == text => names.push(c.name.clone()),
            _ => by.push((text, vec![c.name.clone()])),
        }
    }
    let rows: Vec<Vec<String>> = by
        .iter()
        .take(LISTED)
        .map(|(text, names)| {
            let more = names.len().saturating_sub(8);
            let mut list = names.iter().take(8).cloned().collect::<Vec<_>>().join(" ");
            if more > 0 {
                list.push_str(&format!(" and {more} more"));
            }
            vec![text.clone(), list]
        })
        .collect();
    s.lines(&table(&["chance", "cells"], &rows))?;
    if by.len() > LISTED {
        s.line(format!("and {} more (--format json)", by.len() - LISTED))?;
    }
    Ok(())
}

fn write_moves(s: &mut Session, loaded: &Loaded, moves: &[MoveReport], solved: bool) -> Result<(), Trouble> {
    if moves.is_empty() {
        return Ok(());
    }
    s.line("")?;
    let best =
        moves.iter().filter_map(|m| m.win.as_ref()).max_by(|a, b| a.low().total_cmp(&b.low())).cloned();
    let rows: Vec<Vec<String>> = moves
        .iter()
        .take(LISTED)
        .map(|m| {
            let mut row = vec![m.name.clone(), m.risk.as_ref().map_or("not followed".into(), chance_text)];
            if solved {
                row.push(m.win.as_ref().map_or(String::new(), |v| value_text(v, true)));
                let is_best =
                    m.win.is_some() && m.win == best && best.as_ref().is_some_and(|b| b.low() > 0.0);
                row.push(if is_best { "best".into() } else { String::new() });
            }
            row
        })
        .collect();
    let head: &[&str] = if solved {
        &["move", "risk to lose at once", "chance to win, best play", ""]
    } else {
        &["move", "risk to lose at once"]
    };
    s.lines(&table(head, &rows))?;
    if moves.len() > LISTED {
        s.line(format!("and {} more (--format json)", moves.len() - LISTED))?;
    }
    if !solved && loaded.game.bound.model.has_goal() {
        s.line(format!(
            "the chance to win after each is not computed: it takes more than {} layouts, or too many information states",
            grouped(SOLVED_MAX as u64)
        ))?;
        let sampled: Vec<&MoveReport> = moves.iter().filter(|m| m.sample.is_some()).collect();
        if sampled.is_empty() {
            s.line("--plays 200 estimates it for the moves of least risk")?;
        } else {
            s.line("")?;
            s.line(format!(
                "an estimate, no proof: careful play (what is certain, else the least risk) on layouts drawn among those that agree, seed {}",
                s.common.seed
            ))?;
            let rows: Vec<Vec<String>> = sampled
                .iter()
                .map(|m| {
                    let (won, n) = m.sample.unwrap_or_default();
                    let (lo, hi) = share_interval(won, n);
                    vec![
                        m.name.clone(),
                        format!("{won} of {n} won"),
                        format!("95 % interval {:.1} to {:.1} %", 100.0 * lo, 100.0 * hi),
                    ]
                })
                .collect();
            s.lines(&table(&["move", "plays", "chance to win"], &rows))?;
        }
    }
    Ok(())
}

/// Moves that are estimated.
const ESTIMATED: usize = 4;

/// Plays on carefully after the moves of least risk, on layouts drawn among those that agree.
fn estimate(
    s: &Session,
    loaded: &Loaded,
    counted_: &Counted<'_>,
    moves: &mut [MoveReport],
    plays: u64,
) -> Result<(), Stopped> {
    let b = &loaded.game.bound;
    let known = &counted_.player.known;
    let mut sampler = known.system.sampler()?;
    let mut dice = Dice::new(s.common.seed);
    let mut random = || dice.below(1 << 53) as f64 / (1u64 << 53) as f64;
    let layouts: Vec<Vec<bool>> = (0..plays).map(|_| sampler.draw(&mut random)).collect();
    let watcher = Watcher::new(&s.common);
    for m in moves.iter_mut().take(ESTIMATED) {
        let Some(first) = (0..loaded.moves.list.len()).find(|n| loaded.moves.name(*n) == m.name) else {
            continue;
        };
        let mut tally = (0, 0);
        for layout in &layouts {
            if watcher.look(&fendle_core::Progress::default()).is_some() {
                break;
            }
            let mut state = b.position.clone();
            for (c, v) in layout.iter().enumerate() {
                state[known.places[c]] = i32::from(*v);
            }
            let mut player = Player::new(b, &loaded.moves, &loaded.history)?;
            player.state = state;
            let mut next = vec![first];
            let won = loop {
                match player.make(&next)? {
                    Some(Some(e)) => break b.model.endings[e].kind == fendle_lang::model::EndKind::Goal,
                    Some(None) => {}
                    None => break false,
                }
                let found = player.infer()?;
                let (news, ended) = player.make_safe(&found)?;
                if let Some(e) = ended {
                    break b.model.endings[e].kind == fendle_lang::model::EndKind::Goal;
                }
                if news {
                    next = vec![];
                    continue;
                }
                match player.choose(&found)? {
                    Some(chosen) => next = chosen.moves,
                    None => break false,
                }
            };
            tally = (tally.0 + u64::from(won), tally.1 + 1);
        }
        m.sample = Some(tally);
    }
    watcher.finish();
    Ok(())
}

/// Proofs that are drawn.
const DRAWN: usize = 4;

/// The clues of the first proofs, marked on the board beside the cell that they prove.
fn write_proofs(
    s: &mut Session,
    b: &Bound,
    counted_: &Counted<'_>,
    cells: &[CellReport],
) -> Result<(), Trouble> {
    let known = &counted_.player.known;
    let mut blocks = vec![];
    for c in cells.iter().filter(|c| c.proof.is_some()) {
        let (Some(proof), Shape::Grid | Shape::Set) = (&c.proof, b.model.vars[c.at.0].shape) else {
            continue;
        };
        if blocks.len() == DRAWN || b.cols > 12 {
            break;
        }
        let mut rows = vec![vec![String::from("~"); b.cols]; b.rows];
        let mut marks = std::collections::BTreeSet::new();
        for (t, values) in b.told(&b.position).iter().enumerate() {
            if values.len() == b.cells() {
                for (i, v) in values.iter().enumerate().filter(|(_, v)| v.is_some()) {
                    rows[i / b.cols][i % b.cols] = b.told_text(t, *v);
                }
            }
        }
        for &clue in &proof.clues {
            if let Source::Told { tell, element, .. } = &known.sources[clue]
                && matches!(b.model.tells[*tell].over, Some((_, Range::Board)))
            {
                marks.insert((*element as usize / b.cols, *element as usize % b.cols));
            }
        }
        rows[c.at.1 / b.cols][c.at.1 % b.cols] = if c.certain == Some(true) { "!" } else { "+" }.into();
        let total =
            if proof.clues.iter().any(|i| known.sources[*i] == Source::Total) { ", and all" } else { "" };
        let mut block = vec![format!("{}: {}{total}", c.name, what(b, c.at.0, c.certain == Some(true)))];
        block.extend(Board { rows, marks }.lines());
        blocks.push(block);
    }
    if !blocks.is_empty() {
        s.line("")?;
        s.line("the clues on the board, in brackets, and what they prove:")?;
        s.lines(&side_by_side(&blocks, 4, WIDTH))?;
    }
    Ok(())
}

fn cell_json(b: &Bound, counted_: &Counted<'_>, c: &CellReport) -> Json {
    json!({
        "cell": c.name,
        "of": b.model.vars[c.at.0].name,
        "certain": c.certain,
        "given": c.fixed,
        "chance": c.chance.to_string(),
        "about": about(&c.chance),
        "proof": c.proof.as_ref().map(|p| json!({
            "clues": p.clues.iter().map(|&i| clue_json(b, counted_, i)).collect::<Vec<_>>(),
            "smallest": p.smallest,
        })),
        "independent_sets": c.ways.map(|(n, exact)| json!({"at_least": n, "exact": exact})),
    })
}

fn clue_json(b: &Bound, counted_: &Counted<'_>, clue: usize) -> Json {
    let text = counted_.player.known.clue_text(b, clue);
    match &counted_.player.known.sources[clue] {
        Source::Told { tell, element, value, ago } => {
            let at = match &b.model.tells[*tell].over {
                Some((_, Range::Board)) => json!(cell_name(*element as usize, b.cols)),
                Some(_) => json!(element),
                None => Json::Null,
            };
            json!({"told": b.model.tells[*tell].name, "at": at, "value": value, "moves_ago": ago, "text": text})
        }
        _ => json!({"text": text}),
    }
}

fn step_json(b: &Bound, counted_: &Counted<'_>, t: &Step) -> Json {
    let known = &counted_.player.known;
    json!({
        "seen_by": kind_words(t.kind),
        "clues": t.clues.iter().map(|&i| clue_json(b, counted_, i)).collect::<Vec<_>>(),
        "cells": t.cells.iter().map(|&(c, v)| {
            let (var, at) = known.cells[c as usize];
            json!({"cell": place_name(b, var, at), "is": what(b, var, v)})
        }).collect::<Vec<_>>(),
    })
}

/// Any hidden things: the worlds one by one.
fn by_worlds(
    s: &mut Session,
    loaded: &Loaded,
    (args, picture): (&LevelArgs, &PictureArgs),
    shown: &Bound,
    why: &Stopped,
) -> Result<Exit, Trouble> {
    let game = &loaded.game;
    let b = &game.bound;
    let knowing = match play(loaded, args, false)? {
        Play::Knowing(k, _) => k,
        Play::Open => return Err(Trouble::Message("--known leaves nothing to infer".into())),
        Play::TooMany => {
            say_too_many(s, loaded, &format!("; and {why}, so that they are not counted in parts"))?;
            return Ok(Exit::Undecided);
        }
    };
    let worlds = knowing.worlds(knowing.begins()[0].0);
    let all: u128 = worlds.iter().map(|w| u128::from(w.1)).sum();
    // For each place of a hidden variable its values and their weights.
    let mut of: BTreeMap<(usize, usize), BTreeMap<i32, u128>> = BTreeMap::new();
    for (words, weight) in &worlds {
        let state = game.unpack(words);
        for v in fendle_lang::run::scatter::hidden_vars(b) {
            let slot = &b.slots[v];
            for i in 0..slot.len {
                *of.entry((v, i)).or_default().entry(state[slot.base + i]).or_default() +=
                    u128::from(*weight);
            }
        }
    }
    let best = best_of(s, loaded, &knowing)?;
    // Which moves lose at once in which worlds.
    let mut risks: Vec<(usize, Fraction, Option<Value>)> = vec![];
    for n in 0..loaded.moves.list.len() {
        let mut lost = fraction(0, 1);
        let mut allowed = true;
        for (words, weight) in &worlds {
            let made = fendle_lang::play::step(b, &loaded.moves, &game.unpack(words), n, false)
                .map_err(|f| Trouble::Message(format!("the model breaks: {f}")))?;
            let fendle_lang::play::Step::Made(list) = made else {
                allowed = false;
                break;
            };
            let is_lost = |e: usize| b.model.endings[e].kind == fendle_lang::model::EndKind::Lost;
            for p in list.iter().filter(|p| p.ended.is_some_and(is_lost)) {
                lost += fraction(u128::from(*weight), all) * fraction(p.made.chance.num, p.made.chance.den);
            }
        }
        if allowed {
            risks.push((n, lost, best.as_ref().and_then(|(w, _)| w.get(&n).cloned())));
        }
    }
    risks.sort_by(|x, y| {
        let win = |v: &Option<Value>| v.as_ref().map_or(0.0, Value::low);
        about(&x.1).total_cmp(&about(&y.1)).then(win(&y.2).total_cmp(&win(&x.2)))
    });
    if let Some(path) = &picture.output {
        let mut drawing = map::of_worlds(shown, &of, all)?;
        let win = |(n, _, win): &(usize, Fraction, Option<Value>)| {
            Some((loaded.moves.name(*n).to_string(), win.clone()?))
        };
        drawing.wins = risks.iter().filter_map(win).collect();
        map::write(path, picture, loaded, &drawing)?;
    }
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "position": shown.player_line(&b.position),
            "method": format!("layouts one by one, since {why}"),
            "layouts": worlds.len().to_string(),
            "cells": of.iter().map(|((v, i), values)| json!({
                "cell": place_name(b, *v, *i),
                "of": b.model.vars[*v].name,
                "values": values.iter().map(|(x, w)| json!({
                    "value": b.value_text(*v, (*x).into()),
                    "chance": fraction(*w, all).to_string(),
                })).collect::<Vec<_>>(),
            })).collect::<Vec<_>>(),
            "moves": risks.iter().map(|(n, risk, win)| json!({
                "move": loaded.moves.name(*n),
                "risk": {"exact": risk.to_string(), "about": about(risk)},
                "best_chance_to_win": win.as_ref().map(value_json),
            })).collect::<Vec<_>>(),
            "best_chance_to_win": best.as_ref().and_then(|b| b.1.as_ref()).map(value_json),
        }))?;
        return Ok(Exit::Yes);
    }
    s.line(title(loaded))?;
    s.line("")?;
    s.lines(&super::position_lines(shown, &b.position, &std::collections::BTreeSet::new()))?;
    s.line("")?;
    s.line(format!(
        "{} with what was seen; weighed one by one, since {why}",
        match worlds.len() {
            1 => "1 layout agrees".to_string(),
            n => format!("{} layouts agree", grouped(n as u64)),
        }
    ))?;
    s.line("")?;
    let rows: Vec<Vec<String>> = of
        .iter()
        .take(40)
        .map(|((v, i), values)| {
            let mut list: Vec<(&i32, &u128)> = values.iter().collect();
            list.sort_by(|a, b| b.1.cmp(a.1));
            let words: Vec<String> = list
                .iter()
                .take(4)
                .map(|(x, w)| {
                    let value = b.value_text(*v, (**x).into());
                    if values.len() == 1 {
                        format!("{value} for sure")
                    } else {
                        format!("{value}: {}", fraction(**w, all))
                    }
                })
                .collect();
            let more = if list.len() > 4 { format!(", and {} more", list.len() - 4) } else { String::new() };
            vec![place_name(b, *v, *i), format!("{}{more}", words.join(", "))]
        })
        .collect();
    s.lines(&table(&["cell", "holds"], &rows))?;
    let reports: Vec<MoveReport> = risks
        .into_iter()
        .map(|(n, risk, win)| MoveReport {
            name: loaded.moves.name(n).to_string(),
            risk: Some(risk),
            win,
            sample: None,
        })
        .collect();
    write_moves(s, loaded, &reports, best.is_some())?;
    Ok(Exit::Yes)
}
