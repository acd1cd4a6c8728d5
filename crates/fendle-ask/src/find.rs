//! The nearest reachable position in which a condition holds, the way there, and how many there are.

use fendle_core::{Class, Explored, Limit, Pace, Progress, StateId};
use fendle_lang::Game;
use fendle_lang::check::alike::tells_apart;
use fendle_lang::code::lower::with_condition;
use fendle_lang::code::machine::Machine;
use fendle_lang::model::{Asked as Question, Body, all_of, conjuncts_of};
use fendle_lang::question;
use fendle_lang::run::Eval;
use serde::Serialize;

use crate::answer::{Answer, Asked, Trouble, Verdict, limit_of};
use crate::budget::Budget;
use crate::explore::searched_whole;
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::routes::{lucky_names, played_route};
use crate::solve::begins_at;

/// Which draws of a move have to lead somewhere.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub enum Draws {
    /// At least one.
    #[serde(rename = "some draw")]
    Some,
    /// All of them.
    #[serde(rename = "every draw")]
    Every,
}

/// Where a condition holds.
#[derive(Clone, Debug, Serialize)]
pub struct Found {
    /// The condition.
    pub condition: String,
    /// Moves before it that were asked for.
    pub moves_before: u32,
    /// Which draws have to lead there.
    pub draws: Draws,
    /// How many positions.
    pub count: u64,
    /// Moves to the nearest.
    pub depth: Option<usize>,
    /// The moves.
    pub moves: Option<Vec<String>>,
    /// Of several starts the one that they begin at, in one line: as `--at` takes it.
    pub begins_at: Option<String>,
    /// The nearest position.
    pub position: Option<Position>,
    /// Everything reachable was seen and asked.
    pub complete: bool,
    /// States seen.
    pub states: u64,
    /// Things are hidden in this level.
    #[serde(skip)]
    pub hides: bool,
}

/// Looks for a condition among all reachable positions.
///
/// # Errors
///
/// [`Trouble`] when the condition cannot be read, or the model breaks.
pub fn find(
    store: &mut Store,
    level: &mut Loaded,
    condition: &str,
    (draws, before): (Draws, u32),
    budget: &Budget,
) -> Result<Answer<Found>, Trouble> {
    needs_layout(level, "find")?;
    let model_file = level.game.bound.model.file;
    let file = store.sources.add("CONDITION", condition);
    let mut errors = vec![];
    let text = store.sources.text(model_file).to_string();
    let body = question((model_file, &text), file, condition, &mut errors)
        .ok_or_else(|| Trouble::Diagnostics(errors.clone()))?;
    // A question that tells apart what is alike is asked of every state by itself.
    let model = std::sync::Arc::clone(&level.game.bound.model);
    if model.alike.iter().any(|d| tells_apart(&model, d, &body)) {
        level.game = level.game.apart();
    }
    let game = &level.game;
    let found = searched_whole(store, level, game, budget)?;
    let (mut marked, mut stopped) = holding(game, &found, &body, budget)?;
    for _ in 0..before {
        let (next, limit) = one_before(&found, &marked, draws, budget);
        (marked, stopped) = (next, stopped.or(limit));
    }
    let mut count = 0u64;
    let mut nearest: Option<(u32, Vec<StateId>)> = None;
    for depth in 0..found.space.levels_len() {
        let here: Vec<StateId> = found.space.level(depth).filter(|id| marked[id.index()]).collect();
        count += here.len() as u64;
        if nearest.is_none() && !here.is_empty() {
            nearest = Some((depth, here));
        }
    }
    // What is not known: states that were not seen, or not asked, or set aside.
    let mut limit = found.counts.limit.or(stopped).or(found.counts.cut.then_some(Limit::SetAside));
    let route = match &nearest {
        Some((depth, ids)) => match found.route_watched(game, *depth, ids, false, budget) {
            Ok(route) => route,
            Err(hit) => {
                limit = limit.or(Some(hit));
                None
            }
        },
        None => None,
    };
    // Where things are alike, the position that the way really leads to.
    let last = route.as_ref().map(|r| match played_route(game, &level.moves, r) {
        Ok(played) => played.states.last().cloned().unwrap_or_default(),
        Err(_) => game.unpack(r.states.last().expect("a route has a start")),
    });
    let answer = Found {
        condition: condition.into(),
        moves_before: before,
        draws,
        count,
        depth: route.as_ref().map(|r| r.moves.len()),
        moves: route.as_ref().map(|r| lucky_names(level, r)),
        begins_at: route.as_ref().and_then(|r| {
            let first = Position::new(&game.bound, &game.unpack(r.states.first()?));
            begins_at(game, &[first])
        }),
        position: last.map(|s| Position::new(&game.bound, &s)),
        complete: limit.is_none(),
        states: found.counts.states,
        hides: game.bound.model.hides(),
    };
    let holds = match (count > 0, limit) {
        (true, _) => Verdict::Holds,
        (false, None) => Verdict::Fails,
        (false, Some(_)) => Verdict::Undecided,
    };
    let states = answer.states;
    Ok(Answer::new(Asked::of(level), holds, answer).stopped(limit, budget).took(budget, states))
}

/// The states in which the condition holds, by id, and the limit that ended the asking.
pub(crate) fn holding(
    game: &Game,
    found: &Explored,
    body: &Body,
    budget: &Budget,
) -> Result<(Vec<bool>, Option<Limit>), Trouble> {
    let b = &game.bound;
    let space = &found.space;
    let oracle = |state: &[i32], asked: Question| -> i64 {
        let Some(id) = space.find(&game.pack(state)) else { return 0 };
        let class = space.class(id);
        i64::from(match asked {
            Question::Running => matches!(class, Class::Winnable | Class::Dead | Class::Stuck | Class::Free),
            Question::Won => class == Class::Goal,
            Question::Lost => class == Class::Lost,
            Question::Over => class == Class::Over,
            Question::Stuck => class == Class::Stuck,
            Question::Dead => class == Class::Dead,
            Question::Winnable => class == Class::Winnable,
            Question::Certain => space.is_certain(id),
            Question::Depth => return space.depth_of(id).into(),
        })
    };
    // Parts of the condition that read the state alone run as code, and are asked first.
    let (quick, slow): (Vec<Body>, Vec<Body>) =
        conjuncts_of(body).into_iter().partition(|part| with_condition(b, &game.code, part).is_some());
    let quick = all_of(quick).and_then(|part| with_condition(b, &game.code, &part));
    let slow = all_of(slow);
    let mut machine = quick.as_ref().map(|(code, program)| (Machine::new(b, code), *program));
    let mut marked = vec![false; space.ids_len()];
    let mut eval = Eval::with_oracle(b, &oracle);
    let progress = Progress { states: space.states_len(), ..Progress::default() };
    let mut pace = Pace::new(budget).at(progress);
    // The reference executor takes hundreds of times what code does.
    let cost = if slow.is_some() { 256 } else { 4 };
    for id in space.ids() {
        if let Err(limit) = pace.step(cost) {
            return Ok((marked, Some(limit)));
        }
        // The state that stands for what was set aside is no position.
        if found.counts.cut && space.class(id) == Class::Open && space.edges_len(id) == 0 {
            continue;
        }
        let words = space.state(id);
        let asked = match &mut machine {
            None => Ok(true),
            Some((machine, program)) => {
                machine.load(&words);
                match machine.ask(*program) {
                    Ok(v) => Ok(v != 0),
                    // Said again by the reference executor, with its words.
                    Err(_) => eval.value_in(body, &game.unpack(&words)).map(|_| true),
                }
            }
        };
        let asked = match (asked, &slow) {
            (Ok(true), Some(part)) => eval.value_in(part, &game.unpack(&words)).map(|v| v != 0),
            (other, _) => other,
        };
        match asked {
            Ok(holds) => marked[id.index()] = holds,
            Err(f) => match limit_of(&f, budget) {
                Some(limit) => return Ok((marked, Some(limit))),
                None => return Err(Trouble::Message(format!("the condition breaks: {f}"))),
            },
        }
    }
    Ok((marked, None))
}

/// The states with a move some or all of whose outcomes are marked.
fn one_before(
    found: &Explored,
    marked: &[bool],
    draws: Draws,
    budget: &Budget,
) -> (Vec<bool>, Option<Limit>) {
    let space = &found.space;
    let mut out = vec![false; marked.len()];
    let mut pace = Pace::new(budget);
    for depth in 0..space.levels_len() {
        space.each_edges(depth, |id, edges| {
            out[id.index()] = edges.split_inclusive(|e| e.last).any(|outcomes| {
                let mut hits = outcomes.iter().map(|e| marked[e.to.index()]);
                match draws {
                    Draws::Some => hits.any(|h| h),
                    Draws::Every => hits.all(|h| h),
                }
            });
        });
        if let Err(limit) = pace.step(2 * space.level_len(depth)) {
            return (out, Some(limit));
        }
    }
    (out, None)
}
