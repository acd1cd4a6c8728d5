//! The report of a pack: a table with small boards, sorted by a click on its head.

use fendle_ask::audit::Audited;
use fendle_ask::profile::{FIGURES, Profile, Profiled};
use fendle_core::Exploration;
use fendle_view::chart::{Bar, columns};
use fendle_view::page::{Row, sorted_table};
use fendle_view::scene::Scene;
use fendle_view::tiles::Theme;

use super::Drawing;
use super::look::tiles;
use crate::text::audit::{sum, went};

/// Width and height in which a small board stands, and the most that one cell takes.
const BOARD: f32 = 160.0;
const CELL: f32 = 24.0;

/// The page.
pub fn page(list: &[Audited]) -> String {
    let count = |a: &Audited, f: fn(&Exploration) -> u64| a.counts.as_ref().map(f);
    let rows: Vec<Row> = list
        .iter()
        .map(|a| Row {
            picture: board(a),
            words: vec![
                a.level.clone(),
                a.file.clone(),
                went(a).into(),
                a.verdict.clone(),
                a.differs.join("; "),
            ],
            numbers: vec![
                a.moves,
                count(a, |c| c.states),
                count(a, |c| c.depth.into()),
                count(a, |c| c.dead),
                count(a, |c| c.fatal_moves),
            ],
        })
        .collect();
    sorted_table(
        &sum(list),
        &["level", "file", "audit", "verdict", "what differs"],
        &["moves", "states", "depth", "dead", "fatal moves"],
        &rows,
    )
}

fn board(a: &Audited) -> Option<Scene> {
    let b = &a.loaded.as_ref()?.game.bound;
    let t = tiles(b, &a.position.as_ref()?.state, "")?;
    Some(t.small(Theme::Light, (BOARD / t.cols.max(t.rows).max(1) as f32).min(CELL)))
}

/// A pack's levels side by side: one chart a figure, the levels in the order of the pack.
pub fn profile(p: &Profile, theme: Theme) -> Drawing {
    let mut scenes = vec![];
    for (name, words) in FIGURES {
        let value = |l: &Profiled| l.figures.get(name).copied().flatten().filter(|v| v.is_finite());
        if p.levels.iter().filter_map(value).all(|v| v == 0.0) {
            continue;
        }
        // Means and shares are drawn in hundredths.
        let fine = p.levels.iter().filter_map(value).any(|v| v.fract() != 0.0);
        let scale = if fine { 100.0 } else { 1.0 };
        let bar = |(n, l): (usize, &Profiled)| {
            ((n + 1).to_string(), (value(l).unwrap_or(0.0) * scale).round() as u64)
        };
        let bars: Vec<Bar> = p.levels.iter().enumerate().map(bar).collect();
        let words = if fine { format!("{words}, in hundredths") } else { words.to_string() };
        let title = format!("{}: {words}", name.replace('_', " "));
        scenes.push(columns(&title, "levels in the order of the pack", &bars, (610.0, 300.0), theme));
    }
    Drawing::sheet(&scenes, theme, "levels in the order of the pack")
}
