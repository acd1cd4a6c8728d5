//! A difference between a level and the developer's own game, as boards side by side.

use fendle_ask::Loaded;
use fendle_ask::game::{Difference, Names};
use fendle_lang::Bound;
use fendle_view::scene::Scene;
use fendle_view::tiles::{Theme, Tiles};

use super::Drawing;
use super::look::tiles;
use crate::session::Trouble;

/// The board before the move, the phases and the result of the model, and the game's board; cells that differ are marked.
///
/// # Errors
///
/// Words where there is nothing to draw.
pub fn draw(level: &Loaded, d: &Difference, names: &Names, theme: Theme) -> Result<Drawing, Trouble> {
    let b = &level.game.bound;
    let before = &d.before.state;
    let theirs = d.game_state(b, names);
    let ours = d.model.as_ref().map(|p| &p.state);
    let marks = match (&theirs, ours) {
        (Some(theirs), Some(ours)) => cells_apart(b, theirs, ours),
        (Some(theirs), None) => cells_apart(b, theirs, before),
        _ => vec![],
    };
    let mut boards: Vec<Tiles> = vec![];
    let of = d.of.as_deref().unwrap_or("the start");
    boards.extend(tiles(b, before, &format!("before {of}")));
    for (name, p) in &d.phases {
        boards.extend(tiles(b, &p.state, &format!("the model, after \"{name}\"")));
    }
    let marked = |state: &[i32], title: &str| {
        let mut t = tiles(b, state, title)?;
        t.marks = marks.clone();
        Some(t)
    };
    boards.extend(ours.and_then(|state| {
        let same = state == before && d.of.is_some();
        marked(state, if same { "the model: nothing changes" } else { "the model" })
    }));
    boards.extend(theirs.as_ref().and_then(|state| marked(state, "the game")));
    if let Some(last) = boards.last_mut() {
        last.lines.push(d.words.clone());
    }
    if boards.is_empty() {
        return Err(Trouble::words("there is no board to be drawn"));
    }
    let scenes: Vec<Scene> = boards.iter().map(|t| t.scene(theme)).collect();
    Ok(Drawing::sheet(&scenes, theme, &format!("{}: {}", level.title(), d.kind)))
}

/// The cells that look otherwise in two states.
fn cells_apart(b: &Bound, x: &[i32], y: &[i32]) -> Vec<usize> {
    let rows = |state: &[i32]| b.draw(state).pictures.into_iter().map(|p| p.rows).collect::<Vec<_>>();
    let mut out = vec![];
    for (x, y) in rows(x).iter().zip(&rows(y)) {
        for (r, (x, y)) in x.iter().zip(y).enumerate() {
            out.extend(x.iter().zip(y).enumerate().filter(|(_, (x, y))| x != y).map(|(c, _)| r * b.cols + c));
        }
    }
    out
}
