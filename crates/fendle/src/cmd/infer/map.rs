//! The risk map: what is known of hidden cells, drawn over the board as the player sees it, and the clues of each step.

use std::collections::BTreeMap;
use std::path::Path;

use fendle_core::infer::{Fraction, Step, about, fraction};
use fendle_core::odds::Value;
use fendle_lang::Bound;
use fendle_lang::known::Source;
use fendle_lang::model::{Range, Shape};
use fendle_lang::run::scatter::hidden_vars;
use fendle_view::chart::{Lane, lanes};
use fendle_view::page::{Part, report};
use fendle_view::scene::Scene;
use fendle_view::text::counted;
use fendle_view::tiles::{Shade, Theme, Tiles, sheet};

use super::{CellReport, Counted, clues_text, kind_words, percent};
use crate::Trouble;
use crate::args::PictureArgs;
use crate::cmd::odds::value_text;
use crate::cmd::title;
use crate::files::Loaded;
use crate::look::{ending, tiles, write_file, write_scene};

/// Steps that are drawn.
const STEPS: usize = 11;
/// Moves in the chart of chances.
const MOVES: usize = 12;

/// What there is to draw.
pub struct Drawing {
    /// Boards with what is known on them, and a sentence for each.
    pub boards: Vec<(Tiles, String)>,
    /// Steps in the order in which they are seen.
    pub steps: Vec<(Tiles, String)>,
    /// Moves with the chance to win after them.
    pub wins: Vec<(String, Value)>,
}

/// A board as the player sees it.
fn board(shown: &Bound, state: &[i32], name: &str) -> Result<Tiles, Trouble> {
    let no_board = || Trouble::Message("this model has no board to be drawn".into());
    let mut out = tiles(shown, state, name).ok_or_else(no_board)?;
    out.shades = vec![None; out.cells.len()];
    out.lines.clear();
    Ok(out)
}

fn on_cells(b: &Bound, v: usize) -> bool {
    matches!(b.model.vars[v].shape, Shape::Grid | Shape::Set)
}

const SIGNS: &str = "cross: sure; ring: free; else how likely";

/// With its sign, so that it is not taken for a clue.
fn percent_sign(p: &Fraction) -> String {
    format!("{}%", percent(p))
}

/// The map and the steps where clues are counts.
pub fn of_counts(
    shown: &Bound,
    counted_: &Counted<'_>,
    cells: &[CellReport],
    steps: &[Step],
) -> Result<Drawing, Trouble> {
    let state = &shown.position;
    let known = &counted_.player.known;
    let mut boards = vec![];
    for v in hidden_vars(shown).filter(|v| on_cells(shown, *v)) {
        let name = &shown.model.vars[v].name;
        let mut t = board(shown, state, &format!("{name}: the risk map"))?;
        for c in cells.iter().filter(|c| c.at.0 == v && !is_told(shown, state, c.at.1)) {
            t.shades[c.at.1] = Some(Shade {
                share: about(&c.chance) as f32,
                words: percent_sign(&c.chance),
                sure: c.certain,
            });
        }
        t.lines.push(SIGNS.into());
        boards.push((t, format!("how likely {name} is on each cell")));
    }
    let mut drawn = vec![];
    let mut so_far: Vec<(usize, bool)> = vec![];
    for (i, step) in steps.iter().take(STEPS).enumerate() {
        let mut t = board(shown, state, &format!("{}. {}", i + 1, kind_words(step.kind)))?;
        let from_told = |c: &usize| match known.sources[*c] {
            Source::Told { tell, element, ago: 0, .. } => {
                matches!(shown.model.tells[tell].over, Some((_, Range::Board)))
                    .then(|| usize::try_from(element).ok())
                    .flatten()
            }
            _ => None,
        };
        t.marks = step.clues.iter().filter_map(from_told).collect();
        for &(cell, sure) in &so_far {
            t.shades[cell] = Some(shade_of(sure));
        }
        for &(c, sure) in step.cells.iter().filter(|(c, _)| on_cells(shown, known.cells[*c as usize].0)) {
            let cell = known.cells[c as usize].1;
            t.shades[cell] = Some(shade_of(sure));
            t.marks.push(cell);
            so_far.push((cell, sure));
        }
        drawn.push((t, format!("{}: {}", kind_words(step.kind), clues_text(shown, counted_, &step.clues))));
    }
    if let (Some((t, _)), true) = (drawn.last_mut(), steps.len() > STEPS) {
        t.lines.push(format!("{} more", counted((steps.len() - STEPS) as u64, "step", "steps")));
    }
    Ok(Drawing { boards, steps: drawn, wins: vec![] })
}

fn shade_of(sure: bool) -> Shade {
    Shade { share: f32::from(u8::from(sure)), words: String::new(), sure: Some(sure) }
}

/// Whether anything is told of a cell.
fn is_told(b: &Bound, state: &[i32], cell: usize) -> bool {
    let told = b.told(state);
    let on_board = |t: &usize| matches!(b.model.tells[*t].over, Some((_, Range::Board)));
    (0..b.model.tells.len()).filter(on_board).any(|t| told[t].get(cell).is_some_and(Option::is_some))
}

/// The values of each place with their weights.
pub type Weights = BTreeMap<(usize, usize), BTreeMap<i32, u128>>;

/// The map where layouts are weighed one by one: for bools the chance, for other values how many are left.
pub fn of_worlds(shown: &Bound, of: &Weights, all: u128) -> Result<Drawing, Trouble> {
    let state = &shown.position;
    let mut boards = vec![];
    for v in hidden_vars(shown).filter(|v| on_cells(shown, *v)) {
        let name = &shown.model.vars[v].name;
        let bare = crate::look::is_bare(shown, v);
        let mut t =
            board(shown, state, &format!("{name}: {}", if bare { "the risk map" } else { "what is left" }))?;
        for (&(var, i), values) in of.range((v, 0)..(v + 1, 0)) {
            if var != v || is_told(shown, state, i) {
                continue;
            }
            t.shades[i] = Some(if bare {
                let p = fraction(values.get(&1).copied().unwrap_or(0), all);
                let sure = (values.len() == 1).then(|| values.contains_key(&1));
                Shade { share: about(&p) as f32, words: percent_sign(&p), sure }
            } else {
                let likely = values.iter().max_by_key(|x| x.1).map_or(0, |x| *x.1);
                let names: Vec<String> = values.keys().map(|x| shown.value_text(v, (*x).into())).collect();
                let words = if names.len() <= 3 { names.join(" ") } else { format!("{} left", names.len()) };
                Shade { share: 1.0 - about(&fraction(likely, all)) as f32, words, sure: None }
            });
        }
        t.lines.push(if bare { SIGNS.into() } else { "what can still lie there; darker: known less".into() });
        boards.push((t, format!("what is known of {name}")));
    }
    Ok(Drawing { boards, steps: vec![], wins: vec![] })
}

/// The chances to win after each move, best first.
fn chart(loaded: &Loaded, wins: &[(String, Value)], theme: Theme) -> Option<Scene> {
    let mut list: Vec<&(String, Value)> = wins.iter().collect();
    list.sort_by(|a, b| b.1.low().total_cmp(&a.1.low()));
    let best = list.first()?.1.low();
    let bars: Vec<Lane> = list
        .iter()
        .take(MOVES)
        .map(|(name, v)| Lane {
            name: name.clone(),
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
    Some(lanes(&title(loaded), &under, &bars, (100.0, " %"), theme))
}

/// Writes the map: a picture, or a page with the clues of each step in words.
///
/// # Errors
///
/// A message where nothing hidden lies on a board, or the file cannot be written.
pub fn write(path: &Path, picture: &PictureArgs, loaded: &Loaded, d: &Drawing) -> Result<(), Trouble> {
    let theme = picture.theme.theme();
    if d.boards.is_empty() {
        return Err(Trouble::Message("nothing hidden lies on the board: there is no map to draw".into()));
    }
    let chart = chart(loaded, &d.wins, theme);
    if ending(path) == "html" {
        let mut parts = vec![];
        for (t, words) in &d.boards {
            parts.push(Part::Head(words.clone()));
            parts.push(Part::Picture(t.scene(theme)));
        }
        if let Some(c) = chart {
            parts.push(Part::Head("the chance to win after each move".into()));
            parts.push(Part::Picture(c));
        }
        if !d.steps.is_empty() {
            parts.push(Part::Head("what is certain, in an order to find it".into()));
        }
        for (t, words) in &d.steps {
            parts.push(Part::Words(words.clone()));
            parts.push(Part::Picture(t.scene(theme)));
        }
        return write_file(path, report(&title(loaded), &parts).as_bytes());
    }
    let boards = d.boards.iter().chain(&d.steps).map(|(t, _)| t.scene(theme));
    let scenes: Vec<Scene> = boards.chain(chart).collect();
    write_scene(path, &sheet(&scenes, 1240.0, theme, &title(loaded)))
}
