//! `compare --game`: a level beside a running game; every mistake that is planted in the example game is found, by a shortest way.

use std::fs;
use std::process::Command;

use crate::common::{Run, dir_with, fendle};

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

const COIL: &str = "model = \"merge\"\n[[level]]\nname = \"coil\"\nvalues.high = 1\nvalues.wide = 4\nvalues.top = 5\nstart.tile = \"2 2 4 .\"\n";

fn has_python() -> bool {
    let there = Command::new("python3").arg("--version").output().is_ok_and(|o| o.status.success());
    if !there {
        println!("skipped: python3 is not installed");
    }
    there
}

#[test]
fn a_game_that_draws_is_compared_outcome_by_outcome_and_by_how_often_each_comes() {
    if !has_python() {
        return;
    }
    let dir = dir_with(&[("coil.toml", COIL), ("coil.py", include_str!("../../../docs/games/coil.py"))]);
    for (mistake, kind, moves) in [
        ("", "", 0),
        // A 4 as often as a 2: 300 tries are more than enough.
        ("weights", "weights", 0),
        ("spawns", "refused and changed", 0),
        ("twice", "draw", 0),
        // 2 2 4 . cannot be full before the second move.
        ("full", "status", 2),
        // Listed, and never made; where nothing is listed, a 4 that never comes is noticed by counting.
        ("never", "two results", 0),
    ] {
        // A game that lists its outcomes, one that draws by seeds, and the same where they cannot be put into a position.
        for how in ["", " --seeds", " --plays", " --plays --seeds"] {
            let kind = if how.contains("seeds") && mistake == "never" { "weights" } else { kind };
            let option = if mistake.is_empty() { String::new() } else { format!(" --mistake {mistake}") };
            let command = format!("python3 coil.py{how}{option}");
            let run = fendle(dir.path(), &["compare", "coil.toml", "--game", &command, "--format", "json"]);
            let found = run.json();
            if mistake.is_empty() {
                assert_eq!((run.code, &found["complete"]), (0, &true.into()), "{how}: {}", run.out);
                let space = fendle(dir.path(), &["explore", "coil.toml", "--format", "json"]).json();
                assert_eq!(found["positions"], space["states"], "{how}: every position that can be reached");
                continue;
            }
            let first = &found["differences"][0];
            assert_eq!((run.code, &first["kind"]), (1, &kind.into()), "{how} {mistake}: {first}");
            assert_eq!(first["moves"].as_array().map(Vec::len), Some(moves), "{how} {mistake}: {first}");
        }
    }
}

const REEF: &str =
    "model = \"sweep\"\n[[level]]\nname = \"reef\"\nvalues.rocks = 2\nstart.reef = \".x../..../...x\"\n";

#[test]
fn what_a_game_tells_is_what_the_rules_tell_and_does_not_depend_on_what_is_hidden() {
    if !has_python() {
        return;
    }
    let dir = dir_with(&[("reef.toml", REEF), ("reef.py", include_str!("../../../docs/games/reef.py"))]);
    for (mistake, kind, words) in [
        ("", "", ""),
        // The rock at the lower right: r2c3 has two neighbours with rocks, and tells one.
        ("corner", "told", "the game tells near `1` at r2c3, and the model `2`"),
        // One open cell in the first row: the other rock may lie there or elsewhere.
        ("shimmer", "hidden", "the player cannot tell this position from"),
        ("hint", "hidden", "other moves are allowed"),
    ] {
        let option = if mistake.is_empty() { String::new() } else { format!(" --mistake {mistake}") };
        let game = format!("python3 reef.py{option}");
        let run = fendle(dir.path(), &["compare", "reef.toml", "--game", &game, "--format", "json"]);
        let found = run.json();
        if mistake.is_empty() {
            assert_eq!((run.code, &found["complete"]), (0, &true.into()), "{}", run.out);
            assert!(found["layouts"].as_u64() > Some(100), "{}", run.out);
            continue;
        }
        let first = &found["differences"][0];
        assert_eq!((run.code, &first["kind"]), (1, &kind.into()), "{mistake}: {first}");
        assert!(first["words"].as_str().is_some_and(|w| w.contains(words)), "{mistake}: {first}");
    }
}

#[test]
fn a_game_that_draws_is_its_own_model_when_it_lists_what_can_come() {
    if !has_python() {
        return;
    }
    let dir = dir_with(&[("coil.toml", COIL), ("coil.py", include_str!("../../../docs/games/coil.py"))]);
    let own = |command: &str, how: &str| {
        let game = format!("python3 coil.py{how}");
        fendle(dir.path(), &[command, "--game", &game, "--format", "json"])
    };
    let ours = |command: &str| fendle(dir.path(), &[command, "coil.toml", "--format", "json"]).json();
    let space = ours("explore");
    for how in ["", " --plays"] {
        let found = own("explore", how).json();
        for key in ["states", "depth", "goal", "stuck"] {
            assert_eq!(found[key], space[key], "{how}: {key}");
        }
    }
    let (one, other) = (ours("odds"), own("odds", "").json());
    assert_eq!(one["best_probability"]["exact"], other["best_probability"]["exact"], "{one}\n{other}");
    assert!(one["best_probability"]["exact"].is_string(), "{one}");
    let run = own("explore", " --seeds");
    assert!(run.code == 2 && run.err.contains("list its `outcomes`"), "{}{}", run.out, run.err);
}

#[test]
fn a_difference_is_drawn_and_told_beside_the_model() {
    if !has_python() {
        return;
    }
    let dir = dir_with(&[("coil.toml", COIL), ("coil.py", include_str!("../../../docs/games/coil.py"))]);
    let game = "python3 coil.py --mistake twice";
    let run = fendle(dir.path(), &["compare", "coil.toml", "--game", game, "-o", "difference.svg"]);
    assert_eq!(run.code, 1, "{}{}", run.out, run.err);
    assert!(run.out.contains("the model, after it") && run.out.contains("the game"), "{}", run.out);
    let picture = fs::read_to_string(dir.path().join("difference.svg")).expect("it was written");
    assert!(picture.contains("the game") && picture.contains("before shift left"), "{picture}");
    let run = fendle(dir.path(), &["compare", "coil.toml", "--game", game, "-o", "difference.txt"]);
    assert_eq!(run.code, 2, "{}", run.out);
}

#[test]
fn recorded_plays_are_compared_line_by_line() {
    let head = "{\"fendle_play\":1,\"file\":\"coil.toml\",\"level\":\"coil\",\"start\":\"2 2 4 .\"}\n";
    let good = "{\"move\":\"shift left / 2 at r1c4\",\"position\":\"4 4 . 2\"}\n";
    let boards = "{\"move\":\"shift right\",\"position\":{\"boards\":{\"tile\":[[\"2\",\".\",\"8\",\"2\"]]}},\"score\":8,\"status\":\"running\"}\n";
    let refused = "{\"move\":\"shift up\",\"allowed\":false}\n";
    let check = |lines: &[&str]| {
        let dir = dir_with(&[("coil.toml", COIL), ("plays.jsonl", &lines.concat())]);
        let run =
            fendle(dir.path(), &["compare", "coil.toml", "--record", "plays.jsonl", "--format", "json"]);
        (run.code, run)
    };
    let (code, run) = check(&[head, good, boards, refused, head, good]);
    assert_eq!(code, 0, "{}{}", run.out, run.err);
    assert_eq!(run.json()["tried"], 4, "{}", run.out);
    for (lines, kind, line) in [
        (vec![head, &good.replace("4 4 . 2", "4 4 2 .")], "board", 2),
        (vec![head, good, &boards.replace(":8,", ":4,")], "score", 3),
        (vec![head, good, &boards.replace("running", "won")], "status", 3),
        (vec![head, "{\"move\":\"shift up\",\"position\":\"2 2 4 .\"}\n"], "allowed", 2),
        (vec![head, "{\"move\":\"shift left\",\"allowed\":false}\n"], "allowed", 2),
        (vec![head, "{\"move\":\"shift left\"}\n"], "draw", 2),
        (vec![head, "{\"move\":\"hop\"}\n"], "move", 2),
        (vec![&head.replace("2 2 4 .", "2 4 4 .")], "start", 1),
    ] {
        let (code, run) = check(&lines);
        let found = run.json();
        let first = &found["differences"][0];
        assert_eq!((code, &first["kind"], &first["line"]), (1, &kind.into(), &line.into()), "{}", run.out);
    }
    let (code, run) = check(&[head, "no line\n"]);
    assert_eq!(code, 2);
    assert!(run.err.contains("plays.jsonl:2"), "{}", run.err);
}

#[test]
fn a_running_game_is_its_own_model() {
    if !has_python() {
        return;
    }
    let dir = dir_with(&[("yard.toml", YARD), ("yard.py", include_str!("../../../docs/games/yard.py"))]);
    let game = "python3 yard.py";
    let model = fendle(dir.path(), &["explore", "yard.toml", "--format", "json"]).json();
    let own = fendle(dir.path(), &["explore", "--game", game, "--format", "json"]).json();
    for key in
        ["states", "transitions", "edges", "depth", "goal", "dead", "winnable", "fatal_moves", "shortest"]
    {
        assert_eq!(model[key], own[key], "{key}");
    }
    let solved = fendle(dir.path(), &["solve", "--game", game, "--format", "json"]).json();
    assert_eq!(solved["moves"], model["shortest"]);
    let run = fendle(dir.path(), &["find", "--game", game, "lost"]);
    assert_eq!(run.code, 1, "{}{}", run.out, run.err);
    let run = fendle(dir.path(), &["graph", "--game", game, "-o", "yard.json"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    // What is not whole is never taken for it.
    let run = fendle(dir.path(), &["solve", "--game", game, "--max-states", "20"]);
    assert_eq!(run.code, 3, "{}{}", run.out, run.err);
    assert!(run.out.contains("the limit of 20 states"), "{}", run.out);
    // A game that keeps something to itself is found out.
    let run = fendle(dir.path(), &["explore", "--game", "python3 yard.py --mistake leftover"]);
    assert_eq!(run.code, 2, "{}{}", run.out, run.err);
    let run = fendle(dir.path(), &["explore", "--game", "true"]);
    assert!(run.code == 2 && run.err.contains("it has ended"), "{}{}", run.out, run.err);
}

#[test]
fn the_schema_of_the_protocol_names_every_method() {
    let schema: serde_json::Value =
        serde_json::from_str(include_str!("../../../docs/games/protocol.schema.json")).expect("it is JSON");
    let listed: Vec<&str> = schema["$defs"]["request"]["oneOf"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|m| m["properties"]["method"]["const"].as_str())
        .collect();
    assert_eq!(listed, ["about", "begin", "place", "move", "outcomes", "allowed"]);
}
