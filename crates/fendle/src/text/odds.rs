//! `odds` as text.

use fendle_ask::Answer;
use fendle_ask::odds::{Estimate, MOVES_MAX, Odds};
use fendle_core::Aim;
use fendle_core::numbers::{counted, grouped};
use fendle_core::odds::{AimValue, Value};
use fendle_view::text::table;

use super::{move_lines, named, value_text};

/// What chance does to a level.
pub fn lines(a: &Answer<Odds>) -> Vec<String> {
    let o = &a.found;
    let mut out = named(&a.asked);
    if a.fault.is_some() {
        out.push("no answer: the model broke".into());
        return out;
    }
    let seen_all = a.stopped_by.is_none() || o.complete;
    if o.is_answered() {
        if let Some(by) = a.stopped_by.as_ref().filter(|_| !seen_all) {
            let states = counted(o.states, "state", "states");
            out.push(format!(
                "stopped by {} after {states}: the bounds hold whatever was not seen",
                by.words
            ));
        }
        if o.layouts > 0 {
            let layouts = counted(o.layouts as u64, "layout", "layouts");
            out.push(format!("played with what can be known: {layouts} at the start"));
        }
        answers(&mut out, o);
    } else {
        let why = a.stopped_by.as_ref().map_or("a limit", |s| s.words.as_str());
        let states = counted(o.states, "state", "states");
        out.push(format!("no exact answer: stopped by {why} after {states}"));
        if o.possible == Some(true) {
            let by = if o.possible_by_play { "a game that was played reached it" } else { "a goal was seen" };
            out.push(format!("possible: {by}"));
        }
    }
    for e in &o.estimates {
        out.push(String::new());
        estimate(&mut out, o.has_goal, e);
    }
    if o.is_answered()
        && seen_all
        && let Some(by) = super::stopped_line(a)
    {
        out.push(format!("the plays were {by}"));
    }
    out
}

fn answers(out: &mut Vec<String>, o: &Odds) {
    let yes = |b: bool| if b { "yes" } else { "no" };
    let mut rows: Vec<(&str, String)> = vec![];
    if o.has_goal {
        let lucky = o.shortest_if_lucky.map_or(String::new(), |n| {
            format!("; shortest if lucky: {}", counted(n.into(), "move", "moves"))
        });
        let possible = match o.possible {
            Some(true) if o.possible_by_play => "yes: a game that was played reached the goal",
            Some(known) => yes(known),
            None => "not known: no goal was seen",
        };
        rows.push(("possible", format!("{possible}{lucky}")));
        let way = |b: Option<bool>, how: &str| match b {
            Some(b) => format!("{}: {} way of playing wins {how}", yes(b), if b { "some" } else { "no" }),
            None => "not known: not everything was seen".into(),
        };
        rows.push(("certain", way(o.certain, "against every draw")));
        rows.push(("almost certain", way(o.almost_certain, "with probability 1")));
        if let Some(v) = &o.best_probability {
            rows.push(("best probability", value_text(v, true)));
        }
        let none = match o.almost_certain {
            None => "not known: not everything was seen",
            Some(_) => "none: no way of playing wins with probability 1",
        };
        let moves = o.least_expected_moves.as_ref().map_or(none.into(), |v| value_text(v, false));
        rows.push(("least expected moves", moves));
    }
    if let (Some(aim), Some(wanted)) = (&o.aim, o.wanted) {
        let what = match wanted {
            Aim::MostScore => "most score",
            Aim::LeastScore => "least score",
            Aim::Most => "aim, most",
            Aim::Least => "aim, least",
        };
        let text = match &aim.0 {
            AimValue::Best(v) if !o.chance => value_text(v, false),
            AimValue::Best(v) => format!("{} expected", value_text(v, false)),
            AimValue::Unbounded(_) => "without bound: a cycle gains every time round".into(),
            AimValue::NeverEnds => "none: no play ends".into(),
            AimValue::Unknown(why) => format!("not known: {why}"),
        };
        rows.push((what, text));
    }
    if rows.is_empty() {
        out.push("this model has neither a goal nor an aim: nothing can be better or worse".into());
    }
    out.extend(rows.iter().map(|(name, text)| format!("{name:<22}{text}")));
    if let Some(most) = &o.set_aside_most {
        out.push(format!(
            "{:<22}at most {} of a move, past the bound of its cascade: answers are intervals",
            "set aside",
            value_text(most, true)
        ));
    }
    if o.has_goal && o.winnable > 0 {
        let mut parts = vec![counted(o.fatal_moves, "fatal move", "fatal moves")];
        if o.chance {
            parts.push(counted(o.fatal_draws, "fatal draw", "fatal draws"));
        }
        if let Some(n) = o.blunders {
            parts.push(counted(n, "blunder", "blunders"));
        }
        let states = counted(o.states, "state", "states");
        let once = if o.alike_once { ", alike ones once" } else { "" };
        out.push(format!("{:<22}{}, in {states}{once}", "in the space", parts.join(", ")));
    }
    if o.moves.as_ref().is_some_and(|m| !m.is_empty()) {
        out.push(String::new());
        out.extend(worth(o));
    }
    if o.alike_once {
        out.push("outcomes and states that differ only in which cell is which, or in what is hidden is called, are one".into());
    }
    if o.no_fractions {
        out.push("no fractions: they grew past a quarter of the memory (--memory), or no best way of playing was proved".into());
    }
    if let Some(cycle) = &o.aim_cycle {
        out.push(String::new());
        out.push("a cycle that gains every time round:".into());
        out.extend(move_lines(cycle));
    }
    if let Some(play) = o.aim_play.as_ref().filter(|p| !p.is_empty()) {
        out.push(String::new());
        out.push("a play that reaches it:".into());
        out.extend(move_lines(play));
    }
}

/// Whether a value is surely the best: the same fraction, or the one interval that lies beyond all others.
fn is_best<'v>(v: &Value, best: &Value, mut all: impl Iterator<Item = &'v Value>) -> bool {
    match (v, best) {
        (Value::Exact(_), Value::Exact(_)) => v == best,
        _ => v == best && all.all(|o| std::ptr::eq(o, v) || o.is_below(v) || v.is_below(o)),
    }
}

/// What each move from the start is worth, as a table.
fn worth(o: &Odds) -> Vec<String> {
    let moves = o.moves.as_deref().unwrap_or_default();
    let by_middle = |a: &&Value, b: &&Value| a.middle().total_cmp(&b.middle());
    let best = moves.iter().filter_map(|m| m.best_probability.as_ref()).max_by(by_middle);
    let most = o.wanted.is_some_and(Aim::wants_most);
    let best_aim = moves.iter().filter_map(|m| m.aim.as_ref()).max_by(|a, b| {
        let order = by_middle(a, b);
        if most { order } else { order.reverse() }
    });
    let mut head = vec!["move", "outcomes"];
    if o.has_goal {
        head.extend(["best probability", ""]);
    }
    if best_aim.is_some() {
        head.extend(["aim", ""]);
    }
    let rows: Vec<Vec<String>> = moves
        .iter()
        .map(|m| {
            // None were written down: there are too many.
            let outcomes = if m.outcomes == 0 { "many".into() } else { grouped(m.outcomes.into()) };
            let mut row = vec![m.name.clone(), outcomes];
            if let (Some(v), Some(best)) = (&m.best_probability, best) {
                row.push(value_text(v, true));
                row.push(if best.middle() > 0.0 && v.high() <= f64::MIN_POSITIVE * 4.0 {
                    "fatal".into()
                } else if v.is_below(best) {
                    "a blunder".into()
                } else if is_best(v, best, moves.iter().filter_map(|m| m.best_probability.as_ref()))
                    && best.middle() > 0.0
                {
                    "best".into()
                } else {
                    String::new()
                });
            }
            if let (Some(v), Some(best)) = (&m.aim, best_aim) {
                row.push(value_text(v, false));
                let all = moves.iter().filter_map(|m| m.aim.as_ref());
                row.push(if is_best(v, best, all) { "best".into() } else { String::new() });
            }
            row
        })
        .collect();
    // The last column may be empty.
    table(&head, &rows).iter().map(|line| line.trim_end().to_string()).collect()
}

/// What played games came to.
pub(super) fn estimate(out: &mut Vec<String>, has_goal: bool, e: &Estimate) {
    if e.every_play_the_same && e.plays == 1 {
        out.push(format!("a play with the policy `{}`; nothing is drawn: every one is the same", e.policy));
        let end = match (e.won, e.unfinished) {
            (1.., _) => "won",
            (0, 0) if has_goal => "not won",
            (0, 0) => "ended",
            (0, 1..) => "broken off, which proves nothing",
        };
        let moves = counted(e.mean_moves as u64, "move", "moves");
        out.push(format!("  {end}, after {moves}; score {:.0}", e.mean_score));
        if e.states_a_move > 0.0 {
            out.push(format!("  states looked at for a move: {:.0} in the mean", e.states_a_move));
        }
        return;
    }
    out.push(format!(
        "an estimate, no proof: {} with the policy `{}`, seed {}",
        counted(e.plays, "play", "plays"),
        e.policy,
        e.seed
    ));
    if has_goal {
        let (lo, hi) = e.win_share_95;
        out.push(format!(
            "  won {} of {}: {:.2} %, 95 % interval {:.2} to {:.2} %",
            grouped(e.won),
            grouped(e.plays),
            100.0 * e.won as f64 / e.plays.max(1) as f64,
            100.0 * lo,
            100.0 * hi
        ));
        out.push("  the best way of playing wins at least as often as this policy does".into());
    }
    let (a, b) = e.mean_score_95;
    out.push(format!(
        "  mean score {:.2}, 95 % interval {a:.2} to {b:.2}; mean length {:.1} moves",
        e.mean_score, e.mean_moves
    ));
    if e.states_a_move > 0.0 {
        out.push(format!("  states looked at for a move: {:.0} in the mean", e.states_a_move));
    }
    if let Some(((a, b), (c, d))) = e.difference_95 {
        let wins = format!("won plays {:+.2} to {:+.2} %", 100.0 * a, 100.0 * b);
        let wins = if has_goal { format!("{wins}, ") } else { String::new() };
        out.push(format!(
            "  against the first policy, on the same draws: {wins}score {c:+.2} to {d:+.2} (95 %)"
        ));
    }
    if e.unfinished > 0 {
        let plays = counted(e.unfinished, "play", "plays");
        out.push(format!(
            "  {plays} broken off, after {} moves or where the share of the effort was used up",
            grouped(MOVES_MAX)
        ));
    }
}
