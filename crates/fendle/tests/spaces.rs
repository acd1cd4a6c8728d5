//! Random yards, written out as graphs by the program itself, and every other command asked about them: what `find`,
//! `solve`, `moves`, `review`, `trace`, `explore` and `compare` say is recomputed here from the graph by plain search.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::fs;
use std::path::Path;

use crate::common::{Run, dir_with, fendle};
use rand::{Rng, SeedableRng, rngs::SmallRng};
use serde_json::Value;

/// A space: positions with depth and status, and moves between them.
struct Graph {
    text: Vec<String>,
    depth: Vec<u64>,
    status: Vec<String>,
    /// For each position its moves: name, and where it leads.
    moves: Vec<Vec<(String, usize)>>,
}

fn yard(rng: &mut SmallRng) -> String {
    let (rows, cols) = (rng.random_range(2..4), rng.random_range(3..6));
    let mut cells = vec!['.'; rows * cols];
    let mut put = |glyph: char, rng: &mut SmallRng| {
        let free: Vec<usize> = (0..cells.len()).filter(|i| cells[*i] == '.').collect();
        if !free.is_empty() {
            cells[free[rng.random_range(0..free.len())]] = glyph;
        }
    };
    put('A', rng);
    for _ in 0..rng.random_range(1..3) {
        put('o', rng);
        put('_', rng);
    }
    for glyph in ['H', 'w'] {
        if rng.random() {
            put(glyph, rng);
        }
    }
    cells.chunks(cols).map(|r| r.iter().collect::<String>()).collect::<Vec<_>>().join("\n")
}

fn level(name: &str, board: &str) -> String {
    format!("[[level]]\nname = '{name}'\nstart.yard = '''\n{board}\n'''\n")
}

fn ask(dir: &Path, args: &[&str]) -> Run {
    fendle(dir, args)
}

fn json(dir: &Path, args: &[&str]) -> Value {
    let mut all = args.to_vec();
    all.extend(["--format", "json"]);
    ask(dir, &all).json()
}

impl Graph {
    fn read(dir: &Path, name: &str) -> Graph {
        let r = ask(dir, &["graph", "yards.toml", "--level", name, "-o", "g.json"]);
        assert_eq!(r.code, 0, "{}", r.err);
        let v: Value =
            serde_json::from_str(&fs::read_to_string(dir.join("g.json")).expect("written")).expect("JSON");
        let nodes = v["nodes"].as_array().expect("nodes");
        let mut out = Graph {
            text: nodes.iter().map(|n| n["position"].as_str().expect("text").to_string()).collect(),
            depth: nodes.iter().map(|n| n["depth"].as_u64().expect("a depth")).collect(),
            status: nodes.iter().map(|n| n["status"].as_str().expect("a status").to_string()).collect(),
            moves: vec![vec![]; nodes.len()],
        };
        for e in v["edges"].as_array().expect("edges") {
            let end = |k: &str| e[k].as_u64().expect("a node") as usize;
            out.moves[end("from")].push((e["move"].as_str().expect("a move").to_string(), end("to")));
        }
        out
    }

    fn len(&self) -> usize {
        self.text.len()
    }

    /// Moves to the nearest goal from every position, backwards from all goals.
    fn distances(&self) -> Vec<Option<u64>> {
        let mut before = vec![vec![]; self.len()];
        for (i, list) in self.moves.iter().enumerate() {
            list.iter().for_each(|(_, to)| before[*to].push(i));
        }
        let mut far = vec![None; self.len()];
        let mut work: VecDeque<usize> = (0..self.len()).filter(|i| self.status[*i] == "won").collect();
        work.iter().for_each(|i| far[*i] = Some(0));
        while let Some(i) = work.pop_front() {
            for &j in &before[i] {
                if far[j].is_none() {
                    far[j] = far[i].map(|d: u64| d + 1);
                    work.push_back(j);
                }
            }
        }
        far
    }

    /// How many positions pass a test, and how near the nearest is.
    fn count(&self, test: impl Fn(usize) -> bool) -> (u64, Option<u64>) {
        let found: Vec<usize> = (0..self.len()).filter(|i| test(*i)).collect();
        (found.len() as u64, found.iter().map(|i| self.depth[*i]).min())
    }

    fn has(&self, i: usize, glyphs: &[char]) -> usize {
        self.text[i].chars().filter(|c| glyphs.contains(c)).count()
    }
}

/// Runs `test` on a dozen random yards.
fn on_yards(seed: u64, test: impl Fn(&Path, &str, &Graph, &mut SmallRng)) {
    let mut rng = SmallRng::seed_from_u64(seed);
    let boards: Vec<String> = (0..12).map(|_| yard(&mut rng)).collect();
    let levels: Vec<String> = boards.iter().enumerate().map(|(i, b)| level(&format!("y{i}"), b)).collect();
    let dir = dir_with(&[("yards.toml", &format!("model = 'shove'\n{}", levels.join("")))]);
    for i in 0..boards.len() {
        let name = format!("y{i}");
        let g = Graph::read(dir.path(), &name);
        test(dir.path(), &name, &g, &mut rng);
    }
}

/// Statuses follow from the moves alone: what wins, what is stuck, what is dead.
#[test]
fn statuses_follow_from_the_moves() {
    let mut seen: BTreeSet<String> = BTreeSet::new();
    let all = std::cell::RefCell::new(&mut seen);
    on_yards(1, |dir, name, g, _| {
        let far = g.distances();
        for (i, status) in g.status.iter().enumerate() {
            // A goal asks that every berth is taken; barges may be left over.
            let want = if g.has(i, &['_', 'R']) == 0 {
                "won"
            } else if g.has(i, &['o', 'Q']) < g.has(i, &['_', 'Q', 'R']) {
                "lost"
            } else if far[i].is_some() {
                "winnable"
            } else if g.moves[i].is_empty() {
                "stuck"
            } else {
                "dead"
            };
            assert_eq!(status, want, "{name} {}", g.text[i]);
            all.borrow_mut().insert(status.clone());
        }
        let counts = json(dir, &["explore", "yards.toml", "--level", name]);
        let mut by: BTreeMap<&str, u64> = BTreeMap::new();
        g.status.iter().for_each(|s| *by.entry(s).or_default() += 1);
        for (key, word) in [
            ("goal", "won"),
            ("lost", "lost"),
            ("stuck", "stuck"),
            ("dead", "dead"),
            ("winnable", "winnable"),
        ] {
            assert_eq!(counts[key].as_u64(), Some(by.get(word).copied().unwrap_or(0)), "{name} {key}");
        }
        let edges: usize = g.moves.iter().map(Vec::len).sum();
        assert_eq!(counts["transitions"].as_u64(), Some(edges as u64));
        // A fatal move leads from what can be won to what cannot.
        let fatal = |i: usize| {
            let bad = |t: usize| far[t].is_none();
            if g.status[i] == "winnable" { g.moves[i].iter().filter(|m| bad(m.1)).count() } else { 0 }
        };
        assert_eq!(
            counts["fatal_moves"].as_u64(),
            Some((0..g.len()).map(fatal).sum::<usize>() as u64),
            "{name}"
        );
        assert_eq!(counts["shortest"].as_u64(), far[0]);
    });
    assert!(seen.len() >= 4, "{seen:?}");
}

#[test]
fn find_counts_what_a_plain_look_counts() {
    on_yards(2, |dir, name, g, _| {
        let far = g.distances();
        let can = |i: usize, name: &str| g.moves[i].iter().any(|m| m.0 == name);
        let dead = |i: usize| g.status[i] == "dead";
        let leads = |i: usize, m: &str, test: &dyn Fn(usize) -> bool| {
            g.moves[i].iter().any(|(n, to)| n == m && test(*to))
        };
        type Test<'t> = Box<dyn Fn(usize) -> bool + 't>;
        let asked: Vec<(&str, Test<'_>)> = vec![
            ("dead", Box::new(dead)),
            ("stuck", Box::new(|i| g.status[i] == "stuck")),
            ("won or lost", Box::new(|i| ["won", "lost"].contains(&g.status[i].as_str()))),
            ("not running", Box::new(|i| ["won", "lost"].contains(&g.status[i].as_str()))),
            ("winnable and depth > 2", Box::new(|i| g.status[i] == "winnable" && g.depth[i] > 2)),
            ("tug in berth", Box::new(|i| g.has(i, &['R']) == 1)),
            ("count(c in barge where c in berth) == 1", Box::new(|i| g.has(i, &['Q']) == 1)),
            ("r1c1 in barge", Box::new(|i| ['o', 'Q'].contains(&g.text[i].chars().next().unwrap_or(' ')))),
            ("can any", Box::new(|i| !g.moves[i].is_empty())),
            ("can go(up) and not can go(down)", Box::new(|i| can(i, "go up") && !can(i, "go down"))),
            ("some outcome of go(left): dead", Box::new(|i| leads(i, "go left", &dead))),
            ("some outcome of any: won", Box::new(|i| g.moves[i].iter().any(|m| g.status[m.1] == "won"))),
        ];
        for (condition, test) in asked {
            let r = ask(dir, &["find", "yards.toml", condition, "--level", name, "--format", "json"]);
            let v = r.json();
            let (count, depth) = g.count(&test);
            assert_eq!(
                (v["count"].as_u64(), v["depth"].as_u64()),
                (Some(count), depth),
                "{name} {condition}"
            );
            assert_eq!(r.code, i32::from(count == 0), "{name} {condition}");
            // The way there is a way, and its end one of them.
            if let Some(at) = v["position"].as_str() {
                let mut i = 0;
                for m in v["moves"].as_array().expect("moves") {
                    let m = m.as_str().expect("a move");
                    i = g.moves[i].iter().find(|x| x.0 == m).expect("a move of the position").1;
                }
                assert!(g.text[i] == at && test(i), "{name} {condition} {at}");
            }
        }
        assert_eq!(far[0].is_some(), g.status[0] == "winnable" || g.status[0] == "won");
    });
}

#[test]
fn solutions_are_ways_and_none_is_shorter() {
    on_yards(3, |dir, name, g, _| {
        let r = ask(dir, &["solve", "yards.toml", "--level", name, "--format", "json"]);
        let v = r.json();
        match g.distances()[0] {
            None => assert_eq!((r.code, v["verdict"].as_str()), (1, Some("unsolvable")), "{name}"),
            Some(d) => {
                assert_eq!((r.code, v["moves"].as_u64()), (0, Some(d)), "{name}");
                let mut i = 0;
                for m in v["solution"].as_array().expect("a solution") {
                    let m = m.as_str().or(m["move"].as_str()).expect("a move");
                    i = g.moves[i].iter().find(|x| x.0 == m).expect("a move of the position").1;
                }
                assert_eq!(g.status[i], "won", "{name}");
            }
        }
    });
}

/// Allowed are the moves of the graph; every other one is refused, with a reason and a place.
#[test]
fn moves_are_those_of_the_graph() {
    on_yards(4, |dir, name, g, rng| {
        for _ in 0..4 {
            let i = rng.random_range(0..g.len());
            let v = json(dir, &["moves", "yards.toml", "--level", name, "--at", &g.text[i]]);
            let ended = ["won", "lost"].contains(&g.status[i].as_str());
            let status = v["status"].as_str().expect("a status");
            if ended {
                // Past the end it says so, and shows what a player could still do.
                assert!(status.starts_with(&g.status[i]), "{name} {}: {status}", g.text[i]);
                continue;
            }
            assert_eq!(status, "running");
            let named = |key: &str| -> BTreeSet<String> {
                let list = v[key].as_array().expect("moves").iter();
                list.filter_map(|m| m["move"].as_str()).map(String::from).collect()
            };
            let want: BTreeSet<String> = g.moves[i].iter().map(|m| m.0.clone()).collect();
            assert_eq!(named("allowed"), want, "{name} {}", g.text[i]);
            for m in v["allowed"].as_array().expect("moves") {
                let to = g.moves[i].iter().find(|x| m["move"] == x.0.as_str()).expect("one of them").1;
                assert_eq!(m["position"].as_str(), Some(g.text[to].as_str()), "{name} {}", g.text[i]);
            }
            // Four directions.
            assert_eq!(want.len() + named("refused").len(), 4, "{name} {}", g.text[i]);
            assert!(want.is_disjoint(&named("refused")));
            for m in v["refused"].as_array().expect("moves") {
                let said = m["why"].as_str().is_some_and(|w| !w.is_empty());
                assert!(said && m["at"].as_array().is_some_and(|a| !a.is_empty()), "{m}");
            }
        }
    });
}

/// Random walks: what each move cost is the change of the distance; verdicts are statuses.
#[test]
fn reviews_and_verdicts_follow_the_distances() {
    on_yards(5, |dir, name, g, rng| {
        let far = g.distances();
        if far[0].is_none_or(|d| d == 0) {
            return;
        }
        for _ in 0..3 {
            let (mut i, mut names, mut way) = (0, vec![], vec![0]);
            for _ in 0..8 {
                if g.moves[i].is_empty() {
                    break;
                }
                let (m, to) = &g.moves[i][rng.random_range(0..g.moves[i].len())];
                names.push(m.clone());
                i = *to;
                way.push(i);
            }
            let played = names.join("; ");
            let v = json(dir, &["review", "yards.toml", &played, "--level", name]);
            let steps = v["steps"].as_array().expect("steps");
            let mut first_fatal = None;
            for (k, s) in steps.iter().enumerate() {
                let (was, is) = (far[way[k]], far[way[k + 1]]);
                assert_eq!(s["verdict"].as_str(), Some(g.status[way[k + 1]].as_str()), "{name} {played} {k}");
                assert_eq!(s["fatal"].as_bool(), Some(was.is_some() && is.is_none()), "{name} {played} {k}");
                if let (Some(was), Some(is)) = (was, is) {
                    assert_eq!(s["cost"].as_u64(), Some(is + 1 - was), "{name} {played} {k}");
                }
                if was.is_some() && is.is_none() {
                    first_fatal = first_fatal.or(Some(k as u64 + 1));
                }
            }
            assert_eq!(v["first_fatal_move"].as_u64(), first_fatal, "{name} {played}");
            assert_eq!(v["minimum"].as_u64(), far[0]);
        }
    });
}

/// A level turned about has the same shape; one that is not isomorphic by its counts has not.
#[test]
fn shapes_are_compared_as_they_are() {
    let mut rng = SmallRng::seed_from_u64(6);
    for round in 0..8 {
        let board = yard(&mut rng);
        let mirrored: Vec<String> = board.lines().map(|l| l.chars().rev().collect()).collect();
        let other = yard(&mut rng);
        let text = format!(
            "model = 'shove'\n{}{}{}",
            level("y0", &board),
            level("y1", &mirrored.join("\n")),
            level("y2", &other)
        );
        let dir = dir_with(&[("yards.toml", &text)]);
        let compare = |with: &str| {
            json(dir.path(), &["compare", "yards.toml", "--level", "y0", "--with", with, "--spaces"])
        };
        assert_eq!(compare("y1")["same_shape"], true, "round {round}\n{board}");
        let (a, b) = (Graph::read(dir.path(), "y0"), Graph::read(dir.path(), "y2"));
        let sorted = |g: &Graph| {
            let mut list: Vec<(u64, String, usize)> =
                (0..g.len()).map(|i| (g.depth[i], g.status[i].clone(), g.moves[i].len())).collect();
            list.sort();
            list
        };
        if sorted(&a) != sorted(&b) {
            assert_eq!(compare("y2")["same_shape"], false, "round {round}\n{board}\n\n{other}");
        }
    }
}

/// Nodes and edges of a graph file, the edges by the texts of their ends.
fn drawn(
    dir: &Path,
    name: &str,
    more: &[&str],
) -> (Value, BTreeSet<String>, BTreeSet<(String, String, String)>) {
    let mut args = vec!["graph", "yards.toml", "--level", name, "-o", "part.json"];
    args.extend(more);
    let r = ask(dir, &args);
    assert_eq!(r.code, 0, "{args:?}: {}", r.err);
    let v: Value =
        serde_json::from_str(&fs::read_to_string(dir.join("part.json")).expect("written")).expect("JSON");
    let text = |i: &Value| {
        v["nodes"][i.as_u64().expect("a node") as usize]["position"].as_str().expect("text").to_string()
    };
    let nodes = (0..v["nodes"].as_array().map_or(0, Vec::len)).map(|i| text(&Value::from(i))).collect();
    let edges = v["edges"]
        .as_array()
        .expect("edges")
        .iter()
        .map(|e| (text(&e["from"]), e["move"].as_str().expect("a move").to_string(), text(&e["to"])))
        .collect();
    (v, nodes, edges)
}

/// Each filter keeps the states that it says, and all moves between them.
#[test]
fn filters_keep_what_they_say() {
    on_yards(7, |dir, name, g, rng| {
        let far = g.distances();
        let bad = |i: usize| ["dead", "stuck", "lost"].contains(&g.status[i].as_str());
        let centre = rng.random_range(0..g.len());
        // Moves either way, as far as two.
        let mut near = BTreeSet::from([centre]);
        for _ in 0..2 {
            let grown: Vec<usize> = (0..g.len())
                .filter(|i| {
                    g.moves[*i].iter().any(|m| near.contains(&m.1))
                        || near.iter().any(|n| g.moves[*n].iter().any(|m| m.1 == *i))
                })
                .collect();
            near.extend(grown);
        }
        let shortest = |i: usize| far[0].is_some_and(|d| far[i].is_some_and(|f| g.depth[i] + f == d));
        type Keep<'k> = Box<dyn Fn(usize) -> bool + 'k>;
        let asked: Vec<(Vec<&str>, Keep<'_>)> = vec![
            (vec![], Box::new(|_| true)),
            (vec!["--keep", "alive"], Box::new(|i| !bad(i))),
            (vec!["--keep", "winnable"], Box::new(|i| far[i].is_some())),
            (vec!["--keep", "shortest"], Box::new(shortest)),
            (vec!["--around", &g.text[centre], "--steps", "2"], Box::new(|i| near.contains(&i))),
        ];
        for (more, keep) in asked {
            let (v, nodes, edges) = drawn(dir, name, &more);
            let want: BTreeSet<String> =
                (0..g.len()).filter(|i| keep(*i)).map(|i| g.text[i].clone()).collect();
            assert_eq!(nodes, want, "{name} {more:?}");
            let mut between = BTreeSet::new();
            for i in (0..g.len()).filter(|i| keep(*i)) {
                for (m, to) in g.moves[i].iter().filter(|m| keep(m.1)) {
                    between.insert((g.text[i].clone(), m.clone(), g.text[*to].clone()));
                }
            }
            assert_eq!(edges, between, "{name} {more:?}");
            // What is left out is said.
            let said = v["notes"]
                .as_array()
                .expect("notes")
                .iter()
                .any(|n| n.as_str().is_some_and(|n| n.contains("as asked")));
            assert_eq!(said, want.len() < g.len(), "{name} {more:?}");
        }
    });
}

/// What is marked is what it says: the start, fatal moves, states that every solution passes, one shortest solution.
#[test]
fn marks_mean_what_they_say() {
    on_yards(8, |dir, name, g, _| {
        let far = g.distances();
        let (v, ..) = drawn(dir, name, &[]);
        let flag = |i: usize, key: &str| v["nodes"][i][key].as_bool().expect("a flag");
        for e in v["edges"].as_array().expect("edges") {
            let end = |k: &str| e[k].as_u64().expect("a node") as usize;
            assert_eq!(
                e["fatal"].as_bool(),
                Some(g.status[end("from")] == "winnable" && far[end("to")].is_none())
            );
        }
        // Without a state that must be passed no goal is reached; without any other one still is.
        let wins_without = |gone: usize| {
            let mut seen = BTreeSet::from([gone]);
            let mut work = vec![0];
            while let Some(i) = work.pop() {
                if seen.insert(i) {
                    if g.status[i] == "won" {
                        return true;
                    }
                    work.extend(g.moves[i].iter().map(|m| m.1));
                }
            }
            false
        };
        let mut way = vec![];
        for i in 0..g.len() {
            assert_eq!(flag(i, "start"), i == 0);
            assert_eq!(flag(i, "must_pass"), far[0].is_some() && !wins_without(i), "{name} {}", g.text[i]);
            if flag(i, "on_shortest") {
                way.push(i);
            }
        }
        way.sort_by_key(|i| g.depth[*i]);
        match far[0] {
            None => assert!(way.is_empty()),
            Some(d) => {
                assert_eq!(way.len() as u64, d + 1, "{name}");
                assert!(way.windows(2).all(|w| g.moves[w[0]].iter().any(|m| m.1 == w[1])), "{name}");
                assert_eq!(g.status[way[way.len() - 1]], "won");
            }
        }
    });
}

/// Rooms are the states that reach each other; doors lead between them, and never round in a ring.
#[test]
fn rooms_are_states_that_reach_each_other() {
    on_yards(9, |dir, name, g, _| {
        let reach: Vec<BTreeSet<usize>> = (0..g.len())
            .map(|from| {
                let mut seen = BTreeSet::new();
                let mut work = vec![from];
                while let Some(i) = work.pop() {
                    if seen.insert(i) {
                        work.extend(g.moves[i].iter().map(|m| m.1));
                    }
                }
                seen
            })
            .collect();
        let room = |i: usize| -> usize {
            (0..g.len()).find(|j| reach[i].contains(j) && reach[*j].contains(&i)).expect("itself at least")
        };
        let mut sizes: BTreeMap<usize, u64> = BTreeMap::new();
        let mut doors: BTreeSet<(usize, usize)> = BTreeSet::new();
        for i in 0..g.len() {
            *sizes.entry(room(i)).or_default() += 1;
            doors.extend(g.moves[i].iter().map(|m| (room(i), room(m.1))).filter(|(a, b)| a != b));
        }
        let (v, ..) = drawn(dir, name, &["--rooms"]);
        let mut have: Vec<u64> =
            v["nodes"].as_array().expect("nodes").iter().filter_map(|n| n["states"].as_u64()).collect();
        let mut want: Vec<u64> = sizes.into_values().collect();
        have.sort_unstable();
        want.sort_unstable();
        assert_eq!(have, want, "{name}");
        assert_eq!(v["edges"].as_array().map(Vec::len), Some(doors.len()), "{name}");
    });
}

/// The open formats hold the same graph, and pages hold it where its states lie: by depth, or by what they hold.
#[test]
fn every_format_holds_the_same_graph() {
    on_yards(10, |dir, name, g, _| {
        let edges: usize = g.moves.iter().map(Vec::len).sum();
        for (file, node, edge) in [("g.graphml", "<node ", "<edge "), ("g.dot", "[label=", " -> ")] {
            assert_eq!(ask(dir, &["graph", "yards.toml", "--level", name, "-o", file]).code, 0);
            let text = fs::read_to_string(dir.join(file)).expect("written");
            let extra = if file == "g.dot" { edges } else { 0 };
            assert_eq!(text.matches(node).count(), g.len() + extra, "{name} {file}");
            assert_eq!(text.matches(edge).count(), edges, "{name} {file}");
        }
        assert_eq!(ask(dir, &["graph", "yards.toml", "--level", name, "-o", "g.csv"]).code, 0);
        let rows = |file: &str| -> Vec<Vec<String>> {
            let text = fs::read_to_string(dir.join(file)).expect("written");
            text.lines()
                .skip(1)
                .map(|l| l.split(',').map(|f| f.trim_matches('"').to_string()).collect())
                .collect()
        };
        for (i, row) in rows("g.nodes.csv").iter().enumerate() {
            assert_eq!(
                row[..4],
                [i.to_string(), g.text[i].clone(), g.depth[i].to_string(), g.status[i].clone()]
            );
        }
        let mut listed: Vec<(usize, String, usize)> = rows("g.edges.csv")
            .into_iter()
            .map(|r| (r[0].parse().expect("a node"), r[2].clone(), r[1].parse().expect("a node")))
            .collect();
        let mut want: Vec<(usize, String, usize)> =
            (0..g.len()).flat_map(|i| g.moves[i].iter().map(move |m| (i, m.0.clone(), m.1))).collect();
        listed.sort();
        want.sort();
        assert_eq!(listed, want, "{name}");
        // Pages.
        let page = |more: &[&str]| -> Value {
            let mut args = vec!["graph", "yards.toml", "--level", name, "-o", "g.html"];
            args.extend(more);
            assert_eq!(ask(dir, &args).code, 0);
            let text = fs::read_to_string(dir.join("g.html")).expect("written");
            let data =
                text.split("type=\"application/json\">").nth(1).and_then(|p| p.split("</script>").next());
            serde_json::from_str::<Value>(data.expect("data")).expect("JSON")["views"][0].clone()
        };
        let numbers = |v: &Value| -> Vec<f64> {
            v.as_array().expect("a list").iter().filter_map(Value::as_f64).collect()
        };
        let v = page(&["--layout", "layers"]);
        let (x, y) = (numbers(&v["x"]), numbers(&v["y"]));
        for i in 0..g.len() {
            assert!((y[i] - g.depth[i] as f64).abs() < 0.01, "{name}: a layer a move");
            for j in 0..i {
                assert!(g.depth[i] != g.depth[j] || (x[i] - x[j]).abs() > 0.005, "{name}: two at one place");
            }
        }
        let v = page(&["--place", "x=tug.col,y=tug.row"]);
        let (x, y) = (numbers(&v["x"]), numbers(&v["y"]));
        for i in 0..g.len() {
            let rows: Vec<&str> = g.text[i].split('/').collect();
            let tug = |r: &&str| r.find(['A', 'R']);
            let row = rows.iter().position(|r| tug(r).is_some()).expect("a tug");
            let col = tug(&rows[row]).expect("a tug");
            assert!(
                (x[i] - col as f64).abs() < 0.45 && (y[i] - row as f64).abs() < 0.45,
                "{name} {}",
                g.text[i]
            );
        }
    });
}
