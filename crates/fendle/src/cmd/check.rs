//! `fendle check`: are models and levels well formed, do the examples pass, are the starts sane; and rechecking a proof.

use std::path::{Path, PathBuf};

use fendle_ask::cases::examples::{SharpExamples, sharp_examples};
use fendle_ask::check::{check, end_of};
use fendle_ask::proof::{opened, recheck};
use fendle_ask::{End, Verdict, Want};
use fendle_core::proof::FILE_BYTES_MAX;

use crate::args::LevelArgs;
use crate::files::collect;
use crate::session::{Ended, Session, Trouble};
use crate::{json, text};

/// Runs the command.
/// `sharp`: also which faulty variants of the models their examples would not notice.
pub fn run(s: &mut Session, paths: &[PathBuf], (code, shapes, sharp): (bool, bool, bool)) -> Ended {
    let files = collect(paths, &["fendle", "toml"])?;
    let answer = check(&mut s.store, &s.files, &files, code, &s.budget);
    let c = &answer.found;
    for words in &c.unreadable {
        s.reporter.hint(words);
    }
    let end = end_of(&answer);
    let sharp: Vec<SharpExamples> = match sharp {
        true => c
            .models
            .iter()
            .map(|m| s.budget.pooled(|| sharp_examples(&s.store, &m.definition, &s.budget)))
            .collect(),
        false => vec![],
    };
    let cut = sharp.iter().any(|s| s.not_tried > 0) && end == End::Yes;
    let end = if cut { End::of(Verdict::Undecided, s.budget.stopped(), false) } else { end };
    if s.is_json() {
        let mut value = json::check::value(&answer, &s.store, end);
        if !sharp.is_empty() {
            value["sharp"] = serde_json::json!(sharp);
        }
        s.json(&value)?;
        return Ok(end);
    }
    s.lines(text::check::lines(c, s.common.verbose))?;
    if shapes {
        s.lines(text::check::shapes(c))?;
    }
    for model in &sharp {
        s.lines(text::cases::examples(model, s.common.verbose))?;
    }
    s.out.flush()?;
    s.reporter.show(&s.store.sources, &c.diagnostics);
    s.lines(text::check::last(&answer, end))?;
    Ok(end)
}

/// Rechecks a proof file against a level.
pub fn recheck_proof(
    s: &mut Session,
    path: &Path,
    file: &Path,
    level: Option<String>,
    sets: Vec<String>,
) -> Ended {
    let bytes = s.files.read_bytes(path, FILE_BYTES_MAX).map_err(fendle_ask::Trouble::Message)?;
    let proof = match opened(&bytes) {
        Ok(proof) => proof,
        Err(why) => return refuse(s, &why),
    };
    let header = &proof.header;
    // The values are those that the user gives, never those that the file names: it would prove itself by them.
    let name = level.unwrap_or_else(|| header.level.clone());
    let args = LevelArgs { at: header.position.clone(), sets, ..LevelArgs::of(file, Some(name), true) };
    let level = s.load(&args, Want::All)?;
    let answer = recheck(&mut s.store, &level, &proof, &s.budget)?;
    s.give(&answer, json::answer, text::proof::lines)
}

/// What is no proof at all.
fn refuse(s: &mut Session, why: &str) -> Ended {
    if s.is_json() {
        s.json(&serde_json::json!({"proof": "refused", "why": why}))?;
    } else {
        s.lines(text::wrapped(&format!("refused: {why}")))?;
    }
    Ok(End::No)
}

/// The one level file of `check --proof`.
///
/// # Errors
///
/// Words where there are more.
pub fn one_file(paths: &[PathBuf]) -> Result<&Path, Trouble> {
    match paths {
        [file] => Ok(file),
        _ => Err(Trouble::words("--proof is rechecked against one level file")),
    }
}
