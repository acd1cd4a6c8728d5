//! The same game, in which something else than moves is counted.

use std::sync::Arc;

use crate::code::Game;
use crate::model::Counted;

/// What can be counted in a game: what its model says a cost of, and its kinds of moves.
#[must_use]
pub fn countable(game: &Game) -> Vec<String> {
    let model = &game.bound.model;
    let mut out: Vec<String> = vec![];
    for name in model.costs.iter().map(|c| &c.name).chain(model.moves.iter().map(|m| &m.name)) {
        if !out.contains(name) {
            out.push(name.clone());
        }
    }
    out
}

/// The same game, in which what goes by a name is counted: what the model says a `cost` of, or moves of one kind.
///
/// # Errors
///
/// Words, where nothing goes by that name, or the code gets too large.
pub fn with_counting(game: &Game, name: &str) -> Result<Game, String> {
    let mut bound = game.bound.clone();
    let mut model = (*bound.model).clone();
    let counted = match model.moves.iter().position(|m| m.name == name) {
        _ if model.costs.iter().any(|c| c.name == name) => Counted::Cost(name.into()),
        Some(of) => Counted::Move(of),
        None => {
            let known: Vec<String> = countable(game).iter().map(|n| format!("`{n}`")).collect();
            return Err(format!(
                "nothing that is named `{name}` can be counted here; these can: {}",
                known.join(", ")
            ));
        }
    };
    model.counted = Some(counted);
    bound.model = Arc::new(model);
    let mut out = Game::new(bound)
        .map_err(|_| format!("what `{name}` counts is too long to be made into code here"))?;
    out.checked.clone_from(&game.checked);
    out.native = game.native.anew();
    Ok(out)
}
