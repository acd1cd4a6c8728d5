//! Levels played by keys: what the last screen says; plays that are recorded and read again.

use std::collections::{HashMap, VecDeque};
use std::fs;

use crate::common::{Run, dir_with, fendle};
use rand::{Rng, SeedableRng, rngs::SmallRng};

const YARD: &str = "model = \"shove\"\n[[level]]\nname = \"first push\"\nstart.yard = '''\nHHHHHHH\nH..._.H\nH.oA..H\nH.....H\nHHHHHHH\n'''\n";

fn play(dir: &tempfile::TempDir, file: &str, keys: &str) -> Run {
    let run = fendle(dir.path(), &["play", file, "--keys", keys]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    run
}

#[test]
fn keys_make_moves_and_take_them_back() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let start = play(&dir, "yard.toml", "");
    assert!(start.out.contains("first push (shove, 5 x 7)"), "{}", start.out);
    assert!(start.out.contains("arrows       go"), "{}", start.out);
    assert!(start.out.contains("0 moves (at the least 7)"), "{}", start.out);
    let moved = play(&dir, "yard.toml", "down left left");
    assert!(moved.out.contains("3 moves"), "{}", moved.out);
    assert!(moved.out.contains("go left"), "{}", moved.out);
    let back = play(&dir, "yard.toml", "down left left u u u");
    assert!(back.out.contains("0 moves"), "{}", back.out);
    let again = play(&dir, "yard.toml", "down left left u u u r r r");
    assert_eq!(board(&moved.out), board(&again.out));
    let over = play(&dir, "yard.toml", "down b left left s g");
    assert!(over.out.contains("1 move "), "{}", over.out);
    let json =
        fendle(dir.path(), &["play", "yard.toml", "--keys", "down up left", "--format", "json"]).json();
    assert_eq!(json["moves"], serde_json::json!(["go down", "go up", "go left"]));
    assert_eq!(json["light"], "dead");
    let none = play(&dir, "yard.toml", "u");
    assert!(none.out.contains("nothing is left to take back"), "{}", none.out);
}

/// The rows of a board on a screen.
fn board(screen: &str) -> Vec<String> {
    let is_row = |l: &&str| l.trim_start().starts_with(|c: char| c.is_ascii_digit()) && l.contains('H');
    screen.lines().filter(is_row).map(|l| l[..30.min(l.len())].trim_end().to_string()).collect()
}

#[test]
fn a_refused_move_says_why_and_marks_the_cells() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let refused = play(&dir, "yard.toml", "up up");
    assert!(refused.out.contains("go up is refused: a wall"), "{}", refused.out);
    assert!(refused.out.contains("1 refused"), "{}", refused.out);
    assert!(refused.out.contains("!H!"), "the wall is marked:\n{}", refused.out);
}

#[test]
fn a_fatal_move_is_named() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let dead = play(&dir, "yard.toml", "left");
    assert!(dead.out.contains("dead since move 1"), "{}", dead.out);
    let why = play(&dir, "yard.toml", "up right down h");
    assert!(!why.out.contains("dead"), "{}", why.out);
    let why = play(&dir, "yard.toml", "left down right h");
    assert!(why.out.contains("move 1, go left, was fatal; u takes moves back"), "{}", why.out);
    let hint = play(&dir, "yard.toml", "h");
    assert!(hint.out.contains("hint: go "), "{}", hint.out);
}

/// Least moves of all positions of a sliding board of 2 x 3, by the tiles in a line; the gap is 0.
fn distances() -> HashMap<Vec<u8>, u32> {
    let mut far = HashMap::from([(vec![1u8, 2, 3, 4, 5, 0], 0)]);
    let mut open = VecDeque::from([vec![1u8, 2, 3, 4, 5, 0]]);
    while let Some(at) = open.pop_front() {
        let gap = at.iter().position(|t| *t == 0).expect("a gap");
        for to in 0..6usize {
            if (gap / 3).abs_diff(to / 3) + (gap % 3).abs_diff(to % 3) == 1 {
                let mut next = at.clone();
                next.swap(gap, to);
                if !far.contains_key(&next) {
                    far.insert(next.clone(), far[&at] + 1);
                    open.push_back(next);
                }
            }
        }
    }
    far
}

#[test]
fn the_light_is_right_wherever_keys_lead() {
    let far = distances();
    let mut rng = SmallRng::seed_from_u64(8);
    let dir = dir_with(&[(
        "deck.toml",
        "model = \"slide\"\n[[level]]\nvalues.target = '1 2 3/4 5 .'\nstart.tile = '1 2 3/4 5 .'\n",
    )]);
    let won = play(&dir, "deck.toml", "left");
    assert!(won.out.contains("the game has ended"), "{}", won.out);
    for _ in 0..20 {
        let (start, _) = far.iter().filter(|f| *f.1 > 0).nth(rng.random_range(0..300)).expect("many");
        let drawn: Vec<String> =
            start.iter().map(|t| if *t == 0 { ".".into() } else { t.to_string() }).collect();
        let text = format!(
            "model = \"slide\"\n[[level]]\nvalues.target = '1 2 3/4 5 .'\nstart.tile = '{}/{}'\n",
            drawn[..3].join(" "),
            drawn[3..].join(" ")
        );
        fs::write(dir.path().join("one.toml"), text).expect("writable");
        let run = play(&dir, "one.toml", "");
        let n = far[start];
        let words = format!("can be won, {n} move{}", if n == 1 { "" } else { "s" });
        assert!(run.out.contains(&words), "{words}\n{}", run.out);
        assert!(run.out.contains(&format!("at the least {n}")), "{}", run.out);
    }
}

#[test]
fn a_play_is_recorded_and_read_again() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let run =
        fendle(dir.path(), &["play", "yard.toml", "--keys", "down left left u left", "-o", "play.jsonl"]);
    assert_eq!(run.code, 0, "{}", run.err);
    let text = fs::read_to_string(dir.path().join("play.jsonl")).expect("written");
    let lines: Vec<serde_json::Value> =
        text.lines().map(|l| serde_json::from_str(l).expect("a line of JSON")).collect();
    assert_eq!(lines.len(), 4);
    assert_eq!((&lines[0]["fendle_play"], &lines[0]["level"]), (&1.into(), &"first push".into()));
    assert_eq!(lines[3]["move"], "go left");
    let plain = fendle(dir.path(), &["trace", "yard.toml", "go down; go left x 2", "--format", "json"]);
    let read = fendle(dir.path(), &["trace", "yard.toml", "@play.jsonl", "--format", "json"]);
    assert_eq!(plain.json()["steps"], read.json()["steps"]);
    let review = fendle(dir.path(), &["review", "yard.toml", "@play.jsonl"]);
    assert_eq!(review.code, 0, "{}{}", review.out, review.err);
    let after = fendle(dir.path(), &["show", "yard.toml", "--after", "@play.jsonl", "--line"]);
    assert_eq!(after.out.trim(), lines[3]["position"].as_str().expect("a position"));
    for (text, words) in [
        ("{\"move\": \"go left\", \"position\": \"\"}\n", "play.jsonl:1: a recorded play begins with"),
        (
            "{\"fendle_play\":1,\"file\":\"\",\"level\":\"\",\"start\":\"\"}\nnonsense\n",
            "play.jsonl:2: this is no line",
        ),
        ("{\"fendle_play\":7,\"file\":\"\",\"level\":\"\",\"start\":\"\"}\n", "version 7"),
    ] {
        fs::write(dir.path().join("play.jsonl"), text).expect("writable");
        let run = fendle(dir.path(), &["review", "yard.toml", "@play.jsonl"]);
        assert!(run.code == 2 && run.err.contains(words), "{}", run.err);
    }
    let run = fendle(dir.path(), &["review", "yard.toml", "@none.jsonl"]);
    assert!(run.code == 2 && run.err.contains("none.jsonl cannot be read"), "{}", run.err);
}

/// The lines of a screen from one to before the next empty one.
fn lines_after(screen: &str, head: &str) -> String {
    let lines = screen.lines().skip_while(|l| !l.starts_with(head)).skip(1);
    lines.take_while(|l| !l.is_empty()).map(|l| format!("{l}\n")).collect()
}

#[test]
fn where_play_stands_is_copied_as_it_is_read() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let screen = play(&dir, "yard.toml", "down left left y").out;
    let line = lines_after(&screen, "as --at takes it");
    let shown = fendle(dir.path(), &["show", "yard.toml", "--after", "go down; go left x 2", "--line"]);
    assert_eq!(line, shown.out);
    let start = lines_after(&screen, "as the start of a level");
    fs::write(dir.path().join("copy.toml"), format!("model = \"shove\"\n[[level]]\n{start}"))
        .expect("writable");
    assert_eq!(fendle(dir.path(), &["show", "copy.toml", "--line"]).out, line, "{start}");
    let library = include_str!("../../../models/shove.fendle");
    let example = lines_after(&screen, "as an example of the model");
    assert!(example.contains("do go down; go left; go left"), "{example}");
    fs::write(dir.path().join("own.fendle"), format!("{library}\n{example}")).expect("writable");
    let checked = fendle(dir.path(), &["check", "own.fendle"]);
    assert_eq!(checked.code, 0, "{example}\n{}{}", checked.out, checked.err);
    // Single values, and none that was made.
    let model =
        "model steps\nstate at: 0..9 = 0\nmove up { refuse \"end\" unless at < 9; at += 1 }\ngoal at == 3\n";
    fs::write(dir.path().join("steps.fendle"), model).expect("writable");
    fs::write(dir.path().join("steps.toml"), "model = \"steps.fendle\"\n[[level]]\nname = \"one\"\n")
        .expect("writable");
    for keys in ["y", "1 1 y"] {
        let example = lines_after(&play(&dir, "steps.toml", keys).out, "as an example of the model");
        fs::write(dir.path().join("own.fendle"), format!("{model}\n{example}")).expect("writable");
        let checked = fendle(dir.path(), &["check", "own.fendle"]);
        assert_eq!(checked.code, 0, "{example}\n{}{}", checked.out, checked.err);
    }
    let over = play(&dir, "steps.toml", "1 1 1");
    assert!(over.out.contains("won") && over.out.contains("no move is allowed"), "{}", over.out);
}

#[test]
fn moves_are_picked_from_lists_and_by_their_names() {
    let dir = dir_with(&[("coil.toml", "model = \"coil\"\nvalues.rings = 3\n[[level]]\nname = \"three\"\n")]);
    let start = play(&dir, "coil.toml", "");
    assert!(start.out.contains("1  shift 1 2") && start.out.contains("2  shift 1 3"), "{}", start.out);
    assert!(start.out.contains("can be won, 7 moves"), "{}", start.out);
    let moved = play(&dir, "coil.toml", "2");
    assert!(moved.out.contains("can be won, 6 moves"), "{}", moved.out);
    let named = play(&dir, "coil.toml", "/ 1 enter");
    assert!(named.out.contains("1 move ") || named.out.contains("1 move\n"), "{}", named.out);
    let list = play(&dir, "coil.toml", "/ 2");
    assert!(list.out.contains("shift 2 1 (refused)"), "{}", list.out);
    let help = play(&dir, "coil.toml", "?");
    assert!(help.out.contains("take a move back"), "{}", help.out);
    // Every key has a name; those that do nothing here do nothing.
    let all = play(&dir, "coil.toml", "up right shift-left down pageup pagedown space backspace 2 esc");
    assert!(all.code == 0 && all.out.contains("can be won, 6 moves"), "{}{}", all.out, all.err);
    let wrong = fendle(dir.path(), &["play", "coil.toml", "--keys", "rihgt"]);
    assert!(wrong.code == 2 && wrong.err.contains("`rihgt` is no key"), "{}", wrong.err);
    let nowhere = fendle(dir.path(), &["play", "coil.toml"]);
    assert!(nowhere.code == 2 && nowhere.err.contains("no terminal"), "{}", nowhere.err);
}

#[test]
fn draws_fall_by_the_seed_or_are_picked() {
    let dir = dir_with(&[(
        "merge.toml",
        "model = \"merge\"\nvalues = { high = 2, wide = 2, top = 4 }\n[[level]]\nstart.tile = '2 2/. .'\n",
    )]);
    let one = play(&dir, "merge.toml", "left");
    assert_eq!(one.out, play(&dir, "merge.toml", "left").out, "one seed, one play");
    let list = play(&dir, "merge.toml", "d left");
    assert!(list.out.contains("draws") && list.out.contains("3/10"), "{}", list.out);
    let first = play(&dir, "merge.toml", "d left 1");
    let second = play(&dir, "merge.toml", "d left 2");
    assert_ne!(first.out, second.out);
    let watched = play(&dir, "merge.toml", "p left");
    assert!(watched.out.contains("phase 1 of"), "{}", watched.out);
}

#[test]
fn what_is_hidden_stays_hidden() {
    let dir = dir_with(&[(
        "reef.toml",
        "model = \"sweep\"\n[[level]]\nname = \"reef\"\nvalues.rocks = 1\nstart.reef = '''\n..x\n...\n...\n'''\n",
    )]);
    let level = fendle(dir.path(), &["show", "reef.toml"]);
    if level.code != 0 {
        panic!("{}", level.err);
    }
    let start = play(&dir, "reef.toml", "");
    assert!(start.out.contains("things are hidden"), "{}", start.out);
    let opened = play(&dir, "reef.toml", "down down enter");
    let risk = play(&dir, "reef.toml", "down down enter k");
    assert!(opened.out.contains("1 move"), "{}", opened.out);
    assert!(risk.out.contains("r1c3"), "{}", risk.out);
}
