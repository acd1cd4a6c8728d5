//! Ways in which a model can break while it runs.

use fendle_core::Limit;

use super::*;

/// Ways in which a model can break while it runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum FaultKind {
    /// A value that a variable may not hold.
    OutOfDomain,
    /// A place off the board, where a cell is wanted.
    OffBoard,
    /// A number that grows too large.
    Overflow,
    /// A division by zero.
    DivideByZero,
    /// A `repeat` that is not done at its bound.
    RepeatBound,
    /// A loop over too many numbers.
    LoopTooLong,
    /// Nothing to choose from, and one is wanted.
    NoMatch,
    /// Several to choose from, and exactly one is wanted.
    TwoMatches,
    /// The parity of a grid in which a value stands twice.
    ParityOfEqual,
    /// A place too far from the board.
    TooFarAway,
    /// A grid that is no rearrangement of its start any more.
    NotRearranged,
    /// Lists that no longer hold each of their values once.
    NotSpread,
    /// A law that a state breaks.
    AlwaysBroken,
    /// A quantity that a move changes, and should not.
    KeepsBroken,
    /// A transition of too many steps.
    StepBudget,
    /// A list without room.
    ListFull,
    /// A list without entries.
    ListEmpty,
    /// An entry that a list does not have.
    NoEntry,
    /// A value that is no entry.
    NotInList,
    /// A draw from nothing.
    NothingToDraw,
    /// A weight that is none.
    BadWeight,
    /// A number that a move cannot count.
    BadCount,
    /// Chances that are too fine to be kept exactly: a limit of the machine.
    TooFine,
    /// Somebody said stop.
    Stopped,
    /// More outcomes than are kept: a limit of the machine.
    TooManyOutcomes,
    /// `none`, where a value is wanted.
    NoneGiven,
    /// A place that a shape does not cover.
    NotCovered,
    /// More values than fit a lane.
    WrittenTooLong,
}

/// A model fault: what broke, where in the model, on which value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct RunFault {
    /// What broke.
    pub kind: FaultKind,
    /// Where in the model's text.
    pub span: Span,
    /// A number that belongs to it, such as the value that fits nowhere.
    pub value: i64,
}

impl RunFault {
    /// Whether it is a limit of the machine and no fault of the model: see [`FaultKind::limit`].
    #[must_use]
    pub fn is_limit(&self) -> bool {
        self.kind.limit().is_some()
    }
}

impl FaultKind {
    /// The limit of the machine that it stands for, if it is no fault of the model: too many outcomes, chances that are too
    /// fine, or somebody who said stop (then whoever did knows which limit it was).
    #[must_use]
    pub fn limit(self) -> Option<Limit> {
        match self {
            FaultKind::TooManyOutcomes => Some(Limit::Outcomes),
            FaultKind::TooFine => Some(Limit::TooFine),
            FaultKind::Stopped => Some(Limit::Time),
            _ => None,
        }
    }
}

impl fmt::Display for RunFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let v = self.value;
        match self.kind {
            FaultKind::OutOfDomain => write!(f, "{v} is not among the values this may hold"),
            FaultKind::OffBoard => write!(f, "this place is off the board"),
            FaultKind::Overflow => write!(f, "this number grows too large"),
            FaultKind::DivideByZero => write!(f, "division by zero"),
            FaultKind::RepeatBound => {
                write!(f, "still not done after {v} rounds, the bound of this `repeat`")
            }
            FaultKind::LoopTooLong => write!(f, "this loop would run {v} times; {LOOP_MAX} are allowed"),
            FaultKind::NoMatch => write!(f, "nothing matches, and one is wanted"),
            FaultKind::TwoMatches => write!(f, "more than one matches, and exactly one is wanted"),
            FaultKind::ParityOfEqual => write!(f, "`parity` of a grid in which {v} stands twice"),
            FaultKind::TooFarAway => write!(f, "this place is too far from the board"),
            FaultKind::NotRearranged => write!(f, "this grid is no rearrangement of its start any more"),
            FaultKind::NotSpread => write!(f, "these lists no longer hold each of their values once"),
            FaultKind::AlwaysBroken => write!(f, "a law of the model is broken"),
            FaultKind::KeepsBroken => write!(f, "a move changes this quantity, which no move should"),
            FaultKind::ListFull => write!(f, "this list is full: it holds {v}"),
            FaultKind::ListEmpty => write!(f, "this list is empty"),
            FaultKind::NoEntry => write!(f, "this list has no entry {v}"),
            FaultKind::NotCovered => write!(f, "the shape does not cover this place"),
            FaultKind::NotInList => write!(f, "this is not in there"),
            FaultKind::NothingToDraw => {
                write!(f, "there is nothing to draw from; say what happens then with `else {{ ... }}`")
            }
            FaultKind::BadCount => write!(f, "{v} is nothing that a move may count: 0 to {COUNT_MAX} are"),
            FaultKind::BadWeight => write!(f, "{v} is no weight: 0 to {WEIGHT_MAX} are"),
            FaultKind::TooFine => write!(
                f,
                "the chances of this move are too fine to be kept exactly; a lower bound of its cascade, with `else cut`, sets rare branches aside"
            ),
            FaultKind::Stopped => write!(f, "this was stopped"),
            FaultKind::TooManyOutcomes => write!(f, "this move has more than {OUTCOMES_MAX} outcomes"),
            FaultKind::NoneGiven => write!(f, "this is `none`, and a value is wanted"),
            FaultKind::WrittenTooLong => write!(f, "{v} values do not fit this lane"),
            FaultKind::StepBudget => write!(f, "one transition took more than {STEP_BUDGET} loop steps"),
        }
    }
}
