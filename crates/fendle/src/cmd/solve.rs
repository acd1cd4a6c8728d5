//! `fendle solve`: a shortest solution, or a proof that there is none.

use std::collections::BTreeSet;
use std::path::Path;

use fendle_core::solve::solve_seeing;
use fendle_core::{Limit, Model as _, Progress, Space, Verdict, Watch as _};
use fendle_lang::Bound;
use fendle_lang::play::is_won;
use fendle_lang::reasons::effects::QUICK_WAYS;
use fendle_lang::reasons::invariant::Apart;
use fendle_lang::reasons::keeps::{Kept, Proof, proof};
use fendle_view::board::side_by_side;
use fendle_view::text::{bytes, counted, grouped, wrapped};
use serde_json::{Value, json};

use super::infer::{chance_text, fair};
use super::why::needs_known;
use super::{
    WIDTH, call_text, fault_json, fault_trouble, move_lines, named, played_route, position_lines, title,
};
use crate::args::{Common, Format, LevelArgs, PictureArgs};
use crate::files::{Loaded, load_all};
use crate::know::{fault_words, play_or_say};
use crate::look::write_play;
use crate::watch::{Watcher, effort, limit_text, limits, peak_memory};
use crate::{Exit, Session, Trouble};

/// What solving a level found, ready to be written in any form.
pub struct Answer {
    /// How the command ends.
    pub exit: Exit,
    /// `solvable`, `unsolvable` or `undecided`.
    pub verdict: &'static str,
    /// The moves of a solution, with what is drawn on the way.
    pub moves: Option<Vec<String>>,
    /// The solution depends on what is drawn.
    pub lucky: bool,
    /// The positions passed through, the start first.
    pub positions: Vec<Vec<i32>>,
    /// The proof in words, or what is missing.
    pub proof: String,
    /// The proof for programs.
    pub proof_json: Value,
    /// The kept quantities that are the proof.
    pub kept: Option<Proof>,
    /// Distinct states seen.
    pub states: u64,
    /// Seconds taken.
    pub seconds: f64,
}

/// Why a level could not be solved or refuted.
pub enum Failed {
    /// The model broke.
    Fault(fendle_core::explore::Faulted),
    /// The start itself is broken, or the search was wrong.
    Message(String),
}

/// Solves the level of a game from its position.
pub fn answer(
    game: &fendle_lang::Game,
    moves: &fendle_lang::play::MoveTable,
    common: &Common,
) -> Result<Answer, Failed> {
    answer_seeing(game, moves, common, &mut |_| {})
}

/// The same; `closed` is shown the space where it is exhausted and holds no goal.
pub fn answer_seeing(
    game: &fendle_lang::Game,
    moves: &fendle_lang::play::MoveTable,
    common: &Common,
    closed: &mut dyn FnMut(&Space),
) -> Result<Answer, Failed> {
    let b = &game.bound;
    let watcher = Watcher::new(common);
    if !game.has_goal() {
        watcher.finish();
        let what =
            if game.aim().is_some() { "; `fendle odds` asks how good its aim can be made" } else { "" };
        return Ok(Answer {
            exit: Exit::No,
            verdict: "no goal",
            moves: None,
            lucky: false,
            positions: vec![],
            proof: format!("this model has no goal, so there is nothing to solve{what}"),
            proof_json: json!({"kind": "no goal"}),
            kept: None,
            states: 0,
            seconds: watcher.seconds(),
        });
    }
    // The rules first: a kept quantity that is proved needs no search.
    let mut stop = || watcher.look(&Progress::default()).is_some();
    let (kept, only_checked) = proof(game, QUICK_WAYS, &mut stop);
    let only_checked = only_checked.map(|sep| {
        let keeps = &b.model.keeps[sep.keeps];
        (sep, keeps)
    });
    if let Some(kept) = kept {
        watcher.finish();
        return Ok(Answer {
            exit: Exit::No,
            verdict: "unsolvable",
            moves: None,
            lucky: false,
            positions: vec![],
            proof: proof_lines(b, &kept).join("; "),
            proof_json: proof_json(b, &kept),
            kept: Some(kept),
            states: 0,
            seconds: watcher.seconds(),
        });
    }
    let solved = solve_seeing(game, limits(common), &watcher, closed);
    watcher.finish();
    let solved =
        solved.map_err(|f| Failed::Message(format!("the start breaks the model: {}", game.run_fault(&f))))?;
    let mut answer = Answer {
        exit: Exit::No,
        verdict: "unsolvable",
        moves: None,
        lucky: false,
        positions: vec![],
        proof: String::new(),
        proof_json: Value::Null,
        kept: None,
        states: solved.states,
        seconds: watcher.seconds(),
    };
    match solved.verdict {
        Verdict::Solvable(route) => {
            let wrong = |why: String| {
                Failed::Message(format!(
                    "the solution found does not hold: {why}; this is a mistake in fendle"
                ))
            };
            let played = played_route(game, moves, &route).map_err(wrong)?;
            if !is_won(b, played.states.last().expect("a route has a start")) {
                return Err(wrong("the last state is no goal".into()));
            }
            answer.exit = Exit::Yes;
            answer.verdict = "solvable";
            answer.lucky = !game.is_sure() || game.starts.len() > 1;
            answer.moves = Some(played.moves.iter().map(|(n, p)| call_text(moves.name(*n), p)).collect());
            answer.positions = played.states;
            answer.proof = "replayed by the reference executor".into();
            answer.proof_json = json!({"kind": "solution", "replayed": true, "if_lucky": answer.lucky});
        }
        Verdict::Unsolvable => {
            answer.proof = format!(
                "the space is exhausted: none of its {} is won",
                counted(solved.states, "state", "states")
            );
            answer.proof_json = json!({"kind": "exhausted space", "states": solved.states});
        }
        Verdict::Undecided(limit) => {
            answer.verdict = "undecided";
            answer.exit = if limit == Limit::Interrupted { Exit::Interrupted } else { Exit::Undecided };
            answer.proof = format!(
                "stopped by {}; no goal within {} of the start",
                limit_text(limit, common),
                counted(solved.depth.into(), "move", "moves")
            );
            answer.proof_json = json!({"kind": "none", "limit": limit, "depth": solved.depth});
            if let Some((sep, keeps)) = only_checked {
                answer.proof.push_str(&format!(
                    "; unsolvable if a declared quantity is kept, which is not proved: it is {} here and {} wherever the goal holds ({})",
                    sep.here, sep.wanted, keeps.why
                ));
                answer.proof_json["unsolvable_if_kept"] =
                    json!({"because": keeps.why, "here": sep.here, "wanted": sep.wanted});
            }
        }
        Verdict::Faulted(fault) => return Err(Failed::Fault(fault)),
    }
    Ok(answer)
}

/// A proof from kept quantities in words: what is kept, and what that means here.
pub fn proof_lines(b: &Bound, proof: &Proof) -> Vec<String> {
    match proof {
        Proof::Declared(sep, kept) => {
            let keeps = &b.model.keeps[sep.keeps];
            let how = match kept {
                Kept::ProvedByEnumeration { states } => {
                    format!("proved on all {} typed states", grouped(*states))
                }
                _ => "proved from the rules".to_string(),
            };
            vec![format!(
                "kept quantity, {how}: it is {} here and {} wherever the goal holds; no move changes it, because {}",
                sep.here, sep.wanted, keeps.why
            )]
        }
        Proof::Found(list) => {
            list.iter().map(|a| found_line(b, a, "found and proved from the rules", list.len())).collect()
        }
    }
}

/// A found quantity that separates, in words.
pub fn found_line(b: &Bound, a: &Apart, how: &str, ways: usize) -> String {
    let goal =
        if ways == 1 { "wherever the goal holds" } else { "wherever the goal holds in one of its ways" };
    format!(
        "kept quantity, {how}: {}. It is {} here and {} {goal}, and no move changes it",
        a.quantity.words(b),
        a.here,
        a.wanted
    )
}

/// The same for programs.
pub fn proof_json(b: &Bound, proof: &Proof) -> Value {
    match proof {
        Proof::Declared(sep, kept) => json!({
            "kind": "kept quantity",
            "found": false,
            "because": b.model.keeps[sep.keeps].why,
            "here": sep.here,
            "wanted": sep.wanted,
            "how": match kept {
                Kept::ProvedByEnumeration { states } => format!("proved on all {states} typed states"),
                _ => "proved from the rules".into(),
            },
        }),
        Proof::Found(list) => json!({
            "kind": "kept quantity",
            "found": true,
            "how": "proved from the rules",
            "quantities": list.iter().map(|a| found_json(b, a)).collect::<Vec<_>>(),
        }),
    }
}

/// A found quantity that separates, for programs.
pub fn found_json(b: &Bound, a: &Apart) -> Value {
    json!({
        "quantity": a.quantity.text(b),
        "words": a.quantity.words(b),
        "keeps": a.quantity.keeps_line(b),
        "here": a.here,
        "wanted": a.wanted,
    })
}

/// Hidden things: a way on which every step is certain when it is made, or where guesses are forced. Nothing is
/// printed that uses what cannot be known: a guess is called one.
fn with_knowledge(s: &mut Session, loaded: &Loaded, args: &LevelArgs, brief: bool) -> Result<Exit, Trouble> {
    let b = &loaded.game.bound;
    let seen = b.seen.iter().any(Option::is_some);
    // Where one thing walks, the fewest moves that never need a guess.
    let ways = if seen { None } else { fair::safe_ways(b, &loaded.moves, &loaded.history).ok().flatten() };
    if let Some(names) = ways.as_ref().filter(|w| !w.more).and_then(|w| w.shortest.clone()) {
        if s.common.format == Format::Json {
            s.json(&json!({
                "level": loaded.level.name,
                "verdict": "solvable",
                "played": "with knowledge",
                "no_guess": true,
                "moves": names.len(),
                "solution": names,
                "guesses_before_moves": [],
                "chance_to_survive_all": "1",
                "shortest": true,
            }))?;
            return Ok(Exit::Yes);
        }
        named(s, loaded)?;
        let n = counted(names.len() as u64, "move", "moves");
        s.line(format!(
            "solvable without a guess in {n}, and in no fewer: every step is certain when it is made"
        ))?;
        s.lines(&move_lines(&names))?;
        s.line("--known takes the layout as known")?;
        return Ok(Exit::Yes);
    }
    let report = if seen { None } else { fair::played(b, &loaded.moves, &loaded.history).ok() };
    if let Some(r) = report.filter(|r| r.won) {
        let guess_at: Vec<usize> = r.guesses.iter().map(|g| g.after).collect();
        let names: Vec<String> = (r.moves.iter().enumerate())
            .map(|(i, m)| if guess_at.contains(&i) { format!("{m} (a guess)") } else { m.clone() })
            .collect();
        let survive = r.survive();
        if s.common.format == Format::Json {
            s.json(&json!({
                "level": loaded.level.name,
                "verdict": "solvable",
                "played": "with knowledge",
                "no_guess": r.is_fair(),
                "moves": r.moves.len(),
                "solution": r.moves,
                "guesses_before_moves": guess_at,
                "chance_to_survive_all": survive.to_string(),
                "shortest": false,
            }))?;
            return Ok(Exit::Yes);
        }
        named(s, loaded)?;
        let n = counted(r.moves.len() as u64, "move", "moves");
        if r.is_fair() {
            s.line(format!("solvable without a guess, in {n}: every step is certain when it is made"))?;
        } else {
            s.line(format!(
                "solvable in {n} with {}; the chance to survive them all is {}",
                counted(r.guesses.len() as u64, "guess", "guesses"),
                chance_text(&survive)
            ))?;
        }
        s.lines(&move_lines(&names))?;
        s.line("a way for one who knows no more than is told; not always the shortest (--known takes the layout as known)")?;
        let _ = brief;
        return Ok(Exit::Yes);
    }
    let Some(play) = play_or_say(s, loaded, args)? else { return Ok(Exit::Undecided) };
    let (model, _, limits) = play.on(&loaded.game, &s.common);
    let watcher = Watcher::new(&s.common);
    let fail = |f| Trouble::Message(format!("the model breaks: {}", fault_words(&loaded.game, &f)));
    let found = fendle_core::explore(model, limits, false, &watcher).map_err(fail)?;
    watcher.finish();
    let c = &found.counts;
    let start = found.space.level(0).all(|id| found.space.is_certain(id));
    let verdict = match (c.goal > 0, c.limit) {
        (true, _) => "solvable",
        (false, None) => "unsolvable",
        (false, Some(_)) => "undecided",
    };
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "verdict": verdict,
            "played": "with knowledge",
            "certain": start && c.limit.is_none(),
            "shortest_if_lucky": c.shortest,
            "moves": Value::Null,
            "solution": Value::Null,
            "states": c.states,
        }))?;
    } else {
        s.line(title(loaded))?;
        s.line("")?;
        let states = counted(c.states, "information state", "information states");
        s.line(match verdict {
            "solvable" if start && c.limit.is_none() => format!(
                "certain: some way of playing wins whatever is hidden; shortest if lucky: {} ({states})",
                counted(c.shortest.unwrap_or(0).into(), "move", "moves")
            ),
            "solvable" => format!(
                "possible, by guessing: shortest if lucky: {} ({states}); `fendle odds` says how likely",
                counted(c.shortest.unwrap_or(0).into(), "move", "moves")
            ),
            "unsolvable" => format!("unsolvable: none of {states} is won"),
            _ => format!(
                "undecided: stopped by {} after {states}",
                limit_text(c.limit.unwrap_or(Limit::MaxStates), &s.common)
            ),
        })?;
    }
    Ok(match verdict {
        "solvable" => Exit::Yes,
        "unsolvable" => Exit::No,
        _ => Exit::Undecided,
    })
}

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    brief: bool,
    proof: Option<&Path>,
    picture: &PictureArgs,
) -> Result<Exit, Trouble> {
    let loaded = load_all(s, args)?;
    if proof.is_some() {
        super::proof::offered(&loaded.game, args.known)?;
    }
    if picture.output.is_some() {
        needs_known(&loaded.game, args.known, "solve -o")?;
    }
    if loaded.game.bound.model.hides() && !args.known {
        return with_knowledge(s, &loaded, args, brief);
    }
    let mut closed = None;
    let mut see = |space: &Space| closed = proof.map(|_| super::proof::payload(space));
    let a = match answer_seeing(&loaded.game, &loaded.moves, &s.common, &mut see) {
        Ok(a) => a,
        Err(Failed::Message(m)) => return Err(Trouble::Message(m)),
        Err(Failed::Fault(fault)) => {
            if s.common.format == Format::Json {
                let value =
                    json!({"verdict": "fault", "fault": fault_json(&loaded.store, &loaded.game, &fault)});
                s.json(&value)?;
            }
            return Err(fault_trouble(s, &loaded.store, &loaded.game, &fault));
        }
    };
    if let (Some(path), Some(moves)) = (&picture.output, &a.moves) {
        let words = std::iter::once("start".to_string())
            .chain(moves.iter().enumerate().map(|(i, m)| format!("{}. {m}", i + 1)));
        let frames: Vec<(String, Vec<i32>)> = words.zip(a.positions.iter().cloned()).collect();
        write_play(picture, path, &loaded.game.bound, &title(&loaded), &frames)?;
    }
    let written = match proof {
        Some(path) => super::proof::write(path, &loaded, args, &a, closed)?
            .or(Some("no proof written: nothing is proved".into())),
        None => None,
    };
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "proof_file": written,
            "verdict": a.verdict,
            "moves": a.moves.as_ref().map(Vec::len),
            "solution": a.moves,
            "if_lucky": a.lucky,
            "begin": loaded.begin.json(),
            "proof": a.proof_json,
            "states": a.states,
            "bits_per_state": loaded.game.layout().bits,
            "effort": effort(a.seconds, a.states),
        }))?;
        return Ok(a.exit);
    }
    named(s, &loaded)?;
    write_answer(s, &loaded, &a, brief)?;
    match (&picture.output, &a.moves) {
        (Some(path), Some(_)) => s.line(format!("wrote {}", path.display()))?,
        (Some(_), None) => s.line("no picture written: there is no solution to be drawn")?,
        _ => {}
    }
    if let Some(words) = written {
        s.line("")?;
        s.line(words)?;
    }
    if s.common.verbose {
        s.line("")?;
        s.line(format!("{:.3} s, {} peak memory", a.seconds, bytes(peak_memory())))?;
    }
    Ok(a.exit)
}

/// An answer as text.
pub fn write_answer(s: &mut Session, loaded: &Loaded, a: &Answer, brief: bool) -> Result<(), Trouble> {
    let b = &loaded.game.bound;
    match &a.moves {
        Some(moves) => {
            let length = counted(moves.len() as u64, "move", "moves");
            if moves.is_empty() {
                s.line("solvable: the start is won already")?;
            } else {
                let lucky = if a.lucky { " if lucky" } else { "" };
                s.line(format!("solvable{lucky} in {length}, and in no fewer ({})", a.proof))?;
                s.lines(&move_lines(moves))?;
            }
            s.line(format!("{} seen", counted(a.states, "state", "states")))?;
            if !brief {
                s.line("")?;
                let none = BTreeSet::new();
                let mut blocks = vec![];
                for (i, state) in a.positions.iter().enumerate() {
                    let head = if i == 0 { "start".into() } else { format!("{i}. {}", moves[i - 1]) };
                    let mut block = vec![head];
                    block.extend(position_lines(b, state, &none));
                    blocks.push(block);
                }
                s.lines(&side_by_side(&blocks, 4, WIDTH))?;
            }
        }
        None => {
            if !brief {
                s.lines(&position_lines(b, &b.position, &BTreeSet::new()))?;
                s.line("")?;
            }
            s.lines(&wrapped(&format!("{}: {}", a.verdict, a.proof), WIDTH))?;
            if a.states > 0 && a.verdict == "undecided" {
                s.line(format!("{} seen", counted(a.states, "state", "states")))?;
            }
        }
    }
    Ok(())
}
