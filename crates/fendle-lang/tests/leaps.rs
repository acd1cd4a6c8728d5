//! Moves as leaps from number to number: the tree of questions, followed by hand on every state of small boards, against the rules.

use crate::common;

use std::collections::{BTreeMap, HashMap, VecDeque};

use common::{SHOVE, SLIDE, afresh, game, leaps_agree, round_trips};
use fendle_core::{Expansion, Exploration, Explored, Limits, Model as _, MoveId, NoWatch, Status, explore};
use fendle_lang::Game;
use fendle_lang::code::leaps::{About, Delta, Endings, Leap, LeapPlan, Node};
use fendle_lang::code::native::WhenItPays;
use fendle_lang::code::numbered::Guess;
use fendle_lang::reasons::leaps::leaps;
use fendle_lang::reasons::numbering::numbering;
use fendle_lang::run::ways::Ways;
use fendle_lang::state::Keys;
use fendle_lang::state::keys::Described;
use rand::{Rng as _, SeedableRng as _, rngs::SmallRng};

/// The leaps of a level, with its numbers.
fn planned(game: &Game) -> Option<(LeapPlan, Keys)> {
    let keys = numbering(game, 1 << 17, Guess::Forbidden, &mut || false)?.keys;
    let ways = Ways::of(&game.bound, 1 << 17, &mut || false)?;
    let can = ways.can_be(&[&game.bound.position]);
    Some((leaps(game, &ways, &can, &keys)?, keys))
}

/// The leaps that a state has: each question is answered from its values.
fn taken<'n>(node: &'n Node, keys: &Keys, state: &[i32], out: &mut Vec<&'n Leap>) {
    out.extend(&node.leaps);
    let fields = keys.describe();
    for (about, branches) in &node.tests {
        let number = |field: usize, value: i32| match &fields[field].0 {
            Described::Single { values, .. } | Described::Order { values, .. } => {
                values.iter().position(|v| *v == value).expect("a value of the field") as u32
            }
            _ => value as u32,
        };
        let place = |field: usize, i: u8| state[fields[field].2[usize::from(i)]];
        let answer = match *about {
            About::Digit(f) => number(f, place(f, 0)),
            About::Member(f, i) | About::At(f, i) => number(f, place(f, i)),
            About::PlaceOf(f, n) => {
                let slots = &fields[f].2;
                slots.iter().position(|s| number(f, state[*s]) == u32::from(n)).expect("it is there") as u32
            }
        };
        if let Some(next) = branches.get(&answer) {
            taken(next, keys, state, out);
        }
    }
}

/// The number that a leap leads to: an added number as it is, everything else by changing values.
fn landed(leap: &Leap, keys: &Keys, state: &[i32]) -> Option<u64> {
    let Leap::To(deltas) = leap else { return None };
    let fields = keys.describe();
    let (mut after, mut added) = (state.to_vec(), 0);
    for delta in deltas {
        match delta {
            Delta::Add(n) => added += n,
            Delta::Moved { field, from, to } => {
                let slots = &fields[*field].2;
                assert_eq!((after[slots[usize::from(*from)]], after[slots[usize::from(*to)]]), (1, 0));
                after.swap(slots[usize::from(*from)], slots[usize::from(*to)]);
            }
            Delta::Members { field, on, off } => {
                for (i, slot) in fields[*field].2.iter().enumerate() {
                    if (on | off) >> i & 1 == 1 {
                        assert_ne!(after[*slot], (on >> i & 1) as i32);
                        after[*slot] = (on >> i & 1) as i32;
                    }
                }
            }
            Delta::Swapped { field, places: (p, q) } => {
                let slots = &fields[*field].2;
                after.swap(slots[usize::from(*p)], slots[usize::from(*q)]);
            }
            Delta::Arranged { field, from } => {
                let slots = &fields[*field].2;
                for (slot, from) in slots.iter().zip(from) {
                    after[*slot] = state[slots[usize::from(*from)]];
                }
            }
        }
    }
    Some(keys.key(&after)?.checked_add_signed(added).expect("a number"))
}

/// What the tree says of every state of a level is what the rules say; gives how many states were looked at, and how many leaps
/// had to be asked for.
fn follows(game: &Game) -> (usize, usize) {
    let (plan, keys) = planned(game).expect("leaps");
    let numbers = numbering(game, 1 << 17, Guess::Forbidden, &mut || false).expect("numbers");
    let mut worker = game.worker();
    let words = game.layout().words();
    let start = game.starts().expect("sound").remove(0).state;
    let mut seen: HashMap<u64, Vec<u64>> = HashMap::new();
    let mut arrows: Vec<(u64, MoveId, u64)> = vec![];
    let mut queue = VecDeque::from([start]);
    let mut asked = 0;
    while let Some(words_of) = queue.pop_front() {
        let state = game.unpack(&words_of);
        let number = keys.key(&state).expect("a number");
        if seen.insert(number, words_of.clone()).is_some() {
            continue;
        }
        let mut out = Expansion::default();
        worker.expand(&words_of, false, &mut out);
        let mut want: Vec<u64> =
            out.outcomes.chunks_exact(words).map(|w| keys.key(&game.unpack(w)).expect("a number")).collect();
        arrows.extend(out.runs.iter().zip(&want).map(|(run, to)| (number, run.of, *to)));
        queue.extend(out.outcomes.chunks_exact(words).map(<[u64]>::to_vec));
        if let Endings::ByAnswers(list) = &plan.endings {
            let holds = |asks: &[(About, u32)]| {
                let mut tree = Node { leaps: vec![Leap::Ask], tests: vec![] };
                for (about, answer) in asks {
                    tree = Node { leaps: vec![], tests: vec![(*about, BTreeMap::from([(*answer, tree)]))] };
                }
                let mut met = vec![];
                taken(&tree, &keys, &state, &mut met);
                !met.is_empty()
            };
            let told = list.iter().find(|(asks, _)| holds(asks)).map(|l| l.1);
            assert_eq!(told.is_none(), out.heads[0].status == Status::Running);
        }
        if out.heads[0].status != Status::Running {
            continue;
        }
        let mut met = vec![];
        taken(&plan.forwards.root, &keys, &state, &mut met);
        assert!(met.len() <= plan.forwards.most);
        if met.contains(&&Leap::Ask) {
            asked += 1;
            continue;
        }
        let mut found: Vec<u64> =
            met.iter().map(|leap| landed(leap, &keys, &state).expect("a number")).collect();
        found.sort_unstable();
        want.sort_unstable();
        assert_eq!(found, want, "{number}");
    }
    // Native code says the same, forwards and backwards.
    let mut native = afresh(game);
    native.native = WhenItPays::by(fendle_native::make);
    native.numbering(1 << 17, &mut || false).expect("numbers");
    let told = leaps_agree(&native, &mut *native.worker(), &mut *native.worker_by_number(), &seen, &arrows);
    let still = seen.len() - asked;
    assert!(told >= still, "{told} of {still} states");
    assert_eq!(numbers.keys.range(), keys.range());
    (seen.len(), asked)
}

/// All leaps of a tree.
fn all(node: &Node) -> Vec<&Leap> {
    let below = node.tests.iter().flat_map(|t| t.1.values()).flat_map(all);
    node.leaps.iter().chain(below).collect()
}

#[test]
fn a_sliding_board_has_two_leaps_for_each_two_neighbours() {
    for (rows, cols, states) in [(2usize, 3usize, 360usize), (3, 3, 181_440)] {
        let last = rows * cols;
        let target: Vec<String> = (0..rows)
            .map(|r| {
                let row = (1..=cols).map(|c| r * cols + c);
                row.map(|n| if n == last { ".".into() } else { n.to_string() }).collect::<Vec<_>>().join(" ")
            })
            .collect();
        let g = game(SLIDE, &format!("values.target = '''\n{}\n'''", target.join("\n")));
        let (plan, _) = planned(&g).expect("leaps");
        // Whichever tile slides is no matter: only where the gap is.
        let neighbours = rows * (cols - 1) + cols * (rows - 1);
        let leaps = all(&plan.forwards.root);
        assert_eq!(leaps.len(), 2 * neighbours);
        assert!(leaps.iter().all(|l| matches!(l, Leap::To(s) if matches!(s[..], [Delta::Swapped { .. }]))));
        assert_eq!(plan.forwards.most, if rows == 2 { 3 } else { 4 });
        assert_eq!(plan.backwards.as_ref().map(|b| all(&b.root).len()), Some(2 * neighbours));
        // One arrangement is won.
        assert!(matches!(&plan.endings, Endings::ByAnswers(list) if list.len() == 1));
        if rows == 2 {
            // From the target every other arrangement is reached, but play ends where it is won.
            let g =
                game(SLIDE, "values.target = '''\n1 2 3\n4 5 .\n'''\nstart.tile = '''\n1 2 3\n4 . 5\n'''");
            assert_eq!(follows(&g), (states, 0));
        }
    }
}

#[test]
fn an_agent_and_bodies_leap_as_the_rules_say() {
    for (level, asks) in [
        ("start.yard = '''\nA....\n.oo..\n.._..\n....H\n'''", false),
        // Bodies sink, so their number falls.
        ("start.yard = '''\nA...w\n.o.o.\n.._..\n'''", false),
        // Two are pushed in a row, and pulled.
        ("values.strength = 2\nvalues.pulls = true\nstart.yard = '''\nA...\n.oo.\n.._.\n'''", false),
        ("values.glide = true\nstart.yard = '''\nA....\n.o.o.\n.._..\n'''", false),
        // A gate is open while something lies on its plate.
        ("start.yard = '''\nA.pg_\n.o...\n.....\n'''", false),
        ("values.back = true\nstart.yard = '''\nAu..\n.ol.\n.._.\n'''", false),
    ] {
        let g = game(SHOVE, level);
        let (states, asked) = follows(&g);
        assert!(states > 50 && (asked > 0) == asks, "{states} states, {asked} asked: {level}");
    }
}

/// Lamps in rows, each move switches two: each lamp is a field of its own.
const LAMPS: &str = "
model lamps
state lit: grid of bool
move press(c: cell) {
    lit[c] = not lit[c]
    if c + right on board { lit[cell(c + right)] = not lit[cell(c + right)] }
}
goal all(c on lit: not lit[c])
show board layered { \"x\" lit; \".\" }
";

#[test]
fn lamps_are_digits() {
    let g = game(LAMPS, "start.board = '''\nx.x.\n.xx.\n'''");
    // Pressing lamps of a row from the left on reaches each of its patterns.
    assert_eq!(follows(&g), (256, 0));
}

/// A model with moves that read little, put together by chance: an agent that walks, lamps, tiles that are swapped or go round,
/// a counter that may pass its range and break the model, tests for "not equal", a move that changes nothing.
fn local_model(random: &mut SmallRng) -> (String, String) {
    let mut one = |list: &[&'static str]| list[random.random_range(0..list.len())];
    let walk_guard =
        one(&["", "refuse \"lit\" unless not next in lit", "refuse \"dark\" unless next in lit"]);
    let walk_more = one(&[
        "",
        "remove cell(next) from lit",
        "if n > 0 { add cell(next) to lit }",
        "if next in lit { remove cell(next) from lit; add at to lit }",
    ]);
    let count_guard = one(&["offer n < 3", "offer n < 3 or at == r1c1", "", "refuse \"no\" unless n != 2"]);
    let count_more =
        one(&["", "if tile[at] != 2 { n = 0 }", "if at in lit { n = 3 }", "if n == 2 { n = 0 }"]);
    let turn = one(&[
        "swap tile[r1c1], tile[r1c2]",
        "swap tile[r1c1], tile[r1c2]; swap tile[r1c2], tile[r2c2]",
        "swap tile[r1c1], tile[r2c3]; swap tile[r1c2], tile[r2c1]",
        "if n == 1 { swap tile[r1c3], tile[r2c3] }",
    ]);
    let slide = one(&["", "refuse \"held\" unless tile[next] != 3", "refuse \"here\" unless tile[at] == 0"]);
    let goal =
        one(&["n == 3", "at == r2c3", "tile[r1c1] == 5", "at in lit and n == 1", "count(c in lit) == 0"]);
    let lost = one(&[
        "",
        "lost when n == 2 and at == r2c1 because \"so\"\nstatus goal, lost",
        "lost when count(c in lit) > 3 because \"so\"\nstatus lost, goal",
        "over when tile[r2c2] == 4 because \"so\"\nstatus goal, over",
    ]);
    let text = format!(
        "model local
level first: grid of 0..5
state at: cell
state lit: set of cells
state n: 0..3
state tile: rearranged first
show tile {{ 0 \".\" }}
show board layered {{ \"A\" at; \"x\" lit; \".\" }}
move walk(d: dir4) {{
    let next = at + d
    refuse \"the edge\" unless next on board
    {walk_guard}
    {walk_more}
    at = cell(next)
}}
move count_on() {{
    {count_guard}
    n = n + 1
    {count_more}
}}
move turn() {{ {turn} }}
move slide(d: dir4) {{
    let next = at + d
    refuse \"the edge\" unless next on board
    {slide}
    swap tile[at], tile[next]
}}
move wait() {{ n = n }}
goal {goal}
{lost}
"
    );
    let board = one(&["A.x\n...", ".x.\nA..", "x.x\n.Ax"]);
    let level = format!(
        "values.first = '''\n0 1 2\n3 4 5\n'''\nstart.board = '''\n{board}\n'''\nstart.n = 0\n\
         start.tile = '''\n1 0 2\n3 4 5\n'''"
    );
    (text, level)
}

#[test]
fn leaps_of_random_local_models_are_what_the_rules_say() {
    let mut random = SmallRng::seed_from_u64(2024);
    let (mut told, mut states, mut broken, mut whole, mut remainders) = (0, 0, 0, 0, 0);
    for _ in 0..60 {
        let (text, level) = local_model(&mut random);
        let g = game(&text, &level);
        if let Some(trip) = round_trips(&g, 300) {
            told += trip.told;
            states += trip.states;
        }
        // Whole spaces, and what is said of them.
        let mut native = afresh(&g);
        native.native = WhenItPays::by(fendle_native::make);
        let limits = Limits { max_states: 30_000, drop_edges: true, ..Limits::default() };
        for past_goals in [false, true] {
            let explored = |game: &Game, number_from, threads| {
                let limits = Limits { number_from, threads, ..limits };
                explore(game, limits, past_goals, &NoWatch).expect("sound")
            };
            let (by_number, hashed) = (explored(&native, 1, 2), explored(&g, u64::MAX, 1));
            let said =
                |found: &Explored| Exploration { numbers: None, edges_kept: true, ..found.counts.clone() };
            assert_eq!(by_number.fault, hashed.fault, "{text}\n{level}");
            broken += usize::from(hashed.fault.is_some());
            let from_some_on = Limits { number_from: u64::MAX, remainders_from: 50, threads: 2, ..limits };
            let rests = explore(&native, from_some_on, past_goals, &NoWatch).expect("sound");
            assert_eq!(rests.fault, hashed.fault, "{text}\n{level}");
            if hashed.counts.complete {
                remainders += usize::from(rests.space.holds_remainders());
                assert_eq!(said(&rests), said(&hashed), "{text}\n{level}");
                whole += usize::from(by_number.space.holds_numbers());
                assert_eq!(said(&by_number), said(&hashed), "{text}\n{level}");
            }
        }
    }
    assert!(2 * told > states, "leaps were known of {told} of {states} states");
    assert!(broken > 5 && whole > 20, "{broken} faults, {whole} whole spaces by number");
    assert!(remainders > 20, "{remainders} whole spaces in remainders");
}
