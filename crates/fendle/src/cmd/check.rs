//! `fendle check`: are models and levels well formed, do the examples pass, are the starts sane.

use std::path::PathBuf;
use std::sync::Arc;

use fendle_core::{Limits, Model as _, NoWatch, explore};
use fendle_lang::model::{LawDef, Model};
use fendle_lang::play::examples::run_all;
use fendle_lang::play::is_stuck;
use fendle_lang::reasons::keeps::Kept;
use fendle_lang::reasons::laws::Turner;
use fendle_lang::run::Eval;
use fendle_lang::state::ending_text;
use fendle_lang::syntax::level::Level;
use fendle_lang::{Diagnostic, FileId, Game, Severity, bind};
use fendle_view::board::side_by_side;
use fendle_view::text::{counted, grouped, table};
use serde_json::{Value, json};

use super::{WIDTH, diagnostics_json};
use crate::args::Format;
use crate::files::{Begin, Store, Want, begin, collect, game_of, read_text};
use crate::{Exit, Session, Trouble};

/// States looked at for laws: each is played by the reference executor, twice.
const LAW_STATES: u64 = 400;
/// States looked at for two statuses that hold at once.
const OVERLAP_STATES: u64 = 20_000;

#[derive(Default)]
struct Tally {
    diagnostics: Vec<Diagnostic>,
    failed_examples: usize,
    models: Vec<Value>,
    levels: Vec<Value>,
    lines: Vec<String>,
    checked: Vec<FileId>,
}

/// Runs the command.
pub fn run(s: &mut Session, paths: &[PathBuf], code: bool, shapes: bool) -> Result<Exit, Trouble> {
    let files = collect(paths, &["fendle", "toml"])?;
    let mut drawn: Vec<Arc<Model>> = vec![];
    let mut store = Store::default();
    let mut t = Tally::default();
    let mut unreadable = None;
    for path in &files {
        let text = match read_text(path) {
            Ok(text) => text,
            Err(Trouble::Message(m)) => {
                // The other files are still checked.
                s.reporter.hint(&m);
                unreadable = Some(());
                continue;
            }
            Err(other) => return Err(other),
        };
        if path.extension().is_some_and(|e| e == "fendle") {
            let model = store.compile(path.display().to_string(), &text, &mut t.diagnostics);
            // A level file may have brought it in already.
            if let Some(model) = model.filter(|m| !t.checked.contains(&m.file)) {
                check_model(&store, &model, &mut t);
                drawn.push(model);
            }
        } else if let Some((levels, model)) = store.levels(path, text, &mut t.diagnostics) {
            if !t.checked.contains(&model.file) {
                check_model(&store, &model, &mut t);
                drawn.push(Arc::clone(&model));
            }
            t.lines.push(format!(
                "{}: {} of {}",
                path.display(),
                counted(levels.levels.len() as u64, "level", "levels"),
                model.name
            ));
            let mut rows = vec![];
            for level in &levels.levels {
                if let Some(row) = check_level(&store, &model, levels.file, level, code, &mut t) {
                    rows.push(row);
                }
            }
            if !rows.is_empty() {
                let mut head = vec!["level", "board", "bits", "moves", "start", "two statuses at once"];
                if !model.keeps.is_empty() {
                    head.push("kept quantities");
                }
                if !model.laws.is_empty() {
                    head.push("laws");
                }
                t.lines.extend(table(&head, &rows).into_iter().map(|l| format!("  {l}")));
            }
        }
    }
    let errors =
        t.diagnostics.iter().filter(|d| d.severity == Severity::Error && !d.code.starts_with('E')).count();
    let exit = if errors > 0 || unreadable.is_some() {
        Exit::Bad
    } else if t.failed_examples > 0 {
        Exit::No
    } else {
        Exit::Yes
    };
    if s.common.format == Format::Json {
        s.json(&json!({
            "ok": exit == Exit::Yes,
            "models": t.models,
            "levels": t.levels,
            "failed_examples": t.failed_examples,
            "diagnostics": diagnostics_json(&store, &t.diagnostics),
        }))?;
        return Ok(exit);
    }
    s.lines(&t.lines)?;
    if shapes {
        for model in &drawn {
            write_shapes(s, model)?;
        }
        s.line("")?;
    }
    s.out.flush()?;
    s.reporter.show(&store.sources, &t.diagnostics);
    if exit == Exit::Yes {
        s.line("all is well")?;
    }
    Ok(exit)
}

fn check_model(store: &Store, model: &Arc<Model>, t: &mut Tally) {
    t.checked.push(model.file);
    let name = store.sources.name(model.file).to_string();
    let results = run_all(model, store.sources.text(model.file));
    let mut failed = vec![];
    for r in &results {
        if !r.failures.is_empty() {
            failed.push(r.title.clone());
            let quoted = |d: &Diagnostic| Diagnostic {
                message: format!("example \"{}\": {}", r.title, d.message),
                ..d.clone()
            };
            t.diagnostics.extend(r.failures.iter().map(quoted));
        }
    }
    t.failed_examples += failed.len();
    let passed = results.len() - failed.len();
    let mut line = format!(
        "{name}: model {}, {}",
        model.name,
        counted(passed as u64, "example passes", "examples pass")
    );
    if !failed.is_empty() {
        line.push_str(&format!(", {} failing", failed.len()));
    }
    t.lines.push(line);
    t.models.push(json!({
        "file": name,
        "model": model.name,
        "examples_passed": passed,
        "examples_failed": failed,
    }));
}

fn check_level(
    store: &Store,
    model: &Arc<Model>,
    file: FileId,
    level: &Level,
    code: bool,
    t: &mut Tally,
) -> Option<Vec<String>> {
    let mut bound = bind(model, file, level, &[], &mut t.diagnostics)?;
    let (begin, starts) = match begin(&mut bound, Want::All, 1) {
        Ok(found) => found,
        Err(e) => {
            t.diagnostics.push(*e);
            return None;
        }
    };
    let (mut game, moves) = match game_of(bound, file, level.span) {
        Ok(made) => made,
        Err(e) => {
            t.diagnostics.push(*e);
            return None;
        }
    };
    game.starts = starts;
    let b = &game.bound;
    if code {
        t.lines.push(format!("code of `{}`:", level.name));
        t.lines.push(game.code.print());
    }
    let warn = |code, text: String| Diagnostic::error(code, file, level.span, text).warning();
    let start = match Eval::new(b).status(&b.position) {
        Ok(Some(e)) => {
            let how = ending_text(&b.model.endings[e]);
            let warning = warn("L060", format!("`{}` has ended at its start: {how}", level.name));
            t.diagnostics.push(warning.note("a start should be a position from which something can be done"));
            how
        }
        Ok(None) => match is_stuck(b, &moves, &b.position) {
            Ok(true) => {
                let warning = warn("L061", format!("`{}` is stuck at its start", level.name));
                t.diagnostics.push(warning.note("no move is allowed; `fendle moves` says why"));
                "stuck".into()
            }
            Ok(false) => "running".into(),
            Err(f) => f.to_string(),
        },
        Err(f) => {
            t.diagnostics.push(
                Diagnostic::error("L062", file, level.span, format!("the start breaks the model: {f}"))
                    .also(model.file, f.span, "here"),
            );
            return None;
        }
    };
    let start = match &begin {
        Begin::Given => start,
        Begin::Scattered { .. } => format!("{start}, layout drawn"),
        Begin::Sampled { attempts, .. } => format!("{start}, drawn at attempt {attempts}"),
        Begin::All { starts, .. } => format!("{start}, {} drawn", counted(*starts as u64, "start", "starts")),
    };
    let laws: Vec<String> = model.laws.iter().map(|law| law_text(&game, law, file, level, t)).collect();
    let overlap = overlap(&game);
    let kept: Vec<&str> = game
        .kept
        .iter()
        .map(|k| match k {
            Kept::ProvedFromRules => "proved from the rules",
            Kept::ProvedByEnumeration { .. } => "proved by enumeration",
            Kept::Checked => "checked along the way",
            Kept::NotClaimed => "not claimed for this level",
        })
        .collect();
    t.levels.push(json!({
        "file": store.sources.name(file),
        "level": level.name,
        "rows": b.rows,
        "cols": b.cols,
        "bits_per_state": game.layout().bits,
        "moves": moves.list.len(),
        "start": start,
        "two_statuses": overlap,
        "kept_quantities": kept,
        "laws": laws,
        "code_operations": game.code.ops.len(),
    }));
    let mut row = vec![
        level.name.clone(),
        if b.rows > 0 { format!("{} x {}", b.rows, b.cols) } else { "-".into() },
        grouped(game.layout().bits.into()),
        grouped(moves.list.len() as u64),
        start,
        overlap,
    ];
    if !kept.is_empty() {
        row.push(kept.join("; "));
    }
    if !laws.is_empty() {
        row.push(laws.join("; "));
    }
    Some(row)
}

/// Looks for the nearest reached state in which a law is broken.
fn law_text(game: &Game, law: &LawDef, file: FileId, level: &Level, t: &mut Tally) -> String {
    let b = &game.bound;
    let name = if law.mirrored { "mirrored" } else { "turned" };
    let Some(turner) = Turner::new(b, law.mirrored) else {
        return format!("{name}: not for this board");
    };
    let limits = Limits { max_states: LAW_STATES, threads: 1, ..Limits::default() };
    let Ok(found) = explore(game, limits, false, &NoWatch) else {
        return format!("{name}: the start breaks the model");
    };
    for depth in 0..found.space.levels_len() {
        let mut here: Vec<Vec<i32>> =
            found.space.level(depth).map(|id| game.unpack(&found.space.state(id))).collect();
        here.sort();
        for state in here {
            match turner.broken_at(&state) {
                Ok(None) => {}
                Ok(Some(broken)) => {
                    let message = format!(
                        "the law `{name}` is broken after {}: {}",
                        counted(depth.into(), "move", "moves"),
                        law.why
                    );
                    t.diagnostics.push(
                        Diagnostic::error("E004", b.model.file, law.span, message)
                            .also(file, level.span, "on this level")
                            .note(format!("{} in {}: {}", broken.moved, b.line(&state), broken.words.0))
                            .note(format!("{} on the {name} board: {}", broken.turned, broken.words.1)),
                    );
                    t.failed_examples += 1;
                    return format!("{name}: BROKEN");
                }
                Err(fault) => return format!("{name}: the model breaks: {fault}"),
            }
        }
    }
    let seen = grouped(found.counts.states);
    if found.counts.complete {
        format!("{name}: holds in all {seen} states")
    } else {
        format!("{name}: holds in {seen} states looked at")
    }
}

/// Draws every shape of a model in all its turns.
fn write_shapes(s: &mut Session, model: &Model) -> Result<(), Trouble> {
    for group in &model.shapes {
        s.line("")?;
        s.line(format!("shapes {} of {}", group.name, model.name))?;
        for shape in &group.shapes {
            let cells = || shape.turns.iter().flatten().copied().chain([(0, 0)]);
            let (top, bottom) =
                (cells().map(|c| c.0).min().unwrap_or(0), cells().map(|c| c.0).max().unwrap_or(0));
            let (left, right) =
                (cells().map(|c| c.1).min().unwrap_or(0), cells().map(|c| c.1).max().unwrap_or(0));
            let about = if shape.corner {
                "a corner: the upper left one of the marked cell"
            } else {
                "the marked cell"
            };
            // Turns that cover the same cells, seen without the anchor.
            let look = |turn: &Vec<(i64, i64)>| {
                let (r, c) = (turn.iter().map(|c| c.0).min(), turn.iter().map(|c| c.1).min());
                let mut out: Vec<(i64, i64)> =
                    turn.iter().map(|x| (x.0 - r.unwrap_or(0), x.1 - c.unwrap_or(0))).collect();
                out.sort_unstable();
                out
            };
            let mut alike = vec![];
            for i in 0..shape.turns.len() {
                for j in i + 1..shape.turns.len() {
                    if look(&shape.turns[i]) == look(&shape.turns[j]) {
                        alike.push(format!("{i} and {j}"));
                    }
                }
            }
            s.line("")?;
            s.line(format!(
                "  {}: {} of {} drawn turns differ, about {about}{}",
                shape.name,
                shape.turns.len(),
                shape.drawn,
                if alike.is_empty() {
                    String::new()
                } else {
                    format!("; turns {} look alike and lie differently", alike.join(", "))
                }
            ))?;
            let blocks: Vec<Vec<String>> = shape
                .turns
                .iter()
                .enumerate()
                .map(|(t, turn)| {
                    let mut block = vec![format!("turn {t}")];
                    for r in top..=bottom {
                        let row: Vec<&str> = (left..=right)
                            .map(|c| match (turn.contains(&(r, c)), (r, c) == (0, 0)) {
                                (true, true) => "@",
                                (false, true) => "+",
                                (true, false) => "x",
                                (false, false) => ".",
                            })
                            .collect();
                        block.push(row.join(" "));
                    }
                    block
                })
                .collect();
            s.lines(
                &side_by_side(&blocks, 4, WIDTH).into_iter().map(|l| format!("  {l}")).collect::<Vec<_>>(),
            )?;
        }
    }
    Ok(())
}

/// Looks for a state in which two statuses hold at once.
fn overlap(game: &Game) -> String {
    let model = &game.bound.model;
    if model.statuses.len() < 2 {
        return "-".into();
    }
    let limits = Limits { max_states: OVERLAP_STATES, threads: 1, ..Limits::default() };
    let Ok(found) = explore(game, limits, false, &NoWatch) else {
        return "the start breaks the model".into();
    };
    let mut eval = Eval::new(&game.bound);
    for depth in 0..found.space.levels_len() {
        let mut here: Vec<(String, Vec<usize>)> = vec![];
        for id in found.space.level(depth) {
            let state = game.unpack(&found.space.state(id));
            if let Ok(list) = eval.all_statuses(&state)
                && list.len() > 1
            {
                here.push((game.bound.line(&state), list));
            }
        }
        if let Some((line, list)) = here.into_iter().min() {
            let words: Vec<String> = list.iter().map(|&e| ending_text(&model.endings[e])).collect();
            return format!("{} at depth {depth}: {line}", words.join(" and "));
        }
    }
    let seen = grouped(found.counts.states);
    if found.counts.complete {
        format!("never, in all {seen} states")
    } else {
        format!("none within {seen} states")
    }
}
