//! Why a position cannot be won, or what its fatal moves destroy; and the dead parts of a whole level.

use fendle_core::graph::Distances;
use fendle_core::{Class, Expansion, Explored, Limit, Model as _, Verdict as Solved};
use fendle_lang::model::EndKind;
use fendle_lang::play::{Played, Tried, merged, step};
use fendle_lang::reasons::dead::{
    DeadPart, Fact, Typed, fact_text, gallery, minimal_part, typed_states, write_values,
};
use fendle_lang::reasons::effects::{Effects, QUICK_WAYS, WAYS_MAX, goal_ways};
use fendle_lang::reasons::invariant::{Apart, Invariants};
use fendle_lang::reasons::keeps::{Proof, proof};
use fendle_lang::run::{Eval, RunFault};
use fendle_lang::{Bound, Game};
use serde::{Serialize, Serializer};
use serde_json::{Value, json};

use crate::answer::{Answer, Asked, StoppedBy, Trouble, Verdict, trouble_of};
use crate::bound::{Relaxed, puzzle_of_large, relax};
use crate::budget::Budget;
use crate::explore::searched_by_number;
use crate::hunt::{FIRST_EFFORT, Hunt, Promise};
use crate::knowledge::needs_known;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::routes::{call_text, class_word};
use crate::solve::{NEAR_STATES, found_json, proof_json};
use fendle_core::numbers::{counted, grouped};

/// Transitions above which quantities are not looked for in what was seen.
const SEEN_MAX: u64 = 500_000;
/// Kept quantities shown where none of them decides.
const KEPT_SHOWN: usize = 4;
/// Ways through the rules that are followed for these: they say why nothing, so that they may not take long.
const SHOWN_WAYS: usize = 30_000;
/// Terms of a quantity that was only checked: more would say nothing to anybody.
const TERMS_SEEN: usize = 6;

/// The space over which something is called dead.
struct Ground {
    game: Game,
    found: Explored,
    /// Over which states, in words.
    over: String,
    /// For programs.
    kind: &'static str,
}

impl Ground {
    /// The level's own space from where its play begins, with every state standing for itself.
    fn of_level(store: &Store, level: &Loaded, start: &[i32], budget: &Budget) -> Result<Ground, Trouble> {
        Ground::of_game(store, level, level.game.apart().at(start.to_vec()), budget)
    }

    /// The space of a game of the level.
    fn of_game(store: &Store, level: &Loaded, game: Game, budget: &Budget) -> Result<Ground, Trouble> {
        let found = searched_by_number(store, level, &game, budget)?;
        let states = counted(found.counts.states, "state", "states");
        let over = if found.counts.is_whole() {
            format!("the {states} of this level")
        } else {
            format!("{states} of this level, which are not all")
        };
        Ok(Ground { game, found, over, kind: "reached" })
    }

    /// All typed states, or all placements of the same pieces; `None` where there are too many.
    fn typed(game: &Game, all: bool, budget: &Budget) -> Option<Ground> {
        let effects = Effects::of(&game.bound, WAYS_MAX, &mut || budget.is_stopped());
        let (typed, states) = typed_states(game, effects.as_ref(), all, &mut || budget.is_stopped())?;
        if states.is_empty() {
            return None;
        }
        let mut game = game.apart();
        game.starts = states.into_iter().map(|s| (s, 1)).collect();
        let found = fendle_core::explore(&game, budget.limits(), false, budget).ok()?;
        if found.fault.is_some() {
            return None;
        }
        let n = counted(found.counts.states, "state", "states");
        let (over, kind) = match typed {
            Typed::All => (format!("all {n} that the types allow, reachable or not"), "typed"),
            Typed::Placements => {
                (format!("{n}: every placement of the same pieces, and what follows from them"), "placements")
            }
        };
        Some(Ground { game, found, over, kind })
    }

    /// What the space says of a state.
    fn class(&self, state: &[i32]) -> Option<Class> {
        let id = self.found.space.find(&self.game.pack(state))?;
        Some(self.found.space.class(id))
    }

    /// A part of a state that is dead wherever it stands, if it stands anywhere but there.
    fn part(&self, state: &[i32], budget: &Budget) -> Option<Part> {
        let part = minimal_part(&self.game, &self.found.space, state, &mut || budget.is_stopped())?;
        let mut agreeing = 0;
        let mut other = vec![];
        for id in self.found.space.ids() {
            write_values(&self.game, &self.found.space, id, &mut other);
            agreeing += u64::from(part.facts.iter().all(|f| other[f.at] == f.value));
        }
        Some(Part::new(self, part, state, agreeing))
    }

    fn has_hope(&self) -> bool {
        let c = &self.found.counts;
        c.winnable + c.goal + c.open + c.free > 0
    }
}

/// A part of a position that is dead wherever it stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Part {
    /// Its facts.
    pub facts: Vec<Fact>,
    /// The same in words.
    pub words: Vec<String>,
    /// A position that holds it.
    pub position: Position,
    /// How many states of the space hold it.
    pub agreeing: u64,
}

impl Part {
    fn new(ground: &Ground, part: DeadPart, state: &[i32], agreeing: u64) -> Part {
        let b = &ground.game.bound;
        Part {
            words: part.facts.iter().map(|f| fact_text(b, *f)).collect(),
            facts: part.facts,
            position: Position::new(b, state),
            agreeing,
        }
    }

    /// Whether it says more than which state this is: some other state holds it too.
    #[must_use]
    pub fn is_reason(&self) -> bool {
        self.agreeing > 1
    }
}

impl Serialize for Part {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        self.words.serialize(s)
    }
}

/// A fatal move, or a fatal draw.
#[derive(Clone, Debug)]
pub struct Fatal {
    /// The move, or the move with the draw.
    pub name: String,
    /// How many outcomes it stands for: where a move has many, one is told for all of its class.
    pub outcomes: usize,
    /// What it leads to.
    pub class: Class,
    /// In words, where the game ends with it.
    pub ended: Option<String>,
    /// What it leaves behind.
    pub part: Option<Part>,
}

/// A quantity that no move changes, with its value here.
#[derive(Clone, Debug, Serialize)]
pub struct KeptHere {
    /// As the language writes it.
    pub quantity: String,
    /// In words.
    pub words: String,
    /// As a line of a model.
    pub keeps: String,
    /// Its value here.
    pub here: i64,
}

/// Why a position is dead.
#[derive(Clone, Debug)]
pub struct Dead {
    /// Dead, or stuck.
    pub class: Class,
    /// A kept quantity that proves it.
    pub kept: Option<Proof>,
    /// Quantities that are kept on every transition from here that was seen.
    pub seen: Option<Vec<Apart>>,
    /// Transitions that were seen from here.
    pub transitions: u64,
    /// A part of it that is dead wherever it stands.
    pub part: Option<Part>,
    /// Over which states that is said, in words.
    pub over: String,
    /// The same for programs.
    pub over_kind: &'static str,
    /// States of that space.
    pub over_states: u64,
    /// Something in that space can be won.
    pub has_hope: bool,
    /// States that can be reached from here.
    pub states: u64,
    /// All typed states were asked for and are too many.
    pub too_many_typed: bool,
}

/// What a position that can be won stands to lose.
#[derive(Clone, Debug)]
pub struct Winnable {
    /// The class: winnable, or free.
    pub class: Class,
    /// Moves to a goal at the least.
    pub far: Option<u32>,
    /// How many moves are allowed.
    pub moves: usize,
    /// Fatal moves.
    pub fatal: Vec<Fatal>,
    /// Fatal outcomes of moves that also have others.
    pub draws: Vec<Fatal>,
    /// Moves of which it is not known whether they are fatal: not all that they lead to was seen.
    pub unknown: usize,
    /// All states were seen: what is said of parts holds wherever they stand.
    pub complete: bool,
    /// Over which states dead parts are named.
    pub over_kind: &'static str,
    /// Kept quantities.
    pub kept: Vec<KeptHere>,
}

/// What is proved of a position of a level that is too large to be seen whole: by relaxed puzzles, some of its things alone.
#[derive(Clone, Debug)]
pub struct Large {
    /// Things that alone cannot get where the goal wants them, where that is so.
    pub dead: Option<Part>,
    /// No solution has fewer moves than this.
    pub least: Option<u32>,
    /// Moves of a solution that was found.
    pub solution: Option<usize>,
    /// How many moves are allowed.
    pub moves: usize,
    /// Moves of which it is proved that they are fatal.
    pub fatal: Vec<Fatal>,
}

/// Answers to the question why.
#[derive(Clone, Debug)]
pub enum Reason {
    /// The position has ended: how.
    Ended(String),
    /// A kept quantity decides, and no state was visited.
    Kept(Proof),
    /// Not decided; `declared`: a declared quantity would decide if it were proved.
    Undecided {
        /// States seen.
        states: u64,
        /// A declared quantity would decide.
        declared: bool,
    },
    /// Dead or stuck.
    Dead(Box<Dead>),
    /// It can be won.
    Winnable(Box<Winnable>),
    /// The level is too large to be seen whole.
    Large(Box<Large>),
}

/// Why a position is as it is.
#[derive(Clone, Debug)]
pub struct Why {
    /// The position.
    pub position: Position,
    /// Nothing is drawn in this level.
    pub sure: bool,
    /// The reason.
    pub reason: Reason,
}

/// The value for programs of [`one_position`].
#[must_use]
pub fn why_json(level: &Loaded, why: &Why, stopped: Option<&StoppedBy>) -> Value {
    let fatal = |m: &Fatal, key: &str| json!({key: m.name, "outcomes": m.outcomes, "leads_to": class_word(m.class), "dead_part": m.part});
    match &why.reason {
        Reason::Ended(words) => json!({"status": words, "position": why.position}),
        Reason::Kept(kept) => {
            json!({"status": "dead", "position": why.position, "reasons": [proof_json(level, kept)]})
        }
        Reason::Undecided { states, declared } => {
            json!({"status": "undecided", "why": undecided_words(stopped, *states, *declared), "states": states})
        }
        Reason::Dead(d) => {
            let mut reasons: Vec<Value> = d.kept.iter().map(|k| proof_json(level, k)).collect();
            if let Some(list) = &d.seen {
                reasons.push(json!({
                    "kind": "kept quantity",
                    "found": true,
                    "how": "checked on every transition of this space",
                    "transitions": d.transitions,
                    "quantities": list.iter().map(|a| found_json(level, a)).collect::<Vec<_>>(),
                }));
            }
            if let Some(p) = d.part.as_ref().filter(|p| p.is_reason()) {
                reasons.push(json!({
                    "kind": "dead part",
                    "part": p,
                    "over": d.over_kind,
                    "states": d.over_states,
                    "agreeing": p.agreeing,
                }));
            }
            reasons.push(json!({"kind": "exhausted space", "states": d.states}));
            json!({"status": class_word(d.class), "position": why.position, "reasons": reasons})
        }
        Reason::Large(l) => json!({
            "status": match (&l.dead, l.solution) {
                (Some(_), _) => "dead",
                (_, Some(_)) => "winnable",
                _ => "undecided",
            },
            "position": why.position,
            "reasons": l.dead.iter().map(|p| json!({"kind": "relaxed puzzle", "part": p})).collect::<Vec<_>>(),
            "least": l.least,
            "solution_moves": l.solution,
            "moves": l.moves,
            "fatal_moves": l.fatal.iter().map(|m| fatal(m, "move")).collect::<Vec<_>>(),
            "over": "relaxed",
        }),
        Reason::Winnable(w) => json!({
            "status": class_word(w.class),
            "position": why.position,
            "moves_to_goal": w.far,
            "moves": w.moves,
            "fatal_moves": w.fatal.iter().map(|m| fatal(m, "move")).collect::<Vec<_>>(),
            "fatal_draws": w.draws.iter().map(|m| fatal(m, "draw")).collect::<Vec<_>>(),
            "unknown_moves": w.unknown,
            "complete": w.complete,
            "over": w.over_kind,
            "kept": w.kept,
        }),
    }
}

/// An undecided answer in words.
#[must_use]
pub fn undecided_words(stopped: Option<&StoppedBy>, states: u64, declared: bool) -> String {
    format!(
        "undecided: stopped by {} after {}; no kept quantity that is proved separates this position from a goal{}",
        stopped.map_or("a limit", |s| s.words.as_str()),
        counted(states, "state", "states"),
        if declared { ", and a declared one that would is not proved" } else { "" }
    )
}

/// Whether a goal is found among the nearest states.
fn can_be_won_soon(game: &Game, budget: &Budget) -> bool {
    fendle_core::solve(game, budget.limits_within(NEAR_STATES), budget)
        .is_ok_and(|s| matches!(s.verdict, Solved::Solvable(_)))
}

/// Why the position of a level cannot be won, or what its fatal moves destroy.
///
/// # Errors
///
/// [`Trouble`] where that cannot be asked.
pub fn one_position(
    store: &Store,
    level: &Loaded,
    typed: bool,
    budget: &Budget,
) -> Result<Answer<Why>, Trouble> {
    needs_known(level, "why")?;
    needs_goal(level)?;
    let game = &level.game;
    let b = &game.bound;
    let position = Position::new(b, &b.position);
    let answer = |reason: Reason, holds: Verdict, states: u64| {
        let why = Why { position: position.clone(), sure: game.is_sure(), reason };
        Answer::new(Asked::of(level), holds, why).took(budget, states)
    };
    let status = Eval::new(b).status(&b.position);
    if let Some(e) = status.map_err(|f| trouble_of(store, level, budget, &f, (&b.position, None)))? {
        let words = b.ending_words(e);
        return Ok(answer(Reason::Ended(words), Verdict::Holds, 0));
    }
    // Where few ways through the rules prove nothing, a near goal comes before the many, which take long.
    let apart = game.apart();
    let (mut kept, mut only_checked) = proof(&apart, QUICK_WAYS, &mut || budget.is_stopped());
    if kept.is_none() && !can_be_won_soon(&apart.at(b.position.clone()), budget) {
        (kept, only_checked) = proof(&apart, WAYS_MAX, &mut || budget.is_stopped());
    }
    if let (Some(kept), false) = (&kept, typed) {
        return Ok(answer(Reason::Kept(kept.clone()), Verdict::Holds, 0));
    }
    if let (false, Some(large)) = (typed, large(store, level, budget)?) {
        let proved = large.dead.is_some() || large.solution.is_some();
        let holds = if proved { Verdict::Holds } else { Verdict::Undecided };
        let limit = budget.stopped().filter(|_| !proved);
        return Ok(answer(Reason::Large(Box::new(large)), holds, 0).stopped(limit, budget));
    }
    // Over which states: those of the level, from where its play begins.
    let begun = &level.history[0];
    let undecided = |ground: &Ground| {
        let c = &ground.found.counts;
        let reason = Reason::Undecided { states: c.states, declared: only_checked.is_some() };
        let limit = c.limit.or(Some(Limit::SetAside));
        answer(reason, Verdict::Undecided, c.states).stopped(limit, budget)
    };
    let can_be_won = |ground: &Ground, class: Class, led: Vec<Led>| {
        let found = winnable(level, ground, (class, led), budget);
        let c = &ground.found.counts;
        // Whether a move is fatal is what was asked.
        let open = found.unknown > 0;
        let holds = if open { Verdict::Undecided } else { Verdict::Holds };
        let limit = c.cut_short().filter(|_| open);
        answer(Reason::Winnable(Box::new(found)), holds, c.states).stopped(limit, budget)
    };
    // Where nothing is dead no part has to be named, and states that are alike may stand for each other: they are far fewer.
    if b.canon.is_some() && !typed {
        let ground = Ground::of_game(store, level, game.at(begun.clone()), budget)?;
        match ground.class(&b.position) {
            // More states, each by itself, would not be seen either.
            Some(Class::Open) => return Ok(undecided(&ground)),
            Some(class) if !class.is_bad() => {
                let led = led_to(store, level, &ground, budget)?;
                if led.iter().all(|l| l.to.iter().all(|o| !o.class.is_bad())) {
                    return Ok(can_be_won(&ground, class, led));
                }
            }
            _ => {}
        }
    }
    let mut ground = Ground::of_level(store, level, begun, budget)?;
    let mut class = ground.class(&b.position);
    if class.is_none() && ground.found.counts.limit.is_none() {
        // The position is none of this level's.
        ground = Ground::of_level(store, level, &b.position, budget)?;
        let states = counted(ground.found.counts.states, "state", "states");
        ground.over = format!("the {states} from this position on");
        class = ground.class(&b.position);
    }
    let class = class.unwrap_or(Class::Open);
    let states = ground.found.counts.states;
    if class == Class::Open {
        return Ok(undecided(&ground));
    }
    if !class.is_bad() {
        let led = led_to(store, level, &ground, budget)?;
        return Ok(can_be_won(&ground, class, led));
    }
    let dead = dead_here(store, level, (&ground, class), (kept, typed), budget)?;
    let limit = budget.stopped();
    Ok(answer(Reason::Dead(Box::new(dead)), Verdict::Holds, states).stopped(limit, budget))
}

/// Why a position is dead whose class was found.
fn dead_here(
    store: &Store,
    level: &Loaded,
    (ground, class): (&Ground, Class),
    (kept, typed): (Option<Proof>, bool),
    budget: &Budget,
) -> Result<Dead, Trouble> {
    let (game, b) = (&level.game, &level.game.bound);
    let wide = if typed || !ground.has_hope() {
        Ground::typed(game, typed, budget).filter(|g| g.class(&b.position).is_some_and(Class::is_bad))
    } else {
        None
    };
    let from_here = match level.history[0] == b.position && ground.kind == "reached" {
        true => None,
        false => Some(Ground::of_level(store, level, &b.position, budget)?),
    };
    let own = from_here.as_ref().unwrap_or(ground);
    let on = wide.as_ref().unwrap_or(ground);
    let part = if on.has_hope() { on.part(&b.position, budget) } else { None };
    Ok(Dead {
        class,
        seen: if kept.is_none() { seen_apart(&own.game, &own.found, budget) } else { None },
        kept,
        transitions: own.found.counts.transitions,
        too_many_typed: typed && part.is_none(),
        part,
        over: on.over.clone(),
        over_kind: on.kind,
        over_states: on.found.counts.states,
        has_hope: on.has_hope(),
        states: own.found.counts.states,
    })
}

/// Levels with more bits than this are not seen whole here.
const SEEN_BITS: f64 = 28.0;

/// The relaxed puzzles of a level that is too large to be seen whole; `None` where it is not, or its ways are not followed.
pub(crate) fn relaxed_of_large(level: &Loaded, budget: &Budget) -> Result<Option<Relaxed>, Trouble> {
    let game = &level.game;
    if game.starts.len() > 1 {
        return Ok(None);
    }
    match puzzle_of_large(game, SEEN_BITS, budget) {
        Some(task) => Ok(Some(relax(game, task, FIRST_EFFORT, budget)?)),
        None => Ok(None),
    }
}

/// The part of a state that relaxed puzzles say is dead.
fn dead_part(b: &Bound, r: &Relaxed, state: &[i32]) -> Option<Part> {
    let no_way = r.bounds.judge(&r.task).no_way(state)?;
    let facts: Vec<Fact> = (no_way.things.iter().chain(&no_way.places))
        .map(|p| Fact { at: *p as usize, value: state[*p as usize] })
        .collect();
    Some(Part {
        words: facts.iter().map(|f| fact_text(b, *f)).collect(),
        facts,
        position: Position::new(b, state),
        agreeing: 0,
    })
}

/// What relaxed puzzles, and a search for any way, say of the position of a large level.
fn large(store: &Store, level: &Loaded, budget: &Budget) -> Result<Option<Large>, Trouble> {
    let Some(r) = relaxed_of_large(level, budget)? else { return Ok(None) };
    let b = &level.game.bound;
    let mut out = Large {
        dead: dead_part(b, &r, &b.position),
        least: r.bounds.judge(&r.task).says(&b.position).least,
        solution: None,
        moves: 0,
        fatal: vec![],
    };
    for n in 0..level.moves.list.len() {
        let name = level.moves.name(n);
        let made = step(b, &level.moves, &b.position, n, false)
            .map_err(|f| trouble_of(store, level, budget, &f, (&b.position, Some(name))))?;
        let Tried::Made(list) = made else { continue };
        out.moves += 1;
        let Some(state) = list.into_iter().next().map(|p| p.made.state).filter(|_| out.dead.is_none()) else {
            continue;
        };
        let ended = Eval::new(b).status(&state).ok().flatten();
        let ended = ended.filter(|e| b.model.endings[*e].kind != EndKind::Goal);
        let class = if ended.is_some() { Class::Lost } else { Class::Dead };
        let part = if ended.is_some() { None } else { dead_part(b, &r, &state) };
        if ended.is_some() || part.is_some() {
            let ended = ended.map(|e| b.ending_words(e));
            out.fatal.push(Fatal { name: name.to_string(), outcomes: 1, class, ended, part });
        }
    }
    if out.dead.is_none() {
        let hunted = Hunt::new(&level.game, Promise::Any, 0, budget).rounds(1).run(Some(r));
        out.solution = hunted.route.map(|(_, route)| route.moves.len());
    }
    Ok(Some(out))
}

fn needs_goal(level: &Loaded) -> Result<(), Trouble> {
    if level.game.has_goal() {
        return Ok(());
    }
    Err("this model has no goal, so no position is dead; `fendle odds` asks how good its aim can be made"
        .into())
}

/// A move that is allowed, and where it leads.
struct Led {
    name: String,
    to: Vec<LedTo>,
}

/// An outcome of a move, or several of one class.
struct LedTo {
    class: Class,
    /// The values of one of them.
    state: Vec<i32>,
    /// The move with what is drawn.
    called: String,
    outcomes: usize,
}

/// Outcomes of a move up to which the bad ones are told one by one, with what is drawn.
const TOLD_APART: usize = 32;

/// The allowed moves of the position of a level. Of outcomes that are not bad one stands for all, and where there are many outcomes one stands
/// for the bad ones of each class.
fn led_to(store: &Store, level: &Loaded, ground: &Ground, budget: &Budget) -> Result<Vec<Led>, Trouble> {
    let (b, game, space) = (&level.game.bound, &ground.game, &ground.found.space);
    let class = |state: &[u64]| space.find(state).map_or(Class::Open, |id| space.class(id));
    let mut made = Expansion::default();
    game.worker().expand(&game.pack(&b.position), false, &mut made);
    let whole = made.faults.is_empty() && made.unfinished.is_empty();
    let mut out = vec![];
    if !whole {
        for n in 0..level.moves.list.len() {
            let name = level.moves.name(n);
            let step = drawn_apart(level, ground, n);
            let outcomes =
                step.map_err(|f| trouble_of(store, level, budget, &f, (&b.position, Some(name))))?;
            out.extend(outcomes.map(|to| Led { name: name.to_string(), to }));
        }
        return Ok(out);
    }
    let mut states = made.outcomes.chunks_exact(game.layout().words());
    for run in &made.runs {
        let name = level.moves.name(run.of.0 as usize).to_string();
        let to: Vec<(Class, &[u64])> =
            states.by_ref().take(run.outcomes as usize).map(|state| (class(state), state)).collect();
        let is_bad = to.iter().any(|o| o.0.is_bad());
        let mut led = if is_bad && to.len() <= TOLD_APART {
            // `None` and a fault are those of a position that is like this one.
            drawn_apart(level, ground, run.of.0 as usize).ok().flatten().unwrap_or_default()
        } else {
            vec![]
        };
        let one = |(class, state): &(Class, &[u64]), called: String, outcomes: usize| LedTo {
            class: *class,
            state: game.unpack(state),
            called,
            outcomes,
        };
        if is_bad && led.is_empty() {
            for to_bad in to.iter().filter(|o| o.0.is_bad()) {
                if led.iter().all(|l: &LedTo| l.class != to_bad.0) {
                    let alike = to.iter().filter(|o| o.0 == to_bad.0).count();
                    let many = if to.len() == 1 {
                        String::new()
                    } else {
                        format!(" ({alike} of {} outcomes)", to.len())
                    };
                    led.push(one(to_bad, format!("{name}{many}"), alike));
                }
            }
        }
        // What is not bad stands together, and so does what is not known, as branches that were set aside.
        let others = [Class::is_hopeful as fn(Class) -> bool, |class| class == Class::Open];
        let others = others.into_iter().filter_map(|is| to.iter().find(|o| is(o.0)));
        led.extend(others.map(|other| one(other, name.clone(), 1)));
        out.push(Led { name, to: led });
    }
    Ok(out)
}

/// Where a move from the position of a level leads, each outcome with what is drawn. `None` where it is not allowed.
fn drawn_apart(level: &Loaded, ground: &Ground, number: usize) -> Result<Option<Vec<LedTo>>, RunFault> {
    let b = &level.game.bound;
    let Tried::Made(list) = step(b, &level.moves, &b.position, number, false)? else { return Ok(None) };
    let one = |p: Played| {
        let class = ground.class(&p.made.state).unwrap_or(Class::Open);
        let called = call_text(level.moves.name(number), &p);
        LedTo { class, state: p.made.state, called, outcomes: 1 }
    };
    Ok(Some(merged(list).into_iter().map(one).collect()))
}

/// What a position that can be won stands to lose.
fn winnable(level: &Loaded, ground: &Ground, (class, led): (Class, Vec<Led>), budget: &Budget) -> Winnable {
    let b = &level.game.bound;
    let space = &ground.found.space;
    let (mut fatal, mut draws, mut unknown, moves) = (vec![], vec![], 0, led.len());
    let one = |name: String, to: &LedTo| {
        let why = Eval::new(b).status(&to.state).ok().flatten();
        let ends = matches!(to.class, Class::Lost | Class::Over);
        let part = if ends { None } else { ground.part(&to.state, budget) };
        let ended = why.map(|e| b.ending_words(e));
        Fatal { name, outcomes: to.outcomes, class: to.class, ended, part }
    };
    for Led { name, to } in led {
        if to.iter().all(|o| o.class.is_bad()) {
            fatal.push(Fatal { outcomes: to.iter().map(|o| o.outcomes).sum(), ..one(name, &to[0]) });
        } else {
            unknown += usize::from(to.iter().all(|o| !o.class.is_hopeful()));
            draws.extend(to.iter().filter(|o| o.class.is_bad()).map(|o| one(o.called.clone(), o)));
        }
    }
    let far = Distances::of_explored(&ground.game, &ground.found, &budget.limits(), budget).ok();
    let id = space.find(&ground.game.pack(&b.position));
    Winnable {
        class,
        far: far.zip(id).and_then(|(far, id)| far.get(id)),
        moves,
        fatal,
        draws,
        unknown,
        complete: ground.found.counts.is_whole(),
        over_kind: ground.kind,
        kept: kept_list(level, budget),
    }
}

/// Quantities that are kept on every transition that was seen from a position, and separate it from every goal.
fn seen_apart(game: &Game, found: &Explored, budget: &Budget) -> Option<Vec<Apart>> {
    let (b, space) = (&game.bound, &found.space);
    let few = found.counts.transitions <= SEEN_MAX && found.counts.limit.is_none();
    if !few || game.bound.canon.is_some() || budget.is_stopped() {
        return None;
    }
    let ways = goal_ways(b).filter(|w| !w.is_empty() && w.len() <= 16)?;
    let transitions = found.transitions(game, &budget.limits(), budget).ok()??;
    let mut pairs = vec![];
    for depth in 0..space.levels_len() {
        transitions.each(depth, |id, edges| pairs.extend(edges.iter().map(|e| (id, e.to))));
    }
    let states = pairs.into_iter().map(|(a, b)| (game.unpack(&space.state(a)), game.unpack(&space.state(b))));
    let effects = Effects::seen(states, 50_000)?;
    let invariants = Invariants::new(b, &effects);
    let mut out: Vec<Apart> = vec![];
    for pins in &ways {
        let apart = invariants.separates(&b.position, pins, false)?;
        if apart.quantity.terms.len() > TERMS_SEEN {
            return None;
        }
        if !out.contains(&apart) {
            out.push(apart);
        }
    }
    Some(out)
}

/// Quantities that no move changes, by the rules alone, with their values here.
fn kept_list(level: &Loaded, budget: &Budget) -> Vec<KeptHere> {
    let b = &level.game.bound;
    let Some(effects) = Effects::of(b, SHOWN_WAYS, &mut || budget.is_stopped()) else { return vec![] };
    let invariants = Invariants::new(b, &effects);
    let here = |q: fendle_lang::reasons::invariant::Quantity| KeptHere {
        here: invariants.value_in(&q, &b.position),
        quantity: q.text(b),
        words: q.words(b),
        keeps: q.keeps_line(b),
    };
    invariants.list(KEPT_SHOWN).into_iter().map(here).collect()
}

/// One dead part of a level.
#[derive(Clone, Debug, Serialize)]
pub struct Pattern {
    /// Dead and stuck states that hold it.
    pub states: u64,
    /// The part.
    pub part: Part,
    /// A position that holds it, one of the nearest.
    pub example: Position,
}

/// The dead parts of a level.
#[derive(Clone, Debug, Serialize)]
pub struct DeadParts {
    /// Over which states, for programs.
    pub over: &'static str,
    /// The same in words.
    #[serde(skip)]
    pub over_words: String,
    /// States of that space.
    pub states: u64,
    /// They were all seen.
    pub complete: bool,
    /// Dead and stuck states.
    pub dead_states: u64,
    /// Those that hold one of the parts.
    pub explained: u64,
    /// Those whose every such part is held by no other state: coincidences, no reasons.
    pub alone: u64,
    /// There are more parts than were asked for.
    pub capped: bool,
    /// The parts, most frequent first.
    pub parts: Vec<Pattern>,
    /// The most parts that were asked for.
    #[serde(skip)]
    pub most: usize,
}

/// All dead parts of a level.
///
/// # Errors
///
/// [`Trouble`] where that cannot be asked.
pub fn dead_parts(
    store: &Store,
    level: &Loaded,
    (typed, most): (bool, usize),
    budget: &Budget,
) -> Result<Answer<DeadParts>, Trouble> {
    needs_known(level, "why")?;
    needs_goal(level)?;
    let mut ground = Ground::of_level(store, level, &level.history[0], budget)?;
    if typed || !ground.has_hope() {
        match Ground::typed(&level.game, typed, budget) {
            Some(wide) => ground = wide,
            None if budget.is_stopped() => return Err(budget.stopped().unwrap_or(Limit::Time).into()),
            None if typed => {
                return Err("the typed states are too many to be enumerated, and so are the placements of the pieces; \
                     without --typed the states of the level are looked at"
                    .into());
            }
            None => {}
        }
    }
    if !ground.has_hope() {
        return Err("nothing in this level can be won, so no part of a position is to blame more than another; `fendle why` \
             without --all says why"
            .into());
    }
    let found = gallery(&ground.game, &ground.found.space, most, &mut || budget.is_stopped());
    let limit = ground.found.counts.limit.or(found.stopped.then(|| budget.stopped()).flatten());
    let states = ground.found.counts.states;
    let parts = DeadParts {
        over: ground.kind,
        states,
        complete: limit.is_none(),
        dead_states: found.dead,
        explained: found.explained,
        alone: found.alone,
        capped: found.explained + found.alone < found.dead,
        parts: found
            .patterns
            .into_iter()
            .map(|p| Pattern {
                states: p.states,
                example: Position::new(&ground.game.bound, &p.example),
                part: Part::new(&ground, p.part, &p.example, p.states),
            })
            .collect(),
        over_words: ground.over,
        most,
    };
    let holds = if limit.is_none() { Verdict::Holds } else { Verdict::Undecided };
    Ok(Answer::new(Asked::of(level), holds, parts).stopped(limit, budget).took(budget, states))
}

/// `the one state that ... is`, `all 45 states that ... are`.
#[must_use]
pub fn all_of(n: u64, one: &str, many: &str) -> String {
    match n {
        1 => format!("the one state that {one} is"),
        n => format!("all {} states that {many} are", grouped(n)),
    }
}
