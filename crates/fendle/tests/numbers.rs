//! Spaces of real size through the program: states as numbers, native code, one thread or several. Counts are known from
//! elsewhere: a closed formula, or a small search in the test.

use std::collections::HashSet;
use std::path::Path;

use serde_json::Value;

fn json(dir: &Path, args: &[&str]) -> (i32, Value) {
    let mut all = args.to_vec();
    all.extend(["--format", "json"]);
    let out = assert_cmd::Command::cargo_bin("fendle").expect("built").current_dir(dir).args(&all).output();
    let out = out.expect("runs");
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let value = serde_json::from_str(&text).unwrap_or_else(|e| panic!("{e}: {text}"));
    (out.status.code().expect("a code"), value)
}

fn text(dir: &Path, args: &[&str]) -> String {
    let out = assert_cmd::Command::cargo_bin("fendle").expect("built").current_dir(dir).args(args).output();
    String::from_utf8_lossy(&out.expect("runs").stdout).into_owned()
}

const SLIDE: &str = "model = 'slide'\nvalues.target = '''\n1 2 3\n4 5 6\n7 8 .\n'''\n[[level]]\n";
const YARD: &str = "model = 'shove'\n[[level]]\nstart.yard = '''\nA...H..\n.o.o...\n..._...\n.o._..w\n'''\n";

const WELL: &str = "model = 'fall'\n[[level]]\nsize = [20, 10]\nvalues.queue = 'knee knee'\n";

/// Without what differs by nature: time, memory, and how the space was kept.
fn bare(mut v: Value) -> Value {
    let map = v.as_object_mut().expect("an object");
    for key in ["effort", "numbers", "edges_kept", "table_bytes", "limits"] {
        map.remove(key);
    }
    v
}

#[test]
fn executors_and_threads_change_no_answer() {
    let dir = tempfile::tempdir().expect("a folder");
    std::fs::write(dir.path().join("slide.toml"), SLIDE).expect("written");
    std::fs::write(dir.path().join("yard.toml"), YARD).expect("written");
    for (file, more) in [("slide.toml", "--past-goals"), ("yard.toml", "--quiet")] {
        let all: Vec<Value> =
            [("native", "1"), ("native", "2"), ("native", "7"), ("plain", "1"), ("plain", "2")]
                .iter()
                .map(|(executor, threads)| {
                    let args = ["explore", file, more, "--executor", executor, "--threads", threads];
                    let (code, v) = json(dir.path(), &args);
                    assert_eq!(code, 0, "{v}");
                    assert!(
                        v["numbers"].as_u64().is_some(),
                        "{file} is large enough to be kept by number: {v}"
                    );
                    bare(v)
                })
                .collect();
        assert!(all.windows(2).all(|w| w[0] == w[1]), "{file}");
    }
    let said = text(dir.path(), &["explore", "slide.toml", "--past-goals", "-v"]);
    assert!(
        said.contains("states are numbers below 181,440") && said.contains("run as native code"),
        "{said}"
    );
    let said = text(dir.path(), &["explore", "slide.toml", "--past-goals", "-v", "--executor", "plain"]);
    assert!(said.contains("run by the interpreter"), "{said}");
}

#[test]
fn a_wide_well_is_kept_as_boards_and_what_moves() {
    let dir = tempfile::tempdir().expect("a folder");
    std::fs::write(dir.path().join("well.toml"), WELL).expect("written");
    let ask = |more: &[&str]| {
        let (code, v) = json(dir.path(), &[&["explore", "well.toml"], more].concat());
        assert_eq!(code, 0, "{v}");
        v
    };
    let all: Vec<Value> = [("native", "1"), ("native", "2"), ("plain", "7")]
        .iter()
        .map(|(executor, threads)| bare(ask(&["--executor", executor, "--threads", threads])))
        .collect();
    assert!(all.windows(2).all(|w| w[0] == w[1]));
    // Each board is kept once; the second piece has hundreds of places over each.
    let said = text(dir.path(), &["explore", "well.toml", "-v"]);
    let line = said
        .lines()
        .find(|l| l.starts_with("what rarely changes in a state is kept once, "))
        .expect("a line");
    let number = |words: &str| words.replace(',', "").parse::<u64>().expect("a number");
    let stills = number(line.split(' ').nth(9).expect("stills"));
    assert!(stills > 1 && stills * 20 < all[0]["states"].as_u64().expect("states"), "{line}");
    // The structure is found on it, too: on all threads, and with one.
    let structured = |threads| {
        let mut v = bare(ask(&["--structure", "--threads", threads]));
        v.as_object_mut().expect("an object").remove("structure").expect("a structure")
    };
    assert_eq!(structured("1"), structured("2"));
}

#[test]
fn a_yard_has_the_states_and_fatal_moves_that_a_small_search_finds() {
    let dir = tempfile::tempdir().expect("a folder");
    std::fs::write(dir.path().join("yard.toml"), YARD).expect("written");
    let (_, v) = json(dir.path(), &["explore", "yard.toml"]);
    // The same yard by hand: cells as bits, 4 x 7.
    let cell = |r: i32, c: i32| (0..4).contains(&r).then(|| (0..7).contains(&c).then(|| r * 7 + c)).flatten();
    let (wall, water) = (1u32 << 4, 1u32 << 27);
    let berth = 1u32 << 17 | 1 << 24;
    let start = (0i32, 1u32 << 8 | 1 << 10 | 1 << 22);
    let next = |&(tug, bodies): &(i32, u32)| -> Vec<(i32, u32)> {
        [(-1, 0), (0, 1), (1, 0), (0, -1)]
            .into_iter()
            .filter_map(|(dr, dc)| {
                let to = cell(tug / 7 + dr, tug % 7 + dc).filter(|t| (wall | water) >> t & 1 == 0)?;
                if bodies >> to & 1 == 0 {
                    return Some((to, bodies));
                }
                let beyond = cell(to / 7 + dr, to % 7 + dc).filter(|b| (wall | bodies) >> b & 1 == 0)?;
                let rest = bodies & !(1 << to);
                Some((to, if water >> beyond & 1 == 1 { rest } else { rest | 1 << beyond }))
            })
            .collect()
    };
    let ended = |s: &(i32, u32)| s.1 & berth == berth || s.1.count_ones() < 2;
    let mut seen = HashSet::from([start]);
    let mut list = vec![start];
    let mut arrows = vec![];
    let mut i = 0;
    while i < list.len() {
        let from = list[i];
        i += 1;
        if ended(&from) {
            continue;
        }
        for to in next(&from) {
            arrows.push((from, to));
            if seen.insert(to) {
                list.push(to);
            }
        }
    }
    let mut winnable: HashSet<(i32, u32)> = list.iter().filter(|s| s.1 & berth == berth).copied().collect();
    let goals = winnable.len();
    loop {
        let more: Vec<_> =
            arrows.iter().filter(|a| winnable.contains(&a.1) && !winnable.contains(&a.0)).collect();
        if more.is_empty() {
            break;
        }
        winnable.extend(more.into_iter().map(|a| a.0));
    }
    let fatal = arrows.iter().filter(|a| winnable.contains(&a.0) && !winnable.contains(&a.1)).count();
    let got = |k: &str| v[k].as_u64().unwrap_or_else(|| panic!("{k} in {v}")) as usize;
    assert_eq!((got("states"), got("transitions"), got("goal")), (list.len(), arrows.len(), goals));
    assert_eq!((got("winnable"), got("fatal_moves")), (winnable.len() - goals, fatal));
    assert!(list.len() > 32_768, "{} states are kept by number", list.len());
}

#[test]
fn deep_spaces_are_sorted_as_wide_ones() {
    // Two wheels of 401 teeth that count together: one way through all 160,801 states, each at a depth of its own. And a single
    // wheel, whose values are too many to be followed.
    let odometer = "model odometer\nstate high: 0..400\nstate low: 0..400\n\
        move turn { if low < 400 { low = low + 1 } else { low = 0; high = high + 1 } }\n\
        goal high == 400 and low == 400\n";
    let wheel = "model wheel\nstate low: 0..70000\nmove turn { low = low + 1 }\ngoal low == 70000\n";
    let dir = tempfile::tempdir().expect("a folder");
    for (name, model, start, most) in
        [("odometer", odometer, "high = 0, low = 0", 160_800), ("wheel", wheel, "low = 0", 70_000)]
    {
        let range = most + 1;
        std::fs::write(dir.path().join(format!("{name}.fendle")), model).expect("written");
        let level = format!("model = '{name}.fendle'\n[[level]]\nstart = {{ {start} }}\n");
        std::fs::write(dir.path().join(format!("{name}.toml")), level).expect("written");
        let (code, v) = json(dir.path(), &["explore", &format!("{name}.toml")]);
        let got = |k: &str| v[k].as_u64().unwrap_or_else(|| panic!("{k} in {v}"));
        assert_eq!((code, got("states"), got("depth"), got("shortest")), (0, most + 1, most, most), "{name}");
        assert_eq!((got("winnable"), got("goal"), got("dead")), (most, 1, 0), "{name}");
        // The ways of the one lead backwards; edges of the other are kept, which its rules do not tell from behind.
        assert_eq!((v["numbers"].as_u64(), &v["edges_kept"]), (Some(range), &(name == "wheel").into()));
    }
}

#[test]
fn limits_hold_in_spaces_by_number() {
    let dir = tempfile::tempdir().expect("a folder");
    let large = SLIDE.replace("1 2 3\n4 5 6\n7 8 .", "1 2 3 4\n5 6 7 8\n9 10 11 .");
    std::fs::write(dir.path().join("slide.toml"), large).expect("written");
    let args = ["explore", "slide.toml", "--past-goals", "--max-states", "400000"];
    let (code, v) = json(dir.path(), &args);
    assert_eq!((code, v["states"].as_u64(), v["limit"].as_str()), (3, Some(400_000), Some("max_states")));
    assert_eq!(v["numbers"].as_u64(), Some(239_500_800));
    // What was seen of the last depth does not depend on the threads.
    let (_, other) = json(dir.path(), &[&args[..], &["--threads", "1"]].concat());
    assert_eq!(bare(v), bare(other));
    let began = std::time::Instant::now();
    let (code, v) = json(dir.path(), &["explore", "slide.toml", "--past-goals", "--time", "1s"]);
    assert_eq!((code, v["limit"].as_str()), (3, Some("time")));
    assert!(began.elapsed().as_secs() < 10, "it went on for {:?}", began.elapsed());
    // A budget that the cells alone would fill keeps to hashed tables, and says so when they are full.
    let (code, v) = json(dir.path(), &["explore", "slide.toml", "--past-goals", "--memory", "40M"]);
    assert_eq!((code, v["limit"].as_str(), v["numbers"].as_u64()), (3, Some("memory"), None));
    let peak = v["effort"]["peak_memory_bytes"].as_u64().expect("a peak");
    assert!(peak < (40 + 30) << 20, "{peak}");
}

/// Half of all arrangements of nine tiles can be reached, with the gap on each cell equally often; play ends at the target.
#[test]
fn a_large_space_is_asked_without_a_log_of_its_transitions() {
    let dir = tempfile::tempdir().expect("a folder");
    let level = format!("{SLIDE}start.tile = '''\n1 2 3\n4 5 .\n7 8 6\n'''\n");
    std::fs::write(dir.path().join("deck.toml"), level).expect("written");
    let half: u64 = (1..=9).product::<u64>() / 2;
    let with_gap = half / 9;
    for threads in ["1", "2"] {
        let ask = |args: &[&str]| {
            let (code, v) = json(dir.path(), &[args, &["--threads", threads]].concat());
            assert_eq!(code, 0, "{v}");
            v
        };
        let found = ask(&["find", "deck.toml", "tile[r1c1] == 0"]);
        assert_eq!((&found["count"], &found["depth"]), (&with_gap.into(), &3.into()));
        // One move before it stands right of there or below it.
        let before = ask(&["find", "deck.toml", "tile[r1c1] == 0", "--moves-before", "1"]);
        assert_eq!((&before["count"], &before["depth"]), (&(2 * with_gap).into(), &2.into()));
        let won = ask(&["find", "deck.toml", "won and tile[r3c3] == 0"]);
        assert_eq!((&won["count"], &won["depth"]), (&1.into(), &1.into()));
        let space = ask(&["explore", "deck.toml", "--structure"]);
        assert_eq!(space["edges_kept"], false, "the transitions are made again");
        // Neighbours of all cells, but for those of the gap where the game is won.
        let moves = 24 * with_gap - 2;
        assert_eq!((&space["states"], &space["transitions"]), (&half.into(), &moves.into()));
        let s = &space["structure"];
        // All but the target reach each other; two of them lead to it, and nothing leads back.
        assert_eq!((&s["rooms"]["rooms"], &s["rooms"]["largest"]), (&2.into(), &(half - 1).into()));
        assert_eq!((&s["rooms"]["doors"], &s["rooms"]["essentially_unique"]), (&2.into(), &false.into()));
        assert_eq!(
            (&s["branching"]["all"], &s["branching"]["part"], &s["widest"]),
            (&(half - 1).into(), &moves.into(), &4.into())
        );
        assert_eq!(s["must_pass"], serde_json::json!(["1 2 3/4 5 ./7 8 6", "1 2 3/4 5 6/7 8 ."]));
        let why = ask(&["why", "deck.toml"]);
        assert_eq!((&why["moves_to_goal"], &why["moves"]), (&1.into(), &3.into()));
    }
}

/// Rings on three posts: one digit a ring, and every number is a state.
#[test]
fn rings_are_numbered_by_the_posts_that_they_lie_on() {
    let dir = tempfile::tempdir().expect("a folder");
    std::fs::write(
        dir.path().join("rings.toml"),
        "model = 'coil'\nvalues = { rings = 10, posts = 3 }\n[[level]]\n",
    )
    .expect("written");
    let all = 3u64.pow(10);
    let answers: Vec<Value> = [("native", "1"), ("native", "2"), ("native", "7"), ("plain", "2")]
        .iter()
        .map(|(executor, threads)| {
            let args = ["explore", "rings.toml", "--executor", executor, "--threads", threads];
            let (code, v) = json(dir.path(), &args);
            assert_eq!((code, &v["numbers"], &v["edges_kept"]), (0, &all.into(), &true.into()), "{v}");
            bare(v)
        })
        .collect();
    assert!(answers.windows(2).all(|w| w[0] == w[1]));
    let v = &answers[0];
    assert_eq!((&v["states"], &v["goal"], &v["winnable"]), (&all.into(), &1.into(), &(all - 1).into()));
    // Three moves from each state, two where all rings lie on one post, and none where the game is won.
    assert_eq!((&v["transitions"], &v["shortest"]), (&(3 * all - 3 - 2).into(), &1023.into()));
    let (code, v) = json(dir.path(), &["solve", "rings.toml"]);
    assert_eq!((code, v["moves"].as_u64()), (0, Some(1023)));
    // Where any may be laid upon any other they are 7! orders on three piles of 36 heights: the numbers that were guessed are given up.
    let heap = "model heap\nstate pile: array 1..3 of list of 1..7 max 7\nspread 1..7 over pile\n\
        setup { for k in 1..7 { pile[1].push(8 - k) } }\n\
        move shift(a: 1..3, b: 1..3) {\n    offer a != b\n    refuse \"empty\" unless len(pile[a]) > 0\n    take last 1 of pile[a] onto pile[b]\n}\n\
        goal len(pile[3]) == 7\n";
    std::fs::write(dir.path().join("heap.fendle"), heap).expect("written");
    std::fs::write(dir.path().join("heap.toml"), "model = 'heap.fendle'\n[[level]]\n").expect("written");
    let (code, v) = json(dir.path(), &["explore", "heap.toml"]);
    let orders = 5040 * 36u64;
    assert_eq!((code, &v["states"], &v["numbers"]), (0, &orders.into(), &orders.into()), "{v}");
    assert_eq!((&v["goal"], &v["winnable"]), (&5040.into(), &(orders - 5040).into()));
    // Where there is no room for the edges they are made again. (Workers are as many as threads: one for each part of the tables took more
    // than such a budget before anything was seen.)
    let (code, tight) = json(dir.path(), &["explore", "rings.toml", "--memory", "24M", "--threads", "2"]);
    assert_eq!((code, &tight["edges_kept"]), (0, &false.into()));
    assert_eq!(bare(tight), answers[0]);
    let said = text(dir.path(), &["check", "rings.toml", "-v"]);
    assert!(
        said.contains("each of them sorted: a guess") && said.contains("a state is a number below 59,049"),
        "{said}"
    );
}

/// Where whole states and their transitions do not fit the budget only remainders of the states are kept: every answer is the same.
#[test]
fn a_well_that_does_not_fit_whole_is_seen_in_remainders() {
    let dir = tempfile::tempdir().expect("a folder");
    let level = "model = 'fall'\n[[level]]\nname = 'a'\nsize = [8, 4]\n\
        values.queue = 'knee knee bale pole knee bale pole knee'\n";
    std::fs::write(dir.path().join("well.toml"), level).expect("written");
    let (code, roomy) = json(dir.path(), &["explore", "well.toml"]);
    assert_eq!((code, &roomy["edges_kept"], &roomy["numbers"]), (0, &true.into(), &Value::Null), "{roomy}");
    // How much the program itself takes differs from machine to machine: one of these budgets is too small for whole states and enough for remainders.
    let mut seen_in_remainders = 0;
    for budget in [28, 31] {
        let args = ["explore", "well.toml", "--memory", &format!("{budget}M"), "--threads", "2"];
        let (code, tight) = json(dir.path(), &args);
        let peak = tight["effort"]["peak_memory_bytes"].as_u64();
        assert!(
            peak.is_none_or(|peak| peak <= (budget + 30) << 20),
            "thirty more than {budget} at the most: {peak:?}"
        );
        if code != 0 {
            assert_eq!((code, &tight["stopped_by"]["limit"]), (3, &"memory".into()), "{tight}");
            continue;
        }
        assert_eq!(tight["edges_kept"], false, "{tight}");
        assert_eq!(bare(tight), bare(roomy.clone()));
        let said = text(dir.path(), &[&args[..], &["-v"]].concat());
        assert!(said.contains("memory ran short"), "{said}");
        if said.contains("of the 52 bits of a state only a remainder is kept") {
            seen_in_remainders += 1;
            let (code, alone) = json(dir.path(), &[&args[..4], &["--threads", "1"]].concat());
            assert!(code == 3 || bare(alone) == bare(roomy.clone()));
        }
    }
    assert!(seen_in_remainders > 0);
}
