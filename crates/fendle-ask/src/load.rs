//! Texts to levels that can be asked about.
//!
//! A [`Store`] keeps every text that was read, for diagnostics, and every model once. Where texts come from is the
//! [`Provider`]'s business: this room opens no file.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use fendle_lang::code::native::WhenItPays;
use fendle_lang::model::{Model, VarId};
use fendle_lang::play::{Call, MoveTable, Tried, merged, step_drawn, step_or_follow, with_draws};
use fendle_lang::reasons::keeps::game_of;
use fendle_lang::run::scatter::{hidden_vars, scatter};
use fendle_lang::run::setup::{self, Dice, NoStart};
use fendle_lang::run::{Drawn, Eval, MOVES_MAX, RunFault, TooLarge};
use fendle_lang::source::near;
use fendle_lang::state::{Chance, Stop};
use fendle_lang::syntax::level::{Key, Level, LevelFile, Raw, RawKind, read_on};
use fendle_lang::{Bound, Diagnostic, FileId, Game, Sources, Span, bind, bind_until, compile};
use serde::{Serialize, Serializer};
use serde_json::json;

use crate::answer::{Trouble, limit_of};
use crate::budget::Budget;

/// Gives texts by name.
pub trait Provider {
    /// The text of a file.
    ///
    /// # Errors
    ///
    /// Words for what went wrong.
    fn read(&self, path: &Path) -> Result<String, String>;

    /// Whether there is such a file.
    fn exists(&self, path: &Path) -> bool;

    /// The names of the library's models.
    fn library(&self) -> Vec<&'static str>;

    /// The text of a model of the library.
    fn library_model(&self, name: &str) -> Option<&'static str>;
}

/// Everything loaded so far.
#[derive(Default)]
pub struct Store {
    /// The texts.
    pub sources: Sources,
    models: Vec<(String, Option<Arc<Model>>)>,
}

impl Store {
    /// A model by the name that a level file gives: a library name, or a path from that file.
    pub fn model(
        &mut self,
        texts: &dyn Provider,
        name: &Key,
        level_file: FileId,
        from: &Path,
        errors: &mut Vec<Diagnostic>,
    ) -> Option<Arc<Model>> {
        let path = from.parent().unwrap_or(Path::new(".")).join(&name.text);
        let library = texts.library_model(&name.text);
        let key =
            if library.is_some() { format!("library {}", name.text) } else { path.display().to_string() };
        if let Some((_, model)) = self.models.iter().find(|(k, _)| *k == key) {
            if model.is_none() {
                let text = format!("the model `{}` has errors", name.text);
                errors.push(Diagnostic::error("L050", level_file, name.span, text));
            }
            return model.clone();
        }
        let text = match library {
            Some(source) => source.to_string(),
            None if !texts.exists(&path) => {
                errors.push(no_such_model(texts, name, &path, level_file));
                return None;
            }
            None => match texts.read(&path) {
                Ok(text) => text,
                Err(words) => {
                    errors.push(Diagnostic::error("L051", level_file, name.span, words));
                    return None;
                }
            },
        };
        let shown = if library.is_some() { format!("{}.fendle", name.text) } else { key.clone() };
        self.compile_as(key, &shown, &text, errors)
    }

    /// Compiles a model file, once, under its path.
    pub fn compile(&mut self, path: String, text: &str, errors: &mut Vec<Diagnostic>) -> Option<Arc<Model>> {
        match self.models.iter().find(|(k, _)| *k == path) {
            Some((_, model)) => model.clone(),
            None => self.compile_as(path.clone(), &path, text, errors),
        }
    }

    fn compile_as(
        &mut self,
        key: String,
        shown: &str,
        text: &str,
        errors: &mut Vec<Diagnostic>,
    ) -> Option<Arc<Model>> {
        let file = self.sources.add(shown, text);
        let mut own = vec![];
        let model = compile(file, text, &mut own).map(Arc::new);
        errors.extend(own);
        self.models.push((key, model.clone()));
        model
    }

    /// Reads a level file that is at hand as text, and its model.
    pub fn levels(
        &mut self,
        texts: &dyn Provider,
        path: &Path,
        text: String,
        errors: &mut Vec<Diagnostic>,
    ) -> Option<(LevelFile, Arc<Model>)> {
        let file = self.sources.add(path.display().to_string(), text.clone());
        let before = errors.len();
        let levels = read_on(file, &text, errors)?;
        let model = self.model(texts, &levels.model, file, path, errors)?;
        if errors.len() > before {
            // Nothing is made of it; what else is wrong with its levels is told in the same run.
            for level in &levels.levels {
                bind(&model, file, level, &[], errors);
            }
            return None;
        }
        Some((levels, model))
    }
}

fn no_such_model(texts: &dyn Provider, name: &Key, path: &Path, level_file: FileId) -> Diagnostic {
    let text = format!("no model is named `{}`, and there is no file {}", name.text, path.display());
    let mut error = Diagnostic::error("L051", level_file, name.span, text);
    let known = texts.library();
    if let Some(n) = near(&name.text, known.iter().copied()) {
        error = error.note(format!("did you mean `{n}`?"));
    }
    error.note(format!("the library has: {}; any other name is a path from the level file", known.join(", ")))
}

/// Which level is asked about, and from which position.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wish {
    /// The level file.
    pub file: PathBuf,
    /// Which level of it, by name; the first by default.
    pub level: Option<String>,
    /// Begin at this position.
    pub at: Option<String>,
    /// Play these moves first.
    pub after: Option<String>,
    /// Show positions as the player sees them.
    pub as_player: bool,
    /// Take the layout as known.
    pub known: bool,
    /// Level values, `NAME=VALUE`.
    pub sets: Vec<String>,
}

/// Which starts of a setup a question works on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Want {
    /// One, by seed.
    One,
    /// All of them where they can be enumerated, else one by seed.
    All,
}

/// A level ready to be asked about.
pub struct Loaded {
    /// The level's name.
    pub name: String,
    /// Its title, if it has one.
    pub level_title: String,
    /// What the file is called.
    pub file_title: String,
    /// What the level expects of itself.
    pub expect: Vec<(Key, Raw)>,
    /// What was given beside the file: `NAME=VALUE`.
    pub sets: Vec<String>,
    /// Whether play begins elsewhere than the level says.
    pub moved: bool,
    /// The layout is taken as known.
    pub known: bool,
    /// The level file holds so many levels, and this is the first for want of a name.
    pub one_of: Option<usize>,
    /// The game, begun at the wanted position.
    pub game: Game,
    /// Its moves by name.
    pub moves: MoveTable,
    /// How play begins.
    pub begin: Begin,
    /// The moves that were played first.
    pub played: Vec<usize>,
    /// The states on the way, from where play began to the position.
    pub history: Vec<Vec<i32>>,
}

impl Loaded {
    /// `Ferry deck: two lorries late (slide, 3 x 3)`.
    #[must_use]
    pub fn title(&self) -> String {
        let b = &self.game.bound;
        let file = if self.file_title.is_empty() { String::new() } else { format!("{}: ", self.file_title) };
        let own = if self.level_title.is_empty() { String::new() } else { format!(", {}", self.level_title) };
        let size = if b.rows > 0 { format!(", {} x {}", b.rows, b.cols) } else { String::new() };
        format!("{file}{}{own} ({}{size})", self.name, b.model.name)
    }

    /// Whether the level leaves the layout open, and nothing was played on the one that the seed draws.
    #[must_use]
    pub fn takes_all(&self) -> bool {
        let b = &self.game.bound;
        let seen = b.seen.iter().any(Option::is_some);
        !b.scattered.is_empty() && !seen && self.played.is_empty() && !self.moved
    }

    /// Where play begins, in words, when it is played with what can be known.
    #[must_use]
    pub fn begin_words(&self) -> Option<String> {
        if self.game.bound.model.hides() && !self.known && self.takes_all() {
            return Some("every layout that the level allows".into());
        }
        self.begin.words()
    }

    /// The same level, beginning at another position.
    #[must_use]
    pub fn at(&self, state: &[i32]) -> Loaded {
        let game = self.game.at(state.to_vec());
        let moves = MoveTable::new(&game.bound).expect("as many moves as before");
        Loaded {
            name: self.name.clone(),
            level_title: self.level_title.clone(),
            file_title: self.file_title.clone(),
            expect: vec![],
            sets: self.sets.clone(),
            moved: true,
            known: self.known,
            one_of: None,
            game,
            moves,
            begin: Begin::Given,
            played: vec![],
            history: vec![state.to_vec()],
        }
    }

    /// The game as the player sees it.
    #[must_use]
    pub fn as_player(&self) -> Bound {
        Bound { as_player: true, ..self.game.bound.clone() }
    }

    /// Plays a move: the outcome whose draws are named, else one by the dice. The inner error says why none
    /// is meant, in words that follow the move's name.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn play_call(
        &self,
        state: &[i32],
        call: &Call,
        past_goals: bool,
        dice: &mut Dice,
    ) -> Result<Result<Tried, String>, RunFault> {
        let (b, moves) = (&self.game.bound, &self.moves);
        let Some(draws) = &call.draws else {
            return step_drawn(b, moves, state, call.number, past_goals, dice).map(Ok);
        };
        let outcomes = match step_or_follow(b, moves, state, call.number, past_goals, draws)? {
            Tried::Made(outcomes) if outcomes.is_empty() => {
                return Ok(Err(format!(
                    "has no outcome `/ {draws}`; it has too many to be listed, and one is named by all that is drawn, in order"
                )));
            }
            Tried::Made(outcomes) => outcomes,
            other => return Ok(Ok(other)),
        };
        let many = outcomes.len();
        let all: Vec<String> =
            merged(outcomes.clone()).iter().take(6).map(|p| format!("/ {}", p.draws_text())).collect();
        let fits = with_draws(outcomes, draws);
        Ok(match fits.len() {
            1 => Ok(Tried::Made(fits)),
            0 => Err(format!("has no outcome `/ {draws}`; it has: {}", all.join("; "))),
            n => {
                Err(format!("has {n} outcomes of {many} in which `{draws}` is drawn; name more of the draws"))
            }
        })
    }

    /// Reads moves from an argument; `what` names it.
    ///
    /// # Errors
    ///
    /// A diagnostic at the first word that is no move.
    pub fn parse_moves(&self, store: &mut Store, what: &str, moves: &str) -> Result<Vec<Call>, Trouble> {
        let file = store.sources.add(what, moves);
        self.moves.parse(moves, file, 0).map_err(|e| Trouble::Diagnostics(vec![*e]))
    }
}

/// Where the position comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Begin {
    /// The level or the arguments give it.
    Given,
    /// What is hidden was laid out by seed.
    Scattered {
        /// The seed.
        seed: u64,
    },
    /// The setup drew it by seed.
    Sampled {
        /// The seed.
        seed: u64,
        /// Which attempt was accepted.
        attempts: u64,
    },
    /// All starts of the setup, weighted.
    All {
        /// How many.
        starts: usize,
        /// The share of what the setup draws that it accepts.
        accepted: Chance,
    },
}

impl Begin {
    /// In words; `None` for a given start.
    #[must_use]
    pub fn words(&self) -> Option<String> {
        Some(match self {
            Begin::Given | Begin::All { starts: 1, .. } => return None,
            Begin::Scattered { seed } => format!("layout drawn with seed {seed}"),
            Begin::Sampled { seed, attempts: 1 } => format!("start drawn with seed {seed}"),
            Begin::Sampled { seed, attempts } => {
                format!("start drawn with seed {seed}, accepted at attempt {attempts}")
            }
            Begin::All { starts, accepted } => {
                let share = if *accepted == Chance::SURE {
                    String::new()
                } else {
                    format!("; the setup accepts {accepted} of what it draws")
                };
                format!("all {starts} starts that the setup draws, with their weights{share}")
            }
        })
    }
}

impl Serialize for Begin {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let value = match self {
            Begin::Scattered { seed } => json!({"from": "layout", "seed": seed}),
            Begin::Given => json!({"from": "level"}),
            Begin::Sampled { seed, attempts } => json!({"from": "setup", "seed": seed, "attempts": attempts}),
            Begin::All { starts, accepted } => {
                json!({"from": "setup", "starts": starts, "accepted": accepted.to_string()})
            }
        };
        value.serialize(s)
    }
}

/// States with weights.
type Starts = Vec<(Vec<i32>, u64)>;

/// Why no start could be made.
enum NoBegin {
    Diagnostic(Box<Diagnostic>),
    Stopped(RunFault),
}

impl NoBegin {
    fn trouble(self, budget: &Budget) -> Trouble {
        match self {
            NoBegin::Diagnostic(d) => Trouble::Diagnostics(vec![*d]),
            NoBegin::Stopped(f) => limit_of(&f, budget).map_or("the setup breaks".into(), Trouble::Limit),
        }
    }
}

/// A start that a level would have with another seed: its layout and its setup drawn again. `None` where none is accepted.
#[must_use]
pub fn drawn_again(bound: &Bound, seed: u64) -> Option<Vec<i32>> {
    let mut bound = bound.clone();
    begin(&mut bound, Want::One, seed).ok()?;
    Some(bound.position)
}

/// Draws the starts of a level that gives none.
fn begin(bound: &mut Bound, mut want: Want, seed: u64) -> Result<(Begin, Starts), NoBegin> {
    if bound.model.hides() {
        // What can be drawn is weighed where it is asked what can be known.
        want = Want::One;
    }
    let scattered = !bound.scattered.is_empty() && bound.seen.iter().all(Option::is_none);
    let given = scattered.then(|| bound.start.clone());
    if scattered {
        // A layout by seed, before anything is set up on it.
        match scatter(bound, &mut Dice::new(seed)) {
            Ok(layout) => lay_out(bound, layout),
            Err(NoStart::Fault(f)) if f.is_limit() => return Err(NoBegin::Stopped(f)),
            Err(e) => {
                let def = &bound.model.vars[bound.scattered[0]];
                let message = format!("no layout of `{}`: {e}", def.name);
                let d = Diagnostic::error("L070", bound.model.file, def.span, message);
                return Err(NoBegin::Diagnostic(Box::new(d)));
            }
        }
    }
    if !bound.drawn {
        let begin = if scattered { Begin::Scattered { seed } } else { Begin::Given };
        return Ok((begin, vec![]));
    }
    let fail = |e: NoStart| {
        let file = bound.model.file;
        let setup = bound.model.setup.as_ref().map_or(Span::default(), |s| s.span);
        let mut d = Diagnostic::error("L070", file, setup, e.to_string());
        match e {
            NoStart::Fault(fault) if fault.is_limit() => return NoBegin::Stopped(fault),
            NoStart::Fault(fault) => d = d.also(file, fault.span, "here"),
            NoStart::Dropped { at, .. } => d = d.also(file, at, "this dropped most of them"),
            NoStart::TooFine => {}
        }
        NoBegin::Diagnostic(Box::new(d))
    };
    // A setup that draws nothing has one start.
    if let Ok(Some(list)) = Eval::new(bound).all_starts(1)
        && let [Drawn::Start(state, _)] = list.as_slice()
    {
        bound.position.clone_from(state);
        let begin = if scattered { Begin::Scattered { seed } } else { Begin::Given };
        return Ok((begin, vec![]));
    }
    if want == Want::All
        && let Some(all) = setup::all(bound).map_err(fail)?
    {
        bound.position = all.starts[0].0.clone();
        return Ok((Begin::All { starts: all.starts.len(), accepted: all.accepted }, all.starts));
    }
    let one = if let Some(given) = given {
        // A layout that the setup drops is none: others are drawn, the first one first.
        bound.start = given;
        let (one, layout) = setup::sample_with_layout(bound, seed).map_err(fail)?;
        lay_out(bound, layout);
        one
    } else {
        setup::sample(bound, seed).map_err(fail)?
    };
    bound.position = one.state;
    Ok((Begin::Sampled { seed, attempts: one.attempts }, vec![]))
}

/// Lets a level begin with a layout of what is hidden.
fn lay_out(bound: &mut Bound, layout: Vec<i32>) {
    for v in bound.scattered.clone() {
        let part = bound.slots[v].base..bound.slots[v].base + bound.slots[v].len;
        bound.position[part.clone()].copy_from_slice(&layout[part]);
    }
    bound.start = layout;
}

/// Makes the game of a bound level.
fn made_game(bound: Bound, file: FileId, span: Span) -> Result<(Game, MoveTable), Box<Diagnostic>> {
    let fail = |e: TooLarge| {
        let text = match e {
            TooLarge::Moves { given } => {
                format!("this level has {given} moves with their parameters; {MOVES_MAX} can be numbered")
            }
            TooLarge::Operations => {
                "this model is too large for this level: its code passes the limit".into()
            }
        };
        Box::new(Diagnostic::error("L052", file, span, text))
    };
    let moves = MoveTable::new(&bound).map_err(fail)?;
    let game = game_of(bound).map_err(fail)?;
    Ok((game, moves))
}

/// A level of a file with its model, ready to be loaded.
#[derive(Clone)]
pub struct Source {
    /// The level file.
    pub file: FileId,
    /// What the file is called.
    pub file_title: String,
    /// The model.
    pub model: Arc<Model>,
    /// The level as written.
    pub level: Level,
}

/// Loads a level that has been read. `stop` ends what takes long.
///
/// # Errors
///
/// [`Trouble`]; the mistakes that were found are appended to `errors` as well.
pub fn load_source(
    source: &Source,
    want: Want,
    budget: &Arc<Budget>,
    errors: &mut Vec<Diagnostic>,
) -> Result<Loaded, Trouble> {
    let stop = stop_of(budget);
    let bound = bind_until(&source.model, source.file, &source.level, &[], &stop, errors);
    let bound = bound.ok_or_else(|| not_bound(errors, budget))?;
    finish(bound, source, want, budget)
}

/// Why a level could not be bound: its mistakes, unless what they come from was stopped.
fn not_bound(errors: &[Diagnostic], budget: &Budget) -> Trouble {
    budget.stopped().map_or_else(|| Trouble::Diagnostics(errors.to_vec()), Trouble::Limit)
}

/// The budget as the language asks it.
fn stop_of(budget: &Arc<Budget>) -> Stop {
    let budget = Arc::clone(budget);
    Stop::new(move || budget.is_stopped())
}

fn finish(mut bound: Bound, source: &Source, want: Want, budget: &Budget) -> Result<Loaded, Trouble> {
    let seed = budget.wanted().seed;
    let (begin, starts) = begin(&mut bound, want, seed).map_err(|e| e.trouble(budget))?;
    let made = made_game(bound, source.file, source.level.span);
    let (mut game, moves) = made.map_err(|e| Trouble::Diagnostics(vec![*e]))?;
    game.native = budget.wanted().native.map_or_else(WhenItPays::default, WhenItPays::by);
    game.starts = starts;
    let history = vec![game.bound.position.clone()];
    Ok(Loaded {
        name: source.level.name.clone(),
        level_title: source.level.title.clone(),
        file_title: source.file_title.clone(),
        expect: source.level.expect.clone(),
        sets: vec![],
        moved: false,
        known: false,
        one_of: None,
        game,
        moves,
        begin,
        played: vec![],
        history,
    })
}

/// Loads the level that is wished for; its text comes from the provider.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to work with.
pub fn load(
    store: &mut Store,
    texts: &dyn Provider,
    wish: &Wish,
    want: Want,
    budget: &Arc<Budget>,
) -> Result<Loaded, Trouble> {
    if wish.file.extension().is_some_and(|e| e == "fendle") {
        return Err(Trouble::Message(format!(
            "{} is a model; this command wants a level file, which names its model",
            wish.file.display()
        )));
    }
    let text = texts.read(&wish.file)?;
    load_text(store, texts, wish, want, budget, text)
}

/// The same from a text that is at hand, as if it were read from the file that is named.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to work with.
pub fn load_text(
    store: &mut Store,
    texts: &dyn Provider,
    wish: &Wish,
    want: Want,
    budget: &Arc<Budget>,
    text: String,
) -> Result<Loaded, Trouble> {
    let mut errors = vec![];
    let Some((levels, model)) = store.levels(texts, &wish.file, text, &mut errors) else {
        return Err(Trouble::Diagnostics(errors));
    };
    let level = the_level(&levels, wish)?;
    let sets = level_values(store, &wish.sets)?;
    let source = Source { file: levels.file, file_title: levels.title.clone(), model, level: level.clone() };
    let stop = stop_of(budget);
    let bound = bind_until(&source.model, source.file, &source.level, &sets, &stop, &mut errors);
    let Some(mut bound) = bound else { return Err(not_bound(&errors, budget)) };
    if let Some(at) = &wish.at {
        begin_at(store, &mut bound, at, &mut errors)?;
    }
    let mut loaded = finish(bound, &source, want, budget)?;
    loaded.sets.clone_from(&wish.sets);
    loaded.moved = wish.at.is_some() || wish.after.is_some();
    loaded.known = wish.known;
    loaded.one_of = (wish.level.is_none() && levels.levels.len() > 1).then_some(levels.levels.len());
    let seen_only = loaded.game.bound.seen.iter().any(Option::is_some);
    loaded.game.bound.as_player = wish.as_player || seen_only;
    if let Some(after) = &wish.after {
        if seen_only {
            return Err("--after needs a layout, and this level gives only what is seen".into());
        }
        play_first(store, &mut loaded, after, budget)?;
    }
    Ok(loaded)
}

fn the_level<'l>(levels: &'l LevelFile, wish: &Wish) -> Result<&'l Level, Trouble> {
    let Some(name) = &wish.level else { return Ok(&levels.levels[0]) };
    levels.levels.iter().find(|l| l.name == *name).ok_or_else(|| {
        let names: Vec<&str> = levels.levels.iter().map(|l| l.name.as_str()).collect();
        let hint = near(name, names.iter().copied())
            .map_or(format!("there are: {}", names.join(", ")), |n| format!("did you mean `{n}`?"));
        Trouble::Message(format!("{} holds no level named `{name}`; {hint}", wish.file.display()))
    })
}

/// Level values from `NAME=VALUE`, each with its place in that text.
fn level_values(store: &mut Store, sets: &[String]) -> Result<Vec<(Key, Raw, FileId)>, Trouble> {
    let mut out = vec![];
    for set in sets {
        let Some((name, value)) = set.split_once('=') else {
            return Err(Trouble::Message(format!("--set takes NAME=VALUE, this is `{set}`")));
        };
        let file = store.sources.add("--set", set.as_str());
        let span = Span::new(name.len() + 1, set.len());
        let at = Some(name.len() as u32 + 1);
        let value = value.replace('/', "\n");
        let key = Key { text: name.trim().to_string(), span: Span::new(0, name.len()) };
        out.push((key, Raw { kind: RawKind::Text(value, at), span }, file));
    }
    Ok(out)
}

/// Lets play begin at a position: one with its layout, or only what is seen of one.
fn begin_at(
    store: &mut Store,
    bound: &mut Bound,
    at: &str,
    errors: &mut Vec<Diagnostic>,
) -> Result<(), Trouble> {
    let file = store.sources.add("--at", at);
    let sight = bound.parse_sight(at, file, errors).ok_or_else(|| Trouble::Diagnostics(errors.clone()))?;
    if let Some((state, seen)) = sight {
        // Only what is seen: the layout is forgotten.
        bound.scattered = hidden_vars(bound).collect();
        bound.seen = seen;
        bound.drawn = false;
        bound.start.clone_from(&state);
        bound.position = state;
        return Ok(());
    }
    let position = bound.parse_line(at, file, errors).ok_or_else(|| Trouble::Diagnostics(errors.clone()))?;
    // A layout that the position gives is not drawn again.
    let slots = bound.slots.clone();
    let part = |v: &VarId| slots[*v].base..slots[*v].base + slots[*v].len;
    let named = |v: &VarId| {
        let of = &bound.model.vars[*v].name;
        at.split(';').filter_map(|p| p.split_once('=')).any(|(name, _)| name.trim() == of)
    };
    let drawn_again = |v: &VarId| !named(v) && position[part(v)] == bound.start[part(v)];
    bound.scattered = bound.scattered.iter().copied().filter(drawn_again).collect();
    bound.position = position;
    bound.drawn = false;
    Ok(())
}

/// Plays moves from the position; a refused move is an error.
fn play_first(store: &mut Store, loaded: &mut Loaded, moves: &str, budget: &Budget) -> Result<(), Trouble> {
    let list = loaded.parse_moves(store, "--after", moves)?;
    let mut state = loaded.game.bound.position.clone();
    let mut dice = Dice::new(budget.wanted().seed);
    for (i, call) in list.iter().enumerate() {
        let why = match loaded.play_call(&state, call, true, &mut dice) {
            Ok(Err(why)) => why,
            Ok(Ok(Tried::Made(mut outcomes))) => {
                state = outcomes.remove(0).made.state;
                loaded.played.push(call.number);
                loaded.history.push(state.clone());
                continue;
            }
            Ok(Ok(Tried::Refused { site, .. })) => {
                format!("is refused: {}", loaded.game.bound.model.refuses[site].why)
            }
            Ok(Ok(Tried::NotOffered)) => "is not offered there".into(),
            Ok(Ok(Tried::Ended(e))) => {
                format!("comes after the end: {}", loaded.game.bound.ending_words(e))
            }
            Err(fault) => match limit_of(&fault, budget) {
                Some(limit) => return Err(Trouble::Limit(limit)),
                None => format!("breaks the model: {fault}"),
            },
        };
        let name = loaded.moves.name(call.number);
        return Err(Trouble::Message(format!("--after: move {}, {name}, {why}", i + 1)));
    }
    loaded.game.bound.position = state;
    Ok(())
}
