//! `cases`: test cases for the developer's own code, and what they would not notice.

use std::process::Command;

use crate::common::{dir_with, fendle};
use serde_json::Value;

const YARD: &str = "model = \"shove\"\n[[level]]\nname = \"yard\"\nstart.yard = '''\nHHHHHHH\nH..._.H\nH.oA..H\nH..o._H\nHHHHHHH\n'''\n";
const MERGE: &str = "model = \"merge\"\n[[level]]\nname = \"coil\"\nvalues.high = 2\nvalues.wide = 3\nvalues.top = 5\nstart.tile = '''\n2 2 4\n. 8 .\n'''\n";
const LAMPS: &str = "model = \"lamps\"\n[[level]]\nname = \"quay\"\nstart.lanterns = \"*.**.\"\n";

fn file_of(level: &str, options: &[&str]) -> (tempfile::TempDir, Value) {
    let dir = dir_with(&[("level.toml", level)]);
    let run = fendle(dir.path(), &[&["cases", "level.toml", "-o", "cases.json"], options].concat());
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let text = std::fs::read_to_string(dir.path().join("cases.json")).expect("it was written");
    (dir, serde_json::from_str(&text).expect("it is JSON"))
}

/// The lines that a reader prints, and whether all cases hold; `None` where the language is not installed.
fn read(language: &str, file: (&str, &str), game: (&str, &str), level: &str, mistake: &str) -> Option<bool> {
    if !Command::new(language).arg("--version").output().is_ok_and(|o| o.status.success()) {
        println!("skipped: {language} is not installed");
        return None;
    }
    let (dir, _) = file_of(level, &[]);
    for (name, text) in [file, game] {
        std::fs::write(dir.path().join(name), text).expect("writable");
    }
    let mut command = Command::new(language);
    command.current_dir(dir.path()).args([file.0, "cases.json", game.0]);
    if !mistake.is_empty() {
        command.args(["--mistake", mistake]);
    }
    let out = command.output().expect("it runs");
    let said = String::from_utf8_lossy(&out.stdout).into_owned();
    assert!(said.contains("cases hold"), "{said}{}", String::from_utf8_lossy(&out.stderr));
    Some(out.status.success())
}

#[test]
fn the_cases_hold_for_a_right_game_and_catch_each_planted_mistake() {
    let reader = ("cases.py", include_str!("../../../docs/cases/cases.py"));
    let game = ("yard.py", include_str!("../../../docs/games/yard.py"));
    for mistake in ["", "walks-through", "pushes-two", "sticky", "late", "first-berth"] {
        let Some(hold) = read("python3", reader, game, YARD, mistake) else { return };
        assert_eq!(hold, mistake.is_empty(), "{mistake}");
    }
}

#[test]
fn the_same_in_javascript() {
    let reader = ("cases.js", include_str!("../../../docs/cases/cases.js"));
    let game = ("quay.js", include_str!("../../../docs/games/quay.js"));
    for mistake in ["", "edge", "twice", "early"] {
        let Some(hold) = read("node", reader, game, LAMPS, mistake) else { return };
        assert_eq!(hold, mistake.is_empty(), "{mistake}");
    }
}

/// What `trace` makes of a case by a model file: allowed, the position after it, how the game stands.
fn traced(dir: &std::path::Path, level: &str, case: &Value) -> (bool, String) {
    let text = |v: &Value| v.as_str().unwrap_or_default().to_string();
    let draws: Vec<String> =
        case["draws"].as_array().into_iter().flatten().map(|d| text(&d["what"])).collect();
    let (cells, values): (Vec<String>, Vec<String>) = draws.into_iter().partition(|d| d.starts_with('r'));
    let mut called = text(&case["move"]);
    if !cells.is_empty() {
        called = format!("{called} / {} at {}", values.join(" "), cells.join(" "));
    }
    let run = fendle(dir, &["trace", level, &called, "--at", &text(&case["at"]), "--format", "json"]);
    let steps = run.json();
    let steps = steps["steps"].as_array().cloned().unwrap_or_default();
    match steps.last() {
        Some(last) if run.code == 0 => (true, text(&last["position"])),
        _ => (false, text(&case["at"])),
    }
}

#[test]
fn every_case_is_what_trace_makes_of_it() {
    let (dir, file) = file_of(MERGE, &[]);
    let list = file["cases"].as_array().expect("a list");
    assert!(list.len() > 10, "{}", list.len());
    let mut drawn = 0;
    for case in list {
        let (allowed, after) = traced(dir.path(), "level.toml", case);
        assert_eq!(case["expect"]["allowed"], allowed, "{case}");
        assert_eq!(case["expect"]["at"], after, "{case}");
        drawn += usize::from(!case["draws"].as_array().expect("a list").is_empty());
    }
    assert!(drawn > 3, "cases with draws");
    assert!(list.iter().any(|c| c["expect"]["status"] == "stuck"), "a dead end is among them");
    assert!(list.iter().any(|c| c["status"] == "won"), "a move after the end is among them");
    // An end that a case comes to is not told as missing.
    let missing = file["coverage"]["endings_missing"].as_array().expect("a list");
    let won = list.iter().any(|c| c["expect"]["status"] == "won" && c["status"] == "running");
    assert!(won && missing.is_empty(), "{missing:?}");
    let of = |key: &str| file["sharpness"][key].as_array().map_or(0, Vec::len) as u64;
    let n = |key: &str| file["sharpness"][key].as_u64().unwrap_or_default();
    let sum =
        n("caught") + of("told") + of("no_change") + of("not_caught") + of("left_out") + n("not_looked");
    assert_eq!(sum, n("variants"), "every variant has one fate");
}

#[test]
fn mistakes_put_in_by_hand_are_caught() {
    let (dir, file) = file_of(YARD, &[]);
    let list = file["cases"].as_array().expect("a list");
    let model = include_str!("../../../models/shove.fendle");
    for (right, wrong) in [
        ("refuse \"another barge behind it\" at next, beyond unless not beyond in barge", ""),
        ("goal all(c in berth: c in barge)", "goal any(c in berth: c in barge)"),
        ("            add beyond to barge\n", ""),
        ("        remove next from barge\n", ""),
        ("level wall: grid of bool = false outside true", "level wall: grid of bool = true outside true"),
    ] {
        assert!(model.contains(right), "{right}");
        std::fs::write(dir.path().join("faulty.fendle"), model.replacen(right, wrong, 1)).expect("writable");
        let level = YARD.replace("\"shove\"", "\"faulty.fendle\"");
        std::fs::write(dir.path().join("faulty.toml"), level).expect("writable");
        let caught = list.iter().any(|case| {
            let (allowed, after) = traced(dir.path(), "faulty.toml", case);
            case["expect"]["allowed"] != allowed || case["expect"]["at"] != after
        });
        // The last one is a level value that the level gives itself: nothing changes.
        assert_eq!(caught, !right.starts_with("level"), "{right}");
    }
}

#[test]
fn fewer_cases_are_the_first_ones_and_threads_change_nothing() {
    let (_a, all) = file_of(YARD, &["--threads", "2"]);
    let (_b, same) = file_of(YARD, &["--threads", "1"]);
    assert_eq!(all, same);
    let (_c, few) = file_of(YARD, &["--most", "4"]);
    let first = |v: &Value, n: usize| v["cases"].as_array().expect("a list")[..n].to_vec();
    assert_eq!(few["cases"].as_array().expect("a list").len(), 4);
    assert_eq!(first(&few, 4), first(&all, 4));
    assert!(few["sharpness"]["caught"].as_u64() < all["sharpness"]["caught"].as_u64());
    assert!(
        !few["sharpness"]["left_out"].as_array().expect("a list").is_empty(),
        "what four cases leave out"
    );
    assert_eq!(all["complete"], true);
    let space = fendle(_a.path(), &["explore", "level.toml", "--past-goals", "--format", "json"]).json();
    assert!(all["positions"].as_u64() <= space["states"].as_u64());
}

#[test]
fn names_of_the_code_stand_in_the_cases() {
    let dir = dir_with(&[
        ("level.toml", LAMPS),
        (
            "names.toml",
            "[moves]\n\"press r1c1\" = \"touch 0\"\n[values]\nlanterns = \"row\"\n[glyphs]\n\"*\" = \"1\"\n\".\" = \"0\"\n",
        ),
    ]);
    let run = fendle(dir.path(), &["cases", "level.toml", "--names", "names.toml", "--format", "json"]);
    let list = run.json()["cases"].clone();
    let list = list.as_array().expect("a list").clone();
    assert!(list.iter().any(|c| c["move"] == "touch 0"), "{}", run.out);
    let row = list[0]["position"]["boards"]["row"][0].as_array().expect("a row").clone();
    assert!(row.iter().all(|c| c == "0" || c == "1"), "{row:?}");
}

#[test]
fn what_examples_do_not_notice_is_told_with_its_line() {
    let model = "model latch\nstate at: 0..3\nmove on_ {\n    refuse \"the end\" unless at < 3\n    at += 1\n}\nmove back {\n    refuse \"the start\" unless at > 0\n    at = at - 1\n}\ngoal at == 3\nexample \"to the end\" {\n    start at = 2\n    do on_\n    see (at == 3)\n    status goal\n}\n";
    let dir = dir_with(&[("latch.fendle", model)]);
    let run = fendle(dir.path(), &["check", "latch.fendle", "--sharp"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert!(run.out.contains("latch.fendle:8: \"the start\" is never a reason to refuse"), "{}", run.out);
    assert!(run.out.contains("latch.fendle:9: `at = at - 1` is left out"), "{}", run.out);
    assert!(
        !run.out.contains("latch.fendle:5: `at += 1` is left out"),
        "the example notices this: {}",
        run.out
    );
    let found = fendle(dir.path(), &["check", "latch.fendle", "--sharp", "--format", "json"]).json();
    let sharp = &found["sharp"][0];
    let missed = sharp["not_noticed"].as_array().expect("a list").len() as u64;
    assert_eq!(
        sharp["noticed"].as_u64().expect("a number") + missed,
        sharp["variants"].as_u64().expect("a number")
    );
}

#[test]
fn limits_and_wrong_names_are_told() {
    let dir = dir_with(&[("level.toml", YARD)]);
    let run = fendle(dir.path(), &["cases", "level.toml", "-o", "cases.txt"]);
    assert_eq!(run.code, 2);
    assert!(run.err.contains("-o wants a name ending in .json"), "{}", run.err);
    let run = fendle(dir.path(), &["cases", "level.toml", "--max-states", "5"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert!(run.out.contains("from 5 positions, and"), "{}", run.out);
    assert!(run.out.contains("the limit of 5 states"), "{}", run.out);
    // A model that breaks says where.
    let model = "model broken\nstate at: 0..3\nmove on_ { at += 1 }\ngoal at == 9\n";
    let level = "model = \"broken.fendle\"\n[[level]]\nname = \"a\"\nstart.at = 0\n";
    let dir = dir_with(&[("broken.fendle", model), ("level.toml", level)]);
    let run = fendle(dir.path(), &["cases", "level.toml"]);
    assert_eq!(run.code, 2, "{}{}", run.out, run.err);
    assert!(run.err.contains("broken.fendle"), "{}", run.err);
}

#[test]
fn an_example_may_come_to_what_is_set_aside() {
    let model = "model drift\nstate at: 0..9\nmove on_ {\n    repeat at most 2 while at < 9 { at = draw from (1, 2) } else cut\n}\ngoal at == 9\nexample \"too far\" {\n    start at = 0\n    do on_\n    status goal\n}\n";
    let dir = dir_with(&[("drift.fendle", model)]);
    let run = fendle(dir.path(), &["check", "drift.fendle"]);
    assert_eq!(run.code, 1, "{}{}", run.out, run.err);
    assert!(run.err.contains("set aside"), "{}", run.err);
}
