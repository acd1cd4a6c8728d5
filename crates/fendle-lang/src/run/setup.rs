//! Starts that a model's `setup` draws: all of them with their weights, or one by seed.
//!
//! The same seed gives the same start on every machine: the numbers come from ChaCha with 8 rounds
//! (Bernstein, 2008), and are cut to a range by rejection.

use std::collections::HashMap;
use std::fmt;

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{RngCore, SeedableRng};

use crate::run::scatter::scatter;
use crate::run::{Drawn, Eval, RunFault};
use crate::source::Span;
use crate::state::Bound;
use crate::state::chance::Chance;
use fendle_core::numbers::{lcm, nth_weighted};

/// Most ways through a setup that are enumerated.
pub const WAYS_MAX: usize = 1 << 16;
/// Attempts at one start, unless the setup says otherwise.
pub const ATTEMPTS: i64 = 10_000;

/// Random numbers by seed.
pub struct Dice(ChaCha8Rng);

impl Dice {
    /// Dice that fall the same for the same seed.
    #[must_use]
    pub fn new(seed: u64) -> Dice {
        Dice(ChaCha8Rng::seed_from_u64(seed))
    }

    /// A number below `n`, each equally often.
    pub fn below(&mut self, n: u64) -> u64 {
        let zone = u64::MAX - u64::MAX % n.max(1);
        loop {
            let x = self.0.next_u64();
            if x < zone {
                return x % n.max(1);
            }
        }
    }

    /// A number from 0 to 1.
    pub fn share(&mut self) -> f64 {
        self.below(1 << 53) as f64 / (1u64 << 53) as f64
    }

    /// Which of several weighted things.
    pub fn pick(&mut self, weights: &[u64]) -> usize {
        let x = self.below(weights.iter().sum());
        nth_weighted(weights, x)
    }
}

/// Why no start could be drawn.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoStart {
    /// The model broke.
    Fault(RunFault),
    /// No attempt was accepted; where most were dropped.
    Dropped {
        /// How many attempts there were.
        attempts: u64,
        /// The condition that dropped most.
        at: Span,
    },
    /// The weights of the starts do not fit 64 bits.
    TooFine,
}

impl fmt::Display for NoStart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            NoStart::Fault(fault) => write!(f, "the setup breaks: {fault}"),
            NoStart::Dropped { attempts, .. } => {
                write!(f, "the setup draws no start that it accepts: {attempts} were drawn and dropped")
            }
            NoStart::TooFine => write!(f, "the weights of the starts are too fine to be kept exactly"),
        }
    }
}

/// A start that was drawn by seed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sampled {
    /// The state.
    pub state: Vec<i32>,
    /// Which attempt was accepted, from 1.
    pub attempts: u64,
}

/// All starts of a setup.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AllStarts {
    /// Each start once, with its weight, in the order in which they are met.
    pub starts: Vec<(Vec<i32>, u64)>,
    /// The share of what is drawn that is accepted.
    pub accepted: Chance,
    /// Ways through the setup.
    pub ways: u64,
}

/// Draws one start by seed.
///
/// # Errors
///
/// [`NoStart`].
pub fn sample(b: &Bound, seed: u64) -> Result<Sampled, NoStart> {
    accepted(b, seed, None).map(|found| found.0)
}

/// The same where a layout of what is hidden is drawn, too: a new one for each attempt, so that layouts which the setup drops more
/// often are met less often. Also gives the layout that was accepted.
///
/// # Errors
///
/// [`NoStart`].
pub fn sample_with_layout(b: &Bound, seed: u64) -> Result<(Sampled, Vec<i32>), NoStart> {
    let mut layouts = Dice::new(seed);
    accepted(b, seed, Some(&mut layouts))
}

/// Runs the setup until it accepts what was drawn, and gives the layout that it began with.
fn accepted(b: &Bound, seed: u64, mut layouts: Option<&mut Dice>) -> Result<(Sampled, Vec<i32>), NoStart> {
    let attempts = match b.model.setup.as_ref().and_then(|s| s.attempts.as_ref()) {
        Some(e) => Eval::new(b).lone(e).map_err(NoStart::Fault)?,
        None => ATTEMPTS,
    };
    let mut dice = Dice::new(seed);
    let mut drops: HashMap<Span, u64> = HashMap::new();
    for attempt in 1..=attempts.max(1) as u64 {
        Eval::new(b).go_on(Span::default()).map_err(NoStart::Fault)?;
        let layout = match &mut layouts {
            Some(layouts) => scatter(b, layouts)?,
            None => b.start.clone(),
        };
        let mut pick = |weights: &[u64]| dice.pick(weights);
        let drawn = Eval::with_layout(b, layout.clone()).draw_start(&mut pick);
        match drawn.map_err(NoStart::Fault)? {
            Drawn::Start(state, _) => return Ok((Sampled { state, attempts: attempt }, layout)),
            Drawn::Dropped(at, _) => *drops.entry(at).or_default() += 1,
        }
    }
    let at = drops.iter().max_by_key(|(s, n)| (**n, s.start)).map_or(Span::default(), |d| *d.0);
    Err(NoStart::Dropped { attempts: attempts.max(1) as u64, at })
}

/// All starts with exact weights; `None` when there are too many ways through the setup.
///
/// # Errors
///
/// [`NoStart`].
pub fn all(b: &Bound) -> Result<Option<AllStarts>, NoStart> {
    let Some(drawn) = Eval::new(b).all_starts(WAYS_MAX).map_err(NoStart::Fault)? else { return Ok(None) };
    let ways = drawn.len() as u64;
    let mut starts: Vec<(Vec<i32>, Chance)> = vec![];
    let mut index: HashMap<Vec<i32>, usize> = HashMap::new();
    let mut accepted: Option<Chance> = None;
    let mut worst: HashMap<Span, u64> = HashMap::new();
    for d in drawn {
        match d {
            Drawn::Start(state, chance) => {
                accepted = Some(match accepted {
                    None => chance,
                    Some(sum) => sum.or(chance).ok_or(NoStart::TooFine)?,
                });
                match index.get(&state) {
                    Some(&i) => starts[i].1 = starts[i].1.or(chance).ok_or(NoStart::TooFine)?,
                    None => {
                        index.insert(state.clone(), starts.len());
                        starts.push((state, chance));
                    }
                }
            }
            Drawn::Dropped(at, _) => *worst.entry(at).or_default() += 1,
        }
    }
    let Some(accepted) = accepted else {
        let at = worst.iter().max_by_key(|(s, n)| (**n, s.start)).map_or(Span::default(), |d| *d.0);
        return Err(NoStart::Dropped { attempts: ways, at });
    };
    let weights = weights(starts.iter().map(|s| s.1)).ok_or(NoStart::TooFine)?;
    let starts = starts.into_iter().zip(weights).map(|((s, _), w)| (s, w)).collect();
    Ok(Some(AllStarts { starts, accepted, ways }))
}

/// All worlds that the level leaves possible, with exact weights: every layout of what is hidden, every
/// start that the setup draws from it, less those that contradict what the level says is seen or a law.
/// `None` when there are more than `most`.
///
/// # Errors
///
/// [`NoStart`].
pub fn worlds(b: &Bound, most: usize) -> Result<Option<crate::run::scatter::WeightedStates>, NoStart> {
    let Some(layouts) = crate::run::scatter::layouts(b, most).map_err(NoStart::Fault)? else {
        return Ok(None);
    };
    worlds_of(b, layouts, most)
}

/// The same from some layouts with their weights.
///
/// # Errors
///
/// [`NoStart`].
pub fn worlds_of(
    b: &Bound,
    layouts: crate::run::scatter::WeightedStates,
    most: usize,
) -> Result<Option<crate::run::scatter::WeightedStates>, NoStart> {
    let mut found: Vec<(Vec<i32>, Chance)> = vec![];
    for (mut layout, weight) in layouts {
        if b.drawn {
            let mut eval = Eval::with_layout(b, layout);
            let Some(drawn) = eval.all_starts(WAYS_MAX).map_err(NoStart::Fault)? else { return Ok(None) };
            for d in drawn {
                if let Drawn::Start(state, c) = d {
                    let num = c.num.checked_mul(weight.into()).ok_or(NoStart::TooFine)?;
                    found.push((state, Chance { num, den: c.den }));
                }
            }
        } else {
            for (def, slot) in b.model.vars.iter().zip(&b.slots).filter(|(d, _)| d.state && !d.hidden) {
                let _ = def;
                let part = slot.base..slot.base + slot.len;
                layout[part.clone()].copy_from_slice(&b.position[part]);
            }
            let ended = b.ended_at();
            layout[ended] = b.position[ended];
            found.push((layout, Chance { num: weight.into(), den: 1 }));
        }
        if found.len() > most {
            return Ok(None);
        }
    }
    let mut kept = vec![];
    for (state, chance) in found {
        // A world that breaks a law cannot be; any other fault is told where it is met.
        let broken = |f: RunFault| f.kind == crate::run::FaultKind::AlwaysBroken;
        if Eval::new(b).status(&state).err().is_some_and(broken) {
            continue;
        }
        if b.seen.iter().any(Option::is_some) {
            let told = Eval::new(b).told(&state).map_err(NoStart::Fault)?;
            let fits = b.seen.iter().zip(&told).all(|(s, t)| s.as_ref().is_none_or(|s| s == t));
            if !fits {
                continue;
            }
        }
        kept.push((state, chance));
    }
    let weights = weights(kept.iter().map(|k| k.1)).ok_or(NoStart::TooFine)?;
    Ok(Some(kept.into_iter().zip(weights).map(|((s, _), w)| (s, w)).collect()))
}

/// Whole weights in the proportion of these chances, as small as they can be.
#[must_use]
pub fn weights(chances: impl Iterator<Item = Chance> + Clone) -> Option<Vec<u64>> {
    let mut den = 1u128;
    for c in chances.clone() {
        den = lcm(den, c.den)?;
    }
    let mut out: Vec<u128> = vec![];
    for c in chances {
        out.push(c.num.checked_mul(den / c.den)?);
    }
    let g = out.iter().copied().fold(0, fendle_core::numbers::gcd).max(1);
    out.into_iter().map(|w| u64::try_from(w / g).ok()).collect()
}
