//! `--watch`: a command runs again whenever a file that it read is saved, with what has changed on top.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::mpsc::{self, RecvTimeoutError};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use clap::Parser as _;
use fendle_ask::End;
use fendle_view::text::went_and_came;
use notify::{EventKind, RecursiveMode, Watcher};

use crate::args::{Cli, Command, Format};
use crate::{once, progress};

/// After a save, so long nothing more has to come before the command runs again: editors save in several steps.
const SETTLE: Duration = Duration::from_millis(120);
/// Lines of what has changed.
const CHANGED_MAX: usize = 24;

/// Whether a command can be watched.
pub fn is_watched(command: &Command) -> bool {
    matches!(
        command,
        Command::Check { .. }
            | Command::Show { .. }
            | Command::Moves { .. }
            | Command::Solve { .. }
            | Command::Explore { .. }
            | Command::Audit { .. }
    )
}

/// What a run writes, kept.
#[derive(Clone, Default)]
struct Kept(Arc<Mutex<Vec<u8>>>);

impl Write for Kept {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Runs the command of the command line again and again, until it is interrupted or its output is closed.
pub fn run(color: bool) -> ExitCode {
    let mut before: Option<Vec<String>> = None;
    let mut runs = 0u64;
    loop {
        let Ok(cli) = Cli::try_parse() else { return ExitCode::from(End::Bad.code()) };
        let named = paths_of(&cli.command);
        let is_json = cli.common.format == Format::Json;
        let kept = Kept::default();
        let (end, read) = once(cli, Box::new(kept.clone()), Box::new(kept.clone()), color);
        runs += 1;
        // What could not be read may come.
        let files: Vec<PathBuf> = read.iter().map(|r| r.0.clone()).chain(named).collect();
        let bytes = kept.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let lines: Vec<String> = String::from_utf8_lossy(&bytes).lines().map(String::from).collect();
        // Programs get one value a run, and no words between.
        let shown = match is_json {
            true => io::stdout().write_all(&bytes),
            false => tell(runs, &files, before.as_deref(), &lines),
        };
        if shown.is_err() || progress::is_interrupted() {
            return ExitCode::from(end.code());
        }
        before = Some(lines);
        if !wait(&files, &read) {
            return ExitCode::from(end.code());
        }
    }
}

/// The paths that a command names.
fn paths_of(command: &Command) -> Vec<PathBuf> {
    match command {
        Command::Check { paths, .. } | Command::Audit { paths, .. } => paths.clone(),
        Command::Show { level, .. }
        | Command::Moves { level, .. }
        | Command::Solve { level, .. }
        | Command::Explore { level, .. } => vec![level.file.clone()],
        _ => vec![],
    }
}

/// Writes what has changed since the last run, and the whole of this one.
fn tell(runs: u64, files: &[PathBuf], before: Option<&[String]>, lines: &[String]) -> io::Result<()> {
    let mut out = io::stdout().lock();
    if io::stdout().is_terminal() {
        // The screen is cleared, and what scrolled away stays.
        write!(out, "\x1b[2J\x1b[H")?;
    }
    let many =
        files.iter().filter_map(|f| f.canonicalize().ok()).collect::<std::collections::BTreeSet<_>>().len();
    let many = fendle_core::numbers::counted(many as u64, "file", "files");
    writeln!(out, "run {runs}; waiting for {many} to be saved (Ctrl-C ends)")?;
    if let Some(before) = before {
        let changes = went_and_came(before, lines);
        match changes.as_slice() {
            [] => writeln!(out, "nothing has changed")?,
            some => {
                writeln!(out, "what has changed:")?;
                for line in some.iter().take(CHANGED_MAX) {
                    writeln!(out, "  {line}")?;
                }
                if some.len() > CHANGED_MAX {
                    writeln!(out, "  ... {} lines more", some.len() - CHANGED_MAX)?;
                }
            }
        }
    }
    writeln!(out)?;
    for line in lines {
        writeln!(out, "{line}")?;
    }
    out.flush()
}

/// Waits until one of these files, or a model or level beside it, is saved; false when it was interrupted. `read`: digests of those that were
/// read.
fn wait(files: &[PathBuf], read: &[(PathBuf, u64)]) -> bool {
    let (send, saved) = mpsc::channel();
    let watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        if let Ok(event) = event
            && !matches!(event.kind, EventKind::Access(_))
        {
            let _ = send.send(event.paths);
        }
    });
    let Ok(mut watcher) = watcher else { return false };
    let whole: Vec<PathBuf> = files.iter().map(|f| f.canonicalize().unwrap_or_else(|_| f.clone())).collect();
    let mut folders: Vec<PathBuf> = (whole.iter())
        .map(|f| if f.is_dir() { f.clone() } else { f.parent().unwrap_or(Path::new(".")).to_path_buf() })
        .map(|f| if f.as_os_str().is_empty() { PathBuf::from(".") } else { f })
        .collect();
    folders.sort();
    folders.dedup();
    for folder in &folders {
        let _ = watcher.watch(folder, RecursiveMode::NonRecursive);
    }
    // What was saved while the command ran, nobody was told of. Clocks of files are too coarse to tell.
    let differs = |(file, digest): &(PathBuf, u64)| {
        std::fs::read(file).is_ok_and(|now| crate::files::digest(&now) != *digest)
    };
    if read.iter().any(differs) {
        std::thread::sleep(SETTLE);
        return true;
    }
    let is_ours = |path: &PathBuf| {
        let ending = path.extension().and_then(|e| e.to_str());
        whole.contains(path) || matches!(ending, Some("fendle" | "toml"))
    };
    let mut settling = false;
    loop {
        match saved.recv_timeout(SETTLE) {
            Ok(paths) => settling |= paths.iter().any(is_ours),
            Err(RecvTimeoutError::Timeout) if settling => return true,
            Err(RecvTimeoutError::Timeout) => {
                if progress::is_interrupted() {
                    return false;
                }
            }
            Err(RecvTimeoutError::Disconnected) => return false,
        }
    }
}
