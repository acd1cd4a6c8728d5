//! `fendle compare A B --spaces`: two levels' spaces side by side.

use std::path::{Path, PathBuf};

use fendle_ask::compare::compare;
use fendle_ask::game::Names;
use fendle_ask::game::lockstep::compare_game;
use fendle_ask::game::record::compare_record;
use fendle_ask::{Provider as _, Want};
use fendle_view::tiles::Theme;

use crate::args::LevelArgs;
use crate::game::Running;
use crate::session::{Ended, Session, Trouble};
use crate::{json, picture, text};

/// The names of a game, from the file that is given.
pub fn names(s: &Session, file: Option<&Path>) -> Result<Names, Trouble> {
    let Some(path) = file else { return Ok(Names::default()) };
    let text = s.files.read(path).map_err(fendle_ask::Trouble::Message)?;
    Names::read(&text).map_err(|e| Trouble::words(format!("{}: {e}", path.display())))
}

/// What a level is compared with.
pub enum By<'a> {
    /// A running game, by the command that starts it.
    Game(&'a str),
    /// A file of recorded plays.
    Record(&'a Path),
}

/// Compares a level with the developer's own game. `draw`: where the first difference is drawn.
pub fn beside(
    s: &mut Session,
    (file, level, known): (PathBuf, Option<String>, bool),
    by: By<'_>,
    (names, all): (Option<&Path>, bool),
    (draw, theme): (Option<&Path>, Theme),
) -> Ended {
    let args = LevelArgs::of(&file, level, known);
    let level = s.load(&args, Want::One)?;
    let names = self::names(s, names)?;
    if let Some(path) = draw {
        picture::may_write(&s.files, path, false)?;
    }
    let answer = match by {
        By::Game(command) => {
            let mut game = Running::start(command, &s.budget).map_err(Trouble::words)?;
            compare_game(&s.store, &level, &mut game, (&names, all), &s.budget)?
        }
        By::Record(path) => {
            let text = s.files.read(path).map_err(fendle_ask::Trouble::Message)?;
            let name = path.display().to_string();
            compare_record(&s.store, &level, (&text, &name), (&names, all), &s.budget)?
        }
    };
    let recorded = matches!(by, By::Record(_));
    let end = s.give(&answer, json::answer, |a| text::compare::game(a, recorded))?;
    if let (Some(path), Some(first)) = (draw, answer.found.differences.first()) {
        let drawing = picture::compare::draw(&level, first, &names, theme)?;
        picture::write(&s.files, path, &drawing)?;
        s.wrote_apart(&[path.to_path_buf()])?;
    }
    Ok(end)
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
    let a = s.load(&LevelArgs::of(&first, level, known), Want::All)?;
    let b = s.load(&LevelArgs::of(second.as_ref().unwrap_or(&first), with, known), Want::All)?;
    let answer = compare(&s.store, &a, &b, &s.budget)?;
    s.give(&answer, json::compare::value, text::compare::lines)
}
