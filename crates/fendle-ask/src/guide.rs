//! The best move of every state, for a game to carry along, and what a play gave away.

use std::io;

use fendle_core::Class;
use fendle_core::odds::{Guide, NoOdds};
use fendle_lang::play::{Tried, step};

use crate::answer::{Trouble, fault_report, trouble_of};
use crate::budget::Budget;
use crate::knowledge::needs_known;
use crate::load::{Loaded, Store};

/// The best move of every state of a level.
pub struct BestMoves<'l> {
    level: &'l Loaded,
    guide: Guide,
}

/// Finds the best move of every state.
///
/// # Errors
///
/// [`Trouble`] without a goal, with hidden things, when the model breaks, or when a limit is hit: half a table would name
/// moves that are not the best.
pub fn best_moves<'l>(store: &Store, level: &'l Loaded, budget: &Budget) -> Result<BestMoves<'l>, Trouble> {
    needs_known(level, "odds --best-moves")?;
    if !level.game.bound.model.has_goal() {
        return Err("--best-moves wants a goal: it names the moves after which winning is likeliest".into());
    }
    match Guide::new(&level.game, &budget.limits(), budget) {
        Ok(guide) => match guide.counts.limit {
            Some(limit) => Err(limit.into()),
            None => Ok(BestMoves { level, guide }),
        },
        Err(NoOdds::Limit(limit, _)) => Err(limit.into()),
        Err(NoOdds::Fault(fault)) => {
            let place = fendle_core::explore::Faulted { fault, ..Default::default() };
            Err(Trouble::Fault(Box::new(fault_report(store, level, &place))))
        }
    }
}

/// Takes a state, its best move, and the chance to win after it.
pub type EachLine<'e> = &'e mut dyn FnMut(&str, &str, (f64, f64)) -> io::Result<()>;

impl BestMoves<'_> {
    /// Calls `each` with every state from which a goal can be reached, as `--at` takes it, its best move, and the chance to win
    /// after that: at least, at most.
    ///
    /// # Errors
    ///
    /// Those of `each`.
    pub fn each(&self, each: EachLine<'_>) -> io::Result<()> {
        let game = &self.level.game;
        for s in 0..self.guide.len() as u32 {
            if self.guide.class(s) != Class::Winnable {
                continue;
            }
            if let Some((of, win)) = self.guide.best(s) {
                let line = game.bound.line(&game.unpack(&self.guide.state(s)));
                each(&line, self.level.moves.name(of.0 as usize), win)?;
            }
        }
        Ok(())
    }
}

/// The best chance to win before a move of a play, after the move, and after what was drawn: at least, at most.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Chances {
    /// Before the move, with best play.
    pub before: (f64, f64),
    /// After the move, over all that can be drawn.
    pub moved: (f64, f64),
    /// After what was drawn.
    pub after: (f64, f64),
}

impl Chances {
    /// How much of the chance the move gave away: at least, at most.
    #[must_use]
    pub fn given_away(&self) -> (f64, f64) {
        let of = |a: f64, b: f64| (a - b).max(0.0);
        (of(self.before.0, self.moved.1), of(self.before.1, self.moved.0))
    }
}

/// One move of a play: the state before it, its number, the state after it.
pub type Made = (Vec<i32>, usize, Vec<i32>);

/// Where the states before and after a move stand in a list, and its outcomes with their chances.
type Played = (usize, usize, Vec<(usize, f64)>);

/// Outcomes of one move over which the chance after it is taken.
const OUTCOMES_MAX: usize = 20_000;

/// What each move of a play was worth; `None` for all where the space cannot be valued, and for a move with very many
/// outcomes.
///
/// # Errors
///
/// [`Trouble`] when the model breaks.
pub fn chances(
    store: &Store,
    level: &Loaded,
    play: &[Made],
    budget: &Budget,
) -> Result<Vec<Option<Chances>>, Trouble> {
    let game = &level.game;
    let none = || vec![None; play.len()];
    let Ok(guide) = Guide::new(game, &budget.limits(), budget) else { return Ok(none()) };
    // Where each of them stands among the wanted states, and the outcomes with their chances.
    let mut wanted: Vec<Vec<u64>> = vec![];
    let mut steps: Vec<Option<Played>> = vec![];
    for (before, of, after) in play {
        if budget.is_stopped() {
            return Ok(none());
        }
        let made = step(&game.bound, &level.moves, before, *of, false)
            .map_err(|f| trouble_of(store, level, budget, &f, (before, Some(level.moves.name(*of)))))?;
        let Tried::Made(list) = made else { return Ok(none()) };
        if list.len() > OUTCOMES_MAX || list.iter().any(|p| p.made.cut) {
            steps.push(None);
            continue;
        }
        let mut place = |state: &[i32]| {
            wanted.push(game.pack(state));
            wanted.len() - 1
        };
        let (b, a) = (place(before), place(after));
        let outcomes =
            list.iter().map(|p| (place(&p.made.state), p.made.chance.num as f64 / p.made.chance.den as f64));
        let outcomes = outcomes.collect();
        steps.push(Some((b, a, outcomes)));
    }
    let found = guide.find(&wanted);
    let win = |i: usize| found[i].map(|s| guide.win(s));
    Ok(steps
        .into_iter()
        .map(|s| {
            let (before, after, outcomes) = s?;
            let mut moved = (0.0f64, 0.0f64);
            for (i, chance) in outcomes {
                let (lo, hi) = win(i)?;
                // Outward at each step: the chance itself is rounded.
                moved.0 = (moved.0 + (chance.next_down() * lo).next_down()).next_down().max(0.0);
                moved.1 = (moved.1 + (chance.next_up() * hi).next_up()).next_up().min(1.0);
            }
            Some(Chances { before: win(before)?, moved, after: win(after)? })
        })
        .collect())
}
