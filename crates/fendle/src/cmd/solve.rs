//! `fendle solve`: a shortest solution, or a proof that there is none.

use std::path::{Path, PathBuf};

use fendle_ask::count::count_solutions;
use fendle_ask::counting::solve_counting;
use fendle_ask::hunt::Promise;
use fendle_ask::proof::{payload, proof_of};
use fendle_ask::solve::{Solved, is_knowing, offered, solve, solve_knowing};
use fendle_ask::{Answer, Loaded, Verdict, Want};
use fendle_core::Space;
use fendle_core::numbers::grouped;

use crate::args::{LevelArgs, PictureArgs};
use crate::picture::play;
use crate::session::{Ended, Session, Trouble};
use crate::{json, memory, picture, text};

/// How a level is solved.
#[derive(Clone, Copy, Debug)]
pub struct How<'a> {
    /// Without the boards of the solution.
    pub brief: bool,
    /// What is asked for.
    pub promise: Promise,
    /// What is counted instead of moves.
    pub counting: Option<&'a str>,
}

/// Counts solutions.
pub fn count(s: &mut Session, args: &LevelArgs) -> Ended {
    let level = s.load(args, Want::All)?;
    let answer = count_solutions(&s.store, &level, &s.budget)?;
    s.give(&answer, json::answer, text::solve::counts)
}

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    How { brief, promise, counting }: How<'_>,
    proof: Option<&Path>,
    picture: &PictureArgs,
) -> Ended {
    let level = s.load(args, Want::All)?;
    if proof.is_some() {
        offered(&level, "solve --proof")?;
    }
    if picture.output.is_some() {
        offered(&level, "solve -o")?;
    }
    if counting.is_some() {
        offered(&level, "solve --moves-counting")?;
        if proof.is_some() {
            return Err(Trouble::words(
                "a proof file counts moves and nothing else: leave --proof or --moves-counting out",
            ));
        }
    }
    if is_knowing(&level) {
        let answer = solve_knowing(&s.store, &level, &s.budget)?;
        return s.give(&answer, json::answer, text::solve::knowing);
    }
    let verbose = s.common.verbose;
    let mut closed = None;
    let mut see = |space: &Space| closed = proof.map(|_| payload(space));
    let answer = match counting {
        Some(name) => solve_counting(&s.store, &level, (name, promise), &s.budget)?,
        None => solve(&s.store, &level, promise, &s.budget, proof.is_some().then_some(&mut see))?,
    };
    let drawn = draw(s, &level, &answer, picture)?;
    let written = match proof {
        Some(path) => Some(write_proof(s, &level, &answer, (path, &args.file), closed)?),
        None => None,
    };
    let end = s.give(
        &answer,
        |a| json::solve::value(a, written.as_deref(), drawn),
        |a| text::solve::lines(a, brief, verbose),
    )?;
    if s.is_json() || answer.fault.is_some() {
        return Ok(end);
    }
    s.wrote(drawn)?;
    if drawn.is_empty() && picture.output.is_some() {
        s.line("no picture written: there is no solution to be drawn")?;
    }
    if let Some(words) = written {
        s.line("")?;
        s.line(words)?;
    }
    if s.common.verbose {
        s.line("")?;
        let peak = fendle_core::numbers::bytes(memory::peak());
        s.line(format!("{:.3} s, {peak} peak memory", answer.effort.seconds))?;
    }
    Ok(end)
}

/// Draws the solution, where there is one; gives the file.
fn draw<'p>(
    s: &Session,
    level: &Loaded,
    answer: &Answer<Solved>,
    picture: &'p PictureArgs,
) -> Result<&'p [PathBuf], Trouble> {
    let (Some(path), Some(names)) = (&picture.output, &answer.found.solution) else { return Ok(&[]) };
    let frames = play::frames(names, &answer.found.positions);
    let drawing = play::draw(level, &frames, picture.is_page(), picture.theme.theme())?;
    picture::write(&s.files, path, &drawing)?;
    Ok(picture.files())
}

/// Writes the proof of an answer, where it is proved; gives the words for it.
fn write_proof(
    s: &Session,
    level: &Loaded,
    answer: &Answer<Solved>,
    (path, file): (&Path, &Path),
    closed: Option<Vec<u8>>,
) -> Result<String, Trouble> {
    let Some(sealed) = proof_of(&s.store, level, answer, closed, &s.budget) else {
        return Ok(match answer.holds {
            Verdict::Fails => "no proof written: proofs of this kind are not written to files".into(),
            _ => "no proof written: nothing is proved".into(),
        });
    };
    s.files.write(path, |out| out.write_all(&sealed.bytes))?;
    let sets: String = level.sets.iter().map(|v| format!(" --set {v}")).collect();
    Ok(format!(
        "proof written to {}: {}, {} bytes; `fendle check --proof {} {}{sets}` rechecks it",
        path.display(),
        sealed.what,
        grouped(sealed.bytes.len() as u64),
        path.display(),
        file.display()
    ))
}
