//! `trace` as text.

use std::collections::HashMap;

use fendle_ask::Answer;
use fendle_ask::routes::class_word;
use fendle_ask::trace::{Event, NotMade, PlayedMove, Trace};
use fendle_core::Class;

use super::{drawn_lines, head, position_lines, stopped_line};

fn words(class: Class) -> String {
    match class {
        Class::Winnable => "can still be won".into(),
        Class::Dead => "can no longer be won".into(),
        Class::Open => "not decided".into(),
        other => class_word(other).into(),
    }
}

/// A play, move by move; `draws`: with what was drawn, `verdict`: with the first fatal move.
pub fn lines(a: &Answer<Trace>, draws: bool, verdict: bool, seed: u64) -> Vec<String> {
    let t = &a.found;
    let mut out = head(&a.asked, &t.start);
    out.pop();
    out.extend(t.start_class.map(words));
    for (i, step) in t.steps.iter().enumerate() {
        out.push(String::new());
        let by = if step.by_dice { format!("   drawn by seed {seed}") } else { String::new() };
        out.push(format!("{}. {}{by}", i + 1, step.called));
        one(&mut out, step, draws);
    }
    if let Some(n) = &t.stopped {
        out.push(String::new());
        stopped(&mut out, t, n);
    }
    out.push(String::new());
    if t.score != 0 {
        out.push(format!("score {}", t.score));
    }
    out.extend(t.tallies.iter().map(|(name, n)| format!("{name} {n}")));
    if verdict {
        out.push(match t.first_fatal_move {
            Some(i) => {
                let name = t.steps[i - 1].called.split(" / ").next().unwrap_or_default();
                format!("first fatal move: {i}. {name}")
            }
            None => "no fatal move".into(),
        });
        if let Some(by) = stopped_line(a) {
            out.push(format!("the space was not seen whole: {by}"));
        }
    }
    out
}

fn one(out: &mut Vec<String>, step: &PlayedMove, draws: bool) {
    let phases =
        step.events.iter().filter_map(|e| if let Event::Phase(name, _) = e { Some(name) } else { None });
    let names: Vec<&String> = phases.collect();
    let mut rounds: HashMap<&str, usize> = HashMap::new();
    let mut drawn = false;
    for event in &step.events {
        match event {
            Event::Phase(name, position) => {
                let round = rounds.entry(name).or_default();
                *round += 1;
                // Phases that come again are numbered.
                let again = names.iter().filter(|n| **n == name).count() > 1;
                let number = if again { format!(" {round}") } else { String::new() };
                out.push(format!("   phase {name}{number}"));
                out.extend(position_lines(position));
                drawn = position.state == step.position.state;
            }
            Event::Draw(what, chance, of) if draws => {
                out.push(format!("   draw {what}: chance {chance}, one of {of}"));
            }
            Event::Draw(..) => {}
            Event::Note(text, at) => {
                let at = at.as_ref().map_or(String::new(), |p| format!(" at {p}"));
                out.push(format!("   {text}{at}"));
            }
        }
    }
    if step.set_aside {
        out.push("   set aside: the cascade goes on past its bound".into());
    } else if !drawn {
        out.extend(position_lines(&step.position));
    }
    if step.score != 0 {
        out.push(format!("score {}", step.score));
    }
    if draws && step.draws {
        out.push(format!("this outcome has the chance {}, {:.4} %", step.chance, 100.0 * step.about));
    }
    out.extend(step.ended.clone().or(step.class.map(words)));
    if step.fatal {
        out.push("this move is fatal".into());
    }
}

fn stopped(out: &mut Vec<String>, t: &Trace, n: &NotMade) {
    let number = t.steps.len() + 1;
    match (n.line, &n.at) {
        (Some(line), Some(at)) => {
            out.push(format!("{number}. {} is refused: {}", n.name, n.why));
            let at = if at.is_empty() { String::new() } else { format!(", at {}", at.join(", ")) };
            out.push(format!("   {}:{line}{at}", t.model_file));
            out.extend(drawn_lines(&n.position.drawn, &n.cells.iter().copied().collect()));
        }
        _ if n.why == "not offered" => out.push(format!("{number}. {} is not offered here", n.name)),
        _ => {
            let how = n.why.trim_start_matches("the game has ended: ");
            out.push(format!("{number}. {} comes after the end: {how}", n.name));
        }
    }
}
