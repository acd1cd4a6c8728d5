//! What follows from clues that count: exact certainty, exact probabilities, and proofs.
//!
//! The unknowns are cells that hold something or not. A *clue* says that a weighted count over some cells lies in a
//! range. Cells with the same clues are one group; clues that share a group hang together; parts that do not hang
//! together are counted apart, by how many cells they fill, and joined with the one clue over everything (the total).
//! Within a part, groups are taken one by one while only the open sums are kept: dynamic programming along a
//! path decomposition (Bodlaender 1998), forward to count, backward to weigh. Numbers are exact.

use std::collections::{BTreeMap, HashMap, HashSet};

use crate::numbers::DisjointSets;
use num_bigint::BigUint;
use num_rational::BigRational;
use num_traits::{One, ToPrimitive, Zero};

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

/// Most open sums that are kept at a time.
pub const WIDE_MAX: usize = 1 << 20;

/// The exact answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Inferred {
    /// The weight of everything that agrees; the number of layouts where all weights are 1.
    pub all: BigUint,
    /// For each cell the weight of what agrees and fills it.
    pub filled: Vec<BigUint>,
    /// Parts that do not hang together, by cells; the sea of untouched cells is none of them.
    pub parts: Vec<Vec<u32>>,
}

impl Inferred {
    /// The chance that a cell is filled.
    #[must_use]
    pub fn chance(&self, cell: u32) -> BigRational {
        BigRational::new(self.filled[cell as usize].clone().into(), self.all.clone().into())
    }

    /// What is certain of a cell.
    #[must_use]
    pub fn certain(&self, cell: u32) -> Option<bool> {
        let f = &self.filled[cell as usize];
        if f.is_zero() {
            Some(false)
        } else if *f == self.all {
            Some(true)
        } else {
            None
        }
    }
}

/// Cells that no clue tells apart.
#[derive(Clone, Debug)]
struct Group {
    cells: Vec<u32>,
    weights: (u64, u64),
    /// Local clues and how often they count each cell.
    clues: Vec<(usize, i32)>,
    /// How often the total counts each cell.
    total: i32,
}

impl Group {
    /// The weight of filling `n` of the cells, in all ways.
    fn ways(&self, n: usize) -> BigUint {
        choose(self.cells.len(), n) * power(self.weights.0, n) * power(self.weights.1, self.cells.len() - n)
    }
    /// The same for a given cell that is among the filled.
    fn ways_with(&self, n: usize) -> BigUint {
        if n == 0 {
            return BigUint::zero();
        }
        choose(self.cells.len() - 1, n - 1)
            * power(self.weights.0, n)
            * power(self.weights.1, self.cells.len() - n)
    }
}

fn power(base: u64, exp: usize) -> BigUint {
    if base == 1 { BigUint::one() } else { BigUint::from(base).pow(exp as u32) }
}

fn choose(n: usize, k: usize) -> BigUint {
    let k = k.min(n - k);
    let mut out = BigUint::one();
    for i in 0..k {
        out = out * (n - i) / (i + 1);
    }
    out
}

/// Weights by how much they add to the total.
type Poly = BTreeMap<i64, BigUint>;

fn times(a: &Poly, b: &Poly, most: i64) -> Poly {
    let mut out = Poly::new();
    for (i, x) in a {
        for (j, y) in b {
            if i + j <= most {
                *out.entry(i + j).or_default() += x * y;
            }
        }
    }
    out
}

/// One layer of a part: open sums and the total so far, to weights.
type Layer = HashMap<(Box<[i32]>, i64), BigUint>;

/// A part that hangs together, ready to be counted.
struct Part {
    /// Its groups in the order in which they are taken.
    groups: Vec<usize>,
    /// For each step the local clues that are open after it.
    open: Vec<Vec<usize>>,
    layers: Vec<Layer>,
    poly: Poly,
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

    fn groups(&self, clues: &[Clue]) -> Vec<Group> {
        let mut of: Vec<Vec<(usize, i32)>> = vec![vec![]; self.weights.len()];
        let mut total = vec![0; self.weights.len()];
        for (i, clue) in clues.iter().enumerate() {
            for &(c, k) in &clue.cells {
                if Some(i) == self.total {
                    total[c as usize] = k;
                } else {
                    of[c as usize].push((i, k));
                }
            }
        }
        type Alike<'a> = (&'a [(usize, i32)], i32, (u64, u64));
        let mut index: HashMap<Alike<'_>, usize> = HashMap::new();
        let mut out: Vec<Group> = vec![];
        for c in 0..self.weights.len() {
            if self.fixed[c].is_some() {
                continue;
            }
            let key = (of[c].as_slice(), total[c], self.weights[c]);
            let at = *index.entry(key).or_insert(out.len());
            if at == out.len() {
                out.push(Group {
                    cells: vec![],
                    weights: self.weights[c],
                    clues: of[c].clone(),
                    total: total[c],
                });
            }
            out[at].cells.push(c as u32);
        }
        out
    }

    /// Everything that follows.
    ///
    /// # Errors
    ///
    /// [`NoAnswer`].
    pub fn infer(&self) -> Result<Inferred, NoAnswer> {
        let clues: Vec<Clue> = self.clues.iter().map(|c| self.reduced(c)).collect();
        if clues.iter().any(|c| c.cells.is_empty() && !(c.lo <= 0 && c.hi >= 0)) {
            return Err(NoAnswer::Contradiction);
        }
        let groups = self.groups(&clues);
        let (lo, hi) = self.total.map_or((i64::MIN, i64::MAX), |t| (clues[t].lo, clues[t].hi));
        let mut parts: Vec<Part> = vec![];
        for members in hanging_together(&groups, clues.len()) {
            parts.push(self.count(&clues, &groups, members, hi)?);
        }
        let sea: Vec<usize> = (0..groups.len()).filter(|&g| groups[g].clues.is_empty()).collect();
        let sea_poly = |g: &Group, with: bool| -> Poly {
            let mut out = Poly::new();
            for n in 0..=g.cells.len() {
                let add = n as i64 * i64::from(g.total);
                let ways = if with { g.ways_with(n) } else { g.ways(n) };
                if add <= hi && !ways.is_zero() {
                    *out.entry(add).or_default() += ways;
                }
            }
            out
        };
        // The factors, and for each the product of all the others.
        let mut factors: Vec<Poly> = parts.iter().map(|p| p.poly.clone()).collect();
        factors.extend(sea.iter().map(|&g| sea_poly(&groups[g], false)));
        let one: Poly = [(0, BigUint::one())].into();
        let mut before = vec![one.clone()];
        for f in &factors {
            before.push(times(before.last().expect("one"), f, hi));
        }
        let within = |p: &Poly| p.range(lo..).fold(BigUint::zero(), |s, (_, w)| s + w);
        let all = within(before.last().expect("one"));
        if all.is_zero() {
            return Err(NoAnswer::Contradiction);
        }
        let mut filled = vec![BigUint::zero(); self.weights.len()];
        for (c, f) in self.fixed.iter().enumerate() {
            if *f == Some(true) {
                filled[c].clone_from(&all);
            }
        }
        let mut after = one;
        for (i, factor) in factors.iter().enumerate().rev() {
            let others = times(&before[i], &after, hi);
            // The weight of everything else, by what this factor adds to the total.
            let rest = |add: i64| -> BigUint {
                others
                    .iter()
                    .filter(|(k, _)| (lo..=hi).contains(&(**k + add)))
                    .fold(BigUint::zero(), |s, (_, w)| s + w)
            };
            if i < parts.len() {
                weigh(&clues, &groups, &parts[i], &rest, &mut filled);
            } else {
                let g = &groups[sea[i - parts.len()]];
                let sum = sea_poly(g, true).iter().fold(BigUint::zero(), |s, (k, w)| s + w * rest(*k));
                for &c in &g.cells {
                    filled[c as usize].clone_from(&sum);
                }
            }
            after = times(factor, &after, hi);
        }
        let cells_of = |p: &Part| {
            let mut cells: Vec<u32> = p.groups.iter().flat_map(|&g| groups[g].cells.clone()).collect();
            cells.sort_unstable();
            cells
        };
        Ok(Inferred { all, filled, parts: parts.iter().map(cells_of).collect() })
    }

    /// Counts one part forward.
    fn count(
        &self,
        clues: &[Clue],
        groups: &[Group],
        members: Vec<usize>,
        most: i64,
    ) -> Result<Part, NoAnswer> {
        let order = taking_order(groups, &members);
        // The last step at which each clue is touched, and what later groups can still add.
        let mut last: HashMap<usize, usize> = HashMap::new();
        for (step, &g) in order.iter().enumerate() {
            for &(c, _) in &groups[g].clues {
                last.insert(c, step);
            }
        }
        let mut left: HashMap<usize, (i64, i64)> = HashMap::new();
        for &g in &order {
            for &(c, k) in &groups[g].clues {
                let add = i64::from(k) * groups[g].cells.len() as i64;
                let e = left.entry(c).or_default();
                *e = (e.0 + add.min(0), e.1 + add.max(0));
            }
        }
        let mut layers: Vec<Layer> = vec![[((Box::from([]), 0), BigUint::one())].into()];
        let mut open: Vec<Vec<usize>> = vec![];
        let mut now: Vec<usize> = vec![];
        for (step, &g) in order.iter().enumerate() {
            let group = &groups[g];
            let mut next: Vec<usize> = now.clone();
            next.extend(group.clues.iter().map(|c| c.0).filter(|c| !now.contains(c)));
            for &(c, k) in &group.clues {
                let add = i64::from(k) * group.cells.len() as i64;
                let e = left.get_mut(&c).expect("counted above");
                *e = (e.0 - add.min(0), e.1 - add.max(0));
            }
            let keep: Vec<usize> = next.iter().copied().filter(|c| last[c] > step).collect();
            let coef: Vec<i64> = next
                .iter()
                .map(|c| group.clues.iter().find(|x| x.0 == *c).map_or(0, |x| i64::from(x.1)))
                .collect();
            let ways: Vec<BigUint> = (0..=group.cells.len()).map(|n| group.ways(n)).collect();
            let mut layer = Layer::new();
            let mut sums: Vec<i32> = vec![];
            for ((old, total), weight) in layers.last().expect("one") {
                for (n, w) in ways.iter().enumerate().filter(|(_, w)| !w.is_zero()) {
                    let total = total + n as i64 * i64::from(group.total);
                    if total > most {
                        continue;
                    }
                    sums.clear();
                    let fits = next.iter().enumerate().all(|(i, &c)| {
                        let sum = i64::from(old.get(i).copied().unwrap_or(0)) + coef[i] * n as i64;
                        let (least, greatest) = left[&c];
                        if last[&c] > step {
                            sums.push(sum as i32);
                        }
                        sum + greatest >= clues[c].lo && sum + least <= clues[c].hi
                    });
                    if fits {
                        *layer.entry((sums.as_slice().into(), total)).or_default() += weight * w;
                    }
                }
                if layer.len() > WIDE_MAX {
                    return Err(NoAnswer::TooWide);
                }
            }
            if layer.is_empty() {
                return Err(NoAnswer::Contradiction);
            }
            layers.push(layer);
            open.push(next);
            now = keep;
        }
        let mut poly = Poly::new();
        for ((_, total), w) in layers.last().expect("one") {
            *poly.entry(*total).or_default() += w;
        }
        Ok(Part { groups: order, open, layers, poly })
    }

    /// Prepares drawing layouts at random among all that agree, each with its weight.
    ///
    /// # Errors
    ///
    /// [`NoAnswer`].
    pub fn sampler(&self) -> Result<Sampler, NoAnswer> {
        let clues: Vec<Clue> = self.clues.iter().map(|c| self.reduced(c)).collect();
        let groups = self.groups(&clues);
        let (lo, hi) = self.total.map_or((i64::MIN, i64::MAX), |t| (clues[t].lo, clues[t].hi));
        let mut parts = vec![];
        for members in hanging_together(&groups, clues.len()) {
            parts.push(self.count(&clues, &groups, members, hi)?);
        }
        let sea: Vec<usize> = (0..groups.len()).filter(|&g| groups[g].clues.is_empty()).collect();
        let mut polys: Vec<Poly> = parts.iter().map(|p| p.poly.clone()).collect();
        polys.extend(sea.iter().map(|&g| {
            let g = &groups[g];
            let of = |n: usize| (n as i64 * i64::from(g.total), g.ways(n));
            let mut out = Poly::new();
            (0..=g.cells.len()).map(of).for_each(|(k, w)| *out.entry(k).or_default() += w);
            out
        }));
        // For each factor the product of those behind it.
        let mut behind = vec![Poly::from([(0, BigUint::one())])];
        for p in polys.iter().rev() {
            behind.push(times(behind.last().expect("one"), p, hi));
        }
        behind.reverse();
        if behind[0].range(lo..).all(|(k, w)| *k > hi || w.is_zero()) {
            return Err(NoAnswer::Contradiction);
        }
        let fixed = self.fixed.iter().map(|f| *f == Some(true)).collect();
        Ok(Sampler { clues, groups, parts, sea, polys, behind, range: (lo, hi), fixed, back: HashMap::new() })
    }

    /// Everything that agrees, with its weight; `None` when there is more than `most`.
    #[must_use]
    pub fn solutions(&self, most: usize) -> Option<Vec<(Vec<bool>, u64)>> {
        let clues: Vec<Clue> = self.clues.iter().map(|c| self.reduced(c)).collect();
        let groups = self.groups(&clues);
        let mut order: Vec<u32> = vec![];
        for members in hanging_together(&groups, clues.len()) {
            for g in taking_order(&groups, &members) {
                order.extend(&groups[g].cells);
            }
        }
        order.extend(groups.iter().filter(|g| g.clues.is_empty()).flat_map(|g| &g.cells));
        let mut of: Vec<Vec<(usize, i64)>> = vec![vec![]; self.weights.len()];
        // What each clue still wants, and what its open cells can still give.
        let mut want: Vec<(i64, i64)> = vec![];
        let mut can: Vec<(i64, i64)> = vec![];
        for (i, c) in clues.iter().enumerate() {
            want.push((c.lo, c.hi));
            can.push((0, 0));
            for &(x, k) in &c.cells {
                let k = i64::from(k);
                of[x as usize].push((i, k));
                can[i] = (can[i].0 + k.min(0), can[i].1 + k.max(0));
            }
        }
        if want.iter().zip(&can).any(|(w, c)| c.1 < w.0 || c.0 > w.1) {
            return Some(vec![]);
        }
        struct Go<'s> {
            system: &'s System,
            order: &'s [u32],
            of: &'s [Vec<(usize, i64)>],
            want: Vec<(i64, i64)>,
            can: Vec<(i64, i64)>,
            now: Vec<bool>,
            most: usize,
            out: Vec<(Vec<bool>, u64)>,
        }
        impl Go<'_> {
            fn from(&mut self, at: usize, weight: u64) -> bool {
                let Some(&cell) = self.order.get(at) else {
                    self.out.push((self.now.clone(), weight));
                    return self.out.len() <= self.most;
                };
                let x = cell as usize;
                for value in [false, true] {
                    let w = if value { self.system.weights[x].0 } else { self.system.weights[x].1 };
                    let Some(weight) = weight.checked_mul(w).filter(|w| *w > 0) else { continue };
                    let mut fits = true;
                    for &(c, k) in &self.of[x] {
                        self.can[c] = (self.can[c].0 - k.min(0), self.can[c].1 - k.max(0));
                        if value {
                            self.want[c] = (self.want[c].0 - k, self.want[c].1 - k);
                        }
                        fits &= self.can[c].1 >= self.want[c].0 && self.can[c].0 <= self.want[c].1;
                    }
                    self.now[x] = value;
                    let more = !fits || self.from(at + 1, weight);
                    for &(c, k) in &self.of[x] {
                        self.can[c] = (self.can[c].0 + k.min(0), self.can[c].1 + k.max(0));
                        if value {
                            self.want[c] = (self.want[c].0 + k, self.want[c].1 + k);
                        }
                    }
                    if !more {
                        return false;
                    }
                }
                true
            }
        }
        let now = self.fixed.iter().map(|f| *f == Some(true)).collect();
        let (order, of) = (order.as_slice(), of.as_slice());
        let mut go = Go { system: self, order, of, want, can, now, most, out: vec![] };
        go.from(0, 1).then_some(go.out)
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

/// Goes back through a part with the weight of everything else, and writes what fills each cell.
fn weigh(
    clues: &[Clue],
    groups: &[Group],
    part: &Part,
    rest: &dyn Fn(i64) -> BigUint,
    filled: &mut [BigUint],
) {
    let end = part.layers.last().expect("one");
    let mut back: Layer = end.keys().map(|k| (k.clone(), rest(k.1))).collect();
    for step in (0..part.groups.len()).rev() {
        let group = &groups[part.groups[step]];
        let next = &part.open[step];
        let kept: Vec<bool> = {
            let later = part.open.get(step + 1);
            next.iter().map(|c| later.is_some_and(|l| l.contains(c))).collect()
        };
        let coef: Vec<i64> = next
            .iter()
            .map(|c| group.clues.iter().find(|x| x.0 == *c).map_or(0, |x| i64::from(x.1)))
            .collect();
        let ways: Vec<(BigUint, BigUint)> =
            (0..=group.cells.len()).map(|n| (group.ways(n), group.ways_with(n))).collect();
        let mut earlier = Layer::new();
        let mut sum_filled = BigUint::zero();
        let mut sums: Vec<i32> = vec![];
        for ((old, total), weight) in &part.layers[step] {
            let mut behind = BigUint::zero();
            for (n, (w, with)) in ways.iter().enumerate() {
                sums.clear();
                for i in 0..next.len() {
                    if kept[i] {
                        let sum = i64::from(old.get(i).copied().unwrap_or(0)) + coef[i] * n as i64;
                        sums.push(sum as i32);
                    }
                }
                let total = total + n as i64 * i64::from(group.total);
                // What breaks a clue that closes here was never put into the next layer by this way;
                // it may be there by another one, so the closing sums are looked at again.
                if !closes(clues, next, &kept, old, &coef, n) {
                    continue;
                }
                if let Some(b) = back.get(&(sums.as_slice().into(), total)) {
                    behind += w * b;
                    sum_filled += weight * with * b;
                }
            }
            if !behind.is_zero() {
                earlier.insert((old.clone(), *total), behind);
            }
        }
        for &c in &group.cells {
            filled[c as usize].clone_from(&sum_filled);
        }
        back = earlier;
    }
}

/// Whether the clues that close at a step hold.
fn closes(clues: &[Clue], next: &[usize], kept: &[bool], old: &[i32], coef: &[i64], n: usize) -> bool {
    next.iter().enumerate().filter(|(i, _)| !kept[*i]).all(|(i, &c)| {
        let sum = i64::from(old.get(i).copied().unwrap_or(0)) + coef[i] * n as i64;
        sum >= clues[c].lo && sum <= clues[c].hi
    })
}

/// Draws layouts that agree with every clue, each with its weight. Choices are weighed as floating-point numbers: good
/// for estimates, not for proofs.
pub struct Sampler {
    clues: Vec<Clue>,
    groups: Vec<Group>,
    parts: Vec<Part>,
    sea: Vec<usize>,
    polys: Vec<Poly>,
    behind: Vec<Poly>,
    range: (i64, i64),
    fixed: Vec<bool>,
    /// For a part and what it adds to the total: how often each layer's states can still end so.
    back: HashMap<(usize, i64), Vec<FloatLayer>>,
}

/// One layer of a part with floating-point weights.
type FloatLayer = HashMap<(Box<[i32]>, i64), f64>;

/// Big numbers as floating-point numbers that keep their proportions.
fn scaled(numbers: &[BigUint]) -> Vec<f64> {
    let bits = numbers.iter().map(BigUint::bits).max().unwrap_or(0);
    let down = bits.saturating_sub(900);
    numbers.iter().map(|n| (n >> down).to_f64().unwrap_or(0.0)).collect()
}

/// Which of several weighted things, by a number from 0 to 1.
fn pick(weights: &[f64], at: f64) -> usize {
    let mut left = at * weights.iter().sum::<f64>();
    for (i, w) in weights.iter().enumerate() {
        if left < *w {
            return i;
        }
        left -= w;
    }
    weights.iter().rposition(|w| *w > 0.0).unwrap_or(0)
}

impl Sampler {
    /// The ways on from one state of a layer: cells filled, the next state, its weight here.
    fn ways(&self, part: usize, step: usize, old: &[i32], total: i64) -> Vec<(usize, Box<[i32]>, i64, f64)> {
        let p = &self.parts[part];
        let group = &self.groups[p.groups[step]];
        let next = &p.open[step];
        let later = p.open.get(step + 1);
        let kept: Vec<bool> = next.iter().map(|c| later.is_some_and(|l| l.contains(c))).collect();
        let coef: Vec<i64> = next
            .iter()
            .map(|c| group.clues.iter().find(|x| x.0 == *c).map_or(0, |x| i64::from(x.1)))
            .collect();
        let mut out = vec![];
        for n in 0..=group.cells.len() {
            if !closes(&self.clues, next, &kept, old, &coef, n) {
                continue;
            }
            let sums: Vec<i32> = (0..next.len())
                .filter(|i| kept[*i])
                .map(|i| old.get(i).copied().unwrap_or(0) + (coef[i] * n as i64) as i32)
                .collect();
            let w = group.ways(n).to_f64().unwrap_or(0.0);
            out.push((n, sums.into(), total + n as i64 * i64::from(group.total), w));
        }
        out
    }

    fn back(&mut self, part: usize, add: i64) {
        if self.back.contains_key(&(part, add)) {
            return;
        }
        let p = &self.parts[part];
        let end: FloatLayer =
            p.layers[p.groups.len()].keys().filter(|k| k.1 == add).map(|k| (k.clone(), 1.0)).collect();
        let mut layers = vec![end];
        for step in (0..p.groups.len()).rev() {
            let mut layer = FloatLayer::new();
            for (old, total) in p.layers[step].keys() {
                let last = layers.last().expect("one");
                let sum: f64 = self
                    .ways(part, step, old, *total)
                    .into_iter()
                    .map(|(_, s, t, w)| w * last.get(&(s, t)).copied().unwrap_or(0.0))
                    .sum();
                if sum > 0.0 {
                    layer.insert((old.clone(), *total), sum);
                }
            }
            layers.push(layer);
        }
        layers.reverse();
        self.back.insert((part, add), layers);
    }

    /// One layout. `random` gives numbers from 0 to 1.
    pub fn draw(&mut self, random: &mut dyn FnMut() -> f64) -> Vec<bool> {
        let mut out = self.fixed.clone();
        let mut sum = 0i64;
        for i in 0..self.polys.len() {
            // How much this factor adds: by its own weight, and what those behind it can do with the rest.
            let adds: Vec<i64> = self.polys[i].keys().copied().collect();
            let weights: Vec<BigUint> = adds
                .iter()
                .map(|a| {
                    let rest = self.behind[i + 1]
                        .iter()
                        .filter(|(k, _)| (self.range.0..=self.range.1).contains(&(sum + a + **k)))
                        .fold(BigUint::zero(), |s, (_, w)| s + w);
                    &self.polys[i][a] * rest
                })
                .collect();
            let add = adds[pick(&scaled(&weights), random())];
            sum += add;
            if i >= self.parts.len() {
                let g = &self.groups[self.sea[i - self.parts.len()]];
                let fits: Vec<usize> =
                    (0..=g.cells.len()).filter(|n| *n as i64 * i64::from(g.total) == add).collect();
                let ways: Vec<BigUint> = fits.iter().map(|n| g.ways(*n)).collect();
                let n = fits[pick(&scaled(&ways), random())];
                fill(&g.cells, n, &mut out, random);
                continue;
            }
            self.back(i, add);
            let (mut old, mut total): (Box<[i32]>, i64) = (Box::from([]), 0);
            for step in 0..self.parts[i].groups.len() {
                let ways = self.ways(i, step, &old, total);
                let later = &self.back[&(i, add)][step + 1];
                let weights: Vec<f64> = ways
                    .iter()
                    .map(|(_, s, t, w)| w * later.get(&(s.clone(), *t)).copied().unwrap_or(0.0))
                    .collect();
                let (n, s, t, _) = ways[pick(&weights, random())].clone();
                fill(&self.groups[self.parts[i].groups[step]].cells, n, &mut out, random);
                (old, total) = (s, t);
            }
        }
        out
    }
}

/// Fills so many of some cells, each choice equally likely.
fn fill(cells: &[u32], n: usize, out: &mut [bool], random: &mut dyn FnMut() -> f64) {
    let mut left = n;
    for (i, &c) in cells.iter().enumerate() {
        let room = (cells.len() - i) as f64;
        if random() * room < left as f64 {
            out[c as usize] = true;
            left -= 1;
        }
    }
}

/// The groups with local clues, as parts that hang together, in the order of their first groups.
fn hanging_together(groups: &[Group], clues: usize) -> Vec<Vec<usize>> {
    let mut sets = DisjointSets::new(clues as u32);
    for g in groups {
        for w in g.clues.windows(2) {
            sets.join(w[0].0 as u32, w[1].0 as u32);
        }
    }
    let mut index: HashMap<u32, usize> = HashMap::new();
    let mut out: Vec<Vec<usize>> = vec![];
    for (i, g) in groups.iter().enumerate() {
        if let Some((c, _)) = g.clues.first() {
            let r = sets.find(*c as u32);
            let at = *index.entry(r).or_insert(out.len());
            if at == out.len() {
                out.push(vec![]);
            }
            out[at].push(i);
        }
    }
    out
}

/// An order of groups in which few clues are open at a time: always the one that opens fewest new clues, and
/// among those the one that closes most; begun at a group with few clues.
fn taking_order(groups: &[Group], members: &[usize]) -> Vec<usize> {
    let mut left: HashMap<usize, usize> = HashMap::new();
    for &g in members {
        for &(c, _) in &groups[g].clues {
            *left.entry(c).or_default() += 1;
        }
    }
    let mut rest: Vec<usize> = members.to_vec();
    let mut open: HashSet<usize> = HashSet::new();
    let mut out = vec![];
    while !rest.is_empty() {
        let cost = |g: usize| {
            let clues = &groups[g].clues;
            let new = clues.iter().filter(|c| !open.contains(&c.0)).count() as i64;
            let closes = clues.iter().filter(|c| left[&c.0] == 1).count() as i64;
            let touches = clues.iter().any(|c| open.contains(&c.0));
            // The fewer groups an open clue still waits for, the sooner it is taken.
            let wait: usize =
                clues.iter().filter(|c| open.contains(&c.0)).map(|c| left[&c.0]).min().unwrap_or(99);
            (!touches && !open.is_empty(), new - closes, wait)
        };
        let at = (0..rest.len()).min_by_key(|&i| (cost(rest[i]), rest[i])).expect("some are left");
        let g = rest.remove(at);
        for &(c, _) in &groups[g].clues {
            let l = left.get_mut(&c).expect("counted");
            *l -= 1;
            if *l == 0 {
                open.remove(&c);
            } else {
                open.insert(c);
            }
        }
        out.push(g);
    }
    out
}

// ---- proofs ----

/// How a person sees that a cell is certain.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// One clue is enough.
    OneClue,
    /// Two clues are compared.
    TwoClues,
    /// Several clues together.
    Several,
    /// The total is needed.
    Total,
}

/// A set of clues that proves what a cell is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Proof {
    /// The clues, ascending.
    pub clues: Vec<usize>,
    /// Whether no smaller set proves it; else only nothing can be left out.
    pub smallest: bool,
}

/// Sets of clues up to this size are all tried.
pub const SMALL: usize = 4;
/// Most sets that are tried for one cell.
const TRIES: usize = 6_000;

/// Groups and clues of a system, made once to look for many proofs.
pub struct Prover<'s> {
    system: &'s System,
    clues: Vec<Clue>,
    /// Cells with the same clues: how often each clue counts them, and how many they are.
    groups: Vec<(Vec<(usize, i64)>, i64)>,
    group_of: Vec<Option<usize>>,
    /// The groups that a clue counts.
    of_clue: Vec<Vec<usize>>,
    /// Clues that share an open cell with a clue; the total aside.
    beside: Vec<Vec<usize>>,
}

impl System {
    /// Whether these clues alone, and what is fixed, leave no other value for a cell.
    #[must_use]
    pub fn proves(&self, clues: &[usize], cell: u32, value: bool) -> bool {
        self.prover().proves(clues, cell, value)
    }

    /// The clues that can prove what a certain cell is: those of its part where they are enough, else all that say
    /// anything about a cell that is not fixed.
    #[must_use]
    pub fn clues_for(&self, cell: u32, value: bool) -> Vec<usize> {
        self.prover().clues_for(cell, value)
    }

    /// A smallest set of clues that proves a certain cell, as [`Prover::proof`].
    #[must_use]
    pub fn proof(&self, cell: u32, value: bool, among: &[usize]) -> Option<Proof> {
        self.prover().proof(cell, value, among)
    }

    /// Prepares looking for proofs.
    #[must_use]
    pub fn prover(&self) -> Prover<'_> {
        let clues: Vec<Clue> = self.clues.iter().map(|c| self.reduced(c)).collect();
        let mut of: Vec<Vec<(usize, i64)>> = vec![vec![]; self.weights.len()];
        for (i, c) in clues.iter().enumerate() {
            for &(x, k) in &c.cells {
                of[x as usize].push((i, k.into()));
            }
        }
        let mut index: HashMap<&[(usize, i64)], usize> = HashMap::new();
        let mut groups: Vec<(Vec<(usize, i64)>, i64)> = vec![];
        let mut group_of = vec![None; of.len()];
        for (x, key) in of.iter().enumerate().filter(|(x, _)| self.fixed[*x].is_none()) {
            let at = *index.entry(key).or_insert(groups.len());
            if at == groups.len() {
                groups.push((key.clone(), 0));
            }
            groups[at].1 += 1;
            group_of[x] = Some(at);
        }
        let mut of_clue = vec![vec![]; clues.len()];
        let mut beside: Vec<HashSet<usize>> = vec![HashSet::new(); clues.len()];
        for (g, (key, _)) in groups.iter().enumerate() {
            for &(c, _) in key {
                of_clue[c].push(g);
                if Some(c) != self.total {
                    let others = key.iter().map(|k| k.0).filter(|o| *o != c && Some(*o) != self.total);
                    beside[c].extend(others);
                }
            }
        }
        let sorted = |s: HashSet<usize>| {
            let mut v: Vec<usize> = s.into_iter().collect();
            v.sort_unstable();
            v
        };
        let beside = beside.into_iter().map(sorted).collect();
        Prover { system: self, clues, groups, group_of, of_clue, beside }
    }
}

impl Prover<'_> {
    /// Whether these clues alone, and what is fixed, leave no other value for a cell.
    #[must_use]
    pub fn proves(&self, clues: &[usize], cell: u32, value: bool) -> bool {
        let mine = self.group_of[cell as usize];
        let mut needs: Vec<(i64, i64)> =
            clues.iter().map(|&c| (self.clues[c].lo, self.clues[c].hi)).collect();
        if let (Some(g), false) = (mine, value) {
            // The cell the other way: filled.
            for &(c, k) in &self.groups[g].0 {
                if let Some(i) = clues.iter().position(|x| *x == c) {
                    needs[i] = (needs[i].0 - k, needs[i].1 - k);
                }
            }
        }
        let mut touched: Vec<usize> = clues.iter().flat_map(|&c| self.of_clue[c].iter().copied()).collect();
        touched.sort_unstable();
        touched.dedup();
        let mut groups: Vec<(Vec<i64>, i64)> = vec![];
        let mut k = vec![0; clues.len()];
        for g in touched {
            let n = self.groups[g].1 - i64::from(Some(g) == mine);
            if n == 0 {
                continue;
            }
            k.fill(0);
            for &(c, x) in &self.groups[g].0 {
                if let Some(i) = clues.iter().position(|y| *y == c) {
                    k[i] = x;
                }
            }
            match groups.iter_mut().find(|h| h.0 == k) {
                Some(h) => h.1 += n,
                None => groups.push((k.clone(), n)),
            }
        }
        // The cells that most clues count decide soonest.
        groups.sort_by_key(|g| std::cmp::Reverse(g.0.iter().filter(|x| **x != 0).count()));
        !possible(&groups, &mut needs)
    }

    /// Whether the total can matter beside so few other clues: not when more cells are left out of them than the
    /// total wants, and the clues cannot want more than it has.
    fn total_matters(&self, others: usize) -> bool {
        let Some(t) = self.system.total else { return false };
        let local = |c: &usize| Some(*c) != self.system.total;
        let mut sizes: Vec<i64> =
            (0..self.clues.len()).filter(local).map(|c| self.clues[c].cells.len() as i64).collect();
        let mut most: Vec<i64> = (0..self.clues.len()).filter(local).map(|c| self.clues[c].hi).collect();
        sizes.sort_unstable_by_key(|n| -n);
        most.sort_unstable_by_key(|n| -n);
        let (inside, wanted): (i64, i64) = (sizes.iter().take(others).sum(), most.iter().take(others).sum());
        let outside = self.clues[t].cells.len() as i64 - inside - 1;
        !(self.clues[t].cells.iter().all(|c| c.1 == 1)
            && outside >= self.clues[t].hi
            && self.clues[t].lo > wanted)
    }

    /// A smallest set of clues that proves a certain cell; past the limits one from which nothing can be left out.
    /// `among` are the clues that may be used.
    #[must_use]
    pub fn proof(&self, cell: u32, value: bool, among: &[usize]) -> Option<Proof> {
        let mut tries = 0;
        for size in 1..=SMALL {
            match self.proofs_of(cell, value, among, size, &mut tries, true) {
                Some(found) if found.is_empty() => {}
                Some(mut found) => return Some(Proof { clues: found.remove(0), smallest: true }),
                None => break,
            }
        }
        if !self.proves(among, cell, value) {
            return None;
        }
        let mut kept: Vec<usize> = among.to_vec();
        // What lies far away is left out first.
        let mut order: Vec<usize> = among.to_vec();
        order.sort_by_key(|&c| {
            (Some(c) != self.system.total, self.clues[c].cells.iter().any(|x| x.0 == cell))
        });
        for c in order {
            let without: Vec<usize> = kept.iter().copied().filter(|k| *k != c).collect();
            if self.proves(&without, cell, value) {
                kept = without;
            }
        }
        Some(Proof { clues: kept, smallest: false })
    }

    /// All sets of this size that prove a cell and hang together with it; only the first with `one`. `None` when too
    /// many would have to be tried.
    fn proofs_of(
        &self,
        cell: u32,
        value: bool,
        among: &[usize],
        size: usize,
        tries: &mut usize,
        one: bool,
    ) -> Option<Vec<Vec<usize>>> {
        let has = |c: usize, x: u32| {
            self.group_of[x as usize].is_some_and(|g| self.groups[g].0.iter().any(|k| k.0 == c))
        };
        let local: Vec<usize> = among.iter().copied().filter(|c| Some(*c) != self.system.total).collect();
        let with_total = self.system.total.is_some_and(|t| among.contains(&t));
        let touches = |a: usize, b: usize| self.beside[a].binary_search(&b).is_ok();
        let mut seen: HashSet<Vec<usize>> = HashSet::new();
        let mut layer: Vec<Vec<usize>> = local.iter().filter(|&&c| has(c, cell)).map(|&c| vec![c]).collect();
        // Without the total first: it touches everything.
        let mut out = vec![];
        for now in 1..=size {
            for set in &layer {
                if now == size {
                    *tries += 1;
                    if self.proves(set, cell, value) {
                        out.push(set.clone());
                        if one {
                            return Some(out);
                        }
                    }
                }
                if *tries > TRIES {
                    return None;
                }
            }
            if now == size {
                break;
            }
            let mut next = vec![];
            for set in &layer {
                for &c in &local {
                    if !set.contains(&c) && set.iter().any(|&s| touches(s, c)) {
                        let mut bigger = set.clone();
                        bigger.push(c);
                        bigger.sort_unstable();
                        if seen.insert(bigger.clone()) {
                            next.push(bigger);
                        }
                    }
                }
                if seen.len() > TRIES {
                    return None;
                }
            }
            layer = next;
        }
        if with_total
            && self.total_matters(size - 1)
            && let Some(t) = self.system.total
        {
            // The total joins any clues at all.
            let mut pick: Vec<usize> = vec![];
            let mut stop = false;
            subsets(&local, size - 1, 0, &mut pick, &mut |set| {
                *tries += 1;
                if *tries > TRIES {
                    stop = true;
                    return false;
                }
                let mut set: Vec<usize> = set.to_vec();
                set.push(t);
                set.sort_unstable();
                if self.proves(&set, cell, value) {
                    out.push(set);
                    return !one;
                }
                true
            });
            if stop && out.is_empty() {
                return None;
            }
        }
        Some(out)
    }

    /// How many sets of clues, no two of which share one, each prove a cell; and whether that is the greatest number,
    /// or only at least so many.
    #[must_use]
    pub fn independent(&self, cell: u32, value: bool, among: &[usize]) -> (usize, bool) {
        let mut minimal: Vec<Vec<usize>> = vec![];
        let mut tries = 0;
        let mut whole = true;
        // Where there are many clues, only those that hang together; then it is a number that is at least so great.
        let among: Vec<usize> = match among.len() {
            0..=10 => among.to_vec(),
            _ => among.iter().copied().filter(|c| Some(*c) != self.system.total).collect(),
        };
        let among = &among[..];
        for size in 1..=among.len().min(if among.len() <= 10 { 10 } else { 3 }) {
            match self.proofs_of(cell, value, among, size, &mut tries, false) {
                Some(found) => {
                    for set in found {
                        if !minimal.iter().any(|m| m.iter().all(|c| set.contains(c))) {
                            minimal.push(set);
                        }
                    }
                }
                None => {
                    whole = false;
                    break;
                }
            }
        }
        whole &= among.len() <= 10;
        let (n, exact) = most_disjoint(&minimal);
        (n.max(usize::from(self.proves(among, cell, value))), whole && exact)
    }
}

/// How many of these sets at most share nothing, two by two; and whether that is the greatest number, or only at
/// least so many. All choices are tried, up to a budget.
#[must_use]
pub fn most_disjoint(sets: &[Vec<usize>]) -> (usize, bool) {
    fn most(sets: &[Vec<usize>], used: &mut Vec<usize>, budget: &mut usize) -> usize {
        *budget = budget.saturating_sub(1);
        let Some((first, rest)) = sets.split_first() else { return 0 };
        if *budget == 0 {
            return 0;
        }
        let mut best = 0;
        if first.iter().all(|c| !used.contains(c)) {
            let len = used.len();
            used.extend(first);
            best = 1 + most(rest, used, budget);
            used.truncate(len);
        }
        if best > rest.len() { best } else { best.max(most(rest, used, budget)) }
    }
    let mut budget = 200_000;
    let mut sorted = sets.to_vec();
    sorted.sort_by_key(Vec::len);
    let n = most(&sorted, &mut vec![], &mut budget);
    (n, budget > 0)
}

fn subsets(
    from: &[usize],
    size: usize,
    at: usize,
    pick: &mut Vec<usize>,
    see: &mut dyn FnMut(&[usize]) -> bool,
) -> bool {
    if pick.len() == size {
        return see(pick);
    }
    for i in at..from.len() {
        pick.push(from[i]);
        let more = subsets(from, size, i + 1, pick, see);
        pick.pop();
        if !more {
            return false;
        }
    }
    true
}

/// Whether groups can be filled so that every sum lies in its range.
fn possible(groups: &[(Vec<i64>, i64)], needs: &mut Vec<(i64, i64)>) -> bool {
    for (i, need) in needs.iter().enumerate() {
        let (mut least, mut most) = (0, 0);
        for (k, n) in groups {
            least += (k[i] * n).min(0);
            most += (k[i] * n).max(0);
        }
        if most < need.0 || least > need.1 {
            return false;
        }
    }
    let Some(((k, n), rest)) = groups.split_first() else { return true };
    for v in 0..=*n {
        for (need, k) in needs.iter_mut().zip(k) {
            *need = (need.0 - k * v, need.1 - k * v);
        }
        let fits = possible(rest, needs);
        for (need, k) in needs.iter_mut().zip(k) {
            *need = (need.0 + k * v, need.1 + k * v);
        }
        if fits {
            return true;
        }
    }
    false
}

/// One step that a person can take.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Deduction {
    /// How it is seen.
    pub kind: Kind,
    /// The clues that are looked at.
    pub clues: Vec<usize>,
    /// The cells that become certain, and what they are.
    pub cells: Vec<(u32, bool)>,
}

impl Prover<'_> {
    /// The clues of a cell's part.
    fn part(&self, cell: u32) -> Vec<usize> {
        let Some(g) = self.group_of[cell as usize] else { return vec![] };
        let mut out: Vec<usize> =
            self.groups[g].0.iter().map(|k| k.0).filter(|c| Some(*c) != self.system.total).collect();
        let mut at = 0;
        while at < out.len() {
            for &c in &self.beside[out[at]] {
                if !out.contains(&c) {
                    out.push(c);
                }
            }
            at += 1;
        }
        out.sort_unstable();
        out
    }

    /// The clues that can prove what a certain cell is: those of its part and the total where they are enough, else all
    /// that say anything about a cell that is not fixed.
    #[must_use]
    pub fn clues_for(&self, cell: u32, value: bool) -> Vec<usize> {
        let mut near = self.part(cell);
        near.extend(self.system.total);
        near.sort_unstable();
        if self.proves(&near, cell, value) {
            return near;
        }
        (0..self.clues.len()).filter(|c| !self.clues[*c].cells.is_empty()).collect()
    }

    /// A proof with at most so many clues, smallest first; past the limits as [`System::proof`].
    fn short_proof(&self, cell: u32, value: bool, among: &[usize], limit: usize) -> Option<Proof> {
        let mut tries = 0;
        for size in 1..=SMALL.min(limit) {
            if let Some(mut found) = self.proofs_of(cell, value, among, size, &mut tries, true) {
                if !found.is_empty() {
                    return Some(Proof { clues: found.remove(0), smallest: true });
                }
            } else {
                break;
            }
        }
        if limit <= SMALL || !self.proves(among, cell, value) {
            return None;
        }
        self.proof(cell, value, among)
    }
}

impl System {
    /// The steps, easiest first, in which a person can find everything that is certain. Each may use what the
    /// steps before found.
    #[must_use]
    pub fn steps(&self, found: &Inferred) -> Vec<Deduction> {
        let mut now = self.clone();
        let certain = |c: u32| found.certain(c);
        let mut open: Vec<u32> = (0..self.weights.len() as u32)
            .filter(|&c| self.fixed[c as usize].is_none() && certain(c).is_some())
            .collect();
        let mut out: Vec<Deduction> = vec![];
        while !open.is_empty() {
            let mut best: Option<(Kind, usize)> = None;
            let mut steps: Vec<Deduction> = vec![];
            let prover = now.prover();
            for &c in &open {
                let value = certain(c).unwrap_or(false);
                let local = prover.part(c);
                // Without the total where that is possible.
                let limit = best.map_or(usize::MAX, |b| b.1);
                let proof = prover.short_proof(c, value, &local, limit).or_else(|| {
                    if best.is_some_and(|b| b.0 < Kind::Total) {
                        None
                    } else {
                        prover.proof(c, value, &prover.clues_for(c, value))
                    }
                });
                let Some(proof) = proof else { continue };
                let kind = match proof.clues.len() {
                    _ if self.total.is_some_and(|t| proof.clues.contains(&t)) => Kind::Total,
                    0 | 1 => Kind::OneClue,
                    2 => Kind::TwoClues,
                    _ => Kind::Several,
                };
                let key = (kind, proof.clues.len());
                if best.is_none_or(|b| key < b) {
                    best = Some(key);
                    steps.clear();
                }
                if best == Some(key) {
                    match steps.iter_mut().find(|s| s.clues == proof.clues) {
                        Some(s) => s.cells.push((c, value)),
                        None => steps.push(Deduction { kind, clues: proof.clues, cells: vec![(c, value)] }),
                    }
                }
            }
            if steps.is_empty() {
                break;
            }
            for s in &steps {
                for &(c, v) in &s.cells {
                    now.fixed[c as usize] = Some(v);
                }
            }
            open.retain(|&c| now.fixed[c as usize].is_none());
            out.extend(steps);
        }
        out
    }
}
