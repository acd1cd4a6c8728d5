//! A game whose states are numbers of a small range.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use fendle_core::{MoveId, Numbering};

use crate::code::machine::NativeNumbers;
use crate::run::ways::{CanBe, Way, Ways};
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
    /// Whether whoever goes from one running state to another can return.
    pub undone: bool,
    /// Native code for them, where that is wanted and can be.
    pub native: Option<Box<dyn NativeNumbers>>,
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

    fn is_fast(&self) -> bool {
        self.native.is_some()
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

/// Tests of a state, one place after the other.
#[derive(Clone, Debug, Default)]
struct Node {
    /// The ways that were asked for all that they need.
    ways: Vec<Into>,
    /// For some places the least value, and what to ask next for each value from it on; 0 for nothing.
    tests: Vec<(usize, i32, Vec<u32>)>,
}

/// The ways of the moves turned round: from what a state holds to the states that lead to it.
#[derive(Clone, Debug)]
pub struct Backward {
    /// The first is asked first.
    nodes: Vec<Node>,
    /// Whether every way that is found is one: else it has to be tried forwards.
    pub exact: bool,
}

/// A way, and what is still to be asked of a state for it.
type Asked = (Vec<(usize, i32)>, Into);
/// For a place the ways for each value that is asked for there.
type Test = (usize, Vec<(i32, Vec<Asked>)>);

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
            (after, Into { of: MoveId(way.of), undo })
        });
        let mut out = Backward { nodes: vec![], exact: open.iter().all(|w| w.exact && !ends(w)) };
        out.add(asked.collect());
        out
    }

    /// Adds the node for these ways, and those below it. At each step the value that most ways ask for goes first, so that
    /// few things are asked of a state.
    fn add(&mut self, mut asked: Vec<Asked>) -> u32 {
        let number = self.nodes.len();
        self.nodes.push(Node::default());
        let mut tests: Vec<Test> = vec![];
        let (done, rest) = asked.drain(..).partition(|a: &Asked| a.0.is_empty());
        let done: Vec<Asked> = done;
        let mut rest: Vec<Asked> = rest;
        while !rest.is_empty() {
            let mut counts: HashMap<(usize, i32), usize> = HashMap::new();
            for what in rest.iter().flat_map(|a| &a.0) {
                *counts.entry(*what).or_default() += 1;
            }
            let most = counts.into_iter().max_by_key(|(what, n)| (*n, std::cmp::Reverse(*what)));
            let ((at, value), _) = most.expect("something is still asked");
            let (mut here, other): (Vec<Asked>, Vec<Asked>) =
                rest.into_iter().partition(|a| a.0.contains(&(at, value)));
            here.iter_mut().for_each(|a| a.0.retain(|what| *what != (at, value)));
            rest = other;
            match tests.iter_mut().find(|t| t.0 == at) {
                Some(t) => t.1.push((value, here)),
                None => tests.push((at, vec![(value, here)])),
            }
        }
        let tests: Vec<(usize, i32, Vec<u32>)> = (tests.into_iter())
            .map(|(at, groups)| {
                let lo = groups.iter().map(|g| g.0).min().unwrap_or(0);
                let hi = groups.iter().map(|g| g.0).max().unwrap_or(0);
                let mut next = vec![0; (i64::from(hi) - i64::from(lo) + 1) as usize];
                for (value, group) in groups {
                    next[(value - lo) as usize] = self.add(group);
                }
                (at, lo, next)
            })
            .collect();
        self.nodes[number] = Node { ways: done.into_iter().map(|d| d.1).collect(), tests };
        number as u32
    }

    /// Calls `see` with each move that may have led to these values, and with what it changed: places and what they held.
    pub fn each(&self, values: &[i32], mut see: impl FnMut(MoveId, &[(u32, i32)])) {
        self.each_below(0, values, &mut see);
    }

    fn each_below(&self, node: u32, values: &[i32], see: &mut impl FnMut(MoveId, &[(u32, i32)])) {
        let node = &self.nodes[node as usize];
        for way in &node.ways {
            see(way.of, &way.undo);
        }
        for (at, lo, next) in &node.tests {
            match next.get(values[*at].wrapping_sub(*lo) as u32 as usize) {
                None | Some(0) => {}
                Some(below) => self.each_below(*below, values, see),
            }
        }
    }
}

/// A numbering that is made when it is asked for the first time. A clone has none yet: whoever clones a game may change where
/// it begins, and numbers hold for one set of starts.
#[derive(Default)]
pub struct WhenAsked(OnceLock<Arc<Numbered>>);

impl Clone for WhenAsked {
    fn clone(&self) -> WhenAsked {
        WhenAsked::default()
    }
}

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
