//! What moves do, and what refuses them, as a sheet of boards.

use fendle_ask::Loaded;
use fendle_ask::moves::Moves;
use fendle_view::scene::Scene;
use fendle_view::tiles::Theme;

use super::Drawing;
use super::look::tiles;
use crate::session::Trouble;
use crate::text::moves::{DRAWN_MAX, OUTCOMES_DRAWN};

/// One board an outcome, and one a refusal with its cells marked.
///
/// # Errors
///
/// Words where there is nothing to draw.
pub fn draw(level: &Loaded, found: &Moves, theme: Theme) -> Result<Drawing, Trouble> {
    let b = &level.game.bound;
    let mut boards = vec![];
    for a in &found.allowed {
        let shown = a.outcomes.iter().take(OUTCOMES_DRAWN);
        boards.extend(shown.filter_map(|o| tiles(b, &o.position.state, &a.name)));
    }
    for r in found.refused.iter().take(DRAWN_MAX) {
        let Some(mut t) = tiles(b, &b.position, &format!("{}: refused", r.name)) else { continue };
        t.marks = r.cells.iter().map(|(row, col)| row * b.cols + col).collect();
        t.lines.push(r.why.clone());
        boards.push(t);
    }
    if boards.is_empty() {
        return Err(Trouble::words("there is no board to be drawn"));
    }
    let scenes: Vec<Scene> = boards.iter().map(|t| t.scene(theme)).collect();
    Ok(Drawing::sheet(&scenes, theme, &level.title()))
}
