//! Ranks of arrangements: their place in lexicographic order, by the factorial number system for distinct values (Knuth, TAOCP 4A, 7.2.1.2),
//! by multinomial counting where values repeat.

/// The rank of an arrangement of some values, and the arrangement of a rank.
#[derive(Clone, Debug)]
pub(super) struct Ranker {
    /// The distinct values, ascending.
    values: Vec<i32>,
    counts: Vec<u32>,
    /// Index of a value by `value - values[0]`, where the spread is small; 255 for none.
    table: Vec<u8>,
    /// `weights[i]` arrangements of the values behind position i, all distinct.
    weights: Vec<u64>,
    /// How many arrangements there are.
    pub(super) total: u64,
    distinct: bool,
}

impl Ranker {
    /// Of some values; `None` where their arrangements are too many to be numbered.
    pub(super) fn new(all: &[i32]) -> Option<Ranker> {
        let mut values = all.to_vec();
        values.sort_unstable();
        values.dedup();
        let counts: Vec<u32> = values.iter().map(|v| all.iter().filter(|a| *a == v).count() as u32).collect();
        if values.len() > 255 {
            return None;
        }
        // n! / (c1! c2! ...) as a product of binomials, each exact.
        let mut total: u128 = 1;
        let mut placed = 0u128;
        for &count in &counts {
            for i in 1..=u128::from(count) {
                placed += 1;
                total = total.checked_mul(placed)? / i;
                if total > u128::from(u64::MAX) {
                    return None;
                }
            }
        }
        let distinct = counts.iter().all(|&c| c == 1) && all.len() <= 20;
        let n = all.len();
        let mut weights = vec![1u64; n];
        if distinct {
            for i in (0..n.saturating_sub(1)).rev() {
                weights[i] = weights[i + 1] * (n - 1 - i) as u64;
            }
        }
        let lowest = values.first().copied().unwrap_or(0);
        let spread = i64::from(values.last().copied().unwrap_or(0)) - i64::from(lowest);
        let mut table = vec![];
        if spread < 1024 {
            table = vec![255; spread as usize + 1];
            for (i, v) in values.iter().enumerate() {
                table[(v - lowest) as usize] = i as u8;
            }
        }
        Some(Ranker { values, counts, table, weights, total: total as u64, distinct })
    }

    /// A copy of the counts on the stack: nothing is allocated for a state.
    #[inline]
    fn counts_here(&self) -> [u32; 255] {
        let mut counts = [0; 255];
        counts[..self.counts.len()].copy_from_slice(&self.counts);
        counts
    }

    #[inline]
    fn index(&self, value: i32) -> Option<usize> {
        if self.table.is_empty() {
            return self.values.binary_search(&value).ok();
        }
        let at = i64::from(value) - i64::from(self.values[0]);
        match self.table.get(usize::try_from(at).ok()?) {
            Some(&i) if i != 255 => Some(i as usize),
            _ => None,
        }
    }

    /// The rank of an arrangement; `None` where these are no arrangement of the values.
    #[inline]
    pub(super) fn rank(&self, grid: &[i32]) -> Option<u64> {
        if self.distinct {
            let mut unused = (1u32 << grid.len()) - 1;
            let mut rank = 0;
            for (&v, &weight) in grid.iter().zip(&self.weights) {
                let bit = 1u32 << self.index(v)?;
                if unused & bit == 0 {
                    return None;
                }
                rank += u64::from((unused & (bit - 1)).count_ones()) * weight;
                unused ^= bit;
            }
            return Some(rank);
        }
        if self.total <= u64::MAX / grid.len().max(1) as u64 {
            self.rank_counts(grid, |a, b, c| a * b / c)
        } else {
            let wide = |a: u64, b: u64, c: u64| (u128::from(a) * u128::from(b) / u128::from(c)) as u64;
            self.rank_counts(grid, wide)
        }
    }

    /// The rank of an arrangement, with a way to compute `a * b / c`, whose result fits.
    #[inline]
    fn rank_counts(&self, grid: &[i32], part: impl Fn(u64, u64, u64) -> u64) -> Option<u64> {
        let mut counts = self.counts_here();
        let mut arrangements = self.total;
        let mut rank = 0;
        for (i, &v) in grid.iter().enumerate() {
            let left = (grid.len() - i) as u64;
            let index = self.index(v)?;
            if counts[index] == 0 {
                return None;
            }
            let below: u64 = counts[..index].iter().map(|&c| u64::from(c)).sum();
            rank += part(arrangements, below, left);
            arrangements = part(arrangements, counts[index].into(), left);
            counts[index] -= 1;
        }
        Some(rank)
    }

    /// Writes the arrangement of a rank.
    #[inline]
    pub(super) fn unrank(&self, mut rank: u64, grid: &mut [i32]) {
        if self.distinct {
            let mut unused = (1u32 << grid.len()) - 1;
            for (cell, &weight) in grid.iter_mut().zip(&self.weights) {
                // 32-bit division is several times faster where it is enough.
                let digit = if rank <= u64::from(u32::MAX) && weight <= u64::from(u32::MAX) {
                    let d = rank as u32 / weight as u32;
                    rank = u64::from(rank as u32 - d * weight as u32);
                    d
                } else {
                    let d = rank / weight;
                    rank -= d * weight;
                    d as u32
                };
                let mut rest = unused;
                for _ in 0..digit {
                    rest &= rest - 1;
                }
                let bit = rest & rest.wrapping_neg();
                *cell = self.values[bit.trailing_zeros() as usize];
                unused ^= bit;
            }
            return;
        }
        // Products with a count fit the word that is divided: a division of 128 bits takes many times longer.
        if self.total <= u64::MAX / grid.len().max(1) as u64 {
            self.unrank_counts(rank, grid, |a, b, c| a * b / c);
        } else {
            let wide = |a: u64, b: u64, c: u64| (u128::from(a) * u128::from(b) / u128::from(c)) as u64;
            self.unrank_counts(rank, grid, wide);
        }
    }

    /// The arrangement of this rank, with a way to compute `a * b / c`, whose result fits.
    #[inline]
    fn unrank_counts(&self, mut rank: u64, grid: &mut [i32], part: impl Fn(u64, u64, u64) -> u64) {
        let mut counts = self.counts_here();
        let counts = &mut counts[..self.counts.len()];
        let mut arrangements = self.total;
        let n = grid.len();
        for (i, cell) in grid.iter_mut().enumerate() {
            let left = (n - i) as u64;
            // Of the values that are left, in order, the one at this number stands here.
            let number = part(rank, left, arrangements);
            let (mut below, mut index) = (0, 0);
            while index + 1 < counts.len() && below + u64::from(counts[index]) <= number {
                below += u64::from(counts[index]);
                index += 1;
            }
            *cell = self.values[index];
            rank -= part(arrangements, below, left);
            arrangements = part(arrangements, counts[index].into(), left);
            counts[index] -= 1;
        }
    }
}
