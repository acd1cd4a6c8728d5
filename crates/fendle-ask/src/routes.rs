//! Ways as they are really played: by the reference executor, and where things are alike by their own names.

use fendle_core::explore::Faulted;
use fendle_core::{Class, Route};
use fendle_lang::Game;
use fendle_lang::play::{MoveTable, Played, replay, step};

use crate::load::Loaded;

/// A route as the reference executor plays it.
pub struct PlayedRoute {
    /// The moves with what they did.
    pub moves: Vec<(usize, Played)>,
    /// The states, the start first. Where things are alike, those that play really reaches.
    pub states: Vec<Vec<i32>>,
}

/// Plays a route by the reference executor.
///
/// # Errors
///
/// What does not hold: a mistake of the search.
pub fn played_route(game: &Game, moves: &MoveTable, route: &Route) -> Result<PlayedRoute, String> {
    let numbers: Vec<usize> = route.moves.iter().map(|m| m.0 as usize).collect();
    let mut states: Vec<Vec<i32>> = route.states.iter().map(|w| game.unpack(w)).collect();
    // Of several starts that are alike, one that is really drawn.
    if let Some((start, _)) = game.starts.iter().find(|(s, _)| *game.settled(s) == states[0]) {
        states[0].clone_from(start);
    }
    let played = replay(&game.bound, moves, &numbers, &states)?;
    for (state, (_, p)) in states[1..].iter_mut().zip(&played) {
        state.clone_from(&p.made.state);
    }
    Ok(PlayedRoute { moves: played, states })
}

/// The names of a route's moves.
#[must_use]
pub fn move_names(level: &Loaded, route: &Route) -> Vec<String> {
    let game = &level.game;
    if game.bound.canon.is_some()
        && let Ok(played) = played_route(game, &level.moves, route)
    {
        return played.moves.iter().map(|(n, _)| level.moves.name(*n).to_string()).collect();
    }
    use fendle_core::Model as _;
    route.moves.iter().map(|&m| game.move_name(m)).collect()
}

/// The names of a route's moves with what is drawn on the way.
#[must_use]
pub fn lucky_names(level: &Loaded, route: &Route) -> Vec<String> {
    match played_route(&level.game, &level.moves, route) {
        Ok(played) => played.moves.iter().map(|(n, p)| call_text(level.moves.name(*n), p)).collect(),
        Err(_) => move_names(level, route),
    }
}

/// A move and what was drawn, as both are written.
#[must_use]
pub fn call_text(name: &str, played: &Played) -> String {
    match played.draws_text() {
        d if d.is_empty() => name.to_string(),
        d => format!("{name} / {d}"),
    }
}

/// The moves to a fault, the move that was tried there, and the state there.
#[must_use]
pub fn fault_place(level: &Loaded, faulted: &Faulted) -> (Vec<String>, Option<String>, Option<Vec<i32>>) {
    use fendle_core::Model as _;
    let (game, moves) = (&level.game, &level.moves);
    let route = &faulted.route;
    let mut during = faulted.fault.during.map(|m| game.move_name(m));
    let mut last = route.states.last().map(|w| game.unpack(w));
    if game.bound.canon.is_some()
        && let Ok(played) = played_route(game, moves, route)
        && let Some(state) = played.states.last()
    {
        // Where play really is, the move that breaks may have another name.
        let breaks = |n: &usize| step(&game.bound, moves, state, *n, false).is_err();
        if let (Some(_), Some(n)) = (&during, (0..moves.list.len()).find(breaks)) {
            during = Some(moves.name(n).to_string());
        }
        last = Some(state.clone());
    }
    (move_names(level, route), during, last)
}

/// A class in one word.
#[must_use]
pub fn class_word(class: Class) -> &'static str {
    match class {
        Class::Goal => "won",
        Class::Lost => "lost",
        Class::Over => "over",
        Class::Stuck => "stuck",
        Class::Dead => "dead",
        Class::Winnable => "winnable",
        Class::Free => "free",
        Class::Open | Class::Running | Class::Idle => "open",
    }
}
