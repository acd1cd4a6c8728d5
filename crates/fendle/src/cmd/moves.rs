//! `fendle moves`: every move, allowed with its result, or refused with reason, line and cells.

use std::collections::BTreeSet;

use fendle_core::knowledge::Knowing;
use fendle_core::{Expansion, Model as _, MoveId, Odds};
use fendle_lang::play::place_name;
use fendle_lang::run::Eval;
use fendle_lang::state::chance::Chance;
use fendle_lang::{Bound, Game};
use fendle_view::board::side_by_side;
use fendle_view::scene::Scene;
use fendle_view::tiles::sheet;
use serde_json::json;

use super::{WIDTH, fault_trouble, head, position_lines, title};
use crate::args::{Format, LevelArgs, PictureArgs};
use crate::files::load;
use crate::know::{Play, play};
use crate::look::{tiles, write_scene};
use crate::{Exit, Session, Trouble};

/// Refused moves drawn in full; more are listed in one line each.
const DRAWN_MAX: usize = 24;

/// Outcomes of one move that are drawn.
const OUTCOMES_DRAWN: usize = 6;

/// An allowed move and its outcomes.
struct Allowed {
    of: MoveId,
    total: u64,
    outcomes: Vec<(Vec<i32>, Odds)>,
}

/// Every move of what is known, with what the player may see after it: one world for each.
fn seen_next(game: &Game, knowing: &Knowing<'_>) -> Vec<Allowed> {
    let mut out = Expansion::default();
    knowing.worker().expand(&[knowing.begins()[0].0.into()], true, &mut out);
    let mut at = 0;
    out.runs
        .iter()
        .map(|run| {
            let range = at..at + run.outcomes as usize;
            at = range.end;
            let outcomes: Vec<(Vec<i32>, Odds)> = range
                .map(|i| {
                    let odds = out.odds.get(i).copied().unwrap_or(Odds::SURE);
                    (game.unpack(&knowing.worlds(out.outcomes[i] as u32)[0].0), odds)
                })
                .collect();
            Allowed { of: run.of, total: outcomes.iter().map(|o| o.1.weight).sum(), outcomes }
        })
        .collect()
}

/// Runs the command.
pub fn run(s: &mut Session, args: &LevelArgs, picture: &PictureArgs) -> Result<Exit, Trouble> {
    let loaded = load(s, args)?;
    let game = &loaded.game;
    let b = &game.bound;
    let words = game.pack(&b.position);
    let mut worker = game.worker();
    let mut out = Expansion::default();
    worker.expand(&words, true, &mut out);
    let at_start = |fault| fendle_core::explore::Faulted {
        fault,
        route: fendle_core::Route { moves: vec![], states: vec![words.clone()] },
    };
    if let Some(&(_, fault)) = out.faults.first() {
        return Err(fault_trouble(s, &loaded.store, game, &at_start(fault)));
    }
    let status = super::show::status_text(b, &b.position);
    let running = out.heads[0].status == fendle_core::Status::Running;
    let refused = if running || out.heads[0].status == fendle_core::Status::Goal {
        worker.refusals(&words).map_err(|f| fault_trouble(s, &loaded.store, game, &at_start(f)))?
    } else {
        vec![]
    };
    let step = game.layout().words();
    let mut states = out.outcomes.chunks_exact(step);
    let mut at = 0;
    let mut allowed: Vec<Allowed> = out
        .runs
        .iter()
        .map(|run| {
            let n = run.outcomes as usize;
            let odds: Vec<Odds> =
                (at..at + n).map(|i| out.odds.get(i).copied().unwrap_or(Odds::SURE)).collect();
            at += n;
            let states: Vec<Vec<i32>> = states.by_ref().take(n).map(|s| game.unpack(s)).collect();
            Allowed {
                of: run.of,
                total: odds.iter().map(|o| o.weight).sum(),
                outcomes: states.into_iter().zip(odds).collect(),
            }
        })
        .collect();
    if b.as_player && b.model.hides() {
        // What the player may see next, with its chance; nothing of what is hidden.
        match play(&loaded, args, false)? {
            Play::Knowing(knowing, _) => allowed = seen_next(game, &knowing),
            _ => allowed.iter_mut().for_each(|a| a.outcomes.clear()),
        }
    }
    if let Some(path) = &picture.output {
        let theme = picture.theme.theme();
        let mut boards = vec![];
        for a in &allowed {
            let name = game.move_name(a.of);
            let shown = a.outcomes.iter().take(OUTCOMES_DRAWN);
            boards.extend(shown.filter_map(|o| tiles(b, &o.0, &name)));
        }
        for r in refused.iter().take(DRAWN_MAX) {
            let Some(mut t) = tiles(b, &b.position, &format!("{}: refused", game.move_name(r.of))) else {
                continue;
            };
            let on = |p: &fendle_core::Place| {
                p.row >= 0 && p.col >= 0 && (p.row as usize) < b.rows && (p.col as usize) < b.cols
            };
            t.marks =
                r.at.iter().filter(|p| on(p)).map(|p| p.row as usize * b.cols + p.col as usize).collect();
            t.lines.push(r.why.clone());
            boards.push(t);
        }
        if boards.is_empty() {
            return Err(Trouble::Message("there is no board to be drawn".into()));
        }
        let scenes: Vec<Scene> = boards.iter().map(|t| t.scene(theme)).collect();
        write_scene(path, &sheet(&scenes, 1240.0, theme, &title(&loaded)))?;
    }
    let line_of =
        |site: u32| loaded.store.sources.line_col(b.model.file, b.model.refuses[site as usize].span.start).0;
    let model_name = loaded.store.sources.name(b.model.file).to_string();
    let line = |state: &[i32]| if b.as_player { b.player_line(state) } else { b.line(state) };
    let shown = Bound { seen: vec![None; b.seen.len()], ..b.clone() };
    if s.common.format == Format::Json {
        let allowed: Vec<_> = allowed
            .iter()
            .map(|a| {
                let outcomes: Vec<_> = a
                    .outcomes
                    .iter()
                    .map(|(state, odds)| {
                        json!({
                            "position": line(state),
                            "weight": odds.weight,
                            "status": super::show::status_text(b, state),
                        })
                    })
                    .collect();
                json!({
                    "move": game.move_name(a.of),
                    "position": a.outcomes.first().map(|o| line(&o.0)),
                    "status": a.outcomes.first().map(|o| super::show::status_text(b, &o.0)),
                    "total_weight": a.total,
                    "outcomes": outcomes,
                })
            })
            .collect();
        let refused: Vec<_> = refused
            .iter()
            .map(|r| {
                json!({
                    "move": game.move_name(r.of),
                    "why": r.why,
                    "line": line_of(r.site),
                    "at": r.at.iter().map(|p| place_name(b, (p.row.into(), p.col.into()))).collect::<Vec<_>>(),
                })
            })
            .collect();
        s.json(&json!({
            "level": loaded.level.name,
            "position": line(&b.position),
            "status": status,
            "allowed": allowed,
            "refused": refused,
        }))?;
        return Ok(Exit::Yes);
    }
    head(s, &loaded)?;
    if !running {
        s.line(format!(
            "{status}: the game has ended{}",
            if allowed.is_empty() { "" } else { "; past it:" }
        ))?;
    }
    s.line(format!("{} allowed, {} refused", allowed.len(), refused.len()))?;
    let none = BTreeSet::new();
    let mut blocks = vec![];
    for a in &allowed {
        let many = a.outcomes.len() > 1;
        for (state, odds) in a.outcomes.iter().take(OUTCOMES_DRAWN) {
            let mut block = vec![format!("allowed: {}", game.move_name(a.of))];
            if many {
                let chance = Chance::new(odds.weight.into(), a.total.into());
                block.push(format!("chance {chance}, {:.3} %", 100.0 * chance.about()));
            }
            if let Ok(Some(e)) = Eval::new(b).status(state) {
                block.push(format!("then {}", fendle_lang::state::ending_text(&b.model.endings[e])));
            }
            block.extend(position_lines(&shown, state, &none));
            blocks.push(block);
        }
        if a.outcomes.is_empty() {
            blocks.push(vec![format!("allowed: {}", game.move_name(a.of))]);
        }
        if a.outcomes.len() > OUTCOMES_DRAWN {
            blocks.push(vec![
                format!("allowed: {}", game.move_name(a.of)),
                format!("{} more outcomes", a.outcomes.len() - OUTCOMES_DRAWN),
            ]);
        }
    }
    if !blocks.is_empty() {
        s.line("")?;
        s.lines(&side_by_side(&blocks, 4, WIDTH))?;
    }
    let mut blocks = vec![];
    for r in refused.iter().take(DRAWN_MAX) {
        let marks: BTreeSet<(usize, usize)> =
            r.at.iter()
                .filter(|p| p.row >= 0 && p.col >= 0)
                .map(|p| (p.row as usize, p.col as usize))
                .filter(|&(r, c)| r < b.rows && c < b.cols)
                .collect();
        let at: Vec<String> = r.at.iter().map(|p| place_name(b, (p.row.into(), p.col.into()))).collect();
        let mut block = vec![
            format!("refused: {}", game.move_name(r.of)),
            r.why.clone(),
            format!("{model_name}:{}", line_of(r.site)),
        ];
        if !at.is_empty() {
            block.push(format!("at {}", at.join(", ")));
        }
        block.extend(position_lines(b, &b.position, &marks));
        blocks.push(block);
    }
    if !blocks.is_empty() {
        s.line("")?;
        s.lines(&side_by_side(&blocks, 4, WIDTH))?;
    }
    for r in refused.iter().skip(DRAWN_MAX) {
        s.line(format!("refused: {}: {} (line {})", game.move_name(r.of), r.why, line_of(r.site)))?;
    }
    Ok(Exit::Yes)
}
