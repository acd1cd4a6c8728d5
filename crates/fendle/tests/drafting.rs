//! `draft`: templates in level files, first moves, clues, tuned weights, shuffles against the direction of play, drafts that go on.

use crate::common::{Run, dir_with, fendle};
use serde_json::Value;

const YARD: &str = "model = \"shove\"\n[[level]]\nname = \"yard\"\nstart.yard = '''\nHHHHHHH\nH.....H\nH..A..H\nH.....H\nHHHHHHH\n'''\n";
const COIL: &str =
    "model = \"merge\"\n[[level]]\nname = \"coil\"\nvalues.high = 2\nvalues.wide = 2\nvalues.top = 4\n";

fn board_of(drafted: &Value) -> Vec<Vec<char>> {
    drafted["position"].as_str().expect("a line").split('/').map(|row| row.chars().collect()).collect()
}

fn boards(run: &Run) -> Vec<Value> {
    run.json()["boards"].as_array().expect("boards").clone()
}

#[test]
fn a_level_is_its_own_template_and_letters_say_what_goes_where() {
    let draft = "[level.draft]\nby = \"fill\"\nput = \"o 1 in a, _ 1 in b\"\nwant = \"solvable\"\nkeep = 20\ntries = 400\ncells = '''\n.......\n.bbbbb.\n.aa.aa.\n.bbbbb.\n.......\n'''\n";
    let dir = dir_with(&[("level.toml", &format!("{YARD}{draft}"))]);
    let run = fendle(dir.path(), &["draft", "level.toml", "--format", "json"]);
    let found = boards(&run);
    assert!(!found.is_empty(), "{}{}", run.out, run.err);
    for board in found.iter().map(board_of) {
        let rows = |g: char| (0..5).filter(|r| board[*r].contains(&g)).collect::<Vec<_>>();
        assert!(rows('o') == [2] && (rows('_') == [1] || rows('_') == [3]), "{board:?}");
    }
    // What is typed stands before what the level says.
    let args = ["draft", "level.toml", "--put", "o 1, _ 1 in a", "--keep", "1", "--format", "json"];
    let found = boards(&fendle(dir.path(), &args));
    assert_eq!(found.len(), 1);
    assert!(board_of(&found[0])[2].contains(&'_'), "{found:?}");
    for (from, to, words) in [
        ("by = \"fill\"", "by = \"heap\"", "draft.by is one of shuffle, setup, fill"),
        ("keep = 20", "keeps = 20", "did you mean `keep`?"),
        ("keep = 20", "keep = 0", "draft.keep is a number from 1"),
        ("in a,", "in c,", "no cell bears the letter"),
        (".aa.aa.", ".aa.aa", "--cells wants 5 rows of 7 letters"),
    ] {
        let text = format!("{YARD}{draft}").replace(from, to);
        let dir = dir_with(&[("level.toml", &text)]);
        let run = fendle(dir.path(), &["draft", "level.toml"]);
        assert!(run.code == 2 && run.err.contains(words), "{to}: {}{}", run.out, run.err);
    }
}

#[test]
fn a_first_move_never_loses() {
    // More than half of the cells are rocks: most boards would lose at once.
    let chart = "model = \"sweep\"\n[[level]]\nname = \"chart\"\nsize = [6, 6]\nvalues.rocks = 20\n";
    let dir = dir_with(&[("chart.toml", chart)]);
    for safe in ["move", "again"] {
        let args = ["draft", "chart.toml", "--by", "setup", "--first", "sound r3c3", "--safe", safe];
        let more = ["--want", "guesses >= 0", "--keep", "4", "--format", "json"];
        let run = fendle(dir.path(), &[&args[..], &more].concat());
        let found = boards(&run);
        assert_eq!(found.len(), 4, "{safe}: {}{}", run.out, run.err);
        for board in found.iter().map(board_of) {
            assert_eq!(board[2][2], '.', "the first cell is open: {board:?}");
            assert_eq!(board.iter().flatten().filter(|g| **g == '^').count(), 20, "{board:?}");
        }
    }
    // A cell that is open already: said at once, for every board.
    let open = chart.replace("values.rocks = 20", "values = { rocks = 20, shown = \"r3c3\" }");
    std::fs::write(dir.path().join("open.toml"), open).expect("writable");
    let refused = ["draft", "open.toml", "--by", "setup", "--first", "sound r3c3", "--tries", "64"];
    let run = fendle(dir.path(), &refused);
    assert!(run.code == 1 && run.out.contains("64  the first move is refused"), "{}{}", run.out, run.err);
    let run = fendle(dir.path(), &["draft", "chart.toml", "--first", "sound r9c9"]);
    assert!(run.code == 2 && run.err.contains("is no move of this level"), "{}", run.err);
}

#[test]
fn each_rock_has_as_many_clues_as_are_wanted() {
    let chart = "model = \"sweep\"\n[[level]]\nname = \"chart\"\nsize = [6, 6]\nvalues.rocks = 4\n";
    let dir = dir_with(&[("chart.toml", chart)]);
    let tries = |clues: usize| {
        let want = format!("no_guess and clues >= {clues}");
        let args = ["draft", "chart.toml", "--by", "setup", "--first", "sound r1c1", "--want", &want];
        let run =
            fendle(dir.path(), &[&args[..], &["--keep", "3", "-o", "out.toml", "--format", "json"]].concat());
        assert_eq!(run.code, 0, "{want}: {}{}", run.out, run.err);
        let audit = fendle(dir.path(), &["audit", "out.toml"]);
        assert_eq!(audit.code, 0, "{want}: {}{}", audit.out, audit.err);
        // What `infer` says of the same levels when each rock became certain is not more than there is at the end.
        for board in boards(&run) {
            let all = board["figures"]["clues"].as_f64().expect("clues");
            assert!(all >= clues as f64, "{board}");
        }
        boards(&run).iter().filter_map(|b| b["try"].as_u64()).collect::<Vec<_>>()
    };
    let (one, two) = (tries(1), tries(2));
    assert!(one.iter().zip(&two).all(|(a, b)| a <= b), "more clues, fewer boards: {one:?} {two:?}");
}

#[test]
fn weights_are_tuned_until_the_chance_is_right() {
    let model = "model toss\nlevel w: 0..20 = 1\nlevel hopes: 1..9 = 2\nstate casts: 0..9 = 3\nstate got: 0..9 = 0\n\
        move cast {\n    refuse \"none\" unless casts > 0\n    casts = casts - 1\n    let k = draw from (1 weight w, 0 weight 4)\n    got = got + k\n}\n\
        goal got >= hopes\nlost when casts == 0 and got < hopes because \"out of casts\"\nstatus goal, lost\n";
    let dir =
        dir_with(&[("toss.fendle", model), ("a.toml", "model = \"toss.fendle\"\n[[level]]\nname = \"a\"\n")]);
    let range = "win_chance > 0.4 and win_chance < 0.6";
    let args = ["draft", "a.toml", "--tune", "w=1..20", "--tune", "hopes=1..3", "--want", range];
    let run = fendle(dir.path(), &[&args[..], &["--keep", "60", "--format", "json"]].concat());
    // Three casts, each a success with w of w + 4: the chance of at least so many successes.
    let mut expected = vec![];
    for w in 1..=20i64 {
        for hopes in 1..=3i64 {
            let p = w as f64 / (w as f64 + 4.0);
            let exactly =
                |k: i64| [1.0, 3.0, 3.0, 1.0][k as usize] * p.powi(k as i32) * (1.0 - p).powi(3 - k as i32);
            let chance: f64 = (hopes..=3).map(exactly).sum();
            if chance > 0.4 && chance < 0.6 {
                expected.push((w, hopes));
            }
        }
    }
    let of = |b: &Value, i: usize| b["values"][i][1].as_i64().expect("a number");
    let mut got: Vec<(i64, i64)> = boards(&run).iter().map(|b| (of(b, 0), of(b, 1))).collect();
    got.sort_unstable();
    assert_eq!(got, expected);
    assert_eq!(run.json()["tried"], 60, "every choice once");
    for (args, words) in [
        (["--tune", "v=1..2"], "no level value `v`"),
        (["--tune", "w=3..1"], "--tune takes NAME=N..M"),
        (["--by", "shuffle"], "made by shuffle"),
    ] {
        let run = fendle(dir.path(), &[&["draft", "a.toml"], &args[..]].concat());
        assert!(run.err.contains(words) || run.out.contains(words), "{}{}", run.out, run.err);
    }
}

#[test]
fn shuffles_go_against_the_direction_of_play_too() {
    // Both barges at their berths: no move leads on from there to anything harder, but many lead there.
    let won = YARD.replace("H.....H\nH..A..H", "H.Q.Q.H\nH.HA..H");
    let dir = dir_with(&[("won.toml", &won)]);
    let args = [
        "draft",
        "won.toml",
        "--backwards",
        "--shuffles",
        "40..80",
        "--want",
        "moves >= 8",
        "-o",
        "out.toml",
    ];
    let run = fendle(dir.path(), &args);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let audit = fendle(dir.path(), &["audit", "out.toml"]);
    assert_eq!(audit.code, 0, "{}{}", audit.out, audit.err);
    // A sliding board: with few moves it is as deep as they are many.
    let deck = "model = \"slide\"\n[[level]]\nname = \"deck\"\nvalues.target = \"1 2 3/4 5 6/7 8 .\"\nstart.tile = \"1 2 3/4 5 6/7 8 .\"\n";
    let dir = dir_with(&[("deck.toml", deck)]);
    let want = ["--backwards", "--shuffles", "3", "--want", "moves == 3", "--keep", "99", "--format", "json"];
    let run = fendle(dir.path(), &[&["draft", "deck.toml"], &want[..]].concat());
    // All positions three moves away, as exploring counts them.
    let found = boards(&run).len();
    let all = fendle(dir.path(), &["explore", "deck.toml", "--past-goals", "--format", "json"]).json();
    assert_eq!(found as u64, all["per_depth"][3].as_u64().expect("a number"), "{}", run.out);
    let dir = dir_with(&[("coil.toml", COIL)]);
    let run = fendle(dir.path(), &["draft", "coil.toml", "--backwards"]);
    assert!(run.code == 2 && run.err.contains("cannot be taken back"), "{}{}", run.out, run.err);
}

#[test]
fn mirrored_templates_have_mirrored_boards() {
    let rows = ["HHHHHHH", "H._..HH", "H.H...H", "H...A.H", "HHHHHHH"];
    let level = |rows: &[String]| {
        format!("model = \"shove\"\n[[level]]\nname = \"a\"\nstart.yard = \"{}\"\n", rows.join("/"))
    };
    let plain: Vec<String> = rows.map(String::from).to_vec();
    let mirrored: Vec<String> = rows.map(|r| r.chars().rev().collect()).to_vec();
    let dir = dir_with(&[("a.toml", &level(&plain)), ("b.toml", &level(&mirrored))]);
    let deepest = |file: &str| {
        let args = ["draft", file, "--by", "deepest", "--put", "o 1", "--keep", "50", "--format", "json"];
        let run = fendle(dir.path(), &args);
        let mut list: Vec<String> =
            boards(&run).iter().map(|b| b["position"].as_str().expect("a line").to_string()).collect();
        list.sort();
        (run.json()["deepest"].clone(), list)
    };
    let (one, first) = deepest("a.toml");
    let (other, second) = deepest("b.toml");
    assert_eq!(one, other);
    let turned = |line: &String| {
        line.split('/').map(|r| r.chars().rev().collect::<String>()).collect::<Vec<_>>().join("/")
    };
    let mut turned: Vec<String> = second.iter().map(turned).collect();
    turned.sort();
    assert_eq!(first, turned);
    assert!(one["moves"].as_u64() > Some(3), "{one}");
}

#[test]
fn climbing_goes_on_from_an_earlier_draft() {
    let dir = dir_with(&[("level.toml", YARD)]);
    let fill = [
        "draft",
        "level.toml",
        "--by",
        "fill",
        "--put",
        "o 1, _ 1, H 2..4",
        "--most",
        "moves",
        "--keep",
        "3",
    ];
    let best = |more: &[&str]| {
        let run = fendle(dir.path(), &[&fill[..], more, &["--format", "json"]].concat());
        assert_eq!(run.code, 0, "{}{}", run.out, run.err);
        boards(&run).iter().map(|b| b["figures"]["moves"].as_f64().expect("moves") as i64).collect::<Vec<_>>()
    };
    let first = best(&["--tries", "60", "-o", "one.toml"]);
    let on = best(&["--tries", "200", "--resume", "one.toml", "-o", "two.toml"]);
    // What was found is kept, and only something better takes its place.
    assert!(on.iter().zip(&first).all(|(a, b)| a >= b), "{first:?} {on:?}");
    let audit = fendle(dir.path(), &["audit", "two.toml"]);
    assert_eq!(audit.code, 0, "{}{}", audit.out, audit.err);
}
