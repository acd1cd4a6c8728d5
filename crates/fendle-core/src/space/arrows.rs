//! The edges of a space of numbers whose rules cannot be turned round: written down while states are expanded, then read from behind.
//!
//! ```text
//! log       source | how many | targets ...      4 bytes each, batch by batch
//! arrows    for each number where its origins begin, and one entry more | origins ...      4 bytes each
//! ```

use crate::space::dense::Dense;

/// Numbers of a range for each edge, up to which where origins begin is kept for each number.
const SPARSE: u64 = 16;

/// Edges in the order in which they were met.
#[derive(Default)]
pub(crate) struct ArrowLog {
    batches: Vec<Vec<u32>>,
    edges: u64,
    entries: u64,
}

impl ArrowLog {
    /// Appends the edges of some sources: each source, how many there are, and where they lead.
    pub(crate) fn append(&mut self, batch: Vec<u32>, edges: u64) {
        self.entries += batch.len() as u64;
        self.edges += edges;
        self.batches.push(batch);
    }

    /// Bytes that the log and the arrows made of it take together, for numbers below `range`.
    pub(crate) fn bytes(&self, range: u64) -> u64 {
        4 * (self.entries + range + 1 + self.edges)
    }

    /// The same where every number is met, with so many edges in all.
    pub(crate) fn bytes_for(range: u64, edges: u64) -> u64 {
        4 * (3 * range + 2 * edges)
    }

    fn each(&self, mut see: impl FnMut(u32, &[u32])) {
        for batch in &self.batches {
            let mut rest = batch.as_slice();
            while let [source, len, more @ ..] = rest {
                let (targets, behind) = more.split_at(*len as usize);
                see(*source, targets);
                rest = behind;
            }
        }
    }
}

/// For each number what leads to it.
pub(crate) struct Arrows {
    firsts: Vec<u32>,
    origins: Vec<u32>,
}

impl Arrows {
    /// The edges of a log from behind; O(range + edges). `None` where the range holds very many numbers for each edge.
    pub(crate) fn of(log: &ArrowLog, dense: &Dense) -> Option<Arrows> {
        let range = dense.range();
        if range > SPARSE * (log.edges + 1) || log.edges > u64::from(u32::MAX) {
            return None;
        }
        // Counted one place further, so that where origins are written ends as where they begin.
        let mut firsts = vec![0u32; range as usize + 1];
        log.each(|_, targets| targets.iter().for_each(|t| firsts[*t as usize] += 1));
        let mut sum = 0;
        for first in &mut firsts {
            sum += *first;
            *first = sum;
        }
        let mut origins = vec![0; log.edges as usize];
        log.each(|source, targets| {
            for t in targets {
                let first = &mut firsts[*t as usize];
                *first -= 1;
                origins[*first as usize] = source;
            }
        });
        Some(Arrows { firsts, origins })
    }

    /// What leads to a number, once for each edge.
    #[inline]
    pub(crate) fn origins(&self, number: u64) -> &[u32] {
        let at = number as usize;
        &self.origins[self.firsts[at] as usize..self.firsts[at + 1] as usize]
    }

    /// Bytes taken.
    pub(crate) fn bytes(&self) -> u64 {
        4 * (self.firsts.len() + self.origins.len()) as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::dense::tests::Plain;
    use std::sync::Arc;

    #[test]
    fn every_edge_is_found_from_behind_as_often_as_it_was_met() {
        // Number n leads to n times 3 and n times 5, and number 7 to nothing.
        let range = 101u32;
        let targets = |n: u32| [n * 3 % range, n * 5 % range];
        let mut log = ArrowLog::default();
        for batch in (0..range).collect::<Vec<_>>().chunks(10) {
            let edges = batch.iter().flat_map(|&n| match n {
                7 => vec![7, 0],
                _ => [&[n, 2][..], &targets(n)].concat(),
            });
            let met = batch.iter().filter(|n| **n != 7).count() as u64 * 2;
            log.append(edges.collect(), met);
        }
        let dense = Dense::new(Arc::new(Plain(range.into())));
        let arrows = Arrows::of(&log, &dense).expect("few numbers");
        for to in 0..range {
            let mut want: Vec<u32> = (0..range)
                .filter(|n| *n != 7)
                .flat_map(|n| targets(n).into_iter().filter(move |t| *t == to).map(move |_| n))
                .collect();
            let mut met = arrows.origins(to.into()).to_vec();
            met.sort_unstable();
            want.sort_unstable();
            assert_eq!(met, want, "into {to}");
        }
        assert_eq!(arrows.bytes(), 4 * (u64::from(range) + 1 + 200));
        assert!(Arrows::of(&log, &Dense::new(Arc::new(Plain(4_000)))).is_none(), "200 edges, 4,000 numbers");
    }
}
