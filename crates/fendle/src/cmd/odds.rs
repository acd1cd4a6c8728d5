//! `fendle odds`: what chance does to a level, and what each move is worth.

use std::path::Path;

use fendle_core::odds::{AimValue, Answers, Value, odds};
use fendle_core::simulate::{Policy, Simulated, mean_interval, share_interval, simulate};
use fendle_core::{Aim, Explored, Limit, Model as _, explore};
use fendle_lang::Bound;
use fendle_lang::run::setup::Dice;
use fendle_view::chart::{Lane, lanes as lanes_of};
use fendle_view::page::{Part, report};
use fendle_view::scene::Scene;
use fendle_view::text::{counted, grouped, table};
use fendle_view::tiles::{Theme, sheet};
use serde_json::{Value as Json, json};

use super::{fault_json, fault_trouble, move_lines, move_names, title};
use crate::args::{Format, LevelArgs, PictureArgs, PolicyArg};
use crate::files::{Loaded, load_all};
use crate::know::{begin_words, fault_words, play_or_say};
use crate::look::{ending, tiles, write_file, write_scene};
use crate::watch::{Watcher, effort, limit_text};
use crate::{Exit, Session, Trouble};

/// Plays where an exact answer is out of reach and nobody says how many.
const PLAYS: u64 = 2_000;
/// Moves after which a simulated play is broken off.
const MOVES_MAX: u64 = 10_000;
/// Fractions longer than this are printed as decimals; JSON has them whole.
const FRACTION_MAX: usize = 48;

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    plays: Option<u64>,
    policy: PolicyArg,
    picture: &PictureArgs,
) -> Result<Exit, Trouble> {
    let loaded = load_all(s, args)?;
    let game = &loaded.game;
    let Some(play) = play_or_say(s, &loaded, args)? else { return Ok(Exit::Undecided) };
    let (model, worlds, limits) = play.on(game, &s.common);
    let watcher = Watcher::new(&s.common);
    let found = explore(model, limits, false, &watcher)
        .map_err(|f| Trouble::Message(format!("the start breaks the model: {}", fault_words(game, &f))))?;
    if let (Some(fault), true) = (&found.fault, worlds > 0) {
        watcher.finish();
        let words = fault_words(game, &fault.fault);
        return Err(Trouble::Message(format!("model fault: {words}; --known shows where")));
    }
    if let Some(fault) = &found.fault {
        watcher.finish();
        if s.common.format == Format::Json {
            s.json(&json!({"fault": fault_json(&loaded.store, game, fault)}))?;
        }
        return Err(fault_trouble(s, &loaded.store, game, fault));
    }
    let broke = |f| Trouble::Message(format!("the model breaks: {}", fault_words(game, &f)));
    let whole = found.counts.limit.is_none();
    let answers = if whole { odds(model, &found, &limits, &watcher).map_err(broke)? } else { None };
    // Where exact answers are out of reach, played games; they say so.
    let plays = plays.or(answers.is_none().then_some(PLAYS));
    let policy_of = match policy {
        PolicyArg::Random => Policy::Random,
        PolicyArg::Greedy => Policy::Greedy,
    };
    let sample = match plays {
        Some(n) if found.counts.limit != Some(Limit::Interrupted) => {
            let mut dice = Dice::new(s.common.seed);
            let mut pick = |w: &[u64]| dice.pick(w);
            let watch = Watcher::new(&s.common);
            let sample = simulate(model, policy_of, (n, MOVES_MAX), &mut pick, &watch).map_err(broke)?;
            watch.finish();
            Some(sample)
        }
        _ => None,
    };
    let seconds = watcher.seconds();
    watcher.finish();
    // What cannot be drawn is still answered.
    let drawn = match (&picture.output, &answers) {
        (None, _) => None,
        (Some(_), None) => Some(Err("no exact answer was found within the limits".to_string())),
        (Some(path), Some(a)) => match chart(&loaded, a, found.space.starts().len(), picture.theme.theme()) {
            Ok(chart) => {
                write_picture(path, picture, &loaded, a, chart, worlds > 0)?;
                Some(Ok(path))
            }
            Err(why) => Some(Err(why)),
        },
    };
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "begin": loaded.begin.json(),
            "played": if worlds > 0 { "with knowledge" } else { "layout known" },
            "complete": found.counts.complete && !found.counts.cut,
            "states": found.counts.states,
            "possible": if found.counts.goal > 0 {
                json!(true)
            } else if whole && !found.counts.cut {
                json!(false)
            } else {
                Json::Null
            },
            "shortest_if_lucky": found.counts.shortest,
            "certain": answers.as_ref().map(|a| a.certain),
            "almost_certain": answers.as_ref().map(|a| a.almost_certain),
            "best_probability": answers.as_ref().and_then(|a| a.win.as_ref()).map(value_json),
            "least_expected_moves": answers.as_ref().and_then(|a| a.moves.as_ref()).map(value_json),
            "aim": answers.as_ref().and_then(|a| a.aim.as_ref()).map(aim_json),
            "aim_play": answers.as_ref().and_then(|a| a.aim_play.as_ref()).map(|p| move_names(game, p)),
            "set_aside_most": answers.as_ref().and_then(|a| a.aside.as_ref()).map(|x| x.0.to_string()),
            "fatal_moves": found.counts.fatal_moves,
            "fatal_draws": found.counts.fatal_draws,
            "blunders": answers.as_ref().and_then(|a| a.blunders),
            "moves": answers.as_ref().map(|a| a.from_start.iter().map(|m| json!({
                "move": game.move_name(m.of),
                "outcomes": m.outcomes,
                "best_probability": m.win.as_ref().map(value_json),
                "aim": m.aim.as_ref().map(value_json),
            })).collect::<Vec<_>>()),
            "estimate": sample.as_ref().map(|e| estimate_json(e, policy, s.common.seed)),
            "wrote": drawn.as_ref().and_then(|d| d.as_ref().ok()),
            "effort": effort(seconds, found.counts.states),
        }))?;
    } else {
        s.line(title(&loaded))?;
        if let Some(words) = begin_words(&loaded, args) {
            s.line(words)?;
        }
        s.line("")?;
        match &answers {
            Some(a) => {
                if worlds > 0 {
                    s.line(format!(
                        "played with what can be known: {} at the start",
                        counted(worlds as u64, "layout", "layouts")
                    ))?;
                }
                write_answers(s, &loaded, &found, a)?;
            }
            None => {
                let why = match found.counts.limit {
                    Some(limit) => format!("stopped by {}", limit_text(limit, &s.common)),
                    None => "the graph with its weights does not fit the memory".into(),
                };
                s.line(format!(
                    "no exact answer: {why} after {}",
                    counted(found.counts.states, "state", "states")
                ))?;
                if found.counts.goal > 0 {
                    s.line("possible: a goal was seen")?;
                }
            }
        }
        if let Some(sample) = &sample {
            s.line("")?;
            write_sample(s, game.has_goal(), sample, policy)?;
        }
        if let Some(drawn) = &drawn {
            s.line("")?;
            match drawn {
                Ok(path) => s.line(format!("wrote {}", path.display()))?,
                Err(why) => s.line(format!("nothing is drawn: {why}"))?,
            }
        }
    }
    Ok(match (found.counts.limit, &answers) {
        (Some(Limit::Interrupted), _) => Exit::Interrupted,
        (None, Some(_)) => Exit::Yes,
        _ => Exit::Undecided,
    })
}

/// Moves that a chart shows.
const CHARTED: usize = 24;

/// What each move is worth as lying bars: the best chance to win after it, or else the aim.
///
/// # Errors
///
/// Why there is nothing to draw.
pub fn chart(loaded: &Loaded, a: &Answers, starts: usize, theme: Theme) -> Result<Scene, String> {
    let by_win = a.from_start.iter().any(|m| m.win.is_some());
    let mut list: Vec<(&str, &Value)> = vec![];
    for m in &a.from_start {
        if let Some(v) = if by_win { &m.win } else { &m.aim } {
            list.push((loaded.moves.name(m.of.0 as usize), v));
        }
    }
    if list.is_empty() && starts > 1 {
        return Err(format!("play begins at one of {starts} starts; --at or --after takes one of them"));
    }
    if list.is_empty() {
        return Err("no move is allowed here, or the model has neither a goal nor an aim".into());
    }
    let most = by_win || loaded.game.aim().is_some_and(Aim::wants_most);
    list.sort_by(|x, y| {
        let order = decimal(y.1).total_cmp(&decimal(x.1));
        if most { order } else { order.reverse() }
    });
    let best = list[0].1.clone();
    let scale = if by_win { 100.0 } else { 1.0 };
    let far = list.iter().map(|l| l.1.high()).fold(0.0, f64::max);
    let lanes: Vec<Lane> = list
        .iter()
        .take(CHARTED)
        .map(|(name, v)| Lane {
            name: (*name).to_string(),
            low: scale * v.low(),
            high: scale * v.high(),
            words: value_text(v, by_win),
            best: **v == best,
        })
        .collect();
    let mut under = match (by_win, most) {
        (true, _) => "best probability of a goal after the move".to_string(),
        (false, true) => "the aim after the move, most is best".into(),
        (false, false) => "the aim after the move, least is best".into(),
    };
    if list.len() > CHARTED {
        under.push_str(&format!("; the best {CHARTED} of {} moves", grouped(list.len() as u64)));
    }
    let end = if by_win { (100.0, " %") } else { (far.max(1e-9), "") };
    Ok(lanes_of(&title(loaded), &under, &lanes, end, theme))
}

fn write_picture(
    path: &Path,
    picture: &PictureArgs,
    loaded: &Loaded,
    a: &Answers,
    chart: Scene,
    knowing: bool,
) -> Result<(), Trouble> {
    let theme = picture.theme.theme();
    let b = &loaded.game.bound;
    let seen = Bound { as_player: b.as_player || knowing, ..b.clone() };
    if ending(path) == "html" {
        let mut parts = vec![];
        if let Some(t) = tiles(&seen, &b.position, "") {
            parts.push(Part::Picture(t.scene(theme)));
        }
        if let Some(v) = &a.win {
            parts.push(Part::Words(format!("best probability of a goal: {}", value_text(v, true))));
        }
        parts.push(Part::Picture(chart));
        return write_file(path, report(&title(loaded), &parts).as_bytes());
    }
    let scenes: Vec<_> =
        tiles(&seen, &b.position, "").map(|t| t.scene(theme)).into_iter().chain([chart]).collect();
    write_scene(path, &sheet(&scenes, 1240.0, theme, &title(loaded)))
}

/// A value in words: a fraction where it is short, and a decimal.
pub fn value_text(v: &Value, percent: bool) -> String {
    let (scale, unit) = if percent { (100.0, " %") } else { (1.0, "") };
    match v {
        Value::Exact(r) => {
            let text = r.to_string();
            let whole = !text.contains('/');
            if whole && !percent {
                return text;
            }
            let about = format!("{:.6}{unit}", scale * decimal(v));
            if whole {
                format!("{text}, {}", about.replace(".000000", ""))
            } else if text.len() <= FRACTION_MAX {
                format!("{text} = {about}")
            } else {
                format!("{about} (exact, as a fraction of {} digits: --format json)", text.len())
            }
        }
        Value::Between(lo, hi) => {
            format!("between {:.8}{unit} and {:.8}{unit}", down(scale * lo), up(scale * hi))
        }
    }
}

// Eight places are printed: the bounds must still be bounds.
fn down(x: f64) -> f64 {
    (x * 1e8).floor() / 1e8
}
fn up(x: f64) -> f64 {
    (x * 1e8).ceil() / 1e8
}

fn decimal(v: &Value) -> f64 {
    f64::midpoint(v.low(), v.high())
}

/// A value for programs.
pub fn value_json(v: &Value) -> Json {
    match v {
        Value::Exact(r) => json!({"exact": r.to_string(), "about": decimal(v)}),
        Value::Between(lo, hi) => json!({"at_least": lo, "at_most": hi}),
    }
}

fn aim_json(a: &AimValue) -> Json {
    match a {
        AimValue::Best(v) => value_json(v),
        AimValue::Unbounded => json!({"unbounded": true}),
        AimValue::Unknown(why) => json!({"unknown": why}),
    }
}

fn estimate_json(e: &Simulated, policy: PolicyArg, seed: u64) -> Json {
    let (lo, hi) = share_interval(e.won, e.plays);
    let (a, b) = mean_interval(e.score.0, e.score.1, e.plays);
    json!({
        "policy": policy.word(),
        "seed": seed,
        "plays": e.plays,
        "won": e.won,
        "unfinished": e.unfinished,
        "win_share_95": [lo, hi],
        "mean_score": e.score.0 / e.plays.max(1) as f64,
        "mean_score_95": [a, b],
        "mean_moves": e.moves as f64 / e.plays.max(1) as f64,
    })
}

fn write_answers(s: &mut Session, loaded: &Loaded, found: &Explored, a: &Answers) -> Result<(), Trouble> {
    let game = &loaded.game;
    let c = &found.counts;
    let yes = |b: bool| if b { "yes" } else { "no" };
    let mut rows: Vec<(&str, String)> = vec![];
    if game.has_goal() {
        let lucky = c.shortest.map_or(String::new(), |n| {
            format!("; shortest if lucky: {}", counted(n.into(), "move", "moves"))
        });
        let possible = if c.goal == 0 && c.cut { "not known: no goal was seen" } else { yes(c.goal > 0) };
        rows.push(("possible", format!("{possible}{lucky}")));
        let way = |b: bool, how: &str| {
            format!("{}: {} way of playing wins {how}", yes(b), if b { "some" } else { "no" })
        };
        rows.push(("certain", way(a.certain, "against every draw")));
        rows.push(("almost certain", way(a.almost_certain, "with probability 1")));
        if let Some(v) = &a.win {
            rows.push(("best probability", value_text(v, true)));
        }
        rows.push((
            "least expected moves",
            a.moves
                .as_ref()
                .map_or("none: no way of playing wins with probability 1".into(), |v| value_text(v, false)),
        ));
    }
    if let (Some(aim), Some(model_aim)) = (&a.aim, game.aim()) {
        let what = match model_aim {
            Aim::MostScore => "most score",
            Aim::LeastScore => "least score",
            Aim::Most => "aim, most",
            Aim::Least => "aim, least",
        };
        let text = match aim {
            AimValue::Best(v) if game.is_sure() => value_text(v, false),
            AimValue::Best(v) => format!("{} expected", value_text(v, false)),
            AimValue::Unbounded => "unbounded: a cycle gains every time round".into(),
            AimValue::Unknown(why) => format!("not known: {why}"),
        };
        rows.push((what, text));
    }
    if rows.is_empty() {
        s.line("this model has neither a goal nor an aim: nothing can be better or worse")?;
    }
    for (name, text) in rows {
        s.line(format!("{name:<22}{text}"))?;
    }
    if let Some((most, _)) = &a.aside {
        s.line(format!(
            "{:<22}at most {} of a move, past the bound of its cascade: answers are intervals",
            "set aside",
            value_text(&Value::Exact(most.clone()), true)
        ))?;
    }
    if game.has_goal() && c.winnable > 0 {
        let mut parts = vec![counted(c.fatal_moves, "fatal move", "fatal moves")];
        if c.chance {
            parts.push(counted(c.fatal_draws, "fatal draw", "fatal draws"));
        }
        if let Some(n) = a.blunders {
            parts.push(counted(n, "blunder", "blunders"));
        }
        s.line(format!(
            "{:<22}{}, in {}",
            "in the space",
            parts.join(", "),
            counted(c.states, "state", "states")
        ))?;
    }
    if !a.from_start.is_empty() {
        s.line("")?;
        let best = a
            .from_start
            .iter()
            .filter_map(|m| m.win.as_ref())
            .max_by(|a, b| decimal(a).total_cmp(&decimal(b)))
            .cloned();
        let wants_most = game.aim().is_some_and(Aim::wants_most);
        let best_aim = a
            .from_start
            .iter()
            .filter_map(|m| m.aim.as_ref())
            .max_by(|a, b| {
                let order = decimal(a).total_cmp(&decimal(b));
                if wants_most { order } else { order.reverse() }
            })
            .cloned();
        let mut head = vec!["move", "outcomes"];
        if game.has_goal() {
            head.extend(["best probability", ""]);
        }
        if best_aim.is_some() {
            head.extend(["aim", ""]);
        }
        let rows: Vec<Vec<String>> = a
            .from_start
            .iter()
            .map(|m| {
                let mut row = vec![game.move_name(m.of), grouped(m.outcomes.into())];
                if let (Some(v), Some(best)) = (&m.win, &best) {
                    row.push(value_text(v, true));
                    row.push(if decimal(best) > 0.0 && v.high() <= f64::MIN_POSITIVE * 4.0 {
                        "fatal".into()
                    } else if v.is_below(best) {
                        "a blunder".into()
                    } else if v == best && decimal(best) > 0.0 {
                        "best".into()
                    } else {
                        String::new()
                    });
                }
                if let (Some(v), Some(best)) = (&m.aim, &best_aim) {
                    row.push(value_text(v, false));
                    row.push(if v == best { "best".into() } else { String::new() });
                }
                row
            })
            .collect();
        s.lines(&table(&head, &rows))?;
    }
    if let Some(play) = a.aim_play.as_ref().filter(|p| !p.moves.is_empty()) {
        s.line("")?;
        s.line("a play that reaches it:")?;
        s.lines(&move_lines(&move_names(game, play)))?;
    }
    Ok(())
}

fn write_sample(s: &mut Session, has_goal: bool, e: &Simulated, policy: PolicyArg) -> Result<(), Trouble> {
    s.line(format!(
        "an estimate, no proof: {} with the policy `{}`, seed {}",
        counted(e.plays, "play", "plays"),
        policy.word(),
        s.common.seed
    ))?;
    if has_goal {
        let (lo, hi) = share_interval(e.won, e.plays);
        s.line(format!(
            "  won {} of {}: {:.2} %, 95 % interval {:.2} to {:.2} %",
            grouped(e.won),
            grouped(e.plays),
            100.0 * e.won as f64 / e.plays.max(1) as f64,
            100.0 * lo,
            100.0 * hi
        ))?;
        s.line("  the best way of playing wins at least as often as this policy does")?;
    }
    let (a, b) = mean_interval(e.score.0, e.score.1, e.plays);
    s.line(format!(
        "  mean score {:.2}, 95 % interval {a:.2} to {b:.2}; mean length {:.1} moves",
        e.score.0 / e.plays.max(1) as f64,
        e.moves as f64 / e.plays.max(1) as f64
    ))?;
    if e.unfinished > 0 {
        s.line(format!("  {} broken off after {MOVES_MAX} moves", counted(e.unfinished, "play", "plays")))?;
    }
    Ok(())
}
