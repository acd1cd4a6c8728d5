//! The binary: arguments, files, progress, output, exit codes. No algorithms.
//!
//! Exit codes: 0 what was asked holds; 1 it does not; 2 bad usage, model, level, or a model
//! fault; 3 undecided; 130 interrupted.

mod args;
mod cmd;
mod files;
mod know;
mod look;
mod report;
mod watch;

use std::io::{self, IsTerminal, Write};
use std::process::ExitCode;

use clap::Parser;

use args::{Cli, Command, Common, When};
use report::Reporter;

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// What was asked holds.
    Yes,
    /// It does not.
    No,
    /// Bad usage, model or level, or a model fault.
    Bad,
    /// A limit was hit.
    Undecided,
    /// Interrupted.
    Interrupted,
}

impl Exit {
    fn code(self) -> u8 {
        match self {
            Exit::Yes => 0,
            Exit::No => 1,
            Exit::Bad => 2,
            Exit::Undecided => 3,
            Exit::Interrupted => 130,
        }
    }
}

/// Why a command could not end as it should.
#[derive(Debug)]
pub enum Trouble {
    /// Diagnostics were reported already.
    Reported,
    /// A message for people.
    Message(String),
    /// Output could not be written.
    Output(io::Error),
}

impl From<io::Error> for Trouble {
    fn from(e: io::Error) -> Trouble {
        Trouble::Output(e)
    }
}

/// What every command works with.
pub struct Session {
    /// Options that mean the same everywhere.
    pub common: Common,
    /// Where results go.
    pub out: Box<dyn Write>,
    /// Where diagnostics and progress go.
    pub reporter: Reporter,
}

impl Session {
    /// Writes one line of the result.
    ///
    /// # Errors
    ///
    /// When it cannot be written.
    pub fn line(&mut self, text: impl AsRef<str>) -> io::Result<()> {
        writeln!(self.out, "{}", text.as_ref())
    }

    /// Writes several lines.
    ///
    /// # Errors
    ///
    /// When they cannot be written.
    pub fn lines<T: AsRef<str>>(&mut self, list: &[T]) -> io::Result<()> {
        list.iter().try_for_each(|l| writeln!(self.out, "{}", l.as_ref()))
    }

    /// Writes the one JSON value of a command.
    ///
    /// # Errors
    ///
    /// When it cannot be written.
    pub fn json(&mut self, value: &serde_json::Value) -> io::Result<()> {
        writeln!(self.out, "{}", serde_json::to_string_pretty(value).expect("values have text keys"))
    }
}

fn main() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(e) => {
            let code = if e.use_stderr() { Exit::Bad } else { Exit::Yes };
            // A closed pipe is no error.
            let _ = e.print();
            return ExitCode::from(code.code());
        }
    };
    let color = match cli.common.color {
        When::Always => true,
        When::Never => false,
        When::Auto => io::stderr().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty()),
    };
    let plain = cli.common.color == When::Never;
    let quiet = cli.common.quiet;
    let mut session = Session {
        common: cli.common,
        out: Box::new(io::BufWriter::new(io::stdout().lock())),
        reporter: Reporter { color, plain, quiet },
    };
    let ended = run(cli.command, &mut session).and_then(|exit| {
        session.out.flush()?;
        Ok(exit)
    });
    let exit = match ended {
        Ok(exit) => exit,
        Err(Trouble::Output(e)) if e.kind() == io::ErrorKind::BrokenPipe => {
            // Nothing more can be said to a closed pipe; dropping the buffer must not try to.
            std::mem::forget(session);
            return ExitCode::from(0);
        }
        Err(Trouble::Output(e)) => {
            eprintln!("fendle: the output cannot be written: {e}");
            std::mem::forget(session);
            return ExitCode::from(Exit::Bad.code());
        }
        Err(Trouble::Message(text)) => {
            let _ = session.out.flush();
            eprintln!("fendle: {text}");
            Exit::Bad
        }
        Err(Trouble::Reported) => {
            let _ = session.out.flush();
            Exit::Bad
        }
    };
    ExitCode::from(exit.code())
}

fn run(command: Command, s: &mut Session) -> Result<Exit, Trouble> {
    match command {
        Command::Demo => cmd::demo::run(s),
        Command::New { family, dir, list } => cmd::new::run(s, family.as_deref(), dir, list),
        Command::Check { paths, proof: Some(proof), level, .. } => match paths.as_slice() {
            [file] => cmd::proof::check(s, &proof, file, level),
            _ => Err(Trouble::Message("--proof is rechecked against one level file".into())),
        },
        Command::Check { paths, shapes, code, .. } => cmd::check::run(s, &paths, code, shapes),
        Command::Show { level, line, picture } => cmd::show::run(s, &level, line, &picture),
        Command::Moves { level, picture } => cmd::moves::run(s, &level, &picture),
        Command::Trace { level, moves, draws, verdict, picture } => {
            cmd::trace::run(s, &level, &moves, (verdict, draws), &picture)
        }
        Command::Solve { level, brief, proof, picture } => {
            cmd::solve::run(s, &level, brief, proof.as_deref(), &picture)
        }
        Command::Explore { level, past_goals, structure, idle, chart, picture } => {
            cmd::explore::run(s, &level, past_goals, structure.then_some(idle), (&picture, chart))
        }
        Command::Find { level, condition, draws, moves_before } => {
            cmd::find::run(s, &level, &condition, draws, moves_before)
        }
        Command::Why { level, all, typed, most, picture } => {
            cmd::why::run(s, &level, (all, typed, most), &picture)
        }
        Command::Graph { graph } => cmd::graph::run(s, &graph),
        Command::Odds { level, plays, policy, picture } => cmd::odds::run(s, &level, plays, policy, &picture),
        Command::Infer { level, no_guess, plays, picture } => {
            cmd::infer::run(s, &level, no_guess, plays, &picture)
        }
        Command::Review { level, moves } => cmd::review::run(s, &level, &moves),
        Command::Compare { first, second, level, with, spaces: _, known } => {
            cmd::compare::run(s, (first, second), (level, with), known)
        }
        Command::Audit { paths, output } => cmd::audit::run(s, &paths, output.as_deref()),
        Command::Completions { shell } => cmd::shell::completions(s, shell),
        Command::Manual => cmd::shell::manual(s),
    }
}
