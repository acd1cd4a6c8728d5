//! The built program on real files.

use std::fs;
use std::path::{Path, PathBuf};

use crate::common::{dir_with, fendle};
use serde_json::Value;

fn packs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packs/harbour")
}

const FERRY: &str = "model = 'slide'\nvalues.target = '''\n1 2 3\n4 5 6\n7 8 .\n'''\n\
[[level]]\nname = 'late'\nstart.tile = '''\n1 2 3\n4 5 6\n. 7 8\n'''\nexpect = { solvable = true, moves = 2 }\n\
[[level]]\nname = 'swapped'\nstart.tile = '''\n1 2 3\n4 5 6\n8 7 .\n'''\nexpect = { solvable = false }\n";

const YARD: &str = "model = 'shove'\n[[level]]\nname = 'yard'\nstart.yard = '''\nHHHHHHH\nH.....H\nH.o.A.H\nH.._..H\nHHHHHHH\n'''\n";

#[test]
fn the_demo_shows_everything_and_its_commands_write_the_same() {
    let dir = dir_with(&[]);
    let r = fendle(dir.path(), &["demo"]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    for words in [
        "proved from the rules",
        "no state was visited",
        "the space is exhausted",
        "solvable in 31 moves",
        "fatal move",
        "levels as expected",
    ] {
        assert!(r.out.contains(words), "{words} is missing");
    }
    assert!(r.out.lines().all(|l| l.chars().count() <= 100), "a line is too long");
    insta::assert_snapshot!("demo", r.out.replace(&dir.path().display().to_string(), "TEMPORARY"));
    let folder = dir.path().join("fendle-demo");
    // The commands that it names write the same files, byte for byte.
    let named: Vec<&str> =
        r.out.lines().filter_map(|l| l.strip_prefix("$ fendle ")).filter(|l| l.contains(" -o ")).collect();
    assert!(named.len() >= 10, "{}", r.out);
    for line in named {
        let mut words = vec![];
        for (i, part) in line.split('"').enumerate() {
            if i % 2 == 1 { words.push(part) } else { words.extend(part.split_whitespace()) }
        }
        let file = folder.join(words[words.len() - 1]);
        let was = fs::read(&file).expect("the demo wrote it");
        fs::remove_file(&file).expect("removed");
        let r = fendle(&folder, &words);
        assert_eq!(r.code, 0, "{line}: {}", r.err);
        assert!(fs::read(&file).expect("written again") == was, "{line}");
    }
}

#[test]
fn new_files_work_at_once() {
    let dir = dir_with(&[]);
    for family in ["slide", "shove"] {
        let r = fendle(dir.path(), &["new", family]);
        assert_eq!(r.code, 0, "{}", r.err);
        let level = format!("{family}/first.toml");
        let checked = fendle(dir.path(), &["check", family]);
        assert_eq!(checked.code, 0, "{}", checked.err);
        // The level names the model that lies beside it: one model, checked once.
        assert_eq!(checked.out.matches("examples pass").count(), 1, "{}", checked.out);
        assert_eq!(fendle(dir.path(), &["audit", family]).code, 0);
        assert_eq!(fendle(dir.path(), &["solve", &level]).code, 0);
        // Nothing is overwritten.
        let again = fendle(dir.path(), &["new", family]);
        assert_eq!(again.code, 2);
        assert!(again.err.contains("exists already"), "{}", again.err);
    }
    let r = fendle(dir.path(), &["new", "slied"]);
    assert_eq!(r.code, 2);
    assert!(r.err.contains("did you mean `slide`?"), "{}", r.err);
    assert!(fendle(dir.path(), &["new", "--list"]).out.contains("shove"));
}

#[test]
fn solve_gives_its_fields_and_exit_codes() {
    let dir = dir_with(&[("ferry.toml", FERRY)]);
    let r = fendle(dir.path(), &["solve", "ferry.toml", "--format", "json"]);
    assert_eq!(r.code, 0, "{}", r.err);
    let v = r.json();
    assert_eq!(v["verdict"], "solvable");
    assert_eq!(v["moves"], 2);
    assert_eq!(v["solution"], serde_json::json!(["slide left", "slide left"]));
    assert!(v["states"].as_u64().is_some() && v["effort"]["seconds"].is_number());
    let r = fendle(dir.path(), &["solve", "ferry.toml", "--level", "swapped", "--format", "json"]);
    assert_eq!(r.code, 1);
    let v = r.json();
    assert_eq!(v["verdict"], "unsolvable");
    assert_eq!(v["moves"], Value::Null);
    assert_eq!(v["proof"]["kind"], "kept quantity");
    assert_eq!(v["states"], 0);
    let hard = ["solve", "ferry.toml", "--at", "8 6 7/2 5 4/3 . 1", "--max-states", "1000"];
    let r = fendle(dir.path(), &hard);
    assert_eq!(r.code, 3, "{}", r.out);
    assert!(r.out.contains("undecided: stopped by the limit of 1,000 states"), "{}", r.out);
    let r = fendle(dir.path(), &["solve", "ferry.toml", "--at", "8 6 7/2 5 4/3 . 1", "--time", "1ms"]);
    assert_eq!(r.code, 3, "{}", r.out);
    let r = fendle(dir.path(), &["solve", "ferry.toml", "--at", "8 6 7/2 5 4/3 . 1", "--memory", "1M"]);
    assert_eq!(r.code, 3, "{}", r.out);
    assert!(r.out.contains("memory budget"), "{}", r.out);
}

#[test]
fn an_unproved_quantity_answers_only_if() {
    let model = "model turns\nstate at: cell\nlevel home: cell\n\
        move go(d: dir4) {\n let next = at + d\n refuse \"edge\" unless next on board\n refuse \"sideways\" unless d == up or d == down\n at = next\n}\n\
        state n: 0..100000\nafter { n = (n * 3 + 1) mod 90000 }\n\
        goal at == home\nkeeps (col(at)) because \"nothing moves sideways\"\n";
    let level = "model = 'turns.fendle'\nsize = [9, 3]\n[[level]]\nvalues.home = 'r1c2'\nstart = { at = 'r4c1', n = 1 }\n";
    let dir = dir_with(&[("turns.fendle", model), ("l.toml", level)]);
    let r = fendle(dir.path(), &["solve", "l.toml", "--max-states", "100"]);
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
    let text = r.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("unsolvable if a declared quantity is kept, which is not proved"), "{text}");
    let r = fendle(dir.path(), &["solve", "l.toml", "--format", "json"]);
    assert_eq!((r.code, r.json()["proof"]["kind"].as_str()), (1, Some("exhausted space")));
}

#[test]
fn explore_gives_every_documented_field() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let r = fendle(dir.path(), &["explore", "yard.toml", "--format", "json"]);
    assert_eq!(r.code, 0, "{}", r.err);
    let v = r.json();
    for field in [
        "states",
        "transitions",
        "edges",
        "depth",
        "goal",
        "lost",
        "over",
        "stuck",
        "dead",
        "winnable",
        "free",
        "open",
        "fatal_moves",
        "bits_per_state",
    ] {
        assert!(v[field].is_u64(), "{field}");
    }
    assert_eq!(v["complete"], true);
    assert_eq!((v["states"].as_u64(), v["shortest"].as_u64()), (Some(199), Some(7)));
    assert_eq!(v["per_depth"].as_array().map(Vec::len), Some(17));
    for field in ["seconds", "states_per_second", "peak_memory_bytes"] {
        assert!(v["effort"][field].is_number(), "{field}");
    }
    assert_eq!(v["nearest_fatal_move"]["moves"], serde_json::json!(["go left", "go left"]));
    let text = fendle(dir.path(), &["explore", "yard.toml"]);
    insta::assert_snapshot!("explore", text.out);
    let past = fendle(dir.path(), &["explore", "yard.toml", "--past-goals", "--format", "json"]).json();
    assert!(past["states"].as_u64() > Some(199));
    let r = fendle(dir.path(), &["explore", "yard.toml", "--max-states", "50", "--format", "json"]);
    assert_eq!(r.code, 3);
    let v = r.json();
    assert_eq!(
        (v["complete"].as_bool(), v["states"].as_u64(), v["limit"].as_str()),
        (Some(false), Some(50), Some("max_states"))
    );
}

#[test]
fn threads_change_no_byte_of_the_answer() {
    let dir = dir_with(&[]);
    let yard = packs().join("yard.toml");
    let run = |threads: &str| {
        let args = [
            "explore",
            yard.to_str().expect("text"),
            "--level",
            "two for three",
            "--format",
            "json",
            "--threads",
            threads,
        ];
        let mut v = fendle(dir.path(), &args).json();
        v.as_object_mut().expect("an object").remove("effort");
        v.to_string()
    };
    assert_eq!(run("1"), run("2"));
    assert_eq!(run("1"), run("7"));
}

#[test]
fn moves_lists_what_is_refused_and_where() {
    let dir = dir_with(&[("ferry.toml", FERRY), ("yard.toml", YARD)]);
    let text = fendle(dir.path(), &["moves", "ferry.toml", "-q"]);
    assert_eq!(text.code, 0);
    insta::assert_snapshot!("moves", text.out);
    let r = fendle(
        dir.path(),
        &["moves", "yard.toml", "--after", "left; up; left; left; down", "--format", "json"],
    );
    let v = r.json();
    let refused = v["refused"].as_array().expect("a list");
    assert!(refused.iter().any(|m| m["why"] == "a wall" && m["at"][0] == "r3c1"), "{v}");
    assert!(refused.iter().all(|m| m["line"].is_u64()));
}

#[test]
fn trace_stops_at_the_first_refused_move() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let r = fendle(dir.path(), &["trace", "yard.toml", "go left x 2; go left; go up", "--verdict"]);
    assert_eq!(r.code, 1, "{}", r.out);
    insta::assert_snapshot!("trace", r.out);
    let r = fendle(dir.path(), &["trace", "yard.toml", "go left x 2", "--verdict", "--format", "json"]);
    assert_eq!(r.code, 0);
    let v = r.json();
    assert_eq!(v["first_fatal_move"], 2);
    assert_eq!(v["steps"][0]["verdict"], "winnable");
    assert_eq!(v["steps"][1]["verdict"], "dead");
}

#[test]
fn phases_notes_tallies_and_scores_are_traced() {
    let model = "model bank\nstate n: 0..9\ntally visits\nmove put(k: 1..3) {\n phase \"take\" { n += k\n note \"taken\" }\n \
        phase \"fee\" { if n > 4 { n -= 1 } }\n score 10 * k\n visits += 1\n}\ngoal n == 8\n";
    let dir =
        dir_with(&[("bank.fendle", model), ("l.toml", "model='bank.fendle'\n[[level]]\nstart.n = 2\n")]);
    let r = fendle(dir.path(), &["trace", "l.toml", "3; put 3"]);
    assert_eq!(r.code, 0, "{}", r.err);
    insta::assert_snapshot!("trace_phases", r.out);
    let v = fendle(dir.path(), &["trace", "l.toml", "3; 3", "--format", "json"]).json();
    assert_eq!((v["score"].as_i64(), v["tallies"]["visits"].as_i64()), (Some(60), Some(2)));
}

#[test]
fn a_position_goes_out_and_in_again() {
    let dir = dir_with(&[("ferry.toml", FERRY), ("yard.toml", YARD)]);
    for (file, after) in [("ferry.toml", "slide left; slide down"), ("yard.toml", "go left; go up")] {
        let line = fendle(dir.path(), &["show", file, "-q", "--line", "--after", after]).out;
        let back = fendle(dir.path(), &["show", file, "-q", "--line", "--at", line.trim()]).out;
        assert_eq!(line, back);
        let r = fendle(dir.path(), &["show", file, "-q", "--after", after]);
        assert_eq!(r.code, 0);
    }
    let r = fendle(dir.path(), &["show", "yard.toml"]);
    // A ring of 20 walls around 15 cells: a berth, a barge, the tug, and nothing on the rest.
    assert!(r.out.contains("20 wall, 0 water, 1 berth, 1 barge, 12 free"), "{}", r.out);
    let v = fendle(dir.path(), &["show", "yard.toml", "--format", "json"]).json();
    assert_eq!(v["counts"]["barge"], 1);
    for (at, words) in [
        ("1 2 3/4 5 6/7 8 8", "another order"),
        ("1 2 3/4 5 6/7 8", "row 3 has 2 cells"),
        ("1 2 3/4 5 6/7 8 x", "`x` is no value"),
        ("tlie=1 2 3/4 5 6/7 8 .", "did you mean `tile`?"),
    ] {
        let r = fendle(dir.path(), &["show", "ferry.toml", "--at", at]);
        assert_eq!(r.code, 2, "{at}");
        assert!(r.err.contains(words), "{at}: {}", r.err);
    }
    let r = fendle(dir.path(), &["show", "ferry.toml", "--after", "slide up"]);
    assert_eq!(r.code, 2);
    assert!(r.err.contains("is refused: the edge of the board"), "{}", r.err);
}

#[test]
fn audit_says_what_differs() {
    let wrong =
        FERRY.replace("moves = 2", "moves = 3").replace("solvable = false", "solvable = true, dead = 5");
    let dir = dir_with(&[("good/ferry.toml", FERRY), ("bad/ferry.toml", &wrong)]);
    assert_eq!(fendle(dir.path(), &["audit", "good"]).code, 0);
    let r = fendle(dir.path(), &["audit", "bad"]);
    assert_eq!(r.code, 1);
    for words in [
        "expected moves = 3, it takes 2",
        "expected solvable = true, it is unsolvable",
        "expected dead = 5, it is 181,440",
    ] {
        assert!(r.out.contains(&words.replace("181,440", "181440")), "{words}\n{}", r.out);
    }
    let r = fendle(dir.path(), &["audit", "bad", "--max-states", "100"]);
    // The differences that are decided still count.
    assert_eq!(r.code, 1, "{}", r.out);
    let undecided = FERRY.replace(". 7 8", "8 7 .").replace("solvable = true, moves = 2", "states = 181440");
    let dir = dir_with(&[("l.toml", &undecided)]);
    let r = fendle(dir.path(), &["audit", "l.toml", "--max-states", "100", "--format", "json"]);
    assert_eq!(r.code, 3, "{}", r.out);
}

/// The tags of an XML text in their order, each with its attributes; every one that opens is closed.
fn tags(text: &str) -> Vec<String> {
    let mut open: Vec<&str> = vec![];
    let mut out = vec![];
    for part in text.split('<').skip(1) {
        let (tag, after) = part.split_once('>').expect("a tag ends");
        assert!(!after.contains('>'), "{after}");
        if let Some(name) = tag.strip_prefix('/') {
            assert_eq!(open.pop(), Some(name));
        } else if !tag.starts_with('?') {
            if !tag.ends_with('/') {
                open.push(tag.split(' ').next().expect("a name"));
            }
            out.push(tag.trim_end_matches('/').to_string());
        }
    }
    assert!(open.is_empty(), "{open:?}");
    out
}

#[test]
fn audit_writes_its_results_for_ci_services() {
    let wrong = FERRY.replace("moves = 2", "moves = 3").replace("'late'", "\"<&'>\"");
    let broken = "model = 'nowhere.fendle'\n[[level]]\nname = 'none'\n";
    let dir = dir_with(&[("a.toml", FERRY), ("b.toml", &wrong), ("c.toml", broken)]);
    let run = |args: &[&str]| {
        let r = fendle(dir.path(), &[&["audit", "--junit", "r.xml"], args].concat());
        let text = std::fs::read_to_string(dir.path().join("r.xml")).expect("written");
        (r, tags(&text), text)
    };
    let (r, all, _) = run(&["a.toml"]);
    assert_eq!(r.code, 0, "{}", r.err);
    assert!(r.out.contains("wrote r.xml"), "{}", r.out);
    let levels = FERRY.matches("[[level]]").count();
    assert_eq!(
        all[0],
        format!("testsuites name=\"fendle audit\" tests=\"{levels}\" failures=\"0\" errors=\"0\"")
    );
    assert_eq!(all.iter().filter(|t| t.starts_with("testcase ")).count(), levels);

    let (r, all, text) = run(&["a.toml", "b.toml", "c.toml"]);
    assert_eq!(r.code, 2, "{}", r.err);
    assert!(all[0].contains("failures=\"1\" errors=\"1\""), "{}", all[0]);
    let failure = all.iter().find(|t| t.starts_with("failure ")).expect("one differs");
    assert!(failure.contains("expected moves = 3, it takes 2"), "{failure}");
    assert!(text.contains("&lt;&amp;&#39;&gt;"), "{text}");
    assert!(
        all.iter()
            .any(|t| t
                == "testsuite name=\"files that cannot be read\" tests=\"1\" failures=\"0\" errors=\"1\"")
    );

    // A limit is an error here, and no failure.
    let (r, all, _) = run(&["a.toml", "--max-states", "2"]);
    assert_eq!(r.code, 3, "{}", r.err);
    assert!(all.iter().any(|t| t.starts_with("error type=\"undecided\"")), "{all:?}");
    assert!(all[0].contains("failures=\"0\"") && !all[0].contains("errors=\"0\""), "{}", all[0]);

    let r = fendle(dir.path(), &["audit", "a.toml", "--junit", "r.txt"]);
    assert_eq!(r.code, 2);
    assert!(r.err.contains("ending in .xml"), "{}", r.err);
}

#[test]
fn check_warns_of_odd_starts_and_runs_examples() {
    let levels = "model = 'shove'\n[[level]]\nname='won'\nstart.yard='AQ'\n[[level]]\nname='stuck'\nstart.yard='AHo_'\n";
    let dir = dir_with(&[("l.toml", levels)]);
    let r = fendle(dir.path(), &["check", "l.toml"]);
    assert_eq!(r.code, 0, "{}", r.err);
    assert!(
        r.err.contains("`won` has ended at its start: won")
            && r.err.contains("`stuck` is stuck at its start")
    );
    let model =
        include_str!("../../../models/shove.fendle").replace("see yard \".Aw_o\"", "see yard \"A.w_o\"");
    let dir = dir_with(&[("shove.fendle", &model)]);
    let r = fendle(dir.path(), &["check", "shove.fendle"]);
    assert_eq!(r.code, 1, "a failing example");
    assert!(r.err.contains("water swallows a barge and stays water"), "{}", r.err);
    assert!(r.err.contains("`tug` is r1c2, expected r1c1"), "{}", r.err);
}

#[test]
fn two_statuses_at_once_are_found() {
    let model = "model last\nstate more: 0..3\nstate got: 0..3\nmove take { refuse \"none left\" unless more > 0\n more -= 1\n got += 1 }\n\
        goal got == 3\nlost when more == 0 because \"no moves left\"\nstatus goal, lost\n";
    let dir = dir_with(&[
        ("last.fendle", model),
        ("l.toml", "model='last.fendle'\n[[level]]\nstart={more=3, got=0}\n"),
    ]);
    let r = fendle(dir.path(), &["check", "l.toml"]);
    assert!(r.out.contains("won and lost: no moves left at depth 3: more=0; got=3"), "{}", r.out);
    assert_eq!(fendle(dir.path(), &["solve", "l.toml"]).code, 0);
    let other = model.replace("status goal, lost", "status lost, goal");
    let dir = dir_with(&[
        ("last.fendle", &other),
        ("l.toml", "model='last.fendle'\n[[level]]\nstart={more=3, got=0}\n"),
    ]);
    assert_eq!(fendle(dir.path(), &["solve", "l.toml"]).code, 1);
}

#[test]
fn a_model_fault_is_told_with_its_place_its_state_and_its_moves() {
    let start = "model m\nstate at: cell\nstate n: 0..5\nlevel grid_: grid of 0..3 = 1\nmove go(d: dir4) {\n let p = at + d\n refuse \"edge\" unless p on board\n at = p\n";
    let cases = [
        ("n += 1\n", "6 is not among the values"),
        (
            "if n == 2 { let q = at + right + right\n let c: place = q\n n = grid_[c] outside 9 }\n n += 1\n",
            "9 is not among",
        ),
        ("repeat at most 4 while true { n = 1 }\n", "still not done after 4 rounds"),
        ("let x = the(c on board where grid_[c] == 2)\n at = x\n", "nothing matches"),
        ("let x = the(c on board where grid_[c] == 1)\n at = x\n", "more than one matches"),
        ("n = 3 / (2 - n)\n if n == 1 { n = 2 }\n", "division by zero"),
        ("n = parity(grid_)\n", "`parity` of a grid in which 1 stands twice"),
        ("let f: place = at + 9000 * d\n if f on board { n = 1 }\n", "too far from the board"),
    ];
    for (body, words) in cases {
        let model = format!("{start}{body}}}\ngoal n == 5 and n < 5\n");
        let level = "model='m.fendle'\nsize=[2,3]\n[[level]]\nstart={at='r1c1', n=0}\n";
        let dir = dir_with(&[("m.fendle", &model), ("l.toml", level)]);
        for command in ["explore", "solve"] {
            let r = fendle(dir.path(), &[command, "l.toml"]);
            assert_eq!(r.code, 2, "{body}: {}{}", r.out, r.err);
            assert!(r.err.contains("model fault") && r.err.contains(words), "{body}: {}", r.err);
            assert!(r.err.contains("while trying: go") && r.err.contains("the state there"), "{}", r.err);
            assert!(r.err.contains("m.fendle:"), "{}", r.err);
        }
        let v = fendle(dir.path(), &["explore", "l.toml", "--format", "json"]).json();
        assert!(v["fault"]["moves"].is_array() && v["fault"]["line"].is_u64());
    }
    let law = format!("{start}n = 1\n}}\ngoal n == 5\nalways n != 1 because \"never one\"\n");
    let dir = dir_with(&[
        ("m.fendle", &law),
        ("l.toml", "model='m.fendle'\nsize=[2,3]\n[[level]]\nstart={at='r1c1', n=0}\n"),
    ]);
    let r = fendle(dir.path(), &["explore", "l.toml"]);
    assert_eq!(r.code, 2);
    assert!(r.err.contains("never one") && r.err.contains("after 1 moves: go right"), "{}", r.err);
}

#[test]
fn bad_input_ends_in_a_clear_error() {
    let huge = "model='slide'\nsize=[10000, 10000]\n[[level]]\nvalues.target='1'\n";
    let dir = dir_with(&[
        ("empty.toml", ""),
        ("empty.fendle", ""),
        ("nomodel.toml", "title='x'\n[[level]]\n"),
        ("unknown.toml", "model='slied'\n[[level]]\n"),
        ("nolevel.toml", "model='slide'\n"),
        ("ragged.toml", "model='slide'\nvalues.target='''\n1 2\n3 . 4\n'''\n[[level]]\n"),
        ("nocells.toml", "model='slide'\nvalues.target='''\n'''\n[[level]]\n"),
        ("huge.toml", huge),
        ("domain.toml", "model='slide'\nvalues.target='1 256 .'\n[[level]]\n"),
        ("two.toml", "model='shove'\n[[level]]\nstart.yard='A.A'\n"),
        ("none.toml", "model='shove'\n[[level]]\nstart.yard='..o'\n"),
        ("glyph.toml", "model='shove'\n[[level]]\nstart.yard='''\nA..\n..?\n'''\n"),
        ("key.toml", "model='shove'\n[[level]]\nstart.yrad='A'\n"),
        (
            "size.toml",
            "model='slide'\nvalues.target='''\n1 2\n3 .\n'''\nvalues.bolted='''\n...\n...\n'''\n[[level]]\n",
        ),
        ("toml.toml", "model = slide\n"),
        ("expect.toml", "model='shove'\n[[level]]\nstart.yard='A'\nexpect = { solveable = true }\n"),
        (
            "twice.toml",
            "model='shove'\n[[level]]\nname='a'\nstart.yard='A'\n[[level]]\nname='a'\nstart.yard='A'\n",
        ),
        ("order.toml", "model='slide'\nvalues.target='1 2 .'\n[[level]]\nstart.tile='1 1 .'\n"),
    ]);
    fs::write(dir.path().join("binary.toml"), [0xff, 0xfe, 0, 1, 2]).expect("writable");
    fs::write(dir.path().join("binary.fendle"), [0xff, 0xfe, 0, 1, 2]).expect("writable");
    fs::write(dir.path().join("big.toml"), vec![b'#'; 60 << 20]).expect("writable");
    let mut shown = String::new();
    for (file, words) in [
        ("empty.toml", "names no model"),
        ("empty.fendle", "holds no model"),
        ("nomodel.toml", "names no model"),
        ("unknown.toml", "did you mean `slide`?"),
        ("nolevel.toml", "holds no level"),
        ("ragged.toml", "row 2 has 3 cells, row 1 has 2"),
        ("nocells.toml", "no cells"),
        ("huge.toml", "too many; 16384 are allowed"),
        ("domain.toml", "`target` holds 0 to 255, this is 256"),
        ("two.toml", "a second `tug`, and one is wanted"),
        ("none.toml", "holds no `tug`"),
        ("glyph.toml", "`?` is no glyph of `yard`"),
        ("key.toml", "did you mean `yard`?"),
        ("size.toml", "this board is 2 x 3, the level's is 2 x 2"),
        ("toml.toml", "no level file"),
        ("expect.toml", "did you mean `solvable`?"),
        ("twice.toml", "two levels are named `a`"),
        ("order.toml", "another order; 1 is there 2 times instead of 1"),
        ("binary.toml", "not UTF-8"),
        ("binary.fendle", "not UTF-8"),
        ("big.toml", "files of at most 8388608 bytes are read"),
        ("missing.toml", "cannot be read"),
    ] {
        let r = fendle(dir.path(), &["check", file, "--color", "never"]);
        assert_eq!(r.code, 2, "{file}: {}{}", r.out, r.err);
        assert!(r.err.contains(words), "{file}: {}", r.err);
        assert!(!r.err.contains("panicked"), "{file}: {}", r.err);
        if file.ends_with(".toml") {
            let r = fendle(dir.path(), &["solve", file, "--color", "never"]);
            assert_eq!(r.code, 2, "{file}");
        }
        shown.push_str(&format!("{file}\n{}\n", r.err.trim_end()));
    }
    insta::assert_snapshot!("bad_input", shown.replace("/", ""));
    let rich = fendle(dir.path(), &["check", "ragged.toml", "two.toml", "glyph.toml"]);
    insta::assert_snapshot!("bad_input_rich", rich.err);
}

#[test]
fn bad_usage_names_what_was_meant() {
    let dir = dir_with(&[("ferry.toml", FERRY)]);
    for (args, words) in [
        (vec!["slove", "ferry.toml"], "solve"),
        (vec!["solve", "ferry.toml", "--max-state", "5"], "--max-states"),
        (vec!["solve", "ferry.toml", "--max-states", "many"], "a count is wanted"),
        (vec!["solve", "ferry.toml", "--memory", "12"], "such as 500M"),
        (vec!["solve", "ferry.toml", "--time", "soon"], "such as 30s"),
        (vec!["solve", "ferry.toml", "--level", "lat"], "did you mean `late`?"),
        (vec!["solve", "ferry.toml", "--set", "bolted"], "NAME=VALUE"),
        (vec!["solve", "ferry.toml", "--set", "bolt=x"], "no level value named `bolt`"),
        (vec!["solve", "ferry.toml", "--after", "slide lefft"], "did you mean `slide left`?"),
        (vec!["solve", "model.fendle"], "is a model"),
        (vec!["explore"], "LEVEL"),
        (vec![], "Usage"),
    ] {
        let r = fendle(dir.path(), &args);
        assert_eq!(r.code, 2, "{args:?}: {}", r.err);
        assert!(r.err.contains(words), "{args:?}: {}", r.err);
    }
}

#[test]
fn level_values_can_be_set() {
    let dir = dir_with(&[("ferry.toml", FERRY)]);
    let bolted = ["explore", "ferry.toml", "--set", "bolted=.../.x./...", "--format", "json"];
    let v = fendle(dir.path(), &bolted).json();
    assert_eq!(v["states"], 56);
}

#[test]
fn a_level_loaded_twice_is_the_same() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let run = || fendle(dir.path(), &["moves", "yard.toml", "--after", "go left; go up"]).out;
    assert_eq!(run(), run());
}

#[test]
fn a_closed_pipe_is_no_error_and_an_unwritable_output_is() {
    let exe = assert_cmd::cargo::cargo_bin("fendle");
    let head = std::process::Command::new("sh")
        .arg("-c")
        .arg(format!("'{}' demo | head -n 1; echo \"${{PIPESTATUS:-0}}\"", exe.display()))
        .output()
        .expect("sh runs");
    assert!(!String::from_utf8_lossy(&head.stderr).contains("panicked"));
    if Path::new("/dev/full").exists() {
        let full = std::process::Command::new("sh")
            .arg("-c")
            .arg(format!("'{}' demo > /dev/full", exe.display()))
            .output()
            .expect("sh runs");
        assert_eq!(full.status.code(), Some(2));
        assert!(String::from_utf8_lossy(&full.stderr).contains("cannot be written"));
    }
    let dir = dir_with(&[("here", "a file")]);
    let r = fendle(dir.path(), &["new", "slide", "here"]);
    assert_eq!(r.code, 2);
    assert!(r.err.contains("cannot be written"), "{}", r.err);
}

#[cfg(unix)]
#[test]
fn an_interrupt_prints_what_is_known() {
    let level = "model='shove'\n[[level]]\nstart.yard='''\nA.......\n.o.o.o.o\n........\n.o_o_.o_\n........\n......ww\n'''\n";
    let dir = dir_with(&[("big.toml", level)]);
    // On a loaded machine it may take a while until much is known.
    for wait in [700, 3_000, 15_000] {
        let child = std::process::Command::new(assert_cmd::cargo::cargo_bin("fendle"))
            .current_dir(dir.path())
            .args(["explore", "big.toml", "--format", "json"])
            .stdout(std::process::Stdio::piped())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .expect("it starts");
        std::thread::sleep(std::time::Duration::from_millis(wait));
        let id = child.id().to_string();
        std::process::Command::new("sh").arg("-c").arg(format!("kill -INT {id}")).status().expect("sh runs");
        let out = child.wait_with_output().expect("it ends");
        assert_eq!(out.status.code(), Some(130), "{}", String::from_utf8_lossy(&out.stderr));
        let v: Value = serde_json::from_slice(&out.stdout).expect("the partial result");
        assert_eq!((v["complete"].as_bool(), v["limit"].as_str()), (Some(false), Some("interrupted")));
        if v["states"].as_u64() > Some(100) {
            assert!(v["open"].as_u64() > Some(0));
            return;
        }
    }
    panic!("nothing is known after 15 seconds");
}

#[test]
fn completions_and_the_manual_name_every_command() {
    let dir = dir_with(&[]);
    let manual = fendle(dir.path(), &["manual"]);
    assert_eq!(manual.code, 0);
    let bash = fendle(dir.path(), &["completions", "bash"]);
    for command in ["demo", "new", "check", "show", "moves", "trace", "solve", "explore", "audit"] {
        assert!(manual.out.contains(command), "{command}");
        assert!(bash.out.contains(command), "{command}");
    }
    assert!(manual.out.contains("max\\-states"));
}

#[test]
fn the_harbour_pack_is_as_it_expects() {
    let dir = dir_with(&[]);
    let r = fendle(dir.path(), &["audit", packs().to_str().expect("text"), "--format", "json"]);
    assert_eq!(r.code, 0, "{}", r.out);
    assert!(r.json()["levels"].as_array().expect("a list").len() >= 10);
}

#[test]
fn json_of_check_show_and_audit_has_its_fields() {
    let dir = dir_with(&[("ferry.toml", FERRY), ("yard.toml", YARD)]);
    let v = fendle(dir.path(), &["check", "ferry.toml", "yard.toml", "--format", "json"]).json();
    assert_eq!((v["ok"].as_bool(), v["failed_examples"].as_u64()), (Some(true), Some(0)));
    let levels = v["levels"].as_array().expect("a list");
    assert_eq!(levels.len(), 3);
    assert_eq!(
        (levels[0]["bits_per_state"].as_u64(), levels[2]["bits_per_state"].as_u64()),
        (Some(19), Some(41))
    );
    assert_eq!(levels[0]["kept_quantities"][0], "proved from the rules");
    assert_eq!(v["models"][0]["examples_passed"], 3);
    let bad = dir_with(&[("bad.toml", "model='shove'\n[[level]]\nstart.yard='A?'\n")]);
    let v = fendle(bad.path(), &["check", "bad.toml", "--format", "json"]).json();
    let d = &v["diagnostics"][0];
    assert_eq!((v["ok"].as_bool(), d["code"].as_str()), (Some(false), Some("L027")));
    assert_eq!((d["line"].as_u64(), d["column"].as_u64()), (Some(3), Some(14)));
    let v = fendle(dir.path(), &["show", "ferry.toml", "--format", "json", "--after", "left"]).json();
    assert_eq!(v["position"], "1 2 3/4 5 6/7 . 8");
    assert_eq!(v["boards"]["tile"][2][1], ".");
    assert_eq!((v["rows"].as_u64(), v["status"].as_str()), (Some(3), Some("running")));
    let v = fendle(dir.path(), &["audit", "ferry.toml", "--format", "json"]).json();
    assert_eq!(v["levels"][1]["verdict"], "unsolvable");
    assert_eq!(v["levels"][0]["differs"], serde_json::json!([]));
}

#[test]
fn diagnostics_are_plain_or_rich_and_coloured_when_asked() {
    let dir = dir_with(&[("bad.toml", "model='shove'\n[[level]]\nstart.yard='A?'\n")]);
    let plain = fendle(dir.path(), &["check", "bad.toml", "--color", "never"]).err;
    assert_eq!(plain.lines().count(), 1, "{plain}");
    assert!(plain.starts_with("bad.toml:3:14: error[L027]: "), "{plain}");
    let rich = fendle(dir.path(), &["check", "bad.toml"]).err;
    assert!(rich.contains("3 | start.yard='A?'") && !rich.contains('\u{1b}'), "{rich}");
    let coloured = fendle(dir.path(), &["check", "bad.toml", "--color", "always"]).err;
    assert!(coloured.contains('\u{1b}'), "{coloured}");
}

#[test]
fn the_code_of_a_level_can_be_printed() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let r = fendle(dir.path(), &["check", "yard.toml", "--code"]);
    assert_eq!(r.code, 0);
    for words in ["move go up:", "status:", "CellOr", "PutAt"] {
        assert!(r.out.contains(words), "{words}");
    }
}

#[test]
fn a_file_with_several_levels_says_which_is_used() {
    let dir = dir_with(&[("ferry.toml", FERRY)]);
    let r = fendle(dir.path(), &["show", "ferry.toml"]);
    assert!(r.err.contains("holds 2 levels; this is the first, `late`"), "{}", r.err);
    assert!(fendle(dir.path(), &["show", "ferry.toml", "-q"]).err.is_empty());
    assert!(fendle(dir.path(), &["show", "ferry.toml", "--level", "swapped"]).err.is_empty());
    // One file is named once, however often it is read.
    let r = fendle(dir.path(), &["compare", "ferry.toml", "ferry.toml", "--spaces"]);
    assert_eq!(r.err.matches("holds 2 levels").count(), 1, "{}", r.err);
}

#[test]
fn a_model_beside_the_level_wins_over_no_library_name() {
    let model = include_str!("../../../models/shove.fendle").replace("model shove", "model barges");
    let level = YARD.replace("'shove'", "'rules/barges.fendle'");
    let dir = dir_with(&[("rules/barges.fendle", &model), ("yard.toml", &level)]);
    let r = fendle(dir.path(), &["solve", "yard.toml", "--brief"]);
    assert_eq!(r.code, 0, "{}", r.err);
    assert!(r.out.contains("(barges, 5 x 7)"), "{}", r.out);
}

/// Every prefix of the printed solution is itself a shortest way: solving again from there takes
/// exactly as many moves fewer.
#[test]
fn the_rest_of_a_solution_is_a_shortest_one() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let v = fendle(dir.path(), &["solve", "yard.toml", "--format", "json"]).json();
    let moves: Vec<String> =
        v["solution"].as_array().expect("a list").iter().map(|m| m.as_str().expect("text").into()).collect();
    for i in 0..=moves.len() {
        let after = moves[..i].join("; ");
        let v = fendle(dir.path(), &["solve", "yard.toml", "--after", &after, "--format", "json"]).json();
        assert_eq!(v["moves"].as_u64(), Some((moves.len() - i) as u64), "after {after}");
    }
}

#[test]
fn verbose_tells_the_effort_and_quiet_tells_no_more_than_asked() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    for command in ["solve", "explore"] {
        assert!(fendle(dir.path(), &[command, "yard.toml", "-v"]).out.contains("peak memory"));
        let quiet = fendle(dir.path(), &[command, "yard.toml", "-q"]);
        assert!(!quiet.out.contains("peak memory") && quiet.err.is_empty());
    }
}

#[test]
fn what_the_pack_prints_is_as_it_was_read() {
    let dir = dir_with(&[]);
    for file in ["ferry.toml", "yard.toml"] {
        fs::copy(packs().join(file), dir.path().join(file)).expect("readable");
    }
    insta::assert_snapshot!("check", fendle(dir.path(), &["check", "."]).out);
    insta::assert_snapshot!("audit", fendle(dir.path(), &["audit", "."]).out);
    let show = fendle(dir.path(), &["show", "yard.toml", "--level", "two for three"]);
    insta::assert_snapshot!("show", show.out);
    let solve = fendle(dir.path(), &["solve", "yard.toml", "--level", "mind the corner"]);
    insta::assert_snapshot!("solve", solve.out);
    let proof = fendle(dir.path(), &["solve", "ferry.toml", "--level", "two plates swapped"]);
    insta::assert_snapshot!("proof", proof.out);
    let lost =
        fendle(dir.path(), &["trace", "yard.toml", "go right; go up", "--level", "the sluice", "--verdict"]);
    insta::assert_snapshot!("lost", lost.out);
    let moves =
        fendle(dir.path(), &["moves", "yard.toml", "--level", "two for three", "--after", "left; down"]);
    insta::assert_snapshot!("moves_yard", moves.out);
}

// ---- chance ----

const ROPE: &str = "model = 'merge'\n[[level]]\nname = 'rope'\nvalues = { high = 2, wide = 2, top = 4 }\n[[level]]\nname = 'one move'\nvalues = { high = 1, wide = 3, top = 3 }\nstart.tile = '2 4 .'\n";

fn json_of(args: &[&str], file: &str, text: &str) -> serde_json::Value {
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join(file);
    std::fs::write(&path, text).expect("written");
    let mut all: Vec<String> =
        args.iter().map(|a| a.replace("FILE", path.to_str().expect("a path"))).collect();
    all.extend(["--format".into(), "json".into()]);
    let out = assert_cmd::Command::cargo_bin("fendle").expect("built").args(&all).output().expect("runs");
    serde_json::from_slice(&out.stdout).unwrap_or_else(|e| {
        panic!("{e}: {} {}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr))
    })
}

fn run_on(args: &[&str], file: &str, text: &str) -> (i32, String, String) {
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join(file);
    std::fs::write(&path, text).expect("written");
    let all: Vec<String> = args.iter().map(|a| a.replace("FILE", path.to_str().expect("a path"))).collect();
    let out = assert_cmd::Command::cargo_bin("fendle").expect("built").args(&all).output().expect("runs");
    let text = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
    (out.status.code().unwrap_or(-1), text(&out.stdout), text(&out.stderr))
}

#[test]
fn odds_are_exact_fractions_and_keep_the_five_answers_apart() {
    let v = json_of(&["odds", "FILE"], "rope.toml", ROPE);
    assert_eq!(v["best_probability"]["exact"], "770009003/800000000");
    assert_eq!(v["possible"], true);
    assert_eq!(v["certain"], false);
    assert_eq!(v["almost_certain"], false);
    assert_eq!(v["shortest_if_lucky"], 4);
    assert_eq!(v["least_expected_moves"], serde_json::Value::Null);
    assert_eq!(v["begin"]["starts"], 24);
    let (code, text, _) = run_on(&["odds", "FILE", "--at", "2 2/. 4"], "rope.toml", ROPE);
    assert_eq!(code, 0);
    assert!(text.contains("shift down") && text.contains("a blunder") && text.contains("best"), "{text}");
    // A limit leaves bounds; with an estimate, said to be one, and exit code 3.
    let (code, text, _) =
        run_on(&["odds", "FILE", "--max-states", "50", "--plays", "300"], "rope.toml", ROPE);
    assert_eq!(code, 3);
    assert!(text.contains("the bounds hold whatever was not seen"), "{text}");
    assert!(text.contains("between") && text.contains("an estimate, no proof"), "{text}");
    let again = run_on(&["odds", "FILE", "--max-states", "50", "--plays", "300"], "rope.toml", ROPE).1;
    assert_eq!(text, again, "the same seed plays the same games");
}

#[test]
fn a_draw_is_named_in_a_trace_and_shown_when_asked() {
    let rope = ROPE.replace("name = 'rope'", "name = 'rope'\nstart.tile = '''\n2 2\n. .\n'''");
    let (code, text, err) =
        run_on(&["trace", "FILE", "shift left / 4 at r2c2", "--draws"], "rope.toml", &rope);
    assert_eq!(code, 0, "{err}");
    for want in [
        "merged at r1c2",
        "phase spawn",
        "draw r2c2: chance 1/3, one of 3",
        "draw 4: chance 1/10",
        "chance 1/30",
    ] {
        assert!(text.contains(want), "{want} is missing: {text}");
    }
    let (code, _, err) = run_on(&["trace", "FILE", "shift left / 8"], "rope.toml", &rope);
    assert_eq!(code, 2);
    assert!(err.contains("has no outcome `/ 8`") && err.contains("/ 2 at r1c2"), "{err}");
    let (code, _, err) = run_on(&["trace", "FILE", "shift left / 2"], "rope.toml", &rope);
    assert_eq!(code, 2);
    assert!(err.contains("3 outcomes of 6"), "{err}");
    // Without a name the seed decides, and says so.
    let a = run_on(&["trace", "FILE", "left; up", "--seed", "5"], "rope.toml", &rope);
    assert_eq!(a.1, run_on(&["trace", "FILE", "left; up", "--seed", "5"], "rope.toml", &rope).1);
    assert!(a.1.contains("drawn by seed 5"), "{}", a.1);
    // What was stopped, and by what.
    let (_, text, _) = run_on(
        &["trace", "FILE", "left / 2 at r1c3", "--at", "2 4 4", "--level", "one move"],
        "rope.toml",
        &ROPE.replace("'2 4 .'", "'2 4 4'"),
    );
    assert!(text.contains("another value at r1c2"), "{text}");
}

#[test]
fn positions_are_found_counted_or_proved_absent() {
    let v = json_of(&["find", "FILE", "stuck"], "rope.toml", ROPE);
    assert_eq!((v["count"].as_u64(), v["depth"].as_u64()), (Some(18), Some(2)));
    let v = json_of(&["find", "FILE", "all(c on tile: tile[c] > 0) and can any"], "rope.toml", ROPE);
    assert_eq!(v["depth"], 2);
    let every =
        json_of(&["find", "FILE", "stuck", "--moves-before", "1", "--for", "every-draw"], "rope.toml", ROPE);
    let some = json_of(&["find", "FILE", "stuck", "--moves-before", "1"], "rope.toml", ROPE);
    assert!(every["count"].as_u64() < some["count"].as_u64(), "{every} {some}");
    let worded =
        json_of(&["find", "FILE", "any(d in dir4: every outcome of shift(d): stuck)"], "rope.toml", ROPE);
    assert_eq!(worded["count"], every["count"], "the same question in words");
    assert_eq!(worded["depth"], every["depth"]);
    let (code, text, _) = run_on(&["find", "FILE", "tile[r1c1] > 4"], "rope.toml", ROPE);
    assert_eq!(code, 1);
    assert!(text.contains("proved by looking at all 318"), "{text}");
    let (code, text, _) =
        run_on(&["find", "FILE", "tile[r1c1] > 4", "--max-states", "40"], "rope.toml", ROPE);
    assert_eq!(code, 3);
    assert!(text.contains("undecided"), "{text}");
    let (code, _, err) = run_on(&["find", "FILE", "stukc"], "rope.toml", ROPE);
    assert_eq!(code, 2);
    assert!(err.contains("did you mean `stuck`"), "{err}");
    let (code, _, err) = run_on(&["find", "FILE", "tile[r3c1] > 4"], "rope.toml", ROPE);
    assert_eq!(code, 2);
    assert!(err.contains("off the board"), "{err}");
}

#[test]
fn least_left_comes_with_the_play_that_reaches_it() {
    let nets = "model = 'clump'\n[[level]]\nstart.tile = '''\n1121\n2212\n'''\n";
    let v = json_of(&["odds", "FILE"], "nets.toml", nets);
    let least: u64 = v["aim"]["exact"].as_str().expect("exact").parse().expect("a number");
    let play: Vec<&str> =
        v["aim_play"].as_array().expect("a play").iter().map(|m| m.as_str().expect("text")).collect();
    let t = json_of(&["trace", "FILE", &play.join("; ")], "nets.toml", nets);
    let last = t["steps"].as_array().expect("steps").last().expect("a step")["position"]
        .as_str()
        .expect("text")
        .to_string();
    let left = last.chars().filter(|c| c.is_ascii_digit()).count() as u64;
    assert_eq!(left, least, "{last}");
    let (code, text, _) = run_on(&["solve", "FILE"], "nets.toml", nets);
    assert_eq!(code, 1);
    assert!(text.contains("no goal"), "{text}");
    let (_, text, _) = run_on(&["explore", "FILE"], "nets.toml", nets);
    assert!(text.contains("no goal: no state is dead") && text.contains("free"), "{text}");
}

#[test]
fn a_cascade_past_its_bound_is_set_aside_and_answers_become_intervals() {
    let market = "model = 'match'\n[[level]]\nvalues.kinds = 2\nvalues.refill = 'chance'\nvalues.cascades = 1\nvalues.gathering = true\nvalues.limit = 1\nvalues.wanted = [4, 0]\nstart.tile = '''\n12\n21\n12\n21\n'''\n";
    let v = json_of(&["odds", "FILE"], "market.toml", market);
    let (lo, hi) = (v["best_probability"]["at_least"].as_f64(), v["best_probability"]["at_most"].as_f64());
    assert!(lo < hi && lo >= Some(0.0) && hi <= Some(1.0), "{v}");
    assert_eq!(v["complete"], false);
    let aside = v["set_aside_most"].as_str().expect("a share of a move").to_string();
    assert!(aside.contains('/') && aside != "0", "{aside}");
    let e = json_of(&["explore", "FILE"], "market.toml", market);
    // One open state stands for what was set aside; the start is open as well, since its hope lies there.
    assert_eq!((e["cut"].as_bool(), e["open"].as_u64(), e["dead"].as_u64()), (Some(true), Some(2), Some(0)));
    let sum: u64 = ["goal", "lost", "over", "stuck", "dead", "winnable", "free", "open"]
        .iter()
        .map(|k| e[*k].as_u64().expect("a count"))
        .sum();
    assert_eq!(Some(sum), e["states"].as_u64());
    // A wider bound narrows the interval, and both hold the truth.
    let v2 = json_of(&["odds", "FILE", "--set", "cascades=3"], "market.toml", market);
    assert!(
        v2["best_probability"]["at_least"].as_f64() >= lo && v2["best_probability"]["at_most"].as_f64() <= hi,
        "{v} {v2}"
    );
}

#[test]
fn what_was_set_aside_is_never_a_no() {
    // Six herrings cannot be had without a second round, and no second round is looked into.
    let market = "model = 'match'\n[[level]]\nvalues.kinds = 2\nvalues.refill = 'chance'\nvalues.cascades = 1\nvalues.gathering = true\nvalues.limit = 1\nvalues.wanted = [8, 8]\nstart.tile = \"12\\n21\\n12\\n21\"\n";
    let (code, text, _) = run_on(&["solve", "FILE"], "m.toml", market);
    assert_eq!(code, 3, "{text}");
    assert!(text.contains("undecided") && text.contains("set aside"), "{text}");
    let (_, text, _) = run_on(&["explore", "FILE"], "m.toml", market);
    assert!(text.contains("undecided: no goal was seen") && !text.contains("unsolvable"), "{text}");
    let (code, text, _) = run_on(&["find", "FILE", "won"], "m.toml", market);
    assert_eq!(code, 3, "{text}");
    assert!(text.contains("undecided") && !text.contains("proved"), "{text}");
    let v = json_of(&["odds", "FILE"], "m.toml", market);
    assert_eq!(v["possible"], serde_json::Value::Null, "{v}");
}

#[test]
fn words_of_the_analyses_hold_inside_any_expression() {
    let count =
        |c: &str| json_of(&["find", "FILE", c], "rope.toml", ROPE)["count"].as_u64().expect("a count");
    assert_eq!(count("abs(depth - 2) == 0"), count("depth == 2"));
    assert_eq!(count("depth == 2"), 62);
    assert_eq!(count("min(depth, 1) == 1 and (if stuck then 1 else 0) == 1"), count("stuck and depth > 0"));
    assert_eq!(count("any(d in dir4: can shift(d)) or won or stuck"), 318);
    assert_eq!(count("any(d in dir4: can shift(d))"), 196);
}

#[test]
fn a_setup_that_accepts_nothing_says_what_dropped_its_starts() {
    let (code, _, err) = run_on(
        &["show", "FILE"],
        "m.toml",
        "model = 'match'\n[[level]]\nname = 'narrow'\nsize = [1, 2]\nvalues.kinds = 2\n",
    );
    assert_eq!(code, 2);
    assert!(
        err.contains("draws no start that it accepts") && err.contains("this dropped most of them"),
        "{err}"
    );
    let wide = "model = 'match'\n[[level]]\nname = 'wide'\nsize = [4, 5]\nvalues.kinds = 3\n";
    let a = run_on(&["show", "FILE", "--seed", "7"], "m.toml", wide);
    assert_eq!(a.0, 0, "{}", a.2);
    assert!(a.1.contains("start drawn with seed 7"), "{}", a.1);
    assert_eq!(a.1, run_on(&["show", "FILE", "--seed", "7"], "m.toml", wide).1);
    assert_ne!(a.1, run_on(&["show", "FILE", "--seed", "8"], "m.toml", wide).1);
    // A position in one line is read back, lists, placed shapes and all.
    let hold = "model = 'fall'\n[[level]]\nsize = [5, 3]\nvalues.queue = 'knee keg'\n";
    let (_, line, _) = run_on(&["show", "FILE", "--line", "--after", "spin; steer down"], "hold.toml", hold);
    let back = run_on(&["show", "FILE", "--line", "--at", line.trim()], "hold.toml", hold);
    assert_eq!((back.0, &back.1), (0, &line), "{}", back.2);
    let coils = "model = 'coil'\n[[level]]\nvalues.rings = 3\n";
    let (_, line, _) = run_on(&["show", "FILE", "--line", "--after", "1 2; 1 3"], "coil.toml", coils);
    assert_eq!(line.trim(), "1: 3, 2: 1, 3: 2");
    let back = run_on(&["show", "FILE", "--line", "--at", line.trim()], "coil.toml", coils);
    assert_eq!((back.0, &back.1), (0, &line), "{}", back.2);
}

#[test]
fn a_broken_law_names_the_nearest_board_and_shapes_are_drawn_in_all_turns() {
    let dir = tempfile::tempdir().expect("a folder");
    let merge = include_str!("../../../models/merge.fendle");
    // Up shifts as it should; left lets a tile merge twice.
    let wrong = merge.replace("                open = false\n", "                open = d == left\n");
    assert_ne!(wrong, merge);
    std::fs::write(dir.path().join("merge.fendle"), wrong).expect("written");
    let level = ROPE.replace("'merge'", "'merge.fendle'");
    std::fs::write(dir.path().join("rope.toml"), level).expect("written");
    let out = assert_cmd::Command::cargo_bin("fendle")
        .expect("built")
        .args(["check", "rope.toml", "--color", "never"])
        .current_dir(dir.path())
        .output()
        .expect("runs");
    let err = String::from_utf8_lossy(&out.stderr).into_owned();
    // On two by two nothing can merge twice: the law holds there, and only an example notices.
    assert_eq!(out.status.code(), Some(1), "{err}");
    assert!(err.contains("merges once"), "{err}");
    let spawn = merge.replace(
        "draw on tile where tile[c] == 0",
        "draw on tile where tile[c] == 0 and row(c) == 1 else { stop }",
    );
    std::fs::write(dir.path().join("merge.fendle"), spawn).expect("written");
    let out = assert_cmd::Command::cargo_bin("fendle")
        .expect("built")
        .args(["check", "rope.toml", "--color", "never"])
        .current_dir(dir.path())
        .output()
        .expect("runs");
    let err = String::from_utf8_lossy(&out.stderr).into_owned();
    assert!(err.contains("the law `turned` is broken after") && err.contains("on the turned board"), "{err}");
    let (code, text, _) =
        run_on(&["check", "FILE", "--shapes"], "fall.fendle", include_str!("../../../models/fall.fendle"));
    assert_eq!(code, 0);
    for want in [
        "pole: 2 of 4 drawn turns differ",
        "knee: 4 of 4",
        "bale: 1 of 4 drawn turns differ, about a corner",
        "x @ x",
    ] {
        assert!(text.contains(want), "{want} is missing: {text}");
    }
    let (code, text, _) = run_on(&["check", "FILE"], "rope.toml", ROPE);
    assert_eq!(code, 0);
    assert!(text.contains("turned: holds in all 318 states; mirrored: holds in all 318 states"), "{text}");
}

#[test]
fn solutions_found_among_like_things_are_mapped_back() {
    let text = "model = 'coil'\n[[level]]\nname = 'a'\nvalues = { rings = 4, posts = 5, alike_posts = true }\n\
                start.post = '1: 2, 2: 4, 3: empty, 4: 3, 5: 1'\n";
    let dir = dir_with(&[("coils.toml", text)]);
    let solved = fendle(dir.path(), &["solve", "coils.toml", "--format", "json"]).json();
    let apart =
        fendle(dir.path(), &["solve", "coils.toml", "--format", "json", "--set", "alike_posts=false"]);
    assert_eq!(solved["moves"], apart.json()["moves"]);
    assert!(solved["states"].as_u64() < apart.json()["states"].as_u64());
    let moves: Vec<&str> =
        solved["solution"].as_array().expect("moves").iter().map(|m| m.as_str().expect("a move")).collect();
    // Played without any likeness they lead from the real start to the goal.
    let played = fendle(
        dir.path(),
        &["trace", "coils.toml", &moves.join("; "), "--set", "alike_posts=false", "--format", "json"],
    );
    assert_eq!(played.code, 0, "{}{}", played.out, played.err);
    assert_eq!(
        played.json()["steps"].as_array().and_then(|s| s.last()).map(|s| s["status"].clone()),
        Some("won".into())
    );
    let states = |condition: &str| {
        let found = fendle(dir.path(), &["find", "coils.toml", condition, "--format", "json"]);
        found.json()["states"].as_u64()
    };
    // A question that picks one post by its number is asked of every state by itself.
    assert_eq!(states("len(post[1]) == 4"), Some(625));
    assert!(states("any(p in 1..posts: len(post[p]) == 4)") < Some(625));
    let nearest = fendle(
        dir.path(),
        &["find", "coils.toml", "any(p in 1..posts: len(post[p]) == 4)", "--format", "json"],
    );
    let line = nearest.json()["position"].as_str().expect("a position").to_string();
    let way: Vec<String> = nearest.json()["moves"]
        .as_array()
        .expect("moves")
        .iter()
        .map(|m| m.as_str().unwrap_or("").into())
        .collect();
    let shown = fendle(dir.path(), &["show", "coils.toml", "--after", &way.join("; "), "--line"]);
    assert_eq!(shown.out.trim(), line);
}

#[test]
fn find_is_undecided_past_a_limit_and_never_says_no() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let r = fendle(dir.path(), &["find", "yard.toml", "won", "--max-states", "3"]);
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
    assert!(r.out.contains("undecided") && !r.out.contains("proved"), "{}", r.out);
    let whole = fendle(dir.path(), &["find", "yard.toml", "won and depth > 1000"]);
    assert_eq!(whole.code, 1, "{}{}", whole.out, whole.err);
}

/// A start drawn among several has no single kept value: nothing is concluded from the first of them.
#[test]
fn a_kept_quantity_of_one_start_says_nothing_of_the_others() {
    let model = "model odd\nlevel wants: 0..1\nstate n: 0..9\nsetup { n = draw from (3, 4) }\n\
                 move climb { refuse \"at the top\" unless n <= 7; n += 2 }\n\
                 goal n >= 8 and n mod 2 == wants\nkeeps (n mod 2) goal (wants) because \"each step is two\"\n";
    let level = "model = 'odd.fendle'\nvalues.wants = 0\n[[level]]\nname = 'a'\n";
    let dir = dir_with(&[("odd.fendle", model), ("l.toml", level)]);
    let r = fendle(dir.path(), &["solve", "l.toml", "--format", "json"]);
    assert_eq!((r.code, &r.json()["verdict"]), (0, &Value::from("solvable")), "{}{}", r.out, r.err);
}

const CHART: &str = "model = 'sweep'\n[[level]]\nname = 'strip'\nvalues.rocks = 1\ntold.near = '01~~'\n\
[[level]]\nname = 'eight'\nvalues.rocks = 3\ntold.near = '''\n~2~~\n~~~~\n'''\n\
[[level]]\nname = 'laid'\nvalues = { rocks = 2, shown = 'r1c1' }\nstart.reef = '''\n...\n..x\nx..\n'''\n\
[[level]]\nname = 'wide'\nsize = [16, 30]\nvalues = { rocks = 99, shown = 'r1c1' }\n";

#[test]
fn infer_says_what_is_certain_how_likely_the_rest_is_and_what_it_is_worth() {
    let dir = dir_with(&[("chart.toml", CHART)]);
    let r = fendle(dir.path(), &["infer", "chart.toml", "--level", "strip", "--format", "json"]);
    let j = r.json();
    assert_eq!((r.code, &j["layouts"]), (0, &Value::from("1")), "{}", r.err);
    assert_eq!(
        (&j["cells"][2]["certain"], &j["cells"][3]["certain"]),
        (&Value::from(true), &Value::from(false))
    );
    assert_eq!(j["cells"][2]["proof"]["clues"][0]["at"], "r1c2");
    assert_eq!(j["cells"][2]["proof"]["smallest"], true);
    assert_eq!(j["steps"][1]["seen_by"], "with the number of all");
    let j = fendle(dir.path(), &["infer", "chart.toml", "--level", "eight", "--format", "json"]).json();
    assert_eq!(j["layouts"], "20");
    let of = |name: &str| {
        j["moves"].as_array().expect("moves").iter().find(|m| m["move"] == name).expect("it").clone()
    };
    assert_eq!(
        (&of("sound r1c1")["risk"]["exact"], &of("sound r1c4")["risk"]["exact"]),
        (&"2/5".into(), &"1/2".into())
    );
    assert_eq!(of("sound r1c1")["best_chance_to_win"]["exact"], "1/5");
    assert_eq!(of("sound r1c4")["best_chance_to_win"]["exact"], "1/4");
}

#[test]
fn a_board_that_needs_a_guess_says_where_and_between_what() {
    let dir = dir_with(&[("chart.toml", CHART)]);
    let r = fendle(dir.path(), &["infer", "chart.toml", "--level", "laid", "--no-guess"]);
    assert_eq!(r.code, 1, "{}", r.out);
    for words in
        ["1 guess is forced", "1/2 = 50.00 %", "cannot be told apart: r1c3 r2c3 r3c1 r3c2", "agrees as well"]
    {
        assert!(r.out.contains(words), "{words}\n{}", r.out);
    }
    let j = fendle(dir.path(), &["infer", "chart.toml", "--level", "laid", "--no-guess", "--format", "json"])
        .json();
    assert_eq!((&j["no_guess"], &j["chance_to_survive_all"]["exact"]), (&Value::from(false), &"1/2".into()));
    // Nothing printed as a solution uses what cannot be known: the guess is called one.
    let solved = fendle(dir.path(), &["solve", "chart.toml", "--level", "laid"]);
    assert!(solved.out.contains("(a guess)"), "{}", solved.out);
    let known = fendle(dir.path(), &["solve", "chart.toml", "--level", "laid", "--known"]);
    assert!(known.out.contains("solvable in 3 moves") && !known.out.contains("guess"), "{}", known.out);
    // A level that gives only what is seen has no layout to play.
    assert_eq!(fendle(dir.path(), &["infer", "chart.toml", "--no-guess"]).code, 2);
}

#[test]
fn the_player_is_never_shown_what_is_hidden() {
    let dir = dir_with(&[("chart.toml", CHART)]);
    let run = |args: &[&str]| {
        let mut all = vec![args[0], "chart.toml", "--level", "laid", "--view", "player"];
        all.extend(&args[1..]);
        fendle(dir.path(), &all)
    };
    for args in [&["show"][..], &["show", "--line"], &["moves"], &["trace", "sound r3c3"]] {
        let r = run(args);
        assert!(r.code == 0 && !r.out.contains('^') && !r.out.contains("2 reef"), "{args:?}\n{}", r.out);
    }
    // What the player sees is a position: the same is inferred from it as from the level.
    let line = run(&["show", "--line"]).out.trim().to_string();
    let from_line =
        fendle(dir.path(), &["infer", "chart.toml", "--level", "laid", "--at", &line, "--format", "json"]);
    let from_level = fendle(dir.path(), &["infer", "chart.toml", "--level", "laid", "--format", "json"]);
    assert_eq!(from_line.json()["cells"], from_level.json()["cells"], "{}", from_line.err);
    assert_eq!(from_level.json()["layouts"], "4");
    // The author sees it.
    assert!(fendle(dir.path(), &["show", "chart.toml", "--level", "laid"]).out.contains('^'));
}

#[test]
fn a_wide_board_is_counted_and_not_enumerated() {
    let dir = dir_with(&[("chart.toml", CHART)]);
    let j =
        fendle(dir.path(), &["infer", "chart.toml", "--level", "wide", "--seed", "9", "--format", "json"])
            .json();
    assert!(j["layouts"].as_str().expect("a count").len() > 80);
    assert!(
        j["cells"].as_array().expect("cells").iter().any(|c| c["certain"] == true && c["given"] == false)
    );
    let r = fendle(dir.path(), &["explore", "chart.toml", "--level", "wide"]);
    assert_eq!(r.code, 3, "{}", r.out);
    assert!(r.out.contains("undecided"), "{}", r.out);
    // Layouts by seed are the same every time, and hold what the level says.
    let lines: Vec<String> = (0..2)
        .map(|_| fendle(dir.path(), &["show", "chart.toml", "--level", "wide", "--seed", "5", "--line"]).out)
        .collect();
    assert_eq!(lines[0], lines[1]);
    assert_eq!(lines[0].matches('^').count(), 99);
}

#[test]
fn levels_with_hidden_things_are_checked_where_they_are_wrong() {
    let bad = |level: &str| {
        let dir = dir_with(&[("l.toml", &format!("model = 'sweep'\n[[level]]\nname = 'a'\n{level}\n"))]);
        let r = fendle(dir.path(), &["show", "l.toml"]);
        assert_eq!(r.code, 2, "{level}\n{}", r.out);
        r.err
    };
    assert!(
        bad("values.rocks = 2\nstart.reef = '''\n..x\n...\n'''")
            .contains("`reef` holds 1 here, and 2 are wanted")
    );
    assert!(bad("values.rocks = 1\ntold.nears = '''\n~1\n'''").contains("did you mean `near`?"));
    assert!(bad("values.rocks = 1\ntold.near = '''\n~q\n'''").contains("is no value that `near` tells"));
    let both = "values.rocks = 1\nstart.reef = '''\n.x\n'''\ntold.near = '''\n1~\n'''";
    assert!(bad(both).contains("the level gives the layout"));
    assert!(bad("values = { rocks = 1, shown = 'r9c9' }\nsize = [2, 2]").contains("not on the board"));
    // What is seen contradicts itself: an answer, and not an error.
    let dir = dir_with(&[("l.toml", "model = 'sweep'\n[[level]]\nvalues.rocks = 1\ntold.near = '0~0~'\n")]);
    let r = fendle(dir.path(), &["infer", "l.toml"]);
    assert!(r.code == 1 && r.out.contains("no layout agrees"), "{}{}", r.out, r.err);
}

#[test]
fn an_estimate_is_called_one_and_repeats_for_a_seed() {
    let level =
        "model = 'sweep'\n[[level]]\nname = 'a'\nsize = [5, 6]\nvalues = { rocks = 8, shown = 'r1c1' }\n";
    let dir = dir_with(&[("l.toml", level)]);
    let run = || fendle(dir.path(), &["infer", "l.toml", "--seed", "2", "--plays", "20"]).out;
    let out = run();
    assert!(out.contains("an estimate, no proof") && out.contains("of 20 won"), "{out}");
    assert_eq!(out, run());
}

#[test]
fn every_family_of_the_library_starts_ready_to_be_asked() {
    let dir = dir_with(&[]);
    let list = fendle(dir.path(), &["new", "--list"]).out;
    let families: Vec<&str> = list.lines().filter_map(|l| l.split_whitespace().next()).collect();
    assert_eq!(families.len(), 26, "{list}");
    for family in families {
        assert_eq!(fendle(dir.path(), &["new", family]).code, 0, "{family}");
        let checked = fendle(dir.path(), &["check", family]);
        assert_eq!(checked.code, 0, "{family}\n{}{}", checked.out, checked.err);
        let level = format!("{family}/first.toml");
        let solved = fendle(dir.path(), &["solve", &level, "--max-states", "20000"]);
        assert!([0, 1, 3].contains(&solved.code), "{family}\n{}{}", solved.out, solved.err);
    }
    // The walker's fewest moves that never need a guess are more than those of one who knows the layout.
    let moves = |args: &[&str]| fendle(dir.path(), args).json()["moves"].as_u64().expect("a number");
    let fair = moves(&["solve", "wade/first.toml", "--format", "json"]);
    let known = moves(&["solve", "wade/first.toml", "--known", "--format", "json"]);
    assert_eq!((fair, known), (11, 7));
}

#[test]
fn a_layout_given_by_a_position_is_kept() {
    let dir = dir_with(&[("chart.toml", CHART)]);
    let show = |args: &[&str]| {
        let mut all = vec!["show", "chart.toml", "--level", "wide", "--line"];
        all.extend(args);
        fendle(dir.path(), &all).out.trim().to_string()
    };
    let line = show(&["--seed", "3"]);
    // Another seed draws another layout, but not over one that is given.
    assert_ne!(line, show(&["--seed", "4"]));
    assert_eq!(line, show(&["--seed", "4", "--at", &line]));
    // Programs get JSON also where there is no answer.
    let r = fendle(dir.path(), &["odds", "chart.toml", "--level", "wide", "--format", "json"]);
    assert_eq!((r.code, &r.json()["verdict"]), (3, &Value::from("undecided")));
}
