//! Greatest common divisors, numbers as text, and sets that are joined.

/// Greatest common divisor; that of 0 and a number is the number.
///
/// ```
/// assert_eq!(fendle_core::numbers::gcd(12, 18), 6);
/// ```
#[must_use]
pub fn gcd(mut a: u128, mut b: u128) -> u128 {
    // Most numbers are small, and 64-bit division is several times faster.
    if let (Ok(a), Ok(b)) = (u64::try_from(a), u64::try_from(b)) {
        return gcd64(a, b).into();
    }
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

/// The same for small numbers.
#[must_use]
pub fn gcd64(mut a: u64, mut b: u64) -> u64 {
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

/// Which of several weighted things a number below the sum of the weights stands for.
#[must_use]
pub fn nth_weighted(weights: &[u64], mut number: u64) -> usize {
    for (i, weight) in weights.iter().enumerate() {
        if number < *weight {
            return i;
        }
        number -= weight;
    }
    weights.len() - 1
}

/// Least common multiple, if it fits.
#[must_use]
pub fn lcm(a: u128, b: u128) -> Option<u128> {
    (a / gcd(a, b).max(1)).checked_mul(b)
}

/// A number with its digits in groups of three.
///
/// ```
/// assert_eq!(fendle_core::numbers::grouped(1_814_400), "1,814,400");
/// ```
#[must_use]
pub fn grouped(n: u64) -> String {
    grouped_digits(&n.to_string())
}

/// Decimal digits of a number of any length in groups of three.
#[must_use]
pub fn grouped_digits(digits: &str) -> String {
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

/// `1 state`, `4,096 states`.
#[must_use]
pub fn counted(n: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(n), if n == 1 { one } else { many })
}

/// Bytes with a unit, to one place.
#[must_use]
pub fn bytes(n: u64) -> String {
    let scaled = |unit: f64| n as f64 / unit;
    match n {
        0..1024 => format!("{n} B"),
        1024..1_048_576 => format!("{:.1} KiB", scaled(1024.0)),
        1_048_576..1_073_741_824 => format!("{:.1} MiB", scaled(1_048_576.0)),
        _ => format!("{:.1} GiB", scaled(1_073_741_824.0)),
    }
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

/// Numbers that look random and are the same for the same seed (G. Marsaglia, *Xorshift RNGs*, 2003): only what is
/// guessed depends on them.
pub(crate) struct Random(u64);

impl Random {
    pub(crate) fn new(seed: u64) -> Random {
        Random(seed | 1)
    }

    pub(crate) fn below(&mut self, n: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % n.max(1)
    }

    pub(crate) fn pick(&mut self, weights: &[u64]) -> usize {
        let x = self.below(weights.iter().sum());
        nth_weighted(weights, x)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_and_counts_have_their_units() {
        for (n, want) in
            [(0, "0 B"), (1023, "1023 B"), (1536, "1.5 KiB"), (3 << 20, "3.0 MiB"), (5 << 30, "5.0 GiB")]
        {
            assert_eq!(bytes(n), want);
        }
        assert_eq!(
            (counted(1, "move", "moves"), counted(2000, "move", "moves")),
            ("1 move".into(), "2,000 moves".into())
        );
    }

    #[test]
    fn groups_of_three() {
        for (n, want) in [(0, "0"), (999, "999"), (1000, "1,000"), (483_840, "483,840")] {
            assert_eq!(grouped(n), want);
        }
    }
}
