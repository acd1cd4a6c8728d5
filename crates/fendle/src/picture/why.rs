//! Minimal dead parts as a sheet of boards.

use fendle_ask::Loaded;
use fendle_ask::why::DeadParts;
use fendle_core::numbers::counted;
use fendle_view::scene::Scene;
use fendle_view::tiles::Theme;

use super::Drawing;
use super::look::part;

/// One board a part, most frequent first.
pub fn draw(level: &Loaded, found: &DeadParts, theme: Theme) -> Drawing {
    let b = &level.game.bound;
    let boards = found
        .parts
        .iter()
        .filter_map(|p| part(b, &p.example.state, &p.part.facts, &counted(p.states, "state", "states")));
    let scenes: Vec<Scene> = boards.map(|t| t.scene(theme)).collect();
    Drawing::sheet(&scenes, theme, &level.title())
}
