//! A play as pictures: a sheet of its positions, or a page that plays it.

use fendle_ask::{Loaded, Position};
use fendle_view::page;
use fendle_view::scene::Scene;
use fendle_view::tiles::Theme;

use super::Drawing;
use super::look::scene;
use crate::session::Trouble;

/// A play: words and position, the start first. `paged`: as a page.
///
/// # Errors
///
/// Words where the model has no board.
pub fn draw(
    level: &Loaded,
    frames: &[(String, &Position)],
    paged: bool,
    theme: Theme,
) -> Result<Drawing, Trouble> {
    let b = &level.game.bound;
    let scenes: Result<Vec<Scene>, Trouble> =
        frames.iter().map(|(words, p)| scene(b, &p.state, words, theme)).collect();
    let scenes = scenes?;
    Ok(match paged {
        true => {
            let list: Vec<(String, Scene)> = frames.iter().map(|f| f.0.clone()).zip(scenes).collect();
            Drawing::Page(page::frames(&level.title(), &list))
        }
        false => Drawing::sheet(&scenes, theme, &level.title()),
    })
}

/// The frames of a play: the start, then each move with its number.
pub fn frames<'p>(
    names: impl IntoIterator<Item = &'p String>,
    positions: impl IntoIterator<Item = &'p Position>,
) -> Vec<(String, &'p Position)> {
    let numbered = names.into_iter().enumerate().map(|(i, m)| format!("{}. {m}", i + 1));
    std::iter::once("start".to_string()).chain(numbered).zip(positions).collect()
}
