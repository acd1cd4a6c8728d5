//! Hidden things: what is certain and by which clues, exact probabilities, and the chance to win after each choice.

use std::collections::{BTreeMap, HashMap};

use fendle_core::infer::{Deduction, Fraction, Inferred, Kind, NoAnswer, Proof, about, fraction};
use fendle_core::knowledge::{Knowing, NotKnown};
use fendle_core::odds::{Fractions, NoOdds, Value, odds};
use fendle_core::simulate::share_interval;
use fendle_core::{Limit, Limits};
use fendle_lang::Bound;
use fendle_lang::known::player::{Player, Stopped, exact_risk};
use fendle_lang::known::{Foresight, Left, Source};
use fendle_lang::model::{EndKind, Extent, Range, VarId};
use fendle_lang::run::Eval;
use fendle_lang::run::scatter::hidden_vars;
use fendle_lang::run::setup::Dice;
use fendle_lang::state::cell_name;
use serde::{Serialize, Serializer};
use serde_json::{Value as Json, json};

use crate::answer::{Answer, Asked, Trouble, Verdict, limit_of, trouble_of};
use crate::budget::Budget;
use crate::knowledge::{Play, alike, play};
use crate::load::{Loaded, Store};
use crate::position::Position;

/// Layouts up to which the chance to win is computed by full search.
pub const SOLVED_MAX: usize = 4_096;
/// Information states up to which it is.
const STATES_MAX: u64 = 200_000;
/// Moves tried in layouts up to which it is, were every information state as large as the first.
const WORK_MAX: u64 = 24_000_000;
/// Moves that are estimated.
const ESTIMATED: usize = 4;

/// A fraction as its text.
pub(crate) fn as_fraction<S: Serializer>(p: &Fraction, s: S) -> Result<S::Ok, S::Error> {
    s.serialize_str(&p.to_string())
}

/// A probability as a fraction and a number near it.
pub(crate) fn as_probability<S: Serializer>(p: &Fraction, s: S) -> Result<S::Ok, S::Error> {
    json!({"exact": p.to_string(), "about": about(p)}).serialize(s)
}

/// A clue, in words and for programs.
#[derive(Clone, Debug)]
pub struct Clue {
    /// In words.
    pub text: String,
    /// What was told, for programs; `None` for what is known beforehand.
    told: Option<Json>,
    /// The cell that a clue on the board is told at.
    pub cell: Option<usize>,
    /// The same, where it is told now and not before.
    pub cell_now: Option<usize>,
    /// It is the number of all.
    pub total: bool,
}

impl Serialize for Clue {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        match &self.told {
            Some(told) => told.serialize(s),
            None => json!({"text": self.text}).serialize(s),
        }
    }
}

impl Clue {
    fn of(b: &Bound, player: &Player<'_>, clue: usize) -> Clue {
        let text = player.known.clue_text(b, clue);
        let source = &player.known.sources[clue];
        let Source::Told { tell, element, value, ago } = source else {
            return Clue { text, told: None, cell: None, cell_now: None, total: *source == Source::Total };
        };
        let on_board = matches!(&b.model.tells[*tell].over, Some((_, Range::Board)));
        let at = match &b.model.tells[*tell].over {
            Some((_, Range::Board)) => json!(cell_name(*element as usize, b.cols)),
            Some(_) => json!(element),
            None => Json::Null,
        };
        let name = &b.model.tells[*tell].name;
        let told = json!({"told": name, "at": at, "value": value, "moves_ago": ago, "text": text});
        let cell = if on_board { usize::try_from(*element).ok() } else { None };
        Clue { text, told: Some(told), cell, cell_now: cell.filter(|_| *ago == 0), total: false }
    }
}

/// Why a cell is certain.
#[derive(Clone, Debug, Serialize)]
pub struct CellProof {
    /// The clues that prove it.
    pub clues: Vec<Clue>,
    /// There is no smaller set of clues that does.
    pub smallest: bool,
}

/// What is known of one hidden cell.
#[derive(Clone, Debug)]
pub struct CellReport {
    /// The variable and the index in it.
    pub at: (VarId, usize),
    /// As it is written.
    pub name: String,
    /// The variable's name.
    pub of: String,
    /// The chance that it is filled.
    pub chance: Fraction,
    /// Whether that is certain.
    pub certain: Option<bool>,
    /// Told or fixed before anything is inferred.
    pub fixed: bool,
    /// Why it is certain.
    pub proof: Option<CellProof>,
    /// For a certain hazard: by how many independent sets of clues, and whether that is the greatest number.
    pub ways: Option<(usize, bool)>,
}

impl Serialize for CellReport {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        json!({
            "cell": self.name,
            "of": self.of,
            "certain": self.certain,
            "given": self.fixed,
            "chance": self.chance.to_string(),
            "about": about(&self.chance),
            "proof": self.proof,
            "independent_sets": self.ways.map(|(n, exact)| json!({"at_least": n, "exact": exact})),
        })
        .serialize(s)
    }
}

impl CellReport {
    /// Of every unknown, without names and proofs.
    #[must_use]
    pub fn plain(player: &Player<'_>, found: &Inferred) -> Vec<CellReport> {
        let known = &player.known;
        (0..known.cells.len() as u32)
            .map(|c| CellReport {
                at: known.cells[c as usize],
                name: String::new(),
                of: String::new(),
                chance: found.chance(c),
                certain: found.certain(c),
                fixed: false,
                proof: None,
                ways: None,
            })
            .collect()
    }

    /// Of every unknown, with what proves the certain ones.
    fn proved(b: &Bound, player: &Player<'_>, found: &Inferred, budget: &Budget) -> Vec<CellReport> {
        let system = &player.known.system;
        let prover = system.prover();
        let mut out = CellReport::plain(player, found);
        for (c, report) in (0u32..).zip(&mut out) {
            report.name = place_name(b, report.at.0, report.at.1);
            report.of.clone_from(&b.model.vars[report.at.0].name);
            report.fixed = system.fixed[c as usize].is_some();
            if report.fixed || budget.is_stopped() {
                continue;
            }
            let Some(value) = report.certain else { continue };
            let clues = prover.clues_for(c, value);
            report.proof = prover.proof(c, value, &clues).map(|Proof { clues, smallest, .. }| CellProof {
                clues: clues.iter().map(|i| Clue::of(b, player, *i)).collect(),
                smallest,
            });
            if value {
                report.ways = Some(prover.independent(c, true, &clues));
            }
        }
        out
    }
}

/// One step of what is certain, in an order in which it can be seen.
#[derive(Clone, Debug)]
pub struct StepReport {
    /// How it is seen.
    pub kind: Kind,
    /// The clues it is seen by.
    pub clues: Vec<Clue>,
    /// What is known then: variable and index, name, and whether it is filled.
    pub cells: Vec<((VarId, usize), String, bool)>,
    /// What a filled cell is called.
    pub of: String,
}

impl Serialize for StepReport {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let cell = |(_, name, v): &((VarId, usize), String, bool)| json!({"cell": name, "is": self.what(*v)});
        json!({
            "seen_by": kind_words(self.kind),
            "clues": self.clues,
            "cells": self.cells.iter().map(cell).collect::<Vec<_>>(),
        })
        .serialize(s)
    }
}

impl StepReport {
    fn of(b: &Bound, player: &Player<'_>, t: &Deduction) -> StepReport {
        let known = &player.known;
        let cell = |&(c, v): &(u32, bool)| {
            let (var, at) = known.cells[c as usize];
            ((var, at), place_name(b, var, at), v)
        };
        let cells: Vec<_> = t.cells.iter().map(cell).collect();
        StepReport {
            kind: t.kind,
            clues: t.clues.iter().map(|c| Clue::of(b, player, *c)).collect(),
            of: b.model.vars[cells[0].0.0].name.clone(),
            cells,
        }
    }

    /// What is on a cell, in words.
    #[must_use]
    pub fn what(&self, filled: bool) -> String {
        if filled { self.of.clone() } else { "free".into() }
    }
}

/// Careful plays after a move.
#[derive(Clone, Copy, Debug)]
pub struct Sample {
    /// Plays that were won.
    pub won: u64,
    /// Plays that were played.
    pub plays: u64,
    /// The seed.
    pub seed: u64,
}

impl Serialize for Sample {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let share = share_interval(self.won, self.plays);
        json!({"policy": "careful", "seed": self.seed, "plays": self.plays, "won": self.won, "win_share_95": share})
            .serialize(s)
    }
}

/// What is known of one move.
#[derive(Clone, Debug, Serialize)]
pub struct MoveReport {
    /// The move.
    #[serde(rename = "move")]
    pub name: String,
    /// The chance to lose by it at once; `None` where that is not followed.
    #[serde(serialize_with = "maybe_probability")]
    pub risk: Option<Fraction>,
    /// The chance to win after it with best play.
    #[serde(rename = "best_chance_to_win")]
    pub win: Option<Value>,
    /// Careful plays after it.
    #[serde(rename = "estimate")]
    pub sample: Option<Sample>,
}

fn maybe_probability<S: Serializer>(p: &Option<Fraction>, s: S) -> Result<S::Ok, S::Error> {
    p.as_ref().map(|p| json!({"exact": p.to_string(), "about": about(p)})).serialize(s)
}

/// What may lie at one place, where layouts are weighed one by one.
#[derive(Clone, Debug)]
pub struct PlaceReport {
    /// The variable and the index in it.
    pub at: (VarId, usize),
    /// As it is written.
    pub name: String,
    /// The variable's name.
    pub of: String,
    /// Each value: its number, its name, its chance.
    pub values: Vec<(i32, String, Fraction)>,
}

impl Serialize for PlaceReport {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let value = |(_, name, p): &(i32, String, Fraction)| json!({"value": name, "chance": p.to_string()});
        json!({
            "cell": self.name,
            "of": self.of,
            "values": self.values.iter().map(value).collect::<Vec<_>>(),
        })
        .serialize(s)
    }
}

/// How it was found out.
#[derive(Clone, Debug)]
pub enum Method {
    /// Clues that count, exactly.
    Counts {
        /// What is known of each cell.
        cells: Vec<CellReport>,
        /// What is certain, in an order to find it.
        steps: Vec<StepReport>,
        /// Layouts that agree, in digits; `None` where they have weights of their own.
        layouts: Option<String>,
        /// Independent parts of the clues.
        parts: usize,
    },
    /// Layouts one by one, since what is told is no count: why, and what may lie where.
    Worlds {
        /// Why.
        why: String,
        /// How many layouts agree.
        layouts: usize,
        /// What may lie at each place.
        places: Vec<PlaceReport>,
    },
    /// No layout agrees with what is seen.
    Contradiction,
}

/// What can be known of a position.
#[derive(Clone, Debug)]
pub struct Inference {
    /// The position as the player sees it.
    pub position: Position,
    /// How it was found out, and what.
    pub method: Method,
    /// The moves, least risk first.
    pub moves: Vec<MoveReport>,
    /// The best chance to win from here, where full search gives it.
    pub best: Option<Value>,
    /// Why full search did not give the chances to win; `None` where it did.
    pub unsolved: Option<Unsolved>,
    /// Where nothing is safe: the guess that looks ahead.
    pub guess: Option<GuessReport>,
}

/// Why the chances to win were not computed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unsolved {
    /// More layouts agree than are searched.
    Layouts,
    /// Full search was left after so many information states.
    Dear(u64),
    /// A limit, in words, after so many information states.
    Limit(String, u64),
    /// No layout agrees.
    Contradiction,
}

/// A guess that looks ahead.
#[derive(Clone, Debug)]
pub struct GuessReport {
    /// The move.
    pub name: String,
    /// What it leaves.
    pub left: Left,
}

impl Serialize for GuessReport {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let (win, next) = match self.left {
            Left::Win(p) => (Some(p), None),
            Left::Next(p) => (None, Some(p)),
            Left::Unknown => (None, None),
        };
        json!({"move": self.name, "wins_about": win, "survives_the_next_guess_too_about": next}).serialize(s)
    }
}

impl Serialize for Inference {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let mut out = json!({
            "position": self.position,
            "moves": self.moves,
            "best_chance_to_win": self.best,
            "guess": self.guess,
        });
        match &self.unsolved {
            None | Some(Unsolved::Contradiction) => {}
            Some(Unsolved::Layouts) => out["not_computed"] = json!({"layouts_searched_at_most": SOLVED_MAX}),
            Some(Unsolved::Dear(states)) => out["not_computed"] = json!({"information_states": states}),
            Some(Unsolved::Limit(limit, states)) => {
                out["not_computed"] = json!({"information_states": states, "limit": limit});
            }
        }
        match &self.method {
            Method::Counts { cells, steps, layouts, parts } => {
                out["method"] = json!("clues that count, exactly");
                out["layouts"] = json!(layouts);
                out["cells"] = json!(cells);
                out["steps"] = json!(steps);
                out["parts"] = json!(parts);
            }
            Method::Worlds { why, layouts, places } => {
                out["method"] = json!(format!("layouts one by one, since {why}"));
                out["layouts"] = json!(layouts.to_string());
                out["cells"] = json!(places);
            }
            Method::Contradiction => {
                out["method"] = json!("no layout agrees with what is seen");
                out["layouts"] = json!("0");
            }
        }
        out.serialize(s)
    }
}

/// What follows where what are told are counts.
struct Counted<'b> {
    player: Player<'b>,
    found: Inferred,
}

/// The name of a place in a hidden variable.
#[must_use]
pub fn place_name(b: &Bound, var: VarId, index: usize) -> String {
    let def = &b.model.vars[var];
    let many = b.model.vars.iter().filter(|v| v.hidden).count() > 1;
    let name = match def.shape {
        Extent::Grid | Extent::Set => cell_name(index, b.cols),
        Extent::Array(k) => b.key_names(k)[index].clone(),
        Extent::List(_) => return format!("{}[{index}]", def.name),
        _ => return def.name.clone(),
    };
    if many { format!("{} {name}", def.name) } else { name }
}

/// How a step is seen, in words.
#[must_use]
pub fn kind_words(kind: Kind) -> &'static str {
    match kind {
        Kind::OneClue => "one clue",
        Kind::TwoClues => "two clues compared",
        Kind::Several => "several clues",
        Kind::Total => "with the number of all",
    }
}

/// Asks what can be known. `plays`: where the chance to win is too dear, so many careful plays estimate it.
///
/// # Errors
///
/// [`Trouble`] when nothing is hidden, or the model breaks.
pub fn infer(
    store: &Store,
    level: &Loaded,
    plays: Option<u64>,
    budget: &Budget,
) -> Result<Answer<Inference>, Trouble> {
    let b = &level.game.bound;
    if !b.model.hides() {
        return Err(Trouble::Message(format!("the model `{}` hides nothing", b.model.name)));
    }
    if level.known {
        return Err("--known leaves nothing to infer".into());
    }
    let position = Position::new(&level.as_player(), &b.position);
    let counted = Player::new(b, &level.moves, &level.history).and_then(|player| {
        let player = player.with_game(&level.game);
        let found = player.infer()?;
        Ok(Counted { player, found })
    });
    let (inference, holds) = match counted {
        Ok(counted) => (by_counts(store, level, plays, &counted, position, budget)?, Verdict::Holds),
        Err(Stopped::NoAnswer(NoAnswer::Contradiction)) => {
            let method = Method::Contradiction;
            (
                Inference { position, method, moves: vec![], best: None, unsolved: None, guess: None },
                Verdict::Fails,
            )
        }
        Err(Stopped::Fault(f)) => {
            return Err(match limit_of(&f, budget) {
                Some(limit) => limit.into(),
                None => Trouble::Message(format!("the model breaks: {f}")),
            });
        }
        Err(why) => (by_worlds(store, level, position, &why.to_string(), budget)?, Verdict::Holds),
    };
    let limit = budget.stopped();
    // What a limit left out is a chance to win, a proof or a play, never what is certain.
    let holds = if limit.is_some() { Verdict::Undecided } else { holds };
    Ok(Answer::new(Asked::of(level), holds, inference).stopped(limit, budget).took(budget, 0))
}

fn by_counts(
    store: &Store,
    level: &Loaded,
    plays: Option<u64>,
    counted: &Counted<'_>,
    position: Position,
    budget: &Budget,
) -> Result<Inference, Trouble> {
    let b = &level.game.bound;
    let (player, found) = (&counted.player, &counted.found);
    let known = &player.known;
    let cells = CellReport::proved(b, player, found, budget);
    let steps = known.system.steps(found).iter().map(|t| StepReport::of(b, player, t)).collect();
    // A guess is found quickly: before the search, which may use up the time.
    let guess = guess(level, player, found)?;
    let (wins, unsolved) = best_play(level, player, budget)?.split();
    let guess = guess.filter(|_| wins.is_none());
    let mut moves: Vec<MoveReport> = vec![];
    let broke = |f| trouble_of(store, level, budget, &f, (&b.position, None));
    for (n, ways) in player.ways(&b.position).map_err(broke)? {
        let risk = match &ways {
            Some(ways) => match exact_risk(&known.system, found, ways) {
                Ok(p) => Some(p),
                Err(NoAnswer::Contradiction) => Some(fraction(0, 1)),
                Err(NoAnswer::TooWide) => None,
            },
            None => None,
        };
        let win = wins.as_ref().and_then(|(wins, _)| wins.get(&n).cloned());
        moves.push(MoveReport { name: level.moves.name(n).to_string(), risk, win, sample: None });
    }
    by_risk(&mut moves);
    if let (None, Some(n)) = (&wins, plays) {
        estimate(level, player, &mut moves, n, budget).map_err(|e| Trouble::Message(e.to_string()))?;
    }
    let weights = known.system.weights.iter().enumerate();
    let unit = weights.clone().all(|(c, w)| *w == (1, 1) || known.system.fixed[c].is_some());
    Ok(Inference {
        position,
        method: Method::Counts {
            cells,
            steps,
            layouts: unit.then(|| found.all.to_string()),
            parts: known.system.parts().len(),
        },
        moves,
        unsolved,
        guess,
        best: wins.and_then(|b| b.1),
    })
}

fn by_risk(moves: &mut [MoveReport]) {
    moves.sort_by(|x, y| {
        let key = |m: &MoveReport| m.risk.as_ref().map_or(2.0, about);
        let win = |m: &MoveReport| m.win.as_ref().map_or(0.0, Value::low);
        key(x).total_cmp(&key(y)).then(win(y).total_cmp(&win(x)))
    });
}

type Wins = HashMap<usize, Value>;

/// What full search gave.
enum Searched {
    /// The chance to win after each move, and the best.
    Whole(Wins, Option<Value>),
    Not(Unsolved),
}

impl Searched {
    fn split(self) -> (Option<(Wins, Option<Value>)>, Option<Unsolved>) {
        match self {
            Searched::Whole(wins, best) => (Some((wins, best)), None),
            Searched::Not(why) => (None, Some(why)),
        }
    }
}

/// The guess that looks ahead; `None` where something is safe, or what is told is not followed.
fn guess(level: &Loaded, player: &Player<'_>, found: &Inferred) -> Result<Option<GuessReport>, Trouble> {
    let chosen = match player.safe_way(found) {
        Ok(None) => player.guess_ahead(found, Foresight::default()),
        Ok(Some(_)) => return Ok(None),
        Err(e) => Err(e),
    };
    match chosen {
        Ok(guess) => {
            Ok(guess.map(|g| GuessReport { name: level.moves.name(g.of).to_string(), left: g.left }))
        }
        // A limit ends it, and what is told after a move may be no count.
        Err(Stopped::Asked | Stopped::NotCounts(_) | Stopped::NoAnswer(_)) => Ok(None),
        Err(Stopped::Fault(f)) if f.is_limit() => Ok(None),
        Err(e) => Err(Trouble::Message(e.to_string())),
    }
}

/// The chance to win after each move with best play, by number of the move.
fn best_play(level: &Loaded, player: &Player<'_>, budget: &Budget) -> Result<Searched, Trouble> {
    let game = &level.game;
    let b = &game.bound;
    let known = &player.known;
    let Some(solutions) = known.system.solutions(SOLVED_MAX) else {
        return Ok(Searched::Not(Unsolved::Layouts));
    };
    let mut worlds = vec![];
    for (cells, weight) in solutions {
        if let Some(limit) = budget.stopped() {
            return Ok(Searched::Not(Unsolved::Limit(budget.words(limit), 0)));
        }
        let mut state = b.position.clone();
        for (c, v) in cells.iter().enumerate() {
            state[known.places[c]] = i32::from(*v);
        }
        // Worlds that the rules themselves rule out are none.
        if Eval::new(b).status(&state).is_ok() {
            worlds.push((game.pack(&state), weight));
        }
    }
    match Knowing::new(game, &worlds, None) {
        Ok(knowing) => best_of(level, &knowing, budget),
        Err(NotKnown::Limit(limit)) => Ok(Searched::Not(Unsolved::Limit(budget.words(limit), 0))),
        Err(NotKnown::NoWorld) => Ok(Searched::Not(Unsolved::Contradiction)),
        Err(NotKnown::Fault(f)) => Err(Trouble::Message(format!("the model breaks: {}", game.run_fault(&f)))),
    }
}

/// The best chance from where play begins, and after each move. Without a limit of time or of states that somebody set, it
/// is left when it takes long.
fn best_of(level: &Loaded, knowing: &Knowing<'_>, budget: &Budget) -> Result<Searched, Trouble> {
    let game = &level.game;
    let layouts: usize = knowing.begins().iter().map(|b| knowing.worlds(b.0).len()).sum();
    let each = (layouts * level.moves.list.len()).max(1) as u64;
    let own = budget.limits();
    let is_asked = budget.wanted().time.is_some() || budget.wanted().max_states.is_some();
    let most =
        if is_asked { own.max_states } else { (WORK_MAX / each).clamp(64, STATES_MAX).min(own.max_states) };
    let limits = Limits { max_states: most, ..own };
    let fail = |f| Trouble::Message(format!("the model breaks: {}", game.run_fault(&f)));
    let not = |limit: Limit, states: u64| {
        Searched::Not(match limit {
            Limit::MaxStates if !is_asked => Unsolved::Dear(states),
            limit => Unsolved::Limit(budget.words(limit), states),
        })
    };
    match odds(knowing, &limits, Fractions::WhereSmall, budget) {
        Ok(a) if a.counts.complete => {
            let wins = a.from_start.iter().filter_map(|m| Some((m.of.0 as usize, m.win.clone()?))).collect();
            Ok(Searched::Whole(wins, a.win))
        }
        Ok(a) => Ok(not(a.counts.limit.unwrap_or(Limit::MaxStates), a.counts.states)),
        Err(NoOdds::Limit(limit, counts)) => Ok(not(limit, counts.states)),
        Err(NoOdds::Fault(f)) => Err(fail(f)),
    }
}

/// Plays on carefully after the moves of least risk, on layouts drawn among those that agree.
fn estimate(
    level: &Loaded,
    player: &Player<'_>,
    moves: &mut [MoveReport],
    plays: u64,
    budget: &Budget,
) -> Result<(), Stopped> {
    let b = &level.game.bound;
    let known = &player.known;
    let sampler = known.system.sampler()?;
    let seed = budget.wanted().seed;
    let mut dice = Dice::new(seed);
    let mut random = || dice.share();
    let mut layouts: Vec<Vec<bool>> = vec![];
    for _ in 0..plays {
        if budget.is_stopped() {
            return Ok(());
        }
        layouts.push(sampler.draw(&mut random));
    }
    for m in moves.iter_mut().take(ESTIMATED) {
        let first = (0..level.moves.list.len()).find(|n| level.moves.name(*n) == m.name);
        let Some(first) = first else { continue };
        let mut sample = Sample { won: 0, plays: 0, seed };
        for layout in &layouts {
            let mut state = b.position.clone();
            for (c, v) in layout.iter().enumerate() {
                state[known.places[c]] = i32::from(*v);
            }
            match careful_play(level, state, first, budget) {
                Ok(won) => {
                    sample.won += u64::from(won);
                    sample.plays += 1;
                }
                // A play that is stopped counts for nothing.
                Err(Stopped::Asked) => break,
                Err(Stopped::Fault(f)) if f.is_limit() => break,
                Err(other) => return Err(other),
            }
        }
        m.sample = (sample.plays > 0).then_some(sample);
    }
    Ok(())
}

/// One careful play on a layout, the first move given; whether it is won.
fn careful_play(level: &Loaded, state: Vec<i32>, first: usize, budget: &Budget) -> Result<bool, Stopped> {
    let b = &level.game.bound;
    let mut player = Player::new(b, &level.moves, &level.history)?.with_game(&level.game);
    player.state = state;
    let is_goal = |e: usize| b.model.endings[e].kind == EndKind::Goal;
    let mut next = vec![first];
    loop {
        if budget.is_stopped() {
            return Err(Stopped::Asked);
        }
        match player.make(&next)? {
            Some(Some(e)) => return Ok(is_goal(e)),
            Some(None) => {}
            None => return Ok(false),
        }
        let found = player.infer()?;
        let (news, ended) = player.make_safe(&found)?;
        if let Some(e) = ended {
            return Ok(is_goal(e));
        }
        if news {
            next = vec![];
            continue;
        }
        match player.choose_ahead(&found, Foresight::brief())? {
            Some(chosen) => next = chosen.moves,
            None => return Ok(false),
        }
    }
}

/// Any hidden things: the worlds one by one.
fn by_worlds(
    store: &Store,
    level: &Loaded,
    position: Position,
    why: &str,
    budget: &Budget,
) -> Result<Inference, Trouble> {
    let game = &level.game;
    let b = &game.bound;
    let Play::Knowing(knowing, _) = play(level, false, "infer", budget)? else {
        return Err("--known leaves nothing to infer".into());
    };
    let worlds = knowing.worlds(knowing.begins()[0].0);
    let all: u128 = worlds.iter().map(|w| u128::from(w.1)).sum();
    // For each place of a hidden variable its values and their weights.
    let mut of: BTreeMap<(VarId, usize), BTreeMap<i32, u128>> = BTreeMap::new();
    for (words, weight) in &worlds {
        let state = game.unpack(words);
        for v in hidden_vars(b) {
            for at in b.hidden_places(v, &state) {
                *of.entry((v, at - b.slots[v].base)).or_default().entry(state[at]).or_default() +=
                    u128::from(*weight);
            }
        }
    }
    let places = of.into_iter().map(|((v, i), values)| PlaceReport {
        at: (v, i),
        name: place_name(b, v, i),
        of: b.model.vars[v].name.clone(),
        values: values.into_iter().map(|(x, w)| (x, b.value_text(v, x.into()), fraction(w, all))).collect(),
    });
    let places = places.collect();
    let alike = alike(level, false, budget)?;
    let (wins, unsolved) = best_of(level, alike.as_ref().unwrap_or(&knowing), budget)?.split();
    let mut moves = vec![];
    for n in 0..level.moves.list.len() {
        if budget.is_stopped() {
            break;
        }
        if let Some(risk) = risk_over(store, level, &worlds, (n, all), budget)? {
            let win = wins.as_ref().and_then(|(w, _)| w.get(&n).cloned());
            moves.push(MoveReport {
                name: level.moves.name(n).to_string(),
                risk: Some(risk),
                win,
                sample: None,
            });
        }
    }
    by_risk(&mut moves);
    Ok(Inference {
        position,
        method: Method::Worlds { why: why.to_string(), layouts: worlds.len(), places },
        moves,
        unsolved,
        guess: None,
        best: wins.and_then(|b| b.1),
    })
}

/// In which share of the worlds a move loses at once; `None` where some world does not allow it.
fn risk_over(
    store: &Store,
    level: &Loaded,
    worlds: &[(Vec<u64>, u64)],
    (n, all): (usize, u128),
    budget: &Budget,
) -> Result<Option<Fraction>, Trouble> {
    let b = &level.game.bound;
    let is_lost = |e: usize| b.model.endings[e].kind == EndKind::Lost;
    let mut lost = fraction(0, 1);
    for (words, weight) in worlds {
        let state = level.game.unpack(words);
        let made = fendle_lang::play::step(b, &level.moves, &state, n, false)
            .map_err(|f| trouble_of(store, level, budget, &f, (&state, Some(level.moves.name(n)))))?;
        let fendle_lang::play::Tried::Made(list) = made else { return Ok(None) };
        for p in list.iter().filter(|p| p.ended.is_some_and(is_lost)) {
            lost += fraction(u128::from(*weight), all) * fraction(p.made.chance.num, p.made.chance.den);
        }
    }
    Ok(Some(lost))
}
