//! Test cases for the developer's own code: a few positions, moves and results that together show every way through the rules, and catch as
//! many faulty variants of them as can be.

pub mod examples;
mod sharp;
pub mod trial;
mod walk;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use fendle_core::Limit;
use fendle_lang::Bound;
use fendle_lang::run::RunFault;
use fendle_lang::run::marks::{Mark, Way, all_marks};
use rayon::prelude::*;
use serde::Serialize;
use serde_json::{Value, json};

use self::sharp::{Asking, Fate, Fault, faults, hunt};
use self::trial::{Differs, DrawnThing, Seen, Trial};
use self::walk::{Shows, Walk, walk};
use crate::answer::{Answer, Asked, Trouble, Verdict, trouble_of};
use crate::budget::Budget;
use crate::game::Names;
use crate::hunt::Promise;
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::show::status_word;
use crate::solve::solve;

/// States of a level that is solved for its solution to be among the positions.
const SOLVED_STATES: u64 = 2_000_000;
/// How long it may take.
const SOLVING: Duration = Duration::from_secs(6);
/// Cases that are chosen where nothing else is said.
pub const MOST: usize = 60;

/// One test case.
#[derive(Clone, Debug, Serialize)]
pub struct Case {
    /// What it is about, in words.
    pub name: String,
    /// The position, as the game protocol has it.
    pub position: Value,
    /// The same in one line, as `--at` takes it.
    pub at: String,
    /// How the game stands there: running, won, lost, over.
    pub status: &'static str,
    /// The move.
    #[serde(rename = "move")]
    pub of: String,
    /// Its name alone.
    pub kind: String,
    /// Its parameters.
    pub with: BTreeMap<String, String>,
    /// What is drawn on the way, in order.
    pub draws: Vec<DrawnThing>,
    /// What has to come of it.
    pub expect: Expected,
    /// What this case is the first to show, in words.
    pub shows: Vec<String>,
}

/// What has to come of a case.
#[derive(Clone, Debug, Serialize)]
pub struct Expected {
    /// Whether the move is made.
    pub allowed: bool,
    /// The position after it: the same one where it is not made.
    pub position: Value,
    /// The same in one line, as `--at` takes it.
    pub at: String,
    /// How the game stands then: running, won, lost, over, stuck.
    pub status: &'static str,
    /// The score that is gained.
    pub score: i64,
    /// Why the game has ended, in the model's words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// Why it is refused, in the model's words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// The cells that the refusal names.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cells: Vec<String>,
    /// The positions at the ends of its phases.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub phases: Vec<CasePhase>,
}

/// The end of a phase.
#[derive(Clone, Debug, Serialize)]
pub struct CasePhase {
    /// Its name.
    pub name: String,
    /// The position then.
    pub position: Value,
}

/// A part of the rules, by its place in the model's text.
#[derive(Clone, Debug, Serialize)]
pub struct Spot {
    /// The model's file.
    pub file: String,
    /// Its line, from 1.
    pub line: usize,
    /// What stands there, or what is wrong there, in words.
    pub words: String,
}

/// What the cases cover.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Coverage {
    /// Ways through the rules that a case goes: branches, loops, phases, refusals.
    pub ways: usize,
    /// All that can be gone on this level, as far as it is known.
    pub of: usize,
    /// Those that no case goes.
    pub missing: Vec<Spot>,
    /// Those that no move on this level can go: all that can be reached was looked at.
    pub impossible: Vec<Spot>,
    /// Endings of the model that no case comes to.
    pub endings_missing: Vec<String>,
}

/// How sharp the cases are.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Sharpness {
    /// Faulty variants of the rules that were made.
    pub variants: usize,
    /// Those that a case catches.
    pub caught: usize,
    /// Those that cases tell by reasons, named cells or phases alone.
    pub told: Vec<Spot>,
    /// Those that change nothing on this level.
    pub no_change: Vec<Spot>,
    /// Those that no case catches, and that were not met.
    pub not_caught: Vec<Spot>,
    /// Those that a case could catch that was left out for want of room.
    pub left_out: Vec<Spot>,
    /// Those that were not looked at to the end.
    pub not_looked: usize,
}

/// Test cases.
#[derive(Clone, Debug, Serialize)]
pub struct Cases {
    /// The cases, those that show most first.
    pub cases: Vec<Case>,
    /// Positions whose moves were tried.
    pub positions: u64,
    /// Moves that were tried, with their draws.
    pub tried: u64,
    /// These are all that can be reached.
    pub complete: bool,
    /// What the cases cover.
    pub coverage: Coverage,
    /// Which mistakes they catch.
    pub sharpness: Sharpness,
}

/// A result, and what it shows, of one trial that may become a case.
struct Candidate {
    trial: Trial,
    seen: Seen,
    marks: Vec<Mark>,
    shows: Vec<usize>,
    catches: Vec<usize>,
    tells: Vec<usize>,
}

/// Chooses test cases for a level.
///
/// # Errors
///
/// [`Trouble`] when the model breaks.
pub fn cases(
    store: &Store,
    level: &Loaded,
    (names, most): (&Names, usize),
    budget: &Arc<Budget>,
) -> Result<Answer<Cases>, Trouble> {
    needs_layout(level, "cases")?;
    let b = &level.game.bound;
    let broke =
        |(fault, state): (RunFault, Vec<i32>)| trouble_of(store, level, budget, &fault, (&state, None));
    let way = solution(store, level, budget);
    let walk = walk(level, &way, budget).map_err(broke)?;
    let ask = Asking { bound: b, moves: &level.moves, walk: &walk, ended_at: b.ended_at() };
    let text = store.sources.text(b.model.file);
    let faults = faults(b, b.model.file, text, budget);
    let mut chooser = Chooser::new(&ask);
    chooser.judge(0, &ask, &faults, budget);
    let fates = chooser.hunt(&ask, &faults, budget);
    let chosen = chooser.choose(most);
    let spot = |words: String, at: u32| Spot {
        file: store.sources.name(b.model.file).to_string(),
        line: store.sources.line_col(b.model.file, at).0,
        words,
    };
    let mut found = Cases {
        cases: vec![],
        positions: walk.opened as u64,
        tried: walk.trials.len() as u64,
        complete: walk.complete,
        coverage: chooser.coverage((&chosen, walk.complete), (b, text), &spot),
        sharpness: chooser.sharpness(&chosen, &faults, &fates, &spot),
    };
    let mut shown = HashSet::new();
    for &at in &chosen {
        let candidate = &chooser.candidates[at];
        let fresh: Vec<&Shows> = candidate.shows.iter().map(|s| &chooser.wanted[*s]).collect();
        let words: Vec<String> = (fresh.into_iter().filter(|s| shown.insert((*s).clone())))
            .filter_map(|s| shows_words(s, b, text, &spot))
            .collect();
        found.cases.push(case_of(level, &walk, candidate, words, names));
    }
    let limit = walk.limit.filter(|l| *l == Limit::MaxStates).or(budget.stopped());
    Ok(Answer::new(Asked::of(level), Verdict::Holds, found)
        .stopped(limit, budget)
        .took(budget, walk.opened as u64))
}

/// The positions of a solution, where one is found quickly.
fn solution(store: &Store, level: &Loaded, budget: &Budget) -> Vec<Vec<i32>> {
    let own = budget.part(SOLVED_STATES, SOLVING);
    match solve(store, level, Promise::Any, &own, None) {
        Ok(answer) => answer.found.positions.into_iter().map(|p| p.state).collect(),
        // Without a solution there are other positions.
        Err(_) => vec![],
    }
}

/// How much a case gains by showing something.
fn worth(shows: &Shows) -> u32 {
    match shows {
        Shows::Went(_) | Shows::Refused(_, _, None) | Shows::Ends(_) | Shows::Stuck => 8,
        Shows::Made(_) | Shows::Over(_) | Shows::OneBefore(_) | Shows::Full(_) | Shows::Fills => 6,
        Shows::Drew(_) | Shows::NotOffered(_) | Shows::Scored(_) | Shows::Phase(..) => 4,
        Shows::Again(_) | Shows::Refused(..) | Shows::Edge(..) | Shows::RefusedEdge(..) | Shows::At(..) => 2,
        Shows::DrewCell(_) => 2,
        Shows::Way(..) => 1,
    }
}

/// How much it gains by catching a faulty variant.
const WORTH_CATCHING: u32 = 5;
/// How much by telling it only by reasons or phases.
const WORTH_TELLING: u32 = 1;
/// Parts of expressions that are evaluated to try the candidates on one variant, at the most.
const JUDGED: u64 = 20_000_000;
/// Candidates that are chosen among.
const CANDIDATES: usize = 4_000;

struct Chooser {
    /// What is to be shown.
    wanted: Vec<Shows>,
    candidates: Vec<Candidate>,
}

impl Chooser {
    fn new(ask: &Asking<'_>) -> Chooser {
        let mut wanted: Vec<Shows> = ask.walk.shown.keys().cloned().collect();
        wanted.sort_unstable_by(|a, b| worth(b).cmp(&worth(a)).then_with(|| a.cmp(b)));
        let mut of: BTreeMap<u32, Vec<usize>> = BTreeMap::new();
        for (at, show) in wanted.iter().enumerate() {
            for trial in &ask.walk.shown[show] {
                if of.len() < CANDIDATES || of.contains_key(trial) {
                    of.entry(*trial).or_default().push(at);
                }
            }
        }
        let list: Vec<(u32, Vec<usize>)> = of.into_iter().collect();
        let mut candidates: Vec<Candidate> =
            list.into_par_iter().map(|(at, shows)| Candidate::new(ask, at, shows)).collect();
        // Only the first trials were kept for each thing: what a candidate shows besides is added.
        let index: HashMap<&Shows, usize> = wanted.iter().zip(0..).collect();
        for candidate in &mut candidates {
            let besides = candidate.plain(ask);
            candidate.shows.extend(besides.iter().filter_map(|s| index.get(s)));
            candidate.shows.sort_unstable();
            candidate.shows.dedup();
        }
        Chooser { wanted, candidates }
    }

    /// Finds out which candidates, from this one on, catch which variants.
    fn judge(&mut self, from: usize, ask: &Asking<'_>, faults: &[Fault], budget: &Budget) {
        let candidates = &self.candidates[from..];
        let found: Vec<Vec<Differs>> = (faults.par_iter())
            .map(|fault| {
                let mut work = 0;
                let differs = |c: &Candidate| {
                    if work > JUDGED || budget.is_stopped() {
                        return Differs::No;
                    }
                    fault.differs(ask, &c.trial, (&c.seen, &c.marks), &mut work)
                };
                candidates.iter().map(differs).collect()
            })
            .collect();
        for (number, differs) in found.into_iter().enumerate() {
            for (candidate, differs) in self.candidates[from..].iter_mut().zip(differs) {
                match differs {
                    Differs::Yes => candidate.catches.push(number),
                    Differs::Told => candidate.tells.push(number),
                    Differs::No => {}
                }
            }
        }
    }

    /// Looks among all that was met for what no candidate catches, and takes what it finds among the candidates. What became of each variant, as
    /// far as it is known before cases are chosen.
    fn hunt(&mut self, ask: &Asking<'_>, faults: &[Fault], budget: &Budget) -> Vec<Fate> {
        let caught: HashSet<usize> = self.candidates.iter().flat_map(|c| c.catches.iter().copied()).collect();
        let open: Vec<usize> = (0..faults.len()).filter(|n| !caught.contains(n)).collect();
        let list: Vec<&Fault> = open.iter().map(|n| &faults[*n]).collect();
        let hunted = hunt(ask, &list, budget);
        let mut fates = vec![Fate::Caught; faults.len()];
        let from = self.candidates.len();
        let mut taken = HashSet::new();
        for (n, hunted) in open.into_iter().zip(hunted) {
            if let Some(at) = hunted.caught.or(hunted.told)
                && taken.insert(at)
            {
                self.candidates.push(Candidate::new(ask, at, vec![]));
            }
            fates[n] = match (hunted.caught, hunted.told, hunted.whole) {
                (Some(_), ..) => Fate::Caught,
                (_, _, false) => Fate::NotLooked,
                (_, Some(_), true) => Fate::Told,
                (_, None, true) if ask.walk.complete => Fate::NoChange,
                (_, None, true) => Fate::NotMet,
            };
        }
        self.judge(from, ask, faults, budget);
        fates
    }

    /// Chooses candidates, those that gain most first, until nothing is gained or there are enough.
    fn choose(&self, most: usize) -> Vec<usize> {
        let mut shown = HashSet::new();
        let mut caught = HashSet::new();
        let mut told = HashSet::new();
        let mut chosen = vec![];
        while chosen.len() < most {
            let gain = |c: &Candidate| -> u32 {
                let shows: u32 =
                    c.shows.iter().filter(|s| !shown.contains(*s)).map(|s| worth(&self.wanted[*s])).sum();
                let fresh = |list: &[usize], met: &HashSet<usize>| {
                    list.iter().filter(|n| !met.contains(*n)).count() as u32
                };
                shows + WORTH_CATCHING * fresh(&c.catches, &caught) + WORTH_TELLING * fresh(&c.tells, &told)
            };
            // Of equal gain the first one: the nearest to the start.
            let best = (0..self.candidates.len())
                .max_by_key(|at| (gain(&self.candidates[*at]), std::cmp::Reverse(*at)));
            let Some(at) = best.filter(|at| gain(&self.candidates[*at]) > 0) else { break };
            let c = &self.candidates[at];
            shown.extend(c.shows.iter().copied());
            caught.extend(c.catches.iter().copied());
            told.extend(c.tells.iter().chain(&c.catches).copied());
            chosen.push(at);
        }
        chosen
    }

    fn coverage(
        &self,
        (chosen, complete): (&[usize], bool),
        (b, text): (&Bound, &str),
        spot: &dyn Fn(String, u32) -> Spot,
    ) -> Coverage {
        let shown: HashSet<&Shows> =
            chosen.iter().flat_map(|c| &self.candidates[*c].shows).map(|s| &self.wanted[*s]).collect();
        let all = all_marks(&b.model);
        let (mut missing, mut impossible) = (vec![], vec![]);
        for mark in all.iter().filter(|m| !shown.contains(&Shows::Went(**m))) {
            let met = self.wanted.contains(&Shows::Went(*mark));
            let list = if complete && !met { &mut impossible } else { &mut missing };
            list.push(spot(mark_words(text, mark), mark.span.start));
        }
        let endings = b.model.endings.iter().map(fendle_lang::state::ending_text);
        Coverage {
            ways: all.len() - missing.len() - impossible.len(),
            of: all.len() - impossible.len(),
            missing,
            impossible,
            endings_missing: endings.filter(|e| !shown.contains(&Shows::Ends(e.clone()))).collect(),
        }
    }

    fn sharpness(
        &self,
        chosen: &[usize],
        faults: &[Fault],
        fates: &[Fate],
        spot: &dyn Fn(String, u32) -> Spot,
    ) -> Sharpness {
        let of = |list: fn(&Candidate) -> &Vec<usize>| -> HashSet<usize> {
            chosen.iter().flat_map(|c| list(&self.candidates[*c]).iter().copied()).collect()
        };
        let (caught, told) = (of(|c| &c.catches), of(|c| &c.tells));
        let mut out = Sharpness { variants: faults.len(), ..Sharpness::default() };
        for (n, fault) in faults.iter().enumerate() {
            let fate = match fates[n] {
                _ if caught.contains(&n) => Fate::Caught,
                Fate::Caught => Fate::LeftOut,
                Fate::Told if !told.contains(&n) => Fate::LeftOut,
                _ if told.contains(&n) => Fate::Told,
                other => other,
            };
            let list = match fate {
                Fate::Caught => {
                    out.caught += 1;
                    continue;
                }
                Fate::NotLooked => {
                    out.not_looked += 1;
                    continue;
                }
                Fate::Told => &mut out.told,
                Fate::NoChange => &mut out.no_change,
                Fate::NotMet => &mut out.not_caught,
                Fate::LeftOut => &mut out.left_out,
            };
            list.push(spot(fault.words(), fault.span().start));
        }
        out
    }
}

impl Candidate {
    fn new(ask: &Asking<'_>, at: u32, shows: Vec<usize>) -> Candidate {
        let trial = ask.walk.trials[at as usize].clone();
        let (seen, marks) = ask.truth(&trial);
        Candidate { trial, seen, marks, shows, catches: vec![], tells: vec![] }
    }

    /// What can be seen from its result alone: the ways of its statements, and how it ends or is refused.
    fn plain(&self, ask: &Asking<'_>) -> Vec<Shows> {
        let of = ask.moves.list[self.trial.number as usize].0;
        let result = match &self.seen {
            Seen::Over(how) => Shows::Over(how.clone()),
            Seen::NotOffered | Seen::Breaks(_) => Shows::NotOffered(of),
            Seen::Refused(why, _) => Shows::Refused(of, why.clone(), None),
            Seen::Made(done) => Shows::Ends(done.ended.clone().unwrap_or_else(|| "running".into())),
        };
        self.marks.iter().map(|m| Shows::Went(*m)).chain([result]).collect()
    }
}

/// The first line of a statement, in quotes.
fn head(text: &str, at: u32) -> String {
    let line = text[at as usize..].lines().next().unwrap_or_default();
    let line = line.split("//").next().unwrap_or_default();
    let line = line.split(['{', '}']).next().unwrap_or_default().trim();
    format!("`{line}`")
}

/// A way through the rules, in words.
fn mark_words(text: &str, mark: &Mark) -> String {
    let head = head(text, mark.span.start);
    let runs = !head.starts_with("`if");
    let way = match mark.way {
        Way::Reached => "is reached",
        Way::Held if runs => "runs",
        Way::Held => "holds",
        Way::NotHeld if runs => "does not run",
        Way::NotHeld => "does not hold",
        Way::Nothing => "has nothing to draw",
        Way::Refused => "refuses",
    };
    format!("{head} {way}")
}

/// What a case shows, in words; what has none speaks for itself.
fn shows_words(shows: &Shows, b: &Bound, text: &str, spot: &dyn Fn(String, u32) -> Spot) -> Option<String> {
    const EDGES: [&str; 8] = [
        "the first row",
        "the last row",
        "the first column",
        "the last column",
        "the upper left corner",
        "the upper right corner",
        "the lower left corner",
        "the lower right corner",
    ];
    let name = |of: &usize| &b.model.moves[*of].name;
    let at = |m: &Mark| format!("line {}: {}", spot(String::new(), m.span.start).line, mark_words(text, m));
    Some(match shows {
        Shows::Went(mark) => at(mark),
        Shows::Again(mark) => format!("{} more than once", at(mark)),
        Shows::Made(of) => format!("{} is made", name(of)),
        Shows::NotOffered(of) => format!("{} is not offered", name(of)),
        Shows::Refused(of, why, None) => format!("{} is refused: {why}", name(of)),
        Shows::Refused(_, _, Some(_)) | Shows::Way(..) => return None,
        Shows::Ends(how) if how == "running" => "the game goes on".into(),
        Shows::Ends(how) => format!("the end: {how}"),
        Shows::Stuck => "after it no move is allowed".into(),
        Shows::OneBefore(how) => format!("one move before the end: {how}"),
        Shows::Over(how) => format!("a move after the end: {how}"),
        Shows::Edge(of, edge) => format!("{} changes {}", name(of), EDGES[*edge as usize]),
        Shows::RefusedEdge(of, edge) => format!("{} is refused at {}", name(of), EDGES[*edge as usize]),
        Shows::At(of, edge) => format!("{} is made in {}", name(of), EDGES[*edge as usize]),
        Shows::Full(true) => "the board is full, and a move is allowed".into(),
        Shows::Full(false) => "the board is full, and a move is refused".into(),
        Shows::Fills => "the board is full after it, and the game goes on".into(),
        Shows::Drew(what) => format!("{what} is drawn"),
        Shows::DrewCell(0) => "the only cell that can be is drawn".into(),
        Shows::DrewCell(1) => "the first cell is drawn".into(),
        Shows::DrewCell(2) => "the last cell is drawn".into(),
        Shows::DrewCell(_) => "a cell is drawn".into(),
        Shows::Phase(name, true) => format!("the phase \"{name}\" changes something"),
        Shows::Phase(name, false) => format!("the phase \"{name}\" changes nothing"),
        Shows::Scored(true) => "score is gained".into(),
        Shows::Scored(false) => "no score is gained".into(),
    })
}

fn case_of(level: &Loaded, walk: &Walk, candidate: &Candidate, shows: Vec<String>, names: &Names) -> Case {
    let b = &level.game.bound;
    let Candidate { trial, seen, .. } = candidate;
    let number = trial.number as usize;
    let state = &walk.states[trial.state as usize];
    let before = Position::new(b, state);
    let told = |state: &[i32]| names.position(&b.draw(state));
    let (of, params) = &level.moves.list[number];
    let def = &b.model.moves[*of];
    let with = (def.locals.iter().zip(&def.params).zip(params))
        .map(|((local, dom), v)| (local.name.clone(), b.scalar_text(dom.scalar(), *v, false)))
        .collect();
    let status = status_word(b, state);
    let here = names.position(&before.drawn);
    let mut draws = vec![];
    let mut expect = Expected {
        allowed: false,
        position: here.clone(),
        at: before.line.clone(),
        status,
        score: 0,
        ended: None,
        why: None,
        cells: vec![],
        phases: vec![],
    };
    let of = level.moves.name(number).to_string();
    let what = match seen {
        Seen::Over(how) => {
            expect.ended = Some(how.clone());
            expect.why = Some("the game has ended".into());
            format!("not after the end ({how})")
        }
        Seen::NotOffered | Seen::Breaks(_) => {
            expect.why = Some("it is not offered".into());
            "not offered".into()
        }
        Seen::Refused(why, at) => {
            expect.why = Some(why.clone());
            expect.cells = at.iter().map(|p| fendle_lang::play::place_name(b, *p)).collect();
            format!("refused, {why}")
        }
        Seen::Made(done) => {
            draws.clone_from(&done.draws);
            expect.allowed = true;
            expect.position = told(&done.state);
            expect.at = Position::new(b, &done.state).line;
            expect.score = done.score;
            expect.ended.clone_from(&done.ended);
            expect.status = status_word(b, &done.state);
            if expect.status == "running"
                && fendle_lang::play::is_stuck(b, &level.moves, &done.state).unwrap_or(false)
            {
                expect.status = "stuck";
            }
            let phase =
                |(name, state): &(String, Vec<i32>)| CasePhase { name: name.clone(), position: told(state) };
            expect.phases = done.phases.iter().map(phase).collect();
            match (&done.ended, expect.status) {
                (Some(how), _) => how.clone(),
                (None, "stuck") => "made, and stuck".into(),
                _ => "made".into(),
            }
        }
    };
    Case {
        name: format!("{of}: {what}"),
        position: here,
        at: before.line,
        status,
        of: names.of_move(&of).to_string(),
        kind: def.name.clone(),
        with,
        draws,
        expect,
        shows,
    }
}

impl Cases {
    /// The file of cases, for programs in any language: one case a line.
    #[must_use]
    pub fn file(&self, asked: &Asked, model: &str) -> String {
        let head = json!({
            "fendle_cases": 1,
            "level": asked.level,
            "model": model,
            "positions": self.positions,
            "complete": self.complete,
            "coverage": self.coverage,
            "sharpness": self.sharpness,
        });
        let head = serde_json::to_string_pretty(&head).expect("values have text keys");
        let head = head.trim_end().trim_end_matches('}').trim_end();
        let lines: Vec<String> =
            self.cases.iter().map(|c| serde_json::to_string(c).expect("values have text keys")).collect();
        format!("{head},\n  \"cases\": [\n    {}\n  ]\n}}\n", lines.join(",\n    "))
    }
}
