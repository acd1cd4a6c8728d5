//! Playing moves by the reference executor: reading them, tracing them, replaying solutions.

pub mod examples;
mod session;

pub use session::{Session, Turn};

use std::collections::HashMap;

use crate::run::TooLarge;
use crate::run::move_list;
use crate::run::setup::Dice;
use crate::run::{Eval, FaultKind, Made, Outcome, RunFault};
use crate::source::{Diagnostic, FileId, Span, near};
use crate::state::Bound;
use crate::state::cell_name;

/// The moves of a bound model by name.
pub struct MoveTable {
    /// (move, parameters) in move order.
    pub list: Vec<(usize, Vec<i64>)>,
    names: Vec<String>,
    by_name: HashMap<String, usize>,
    short: HashMap<String, Option<usize>>,
}

impl MoveTable {
    /// All moves of a bound model.
    ///
    /// # Errors
    ///
    /// [`TooLarge`] when there are too many.
    pub fn new(b: &Bound) -> Result<MoveTable, TooLarge> {
        let list = move_list(b)?;
        let mut by_name = HashMap::new();
        let mut short: HashMap<String, Option<usize>> = HashMap::new();
        let mut names = vec![];
        for (i, (of, params)) in list.iter().enumerate() {
            let def = &b.model.moves[*of];
            let words: Vec<String> =
                def.params.iter().zip(params).map(|(d, &v)| b.scalar_text(d.scalar(), v, false)).collect();
            let args = words.join(" ");
            let name = format!("{} {args}", def.name).trim_end().to_string();
            if !args.is_empty() {
                short.entry(args).and_modify(|e| *e = None).or_insert(Some(i));
            }
            by_name.insert(name.clone(), i);
            names.push(name);
        }
        Ok(MoveTable { list, names, by_name, short })
    }

    /// The move as it is written.
    #[must_use]
    pub fn name(&self, number: usize) -> &str {
        &self.names[number]
    }

    fn find(&self, text: &str) -> Option<usize> {
        self.by_name.get(text).copied().or_else(|| self.short.get(text).copied().flatten())
    }

    /// Reads moves: `slide left; slide up`, with `x 3` to repeat one. The move's name may be left
    /// out where its parameters alone say which move is meant. Behind a slash stands what is
    /// drawn: `shift left / 2 at r1c3`. `at` is where `text` begins in its file.
    ///
    /// # Errors
    ///
    /// A diagnostic at the first word that is no move.
    pub fn parse(&self, text: &str, file: FileId, at: u32) -> Result<Vec<Call>, Box<Diagnostic>> {
        let mut out = vec![];
        let mut offset = 0;
        for part in text.split([';', ',', '\n']) {
            let from = offset + part.len() - part.trim_start().len();
            offset += part.len() + 1;
            let (moved, draws) = match part.split_once('/') {
                Some((m, d)) => (m, Some(d.trim().to_string())),
                None => (part, None),
            };
            let words: Vec<&str> = moved.split_whitespace().collect();
            let (words, times) = match words.as_slice() {
                [] => continue,
                [rest @ .., "x", n] if n.parse::<usize>().is_ok_and(|n| n <= 100_000) && !rest.is_empty() => {
                    (rest, n.parse().unwrap_or(1))
                }
                all => (all, 1),
            };
            let name = words.join(" ");
            let start = at as usize + from;
            let span = Span::new(start, start + part.trim().len());
            match self.find(&name) {
                Some(number) => out.extend(std::iter::repeat_n(Call { number, span, draws }, times)),
                None => {
                    let mut error =
                        Diagnostic::error("P001", file, span, format!("`{name}` is no move of this level"));
                    let known = self.names.iter().map(String::as_str);
                    let known =
                        known.chain(self.short.iter().filter(|s| s.1.is_some()).map(|s| s.0.as_str()));
                    error = match near(&name, known) {
                        Some(n) => error.note(format!("did you mean `{n}`?")),
                        None => {
                            let some: Vec<&str> = self.names.iter().take(6).map(String::as_str).collect();
                            let more = if self.names.len() > 6 { ", ..." } else { "" };
                            error.note(format!("moves are: {}{more}", some.join(", ")))
                        }
                    };
                    return Err(Box::new(error));
                }
            }
        }
        Ok(out)
    }
}

/// A move as it was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Call {
    /// The move's number.
    pub number: usize,
    /// Where it stands.
    pub span: Span,
    /// What is to be drawn, where the writer says so.
    pub draws: Option<String>,
}

/// One outcome of a played move.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Played {
    /// The new state, and what happened on the way.
    pub made: Made,
    /// The ending that holds now.
    pub ended: Option<usize>,
}

impl Played {
    /// What was drawn, as it is written behind a slash: values first, then `at` and cells.
    #[must_use]
    pub fn draws_text(&self) -> String {
        draws_text(self.made.draws())
    }
}

/// Whether something that was drawn is written as a cell.
fn is_cell(what: &str) -> bool {
    what.strip_prefix('r').and_then(|w| w.split_once('c')).is_some_and(|(r, c)| {
        !r.is_empty() && !c.is_empty() && (r.to_owned() + c).bytes().all(|b| b.is_ascii_digit())
    })
}

/// What was drawn, as it is written behind a slash: values first, then `at` and cells.
#[must_use]
pub fn draws_text<'d>(draws: impl Iterator<Item = &'d str>) -> String {
    let (cells, values): (Vec<&str>, Vec<&str>) = draws.partition(|w| is_cell(w));
    match (values.is_empty(), cells.is_empty()) {
        (true, true) => String::new(),
        (false, true) => values.join(" "),
        (true, false) => format!("at {}", cells.join(" ")),
        (false, false) => format!("{} at {}", values.join(" "), cells.join(" ")),
    }
}

/// Equal outcomes as one, their chances added; in order of first appearance. Draws and notes are those
/// of the first.
#[must_use]
pub fn merged(outcomes: Vec<Played>) -> Vec<Played> {
    let mut out: Vec<Played> = vec![];
    let mut index: HashMap<Vec<i32>, usize> = HashMap::new();
    for p in outcomes {
        match index.get(&p.made.state) {
            Some(&i) => {
                // Chances that were exact alone are exact together, or nearly always so.
                if let Some(chance) = out[i].made.chance.or(p.made.chance) {
                    out[i].made.chance = chance;
                }
            }
            None => {
                index.insert(p.made.state.clone(), out.len());
                out.push(p);
            }
        }
    }
    out
}

/// The outcomes in which these things were drawn, in any order; equal ones as one.
#[must_use]
pub fn with_draws(outcomes: Vec<Played>, draws: &str) -> Vec<Played> {
    let wanted: Vec<&str> = draws.split_whitespace().filter(|w| *w != "at").collect();
    let fits = |p: &Played| {
        let mut have: Vec<&str> = p.made.draws().collect();
        wanted.iter().all(|w| match have.iter().position(|h| h == w) {
            Some(i) => {
                have.remove(i);
                true
            }
            None => false,
        })
    };
    merged(outcomes.into_iter().filter(fits).collect())
}

/// What one played move did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tried {
    /// Made: one entry for each way that the draws can fall.
    Made(Vec<Played>),
    /// Refused by this statement, naming these places (row, column from 0).
    Refused {
        /// The statement's number.
        site: usize,
        /// The places.
        at: Vec<(i64, i64)>,
    },
    /// Not offered here.
    NotOffered,
    /// The game has ended before: this ending.
    Ended(usize),
}

/// Plays one move by the reference executor.
///
/// # Errors
///
/// A model fault.
pub fn step(
    b: &Bound,
    moves: &MoveTable,
    state: &[i32],
    number: usize,
    past_goals: bool,
) -> Result<Tried, RunFault> {
    let mut eval = Eval::new(b);
    if let Some(e) = eval.status(state)?
        && !(past_goals && b.is_goal(e))
    {
        return Ok(Tried::Ended(e));
    }
    let (of, params) = &moves.list[number];
    let outcome = eval.apply(state, *of, params)?;
    tried(b, outcome)
}

/// Plays one move, drawing by the dice: one outcome.
///
/// # Errors
///
/// A model fault.
pub fn step_drawn(
    b: &Bound,
    moves: &MoveTable,
    state: &[i32],
    number: usize,
    past_goals: bool,
    dice: &mut Dice,
) -> Result<Tried, RunFault> {
    if let Some(e) = Eval::new(b).status(state)?
        && !(past_goals && b.is_goal(e))
    {
        return Ok(Tried::Ended(e));
    }
    let (of, params) = &moves.list[number];
    let mut pick = |weights: &[u64]| dice.pick(weights);
    let outcome = Eval::new(b).apply_drawn(state, *of, params, &mut pick)?;
    tried(b, outcome)
}

/// Plays one move in all ways that the draws can fall. Where these are too many to be written down, only in the one in which
/// these things are drawn: see [`step_following`].
///
/// # Errors
///
/// A model fault.
pub fn step_or_follow(
    b: &Bound,
    moves: &MoveTable,
    state: &[i32],
    number: usize,
    past_goals: bool,
    draws: &str,
) -> Result<Tried, RunFault> {
    match step(b, moves, state, number, past_goals) {
        Err(f) if matches!(f.kind, FaultKind::TooManyOutcomes | FaultKind::TooFine) && !draws.is_empty() => {
            step_following(b, moves, state, number, past_goals, draws)
        }
        tried => tried,
    }
}

/// Plays one move so that these things are drawn, in the order of [`Played::draws_text`]: one outcome, or none where nothing like it
/// can be drawn. For moves with too many outcomes to be written down. Each draw is found by trying: O(draws x things to draw)
/// times the move.
///
/// # Errors
///
/// A model fault.
pub fn step_following(
    b: &Bound,
    moves: &MoveTable,
    state: &[i32],
    number: usize,
    past_goals: bool,
    draws: &str,
) -> Result<Tried, RunFault> {
    if let Some(e) = Eval::new(b).status(state)?
        && !(past_goals && b.is_goal(e))
    {
        return Ok(Tried::Ended(e));
    }
    let (of, params) = &moves.list[number];
    let words = || draws.split_whitespace().filter(|w| *w != "at");
    // Which thing each draw takes, the first where nothing is said.
    let mut taken: Vec<usize> = vec![];
    loop {
        let mut sizes: Vec<usize> = vec![];
        let mut pick = |weights: &[u64]| {
            let at = taken.get(sizes.len()).copied().unwrap_or(0).min(weights.len() - 1);
            sizes.push(weights.len());
            at
        };
        let outcome = Eval::new(b).apply_drawn(state, *of, params, &mut pick)?;
        let Tried::Made(list) = tried(b, outcome)? else { return Ok(Tried::Made(vec![])) };
        let Some(played) = list.into_iter().next() else { return Ok(Tried::Made(vec![])) };
        // How many draws are as they are wanted, values and cells each in their order.
        let mut wanted = [false, true].map(|cell| words().filter(move |w| is_cell(w) == cell));
        let drawn: Vec<&str> = played.made.draws().collect();
        let fits = drawn.iter().take_while(|w| wanted[usize::from(is_cell(w))].next() == Some(w)).count();
        if fits == drawn.len() {
            let all = wanted.iter_mut().all(|rest| rest.next().is_none());
            return Ok(Tried::Made(if all { vec![played] } else { vec![] }));
        }
        // The first that is another takes the next thing.
        let next = taken.get(fits).map_or(0, |t| *t) + 1;
        if next >= sizes.get(fits).copied().unwrap_or(0) {
            return Ok(Tried::Made(vec![]));
        }
        taken.resize(fits, 0);
        taken.push(next);
    }
}

fn tried(b: &Bound, outcome: Outcome) -> Result<Tried, RunFault> {
    let mut eval = Eval::new(b);
    Ok(match outcome {
        Outcome::NotOffered => Tried::NotOffered,
        Outcome::Refused(site, at) => {
            Tried::Refused { site, at: at.into_iter().map(crate::model::code::row_col).collect() }
        }
        Outcome::Done(list) => {
            let mut out = vec![];
            for made in list {
                let ended = if made.cut { None } else { eval.status(&made.state)? };
                out.push(Played { made, ended });
            }
            Tried::Made(out)
        }
    })
}

/// Whether no move is allowed in a state that has not ended.
///
/// # Errors
///
/// A model fault.
pub fn is_stuck(b: &Bound, moves: &MoveTable, state: &[i32]) -> Result<bool, RunFault> {
    for number in 0..moves.list.len() {
        if matches!(step(b, moves, state, number, false)?, Tried::Made(_)) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Replays a way from its first state with the reference executor alone: each state must be an
/// outcome of its move from the one before. Gives what was played, one entry a move.
///
/// # Errors
///
/// What does not hold, in words: a mistake of the search, not of the model.
pub fn replay(
    b: &Bound,
    moves: &MoveTable,
    way: &[usize],
    states: &[Vec<i32>],
) -> Result<Vec<(usize, Played)>, String> {
    if b.canon.is_some() {
        return replay_alike(b, moves, way, states);
    }
    let mut out = vec![];
    for (i, &number) in way.iter().enumerate() {
        let wrong = |what: String| format!("move {} ({}) does not replay: {what}", i + 1, moves.name(number));
        let mut eval = Eval::new(b);
        match eval.status(&states[i]) {
            Ok(None) => {}
            other => return Err(wrong(format!("the game has ended before: {other:?}"))),
        }
        let (of, params) = &moves.list[number];
        match eval.apply_to(&states[i], *of, params, &states[i + 1]) {
            Ok(Some(made)) => {
                let ended = eval.status(&made.state).map_err(|f| wrong(f.to_string()))?;
                out.push((number, Played { made, ended }));
            }
            Ok(None) => return Err(wrong("no outcome is the state that was claimed".into())),
            Err(fault) => return Err(wrong(fault.to_string())),
        }
    }
    Ok(out)
}

/// The same where states stand for all that are like them: each move is one that is like the move
/// given, made where play really is.
fn replay_alike(
    b: &Bound,
    moves: &MoveTable,
    way: &[usize],
    states: &[Vec<i32>],
) -> Result<Vec<(usize, Played)>, String> {
    let settled = |state: &[i32]| {
        let mut out = state.to_vec();
        if let Some(canon) = &b.canon {
            canon.settle(&mut out);
        }
        out
    };
    let mut out: Vec<(usize, Played)> = vec![];
    let mut here = states[0].clone();
    for (i, &given) in way.iter().enumerate() {
        let same_move = |n: &usize| moves.list[*n].0 == moves.list[given].0 && *n != given;
        let tries = std::iter::once(given).chain((0..moves.list.len()).filter(same_move));
        let mut found = None;
        for number in tries {
            let step = step(b, moves, &here, number, false).map_err(|f| f.to_string())?;
            let Tried::Made(list) = step else { continue };
            if let Some(p) = list.into_iter().find(|p| settled(&p.made.state) == states[i + 1]) {
                found = Some((number, p));
                break;
            }
        }
        let Some((number, played)) = found else {
            return Err(format!(
                "move {} ({}) does not replay: no move that is like it leads to what was claimed",
                i + 1,
                moves.name(given)
            ));
        };
        here.clone_from(&played.made.state);
        out.push((number, played));
    }
    Ok(out)
}

/// Whether a state is won, by the reference executor.
#[must_use]
pub fn is_won(b: &Bound, state: &[i32]) -> bool {
    matches!(Eval::new(b).status(state), Ok(Some(e)) if b.is_goal(e))
}

/// `r1c3` for a place from 0, `off the board (row 0, column 3)` for one that is not on it.
#[must_use]
pub fn place_name(b: &Bound, (row, col): (i64, i64)) -> String {
    if row >= 0 && col >= 0 && row < b.rows as i64 && col < b.cols as i64 {
        cell_name(row as usize * b.cols + col as usize, b.cols)
    } else {
        format!("off the board (row {}, column {})", row + 1, col + 1)
    }
}
