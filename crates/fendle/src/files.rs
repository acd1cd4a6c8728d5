//! Models and levels from files, and the library that is built in.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fendle_lang::model::Model;
use fendle_lang::play::{Call, MoveTable, Step, merged, step, step_drawn, with_draws};
use fendle_lang::run::TooLarge;
use fendle_lang::run::scatter::scatter;
use fendle_lang::run::setup::{self, Dice, NoStart};
use fendle_lang::run::{Drawn, Eval, RunFault};
use fendle_lang::state::chance::Chance;
use fendle_lang::syntax::level::{FILE_BYTES_MAX, Key, Level, LevelFile, Raw, RawKind, read};
use fendle_lang::{Bound, Diagnostic, FileId, Game, Severity, Sources, Span, bind, compile};

use crate::args::LevelArgs;
use crate::{Session, Trouble};

/// The library: name, what it is, source.
pub const LIBRARY: &[(&str, &str, &str)] = &[
    (
        "slide",
        "sliding tiles: a neighbour of the gap moves into it",
        include_str!("../../../models/slide.fendle"),
    ),
    (
        "shove",
        "pushing bodies: an agent pushes one body at a time; water swallows",
        include_str!("../../../models/shove.fendle"),
    ),
    (
        "merge",
        "shift and merge: equal tiles that meet become their double, and a tile appears by chance",
        include_str!("../../../models/merge.fendle"),
    ),
    (
        "match",
        "swap to line up three: runs vanish, tiles fall, and more may come from above",
        include_str!("../../../models/match.fendle"),
    ),
    (
        "clump",
        "remove connected groups: tiles fall, empty columns close up",
        include_str!("../../../models/clump.fendle"),
    ),
    (
        "fall",
        "falling blocks: steered while they fall, full rows vanish",
        include_str!("../../../models/fall.fendle"),
    ),
    (
        "sweep",
        "hidden rocks: numbers tell how many neighbours are rocks",
        include_str!("../../../models/sweep.fendle"),
    ),
    ("wade", "a walker among hidden mires, to a safe place", include_str!("../../../models/wade.fendle")),
    (
        "pairs",
        "hidden pairs: two are uncovered, equal ones stay",
        include_str!("../../../models/pairs.fendle"),
    ),
    ("coil", "stacked rings on posts: only smaller onto larger", include_str!("../../../models/coil.fendle")),
];

/// Reads a text file, with words for what can go wrong.
///
/// # Errors
///
/// A message.
pub fn read_text(path: &Path) -> Result<String, Trouble> {
    let shown = path.display();
    let size = fs::metadata(path).map_err(|e| Trouble::Message(format!("{shown} cannot be read: {e}")))?;
    if size.is_dir() {
        return Err(Trouble::Message(format!("{shown} is a folder; name a file in it")));
    }
    if size.len() > FILE_BYTES_MAX {
        return Err(Trouble::Message(format!(
            "{shown} has {} bytes; files of at most {FILE_BYTES_MAX} bytes are read",
            size.len()
        )));
    }
    let bytes = fs::read(path).map_err(|e| Trouble::Message(format!("{shown} cannot be read: {e}")))?;
    String::from_utf8(bytes).map_err(|e| {
        let at = e.utf8_error().valid_up_to();
        Trouble::Message(format!("{shown} is no text file: byte {} is not UTF-8", at + 1))
    })
}

/// Everything loaded so far, for diagnostics.
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
        name: &Key,
        level_file: FileId,
        from: &Path,
        errors: &mut Vec<Diagnostic>,
    ) -> Option<Arc<Model>> {
        let path = from.parent().unwrap_or(Path::new(".")).join(&name.text);
        let library = LIBRARY.iter().find(|l| l.0 == name.text);
        let key =
            if library.is_some() { format!("library {}", name.text) } else { path.display().to_string() };
        if let Some((_, model)) = self.models.iter().find(|(k, _)| *k == key) {
            if model.is_none() {
                errors.push(Diagnostic::error(
                    "L050",
                    level_file,
                    name.span,
                    format!("the model `{}` has errors", name.text),
                ));
            }
            return model.clone();
        }
        let text = match library {
            Some((_, _, source)) => (*source).to_string(),
            None if !path.exists() => {
                let mut error = Diagnostic::error(
                    "L051",
                    level_file,
                    name.span,
                    format!("no model is named `{}`", name.text),
                );
                let known = LIBRARY.iter().map(|l| l.0);
                if let Some(n) = fendle_lang::source::near(&name.text, known.clone()) {
                    error = error.note(format!("did you mean `{n}`?"));
                }
                let list: Vec<&str> = known.collect();
                errors.push(error.note(format!(
                    "the library has: {}; any other name is a path from the level file",
                    list.join(", ")
                )));
                return None;
            }
            None => match read_text(&path) {
                Ok(text) => text,
                Err(Trouble::Message(m)) => {
                    errors.push(Diagnostic::error("L051", level_file, name.span, m));
                    return None;
                }
                Err(_) => return None,
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

    /// Reads a level file and its model.
    ///
    /// # Errors
    ///
    /// When the file cannot be read at all.
    pub fn levels(
        &mut self,
        path: &Path,
        text: String,
        errors: &mut Vec<Diagnostic>,
    ) -> Option<(LevelFile, Arc<Model>)> {
        let file = self.sources.add(path.display().to_string(), text.clone());
        let levels = read(file, &text, errors)?;
        let model = self.model(&levels.model, file, path, errors)?;
        Some((levels, model))
    }
}

/// A level ready to be asked about.
pub struct Loaded {
    /// The texts.
    pub store: Store,
    /// The level as written.
    pub level: Level,
    /// What the file is called.
    pub file_title: String,
    /// The game, begun at the wanted position.
    pub game: Game,
    /// Its moves by name.
    pub moves: MoveTable,
    /// How play begins.
    pub begin: Begin,
    /// The moves that `--after` played.
    pub played: Vec<usize>,
    /// The states on the way, from where play began to the position.
    pub history: Vec<Vec<i32>>,
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
    pub fn words(&self) -> Option<String> {
        Some(match self {
            Begin::Given => return None,
            Begin::All { starts: 1, .. } => return None,
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

    /// For programs.
    pub fn json(&self) -> serde_json::Value {
        match self {
            Begin::Scattered { seed } => serde_json::json!({"from": "layout", "seed": seed}),
            Begin::Given => serde_json::json!({"from": "level"}),
            Begin::Sampled { seed, attempts } => {
                serde_json::json!({"from": "setup", "seed": seed, "attempts": attempts})
            }
            Begin::All { starts, accepted } => serde_json::json!({
                "from": "setup", "starts": starts, "accepted": accepted.to_string(),
            }),
        }
    }
}

/// Which starts of a setup a command works on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Want {
    /// One, by seed.
    One,
    /// All of them where they can be enumerated, else one by seed.
    All,
}

/// Draws the starts of a level that gives none.
///
/// # Errors
///
/// A diagnostic at the setup.
pub fn begin(bound: &mut Bound, mut want: Want, seed: u64) -> Result<(Begin, Starts), Box<Diagnostic>> {
    if bound.model.hides() {
        // What can be drawn is weighed where it is asked what can be known.
        want = Want::One;
    }
    let scattered = !bound.scattered.is_empty() && bound.seen.iter().all(Option::is_none);
    if scattered {
        // A layout by seed, before anything is set up on it.
        match scatter(bound, &mut Dice::new(seed)) {
            Ok(state) => {
                for v in bound.scattered.clone() {
                    let part = bound.slots[v].base..bound.slots[v].base + bound.slots[v].len;
                    bound.position[part.clone()].copy_from_slice(&state[part]);
                }
                bound.start = state;
            }
            Err(e) => {
                let def = &bound.model.vars[bound.scattered[0]];
                let message = format!("no layout of `{}`: {e}", def.name);
                return Err(Box::new(Diagnostic::error("L070", bound.model.file, def.span, message)));
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
            NoStart::Fault(fault) => d = d.also(file, fault.span, "here"),
            NoStart::Dropped { at, .. } => d = d.also(file, at, "this dropped most of them"),
            NoStart::TooFine => {}
        }
        Box::new(d)
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
    let one = setup::sample(bound, seed).map_err(fail)?;
    bound.position = one.state;
    Ok((Begin::Sampled { seed, attempts: one.attempts }, vec![]))
}

/// States with weights.
type Starts = Vec<(Vec<i32>, u64)>;

/// Makes a game, with the limits in words.
///
/// # Errors
///
/// A diagnostic at the level.
pub fn game_of(bound: Bound, file: FileId, span: Span) -> Result<(Game, MoveTable), Box<Diagnostic>> {
    let fail = |e: TooLarge| {
        let text = match e {
            TooLarge::Moves { given } => format!(
                "this level has {given} moves with their parameters; {} can be numbered",
                fendle_lang::run::MOVES_MAX
            ),
            TooLarge::Operations => {
                "this model is too large for this level: its code passes the limit".into()
            }
        };
        Box::new(Diagnostic::error("L052", file, span, text))
    };
    let moves = MoveTable::new(&bound).map_err(fail)?;
    let game = Game::new(bound).map_err(fail)?;
    Ok((game, moves))
}

/// Loads what the arguments of a command name. Diagnostics are reported.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to work with.
pub fn load(s: &Session, args: &LevelArgs) -> Result<Loaded, Trouble> {
    load_with(s, args, Want::One)
}

/// The same, with all starts of a setup where they can be enumerated.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to work with.
pub fn load_all(s: &Session, args: &LevelArgs) -> Result<Loaded, Trouble> {
    load_with(s, args, if args.after.is_some() { Want::One } else { Want::All })
}

/// The same from a text that is at hand, as if it were read from the file that is named.
///
/// # Errors
///
/// [`Trouble`] when there is nothing to work with.
pub fn load_text(s: &Session, args: &LevelArgs, text: String) -> Result<Loaded, Trouble> {
    load_from(s, args, Want::One, text)
}

fn load_with(s: &Session, args: &LevelArgs, want: Want) -> Result<Loaded, Trouble> {
    if args.file.extension().is_some_and(|e| e == "fendle") {
        return Err(Trouble::Message(format!(
            "{} is a model; this command wants a level file, which names its model",
            args.file.display()
        )));
    }
    load_from(s, args, want, read_text(&args.file)?)
}

fn load_from(s: &Session, args: &LevelArgs, want: Want, text: String) -> Result<Loaded, Trouble> {
    let mut store = Store::default();
    let mut errors = vec![];
    let Some((levels, model)) = store.levels(&args.file, text, &mut errors) else {
        return Err(report(s, &store, &errors));
    };
    let level = match &args.level {
        None => {
            if levels.levels.len() > 1 && s.common.format == crate::args::Format::Text {
                s.reporter.hint(&format!(
                    "{} holds {} levels; this is the first, `{}` (--level takes another)",
                    args.file.display(),
                    levels.levels.len(),
                    levels.levels[0].name
                ));
            }
            &levels.levels[0]
        }
        Some(name) => match levels.levels.iter().find(|l| l.name == *name) {
            Some(level) => level,
            None => {
                let names: Vec<&str> = levels.levels.iter().map(|l| l.name.as_str()).collect();
                let near = fendle_lang::source::near(name, names.iter().copied());
                let hint = near
                    .map_or(format!("there are: {}", names.join(", ")), |n| format!("did you mean `{n}`?"));
                return Err(Trouble::Message(format!(
                    "{} holds no level named `{name}`; {hint}",
                    args.file.display()
                )));
            }
        },
    };
    let mut sets = vec![];
    for set in &args.sets {
        let Some((name, value)) = set.split_once('=') else {
            return Err(Trouble::Message(format!("--set takes NAME=VALUE, this is `{set}`")));
        };
        let file = store.sources.add("--set", set.as_str());
        let span = Span::new(name.len() + 1, set.len());
        let at = Some(name.len() as u32 + 1);
        let value = value.replace('/', "\n");
        let key = Key { text: name.trim().to_string(), span: Span::new(0, name.len()) };
        sets.push((key, Raw { kind: RawKind::Text(value, at), span }, file));
    }
    let Some(mut bound) = bind(&model, levels.file, level, &sets, &mut errors) else {
        return Err(report(s, &store, &errors));
    };
    if let Some(at) = &args.at {
        let file = store.sources.add("--at", at.as_str());
        let sight = match bound.parse_sight(at, file, &mut errors) {
            Some(sight) => sight,
            None => return Err(report(s, &store, &errors)),
        };
        if let Some((state, seen)) = sight {
            // Only what is seen: the layout is forgotten.
            bound.scattered = fendle_lang::run::scatter::hidden_vars(&bound).collect();
            bound.seen = seen;
            bound.drawn = false;
            bound.start.clone_from(&state);
            bound.position = state;
        } else {
            match bound.parse_line(at, file, &mut errors) {
                Some(position) => {
                    // A layout that the position gives is not drawn again.
                    let slots = bound.slots.clone();
                    let part = |v: &usize| slots[*v].base..slots[*v].base + slots[*v].len;
                    bound.scattered.retain(|v| position[part(v)] == bound.start[part(v)]);
                    bound.position = position;
                    bound.drawn = false;
                }
                None => return Err(report(s, &store, &errors)),
            }
        }
    }
    let (begin, starts) = match begin(&mut bound, want, s.common.seed) {
        Ok(found) => found,
        Err(e) => return Err(report(s, &store, &[*e])),
    };
    let level = level.clone();
    let (mut game, moves) = match game_of(bound, levels.file, level.span) {
        Ok(made) => made,
        Err(e) => return Err(report(s, &store, &[*e])),
    };
    game.starts = starts;
    let file_title = levels.title.clone();
    let seen_only = game.bound.seen.iter().any(Option::is_some);
    game.bound.as_player = args.view == crate::args::ViewArg::Player || seen_only;
    let history = vec![game.bound.position.clone()];
    let mut loaded = Loaded { store, level, file_title, game, moves, begin, played: vec![], history };
    if let Some(after) = &args.after {
        if loaded.game.bound.seen.iter().any(Option::is_some) {
            return Err(Trouble::Message(
                "--after needs a layout, and this level gives only what is seen".into(),
            ));
        }
        let position = play(s, &mut loaded, "--after", after)?;
        loaded.game.bound.position = position;
    }
    Ok(loaded)
}

/// Plays moves from the position; a refused move is an error.
fn play(s: &Session, loaded: &mut Loaded, what: &str, moves: &str) -> Result<Vec<i32>, Trouble> {
    let list = parse_moves(s, loaded, what, moves)?;
    let mut state = loaded.game.bound.position.clone();
    let mut dice = Dice::new(s.common.seed);
    for (i, call) in list.iter().enumerate() {
        let why = match play_call(loaded, &state, call, true, &mut dice) {
            Ok(Err(why)) => why,
            Ok(Ok(Step::Made(mut outcomes))) => {
                state = outcomes.remove(0).made.state;
                loaded.played.push(call.number);
                loaded.history.push(state.clone());
                continue;
            }
            Ok(Ok(Step::Refused { site, .. })) => {
                format!("is refused: {}", loaded.game.bound.model.refuses[site].why)
            }
            Ok(Ok(Step::NotOffered)) => "is not offered there".into(),
            Ok(Ok(Step::Ended(e))) => {
                format!(
                    "comes after the end: {}",
                    fendle_lang::state::ending_text(&loaded.game.bound.model.endings[e])
                )
            }
            Err(fault) => format!("breaks the model: {fault}"),
        };
        let name = loaded.moves.name(call.number);
        return Err(Trouble::Message(format!("{what}: move {}, {name}, {why}", i + 1)));
    }
    Ok(state)
}

/// Reads moves from an argument.
///
/// # Errors
///
/// [`Trouble::Reported`] with the place of the first word that is no move.
pub fn parse_moves(s: &Session, loaded: &mut Loaded, what: &str, moves: &str) -> Result<Vec<Call>, Trouble> {
    let file = loaded.store.sources.add(what, moves);
    match loaded.moves.parse(moves, file, 0) {
        Ok(list) => Ok(list),
        Err(e) => Err(report(s, &loaded.store, &[*e])),
    }
}

/// Plays a move: the outcome whose draws are named, else one by the dice. The inner error says why none
/// is meant, in words that follow the move's name.
///
/// # Errors
///
/// A model fault.
pub fn play_call(
    loaded: &Loaded,
    state: &[i32],
    call: &Call,
    past_goals: bool,
    dice: &mut Dice,
) -> Result<Result<Step, String>, RunFault> {
    let (b, moves) = (&loaded.game.bound, &loaded.moves);
    let Some(draws) = &call.draws else {
        return step_drawn(b, moves, state, call.number, past_goals, dice).map(Ok);
    };
    let outcomes = match step(b, moves, state, call.number, past_goals)? {
        Step::Made(outcomes) => outcomes,
        other => return Ok(Ok(other)),
    };
    let many = outcomes.len();
    let all: Vec<String> =
        merged(outcomes.clone()).iter().take(6).map(|p| format!("/ {}", p.draws_text())).collect();
    let fits = with_draws(outcomes, draws);
    Ok(match fits.len() {
        1 => Ok(Step::Made(fits)),
        0 => Err(format!("has no outcome `/ {draws}`; it has: {}", all.join("; "))),
        n => Err(format!("has {n} outcomes of {many} in which `{draws}` is drawn; name more of the draws")),
    })
}

/// Reports diagnostics.
pub fn report(s: &Session, store: &Store, errors: &[Diagnostic]) -> Trouble {
    s.reporter.show(&store.sources, errors);
    debug_assert!(errors.iter().any(|e| e.severity == Severity::Error));
    Trouble::Reported
}

/// All files below the paths with one of the endings, in a fixed order.
///
/// # Errors
///
/// A message when a path cannot be read.
pub fn collect(paths: &[PathBuf], endings: &[&str]) -> Result<Vec<PathBuf>, Trouble> {
    fn walk(path: &Path, endings: &[&str], out: &mut Vec<PathBuf>) -> Result<(), Trouble> {
        let unreadable = |e| Trouble::Message(format!("{} cannot be read: {e}", path.display()));
        let mut entries: Vec<PathBuf> =
            fs::read_dir(path).map_err(unreadable)?.filter_map(Result::ok).map(|e| e.path()).collect();
        entries.sort();
        for entry in entries {
            if entry.is_dir() {
                walk(&entry, endings, out)?;
            } else if entry.extension().and_then(|e| e.to_str()).is_some_and(|e| endings.contains(&e)) {
                out.push(entry);
            }
        }
        Ok(())
    }
    let mut out = vec![];
    for path in paths {
        if path.is_dir() {
            let before = out.len();
            walk(path, endings, &mut out)?;
            if out.len() == before {
                return Err(Trouble::Message(format!(
                    "{} holds no file ending in .{}",
                    path.display(),
                    endings.join(" or .")
                )));
            }
        } else {
            out.push(path.clone());
        }
    }
    Ok(out)
}
