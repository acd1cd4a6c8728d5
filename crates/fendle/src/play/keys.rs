//! Names of keys, and which keys make which moves of a model.

use fendle_ask::Loaded;
use fendle_lang::model::{DIRS, Dom};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// A key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Key {
    /// An arrow, by the number of its direction: up, right, down, left; and whether Shift is held.
    Arrow(u8, bool),
    /// Return.
    Enter,
    /// Escape.
    Esc,
    /// Takes a character back.
    Backspace,
    /// Scrolls: up, or down.
    Page(bool),
    /// A character.
    Char(char),
}

/// Keys from their names: `right`, `shift-right`, `enter`, `space`, or single characters, with blanks between them.
///
/// # Errors
///
/// Words that name what is no key.
pub fn parse(text: &str) -> Result<Vec<Key>, String> {
    text.split_whitespace().map(one).collect()
}

fn one(name: &str) -> Result<Key, String> {
    let arrow = |name: &str| DIRS[..4].iter().position(|d| *d == name).map(|d| d as u8);
    if let Some(d) = arrow(name) {
        return Ok(Key::Arrow(d, false));
    }
    if let Some(d) = name.strip_prefix("shift-").and_then(arrow) {
        return Ok(Key::Arrow(d, true));
    }
    let mut chars = name.chars();
    Ok(match (name, chars.next(), chars.next()) {
        ("enter", ..) => Key::Enter,
        ("esc", ..) => Key::Esc,
        ("space", ..) => Key::Char(' '),
        ("backspace", ..) => Key::Backspace,
        ("pageup", ..) => Key::Page(true),
        ("pagedown", ..) => Key::Page(false),
        (_, Some(c), None) => Key::Char(c),
        _ => {
            return Err(format!(
                "`{name}` is no key; keys are up, right, down, left, shift-up and so on, enter, esc, space, backspace, pageup, pagedown, and single \
                 characters"
            ));
        }
    })
}

/// The key of an event of the terminal.
pub fn of_event(event: KeyEvent) -> Option<Key> {
    let shift = event.modifiers.contains(KeyModifiers::SHIFT);
    Some(match event.code {
        KeyCode::Char('c') if event.modifiers.contains(KeyModifiers::CONTROL) => Key::Char('q'),
        KeyCode::Up => Key::Arrow(0, shift),
        KeyCode::Right => Key::Arrow(1, shift),
        KeyCode::Down => Key::Arrow(2, shift),
        KeyCode::Left => Key::Arrow(3, shift),
        KeyCode::Enter => Key::Enter,
        KeyCode::Esc => Key::Esc,
        KeyCode::Backspace => Key::Backspace,
        KeyCode::PageUp => Key::Page(true),
        KeyCode::PageDown => Key::Page(false),
        KeyCode::Char(c) => Key::Char(c),
        _ => return None,
    })
}

/// Which keys make which moves: from the kinds of a model's moves and what they are about.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Bindings {
    /// Kinds whose one parameter is a direction: the arrows make the first, with Shift the second.
    pub arrows: Vec<usize>,
    /// Kinds with a parameter that is a cell: Return takes those of the cell under the cursor.
    pub cells: Vec<usize>,
}

impl Bindings {
    /// Those of a level.
    pub fn of(level: &Loaded) -> Bindings {
        let mut out = Bindings::default();
        for (of, def) in level.game.bound.model.moves.iter().enumerate() {
            // What the level never offers needs no key.
            if !level.moves.list.iter().any(|m| m.0 == of) {
                continue;
            }
            match def.params.as_slice() {
                [Dom::Dir4 | Dom::Dir8] => out.arrows.push(of),
                params if params.iter().any(|p| matches!(p, Dom::Cell)) => out.cells.push(of),
                _ => {}
            }
        }
        out.arrows.truncate(2);
        out
    }

    /// The move that an arrow makes, by its number.
    pub fn by_arrow(&self, level: &Loaded, direction: u8, shift: bool) -> Option<usize> {
        let kind = *self.arrows.get(usize::from(shift))?;
        level.moves.list.iter().position(|(of, params)| *of == kind && params == &[i64::from(direction)])
    }

    /// The moves about a cell, by number.
    pub fn by_cell(&self, level: &Loaded, cell: usize) -> Vec<usize> {
        let model = &level.game.bound.model;
        let about = |(of, params): &(usize, Vec<i64>)| {
            let cells = model.moves[*of].params.iter().zip(params).filter(|p| matches!(p.0, Dom::Cell));
            self.cells.contains(of) && cells.into_iter().next().is_some_and(|p| *p.1 == cell as i64)
        };
        (0..level.moves.list.len()).filter(|n| about(&level.moves.list[*n])).collect()
    }

    /// Whether keys of their own make a move, so that it need not stand in the list.
    pub fn covers(&self, level: &Loaded, number: usize) -> bool {
        let (of, params) = &level.moves.list[number];
        self.cells.contains(of) || self.arrows.contains(of) && params[0] < 4
    }
}
