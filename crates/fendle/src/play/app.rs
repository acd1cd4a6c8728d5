//! What a key does while a level is played.

use std::collections::HashMap;

use fendle_ask::light::Light;
use fendle_ask::playing::{Playing, Try};
use fendle_core::numbers::counted;
use fendle_lang::model::Extent;

use fendle_view::tiles::Theme;

use super::keys::{Bindings, Key};

/// What is to be done outside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wish {
    /// Nothing.
    Nothing,
    /// The risk of each cell is to be shown.
    Risk,
    /// The game is left.
    Leave,
}

/// What keys mean now.
#[derive(Clone, Debug)]
pub enum Mode {
    /// They play.
    Play,
    /// Characters look for a move by its name.
    Search(String),
    /// One of these moves is picked by its label.
    Pick(Vec<usize>),
    /// One of the outcomes of this move is picked by its label: draws and chances.
    Draws(usize, Vec<(String, String)>),
    /// Phases of the last move pass by: which one.
    Phases(usize),
    /// Lines are read; any key goes on.
    Read(Vec<String>),
}

/// Labels of what is picked from a list.
pub const LABELS: &str = "123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ";

/// A game under way, and what is shown of it.
pub struct App<'l> {
    /// The play.
    pub playing: Playing<'l>,
    /// Which keys make which moves.
    pub bindings: Bindings,
    /// What keys mean now.
    pub mode: Mode,
    /// The cursor: row and column.
    pub cursor: (usize, usize),
    /// Arrows move the cursor.
    pub cursor_on: bool,
    /// Cells that refused the last move.
    pub marks: Vec<(usize, usize)>,
    /// What was said last.
    pub message: Vec<String>,
    /// Phases of the last move, with the states then.
    pub phases: Vec<(String, Vec<i32>)>,
    /// Phases are shown one by one.
    pub watches: bool,
    /// Draws are picked and not thrown.
    pub picks_draws: bool,
    /// For which background colours are chosen.
    pub theme: Theme,
    /// Lines that the board is scrolled by.
    pub scroll: u16,
    /// Moves that are allowed, by number.
    pub allowed: Vec<usize>,
    lights: HashMap<Vec<i32>, Light>,
}

impl<'l> App<'l> {
    /// A play that begins.
    pub fn new(playing: Playing<'l>, theme: Theme) -> App<'l> {
        let bindings = Bindings::of(playing.level());
        let cursor_on = bindings.arrows.is_empty() && !bindings.cells.is_empty();
        let allowed = playing.allowed();
        App {
            playing,
            bindings,
            mode: Mode::Play,
            cursor: (0, 0),
            cursor_on,
            marks: vec![],
            message: vec![],
            phases: vec![],
            watches: false,
            picks_draws: false,
            theme,
            scroll: 0,
            allowed,
            lights: HashMap::new(),
        }
    }

    /// Whether it is known if a state can be won.
    pub fn knows(&self, state: &[i32]) -> bool {
        self.lights.contains_key(state)
    }

    /// Whether anything is known.
    pub fn knows_any(&self) -> bool {
        !self.lights.is_empty()
    }

    /// Takes what is known of a state.
    pub fn take_light(&mut self, state: Vec<i32>, light: Light) {
        self.lights.insert(state, light);
    }

    /// What is known of where play stands.
    pub fn light(&self) -> Option<&Light> {
        self.lights.get(self.playing.state())
    }

    /// The number of the move after which it was dead, as far as it is known.
    pub fn dead_since(&self) -> Option<usize> {
        let states = self.playing.states();
        states.iter().position(|s| matches!(self.lights.get(s), Some(Light::Dead(_))))
    }

    /// The fewest moves from the start, where that is known.
    pub fn minimum(&self) -> Option<u32> {
        match self.lights.get(&self.playing.level().game.bound.position) {
            Some(Light::CanBeWon { moves, fewest: true, .. }) => Some(*moves),
            _ => None,
        }
    }

    /// Whether a key asks what is known of where play stands.
    pub fn wants_light(&self, key: Key) -> bool {
        matches!(self.mode, Mode::Play) && key == Key::Char('h')
    }

    fn scroll(&mut self, up: bool) {
        self.scroll = if up { self.scroll.saturating_sub(5) } else { self.scroll.saturating_add(5) };
    }

    /// Shows lines until a key is pressed.
    pub fn show(&mut self, lines: Vec<String>) {
        self.scroll = 0;
        self.mode = Mode::Read(lines);
    }

    /// The moves that are picked from the list on the screen, by number.
    pub fn listed(&self) -> Vec<usize> {
        match &self.mode {
            Mode::Pick(list) => list.clone(),
            Mode::Search(text) => self.matching(text),
            _ => {
                let level = self.playing.level();
                self.allowed.iter().copied().filter(|n| !self.bindings.covers(level, *n)).collect()
            }
        }
    }

    /// All moves whose names hold a text, those that are allowed first.
    fn matching(&self, text: &str) -> Vec<usize> {
        let table = &self.playing.level().moves;
        let fits = |n: &usize| table.name(*n).contains(text);
        let allowed: Vec<usize> = self.allowed.iter().copied().filter(fits).collect();
        let others = (0..table.list.len()).filter(|n| !self.allowed.contains(n) && fits(n));
        allowed.iter().copied().chain(others).collect()
    }

    /// Takes a key.
    pub fn key(&mut self, key: Key) -> Wish {
        match std::mem::replace(&mut self.mode, Mode::Play) {
            Mode::Play => return self.play(key),
            Mode::Read(lines) => match key {
                Key::Page(up) => {
                    self.scroll(up);
                    self.mode = Mode::Read(lines);
                }
                _ => self.scroll = 0,
            },
            Mode::Search(text) => self.search(text, key),
            Mode::Pick(list) => {
                if let Some(number) = picked(key).and_then(|i| list.get(i).copied()) {
                    self.make(number);
                }
            }
            Mode::Draws(number, list) => {
                if let Some(i) = picked(key).filter(|i| *i < list.len()) {
                    self.made(number, Some(i));
                }
            }
            Mode::Phases(at) => {
                if key != Key::Esc && at + 1 < self.phases.len() {
                    self.mode = Mode::Phases(at + 1);
                }
            }
        }
        Wish::Nothing
    }

    fn search(&mut self, mut text: String, key: Key) {
        match key {
            Key::Esc => return,
            Key::Enter => {
                match self.matching(&text).first() {
                    Some(&number) => self.make(number),
                    None => self.say(format!("no move is called `{text}`")),
                }
                return;
            }
            Key::Backspace => {
                text.pop();
            }
            Key::Char(c) => text.push(c),
            _ => {}
        }
        self.mode = Mode::Search(text);
    }

    fn say(&mut self, text: impl Into<String>) {
        self.message = vec![text.into()];
    }

    fn play(&mut self, key: Key) -> Wish {
        let (rows, cols) = (self.playing.shown().rows, self.playing.shown().cols);
        match key {
            Key::Arrow(d, shift) => {
                if self.cursor_on && !shift {
                    let (r, c) = self.cursor;
                    self.cursor = match d {
                        0 => (r.saturating_sub(1), c),
                        1 => (r, (c + 1).min(cols.saturating_sub(1))),
                        2 => ((r + 1).min(rows.saturating_sub(1)), c),
                        _ => (r, c.saturating_sub(1)),
                    };
                    return Wish::Nothing;
                }
                match self.bindings.by_arrow(self.playing.level(), d, shift) {
                    Some(number) => self.make(number),
                    None => self.say("no move is made by this key; ? shows which are"),
                }
            }
            Key::Enter | Key::Char(' ') => self.at_cursor(key == Key::Enter),
            Key::Page(up) => self.scroll(up),
            Key::Char('u') => self.jump(|p| p.undo(), "nothing is left to take back"),
            Key::Char('r') => self.jump(|p| p.redo(), "nothing was taken back"),
            Key::Char('s') => self.jump(
                |p| {
                    p.restart();
                    true
                },
                "",
            ),
            Key::Char('b') => {
                self.playing.mark();
                self.say(format!("bookmark after {} moves; g goes there", self.playing.len()));
            }
            Key::Char('g') => self.jump(|p| p.to_mark(), "there is no bookmark on this way; b sets one"),
            Key::Char('h') => self.hint(),
            Key::Char('k') if self.playing.level().game.bound.model.hides() => return Wish::Risk,
            Key::Char('k') => self.say("nothing is hidden in this level"),
            Key::Char('p') => {
                self.watches = !self.watches;
                let how = if self.watches { "one by one; any key goes on" } else { "at once" };
                self.say(format!("the phases of a move are shown {how}"));
            }
            Key::Char('d') => {
                self.picks_draws = !self.picks_draws;
                let how = if self.picks_draws { "are picked from a list" } else { "fall by the seed" };
                self.say(format!("draws {how}"));
            }
            Key::Char('c') if !self.bindings.cells.is_empty() => {
                self.cursor_on = !self.cursor_on || self.bindings.arrows.is_empty();
                self.say(if self.cursor_on { "arrows move the cursor" } else { "arrows make moves" });
            }
            Key::Char('/') => self.mode = Mode::Search(String::new()),
            Key::Char('y') => self.mode = Mode::Read(self.copies()),
            Key::Char('?') => self.mode = Mode::Read(self.help()),
            Key::Char('q') | Key::Esc => return Wish::Leave,
            _ => {
                let list = self.listed();
                match picked(key).and_then(|i| list.get(i).copied()) {
                    Some(number) => self.make(number),
                    None => self.say("this key does nothing; ? shows which do"),
                }
            }
        }
        Wish::Nothing
    }

    /// Goes elsewhere on the way.
    fn jump(&mut self, go: impl FnOnce(&mut Playing<'l>) -> bool, none: &str) {
        self.marks.clear();
        self.message.clear();
        if go(&mut self.playing) {
            self.allowed = self.playing.allowed();
        } else {
            self.say(none);
        }
    }

    /// The moves about the cell under the cursor: the first kind by Return, the second by Space, or a list.
    fn at_cursor(&mut self, first: bool) {
        let level = self.playing.level();
        if self.bindings.cells.is_empty() {
            return self.say("no move is about a cell");
        }
        if !self.cursor_on {
            self.cursor_on = true;
            return self.say("arrows move the cursor; c ends that");
        }
        let cell = self.cursor.0 * self.playing.shown().cols + self.cursor.1;
        let all = self.bindings.by_cell(level, cell);
        let mut list: Vec<usize> = all.iter().copied().filter(|n| self.allowed.contains(n)).collect();
        let kind = self.bindings.cells.get(usize::from(!first));
        let of_kind: Vec<usize> =
            list.iter().copied().filter(|n| Some(&level.moves.list[*n].0) == kind).collect();
        if !of_kind.is_empty() {
            list = of_kind;
        }
        match list.as_slice() {
            // The first that is refused says why.
            [] => match all.first() {
                Some(&number) => self.make(number),
                None => self.say("no move is about this cell"),
            },
            [one] => self.make(*one),
            _ => self.mode = Mode::Pick(list),
        }
    }

    /// Makes a move, or asks first what is to be drawn.
    fn make(&mut self, number: usize) {
        if self.picks_draws {
            match self.playing.outcomes(number) {
                Ok(list) if list.len() > 1 && list.len() <= LABELS.len() => {
                    self.mode = Mode::Draws(number, list);
                    return;
                }
                _ => {}
            }
        }
        self.made(number, None);
    }

    fn made(&mut self, number: usize, outcome: Option<usize>) {
        self.marks.clear();
        self.phases.clear();
        let name = self.playing.level().moves.name(number).to_string();
        match self.playing.make(number, outcome) {
            Ok(Try::Made { called, phases, notes, score }) => {
                let gained = if score == 0 { String::new() } else { format!("; score {score:+}") };
                self.message = vec![format!("{called}{gained}")];
                self.message.extend(notes);
                self.phases = phases;
                self.allowed = self.playing.allowed();
                if self.watches && !self.phases.is_empty() {
                    self.mode = Mode::Phases(0);
                }
            }
            Ok(Try::Refused(why, cells)) => {
                self.say(format!("{name} is refused: {why}"));
                self.marks = cells;
            }
            Ok(Try::NotOffered) => self.say(format!("{name} is not offered here")),
            Ok(Try::Ended(how)) => self.say(format!("the game has ended: {how}; u takes the last move back")),
            Err(fault) => self.say(format!("the model breaks on {name}: {fault}")),
        }
    }

    fn hint(&mut self) {
        let table = &self.playing.level().moves;
        let text = match self.light() {
            None => "still looking".to_string(),
            Some(Light::CanBeWon { next: Some(n), .. }) => format!("hint: {}", table.name(*n)),
            Some(Light::CanBeWon { .. }) => "it can be won; what is alike is not told apart here".into(),
            Some(Light::Dead(why)) => {
                let since = match self.dead_since() {
                    None | Some(0) => "it was dead from the start".to_string(),
                    Some(n) => {
                        let moves = self.playing.made();
                        format!("move {n}, {}, was fatal; u takes moves back", moves[n - 1])
                    }
                };
                let why = why.as_ref().map(|w| format!(": {w}")).unwrap_or_default();
                format!("{since}{why}")
            }
            Some(Light::Ended(how)) => format!("the game has ended: {how}"),
            Some(Light::NotKnown(why)) => format!("not known: {why}"),
        };
        self.say(text);
    }

    /// Where play stands, as it is copied.
    fn copies(&self) -> Vec<String> {
        let level = self.playing.level();
        let b = &level.game.bound;
        let (start, here) = (b.line_parts(&b.position), b.line_parts(self.playing.state()));
        let is_single = |name: &str| b.model.var(name).is_some_and(|v| b.model.vars[v].shape == Extent::One);
        let given = |word: &str, (name, text): &(String, String)| match is_single(name) {
            true if word == "see" => format!("    see ({name} == {text})"),
            true => format!("    {word} {name} = {text}"),
            false => format!("    {word} {name} \"{text}\""),
        };
        let mut out =
            vec!["as --at takes it:".to_string(), b.shown_line(self.playing.state()), String::new()];
        out.push("as the start of a level, beside its values:".into());
        out.extend(here.iter().map(|(name, text)| format!("start.{name} = \"{text}\"")));
        out.push(String::new());
        out.push("as an example of the model, with the values of the level to be added:".into());
        out.push(format!(
            "example \"{}, {}\" {{",
            level.name,
            counted(self.playing.len() as u64, "move", "moves")
        ));
        out.extend(start.iter().map(|part| given("start", part)));
        if !self.playing.is_empty() {
            out.push(format!("    do {}", self.playing.made().join("; ")));
        }
        out.extend(here.iter().map(|part| given("see", part)));
        out.push("}".into());
        out
    }

    fn help(&self) -> Vec<String> {
        let model = &self.playing.level().game.bound.model;
        let name = |of: &usize| model.moves[*of].name.clone();
        let mut out = vec!["keys that make moves".to_string()];
        for (of, keys) in self.bindings.arrows.iter().zip(["arrows", "Shift and arrows"]) {
            out.push(format!("  {keys:20} {}", name(of)));
        }
        for (of, key) in self.bindings.cells.iter().zip(["Return", "Space"]) {
            out.push(format!("  {key:20} {} at the cursor", name(of)));
        }
        if !self.bindings.cells.is_empty() && !self.bindings.arrows.is_empty() {
            out.push(format!("  {:20} arrows move the cursor, or make moves", "c"));
        }
        out.push(format!("  {:20} moves of the list", "1 to 9, A to Z"));
        out.push(format!("  {:20} looks for a move by its name; Return makes the first", "/"));
        out.push(String::new());
        out.push("other keys".into());
        for (key, what) in [
            ("u, r", "take a move back, make it again"),
            ("s", "back to the start"),
            ("b, g", "set a bookmark, go there"),
            ("h", "a hint: the best move, or which move was fatal"),
            ("k", "the risk of each cell, where things are hidden"),
            ("p", "watch the phases of a move one by one"),
            ("d", "pick what is drawn, with its chance"),
            ("y", "where play stands, to be copied"),
            ("PageUp, PageDown", "scroll"),
            ("q", "leave"),
        ] {
            out.push(format!("  {key:20} {what}"));
        }
        out
    }
}

/// Which entry of a list a key picks.
fn picked(key: Key) -> Option<usize> {
    let Key::Char(c) = key else { return None };
    LABELS.find(c)
}
