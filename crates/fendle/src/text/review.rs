//! `review` as text.

use fendle_ask::Answer;
use fendle_ask::review::{Attempt, Review};
use fendle_core::Class;
use fendle_core::numbers::counted;
use fendle_view::text::table;

use super::{head, stopped_line};

/// What each move of a play cost.
pub fn lines(a: &Answer<Review>) -> Vec<String> {
    let r = &a.found;
    let mut out = head(&a.asked, &r.start);
    if let Some(by) = stopped_line(a) {
        out.push(format!(
            "not everything was seen: {by}; `?` is not decided, and distances may be too great"
        ));
    }
    if r.if_lucky {
        out.push("distances and costs are those of lucky draws: a bad draw costs moves too".into());
    }
    let rows: Vec<Vec<String>> = r.steps.iter().map(row).collect();
    let lines = table(&["move", "", "moves to a goal", "afterwards", "cost", ""], &rows);
    out.extend(lines.iter().map(|l| l.trim_end().to_string()));
    out.push(String::new());
    let moves = counted(r.moves as u64, "move", "moves");
    let refused = counted(r.refused as u64, "refused attempt", "refused attempts");
    let n = |n: u32| counted(n.into(), "move", "moves");
    let ended = match (r.last.class, r.minimum, r.start_seen.class) {
        (Class::Goal, Some(least), _) => format!("won; {} are enough", n(least)),
        (_, Some(least), _) => format!("{}; {} would have been enough", r.ended, n(least)),
        (_, None, Class::Open) => format!("{}; whether the start can be won is not decided", r.ended),
        (_, None, _) => format!("{}; the start cannot be won", r.ended),
    };
    out.push(format!("{moves}, {refused}; {ended}"));
    let lost = match r.moves_lost {
        1 => "1 move was lost".to_string(),
        n => format!("{n} moves were lost"),
    };
    match (r.first_fatal_move, r.went_on) {
        (Some(i), Some(on)) => {
            let after = match on {
                0 => "the play ended with it".to_string(),
                n => format!("the play went on for {} after it", counted(n as u64, "move", "moves")),
            };
            let name = r.steps.iter().find(|a| a.number == Some(i)).map_or("", |a| a.name.as_str());
            out.push(format!("first fatal move: move {i}, {name}; {after}"));
            out.push(format!("before it {lost}"));
        }
        _ if r.minimum.is_some() => out.push(format!("no fatal move; {lost}")),
        _ => {}
    }
    if r.not_played > 0 {
        let n = counted(r.not_played as u64, "move was", "moves were");
        out.push(format!("{n} not played: the game had ended"));
    }
    out
}

fn row(a: &Attempt) -> Vec<String> {
    let number = a.number.map_or("-".into(), |n| n.to_string());
    let (cost, note) = match (&a.refused, a.cost()) {
        (Some(why), _) => ("-".into(), format!("refused: {why}")),
        (None, Some(0)) => ("0".into(), String::new()),
        (None, Some(c)) => (format!("+{c}"), String::new()),
        (None, None) if a.is_fatal() => ("all".into(), "fatal".into()),
        (None, None) => ("-".into(), String::new()),
    };
    vec![number, a.name.clone(), a.before.text(), a.after.text(), cost, note]
}
