//! `fendle cases`: test cases for the developer's own code.

use std::path::Path;

use fendle_ask::Want;
use fendle_ask::cases::{MOST, cases};

use crate::args::LevelArgs;
use crate::files::ending;
use crate::session::{Ended, Session, Trouble};
use crate::{json, text};

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    (output, names): (Option<&Path>, Option<&Path>),
    most: Option<usize>,
) -> Ended {
    if let Some(path) = output.filter(|path| ending(path) != "json") {
        return Err(Trouble::words(format!(
            "cases are written as JSON: -o wants a name ending in .json, not {}",
            path.display()
        )));
    }
    let names = super::compare::names(s, names)?;
    let level = s.load(args, Want::One)?;
    if let Some(path) = output {
        s.files.may_write(path)?;
    }
    let most = most.unwrap_or(MOST);
    let answer = s.budget.pooled(|| cases(&s.store, &level, (&names, most), &s.budget))?;
    let verbose = s.common.verbose;
    let end = s.give(&answer, json::answer, |a| text::cases::lines(a, output.is_none(), verbose))?;
    if let Some(path) = output {
        let file = answer.found.file(&answer.asked, &level.game.bound.model.name);
        s.files.write(path, |out| out.write_all(file.as_bytes()))?;
        s.wrote(&[path.to_path_buf()])?;
    }
    Ok(end)
}
