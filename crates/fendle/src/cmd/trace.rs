//! `fendle trace`: moves played phase by phase, with the model's notes.

use std::collections::{BTreeSet, HashMap};

use fendle_core::{Class, Explored, explore};
use fendle_lang::play::{Played, Step, place_name};
use fendle_lang::run::setup::Dice;
use fendle_lang::run::{Made, TraceEvent};
use fendle_lang::state::ending_text;
use serde_json::{Value, json};

use super::{call_text, class_word, fault_trouble, position_lines, title};
use crate::args::{Format, LevelArgs, PictureArgs};
use crate::files::{load, parse_moves, play_call};
use crate::look::write_play;
use crate::watch::{Watcher, limit_text, limits};
use crate::{Exit, Session, Trouble};

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    moves: &str,
    (verdict, draws): (bool, bool),
    picture: &PictureArgs,
) -> Result<Exit, Trouble> {
    let mut frames: Vec<(String, Vec<i32>)> = vec![];
    let mut loaded = load(s, args)?;
    let list = parse_moves(s, &mut loaded, "MOVES", moves)?;
    let game = &loaded.game;
    let b = &game.bound;
    let json = s.common.format == Format::Json;
    let mut cut = None;
    let explored: Option<Explored> = if verdict {
        let watcher = Watcher::new(&s.common);
        let found = explore(game, limits(&s.common), false, &watcher);
        watcher.finish();
        let found = found
            .map_err(|f| Trouble::Message(format!("the start breaks the model: {}", game.run_fault(&f))))?;
        if let Some(fault) = &found.fault {
            return Err(fault_trouble(s, &loaded.store, game, fault));
        }
        cut = found.counts.limit;
        Some(found)
    } else {
        None
    };
    let class_of = |state: &[i32]| -> Option<Class> {
        let e = explored.as_ref()?;
        Some(e.space.find(&game.pack(state)).map_or(Class::Open, |id| e.space.class(id)))
    };
    let words = |class: Class| match class {
        Class::Winnable => "can still be won".to_string(),
        Class::Dead => "can no longer be won".into(),
        Class::Open => "not decided".into(),
        other => class_word(other).into(),
    };
    let mut state = b.position.clone();
    frames.push(("start".into(), state.clone()));
    let mut class = class_of(&state);
    let mut steps: Vec<Value> = vec![];
    let mut fatal: Option<usize> = None;
    let mut exit = Exit::Yes;
    let (mut score, mut tallies) = (0i64, vec![0i64; b.model.tallies.len()]);
    let mut stopped = None;
    let mut dice = Dice::new(s.common.seed);
    if !json {
        s.line(title(&loaded))?;
        if let Some(words) = loaded.begin.words() {
            s.line(words)?;
        }
        s.line("")?;
        s.lines(&position_lines(b, &state, &BTreeSet::new()))?;
        if let Some(c) = class {
            s.line(words(c))?;
        }
    }
    for (i, call) in list.iter().enumerate() {
        let name = loaded.moves.name(call.number);
        let result = play_call(&loaded, &state, call, false, &mut dice).map_err(|fault| {
            let model = &b.model;
            let d = fendle_lang::Diagnostic::error(
                "F001",
                model.file,
                fault.span,
                format!("model fault: {fault}"),
            )
            .note(format!("at move {}: {name}", i + 1))
            .note(format!("the state there: {}", b.shown_line(&state)));
            s.reporter.show(&loaded.store.sources, &[d]);
            Trouble::Reported
        })?;
        let result =
            result.map_err(|why| Trouble::Message(format!("MOVES: move {}, {name}, {why}", i + 1)))?;
        match result {
            Step::Made(mut outcomes) => {
                let played = outcomes.remove(0);
                let called = call_text(name, &played);
                let many = played.made.draws().next().is_some();
                let by_dice = many && call.draws.is_none();
                let Played { made, ended } = played;
                let Made { state: next, events, score: gained, tallies: added, chance, cut: aside, .. } =
                    made;
                score = score.saturating_add(gained);
                for (t, a) in tallies.iter_mut().zip(&added) {
                    *t = t.saturating_add(*a);
                }
                let now = class_of(&next);
                let turned = class == Some(Class::Winnable)
                    && matches!(now, Some(Class::Dead | Class::Stuck | Class::Lost | Class::Over));
                if turned {
                    fatal = Some(i);
                }
                if json {
                    steps.push(json!({
                        "move": called,
                        "chance": chance.to_string(),
                        "position": b.shown_line(&next),
                        "events": events.iter().map(|e| event_json(&loaded, e)).collect::<Vec<_>>(),
                        "score": gained,
                        "status": ended.map_or("running".to_string(), |e| ending_text(&b.model.endings[e])),
                        "verdict": now.map(class_word),
                    }));
                } else {
                    s.line("")?;
                    let by =
                        if by_dice { format!("   drawn by seed {}", s.common.seed) } else { String::new() };
                    s.line(format!("{}. {called}{by}", i + 1))?;
                    let mut drawn = false;
                    let names: Vec<&str> = events
                        .iter()
                        .filter_map(|e| {
                            if let TraceEvent::Phase { name, .. } = e { Some(name.as_str()) } else { None }
                        })
                        .collect();
                    let mut rounds: HashMap<&str, usize> = HashMap::new();
                    for event in &events {
                        match event {
                            TraceEvent::Phase { name, state } => {
                                let round = rounds.entry(name).or_default();
                                *round += 1;
                                // Phases that come again are numbered.
                                let number = if names.iter().filter(|n| *n == name).count() > 1 {
                                    format!(" {round}")
                                } else {
                                    String::new()
                                };
                                s.line(format!("   phase {name}{number}"))?;
                                s.lines(&position_lines(b, state, &BTreeSet::new()))?;
                                drawn = *state == next;
                            }
                            TraceEvent::Draw { what, chance, of } if draws => {
                                s.line(format!("   draw {what}: chance {chance}, one of {of}"))?;
                            }
                            TraceEvent::Draw { .. } => {}
                            TraceEvent::Note { text, at } => {
                                let at = at.map_or(String::new(), |p| format!(" at {}", place_name(b, p)));
                                s.line(format!("   {text}{at}"))?;
                            }
                        }
                    }
                    if aside {
                        s.line("   set aside: the cascade goes on past its bound")?;
                    } else if !drawn {
                        s.lines(&position_lines(b, &next, &BTreeSet::new()))?;
                    }
                    if gained != 0 {
                        s.line(format!("score {gained}"))?;
                    }
                    if draws && many {
                        s.line(format!(
                            "this outcome has the chance {chance}, {:.4} %",
                            100.0 * chance.about()
                        ))?;
                    }
                    if let Some(e) = ended {
                        s.line(ending_text(&b.model.endings[e]))?;
                    } else if let Some(c) = now {
                        s.line(words(c))?;
                    }
                    if turned {
                        s.line("this move is fatal")?;
                    }
                }
                frames.push((format!("{}. {called}", i + 1), next.clone()));
                state = next;
                class = now;
            }
            Step::Refused { site, at } => {
                let why = b.model.refuses[site].why.clone();
                let line = loaded.store.sources.line_col(b.model.file, b.model.refuses[site].span.start).0;
                let places: Vec<String> = at.iter().map(|&p| place_name(b, p)).collect();
                if !json {
                    let marks = at
                        .iter()
                        .filter(|(r, c)| *r >= 0 && *c >= 0)
                        .map(|&(r, c)| (r as usize, c as usize))
                        .collect();
                    s.line("")?;
                    s.line(format!("{}. {name} is refused: {why}", i + 1))?;
                    let file = loaded.store.sources.name(b.model.file).to_string();
                    let at =
                        if places.is_empty() { String::new() } else { format!(", at {}", places.join(", ")) };
                    s.line(format!("   {file}:{line}{at}"))?;
                    s.lines(&position_lines(b, &state, &marks))?;
                }
                stopped = Some(json!({"move": name, "why": why, "line": line, "at": places}));
                exit = Exit::No;
            }
            Step::NotOffered => {
                if !json {
                    s.line("")?;
                    s.line(format!("{}. {name} is not offered here", i + 1))?;
                }
                stopped = Some(json!({"move": name, "why": "not offered"}));
                exit = Exit::No;
            }
            Step::Ended(e) => {
                let how = ending_text(&b.model.endings[e]);
                if !json {
                    s.line("")?;
                    s.line(format!("{}. {name} comes after the end: {how}", i + 1))?;
                }
                stopped = Some(json!({"move": name, "why": format!("the game has ended: {how}")}));
                exit = Exit::No;
            }
        }
        if stopped.is_some() {
            break;
        }
    }
    if json {
        let tallies: serde_json::Map<String, Value> =
            b.model.tallies.iter().cloned().zip(tallies.iter().map(|t| json!(t))).collect();
        s.json(&json!({
            "level": loaded.level.name,
            "start": b.shown_line(&b.position),
            "steps": steps,
            "stopped": stopped,
            "score": score,
            "tallies": tallies,
            "first_fatal_move": fatal.map(|i| i + 1),
            "verdict_complete": explored.as_ref().map(|e| e.counts.complete),
        }))?;
    } else {
        s.line("")?;
        if score != 0 {
            s.line(format!("score {score}"))?;
        }
        for (name, n) in b.model.tallies.iter().zip(&tallies) {
            s.line(format!("{name} {n}"))?;
        }
        if verdict {
            match fatal {
                Some(i) => {
                    s.line(format!("first fatal move: {}. {}", i + 1, loaded.moves.name(list[i].number)))?;
                }
                None => s.line("no fatal move")?,
            }
            if let Some(limit) = cut {
                s.line(format!("the space was cut by {}", limit_text(limit, &s.common)))?;
            }
        }
    }
    if exit == Exit::Yes && cut.is_some() {
        exit = if cut == Some(fendle_core::Limit::Interrupted) { Exit::Interrupted } else { Exit::Undecided };
    }
    if let Some(path) = &picture.output {
        write_play(picture, path, b, &title(&loaded), &frames)?;
        if !json {
            s.line(format!("wrote {}", path.display()))?;
        }
    }
    Ok(exit)
}

fn event_json(loaded: &crate::files::Loaded, event: &TraceEvent) -> Value {
    let b = &loaded.game.bound;
    match event {
        TraceEvent::Phase { name, state } => json!({"phase": name, "position": b.shown_line(state)}),
        TraceEvent::Draw { what, chance, of } => {
            json!({"draw": what, "chance": chance.to_string(), "of": of})
        }
        TraceEvent::Note { text, at } => json!({"note": text, "at": at.map(|p| place_name(b, p))}),
    }
}
