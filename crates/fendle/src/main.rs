//! The binary: arguments, files, progress, output, exit codes. No algorithms.
//!
//! A command asks a question of `fendle-ask` and gives the answer as text ([`mod@text`]), as JSON ([`mod@json`]), or as a picture
//! ([`picture`]). Exit codes are decided there, in `End`: 0 what was asked holds; 1 it does not; 2 bad usage, model, level, or a
//! model fault; 3 undecided; 130 interrupted.

mod args;
mod cmd;
mod files;
mod game;
mod json;
mod library;
mod memory;
mod picture;
mod play;
mod progress;
mod report;
mod session;
mod tables;
mod text;
mod watch;

use fendle_ask::hunt::Promise;
use fendle_ask::odds::How;
use fendle_core::odds::Fractions;
use std::io::{self, IsTerminal, Write};
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use clap::Parser;
use fendle_ask::{End, StoppedBy, Store};
use serde_json::json;

use args::{Cli, Command, When};
use cmd::audit::Pack;
use files::Files;
use report::Reporter;
use session::{Ended, Session, Trouble};

#[global_allocator]
static ALLOCATOR: memory::Counting = memory::Counting;

fn main() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(e) => {
            let end = if e.use_stderr() { End::Bad } else { End::Yes };
            // A closed pipe is no error.
            let _ = e.print();
            return ExitCode::from(end.code());
        }
    };
    let color = match cli.common.color {
        When::Always => true,
        When::Never => false,
        When::Auto => io::stderr().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty()),
    };
    if cli.common.watch {
        if !watch::is_watched(&cli.command) {
            eprintln!("fendle: --watch is for check, show, moves, solve, explore and audit");
            return ExitCode::from(End::Bad.code());
        }
        return watch::run(color);
    }
    let out = Box::new(io::BufWriter::new(io::stdout()));
    ExitCode::from(once(cli, out, Box::new(io::stderr()), color).0.code())
}

/// Runs one command; gives how it ended, and the files that it read, each with a digest of what it was.
fn once(cli: Cli, out: Box<dyn Write>, err: Box<dyn Write>, color: bool) -> (End, Vec<(PathBuf, u64)>) {
    let budget = Arc::new(progress::budget(&cli.common));
    let mut session = Session {
        reporter: Reporter {
            err,
            color,
            plain: cli.common.color == When::Never,
            quiet: cli.common.quiet,
            last_hint: String::new(),
        },
        common: cli.common,
        out,
        store: Store::default(),
        files: Files::default(),
        budget,
        level: None,
    };
    let ended = run(cli.command, &mut session).or_else(|trouble| say(&mut session, trouble));
    progress::clear();
    let ended = ended.and_then(|end| Ok(session.out.flush().map(|()| end)?));
    let files = session.files.were_read();
    let end = match ended {
        Ok(end) => end,
        Err(Trouble::Output(e)) => {
            let closed = e.kind() == io::ErrorKind::BrokenPipe;
            if !closed {
                session.reporter.say(&format!("fendle: the output cannot be written: {e}"));
            }
            // Nothing more can be said there; dropping the buffer must not try to.
            std::mem::forget(session);
            if closed { End::Yes } else { End::Bad }
        }
        Err(Trouble::Ask(_)) => End::Bad,
    };
    (end, files)
}

/// Says why there is no answer, and gives the ending.
fn say(s: &mut Session, trouble: Trouble) -> Ended {
    let trouble = match trouble {
        Trouble::Ask(trouble) => trouble,
        output @ Trouble::Output(_) => return Err(output),
    };
    progress::clear();
    match trouble {
        fendle_ask::Trouble::Message(words) => {
            s.out.flush()?;
            s.reporter.say(&format!("fendle: {words}"));
            Ok(End::Bad)
        }
        fendle_ask::Trouble::Diagnostics(list) => {
            s.out.flush()?;
            s.reporter.show(&s.store.sources, &list);
            Ok(End::Bad)
        }
        fendle_ask::Trouble::Fault(fault) => {
            if s.is_json() {
                s.json(&json!({"level": s.level, "verdict": "fault", "fault": &fault}))?;
            }
            s.out.flush()?;
            s.reporter.show(&s.store.sources, std::slice::from_ref(&fault.diagnostic));
            Ok(End::Bad)
        }
        fendle_ask::Trouble::Limit(limit) => {
            let words = s.budget.words(limit);
            let sentence = text::undecided(limit, &words);
            undecided(s, sentence, Some(StoppedBy { limit, words }))
        }
        fendle_ask::Trouble::Undecided(why) => undecided(s, format!("undecided: {why}"), None),
    }
}

/// Says that nothing was decided, and why.
fn undecided(s: &mut Session, sentence: String, by: Option<StoppedBy>) -> Ended {
    let limit = by.as_ref().map(|by| by.limit);
    if s.is_json() {
        let effort = json::effort(&s.budget.effort(0));
        s.json(&json!({
            "level": s.level, "verdict": "undecided", "why": sentence, "stopped_by": by, "effort": effort,
        }))?;
    } else {
        s.lines(text::wrapped(&sentence))?;
    }
    Ok(End::of(fendle_ask::Verdict::Undecided, limit, false))
}

/// Runs a command.
fn run(command: Command, s: &mut Session) -> Ended {
    match command {
        Command::Demo => cmd::demo::run(s),
        Command::New { family, dir, list } => cmd::new::run(s, family.as_deref(), dir, list),
        Command::Check { paths, proof: Some(proof), level, sets, .. } => {
            let file = cmd::check::one_file(&paths)?;
            cmd::check::recheck_proof(s, &proof, file, level, sets)
        }
        Command::Check { paths, shapes, code, sharp, .. } => {
            cmd::check::run(s, &paths, (code, shapes, sharp))
        }
        Command::Show { level, line, picture } => cmd::show::run(s, &level, line, &picture),
        Command::Play { level, keys, record, theme } => {
            cmd::play::run(s, &level, (keys.as_deref(), record.as_deref()), theme)
        }
        Command::Moves { level, picture } => cmd::moves::run(s, &level, &picture),
        Command::Trace { level, moves, draws, verdict, picture } => {
            cmd::trace::run(s, &level, &moves, (verdict, draws), &picture)
        }
        Command::Solve { level, count: true, .. } => cmd::solve::count(s, &level),
        Command::Solve { level, brief, any, shortest, moves_counting, proof, picture, .. } => {
            let promise = match (any, shortest) {
                (true, _) => Promise::Any,
                (_, true) => Promise::Shortest,
                _ => Promise::Best,
            };
            let how = cmd::solve::How { brief, promise, counting: moves_counting.as_deref() };
            cmd::solve::run(s, &level, how, proof.as_deref(), &picture)
        }
        Command::Explore { level, past_goals, structure, idle, chart, picture } => {
            cmd::explore::run(s, &level, past_goals, structure.then_some(idle), (&picture, chart))
        }
        Command::Find { level, condition, draws, within: Some(moves), whatever, .. } => {
            cmd::find::near(s, &level, &condition, (moves, whatever, draws))
        }
        Command::Find { level, condition, draws, moves_before, any, .. } => {
            cmd::find::run(s, &level, &condition, (draws, moves_before, any))
        }
        Command::Why { level, all, typed, most, picture } => {
            cmd::why::run(s, &level, (all, typed, most), &picture)
        }
        Command::Bound { level, positions } => cmd::bound::run(s, &level, positions),
        Command::Graph { graph } => cmd::graph::run(s, &graph),
        Command::Odds { level, within: Some(moves), .. } => cmd::odds::within(s, &level, moves),
        Command::Odds { level, plays, policy, exact, picture, best_moves, .. } => {
            let fractions = if exact { Fractions::Always } else { Fractions::WhereSmall };
            let how = How { plays, policies: policy, fractions };
            cmd::odds::run(s, &level, how, &picture, best_moves.as_deref())
        }
        Command::Infer { level, no_guess, plays, picture } => {
            cmd::infer::run(s, &level, no_guess, plays, &picture)
        }
        Command::Review { level, moves } => cmd::review::run(s, &level, &moves),
        Command::Compare { first, level, known, game, names, record, all, output, theme, .. }
            if game.is_some() || record.is_some() =>
        {
            let by = match (&game, &record) {
                (Some(command), _) => cmd::compare::By::Game(command),
                (None, record) => cmd::compare::By::Record(record.as_deref().unwrap_or(&first)),
            };
            let draw = (output.as_deref(), theme.theme());
            cmd::compare::beside(s, (first.clone(), level, known), by, (names.as_deref(), all), draw)
        }
        Command::Compare { first, second, level, with, known, .. } => {
            cmd::compare::run(s, (first, second), (level, with), known)
        }
        Command::Draft { level, order } => cmd::making::draft(s, &level, &order),
        Command::Import { files, model, tiles, output } => {
            cmd::making::import(s, &files, &model, tiles.as_deref(), &output)
        }
        Command::Export { level, tiles, like, output } => {
            cmd::making::export(s, &level, (tiles.as_deref(), like.as_deref()), &output)
        }
        Command::Mend { level, want, may, fixed, costs, most, output, theme } => {
            let how = cmd::making::Mending { want: &want, may: &may, fixed: &fixed, costs: &costs, most };
            cmd::making::mend(s, &level, &how, &output, theme.theme())
        }
        Command::Cases { level, output, most, names } => {
            let most = most.map(|n| n as usize);
            cmd::cases::run(s, &level, (output.as_deref(), names.as_deref()), most)
        }
        Command::Audit { paths, model, tiles, output, profile: true, .. } => {
            let pack = Pack { paths: &paths, model: model.as_deref(), tiles: tiles.as_deref() };
            cmd::audit::profile(s, pack, output.as_deref())
        }
        Command::Audit { paths, model, tiles, output, junit, freeze, .. } => {
            let pack = Pack { paths: &paths, model: model.as_deref(), tiles: tiles.as_deref() };
            cmd::audit::run(s, pack, (output.as_deref(), junit.as_deref()), freeze)
        }
        Command::Completions { shell } => cmd::shell::completions(s, shell),
        Command::Manual => cmd::shell::manual(s),
    }
}
