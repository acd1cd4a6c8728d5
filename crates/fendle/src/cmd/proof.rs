//! Proof files: written by `solve --proof`, rechecked by `check --proof`.

use std::collections::BTreeSet;
use std::path::Path;

use fendle_core::proof::{MAGIC, StateSet, fingerprint, open, pack_states, seal};
use fendle_core::{Model as _, Progress, Space, Watch as _};
use fendle_lang::play::{Step, is_won};
use fendle_lang::reasons::invariant::Quantity;
use fendle_lang::reasons::keeps::Proof;
use fendle_lang::reasons::recheck::{closed_set, declared, quantities, rules_text, term_of, term_parts};
use fendle_lang::run::setup::Dice;
use fendle_lang::{Bound, Game};
use fendle_view::text::{counted, grouped, wrapped};
use serde::{Deserialize, Serialize};
use serde_json::json;

use super::solve::Answer;
use super::why::needs_known;
use super::{WIDTH, position_lines, title};
use crate::args::{Format, LevelArgs, ViewArg};
use crate::files::{Loaded, load_all, parse_moves, play_call};
use crate::watch::Watcher;
use crate::{Exit, Session, Trouble};

/// Most bytes of a proof file that is read.
const FILE_MAX: u64 = 4 << 30;

/// A term of a found quantity: kind, variable, key or cell, value, weight.
type Weighed = (String, String, usize, i32, i64);

/// What is claimed.
#[derive(Serialize, Deserialize, Clone, Debug, PartialEq)]
#[serde(tag = "kind", rename_all = "kebab-case", deny_unknown_fields)]
enum Claim {
    /// These moves lead to a goal.
    Solution { moves: Vec<String> },
    /// A declared quantity, by its number, separates the position from the goal.
    DeclaredQuantity { number: usize, because: String },
    /// Found quantities do: terms and modulus of each.
    FoundQuantity { quantities: Vec<(Vec<Weighed>, Option<i64>)> },
    /// This many states are closed under moves, hold the start and no goal.
    ClosedSet { states: u64 },
}

/// The head of a proof file.
#[derive(Serialize, Deserialize, Clone, Debug, PartialEq)]
#[serde(deny_unknown_fields)]
struct Header {
    claim: Claim,
    /// The level's name.
    level: String,
    /// What was given on the command line.
    sets: Vec<String>,
    /// The position it speaks of, where that is not the level's own start.
    position: Option<String>,
    /// Hash of the rules: the tokens of the model.
    rules: String,
    /// Hash of the board and the values of the level, and its starts.
    data: String,
}

/// Hash of the rules that a level is played by.
fn rules_hash(loaded: &Loaded) -> String {
    let text = loaded.store.sources.text(loaded.game.bound.model.file);
    fingerprint(&[rules_text(text).as_bytes()])
}

/// Hash of what the level says: sizes, values, and where play begins.
fn data_hash(game: &Game) -> String {
    let b = &game.bound;
    let number = |n: i64| n.to_le_bytes().to_vec();
    let mut bytes: Vec<u8> =
        [b.rows as i64, b.cols as i64, game.starts.len() as i64].into_iter().flat_map(number).collect();
    bytes.extend(b.data.iter().flat_map(|v| v.to_le_bytes()));
    for slot in &b.slots {
        bytes.extend([slot.lo, slot.hi, slot.len as i64, slot.cap as i64].into_iter().flat_map(number));
    }
    bytes.extend(b.start.iter().chain(&b.position).flat_map(|v| v.to_le_bytes()));
    for (s, weight) in &game.starts {
        bytes.extend(s.iter().flat_map(|v| v.to_le_bytes()));
        bytes.extend(weight.to_le_bytes());
    }
    fingerprint(&[&bytes])
}

/// Writes the proof of an answer. Gives what was written, in words; `None` where nothing is proved.
///
/// # Errors
///
/// A message when the file cannot be written.
pub fn write(
    path: &Path,
    loaded: &Loaded,
    args: &LevelArgs,
    answer: &Answer,
    closed: Option<Vec<u8>>,
) -> Result<Option<String>, Trouble> {
    let game = &loaded.game;
    let b = &game.bound;
    let (claim, payload) = match (&answer.moves, &answer.kept, closed) {
        (Some(moves), _, _) => (Claim::Solution { moves: moves.clone() }, vec![]),
        (None, Some(Proof::Declared(sep, _)), _) => {
            let because = b.model.keeps[sep.keeps].why.clone();
            (Claim::DeclaredQuantity { number: sep.keeps, because }, vec![])
        }
        (None, Some(Proof::Found(list)), _) => {
            let one = |q: &Quantity| {
                let weigh = |(t, w): &(_, i64)| {
                    let (kind, var, k, x) = term_parts(b, *t);
                    (kind.to_string(), var, k, x, *w)
                };
                (q.terms.iter().map(weigh).collect(), q.modulus)
            };
            (Claim::FoundQuantity { quantities: list.iter().map(|a| one(&a.quantity)).collect() }, vec![])
        }
        (None, None, Some(payload)) => (Claim::ClosedSet { states: answer.states }, payload),
        (None, None, None) => return Ok(None),
    };
    let moved = args.at.is_some() || args.after.is_some();
    let header = Header {
        claim,
        level: loaded.level.name.clone(),
        sets: args.sets.clone(),
        position: moved.then(|| b.line(&b.position)),
        rules: rules_hash(loaded),
        data: data_hash(game),
    };
    let text = serde_json::to_string(&header).expect("values have text keys");
    let bytes = seal(&text, &payload);
    // A file that is something else is not lost to a slip of the keyboard.
    if let Ok(old) = std::fs::read(path)
        && !old.starts_with(MAGIC)
    {
        return Err(Trouble::Message(format!(
            "{} is there already and is no proof file; it is not written over",
            path.display()
        )));
    }
    std::fs::write(path, &bytes)
        .map_err(|e| Trouble::Message(format!("{} cannot be written: {e}", path.display())))?;
    let what = match &header.claim {
        Claim::Solution { .. } => "a solution",
        Claim::DeclaredQuantity { .. } | Claim::FoundQuantity { .. } => "a kept quantity",
        Claim::ClosedSet { .. } => "a closed set",
    };
    Ok(Some(format!(
        "proof written to {}: {what}, {} bytes; `fendle check --proof {} {}` rechecks it",
        path.display(),
        grouped(bytes.len() as u64),
        path.display(),
        args.file.display()
    )))
}

/// The states of an exhausted space, for the file.
pub fn payload(space: &Space) -> Vec<u8> {
    pack_states(space)
}

/// Rechecks a proof file against a level.
pub fn check(s: &mut Session, path: &Path, file: &Path, level: Option<String>) -> Result<Exit, Trouble> {
    let unreadable = |e| Trouble::Message(format!("{} cannot be read: {e}", path.display()));
    let size = std::fs::metadata(path).map_err(unreadable)?.len();
    if size > FILE_MAX {
        return Err(Trouble::Message(format!(
            "{} has {size} bytes; at most {FILE_MAX} are read",
            path.display()
        )));
    }
    let bytes = std::fs::read(path).map_err(unreadable)?;
    let refuse = |s: &mut Session, why: String| -> Result<Exit, Trouble> {
        if s.common.format == Format::Json {
            s.json(&json!({"proof": "refused", "why": why}))?;
        } else {
            s.lines(&wrapped(&format!("refused: {why}"), WIDTH))?;
        }
        Ok(Exit::No)
    };
    let (text, payload) = match open(&bytes) {
        Ok(parts) => parts,
        Err(e) => return refuse(s, e.to_string()),
    };
    let header: Header = match serde_json::from_str(text) {
        Ok(h) => h,
        Err(e) => return refuse(s, format!("its header cannot be read: {e}")),
    };
    let args = LevelArgs {
        file: file.to_path_buf(),
        level: Some(level.clone().unwrap_or_else(|| header.level.clone())),
        at: header.position.clone(),
        after: None,
        view: ViewArg::Author,
        known: true,
        sets: header.sets.clone(),
    };
    let mut loaded = load_all(s, &args)?;
    if rules_hash(&loaded) != header.rules {
        return refuse(s, "it was made for other rules: the model has changed, or is another one".into());
    }
    if data_hash(&loaded.game) != header.data {
        return refuse(
            s,
            format!("it was made for another level or another start than {}", loaded.level.name),
        );
    }
    let watcher = Watcher::new(&s.common);
    let result = recheck(s, &mut loaded, &header.claim, payload, &watcher);
    watcher.finish();
    let stopped = watcher.look(&Progress::default()).is_some();
    let seconds = watcher.seconds();
    match result? {
        Err(why) if stopped && why.starts_with("stopped") => {
            s.line(format!("undecided: {why}"))?;
            Ok(Exit::Undecided)
        }
        Err(why) => refuse(s, why),
        Ok(words) => {
            if s.common.format == Format::Json {
                s.json(&json!({
                    "proof": "holds",
                    "claim": header.claim,
                    "level": header.level,
                    "position": header.position,
                    "what": words,
                    "effort": {"seconds": seconds},
                }))?;
                return Ok(Exit::Yes);
            }
            s.line(title(&loaded))?;
            if header.position.is_some() {
                s.line("")?;
                s.lines(&position_lines(&loaded.game.bound, &loaded.game.bound.position, &BTreeSet::new()))?;
                s.line("")?;
            }
            s.lines(&wrapped(&format!("the proof holds: {words}"), WIDTH))?;
            Ok(Exit::Yes)
        }
    }
}

/// Rechecks a claim; the inner error says what does not hold.
fn recheck(
    s: &Session,
    loaded: &mut Loaded,
    claim: &Claim,
    payload: &[u8],
    watcher: &Watcher,
) -> Result<Result<String, String>, Trouble> {
    let mut stop = || watcher.look(&Progress::default()).is_some();
    if !matches!(claim, Claim::ClosedSet { .. }) && !payload.is_empty() {
        return Ok(Err("it holds more than its claim needs".into()));
    }
    Ok(match claim {
        Claim::Solution { moves } => return solution(s, loaded, moves),
        Claim::DeclaredQuantity { number, .. } => {
            if loaded.game.starts.len() > 1 {
                return Ok(Err("a quantity of one start says nothing of the others".into()));
            }
            declared(&loaded.game, *number, &mut stop).map(|()| {
                let why = &loaded.game.bound.model.keeps[*number].why;
                format!("unsolvable, by a kept quantity of the model: {why}")
            })
        }
        Claim::FoundQuantity { quantities: list } => {
            let b = &loaded.game.bound;
            if loaded.game.starts.len() > 1 || list.is_empty() {
                return Ok(Err("a quantity of one start says nothing of the others".into()));
            }
            match list.iter().map(|q| quantity(b, q)).collect::<Option<Vec<Quantity>>>() {
                None => Err("it names values that this level does not have".into()),
                Some(list) => quantities(b, &list, &mut stop).map(|()| {
                    let words: Vec<String> = list.iter().map(|q| q.text(b)).collect();
                    format!("unsolvable, since no move changes {}", words.join(" or "))
                }),
            }
        }
        Claim::ClosedSet { states } => {
            let layout = loaded.game.layout();
            match StateSet::read(payload, layout, *states, s.common.memory) {
                Err(e) => Err(e.to_string()),
                Ok(set) => {
                    let look = |done: u64| {
                        let p = Progress { states: done, expanded: done, ..Progress::default() };
                        watcher.look(&p).is_some()
                    };
                    closed_set(&loaded.game, &set, &look).map(|transitions| {
                        format!(
                            "unsolvable; the {} hold the start and no goal, and all {} of them lead back among them",
                            counted(*states, "state", "states"),
                            counted(transitions, "transition", "transitions")
                        )
                    })
                }
            }
        }
    })
}

fn quantity(b: &Bound, (terms, modulus): &(Vec<Weighed>, Option<i64>)) -> Option<Quantity> {
    let small = |w: i64| w.abs() < 1 << 40;
    if modulus.is_some_and(|m| !(2..1 << 20).contains(&m)) {
        return None;
    }
    let terms = terms.iter().map(|(kind, var, k, x, w)| {
        small(*w).then_some(())?;
        Some((term_of(b, kind, var, *k, *x)?, *w))
    });
    Some(Quantity { terms: terms.collect::<Option<_>>()?, modulus: *modulus })
}

/// Plays the moves of a solution by the reference executor.
fn solution(s: &Session, loaded: &mut Loaded, moves: &[String]) -> Result<Result<String, String>, Trouble> {
    // Written by hand a move could be repeated or left out; in a proof each stands for itself.
    let mut state = loaded.game.bound.position.clone();
    let mut list = vec![];
    for m in moves {
        if m.contains([';', '\n']) || m.trim().is_empty() {
            return Ok(Err(format!("`{m}` is no move")));
        }
        list.push(parse_moves(s, loaded, "the proof", m)?);
    }
    // Of several starts the one from which they lead to a goal.
    let starts: Vec<Vec<i32>> = match loaded.game.starts.as_slice() {
        [] => vec![state.clone()],
        list => list.iter().map(|s| s.0.clone()).collect(),
    };
    let mut why = String::from("no start leads to a goal by these moves");
    'starts: for start in starts {
        state.clone_from(&start);
        for (i, calls) in list.iter().enumerate() {
            let [call] = calls.as_slice() else {
                return Ok(Err(format!("`{}` is no single move", moves[i])));
            };
            let fault = |f| format!("move {}, {}, breaks the model: {f}", i + 1, moves[i]);
            match play_call(loaded, &state, call, false, &mut Dice::new(1)) {
                Ok(Ok(Step::Made(mut outcomes))) if outcomes.len() == 1 => {
                    state = outcomes.remove(0).made.state;
                }
                Ok(Ok(Step::Made(_))) => {
                    why = format!("move {}, {}, can have several outcomes", i + 1, moves[i]);
                    continue 'starts;
                }
                Err(f) => return Ok(Err(fault(f))),
                _ => {
                    why = format!("move {}, {}, cannot be made there", i + 1, moves[i]);
                    continue 'starts;
                }
            }
        }
        if is_won(&loaded.game.bound, &state) {
            let lucky = if loaded.game.is_sure() { "" } else { ", if the draws fall so" };
            return Ok(Ok(format!(
                "solvable{lucky}: {} lead to a goal (that no fewer do is not part of it)",
                counted(moves.len() as u64, "move", "moves")
            )));
        }
        why = "these moves end in a position that is not won".into();
    }
    Ok(Err(why))
}

/// Says why no proof is offered where things are hidden.
pub fn offered(game: &Game, known: bool) -> Result<(), Trouble> {
    needs_known(game, known, "solve --proof")
}
