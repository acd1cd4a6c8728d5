//! Whether a position can still be won, told again and again while a level is played.

use std::collections::HashMap;

use fendle_core::graph::Distances;
use fendle_core::{Class, Expansion, Explored, Model as _, MoveId};
use fendle_lang::Game;
use fendle_lang::play::is_won;

use crate::bound::{Relaxed, no_way_words, puzzle, puzzle_of_large};
use crate::budget::Budget;
use crate::explore::seen_whole;
use crate::hunt::{Hunt, LARGE_BITS, Promise, WhyNone, first_relaxed};
use crate::load::Loaded;

/// States that are looked at so that each position can be told of at once.
const SPACE_STATES: u64 = 4_000_000;

/// What is known of a position.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Light {
    /// It is won, or lost, or over: the words of its ending.
    Ended(String),
    /// It can be won; in so many moves, and whether none does it in fewer. With chance: if all draws fall well.
    CanBeWon {
        /// Moves.
        moves: u32,
        /// None does it in fewer.
        fewest: bool,
        /// It depends on draws.
        lucky: bool,
        /// The first of these moves.
        next: Option<usize>,
    },
    /// It cannot be won any more; and why, where that was found.
    Dead(Option<String>),
    /// Not known, and why.
    NotKnown(String),
}

impl Light {
    /// In a few words.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Light::Ended(words) => words.clone(),
            Light::CanBeWon { moves, fewest, lucky, .. } => {
                let n = fendle_core::numbers::counted((*moves).into(), "move", "moves");
                let n = if *fewest { n } else { format!("{n} or fewer") };
                format!("can be won, {n}{}", if *lucky { " if lucky" } else { "" })
            }
            Light::Dead(_) => "dead".into(),
            Light::NotKnown(why) => format!("not known: {why}"),
        }
    }
}

/// One who says of positions of a level whether they can be won.
pub struct Judge<'l> {
    level: &'l Loaded,
    seen: Option<(Explored, Distances)>,
    relaxed: Option<Relaxed>,
    known: HashMap<Vec<i32>, Light>,
    /// Why nothing is known of any position.
    dark: Option<String>,
}

impl<'l> Judge<'l> {
    /// Looks at the whole space, where it is small; else makes relaxed puzzles. This may take as long as the budget allows.
    #[must_use]
    pub fn new(level: &'l Loaded, budget: &Budget) -> Judge<'l> {
        let mut out = Judge { level, seen: None, relaxed: None, known: HashMap::new(), dark: None };
        let game = &level.game;
        if !game.has_goal() {
            out.dark = Some("this model has no goal".into());
            return out;
        }
        if game.bound.model.hides() && !level.known {
            out.dark = Some("things are hidden; k shows the risk".into());
            return out;
        }
        let large = puzzle_of_large(game, LARGE_BITS, budget);
        if large.is_none()
            && let Some(found) = seen_whole(game, SPACE_STATES, budget)
            && let Ok(far) = Distances::in_space(&found.space, budget)
        {
            out.seen = Some((found, far));
            return out;
        }
        let task = large.or_else(|| if game.is_sure() { puzzle(game, budget) } else { None });
        if let Some(task) = task {
            out.relaxed = first_relaxed(game, task, budget).ok();
        }
        if !game.is_sure() {
            out.dark = Some("the space is too large".into());
        }
        out
    }

    /// What is known of a position. On a large board a search may take as long as the budget allows.
    #[must_use]
    pub fn says(&mut self, state: &[i32], budget: &Budget) -> Light {
        if let Some(known) = self.known.get(state) {
            return known.clone();
        }
        let light = self.looks(state, budget);
        if !matches!(light, Light::NotKnown(_)) {
            self.known.insert(state.to_vec(), light.clone());
        }
        light
    }

    fn looks(&mut self, state: &[i32], budget: &Budget) -> Light {
        let game = &self.level.game;
        let b = &game.bound;
        let status = crate::show::status_text(b, state);
        if status != "running" {
            return Light::Ended(status);
        }
        if let Some(why) = &self.dark {
            return Light::NotKnown(why.clone());
        }
        if let Some((found, far)) = &self.seen {
            return seen(game, (found, far), state);
        }
        let mut relaxed = None;
        if let Some(r) = &self.relaxed {
            let mut judge = r.bounds.judge(&r.task);
            if judge.says(state).least.is_none() {
                let part = judge.no_way(state).map(|p| no_way_words(&r.task, state, &p));
                return Light::Dead(part.map(|p| WhyNone::Relaxed(p).words()));
            }
            let task = fendle_core::relaxed::Task { start: state.to_vec(), ..r.task.clone() };
            relaxed = Some(Relaxed {
                task,
                bounds: r.bounds.clone(),
                fetched: 0,
                damaged: 0,
                declared: r.declared,
                effort: r.effort,
            });
        }
        let here = self.level.at(state);
        let hunted = Hunt::new(&here.game, Promise::Any, 0, budget).rounds(2).run(relaxed);
        match &hunted.route {
            Some((_, route)) if route.moves.is_empty() => Light::Ended("won".into()),
            Some((own, route)) => {
                let won = route.states.last().is_some_and(|s| is_won(&own.bound, &own.unpack(s)));
                debug_assert!(won, "a way ends in a goal");
                // Every position of the way can be won, too.
                let states: Vec<Vec<i32>> = route.states.iter().map(|s| own.unpack(s)).collect();
                for (i, state) in states.iter().enumerate().take(route.moves.len()) {
                    let moves = (route.moves.len() - i) as u32;
                    let fewest = i == 0 && hunted.least.is_some_and(|l| l >= moves);
                    let next = plain(game, route.moves[i]);
                    self.known.entry(state.clone()).or_insert(Light::CanBeWon {
                        moves,
                        fewest,
                        lucky: false,
                        next,
                    });
                }
                let moves = route.moves.len() as u32;
                let fewest = hunted.least.is_some_and(|l| l >= moves);
                Light::CanBeWon { moves, fewest, lucky: false, next: plain(game, route.moves[0]) }
            }
            None if hunted.least.is_none() => Light::Dead(hunted.why_none.map(|w| w.words())),
            None => Light::NotKnown("searched for a while".into()),
        }
    }
}

/// The number of a move as it is called, where states have no form of their own.
fn plain(game: &Game, of: MoveId) -> Option<usize> {
    game.bound.canon.is_none().then_some(of.0 as usize)
}

/// What the whole space says.
fn seen(game: &Game, (found, far): (&Explored, &Distances), state: &[i32]) -> Light {
    let packed = game.pack(state);
    let Some(id) = found.space.find(&packed) else { return Light::NotKnown("never seen".into()) };
    match found.space.class(id) {
        Class::Winnable => {
            let mut out = Expansion::default();
            game.worker().expand(&packed, false, &mut out);
            let mut states = out.outcomes.chunks_exact(packed.len());
            let mut best: Option<(u32, MoveId)> = None;
            for run in &out.runs {
                for next in states.by_ref().take(run.outcomes as usize) {
                    let id = found.space.find(next).filter(|id| found.space.class(*id).is_hopeful());
                    if let Some(d) = id.and_then(|id| far.get(id))
                        && best.is_none_or(|b| d < b.0)
                    {
                        best = Some((d, run.of));
                    }
                }
            }
            let moves = far.get(id).unwrap_or(0);
            let next = best.and_then(|b| plain(game, b.1));
            Light::CanBeWon { moves, fewest: true, lucky: !found.space.is_sure(), next }
        }
        Class::Dead => Light::Dead(None),
        Class::Stuck => Light::Dead(Some("no move is left".into())),
        _ => Light::NotKnown("not seen".into()),
    }
}
