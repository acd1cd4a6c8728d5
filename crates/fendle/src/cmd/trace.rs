//! `fendle trace`: moves played phase by phase.

use fendle_ask::Want;
use fendle_ask::trace::trace;

use crate::args::{LevelArgs, PictureArgs};
use crate::picture::play;
use crate::session::{Ended, Session};
use crate::{json, picture, text};

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    moves: &str,
    (verdict, draws): (bool, bool),
    picture: &PictureArgs,
) -> Ended {
    let level = s.load(args, Want::One)?;
    let moves = &s.moves(moves)?;
    let answer = trace(&mut s.store, &level, moves, verdict, &s.budget)?;
    let seed = s.common.seed;
    let end = s.give(
        &answer,
        |a| json::answer_and_file(a, picture.files()),
        |a| text::trace::lines(a, draws, verdict, seed),
    )?;
    if let Some(path) = &picture.output {
        let t = &answer.found;
        let positions = std::iter::once(&t.start).chain(t.steps.iter().map(|m| &m.position));
        let frames = play::frames(t.steps.iter().map(|m| &m.called), positions);
        let drawing = play::draw(&level, &frames, picture.is_page(), picture.theme.theme())?;
        picture::write(&s.files, path, &drawing)?;
        s.wrote(picture.files())?;
    }
    Ok(end)
}
