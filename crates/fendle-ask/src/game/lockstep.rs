//! A level beside a running game that plays the same: in step, breadth first, so that the first difference is a shortest one.
//!

use std::collections::{HashMap, HashSet, VecDeque};

use fendle_core::Limit;
use fendle_lang::play::{Played, Tried, merged, step};
use fendle_lang::run::RunFault;
use serde::Deserialize;
use serde_json::{Value, json};

use super::{
    Compared, Difference, Known, Names, Speaks, Told, apart, apart_from, kind_of, nearest, phases_of, read,
    weights,
};
use crate::answer::{Answer, Asked, Trouble, Verdict, trouble_of};
use crate::budget::Budget;
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::position::Position;

/// What a game is.
#[derive(Clone, Debug, Deserialize)]
struct About {
    /// It can be put into any position.
    #[serde(default)]
    places: bool,
    /// It tells which moves are allowed.
    #[serde(default)]
    tells_allowed: bool,
}

/// How what a new beginning leaves behind is told.
const RESET: &str = "a new beginning is not where the level begins";
/// Differences after which even `all` is enough.
const DIFFERENCES_MAX: usize = 40;
/// Moves that are made twice, to see whether they do the same.
const TWICE: u64 = 400;
/// States of which it is kept what is compared.
const KNOWN_MAX: usize = 20_000;

/// Compares a level with a game. `all`: goes on after the first difference, to further kinds.
///
/// # Errors
///
/// [`Trouble`] when the model breaks, or the game cannot be asked at all.
pub fn compare_game(
    store: &Store,
    level: &Loaded,
    game: &mut dyn Speaks,
    (names, all): (&Names, bool),
    budget: &Budget,
) -> Result<Answer<Compared>, Trouble> {
    needs_layout(level, "compare --game")?;
    let about = match game.call("about", json!({"level": level.name})) {
        Ok(about) => about,
        Err(words) => {
            return Err(budget
                .stopped()
                .map_or(Trouble::Message(format!("the game: {words}")), Trouble::Limit));
        }
    };
    let about: About = serde_json::from_value(about)
        .map_err(|e| Trouble::Message(format!("the game: its answer to `about` is not understood: {e}")))?;
    let mut out = Lockstep {
        level,
        game,
        names,
        about,
        found: Compared { positions: 0, tried: 0, complete: false, differences: vec![] },
        kinds: HashSet::new(),
        phases: vec![],
        draws: weights::Tries::default(),
        known: HashMap::new(),
    };
    let start = level.game.bound.position.clone();
    let mut met: HashSet<Vec<i32>> = HashSet::from([start.clone()]);
    let mut open: VecDeque<(Vec<i32>, Vec<String>)> = VecDeque::from([(start, vec![])]);
    let mut limit = None;
    let most = budget.limits().max_states;
    while let Some((state, way)) = open.pop_front() {
        limit = budget.stopped().or((out.found.positions >= most).then_some(Limit::MaxStates));
        if limit.is_some() {
            break;
        }
        let broke = |f: RunFault| trouble_of(store, level, budget, &f, (&state, None));
        out.found.positions += 1;
        let next = out.position(&state, &way).map_err(broke)?;
        // An answer that was not waited for differs in nothing.
        limit = budget.stopped();
        if limit.is_some() {
            out.found.differences.retain(|d| d.kind != "no answer");
            break;
        }
        for (to, name) in next {
            if met.insert(to.clone()) {
                let mut way = way.clone();
                way.push(name);
                open.push_back((to, way));
            }
        }
        let enough = out.found.differences.len() >= if all { DIFFERENCES_MAX } else { 1 };
        if enough || out.is_over() {
            break;
        }
    }
    let mut found = out.found;
    if !all {
        found.differences.truncate(1);
    }
    found.complete = limit.is_none() && open.is_empty() && found.differences.is_empty();
    let holds = match (found.differences.is_empty(), limit) {
        (false, _) => Verdict::Fails,
        (true, None) => Verdict::Holds,
        (true, Some(_)) => Verdict::Undecided,
    };
    let limit = limit.filter(|l| holds == Verdict::Undecided || *l == Limit::Interrupted);
    let positions = found.positions;
    Ok(Answer::new(Asked::of(level), holds, found).stopped(limit, budget).took(budget, positions))
}

struct Lockstep<'g> {
    level: &'g Loaded,
    game: &'g mut dyn Speaks,
    names: &'g Names,
    about: About,
    found: Compared,
    kinds: HashSet<&'static str>,
    /// The phases of the move that is being compared.
    phases: Vec<(String, Position)>,
    /// Moves with draws that may still be made again and again, to see how often each draw comes.
    draws: weights::Tries,
    /// What is compared of states, as far as it was made.
    known: HashMap<Vec<i32>, Known>,
}

impl Lockstep<'_> {
    /// Compares one position and all of its moves; gives the positions that they lead to, where both agree.
    fn position(&mut self, state: &[i32], way: &[String]) -> Result<Vec<(Vec<i32>, String)>, RunFault> {
        let b = &self.level.game.bound;
        let before = Position::new(b, state);
        let moves = &self.level.moves;
        let tries: Vec<(usize, Tried)> = (0..moves.list.len())
            .map(|n| Ok((n, step(b, moves, state, n, false)?)))
            .collect::<Result<_, RunFault>>()?;
        let listed: Vec<(usize, Vec<Played>)> = (tries.iter())
            .filter_map(|(n, tried)| match tried {
                Tried::Made(list) => Some((*n, merged(list.clone()))),
                Tried::Refused { .. } => Some((*n, vec![])),
                Tried::NotOffered | Tried::Ended(_) => None,
            })
            .collect();
        let mut at_once = self.at_once(&before, &listed);
        let told = match &mut at_once {
            Some(at_once) => at_once.next().unwrap_or_else(|| Err("it was not asked".into())),
            None => self.go_to(&before, way),
        };
        let told = match told {
            Ok(told) => told,
            Err(words) => {
                self.differs("no answer", words, way, None, (&before, None, None));
                return Ok(vec![]);
            }
        };
        if let Some(words) = self.apart(&told, state) {
            let kind = if way.is_empty() { "start" } else { "board" };
            self.differs(kind, words, way, None, (&before, Some(&before), told.position));
            return Ok(vec![]);
        }
        let mut next = vec![];
        // Where the game stands now: at this position, as long as nothing was made.
        let mut stands = true;
        for (n, outcomes) in listed {
            let name = moves.name(n).to_string();
            let told = match &mut at_once {
                Some(at_once) => at_once.next().unwrap_or_else(|| Err("it was not asked".into())),
                None if stands => self.ask_move(&name),
                None => self.go_to(&before, way).and_then(|_| self.ask_move(&name)),
            };
            self.found.tried += 1;
            stands = outcomes.is_empty();
            match self.made((&name, told), &outcomes, way, &before) {
                // A game that only plays cannot be led to what it draws by itself.
                Some(_) if self.about.places => {
                    next.extend(outcomes.into_iter().map(|p| (p.made.state, name.clone())));
                }
                Some(played) if outcomes.len() == 1 => next.push((played.made.state, name.clone())),
                _ => {}
            }
            if self.is_over() {
                return Ok(next);
            }
        }
        if self.about.tells_allowed && self.go_to(&before, way).is_ok() {
            self.allowed(&tries, way, &before);
        }
        Ok(next)
    }

    /// Asks a game that can be placed for all that is asked in one position, without waiting in between: how the position stands there, and each
    /// move from it. `None` where it cannot be placed.
    fn at_once(
        &mut self,
        before: &Position,
        listed: &[(usize, Vec<Played>)],
    ) -> Option<std::vec::IntoIter<Result<Told, String>>> {
        if !self.about.places {
            return None;
        }
        let place = || json!({"position": self.names.position(before)});
        let mut calls = vec![("place", place())];
        for (i, (n, _)) in listed.iter().enumerate() {
            if i > 0 {
                calls.push(("place", calls[0].1.clone()));
            }
            calls.push(("move", json!({"move": self.names.of_move(self.level.moves.name(*n))})));
        }
        let mut answers = self.game.call_all(&calls).into_iter();
        let mut told = |method: &str| {
            let answer = answers.next().unwrap_or_else(|| Err("it was not asked".into()));
            answer.and_then(|v| read(method, v))
        };
        let mut out = vec![told("place")];
        for i in 0..listed.len() {
            let placed = if i > 0 { told("place").map(|_| ()) } else { Ok(()) };
            let moved = told("move");
            out.push(placed.and(moved));
        }
        Some(out.into_iter())
    }

    /// Tries a move in the game. Gives the outcome that the game came to, where the model has it.
    fn made(
        &mut self,
        (name, told): (&str, Result<Told, String>),
        outcomes: &[Played],
        way: &[String],
        before: &Position,
    ) -> Option<Box<Played>> {
        let b = &self.level.game.bound;
        let told = match told {
            Ok(told) => told,
            Err(words) => {
                self.differs("no answer", words, way, Some(name), (before, None, None));
                return None;
            }
        };
        let first = |me: &mut Self| {
            me.phases = phases_of(b, outcomes.first());
            outcomes.first().map(|p| Position::new(b, &p.made.state))
        };
        if outcomes.is_empty() {
            if told.allowed {
                let words = "the model refuses this move, and the game makes it".to_string();
                self.differs("allowed", words, way, Some(name), (before, None, told.position));
            } else if let Some(words) = self.apart(&told, &before.state) {
                let words = format!("the move is refused, and changes something all the same: {words}");
                self.differs(
                    "refused and changed",
                    words,
                    way,
                    Some(name),
                    (before, Some(before), told.position),
                );
            }
            return None;
        }
        if !told.allowed {
            let words = "the model makes this move, and the game refuses it".to_string();
            let first = first(self);
            self.differs("allowed", words, way, Some(name), (before, first.as_ref(), told.position));
            return None;
        }
        let fits = outcomes.iter().find(|p| self.apart(&told, &p.made.state).is_none());
        let Some(played) = fits.cloned() else {
            let near = nearest((b, self.names), &told, outcomes)?;
            let words = apart((b, self.names), &told, &near.made.state).unwrap_or_default();
            let (kind, words) = kind_of(words, outcomes.len());
            self.phases = phases_of(b, Some(near));
            let near = Position::new(b, &near.made.state);
            self.differs(kind, words, way, Some(name), (before, Some(&near), told.position));
            return None;
        };
        if let Some(score) = told.score.filter(|s| *s != played.made.score) {
            let words =
                format!("the score grows by {score} in the game, and by {} in the model", played.made.score);
            let first = first(self);
            self.differs("score", words, way, Some(name), (before, first.as_ref(), told.position.clone()));
            return None;
        }
        if outcomes.len() > 1 && self.about.places && self.weights(name, outcomes, way, before) {
            return None;
        }
        // Nothing is drawn: once more from the same position.
        if outcomes.len() == 1 && self.found.tried <= TWICE {
            let again = self.go_to(before, way).and_then(|_| self.ask_move(name));
            if let Ok(again) = again
                && (again.allowed, &again.position, &again.status) != (true, &told.position, &told.status)
            {
                let words = "the same move from the same position does two things, though nothing is drawn";
                let first = first(self);
                self.differs(
                    "two results",
                    words.into(),
                    way,
                    Some(name),
                    (before, first.as_ref(), again.position),
                );
                return None;
            }
        }
        Some(Box::new(played))
    }

    /// In what something told differs from a state; what is compared of a state is kept for the next time.
    fn apart(&mut self, told: &Told, state: &[i32]) -> Option<String> {
        let b = &self.level.game.bound;
        if self.known.len() >= KNOWN_MAX {
            self.known.clear();
        }
        if !self.known.contains_key(state) {
            self.known.insert(state.to_vec(), Known::of(b, state));
        }
        apart_from((b, self.names), told, state, &self.known[state])
    }

    /// Makes a move with draws again and again, and compares how often each outcome comes with its chance. Whether something is wrong.
    fn weights(&mut self, name: &str, outcomes: &[Played], way: &[String], before: &Position) -> bool {
        let b = &self.level.game.bound;
        if !self.draws.take() {
            return false;
        }
        let mut counts = vec![0u32; outcomes.len()];
        for n in 0..weights::TRIES {
            let told = self.go_to(before, way).and_then(|_| self.ask_drawn(name, Some(n)));
            let Ok(told) = told else { return false };
            if let Some(at) = outcomes.iter().position(|p| self.apart(&told, &p.made.state).is_none()) {
                counts[at] += 1;
            }
        }
        let Some((at, words)) = weights::unlikely(&counts, outcomes) else { return false };
        let after = Position::new(b, &outcomes[at].made.state);
        self.differs("weights", words, way, Some(name), (before, Some(&after), None));
        true
    }

    /// What the game says is allowed.
    fn allowed(&mut self, tries: &[(usize, Tried)], way: &[String], before: &Position) {
        let Ok(list) = self.game.call("allowed", json!({})) else { return };
        let Some(list) = list.get("moves").and_then(Value::as_array) else { return };
        let theirs: HashSet<&str> = list.iter().filter_map(Value::as_str).collect();
        let moves = &self.level.moves;
        for (n, tried) in tries {
            let is = matches!(tried, Tried::Made(_));
            if theirs.contains(self.names.of_move(moves.name(*n))) != is {
                let words = match is {
                    true => "it is allowed in the model, and not in the game's list",
                    false => "it is in the game's list of what is allowed, and refused in the model",
                };
                self.differs("listed", words.into(), way, Some(moves.name(*n)), (before, None, None));
            }
        }
    }

    /// Nothing more can be asked.
    fn is_over(&self) -> bool {
        self.kinds.contains("no answer") || self.kinds.contains("reset")
    }

    fn differs(
        &mut self,
        kind: &'static str,
        words: String,
        way: &[String],
        of: Option<&str>,
        (before, model, game): (&Position, Option<&Position>, Option<Value>),
    ) {
        let kind = if words.starts_with(RESET) { "reset" } else { kind };
        // One of each kind is enough.
        if self.kinds.insert(kind) {
            self.found.differences.push(Difference {
                kind,
                words,
                line: None,
                moves: way.to_vec(),
                of: of.map(Into::into),
                before: before.clone(),
                model: model.cloned(),
                phases: if model.is_some() { std::mem::take(&mut self.phases) } else { vec![] },
                game,
            });
        }
    }

    /// Leads the game to a position: puts it there, or plays the way anew.
    fn go_to(&mut self, position: &Position, way: &[String]) -> Result<Told, String> {
        if self.about.places {
            let params = json!({"position": self.names.position(position)});
            return self.game.call("place", params).and_then(|v| read("place", v));
        }
        let params = json!({"level": self.level.name});
        let mut told: Told = self.game.call("begin", params).and_then(|v| read("begin", v))?;
        if let Some(words) =
            apart((&self.level.game.bound, self.names), &told, &self.level.game.bound.position)
        {
            return Err(format!("{RESET}: {words}"));
        }
        for name in way {
            told = self.ask_move(name)?;
            if !told.allowed {
                return Err(format!(
                    "`{name}` was made before, and is refused when it is played again after a new beginning"
                ));
            }
        }
        Ok(told)
    }

    fn ask_move(&mut self, name: &str) -> Result<Told, String> {
        self.ask_drawn(name, None)
    }

    /// The same; `seed` tells a game that draws by a seed which one to take.
    fn ask_drawn(&mut self, name: &str, seed: Option<u32>) -> Result<Told, String> {
        let mut params = json!({"move": self.names.of_move(name)});
        if let Some(seed) = seed {
            params["seed"] = json!(seed);
        }
        self.game.call("move", params).and_then(|v| read("move", v))
    }
}
