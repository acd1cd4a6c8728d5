//! What each move of a finished or broken-off play cost.

use fendle_core::graph::Distances;
use fendle_core::{Class, Explored, Limit, Model as _};
use fendle_lang::play::{Call, Session, Tried, Turn, is_won, place_name};
use fendle_lang::run::setup::Dice;
use serde::{Serialize, Serializer};
use serde_json::json;

use crate::answer::{Answer, Asked, Trouble, Verdict, limit_of};
use crate::budget::Budget;
use crate::explore::searched_within;
use crate::guide::{Chances, Made, chances};
use crate::knowledge::needs_known;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::routes::{call_text, class_word};
use crate::why::relaxed_of_large;

/// States of a level that is too large to be seen whole which are looked at.
const SEEN_OF_LARGE: u64 = 200_000;

/// A position as the review sees it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Seen {
    /// Its class.
    pub class: Class,
    /// Moves to the nearest goal.
    pub far: Option<u32>,
    /// Where that is not known: moves that a goal needs at the least.
    pub least: Option<u32>,
}

impl Seen {
    fn of(found: &Explored, far: &Distances, packed: &[u64]) -> Seen {
        match found.space.find(packed) {
            Some(id) => {
                let class = found.space.class(id);
                let far = far.get(id).filter(|_| class.is_hopeful());
                Seen { class, far, least: None }
            }
            None => Seen { class: Class::Open, far: None, least: None },
        }
    }

    /// In one word: `won`, the moves to a goal, `dead`, or `?` where it is not decided.
    #[must_use]
    pub fn text(self) -> String {
        match (self.class, self.far) {
            (Class::Goal, _) => "won".into(),
            (Class::Winnable, Some(n)) => n.to_string(),
            (Class::Open, _) => self.least.map_or("?".into(), |n| format!("{n} or more")),
            (class, _) => class_word(class).into(),
        }
    }
}

/// One attempt of the play.
#[derive(Clone, Debug)]
pub struct Attempt {
    /// Its number among the moves that were made, from 1; `None` for a refused one.
    pub number: Option<usize>,
    /// The move, and what was drawn.
    pub name: String,
    /// Why it was refused.
    pub refused: Option<String>,
    /// Before it.
    pub before: Seen,
    /// After it.
    pub after: Seen,
    /// With chance: what it did to the best chance to win.
    pub chances: Option<Chances>,
}

impl Attempt {
    /// Moves lost against the best one; `None` where the way is lost or unknown.
    #[must_use]
    pub fn cost(&self) -> Option<u32> {
        match (self.before.far, self.after.far, self.after.class) {
            (Some(was), Some(is), Class::Winnable | Class::Goal) => Some((is + 1).saturating_sub(was)),
            _ => None,
        }
    }

    /// Whether it is a fatal move.
    #[must_use]
    pub fn is_fatal(&self) -> bool {
        let before = matches!(self.before.class, Class::Winnable | Class::Open);
        self.refused.is_none() && before && self.after.class.is_bad()
    }
}

impl Serialize for Attempt {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let mut out = json!({
            "number": self.number,
            "move": self.name,
            "refused": self.refused,
            "distance_before": self.before.far,
            "distance_after": self.after.far,
            "least_before": self.before.far.or(self.before.least),
            "least_after": self.after.far.or(self.after.least),
            "cost": self.cost().filter(|_| self.refused.is_none()),
            "verdict": class_word(self.after.class),
            "fatal": self.is_fatal(),
        });
        if let Some(c) = &self.chances {
            let bounds = |b: (f64, f64)| json!({"at_least": b.0, "at_most": b.1});
            out["best_chance_before"] = bounds(c.before);
            out["best_chance_after_the_move"] = bounds(c.moved);
            out["best_chance_after_the_draw"] = bounds(c.after);
            out["chance_given_away"] = bounds(c.given_away());
        }
        out.serialize(s)
    }
}

/// A play reviewed.
#[derive(Clone, Debug, Serialize)]
pub struct Review {
    /// Distances are those of lucky draws.
    pub if_lucky: bool,
    /// The least number of moves from the start.
    pub minimum: Option<u32>,
    /// Moves that were made.
    pub moves: usize,
    /// Attempts that were refused.
    pub refused: usize,
    /// Moves lost before the first fatal one.
    pub moves_lost: u32,
    /// The number of the first fatal move, from 1.
    pub first_fatal_move: Option<usize>,
    /// Before it nothing was proved: it is the first one behind which it is proved that no goal can be reached.
    pub first_proved: bool,
    /// Moves made after it.
    pub went_on: Option<usize>,
    /// How the play ended.
    pub ended: String,
    /// Moves that were not played since the game had ended.
    pub not_played: usize,
    /// The attempts.
    pub steps: Vec<Attempt>,
    /// The space was seen whole.
    pub complete: bool,
    /// Where it began.
    #[serde(skip)]
    pub start: Position,
    /// How the start stands.
    #[serde(skip)]
    pub start_seen: Seen,
    /// How the last position stands.
    #[serde(skip)]
    pub last: Seen,
}

/// What came of the moves of a play.
#[derive(Default)]
struct Attempts {
    steps: Vec<Attempt>,
    /// The moves that were made.
    play: Vec<Made>,
    ended: Option<usize>,
    /// Moves behind the end.
    not_played: usize,
}

/// Plays moves one after the other; `see` says what is known of a state.
fn attempts(
    level: &Loaded,
    list: &[Call],
    session: &mut Session<'_>,
    see: impl Fn(&[i32]) -> Seen,
    budget: &Budget,
) -> Result<Attempts, Trouble> {
    let b = &level.game.bound;
    let mut out = Attempts::default();
    let mut dice = Dice::new(budget.wanted().seed);
    for (i, call) in list.iter().enumerate() {
        let name = level.moves.name(call.number).to_string();
        let wrong = |why: String| Trouble::Message(format!("MOVES: move {}, {name}, {why}", i + 1));
        let step = level
            .play_call(session.state(), call, false, &mut dice)
            .map_err(|f| match limit_of(&f, budget) {
                Some(limit) => limit.into(),
                None => wrong(format!("breaks the model: {f}")),
            })?
            .map_err(wrong)?;
        let before = see(session.state());
        let here = session.state().to_vec();
        let refused = |why: String| Attempt {
            number: None,
            name: name.clone(),
            refused: Some(why),
            before,
            after: before,
            chances: None,
        };
        out.steps.push(match session.take(call.number, step) {
            Turn::Made(played) => {
                out.ended = played.ended;
                let name = call_text(&name, &played);
                out.play.push((here, call.number, session.state().to_vec()));
                let (number, after) = (Some(out.play.len()), see(session.state()));
                Attempt { number, name, refused: None, before, after, chances: None }
            }
            Turn::NotMade(Tried::Refused { site, at }) => {
                let places: Vec<String> = at.iter().map(|p| place_name(b, *p)).collect();
                let at = if places.is_empty() { String::new() } else { format!(" at {}", places.join(", ")) };
                refused(format!("{}{at}", b.model.refuses[site].why))
            }
            Turn::NotMade(Tried::NotOffered | Tried::Made(_)) => refused("not offered".into()),
            Turn::NotMade(Tried::Ended(_)) => {
                out.not_played = list.len() - i;
                break;
            }
        });
    }
    Ok(out)
}

/// Reviews a play.
///
/// # Errors
///
/// [`Trouble`] when a move cannot be read, or the model breaks.
pub fn review(
    store: &mut Store,
    level: &Loaded,
    moves: &str,
    budget: &Budget,
) -> Result<Answer<Review>, Trouble> {
    needs_known(level, "review")?;
    let list = level.parse_moves(store, "MOVES", moves)?;
    let game = &level.game;
    let b = &game.bound;
    if !game.has_goal() {
        return Err("this model has no goal, so no move leads away from it; `fendle odds` says what each move is worth for its aim"
            .into());
    }
    // Where not everything can be seen, relaxed puzzles say what they can.
    let relaxed = relaxed_of_large(level, budget)?;
    let most = if relaxed.is_some() { SEEN_OF_LARGE } else { u64::MAX };
    let found = searched_within(store, level, game, most, budget)?;
    let far = Distances::in_space(&found.space, budget)?;
    let see = |state: &[i32]| {
        let seen = Seen::of(&found, &far, &game.pack(state));
        match (&relaxed, seen.class) {
            (Some(r), Class::Open) if !is_won(b, state) => match r.bounds.judge(&r.task).says(state).least {
                None => Seen { class: Class::Dead, ..seen },
                least => Seen { least, ..seen },
            },
            (Some(_), Class::Open) => Seen { class: Class::Goal, far: Some(0), least: None },
            _ => seen,
        }
    };
    let mut session = Session::new(b, &level.moves);
    let start = see(session.state());
    let Attempts { mut steps, play, ended, not_played } = attempts(level, &list, &mut session, see, budget)?;
    // What each move gave away, where everything was seen.
    if !game.is_sure() && found.counts.limit.is_none() {
        let worth = chances(store, level, &play, budget)?;
        let made = steps.iter_mut().filter(|a| a.refused.is_none());
        made.zip(worth).for_each(|(a, c)| a.chances = c);
    }
    let own: Vec<&Attempt> = steps.iter().filter(|a| a.refused.is_none()).collect();
    let fatal = own.iter().position(|a| a.is_fatal());
    let last = see(session.state());
    let open = start.class == Class::Open || steps.iter().any(|a| a.after.class == Class::Open);
    let review = Review {
        if_lucky: !game.is_sure(),
        minimum: start.far,
        moves: own.len(),
        refused: steps.len() - own.len(),
        moves_lost: own.iter().take(fatal.unwrap_or(own.len())).filter_map(|a| a.cost()).sum(),
        first_fatal_move: fatal.map(|i| i + 1),
        first_proved: fatal.is_some_and(|i| own[i].before.class == Class::Open),
        went_on: fatal.map(|i| own.len() - i - 1),
        ended: match (ended, last.class) {
            (Some(e), _) => b.ending_words(e),
            (None, Class::Stuck) => "stuck".into(),
            (None, _) => "broken off".into(),
        },
        not_played,
        complete: found.counts.limit.is_none(),
        start: Position::new(b, &b.position),
        start_seen: start,
        last,
        steps,
    };
    let holds = if open { Verdict::Undecided } else { Verdict::Holds };
    let states = found.counts.states;
    let own_limit = relaxed.is_some()
        && found.counts.limit == Some(Limit::MaxStates)
        && states < budget.limits().max_states;
    let limit = found.counts.limit.filter(|_| !own_limit);
    Ok(Answer::new(Asked::of(level), holds, review).stopped(limit, budget).took(budget, states))
}
