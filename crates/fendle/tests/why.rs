//! `why`, `explore --structure`, `review`, `compare --spaces` and proof files: the built program on real files.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use crate::common::{dir_with, fendle};
use serde_json::Value;

/// Sliding tiles without a declared quantity.
const PLAIN: &str = "model plain\nlevel target: grid of 0..99\nstate tile: rearranged target\nshow tile { 0 \".\" }\n\
fn gap() = the(c on tile where tile[c] == 0)\n\
move slide(d: dir4) {\n    let car = gap() - d\n    refuse \"the edge\" unless car on tile\n    swap tile[gap()], tile[car]\n}\n\
goal tile == target\n";

const SWAPPED: &str = "model = 'plain.fendle'\n[[level]]\nname = 'swapped'\n\
values.target = '''\n1 2 3 4\n5 6 7 8\n9 10 11 .\n'''\nstart.tile = '''\n1 2 3 4\n5 6 7 8\n9 11 10 .\n'''\n";

const YARD: &str = "model = 'shove'\n\
[[level]]\nname = 'corner'\nstart.yard = '''\nHHHHHHH\nHo...AH\nH.....H\nH.._..H\nHHHHHHH\n'''\n\
[[level]]\nname = 'open'\nstart.yard = '''\nHHHHHHH\nH.....H\nH.o.A.H\nH.._..H\nHHHHHHH\n'''\n\
[[level]]\nname = 'gate'\nstart.yard = '''\nHHHHHHHHH\nHA.o..._H\nHHHHHHHHH\n'''\n\
[[level]]\nname = 'turned'\nstart.yard = '''\nHHHHHHH\nH.._..H\nH.o.A.H\nH.....H\nHHHHHHH\n'''\n";

#[test]
fn a_sliding_board_is_refuted_without_a_search_and_without_a_hint() {
    let dir = dir_with(&[("plain.fendle", PLAIN), ("swapped.toml", SWAPPED)]);
    for command in ["solve", "why"] {
        let r = fendle(dir.path(), &[command, "swapped.toml", "--format", "json"]);
        let v = r.json();
        let reason = if command == "solve" { &v["proof"] } else { &v["reasons"][0] };
        assert_eq!(reason["kind"], "kept quantity");
        assert_eq!(reason["how"], "proved from the rules");
        assert_eq!(reason["found"], true);
        assert_eq!(v["states"].as_u64().unwrap_or(0), 0);
    }
    let r = fendle(dir.path(), &["why", "swapped.toml"]);
    assert_eq!(r.code, 0);
    // The line that is offered can be pasted, and proves the same.
    let mut lines = r.out.lines().skip_while(|l| !l.trim_start().starts_with("keeps ("));
    let (keeps, because) = (lines.next().expect("a line for the model"), lines.next().expect("a reason"));
    let pasted = format!("{PLAIN}{}\n  {}\n", keeps.trim(), because.trim());
    fs::write(dir.path().join("plain.fendle"), pasted).expect("writable");
    let v = fendle(dir.path(), &["solve", "swapped.toml", "--format", "json"]).json();
    assert_eq!((v["verdict"].as_str(), v["proof"]["found"].as_bool()), (Some("unsolvable"), Some(false)));
    // The enumeration agrees, on a board that it can hold.
    let small = SWAPPED
        .replace("1 2 3 4\n5 6 7 8\n9 10 11 .", "1 2 3\n4 5 6\n7 8 .")
        .replace("1 2 3 4\n5 6 7 8\n9 11 10 .", "1 2 3\n4 5 6\n8 7 .");
    fs::write(dir.path().join("small.toml"), small).expect("writable");
    let v = fendle(dir.path(), &["explore", "small.toml", "--format", "json"]).json();
    assert_eq!((v["goal"].as_u64(), v["states"].as_u64()), (Some(0), Some(181_440)));
}

/// A list cannot be followed by the rules, but every transition was seen: what is kept on all of them is said to be so.
#[test]
fn what_the_rules_do_not_show_is_checked_on_what_was_seen() {
    let model = "model steps\nstate n: 0..12\nstate log: list of 0..1 max 8\n\
        move up_two { refuse \"full\" unless n <= 10 and len(log) < 8\n    n += 2\n    log.push(1) }\n\
        move back { refuse \"none\" unless n >= 2 and len(log) > 0\n    n -= 2\n    log.pop() }\ngoal n == 7\n";
    let level = "model = 'steps.fendle'\n[[level]]\nstart = { n = 2, log = [] }\n";
    let dir = dir_with(&[("steps.fendle", model), ("steps.toml", level)]);
    let r = fendle(dir.path(), &["why", "steps.toml", "--format", "json"]);
    let v = r.json();
    let kept = &v["reasons"][0];
    assert_eq!(kept["how"], "checked on every transition of this space", "{v}");
    assert_eq!(kept["quantities"][0]["quantity"], "n mod 2");
    assert_eq!(
        (kept["quantities"][0]["here"].as_i64(), kept["quantities"][0]["wanted"].as_i64()),
        (Some(0), Some(1))
    );
    let text = fendle(dir.path(), &["why", "steps.toml"]).out;
    assert!(text.contains("found, and checked on all"), "{text}");
    assert!(text.contains("the space from here is exhausted"), "{text}");
}

/// A level that can be won shows what is kept in it, and nothing trivial.
#[test]
fn what_is_kept_is_listed_and_counts_of_pieces_are_not() {
    let dir = dir_with(&[("plain.fendle", PLAIN), ("yard.toml", YARD)]);
    let level = SWAPPED.replace("9 11 10 .", "9 10 . 11");
    fs::write(dir.path().join("fine.toml"), level).expect("writable");
    let v = fendle(dir.path(), &["why", "fine.toml", "--format", "json", "--max-states", "1000"]).json();
    assert_eq!(v["status"], "winnable", "one move away, and found before the limit");
    let small = "model = 'plain.fendle'\n[[level]]\nvalues.target = '''\n1 2\n3 .\n'''\nstart.tile = '''\n1 .\n3 2\n'''\n";
    fs::write(dir.path().join("small.toml"), small).expect("writable");
    let v = fendle(dir.path(), &["why", "small.toml", "--format", "json"]).json();
    let kept = v["kept"].as_array().expect("a list");
    assert_eq!(kept.len(), 1);
    assert!(kept[0]["quantity"].as_str().is_some_and(|q| q.starts_with("(parity(tile) + ")));
    let v = fendle(dir.path(), &["why", "yard.toml", "--level", "open", "--format", "json"]).json();
    assert_eq!(v["kept"].as_array().map(Vec::len), Some(0), "the number of barges is trivial");
}

#[test]
fn look_alike_tiles_are_no_reason() {
    let dir = dir_with(&[("plain.fendle", PLAIN)]);
    let level = "model = 'plain.fendle'\n[[level]]\nvalues.target = '''\n1 1 2\n3 4 .\n'''\nstart.tile = '''\n1 1 2\n4 3 .\n'''\n";
    fs::write(dir.path().join("twins.toml"), level).expect("writable");
    let v = fendle(dir.path(), &["why", "twins.toml", "--format", "json"]).json();
    assert_eq!(v["status"], "winnable");
    assert_eq!(v["fatal_moves"].as_array().map(Vec::len), Some(0));
}

#[test]
fn a_body_in_a_corner_is_the_dead_part_with_its_two_walls() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let r = fendle(dir.path(), &["why", "yard.toml", "--level", "corner"]);
    assert_eq!(r.code, 0, "{}", r.err);
    let board: Vec<&str> = r.out.lines().skip_while(|l| !l.contains("minimal dead part")).collect();
    assert!(board.iter().any(|l| l.trim_end() == "1      H"), "{}", r.out);
    assert!(board.iter().any(|l| l.trim_end() == "2   H  o"), "{}", r.out);
    assert!(board.contains(&"barge at r2c2"), "{}", r.out);
    assert!(r.out.contains("the space from here is exhausted"));
    // The same over the level's own states, in which a barge can still be won.
    let after = "go up; go left; go left; go down";
    let v =
        fendle(dir.path(), &["why", "yard.toml", "--level", "open", "--after", after, "--format", "json"])
            .json();
    assert_eq!(v["status"], "winnable");
    let fatal: Vec<&str> = v["fatal_moves"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|m| m["dead_part"][0].as_str())
        .collect();
    assert!(fatal.iter().all(|p| p.starts_with("barge at ")), "{fatal:?}");
}

/// Every dead part of the gallery, tried on every state of the level by other means: `find` with the part as its condition.
#[test]
fn dead_parts_hold_in_no_state_that_can_be_won() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let v = fendle(dir.path(), &["why", "yard.toml", "--level", "open", "--all", "--format", "json"]).json();
    let parts = v["parts"].as_array().expect("a gallery");
    assert!(parts.len() >= 4);
    assert_eq!(v["explained"], v["dead_states"]);
    let mut last = u64::MAX;
    for p in parts {
        let states = p["states"].as_u64().expect("a count");
        assert!(states <= last, "most frequent first");
        last = states;
        let facts: Vec<String> = p["part"]
            .as_array()
            .expect("facts")
            .iter()
            .map(|f| {
                let text = f.as_str().expect("text");
                let cell = text.strip_prefix("barge at r").and_then(|c| c.split_once('c')).expect("a barge");
                format!("any(c in barge: c == place({}, {}))", cell.0, cell.1)
            })
            .collect();
        let holds = facts.join(" and ");
        let none = fendle(
            dir.path(),
            &[
                "find",
                "yard.toml",
                &format!("{holds} and (winnable or won)"),
                "--level",
                "open",
                "--format",
                "json",
            ],
        )
        .json();
        assert_eq!(none["count"], 0, "{holds}");
        let some = fendle(
            dir.path(),
            &[
                "find",
                "yard.toml",
                &format!("{holds} and (dead or stuck)"),
                "--level",
                "open",
                "--format",
                "json",
            ],
        )
        .json();
        assert_eq!(some["count"].as_u64(), Some(states), "{holds}");
    }
    let capped = fendle(dir.path(), &["why", "yard.toml", "--level", "open", "--all", "--most", "2"]);
    assert!(capped.out.contains("capped at 2"), "{}", capped.out);
}

#[test]
fn parts_can_be_asked_over_every_placement() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let r =
        fendle(dir.path(), &["why", "yard.toml", "--level", "corner", "--typed", "--format", "json"]).json();
    let part = &r["reasons"][0];
    assert_eq!((part["kind"].as_str(), part["over"].as_str()), (Some("dead part"), Some("placements")));
    // Fifteen cells for the tug, times fifteen for the barge: placements on the same cell are typed too.
    assert_eq!(part["states"], 225);
}

#[test]
fn questions_that_make_no_sense_are_told_so() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let won = fendle(dir.path(), &["why", "yard.toml", "--level", "gate", "--after", "go right x 5"]);
    assert!(won.out.contains("this position has ended: won"), "{}{}", won.out, won.err);
    let packs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packs/harbour");
    let reef = packs.join("reef.toml");
    for command in ["why", "review"] {
        let mut args = vec![command, reef.to_str().expect("a path")];
        args.extend((command == "review").then_some("open r1c1"));
        let r = fendle(dir.path(), &args);
        assert_eq!(r.code, 2);
        assert!(r.err.contains("--known takes the layout as known"), "{}", r.err);
    }
    let nets = packs.join("nets.toml");
    let r = fendle(dir.path(), &["why", nets.to_str().expect("a path"), "--level", "a small catch"]);
    assert!(r.code == 2 && r.err.contains("has no goal"), "{}", r.err);
    let r = fendle(dir.path(), &["why", "yard.toml", "--level", "open", "--max-states", "20"]);
    assert_eq!(r.code, 3);
    assert!(r.out.contains("undecided"), "{}", r.out);
}

/// A corridor: the tug behind the barge can only push. Every state on the way must be passed, by hand: the tug walks one
/// step, then pushes four times.
#[test]
fn in_a_corridor_the_whole_way_must_be_passed() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let v =
        fendle(dir.path(), &["explore", "yard.toml", "--level", "gate", "--structure", "--format", "json"])
            .json();
    let s = &v["structure"];
    assert_eq!(v["shortest"], 5);
    assert_eq!(s["must_pass"].as_array().map(Vec::len), Some(6));
    assert_eq!(s["shortest"]["count"], "1");
    assert_eq!(s["rooms"]["essentially_unique"], true);
    // Four rooms of winnable states: the barge on each of the cells before the berth, the tug behind it; a door each.
    assert_eq!(
        (s["rooms"]["winnable_rooms"].as_u64(), s["rooms"]["winnable_doors"].as_u64()),
        (Some(4), Some(4))
    );
    assert_eq!(s["delay"]["never_shows"], 0);
    // The far walls close the corridor; the row above and below as well: only what lies behind the start is idle.
    let idle: BTreeSet<&str> =
        s["idle"]["idle"].as_array().expect("a list").iter().filter_map(|i| i["at"].as_str()).collect();
    assert!(idle.contains("r1c1") && !idle.contains("r2c8"), "{idle:?}");
}

#[test]
fn three_coils_have_one_shortest_solution_and_only_its_ends_must_be_passed() {
    let dir = dir_with(&[("coil.toml", "model = 'coil'\n[[level]]\nvalues = { rings = 3 }\n")]);
    let v = fendle(dir.path(), &["explore", "coil.toml", "--structure", "--format", "json"]).json();
    let s = &v["structure"];
    assert_eq!(s["shortest"]["count"], "1");
    assert_eq!(s["shortest"]["up_to_swaps"], 1);
    assert_eq!(s["must_pass"].as_array().map(Vec::len), Some(2));
    assert_eq!(s["rooms"]["traps"], 0);
}

#[test]
fn a_bound_is_compared_with_the_truth_and_shows_detours() {
    let model = "model walk\nstate at, steps: 0..9\nlevel home: 0..9\n\
        move go(on_: bool) {\n    refuse \"the end\" unless (on_ and at < 9 or not on_ and at > 0)\n    if on_ { at += 1 } else { at -= 1 }\n}\n\
        goal at == home\nBOUND\n";
    let level = "model = 'walk.fendle'\n[[level]]\nvalues.home = 7\nstart = { at = 2, steps = 0 }\n";
    let ask = |bound: &str| {
        let dir = dir_with(&[("walk.fendle", &model.replace("BOUND", bound)), ("walk.toml", level)]);
        let r = fendle(dir.path(), &["explore", "walk.toml", "--structure", "--format", "json"]);
        r.json()["structure"]["bound"].clone()
    };
    assert_eq!(ask("bound abs(home - at)")["broken"], 0);
    let broken = ask("bound abs(home - at) * 2");
    // Nine of the ten places are no goal; each of them is said to be twice as far as it is. Two of them, beyond the goal, are never reached.
    assert_eq!((broken["broken"].as_u64(), broken["states"].as_u64()), (Some(7), Some(8)));
    assert_eq!((broken["first"]["says"].as_u64(), broken["first"]["moves"].as_u64()), (Some(10), Some(5)));
    let dir = dir_with(&[("walk.fendle", &model.replace("BOUND", "bound home == 3")), ("walk.toml", level)]);
    let r = fendle(dir.path(), &["check", "walk.fendle"]);
    assert!(r.code == 2 && r.err.contains("a number"), "{}", r.err);
}

#[test]
fn a_review_names_what_each_move_cost() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let solution = "go up; go left; go left; go down; go left; go down; go right";
    let v =
        fendle(dir.path(), &["review", "yard.toml", solution, "--level", "open", "--format", "json"]).json();
    assert_eq!(
        (v["minimum"].as_u64(), v["moves"].as_u64(), v["moves_lost"].as_u64()),
        (Some(7), Some(7), Some(0))
    );
    assert_eq!((v["ended"].as_str(), v["first_fatal_move"].clone()), (Some("won"), Value::Null));
    let played = "go right; go left; go right; go right; go left; go left; go left; go up";
    let v =
        fendle(dir.path(), &["review", "yard.toml", played, "--level", "open", "--format", "json"]).json();
    // Right and back costs two, right again one more; the second right runs into the wall.
    let steps = v["steps"].as_array().expect("steps");
    assert_eq!(v["refused"], 1);
    assert_eq!(steps[3]["refused"], "a wall at r3c7");
    assert_eq!((steps[0]["cost"].as_u64(), steps[1]["cost"].as_u64()), (Some(2), Some(0)));
    for s in steps.iter().filter(|s| s["cost"].is_u64()) {
        let (was, is) =
            (s["distance_before"].as_u64().expect("far"), s["distance_after"].as_u64().expect("far"));
        assert_eq!(s["cost"].as_u64(), Some(is + 1 - was));
    }
    // Pushed against the left wall: fatal, and one move was made after it.
    assert_eq!((v["first_fatal_move"].as_u64(), v["went_on"].as_u64()), (Some(6), Some(1)));
    let text = fendle(dir.path(), &["review", "yard.toml", played, "--level", "open"]);
    assert!(
        text.out.contains("first fatal move: move 6, go left; the play went on for 1 move after it"),
        "{}",
        text.out
    );
}

#[test]
fn a_turned_level_has_the_same_shape_and_another_one_has_not() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let args = ["compare", "yard.toml", "--level", "open", "--with", "turned", "--spaces"];
    let r = fendle(dir.path(), &args);
    assert_eq!(r.code, 0, "{}", r.out);
    assert!(r.out.contains("the same shape"), "{}", r.out);
    let v = fendle(
        dir.path(),
        &["compare", "yard.toml", "--level", "open", "--with", "open", "--spaces", "--format", "json"],
    )
    .json();
    assert_eq!(v["same_shape"], true);
    assert_eq!(v["matched"]["states_in_both"], v["first"]["counts"]["states"]);
    assert_eq!(v["matched"]["edges_only_in_first"]["count"], 0);
    let r = fendle(dir.path(), &["compare", "yard.toml", "--level", "open", "--with", "gate", "--spaces"]);
    assert_eq!(r.code, 1);
    assert!(r.out.contains("not the same shape"), "{}", r.out);
    let r = fendle(dir.path(), &["compare", "yard.toml", "--spaces"]);
    assert!(r.code == 2 && r.err.contains("name a second level"), "{}", r.err);
    let r = fendle(
        dir.path(),
        &["compare", "yard.toml", "--with", "gate", "--level", "open", "--spaces", "--max-states", "9"],
    );
    assert_eq!(r.code, 3, "{}", r.out);
}

/// One wall more: what is only in one of two levels is named state by state and edge by edge.
#[test]
fn what_is_only_in_one_space_is_named() {
    let yard = "model = 'shove'\n[[level]]\nname = 'a'\nstart.yard = 'A..'\n[[level]]\nname = 'b'\nstart.yard = 'A..'\n";
    let dir = dir_with(&[("strip.toml", yard)]);
    let model = "model strip\nstate at: 1..4\nlevel far: 1..4 = 4\nlevel leap: bool = false\n\
        move go { refuse \"the end\" unless at < far\n    at += 1 }\nmove jump { refuse \"no leap\" unless leap and at == 1\n    at = 3 }\ngoal at == 4\n";
    let levels = "model = 'strip.fendle'\n[[level]]\nname = 'long'\nstart.at = 1\n[[level]]\nname = 'short'\nvalues.far = 3\nstart.at = 1\n\
        [[level]]\nname = 'leap'\nvalues.leap = true\nstart.at = 1\n";
    fs::write(dir.path().join("strip.fendle"), model).expect("writable");
    fs::write(dir.path().join("strips.toml"), levels).expect("writable");
    let ask = |b: &str| {
        fendle(
            dir.path(),
            &["compare", "strips.toml", "--level", "long", "--with", b, "--spaces", "--format", "json"],
        )
        .json()
    };
    let m = &ask("short")["matched"];
    assert_eq!(
        (m["states_in_both"].as_u64(), m["states_only_in_first"]["examples"][0].as_str()),
        (Some(3), Some("4"))
    );
    let m = &ask("leap")["matched"];
    assert_eq!(m["edges_only_in_second"]["count"], 1);
    assert_eq!(m["edges_only_in_first"]["count"], 0);
}

/// Each kind of proof is written, holds, and is refused for every changed bit, another level, and a changed rule.
#[test]
fn proofs_hold_and_every_changed_bit_is_refused() {
    let dir = dir_with(&[("plain.fendle", PLAIN), ("swapped.toml", SWAPPED)]);
    let tiny = "model = 'plain.fendle'\n[[level]]\nname = 'tiny'\nvalues.target = '''\n1 2\n3 .\n'''\nstart.tile = '''\n1 .\n3 2\n'''\n\
        [[level]]\nname = 'other'\nvalues.target = '''\n1 2\n3 .\n'''\nstart.tile = '''\n. 1\n3 2\n'''\n";
    let twins = "model = 'plain.fendle'\n[[level]]\nname = 'twins'\nvalues.target = '''\n1 1 2 .\n'''\nstart.tile = '''\n1 2 1 .\n'''\n";
    fs::write(dir.path().join("tiny.toml"), tiny).expect("writable");
    fs::write(dir.path().join("twins.toml"), twins).expect("writable");
    for (level, kind) in
        [("tiny.toml", "solution"), ("swapped.toml", "found-quantity"), ("twins.toml", "closed-set")]
    {
        let file = format!("{kind}.proof");
        let r = fendle(dir.path(), &["solve", level, "--proof", &file, "-q"]);
        assert!(r.code <= 1 && r.out.contains("proof written"), "{}{}", r.out, r.err);
        let v = fendle(dir.path(), &["check", "--proof", &file, level, "--format", "json"]).json();
        assert_eq!((v["proof"].as_str(), v["claim"]["kind"].as_str()), (Some("holds"), Some(kind)), "{v}");
        // The hash refuses every single bit; the program is asked for some of them, the reader for all.
        let bytes = fs::read(dir.path().join(&file)).expect("written");
        for bit in 0..bytes.len() * 8 {
            let mut changed = bytes.clone();
            changed[bit / 8] ^= 1 << (bit % 8);
            assert!(fendle_core::proof::open(&changed).is_err(), "bit {bit} of {kind}");
        }
        for bit in (0..bytes.len() * 8).step_by(bytes.len()) {
            let mut changed = bytes.clone();
            changed[bit / 8] ^= 1 << (bit % 8);
            fs::write(dir.path().join("changed.proof"), &changed).expect("writable");
            let r = fendle(dir.path(), &["check", "--proof", "changed.proof", level]);
            assert_eq!((r.code, r.out.starts_with("refused: ")), (1, true), "bit {bit}: {}{}", r.out, r.err);
        }
        // A changed rule, in a comment and in earnest.
        let commented = PLAIN.replace("goal tile", "// the plan\ngoal  tile");
        fs::write(dir.path().join("plain.fendle"), commented).expect("writable");
        assert_eq!(fendle(dir.path(), &["check", "--proof", &file, level]).code, 0);
        fs::write(dir.path().join("plain.fendle"), PLAIN.replace("gap() - d", "gap() + d"))
            .expect("writable");
        let r = fendle(dir.path(), &["check", "--proof", &file, level]);
        assert!(r.code == 1 && r.out.contains("made for other rules"), "{}", r.out);
        fs::write(dir.path().join("plain.fendle"), PLAIN).expect("writable");
    }
    let r = fendle(dir.path(), &["check", "--proof", "solution.proof", "tiny.toml", "--level", "other"]);
    assert!(r.code == 1 && r.out.contains("made for another level"), "{}", r.out);
    // Nothing that is no proof is written over.
    let r = fendle(dir.path(), &["solve", "tiny.toml", "--proof", "tiny.toml"]);
    assert!(r.code == 2 && r.err.contains("not written over"), "{}", r.err);
    let r = fendle(dir.path(), &["check", "--proof", "tiny.toml", "tiny.toml"]);
    assert!(r.out.contains("no proof file"), "{}", r.out);
    let r =
        fendle(dir.path(), &["solve", "swapped.toml", "--proof", "at.proof", "--after", "slide right", "-q"]);
    assert!(r.out.contains("proof written"));
    assert_eq!(fendle(dir.path(), &["check", "--proof", "at.proof", "swapped.toml"]).code, 0);
}

/// Proofs that are sealed anew after a change: whatever stands in them, no wrong claim passes and nothing breaks.
#[test]
fn forged_proofs_never_pass() {
    let dir = dir_with(&[("plain.fendle", PLAIN)]);
    let tiny = "model = 'plain.fendle'\n[[level]]\nname = 'tiny'\nvalues.target = '''\n1 2\n3 .\n'''\nstart.tile = '''\n. 2\n1 3\n'''\n\
        [[level]]\nname = 'dead'\nvalues.target = '''\n1 1 2 .\n'''\nstart.tile = '''\n1 2 1 .\n'''\n";
    fs::write(dir.path().join("tiny.toml"), tiny).expect("writable");
    let proof = |level: &str| {
        let r = fendle(dir.path(), &["solve", "tiny.toml", "--level", level, "--proof", "p.proof", "-q"]);
        assert!(r.out.contains("proof written"), "{}{}", r.out, r.err);
        fs::read(dir.path().join("p.proof")).expect("written")
    };
    let (solved, dead) = (proof("tiny"), proof("dead"));
    let check = |bytes: &[u8]| {
        fs::write(dir.path().join("forged.proof"), bytes).expect("writable");
        let r = fendle(dir.path(), &["check", "--proof", "forged.proof", "tiny.toml"]);
        assert!((0..=2).contains(&r.code), "{}{}", r.out, r.err);
        assert!(!r.err.contains("panicked"), "{}", r.err);
        r.code == 0
    };
    assert!(check(&solved) && check(&dead));
    // A level that can be won is claimed to be closed, with the closed set of another one and with none.
    let (head, _) = fendle_core::proof::open(&solved).expect("sound");
    let (_, states) = fendle_core::proof::open(&dead).expect("sound");
    let mut header: Value = serde_json::from_str(head).expect("JSON");
    for count in [0, 1, 4, 12] {
        header["claim"] = serde_json::json!({"kind": "closed-set", "states": count});
        assert!(!check(&fendle_core::proof::seal(&header.to_string(), states)));
        assert!(!check(&fendle_core::proof::seal(&header.to_string(), &[])));
    }
    header["claim"] =
        serde_json::json!({"kind": "found-quantity", "quantities": [[[["count", "tile", 0, 1, 1]], null]]});
    assert!(!check(&fendle_core::proof::seal(&header.to_string(), &[])));
    header["claim"] =
        serde_json::json!({"kind": "found-quantity", "quantities": [[[["rows", "tile", 0, 0, 1]], 2]]});
    assert!(!check(&fendle_core::proof::seal(&header.to_string(), &[])));
    header["claim"] = serde_json::json!({"kind": "declared-quantity", "number": 0, "because": "so"});
    assert!(!check(&fendle_core::proof::seal(&header.to_string(), &[])));
    for moves in [vec!["slide up"], vec![], vec!["slide up x 2"], vec!["fly"], vec!["slide down; slide up"]] {
        header["claim"] = serde_json::json!({"kind": "solution", "moves": moves});
        check(&fendle_core::proof::seal(&header.to_string(), &[]));
    }
    header["claim"] = serde_json::json!({"kind": "solution", "moves": []});
    assert!(!check(&fendle_core::proof::seal(&header.to_string(), &[])));
    // Bytes of the payload and the header at random, sealed anew.
    let mut seed = 17u64;
    let mut next = |n: usize| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) as usize % n
    };
    let (head, states) = fendle_core::proof::open(&dead).expect("sound");
    for _ in 0..60 {
        let mut payload = states.to_vec();
        let at = next(payload.len());
        payload[at] ^= 1 << next(8);
        if next(3) == 0 {
            payload.truncate(next(payload.len()));
        }
        assert!(!check(&fendle_core::proof::seal(head, &payload)), "the closed set is the least one");
        let mut text = head.as_bytes().to_vec();
        let at = next(text.len());
        text[at] = b' ' + next(90) as u8;
        if let Ok(text) = String::from_utf8(text) {
            // A changed name or number may still be a true claim of this level: it must only never break.
            check(&fendle_core::proof::seal(&text, states));
        }
    }
}

#[test]
fn a_closed_set_is_rechecked_within_its_memory() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let yard = "model = 'slide'\n[[level]]\nname = 'deck'\nvalues.target = '''\n1 2 3\n4 5 6\n6 7 .\n'''\nvalues.bolted = '''\n...\n.x.\n...\n'''\n\
        start.tile = '''\n2 3 1\n4 5 6\n6 7 .\n'''\n";
    fs::write(dir.path().join("deck.toml"), yard).expect("writable");
    let r = fendle(dir.path(), &["solve", "deck.toml", "--proof", "deck.proof"]);
    assert_eq!(r.code, 1, "{}{}", r.out, r.err);
    assert_eq!(
        fendle(dir.path(), &["check", "--proof", "deck.proof", "deck.toml", "--memory", "1M"]).code,
        0
    );
    let r = fendle(
        dir.path(),
        &["solve", "yard.toml", "--level", "open", "--proof", "open.proof", "--max-states", "5"],
    );
    assert!(r.code == 3 && r.out.contains("no proof written"), "{}", r.out);
    assert!(!dir.path().join("open.proof").exists());
}

/// Sacks of four coats: two are wanted in the boat and one in the sea, and the rope holds two.
const SACKS: &str = "model sacks\nenum coat { tar, pitch, wax, salt }\nenum spot { quay, boat, sea }\n\
    level same: bool = false\nstate lies: array coat of spot = quay\nstate rope: 0..2 = 0\nalike coat if same\n\
    move load(c: coat) {\n    refuse \"it is not on the quay\" unless lies[c] == quay\n\
        refuse \"no rope is left\" unless rope < 2\n    lies[c] = boat\n    rope += 1\n}\n\
    move drop(c: coat) {\n    refuse \"it is not in the boat\" unless lies[c] == boat\n    lies[c] = sea\n    rope -= 1\n}\n\
    move back(c: coat) {\n    refuse \"it is not in the boat\" unless lies[c] == boat\n    lies[c] = quay\n    rope -= 1\n}\n\
    goal count(c in coat where lies[c] == boat) == 2 and count(c in coat where lies[c] == sea) == 1\n";

/// Where things are alike the states that stand for several are looked at first, and every state by itself only where a part is to be named:
/// what is said is the same as where they are told apart.
#[test]
fn reasons_are_the_same_where_things_are_alike() {
    let levels =
        "model = 'sacks.fendle'\n[[level]]\nname = 'apart'\n[[level]]\nname = 'alike'\nvalues.same = true\n";
    let dir = dir_with(&[("sacks.fendle", SACKS), ("sacks.toml", levels)]);
    let explored = |level: &str| {
        let r = fendle(dir.path(), &["explore", "sacks.toml", "--level", level, "--format", "json"]);
        r.json()["states"].as_u64()
    };
    // Four sacks at three spots, at most two of them in the boat; four equal ones: only how many lie where. Won states are not left.
    let lie = |sacks: u32| (0..3u32.pow(sacks)).map(move |n| [0, 1, 2, 3].map(|i| n / 3u32.pow(i) % 3));
    let count = |s: &[u32; 4], spot: u32| s.iter().filter(|x| **x == spot).count();
    let met: Vec<[u32; 4]> = lie(4).filter(|s| count(s, 1) <= 2).collect();
    let kinds: BTreeSet<[usize; 3]> = met.iter().map(|s| [0, 1, 2].map(|spot| count(s, spot))).collect();
    assert_eq!((explored("apart"), explored("alike")), (Some(met.len() as u64), Some(kinds.len() as u64)));

    let walks: [(&[&str], &str, usize); 6] = [
        (&[], "winnable", 0),
        (&["load wax"], "winnable", 0),
        (&["load tar", "drop tar"], "winnable", 0),
        (&["load tar", "drop tar", "load salt"], "winnable", 1),
        (&["load tar", "load pitch"], "winnable", 0),
        (&["load tar", "drop tar", "load wax", "drop wax"], "dead", 0),
    ];
    for (walk, status, fatal) in walks {
        let [apart, alike] = ["apart", "alike"].map(|level| {
            let mut args = vec!["why", "sacks.toml", "--level", level, "--format", "json"];
            let after = walk.join("; ");
            if !walk.is_empty() {
                args.extend(["--after", &after]);
            }
            let r = fendle(dir.path(), &args);
            assert_eq!(r.code, 0, "{walk:?}\n{}{}", r.out, r.err);
            let mut v = r.json();
            v["level"] = Value::Null;
            v["effort"] = Value::Null;
            v
        });
        assert_eq!(alike, apart, "{walk:?}");
        assert_eq!(apart["status"], status, "{walk:?}");
        if status == "winnable" {
            assert_eq!(apart["fatal_moves"].as_array().map(Vec::len), Some(fatal), "{walk:?}");
        }
    }
}

/// A net is cast once: what is caught is drawn in two digits, and so much is wanted.
const NET: &str = "model net\nlevel wanted: 0..99 = 60\nlevel digits: 1..2 = 2\nlevel holes: 0..22 = 0\n\
    state got: 0..99 = 0\nstate casts: 0..1 = 0\nstate torn: 0..22 = 0\n\
    move cast {\n    refuse \"the net is wet\" unless casts < 1\n    casts += 1\n    let one = draw in 0..4\n    got = one\n\
        if digits == 2 {\n        let two = draw in 0..9\n        got = 10 * one + two\n    }\n\
        torn = holes\n    repeat at most 22 while torn > 0 {\n        torn -= 1\n        let hole = draw in 0..1\n\
            got = max(0, got - hole)\n    }\n}\n\
    goal got >= wanted\n";

/// Draws that leave nothing to be won: one by one where a move has few outcomes, by class where it has many, and also where the draws could fall
/// in more ways than can be written down.
#[test]
fn fatal_draws_are_told_one_by_one_or_together() {
    let levels = "model = 'net.fendle'\n[[level]]\nname = 'many'\nvalues = { wanted = 30 }\n\
        [[level]]\nname = 'few'\nvalues = { wanted = 3, digits = 1 }\n\
        [[level]]\nname = 'none'\nvalues = { wanted = 60 }\n\
        [[level]]\nname = 'torn'\nvalues = { wanted = 30, holes = 22 }\n";
    let dir = dir_with(&[("net.fendle", NET), ("net.toml", levels)]);
    let why =
        |level: &str| fendle(dir.path(), &["why", "net.toml", "--level", level, "--format", "json"]).json();
    let told = |v: &Value| -> Vec<(String, u64)> {
        let list = v["fatal_draws"].as_array().cloned().unwrap_or_default();
        list.iter().map(|d| (d["draw"].to_string(), d["outcomes"].as_u64().unwrap_or(0))).collect()
    };
    // Of 50 numbers 30 are too small.
    let many = why("many");
    assert_eq!((many["status"].as_str(), many["moves_to_goal"].as_u64()), (Some("winnable"), Some(1)));
    assert_eq!(told(&many), [("\"cast (30 of 50 outcomes)\"".to_string(), 30)]);
    // Of five numbers three are: each by itself, with what was drawn.
    let few = told(&why("few"));
    assert_eq!(few.iter().map(|d| d.1).collect::<Vec<_>>(), [1, 1, 1], "{few:?}");
    assert!(few.iter().all(|d| d.0.starts_with("\"cast") && !d.0.contains("outcomes")), "{few:?}");
    assert_eq!(why("none")["status"], "dead");
    // 22 holes can take in 4,194,304 ways; only how many did counts. Of what is left, 0 to 49, the same 30 numbers are too small.
    let torn = why("torn");
    assert_eq!(torn["status"], "winnable");
    assert_eq!(told(&torn), [("\"cast (30 of 50 outcomes)\"".to_string(), 30)]);
}

/// After a limit a move is not told to be harmless because what it leads to was not seen.
#[test]
fn a_fatal_move_is_never_denied_after_a_limit() {
    let dir = dir_with(&[("yard.toml", include_str!("../../../packs/harbour/yard.toml"))]);
    let why = |most: u64| {
        let (most, after) = (most.to_string(), "go right; go right; go down");
        let args =
            ["why", "yard.toml", "--level", "mind the corner", "--after", after, "--max-states", &most];
        let r = fendle(dir.path(), &args);
        let v = fendle(dir.path(), &[&args[..], &["--format", "json"]].concat()).json();
        (r.code, r.out, v)
    };
    let (code, out, whole) = why(1_000_000);
    assert_eq!(
        (code, whole["complete"].as_bool(), whole["unknown_moves"].as_u64()),
        (0, Some(true), Some(0))
    );
    let fatal = whole["fatal_moves"].as_array().map_or(0, Vec::len);
    assert!(fatal > 0, "{out}");
    let mut open = 0;
    for most in (500..1_300).step_by(50) {
        let (code, out, v) = why(most);
        if v["status"] != "winnable" {
            assert_eq!(code, 3, "{most}: {out}");
            continue;
        }
        let (told, unknown) = (v["fatal_moves"].as_array().map_or(0, Vec::len), v["unknown_moves"].as_u64());
        let unknown = unknown.unwrap_or(0) as usize;
        assert!(told + unknown >= fatal, "{most}: {out}");
        assert_eq!(code, if unknown > 0 { 3 } else { 0 }, "{most}: {out}");
        assert_eq!(out.contains("fatal is not known"), unknown > 0, "{most}: {out}");
        open += usize::from(unknown > 0);
    }
    assert!(open > 3, "{open} open answers");
}
