//! Runs the examples inside a model, with the reference executor.

use std::sync::Arc;

use crate::ast::{ExampleLine, ExprKind};
use crate::bind::{Binder, Bound, Text, bind, ending_text};
use crate::diag::{Diagnostic, Span};
use crate::hir::{EndKind, Example, Model, Shape, Show};
use crate::level::{Key, Level, Raw, RawKind};
use crate::play::{MoveTable, Step, is_stuck, step};
use crate::reference::Eval;

/// How an example went.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExampleResult {
    /// Its title.
    pub title: String,
    /// What failed, if anything.
    pub failures: Vec<Diagnostic>,
}

/// Runs all examples of a model; `text` is its source.
#[must_use]
pub fn run_all(model: &Arc<Model>, text: &str) -> Vec<ExampleResult> {
    model
        .examples
        .iter()
        .map(|e| {
            let mut failures = vec![];
            run(model, text, e, &mut failures);
            ExampleResult { title: e.title.clone(), failures }
        })
        .collect()
}

fn level_of(text: &str, example: &Example) -> Level {
    let raw = |value: &crate::ast::Expr| match &value.kind {
        ExprKind::Board(b) => Raw { kind: RawKind::Text(b.text.clone(), Some(b.at)), span: b.span },
        _ => {
            let words = text[value.span.range()].to_string();
            Raw { kind: RawKind::Text(words, Some(value.span.start)), span: value.span }
        }
    };
    let mut level = Level { name: example.title.clone(), span: example.span, ..Level::default() };
    for (line, _) in &example.lines {
        match line {
            ExampleLine::Size(rows, cols, span) => level.size = Some(((*rows, *cols), *span)),
            ExampleLine::Level(name, value) => {
                level.values.push((Key { text: name.text.clone(), span: name.span }, raw(value)));
            }
            ExampleLine::Start(name, value) => {
                level.start.push((Key { text: name.text.clone(), span: name.span }, raw(value)));
            }
            _ => {}
        }
    }
    level
}

fn run(model: &Arc<Model>, text: &str, example: &Example, failures: &mut Vec<Diagnostic>) -> Option<()> {
    let file = model.file;
    let fail = |span: Span, message: String| Diagnostic::error("E001", file, span, message);
    let level = level_of(text, example);
    let b = bind(model, file, &level, &[], failures)?;
    let Ok(moves) = MoveTable::new(&b) else {
        failures.push(fail(example.span, "this example has too many moves".into()));
        return None;
    };
    let mut state = b.position.clone();
    let mut refused: Option<(String, Span)> = None;
    for (line, cond) in &example.lines {
        if let Some((why, span)) = &refused
            && !matches!(line, ExampleLine::Refused(..))
        {
            failures.push(fail(*span, format!("this move is refused: {why}")));
            return None;
        }
        match line {
            ExampleLine::Size(..) | ExampleLine::Level(..) | ExampleLine::Start(..) => {}
            ExampleLine::Do(words, span) => {
                let list = match moves.parse(words, file, span.start) {
                    Ok(list) => list,
                    Err(e) => {
                        failures.push(*e);
                        return None;
                    }
                };
                for (i, (number, span)) in list.iter().enumerate() {
                    match step(&b, &moves, &state, *number, true) {
                        Ok(Step::Made { state: next, .. }) => state = next,
                        Ok(Step::Refused { site, .. }) => {
                            let why = model.refuses[site].why.clone();
                            if i + 1 < list.len() {
                                failures.push(fail(*span, format!("this move is refused: {why}")));
                                return None;
                            }
                            refused = Some((why, *span));
                        }
                        Ok(Step::NotOffered) => {
                            failures.push(fail(*span, "this move is not offered here".into()));
                            return None;
                        }
                        Ok(Step::Ended(e)) => {
                            let how = ending_text(&model.endings[e]);
                            failures.push(fail(*span, format!("the game has ended before: {how}")));
                            return None;
                        }
                        Err(fault) => {
                            failures.push(
                                fail(*span, format!("the model breaks: {fault}"))
                                    .also(file, fault.span, "here"),
                            );
                            return None;
                        }
                    }
                }
            }
            ExampleLine::Refused(want, span) => match refused.take() {
                Some((why, _)) if why == *want => {}
                Some((why, at)) => {
                    failures.push(fail(*span, format!("refused for another reason: {why}")).also(
                        file,
                        at,
                        "this move",
                    ));
                }
                None => failures.push(fail(*span, "nothing was refused".into())),
            },
            ExampleLine::See(e) => {
                let cond = cond.as_ref().expect("checked with its line");
                match Eval::new(&b).value_in(cond, &state) {
                    Ok(0) => {
                        failures.push(fail(e.span, "this does not hold".into()).note(drawn(&b, &state)));
                    }
                    Ok(_) => {}
                    Err(fault) => failures.push(fail(e.span, format!("the model breaks: {fault}"))),
                }
            }
            ExampleLine::SeeBoard(name, board) => {
                see_board(&b, &state, &name.text, name.span, board, failures);
            }
            ExampleLine::Status(name, why) => {
                let is = match Eval::new(&b).status(&state) {
                    Ok(Some(e)) => ending_text(&model.endings[e]),
                    Ok(None) => match is_stuck(&b, &moves, &state) {
                        Ok(true) => "stuck".into(),
                        Ok(false) => "running".into(),
                        Err(fault) => format!("a fault: {fault}"),
                    },
                    Err(fault) => format!("a fault: {fault}"),
                };
                let kind = match name.text.as_str() {
                    "goal" => EndKind::Goal,
                    "lost" => EndKind::Lost,
                    _ => EndKind::Over,
                };
                let want = match name.text.as_str() {
                    "running" | "stuck" => name.text.clone(),
                    _ => ending_text(&crate::hir::Ending { kind, why: why.clone() }),
                };
                let known = ["running", "goal", "lost", "over", "stuck"];
                if !known.contains(&name.text.as_str()) {
                    failures.push(
                        fail(name.span, format!("`{}` is no status", name.text))
                            .note(format!("the statuses are: {}", known.join(", "))),
                    );
                } else if is != want && !(why.is_none() && is.split(':').next() == Some(want.as_str())) {
                    failures.push(fail(name.span, format!("expected {want}, the position is {is}")));
                }
            }
        }
    }
    if let Some((why, span)) = refused {
        failures.push(fail(span, format!("this move is refused: {why}")));
    }
    Some(())
}

fn drawn(b: &Bound, state: &[i32]) -> String {
    format!("the position is {}", b.line(state))
}

fn see_board(
    b: &Bound,
    state: &[i32],
    name: &str,
    span: Span,
    board: &crate::ast::BoardText,
    failures: &mut Vec<Diagnostic>,
) {
    let model = &b.model;
    let text = Text { text: &board.text, at: Some(board.at), span: board.span, file: model.file };
    let mut binder = Binder { model, errors: failures };
    let drawing = model.shows.iter().find(|s| matches!(s, Show::Drawing { name: n, .. } if n == name));
    let read = if let Some(show) = drawing {
        binder.drawing(b, show, text, true)
    } else if let Some(var) = model.var(name) {
        binder.block(b, var, text, true).map(|values| vec![(var, values)])
    } else {
        let known = model.vars.iter().map(|v| v.name.as_str());
        let near = crate::diag::near(name, known).map(str::to_string);
        let error = binder.error("E002", model.file, span, format!("no board is named `{name}`"));
        if let Some(n) = near {
            error.notes.push(format!("did you mean `{n}`?"));
        }
        None
    };
    let Some(read) = read else { return };
    for (var, values) in read {
        let slot = &b.slots[var];
        let region = if model.vars[var].state { state } else { &b.data };
        let have = &region[slot.base..slot.base + slot.len];
        for (i, (want, &is)) in values.iter().zip(have).enumerate() {
            let Some(want) = want else { continue };
            if *want != i64::from(is) {
                let what = &model.vars[var].name;
                let place = if model.vars[var].shape == Shape::One {
                    String::new()
                } else {
                    format!(" at {}", crate::bind::cell_name(i, b.cols))
                };
                let message = format!(
                    "`{what}`{place} is {}, expected {}",
                    b.value_text(var, is.into()),
                    b.value_text(var, *want)
                );
                failures
                    .push(Diagnostic::error("E001", model.file, board.span, message).note(drawn(b, state)));
                return;
            }
        }
    }
}
