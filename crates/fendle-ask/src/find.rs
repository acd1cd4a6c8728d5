//! The nearest reachable position in which a condition holds, the way there, and how many there are.

use fendle_core::graph::Transitions;
use fendle_core::{Class, Explored, Limit, Model as _, Pace, Progress, Space, StateId};
use fendle_lang::Game;
use fendle_lang::check::alike::tells_apart;
use fendle_lang::code::lower::with_condition;
use fendle_lang::code::machine::Machine;
use fendle_lang::model::{Asked as Question, Body, Ek, all_of, conjuncts_of};
use fendle_lang::question;
use fendle_lang::reasons::wanted::with_goal;
use fendle_lang::run::Eval;
use serde::Serialize;

use crate::answer::{Answer, Asked, Trouble, Verdict, fault_report_of, limit_of};
use crate::bound::puzzle;
use crate::budget::Budget;
use crate::by_rules::{ByRules, Unknown};
use crate::examples::{Sampled, example};
use crate::explore::searched_by_number;
use crate::hunt::{Hunt, Promise, first_relaxed};
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::routes::{call_text, lucky_names, played_route};
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
    /// Any such position was looked for, by a guided search: neither the nearest nor how many there are.
    pub any: bool,
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
    /// Why there is none, where that was proved without looking at all positions.
    pub why_none: Option<String>,
    /// Games that were played for an example, where moves have more outcomes than are written down.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sampled: Option<Sampled>,
    /// States seen.
    pub states: u64,
    /// Things are hidden in this level.
    #[serde(skip)]
    pub hides: bool,
}

/// Reads a condition; where it tells apart what is alike, the level does so from now on.
pub(crate) fn read(store: &mut Store, level: &mut Loaded, condition: &str) -> Result<Body, Trouble> {
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
    Ok(body)
}

/// Looks for any position in which a condition holds, guided by how far the condition looks and by relaxed puzzles: on boards that are
/// too large to be seen whole.
///
/// # Errors
///
/// [`Trouble`] when the condition cannot be read, or cannot be asked of a position by itself.
pub fn find_any(
    store: &mut Store,
    level: &mut Loaded,
    condition: &str,
    budget: &Budget,
) -> Result<Answer<Found>, Trouble> {
    let body = read(store, level, condition)?;
    let game = &level.game;
    if !game.is_sure() || game.starts.len() > 1 || game.bound.model.cuts {
        let words = "--any asks of levels without chance that begin at one position; without it all positions are looked at";
        return Err(words.into());
    }
    let Some(wanted) = with_goal(game, &body) else {
        let words = "--any asks each position by itself, and what this condition asks can only be told when all are seen; leave --any out";
        return Err(words.into());
    };
    let mut out = Found {
        condition: condition.into(),
        moves_before: 0,
        draws: Draws::Some,
        any: true,
        count: 0,
        depth: None,
        moves: None,
        begins_at: None,
        position: None,
        complete: false,
        why_none: None,
        sampled: None,
        states: 0,
        hides: game.bound.model.hides(),
    };
    let asked = Asked::of(level);
    let relaxed = match puzzle(&wanted, budget) {
        Some(task) => Some(first_relaxed(&wanted, task, budget)?),
        None => None,
    };
    let hunted = Hunt::new(&wanted, Promise::Any, 0, budget).run(relaxed);
    out.states = hunted.states;
    if let Some(faulted) = &hunted.fault {
        let fault = Some(fault_report_of(store, level, &wanted, faulted));
        return Ok(Answer::new(asked, Verdict::Undecided, out).faulted(fault).took(budget, hunted.states));
    }
    if let Some((_, route)) = &hunted.route {
        let played = played_route(game, &level.moves, route).map_err(Trouble::Message)?;
        let last = played.states.last().cloned().unwrap_or_default();
        let holds = Eval::new(&game.bound).value_in(&body, &last);
        if !matches!(holds, Ok(v) if v != 0) {
            return Err("the way that was found leads elsewhere; this is a mistake in fendle".into());
        }
        out.count = 1;
        out.depth = Some(played.moves.len());
        let names = played.moves.iter().map(|(n, p)| call_text(level.moves.name(*n), p));
        out.moves = Some(names.collect());
        out.position = Some(Position::new(&game.bound, &last));
        return Ok(Answer::new(asked, Verdict::Holds, out).took(budget, hunted.states));
    }
    // A statement that ends the game ends it before the condition is asked.
    if let Some(why) = hunted.why_none.filter(|_| !game.bound.model.ends_by_statement) {
        out.complete = true;
        out.why_none = Some(why.words_of("such a position", "the condition"));
        return Ok(Answer::new(asked, Verdict::Fails, out).took(budget, hunted.states));
    }
    let limit = hunted.limit.or(budget.stopped()).unwrap_or(Limit::Memory);
    Ok(Answer::new(asked, Verdict::Undecided, out).stopped(Some(limit), budget).took(budget, hunted.states))
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
    let body = read(store, level, condition)?;
    let game = &level.game;
    let found = searched_by_number(store, level, game, budget)?;
    let Held { mut marked, limit: mut stopped, .. } = holding(game, &found, (&body, u32::MAX), budget)?;
    if before > 0 {
        match found.transitions(game, &budget.limits(), budget) {
            Ok(Some(transitions)) => {
                for _ in 0..before {
                    let (next, limit) = one_before(&found, &transitions, &marked, draws, budget);
                    (marked, stopped) = (next, stopped.or(limit));
                }
            }
            Ok(None) => (marked, stopped) = (Marked::of(&found.space), stopped.or(Some(Limit::Memory))),
            Err(limit) => (marked, stopped) = (Marked::of(&found.space), stopped.or(Some(limit))),
        }
    }
    let mut count = 0u64;
    let mut nearest: Option<(u32, Vec<StateId>)> = None;
    for id in found.space.ids().filter(|id| marked.has(*id)) {
        count += 1;
        let (depth, here) = nearest.get_or_insert_with(|| (found.space.depth_of(id), vec![]));
        if found.space.depth_of(id) == *depth {
            here.push(id);
        }
    }
    // What is not known: states that were not seen, or not asked, or set aside.
    let mut limit = found.counts.cut_short().or(stopped);
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
    let mut answer = Found {
        condition: condition.into(),
        moves_before: before,
        draws,
        any: false,
        count,
        depth: route.as_ref().map(|r| r.moves.len()),
        moves: route.as_ref().map(|r| lucky_names(level, r)),
        begins_at: route.as_ref().and_then(|r| {
            let first = Position::new(&game.bound, &game.unpack(r.states.first()?));
            begins_at(game, &[first])
        }),
        position: last.map(|s| Position::new(&game.bound, &s)),
        complete: limit.is_none(),
        why_none: None,
        sampled: None,
        states: found.counts.states,
        hides: game.bound.model.hides(),
    };
    // What is met in a game that is played can be met.
    let by_itself = before == 0 && game.starts.len() <= 1;
    if answer.count == 0 && limit == Some(Limit::Outcomes) && by_itself {
        played(level, &body, &mut answer, budget)?;
    }
    let holds = match (answer.count > 0, limit) {
        (true, _) => Verdict::Holds,
        (false, None) => Verdict::Fails,
        (false, Some(_)) => Verdict::Undecided,
    };
    let states = answer.states;
    Ok(Answer::new(Asked::of(level), holds, answer).stopped(limit, budget).took(budget, states))
}

/// Plays games until one comes to such a position, if the condition can be asked of a position by itself.
fn played(level: &Loaded, body: &Body, answer: &mut Found, budget: &Budget) -> Result<(), Trouble> {
    let game = &level.game;
    let rules = ByRules::new(game);
    if !matches!(rules.holds(body, &game.bound.position), Ok(Some(_))) {
        return Ok(());
    }
    let (met, sampled) = example(level, budget, &mut |state| Ok(rules.holds(body, state)?.unwrap_or(false)))?;
    answer.sampled = Some(sampled);
    if let Some((names, states)) = met {
        answer.count = 1;
        answer.depth = Some(names.len());
        answer.moves = Some(names);
        answer.position = states.last().map(|s| Position::new(&game.bound, s));
    }
    Ok(())
}

/// States of a space that are marked, one bit each.
#[derive(Clone)]
pub(crate) struct Marked(Vec<u64>);

impl Marked {
    /// None of a space.
    pub(crate) fn of(space: &Space) -> Marked {
        Marked(vec![0; space.ids_len().div_ceil(64)])
    }

    /// Whether a state is marked.
    pub(crate) fn has(&self, id: StateId) -> bool {
        self.0[id.index() / 64] >> (id.index() % 64) & 1 == 1
    }

    /// Marks a state.
    pub(crate) fn add(&mut self, id: StateId) {
        self.0[id.index() / 64] |= 1 << (id.index() % 64);
    }
}

/// Answers what a condition asks of a state beside its values: from what a search found of it; where that is not decided, or the state was not
/// seen, from the rules, as far as they tell it of one state.
struct Answers<'a> {
    game: &'a Game,
    found: &'a Explored,
    rules: ByRules<'a>,
    unknown: Unknown,
}

impl<'a> Answers<'a> {
    fn new(game: &'a Game, found: &'a Explored) -> Answers<'a> {
        Answers { game, found, rules: ByRules::new(game), unknown: Unknown::default() }
    }

    /// What is known of a state that was seen.
    fn of(&self, id: StateId, asked: Question) -> Option<i64> {
        let space = &self.found.space;
        let class = space.class(id);
        let is = match asked {
            Question::Depth => return Some(space.depth_of(id).into()),
            _ if class == Class::Open => return self.rules.tell(&space.state(id), asked),
            Question::Running => matches!(class, Class::Winnable | Class::Dead | Class::Stuck | Class::Free),
            Question::Won => class == Class::Goal,
            Question::Lost => class == Class::Lost,
            Question::Over => class == Class::Over,
            Question::Stuck => class == Class::Stuck,
            Question::Dead => class == Class::Dead,
            Question::Winnable => class == Class::Winnable,
            Question::Certain if space.is_certain(id) => true,
            // Another way of playing may come by what was not seen, or was set aside.
            Question::Certain if class == Class::Winnable && !self.found.counts.is_whole() => return None,
            Question::Certain => false,
        };
        Some(is.into())
    }

    /// The same for the reference executor; what is not known is answered as the case says that is tried.
    fn told(&self, state: &[i32], asked: Question) -> i64 {
        let packed = self.game.pack(state);
        let known = match self.found.space.find(&packed) {
            Some(id) => self.of(id, asked),
            None => self.rules.tell(&packed, asked),
        };
        known.unwrap_or_else(|| self.unknown.answer(&packed, asked))
    }
}

/// Where a condition holds.
pub(crate) struct Held {
    /// The states in which it surely does. Where a search was stopped, those of which it is not known are not among them.
    pub(crate) marked: Marked,
    /// What ended the asking.
    pub(crate) limit: Option<Limit>,
    /// Of some states it is not known.
    pub(crate) lacked: bool,
}

/// The states of a space in which a condition holds, of those that lie so deep at the most.
pub(crate) fn holding(
    game: &Game,
    found: &Explored,
    (body, deepest): (&Body, u32),
    budget: &Budget,
) -> Result<Held, Trouble> {
    let b = &game.bound;
    let space = &found.space;
    let answers = Answers::new(game, found);
    let oracle = |state: &[i32], asked: Question| answers.told(state, asked);
    // What the search found of a state is asked first; then the parts of the condition that read the state alone, which run as
    // code.
    let (questions, rest): (Vec<Body>, Vec<Body>) =
        conjuncts_of(body).into_iter().partition(|part| matches!(part.expr.kind, Ek::Asked(_)));
    let questions: Vec<Question> = questions
        .iter()
        .filter_map(|part| if let Ek::Asked(asked) = part.expr.kind { Some(asked) } else { None })
        .collect();
    let (quick, slow): (Vec<Body>, Vec<Body>) =
        rest.into_iter().partition(|part| with_condition(b, &game.code, part).is_some());
    let quick = all_of(quick).and_then(|part| with_condition(b, &game.code, &part));
    let slow = all_of(slow);
    let mut machine = quick.as_ref().map(|(code, program)| (Machine::new(b, code), *program));
    let mut out = Held { marked: Marked::of(space), limit: None, lacked: false };
    let mut eval = Eval::with_oracle(b, &oracle);
    let progress = Progress { states: space.states_len(), ..Progress::default() };
    let mut pace = Pace::new(budget).at(progress);
    // The reference executor takes hundreds of times what code does.
    let cost = if slow.is_some() { 256 } else { 4 };
    for id in space.ids() {
        if let Err(limit) = pace.step(cost) {
            out.limit = Some(limit);
            return Ok(out);
        }
        if deepest < u32::MAX && space.depth_of(id) > deepest {
            continue;
        }
        // The state that stands for what was set aside is no position.
        if found.counts.cut && space.class(id) == Class::Open && space.edges_len(id) == 0 {
            continue;
        }
        let (mut is_no, mut lacks) = (false, false);
        for asked in &questions {
            match answers.of(id, *asked) {
                Some(0) => is_no = true,
                Some(_) => {}
                None => lacks = true,
            }
        }
        out.lacked |= lacks && !is_no;
        if is_no || lacks {
            continue;
        }
        if machine.is_none() && slow.is_none() {
            out.marked.add(id);
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
            (Ok(true), Some(part)) => {
                let state = game.unpack(&words);
                answers.unknown.in_every_case(|| Ok(eval.value_in(part, &state)? != 0))
            }
            (other, _) => other.map(Some),
        };
        match asked {
            Ok(None) => out.lacked = true,
            Ok(Some(true)) => out.marked.add(id),
            Ok(Some(false)) => {}
            Err(f) => match limit_of(&f, budget) {
                Some(limit) => {
                    out.limit = Some(limit);
                    return Ok(out);
                }
                None => return Err(Trouble::Message(format!("the condition breaks: {f}"))),
            },
        }
    }
    Ok(out)
}

/// The states with a move some or all of whose outcomes are marked.
fn one_before(
    found: &Explored,
    transitions: &Transitions<'_>,
    marked: &Marked,
    draws: Draws,
    budget: &Budget,
) -> (Marked, Option<Limit>) {
    let space = &found.space;
    let mut out = Marked::of(space);
    let mut pace = Pace::new(budget);
    for depth in 0..space.levels_len() {
        transitions.each(depth, |id, edges| {
            let leads = edges.split_inclusive(|e| e.last).any(|outcomes| {
                let mut hits = outcomes.iter().map(|e| marked.has(e.to));
                match draws {
                    Draws::Some => hits.any(|h| h),
                    Draws::Every => hits.all(|h| h),
                }
            });
            if leads {
                out.add(id);
            }
        });
        if let Err(limit) = pace.step(2 * space.level_len(depth)) {
            return (out, Some(limit));
        }
    }
    (out, None)
}
