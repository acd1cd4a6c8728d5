//! What follows from clues that count: exact certainty, exact probabilities, and proofs.
//!
//! The unknowns are cells that hold something or not. A *clue* says that a weighted count over some cells lies in a
//! range. Cells with the same clues are one group; clues that share a group hang together; parts that do not hang
//! together are counted apart, by how many cells they fill, and joined with the one clue over everything (the total).
//! Numbers are exact. [`Reckoner`] answers, and keeps from one look at a board to the next what has not changed;
//! [`Prover`] finds the clues that prove what is certain; [`Sampler`] draws layouts.

use num_bigint::BigUint;
use num_rational::BigRational;
use num_traits::{ToPrimitive, Zero};

use crate::numbers::DisjointSets;

mod count;
mod facts;
mod layouts;
mod parts;
mod proofs;
mod reckoner;
mod sampler;

pub use count::WIDE_MAX;
pub use proofs::{Deduction, Kind, Proof, Prover, SMALL, most_disjoint};
pub use reckoner::{Inferred, Reckoner};
pub use sampler::Sampler;

/// A sum over cells lies in a range.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clue {
    /// The cells and how often each counts; each cell once, ascending.
    pub cells: Vec<(u32, i32)>,
    /// Least sum.
    pub lo: i64,
    /// Greatest sum.
    pub hi: i64,
}

impl Clue {
    /// A sum that is exactly this.
    #[must_use]
    pub fn exactly(cells: impl IntoIterator<Item = u32>, sum: i64) -> Clue {
        let mut cells: Vec<(u32, i32)> = cells.into_iter().map(|c| (c, 1)).collect();
        cells.sort_unstable();
        Clue { cells, lo: sum, hi: sum }
    }
}

/// Everything that is known of the cells.
#[derive(Clone, Debug, Default)]
pub struct System {
    /// For each cell how likely it is filled and empty beforehand, as weights.
    pub weights: Vec<(u64, u64)>,
    /// What is known for sure of a cell.
    pub fixed: Vec<Option<bool>>,
    /// The clues.
    pub clues: Vec<Clue>,
    /// The number of the clue over everything, if there is one.
    pub total: Option<usize>,
}

/// An exact fraction.
pub type Fraction = BigRational;

/// A fraction of small numbers.
#[must_use]
pub fn fraction(num: u128, den: u128) -> Fraction {
    BigRational::new(num.into(), den.into())
}

/// About which number a fraction is.
#[must_use]
pub fn about(x: &Fraction) -> f64 {
    x.to_f64().unwrap_or(f64::NAN)
}

/// Why nothing can be said.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoAnswer {
    /// The clues contradict each other.
    Contradiction,
    /// More open sums at a time than fit the limit.
    TooWide,
}

impl System {
    /// A system of cells that are filled or not with equal weights.
    #[must_use]
    pub fn new(cells: usize) -> System {
        System { weights: vec![(1, 1); cells], fixed: vec![None; cells], clues: vec![], total: None }
    }

    /// A clue less what is fixed.
    fn reduced(&self, clue: &Clue) -> Clue {
        let mut out = Clue { cells: vec![], lo: clue.lo, hi: clue.hi };
        for &(c, k) in &clue.cells {
            match self.fixed[c as usize] {
                Some(true) => {
                    out.lo -= i64::from(k);
                    out.hi -= i64::from(k);
                }
                Some(false) => {}
                None => out.cells.push((c, k)),
            }
        }
        out
    }

    /// Everything that follows; for one system after the other see [`Reckoner`].
    ///
    /// # Errors
    ///
    /// [`NoAnswer`].
    pub fn infer(&self) -> Result<Inferred, NoAnswer> {
        Reckoner::default().infer(self)
    }

    /// Parts that do not hang together by clues, by cells, in the order of their first cells; cells that only the total
    /// counts are in none.
    #[must_use]
    pub fn parts(&self) -> Vec<Vec<u32>> {
        let mut sets = DisjointSets::new(self.weights.len() as u32);
        let mut counted = vec![false; self.weights.len()];
        for (i, clue) in self.clues.iter().enumerate() {
            if Some(i) == self.total {
                continue;
            }
            let open: Vec<u32> =
                clue.cells.iter().map(|c| c.0).filter(|c| self.fixed[*c as usize].is_none()).collect();
            open.iter().for_each(|c| counted[*c as usize] = true);
            open.windows(2).for_each(|w| {
                sets.join(w[0], w[1]);
            });
        }
        let mut out: Vec<Vec<u32>> = vec![];
        let mut at = vec![usize::MAX; self.weights.len()];
        for c in (0..self.weights.len() as u32).filter(|c| counted[*c as usize]) {
            let root = sets.find(c) as usize;
            if at[root] == usize::MAX {
                at[root] = out.len();
                out.push(vec![]);
            }
            out[at[root]].push(c);
        }
        out
    }

    /// The weight of everything that agrees, and with these cells being so.
    ///
    /// # Errors
    ///
    /// [`NoAnswer::TooWide`].
    pub fn weight_with(&self, known: &[(u32, bool)]) -> Result<BigUint, NoAnswer> {
        let mut out = self.clone();
        for &(c, v) in known {
            let (t, f) = self.weights[c as usize];
            if self.fixed[c as usize].is_some_and(|f| f != v) {
                return Ok(BigUint::zero());
            }
            // The weight of the cell itself stays in the sum.
            if self.fixed[c as usize].is_none() {
                out.weights[c as usize] = if v { (t, 0) } else { (0, f) };
            }
        }
        match out.infer() {
            Ok(found) => Ok(found.all),
            Err(NoAnswer::Contradiction) => Ok(BigUint::zero()),
            Err(e) => Err(e),
        }
    }
}
