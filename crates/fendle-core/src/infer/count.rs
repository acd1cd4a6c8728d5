//! Counts one part: groups are taken one by one while only the open sums are kept (dynamic programming along a path
//! decomposition, Bodlaender 1998), forward to count, backward to weigh.
//!
//! What is counted with each open sum is a row: the weights by what was added to the total so far. Rows are of whole
//! numbers of 64 or 128 bits where the weight of everything fits, else of big ones.

use num_bigint::BigUint;
use num_traits::{One, ToPrimitive, Zero};

use super::NoAnswer;
use super::parts::{Mix, Pattern, Size};
use std::hash::Hasher;

/// Most numbers that are kept at a time.
pub const WIDE_MAX: usize = 1 << 20;

/// What weights are counted in.
pub(super) trait Weight: Clone {
    /// Whole numbers as they are; floating-point ones in proportion.
    fn list(bigs: &[BigUint]) -> Vec<Self>;
    fn unit() -> Self;
    fn nothing() -> Self;
    fn is_nothing(&self) -> bool;
    fn add_product(&mut self, a: &Self, b: &Self);
    /// Keeps floating-point numbers small, in proportion.
    fn tame(row: &mut [Self]);
}

macro_rules! whole_weight {
    ($($t:ty, $to:ident);*) => {$(
        impl Weight for $t {
            fn list(bigs: &[BigUint]) -> Vec<$t> {
                bigs.iter().map(|b| b.$to().expect("the weight of everything fits")).collect()
            }
            fn unit() -> $t {
                1
            }
            fn nothing() -> $t {
                0
            }
            fn is_nothing(&self) -> bool {
                *self == 0
            }
            fn add_product(&mut self, a: &$t, b: &$t) {
                *self += a * b;
            }
            fn tame(_: &mut [$t]) {}
        }
    )*};
}
whole_weight!(u64, to_u64; u128, to_u128);

impl Weight for BigUint {
    fn list(bigs: &[BigUint]) -> Vec<BigUint> {
        bigs.to_vec()
    }
    fn unit() -> BigUint {
        One::one()
    }
    fn nothing() -> BigUint {
        Zero::zero()
    }
    fn is_nothing(&self) -> bool {
        self.is_zero()
    }
    fn add_product(&mut self, a: &BigUint, b: &BigUint) {
        *self += a * b;
    }
    fn tame(_: &mut [BigUint]) {}
}

impl Weight for f64 {
    fn list(bigs: &[BigUint]) -> Vec<f64> {
        let bits = bigs.iter().map(BigUint::bits).max().unwrap_or(0);
        let down = bits.saturating_sub(500);
        bigs.iter().map(|n| (n >> down).to_f64().unwrap_or(0.0)).collect()
    }
    fn unit() -> f64 {
        1.0
    }
    fn nothing() -> f64 {
        0.0
    }
    fn is_nothing(&self) -> bool {
        *self == 0.0
    }
    fn add_product(&mut self, a: &f64, b: &f64) {
        *self += a * b;
    }
    fn tame(row: &mut [f64]) {
        let most = row.iter().copied().fold(0.0, f64::max);
        if most > 0.0 {
            row.iter_mut().for_each(|w| *w /= most);
        }
    }
}

/// The counts of a part, by what it adds to the total.
#[derive(Clone, Debug)]
pub(super) struct Rows<N> {
    /// The weight of everything.
    pub(super) all: Vec<N>,
    /// For each group the weight of what fills a given cell of it.
    pub(super) filled: Vec<Vec<N>>,
}

/// The counts of a part.
#[derive(Clone, Debug)]
pub(super) struct Counted {
    /// What the first number of each row adds to the total.
    pub(super) first: i64,
    /// The weight of everything has at most so many bits.
    pub(super) bits: u64,
    pub(super) rows: Numbers,
}

/// Rows in numbers that are wide enough.
#[derive(Clone, Debug)]
pub(super) enum Numbers {
    Small(Rows<u128>),
    Big(Rows<BigUint>),
}

impl Rows<u128> {
    pub(super) fn to_big(&self) -> Rows<BigUint> {
        let big = |row: &Vec<u128>| row.iter().map(|n| BigUint::from(*n)).collect();
        Rows { all: big(&self.all), filled: self.filled.iter().map(big).collect() }
    }
}

pub(super) fn power(base: u64, exp: u64) -> BigUint {
    if base == 1 { BigUint::one() } else { BigUint::from(base).pow(exp as u32) }
}

/// The number of ways to choose `k` of `n` things.
pub(super) fn choose(n: u64, k: u64) -> BigUint {
    let k = k.min(n - k);
    (0..k).fold(BigUint::one(), |out, i| out * (n - i) / (i + 1))
}

/// How many bits the weight of all fillings of so many cells has at most.
pub(super) fn bits_of(cells: u64, weights: (u64, u64)) -> u64 {
    let sum = u128::from(weights.0) + u128::from(weights.1);
    cells * u64::from(128 - (sum.max(2) - 1).leading_zeros())
}

impl Size {
    /// The weight of filling `n` of the cells, in all ways; and of those ways that fill a given cell.
    fn ways(&self, n: u64) -> (BigUint, BigUint) {
        let cells = u64::from(self.cells);
        let one = power(self.weights.0, n) * power(self.weights.1, cells - n);
        let with = if n == 0 { BigUint::zero() } else { choose(cells - 1, n - 1) * &one };
        (choose(cells, n) * one, with)
    }

    /// How far filling all cells moves the total.
    fn reach(&self) -> i64 {
        i64::from(self.cells) * i64::from(self.total)
    }
}

/// One layer: open sums, each once, and for each a row of weights.
struct Layer<N> {
    stride: usize,
    sums: Vec<i32>,
    /// What the first number of each row adds to the total.
    first: i64,
    width: usize,
    rows: Vec<N>,
    index: Vec<u32>,
}

impl<N: Weight> Layer<N> {
    fn new(stride: usize, first: i64, width: usize) -> Layer<N> {
        Layer { stride, sums: vec![], first, width, rows: vec![], index: vec![u32::MAX; 16] }
    }

    fn len(&self) -> usize {
        self.rows.len() / self.width
    }

    fn row(&self, at: usize) -> &[N] {
        &self.rows[at * self.width..(at + 1) * self.width]
    }

    fn slot(&self, sums: &[i32]) -> usize {
        let mut hash = Mix::default();
        sums.iter().for_each(|s| hash.write_i32(*s));
        let mask = self.index.len() - 1;
        let mut at = (hash.finish() >> 20) as usize & mask;
        loop {
            let row = self.index[at] as usize;
            if row == u32::MAX as usize || self.sums[row * self.stride..(row + 1) * self.stride] == *sums {
                return at;
            }
            at = (at + 1) & mask;
        }
    }

    /// The row of these sums, made where there is none.
    fn place(&mut self, sums: &[i32]) -> usize {
        let slot = self.slot(sums);
        if self.index[slot] != u32::MAX {
            return self.index[slot] as usize;
        }
        let row = self.len();
        self.index[slot] = row as u32;
        self.sums.extend_from_slice(sums);
        self.rows.resize((row + 1) * self.width, N::nothing());
        if 2 * (row + 1) > self.index.len() {
            self.index = vec![u32::MAX; 4 * self.index.len()];
            for row in 0..=row {
                let sums = self.sums[row * self.stride..(row + 1) * self.stride].to_vec();
                let slot = self.slot(&sums);
                self.index[slot] = row as u32;
            }
        }
        row
    }
}

/// One way on: from a row of a layer, by filling so many cells of the group, to a row of the next.
struct Way {
    from: u32,
    filled: u32,
    to: u32,
}

/// A part counted forward.
pub(super) struct Forward<N> {
    /// The groups in the order in which they were taken.
    pub(super) order: Vec<usize>,
    layers: Vec<Layer<N>>,
    ways: Vec<Vec<Way>>,
    /// For each step the weights of filling so many cells, and of those ways that fill a given one.
    weights: Vec<Vec<(N, N)>>,
}

/// Adds a row to another, times a weight, moved by so much.
fn add_row<N: Weight>(to: &mut [N], row: &[N], times: &N, by: usize) {
    for (t, r) in to[by..].iter_mut().zip(row) {
        if !r.is_nothing() {
            t.add_product(r, times);
        }
    }
}

impl<N: Weight> Forward<N> {
    pub(super) fn new(part: &Pattern) -> Result<Forward<N>, NoAnswer> {
        let order = part.order();
        let clues = part.ranges.len();
        // The last step at which each clue is touched, and what later groups can still add.
        let (mut last, mut left) = (vec![0; clues], vec![(0i64, 0i64); clues]);
        for (step, &g) in order.iter().enumerate() {
            for &(c, k) in &part.groups[g].clues {
                let add = i64::from(k) * i64::from(part.groups[g].cells);
                let l = &mut left[c as usize];
                *l = (l.0 + add.min(0), l.1 + add.max(0));
                last[c as usize] = step;
            }
        }
        let mut start = Layer::new(0, 0, 1);
        start.rows.push(N::unit());
        let mut out = Forward { order, layers: vec![start], ways: vec![], weights: vec![] };
        let mut open: Vec<u32> = vec![];
        let mut sums: Vec<i32> = vec![];
        for step in 0..out.order.len() {
            let group = &part.groups[out.order[step]];
            let before = open.len();
            open.extend(
                group.clues.iter().map(|c| c.0).filter(|c| !open[..before].contains(c)).collect::<Vec<_>>(),
            );
            for &(c, k) in &group.clues {
                let add = i64::from(k) * i64::from(group.cells);
                let l = &mut left[c as usize];
                *l = (l.0 - add.min(0), l.1 - add.max(0));
            }
            // For each open clue how often it counts a cell, the sums that may stand now, and whether it stays open.
            let needs: Vec<(i64, i64, i64, bool)> = (open.iter())
                .map(|&c| {
                    let k = group.clues.iter().find(|x| x.0 == c).map_or(0, |x| i64::from(x.1));
                    let (range, left) = (part.ranges[c as usize], left[c as usize]);
                    (k, range.0 - left.1, range.1 - left.0, last[c as usize] > step)
                })
                .collect();
            let (all, with): (Vec<_>, Vec<_>) = (0..=u64::from(group.cells)).map(|n| group.ways(n)).unzip();
            let weights: Vec<(N, N)> = N::list(&all).into_iter().zip(N::list(&with)).collect();
            let old = &out.layers[step];
            let stride = needs.iter().filter(|n| n.3).count();
            let reach = group.reach();
            let mut next =
                Layer::new(stride, old.first + reach.min(0), old.width + reach.unsigned_abs() as usize);
            let mut ways = vec![];
            for from in 0..old.len() {
                let here = &old.sums[from * old.stride..(from + 1) * old.stride];
                for (n, (w, _)) in weights.iter().enumerate().filter(|(_, w)| !w.0.is_nothing()) {
                    sums.clear();
                    let fits = needs.iter().enumerate().all(|(i, &(k, lo, hi, stays))| {
                        let sum = i64::from(here.get(i).copied().unwrap_or(0)) + k * n as i64;
                        if stays {
                            sums.push(sum as i32);
                        }
                        (lo..=hi).contains(&sum)
                    });
                    if !fits {
                        continue;
                    }
                    let to = next.place(&sums);
                    let by = (n as i64 * i64::from(group.total) - reach.min(0)) as usize;
                    let width = next.width;
                    add_row(&mut next.rows[to * width..(to + 1) * width], old.row(from), w, by);
                    ways.push(Way { from: from as u32, filled: n as u32, to: to as u32 });
                }
                if next.rows.len() > WIDE_MAX {
                    return Err(NoAnswer::TooWide);
                }
            }
            if next.len() == 0 {
                return Err(NoAnswer::Contradiction);
            }
            N::tame(&mut next.rows);
            out.layers.push(next);
            out.ways.push(ways);
            out.weights.push(weights);
            let mut i = 0;
            open.retain(|_| {
                i += 1;
                needs[i - 1].3
            });
        }
        Ok(out)
    }

    /// What the first number of the last row adds to the total, and that row: every clue is closed, it is the only one.
    pub(super) fn end(&self) -> (i64, &[N]) {
        let last = self.layers.last().expect("there is a first layer");
        (last.first, last.row(0))
    }

    /// For each group of the pattern the weight of what fills a given cell, by what the part adds to the total.
    fn filled(&self, part: &Pattern) -> Vec<Vec<N>> {
        let width = self.end().1.len();
        let mut out = vec![vec![]; part.groups.len()];
        // What the groups behind can add, for each row of the layer; its first number is `first`.
        let mut back: Vec<N> = vec![N::unit()];
        let mut back_width = 1;
        for step in (0..self.order.len()).rev() {
            let group = &part.groups[self.order[step]];
            let (layer, reach) = (&self.layers[step], group.reach());
            let earlier_width = back_width + reach.unsigned_abs() as usize;
            let mut earlier = vec![N::nothing(); layer.len() * earlier_width];
            let mut sum = vec![N::nothing(); width];
            let mut with = vec![N::nothing(); earlier_width];
            let mut ways = self.ways[step].iter().peekable();
            while let Some(first) = ways.peek() {
                let from = first.from;
                let to = &mut earlier[from as usize * earlier_width..(from as usize + 1) * earlier_width];
                with.iter_mut().for_each(|w| *w = N::nothing());
                while let Some(way) = ways.next_if(|w| w.from == from) {
                    let (all, filled) = &self.weights[step][way.filled as usize];
                    let row = &back[way.to as usize * back_width..(way.to as usize + 1) * back_width];
                    let by = (i64::from(way.filled) * i64::from(group.total) - reach.min(0)) as usize;
                    add_row(to, row, all, by);
                    add_row(&mut with, row, filled, by);
                }
                for (by, weight) in
                    layer.row(from as usize).iter().enumerate().filter(|(_, w)| !w.is_nothing())
                {
                    add_row(&mut sum, &with, weight, by);
                }
            }
            out[self.order[step]] = sum;
            (back, back_width) = (earlier, earlier_width);
        }
        out
    }

    /// Draws how many cells of each group are filled, by what the part adds to the total; `at` is its place in the
    /// last row. `random` gives numbers from 0 to 1.
    pub(super) fn draw(
        &self,
        part: &Pattern,
        at: usize,
        random: &mut dyn FnMut() -> f64,
        pick: &dyn Fn(&[f64], f64) -> usize,
    ) -> Vec<u32>
    where
        N: Into<f64>,
    {
        let mut out = vec![0; part.groups.len()];
        let (mut row, mut at) = (0u32, at);
        for step in (0..self.order.len()).rev() {
            let group = &part.groups[self.order[step]];
            let (layer, reach) = (&self.layers[step], group.reach());
            let mut came: Vec<(&Way, usize)> = vec![];
            let mut weights: Vec<f64> = vec![];
            for way in self.ways[step].iter().filter(|w| w.to == row) {
                let by = (i64::from(way.filled) * i64::from(group.total) - reach.min(0)) as usize;
                let Some(before) = at.checked_sub(by).filter(|b| *b < layer.width) else { continue };
                let weight: f64 = layer.row(way.from as usize)[before].clone().into();
                let ways: f64 = self.weights[step][way.filled as usize].0.clone().into();
                came.push((way, before));
                weights.push(weight * ways);
            }
            let (way, before) = &came[pick(&weights, random())];
            out[self.order[step]] = way.filled;
            (row, at) = (way.from, *before);
        }
        out
    }
}

fn rows<N: Weight>(part: &Pattern) -> Result<(i64, Rows<N>), NoAnswer> {
    let forward = Forward::new(part)?;
    let (first, all) = forward.end();
    Ok((first, Rows { all: all.to_vec(), filled: forward.filled(part) }))
}

/// Counts a part.
pub(super) fn count(part: &Pattern) -> Result<Counted, NoAnswer> {
    let bits = part.groups.iter().map(|g| bits_of(g.cells.into(), g.weights)).sum();
    let (first, rows) = match bits {
        0..=63 => {
            let (first, rows) = rows::<u64>(part)?;
            let wide = |row: Vec<u64>| row.into_iter().map(u128::from).collect();
            let filled = rows.filled.into_iter().map(wide).collect();
            (first, Numbers::Small(Rows { all: wide(rows.all), filled }))
        }
        64..=127 => {
            let (first, rows) = rows(part)?;
            (first, Numbers::Small(rows))
        }
        _ => {
            let (first, rows) = rows(part)?;
            (first, Numbers::Big(rows))
        }
    };
    Ok(Counted { first, bits, rows })
}
