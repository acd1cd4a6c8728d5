//! Limits, for every command alike: one deadline, one budget of memory, interrupts, and files that are whole or not there.
//! No test asks how fast the machine is: what would go on for ever is ended by the guard of the helper.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::common::{Run, dir_with, fendle};

/// A board that no machine finishes.
const WIDE: &str = "model = 'merge'\n[[level]]\nname = 'wide'\nvalues = { high = 4, wide = 4 }\n";

/// A yard with ten bodies.
const YARD: &str = "model = 'shove'\n[[level]]\nname = 'ten'\nstart.yard = '''\n........\n.o.o.o..\n..o.A...\n.o._.._.\n.._._..o\n_._.._..\n.o..o..o\n'''\n";

/// A yard with seven bodies that can be solved; nobody knows in how few moves.
const BASIN: &str = "model = 'shove'\n[[level]]\nname = 'seven'\nstart.yard = '''\nHHHHHHHHHHH\nH.........H\nH.ooo.H.o.H\n\
    H......H..H\nH.oH.H....H\nH.....Ao..H\nH.o.___H..H\nH...____..H\nHHHHHHHHHHH\n'''\n";

/// A real board of matches with refill by chance.
const EIGHT: &str = "model = 'match'\n[[level]]\nname = 'eight'\n\
    values = { kinds = 5, refill = 'chance', gathering = true, cascades = 4, limit = 9, wanted = [9, 9, 9, 0, 0] }\n\
    start.tile = '''\n12345123\n23451234\n34512345\n45123451\n51234512\n12345123\n23451234\n34351235\n'''\n";

const BIG: &str = "model big\nstate bits: array 1..20 of 0..1 = 0\nstate done: bool = false\n\
    move go() {\n    offer not done\n    for i in 1..20 { bits[i] = draw in 0..1 }\n    done = true\n}\n\
    goal done and bits[1] == 1\n";

fn with_all() -> tempfile::TempDir {
    dir_with(&[
        ("wide.toml", WIDE),
        ("yard.toml", YARD),
        ("basin.toml", BASIN),
        ("eight.toml", EIGHT),
        ("big.fendle", BIG),
        ("big.toml", "model = 'big.fendle'\n[[level]]\nname = 'b'\n"),
    ])
}

/// Runs until the first Ctrl-C, which comes after a second.
fn interrupted(dir: &Path, args: &[&str]) -> Run {
    let child = Command::new(assert_cmd::cargo::cargo_bin("fendle"))
        .current_dir(dir)
        .args(args)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("it runs");
    std::thread::sleep(std::time::Duration::from_secs(1));
    let sent = Command::new("kill").args(["-INT", &child.id().to_string()]).status();
    assert!(sent.is_ok_and(|s| s.success()), "the signal was sent");
    let out = child.wait_with_output().expect("it ends");
    Run {
        code: out.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&out.stdout).into_owned(),
        err: String::from_utf8_lossy(&out.stderr).into_owned(),
    }
}

#[test]
fn every_command_ends_with_its_time() {
    let dir = with_all();
    for args in [
        &["explore", "wide.toml"][..],
        &["explore", "yard.toml", "--structure"],
        &["solve", "basin.toml", "--shortest"],
        &["find", "wide.toml", "stuck"],
        &["why", "yard.toml", "--all"],
        &["odds", "wide.toml"],
        &["graph", "yard.toml", "-o", "x.html"],
        &["graph", "yard.toml", "-o", "x.json"],
        &["review", "yard.toml", "go up"],
        &["trace", "yard.toml", "go up", "--verdict"],
        &["compare", "yard.toml", "yard.toml", "--spaces"],
    ] {
        let mut all = args.to_vec();
        all.extend(["--time", "500ms"]);
        let r = fendle(dir.path(), &all);
        assert_eq!(r.code, 3, "{args:?}\n{}{}", r.out, r.err);
        assert!(!r.out.contains("memory") && !r.err.contains("memory"), "{args:?}\n{}{}", r.out, r.err);
        all.extend(["--format", "json"]);
        let r = fendle(dir.path(), &all);
        assert_eq!(r.code, 3, "{args:?}\n{}{}", r.out, r.err);
        if args[0] != "graph" {
            assert_eq!(r.json()["stopped_by"]["limit"], "time", "{args:?}\n{}", r.out);
        }
    }
    let r = fendle(dir.path(), &["check", "eight.toml", "--time", "500ms"]);
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
    // Each level is audited with what the others leave of the one deadline.
    fs::write(dir.path().join("many.toml"), BASIN.replace("[[level]]", "[[level]]\nexpect.moves = 30"))
        .expect("writable");
    let r = fendle(dir.path(), &["audit", "many.toml", "--time", "500ms"]);
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
}

#[cfg(unix)]
#[test]
fn an_interrupt_ends_every_command_with_what_is_known() {
    let dir = with_all();
    for args in [
        &["explore", "yard.toml"][..],
        &["explore", "yard.toml", "--structure"],
        &["solve", "basin.toml"],
        &["find", "wide.toml", "stuck"],
        &["why", "yard.toml", "--all"],
        &["odds", "wide.toml"],
        &["graph", "yard.toml", "-o", "x.json"],
        &["compare", "yard.toml", "yard.toml", "--spaces"],
        &["check", "eight.toml"],
    ] {
        let r = interrupted(dir.path(), args);
        assert_eq!(r.code, 130, "{args:?}\n{}{}", r.out, r.err);
        assert!(!r.err.contains("panicked"), "{args:?}\n{}", r.err);
    }
    let left: Vec<_> = fs::read_dir(dir.path()).expect("readable").filter_map(Result::ok).collect();
    assert!(left.iter().all(|f| !f.file_name().to_string_lossy().ends_with(".part")));
}

#[test]
fn knowledge_graphs_and_files_count_against_the_memory() {
    let wade = "model = 'wade'
size = [5, 5]
[[level]]
name = 'w'
values = { mires = 8, home = 'r1c1', goal_ = 'r5c5' }
";
    let pairs = "model = 'pairs'\n[[level]]\nname = 'p'\nvalues.deal = '''\n1 2 3 4\n1 2 3 4\n5 5 6 6\n'''\n";
    let dir = dir_with(&[
        ("yard.toml", YARD),
        ("basin.toml", BASIN),
        ("wade.toml", wade),
        ("pairs.toml", pairs),
        ("wide.toml", WIDE),
    ]);
    for args in [
        &["explore", "yard.toml", "--format", "json"][..],
        &["solve", "basin.toml", "--shortest", "--format", "json"],
        &["explore", "wide.toml", "--format", "json"],
        &["compare", "yard.toml", "yard.toml", "--spaces", "--format", "json"],
        &["explore", "pairs.toml", "--format", "json"],
        &["explore", "wade.toml", "--format", "json"],
    ] {
        let mut all = args.to_vec();
        all.extend(["--memory", "40M"]);
        let r = fendle(dir.path(), &all);
        assert_eq!(r.code, 3, "{args:?}\n{}{}", r.out, r.err);
        let peak = r.json()["effort"]["peak_memory_bytes"].as_u64();
        assert!(peak.is_some_and(|peak| peak <= 52 << 20), "{args:?}: {peak:?} bytes");
    }
}

/// What a graph and a comparison under this limit lack of what they should have.
fn lacks(dir: &Path, limit: [&str; 2]) -> Option<String> {
    let r = fendle(dir, &["graph", "yard.toml", "-o", "x.json", limit[0], limit[1]]);
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
    let text = fs::read_to_string(dir.join("x.json")).expect("it was written");
    let graph: serde_json::Value = serde_json::from_str(&text).expect("JSON");
    let (nodes, edges) = (graph["nodes"].as_array().expect("a list"), graph["edges"].as_array());
    let single = nodes.iter().take_while(|n| n["states"] == 1).count();
    // The nearest states stand for themselves.
    let depth = |n: usize| nodes[n]["depth"].as_u64().expect("a depth");
    assert!((1..single).all(|n| depth(n - 1) <= depth(n)), "nearest first");
    if single < 1_000 || single == nodes.len() {
        return Some(format!("{single} of {} nodes", nodes.len()));
    }
    // Each but the start is led to from one that is one move nearer.
    let mut led = vec![false; nodes.len()];
    led[0] = true;
    for edge in edges.expect("a list") {
        let end = |name: &str| edge[name].as_u64().expect("a node") as usize;
        led[end("to")] |= depth(end("to")) == depth(end("from")) + 1;
    }
    if let Some(n) = led[..single].iter().position(|l| !l) {
        return Some(format!("no arrow leads to node {n}"));
    }
    let asked = ["compare", "yard.toml", "basin.toml", "--spaces", "--format", "json", limit[0], limit[1]];
    let r = fendle(dir, &asked);
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
    ["first", "second"].iter().find_map(|side| {
        let states = r.json()[side]["counts"]["states"].as_u64().expect("a count");
        (states <= 1_000).then(|| format!("{side}: {states} states"))
    })
}

/// Nodes and arrows come after the search, and the second of two spaces after the first: each has its share of the time and of the memory.
#[test]
fn what_follows_a_search_has_its_share() {
    let dir = with_all();
    assert_eq!(lacks(dir.path(), ["--memory", "80M"]), None);
    // How far a few seconds reach is a matter of what else the machine does: with enough of them each has its share.
    let lacking = |time| lacks(dir.path(), ["--time", time]);
    assert!(["4s", "16s", "64s"].into_iter().any(|time| lacking(time).is_none()), "{:?}", lacking("64s"));
}

/// A board whose glyphs take long to be chosen: its two thousand positions would be written for a minute and more.
#[cfg(unix)]
#[test]
fn a_file_that_takes_too_long_is_not_written() {
    let slow = "model slow\nstate spot: set of cells\nstate n: 0..2000 = 0\n\
        derived busy: set of cells = set(c on board where count(a on board where count(b on board where b != a and b != c) > 90) > 1)\n\
        show yard layered at c {\n    \"x\" spot\n    \"b\" busy\n    \".\"\n}\n\
        move go(c: cell) {\n    offer n < 2000 and c in spot\n    n += 1\n}\ngoal n == 2000\n";
    let rows = format!("x.....\n{}", "......\n".repeat(5));
    let level = format!("model = 'slow.fendle'\n[[level]]\nname = 's'\nstart.spot = \"\"\"\n{rows}\"\"\"\n");
    let dir = dir_with(&[("slow.fendle", slow), ("slow.toml", &level)]);
    for output in ["x.json", "x.html", "x.parquet"] {
        let graph = ["graph", "slow.toml", "-o", output];
        let timed = fendle(dir.path(), &[&graph[..], &["--time", "1s"]].concat());
        let stopped = interrupted(dir.path(), &graph);
        for (r, code) in [(timed, 3), (stopped, 130)] {
            assert_eq!(r.code, code, "{output}: {}{}", r.out, r.err);
            assert!(r.out.contains("undecided: ") && r.err.contains("is not written"), "{}{}", r.out, r.err);
        }
        // Neither the file nor a part of it is left.
        assert_eq!(fs::read_dir(dir.path()).expect("a folder").count(), 2);
    }
    let r = fendle(dir.path(), &["graph", "slow.toml", "-o", "x.json", "--most", "2"]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
}

/// Games that are played where exact values are out of reach look at no more than a fixed effort allows, and what can be known of many layouts costs
/// more of it: of a few thousand some are played, of more than that none.
#[test]
fn what_can_be_known_of_many_layouts_is_not_played_for_ever() {
    let level = |deal: &str| {
        format!("model = 'pairs'\n[[level]]\nname = 'p'\nvalues.deal = \"\"\"\n{deal}\n\"\"\"\n")
    };
    let (few, many) = (level("1 2 3 4\n1 2 3 4"), level("1 2 3 4 5\n1 2 3 4 5"));
    let dir = dir_with(&[("few.toml", &few), ("many.toml", &many)]);
    for (file, plays) in [("few.toml", true), ("many.toml", false)] {
        let ask = |more: &[&str]| {
            let odds = ["odds", file, "--max-states", "20", "--format", "json"];
            let r = fendle(dir.path(), &[&odds[..], more].concat());
            assert_eq!(r.code, 3, "{}{}", r.out, r.err);
            let v = r.json();
            assert_eq!(v["stopped_by"]["limit"], "max_states", "{v}");
            v["estimates"].as_array().map_or(0, Vec::len)
        };
        assert_eq!(ask(&[]) > 0, plays, "{file}");
        // Whoever asks for games gets them.
        assert_eq!(ask(&["--plays", "2", "--policy", "random"]), 1, "{file}");
    }
}

/// Eighteen pairs lie in more ways than any memory holds: that is told as what it is, and none of them are held past the budget.
#[test]
fn layouts_that_do_not_fit_the_memory_are_a_limit_of_memory() {
    let numbers: Vec<String> = (0..36).map(|i| (1 + i / 2).to_string()).collect();
    let rows: Vec<String> = numbers.chunks(6).map(|row| row.join(" ")).collect();
    let level = format!(
        "model = 'pairs'\n[[level]]\nname = 'p'\nvalues.deal = \"\"\"\n{}\n\"\"\"\n",
        rows.join("\n")
    );
    let dir = dir_with(&[("pairs.toml", &level)]);
    for (memory, says) in [("48M", "the memory budget"), ("400M", "layouts of what is hidden")] {
        let r = fendle(dir.path(), &["odds", "pairs.toml", "--memory", memory, "--format", "json"]);
        assert_eq!(r.code, 3, "{}{}", r.out, r.err);
        let why = r.json()["why"].as_str().map(str::to_string).expect("a reason");
        assert!(why.contains(says), "{memory}: {why}");
    }
}

/// A field of real size, where a search that goes deep asks each of its states for five hundred ways on.
#[test]
fn a_dive_on_a_large_field_ends_with_its_time() {
    let field = "model = 'sweep'\n[[level]]\nname = 'wide'\nsize = [16, 30]\nvalues = { rocks = 99, shown = 'r5c5' }\n";
    let dir = dir_with(&[("field.toml", field)]);
    let r = fendle(dir.path(), &["cases", "field.toml", "--time", "1s", "-q"]);
    // What was found by then is an answer; the guard of the helper ends what would go on.
    assert!(r.out.contains("stopped by the time of 1s"), "{}{}", r.out, r.err);
}

#[cfg(unix)]
#[test]
fn a_limit_from_outside_is_told() {
    let dir = with_all();
    let exe = assert_cmd::cargo::cargo_bin("fendle");
    let script = format!("ulimit -v 400000; {} explore yard.toml", exe.display());
    let out = Command::new("sh").args(["-c", &script]).current_dir(dir.path()).output().expect("it runs");
    let err = String::from_utf8_lossy(&out.stderr);
    assert_eq!(out.status.code(), Some(3), "{err}");
    assert!(err.contains("the system gives no more memory"), "{err}");
}

#[test]
fn states_are_cut_exactly() {
    let pairs = "model = 'pairs'\n[[level]]\nname = 'p'\nvalues.deal = '''\n1 2 3\n2 3 1\n'''\n";
    let drawn = "model = 'merge'\n[[level]]\nname = 'd'\nvalues = { high = 2, wide = 3 }\n";
    let dir = dir_with(&[("pairs.toml", pairs), ("drawn.toml", drawn), ("yard.toml", YARD)]);
    for file in ["pairs.toml", "drawn.toml", "yard.toml"] {
        for n in [1, 2, 5, 17] {
            let most = n.to_string();
            let r = fendle(dir.path(), &["explore", file, "--max-states", &most, "--format", "json"]);
            assert_eq!((r.code, r.json()["states"].as_u64()), (3, Some(n)), "{file} {n}: {}", r.err);
        }
    }
}

#[test]
fn files_are_written_whole_and_never_over_what_is_read() {
    let dir = dir_with(&[
        ("yard.toml", YARD),
        ("small.toml", "model = 'slide'\n[[level]]\nname = 's'\nvalues.target = '''\n1 2\n3 .\n'''\n"),
    ]);
    for args in [
        &["graph", "small.toml", "-o", "small.json"][..],
        &["show", "small.toml", "-o", "small.svg"],
        &["solve", "small.toml", "--proof", "small.proof"],
    ] {
        assert_eq!(fendle(dir.path(), args).code, 0, "{args:?}");
    }
    // An output that is also the input, under whatever name.
    fs::copy(dir.path().join("small.toml"), dir.path().join("small.html")).expect("writable");
    let before = fs::read(dir.path().join("small.html")).expect("readable");
    for args in [
        &["graph", "small.html", "-o", "small.html"][..],
        &["audit", "small.html", "-o", "small.html"],
        &["solve", "small.html", "--proof", "./small.html"],
        &["explore", "small.html", "-o", "small.html"],
    ] {
        let r = fendle(dir.path(), args);
        assert_eq!(r.code, 2, "{args:?}\n{}{}", r.out, r.err);
        assert!(r.err.contains("is read by this command"), "{args:?}\n{}", r.err);
        assert_eq!(fs::read(dir.path().join("small.html")).expect("readable"), before);
    }
    // Two at once: one of them is left, whole.
    let both: Vec<_> = (0..2)
        .map(|_| {
            Command::new(assert_cmd::cargo::cargo_bin("fendle"))
                .current_dir(dir.path())
                .args(["graph", "yard.toml", "-o", "both.json", "--max-states", "20000", "-q"])
                .stdout(Stdio::null())
                .spawn()
                .expect("it runs")
        })
        .collect();
    for mut child in both {
        child.wait().expect("it ends");
    }
    let text = fs::read_to_string(dir.path().join("both.json")).expect("written");
    assert!(serde_json::from_str::<serde_json::Value>(&text).is_ok());
    let names: Vec<String> = fs::read_dir(dir.path())
        .expect("readable")
        .filter_map(|f| Some(f.ok()?.file_name().to_string_lossy().into_owned()))
        .collect();
    assert!(names.iter().all(|n| !n.ends_with(".part")), "{names:?}");
}

#[test]
fn a_limit_of_the_machine_is_no_fault_of_the_model() {
    let dir = with_all();
    let r = fendle(dir.path(), &["moves", "eight.toml", "--format", "json"]);
    assert_eq!(r.code, 0, "{}", r.err);
    let v = r.json();
    let (allowed, refused) =
        (v["allowed"].as_array().expect("a list"), v["refused"].as_array().expect("a list"));
    assert!(!allowed.is_empty() && refused.iter().any(|m| m["why"] == "no line"), "{}", r.out);
    // A game that is played shows that the goal can be reached, and no more.
    let r = fendle(dir.path(), &["solve", "eight.toml"]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    let text = r.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("solvable if lucky: a game that was played reached the goal in "), "{text}");
    assert!(text.contains("was stopped by a move with more outcomes than are written down"), "{text}");
    for args in [
        &["odds", "eight.toml", "--plays", "2"][..],
        &["find", "eight.toml", "stuck"],
        &["explore", "eight.toml"],
        &["odds", "big.toml", "--plays", "2"],
        &["explore", "big.toml"],
    ] {
        let r = fendle(dir.path(), args);
        assert_eq!(r.code, 3, "{args:?}\n{}{}", r.out, r.err);
        assert!(!r.err.contains("fault") && r.out.contains("outcomes"), "{args:?}\n{}{}", r.out, r.err);
    }
    // What is drawn is drawn, however many outcomes there are.
    let name = allowed[0]["move"].as_str().expect("a name");
    assert_eq!(fendle(dir.path(), &["trace", "eight.toml", name]).code, 0);
}

#[test]
fn chances_that_are_too_fine_are_a_limit_for_both_executors() {
    // Eight draws with 2^20 weights: chances would need 160 bits.
    let model = "model fine\nstate n: array 1..8 of 0..2 = 0\nstate done: bool = false\nmove go() {\n    offer not done\n    \
        for i in 1..8 { n[i] = draw from (1 weight 1048573, 2 weight 3) }\n    done = true\n}\ngoal done\n";
    let level = "model = 'fine.fendle'\n[[level]]\nname = 'f'\nexpect.solvable = false\n";
    let dir = dir_with(&[("fine.fendle", model), ("fine.toml", level)]);
    for args in [
        &["solve", "fine.toml"][..],
        &["explore", "fine.toml"],
        &["odds", "fine.toml", "--plays", "2"],
        &["why", "fine.toml"],
        &["audit", "fine.toml"],
    ] {
        let r = fendle(dir.path(), args);
        // A game that is played needs no chances: `solve` has an example, and says what kept it from a shortest one; the
        // audit, which was told that there is none, says that it differs.
        let code = match args[0] {
            "solve" => 0,
            "audit" => 1,
            _ => 3,
        };
        assert_eq!(r.code, code, "{args:?}\n{}{}", r.out, r.err);
        if args[0] == "audit" {
            continue;
        }
        assert!(!r.err.contains("fault"), "{args:?}\n{}{}", r.out, r.err);
        let said = r.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.contains("too fine to be kept exactly"), "{args:?}\n{}{}", r.out, r.err);
    }
    assert_eq!(fendle(dir.path(), &["moves", "fine.toml"]).code, 0);
    // A move whose draws are all named needs no chances either; one that cannot be drawn so is told.
    let made = fendle(dir.path(), &["trace", "fine.toml", "go / 1 2 1 1 1 2 1 1"]);
    assert_eq!(made.code, 0, "{}{}", made.out, made.err);
    assert!(made.out.contains("n = 1: 1, 2: 2, 3: 1, 4: 1, 5: 1, 6: 2, 7: 1, 8: 1"), "{}", made.out);
    for (draws, words) in [("1 1 1 3 1 1 1 1", "has no outcome"), ("1 1 1", "has too many to be listed")] {
        let none = fendle(dir.path(), &["trace", "fine.toml", &format!("go / {draws}")]);
        let said = format!("{}{}", none.out, none.err);
        assert!(
            none.code != 0 && said.split_whitespace().collect::<Vec<_>>().join(" ").contains(words),
            "{said}"
        );
    }
}

#[test]
fn a_closed_pipe_is_no_error() {
    let dir = with_all();
    let mut child = Command::new(assert_cmd::cargo::cargo_bin("fendle"))
        .current_dir(dir.path())
        .args(["moves", "eight.toml"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("it runs");
    drop(child.stdout.take());
    let out = child.wait_with_output().expect("it ends");
    assert_eq!(out.status.code(), Some(0));
    assert!(out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
}
