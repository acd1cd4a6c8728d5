//! `fendle odds`: chance: possible, certain, the best probability, what each move is worth, the best of an aim.

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use fendle_ask::Want;
use fendle_ask::guide::BestMoves;
use fendle_ask::odds::{How, ask};
use flate2::Compression;
use flate2::write::GzEncoder;

use crate::args::{LevelArgs, PictureArgs};
use crate::session::{Ended, Session, Trouble};
use crate::{json, picture, text};

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    how: How,
    picture: &PictureArgs,
    best_moves: Option<&Path>,
) -> Ended {
    picture.refuse(&s.files, true)?;
    let packed = best_moves.map(is_packed).transpose()?;
    if let Some(path) = best_moves {
        s.files.may_write(path)?;
    }
    let level = s.load(args, Want::All)?;
    if let (Some(path), Some(packed)) = (best_moves, packed) {
        let table = fendle_ask::guide::best_moves(&s.store, &level, &s.budget)?;
        s.files.write_in_time(path, &s.budget.patience(), |out| match packed {
            true => {
                let mut gz = GzEncoder::new(out, Compression::default());
                best_lines(&table, &mut gz)?;
                gz.finish().map(drop)
            }
            false => best_lines(&table, out),
        })?;
    }
    let answer = ask(&s.store, &level, how, &s.budget)?;
    // What cannot be drawn is still answered.
    let mut not_drawn = None;
    if let Some(path) = picture.output.as_ref().filter(|_| answer.fault.is_none()) {
        match picture::odds::draw(&level, &answer.found, picture.is_page(), picture.theme.theme()) {
            Ok(drawing) => picture::write(&s.files, path, &drawing)?,
            Err(why) => not_drawn = Some(why),
        }
    }
    let mut files: Vec<PathBuf> = vec![];
    if not_drawn.is_none() && answer.fault.is_none() {
        files.extend_from_slice(picture.files());
    }
    files.extend(best_moves.map(Path::to_path_buf));
    let value = |a: &_| {
        let mut out = json::answer(a);
        out["wrote"] = serde_json::json!(files.first());
        out
    };
    let end = s.give(&answer, value, text::odds::lines)?;
    s.wrote_apart(&files)?;
    if let (Some(why), false) = (not_drawn, s.is_json()) {
        s.line("")?;
        s.line(format!("nothing is drawn: {why}"))?;
    }
    Ok(end)
}

/// Whether a table of best moves is to be compressed.
fn is_packed(path: &Path) -> Result<bool, Trouble> {
    let name = path.file_name().unwrap_or_default().to_string_lossy().to_ascii_lowercase();
    match (name.ends_with(".csv.gz"), name.ends_with(".csv")) {
        (true, _) => Ok(true),
        (_, true) => Ok(false),
        _ => Err(Trouble::words(format!(
            "{} is no name for a table of best moves: it ends in .csv, or in .csv.gz to be compressed",
            path.display()
        ))),
    }
}

/// The table of best moves: a line a state.
fn best_lines(table: &BestMoves<'_>, out: &mut dyn Write) -> io::Result<()> {
    let quoted = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
    writeln!(out, "state,move,wins_at_least,wins_at_most")?;
    table.each(&mut |state, name, (least, most)| {
        writeln!(out, "{},{},{least},{most}", quoted(state), quoted(name))
    })
}

/// Runs the command for the next moves alone.
pub fn within(s: &mut Session, args: &LevelArgs, moves: u32) -> Ended {
    let level = s.load(args, Want::All)?;
    let answer = fendle_ask::within::ask(&level, moves, &s.budget)?;
    s.give(&answer, json::answer, text::within::lines)
}
