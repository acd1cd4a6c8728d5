//! `fendle demo`: the harbour pack from end to end, with no arguments.

use std::path::Path;
use std::sync::Arc;

use clap::Parser as _;
use fendle_ask::audit::{Job, audit, end_of};
use fendle_ask::explore::{How, NearestFatal, explore};
use fendle_ask::fairness::fairness;
use fendle_ask::hunt::{Promise, is_large};
use fendle_ask::load::{Source, load_source, load_text};
use fendle_ask::odds::{self, Odds, ask};
use fendle_ask::playing::Playing;
use fendle_ask::routes::class_word;
use fendle_ask::solve::{Solved, solve};
use fendle_ask::why::{dead_parts, one_position};
use fendle_ask::{Answer, Loaded, Position, Store, Want, Wish};
use fendle_core::numbers::{counted, grouped};
use fendle_core::odds::AimValue;
use fendle_core::{Class, Exploration, Model as _};
use fendle_lang::reasons::effects::QUICK_WAYS;
use fendle_lang::reasons::keeps::proof;
use fendle_lang::{Bound, Game};
use fendle_view::tiles::Theme;

use super::audit;
use crate::args::Cli;
use crate::files::Files;
use crate::library::PACK;
use crate::play::app::App;
use crate::play::{Asks, by_keys, keys};
use crate::report::Reporter;
use crate::session::{Ended, Session, Trouble};
use crate::text::{self, beside, headed, move_lines, position_lines, value_text, wrapped};

/// What stands between two levels.
fn rule(s: &mut Session) -> Result<(), Trouble> {
    s.line("")?;
    Ok(s.line("-".repeat(78))?)
}

/// A level with its position, and what can be asked of it.
fn level(s: &mut Session, level: &Loaded) -> Result<(), Trouble> {
    let b = &level.game.bound;
    rule(s)?;
    s.line(level.title())?;
    s.lines(level.begin.words())?;
    s.line("")?;
    s.lines(position_lines(&Position::new(b, &b.position)))?;
    if b.model.hides() && b.seen.iter().all(Option::is_none) {
        s.line("")?;
        s.line("as the player sees it:")?;
        s.lines(position_lines(&Position::new(&level.as_player(), &b.position)))?;
    }
    s.line("")?;
    if b.model.hides() { hidden(s, level) } else { open(s, level) }
}

/// A level with hidden things: played fairly, and what each choice is worth where that is small.
fn hidden(s: &mut Session, level: &Loaded) -> Result<(), Trouble> {
    if level.game.bound.seen.iter().all(Option::is_none) {
        match fairness(level, &s.budget) {
            Ok(answer) => {
                let mut out = vec![];
                text::fairness::body(&mut out, &answer.found, level);
                return Ok(s.lines(out)?);
            }
            // What is told is no count: its layouts are weighed one by one.
            Err(fendle_ask::Trouble::Undecided(_)) => {}
            Err(e) => return Err(e.into()),
        }
    }
    let answer = ask(&s.store, level, odds::How::default(), &s.budget)?;
    let o = &answer.found;
    s.line(format!(
        "played with what can be known: {}, {}{}",
        counted(o.layouts as u64, "layout", "layouts"),
        counted(o.states, "information state", "information states"),
        if o.alike_once { ", alike ones once" } else { "" }
    ))?;
    if let Some(v) = &o.best_probability {
        s.line(format!("best probability to win: {}", value_text(v, true)))?;
    }
    if let Some(v) = &o.least_expected_moves {
        return Ok(s.line(format!("least expected moves: {}", value_text(v, false)))?);
    }
    for m in o.moves.iter().flatten() {
        let win = m.best_probability.as_ref().map_or(String::new(), |v| value_text(v, true));
        s.line(format!("  {:<12} wins {win}", m.name))?;
    }
    Ok(())
}

/// A level on which nothing is hidden: a solution or a proof, its whole space, and what chance does.
fn open(s: &mut Session, level: &Loaded) -> Result<(), Trouble> {
    let game = &level.game;
    if game.has_goal() {
        let large = is_large(game, &s.budget);
        let promise = if large && game.bound.cells() > 20 { Promise::Any } else { Promise::Best };
        let solved = solve(&s.store, level, promise, &s.budget, None)?;
        if let Some(fault) = solved.fault {
            return Err(fendle_ask::Trouble::Fault(Box::new(fault)).into());
        }
        solution(s, &solved)?;
        let a = &solved.found;
        if a.states == 0 && a.solution.is_none() {
            return Ok(s.line("no state was visited for this answer")?);
        }
        if large {
            return Ok(s.line("the level is too large to be seen whole")?);
        }
    } else {
        s.line("this model has no goal; it has an aim")?;
    }
    let space = explore(&s.store, level, How::default(), &s.budget)?;
    let c = &space.found.counts;
    s.line(format!(
        "{}, {} transitions, depth {}",
        counted(c.states, "state", "states"),
        grouped(c.transitions),
        c.depth
    ))?;
    if !game.has_goal() || !game.is_sure() || game.aim().is_some() {
        let answer = ask(&s.store, level, odds::How::default(), &s.budget)?;
        chance(s, &answer.found)?;
    }
    s.line(classes(c, game.has_goal()))?;
    if let Some(fatal) = &space.found.nearest_fatal_move {
        nearest_fatal(s, fatal, c)?;
    }
    Ok(())
}

fn solution(s: &mut Session, solved: &Answer<Solved>) -> Result<(), Trouble> {
    let a = &solved.found;
    match &a.solution {
        Some(names) => {
            let lucky = if a.if_lucky { " if lucky" } else { "" };
            let moves = counted(names.len() as u64, "move", "moves");
            s.line(match a.least.filter(|_| !a.shortest) {
                Some(least) => format!("solvable{lucky} in {moves}; none has fewer than {least}:"),
                None => format!("solvable{lucky} in {moves}:"),
            })?;
            s.lines(move_lines(names))?;
        }
        None => s.lines(wrapped(&format!("{}: {}", a.verdict, a.words)))?,
    }
    Ok(())
}

fn chance(s: &mut Session, o: &Odds) -> Result<(), Trouble> {
    if let Some(v) = &o.best_probability {
        s.line(format!("best probability to win: {}", value_text(v, true)))?;
    }
    if let Some(AimValue::Best(v)) = o.aim.as_ref().map(|a| &a.0) {
        s.line(format!("best value of the aim: {}", value_text(v, false)))?;
    }
    if let Some(play) = &o.aim_play {
        s.lines(move_lines(play))?;
    }
    Ok(())
}

/// `won 3, lost 0, ...`: the classes that a model can have.
fn classes(c: &Exploration, goal: bool) -> String {
    let list = [
        ("won", c.goal, goal),
        ("lost", c.lost, goal),
        ("over", c.over, c.over > 0),
        ("stuck", c.stuck, true),
        ("dead", c.dead, goal),
        ("winnable", c.winnable, goal),
        ("free", c.free, c.free > 0),
        ("open", c.open, c.open > 0),
    ];
    let words: Vec<String> =
        list.iter().filter(|k| k.2).map(|(w, n, _)| format!("{w} {}", grouped(*n))).collect();
    words.join(", ")
}

fn nearest_fatal(s: &mut Session, fatal: &NearestFatal, c: &Exploration) -> Result<(), Trouble> {
    s.line(format!(
        "{}; the nearest, after {}, ends: {}",
        counted(c.fatal_moves, "fatal move", "fatal moves"),
        counted(fatal.depth as u64, "move", "moves"),
        fatal.lucky.last().map_or("", String::as_str)
    ))?;
    let block = |p: &Position, class: Class| headed(format!("{}:", class_word(class)), position_lines(p));
    let before = fatal.position.iter().map(|p| block(p, Class::Winnable));
    let after = fatal.after.iter().map(|p| block(p, fatal.after_class.unwrap_or(Class::Dead)));
    let blocks: Vec<Vec<String>> = before.chain(after).collect();
    Ok(s.lines(beside(&blocks))?)
}

/// One answer of each kind to the question why: file, level, moves before it, all dead parts.
const REASONS: &[(usize, &str, Option<&str>, bool)] = &[
    (0, "two plates swapped", None, false),
    (1, "mind the corner", Some("go right; go right; go down"), false),
    (1, "mind the corner", Some("go right; go right; go down; go left"), false),
    (1, "behind the pier", None, false),
    (1, "one barge", None, true),
];

/// Asks why, in each way in which that is answered.
fn reasons(s: &mut Session) -> Result<(), Trouble> {
    for (i, (file, level, after, all)) in REASONS.iter().enumerate() {
        let (name, text) = PACK[*file];
        let wish = Wish {
            file: name.into(),
            level: Some((*level).into()),
            after: after.map(Into::into),
            ..Wish::default()
        };
        let loaded = load_text(&mut s.store, &s.files, &wish, Want::One, &s.budget, text.into())?;
        let mut command = format!("fendle why {name} --level {level:?}");
        if let Some(moves) = after {
            command.push_str(&format!(" \\\n           --after {moves:?}"));
        }
        if *all {
            command.push_str(" --all");
        }
        rule(s)?;
        s.line(format!("$ {command}"))?;
        s.line("")?;
        if *all {
            let answer = dead_parts(&s.store, &loaded, (false, PARTS), &s.budget)?;
            s.lines(text::why::dead_parts(&answer, &loaded))?;
        } else {
            let answer = one_position(&s.store, &loaded, false, &s.budget)?;
            s.lines(text::why::lines(&answer, &loaded))?;
        }
        if i == 0 {
            undeclared(s, loaded)?;
        }
    }
    Ok(())
}

/// Dead parts that the demo asks for.
const PARTS: usize = 9;

/// The same once more, had the model said nothing of what is kept.
fn undeclared(s: &mut Session, mut loaded: Loaded) -> Result<(), Trouble> {
    let mut model = (*loaded.game.bound.model).clone();
    model.keeps.clear();
    let bound = Bound { model: Arc::new(model), ..loaded.game.bound.clone() };
    loaded.game = Game::new(bound).map_err(|_| Trouble::words("the model is too large"))?;
    s.line("")?;
    s.line("And when the model does not say what is kept, Fendle finds it:")?;
    let (kept, _) = proof(&loaded.game, QUICK_WAYS, &mut || s.budget.is_stopped());
    let mut out = vec![];
    if let Some(kept) = kept {
        text::why::proof(&mut out, &loaded, &kept);
    }
    Ok(s.lines(out)?)
}

/// Keys with which the demo plays: round the barge, and one push too many.
const KEYS: &str = "right right down left up h";

/// Plays a level by keys.
fn played(s: &mut Session) -> Result<(), Trouble> {
    let (name, text) = PACK[1];
    let level = "mind the corner";
    let wish = Wish { file: name.into(), level: Some(level.into()), ..Wish::default() };
    let loaded = load_text(&mut s.store, &s.files, &wish, Want::One, &s.budget, text.into())?;
    rule(s)?;
    s.line(format!("$ fendle play {name} --level {level:?} --keys {KEYS:?}"))?;
    s.line("")?;
    let mut app = App::new(Playing::new(&loaded, s.common.seed), Theme::Dark);
    let keys = keys::parse(KEYS).map_err(Trouble::words)?;
    let lines = by_keys(&mut app, &keys, &mut Unasked, &s.budget);
    Ok(s.lines(lines.into_iter().filter(|l| !l.is_empty()))?)
}

/// Nothing is hidden in what is played.
struct Unasked;

impl Asks for Unasked {
    fn risk(&mut self, _: &Loaded) -> Vec<String> {
        vec![]
    }
}

/// Pictures that the demo writes: the command, and what it draws.
const PICTURES: &[(&[&str], &str)] = &[
    (&["show", "yard.toml", "--level", "mind the corner", "-o", "board.svg"], "a board"),
    (&["show", "hawser.toml", "--level", "a fourth bollard", "-o", "piles.svg"], "piles"),
    (
        &["moves", "yard.toml", "--level", "mind the corner", "-o", "moves.png"],
        "what moves do, and what refuses them",
    ),
    (
        &["solve", "yard.toml", "--level", "mind the corner", "-o", "solution.html"],
        "a shortest solution, played",
    ),
    (
        &["why", "yard.toml", "--level", "mind the corner", "--all", "-o", "dead-parts.svg"],
        "minimal dead parts",
    ),
    (&["explore", "yard.toml", "--level", "mind the corner", "-o", "report.html"], "a level on one page"),
    (&["draft", "ferry.toml", "--want", "moves == 24", "-o", "drafted.png"], "new boards, made to order"),
    (
        &["draft", "ferry.toml", "--shuffles", "1..40", "--samples", "100", "-o", "depths.png"],
        "how deep so many shuffles are",
    ),
    (
        &["mend", "yard.toml", "--level", "behind the pier", "--may", "wall", "-o", "mended.png"],
        "a level mended with the fewest changes",
    ),
    (&["audit", "yard.toml", "--profile", "-o", "profile.svg"], "the levels of a pack side by side"),
    (
        &["cases", "yard.toml", "--level", "mind the corner", "-o", "cases.json"],
        "test cases for a game's own code",
    ),
    (
        &["play", "yard.toml", "--level", "mind the corner", "--keys", KEYS, "-o", "play.jsonl"],
        "a play, recorded",
    ),
    (
        &["compare", "yard.toml", "--level", "mind the corner", "--record", "play.jsonl"],
        "what was recorded, beside the model",
    ),
    (
        &["explore", "yard.toml", "--level", "mind the corner", "-o", "charts.svg"],
        "depths, branching, distances",
    ),
    (
        &["graph", "yard.toml", "--level", "mind the corner", "-o", "graph.html"],
        "every state and move, to look into",
    ),
    (
        &[
            "graph",
            "hawser.toml",
            "--level",
            "a fourth bollard",
            "--with",
            "bollards alike",
            "-o",
            "beside.html",
        ],
        "two spaces side by side",
    ),
    (
        &["odds", "rope.toml", "--level", "a short coil", "--at", "2 ./. 2", "-o", "chances.svg"],
        "what each move is worth",
    ),
    (&["infer", "reef.toml", "-o", "risk.svg"], "hidden rocks: the risk of each cell, and the clues"),
    (&["audit", "hawser.toml", "-o", "pack.html"], "levels as a table to be sorted"),
];

/// Writes pictures of the pack into a folder, by the commands that anyone would use, and names them.
fn pictures(s: &mut Session) -> Result<(), Trouble> {
    let dir = std::env::temp_dir().join("fendle-demo");
    let cannot =
        |what: &str, e: std::io::Error| Trouble::words(format!("{} cannot be {what}: {e}", dir.display()));
    std::fs::create_dir_all(&dir).map_err(|e| cannot("made", e))?;
    for (name, text) in PACK {
        let file = Path::new(name).file_name().unwrap_or_default();
        s.files.write(&dir.join(file), |out| out.write_all(text.as_bytes()))?;
    }
    rule(s)?;
    s.line(format!("Pictures and files, in {}:", dir.display()))?;
    // The commands are run where their files are.
    let back = std::env::current_dir().ok();
    std::env::set_current_dir(&dir).map_err(|e| cannot("entered", e))?;
    let done = draw_all(s);
    if let Some(back) = back {
        std::env::set_current_dir(back).map_err(|e| Trouble::words(e.to_string()))?;
    }
    done
}

fn draw_all(s: &mut Session) -> Result<(), Trouble> {
    for (args, words) in PICTURES {
        let full = std::iter::once(&"fendle").chain(args.iter());
        let cli = Cli::try_parse_from(full).map_err(|e| Trouble::words(e.to_string()))?;
        let mut silent = Session {
            common: s.common.clone(),
            out: Box::new(std::io::sink()),
            reporter: Reporter {
                err: Box::new(std::io::sink()),
                color: false,
                plain: true,
                quiet: true,
                last_hint: String::new(),
            },
            store: Store::default(),
            files: Files::default(),
            budget: Arc::clone(&s.budget),
            level: None,
        };
        crate::run(cli.command, &mut silent)?;
        let quoted: Vec<String> = args
            .iter()
            .map(|a| if a.contains(' ') { format!("\"{a}\"") } else { (*a).to_string() })
            .collect();
        s.line(format!("$ fendle {}", quoted.join(" ")))?;
        s.line(format!("    {words}"))?;
    }
    Ok(())
}

/// Runs the command.
pub fn run(s: &mut Session) -> Ended {
    let mut results = vec![];
    s.line("Saltmarsh Harbour: every level of the demo pack, asked what can be asked.")?;
    for (name, text) in PACK {
        let mut errors = vec![];
        let read = s.store.levels(&s.files, Path::new(name), (*text).to_string(), &mut errors);
        let Some((levels, model)) = read else { return Err(fendle_ask::Trouble::Diagnostics(errors).into()) };
        let source = |own: &fendle_lang::syntax::level::Level| Source {
            file: levels.file,
            file_title: levels.title.clone(),
            model: Arc::clone(&model),
            level: own.clone(),
        };
        for own in &levels.levels {
            let loaded = load_source(&source(own), Want::All, &s.budget, &mut errors)?;
            level(s, &loaded)?;
        }
        let jobs: Vec<Job> =
            levels.levels.iter().map(|own| Job { path: (*name).into(), source: source(own) }).collect();
        results.extend(audit(&s.store, &jobs, &s.budget, &mut errors));
        if !errors.is_empty() {
            return Err(fendle_ask::Trouble::Diagnostics(errors).into());
        }
    }
    reasons(s)?;
    played(s)?;
    pictures(s)?;
    rule(s)?;
    s.line("The audit of the whole pack:")?;
    s.line("")?;
    let end = audit::give(s, &results, end_of(&results, &[]))?;
    s.line("")?;
    s.line("Next: `fendle new shove yard` writes a model and a level; `fendle moves yard/first.toml` asks.")?;
    Ok(end)
}
