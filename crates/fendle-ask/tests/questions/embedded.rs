//! One yard drawn in several ways: as it is, mirrored and turned, and in the middle of a larger board whose other cells are walls. What is asked
//! of it has the same answer, though boards of more than 64 cells are looked at by other means, and states take other bits.

use std::collections::BTreeMap;

use fendle_ask::count::count_solutions;
use fendle_ask::explore::{How, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::graph::{Cut, Keep, graph};
use fendle_ask::hunt::Promise;
use fendle_ask::moves::moves;
use fendle_ask::review::review;
use fendle_ask::solve::solve;
use fendle_ask::why::{Reason, one_position};
use fendle_ask::{Loaded, Store};
use fendle_core::space::Class;

use crate::common::{Dice, Texts, budget, loaded, seeds};
use crate::yards::{SHOVE, Yard, some_yard};

/// A drawing, and where its directions point now.
#[derive(Clone)]
struct Drawn {
    rows: Vec<Vec<char>>,
    /// For each direction of the yard as it was, from up clockwise, the one that it became.
    ways: [usize; 4],
}

const WAYS: [&str; 4] = ["up", "right", "down", "left"];

impl Drawn {
    fn of(yard: &Yard) -> Drawn {
        let rows = yard.drawn(yard.start).split('/').map(|row| row.chars().collect()).collect();
        Drawn { rows, ways: [0, 1, 2, 3] }
    }

    fn mirrored(mut self) -> Drawn {
        self.rows.iter_mut().for_each(|row| row.reverse());
        self.ways = self.ways.map(|w| [0, 3, 2, 1][w]);
        self
    }

    /// A quarter clockwise.
    fn turned(self) -> Drawn {
        let cols = self.rows[0].len();
        let rows = (0..cols).map(|c| self.rows.iter().rev().map(|row| row[c]).collect()).collect();
        Drawn { rows, ways: self.ways.map(|w| (w + 1) % 4) }
    }

    /// On a board of so many rows and columns, with walls above and on the left of it, and all around.
    fn embedded(self, (rows, cols): (usize, usize), (above, left): (usize, usize)) -> Drawn {
        let mut out = vec![vec!['H'; cols]; rows];
        for (r, row) in self.rows.iter().enumerate() {
            out[above + r][left..left + row.len()].copy_from_slice(row);
        }
        Drawn { rows: out, ways: self.ways }
    }

    /// A move, by the name that it had in the yard as it was.
    fn name(&self, told: &str) -> String {
        let way = told.strip_prefix("go ").expect("the only move of these yards");
        let now = WAYS.iter().position(|w| *w == way).expect("a way");
        let was = self.ways.iter().position(|w| *w == now).expect("each way became one");
        format!("go {}", WAYS[was])
    }

    fn level(&self) -> (Store, Loaded) {
        let rows: Vec<String> = self.rows.iter().map(|row| row.iter().collect()).collect();
        let text =
            format!("model = 'shove.fendle'\n[[level]]\nname = 'yard'\nstart.yard = '{}'\n", rows.join("/"));
        let texts = Texts::new([("shove.fendle", SHOVE), ("yard.toml", text.as_str())]);
        let mut store = Store::default();
        let level = loaded(&mut store, &texts, "yard.toml", "yard", None);
        (store, level)
    }
}

/// What does not depend on how a yard is drawn.
fn told(drawn: &Drawn) -> BTreeMap<&'static str, String> {
    let (mut store, mut level) = drawn.level();
    let mut out = BTreeMap::new();
    let how = How { structure: Some(false), ..How::default() };
    let found = explore(&store, &level, how, &budget()).expect("an answer").found;
    let counts = &found.counts;
    out.insert("counts", format!("{:?} {:?}", counts.named(), counts.per_depth));
    out.insert("nearest", format!("{:?} {:?}", counts.shortest, counts.first_fatal_depth));
    let parts = found.structure.expect("it was asked for").0.expect("a small space");
    let s = &parts.structure;
    out.insert("rooms", format!("{:?} {:?} {:?}", s.rooms, s.delay, s.fatal_by_depth));
    out.insert("shares", format!("{:?} {:?} {:?} {}", s.by_distance, s.corridor, s.branching, s.widest));
    out.insert("must pass", format!("{:?}", parts.must_pass_depths));

    let mut listed: Vec<String> = vec![];
    let here = moves(&store, &level, &budget()).expect("an answer").found;
    listed.extend(here.allowed.iter().map(|m| drawn.name(&m.name)));
    listed.extend(here.refused.iter().map(|m| format!("{}: {}", drawn.name(&m.name), m.why)));
    listed.sort();
    out.insert("moves", listed.join("; "));

    let ways = count_solutions(&store, &level, &budget()).expect("an answer").found;
    out.insert("solutions", format!("{:?} {:?} {:?} {}", ways.won, ways.shortest, ways.all, ways.endless));
    let solved = solve(&store, &level, Promise::Best, &budget(), None).expect("an answer");
    out.insert("solved", format!("{} {:?} {:?}", solved.found.verdict, solved.found.moves, solved.end()));
    if let Some(solution) = &solved.found.solution {
        let seen = review(&mut store, &level, &solution.join("; "), &budget()).expect("an answer").found;
        assert_eq!((seen.moves_lost, seen.first_fatal_move), (0, None), "a shortest solution is played well");
    }

    let why = one_position(&store, &level, false, &budget()).expect("an answer").found;
    out.insert(
        "why",
        match &why.reason {
            Reason::Winnable(w) => {
                let mut fatal: Vec<String> = w.fatal.iter().map(|f| drawn.name(&f.name)).collect();
                fatal.sort();
                format!("{:?} {:?} of {}: {fatal:?}", w.class, w.far, w.moves)
            }
            Reason::Dead(_) | Reason::Kept(_) => "dead".into(),
            other => panic!("{other:?} of a small yard"),
        },
    );

    let mut nearest = vec![];
    for word in
        ["dead", "stuck", "won", "lost", "winnable and some outcome of any: dead", "count(c in barge) < 2"]
    {
        let found = find(&mut store, &mut level, word, (Draws::Some, 0), &budget()).expect("an answer");
        nearest.push(format!("{word}: {} {:?} {:?}", found.found.count, found.found.depth, found.end()));
    }
    out.insert("found", nearest.join("; "));

    let cut = Cut { keep: Keep::All, around: None, rooms: false, most: 10_000 };
    let all = graph(&store, &level, &cut, 1.0, &budget()).expect("an answer").found;
    let mut classes: BTreeMap<String, usize> = BTreeMap::new();
    for node in &all.nodes {
        *classes.entry(format!("{} {:?}", node.depth, node.class)).or_default() += 1;
    }
    let fatal = all.arrows.iter().filter(|a| a.fatal).count();
    out.insert("graph", format!("{} {fatal} {classes:?}", all.arrows.len()));
    out
}

/// Compares what is told of two drawings, answer by answer.
fn same(one: &Drawn, other: &Drawn) {
    let (one_told, other_told) = (told(one), told(other));
    for (what, answer) in &one_told {
        let text =
            |d: &Drawn| d.rows.iter().map(|r| r.iter().collect::<String>()).collect::<Vec<_>>().join("/");
        assert_eq!(Some(answer), other_told.get(what), "{what} of {} and of {}", text(one), text(other));
    }
}

#[test]
fn a_yard_is_the_same_however_it_is_turned() {
    for seed in seeds(8_000..8_016) {
        let mut dice = Dice::new(seed);
        let yard = Drawn::of(&some_yard(&mut dice, seed % 2 == 0));
        let mut other = yard.clone();
        for _ in 0..1 + dice.below(3) {
            other = other.turned();
        }
        if dice.below(2) == 0 {
            other = other.mirrored();
        }
        same(&yard, &other);
    }
}

#[test]
fn a_yard_is_the_same_on_a_large_board() {
    for seed in seeds(8_100..8_112) {
        let mut dice = Dice::new(seed);
        let yard = Drawn::of(&some_yard(&mut dice, seed % 2 == 0));
        let (rows, cols) = (yard.rows.len(), yard.rows[0].len());
        // 64 cells are one word; 65 and more are blocks; 130 are three words.
        let size = [(8, 8), (5, 13), (13, 5), (9, 9), (7, 10), (10, 13)][dice.below(6)];
        if rows > size.0 || cols > size.1 {
            continue;
        }
        let at = (dice.below(size.0 - rows + 1), dice.below(size.1 - cols + 1));
        same(&yard, &yard.clone().embedded(size, at));
    }
}

#[test]
fn words_of_a_condition_are_asked_of_each_state() {
    // What `find` counts is what the graph shows.
    for seed in seeds(8_200..8_220) {
        let yard = Drawn::of(&some_yard(&mut Dice::new(seed), seed % 2 == 0));
        let (mut store, mut level) = yard.level();
        let cut = Cut { keep: Keep::All, around: None, rooms: false, most: 10_000 };
        let all = graph(&store, &level, &cut, 1.0, &budget()).expect("an answer").found;
        for (word, class) in [
            ("dead", Class::Dead),
            ("stuck", Class::Stuck),
            ("won", Class::Goal),
            ("lost", Class::Lost),
            ("winnable", Class::Winnable),
        ] {
            let nodes = || all.nodes.iter().filter(|n| n.class == class);
            let found =
                find(&mut store, &mut level, word, (Draws::Some, 0), &budget()).expect("an answer").found;
            assert_eq!(found.count, nodes().count() as u64, "{word}");
            assert_eq!(found.depth, nodes().map(|n| n.depth as usize).min(), "{word}");
        }
    }
}
