//! The same game, won where some condition holds: what finds solutions finds positions.

use std::sync::Arc;

use crate::code::Game;
use crate::code::lower::with_condition;
use crate::model::{Body, EndKind, Ending, StatusCond};

/// The same game, won as soon as a condition holds; where it was won before it is over now. `None` where the condition asks more than the
/// position alone can answer, or the code gets too large.
#[must_use]
pub fn with_goal(game: &Game, wanted: &Body) -> Option<Game> {
    with_condition(&game.bound, &game.code, wanted)?;
    let mut bound = game.bound.clone();
    let mut model = (*bound.model).clone();
    for ending in model.endings.iter_mut().filter(|e| e.kind == EndKind::Goal) {
        ending.kind = EndKind::Over;
    }
    model.endings.push(Ending { kind: EndKind::Goal, why: None });
    let ending = model.endings.len() - 1;
    model.statuses.insert(0, StatusCond { ending, cond: wanted.clone(), span: wanted.expr.span });
    // They speak of the old goal.
    (model.promise, model.bound) = (None, None);
    model.keeps.iter_mut().for_each(|k| k.goal = None);
    bound.model = Arc::new(model);
    let mut out = Game::new(bound).ok()?;
    out.checked.clone_from(&game.checked);
    out.native = game.native.anew();
    Some(out)
}
