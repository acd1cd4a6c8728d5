//! Systems of clues at random, with weights, ranges and coefficients, against all fillings written out.

use fendle_core::infer::{Clue, NoAnswer, Reckoner, System, fraction, most_disjoint};
use num_bigint::BigUint;
use num_rational::BigRational;
use rand::{Rng, SeedableRng, rngs::SmallRng};

fn holds(s: &System, cells: &[bool]) -> bool {
    let fixed = s.fixed.iter().zip(cells).all(|(f, c)| f.is_none_or(|f| f == *c));
    let sum = |c: &Clue| {
        c.cells.iter().filter(|(x, _)| cells[*x as usize]).map(|(_, k)| i64::from(*k)).sum::<i64>()
    };
    fixed && s.clues.iter().all(|c| (c.lo..=c.hi).contains(&sum(c)))
}

fn weight(s: &System, cells: &[bool]) -> u128 {
    (s.weights.iter().zip(cells).zip(&s.fixed))
        .filter(|(_, f)| f.is_none())
        .map(|((w, c), _)| u128::from(if *c { w.0 } else { w.1 }))
        .product()
}

fn random_system(rng: &mut SmallRng) -> System {
    let n = rng.random_range(1..=10usize);
    let mut s = System::new(n);
    for w in &mut s.weights {
        *w = (rng.random_range(1..=3), rng.random_range(1..=3));
    }
    for f in &mut s.fixed {
        if rng.random_bool(0.15) {
            *f = Some(rng.random_bool(0.5));
        }
    }
    let truth: Vec<bool> = s.fixed.iter().map(|f| f.unwrap_or_else(|| rng.random_bool(0.4))).collect();
    for _ in 0..rng.random_range(0..=5) {
        let signed = rng.random_bool(0.2);
        let mut cells: Vec<(u32, i32)> = vec![];
        for c in 0..n as u32 {
            let k = if signed { rng.random_range(-2..=2) } else { 1 };
            if rng.random_bool(0.4) && k != 0 {
                cells.push((c, k));
            }
        }
        let sum: i64 = cells.iter().filter(|c| truth[c.0 as usize]).map(|c| i64::from(c.1)).sum();
        s.clues.push(Clue { cells, lo: sum - rng.random_range(0..=1), hi: sum + rng.random_range(0..=1) });
    }
    if rng.random_bool(0.6) {
        s.total = Some(s.clues.len());
        s.clues.push(Clue::exactly(0..n as u32, truth.iter().filter(|t| **t).count() as i64));
    }
    s
}

#[test]
fn weights_and_certainties_are_those_of_all_fillings() {
    let mut rng = SmallRng::seed_from_u64(9);
    for round in 0..600 {
        let s = random_system(&mut rng);
        let n = s.weights.len();
        let all: Vec<Vec<bool>> = (0..1u32 << n)
            .map(|m| (0..n).map(|i| m >> i & 1 == 1).collect::<Vec<bool>>())
            .filter(|c| holds(&s, c))
            .collect();
        let total: u128 = all.iter().map(|c| weight(&s, c)).sum();
        let found = s.infer().expect("the truth agrees");
        assert_eq!(found.all.to_string(), total.to_string(), "{round} {s:?}");
        for c in 0..n {
            let filled: u128 = all.iter().filter(|l| l[c]).map(|l| weight(&s, l)).sum();
            assert_eq!(found.chance(c as u32), fraction(filled, total), "{round} cell {c} {s:?}");
        }
        let list = s.solutions(1 << 12).expect("few");
        assert_eq!(list.len(), all.len(), "{round}");
        assert!(list.iter().all(|(l, w)| holds(&s, l) && u128::from(*w) == weight(&s, l)), "{round}");
        // What is proved follows from those clues alone, by trying all fillings again.
        let prover = s.prover();
        for c in (0..n as u32).filter(|&c| s.fixed[c as usize].is_none()) {
            let Some(v) = found.certain(c) else { continue };
            let proof = prover.proof(c, v, &prover.clues_for(c, v)).expect("it is certain");
            let mut fewer = s.clone();
            fewer.clues = proof.clues.iter().map(|&i| s.clues[i].clone()).collect();
            fewer.total = None;
            let follows = (0..1u32 << n)
                .map(|m| (0..n).map(|i| m >> i & 1 == 1).collect::<Vec<bool>>())
                .filter(|l| holds(&fewer, l))
                .all(|l| l[c as usize] == v);
            assert!(follows, "{round} cell {c} {proof:?} {s:?}");
        }
    }
}

#[test]
fn a_contradiction_is_said() {
    let mut s = System::new(3);
    s.clues.push(Clue::exactly(0..2, 2));
    s.clues.push(Clue::exactly(1..3, 0));
    assert_eq!(s.infer().err(), Some(NoAnswer::Contradiction));
    assert_eq!(s.solutions(10), Some(vec![]));
    s.clues.truncate(1);
    s.fixed[0] = Some(false);
    assert_eq!(s.infer().err(), Some(NoAnswer::Contradiction));
}

#[test]
fn joint_weights_are_those_of_all_fillings() {
    let mut s = System::new(6);
    s.clues.push(Clue::exactly(0..4, 2));
    s.total = Some(1);
    s.clues.push(Clue::exactly(0..6, 3));
    // Two of the first four, one of the last two; with the first and not the second: 2 * 2.
    assert_eq!(s.infer().expect("layouts").all.to_string(), "12");
    assert_eq!(s.weight_with(&[(0, true), (1, false)]).expect("narrow").to_string(), "4");
    assert_eq!(s.weight_with(&[(4, true), (5, true)]).expect("narrow").to_string(), "0");
}

#[test]
fn the_most_disjoint_sets() {
    let sets = [vec![1, 2], vec![2, 3], vec![3, 4], vec![5], vec![1, 5]];
    assert_eq!(most_disjoint(&sets), (3, true));
    assert_eq!(most_disjoint(&[]), (0, true));
}

#[test]
fn what_is_kept_from_one_look_to_the_next_changes_no_answer() {
    let mut rng = SmallRng::seed_from_u64(10);
    for round in 0..300 {
        let whole = random_system(&mut rng);
        let mut reckoner = Reckoner::default();
        let mut now = System { clues: vec![], fixed: vec![None; whole.fixed.len()], ..whole.clone() };
        now.total = None;
        for k in 0..=whole.clues.len() {
            // The total is known from the first look or from none.
            if k == 0 && whole.total.is_some() {
                now.total = Some(0);
                now.clues.push(whole.clues[whole.clues.len() - 1].clone());
            }
            assert_eq!(reckoner.infer(&now), now.infer(), "{round} {now:?}");
            if let Some(clue) = whole.clues.get(k) {
                now.clues.push(clue.clone());
            }
            if let Some(f) = whole.fixed.get(k) {
                now.fixed[k] = *f;
            }
        }
        // Something else altogether, and back.
        let other = random_system(&mut rng);
        assert_eq!(reckoner.infer(&other), other.infer(), "{round} {other:?}");
        assert_eq!(reckoner.infer(&now), now.infer(), "{round} {now:?}");
    }
}

/// The number of ways to choose k of n, by Pascal's triangle.
fn choose(n: usize, k: usize) -> BigUint {
    let mut row = vec![BigUint::from(1u32)];
    for _ in 0..n {
        let mut next = vec![BigUint::from(1u32)];
        next.extend(row.windows(2).map(|w| &w[0] + &w[1]));
        next.push(BigUint::from(1u32));
        row = next;
    }
    row.get(k).cloned().unwrap_or_default()
}

#[test]
fn counts_of_any_size_are_exact() {
    // Two clues that share some cells, and a sea that the total fills up; filled cells weigh so much.
    for (own, shared, sea, weight) in
        [(5, 4, 6, 1), (20, 12, 30, 1), (40, 30, 99, 1), (90, 60, 200, 1), (30, 25, 40, 7)]
    {
        let cells = 2 * own + shared + sea;
        let (a, b, all) = (own / 2 + 2, own / 2 + 1, own + sea / 3);
        let mut s = System::new(cells);
        s.weights = vec![(weight, 1); cells];
        s.clues.push(Clue::exactly(0..(own + shared) as u32, a as i64));
        s.clues.push(Clue::exactly(own as u32..(2 * own + shared) as u32, b as i64));
        s.total = Some(2);
        s.clues.push(Clue::exactly(0..cells as u32, all as i64));
        let ways = |shared_ways: &dyn Fn(usize) -> BigUint| {
            let mut sum = BigUint::default();
            for j in 0..=shared.min(a).min(b) {
                let rest = all - (a - j) - (b - j) - j;
                sum += shared_ways(j) * choose(own, a - j) * choose(own, b - j) * choose(sea, rest);
            }
            sum * BigUint::from(weight).pow(all as u32)
        };
        let total = ways(&|j| choose(shared, j));
        let filled = ways(&|j| if j == 0 { BigUint::default() } else { choose(shared - 1, j - 1) });
        let found = s.infer().expect("layouts");
        assert_eq!(found.all, total);
        assert_eq!(found.chance(own as u32), BigRational::new(filled.clone().into(), total.clone().into()));
        // The chances of all cells add up to the number that are filled.
        let sum: BigRational = (0..cells as u32).map(|c| found.chance(c)).sum();
        assert_eq!(sum, fraction(all as u128, 1));
        let about = found.about(own as u32);
        let exact = fendle_core::infer::about(&found.chance(own as u32));
        assert!((about - exact).abs() < 1e-12, "{about} {exact}");
    }
}

#[test]
fn layouts_are_drawn_as_often_as_they_weigh() {
    let mut rng = SmallRng::seed_from_u64(11);
    for round in 0..20 {
        let s = random_system(&mut rng);
        let sampler = s.sampler().expect("the truth agrees");
        let found = s.infer().expect("the truth agrees");
        let n = s.weights.len();
        let mut filled = vec![0u32; n];
        let plays = 4000;
        for _ in 0..plays {
            let layout = sampler.draw(&mut || rng.random::<f64>());
            assert!(holds(&s, &layout), "{round} {layout:?} {s:?}");
            layout.iter().zip(&mut filled).for_each(|(l, f)| *f += u32::from(*l));
        }
        for (c, f) in filled.into_iter().enumerate() {
            let share = f64::from(f) / f64::from(plays);
            assert!((share - found.about(c as u32)).abs() < 0.05, "{round} cell {c}: {share} {s:?}");
        }
    }
}
