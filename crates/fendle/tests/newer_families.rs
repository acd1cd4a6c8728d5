//! Exact counts of the newer library models, each against a small search of its own that knows nothing of Fendle's language.

use std::collections::{HashMap, VecDeque};
use std::hash::Hash;

use crate::common::{dir_with, fendle};

/// What a plain search finds: states, won states, moves to the nearest of these, and states from which none can be reached.
#[derive(Debug, PartialEq, Eq)]
struct Counts {
    states: u64,
    goal: u64,
    shortest: Option<u64>,
    /// Running states from which no won one can be reached, those without a move included.
    hopeless: u64,
}

/// Breadth first from a start; `next` gives nothing where the game has ended.
fn search<S: Clone + Eq + Hash>(start: S, next: impl Fn(&S) -> Vec<S>, won: impl Fn(&S) -> bool) -> Counts {
    let mut number: HashMap<S, usize> = HashMap::from([(start.clone(), 0)]);
    let mut states = vec![start.clone()];
    let mut depth = vec![0u64];
    let mut before: Vec<Vec<usize>> = vec![vec![]];
    let mut queue = VecDeque::from([0usize]);
    while let Some(i) = queue.pop_front() {
        if won(&states[i]) {
            continue;
        }
        for s in next(&states[i].clone()) {
            let fresh = states.len();
            let j = *number.entry(s.clone()).or_insert(fresh);
            if j == fresh {
                states.push(s);
                depth.push(depth[i] + 1);
                before.push(vec![]);
                queue.push_back(j);
            }
            before[j].push(i);
        }
    }
    let goals: Vec<usize> = (0..states.len()).filter(|i| won(&states[*i])).collect();
    let mut alive = vec![false; states.len()];
    let mut stack = goals.clone();
    while let Some(i) = stack.pop() {
        if !std::mem::replace(&mut alive[i], true) {
            stack.extend(&before[i]);
        }
    }
    Counts {
        states: states.len() as u64,
        goal: goals.len() as u64,
        shortest: goals.iter().map(|i| depth[*i]).min(),
        hopeless: alive.iter().filter(|a| !**a).count() as u64,
    }
}

/// What the program says of a level; lost states count as hopeless.
fn explored(level: &str) -> Counts {
    let dir = dir_with(&[("level.toml", level)]);
    let found = fendle(dir.path(), &["explore", "level.toml", "--format", "json"]).json();
    let number = |name: &str| found[name].as_u64().unwrap_or(0);
    assert_eq!(found["complete"], true, "{found}");
    Counts {
        states: number("states"),
        goal: number("goal"),
        shortest: found["shortest"].as_u64(),
        hopeless: number("dead") + number("stuck") + number("lost"),
    }
}

const STEPS: [(i64, i64); 4] = [(-1, 0), (0, 1), (1, 0), (0, -1)];

/// A cell of a board with so many rows and columns, moved by so much; `None` off the board.
fn moved(cell: usize, by: (i64, i64), rows: usize, cols: usize) -> Option<usize> {
    let (r, c) = ((cell / cols) as i64 + by.0, (cell % cols) as i64 + by.1);
    let on = r >= 0 && c >= 0 && r < rows as i64 && c < cols as i64;
    on.then(|| r as usize * cols + c as usize)
}

#[test]
fn lamps_are_vectors_over_two_elements() {
    // On 3 x 3 the nine presses are independent; on 4 x 4 they span twelve dimensions.
    let press = |n: usize| -> Vec<u32> {
        let around =
            |c: usize| STEPS.iter().filter_map(move |s| moved(c, *s, n, n)).fold(1 << c, |m, x| m | 1 << x);
        (0..n * n).map(around).collect()
    };
    for (n, board) in [(3, "***/***/***"), (4, "*.../..../..../....")] {
        let start =
            board.replace('/', "").chars().enumerate().fold(0u32, |m, (i, c)| m | u32::from(c == '*') << i);
        let masks = press(n);
        let found = explored(&format!("model = \"lamps\"\n[[level]]\nstart.lanterns = \"{board}\"\n"));
        assert_eq!(found, search(start, |s| masks.iter().map(|m| s ^ m).collect(), |s| *s == 0), "{board}");
        assert_eq!(found.states, if n == 3 { 512 } else { 4096 });
    }
}

#[test]
fn pegs_hop() {
    let board = "o_oo/oooo/oooo/oooo";
    let start =
        board.replace('/', "").chars().enumerate().fold(0u32, |m, (i, c)| m | u32::from(c == 'o') << i);
    let next = |s: &u32| {
        let mut out = vec![];
        for c in (0..16).filter(|c| s >> c & 1 == 1) {
            for (dr, dc) in STEPS {
                let (Some(over), Some(to)) = (moved(c, (dr, dc), 4, 4), moved(c, (2 * dr, 2 * dc), 4, 4))
                else {
                    continue;
                };
                if s >> over & 1 == 1 && s >> to & 1 == 0 {
                    out.push(s & !(1 << c) & !(1 << over) | 1 << to);
                }
            }
        }
        out
    };
    let found = explored(&format!("model = \"hop\"\n[[level]]\nstart.rack = \"{board}\"\n"));
    assert_eq!(found, search(start, next, |s| s.count_ones() == 1));
}

#[test]
fn a_tour_visits_every_cell_once() {
    let leaps = [(1, 2), (2, 1), (-1, 2), (2, -1), (1, -2), (-2, 1), (-1, -2), (-2, -1)];
    let next = |s: &(usize, u32)| {
        leaps
            .iter()
            .filter_map(|l| moved(s.0, *l, 3, 4))
            .filter(|c| s.1 >> c & 1 == 0)
            .map(|c| (c, s.1 | 1 << c))
            .collect()
    };
    let found = explored("model = \"tour\"\n[[level]]\nstart.round = \"A.../..../....\"\n");
    assert_eq!(found, search((0usize, 1u32), next, |s| s.1 == (1 << 12) - 1));
}

#[test]
fn a_path_meets_the_numbers_in_their_order() {
    let number = [1, 0, 0, 4, 0, 0, 0, 0, 0, 2, 0, 0, 0, 0, 3, 0];
    let next = |s: &(usize, u32, u8)| {
        let mut out = vec![];
        for c in STEPS.iter().filter_map(|d| moved(s.0, *d, 4, 4)) {
            if s.1 >> c & 1 == 0 && (number[c] == 0 || number[c] == s.2 + 1) {
                out.push((c, s.1 | 1 << c, s.2.max(number[c])));
            }
        }
        out
    };
    let level = "model = \"path\"\n[[level]]\nvalues.number = \"1 . . 4/. . . ./. 2 . ./. . 3 .\"\nstart = { head = \"r1c1\", trail = \"r1c1\" }\n";
    let won = |s: &(usize, u32, u8)| s.2 == 4 && number[s.0] == 4 && s.1 == (1 << 16) - 1;
    assert_eq!(explored(level), search((0usize, 1u32, 1u8), next, won));
}

#[test]
fn pipes_are_tight_in_as_many_ways_as_all_turns_say() {
    // Openings of each kind as bits: up, right, down, left.
    let kind = |k: char| match k {
        's' => 0b0001u8,
        'e' => 0b0011,
        _ => 0b1111,
    };
    let kinds: Vec<u8> = "seseceses".chars().map(kind).collect();
    let turned = |k: u8, n: u8| (k << n | k >> (4 - n)) & 15;
    let mut tight = 0;
    let loose: Vec<usize> = (0..9).filter(|c| kinds[*c] != 15).collect();
    for code in 0..4u32.pow(loose.len() as u32) {
        let mut open = kinds.clone();
        for (i, c) in loose.iter().enumerate() {
            open[*c] = turned(kinds[*c], (code >> (2 * i) & 3) as u8);
        }
        let meets =
            |c: usize, d: usize| moved(c, STEPS[d], 3, 3).filter(|n| open[*n] >> ((d + 2) % 4) & 1 == 1);
        let sound = (0..9).all(|c| (0..4).all(|d| open[c] >> d & 1 == 0 || meets(c, d).is_some()));
        let mut wet = [false; 9];
        let mut stack = vec![4usize];
        while let Some(c) = stack.pop() {
            if !std::mem::replace(&mut wet[c], true) {
                stack.extend((0..4).filter(|d| open[c] >> d & 1 == 1).filter_map(|d| meets(c, d)));
            }
        }
        tight += u64::from(sound && wet == [true; 9]);
    }
    let found =
        explored("model = \"pipes\"\n[[level]]\nvalues = { pump = \"r2c2\", kind = \"ses/ece/ses\" }\n");
    assert_eq!((found.states, found.goal), (65_536, tight));
}

#[test]
fn tubes_are_poured_whatever_they_are_called() {
    let start = ["tkto", "tota", "atoa"];
    // t tar, k rust, o ochre, a chalk: any four letters will do, for they are only compared.
    let words = |s: &str| {
        let name = |c: char| match c {
            't' => "tar",
            'k' => "rust",
            'o' => "ochre",
            _ => "chalk",
        };
        s.chars().map(name).collect::<Vec<_>>().join(" ")
    };
    let run = |t: &str| t.chars().rev().take_while(|c| t.ends_with(*c)).count();
    let next = |s: &Vec<String>| {
        let mut out = vec![];
        for a in 0..s.len() {
            for b in (0..s.len()).filter(|b| *b != a && !s[a].is_empty()) {
                let top = s[a].chars().last().expect("not empty");
                let fits = s[b].is_empty() || s[b].ends_with(top);
                if !fits || s[b].len() == 4 || s[b].is_empty() && run(&s[a]) == s[a].len() {
                    continue;
                }
                let mut t = s.clone();
                for _ in 0..run(&s[a]).min(4 - s[b].len()) {
                    let c = t[a].pop().expect("in the run");
                    t[b].push(c);
                }
                t.sort();
                out.push(t);
            }
        }
        out
    };
    let won = |s: &Vec<String>| s.iter().all(|t| t.is_empty() || t.len() == 4 && run(t) == 4);
    let mut begin: Vec<String> =
        start.iter().map(ToString::to_string).chain(["".into(), "".into()]).collect();
    let tubes: Vec<String> = begin
        .iter()
        .map(|t| format!("\"{}\"", if t.is_empty() { "empty".into() } else { words(t) }))
        .collect();
    let level =
        format!("model = \"tubes\"\n[[level]]\nvalues.tubes = 5\nstart.tube = [{}]\n", tubes.join(", "));
    begin.sort();
    assert_eq!(explored(&level), search(begin, next, won));
}

#[test]
fn a_picture_has_as_many_fillings_as_its_pieces_allow() {
    // All ways to lay the pieces of the small set onto the picture, each set of placements once.
    let picture = ["rrw", "rbb", "wrw"].concat().into_bytes();
    /// Cells with their colours, and how many there are of the piece.
    type Piece = (&'static [(i64, i64, u8)], usize);
    let shapes: [Piece; 4] = [
        (&[(0, 0, b'r')], 3),
        (&[(0, 0, b'r'), (0, 1, b'w')], 3),
        (&[(0, 0, b'w'), (0, 1, b'r'), (0, 2, b'w')], 1),
        (&[(0, 0, b'r'), (1, 0, b'r'), (1, 1, b'b'), (1, 2, b'b')], 1),
    ];
    let mut lays: Vec<(usize, u16)> = vec![];
    for (k, (cells, _)) in shapes.iter().enumerate() {
        let mut turned: Vec<(i64, i64, u8)> = cells.to_vec();
        for _ in 0..4 {
            turned = turned.iter().map(|&(r, c, p)| (c, -r, p)).collect();
            for at in 0..9 {
                let on: Option<Vec<usize>> = turned
                    .iter()
                    .map(|&(r, c, p)| moved(at, (r, c), 3, 3).filter(|x| picture[*x] == p))
                    .collect();
                if let Some(on) = on {
                    lays.push((k, on.iter().fold(0, |m, c| m | 1 << c)));
                }
            }
        }
    }
    // Two turns that cover the same cells with the same colours look the same, but may lie differently about their first cell:
    // one piece of the model has one anchor, so they are one placement.
    lays.sort_unstable();
    lays.dedup();
    let next = |s: &Vec<usize>| {
        let covered = s.iter().fold(0u16, |m, i| m | lays[*i].1);
        let used = |k: usize| s.iter().filter(|i| lays[**i].0 == k).count();
        let mut out = vec![];
        for (i, (k, mask)) in lays.iter().enumerate() {
            if covered & mask == 0 && used(*k) < shapes[*k].1 {
                let mut t = s.clone();
                t.push(i);
                t.sort_unstable();
                out.push(t);
            }
        }
        out
    };
    let won = |s: &Vec<usize>| s.iter().fold(0u16, |m, i| m | lays[*i].1) == 0x1ff;
    let level = "model = \"inlay\"\n[[level]]\nvalues.lifted = false\nvalues.picture = \"red red white/red blue blue/white red white\"\nvalues.count = { dot = 3, pair = 3, knee = 0, long = 1, hook = 1 }\n";
    assert_eq!(explored(level), search(vec![], next, won));
}

/// A picture of as many pieces as a level of real size has: one more is laid for each move, and the picture is done when all are.
#[test]
fn a_picture_takes_as_many_pieces_as_a_level_has() {
    let colours: Vec<&str> = (0..9).map(|_| "red").chain(["red", "white"].repeat(9)).collect();
    let level = format!(
        "model = \"inlay\"\n[[level]]\nvalues.picture = \"{}\"\nvalues.count = {{ dot = 9, pair = 9, knee = 0, long = 0, hook = 0 }}\n",
        colours.join(" ")
    );
    let dir = dir_with(&[("level.toml", &level)]);
    let dots = (1..=9).map(|c| format!("lay dot false 0 r1c{c}"));
    let pairs = (0..9).map(|n| format!("lay pair false 0 r1c{}", 10 + 2 * n));
    let moves: Vec<String> = dots.chain(pairs).collect();
    let r = fendle(dir.path(), &["trace", "level.toml", &moves.join("; "), "--format", "json"]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    let traced = r.json();
    let steps = traced["steps"].as_array().expect("the moves");
    assert_eq!(
        (steps.len(), steps[17]["status"].as_str(), steps[16]["status"].as_str()),
        (18, Some("won"), Some("running")),
        "{traced}"
    );
}

/// A whole deck lies face down in seven piles and a stock: every card of the stock can be dealt, and no other one then.
#[test]
fn a_whole_deck_is_dealt_face_down() {
    let cards: Vec<String> = (0..52).map(|n| (1 + n * 17 % 52).to_string()).collect();
    let level = format!(
        "model = \"blind\"\n[[level]]\nvalues = {{ ranks = 13, piles = 7, height = [1, 2, 3, 4, 5, 6, 7], deck = \"{}\" }}\nstart.face = \"{}\"\n",
        cards.join(" "),
        cards.join(" ")
    );
    let dir = dir_with(&[("level.toml", &level)]);
    let stock = 52 - (1..=7).sum::<usize>();
    let deal = |n: usize| vec!["deal_on"; n].join("; ");
    let r = fendle(dir.path(), &["trace", "level.toml", &deal(stock)]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    let r = fendle(dir.path(), &["trace", "level.toml", &deal(stock + 1)]);
    assert_eq!(r.code, 1, "{}{}", r.out, r.err);
    assert!(r.out.contains("nothing is left to deal"), "{}{}", r.out, r.err);
}

#[test]
fn a_level_draws_its_pieces() {
    let level = |pair: &str| {
        format!(
            "model = \"inlay\"\n[[level]]\nshapes.pair = \"{pair}\"\nvalues.picture = \"blue white/open open\"\n\
             values.count = {{ dot = 0, pair = 1, knee = 0, long = 0, hook = 0 }}\n"
        )
    };
    assert_eq!(explored(&level("bw")), Counts { states: 2, goal: 1, shortest: Some(1), hopeless: 0 });
    assert_eq!(explored(&level("rw")), Counts { states: 1, goal: 0, shortest: None, hopeless: 1 });
    let dir = dir_with(&[("level.toml", level("bw").replace("pair =", "piar =").as_str())]);
    let r = fendle(dir.path(), &["check", "level.toml"]);
    assert!(
        r.code == 2 && r.err.contains("no shape named `piar`") && r.err.contains("did you mean `pair`?"),
        "{}",
        r.err
    );
}

#[test]
fn barges_slide_on_ice() {
    let board = "HHHHHHHH/H......H/H.o.A..H/H.....HH/H_..H..H/HHHHHHHH";
    let text: Vec<u8> = board.replace('/', "").into_bytes();
    let at = |g: u8| text.iter().position(|c| *c == g).expect("on the board");
    let (start, berth) = ((at(b'A'), at(b'o')), at(b'_'));
    let next = |s: &(usize, usize)| {
        let mut out = vec![];
        for d in STEPS {
            let to = moved(s.0, d, 6, 8).expect("walls all round");
            if text[to] == b'H' {
                continue;
            }
            if to != s.1 {
                out.push((to, s.1));
                continue;
            }
            let mut barge = to;
            while let Some(n) = moved(barge, d, 6, 8).filter(|n| text[*n] != b'H') {
                barge = n;
            }
            if barge != to {
                out.push((to, barge));
            }
        }
        out
    };
    let found =
        explored(&format!("model = \"shove\"\n[[level]]\nvalues.glide = true\nstart.yard = \"{board}\"\n"));
    assert_eq!(found, search(start, next, |s| s.1 == berth));
}

#[test]
fn two_barges_are_pushed_in_a_row() {
    let board = "HHHHHHHH/H......H/H.Aoo__H/H......H/HHHHHHHH";
    let text: Vec<u8> = board.replace('/', "").into_bytes();
    let all = |g: u8| text.iter().enumerate().filter(|(_, c)| **c == g).map(|(i, _)| i).collect::<Vec<_>>();
    let berths = all(b'_');
    let next = |s: &(usize, Vec<usize>)| {
        let mut out = vec![];
        for d in STEPS {
            let to = moved(s.0, d, 5, 8).expect("walls all round");
            if text[to] == b'H' {
                continue;
            }
            let mut barges = s.1.clone();
            if barges.contains(&to) {
                let one = moved(to, d, 5, 8).expect("walls all round");
                let two = moved(one, d, 5, 8).filter(|_| barges.contains(&one));
                let free = two.unwrap_or(one);
                if text[free] == b'H' || barges.contains(&free) {
                    continue;
                }
                barges.retain(|b| *b != to);
                barges.push(free);
                barges.sort_unstable();
            }
            out.push((to, barges));
        }
        out
    };
    let found =
        explored(&format!("model = \"shove\"\n[[level]]\nvalues.strength = 2\nstart.yard = \"{board}\"\n"));
    assert_eq!(found, search((all(b'A')[0], all(b'o')), next, |s| berths.iter().all(|b| s.1.contains(b))));
}

#[test]
fn rafts_push_each_other() {
    const ROWS: usize = 4;
    const COLS: usize = 6;
    let raft =
        b"......".iter().chain(b".1....").chain(b".11.2.").chain(b"....2.").copied().collect::<Vec<u8>>();
    for (strength, level_of) in [(1, "strength = 1"), (2, "strength = 2")] {
        let next = |s: &(usize, Vec<u8>)| {
            let mut out = vec![];
            for d in STEPS {
                let Some(to) = moved(s.0, d, ROWS, COLS) else { continue };
                let mut moving: Vec<u8> = vec![];
                let mut ahead = vec![s.1[to]];
                // The names of all that moves along.
                while let Some(k) = ahead.pop().filter(|k| *k != b'.') {
                    if moving.contains(&k) {
                        continue;
                    }
                    moving.push(k);
                    let front =
                        (0..ROWS * COLS).filter(|c| s.1[*c] == k).filter_map(|c| moved(c, d, ROWS, COLS));
                    ahead.extend(front.map(|c| s.1[c]).filter(|n| *n != b'.'));
                }
                let mut t = vec![b'.'; ROWS * COLS];
                let mut sound = moving.len() <= strength;
                for (c, k) in s.1.iter().enumerate().filter(|(_, k)| **k != b'.') {
                    match if moving.contains(k) { moved(c, d, ROWS, COLS) } else { Some(c) } {
                        Some(c) => t[c] = *k,
                        None => sound = false,
                    }
                }
                if sound {
                    out.push((to, t));
                }
            }
            out
        };
        let won = |s: &(usize, Vec<u8>)| [9, 15, 16].iter().all(|c| s.1[*c] == b'1');
        let level = format!(
            "model = \"raft\"\n[[level]]\nvalues = {{ {level_of}, berth = \"....../...1../...11./......\" }}\n\
             start = {{ tug = \"r1c1\", raft = \"....../.1..../.11.2./....2.\" }}\n"
        );
        assert_eq!(explored(&level), search((0usize, raft.clone()), next, won), "{level_of}");
    }
}

#[test]
fn planks_roll_and_are_tarred() {
    const ROWS: usize = 5;
    const COLS: usize = 6;
    let cell = |r: usize, c: usize| (r - 1) * COLS + c - 1;
    let tar = [cell(1, 3), cell(1, 4), cell(2, 3), cell(2, 4)];
    let berth = [cell(1, 3), cell(1, 4)];
    // Hand, the plank's left cell (it never stands upright here), coats: upper and lower of both parts; spoilt.
    type State = (usize, usize, [u8; 4], bool);
    let next = |s: &State| {
        let mut out: Vec<State> = vec![];
        if s.3 {
            return out;
        }
        for (i, d) in STEPS.iter().enumerate() {
            let Some(to) = moved(s.0, *d, ROWS, COLS) else { continue };
            let mut t = (to, s.1, s.2, false);
            if to == s.1 || to == s.1 + 1 {
                let (Some(a), Some(_)) = (moved(s.1, *d, ROWS, COLS), moved(s.1 + 1, *d, ROWS, COLS)) else {
                    continue;
                };
                t.1 = a;
                if i % 2 == 0 {
                    t.2 = [s.2[1], s.2[0], s.2[3], s.2[2]];
                }
                for (k, c) in [(1, a), (3, a + 1)] {
                    if tar.contains(&c) && !t.3 {
                        if t.2[k] == 1 { t.3 = true } else { t.2[k] += 1 }
                    }
                }
            }
            if t.3 {
                // The move ends where it is spoilt: the hand stays.
                t.0 = s.0;
            }
            out.push(t);
        }
        out
    };
    let won = |s: &State| !s.3 && s.2 == [1; 4] && berth.iter().all(|b| *b == s.1 || *b == s.1 + 1);
    let level = "model = \"roll\"\n[[level]]\nsize = [5, 6]\nvalues = { tar = \"r1c3 r1c4 r2c3 r2c4\", berth = \"r1c3 r1c4\" }\nstart = { hand = \"r4c1\", foot = [\"r3c3\"], near = [\"0.0\"], far = [\"0.0\"] }\n";
    assert_eq!(explored(level), search((cell(4, 1), cell(3, 3), [0; 4], false), next, won));
}

#[test]
fn a_hand_turns_with_its_tool() {
    const ROWS: usize = 4;
    const COLS: usize = 5;
    // Cell of the hand, its facing, the crate.
    type State = (usize, usize, usize);
    let at = |c: usize, d: usize| moved(c, STEPS[d], ROWS, COLS);
    // Enters a cell in a direction: where the crate is then, or `None`.
    let enter = |to: Option<usize>, d: usize, load: usize| -> Option<usize> {
        let to = to?;
        if to != load { Some(load) } else { at(load, d) }
    };
    let next = |s: &State| {
        let mut out: Vec<State> = vec![];
        // The tool may reach over the edge: then it is off the board, and enters nothing there.
        let tip =
            |c: usize, f: usize| (c / COLS) as i64 * 100 + (c % COLS) as i64 + STEPS[f].0 * 100 + STEPS[f].1;
        let on = |p: i64| {
            let (r, c) = (p.div_euclid(100), p.rem_euclid(100));
            (r >= 0 && r < ROWS as i64 && c < COLS as i64).then(|| r as usize * COLS + c as usize)
        };
        for (d, step) in STEPS.iter().enumerate() {
            let by = step.0 * 100 + step.1;
            let Some(load) = enter(on(tip(s.0, s.1) + by), d, s.2) else { continue };
            let Some(to) = at(s.0, d) else { continue };
            if d == s.1 {
                out.push((to, s.1, load));
                continue;
            }
            // Both ways in are looked at before either crate moves; with one crate they never meet.
            if enter(Some(to), d, s.2).is_none() {
                continue;
            }
            let load = enter(Some(to), d, load).expect("it could be entered");
            out.push((to, s.1, load));
        }
        for by in [1, 3] {
            let new = (s.1 + by) % 4;
            let corner = on(tip(s.0, s.1) + STEPS[new].0 * 100 + STEPS[new].1);
            let (Some(load), Some(_)) = (enter(corner, new, s.2), enter(at(s.0, new), (s.1 + 2) % 4, s.2))
            else {
                continue;
            };
            let Some(load) = enter(at(s.0, new), (s.1 + 2) % 4, load) else { continue };
            out.push((s.0, new, load));
        }
        out
    };
    let start = (2 * COLS + 1, 0, COLS + 2);
    let level = "model = \"crew\"\n[[level]]\nsize = [4, 5]\nvalues = { berth = \"r1c5\", back = true }\nstart = { at = [\"r3c2\"], face = [\"up\"], crate = \"r2c3\" }\n";
    assert_eq!(explored(level), search(start, next, |s| s.2 == 4 && (s.0, s.1) == (start.0, start.1)));
}

/// A card: rank from 1, suit from 0.
type Card = (u8, u8);

#[derive(Clone, PartialEq, Eq, Hash)]
struct Deal {
    piles: Vec<Vec<Card>>,
    covered: Vec<usize>,
    home: Vec<u8>,
    stock: Vec<Card>,
    waste: Vec<Card>,
    again: u8,
}

#[test]
fn a_small_deal_is_played_out() {
    let card = |w: &str| -> Card {
        let (rank, suit) = w.split_once('.').expect("a card");
        (rank.parse().expect("a rank"), u8::from(suit == "rope"))
    };
    let words = "4.rope 3.rope 1.rope 2.tar 3.tar 5.rope 4.tar 5.tar 2.rope 1.tar";
    let mut deal: VecDeque<Card> = words.split(' ').map(card).collect();
    let mut take = |n: usize| -> Vec<Card> { (0..n).map(|_| deal.pop_front().expect("a card")).collect() };
    let piles = vec![take(1), take(2), take(3)];
    let stock: Vec<Card> = deal.iter().rev().copied().collect();
    let start = Deal { piles, covered: vec![0, 1, 2], home: vec![0, 0], stock, waste: vec![], again: 0 };
    let fits = |a: Card, b: Card| a.0 + 1 == b.0 && a.1 != b.1;
    let takes = |d: &Deal, p: usize, c: Card| d.piles[p].last().map_or(c.0 == 5, |last| fits(c, *last));
    let up = |d: &mut Deal, p: usize| {
        if !d.piles[p].is_empty() && d.covered[p] == d.piles[p].len() {
            d.covered[p] -= 1;
        }
    };
    let next = |d: &Deal| {
        let mut out = vec![];
        for a in 0..3 {
            for n in 1..=d.piles[a].len() - d.covered[a] {
                let foot = d.piles[a].len() - n;
                if !d.piles[a][foot..].windows(2).all(|w| fits(w[1], w[0])) {
                    continue;
                }
                for b in (0..3).filter(|b| *b != a) {
                    if takes(d, b, d.piles[a][foot]) && (foot > 0 || !d.piles[b].is_empty()) {
                        let mut t = d.clone();
                        let run = t.piles[a].split_off(foot);
                        t.piles[b].extend(run);
                        up(&mut t, a);
                        out.push(t);
                    }
                }
            }
            if let Some(c) = d.piles[a].last().filter(|c| c.0 == d.home[c.1 as usize] + 1) {
                let mut t = d.clone();
                t.home[c.1 as usize] += 1;
                t.piles[a].pop();
                up(&mut t, a);
                out.push(t);
            }
        }
        let mut t = d.clone();
        if let Some(c) = t.stock.pop() {
            t.waste.push(c);
            out.push(t);
        } else if !t.waste.is_empty() && t.again < 1 {
            t.again += 1;
            t.stock = t.waste.drain(..).rev().collect();
            out.push(t);
        }
        if let Some(c) = d.waste.last().copied() {
            let mut without = d.clone();
            without.waste.pop();
            for b in (0..3).filter(|b| takes(d, *b, c)) {
                let mut t = without.clone();
                t.piles[b].push(c);
                out.push(t);
            }
            if c.0 == d.home[c.1 as usize] + 1 {
                without.home[c.1 as usize] += 1;
                out.push(without);
            }
        }
        out
    };
    let level = format!(
        "model = \"patience\"\n[[level]]\n[level.values]\nsuits = 2\nranks = 5\npiles = 3\nheight = [1, 2, 3]\nfaced = [0, 1, 2]\ntall = 8\nredeals = 1\ndeal = \"{words}\"\n"
    );
    assert_eq!(explored(&level), search(start, next, |d| d.home == [5, 5]));
}

const HOARD: &str = include_str!("../../fendle-lang/tests/models/hoard.fendle");

/// All orders of the values, equal ones as often as they come.
fn orders(values: &[u64]) -> Vec<Vec<u64>> {
    if values.is_empty() {
        return vec![vec![]];
    }
    let mut out = vec![];
    for i in 0..values.len() {
        let mut rest = values.to_vec();
        let first = rest.remove(i);
        out.extend(orders(&rest).into_iter().map(|o| [vec![first], o].concat()));
    }
    out
}

#[test]
fn a_hidden_list_is_lifted_in_every_order() {
    for (casks, room) in [(vec![1, 2, 3], 3), (vec![1, 2, 2, 3], 5), (vec![4, 1, 1, 2, 5], 6)] {
        // Putting a cask back tells nothing: it comes again. So what counts is whether some first casks weigh as much.
        let all = orders(&casks);
        let wins = all.iter().filter(|o| {
            let mut sum = 0;
            o.iter().any(|c| {
                sum += c;
                sum == room
            })
        });
        let (wins, all) = (wins.count(), all.len());
        let words: Vec<String> = casks.iter().map(u64::to_string).collect();
        let level = format!(
            "model = 'hoard.fendle'\n[[level]]\nname = 'a'\nvalues = {{ casks = '{}', room = {room} }}\n",
            words.join(" ")
        );
        let dir = dir_with(&[("hoard.fendle", HOARD), ("level.toml", &level)]);
        let odds = fendle(dir.path(), &["odds", "level.toml", "--format", "json"]).json();
        let best = odds["best_probability"]["exact"].as_str().unwrap_or_else(|| panic!("{odds}")).to_string();
        let (num, den) = best.split_once('/').unwrap_or((&best, "1"));
        let (num, den): (usize, usize) = (num.parse().expect("a number"), den.parse().expect("a number"));
        assert_eq!(num * all, wins * den, "{casks:?}: {best}, {wins} of {all}");
    }
}

#[test]
fn a_hidden_list_shows_its_length_and_nothing_else() {
    let level = "model = 'hoard.fendle'\n[[level]]\nname = 'a'\nvalues = { casks = '1 2 3', room = 3 }\n";
    let dir = dir_with(&[("hoard.fendle", HOARD), ("level.toml", level)]);
    let run = |args: &[&str]| fendle(dir.path(), args).out;
    for seed in ["1", "2", "3", "4"] {
        let seen = run(&["show", "level.toml", "--view", "player", "--line", "--seed", seed]);
        assert_eq!(seen.trim(), "quay=empty; hold=~ ~ ~");
    }
    // What was lifted is known, what is left is not.
    let known = run(&["infer", "level.toml", "--at", "hold=1 3; quay=2"]);
    assert!(known.contains("2 layouts agree") && known.contains("hold[2]  1: 1/2, 3: 1/2"), "{known}");
    let refused = fendle(dir.path(), &["infer", "level.toml", "--at", "hold=~ ~; quay=2"]);
    assert!(refused.err.contains("L085") && refused.err.contains("--after"), "{}", refused.err);
    // A start holds the same casks.
    let wrong = format!("{level}start.hold = '1 1 2'\n");
    let dir = dir_with(&[("hoard.fendle", HOARD), ("level.toml", &wrong)]);
    let refused = fendle(dir.path(), &["check", "level.toml"]);
    assert!(refused.err.contains("L034") && refused.err.contains("1 is there 2 times"), "{}", refused.err);
}

#[test]
fn a_hidden_list_decides_about_no_move() {
    let cases = [
        ("unless len(hold) > 0", "unless hold.last > 1", "M065"),
        (
            "take last 1 of hold onto quay\n",
            "take last 1 of hold onto quay\n    refuse \"too light\" unless quay.last > 1\n",
            "M065",
        ),
        ("hidden hold: rearranged casks", "state hold: rearranged casks", "M008"),
        ("hidden hold: rearranged casks", "hidden hold: list of 1..9 max 9", "M063"),
        ("hidden hold: rearranged casks", "hidden hold: rearranged room", "M009"),
    ];
    for (from, to, code) in cases {
        assert!(HOARD.contains(from), "{from}");
        let dir = dir_with(&[("hoard.fendle", &HOARD.replacen(from, to, 1))]);
        let refused = fendle(dir.path(), &["check", "hoard.fendle"]);
        assert!(refused.err.contains(code), "{to}: {}", refused.err);
    }
}
