//! What is remembered of a state: comparisons of whole blocks and sets of cells that several moves ask for are found once, and no longer where the state was
//! changed, where a draw came between, or for the next state. Random moves that ask, change and draw in any order, by all executors.

use crate::common;

use std::fmt::Write as _;

use common::{both, compare, compare_native, compiled, game, times};
use fendle_lang::code::ir::{Code, Op};
use fendle_lang::code::machine::Machine;
use fendle_lang::play::MoveTable;
use rand::{Rng, SeedableRng, rngs::SmallRng};

/// A condition about all cells, of which few are different, so that moves share them.
fn asked(rng: &mut SmallRng) -> String {
    let v = rng.random_range(0..3);
    let (r, c) = (rng.random_range(1..4), rng.random_range(1..4));
    match rng.random_range(0..14) {
        6 => format!("cell(place({r}, {c})) in busy"),
        7 => format!("count(c in busy) > {}", rng.random_range(0..9)),
        8 => format!("place({r}, {}) in those({v})", c + 6),
        9 => format!("any(c in those({v}): flag[c])"),
        10 => "busy == more".into(),
        11 => "all(c in more: c in busy or flag[c])".into(),
        12 => format!("any(c on tile: c in busy and tile[c] == {v})"),
        13 => format!("count(c in busy - more + those({v})) > {}", rng.random_range(0..9)),
        0 => format!("any(c on tile: tile[c] == {v})"),
        1 => format!("all(c on tile: tile[c] <= {v})"),
        2 => format!("count(c on tile where tile[c] > {v}) > {}", rng.random_range(0..4)),
        3 => "any(c on tile: tile[c] == other[c])".into(),
        4 => format!("any(c on tile: tile[c] == {v} and not flag[c])"),
        _ => format!("count(c on flag where flag[c]) > {}", rng.random_range(0..3)),
    }
}

/// Statements that ask, change and draw.
fn statements(rng: &mut SmallRng, deep: u32, out: &mut String) {
    for _ in 0..rng.random_range(1..4) {
        let (r, c) = (rng.random_range(1..3), rng.random_range(1..3));
        let v = rng.random_range(0..4);
        let _ = match rng.random_range(0..if deep == 0 { 12 } else { 9 }) {
            0 => writeln!(out, "tile[cell(place({r}, {c}))] = {v}"),
            1 => writeln!(out, "if {} {{ n = (n * 2 + 1) mod 100 }}", asked(rng)),
            2 => writeln!(out, "n = (n + (if {} then 3 else 5)) mod 100", asked(rng)),
            3 => writeln!(out, "for c on tile where tile[c] == {v} {{ tile[c] = {} }}", (v + 1) % 4),
            4 => writeln!(out, "for k in 1..2 {{ if {} {{ n = (n + k) mod 100 }} }}", asked(rng)),
            5 => writeln!(out, "flag[cell(place({r}, {c}))] = not flag[cell(place({c}, {r}))]"),
            6 => writeln!(out, "for c in busy {{ tile[c] = {v} }}"),
            7 => writeln!(out, "shift_({}, {v})", ["busy", "more", "those(1)", "busy + more"][v as usize]),
            8 => {
                // Taken before the state is changed, and asked after that.
                let name = format!("s{}", rng.random_range(0..1_000_000_000));
                let _ =
                    writeln!(out, "let {name} = {}", ["busy", "more", "those(2)", "busy - more"][v as usize]);
                let mut then = String::new();
                if deep < 3 {
                    statements(rng, deep + 1, &mut then);
                }
                writeln!(out, "{then}if place({r}, {c}) in {name} {{ n = (n + count(c in {name})) mod 100 }}")
            }
            9 => {
                let _ = writeln!(out, "let d{} = draw in 1..2", out.len());
                let name =
                    out.lines().last().and_then(|l| l.split_whitespace().nth(1)).unwrap_or("d").to_string();
                let mut then = String::new();
                statements(rng, deep + 1, &mut then);
                writeln!(out, "if {name} == 1 {{\n{then}}}")
            }
            _ => {
                let (mut then, mut other) = (String::new(), String::new());
                statements(rng, deep + 1, &mut then);
                statements(rng, deep + 1, &mut other);
                writeln!(out, "if {} {{\n{then}}} else {{\n{other}}}", asked(rng))
            }
        };
    }
}

fn random_model(rng: &mut SmallRng) -> String {
    let mut out = "model remembered\nstate tile: grid of 0..3 = 0\nstate other: grid of 0..3 = 1\n\
                   state flag: grid of bool = false\nstate n: 0..99 = 0\n\
                   derived busy: set of cells = set(c on tile where any(d on tile: tile[d] == 3 and d != c and tile[c] > 0))\n\
                   derived more: set of cells = set(c on tile where tile[c] > other[c])\n\
                   fn those(v: 0..3) = set(c on tile where count(d in around4(c) where tile[d] == v) > 1)\n\
                   proc shift_(s: set of cells, v: 0..3) {\n\
                   for c in s { tile[c] = (tile[c] + 1) mod 4 }\n\
                   if count(c in s) > v { n = (n + count(c in s)) mod 100 }\n}\n"
        .to_string();
    for number in 0..rng.random_range(2..5) {
        let _ = writeln!(out, "move m{number} {{");
        if rng.random_bool(0.6) {
            let _ = writeln!(out, "refuse \"no\" unless {} or n > 40", asked(rng));
        }
        statements(rng, 0, &mut out);
        out.push_str("}\n");
    }
    let _ = writeln!(out, "goal n == 77 and {}", asked(rng));
    out
}

/// How often comparisons that are remembered are asked for.
fn recalled(code: &Code) -> usize {
    let compares =
        |op: &Op| matches!(op, Op::CompareTo { .. } | Op::CompareBlocks { .. } | Op::Compare { .. });
    let next = |i: usize| code.ops.get(i + 1).is_some_and(compares);
    (0..code.ops.len()).filter(|i| matches!(code.ops[*i], Op::Recall { .. }) && next(*i)).count()
}

/// How often sets that are remembered as blocks are found.
fn sets(code: &Code) -> usize {
    let finds = |i: usize| matches!(code.ops[i], Op::CopyBlock { .. });
    let is_set = |i: usize| matches!(code.ops[i], Op::Remember { .. }) && (i.saturating_sub(2)..i).any(finds);
    (0..code.ops.len()).filter(|i| is_set(*i)).count()
}

#[test]
fn what_is_remembered_is_what_would_be_found() {
    let (mut remembered, mut blocks, mut states, mut drawn) = (0, 0, 0, 0);
    for seed in 0..50 * times() {
        let mut rng = SmallRng::seed_from_u64(4_400 + seed);
        let text = random_model(&mut rng);
        let size = [(5, 5), (3, 4), (8, 8), (9, 9)][seed as usize % 4];
        let game = game(&text, &format!("size = [{}, {}]\n", size.0, size.1));
        remembered += usize::from(recalled(&game.code) > 1);
        blocks += usize::from(sets(&game.code) > 1);
        drawn += usize::from(!game.code.points.is_empty());
        let table = MoveTable::new(&game.bound).expect("few moves");
        let native = compiled(&game);
        let mut machines = both(&game, &native);
        // One machine for all states: what was remembered of one says nothing of the next.
        let mut machine = Machine::new(&game.bound, &game.code);
        let mut state = game.bound.position.clone();
        for step in 0..12 {
            compare(&game, &table, &mut machine, &state)
                .unwrap_or_else(|e| panic!("seed {seed}, step {step}: {e}\n{text}\n{}", game.code.print()));
            compare_native(&game, &mut machines, &state)
                .unwrap_or_else(|e| panic!("seed {seed}, step {step}: {e}\n{text}\n{}", game.code.print()));
            states += 1;
            for (def, slot) in game.bound.model.vars.iter().zip(&game.bound.slots) {
                if def.state && rng.random_bool(0.7) {
                    let values = &mut state[slot.base..slot.base + slot.len];
                    values.fill_with(|| rng.random_range(slot.lo..=slot.hi) as i32);
                }
            }
        }
    }
    assert!(remembered > 20 && drawn > 10, "{remembered} models that remember, {drawn} that draw");
    assert!(blocks > 8, "{blocks} models that remember sets of a board of more than 64 cells");
    assert!(states > 500, "{states} states");
}
