//! Native code for packed states, on models whose states take any number of bits: fields of every width that begin anywhere, cross from
//! word to word, may hold nothing, or never change; against the interpreter and against what the values are.

use crate::common;

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::sync::Arc;

use common::{both, compare_native, compiled, games, model, times};
use fendle_lang::Game;
use fendle_lang::code::machine::{Halt, Machine, Native};
use fendle_lang::state::packing::PackedField;
use rand::{Rng, SeedableRng, rngs::SmallRng};

/// A variable of a random model.
#[derive(Clone, Copy, Debug)]
enum Var {
    /// A number from one bound to the other.
    Number(i32, i32),
    /// The same, or nothing.
    Maybe(i32, i32),
    /// One in each cell.
    Grid(i32, i32),
    /// The same, or nothing.
    GridOfMaybe(i32, i32),
    Flags,
}

use Var::*;

impl Var {
    fn any(rng: &mut SmallRng) -> Var {
        let lo = [0, 0, 1, -5, -300][rng.random_range(0..5)];
        let count = [1, 2, 3, 4, 6, 9, 16, 17, 30, 100, 1000][rng.random_range(0..11)];
        let (lo, hi) = (lo, lo + count - 1);
        match rng.random_range(0..7) {
            0 | 1 => Number(lo, hi),
            2 => Maybe(lo, hi),
            3 | 4 => Grid(lo, hi.min(lo + 29)),
            5 => GridOfMaybe(lo, hi.min(lo + 29)),
            _ => Flags,
        }
    }

    /// Its declaration under a name.
    fn declared(self, name: &str, rng: &mut SmallRng) -> String {
        let first = |rng: &mut SmallRng, lo: i32, hi: i32| rng.random_range(lo..=hi);
        match self {
            Number(lo, hi) => format!("state {name}: {lo}..{hi} = {}", first(rng, lo, hi)),
            Maybe(lo, hi) => format!("state {name}: maybe {lo}..{hi} = none"),
            Grid(lo, hi) => format!("state {name}: grid of {lo}..{hi} = {}", first(rng, lo, hi)),
            GridOfMaybe(lo, hi) => format!("state {name}: grid of maybe {lo}..{hi} = none"),
            Flags => format!("state {name}: grid of bool = {}", rng.random_range(0..2) == 1),
        }
    }

    /// A statement that changes it, in cell `c` where it is a grid.
    fn changed(self, name: &str, rng: &mut SmallRng) -> String {
        // Every value of a range is met by steps that have no divisor in common with their number.
        let next =
            |x: &str, lo: i32, hi: i32, by: i32| format!("{lo} + ({x} - {lo} + {by}) mod {}", hi - lo + 1);
        let by = [1, 7, 11, 389][rng.random_range(0..4)];
        match self {
            Number(lo, hi) => format!("{name} = {}", next(name, lo, hi, by)),
            Maybe(lo, hi) => format!(
                "if {name} == none {{ {name} = {lo} }} else {{ if given({name}) == {hi} {{ {name} = none }} else {{ {name} = given({name}) + 1 }} }}"
            ),
            Grid(lo, hi) => format!("{name}[c] = {}", next(&format!("{name}[c]"), lo, hi, by)),
            GridOfMaybe(lo, hi) => format!(
                "if {name}[c] == none {{ {name}[c] = {hi} }} else {{ if given({name}[c]) == {lo} {{ {name}[c] = none }} else {{ {name}[c] = given({name}[c]) - 1 }} }}"
            ),
            Flags => format!("{name}[c] = not {name}[c]"),
        }
    }
}

/// A model of some variables, with moves that change a few of them in one cell or in all.
fn random_game(rng: &mut SmallRng) -> (Game, String) {
    let vars: Vec<Var> = (0..rng.random_range(1..8)).map(|_| Var::any(rng)).collect();
    let mut text = "model packed\nstate made: 0..9 = 0\n".to_string();
    for (i, var) in vars.iter().enumerate() {
        let _ = writeln!(text, "{}", var.declared(&format!("v{i}"), rng));
    }
    for number in 0..3 {
        let _ = writeln!(text, "move change{number}(c: cell) {{");
        if number == 1 {
            text.push_str("    refuse \"enough\" unless made < 9\n    made += 1\n    score made\n");
        }
        for (i, var) in vars.iter().enumerate() {
            if rng.random_range(0..3) == 0 {
                let _ = writeln!(text, "    {}", var.changed(&format!("v{i}"), rng));
            }
        }
        if number == 2 {
            // What was changed is taken back.
            text.push_str("    made = (made + 3) mod 10\n    refuse \"too many\" unless made mod 4 > 0\n");
        }
        text.push_str("}\n");
    }
    text.push_str("move storm {\n    for c in board {\n");
    for (i, var) in vars.iter().enumerate() {
        let _ = writeln!(text, "        {}", var.changed(&format!("v{i}"), rng));
    }
    text.push_str("    }\n}\nstatus goal, lost\ngoal made == 7\nlost when made == 9 because \"too much\"\n");
    let size = [(1, 3), (2, 2), (3, 5), (5, 5), (4, 9)][rng.random_range(0..5)];
    let level = format!("model = 'packed'\nsize = [{}, {}]\n[[level]]\n", size.0, size.1);
    let game = games(&model(&text), &level).remove(0);
    (game, text)
}

/// What the layouts of some games had.
#[derive(Default)]
struct Met {
    widths: BTreeSet<u32>,
    words: BTreeSet<usize>,
    crossing: usize,
    none: usize,
    whole: usize,
    left: usize,
}

impl Met {
    fn note(&mut self, game: &Game) {
        self.words.insert(game.bound.codec.layout().words());
        for field in game.bound.codec.describe() {
            let PackedField::Row(row) = field else { continue };
            self.widths.insert(row.width);
            self.none += usize::from(row.none);
            self.crossing += row.single().filter(|one| one.bit % 64 + one.width > 64).count();
        }
    }
}

#[test]
fn states_of_any_layout_are_packed_and_unpacked_natively() {
    let mut met = Met::default();
    for seed in 0..60 * times() {
        let mut rng = SmallRng::seed_from_u64(7_000 + seed);
        let (game, text) = random_game(&mut rng);
        met.note(&game);
        let native = compiled(&game);
        let mut machines = both(&game, &native);
        let mut state = game.bound.position.clone();
        for step in 0..40 {
            let found = compare_native(&game, &mut machines, &state);
            match found {
                Ok(true) => met.whole += 1,
                Ok(false) => met.left += 1,
                Err(e) => panic!("seed {seed}, step {step}: {e}\n{text}"),
            }
            // A random move: what it leads to is packed from the changes, and read again.
            let fast = &mut machines[1];
            let mut words = game.pack(&state);
            fast.load(&words);
            assert_eq!(fast.loaded(), state, "seed {seed}, step {step}\n{text}");
            if fast.try_move(rng.random_range(0..game.code.moves.len())) == Ok(Halt::Done) {
                let next = fast.values_now().to_vec();
                fast.pack(&mut words).expect("there is nothing to break");
                assert_eq!(
                    (game.unpack(&words), game.pack(&next)),
                    (next.clone(), words),
                    "seed {seed}\n{text}"
                );
                state = next;
            }
        }
    }
    assert!(met.whole > 1_000 && met.left == 0, "{} whole, {} left to the machine", met.whole, met.left);
    assert!([0, 1, 2, 3, 4, 5, 7, 10].iter().all(|w| met.widths.contains(w)), "{:?}", met.widths);
    assert!((1..=5).all(|n| met.words.contains(&n)), "{:?}", met.words);
    assert!(met.crossing > 40 && met.none > 20, "{} cross, {} may be none", met.crossing, met.none);
}

const DERRICK: &str = "\
model derrick
state height: 0..9 = 0
move hoist { refuse \"it is up\" unless height < 9\n    height = height + 1 }
move lower { refuse \"it is down\" unless height > 0\n    height = height - 1 }
goal height == 9
";

/// Whole states are expanded without making a program of a short move by itself.
#[test]
fn the_code_of_a_program_is_made_when_it_is_first_run() {
    let game = games(&model(DERRICK), "model = 'derrick'\n[[level]]\n").remove(0);
    let native = fendle_native::compile(&game.bound, &game.code).expect("this machine makes native code");
    let native = Arc::new(native);
    assert_eq!(native.made_len(), 1, "that which says how the game stands");
    Arc::clone(&native).packed(&game.code, &game.bound.codec).expect("for packed states, too");
    assert_eq!(native.made_len(), 1, "moves are written into what tries them");
    let mut machine = Machine::new(&game.bound, &game.code);
    machine.set_native(Some(&*native));
    machine.load(&game.pack(&game.bound.position));
    assert_eq!((machine.try_move(0), native.made_len()), (Ok(Halt::Done), 2));
    assert_eq!((machine.try_move(0), native.made_len()), (Ok(Halt::Done), 2));
    assert!(matches!(machine.try_move(1), Ok(Halt::Refused(_))));
    assert_eq!(native.made_len(), 3);
    let (bytes, _) = native.make_all(&game.code).expect("all of them can be made");
    assert!(bytes > 0 && native.made_len() == game.code.programs.len());
}
