//! The charts of a space, and the report of a level with its board, numbers, shortest solution and dead parts.

use fendle_ask::explore::{CLASSES, Report, Space};
use fendle_ask::{Answer, Loaded};
use fendle_core::numbers::{counted, grouped};
use fendle_lang::Bound;
use fendle_view::chart::{by_depth, columns, depths};
use fendle_view::page::{Section, report};
use fendle_view::scene::Scene;
use fendle_view::tiles::{Theme, sheet};

use super::graph::status;
use super::look::{part, tiles};
use super::play::frames;
use super::{Drawing, SHEET};
use crate::args::ChartArg;
use crate::session::Trouble;
use crate::text::explore::verdict_line;
use crate::text::value_text;

/// Width of a chart that stands beside another, and height of all but the first.
const HALF: f32 = 620.0;
const HEIGHT: f32 = 340.0;
/// Most columns of a chart.
const COLUMNS: usize = 60;

/// The charts that are asked for, or a page with everything.
///
/// # Errors
///
/// Words where there is nothing to draw.
pub fn draw(
    level: &Loaded,
    a: &Answer<Space>,
    which: ChartArg,
    paged: bool,
    theme: Theme,
) -> Result<Drawing, Trouble> {
    let chart = sheet(&charts(level, a, which, theme)?, SHEET, theme, &format!("{}: charts", level.title()));
    Ok(match paged {
        true => Drawing::Page(report(&level.title(), &parts(level, a, chart, theme))),
        false => Drawing::Picture(chart),
    })
}

/// The charts one by one.
fn charts(level: &Loaded, a: &Answer<Space>, which: ChartArg, theme: Theme) -> Result<Vec<Scene>, Trouble> {
    let Some(numbers) = &a.found.charts else { return Ok(vec![]) };
    let all = which == ChartArg::All;
    let wide = if all { HALF } else { SHEET };
    let head = if all { String::new() } else { format!("{}: ", level.title()) };
    let mut out = vec![];
    if matches!(which, ChartArg::All | ChartArg::Depth) {
        out.push(depths(&level.title(), &by_status(&numbers.depths), theme));
    }
    let missing =
        "this chart needs the transitions, and memory ran short: they were not kept; --memory gives more";
    match (&numbers.branching, which) {
        (Some(list), ChartArg::All | ChartArg::Branching) => {
            let name = format!("{head}running states by number of allowed moves");
            out.push(columns(&name, "allowed moves", &by_depth(list, COLUMNS), (wide, HEIGHT), theme));
        }
        (None, ChartArg::Branching) => return Err(Trouble::words(missing)),
        _ => {}
    }
    match (numbers.distances.as_deref(), which) {
        (None, ChartArg::Distance) => {
            let why = a
                .stopped_by
                .as_ref()
                .map(|by| format!("there was no time for the distances: stopped by {}", by.words));
            return Err(Trouble::words(why.unwrap_or(missing.into())));
        }
        (Some([]), ChartArg::Distance) => {
            return Err(Trouble::words("no goal was reached: there is no distance to draw"));
        }
        (Some(list), ChartArg::All | ChartArg::Distance) if !list.is_empty() => {
            let under = if a.found.counts.chance { "moves to a goal, if lucky" } else { "moves to a goal" };
            // In a space that was cut something unseen may be nearer than what was seen.
            let (known, c) = (list.iter().sum::<u64>(), &a.found.counts);
            let all = c.goal + c.winnable;
            let of = match known < all {
                true => format!(", where it is known: {} of {}", grouped(known), grouped(all)),
                false => String::new(),
            };
            let name = format!("{head}winnable states by distance{of}");
            out.push(columns(&name, under, &by_depth(list, COLUMNS), (wide, HEIGHT), theme));
        }
        _ => {}
    }
    Ok(out)
}

/// Counts of classes as counts of what pictures call a status.
fn by_status(depths: &[[u64; 8]]) -> Vec<[u64; 8]> {
    let one = |row: &[u64; 8]| {
        let mut out = [0; 8];
        for (class, n) in CLASSES.iter().zip(row) {
            out[status(*class).number()] += n;
        }
        out
    };
    depths.iter().map(one).collect()
}

fn parts(level: &Loaded, a: &Answer<Space>, chart: Scene, theme: Theme) -> Vec<Section> {
    let c = &a.found.counts;
    let b = &level.game.bound;
    let mut out = vec![Section::Words(verdict_line(c))];
    if let Some(by) = &a.stopped_by {
        out.push(Section::Words(format!("not everything was seen: stopped by {}", by.words)));
    }
    let seen = Bound { as_player: b.as_player || a.found.is_knowing(), ..b.clone() };
    let mut top: Vec<Section> =
        tiles(&seen, &b.position, "").map(|t| Section::Picture(t.scene(theme))).into_iter().collect();
    let rows = [
        ("states", c.states),
        ("transitions", c.transitions),
        ("depth", c.depth.into()),
        ("won", c.goal),
        ("lost", c.lost),
        ("over", c.over),
        ("stuck", c.stuck),
        ("dead", c.dead),
        ("winnable", c.winnable),
        ("free", c.free),
        ("open", c.open),
        ("fatal moves", c.fatal_moves),
    ];
    let told = rows.into_iter().filter(|(n, v)| *v > 0 || matches!(*n, "won" | "dead" | "fatal moves"));
    top.push(Section::Table(told.map(|(n, v)| (n.to_string(), grouped(v))).collect()));
    out.push(Section::Beside(top));
    out.push(Section::Picture(chart));
    if let Some(report) = &a.found.report {
        more(&mut out, level, report, c.shortest, theme);
    }
    out
}

fn more(out: &mut Vec<Section>, level: &Loaded, report: &Report, shortest: Option<u32>, theme: Theme) {
    let b = &level.game.bound;
    if let (Some((names, positions)), Some(depth)) = (&report.solution, shortest) {
        let length = counted(depth.into(), "move", "moves");
        out.push(Section::Head(format!("A shortest solution: {length}")));
        out.push(Section::Words(names.join("; ")));
        let shown = frames(names, positions);
        let boards = shown.iter().filter_map(|(words, p)| Some(tiles(b, &p.state, words)?.scene(theme)));
        out.push(Section::Picture(sheet(&boards.collect::<Vec<_>>(), SHEET, theme, "solution")));
    }
    if let Some(odds) = &report.odds {
        out.push(Section::Head("Chance".into()));
        if let Some(v) = &odds.best_probability {
            out.push(Section::Words(format!("best probability of a goal: {}", value_text(v, true))));
        }
        out.push(match super::odds::chart(level, odds, theme) {
            Ok(chart) => Section::Picture(chart),
            Err(why) => Section::Words(format!("what each move is worth is not drawn: {why}")),
        });
    }
    if let Some(dead) = &report.dead {
        out.push(Section::Head(format!(
            "Minimal dead parts: they explain {} of {}",
            grouped(dead.explained),
            counted(dead.dead, "dead or stuck state", "dead or stuck states")
        )));
        let boards = dead.patterns.iter().filter_map(|p| {
            let words = counted(p.states, "state", "states");
            Some(part(b, &p.example, &p.part.facts, &words)?.scene(theme))
        });
        out.push(Section::Picture(sheet(&boards.collect::<Vec<_>>(), SHEET, theme, "dead parts")));
    }
}
