//! Chance with cycles: bounds, certainty and expected moves against all ways of playing small random
//! games, tried one by one.

use fendle_core::odds::{AimValue, Answers, Value, odds};
use fendle_core::simulate::{Policy, mean_interval, share_interval, simulate};
use fendle_core::table::{Row, Table};
use fendle_core::{Aim, Explored, Limits, NoWatch, Odds, Status, explore};
use rand::{Rng, SeedableRng, rngs::SmallRng};

/// A game written out: for each state its moves, for each move (target, weight, score).
#[derive(Clone, Debug)]
struct Game {
    moves: Vec<Vec<Vec<(usize, u64, i64)>>>,
    goal: Vec<bool>,
    aim: Option<Aim>,
    waiting: bool,
}

impl Game {
    /// The same as a model. Each state is worth ten times its number; states 2k and 2k + 1 differ in a clock only.
    fn table(&self) -> Table {
        let row = |s: usize| {
            let row = Row::new(if self.goal[s] { Status::Goal } else { Status::Running });
            let row = row.worth(10 * s as i64).but_clocks(s as u64 / 2);
            self.moves[s].iter().enumerate().fold(row, |row, (i, m)| {
                row.draws(i as u32, m.iter().map(|&(t, w, score)| (t, Odds::scored(w, score))))
            })
        };
        let table = Table::new((0..self.moves.len()).map(row)).waiting(self.waiting.then_some(0));
        match self.aim {
            Some(aim) => table.aim(aim),
            None => table,
        }
    }
}

fn ask(t: &Game) -> (Explored, Answers) {
    let limits = Limits { threads: 1, ..Limits::default() };
    let found = explore(&t.table(), limits, false, &NoWatch).expect("a start");
    let answers = odds(&t.table(), &found, &limits, &NoWatch).expect("sound and small");
    (found, answers)
}

fn random(rng: &mut SmallRng, states: usize) -> Game {
    let moves = (0..states)
        .map(|_| {
            (0..rng.random_range(0..4))
                .map(|_| {
                    let mut m: Vec<(usize, u64, i64)> = vec![];
                    for _ in 0..rng.random_range(1..4) {
                        let t = rng.random_range(0..states);
                        if m.iter().all(|o| o.0 != t) {
                            m.push((t, rng.random_range(1..5), 0));
                        }
                    }
                    m
                })
                .collect()
        })
        .collect();
    let goal = (0..states).map(|s| s == states - 1).collect();
    Game { moves, goal, aim: None, waiting: false }
}

/// Solves x = a x + b by elimination; `None` when it has no one solution.
fn solve(mut a: Vec<Vec<f64>>, mut b: Vec<f64>) -> Option<Vec<f64>> {
    let n = b.len();
    for i in 0..n {
        let p = (i..n).max_by(|&x, &y| a[x][i].abs().total_cmp(&a[y][i].abs()))?;
        if a[p][i].abs() < 1e-12 {
            return None;
        }
        a.swap(i, p);
        b.swap(i, p);
        for j in 0..n {
            if j != i {
                let f = a[j][i] / a[i][i];
                let row = a[i].clone();
                a[j].iter_mut().zip(row).for_each(|(x, y)| *x -= f * y);
                b[j] -= f * b[i];
            }
        }
    }
    Some((0..n).map(|i| b[i] / a[i][i]).collect())
}

/// For one fixed way of playing: the probability to reach the goal from 0, and the expected moves where that
/// is 1.
fn play(t: &Game, policy: &[usize]) -> (f64, f64) {
    let n = t.moves.len();
    let step = |s: usize| t.moves[s].get(policy[s]).filter(|_| !t.goal[s]);
    // States that can reach the goal at all under this policy.
    let mut can: Vec<bool> = t.goal.clone();
    for _ in 0..n {
        for s in 0..n {
            can[s] |= step(s).is_some_and(|m| m.iter().any(|o| can[o.0]));
        }
    }
    let mut a = vec![vec![0.0; n]; n];
    let (mut b, mut e) = (vec![0.0; n], vec![0.0; n]);
    for s in 0..n {
        a[s][s] = 1.0;
        if t.goal[s] {
            b[s] = 1.0;
        } else if can[s] {
            let m = step(s).expect("it can move");
            let total: u64 = m.iter().map(|o| o.1).sum();
            m.iter().for_each(|o| a[s][o.0] -= o.1 as f64 / total as f64);
            e[s] = 1.0;
        }
    }
    let p = solve(a.clone(), b).expect("a chain with exits");
    let moves = solve(a, e).expect("a chain with exits");
    (p[0], if p[0] > 1.0 - 1e-9 { moves[0] } else { f64::INFINITY })
}

fn policies(t: &Game) -> Vec<Vec<usize>> {
    let mut out = vec![vec![]];
    for m in &t.moves {
        let n = m.len().max(1);
        out = out
            .into_iter()
            .flat_map(|p| {
                (0..n).map(move |k| {
                    let mut q: Vec<usize> = p.clone();
                    q.push(k);
                    q
                })
            })
            .collect();
    }
    out
}

#[test]
fn bounds_hold_what_the_best_of_all_ways_of_playing_gives() {
    let mut rng = SmallRng::seed_from_u64(1);
    let (mut cyclic, mut sure, mut moves, mut between) = (0, 0, 0, 0);
    for _ in 0..400 {
        let states = rng.random_range(3..7);
        let t = random(&mut rng, states);
        let played: Vec<(f64, f64)> = policies(&t).iter().map(|p| play(&t, p)).collect();
        let best = played.iter().map(|p| p.0).fold(0.0, f64::max);
        let least = played.iter().map(|p| p.1).fold(f64::INFINITY, f64::min);
        let (found, a) = ask(&t);
        let win = a.win.expect("a goal");
        assert!(win.low() <= best + 1e-9 && win.high() >= best - 1e-9, "{win:?} {best} {t:?}");
        assert!(win.high() - win.low() < 1e-8, "{win:?} {t:?}");
        assert_eq!(found.counts.goal > 0 && best > 0.0, best > 0.0);
        assert_eq!(a.almost_certain, best > 1.0 - 1e-9, "{best} {t:?}");
        assert!(!a.certain || a.almost_certain);
        cyclic += usize::from(!a.acyclic);
        sure += usize::from(a.almost_certain && !a.certain);
        between += usize::from(best > 0.01 && best < 0.99);
        if let Some(v) = a.moves {
            moves += 1;
            assert!(
                v.low() <= least * (1.0 + 1e-9) + 1e-9 && v.high() >= least * (1.0 - 1e-9) - 1e-9,
                "{v:?} {least} {t:?}"
            );
            assert!(v.high() - v.low() <= 1e-6 * v.high().max(1.0), "{v:?} {t:?}");
        } else {
            assert!(least.is_infinite());
        }
        // What each move is worth: the best of them is worth as much as the start.
        if !a.from_start.is_empty() && !t.goal[0] {
            let top = a.from_start.iter().map(|m| m.win.as_ref().expect("a goal").high()).fold(0.0, f64::max);
            assert!((top - best).abs() < 1e-8);
        }
    }
    assert!(cyclic > 40 && sure > 20 && moves > 60 && between > 60, "{cyclic} {sure} {moves} {between}");
}

#[test]
fn staying_for_ever_is_not_taken_for_winning() {
    // State 0 may wait, or toss a coin: goal or ruin.
    let t = Game {
        moves: vec![vec![vec![(0, 1, 0)], vec![(1, 1, 0), (2, 1, 0)]], vec![], vec![]],
        goal: vec![false, false, true],
        aim: None,
        waiting: false,
    };
    let (found, a) = ask(&t);
    let win = a.win.expect("a goal");
    assert!(win.low() <= 0.5 && win.high() >= 0.5 && win.high() - win.low() < 1e-9, "{win:?}");
    assert_eq!((found.counts.fatal_draws, found.counts.fatal_moves), (1, 0));
    // Two coins that can be tossed again: won with probability 1, and not for certain; 4 tosses.
    let t = Game {
        moves: vec![vec![vec![(0, 3, 0), (1, 1, 0)]], vec![]],
        goal: vec![false, true],
        aim: None,
        waiting: false,
    };
    let (_, a) = ask(&t);
    assert!(a.almost_certain && !a.certain);
    let v = a.moves.expect("won with probability 1");
    assert!(v.low() <= 4.0 && v.high() >= 4.0 && v.high() - v.low() < 1e-6, "{v:?}");
    assert_eq!(a.win, Some(Value::Exact(num_rational::BigRational::from_integer(1.into()))));
}

#[test]
fn aims_are_exact_and_cycles_that_gain_are_unbounded() {
    let line = |aim, score| Game {
        // 0 -> 1 or 2; 1 -> 3; 2 -> 3 or 4.
        moves: vec![
            vec![vec![(1, 1, 5)], vec![(2, 1, score)]],
            vec![vec![(3, 1, 1)]],
            vec![vec![(3, 1, 0), (4, 3, 8)]],
            vec![],
            vec![],
        ],
        goal: vec![false; 5],
        aim: Some(aim),
        waiting: false,
    };
    let best = |aim, score| match ask(&line(aim, score)).1.aim {
        Some(AimValue::Best(v)) => v,
        other => panic!("{other:?}"),
    };
    let whole = |n: i64, d: i64| Value::Exact(num_rational::BigRational::new(n.into(), d.into()));
    assert_eq!(best(Aim::MostScore, 1), whole(7, 1), "1 + 3/4 of 8 beats 5 + 1");
    assert_eq!(best(Aim::MostScore, -1), whole(6, 1));
    assert_eq!(best(Aim::LeastScore, 1), whole(6, 1));
    assert_eq!(best(Aim::Most, 0), whole(150, 4), "states 3 and 4 measure 30 and 40");
    assert_eq!(best(Aim::Least, 0), whole(30, 1));
    let mut round = line(Aim::MostScore, 1);
    round.moves[3] = vec![vec![(0, 1, 0)]];
    round.moves[2] = vec![vec![(3, 1, 0)]];
    assert_eq!(ask(&round).1.aim, Some(AimValue::Unbounded));
    round.aim = Some(Aim::Least);
    // Play never ends: the least that is ever reached.
    assert_eq!(ask(&round).1.aim, Some(AimValue::Best(whole(0, 1))));
}

#[test]
fn waiting_that_changes_only_clocks_is_being_stuck() {
    // 0 -> 2 by a move; 2 and 3 wait for each other for ever; 4 waits until it becomes 6, which is new.
    let t = Game {
        moves: vec![
            vec![vec![(1, 1, 0)], vec![(2, 1, 0)], vec![(4, 1, 0)]],
            vec![vec![(0, 1, 0)]],
            vec![vec![(3, 1, 0)]],
            vec![vec![(2, 1, 0)]],
            vec![vec![(5, 1, 0)]],
            vec![vec![(6, 1, 0)]],
            vec![],
        ],
        goal: vec![false, false, false, false, false, false, true],
        aim: None,
        waiting: true,
    };
    let c = ask(&t).0.counts;
    assert_eq!((c.states, c.stuck, c.winnable, c.goal, c.dead), (7, 2, 4, 1, 0));
    let free = Game { waiting: false, ..t };
    let c = ask(&free).0.counts;
    assert_eq!((c.stuck, c.dead), (0, 2));
}

#[test]
fn simulated_plays_estimate_what_is_known() {
    let t = Game {
        moves: vec![vec![vec![(1, 1, 2), (2, 3, 10)]], vec![], vec![]],
        goal: vec![false, true, false],
        aim: None,
        waiting: false,
    };
    let mut rng = SmallRng::seed_from_u64(9);
    let mut dice = |w: &[u64]| {
        let mut x = rng.random_range(0..w.iter().sum::<u64>());
        w.iter()
            .position(|&w| {
                let hit = x < w;
                x = x.saturating_sub(w);
                hit
            })
            .expect("a weight")
    };
    let e = simulate(&t.table(), Policy::Random, (4000, 10), &mut dice, &NoWatch).expect("sound");
    let (lo, hi) = share_interval(e.won, e.plays);
    assert!(lo < 0.25 && hi > 0.25 && hi - lo < 0.03, "{lo} {hi}");
    let (lo, hi) = mean_interval(e.score.0, e.score.1, e.plays);
    assert!(lo < 8.0 && hi > 8.0 && hi - lo < 0.3, "{lo} {hi}");
    assert_eq!((e.plays, e.moves, e.unfinished), (4000, 4000, 0));
    // A known interval: 8 of 10 (Wilson, by hand).
    let (lo, hi) = share_interval(8, 10);
    assert!((lo - 0.4902).abs() < 1e-3 && (hi - 0.9433).abs() < 1e-3, "{lo} {hi}");
}
