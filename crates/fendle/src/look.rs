//! Positions as pictures: what of a model's variables stands on each cell, and how it is drawn by default.
//!
//! Grids of bools and other values of the level are fixed things; sets of the level are wishes; sets and grids of the state
//! are pieces; cell variables are agents. What a player does not see, and what is on no cell, is written in words.

use std::fs;
use std::path::Path;

use fendle_lang::Bound;
use fendle_lang::bind::Drawn;
use fendle_lang::dead::{Fact, cells_of};
use fendle_lang::hir::{Base, Scalar, Shape};
use fendle_view::page;
use fendle_view::scene::Scene;
use fendle_view::tiles::{Kind, Theme, Thing, Tiles, sheet};

use crate::Trouble;

/// The board of a position with what stands on it; `None` where the model has no board.
pub fn tiles(b: &Bound, state: &[i32], title: &str) -> Option<Tiles> {
    if b.cells() == 0 {
        return None;
    }
    let drawn = b.draw(state);
    let mut out = Tiles {
        title: title.to_string(),
        rows: b.rows,
        cols: b.cols,
        cells: vec![vec![]; b.cells()],
        ..Tiles::default()
    };
    if b.as_player || b.model.hides() {
        // What may be seen is what the drawing in words says.
        let picture = drawn.pictures.first()?;
        for (cell, text) in out.cells.iter_mut().zip(picture.rows.iter().flatten()) {
            if text != "." && !text.trim().is_empty() {
                cell.push(Thing::new(Kind::Word, 0, text.clone()));
            }
        }
    } else {
        layers(b, state, &mut out);
    }
    out.lines = words(b, drawn);
    Some(out)
}

/// What the drawing says that is on no cell.
fn words(b: &Bound, drawn: Drawn) -> Vec<String> {
    let is_cell = |name: &str| {
        b.model.var(name).is_some_and(|v| {
            let def = &b.model.vars[v];
            matches!(def.shape, Shape::Grid | Shape::Set)
                || def.shape == Shape::One && matches!(def.dom.scalar(), Scalar::Cell | Scalar::Placed(_))
        })
    };
    drawn.values.into_iter().filter(|(n, _)| !is_cell(n)).map(|(n, v)| format!("{n} = {v}")).collect()
}

fn layers(b: &Bound, state: &[i32], out: &mut Tiles) {
    let model = &b.model;
    let (mut fixed, mut wish, mut piece) = (0, 0, 0);
    // The level below, then pieces, then agents.
    for (pass, state_vars) in [(0, false), (1, true), (2, true)] {
        for (v, def) in model.vars.iter().enumerate().filter(|(_, d)| d.state == state_vars && !d.hidden) {
            let slot = &b.slots[v];
            let from = if def.state { state } else { &b.data };
            let values = &from[slot.base..slot.base + slot.len];
            let twin = model.vars.iter().any(|d| d.rearranged == Some(v));
            if def.shadow_of.is_some() || twin || !slot.active {
                continue;
            }
            let on_cells = matches!(def.shape, Shape::Grid | Shape::Set);
            match (pass, def.shape, def.dom.scalar()) {
                (0, Shape::Grid, scalar) => {
                    let plain = scalar == Scalar::Bool;
                    for (cell, x) in out.cells.iter_mut().zip(values).filter(|(_, x)| **x != 0) {
                        let label = if plain { String::new() } else { glyph(b, v, *x) };
                        cell.push(Thing::new(Kind::Fixed, fixed, label));
                    }
                    fixed += 1;
                }
                (0, Shape::Set, _) => {
                    for (cell, _) in out.cells.iter_mut().zip(values).filter(|(_, x)| **x != 0) {
                        cell.push(Thing::new(Kind::Wish, wish, ""));
                    }
                    wish += 1;
                }
                (1, _, scalar) if on_cells => {
                    let plain = def.shape == Shape::Set || scalar == Scalar::Bool;
                    for (cell, x) in out.cells.iter_mut().zip(values).filter(|(_, x)| **x != 0) {
                        let (number, label) = match plain {
                            true => (piece, String::new()),
                            false => (piece + *x as usize - 1, glyph(b, v, *x)),
                        };
                        cell.push(Thing::new(Kind::Piece, number, label));
                    }
                    piece += 1;
                }
                (1, Shape::One, Scalar::Placed(s)) => {
                    let covered = b.covered(s, values[0].into());
                    for &(r, c) in &covered {
                        let beside = [(r - 1, c), (r, c + 1), (r + 1, c), (r, c - 1)];
                        if r >= 0 && c >= 0 && (r as usize) < b.rows && (c as usize) < b.cols {
                            let mut thing = Thing::new(Kind::Piece, piece, "");
                            thing.joined = beside.map(|p| covered.contains(&p));
                            out.cells[r as usize * b.cols + c as usize].push(thing);
                        }
                    }
                    piece += 1;
                }
                (2, Shape::One, Scalar::Cell | Scalar::Maybe(Base::Cell)) => {
                    if let Some(cell) = usize::try_from(values[0]).ok().and_then(|c| out.cells.get_mut(c)) {
                        cell.push(Thing::new(Kind::Agent, piece, ""));
                        piece += 1;
                    }
                }
                _ => {}
            }
        }
    }
}

/// What is written on a value of a grid: its glyph, where the model gives one, else the value.
fn glyph(b: &Bound, v: usize, x: i32) -> String {
    let shown = b.model.values_show(v).and_then(|(list, _)| list.iter().find(|g| g.0 == i64::from(x)));
    match shown {
        Some((_, text)) => text.clone(),
        None => b.scalar_text(b.model.vars[v].dom.scalar(), x.into(), false),
    }
}

/// A part of a position: its cells and the walls beside them, the rest blank.
pub fn part(b: &Bound, state: &[i32], facts: &[Fact], title: &str) -> Option<Tiles> {
    let mut out = tiles(b, state, title)?;
    let (cells, beside) = cells_of(b, facts);
    out.blank = (0..b.cells()).map(|c| !cells.contains(&c) && !beside.contains(&c)).collect();
    Some(out)
}

/// The ending of a file's name, in small letters.
pub fn ending(path: &Path) -> String {
    path.extension().and_then(|e| e.to_str()).unwrap_or("").to_ascii_lowercase()
}

/// Writes a picture as its file's ending says.
///
/// # Errors
///
/// A message when the ending is none of a picture, or the file cannot be written.
pub fn write_scene(path: &Path, scene: &Scene) -> Result<(), Trouble> {
    match ending(path).as_str() {
        "svg" => write_file(path, scene.svg().as_bytes()),
        "png" => match scene.png(2.0).or_else(|| scene.png(1.0)) {
            Some(bytes) => write_file(path, &bytes),
            None => Err(Trouble::Message(format!(
                "a picture of {:.0} x {:.0} is too large for PNG; SVG has no such limit",
                scene.width, scene.height
            ))),
        },
        other => Err(Trouble::Message(format!(
            "{} is no picture that can be written: -o wants a name ending in .svg or .png, not .{other}",
            path.display()
        ))),
    }
}

/// Writes a file.
///
/// # Errors
///
/// A message when it cannot be written.
pub fn write_file(path: &Path, bytes: &[u8]) -> Result<(), Trouble> {
    fs::write(path, bytes).map_err(|e| Trouble::Message(format!("{} cannot be written: {e}", path.display())))
}

/// A play as one file: a sheet of its positions, or a page that plays it. `frames`: words and state.
///
/// # Errors
///
/// A message where the model has no board, or the file cannot be written.
pub fn write_play(
    picture: &crate::args::PictureArgs,
    path: &Path,
    b: &Bound,
    title: &str,
    frames: &[(String, Vec<i32>)],
) -> Result<(), Trouble> {
    let theme = picture.theme.theme();
    let scenes: Vec<Scene> =
        frames.iter().map(|(words, state)| scene(b, state, words, theme)).collect::<Result<_, _>>()?;
    if ending(path) == "html" {
        let list: Vec<(String, Scene)> = frames.iter().map(|f| f.0.clone()).zip(scenes).collect();
        return write_file(path, page::frames(title, &list).as_bytes());
    }
    write_scene(path, &sheet(&scenes, 1240.0, theme, title))
}

/// The board of a position as a picture.
///
/// # Errors
///
/// A message where the model has no board.
pub fn scene(b: &Bound, state: &[i32], title: &str, theme: Theme) -> Result<Scene, Trouble> {
    match tiles(b, state, title) {
        Some(t) => Ok(t.scene(theme)),
        None => Err(Trouble::Message(
            "this model has no board to be drawn; `fendle show` writes its values".into(),
        )),
    }
}
