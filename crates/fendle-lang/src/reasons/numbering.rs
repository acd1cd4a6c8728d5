//! Finds a small range of numbers for the states of a game: from what can be in play from its starts.

use super::effects::{Form, values_of, var_of_places};
use super::leaps::leaps;
use std::collections::BTreeSet;
use std::sync::{Arc, LazyLock};

use crate::code::Game;
use crate::code::ir::Positions;
use crate::code::leaps::LeapPlan;
use crate::code::numbered::{Backward, Guess, MakesNumbers, Numbered};
use crate::model::{Extent, VarId};
use crate::run::ways::{CanBe, Count, WAYS_MAX, Ways};
use crate::state::keys::{FieldPlan, KeptParity, Sorting};
use crate::state::{Bound, Keys};

/// Following one way through a move takes about as long as expanding so many states.
const WAY_COST: usize = 16;

/// What can be in play from the starts of a game, and how its states are numbered.
pub struct Found {
    /// Every way of the moves, where they could be followed.
    ways: Option<Ways>,
    /// What can be; where the moves could not be followed, all that the types allow.
    pub can: CanBe,
    /// The numbers, where a range is small enough. If they are a guess they say that they are narrow.
    pub keys: Option<Keys>,
}

impl Found {
    /// Whether the moves were followed: else what can be is what the types allow.
    #[must_use]
    pub fn is_followed(&self) -> bool {
        self.ways.is_some()
    }

    /// Whether every move between running states can be taken back.
    #[must_use]
    pub fn can_return(&self) -> bool {
        self.ways.as_ref().is_some_and(|w| w.can_be_undone(&self.can))
    }

    /// How the number of places that hold a value can change, in a range of places.
    #[must_use]
    pub fn count(&self, places: std::ops::Range<usize>, value: i32) -> Count {
        self.ways.as_ref().map_or(Count::Free, |w| self.can.count(w, places, value))
    }
}

/// Finds out what can be, in about the time that expanding `effort` states takes; `stop` ends it. `None` for a game with hidden things. Where
/// branches are set aside moves are not followed: then it is what the types allow.
#[must_use]
pub fn what_can_be(
    game: &Game,
    effort: usize,
    guess: Guess,
    stop: &mut dyn FnMut() -> bool,
) -> Option<Found> {
    let b = &game.bound;
    if b.model.hides() {
        return None;
    }
    let starts: Vec<Vec<i32>> = match game.starts.as_slice() {
        [] => vec![game.settled(&b.position).into_owned()],
        list => list.iter().map(|s| game.settled(&s.0).into_owned()).collect(),
    };
    let starts: Vec<&[i32]> = starts.iter().map(Vec::as_slice).collect();
    let ways = Ways::of(b, (effort / WAY_COST).min(WAYS_MAX), stop);
    let can = match &ways {
        Some(ways) => ways.can_be(&starts),
        None => CanBe { values: typed(b), open: vec![] },
    };
    let known = ways.as_ref().map(|w| (w, &can));
    let keys = (guess == Guess::Allowed && game.code.points.is_empty())
        .then(|| layout(game, &starts, &can, known, Basis { parity: false, sorted: true }))
        .flatten()
        .filter(|keys| keys.range() <= GUESS_MAX)
        .map(Keys::as_narrow)
        .or_else(|| without_guess(game, &starts, &can, known));
    Some(Found { ways, can, keys })
}

/// Numbers for the states of a game, and what leads into a state, in about the time that expanding `effort` states takes.
/// `None` when no range is small enough; `stop` ends it.
#[must_use]
pub fn numbering(
    game: &Game,
    effort: usize,
    guess: Guess,
    stop: &mut dyn FnMut() -> bool,
) -> Option<Numbered> {
    let found = what_can_be(game, effort, guess, stop)?;
    let undone = found.can_return();
    let Found { ways, can, keys } = found;
    let keys = keys?;
    // Where moves draw, the way forwards is not one but many.
    let plan = ways.as_ref().and_then(|ways| leaps(game, ways, &can, &keys));
    let back = ways.filter(|_| game.code.points.is_empty()).map(|ways| Backward::new(&ways, &can));
    Some(with_native(game, keys, (back, plan), undone))
}

/// Who asks for numbers has many states to expand: native code pays.
fn with_native(
    game: &Game,
    keys: Keys,
    (back, leaps): (Option<Backward>, Option<LeapPlan>),
    undone: bool,
) -> Numbered {
    let positions = game.positions().filter(|p| p.bare().is_some());
    // Native code for numbers does not settle states.
    let native = game.native.now(&game.bound, &game.code).filter(|_| game.bound.canon.is_none());
    let continuations = positions.and_then(Positions::bare);
    let make: MakesNumbers = Box::new({
        let (code, keys, positions) = (Arc::clone(&game.code), keys.clone(), positions.cloned());
        move || native?.numbered(&code, &keys, positions.as_ref(), leaps).ok()
    });
    let native = LazyLock::new(make);
    Numbered { keys, back, codec: game.bound.codec.clone(), undone, native, continuations }
}

/// Values that a place was not seen to hold, and others of its variable were, up to which it is given those, too.
const ALIKE_MAX: usize = 64;

/// Numbers for states in which each place holds one of the values that it was seen to hold. Places of one variable that were
/// seen to change are given each other's values: what one was seen to hold the others will hold, too. `None` when no range is
/// small enough, or for a game with hidden things or branches that are set aside.
#[must_use]
pub fn numbering_seen(game: &Game, seen: &[BTreeSet<i32>]) -> Option<Numbered> {
    let b = &game.bound;
    if b.model.cuts || b.model.hides() {
        return None;
    }
    let mut values: Vec<Vec<i32>> = seen.iter().map(|s| s.iter().copied().collect()).collect();
    for (v, def) in b.model.variables().filter(|(_, d)| d.state) {
        let places = b.slots[v].base..b.slots[v].base + b.slots[v].len;
        let is_grid = !matches!(def.shape, Extent::List(_) | Extent::Lists(..));
        let changing: Vec<usize> = places.filter(|at| seen[*at].len() > 1).collect();
        let all: BTreeSet<i32> = changing.iter().flat_map(|at| &seen[*at]).copied().collect();
        if is_grid && all.len() <= ALIKE_MAX {
            changing.into_iter().for_each(|at| values[at] = all.iter().copied().collect());
        }
    }
    let starts: Vec<Vec<i32>> = match game.starts.as_slice() {
        [] => vec![game.settled(&b.position).into_owned()],
        list => list.iter().map(|s| game.settled(&s.0).into_owned()).collect(),
    };
    let starts: Vec<&[i32]> = starts.iter().map(Vec::as_slice).collect();
    let can = CanBe { values, open: vec![] };
    let keys = without_guess(game, &starts, &can, None)?;
    Some(with_native(game, keys.as_narrow(), (None, None), false))
}

/// What leads into a state, whatever the level begins with: of all that the types allow. Each way that it names has to be tried forwards. `None` for
/// a game that draws, hides or sets aside, or whose moves cannot be followed in about the time that expanding `effort` states takes.
#[must_use]
pub fn backward(game: &Game, effort: usize, stop: &mut dyn FnMut() -> bool) -> Option<Backward> {
    let b = &game.bound;
    if b.model.cuts || b.model.hides() || !game.code.points.is_empty() {
        return None;
    }
    let ways = Ways::of(b, (effort / WAY_COST).min(WAYS_MAX), stop)?;
    let open = vec![true; ways.list.len()];
    Some(Backward::new(&ways, &CanBe { values: typed(b), open }))
}

/// The values that the types allow at each place.
fn typed(b: &Bound) -> Vec<Vec<i32>> {
    let vars = var_of_places(b);
    let mut out: Vec<Vec<i32>> = vars
        .iter()
        .enumerate()
        .map(|(at, v)| match v {
            Some(v) if b.slots[*v].cap > 0 && (at - b.slots[*v].base).is_multiple_of(b.slots[*v].cap + 1) => {
                (0..=b.slots[*v].cap as i32).collect()
            }
            Some(v) => values_of(b, *v),
            None => (0..=b.model.ended_codes() as i32).collect(),
        })
        .collect();
    // What a given start was never changes.
    for (v, def) in b.model.variables().filter(|(_, d)| d.state) {
        let slot = &b.slots[v];
        if !slot.active || def.shadow_of.is_some() && !b.drawn {
            let places = slot.base..slot.base + slot.len;
            for (values, start) in out[places.clone()].iter_mut().zip(&b.start[places]) {
                *values = vec![*start];
            }
        }
    }
    out
}

/// Greatest range of numbers that are a guess: a dense space has no more.
const GUESS_MAX: u64 = 1 << 31;

/// What the fields of numbers may rest on.
#[derive(Clone, Copy)]
struct Basis {
    /// A kept parity halves an arrangement.
    parity: bool,
    /// Lists that are sorted in every start stay sorted: a guess. Without such lists there is no layout.
    sorted: bool,
}

/// Numbers for all states that can be.
fn without_guess(
    game: &Game,
    starts: &[&[i32]],
    can: &CanBe,
    known: Option<(&Ways, &CanBe)>,
) -> Option<Keys> {
    let with = |parity| layout(game, starts, can, known, Basis { parity, sorted: false });
    with(true).or_else(|| with(false))
}

/// How the lists in a range of places are sorted in all starts, if they are.
fn how_sorted(starts: &[&[i32]], places: std::ops::Range<usize>, cap: usize) -> Option<Sorting> {
    let lists = || {
        let all = starts.iter().flat_map(|s| s[places.clone()].chunks_exact(cap + 1));
        all.map(|list| &list[1..=list[0] as usize])
    };
    // One thing on each list says nothing of an order.
    if lists().all(|l| l.len() < 2) {
        None
    } else if lists().all(|l| l.windows(2).all(|w| w[0] > w[1])) {
        Some(Sorting::Falls)
    } else {
        lists().all(|l| l.windows(2).all(|w| w[0] < w[1])).then_some(Sorting::Rises)
    }
}

/// The fields of the numbers. Every start has one; `None` when that is not so, or the range is too large.
fn layout(
    game: &Game,
    starts: &[&[i32]],
    can: &CanBe,
    known: Option<(&Ways, &CanBe)>,
    basis: Basis,
) -> Option<Keys> {
    let mut guessed = false;
    let b = &game.bound;
    let mut wanted = vec![];
    for (v, def) in b.model.variables().filter(|(_, d)| d.state) {
        let slot = &b.slots[v];
        let all = slot.base..slot.base + slot.len;
        let free: Vec<usize> = all.clone().filter(|at| can.values[*at].len() > 1).collect();
        if let Some(range) = b.spreads[v] {
            let lists = slot.len / (slot.cap + 1);
            let sorting = if basis.sorted { how_sorted(starts, all, slot.cap) } else { None };
            guessed |= sorting.is_some();
            wanted.push(FieldPlan::Piles(slot.base, lists, slot.cap, range, slot.pad(), sorting));
            continue;
        }
        if def.rearranged.is_some() && !free.is_empty() {
            let parity = if basis.parity { kept_parity(game, v) } else { None };
            wanted.push(FieldPlan::Arranged(free, parity));
            continue;
        }
        let is_list = matches!(def.shape, Extent::List(_) | Extent::Lists(..));
        let is_set = free.len() > 1 && !is_list && free.iter().all(|at| can.values[*at] == [0, 1]);
        if let Some((ways, can)) = known.filter(|_| is_set) {
            let members = |s: &&[i32]| free.iter().filter(|at| s[**at] != 0).count();
            let most = starts.iter().map(members).max()?;
            match can.count(ways, all, 1) {
                Count::Kept => {
                    let least = starts.iter().map(members).min()?;
                    wanted.push(FieldPlan::Members(free, least, most));
                    continue;
                }
                Count::Falls => {
                    wanted.push(FieldPlan::Members(free, 0, most));
                    continue;
                }
                Count::Free => {}
            }
        }
        wanted.extend(free.into_iter().map(|at| FieldPlan::Single(at, can.values[at].clone())));
    }
    if basis.sorted && !guessed {
        return None;
    }
    let ended = b.ended_at();
    wanted.push(FieldPlan::Single(ended, can.values[ended].clone()));
    let base = starts.first()?.to_vec();
    let keys = Keys::new(base, wanted)?;
    starts.iter().all(|s| keys.key(s).is_some()).then_some(keys)
}

/// A parity of a rearranged grid that is proved to be kept and reads nothing else.
fn kept_parity(game: &Game, v: VarId) -> Option<KeptParity> {
    let b = &game.bound;
    let slot = &b.slots[v];
    let places = slot.base..slot.base + slot.len;
    let claimed = (b.model.keeps.iter().zip(&game.checked))
        .filter(|(k, checked)| !**checked && crate::code::game::is_claimed(b, k));
    for (k, _) in claimed {
        let Some(form) = Form::of(b, &k.quantity) else { continue };
        let sign = form.signs.len() == 1 && form.signs.get(&v).is_some_and(|s| s % 2 != 0);
        if !sign || form.modulus != Some(2) || !form.weights.keys().all(|w| places.contains(&w.0)) {
            continue;
        }
        let mut counts: Vec<(i32, Vec<usize>)> = vec![];
        for ((at, value), _) in form.weights.iter().filter(|(_, w)| *w % 2 != 0) {
            match counts.iter_mut().find(|c| c.0 == *value) {
                Some(c) => c.1.push(*at),
                None => counts.push((*value, vec![*at])),
            }
        }
        return Some(KeptParity { counts });
    }
    None
}
