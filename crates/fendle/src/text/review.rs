//! `review` as text.

use fendle_ask::Answer;
use fendle_ask::review::{Attempt, Review};
use fendle_core::Class;
use fendle_core::numbers::counted;
use fendle_view::text::table;

use super::{head, stopped_line, wrapped};

/// What each move of a play cost.
pub fn lines(a: &Answer<Review>) -> Vec<String> {
    let r = &a.found;
    let mut out = head(&a.asked, &r.start);
    if let Some(by) = stopped_line(a) {
        out.push(format!(
            "not everything was seen: {by}; `?` is not decided, and a distance is told only where nothing unseen can be nearer"
        ));
    }
    if !r.complete && a.stopped_by.is_none() {
        out.extend(wrapped(
            "the level is too large to be seen whole: distances are what some of its things alone need at the least, and what is called dead is proved",
        ));
    }
    if r.if_lucky {
        out.push("distances and costs are those of lucky draws: a bad draw costs moves too".into());
    }
    let mut rows: Vec<Vec<String>> = r.steps.iter().map(row).collect();
    let mut names = vec!["move", "", "moves to a goal", "afterwards", "cost"];
    // With chance also what became of the best chance to win.
    if r.steps.iter().any(|a| a.chances.is_some()) {
        names.extend(["best chance", "given away", "after the draw"]);
        for (row, a) in rows.iter_mut().zip(&r.steps) {
            let note = row.pop().unwrap_or_default();
            row.extend(worth(a));
            row.push(note);
        }
    }
    names.push("");
    let lines = table(&names, &rows);
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
            if r.first_proved {
                out.push(format!("first move that is proved fatal: move {i}, {name}; {after}"));
                out.push("whether the position before it could still be won is not decided".into());
            } else {
                out.push(format!("first fatal move: move {i}, {name}; {after}"));
                out.push(format!("before it {lost}"));
            }
        }
        _ if r.minimum.is_some() => out.push(format!("no fatal move; {lost}")),
        _ => {}
    }
    let given: Vec<(f64, &Attempt)> = (r.steps.iter())
        .filter_map(|a| Some((a.chances?.given_away().0, a)))
        .filter(|(away, _)| *away > 1e-9)
        .collect();
    if let Some((away, worst)) = given.iter().max_by(|a, b| a.0.total_cmp(&b.0)) {
        let n = counted(given.len() as u64, "move gave", "moves gave");
        let number = worst.number.unwrap_or(0);
        out.push(format!("{n} chance away; most: move {number}, {}, {:.3} %", worst.name, 100.0 * away));
    }
    if r.not_played > 0 {
        let n = counted(r.not_played as u64, "move was", "moves were");
        out.push(format!("{n} not played: the game had ended"));
    }
    out
}

/// What a move did to the best chance to win.
fn worth(a: &Attempt) -> [String; 3] {
    let Some(c) = &a.chances else { return ["-".into(), "-".into(), "-".into()] };
    let (least, most) = c.given_away();
    // What is no more than rounding is nothing.
    let away = if most < 1e-9 { "0".into() } else { format!("{:.3} %", 50.0 * (least + most)) };
    let share = |b: (f64, f64)| format!("{:.3} %", 50.0 * (b.0 + b.1));
    [share(c.before), away, share(c.after)]
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
