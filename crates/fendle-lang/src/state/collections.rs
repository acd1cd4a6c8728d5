//! Lists that together always hold each thing of a collection once: ranks where they fit into 64 bits, else the lengths of
//! the lists and the things one after the other.

use super::packing::{get, width_of};

/// Ranks ways to lay n distinct numbers onto p ordered piles: an order of the numbers (factorial number
/// system) and the heights of the piles (combinatorial number system; Knuth, TAOCP 4A, 7.2.1.3).
#[derive(Clone, Debug)]
pub(super) struct Spread {
    lists: usize,
    cap: usize,
    lo: i32,
    /// What stands in unused places.
    pad: i32,
    n: usize,
    /// `ways[p][n]`: heights of p piles that hold n together.
    ways: Vec<Vec<u64>>,
    factorials: Vec<u64>,
    /// 2^64 divided by each factorial.
    reciprocals: Vec<u64>,
    pub(super) total: u64,
}

impl Spread {
    pub(super) fn new(lists: usize, cap: usize, lo: i64, hi: i64, pad: i64) -> Option<Spread> {
        let n = usize::try_from(hi - lo + 1)
            .ok()
            .filter(|&n| n <= 20 && n <= cap && (1..=64).contains(&lists))?;
        let mut ways = vec![vec![0u64; n + 1]; lists + 1];
        ways[0][0] = 1;
        for p in 1..=lists {
            // Running sums: the topmost pile holds what the others leave.
            let mut sum = 0u64;
            let sums: Option<Vec<u64>> = ways[p - 1]
                .iter()
                .map(|w| {
                    sum = sum.checked_add(*w)?;
                    Some(sum)
                })
                .collect();
            ways[p] = sums?;
        }
        let mut factorials = vec![1u64; n + 1];
        for i in 1..=n {
            factorials[i] = factorials[i - 1] * i as u64;
        }
        let total = factorials[n].checked_mul(ways[lists][n])?;
        let reciprocals = factorials
            .iter()
            .map(|f| u64::try_from((1u128 << 64) / u128::from(*f)).unwrap_or(u64::MAX))
            .collect();
        Some(Spread { lists, cap, lo: lo as i32, pad: pad as i32, n, ways, factorials, reciprocals, total })
    }

    /// A number below `(n + 1)!` divided by `n!`, and the rest: by a multiplication with 2^64 / n!, which gives the quotient or one
    /// less.
    #[inline]
    fn over_factorial(&self, number: u64, n: usize) -> (u64, u64) {
        let by = self.factorials[n];
        if by == 1 {
            return (number, 0);
        }
        let quotient = ((u128::from(number) * u128::from(self.reciprocals[n])) >> 64) as u64;
        let rest = number - quotient * by;
        if rest >= by { (quotient + 1, rest - by) } else { (quotient, rest) }
    }

    #[inline]
    pub(super) fn rank(&self, values: &[i32]) -> Option<u64> {
        let mut unused = (1u32 << self.n) - 1;
        let (mut order, mut heights, mut left) = (0u64, 0u64, self.n);
        for (i, list) in values.chunks_exact(self.cap + 1).enumerate() {
            let len = list[0] as usize;
            if len > left {
                return None;
            }
            let behind = &self.ways[self.lists - 1 - i];
            heights += (0..len).map(|l| behind[left - l]).sum::<u64>();
            for &v in &list[1..=len] {
                let at = u32::try_from(v.wrapping_sub(self.lo)).ok().filter(|&a| (a as usize) < self.n)?;
                if unused >> at & 1 == 0 {
                    return None;
                }
                unused &= !(1 << at);
                left -= 1;
                order += u64::from((unused & ((1 << at) - 1)).count_ones()) * self.factorials[left];
            }
        }
        (left == 0).then_some(heights * self.factorials[self.n] + order)
    }

    pub(super) fn unrank(&self, rank: u64, values: &mut [i32]) {
        let (mut heights, mut order) = (rank / self.factorials[self.n], rank % self.factorials[self.n]);
        let mut unused = (1u32 << self.n) - 1;
        let mut left = self.n;
        for (i, list) in values.chunks_exact_mut(self.cap + 1).enumerate() {
            let behind = &self.ways[self.lists - 1 - i];
            let mut len = 0;
            while len < left && heights >= behind[left - len] {
                heights -= behind[left - len];
                len += 1;
            }
            list[0] = len as i32;
            for v in &mut list[1..=len] {
                left -= 1;
                let (mut skip, next) = self.over_factorial(order, left);
                order = next;
                let mut rest = unused;
                while skip > 0 {
                    rest &= rest - 1;
                    skip -= 1;
                }
                let at = rest.trailing_zeros();
                unused &= !(1 << at);
                *v = self.lo + at as i32;
            }
            list[len + 1..].fill(self.pad);
        }
    }
}

/// Most piles that are always sorted, so that their heights fit one word, and most things on them.
const SORTED_PILES: usize = 8;
const SORTED_THINGS: usize = 62;

/// How numbers lie on lists that are sorted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sorting {
    /// They fall along a list.
    Falls,
    /// They rise.
    Rises,
}

/// Ranks ways to lay n distinct numbers onto lists that are sorted: on which list each number lies says all. The one that may come first is
/// the first digit.
#[derive(Clone, Debug)]
pub struct Sorted {
    /// The first place of the lists, which lie one after the other: a length and places each.
    pub slot: usize,
    /// How many lists.
    pub lists: usize,
    /// Most numbers of a list.
    pub cap: usize,
    /// The number that comes last on every list.
    pub last: i32,
    /// In which order the others come before it.
    pub sorting: Sorting,
    /// What stands in unused places.
    pub pad: i32,
    /// What each number counts on list 1, from `last` on; twice that on list 2.
    pub weights: Vec<u64>,
    /// How many ways there are.
    pub total: u64,
}

impl Sorted {
    pub(super) fn new(
        slot: usize,
        (lists, cap): (usize, usize),
        (lo, hi): (i64, i64),
        pad: i64,
        sorting: Sorting,
    ) -> Option<Sorted> {
        let n = usize::try_from(hi - lo + 1).ok().filter(|n| *n <= cap.min(SORTED_THINGS))?;
        if !(2..=SORTED_PILES).contains(&lists) || n == 0 {
            return None;
        }
        let mut weights = vec![1u64; n];
        for i in 1..n {
            weights[i] = weights[i - 1].checked_mul(lists as u64)?;
        }
        let total = weights[n - 1].checked_mul(lists as u64)?;
        let last = if sorting == Sorting::Falls { lo } else { hi } as i32;
        Some(Sorted { slot, lists, cap, last, sorting, pad: pad as i32, weights, total })
    }

    /// Where a list begins, counted from the first one on: its length, then its places. Behind the last list they all end.
    #[must_use]
    pub fn start(&self, list: usize) -> usize {
        list * (self.cap + 1)
    }

    /// The places of the state that this is about.
    pub(super) fn places(&self) -> std::ops::Range<usize> {
        self.slot..self.slot + self.start(self.lists)
    }

    /// The number that stands so far from `last`.
    #[must_use]
    pub fn number(&self, at: usize) -> i32 {
        if self.sorting == Sorting::Falls { self.last + at as i32 } else { self.last - at as i32 }
    }

    /// How far a number stands from `last`; below 0 beyond it.
    #[inline]
    fn distance(&self, number: i32) -> i32 {
        if self.sorting == Sorting::Falls {
            number.wrapping_sub(self.last)
        } else {
            self.last.wrapping_sub(number)
        }
    }

    /// The number of the lists in a state; `None` where one is not sorted, or something is missing or there twice.
    #[inline]
    pub(super) fn rank(&self, values: &[i32]) -> Option<u64> {
        let (mut rank, mut count) = (0, 0);
        let mut seen = 0u64;
        for (i, list) in values[self.places()].chunks_exact(self.cap + 1).enumerate() {
            let len = usize::try_from(list[0]).ok().filter(|len| *len <= self.cap)?;
            let mut below = self.weights.len();
            for &v in &list[1..=len] {
                let at = usize::try_from(self.distance(v)).ok().filter(|at| *at < below)?;
                below = at;
                seen |= 1 << at;
                rank += i as u64 * self.weights[at];
            }
            count += len;
        }
        (count == self.weights.len() && seen.count_ones() as usize == count).then_some(rank)
    }

    pub(super) fn unrank(&self, rank: u64, values: &mut [i32]) {
        let mut heights = [0; SORTED_PILES];
        let mut rest = rank;
        let values = &mut values[self.places()];
        values.fill(self.pad);
        for (at, weight) in self.weights.iter().enumerate().rev() {
            let pile = (rest / weight) as usize;
            rest %= weight;
            heights[pile] += 1;
            values[self.start(pile) + heights[pile]] = self.number(at);
        }
        for (list, height) in values.chunks_exact_mut(self.cap + 1).zip(heights) {
            list[0] = height as i32;
        }
    }
}

/// Most things of a collection that are packed together.
pub(super) const HEAPED_MAX: usize = 1024;

/// Lists in several places that together hold each number of a range once.
#[derive(Clone, Debug)]
pub(super) struct Heaps {
    /// First value, number of lists, most entries of each.
    pub(super) parts: Vec<(usize, usize, usize)>,
    pub(super) lo: i32,
    /// What stands in unused places.
    pub(super) pad: i32,
    pub(super) n: usize,
}

impl Heaps {
    /// Bits of the length of a list with so many places.
    fn length_width(&self, cap: usize) -> u32 {
        width_of(cap.min(self.n) as u64 + 1)
    }

    pub(super) fn bits(&self) -> u32 {
        let lengths: u32 =
            self.parts.iter().map(|&(_, lists, cap)| lists as u32 * self.length_width(cap)).sum();
        lengths + self.n as u32 * width_of(self.n as u64)
    }

    /// Gives the numbers to be written and their widths; `None` where something is missing or there twice.
    #[inline]
    pub(super) fn codes(&self, values: &[i32], mut put: impl FnMut(u64, u32)) -> Option<()> {
        let mut total = 0;
        for &(slot, lists, cap) in &self.parts {
            for list in values[slot..slot + lists * (cap + 1)].chunks_exact(cap + 1) {
                total += list[0] as usize;
                if list[0] as usize > self.n {
                    return None;
                }
                put(list[0] as u64, self.length_width(cap));
            }
        }
        if total != self.n {
            return None;
        }
        let mut seen = [0u64; HEAPED_MAX / 64];
        let width = width_of(self.n as u64);
        for &(slot, lists, cap) in &self.parts {
            for list in values[slot..slot + lists * (cap + 1)].chunks_exact(cap + 1) {
                for &v in &list[1..=list[0] as usize] {
                    let at = usize::try_from(v.wrapping_sub(self.lo)).ok().filter(|a| *a < self.n)?;
                    if seen[at / 64] >> (at % 64) & 1 != 0 {
                        return None;
                    }
                    seen[at / 64] |= 1 << (at % 64);
                    if width > 0 {
                        put(at as u64, width);
                    }
                }
            }
        }
        Some(())
    }

    pub(super) fn read(&self, words: &[u64], bit: &mut usize, values: &mut [i32]) {
        for &(slot, lists, cap) in &self.parts {
            for list in values[slot..slot + lists * (cap + 1)].chunks_exact_mut(cap + 1) {
                list[0] = get(words, bit, self.length_width(cap)) as i32;
            }
        }
        let width = width_of(self.n as u64);
        for &(slot, lists, cap) in &self.parts {
            for list in values[slot..slot + lists * (cap + 1)].chunks_exact_mut(cap + 1) {
                let len = list[0] as usize;
                for v in &mut list[1..=len] {
                    let at = if width == 0 { 0 } else { get(words, bit, width) };
                    *v = self.lo + at as i32;
                }
                list[len + 1..].fill(self.pad);
            }
        }
    }
}
