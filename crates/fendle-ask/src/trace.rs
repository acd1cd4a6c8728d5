//! Moves played phase by phase, with the model's notes; where it was fatal.

use fendle_core::{Class, Limit};
use fendle_lang::play::{Played, Session, Tried, Turn, place_name};
use fendle_lang::run::setup::Dice;
use fendle_lang::run::{Made, TraceEvent};
use serde::Serialize;
use serde_json::{Map, Value, json};

use crate::answer::{Answer, Asked, Trouble, Verdict, fault_report, trouble_of};
use crate::budget::Budget;
use crate::explore::searched;
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::routes::{call_text, class_word};

/// Something worth showing between two positions.
#[derive(Clone, Debug)]
pub enum Event {
    /// A phase ended: its name, and the position then.
    Phase(String, Position),
    /// Something was drawn: what, its chance as a fraction, out of how many.
    Draw(String, String, usize),
    /// A note of the model, and the place that it is about.
    Note(String, Option<String>),
}

impl Serialize for Event {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let value = match self {
            Event::Phase(name, position) => json!({"phase": name, "position": position}),
            Event::Draw(what, chance, of) => json!({"draw": what, "chance": chance, "of": of}),
            Event::Note(text, at) => json!({"note": text, "at": at}),
        };
        value.serialize(s)
    }
}

/// One move that was made.
#[derive(Clone, Debug, Serialize)]
pub struct PlayedMove {
    /// The move, and what was drawn.
    #[serde(rename = "move")]
    pub called: String,
    /// The chance of this outcome among those of its move, as a fraction.
    pub chance: String,
    /// The same, about.
    #[serde(skip)]
    pub about: f64,
    /// What it led to.
    pub position: Position,
    /// What happened on the way.
    pub events: Vec<Event>,
    /// Score gained.
    pub score: i64,
    /// How the game stands, by the rules.
    pub status: String,
    /// The ending, where it has ended.
    #[serde(skip)]
    pub ended: Option<String>,
    /// What the space says of it, where that was asked.
    pub verdict: Option<&'static str>,
    /// The same as a class.
    #[serde(skip)]
    pub class: Option<Class>,
    /// Something was drawn, and by the dice.
    #[serde(skip)]
    pub by_dice: bool,
    /// Something was drawn.
    #[serde(skip)]
    pub draws: bool,
    /// The branch was set aside past the bound of its cascade.
    #[serde(skip)]
    pub set_aside: bool,
    /// After it nothing can be won any more, and before it something could.
    #[serde(skip)]
    pub fatal: bool,
}

/// A move that could not be made.
#[derive(Clone, Debug, Serialize)]
pub struct NotMade {
    /// The move.
    #[serde(rename = "move")]
    pub name: String,
    /// Why.
    pub why: String,
    /// The line of the refusing statement.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// The places that refuse.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<Vec<String>>,
    /// The cells among them: row and column from 0.
    #[serde(skip)]
    pub cells: Vec<(usize, usize)>,
    /// Where play stood.
    #[serde(skip)]
    pub position: Position,
}

/// A play as it went.
#[derive(Clone, Debug, Serialize)]
pub struct Trace {
    /// Where it began.
    pub start: Position,
    /// What the space says of the start, where that was asked.
    #[serde(skip)]
    pub start_class: Option<Class>,
    /// The moves that were made.
    pub steps: Vec<PlayedMove>,
    /// The move that could not be made.
    pub stopped: Option<NotMade>,
    /// All score gained.
    pub score: i64,
    /// The tallies, by name.
    #[serde(serialize_with = "tally_map")]
    pub tallies: Vec<(String, i64)>,
    /// The number of the first fatal move, from 1.
    pub first_fatal_move: Option<usize>,
    /// Whether the space was seen whole, where it was asked.
    pub verdict_complete: Option<bool>,
    /// The model's file, for lines.
    #[serde(skip)]
    pub model_file: String,
}

fn tally_map<S: serde::Serializer>(list: &[(String, i64)], s: S) -> Result<S::Ok, S::Error> {
    list.iter().map(|(n, v)| (n.clone(), json!(v))).collect::<Map<String, Value>>().serialize(s)
}

/// Plays moves from where a level begins. `verdict`: says of each position whether it can still be won.
///
/// # Errors
///
/// [`Trouble`] when a move cannot be read, or the model breaks.
pub fn trace(
    store: &mut Store,
    level: &Loaded,
    moves: &str,
    verdict: bool,
    budget: &Budget,
) -> Result<Answer<Trace>, Trouble> {
    needs_layout(level, "trace")?;
    let list = level.parse_moves(store, "MOVES", moves)?;
    let game = &level.game;
    let b = &game.bound;
    let explored = if verdict { Some(searched(level, game, budget)?) } else { None };
    if let Some(fault) = explored.as_ref().and_then(|e| e.fault.as_ref()) {
        return Err(Trouble::Fault(Box::new(fault_report(store, level, fault))));
    }
    let class_of = |state: &[i32]| -> Option<Class> {
        let e = explored.as_ref()?;
        Some(e.space.find(&game.pack(state)).map_or(Class::Open, |id| e.space.class(id)))
    };
    let limit = explored.as_ref().and_then(|e| e.counts.limit);
    let mut session = Session::new(b, &level.moves);
    let mut out = Trace {
        start: Position::new(b, &b.position),
        start_class: class_of(&b.position),
        steps: vec![],
        stopped: None,
        score: 0,
        tallies: b.model.tallies.iter().map(|t| (t.clone(), 0)).collect(),
        first_fatal_move: None,
        verdict_complete: explored.as_ref().map(|e| e.counts.complete),
        model_file: store.sources.name(b.model.file).to_string(),
    };
    let mut class = out.start_class;
    let mut dice = Dice::new(budget.wanted().seed);
    for (i, call) in list.iter().enumerate() {
        let name = level.moves.name(call.number).to_string();
        let before = session.state().to_vec();
        let step = level
            .play_call(&before, call, false, &mut dice)
            .map_err(|fault| fault_at(store, level, budget, &fault, (&before, &name, i)))?
            .map_err(|why| Trouble::Message(format!("MOVES: move {}, {name}, {why}", i + 1)))?;
        let played = match session.take(call.number, step) {
            Turn::Made(played) => played,
            Turn::NotMade(step) => {
                out.stopped = Some(not_made(store, level, &name, step, &before));
                break;
            }
        };
        let now = class_of(&played.made.state);
        let fatal = class == Some(Class::Winnable) && now.is_some_and(Class::is_bad);
        if fatal {
            out.first_fatal_move.get_or_insert(i + 1);
        }
        class = now;
        out.score = out.score.saturating_add(played.made.score);
        for (t, added) in out.tallies.iter_mut().zip(&played.made.tallies) {
            t.1 = t.1.saturating_add(*added);
        }
        out.steps.push(made(level, &name, &played, (now, fatal), call.draws.is_none()));
    }
    let holds = match (&out.stopped, limit) {
        (Some(_), _) => Verdict::Fails,
        (None, Some(_)) => Verdict::Undecided,
        (None, None) => Verdict::Holds,
    };
    // A move that cannot be made is certain, whatever the space would say.
    let limit = if out.stopped.is_some() && limit != Some(Limit::Interrupted) { None } else { limit };
    let states = explored.as_ref().map_or(0, |e| e.counts.states);
    Ok(Answer::new(Asked::of(level), holds, out).stopped(limit, budget).took(budget, states))
}

/// A fault while a move is played, with the number of the move and the state there.
fn fault_at(
    store: &Store,
    level: &Loaded,
    budget: &Budget,
    fault: &fendle_lang::run::RunFault,
    (state, name, i): (&[i32], &str, usize),
) -> Trouble {
    match trouble_of(store, level, budget, fault, (state, Some(name))) {
        Trouble::Fault(mut report) => {
            report.diagnostic.notes = vec![
                format!("at move {}: {name}", i + 1),
                format!("the state there: {}", level.game.bound.shown_line(state)),
            ];
            Trouble::Fault(report)
        }
        other => other,
    }
}

fn made(
    level: &Loaded,
    name: &str,
    played: &Played,
    (class, fatal): (Option<Class>, bool),
    by_dice: bool,
) -> PlayedMove {
    let b = &level.game.bound;
    let Made { state, events, score, chance, cut, .. } = &played.made;
    let draws = played.made.draws().next().is_some();
    let event = |e: &TraceEvent| match e {
        TraceEvent::Phase { name, state } => Event::Phase(name.clone(), Position::new(b, state)),
        TraceEvent::Draw { what, chance, of } => Event::Draw(what.clone(), chance.to_string(), *of),
        TraceEvent::Note { text, at } => Event::Note(text.clone(), at.map(|p| place_name(b, p))),
    };
    let ended = played.ended.map(|e| b.ending_words(e));
    PlayedMove {
        called: call_text(name, played),
        chance: chance.to_string(),
        about: chance.about(),
        position: Position::new(b, state),
        events: events.iter().map(event).collect(),
        score: *score,
        status: ended.clone().unwrap_or("running".into()),
        ended,
        verdict: class.map(class_word),
        class,
        by_dice: draws && by_dice,
        draws,
        set_aside: *cut,
        fatal,
    }
}

fn not_made(store: &Store, level: &Loaded, name: &str, step: Tried, state: &[i32]) -> NotMade {
    let b = &level.game.bound;
    let none = NotMade {
        name: name.into(),
        why: String::new(),
        line: None,
        at: None,
        cells: vec![],
        position: Position::new(b, state),
    };
    match step {
        Tried::Refused { site, at } => NotMade {
            why: b.model.refuses[site].why.clone(),
            line: Some(store.sources.line_col(b.model.file, b.model.refuses[site].span.start).0),
            cells: at
                .iter()
                .filter_map(|&(r, c)| Some((usize::try_from(r).ok()?, usize::try_from(c).ok()?)))
                .collect(),
            at: Some(at.iter().map(|&p| place_name(b, p)).collect()),
            ..none
        },
        Tried::NotOffered => NotMade { why: "not offered".into(), ..none },
        Tried::Ended(e) => NotMade { why: format!("the game has ended: {}", b.ending_words(e)), ..none },
        Tried::Made(_) => none,
    }
}
