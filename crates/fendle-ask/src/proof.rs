//! Proof files: made from an answer, and rechecked by the reference executor alone.

use std::collections::{BTreeMap, HashSet};

use fendle_core::proof::{StateSet, fingerprint, open, pack_states, seal};
use fendle_core::relaxed::bounds::NoWay;
use fendle_core::relaxed::closed::{Alone, Kept, NotClosed, Spots};
use fendle_core::{Model as _, Progress, Space, Watch as _};
use fendle_lang::play::{Tried, is_won};
use fendle_lang::reasons::invariant::Quantity;
use fendle_lang::reasons::keeps::Proof;
use fendle_lang::reasons::recheck::{closed_set, declared, quantities, rules_text, term_of, term_parts};
use fendle_lang::run::setup::Dice;
use fendle_lang::{Bound, Game};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::answer::{Answer, Asked, Trouble, Verdict};
use crate::bound::{alone_words, no_way_words, puzzle};
use crate::budget::Budget;
use crate::hunt::first_relaxed;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::solve::Solved;
use fendle_core::numbers::counted;

/// Positions of some things alone that are written to a file, at the most.
const ALONE_MAX: usize = 1 << 18;

/// A term of a found quantity: kind, variable, key or cell, value, weight.
type Weighed = (String, String, usize, i32, i64);

/// What is claimed.
#[derive(Serialize, Deserialize, Clone, Debug, PartialEq)]
#[serde(tag = "kind", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Claim {
    /// These moves lead to a goal.
    Solution {
        /// Each stands for itself.
        moves: Vec<String>,
    },
    /// A declared quantity, by its number, separates the position from the goal.
    DeclaredQuantity {
        /// Its number in the model.
        number: usize,
        /// Words that the file carries; nothing is proved of them.
        because: String,
    },
    /// Found quantities do: terms and modulus of each.
    FoundQuantity {
        /// The quantities.
        quantities: Vec<(Vec<Weighed>, Option<i64>)>,
    },
    /// This many states are closed under moves, hold the start and no goal.
    ClosedSet {
        /// How many.
        states: u64,
    },
    /// The same of some things alone, wherever the rest stands.
    RelaxedPuzzle {
        /// Kinds of things by their numbers, and how many of each are kept.
        kinds: Vec<(u32, u32)>,
        /// Other places of the state that are kept.
        places: Vec<u32>,
        /// The places of the kept things at the start.
        things: Vec<u32>,
        /// How many positions of them there are.
        positions: u64,
    },
}

impl Claim {
    /// For programs: words that the file carries are called that.
    fn json(&self) -> Value {
        match self {
            Claim::DeclaredQuantity { number, because } => {
                json!({"kind": "declared-quantity", "number": number, "words_of_the_file": because})
            }
            other => json!(other),
        }
    }

    /// What kind of proof it is, in words.
    #[must_use]
    pub fn what(&self) -> &'static str {
        match self {
            Claim::Solution { .. } => "a solution",
            Claim::DeclaredQuantity { .. } | Claim::FoundQuantity { .. } => "a kept quantity",
            Claim::ClosedSet { .. } => "a closed set",
            Claim::RelaxedPuzzle { .. } => "a closed set of a relaxed puzzle",
        }
    }
}

/// The head of a proof file.
#[derive(Serialize, Deserialize, Clone, Debug, PartialEq)]
#[serde(deny_unknown_fields)]
pub struct Header {
    /// What is claimed.
    pub claim: Claim,
    /// The level's name.
    pub level: String,
    /// Level values that were given beside the file: `NAME=VALUE`.
    pub sets: Vec<String>,
    /// The position it speaks of, where that is not the level's own start.
    pub position: Option<String>,
    /// Hash of the rules: the tokens of the model.
    rules: String,
    /// Hash of the board, all values of the level, and its starts.
    data: String,
}

/// Hash of the rules that a level is played by.
fn rules_hash(store: &Store, level: &Loaded) -> String {
    let text = store.sources.text(level.game.bound.model.file);
    fingerprint(&[rules_text(text).as_bytes()])
}

/// Hash of what the level says: sizes, values, and where play begins.
fn data_hash(game: &Game) -> String {
    let b = &game.bound;
    let number = |n: i64| n.to_le_bytes().to_vec();
    let mut bytes: Vec<u8> =
        [b.rows as i64, b.cols as i64, game.starts.len() as i64].into_iter().flat_map(number).collect();
    bytes.extend(b.data.iter().flat_map(|v| v.to_le_bytes()));
    // A level may draw shapes of its own.
    for shape in b.model.shapes.iter().flat_map(|g| &g.shapes) {
        bytes.extend(format!("{:?}{:?}", shape.turns, shape.parts).into_bytes());
    }
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

/// A proof file as bytes, and what kind of proof it holds.
pub struct Sealed {
    /// The bytes.
    pub bytes: Vec<u8>,
    /// What kind of proof.
    pub what: &'static str,
}

/// Makes the proof of an answer; `None` where nothing is proved. `closed`: the states of an exhausted space, as
/// [`payload`] packs them.
#[must_use]
pub fn proof_of(
    store: &Store,
    level: &Loaded,
    answer: &Answer<Solved>,
    closed: Option<Vec<u8>>,
    budget: &Budget,
) -> Option<Sealed> {
    let b = &level.game.bound;
    let solved = &answer.found;
    let (claim, payload) = match (&solved.solution, &solved.kept, closed) {
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
        (None, None, Some(payload)) => (Claim::ClosedSet { states: solved.states }, payload),
        (None, None, None) if answer.holds == Verdict::Fails => alone_claim(level, budget)?,
        (None, None, None) => return None,
    };
    let what = claim.what();
    let header = Header {
        claim,
        level: level.name.clone(),
        sets: level.sets.clone(),
        position: level.moved.then(|| b.line(&b.position)),
        rules: rules_hash(store, level),
        data: data_hash(&level.game),
    };
    let text = serde_json::to_string(&header).expect("values have text keys");
    Some(Sealed { bytes: seal(&text, &payload), what })
}

/// The proof that some things alone have no way, where relaxed puzzles say so and the set is small.
fn alone_claim(level: &Loaded, budget: &Budget) -> Option<(Claim, Vec<u8>)> {
    let task = puzzle(&level.game, budget)?;
    let relaxed = first_relaxed(&level.game, task, budget).ok()?;
    let task = &relaxed.task;
    let no_way = relaxed.bounds.judge(task).no_way(&task.start)?;
    no_way.table?;
    let mut kinds: BTreeMap<u32, u32> = BTreeMap::new();
    for place in &no_way.things {
        let kind = task.kind_of(*place, task.start[*place as usize])?;
        *kinds.entry(kind as u32).or_default() += 1;
    }
    let kept = Kept { kinds: kinds.into_iter().collect(), places: no_way.places.clone() };
    let alone = Alone::new(task, &kept)?;
    let start = alone.position(&task.start, &no_way.things)?;
    let set = alone.closure(start, ALONE_MAX, &|| budget.is_stopped())?;
    let bytes = set.iter().flatten().flat_map(|n| n.to_le_bytes()).collect();
    let claim = Claim::RelaxedPuzzle {
        kinds: kept.kinds,
        places: kept.places,
        things: no_way.things,
        positions: set.len() as u64,
    };
    Some((claim, bytes))
}

/// Rechecks that some things alone have no way; the error says what does not hold.
fn alone_holds(
    level: &Loaded,
    (kept, things, positions): (Kept, &[u32], u64),
    payload: &[u8],
    budget: &Budget,
) -> Result<String, String> {
    let game = &level.game;
    if !game.is_sure() || game.bound.model.hides() || game.bound.model.cuts {
        return Err("a relaxed puzzle says nothing of a level that draws, hides or sets aside".into());
    }
    let task = puzzle(game, budget).ok_or("the rules of this level are not followed")?;
    let alone = Alone::new(&task, &kept).ok_or("it names things that this level does not have")?;
    let start = alone.position(&task.start, things).ok_or("the things that it names do not lie there")?;
    let width = alone.width() * 4;
    if width == 0 {
        return Err("it names nothing".into());
    }
    if positions > ALONE_MAX as u64 || payload.len() as u64 != positions * width as u64 {
        return Err("it does not hold as many positions as it says".into());
    }
    let number = |b: &[u8]| i32::from_le_bytes([b[0], b[1], b[2], b[3]]);
    let set: HashSet<Spots> =
        payload.chunks_exact(width).map(|p| p.chunks_exact(4).map(number).collect()).collect();
    if set.len() as u64 != positions {
        return Err("it holds a position twice".into());
    }
    match alone.check(&start, &set, &|| budget.is_stopped()) {
        Ok(ways) => {
            let no_way = NoWay { table: None, things: things.to_vec(), places: vec![] };
            let part = alone_words(&no_way_words(&task, &task.start, &no_way), "the goal");
            Ok(format!(
                "unsolvable: {part}, wherever the rest stands; of {} of them none can be won, and all {} lead back among them",
                counted(positions, "position", "positions"),
                counted(ways, "way", "ways")
            ))
        }
        Err(NotClosed::Start) => Err("the start is not among its positions".into()),
        Err(NotClosed::Won) => Err("one of its positions can be won".into()),
        Err(NotClosed::Leads) => Err("a move leads out of its positions".into()),
        Err(NotClosed::Stopped) => Err("stopped before it was checked".into()),
    }
}

/// The states of an exhausted space, for the file.
#[must_use]
pub fn payload(space: &Space) -> Vec<u8> {
    pack_states(space)
}

/// A proof file that has been opened.
pub struct Opened<'b> {
    /// Its head.
    pub header: Header,
    payload: &'b [u8],
}

/// Opens a proof file.
///
/// # Errors
///
/// Why it is none.
pub fn opened(bytes: &[u8]) -> Result<Opened<'_>, String> {
    let (text, payload) = open(bytes).map_err(|e| e.to_string())?;
    let header = serde_json::from_str(text).map_err(|e| format!("its header cannot be read: {e}"))?;
    Ok(Opened { header, payload })
}

/// What rechecking a proof gave.
#[derive(Clone, Debug, Serialize)]
pub struct Rechecked {
    /// `holds`, `refused` or `undecided`.
    pub proof: &'static str,
    /// The claim.
    pub claim: Value,
    /// The position it speaks of.
    pub position: Option<Position>,
    /// What is proved, in words.
    pub what: Option<String>,
    /// Why it is refused.
    pub why: Option<String>,
}

/// Rechecks a proof against a level that was loaded with the values the user gave, begun where the proof says.
///
/// # Errors
///
/// [`Trouble`] when a move of a solution cannot be read.
pub fn recheck(
    store: &mut Store,
    level: &Loaded,
    proof: &Opened<'_>,
    budget: &Budget,
) -> Result<Answer<Rechecked>, Trouble> {
    let header = &proof.header;
    let b = &level.game.bound;
    let verdict = if rules_hash(store, level) != header.rules {
        Err("it was made for other rules: the model has changed, or is another one".into())
    } else if data_hash(&level.game) != header.data {
        Err(other_data(level, header))
    } else {
        claimed(store, level, &header.claim, proof.payload, budget)?
    };
    let limit = if verdict.is_err() { budget.stopped() } else { None };
    let (holds, word) = match (&verdict, limit) {
        (Ok(_), _) => (Verdict::Holds, "holds"),
        (Err(why), Some(_)) if why.starts_with("stopped") => (Verdict::Undecided, "undecided"),
        (Err(_), _) => (Verdict::Fails, "refused"),
    };
    let limit = limit.filter(|_| holds == Verdict::Undecided);
    let found = Rechecked {
        proof: word,
        claim: header.claim.json(),
        position: header.position.is_some().then(|| Position::new(b, &b.position)),
        why: verdict.as_ref().err().cloned(),
        what: verdict.ok(),
    };
    Ok(Answer::new(Asked::of(level), holds, found).stopped(limit, budget).took(budget, 0))
}

/// Why the values of a level are not those of a proof.
fn other_data(level: &Loaded, header: &Header) -> String {
    let mut words = format!("it was made for another level or another start than {}", level.name);
    if header.sets != level.sets {
        let list = |sets: &[String]| match sets {
            [] => "none".to_string(),
            sets => sets.iter().map(|s| format!("--set {s}")).collect::<Vec<_>>().join(" "),
        };
        words.push_str(&format!(
            ": it was made with other level values ({}), and this level is asked about with {}",
            list(&header.sets),
            list(&level.sets)
        ));
    }
    words
}

/// Rechecks a claim; the inner error says what does not hold.
fn claimed(
    store: &mut Store,
    level: &Loaded,
    claim: &Claim,
    payload: &[u8],
    budget: &Budget,
) -> Result<Result<String, String>, Trouble> {
    let mut stop = || budget.is_stopped();
    if !matches!(claim, Claim::ClosedSet { .. } | Claim::RelaxedPuzzle { .. }) && !payload.is_empty() {
        return Ok(Err("it holds more than its claim needs".into()));
    }
    let several = level.game.starts.len() > 1;
    Ok(match claim {
        Claim::Solution { moves } => return solution(store, level, moves, budget),
        Claim::DeclaredQuantity { .. } | Claim::FoundQuantity { .. } if several => {
            Err("a quantity of one start says nothing of the others".into())
        }
        Claim::DeclaredQuantity { number, .. } => declared(&level.game, *number, &mut stop).map(|()| {
            let why = &level.game.bound.model.keeps[*number].why;
            format!("unsolvable, by a kept quantity of the model, which says of it: {why}")
        }),
        Claim::FoundQuantity { quantities: list } => {
            let b = &level.game.bound;
            match list.iter().map(|q| quantity(b, q)).collect::<Option<Vec<Quantity>>>() {
                None => Err("it names values that this level does not have".into()),
                Some(list) if list.is_empty() => Err("it names no quantity".into()),
                Some(list) => quantities(b, &list, &mut stop).map(|()| {
                    let words: Vec<String> = list.iter().map(|q| q.text(b)).collect();
                    format!("unsolvable, since no move changes {}", words.join(" or "))
                }),
            }
        }
        Claim::RelaxedPuzzle { .. } if several => {
            Err("a relaxed puzzle of one start says nothing of the others".into())
        }
        Claim::RelaxedPuzzle { kinds, places, things, positions } => {
            let kept = Kept { kinds: kinds.clone(), places: places.clone() };
            alone_holds(level, (kept, things, *positions), payload, budget)
        }
        Claim::ClosedSet { states } => {
            let layout = level.game.layout();
            let memory = budget.limits().memory_bytes;
            match StateSet::read(payload, layout, *states, memory) {
                Err(e) => Err(e.to_string()),
                Ok(set) => {
                    let look = |done: u64| {
                        let p = Progress { states: done, expanded: done, ..Progress::default() };
                        budget.look(&p).is_some()
                    };
                    closed_set(&level.game, &set, &look).map(|transitions| {
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
fn solution(
    store: &mut Store,
    level: &Loaded,
    moves: &[String],
    budget: &Budget,
) -> Result<Result<String, String>, Trouble> {
    // Written by hand a move could be repeated or left out; in a proof each stands for itself.
    let mut list = vec![];
    for m in moves {
        if m.contains([';', '\n']) || m.trim().is_empty() {
            return Ok(Err(format!("`{m}` is no move")));
        }
        match level.parse_moves(store, "the proof", m)?.as_slice() {
            [call] => list.push(call.clone()),
            _ => return Ok(Err(format!("`{m}` is no single move"))),
        }
    }
    // Of several starts the one from which they lead to a goal.
    let starts: Vec<Vec<i32>> = match level.game.starts.as_slice() {
        [] => vec![level.game.bound.position.clone()],
        list => list.iter().map(|s| s.0.clone()).collect(),
    };
    let mut why = String::from("no start leads to a goal by these moves");
    'starts: for start in starts {
        let mut state = start;
        for (i, call) in list.iter().enumerate() {
            if budget.is_stopped() {
                return Ok(Err("stopped before it was checked".into()));
            }
            match level.play_call(&state, call, false, &mut Dice::new(1)) {
                Ok(Ok(Tried::Made(mut outcomes))) if outcomes.len() == 1 => {
                    state = outcomes.remove(0).made.state;
                }
                Ok(Ok(Tried::Made(_))) => {
                    why = format!("move {}, {}, can have several outcomes", i + 1, moves[i]);
                    continue 'starts;
                }
                Err(f) => return Ok(Err(format!("move {}, {}, breaks the model: {f}", i + 1, moves[i]))),
                _ => {
                    why = format!("move {}, {}, cannot be made there", i + 1, moves[i]);
                    continue 'starts;
                }
            }
        }
        if is_won(&level.game.bound, &state) {
            let lucky = if level.game.is_sure() { "" } else { ", if the draws fall so" };
            return Ok(Ok(format!(
                "solvable{lucky}: {} lead to a goal (that no fewer do is not part of it)",
                counted(moves.len() as u64, "move", "moves")
            )));
        }
        why = "these moves end in a position that is not won".into();
    }
    Ok(Err(why))
}
