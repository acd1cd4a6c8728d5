//! `fendle show`: the position, and what is on it, counted.

use fendle_ask::Want;
use fendle_ask::show::show;

use crate::args::{LevelArgs, PictureArgs};
use crate::picture::{self, Drawing, look};
use crate::session::{Ended, Session};
use crate::{json, text};

/// Runs the command.
pub fn run(s: &mut Session, args: &LevelArgs, line: bool, picture: &PictureArgs) -> Ended {
    let level = s.load(args, Want::One)?;
    let answer = show(&level);
    if let Some(path) = &picture.output {
        let b = &level.game.bound;
        let scene = look::scene(b, &b.position, &level.name, picture.theme.theme())?;
        picture::write(&s.files, path, &Drawing::Picture(scene))?;
        if s.is_json() {
            s.json(&serde_json::json!({"level": level.name, "wrote": [path]}))?;
        } else {
            s.line(format!("wrote {}", path.display()))?;
        }
        return Ok(answer.end());
    }
    let lines = if line { |a: &_| one_line(a) } else { |a: &_| text::show::lines(a) };
    s.give(&answer, json::show::value, lines)
}

fn one_line(a: &fendle_ask::Answer<fendle_ask::show::Shown>) -> Vec<String> {
    vec![a.found.position.line.clone()]
}
