//! A smallest part of something that is enough to tell it from everything else.
//!
//! A thing has *facts*; each of the others differs from it in some of them. A part is enough when every other differs in
//! at least one fact of the part: a hitting set of the differences. What is returned is smallest by inclusion, no fact of it
//! can be left out; it has one or two facts where that is possible.

/// The differences of many others from one thing, as sets of facts.
#[derive(Clone, Debug, Default)]
pub struct Differences {
    facts: usize,
    words: usize,
    sets: Vec<u64>,
}

impl Differences {
    /// Of no others yet.
    #[must_use]
    pub fn new(facts: usize) -> Differences {
        Differences { facts, words: facts.div_ceil(64).max(1), sets: vec![] }
    }

    /// Adds another thing: `differs` says in which facts. 1 bit a fact.
    pub fn add(&mut self, differs: impl Iterator<Item = bool>) {
        let at = self.sets.len();
        self.sets.resize(at + self.words, 0);
        for (i, d) in differs.enumerate() {
            self.sets[at + i / 64] |= u64::from(d) << (i % 64);
        }
    }

    /// How many others there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.sets.len() / self.words.max(1)
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.sets.is_empty()
    }

    fn each(&self) -> impl Iterator<Item = &[u64]> {
        self.sets.chunks_exact(self.words)
    }

    /// A part that no other shares, by the numbers of its facts in order; `None` when another differs in nothing. Of
    /// several the cheapest is taken, `cost` being one number a fact, then the rarest; facts that are dear are left out
    /// first. Without others nothing is needed. O(others times facts).
    #[must_use]
    pub fn part(&self, cost: &[u32]) -> Option<Vec<usize>> {
        if self.is_empty() {
            return Some(vec![]);
        }
        // How many others differ in each fact: in the rare facts nearly all do.
        let mut differ = vec![0u64; self.facts];
        for set in self.each() {
            if set.iter().all(|w| *w == 0) {
                return None;
            }
            for (i, n) in differ.iter_mut().enumerate() {
                *n += set[i / 64] >> (i % 64) & 1;
            }
        }
        let all = self.len() as u64;
        let order = |i: usize| (cost[i], all - differ[i], i);
        if let Some(one) = (0..self.facts).filter(|i| differ[*i] == all).min_by_key(|i| order(*i)) {
            return Some(vec![one]);
        }
        if let Some(two) = self.pair(cost, &differ) {
            return Some(two);
        }
        // One after the other is left out, if everything still differs in something that is left.
        let mut counts: Vec<u32> = self.each().map(|s| s.iter().map(|w| w.count_ones()).sum()).collect();
        let mut part: Vec<usize> = (0..self.facts).collect();
        let mut leave: Vec<usize> = part.clone();
        leave.sort_by_key(|i| std::cmp::Reverse(order(*i)));
        for i in leave {
            let has = |set: &[u64]| set[i / 64] >> (i % 64) & 1 == 1;
            if self.each().zip(&counts).any(|(set, n)| *n == 1 && has(set)) {
                continue;
            }
            for (set, n) in self.each().zip(&mut counts) {
                *n -= u32::from(has(set));
            }
            part.retain(|x| *x != i);
        }
        Some(part)
    }

    /// Two facts of which every other differs in one.
    fn pair(&self, cost: &[u32], differ: &[u64]) -> Option<Vec<usize>> {
        // together[i]: the facts in which some other agrees as well as in fact i.
        let mut together = vec![0u64; self.facts * self.words];
        for set in self.each() {
            for i in (0..self.facts).filter(|i| set[i / 64] >> (i % 64) & 1 == 0) {
                for (t, w) in together[i * self.words..(i + 1) * self.words].iter_mut().zip(set) {
                    *t |= !w;
                }
            }
        }
        let apart = |i: usize, j: usize| together[i * self.words + j / 64] >> (j % 64) & 1 == 0;
        let pairs = (0..self.facts).flat_map(|i| (0..i).map(move |j| (j, i)));
        let (j, i) = pairs
            .filter(|(j, i)| apart(*i, *j))
            .min_by_key(|(j, i)| (cost[*i] + cost[*j], u64::MAX - differ[*i] - differ[*j], *j, *i))?;
        Some(vec![j, i])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// All subsets of up to eight facts, tried: the part is enough, nothing of it can be left out, and it has one or two
    /// facts exactly when some part does.
    #[test]
    fn parts_are_enough_and_smallest() {
        let mut seed = 99u64;
        let mut next = |n: u64| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) % n
        };
        for case in 0..400 {
            let facts = 1 + case % 8;
            let sets: Vec<u64> = (0..next(12)).map(|_| next(1 << facts)).collect();
            let mut differences = Differences::new(facts);
            for s in &sets {
                differences.add((0..facts).map(|i| s >> i & 1 == 1));
            }
            let cost: Vec<u32> = (0..facts).map(|_| next(3) as u32).collect();
            let enough = |part: u64| sets.iter().all(|s| s & part != 0);
            let Some(part) = differences.part(&cost) else {
                assert!(sets.contains(&0));
                continue;
            };
            let mask = part.iter().fold(0u64, |m, i| m | 1 << i);
            assert!(enough(mask));
            for i in &part {
                assert!(!enough(mask & !(1 << i)), "{i} of {part:?} can be left out");
            }
            let least =
                (0u64..1 << facts).filter(|m| enough(*m)).map(u64::count_ones).min().expect("all facts");
            if least <= 2 {
                assert_eq!(part.len() as u32, least);
            }
        }
    }

    #[test]
    fn more_facts_than_a_word_has_bits() {
        let mut differences = Differences::new(130);
        for hole in 0..130 {
            // Differs in all facts but one, and but fact 129.
            differences.add((0..130).map(|i| i != hole && i != 129));
        }
        assert_eq!(differences.part(&[0; 130]), Some(vec![0, 1]));
        differences.add((0..130).map(|i| i == 64));
        assert!(differences.part(&[0; 130]).expect("all differ").contains(&64));
    }
}
