//! Hidden things against plain enumerations that share nothing with the engine: every layout is written out, told
//! values are counted by hand, and best play is a recursion over sets of layouts.

use crate::common;

use std::collections::{BTreeMap, BTreeSet, HashMap};

use common::{games, model};
use fendle_core::infer::{Kind, fraction};
use fendle_core::knowledge::Knowing;
use fendle_core::odds::{Fractions, Value, odds};
use fendle_core::{Expansion, Limits, Model as _, NoWatch, Status, explore};
use fendle_lang::known::player::Player;
use fendle_lang::known::{Known, NotCounts, Sight};
use fendle_lang::play::{MoveTable, Tried, step};
use fendle_lang::reasons::exchange::{Exchange, exchange};
use fendle_lang::run::scatter;
use fendle_lang::run::setup::{Dice, sample_with_layout, worlds, worlds_of};
use fendle_lang::{Game, Sources, compile};
use rand::{Rng, SeedableRng, rngs::SmallRng};

const SWEEP: &str = include_str!("../../../models/sweep.fendle");
const WADE: &str = include_str!("../../../models/wade.fendle");
const PAIRS: &str = include_str!("../../../models/pairs.fendle");

/// Numbers count cells a jump away, and those told are covered again after a while.
const JUMPS: &str = "
model jumps
level rocks: 0..20
hidden reef: grid of bool with count(c on reef where reef[c]) == rocks
state lamp: maybe cell = none
state seen: grid of bool = false
fn near(c: cell) = count(n in around(c, up + up_right, right + down_right, down + down_left, left + up_left, right + right) where reef[n])
tell near(c) for c on seen where lamp == c
tell struck: reef[c] for c on seen where seen[c]
move sound(c: cell) {
    refuse \"sounded already\" unless not seen[c]
    if reef[c] { lose \"struck a rock\" }
    seen[c] = true
    lamp = c
}
goal count(c on seen where not seen[c]) == rocks
";

fn game(text: &str, level: &str) -> Game {
    games(&model(text), &format!("model = 'm'\n[[level]]\n{level}")).remove(0)
}

fn limits() -> Limits {
    Limits { threads: 1, ..Limits::default() }
}

/// All layouts of so many rocks.
fn all_layouts(cells: usize, rocks: usize) -> Vec<Vec<bool>> {
    (0..1u32 << cells)
        .filter(|m| m.count_ones() as usize == rocks)
        .map(|m| (0..cells).map(|i| m >> i & 1 == 1).collect())
        .collect()
}

const EIGHT: [(i64, i64); 8] = [(-1, -1), (-1, 0), (-1, 1), (0, -1), (0, 1), (1, -1), (1, 0), (1, 1)];
const FOUR: [(i64, i64); 4] = [(-1, 0), (0, -1), (0, 1), (1, 0)];
const JUMP: [(i64, i64); 5] = [(-2, 1), (1, 2), (2, -1), (-1, -2), (0, 2)];

fn near(layout: &[bool], (rows, cols): (usize, usize), at: usize, by: &[(i64, i64)]) -> i64 {
    let (r, c) = ((at / cols) as i64, (at % cols) as i64);
    by.iter()
        .map(|(dr, dc)| (r + dr, c + dc))
        .filter(|(r, c)| *r >= 0 && *c >= 0 && *r < rows as i64 && *c < cols as i64)
        .filter(|(r, c)| layout[*r as usize * cols + *c as usize])
        .count() as i64
}

/// Compares what is inferred with the layouts that agree.
fn compare(known: &Known, agree: &[&Vec<bool>], what: &str) {
    let found = known.system.infer().unwrap_or_else(|e| panic!("{e:?} {what}"));
    assert_eq!(found.all.to_string(), agree.len().to_string(), "{what}");
    for c in 0..known.cells.len() {
        let filled = agree.iter().filter(|l| l[c]).count();
        assert_eq!(found.chance(c as u32), fraction(filled as u128, agree.len() as u128), "cell {c} {what}");
        let certain = match filled {
            0 => Some(false),
            n if n == agree.len() => Some(true),
            _ => None,
        };
        assert_eq!(found.certain(c as u32), certain, "cell {c} {what}");
        if let (Some(v), None) = (certain, known.system.fixed[c]) {
            let all: Vec<usize> = (0..known.system.clues.len()).collect();
            let proof = known.system.proof(c as u32, v, &known.system.clues_for(c as u32, v));
            let proof = proof.unwrap_or_else(|| panic!("no proof of cell {c} {what}"));
            assert!(known.system.proves(&proof.clues, c as u32, v), "{what}");
            // Nothing can be left out; and where it is called smallest, no smaller set does it.
            for i in 0..proof.clues.len() {
                let mut less = proof.clues.clone();
                less.remove(i);
                assert!(!known.system.proves(&less, c as u32, v), "{what}");
            }
            if proof.smallest && all.len() <= 8 {
                for m in 0..1u32 << all.len() {
                    if (m.count_ones() as usize) < proof.clues.len() {
                        let set: Vec<usize> = all.iter().copied().filter(|i| m >> i & 1 == 1).collect();
                        assert!(!known.system.proves(&set, c as u32, v), "{set:?} {what}");
                    }
                }
            }
        }
    }
    // The solutions, written out, are those layouts.
    let list = known.system.solutions(100_000).expect("few");
    let mine: BTreeSet<&Vec<bool>> = agree.iter().copied().collect();
    assert_eq!(list.len(), mine.len(), "{what}");
    assert!(list.iter().all(|(l, w)| *w == 1 && mine.contains(l)), "{what}");
    // Steps find everything that is certain.
    let steps = known.system.steps(&found);
    let stepped: BTreeSet<u32> = steps.iter().flat_map(|s| s.cells.iter().map(|c| c.0)).collect();
    let sure = (0..known.cells.len() as u32)
        .filter(|&c| found.certain(c).is_some() && known.system.fixed[c as usize].is_none());
    assert_eq!(stepped, sure.collect(), "{what}");
}

#[test]
fn counts_agree_with_every_layout_written_out_around_4_and_8() {
    let mut rng = SmallRng::seed_from_u64(11);
    for (four, by) in [(false, &EIGHT[..]), (true, &FOUR[..])] {
        let mut done = 0;
        while done < 200 {
            let (rows, cols) = (rng.random_range(1..=4usize), rng.random_range(2..=4usize));
            let cells = rows * cols;
            let rocks = rng.random_range(1..=cells / 2);
            let all = all_layouts(cells, rocks);
            let truth = &all[rng.random_range(0..all.len())];
            let open: Vec<usize> = (0..cells).filter(|&c| !truth[c] && rng.random_bool(0.4)).collect();
            if open.is_empty() {
                continue;
            }
            done += 1;
            let told: Vec<i64> = open.iter().map(|&c| near(truth, (rows, cols), c, by)).collect();
            let agree: Vec<&Vec<bool>> = all
                .iter()
                .filter(|l| open.iter().zip(&told).all(|(&c, &n)| !l[c] && near(l, (rows, cols), c, by) == n))
                .collect();
            let board: Vec<String> = (0..rows)
                .map(|r| {
                    (0..cols)
                        .map(|c| match open.iter().position(|&o| o == r * cols + c) {
                            Some(i) => told[i].to_string(),
                            None => "~".into(),
                        })
                        .collect()
                })
                .collect();
            let g = game(
                SWEEP,
                &format!(
                    "values = {{ rocks = {rocks}, four = {four} }}\ntold.near = '''\n{}\n'''",
                    board.join("\n")
                ),
            );
            let b = &g.bound;
            let sight = Sight { state: b.position.clone(), told: b.told(&b.position) };
            let known = Known::new(b, &[sight]).expect("counts");
            compare(&known, &agree, &format!("{board:?} {rocks} rocks, four {four}"));
        }
    }
}

#[test]
fn an_odd_neighbourhood_told_and_covered_again_is_followed_through_its_history() {
    let mut rng = SmallRng::seed_from_u64(23);
    let model = model(JUMPS);
    for round in 0..200 {
        let (rows, cols) = (rng.random_range(3..=4usize), rng.random_range(3..=4usize));
        let cells = rows * cols;
        let rocks = rng.random_range(2..=5);
        let all = all_layouts(cells, rocks);
        let truth = &all[rng.random_range(0..all.len())];
        let rows_of: Vec<String> =
            truth.chunks(cols).map(|r| r.iter().map(|x| if *x { 'x' } else { '.' }).collect()).collect();
        let level = format!("values.rocks = {rocks}\nstart.reef = '''\n{}\n'''", rows_of.join("\n"));
        let g = games(&model, &format!("model = 'm'\n[[level]]\n{level}")).remove(0);
        let moves = MoveTable::new(&g.bound).expect("few");
        let mut history = vec![g.bound.position.clone()];
        let mut open = vec![];
        for _ in 0..rng.random_range(1..=4) {
            let free: Vec<usize> = (0..cells).filter(|c| !truth[*c] && !open.contains(c)).collect();
            let Some(&c) = free.get(rng.random_range(0..free.len().max(1))) else { break };
            let Ok(Tried::Made(made)) = step(&g.bound, &moves, history.last().expect("one"), c, false) else {
                break;
            };
            history.push(made[0].made.state.clone());
            open.push(c);
        }
        let agree: Vec<&Vec<bool>> = all
            .iter()
            .filter(|l| {
                open.iter()
                    .all(|&c| !l[c] && near(l, (rows, cols), c, &JUMP) == near(truth, (rows, cols), c, &JUMP))
            })
            .collect();
        let player = Player::new(&g.bound, &moves, &history).expect("counts");
        // Only the last number is still seen; the others are remembered.
        let b = &g.bound;
        let told = b.told(history.last().expect("one"));
        assert!(told[0].iter().flatten().count() <= 1);
        compare(&player.known, &agree, &format!("{round}: {rows_of:?} open {open:?}"));
    }
}

#[test]
fn the_strip_and_the_board_of_twenty() {
    let g = game(SWEEP, "values.rocks = 1\ntold.near = '01~~'");
    let moves = MoveTable::new(&g.bound).expect("few");
    let player = Player::new(&g.bound, &moves, std::slice::from_ref(&g.bound.position)).expect("counts");
    let found = player.infer().expect("one layout");
    assert_eq!((found.certain(2), found.certain(3)), (Some(true), Some(false)));
    let steps = player.known.system.steps(&found);
    assert_eq!((steps[0].kind, steps[1].kind), (Kind::OneClue, Kind::Total));

    let g = game(SWEEP, "values.rocks = 3\ntold.near = '''\n~2~~\n~~~~\n'''");
    let moves = MoveTable::new(&g.bound).expect("few");
    let player = Player::new(&g.bound, &moves, std::slice::from_ref(&g.bound.position)).expect("counts");
    let found = player.infer().expect("layouts");
    assert_eq!(found.all.to_string(), "20");
    assert_eq!((found.chance(0), found.chance(3)), (fraction(8, 20), fraction(10, 20)));
    let all = worlds(&g.bound, 1000).expect("a prior").expect("few");
    let packed: Vec<(Vec<u64>, u64)> = all.iter().map(|(s, w)| (g.pack(s), *w)).collect();
    let knowing = Knowing::new(&g, &packed, None).expect("worlds");
    let a = odds(&knowing, &limits(), Fractions::WhereSmall, &NoWatch).expect("small and sound");
    assert_eq!(a.win, Some(Value::Exact(fraction(5, 20))));
    let of = |cell: u32| a.from_start.iter().find(|m| m.of.0 == cell).and_then(|m| m.win.clone());
    assert_eq!(of(0), Some(Value::Exact(fraction(4, 20))));
    assert_eq!(of(3), Some(Value::Exact(fraction(5, 20))));
}

/// The best number of layouts that are won, over sets of layouts: cells are opened one by one, noughts open their
/// neighbours. Shares nothing with the engine.
fn best(
    layouts: &[Vec<bool>],
    seen: u32,
    (rows, cols): (usize, usize),
    rocks: usize,
    memo: &mut HashMap<(Vec<Vec<bool>>, u32), usize>,
) -> usize {
    let cells = rows * cols;
    if cells - seen.count_ones() as usize == rocks {
        return layouts.len();
    }
    let key = (layouts.to_vec(), seen);
    if let Some(n) = memo.get(&key) {
        return *n;
    }
    let mut most = 0;
    for c in (0..cells).filter(|c| seen >> c & 1 == 0) {
        let mut parts: BTreeMap<(u32, Vec<i64>), Vec<Vec<bool>>> = BTreeMap::new();
        for l in layouts.iter().filter(|l| !l[c]) {
            let mut now = seen;
            let mut work = vec![c];
            while let Some(x) = work.pop() {
                if now >> x & 1 == 1 {
                    continue;
                }
                now |= 1 << x;
                if near(l, (rows, cols), x, &EIGHT) == 0 {
                    let (r, k) = ((x / cols) as i64, (x % cols) as i64);
                    for (dr, dc) in EIGHT {
                        let (r, k) = (r + dr, k + dc);
                        if r >= 0 && k >= 0 && r < rows as i64 && k < cols as i64 {
                            let y = r as usize * cols + k as usize;
                            if now >> y & 1 == 0 {
                                work.push(y);
                            }
                        }
                    }
                }
            }
            let told =
                (0..cells).filter(|x| now >> x & 1 == 1).map(|x| near(l, (rows, cols), x, &EIGHT)).collect();
            parts.entry((now, told)).or_default().push(l.clone());
        }
        let sum = parts.into_iter().map(|((now, _), part)| best(&part, now, (rows, cols), rocks, memo)).sum();
        most = most.max(sum);
    }
    memo.insert(key, most);
    most
}

#[test]
fn the_best_chance_to_win_is_that_of_a_plain_search_over_sets_of_layouts() {
    for (rows, cols) in [(1, 3), (1, 5), (2, 2), (2, 3), (2, 4), (3, 3)] {
        for rocks in 1..=3usize {
            if rocks >= rows * cols {
                continue;
            }
            let all = all_layouts(rows * cols, rocks);
            let most = best(&all, 0, (rows, cols), rocks, &mut HashMap::new());
            let g = game(SWEEP, &format!("size = [{rows}, {cols}]\nvalues.rocks = {rocks}"));
            let list = worlds(&g.bound, 10_000).expect("a prior").expect("few");
            assert_eq!(list.len(), all.len());
            let packed: Vec<(Vec<u64>, u64)> = list.iter().map(|(s, w)| (g.pack(s), *w)).collect();
            let knowing = Knowing::new(&g, &packed, None).expect("worlds");
            let space = explore(&knowing, limits(), false, &NoWatch).expect("a start");
            assert!(space.counts.complete && space.fault.is_none());
            let a = odds(&knowing, &limits(), Fractions::WhereSmall, &NoWatch).expect("small and sound");
            let want = fraction(most as u128, all.len() as u128);
            assert_eq!(a.win, Some(Value::Exact(want)), "{rows} x {cols}, {rocks}");
        }
    }
}

#[test]
fn information_states_and_clues_say_the_same_along_whole_plays() {
    let mut rng = SmallRng::seed_from_u64(3);
    for (text, level) in [
        (SWEEP, "size = [3, 4]\nvalues = { rocks = 3, shown = 'r1c1' }".to_string()),
        (WADE, "size = [3, 4]\nvalues = { mires = 3, home = 'r1c1', goal_ = 'r3c4' }".to_string()),
        (WADE, "size = [3, 3]\nvalues = { mires = 2, home = 'r1c1', goal_ = 'r3c3', on_leaving = true, eight = true }".into()),
    ] {
        for seed in 0..25 {
            let mut g = game(text, &level);
            g.bound.start = scatter::scatter(&g.bound, &mut Dice::new(seed)).expect("a layout");
            let start = fendle_lang::run::setup::all(&g.bound).expect("a setup").expect("one").starts[0].0.clone();
            let all = worlds(&g.bound, 100_000).expect("a prior").expect("few");
            let g = g.at(start.clone());
            let packed: Vec<(Vec<u64>, u64)> = all.iter().map(|(s, w)| (g.pack(s), *w)).collect();
            let mut knowing = Knowing::new(&g, &packed, Some(&g.pack(&start))).expect("worlds");
            let moves = MoveTable::new(&g.bound).expect("few");
            let mut history = vec![start];
            for _ in 0..6 {
                let player = Player::new(&g.bound, &moves, &history).expect("counts");
                let list = knowing.worlds(knowing.begins()[0].0);
                let agree: Vec<Vec<bool>> = list
                    .iter()
                    .map(|(w, _)| {
                        let s = g.unpack(w);
                        player.known.places.iter().map(|p| s[*p] != 0).collect()
                    })
                    .collect();
                compare(&player.known, &agree.iter().collect::<Vec<_>>(), &format!("{level} seed {seed}"));
                let state = history.last().expect("one").clone();
                let n = rng.random_range(0..moves.list.len());
                let Ok(Tried::Made(made)) = step(&g.bound, &moves, &state, n, false) else { continue };
                if made[0].ended.is_some() {
                    break;
                }
                let next = made[0].made.state.clone();
                let id = knowing.begins()[0].0;
                let id = knowing.after(id, fendle_core::MoveId(n as u32), &g.pack(&next)).expect("it happened");
                knowing.begin_at(id);
                history.push(next);
            }
        }
    }
}

/// Least expected uncoverings with perfect memory: `u` cards never seen, `k` seen ones without their partner.
fn uncoverings(u: usize, k: usize, memo: &mut HashMap<(usize, usize), f64>) -> f64 {
    if u == 0 {
        return 2.0 * k as f64 / 2.0;
    }
    if let Some(v) = memo.get(&(u, k)) {
        return *v;
    }
    // The first card of a turn is a new one: it pairs with one of the k, or is new.
    let (n, kk) = (u as f64, k as f64);
    let hit = if k > 0 { kk / n * (2.0 + uncoverings(u - 1, k - 1, memo)) } else { 0.0 };
    // A new value: u - 1 are left, one of which is its partner, k of which are partners of known ones.
    let fresh = (n - kk) / n;
    let mut miss = 0.0;
    if fresh > 0.0 {
        let m = n - 1.0;
        let lucky = 1.0 / m * (2.0 + uncoverings(u - 2, k, memo));
        // The second card's partner is known: the pair is taken in the turn after, with two uncoverings.
        let known = if k > 0 { kk / m * (4.0 + uncoverings(u - 2, k, memo)) } else { 0.0 };
        let none = (m - 1.0 - kk) / m;
        let none = if none > 0.0 { none * (2.0 + uncoverings(u - 2, k + 2, memo)) } else { 0.0 };
        // Or the second card is one that is known anyway.
        let new_second = lucky + known + none;
        let waste = if k > 0 { 2.0 + uncoverings(u - 1, k + 1, memo) } else { f64::INFINITY };
        miss = fresh * new_second.min(waste);
    }
    let v = hit + miss;
    memo.insert((u, k), v);
    v
}

#[test]
fn pairs_take_the_turns_of_a_plain_recursion() {
    for (n, deal, exact) in
        [(1, "1 1", fraction(2, 1)), (2, "1 1 2 2", fraction(16, 3)), (3, "1 1 2 2 3 3", fraction(26, 3))]
    {
        let g = game(PAIRS, &format!("values.deal = '{deal}'\nvalues.in_order = true"));
        let list = worlds(&g.bound, 10_000).expect("a prior").expect("few");
        let packed: Vec<(Vec<u64>, u64)> = list.iter().map(|(s, w)| (g.pack(s), *w)).collect();
        let knowing = Knowing::new(&g, &packed, None).expect("worlds");
        let a = odds(&knowing, &limits(), Fractions::WhereSmall, &NoWatch).expect("small and sound");
        assert_eq!(a.moves, Some(Value::Exact(exact)), "{n}");
        let plain = uncoverings(2 * n, 0, &mut HashMap::new());
        assert!((a.moves.expect("finite").low() - plain).abs() < 1e-9, "{n}: {plain}");
        assert!(a.certain || a.almost_certain);
    }
}

#[test]
fn a_scatter_is_uniform_and_exact() {
    let g = game(SWEEP, "size = [2, 3]\nvalues.rocks = 2");
    let mut seen: BTreeMap<Vec<i32>, u32> = BTreeMap::new();
    let n = 6_000;
    for seed in 0..n {
        let state = scatter::scatter(&g.bound, &mut Dice::new(seed)).expect("a layout");
        let reef = state[..6].to_vec();
        assert_eq!(reef.iter().sum::<i32>(), 2);
        *seen.entry(reef).or_default() += 1;
    }
    // 15 layouts, 400 of each expected; chi squared with 14 degrees stays below 36.1 but for one in a thousand.
    assert_eq!(seen.len(), 15);
    let chi: f64 = seen.values().map(|k| (f64::from(*k) - 400.0).powi(2) / 400.0).sum();
    assert!(chi < 36.1, "{chi}");
}

#[test]
fn cells_with_weights_of_their_own() {
    // Cell by cell instead of so many, as the model's comment says.
    let text = SWEEP
        .replace(
            "    with count(c on reef where reef[c]) == rocks and not any(c on reef where shown[c]: reef[c])",
            "    each c (true weight col(c), false weight 2) with not any(c on reef where shown[c]: reef[c])",
        )
        .replace(
            "goal count(c on seen where not seen[c]) == rocks",
            "goal all(c on seen: seen[c] or reef[c])",
        );
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("m", text.as_str());
    assert!(compile(file, &text, &mut errors).is_some(), "{errors:?}");
    assert!(errors.iter().any(|e| e.code == "W010"), "a goal that reads what is hidden is pointed out");
    let g = game(&text, "values.rocks = 0\ntold.near = '~1~'");
    let b = &g.bound;
    let sight = Sight { state: b.position.clone(), told: b.told(&b.position) };
    let known = Known::new(b, &[sight]).expect("counts");
    let found = known.system.infer().expect("layouts");
    // One of the two: weights 1 : 2 on the left, 3 : 2 on the right, so 1 * 2 against 2 * 3.
    assert_eq!((found.chance(0), found.chance(2)), (fraction(2, 8), fraction(6, 8)));
    let list = worlds(b, 100).expect("a prior").expect("few");
    let mut weights: Vec<u64> = list.iter().map(|w| w.1).collect();
    weights.sort_unstable();
    assert_eq!(weights, [1, 3]);
}

#[test]
fn a_hazard_that_moves_away_is_another_prior_than_one_that_is_drawn_again() {
    let moved = "model moved\nlevel first: cell\nhidden reef: grid of bool with count(c on reef where reef[c]) == 1\n\
        state seen: grid of bool = false\ntell near: count(n in around4(c) where reef[n]) for c on seen where seen[c]\n\
        setup {\n    if reef[first] {\n        reef[first] = false\n        reef[first(c on reef where c != first)] = true\n    }\n    seen[first] = true\n}\n\
        move sound(c: cell) { refuse \"sounded\" unless not seen[c]; if reef[c] { lose \"struck\" }; seen[c] = true }\n\
        goal count(c on seen where not seen[c]) == 1\n";
    let moved =
        moved.replace("level first: cell", "level opening: cell").replace("reef[first]", "reef[opening]");
    let moved = moved.replace("c != first)", "c != opening)").replace("seen[first]", "seen[opening]");
    let g = game(&moved, "size = [1, 4]\nvalues.opening = 'r1c4'");
    let list = worlds(&g.bound, 100).expect("a prior").expect("few");
    let mut by: BTreeMap<Vec<i32>, u64> = BTreeMap::new();
    for (s, w) in &list {
        *by.entry(s[..4].to_vec()).or_default() += w;
    }
    // Of four equally likely cells the last one's rock went to the first.
    assert_eq!(by.into_values().collect::<Vec<_>>(), [1, 1, 2]);
    // The setup changes what is hidden: not followed as counts, and said so.
    let b = &g.bound;
    let sight = Sight { state: b.position.clone(), told: b.told(&b.position) };
    assert_eq!(Known::new(b, &[sight]).err(), Some(NotCounts::Changed("reef".into())));
}

#[test]
fn rules_that_would_tell_are_refused_with_the_place() {
    let base = "model m\nhidden reef: grid of bool\nstate seen: grid of bool = false\n\
                fn near(c: cell) = count(n in around4(c) where reef[n])\n";
    for (rule, wants) in [
        ("move a(c: cell) { refuse \"a rock\" unless not reef[c]; seen[c] = true }", "its condition reads"),
        ("move a(c: cell) { refuse \"near\" unless near(c) == 0; seen[c] = true }", "its condition reads"),
        ("move a(c: cell) { offer not reef[c]; seen[c] = true }", "reads what is hidden"),
        (
            "move a(c: cell) { let n = near(c); refuse \"near\" unless n == 0; seen[c] = true }",
            "its condition reads",
        ),
        ("move a(c: cell) { if reef[c] { refuse \"a rock\" }; seen[c] = true }", "stands behind"),
        ("move a(c: cell) { seen[c] = reef[c]; refuse \"later\" unless seen[c] }", "stands behind"),
        (
            "proc p(c: cell) { refuse \"x\" unless not reef[c] }\nmove a(c: cell) { p(c) }",
            "a procedure that refuses",
        ),
    ] {
        let text = format!("{base}{rule}\n");
        let mut sources = Sources::default();
        let mut errors = vec![];
        let file = sources.add("m", text.as_str());
        assert!(compile(file, &text, &mut errors).is_none(), "{rule}");
        let said: Vec<&str> = errors.iter().flat_map(|e| e.labels.iter().map(|l| l.text.as_str())).collect();
        assert!(errors.iter().all(|e| e.code == "M065"), "{rule}: {errors:?}");
        assert!(said.iter().any(|s| s.contains(wants)), "{rule}: {said:?}");
    }
    model(&format!(
        "{base}tell near(c) for c on seen where seen[c]\nmove a(c: cell) {{ refuse \"seen\" unless not seen[c]; if reef[c] {{ lose \"struck\" }}; seen[c] = true }}"
    ));
}

#[test]
fn layouts_drawn_among_those_that_agree_are_each_drawn_as_often_as_they_weigh() {
    let g = game(SWEEP, "values.rocks = 3\ntold.near = '''\n~2~~\n~~~~\n'''");
    let b = &g.bound;
    let known =
        Known::new(b, &[Sight { state: b.position.clone(), told: b.told(&b.position) }]).expect("counts");
    let sampler = known.system.sampler().expect("layouts");
    let mut dice = Dice::new(7);
    let mut random = || dice.below(1 << 53) as f64 / (1u64 << 53) as f64;
    let all: BTreeSet<Vec<bool>> =
        known.system.solutions(100).expect("few").into_iter().map(|s| s.0).collect();
    let mut seen: BTreeMap<Vec<bool>, u32> = BTreeMap::new();
    for _ in 0..4_000 {
        let layout = sampler.draw(&mut random);
        assert!(all.contains(&layout));
        *seen.entry(layout).or_default() += 1;
    }
    // 20 layouts, 200 of each expected; chi squared with 19 degrees stays below 43.8 but for one in a thousand.
    assert_eq!(seen.len(), 20);
    let chi: f64 = seen.values().map(|k| (f64::from(*k) - 200.0).powi(2) / 200.0).sum();
    assert!(chi < 43.8, "{chi}");
}

/// Which of several shells hides a pearl: cells are alike, and what lies there is no name.
const SHELLS: &str = "
model shells
level pearls: 0..9
level tries: 0..9
hidden pearl: grid of bool with count(c on pearl where pearl[c]) == pearls
state lifted: grid of bool = false
state left_: 0..tries = tries
state last_: maybe cell = none
fn found() = count(c on pearl where lifted[c] and pearl[c])
tell found()
move lift(c: cell) {
    refuse \"lifted\" unless not lifted[c]
    refuse \"no more tries\" unless left_ > 0
    lifted[c] = true
    left_ -= 1
    last_ = c
}
move cover(c: cell) {
    refuse \"not the last one\" unless last_ == c
    refuse \"no more tries\" unless left_ > 0
    lifted[c] = false
    left_ -= 1
    last_ = none
}
goal left_ == 0 and count(c on lifted where lifted[c]) == 2 and found() == 1
";

#[test]
fn cells_that_the_rules_tell_apart_are_not_exchanged() {
    let levels = [
        (SWEEP, "size = [3, 3]\nvalues.rocks = 2"),
        (JUMPS, "size = [3, 3]\nvalues.rocks = 2"),
        (PAIRS, "values.deal = '1 1 2 2'\nvalues.in_order = true"),
    ];
    for (text, level) in levels {
        assert_eq!(exchange(&game(text, level).bound), None, "{level}");
    }
    // A level value that differs from cell to cell; one that does not.
    let tolls = SHELLS
        .replace("level tries: 0..9", "level tries: 0..9\nlevel toll: grid of 0..3 = 0")
        .replace("left_ -= 1\n    last_ = c", "left_ -= 1\n    if toll[c] > 0 { left_ = 0 }\n    last_ = c");
    let level = "size = [1, 4]\nvalues.pearls = 2\nvalues.tries = 3";
    assert!(exchange(&game(&tolls, level).bound).is_some());
    assert_eq!(exchange(&game(&tolls, &format!("{level}\nvalues.toll = '0 0 1 0'")).bound), None);
    // Names that are compared by size are none.
    let sized = PAIRS.replace("if card[c] != card[f] {", "if card[c] > card[f] {");
    let found = exchange(&game(&sized, "values.deal = '1 1 2 2'").bound).expect("cells are alike");
    assert_eq!(found.names, None);
    let found = exchange(&game(PAIRS, "values.deal = '1 1 2 2 3 3 3'").bound).expect("cells are alike");
    assert_eq!(found.names.expect("names").groups, [vec![1, 2], vec![3]]);
}

/// A state with its cells and names exchanged.
fn exchanged(found: &Exchange, state: &[i32], cells: &[usize], names: &HashMap<i32, i32>) -> Vec<i32> {
    let mut out = state.to_vec();
    for (from, &to) in cells.iter().enumerate() {
        for grid in &found.grids {
            out[grid + to] = state[grid + from];
        }
        if let Some(n) = &found.names {
            let value = state[n.grid + from];
            out[n.grid + to] = names.get(&value).copied().unwrap_or(value);
        }
    }
    for &h in &found.holders {
        if let Some(to) = usize::try_from(state[h]).ok().and_then(|c| cells.get(c)) {
            out[h] = *to as i32;
        }
    }
    out
}

#[test]
fn exchanging_cells_and_names_exchanges_them_in_everything_that_follows() {
    let mut rng = SmallRng::seed_from_u64(5);
    for (text, level) in [
        (PAIRS, "values.deal = '1 1 2 2 3 3'"),
        (PAIRS, "values.deal = '1 1 2 2 3 3 3'\nvalues.countdown = 2"),
        (PAIRS, "values.deal = '1 1 2 2 3 3 4 4'\nvalues.countdown = 3\nvalues.third = true"),
        (SHELLS, "size = [2, 3]\nvalues.pearls = 2\nvalues.tries = 5"),
    ] {
        let g = game(text, level);
        let found = exchange(&g.bound).expect("cells are alike");
        let mut worker = g.worker();
        let layouts = worlds(&g.bound, 100_000).expect("a prior").expect("few");
        for _ in 0..60 {
            let mut cells: Vec<usize> = (0..found.cells).collect();
            for i in (1..cells.len()).rev() {
                cells.swap(i, rng.random_range(0..=i));
            }
            let mut names = HashMap::new();
            for group in found.names.iter().flat_map(|n| &n.groups) {
                let mut to = group.clone();
                to.rotate_left(rng.random_range(0..group.len()));
                names.extend(group.iter().copied().zip(to));
            }
            let mut state = layouts[rng.random_range(0..layouts.len())].0.clone();
            for _ in 0..12 {
                let other = exchanged(&found, &state, &cells, &names);
                let mut outcomes = |state: &[i32]| -> Vec<(Vec<i32>, Status)> {
                    let mut out = Expansion::default();
                    worker.expand(&g.pack(state), false, &mut out);
                    let words = g.layout().words();
                    let next = out.outcomes.chunks_exact(words);
                    next.map(|w| (g.unpack(w), worker.status(w).expect("sound"))).collect()
                };
                let (a, b) = (outcomes(&state), outcomes(&other));
                let image: BTreeSet<String> = a
                    .iter()
                    .map(|(s, e)| format!("{:?} {e:?}", exchanged(&found, s, &cells, &names)))
                    .collect();
                let b: BTreeSet<String> = b.iter().map(|(s, e)| format!("{s:?} {e:?}")).collect();
                assert_eq!(image, b, "{level}");
                let Some((next, Status::Running)) = a.get(rng.random_range(0..a.len().max(1))) else { break };
                state.clone_from(next);
            }
        }
    }
}

#[test]
fn information_states_that_are_alike_have_the_same_values_once_as_apart() {
    for (text, level) in [
        (PAIRS, "values.deal = '1 1 2 2'"),
        (PAIRS, "values.deal = '1 1 2 2 3 3'"),
        (PAIRS, "values.deal = '1 1 2 2 2'\nvalues.countdown = 2"),
        (PAIRS, "values.deal = '1 1 2 2'\nvalues.countdown = 2\nvalues.third = true"),
        (PAIRS, "values.deal = '1 1 2 2 2 2'"),
        (SHELLS, "size = [1, 4]\nvalues.pearls = 2\nvalues.tries = 4"),
        (SHELLS, "size = [2, 3]\nvalues.pearls = 1\nvalues.tries = 5"),
    ] {
        let g = game(text, level);
        let pack = |list: Vec<(Vec<i32>, u64)>| -> Vec<(Vec<u64>, u64)> {
            list.iter().map(|(s, w)| (g.pack(s), *w)).collect()
        };
        let all = pack(worlds(&g.bound, 100_000).expect("a prior").expect("few"));
        let plain = Knowing::new(&g, &all, None).expect("worlds");
        let found = exchange(&g.bound).expect("cells are alike");
        let fewer = match &found.names {
            Some(n) => {
                let once =
                    scatter::layouts_by_names(&g.bound, n.var, &n.groups, (100_000, &|| false)).expect("few");
                pack(worlds_of(&g.bound, once, 100_000).expect("a prior").expect("few"))
            }
            None => all.clone(),
        };
        let alike = Knowing::alike(&g, &fewer, None, found.of(&g)).expect("worlds");
        assert_eq!(alike.layouts(), all.len() as u128, "{level}");
        let a = odds(&plain, &limits(), Fractions::Always, &NoWatch).expect("small and sound");
        let b = odds(&alike, &limits(), Fractions::Always, &NoWatch).expect("small and sound");
        assert!(b.counts.states < a.counts.states, "{level}: {} of {}", b.counts.states, a.counts.states);
        assert_eq!(
            (&a.win, &a.moves, a.certain, a.almost_certain),
            (&b.win, &b.moves, b.certain, b.almost_certain),
            "{level}"
        );
        // What is told first is one outcome, whatever its name.
        let wins = |m: &fendle_core::odds::MoveOdds| (m.of, m.win.clone());
        assert!(a.from_start.iter().map(wins).eq(b.from_start.iter().map(wins)), "{level}");
        assert_eq!(a.counts.shortest, b.counts.shortest, "{level}");
    }
}

#[test]
fn six_pairs_take_the_turns_of_a_plain_recursion() {
    let g = game(PAIRS, "values.deal = '1 1 2 2 3 3 4 4 5 5 6 6'");
    let found = exchange(&g.bound).expect("cells are alike");
    let names = found.names.clone().expect("names");
    let once =
        scatter::layouts_by_names(&g.bound, names.var, &names.groups, (20_000, &|| false)).expect("few");
    // 11 * 9 * 7 * 5 * 3 ways to pair twelve cards.
    assert_eq!(once.len(), 10_395);
    // One fewer is too few; and whoever asks can end it.
    assert!(scatter::layouts_by_names(&g.bound, names.var, &names.groups, (10_394, &|| false)).is_none());
    assert!(scatter::layouts_by_names(&g.bound, names.var, &names.groups, (20_000, &|| true)).is_none());
    let list = worlds_of(&g.bound, once, 20_000).expect("a prior").expect("few");
    let packed: Vec<(Vec<u64>, u64)> = list.iter().map(|(s, w)| (g.pack(s), *w)).collect();
    let knowing = Knowing::alike(&g, &packed, None, found.of(&g)).expect("worlds");
    assert_eq!(knowing.layouts(), 7_484_400, "12! / 2^6");
    let a = odds(&knowing, &limits(), Fractions::WhereSmall, &NoWatch).expect("small and sound");
    let plain = uncoverings(12, 0, &mut HashMap::new());
    assert!((a.moves.expect("finite").low() - plain).abs() < 1e-9, "{plain}");
}

#[test]
fn layouts_that_the_setup_drops_are_drawn_again_and_met_as_often_as_they_weigh() {
    // One that holds the first cell is dropped, one that holds the last one is kept half the time.
    let text = "model dropped\nhidden reef: grid of bool with count(c on reef where reef[c]) == 2\n\
        state seen: grid of bool = false\ntell reef[c] for c on seen where seen[c]\n\
        setup {\n    require not reef[r1c1] because \"the first is water\"\n\
        \x20   let kept = draw from (true, false)\n    require kept or not reef[r1c4] because \"dropped half the time\"\n}\n\
        move look(c: cell) { refuse \"seen\" unless not seen[c]; seen[c] = true }\ngoal all(c on seen: seen[c] or c == r1c1)\n";
    let g = game(text, "size = [1, 4]");
    let list = worlds(&g.bound, 100).expect("a prior").expect("few");
    let all: u64 = list.iter().map(|w| w.1).sum();
    let mut weights: BTreeMap<Vec<i32>, u64> = BTreeMap::new();
    list.iter().for_each(|(s, w)| *weights.entry(s[..4].to_vec()).or_default() += w);
    let mut sorted: Vec<u64> = weights.values().copied().collect();
    sorted.sort_unstable();
    assert_eq!(sorted, [1, 1, 2], "cells 2 and 3, or one of them and cell 4");
    let mut bound = g.bound.clone();
    let reef = bound.model.var("reef").expect("a variable");
    bound.scattered = vec![reef];
    let mut often: BTreeMap<Vec<i32>, u32> = BTreeMap::new();
    let (mut again, draws) = (0, 4_000);
    for seed in 0..draws {
        let (one, layout) = sample_with_layout(&bound, seed).expect("some layout is kept");
        assert_eq!(one.state[..4], layout[..4], "the setup changes no layout");
        *often.entry(layout[..4].to_vec()).or_default() += 1;
        again += u32::from(one.attempts > 1);
        assert_eq!(sample_with_layout(&bound, seed).expect("the same").0, one);
    }
    assert_eq!(often.len(), weights.len());
    for (layout, weight) in &weights {
        let (met, want) = (f64::from(often[layout]), *weight as f64 / all as f64 * draws as f64);
        // Six times the deviation that is to be expected.
        assert!((met - want).abs() < 6.0 * want.sqrt(), "{met} {want}");
    }
    assert!(again > 1_000, "{again}");
}
