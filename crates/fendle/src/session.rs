//! What every command works with: its options, its streams, the texts it reads, and its one budget.

use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fendle_ask::game::written::written;
use fendle_ask::load::{load, load_text};
use fendle_ask::{Answer, Budget, End, Loaded, Provider as _, Store, Want, Wish};
use serde_json::Value;

use crate::args::{Common, Format, LevelArgs};
use crate::files::Files;
use crate::game::Running;
use crate::report::Reporter;

/// Why a command could not end as it should.
#[derive(Debug)]
pub enum Trouble {
    /// What was asked cannot be asked, or a limit was hit before anything was found.
    Ask(fendle_ask::Trouble),
    /// Output could not be written.
    Output(io::Error),
}

impl Trouble {
    /// Words for people.
    pub fn words(text: impl Into<String>) -> Trouble {
        Trouble::Ask(fendle_ask::Trouble::Message(text.into()))
    }
}

impl From<io::Error> for Trouble {
    fn from(e: io::Error) -> Trouble {
        Trouble::Output(e)
    }
}

impl From<fendle_ask::Trouble> for Trouble {
    fn from(e: fendle_ask::Trouble) -> Trouble {
        Trouble::Ask(e)
    }
}

/// How a command ends: an ending, or trouble.
pub type Ended = Result<End, Trouble>;

/// What every command works with.
pub struct Session {
    /// Options that mean the same everywhere.
    pub common: Common,
    /// Where results go.
    pub out: Box<dyn Write>,
    /// Where diagnostics go.
    pub reporter: Reporter,
    /// The texts that were read.
    pub store: Store,
    /// Where they come from.
    pub files: Files,
    /// The one budget of this command.
    pub budget: Arc<Budget>,
    /// The level that is asked about, once it is loaded.
    pub level: Option<String>,
}

impl Session {
    /// Whether the answer is wanted as a value.
    pub fn is_json(&self) -> bool {
        self.common.format == Format::Json
    }

    /// Loads the level that is named, with one start or all of them.
    pub fn load(&mut self, args: &LevelArgs, want: Want) -> Result<Loaded, Trouble> {
        let want = if args.after.is_some() { Want::One } else { want };
        let mut wish = args.wish();
        wish.after = wish.after.map(|moves| self.moves(&moves)).transpose()?;
        let level = if args.game {
            self.load_game(&args.file.to_string_lossy(), &mut wish, want)?
        } else {
            load(&mut self.store, &self.files, &wish, want, &self.budget)?
        };
        self.level = Some(level.name.clone());
        if let (Some(n), false) = (level.one_of, self.is_json()) {
            self.reporter.hint(&format!(
                "{} holds {n} levels; this is the first, `{}` (--level takes another)",
                args.file.display(),
                level.name
            ));
        }
        Ok(level)
    }

    /// A running game, written down as a level.
    fn load_game(&mut self, command: &str, wish: &mut Wish, want: Want) -> Result<Loaded, Trouble> {
        let mut game = Running::start(command, &self.budget).map_err(Trouble::words)?;
        let written = written(&mut game, wish.level.take().as_deref(), &self.budget)?;
        wish.file = PathBuf::from("game.toml");
        let mut errors = vec![];
        if self.store.compile("game.fendle".into(), &written.model, &mut errors).is_none() {
            return Err(fendle_ask::Trouble::Diagnostics(errors).into());
        }
        Ok(load_text(&mut self.store, &self.files, wish, want, &self.budget, written.level)?)
    }

    /// Moves as an argument gives them; `@FILE` stands for those of a recorded play.
    pub fn moves(&self, given: &str) -> Result<String, Trouble> {
        let Some(name) = given.strip_prefix('@') else { return Ok(given.to_string()) };
        let text = self.files.read(Path::new(name)).map_err(Trouble::words)?;
        fendle_ask::playing::recorded_moves(&text, name).map_err(Trouble::words)
    }

    /// Writes lines of the result.
    pub fn lines<T: AsRef<str>>(&mut self, list: impl IntoIterator<Item = T>) -> io::Result<()> {
        list.into_iter().try_for_each(|l| writeln!(self.out, "{}", l.as_ref()))
    }

    /// Writes one line of the result.
    pub fn line(&mut self, text: impl AsRef<str>) -> io::Result<()> {
        writeln!(self.out, "{}", text.as_ref())
    }

    /// Writes the one JSON value of a command.
    pub fn json(&mut self, value: &Value) -> io::Result<()> {
        writeln!(self.out, "{}", serde_json::to_string_pretty(value).expect("values have text keys"))
    }

    /// Writes an answer as it is wanted, says its fault, and gives its ending.
    pub fn give<T>(
        &mut self,
        answer: &Answer<T>,
        json: impl FnOnce(&Answer<T>) -> Value,
        text: impl FnOnce(&Answer<T>) -> Vec<String>,
    ) -> Ended {
        if self.is_json() {
            self.json(&json(answer))?;
        } else if answer.fault.is_none() || !answer.asked.level.is_empty() {
            self.lines(text(answer))?;
        }
        if let Some(fault) = &answer.fault {
            self.out.flush()?;
            self.reporter.show(&self.store.sources, std::slice::from_ref(&fault.diagnostic));
        }
        Ok(answer.end())
    }

    /// Says that a file was written.
    pub fn wrote(&mut self, files: &[PathBuf]) -> io::Result<()> {
        match files {
            [file] if !self.is_json() => self.line(format!("wrote {}", file.display())),
            _ => Ok(()),
        }
    }

    /// The same behind a blank line.
    pub fn wrote_apart(&mut self, files: &[PathBuf]) -> io::Result<()> {
        if !self.is_json() && !files.is_empty() {
            self.line("")?;
        }
        self.wrote(files)
    }
}
