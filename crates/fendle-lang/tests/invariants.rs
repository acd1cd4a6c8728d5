//! Kept quantities that are found: the parity of sliding boards, colourings, sums; and none where there is none.

use crate::common;

use std::collections::{BTreeSet, HashSet};

use common::game;
use fendle_lang::Game;
use fendle_lang::reasons::effects::{Effects, Form, WAYS_MAX, goal_ways};
use fendle_lang::reasons::invariant::{Apart, Invariants};
use fendle_lang::reasons::keeps::{Kept, kept, separations};
use rand::seq::SliceRandom;
use rand::{Rng, SeedableRng, rngs::SmallRng};

/// Sliding tiles without a word about what is kept.
const SLIDE: &str = r#"
model plain_slide
level target: grid of 0..255
level bolted: grid of bool = false
state tile: rearranged target
show tile { 0 "." }
fn gap() = the(c on tile where tile[c] == 0)
move slide(d: dir4) {
    let car = gap() - d
    refuse "the edge" unless car on tile
    refuse "bolted" unless not bolted[car]
    swap tile[gap()], tile[car]
}
goal tile == target
"#;

fn board(rows: usize, cols: usize, tiles: &[usize]) -> String {
    let row = |r: usize| (0..cols).map(|c| tiles[r * cols + c].to_string()).collect::<Vec<_>>().join(" ");
    (0..rows).map(row).collect::<Vec<_>>().join("\n").replace(" 0", " .").replace("\n0", "\n.")
}

fn level(rows: usize, cols: usize, start: &[usize], target: &[usize], bolted: &[usize]) -> String {
    let mut text = format!("values.target = '''\n{}\n'''\n", board(rows, cols, target));
    text += &format!("start.tile = '''\n{}\n'''\n", board(rows, cols, start).replace("'''\n0", "'''\n."));
    if !bolted.is_empty() {
        let cell = |i| if bolted.contains(&i) { "x" } else { "." };
        let row = |r: usize| (0..cols).map(|c| cell(r * cols + c)).collect::<String>();
        let rows: Vec<String> = (0..rows).map(row).collect();
        text += &format!("values.bolted = '''\n{}\n'''\n", rows.join("\n"));
    }
    text
}

fn sorted(n: usize) -> Vec<usize> {
    (1..n).chain([0]).collect()
}

fn effects(g: &Game) -> Effects {
    Effects::of(&g.bound, WAYS_MAX, &mut || false).expect("few ways")
}

fn apart(g: &Game) -> Option<Apart> {
    let effects = effects(g);
    let goals = goal_ways(&g.bound).expect("a plain goal");
    let [pins] = goals.as_slice() else { panic!("one way to win") };
    Invariants::new(&g.bound, &effects).separates(&g.bound.position, pins, true)
}

/// Everything that the gap can reach, by plain means.
fn reached(rows: usize, cols: usize, from: &[usize], bolted: &[usize]) -> HashSet<Vec<usize>> {
    let mut seen = HashSet::from([from.to_vec()]);
    let mut work = vec![from.to_vec()];
    while let Some(t) = work.pop() {
        let gap = t.iter().position(|x| *x == 0).expect("a gap");
        let (r, c) = (gap / cols, gap % cols);
        for (ok, other) in [
            (r > 0, gap.wrapping_sub(cols)),
            (r + 1 < rows, gap + cols),
            (c > 0, gap.wrapping_sub(1)),
            (c + 1 < cols, gap + 1),
        ] {
            if ok && !bolted.contains(&other) {
                let mut n = t.clone();
                n.swap(gap, other);
                if seen.insert(n.clone()) {
                    work.push(n);
                }
            }
        }
    }
    seen
}

#[test]
fn the_parity_of_sliding_boards_is_found_and_proved() {
    for (rows, cols) in [(2, 2), (2, 3), (3, 2), (2, 4), (3, 3), (3, 4)] {
        let n = rows * cols;
        let mut start = sorted(n);
        start.swap(0, 1);
        let g = game(SLIDE, &level(rows, cols, &start, &sorted(n), &[]));
        let found = apart(&g).unwrap_or_else(|| panic!("{rows} x {cols}"));
        assert_eq!(found.quantity.modulus, Some(2));
        assert_ne!(found.here, found.wanted);
        assert_eq!(
            found.quantity.text(&g.bound),
            "(parity(tile) + sum(c on board where tile[c] == 0: row(c) + col(c))) mod 2"
        );
        // The line can be pasted, and is proved from the rules then.
        let text = format!("{SLIDE}\n{}\n", found.quantity.keeps_line(&g.bound));
        let pasted = game(&text, &level(rows, cols, &start, &sorted(n), &[]));
        assert_eq!(kept(&pasted), [Kept::ProvedFromRules]);
        assert_eq!(separations(&pasted).len(), 1);
    }
}

#[test]
fn a_position_is_apart_exactly_when_it_cannot_be_reached() {
    let mut rng = SmallRng::seed_from_u64(3);
    for (rows, cols, bolted) in [
        (2, 2, vec![]),
        (2, 3, vec![]),
        (3, 3, vec![]),
        (3, 3, vec![0]),
        (2, 4, vec![0, 4]),
        (3, 3, vec![0, 1, 2]),
    ] {
        let n = rows * cols;
        let target = sorted(n);
        let all = reached(rows, cols, &target, &bolted);
        for _ in 0..8 {
            // Bolted tiles stay where they are.
            let mut free: Vec<usize> = (0..n).filter(|i| !bolted.contains(i)).map(|i| target[i]).collect();
            free.shuffle(&mut rng);
            let mut free = free.into_iter();
            let start: Vec<usize> = (0..n)
                .map(|i| if bolted.contains(&i) { target[i] } else { free.next().expect("enough") })
                .collect();
            let g = game(SLIDE, &level(rows, cols, &start, &target, &bolted));
            assert_eq!(apart(&g).is_some(), !all.contains(&start), "{rows} x {cols} {bolted:?} {start:?}");
        }
    }
}

#[test]
fn look_alike_tiles_have_no_parity() {
    let target = [1, 2, 3, 4, 5, 5, 6, 7, 0];
    let start = [2, 1, 3, 4, 5, 5, 6, 7, 0];
    let g = game(SLIDE, &level(3, 3, &start, &target, &[]));
    assert_eq!(apart(&g), None);
    let effects = effects(&g);
    assert_eq!(Invariants::new(&g.bound, &effects).list(8), []);
}

/// Bodies on a board: each is moved by so many cells.
const BODIES: &str = r#"
model bodies
level home: set of cells
state body: set of cells
move leap(c: cell, d: dir4) {
    let next = c + STEP * d
    refuse "nothing here" unless c in body
    refuse "the edge" unless next on board
    refuse "taken" unless not next in body
    remove c from body
    add next to body
}
goal body == home
"#;

#[test]
fn a_body_that_leaps_two_cells_keeps_its_colour() {
    let text = BODIES.replace("STEP", "2");
    let level = |body: &str| format!("size = [5, 4]\nvalues.home = 'r1c1 r2c3'\nstart.body = '{body}'");
    // One step aside of home: the rows or the columns say so.
    let g = game(&text, &level("r1c2 r2c3"));
    let found = apart(&g).expect("a colouring");
    assert_eq!(found.quantity.modulus, Some(2));
    assert_eq!(found.quantity.text(&g.bound), "sum(c on board where c in body: col(c)) mod 2");
    let text2 = format!("{text}\n{}\n", found.quantity.keeps_line(&g.bound));
    assert_eq!(kept(&game(&text2, &level("r1c2 r2c3"))), [Kept::ProvedFromRules]);
    // Both leapt: nothing separates them, and it can be won.
    assert_eq!(apart(&game(&text, &level("r3c1 r4c1"))), None);
    // Both colours together agree, each alone does not: it takes the cells one by one, and is found all the same.
    let g = game(&text, &level("r1c3 r1c3 r3c1"));
    let found = apart(&g).expect("cells of one class");
    assert!(found.quantity.text(&g.bound).contains("mod 2"), "{}", found.quantity.text(&g.bound));
}

#[test]
fn a_body_that_walks_one_cell_keeps_nothing() {
    let text = BODIES.replace("STEP", "1");
    let g = game(&text, "size = [3, 3]\nvalues.home = 'r1c1'\nstart.body = 'r3c2'");
    assert_eq!(apart(&g), None);
    let effects = effects(&g);
    assert_eq!(Invariants::new(&g.bound, &effects).list(8), []);
}

#[test]
fn sums_are_found_over_the_integers() {
    let text = r#"
model purse
state coins, goods, days: 0..20
move buy { refuse "no coin" unless coins > 0 and goods <= 18 and days < 20
    coins -= 1
    goods += 2
    days += 1 }
move sell { refuse "nothing to sell" unless goods >= 4 and coins <= 18 and days < 20
    goods -= 4
    coins += 2
    days += 1 }
goal goods == 9 and coins == 1
"#;
    let g = game(text, "start = { coins = 5, goods = 0, days = 0 }");
    let found = apart(&g).expect("two goods for a coin");
    assert_eq!(found.quantity.modulus, None);
    assert_eq!(found.quantity.text(&g.bound), "2 * coins + goods");
    assert_eq!((found.here, found.wanted), (10, 11));
    let line = found.quantity.keeps_line(&g.bound);
    assert_eq!(
        kept(&game(&format!("{text}\n{line}\n"), "start = { coins = 5, goods = 0, days = 0 }")),
        [Kept::ProvedFromRules]
    );
}

/// Random rules on three numbers: each kept sum that is listed is the same along random plays, and what is called kept
/// by a form is so.
#[test]
fn what_is_listed_is_the_same_along_every_play() {
    let mut rng = SmallRng::seed_from_u64(9);
    let mut listed = 0;
    for _ in 0..40 {
        let mut moves = String::new();
        let mut steps = vec![];
        for m in 0..rng.random_range(1..4) {
            let by: Vec<i64> = (0..3).map(|_| rng.random_range(-2..=2)).collect();
            let line = |(v, k): (&str, &i64)| format!("    {v} += {k}\n");
            let body: String = ["a", "b", "e"].into_iter().zip(&by).map(line).collect();
            let room = |(v, k): (&str, &i64)| format!("{v} + {k} >= 0 and {v} + {k} <= 30");
            let test: Vec<String> = ["a", "b", "e"].into_iter().zip(&by).map(room).collect();
            moves += &format!("move m{m} {{\n    offer {}\n{body}}}\n", test.join(" and "));
            steps.push(by);
        }
        let text = format!("model sums\nstate a, b, e: 0..30\n{moves}goal a == 30\n");
        let g = game(&text, "start = { a = 10, b = 10, e = 10 }");
        let effects = effects(&g);
        let found = Invariants::new(&g.bound, &effects);
        let list = found.list(8);
        listed += list.len();
        for q in &list {
            let mut state = g.bound.position.clone();
            let value = found.value_in(q, &state);
            for _ in 0..200 {
                let by = &steps[rng.random_range(0..steps.len())];
                if (0..3).all(|i| (0..=30).contains(&(i64::from(state[i]) + by[i]))) {
                    (0..3).for_each(|i| state[i] += by[i] as i32);
                }
                assert_eq!(found.value_in(q, &state), value, "{}", q.text(&g.bound));
            }
            let pasted =
                game(&format!("{text}{}\n", q.keeps_line(&g.bound)), "start = { a = 10, b = 10, e = 10 }");
            assert_eq!(kept(&pasted), [Kept::ProvedFromRules], "{}", q.text(&g.bound));
        }
        // Over the integers: as many as the changes leave free.
        let independent = rank(&steps);
        let exact = list.iter().filter(|q| q.modulus.is_none()).count();
        let untouched = (0..3).filter(|i| steps.iter().all(|s| s[*i] == 0)).count();
        assert_eq!(exact, 3 - independent - untouched, "{steps:?}");
    }
    assert!(listed > 40);
}

/// The rank of integer rows, by fractions of whole numbers.
fn rank(rows: &[Vec<i64>]) -> usize {
    let mut rows: Vec<Vec<i64>> = rows.to_vec();
    let mut rank = 0;
    for col in 0..3 {
        let Some(p) = (rank..rows.len()).find(|r| rows[*r][col] != 0) else { continue };
        rows.swap(rank, p);
        for r in rank + 1..rows.len() {
            let (x, y) = (rows[rank][col], rows[r][col]);
            let pivot = rows[rank].clone();
            rows[r].iter_mut().zip(&pivot).for_each(|(v, p)| *v = *v * x - p * y);
        }
        rank += 1;
    }
    rank
}

/// The effects of every move in every typed state, written down one by one, are those that are followed.
#[test]
fn effects_are_those_of_all_typed_states() {
    for (text, level) in [
        (SLIDE.to_string(), level(2, 2, &[1, 2, 3, 0], &sorted(4), &[])),
        (BODIES.replace("STEP", "1"), "size = [2, 3]\nvalues.home = 'r1c1'\nstart.body = 'r1c1'".into()),
    ] {
        let g = game(&text, &level);
        let b = &g.bound;
        let mut all = BTreeSet::new();
        let mut words = vec![0; b.codec.layout().words()];
        let moves = fendle_lang::play::MoveTable::new(b).expect("few moves");
        for n in 0..b.codec.states_len().expect("few") {
            b.codec.nth(n, &mut words);
            let state = g.unpack(&words);
            for (of, params) in &moves.list {
                let mut eval = fendle_lang::run::Eval::new(b);
                if let Ok(fendle_lang::run::Outcome::Done(made)) = eval.apply(&state, *of, params) {
                    let to = &made[0].state;
                    let change = |i: usize| (i, state[i], to[i]);
                    let changes: Vec<_> =
                        (0..state.len()).filter(|i| state[*i] != to[*i]).map(change).collect();
                    all.insert(changes);
                }
            }
        }
        let followed: BTreeSet<_> = effects(&g).list.into_iter().collect();
        assert_eq!(followed, all);
    }
}

#[test]
fn what_cannot_be_followed_is_not_claimed() {
    let text = r#"
model lists
state pile: list of 1..3 max 3
move put(n: 1..3) { refuse "full" unless len(pile) < 3
    pile.push(n) }
goal len(pile) == 3
"#;
    let g = game(text, "start.pile = []");
    assert!(Effects::of(&g.bound, WAYS_MAX, &mut || false).is_none());
    // Too many ways: every cell is read.
    let text = r#"
model flips
state lit: grid of bool
move flip(c: cell) { refuse "two are lit" unless count(x on lit where lit[x]) < 2
    lit[c] = not lit[c] }
goal all(c on lit: lit[c])
"#;
    let g = game(text, "size = [5, 5]\nstart.lit = '''\n.....\n.....\n.....\n.....\n.....\n'''");
    assert!(Effects::of(&g.bound, 1000, &mut || false).is_none());
    assert!(
        Form::of(
            &g.bound,
            &fendle_lang::model::Body {
                expr: g.bound.model.statuses[0].cond.expr.clone(),
                locals: g.bound.model.statuses[0].cond.locals.clone(),
            }
        )
        .is_none()
    );
}
