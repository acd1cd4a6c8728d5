//! The whole corpus: both executors, the hand-written twins, and what the levels expect.

use crate::common;
#[path = "../../fendle-core/tests/twins/mod.rs"]
mod twins;

use std::sync::Arc;

use common::{SHOVE, SLIDE, compare_space, games, model};
use fendle_core::{Exploration, Limits, Model as _, NoWatch, Verdict, explore, solve};
use fendle_lang::Game;
use fendle_lang::model::Model;
use fendle_lang::play::{MoveTable, replay};
use fendle_lang::reasons::keeps::{Kept, enumerate, kept, separations};
use rand::{SeedableRng, rngs::SmallRng};
use twins::{Board, Shove, Slide, random_yard};

const LEVELS: &[(&str, &str)] = &[
    (SLIDE, include_str!("levels/slide.toml")),
    (SHOVE, include_str!("levels/shove.toml")),
    (SLIDE, include_str!("../../../packs/harbour/ferry.toml")),
    (SHOVE, include_str!("../../../packs/harbour/yard.toml")),
    (SLIDE, include_str!("../../../models/slide.start.toml")),
    (SHOVE, include_str!("../../../models/shove.start.toml")),
];

fn corpus() -> Vec<(Arc<Model>, Game)> {
    LEVELS
        .iter()
        .flat_map(|(m, text)| {
            let model = model(m);
            games(&model, text).into_iter().map(move |g| (Arc::clone(&model), g)).collect::<Vec<_>>()
        })
        .collect()
}

/// The twin of a bound level, read from the level's values, not from its code.
fn twin(game: &Game) -> Option<Box<dyn fendle_core::Model>> {
    let b = &game.bound;
    let values = |name: &str| {
        let v = b.model.var(name).expect("a variable of the library");
        let slot = &b.slots[v];
        let region = if b.model.vars[v].state { &b.position } else { &b.data };
        region[slot.base..slot.base + slot.len].to_vec()
    };
    let board = Board { rows: b.rows as i64, cols: b.cols as i64 };
    let bits = |list: Vec<i32>| list.iter().enumerate().fold(0u64, |w, (i, &v)| w | (v as u64) << i);
    Some(match b.model.name.as_str() {
        "slide" => Box::new(Slide {
            board,
            target: values("target").iter().map(|v| *v as u8).collect(),
            bolted: values("bolted").iter().map(|v| *v != 0).collect(),
            start: values("tile").iter().map(|v| *v as u8).collect(),
        }),
        "shove" => Box::new(Shove {
            board,
            wall: bits(values("wall")),
            water: bits(values("water")),
            berth: bits(values("berth")),
            barges: bits(values("barge")),
            tug: values("tug")[0] as usize,
        }),
        _ => return None,
    })
}

fn counts(model: &dyn fendle_core::Model, past_goals: bool) -> Exploration {
    let found = explore(model, Limits::default(), past_goals, &NoWatch).expect("a sound start");
    assert!(found.fault.is_none());
    // Twins pack their states in their own way.
    Exploration { bits_per_state: 0, ..found.counts }
}

#[test]
fn twins_in_plain_rust_agree_on_every_count_of_every_level() {
    let mut levels = 0;
    for (_, game) in corpus() {
        // Twelve tiles have 240 million arrangements: not for a test.
        // Variants of the pushing yard have searches of their own beside the program's tests.
        let value = |name: &str| {
            let b = &game.bound;
            b.model.var(name).map_or(0, |v| b.data[b.slots[v].base])
        };
        let varied = game.bound.model.name == "shove"
            && (value("strength") > 1
                || ["glide", "pulls", "back"].iter().any(|n| value(n) != 0)
                || game.bound.model.var("gate").is_some_and(|v| {
                    let slot = &game.bound.slots[v];
                    game.bound.data[slot.base..slot.base + slot.len].iter().any(|x| *x != 0)
                }));
        if varied || game.bound.cells() > 64 || game.bound.model.name == "slide" && game.bound.cells() > 9 {
            continue;
        }
        let twin = twin(&game).expect("every family of the corpus has a twin");
        for past_goals in [false, true] {
            let (a, b) = (counts(&game, past_goals), counts(&*twin, past_goals));
            assert_eq!(a, b, "{}", game.bound.name);
        }
        let moves = MoveTable::new(&game.bound).expect("few moves");
        let solution = |m: &dyn fendle_core::Model| match solve(m, Limits::default(), &NoWatch)
            .expect("sound")
            .verdict
        {
            Verdict::Solvable(route) => Some(route),
            Verdict::Unsolvable => None,
            other => panic!("{other:?}"),
        };
        let (a, b) = (solution(&game), solution(&*twin));
        let only = |r: &Option<fendle_core::Route>| r.as_ref().map(|r| r.moves.clone());
        assert_eq!(only(&a), only(&b), "{}", game.bound.name);
        if let Some(route) = a {
            let numbers: Vec<usize> = route.moves.iter().map(|m| m.0 as usize).collect();
            let states: Vec<_> = route.states.iter().map(|w| game.unpack(w)).collect();
            replay(&game.bound, &moves, &numbers, &states).expect("a solution replays");
        }
        levels += 1;
    }
    assert!(levels >= 24, "{levels}");
}

#[test]
fn twins_agree_on_random_yards() {
    let shove = model(SHOVE);
    let mut rng = SmallRng::seed_from_u64(11);
    for _ in 0..60 {
        let text = random_yard(&mut rng);
        let game = games(&shove, &format!("model='m'\n[[level]]\nstart.yard='''\n{text}\n'''")).remove(0);
        let read = Shove::read(&text);
        assert_eq!(counts(&game, false), counts(&read, false), "{text}");
        let refused = |m: &dyn fendle_core::Model| {
            let start = m.starts().expect("sound").remove(0);
            let list = m.worker().refusals(&start.state).expect("sound");
            list.iter().map(|r| r.of).collect::<Vec<_>>()
        };
        assert_eq!(refused(&game), refused(&read), "{text}");
    }
}

#[test]
fn both_executors_agree_on_the_corpus() {
    for (_, game) in corpus() {
        assert!(compare_space(&game, 1500) > 0);
    }
}

/// A level mirrored left to right has the same verdict, counts and depths.
#[test]
fn a_mirrored_level_is_the_same_puzzle() {
    let shove = model(SHOVE);
    let mut rng = SmallRng::seed_from_u64(5);
    for _ in 0..40 {
        let text = random_yard(&mut rng);
        let mirrored: Vec<String> = text.lines().map(|l| l.chars().rev().collect()).collect();
        let [a, b] = [text.clone(), mirrored.join("\n")].map(|t| {
            let game = games(&shove, &format!("model='m'\n[[level]]\nstart.yard='''\n{t}\n'''")).remove(0);
            counts(&game, false)
        });
        assert_eq!(a, b, "{text}");
    }
}

#[test]
fn states_take_as_few_bits_as_their_domains_allow() {
    let bits = |text: &str, m: &str| games(&model(m), text)[0].layout().bits;
    let target = |t: &str| format!("model='m'\nvalues.target='''\n{t}\n'''\n[[level]]\n");
    // 10! = 3,628,800 arrangements; 9!; 8! / (2! 2! 2!) with three pairs.
    assert_eq!(bits(&target("1 2 3 4 5\n6 7 8 9 ."), SLIDE), 22);
    assert_eq!(bits(&target("1 2 3\n4 5 6\n7 8 ."), SLIDE), 19);
    assert_eq!(bits(&target("1 1 2 2\n3 3 4 ."), SLIDE), 13);
    // 8! = 40,320 is 16 bits; 5,040 = 8! / 8 is 13: rounded up from the logarithm.
    assert_eq!(bits(&target("1 2 3 4\n5 6 7 ."), SLIDE), 16);
    // A cell of 12 in 4 bits and 12 cells in a bit each; walls, water and berths are the level's.
    assert_eq!(bits("model='m'\n[[level]]\nstart.yard='''\nAoH_\n..w.\n....\n'''", SHOVE), 16);
}

#[test]
fn sliding_parity_is_proved_from_the_rules_and_right() {
    let slide = model(SLIDE);
    let boards = [(2, 2), (2, 3), (3, 2), (3, 3), (2, 4), (3, 4), (4, 4)];
    for (rows, cols) in boards {
        let n = rows * cols;
        let rows_of = |tiles: &[usize]| {
            let text: Vec<String> = tiles
                .chunks(cols)
                .map(|r| r.iter().map(|t| t.to_string()).collect::<Vec<_>>().join(" "))
                .collect();
            text.join("\n")
        };
        let target: Vec<usize> = (1..n).chain([0]).collect();
        let mut swapped = target.clone();
        swapped.swap(0, 1);
        let text = |start: &[usize]| {
            format!(
                "model='m'\nvalues.target='''\n{}\n'''\n[[level]]\nstart.tile='''\n{}\n'''",
                rows_of(&target),
                rows_of(start)
            )
        };
        let bad = games(&slide, &text(&swapped)).remove(0);
        assert_eq!(kept(&bad), [Kept::ProvedFromRules]);
        let sep = separations(&bad);
        assert_eq!(sep.len(), 1, "{rows} x {cols}");
        assert_ne!(sep[0].here, sep[0].wanted);
        assert!(separations(&games(&slide, &text(&target)).remove(0)).is_empty());
        if n <= 9 {
            // The proof by enumeration and the search say the same.
            assert!(enumerate(&bad, 0, &mut || false).is_some_and(Kept::is_proved));
            let solved = solve(&bad, Limits::default(), &NoWatch).expect("sound");
            assert_eq!(solved.verdict, Verdict::Unsolvable);
        }
    }
}

#[test]
fn alike_tiles_claim_no_parity() {
    for (_, game) in corpus().into_iter().filter(|(_, g)| g.bound.name.contains("alike")) {
        assert_eq!(kept(&game), [Kept::NotClaimed]);
        assert!(separations(&game).is_empty());
    }
}

/// The known sizes and depths of open boards, from the solved board on and past it, through the
/// language.
#[test]
fn sliding_boards_have_their_known_sizes_and_depths() {
    let slide = model(SLIDE);
    for (rows, cols, states, depth) in
        [(2, 2, 12, 6), (2, 3, 360, 21), (3, 3, 181_440, 31), (2, 4, 20_160, 36), (2, 5, 1_814_400, 55)]
    {
        let n = rows * cols;
        let tiles: Vec<String> = (1..n).chain([0]).map(|t| t.to_string()).collect();
        let board: Vec<String> = tiles.chunks(cols).map(|r| r.join(" ")).collect();
        let text = format!("model='m'\nvalues.target='''\n{}\n'''\n[[level]]", board.join("\n"));
        let c = counts(&games(&slide, &text)[0], true);
        assert_eq!((c.states, c.depth, c.complete), (states, depth, true), "{rows} x {cols}");
        assert_eq!((c.goal, c.dead, c.shortest), (1, 0, Some(0)));
        // Every neighbouring pair of cells both ways, shared evenly by the places of the gap.
        let pairs = 2 * (rows * (cols - 1) + cols * (rows - 1)) as u64;
        assert_eq!(c.transitions, states / n as u64 * pairs);
        if n == 9 {
            assert_eq!((c.per_depth[31], c.transitions), (2, 483_840));
        }
    }
}
