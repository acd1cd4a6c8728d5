//! `fendle play`: a level played by hand.

use std::io::IsTerminal as _;
use std::path::Path;

use fendle_ask::infer::infer;
use fendle_ask::playing::Playing;
use fendle_ask::{Loaded, Want};
use serde_json::json;

use crate::args::{LevelArgs, ThemeArg};
use crate::play::app::App;
use crate::play::{Asks, by_keys, in_terminal, keys};
use crate::session::{Ended, Session, Trouble};
use crate::text;

struct Asking<'s> {
    session: &'s mut Session,
}

impl Asks for Asking<'_> {
    fn risk(&mut self, level: &Loaded) -> Vec<String> {
        match infer(&self.session.store, level, None, &self.session.budget) {
            Ok(answer) => text::infer::lines(&answer, level, false).into_iter().skip(2).collect(),
            Err(_) => vec!["the risk cannot be told here".into()],
        }
    }
}

/// Runs the command. `given`: keys that are pressed where there is no terminal.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    (given, record): (Option<&str>, Option<&Path>),
    theme: ThemeArg,
) -> Ended {
    let given = given.map(keys::parse).transpose().map_err(Trouble::words)?;
    let level = s.load(args, Want::One)?;
    if given.is_none() && !(std::io::stdout().is_terminal() && std::io::stdin().is_terminal()) {
        return Err(Trouble::words(
            "there is no terminal to play in; --keys \"right right u\" plays without one",
        ));
    }
    let mut app = App::new(Playing::new(&level, s.common.seed), theme.theme());
    let wanted = *s.budget.wanted();
    let budget = std::sync::Arc::clone(&s.budget);
    let lines = match &given {
        Some(given) => by_keys(&mut app, given, &mut Asking { session: s }, &budget),
        None => {
            in_terminal(&mut app, &mut Asking { session: s }, wanted)?;
            let made = app.playing.made();
            let mut lines = vec![format!(
                "{}: {}",
                level.name,
                fendle_core::numbers::counted(made.len() as u64, "move", "moves")
            )];
            lines.extend(text::move_lines(&made));
            lines
        }
    };
    if s.is_json() {
        let position = app.playing.position(app.playing.state());
        s.json(&json!({
            "level": level.name,
            "moves": app.playing.made(),
            "refused": app.playing.refused,
            "position": position,
            "light": app.light().map(fendle_ask::light::Light::words),
            "screen": lines,
        }))?;
    } else {
        s.lines(lines)?;
    }
    if let Some(path) = record {
        let text = app.playing.record(&args.file.display().to_string());
        s.files.write(path, |out| out.write_all(text.as_bytes()))?;
        s.wrote(&[path.to_path_buf()])?;
    }
    Ok(fendle_ask::End::Yes)
}
