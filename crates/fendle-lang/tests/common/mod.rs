//! What several tests need: games from texts, and the comparison of the two executors.

#![allow(dead_code)]

use std::sync::Arc;

use fendle_core::Model as _;
use fendle_lang::exec::{Break, Halt, Machine};
use fendle_lang::hir::Model;
use fendle_lang::play::MoveTable;
use fendle_lang::reference::{Eval, Outcome, RunFault};
use fendle_lang::{Game, Sources, bind, compile, level};

pub const SLIDE: &str = include_str!("../../../../models/slide.fendle");
pub const SHOVE: &str = include_str!("../../../../models/shove.fendle");

/// Compiles a model, showing its diagnostics when it does not.
pub fn model(text: &str) -> Arc<Model> {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("model", text);
    match compile(file, text, &mut errors) {
        Some(m) => Arc::new(m),
        None => {
            let list: Vec<String> = errors.iter().map(|e| e.plain(&sources)).collect();
            panic!("{}\n{text}", list.join("\n"))
        }
    }
}

/// All games of a level file.
pub fn games(model: &Arc<Model>, text: &str) -> Vec<Game> {
    let mut sources = Sources::default();
    let mut errors = vec![];
    sources.add("model", "");
    let file = sources.add("level", text);
    let show = |errors: &[fendle_lang::Diagnostic]| {
        errors.iter().map(|e| format!("{} {}", e.code, e.message)).collect::<Vec<_>>().join("\n")
    };
    let Some(levels) = level::read(file, text, &mut errors) else { panic!("{}\n{text}", show(&errors)) };
    levels
        .levels
        .iter()
        .map(|l| match bind(model, file, l, &[], &mut errors) {
            Some(b) => Game::new(b).expect("within the limits"),
            None => panic!("{}\n{text}", show(&errors)),
        })
        .collect()
}

/// One game from the text of its model and one drawing or table of starts.
pub fn game(model_text: &str, level_text: &str) -> Game {
    games(&model(model_text), &format!("model = 'm'\n[[level]]\n{level_text}")).remove(0)
}

/// Runs both executors on one state: the status, and every move.
pub fn compare(
    game: &Game,
    moves: &MoveTable,
    machine: &mut Machine<'_>,
    state: &[i32],
) -> Result<Seen, String> {
    let b = &game.bound;
    let mut seen = Seen::default();
    let fault = |b: Break| {
        let site = game.code.sites[b.site.0 as usize];
        RunFault { kind: site.kind, span: site.span, value: b.value }
    };
    let words = game.pack(state);
    if game.unpack(&words) != state {
        return Err(format!("{state:?} does not survive packing"));
    }
    let mut eval = Eval::new(b);
    // Statuses; laws are compared by the tests of `always`.
    let slow = eval.status(state);
    machine.load(&words);
    let fast = if machine.ended() != 0 {
        Ok(Some(machine.ended() as usize - 1))
    } else {
        machine.ask(game.code.status).map(|v| (v != 0).then(|| v as usize - 1)).map_err(fault)
    };
    if slow != fast {
        return Err(format!("status of {}: reference {slow:?}, code {fast:?}", b.line(state)));
    }
    machine.forget_ended();
    let mut source = words.clone();
    machine.pack_loaded(&mut source);
    for (number, (of, params)) in moves.list.iter().enumerate() {
        let slow = eval.apply(state, *of, params);
        let fast = machine.try_move(number).and_then(|halt| {
            Ok(match halt {
                Halt::Done => {
                    let mut words = source.clone();
                    machine.pack(&mut words)?;
                    Outcome::Done {
                        state: game.unpack(&words),
                        score: machine.score,
                        tallies: vec![],
                        events: vec![],
                    }
                }
                Halt::Refused(site) => Outcome::Refused(site as usize, machine.places.clone()),
                _ => Outcome::NotOffered,
            })
        });
        let slow = slow.map(|o| match o {
            Outcome::Done { state, score, .. } => {
                Outcome::Done { state, score, tallies: vec![], events: vec![] }
            }
            other => other,
        });
        let fast = fast.map_err(fault);
        if slow != fast {
            return Err(format!(
                "{} in {}:\nreference {slow:?}\ncode      {fast:?}",
                moves.name(number),
                b.line(state)
            ));
        }
        match slow {
            Ok(Outcome::Done { state, .. }) => seen.next.push(state),
            Ok(Outcome::Refused(..)) => seen.refused += 1,
            Ok(Outcome::NotOffered) => seen.not_offered += 1,
            Err(f) => seen.faults.push(f),
        }
    }
    Ok(seen)
}

/// What a comparison met.
#[derive(Default)]
pub struct Seen {
    pub next: Vec<Vec<i32>>,
    pub refused: usize,
    pub not_offered: usize,
    pub faults: Vec<RunFault>,
}

/// Compares both executors over the space from the position on, breadth first, up to `most` states.
pub fn compare_space(game: &Game, most: usize) -> usize {
    let moves = MoveTable::new(&game.bound).expect("within the limits");
    let mut machine = Machine::new(&game.bound, &game.code);
    let mut seen = std::collections::HashSet::new();
    let mut queue = std::collections::VecDeque::from([game.bound.position.clone()]);
    while let Some(state) = queue.pop_front() {
        if seen.len() >= most || !seen.insert(state.clone()) {
            continue;
        }
        match compare(game, &moves, &mut machine, &state) {
            Ok(found) => queue.extend(found.next),
            Err(e) => panic!("{e}\n{}", game.code.print()),
        }
    }
    assert_eq!(game.layout().bits, game.bound.codec.layout().bits);
    seen.len()
}
