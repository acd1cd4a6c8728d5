//! `fendle review`: what each move of a finished or broken-off play cost.

use fendle_core::graph::{Arrows, Distances};
use fendle_core::{Class, Explored, Limit, Model as _};
use fendle_lang::play::{Step, place_name};
use fendle_lang::reasons::dead::is_bad;
use fendle_lang::run::setup::Dice;
use fendle_lang::state::ending_text;
use fendle_view::text::{counted, table};
use serde_json::{Value, json};

use super::why::{explored, needs_known};
use super::{call_text, class_word, head};
use crate::args::{Format, LevelArgs};
use crate::files::{load, parse_moves, play_call};
use crate::watch::{Watcher, limit_text};
use crate::{Exit, Session, Trouble};

/// A position as the review sees it.
#[derive(Clone, Copy)]
struct Seen {
    class: Class,
    /// Moves to the nearest goal.
    far: Option<u32>,
}

impl Seen {
    fn text(self) -> String {
        match (self.class, self.far) {
            (Class::Goal, _) => "won".into(),
            (Class::Winnable, Some(n)) => n.to_string(),
            (Class::Open, _) => "?".into(),
            (class, _) => class_word(class).into(),
        }
    }
}

/// One attempt of the play.
struct Attempt {
    name: String,
    /// Why it was refused.
    refused: Option<String>,
    before: Seen,
    after: Seen,
}

impl Attempt {
    /// Moves lost against the best one; `None` where the way is lost or unknown.
    fn cost(&self) -> Option<u32> {
        match (self.before.far, self.after.far, self.after.class) {
            (Some(was), Some(is), Class::Winnable | Class::Goal) => Some((is + 1).saturating_sub(was)),
            _ => None,
        }
    }

    fn is_fatal(&self) -> bool {
        self.refused.is_none() && self.before.class == Class::Winnable && is_bad(self.after.class)
    }
}

fn look(found: &Explored, far: &Distances, packed: &[u64]) -> Seen {
    match found.space.find(packed) {
        Some(id) => {
            let class = found.space.class(id);
            let far = far.get(id).filter(|_| matches!(class, Class::Goal | Class::Winnable));
            Seen { class, far }
        }
        None => Seen { class: Class::Open, far: None },
    }
}

/// Runs the command.
pub fn run(s: &mut Session, args: &LevelArgs, moves: &str) -> Result<Exit, Trouble> {
    let mut loaded = load(s, args)?;
    needs_known(&loaded.game, args.known, "review")?;
    let list = parse_moves(s, &mut loaded, "MOVES", moves)?;
    let game = &loaded.game;
    let b = &game.bound;
    if !game.has_goal() {
        return Err(Trouble::Message(
            "this model has no goal, so no move leads away from it; `fendle odds` says what each move is worth for its aim"
                .into(),
        ));
    }
    let watcher = Watcher::new(&s.common);
    let found = explored(s, game, &watcher)?;
    let far = Distances::of(&found.space, &Arrows::backward(&found.space));
    watcher.finish();
    let see = |state: &[i32]| look(&found, &far, &game.pack(state));
    let mut state = b.position.clone();
    let start = see(&state);
    let mut attempts: Vec<Attempt> = vec![];
    let mut dice = Dice::new(s.common.seed);
    let mut ended = None;
    let mut unplayed = 0;
    for (i, call) in list.iter().enumerate() {
        let name = loaded.moves.name(call.number).to_string();
        let wrong = |why: String| Trouble::Message(format!("MOVES: move {}, {name}, {why}", i + 1));
        let step = play_call(&loaded, &state, call, false, &mut dice)
            .map_err(|f| wrong(format!("breaks the model: {f}")))?
            .map_err(wrong)?;
        let before = see(&state);
        match step {
            Step::Made(mut outcomes) => {
                let played = outcomes.remove(0);
                let name = call_text(&name, &played);
                state.clone_from(&played.made.state);
                ended = played.ended;
                attempts.push(Attempt { name, refused: None, before, after: see(&state) });
            }
            Step::Refused { site, at } => {
                let places: Vec<String> = at.iter().map(|p| place_name(b, *p)).collect();
                let at = if places.is_empty() { String::new() } else { format!(" at {}", places.join(", ")) };
                let why = format!("{}{at}", b.model.refuses[site].why);
                attempts.push(Attempt { name, refused: Some(why), before, after: before });
            }
            Step::NotOffered => {
                attempts.push(Attempt { name, refused: Some("not offered".into()), before, after: before });
            }
            Step::Ended(_) => {
                unplayed = list.len() - i;
                break;
            }
        }
    }
    let made: Vec<&Attempt> = attempts.iter().filter(|a| a.refused.is_none()).collect();
    let refused = attempts.len() - made.len();
    let fatal = made.iter().position(|a| a.is_fatal());
    let lost_moves: u32 = made.iter().take(fatal.unwrap_or(made.len())).filter_map(|a| a.cost()).sum();
    let last = see(&state);
    let how = match (ended, last.class) {
        (Some(e), _) => ending_text(&b.model.endings[e]),
        (None, Class::Stuck) => "stuck".into(),
        (None, _) => "broken off".into(),
    };
    let exit = match found.counts.limit {
        Some(Limit::Interrupted) => Exit::Interrupted,
        Some(_) if attempts.iter().any(|a| a.after.class == Class::Open) || start.class == Class::Open => {
            Exit::Undecided
        }
        _ => Exit::Yes,
    };
    if s.common.format == Format::Json {
        let mut number = 0;
        let steps: Vec<Value> = attempts
            .iter()
            .map(|a| {
                number += usize::from(a.refused.is_none());
                json!({
                    "number": a.refused.is_none().then_some(number),
                    "move": a.name,
                    "refused": a.refused,
                    "distance_before": a.before.far,
                    "distance_after": a.after.far,
                    "cost": a.cost().filter(|_| a.refused.is_none()),
                    "verdict": class_word(a.after.class),
                    "fatal": a.is_fatal(),
                })
            })
            .collect();
        s.json(&json!({
            "level": loaded.level.name,
            "if_lucky": !game.is_sure(),
            "minimum": start.far,
            "moves": made.len(),
            "refused": refused,
            "moves_lost": lost_moves,
            "first_fatal_move": fatal.map(|i| i + 1),
            "went_on": fatal.map(|i| made.len() - i - 1),
            "ended": how,
            "not_played": unplayed,
            "steps": steps,
            "complete": found.counts.limit.is_none(),
        }))?;
        return Ok(exit);
    }
    head(s, &loaded)?;
    if let Some(limit) = found.counts.limit {
        s.line(format!(
            "not everything was seen: stopped by {}; `?` is not decided, and distances may be too great",
            limit_text(limit, &s.common)
        ))?;
    }
    if !game.is_sure() {
        s.line("distances and costs are those of lucky draws: a bad draw costs moves too")?;
    }
    let mut number = 0;
    let rows: Vec<Vec<String>> = attempts
        .iter()
        .map(|a| {
            number += usize::from(a.refused.is_none());
            let (n, cost, note) = match (&a.refused, a.cost()) {
                (Some(why), _) => ("-".into(), "-".into(), format!("refused: {why}")),
                (None, Some(0)) => (number.to_string(), "0".into(), String::new()),
                (None, Some(c)) => (number.to_string(), format!("+{c}"), String::new()),
                (None, None) if a.is_fatal() => (number.to_string(), "all".into(), "fatal".into()),
                (None, None) => (number.to_string(), "-".into(), String::new()),
            };
            vec![n, a.name.clone(), a.before.text(), a.after.text(), cost, note]
        })
        .collect();
    let lines = table(&["move", "", "moves to a goal", "afterwards", "cost", ""], &rows);
    s.lines(&lines.iter().map(|l| l.trim_end()).collect::<Vec<_>>())?;
    s.line("")?;
    let attempts_word = counted(refused as u64, "refused attempt", "refused attempts");
    s.line(format!(
        "{}, {attempts_word}; {}",
        counted(made.len() as u64, "move", "moves"),
        match (last.class, start.far) {
            (Class::Goal, Some(n)) => format!("won; {} are enough", counted(n.into(), "move", "moves")),
            (_, Some(n)) => format!("{how}; {} would have been enough", counted(n.into(), "move", "moves")),
            (_, None) => format!(
                "{how}; {}",
                match start.class {
                    Class::Open => "whether the start can be won is not decided",
                    _ => "the start cannot be won",
                }
            ),
        }
    ))?;
    match fatal {
        Some(i) => {
            let after = match made.len() - i - 1 {
                0 => "the play ended with it".to_string(),
                n => format!("the play went on for {} after it", counted(n as u64, "move", "moves")),
            };
            s.line(format!("first fatal move: move {}, {}; {after}", i + 1, made[i].name))?;
            s.line(format!(
                "before it {} lost",
                if lost_moves == 1 { "1 move was".into() } else { format!("{lost_moves} moves were") }
            ))?;
        }
        None if start.far.is_some() => {
            s.line(format!(
                "no fatal move; {} lost",
                if lost_moves == 1 { "1 move was".into() } else { format!("{lost_moves} moves were") }
            ))?;
        }
        None => {}
    }
    if unplayed > 0 {
        s.line(format!(
            "{} not played: the game had ended",
            counted(unplayed as u64, "move was", "moves were")
        ))?;
    }
    Ok(exit)
}
