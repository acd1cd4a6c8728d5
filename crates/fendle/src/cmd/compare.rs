//! `fendle compare A B --spaces`: two levels' spaces side by side.

use std::path::{Path, PathBuf};

use fendle_ask::Want;
use fendle_ask::compare::compare;

use crate::args::{LevelArgs, ViewArg};
use crate::session::{Ended, Session, Trouble};
use crate::{json, text};

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
