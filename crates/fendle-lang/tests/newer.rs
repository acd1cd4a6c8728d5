//! The newer constructs and library models: both executors agree, positions come back from their text, likeness counts orbits,
//! and mistakes get the words that help.

use crate::common;

use std::collections::BTreeSet;

use common::{compare_space, game, games, model, round_trips};
use fendle_core::{Limits, NoWatch, explore};
use fendle_lang::{Game, Sources, compile};

/// The newer library models with the levels of the harbour.
const FAMILIES: &[(&str, &str)] = &[
    (include_str!("../../../models/patience.fendle"), include_str!("../../../packs/harbour/roster.toml")),
    (include_str!("../../../models/inlay.fendle"), include_str!("../../../packs/harbour/flag.toml")),
    (include_str!("../../../models/roll.fendle"), include_str!("../../../packs/harbour/planks.toml")),
    (include_str!("../../../models/crew.fendle"), include_str!("../../../packs/harbour/hands.toml")),
    (include_str!("../../../models/lamps.fendle"), include_str!("../../../packs/harbour/lights.toml")),
    (include_str!("../../../models/hop.fendle"), include_str!("../../../packs/harbour/pegs.toml")),
    (include_str!("../../../models/tour.fendle"), include_str!("../../../packs/harbour/rounds.toml")),
    (include_str!("../../../models/pipes.fendle"), include_str!("../../../packs/harbour/pipes.toml")),
    (include_str!("../../../models/tubes.fendle"), include_str!("../../../packs/harbour/barrels.toml")),
    (include_str!("../../../models/path.fendle"), include_str!("../../../packs/harbour/buoys.toml")),
    (include_str!("../../../models/frame.fendle"), include_str!("../../../packs/harbour/crates.toml")),
    (include_str!("../../../models/hoist.fendle"), include_str!("../../../packs/harbour/derrick.toml")),
    (include_str!("../../../models/trios.fendle"), include_str!("../../../packs/harbour/trios.toml")),
    (include_str!("../../../models/raft.fendle"), include_str!("../../../packs/harbour/rafts.toml")),
    (include_str!("../../../models/parade.fendle"), include_str!("../../../packs/harbour/parade.toml")),
    (include_str!("../../../models/blind.fendle"), include_str!("../../../packs/harbour/nightwatch.toml")),
];

/// A model that has every newer construct, and no aim but to use them.
const ALL: &str = "
model all_of_it
record lid { up: bool, n: 0..3 }
enum tone { red, blue, green }
level used: 1..3 = 2
level source: cell
level weight: array tone of 0..5 = (red: 1, blue: 2, green: 3)
state done: array 1..3 of lid
state g: grid of lid
state h: grid of maybe 1..3 = none
state q: list of cell max 4
state hue: first used of tone
shapes bit of tone mirrored { dot \"r\"; bar \"rb/b.\"; ell about cell 2, 1 \"r./b./rb\" }
state pieces: array 1..2 of placed bit
state arr: array tone of set of cells
state mat: array 1..2 of array 1..3 of 0..9
state num: array tone of grid of 0..6
state step: 0..3

derived many: bool = big(arr[red])
derived wet: set of cells = flood(a to b from source by around4 while not (a in arr[blue] and b in arr[blue]))
fn big(s: set of cells) = count(c in s) > 3
proc mark(s: set of cells, n: 0..6) { for c in s { num[red][c] = n } }

move step(k: 1..3, c: cell) {
    let late = many
    offer not late and step < 3
    step += 1
    done[k].up = not done[k].up
    done[k].n = (done[k].n + weight[hue]) mod 4
    g[c].n = count(x in wet) mod 4
    mat[1][k] = min(9, mat[1][k] + k)
    mat[2][1 + k mod 3] = mat[1][k]
    add c to arr[red]
    arr[blue] = arr[red] + set(x in around4(c))
    mark(arr[blue], count(x in arr[blue]) mod 7)
    num[blue][c] = num[red][c]
    if len(q) == 4 { q.clear() }
    q.push(c)
    let next = c + right
    if c + right on board and not c + right in arr[green] { add c + right to arr[green] }
    if next on board { h[next] = 1 + step mod 3 }
}
move turn(k: 1..2) {
    refuse \"enough\" unless step < 3
    step += 1
    pieces[k] = mirrored(turned(pieces[k]))
    if part(pieces[k], first(x in cells(pieces[k]))) == red { hue = first(t in tone where t != hue and weight[t] < 3) }
    if anchor(pieces[k]) + down on board { remove cell(anchor(pieces[k]) + down) from arr[green] }
}
goal all(l in lid where l.up: l.n < 9) and count(l in lid) == 8 and step == 3 and many
";

const ALL_LEVEL: &str = "size = [2, 3]\nvalues.source = 'r1c1'\n[level.start]\ndone = ['false.0', 'false.1', 'true.2']\n\
g = 'false.0 false.0 true.1/false.0 false.0 false.0'\nhue = 'red'\npieces = ['ell.1@r1c2', 'bar.0@r1c1']\n\
arr = '''red: .../..., blue: x../..., green: xxx/...'''\nmat = [[0, 1, 2], [3, 4, 5]]\n\
num = 'red: 0 0 0/0 0 0, blue: 0 0 0/0 0 1, green: 0 0 0/0 0 0'\nstep = 0\n";

#[test]
fn both_executors_agree_on_the_newer_models() {
    let mut compared = 0;
    for (text, levels) in FAMILIES {
        for game in games(&model(text), levels) {
            let begun = started(game.apart());
            if fendle_native::compile(&begun.bound, &begun.code).is_err() {
                // Too long for native code: such levels run by the interpreter alone.
                continue;
            }
            assert!(compare_space(&begun, 150) > 0, "{}", begun.bound.name);
            compared += 1;
        }
    }
    assert!(compared >= 20, "{compared}");
    assert!(compare_space(&game(ALL, ALL_LEVEL), 400) > 300);
}

/// A game that begins with a start of its own: where the setup draws it, with that of a seed.
fn started(game: Game) -> Game {
    if !game.bound.drawn {
        return game;
    }
    let start = fendle_lang::run::setup::sample(&game.bound, 1).expect("it draws a start").state;
    let mut begun = game.at(start.clone());
    begun.bound.drawn = game.bound.drawn;
    begun
}

/// Some reached states of a game.
fn reached(game: &Game, most: u64) -> Vec<Vec<i32>> {
    let limits = Limits { max_states: most, threads: 1, ..Limits::default() };
    let found = explore(game, limits, false, &NoWatch).expect("a sound start");
    found.space.ids().map(|id| game.unpack(&found.space.state(id))).collect()
}

#[test]
fn positions_and_numbers_come_back() {
    let all = FAMILIES.iter().flat_map(|(m, l)| games(&model(m), l)).chain([game(ALL, ALL_LEVEL)]);
    for game in all.map(started) {
        let b = &game.bound;
        let mut sources = Sources::default();
        for state in reached(&game, 60) {
            let line = b.line(&state);
            let mut errors = vec![];
            let file = sources.add("line", &line);
            let back = b.parse_line(&line, file, &mut errors);
            assert_eq!(back.as_ref(), Some(&state), "{}: {line}\n{errors:?}", b.name);
            let mut back = vec![0; state.len()];
            b.codec.unpack(&game.pack(&state), &mut back);
            assert_eq!(back, state, "{}", b.name);
        }
        round_trips(&game, 200);
    }
}

/// The states of a game as texts, brought to one form by trying all renamings that `forms` gives.
fn orbits(game: &Game, forms: impl Fn(&[i32]) -> Vec<Vec<i32>>) -> usize {
    let least = |s: &Vec<i32>| forms(s).into_iter().min().expect("at least itself");
    reached(game, 1 << 20).iter().map(least).collect::<BTreeSet<_>>().len()
}

#[test]
fn pieces_that_only_their_shape_tells_apart_count_once() {
    let text = include_str!("../../../models/frame.fendle");
    let level = |same: bool| {
        format!(
            "values = {{ pieces = 5, same = {same}, goal_at = 'r3c2' }}\nstart.deck = '''\n2233\n45.1\n....\n'''\n"
        )
    };
    let (apart, once) = (game(text, &level(false)), game(text, &level(true)));
    let orders = |s: &[i32]| {
        // All renamings of 2 to 5.
        let mut out = vec![];
        for a in 2..=5 {
            for b in (2..=5).filter(|b| *b != a) {
                for c in (2..=5).filter(|c| *c != a && *c != b) {
                    let d = 14 - a - b - c;
                    let name = |x: i32| match x {
                        2 => a,
                        3 => b,
                        4 => c,
                        5 => d,
                        other => other,
                    };
                    let deck = apart.bound.cells();
                    out.push(
                        s.iter().enumerate().map(|(i, x)| if i < deck { name(*x) } else { *x }).collect(),
                    );
                }
            }
        }
        out
    };
    let states = reached(&once, 1 << 20).len();
    assert!(reached(&apart, 1 << 20).len() > 3 * states);
    assert_eq!(orbits(&apart, orders), states);
}

#[test]
fn piles_and_suits_that_are_alike_count_once() {
    let text = include_str!("../../../models/patience.fendle");
    let level = |like: bool| {
        format!(
            "[level.values]\nsuits = 3\nranks = 2\npiles = 2\nheight = [2, 3]\nspares = 2\nany_first = true\ntall = 6\n\
             like = {like}\ndeal = '2.tar 1.rope 2.sail 1.sail 2.rope 1.tar'\n"
        )
    };
    let (apart, once) = (started(game(text, &level(false))), started(game(text, &level(true))));
    let b = &apart.bound;
    let place = |name: &str| {
        let slot = &b.slots[b.model.var(name).expect("a variable")];
        (slot.base, slot.len, slot.cap + 1)
    };
    let (pile, covered, home, spare) = (place("pile"), place("covered"), place("home"), place("spare"));
    // A record is its rank, and its suit above that: two ranks here.
    let suited = |x: i32| {
        if x / 2 == 0 {
            x + 4
        } else if x / 2 == 2 {
            x - 4
        } else {
            x
        }
    };
    let swap = |s: &mut Vec<i32>, (base, _, each): (usize, usize, usize), a: usize, b: usize| {
        for i in 0..each {
            s.swap(base + a * each + i, base + b * each + i);
        }
    };
    let forms = |s: &[i32]| {
        let mut out = vec![];
        for bits in 0..8 {
            let mut t = s.to_vec();
            if bits & 1 != 0 {
                swap(&mut t, pile, 0, 1);
                t.swap(covered.0, covered.0 + 1);
            }
            if bits & 2 != 0 {
                swap(&mut t, spare, 0, 1);
            }
            if bits & 4 != 0 {
                swap(&mut t, home, 0, 2);
                for (base, len, each) in [pile, home, spare, place("stock"), place("waste")] {
                    for list in (base..base + len).step_by(each) {
                        for i in list + 1..=list + t[list] as usize {
                            t[i] = suited(t[i]);
                        }
                    }
                }
            }
            out.push(t);
        }
        out
    };
    let states = reached(&once, 1 << 20).len();
    assert!(reached(&apart, 1 << 20).len() > 3 * states);
    assert_eq!(orbits(&apart, forms), states);
}

/// The diagnostics of a model: code, message and notes in one line each.
fn said(text: &str) -> Vec<String> {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("m", text);
    let made = compile(file, text, &mut errors);
    assert_eq!(
        made.is_none(),
        errors.iter().any(|e| e.severity == fendle_lang::Severity::Error),
        "{errors:?}"
    );
    errors.iter().map(|e| format!("{} {}; {}", e.code, e.message, e.notes.join("; "))).collect()
}

#[test]
fn signs_of_other_languages_get_the_right_word() {
    for (rule, code, words) in [
        ("if n == 1 && n < 3 { n = 2 }", "S005", "`&&` is written `and`"),
        ("if n == 1 || n == 2 { n = 2 }", "S005", "`||` is written `or`"),
        ("if !(n == 1) { n = 2 }", "S005", "`!` is written `not`"),
        ("n = n % 2", "S005", "`%` is written `mod`"),
        ("if n = 1 { n = 2 }", "S018", "write `==` here"),
        ("refuse \"no\" unless n = 1", "S018", "write `==` here"),
        ("refuse \"no\" unles n == 1; n = 2", "S010", "did you mean `unless`?"),
        ("refuse \"no\" if n == 1; n = 2", "S010", "a refusal says when the move is allowed"),
        ("let left = 1", "M001", "such as `remaining`"),
        ("let start = 1", "M001", "such as `origin`"),
        ("go = 1", "M023", "`go` is a move, not a variable"),
        ("l.n = 9 + go2", "M010", "no value is named `go2`"),
        ("l.x = 1", "M057", "its parts are: n, up"),
        ("s[1] = 4", "M020", "expected a value of `hue`"),
        ("at = at + right", "M028", "or write `cell(p)` where it is known"),
        ("offer n == 1; n = 2; offer n == 2", "M021", "only names given with `let` may stand before it"),
        ("many = true", "M025", "`many` is derived and cannot be changed"),
    ] {
        let text = format!(
            "model m\nenum hue {{ red, blue }}\nrecord lid {{ n: 0..3, up: bool }}\nlevel w: grid of bool\nstate n: 0..3\nstate l: lid\n\
             state at: cell\nstate s: array hue of array 1..2 of 0..3\nderived many = n > 2\nmove go {{\n    {rule}\n}}\ngoal n == 3\n"
        );
        let errors = said(&text);
        assert_eq!(errors.len(), 1, "{rule}: {errors:?}");
        assert!(errors[0].starts_with(code) && errors[0].contains(words), "{rule}: {errors:?}");
    }
}

#[test]
fn lines_begin_with_operators_and_names_are_free() {
    let text = "
model m
state row, count, first, place, wait, cell: 0..9
level wall: grid of bool = false
move wait {
    let min = row
        + count              // a remark between
        // and another
        - first
    offer min
        < 9
    if min == 3
        and place
        == 2 {
        cell = 1
    }
    else {
        cell = 2
    }
}
move go(at: cell) {
    refuse \"edge\" unless not at + right on board or not wall[at + right]
    let free = count(c on wall where c + up on board and not wall[c + up])
    place = if free > 3 then 1
        else 2
}
goal cell == 9
";
    assert_eq!(said(text), Vec::<String>::new());
}

#[test]
fn what_is_not_alike_is_told_with_a_way_out() {
    let base = "model m\nenum suit { oak, elm, ash }\nrecord card { rank: 0..3, suit: suit }\nlevel bright: array suit of bool = (oak: true, elm: true, ash: false)\n\
                state pile: array 1..3 of list of card max 3\nstate high: array 1..3 of 0..3\nstate n: 0..3\n";
    let rules = "move go(p: 1..3, q: 1..3) { offer p != q and len(pile[p]) > 0 and len(pile[q]) < 3\n\
                 if bright[pile[p].last.suit] { high[q] = pile[p].last.rank }\ntake last 1 of pile[p] onto pile[q] }\ngoal high[1] == high[2]\n";
    let with = |alike: &str, more: &str| said(&format!("{base}{alike}\n{rules}{more}"));
    // The goal names two piles: they are not alike; suits of one brightness are.
    assert_eq!(with("alike oak, elm", ""), Vec::<String>::new());
    let told = with("alike piles of pile, high", "");
    assert!(
        told.len() == 1 && told[0].starts_with("M061") && told[0].contains("`if not SWITCH`"),
        "{told:?}"
    );
    let named = with(
        "alike oak, elm",
        "move name { refuse \"x\" unless n < 3; if any(c in pile[1]: c.suit == oak) { n += 1 } }\n",
    );
    assert!(named.len() == 1 && named[0].starts_with("M061"), "{named:?}");
    let ordered = with(
        "alike oak, elm",
        "move pick { refuse \"x\" unless n < 3; if first(c in card where c.rank == 2).rank == 2 { n += 1 } }\n",
    );
    assert!(ordered.len() == 1 && ordered[0].starts_with("M061"), "{ordered:?}");
    let other = with("alike piles of pile, n", "");
    assert!(other.len() == 1 && other[0].starts_with("M062"), "{other:?}");
}

#[test]
fn both_executors_draw_from_a_hidden_list() {
    let text = include_str!("models/hoard.fendle");
    let game = game(text, "values = { casks = '1 2 2 4 7', room = 9 }\n");
    assert!(compare_space(&game, 400) > 5);
}
