//! A level beside a running game that plays the same: in step, breadth first, so that the first difference is a shortest one.
//!
//! What is said goes through [`Speaks`]: requests and answers of JSON-RPC 2.0. A position is what is drawn of it: boards as rows of cells, and
//! other values by name, each as the text that the model draws.

use std::collections::{BTreeMap, HashSet, VecDeque};

use fendle_core::Limit;
use fendle_lang::play::{Played, Tried, merged, step};
use fendle_lang::run::RunFault;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::answer::{Answer, Asked, Trouble, Verdict, trouble_of};
use crate::budget::Budget;
use crate::knowledge::needs_layout;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::show::status_text;

/// A game that answers requests.
pub trait Speaks {
    /// Asks, and waits for the answer.
    ///
    /// # Errors
    ///
    /// Words: it has ended, it takes too long, it says something else, or it says that something is wrong.
    fn call(&mut self, method: &str, params: Value) -> Result<Value, String>;
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
    pub fn position(&self, position: &Position) -> Value {
        let boards: serde_json::Map<String, Value> = (position.drawn.pictures.iter())
            .map(|p| {
                let row = |r: &Vec<String>| -> Vec<String> {
                    r.iter().map(|g| self.of_glyph(g).to_string()).collect()
                };
                (self.of_value(&p.name).to_string(), json!(p.rows.iter().map(row).collect::<Vec<_>>()))
            })
            .collect();
        let values: serde_json::Map<String, Value> =
            (position.drawn.values.iter()).map(|(n, v)| (self.of_value(n).to_string(), json!(v))).collect();
        json!({"boards": boards, "values": values})
    }

    fn of_glyph<'a>(&'a self, glyph: &'a str) -> &'a str {
        self.glyphs.get(glyph).map_or(glyph, String::as_str)
    }
}

impl Names {
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

/// What a game is.
#[derive(Clone, Debug, Deserialize)]
struct About {
    /// It can be put into any position.
    #[serde(default)]
    places: bool,
    /// It tells which moves are allowed.
    #[serde(default)]
    tells_allowed: bool,
}

/// What differs between the model and the game.
#[derive(Clone, Debug, Serialize)]
pub struct Difference {
    /// Its kind, in a word or two.
    pub kind: &'static str,
    /// What differs, in words.
    pub words: String,
    /// The moves to where it shows.
    pub moves: Vec<String>,
    /// The move that shows it, where one does.
    #[serde(rename = "move")]
    pub of: Option<String>,
    /// The position before it.
    pub before: Position,
    /// The position after it, in the model.
    pub model: Option<Position>,
    /// The position after it, as the game tells it.
    pub game: Option<Value>,
}

/// What the comparison found.
#[derive(Clone, Debug, Serialize)]
pub struct Compared {
    /// Positions in which both stood.
    pub positions: u64,
    /// Moves that were tried in both.
    pub tried: u64,
    /// All reachable positions were compared.
    pub complete: bool,
    /// What differs, nearest first.
    pub differences: Vec<Difference>,
}

/// How what a new beginning leaves behind is told.
const RESET: &str = "a new beginning is not where the level begins";
/// Differences after which even `all` is enough.
const DIFFERENCES_MAX: usize = 40;
/// Moves that are made twice, to see whether they do the same.
const TWICE: u64 = 400;

/// Compares a level with a game. `all`: goes on after the first difference, to further kinds.
///
/// # Errors
///
/// [`Trouble`] when the model breaks, or the game cannot be asked at all.
pub fn compare_game(
    store: &Store,
    level: &Loaded,
    game: &mut dyn Speaks,
    (names, all): (&Names, bool),
    budget: &Budget,
) -> Result<Answer<Compared>, Trouble> {
    needs_layout(level, "compare --game")?;
    let about = match game.call("about", json!({"level": level.name})) {
        Ok(about) => about,
        Err(words) => {
            return Err(budget
                .stopped()
                .map_or(Trouble::Message(format!("the game: {words}")), Trouble::Limit));
        }
    };
    let about: About = serde_json::from_value(about)
        .map_err(|e| Trouble::Message(format!("the game: its answer to `about` is not understood: {e}")))?;
    let mut out = Lockstep {
        level,
        game,
        names,
        about,
        found: Compared { positions: 0, tried: 0, complete: false, differences: vec![] },
        kinds: HashSet::new(),
    };
    let start = level.game.bound.position.clone();
    let mut met: HashSet<Vec<i32>> = HashSet::from([start.clone()]);
    let mut open: VecDeque<(Vec<i32>, Vec<String>)> = VecDeque::from([(start, vec![])]);
    let mut limit = None;
    let most = budget.limits().max_states;
    while let Some((state, way)) = open.pop_front() {
        limit = budget.stopped().or((out.found.positions >= most).then_some(Limit::MaxStates));
        if limit.is_some() {
            break;
        }
        let broke = |f: RunFault| trouble_of(store, level, budget, &f, (&state, None));
        out.found.positions += 1;
        let next = out.position(&state, &way).map_err(broke)?;
        // An answer that was not waited for differs in nothing.
        limit = budget.stopped();
        if limit.is_some() {
            out.found.differences.retain(|d| d.kind != "no answer");
            break;
        }
        for (to, name) in next {
            if met.insert(to.clone()) {
                let mut way = way.clone();
                way.push(name);
                open.push_back((to, way));
            }
        }
        let enough = out.found.differences.len() >= if all { DIFFERENCES_MAX } else { 1 };
        if enough || out.is_over() {
            break;
        }
    }
    let mut found = out.found;
    if !all {
        found.differences.truncate(1);
    }
    found.complete = limit.is_none() && open.is_empty() && found.differences.is_empty();
    let holds = match (found.differences.is_empty(), limit) {
        (false, _) => Verdict::Fails,
        (true, None) => Verdict::Holds,
        (true, Some(_)) => Verdict::Undecided,
    };
    let limit = limit.filter(|l| holds == Verdict::Undecided || *l == Limit::Interrupted);
    let positions = found.positions;
    Ok(Answer::new(Asked::of(level), holds, found).stopped(limit, budget).took(budget, positions))
}

struct Lockstep<'g> {
    level: &'g Loaded,
    game: &'g mut dyn Speaks,
    names: &'g Names,
    about: About,
    found: Compared,
    kinds: HashSet<&'static str>,
}

/// What the game tells after a request: a position, how the game stands, the score that was gained.
#[derive(Clone, Debug, Deserialize)]
struct Told {
    /// The move was made; a game that leaves it out has made it.
    #[serde(default = "yes")]
    allowed: bool,
    #[serde(default)]
    position: Option<Value>,
    #[serde(default)]
    status: Option<String>,
    #[serde(default)]
    score: Option<i64>,
}

fn yes() -> bool {
    true
}

impl Lockstep<'_> {
    /// Compares one position and all of its moves; gives the positions that they lead to, where both agree.
    fn position(&mut self, state: &[i32], way: &[String]) -> Result<Vec<(Vec<i32>, String)>, RunFault> {
        let b = &self.level.game.bound;
        let before = Position::new(b, state);
        let told = match self.go_to(&before, way) {
            Ok(told) => told,
            Err(words) => {
                self.differs("no answer", words, way, None, (&before, None, None));
                return Ok(vec![]);
            }
        };
        if let Some(words) = self.apart(&told, state) {
            let kind = if way.is_empty() { "start" } else { "board" };
            self.differs(kind, words, way, None, (&before, Some(&before), told.position));
            return Ok(vec![]);
        }
        let moves = &self.level.moves;
        let tries: Vec<(usize, Tried)> = (0..moves.list.len())
            .map(|n| Ok((n, step(b, moves, state, n, false)?)))
            .collect::<Result<_, RunFault>>()?;
        if self.about.tells_allowed {
            self.allowed(&tries, way, &before);
        }
        let mut next = vec![];
        // Where the game stands now: at this position, as long as nothing was made.
        let mut stands = true;
        for (n, tried) in tries {
            let name = moves.name(n).to_string();
            let outcomes = match tried {
                Tried::Made(list) => merged(list),
                Tried::Refused { .. } => vec![],
                Tried::NotOffered | Tried::Ended(_) => continue,
            };
            if !stands && let Err(words) = self.go_to(&before, way) {
                self.differs("no answer", words, way, Some(&name), (&before, None, None));
                return Ok(next);
            }
            self.found.tried += 1;
            stands = outcomes.is_empty();
            match self.made(&name, &outcomes, way, &before) {
                // A game that only plays cannot be led to what it draws by itself.
                Some(_) if self.about.places => {
                    next.extend(outcomes.into_iter().map(|p| (p.made.state, name.clone())));
                }
                Some(played) if outcomes.len() == 1 => next.push((played.made.state, name.clone())),
                _ => {}
            }
            if self.is_over() {
                return Ok(next);
            }
        }
        Ok(next)
    }

    /// Tries a move in the game. Gives the outcome that the game came to, where the model has it.
    fn made(
        &mut self,
        name: &str,
        outcomes: &[Played],
        way: &[String],
        before: &Position,
    ) -> Option<Box<Played>> {
        let b = &self.level.game.bound;
        let told = match self.ask_move(name) {
            Ok(told) => told,
            Err(words) => {
                self.differs("no answer", words, way, Some(name), (before, None, None));
                return None;
            }
        };
        let first = outcomes.first().map(|p| Position::new(b, &p.made.state));
        if outcomes.is_empty() {
            if told.allowed {
                let words = "the model refuses this move, and the game makes it".to_string();
                self.differs("allowed", words, way, Some(name), (before, None, told.position));
            } else if let Some(words) = self.apart(&told, &before.state) {
                let words = format!("the move is refused, and changes something all the same: {words}");
                self.differs(
                    "refused and changed",
                    words,
                    way,
                    Some(name),
                    (before, Some(before), told.position),
                );
            }
            return None;
        }
        if !told.allowed {
            let words = "the model makes this move, and the game refuses it".to_string();
            self.differs("allowed", words, way, Some(name), (before, first.as_ref(), told.position));
            return None;
        }
        let fits = outcomes.iter().find(|p| self.apart(&told, &p.made.state).is_none());
        let Some(played) = fits.cloned() else {
            let (kind, words) = match outcomes {
                [one] => {
                    let words = self.apart(&told, &one.made.state).unwrap_or_default();
                    (if words.starts_with("the status") { "status" } else { "board" }, words)
                }
                _ => (
                    "draw",
                    format!("the game comes to none of the {} outcomes of the model", outcomes.len()),
                ),
            };
            self.differs(kind, words, way, Some(name), (before, first.as_ref(), told.position));
            return None;
        };
        if let Some(score) = told.score.filter(|s| *s != played.made.score) {
            let words =
                format!("the score grows by {score} in the game, and by {} in the model", played.made.score);
            self.differs("score", words, way, Some(name), (before, first.as_ref(), told.position.clone()));
            return None;
        }
        // Nothing is drawn: once more from the same position.
        if outcomes.len() == 1 && self.found.tried <= TWICE {
            let again = self.go_to(before, way).and_then(|_| self.ask_move(name));
            if let Ok(again) = again
                && (again.allowed, &again.position, &again.status) != (true, &told.position, &told.status)
            {
                let words = "the same move from the same position does two things, though nothing is drawn";
                self.differs(
                    "two results",
                    words.into(),
                    way,
                    Some(name),
                    (before, first.as_ref(), again.position),
                );
                return None;
            }
        }
        Some(Box::new(played))
    }

    /// What the game says is allowed.
    fn allowed(&mut self, tries: &[(usize, Tried)], way: &[String], before: &Position) {
        let Ok(list) = self.game.call("allowed", json!({})) else { return };
        let Some(list) = list.get("moves").and_then(Value::as_array) else { return };
        let theirs: HashSet<&str> = list.iter().filter_map(Value::as_str).collect();
        let moves = &self.level.moves;
        for (n, tried) in tries {
            let is = matches!(tried, Tried::Made(_));
            if theirs.contains(self.names.of_move(moves.name(*n))) != is {
                let words = match is {
                    true => "it is allowed in the model, and not in the game's list",
                    false => "it is in the game's list of what is allowed, and refused in the model",
                };
                self.differs("listed", words.into(), way, Some(moves.name(*n)), (before, None, None));
            }
        }
    }

    /// Nothing more can be asked.
    fn is_over(&self) -> bool {
        self.kinds.contains("no answer") || self.kinds.contains("reset")
    }

    fn differs(
        &mut self,
        kind: &'static str,
        words: String,
        way: &[String],
        of: Option<&str>,
        (before, model, game): (&Position, Option<&Position>, Option<Value>),
    ) {
        let kind = if words.starts_with(RESET) { "reset" } else { kind };
        // One of each kind is enough.
        if self.kinds.insert(kind) {
            self.found.differences.push(Difference {
                kind,
                words,
                moves: way.to_vec(),
                of: of.map(Into::into),
                before: before.clone(),
                model: model.cloned(),
                game,
            });
        }
    }

    /// Leads the game to a position: puts it there, or plays the way anew.
    fn go_to(&mut self, position: &Position, way: &[String]) -> Result<Told, String> {
        if self.about.places {
            let params = json!({"position": self.names.position(position)});
            return self.game.call("place", params).and_then(|v| read("place", v));
        }
        let params = json!({"level": self.level.name});
        let mut told: Told = self.game.call("begin", params).and_then(|v| read("begin", v))?;
        if let Some(words) = self.apart(&told, &self.level.game.bound.position) {
            return Err(format!("{RESET}: {words}"));
        }
        for name in way {
            told = self.ask_move(name)?;
            if !told.allowed {
                return Err(format!(
                    "`{name}` was made before, and is refused when it is played again after a new beginning"
                ));
            }
        }
        Ok(told)
    }

    fn ask_move(&mut self, name: &str) -> Result<Told, String> {
        let params = json!({"move": self.names.of_move(name)});
        self.game.call("move", params).and_then(|v| read("move", v))
    }

    /// In what something told differs from a state of the model; what the game does not tell does not differ.
    fn apart(&self, told: &Told, state: &[i32]) -> Option<String> {
        let b = &self.level.game.bound;
        if let Some(position) = &told.position {
            let drawn = Position::new(b, state).drawn;
            for p in &drawn.pictures {
                let Some(board) = position["boards"].get(self.names.of_value(&p.name)) else { continue };
                let Some(rows) = rows_of(board) else {
                    return Some(format!("the board {} is no list of rows", p.name));
                };
                if rows.len() != p.rows.len() || rows.iter().zip(&p.rows).any(|(a, b)| a.len() != b.len()) {
                    return Some(format!("the board {} has another size", p.name));
                }
                for (r, (theirs, ours)) in rows.iter().zip(&p.rows).enumerate() {
                    for (c, (x, y)) in theirs.iter().zip(ours).enumerate() {
                        if x != self.names.of_glyph(y) {
                            let (r, c) = (r + 1, c + 1);
                            return Some(format!("r{r}c{c} is `{x}` in the game, and `{y}` in the model"));
                        }
                    }
                }
            }
            for (name, ours) in &drawn.values {
                let Some(theirs) = position["values"].get(self.names.of_value(name)) else { continue };
                let theirs = theirs.as_str().map_or_else(|| theirs.to_string(), String::from);
                if theirs != *ours {
                    return Some(format!("{name} is {theirs} in the game, and {ours} in the model"));
                }
            }
        }
        let ours = match fendle_lang::run::Eval::new(b).status(state) {
            Ok(None) => "running",
            Ok(Some(e)) => match b.model.endings.get(e).map(|e| e.kind) {
                Some(fendle_lang::model::EndKind::Goal) => "won",
                Some(fendle_lang::model::EndKind::Lost) => "lost",
                _ => "over",
            },
            Err(_) => return None,
        };
        match &told.status {
            Some(theirs) if theirs != ours => {
                let more =
                    if ours == "running" { String::new() } else { format!(" ({})", status_text(b, state)) };
                Some(format!("the status is {theirs} in the game, and {ours} in the model{more}"))
            }
            _ => None,
        }
    }
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

fn read(method: &str, value: Value) -> Result<Told, String> {
    serde_json::from_value(value).map_err(|e| format!("its answer to `{method}` is not understood: {e}"))
}
