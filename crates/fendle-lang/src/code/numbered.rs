//! A game whose states are numbers of a small range.

use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, LazyLock, OnceLock};

use fendle_core::relaxed::tree::{Ask, Tree};
use fendle_core::{MoveId, Numbering};

use crate::code::machine::NativeNumbers;
use crate::run::ways::{CanBe, Way, Ways};
use crate::state::{Codec, Keys};

/// Native code for numbers, made when it is first asked for; `None` where none is wanted or can be.
pub type NumbersWhenAsked = LazyLock<Option<Box<dyn NativeNumbers>>, MakesNumbers>;

/// Makes native code for numbers.
pub type MakesNumbers = Box<dyn FnOnce() -> Option<Box<dyn NativeNumbers>> + Send>;

/// How the states of a game are numbered, and which ways lead into a state.
#[derive(Debug)]
pub struct Numbered {
    /// The numbers.
    pub keys: Keys,
    /// What leads into a state, where that is known.
    pub back: Option<Backward>,
    /// How the same states are packed.
    pub codec: Codec,
    /// Whether whoever goes from one running state to another can return.
    pub undone: bool,
    /// Native code for them: a range that turns out to be too large for what it is wanted for costs none.
    pub native: NumbersWhenAsked,
    /// Positions before a draw, where they have numbers: how many continuations there are.
    pub continuations: Option<u64>,
}

impl Numbered {
    /// The values of the state with this number.
    #[must_use]
    pub fn values(&self, number: u64) -> Vec<i32> {
        let mut values = vec![0; self.keys.values_len()];
        self.keys.unpack(number, &mut values, &mut vec![0; self.keys.fields_len()]);
        values
    }
}

impl Numbering for Numbered {
    fn range(&self) -> u64 {
        self.keys.range()
    }

    fn positions(&self) -> Option<u64> {
        self.keys.range().checked_mul(self.continuations?)
    }

    fn values(&self, number: u64, out: &mut Vec<i32>) {
        out.resize(self.keys.values_len(), 0);
        self.keys.write_all(number, out);
    }

    fn divisor(&self) -> u64 {
        self.keys.divisor()
    }

    fn number_of(&self, values: &[i32]) -> Option<u64> {
        self.keys.key(values)
    }

    fn bytes(&self) -> u64 {
        self.native.as_ref().map_or(0, |n| n.leap_bytes())
    }

    fn is_fast(&self) -> bool {
        self.native.is_some()
    }

    fn is_guess(&self) -> bool {
        self.keys.is_narrow()
    }

    fn can_return(&self) -> bool {
        self.undone
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
    of: MoveId,
    /// Values that the state held before, where they were others.
    undo: Vec<(u32, i32)>,
}

/// The ways of the moves turned round: from what a state holds to the states that lead to it.
#[derive(Clone, Debug)]
pub struct Backward {
    /// What is asked of a state.
    tree: Tree,
    /// The ways that the tree tells of.
    ways: Vec<Into>,
    /// Whether every way that is found is one: else it has to be tried forwards.
    pub exact: bool,
}

impl Backward {
    /// Turns the open ways round.
    #[must_use]
    pub fn new(ways: &Ways, can: &CanBe) -> Backward {
        // An ending that a statement wrote is not written where a condition says the same: it is not asked for.
        let ended = can.values.len() - 1;
        let ends = |way: &Way| way.changes.iter().any(|c| c.0 == ended);
        let open: Vec<&Way> = ways.list.iter().zip(&can.open).filter(|w| *w.1).map(|w| w.0).collect();
        let asked = open.iter().map(|way| {
            let mut after: Vec<(usize, i32)> = (way.reads.iter())
                .map(|(at, was)| (*at, way.changes.iter().find(|c| c.0 == *at).map_or(*was, |c| c.2)))
                .collect();
            let only_written = way.changes.iter().filter(|c| !way.reads.iter().any(|r| r.0 == c.0));
            after.extend(only_written.map(|c| (c.0, c.2)));
            if ends(way) {
                after.retain(|a| a.0 != ended);
            }
            let undo = way.changes.iter().map(|c| (c.0 as u32, c.1)).collect();
            let asks = after.into_iter().map(|(at, value)| Ask::Holds(at as u32, value)).collect();
            (asks, Into { of: MoveId(way.of), undo })
        });
        let (asks, into): (Vec<Vec<Ask>>, Vec<Into>) = asked.unzip();
        Backward {
            tree: Tree::new(asks.into_iter()),
            ways: into,
            exact: open.iter().all(|w| w.exact && !ends(w)),
        }
    }

    /// Calls `see` with each move that may have led to these values, and with what it changed: places and what they held.
    pub fn each(&self, values: &[i32], mut see: impl FnMut(MoveId, &[(u32, i32)])) {
        self.tree.each(values, &[], &mut |way| {
            let way = &self.ways[way as usize];
            see(way.of, &way.undo);
        });
    }
}

/// Whether numbers may rest on what is likely and not proved: a state without one is then told, not a mistake.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Guess {
    /// They may.
    Allowed,
    /// Every state that can be needs one.
    Forbidden,
}

/// A numbering that is made when it is asked for the first time. A clone has none yet: whoever clones a game may change where
/// it begins, and numbers hold for one set of starts.
#[derive(Default)]
pub struct WhenAsked {
    first: OnceLock<Arc<Numbered>>,
    /// What takes its place when it was a guess that failed. Whoever works with the first one may go on meanwhile.
    second: OnceLock<Arc<Numbered>>,
    failed: AtomicBool,
}

impl Clone for WhenAsked {
    fn clone(&self) -> WhenAsked {
        WhenAsked::default()
    }
}

impl WhenAsked {
    /// One that was made.
    #[must_use]
    pub fn holding(numbered: Numbered) -> WhenAsked {
        WhenAsked { first: OnceLock::from(Arc::new(numbered)), ..WhenAsked::default() }
    }

    fn now(&self) -> (&OnceLock<Arc<Numbered>>, Guess) {
        if self.failed.load(Relaxed) {
            (&self.second, Guess::Forbidden)
        } else {
            (&self.first, Guess::Allowed)
        }
    }

    /// The numbering, made by `make` if that did not succeed before.
    pub fn get(&self, make: impl FnOnce(Guess) -> Option<Numbered>) -> Option<&Arc<Numbered>> {
        let (cell, guess) = self.now();
        if cell.get().is_none() {
            let _ = cell.set(Arc::new(make(guess)?));
        }
        cell.get()
    }

    /// The numbering, if it was made.
    #[must_use]
    pub fn made(&self) -> Option<&Arc<Numbered>> {
        self.now().0.get()
    }

    /// From now on there is no guessing.
    pub fn guess_failed(&self) {
        self.failed.store(true, Relaxed);
    }
}

impl std::fmt::Debug for WhenAsked {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "numbers below {:?}", self.made().map(|n| n.keys.range()))
    }
}
