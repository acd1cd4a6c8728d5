//! Boards too large to be seen whole: solved, refuted, or bounded; against searches and rules of thumb that are written here.

use std::fs;

use crate::common::{dir_with, fendle};

/// A sliding board of four by four whose gap, by its goal, comes first.
struct Deck([u8; 16]);

impl Deck {
    const GOAL: Deck = Deck([0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15]);

    /// Cells beside a cell.
    fn beside(at: usize) -> impl Iterator<Item = usize> {
        let (r, c) = (at / 4, at % 4);
        (0usize..16).filter(move |to| (to / 4).abs_diff(r) + (to % 4).abs_diff(c) == 1)
    }

    fn gap(&self) -> usize {
        self.0.iter().position(|t| *t == 0).expect("a gap")
    }

    /// Rows and columns that the tiles are away from where they belong.
    fn away(&self) -> usize {
        let of = |(at, tile): (usize, &u8)| {
            let home = usize::from(*tile);
            if home == 0 { 0 } else { (at / 4).abs_diff(home / 4) + (at % 4).abs_diff(home % 4) }
        };
        self.0.iter().enumerate().map(of).sum()
    }

    /// Whether the goal can be reached in so many moves; the gap does not go back to `from`.
    fn within(&mut self, moves: usize, from: usize) -> bool {
        let away = self.away();
        if away == 0 {
            return true;
        }
        if away > moves {
            return false;
        }
        let gap = self.gap();
        Deck::beside(gap).filter(|to| *to != from).any(|to| {
            self.0.swap(gap, to);
            let found = self.within(moves - 1, gap);
            self.0.swap(gap, to);
            found
        })
    }

    /// The least number of moves.
    fn least(&mut self) -> usize {
        let mut moves = self.away();
        while !self.within(moves, 99) {
            moves += 2;
        }
        moves
    }

    fn drawn(&self) -> String {
        let tile = |t: &u8| if *t == 0 { ".".into() } else { t.to_string() };
        self.0
            .chunks(4)
            .map(|r| r.iter().map(tile).collect::<Vec<_>>().join(" "))
            .collect::<Vec<_>>()
            .join("\n")
    }
}

/// A deck after a walk of the gap, by a seed.
fn walked(steps: usize, mut seed: u64) -> Deck {
    let mut deck = Deck::GOAL;
    let mut from = 99;
    for _ in 0..steps {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let gap = deck.gap();
        let open: Vec<usize> = Deck::beside(gap).filter(|to| *to != from).collect();
        let to = open[(seed >> 33) as usize % open.len()];
        deck.0.swap(gap, to);
        from = gap;
    }
    deck
}

fn deck_file(deck: &Deck) -> String {
    format!(
        "model = 'slide'\n[[level]]\nname = 'deck'\nvalues.target = '''\n{}\n'''\nstart.tile = '''\n{}\n'''\n",
        Deck::GOAL.drawn(),
        deck.drawn()
    )
}

#[test]
fn a_deck_of_four_by_four_is_solved_shortest() {
    // All of them have one goal: the tables are made once and kept in the folder.
    let dir = dir_with(&[]);
    for seed in 1..=4 {
        let mut deck = walked(44 + 2 * seed as usize, seed);
        std::fs::write(dir.path().join("deck.toml"), deck_file(&deck)).expect("writable");
        let r = fendle(dir.path(), &["solve", "deck.toml", "--format", "json"]);
        assert_eq!(r.code, 0, "{}{}", r.out, r.err);
        let j = r.json();
        assert_eq!(j["moves"], deck.least() as u64, "{}", deck.drawn());
        assert_eq!((&j["shortest"], &j["least"]), (&j["proof"]["replayed"], &j["moves"]));
        // The bound of a state never says too much.
        let r = fendle(dir.path(), &["bound", "deck.toml", "--format", "json", "--positions", "600000"]);
        let least = r.json()["least"].as_u64().expect("a bound");
        assert!(least <= deck.least() as u64 && least >= deck.away() as u64 - 2, "{}", r.out);
    }
}

#[test]
fn two_tiles_exchanged_are_refused_by_the_kept_quantity_and_not_by_a_search() {
    let mut deck = walked(60, 9);
    let (a, b) = (0..16usize).filter(|i| deck.0[*i] != 0).fold((99, 99), |(_, b), i| (b, i));
    deck.0.swap(a, b);
    let dir = dir_with(&[("deck.toml", &deck_file(&deck))]);
    let r = fendle(dir.path(), &["solve", "deck.toml", "--brief"]);
    assert_eq!(r.code, 1, "{}{}", r.out, r.err);
    assert!(r.out.contains("kept quantity"), "{}", r.out);
}

/// A yard with seven bodies.
const YARD: &str = "HHHHHHHHHHH
H.........H
H.ooo.H.o.H
H......H..H
H.oH.H....H
H.....Ao..H
H.o.___H..H
H...____..H
HHHHHHHHHHH";

fn yard_file(drawn: &str) -> String {
    format!("model = 'shove'\n[[level]]\nname = 'yard'\nstart.yard = '''\n{drawn}\n'''\n")
}

#[test]
fn a_yard_of_seven_bodies_is_solved_and_a_limit_says_what_is_known() {
    let dir = dir_with(&[("yard.toml", &yard_file(YARD))]);
    let r = fendle(dir.path(), &["solve", "yard.toml", "--any", "--format", "json"]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    let any = r.json();
    assert_eq!(any["verdict"], "solvable");
    assert!(any["least"].as_u64() < any["moves"].as_u64() && any["shortest"] == false, "{}", r.out);
    // What was found is what the moves do.
    let moves: Vec<&str> =
        any["solution"].as_array().expect("moves").iter().filter_map(|m| m.as_str()).collect();
    let r = fendle(dir.path(), &["trace", "yard.toml", &moves.join("; "), "--format", "json"]);
    assert!(r.code == 0 && r.out.contains("won"), "{}", r.out.lines().last().unwrap_or(""));
    // With a limit: a solution and how many moves are needed, and it is an answer; as a shortest one it is none.
    let limited = ["solve", "yard.toml", "--max-states", "900000", "--brief"];
    let r = fendle(dir.path(), &limited);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    assert!(r.out.contains("none has fewer than") && r.out.contains("--max-states"), "{}", r.out);
    let r = fendle(dir.path(), &[&limited[..], &["--shortest"]].concat());
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
    assert!(r.out.contains("undecided: ") && r.out.contains("none has fewer than"), "{}", r.out);
    // Too little for any solution: undecided, with what each way came to.
    let r = fendle(dir.path(), &["solve", "yard.toml", "--max-states", "40000", "--brief"]);
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
    assert!(r.out.contains("undecided: ") && r.out.contains("--max-states"), "{}", r.out);
    let r = fendle(dir.path(), &["solve", "yard.toml", "--any", "--shortest"]);
    assert_eq!(r.code, 2, "{}", r.err);
}

#[test]
fn a_spoiled_yard_is_refuted_with_the_part_that_is_dead() {
    // One in a corner; two side by side at a wall without berths.
    for (row, spoiled, words) in [(1, "Ho........H", "barge at r2c2"), (1, "H....oo...H", "barge at r2c6")] {
        let mut rows: Vec<&str> = YARD.lines().collect();
        rows[row] = spoiled;
        rows[2] = if row == 1 && spoiled.contains("oo") { "H..o..H.o.H" } else { "H..oo.H.o.H" };
        let dir = dir_with(&[("yard.toml", &yard_file(&rows.join("\n")))]);
        let r = fendle(dir.path(), &["solve", "yard.toml", "--brief"]);
        assert_eq!(r.code, 1, "{}{}", r.out, r.err);
        assert!(r.out.contains("unsolvable: ") && r.out.contains(words), "{}", r.out);
        let r = fendle(dir.path(), &["why", "yard.toml", "--format", "json"]);
        assert_eq!(r.code, 0, "{}{}", r.out, r.err);
        let j = r.json();
        assert_eq!((&j["status"], &j["reasons"][0]["kind"]), (&"dead".into(), &"relaxed puzzle".into()));
        assert!(j["reasons"][0]["part"].as_array().is_some_and(|p| p.len() <= 2), "{}", r.out);
        let r = fendle(dir.path(), &["bound", "yard.toml"]);
        assert!(r.code == 1 && r.out.contains("no goal can be reached"), "{}", r.out);
        // The proof is a small set of positions of these things alone, and is rechecked without the tables that found it.
        let r = fendle(dir.path(), &["solve", "yard.toml", "--brief", "--proof", "yard.proof"]);
        assert!(r.code == 1 && r.out.contains("a closed set of a relaxed puzzle"), "{}{}", r.out, r.err);
        let check = |file: &str| fendle(dir.path(), &["check", "--proof", "yard.proof", file]);
        let r = check("yard.toml");
        assert_eq!(r.code, 0, "{}{}", r.out, r.err);
        assert!(r.out.contains(words) && r.out.contains("lead back among"), "{}", r.out);
        std::fs::write(dir.path().join("other.toml"), yard_file(YARD)).expect("writable");
        let r = check("other.toml");
        assert!(r.code == 1 && r.out.contains("made for another level"), "{}{}", r.out, r.err);
        let mut bytes = std::fs::read(dir.path().join("yard.proof")).expect("it was written");
        let last = bytes.len() - 40;
        bytes[last] ^= 1;
        std::fs::write(dir.path().join("yard.proof"), bytes).expect("writable");
        assert_ne!(check("yard.toml").code, 0, "a damaged file");
    }
}

#[test]
fn a_large_yard_says_which_moves_are_proved_fatal_and_where_a_play_went_wrong() {
    let dir = dir_with(&[("yard.toml", &yard_file(YARD))]);
    // Beside the body in r3c9 the agent pushes it up to the wall, where no berth is.
    let walk = "go up; go up; go left; go up; go up; go right; go right; go right";
    let r = fendle(dir.path(), &["why", "yard.toml", "--format", "json"]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    let j = r.json();
    assert_eq!(j["status"], "winnable");
    assert!(
        j["least"].as_u64().is_some_and(|n| n > 20 && j["solution_moves"].as_u64() >= Some(n)),
        "{}",
        r.out
    );
    let r = fendle(
        dir.path(),
        &["review", "yard.toml", "go right; go down; go right; go up", "--format", "json"],
    );
    assert_eq!(r.code, 3, "{}{}", r.out, r.err);
    let steps = r.json()["steps"].as_array().expect("steps").len();
    assert_eq!(steps, 4);
    let r = fendle(dir.path(), &["review", "yard.toml", walk]);
    assert!(r.out.contains("too large to be seen whole") && r.out.contains("or more"), "{}", r.out);
}

#[test]
fn tables_are_kept_checked_and_made_again_when_damaged() {
    let dir = dir_with(&[("deck.toml", &deck_file(&walked(80, 3)))]);
    let bound = ["bound", "deck.toml", "--positions", "600000"];
    let made = fendle(dir.path(), &bound);
    assert_eq!(made.code, 0, "{}{}", made.out, made.err);
    let folder = dir.path().join("cache/fendle");
    let tables = || -> Vec<_> {
        let mut list: Vec<_> = fs::read_dir(&folder).expect("a folder").flatten().map(|f| f.path()).collect();
        list.sort();
        list
    };
    assert!(!tables().is_empty());
    let kept = fendle(dir.path(), &bound);
    assert!(kept.out.contains("kept from an earlier run"), "{}", kept.out);
    let without = fendle(dir.path(), &[&bound[..], &["--no-cache"]].concat());
    assert!(!without.out.contains("kept from"), "{}", without.out);
    assert_eq!(without.out, made.out, "the same whether kept or made");
    // One byte of a table changed, and another one cut.
    let list = tables();
    let mut bytes = fs::read(&list[0]).expect("readable");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&list[0], &bytes).expect("writable");
    let damaged = fendle(dir.path(), &bound);
    assert!(damaged.out.contains("damaged and made again"), "{}", damaged.out);
    assert_eq!(damaged.out.lines().nth(6), made.out.lines().nth(6));
    let again = fendle(dir.path(), &bound);
    assert_eq!(again.out, kept.out, "it was written anew");
}

#[test]
fn pegs_tours_and_cards_are_solved_by_any_way() {
    let cross = "..ooo../..ooo../ooooooo/ooo_ooo/ooooooo/..ooo../..ooo..";
    let pegs = format!("model = 'hop'\n[[level]]\nname = 'cross'\nstart.rack = '{cross}'\n");
    let tour =
        "model = 'tour'\n[[level]]\nname = 'eight'\nsize = [8, 8]\nstart = { at = 'r1c1', been = 'r1c1' }\n";
    let dir = dir_with(&[("pegs.toml", &pegs), ("tour.toml", tour)]);
    for (file, moves) in [("pegs.toml", 31), ("tour.toml", 63)] {
        let r = fendle(dir.path(), &["solve", file, "--any", "--format", "json"]);
        assert_eq!(r.code, 0, "{file}: {}{}", r.out, r.err);
        // One peg goes with each hop; each cell is visited once.
        assert_eq!(r.json()["moves"], moves, "{file}");
    }
}

#[test]
fn kept_tables_change_no_answer() {
    let dir = dir_with(&[("deck.toml", &deck_file(&walked(90, 5)))]);
    let solve = ["solve", "deck.toml", "--format", "json"];
    let solution = |more: &[&str]| {
        let r = fendle(dir.path(), &[&solve[..], more].concat());
        assert_eq!(r.code, 0, "{}{}", r.out, r.err);
        (r.json()["solution"].clone(), r.json()["shortest"].clone())
    };
    let first = solution(&[]);
    assert_eq!(first.1, true);
    // Now the larger tables of the first run are there at once.
    assert_eq!(solution(&[]), first);
    assert_eq!(solution(&["--threads", "1"]), first);
    assert_eq!(solution(&["--executor", "plain"]), first);
}

#[test]
fn states_and_memory_hold_while_a_deck_is_solved() {
    let hard = Deck([0, 15, 14, 13, 12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 1, 2]);
    let dir = dir_with(&[("deck.toml", &deck_file(&hard))]);
    let r = fendle(
        dir.path(),
        &["solve", "deck.toml", "--max-states", "300000", "--format", "json", "--no-cache"],
    );
    let j = r.json();
    assert!(r.code == 0 || r.code == 3, "{}{}", r.out, r.err);
    assert_eq!(j["stopped_by"]["limit"], "max_states", "{}", r.out);
    // Deepening looks at its watch about once in a thousand positions on each thread.
    assert!(j["states"].as_u64().is_some_and(|n| n <= 310_000), "{}", r.out);
    let r = fendle(
        dir.path(),
        &["solve", "deck.toml", "--memory", "64M", "--time", "4s", "--format", "json", "--no-cache"],
    );
    assert!(r.code == 0 || r.code == 3, "{}{}", r.out, r.err);
    assert!(r.json()["effort"]["peak_memory_bytes"].as_u64().is_some_and(|n| n <= 72 << 20), "{}", r.out);
}

#[test]
fn a_model_that_breaks_on_a_large_board_says_so() {
    let model = "model frail

level berth: set of cells
state at: cell
state box: set of cells
state rung: 0..3 = 0

move go(d: dir4) {
    let next = at + d
    refuse \"edge\" unless next on board
    let beyond = next + d
    if next in box {
        refuse \"stopped\" unless beyond on board and not beyond in box
        remove next from box
        add cell(beyond) to box
    }
    at = cell(next)
}
move ring {
    refuse \"far from the bell\" unless row(at) == 9
    rung += 1
}

goal all(c in berth: c in box)
";
    let level = "model = 'frail.fendle'
[[level]]
name = 'f'
size = [9, 9]
values.berth = 'r1c1 r1c2 r1c3 r1c4 r1c5 r1c6 r2c1'
start = { at = 'r9c9', box = 'r3c3 r4c4 r5c5 r6c6 r7c7 r3c7 r7c3' }
";
    let dir = dir_with(&[("frail.fendle", model), ("frail.toml", level)]);
    // The fourth ring breaks the range of its counter: that lies nearer than any goal.
    let r = fendle(dir.path(), &["solve", "frail.toml", "--time", "100s"]);
    assert_eq!(r.code, 2, "{}{}", r.out, r.err);
    assert!(r.err.contains("rung += 1"), "{}", r.err);
}

#[test]
fn what_relaxed_puzzles_refute_is_filed_on_the_largest_yards() {
    let mut rows: Vec<&str> = YARD.lines().collect();
    rows[1] = "Ho........H";
    rows[2] = "H..oo.H.o.H";
    let large =
        rows.join("\n").replace("HHHHHHHHHHH\nH", "HHHHHHHHHHH\nH.........H\nH.........H\nH.........H\nH");
    let dir = dir_with(&[("yard.toml", &yard_file(&large))]);
    let r = fendle(dir.path(), &["solve", "yard.toml", "--brief", "--proof", "x.proof"]);
    assert_eq!(r.code, 1, "{}{}", r.out, r.err);
    assert!(r.out.contains("a closed set of a relaxed puzzle"), "{}", r.out);
    let r = fendle(dir.path(), &["check", "--proof", "x.proof", "yard.toml", "--format", "json"]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    assert_eq!(r.json()["claim"]["kind"], "relaxed-puzzle", "{}", r.out);
}

#[test]
fn any_position_is_found_where_there_is_one() {
    let small = "model = 'shove'\n[[level]]\nname = 'yard'\nstart.yard = 'HHHHHHH/HA....H/H.oo..H/H.__w.H/H.....H/HHHHHHH'\n";
    let slide = "model = 'slide'\n[[level]]\nname = 'deck'\nvalues.target = '1 2 3/4 5 .'\nstart.tile = '1 5 3/4 2 .'\n";
    let yard = yard_file(
        "HHHHHHHHHHH\nH.........H\nH.ooo.H.o.H\nH......H..H\nH.oH.H....H\nH.....Ao..H\nH.o.___H..H\nH...____..H\nHHHHHHHHHHH",
    );
    let dir = dir_with(&[("small.toml", small), ("slide.toml", slide), ("yard.toml", &yard)]);
    let find = |file: &str, condition: &str, any: bool| {
        let mut args = vec!["find", file, condition, "--format", "json", "--max-states", "300000"];
        args.extend(any.then_some("--any"));
        fendle(dir.path(), &args)
    };
    for (file, condition) in [
        ("small.toml", "r2c2 in barge"),
        ("small.toml", "count(c in barge) == 1"),
        ("small.toml", "count(c in barge) == 1 and tug == r5c6"),
        ("small.toml", "count(c in barge) == 3"),
        ("small.toml", "all(c in berth: c in barge)"),
        ("small.toml", "r2c2 in barge and r2c6 in barge"),
        ("small.toml", "r5c2 in barge and r2c2 in barge and tug == r2c6"),
        ("slide.toml", "tile[r1c1] == 5"),
        ("slide.toml", "tile[r1c1] == 2 and tile[r1c2] == 1 and tile[r1c3] == 3 and tile[r2c1] == 4"),
        ("slide.toml", "parity(tile) == 0 and tile[r2c3] == none"),
        ("slide.toml", "parity(tile) == 1 and tile[r2c3] == none"),
    ] {
        let (all, any) = (find(file, condition, false), find(file, condition, true));
        assert_eq!(all.code, any.code, "{condition}: {}\n{}{}", all.out, any.out, any.err);
        if all.code == 2 {
            continue;
        }
        let (all, any) = (all.json(), any.json());
        assert_eq!(all["count"].as_u64() > Some(0), any["count"].as_u64() > Some(0), "{condition}");
        assert!(any["depth"].as_u64() >= all["depth"].as_u64(), "{condition}");
        if let Some(moves) = any["moves"].as_array() {
            // The way leads to where it is said to lead.
            let way: Vec<&str> = moves.iter().filter_map(|m| m.as_str()).collect();
            let there = fendle(dir.path(), &["show", file, "--line", "--after", &way.join("; ")]);
            assert_eq!(there.out.trim(), any["position"].as_str().unwrap_or_default(), "{condition}");
        }
    }
    // A board on which looking at all positions ends with nothing.
    let any = find("yard.toml", "count(c in berth where c in barge) >= 3", true);
    assert_eq!(any.code, 0, "{}{}", any.out, any.err);
    let none = find(
        "yard.toml",
        "r2c2 in barge and r2c10 in barge and r8c2 in barge and r8c10 in barge and count(c in barge) > 8",
        true,
    );
    assert_ne!(none.code, 0, "{}", none.out);
    let asks = find("yard.toml", "dead", true);
    assert_eq!(asks.code, 2);
    assert!(asks.err.contains("leave --any out"), "{}", asks.err);
}

/// A yard whose walls and berths are alike on all sides is searched once for all of them; the way that is told is one on the
/// board as it lies: each of its moves is allowed when it is played.
#[test]
fn a_yard_that_can_be_turned_is_solved_on_the_board_as_it_lies() {
    let drawn =
        ".........\n.o.....o.\n...H.H...\n_......._\n....A....\n_......._\n...H.H...\n.o.....o.\n.........";
    let dir = dir_with(&[("yard.toml", &yard_file(drawn))]);
    let found = fendle(dir.path(), &["solve", "yard.toml", "--any", "--format", "json"]);
    assert_eq!(found.code, 0, "{}{}", found.out, found.err);
    let v = found.json();
    let moves: Vec<&str> =
        v["solution"].as_array().expect("moves").iter().map(|m| m.as_str().expect("words")).collect();
    let traced = fendle(dir.path(), &["trace", "yard.toml", &moves.join("; ")]);
    assert_eq!(traced.code, 0, "{}{}", traced.out, traced.err);
    assert!(traced.out.trim_end().ends_with("won"), "{}", traced.out);
}
