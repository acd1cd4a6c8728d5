//! Greatest common divisors, and sets that are joined.

/// Greatest common divisor; that of 0 and a number is the number.
///
/// ```
/// assert_eq!(fendle_core::numbers::gcd(12, 18), 6);
/// ```
#[must_use]
pub fn gcd(mut a: u128, mut b: u128) -> u128 {
    // Most numbers are small, and 64-bit division is several times faster.
    if let (Ok(a), Ok(b)) = (u64::try_from(a), u64::try_from(b)) {
        let (mut a, mut b) = (a, b);
        while b != 0 {
            (a, b) = (b, a % b);
        }
        return a.into();
    }
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

/// Least common multiple, if it fits.
#[must_use]
pub fn lcm(a: u128, b: u128) -> Option<u128> {
    (a / gcd(a, b).max(1)).checked_mul(b)
}

/// Disjoint sets of the numbers below some bound, which can be joined (Tarjan, 1975; with path halving). Of joined sets the
/// least number stands for all.
#[derive(Clone, Debug)]
pub struct DisjointSets(Vec<u32>);

impl DisjointSets {
    /// Each number in a set of its own.
    #[must_use]
    pub fn new(len: u32) -> DisjointSets {
        DisjointSets((0..len).collect())
    }

    /// The number that stands for the set of this one.
    pub fn find(&mut self, mut i: u32) -> u32 {
        let root = &mut self.0;
        while root[i as usize] != i {
            root[i as usize] = root[root[i as usize] as usize];
            i = root[i as usize];
        }
        i
    }

    /// Joins the sets of two numbers; false where they were one already.
    pub fn join(&mut self, a: u32, b: u32) -> bool {
        let (a, b) = (self.find(a), self.find(b));
        if a != b {
            self.0[a.max(b) as usize] = a.min(b);
        }
        a != b
    }
}
