//! A visited space as a graph on dense ids: arrows, strongly connected parts, distances.
//!
//! Ids are those of [`StateId`]; a few of them, less than one in a hundred of a large space, name no
//! state and have no arrows. Everything here is linear in states and transitions.
//!
//! # Cost
//!
//! Arrows take 4 bytes a transition and 4 a state; parts 4 bytes a state, and 13 while they are found;
//! distances 4 bytes a state.

use crate::space::{Class, Space, StateId};

/// No distance: never reached.
pub const NEVER: u32 = u32::MAX;

/// All transitions of a space, in one direction, by state.
pub struct Arrows {
    first: Vec<u32>,
    to: Vec<u32>,
}

/// Bytes that [`Arrows`] of a space take.
#[must_use]
pub fn arrows_bytes(space: &Space, transitions: u64) -> u64 {
    4 * (space.ids_len() as u64 + 1 + transitions)
}

impl Arrows {
    /// From each state to those that its moves lead to, in move order; as often as moves lead there.
    #[must_use]
    pub fn forward(space: &Space) -> Arrows {
        Arrows::of(space, false)
    }

    /// From each state to those that have a move to it.
    #[must_use]
    pub fn backward(space: &Space) -> Arrows {
        Arrows::of(space, true)
    }

    fn of(space: &Space, back: bool) -> Arrows {
        let mut first = vec![0u32; space.ids_len() + 1];
        let levels = space.levels_len();
        for depth in 0..levels {
            space.each_edges(depth, |id, edges| {
                if back {
                    for e in edges {
                        first[e.to.0 as usize] += 1;
                    }
                } else {
                    first[id.0 as usize] = edges.len() as u32;
                }
            });
        }
        // Counts become ends, and filling from the back turns ends into beginnings.
        let mut sum = 0;
        for f in &mut first {
            sum += *f;
            *f = sum;
        }
        let mut to = vec![0u32; sum as usize];
        for depth in 0..levels {
            space.each_edges(depth, |id, edges| {
                for e in edges.iter().rev() {
                    let (at, target) = if back { (e.to.0, id.0) } else { (id.0, e.to.0) };
                    let slot = &mut first[at as usize];
                    *slot -= 1;
                    to[*slot as usize] = target;
                }
            });
        }
        Arrows { first, to }
    }

    /// Where the arrows of a state lead.
    #[inline]
    #[must_use]
    pub fn from(&self, id: StateId) -> &[u32] {
        let i = id.0 as usize;
        &self.to[self.first[i] as usize..self.first[i + 1] as usize]
    }
}

/// For each id the number of its strongly connected part. An arrow between two parts leads from the smaller number
/// to the greater one.
pub struct Parts {
    of: Vec<u32>,
    /// How many parts there are.
    pub count: u32,
}

impl Parts {
    /// Finds the strongly connected parts of what can be reached from the starts. Source of the algorithm: D. J. Pearce, *A
    /// space-efficient algorithm for finding strongly connected components*, Information Processing Letters 116
    /// (2016); here without recursion. O(|S| + |T|).
    #[must_use]
    pub fn of(space: &Space, arrows: &Arrows) -> Parts {
        const ROOT: u32 = 1 << 31;
        let mut number = vec![0u32; space.ids_len()];
        let mut index = 1u32;
        // Counts down from above every index, so that a finished part never looks like one under way.
        let mut next_part = NEVER - 1;
        let mut stack: Vec<u32> = vec![];
        // (state, whether it may still be the root of its part; next arrow)
        let mut calls: Vec<(u32, u32)> = vec![];
        for start in space.starts() {
            if number[start.0 as usize] != 0 {
                continue;
            }
            number[start.0 as usize] = index;
            index += 1;
            calls.push((start.0 | ROOT, arrows.first[start.0 as usize]));
            while let Some((state, at)) = calls.last_mut() {
                let v = (*state & !ROOT) as usize;
                if *at < arrows.first[v + 1] {
                    let w = arrows.to[*at as usize] as usize;
                    if number[w] == 0 {
                        number[w] = index;
                        index += 1;
                        calls.push((w as u32 | ROOT, arrows.first[w]));
                        continue;
                    }
                    *at += 1;
                    if number[w] < number[v] {
                        number[v] = number[w];
                        *state &= !ROOT;
                    }
                    continue;
                }
                let root = *state & ROOT != 0;
                calls.pop();
                if !root {
                    stack.push(v as u32);
                    continue;
                }
                index -= 1;
                while let Some(&w) = stack.last()
                    && number[w as usize] >= number[v]
                {
                    stack.pop();
                    number[w as usize] = next_part;
                    index -= 1;
                }
                number[v] = next_part;
                next_part -= 1;
            }
        }
        let count = NEVER - 1 - next_part;
        for n in number.iter_mut().filter(|n| **n > next_part) {
            *n -= next_part + 1;
        }
        Parts { of: number, count }
    }

    /// The part that a state belongs to.
    #[inline]
    #[must_use]
    pub fn part(&self, id: StateId) -> u32 {
        self.of[id.0 as usize]
    }
}

/// For each state the least number of moves: from a winnable one to a goal, from a dead one to a state that is stuck,
/// lost or over; 0 for those. With chance: if every draw falls well, or badly.
pub struct Distances(Vec<u32>);

/// Running states by the number of their allowed moves. O(|T|).
#[must_use]
pub fn by_moves(space: &Space) -> Vec<u64> {
    let mut out = vec![];
    for depth in 0..space.levels_len() {
        space.each_edges(depth, |id, edges| {
            if matches!(space.class(id), Class::Goal | Class::Lost | Class::Over) {
                return;
            }
            let moves = edges.iter().filter(|e| e.last).count();
            if out.len() <= moves {
                out.resize(moves + 1, 0);
            }
            out[moves] += 1;
        });
    }
    out
}

impl Distances {
    /// Goals and winnable states by their distance to a goal; of states of chance, if all draws are lucky.
    #[must_use]
    pub fn to_goal(&self, space: &Space) -> Vec<u64> {
        let mut out = vec![];
        for id in (0..space.levels_len()).flat_map(|d| space.level(d)) {
            if let (Class::Goal | Class::Winnable, Some(d)) = (space.class(id), self.get(id)) {
                if out.len() <= d as usize {
                    out.resize(d as usize + 1, 0);
                }
                out[d as usize] += 1;
            }
        }
        out
    }

    /// Backwards and breadth first. O(|S| + |T|).
    #[must_use]
    pub fn of(space: &Space, back: &Arrows) -> Distances {
        let mut far = vec![NEVER; space.ids_len()];
        let ends = |c: Class| matches!(c, Class::Goal | Class::Lost | Class::Over | Class::Stuck);
        let mut ring: Vec<u32> = vec![];
        for depth in 0..space.levels_len() {
            ring.extend(space.level(depth).filter(|id| ends(space.class(*id))).map(|id| id.0));
        }
        for id in &ring {
            far[*id as usize] = 0;
        }
        // From a goal only winnable states are reached backwards, or other goals; from the other
        // ends any state may be, and only dead ones are asked for.
        let mut next = vec![];
        let mut distance = 0;
        while !ring.is_empty() {
            distance += 1;
            for &id in &ring {
                let wins = matches!(space.class(StateId(id)), Class::Goal | Class::Winnable);
                let wanted = if wins { Class::Winnable } else { Class::Dead };
                for &from in back.from(StateId(id)) {
                    if far[from as usize] == NEVER && space.class(StateId(from)) == wanted {
                        far[from as usize] = distance;
                        next.push(from);
                    }
                }
            }
            ring.clear();
            std::mem::swap(&mut ring, &mut next);
        }
        Distances(far)
    }

    /// The distance of a state; `None` where there is none.
    #[inline]
    #[must_use]
    pub fn get(&self, id: StateId) -> Option<u32> {
        Some(self.0[id.0 as usize]).filter(|d| *d != NEVER)
    }
}
