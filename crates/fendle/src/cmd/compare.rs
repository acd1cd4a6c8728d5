//! `fendle compare A B --spaces`: two levels' spaces side by side.

use std::path::{Path, PathBuf};

use fendle_ask::compare::compare;
use fendle_ask::game::{Names, compare_game};
use fendle_ask::{Provider as _, Want};

use crate::args::{LevelArgs, ViewArg};
use crate::game::Running;
use crate::session::{Ended, Session, Trouble};
use crate::{json, text};

/// The names of a game, from the file that is given.
pub fn names(s: &Session, file: Option<&Path>) -> Result<Names, Trouble> {
    let Some(path) = file else { return Ok(Names::default()) };
    let text = s.files.read(path).map_err(fendle_ask::Trouble::Message)?;
    Names::read(&text).map_err(|e| Trouble::words(format!("{}: {e}", path.display())))
}

/// Compares a level with a running game.
pub fn with_game(
    s: &mut Session,
    (file, level, known): (PathBuf, Option<String>, bool),
    (command, names, all): (&str, Option<&Path>, bool),
) -> Ended {
    let args = LevelArgs { file, level, at: None, after: None, view: ViewArg::Author, known, sets: vec![] };
    let level = s.load(&args, Want::One)?;
    let names = self::names(s, names)?;
    let mut game = Running::start(command, &s.budget).map_err(Trouble::words)?;
    let answer = compare_game(&s.store, &level, &mut game, (&names, all), &s.budget)?;
    s.give(&answer, json::answer, text::compare::game)
}

/// Runs the command.
pub fn run(
    s: &mut Session,
    (first, second): (PathBuf, Option<PathBuf>),
    (level, with): (Option<String>, Option<String>),
    known: bool,
) -> Ended {
    if second.is_none() && with.is_none() {
        return Err(Trouble::words(
            "name a second level file, or with --with a second level of the same file",
        ));
    }
    let one = |file: &Path, level: &Option<String>| LevelArgs {
        file: file.to_path_buf(),
        level: level.clone(),
        at: None,
        after: None,
        view: ViewArg::Author,
        known,
        sets: vec![],
    };
    let a = s.load(&one(&first, &level), Want::All)?;
    let b = s.load(&one(second.as_ref().unwrap_or(&first), &with), Want::All)?;
    let answer = compare(&s.store, &a, &b, &s.budget)?;
    s.give(&answer, json::compare::value, text::compare::lines)
}
