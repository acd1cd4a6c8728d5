//! A level beside a running game that plays the same: in step, breadth first, so that the first difference is a shortest one.
//!
//! What is asked in one position depends on nothing that the game answers there, so all of it is sent at once, for several positions together where
//! the game can be put into any position; the answers are looked at in order.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use fendle_core::Limit;
use fendle_lang::play::{Played, Tried, merged, step};
use fendle_lang::run::RunFault;
use rayon::prelude::*;
use serde::Deserialize;
use serde_json::value::RawValue;
use serde_json::{Value, json};

use super::{
    Call, Compared, Difference, Known, Names, Speaks, Told, apart, apart_from, kind_of, nearest, phases_of,
    read, status_apart, weights,
};
use crate::answer::{Answer, Asked, Trouble, Verdict, trouble_of};
use crate::budget::Budget;
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::position::Position;

/// What a game is.
#[derive(Clone, Debug, Deserialize)]
pub(super) struct About {
    /// It can be put into any position.
    #[serde(default)]
    pub places: bool,
    /// It tells which moves are allowed.
    #[serde(default)]
    pub tells_allowed: bool,
    /// It tells all outcomes of a move, and makes the one that it is asked for.
    #[serde(default)]
    pub outcomes: bool,
    /// It draws the same whenever it is given the same seed.
    #[serde(default)]
    pub seeds: bool,
}

/// How what a new beginning leaves behind is told.
const RESET: &str = "a new beginning is not where the level begins";
/// Differences after which even `all` is enough.
const DIFFERENCES_MAX: usize = 40;
/// Moves that are made twice, to see whether they do the same.
const TWICE: u64 = 400;
/// States of which it is kept what is compared.
const KNOWN_MAX: usize = 50_000;
/// Positions that are asked for together.
const TOGETHER: usize = 32;

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
    let about = match game.call("about", &json!({"level": level.name})) {
        Ok(about) => about,
        Err(words) => {
            return Err(budget
                .stopped()
                .map_or(Trouble::Message(format!("the game: {words}")), Trouble::Limit));
        }
    };
    let about: About = serde_json::from_value(about)
        .map_err(|e| Trouble::Message(format!("the game: its answer to `about` is not understood: {e}")))?;
    let start = level.game.bound.position.clone();
    let mut out = Lockstep {
        level,
        game,
        names,
        about,
        found: Compared::default(),
        all,
        kinds: HashSet::new(),
        phases: vec![],
        draws: weights::Tries::default(),
        unseen: super::unseen::Left::default(),
        known: HashMap::new(),
        met: HashMap::from([(start.clone(), 0)]),
        nodes: vec![Node { state: start.into(), step: None }],
        at: 0,
        twice: TWICE,
        skipped: false,
    };
    let limit = out.run(budget).map_err(|(f, state)| trouble_of(store, level, budget, &f, (&state, None)))?;
    let whole = out.at >= out.nodes.len() && !out.skipped;
    let mut found = out.found;
    if !all {
        found.differences.truncate(1);
    }
    found.complete = limit.is_none() && whole && found.differences.is_empty();
    let holds = match (found.differences.is_empty(), limit) {
        (false, _) => Verdict::Fails,
        (true, None) => Verdict::Holds,
        (true, Some(_)) => Verdict::Undecided,
    };
    let limit = limit.filter(|l| holds == Verdict::Undecided || *l == Limit::Interrupted);
    let positions = found.positions;
    Ok(Answer::new(Asked::of(level), holds, found).stopped(limit, budget).took(budget, positions))
}

/// A position of the model that is compared, and how it was come to.
struct Node {
    state: Arc<[i32]>,
    /// The position before it, and the move from there.
    step: Option<(u32, Step)>,
}

/// A move of a way.
#[derive(Clone, Debug)]
pub(super) struct Step {
    /// The move, by the model's number.
    pub number: u32,
    /// How the game is made to draw the same.
    pub draw: Draw,
}

/// How a game is made to draw the same once more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Draw {
    /// Nothing is drawn, or the game cannot be asked.
    Free,
    /// The outcome of this number in the game's own list, from 0.
    Outcome(u32),
    /// This seed.
    Seed(u32),
}

/// A move that is asked for in a position: its number, and what the model comes to; nothing where it refuses.
struct Listed {
    number: usize,
    outcomes: Vec<Played>,
    /// It is made twice.
    again: bool,
}

impl Listed {
    /// The game is asked for all of its outcomes.
    fn lists(&self, about: &About) -> bool {
        about.outcomes && self.outcomes.len() > 1
    }
}

/// A position, and what is asked there.
struct Visit {
    state: Arc<[i32]>,
    way: Vec<Step>,
    /// For each move of the model: whether it is made.
    allowed: Vec<bool>,
    /// Play has ended there.
    ended: bool,
    listed: Vec<Listed>,
    /// What is compared of the states that are new.
    known: Vec<(Vec<i32>, Known)>,
}

impl Visit {
    /// Makes all moves of a position in the model. `new`: whether it is not known yet what is compared of a state.
    fn of(
        level: &Loaded,
        state: Arc<[i32]>,
        way: Vec<Step>,
        new: impl Fn(&[i32]) -> bool,
    ) -> Result<Visit, RunFault> {
        let b = &level.game.bound;
        let mut out = Visit { state, way, allowed: vec![], ended: true, listed: vec![], known: vec![] };
        for number in 0..level.moves.list.len() {
            let tried = step(b, &level.moves, &out.state, number, false)?;
            out.allowed.push(matches!(tried, Tried::Made(_)));
            out.ended &= matches!(tried, Tried::Ended(_));
            let outcomes = match tried {
                Tried::Made(list) => merged(list),
                Tried::Refused { .. } => vec![],
                Tried::NotOffered | Tried::Ended(_) => continue,
            };
            let states = outcomes.iter().map(|p| &p.made.state).filter(|s| new(s));
            out.known.extend(states.map(|s| (s.clone(), Known::of(b, s))));
            out.listed.push(Listed { number, outcomes, again: false });
        }
        if new(&out.state) {
            out.known.push((out.state.to_vec(), Known::of(b, &out.state)));
        }
        Ok(out)
    }
}

/// What a game answers to one request.
type Said = Result<Box<RawValue>, String>;

/// What the game answered in one position.
struct Answers {
    stands: Said,
    allowed: Option<Said>,
    /// For each move that was asked for: what it comes to, and what it comes to when it is made once more.
    moves: Vec<(Said, Option<Said>)>,
}

pub(super) struct Lockstep<'g> {
    pub level: &'g Loaded,
    pub game: &'g mut dyn Speaks,
    pub names: &'g Names,
    pub about: About,
    pub found: Compared,
    /// It goes on after the first difference.
    all: bool,
    kinds: HashSet<&'static str>,
    /// The phases of the move that is being compared.
    pub phases: Vec<(String, Position)>,
    /// Moves with draws that may still be made again and again, to see how often each draw comes.
    pub draws: weights::Tries,
    /// Comparisons of what is told that may still be made.
    pub unseen: super::unseen::Left,
    /// What is compared of states, as far as it was made.
    known: HashMap<Vec<i32>, Known>,
    /// The positions that were come to, and where each stands in the list.
    met: HashMap<Vec<i32>, u32>,
    nodes: Vec<Node>,
    /// The next one to be compared.
    at: usize,
    /// Moves that may still be made twice.
    twice: u64,
    /// Something that can be drawn was not followed, since the game cannot be led there.
    pub skipped: bool,
}

impl Lockstep<'_> {
    /// Compares one position after the other. What stopped it, if anything did.
    fn run(&mut self, budget: &Budget) -> Result<Option<Limit>, (RunFault, Vec<i32>)> {
        while self.at < self.nodes.len() {
            let left = budget.limits().max_states.saturating_sub(self.found.positions);
            if let Some(limit) = budget.stopped().or((left == 0).then_some(Limit::MaxStates)) {
                return Ok(Some(limit));
            }
            let together = if self.about.places { TOGETHER.min(left as usize) } else { 1 };
            let end = self.nodes.len().min(self.at + together);
            let here: Vec<(Arc<[i32]>, Vec<Step>)> =
                (self.at..end).map(|at| (Arc::clone(&self.nodes[at].state), self.way(at))).collect();
            let level = self.level;
            let new = |state: &[i32]| !self.known.contains_key(state);
            let found: Vec<Result<Visit, (RunFault, Vec<i32>)>> = (here.into_par_iter())
                .map(|(state, way)| {
                    Visit::of(level, Arc::clone(&state), way, new).map_err(|f| (f, state.to_vec()))
                })
                .collect();
            let mut visits = vec![];
            let mut broke = None;
            for found in found {
                match found {
                    Ok(visit) => visits.push(visit),
                    Err(fault) => {
                        broke = Some(fault);
                        break;
                    }
                }
            }
            for visit in &mut visits {
                self.prepare(visit);
            }
            let answers = self.asked(&visits);
            for (visit, answers) in visits.into_iter().zip(answers) {
                self.at += 1;
                self.found.positions += 1;
                let state = Arc::clone(&visit.state);
                self.position(visit, answers).map_err(|f| (f, state.to_vec()))?;
                // An answer that was not waited for differs in nothing.
                if let Some(limit) = budget.stopped() {
                    self.found.differences.retain(|d| d.kind != "no answer");
                    return Ok(Some(limit));
                }
                let enough = self.found.differences.len() >= if self.all { DIFFERENCES_MAX } else { 1 };
                if enough || self.is_over() {
                    return Ok(None);
                }
            }
            if let Some(broke) = broke {
                return Err(broke);
            }
        }
        Ok(None)
    }

    /// What the model comes to is known from now on; and which moves are made twice.
    fn prepare(&mut self, visit: &mut Visit) {
        if self.known.len() >= KNOWN_MAX {
            self.known.clear();
        }
        self.known.extend(std::mem::take(&mut visit.known));
        for of in &mut visit.listed {
            of.again = of.outcomes.len() == 1 && self.twice > 0;
            self.twice -= u64::from(of.again);
        }
    }

    /// The moves from the start to a position.
    fn way(&self, mut at: usize) -> Vec<Step> {
        let mut out = vec![];
        while let Some((before, step)) = &self.nodes[at].step {
            out.push(step.clone());
            at = *before as usize;
        }
        out.reverse();
        out
    }

    /// Their names.
    fn way_words(&self, way: &[Step]) -> Vec<String> {
        way.iter().map(|s| self.level.moves.name(s.number as usize).to_string()).collect()
    }

    /// Asks for everything in some positions.
    fn asked(&mut self, visits: &[Visit]) -> Vec<Answers> {
        if !self.about.places {
            return visits.iter().map(|v| self.asked_on_the_way(v)).collect();
        }
        let mut calls = vec![];
        for visit in visits {
            let place = self.place(&visit.state);
            calls.push(place.clone());
            if self.about.tells_allowed {
                calls.push(Call::new("allowed", &json!({})));
            }
            let mut stands = true;
            for of in &visit.listed {
                if !std::mem::take(&mut stands) {
                    calls.push(place.clone());
                }
                calls.push(self.request(of));
                if of.again {
                    calls.extend([place.clone(), self.request(of)]);
                }
            }
        }
        let mut answers = self.game.call_all(&calls).into_iter();
        let mut next = || answers.next().unwrap_or_else(|| Err("it was not asked".into()));
        let mut out = vec![];
        for visit in visits {
            let stands = next();
            let allowed = self.about.tells_allowed.then(&mut next);
            let mut moves = vec![];
            let mut placed = Ok(());
            for (i, of) in visit.listed.iter().enumerate() {
                if i > 0 {
                    placed = next().map(|_| ());
                }
                let moved = next();
                let again = of.again.then(|| next().and_then(|_| next()));
                moves.push((placed.clone().and(moved), again));
            }
            out.push(Answers { stands, allowed, moves });
        }
        out
    }

    /// The same where a position is come to by playing the way to it.
    fn asked_on_the_way(&mut self, visit: &Visit) -> Answers {
        let way = &visit.way;
        let stands = self.led(way);
        let allowed = self.about.tells_allowed.then(|| self.one(&Call::new("allowed", &json!({}))));
        let mut moves = vec![];
        // The game stands at the position as long as nothing was made.
        let mut there = true;
        for of in &visit.listed {
            let request = self.request(of);
            let ask = |me: &mut Self, there: bool| {
                if there { Ok(()) } else { me.led(way).map(|_| ()) }.and_then(|()| me.one(&request))
            };
            let made = ask(self, there);
            let again = of.again.then(|| ask(self, false));
            there = of.outcomes.is_empty() || of.lists(&self.about);
            moves.push((made, again));
        }
        Answers { stands, allowed, moves }
    }

    /// The request for a move.
    fn request(&self, of: &Listed) -> Call {
        let name = self.names.of_move(self.level.moves.name(of.number));
        let method = if of.lists(&self.about) { "outcomes" } else { "move" };
        let mut params = json!({"move": name});
        if of.outcomes.len() > 1 && self.about.seeds && method == "move" {
            params["seed"] = json!(0);
        }
        Call::new(method, &params)
    }

    /// Compares one position and all of its moves; those that they lead to are compared later, where both agree.
    fn position(&mut self, visit: Visit, answers: Answers) -> Result<(), RunFault> {
        let Visit { state, way, allowed, ended, listed, .. } = visit;
        let told = match answers.stands.and_then(|text| read::<Told>("place", &text)) {
            Ok(told) => told,
            Err(words) => {
                self.differs("no answer", words, &way, None, (&state, None, None));
                return Ok(());
            }
        };
        if let Some(words) = self.apart(&told, &state) {
            let kind = if way.is_empty() { "start" } else { "board" };
            self.differs(kind, words, &way, None, (&state, Some(&state), told.position()));
            return Ok(());
        }
        self.unseen((&told, !ended), &state, &way)?;
        for (of, (made, again)) in listed.into_iter().zip(answers.moves) {
            self.found.tried += 1;
            let next = if of.lists(&self.about) {
                made.and_then(|text| read("outcomes", &text))
                    .map(|list| self.outcomes((of.number, list), &of.outcomes, &way, &state))
            } else {
                made.and_then(|text| read("move", &text))
                    .map(|told| self.made((of.number, told), again, &of.outcomes, &way, &state))
            };
            match next {
                Ok(next) => {
                    next.into_iter().for_each(|(to, draw)| self.comes_to(&state, of.number, &to, draw))
                }
                Err(words) => {
                    self.differs("no answer", words, &way, Some(of.number), (&state, None, None));
                }
            }
            if self.is_over() {
                return Ok(());
            }
        }
        // A move that does something else says more than a list.
        if let Some(Ok(list)) = answers.allowed {
            self.allowed(&list, &allowed, &way, &state);
        }
        Ok(())
    }

    /// A move leads to a state.
    fn comes_to(&mut self, from: &[i32], number: usize, to: &[i32], draw: Draw) {
        if !self.met.contains_key(to) {
            let step = Step { number: number as u32, draw };
            self.met.insert(to.to_vec(), self.nodes.len() as u32);
            self.nodes.push(Node { state: to.into(), step: Some((self.met[from], step)) });
        }
    }

    /// Compares what a move did. The states that are to be compared later, and how the game is made to come there.
    fn made(
        &mut self,
        (number, told): (usize, Told),
        again: Option<Said>,
        outcomes: &[Played],
        way: &[Step],
        before: &[i32],
    ) -> Vec<(Vec<i32>, Draw)> {
        let b = &self.level.game.bound;
        let name = Some(number);
        if outcomes.is_empty() {
            if told.allowed {
                let words = "the model refuses this move, and the game makes it".to_string();
                self.differs("allowed", words, way, name, (before, None, told.position()));
            } else if let Some(words) = self.apart(&told, before) {
                let words = format!("the move is refused, and changes something all the same: {words}");
                self.differs(
                    "refused and changed",
                    words,
                    way,
                    name,
                    (before, Some(before), told.position()),
                );
            }
            return vec![];
        }
        self.phases = vec![];
        let first = &outcomes[0];
        if !told.allowed {
            let words = "the model makes this move, and the game refuses it".to_string();
            self.phases = phases_of(b, Some(first));
            self.differs("allowed", words, way, name, (before, Some(&first.made.state), told.position()));
            return vec![];
        }
        let fits = outcomes.iter().find(|p| self.apart(&told, &p.made.state).is_none());
        let Some(played) = fits else {
            self.fits_none(&told, outcomes, way, (number, before));
            return vec![];
        };
        if self.scores_apart(&told, played, way, (number, before)) {
            return vec![];
        }
        if outcomes.len() > 1 {
            return self.drew(number, outcomes, way, before);
        }
        // Nothing is drawn: once more from the same position.
        if let Some(Ok(again)) = again.map(|text| text.and_then(|t| read::<Told>("move", &t)))
            && !same(&again, &told)
        {
            let words = "the same move from the same position does two things, though nothing is drawn";
            self.phases = phases_of(b, Some(first));
            let game = again.position();
            self.differs("two results", words.into(), way, name, (before, Some(&first.made.state), game));
            return vec![];
        }
        vec![(played.made.state.clone(), Draw::Free)]
    }

    /// What a move with draws leads to, where the game makes one outcome at a time; the one that it came to is known.
    fn drew(
        &mut self,
        number: usize,
        outcomes: &[Played],
        way: &[Step],
        before: &[i32],
    ) -> Vec<(Vec<i32>, Draw)> {
        let can_repeat = self.about.places || self.about.seeds;
        if can_repeat && self.weights(number, outcomes, way, before) {
            return vec![];
        }
        if self.about.places {
            return outcomes.iter().map(|p| (p.made.state.clone(), Draw::Free)).collect();
        }
        if self.about.seeds {
            return self.by_seeds(number, outcomes, way, before);
        }
        // A game that only plays cannot be led to what it draws by itself.
        self.skipped = true;
        vec![]
    }

    /// A told position that is none of the outcomes of the model: the nearest one is shown beside it.
    pub(super) fn fits_none(
        &mut self,
        told: &Told,
        outcomes: &[Played],
        way: &[Step],
        (number, before): (usize, &[i32]),
    ) {
        let b = &self.level.game.bound;
        let Some(near) = nearest((b, self.names), told, outcomes) else { return };
        let words = apart((b, self.names), told, &near.made.state).unwrap_or_default();
        let (kind, words) = kind_of(words, outcomes.len());
        self.phases = phases_of(b, Some(near));
        self.differs(kind, words, way, Some(number), (before, Some(&near.made.state), told.position()));
    }

    /// Whether the score that a move gains is another one than the model's; it is told.
    pub(super) fn scores_apart(
        &mut self,
        told: &Told,
        played: &Played,
        way: &[Step],
        (number, before): (usize, &[i32]),
    ) -> bool {
        let ours = played.made.score;
        let Some(score) = told.score.filter(|s| *s != ours) else { return false };
        let words = format!("the score grows by {score} in the game, and by {ours} in the model");
        self.phases = phases_of(&self.level.game.bound, Some(played));
        let game = told.position();
        self.differs("score", words, way, Some(number), (before, Some(&played.made.state), game));
        true
    }

    /// What is compared of a state, kept for the next time.
    fn known(&mut self, state: &[i32]) -> &mut Known {
        if self.known.len() >= KNOWN_MAX {
            self.known.clear();
        }
        if !self.known.contains_key(state) {
            self.known.insert(state.to_vec(), Known::of(&self.level.game.bound, state));
        }
        self.known.get_mut(state).expect("it was just made")
    }

    /// In what something told differs from a state.
    pub(super) fn apart(&mut self, told: &Told, state: &[i32]) -> Option<String> {
        let (b, names) = (&self.level.game.bound, self.names);
        let known = self.known(state);
        let text = told.position.as_ref().map(|p| p.get());
        if text.is_some() && text == known.same.as_ref().map(|s| s.get()) {
            return status_apart(b, told, state, known);
        }
        let words = apart_from((b, names), told, state, known);
        if words.is_none() {
            known.same = told.position.clone();
        }
        words
    }

    /// What the game says is allowed.
    fn allowed(&mut self, list: &RawValue, ours: &[bool], way: &[Step], before: &[i32]) {
        let Some(theirs) = moves_of(list) else { return };
        let moves = &self.level.moves;
        for (n, &is) in ours.iter().enumerate() {
            if theirs.contains(self.names.of_move(moves.name(n))) != is {
                let words = match is {
                    true => "it is allowed in the model, and not in the game's list",
                    false => "it is in the game's list of what is allowed, and refused in the model",
                };
                self.differs("listed", words.into(), way, Some(n), (before, None, None));
            }
        }
    }

    /// Nothing more can be asked.
    fn is_over(&self) -> bool {
        self.kinds.contains("no answer") || self.kinds.contains("reset")
    }

    /// Notes a difference; one of each kind is enough.
    pub(super) fn differs(
        &mut self,
        kind: &'static str,
        words: String,
        way: &[Step],
        of: Option<usize>,
        (before, model, game): (&[i32], Option<&[i32]>, Option<Value>),
    ) {
        let b = &self.level.game.bound;
        let kind = if words.starts_with(RESET) { "reset" } else { kind };
        if self.kinds.insert(kind) {
            self.found.differences.push(Difference {
                kind,
                words,
                line: None,
                moves: self.way_words(way),
                of: of.map(|n| self.level.moves.name(n).to_string()),
                before: Position::new(b, before),
                model: model.map(|state| Position::new(b, state)),
                phases: if model.is_some() { std::mem::take(&mut self.phases) } else { vec![] },
                game,
            });
        }
    }

    /// The request that puts a game into a position.
    fn place(&mut self, state: &[i32]) -> Call {
        let names = self.names;
        let known = self.known(state);
        known.place.get_or_insert_with(|| names.place(&known.drawn)).clone()
    }

    /// Asks for one thing.
    pub(super) fn one(&mut self, call: &Call) -> Said {
        self.game.call_all(std::slice::from_ref(call)).pop().unwrap_or_else(|| Err("it was not asked".into()))
    }

    /// Leads the game to a position: puts it there, or plays the way anew.
    pub(super) fn go_to(&mut self, state: &[i32], way: &[Step]) -> Said {
        if self.about.places {
            let place = self.place(state);
            return self.one(&place);
        }
        self.led(way)
    }

    /// Plays a way from a new beginning.
    fn led(&mut self, way: &[Step]) -> Said {
        let b = &self.level.game.bound;
        let mut text = self.one(&Call::new("begin", &json!({"level": self.level.name})))?;
        if let Some(words) = apart((b, self.names), &read("begin", &text)?, &b.position) {
            return Err(format!("{RESET}: {words}"));
        }
        for step in way {
            let name = self.level.moves.name(step.number as usize);
            text = self.move_by(step.number as usize, step.draw)?;
            if !read::<Told>("move", &text)?.allowed {
                return Err(format!(
                    "`{name}` was made before, and is refused when it is played again after a new beginning"
                ));
            }
        }
        Ok(text)
    }

    /// Asks for a move, drawn in a certain way.
    pub(super) fn move_by(&mut self, number: usize, draw: Draw) -> Said {
        let mut params = json!({"move": self.names.of_move(self.level.moves.name(number))});
        match draw {
            Draw::Free => {}
            Draw::Outcome(k) => params["outcome"] = json!(k),
            Draw::Seed(seed) => params["seed"] = json!(seed),
        }
        self.one(&Call::new("move", &params))
    }
}

/// Whether a game tells the same twice.
pub(super) fn same(a: &Told, b: &Told) -> bool {
    let text = |t: &Told| t.position.as_ref().map(|p| p.get().to_string());
    let position = text(a) == text(b) || a.position() == b.position();
    position && (a.allowed, &a.status) == (b.allowed, &b.status)
}

/// The moves that an answer to `allowed` lists.
pub(super) fn moves_of(list: &RawValue) -> Option<HashSet<String>> {
    #[derive(Deserialize)]
    struct Listed {
        moves: Vec<String>,
    }
    serde_json::from_str::<Listed>(list.get()).ok().map(|l| l.moves.into_iter().collect())
}
