//! `fendle show`: the position, and what is on it, counted.

use std::collections::{BTreeMap, BTreeSet};

use fendle_lang::Bound;
use fendle_lang::model::{Dom, Shape, Show};
use fendle_lang::run::Eval;
use serde_json::json;

use super::{position_lines, title};
use crate::args::{Format, LevelArgs, PictureArgs};
use crate::files::load;
use crate::look::{scene, write_scene};
use crate::{Exit, Session, Trouble};

/// Runs the command.
pub fn run(s: &mut Session, args: &LevelArgs, line: bool, picture: &PictureArgs) -> Result<Exit, Trouble> {
    let loaded = load(s, args)?;
    let b = &loaded.game.bound;
    let state = b.position.clone();
    if let Some(path) = &picture.output {
        let scene = scene(b, &state, &loaded.level.name, picture.theme.theme())?;
        write_scene(path, &scene)?;
        if s.common.format == Format::Json {
            s.json(&json!({"level": loaded.level.name, "wrote": [path]}))?;
        } else {
            s.line(format!("wrote {}", path.display()))?;
        }
        return Ok(Exit::Yes);
    }
    let text = if b.as_player { b.player_line(&state) } else { b.line(&state) };
    let mut counts = counts(b, &state);
    if b.as_player {
        // What is hidden is not counted for the player, nor what is free of it.
        let told =
            |name: &str| !b.model.vars.iter().any(|v| v.hidden && name.split(' ').next() == Some(&v.name));
        counts.retain(|(name, _)| name != "free" && told(name));
    }
    if s.common.format == Format::Json {
        let drawn = b.draw(&state);
        let boards: serde_json::Map<String, serde_json::Value> =
            drawn.pictures.iter().map(|p| (p.name.clone(), json!(p.rows))).collect();
        let values: BTreeMap<_, _> = drawn.values.into_iter().collect();
        let counts: BTreeMap<_, _> = counts.into_iter().collect();
        s.json(&json!({
            "level": loaded.level.name,
            "model": b.model.name,
            "rows": b.rows,
            "cols": b.cols,
            "position": text,
            "boards": boards,
            "values": values,
            "counts": counts,
            "status": status_text(b, &state),
        }))?;
        return Ok(Exit::Yes);
    }
    if line {
        s.line(text)?;
        return Ok(Exit::Yes);
    }
    s.line(title(&loaded))?;
    if let Some(words) = loaded.begin.words() {
        s.line(words)?;
    }
    s.line("")?;
    s.lines(&position_lines(b, &state, &BTreeSet::new()))?;
    s.line("")?;
    if !counts.is_empty() {
        let words: Vec<String> = counts.iter().map(|(n, c)| format!("{c} {n}")).collect();
        s.line(words.join(", "))?;
    }
    s.line(status_text(b, &state))?;
    Ok(Exit::Yes)
}

/// The status of a position by the rules alone.
pub fn status_text(b: &Bound, state: &[i32]) -> String {
    match Eval::new(b).status(state) {
        Ok(None) => "running".into(),
        Ok(Some(e)) => fendle_lang::state::ending_text(&b.model.endings[e]),
        Err(fault) => format!("the model breaks: {fault}"),
    }
}

/// What stands on the board, counted: (what, how many), in a fixed order.
pub fn counts(b: &Bound, state: &[i32]) -> Vec<(String, usize)> {
    let model = &b.model;
    let mut out = vec![];
    for (v, def) in model.vars.iter().enumerate() {
        let slot = &b.slots[v];
        if !slot.active || !matches!(def.shape, Shape::Grid | Shape::Set) {
            continue;
        }
        let region = if def.state { state } else { &b.data };
        let values = &region[slot.base..slot.base + slot.len];
        if def.dom.scalar() == fendle_lang::model::Scalar::Bool {
            out.push((def.name.clone(), values.iter().filter(|x| **x != 0).count()));
            continue;
        }
        let mut by_value: BTreeMap<i32, usize> = BTreeMap::new();
        for &x in values {
            *by_value.entry(x).or_default() += 1;
        }
        // Boards on which everything is different have nothing to count.
        if def.state && by_value.values().any(|n| *n > 1) && by_value.len() <= 16 {
            for (x, n) in by_value {
                out.push((format!("{} {}", def.name, b.value_text(v, x.into())), n));
            }
        }
    }
    // Cells on which a drawing shows nothing.
    for show in &model.shows {
        if let Show::Drawing { vars, .. } = show {
            let free = (0..b.cells())
                .filter(|&c| {
                    vars.iter().all(|&v| {
                        let slot = &b.slots[v];
                        let region = if model.vars[v].state { state } else { &b.data };
                        if let Dom::Placed(p) = model.vars[v].dom {
                            let at = ((c / b.cols) as i64, (c % b.cols) as i64);
                            !b.covered(p, region[slot.base].into()).contains(&at)
                        } else if model.vars[v].shape == Shape::One {
                            region[slot.base] as usize != c
                        } else {
                            i64::from(region[slot.base + c]) == slot.lo.max(0)
                        }
                    })
                })
                .count();
            out.push(("free".into(), free));
        }
    }
    out
}
