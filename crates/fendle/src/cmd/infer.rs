//! `fendle infer`: hidden things: what is certain and by which clues, exact probabilities, the chance to win after each choice,
//! and whether a level can be finished without a guess.

use fendle_ask::fairness::fairness;
use fendle_ask::infer::infer;
use fendle_ask::{End, Want};

use crate::args::{LevelArgs, PictureArgs};
use crate::session::{Ended, Session, Trouble};
use crate::{json, picture, text};

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    no_guess: bool,
    plays: Option<u64>,
    picture: &PictureArgs,
) -> Ended {
    let level = s.load(args, Want::One)?;
    if no_guess {
        if picture.output.is_some() {
            return Err(Trouble::words("-o draws what is known of one position: leave --no-guess out"));
        }
        let answer = fairness(&level, &s.budget)?;
        return s.give(&answer, json::answer, |a| text::fairness::lines(a, &level));
    }
    picture.refuse(&s.files, true)?;
    let answer = infer(&s.store, &level, plays, &s.budget)?;
    let drawn = picture.output.as_ref().filter(|_| answer.end() == End::Yes);
    if let Some(path) = drawn {
        let drawing = picture::infer::draw(&level, &answer.found, picture.is_page(), picture.theme.theme())?;
        picture::write(&s.files, path, &drawing)?;
    }
    let files = if drawn.is_some() { picture.files() } else { &[] };
    let verbose = s.common.verbose;
    let end =
        s.give(&answer, |a| json::answer_and_file(a, files), |a| text::infer::lines(a, &level, verbose))?;
    s.wrote_apart(files)?;
    Ok(end)
}
