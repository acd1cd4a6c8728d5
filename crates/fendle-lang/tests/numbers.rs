//! States as numbers: every way to number them, and spaces kept by number against spaces in hashed tables.

use crate::common;

use std::collections::{HashMap, HashSet};

use common::{SHOVE, SLIDE, afresh, game, games, model, round_trips, said};
use fendle_core::structure::{Structure, structure};
use fendle_core::{Explored, Limits, Model as _, NoWatch, explore, solve};
use fendle_lang::Game;
use fendle_lang::code::native::WhenItPays;
use fendle_lang::code::numbered::Guess;
use fendle_lang::reasons::numbering::numbering;
use fendle_lang::run::ways::{Count, Ways};
use fendle_lang::state::Keys;
use fendle_lang::state::keys::{FieldPlan, KeptParity};

const CORPUS: &[(&str, &str)] = &[
    (SLIDE, include_str!("levels/slide.toml")),
    (SHOVE, include_str!("levels/shove.toml")),
    (SLIDE, include_str!("../../../packs/harbour/ferry.toml")),
    (SHOVE, include_str!("../../../packs/harbour/yard.toml")),
    (include_str!("../../../models/coil.fendle"), include_str!("../../../packs/harbour/hawser.toml")),
    (
        include_str!("../../../models/coil.fendle"),
        "model = 'coil'\n[[level]]\nvalues = { rings = 5, posts = 4, home = 4, alike_posts = true }",
    ),
    (include_str!("../../../models/frame.fendle"), include_str!("../../../packs/harbour/crates.toml")),
    (include_str!("../../../models/tubes.fendle"), include_str!("../../../packs/harbour/barrels.toml")),
    (include_str!("../../../models/fall.fendle"), include_str!("../../../packs/harbour/hold.toml")),
    (include_str!("../../../models/clump.fendle"), include_str!("../../../packs/harbour/nets.toml")),
    (include_str!("../../../models/match.fendle"), include_str!("../../../packs/harbour/market.toml")),
    (include_str!("../../../models/merge.fendle"), include_str!("../../../models/merge.start.toml")),
];

fn few() -> Limits {
    Limits { max_states: 4_000, drop_edges: true, number_from: 1, ..Limits::default() }
}

/// Explores and solves a game in hashed tables and by number, by the interpreter and by native code, on one thread and on three:
/// all say the same. Gives whether there were numbers.
fn agrees(game: &Game) -> bool {
    let mut plain = afresh(game);
    plain.numbering = None;
    let mut native = afresh(game);
    native.native = WhenItPays::by(fendle_native::make);
    let mut by_number = false;
    for past_goals in [false, true] {
        let hashed = explore(&plain, few(), past_goals, &NoWatch).expect("sound");
        for (game, threads) in [(game, 1), (&native, 1), (&native, 3)] {
            let found = explore(game, Limits { threads, ..few() }, past_goals, &NoWatch).expect("sound");
            if found.counts.numbers.is_none() {
                continue;
            }
            by_number = true;
            // Where a limit cut the search short, the two may have seen different states of the last depth.
            if hashed.counts.complete {
                assert_eq!(said(&found), said(&hashed), "{} {threads}", game.bound.name);
                let levels = (0..found.space.levels_len()).flat_map(|d| found.space.level(d));
                assert!(found.space.ids().eq(levels), "nearest first");
                for depth in 0..found.space.levels_len() {
                    let states = |f: &Explored| -> HashSet<(Vec<u64>, u8)> {
                        f.space.level(depth).map(|id| (f.space.state(id), f.space.class(id) as u8)).collect()
                    };
                    assert_eq!(states(&found), states(&hashed), "{} depth {depth}", game.bound.name);
                }
            } else {
                assert_eq!(found.counts.states, 4_000);
            }
        }
    }
    remainders_agree(game, &native);
    // With edges kept nothing changes.
    let kept = Limits { drop_edges: false, ..few() };
    let found = explore(&native, kept, false, &NoWatch).expect("sound");
    assert!(!found.space.holds_numbers());
    let (a, b) = (solve(&plain, few(), &NoWatch), solve(&native, few(), &NoWatch));
    let (a, b) = (a.expect("sound"), b.expect("sound"));
    if a.states < 4_000 {
        assert_eq!(a.verdict, b.verdict, "{}", game.bound.name);
    }
    by_number
}

/// Explores and solves a game in whole states and in remainders of them: packed states, or words of stills where wide ones have some.
fn remainders_agree(game: &Game, native: &Game) {
    let whole = Limits { number_from: u64::MAX, threads: 1, ..few() };
    for past_goals in [false, true] {
        let kept = explore(game, whole, past_goals, &NoWatch).expect("sound");
        for (number_from, remainders_from, threads) in [(u64::MAX, 1, 1), (u64::MAX, 300, 3), (2, 40, 2)] {
            let mut rest = afresh(native);
            rest.numbering = None;
            let limits = Limits { number_from, remainders_from, threads, ..whole };
            let found = explore(&rest, limits, past_goals, &NoWatch).expect("sound");
            if kept.counts.complete {
                assert_eq!(said(&found), said(&kept), "{} {remainders_from} {threads}", game.bound.name);
                assert_eq!(found.fault, kept.fault);
                let solution = |f: &Explored, g: &Game| f.solution(g, &NoWatch).expect("no limit");
                assert_eq!(solution(&found, &rest), solution(&kept, game));
            }
        }
    }
    let verdict = |limits| solve(game, limits, &NoWatch).expect("sound");
    let (kept, found) = (verdict(whole), verdict(Limits { remainders_from: 1, threads: 2, ..whole }));
    assert!(kept.states == 4_000 || kept.verdict == found.verdict, "{}", game.bound.name);
}

#[test]
fn spaces_by_number_say_what_hashed_tables_say() {
    let (mut levels, mut numbered, mut all, mut told) = (0, 0, 0, 0);
    for (m, text) in CORPUS {
        for game in games(&model(m), text) {
            if game.bound.drawn {
                continue;
            }
            levels += 1;
            numbered += usize::from(agrees(&game));
            let trip = round_trips(&game, 1000);
            let (states, known) = trip.map_or((0, 0), |t| (t.states, t.told));
            all += states;
            told += known;
        }
    }
    assert!(numbered * 2 > levels, "{numbered} of {levels} levels had numbers");
    assert!(told * 2 > all, "leaps were known of {told} of {all} states");
}

/// From some thousand states on native code expands packed states whole, on boards of one word and of several.
#[test]
fn packed_states_that_native_code_expands_whole_are_those_of_the_interpreter() {
    let yard = "A..H...\n.o.o.o.\n..._..H\n.o_o_..\n..H...w";
    let large =
        "A..H.....\n.o.o.....\n..._..H..\n.o_o_....\n..H......\n.........\n.........\n......_..\n.........";
    for (board, bits, most) in [(yard, 35, 60_000), (large, 81, 20_000)] {
        let game = game(SHOVE, &format!("start.yard = '''\n{board}\n'''"));
        assert!(game.layout().bits > bits && (game.layout().words() > 1) == (bits > 64));
        let mut native = afresh(&game);
        native.native = WhenItPays::by(fendle_native::make);
        let limits = Limits { max_states: most, drop_edges: false, ..Limits::default() };
        let interpreted = explore(&game, limits, false, &NoWatch).expect("sound");
        for threads in [1, 3] {
            let found = explore(&native, Limits { threads, ..limits }, false, &NoWatch).expect("sound");
            assert_eq!(found.counts, interpreted.counts);
            assert_eq!(found.counts.states, most);
            for id in found.space.ids() {
                assert_eq!(found.space.state(id), interpreted.space.state(id));
            }
        }
        assert!(native.native.packed().is_some(), "it was made while the space was seen");
    }
}

/// Where a space is kept by number there is no log of its transitions: the rules are asked again, and the structure is the same.
#[test]
fn the_structure_of_a_space_by_number_is_that_of_a_logged_one() {
    let mut by_number = 0;
    for (m, text) in CORPUS {
        for game in games(&model(m), text).iter().filter(|g| !g.bound.drawn && g.is_sure()) {
            let mut native = afresh(game);
            native.native = WhenItPays::by(fendle_native::make);
            for (past_goals, threads) in [(false, 1), (true, 3)] {
                let logged = Limits { drop_edges: false, ..few() };
                let limits = Limits { threads, ..few() };
                let found = explore(&native, limits, past_goals, &NoWatch).expect("sound");
                let kept = explore(&native, logged, past_goals, &NoWatch).expect("sound");
                if found.space.has_edges() || !found.counts.complete {
                    continue;
                }
                by_number += 1;
                let said = |found: &Explored, limits: &Limits| {
                    let (structure, far) = structure(&native, found, limits, &NoWatch).expect("seen whole");
                    let passed: Vec<Vec<u64>> =
                        structure.must_pass.iter().map(|id| found.space.state(*id)).collect();
                    let far: HashMap<Vec<u64>, Option<u32>> =
                        found.space.ids().map(|id| (found.space.state(id), far.get(id))).collect();
                    (Structure { must_pass: vec![], ..structure }, passed, far)
                };
                assert_eq!(said(&found, &limits), said(&kept, &logged), "{}", game.bound.name);
            }
        }
    }
    assert!(by_number > 10, "{by_number} spaces by number");
}

#[test]
fn a_sliding_board_is_halved_by_the_parity_that_it_keeps() {
    let slide = |rows: &str, more: &str| game(SLIDE, &format!("values.target = '''\n{rows}\n'''\n{more}"));
    let range = |g: &Game| numbering(g, 1 << 16, Guess::Forbidden, &mut || false).map(|n| n.keys.range());
    let g = slide("1 2 3\n4 5 6\n7 8 .", "");
    assert_eq!(range(&g), Some(362_880 / 2));
    assert!(
        numbering(&g, 1 << 20, Guess::Forbidden, &mut || false).is_some_and(|n| n.undone),
        "every slide can be taken back"
    );
    // A bolted tile is no part of it: seven tiles and the gap move over eight cells.
    let g = slide("1 2 3\n4 5 6\n7 8 .", "values.bolted = '''\nx..\n...\n...\n'''");
    assert_eq!(range(&g), Some(40_320 / 2));
    // Tiles that look alike: 6! / (2! 3!) arrangements, of which no parity is kept.
    let g = slide("1 1 2\n2 2 .", "");
    assert_eq!(range(&g), Some(60));
    // Twelve cells, halved, fit; sixteen do not.
    let g = slide("1 2 3 4\n5 6 7 8\n9 10 11 .", "");
    assert_eq!(range(&g), Some(239_500_800));
    let g = slide("1 2 3 4\n5 6 7 8\n9 10 11 12\n13 14 15 .", "");
    assert_eq!(range(&g), None);
}

#[test]
fn a_yard_counts_places_of_the_agent_and_sets_of_bodies() {
    // The agent walks on all 8 cells left of the wall; the bodies never get behind it.
    let g = game(SHOVE, "start.yard = '''\nA..H..\n.oo...\n..._H.\n'''");
    let ways = Ways::of(&g.bound, 1 << 16, &mut || false).expect("few ways");
    let can = ways.can_be(&[&g.bound.position]);
    let (b, m) = (&g.bound, &g.bound.model);
    let places = |name: &str| {
        let slot = &b.slots[m.var(name).expect("a variable")];
        slot.base..slot.base + slot.len
    };
    assert_eq!(can.count(&ways, places("barge"), 1), Count::Kept);
    let found = numbering(&g, 1 << 20, Guess::Forbidden, &mut || false).expect("few numbers");
    let walked = can.values[places("tug").start].len() as u64;
    let pushed = places("barge").filter(|at| can.values[*at].len() > 1).count() as u64;
    assert_eq!(found.keys.range(), walked * pushed * (pushed - 1) / 2);
    // Water swallows bodies: their number falls, and sets of two, one or none are counted.
    let g = game(SHOVE, "start.yard = '''\nA...\n.oo.\n..w.\n'''");
    let ways = Ways::of(&g.bound, 1 << 16, &mut || false).expect("few ways");
    let can = ways.can_be(&[&g.bound.position]);
    assert_eq!(can.count(&ways, places_of(&g, "barge"), 1), Count::Falls);
    assert!(!ways.can_be_undone(&can), "a push is not taken back");
}

fn places_of(g: &Game, name: &str) -> std::ops::Range<usize> {
    let slot = &g.bound.slots[g.bound.model.var(name).expect("a variable")];
    slot.base..slot.base + slot.len
}

/// All keys of a small layout: each comes from just one state.
fn all_of(keys: &Keys) -> HashSet<Vec<i32>> {
    let mut out = HashSet::new();
    for key in 0..keys.range() {
        let mut values = vec![0; keys.values_len()];
        keys.unpack(key, &mut values, &mut vec![0; keys.fields_len()]);
        assert_eq!(keys.key(&values), Some(key));
        assert!(out.insert(values), "two numbers of one state");
    }
    out
}

#[test]
fn every_kind_of_part_numbers_its_states_without_a_gap() {
    // 3 * (C(6,3) + C(6,2) + C(6,1) + 1) states: one of three values, and at most three of six places.
    let wanted = vec![FieldPlan::Single(0, vec![-4, 0, 900]), FieldPlan::Members((1..7).collect(), 0, 3)];
    let keys = Keys::new(vec![0, 1, 0, 0, 0, 1, 0, 7], wanted).expect("small");
    assert_eq!(keys.range(), 3 * (20 + 15 + 6 + 1));
    let all = all_of(&keys);
    assert!(all.iter().all(|v| v[7] == 7 && v[1..7].iter().sum::<i32>() <= 3));
    assert_eq!(keys.key(&[0, 1, 1, 1, 1, 0, 0, 7]), None, "four members");
    assert_eq!(keys.key(&[0, 1, 0, 0, 0, 0, 0, 8]), None, "a value that never changes");
    assert_eq!(keys.key(&[1, 1, 0, 0, 0, 0, 0, 7]), None, "a value that cannot be");

    // Five values in any order, all of them and halved by a parity that counts one value at odd places.
    let base = vec![3, 9, 1, 4, 0];
    let keys = Keys::new(base.clone(), vec![FieldPlan::Arranged((0..5).collect(), None)]).expect("small");
    assert_eq!((keys.range(), all_of(&keys).len()), (120, 120));
    let parity = KeptParity { counts: vec![(0, vec![1, 3])] };
    let halved =
        Keys::new(base.clone(), vec![FieldPlan::Arranged((0..5).collect(), Some(parity))]).expect("small");
    assert_eq!(halved.range(), 60);
    let odd = |v: &[i32]| {
        let swaps: usize = (0..5).map(|i| v[..i].iter().filter(|x| **x > v[i]).count()).sum();
        (swaps + usize::from(v[1] == 0 || v[3] == 0)) % 2
    };
    let want: HashSet<Vec<i32>> = all_of(&keys).into_iter().filter(|v| odd(v) == odd(&base)).collect();
    assert_eq!(all_of(&halved), want);

    // Values that repeat: 7! / (3! 2! 2!).
    let keys = Keys::new(vec![1, 1, 1, 2, 2, 5, 5], vec![FieldPlan::Arranged((0..7).collect(), None)])
        .expect("small");
    assert_eq!((keys.range(), all_of(&keys).len()), (210, 210));

    // Three numbers on two piles: 3! orders, 4 heights.
    let piles = FieldPlan::Piles(0, 2, 3, (1, 3), 0, None);
    let keys = Keys::new(vec![3, 1, 2, 3, 0, 0, 0, 0], vec![piles]).expect("small");
    assert_eq!((keys.range(), all_of(&keys).len()), (24, 24));
}

/// A cascade that goes on past its bound is set aside: one state that is not decided stands for all of them, and it has a number as well.
#[test]
fn branches_that_are_set_aside_have_numbers() {
    let m = model(include_str!("../../../models/match.fendle"));
    for (board, cascades, states) in [("3../122/332/323", 1, 940), ("..3/121/121/233", 1, 3604)] {
        let level = format!(
            "model = 'm'\n[[level]]\nvalues.kinds = 3\nvalues.free = true\nvalues.cascades = {cascades}\nstart.tile = '''\n{}\n'''",
            board.replace('/', "\n")
        );
        let game = games(&m, &level).remove(0);
        let mut plain = afresh(&game);
        plain.numbering = None;
        let packed = explore(&plain, few(), false, &NoWatch).expect("sound");
        assert_eq!((packed.counts.states, packed.counts.cut), (states, true), "{board}");
        assert!(packed.counts.open > 0 && !packed.space.holds_numbers());
        let mut native = afresh(&game);
        native.native = WhenItPays::by(fendle_native::make);
        for threads in [1, 3] {
            let found = explore(&native, Limits { threads, ..few() }, false, &NoWatch).expect("sound");
            assert!(found.space.holds_numbers());
            assert_eq!(said(&found), said(&packed), "{board}");
        }
        // With room for all of them nothing is set aside, and nothing is open.
        let wide = level.replace("cascades = 1", "cascades = 20");
        let found = explore(&games(&m, &wide).remove(0), few(), false, &NoWatch).expect("sound");
        assert!(!found.counts.cut && found.counts.open == 0 && found.counts.complete, "{board}");
    }
}

#[test]
fn numbers_beyond_two_to_the_33_are_held_by_the_tables() {
    // Nine dials of sixteen marks that turn together, and a lamp. A turn has 16^9 ways, too many to be followed, so the types say
    // what can be: 2 * 16^9 states, of which 32 are reached.
    let model = "model dials\nstate dial: array 1..9 of 0..15\nstate lamp: bool\n\
        move turn { for k in 1..9 { dial[k] = (dial[k] + 1) mod 16 } }\nmove press { lamp = not lamp }\n\
        goal dial[1] == 15 and lamp\n";
    let mut g = game(model, "start.dial = [0, 0, 0, 0, 0, 0, 0, 0, 0]\nstart.lamp = false");
    g.native = WhenItPays::by(fendle_native::make);
    assert_eq!(
        numbering(&g, 1 << 20, Guess::Forbidden, &mut || false).map(|n| n.keys.range()),
        Some(2 << 36)
    );
    let found = explore(&g, few(), true, &NoWatch).expect("sound");
    assert!(found.space.holds_numbers() && found.counts.numbers.is_none() && found.space.bits() == 37);
    assert_eq!((found.counts.states, found.counts.goal, found.counts.shortest), (32, 1, Some(16)));
    assert_eq!(found.counts.winnable, 31);
    // Tables of packed states say the same, edge by edge.
    let mut plain = afresh(&g);
    plain.numbering = None;
    let packed = explore(&plain, few(), true, &NoWatch).expect("sound");
    assert!(!packed.space.holds_numbers() && packed.space.has_edges() && found.space.has_edges());
    assert_eq!(said(&found), said(&packed));
    let edges = |f: &Explored, depth: u32| -> HashSet<(Vec<u64>, Vec<Vec<u64>>)> {
        let mut out = HashSet::new();
        f.space.each_edges(depth, |id, edges| {
            out.insert((f.space.state(id), edges.iter().map(|e| f.space.state(e.to)).collect()));
        });
        out
    };
    for depth in 0..found.space.levels_len() {
        assert_eq!(edges(&found, depth), edges(&packed, depth), "depth {depth}");
    }
}

#[test]
fn limits_cut_a_space_by_number_exactly_and_alike_on_all_threads() {
    let g = game(SLIDE, "values.target = '''\n1 2 3\n4 5 6\n7 8 .\n'''");
    for most in [1, 2, 777, 50_000, 181_439] {
        let mut all = HashSet::new();
        for threads in [1, 2, 7] {
            let limits = Limits { max_states: most, threads, ..few() };
            let found = explore(&g, limits, true, &NoWatch).expect("sound");
            assert_eq!((found.counts.states, found.counts.complete), (most, false));
            let states: Vec<Vec<u64>> = found.space.ids().map(|id| found.space.state(id)).collect();
            assert_eq!(states.len() as u64, most);
            all.insert((format!("{:?}", found.counts), states));
        }
        assert_eq!(all.len(), 1, "{most} states");
    }
    let whole = explore(&g, Limits { max_states: u64::MAX, ..few() }, true, &NoWatch).expect("sound");
    assert!(whole.counts.complete);
    assert_eq!(
        (whole.counts.states, whole.counts.winnable, whole.counts.numbers),
        (181_440, 181_439, Some(181_440))
    );
}

/// Numbers of one part and of several, with flags in rows of every length, values with gaps, values that begin elsewhere than at 0, sets
/// and arrangements between them: every state comes back from its number, and both executors lead to the same ones.
#[test]
fn wide_numbers_are_taken_to_pieces_and_put_together_alike() {
    for (rows, cols, marks, wide) in
        [(1, 3, 3, 5), (1, 4, 4, 20), (3, 5, 2, 7), (4, 7, 9, 30), (5, 7, 4, 11), (5, 8, 3, 2)]
    {
        let cells = rows * cols;
        let model = format!(
            "model wide\nstate dial: -3..{marks}\nstate lit: grid of bool = false\nstate gap: 0..40\n\
             state flag: array 1..5 of bool\nstate count: array 1..2 of 0..{wide}\nstate far: 0..500\nstate done: bool\n\
             move flip(c: cell) {{ lit[c] = not lit[c] }}\n\
             move both(c: cell) {{\n    refuse \"it is lit\" unless not lit[c]\n    lit[c] = true\n    flag[1] = not flag[5]\n    flag[5] = true\n}}\n\
             move turn {{ dial = if dial == {marks} then -3 else dial + 1 }}\n\
             move jump {{ gap = if gap == 0 then 7 else if gap == 7 then 40 else 0 }}\n\
             move leap {{ far = if far == 0 then 500 else if far == 500 then 12 else 0 }}\n\
             move raise(k: 1..2) {{\n    refuse \"it is full\" unless count[k] < {wide}\n    count[k] += 1\n    dial = -3\n    flag[3] = not flag[3]\n}}\n\
             move swap {{\n    let first = count[1]\n    count[1] = count[2]\n    count[2] = first\n}}\n\
             move give {{\n    refuse \"the dial is low\" unless dial > 0\n    win\n}}\n"
        );
        let level = format!(
            "size = [{rows}, {cols}]\n\
             start = {{ dial = 0, gap = 0, count = [0, 0], flag = [false, true, false, false, false], far = 0, done = false }}"
        );
        let g = game(&model, &level);
        let numbers = numbering(&g, 1 << 17, Guess::Forbidden, &mut || false).expect("numbers");
        // Values as the rules lead to them; `done` never changes, and neither do two of the flags.
        let ended = 2;
        let range =
            u64::pow(2, cells as u32) * (marks as u64 + 4) * 3 * 3 * 8 * u64::pow(wide + 1, 2) * ended;
        assert_eq!(numbers.keys.range(), range, "{rows} x {cols}");
        let trip = round_trips(&g, 100).expect("it has numbers");
        assert_eq!(trip.states, 100, "{rows} x {cols}");
    }
}
