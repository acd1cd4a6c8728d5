//! Rechecks proofs by the reference executor alone: no search, no compiled code, no visited table.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use fendle_core::proof::StateSet;

use crate::Game;
use crate::model::{EndKind, VarId};
use crate::play::MoveTable;
use crate::reasons::effects::{Effects, WAYS_MAX, goal_ways};
use crate::reasons::invariant::{Invariants, Quantity, Term};
use crate::reasons::keeps::Kept;
use crate::run::{Eval, Outcome};
use crate::state::Bound;

/// The tokens of a model's text, one a line: the same for texts that differ in blanks and comments only.
#[must_use]
pub fn rules_text(text: &str) -> String {
    let tokens = crate::syntax::lexer::lex(crate::source::FileId(0), text, &mut vec![]);
    let parts: Vec<&str> = tokens.iter().map(|t| &text[t.span.range()]).collect();
    parts.join("\n")
}

/// A closed set: it holds every start, no goal, and what every move of its states leads to. Gives the number of
/// transitions that were looked at. Memory: the set, and what one state takes on each thread. `look` is told how many
/// states are done and says whether to stop.
///
/// # Errors
///
/// What does not hold, in words.
pub fn closed_set(game: &Game, set: &StateSet, look: &(dyn Fn(u64) -> bool + Sync)) -> Result<u64, String> {
    let b = &game.bound;
    let moves = MoveTable::new(b).map_err(|_| "this level has too many moves".to_string())?;
    let starts: Vec<Vec<i32>> = match game.starts.as_slice() {
        [] => vec![b.position.clone()],
        list => list.iter().map(|s| s.0.clone()).collect(),
    };
    for s in &starts {
        if !set.holds(&game.pack(s)) {
            return Err(format!("the start {} is not in the closed set", b.line(s)));
        }
    }
    let (done, transitions, stop) = (AtomicU64::new(0), AtomicU64::new(0), AtomicBool::new(false));
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let each = set.len().div_ceil(threads).max(1);
    let found: Vec<Result<(), String>> = std::thread::scope(|scope| {
        let parts: Vec<_> = (0..threads)
            .map(|t| {
                let (done, transitions, stop, moves) = (&done, &transitions, &stop, &moves);
                scope.spawn(move || {
                    for n in (t * each).min(set.len())..((t + 1) * each).min(set.len()) {
                        if n % 64 == 0 && (stop.load(Ordering::Relaxed) || look(done.load(Ordering::Relaxed)))
                        {
                            stop.store(true, Ordering::Relaxed);
                            return Err("stopped before it was checked".to_string());
                        }
                        transitions.fetch_add(one_state(game, moves, set, n)?, Ordering::Relaxed);
                        done.fetch_add(1, Ordering::Relaxed);
                    }
                    Ok(())
                })
            })
            .collect();
        let joined = parts.into_iter().map(|p| p.join());
        joined.map(|r| r.unwrap_or_else(|_| Err("the check broke off".into()))).collect()
    });
    // A claim that fails says more than a stop.
    let mut errors: Vec<String> = found.into_iter().filter_map(Result::err).collect();
    errors.sort_by_key(|e| e.starts_with("stopped"));
    match errors.into_iter().next() {
        Some(e) => Err(e),
        None => Ok(transitions.into_inner()),
    }
}

fn one_state(game: &Game, moves: &MoveTable, set: &StateSet, n: usize) -> Result<u64, String> {
    let b = &game.bound;
    let words = set.state(n);
    let state = game.unpack(&words);
    // Bits that are no state would be read as another one.
    let mut again = vec![0; words.len()];
    if b.codec.pack(&state, &mut again).is_err() || again != words || !in_domain(b, &state) {
        return Err(format!("entry {} of the closed set is no state of this level", n + 1));
    }
    let line = || b.line(&state);
    let mut eval = Eval::new(b);
    match eval.status(&state).map_err(|f| format!("the model breaks on {}: {f}", line()))? {
        Some(e) if b.model.endings[e].kind == EndKind::Goal => {
            return Err(format!("the closed set holds a goal: {}", line()));
        }
        Some(_) => return Ok(0),
        None => {}
    }
    let mut transitions = 0;
    for (number, (of, params)) in moves.list.iter().enumerate() {
        let name = || moves.name(number);
        let made = match eval.apply(&state, *of, params) {
            Ok(Outcome::Done(made)) => made,
            Ok(_) => continue,
            Err(f) => return Err(format!("the model breaks on {} in {}: {f}", name(), line())),
        };
        for m in made {
            if m.cut {
                return Err(format!("{} sets branches of chance aside in {}", name(), line()));
            }
            transitions += 1;
            if !set.holds(&game.pack(&m.state)) {
                return Err(format!(
                    "{} leads out of the closed set, from {} to {}",
                    name(),
                    line(),
                    b.line(&m.state)
                ));
            }
        }
    }
    Ok(transitions)
}

fn in_domain(b: &Bound, state: &[i32]) -> bool {
    let ended = state[b.ended_at()];
    if ended < 0 || i64::from(ended) > b.model.ended_codes() {
        return false;
    }
    b.model.vars.iter().zip(&b.slots).filter(|(d, _)| d.state).all(|(d, slot)| {
        let list = matches!(d.shape, crate::model::Extent::List(_) | crate::model::Extent::Lists(..));
        let values = &state[slot.base..slot.base + slot.len];
        d.rearranged.is_some()
            || if list {
                values.iter().enumerate().all(|(i, v)| match i % (slot.cap + 1) {
                    0 => *v >= 0 && *v as usize <= slot.cap,
                    _ => slot.holds((*v).into()) || i64::from(*v) == slot.pad(),
                })
            } else {
                values.iter().all(|v| slot.holds((*v).into()))
            }
    })
}

/// Found quantities: each is kept by every effect of the moves, and for each way in which the goal can hold one of them is
/// another number there than here.
///
/// # Errors
///
/// What does not hold, in words.
pub fn quantities(b: &Bound, list: &[Quantity], stop: &mut dyn FnMut() -> bool) -> Result<(), String> {
    let effects = Effects::of(b, WAYS_MAX, stop)
        .ok_or("the effects of these rules cannot be followed, so the quantity is not proved")?;
    let invariants = Invariants::new(b, &effects);
    for q in list {
        if !invariants.keeps(q) {
            return Err(format!("a move changes {}", q.text(b)));
        }
    }
    let ways =
        goal_ways(b).filter(|w| !w.is_empty()).ok_or("the ways in which this goal can hold are not known")?;
    for pins in &ways {
        let apart = list.iter().any(|q| {
            invariants
                .wanted_of(q, pins, &b.position)
                .is_some_and(|wanted| wanted != invariants.value_in(q, &b.position))
        });
        if !apart {
            return Err("the quantity is the same here as at a goal".into());
        }
    }
    Ok(())
}

/// A declared quantity: kept by the rules, or by every typed state as the reference executor plays it; and another one
/// here than the goal wants.
///
/// # Errors
///
/// What does not hold, in words.
pub fn declared(game: &Game, number: usize, stop: &mut dyn FnMut() -> bool) -> Result<(), String> {
    let b = &game.bound;
    let keeps = b.model.keeps.get(number).ok_or("this model declares no such quantity")?;
    let apart = crate::reasons::keeps::separations(game);
    if !apart.iter().any(|s| s.keeps == number) {
        return Err("the declared quantity does not separate this position from the goal".into());
    }
    let kept = crate::reasons::keeps::kept(game)[number];
    if kept == Kept::ProvedFromRules {
        return Ok(());
    }
    if b.model.ends_by_statement || kept == Kept::NotClaimed {
        return Err("the declared quantity is not proved".into());
    }
    let moves = MoveTable::new(b).map_err(|_| "this level has too many moves".to_string())?;
    let total = b.codec.states_len().filter(|n| *n <= crate::reasons::keeps::ENUMERATE_MAX);
    let total = total.ok_or("the typed states are too many to be tried")?;
    let mut words = vec![0; b.codec.layout().words()];
    for n in 0..total {
        if n % 1024 == 0 && stop() {
            return Err("stopped before it was checked".into());
        }
        b.codec.nth(n, &mut words);
        let state = game.unpack(&words);
        let value = |state: &[i32]| Eval::new(b).value_in(&keeps.quantity, state).map_err(|f| f.to_string());
        let here = value(&state)?;
        for (of, params) in &moves.list {
            if let Ok(Outcome::Done(made)) = Eval::new(b).apply(&state, *of, params) {
                for m in made {
                    if value(&m.state)? != here {
                        return Err(format!("a move changes it: from {}", b.line(&state)));
                    }
                }
            }
        }
    }
    Ok(())
}

/// A term as its parts: kind, variable, key or cell, value.
#[must_use]
pub fn term_parts(b: &Bound, term: Term) -> (&'static str, String, usize, i32) {
    let name = |v: VarId| b.model.vars[v].name.clone();
    match term {
        Term::Count(v, x) => ("count", name(v), 0, x),
        Term::Rows(v, x) => ("rows", name(v), 0, x),
        Term::Cols(v, x) => ("columns", name(v), 0, x),
        Term::Value(v, k) => ("value", name(v), k, 0),
        Term::Row(v, k) => ("row", name(v), k, 0),
        Term::Col(v, k) => ("column", name(v), k, 0),
        Term::Is(v, k, x) => ("is", name(v), k, x),
        Term::Holds(v, k, x) => ("holds", name(v), k, x),
        Term::Sign(v) => ("sign", name(v), 0, 0),
    }
}

/// A term from its parts; `None` when there is no such.
#[must_use]
pub fn term_of(b: &Bound, kind: &str, var: &str, k: usize, x: i32) -> Option<Term> {
    let v = b.model.var(var).filter(|v| b.model.vars[*v].state && k < b.slots[*v].len.max(1))?;
    let cells = matches!(b.model.vars[v].shape, crate::model::Extent::Grid | crate::model::Extent::Set);
    let term = match kind {
        "count" if cells => Term::Count(v, x),
        "rows" if cells => Term::Rows(v, x),
        "columns" if cells => Term::Cols(v, x),
        "holds" if cells => Term::Holds(v, k, x),
        "sign" if crate::reasons::effects::has_sign(b, v) => Term::Sign(v),
        "value" => Term::Value(v, k),
        "row" => Term::Row(v, k),
        "column" => Term::Col(v, k),
        "is" => Term::Is(v, k, x),
        _ => return None,
    };
    Some(term)
}
