//! Exploring and solving hand-written models: known truths, laws, limits, threads.

use crate::twins;

use fendle_core::table::{Row, Table};
use fendle_core::{
    Class, Expansion, Exploration, Limit, Limits, Model, NoWatch, Progress, Start, Status, Verdict, Watch,
    explore, solve,
};
use rand::{SeedableRng, rngs::SmallRng};
use twins::{Board, Boxes, Coins, Plain, Shove, Slide, plain_shove, random_yard};

fn slide(rows: i64, cols: i64, start: Vec<u8>) -> Slide {
    let n = (rows * cols) as u8;
    let target: Vec<u8> = (1..n).chain([0]).collect();
    Slide { board: Board { rows, cols }, bolted: vec![false; n.into()], target, start }
}

fn solved(rows: i64, cols: i64) -> Slide {
    let n = (rows * cols) as u8;
    slide(rows, cols, (1..n).chain([0]).collect())
}

fn counts(model: &dyn Model, past_goals: bool) -> Exploration {
    let found = explore(model, Limits::default(), past_goals, &NoWatch).expect("sound starts");
    assert!(found.fault.is_none());
    adds_up(&found.counts);
    found.counts
}

/// The law that every state is exactly one thing.
fn adds_up(c: &Exploration) {
    assert_eq!(c.goal + c.lost + c.over + c.stuck + c.dead + c.winnable + c.free + c.open, c.states);
    assert_eq!(c.per_depth.iter().sum::<u64>(), c.states);
    assert_eq!(c.per_depth.len() as u32, c.depth + 1);
}

#[test]
fn sliding_boards_have_their_known_sizes_and_depths() {
    // Half of all arrangements; the depths are long established.
    for (rows, cols, states, depth) in
        [(2, 2, 12, 6), (2, 3, 360, 21), (3, 2, 360, 21), (2, 4, 20_160, 36), (3, 3, 181_440, 31)]
    {
        let c = counts(&solved(rows, cols), true);
        assert!(c.complete);
        assert_eq!((c.states, c.depth), (states, depth), "{rows} x {cols}");
        assert_eq!((c.goal, c.dead, c.stuck), (1, 0, 0));
    }
    let c = counts(&solved(3, 3), true);
    assert_eq!(c.per_depth[31], 2);
    // Each neighbouring pair of cells, each direction: 24 moves for 9 places of the gap.
    assert_eq!(c.transitions, 181_440 / 9 * 24);
    assert_eq!(c.transitions, 483_840);
}

#[test]
fn the_other_half_of_the_arrangements_is_dead() {
    let model = slide(3, 3, vec![1, 2, 3, 4, 5, 6, 8, 7, 0]);
    let c = counts(&model, false);
    assert_eq!((c.states, c.dead, c.goal, c.shortest), (181_440, 181_440, 0, None));
    let s = solve(&model, Limits::default(), &NoWatch).expect("sound");
    assert_eq!(s.verdict, Verdict::Unsolvable);
    assert_eq!(s.states, 181_440);
}

#[test]
fn a_blocked_centre_leaves_56_arrangements() {
    let mut model = solved(3, 3);
    model.bolted[4] = true;
    assert_eq!(counts(&model, true).states, 56);
}

fn as_plain(c: &Exploration) -> Plain {
    Plain {
        states: c.states,
        transitions: c.transitions,
        per_depth: c.per_depth.clone(),
        goal: c.goal,
        lost: c.lost,
        stuck: c.stuck,
        dead: c.dead,
        winnable: c.winnable,
        fatal_moves: c.fatal_moves,
        shortest: c.shortest,
    }
}

#[test]
fn small_random_yards_agree_with_a_plain_search() {
    let mut rng = SmallRng::seed_from_u64(7);
    let mut kinds = [0; 3];
    for _ in 0..250 {
        let text = random_yard(&mut rng);
        let level = Shove::read(&text);
        let c = counts(&level, false);
        assert_eq!(as_plain(&c), plain_shove(&level), "{text}");
        kinds[0] += usize::from(c.shortest.is_some_and(|n| n > 2));
        kinds[1] += usize::from(c.dead > 0 && c.winnable > 0);
        kinds[2] += usize::from(c.lost > 0);
        let s = solve(&level, Limits::default(), &NoWatch).expect("sound");
        match s.verdict {
            Verdict::Solvable(route) => assert_eq!(Some(route.moves.len() as u32), c.shortest),
            Verdict::Unsolvable => assert_eq!(c.shortest, None),
            other => panic!("{other:?}"),
        }
    }
    // The sample is not trivial.
    assert!(kinds.iter().all(|k| *k >= 6), "{kinds:?}");
}

#[test]
fn fatal_moves_are_told_with_the_nearest_way_to_one() {
    let level = Shove::read("HHHHHHH\nH.....H\nH.o.A.H\nH.._..H\nHHHHHHH");
    let found = explore(&level, Limits::default(), false, &NoWatch).expect("sound");
    let route = found.nearest_fatal.expect("a barge can be pushed into a corner");
    assert_eq!(route.states.len(), route.moves.len() + 1);
    assert_eq!(found.counts.first_fatal_depth, Some(route.moves.len() as u32 - 1));
    let class = |words: &Vec<u64>| found.space.class(found.space.find(words).expect("visited"));
    let (last, before) = (route.states.len() - 1, route.states.len() - 2);
    assert_eq!(class(&route.states[before]), Class::Winnable);
    assert_eq!(class(&route.states[last]), Class::Dead);
}

/// One berth in the far corner and a barge on either side of it: C(12, 6) ways to one and C(12, 4)
/// to the other, all 13 moves long.
fn many_ways() -> Shove {
    Shove::read("A........\n.........\n.........\n.........\n.........\n........o\n.......o_")
}

#[test]
fn no_answer_depends_on_the_number_of_threads() {
    let big = Shove::read("A..H...\n.o.o...\n..._..H\n.o__...\n..H...w");
    for model in [&big, &many_ways()] {
        let mut seen: Vec<(String, Vec<u32>, String)> = vec![];
        for threads in [1, 2, 7] {
            let limits = Limits { threads, ..Limits::default() };
            let found = explore(model, limits, false, &NoWatch).expect("sound");
            let solved = solve(model, limits, &NoWatch).expect("sound");
            let Verdict::Solvable(route) = solved.verdict else { panic!("solvable") };
            seen.push((
                serde_json::to_string(&found.counts).expect("serialisable"),
                route.moves.iter().map(|m| m.0).collect(),
                format!("{:?}", found.nearest_fatal),
            ));
        }
        assert_eq!(seen[0], seen[1]);
        assert_eq!(seen[0], seen[2]);
    }
}

/// The number of shortest solutions, and the first of them in move order, by plain recursion
/// over depths.
fn all_shortest(level: &Shove, length: u32) -> (u64, Vec<u32>) {
    use std::collections::HashMap;
    fn ways(level: &Shove, s: (u64, usize), left: u32, memo: &mut HashMap<((u64, usize), u32), u64>) -> u64 {
        let won = level.status_of(s.0) == Status::Goal;
        if won || left == 0 {
            return u64::from(won && left == 0);
        }
        if let Some(&n) = memo.get(&(s, left)) {
            return n;
        }
        let n = (0..4).filter_map(|d| level.go(s.0, s.1, d)).map(|t| ways(level, t, left - 1, memo)).sum();
        memo.insert((s, left), n);
        n
    }
    let mut memo = HashMap::new();
    let mut s = (level.barges, level.tug);
    let count = ways(level, s, length, &mut memo);
    let mut first = vec![];
    for left in (0..length).rev() {
        let d = (0..4)
            .find(|&d| level.go(s.0, s.1, d).is_some_and(|t| ways(level, t, left, &mut memo) > 0))
            .expect("a way");
        first.push(d as u32);
        s = level.go(s.0, s.1, d).expect("allowed");
    }
    (count, first)
}

#[test]
fn the_first_of_many_shortest_solutions_is_found() {
    let level = many_ways();
    let solved = solve(&level, Limits::default(), &NoWatch).expect("sound");
    let Verdict::Solvable(route) = solved.verdict else { panic!("solvable") };
    let (count, first) = all_shortest(&level, route.moves.len() as u32);
    assert_eq!(count, 924 + 495);
    assert_eq!(route.moves.iter().map(|m| m.0).collect::<Vec<_>>(), first);
}

#[test]
fn each_prefix_of_a_shortest_route_is_shortest() {
    let model = slide(3, 3, vec![8, 6, 7, 2, 5, 4, 3, 0, 1]);
    let Verdict::Solvable(route) = solve(&model, Limits::default(), &NoWatch).expect("sound").verdict else {
        panic!("solvable")
    };
    assert_eq!(route.moves.len(), 31);
    let found = explore(&model, Limits::default(), false, &NoWatch).expect("sound");
    for (i, words) in route.states.iter().enumerate() {
        let id = found.space.find(words).expect("visited");
        assert_eq!(found.space.depth_of(id), i as u32);
    }
}

#[test]
fn a_larger_limit_never_withdraws_an_answer() {
    let level = many_ways();
    let full = explore(&level, Limits::default(), false, &NoWatch).expect("sound");
    let mut decided = false;
    for max_states in [1, 2, 3, 10, 100, 1000, 5000, 20_000, 100_000, 1_000_000] {
        let limits = Limits { max_states, ..Limits::default() };
        let found = explore(&level, limits, false, &NoWatch).expect("sound");
        let c = &found.counts;
        adds_up(c);
        assert!(c.states <= max_states);
        if !c.complete {
            assert_eq!(c.limit, Some(Limit::MaxStates));
            assert_eq!(c.states, max_states, "the cut is at a defined place");
        }
        // What is said of a state stays true in the whole space.
        for d in 0..found.space.levels_len() {
            for id in found.space.level(d) {
                let class = found.space.class(id);
                if class != Class::Open {
                    let whole = full.space.find(&found.space.state(id)).expect("reachable");
                    assert_eq!(class, full.space.class(whole));
                }
            }
        }
        let solved = solve(&level, limits, &NoWatch).expect("sound");
        let now = !matches!(solved.verdict, Verdict::Undecided(_));
        assert!(now || !decided, "withdrawn at {max_states}");
        decided = now;
    }
    assert!(decided);
}

#[test]
fn a_small_memory_budget_ends_undecided() {
    let limits = Limits { memory_bytes: 1 << 20, ..Limits::default() };
    let found = explore(&solved(3, 3), limits, true, &NoWatch).expect("sound");
    assert_eq!(found.counts.limit, Some(Limit::Memory));
    assert!(found.space.bytes() <= 1 << 20);
    assert!(found.counts.open > 0);
    adds_up(&found.counts);
    // A tiny space needs next to nothing.
    assert!(explore(&solved(2, 2), limits, true, &NoWatch).expect("sound").counts.complete);
}

struct StopAt(u64);

impl Watch for StopAt {
    fn look(&self, p: &Progress) -> Option<Limit> {
        (p.states >= self.0).then_some(Limit::Interrupted)
    }
}

#[test]
fn an_interrupt_gives_what_is_known_so_far() {
    let found = explore(&solved(3, 3), Limits::default(), true, &StopAt(1000)).expect("sound");
    let c = &found.counts;
    assert_eq!(c.limit, Some(Limit::Interrupted));
    assert!(c.states >= 1000 && c.states < 181_440 && !c.complete);
    adds_up(c);
}

#[test]
fn chance_runs_through_explore() {
    let c = counts(&Coins { top: 6 }, false);
    // 0 to 6 coins; 5 running states, two moves of two outcomes each.
    assert_eq!((c.states, c.goal, c.lost, c.winnable), (7, 1, 1, 5));
    assert_eq!(c.transitions, 5 * 4);
    // From 4 and 5 coins a bold toss wins by luck; no move is bad for certain.
    assert_eq!(c.fatal_moves, 0);
    assert_eq!(c.shortest, Some(2));
    let mut out = Expansion::default();
    Coins { top: 6 }.worker().expand(&[3], false, &mut out);
    assert_eq!(out.odds.iter().map(|o| o.weight).collect::<Vec<_>>(), [2, 1, 1, 1]);
    // The scores are times their weights: 2 x 1, 1 x -1.
    assert_eq!(out.odds.iter().map(|o| o.score).sum::<i64>(), 1);
    let starts = Coins { top: 6 }.starts().expect("sound");
    assert_eq!(starts[1], Start { state: vec![2], weight: 2 });
}

#[test]
fn hidden_things_run_through_explore_with_the_layout_known() {
    let n = 4;
    let c = counts(&Boxes { count: n }, false);
    // With the layout known every set of open boxes is reached, the wasp's box opened last if at
    // all: for each wasp, sets without it (all but "none left" run), and those plus the wasp.
    let safe = 1u64 << (n - 1);
    assert_eq!(c.goal, u64::from(n));
    assert_eq!(c.winnable, u64::from(n) * (safe - 1));
    assert_eq!(c.lost, u64::from(n) * (safe - 1));
    assert_eq!(c.fatal_moves, c.lost);
    // Told alike, hidden apart: two wasps out of reach of the one open box.
    let model = Boxes { count: n };
    let mut worker = model.worker();
    let told = |worker: &mut dyn fendle_core::Worker, wasp: u64, open: u64| {
        let mut out = vec![];
        worker.told(&[wasp | open << 4], &mut out);
        out
    };
    assert_eq!(told(&mut *worker, 2, 1), told(&mut *worker, 3, 1));
    assert_ne!(told(&mut *worker, 1, 1), told(&mut *worker, 3, 1));
    assert_eq!(worker.refusals(&[3 | 1 << 4]).expect("sound")[0].why, "open already");
}

/// With memory for the states and not for their transitions, the answers are those of a search with room for both.
#[test]
fn dropped_edges_change_no_answer() {
    let yard = Shove::read("A.....\n.o.oH.\n.._...\n.o..__\n......");
    let deck = slide(3, 3, vec![1, 2, 3, 4, 5, 6, 0, 7, 8]);
    let mut dropped = 0;
    for model in [&yard as &dyn Model, &deck] {
        let full = explore(model, Limits::default(), false, &NoWatch).expect("sound");
        assert!(full.counts.edges_kept && full.counts.complete);
        let bytes = full.space.bytes();
        for share in (60..=180).step_by(10) {
            let limits = Limits { memory_bytes: bytes * share / 100, drop_edges: true, ..Limits::default() };
            let tight = explore(model, limits, false, &NoWatch).expect("sound");
            let plain =
                explore(model, Limits { drop_edges: false, ..limits }, false, &NoWatch).expect("sound");
            if !tight.counts.complete || tight.counts.edges_kept {
                continue;
            }
            dropped += 1;
            assert_eq!(plain.counts.limit, Some(Limit::Memory));
            assert_eq!(Exploration { edges_kept: true, ..tight.counts }, full.counts);
            assert_eq!(tight.nearest_fatal, full.nearest_fatal);
            let solved = |limits| solve(model, limits, &NoWatch).expect("sound").verdict;
            assert_eq!(solved(limits), solved(Limits::default()));
        }
    }
    assert!(dropped >= 2, "{dropped}");
}

/// Two counters that only rise up to a top; the game is lost where the first one is too far ahead.
fn stairs(top: usize, ahead: usize) -> Table {
    let row = |a: usize, b: usize| a * (top + 1) + b;
    let pairs = (0..=top).flat_map(|a| (0..=top).map(move |b| (a, b)));
    Table::new(pairs.map(|(a, b)| match (a, b) {
        _ if (a, b) == (top, top) => Row::goal(),
        _ if a > b + ahead => Row::lost(),
        _ => {
            let moves = [(0, a < top, row(a + 1, b)), (1, b < top, row(a, b + 1))];
            Row::running(moves.into_iter().filter(|m| m.1).map(|m| (m.0, m.2)))
        }
    }))
}

/// A space in which rounds grow: its numbers are those of pairs, on any number of threads, and limits cut it exactly.
#[test]
fn a_large_hashed_space_is_that_of_its_pairs() {
    let (top, ahead) = (549, 480);
    let stairs = stairs(top, ahead);
    let pairs = || (0..=top).flat_map(|a| (0..=top).map(move |b| (a, b)));
    let reached = |(a, b): &(usize, usize)| *a <= b + ahead + 1;
    let lost = pairs().filter(|(a, b)| *a == b + ahead + 1).count() as u64;
    let all = pairs().filter(reached).count() as u64;
    assert!(all > 1 << 18, "rounds grow");
    let mut per_depth = vec![0u64; 2 * top + 1];
    pairs().filter(reached).for_each(|(a, b)| per_depth[a + b] += 1);
    for threads in [1, 2, 7] {
        let limits = Limits { threads, ..Limits::default() };
        let found = explore(&stairs, limits, false, &NoWatch).expect("sound");
        let c = &found.counts;
        adds_up(c);
        assert!(c.complete && c.shortest == Some(2 * top as u32));
        assert_eq!((c.states, c.lost, c.goal, c.dead, c.stuck), (all, lost, 1, 0, 0));
        assert_eq!(c.per_depth, per_depth, "{threads} threads");
        // Each lost state is entered by one move.
        assert_eq!(c.fatal_moves, lost);
        let cut = Limits { max_states: 270_001, ..limits };
        let found = explore(&stairs, cut, false, &NoWatch).expect("sound");
        assert_eq!((found.counts.states, found.counts.limit), (270_001, Some(Limit::MaxStates)));
        adds_up(&found.counts);
        // The log goes before the memory is said to be out.
        let few = Limits { memory_bytes: 3_500_000, ..limits };
        let found = explore(&stairs, few, false, &NoWatch).expect("sound");
        assert!(found.space.bytes() <= 3_500_000, "{}", found.space.bytes());
        assert!(found.counts.states > 50_000, "{}", found.counts.states);
        assert_eq!(found.counts.limit, Some(Limit::Memory));
        adds_up(&found.counts);
    }
}
