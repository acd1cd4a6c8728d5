//! `audit --freeze`: what held of a pack, and what a change of rules has changed.

use std::fs;

use crate::common::{dir_with, fendle};

const CLIMB: &str = "model climb\nlevel top: 1..9\nstate at: 0..9 = 0\nmove up { refuse \"the end\" unless at < 9; at += 1 }\n\
    move leap { refuse \"the end\" unless at < 8; at += 2 }\ngoal at == top\n";
const PACK: &str = "model = \"climb.fendle\"\n[[level]]\nname = \"low\"\nvalues.top = 3\n[[level]]\nname = \"high\"\nvalues.top = 8\n";

#[test]
fn what_a_change_of_rules_changes_is_told_level_by_level() {
    let dir = dir_with(&[("pack/climb.fendle", CLIMB), ("pack/pack.toml", PACK)]);
    let audit = |more: &[&str]| fendle(dir.path(), &[&["audit", "pack"], more].concat());
    let frozen = audit(&["--freeze"]);
    assert_eq!(frozen.code, 0, "{}{}", frozen.out, frozen.err);
    assert!(frozen.out.contains("wrote pack/frozen.json"), "{}", frozen.out);
    let text = fs::read_to_string(dir.path().join("pack/frozen.json")).expect("written");
    let value: serde_json::Value = serde_json::from_str(&text).expect("JSON");
    // 0 to 3 can be reached, and 4 by a leap over the goal; from there on all that is below 10.
    assert_eq!(value["levels"][0]["facts"]["moves"], 2);
    assert_eq!(value["levels"][0]["facts"]["states"], 10);
    assert_eq!(value["levels"][1]["facts"]["moves"], 4);
    assert_eq!(audit(&[]).code, 0, "nothing has changed");
    // Leaps go further: the low level needs a step more, the high one fewer.
    fs::write(dir.path().join("pack/climb.fendle"), CLIMB.replace("at < 8; at += 2", "at < 7; at += 3"))
        .expect("writable");
    let changed = audit(&[]);
    assert_eq!(changed.code, 1, "{}", changed.out);
    assert!(changed.out.contains("frozen: moves was 2, is 1"), "{}", changed.out);
    assert!(!changed.out.contains("frozen: moves was 4"), "4 moves as before:\n{}", changed.out);
    let json = audit(&["--format", "json"]).json();
    assert_eq!(json["ok"], false);
    assert!(json["levels"][0]["differs"].to_string().contains("frozen: moves was 2, is 1"), "{json}");
    // Frozen anew, all is well again.
    assert_eq!(audit(&["--freeze"]).code, 0);
    assert_eq!(audit(&[]).code, 0);
}

#[test]
fn files_of_one_name_in_two_folders_are_two() {
    let other = PACK.replace("values.top = 3", "values.top = 5");
    let dir = dir_with(&[
        ("pack/climb.fendle", CLIMB),
        ("pack/a/one.toml", &PACK.replace("climb.fendle", "../climb.fendle")),
        ("pack/b/one.toml", &other.replace("climb.fendle", "../climb.fendle")),
    ]);
    assert_eq!(fendle(dir.path(), &["audit", "pack", "--freeze"]).code, 0);
    // From wherever it is asked.
    let run = fendle(dir.path(), &["audit", "./pack"]);
    assert_eq!(run.code, 0, "{}", run.out);
    assert!(!run.out.contains("not frozen yet"), "{}", run.out);
}

#[test]
fn levels_come_and_go_and_damage_is_said() {
    let dir = dir_with(&[("climb.fendle", CLIMB), ("pack.toml", PACK)]);
    let audit = |more: &[&str]| fendle(dir.path(), &[&["audit", "pack.toml"], more].concat());
    assert_eq!(audit(&["--freeze"]).code, 0);
    assert!(dir.path().join("pack.frozen.json").exists());
    fs::write(dir.path().join("pack.toml"), PACK.replace("\"high\"", "\"higher\"")).expect("writable");
    let run = audit(&[]);
    assert_eq!(run.code, 0, "{}", run.out);
    assert!(run.out.contains("pack.toml, higher: not frozen yet"), "{}", run.out);
    assert!(run.out.contains("pack.toml, high: frozen, and not in the pack any more"), "{}", run.out);
    // What cannot be won any more differs from what was.
    fs::write(dir.path().join("climb.fendle"), CLIMB.replace("at < 9; at += 1", "at < 8; at += 2"))
        .expect("writable");
    let run = audit(&[]);
    assert!(run.code == 1 && run.out.contains("frozen: verdict was solvable, is unsolvable"), "{}", run.out);
    fs::write(dir.path().join("pack.frozen.json"), "{}").expect("writable");
    let run = audit(&[]);
    assert!(run.code == 2 && run.err.contains("pack.frozen.json holds no frozen facts"), "{}", run.err);
    // A level that is not as it expects is not frozen.
    fs::write(dir.path().join("pack.toml"), format!("{PACK}expect = {{ moves = 77 }}\n")).expect("writable");
    let run = audit(&["--freeze"]);
    assert!(run.code == 2 && run.err.contains("nothing is frozen"), "{}{}", run.out, run.err);
    let run = fendle(dir.path(), &["audit", "pack.toml", "pack.toml", "--freeze"]);
    assert!(run.code == 2 && run.err.contains("name one path"), "{}{}", run.out, run.err);
}
