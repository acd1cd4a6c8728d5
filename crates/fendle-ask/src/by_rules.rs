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
        let unknown = Unknown::default();
        let oracle = |state: &[i32], asked: Question| {
            let packed = self.game.pack(state);
            self.tell(&packed, asked).unwrap_or_else(|| unknown.answer(&packed, asked))
        };
        let eval = RefCell::new(Eval::with_oracle(&self.game.bound, &oracle));
        unknown.in_every_case(|| Ok(eval.borrow_mut().value_in(body, state)? != 0))
    }
}

/// Cases up to which answers that are not known are tried.
const CASES_MAX: usize = 64;

/// Answers that are not known. A condition may be told all the same, where it holds whatever they are, or does not.
#[derive(Default)]
pub struct Unknown {
    /// What was asked so far, in this order, and what was answered in the case that is tried.
    tried: RefCell<Vec<(Vec<u64>, Question, bool)>>,
    /// Something was asked that has more than two answers.
    open: Cell<bool>,
}

impl Unknown {
    /// The answer of the case that is tried, to a question about a packed state that nobody can answer.
    pub fn answer(&self, state: &[u64], asked: Question) -> i64 {
        if asked == Question::Depth {
            self.open.set(true);
            return 0;
        }
        let mut tried = self.tried.borrow_mut();
        match tried.iter().find(|t| t.1 == asked && t.0 == state) {
            Some(known) => known.2.into(),
            None => {
                tried.push((state.to_vec(), asked, false));
                0
            }
        }
    }

    /// What a condition says in every case; `None` where it depends on what is not known, or the cases are too many.
    ///
    /// # Errors
    ///
    /// [`RunFault`] when it breaks and nothing was asked that is not known.
    pub fn in_every_case(
        &self,
        mut ask: impl FnMut() -> Result<bool, RunFault>,
    ) -> Result<Option<bool>, RunFault> {
        self.tried.borrow_mut().clear();
        self.open.set(false);
        let first = ask();
        if self.tried.borrow().is_empty() && !self.open.get() {
            return first.map(Some);
        }
        let Ok(first) = first else { return Ok(None) };
        for _ in 1..CASES_MAX {
            if self.open.get() {
                return Ok(None);
            }
            // The next case: as in counting with two digits. What is asked after the last change depends on it.
            {
                let mut tried = self.tried.borrow_mut();
                while tried.pop_if(|last| last.2).is_some() {}
                match tried.last_mut() {
                    None => return Ok(Some(first)),
                    Some(last) => last.2 = true,
                }
            }
            if !matches!(ask(), Ok(holds) if holds == first) {
                return Ok(None);
            }
        }
        Ok(None)
    }
}
