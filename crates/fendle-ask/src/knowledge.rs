//! How a level is played by an analysis: with the layout known, or with what the player can know.

use fendle_core::knowledge::{Knowing, NotKnown};
use fendle_core::{Limit, Limits, Model, MoveId};
use fendle_lang::reasons::exchange::exchange;
use fendle_lang::run::Eval;
use fendle_lang::run::scatter::{hidden_vars, layouts_by_names};
use fendle_lang::run::setup::{NoStart, worlds, worlds_of};
use fendle_lang::{Bound, Diagnostic, Game};

use crate::answer::{Trouble, limit_of};
use crate::budget::Budget;
use crate::load::Loaded;

/// Most worlds that are weighed one by one.
pub const WORLDS_MAX: usize = 1 << 17;

/// How a level is played by an analysis.
pub enum Play<'g> {
    /// Nothing is hidden, or the layout is taken as known.
    Open,
    /// With what can be known; and how many worlds there are at the start.
    Knowing(Box<Knowing<'g>>, usize),
}

impl Play<'_> {
    /// What an analysis works on: the model, how many worlds there are at the start (0 without knowledge), and the
    /// limits.
    pub fn on<'p>(&'p self, game: &'p Game, budget: &Budget) -> (&'p dyn Model, usize, Limits) {
        let limits = budget.limits();
        match self {
            Play::Knowing(k, n) => (&**k, *n, limits),
            Play::Open => (game, 0, limits),
        }
    }

    /// Whether states are what a player can know.
    #[must_use]
    pub fn is_knowing(&self) -> bool {
        matches!(self, Play::Knowing(..))
    }
}

/// Whether play is with one layout, named or not: where a level gives only what is told, there is none.
///
/// # Errors
///
/// Words, where a question about positions of one layout is asked of a level that gives none.
pub fn needs_layout(level: &Loaded, what: &str) -> Result<(), Trouble> {
    if level.game.bound.seen.iter().any(Option::is_some) {
        return Err(Trouble::Message(format!(
            "`{what}` needs a layout, and this level gives only what is seen; `fendle infer` answers over all layouts that agree"
        )));
    }
    Ok(())
}

/// The words for questions that take the layout as known.
///
/// # Errors
///
/// Words, where the level hides things and nothing says that the layout is known, or there is none.
pub fn needs_known(level: &Loaded, what: &str) -> Result<(), Trouble> {
    if level.game.bound.model.hides() && !level.known {
        return Err(Trouble::Message(format!(
            "`{what}` speaks of positions of one layout, and this level hides things from the player: --known takes the \
             layout as known; `fendle infer` and `fendle explore` speak of what can be known"
        )));
    }
    needs_layout(level, what)
}

/// How a level is to be played. `boards`: where the level gives no layout, all boards and not only the one that
/// the seed draws. `what` names the question, for the words where there is no layout to be known.
///
/// # Errors
///
/// [`Trouble::Limit`] with [`Limit::Layouts`] where more worlds are possible than are weighed.
pub fn play<'g>(level: &'g Loaded, boards: bool, what: &str, budget: &Budget) -> Result<Play<'g>, Trouble> {
    if level.known && level.game.bound.model.hides() {
        needs_layout(level, &format!("{what} --known"))?;
    }
    if level.known {
        return Ok(Play::Open);
    }
    from(&level.game, &level.history, &level.played, boards && level.takes_all(), budget)
}

/// The same from the states on the way, the first being where play began, and the moves between them. `whole`: all
/// boards, and not only those that look like the first state.
///
/// # Errors
///
/// As for [`play`].
pub fn from<'g>(
    game: &'g Game,
    history: &[Vec<i32>],
    played: &[usize],
    whole: bool,
    budget: &Budget,
) -> Result<Play<'g>, Trouble> {
    if !game.bound.model.hides() {
        return Ok(Play::Open);
    }
    let begun = game.bound.at(history[0].clone());
    let begun = Bound { drawn: game.bound.drawn, ..begun };
    let all = match worlds(&begun, WORLDS_MAX) {
        Ok(Some(all)) => all,
        Ok(None) => return Err(Limit::Layouts.into()),
        Err(NoStart::TooFine) => return Err(Limit::TooFine.into()),
        Err(NoStart::Fault(f)) => {
            return Err(limit_of(&f, budget).map_or_else(|| not_known(f.to_string()), Trouble::Limit));
        }
        Err(e) => return Err(not_known(e.to_string())),
    };
    let packed: Vec<(Vec<u64>, u64)> = all.iter().map(|(s, w)| (game.pack(s), *w)).collect();
    let whole = whole || game.bound.seen.iter().any(Option::is_some);
    let first = game.pack(&history[0]);
    let truth = (!whole).then_some(first.as_slice());
    let mut knowing = Knowing::new(game, &packed, truth).map_err(|e| no_information(game, &packed, e))?;
    for (m, state) in played.iter().zip(&history[1..]) {
        let id = knowing.begins()[0].0;
        let next = knowing.after(id, MoveId(*m as u32), &game.pack(state));
        knowing.begin_at(next.map_err(|e| no_information(game, &packed, e))?);
    }
    let count = knowing.begins().iter().map(|b| knowing.worlds(b.0).len()).sum();
    Ok(Play::Knowing(Box::new(knowing), count))
}

/// Layouts of names up to which information states that are alike are kept once.
const ALIKE_MAX: usize = 1 << 22;
/// Bytes that one of them takes beside its values.
const LAYOUT_BYTES: usize = 3 * 48;

/// What can be known, with information states that are alike kept once: for values of the whole, not for ways to print.
/// `None` where the rules tell cells apart, or moves have been played.
///
/// # Errors
///
/// As for [`play`].
pub fn alike<'g>(level: &'g Loaded, boards: bool, budget: &Budget) -> Result<Option<Knowing<'g>>, Trouble> {
    let game = &level.game;
    let b = &game.bound;
    let plain =
        !level.known && b.model.hides() && level.played.is_empty() && b.seen.iter().all(Option::is_none);
    if !plain {
        return Ok(None);
    }
    let Some(found) = exchange(b) else { return Ok(None) };
    let begun = b.at(level.history[0].clone());
    let begun = Bound { drawn: b.drawn, ..begun };
    let by_names = found.names.as_ref().filter(|_| {
        !b.drawn
            && hidden_vars(b).count() == 1
            && b.model.vars.iter().all(|v| v.prior.as_ref().is_none_or(|p| p.with.is_none()))
    });
    let all = match by_names {
        Some(names) => {
            // Each is held as a layout, as a state, and as a packed one; half of the memory is left for what is made of them.
            let bytes = 8 * b.start.len() + 8 * game.layout().words() + LAYOUT_BYTES;
            let most = ALIKE_MAX.min((budget.limits().memory_bytes / 2) as usize / bytes);
            match layouts_by_names(&begun, names.var, &names.groups, (most, &|| budget.is_stopped())) {
                Some(layouts) => worlds_of(&begun, layouts, ALIKE_MAX),
                None => Ok(None),
            }
        }
        None => worlds(&begun, WORLDS_MAX),
    };
    let Ok(Some(all)) = all else { return Ok(None) };
    if budget.is_stopped() {
        return Ok(None);
    }
    let packed: Vec<(Vec<u64>, u64)> = all.iter().map(|(s, w)| (game.pack(s), *w)).collect();
    let whole = boards && level.takes_all();
    let first = game.pack(&level.history[0]);
    let truth = (!whole).then_some(first.as_slice());
    Knowing::alike(game, &packed, truth, found.of(game))
        .map(Some)
        .map_err(|e| no_information(game, &packed, e))
}

fn not_known(why: String) -> Trouble {
    Trouble::Message(format!("what can be known is not known: {why}"))
}

/// Why there is no information state, where play begins in one of these.
fn no_information(game: &Game, begins: &[(Vec<u64>, u64)], e: NotKnown) -> Trouble {
    let fault = match e {
        NotKnown::Fault(f) => game.run_fault(&f),
        NotKnown::NoWorld => return not_known("no layout agrees with what is seen".into()),
        NotKnown::Limit(limit) => return limit.into(),
    };
    let b = &game.bound;
    let law = b.model.always.iter().find(|a| a.span == fault.span);
    let words = match law {
        Some(law) => format!("what can be known is not known: the law \"{}\" is broken", law.why),
        None => format!("what can be known is not known: {fault}"),
    };
    let mut error = Diagnostic::error("F001", b.model.file, fault.span, words).here("here");
    let breaks = |state: &Vec<i32>| matches!(Eval::new(b).status(state), Err(f) if f.span == fault.span);
    match begins.iter().map(|(words, _)| game.unpack(words)).find(breaks) {
        Some(state) => error = error.note(format!("in the layout {}", b.line(&state))),
        None if law.is_some() => error = error.note("in a layout that a later move leads to"),
        None => {}
    }
    Trouble::Diagnostics(vec![error])
}
