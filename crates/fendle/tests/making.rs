//! `draft` and `mend`: boards made to order and levels mended, against counts that are known and a tiny brute force.

use std::collections::{BTreeSet, HashSet, VecDeque};

use crate::common::{dir_with, fendle};
use serde_json::Value;

fn slide(rows: usize, cols: usize) -> String {
    let row = |r: usize| {
        let cell = |c: usize| match r * cols + c + 1 {
            n if n == rows * cols => ".".to_string(),
            n => n.to_string(),
        };
        (0..cols).map(cell).collect::<Vec<_>>().join(" ")
    };
    let target = (0..rows).map(row).collect::<Vec<_>>().join("\n");
    format!(
        "model = \"slide\"\n[[level]]\nname = \"deck\"\nvalues.target = '''\n{target}\n'''\nstart.tile = '''\n{target}\n'''\n"
    )
}

const YARD: &str = "model = \"shove\"\n[[level]]\nname = \"yard\"\nstart.yard = '''\nHHHHHHH\nH.....H\nH..A..H\nH.....H\nHHHHHHH\n'''\n";

#[test]
fn the_farthest_sliding_starts_are_those_that_are_known() {
    // 3 x 3: two starts of 31 moves; 2 x 4: one of 36.
    for (rows, cols, of, moves, count) in [(3, 3, 181_440, 31, 2), (2, 4, 20_160, 36, 1)] {
        let dir = dir_with(&[("deck.toml", &slide(rows, cols))]);
        let run = fendle(
            dir.path(),
            &["draft", "deck.toml", "--by", "deepest", "--format", "json", "-o", "far.toml"],
        );
        let found = run.json();
        assert_eq!(found["deepest"]["of"], of, "{}", run.out);
        assert_eq!((&found["deepest"]["moves"], &found["deepest"]["count"]), (&moves.into(), &count.into()));
        let audit = fendle(dir.path(), &["audit", "far.toml"]);
        assert_eq!(audit.code, 0, "{}", audit.out);
    }
}

#[test]
fn so_few_shuffles_are_as_deep_as_they_are_many() {
    // The gap comes round a square of four after twelve moves: up to six moves, none undone, are a shortest way.
    let dir = dir_with(&[("deck.toml", &slide(3, 3))]);
    let run = fendle(
        dir.path(),
        &[
            "draft",
            "deck.toml",
            "--shuffles",
            "1..6",
            "--samples",
            "40",
            "--format",
            "json",
            "-o",
            "depths.svg",
        ],
    );
    let rows = run.json()["rows"].clone();
    for (n, row) in (1..).zip(rows.as_array().expect("rows")) {
        assert_eq!(row["depths"], serde_json::json!({ n.to_string(): 40 }), "{row}");
    }
    assert_eq!(run.json()["farthest"], 31);
    assert!(dir.path().join("depths.svg").exists());
}

#[test]
fn what_is_drafted_passes_the_audit_and_does_not_depend_on_threads() {
    for (level, options) in [
        (slide(3, 3), vec!["--want", "moves >= 18 and moves < 24", "--keep", "6"]),
        (slide(2, 3), vec!["--want", "states == 360 and moves > 10", "--keep", "3"]),
        (
            YARD.into(),
            vec![
                "--by",
                "fill",
                "--put",
                "o 2, _ 2, H 0..3",
                "--apart",
                "H",
                "--want",
                "moves >= 9 and dead > 0",
            ],
        ),
        (
            YARD.into(),
            vec![
                "--by",
                "fill",
                "--put",
                "o 1, _ 1, H 0..4",
                "--most",
                "moves",
                "--tries",
                "300",
                "--keep",
                "3",
            ],
        ),
    ] {
        let dir = dir_with(&[("level.toml", &level)]);
        let made = |threads: &str| {
            let args = [
                &["draft", "level.toml", "--format", "json", "--threads", threads, "-o", "made.toml"],
                &options[..],
            ];
            let run = fendle(dir.path(), &args.concat());
            assert_eq!(run.code, 0, "{}{}", run.out, run.err);
            (
                run.json()["boards"].clone(),
                std::fs::read_to_string(dir.path().join("made.toml")).expect("written"),
            )
        };
        let (boards, text) = made("2");
        assert_eq!((boards, text), made("1"), "{options:?}");
        let audit = fendle(dir.path(), &["audit", "made.toml"]);
        assert_eq!(audit.code, 0, "{options:?}\n{}{}\n", audit.out, audit.err);
        assert!(audit.out.contains("as expected"), "{}", audit.out);
    }
}

/// The board of a drafted level, row by row.
fn board_of(drafted: &Value) -> Vec<Vec<char>> {
    let line = drafted["position"].as_str().expect("a position");
    line.split('/').map(|r| r.chars().collect()).collect()
}

#[test]
fn filled_boards_hold_what_was_asked_for() {
    let dir = dir_with(&[("level.toml", YARD)]);
    let run = fendle(
        dir.path(),
        &[
            "draft",
            "level.toml",
            "--by",
            "fill",
            "--put",
            "o 2, _ 2, H 2..4",
            "--mirrored",
            "columns",
            "--apart",
            "H",
            "--fixed",
            "r2c2",
            "--keep",
            "8",
            "--format",
            "json",
        ],
    );
    let found = run.json();
    let boards = found["boards"].as_array().expect("boards").clone();
    assert!(!boards.is_empty(), "{}", run.out);
    let mut met = HashSet::new();
    for drafted in &boards {
        let board = board_of(drafted);
        let count = |g: char| board.iter().flatten().filter(|x| **x == g).count();
        assert_eq!((count('o'), count('_'), count('A')), (2, 2, 1), "{drafted}");
        // Twenty cells are the rim.
        assert!((22..=24).contains(&count('H')), "{drafted}");
        assert_eq!(board[1][1], '.', "a cell that stays as it is");
        for row in &board {
            // The agent stands in the middle: what was put is mirrored.
            assert!(row.iter().eq(row.iter().rev()), "{drafted}");
        }
        let upside: Vec<Vec<char>> = board.iter().rev().cloned().collect();
        assert!(met.insert(board) && !met.contains(&upside), "turned boards are one");
    }
    let tried = found["tried"].as_u64().expect("a number");
    let fell: u64 = found["fell"].as_object().expect("reasons").values().filter_map(Value::as_u64).sum();
    assert_eq!(tried, fell + found["good"].as_u64().expect("a number"), "every try has one fate");
}

#[test]
fn drawn_boards_are_drafted_by_their_setup() {
    let chart = "model = \"sweep\"\n[[level]]\nname = \"chart\"\nsize = [6, 6]\nvalues = { rocks = 5, shown = \"r1c1\" }\n";
    let coil =
        "model = \"merge\"\n[[level]]\nname = \"coil\"\nvalues.high = 2\nvalues.wide = 2\nvalues.top = 4\n";
    for (level, want) in [(chart, "no_guess and moves > 3"), (coil, "win_chance > 0.9")] {
        let dir = dir_with(&[("level.toml", level)]);
        let run = fendle(
            dir.path(),
            &["draft", "level.toml", "--by", "setup", "--want", want, "--keep", "2", "-o", "out.toml"],
        );
        assert_eq!(run.code, 0, "{want}: {}{}", run.out, run.err);
        let audit = fendle(dir.path(), &["audit", "out.toml"]);
        assert_eq!(audit.code, 0, "{want}: {}{}", audit.out, audit.err);
    }
}

#[test]
fn what_has_no_board_is_drafted_too() {
    let rings = "model = \"coil\"\n[[level]]\nname = \"rings\"\nvalues.rings = 4\n";
    let dir = dir_with(&[("rings.toml", rings)]);
    let run =
        fendle(dir.path(), &["draft", "rings.toml", "--want", "moves > 5", "--keep", "3", "-o", "out.toml"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let audit = fendle(dir.path(), &["audit", "out.toml"]);
    assert_eq!(audit.code, 0, "{}{}", audit.out, audit.err);
    // All ways to lay four rings on three posts: the farthest from the third are fifteen moves away.
    let found = fendle(dir.path(), &["draft", "rings.toml", "--by", "deepest", "--format", "json"]).json();
    assert_eq!((&found["deepest"]["of"], &found["deepest"]["moves"]), (&81.into(), &15.into()));
    let run = fendle(dir.path(), &["mend", "rings.toml", "--may", "post"]);
    assert!(run.code == 2 && run.err.contains("draws no board"), "{}{}", run.out, run.err);
}

#[test]
fn mistakes_in_orders_are_named() {
    let dir = dir_with(&[("level.toml", YARD)]);
    for (args, words) in [
        (vec!["draft", "level.toml", "--want", "move > 3"], "did you mean `moves`?"),
        (vec!["draft", "level.toml", "--by", "fill"], "wants --put"),
        (vec!["draft", "level.toml", "--by", "edit"], "wants --may"),
        (vec!["draft", "level.toml", "--by", "fill", "--put", "z 2"], "`z` is no glyph of yard"),
        (vec!["draft", "level.toml", "--by", "fill", "--put", "o many"], "is not understood"),
        (vec!["draft", "level.toml", "--shuffles", "9..3"], "--shuffles takes N..M"),
        (vec!["mend", "level.toml", "--may", "hull"], "`hull` is no glyph"),
        (vec!["mend", "level.toml", "--may", "wall", "--fixed", "r9c9"], "is no cell of the board"),
        (vec!["mend", "level.toml", "--may", "wall", "--cost", "hull=2"], "--cost takes NAME=N"),
    ] {
        let run = fendle(dir.path(), &args);
        assert_eq!(run.code, 2, "{args:?}: {}", run.out);
        assert!(run.err.contains(words), "{args:?}: {}", run.err);
    }
    let run = fendle(dir.path(), &["draft", "level.toml", "--want", "list"]);
    assert!(run.code == 0 && run.out.contains("essentially_unique"), "{}", run.out);
    // Nothing of this kind among those that were tried.
    let run = fendle(
        dir.path(),
        &[
            "draft",
            "level.toml",
            "--by",
            "fill",
            "--put",
            "o 1, _ 1",
            "--want",
            "moves > 900",
            "--tries",
            "50",
            "-o",
            "no.toml",
        ],
    );
    assert_eq!(run.code, 1, "{}{}", run.out, run.err);
    assert!(run.out.contains("not moves > 900") && !dir.path().join("no.toml").exists(), "{}", run.out);
}

#[test]
fn a_profile_puts_levels_side_by_side() {
    let level =
        |name: &str, row: &str| format!("[[level]]\nname = \"{name}\"\nstart.yard = '''\n{row}\n'''\n");
    let pack = [
        "model = \"shove\"\n".to_string(),
        level("a", "A.o_.\n....."),
        level("b", ".....\nA.o_."),
        level("c", "Ao.._...\n........"),
    ]
    .concat();
    let dir = dir_with(&[("pack.toml", &pack)]);
    let run = fendle(dir.path(), &["audit", "pack.toml", "--profile", "-o", "profile.svg"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    // The second is the first one upside down.
    assert!(run.out.contains("a and b have the same shape of space"), "{}", run.out);
    assert!(run.out.contains("b and c have the same dead parts:"), "another shape: {}", run.out);
    assert!(dir.path().join("profile.svg").exists());
    let found = fendle(dir.path(), &["audit", "pack.toml", "--profile", "--format", "json"]).json();
    for (n, name) in ["a", "b", "c"].iter().enumerate() {
        let own = fendle(dir.path(), &["explore", "pack.toml", "--level", name, "--format", "json"]).json();
        let row = &found["levels"][n]["figures"];
        for (figure, key) in [("states", "states"), ("moves", "shortest"), ("fatal_moves", "fatal_moves")] {
            assert_eq!(row[figure].as_f64(), own[key].as_f64(), "{name} {figure}");
        }
    }
}

#[test]
fn neighbours_that_ask_the_same_are_named() {
    let level = |name: &str, rows: &str| {
        format!("[[level]]\nname = \"{name}\"\nstart.yard = \"{}\"\n", rows.replace(' ', "/"))
    };
    let pack = [
        "model = \"shove\"\n".to_string(),
        // One barge in a room; the second room is another one of another size, with the same corners; the third has none.
        level("room", "HHHHHHH H.....H H..o..H H..A_.H H.....H HHHHHHH"),
        level("larger", "HHHHHHHH H......H H......H H..o.._H H..A...H H......H HHHHHHHH"),
        level("passage", "HHHHHHHH HA.o.._H HHHHHHHH"),
        // The same passage from the other end, with a bay that changes the space, but not when all have to pass.
        level("bay", "HHHHHHHH H_..o.AH HHHHHH.H HHHHHHHH"),
    ]
    .concat();
    let dir = dir_with(&[("pack.toml", &pack)]);
    let found = fendle(dir.path(), &["audit", "pack.toml", "--profile", "--format", "json"]).json();
    let alike = found["alike"].as_array().expect("pairs").clone();
    let same = |a: &str, b: &str| {
        let pair = alike.iter().find(|x| x["levels"][0] == a && x["levels"][1] == b);
        pair.map_or(vec![], |x| {
            x["same"].as_array().expect("words").iter().map(ToString::to_string).collect()
        })
    };
    assert!(same("larger", "passage").is_empty(), "{found}");
    assert!(same("passage", "bay").contains(&"\"must-pass pattern\"".to_string()), "{found}");
    assert!(!same("passage", "bay").contains(&"\"shape of space\"".to_string()), "{found}");
}

#[test]
fn boards_come_from_tables_and_tile_maps() {
    let csv = "H,H,H,H\nH,0,o,_\nH,A,.,H\n";
    let map = "<?xml version=\"1.0\"?>\n<map width=\"4\" height=\"3\">\n<layer name=\"ground\"><data encoding=\"csv\">\n2,2,2,2,\n2,0,0,3,\n2,0,0,2\n</data></layer>\n<layer name=\"things\"><data encoding=\"csv\">\n0,0,0,0,\n0,0,5,0,\n0,6,0,0\n</data></layer>\n</map>\n";
    let tiles = "[cells]\n0 = \".\"\n[layers.ground]\n2 = \"wall\"\n3 = \"berth\"\n[layers.things]\n5 = \"barge\"\n6 = \"tug\"\n";
    let dir = dir_with(&[("east.csv", csv), ("west.xml", map), ("tiles.toml", tiles)]);
    let args =
        ["import", "east.csv", "west.xml", "--model", "shove", "--tiles", "tiles.toml", "-o", "pack.toml"];
    let run = fendle(dir.path(), &args);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let line = |level: &str| fendle(dir.path(), &["show", "pack.toml", "--level", level, "--line"]).out;
    assert_eq!(line("east"), "HHHH/H.o_/HA.H\n");
    assert_eq!(line("east"), line("west"), "both are the same yard");
    assert_eq!(fendle(dir.path(), &["audit", "pack.toml"]).code, 0);
    // What is wrong is told with its place.
    for (file, text, words) in [
        ("east.csv", csv.replace("H,0,o,_", "H,0,o"), "east.csv:2: 3 cells, and 4 in the first row"),
        ("east.csv", csv.replace("o", "z"), "east.csv: r2c3 is `z`"),
        ("west.xml", map.replace("0,6,0,0", "0,7,0,0"), "west.xml: r3c2: tile 7 of the layer things"),
        (
            "west.xml",
            map.replace("2,0,0,3", "2,0,2,3"),
            "no glyph of yard says wall = 1 and barge = 1 together",
        ),
        ("west.xml", map.replace("</map>", ""), "west.xml:"),
        ("tiles.toml", tiles.replace("barge", "hull"), "`hull` is no variable"),
    ] {
        std::fs::write(dir.path().join(file), text).expect("writable");
        let run = fendle(dir.path(), &args);
        assert!(run.code == 2 && run.err.contains(words), "{words}: {}{}", run.out, run.err);
        for (name, text) in [("east.csv", csv), ("west.xml", map), ("tiles.toml", tiles)] {
            std::fs::write(dir.path().join(name), text).expect("writable");
        }
    }
}

/// A yard in the brute force: rows of glyphs.
type Yard = Vec<Vec<char>>;

/// Whether a yard can be won: every state, breadth first.
fn is_won_somehow(yard: &Yard) -> bool {
    let (rows, cols) = (yard.len() as i32, yard[0].len() as i32);
    let at = |r: i32, c: i32| {
        if r < 0 || c < 0 || r >= rows || c >= cols { 'H' } else { yard[r as usize][c as usize] }
    };
    let cells = || (0..rows).flat_map(|r| (0..cols).map(move |c| (r, c)));
    let berths: BTreeSet<(i32, i32)> = cells().filter(|x| "_QR".contains(at(x.0, x.1))).collect();
    let bodies: BTreeSet<(i32, i32)> = cells().filter(|x| "oQ".contains(at(x.0, x.1))).collect();
    let agent = cells().find(|x| "AR".contains(at(x.0, x.1))).expect("an agent");
    let mut met = HashSet::from([(agent, bodies.clone())]);
    let mut open = VecDeque::from([(agent, bodies)]);
    while let Some((agent, bodies)) = open.pop_front() {
        if berths.is_subset(&bodies) {
            return true;
        }
        for (dr, dc) in [(-1, 0), (0, 1), (1, 0), (0, -1)] {
            let to = (agent.0 + dr, agent.1 + dc);
            let beyond = (to.0 + dr, to.1 + dc);
            let mut bodies = bodies.clone();
            if at(to.0, to.1) == 'H' {
                continue;
            }
            if bodies.remove(&to) && (at(beyond.0, beyond.1) == 'H' || !bodies.insert(beyond)) {
                continue;
            }
            if met.insert((to, bodies.clone())) {
                open.push_back((to, bodies));
            }
        }
    }
    false
}

/// Every change of one cell, and what it costs: walls may come and go, and bodies where that is said.
fn changed(yard: &Yard, bodies: bool) -> Vec<(usize, char, u32)> {
    let mut out = vec![];
    for (i, from) in yard.iter().flatten().enumerate() {
        // Pairs of (wall, body, berth, agent).
        let facts = |g: char| [g == 'H', "oQ".contains(g), "_QR".contains(g), "AR".contains(g)];
        for to in ".Ho_QAR".chars() {
            let (x, y) = (facts(*from), facts(to));
            if x[2..] == y[2..] && x != y && (bodies || x[1] == y[1]) {
                out.push((i, to, u32::from(x[0] != y[0]) + u32::from(x[1] != y[1])));
            }
        }
    }
    out
}

/// The least cost of changes after which a yard can be won, up to `most`.
fn least_cost(yard: &Yard, bodies: bool, most: u32) -> Option<u32> {
    let singles = changed(yard, bodies);
    let cols = yard[0].len();
    let with = |set: &[usize]| {
        let mut yard = yard.clone();
        for at in set {
            yard[singles[*at].0 / cols][singles[*at].0 % cols] = singles[*at].1;
        }
        is_won_somehow(&yard)
    };
    let n = singles.len();
    let mut best = with(&[]).then_some(0);
    let mut take = |cost: u32, set: &[usize]| {
        if cost <= most && best.is_none_or(|b| cost < b) && with(set) {
            best = Some(cost);
        }
    };
    for i in 0..n {
        take(singles[i].2, &[i]);
        for j in i + 1..n {
            if singles[i].0 != singles[j].0 {
                take(singles[i].2 + singles[j].2, &[i, j]);
            }
        }
    }
    best
}

#[test]
fn the_fewest_changes_are_the_fewest_by_brute_force() {
    let mut state = 7u64;
    let mut below = |n: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % n
    };
    let mut levels = String::from("model = \"shove\"\n");
    let mut yards: Vec<Yard> = vec![];
    while yards.len() < 50 {
        let mut cells: Vec<char> = (0..12).map(|_| ['.', '.', 'H'][below(3) as usize]).collect();
        for glyph in ['A', 'o', '_'] {
            let at = below(12) as usize;
            cells[at] = glyph;
        }
        let yard: Yard = cells.chunks(4).map(<[char]>::to_vec).collect();
        let has = |g: char| yard.iter().flatten().any(|x| *x == g);
        if has('A') && has('_') {
            let rows: Vec<String> = yard.iter().map(|r| r.iter().collect()).collect();
            levels.push_str(&format!(
                "[[level]]\nname = \"{}\"\nstart.yard = '''\n{}\n'''\n",
                yards.len(),
                rows.join("\n")
            ));
            yards.push(yard);
        }
    }
    let dir = dir_with(&[("yards.toml", &levels)]);
    let mut costs = BTreeSet::new();
    for (n, yard) in yards.iter().enumerate() {
        let name = n.to_string();
        let bodies = n % 3 == 0;
        let may = if bodies { "wall, barge" } else { "wall" };
        let args = ["mend", "yards.toml", "--level", &name, "--may", may, "--most", "2", "--format", "json"];
        let run = fendle(dir.path(), &args);
        let found = run.json();
        let expected = least_cost(yard, bodies, 2);
        assert_eq!(found["cost"].as_u64().map(|c| c as u32), expected, "{yard:?}\n{}", run.out);
        assert_eq!(found["proved"], true, "{yard:?}");
        for mend in found["mends"].as_array().expect("a list") {
            let mended: Yard = board_of(mend);
            assert!(is_won_somehow(&mended), "{mended:?}");
        }
        costs.insert(expected);
    }
    assert!(costs.len() >= 3, "yards of all kinds: {costs:?}");
}

#[test]
fn a_mended_level_is_written_drawn_and_audited() {
    let level = "model = \"shove\"\n[[level]]\nname = \"stuck\"\nstart.yard = '''\nHHHHHHH\nHoA...H\nH..H..H\nH..H_.H\nHHHHHHH\n'''\n";
    let dir = dir_with(&[("stuck.toml", level)]);
    let run = fendle(
        dir.path(),
        &["mend", "stuck.toml", "--may", "wall, barge", "-o", "mended.toml", "-o", "mended.svg"],
    );
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert!(run.out.contains("a change of cost 1 is enough, and no fewer, proved"), "{}", run.out);
    assert!(run.out.contains("r3c5 . -> o (barge comes)"), "{}", run.out);
    let audit = fendle(dir.path(), &["audit", "mended.toml"]);
    assert_eq!(audit.code, 0, "{}{}", audit.out, audit.err);
    assert!(dir.path().join("mended.svg").exists());
    let run = fendle(dir.path(), &["mend", "mended.toml", "--may", "wall"]);
    assert!(run.code == 0 && run.out.contains("it is so already"), "{}", run.out);
    // Walls alone cannot do it, as far as it was asked; that is a proof, and a limit is none.
    let run = fendle(dir.path(), &["mend", "stuck.toml", "--may", "wall", "--most", "1"]);
    assert_eq!(run.code, 1, "{}", run.out);
    assert!(run.out.contains("no changes of cost 1 or less are enough, proved"), "{}", run.out);
    let run =
        fendle(dir.path(), &["mend", "stuck.toml", "--may", "wall", "--most", "1", "--max-states", "2"]);
    assert_eq!(run.code, 3, "{}", run.out);
    assert!(run.out.contains("were not"), "{}", run.out);
}
