//! The best states of each depth only. Finds ways where the best state first runs astray, and never proves anything.

use rayon::prelude::*;

use super::best::expand;
use super::ground::{Ground, Reach, Request};
use super::{Found, MET_BYTES, Met, Steps, scouts};
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::Stopped;
use crate::numbers::Random;
use crate::space::id::hash;

/// How wide, and by what states are compared.
#[derive(Clone, Copy, Debug)]
pub struct Wide {
    /// States of each depth that are kept.
    pub width: usize,
    /// Weight of what is due at the least.
    pub least: u32,
    /// Weight of the guess.
    pub guess: u32,
    /// Only ways with fewer steps than this are looked for.
    pub below: u32,
    /// States after which it gives up.
    pub states: u64,
    /// Which of equal ones are kept.
    pub seed: u64,
    /// Of equal ones those come first that come from states with many moves.
    pub many: bool,
}

struct Layer {
    states: Vec<u64>,
    from: Vec<(u32, u32)>,
}

/// A state that was reached and may be kept.
#[derive(Clone, Copy)]
struct Candidate {
    /// Those with the least are kept.
    key: u64,
    /// Which scout reached it, and which of its states it is.
    part: u32,
    at: u32,
    parent: u32,
}

/// The best of a list as a layer, the best first.
fn kept(list: &[Candidate], width: usize, reaches: &[Reach], words: usize) -> Layer {
    let key = |i: &u32| list[*i as usize].key;
    let mut order: Vec<u32> = (0..list.len() as u32).collect();
    if list.len() > width {
        order.select_nth_unstable_by_key(width, key);
        order.truncate(width);
    }
    order.sort_unstable_by_key(key);
    let mut next = Layer { states: Vec::with_capacity(order.len() * words), from: vec![] };
    for i in order {
        let c = list[i as usize];
        let (reach, at) = (&reaches[c.part as usize], c.at as usize);
        next.states.extend_from_slice(&reach.states[at * words..(at + 1) * words]);
        next.from.push((c.parent, reach.list[at].label));
    }
    next
}

/// Searches a ground.
pub fn search(ground: &dyn Ground, wide: Wide, limits: &Limits, watch: &dyn Watch) -> Found {
    let words = ground.layout().words();
    let mut scouts = scouts(ground, limits);
    let start = ground.start();
    let mut found = match Found::begun().look_at_start(&mut *scouts[0], &start) {
        Ok((found, _)) => found,
        Err(found) => return found,
    };
    let mut reaches: Vec<Reach> = vec![Reach::default(); scouts.len()];
    let mut met = Met::default();
    met.insert(hash(&start));
    let mut layers = vec![Layer { states: start, from: vec![(0, 0)] }];
    let mut random = Random::new(wide.seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    loop {
        let here = layers.last().expect("a layer");
        let bytes = layers.iter().map(|l| (l.states.len() * 8 + l.from.len() * 8) as u64).sum::<u64>()
            + met.len() as u64 * MET_BYTES;
        let progress = Progress {
            states: met.len() as u64,
            depth: layers.len() as u32 - 1,
            bytes,
            ..Progress::default()
        };
        found.states = progress.states;
        found.limit = found.limited(&progress, limits, watch);
        if found.limit.is_some() {
            return found;
        }
        if here.from.is_empty() || progress.states >= wide.states || layers.len() as u32 >= wide.below {
            found.gave_up = true;
            return found;
        }
        let each = here.from.len().div_ceil(scouts.len()).max(16);
        // What was met is kept out below, whatever it costs.
        let known = |state: &[u64]| met.contains(&hash(state)).then_some((0, 0));
        let wanted = Request { met: &known, guess: wide.guess > 0 };
        let ends: Vec<Result<Vec<u32>, (usize, Stopped)>> =
            (scouts.par_iter_mut().zip(&mut reaches).zip(here.states.par_chunks(each * words)))
                .map(|((scout, reach), states)| {
                    let pace = Pace::new(watch).at(progress);
                    expand(&mut **scout, states, words, (wanted, pace), reach)
                })
                .collect();
        let mut list: Vec<Candidate> = vec![];
        let mut parent = 0u32;
        let mut goal = None;
        let mut is_full = false;
        for (part, (counts, reach)) in ends.into_iter().zip(&reaches).enumerate() {
            let counts = match counts {
                Ok(counts) => counts,
                Err((_, by)) => return found.stopped(by),
            };
            let mut at = 0;
            for n in counts {
                for i in at..at + n as usize {
                    let r = &reach.list[i];
                    if r.goal && goal.is_none() {
                        goal = Some((parent, r.label));
                    }
                    let hash = hash(&reach.states[i * words..(i + 1) * words]);
                    if met.len() as u64 >= limits.max_states {
                        is_full |= !met.contains(&hash);
                    } else if met.insert(hash) {
                        let score = u64::from(wide.least) * u64::from(r.least)
                            + u64::from(wide.guess) * u64::from(r.guess);
                        let few = if wide.many { 1023 - u64::from(n.min(1023)) } else { 0 };
                        let key = score << 20 | few << 10 | random.below(1 << 10);
                        list.push(Candidate { key, part: part as u32, at: i as u32, parent });
                    }
                }
                at += n as usize;
                parent += 1;
            }
        }
        if let Some((parent, label)) = goal {
            found.cost = layers.len() as u32;
            found.steps = Some(steps(&layers, parent, label));
            return found;
        }
        if is_full {
            found.states = met.len() as u64;
            found.limit = Some(Limit::MaxStates);
            return found;
        }
        let next = kept(&list, wide.width, &reaches, words);
        for reach in &mut reaches {
            found.cut += std::mem::take(&mut reach.cut);
            reach.clear();
        }
        // Of layers that are done only the way back is needed.
        layers.last_mut().expect("a layer").states = vec![];
        layers.push(next);
    }
}

fn steps(layers: &[Layer], parent: u32, label: u32) -> Steps {
    let mut out = vec![label];
    let mut at = parent;
    for layer in layers[1..].iter().rev() {
        let (before, label) = layer.from[at as usize];
        out.push(label);
        at = before;
    }
    out.reverse();
    out
}
