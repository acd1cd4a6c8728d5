//! Linear algebra over a prime field: what is spanned, and what is orthogonal to it.
//!
//! A quantity that is a weighted sum is kept by every move exactly when its weights are orthogonal to every change that
//! a move can make; so the kept quantities of this form are the kernel of the changes.

use crate::numbers::gcd;

/// A prime so great that small fractions can be told apart modulo it: stands for the rational numbers where what comes
/// out is checked with whole numbers.
pub const GREAT: u64 = (1 << 31) - 1;

/// The span of some rows modulo a prime, in reduced echelon form.
#[derive(Clone, Debug)]
pub struct Span {
    width: usize,
    modulus: u64,
    /// Pivot column, and the row with a 1 there.
    rows: Vec<(usize, Vec<u64>)>,
}

fn inverse(a: u64, p: u64) -> u64 {
    // Fermat: a^(p-2).
    let (mut base, mut exp, mut out) = (a % p, p - 2, 1);
    while exp > 0 {
        if exp & 1 == 1 {
            out = out * base % p;
        }
        base = base * base % p;
        exp >>= 1;
    }
    out
}

impl Span {
    /// Of no rows, `width` columns wide. `modulus` is a prime below 2^32.
    #[must_use]
    pub fn new(width: usize, modulus: u64) -> Span {
        Span { width, modulus, rows: vec![] }
    }

    fn reduce(&self, row: &mut [u64]) {
        let p = self.modulus;
        for (pivot, basis) in &self.rows {
            let k = row[*pivot];
            if k != 0 {
                for (x, b) in row.iter_mut().zip(basis) {
                    *x = (*x + (p - k) * b) % p;
                }
            }
        }
    }

    fn residues(&self, row: &[i64]) -> Vec<u64> {
        row.iter().map(|x| x.rem_euclid(self.modulus as i64) as u64).collect()
    }

    /// Adds a row. False when it was spanned already. O(width times rank).
    pub fn add(&mut self, row: &[i64]) -> bool {
        let row = self.residues(row);
        self.add_residues(row)
    }

    fn add_residues(&mut self, mut row: Vec<u64>) -> bool {
        self.reduce(&mut row);
        let Some(pivot) = row.iter().position(|x| *x != 0) else { return false };
        let p = self.modulus;
        let inverse = inverse(row[pivot], p);
        for x in &mut row {
            *x = *x * inverse % p;
        }
        for (_, other) in &mut self.rows {
            let k = other[pivot];
            if k != 0 {
                for (x, b) in other.iter_mut().zip(&row) {
                    *x = (*x + (p - k) * b) % p;
                }
            }
        }
        self.rows.push((pivot, row));
        true
    }

    /// Whether a row is spanned.
    #[must_use]
    pub fn contains(&self, row: &[i64]) -> bool {
        let mut row = self.residues(row);
        self.reduce(&mut row);
        row.iter().all(|x| *x == 0)
    }

    /// How many independent rows there are.
    #[must_use]
    pub fn rank(&self) -> usize {
        self.rows.len()
    }

    /// The span of the same rows with only these columns.
    #[must_use]
    pub fn only(&self, columns: &[usize]) -> Span {
        let mut out = Span::new(columns.len(), self.modulus);
        for (_, row) in &self.rows {
            out.add_residues(columns.iter().map(|c| row[*c]).collect());
        }
        out
    }

    /// A basis of all vectors whose product with every row is 0, each with a 1 in a column of its own.
    #[must_use]
    pub fn kernel(&self) -> Vec<Vec<i64>> {
        let mut pivots = vec![None; self.width];
        for (i, (pivot, _)) in self.rows.iter().enumerate() {
            pivots[*pivot] = Some(i);
        }
        let free = (0..self.width).filter(|c| pivots[*c].is_none());
        free.map(|f| {
            let mut out = vec![0; self.width];
            out[f] = 1;
            for (pivot, row) in &self.rows {
                out[*pivot] = ((self.modulus - row[f]) % self.modulus) as i64;
            }
            out
        })
        .collect()
    }
}

/// The product of two vectors of numbers.
#[must_use]
pub fn dot(a: &[i64], b: &[i64]) -> i128 {
    a.iter().zip(b).map(|(x, y)| i128::from(*x) * i128::from(*y)).sum()
}

/// Whole numbers in the ratio that these residues modulo [`GREAT`] stand for, if it is one of small fractions.
#[must_use]
pub fn small_ratio(residues: &[i64]) -> Option<Vec<i64>> {
    const SMALL: i64 = 1000;
    let p = GREAT as i64;
    let mut scale = 1i64;
    for r in residues {
        let r = r.rem_euclid(p);
        // The least denominator that makes it small.
        let d = (1..=60).find(|d| {
            let x = r * d % p;
            x.min(p - x) <= SMALL
        })?;
        let g = gcd(scale.unsigned_abs().into(), d.unsigned_abs().into()) as i64;
        scale = scale.checked_mul(d / g).filter(|s| *s <= SMALL)?;
    }
    let out: Vec<i64> = residues
        .iter()
        .map(|r| {
            let x = (i128::from(r.rem_euclid(p)) * i128::from(scale)).rem_euclid(p.into()) as i64;
            if x > p / 2 { x - p } else { x }
        })
        .collect();
    let g = out.iter().fold(0, |g, x| gcd(g, x.unsigned_abs().into())).max(1);
    let g = g as i64;
    out.iter().all(|x| x.abs() <= SMALL * scale).then(|| out.iter().map(|x| x / g).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every vector that is orthogonal to all rows, by trying them all, is spanned by the kernel; and no other.
    #[test]
    fn kernels_are_all_that_is_orthogonal() {
        let mut seed = 7u64;
        let mut next = || {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) as i64
        };
        for case in 0..200 {
            let p = [2, 3, 5][case % 3];
            let width = 1 + case % 5;
            let rows: Vec<Vec<i64>> =
                (0..case % 6).map(|_| (0..width).map(|_| next() % 9 - 4).collect()).collect();
            let mut span = Span::new(width, p);
            for r in &rows {
                let before = span.rank();
                assert_eq!(span.add(r), span.rank() > before);
                assert!(span.contains(r));
            }
            let kernel = span.kernel();
            assert_eq!(kernel.len() + span.rank(), width);
            let mut of_kernel = Span::new(width, p);
            kernel.iter().for_each(|k| assert!(of_kernel.add(k)));
            for n in 0..(p as usize).pow(width as u32) {
                let v: Vec<i64> =
                    (0..width).map(|i| (n / (p as usize).pow(i as u32) % p as usize) as i64).collect();
                let orthogonal = rows.iter().all(|r| dot(r, &v).rem_euclid(p.into()) == 0);
                assert_eq!(orthogonal, of_kernel.contains(&v));
            }
        }
    }

    #[test]
    fn fractions_come_back_as_whole_numbers() {
        let p = GREAT as i64;
        let half = (p + 1) / 2;
        assert_eq!(small_ratio(&[1, half, p - 1]), Some(vec![2, 1, -2]));
        assert_eq!(small_ratio(&[4, 8, p - 12]), Some(vec![1, 2, -3]));
        assert_eq!(small_ratio(&[123_456_789, 1]), None);
    }
}
