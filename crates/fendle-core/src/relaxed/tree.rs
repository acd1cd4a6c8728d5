//! Which ways can be taken where a board holds these values: a tree of tests, so that a board is asked few things.

use std::collections::BTreeMap;

/// What a way asks of a board.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Ask {
    /// A thing that is followed lies here: its number among those, and the place.
    Lies(u32, u32),
    /// A place holds a value.
    Holds(u32, i32),
}

#[derive(Clone, Debug, Default)]
struct Node {
    /// Ways of which nothing more is asked.
    ways: Vec<u32>,
    /// For a followed thing what to ask next, by place; 0 for nothing.
    lies: Vec<(u32, Vec<u32>)>,
    /// For a place the least value, and what to ask next for each value from it on.
    holds: Vec<(u32, i32, Vec<u32>)>,
}

/// The ways as a tree of tests.
#[derive(Clone, Debug)]
pub struct Tree {
    nodes: Vec<Node>,
}

type Asked = (Vec<Ask>, u32);

/// What a test is about: asked together for all its outcomes.
fn about(ask: Ask) -> (bool, u32) {
    match ask {
        Ask::Lies(thing, _) => (false, thing),
        Ask::Holds(place, _) => (true, place),
    }
}

impl Tree {
    /// Makes the tree of ways that are numbered in this order, each with what it asks.
    #[must_use]
    pub fn new(asks: impl Iterator<Item = Vec<Ask>>) -> Tree {
        let mut out = Tree { nodes: vec![] };
        out.add(asks.enumerate().map(|(n, a)| (a, n as u32)).collect());
        out
    }

    /// Adds the node for these ways and those below it. What all of them ask about is asked first; else the answer that most of them
    /// want, so that few things are asked of a board.
    fn add(&mut self, mut rest: Vec<Asked>) -> u32 {
        let number = self.nodes.len() as u32;
        self.nodes.push(Node::default());
        let mut node = Node::default();
        rest.retain(|(asks, way)| {
            if asks.is_empty() {
                node.ways.push(*way);
            }
            !asks.is_empty()
        });
        let mut tests: BTreeMap<(bool, u32), BTreeMap<i64, Vec<Asked>>> = BTreeMap::new();
        let mut abouts: BTreeMap<(bool, u32), usize> = BTreeMap::new();
        let mut wanted: BTreeMap<Ask, usize> = BTreeMap::new();
        for ask in rest.iter().flat_map(|a| &a.0) {
            *abouts.entry(about(*ask)).or_default() += 1;
            *wanted.entry(*ask).or_default() += 1;
        }
        while !rest.is_empty() {
            let by_all = abouts.iter().find(|(_, n)| **n == rest.len()).map(|a| *a.0);
            let most = wanted.iter().max_by_key(|(ask, n)| (**n, std::cmp::Reverse(**ask))).map(|w| *w.0);
            let is_taken = |ask: &Ask| match by_all {
                Some(what) => about(*ask) == what,
                None => Some(*ask) == most,
            };
            let (here, other): (Vec<Asked>, Vec<Asked>) =
                rest.into_iter().partition(|a| a.0.iter().any(is_taken));
            rest = other;
            for (mut asks, way) in here {
                for ask in &asks {
                    abouts.entry(about(*ask)).and_modify(|n| *n -= 1);
                    wanted.entry(*ask).and_modify(|n| *n -= 1);
                }
                let at = asks.iter().position(is_taken).expect("it asks this");
                let (what, outcome) = match asks.swap_remove(at) {
                    ask @ Ask::Lies(_, place) => (about(ask), i64::from(place)),
                    ask @ Ask::Holds(_, value) => (about(ask), i64::from(value)),
                };
                tests.entry(what).or_default().entry(outcome).or_default().push((asks, way));
            }
        }
        for ((holds, what), groups) in tests {
            let lo = if holds { *groups.keys().next().expect("a group") } else { 0 };
            let hi = *groups.keys().next_back().expect("a group");
            let mut next = vec![0; (hi - lo + 1) as usize];
            for (outcome, group) in groups {
                next[(outcome - lo) as usize] = self.add(group);
            }
            if holds {
                node.holds.push((what, lo as i32, next));
            } else {
                node.lies.push((what, next));
            }
        }
        self.nodes[number as usize] = node;
        number
    }

    /// Calls `see` with every way whose asks a board answers; `lies` says where the followed things are.
    #[inline]
    pub fn each(&self, values: &[i32], lies: &[u32], see: &mut impl FnMut(u32)) {
        self.below(0, values, lies, see);
    }

    fn below(&self, node: u32, values: &[i32], lies: &[u32], see: &mut impl FnMut(u32)) {
        let node = &self.nodes[node as usize];
        for &way in &node.ways {
            see(way);
        }
        for (thing, next) in &node.lies {
            match next.get(lies[*thing as usize] as usize) {
                None | Some(0) => {}
                Some(&n) => self.below(n, values, lies, see),
            }
        }
        for (place, lo, next) in &node.holds {
            match next.get(values[*place as usize].wrapping_sub(*lo) as u32 as usize) {
                None | Some(0) => {}
                Some(&n) => self.below(n, values, lies, see),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tree_finds_the_ways_that_asking_each_one_finds() {
        let mut random = crate::numbers::Random::new(99);
        for round in 0..200 {
            let (places, values) = (1 + random.below(5) as usize, 1 + random.below(4) as i32);
            let followed = random.below(2) as usize;
            let mut ways: Vec<Vec<Ask>> = vec![];
            for _ in 0..random.below(30) {
                let mut asks: Vec<Ask> = vec![];
                for p in 0..places as u32 {
                    if random.below(2) == 0 {
                        asks.push(Ask::Holds(p, random.below(values as u64 + 1) as i32 - 1));
                    }
                }
                if followed == 1 && random.below(3) > 0 {
                    asks.push(Ask::Lies(0, random.below(places as u64) as u32));
                }
                ways.push(asks);
            }
            let tree = Tree::new(ways.iter().cloned());
            for _ in 0..20 {
                let board: Vec<i32> =
                    (0..places).map(|_| random.below(values as u64 + 2) as i32 - 2).collect();
                let lies = vec![random.below(places as u64) as u32; followed];
                let mut found = vec![];
                tree.each(&board, &lies, &mut |way| found.push(way));
                found.sort_unstable();
                let fits = |ask: &Ask| match ask {
                    Ask::Lies(thing, place) => lies[*thing as usize] == *place,
                    Ask::Holds(place, value) => board[*place as usize] == *value,
                };
                let wanted: Vec<u32> =
                    (0..ways.len() as u32).filter(|w| ways[*w as usize].iter().all(fits)).collect();
                assert_eq!(found, wanted, "round {round}: {ways:?} on {board:?}, {lies:?}");
            }
        }
    }
}
