//! A game whose states are numbers of a small range.

use std::sync::{Arc, OnceLock};

use fendle_core::{MoveId, Numbering};

use crate::code::machine::NativeNumbers;
use crate::run::ways::{CanBe, Ways};
use crate::state::{Codec, Keys};

/// How the states of a game are numbered, and which ways lead into a state.
#[derive(Debug)]
pub struct Numbered {
    /// The numbers.
    pub keys: Keys,
    /// What leads into a state, where that is known.
    pub back: Option<Backward>,
    /// How the same states are packed.
    pub codec: Codec,
    /// Native code for them, where that is wanted and can be.
    pub native: Option<Box<dyn NativeNumbers>>,
}

impl Numbered {
    /// The values of the state with this number.
    #[must_use]
    pub fn values(&self, number: u64) -> Vec<i32> {
        let mut values = vec![0; self.keys.values_len()];
        self.keys.unpack(number, &mut values, &mut vec![0; self.keys.parts_len()]);
        values
    }
}

impl Numbering for Numbered {
    fn range(&self) -> u64 {
        self.keys.range()
    }

    fn number(&self, state: &[u64]) -> Option<u64> {
        let mut values = vec![0; self.keys.values_len()];
        self.codec.unpack(state, &mut values);
        self.keys.key(&values)
    }

    fn state(&self, number: u64) -> Vec<u64> {
        let mut out = vec![0; self.codec.layout().words()];
        self.codec.pack(&self.values(number), &mut out).expect("a state with a number is typed");
        out
    }
}

/// One way that leads into states.
#[derive(Clone, Debug)]
struct Into {
    of: u32,
    /// Values that the state must hold.
    after: Vec<(u32, i32)>,
    /// Values that it held before.
    undo: Vec<(u32, i32)>,
}

/// The ways of the moves turned round: from what a state holds to the states that may have led to it. A way that is found is
/// tried forwards before it counts, so what tests of "not equal" leave open does no harm.
#[derive(Clone, Debug)]
pub struct Backward {
    ways: Vec<Into>,
    /// For some places: the least value, and for each value from it on the ways that leave it there.
    index: Vec<(usize, i32, Vec<Vec<u32>>)>,
}

impl Backward {
    /// Turns the open ways round. Each is kept under the value that tells most: at the place where most values can be.
    #[must_use]
    pub fn new(ways: &Ways, can: &CanBe) -> Backward {
        let mut out = Backward { ways: vec![], index: vec![] };
        for (way, _) in ways.list.iter().zip(&can.open).filter(|w| *w.1) {
            let mut after: Vec<(u32, i32)> = (way.reads.iter())
                .map(|(at, was)| {
                    let now = way.changes.iter().find(|c| c.0 == *at).map_or(*was, |c| c.2);
                    (*at as u32, now)
                })
                .collect();
            after.extend(
                way.changes
                    .iter()
                    .filter(|c| !way.reads.iter().any(|r| r.0 == c.0))
                    .map(|c| (c.0 as u32, c.2)),
            );
            let undo = way.changes.iter().map(|c| (c.0 as u32, c.1)).collect();
            let Some(&(at, value)) = after.iter().max_by_key(|a| can.values[a.0 as usize].len()) else {
                continue;
            };
            let at = at as usize;
            let found = out.index.iter().position(|i| i.0 == at).unwrap_or_else(|| {
                let (lo, hi) = (can.values[at][0], can.values[at][can.values[at].len() - 1]);
                out.index.push((at, lo, vec![vec![]; (i64::from(hi) - i64::from(lo) + 1) as usize]));
                out.index.len() - 1
            });
            let (_, lo, lists) = &mut out.index[found];
            lists[(value - *lo) as usize].push(out.ways.len() as u32);
            out.ways.push(Into { of: way.of, after, undo });
        }
        out
    }

    /// Calls `see` with each move that may have led to these values, and with what it changed: places and what they held.
    pub fn each(&self, values: &[i32], mut see: impl FnMut(MoveId, &[(u32, i32)])) {
        for (at, lo, lists) in &self.index {
            let Some(list) = lists.get((values[*at] - lo) as usize) else { continue };
            for way in list.iter().map(|w| &self.ways[*w as usize]) {
                if way.after.iter().all(|(at, value)| values[*at as usize] == *value) {
                    see(MoveId(way.of), &way.undo);
                }
            }
        }
    }
}

/// A numbering that is made when it is asked for the first time.
#[derive(Clone, Default)]
pub struct WhenAsked(Arc<OnceLock<Arc<Numbered>>>);

impl WhenAsked {
    /// The numbering, made by `make` if that did not succeed before.
    pub fn get(&self, make: impl FnOnce() -> Option<Numbered>) -> Option<&Arc<Numbered>> {
        if self.0.get().is_none() {
            let _ = self.0.set(Arc::new(make()?));
        }
        self.0.get()
    }

    /// The numbering, if it was made.
    #[must_use]
    pub fn made(&self) -> Option<&Arc<Numbered>> {
        self.0.get()
    }
}

impl std::fmt::Debug for WhenAsked {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "numbers below {:?}", self.made().map(|n| n.keys.range()))
    }
}
