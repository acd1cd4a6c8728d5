//! Solutions in which something else than moves is counted: pushes, say, or moves of one kind. Fewest of that, with proof.

use fendle_core::guided::best::{self, Ask, Order};
use fendle_core::guided::ground::{Moves, Unpack};
use fendle_core::{Limit, Limits, Model as _};
use fendle_lang::Game;
use fendle_lang::reasons::counting::with_counting;
use fendle_lang::reasons::effects::SOLVE_WAYS;
use fendle_lang::reasons::keeps::proof;
use fendle_lang::run::Eval;
use serde_json::json;

use crate::answer::{Answer, Asked, Trouble, Verdict, fault_report, fault_report_of};
use crate::bound::{Relaxed, puzzle};
use crate::budget::Budget;
use crate::hunt::{
    Attempt, Hunt, Hunted, LARGE_BITS, PROOF_STATES, Promise, WhyNone, first_relaxed, moves_of, route_of,
    unpacked, why_no_way,
};
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::solve::{CountedAs, Solved, by_kept, nothing_found, replayed, without_search};

/// Solves a level counting what goes by a name, instead of moves: what its model says a `cost` of, or moves of one kind.
///
/// # Errors
///
/// [`Trouble`] when nothing goes by that name, or the level is not of the kind that can be solved so.
#[expect(clippy::too_many_lines, reason = "one part for each way in which the search can end")]
pub fn solve_counting(
    store: &Store,
    level: &Loaded,
    (name, promise): (&str, Promise),
    budget: &Budget,
) -> Result<Answer<Solved>, Trouble> {
    if level.known {
        needs_layout(level, "solve --known")?;
    }
    let asked = Asked::of(level);
    let counting = with_counting(&level.game, name).map_err(Trouble::Message)?;
    let as_counted = |count, least| Some(CountedAs { name: name.into(), count, least });
    if let Some(found) = without_search(level) {
        return Ok(Answer::new(asked, Verdict::Fails, found).took(budget, 0));
    }
    let game = &level.game;
    if !game.is_sure() || game.starts.len() > 1 || game.bound.model.cuts {
        return Err(
            "only moves are counted where a level draws, or begins at one of several positions".into()
        );
    }
    if let (Some(kept), _) = proof(game, SOLVE_WAYS, &mut || budget.is_stopped()) {
        return Ok(Answer::new(asked, Verdict::Fails, by_kept(level, kept)).took(budget, 0));
    }
    let mut search = Search {
        game,
        counting: &counting,
        list: &level.moves.list,
        budget,
        best: None,
        out: Hunted::default(),
    };
    search.out.least = Some(0);
    let broken = search.run(promise)?;
    let Search { best, out, .. } = search;
    let states = out.states;
    let mut found = Solved { states, tried: out.tried, ..nothing_found(level) };
    if let Some(faulted) = &out.fault {
        found.verdict = "fault";
        let fault = Some(fault_report(store, level, faulted));
        return Ok(Answer::new(asked, Verdict::Fails, found).faulted(fault).took(budget, states));
    }
    if let Some((route, fault)) = broken {
        found.verdict = "fault";
        let faulted = fendle_core::explore::Faulted { route, fault };
        let fault = Some(fault_report_of(store, level, &counting, &faulted));
        return Ok(Answer::new(asked, Verdict::Fails, found).faulted(fault).took(budget, states));
    }
    let Some((count, own, route)) = best else {
        if let Some(why) = out.why_none {
            (found.words, found.proof) = (why.words(), why.json());
            return Ok(Answer::new(asked, Verdict::Fails, found).took(budget, states));
        }
        let by = out.limit.or(budget.stopped()).unwrap_or(Limit::Memory);
        let least = out.least.unwrap_or(0);
        found.verdict = "undecided";
        found.words = format!(
            "stopped by {}; counting {name}, a solution has at least {least}, if there is one",
            budget.words(by)
        );
        found.proof = json!({"kind": "none", "limit": by, "least": least, "counting": name});
        found.counting = as_counted(None, Some(least));
        return Ok(Answer::new(asked, Verdict::Undecided, found)
            .stopped(Some(by), budget)
            .took(budget, states));
    };
    let played = replayed(level, &own, &route)?;
    let mut eval = Eval::new(&counting.bound);
    let mut again = 0;
    for ((number, _), before) in played.moves.iter().zip(&played.states) {
        let (of, params) = &level.moves.list[*number];
        again += eval.counts_in(before, (*of, params)).unwrap_or(u32::MAX / 2);
    }
    if again != count {
        let words = format!(
            "the solution found counts {count}, and played again {again}; this is a mistake in fendle"
        );
        return Err(Trouble::Message(words));
    }
    let least = out.least.unwrap_or(count).min(count);
    found.shortest = least == count;
    found.take(level, &played);
    found.counting = as_counted(Some(count), Some(least));
    found.proof = json!({
        "kind": "solution", "replayed": true, "if_lucky": false, "counting": name, "count": count, "least": least,
        "shortest": found.shortest,
    });
    let is_enough = promise != Promise::Shortest || found.shortest;
    found.verdict = if is_enough { "solvable" } else { "undecided" };
    found.words = "replayed by the reference executor".into();
    let limit = out.limit.filter(|_| !found.shortest);
    if let Some(limit) = limit {
        found
            .words
            .push_str(&format!("; the search for a better one was stopped by {}", budget.words(limit)));
    }
    let holds = if is_enough { Verdict::Holds } else { Verdict::Undecided };
    Ok(Answer::new(asked, holds, found).stopped(limit, budget).took(budget, states))
}

/// A position at which counting broke the model, and how.
type Broken = Option<(fendle_core::Route, fendle_core::Fault)>;

struct Search<'s> {
    /// The game in which moves count.
    game: &'s Game,
    /// The same, counting something else.
    counting: &'s Game,
    /// The moves, by number.
    list: &'s [(usize, Vec<i64>)],
    budget: &'s Budget,
    /// The best solution: what it counts, the game whose states it names, and the way.
    best: Option<(u32, Game, fendle_core::Route)>,
    out: Hunted,
}

impl Search<'_> {
    /// Proofs of a relaxed puzzle, the least first, any solution where that takes long, the least first again.
    fn run(&mut self, promise: Promise) -> Result<Broken, Trouble> {
        let task = puzzle(self.counting, self.budget);
        let is_large = task.as_ref().is_none_or(|t| t.size_log2() > LARGE_BITS);
        let relaxed = match task {
            Some(task) => Some(first_relaxed(self.counting, task, self.budget)?),
            None => None,
        };
        if let Some(r) = &relaxed {
            match r.bounds.judge(&r.task).says(&r.task.start).least {
                Some(least) => self.out.least = Some(least),
                None => {
                    (self.out.least, self.out.why_none) = (None, Some(why_no_way(r)));
                    return Ok(None);
                }
            }
        }
        if promise != Promise::Any {
            let broken = self.cheapest(relaxed.as_ref(), is_large.then_some(PROOF_STATES));
            if broken.is_some() || self.is_done() || !is_large {
                return Ok(broken);
            }
        }
        let own = puzzle(self.game, self.budget);
        let own = own.map(|task| first_relaxed(self.game, task, self.budget)).transpose()?;
        let hunted = Hunt::new(self.game, Promise::Any, 0, self.budget).after(self.out.states).run(own);
        self.out.states = hunted.states;
        self.out.tried.extend(hunted.tried);
        self.out.limit = hunted.limit;
        self.out.fault = hunted.fault;
        match hunted.route {
            Some((own, route)) => {
                let count = self.counted(&own, &route);
                self.best = Some((count, own, route));
                if self.out.least.is_none_or(|l| l >= count) {
                    self.out.limit = None;
                }
            }
            None if hunted.least.is_none() => (self.out.least, self.out.why_none) = (None, hunted.why_none),
            None => {}
        }
        if promise == Promise::Any || self.is_done() || self.best.is_none() {
            return Ok(None);
        }
        Ok(self.cheapest(relaxed.as_ref(), None))
    }

    fn is_done(&self) -> bool {
        let stopped = self.out.limit.is_some() || self.out.fault.is_some();
        let is_proved = self.best.as_ref().is_some_and(|b| self.out.least.is_none_or(|l| l >= b.0));
        stopped || self.out.least.is_none() || is_proved
    }

    /// What a way counts.
    fn counted(&self, own: &Game, route: &fendle_core::Route) -> u32 {
        let list = &self.list;
        let mut eval = Eval::new(&self.counting.bound);
        (route.moves.iter().zip(&route.states))
            .map(|(m, before)| {
                let (of, params) = &list[m.0 as usize];
                eval.counts_in(&own.unpack(before), (*of, params)).unwrap_or(0)
            })
            .sum()
    }

    /// The least sum first.
    fn cheapest(&mut self, relaxed: Option<&Relaxed>, states: Option<u64>) -> Broken {
        let game = self.counting;
        self.budget.note("least first");
        let unpack = |state: &[u64], values: &mut Vec<i32>| unpacked(game, state, values);
        let bounds = relaxed.filter(|r| !r.bounds.is_empty());
        let bounds = bounds.map(|r| (&r.task, &r.bounds, &unpack as &Unpack));
        let start = game.pack(&game.bound.position);
        let ground = Moves { model: game, start, bounds, asks_promise: false, counts: true };
        let ask = Ask {
            order: Order::SHORTEST,
            any: false,
            below: self.best.as_ref().map_or(u32::MAX, |b| b.0),
            states: states.unwrap_or(u64::MAX),
        };
        // All searches draw from the states that are allowed.
        let limits = self.budget.limits();
        let left = limits.max_states.saturating_sub(self.out.states);
        let limits = Limits { max_states: left, ..limits };
        let found = best::search(&ground, ask, &limits, self.budget);
        self.out.states += found.states;
        self.out.limit = found.limit;
        let end = match (&found.steps, found.limit) {
            (Some(_), _) => format!("found one that counts {}", found.cost),
            (_, Some(limit)) => self.budget.words(limit),
            _ if found.broke => "the model broke".into(),
            _ if found.gave_up => "gave up".into(),
            _ => "saw all".into(),
        };
        self.out.tried.push(Attempt { what: "least first", states: found.states, end });
        if found.broke {
            let start = fendle_core::Route { moves: vec![], states: vec![game.pack(&game.bound.position)] };
            return found
                .broken
                .map(|(steps, fault)| (route_of(game, &moves_of(&steps)).unwrap_or(start), fault));
        }
        if let Some(steps) = &found.steps
            && let Some(route) = route_of(game, &moves_of(steps))
        {
            self.best = Some((found.cost, game.clone(), route));
        }
        match found.least {
            Some(least) => self.out.least = self.out.least.map(|l| l.max(least)),
            None if self.best.is_none() => {
                (self.out.least, self.out.why_none) =
                    (None, Some(WhyNone::Seen { states: found.states, cut: found.cut }));
            }
            None => self.out.least = self.best.as_ref().map(|b| b.0),
        }
        None
    }
}
