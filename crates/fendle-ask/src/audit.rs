//! Every level of a pack against what it expects.

use std::sync::Arc;

use fendle_core::infer::Fraction;
use fendle_core::odds::{Fractions, Value, odds};
use fendle_core::{Exploration, Limit};
use fendle_lang::Diagnostic;
use fendle_lang::known::player::Stopped;
use fendle_lang::syntax::level::RawKind;
use rayon::prelude::*;
use serde::{Serialize, Serializer};
use serde_json::json;

use crate::answer::{End, FaultReport, Trouble, Verdict, limit_of};
use crate::budget::Budget;
use crate::explore::{SpaceVerdict, searched, what_is_known};
use crate::fairness::{self, CarefulPlay};
use crate::hunt::Promise;
use crate::knowledge::from;
use crate::load::{Loaded, Source, Store, Want, load_source};
use crate::position::Position;
use crate::solve::solve;
use fendle_core::numbers::counted;

/// What the audit of one level found.
#[derive(Clone, Debug)]
pub struct Audited {
    /// The file.
    pub file: String,
    /// The level.
    pub level: String,
    /// `solvable` and so on; `fault` when the model broke.
    pub verdict: String,
    /// Least number of moves.
    pub moves: Option<u64>,
    /// The counts, where the whole space was asked for.
    pub counts: Option<Exploration>,
    /// What differs, or is not decided, in words.
    pub differs: Vec<String>,
    /// Whether anything was expected.
    pub expects: bool,
    /// How it ends.
    pub end: End,
    /// The fault, where the model broke.
    pub fault: Option<FaultReport>,
    /// The level itself, for pictures.
    pub loaded: Option<Arc<Loaded>>,
    /// Where it begins.
    pub position: Option<Position>,
}

impl Serialize for Audited {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        json!({
            "file": self.file,
            "level": self.level,
            "ok": self.end == End::Yes,
            "verdict": self.verdict,
            "moves": self.moves,
            "counts": self.counts,
            "expects": self.expects,
            "differs": self.differs,
        })
        .serialize(s)
    }
}

impl std::fmt::Debug for Loaded {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Loaded({})", self.title())
    }
}

/// A level to be audited, and the name of its file.
pub struct Job {
    /// As it is shown.
    pub path: String,
    /// The level.
    pub source: Source,
}

/// What one expectation came to.
enum Checked {
    Fits,
    Differs(String),
    /// Not decided: by this limit, or for the reason in words.
    Undecided(Option<Limit>, String),
}

/// What is known of a level, to be held against what it expects.
struct Facts {
    verdict: String,
    moves: Option<u64>,
    counts: Option<Exploration>,
    /// Whether it can be won.
    solvable: Option<bool>,
    /// Whether it is fair, with hidden things.
    fair: Option<Result<CarefulPlay, String>>,
    /// The chance to win, with hidden things.
    chance: Option<Value>,
    /// What was not decided, and in words.
    limit: Option<Limit>,
    why: String,
    fault: Option<FaultReport>,
}

/// Audits levels, on all cores. Levels that cannot be loaded add their mistakes to `errors`.
pub fn audit(
    store: &Store,
    jobs: &[Job],
    budget: &Arc<Budget>,
    errors: &mut Vec<Diagnostic>,
) -> Vec<Audited> {
    let one = |job: &Job| {
        let mut own = vec![];
        (audit_one(store, job, budget, &mut own), own)
    };
    let found: Vec<(Option<Audited>, Vec<Diagnostic>)> = budget.pooled(|| jobs.par_iter().map(one).collect());
    let mut out = vec![];
    for (audited, own) in found {
        errors.extend(own);
        out.extend(audited);
    }
    out
}

/// How the audit of several levels ends; `errors`: mistakes in their texts, which outweigh everything.
#[must_use]
pub fn end_of(list: &[Audited], errors: &[Diagnostic]) -> End {
    match errors {
        [] => End::of_all(list.iter().map(|a| a.end)),
        _ => End::Bad,
    }
}

fn audit_one(
    store: &Store,
    job: &Job,
    budget: &Arc<Budget>,
    errors: &mut Vec<Diagnostic>,
) -> Option<Audited> {
    let expect = &job.source.level.expect;
    let mut out = Audited {
        file: job.path.clone(),
        level: job.source.level.name.clone(),
        verdict: "undecided".into(),
        moves: None,
        counts: None,
        differs: vec![],
        expects: !expect.is_empty(),
        end: End::Yes,
        fault: None,
        loaded: None,
        position: None,
    };
    let before = errors.len();
    let level = match load_source(&job.source, Want::All, budget, errors) {
        Ok(level) => level,
        // Its mistakes are among the others already.
        Err(Trouble::Diagnostics(_)) if errors.len() > before => return None,
        Err(trouble) => return out.troubled(trouble, budget, errors),
    };
    out.position = Some(Position::new(&level.game.bound, &level.game.bound.position));
    let asks = |names: &[&str]| expect.iter().any(|(k, _)| !names.contains(&k.text.as_str()));
    let facts = if level.game.bound.model.hides() {
        hidden_facts(store, &level, asks(&["no_guess", "guesses", "moves"]), budget)
    } else {
        // Where only a solution is expected, the first one is enough.
        let moves = expect.is_empty() || asks(&["solvable"]);
        let promise = if moves { Promise::Shortest } else { Promise::Any };
        open_facts(store, &level, (asks(&["solvable", "moves"]), promise), budget)
    };
    let facts = match facts {
        Ok(facts) => facts,
        Err(trouble) => return out.troubled(trouble, budget, errors),
    };
    out.verdict.clone_from(&facts.verdict);
    out.moves = facts.moves;
    out.counts.clone_from(&facts.counts);
    if facts.fault.is_some() {
        out = Audited { fault: facts.fault, ..out.broken("the model breaks".into()) };
    } else {
        let (mut fails, mut open) = (false, false);
        let mut hit = None;
        for (key, raw) in expect {
            match check(&facts, &key.text, &raw.kind, budget) {
                Checked::Fits => {}
                Checked::Differs(words) => {
                    fails = true;
                    out.differs.push(words);
                }
                Checked::Undecided(limit, words) => {
                    open = true;
                    hit = hit.or(limit);
                    if !out.differs.contains(&words) {
                        out.differs.push(words);
                    }
                }
            }
        }
        if !out.expects && facts.limit.is_some() {
            // Nothing is expected, and still a limit was hit on the way to the verdict.
            open = true;
            hit = facts.limit;
            out.differs.push(facts.why.clone());
        }
        let verdict = if fails {
            Verdict::Fails
        } else if open {
            Verdict::Undecided
        } else {
            Verdict::Holds
        };
        let hit = hit.filter(|l| verdict == Verdict::Undecided || *l == Limit::Interrupted);
        out.end = End::of(verdict, hit, false);
    }
    out.loaded = Some(Arc::new(level));
    Some(out)
}

impl Audited {
    /// A level about which nothing was found out, and why; `None` where its text is wrong.
    fn troubled(self, trouble: Trouble, budget: &Budget, errors: &mut Vec<Diagnostic>) -> Option<Audited> {
        match trouble {
            Trouble::Limit(limit) => Some(self.undecided(limit, budget)),
            Trouble::Undecided(why) => Some(Audited { end: End::Undecided, differs: vec![why], ..self }),
            Trouble::Message(words) => Some(self.broken(words)),
            Trouble::Fault(report) => {
                Some(Audited { fault: Some(*report), ..self.broken("the model breaks".into()) })
            }
            Trouble::Diagnostics(list) => {
                errors.extend(list);
                None
            }
        }
    }

    fn broken(self, words: String) -> Audited {
        Audited { end: End::Bad, verdict: "fault".into(), differs: vec![words], ..self }
    }

    fn undecided(self, limit: Limit, budget: &Budget) -> Audited {
        let words = format!("not decided: stopped by {}", budget.words(limit));
        Audited { end: End::of(Verdict::Undecided, Some(limit), false), differs: vec![words], ..self }
    }
}

/// What is known of a level that hides nothing. `space`: the whole space is asked for.
fn open_facts(
    store: &Store,
    level: &Loaded,
    (space, promise): (bool, Promise),
    budget: &Budget,
) -> Result<Facts, Trouble> {
    let solved = solve(store, level, promise, budget, None)?;
    // A game that was played shows that the goal can be reached, not in how few moves.
    let limit = solved.limit().or(solved.found.by_play);
    let mut facts = Facts {
        verdict: solved.found.verdict.into(),
        moves: solved.found.moves.filter(|_| solved.found.shortest).map(|n| n as u64),
        counts: None,
        solvable: match solved.holds {
            _ if solved.found.solution.is_some() => Some(true),
            Verdict::Holds => Some(true),
            Verdict::Fails => Some(false),
            Verdict::Undecided => None,
        },
        fair: None,
        chance: None,
        limit,
        why: solved.found.words.clone(),
        fault: solved.fault,
    };
    if space && facts.fault.is_none() {
        let found = searched(level, &level.game, budget)?;
        facts.fault = found.fault.as_ref().map(|f| crate::answer::fault_report(store, level, f));
        if let Some(hit) = found.counts.limit {
            facts.limit = facts.limit.or(Some(hit));
            facts.why = format!("not decided: stopped by {}", budget.words(hit));
        }
        facts.counts = Some(found.counts);
    }
    Ok(facts)
}

/// What is known of a level with hidden things, played with what can be known. `space`: the information states are asked for.
fn hidden_facts(store: &Store, level: &Loaded, space: bool, budget: &Budget) -> Result<Facts, Trouble> {
    let seen = level.game.bound.seen.iter().any(Option::is_some);
    let mut facts = Facts {
        verdict: "hidden".into(),
        moves: None,
        counts: None,
        solvable: None,
        fair: None,
        chance: None,
        limit: None,
        why: String::new(),
        fault: None,
    };
    if !seen {
        facts.fair = Some(match fairness::played(level, budget) {
            Ok(r) => {
                facts.verdict = match (r.is_fair(), r.guesses.len() as u64) {
                    (true, _) => "no guess".into(),
                    (false, 0) => "not finished".into(),
                    (false, n) => counted(n, "guess", "guesses"),
                };
                facts.moves = r.won.then_some(r.moves.len() as u64);
                Ok(r)
            }
            Err(Stopped::Asked) => {
                facts.limit = budget.stopped();
                Err(stopped_words(facts.limit, budget))
            }
            Err(Stopped::Fault(f)) if f.is_limit() => {
                facts.limit = limit_of(&f, budget);
                Err(stopped_words(facts.limit, budget))
            }
            Err(why) => Err(format!("not decided: {why}")),
        });
    }
    if space {
        let play = match from(&level.game, &level.history, &[], false, budget) {
            Ok(play) => play,
            Err(Trouble::Limit(limit)) => {
                facts.limit = Some(limit);
                facts.why = stopped_words(Some(limit), budget);
                return Ok(facts);
            }
            Err(other) => return Err(other),
        };
        let known = what_is_known(store, level, &play, budget)?;
        if let Some(limit) = known.limit() {
            facts.limit = Some(limit);
            facts.why = stopped_words(Some(limit), budget);
        } else if known.fault.is_none() {
            let (model, _, limits) = play.on(&level.game, budget);
            facts.chance = odds(model, &limits, Fractions::WhereSmall, budget).ok().and_then(|a| a.win);
        }
        facts.solvable = match SpaceVerdict::of(&known.counts) {
            SpaceVerdict::Solvable(_) | SpaceVerdict::Possible { .. } => Some(true),
            SpaceVerdict::Unsolvable if known.limit().is_none() => Some(false),
            _ => None,
        };
        facts.fault = known.fault;
        facts.counts = Some(known.counts);
    }
    Ok(facts)
}

fn stopped_words(limit: Option<Limit>, budget: &Budget) -> String {
    format!("not decided: stopped by {}", limit.map_or("a limit".into(), |l| budget.words(l)))
}

/// Holds one expectation against what is known: what is not known is undecided, never met.
fn check(facts: &Facts, name: &str, want: &RawKind, budget: &Budget) -> Checked {
    let fits = |fits: bool, differs: String| if fits { Checked::Fits } else { Checked::Differs(differs) };
    let open = || {
        let words = if facts.why.is_empty() { "not decided".to_string() } else { facts.why.clone() };
        Checked::Undecided(facts.limit, words)
    };
    match (want, name) {
        (RawKind::Bool(want), "solvable") => match facts.solvable {
            Some(have) => {
                let word = if facts.fair.is_some() || facts.verdict == "hidden" {
                    if have { "solvable" } else { "unsolvable" }
                } else {
                    facts.verdict.as_str()
                };
                fits(have == *want, format!("expected solvable = {want}, it is {word}"))
            }
            None => open(),
        },
        (RawKind::Bool(want), "no_guess") => match &facts.fair {
            Some(Ok(r)) => {
                let guesses = counted(r.guesses.len() as u64, "guess is", "guesses are");
                fits(r.is_fair() == *want, format!("expected no_guess = {want}, {guesses} forced"))
            }
            Some(Err(why)) => Checked::Undecided(facts.limit, why.clone()),
            None => Checked::Differs("the level gives no layout to play".into()),
        },
        (RawKind::Int(want), "guesses") => match &facts.fair {
            Some(Ok(r)) => {
                let n = r.guesses.len() as i64;
                fits(n == *want, format!("expected guesses = {want}, there are {n}"))
            }
            Some(Err(why)) => Checked::Undecided(facts.limit, why.clone()),
            None => Checked::Differs("expected guesses, and the level cannot be played".into()),
        },
        (RawKind::Text(want, _), "chance") => match &facts.chance {
            Some(Value::Exact(have)) => {
                let fit = want.trim().parse::<Fraction>().is_ok_and(|w| w == *have);
                fits(fit, format!("expected chance = {want}, it is {have}"))
            }
            _ if facts.limit.is_some() => open(),
            _ => Checked::Undecided(budget.stopped(), "the chance to win is not known exactly".into()),
        },
        (RawKind::Int(want), "moves") => match (facts.moves, &facts.fair) {
            (Some(n), _) => fits(n as i64 == *want, format!("expected moves = {want}, it takes {n}")),
            (None, Some(Err(why))) => Checked::Undecided(facts.limit, why.clone()),
            (None, Some(Ok(_))) => Checked::Differs(format!("expected moves = {want}, it is not finished")),
            (None, None) if facts.solvable == Some(false) => {
                Checked::Differs(format!("expected moves = {want}, it is {}", facts.verdict))
            }
            (None, None) => open(),
        },
        (RawKind::Int(want), name) => {
            // Branches past the bound of a cascade that the level declares are set aside: the counts are of what it declares.
            let counts = facts.counts.as_ref().filter(|c| c.limit.is_none());
            match counts.map(|c| json!(c)).as_ref().and_then(|c| c[name].as_i64()) {
                Some(n) => fits(n == *want, format!("expected {name} = {want}, it is {n}")),
                None if facts.limit.is_some() => open(),
                None => Checked::Differs(format!("expected {name} = {want}, it is not known")),
            }
        }
        _ => Checked::Fits,
    }
}
