//! `fendle odds`: chance: possible, certain, the best probability, what each move is worth, the best of an aim.

use fendle_ask::Want;
use fendle_ask::odds::{How, ask};

use crate::args::{LevelArgs, PictureArgs};
use crate::session::{Ended, Session};
use crate::{json, picture, text};

/// Runs the command.
pub fn run(s: &mut Session, args: &LevelArgs, how: How, picture: &PictureArgs) -> Ended {
    picture.refuse(&s.files, true)?;
    let level = s.load(args, Want::All)?;
    let answer = ask(&s.store, &level, how, &s.budget)?;
    // What cannot be drawn is still answered.
    let mut not_drawn = None;
    if let Some(path) = picture.output.as_ref().filter(|_| answer.fault.is_none()) {
        match picture::odds::draw(&level, &answer.found, picture.is_page(), picture.theme.theme()) {
            Ok(drawing) => picture::write(&s.files, path, &drawing)?,
            Err(why) => not_drawn = Some(why),
        }
    }
    let files = if not_drawn.is_none() && answer.fault.is_none() { picture.files() } else { &[] };
    let value = |a: &_| {
        let mut out = json::answer(a);
        out["wrote"] = serde_json::json!(files.first());
        out
    };
    let end = s.give(&answer, value, text::odds::lines)?;
    s.wrote_apart(files)?;
    if let (Some(why), false) = (not_drawn, s.is_json()) {
        s.line("")?;
        s.line(format!("nothing is drawn: {why}"))?;
    }
    Ok(end)
}

/// Runs the command for the next moves alone.
pub fn within(s: &mut Session, args: &LevelArgs, moves: u32) -> Ended {
    let level = s.load(args, Want::All)?;
    let answer = fendle_ask::within::ask(&level, moves, &s.budget)?;
    s.give(&answer, json::answer, text::within::lines)
}
