//! A shortest solution, or a proof that there is none, or what stands in the way.

use fendle_core::solve::solve_seeing;
use fendle_core::{Limit, Model as _, Route, Space};
use fendle_lang::Game;
use fendle_lang::play::is_won;
use fendle_lang::reasons::effects::{QUICK_WAYS, SOLVE_WAYS};
use fendle_lang::reasons::invariant::Apart;
use fendle_lang::reasons::keeps::{Kept, Proof, proof};
use fendle_lang::run::Eval;
use fendle_lang::state::{Stop, ending_text};
use serde::Serialize;
use serde_json::{Value, json};

use crate::answer::{Answer, Asked, Trouble, Verdict, fault_report, start_breaks};
use crate::bound::{Relaxed, puzzle};
use crate::budget::Budget;
use crate::examples::example;
use crate::explore::what_is_known;
use crate::fairness;
use crate::hunt::{Attempt, Hunt, Hunted, Promise, first_relaxed, no_goal_words};
use crate::knowledge::{needs_known, needs_layout, play};
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::routes::{PlayedRoute, call_text, played_route};
use fendle_core::numbers::{counted, grouped};

/// Where a way begins, if there are several starts: in one line, as `--at` takes it.
pub(crate) fn begins_at(game: &Game, positions: &[Position]) -> Option<String> {
    positions.first().filter(|_| game.starts.len() > 1).map(|p| p.line.clone())
}

/// So many states are looked through for a goal before many ways through the rules are followed.
pub(crate) const NEAR_STATES: u64 = 30_000;

/// What solving a level found.
#[derive(Clone, Debug, Serialize)]
pub struct Solved {
    /// `solvable`, `unsolvable`, `undecided`, `no goal` or `fault`.
    pub verdict: &'static str,
    /// How many moves the solution has.
    pub moves: Option<usize>,
    /// Its moves, with what is drawn on the way.
    pub solution: Option<Vec<String>>,
    /// It depends on what is drawn.
    pub if_lucky: bool,
    /// The proof for programs.
    pub proof: Value,
    /// The proof in words, or what is missing.
    #[serde(skip)]
    pub words: String,
    /// Distinct states seen.
    pub states: u64,
    /// Bits of one packed state.
    pub bits_per_state: u32,
    /// Of several starts the one that the solution begins at, in one line: as `--at` takes it.
    pub begins_at: Option<String>,
    /// The positions passed through, the start first.
    #[serde(skip)]
    pub positions: Vec<Position>,
    /// Where the level begins.
    #[serde(skip)]
    pub start: Position,
    /// The kept quantities that are the proof.
    #[serde(skip)]
    pub kept: Option<Proof>,
    /// The solution is a game that was played, and this limit kept a shortest one from being searched.
    #[serde(skip)]
    pub by_play: Option<Limit>,
    /// No solution has fewer moves than this, as far as it is known.
    pub least: Option<u32>,
    /// Where there is a solution: it is proved that none has fewer moves, or counts less, where something else is counted.
    pub shortest: bool,
    /// What the solution counts, where something else than moves is counted.
    pub counting: Option<CountedAs>,
    /// What a guided search tried, and how far each way got.
    #[serde(skip)]
    pub tried: Vec<Attempt>,
}

impl Solved {
    /// Takes a solution as it was played: its moves and positions.
    pub(crate) fn take(&mut self, level: &Loaded, played: &PlayedRoute) {
        let names = played.moves.iter().map(|(n, p)| call_text(level.moves.name(*n), p));
        self.moves = Some(played.moves.len());
        self.solution = Some(names.collect());
        self.positions = played.states.iter().map(|s| Position::new(&level.game.bound, s)).collect();
    }
}

/// What a solution counts, where something else than moves is counted.
#[derive(Clone, Debug, Serialize)]
pub struct CountedAs {
    /// What is counted.
    pub name: String,
    /// What the solution counts.
    pub count: Option<u32>,
    /// No solution counts less, as far as it is known.
    pub least: Option<u32>,
}

/// Solves a level whose layout is known, or that hides nothing. `closed` is shown the space where it is exhausted and holds no
/// goal.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to be searched.
pub fn solve(
    store: &Store,
    level: &Loaded,
    promise: Promise,
    budget: &Budget,
    closed: Closed,
) -> Result<Answer<Solved>, Trouble> {
    if level.known {
        needs_layout(level, "solve --known")?;
    }
    let game = &level.game;
    let b = &game.bound;
    let none = nothing_found(level);
    let asked = Asked::of(level);
    if let Some(found) = without_search(level) {
        return Ok(Answer::new(asked, Verdict::Fails, found).took(budget, 0));
    }
    // The rules first: a kept quantity that is proved needs no search. How many ways through the rules are followed is what
    // `why` allows itself, so that what the one can prove the other can. Where few ways prove nothing, a near goal comes before
    // the many: then there is a solution, and nothing to be proved.
    let mut stopped = || budget.is_stopped();
    let (mut kept, mut only_checked) = proof(game, QUICK_WAYS, &mut stopped);
    let mut near = None;
    if kept.is_none() {
        let found = solve_seeing(game, budget.limits_within(NEAR_STATES), budget, &mut |_| {});
        near = found.ok().filter(|s| matches!(s.verdict, fendle_core::Verdict::Solvable(_)));
        if near.is_none() {
            (kept, only_checked) = proof(game, SOLVE_WAYS, &mut stopped);
        }
    }
    if let Some(kept) = kept {
        return Ok(Answer::new(asked, Verdict::Fails, by_kept(level, kept)).took(budget, 0));
    }
    let solved = match near {
        Some(near) => near,
        None => match seen_or_hunted(level, promise, budget, closed)? {
            Reached::Seen(solved) => solved,
            Reached::Hunted(hunted) => return hunted_answer(store, level, (promise, *hunted), none, budget),
        },
    };
    let mut found = Solved { states: solved.states, ..none };
    let (mut holds, mut limit, mut fault) = (Verdict::Fails, None, None);
    match solved.verdict {
        fendle_core::Verdict::Solvable(route) => {
            let played = replayed(level, game, &route)?;
            holds = Verdict::Holds;
            found.verdict = "solvable";
            found.if_lucky = !game.is_sure() || game.starts.len() > 1;
            found.take(level, &played);
            found.shortest = true;
            found.begins_at = begins_at(game, &found.positions);
            found.words = "replayed by the reference executor".into();
            found.least = Some(found.moves.unwrap_or(0) as u32);
            found.proof = json!({"kind": "solution", "replayed": true, "if_lucky": found.if_lucky});
        }
        fendle_core::Verdict::Unsolvable => {
            let states = counted(solved.states, "state", "states");
            found.words = format!("the space is exhausted: none of its {states} is won");
            found.proof = json!({"kind": "exhausted space", "states": solved.states});
        }
        fendle_core::Verdict::Undecided(by) => {
            (holds, limit) = (Verdict::Undecided, Some(by));
            found.verdict = "undecided";
            found.least = Some(solved.least);
            found.words = format!("stopped by {}; {}", budget.words(by), no_goal_words(solved.least));
            found.proof = json!({"kind": "none", "limit": by, "depth": solved.least.checked_sub(1)});
            if let Some(sep) = only_checked {
                let why = &b.model.keeps[sep.keeps].why;
                found.words.push_str(&format!(
                    "; unsolvable if a declared quantity is kept, which is not proved: it is {} here and {} wherever the goal holds ({why})",
                    sep.here, sep.wanted
                ));
                found.proof["unsolvable_if_kept"] =
                    json!({"because": why, "here": sep.here, "wanted": sep.wanted});
            }
        }
        fendle_core::Verdict::Faulted(faulted) => {
            found.verdict = "fault";
            fault = Some(fault_report(store, level, &faulted));
        }
    }
    // Where chance kept the search from the goal, a game that reaches it proves that it can be reached.
    if let Some(by) = limit.filter(|_| !game.is_sure())
        && let (Some(example), _) = example(level, budget, &mut |state| Ok(is_won(b, state)))?
    {
        (holds, limit) = (Verdict::Holds, None);
        found.verdict = "solvable";
        found.if_lucky = true;
        found.by_play = Some(by);
        found.words = format!("the search for a shortest way was stopped by {}", budget.words(by));
        found.proof = json!({"kind": "solution", "replayed": true, "if_lucky": true, "shortest": false});
        found.positions = example.1.iter().map(|s| Position::new(b, s)).collect();
        found.begins_at = begins_at(game, &found.positions);
        found.moves = Some(example.0.len());
        found.solution = Some(example.0);
    }
    Ok(Answer::new(asked, holds, found).stopped(limit, budget).faulted(fault).took(budget, solved.states))
}

/// No solution yet.
pub(crate) fn nothing_found(level: &Loaded) -> Solved {
    let game = &level.game;
    let b = &game.bound;
    Solved {
        verdict: "unsolvable",
        moves: None,
        solution: None,
        if_lucky: false,
        proof: Value::Null,
        words: String::new(),
        states: 0,
        bits_per_state: game.layout().bits,
        begins_at: None,
        positions: vec![],
        start: Position::new(b, &b.position),
        kept: None,
        by_play: None,
        least: None,
        shortest: false,
        counting: None,
        tried: vec![],
    }
}

/// What can be said before any search: there is no goal, or the start has ended.
pub(crate) fn without_search(level: &Loaded) -> Option<Solved> {
    let game = &level.game;
    let none = nothing_found(level);
    if !game.has_goal() {
        let what =
            if game.aim().is_some() { "; `fendle odds` asks how good its aim can be made" } else { "" };
        let words = format!("this model has no goal, so there is nothing to solve{what}");
        return Some(Solved { verdict: "no goal", proof: json!({"kind": "no goal"}), words, ..none });
    }
    if game.starts.len() > 1 {
        return None;
    }
    let ended = ended_at_start(level)?;
    let words = format!("the start has ended: {ended}");
    Some(Solved { proof: json!({"kind": "ended", "status": ended}), words, ..none })
}

/// A kept quantity says that there is no solution.
pub(crate) fn by_kept(level: &Loaded, kept: Proof) -> Solved {
    let words = proof_lines(level, &kept).join("; ");
    Solved { proof: proof_json(level, &kept), words, kept: Some(kept), ..nothing_found(level) }
}

/// A solution as the reference executor plays it: its moves by number, with what was drawn, and its states.
///
/// # Errors
///
/// [`Trouble`] where it does not hold.
pub(crate) fn replayed(level: &Loaded, game: &Game, route: &Route) -> Result<PlayedRoute, Trouble> {
    let wrong = |why: String| {
        Trouble::Message(format!("the solution found does not hold: {why}; this is a mistake in fendle"))
    };
    // To play it again takes no time worth mentioning, and is done after a limit, too.
    let mut game = game.clone();
    game.bound.stop = Stop::default();
    let played = played_route(&game, &level.moves, route).map_err(wrong)?;
    if !is_won(&game.bound, played.states.last().expect("a route has a start")) {
        return Err(wrong("the last state is no goal".into()));
    }
    Ok(played)
}

/// Who is shown the space where it is exhausted and holds no goal; `None` where nobody wants to file it.
pub type Closed<'c> = Option<&'c mut dyn FnMut(&Space)>;

/// What the search for a goal came to.
enum Reached {
    /// The states were looked through.
    Seen(fendle_core::Solved),
    /// Ways were looked for.
    Hunted(Box<Hunted>),
}

/// Above so many bits the states of a level are not looked through one by one before anything else.
const FEW_BITS: f64 = 26.0;
/// Above so many not even the first of them.
const MANY_BITS: f64 = 37.0;
/// The first states of a level of which not much is known.
const FIRST_STATES: u64 = 300_000;
/// Moves that are tried on the first states of a level where nothing is known of how many there are.
const UNKNOWN_TRIES: u64 = 24_000_000;

/// Looks through the states where there are few; else hunts for a solution.
fn seen_or_hunted(
    level: &Loaded,
    promise: Promise,
    budget: &Budget,
    closed: Closed,
) -> Result<Reached, Trouble> {
    let game = &level.game;
    let is_filed = closed.is_some();
    let mut unseen = |_: &Space| {};
    let closed = closed.unwrap_or(&mut unseen);
    let mut through = |most: u64| {
        solve_seeing(game, budget.limits_within(most), budget, closed).map_err(|f| start_breaks(level, &f))
    };
    if !game.is_sure() || game.starts.len() > 1 || game.bound.model.cuts {
        return Ok(Reached::Seen(through(u64::MAX)?));
    }
    let task = puzzle(game, budget);
    let bits = task.as_ref().map(|t| t.size_log2());
    let most = match bits {
        Some(bits) if bits <= FEW_BITS => u64::MAX,
        Some(bits) if bits > MANY_BITS => 0,
        // What is filed are the states that were seen.
        _ if is_filed => u64::MAX,
        Some(_) => FIRST_STATES,
        None if promise == Promise::Any => 0,
        None => UNKNOWN_TRIES / game.moves_len().max(1) as u64,
    };
    // What is proved without a search comes before it.
    let mut relaxed = None;
    let is_large = bits.is_some_and(|b| b > FEW_BITS);
    if let Some(task) = task.filter(|_| most != u64::MAX || is_filed && is_large) {
        match first_relaxed(game, task, budget) {
            Ok(found) => relaxed = Some(found),
            Err(_) if budget.is_stopped() => {}
            Err(limit) => return Err(limit.into()),
        }
    }
    let is_dead = |r: &Relaxed| r.bounds.judge(&r.task).says(&r.task.start).least.is_none();
    let mut depth = 0;
    if most > 0 && !relaxed.as_ref().is_some_and(is_dead) {
        let solved = through(most)?;
        let wanted = budget.limits().max_states;
        let cut =
            matches!(solved.verdict, fendle_core::Verdict::Undecided(Limit::MaxStates)) && most < wanted;
        if !cut {
            return Ok(Reached::Seen(solved));
        }
        depth = solved.least;
    }
    let hunt = Hunt::new(game, promise, depth, budget);
    Ok(Reached::Hunted(Box::new(hunt.run(relaxed))))
}

/// The answer of a hunt.
fn hunted_answer(
    store: &Store,
    level: &Loaded,
    (promise, hunted): (Promise, Hunted),
    none: Solved,
    budget: &Budget,
) -> Result<Answer<Solved>, Trouble> {
    let asked = Asked::of(level);
    let states = hunted.states;
    let mut found = Solved { states, tried: hunted.tried, least: hunted.least, ..none };
    // As on small boards: a fault outweighs what lies behind it.
    if let Some(faulted) = &hunted.fault {
        found.verdict = "fault";
        let fault = Some(fault_report(store, level, faulted));
        return Ok(Answer::new(asked, Verdict::Fails, found).faulted(fault).took(budget, states));
    }
    if let Some((game, route)) = &hunted.route {
        let played = replayed(level, game, route)?;
        found.take(level, &played);
        let moves = played.moves.len() as u32;
        found.shortest = hunted.least.is_none_or(|l| l >= moves);
        found.least = Some(hunted.least.map_or(moves, |l| l.min(moves)));
        found.proof = json!({
            "kind": "solution",
            "replayed": true,
            "if_lucky": false,
            "shortest": found.shortest,
            "least": found.least,
        });
        let is_enough = promise != Promise::Shortest || found.shortest;
        found.verdict = if is_enough { "solvable" } else { "undecided" };
        found.words = "replayed by the reference executor".into();
        if let Some(limit) = hunted.limit.filter(|_| !found.shortest) {
            found.words = format!(
                "{}; the search for a shorter one was stopped by {}",
                found.words,
                budget.words(limit)
            );
        }
        let holds = if is_enough { Verdict::Holds } else { Verdict::Undecided };
        let limit = hunted.limit.filter(|_| !found.shortest);
        return Ok(Answer::new(asked, holds, found).stopped(limit, budget).took(budget, states));
    }
    if let Some(why) = hunted.why_none {
        (found.words, found.proof) = (why.words(), why.json());
        return Ok(Answer::new(asked, Verdict::Fails, found).took(budget, states));
    }
    let by = hunted.limit.or(budget.stopped()).unwrap_or(Limit::Memory);
    let least = hunted.least.unwrap_or(0);
    found.verdict = "undecided";
    found.words = format!(
        "stopped by {}; a solution, if there is one, has at least {}",
        budget.words(by),
        counted(least.into(), "move", "moves")
    );
    found.proof = json!({"kind": "none", "limit": by, "least": least});
    Ok(Answer::new(asked, Verdict::Undecided, found).stopped(Some(by), budget).took(budget, states))
}

/// The words for a start that has ended otherwise than won.
pub(crate) fn ended_at_start(level: &Loaded) -> Option<String> {
    let b = &level.game.bound;
    let ended = Eval::new(b).status(&b.position).ok().flatten()?;
    let ending = &b.model.endings[ended];
    (ending.kind != fendle_lang::model::EndKind::Goal).then(|| ending_text(ending))
}

/// A proof from kept quantities in words: what is kept, and what that means here.
#[must_use]
pub fn proof_lines(level: &Loaded, proof: &Proof) -> Vec<String> {
    match proof {
        Proof::Declared(sep, kept) => {
            let keeps = &level.game.bound.model.keeps[sep.keeps];
            let how = match kept {
                Kept::ProvedByEnumeration { states } => {
                    format!("proved on all {} typed states", grouped(*states))
                }
                _ => "proved from the rules".to_string(),
            };
            vec![format!(
                "kept quantity, {how}: it is {} here and {} wherever the goal holds; no move changes it, because {}",
                sep.here, sep.wanted, keeps.why
            )]
        }
        Proof::Found(list) => {
            let how = "found and proved from the rules";
            list.iter().map(|a| found_line(level, a, how, list.len())).collect()
        }
    }
}

/// A found quantity that separates, in words.
#[must_use]
pub fn found_line(level: &Loaded, a: &Apart, how: &str, ways: usize) -> String {
    let goal =
        if ways == 1 { "wherever the goal holds" } else { "wherever the goal holds in one of its ways" };
    format!(
        "kept quantity, {how}: {}. It is {} here and {} {goal}, and no move changes it",
        a.quantity.words(&level.game.bound),
        a.here,
        a.wanted
    )
}

/// A proof from kept quantities for programs.
#[must_use]
pub fn proof_json(level: &Loaded, proof: &Proof) -> Value {
    match proof {
        Proof::Declared(sep, kept) => json!({
            "kind": "kept quantity",
            "found": false,
            "because": level.game.bound.model.keeps[sep.keeps].why,
            "here": sep.here,
            "wanted": sep.wanted,
            "how": match kept {
                Kept::ProvedByEnumeration { states } => format!("proved on all {states} typed states"),
                _ => "proved from the rules".into(),
            },
        }),
        Proof::Found(list) => json!({
            "kind": "kept quantity",
            "found": true,
            "how": "proved from the rules",
            "quantities": list.iter().map(|a| found_json(level, a)).collect::<Vec<_>>(),
        }),
    }
}

/// A found quantity that separates, for programs.
#[must_use]
pub fn found_json(level: &Loaded, a: &Apart) -> Value {
    let b = &level.game.bound;
    json!({
        "quantity": a.quantity.text(b),
        "words": a.quantity.words(b),
        "keeps": a.quantity.keeps_line(b),
        "here": a.here,
        "wanted": a.wanted,
    })
}

/// Solving with hidden things: a way on which every step is certain when it is made, or where guesses are forced. Nothing is
/// called a solution that uses what cannot be known: a guess is called one.
#[derive(Clone, Debug, Serialize)]
pub struct SolvedKnowing {
    /// `solvable`, `unsolvable`, `undecided` or `fault`.
    pub verdict: &'static str,
    /// Always `with knowledge`.
    pub played: &'static str,
    /// How many moves the way has, where one is given.
    pub moves: Option<usize>,
    /// Its moves.
    pub solution: Option<Vec<String>>,
    /// What kind of answer it is.
    #[serde(flatten)]
    pub kind: Knowing,
}

/// Kinds of answers of [`SolvedKnowing`].
#[derive(Clone, Debug, Serialize)]
#[serde(untagged)]
pub enum Knowing {
    /// A way for one who knows no more than is told.
    Way {
        /// No guess is forced on it.
        no_guess: bool,
        /// Where the guesses are: moves made before each.
        guesses_before_moves: Vec<usize>,
        /// The chance to survive all guesses.
        #[serde(serialize_with = "crate::infer::as_fraction")]
        chance_to_survive_all: fendle_core::infer::Fraction,
        /// No shorter way is safe.
        shortest: bool,
    },
    /// What the information states say.
    Space {
        /// Some way of playing wins whatever is hidden.
        certain: bool,
        /// Least moves to a goal, if everything falls well.
        shortest_if_lucky: Option<u32>,
        /// Information states seen.
        states: u64,
    },
}

/// Solves a level with what the player can know.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to be searched.
pub fn solve_knowing(
    store: &Store,
    level: &Loaded,
    budget: &Budget,
) -> Result<Answer<SolvedKnowing>, Trouble> {
    let asked = Asked::of(level);
    let with = |verdict, solution: Option<Vec<String>>, kind| SolvedKnowing {
        verdict,
        played: "with knowledge",
        moves: solution.as_ref().map(Vec::len),
        solution,
        kind,
    };
    let seen = level.game.bound.seen.iter().any(Option::is_some);
    // Where one thing walks, the fewest moves that never need a guess.
    let ways = if seen { None } else { fairness::safe_ways(level, budget).ok().flatten() };
    if let Some(names) = ways.as_ref().filter(|w| !w.more).and_then(|w| w.shortest.clone()) {
        let kind = Knowing::Way {
            no_guess: true,
            guesses_before_moves: vec![],
            chance_to_survive_all: fendle_core::infer::fraction(1, 1),
            shortest: true,
        };
        let found = with("solvable", Some(names), kind);
        return Ok(Answer::new(asked, Verdict::Holds, found).took(budget, 0));
    }
    let report = if seen { None } else { fairness::played(level, budget).ok() };
    if let Some(r) = report.filter(|r| r.won) {
        let kind = Knowing::Way {
            no_guess: r.is_fair(),
            guesses_before_moves: r.guesses.iter().map(|g| g.after).collect(),
            chance_to_survive_all: r.survive(),
            shortest: false,
        };
        let found = with("solvable", Some(r.moves), kind);
        return Ok(Answer::new(asked, Verdict::Holds, found).took(budget, 0));
    }
    let play = play(level, true, "solve", budget)?;
    let space = what_is_known(store, level, &play, budget)?;
    let c = &space.counts;
    let holds = space.verdict();
    let verdict = match holds {
        Verdict::Holds => "solvable",
        Verdict::Fails => "unsolvable",
        Verdict::Undecided if space.fault.is_some() => "fault",
        Verdict::Undecided => "undecided",
    };
    let kind = Knowing::Space {
        certain: space.certain && c.complete,
        shortest_if_lucky: c.shortest,
        states: c.states,
    };
    let states = c.states;
    // A goal that was seen is one, whatever was not.
    let limit = space.limit().filter(|l| holds != Verdict::Holds || *l == Limit::Interrupted);
    let fault = if holds == Verdict::Holds { None } else { space.fault };
    Ok(Answer::new(asked, holds, with(verdict, None, kind))
        .stopped(limit, budget)
        .faulted(fault)
        .took(budget, states))
}

/// Whether a level is solved with knowledge: things are hidden, and nobody said that the layout is known.
#[must_use]
pub fn is_knowing(level: &Loaded) -> bool {
    level.game.bound.model.hides() && !level.known
}

/// The words where no proof or picture is offered because things are hidden.
///
/// # Errors
///
/// These words.
pub fn offered(level: &Loaded, what: &str) -> Result<(), Trouble> {
    needs_known(level, what)
}
