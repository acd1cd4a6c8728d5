//! What the player can know of a loaded level.

use fendle_core::knowledge::{Knowing, NotKnown};
use fendle_core::{Fault, Limits, Model, MoveId};
use fendle_lang::run::setup::worlds;
use fendle_lang::{Bound, Game};

use serde_json::json;

use crate::args::{Common, Format, LevelArgs};
use crate::files::Loaded;
use crate::{Session, Trouble};

/// Most worlds that are weighed one by one.
pub const WORLDS_MAX: usize = 1 << 17;

/// How a level is played by an analysis.
pub enum Play<'g> {
    /// Nothing is hidden, or `--known` says so.
    Open,
    /// With what can be known; and how many worlds there are at the start.
    Knowing(Box<Knowing<'g>>, usize),
    /// More worlds than are weighed.
    TooMany,
}

impl Play<'_> {
    /// What an analysis works on: the model, how many worlds there are at the start (0 without knowledge), and the
    /// limits.
    pub fn on<'p>(&'p self, game: &'p Game, common: &Common) -> (&'p dyn Model, usize, Limits) {
        let limits = crate::watch::limits(common);
        match self {
            Play::Knowing(k, n) => (&**k, *n, in_order(limits)),
            _ => (game, 0, limits),
        }
    }

    /// The words for a level with too many worlds.
    fn too_many() -> String {
        format!(
            "undecided: more than {WORLDS_MAX} layouts are possible, and they are weighed one by one here; `fendle infer` counts them, --known takes the layout as known"
        )
    }
}

/// One state after the other by one thread: information states are numbered as they are met.
pub fn in_order(limits: Limits) -> Limits {
    Limits { threads: 1, ..limits }
}

/// How a level is to be played, all boards where it gives no layout. `None` when there are too many worlds: that is
/// said already.
///
/// # Errors
///
/// A message.
pub fn play_or_say<'g>(
    s: &mut Session,
    loaded: &'g Loaded,
    args: &LevelArgs,
) -> Result<Option<Play<'g>>, Trouble> {
    let play = play(loaded, args, true)?;
    if matches!(play, Play::TooMany) {
        say_too_many(s, loaded, "")?;
        return Ok(None);
    }
    Ok(Some(play))
}

/// Says that there are too many worlds, and why they are not counted in parts.
///
/// # Errors
///
/// When nothing can be written.
pub fn say_too_many(s: &mut Session, loaded: &Loaded, why: &str) -> Result<(), Trouble> {
    let words = format!("{}{why}", Play::too_many());
    if s.common.format == Format::Json {
        s.json(&json!({"level": loaded.level.name, "verdict": "undecided", "why": words}))?;
    } else {
        s.line(words)?;
    }
    Ok(())
}

/// Where play begins, in words.
pub fn begin_words(loaded: &Loaded, args: &LevelArgs) -> Option<String> {
    if loaded.game.bound.model.hides() && !args.known && takes_all(loaded, args) {
        return Some("every layout that the level allows".into());
    }
    loaded.begin.words()
}

/// Whether the level leaves the layout open, and nothing was played on the one that the seed draws.
fn takes_all(loaded: &Loaded, args: &LevelArgs) -> bool {
    let b = &loaded.game.bound;
    let seen = b.seen.iter().any(Option::is_some);
    !b.scattered.is_empty() && !seen && loaded.played.is_empty() && args.at.is_none()
}

/// How a level is to be played. `boards`: where the level gives no layout, all boards and not only the one that
/// the seed draws.
///
/// # Errors
///
/// A message.
pub fn play<'g>(loaded: &'g Loaded, args: &LevelArgs, boards: bool) -> Result<Play<'g>, Trouble> {
    if args.known {
        return Ok(Play::Open);
    }
    from(&loaded.game, &loaded.history, &loaded.played, boards && takes_all(loaded, args))
}

/// The same from the states on the way, the first being where play began, and the moves between them. `whole`: all
/// boards, and not only those that look like the first state.
///
/// # Errors
///
/// A message.
pub fn from<'g>(
    game: &'g Game,
    history: &[Vec<i32>],
    played: &[usize],
    whole: bool,
) -> Result<Play<'g>, Trouble> {
    if !game.bound.model.hides() {
        return Ok(Play::Open);
    }
    let begun = game.bound.at(history[0].clone());
    let begun = Bound { drawn: game.bound.drawn, ..begun };
    let fail = |e: String| Trouble::Message(format!("what can be known is not known: {e}"));
    let Some(all) = worlds(&begun, WORLDS_MAX).map_err(|e| fail(e.to_string()))? else {
        return Ok(Play::TooMany);
    };
    let packed: Vec<(Vec<u64>, u64)> = all.iter().map(|(s, w)| (game.pack(s), *w)).collect();
    let whole = whole || game.bound.seen.iter().any(Option::is_some);
    let first = game.pack(&history[0]);
    let truth = (!whole).then_some(first.as_slice());
    let mut knowing = Knowing::new(game, &packed, truth).map_err(|e| fail(words(game, e)))?;
    for (m, state) in played.iter().zip(&history[1..]) {
        let id = knowing.begins()[0].0;
        let next =
            knowing.after(id, MoveId(*m as u32), &game.pack(state)).map_err(|e| fail(words(game, e)))?;
        knowing.begin_at(next);
    }
    let count = knowing.begins().iter().map(|b| knowing.worlds(b.0).len()).sum();
    Ok(Play::Knowing(Box::new(knowing), count))
}

/// Why there is no information state.
pub fn words(game: &Game, e: NotKnown) -> String {
    match e {
        NotKnown::Fault(f) => fault_words(game, &f),
        NotKnown::NoWorld => "no layout agrees with what is seen".into(),
        NotKnown::TooFine => "the weights of the layouts are too fine".into(),
    }
}

/// A fault in words, whichever model met it.
pub fn fault_words(game: &Game, f: &Fault) -> String {
    if f.site == u32::MAX {
        return "the weights of the layouts are too fine to be kept exactly".into();
    }
    game.run_fault(f).to_string()
}
