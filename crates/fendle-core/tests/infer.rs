//! Systems of clues at random, with weights, ranges and coefficients, against all fillings written out.

use fendle_core::infer::{Clue, NoAnswer, System, fraction, most_disjoint};
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
