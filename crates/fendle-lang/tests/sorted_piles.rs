//! Numbers for piles that are sorted in every start: a guess, which is given up where a pile is not sorted.

use crate::common;

use common::{afresh, laid_out as game, round_trips, said};
use fendle_core::{Class, Explored, Limits, NoWatch, explore, solve};
use fendle_lang::Game;
use fendle_lang::code::native::WhenItPays;
use fendle_lang::code::numbered::Guess;
use fendle_lang::reasons::numbering::numbering;

const COIL: &str = include_str!("../../../models/coil.fendle");

/// Numbers on three piles, in the order that `setup` pushes them, and one move; each pile in one direction, unless the move breaks it.
fn piles(setup: &str, move_: &str) -> Game {
    let model = format!(
        "model piles\nlevel n: 1..6\nstate pile: array 1..3 of list of 1..n max n\nspread 1..n over pile\n\
         setup {{ for k in 1..n {{ {setup} }} }}\n\
         move shift(a: 1..3, b: 1..3) {{\n    offer a != b\n    refuse \"it is empty\" unless len(pile[a]) > 0\n    {move_}\n}}\n\
         goal len(pile[3]) == n\n"
    );
    game(&model, "values.n = 4")
}

fn few() -> Limits {
    Limits { max_states: 60_000, drop_edges: true, number_from: 1, ..Limits::default() }
}

/// The same with packed states, by number, and by number in native code on several threads. Gives what was found by number.
fn agrees(game: &Game) -> Explored {
    let mut plain = afresh(game);
    plain.numbering = None;
    let packed = explore(&plain, few(), false, &NoWatch).expect("sound");
    assert!(packed.counts.complete && !packed.space.holds_numbers());
    let way = solve(&plain, few(), &NoWatch).expect("sound").verdict;
    for threads in [1, 2, 7] {
        let mut native = afresh(game);
        native.native = WhenItPays::by(fendle_native::make);
        let found = explore(&native, Limits { threads, ..few() }, false, &NoWatch).expect("sound");
        assert_eq!(said(&found), said(&packed));
        for id in found.space.ids() {
            let there = packed.space.find(&found.space.state(id)).expect("the same states");
            assert_eq!(found.space.class(id), packed.space.class(there));
        }
        let native = afresh(&native);
        let solved = solve(&native, Limits { threads, ..few() }, &NoWatch).expect("sound");
        assert_eq!(solved.verdict, way);
    }
    let found = explore(&afresh(game), few(), false, &NoWatch).expect("sound");
    assert_eq!(said(&found), said(&packed));
    found
}

#[test]
fn rings_on_posts_are_a_digit_each() {
    for (rings, posts) in [(3, 2), (4, 3), (7, 3), (5, 4), (3, 8)] {
        let level = format!("values = {{ rings = {rings}, posts = {posts}, home = 2 }}");
        let g = game(COIL, &level);
        let numbers = numbering(&g, 1 << 17, Guess::Allowed, &mut || false).expect("few numbers");
        let all = u64::pow(posts, rings);
        assert_eq!((numbers.keys.range(), numbers.keys.is_narrow()), (all, true), "{level}");
        // Every number is a state with all rings, each pile sorted, and comes back.
        for number in 0..all {
            let values = numbers.values(number);
            assert_eq!(numbers.keys.key(&values), Some(number));
        }
        round_trips(&g, 3_000).expect("it has numbers");
        if posts > 2 {
            let found = agrees(&g);
            assert_eq!((found.counts.states, found.counts.numbers), (all, Some(all)), "{level}");
            let shortest = if posts == 3 { (1 << rings) - 1 } else { found.counts.shortest.unwrap_or(0) };
            assert_eq!((found.counts.shortest, found.counts.winnable), (Some(shortest), all - 1));
        }
    }
}

#[test]
fn posts_that_are_alike_are_settled_before_they_are_numbered() {
    let g = game(COIL, "values = { rings = 6, posts = 4, home = 4, alike_posts = true }");
    round_trips(&g, 3_000).expect("it has numbers");
    let found = agrees(&g);
    assert_eq!(found.counts.numbers, Some(u64::pow(4, 6)));
    assert!(found.counts.states < 1_000, "six piles of the same kind stand for one: {}", found.counts.states);
}

#[test]
fn a_post_that_bears_small_rings_only_leaves_dead_states_and_fatal_moves() {
    // The home post bears no ring larger than 2: with three rings nothing can be won; the middle post keeps what it has.
    let g = game(COIL, "values = { rings = 4, posts = 3, home = 3, bears = [4, 1, 4] }");
    let mut plain = afresh(&g);
    plain.numbering = None;
    let packed = explore(&plain, few(), false, &NoWatch).expect("sound");
    let found = explore(&g, few(), false, &NoWatch).expect("sound");
    assert_eq!(said(&found), said(&packed));
    assert_eq!((found.counts.numbers, found.counts.goal), (Some(81), 0));
}

#[test]
fn numbers_that_rise_are_sorted_as_well() {
    // Larger onto smaller: the mirror of rings.
    let g = piles(
        "pile[1].push(k)",
        "refuse \"smaller onto larger\" unless len(pile[b]) == 0 or pile[b].last < pile[a].last\n    \
         take last 1 of pile[a] onto pile[b]",
    );
    round_trips(&g, 3_000).expect("it has numbers");
    let found = agrees(&g);
    assert_eq!((found.counts.states, found.counts.numbers, found.counts.shortest), (81, Some(81), Some(15)));
}

#[test]
fn piles_that_move_whole_or_two_at_a_time_are_numbered_anew() {
    // The upper half of a pile goes elsewhere: more than one number is written.
    let g = piles(
        "pile[1].push(n + 1 - k)",
        "let half = min(2, len(pile[a]))\n    \
         refuse \"larger onto smaller\" unless len(pile[b]) == 0 or pile[b].last > pile[a][len(pile[a]) + 1 - half]\n    \
         take last half of pile[a] onto pile[b]",
    );
    round_trips(&g, 3_000).expect("it has numbers");
    let found = agrees(&g);
    assert!(found.counts.numbers == Some(81) && found.counts.states > 3, "{:?}", found.counts);
}

#[test]
fn a_guess_that_fails_is_given_up_and_nothing_is_lost() {
    // Any number onto any other: 4! orders on three piles of 15 heights.
    let g = piles("pile[1].push(n + 1 - k)", "take last 1 of pile[a] onto pile[b]");
    let numbers = |guess| numbering(&g, 1 << 17, guess, &mut || false).map(|n| n.keys.range());
    assert_eq!((numbers(Guess::Allowed), numbers(Guess::Forbidden)), (Some(81), Some(360)));
    round_trips(&g, 3_000).expect("it has numbers");
    let found = agrees(&g);
    assert_eq!((found.counts.states, found.counts.numbers, found.counts.goal), (360, Some(360), 24));
    assert_eq!((found.counts.winnable, found.counts.shortest), (336, Some(4)));
    // The guess fails late as well: the last one of all may be laid upon the others.
    let late = piles(
        "pile[1].push(n + 1 - k)",
        "refuse \"larger onto smaller\" unless len(pile[3]) == n - 1 or len(pile[b]) == 0 or pile[b].last > pile[a].last\n    \
         take last 1 of pile[a] onto pile[b]",
    );
    let found = agrees(&late);
    assert!(found.counts.states > 81 && found.counts.numbers == Some(360), "{:?}", found.counts);
    // A limit cuts exactly, whether before or after it is given up, and on all threads alike.
    for most in [5, 40, 359] {
        let cut = [1, 2, 7].map(|threads| {
            let limits = Limits { max_states: most, threads, ..few() };
            let found = explore(&afresh(&g), limits, false, &NoWatch).expect("sound");
            assert_eq!((found.counts.states, found.counts.complete), (most, false));
            let states: Vec<_> = found.space.ids().map(|id| found.space.state(id)).collect();
            (format!("{:?}", found.counts), states)
        });
        assert!(cut[0] == cut[1] && cut[0] == cut[2], "{most} states");
    }
}

#[test]
fn edges_are_kept_where_there_is_room_and_made_again_where_there_is_none() {
    let g = game(COIL, "values = { rings = 7, posts = 3 }");
    let roomy = explore(&g, few(), false, &NoWatch).expect("sound");
    assert!(roomy.counts.edges_kept && roomy.counts.numbers == Some(2187));
    // Sixteen bytes of transitions a number do not fit into a quarter of that.
    let memory_bytes = roomy.space.bytes() + 40_000;
    let tight = explore(&afresh(&g), Limits { memory_bytes, ..few() }, false, &NoWatch).expect("sound");
    assert!(tight.counts.complete && !tight.counts.edges_kept);
    assert_eq!(said(&tight), said(&roomy));
    let dead = |f: &Explored| f.space.ids().filter(|id| f.space.class(*id) == Class::Dead).count();
    assert_eq!((dead(&tight), dead(&roomy)), (0, 0));
}
