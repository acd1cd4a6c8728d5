//! Whether a condition can be brought about within the next few moves, by some play or by every one, for some draws or for all: exact on any board, however
//! large its space.
//!
//! The space is written out as far as so many moves lead, and one move more, so that what is stuck there is known. Then it is counted down:
//!
//! ```text
//! within 0 moves   where the condition holds
//! within k moves   there; and where a move (or every move) has an outcome (or only outcomes) from which it is so within k - 1
//! ```

use fendle_core::{Explored, Limit, Limits, Model as _, Pace, StateId};
use fendle_lang::model::{Asked as Question, Body, Ek};
use fendle_lang::play::{Played, Tried, step};
use serde::Serialize;

use crate::answer::{Answer, Asked, Trouble, Verdict, fault_report, start_breaks};
use crate::budget::Budget;
use crate::find::{Draws, Held, Marked, holding, read};
use crate::load::{Loaded, Store};

/// Which moves have to lead somewhere.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub enum Plays {
    /// One at least, in each position: the player is for it.
    #[serde(rename = "some move")]
    Some,
    /// All of them: whatever the player does.
    #[serde(rename = "every move")]
    Every,
}

/// Whether a condition is brought about within some moves.
#[derive(Clone, Debug, Serialize)]
pub struct Near {
    /// The condition.
    pub condition: String,
    /// How many moves were looked ahead.
    pub within: u32,
    /// Which moves have to lead there.
    pub plays: Plays,
    /// Which draws have to lead there.
    pub draws: Draws,
    /// The least number of moves within which it is so.
    pub after: Option<u32>,
    /// The first moves of a play that has it so soon; all moves, where every play has.
    pub first: Vec<String>,
    /// Everything that can happen in so many moves was seen.
    pub complete: bool,
    /// States that were seen.
    pub states: u64,
    /// Moves draw in this level.
    #[serde(skip)]
    pub chance: bool,
}

/// Asks whether a condition is brought about within `moves` moves.
///
/// # Errors
///
/// [`Trouble`] when the condition cannot be read, asks what only the whole space tells, or the model breaks.
pub fn near(
    store: &mut Store,
    level: &mut Loaded,
    condition: &str,
    (moves, plays, draws): (u32, Plays, Draws),
    budget: &Budget,
) -> Result<Answer<Near>, Trouble> {
    let body = read(store, level, condition)?;
    if let Some(word) = asks_of_all(&body) {
        return Err(Trouble::Message(format!(
            "`{word}` is known only when all positions are seen: --within asks of a few moves; leave it out"
        )));
    }
    let game = &level.game;
    let limits = Limits { drop_edges: false, number_from: u64::MAX, ..budget.limits() };
    let found = fendle_core::explore::explore_near(game, limits, moves, budget)
        .map_err(|f| start_breaks(level, &f))?;
    let Held { marked, limit: stopped, lacked } = holding(game, &found, (&body, moves), budget)?;
    if lacked && found.counts.limit.is_none() && found.fault.is_none() {
        let words = "what the condition asks of positions further on is known only when all positions are seen: leave --within out";
        return Err(words.into());
    }
    let mut out = Near {
        condition: condition.into(),
        within: moves,
        plays,
        draws,
        after: None,
        first: vec![],
        complete: false,
        states: found.counts.states,
        chance: !game.is_sure(),
    };
    let mut limit = found.counts.cut_short().or(stopped);
    match count_down(&found, marked, (moves, plays, draws), budget) {
        Ok(Some((after, before))) => {
            out.after = Some(after);
            out.first = first_moves(level, &found, &before, (plays, draws));
        }
        Ok(None) => {}
        Err(hit) => limit = limit.or(Some(hit)),
    }
    out.complete = limit.is_none();
    let fault = found.fault.as_ref().map(|f| fault_report(store, level, f));
    // With all draws or all moves, what was not seen may be otherwise.
    let is_sure = plays == Plays::Some && draws == Draws::Some || out.complete && fault.is_none();
    let holds = match (out.after, is_sure) {
        (Some(_), true) => Verdict::Holds,
        (None, _) if out.complete && fault.is_none() => Verdict::Fails,
        _ => Verdict::Undecided,
    };
    let states = out.states;
    Ok(Answer::new(Asked::of(level), holds, out).stopped(limit, budget).faulted(fault).took(budget, states))
}

/// A word of a condition that asks of the whole space.
fn asks_of_all(body: &Body) -> Option<&'static str> {
    let mut found = None;
    body.expr.each(&mut |e| {
        let word = match e.kind {
            Ek::Asked(Question::Dead) => "dead",
            Ek::Asked(Question::Winnable) => "winnable",
            Ek::Asked(Question::Certain) => "certain",
            _ => return,
        };
        found.get_or_insert(word);
    });
    found
}

/// The moves from the start that have it so one move sooner; none where every move has.
fn first_moves(
    level: &Loaded,
    found: &Explored,
    before: &Marked,
    (plays, draws): (Plays, Draws),
) -> Vec<String> {
    let game = &level.game;
    if plays == Plays::Every || found.space.starts().len() > 1 {
        return vec![];
    }
    let is_so = |p: &Played| {
        let id = found.space.find(&game.pack(&p.made.state));
        id.is_some_and(|id| before.has(id))
    };
    let leads = |n: &usize| match step(&game.bound, &level.moves, &game.bound.position, *n, false) {
        Ok(Tried::Made(list)) if draws == Draws::Some => list.iter().any(is_so),
        Ok(Tried::Made(list)) => list.iter().all(is_so),
        _ => false,
    };
    (0..level.moves.list.len()).filter(leads).map(|n| level.moves.name(n).to_string()).collect()
}

/// What holds within one move less, by state.
type Before = Marked;

/// The least number of moves within which it is so from the start (from every one, where it is to be for every draw), and where it is so within one
/// less.
fn count_down(
    found: &Explored,
    mut marked: Marked,
    (moves, plays, draws): (u32, Plays, Draws),
    budget: &Budget,
) -> Result<Option<(u32, Before)>, Limit> {
    let space = &found.space;
    let mut pace = Pace::new(budget);
    let is_so = |marked: &Marked, starts: &[StateId]| match draws {
        Draws::Some => starts.iter().any(|s| marked.has(*s)),
        Draws::Every => starts.iter().all(|s| marked.has(*s)),
    };
    if is_so(&marked, space.starts()) {
        return Ok(Some((0, Marked::of(space))));
    }
    for k in 1..=moves {
        let before = marked.clone();
        for depth in 0..=(moves - k).min(space.levels_len() - 1) {
            space.each_edges(depth, |id, edges| {
                let mut some = false;
                let mut every = !edges.is_empty();
                for outcomes in edges.split_inclusive(|e| e.last) {
                    let mut hits = outcomes.iter().map(|e| before.has(e.to));
                    let so = match draws {
                        Draws::Some => hits.any(|h| h),
                        Draws::Every => hits.all(|h| h),
                    };
                    some |= so;
                    every &= so;
                }
                if if plays == Plays::Some { some } else { every } {
                    marked.add(id);
                }
            });
            pace.step(2 * space.level_len(depth))?;
        }
        if is_so(&marked, space.starts()) {
            return Ok(Some((k, before)));
        }
    }
    Ok(None)
}
