//! `fendle audit`: every level against what it expects.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use fendle_core::{Exploration, Limit, explore};
use fendle_lang::model::Model;
use fendle_lang::play::MoveTable;
use fendle_lang::syntax::level::{Level, RawKind};
use fendle_lang::{Diagnostic, FileId, bind};
use fendle_view::page::{Row, sorted_table};
use fendle_view::text::{counted, grouped, table};
use fendle_view::tiles::{Theme, Tiles};
use rayon::prelude::*;
use serde_json::{Value, json};

use super::fault_trouble;
use super::infer::fair;
use super::solve::{Answer, Failed, answer};
use crate::args::{Common, Format};
use crate::files::{Store, Want, begin, collect, game_of, read_text};
use crate::look::{ending, tiles, write_file};
use crate::watch::{Watcher, limit_text, limits};
use crate::{Exit, Session, Trouble};

/// What the audit of one level found.
pub struct Audited {
    /// The file and the level.
    pub file: String,
    /// The level's name.
    pub level: String,
    /// How it went.
    pub exit: Exit,
    /// `solvable` and so on; `fault` when the model broke.
    pub verdict: String,
    /// Least number of moves.
    pub moves: Option<u64>,
    /// The counts, where the whole space was asked for.
    pub counts: Option<Exploration>,
    /// What differs, in words.
    pub differs: Vec<String>,
    /// Whether anything was expected.
    pub expects: bool,
    fault: Option<(fendle_lang::Game, fendle_core::explore::Faulted)>,
    board: Option<Tiles>,
}

struct Job {
    path: String,
    file: FileId,
    model: Arc<Model>,
    level: Level,
}

impl Audited {
    fn new(job: &Job) -> Audited {
        Audited {
            file: job.path.clone(),
            level: job.level.name.clone(),
            exit: Exit::Yes,
            verdict: String::new(),
            moves: None,
            counts: None,
            differs: vec![],
            expects: !job.level.expect.is_empty(),
            fault: None,
            board: None,
        }
    }
}

/// Runs the command.
pub fn run(s: &mut Session, paths: &[PathBuf], output: Option<&Path>) -> Result<Exit, Trouble> {
    if let Some(path) = output.filter(|p| ending(p) != "html") {
        return Err(Trouble::Message(format!("a report is a page: {} should end in .html", path.display())));
    }
    let files = collect(paths, &["toml"])?;
    let mut store = Store::default();
    let mut errors = vec![];
    let mut jobs = vec![];
    for path in &files {
        let text = read_text(path)?;
        if let Some((levels, model)) = store.levels(path, text, &mut errors) {
            for level in levels.levels {
                jobs.push(Job {
                    path: path.display().to_string(),
                    file: levels.file,
                    model: Arc::clone(&model),
                    level,
                });
            }
        }
    }
    let results = audit_all(s, jobs, &mut errors);
    let exit = write(s, &store, &results)?;
    if let Some(path) = output {
        write_file(path, page(&results).as_bytes())?;
        if s.common.format == Format::Text {
            s.line(format!("wrote {}", path.display()))?;
        }
    }
    if !errors.is_empty() {
        s.out.flush()?;
        s.reporter.show(&store.sources, &errors);
        return Ok(Exit::Bad);
    }
    Ok(exit)
}

/// Audits levels of one file that is already read; used by the demo.
pub fn audit_levels(
    s: &Session,
    path: &str,
    file: FileId,
    model: &Arc<Model>,
    levels: Vec<Level>,
    errors: &mut Vec<Diagnostic>,
) -> Vec<Audited> {
    let jobs = levels
        .into_iter()
        .map(|level| Job { path: path.into(), file, model: Arc::clone(model), level })
        .collect();
    audit_all(s, jobs, errors)
}

fn audit_all(s: &Session, jobs: Vec<Job>, errors: &mut Vec<Diagnostic>) -> Vec<Audited> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(s.common.threads).build();
    let common = Common { threads: 1, quiet: true, ..s.common.clone() };
    let work = || -> Vec<(Option<Audited>, Vec<Diagnostic>)> {
        jobs.par_iter()
            .map(|job| {
                let mut own = vec![];
                (audit_one(&common, job, &mut own), own)
            })
            .collect()
    };
    let found = match pool {
        Ok(pool) => pool.install(work),
        Err(_) => work(),
    };
    let mut out = vec![];
    for (audited, own) in found {
        errors.extend(own);
        out.extend(audited);
    }
    out
}

fn audit_one(common: &Common, job: &Job, errors: &mut Vec<Diagnostic>) -> Option<Audited> {
    let mut board = None;
    let mut audited = audit_with(common, job, errors, &mut board)?;
    audited.board = board;
    Some(audited)
}

fn audit_with(
    common: &Common,
    job: &Job,
    errors: &mut Vec<Diagnostic>,
    board: &mut Option<Tiles>,
) -> Option<Audited> {
    let mut bound = bind(&job.model, job.file, &job.level, &[], errors)?;
    let starts = match begin(&mut bound, Want::All, common.seed) {
        Ok((_, starts)) => starts,
        Err(e) => {
            errors.push(*e);
            return None;
        }
    };
    let (mut game, moves) = match game_of(bound, job.file, job.level.span) {
        Ok(made) => made,
        Err(e) => {
            errors.push(*e);
            return None;
        }
    };
    game.starts = starts;
    *board = tiles(&game.bound, &game.bound.position, "");
    if game.bound.model.hides() {
        return Some(audit_hidden(common, job, &game, &moves));
    }
    let expect = &job.level.expect;
    let mut audited = Audited::new(job);
    let broke = |audited: &mut Audited, text: String| {
        audited.exit = Exit::Bad;
        audited.verdict = "fault".into();
        audited.differs.push(text);
    };
    let a: Answer = match answer(&game, &moves, common) {
        Ok(a) => a,
        Err(Failed::Message(m)) => {
            broke(&mut audited, m);
            return Some(audited);
        }
        Err(Failed::Fault(f)) => {
            broke(&mut audited, "the model breaks".into());
            audited.fault = Some((game, f));
            return Some(audited);
        }
    };
    audited.verdict = a.verdict.into();
    audited.moves = a.moves.as_ref().map(|m| m.len() as u64);
    let asks_space = expect.iter().any(|(k, _)| !matches!(k.text.as_str(), "solvable" | "moves"));
    let mut limit: Option<Limit> = None;
    if asks_space {
        let watcher = Watcher::new(common);
        match explore(&game, limits(common), false, &watcher) {
            Ok(found) => {
                if let Some(f) = found.fault {
                    broke(&mut audited, "the model breaks".into());
                    audited.fault = Some((game, f));
                    return Some(audited);
                }
                limit = found.counts.limit;
                audited.counts = Some(found.counts);
            }
            Err(f) => {
                let text = format!("the start breaks the model: {}", game.run_fault(&f));
                broke(&mut audited, text);
                return Some(audited);
            }
        }
    }
    for (key, raw) in expect {
        match (&raw.kind, key.text.as_str()) {
            (RawKind::Bool(want), "solvable") => match audited.verdict.as_str() {
                "undecided" => audited.exit = audited.exit.max(a.exit),
                verdict if (verdict == "solvable") != *want => {
                    audited.differs.push(format!("expected solvable = {want}, it is {verdict}"));
                }
                _ => {}
            },
            (RawKind::Int(want), "moves") => match (audited.moves, audited.verdict.as_str()) {
                (_, "undecided") => audited.exit = audited.exit.max(a.exit),
                (Some(n), _) if n as i64 == *want => {}
                (Some(n), _) => audited.differs.push(format!("expected moves = {want}, it takes {n}")),
                (None, _) => audited.differs.push(format!("expected moves = {want}, it is unsolvable")),
            },
            (RawKind::Int(want), name) => {
                let counts = audited.counts.as_ref().map(|c| json!(c));
                let have = counts.as_ref().and_then(|c| c[name].as_i64());
                match have {
                    _ if limit.is_some() => {
                        audited.exit = audited.exit.max(Exit::Undecided);
                    }
                    Some(n) if n == *want => {}
                    Some(n) => audited.differs.push(format!("expected {name} = {want}, it is {n}")),
                    None => audited.differs.push(format!("expected {name} = {want}, it is not known")),
                }
            }
            _ => {}
        }
    }
    if let Some(limit) = limit {
        audited.differs.push(format!("not decided: stopped by {}", limit_text(limit, common)));
    } else if a.verdict == "undecided" {
        audited.differs.push(a.proof.clone());
        audited.exit = audited.exit.max(a.exit);
    }
    if audited.exit == Exit::Yes && !audited.differs.is_empty() {
        audited.exit = Exit::No;
    }
    Some(audited)
}

/// A level with hidden things: played with what can be known.
fn audit_hidden(common: &Common, job: &Job, game: &fendle_lang::Game, moves: &MoveTable) -> Audited {
    let expect = &job.level.expect;
    let b = &game.bound;
    let mut audited = Audited::new(job);
    let history = vec![b.position.clone()];
    let seen = b.seen.iter().any(Option::is_some);
    let report = if seen { None } else { Some(fair::played(b, moves, &history)) };
    audited.verdict = match &report {
        Some(Ok(r)) if r.is_fair() => "no guess".into(),
        Some(Ok(r)) if !r.guesses.is_empty() => counted(r.guesses.len() as u64, "guess", "guesses"),
        Some(Ok(_)) => "not finished".into(),
        _ => "hidden".into(),
    };
    if let Some(Ok(r)) = &report {
        audited.moves = r.won.then_some(r.moves.len() as u64);
    }
    // The chance to win by full search, where it is asked for.
    let mut chance: Option<fendle_core::odds::Value> = None;
    if expect.iter().any(|(k, _)| !matches!(k.text.as_str(), "no_guess" | "guesses" | "moves")) {
        let watcher = Watcher::new(common);
        if let Ok(crate::know::Play::Knowing(k, _)) = crate::know::from(game, &history, &[], false) {
            let limits = crate::know::in_order(limits(common));
            match explore(&*k, limits, false, &watcher) {
                Ok(found) if found.fault.is_none() => {
                    if found.counts.limit.is_none() {
                        chance = fendle_core::odds::odds(&*k, &found, &limits, &watcher)
                            .ok()
                            .flatten()
                            .and_then(|a| a.win);
                    }
                    audited.counts = Some(found.counts);
                }
                _ => {
                    audited.exit = Exit::Bad;
                    audited.verdict = "fault".into();
                    audited.differs.push("the model breaks".into());
                    return audited;
                }
            }
        }
    }
    for (key, raw) in expect {
        let name = key.text.as_str();
        match (&raw.kind, name) {
            (RawKind::Bool(want), "no_guess") => match &report {
                Some(Ok(r)) if r.is_fair() == *want => {}
                Some(Ok(r)) => audited.differs.push(format!(
                    "expected no_guess = {want}, {} forced",
                    counted(r.guesses.len() as u64, "guess is", "guesses are")
                )),
                Some(Err(why)) => {
                    audited.differs.push(format!("not decided: {why}"));
                    audited.exit = audited.exit.max(Exit::Undecided);
                }
                None => audited.differs.push("the level gives no layout to play".into()),
            },
            (RawKind::Int(want), "guesses") => match &report {
                Some(Ok(r)) if r.guesses.len() as i64 == *want => {}
                Some(Ok(r)) => {
                    audited.differs.push(format!("expected guesses = {want}, there are {}", r.guesses.len()))
                }
                _ => audited.differs.push("expected guesses, and the level cannot be played".into()),
            },
            (RawKind::Text(want, _), "chance") => match &chance {
                Some(fendle_core::odds::Value::Exact(have)) => {
                    let fits = want.trim().parse::<fendle_core::infer::Fraction>().is_ok_and(|w| w == *have);
                    if !fits {
                        audited.differs.push(format!("expected chance = {want}, it is {have}"));
                    }
                }
                _ => {
                    audited.differs.push("the chance to win is not known exactly".into());
                    audited.exit = audited.exit.max(Exit::Undecided);
                }
            },
            (RawKind::Int(want), "moves") => match audited.moves {
                Some(n) if n as i64 == *want => {}
                Some(n) => audited.differs.push(format!("expected moves = {want}, it takes {n}")),
                None => audited.differs.push(format!("expected moves = {want}, it is not finished")),
            },
            (RawKind::Bool(want), "solvable") => {
                let have = audited.counts.as_ref().map(|c| c.goal > 0);
                if have != Some(*want) {
                    audited.differs.push(format!("expected solvable = {want}, and that is not so"));
                }
            }
            (RawKind::Int(want), _) => {
                let counts = audited.counts.as_ref().filter(|c| c.limit.is_none()).map(|c| json!(c));
                match counts.as_ref().and_then(|c| c[name].as_i64()) {
                    Some(n) if n == *want => {}
                    Some(n) => audited.differs.push(format!("expected {name} = {want}, it is {n}")),
                    None => audited.differs.push(format!("expected {name} = {want}, it is not known")),
                }
            }
            _ => {}
        }
    }
    if audited.exit == Exit::Yes && !audited.differs.is_empty() {
        audited.exit = Exit::No;
    }
    audited
}

/// How one level went, in words.
fn went(r: &Audited) -> &'static str {
    match r.exit {
        Exit::Yes if !r.expects => "nothing expected",
        Exit::Yes => "as expected",
        Exit::No => "DIFFERS",
        Exit::Undecided | Exit::Interrupted => "undecided",
        Exit::Bad => "BROKEN",
    }
}

/// The report of a pack: a table with small boards, sorted by a click on its head.
fn page(results: &[Audited]) -> String {
    let count = |r: &Audited, f: fn(&Exploration) -> u64| r.counts.as_ref().map(f);
    let rows: Vec<Row> = results
        .iter()
        .map(|r| Row {
            picture: r
                .board
                .as_ref()
                .map(|t| t.small(Theme::Light, (160.0 / t.cols.max(t.rows).max(1) as f32).min(24.0))),
            words: vec![
                r.level.clone(),
                r.file.clone(),
                went(r).into(),
                r.verdict.clone(),
                r.differs.join("; "),
            ],
            numbers: vec![
                r.moves,
                count(r, |c| c.states),
                count(r, |c| c.depth.into()),
                count(r, |c| c.dead),
                count(r, |c| c.fatal_moves),
            ],
        })
        .collect();
    let good = results.iter().filter(|r| r.exit == Exit::Yes).count() as u64;
    let title =
        format!("{} of {} as expected", grouped(good), counted(results.len() as u64, "level", "levels"));
    sorted_table(
        &title,
        &["level", "file", "audit", "verdict", "what differs"],
        &["moves", "states", "depth", "dead", "fatal moves"],
        &rows,
    )
}

/// Writes the table and what differs; gives the exit of the whole.
pub fn write(s: &mut Session, store: &Store, results: &[Audited]) -> Result<Exit, Trouble> {
    let worst = |want: Exit| results.iter().any(|r| r.exit == want);
    // A fault outweighs a difference, a difference outweighs what is not decided.
    let exit = [Exit::Interrupted, Exit::Bad, Exit::No, Exit::Undecided]
        .into_iter()
        .find(|e| worst(*e))
        .unwrap_or(Exit::Yes);
    if s.common.format == Format::Json {
        let levels: Vec<Value> = results
            .iter()
            .map(|r| {
                json!({
                    "file": r.file,
                    "level": r.level,
                    "ok": r.exit == Exit::Yes,
                    "verdict": r.verdict,
                    "moves": r.moves,
                    "counts": r.counts,
                    "expects": r.expects,
                    "differs": r.differs,
                })
            })
            .collect();
        s.json(&json!({"ok": exit == Exit::Yes, "levels": levels}))?;
    } else {
        let rows: Vec<Vec<String>> = results
            .iter()
            .map(|r| {
                let count =
                    |f: fn(&Exploration) -> u64| r.counts.as_ref().map_or("-".into(), |c| grouped(f(c)));
                vec![
                    r.level.clone(),
                    went(r).into(),
                    r.verdict.clone(),
                    r.moves.map_or("-".into(), grouped),
                    count(|c| c.states),
                    count(|c| c.dead),
                    count(|c| c.fatal_moves),
                ]
            })
            .collect();
        s.lines(&table(&["level", "audit", "verdict", "moves", "states", "dead", "fatal moves"], &rows))?;
        for r in results {
            for d in &r.differs {
                s.line(format!("{}: {}: {d}", r.file, r.level))?;
            }
        }
        let good = results.iter().filter(|r| r.exit == Exit::Yes).count() as u64;
        s.line(format!(
            "{} of {} as expected",
            grouped(good),
            counted(results.len() as u64, "level", "levels")
        ))?;
    }
    s.out.flush()?;
    for r in results {
        if let Some((game, fault)) = &r.fault {
            let _ = fault_trouble(s, store, game, fault);
        }
    }
    Ok(exit)
}
