//! Likeness: what is proved, what is refused, and how many states are left.

use crate::common;

use std::collections::{BTreeSet, HashMap};

use common::{games, model};
use fendle_core::{Explored, Limits, Model as _, NoWatch, explore};
use fendle_lang::{Game, Sources, compile};
use rand::{Rng, SeedableRng, rngs::SmallRng};

const CLUMP: &str = include_str!("../../../models/clump.fendle");
const COIL: &str = include_str!("../../../models/coil.fendle");

fn game(model_text: &str, level: &str) -> Game {
    let mut game = games(&model(model_text), &format!("model = 'm'\n[[level]]\n{level}")).remove(0);
    if game.bound.drawn {
        let all = fendle_lang::run::setup::all(&game.bound).expect("a setup").expect("few ways");
        game.bound.position = all.starts[0].0.clone();
        game = Game::new(game.bound).expect("small");
        if all.starts.len() > 1 {
            game.starts = all.starts;
        }
    }
    game
}

fn explored(game: &Game) -> Explored {
    let found = explore(game, Limits { threads: 1, ..Limits::default() }, false, &NoWatch).expect("a start");
    assert!(found.fault.is_none() && found.counts.complete);
    found
}

#[test]
fn posts_that_are_alike_leave_one_state_for_each_orbit() {
    for n in 1..=6u32 {
        let c = explored(&game(COIL, &format!("values = {{ rings = {n}, alike_posts = true }}"))).counts;
        // Burnside: swapping the two other posts leaves only "all on the third" as it is.
        assert_eq!(c.states, 3u64.pow(n).div_ceil(2));
        assert_eq!(c.shortest, Some(2u32.pow(n) - 1));
        let four = format!("values = {{ rings = {n}, posts = 4, alike_posts = true }}");
        let c = explored(&game(COIL, &four)).counts;
        // The identity, three swaps, two turns of three posts.
        assert_eq!(c.states, (4u64.pow(n) + 3 * 2u64.pow(n) + 2) / 6);
        let apart = explored(&game(COIL, &four).apart()).counts;
        assert_eq!((apart.states, apart.shortest), (4u64.pow(n), c.shortest));
    }
}

/// The states of a space without likeness, each named by the least of its renamings.
fn orbits(apart: &Game, rename: &dyn Fn(&[i32]) -> Vec<Vec<i32>>) -> HashMap<Vec<i32>, BTreeSet<String>> {
    let found = explored(apart);
    let mut out: HashMap<Vec<i32>, BTreeSet<String>> = HashMap::new();
    for depth in 0..found.space.levels_len() {
        for id in found.space.level(depth) {
            let state = apart.unpack(&found.space.state(id));
            let least = rename(&state).into_iter().min().expect("itself");
            out.entry(least).or_default().insert(format!("{:?} {depth}", found.space.class(id)));
        }
    }
    out
}

fn permutations(n: usize) -> Vec<Vec<i32>> {
    if n == 0 {
        return vec![vec![]];
    }
    let mut out = vec![];
    for p in permutations(n - 1) {
        for at in 0..n {
            let mut p = p.clone();
            p.insert(at, n as i32);
            out.push(p);
        }
    }
    out
}

#[test]
fn colours_of_a_board_count_once() {
    let text = CLUMP.replace("show tile joined", "alike 1..kinds in tile\n\nshow tile joined");
    let mut rng = SmallRng::seed_from_u64(5);
    for _ in 0..12 {
        let board: Vec<String> =
            (0..3).map(|_| (0..3).map(|_| (b'1' + rng.random_range(0..3u8)) as char).collect()).collect();
        let g = game(&text, &format!("start.tile = '''\n{}\n'''", board.join("\n")));
        let perms = permutations(3);
        let rename = |s: &[i32]| -> Vec<Vec<i32>> {
            let map = |p: &Vec<i32>, v: i32| if (1..=3).contains(&v) { p[v as usize - 1] } else { v };
            perms.iter().map(|p| s.iter().map(|&v| map(p, v)).collect()).collect()
        };
        let orbits = orbits(&g.apart(), &rename);
        let merged = explored(&g);
        assert_eq!(merged.counts.states, orbits.len() as u64, "{board:?}");
        // Nothing that an analysis says differs within an orbit but the depth.
        for what in orbits.values() {
            let classes: BTreeSet<&str> = what.iter().filter_map(|w| w.split(' ').next()).collect();
            assert_eq!(classes.len(), 1);
        }
        // The start stands for itself.
        assert_eq!(g.unpack(&g.pack(&g.bound.position)), g.bound.position);
    }
}

const COATS: &str = "
model coats
enum coat { bare, tar, pitch, wax }
alike tar, pitch, wax
state tile: grid of coat
state got: array coat of 0..4 = 0
state last: maybe coat = none
show tile joined {
    bare \".\"
    tar \"a\"
    pitch \"b\"
    wax \"c\"
}
move paint(c: cell) {
    offer tile[c] == bare
    tile[c] = draw from (tar, pitch, wax)
    last = tile[c]
}
move lift(c: cell) {
    offer tile[c] != bare
    refuse \"just painted\" unless last != tile[c]
    got[tile[c]] = min(got[tile[c]] + 1, 2)
    tile[c] = bare
}
goal any(k in coat: got[k] >= 2)
";

#[test]
fn values_with_counts_and_draws_are_brought_into_one_form() {
    let g = game(COATS, "start.tile = '''\na.\n.b\n'''");
    let perms = permutations(3);
    let (cells, keys) = (4, 4);
    let rename = |s: &[i32]| -> Vec<Vec<i32>> {
        perms
            .iter()
            .map(|p| {
                let map = |v: i32| if (1..=3).contains(&v) { p[v as usize - 1] } else { v };
                let mut out = s.to_vec();
                for x in &mut out[..cells] {
                    *x = map(*x);
                }
                for k in 1..keys {
                    out[cells + map(k as i32) as usize] = s[cells + k];
                }
                out[cells + keys] = map(s[cells + keys]);
                out
            })
            .collect()
    };
    let orbits = orbits(&g.apart(), &rename);
    let merged = explored(&g).counts;
    assert_eq!(merged.states, orbits.len() as u64);
    let apart = explored(&g.apart()).counts;
    assert_eq!(apart.shortest, merged.shortest);
    assert!(merged.states * 2 < apart.states, "{} {}", merged.states, apart.states);
}

#[test]
fn likeness_that_does_not_hold_is_refused_with_the_place() {
    let base = "model m\nenum coat { bare, tar, pitch }\nstate tile: grid of coat\nstate n: 0..9 = 0\n\
                state num: grid of 0..5\nstate pile: array 1..3 of list of 1..4 max 4\n";
    for (alike, rest, wants) in [
        ("alike tar, pitch", "goal any(c on tile: tile[c] == tar)", "`tar` is named"),
        ("alike tar, pitch", "goal first(k in coat) == bare", "in an order"),
        ("alike tar, pitch", "move b() { for k in coat { n += 1; n *= 2 } }", "in an order"),
        ("alike tar, pitch", "move b() { tile[r1c1] = draw from (tar weight 2, pitch) }", "is named"),
        ("alike 1..5 in num", "goal num[r1c1] == 3", "compared with a number"),
        ("alike 1..5 in num", "goal num[r1c1] > 2", "compared by size"),
        ("alike 1..5 in num", "goal sum(c on num: num[c]) == 9", "plain number"),
        ("alike 1..5 in num", "move b() { num[r1c1] = n }", "becomes one of them"),
        ("alike 1..5 in num", "move b() { n = num[r1c1] }", "plain number"),
        ("alike piles of pile", "goal len(pile[2]) == 0", "picked by its number"),
        ("alike piles of pile", "move b(p: 1..3) { n = p }", "plain number"),
        ("alike piles of pile", "move b(p: 1..3) { pile[p + 1].push(1) }", "its number"),
    ] {
        let more = if rest.starts_with("move") { "" } else { "\nmove a(c: cell) { tile[c] = bare }" };
        let text = format!("{base}{alike}\n{rest}{more}\n");
        let mut sources = Sources::default();
        let mut errors = vec![];
        let file = sources.add("m", text.as_str());
        assert!(compile(file, &text, &mut errors).is_none(), "{text}");
        let mut shown: Vec<String> = errors.iter().map(|e| e.plain(&sources)).collect();
        shown.extend(errors.iter().flat_map(|e| e.labels.iter().map(|l| l.text.clone())));
        let shown = shown.join("\n");
        assert!(shown.contains("M061") && shown.contains(wants), "{alike} / {rest}:\n{shown}");
    }
    // What touches each pile by itself takes them in no order.
    let fine = format!(
        "{base}alike piles of pile\nmove b() {{ for p in 1..3 {{ if len(pile[p]) < 4 {{ pile[p].push(1) }} }} }}\n"
    );
    model(&fine);
}

#[test]
fn a_level_that_tells_like_things_apart_is_refused() {
    let text = "model m\nenum coat { bare, tar, pitch }\nalike tar, pitch\nlevel wants: array coat of 0..9\n\
                state tile: grid of coat\nmove a(c: cell) { tile[c] = bare }\n\
                goal all(k in coat: count(c on tile where tile[c] == k) == wants[k])\n";
    let model = model(text);
    for (wants, fits) in [("bare: 2, tar: 1, pitch: 1", true), ("bare: 2, tar: 2, pitch: 1", false)] {
        let mut sources = Sources::default();
        let mut errors = vec![];
        let level = format!(
            "model = 'm'\n[[level]]\nvalues.wants = '{wants}'\nstart.tile = '''\ntar pitch\nbare bare\n'''"
        );
        let file = sources.add("l", level.as_str());
        let read = fendle_lang::syntax::level::read(file, &level, &mut errors).expect("well formed");
        let bound = fendle_lang::bind(&model, file, &read.levels[0], &[], &mut errors);
        assert_eq!(bound.is_some(), fits, "{errors:?}");
        assert_eq!(errors.iter().any(|e| e.code == "L080"), !fits);
    }
}

#[test]
fn starts_that_are_alike_are_one_start_with_their_weights_added() {
    let text = COATS.replace(
        "move paint",
        "setup {\n    for c on tile { tile[c] = draw from (bare, tar, pitch, wax) }\n}\nmove paint",
    );
    let g = game(&text, "size = [1, 2]");
    let starts = g.starts().expect("starts");
    let mut weights: Vec<u64> = starts.iter().map(|s| s.weight).collect();
    weights.sort_unstable();
    // Bare twice; one coat left or right; twice the same; two different ones.
    assert_eq!(weights, [1, 3, 3, 3, 6]);
}
