//! Which ways can be taken where a board holds these values: a tree of tests, so that a board is asked few things.

/// What a way asks of a board.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum Ask {
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
pub(crate) struct Tree {
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
    pub(crate) fn new(asks: impl Iterator<Item = Vec<Ask>>) -> Tree {
        let mut out = Tree { nodes: vec![] };
        out.add(asks.enumerate().map(|(n, a)| (a, n as u32)).collect());
        out
    }

    /// Adds the node for these ways and those below it. What most of them ask about is asked first.
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
        while !rest.is_empty() {
            let mut counts: std::collections::BTreeMap<(bool, u32), usize> =
                std::collections::BTreeMap::new();
            for ask in rest.iter().flat_map(|a| &a.0) {
                *counts.entry(about(*ask)).or_default() += 1;
            }
            let most = counts.iter().max_by_key(|(what, n)| (**n, std::cmp::Reverse(**what)));
            let what = *most.expect("something is still asked").0;
            let (here, other): (Vec<Asked>, Vec<Asked>) =
                rest.into_iter().partition(|a| a.0.iter().any(|x| about(*x) == what));
            rest = other;
            let mut groups: std::collections::BTreeMap<i64, Vec<Asked>> = std::collections::BTreeMap::new();
            for (mut asks, way) in here {
                let at = asks.iter().position(|x| about(*x) == what).expect("it asks about this");
                let outcome = match asks.swap_remove(at) {
                    Ask::Lies(_, place) => i64::from(place),
                    Ask::Holds(_, value) => i64::from(value),
                };
                groups.entry(outcome).or_default().push((asks, way));
            }
            let lo = if what.0 { *groups.keys().next().expect("a group") } else { 0 };
            let hi = *groups.keys().next_back().expect("a group");
            let mut next = vec![0; (hi - lo + 1) as usize];
            for (outcome, group) in groups {
                next[(outcome - lo) as usize] = self.add(group);
            }
            if what.0 {
                node.holds.push((what.1, lo as i32, next));
            } else {
                node.lies.push((what.1, next));
            }
        }
        self.nodes[number as usize] = node;
        number
    }

    /// Calls `see` with every way whose asks a board answers; `lies` says where the followed things are.
    #[inline]
    pub(crate) fn each(&self, values: &[i32], lies: &[u32], see: &mut impl FnMut(u32)) {
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
