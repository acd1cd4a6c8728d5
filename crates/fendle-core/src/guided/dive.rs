//! Depth first, where the order of the moves decides: those first that leave few moves (or many).
//!
//! For a tour over a board the place that has the fewest ways on is visited first (Warnsdorff 1823, "Des Rösselsprungs einfachste und allgemeinste
//! Lösung"): what is about to be cut off comes first.

use super::ground::{Ground, Reach, Request, Scout};
use super::{Found, MET_BYTES, Met, REACH_STEPS};
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::Stopped;
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

/// One who dives.
struct Diver<'g> {
    scout: Box<dyn Scout + 'g>,
    dive: Dive,
    pace: Pace<'g>,
    /// Most states that are looked at.
    most: u64,
    words: usize,
    /// States that were met, by hash.
    met: Met,
    random: Random,
    /// The steps so far.
    labels: Vec<u32>,
    found: Found,
}

impl Diver<'_> {
    /// Looks at a state: what it leads to.
    fn look(&mut self, state: &[u64], reach: &mut Reach) -> Result<(), Stopped> {
        if self.found.states >= self.most {
            return Err(Stopped::Limit(Limit::MaxStates));
        }
        self.found.states += 1;
        self.pace.note(self.progress());
        let met = &self.met;
        let known = |state: &[u64]| met.contains(&hash(state)).then_some((0, 0));
        reach.clear();
        self.scout.reach(state, Request { met: &known, guess: self.dive.prefer == Prefer::Near }, reach)?;
        self.pace.step(REACH_STEPS * (1 + reach.list.len() as u64)).map_err(Stopped::Limit)
    }

    fn progress(&self) -> Progress {
        Progress {
            states: self.found.states,
            depth: self.labels.len() as u32,
            bytes: self.met.len() as u64 * MET_BYTES,
            ..Progress::default()
        }
    }

    /// The steps so far and some more lead to a goal.
    fn wins(&mut self, more: &[u32]) {
        self.labels.extend(more);
        self.found.cost = self.labels.len() as u32;
        self.found.steps = Some(std::mem::take(&mut self.labels));
    }

    /// What a state leads to, in order; `None` where a goal was found.
    fn level(&mut self, reach: &Reach, beyond: &mut Reach) -> Result<Option<Level>, Stopped> {
        let mut level = Level { states: vec![], open: vec![] };
        for (r, next) in reach.list.iter().zip(reach.states.chunks_exact(self.words)) {
            if r.goal {
                self.wins(&[r.label]);
                return Ok(None);
            }
            if self.met.contains(&hash(next)) {
                continue;
            }
            let key = if self.dive.prefer == Prefer::Near {
                u64::from(r.guess + r.least)
            } else {
                self.look(next, beyond)?;
                let n = beyond.list.len() as u64;
                // A state without a move is no way on, unless it is won.
                if n == 0 {
                    continue;
                }
                if let Some(won) = beyond.list.iter().find(|r| r.goal) {
                    self.wins(&[r.label, won.label]);
                    return Ok(None);
                }
                if self.dive.prefer == Prefer::Few { n } else { u64::from(u32::MAX) - n }
            };
            level.open.push((key << 16 | self.random.below(1 << 16), level.open.len() as u32, r.label));
            level.states.extend_from_slice(next);
        }
        level.open.sort_unstable_by_key(|o| std::cmp::Reverse(o.0));
        Ok(Some(level))
    }

    /// On to the next state, going back where nothing is left. `None` where nothing is left at all.
    fn next(&mut self, stack: &mut Vec<Level>) -> Option<Vec<u64>> {
        loop {
            let level = stack.last_mut()?;
            let Some((_, number, label)) = level.open.pop() else {
                stack.pop();
                self.labels.pop();
                continue;
            };
            let at = number as usize * self.words;
            let next = &level.states[at..at + self.words];
            if self.met.len() >= REMEMBERED {
                self.met.clear();
            }
            if self.met.insert(hash(next)) {
                self.labels.push(label);
                return Some(next.to_vec());
            }
        }
    }
}

/// Searches a ground, on one thread.
pub fn search(ground: &dyn Ground, dive: Dive, limits: &Limits, watch: &dyn Watch) -> Found {
    let mut scout = ground.scout();
    let mut state = ground.start();
    let found = match Found::begun().look_at_start(&mut *scout, &state) {
        Ok((found, _)) => found,
        Err(found) => return found,
    };
    let mut d = Diver {
        scout,
        dive,
        pace: Pace::new(watch),
        most: limits.max_states,
        words: ground.layout().words(),
        met: Met::default(),
        random: Random::new(dive.seed.wrapping_mul(0x9e37_79b9_7f4a_7c15)),
        labels: vec![],
        found,
    };
    let mut stack: Vec<Level> = vec![];
    let (mut reach, mut beyond) = (Reach::default(), Reach::default());
    let mut asked = 0u64;
    loop {
        let level = d.look(&state, &mut reach).and_then(|()| d.level(&reach, &mut beyond));
        match level {
            Err(stopped) => return d.found.stopped(stopped),
            Ok(None) => return d.found,
            Ok(Some(level)) => stack.push(level),
        }
        asked += 1;
        if asked.is_multiple_of(256) {
            d.found.limit = d.found.limited(&d.progress(), limits, watch);
            if d.found.limit.is_some() {
                return d.found;
            }
        }
        match d.next(&mut stack).filter(|_| d.found.states < dive.states) {
            Some(next) => state = next,
            None => {
                d.found.gave_up = true;
                return d.found;
            }
        }
    }
}
