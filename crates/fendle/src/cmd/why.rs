//! `fendle why`: why a position cannot be won, or what its fatal moves destroy.

use fendle_ask::Want;
use fendle_ask::why::{dead_parts, one_position};

use crate::args::{LevelArgs, PictureArgs};
use crate::session::{Ended, Session, Trouble};
use crate::{json, picture, text};

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    (all, typed, most): (bool, bool, usize),
    picture: &PictureArgs,
) -> Ended {
    let level = s.load(args, Want::One)?;
    if !all {
        if picture.output.is_some() {
            return Err(Trouble::words("-o draws the dead parts of a level: it wants --all"));
        }
        let answer = one_position(&s.store, &level, typed, &s.budget)?;
        return s.give(&answer, |a| json::why::value(a, &level), |a| text::why::lines(a, &level));
    }
    picture.refuse(&s.files, false)?;
    let answer = dead_parts(&s.store, &level, (typed, most), &s.budget)?;
    if let Some(path) = &picture.output {
        let drawing = picture::why::draw(&level, &answer.found, picture.theme.theme());
        picture::write(&s.files, path, &drawing)?;
    }
    let files = picture.files();
    let end = s.give(&answer, |a| json::answer_and_file(a, files), |a| text::why::dead_parts(a, &level))?;
    s.wrote_apart(files)?;
    Ok(end)
}
