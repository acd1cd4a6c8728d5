//! Drafted boards as a sheet, mended levels before and after, depths by the number of shuffles.

use fendle_ask::Loaded;
use fendle_ask::making::depths::Depths;
use fendle_ask::making::draft::Draft;
use fendle_ask::making::mend::Mended;
use fendle_ask::making::wish::figure_text;
use fendle_view::chart::{Range, ranges};
use fendle_view::page;
use fendle_view::scene::Scene;
use fendle_view::tiles::Theme;

use super::Drawing;
use super::look::tiles;
use crate::session::Trouble;

/// Mends that are drawn.
const MENDS: usize = 5;

fn nothing() -> Trouble {
    Trouble::words("there is no board to be drawn")
}

/// The boards with their figures.
///
/// # Errors
///
/// Words where there is none.
pub fn draft(level: &Loaded, d: &Draft, paged: bool, theme: Theme) -> Result<Drawing, Trouble> {
    let mut scenes: Vec<(String, Scene)> = vec![];
    for board in &d.boards {
        let b = board.level.as_ref().map_or(&level.game.bound, |own| &own.game.bound);
        let Some(mut t) = tiles(b, &board.position.state, &board.name) else { continue };
        let figures = d.shown.iter().map(|name| {
            let value = board.figures.get(name).copied().flatten();
            format!("{} {}", name.replace('_', " "), value.map_or("-".into(), figure_text))
        });
        t.lines.extend(figures.collect::<Vec<_>>().chunks(3).map(|c| c.join(", ")));
        scenes.push((board.name.clone(), t.scene(theme)));
    }
    if scenes.is_empty() {
        return Err(nothing());
    }
    let title = format!("{}: {}", level.title(), d.want);
    Ok(match paged {
        true => Drawing::Page(page::frames(&title, &scenes)),
        false => {
            let scenes: Vec<Scene> = scenes.into_iter().map(|s| s.1).collect();
            Drawing::sheet(&scenes, theme, &title)
        }
    })
}

/// The level before, and the first mends, with the cells that were changed marked.
///
/// # Errors
///
/// Words where there is none.
pub fn mend(level: &Loaded, m: &Mended, theme: Theme) -> Result<Drawing, Trouble> {
    let b = &level.game.bound;
    let mut boards: Vec<_> = tiles(b, &b.position, "before").into_iter().collect();
    for (n, mend) in m.mends.iter().take(MENDS).enumerate() {
        let own = mend.level.as_ref().map_or(b, |own| &own.game.bound);
        let Some(mut t) = tiles(own, &mend.position.state, &format!("after, way {} of {}", n + 1, m.found))
        else {
            continue;
        };
        t.marks = mend.cells.clone();
        t.lines.extend(mend.changes.iter().map(|c| format!("{}: {}", c.cell, c.does)));
        boards.push(t);
    }
    if boards.is_empty() {
        return Err(nothing());
    }
    let scenes: Vec<Scene> = boards.iter().map(|t| t.scene(theme)).collect();
    Ok(Drawing::sheet(&scenes, theme, &format!("{}: {}", level.title(), m.want)))
}

/// The depths by the number of shuffles.
pub fn depths(level: &Loaded, d: &Depths, theme: Theme) -> Drawing {
    let list: Vec<Range> = (d.rows.iter())
        .filter_map(|r| {
            let (least, most) = (r.depths.keys().next()?, r.depths.keys().last()?);
            Some((r.shuffles.to_string(), u64::from(*least), r.mean()?, u64::from(*most)))
        })
        .collect();
    let title = format!("{}: depth by the number of shuffles", level.title());
    let words = d.farthest.map(|f| (u64::from(f), format!("the farthest of all: {f}")));
    let line = words.as_ref().map(|(f, words)| (*f, words.as_str()));
    Drawing::Picture(ranges(
        (&title, "shuffles (least, mean and most moves of a shortest solution)"),
        &list,
        line,
        (1240.0, 560.0),
        theme,
    ))
}
