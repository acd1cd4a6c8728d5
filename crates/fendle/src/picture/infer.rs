//! The risk map: what is known of hidden cells, drawn over the board as the player sees it, and the clues of each step.

use fendle_ask::Loaded;
use fendle_ask::infer::{CellReport, Inference, Method, PlaceReport, StepReport, kind_words};
use fendle_core::infer::{Fraction, about};
use fendle_core::numbers::counted;
use fendle_core::odds::Value;
use fendle_lang::Bound;
use fendle_lang::model::{Extent, Range, VarId};
use fendle_lang::run::scatter::hidden_vars;
use fendle_view::chart::{Lane, lanes};
use fendle_view::page::{Section, report};
use fendle_view::scene::Scene;
use fendle_view::tiles::{Shade, Theme, Tiles};

use super::Drawing;
use super::look::{is_bare, tiles};
use crate::session::Trouble;
use crate::text::infer::{clues_text, percent};
use crate::text::value_text;

/// Steps that are drawn.
const STEPS: usize = 11;
/// Moves in the chart of chances.
const MOVES: usize = 12;
const SIGNS: &str = "cross: sure; ring: free; else how likely";

/// A board with a sentence of what is on it.
type Told = (Tiles, String);

/// A board as the player sees it.
fn board(shown: &Bound, name: &str) -> Result<Tiles, Trouble> {
    let no_board = || Trouble::words("this model has no board to be drawn");
    let mut out = tiles(shown, &shown.position, name).ok_or_else(no_board)?;
    out.shades = vec![None; out.cells.len()];
    out.lines.clear();
    Ok(out)
}

/// The hidden variables that lie on the board.
fn on_board(b: &Bound) -> Vec<VarId> {
    hidden_vars(b).filter(|v| is_on_cells(b, *v)).collect()
}

fn is_on_cells(b: &Bound, v: VarId) -> bool {
    matches!(b.model.vars[v].shape, Extent::Grid | Extent::Set)
}

/// With its sign, so that it is not taken for a clue.
fn percent_sign(p: &Fraction) -> String {
    format!("{}%", percent(p))
}

fn shade_of(sure: bool) -> Shade {
    Shade { share: f32::from(u8::from(sure)), words: String::new(), sure: Some(sure) }
}

/// Whether anything is told of a cell.
fn is_told(b: &Bound, cell: usize) -> bool {
    let told = b.told(&b.position);
    let on_board = |t: &usize| matches!(b.model.tells[*t].over, Some((_, Range::Board)));
    (0..b.model.tells.len()).filter(on_board).any(|t| told[t].get(cell).is_some_and(Option::is_some))
}

/// The maps where clues are counts.
fn maps_of_counts(shown: &Bound, cells: &[CellReport]) -> Result<Vec<Told>, Trouble> {
    let mut out = vec![];
    for v in on_board(shown) {
        let name = &shown.model.vars[v].name;
        let mut t = board(shown, &format!("{name}: the risk map"))?;
        for c in cells.iter().filter(|c| c.at.0 == v && !is_told(shown, c.at.1)) {
            let (share, words) = (about(&c.chance) as f32, percent_sign(&c.chance));
            t.shades[c.at.1] = Some(Shade { share, words, sure: c.certain });
        }
        t.lines.push(SIGNS.into());
        out.push((t, format!("how likely {name} is on each cell")));
    }
    Ok(out)
}

/// The steps in the order in which they are seen, with their clues marked.
fn steps_drawn(shown: &Bound, steps: &[StepReport]) -> Result<Vec<Told>, Trouble> {
    let mut out: Vec<Told> = vec![];
    let mut so_far: Vec<(usize, bool)> = vec![];
    for (i, step) in steps.iter().take(STEPS).enumerate() {
        let mut t = board(shown, &format!("{}. {}", i + 1, kind_words(step.kind)))?;
        t.marks = step.clues.iter().filter_map(|c| c.cell_now).collect();
        for &(cell, sure) in &so_far {
            t.shades[cell] = Some(shade_of(sure));
        }
        for ((_, cell), _, sure) in step.cells.iter().filter(|((v, _), ..)| is_on_cells(shown, *v)) {
            t.shades[*cell] = Some(shade_of(*sure));
            t.marks.push(*cell);
            so_far.push((*cell, *sure));
        }
        out.push((t, format!("{}: {}", kind_words(step.kind), clues_text(&step.clues))));
    }
    if let (Some((t, _)), true) = (out.last_mut(), steps.len() > STEPS) {
        t.lines.push(format!("{} more", counted((steps.len() - STEPS) as u64, "step", "steps")));
    }
    Ok(out)
}

/// The maps where layouts are weighed one by one: for bools the chance, for other values how many are left.
fn maps_of_layouts(shown: &Bound, places: &[PlaceReport]) -> Result<Vec<Told>, Trouble> {
    let mut out = vec![];
    for v in on_board(shown) {
        let name = &shown.model.vars[v].name;
        let bare = is_bare(shown, v);
        let mut t = board(shown, &format!("{name}: {}", if bare { "the risk map" } else { "what is left" }))?;
        for p in places.iter().filter(|p| p.at.0 == v && !is_told(shown, p.at.1)) {
            t.shades[p.at.1] = Some(if bare { risk(p) } else { left(p) });
        }
        t.lines.push(if bare { SIGNS.into() } else { "what can still lie there; darker: known less".into() });
        out.push((t, format!("what is known of {name}")));
    }
    Ok(out)
}

fn risk(p: &PlaceReport) -> Shade {
    let filled = p.values.iter().find(|v| v.0 == 1);
    let sure = (p.values.len() == 1).then_some(filled.is_some());
    match filled {
        Some((_, _, chance)) => Shade { share: about(chance) as f32, words: percent_sign(chance), sure },
        None => Shade { share: 0.0, words: percent_sign(&Fraction::default()), sure },
    }
}

fn left(p: &PlaceReport) -> Shade {
    let likely = p.values.iter().map(|v| about(&v.2)).fold(0.0, f64::max);
    let names: Vec<&str> = p.values.iter().map(|v| v.1.as_str()).collect();
    let words = if names.len() <= 3 { names.join(" ") } else { format!("{} left", names.len()) };
    Shade { share: 1.0 - likely as f32, words, sure: None }
}

/// The chances to win after each move, best first.
fn chart(level: &Loaded, found: &Inference, theme: Theme) -> Option<Scene> {
    let mut list: Vec<(&str, &Value)> =
        found.moves.iter().filter_map(|m| Some((m.name.as_str(), m.win.as_ref()?))).collect();
    list.sort_by(|a, b| b.1.low().total_cmp(&a.1.low()));
    let best = list.first()?.1.low();
    let bars: Vec<Lane> = list
        .iter()
        .take(MOVES)
        .map(|(name, v)| Lane {
            name: (*name).to_string(),
            low: 100.0 * v.low(),
            high: 100.0 * v.high(),
            words: value_text(v, true),
            best: v.low() >= best && best > 0.0,
        })
        .collect();
    let more = if list.len() > MOVES {
        format!("; the best {MOVES} of {} moves", list.len())
    } else {
        String::new()
    };
    let under = format!("chance to win after the move, best play{more}");
    Some(lanes(&level.title(), &under, &bars, (100.0, " %"), theme))
}

/// The map: a picture, or a page with the clues of each step in words.
///
/// # Errors
///
/// Words where nothing hidden lies on a board.
pub fn draw(level: &Loaded, found: &Inference, paged: bool, theme: Theme) -> Result<Drawing, Trouble> {
    let shown = level.as_player();
    let (boards, steps) = match &found.method {
        Method::Counts { cells, steps, .. } => (maps_of_counts(&shown, cells)?, steps_drawn(&shown, steps)?),
        Method::Worlds { places, .. } => (maps_of_layouts(&shown, places)?, vec![]),
        Method::Contradiction => (vec![], vec![]),
    };
    if boards.is_empty() {
        return Err(Trouble::words("nothing hidden lies on the board: there is no map to draw"));
    }
    let chart = chart(level, found, theme);
    if !paged {
        let scenes: Vec<Scene> =
            boards.iter().chain(&steps).map(|(t, _)| t.scene(theme)).chain(chart).collect();
        return Ok(Drawing::sheet(&scenes, theme, &level.title()));
    }
    let mut parts = vec![];
    for (t, words) in &boards {
        parts.push(Section::Head(words.clone()));
        parts.push(Section::Picture(t.scene(theme)));
    }
    if let Some(c) = chart {
        parts.push(Section::Head("the chance to win after each move".into()));
        parts.push(Section::Picture(c));
    }
    if !steps.is_empty() {
        parts.push(Section::Head("what is certain, in an order to find it".into()));
    }
    for (t, words) in &steps {
        parts.push(Section::Words(words.clone()));
        parts.push(Section::Picture(t.scene(theme)));
    }
    Ok(Drawing::Page(report(&level.title(), &parts)))
}
