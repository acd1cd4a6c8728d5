//! The moves of a level as leaps from number to number.
//!
//! Where every way of a move is known with all that it reads, nothing of a state has to be written down to find out where its
//! moves lead: a few questions about its digits find the ways that can be taken, and each adds something to the number.
//!
//! ```text
//! number --> digits --> forms       a set is one bit a place, an order one nibble a place
//!               |
//!             tree of tests         where is the gap?  is there a barge at this cell?
//!               |
//!             leaps                 add 1;  a member moves from place 5 to 6;  places 2 and 6 are swapped
//! ```
//!
//! Ways that differ in nothing but a value that they carry along (a tile slides, whichever it is) are one leap. What is not known
//! so well is a leap of its own that says: the rules have to be asked.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use crate::run::ways::Change;
use crate::state::Keys;
use crate::state::keys::Described;

/// Ways above which they are not made leaps of.
const WAYS_MAX: usize = 50_000;
/// Leaps above which they are not put into a tree: making code of one takes some 100 microseconds.
const LEAPS_MAX: usize = 2_000;

/// What a test asks of a state. Fields are counted as in [`Keys::describe`], places in the order of a field's places.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum About {
    /// The digit of a field that holds one value.
    Digit(usize),
    /// Whether a place of a set holds a member: 0 or 1.
    Member(usize, u8),
    /// At which place of an order the value with this number is.
    PlaceOf(usize, u8),
    /// The number of the value at a place of an order.
    At(usize, u8),
}

/// What a leap changes.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Delta {
    /// Adds so much to the number of the state.
    Add(i64),
    /// A member of a set moves from one place to an empty one.
    Moved {
        /// The field.
        field: usize,
        /// Where the member is.
        from: u8,
        /// Where it goes.
        to: u8,
    },
    /// Members of a set come and go.
    Members {
        /// The field.
        field: usize,
        /// Places that get a member, one bit each.
        on: u64,
        /// Places that lose theirs.
        off: u64,
    },
    /// Two places of an order exchange what they hold; the first one is the lower.
    Swapped {
        /// The field.
        field: usize,
        /// The two places.
        places: (u8, u8),
    },
    /// All places of an order get what others held: for each place, whose.
    Arranged {
        /// The field.
        field: usize,
        /// The place that each takes its value from.
        from: Vec<u8>,
    },
}

/// What becomes of a state in one way of one move.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Leap {
    /// It leads to the state that differs by these deltas.
    To(Vec<Delta>),
    /// Only the rules can tell.
    Ask,
}

/// A part of the tree.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Node {
    /// Leaps of which nothing more is asked.
    pub leaps: Vec<Leap>,
    /// What is asked, one test after the other, and where each answer leads.
    pub tests: Vec<(About, BTreeMap<u32, Node>)>,
}

/// The leaps of all moves.
#[derive(Clone, Debug)]
pub struct Leaps {
    /// The first test.
    pub root: Node,
    /// A state has at the most so many leaps.
    pub most: usize,
}

/// How the status of a state is found.
#[derive(Clone, Debug)]
pub enum Endings {
    /// The first of these whose answers all hold gives the ending's code, 0 if there is none.
    ByAnswers(Vec<(Vec<(About, u32)>, u32)>),
    /// It depends on `number / stride % len` alone.
    ByDigits {
        /// What the lowest of these digits counts.
        stride: u64,
        /// How many there are.
        len: u64,
    },
    /// The rules have to be asked for each state.
    ByRules,
}

/// How states lead to each other by number.
#[derive(Clone, Debug)]
pub struct LeapPlan {
    /// What the moves lead to.
    pub forwards: Leaps,
    /// What leads into a state by a move, where that is known just as well.
    pub backwards: Option<Leaps>,
    /// The status of a state.
    pub endings: Endings,
}

/// One way that is to become a leap.
#[derive(Clone, Debug)]
pub struct Plain {
    /// The move.
    pub of: u32,
    /// Places of the state and the values that they must hold.
    pub reads: Vec<(usize, i32)>,
    /// What changes; `None` where only the rules can tell.
    pub changes: Option<Vec<Change>>,
}

/// Where a place of the state is in a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Spot {
    Fixed,
    In(usize, u8),
}

/// An answer that a way needs. An order is asked by place.
type Ask = (About, u32);

/// A way by fields.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct ByFields {
    of: u32,
    asks: Vec<Ask>,
    leap: Leap,
}

/// Turns places and values into fields and digits.
pub struct Fields<'k> {
    keys: &'k Keys,
    described: Vec<(Described<'k>, u64, Vec<usize>, u64)>,
    spots: Vec<Spot>,
}

impl<'k> Fields<'k> {
    /// Of these numbers.
    #[must_use]
    pub fn of(keys: &'k Keys) -> Fields<'k> {
        let described = keys.describe();
        let mut spots = vec![Spot::Fixed; keys.values_len()];
        for (field, (_, _, slots, _)) in described.iter().enumerate() {
            for (i, slot) in slots.iter().enumerate() {
                spots[*slot] = Spot::In(field, i.min(255) as u8);
            }
        }
        Fields { keys, described, spots }
    }

    /// The fields that hold some of these places, ascending.
    #[must_use]
    pub fn holding(&self, is_wanted: impl Fn(usize) -> bool) -> BTreeSet<usize> {
        let wanted = (0..self.spots.len()).filter(|at| is_wanted(*at));
        wanted.filter_map(|at| if let Spot::In(f, _) = self.spots[at] { Some(f) } else { None }).collect()
    }

    /// What the digit of a field counts, and how many digits there are.
    #[must_use]
    pub fn stride(&self, field: usize) -> (u64, u64) {
        (self.described[field].1, self.described[field].3)
    }

    /// What has to be asked for a place to hold a value.
    fn ask(&self, at: usize, value: i32) -> Needs {
        let Spot::In(field, i) = self.spots[at] else {
            return if self.keys.base()[at] == value { Needs::Always } else { Needs::Never };
        };
        match &self.described[field].0 {
            Described::Single { values, .. } => match values.binary_search(&value) {
                Ok(digit) => Needs::This((About::Digit(field), digit as u32)),
                Err(_) => Needs::Never,
            },
            Described::Members { .. } => match u32::try_from(value) {
                Ok(value @ 0..=1) => Needs::This((About::Member(field, i), value)),
                _ => Needs::Never,
            },
            Described::Order { values, .. } => match values.iter().position(|v| *v == value) {
                Some(number) => Needs::This((About::At(field, i), number as u32)),
                None => Needs::Never,
            },
            Described::Sorted(_) | Described::Other => Needs::Unknown,
        }
    }

    /// What has to be asked for several places to hold values. `None` when they never do. The flag says whether that is all
    /// that there is to ask.
    #[must_use]
    pub fn asks(&self, reads: &[(usize, i32)]) -> Option<(Vec<Ask>, bool)> {
        let (mut out, mut all) = (vec![], true);
        for (at, value) in reads {
            match self.ask(*at, *value) {
                Needs::This(ask) => out.push(ask),
                Needs::Always => {}
                Needs::Never => return None,
                Needs::Unknown => all = false,
            }
        }
        out.sort_unstable();
        out.dedup();
        Some((out, all))
    }

    /// The deltas that changes amount to. `None` when they lead to no state with a number, the inner one when the rules have to
    /// be asked.
    fn deltas(&self, changes: &[Change]) -> Option<Option<Vec<Delta>>> {
        let mut by_field: BTreeMap<usize, Vec<(u8, Change)>> = BTreeMap::new();
        for change in changes {
            match self.spots[change.0] {
                Spot::Fixed => return None,
                Spot::In(field, i) => by_field.entry(field).or_default().push((i, *change)),
            }
        }
        let (mut add, mut deltas) = (0, vec![]);
        for (field, changes) in by_field {
            let (described, stride, slots, _) = &self.described[field];
            match described {
                Described::Single { values, .. } => {
                    let (_, (_, was, is)) = changes[0];
                    let digit = |v: i32| values.binary_search(&v).ok().map(|d| d as i64);
                    add += (digit(is)? - digit(was)?) * *stride as i64;
                }
                Described::Members { .. } => {
                    let bit = |value: i32| -> u64 {
                        changes.iter().filter(|c| c.1.2 == value).map(|c| 1 << c.0).sum()
                    };
                    let (on, off) = (bit(1), bit(0));
                    deltas.push(match (on.count_ones(), off.count_ones()) {
                        (1, 1) => Delta::Moved {
                            field,
                            from: off.trailing_zeros() as u8,
                            to: on.trailing_zeros() as u8,
                        },
                        _ => Delta::Members { field, on, off },
                    });
                }
                Described::Order { .. } => {
                    // What is changed is arranged anew: each place gets what one of the others held.
                    let mut from: Vec<u8> = (0..slots.len() as u8).collect();
                    for (i, (_, _, is)) in &changes {
                        from[usize::from(*i)] = changes.iter().find(|c| c.1.1 == *is)?.0;
                    }
                    let moved: Vec<u8> =
                        (0..slots.len() as u8).filter(|i| from[usize::from(*i)] != *i).collect();
                    deltas.push(match moved[..] {
                        [p, q] => Delta::Swapped { field, places: (p, q) },
                        _ => Delta::Arranged { field, from },
                    });
                }
                Described::Sorted(_) | Described::Other => return Some(None),
            }
        }
        if add != 0 {
            deltas.push(Delta::Add(add));
        }
        Some(Some(deltas))
    }
}

/// What it takes for a place to hold a value.
enum Needs {
    /// This answer.
    This(Ask),
    /// Nothing: it always does.
    Always,
    /// It never does.
    Never,
    /// The place is in a field of which nothing can be asked.
    Unknown,
}

impl Leaps {
    /// Puts ways into a tree. `can` says for each place of the state which values it can hold. `None` when there are too
    /// many, or when most of them would have to be asked.
    #[must_use]
    pub fn new(fields: &Fields<'_>, can: &[Vec<i32>], ways: impl Iterator<Item = Plain>) -> Option<Leaps> {
        let mut wanted: BTreeSet<ByFields> = BTreeSet::new();
        for Plain { of, reads, changes } in ways {
            let Some((asks, all)) = fields.asks(&reads) else { continue };
            let leap = match changes.filter(|_| all).map(|c| fields.deltas(&c)) {
                Some(None) => continue,
                Some(Some(Some(deltas))) => Leap::To(deltas),
                Some(Some(None)) | None => Leap::Ask,
            };
            wanted.insert(ByFields { of, asks, leap });
            if wanted.len() > WAYS_MAX {
                return None;
            }
        }
        let values_at = |field: usize, place: u8| -> BTreeSet<u32> {
            let at = fields.described[field].2[usize::from(place)];
            let asked = can[at].iter().filter_map(|v| match fields.ask(at, *v) {
                Needs::This((_, number)) => Some(number),
                _ => None,
            });
            asked.collect()
        };
        let wanted = carried(wanted.into_iter().collect(), &values_at);
        let asked = wanted.iter().filter(|w| w.leap == Leap::Ask).count();
        if wanted.len() > LEAPS_MAX || 2 * asked > wanted.len() {
            return None;
        }
        let root = Node::of(wanted.into_iter().map(|w| (w.asks, w.leap)).collect());
        let most = root.most();
        Some(Leaps { root, most })
    }
}

/// Ways that only differ in the value that one place of an order holds, with one for each that can be there, are one: it does
/// not matter which it is.
fn carried(mut ways: Vec<ByFields>, values_at: &impl Fn(usize, u8) -> BTreeSet<u32>) -> Vec<ByFields> {
    loop {
        let mut groups: HashMap<(ByFields, About), Vec<(u32, usize)>> = HashMap::new();
        for (n, way) in ways.iter().enumerate() {
            for (i, (about, value)) in way.asks.iter().enumerate() {
                if matches!(about, About::At(..)) {
                    let mut rest = way.clone();
                    rest.asks.remove(i);
                    groups.entry((rest, *about)).or_default().push((*value, n));
                }
            }
        }
        let mut gone = vec![false; ways.len()];
        let mut joined = vec![];
        let mut groups: Vec<_> = groups.into_iter().collect();
        groups.sort_unstable();
        for ((rest, about), group) in groups {
            let About::At(field, place) = about else { continue };
            // Each value of an order is there once: one that stands elsewhere is not here.
            let mut left = values_at(field, place);
            for (other, value) in &rest.asks {
                if matches!(other, About::At(f, _) if *f == field) {
                    left.remove(value);
                }
            }
            let is_free = group.iter().all(|(_, n)| !gone[*n]);
            if is_free && left.iter().all(|v| group.iter().any(|g| g.0 == *v)) {
                group.iter().for_each(|(_, n)| gone[*n] = true);
                joined.push(rest);
            }
        }
        if joined.is_empty() {
            return ways;
        }
        let kept = ways.into_iter().zip(gone).filter(|w| !w.1).map(|w| w.0);
        let all: BTreeSet<ByFields> = kept.chain(joined).collect();
        ways = all.into_iter().collect();
    }
}

/// What an answer about an order says in its other form: which place holds a value, instead of which value a place holds.
fn turned((about, answer): Ask) -> Option<Ask> {
    match about {
        About::At(field, place) => Some((About::PlaceOf(field, answer as u8), place.into())),
        _ => None,
    }
}

impl Node {
    /// Puts leaps below the tests that they need. What all of them ask is asked first; else what most of them ask, and the
    /// others are asked after it.
    fn of(ways: Vec<(Vec<Ask>, Leap)>) -> Node {
        let mut node = Node::default();
        let (done, mut rest): (Vec<_>, Vec<_>) = ways.into_iter().partition(|w| w.0.is_empty());
        node.leaps = done.into_iter().map(|w| w.1).collect();
        while !rest.is_empty() {
            let mut counts: BTreeMap<About, usize> = BTreeMap::new();
            for ask in rest.iter().flat_map(|w| &w.0) {
                *counts.entry(ask.0).or_default() += 1;
                if let Some(turned) = turned(*ask) {
                    *counts.entry(turned.0).or_default() += 1;
                }
            }
            let most = counts.iter().max_by_key(|(about, n)| (**n, std::cmp::Reverse(**about)));
            let Some((&about, _)) = most else { break };
            let mut branches: BTreeMap<u32, Vec<(Vec<Ask>, Leap)>> = BTreeMap::new();
            let mut others = vec![];
            for (mut asks, leap) in rest {
                let found =
                    asks.iter().position(|a| a.0 == about || turned(*a).is_some_and(|t| t.0 == about));
                match found {
                    Some(i) => {
                        let ask = asks.remove(i);
                        let answer = if ask.0 == about { ask.1 } else { turned(ask).map_or(0, |t| t.1) };
                        branches.entry(answer).or_default().push((asks, leap));
                    }
                    None => others.push((asks, leap)),
                }
            }
            rest = others;
            let branches = branches.into_iter().map(|(answer, ways)| (answer, Node::of(ways))).collect();
            node.tests.push((about, branches));
        }
        node
    }

    /// Whether there is a leap of which only the rules can tell.
    #[must_use]
    pub fn asks(&self) -> bool {
        self.leaps.contains(&Leap::Ask) || self.tests.iter().flat_map(|t| t.1.values()).any(Node::asks)
    }

    /// The most leaps that one state can have.
    fn most(&self) -> usize {
        let below = |branches: &BTreeMap<u32, Node>| branches.values().map(Node::most).max().unwrap_or(0);
        self.leaps.len() + self.tests.iter().map(|t| below(&t.1)).sum::<usize>()
    }
}
