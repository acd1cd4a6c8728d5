//! Can a layout be finished from its opening by certain steps alone? Where a guess is forced, how likely it is survived, and
//! which other layout cannot be told apart; for a walker, the ways that never need one.

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};

use fendle_core::Limit;
use fendle_core::infer::{Fraction, Inferred, Kind, fraction, most_disjoint};
use fendle_lang::known::Way;
use fendle_lang::known::player::{Player, Stopped, exact_risk};
use fendle_lang::model::{EndKind, Extent, Scalar, VarId};
use fendle_lang::play::{Tried, step};
use serde::Serialize;
use serde_json::json;

use crate::answer::{Answer, Asked, Trouble, Verdict, limit_of};
use crate::budget::Budget;
use crate::infer::{CellReport, as_probability, kind_words, place_name};
use crate::load::Loaded;
use crate::position::Position;

/// Most states of knowledge that are looked at for safe ways.
pub const STATES_MAX: usize = 20_000;
/// Most layouts among which two that agree are looked for.
const TIED_MAX: usize = 20_000;

/// Another layout that agrees with all that is seen.
#[derive(Clone, Debug)]
pub struct Tied {
    /// Whether each unknown is filled, in the order of the unknowns.
    pub layout: Vec<bool>,
    /// The unknowns in which it differs from the true layout.
    pub cells: Vec<u32>,
}

/// A guess that the player is forced into.
#[derive(Clone, Debug, Serialize)]
pub struct Guess {
    /// Moves made before it.
    #[serde(rename = "after_moves")]
    pub after: usize,
    /// The move of least risk.
    #[serde(rename = "move")]
    pub name: String,
    /// The chance to lose by it.
    #[serde(serialize_with = "as_probability")]
    pub risk: Fraction,
    /// It loses in this layout, so this move is made instead, which does not.
    #[serde(rename = "loses_here_so_taken_instead")]
    pub instead: Option<String>,
    /// The position, as the player sees it.
    #[serde(serialize_with = "seen_line")]
    pub position: Position,
    /// What is known of each unknown then.
    #[serde(skip)]
    pub cells: Vec<CellReport>,
    /// Another layout that agrees.
    #[serde(rename = "tied_cells", serialize_with = "tied_cells")]
    pub tied: Option<Tied>,
}

fn seen_line<S: serde::Serializer>(p: &Position, s: S) -> Result<S::Ok, S::Error> {
    p.serialize(s)
}

fn tied_cells<S: serde::Serializer>(t: &Option<Tied>, s: S) -> Result<S::Ok, S::Error> {
    t.as_ref().map(|t| &t.cells).serialize(s)
}

/// A hazard that became certain: after how many moves, by how many independent sets of clues.
#[derive(Clone, Debug)]
pub struct Hazard {
    /// The cell.
    pub cell: String,
    /// Moves made before.
    pub after: usize,
    /// Independent sets of clues, and whether that is the greatest number.
    pub sets: (usize, bool),
}

impl Serialize for Hazard {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let sets = json!({"at_least": self.sets.0, "exact": self.sets.1});
        json!({"cell": self.cell, "known_after_moves": self.after, "independent_sets": sets}).serialize(s)
    }
}

/// What a careful play found.
#[derive(Clone, Debug)]
pub struct CarefulPlay {
    /// The moves made.
    pub moves: Vec<String>,
    /// Guesses on the way.
    pub guesses: Vec<Guess>,
    /// Whether the goal was reached.
    pub won: bool,
    /// Steps of each kind that were needed to go on.
    pub kinds: BTreeMap<Kind, usize>,
    /// Hazards that became certain.
    pub hazards: Vec<Hazard>,
    /// Hazards that never did.
    pub never: Vec<String>,
}

impl CarefulPlay {
    /// Finished, and no guess was forced.
    #[must_use]
    pub fn is_fair(&self) -> bool {
        self.won && self.guesses.is_empty()
    }

    /// The chance to survive all guesses.
    #[must_use]
    pub fn survive(&self) -> Fraction {
        self.guesses.iter().fold(fraction(1, 1), |p, g| p * (fraction(1, 1) - &g.risk))
    }
}

/// Ways to the goal that never need a guess.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ways {
    /// The shortest.
    pub shortest: Option<Vec<String>>,
    /// Sets of cells entered.
    pub sets: usize,
    /// Not all states of knowledge were looked at.
    pub more: bool,
    /// How many share no cell but the ends; and whether that is the greatest number.
    pub apart: (usize, bool),
}

impl Serialize for Ways {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        json!({
            "shortest": self.shortest,
            "differ_in_cells": self.sets,
            "more": self.more,
            "share_no_cell": {"at_least": self.apart.0, "exact": self.apart.1},
        })
        .serialize(s)
    }
}

/// Whether a level is fair.
#[derive(Clone, Debug, Serialize)]
pub struct Fairness {
    /// It can be finished without a guess.
    pub no_guess: bool,
    /// The moves of a careful play.
    pub moves: Vec<String>,
    /// It reached the goal.
    pub finished: bool,
    /// How hard its steps were to see.
    #[serde(serialize_with = "kind_map")]
    pub steps_by_kind: BTreeMap<Kind, usize>,
    /// The guesses that were forced.
    pub guesses: Vec<Guess>,
    /// The chance to survive them all.
    #[serde(serialize_with = "as_probability")]
    pub chance_to_survive_all: Fraction,
    /// Hazards that became certain.
    pub hazards: Vec<Hazard>,
    /// Hazards that never did.
    pub never_known: Vec<String>,
    /// For a walker: the ways without a guess.
    pub safe_ways: Option<Ways>,
    /// Where it begins, as the player sees it.
    #[serde(skip)]
    pub start: Position,
}

fn kind_map<S: serde::Serializer>(kinds: &BTreeMap<Kind, usize>, s: S) -> Result<S::Ok, S::Error> {
    s.collect_map(kinds.iter().map(|(k, n)| (kind_words(*k), n)))
}

/// Plays a level as one who knows no more than is told.
///
/// # Errors
///
/// [`Trouble::Undecided`] where what is told is no count, or too many clues hang together; any other [`Trouble`].
pub fn fairness(level: &Loaded, budget: &Budget) -> Result<Answer<Fairness>, Trouble> {
    let b = &level.game.bound;
    if !b.model.hides() {
        let words = format!("the model `{}` hides nothing", b.model.name);
        return Err(Trouble::Message(words));
    }
    if b.seen.iter().any(Option::is_some) {
        let words = "--no-guess plays a layout, and this level gives only what is seen";
        return Err(words.into());
    }
    let stopped = |e: Stopped| match e {
        Stopped::Asked => budget.stopped().unwrap_or(Limit::Time).into(),
        Stopped::Fault(f) => match limit_of(&f, budget) {
            Some(limit) => limit.into(),
            None => Trouble::Message(format!("the model breaks: {f}")),
        },
        why => Trouble::Undecided(why.to_string()),
    };
    let report = played(level, budget).map_err(stopped)?;
    let ways = safe_ways(level, budget).map_err(stopped)?;
    let here = level.history.last().unwrap_or(&b.position);
    let fair = report.is_fair();
    let found = Fairness {
        no_guess: fair,
        finished: report.won,
        chance_to_survive_all: report.survive(),
        start: Position::new(&level.as_player(), here),
        moves: report.moves,
        steps_by_kind: report.kinds,
        guesses: report.guesses,
        hazards: report.hazards,
        never_known: report.never,
        safe_ways: ways,
    };
    let holds = if fair { Verdict::Holds } else { Verdict::Fails };
    Ok(Answer::new(Asked::of(level), holds, found).took(budget, 0))
}

/// Plays on from what was seen: what is certain, and where nothing is, the least risk that does not lose here.
///
/// # Errors
///
/// [`Stopped`].
pub fn played(level: &Loaded, budget: &Budget) -> Result<CarefulPlay, Stopped> {
    Ok(played_on(level, budget, false)?.0)
}

/// The same; and how many independent sets of clues there are at the end for the hazard that has the fewest, none for one that never became
/// certain.
///
/// # Errors
///
/// [`Stopped`].
pub fn played_with_clues(level: &Loaded, budget: &Budget) -> Result<(CarefulPlay, usize), Stopped> {
    played_on(level, budget, true)
}

fn played_on(level: &Loaded, budget: &Budget, count: bool) -> Result<(CarefulPlay, usize), Stopped> {
    let (b, table, history) = (&level.game.bound, &level.moves, &level.history);
    let mut player = Player::new(b, table, history)?;
    let mut report = CarefulPlay {
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
        go_on(budget)?;
        let found = player.infer()?;
        let system = &player.known.system;
        let prover = system.prover();
        for c in 0..player.known.cells.len() as u32 {
            if found.certain(c) == Some(true) && certain.insert(c) {
                go_on(budget)?;
                let (var, at) = player.known.cells[c as usize];
                let sets = if system.fixed[c as usize].is_some() {
                    (1, true)
                } else {
                    prover.independent(c, true, &prover.clues_for(c, true))
                };
                let cell = place_name(b, var, at);
                report.hazards.push(Hazard { cell, after: report.moves.len(), sets });
            }
        }
        let moves = match player.safe_way(&found)? {
            Some(moves) => {
                if let Some(kind) = kind_needed(&player, &found) {
                    *report.kinds.entry(kind).or_default() += 1;
                }
                moves
            }
            None => match guess(level, &player, &found, report.moves.len())? {
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
    let clues = if count && report.never.is_empty() { fewest_clues(&player, &certain, budget)? } else { 0 };
    Ok((report, clues))
}

/// The fewest independent sets of clues that any of these hazards has, by what is known now.
fn fewest_clues(player: &Player<'_>, hazards: &BTreeSet<u32>, budget: &Budget) -> Result<usize, Stopped> {
    let system = &player.known.system;
    let prover = system.prover();
    let mut fewest = usize::MAX;
    for &c in hazards {
        go_on(budget)?;
        let sets = match system.fixed[c as usize] {
            Some(_) => 1,
            None => prover.independent(c, true, &prover.clues_for(c, true)).0,
        };
        fewest = fewest.min(sets);
    }
    Ok(if hazards.is_empty() { 0 } else { fewest })
}

fn go_on(budget: &Budget) -> Result<(), Stopped> {
    if budget.is_stopped() { Err(Stopped::Asked) } else { Ok(()) }
}

/// The hardest kind of step that is needed before something is known to be free.
fn kind_needed(player: &Player<'_>, found: &Inferred) -> Option<Kind> {
    let mut hardest = None;
    for step in player.known.system.steps(found) {
        hardest = hardest.max(Some(step.kind));
        if step.cells.iter().any(|c| !c.1) {
            return hardest;
        }
    }
    None
}

type Guessed = Option<(Guess, Option<usize>)>;

/// The least risk, and whether it can be taken in this layout.
fn guess(level: &Loaded, player: &Player<'_>, found: &Inferred, after: usize) -> Result<Guessed, Stopped> {
    let (b, table) = (&level.game.bound, &level.moves);
    let mut list: Vec<(usize, Fraction)> = vec![];
    for (m, ways) in player.ways(&player.state)? {
        let Some(ways) = ways else { continue };
        let risk = exact_risk(&player.known.system, found, &ways)?;
        if risk != fraction(0, 1) {
            list.push((m, risk));
        }
    }
    list.sort_by(|x, y| x.1.cmp(&y.1).then(x.0.cmp(&y.0)));
    let Some((first, risk)) = list.first().cloned() else { return Ok(None) };
    let lives = |m: usize| -> Result<bool, Stopped> {
        Ok(match step(b, table, &player.state, m, false)? {
            Tried::Made(made) => {
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
    let guess = Guess {
        after,
        name: table.name(first).to_string(),
        risk,
        instead: chosen.filter(|m| *m != first).map(|m| table.name(m).to_string()),
        position: Position::new(&level.as_player(), &player.state),
        cells: CellReport::plain(player, found),
        tied: tied(player, found),
    };
    Ok(Some((guess, chosen)))
}

/// Another layout that agrees with everything seen, as like the true one as can be.
fn tied(player: &Player<'_>, found: &Inferred) -> Option<Tied> {
    let known = &player.known;
    let truth: Vec<bool> = known.places.iter().map(|p| player.state[*p] != 0).collect();
    let open = |c: u32| found.certain(c).is_none();
    let differing = |s: &[bool]| -> Vec<u32> {
        (0..s.len() as u32).filter(|&c| s[c as usize] != truth[c as usize]).collect()
    };
    let mut best: Option<Tied> = None;
    // Part by part, the rest as it truly is; then everything at once.
    let whole: Vec<u32> = (0..truth.len() as u32).collect();
    for part in known.system.parts().iter().filter(|p| p.iter().any(|c| open(*c))).chain([&whole]) {
        let mut system = known.system.clone();
        for (c, f) in system.fixed.iter_mut().enumerate() {
            if f.is_none() && !part.contains(&(c as u32)) {
                *f = Some(truth[c]);
            }
        }
        for (layout, _) in system.solutions(TIED_MAX).unwrap_or_default() {
            let cells = differing(&layout);
            if !cells.is_empty() && best.as_ref().is_none_or(|b| cells.len() < b.cells.len()) {
                best = Some(Tied { layout, cells });
            }
        }
        if best.is_some() {
            break;
        }
    }
    best
}

/// Where the states of knowledge of a walker lead: for each the one before, and the move from there.
type Trail = HashMap<Vec<i32>, Option<(Vec<i32>, usize)>>;

/// For a game in which one thing walks: the ways to the goal on which every step is certain when it is made.
///
/// # Errors
///
/// [`Stopped`].
pub fn safe_ways(level: &Loaded, budget: &Budget) -> Result<Option<Ways>, Stopped> {
    let (b, table, history) = (&level.game.bound, &level.moves, &level.history);
    let walkers: Vec<VarId> = b
        .model
        .var_ids()
        .filter(|&v| {
            let def = &b.model.vars[v];
            let plain = def.state && !def.hidden && def.shadow_of.is_none();
            plain && def.shape == Extent::One && def.dom.scalar() == Scalar::Cell
        })
        .collect();
    let ([walker], true) = (walkers.as_slice(), b.model.has_goal()) else { return Ok(None) };
    let at = b.slots[*walker].base;
    let start = history.last().cloned().unwrap_or_default();
    let mut from: Trail = [(start.clone(), None)].into();
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
        go_on(budget)?;
        let mut seen = history.clone();
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
            let Tried::Made(list) = step(b, table, &state, m, false)? else { continue };
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
    Ok(Some(ways_of(&from, &goals, (at, start[at]), more, |m| table.name(m).to_string())))
}

/// The ways to the goals, and how they differ in the cells entered; `walker`: where its cell lies, and where it began.
fn ways_of(
    from: &Trail,
    goals: &[Vec<i32>],
    walker: (usize, i32),
    more: bool,
    name: impl Fn(usize) -> String,
) -> Ways {
    let (at, begun) = walker;
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
        cells.remove(&(begun as usize));
        (moves, cells)
    };
    let all: Vec<(Vec<usize>, BTreeSet<usize>)> = goals.iter().map(way).collect();
    let shortest = all.iter().min_by_key(|w| w.0.len()).map(|w| w.0.iter().map(|&m| name(m)).collect());
    let sets: BTreeSet<&BTreeSet<usize>> = all.iter().map(|w| &w.1).collect();
    let minimal: Vec<Vec<usize>> = sets
        .iter()
        .filter(|s| !sets.iter().any(|o| o != *s && o.is_subset(s)))
        .map(|s| s.iter().copied().collect())
        .collect();
    let (apart, exact) = most_disjoint(&minimal);
    Ways { shortest, sets: sets.len(), more, apart: (apart, exact && !more) }
}
