//! A running game as its own model: its positions and moves are asked for, one after the other, and written down as a model whose rules are a
//! table. Every other question then works on it as on any level.

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::fmt::Write as _;

use fendle_core::Limit;
use fendle_lang::state::TABLE_MAX;
use serde_json::{Value, json};

use super::{Speaks, rows_of};
use crate::answer::Trouble;
use crate::budget::Budget;

/// Moves that are made twice, to see whether they do the same.
const TWICE: usize = 200;
/// Positions that are written down: the table of a model holds no more.
const POSITIONS_MAX: usize = 60_000;

/// A game, written down.
#[derive(Clone, Debug)]
pub struct Written {
    /// The text of the model.
    pub model: String,
    /// The text of its level.
    pub level: String,
}

/// One position, as the game tells it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct Shown {
    boards: BTreeMap<String, Vec<Vec<String>>>,
    values: BTreeMap<String, String>,
    /// running, won, lost, over
    status: String,
}

fn shown(told: &Value) -> Result<Shown, Trouble> {
    let position = &told["position"];
    let mut out = Shown {
        boards: BTreeMap::new(),
        values: BTreeMap::new(),
        status: told["status"].as_str().unwrap_or("running").to_string(),
    };
    for (name, board) in position["boards"].as_object().into_iter().flatten() {
        let rows = rows_of(board).filter(|r| r.first().is_some_and(|f| r.iter().all(|x| x.len() == f.len())));
        let rows = rows.ok_or_else(|| {
            Trouble::Message(format!("the game: the board {name} is no list of rows of one length"))
        })?;
        out.boards.insert(name.clone(), rows);
    }
    for (name, value) in position["values"].as_object().into_iter().flatten() {
        out.values.insert(name.clone(), value.as_str().map_or_else(|| value.to_string(), String::from));
    }
    if out.boards.is_empty() && out.values.is_empty() {
        return Err("the game tells no position: neither boards nor values".into());
    }
    Ok(out)
}

/// A move of a position that was written down: its name, and what it leads to, each with its weight.
struct Choice {
    name: String,
    to: Vec<(usize, u64)>,
}

/// Moves from the start; with each the number of the outcome, where there are several.
type Way = Vec<(String, Option<usize>)>;

struct Asker<'g> {
    game: &'g mut dyn Speaks,
    places: bool,
    /// It tells all outcomes of a move.
    lists: bool,
    level: Option<String>,
    budget: &'g Budget,
}

impl Asker<'_> {
    fn call(&mut self, method: &'static str, params: Value) -> Result<Value, Trouble> {
        self.game.call(method, &params).map_err(|words| match self.budget.stopped() {
            Some(limit) => Trouble::Limit(limit),
            None => Trouble::Message(format!("the game: {words}")),
        })
    }

    /// What a move leads to, each with its weight. `stands`: the game is at the position already; `twice`: it is looked whether it does the same
    /// once more.
    fn outcomes(
        &mut self,
        (position, way): (&Value, &[(String, Option<usize>)]),
        name: &str,
        stands: bool,
        twice: bool,
    ) -> Result<Vec<(Value, u64)>, Trouble> {
        let called: Vec<&str> = way.iter().map(|w| w.0.as_str()).collect();
        let after = format!("after {}", if called.is_empty() { "nothing".into() } else { called.join("; ") });
        let wrong = |words: &str| Trouble::Message(format!("the game: {after}, `{name}` {words}"));
        if !stands {
            self.go_to(position, way)?;
        }
        if self.lists {
            let told = self.call("outcomes", json!({"move": name}))?;
            let list = told["outcomes"].as_array().cloned().unwrap_or_default();
            if list.is_empty() {
                return Err(wrong("is among what is allowed, and has no outcome"));
            }
            return Ok(list
                .into_iter()
                .map(|t| (t["weight"].as_u64().unwrap_or(1), t))
                .map(|(w, t)| (t, w))
                .collect());
        }
        let told = self.call("move", json!({"move": name}))?;
        if told["allowed"] == json!(false) {
            return Err(wrong("is among what is allowed, and is refused"));
        }
        if twice {
            self.go_to(position, way)?;
            let again = self.call("move", json!({"move": name}))?;
            if shown(&again)? != shown(&told)? {
                return Err(wrong(
                    "does two things; a game that draws has to list its `outcomes`, and one that keeps something that it does not tell cannot be its own model",
                ));
            }
        }
        Ok(vec![(told, 1)])
    }

    fn go_to(&mut self, position: &Value, way: &[(String, Option<usize>)]) -> Result<(), Trouble> {
        if self.places {
            self.call("place", json!({"position": position}))?;
            return Ok(());
        }
        self.call("begin", json!({"level": self.level}))?;
        for (name, outcome) in way {
            let mut params = json!({"move": name});
            if let Some(k) = outcome {
                params["outcome"] = json!(k);
            }
            self.call("move", params)?;
        }
        Ok(())
    }
}

/// Asks a game for everything that it can come to, and writes it down. `level` is handed on to the game.
///
/// # Errors
///
/// [`Trouble`] when the game cannot be asked, draws by itself, or is not seen whole within the limits.
pub fn written(game: &mut dyn Speaks, level: Option<&str>, budget: &Budget) -> Result<Written, Trouble> {
    let mut ask = Asker { game, places: false, lists: false, level: level.map(String::from), budget };
    let about = ask.call("about", json!({"level": level}))?;
    ask.places = about["places"].as_bool().unwrap_or(false);
    ask.lists = about["outcomes"].as_bool().unwrap_or(false);
    if !about["tells_allowed"].as_bool().unwrap_or(false) {
        return Err("a game that is its own model has to tell which moves are allowed: `tells_allowed` and the method `allowed`".into());
    }
    let start = ask.call("begin", json!({"level": level}))?;
    let mut list: Vec<Shown> = vec![shown(&start)?];
    let mut index: HashMap<Shown, usize> = HashMap::from([(list[0].clone(), 0)]);
    let mut next: Vec<Vec<Choice>> = vec![];
    let mut open: VecDeque<(Value, Way)> = VecDeque::from([(start["position"].clone(), vec![])]);
    let mut tried = 0;
    let most = budget.limits().max_states.min(POSITIONS_MAX as u64) as usize;
    while let Some((position, way)) = open.pop_front() {
        if let Some(limit) = budget.stopped() {
            return Err(Trouble::Limit(limit));
        }
        let at = next.len();
        let mut moves = vec![];
        if list[at].status == "running" {
            ask.go_to(&position, &way)?;
            let told = ask.call("allowed", json!({}))?;
            let names: Vec<String> = (told["moves"].as_array().into_iter().flatten())
                .filter_map(|m| m.as_str().map(String::from))
                .collect();
            for (n, name) in names.into_iter().enumerate() {
                let stands = n == 0;
                tried += 1;
                let outcomes = ask.outcomes((&position, &way), &name, stands, tried <= TWICE)?;
                let mut to = vec![];
                for (k, (told, weight)) in outcomes.iter().enumerate() {
                    let shown = shown(told)?;
                    let number = *index.entry(shown.clone()).or_insert(list.len());
                    if number == list.len() {
                        if list.len() >= most {
                            let limit = (most < POSITIONS_MAX).then_some(Limit::MaxStates);
                            return Err(limit.map_or_else(
                                || Trouble::Undecided(format!("the game has more than {POSITIONS_MAX} positions, which is as many as are written down")),
                                Trouble::Limit,
                            ));
                        }
                        list.push(shown);
                        let mut way = way.clone();
                        way.push((name.clone(), (outcomes.len() > 1).then_some(k)));
                        open.push_back((told["position"].clone(), way));
                    }
                    to.push((number, *weight));
                }
                moves.push(Choice { name, to });
            }
        }
        next.push(moves);
    }
    let title = about["name"].as_str().unwrap_or("game").to_string();
    write(&list, &next, &title, level.unwrap_or("game"))
}

/// How the names of what a written model needs for itself begin; names of the game do not begin so.
const OWN: [&str; 10] = ["at_", "how_", "look_", "of_", "to_", "kind_", "n_", "first_", "last_", "often_"];

/// Names of the language for names of the game, each its own.
#[derive(Default)]
struct Names(BTreeSet<String>);

impl Names {
    fn of(&mut self, text: &str) -> String {
        let mut name: String = text
            .chars()
            .map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' })
            .collect();
        if !name.starts_with(|c: char| c.is_ascii_lowercase()) {
            name.insert(0, 'n');
        }
        if OWN.iter().any(|own| name.starts_with(own)) {
            name.insert_str(0, "n_");
        }
        let known = name.clone();
        let mut n = 2;
        while is_word(&name) || !self.0.insert(name.clone()) {
            name = format!("{known}_{n}");
            n += 1;
        }
        name
    }
}

/// Whether a model with a variable of this name is refused: it is a word of the language.
fn is_word(name: &str) -> bool {
    let text = format!("model m\nstate {name}: 0..1\nmove go {{ {name} = 1 }}\ngoal {name} == 1\n");
    fendle_lang::compile(fendle_lang::FileId(0), &text, &mut vec![]).is_none()
}

/// A glyph as a drawing of the language can hold it.
fn glyph(text: &str, number: usize) -> String {
    let fits = !text.is_empty() && !text.contains(|c: char| c.is_whitespace() || "\"'\\/".contains(c));
    if fits { text.to_string() } else { format!("?{number}") }
}

fn write(list: &[Shown], next: &[Vec<Choice>], title: &str, level: &str) -> Result<Written, Trouble> {
    let same = list.iter().all(|s| s.boards.keys().eq(list[0].boards.keys()));
    let same = same && list.iter().all(|s| s.values.keys().eq(list[0].values.keys()));
    if !same {
        return Err("the game tells other boards or values in one position than in another".into());
    }
    let mut pen = Pen { list, start: "start.at_ = 0\n".into(), ..Pen::new(list) };
    let n = list.len();
    let _ = writeln!(
        pen.model,
        "// Written down from a running game: {n} positions, all that can be reached.\nmodel game\n"
    );
    let _ = writeln!(pen.model, "state at_: 0..{}", n - 1);
    // Boards of another size than the first are told as a text.
    let mut extra: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for name in list[0].boards.keys() {
        if !pen.board(name)? {
            let text = |s: &Shown| s.boards[name].iter().map(|r| r.concat()).collect::<Vec<_>>().join("/");
            extra.insert(name, list.iter().map(text).collect());
        }
    }
    for name in list[0].values.keys() {
        extra.insert(name, list.iter().map(|s| s.values[name].clone()).collect());
    }
    extra.iter().for_each(|(name, texts)| pen.value(name, texts));
    let how = list.iter().map(|s| match s.status.as_str() {
        "won" => "1",
        "lost" => "2",
        "running" => "0",
        _ => "3",
    });
    let how: Vec<&str> = how.collect();
    let _ = writeln!(pen.model, "level how_: array 0..{} of 0..3\n", n - 1);
    let _ = writeln!(pen.values, "values.how_ = [{}]", how.join(", "));
    let _ = writeln!(pen.model, "proc look_() {{\n{}}}\n", pen.looks);
    let called: BTreeSet<&String> = next.iter().flatten().map(|m| &m.name).collect();
    called.into_iter().try_for_each(|name| pen.a_move(name, next))?;
    let Pen { mut model, values, start, .. } = pen;
    let _ = writeln!(model, "goal how_[at_] == 1\nlost when how_[at_] == 2 because \"the game says so\"");
    let _ = writeln!(model, "over when how_[at_] == 3 because \"the game says so\"\nstatus goal, lost, over");
    let quoted_title = json!(title).to_string();
    let level = format!(
        "model = \"game.fendle\"\ntitle = {quoted_title}\n\n[[level]]\nname = {}\n{start}{values}",
        json!(level)
    );
    Ok(Written { model, level })
}

/// Writes a model and a level, side by side.
struct Pen<'s> {
    list: &'s [Shown],
    names: Names,
    model: String,
    /// Values of the level, one list for all positions.
    values: String,
    /// Statements that make what is shown that of the position.
    looks: String,
    /// Where the level begins.
    start: String,
}

impl<'s> Pen<'s> {
    fn new(list: &'s [Shown]) -> Pen<'s> {
        let empty = String::new;
        Pen { list, names: Names::default(), model: empty(), values: empty(), looks: empty(), start: empty() }
    }

    /// A board by its glyphs; false, and nothing is written, where it is not of the size of the first one everywhere.
    fn board(&mut self, name: &str) -> Result<bool, Trouble> {
        let list = self.list;
        let of = |s: &'s Shown| &s.boards[name];
        let (rows, cols) = list[0].boards.values().next().map_or((1, 1), |rows| (rows.len(), rows[0].len()));
        if !list.iter().all(|s| (of(s).len(), of(s)[0].len()) == (rows, cols)) {
            return Ok(false);
        }
        let (n, cells) = (list.len(), rows * cols);
        if (n * cells) as i64 > TABLE_MAX {
            return Err(Trouble::Undecided(format!(
                "the game has {n} positions of {cells} cells, more than are written down"
            )));
        }
        let own = self.names.of(name);
        let glyphs: BTreeSet<&String> = list.iter().flat_map(|s| of(s).iter().flatten()).collect();
        let number: HashMap<&String, usize> = glyphs.iter().copied().zip(0..).collect();
        let (model, most) = (&mut self.model, glyphs.len() - 1);
        let _ = writeln!(model, "state {own}: grid of 0..{most} sized ({rows}, {cols})");
        let _ = writeln!(model, "level look_{own}: array 0..{} of 0..{most}", n * cells - 1);
        let _ = writeln!(model, "show {own} {{");
        for (g, text) in glyphs.iter().enumerate() {
            let _ = writeln!(model, "    {g} \"{}\"", glyph(text, g));
        }
        let _ = writeln!(model, "}}");
        let _ = writeln!(
            self.looks,
            "    for c on {own} {{ {own}[c] = look_{own}[at_ * {cells} + (row(c) - 1) * cols() + col(c) - 1] }}"
        );
        let all: Vec<String> =
            list.iter().flat_map(|s| of(s).iter().flatten()).map(|g| number[g].to_string()).collect();
        let _ = writeln!(self.values, "values.look_{own} = [{}]", all.join(", "));
        let row = |r: &Vec<String>| r.iter().map(|g| glyph(g, number[g])).collect::<Vec<_>>().join(" ");
        let drawn: Vec<String> = of(&list[0]).iter().map(row).collect();
        let _ = writeln!(self.start, "start.{own} = '''\n{}\n'''", drawn.join("\n"));
        Ok(true)
    }

    /// A value that is told beside the boards: a number where it is one everywhere, or one of the words that it is.
    fn value(&mut self, name: &str, texts: &[String]) {
        let own = self.names.of(name);
        let numbers: Option<Vec<i64>> = texts.iter().map(|t| t.parse().ok()).collect();
        let (written, ty): (Vec<String>, String) =
            match numbers.filter(|v| v.iter().all(|x| x.abs() <= 1_000_000)) {
                Some(v) => {
                    let (lo, hi) = (v.iter().min().unwrap_or(&0), v.iter().max().unwrap_or(&0));
                    (v.iter().map(ToString::to_string).collect(), format!("{lo}..{hi}"))
                }
                None => {
                    let words: BTreeSet<&String> = texts.iter().collect();
                    let words: HashMap<&String, String> =
                        words.into_iter().map(|t| (t, self.names.of(&format!("{own} {t}")))).collect();
                    let mut listed: Vec<&str> = words.values().map(String::as_str).collect();
                    listed.sort_unstable();
                    let _ = writeln!(self.model, "enum kind_{own} {{ {} }}", listed.join(", "));
                    (texts.iter().map(|t| words[t].clone()).collect(), format!("kind_{own}"))
                }
            };
        let last = self.list.len() - 1;
        let _ = writeln!(self.model, "state {own}: {ty}\nlevel of_{own}: array 0..{last} of {ty}");
        let _ = writeln!(self.looks, "    {own} = of_{own}[at_]");
        let _ = writeln!(self.values, "values.of_{own} = [{}]", quoted(&written));
        let _ = writeln!(self.start, "start.{own} = {}", quoted(&written[..1]));
    }

    /// A move: where it leads from each position, by number.
    fn a_move(&mut self, name: &str, next: &[Vec<Choice>]) -> Result<(), Trouble> {
        let own = self.names.of(name);
        let of = |moves: &Vec<Choice>| moves.iter().position(|m| m.name == *name);
        if next.iter().filter_map(|m| Some(&m[of(m)?])).any(|m| m.to.len() > 1) {
            return write_drawn((&mut self.model, &mut self.values), next, (name, &own));
        }
        let n = self.list.len();
        let _ = writeln!(self.model, "level to_{own}: array 0..{} of 0..{n} = 0", n - 1);
        let _ = writeln!(
            self.model,
            "move {own} {{\n    refuse \"the game refuses it\" unless to_{own}[at_] > 0\n    at_ = to_{own}[at_] - 1\n    look_()\n}}\n"
        );
        let to: Vec<String> =
            (next.iter()).map(|moves| of(moves).map_or(0, |at| moves[at].to[0].0 + 1).to_string()).collect();
        let _ = writeln!(self.values, "values.to_{own} = [{}]", to.join(", "));
        Ok(())
    }
}

/// A move that draws: where its outcomes begin and end in a list of all of them, for each position.
fn write_drawn(
    (model, values): (&mut String, &mut String),
    next: &[Vec<Choice>],
    (name, own): (&str, &str),
) -> Result<(), Trouble> {
    let (mut first, mut last, mut to, mut often) = (vec![], vec![], vec![], vec![]);
    for moves in next {
        let outcomes = moves.iter().find(|m| m.name == name).map_or(&[][..], |m| &m.to[..]);
        first.push(to.len().to_string());
        to.extend(outcomes.iter().map(|o| o.0.to_string()));
        often.extend(outcomes.iter().map(|o| o.1));
        last.push((to.len() as i64 - 1).to_string());
    }
    let most = often.iter().copied().max().unwrap_or(1);
    if to.len() as i64 > TABLE_MAX || most > 1_000_000 {
        return Err(Trouble::Undecided(format!(
            "the game's `{name}` has {} outcomes with weights up to {most}, more than are written down",
            to.len()
        )));
    }
    let often: Vec<String> = often.iter().map(ToString::to_string).collect();
    let (n, m) = (next.len(), to.len());
    let _ = write!(
        model,
        "level first_{own}: array 0..{0} of 0..{m}\nlevel last_{own}: array 0..{0} of -1..{1}\nlevel to_{own}: array 0..{1} of 0..{0}\n\
         level often_{own}: array 0..{1} of 0..{most}\n\
         move {own} {{\n    refuse \"the game refuses it\" unless last_{own}[at_] >= first_{own}[at_]\n    \
         let k = draw(k in first_{own}[at_]..last_{own}[at_] weight often_{own}[k])\n    at_ = to_{own}[k]\n    look_()\n}}\n\n",
        n - 1,
        m - 1,
    );
    for (table, list) in [("first", first), ("last", last), ("to", to), ("often", often)] {
        let _ = writeln!(values, "values.{table}_{own} = [{}]", list.join(", "));
    }
    Ok(())
}

/// Values of a level file: numbers plain, words in quotes.
fn quoted(list: &[String]) -> String {
    let one = |t: &String| if t.parse::<i64>().is_ok() { t.clone() } else { format!("\"{t}\"") };
    list.iter().map(one).collect::<Vec<_>>().join(", ")
}
