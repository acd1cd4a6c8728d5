//! Moves as leaps from number to number: the tree of questions, followed by hand on every state of small boards, against the rules.

use crate::common;

use std::collections::{BTreeMap, HashMap, VecDeque};

use common::{SHOVE, SLIDE, afresh, game, leaps_agree};
use fendle_core::{Expansion, Limits, Model as _, MoveId, NoWatch, Status, explore};
use fendle_lang::Game;
use fendle_lang::code::leaps::{About, Endings, Leap, LeapPlan, Node, Step};
use fendle_lang::code::native::WhenItPays;
use fendle_lang::reasons::leaps::leaps;
use fendle_lang::reasons::numbering::numbering;
use fendle_lang::run::ways::Ways;
use fendle_lang::state::Keys;
use fendle_lang::state::keys::Described;

/// The leaps of a level, with its numbers.
fn planned(game: &Game) -> Option<(LeapPlan, Keys)> {
    let keys = numbering(game, 1 << 17, &mut || false)?.keys;
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
    let Leap::To(steps) = leap else { return None };
    let fields = keys.describe();
    let (mut after, mut added) = (state.to_vec(), 0);
    for step in steps {
        match step {
            Step::Add(n) => added += n,
            Step::Moved { field, from, to } => {
                let slots = &fields[*field].2;
                assert_eq!((after[slots[usize::from(*from)]], after[slots[usize::from(*to)]]), (1, 0));
                after.swap(slots[usize::from(*from)], slots[usize::from(*to)]);
            }
            Step::Members { field, on, off } => {
                for (i, slot) in fields[*field].2.iter().enumerate() {
                    if (on | off) >> i & 1 == 1 {
                        assert_ne!(after[*slot], (on >> i & 1) as i32);
                        after[*slot] = (on >> i & 1) as i32;
                    }
                }
            }
            Step::Swapped { field, places: (p, q) } => {
                let slots = &fields[*field].2;
                after.swap(slots[usize::from(*p)], slots[usize::from(*q)]);
            }
            Step::Arranged { field, from } => {
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
    let numbers = numbering(game, 1 << 17, &mut || false).expect("numbers");
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
        if let Endings::Told(list) = &plan.endings {
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
        assert!(leaps.iter().all(|l| matches!(l, Leap::To(s) if matches!(s[..], [Step::Swapped { .. }]))));
        assert_eq!(plan.forwards.most, if rows == 2 { 3 } else { 4 });
        assert_eq!(plan.backwards.as_ref().map(|b| all(&b.root).len()), Some(2 * neighbours));
        // One arrangement is won.
        assert!(matches!(&plan.endings, Endings::Told(list) if list.len() == 1));
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

/// Lamps in a ring, each move switches three: no set whose size is kept, so each lamp is a field of its own.
const LAMPS: &str = "
model lamps
state lit: grid of bool
move press(c: cell) {
    lit[c] = not lit[c]
    if c + right on board { lit[cell(c + right)] = not lit[cell(c + right)] }
}
goal all(c: not lit[c])
show lit { true \"x\"; \".\" }
";

/// A counter that must not pass 9 breaks there; something is done only where a cell is not the middle one; and a move may change nothing.
const ODD: &str = "
model odd
state at: cell
state n: 0..9
move walk(d: dir4) {
    let next = at + d
    refuse \"the edge\" unless next on board
    at = next
}
move count() {
    offer n < 9 or at == r1c1
    n = n + 1
}
move wait() { n = n }
goal n == 7 and at == r1c2
show board { \"A\" at; \".\" }
";

#[test]
fn lamps_are_digits_and_what_may_break_is_asked() {
    let g = game(LAMPS, "start.lit = '''\nx.x.\n.xx.\n'''");
    let (states, asked) = follows(&g);
    // Pressing every lamp of a row from the left reaches each of its patterns.
    assert_eq!((states, asked), (256, 0));
    let g = game(ODD, "start.board = '''\nA..\n...\n'''\nstart.n = 0");
    let (plan, _) = planned(&g).expect("leaps");
    assert!(all(&plan.forwards.root).contains(&&Leap::Ask), "counting on from 9 breaks");
    let mut native = afresh(&g);
    native.native = WhenItPays::by(fendle_native::make);
    let limits = |number_from| Limits { number_from, drop_edges: true, ..Limits::default() };
    let by_number = explore(&native, limits(1), false, &NoWatch).expect("sound");
    let hashed = explore(&g, limits(u64::MAX), false, &NoWatch).expect("sound");
    assert!(by_number.space.holds_numbers() && by_number.fault.is_some());
    assert_eq!(by_number.fault, hashed.fault);
}
