//! A level beside the developer's own game: in step with a running game ([`lockstep`]; what it draws, `draws`, with a test of how often,
//! [`weights`]; what it tells of what is hidden, `unseen`), along plays that it recorded ([`record`]); and a running game as its own model ([`written`]).
//!
//! What is said goes through [`Speaks`]: requests and answers of JSON-RPC 2.0. A position is what is drawn of it: boards as rows of cells, and
//! other values by name, each as the text that the model draws.

mod draws;
pub mod lockstep;
pub mod record;
mod unseen;
pub mod weights;
pub mod written;

use std::collections::BTreeMap;
use std::sync::Arc;

use fendle_lang::play::Played;
use fendle_lang::position::Drawn;
use fendle_lang::run::TraceEvent;
use fendle_lang::{Bound, FileId};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use serde_json::{Value, json};

use crate::position::Position;
use crate::show::{status_text, status_word};

/// A request: a method, and its parameters as a text of JSON, which is made once where the same is asked again.
#[derive(Clone, Debug)]
pub struct Call {
    /// The method.
    pub method: &'static str,
    /// The parameters.
    pub params: Arc<str>,
}

impl Call {
    /// A request with these parameters.
    #[must_use]
    pub fn new(method: &'static str, params: &Value) -> Call {
        Call { method, params: params.to_string().into() }
    }
}

/// A game that answers requests.
pub trait Speaks {
    /// Asks for several things, and waits for the answers; a game need not have answered one to be asked the next. As many answers as requests,
    /// each the text of a result; after one that fails the others fail, too: it has ended, it takes too long, it says something else, or it
    /// says that something is wrong.
    fn call_all(&mut self, calls: &[Call]) -> Vec<Result<Box<RawValue>, String>>;

    /// Asks for one thing, and waits for the answer.
    ///
    /// # Errors
    ///
    /// Words, as above.
    fn call(&mut self, method: &'static str, params: &Value) -> Result<Value, String> {
        let answer = self.call_all(&[Call::new(method, params)]).pop();
        let text = answer.unwrap_or_else(|| Err("it was not asked".into()))?;
        read(method, &text)
    }
}

/// Names of the game for what has other names in the model.
#[derive(Clone, Debug, Default)]
pub struct Names {
    /// Moves: the model's name, the game's.
    pub moves: BTreeMap<String, String>,
    /// Boards and values: the model's name, the game's.
    pub values: BTreeMap<String, String>,
    /// Glyphs of boards: the model's, the game's.
    pub glyphs: BTreeMap<String, String>,
}

impl Names {
    /// The name of a move in the game.
    #[must_use]
    pub fn of_move<'a>(&'a self, name: &'a str) -> &'a str {
        self.moves.get(name).map_or(name, String::as_str)
    }

    fn of_value<'a>(&'a self, name: &'a str) -> &'a str {
        self.values.get(name).map_or(name, String::as_str)
    }

    /// A position as a game is told it: boards as rows of cells, and other values by name.
    #[must_use]
    pub fn position(&self, drawn: &Drawn) -> Value {
        json!(self.placed(drawn))
    }

    /// The same, to be written.
    fn placed<'d>(&'d self, drawn: &'d Drawn) -> Placed<'d> {
        let boards = (drawn.pictures.iter())
            .map(|p| {
                let row = |r: &'d Vec<String>| r.iter().map(|g| self.of_glyph(g)).collect();
                (self.of_value(&p.name), p.rows.iter().map(row).collect())
            })
            .collect();
        let values = drawn.values.iter().map(|(n, v)| (self.of_value(n), v.as_str())).collect();
        Placed { boards, values }
    }

    /// The request that puts a game into a position.
    fn place(&self, drawn: &Drawn) -> Call {
        let text = serde_json::to_string(&self.placed(drawn)).unwrap_or_default();
        Call { method: "place", params: format!("{{\"position\":{text}}}").into() }
    }

    fn of_glyph<'a>(&'a self, glyph: &'a str) -> &'a str {
        self.glyphs.get(glyph).map_or(glyph, String::as_str)
    }

    /// Reads them from the text of a TOML file with tables named moves, values and glyphs.
    ///
    /// # Errors
    ///
    /// What is wrong with it, in words.
    pub fn read(text: &str) -> Result<Names, String> {
        let read: toml_edit::DocumentMut = text.parse().map_err(|e: toml_edit::TomlError| e.to_string())?;
        let mut out = Names::default();
        for (table, item) in read.iter() {
            let names = match table {
                "moves" => &mut out.moves,
                "values" => &mut out.values,
                "glyphs" => &mut out.glyphs,
                other => {
                    return Err(format!("[{other}] is not known; there are [moves], [values] and [glyphs]"));
                }
            };
            let rows = item.as_table_like().ok_or_else(|| format!("{table} is no table of names"))?;
            for (ours, theirs) in rows.iter() {
                let theirs = theirs
                    .as_str()
                    .ok_or_else(|| format!("[{table}] {ours}: the game's name is a text in quotes"))?;
                names.insert(ours.into(), theirs.into());
            }
        }
        Ok(out)
    }
}

/// A position as a game is told it.
#[derive(Serialize)]
struct Placed<'d> {
    boards: BTreeMap<&'d str, Vec<Vec<&'d str>>>,
    values: BTreeMap<&'d str, &'d str>,
}

/// What differs between the model and the game.
#[derive(Clone, Debug, Serialize)]
pub struct Difference {
    /// Its kind, in a word or two.
    pub kind: &'static str,
    /// What differs, in words.
    pub words: String,
    /// The line of the record that shows it, from 1, where there is a record.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// The moves to where it shows.
    pub moves: Vec<String>,
    /// The move that shows it, where one does.
    #[serde(rename = "move")]
    pub of: Option<String>,
    /// The position before it.
    pub before: Position,
    /// The position after it, in the model.
    pub model: Option<Position>,
    /// The phases that the move goes through in the model, and the position at the end of each.
    pub phases: Vec<(String, Position)>,
    /// The position after it, as the game tells it.
    pub game: Option<Value>,
}

/// What the comparison found.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Compared {
    /// Positions in which both stood.
    pub positions: u64,
    /// Moves that were tried in both.
    pub tried: u64,
    /// Pairs of layouts that look the same to the player, and were compared in what the game tells there.
    pub layouts: u64,
    /// All reachable positions were compared.
    pub complete: bool,
    /// What differs, nearest first.
    pub differences: Vec<Difference>,
}

/// What the game tells after a request: a position, how the game stands, the score that was gained, what the player is told.
#[derive(Debug, Deserialize)]
struct Told {
    /// The move was made; a game that leaves it out has made it.
    #[serde(default = "yes")]
    allowed: bool,
    /// The text of the position: most positions are told again and again, and only a text that is new is read.
    #[serde(default)]
    position: Option<Box<RawValue>>,
    #[serde(default)]
    status: Option<String>,
    #[serde(default)]
    score: Option<i64>,
    #[serde(default)]
    told: Option<Box<RawValue>>,
    /// Of one outcome of several: how often it comes, beside the others.
    #[serde(default)]
    weight: Option<u64>,
}

impl Told {
    /// The position, read.
    fn position(&self) -> Option<Value> {
        self.position.as_ref().and_then(|text| serde_json::from_str(text.get()).ok())
    }
}

fn yes() -> bool {
    true
}

impl Difference {
    /// The state that the game tells, where the model has such a one: for a picture.
    #[must_use]
    pub fn game_state(&self, b: &Bound, names: &Names) -> Option<Vec<i32>> {
        let told = self.game.as_ref()?;
        let ours = |table: &BTreeMap<String, String>, theirs: &str| {
            table.iter().find(|(_, t)| *t == theirs).map_or(theirs.to_string(), |(o, _)| o.clone())
        };
        // Glyphs of one character may stand without blanks between them; numbers may not.
        [" ", ""].iter().find_map(|gap| {
            let mut parts = vec![];
            for p in &self.before.drawn.pictures {
                let rows = rows_of(&told["boards"][names.of_value(&p.name)])?;
                let row =
                    |r: &Vec<String>| r.iter().map(|g| ours(&names.glyphs, g)).collect::<Vec<_>>().join(gap);
                parts.push(format!("{}={}", p.name, rows.iter().map(row).collect::<Vec<_>>().join("/")));
            }
            for (name, _) in &self.before.drawn.values {
                if let Some(value) = told["values"].get(names.of_value(name)) {
                    let value = value.as_str().map_or_else(|| value.to_string(), String::from);
                    parts.push(format!("{name}={value}"));
                }
            }
            b.parse_line(&parts.join("; "), FileId(0), &mut vec![])
        })
    }
}

/// The phases of an outcome; the last one is left out where nothing follows it.
fn phases_of(b: &Bound, played: Option<&Played>) -> Vec<(String, Position)> {
    let Some(Played { made, .. }) = played else { return vec![] };
    let mut out: Vec<(String, Position)> = (made.events.iter())
        .filter_map(|e| match e {
            TraceEvent::Phase { name, state } => Some((name.clone(), Position::new(b, state))),
            _ => None,
        })
        .collect();
    if out.last().is_some_and(|(_, p)| p.state == made.state) {
        out.pop();
    }
    out
}

/// In what something told differs from a state of the model; what the game does not tell does not differ.
fn apart((b, names): (&Bound, &Names), told: &Told, state: &[i32]) -> Option<String> {
    apart_from((b, names), told, state, &Known::of(b, state))
}

/// What is compared of a state.
#[derive(Clone, Debug)]
struct Known {
    drawn: Drawn,
    /// running, won, lost, over
    status: &'static str,
    /// The request that puts a game there, once it was made.
    place: Option<Call>,
    /// The last text of a position that was found to be this one.
    same: Option<Box<RawValue>>,
}

impl Known {
    fn of(b: &Bound, state: &[i32]) -> Known {
        Known { drawn: b.draw(state), status: status_word(b, state), place: None, same: None }
    }
}

/// Whether a board that was told is the one that is drawn.
fn same_board(told: &Value, rows: &[Vec<String>], names: &Names) -> bool {
    let same_row = |(told, row): (&Value, &Vec<String>)| match told {
        Value::String(line) => {
            let mut rest = line.as_str();
            let takes = |glyph: &String| {
                let theirs = names.of_glyph(glyph);
                let one = theirs.chars().count() == 1;
                one && rest.strip_prefix(theirs).map(|after| rest = after).is_some()
            };
            row.iter().all(takes) && rest.is_empty()
        }
        Value::Array(cells) => {
            let same = |(x, y): (&Value, &String)| x.as_str() == Some(names.of_glyph(y));
            cells.len() == row.len() && cells.iter().zip(row).all(same)
        }
        _ => false,
    };
    told.as_array().is_some_and(|t| t.len() == rows.len() && t.iter().zip(rows).all(same_row))
}

/// The same where what is compared of the state is known.
fn apart_from((b, names): (&Bound, &Names), told: &Told, state: &[i32], known: &Known) -> Option<String> {
    if let Some(position) = told.position() {
        if let Some(line) = position.as_str() {
            let ours = b.shown_line(state);
            return (line != ours)
                .then(|| format!("the position is {line} in the game, and {ours} in the model"));
        }
        for p in &known.drawn.pictures {
            let Some(board) = position["boards"].get(names.of_value(&p.name)) else { continue };
            if same_board(board, &p.rows, names) {
                continue;
            }
            let Some(rows) = rows_of(board) else {
                return Some(format!("the board {} is no list of rows", p.name));
            };
            if rows.len() != p.rows.len() || rows.iter().zip(&p.rows).any(|(a, b)| a.len() != b.len()) {
                return Some(format!("the board {} has another size", p.name));
            }
            for (r, (theirs, ours)) in rows.iter().zip(&p.rows).enumerate() {
                for (c, (x, y)) in theirs.iter().zip(ours).enumerate() {
                    if x != names.of_glyph(y) {
                        let (r, c) = (r + 1, c + 1);
                        return Some(format!("r{r}c{c} is `{x}` in the game, and `{y}` in the model"));
                    }
                }
            }
        }
        for (name, ours) in &known.drawn.values {
            let Some(theirs) = position["values"].get(names.of_value(name)) else { continue };
            let theirs = theirs.as_str().map_or_else(|| theirs.to_string(), String::from);
            if theirs != *ours {
                return Some(format!("{name} is {theirs} in the game, and {ours} in the model"));
            }
        }
    }
    status_apart(b, told, state, known)
}

/// In what the status that was told differs.
fn status_apart(b: &Bound, told: &Told, state: &[i32], known: &Known) -> Option<String> {
    let ours = known.status;
    match &told.status {
        Some(theirs) if theirs != ours => {
            let more =
                if ours == "running" { String::new() } else { format!(" ({})", status_text(b, state)) };
            Some(format!("the status is {theirs} in the game, and {ours} in the model{more}"))
        }
        _ => None,
    }
}

/// The outcome that is nearest to what was told, by the cells that look otherwise; the first of several.
fn nearest<'p>((b, names): (&Bound, &Names), told: &Told, outcomes: &'p [Played]) -> Option<&'p Played> {
    let position = told.position();
    let apart = |played: &Played| -> usize {
        let drawn = b.draw(&played.made.state);
        let boards = (drawn.pictures.iter()).filter_map(|p| {
            let rows = rows_of(&position.as_ref()?["boards"][names.of_value(&p.name)])?;
            let cells = rows.iter().flatten().zip(p.rows.iter().flatten());
            Some(cells.filter(|(x, y)| **x != names.of_glyph(y)).count())
        });
        boards.sum()
    };
    outcomes.iter().min_by_key(|p| apart(p))
}

/// What kind of difference words tell, and the words; `many`: the move has several outcomes, and this is about the nearest one.
fn kind_of(words: String, many: usize) -> (&'static str, String) {
    let kind = if words.starts_with("the status") { "status" } else { "board" };
    if many == 1 || kind == "status" {
        return (kind, words);
    }
    (
        "draw",
        format!("the game comes to none of the {many} outcomes of the model; in the nearest one {words}"),
    )
}

/// Rows of cells: lists of texts, or texts of one character a cell.
fn rows_of(board: &Value) -> Option<Vec<Vec<String>>> {
    let text = |v: &Value| v.as_str().map_or_else(|| v.to_string(), String::from);
    (board.as_array()?.iter())
        .map(|row| match row {
            Value::String(line) => Some(line.chars().map(String::from).collect()),
            Value::Array(cells) => Some(cells.iter().map(text).collect()),
            _ => None,
        })
        .collect()
}

fn read<T: DeserializeOwned>(method: &str, text: &RawValue) -> Result<T, String> {
    serde_json::from_str(text.get()).map_err(|e| format!("its answer to `{method}` is not understood: {e}"))
}
