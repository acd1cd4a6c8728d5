//! How many solutions there are: won states, shortest ways, all ways.

use std::collections::HashMap;

use num_bigint::BigUint;

use crate::explore::Explored;
use crate::limits::{Limits, Pace, Progress, Watch};
use crate::space::{Class, Edge, Space, StateId};
use crate::structure::{NotSeen, OnWay};

/// What [`solutions`] counted. Numbers of ways are decimal digits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Solutions {
    /// Distinct won states that can be reached.
    pub won: u64,
    /// The moves of a shortest way to one of them, and how many such ways there are.
    pub shortest: Option<(u32, String)>,
    /// How many ways there are to won states; `None`: without end, since a way can come back to a state that it has left.
    pub all: Option<String>,
}

/// Counts the solutions of a whole space. Ways are sequences of moves with their draws; with `by_states`, sequences of states: moves with the
/// same result are one. O(|S| + |T|) additions of numbers as long as the result; 4 bytes a state, and a number for each state that waits
/// (Kahn 1962).
///
/// # Errors
///
/// [`NotSeen`] where the space was not seen whole, its transitions were not kept, or a limit ended it.
pub fn solutions(
    found: &Explored,
    by_states: bool,
    limits: &Limits,
    watch: &dyn Watch,
) -> Result<Solutions, NotSeen> {
    let (space, counts) = (&found.space, &found.counts);
    if !counts.is_whole() || counts.open > 0 {
        return Err(NotSeen::Open);
    }
    let bytes = 16 * space.ids_len() as u64;
    if !space.has_edges() || space.bytes() + bytes > limits.memory_bytes {
        return Err(NotSeen::Memory { bytes });
    }
    let (states, depth) = (counts.states, counts.depth);
    let mut pace = Pace::new(watch).at(Progress { states, expanded: states, depth, bytes, numbers: None });
    pace.now()?;
    let shortest = match counts.shortest {
        Some(length) => Some((length, shortest(space, length, by_states, &mut pace)?)),
        None => None,
    };
    Ok(Solutions { won: counts.goal, shortest, all: all(space, by_states, &mut pace)? })
}

/// Where edges lead, each place once if `by_states`.
fn targets(edges: &[Edge], by_states: bool, out: &mut Vec<StateId>) {
    out.clear();
    out.extend(edges.iter().map(|e| e.to));
    if by_states {
        out.sort_unstable();
        out.dedup();
    }
}

fn shortest(space: &Space, length: u32, by_states: bool, pace: &mut Pace<'_>) -> Result<String, NotSeen> {
    let on = OnWay::of(space, length, pace)?;
    let mut ways = vec![BigUint::from(1u8); on.level_len(0)];
    let mut list = vec![];
    for depth in 0..length {
        let mut next = vec![BigUint::ZERO; on.level_len(depth as usize + 1)];
        space.each_edges(depth, |id, edges| {
            let Some(i) = on.index(depth as usize, id) else { return };
            targets(edges, by_states, &mut list);
            for to in &list {
                if let Some(j) = on.index(depth as usize + 1, *to) {
                    next[j] += &ways[i];
                }
            }
        });
        pace.step(4 * space.level_len(depth))?;
        ways = next;
    }
    Ok(ways.iter().sum::<BigUint>().to_string())
}

/// All ways, states in an order in which each comes after all that lead to it. Only states from which a goal can be reached
/// count.
fn all(space: &Space, by_states: bool, pace: &mut Pace<'_>) -> Result<Option<String>, NotSeen> {
    let is_on = |id: StateId| space.class(id).is_hopeful();
    let mut before = vec![0u32; space.ids_len()];
    let mut list = vec![];
    let mut left = 0u64;
    for depth in 0..space.levels_len() {
        left += space.level(depth).filter(|id| is_on(*id)).count() as u64;
        space.each_edges(depth, |id, edges| {
            if is_on(id) {
                targets(edges, by_states, &mut list);
                list.iter().for_each(|to| before[to.index()] += 1);
            }
        });
        pace.step(2 * space.level_len(depth))?;
    }
    let mut ways: HashMap<usize, BigUint> = HashMap::new();
    let mut ready: Vec<StateId> = vec![];
    for start in space.starts().iter().filter(|s| is_on(**s)) {
        *ways.entry(start.index()).or_default() += 1u8;
        if before[start.index()] == 0 && !ready.contains(start) {
            ready.push(*start);
        }
    }
    let mut sum = BigUint::ZERO;
    let mut edges = vec![];
    while let Some(id) = ready.pop() {
        left -= 1;
        let here = ways.remove(&id.index()).unwrap_or_default();
        if space.class(id) == Class::Goal {
            sum += &here;
        }
        edges.clear();
        space.each_edges_of(id, |e| edges.push(e));
        targets(&edges, by_states, &mut list);
        for to in list.iter().filter(|to| is_on(**to)) {
            *ways.entry(to.index()).or_default() += &here;
            before[to.index()] -= 1;
            if before[to.index()] == 0 {
                ready.push(*to);
            }
        }
        pace.step(4)?;
    }
    // What is left leads back to itself.
    Ok((left == 0).then(|| sum.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::{Row, Table};
    use crate::{NoWatch, explore};

    fn count(rows: Vec<Row>, by_states: bool) -> Solutions {
        let limits = Limits::default();
        let found = explore(&Table::new(rows), limits, false, &NoWatch).expect("a space");
        solutions(&found, by_states, &limits, &NoWatch).expect("counted")
    }

    #[test]
    fn two_ways_round_and_one_that_is_longer() {
        let rows = || {
            vec![
                Row::running([("left", 1), ("right", 2), ("also right", 2)]),
                Row::running([("on", 4), ("aside", 3)]),
                Row::running([("on", 4), ("astray", 5)]),
                Row::running([("on", 4)]),
                Row::goal(),
                Row::lost(),
            ]
        };
        let moves = count(rows(), false);
        assert_eq!(moves, Solutions { won: 1, shortest: Some((2, "3".into())), all: Some("4".into()) });
        let states = count(rows(), true);
        assert_eq!(states, Solutions { won: 1, shortest: Some((2, "2".into())), all: Some("3".into()) });
    }

    #[test]
    fn a_way_that_comes_back_makes_them_endless() {
        let found = count(
            vec![Row::running([("on", 1)]), Row::running([("back", 0), ("in", 2)]), Row::goal()],
            false,
        );
        assert_eq!(found, Solutions { won: 1, shortest: Some((2, "1".into())), all: None });
        // A circle from which no goal can be reached changes nothing.
        let found = count(
            vec![Row::running([("in", 2), ("off", 1)]), Row::running([("round", 1)]), Row::goal()],
            false,
        );
        assert_eq!(found.all, Some("1".into()));
    }

    #[test]
    fn nothing_is_won() {
        let found = count(vec![Row::running([("on", 1)]), Row::lost()], false);
        assert_eq!(found, Solutions { won: 0, shortest: None, all: Some("0".into()) });
    }

    /// Ways from a row to goals, counted one by one.
    fn walk(next: &[Vec<usize>], goals: &[bool], at: usize) -> (u64, u64, u32) {
        if goals[at] {
            return (1, 1, 0);
        }
        let (mut all, mut few, mut length) = (0, 0, u32::MAX);
        for to in &next[at] {
            let (a, f, l) = walk(next, goals, *to);
            all += a;
            if f > 0 && l < length {
                few = if l + 1 < length { f } else { few + f };
                length = l + 1;
            }
        }
        (all, few, length)
    }

    #[test]
    fn random_boards_without_circles() {
        let mut seed = 7u64;
        let mut below = |n: usize| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) as usize % n
        };
        for _ in 0..200 {
            let n = 3 + below(10);
            let goals: Vec<bool> = (0..n).map(|i| i > 0 && below(4) == 0).collect();
            let next: Vec<Vec<usize>> = (0..n)
                .map(|i| {
                    if i + 1 == n {
                        vec![]
                    } else {
                        (0..below(4)).map(|_| i + 1 + below(n - i - 1)).collect()
                    }
                })
                .collect();
            let rows = (next.iter().zip(&goals))
                .map(|(to, goal)| match goal {
                    true => Row::goal(),
                    false => Row::running(to.iter().enumerate().map(|(k, to)| (k as u32, *to))),
                })
                .collect();
            let (all, few, length) = walk(&next, &goals, 0);
            let found = count(rows, false);
            assert_eq!(found.all, Some(all.to_string()));
            assert_eq!(found.shortest, (few > 0).then(|| (length, few.to_string())));
        }
    }
}
