//! `fendle demo`: the harbour pack from end to end, with no arguments.

use std::collections::BTreeSet;
use std::path::Path;

use clap::Parser as _;
use fendle_core::odds::{AimValue, odds};
use fendle_core::{Model as _, explore};
use fendle_lang::known::player::Stopped;
use fendle_lang::play::MoveTable;
use fendle_lang::reasons::effects::QUICK_WAYS;
use fendle_lang::reasons::keeps::proof;
use fendle_lang::{Bound, Game, bind};
use fendle_view::board::side_by_side;
use fendle_view::text::{counted, grouped, wrapped};

use super::infer::fair;
use super::odds::value_text;
use super::solve::{Failed, answer};
use super::{
    WIDTH, audit, class_word, fault_trouble, lucky_names, move_lines, move_names, position_lines, title_of,
    why,
};
use crate::args::{Cli, LevelArgs, ViewArg};
use crate::files::{Store, Want, begin, game_of, load_text, report};
use crate::know::{Play, fault_words, from, in_order};
use crate::look::write_file;
use crate::report::Reporter;
use crate::watch::{Watcher, limits};
use crate::{Exit, Session, Trouble};

/// The pack: file name and text.
pub const PACK: &[(&str, &str)] = &[
    ("packs/harbour/ferry.toml", include_str!("../../../../packs/harbour/ferry.toml")),
    ("packs/harbour/yard.toml", include_str!("../../../../packs/harbour/yard.toml")),
    ("packs/harbour/rope.toml", include_str!("../../../../packs/harbour/rope.toml")),
    ("packs/harbour/market.toml", include_str!("../../../../packs/harbour/market.toml")),
    ("packs/harbour/nets.toml", include_str!("../../../../packs/harbour/nets.toml")),
    ("packs/harbour/hold.toml", include_str!("../../../../packs/harbour/hold.toml")),
    ("packs/harbour/hawser.toml", include_str!("../../../../packs/harbour/hawser.toml")),
    ("packs/harbour/reef.toml", include_str!("../../../../packs/harbour/reef.toml")),
    ("packs/harbour/flats.toml", include_str!("../../../../packs/harbour/flats.toml")),
    ("packs/harbour/lanterns.toml", include_str!("../../../../packs/harbour/lanterns.toml")),
];

/// A level with hidden things: played fairly, and what each choice is worth where that is small.
fn hidden(s: &mut Session, game: &Game, moves: &MoveTable) -> Result<(), Trouble> {
    let b = &game.bound;
    let history = vec![b.position.clone()];
    if b.seen.iter().all(Option::is_none) {
        match fair::played(b, moves, &history) {
            Ok(report) => {
                let ways =
                    fair::safe_ways(b, moves, &history).map_err(|e| Trouble::Message(e.to_string()))?;
                fair::write_text(s, b, &report)?;
                if let Some(ways) = ways {
                    fair::write_ways(s, &ways)?;
                }
                return Ok(());
            }
            Err(Stopped::NotCounts(_)) => {}
            Err(e) => return Err(Trouble::Message(e.to_string())),
        }
    }
    if let Play::Knowing(knowing, worlds) = from(game, &history, &[], true)? {
        let limits = in_order(limits(&s.common));
        let watcher = Watcher::new(&s.common);
        let fail = |f| Trouble::Message(fault_words(game, &f));
        let found = explore(&*knowing, limits, false, &watcher).map_err(fail)?;
        let answers = odds(&*knowing, &found, &limits, &watcher).map_err(fail)?;
        watcher.finish();
        s.line(format!(
            "played with what can be known: {}, {}",
            counted(worlds as u64, "layout", "layouts"),
            counted(found.counts.states, "information state", "information states")
        ))?;
        if let Some(a) = answers {
            if let Some(v) = &a.win {
                s.line(format!("best probability to win: {}", value_text(v, true)))?;
            }
            if let Some(v) = &a.moves {
                s.line(format!("least expected moves: {}", value_text(v, false)))?;
            }
            for m in a.from_start.iter().filter(|_| a.moves.is_none()) {
                let win = m.win.as_ref().map_or(String::new(), |v| value_text(v, true));
                s.line(format!("  {:<12} wins {win}", game.move_name(m.of)))?;
            }
        }
    }
    Ok(())
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
        let args = LevelArgs {
            file: name.into(),
            level: Some((*level).into()),
            at: None,
            after: after.map(Into::into),
            view: ViewArg::Author,
            known: false,
            sets: vec![],
        };
        let mut loaded = load_text(s, &args, text.into())?;
        let mut command = format!("fendle why {name} --level {level:?}");
        if let Some(moves) = after {
            command.push_str(&format!(" \\\n           --after {moves:?}"));
        }
        if *all {
            command.push_str(" --all");
        }
        s.line("")?;
        s.line("-".repeat(78))?;
        s.line(format!("$ {command}"))?;
        s.line("")?;
        if *all {
            why::run_all(s, &loaded, false, 9, None)?;
        } else {
            why::one_position(s, &loaded, false)?;
        }
        if i == 0 {
            // The same once more, had the model said nothing.
            let mut model = (*loaded.game.bound.model).clone();
            model.keeps.clear();
            let bound = Bound { model: std::sync::Arc::new(model), ..loaded.game.bound.clone() };
            loaded.game = Game::new(bound).map_err(|_| Trouble::Message("the model is too large".into()))?;
            s.line("")?;
            s.line("And when the model does not say what is kept, Fendle finds it:")?;
            let (kept, _) = proof(&loaded.game, QUICK_WAYS, &mut || false);
            if let Some(kept) = kept {
                why::write_proof(s, &loaded.game.bound, &kept)?;
            }
        }
    }
    Ok(())
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
    std::fs::create_dir_all(&dir)
        .map_err(|e| Trouble::Message(format!("{} cannot be made: {e}", dir.display())))?;
    for (name, text) in PACK {
        let file = Path::new(name).file_name().unwrap_or_default();
        write_file(&dir.join(file), text.as_bytes())?;
    }
    s.line("")?;
    s.line("-".repeat(78))?;
    s.line(format!("Pictures, in {}:", dir.display()))?;
    let reporter = Reporter { quiet: true, ..s.reporter };
    let mut silent = Session { common: s.common.clone(), out: Box::new(std::io::sink()), reporter };
    // The commands are run where their files are.
    let back = std::env::current_dir().ok();
    std::env::set_current_dir(&dir)
        .map_err(|e| Trouble::Message(format!("{} cannot be entered: {e}", dir.display())))?;
    let done = draw_all(s, &mut silent);
    if let Some(back) = back {
        std::env::set_current_dir(back).map_err(|e| Trouble::Message(e.to_string()))?;
    }
    done
}

fn draw_all(s: &mut Session, silent: &mut Session) -> Result<(), Trouble> {
    for (args, words) in PICTURES {
        let full = std::iter::once(&"fendle").chain(args.iter());
        let cli = Cli::try_parse_from(full).map_err(|e| Trouble::Message(e.to_string()))?;
        silent.common.seed = cli.common.seed;
        crate::run(cli.command, silent)?;
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
pub fn run(s: &mut Session) -> Result<Exit, Trouble> {
    let mut store = Store::default();
    let mut results = vec![];
    s.line("Saltmarsh Harbour: every level of the demo pack, asked what can be asked.")?;
    for (name, text) in PACK {
        let mut errors = vec![];
        let Some((levels, model)) = store.levels(Path::new(name), (*text).to_string(), &mut errors) else {
            return Err(report(s, &store, &errors));
        };
        for level in &levels.levels {
            let Some(mut bound) = bind(&model, levels.file, level, &[], &mut errors) else {
                return Err(report(s, &store, &errors));
            };
            let (begun, starts) = match begin(&mut bound, Want::All, s.common.seed) {
                Ok(found) => found,
                Err(e) => return Err(report(s, &store, &[*e])),
            };
            let (mut game, moves) = match game_of(bound, levels.file, level.span) {
                Ok(made) => made,
                Err(e) => return Err(report(s, &store, &[*e])),
            };
            game.starts = starts;
            let b = &game.bound;
            s.line("")?;
            s.line("-".repeat(78))?;
            s.line(title_of(&levels.title, &level.name, &level.title, b))?;
            if let Some(words) = begun.words() {
                s.line(words)?;
            }
            s.line("")?;
            s.lines(&position_lines(b, &b.position, &BTreeSet::new()))?;
            if b.model.hides() && b.seen.iter().all(Option::is_none) {
                let shown = Bound { as_player: true, ..b.clone() };
                s.line("")?;
                s.line("as the player sees it:")?;
                s.lines(&position_lines(&shown, &b.position, &BTreeSet::new()))?;
            }
            s.line("")?;
            if game.bound.model.hides() {
                hidden(s, &game, &moves)?;
                continue;
            }
            let a = match answer(&game, &moves, &s.common) {
                Ok(a) => a,
                Err(Failed::Message(m)) => return Err(Trouble::Message(m)),
                Err(Failed::Fault(f)) => return Err(fault_trouble(s, &store, &game, &f)),
            };
            match &a.moves {
                Some(names) => {
                    let lucky = if a.lucky { " if lucky" } else { "" };
                    s.line(format!("solvable{lucky} in {}:", counted(names.len() as u64, "move", "moves")))?;
                    s.lines(&move_lines(names))?;
                }
                None if !game.has_goal() => s.line("this model has no goal; it has an aim")?,
                None => {
                    s.lines(&wrapped(&format!("{}: {}", a.verdict, a.proof), WIDTH))?;
                }
            }
            if a.states == 0 && a.moves.is_none() && game.has_goal() {
                s.line("no state was visited for this answer")?;
                continue;
            }
            let watcher = Watcher::new(&s.common);
            let found = explore(&game, limits(&s.common), false, &watcher);
            watcher.finish();
            let found = found.map_err(|f| Trouble::Message(game.run_fault(&f).to_string()))?;
            if let Some(f) = &found.fault {
                return Err(fault_trouble(s, &store, &game, f));
            }
            let c = &found.counts;
            s.line(format!(
                "{}, {} transitions, depth {}",
                counted(c.states, "state", "states"),
                grouped(c.transitions),
                c.depth
            ))?;
            if !game.has_goal() || !game.is_sure() || game.aim().is_some() {
                let watcher = Watcher::new(&s.common);
                let answers = odds(&game, &found, &limits(&s.common), &watcher)
                    .map_err(|f| Trouble::Message(game.run_fault(&f).to_string()))?;
                watcher.finish();
                if let Some(a) = answers {
                    if let Some(v) = a.win {
                        s.line(format!("best probability to win: {}", value_text(&v, true)))?;
                    }
                    if let Some(AimValue::Best(v)) = a.aim {
                        s.line(format!("best value of the aim: {}", value_text(&v, false)))?;
                    }
                    if let Some(play) = a.aim_play {
                        s.lines(&move_lines(&move_names(&game, &play)))?;
                    }
                }
            }
            let classes = [
                ("won", c.goal, game.has_goal()),
                ("lost", c.lost, game.has_goal()),
                ("over", c.over, c.over > 0),
                ("stuck", c.stuck, true),
                ("dead", c.dead, game.has_goal()),
                ("winnable", c.winnable, game.has_goal()),
                ("free", c.free, c.free > 0),
                ("open", c.open, c.open > 0),
            ];
            let words: Vec<String> =
                classes.iter().filter(|k| k.2).map(|(w, n, _)| format!("{w} {}", grouped(*n))).collect();
            s.line(words.join(", "))?;
            if let (Some(route), Some(depth)) = (&found.nearest_fatal, c.first_fatal_depth) {
                let names = lucky_names(&game, &moves, route);
                s.line(format!(
                    "{}; the nearest, after {}, ends: {}",
                    counted(c.fatal_moves, "fatal move", "fatal moves"),
                    counted(depth.into(), "move", "moves"),
                    names.last().map_or("", String::as_str)
                ))?;
                let mut blocks = vec![];
                let from = route.states.len() - 2;
                for words in &route.states[from..] {
                    let class = found.space.find(words).map_or("", |id| class_word(found.space.class(id)));
                    let mut block = vec![format!("{class}:")];
                    block.extend(position_lines(b, &game.unpack(words), &BTreeSet::new()));
                    blocks.push(block);
                }
                s.lines(&side_by_side(&blocks, 4, WIDTH))?;
            }
        }
        results.extend(audit::audit_levels(s, name, levels.file, &model, levels.levels.clone(), &mut errors));
        if !errors.is_empty() {
            return Err(report(s, &store, &errors));
        }
    }
    reasons(s)?;
    pictures(s)?;
    s.line("")?;
    s.line("-".repeat(78))?;
    s.line("The audit of the whole pack:")?;
    s.line("")?;
    let exit = audit::write(s, &store, &results)?;
    s.line("")?;
    s.line("Next: `fendle new shove yard` writes a model and a level; `fendle moves yard/first.toml` asks.")?;
    Ok(exit)
}
