//! A level beside plays that the game recorded: lines of JSON, one a move.

use fendle_lang::play::{Tried, merged, step_or_follow, with_draws};
use fendle_lang::run::RunFault;
use serde::Deserialize;
use serde_json::Value;
use serde_json::value::to_raw_value;

use super::{Compared, Difference, Names, Told, apart, kind_of, nearest, phases_of, rows_of};
use crate::answer::{Answer, Asked, Trouble, Verdict, trouble_of};
use crate::budget::Budget;
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::position::Position;

/// One line of a record: a move, or the beginning of a play.
#[derive(Clone, Debug, Deserialize)]
struct Line {
    /// The move, where it is one; behind a slash may stand what was drawn.
    #[serde(default, rename = "move")]
    called: Option<String>,
    /// What was drawn, in any order.
    #[serde(default)]
    draws: Vec<String>,
    /// Where play began, for a line that begins one.
    #[serde(default)]
    start: Option<Value>,
    #[serde(default = "super::yes")]
    allowed: bool,
    #[serde(default)]
    position: Option<Value>,
    #[serde(default)]
    status: Option<String>,
    #[serde(default)]
    score: Option<i64>,
}

/// Compares a level with recorded plays. `name` is what the record is called; `all`: one difference of each kind, else the first one.
///
/// # Errors
///
/// [`Trouble`] when the model breaks, or a line is none of a record.
pub fn compare_record(
    store: &Store,
    level: &Loaded,
    (text, name): (&str, &str),
    (names, all): (&Names, bool),
    budget: &Budget,
) -> Result<Answer<Compared>, Trouble> {
    needs_layout(level, "compare --record")?;
    let start = level.game.bound.position.clone();
    let mut reading =
        Reading { level, names, state: Some(start), way: vec![], line: 0, found: Compared::default() };
    let mut limit = None;
    for (n, text) in text.lines().enumerate().filter(|l| !l.1.trim().is_empty()) {
        limit = budget.stopped();
        if limit.is_some() {
            break;
        }
        let line: Line = serde_json::from_str(text)
            .map_err(|e| Trouble::Message(format!("{name}:{}: this is no line of a record: {e}", n + 1)))?;
        reading.line = n + 1;
        let state = reading.state.clone().unwrap_or_default();
        reading.take(line).map_err(|f| trouble_of(store, level, budget, &f, (&state, None)))?;
        if !all && !reading.found.differences.is_empty() {
            break;
        }
    }
    let mut found = reading.found;
    found.complete = limit.is_none();
    let holds = match (found.differences.is_empty(), limit) {
        (false, _) => Verdict::Fails,
        (true, None) => Verdict::Holds,
        (true, Some(_)) => Verdict::Undecided,
    };
    let limit = limit.filter(|_| holds == Verdict::Undecided);
    let tried = found.tried;
    Ok(Answer::new(Asked::of(level), holds, found).stopped(limit, budget).took(budget, tried))
}

struct Reading<'r> {
    level: &'r Loaded,
    names: &'r Names,
    /// Where play stands; `None` after a difference, until the next play begins.
    state: Option<Vec<i32>>,
    way: Vec<String>,
    line: usize,
    found: Compared,
}

impl Reading<'_> {
    fn take(&mut self, line: Line) -> Result<(), RunFault> {
        let b = &self.level.game.bound;
        // Where play began is told by a line without a move.
        let position = line.start.filter(|_| line.called.is_none()).or(line.position);
        let told = Told {
            allowed: line.allowed,
            position: position.as_ref().and_then(|p| to_raw_value(p).ok()),
            status: line.status,
            score: line.score,
            told: None,
            weight: None,
        };
        let Some(called) = line.called else {
            self.begin(&told);
            return Ok(());
        };
        let Some(state) = self.state.clone() else { return Ok(()) };
        self.found.tried += 1;
        let ours = |theirs: &str| {
            let found = self.names.moves.iter().find(|(_, t)| *t == theirs);
            found.map_or(theirs.to_string(), |(o, _)| o.clone())
        };
        let (of, drawn) = match called.split_once('/') {
            Some((of, drawn)) => (ours(of.trim()), drawn.trim().to_string()),
            None => (ours(called.trim()), line.draws.join(" ")),
        };
        let before = Position::new(b, &state);
        let read = self.level.moves.parse(&of, fendle_lang::FileId(0), 0);
        let number = match read.as_deref() {
            Ok([call]) => call.number,
            _ => {
                let words = format!("the model has no move `{of}`");
                self.differs("move", words, Some(of), &before, (None, position));
                return Ok(());
            }
        };
        let refused = match step_or_follow(b, &self.level.moves, &state, number, false, &drawn)? {
            Tried::Made(list) => {
                let list = if drawn.is_empty() { merged(list) } else { with_draws(list, &drawn) };
                return self.made((of, told), list, &before);
            }
            Tried::Refused { site, .. } => format!("refuses it: {}", b.model.refuses[site].why),
            Tried::NotOffered => "does not offer it".to_string(),
            Tried::Ended(e) => format!("has ended before: {}", b.ending_words(e)),
        };
        if told.allowed {
            let words = format!("the move was made, and the model {refused}");
            self.differs("allowed", words, Some(of), &before, (None, told.position()));
        } else if let Some(words) = apart((b, self.names), &told, &state) {
            let words = format!("the move was refused, and changed something all the same: {words}");
            self.differs(
                "refused and changed",
                words,
                Some(of),
                &before,
                (Some(before.clone()), told.position()),
            );
        }
        Ok(())
    }

    /// A play begins.
    fn begin(&mut self, told: &Told) {
        let b = &self.level.game.bound;
        self.found.positions += 1;
        self.way.clear();
        let start = b.position.clone();
        let before = Position::new(b, &start);
        match apart((b, self.names), told, &start) {
            Some(words) => {
                self.differs("start", words, None, &before, (Some(before.clone()), told.position()))
            }
            None => self.state = Some(start),
        }
    }

    /// A move that the model makes.
    fn made(
        &mut self,
        (of, told): (String, Told),
        outcomes: Vec<fendle_lang::play::Played>,
        before: &Position,
    ) -> Result<(), RunFault> {
        let b = &self.level.game.bound;
        let first = outcomes.first().map(|p| Position::new(b, &p.made.state));
        if !told.allowed {
            let words = "the move was refused, and the model makes it".to_string();
            self.differs("allowed", words, Some(of), before, (first, told.position()));
            return Ok(());
        }
        if outcomes.is_empty() {
            let words = "the model cannot draw what was drawn".to_string();
            self.differs("draw", words, Some(of), before, (None, told.position()));
            return Ok(());
        }
        let fits: Vec<_> =
            outcomes.iter().filter(|p| apart((b, self.names), &told, &p.made.state).is_none()).collect();
        match fits.as_slice() {
            [] => {
                let Some(near) = nearest((b, self.names), &told, &outcomes) else { return Ok(()) };
                let words = apart((b, self.names), &told, &near.made.state).unwrap_or_default();
                let (kind, words) = kind_of(words, outcomes.len());
                let phases = phases_of(b, Some(near));
                let near = Position::new(b, &near.made.state);
                self.differs(kind, words, Some(of), before, (Some(near), told.position()));
                if let Some(last) = self.found.differences.last_mut().filter(|d| d.kind == kind) {
                    last.phases = phases;
                }
            }
            [one] if told.score.is_none_or(|s| s == one.made.score) => {
                self.state = Some(one.made.state.clone());
                self.found.positions += 1;
                self.way.push(of);
            }
            [one] => {
                let (theirs, ours) = (told.score.unwrap_or_default(), one.made.score);
                let words = format!("the score grew by {theirs}, and by {ours} in the model");
                self.differs("score", words, Some(of), before, (first, told.position()));
            }
            many => {
                let words = format!(
                    "the record does not say what was drawn: {} outcomes of the model fit; tell the position or the draws",
                    many.len()
                );
                self.differs("draw", words, Some(of), before, (None, told.position()));
            }
        }
        Ok(())
    }

    fn differs(
        &mut self,
        kind: &'static str,
        words: String,
        of: Option<String>,
        before: &Position,
        (model, game): (Option<Position>, Option<Value>),
    ) {
        self.state = None;
        if self.found.differences.iter().all(|d| d.kind != kind) {
            // A position in one line is no board to be drawn beside another.
            let game = game
                .filter(|g| g["boards"].as_object().is_none_or(|b| b.values().all(|b| rows_of(b).is_some())));
            self.found.differences.push(Difference {
                kind,
                words,
                line: Some(self.line),
                moves: self.way.clone(),
                of,
                before: before.clone(),
                model,
                phases: vec![],
                game,
            });
        }
    }
}
