//! Arguments: every command says how it is used, and sizes, durations and counts are read as they are written.

use crate::common::{dir_with, fendle};

const LEVEL: &str = "model = \"shove\"\n[[level]]\nname = \"lane\"\nstart.yard = \"A.o_\"\n";

/// The names under a heading of a help text.
fn listed(help: &str, heading: &str) -> Vec<String> {
    let after = help.split(heading).nth(1).expect("the heading is there");
    let lines = after.lines().skip(1).take_while(|l| !l.trim().is_empty());
    // What a name is explained with goes on in lines that are indented more.
    let names = lines.filter(|l| l.starts_with("  ") && !l.starts_with("   "));
    names.filter_map(|l| l.split_whitespace().next()).map(String::from).collect()
}

#[test]
fn every_command_says_how_it_is_used() {
    let dir = dir_with(&[]);
    let all = fendle(dir.path(), &["--help"]);
    let mut commands = listed(&all.out, "Commands:");
    commands.retain(|name| name != "help");
    assert!(commands.len() > 20, "{commands:?}");
    for name in &commands {
        let help = fendle(dir.path(), &[name, "--help"]);
        assert!(help.code == 0 && help.out.contains("Usage:"), "{name}: {}{}", help.out, help.err);
        assert!(help.out.contains(&format!("fendle {name}")), "{name}: {}", help.out);
        let wrong = fendle(dir.path(), &[name, "--no-such-option"]);
        assert!(wrong.code == 2 && wrong.err.contains("--no-such-option"), "{name}: {}", wrong.err);
    }
    let near = fendle(dir.path(), &["slove"]);
    assert!(near.code == 2 && near.err.contains("solve"), "{}", near.err);
}

#[test]
fn sizes_durations_and_counts_are_read() {
    let dir = dir_with(&[("lane.toml", LEVEL)]);
    let run = |option: &str, value: &str| {
        let option = format!("{option}={value}");
        fendle(dir.path(), &["explore", "lane.toml", &option])
    };
    let plain = fendle(dir.path(), &["explore", "lane.toml"]).out;
    for (option, value) in [
        ("--memory", "500M"),
        ("--memory", "2G"),
        ("--memory", "2GiB"),
        ("--memory", "900000K"),
        ("--time", "2m"),
        ("--time", "60s"),
        ("--time", "90000ms"),
        ("--time", "90"),
        ("--max-states", "1_000_000"),
        ("--max-states", "5000"),
    ] {
        let run = run(option, value);
        assert_eq!((run.code, &run.out), (0, &plain), "{option} {value}: {}", run.err);
    }
    for (option, value) in [
        ("--memory", "12"),
        ("--memory", "many"),
        ("--memory", ""),
        ("--memory", "-5M"),
        ("--time", "-1s"),
        ("--time", "soon"),
        ("--max-states", "0"),
        ("--max-states", "-3"),
        ("--max-states", "1.5"),
        ("--threads", "none"),
    ] {
        let run = run(option, value);
        assert_eq!(run.code, 2, "{option} {value}: {}{}", run.out, run.err);
        assert!(run.err.contains(option), "{option} {value}: {}", run.err);
        assert!(run.out.is_empty(), "{option} {value}: {}", run.out);
    }
    // A limit that is small is one: what was seen is told, and the rest is not decided.
    let few = fendle(dir.path(), &["explore", "lane.toml", "--max-states", "2"]);
    assert_eq!(few.code, 3, "{}{}", few.out, few.err);
}
