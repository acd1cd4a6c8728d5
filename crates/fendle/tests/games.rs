//! `compare --game`: a level beside a running game; every mistake that is planted in the example game is found, by a shortest way.

mod common;

use std::fs;
use std::process::Command;

use common::{Run, dir_with, fendle};

const YARD: &str = "model = \"shove\"\n[[level]]\nname = \"yard\"\nstart.yard = '''\nHHHHHHH\nH..._.H\nH.oA..H\nH.....H\nHHHHHHH\n'''\n";

/// The example game beside the level; `None` where no python3 is installed.
fn compared(more: &str, options: &[&str]) -> Option<Run> {
    let python = Command::new("python3").arg("--version").output();
    if !python.is_ok_and(|o| o.status.success()) {
        println!("skipped: python3 is not installed");
        return None;
    }
    let game = include_str!("../../../docs/games/yard.py");
    let dir = dir_with(&[("yard.toml", YARD), ("yard.py", game)]);
    let command = format!("python3 yard.py {more}");
    Some(fendle(dir.path(), &[&["compare", "yard.toml", "--game", command.trim()], options].concat()))
}

#[test]
fn a_game_without_mistakes_is_the_same_everywhere() {
    let Some(run) = compared("", &["--format", "json"]) else { return };
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let found = run.json();
    assert_eq!(found["complete"], true);
    let dir = dir_with(&[("yard.toml", YARD)]);
    let space = fendle(dir.path(), &["explore", "yard.toml", "--format", "json"]).json();
    assert_eq!(found["positions"], space["states"], "every position that can be reached");
    let Some(part) = compared("", &["--max-states", "20"]) else { return };
    assert_eq!(part.code, 3, "{}", part.out);
    assert!(part.out.contains("undecided: no difference in 20 positions"), "{}", part.out);
}

#[test]
fn every_planted_mistake_is_found_by_a_shortest_way() {
    for (mistake, kind, moves, of) in [
        // Two steps to the right, and the third goes through the wall.
        ("walks-through", "allowed", Some(2), Some("go right")),
        ("sticky", "refused and changed", None, None),
        ("late", "status", None, None),
        ("crash", "no answer", Some(0), Some("go left")),
        ("leftover", "reset", Some(0), None),
        ("noise", "no answer", Some(0), Some("go up")),
    ] {
        let Some(run) = compared(&format!("--mistake {mistake}"), &["--format", "json"]) else { return };
        assert_eq!(run.code, 1, "{mistake}: {}{}", run.out, run.err);
        let found = run.json();
        let first = &found["differences"][0];
        assert_eq!(first["kind"], kind, "{mistake}: {first}");
        if let Some(n) = moves {
            assert_eq!(first["moves"].as_array().map(Vec::len), Some(n), "{mistake}: {first}");
        }
        if let Some(of) = of {
            assert_eq!(first["move"], of, "{mistake}: {first}");
        }
    }
}

#[test]
fn a_game_that_only_plays_is_led_by_its_moves() {
    let node = Command::new("node").arg("--version").output();
    if !node.is_ok_and(|o| o.status.success()) {
        println!("skipped: node is not installed");
        return;
    }
    let level = "model = \"lamps\"\n[[level]]\nname = \"quay\"\nstart.lanterns = \"*.**.\"\n";
    let dir = dir_with(&[("quay.toml", level), ("quay.js", include_str!("../../../docs/games/quay.js"))]);
    for (mistake, expected) in [
        ("", None),
        ("edge", Some(("board", 0))),
        ("twice", Some(("board", 0))),
        ("early", Some(("status", 1))),
    ] {
        let command = format!("node quay.js --mistake {mistake}");
        let run = fendle(dir.path(), &["compare", "quay.toml", "--game", command.trim(), "--format", "json"]);
        let found = run.json();
        match expected {
            // Five lamps in a row: half of what can be lit can be reached.
            None => assert_eq!((run.code, &found["positions"]), (0, &16.into()), "{}", run.out),
            Some((kind, moves)) => {
                let first = &found["differences"][0];
                assert_eq!((run.code, &first["kind"]), (1, &kind.into()), "{mistake}: {first}");
                assert_eq!(first["moves"].as_array().map(Vec::len), Some(moves), "{mistake}: {first}");
            }
        }
    }
}

#[test]
fn a_difference_is_drawn_on_both_boards() {
    let Some(run) = compared("--mistake walks-through", &[]) else { return };
    assert!(
        run.out.contains("after 2 moves, go right: the model refuses this move, and the game makes it"),
        "{}",
        run.out
    );
    assert!(run.out.contains("before") && run.out.contains("the game"), "{}", run.out);
}

#[test]
fn a_game_that_cannot_be_asked_is_a_clear_finding() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    for (game, words) in [
        ("true", "it has ended"),
        ("no-such-game-anywhere", "it has ended"),
        ("echo hello", "it writes `hello` on its standard output"),
        (
            "sh -c 'read x; echo {\\\"jsonrpc\\\":\\\"2.0\\\",\\\"id\\\":9,\\\"result\\\":{}}'",
            "with another id",
        ),
    ] {
        let run = fendle(dir.path(), &["compare", "yard.toml", "--game", game]);
        assert!(run.code == 2 && run.err.contains(words), "{game}: {}{}", run.out, run.err);
    }
    // A game that says nothing is given up with the time that was asked for.
    let began = std::time::Instant::now();
    let run = fendle(dir.path(), &["compare", "yard.toml", "--game", "sleep 60", "--time", "1s"]);
    assert_eq!(run.code, 3, "{}{}", run.out, run.err);
    assert!(began.elapsed() < std::time::Duration::from_secs(4));
    fs::write(dir.path().join("names.toml"), "[move]\nx = 'y'\n").expect("writable");
    let run = fendle(dir.path(), &["compare", "yard.toml", "--game", "true", "--names", "names.toml"]);
    assert!(run.code == 2 && run.err.contains("[move] is not known"), "{}", run.err);
    let run = fendle(dir.path(), &["compare", "yard.toml"]);
    assert!(run.code == 2 && run.err.contains("--spaces"), "{}", run.err);
}
