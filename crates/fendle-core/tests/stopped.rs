//! Whoever stops a question, at whatever moment: what is told then is true of the whole.

use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

use fendle_core::count::solutions;
use fendle_core::graph::Distances;
use fendle_core::odds::{AimValue, Fractions, MoveOdds, NoOdds, odds, within};
use fendle_core::shape::{Likeness, likeness};
use fendle_core::simulate::{Dice, MOVE_WORK, Policy, simulate};
use fendle_core::structure::{NotSeen, structure};
use fendle_core::table::{Row, Table};
use fendle_core::{
    Aim, Class, Explored, Limit, Limits, Model, MoveId, NoWatch, Odds, Progress, Status, Verdict, Watch,
    explore, solve,
};
use rand::{Rng, SeedableRng, rngs::SmallRng};

use crate::games::Game;
use crate::twins::{Board, Slide};

/// Stops when it was asked so often, and lets whoever wraps up ask so often.
struct Until {
    looks: AtomicU64,
    at: u64,
    wraps: AtomicU64,
    wraps_at: u64,
}

impl Until {
    fn new(at: u64, wraps_at: u64) -> Until {
        Until { looks: AtomicU64::new(0), at, wraps: AtomicU64::new(0), wraps_at }
    }

    /// How often a question that is not stopped asks.
    fn count(ask: impl FnOnce(&dyn Watch)) -> u64 {
        let never = Until::new(u64::MAX, u64::MAX);
        ask(&never);
        never.looks.load(Relaxed)
    }
}

impl Watch for Until {
    fn look(&self, _: &Progress) -> Option<Limit> {
        (self.looks.fetch_add(1, Relaxed) >= self.at).then_some(Limit::Time)
    }
    fn wrap_up(&self, _: &Progress) -> Option<Limit> {
        (self.wraps.fetch_add(1, Relaxed) >= self.wraps_at).then_some(Limit::Time)
    }
}

/// Calls `ask` with watches that stop at each moment, or at some of them where there are many. Gives how often it was asked.
fn each_stop(looks: u64, mut ask: impl FnMut(&dyn Watch)) -> usize {
    let step = (looks / 40).max(1);
    let stops: Vec<u64> = (0..=looks).step_by(step as usize).collect();
    for at in &stops {
        for wraps in [0, 1, u64::MAX] {
            ask(&Until::new(*at, wraps));
        }
    }
    3 * stops.len()
}

fn one_thread() -> Limits {
    Limits { threads: 1, ..Limits::default() }
}

fn games(seeds: std::ops::Range<u64>, draws: bool) -> impl Iterator<Item = Game> {
    seeds.map(move |seed| {
        let mut rng = SmallRng::seed_from_u64(seed);
        let states = rng.random_range(3..12);
        Game::any(&mut rng, states, draws)
    })
}

/// The counts add up, every class and depth that is told is the true one, and less is told than there is.
fn tells_the_truth(game: &Game, found: &Explored) {
    let (classes, depths) = (game.classes(), game.depths());
    let (sure, almost) = (game.sure(), game.almost_sure());
    let c = &found.counts;
    assert_eq!(c.goal + c.lost + c.over + c.stuck + c.dead + c.winnable + c.free + c.open, c.states);
    assert_eq!(c.complete, c.limit.is_none(), "{game:?}");
    assert!(!c.complete || c.open == 0, "{game:?}");
    for id in found.space.ids() {
        let s = found.space.state(id)[0] as usize;
        assert_eq!(Some(found.space.depth_of(id)), depths[s], "{s} of {game:?}");
        let class = found.space.class(id);
        assert!(class == classes[s] || class == Class::Open, "{s}: {class:?}, {:?} in {game:?}", classes[s]);
        assert!(class != Class::Open || c.limit.is_some(), "{game:?}");
        assert!(!found.space.is_certain(id) || sure[s].is_some(), "{s} of {game:?}");
        assert!(!found.space.is_almost_certain(id) || almost[s], "{s} of {game:?}");
    }
    let (mut moves, mut draws) = (0, 0);
    for s in (0..game.len()).filter(|s| depths[*s].is_some() && classes[*s] == Class::Winnable) {
        for (_, to) in game.open(s) {
            let bad = to.iter().filter(|o| classes[o.0].is_bad()).count();
            moves += u64::from(bad == to.len());
            draws += if bad == to.len() { 0 } else { bad as u64 };
        }
    }
    assert!(c.fatal_moves <= moves && c.fatal_draws <= draws, "{moves} {draws}: {c:?} {game:?}");
    assert!(!c.complete || (c.fatal_moves, c.fatal_draws) == (moves, draws), "{c:?} {game:?}");
    let nearest = (0..game.len()).filter(|s| game.status[*s] == Status::Goal).filter_map(|s| depths[s]).min();
    assert!(c.shortest.is_none() || c.shortest == nearest, "{game:?}");
    assert!(!c.complete || c.shortest == nearest, "{game:?}");
}

#[test]
fn exploring_tells_the_truth_whenever_it_is_stopped() {
    let mut cut = 0;
    for game in games(0..150, true).chain(games(150..250, false)) {
        let table = game.table();
        let ask = |limits: Limits, watch: &dyn Watch| {
            let found = explore(&table, limits, false, watch).expect("a start");
            tells_the_truth(&game, &found);
            found
        };
        let looks = Until::count(|w| {
            assert!(ask(one_thread(), w).counts.complete);
        });
        each_stop(looks, |w| cut += usize::from(ask(one_thread(), w).counts.limit.is_some()));
        for most in 1..game.len() as u64 {
            let found = ask(Limits { max_states: most, ..one_thread() }, &NoWatch);
            assert!(found.counts.states <= most, "{most}: {game:?}");
            cut += usize::from(found.counts.limit.is_some());
        }
    }
    assert!(cut > 1_000, "{cut}");
}

#[test]
fn distances_are_the_true_ones_or_none() {
    let (mut told, mut kept_back) = (0, 0);
    for game in games(300..420, true) {
        let table = game.table();
        let classes = game.classes();
        let to_goal = game.far(|s| classes[s] == Class::Goal);
        let to_end = game.far(|s| matches!(classes[s], Class::Lost | Class::Over | Class::Stuck));
        for most in 1..=game.len() as u64 {
            let limits = Limits { max_states: most, ..one_thread() };
            let found = explore(&table, limits, false, &NoWatch).expect("a start");
            let looks = Until::count(|w| drop(Distances::in_space(&found.space, w)));
            let mut check = |w: &dyn Watch| {
                let Ok(far) = Distances::in_space(&found.space, w) else { return };
                for id in found.space.ids() {
                    let s = found.space.state(id)[0] as usize;
                    let truth = if classes[s] == Class::Winnable { to_goal[s] } else { to_end[s] };
                    let truth = if classes[s] == Class::Goal { Some(0) } else { truth };
                    match far.get(id) {
                        Some(d) if found.space.class(id) != Class::Open => {
                            assert_eq!(Some(d), truth, "{s} within {most} states: {game:?}");
                            told += 1;
                        }
                        _ => kept_back += usize::from(truth.is_some()),
                    }
                }
            };
            check(&NoWatch);
            each_stop(looks, check);
        }
    }
    assert!(told > 1_000 && kept_back > 1_000, "{told} {kept_back}");
}

#[test]
fn solving_claims_nothing_that_is_false_whenever_it_is_stopped() {
    let mut kinds = [0; 3];
    for game in games(500..700, true) {
        let table = game.table();
        let depths = game.depths();
        let nearest =
            (0..game.len()).filter(|s| game.status[*s] == Status::Goal).filter_map(|s| depths[s]).min();
        let mut check = |limits: Limits, watch: &dyn Watch| {
            let solved = solve(&table, limits, watch).expect("a start");
            assert!(nearest.is_none_or(|n| solved.least <= n), "{} of {nearest:?}: {game:?}", solved.least);
            match solved.verdict {
                Verdict::Solvable(route) => {
                    assert_eq!(Some(route.moves.len() as u32), nearest, "{game:?}");
                    for (of, pair) in route.moves.iter().zip(route.states.windows(2)) {
                        let made = game.open(pair[0][0] as usize).iter().find(|m| m.0 == of.0);
                        let to = &made.unwrap_or_else(|| panic!("no move {of:?}: {game:?}")).1;
                        assert!(to.iter().any(|o| o.0 as u64 == pair[1][0]), "{game:?}");
                    }
                    kinds[0] += 1;
                }
                Verdict::Unsolvable => {
                    assert_eq!(nearest, None, "{game:?}");
                    kinds[1] += 1;
                }
                Verdict::Undecided(_) => kinds[2] += 1,
                Verdict::Faulted(fault) => panic!("{fault:?}: {game:?}"),
            }
        };
        let looks = Until::count(|w| check(one_thread(), w));
        each_stop(looks, |w| check(one_thread(), w));
        (1..game.len() as u64).for_each(|most| check(Limits { max_states: most, ..one_thread() }, &NoWatch));
    }
    assert!(kinds.iter().all(|k| *k > 200), "{kinds:?}");
}

#[test]
fn odds_hold_the_truth_whenever_they_are_stopped() {
    let (mut wide, mut narrow, mut none) = (0, 0, 0);
    for game in games(800..860, true) {
        let table = game.table();
        let (win, sure, almost) = (game.win(), game.sure(), game.almost_sure());
        let all: u64 = game.starts.iter().map(|s| s.1).sum();
        let truth = game.starts.iter().map(|s| s.1 as f64 * win[s.0]).sum::<f64>() / all as f64;
        let mut check =
            |limits: Limits, watch: &dyn Watch| match odds(&table, &limits, Fractions::Never, watch) {
                Ok(a) => {
                    let told = a.win.expect("a goal");
                    let holds = told.low() <= truth + 1e-7 && truth - 1e-7 <= told.high();
                    assert!(holds, "{told:?} and {truth}: {game:?}");
                    assert!(!a.certain || game.starts.iter().all(|s| sure[s.0].is_some()), "{game:?}");
                    assert!(!a.almost_certain || game.starts.iter().all(|s| almost[s.0]), "{game:?}");
                    for m in &a.from_start {
                        let own =
                            game.open(game.starts[0].0).iter().find(|own| own.0 == m.of.0).expect("its move");
                        let truth = crate::games::mean(&own.1, &win);
                        let told = m.win.as_ref().expect("a goal");
                        let holds = told.low() <= truth + 1e-7 && truth - 1e-7 <= told.high();
                        assert!(holds, "{m:?} and {truth}: {game:?}");
                    }
                    let is_wide = told.high() - told.low() > 1e-6;
                    assert!(!is_wide || a.counts.limit.is_some(), "{told:?}: {game:?}");
                    wide += usize::from(is_wide);
                    narrow += usize::from(!is_wide);
                }
                Err(NoOdds::Limit(_, counts)) => {
                    assert!(!counts.complete, "{game:?}");
                    none += 1;
                }
                Err(NoOdds::Fault(fault)) => panic!("{fault:?}: {game:?}"),
            };
        let looks = Until::count(|w| check(one_thread(), w));
        each_stop(looks, |w| check(one_thread(), w));
        (1..game.len() as u64).for_each(|most| check(Limits { max_states: most, ..one_thread() }, &NoWatch));
    }
    assert!(wide > 60 && narrow > 200, "{wide} {narrow} {none}");
}

#[test]
fn what_lies_within_some_moves_is_counted_down() {
    let (mut cut, mut sure_wins) = (0, 0);
    for game in games(900..980, true).filter(|g| g.starts.len() == 1) {
        let table = game.table();
        for moves in 0..6 {
            let (win, ruin) = game.within(moves);
            let sure = game.sure()[0].filter(|n| *n <= moves);
            let mut check = |limits: Limits, watch: &dyn Watch| {
                let Ok(w) = within(&table, moves, &limits, watch) else { return };
                let holds = |v: &fendle_core::odds::Value, truth: f64| {
                    v.low() <= truth + 1e-12 && truth - 1e-12 <= v.high()
                };
                let told = w.win.as_ref().expect("a goal");
                assert!(holds(told, win[0]), "{told:?}, {}: {moves} moves in {game:?}", win[0]);
                assert!(holds(&w.ruin, ruin[0]), "{:?}, {}: {moves} moves in {game:?}", w.ruin, ruin[0]);
                if w.limit.is_none() {
                    assert!((told.high() - win[0]).abs() < 1e-12, "{told:?}, {}: {game:?}", win[0]);
                    assert_eq!(w.sure_win, sure, "{moves} moves in {game:?}");
                } else {
                    cut += 1;
                    assert!(w.sure_win.is_none() || w.sure_win >= sure && sure.is_some(), "{game:?}");
                }
                sure_wins += usize::from(w.sure_win.is_some_and(|n| n > 0));
                let before = game.within(moves.saturating_sub(1));
                for m in w.from_start.iter().filter(|_| moves > 0) {
                    let own = game.open(0).iter().find(|own| own.0 == m.of.0).expect("its move");
                    assert!(holds(&m.win, crate::games::mean(&own.1, &before.0)), "{m:?} in {game:?}");
                    assert!(holds(&m.ruin, crate::games::mean(&own.1, &before.1)), "{m:?} in {game:?}");
                }
            };
            let looks = Until::count(|w| check(one_thread(), w));
            each_stop(looks, |w| check(one_thread(), w));
            (1..game.len() as u64)
                .for_each(|most| check(Limits { max_states: most, ..one_thread() }, &NoWatch));
        }
    }
    assert!(cut > 300 && sure_wins > 100, "{cut} {sure_wins}");
}

/// A board of eight tiles: 181,440 states, of which many are looked at between two moments.
fn tray() -> Slide {
    let solved: Vec<u8> = (1..9).chain([0]).collect();
    Slide { board: Board { rows: 3, cols: 3 }, bolted: vec![false; 9], target: solved.clone(), start: solved }
}

#[test]
fn what_is_told_of_a_whole_space_is_told_whole_or_not_at_all() {
    let tray = tray();
    let limits = Limits { threads: 2, ..Limits::default() };
    let found = explore(&tray, limits, true, &NoWatch).expect("a start");
    let (whole, far) = structure(&tray, &found, &limits, &NoWatch).expect("seen whole");
    let counted = solutions(&found, false, &limits, &NoWatch).expect("seen whole");
    let mut stopped = [0; 4];
    let looks = Until::count(|w| drop(structure(&tray, &found, &limits, w)));
    assert!(looks > 20, "{looks}");
    each_stop(looks, |w| match structure(&tray, &found, &limits, w) {
        Ok((again, far_again)) => {
            assert_eq!(again, whole);
            let same = found.space.ids().step_by(997).all(|id| far.get(id) == far_again.get(id));
            assert!(same);
        }
        Err(NotSeen::Stopped(Limit::Time)) => stopped[0] += 1,
        Err(other) => panic!("{other:?}"),
    });
    let looks = Until::count(|w| drop(solutions(&found, false, &limits, w)));
    each_stop(looks, |w| match solutions(&found, false, &limits, w) {
        Ok(again) => assert_eq!(again, counted),
        Err(NotSeen::Stopped(Limit::Time)) => stopped[1] += 1,
        Err(other) => panic!("{other:?}"),
    });
    let bolted = Slide { bolted: (0..9).map(|t| t == 5).collect(), ..tray };
    let small = explore(&bolted, limits, true, &NoWatch).expect("a start");
    let looks = Until::count(|w| drop(likeness(&small.space, &small.space, u64::MAX, w)));
    each_stop(looks, |w| match likeness(&small.space, &small.space, u64::MAX, w) {
        Ok(Likeness::Same(pairs)) => assert_eq!(pairs.len() as u64, small.counts.states),
        Ok(other) => panic!("{other:?}"),
        Err(limit) => {
            assert_eq!(limit, Limit::Time);
            stopped[2] += 1;
        }
    });
    let looks = Until::count(|w| drop(explore(&bolted, limits, true, w)));
    each_stop(looks, |w| {
        let cut = explore(&bolted, limits, true, w).expect("a start");
        assert!(cut.counts.states <= small.counts.states);
        for id in cut.space.ids() {
            let own = small.space.find(&cut.space.state(id)).expect("it is one of all");
            assert_eq!(cut.space.depth_of(id), small.space.depth_of(own));
            let (told, truth) = (cut.space.class(id), small.space.class(own));
            assert!(told == truth || told == Class::Open, "{told:?} {truth:?}");
        }
        stopped[3] += usize::from(cut.counts.limit == Some(Limit::Time));
    });
    assert!(stopped.iter().all(|n| *n > 0), "{stopped:?}");
}

#[test]
fn plays_that_are_stopped_count_for_nothing() {
    let luck = |play: u64| -> Dice {
        let mut rng = SmallRng::seed_from_u64(play);
        Box::new(move |weights: &[u64]| {
            let mut x = rng.random_range(0..weights.iter().sum::<u64>());
            weights.iter().position(|w| x.checked_sub(*w).map(|rest| x = rest).is_none()).expect("a weight")
        })
    };
    let mut fewer = 0;
    for game in games(1000..1040, true) {
        let table = game.table();
        for policy in [Policy::Random, Policy::Greedy, Policy::Ahead(50)] {
            let play =
                |w: &dyn Watch| simulate(&table, policy, (40, 30, u64::MAX), &luck, 1, w).expect("sound");
            let whole = play(&NoWatch);
            let plays = if whole.same { 1 } else { 40 };
            assert_eq!((whole.plays, whole.each.len() as u64, whole.limit), (plays, plays, None), "{game:?}");
            let looks = Until::count(|w| drop(play(w)));
            each_stop(looks, |w| {
                let cut = play(w);
                assert_eq!(cut.each.len() as u64, cut.plays);
                assert_eq!(cut.each.iter().filter(|e| e.0).count() as u64, cut.won);
                assert!(cut.plays == plays || cut.limit == Some(Limit::Time), "{policy:?} {game:?}");
                // The plays that were played to their end, in their order.
                let mut all = whole.each.iter();
                assert!(cut.each.iter().all(|e| all.any(|of| of == e)), "{policy:?} {game:?}");
                fewer += usize::from(cut.plays < plays);
            });
        }
    }
    assert!(fewer > 500, "{fewer}");
}

#[test]
fn where_nothing_is_drawn_one_play_says_all_and_none_goes_on_for_ever() {
    let luck = |_: u64| -> Dice { Box::new(|_: &[u64]| 0) };
    let mut same = 0;
    for game in games(1200..1260, false) {
        let table = game.table();
        for policy in [Policy::Greedy, Policy::Ahead(100), Policy::Random] {
            let of =
                |plays, work| simulate(&table, policy, (plays, 50, work), &luck, 1, &NoWatch).expect("sound");
            let (one, many) = (of(1, u64::MAX), of(30, u64::MAX));
            assert_eq!(many.same, game.starts.len() == 1 && policy != Policy::Random, "{policy:?} {game:?}");
            assert_eq!(many.plays, if many.same { 1 } else { 30 }, "{policy:?} {game:?}");
            if many.same {
                same += 1;
                assert_eq!((one.won, one.moves, one.score), (many.won, many.moves, many.score), "{game:?}");
            }
        }
    }
    assert!(same > 40, "{same}");
    // Round and round: 2,000 plays of 10,000 moves were wanted.
    let round = Table::new([
        Row::running([("on", 1), ("wait", 0)]),
        Row::running([("back", 0), ("wait", 1)]),
        Row::goal(),
    ]);
    for policy in [Policy::Greedy, Policy::Ahead(500), Policy::Random] {
        let work = 100_000;
        let found = simulate(&round, policy, (2_000, 10_000, work), &luck, 1, &NoWatch).expect("sound");
        assert!(found.looked_at + MOVE_WORK * found.moves < 3 * work, "{policy:?} {found:?}");
        assert!(found.plays > 0 && found.unfinished == found.plays && found.won == 0, "{policy:?} {found:?}");
    }
}

#[test]
fn a_memory_of_nothing_ends_every_question_honestly() {
    for game in games(1100..1140, true) {
        let table = game.table();
        let limits = Limits { memory_bytes: 0, ..one_thread() };
        let found = explore(&table, limits, false, &NoWatch).expect("a start");
        tells_the_truth(&game, &found);
        let solved = solve(&table, limits, &NoWatch).expect("a start");
        assert!(!matches!(solved.verdict, Verdict::Faulted(_)), "{game:?}");
        assert!(table.layout().bits > 0);
    }
    let tray = tray();
    let whole = explore(&tray, Limits::default(), true, &NoWatch).expect("a start").counts;
    let mut cut = 0;
    for kilobytes in [1, 10, 100, 500, 1_000, 1_500, 2_000, 3_000, 10_000] {
        for drop_edges in [false, true] {
            let limits = Limits { memory_bytes: kilobytes << 10, drop_edges, ..Limits::default() };
            let c = explore(&tray, limits, true, &NoWatch).expect("a start").counts;
            assert!(c.complete || c.limit == Some(Limit::Memory), "{kilobytes} KiB: {:?}", c.limit);
            if c.complete {
                assert_eq!((&c.per_depth, c.transitions), (&whole.per_depth, whole.transitions));
            } else {
                cut += 1;
                let depth = c.per_depth.len() - 1;
                assert_eq!(c.per_depth[..depth], whole.per_depth[..depth], "depths that were seen whole");
                assert!(c.per_depth[depth] <= whole.per_depth[depth]);
            }
        }
    }
    assert!(cut > 6, "{cut}");
}

/// The same game with scores on its moves, and something that is to be made most or least of.
fn scored(game: &Game, rng: &mut SmallRng, aim: Aim) -> Table {
    let row = |s: usize| {
        let row = Row::new(game.status[s]).worth(rng.random_range(-9..10));
        game.moves[s].iter().fold(row, |row, (m, to)| {
            row.draws(*m, to.iter().map(|&(t, w)| (t, Odds::scored(w, rng.random_range(-3..4)))))
        })
    };
    let rows: Vec<Row> = (0..game.len()).map(row).collect();
    Table::new(rows).start(game.starts.iter().copied()).aim(aim)
}

#[test]
fn aims_under_a_limit_promise_nothing_that_cannot_be_had() {
    let (mut best, mut open, mut endless) = (0, 0, 0);
    for (n, game) in games(1300..1420, true).enumerate() {
        // Without a goal: play ends where it is lost or over, or nothing can be done.
        let mut rng = SmallRng::seed_from_u64(n as u64);
        let game = Game {
            status: game
                .status
                .iter()
                .map(|s| if *s == Status::Goal { Status::Over(0) } else { *s })
                .collect(),
            ..game
        };
        for aim in [Aim::MostScore, Aim::LeastScore, Aim::Most, Aim::Least] {
            let table = scored(&game, &mut rng, aim);
            let whole = odds(&table, &one_thread(), Fractions::Never, &NoWatch).expect("small");
            let all = whole.aim.expect("an aim");
            let mut check = |limits: Limits, watch: &dyn Watch| {
                let a = match odds(&table, &limits, Fractions::Never, watch) {
                    Ok(a) => a,
                    Err(NoOdds::Limit(..)) => return,
                    Err(NoOdds::Fault(fault)) => panic!("{fault:?}: {game:?}"),
                };
                let whole = a.counts.limit.is_none();
                match (&a.aim, &all) {
                    (None | Some(AimValue::Unknown(_)), _) => open += 1,
                    (Some(AimValue::Best(told)), AimValue::Best(truth)) => {
                        let truth = truth.middle();
                        let holds = told.low() <= truth + 1e-6 && truth - 1e-6 <= told.high();
                        assert!(holds, "{aim:?}: {told:?} and {truth}: {game:?}");
                        best += 1;
                    }
                    (Some(AimValue::Unbounded(_)), AimValue::Unbounded(_)) => endless += 1,
                    (Some(AimValue::NeverEnds), AimValue::NeverEnds) => {}
                    (told, _) => panic!("{aim:?}, whole: {whole}: {told:?} and {all:?}: {game:?}"),
                }
                for m in &a.from_start {
                    let (Some(told), Some(truth)) =
                        (&m.aim, whole_move(&table, &one_thread(), m.of).and_then(|m| m.aim))
                    else {
                        continue;
                    };
                    let truth = truth.middle();
                    let holds = told.low() <= truth + 1e-6 && truth - 1e-6 <= told.high();
                    assert!(holds, "{aim:?} by {:?}: {told:?} and {truth}: {game:?}", m.of);
                }
            };
            let looks = Until::count(|w| check(one_thread(), w));
            each_stop(looks, |w| check(one_thread(), w));
            (1..game.len() as u64)
                .for_each(|most| check(Limits { max_states: most, ..one_thread() }, &NoWatch));
        }
    }
    assert!(best > 300 && open > 100, "{best} {open} {endless}");
}

/// What a move from the start is worth, everything seen.
fn whole_move(table: &Table, limits: &Limits, of: MoveId) -> Option<MoveOdds> {
    let whole = odds(table, limits, Fractions::Never, &NoWatch).expect("small");
    whole.from_start.into_iter().find(|m| m.of == of)
}
