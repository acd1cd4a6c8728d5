//! The figures of a board, by the names that JSON answers have; what costs more is asked last.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use fendle_core::odds::{Fractions, odds};
use fendle_core::{Limits, Verdict as Solvable};

use fendle_lang::known::player::Stopped;

use super::wish::Wish;
use crate::answer::Verdict;
use crate::budget::Budget;
use crate::explore::{How, explore};
use crate::fairness::{CarefulPlay, played, played_with_clues};
use crate::hunt::Promise;
use crate::load::{Loaded, Store};
use crate::solve::solve;
use crate::structure::{Idle, Parts};

/// Figures by name. What there is not, such as the moves of a level that cannot be solved, is not a number; a move that never comes is infinitely
/// far.
pub type Figures = BTreeMap<&'static str, f64>;

/// How long a proof may take for a board that is too large to be looked through.
const PROVING: Duration = Duration::from_secs(5);

/// How much a figure costs: each group answers for all of its figures at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Group {
    /// By a solution.
    Solve,
    /// By playing with certain steps alone.
    Fair,
    /// By the same, and the clues that there are at its end.
    Clues,
    /// By the whole space.
    Space,
    /// By what the space looks like.
    Structure,
    /// By trying the level without each of its parts.
    Idle,
    /// By exact chances.
    Chance,
}

/// Every figure, what it costs, and what it is.
pub const NAMES: &[(&str, Group, &str)] = &[
    ("solvable", Group::Solve, "1 where it can be won, else 0"),
    ("moves", Group::Solve, "moves of a shortest solution"),
    ("guesses", Group::Fair, "guesses that hidden things force"),
    ("no_guess", Group::Fair, "1 where certain steps alone win"),
    ("clues", Group::Clues, "independent sets of clues for the hazard that has the fewest"),
    ("states", Group::Space, "positions that can be reached"),
    ("transitions", Group::Space, "moves in them, with their outcomes"),
    ("edges", Group::Space, "pairs of positions with a move between them"),
    ("depth", Group::Space, "moves to the farthest position"),
    ("goal", Group::Space, "won positions"),
    ("lost", Group::Space, "lost positions"),
    ("over", Group::Space, "positions that end otherwise"),
    ("stuck", Group::Space, "running positions without a move"),
    ("dead", Group::Space, "running positions from which nothing is won"),
    ("winnable", Group::Space, "running positions that can be won"),
    ("fatal_moves", Group::Space, "moves after which nothing is won any more"),
    ("first_fatal_depth", Group::Space, "moves before the first fatal one can come"),
    ("certain", Group::Space, "positions that win against every draw"),
    ("fatal_draws", Group::Space, "draws after which nothing is won any more"),
    ("solutions", Group::Structure, "shortest solutions"),
    ("essentially_unique", Group::Structure, "1 where they are one, but for moves that can be swapped"),
    ("must_pass", Group::Structure, "positions that every solution passes"),
    ("corridor", Group::Structure, "the share of moves that keep the level winnable"),
    ("branching", Group::Structure, "moves in a position, in the mean"),
    ("delay", Group::Structure, "moves until a fatal move shows, in the mean"),
    ("detours", Group::Structure, "moves of a shortest solution that go away from the goal"),
    ("idle_parts", Group::Idle, "parts without which nothing changes"),
    ("win_chance", Group::Chance, "the best chance to win"),
];

fn group(name: &str) -> Group {
    NAMES.iter().find(|f| f.0 == name).map_or(Group::Space, |f| f.1)
}

/// What became of a board.
#[derive(Clone, Debug, PartialEq)]
pub enum Judged {
    /// It is as it is wanted; all wanted figures are known.
    Good(Figures),
    /// It is not: why, and what was found out of it.
    Bad(String, Figures),
    /// A limit kept it from being known.
    Open,
    /// The model breaks on it.
    Breaks,
}

/// Judges a board: finds out its figures, the cheap ones first, until the wish is decided; then those that are wanted besides. `limits` are those of
/// one board.
#[must_use]
pub fn judge(
    store: &Store,
    level: &Loaded,
    (wish, besides): (&Wish, &BTreeSet<&'static str>),
    limits: &Limits,
    budget: &Budget,
) -> Judged {
    let wanted = wish.names();
    // What the player cannot know is not searched: such a level is played with certain steps.
    let knowing = level.game.bound.model.hides() && !level.known;
    let group = |name: &str| match group(name) {
        Group::Solve if knowing => Group::Fair,
        other => other,
    };
    let mut groups: Vec<Group> = wanted.union(besides).map(|n| group(n)).collect();
    // Whatever needs the whole space has the shortest solution, too; where the wish is about it, most boards fall away by it before.
    if groups.iter().any(|g| *g >= Group::Space && *g != Group::Chance) {
        groups.push(Group::Space);
        if !wanted.iter().any(|n| group(n) == Group::Solve) {
            groups.retain(|g| *g != Group::Solve);
        }
    }
    // What counts clues has played.
    if groups.contains(&Group::Clues) {
        groups.retain(|g| *g != Group::Fair);
    }
    // What tries parts has the structure.
    if groups.contains(&Group::Idle) {
        groups.retain(|g| *g != Group::Structure);
    }
    groups.sort_unstable();
    groups.dedup();
    let mut figures = Figures::new();
    for group in groups {
        if budget.is_stopped() {
            return Judged::Open;
        }
        match found(store, level, group, &mut figures, limits, budget) {
            Found::Known => {}
            Found::Open => return Judged::Open,
            Found::Breaks => return Judged::Breaks,
        }
        if wish.holds(&figures) == Some(false) {
            let why = wish.failing(&figures).unwrap_or_else(|| format!("not {}", wish.words()));
            return Judged::Bad(why, figures);
        }
    }
    match wish.holds(&figures) {
        Some(true) => Judged::Good(figures),
        _ => Judged::Open,
    }
}

/// What is known of a board that is too large to be looked through: a proof from the rules that it cannot be solved, or that a solution is a shortest
/// one.
fn proved(store: &Store, level: &Loaded, figures: &mut Figures, limits: &Limits, budget: &Budget) -> Found {
    let own = budget.part(limits.max_states, PROVING);
    let Ok(answer) = solve(store, level, Promise::Shortest, &own, None) else { return Found::Open };
    let (solvable, moves) = match (answer.holds, answer.found.moves, answer.found.shortest) {
        (Verdict::Fails, ..) => (0.0, f64::NAN),
        (_, Some(moves), true) => (1.0, moves as f64),
        _ => return Found::Open,
    };
    figures.extend([("solvable", solvable), ("moves", moves)]);
    Found::Known
}

/// The figures of a structure.
pub(crate) fn structure_figures(parts: &Parts, figures: &mut Figures) {
    let s = &parts.structure;
    let shares = [("corridor", s.corridor), ("branching", s.branching)];
    figures.extend(shares.map(|(name, s)| (name, s.part as f64 / (s.all.max(1)) as f64)));
    let shortest = s.shortest.as_ref();
    figures.insert("solutions", shortest.map_or(0.0, |s| s.count.parse().unwrap_or(f64::INFINITY)));
    let unique = shortest.and_then(|s| s.up_to_swaps) == Some(1);
    figures.insert("essentially_unique", f64::from(u8::from(unique)));
    figures.insert("must_pass", parts.must_pass.len() as f64);
    figures.insert("delay", s.delay.mean().unwrap_or(f64::NAN));
    figures.insert("detours", parts.detours.as_ref().map_or(f64::NAN, |d| d.len() as f64));
}

/// Plays a level with certain steps, and counts its clues where that is wanted.
fn play_out(level: &Loaded, count: bool, budget: &Budget) -> Result<(CarefulPlay, Option<usize>), Stopped> {
    match count {
        true => played_with_clues(level, budget).map(|(report, clues)| (report, Some(clues))),
        false => played(level, budget).map(|report| (report, None)),
    }
}

enum Found {
    Known,
    Open,
    Breaks,
}

/// Finds out the figures of one group.
fn found(
    store: &Store,
    level: &Loaded,
    group: Group,
    figures: &mut Figures,
    limits: &Limits,
    budget: &Budget,
) -> Found {
    let game = &level.game;
    let hides = game.bound.model.hides();
    let number = |n: Option<u32>, none: f64| n.map_or(none, f64::from);
    match group {
        Group::Solve if hides && !level.known => Found::Open,
        Group::Solve => match fendle_core::solve(game, *limits, budget).map(|s| s.verdict) {
            Ok(Solvable::Solvable(route)) => {
                figures.insert("solvable", 1.0);
                figures.insert("moves", route.moves.len() as f64);
                Found::Known
            }
            Ok(Solvable::Unsolvable) => {
                figures.insert("solvable", 0.0);
                figures.insert("moves", f64::NAN);
                Found::Known
            }
            Ok(Solvable::Undecided(_)) => proved(store, level, figures, limits, budget),
            Ok(Solvable::Faulted(_)) | Err(_) => Found::Breaks,
        },
        Group::Fair | Group::Clues if !hides => {
            figures.insert("clues", f64::NAN);
            figures.insert("guesses", 0.0);
            figures.insert("no_guess", 1.0);
            Found::Known
        }
        Group::Fair | Group::Clues => match play_out(level, group == Group::Clues, budget) {
            Ok((report, clues)) => {
                if let Some(clues) = clues {
                    figures.insert("clues", clues as f64);
                }
                figures.insert("guesses", report.guesses.len() as f64);
                figures.insert("no_guess", f64::from(u8::from(report.is_fair())));
                figures.entry("solvable").or_insert(f64::from(u8::from(report.won)));
                let moves = if report.won { report.moves.len() as f64 } else { f64::NAN };
                figures.entry("moves").or_insert(moves);
                Found::Known
            }
            Err(_) => Found::Open,
        },
        Group::Space => {
            let limits = Limits { drop_edges: true, ..*limits };
            let Ok(found) = fendle_core::explore(game, limits, false, budget) else { return Found::Breaks };
            if found.fault.is_some() {
                return Found::Breaks;
            }
            let c = &found.counts;
            if !c.complete {
                return Found::Open;
            }
            figures.extend(c.named().map(|(name, n)| (name, n as f64)));
            figures.insert("solvable", f64::from(u8::from(c.shortest.is_some())));
            figures.insert("moves", number(c.shortest, f64::NAN));
            figures.insert("first_fatal_depth", number(c.first_fatal_depth, f64::INFINITY));
            Found::Known
        }
        Group::Structure | Group::Idle => {
            let own = budget.part(limits.max_states, budget.left());
            let how = How { structure: Some(group == Group::Idle), ..How::default() };
            let Ok(answer) = explore(store, level, how, &own) else { return Found::Breaks };
            let Some(Ok(parts)) = answer.found.structure.map(|s| s.0) else { return Found::Open };
            structure_figures(&parts, figures);
            match &parts.idle {
                Idle::Tried { idle, open: 0, .. } => {
                    figures.insert("idle_parts", idle.len() as f64);
                }
                _ if group == Group::Idle => return Found::Open,
                _ => {}
            }
            Found::Known
        }
        Group::Chance => match odds(game, limits, Fractions::Never, budget) {
            Ok(answers) => {
                let win = answers.win.map_or(f64::NAN, |v| v.middle());
                figures.insert("win_chance", win);
                Found::Known
            }
            Err(_) => Found::Open,
        },
    }
}
