//! What the rules tell of one state, without a search: how the game stands there, and whether a move is left.

use std::cell::{Cell, RefCell};

use fendle_core::{Model as _, Status, Worker};
use fendle_lang::Game;
use fendle_lang::model::{Asked as Question, Body};
use fendle_lang::run::{Eval, RunFault};

/// Answers what a condition asks of a state beside its values, as far as the rules tell it.
pub(crate) struct ByRules<'g> {
    game: &'g Game,
    worker: RefCell<Box<dyn Worker + 'g>>,
}

impl<'g> ByRules<'g> {
    pub(crate) fn new(game: &'g Game) -> ByRules<'g> {
        ByRules { game, worker: RefCell::new(game.worker()) }
    }

    /// What is asked of a packed state; `None` where only a search can tell, or the model breaks there.
    pub(crate) fn tell(&self, state: &[u64], asked: Question) -> Option<i64> {
        let mut worker = self.worker.borrow_mut();
        let status = worker.status(state).ok().filter(|s| *s != Status::Cut)?;
        let runs = status == Status::Running;
        let is = match asked {
            Question::Running => runs,
            Question::Won => status == Status::Goal,
            Question::Lost => matches!(status, Status::Lost(_)),
            Question::Over => matches!(status, Status::Over(_)),
            Question::Certain if status == Status::Goal => true,
            Question::Stuck => runs && worker.allowed(state).ok()?.is_empty(),
            Question::Depth => return None,
            Question::Dead | Question::Winnable | Question::Certain => {
                let goes_on = runs && self.game.has_goal() && !worker.allowed(state).ok()?.is_empty();
                return (!goes_on).then_some(0);
            }
        };
        Some(is.into())
    }

    /// Whether a condition holds of a position; `None` where only all positions together can tell.
    ///
    /// # Errors
    ///
    /// [`RunFault`] when the condition breaks.
    pub(crate) fn holds(&self, body: &Body, state: &[i32]) -> Result<Option<bool>, RunFault> {
        let lacked = Cell::new(false);
        let oracle = |state: &[i32], asked: Question| {
            self.tell(&self.game.pack(state), asked).unwrap_or_else(|| {
                lacked.set(true);
                0
            })
        };
        let holds = Eval::with_oracle(&self.game.bound, &oracle).value_in(body, state)? != 0;
        Ok((!lacked.get()).then_some(holds))
    }
}
