//! Tables of remainders: the same space as in whole states, whatever is asked of it, from the first state on or in the middle of a search.

use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

use fendle_core::explore::explore_near;
use fendle_core::structure::structure;
use fendle_core::table::{Row, Table};
use fendle_core::{
    Class, Expansion, Exploration, Explored, Fault, Layout, Limit, Limits, Model, MoveId, NoWatch, Progress,
    Start, Status, Verdict, Watch, Worker, explore, solve,
};
use rand::{SeedableRng, rngs::SmallRng};

use crate::games::Game;
use crate::stills::Well;
use crate::twins::{Board, Boxes, Coins, Shove, Slide, random_yard};

/// A yard of at most 57 cells, a state of which is one word.
struct Yard(Shove);

impl Yard {
    fn read(text: &str) -> Yard {
        Yard(Shove::read(text))
    }

    fn apart(word: u64) -> (u64, usize) {
        (word & ((1 << 57) - 1), (word >> 57) as usize)
    }
}

impl Model for Yard {
    fn layout(&self) -> Layout {
        Layout::new(63)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        Ok(vec![Start { state: vec![self.0.barges | (self.0.tug as u64) << 57], weight: 1 }])
    }
    fn moves_len(&self) -> usize {
        4
    }
    fn move_name(&self, of: MoveId) -> String {
        self.0.move_name(of)
    }
    fn is_sure(&self) -> bool {
        true
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(YardWorker(&self.0))
    }
}

struct YardWorker<'m>(&'m Shove);

impl Worker for YardWorker<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        Ok(self.0.status_of(Yard::apart(state[0]).0))
    }

    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        for state in states {
            let (barges, tug) = Yard::apart(*state);
            let status = self.0.status_of(barges);
            let goes_on = status == Status::Running || past_goals && status == Status::Goal;
            for d in (0..4).filter(|_| goes_on) {
                if let Some((barges, tug)) = self.0.go(barges, tug, d) {
                    out.outcome(&[barges | (tug as u64) << 57]);
                }
                out.end_move(MoveId(d as u32));
            }
            out.end_state(status, None);
        }
    }
}

/// Remainders from so many states on.
fn from(states: u64, threads: usize) -> Limits {
    let limits = Limits { threads, drop_edges: true, number_from: u64::MAX, ..Limits::default() };
    Limits { remainders_from: states, ..limits }
}

/// Each state with its depth and class, sorted.
fn told(found: &Explored) -> Vec<(Vec<u64>, u32, Class)> {
    let space = &found.space;
    let of = |id| {
        let state = space.state(id);
        assert_eq!(space.find(&state), Some(id));
        (state, space.depth_of(id), space.class(id))
    };
    let mut all: Vec<_> = space.ids().map(of).collect();
    all.sort_by(|a, b| a.0.cmp(&b.0));
    all
}

fn counts(found: &Explored) -> Exploration {
    Exploration { edges_kept: true, numbers: None, ..found.counts.clone() }
}

/// Both searches say the same of everything, but for the order of states that mean nothing.
fn alike(model: &dyn Model, whole: &Explored, found: &Explored) {
    assert_eq!(counts(found), counts(whole));
    assert_eq!(told(found), told(whole));
    assert_eq!(found.nearest_fatal, whole.nearest_fatal);
    assert_eq!(found.fault, whole.fault);
    let weights = |found: &Explored| {
        let starts = found.space.starts().iter().map(|id| found.space.state(*id));
        starts.zip(found.space.start_weights().to_vec()).collect::<Vec<_>>()
    };
    assert_eq!(weights(found), weights(whole));
    let solution = |found: &Explored| found.solution(model, &NoWatch).expect("no limit");
    assert_eq!(solution(found), solution(whole));
    let sets = |found: &Explored| {
        let of = |id| (found.space.is_certain(id), found.space.is_almost_certain(id));
        let mut all: Vec<_> = found.space.ids().map(|id| (found.space.state(id), of(id))).collect();
        all.sort();
        all
    };
    assert_eq!(sets(found), sets(whole));
    for depth in 0..whole.space.levels_len() {
        assert_eq!(found.space.level_len(depth), whole.space.level_len(depth));
        assert_eq!(found.space.level(depth).count() as u64, whole.space.level_len(depth));
    }
}

/// Searches that move at several points, on several threads, against one that never does.
fn moves_anywhere(model: &dyn Model, past_goals: bool) -> u64 {
    moves_at(model, past_goals, &[(1, 1), (9, 2), (300, 7), (4_000, 2)])
}

/// The same for searches that move from so many states on, on so many threads.
fn moves_at(model: &dyn Model, past_goals: bool, places: &[(u64, usize)]) -> u64 {
    let explored = |limits| explore(model, limits, past_goals, &NoWatch).expect("sound starts");
    let whole = explored(Limits { threads: 1, ..Limits::default() });
    assert!(!whole.space.holds_remainders());
    for &(states, threads) in places {
        let found = explored(from(states, threads));
        assert_eq!(found.space.find(&vec![u64::MAX; model.layout().words()]), None);
        let moved = found.space.holds_remainders();
        assert!(moved || states > whole.counts.states / 2);
        alike(model, &whole, &found);
        if whole.space.is_sure() && whole.counts.complete && whole.counts.goal > 0 && !past_goals {
            let limits = from(states, threads);
            let of = |found: &Explored| {
                let mut seen = structure(model, found, &limits, &NoWatch).expect("room").0;
                let passed = std::mem::take(&mut seen.must_pass);
                (seen, passed.into_iter().map(|id| found.space.state(id)).collect::<Vec<_>>())
            };
            assert_eq!(of(&found), of(&whole));
        }
    }
    whole.counts.states
}

#[test]
fn puzzles_are_the_same_in_remainders() {
    let board = Board { rows: 2, cols: 4 };
    let target: Vec<u8> = (1..8).chain([0]).collect();
    let deck = Slide { board, bolted: vec![false; 8], target: target.clone(), start: target };
    assert_eq!(moves_anywhere(&deck, true), 20_160, "half of all arrangements");
    let yard = Yard::read("A.....\n.o.oH.\n.._...\n.o..__\n......");
    assert!(moves_at(&yard, false, &[(9, 7), (4_000, 2)]) > 10_000);
    moves_anywhere(&Coins { top: 60 }, false);
    moves_anywhere(&Boxes { count: 4 }, false);
}

#[test]
fn random_yards_are_the_same_in_remainders() {
    let mut rng = SmallRng::seed_from_u64(21);
    let sizes: u64 = (0..120).map(|_| moves_anywhere(&Yard::read(&random_yard(&mut rng)), false)).sum();
    assert!(sizes > 5_000, "{sizes}");
}

/// With chance, ends of all kinds, several starts, and moves on which the model breaks.
#[test]
fn random_games_are_the_same_in_remainders() {
    let mut rng = SmallRng::seed_from_u64(4);
    let mut broken = 0;
    for round in 0..200 {
        let mut game = Game::any(&mut rng, 5 + round % 40, round % 2 == 0);
        if round % 5 == 0 {
            let state = game.len() / 2;
            game.breaks.push((state, 9, 7));
        }
        let table = game.table();
        moves_anywhere(&table, round % 3 == 0);
        broken += usize::from(explore(&table, from(1, 2), false, &NoWatch).expect("starts").fault.is_some());
    }
    assert!(broken > 10, "{broken}");
}

/// Words that say a still and moving bits move as well, and get longer while stills are met.
#[test]
fn stills_are_the_same_in_remainders() {
    for well in [Well { cells: 4, tosses: false }, Well { cells: 3, tosses: true }] {
        let whole =
            explore(&well, Limits { threads: 1, ..Limits::default() }, false, &NoWatch).expect("start");
        for (states, threads) in [(3_000, 1), (6_000, 7)] {
            let limits = Limits { number_from: 1 << 12, ..from(states, threads) };
            let found = explore(&well, limits, false, &NoWatch).expect("a start");
            assert!(found.space.holds_remainders() && found.space.stills_len().is_some());
            alike(&well, &whole, &found);
        }
    }
}

/// A chain of states: many depths, of one state each, so that marks outgrow their cells.
fn chain(len: usize) -> Table {
    let row = |n: usize| if n + 1 == len { Row::goal() } else { Row::running([("on", n + 1)]) };
    Table::new((0..len).map(row))
}

#[test]
fn a_chain_of_many_depths_is_the_same_in_remainders() {
    for len in [50, 255, 700, 3_000] {
        assert_eq!(moves_anywhere(&chain(len), false), len as u64);
    }
}

/// Limits cut exactly, on all threads alike, and what was seen is a part of the whole.
#[test]
fn limits_cut_tables_of_remainders_exactly() {
    let yard = Yard::read("A.....\n.o.oH.\n.._...\n.o..__\n......");
    let whole = explore(&yard, Limits::default(), false, &NoWatch).expect("sound");
    let depths = told(&whole);
    for most in [2, 3, 50, 997, 5_000, whole.counts.states - 1] {
        let ends: Vec<_> = [1, 2, 7]
            .map(|threads| {
                let limits = Limits { max_states: most, ..from(2, threads) };
                let found = explore(&yard, limits, false, &NoWatch).expect("sound");
                assert_eq!((found.counts.states, found.counts.limit), (most, Some(Limit::MaxStates)));
                assert_eq!(found.counts.per_depth.iter().sum::<u64>(), most);
                assert!(found.counts.open > 0 && (most < 50 || found.space.holds_remainders()));
                (found.counts.clone(), told(&found))
            })
            .into();
        assert!(ends[0] == ends[1] && ends[1] == ends[2]);
        for (state, depth, class) in &ends[0].1 {
            let at = depths.binary_search_by(|d| d.0.cmp(state)).expect("a state of the whole");
            assert_eq!(depths[at].1, *depth);
            // What is claimed of a part is so in the whole.
            assert!(*class == Class::Open || *class == depths[at].2);
        }
    }
    let all = Limits { max_states: whole.counts.states, ..from(2, 2) };
    alike(&yard, &whole, &explore(&yard, all, false, &NoWatch).expect("sound"));
    // As far as so many moves lead, and no further.
    for moves in [0, 1, 5, 9] {
        let near = |limits| explore_near(&yard, limits, moves, &NoWatch).expect("sound");
        let (plain, found) = (near(Limits::default()), near(from(2, 2)));
        assert_eq!((counts(&plain), told(&plain)), (counts(&found), told(&found)));
    }
}

/// Stops when it was asked so many times of so many states or more.
struct StopAfter(u64, AtomicUsize);

impl Watch for StopAfter {
    fn look(&self, progress: &Progress) -> Option<Limit> {
        if progress.states < self.0 {
            return None;
        }
        let left = self.1.load(Relaxed);
        self.1.store(left.saturating_sub(1), Relaxed);
        (left == 0).then_some(Limit::Interrupted)
    }
}

#[test]
fn an_interrupt_of_a_table_of_remainders_claims_nothing_that_is_not_so() {
    let yard = Yard::read("A.....\n.o.oH.\n.._...\n.o..__\n......");
    let whole = explore(&yard, Limits::default(), false, &NoWatch).expect("sound");
    let depths = told(&whole);
    let (mut cut, mut fewest) = (0, u64::MAX);
    // Of 3,000 states it is asked for the first time when they are to move, and once for each shard that did.
    let early = (1..400).step_by(23).map(|looks| (2, looks));
    let stops = early.chain([0, 1, 2, 9, 40, 63, 64, 65, 90, 200].map(|looks| (3_000, looks)));
    for (states, looks) in stops {
        let watch = StopAfter(if states == 2 { 0 } else { states }, AtomicUsize::new(looks));
        let found = explore(&yard, from(states, 1), false, &watch).expect("sound");
        let Some(limit) = found.counts.limit else { continue };
        assert_eq!(limit, Limit::Interrupted);
        assert_eq!(found.counts.per_depth.iter().sum::<u64>(), found.counts.states);
        assert!(found.counts.open > 0 && !found.counts.complete);
        assert_eq!(found.space.starts().len(), 1);
        cut += 1;
        if states == 3_000 && found.space.holds_remainders() {
            fewest = fewest.min(found.counts.states);
        }
        for (state, depth, class) in told(&found) {
            let at = depths.binary_search_by(|d| d.0.cmp(&state)).expect("a state of the whole");
            assert_eq!(depths[at].1, depth);
            assert!(class == Class::Open || class == depths[at].2);
        }
    }
    assert!(cut > 10 && fewest < 2_000, "{cut} were cut short, one of them at {fewest} states");
}

/// Solutions are the first shortest ones, and proofs of none are kept.
#[test]
fn solving_in_remainders_finds_the_same() {
    let mut rng = SmallRng::seed_from_u64(2);
    let (mut solved, mut proved) = (0, 0);
    for _ in 0..80 {
        let yard = Yard::read(&random_yard(&mut rng));
        let verdict = |limits| solve(&yard, limits, &NoWatch).expect("sound").verdict;
        let plain = verdict(Limits { threads: 1, ..Limits::default() });
        for (states, threads) in [(1, 1), (40, 3)] {
            assert_eq!(verdict(from(states, threads)), plain);
        }
        match plain {
            Verdict::Solvable(_) => solved += 1,
            _ => proved += 1,
        }
    }
    assert!(solved > 10 && proved > 10, "{solved} {proved}");
}

/// Where memory would not do for whole states and their edges, remainders take their place by themselves.
#[test]
fn a_tight_memory_makes_do_with_remainders() {
    let yard = Yard::read("A.....\n.o.oH.\n.._...\n.o..__\n......");
    let whole = explore(&yard, Limits { threads: 2, ..Limits::default() }, false, &NoWatch).expect("sound");
    let tight = |share: u64| Limits {
        memory_bytes: whole.space.bytes() * share / 100,
        drop_edges: true,
        threads: 2,
        ..Limits::default()
    };
    let mut shares = (40..100).step_by(4);
    let found = shares.find_map(|share| {
        let found = explore(&yard, tight(share), false, &NoWatch).expect("sound");
        found.counts.complete.then_some(found)
    });
    let found = found.expect("less room than the edges take");
    assert!(found.space.holds_remainders() && !found.counts.edges_kept);
    assert!(found.space.bytes() < whole.space.bytes() / 2);
    alike(&yard, &whole, &found);
}

/// Says that memory is used up when a search takes more than so many bytes, as whoever counts what the process holds does.
struct Line(u64);

impl Watch for Line {
    fn look(&self, progress: &Progress) -> Option<Limit> {
        (progress.bytes > self.0).then_some(Limit::Memory)
    }
}

/// A watch that sees that memory runs short makes the edges go first, and then the whole states; past that it ends the search.
#[test]
fn a_watch_of_memory_makes_do_with_remainders() {
    let yard = Yard::read("A.....\n.o.oH.\n.._...\n.o..__\n......");
    let whole = explore(&yard, Limits { threads: 2, ..Limits::default() }, false, &NoWatch).expect("sound");
    let limits = Limits { drop_edges: true, threads: 2, ..Limits::default() };
    let mut kinds = vec![];
    for share in (0..=110).step_by(5) {
        let line = Line(whole.space.bytes() * share / 100);
        let found = explore(&yard, limits, false, &line).expect("sound");
        if found.counts.complete {
            alike(&yard, &whole, &found);
        }
        let kind = (found.counts.complete, !found.space.holds_remainders(), found.counts.edges_kept);
        if kinds.last() != Some(&kind) {
            kinds.push(kind);
        }
    }
    let ended = kinds.iter().filter(|kind| !kind.0).count();
    assert!(kinds[ended..].iter().all(|kind| kind.0), "{kinds:?}");
    assert_eq!(kinds[ended..], [(true, false, false), (true, true, false), (true, true, true)]);
}
