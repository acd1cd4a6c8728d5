//! `explore` as text.

use fendle_ask::Answer;
use fendle_ask::explore::{Space, SpaceVerdict};
use fendle_core::Exploration;
use fendle_core::numbers::{counted, grouped};
use fendle_view::chart::{bars, by_depth};

use super::odds::estimate;
use super::{beside, headed, move_lines, named, position_lines, structure, value_text};

/// Most bars of the chart of depths.
const BARS: usize = 24;

/// The space, counted.
pub fn lines(a: &Answer<Space>) -> Vec<String> {
    let (s, c) = (&a.found, &a.found.counts);
    let mut out = named(&a.asked);
    if let Some(layouts) = s.layouts {
        out.push(format!(
            "played with what can be known: states are what a player can know ({} at the start)",
            counted(layouts as u64, "layout", "layouts")
        ));
    }
    if let Some(Some(v)) = &s.best_probability {
        out.push(format!("best chance to win: {}", value_text(v, true)));
    }
    out.push(match (&a.fault, c.limit, &a.stopped_by) {
        (Some(_), ..) => "incomplete: the model broke; the counts are of what was seen".into(),
        (None, None, _) => "complete: everything reachable was seen".into(),
        (None, Some(_), by) => {
            let by = by.as_ref().map_or("a limit", |b| b.words.as_str());
            format!("incomplete: stopped by {by}; the counts are of what was seen")
        }
    });
    out.push(match &s.sampled {
        Some(e) if e.won > 0 && c.goal == 0 => "possible: sampled plays reach a goal".into(),
        _ => verdict_line(c),
    });
    if !c.edges_kept && c.numbers.is_none() {
        out.push("memory ran short: transitions were not kept but made again where they were needed".into());
    }
    out.push(String::new());
    counts(&mut out, c);
    out.push(String::new());
    if let Some(e) = &s.sampled {
        out.push("sampled, since moves have too many outcomes to write down:".into());
        let mut lines = vec![];
        estimate(&mut lines, SpaceVerdict::of(c) != SpaceVerdict::NoGoal, e);
        out.extend(lines);
        out.push(String::new());
    }
    nearest_fatal(&mut out, s);
    out.push("states at each depth".into());
    out.extend(bars(&by_depth(&c.per_depth, BARS), 60));
    if let Some(st) = &s.structure {
        structure::write(&mut out, a, st);
    }
    out
}

/// The verdict on a space in one sentence.
pub fn verdict_line(c: &Exploration) -> String {
    let moves = |n: u32| counted(n.into(), "move", "moves");
    match SpaceVerdict::of(c) {
        SpaceVerdict::Solvable(Some(0)) => "the start is won already".into(),
        SpaceVerdict::Solvable(Some(n)) => format!("solvable, in {} at the least", moves(n)),
        SpaceVerdict::Solvable(None) => "solvable".into(),
        SpaceVerdict::Possible { certain: true, moves: n } => format!(
            "certain: every running state can be won against every draw; shortest if lucky: {}",
            moves(n)
        ),
        SpaceVerdict::Possible { certain: false, moves: n } => {
            format!("possible; shortest if lucky: {}", moves(n))
        }
        SpaceVerdict::NoGoal => "this model has no goal: no state is dead".into(),
        SpaceVerdict::SetAside => "undecided: no goal was seen, and branches of chance were set aside".into(),
        SpaceVerdict::Unsolvable => "unsolvable: the space is exhausted and holds no goal".into(),
        SpaceVerdict::NotSeen => "undecided: no goal was seen, and not everything was seen".into(),
    }
}

fn counts(out: &mut Vec<String>, c: &Exploration) {
    out.push(format!("states       {:>14}   {} bits each", grouped(c.states), c.bits_per_state));
    out.push(format!(
        "transitions  {:>14}   {} edges between distinct pairs",
        grouped(c.transitions),
        grouped(c.edges)
    ));
    out.push(format!("depth        {:>14}   moves to the farthest state", grouped(c.depth.into())));
    out.push(String::new());
    let classes = [
        ("goal", c.goal, "won"),
        ("lost", c.lost, "lost"),
        ("over", c.over, "ended otherwise"),
        ("stuck", c.stuck, "running, no move allowed"),
        ("dead", c.dead, "moves are left, no goal can be reached"),
        ("winnable", c.winnable, "a goal can be reached"),
        ("free", c.free, "running, and there is no goal"),
        ("open", c.open, "not decided: a limit was hit, or chance was set aside"),
    ];
    for (name, n, words) in classes {
        if n > 0 || matches!(name, "goal" | "dead") {
            let share = 100.0 * n as f64 / c.states.max(1) as f64;
            out.push(format!("{name:<12} {:>14}  {share:5.1} %  {words}", grouped(n)));
        }
        if c.chance && name == "winnable" && n > 0 {
            let part = |name: &str, n: u64, words: &str| {
                format!("  {name:<14} {:>10}           {words}", grouped(n))
            };
            out.push(part("certain", c.certain, "some way of playing wins against every draw"));
            out.push(part("almost certain", c.almost_certain, "with probability 1, by trying again"));
        }
    }
    if c.cut {
        out.push("branches of chance were set aside: one open state stands for them".into());
    }
    if c.chance && c.winnable > 0 {
        out.push(format!(
            "{}: outcomes from which nothing can be won, of moves that also have others",
            counted(c.fatal_draws, "fatal draw", "fatal draws")
        ));
    }
}

fn nearest_fatal(out: &mut Vec<String>, s: &Space) {
    let c = &s.counts;
    let before = out.len();
    match (&s.nearest_fatal_move, c.first_fatal_depth) {
        (Some(fatal), Some(depth)) => {
            out.push(format!(
                "{}; the nearest after {}:",
                counted(c.fatal_moves, "fatal move", "fatal moves"),
                counted(depth.into(), "move", "moves")
            ));
            out.extend(move_lines(&fatal.lucky));
            let last = fatal.lucky.last().map_or("", String::as_str);
            let before = fatal.position.as_ref().map(|p| headed("can still be won", position_lines(p)));
            let after =
                fatal.after.as_ref().map(|p| headed(format!("no more, after {last}"), position_lines(p)));
            out.extend(beside(&before.into_iter().chain(after).collect::<Vec<_>>()));
        }
        _ if c.fatal_moves > 0 => out.push(counted(c.fatal_moves, "fatal move", "fatal moves")),
        _ if c.winnable > 0 && !c.complete => out.push("no fatal move was seen so far".into()),
        _ if c.winnable > 0 => out.push("no fatal move".into()),
        _ => {}
    }
    if out.len() > before {
        out.push(String::new());
    }
}
