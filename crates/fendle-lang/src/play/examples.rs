//! Runs the examples inside a model, with the reference executor.

use std::sync::Arc;

use crate::level::bind_until;
use crate::model::{Body, EndKind, Example, Extent, Model, Show, VarId};
use crate::play::{Call, MoveTable, Played, Tried, is_stuck, merged, step, with_draws};
use crate::position::read::{Binder, Text, is_untold_by_drawing};
use crate::run::Eval;
use crate::source::{Diagnostic, Span};
use crate::state::Bound;
use crate::state::chance::Chance;
use crate::state::{Stop, ending_text};
use crate::syntax::level::{Key, Level, Raw, RawKind};
use crate::syntax::tree::{ExampleLine, ExprKind, OutcomeHow};

/// How an example went.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExampleResult {
    /// Its title.
    pub title: String,
    /// What failed, if anything.
    pub failures: Vec<Diagnostic>,
}

/// Somebody said stop; the results of the examples that were run before.
#[derive(Clone, Debug, PartialEq)]
pub struct Stopped(pub Vec<ExampleResult>);

/// Runs all examples of a model; `text` is its source.
///
/// # Errors
///
/// [`Stopped`] when `stop` says so before all were run.
pub fn run_all(model: &Arc<Model>, text: &str, stop: &Stop) -> Result<Vec<ExampleResult>, Stopped> {
    let mut out = vec![];
    for e in &model.examples {
        let mut failures = vec![];
        run(model, text, e, stop, &mut failures);
        // What an example says that was stopped says nothing.
        if stop.is_asked() {
            return Err(Stopped(out));
        }
        out.push(ExampleResult { title: e.title.clone(), failures });
    }
    Ok(out)
}

fn level_of(text: &str, example: &Example) -> Level {
    let raw = |value: &crate::syntax::tree::Expr| match &value.kind {
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

fn run(
    model: &Arc<Model>,
    text: &str,
    example: &Example,
    stop: &Stop,
    failures: &mut Vec<Diagnostic>,
) -> Option<()> {
    let file = model.file;
    let fail = |span: Span, message: String| Diagnostic::error("E001", file, span, message);
    let level = level_of(text, example);
    let b = bind_until(model, file, &level, &[], stop, failures)?;
    let Ok(moves) = MoveTable::new(&b) else {
        failures.push(fail(example.span, "this example has too many moves".into()));
        return None;
    };
    let mut worlds = vec![World { state: b.position.clone(), chance: Chance::SURE, score: 0 }];
    if b.drawn {
        let seed = example.lines.iter().find_map(|(l, _)| match l {
            ExampleLine::Seed(n, _) => Some(*n),
            _ => None,
        });
        match crate::run::setup::sample(&b, seed.unwrap_or(1)) {
            Ok(start) => worlds[0].state = start.state,
            Err(e) => {
                failures.push(fail(example.span, e.to_string()));
                return None;
            }
        }
    }
    let mut run = Run { b: &b, moves: &moves, worlds, refused: None };
    for (line, cond) in &example.lines {
        if let Err(wrong) = run.line(line, cond.as_ref(), failures) {
            failures.extend(wrong);
            return None;
        }
    }
    if let Some((why, span)) = run.refused {
        failures.push(fail(span, format!("this move is refused: {why}")));
    }
    Some(())
}

/// An example on its way.
struct Run<'r> {
    b: &'r Bound,
    moves: &'r MoveTable,
    /// Where it may be by now.
    worlds: Vec<World>,
    /// Why the last move was refused, and where it stands; a line must say so.
    refused: Option<(String, Span)>,
}

/// What a line that ends an example says of it.
type Wrong = Vec<Diagnostic>;

impl Run<'_> {
    fn wrong(&self, span: Span, message: String) -> Diagnostic {
        Diagnostic::error("E001", self.b.model.file, span, message)
    }

    /// Follows one line. What is wrong, and lets the example go on, goes into `failures`.
    ///
    /// # Errors
    ///
    /// What is wrong so that the example cannot go on.
    fn line(
        &mut self,
        line: &ExampleLine,
        cond: Option<&Body>,
        failures: &mut Vec<Diagnostic>,
    ) -> Result<(), Wrong> {
        if let Some((why, span)) = &self.refused
            && !matches!(line, ExampleLine::Refused(..))
        {
            return Err(vec![self.wrong(*span, format!("this move is refused: {why}"))]);
        }
        match line {
            ExampleLine::Size(..)
            | ExampleLine::Level(..)
            | ExampleLine::Start(..)
            | ExampleLine::Seed(..) => {}
            ExampleLine::Do(words, span) => {
                let list = self.moves.parse(words, self.b.model.file, span.start).map_err(|e| vec![*e])?;
                for (i, call) in list.iter().enumerate() {
                    self.make(call, i + 1 == list.len()).map_err(|wrong| vec![wrong])?;
                }
            }
            ExampleLine::Refused(want, span) => match self.refused.take() {
                Some((why, _)) if why == *want => {}
                Some((why, at)) => {
                    let wrong = self.wrong(*span, format!("refused for another reason: {why}"));
                    failures.push(wrong.also(self.b.model.file, at, "this move"));
                }
                None => failures.push(self.wrong(*span, "nothing was refused".into())),
            },
            ExampleLine::Outcomes { how, what, span } => {
                failures.extend(self.outcomes(*how, what, cond, *span)?);
            }
            _ => {
                if self.worlds.len() > 1 {
                    let wrong =
                        self.wrong(line_span(line), format!("there are {} outcomes here", self.worlds.len()));
                    return Err(vec![wrong.note(
                        "say which: `some outcome see ...`, `every outcome ...`, or name the draws after `/`",
                    )]);
                }
                holds(self.b, self.moves, &self.worlds[0], line, cond, failures);
            }
        }
        Ok(())
    }

    /// Makes a move wherever the example may be. Only the last move of a line, in one place alone, may be refused.
    fn make(&mut self, call: &Call, last: bool) -> Result<(), Diagnostic> {
        let b = self.b;
        let mut next = vec![];
        for world in &self.worlds {
            match step(b, self.moves, &world.state, call.number, true) {
                Ok(Tried::Made(outcomes)) => self.lead_on(call, world, outcomes, &mut next)?,
                Ok(Tried::Refused { site, .. }) => {
                    let why = b.model.refuses[site].why.clone();
                    if !last || self.worlds.len() > 1 {
                        return Err(self.wrong(call.span, format!("this move is refused: {why}")));
                    }
                    self.refused = Some((why, call.span));
                    next.push(world.clone());
                }
                Ok(Tried::NotOffered) => {
                    return Err(self.wrong(call.span, "this move is not offered here".into()));
                }
                Ok(Tried::Ended(e)) => {
                    let how = b.ending_words(e);
                    return Err(self.wrong(call.span, format!("the game has ended before: {how}")));
                }
                Err(fault) => {
                    let wrong = self.wrong(call.span, format!("the model breaks: {fault}"));
                    return Err(wrong.also(b.model.file, fault.span, "here"));
                }
            }
        }
        self.worlds = next;
        if self.worlds.len() > WORLDS_MAX {
            let message = format!("more than {WORLDS_MAX} outcomes; name the draws, as in `/ 2 at r1c1`");
            return Err(self.wrong(call.span, message));
        }
        Ok(())
    }

    /// Where the outcomes of a move lead to, with their chances; of named draws the one outcome.
    fn lead_on(
        &self,
        call: &Call,
        world: &World,
        outcomes: Vec<Played>,
        next: &mut Vec<World>,
    ) -> Result<(), Diagnostic> {
        let many = outcomes.len();
        let outcomes = match &call.draws {
            Some(draws) => with_draws(outcomes, draws),
            None => merged(outcomes),
        };
        if let (Some(draws), true) = (&call.draws, outcomes.len() != 1) {
            let message = format!("`{draws}` names {} of {many} outcomes; one is wanted", outcomes.len());
            return Err(self.wrong(call.span, message));
        }
        for p in outcomes {
            let chance = match &call.draws {
                Some(_) => Some(world.chance),
                None => product(world.chance, p.made.chance),
            };
            let Some(chance) = chance else {
                return Err(self.wrong(call.span, "too many draws for one example".into()));
            };
            next.push(World { state: p.made.state, chance, score: world.score + p.made.score });
        }
        Ok(())
    }

    /// What is wrong with a line about some or all outcomes, or their chance.
    ///
    /// # Errors
    ///
    /// What is wrong so that the example cannot go on.
    fn outcomes(
        &self,
        how: OutcomeHow,
        what: &ExampleLine,
        cond: Option<&Body>,
        span: Span,
    ) -> Result<Option<Diagnostic>, Wrong> {
        let mut hits = 0;
        let mut chance: Option<Chance> = None;
        for world in &self.worlds {
            let mut own = vec![];
            holds(self.b, self.moves, world, what, cond, &mut own);
            // A line that cannot be read at all is no outcome's fault.
            if let Some(wrong) = own.iter().find(|d| d.code != "E001") {
                return Err(vec![wrong.clone()]);
            }
            if own.is_empty() {
                hits += 1;
                chance = match chance {
                    None => Some(world.chance),
                    Some(c) => c.or(world.chance),
                };
            } else if how == OutcomeHow::Every {
                return Err(own);
            }
        }
        let good = match how {
            OutcomeHow::Some => hits > 0,
            OutcomeHow::Every => true,
            OutcomeHow::Chance(0, _) => hits == 0,
            OutcomeHow::Chance(n, of) => chance == Some(Chance::new(n.into(), of.into())),
        };
        Ok((!good).then(|| {
            let have = chance.map_or("0".to_string(), |c| c.to_string());
            self.wrong(span, format!("{hits} of {} outcomes do, with chance {have}", self.worlds.len()))
        }))
    }
}

/// Most outcomes that an example follows at a time.
const WORLDS_MAX: usize = 4096;

/// A state that the moves of an example can have led to.
#[derive(Clone)]
struct World {
    state: Vec<i32>,
    chance: Chance,
    score: i64,
}

fn product(a: Chance, b: Chance) -> Option<Chance> {
    a.then(u64::try_from(b.num).ok()?, u64::try_from(b.den).ok()?)
}

fn line_span(line: &ExampleLine) -> Span {
    match line {
        ExampleLine::SeeBoard(name, _) | ExampleLine::Status(name, _) => name.span,
        ExampleLine::See(e) => e.span,
        ExampleLine::Score(_, span) => *span,
        _ => Span::default(),
    }
}

/// Checks a line that says something of one state.
fn holds(
    b: &Bound,
    moves: &MoveTable,
    world: &World,
    line: &ExampleLine,
    cond: Option<&crate::model::Body>,
    failures: &mut Vec<Diagnostic>,
) {
    let model = &b.model;
    let file = model.file;
    let state = &world.state;
    let fail = |span: Span, message: String| Diagnostic::error("E001", file, span, message);
    match line {
        ExampleLine::See(e) => {
            let cond = cond.expect("checked with its line");
            match Eval::new(b).value_in(cond, state) {
                Ok(0) => failures.push(fail(e.span, "this does not hold".into()).note(drawn(b, state))),
                Ok(_) => {}
                Err(fault) => failures.push(fail(e.span, format!("the model breaks: {fault}"))),
            }
        }
        ExampleLine::SeeBoard(name, board) => {
            see_board(b, state, &name.text, name.span, board, failures);
        }
        ExampleLine::Score(want, span) if world.score != *want => {
            failures.push(fail(*span, format!("expected a score of {want}, it is {}", world.score)));
        }
        ExampleLine::Status(name, why) => {
            let is = match Eval::new(b).status(state) {
                Ok(Some(e)) => b.ending_words(e),
                Ok(None) => match is_stuck(b, moves, state) {
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
                _ => ending_text(&crate::model::Ending { kind, why: why.clone() }),
            };
            let known = ["running", "goal", "lost", "over", "stuck"];
            if !known.contains(&name.text.as_str()) {
                failures.push(
                    Diagnostic::error("E003", file, name.span, format!("`{}` is no status", name.text))
                        .note(format!("the statuses are: {}", known.join(", "))),
                );
            } else if is != want && !(why.is_none() && is.split(':').next() == Some(want.as_str())) {
                failures.push(fail(name.span, format!("expected {want}, the position is {is}")));
            }
        }
        _ => {}
    }
}

fn drawn(b: &Bound, state: &[i32]) -> String {
    format!("the position is {}", b.line(state))
}

fn see_board(
    b: &Bound,
    state: &[i32],
    name: &str,
    span: Span,
    board: &crate::syntax::tree::BoardText,
    failures: &mut Vec<Diagnostic>,
) {
    let model = &b.model;
    let text = Text { text: &board.text, at: Some(board.at), span: board.span, file: model.file };
    let mut binder = Binder { model, errors: failures };
    let drawing = model.shows.iter().find(|s| matches!(s, Show::Drawing { name: n, .. } if n == name));
    let drawn_rows = match drawing {
        // What its glyphs say is not all that they show: how it looks is compared.
        Some(Show::Drawing { vars, rules, layered, .. })
            if *layered
                || rules.iter().any(|r| r.when.is_some())
                || vars.iter().any(|v| is_untold_by_drawing(&model.vars[*v])) =>
        {
            Some(b.draw_one(state, vars, rules, *layered).0)
        }
        None => model.derived.iter().find(|d| d.0 == name).and_then(|d| b.derived_rows(state, d.1)),
        _ => None,
    };
    if let Some(rows) = drawn_rows {
        let Some(want) = binder.board(text, true, Some((b.rows, b.cols))) else { return };
        let mut looks = None;
        for (cell, ((part, span), is)) in want.into_iter().flatten().zip(rows.iter().flatten()).enumerate() {
            if part != "?" && part != is {
                let at = crate::state::cell_name(cell, b.cols);
                let message = format!("`{name}` at {at} is drawn `{is}`, expected `{part}`");
                looks = Some(Diagnostic::error("E001", model.file, span, message).note(drawn(b, state)));
                break;
            }
        }
        let Some(looks) = looks else { return };
        // Which variable is otherwise than the glyphs say tells more, where they say it.
        let said = failures.len();
        let mut binder = Binder { model, errors: failures };
        let plain = |show: &&Show| match show {
            Show::Drawing { rules, .. } => rules.iter().all(|r| r.when.is_none()),
            Show::Values { .. } => false,
        };
        let by_glyphs = drawing.filter(plain).and_then(|show| binder.drawing(b, show, text, true));
        failures.truncate(said);
        if let Some(read) = by_glyphs {
            see_values(b, state, board.span, read, failures);
        }
        if failures.len() == said {
            failures.push(looks);
        }
        return;
    }
    let read = if let Some(show) = drawing {
        binder.drawing(b, show, text, true)
    } else if let Some(var) = model.var(name) {
        binder.block(b, var, text, true).map(|values| vec![(var, values)])
    } else {
        let known = model.vars.iter().map(|v| v.name.as_str());
        let near = crate::source::near(name, known).map(str::to_string);
        let error = binder.error("E002", model.file, span, format!("no board is named `{name}`"));
        if let Some(n) = near {
            error.notes.push(format!("did you mean `{n}`?"));
        }
        None
    };
    if let Some(read) = read {
        see_values(b, state, board.span, read, failures);
    }
}

/// Holds values that a board says against those of a state; says the first that differs.
fn see_values(
    b: &Bound,
    state: &[i32],
    span: Span,
    read: Vec<(VarId, Vec<Option<i64>>)>,
    failures: &mut Vec<Diagnostic>,
) {
    let model = &b.model;
    for (var, values) in read {
        let slot = &b.slots[var];
        let region = if model.vars[var].state { state } else { &b.data };
        let have = &region[slot.base..slot.base + slot.len];
        for (i, (want, &is)) in values.iter().zip(have).enumerate() {
            let Some(want) = want else { continue };
            if *want != i64::from(is) {
                let what = &model.vars[var].name;
                let place = if model.vars[var].shape == Extent::One {
                    String::new()
                } else if let Extent::Array(key) = model.vars[var].shape {
                    format!(" at {}", b.key_names(key)[i])
                } else {
                    format!(" at {}", crate::state::cell_name(i, b.cols))
                };
                let message = format!(
                    "`{what}`{place} is {}, expected {}",
                    b.value_text(var, is.into()),
                    b.value_text(var, *want)
                );
                failures.push(Diagnostic::error("E001", model.file, span, message).note(drawn(b, state)));
                return;
            }
        }
    }
}
