//! Depth first, where the order of the moves decides: those first that leave few moves (or many).
//!
//! For a tour over a board the place that has the fewest ways on is visited first (Warnsdorff 1823, "Des Rösselsprungs einfachste und allgemeinste
//! Lösung"): what is about to be cut off comes first.

use super::ground::{Ground, Reach, Request};
use super::{Found, MET_BYTES, Met};
use crate::limits::{Limit, Limits, Progress, Watch};
use crate::numbers::Random;
use crate::space::id::hash;

/// Which moves come first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Prefer {
    /// Those that leave few moves.
    Few,
    /// Those that leave many.
    Many,
    /// Those whose states look near to the goal.
    Near,
}

/// How to dive.
#[derive(Clone, Copy, Debug)]
pub struct Dive {
    /// Which moves come first.
    pub prefer: Prefer,
    /// States after which it gives up.
    pub states: u64,
    /// Which of equal moves comes first.
    pub seed: u64,
}

/// States that are remembered.
const REMEMBERED: usize = 1 << 25;

struct Level {
    states: Vec<u64>,
    /// Keys, numbers and labels, the next one last.
    open: Vec<(u64, u32, u32)>,
}

/// Searches a ground, on one thread.
pub fn search(ground: &dyn Ground, dive: Dive, limits: &Limits, watch: &dyn Watch) -> Found {
    let words = ground.layout().words();
    let mut scout = ground.scout();
    let mut random = Random::new(dive.seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    let mut state = ground.start();
    let mut found = match Found::begun().look_at_start(&mut *scout, &state) {
        Ok((found, _)) => found,
        Err(found) => return found,
    };
    let mut met = Met::default();
    let mut labels: Vec<u32> = vec![];
    let mut stack: Vec<Level> = vec![];
    let (mut reach, mut beyond) = (Reach::default(), Reach::default());
    let mut asked = 0u64;
    loop {
        // Look at the state: what it leads to, in order.
        reach.clear();
        let known = |state: &[u64]| met.contains(&hash(state)).then_some((0, 0));
        let wanted = Request { met: &known, guess: dive.prefer == Prefer::Near };
        if found.states >= limits.max_states {
            found.limit = Some(Limit::MaxStates);
            return found;
        }
        found.states += 1;
        if let Err(stopped) = scout.reach(&state, wanted, &mut reach) {
            return found.stopped(stopped);
        }
        let mut level = Level { states: vec![], open: vec![] };
        for (i, r) in reach.list.iter().enumerate() {
            let next = &reach.states[i * words..(i + 1) * words];
            if r.goal {
                labels.push(r.label);
                found.cost = labels.len() as u32;
                found.steps = Some(labels);
                return found;
            }
            if met.contains(&hash(next)) {
                continue;
            }
            let key = match dive.prefer {
                Prefer::Near => u64::from(r.guess + r.least),
                Prefer::Few | Prefer::Many => {
                    beyond.clear();
                    if found.states >= limits.max_states {
                        found.limit = Some(Limit::MaxStates);
                        return found;
                    }
                    found.states += 1;
                    if let Err(stopped) = scout.reach(next, wanted, &mut beyond) {
                        return found.stopped(stopped);
                    }
                    let n = beyond.list.len() as u64;
                    // A state without a move is no way on, unless it is won.
                    if n == 0 {
                        continue;
                    }
                    if let Some(won) = beyond.list.iter().find(|r| r.goal) {
                        labels.extend([r.label, won.label]);
                        found.cost = labels.len() as u32;
                        found.steps = Some(labels);
                        return found;
                    }
                    if dive.prefer == Prefer::Few { n } else { u64::from(u32::MAX) - n }
                }
            };
            level.open.push((key << 16 | random.below(1 << 16), level.open.len() as u32, r.label));
            level.states.extend_from_slice(next);
        }
        level.open.sort_unstable_by_key(|o| std::cmp::Reverse(o.0));
        stack.push(level);
        asked += 1;
        if asked.is_multiple_of(256) {
            let bytes = met.len() as u64 * MET_BYTES;
            let progress =
                Progress { states: found.states, depth: labels.len() as u32, bytes, ..Progress::default() };
            found.limit = found.limited(&progress, limits, watch);
            if found.limit.is_some() {
                return found;
            }
        }
        if found.states >= dive.states {
            found.gave_up = true;
            return found;
        }
        // On to the next one, going back where nothing is left.
        loop {
            let Some(level) = stack.last_mut() else {
                found.gave_up = true;
                return found;
            };
            match level.open.pop() {
                None => {
                    stack.pop();
                    labels.pop();
                }
                Some((_, number, label)) => {
                    let at = number as usize * words;
                    let next = &level.states[at..at + words];
                    if met.len() >= REMEMBERED {
                        met.clear();
                    }
                    if met.insert(hash(next)) {
                        state = next.to_vec();
                        labels.push(label);
                        break;
                    }
                }
            }
        }
    }
}
