//! What each move is worth, as lying bars beside the board.

use fendle_ask::Loaded;
use fendle_ask::odds::Odds;
use fendle_core::Aim;
use fendle_core::odds::Value;
use fendle_lang::Bound;
use fendle_view::chart::{Lane, lanes};
use fendle_view::page::{Section, report};
use fendle_view::scene::Scene;
use fendle_view::tiles::Theme;

use super::Drawing;
use super::look::tiles;
use crate::text::value_text;

/// Moves that a chart shows.
const CHARTED: usize = 24;

/// The bars: the best chance to win after each move, or else the aim.
///
/// # Errors
///
/// Why there is nothing to draw, in words.
pub fn chart(level: &Loaded, found: &Odds, theme: Theme) -> Result<Scene, String> {
    let moves = found.moves.as_ref().ok_or("no exact answer was found within the limits")?;
    let by_win = moves.iter().any(|m| m.best_probability.is_some());
    let worth = |m: &'_ fendle_ask::odds::MoveWorth| {
        if by_win { m.best_probability.clone() } else { m.aim.clone() }
    };
    let mut list: Vec<(&str, Value)> =
        moves.iter().filter_map(|m| Some((m.name.as_str(), worth(m)?))).collect();
    if list.is_empty() && found.starts > 1 {
        return Err(format!(
            "play begins at one of {} starts; --at or --after takes one of them",
            found.starts
        ));
    }
    if list.is_empty() {
        return Err("no move is allowed here, or the model has neither a goal nor an aim".into());
    }
    let most = by_win || found.wanted.is_some_and(Aim::wants_most);
    list.sort_by(|x, y| {
        let order = y.1.middle().total_cmp(&x.1.middle());
        if most { order } else { order.reverse() }
    });
    let best = list[0].1.clone();
    let scale = if by_win { 100.0 } else { 1.0 };
    let far = list.iter().map(|l| l.1.high()).fold(0.0, f64::max);
    let bars: Vec<Lane> = list
        .iter()
        .take(CHARTED)
        .map(|(name, v)| Lane {
            name: (*name).to_string(),
            low: scale * v.low(),
            high: scale * v.high(),
            words: value_text(v, by_win),
            best: *v == best,
        })
        .collect();
    let mut under = match (by_win, most) {
        (true, _) => "best probability of a goal after the move".to_string(),
        (false, true) => "the aim after the move, most is best".into(),
        (false, false) => "the aim after the move, least is best".into(),
    };
    if list.len() > CHARTED {
        under.push_str(&format!("; the best {CHARTED} of {} moves", list.len()));
    }
    let end = if by_win { (100.0, " %") } else { (far.max(1e-9), "") };
    Ok(lanes(&level.title(), &under, &bars, end, theme))
}

/// The board and the bars.
///
/// # Errors
///
/// Why there is nothing to draw, in words.
pub fn draw(level: &Loaded, found: &Odds, paged: bool, theme: Theme) -> Result<Drawing, String> {
    let chart = chart(level, found, theme)?;
    let b = &level.game.bound;
    let seen = Bound { as_player: b.as_player || found.layouts > 0, ..b.clone() };
    let board = tiles(&seen, &b.position, "").map(|t| t.scene(theme));
    Ok(match paged {
        true => {
            let mut parts: Vec<Section> = board.into_iter().map(Section::Picture).collect();
            if let Some(v) = &found.best_probability {
                parts.push(Section::Words(format!("best probability of a goal: {}", value_text(v, true))));
            }
            parts.push(Section::Picture(chart));
            Drawing::Page(report(&level.title(), &parts))
        }
        false => {
            let scenes: Vec<Scene> = board.into_iter().chain([chart]).collect();
            Drawing::sheet(&scenes, theme, &level.title())
        }
    })
}
