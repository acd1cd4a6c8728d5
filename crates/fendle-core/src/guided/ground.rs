//! What a guided search runs on.

use crate::limits::Limit;
use crate::model::{Expansion, Layout, Model, Status, Stopped, Worker};
use crate::relaxed::bounds::Judge;
use crate::relaxed::{Bounds, Task};

/// A state that was reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reached {
    /// The step that leads to it.
    pub label: u32,
    /// What the step costs.
    pub cost: u32,
    /// What a goal still costs at the least.
    pub least: u32,
    /// What a goal may still cost, by a guess that may be wrong.
    pub guess: u32,
    /// It is a goal.
    pub goal: bool,
}

/// The states that one state leads to, packed one after the other.
#[derive(Clone, Debug, Default)]
pub struct Reach {
    /// Packed states.
    pub states: Vec<u64>,
    /// What each is.
    pub list: Vec<Reached>,
    /// States that were left out since no goal can be reached from them.
    pub cut: u64,
}

impl Reach {
    /// Forgets all.
    pub fn clear(&mut self) {
        self.states.clear();
        self.list.clear();
    }
}

/// What a search remembers of a state: what a goal still costs from it at the least, and by the guess. `None`: it was not met.
/// Only states that are no goal are remembered.
pub type Memory<'a> = dyn Fn(&[u64]) -> Option<(u32, u32)> + Sync + 'a;

/// What is wanted to be known of the states that one state leads to.
#[derive(Clone, Copy)]
pub struct Request<'a> {
    /// Of these it is known already; nothing is asked of them.
    pub met: &'a Memory<'a>,
    /// Whether the guess is wanted.
    pub guess: bool,
}

impl Request<'_> {
    /// A state that is remembered, reached by a step.
    pub(super) fn remembered(&self, state: &[u64], label: u32, cost: u32) -> Option<Reached> {
        let (least, guess) = (self.met)(state)?;
        Some(Reached { label, cost, least, guess, goal: false })
    }
}

/// Looks at states, with memory of its own: one for each thread.
pub trait Scout: Send {
    /// Appends what a state leads to.
    ///
    /// # Errors
    ///
    /// A fault of the model, or a limit.
    fn reach(&mut self, state: &[u64], wanted: Request<'_>, out: &mut Reach) -> Result<(), Stopped>;

    /// What the start is.
    ///
    /// # Errors
    ///
    /// A fault of the model, or a limit. `Ok(None)`: no goal can be reached from it.
    fn start(&mut self, state: &[u64]) -> Result<Option<Reached>, Stopped>;
}

/// What is searched.
pub trait Ground: Sync {
    /// The shape of a packed state.
    fn layout(&self) -> Layout;
    /// Where it begins.
    fn start(&self) -> Vec<u64>;
    /// One who looks at states.
    fn scout(&self) -> Box<dyn Scout + '_>;
}

/// The greatest guess.
const FAR_AWAY: f64 = 60_000.0;

/// Writes the values of a packed state.
pub type Unpack<'a> = dyn Fn(&[u64], &mut Vec<i32>) + Sync + 'a;

/// A model as ground: every allowed move is a step of cost 1, or of what it counts, its label is the number of the move. The guess is what the model promises of a
/// state: how far its goal looks.
pub struct Moves<'m> {
    /// The model.
    pub model: &'m dyn Model,
    /// Where the search begins.
    pub start: Vec<u64>,
    /// Relaxed puzzles, and how their values are read from a packed state.
    pub bounds: Option<(&'m Task, &'m Bounds, &'m Unpack<'m>)>,
    /// Whether what the model promises is asked.
    pub asks_promise: bool,
    /// Whether a step costs what the move counts.
    pub counts: bool,
}

struct MovesScout<'m> {
    worker: Box<dyn Worker + 'm>,
    judge: Option<(Judge<'m>, &'m Unpack<'m>)>,
    asks_promise: bool,
    counts: bool,
    values: Vec<i32>,
    out: Expansion,
}

impl Ground for Moves<'_> {
    fn layout(&self) -> Layout {
        self.model.layout()
    }

    fn start(&self) -> Vec<u64> {
        self.start.clone()
    }

    fn scout(&self) -> Box<dyn Scout + '_> {
        let judge = self.bounds.as_ref().map(|(task, bounds, unpack)| (bounds.judge(task), *unpack));
        let worker = self.model.worker();
        let out = Expansion::default();
        Box::new(MovesScout {
            worker,
            judge,
            asks_promise: self.asks_promise,
            counts: self.counts,
            values: vec![],
            out,
        })
    }
}

/// What a state is, as far as a search goes on from it.
enum Sight {
    GoesOn(Reached),
    /// It is lost or over.
    Ended,
    /// Relaxed puzzles say that no goal can be reached from it.
    NoWay,
}

impl MovesScout<'_> {
    /// What a state is.
    fn seen(&mut self, state: &[u64], label: u32, guess: bool) -> Result<Sight, Stopped> {
        // A promise proves nothing: where it cannot be asked, the state looks far away.
        let (status, looks) = match guess && self.asks_promise {
            true => self.worker.status_and_promise(state)?,
            false => (self.worker.status(state)?, Some(0.0)),
        };
        let goal = match status {
            Status::Running => false,
            Status::Goal => true,
            Status::Cut => return Err(Limit::SetAside.into()),
            Status::Lost(_) | Status::Over(_) => return Ok(Sight::Ended),
        };
        let mut out = Reached { label, cost: 1, least: 0, guess: 0, goal };
        if goal {
            return Ok(Sight::GoesOn(out));
        }
        if let Some((judge, unpack)) = &mut self.judge {
            unpack(state, &mut self.values);
            match judge.says(&self.values).least {
                None => return Ok(Sight::NoWay),
                Some(least) => out.least = least,
            }
        }
        out.guess = looks.unwrap_or(FAR_AWAY).clamp(0.0, FAR_AWAY) as u32;
        Ok(Sight::GoesOn(out))
    }
}

impl Scout for MovesScout<'_> {
    fn reach(&mut self, state: &[u64], wanted: Request<'_>, out: &mut Reach) -> Result<(), Stopped> {
        let mut made = std::mem::take(&mut self.out);
        made.clear();
        self.worker.expand(state, false, &mut made);
        let end = match (made.faults.first(), made.unfinished.first()) {
            (Some((_, fault)), _) => Err((*fault).into()),
            (_, Some((_, limit))) => Err((*limit).into()),
            _ => Ok(()),
        };
        let words = state.len();
        let mut at = 0;
        for run in &made.runs {
            let cost = match self.counts {
                true => self.worker.counts(state, run.of),
                false => Ok(1),
            };
            let cost = match cost {
                Ok(cost) => cost,
                Err(fault) => {
                    self.out = made;
                    return Err(fault.into());
                }
            };
            for _ in 0..run.outcomes {
                let next = &made.outcomes[at * words..(at + 1) * words];
                at += 1;
                if let Some(known) = wanted.remembered(next, run.of.0, cost) {
                    out.states.extend_from_slice(next);
                    out.list.push(known);
                    continue;
                }
                match self.seen(next, run.of.0, wanted.guess) {
                    Ok(Sight::GoesOn(reached)) => {
                        out.states.extend_from_slice(next);
                        out.list.push(Reached { cost, ..reached });
                    }
                    Ok(Sight::Ended) => {}
                    Ok(Sight::NoWay) => out.cut += 1,
                    Err(stopped) => {
                        self.out = made;
                        return Err(stopped);
                    }
                }
            }
        }
        self.out = made;
        end
    }

    fn start(&mut self, state: &[u64]) -> Result<Option<Reached>, Stopped> {
        match self.seen(state, u32::MAX, true)? {
            Sight::GoesOn(reached) => Ok(Some(reached)),
            Sight::Ended | Sight::NoWay => Ok(None),
        }
    }
}
