//! Solutions counted: by something else than moves, and how many there are; against searches that are written here.

use std::collections::{HashMap, VecDeque};

use crate::common::{dir_with, fendle};
use rand::{Rng, SeedableRng, rngs::SmallRng};

/// A yard: walls, berths, where the agent is, where the bodies are.
#[derive(Clone)]
struct Yard {
    cols: usize,
    walls: Vec<bool>,
    berths: Vec<usize>,
    at: usize,
    bodies: Vec<usize>,
}

impl Yard {
    /// A yard inside a wall.
    fn random(rng: &mut SmallRng) -> Yard {
        let (rows, cols) = (rng.random_range(5..=6), rng.random_range(5..=7));
        let edge = |i: usize| {
            i / cols == 0 || i / cols == rows - 1 || i.is_multiple_of(cols) || i % cols == cols - 1
        };
        let walls: Vec<bool> = (0..rows * cols).map(|i| edge(i) || rng.random_range(0..10) == 0).collect();
        let mut free: Vec<usize> = (0..rows * cols).filter(|i| !walls[*i]).collect();
        let mut take = || free.swap_remove(rng.random_range(0..free.len()));
        let (at, a, b, c, d) = (take(), take(), take(), take(), take());
        let mut bodies = vec![a, b];
        bodies.sort_unstable();
        Yard { cols, walls, berths: vec![c, d], at, bodies }
    }

    fn drawn(&self) -> String {
        let glyph = |i: usize| match (self.walls[i], self.berths.contains(&i)) {
            (true, _) => 'H',
            (_, berth) if i == self.at => {
                if berth {
                    'R'
                } else {
                    'A'
                }
            }
            (_, berth) if self.bodies.contains(&i) => {
                if berth {
                    'Q'
                } else {
                    'o'
                }
            }
            (_, true) => '_',
            _ => '.',
        };
        let all: Vec<char> = (0..self.walls.len()).map(glyph).collect();
        all.chunks(self.cols).map(|r| r.iter().collect::<String>()).collect::<Vec<_>>().join("/")
    }

    fn is_won(&self, bodies: &[usize]) -> bool {
        self.berths.iter().all(|b| bodies.contains(b))
    }

    /// A step from one cell to the next: where the bodies lie then, and whether one was pushed.
    fn step(&self, at: usize, bodies: &[usize], by: isize) -> Option<(usize, Vec<usize>, bool)> {
        let to = at.checked_add_signed(by)?;
        if self.walls[to] {
            return None;
        }
        let Some(i) = bodies.iter().position(|b| *b == to) else { return Some((to, bodies.to_vec(), false)) };
        let beyond = to.checked_add_signed(by)?;
        if self.walls[beyond] || bodies.contains(&beyond) {
            return None;
        }
        let mut bodies = bodies.to_vec();
        bodies[i] = beyond;
        bodies.sort_unstable();
        Some((to, bodies, true))
    }

    fn steps(&self) -> [(&'static str, isize); 4] {
        let down = self.cols as isize;
        [("up", -down), ("right", 1), ("down", down), ("left", -1)]
    }

    /// The fewest pushes, or steps where `pushes` is false, that bring the bodies home.
    fn fewest(&self, pushes: bool) -> Option<u32> {
        let start = (self.at, self.bodies.clone());
        let mut known: HashMap<(usize, Vec<usize>), u32> = HashMap::from([(start.clone(), 0)]);
        let mut open = VecDeque::from([(0, start)]);
        while let Some((cost, (at, bodies))) = open.pop_front() {
            if known[&(at, bodies.clone())] < cost {
                continue;
            }
            if self.is_won(&bodies) {
                return Some(cost);
            }
            for (_, by) in self.steps() {
                let Some((to, after, pushed)) = self.step(at, &bodies, by) else { continue };
                let step = u32::from(pushed || !pushes);
                let next = (to, after);
                if known.get(&next).is_none_or(|k| *k > cost + step) {
                    known.insert(next.clone(), cost + step);
                    if step == 0 {
                        open.push_front((cost, next))
                    } else {
                        open.push_back((cost + step, next))
                    }
                }
            }
        }
        None
    }

    /// How many pushes a way has that brings the bodies home.
    fn pushes_of(&self, moves: &[String]) -> Option<u32> {
        let (mut at, mut bodies, mut count) = (self.at, self.bodies.clone(), 0);
        for name in moves {
            let by = self.steps().iter().find(|s| *name == format!("go {}", s.0))?.1;
            let (to, after, pushed) = self.step(at, &bodies, by)?;
            (at, bodies, count) = (to, after, count + u32::from(pushed));
        }
        self.is_won(&bodies).then_some(count)
    }
}

#[test]
fn fewest_pushes_and_fewest_moves_are_two_questions() {
    let mut rng = SmallRng::seed_from_u64(31);
    let mut yards: Vec<Yard> = vec![];
    while yards.len() < 40 {
        let yard = Yard::random(&mut rng);
        // Most can be solved.
        if yard.fewest(true).is_some() || yards.len().is_multiple_of(5) {
            yards.push(yard);
        }
    }
    let levels: String = (yards.iter().enumerate())
        .map(|(i, y)| format!("[[level]]\nname = \"{i}\"\nstart.yard = '{}'\n", y.drawn()))
        .collect();
    let dir = dir_with(&[("yards.toml", &format!("model = \"shove\"\n{levels}"))]);
    let (mut solved, mut differ) = (0, 0);
    for (i, yard) in yards.iter().enumerate() {
        let name = i.to_string();
        let run = |more: &[&str]| {
            let args = ["solve", "yards.toml", "--level", &name, "--format", "json"];
            let run = fendle(dir.path(), &[&args, more].concat());
            (run.code, run.json())
        };
        let (code, found) = run(&["--moves-counting", "pushes"]);
        let Some(pushes) = yard.fewest(true) else {
            assert_eq!((code, &found["verdict"]), (1, &"unsolvable".into()), "{}", yard.drawn());
            continue;
        };
        solved += 1;
        assert_eq!((code, &found["shortest"]), (0, &true.into()), "{}", yard.drawn());
        assert_eq!(found["counting"]["count"], pushes, "{}", yard.drawn());
        let moves: Vec<String> = serde_json::from_value(found["solution"].clone()).expect("moves");
        assert_eq!(yard.pushes_of(&moves), Some(pushes), "{}", yard.drawn());
        let (_, walked) = run(&["--moves-counting", "go"]);
        assert_eq!(walked["counting"]["count"], yard.fewest(false).expect("solvable"), "{}", yard.drawn());
        let (_, plain) = run(&[]);
        assert_eq!(plain["moves"], yard.fewest(false).expect("solvable"), "{}", yard.drawn());
        let moves: Vec<String> = serde_json::from_value(plain["solution"].clone()).expect("moves");
        differ += u32::from(yard.pushes_of(&moves) > Some(pushes));
    }
    assert!(
        solved > 20 && differ > 0,
        "{solved} solvable, {differ} whose shortest way pushes more than needed"
    );
}

const LARGE: &str = "model = \"shove\"\n[[level]]\nname = \"large\"\nstart.yard = '''\nHHHHHHHHHHHH\nH..........H\nH.ooo.H.oo.H\n\
    H......H...H\nH.oH.H.....H\nH.....Ao...H\nH.o.____...H\nH...____...H\nHHHHHHHHHHHH\n'''\n";

#[test]
fn what_cannot_be_counted_is_said() {
    let broken = "model toll\nstate at: 0..9 = 0\nmove step { refuse \"end\" unless at < 9; at += 1 }\ngoal at == 9\n\
        cost toll of step = 3 - at\n";
    let dir = dir_with(&[
        ("yard.toml", "model = \"shove\"\n[[level]]\nstart.yard = 'Ao_'\n"),
        ("large.toml", LARGE),
        ("toll.fendle", broken),
        ("toll.toml", "model = \"toll.fendle\"\n[[level]]\n"),
        ("draw.toml", "model = \"merge\"\nvalues.goal_value = 3\n[[level]]\nsize = [2, 2]\n"),
        ("deck.toml", "model = \"slide\"\n[[level]]\nstart.tile = '1 . 2'\nvalues.target = '1 2 .'\n"),
    ]);
    let run = |args: &[&str]| fendle(dir.path(), &[&["solve"], args].concat());
    let none = run(&["yard.toml", "--moves-counting", "shoves"]);
    assert_eq!(none.code, 2);
    assert!(none.err.contains("`shoves`") && none.err.contains("`pushes`, `go`, `pull`"), "{}", none.err);
    let both = run(&["yard.toml", "--moves-counting", "pushes", "--proof", "p"]);
    assert!(both.code == 2 && both.err.contains("--proof"), "{}", both.err);
    let drawn = run(&["draw.toml", "--moves-counting", "slip"]);
    assert_eq!(drawn.code, 2, "{}{}", drawn.out, drawn.err);
    // A move that counts less than nothing.
    let fault = run(&["toll.toml", "--moves-counting", "toll"]);
    assert_eq!(fault.code, 2, "{}{}", fault.out, fault.err);
    assert!(fault.err.contains("-1 is nothing that a move may count"), "{}", fault.err);
    assert!(fault.err.contains("after 4 moves: step; step; step; step"), "{}", fault.err);
    // What all searches look at together is limited.
    let few = run(&["large.toml", "--moves-counting", "pushes", "--max-states", "3000", "--format", "json"]);
    assert_eq!(few.code, 3, "{}{}", few.out, few.err);
    let found = few.json();
    // Limits are looked at between batches: 512 states, four moves each.
    assert!(found["states"].as_u64() <= Some(3_000 + 4 * 512), "{}", found["states"]);
    assert!(found["counting"]["least"].as_u64() > Some(5), "{}", found["counting"]);
    // Who names a kind of moves needs no `cost`.
    let kind = run(&["deck.toml", "--moves-counting", "slide", "--brief"]);
    assert!(
        kind.code == 0 && kind.out.contains("counting slide: 1, and no solution has fewer"),
        "{}",
        kind.out
    );
}

#[test]
fn mistakes_in_a_cost_are_pointed_at() {
    let model = |costs: &str| {
        format!(
            "model toll\nstate at: 0..9 = 0\nmove step(n: 1..3) {{ refuse \"end\" unless at + n < 10; at += n }}\ngoal at == 9\n{costs}\n"
        )
    };
    for (costs, words) in [
        ("cost toll of of_f = 1", "no move is named `of_f`"),
        ("cost toll of step = 1", "`step` has 1 parameter, and here are 0"),
        ("cost toll of step(a, b) = 1", "`step` has 1 parameter, and here are 2"),
        ("cost step of step(a) = 1", "`step` is a move already"),
        ("cost toll of step(a) = a\ncost toll of step(b) = 1", "how much this move counts is said twice"),
        ("cost toll of step(a) = a > 1", "number"),
        ("cost toll step(a) = 1", "`of`"),
    ] {
        let dir = dir_with(&[
            ("toll.fendle", &model(costs)),
            ("toll.toml", "model = \"toll.fendle\"\n[[level]]\n"),
        ]);
        let run = fendle(dir.path(), &["check", "toll.fendle"]);
        assert!(run.code != 0 && run.err.contains(words), "{costs}: {}{}", run.out, run.err);
    }
    let dir = dir_with(&[
        ("toll.fendle", &model("cost toll of step(a) = if at == 0 then 0 else a * a")),
        ("toll.toml", "model = \"toll.fendle\"\n[[level]]\n"),
    ]);
    // The first step is free, the rest goes one by one: 3, then six ones.
    let run = fendle(dir.path(), &["solve", "toll.toml", "--moves-counting", "toll", "--format", "json"]);
    assert_eq!(run.json()["counting"]["count"], 6, "{}", run.out);
    assert_eq!(run.json()["moves"], 7);
}

const HALVES: &str = "model halves
state laid: grid of 0..4 = 0
move lay(c: cell, d: dir4) {
    offer d == right or d == down
    refuse \"edge\" unless (c + d) on board
    refuse \"full\" unless laid[c] == 0 and laid[cell(c + d)] == 0
    laid[c] = if d == right then 1 else 3
    laid[cell(c + d)] = if d == right then 2 else 4
}
goal all(c on laid: laid[c] > 0)
";

#[test]
fn fillings_are_counted_as_the_formula_says() {
    let levels: String = (1..=6).map(|n| format!("[[level]]\nname = \"{n}\"\nsize = [2, {n}]\n")).collect();
    let dir = dir_with(&[
        ("halves.fendle", HALVES),
        ("halves.toml", &format!("model = \"halves.fendle\"\n{levels}")),
    ]);
    // Two rows are filled by dominoes in as many ways as the numbers of the rabbits say; each in any order.
    let (mut before, mut fillings, mut orders) = (1u64, 1u64, 1u64);
    for n in 1..=6u64 {
        orders *= n;
        let run = fendle(
            dir.path(),
            &["solve", "halves.toml", "--level", &n.to_string(), "--count", "--format", "json"],
        );
        let found = run.json();
        assert_eq!(run.code, 0);
        assert_eq!(found["won"], fillings, "{n} columns");
        assert_eq!(found["moves"], n);
        assert_eq!(found["shortest"], (fillings * orders).to_string());
        assert_eq!(found["all"], found["shortest"]);
        (before, fillings) = (fillings, before + fillings);
    }
    let run = fendle(dir.path(), &["solve", "halves.toml", "--level", "5", "--count"]);
    assert_eq!(
        run.out.lines().skip(2).take(3).collect::<Vec<_>>(),
        ["8 won positions can be reached", "960 shortest solutions, each of 5 moves", "960 solutions in all"],
        "{}",
        run.out
    );
}

#[test]
fn ways_over_a_board_are_counted_and_limits_are_said() {
    let walk = "model walk\nstate at: cell = r1c1\nmove go(d: dir4) { refuse \"edge\" unless at + d on board; at = cell(at + d) }\n\
        goal at == r3c5\n";
    let dir = dir_with(&[
        ("walk.fendle", walk),
        ("walk.toml", "model = \"walk.fendle\"\n[[level]]\nsize = [3, 5]\n"),
        ("coil.toml", "model = \"coil\"\nvalues = { rings = 4, alike_posts = true }\n[[level]]\n"),
        ("lost.toml", "model = \"slide\"\n[[level]]\nstart.tile = '2 1 .'\nvalues.target = '1 2 .'\n"),
        (
            "deck.toml",
            "model = \"slide\"\nvalues.target = '1 2 3 4/5 6 7 8/9 10 11 .'\n[[level]]\n\
            start.tile = '1 2 3 4/5 6 7 8/9 10 . 11'\n",
        ),
    ]);
    let count = |file: &str, more: &[&str]| {
        fendle(dir.path(), &[&["solve", file, "--count", "--format", "json"], more].concat())
    };
    // 2 down and 4 to the right, in any order: 15 ways; whoever goes back and forth never ends.
    let found = count("walk.toml", &[]).json();
    assert_eq!((&found["shortest"], &found["moves"]), (&"15".into(), &6.into()));
    assert_eq!((&found["all"], &found["endless"]), (&serde_json::Value::Null, &true.into()));
    // One shortest way; both posts that are alike are one.
    let found = count("coil.toml", &[]).json();
    assert_eq!(
        (&found["shortest"], &found["moves"], &found["by_positions"]),
        (&"1".into(), &15.into(), &true.into())
    );
    let none = count("lost.toml", &[]);
    assert_eq!((none.code, &none.json()["won"]), (1, &0.into()));
    let part = count("deck.toml", &["--max-states", "5000"]);
    assert_eq!((part.code, &part.json()["complete"]), (3, &false.into()));
    let words = fendle(dir.path(), &["solve", "deck.toml", "--count", "--max-states", "5000"]);
    assert!(words.out.contains("undecided: stopped by"), "{}", words.out);
}
