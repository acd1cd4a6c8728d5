//! `fendle moves`: every move, allowed with its result, or refused with reason, line and cells.

use fendle_ask::Want;
use fendle_ask::moves::moves;

use crate::args::{LevelArgs, PictureArgs};
use crate::session::{Ended, Session};
use crate::{json, picture, text};

/// Runs the command.
pub fn run(s: &mut Session, args: &LevelArgs, picture: &PictureArgs) -> Ended {
    let level = s.load(args, Want::One)?;
    let answer = moves(&s.store, &level, &s.budget)?;
    if let Some(path) = &picture.output {
        let drawing = picture::moves::draw(&level, &answer.found, picture.theme.theme())?;
        picture::write(&s.files, path, &drawing)?;
    }
    s.give(&answer, |a| json::answer_and_file(a, picture.files()), text::moves::lines)?;
    s.wrote_apart(picture.files())?;
    Ok(answer.end())
}
