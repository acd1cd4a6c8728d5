//! What every command ends with: exit codes for yes, no, bad and undecided, on the same small levels; one JSON value
//! where JSON is asked for; warnings of starts that are none.

use std::fs;

use crate::common::{dir_with, fendle};

/// Levels of `shove`: one to be won, one that cannot be, one that is large.
const YARD: &str = "model = 'shove'\n\
[[level]]\nname = 'lane'\nstart.yard = 'A.o._'\n\
[[level]]\nname = 'shut'\nstart.yard = 'AHo._'\n\
[[level]]\nname = 'wide'\nstart.yard = '''\nA......\n.o.o.o.\n..._...\n.o_o_..\n.......\n'''\n";
const ROPE: &str = "model = 'merge'\n[[level]]\nname = 'rope'\nvalues = { high = 2, wide = 2, top = 4 }\n";
const REEF: &str = "model = 'sweep'\n[[level]]\nname = 'reef'\nvalues.rocks = 2\nvalues.shown = '''\nx..\n...\n...\n'''\n\
start.reef = '''\n...\n..x\n.x.\n'''\n";

const FILES: &[(&str, &str)] = &[("yard.toml", YARD), ("rope.toml", ROPE), ("reef.toml", REEF)];

/// Each command with each kind of end.
const CASES: &[(&[&str], i32)] = &[
    (&["check", "yard.toml"], 0),
    (&["check", "rope.toml", "reef.toml"], 0),
    (&["check", "nothing.toml"], 2),
    (&["show", "yard.toml"], 0),
    (&["show", "yard.toml", "--level", "none"], 2),
    (&["show", "yard.toml", "--at", "A.o.x"], 2),
    (&["moves", "yard.toml"], 0),
    (&["moves", "yard.toml", "--after", "go sideways"], 2),
    (&["moves", "yard.toml", "--after", "go up"], 2),
    (&["trace", "yard.toml", "go right"], 0),
    (&["trace", "yard.toml", "go up"], 1),
    (&["trace", "yard.toml", "go sideways"], 2),
    (&["solve", "yard.toml"], 0),
    (&["solve", "yard.toml", "--level", "shut"], 1),
    (&["solve", "yard.toml", "--level", "wide", "--max-states", "1000"], 3),
    (&["solve", "yard.toml", "--set", "nothing=1"], 2),
    (&["explore", "yard.toml"], 0),
    (&["explore", "yard.toml", "--level", "shut"], 0),
    (&["explore", "yard.toml", "--level", "wide", "--max-states", "1000"], 3),
    (&["explore", "yard.toml", "--structure"], 0),
    (&["find", "yard.toml", "stuck"], 1),
    (&["find", "yard.toml", "all(c in berth: c in barge)"], 0),
    (&["find", "yard.toml", "tug on"], 2),
    (&["find", "yard.toml", "stuck", "--level", "wide", "--max-states", "1000"], 3),
    (&["why", "yard.toml", "--level", "shut"], 0),
    (&["graph", "yard.toml", "-o", "g.svg"], 0),
    (&["graph", "yard.toml", "-o", "g.svg", "--level", "wide", "--max-states", "500"], 3),
    (&["graph", "yard.toml", "-o", "g.bmp"], 2),
    (&["graph", "yard.toml"], 2),
    (&["odds", "rope.toml"], 0),
    (&["odds", "rope.toml", "--max-states", "10", "--plays", "20"], 3),
    (&["infer", "reef.toml"], 0),
    (&["infer", "yard.toml"], 2),
    (&["review", "yard.toml", "go right"], 0),
    (&["compare", "yard.toml", "--spaces", "--with", "lane"], 0),
    (&["compare", "yard.toml", "--spaces", "--with", "shut"], 1),
    (&["audit", "yard.toml"], 0),
    (&["new", "--list"], 0),
    (&["new", "nothing"], 2),
    (&["nothing"], 2),
    (&["show"], 2),
    (&["--help"], 0),
    (&["completions", "bash"], 0),
];

#[test]
fn every_command_ends_as_it_should() {
    let dir = dir_with(FILES);
    for (args, code) in CASES {
        let r = fendle(dir.path(), args);
        assert_eq!(r.code, *code, "{args:?}\n{}{}", r.out, r.err);
        if *code == 2 {
            assert!(!r.err.trim().is_empty(), "{args:?}");
        }
    }
}

/// With `--format json` every command prints one value and nothing beside it, however it ends, unless it is misused.
#[test]
fn every_answer_is_one_json_value() {
    let dir = dir_with(FILES);
    for (args, code) in CASES {
        let words = ["check", "new", "--help", "completions", "nothing"];
        if *code == 2 || words.contains(&args[0]) {
            continue;
        }
        let mut args = args.to_vec();
        args.extend(["--format", "json"]);
        let r = fendle(dir.path(), &args);
        assert_eq!(r.code, *code, "{args:?}\n{}{}", r.out, r.err);
        assert!(serde_json::from_str::<serde_json::Value>(&r.out).is_ok(), "{args:?}\n{}", r.out);
    }
}

/// The verdict in words and the verdict for programs are one; so are the counts of `explore` and `graph`.
#[test]
fn words_and_values_agree() {
    let dir = dir_with(FILES);
    for (level, verdict, code) in [("lane", "solvable", 0), ("shut", "unsolvable", 1)] {
        let text = fendle(dir.path(), &["solve", "yard.toml", "--level", level]);
        let value = fendle(dir.path(), &["solve", "yard.toml", "--level", level, "--format", "json"]);
        assert_eq!((text.code, value.code), (code, code));
        assert_eq!(value.json()["verdict"], verdict);
        assert!(text.out.contains(verdict));
    }
    let counts = fendle(dir.path(), &["explore", "yard.toml", "--level", "lane", "--format", "json"]).json();
    let graph =
        fendle(dir.path(), &["graph", "yard.toml", "--level", "lane", "-o", "g.dot", "--format", "json"])
            .json();
    assert_eq!(graph["graphs"][0]["states"], counts["states"]);
    assert_eq!(graph["graphs"][0]["arrows"], counts["transitions"]);
    let solved = fendle(dir.path(), &["solve", "yard.toml", "--format", "json"]).json();
    assert_eq!(solved["moves"], counts["shortest"]);
}

/// Seeds decide everything that is drawn, and nothing else does.
#[test]
fn the_same_seed_is_the_same_answer() {
    let dir = dir_with(FILES);
    let out = |seed: &str, args: &[&str]| {
        let mut all = args.to_vec();
        all.extend(["--seed", seed]);
        fendle(dir.path(), &all).out
    };
    for args in [
        &["show", "rope.toml"][..],
        &["odds", "rope.toml", "--plays", "50"],
        &["trace", "rope.toml", "left; up"],
    ] {
        assert_eq!(out("7", args), out("7", args), "{args:?}");
        let several: std::collections::BTreeSet<String> =
            (1..12).map(|s| out(&s.to_string(), args)).collect();
        assert!(several.len() > 1, "{args:?}: chance has no part in it");
    }
    for file in ["a.svg", "b.svg"] {
        assert_eq!(fendle(dir.path(), &["graph", "yard.toml", "-o", file, "--seed", "5"]).code, 0);
    }
    let read = |f: &str| fs::read(dir.path().join(f)).expect("written");
    assert!(read("a.svg") == read("b.svg"));
}

/// Starts from which nothing can be done are warned of, and starts that break the model are errors.
#[test]
fn starts_that_are_none_are_told() {
    let model = "model well\nlevel deep: 0..9 = 0\nstate n: 0..9 = 0\nmove dig { refuse \"rock\" unless n < deep \n n += 1 }\n\
                 goal n == 9\nlost when 6 / (5 - n) == 6 because \"x\"\nstatus goal, lost\n";
    let level = |start: &str| format!("model = 'well.fendle'\n[[level]]\nname = 'one'\n{start}\n");
    let check = |start: &str| {
        let dir = dir_with(&[("well.fendle", model), ("well.toml", &level(start))]);
        fendle(dir.path(), &["check", "well.toml"])
    };
    let r = check("values.deep = 9");
    assert_eq!((r.code, r.err.as_str()), (0, ""), "{}", r.out);
    for (start, code, words) in
        [("start.n = 9", 0, "L060"), ("start.n = 2", 0, "L061"), ("start.n = 5", 2, "L062")]
    {
        let r = check(start);
        assert_eq!(r.code, code, "{start}: {}{}", r.out, r.err);
        assert!(r.err.contains(words), "{start}: {}", r.err);
    }
    // A model with errors is told once, at the model, and the level says that it is why.
    let broken = model.replace("refuse \"rock\" unless n < deep", "refuse \"rock\" unless m < deep");
    let dir = dir_with(&[("well.fendle", &broken), ("well.toml", &level(""))]);
    let r = fendle(dir.path(), &["solve", "well.toml"]);
    assert!(
        r.code == 2 && r.err.contains("M010") && r.err.matches("no variable is named").count() <= 1,
        "{}",
        r.err
    );
    // No start that the setup draws meets its conditions.
    let drawn = "model dice\nstate n: 0..3 = 0\nsetup { n = draw from (0, 1) \n require n == 3 }\nmove roll { n = 0 }\ngoal n == 2\n";
    let dir = dir_with(&[
        ("dice.fendle", drawn),
        ("dice.toml", "model = 'dice.fendle'\n[[level]]\nname = 'one'\n"),
    ]);
    let r = fendle(dir.path(), &["solve", "dice.toml"]);
    assert!(
        r.code == 2 && r.err.contains("L070") && r.err.contains("this dropped most of them"),
        "{}",
        r.err
    );
}

/// Limits end a search with "undecided", name themselves, and never say no.
#[test]
fn a_limit_is_never_a_no() {
    let dir = dir_with(FILES);
    for (limit, words) in [
        (&["--max-states", "500"][..], "--max-states"),
        (&["--memory", "1M"], "memory"),
        (&["--time", "1ms"], "--time"),
    ] {
        for command in [&["solve"][..], &["explore"], &["find"]] {
            let mut args = command.to_vec();
            args.extend(["yard.toml", "--level", "wide"]);
            if command == ["find"] {
                args.push("stuck and tug in berth and count(c in barge) == 2");
            }
            args.extend(limit);
            let r = fendle(dir.path(), &args);
            assert_eq!(r.code, 3, "{args:?}: {}{}", r.out, r.err);
            assert!(r.out.contains(words) || r.out.contains("stopped by"), "{args:?}: {}", r.out);
            assert!(
                !r.out.contains("unsolvable") && !r.out.contains("no such position"),
                "{args:?}: {}",
                r.out
            );
        }
    }
}

#[test]
fn boards_may_have_blanks_between_their_cells() {
    let reef = |board: &str| {
        format!(
            "model = \"sweep\"\n[[level]]\nname = \"a\"\nvalues.rocks = 2\nstart.reef = '''\n{board}\n'''\n"
        )
    };
    let yard =
        |board: &str| format!("model = \"shove\"\n[[level]]\nname = \"a\"\nstart.yard = '''\n{board}\n'''\n");
    for (text, line) in [
        (reef(".x..\n...x"), "-^--/---^\n"),
        (reef(". x . .\n. . . x"), "-^--/---^\n"),
        (yard("H H H H H\nHAo_H\nH H H H H"), "HHHHH/HAo_H/HHHHH\n"),
    ] {
        let dir = dir_with(&[("a.toml", &text)]);
        let run = fendle(dir.path(), &["show", "a.toml", "--line"]);
        assert_eq!((run.code, run.out.as_str()), (0, line), "{}", run.err);
    }
    // A blank where a cell should be is a mistake all the same.
    let dir = dir_with(&[("a.toml", &reef(".x..\n.. x"))]);
    let run = fendle(dir.path(), &["show", "a.toml"]);
    assert!(run.code == 2 && run.err.contains("` ` is no value of `reef`"), "{}", run.err);
}
