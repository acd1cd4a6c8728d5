//! The whole harbour pack, each level asked each question under a small limit, in words and as a value: both say the same, in lines that fit,
//! with the same exit code, and nothing is told of what was not seen.

use std::fs;
use std::path::Path;

use crate::common::{Run, dir_with, fendle};
use fendle_core::numbers::grouped;
use serde_json::Value;
use tempfile::TempDir;

/// States of each answer.
const MOST: &str = "400";

/// A folder with all level files of the pack.
fn pack() -> (TempDir, Vec<String>) {
    let dir = dir_with(&[]);
    let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packs/harbour");
    let mut files = vec![];
    for entry in fs::read_dir(from).expect("the pack is there") {
        let path = entry.expect("readable").path();
        let name = path.file_name().expect("a name").to_string_lossy().into_owned();
        fs::copy(&path, dir.path().join(&name)).expect("writable");
        files.push(name);
    }
    files.sort();
    assert!(files.len() > 25, "{files:?}");
    (dir, files)
}

/// The number in the line of a table that begins with a word.
fn in_line(text: &str, word: &str) -> Option<String> {
    let line = text.lines().find(|l| l.split_whitespace().next() == Some(word))?;
    line.split_whitespace().nth(1).map(String::from)
}

/// Asks in words and for a value; both end alike, and what cut them short is told by both.
fn both(dir: &Path, args: &[&str]) -> (Run, Option<Value>) {
    let text = fendle(dir, args);
    let value = fendle(dir, &[args, &["--format", "json"]].concat());
    let what = format!("{args:?}:\n{}{}\n{}{}", text.out, text.err, value.out, value.err);
    assert_eq!(text.code, value.code, "{what}");
    assert!((0..=3).contains(&text.code), "{what}");
    for run in [&text, &value] {
        let all = format!("{}{}", run.out, run.err);
        assert!(!all.contains("mistake in fendle") && !all.contains("panicked"), "{what}");
    }
    // What is no question of this level is said in words, on the side.
    if text.code == 2 {
        assert!(text.out.is_empty() && !text.err.is_empty(), "{what}");
        return (text, None);
    }
    let value = value.json();
    let stopped = &value["stopped_by"]["words"];
    let plain = text.out.split_whitespace().collect::<Vec<_>>().join(" ");
    if let Some(words) = stopped.as_str() {
        assert!(words.contains("--max-states") || words.contains("layouts"), "{what}");
        assert!(plain.contains(words), "{what}");
    } else {
        assert!(text.code != 3 || plain.contains("undecided"), "{what}");
    }
    for line in text.out.lines() {
        // A board is as wide as it is.
        let is_words = line.split_whitespace().filter(|w| w.chars().count() > 3).count() > 4;
        let is_line = line.contains("--at takes");
        assert!(
            !is_words || is_line || line.chars().count() <= 120,
            "{} letters: {line}\n{what}",
            line.chars().count()
        );
    }
    (text, Some(value))
}

#[test]
fn explored_in_words_and_as_a_value() {
    let (dir, files) = pack();
    let (mut cut, mut whole) = (0, 0);
    for file in &files {
        let (text, value) = both(dir.path(), &["explore", file, "--max-states", MOST]);
        // More layouts than can be weighed: nothing was explored.
        let Some(v) = value.filter(|v| v["why"].is_null()) else { continue };
        let n = |key: &str| v[key].as_u64().unwrap_or_else(|| panic!("{key} of {file}: {v}"));
        let sum = ["goal", "lost", "over", "stuck", "dead", "winnable", "free", "open"]
            .iter()
            .map(|k| n(k))
            .sum::<u64>();
        assert_eq!(sum, n("states"), "{file}: {v}");
        let depths: u64 = v["per_depth"].as_array().expect("a list").iter().filter_map(Value::as_u64).sum();
        assert_eq!(depths, n("states"), "{file}: {v}");
        for key in ["states", "transitions", "depth", "goal", "lost", "dead", "winnable", "open"] {
            if let Some(told) = in_line(&text.out, key) {
                assert_eq!(told, grouped(n(key)), "{key} of {file}: {}", text.out);
            }
        }
        assert_eq!(in_line(&text.out, "states"), Some(grouped(n("states"))), "{file}: {}", text.out);
        assert!(n("states") <= 400, "{file}: {v}");
        if v["complete"] == true {
            assert!(text.code == 0 && n("open") == 0, "{file}: {v}");
            whole += 1;
        } else {
            assert!(text.code == 3 && !text.out.contains("unsolvable"), "{file}: {}", text.out);
            cut += 1;
        }
    }
    assert!(cut > 10 && whole > 0, "{cut} {whole}");
}

#[test]
fn solved_in_words_and_as_a_value() {
    let (dir, files) = pack();
    let mut verdicts = std::collections::BTreeMap::new();
    for file in &files {
        let (text, value) = both(dir.path(), &["solve", file, "--max-states", MOST, "--brief"]);
        let Some(v) = value else { continue };
        let verdict = v["verdict"].as_str().unwrap_or("known").to_string();
        let solution = v["solution"].as_array();
        match (verdict.as_str(), text.code) {
            ("undecided", 3) => {
                assert!(solution.is_none() && v["shortest"] != true, "{file}: {v}");
                assert!(text.out.contains("undecided"), "{file}: {}", text.out);
            }
            ("undecided", code) => panic!("{code}, {file}: {v}"),
            ("unsolvable" | "no goal", code) => assert_eq!(code, 1, "{file}: {v}"),
            (_, 0) if solution.is_some() => {
                let moves = solution.expect("moves").len() as u64;
                assert_eq!(v["moves"].as_u64(), Some(moves), "{file}: {v}");
                let words = if moves == 1 { "1 move".into() } else { format!("{} moves", grouped(moves)) };
                assert!(moves == 0 || text.out.contains(&words), "{words}, {file}: {}", text.out);
                // It can be played: the last position is a won one.
                let play: Vec<&str> = solution.expect("moves").iter().filter_map(Value::as_str).collect();
                if v["begins_at"].is_null() && v["played"] != "with knowledge" && !play.is_empty() {
                    let known = ["trace", file, &play.join("; "), "--known", "--format", "json"];
                    let traced = fendle(dir.path(), &known);
                    let traced = if traced.code == 0 {
                        traced
                    } else {
                        fendle(dir.path(), &[&known[..3], &known[4..]].concat())
                    };
                    assert_eq!(traced.code, 0, "{file}: {}{}", traced.out, traced.err);
                    assert!(traced.out.contains("\"won\""), "{file}: {}", traced.out);
                }
            }
            _ => {}
        }
        *verdicts.entry(verdict).or_insert(0) += 1;
    }
    assert!(verdicts.len() > 1, "{verdicts:?}");
}

#[test]
fn moves_and_chances_in_words_and_as_a_value() {
    let (dir, files) = pack();
    let (mut asked, mut bounds) = (0, 0);
    for file in &files {
        let (text, value) = both(dir.path(), &["moves", file]);
        let v = value.unwrap_or_else(|| panic!("{file}: {}", text.err));
        let of = |key: &str| v[key].as_array().map_or(0, Vec::len);
        let line = format!("{} allowed, {} refused", of("allowed"), of("refused"));
        let told = text.out.contains(&line)
            || of("refused") == 0 && text.out.contains(&format!("{} allowed", of("allowed")));
        assert!(told || v["status"] != "running", "{line}, {file}: {}", text.out);
        let (text, value) =
            both(dir.path(), &["odds", file, "--max-states", MOST, "--plays", "2", "--policy", "random"]);
        let Some(v) = value else { continue };
        asked += 1;
        let p = &v["best_probability"];
        if let (Some(low), Some(high)) = (p["at_least"].as_f64(), p["at_most"].as_f64()) {
            assert!((0.0..=1.0).contains(&low) && low <= high && high <= 1.0, "{file}: {v}");
            bounds += 1;
        }
        if v["complete"] == false {
            assert!(v["certain"] != false || v["best_probability"].is_object(), "{file}: {v}");
            assert!(text.code == 3, "{file}: {}", text.out);
        }
    }
    assert!(asked > 15, "{asked} {bounds}");
}

#[test]
fn reasons_and_graphs_in_words_and_as_a_value() {
    let (dir, files) = pack();
    let (mut reasons, mut drawn) = (0, 0);
    for file in &files {
        // What is proved of the largest boards, whatever is seen, takes long here.
        if ["basin.toml", "deck.toml", "rafts.toml"].contains(&file.as_str()) {
            continue;
        }
        let (_, value) = both(dir.path(), &["why", file, "--max-states", MOST]);
        if let Some(v) = value {
            assert!(v["why"].is_string() || v["status"].is_string(), "{file}: {v}");
            reasons += 1;
        }
        let (text, value) = both(dir.path(), &["graph", file, "--max-states", MOST, "-o", "space.json"]);
        let Some(v) = value else { continue };
        drawn += 1;
        let read: Value =
            serde_json::from_str(&fs::read_to_string(dir.path().join("space.json")).expect("it was written"))
                .expect("JSON");
        let nodes = read["nodes"].as_array().unwrap_or_else(|| panic!("{file}: no nodes")).len() as u64;
        let told = v["graphs"][0]["states"].as_u64().or(v["states"].as_u64());
        assert!(nodes <= 400 && told.is_none_or(|n| n >= nodes), "{nodes}, {told:?}, {file}: {v}");
        assert!(text.out.contains(&grouped(nodes)), "{nodes}, {file}: {}", text.out);
    }
    assert!(reasons > 10 && drawn > 10, "{reasons} {drawn}");
}
