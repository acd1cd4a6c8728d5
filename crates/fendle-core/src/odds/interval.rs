//! Intervals of doubles that surely hold a value: every operation rounds outward.

/// At least the first, at most the second.
pub(super) type Bounds = (f64, f64);

/// Nothing is known.
pub(super) const ANY: Bounds = (f64::NEG_INFINITY, f64::INFINITY);

/// The sum of two numbers and whether the true sum is less (-1), the same (0) or more (1). Source: D. E. Knuth, *The Art of
/// Computer Programming* 2, 4.2.2, theorem B.
#[inline]
fn two_sum(a: f64, b: f64) -> (f64, f64) {
    let s = a + b;
    if !s.is_finite() {
        return (s, 0.0);
    }
    let t = s - a;
    (s, (a - (s - t)) + (b - t))
}

/// At most the sum.
#[inline]
pub(super) fn add_down(a: f64, b: f64) -> f64 {
    let (s, rest) = two_sum(a, b);
    if rest < 0.0 { s.next_down() } else { s }
}

/// At least the sum.
#[inline]
pub(super) fn add_up(a: f64, b: f64) -> f64 {
    let (s, rest) = two_sum(a, b);
    if rest > 0.0 { s.next_up() } else { s }
}

/// A whole number as bounds.
#[inline]
pub(super) fn whole(n: i64) -> Bounds {
    let x = n as f64;
    if n.unsigned_abs() <= 1 << 53 { (x, x) } else { (x.next_down(), x.next_up()) }
}

/// A whole number and bounds, added.
#[inline]
pub(super) fn plus(n: i64, x: Bounds) -> Bounds {
    if n == 0 {
        return x;
    }
    let n = whole(n);
    (add_down(n.0, x.0), add_up(n.1, x.1))
}

/// The weighted mean of values, with `sum` added to the weighted sum. Weights are not all 0.
///
/// With n values the rounding of the sum is at most `(n + 4) u` of the sum of the magnitudes, u being half the distance from 1
/// to the next double (Higham, *Accuracy and Stability of Numerical Algorithms*, 2002, 3.1).
#[inline]
pub(super) fn mean(parts: impl Iterator<Item = (u64, Bounds)>, sum: f64) -> Bounds {
    let (mut lo, mut hi, mut great) = (sum, sum, sum.abs());
    let (mut total, mut n) = (0.0f64, 0u32);
    let mut only = (0.0, 0.0);
    for (weight, (a, b)) in parts {
        let w = weight as f64;
        lo += w * a;
        hi += w * b;
        great += w * a.abs().max(b.abs());
        total += w;
        n += 1;
        only = (a, b);
    }
    if n == 1 && sum == 0.0 {
        return only;
    }
    if !great.is_finite() {
        let end = |x: f64, bad: f64| if x.is_nan() { bad } else { x };
        return (end(lo, f64::NEG_INFINITY), end(hi, f64::INFINITY));
    }
    if great == 0.0 {
        return (0.0, 0.0);
    }
    // The total has an error of its own, and so has the division: together less than this.
    let slack = f64::from(2 * n + 8) * (f64::EPSILON / 2.0) * great / total;
    ((lo / total - slack).next_down(), (hi / total + slack).next_up())
}

#[cfg(test)]
mod tests {
    use super::*;
    use num_rational::BigRational;

    /// The true mean, by fractions, lies inside; and the bounds are near each other.
    #[test]
    fn means_are_rounded_outward() {
        let mut seed = 5u64;
        let mut next = |n: u64| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) % n
        };
        let exact = |x: f64| BigRational::from_float(x).expect("finite");
        for case in 0..3000 {
            let n = 1 + next(12);
            let sign = |x: f64, odd: bool| if odd && case % 2 == 1 { -x } else { x };
            let parts: Vec<(u64, Bounds)> = (0..n)
                .map(|i| {
                    let v = sign(next(1 << 30) as f64 / 3.0 * 10f64.powi(next(20) as i32 - 10), i % 3 == 0);
                    (1 + next(1 << 20), (v, v))
                })
                .collect();
            let sum = if case % 3 == 0 { sign(next(1000) as f64, true) } else { 0.0 };
            let total: u64 = parts.iter().map(|p| p.0).sum();
            let true_sum = parts
                .iter()
                .fold(exact(sum), |s, (w, v)| s + exact(v.0) * BigRational::from_integer((*w).into()));
            let truth = true_sum / BigRational::from_integer(total.into());
            let (lo, hi) = mean(parts.iter().copied(), sum);
            assert!(exact(lo) <= truth && truth <= exact(hi), "{lo} {hi} {truth}");
            let great = parts.iter().map(|p| p.1.1.abs()).fold(sum.abs(), f64::max);
            assert!(hi - lo <= 1e-13 * great.max(f64::MIN_POSITIVE));
        }
    }

    #[test]
    fn sums_are_rounded_outward_and_whole_numbers_stay_whole() {
        assert_eq!(plus(3, (4.0, 4.0)), (7.0, 7.0));
        let (lo, hi) = plus(1, (1e-20, 1e-20));
        assert!(lo == 1.0 && hi > 1.0);
        assert_eq!(plus(-1, (f64::NEG_INFINITY, 0.5)), (f64::NEG_INFINITY, -0.5));
        assert_eq!(whole(1 << 53), ((1u64 << 53) as f64, (1u64 << 53) as f64));
        let n = (1 << 53) + 1;
        let (lo, hi) = whole(n);
        assert!((lo as i64) < n && (hi as i64) > n);
    }
}
