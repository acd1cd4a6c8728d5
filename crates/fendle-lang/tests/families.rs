//! The library's games of chance, cascades and pieces against programs of a few lines that share
//! nothing with the engine, and against formulas.

use crate::common;

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};

use common::{afresh, compare_space, games, laid_out as game, model};
use fendle_core::odds::{AimValue, Fractions, Value, odds};
use fendle_core::{Expansion, Exploration, Explored, Limits, Model as _, NoWatch, Odds, explore};
use fendle_lang::Game;
use fendle_lang::code::native::WhenItPays;
use rand::{Rng, SeedableRng, rngs::SmallRng};

const MERGE: &str = include_str!("../../../models/merge.fendle");
const MATCH: &str = include_str!("../../../models/match.fendle");
const CLUMP: &str = include_str!("../../../models/clump.fendle");
const FALL: &str = include_str!("../../../models/fall.fendle");
const COIL: &str = include_str!("../../../models/coil.fendle");

type Board = Vec<Vec<u8>>;

fn explored(game: &Game) -> Explored {
    let found = explore(game, Limits { threads: 1, ..Limits::default() }, false, &NoWatch).expect("a start");
    assert!(found.fault.is_none(), "{:?}", found.fault);
    assert!(found.counts.complete);
    found
}

fn counts(game: &Game) -> Exploration {
    explored(game).counts
}

fn text(board: &Board) -> String {
    let rows: Vec<String> = board
        .iter()
        .map(|r| r.iter().map(|&t| if t == 0 { '.' } else { (b'0' + t) as char }).collect())
        .collect();
    rows.join("\n")
}

fn random_board(rng: &mut SmallRng, rows: usize, cols: usize, kinds: u8) -> Board {
    (0..rows).map(|_| (0..cols).map(|_| rng.random_range(1..=kinds)).collect()).collect()
}

fn drop_columns(board: &mut Board) {
    for c in 0..board[0].len() {
        let mut column: Vec<u8> = board.iter().map(|r| r[c]).filter(|&t| t > 0).collect();
        while column.len() < board.len() {
            column.insert(0, 0);
        }
        for (row, t) in board.iter_mut().zip(column) {
            row[c] = t;
        }
    }
}

// ---- coil ----

#[test]
fn rings_on_three_posts_follow_the_formula() {
    for n in 1..=7u32 {
        let g = game(COIL, &format!("values.rings = {n}"));
        let c = counts(&g);
        assert_eq!(c.states, 3u64.pow(n), "{n}");
        assert_eq!(c.shortest, Some(2u32.pow(n) - 1), "{n}");
        assert_eq!((c.dead, c.stuck, c.fatal_moves), (0, 0, 0));
        // From every arrangement but the three stacks one ring more can move than stays: each pair of
        // posts allows exactly one move unless both are empty.
        if n > 1 {
            compare_space(&g, 200);
        }
    }
    let c = counts(&game(COIL, "values = { rings = 6, posts = 4, home = 4 }"));
    assert_eq!((c.states, c.shortest), (4u64.pow(6), Some(17)));
}

#[test]
fn a_spread_collection_takes_as_few_bits_as_there_are_arrangements() {
    let factorial = |n: u64| (1..=n).product::<u64>();
    for (rings, posts) in [(1, 3), (4, 3), (7, 3), (6, 4), (9, 5)] {
        let g = game(COIL, &format!("values = {{ rings = {rings}, posts = {posts}, home = 2 }}"));
        // An order of the rings, and where posts - 1 dividers lie among them.
        let arrangements = factorial(rings + posts - 1) / factorial(posts - 1);
        assert_eq!(g.layout().bits, (arrangements - 1).ilog2() + 1, "{rings} {posts}");
        assert_eq!(g.bound.codec.states_len(), Some(arrangements));
        // Every arrangement has its own number, and comes back from it.
        let mut words = vec![0; g.layout().words()];
        for n in (0..arrangements).step_by((arrangements as usize / 500).max(1)) {
            g.bound.codec.nth(n, &mut words);
            let state = g.unpack(&words);
            assert!(g.bound.is_spread(0, &state), "{state:?}");
            assert_eq!(g.pack(&state), words, "{state:?}");
        }
    }
    let lost = COIL.replace("    take last 1 of post[from_] onto post[to]\n", "    post[from_].pop()\n");
    let g = game(&lost, "values.rings = 2");
    let found = explore(&g, Limits::default(), false, &NoWatch).expect("a start");
    let fault = g.run_fault(&found.fault.expect("a ring is lost").fault);
    assert!(fault.to_string().contains("no longer hold each of their values once"), "{fault}");
    let slow = fendle_lang::run::Eval::new(&g.bound).apply(&g.bound.position, 0, &[1, 2]);
    assert_eq!(slow.map(|_| ()).map_err(|f| f.kind), Err(fault.kind));
}

// ---- merge ----

type Small = [u8; 4];

fn shifted(b: Small, dir: usize) -> (Small, bool) {
    // Lanes of a 2 x 2 board, each from the wall on.
    let lanes = [[[0, 2], [1, 3]], [[1, 0], [3, 2]], [[2, 0], [3, 1]], [[0, 1], [2, 3]]][dir];
    let mut out = b;
    for [a, z] in lanes {
        (out[a], out[z]) = match (b[a], b[z]) {
            (0, x) => (x, 0),
            (x, y) if x == y => (x + 1, 0),
            (x, y) => (x, y),
        };
    }
    (out, out != b)
}

fn spawns(b: Small) -> Vec<(Small, i128)> {
    let mut out = vec![];
    for i in (0..4).filter(|&i| b[i] == 0) {
        for (t, w) in [(1, 9), (2, 1)] {
            let mut next = b;
            next[i] = t;
            out.push((next, w));
        }
    }
    out
}

fn gcd(a: i128, b: i128) -> i128 {
    if b == 0 { a.abs() } else { gcd(b, a % b) }
}

fn best(b: Small, top: u8, memo: &mut HashMap<Small, (i128, i128)>) -> (i128, i128) {
    if b.iter().any(|&t| t >= top) {
        return (1, 1);
    }
    if let Some(&v) = memo.get(&b) {
        return v;
    }
    let mut value = (0, 1);
    for dir in 0..4 {
        let (next, moved) = shifted(b, dir);
        if !moved {
            continue;
        }
        let list = spawns(next);
        let total: i128 = list.iter().map(|s| s.1).sum();
        let mut sum = (0i128, 1i128);
        for (s, w) in list {
            let v = best(s, top, memo);
            sum = (sum.0 * v.1 + w * v.0 * sum.1, sum.1 * v.1);
            let g = gcd(sum.0, sum.1);
            sum = (sum.0 / g, sum.1 / g);
        }
        let v = (sum.0, sum.1 * total);
        if v.0 * value.1 > value.0 * v.1 {
            let g = gcd(v.0, v.1);
            value = (v.0 / g, v.1 / g);
        }
    }
    memo.insert(b, value);
    value
}

#[test]
fn merging_on_two_by_two_has_its_known_counts_and_chances() {
    let known = [
        (3, [166, 96, 2, 68, 68], "1"),
        (4, [318, 104, 18, 196, 88], "770009003/800000000"),
        (5, [506, 84, 74, 348, 40], "663098312572433/8000000000000000"),
    ];
    for (top, want, probability) in known {
        let g = game(MERGE, &format!("values = {{ high = 2, wide = 2, top = {top} }}"));
        assert_eq!(g.starts.len(), 24);
        assert_eq!(g.starts.iter().map(|s| s.1).sum::<u64>(), 600, "6 pairs of cells, 10 x 10 weights");
        let found = explored(&g);
        let c = &found.counts;
        assert_eq!([c.states, c.goal, c.stuck, c.winnable, c.certain], want, "top {top}");
        assert_eq!(c.almost_certain, c.certain, "without cycles the two are the same");
        let a = odds(&g, &Limits::default(), Fractions::WhereSmall, &NoWatch).expect("small and sound");
        let Some(Value::Exact(r)) = &a.win else { panic!("{:?}", a.win) };
        assert_eq!(r.to_string(), probability);
        // The same by a plain recursion, from each start.
        let mut memo = HashMap::new();
        let (mut num, mut den) = (0i128, 1i128);
        for (state, weight) in &g.starts {
            let b: Small = [state[0] as u8, state[1] as u8, state[2] as u8, state[3] as u8];
            let v = best(b, top, &mut memo);
            (num, den) = (num * v.1 + i128::from(*weight) * v.0 * den, den * v.1);
            let d = gcd(num, den);
            (num, den) = (num / d, den / d);
        }
        let d = gcd(num, den * 600);
        let plain = format!("{}/{}", num / d, den * 600 / d).replace("/1", "/1");
        assert_eq!(plain.strip_suffix("/1").unwrap_or(&plain), probability);
    }
}

#[test]
fn other_weights_bases_and_sizes_agree_in_both_executors() {
    for level in [
        "values = { high = 2, wide = 3, top = 5, opening = 1 }",
        "values = { high = 1, wide = 5, top = 4, twos = 1, fours = 0 }",
        "values = { high = 3, wide = 2, top = 3, opening = 3 }",
    ] {
        assert!(compare_space(&game(MERGE, level), 400) > 40, "{level}");
    }
}

// ---- clump ----

fn group(b: &Board, r: usize, c: usize) -> Vec<(usize, usize)> {
    let mut list = vec![(r, c)];
    let mut i = 0;
    while i < list.len() {
        let (r, c) = list[i];
        for (dr, dc) in [(0i32, 1i32), (1, 0), (0, -1), (-1, 0)] {
            let (x, y) = (r as i32 + dr, c as i32 + dc);
            if x >= 0 && y >= 0 && (x as usize) < b.len() && (y as usize) < b[0].len() {
                let at = (x as usize, y as usize);
                if b[at.0][at.1] == b[r][c] && !list.contains(&at) {
                    list.push(at);
                }
            }
        }
        i += 1;
    }
    list
}

fn lifted(b: &Board, cells: &[(usize, usize)]) -> Board {
    let mut b = b.clone();
    cells.iter().for_each(|&(r, c)| b[r][c] = 0);
    drop_columns(&mut b);
    let cols = b[0].len();
    let keep: Vec<usize> = (0..cols).filter(|&c| b.iter().any(|row| row[c] > 0)).collect();
    b.iter().map(|row| (0..cols).map(|i| keep.get(i).map_or(0, |&c| row[c])).collect()).collect()
}

#[test]
fn groups_are_removed_as_a_plain_program_removes_them() {
    let mut rng = SmallRng::seed_from_u64(7);
    let clump = model(CLUMP);
    for round in 0..24 {
        let (rows, cols) = (rng.random_range(2..5), rng.random_range(2..5));
        let board = random_board(&mut rng, rows, cols, 2 + round % 2);
        let least = 2 + usize::from(round % 5 == 0);
        let mut seen = HashSet::from([board.clone()]);
        let mut queue = VecDeque::from([board.clone()]);
        let (mut transitions, mut over, mut left) = (0u64, 0u64, usize::MAX);
        let mut best_score: HashMap<Board, u64> = HashMap::new();
        let mut order = vec![];
        while let Some(b) = queue.pop_front() {
            order.push(b.clone());
            let mut any = false;
            for r in 0..rows {
                for c in 0..cols {
                    let cells = if b[r][c] > 0 { group(&b, r, c) } else { continue };
                    if cells.len() < least || cells.iter().min() != Some(&(r, c)) {
                        continue;
                    }
                    any = true;
                    transitions += 1;
                    let next = lifted(&b, &cells);
                    if seen.insert(next.clone()) {
                        queue.push_back(next);
                    }
                }
            }
            let tiles = b.iter().flatten().filter(|t| **t > 0).count();
            if !any {
                over += 1;
                left = left.min(tiles);
            }
        }
        // Most score by the square of the group: fewest tiles first, since every move takes some.
        order.sort_by_key(|b| b.iter().flatten().filter(|t| **t > 0).count());
        for b in &order {
            let mut top = 0;
            for r in 0..rows {
                for c in 0..cols {
                    let cells = if b[r][c] > 0 { group(b, r, c) } else { continue };
                    if cells.len() >= least {
                        top = top.max((cells.len() * cells.len()) as u64 + best_score[&lifted(b, &cells)]);
                    }
                }
            }
            best_score.insert(b.clone(), top);
        }
        let level = format!(
            "model = 'm'\n[[level]]\nvalues.least = {least}\nvalues.by_square = true\nstart.tile = '''\n{}\n'''",
            text(&board)
        );
        let g = games(&clump, &level).remove(0);
        let found = explored(&g);
        let c = &found.counts;
        assert_eq!((c.states, c.transitions, c.over), (seen.len() as u64, transitions, over), "{level}");
        assert_eq!((c.stuck, c.dead, c.free), (0, 0, c.states - over), "{level}");
        let a = odds(&g, &Limits::default(), Fractions::WhereSmall, &NoWatch).expect("small and sound");
        let Some(AimValue::Best(Value::Exact(v))) = &a.aim else { panic!("{:?}", a.aim) };
        assert_eq!(v.to_string(), left.to_string(), "{level}");
        let play = a.aim_play.expect("a play");
        let last = g.unpack(play.states.last().expect("states"));
        assert_eq!(last[..rows * cols].iter().filter(|t| **t > 0).count(), left, "{level}");
        // The same board with the other aim.
        let scored = model(&CLUMP.replace("aim least count(c on tile where tile[c] > 0)", "aim most score"));
        let g = games(&scored, &level).remove(0);
        let a = odds(&g, &Limits::default(), Fractions::WhereSmall, &NoWatch).expect("small and sound");
        let Some(AimValue::Best(Value::Exact(v))) = &a.aim else { panic!("{:?}", a.aim) };
        assert_eq!(v.to_string(), best_score[&board].to_string(), "{level}");
    }
}

// ---- match ----

fn runs(b: &Board) -> HashSet<(usize, usize)> {
    let mut out = HashSet::new();
    for r in 0..b.len() {
        for c in 0..b[0].len() {
            for (dr, dc) in [(0, 1), (1, 0)] {
                let cells: Vec<_> = (0..3).map(|i| (r + i * dr, c + i * dc)).collect();
                if b[r][c] > 0
                    && cells.iter().all(|&(x, y)| x < b.len() && y < b[0].len() && b[x][y] == b[r][c])
                {
                    out.extend(cells);
                }
            }
        }
    }
    out
}

fn traded(b: &Board, r: usize, c: usize, down: bool) -> Option<Board> {
    let (x, y) = if down { (r + 1, c) } else { (r, c + 1) };
    if x >= b.len() || y >= b[0].len() || b[r][c] == 0 || b[x][y] == 0 || b[r][c] == b[x][y] {
        return None;
    }
    let mut b = b.clone();
    (b[r][c], b[x][y]) = (b[x][y], b[r][c]);
    let runs = runs(&b);
    (runs.contains(&(r, c)) || runs.contains(&(x, y))).then_some(b)
}

#[test]
fn lines_vanish_as_a_plain_program_lets_them() {
    let mut rng = SmallRng::seed_from_u64(11);
    let match_ = model(MATCH);
    let (mut boards, mut moves_seen) = (0, 0);
    while boards < 24 {
        let (rows, cols) = (rng.random_range(3..5), rng.random_range(3..5));
        let board = random_board(&mut rng, rows, cols, 3);
        if !runs(&board).is_empty() {
            continue;
        }
        boards += 1;
        let queued = boards % 2 == 0;
        let queue: Vec<Vec<u8>> = (0..cols)
            .map(|_| {
                (0..if queued { rng.random_range(0..4) } else { 0 })
                    .map(|_| rng.random_range(1..=3))
                    .collect()
            })
            .collect();
        // A state: the board and how much of each queue was used.
        let start = (board.clone(), vec![0usize; cols]);
        let mut seen = HashSet::from([start.clone()]);
        let mut todo = VecDeque::from([start]);
        let (mut transitions, mut goals, mut stuck) = (0u64, 0u64, 0u64);
        while let Some((b, used)) = todo.pop_front() {
            if b.iter().flatten().all(|t| *t == 0) {
                goals += 1;
                continue;
            }
            let mut any = false;
            for r in 0..rows {
                for c in 0..cols {
                    for down in [false, true] {
                        let Some(mut next) = traded(&b, r, c, down) else { continue };
                        let mut used = used.clone();
                        loop {
                            let gone = runs(&next);
                            if gone.is_empty() {
                                break;
                            }
                            gone.into_iter().for_each(|(x, y)| next[x][y] = 0);
                            drop_columns(&mut next);
                            for y in 0..cols {
                                for x in (0..rows).rev() {
                                    if next[x][y] == 0 && used[y] < queue[y].len() {
                                        next[x][y] = queue[y][used[y]];
                                        used[y] += 1;
                                    }
                                }
                            }
                        }
                        any = true;
                        transitions += 1;
                        let state = (next, used);
                        if seen.insert(state.clone()) {
                            todo.push_back(state);
                        }
                    }
                }
            }
            stuck += u64::from(!any);
        }
        moves_seen += transitions;
        let lists: Vec<String> = queue.iter().map(|q| format!("{q:?}")).collect();
        let level = format!(
            "model = 'm'\n[[level]]\nvalues.kinds = 3\nvalues.refill = '{}'\nvalues.column_queue = [{}]\nstart.tile = '''\n{}\n'''",
            if queued { "queue" } else { "nothing" },
            lists.join(", "),
            text(&board)
        );
        let g = games(&match_, &level).remove(0);
        assert!(g.is_sure(), "nothing is drawn on this level");
        let c = counts(&g);
        let have = (c.states, c.transitions, c.goal, c.stuck);
        assert_eq!(have, (seen.len() as u64, transitions, goals, stuck), "{level}");
    }
    assert!(moves_seen > 40, "{moves_seen}");
}

/// All ways in which a cascade of two kinds can go on: boards with chances in parts of 2 to the 60; `None`
/// for what is set aside.
fn cascade(b: &Board, rounds: u32, part: u64, out: &mut BTreeMap<Option<Board>, u64>) {
    let gone = runs(b);
    if gone.is_empty() {
        *out.entry(Some(b.clone())).or_default() += part;
        return;
    }
    if rounds == 0 {
        *out.entry(None).or_default() += part;
        return;
    }
    let mut b = b.clone();
    gone.into_iter().for_each(|(x, y)| b[x][y] = 0);
    drop_columns(&mut b);
    let free: Vec<(usize, usize)> = (0..b.len())
        .flat_map(|x| (0..b[0].len()).map(move |y| (x, y)))
        .filter(|&(x, y)| b[x][y] == 0)
        .collect();
    for bits in 0..1u32 << free.len() {
        for (i, &(x, y)) in free.iter().enumerate() {
            b[x][y] = 1 + (bits >> i & 1) as u8;
        }
        cascade(&b, rounds - 1, part >> free.len(), out);
    }
}

#[test]
fn refills_by_chance_have_the_chances_of_a_plain_enumeration() {
    let mut rng = SmallRng::seed_from_u64(5);
    let match_ = model(MATCH);
    let (mut boards, mut aside, mut outcomes) = (0, 0, 0);
    while boards < 24 {
        let board = random_board(&mut rng, 4, 2, 2);
        if !runs(&board).is_empty() {
            continue;
        }
        let mut want: Vec<(String, BTreeMap<Option<Board>, u64>)> = vec![];
        for r in 0..4 {
            for c in 0..2 {
                for down in [false, true] {
                    if let Some(next) = traded(&board, r, c, down) {
                        let mut all = BTreeMap::new();
                        cascade(&next, 3, 1 << 60, &mut all);
                        let dir = if down { "down" } else { "right" };
                        want.push((format!("trade r{}c{} {dir}", r + 1, c + 1), all));
                    }
                }
            }
        }
        if want.is_empty() {
            continue;
        }
        boards += 1;
        let level = format!(
            "model = 'm'\n[[level]]\nvalues.kinds = 2\nvalues.refill = 'chance'\nvalues.cascades = 3\nstart.tile = '''\n{}\n'''",
            text(&board)
        );
        let g = games(&match_, &level).remove(0);
        let mut out = Expansion::default();
        g.worker().expand(&g.pack(&g.bound.position), false, &mut out);
        assert!(out.faults.is_empty());
        let mut states = out.outcomes.chunks_exact(g.layout().words());
        let mut odds = out.odds.iter();
        let mut have: HashMap<String, BTreeMap<Option<Board>, u64>> = HashMap::new();
        for run in &out.runs {
            let list: Vec<(&[u64], Odds)> =
                states.by_ref().take(run.outcomes as usize).zip(odds.by_ref().copied()).collect();
            let total: u128 = list.iter().map(|l| u128::from(l.1.weight)).sum();
            let mut all = BTreeMap::new();
            for (words, o) in list {
                let state = g.unpack(words);
                let cut = state[g.bound.ended_at()] as usize > g.bound.model.endings.len();
                let board: Board =
                    state[..8].chunks(2).map(|r| r.iter().map(|&t| t as u8).collect()).collect();
                let part = (u128::from(o.weight) << 60) / total;
                assert_eq!((u128::from(o.weight) << 60) % total, 0, "chances are parts of a power of 2");
                assert!(all.insert((!cut).then_some(board), part as u64).is_none(), "equal outcomes are one");
            }
            outcomes += all.len();
            aside += usize::from(all.contains_key(&None));
            have.insert(g.move_name(run.of), all);
        }
        assert_eq!(have, want.into_iter().collect::<HashMap<_, _>>(), "{level}");
    }
    assert!(outcomes > 500 && aside > 10, "{outcomes} {aside}");
}

#[test]
fn a_drawn_start_has_no_run_and_a_move_and_is_the_same_for_the_same_seed() {
    let g = games(&model(MATCH), "model = 'm'\n[[level]]\nsize = [4, 4]\nvalues.kinds = 3").remove(0);
    let mut seen = HashSet::new();
    for seed in 0..40 {
        let a = fendle_lang::run::setup::sample(&g.bound, seed).expect("a start");
        assert_eq!(fendle_lang::run::setup::sample(&g.bound, seed), Ok(a.clone()));
        let board: Board = a.state[..16].chunks(4).map(|r| r.iter().map(|&t| t as u8).collect()).collect();
        assert!(runs(&board).is_empty(), "{board:?}");
        let any =
            (0..4).any(|r| (0..4).any(|c| [false, true].iter().any(|&d| traded(&board, r, c, d).is_some())));
        assert!(any, "{board:?}");
        seen.insert(a.state);
    }
    assert!(seen.len() > 35);
    // The first start of seed 1, written down once: every machine draws it.
    let first = fendle_lang::run::setup::sample(&g.bound, 1).expect("a start");
    assert_eq!(g.bound.line(&first.state), SEED_ONE);
}

const SEED_ONE: &str = "2321/2211/1322/1123";

// ---- fall ----

/// The cells of each turn, written out by hand: (row, column) from the anchor.
fn turns(kind: &str) -> Vec<Vec<(i32, i32)>> {
    match kind {
        "keg" => vec![vec![(0, 0)]],
        "pole" => vec![vec![(0, -1), (0, 0), (0, 1)], vec![(-1, 0), (0, 0), (1, 0)]],
        "knee" => vec![
            vec![(-1, 0), (0, 0), (0, 1)],
            vec![(0, 1), (0, 0), (1, 0)],
            vec![(1, 0), (0, 0), (0, -1)],
            vec![(0, -1), (0, 0), (-1, 0)],
        ],
        _ => vec![vec![(-1, -1), (-1, 0), (0, -1), (0, 0)]],
    }
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Well {
    stack: Vec<Vec<bool>>,
    /// Extent, turn, row and column.
    piece: (usize, usize, i32, i32),
    used: usize,
    rest: usize,
    end: Option<bool>,
}

fn cells_of(queue: &[&str], w: &Well) -> Vec<(i32, i32)> {
    let (k, t, r, c) = w.piece;
    let turns = turns(queue[k]);
    turns[t % turns.len()].iter().map(|(x, y)| (r + x, c + y)).collect()
}

fn fits(queue: &[&str], w: &Well) -> bool {
    let (rows, cols) = (w.stack.len() as i32, w.stack[0].len() as i32);
    cells_of(queue, w)
        .iter()
        .all(|&(r, c)| r >= 0 && c >= 0 && r < rows && c < cols && !w.stack[r as usize][c as usize])
}

fn enter(queue: &[&str], mut w: Well) -> Well {
    if w.used == queue.len() {
        w.end = Some(true);
        return w;
    }
    w.piece = (w.used, 0, 1, (w.stack[0].len() as i32 + 1) / 2 - 1);
    w.used += 1;
    w.rest = 0;
    if !fits(queue, &w) {
        w.end = Some(false);
    }
    w
}

fn steps(queue: &[&str], linger: usize, w: &Well) -> Vec<Well> {
    let at = |turn: usize, r: i32, c: i32| {
        let mut n = w.clone();
        n.piece.1 = turn % turns(queue[w.piece.0]).len();
        n.piece.2 += r;
        n.piece.3 += c;
        n
    };
    let t = w.piece.1;
    let mut out: Vec<Well> =
        [(1, 0), (0, -1), (0, 1)].iter().map(|&(r, c)| at(t, r, c)).filter(|n| fits(queue, n)).collect();
    out.extend([0, -1, 1].iter().map(|&c| at(t + 1, 0, c)).find(|n| fits(queue, n)));
    let fallen = at(t, 1, 0);
    if fits(queue, &fallen) {
        out.push(fallen);
    } else if w.rest < linger {
        out.push(Well { rest: w.rest + 1, ..w.clone() });
    } else {
        let mut n = w.clone();
        for (r, c) in cells_of(queue, w) {
            n.stack[r as usize][c as usize] = true;
        }
        let cols = n.stack[0].len();
        n.stack.retain(|row| row.iter().any(|x| !x));
        while n.stack.len() < w.stack.len() {
            n.stack.insert(0, vec![false; cols]);
        }
        n.rest = 0;
        out.push(enter(queue, n));
    }
    out
}

#[test]
fn pieces_fall_as_a_plain_program_lets_them() {
    let mut rng = SmallRng::seed_from_u64(3);
    let fall = model(FALL);
    // Small wells, and for one piece such as fill a word, begin another one, and fill it.
    let large = [(8, 8), (9, 8), (8, 16), (13, 11), (13, 11)];
    for round in 0..22 + large.len() {
        let small = (rng.random_range(4..6), rng.random_range(3..5));
        let (rows, cols) = if round < 22 { small } else { large[round - 22] };
        let names = ["keg", "pole", "knee", "bale"];
        let pieces = match round {
            0..22 => rng.random_range(1..4),
            26 => 2,
            _ => 1,
        };
        let queue: Vec<&str> = (0..pieces).map(|_| names[rng.random_range(0..4)]).collect();
        let linger = round % 3;
        let stack: Vec<Vec<bool>> = (0..rows)
            .map(|r| {
                let mut row: Vec<bool> = (0..cols).map(|_| r + 2 >= rows && rng.random_bool(0.5)).collect();
                row[rng.random_range(0..cols)] = false;
                row
            })
            .collect();
        let empty = Well { stack: stack.clone(), piece: (0, 0, 0, 0), used: 0, rest: 0, end: None };
        let start = enter(&queue, empty);
        // What has ended is told apart by the stack and the piece as the model keeps them: the last piece
        // stays where it locked.
        let mut seen = HashSet::from([start.clone()]);
        let mut todo = VecDeque::from([start]);
        let (mut won, mut lost, mut transitions) = (0u64, 0u64, 0u64);
        while let Some(w) = todo.pop_front() {
            match w.end {
                Some(true) => won += 1,
                Some(false) => lost += 1,
                None => {
                    for n in steps(&queue, linger, &w) {
                        transitions += 1;
                        if seen.insert(n.clone()) {
                            todo.push_back(n);
                        }
                    }
                }
            }
        }
        let laid: Vec<String> =
            stack.iter().map(|r| r.iter().map(|&x| if x { 'x' } else { '.' }).collect()).collect();
        let level = format!(
            "size = [{rows}, {cols}]\nvalues.queue = '{}'\nvalues.linger = {linger}\nvalues.laid = '''\n{}\n'''",
            queue.join(" "),
            laid.join("\n")
        );
        let g = game(FALL, &level);
        assert_eq!(g.bound.model.name, fall.name);
        let c = counts(&g);
        let have = (c.states, c.transitions, c.goal, c.lost, c.stuck);
        // Without lingering the model keeps the clock of a locked piece at 0 as well.
        assert_eq!(have, (seen.len() as u64, transitions, won, lost, 0), "{level}");
        if round % 4 == 0 || round >= 22 {
            compare_space(&g, 150);
        }
        if pieces == 2 && round >= 22 {
            // Most moves leave the board as it is: it is kept once, and the space is the same.
            let limits = Limits { drop_edges: true, number_from: 1 << 10, ..Limits::default() };
            let mut native = afresh(&g);
            native.native = WhenItPays::by(fendle_native::make);
            for g in [&g, &native] {
                let found = explore(g, limits, false, &NoWatch).expect("sound");
                let boards = found.space.stills_len().expect("of stills");
                assert!(boards * 8 < seen.len(), "{boards} of {}", seen.len());
                assert_eq!(found.counts, c);
            }
        }
    }
}

#[test]
fn what_a_drawn_start_was_is_kept_in_the_state() {
    let text = "model tide_mark\nstate at: 0..5\nsetup { at = draw in 1..3 }\nmove rise { refuse \"high\" unless at < 5\n at += 1 }\nmove sink { refuse \"low\" unless at > 0\n at -= 1 }\ngoal at == start.at + 2\n";
    let g = game(text, "");
    assert_eq!(g.starts.len(), 3);
    let c = counts(&g);
    // From 1 the levels 0 to 3, from 2 the levels 0 to 4, from 3 the levels 0 to 5: each with its own mark.
    assert_eq!((c.states, c.goal, c.shortest), (4 + 5 + 6, 3, Some(2)));
    assert_eq!(g.layout().bits, 6, "the level and its mark");
    compare_space(&g, 20);
    // A start that the level gives costs nothing.
    let g = game(text, "start.at = 1");
    assert_eq!((g.layout().bits, counts(&g).states), (3, 4));
}
