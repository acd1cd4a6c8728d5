//! One move tried in one position, by the rules of a model or of a faulty variant of it, and in what two results differ.

use fendle_lang::Bound;
use fendle_lang::play::MoveTable;
use fendle_lang::run::marks::Mark;
use fendle_lang::run::{Eval, FaultKind, Outcome, RunFault, TraceEvent};
use serde::Serialize;

/// A move in a position, with what is drawn.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trial {
    /// The position, by its number among those that were met.
    pub state: u32,
    /// The move, by its number.
    pub number: u32,
    /// At each draw the number of the thing that is taken.
    pub take: Vec<usize>,
    /// The position that it leads to, where it is made.
    pub to: Option<u32>,
}

/// Something that was drawn.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct DrawnThing {
    /// What, as the board shows it.
    pub what: String,
    /// Its chance among what could be drawn there, as a fraction.
    pub chance: String,
    /// How many things could.
    pub of: usize,
}

/// What a move did.
#[derive(Clone, Debug, PartialEq)]
pub struct Done {
    /// What was drawn, in order.
    pub draws: Vec<DrawnThing>,
    /// The position after it.
    pub state: Vec<i32>,
    /// The ending that holds there, in words; `None` while play goes on.
    pub ended: Option<String>,
    /// Score gained.
    pub score: i64,
    /// The phases, with the position at the end of each.
    pub phases: Vec<(String, Vec<i32>)>,
    /// It was set aside by `else cut`.
    pub cut: bool,
    /// What follows from the position and is shown: each value, or cell by cell.
    shown: Vec<Vec<i32>>,
}

/// The result of a trial.
#[derive(Clone, Debug, PartialEq)]
pub enum Seen {
    /// The game has ended before: how.
    Over(String),
    /// The move is not offered.
    NotOffered,
    /// It is refused: why, and the places that are named.
    Refused(String, Vec<(i64, i64)>),
    /// It was made.
    Made(Box<Done>),
    /// The model breaks.
    Breaks(FaultKind),
}

/// In what two results differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Differs {
    /// In nothing.
    No,
    /// In reasons, named cells or phases alone: a test that compares boards does not see it.
    Told,
    /// In what is allowed, in the board, the score, the status, or in what is drawn.
    Yes,
}

/// What was run on the way.
#[derive(Clone, Debug, Default)]
pub struct Run {
    /// The ways that statements went.
    pub marks: Vec<Mark>,
    /// How many things there were at each draw.
    pub of: Vec<usize>,
    /// Parts of expressions that were evaluated.
    pub work: u64,
}

/// The ending that holds in a state, in words.
///
/// # Errors
///
/// A model fault.
pub fn ended(b: &Bound, state: &[i32]) -> Result<Option<String>, RunFault> {
    let ending = Eval::new(b).status(state)?;
    Ok(ending.map(|e| b.ending_words(e)))
}

/// Tries a move in a state that is known to go on.
///
/// # Errors
///
/// Only where somebody said stop.
pub fn try_move(
    b: &Bound,
    moves: &MoveTable,
    state: &[i32],
    (number, take): (usize, &[usize]),
    run: &mut Run,
) -> Result<Seen, RunFault> {
    let (of, params) = &moves.list[number];
    let mut eval = Eval::marking(b);
    let tried = eval.apply_along(state, (*of, params), take);
    run.work += eval.work();
    let (outcome, things) = match tried {
        Ok(found) => found,
        Err(fault) if fault.kind == FaultKind::Stopped => return Err(fault),
        Err(fault) => return Ok(Seen::Breaks(fault.kind)),
    };
    run.of = things;
    let made = match outcome {
        Outcome::NotOffered => return Ok(Seen::NotOffered),
        Outcome::Refused(site, at) => {
            run.marks = eval.take_marks();
            let at = at.into_iter().map(fendle_lang::model::code::row_col).collect();
            return Ok(Seen::Refused(b.model.refuses[site].why.clone(), at));
        }
        Outcome::Done(mut list) => list.remove(0),
    };
    run.marks = made.marks;
    let mut done = Done {
        draws: vec![],
        ended: None,
        score: made.score,
        phases: vec![],
        cut: made.cut,
        shown: vec![],
        state: made.state,
    };
    for event in made.events {
        match event {
            TraceEvent::Phase { name, state } => done.phases.push((name, state)),
            TraceEvent::Draw { what, chance, of } => {
                done.draws.push(DrawnThing { what, chance: chance.to_string(), of });
            }
            TraceEvent::Note { .. } => {}
        }
    }
    if !done.cut {
        match ended(b, &done.state) {
            Ok(ended) => done.ended = ended,
            Err(fault) if fault.kind == FaultKind::Stopped => return Err(fault),
            Err(fault) => return Ok(Seen::Breaks(fault.kind)),
        }
    }
    if !b.model.derived.is_empty() {
        done.shown = Eval::new(b).derived(&done.state);
    }
    Ok(Seen::Made(Box::new(done)))
}

/// A whole trial: also where the game has ended before.
///
/// # Errors
///
/// Only where somebody said stop.
pub fn try_whole(
    b: &Bound,
    moves: &MoveTable,
    state: &[i32],
    step: (usize, &[usize]),
    run: &mut Run,
) -> Result<Seen, RunFault> {
    match ended(b, state) {
        Ok(None) => try_move(b, moves, state, step, run),
        Ok(Some(how)) => Ok(Seen::Over(how)),
        Err(fault) if fault.kind == FaultKind::Stopped => Err(fault),
        Err(fault) => Ok(Seen::Breaks(fault.kind)),
    }
}

impl Seen {
    /// In what another result differs from this one. `ended_at`: the place in a state that says by which ending a move ended the game; variants
    /// may number endings otherwise, and how the game stands is compared by words.
    #[must_use]
    pub fn differs(&self, other: &Seen, ended_at: usize) -> Differs {
        match (self, other) {
            (Seen::Made(a), Seen::Made(b)) => a.differs(b, ended_at),
            (Seen::NotOffered, Seen::NotOffered) => Differs::No,
            (Seen::Refused(..) | Seen::NotOffered, Seen::Refused(..) | Seen::NotOffered)
            | (Seen::Over(_), Seen::Over(_))
                if self != other =>
            {
                Differs::Told
            }
            _ if self == other => Differs::No,
            _ => Differs::Yes,
        }
    }
}

impl Done {
    fn differs(&self, other: &Done, ended_at: usize) -> Differs {
        let same_state = |a: &[i32], b: &[i32]| {
            a[..ended_at] == b[..ended_at]
                && a[(ended_at + 1).min(a.len())..] == b[(ended_at + 1).min(b.len())..]
        };
        let seen = self.cut == other.cut
            && same_state(&self.state, &other.state)
            && self.ended == other.ended
            && self.score == other.score
            && self.draws == other.draws
            && self.shown == other.shown;
        let told = self.phases.len() == other.phases.len()
            && self.phases.iter().zip(&other.phases).all(|(a, b)| a.0 == b.0 && same_state(&a.1, &b.1));
        match (seen, told) {
            (false, _) => Differs::Yes,
            (true, false) => Differs::Told,
            (true, true) => Differs::No,
        }
    }
}
