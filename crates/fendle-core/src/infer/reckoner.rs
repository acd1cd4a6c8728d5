//! Everything that follows from a system: parts are counted apart and joined by the total.

use std::collections::HashMap;
use std::sync::Arc;

use num_bigint::BigUint;
use num_rational::BigRational;
use num_traits::{One, ToPrimitive, Zero};

use super::count::{Counted, Numbers, Rows, Weight, choose, count, power};
use super::facts::Facts;
use super::parts::{Frontier, Group, Pattern};
use super::{NoAnswer, System};

/// The exact answers.
#[derive(Clone, Debug)]
pub struct Inferred {
    /// The weight of everything that agrees; the number of layouts where all weights are 1.
    pub all: BigUint,
    /// Weights that cells share, and about which chance each is.
    values: Vec<(BigUint, f64)>,
    /// For each cell which of them is the weight of what agrees and fills it.
    of: Vec<u32>,
}

/// The weight of what never is, and of what always is, among [`Inferred`]'s values.
const NEVER: u32 = 0;
const ALWAYS: u32 = 1;

impl PartialEq for Inferred {
    fn eq(&self, other: &Inferred) -> bool {
        let cells = 0..self.of.len() as u32;
        self.all == other.all
            && self.of.len() == other.of.len()
            && cells.into_iter().all(|c| self.filled(c) == other.filled(c))
    }
}

impl Inferred {
    /// The weight of what agrees and fills a cell.
    #[must_use]
    pub fn filled(&self, cell: u32) -> &BigUint {
        &self.values[self.of[cell as usize] as usize].0
    }

    /// The chance that a cell is filled.
    #[must_use]
    pub fn chance(&self, cell: u32) -> BigRational {
        BigRational::new(self.filled(cell).clone().into(), self.all.clone().into())
    }

    /// About which number that is: the same for the same chance, 0 and 1 only where it is certain.
    #[must_use]
    pub fn about(&self, cell: u32) -> f64 {
        self.values[self.of[cell as usize] as usize].1
    }

    /// What is certain of a cell.
    #[must_use]
    pub fn certain(&self, cell: u32) -> Option<bool> {
        match self.of[cell as usize] {
            NEVER => Some(false),
            ALWAYS => Some(true),
            _ => None,
        }
    }
}

/// Answers what follows from one system after the other. What clues alone say, what was certain, and the counts of parts
/// that have not changed are kept from one to the next.
///
/// An answer of a board of 16 x 30 cells takes some tenths of a millisecond.
#[derive(Clone, Default)]
pub struct Reckoner {
    facts: Facts,
    /// Counts of parts, and whether they were wanted last time.
    counted: HashMap<Arc<Pattern>, (Arc<Counted>, bool)>,
}

/// A row that begins at some total.
#[derive(Clone)]
struct Row<N> {
    first: i64,
    row: Vec<N>,
}

impl<N: Weight> Row<N> {
    fn one() -> Row<N> {
        Row { first: 0, row: vec![N::unit()] }
    }

    fn times(&self, other: &Row<N>) -> Row<N> {
        let mut row = vec![N::nothing(); self.row.len() + other.row.len() - 1];
        for (i, a) in self.row.iter().enumerate().filter(|(_, a)| !a.is_nothing()) {
            for (to, b) in row[i..].iter_mut().zip(&other.row) {
                to.add_product(a, b);
            }
        }
        Row { first: self.first + other.first, row }
    }

    fn last(&self) -> i64 {
        self.first + self.row.len() as i64 - 1
    }

    fn at(&self, total: i64) -> Option<&N> {
        self.row.get(usize::try_from(total - self.first).ok()?)
    }
}

/// A group that only the total counts: the weight of filling so many cells, or of that and a given cell among them. Only
/// totals within the range are wanted.
fn sea_row(g: &Group, with: bool, (lo, hi): (i64, i64)) -> Row<BigUint> {
    let (cells, k) = (g.cells.len() as u64, i64::from(g.total));
    if k == 0 {
        let sum = u128::from(g.weights.0) + u128::from(g.weights.1);
        let of = |n: u64| (0..n).fold(BigUint::one(), |p, _| p * sum);
        let weight = if with { of(cells - 1) * g.weights.0 } else { of(cells) };
        return Row { first: 0, row: vec![weight] };
    }
    let reach = k * cells as i64;
    let (first, last) = (lo.max(reach.min(0)), hi.min(reach.max(0)));
    let mut row = vec![BigUint::zero(); (last - first + 1).max(1) as usize];
    let (n_cells, taken) = if with { (cells - 1, 1) } else { (cells, 0) };
    // Ways to choose, from one number of cells to the next.
    let mut ways: Option<(u64, BigUint)> = None;
    let numbers = (0..=cells).filter(|n| (first..=last).contains(&(*n as i64 * k)) && *n >= taken);
    for n in numbers {
        let chosen = n - taken;
        let c = match ways.take() {
            Some((before, c)) if before + 1 == chosen => c * (n_cells - before) / chosen,
            _ => choose(n_cells, chosen),
        };
        let weight = if g.weights == (1, 1) {
            c.clone()
        } else {
            &c * power(g.weights.0, n) * power(g.weights.1, cells - n)
        };
        row[(n as i64 * k - first) as usize] = weight;
        ways = Some((chosen, c));
    }
    Row { first, row }
}

/// For each of a list of rows the product of all the others; and the product of all.
fn others<N: Weight>(rows: &[Row<N>]) -> (Vec<Row<N>>, Row<N>) {
    let mut before = vec![Row::one()];
    for r in rows {
        before.push(before.last().expect("one").times(r));
    }
    let all = before.pop().expect("one");
    let mut after = Row::one();
    for (i, r) in rows.iter().enumerate().rev() {
        before[i] = before[i].times(&after);
        after = after.times(r);
    }
    (before, all)
}

/// Small weights times big ones.
trait Joins: Weight {
    fn add_to(&self, big: &BigUint, sum: &mut BigUint);
}

impl Joins for u128 {
    fn add_to(&self, big: &BigUint, sum: &mut BigUint) {
        if *self != 0 {
            *sum += big * *self;
        }
    }
}

impl Joins for BigUint {
    fn add_to(&self, big: &BigUint, sum: &mut BigUint) {
        *sum += big * self;
    }
}

/// What the parts and the sea give together.
struct Joined {
    all: BigUint,
    /// For each part and each group of it the weight of what fills a given cell.
    parts: Vec<Vec<BigUint>>,
    /// For each group of the sea.
    sea: Vec<BigUint>,
}

/// Joins parts by the total, which has to lie in a range.
fn join<N: Joins>(parts: &[(i64, &Rows<N>)], sea: &[Group], (lo, hi): (i64, i64)) -> Joined {
    let rows: Vec<Row<N>> =
        parts.iter().map(|(first, rows)| Row { first: *first, row: rows.all.clone() }).collect();
    let (beside, product) = others(&rows);
    // What the sea has to add.
    let need = if sea.len() == 1 {
        (lo.saturating_sub(product.last()), hi.saturating_sub(product.first))
    } else {
        (i64::MIN, i64::MAX)
    };
    let sea_rows: Vec<Row<BigUint>> = sea.iter().map(|g| sea_row(g, false, need)).collect();
    let (sea_beside, sea_product) = others(&sea_rows);
    // The weight of the sea that fits, by what the parts add.
    let fits = |rest: &Row<BigUint>, add: i64| {
        let mut sum = BigUint::zero();
        for (k, w) in (rest.first..).zip(&rest.row) {
            if (lo..=hi).contains(&k.saturating_add(add)) {
                sum += w;
            }
        }
        sum
    };
    let rest = Row {
        first: product.first,
        row: (product.first..=product.last()).map(|add| fits(&sea_product, add)).collect::<Vec<_>>(),
    };
    let mut all = BigUint::zero();
    product.row.iter().zip(&rest.row).for_each(|(p, r)| p.add_to(r, &mut all));
    let mut of_parts = vec![];
    for ((first, rows), beside) in parts.iter().zip(&beside) {
        // The weight of everything else, by what this part adds.
        let around: Vec<BigUint> = (*first..)
            .take(rows.all.len())
            .map(|add| {
                let mut sum = BigUint::zero();
                for (k, b) in (beside.first..).zip(&beside.row) {
                    if let Some(r) = rest.at(k + add) {
                        b.add_to(r, &mut sum);
                    }
                }
                sum
            })
            .collect();
        let filled = rows.filled.iter().map(|row| {
            let mut sum = BigUint::zero();
            row.iter().zip(&around).for_each(|(w, r)| w.add_to(r, &mut sum));
            sum
        });
        of_parts.push(filled.collect());
    }
    let of_sea = sea.iter().zip(&sea_beside).map(|(g, beside)| {
        let with = sea_row(g, true, need).times(beside);
        let mut sum = BigUint::zero();
        for (k, w) in (with.first..).zip(&with.row).filter(|(_, w)| !w.is_zero()) {
            for (add, p) in (product.first..).zip(&product.row) {
                if (lo..=hi).contains(&(k + add)) {
                    p.add_to(w, &mut sum);
                }
            }
        }
        sum
    });
    Joined { all, sea: of_sea.collect(), parts: of_parts }
}

impl Reckoner {
    /// Everything that follows.
    ///
    /// # Errors
    ///
    /// [`NoAnswer`].
    pub fn infer(&mut self, system: &System) -> Result<Inferred, NoAnswer> {
        self.facts.read(system)?;
        let frontier = Frontier::new(&self.facts);
        let mut counted = vec![];
        for (pattern, _) in &frontier.parts {
            if let Some((found, wanted)) = self.counted.get_mut(pattern) {
                *wanted = true;
                counted.push(Arc::clone(found));
                continue;
            }
            let found = Arc::new(count(pattern)?);
            self.counted.insert(Arc::new(pattern.clone()), (Arc::clone(&found), true));
            counted.push(found);
        }
        self.counted.retain(|_, (_, wanted)| std::mem::take(wanted));
        let range = self.facts.total.map_or((0, 0), |t| self.facts.want[t]);
        let small: Option<Vec<(i64, &Rows<u128>)>> = (counted.iter())
            .map(|c| match &c.rows {
                Numbers::Small(rows) => Some((c.first, rows)),
                Numbers::Big(_) => None,
            })
            .collect();
        let bits: u64 = counted.iter().map(|c| c.bits).sum();
        let joined = match small {
            Some(parts) if bits < 128 => join(&parts, &frontier.sea, range),
            _ => {
                let big: Vec<(i64, Rows<BigUint>)> = (counted.iter())
                    .map(|c| match &c.rows {
                        Numbers::Small(rows) => (c.first, rows.to_big()),
                        Numbers::Big(rows) => (c.first, rows.clone()),
                    })
                    .collect();
                let parts: Vec<_> = big.iter().map(|(first, rows)| (*first, rows)).collect();
                join(&parts, &frontier.sea, range)
            }
        };
        if joined.all.is_zero() {
            self.facts = Facts::default();
            return Err(NoAnswer::Contradiction);
        }
        self.answer(&frontier, joined)
    }

    /// The answer for each cell. What is certain is kept for the next system.
    fn answer(&mut self, frontier: &Frontier, joined: Joined) -> Result<Inferred, NoAnswer> {
        let factor = self.facts.weight();
        if factor.is_zero() {
            self.facts = Facts::default();
            return Err(NoAnswer::Contradiction);
        }
        let weight = |w: BigUint| if factor.is_one() { w } else { w * &factor };
        let all = joined.all;
        let mut values = vec![(BigUint::zero(), 0.0), (weight(all.clone()), 1.0)];
        let whole = to_float(&values[1].0);
        let mut of: Vec<u32> =
            (self.facts.value.iter()).map(|v| if *v == Some(true) { ALWAYS } else { NEVER }).collect();
        let groups = frontier.parts.iter().map(|p| &p.1).chain([&frontier.sea]);
        for (groups, filled) in groups.zip(joined.parts.into_iter().chain([joined.sea])) {
            for (group, filled) in groups.iter().zip(filled) {
                let value = if filled.is_zero() {
                    NEVER
                } else if filled == all {
                    ALWAYS
                } else {
                    let filled = weight(filled);
                    let (f, w) = (to_float(&filled), whole);
                    // Never quite 0 or 1: those are certain.
                    let about = ((f.0 / w.0) * 2f64.powi((f.1 - w.1) as i32))
                        .clamp(f64::MIN_POSITIVE, 1.0 - f64::EPSILON);
                    values.push((filled, about));
                    values.len() as u32 - 1
                };
                for &c in &group.cells {
                    of[c as usize] = value;
                    if value <= ALWAYS {
                        self.facts.learn(c, value == ALWAYS)?;
                    }
                }
            }
        }
        let all = values[1].0.clone();
        Ok(Inferred { all, values, of })
    }
}

/// A big number as a floating-point one and a power of two.
fn to_float(n: &BigUint) -> (f64, i64) {
    let down = n.bits().saturating_sub(64);
    ((n >> down).to_f64().unwrap_or(f64::NAN), down as i64)
}
