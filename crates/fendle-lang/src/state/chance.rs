//! Exact probabilities of single outcomes, as fractions of 128-bit numbers.

use std::fmt;

use fendle_core::numbers::{gcd, gcd64, lcm};

/// A probability above 0 and at most 1, in lowest terms.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Chance {
    /// Numerator.
    pub num: u128,
    /// Denominator.
    pub den: u128,
}

impl Chance {
    /// Certainty.
    pub const SURE: Chance = Chance { num: 1, den: 1 };

    /// `num / den` in lowest terms.
    #[must_use]
    pub fn new(num: u128, den: u128) -> Chance {
        let g = gcd(num, den).max(1);
        Chance { num: num / g, den: den / g }
    }

    /// This and then, independently, `weight` of `total`. `None` when it no longer fits.
    #[must_use]
    pub fn then(self, weight: u64, total: u64) -> Option<Chance> {
        // Most numbers are small, and 64-bit division is several times faster.
        if let (Ok(num), Ok(den)) = (u64::try_from(self.num), u64::try_from(self.den)) {
            let g = gcd64(weight, total).max(1);
            let (weight, total) = (weight / g, total / g);
            let (a, b) = (gcd64(num, total).max(1), gcd64(weight, den).max(1));
            let times = |x: u64, y: u64| u128::from(x) * u128::from(y);
            return Some(Chance { num: times(num / a, weight / b), den: times(den / b, total / a) });
        }
        let step = Chance::new(weight.into(), total.into());
        let (a, b) = (Chance::new(self.num, step.den), Chance::new(step.num, self.den));
        Some(Chance { num: a.num.checked_mul(b.num)?, den: a.den.checked_mul(b.den)? })
    }

    /// The same, in lowest terms only where it would not fit otherwise: faster by several divisions.
    #[inline]
    #[must_use]
    pub(crate) fn then_as_it_is(self, weight: u64, total: u64) -> Option<Chance> {
        const SMALL: u64 = 1 << 32;
        if (self.num | self.den) < SMALL.into() && (weight | total) < SMALL {
            let times = |x: u128, y: u64| u128::from(x as u64 * y);
            return Some(Chance { num: times(self.num, weight), den: times(self.den, total) });
        }
        self.reduced().then(weight, total)
    }

    /// In lowest terms.
    #[must_use]
    pub fn reduced(self) -> Chance {
        Chance::new(self.num, self.den)
    }

    /// This or, exclusively, the other. `None` when it no longer fits.
    #[must_use]
    pub fn or(self, other: Chance) -> Option<Chance> {
        let den = lcm(self.den, other.den)?;
        let a = self.num.checked_mul(den / self.den)?;
        Some(Chance::new(a.checked_add(other.num.checked_mul(den / other.den)?)?, den))
    }

    /// Near enough for people.
    #[must_use]
    pub fn about(self) -> f64 {
        self.num as f64 / self.den as f64
    }
}

impl fmt::Display for Chance {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.den == 1 { write!(f, "{}", self.num) } else { write!(f, "{}/{}", self.num, self.den) }
    }
}
