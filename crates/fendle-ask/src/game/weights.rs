//! Whether a game draws as often as the model says: an exact test of how often each outcome comes.
//!
//! Each outcome's count is binomial where the chances are right. The test asks how likely a count is that is as unlikely as the one that was
//! seen, or more so (the exact two-sided test), and shares its error level among all outcomes of all moves that are tested (Bonferroni).

use fendle_lang::play::Played;

/// How often a move is made, at the least and at the most.
const TRIES: (u32, u32) = (300, 2_000);
/// How often the rarest outcome is to be expected: were it never drawn, that would be all but impossible by luck.
const RAREST: u128 = 25;
/// Moves that are tested.
pub const TESTED: u32 = 12;
/// How often a true game is blamed, at the most, over the whole comparison.
const LEVEL: f64 = 1e-6;

/// Moves that may still be tested.
#[derive(Clone, Copy, Debug)]
pub struct Tries(u32);

impl Default for Tries {
    fn default() -> Tries {
        Tries(TESTED)
    }
}

impl Tries {
    /// Takes one; false when there is none left.
    pub fn take(&mut self) -> bool {
        let left = self.0 > 0;
        self.0 -= u32::from(left);
        left
    }
}

/// How often a move is to be made to be tested.
#[must_use]
pub fn tries(outcomes: &[Played]) -> u32 {
    let needed = outcomes.iter().map(|p| RAREST * p.made.chance.den / p.made.chance.num.max(1)).max();
    needed.map_or(TRIES.0, |n| n.clamp(TRIES.0.into(), TRIES.1.into()) as u32)
}

/// The natural logarithm of the factorial of each number up to `n`.
fn ln_factorials(n: u32) -> Vec<f64> {
    let mut out = vec![0.0; n as usize + 1];
    for k in 1..=n as usize {
        out[k] = out[k - 1] + (k as f64).ln();
    }
    out
}

/// How likely a count is that is at most as likely as `k` successes of `n` with chance `p`: the exact two-sided test of a binomial count.
#[must_use]
pub fn two_sided(k: u32, n: u32, p: f64) -> f64 {
    if p <= 0.0 || p >= 1.0 {
        let sure = if p <= 0.0 { 0 } else { n };
        return if k == sure { 1.0 } else { 0.0 };
    }
    let ln = ln_factorials(n);
    let chance = |i: u32| {
        let (i, rest) = (i as usize, (n - i) as usize);
        (ln[n as usize] - ln[i] - ln[rest] + i as f64 * p.ln() + rest as f64 * (1.0 - p).ln()).exp()
    };
    let seen = chance(k);
    // What differs by rounding alone is as likely.
    (0..=n).map(chance).filter(|c| *c <= seen * (1.0 + 1e-9)).sum::<f64>().min(1.0)
}

/// The outcome whose count is too unlikely, and words for it. `counts`: how often each came.
#[must_use]
pub fn unlikely(counts: &[u32], outcomes: &[Played]) -> Option<(usize, String)> {
    let tries = counts.iter().sum();
    let level = LEVEL / (f64::from(TESTED) * outcomes.len() as f64);
    let (at, likely) = (counts.iter().zip(outcomes).enumerate())
        .map(|(at, (k, p))| {
            let chance = p.made.chance;
            (at, two_sided(*k, tries, chance.num as f64 / chance.den as f64))
        })
        .min_by(|a, b| a.1.total_cmp(&b.1))?;
    (likely < level).then(|| {
        let (drawn, chance) = (outcomes[at].draws_text(), outcomes[at].made.chance);
        let words = format!(
            "`{drawn}` came {} times in {tries} tries, and its chance is {chance} in the model (an exact test, wrong less than once in a million comparisons)",
            counts[at]
        );
        (at, words)
    })
}
