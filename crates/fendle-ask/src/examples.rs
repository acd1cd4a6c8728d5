//! Games that are played for an example, where moves have more outcomes than are written down: what is met in one of them can
//! be met. That something is not met proves nothing.

use fendle_core::Model as _;
use fendle_core::ahead::Ahead;
use fendle_core::simulate::Policy;
use fendle_lang::Game;
use fendle_lang::play::{Tried, step_drawn};
use fendle_lang::run::RunFault;
use fendle_lang::run::setup::Dice;
use serde::Serialize;

use crate::answer::{Trouble, limit_of};
use crate::budget::Budget;
use crate::load::Loaded;
use crate::routes::call_text;

/// Games that are played for an example: by moves at random, and by look-ahead.
const EXAMPLES: [(Policy, u64); 2] = [(Policy::Random, 24), (Policy::Ahead(300), 12)];
/// Moves of a game that is played for an example.
const EXAMPLE_MOVES: usize = 400;

/// How many games were played for an example.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Sampled {
    /// Games.
    pub plays: u64,
    /// Positions that were met in them, each time it was met.
    pub positions: u64,
    /// The seed of the dice.
    pub seed: u64,
}

/// The moves of a game, with what was drawn, and its states.
pub(crate) type Example = (Vec<String>, Vec<Vec<i32>>);

/// A game in which something is met, among some that are played by the reference executor on dice by seed. `wanted` is asked of
/// every position, the start with them.
pub(crate) fn example(
    level: &Loaded,
    budget: &Budget,
    wanted: &mut dyn FnMut(&[i32]) -> Result<bool, RunFault>,
) -> Result<(Option<Example>, Sampled), Trouble> {
    // Moves are named as they are, also where states have a form.
    let game = &level.game.apart();
    let mut sampled = Sampled { seed: budget.wanted().seed, ..Sampled::default() };
    for (policy, plays) in EXAMPLES {
        for play in 0..plays {
            let dice = Dice::new(budget.wanted().seed ^ (play << 32));
            let mut game = One { level, game, budget, dice, names: vec![], states: vec![] };
            let met = game.play(policy, &mut |state| {
                sampled.positions += 1;
                wanted(state)
            });
            let met = match met {
                Err(f) if limit_of(&f, budget).is_none() => {
                    return Err(Trouble::Message(format!("the model breaks: {f}")));
                }
                met => met.unwrap_or(false),
            };
            if budget.is_stopped() && !met {
                return Ok((None, sampled));
            }
            sampled.plays += 1;
            if met {
                return Ok((Some((game.names, game.states)), sampled));
            }
        }
    }
    Ok((None, sampled))
}

/// One game that is being played.
struct One<'g> {
    level: &'g Loaded,
    game: &'g Game,
    budget: &'g Budget,
    dice: Dice,
    names: Vec<String>,
    states: Vec<Vec<i32>>,
}

impl One<'_> {
    /// Plays until something is met, the game ends, or the time does. Whether it was met.
    fn play(
        &mut self,
        policy: Policy,
        met: &mut dyn FnMut(&[i32]) -> Result<bool, RunFault>,
    ) -> Result<bool, RunFault> {
        let (game, b) = (self.game, &self.game.bound);
        let mut ahead = match policy {
            Policy::Ahead(states) => Some(Ahead::new(game, states, self.budget)),
            _ => None,
        };
        let mut worker = game.worker();
        let mut state = b.position.clone();
        self.states.push(state.clone());
        if met(&state)? {
            return Ok(true);
        }
        while self.names.len() < EXAMPLE_MOVES && !self.budget.is_stopped() {
            let packed = game.pack(&state);
            let chosen = match &mut ahead {
                Some(ahead) => ahead.choose(&packed).ok().flatten(),
                None => {
                    let moves = worker.allowed(&packed).unwrap_or_default();
                    (!moves.is_empty()).then(|| moves[self.dice.below(moves.len() as u64) as usize])
                }
            };
            let Some(of) = chosen else { break };
            let moves = &self.level.moves;
            let step = step_drawn(b, moves, &state, of.0 as usize, false, &mut self.dice)?;
            let Tried::Made(made) = step else { break };
            let Some(played) = made.into_iter().next().filter(|p| !p.made.cut) else { break };
            self.names.push(call_text(moves.name(of.0 as usize), &played));
            state.clone_from(&played.made.state);
            self.states.push(state.clone());
            if met(&state)? {
                return Ok(true);
            }
            if played.ended.is_some() {
                break;
            }
        }
        Ok(false)
    }
}
