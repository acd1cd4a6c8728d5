//! Chance with cycles: bounds, certainty and expected moves against all ways of playing small random
//! games, tried one by one.

use fendle_core::ahead::Ahead;
use fendle_core::odds::{AimValue, Answers, Fractions, Value, odds, within};
use fendle_core::simulate::{Dice, Policy, mean_interval, share_interval, simulate};
use fendle_core::table::{Row, Table};
use fendle_core::{Aim, Exploration, Explored, Limits, Model, NoWatch, Odds, Status, explore};
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
    let answers = odds(&t.table(), &limits, Fractions::WhereSmall, &NoWatch).expect("sound and small");
    // What both count is the same; edges and the nearest fatal move are counted by exploring alone.
    let counts = Exploration {
        edges: found.counts.edges,
        edges_kept: found.counts.edges_kept,
        first_fatal_depth: found.counts.first_fatal_depth,
        ..answers.counts.clone()
    };
    assert_eq!(counts, found.counts, "{t:?}");
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

/// Dice that fall the same for the same play.
fn luck(play: u64) -> Dice {
    let mut rng = SmallRng::seed_from_u64(play);
    Box::new(move |w: &[u64]| {
        let mut x = rng.random_range(0..w.iter().sum::<u64>());
        let hit = |&w: &u64| {
            let hit = x < w;
            x = x.saturating_sub(w);
            hit
        };
        w.iter().position(hit).expect("a weight")
    })
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
    let Some(AimValue::Unbounded(Some(cycle))) = ask(&round).1.aim else { panic!("it gains for ever") };
    assert_eq!(cycle.states.first(), cycle.states.last());
    assert!(cycle.moves.len() >= 3, "{cycle:?}");
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
    let e = simulate(&t.table(), Policy::Random, (4000, 10, u64::MAX), &luck, 2, &NoWatch).expect("sound");
    let (lo, hi) = share_interval(e.won, e.plays);
    assert!(lo < 0.25 && hi > 0.25 && hi - lo < 0.03, "{lo} {hi}");
    let (lo, hi) = mean_interval(e.score.0, e.score.1, e.plays);
    assert!(lo < 8.0 && hi > 8.0 && hi - lo < 0.3, "{lo} {hi}");
    assert_eq!((e.plays, e.moves, e.unfinished), (4000, 4000, 0));
    // A known interval: 8 of 10 (Wilson, by hand).
    let (lo, hi) = share_interval(8, 10);
    assert!((lo - 0.4902).abs() < 1e-3 && (hi - 0.9433).abs() < 1e-3, "{lo} {hi}");
}

// ---- against linear algebra over fractions ----

type Fraction = num_rational::BigRational;

fn fraction(n: i64, d: i64) -> Fraction {
    Fraction::new(n.into(), d.into())
}

/// Solves a x = b over fractions by elimination; `None` when it has no one solution.
fn solve_exactly(mut a: Vec<Vec<Fraction>>, mut b: Vec<Fraction>) -> Option<Vec<Fraction>> {
    let zero = fraction(0, 1);
    let n = b.len();
    for i in 0..n {
        let p = (i..n).find(|&p| a[p][i] != zero)?;
        a.swap(i, p);
        b.swap(i, p);
        for j in (0..n).filter(|j| *j != i) {
            let f = &a[j][i] / &a[i][i];
            let row = a[i].clone();
            a[j].iter_mut().zip(&row).for_each(|(x, y)| *x -= &f * y);
            let change = &f * &b[i];
            b[j] -= change;
        }
    }
    Some((0..n).map(|i| &b[i] / &a[i][i]).collect())
}

/// One way of playing: which states can get to an end by it, the chain of its steps, and what each step scores in the mean.
struct Chain {
    ends: Vec<bool>,
    /// For each state with a step, its targets with chances.
    steps: Vec<Vec<(usize, Fraction)>>,
    gain: Vec<Fraction>,
}

impl Chain {
    fn new(t: &Game, policy: &[usize]) -> Chain {
        let n = t.moves.len();
        let step = |s: usize| t.moves[s].get(policy[s]).filter(|_| !t.goal[s]);
        let mut steps = vec![vec![]; n];
        let mut gain = vec![fraction(0, 1); n];
        for s in 0..n {
            if let Some(m) = step(s) {
                let total: u64 = m.iter().map(|o| o.1).sum();
                steps[s] = m.iter().map(|o| (o.0, fraction(o.1 as i64, total as i64))).collect();
                let sum: i64 = m.iter().map(|o| o.1 as i64 * o.2).sum();
                gain[s] = fraction(sum, total as i64);
            }
        }
        let mut ends: Vec<bool> = steps.iter().map(Vec::is_empty).collect();
        for _ in 0..n {
            for s in 0..n {
                ends[s] |= steps[s].iter().any(|o| ends[o.0]);
            }
        }
        Chain { ends, steps, gain }
    }

    /// The states that can be reached from one.
    fn reach(&self, from: usize) -> Vec<bool> {
        let mut seen = vec![false; self.steps.len()];
        let mut work = vec![from];
        while let Some(s) = work.pop() {
            if !std::mem::replace(&mut seen[s], true) {
                work.extend(self.steps[s].iter().map(|o| o.0));
            }
        }
        seen
    }

    /// Whether play from a state ends with probability 1.
    fn surely_ends(&self, from: usize) -> bool {
        self.reach(from).iter().zip(&self.ends).all(|(r, e)| !r || *e)
    }

    /// The expected sum of what is gained from state 0 on until play ends with probability 1, with what an end is worth.
    fn sum(&self, gain: &[Fraction], end: impl Fn(usize) -> Fraction) -> Option<Fraction> {
        let states: Vec<usize> = self.reach(0).iter().enumerate().filter(|r| *r.1).map(|r| r.0).collect();
        if !self.surely_ends(0) {
            return None;
        }
        let n = states.len();
        let at = |s: usize| states.iter().position(|t| *t == s).expect("reached");
        let mut a = vec![vec![fraction(0, 1); n]; n];
        let mut b = vec![fraction(0, 1); n];
        for (i, &s) in states.iter().enumerate() {
            a[i][i] = fraction(1, 1);
            if self.steps[s].is_empty() {
                b[i] = end(s);
                continue;
            }
            b[i] = gain[s].clone();
            for (t, p) in &self.steps[s] {
                a[i][at(*t)] -= p;
            }
        }
        Some(solve_exactly(a, b).expect("a chain that ends")[at(0)].clone())
    }

    /// The probability to come from state 0 to one of these.
    fn chance(&self, wanted: &[bool]) -> Fraction {
        let n = self.steps.len();
        let mut can = wanted.to_vec();
        for _ in 0..n {
            for s in 0..n {
                can[s] |= self.steps[s].iter().any(|o| can[o.0]);
            }
        }
        let mut a = vec![vec![fraction(0, 1); n]; n];
        let mut b = vec![fraction(0, 1); n];
        for s in 0..n {
            a[s][s] = fraction(1, 1);
            if wanted[s] {
                b[s] = fraction(1, 1);
            } else if can[s] {
                self.steps[s].iter().for_each(|(t, p)| a[s][*t] -= p);
            }
        }
        solve_exactly(a, b).expect("a chain with exits")[0].clone()
    }

    /// What each set of states gains in the mean, a step, in which play stays for ever, with its states.
    fn rounds(&self) -> Vec<(Vec<usize>, Fraction)> {
        let n = self.steps.len();
        let reach: Vec<Vec<bool>> = (0..n).map(|s| self.reach(s)).collect();
        let mut out: Vec<(Vec<usize>, Fraction)> = vec![];
        for s in (0..n).filter(|s| !self.steps[*s].is_empty()) {
            let set: Vec<usize> = (0..n).filter(|t| reach[s][*t]).collect();
            let closed = set.iter().all(|t| reach[*t][s] && !self.steps[*t].is_empty());
            if !closed || set[0] != s {
                continue;
            }
            // The shares of time: x = x P, summing to 1.
            let m = set.len();
            let at = |s: usize| set.iter().position(|t| *t == s).expect("inside");
            let mut a = vec![vec![fraction(0, 1); m]; m];
            let mut b = vec![fraction(0, 1); m];
            for (i, t) in set.iter().enumerate() {
                a[i][i] -= fraction(1, 1);
                for (u, p) in &self.steps[*t] {
                    a[at(*u)][i] += p;
                }
            }
            a[m - 1] = vec![fraction(1, 1); m];
            b[m - 1] = fraction(1, 1);
            let share = solve_exactly(a, b).expect("one class");
            let mean = set.iter().zip(&share).map(|(s, x)| &self.gain[*s] * x).sum();
            out.push((set, mean));
        }
        out
    }
}

fn exact(v: &Value) -> Option<&Fraction> {
    match v {
        Value::Exact(r) => Some(r),
        Value::Between(..) => None,
    }
}

fn holds(v: &Value, truth: &Fraction) -> bool {
    let float = |x: f64| Fraction::from_float(x).expect("finite");
    match v {
        Value::Exact(r) => r == truth,
        Value::Between(lo, hi) => float(*lo) <= *truth && *truth <= float(*hi),
    }
}

/// The best of all ways of playing that choose by state, by linear algebra over fractions, is what the answers say: as the same
/// fraction nearly always, and else inside the interval.
#[test]
fn chances_and_moves_are_the_fractions_of_the_best_of_all_ways() {
    let mut rng = SmallRng::seed_from_u64(77);
    let (mut fractions, mut cyclic, mut with_moves) = (0, 0, 0);
    for _ in 0..600 {
        let states = rng.random_range(3..7);
        let t = random(&mut rng, states);
        let chains: Vec<Chain> = policies(&t).iter().map(|p| Chain::new(&t, p)).collect();
        let win = chains.iter().map(|c| c.chance(&t.goal)).max().expect("a way of playing");
        let ones = vec![fraction(1, 1); states];
        let sure = chains.iter().filter(|c| c.chance(&t.goal) == ones[0]);
        let least = sure.filter_map(|c| c.sum(&ones, |_| fraction(0, 1))).min();
        let (_, a) = ask(&t);
        let found = a.win.as_ref().expect("a goal");
        assert!(holds(found, &win), "{found:?} {win} {t:?}");
        fractions += usize::from(exact(found).is_some());
        cyclic += usize::from(!a.acyclic);
        assert_eq!(a.moves.is_some(), least.is_some(), "{t:?}");
        if let (Some(found), Some(least)) = (&a.moves, &least) {
            assert!(holds(found, least), "{found:?} {least} {t:?}");
            assert!(exact(found).is_some(), "{found:?} {t:?}");
            with_moves += 1;
        }
        // The same as intervals alone.
        let limits = Limits { threads: 1, ..Limits::default() };
        let b = odds(&t.table(), &limits, Fractions::Never, &NoWatch).expect("sound");
        let wide = b.win.as_ref().expect("a goal");
        assert!(holds(wide, &win) && wide.high() - wide.low() < 1e-9, "{wide:?} {win} {t:?}");
        if let (Some(wide), Some(least)) = (&b.moves, &least) {
            assert!(holds(wide, least) && wide.high() - wide.low() < 1e-6 * wide.high(), "{wide:?} {least}");
        }
    }
    assert!(fractions == 600 && cyclic > 80 && with_moves > 100, "{fractions} {cyclic} {with_moves}");
}

/// The same for scores of either sign, with cycles that gain, cost, or come to nothing; and for what is measured where play
/// ends.
#[test]
fn aims_are_the_fractions_of_the_best_of_all_ways_that_end() {
    let mut rng = SmallRng::seed_from_u64(5);
    let (mut bests, mut endless, mut never, mut unknown, mut cyclic) = (0, 0, 0, 0, 0);
    for case in 0..1500 {
        let states = rng.random_range(3..6);
        let mut t = random(&mut rng, states);
        let spread: i64 = [0, 1, 3][case % 3];
        let drawn = case % 2 == 0;
        for m in t.moves.iter_mut().flatten() {
            if !drawn {
                m.truncate(1);
            }
            for o in m.iter_mut() {
                o.2 = match case % 5 {
                    0 => rng.random_range(0..=spread),
                    1 => -rng.random_range(0..=spread),
                    _ => rng.random_range(-spread..=spread),
                };
            }
        }
        t.aim = Some([Aim::MostScore, Aim::LeastScore, Aim::Most, Aim::Least][case / 3 % 4]);
        let aim = t.aim.expect("one");
        let most = aim.wants_most();
        let (_, a) = ask(&t);
        let chains: Vec<Chain> = policies(&t).iter().map(|p| Chain::new(&t, p)).collect();
        let n = t.moves.len();
        let zero = fraction(0, 1);
        let nothing = vec![zero.clone(); n];
        let value = |c: &Chain| match aim.is_score() {
            true => c.sum(&c.gain, |_| fraction(0, 1)),
            false => c.sum(&nothing, |s| fraction(10 * s as i64, 1)),
        };
        let values = chains.iter().filter_map(value);
        let best = if most { values.max() } else { values.min() };
        // States from which some way of playing surely ends.
        let ends: Vec<bool> = (0..n).map(|s| chains.iter().any(|c| c.surely_ends(s))).collect();
        // States that can be reached without leaving those.
        let mut seen = vec![false; n];
        let mut work = if ends[0] { vec![0] } else { vec![] };
        while let Some(s) = work.pop() {
            if !std::mem::replace(&mut seen[s], true) && !t.goal[s] {
                let safe = t.moves[s].iter().filter(|m| m.iter().all(|o| ends[o.0]));
                work.extend(safe.flatten().map(|o| o.0));
            }
        }
        let rounds: Vec<Fraction> = chains
            .iter()
            .flat_map(Chain::rounds)
            .filter(|(set, _)| set.iter().all(|s| seen[*s]))
            .map(|r| r.1)
            .collect();
        let better = |f: &Fraction| if most { *f > zero } else { *f < zero };
        let gains = aim.is_score() && rounds.iter().any(better);
        cyclic += usize::from(!rounds.is_empty());
        match (&a.aim, best) {
            (Some(AimValue::Best(v)), Some(best)) => {
                assert!(!gains, "{v:?} {t:?}");
                assert!(holds(v, &best), "{v:?} {best} {t:?}");
                assert!(exact(v).is_some(), "{v:?} {t:?}");
                bests += 1;
                let limits = Limits { threads: 1, ..Limits::default() };
                let b = odds(&t.table(), &limits, Fractions::Never, &NoWatch).expect("sound");
                let Some(AimValue::Best(wide)) = &b.aim else { panic!("{:?}", b.aim) };
                assert!(holds(wide, &best), "{wide:?} {best} {t:?}");
                assert!(wide.high() - wide.low() < 1e-5 * (1.0 + wide.high().abs()), "{wide:?}");
                if let Some(play) = &a.aim_play {
                    assert!(!play.states.is_empty());
                }
            }
            (Some(AimValue::Unbounded(_)), Some(_)) => {
                assert!(gains, "{t:?}");
                endless += 1;
            }
            (Some(AimValue::Unknown(_)), Some(_)) => {
                // Rounds that come to nothing in the mean, by luck.
                assert!(drawn && aim.is_score() && !gains && rounds.contains(&zero), "{t:?}");
                unknown += 1;
            }
            (Some(AimValue::NeverEnds | AimValue::Unknown(_)), None) => never += 1,
            // Nothing ends, and it gains for ever; or what is measured is the best that is ever reached.
            (Some(AimValue::Unbounded(_) | AimValue::Best(_)), None) => {
                assert!(chains.iter().all(|c| !c.surely_ends(0)));
                never += 1;
            }
            other => panic!("{other:?} {t:?}"),
        }
    }
    let counts = (bests, endless, never, unknown, cyclic);
    assert!(bests > 800 && endless > 60 && never > 30 && cyclic > 400 && unknown < 30, "{counts:?}");
}

/// A line of three: the cheapest way is not to go round for nothing; and where no play ends that is the answer.
#[test]
fn aims_over_cycles_count_the_plays_that_end() {
    let line = |forward: i64, aim| Game {
        moves: vec![vec![vec![(1, 1, forward)]], vec![vec![(2, 1, forward)], vec![(0, 1, 0)]], vec![]],
        goal: vec![false, false, true],
        aim: Some(aim),
        waiting: false,
    };
    let whole = |n: i64| Some(AimValue::Best(Value::Exact(fraction(n, 1))));
    let a = ask(&line(1, Aim::LeastScore)).1;
    assert_eq!(a.aim, whole(2));
    assert_eq!(a.aim_play.expect("a play").moves.len(), 2);
    assert_eq!(ask(&line(-1, Aim::MostScore)).1.aim, whole(-2));
    assert!(matches!(ask(&line(1, Aim::MostScore)).1.aim, Some(AimValue::Unbounded(Some(_)))));
    let mut round = line(1, Aim::LeastScore);
    round.moves[1].remove(0);
    assert_eq!(ask(&round).1.aim, Some(AimValue::NeverEnds));
}

/// What can be had within k moves, from a state, by trying everything.
struct Near {
    win: Fraction,
    ruin: Fraction,
    sure: bool,
    forced: bool,
}

fn near(t: &Game, s: usize, k: u32) -> Near {
    let yes = |b: bool| fraction(b.into(), 1);
    let stuck = t.moves[s].is_empty() && !t.goal[s];
    if t.goal[s] || stuck || k == 0 {
        return Near { win: yes(t.goal[s]), ruin: yes(stuck), sure: t.goal[s], forced: stuck };
    }
    let mut out = Near { win: fraction(0, 1), ruin: fraction(1, 1), sure: false, forced: true };
    for m in &t.moves[s] {
        let total: u64 = m.iter().map(|o| o.1).sum();
        let behind: Vec<(Near, Fraction)> =
            m.iter().map(|o| (near(t, o.0, k - 1), fraction(o.1 as i64, total as i64))).collect();
        out.win = out.win.max(behind.iter().map(|(n, p)| &n.win * p).sum());
        out.ruin = out.ruin.min(behind.iter().map(|(n, p)| &n.ruin * p).sum());
        out.sure |= behind.iter().all(|(n, _)| n.sure);
        out.forced &= behind.iter().any(|(n, _)| n.forced);
    }
    out
}

/// The next moves, counted down over what they reach, against everything tried.
#[test]
fn the_next_moves_bring_what_trying_everything_says() {
    let mut rng = SmallRng::seed_from_u64(31);
    let (mut sure, mut forced, mut between) = (0, 0, 0);
    for _ in 0..400 {
        let states = rng.random_range(3..9);
        let t = random(&mut rng, states);
        let limits = Limits { threads: 1, ..Limits::default() };
        for k in 1..=5 {
            let found = within(&t.table(), k, &limits, &NoWatch).expect("small and sound");
            let truth = near(&t, 0, k);
            let win = found.win.as_ref().expect("a goal");
            assert!(holds(win, &truth.win) && win.high() - win.low() < 1e-12, "{win:?} {} {t:?}", truth.win);
            assert!(holds(&found.ruin, &truth.ruin), "{:?} {} {t:?}", found.ruin, truth.ruin);
            let by = |test: &dyn Fn(Near) -> bool| (0..=k).find(|j| test(near(&t, 0, *j)));
            assert_eq!(found.sure_win, by(&|n| n.sure), "{t:?}");
            assert_eq!(found.forced_ruin, by(&|n| n.forced), "{t:?}");
            sure += usize::from(found.sure_win.is_some());
            forced += usize::from(found.forced_ruin.is_some());
            between += usize::from(win.low() > 0.01 && win.high() < 0.99);
            let (wins, ruins) = (found.from_start.iter().map(|m| m.win.low()), found.from_start.iter());
            assert!(t.goal[0] || t.moves[0].is_empty() || wins.fold(0.0, f64::max) == win.low());
            assert!(ruins.map(|m| m.ruin.low()).fold(1.0, f64::min) >= found.ruin.low());
        }
    }
    assert!(sure > 100 && forced > 50 && between > 200, "{sure} {forced} {between}");
}

/// With room for all of a small game, look-ahead plays the best move; and played games win as often as the best way does.
#[test]
fn look_ahead_plays_the_best_move_where_it_sees_the_end() {
    let mut rng = SmallRng::seed_from_u64(12);
    let mut told_apart = 0;
    for case in 0..300 {
        let states = rng.random_range(4..9);
        let mut t = random(&mut rng, states);
        // Without cycles: moves lead to later states.
        for (s, moves) in t.moves.iter_mut().enumerate() {
            moves.iter_mut().for_each(|m| m.retain(|o| o.0 > s));
            moves.retain(|m| !m.is_empty());
        }
        if t.moves[0].is_empty() {
            continue;
        }
        let (_, a) = ask(&t);
        let best = a.win.as_ref().expect("a goal").clone();
        let table = t.table();
        let start = table.starts().expect("a start")[0].state.clone();
        let mut player = Ahead::new(&table, 1 << 20, &NoWatch);
        let chosen = player.choose(&start).expect("sound").expect("a move");
        let worth = a.from_start.iter().find(|m| m.of == chosen).and_then(|m| m.win.clone());
        assert_eq!(worth.as_ref(), Some(&best), "case {case}: {t:?}");
        told_apart += usize::from(a.from_start.iter().any(|m| m.win.as_ref() != Some(&best)));
        if case % 10 == 0 {
            let e = simulate(&table, Policy::Ahead(1 << 20), (2000, 100, u64::MAX), &luck, 2, &NoWatch);
            let e = e.expect("sound");
            // Ten times the width of a 95 % interval would be a miracle.
            let (share, p) = (e.won as f64 / e.plays as f64, best.middle());
            assert!((share - p).abs() < 0.08, "{share} {p} {t:?}");
        }
    }
    assert!(told_apart > 60, "{told_apart}");
}
