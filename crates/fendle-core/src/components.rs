//! Strongly connected components, for every graph that the analyses make.

use crate::limits::{Limit, Pace};

/// A graph on the numbers below [`Digraph::len`], whose arrows are numbered node by node.
pub trait Digraph {
    /// How many nodes there are.
    fn len(&self) -> usize;
    /// Whether there are none.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }
    /// The first arrow of a node: its arrows end where those of the next one begin. That of [`Digraph::len`] is how many there are.
    fn first(&self, node: u32) -> u32;
    /// Where an arrow leads.
    fn target(&self, arrow: u32) -> u32;
}

/// For each node the number of its component. An arrow between two components leads from the smaller number to the greater.
pub struct Components {
    of: Vec<u32>,
    count: u32,
}

/// The component of nodes that were not looked at.
const NONE: u32 = u32::MAX;

impl Components {
    /// How many components there are.
    #[must_use]
    pub fn count(&self) -> u32 {
        self.count
    }

    /// The component of a node that was reached.
    #[inline]
    #[must_use]
    pub fn part(&self, node: u32) -> u32 {
        self.of[node as usize]
    }

    /// All nodes that were reached, component by component, each after those that it leads to; and where each component begins,
    /// with one entry more at the end, or nothing where every component is one node. O(nodes).
    #[must_use]
    pub fn in_order(self) -> (Vec<u32>, Vec<u32>) {
        let at = |part: u32| (self.count - 1 - part) as usize;
        let reached = || self.of.iter().enumerate().filter(|(_, p)| **p != NONE);
        let count = reached().count();
        let mut order = vec![0u32; count];
        if count == self.count as usize {
            reached().for_each(|(node, part)| order[at(*part)] = node as u32);
            return (order, vec![]);
        }
        // While nodes are put in their places, an entry says where the next one of the component before it goes.
        let mut first = vec![0u32; self.count as usize + 2];
        reached().for_each(|(_, part)| first[at(*part) + 2] += 1);
        for i in 2..first.len() {
            first[i] += first[i - 1];
        }
        for (node, part) in reached() {
            let next = &mut first[at(*part) + 1];
            order[*next as usize] = node as u32;
            *next += 1;
        }
        first.pop();
        (order, first)
    }

    /// The nodes of each component, ascending; components after those that they lead to.
    #[must_use]
    pub fn lists(&self) -> Vec<Vec<u32>> {
        let mut sizes = vec![0usize; self.count as usize];
        for part in self.of.iter().filter(|p| **p != NONE) {
            sizes[*part as usize] += 1;
        }
        let mut out: Vec<Vec<u32>> = sizes.into_iter().map(Vec::with_capacity).collect();
        for (node, part) in self.of.iter().enumerate().filter(|(_, p)| **p != NONE) {
            out[*part as usize].push(node as u32);
        }
        out.reverse();
        out
    }
}

/// A node while components are found.
struct Node {
    /// Its first arrow.
    first: u32,
    /// 0 before it is met; then when it was met, or when what is under way there was; then its component, counted from above.
    number: u32,
}

/// The first component is the greatest number that a node gets. They count down from above every index, so that a finished
/// component never looks like one under way.
const FIRST: u32 = NONE - 1;

/// Which component each node is in, as far as is known: a component is known once all its nodes are found.
pub struct Membership {
    nodes: Vec<Node>,
    /// The component that is found next.
    next: u32,
}

impl Membership {
    /// How many components are known.
    #[must_use]
    pub fn count(&self) -> u32 {
        FIRST - self.next
    }

    /// Whether two nodes of known components share one.
    #[inline]
    #[must_use]
    pub fn is_same(&self, one: u32, other: u32) -> bool {
        self.nodes[one as usize].number == self.nodes[other as usize].number
    }

    /// The numbers of a node's arrows: what says them lies beside what says its component.
    #[inline]
    #[must_use]
    pub fn arrows(&self, node: u32) -> std::ops::Range<usize> {
        self.nodes[node as usize].first as usize..self.nodes[node as usize + 1].first as usize
    }
}

/// Finds the strongly connected components of what can be reached from `roots` through nodes that are `inside`. O(nodes + arrows)
/// time; 4 bytes a node, and up to 16 while it runs.
///
/// # Errors
///
/// The [`Limit`] that the watch names.
pub fn components(
    graph: &impl Digraph,
    roots: impl Iterator<Item = u32>,
    inside: impl Fn(u32) -> bool,
    pace: &mut Pace<'_>,
) -> Result<Components, Limit> {
    let found = each_component(graph, roots, inside, pace, |_, _, _| Ok(()))?;
    let part = |node: &Node| if node.number > found.next { node.number - found.next - 1 } else { NONE };
    let of = found.nodes[..graph.len()].iter().map(part).collect();
    Ok(Components { of, count: found.count() })
}

/// The same, and calls `close` with the nodes of each component once they are known, and with what is known of all nodes then: every
/// arrow of theirs leads to a node whose component is known, or is not inside. Where the arrows of nodes lead has just been looked at, so to look
/// again there costs little. A component may hold all nodes: what looks at them asks the pace, and may end it all with a limit. Source: D. J. Pearce, *A space-efficient algorithm for finding strongly connected components*,
/// Information Processing Letters 116 (2016); here without recursion. 8 bytes a node, and up to 16 while it runs.
///
/// # Errors
///
/// The [`Limit`] that the watch names.
pub fn each_component(
    graph: &impl Digraph,
    roots: impl Iterator<Item = u32>,
    inside: impl Fn(u32) -> bool,
    pace: &mut Pace<'_>,
    mut close: impl FnMut(&[u32], &Membership, &mut Pace<'_>) -> Result<(), Limit>,
) -> Result<Membership, Limit> {
    const ROOT: u32 = 1 << 31;
    const SOON: u32 = 8;
    // What is known of a node lies in one place, since the memory is asked for nodes in no order: this is most of the time.
    let of_graph = |v| Node { first: graph.first(v), number: 0 };
    let mut found = Membership { nodes: (0..=graph.len() as u32).map(of_graph).collect(), next: FIRST };
    let last_arrow = graph.first(graph.len() as u32).saturating_sub(1);
    let mut index = 1u32;
    let mut stack: Vec<u32> = vec![];
    // (node, whether it may still be the root of its component; next arrow)
    let mut calls: Vec<(u32, u32)> = vec![];
    for start in roots.filter(|r| inside(*r)) {
        if found.nodes[start as usize].number != 0 {
            continue;
        }
        found.nodes[start as usize].number = index;
        index += 1;
        calls.push((start | ROOT, found.nodes[start as usize].first));
        while let Some(call) = calls.last_mut() {
            let nodes = &mut found.nodes;
            let (v, began) = (call.0 & !ROOT, call.1);
            let end = nodes[v as usize + 1].first;
            let (mut root, mut least, mut at) = (call.0 & ROOT, nodes[v as usize].number, began);
            let mut next = None;
            while at < end {
                let w = graph.target(at);
                if inside(w) {
                    match nodes[w as usize].number {
                        0 => {
                            next = Some(w);
                            break;
                        }
                        n if n < least => (least, root) = (n, 0),
                        _ => {}
                    }
                }
                at += 1;
            }
            nodes[v as usize].number = least;
            pace.step(u64::from(at - began) + 1)?;
            if let Some(w) = next {
                *call = (v | root, at);
                nodes[w as usize].number = index;
                index += 1;
                let (first, end) = (nodes[w as usize].first, nodes[w as usize + 1].first);
                // Asked together, so that the memory answers together what is needed one after the other.
                let soon = (first..end.min(first + SOON)).map(|at| {
                    let node = &nodes[graph.target(at) as usize];
                    // Where the arrows of one that was not met yet lead is needed next.
                    if node.number == 0 { graph.target(node.first.min(last_arrow)) } else { 0 }
                });
                std::hint::black_box(soon.fold(0, |all, n| all | n));
                calls.push((w | ROOT, first));
                continue;
            }
            calls.pop();
            stack.push(v);
            if root == 0 {
                continue;
            }
            // The component is what came to the stack since its root was met.
            let is_above = |w: &&u32| nodes[**w as usize].number >= least;
            let members = stack.len() - stack.iter().rev().take_while(is_above).count();
            for w in &stack[members..] {
                nodes[*w as usize].number = found.next;
                index -= 1;
            }
            found.next -= 1;
            close(&stack[members..], &found, pace)?;
            stack.truncate(members);
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::limits::NoWatch;

    struct Lists(Vec<u32>, Vec<u32>);

    impl Digraph for Lists {
        fn len(&self) -> usize {
            self.0.len() - 1
        }
        fn first(&self, node: u32) -> u32 {
            self.0[node as usize]
        }
        fn target(&self, arrow: u32) -> u32 {
            self.1[arrow as usize]
        }
    }

    /// On random graphs two nodes share a component exactly when each reaches the other, by repeated squaring of what is
    /// reached; and arrows lead to no smaller number.
    #[test]
    fn components_are_what_reaches_each_other() {
        let mut seed = 7u64;
        let mut next = |n: u64| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) % n
        };
        for _ in 0..300 {
            let n = 1 + next(9) as usize;
            let mut graph = Lists(vec![0], vec![]);
            let mut reach = vec![vec![false; n]; n];
            let inside: Vec<bool> = (0..n).map(|_| next(6) > 0).collect();
            for (v, row) in reach.iter_mut().enumerate() {
                row[v] = true;
                for _ in 0..next(4) {
                    let w = next(n as u64) as usize;
                    graph.1.push(w as u32);
                    row[w] |= inside[v] && inside[w];
                }
                graph.0.push(graph.1.len() as u32);
            }
            for k in 0..n {
                for i in 0..n {
                    for j in 0..n {
                        reach[i][j] |= reach[i][k] && reach[k][j];
                    }
                }
            }
            let is_in = |v: u32| inside[v as usize];
            let found = components(&graph, 0..n as u32, is_in, &mut Pace::new(&NoWatch)).expect("no limit");
            // Each is told once it is known, and all that it leads to before.
            let mut told: Vec<u32> = vec![];
            let tell = |nodes: &[u32], known: &Membership, _: &mut Pace<'_>| {
                let of_graph = |v: u32| (graph.first(v)..graph.first(v + 1)).map(|at| graph.target(at));
                told.extend(nodes);
                for v in nodes {
                    for w in of_graph(*v).filter(|w| is_in(*w)) {
                        assert!(told.contains(&w));
                        assert_eq!(known.is_same(*v, w), nodes.contains(&w));
                    }
                }
                Ok(())
            };
            let pace = &mut Pace::new(&NoWatch);
            let known = each_component(&graph, 0..n as u32, is_in, pace, tell).expect("no limit");
            assert_eq!(known.count(), found.count());
            let ended = each_component(&graph, 0..n as u32, is_in, pace, |_, _, _| Err(Limit::Time));
            assert_eq!(ended.err(), (known.count() > 0).then_some(Limit::Time));
            told.sort_unstable();
            assert_eq!(told, (0..n as u32).filter(|v| is_in(*v)).collect::<Vec<_>>());
            for i in (0..n).filter(|i| inside[*i]) {
                for j in (0..n).filter(|j| inside[*j]) {
                    assert_eq!(found.part(i as u32) == found.part(j as u32), reach[i][j] && reach[j][i]);
                    assert!(!reach[i][j] || found.part(i as u32) <= found.part(j as u32));
                }
            }
            let lists = found.lists();
            assert_eq!(lists.len(), found.count() as usize);
            assert_eq!(lists.iter().flatten().count(), inside.iter().filter(|i| **i).count());
        }
    }
}
