//! Playing moves by the reference executor: reading them, tracing them, replaying solutions.

use std::collections::HashMap;

use crate::bind::{Bound, cell_name};
use crate::diag::{Diagnostic, FileId, Span, near};
use crate::hir::EndKind;
use crate::lower::{TooLarge, move_list};
use crate::reference::{Eval, Outcome, RunFault, TraceEvent};

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
    /// out where its parameters alone say which move is meant. `at` is where `text` begins in its file.
    ///
    /// # Errors
    ///
    /// The first thing that is no move.
    pub fn parse(&self, text: &str, file: FileId, at: u32) -> Result<Vec<(usize, Span)>, Box<Diagnostic>> {
        let mut out = vec![];
        let mut offset = 0;
        for part in text.split([';', '\n', ',']) {
            let from = offset + part.len() - part.trim_start().len();
            offset += part.len() + 1;
            let words: Vec<&str> = part.split_whitespace().collect();
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
                Some(m) => out.extend(std::iter::repeat_n((m, span), times)),
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

/// What one played move did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// Made: the new state, and what happened on the way.
    Made {
        /// The new state.
        state: Vec<i32>,
        /// Phases and notes.
        events: Vec<TraceEvent>,
        /// Score gained.
        score: i64,
        /// Added to each tally.
        tallies: Vec<i64>,
        /// The ending that holds now.
        ended: Option<usize>,
    },
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
) -> Result<Step, RunFault> {
    let mut eval = Eval::new(b);
    if let Some(e) = eval.status(state)?
        && !(past_goals && b.model.endings[e].kind == EndKind::Goal)
    {
        return Ok(Step::Ended(e));
    }
    let (of, params) = &moves.list[number];
    Ok(match eval.apply(state, *of, params)? {
        Outcome::NotOffered => Step::NotOffered,
        Outcome::Refused(site, at) => {
            Step::Refused { site, at: at.into_iter().map(crate::hir::code::row_col).collect() }
        }
        Outcome::Done { state, score, tallies, events } => {
            let ended = eval.status(&state)?;
            Step::Made { state, events, score, tallies, ended }
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
        if matches!(step(b, moves, state, number, false)?, Step::Made { .. }) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Replays a solution from the bound model's position with the reference executor alone.
///
/// # Errors
///
/// What does not hold, in words: a mistake of the search, not of the model.
pub fn replay(b: &Bound, moves: &MoveTable, solution: &[usize]) -> Result<Vec<Vec<i32>>, String> {
    let mut states = vec![b.position.clone()];
    for (i, &number) in solution.iter().enumerate() {
        let state = states.last().expect("begins with the start");
        match step(b, moves, state, number, false) {
            Ok(Step::Made { state, .. }) => states.push(state),
            other => {
                return Err(format!("move {} ({}) does not replay: {other:?}", i + 1, moves.name(number)));
            }
        }
    }
    match Eval::new(b).status(states.last().expect("begins with the start")) {
        Ok(Some(e)) if b.model.endings[e].kind == EndKind::Goal => Ok(states),
        other => Err(format!("the last state is no goal: {other:?}")),
    }
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
