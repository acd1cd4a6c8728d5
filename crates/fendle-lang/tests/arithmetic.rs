//! Random expressions and statements against an evaluator that the tests have for themselves: precedence, rounding,
//! short circuits, quantifiers, sets, places, loops, assignments, and which fault comes first.

use crate::common;
use crate::plain;

use std::collections::{BTreeMap, BTreeSet};

use common::{compare, game};
use fendle_lang::Game;
use fendle_lang::code::ir::Op;
use fendle_lang::code::machine::Machine;
use fendle_lang::play::{MoveTable, Tried, step};
use fendle_lang::run::FaultKind;
use plain::{
    C, COLS, Cell, MOST, Maker, N, ROWS, Result_, S, World, cell_text, number_text, set_text, truth_text,
    written,
};
use rand::{Rng, SeedableRng, rngs::SmallRng};

/// A game with these moves, its moves, and where its variables begin in a state.
struct Asked {
    game: Game,
    table: MoveTable,
}

impl Asked {
    fn new(world: &World, moves: &[String]) -> Asked {
        let (model, level) = written(world, moves);
        let game = game(&model, &level);
        let table = MoveTable::new(&game.bound).expect("few moves");
        let mut machine = Machine::new(&game.bound, &game.code);
        // Both executors agree.
        let agree = compare(&game, &table, &mut machine, &game.bound.position.clone());
        agree.unwrap_or_else(|e| panic!("{e}\n{model}\n{level}"));
        Asked { game, table }
    }

    fn at(&self, name: &str) -> std::ops::Range<usize> {
        let b = &self.game.bound;
        let slot = &b.slots[b.model.var(name).expect("declared")];
        slot.base..slot.base + slot.len
    }

    /// The state after a move; `None` where it is refused.
    fn made(&self, name: &str) -> Result_<Option<Vec<i32>>> {
        let b = &self.game.bound;
        let number =
            self.table.list.iter().position(|(of, _)| b.model.moves[*of].name == name).expect("a move");
        match step(b, &self.table, &b.position, number, false) {
            Ok(Tried::Made(list)) => Ok(Some(list[0].made.state.clone())),
            Ok(Tried::Refused { .. }) => Ok(None),
            Ok(_) => panic!("a move that is offered"),
            Err(f) => Err(f.kind),
        }
    }

    /// What a state holds.
    fn world(&self, state: &[i32]) -> World {
        let one = |name: &str| i64::from(state[self.at(name).start]);
        let cells = |name: &str| -> BTreeSet<i64> {
            (0i64..).zip(&state[self.at(name)]).filter(|(_, x)| **x != 0).map(|(i, _)| i).collect()
        };
        World {
            a: one("a"),
            b: one("b"),
            here: one("here"),
            wet: cells("wet"),
            dry: cells("dry"),
            load: state[self.at("load")].iter().map(|x| i64::from(*x)).collect(),
        }
    }
}

#[test]
fn random_expressions_mean_what_they_say() {
    let mut maker = Maker(SmallRng::seed_from_u64(2024));
    let (mut values, mut faults) = (BTreeSet::new(), BTreeMap::<String, u32>::new());
    for round in 0..700 {
        let world = maker.world();
        let list: Vec<N> = (0..12).map(|_| maker.number(5, 0)).collect();
        let texts: Vec<String> = list.iter().map(|e| number_text(e, 0).0).collect();
        let moves: Vec<String> =
            (0..).zip(&texts).map(|(i, t)| format!("move m{i} {{ out = {t} }}")).collect();
        let asked = Asked::new(&world, &moves);
        let out = asked.at("out").start;
        for (i, e) in list.iter().enumerate() {
            let want = world.number(e, &mut vec![]);
            let want = want.and_then(|v| if v.abs() <= MOST { Ok(v) } else { Err(FaultKind::OutOfDomain) });
            let got = asked.made(&format!("m{i}")).map(|s| i64::from(s.expect("nothing is refused")[out]));
            assert_eq!(got, want, "round {round}: {}\n{world:?}", texts[i]);
            match want {
                Ok(v) => {
                    values.insert(v);
                }
                Err(f) => *faults.entry(format!("{f:?}")).or_default() += 1,
            }
        }
    }
    // They were worth asking: many values, and every fault that there can be.
    assert!(values.len() > 150, "{}", values.len());
    for fault in ["DivideByZero", "NoMatch", "OutOfDomain"] {
        assert!(faults.get(fault).is_some_and(|n| *n > 10), "{faults:?}");
    }
}

/// A statement.
enum Do {
    /// `a`, `b` by number; the operator; the value.
    Assign(usize, &'static str, N),
    Load(Cell, N),
    Here(Cell),
    SwapNumbers,
    SwapLoads(Cell, Cell),
    /// Into or out of `wet` or `dry`.
    Change(bool, bool, Cell),
    /// All of `wet` or `dry` at once.
    Whole(bool, S),
    If(C, Vec<Do>, Vec<Do>),
    For(S, C, Vec<Do>),
    Repeat(i64, C, Vec<Do>),
    Refuse(C),
}

/// Why a move ended early.
enum End {
    Refused,
    Fault(FaultKind),
}

impl From<FaultKind> for End {
    fn from(f: FaultKind) -> End {
        End::Fault(f)
    }
}

fn run(list: &[Do], w: &mut World, names: &mut Vec<i64>) -> Result<(), End> {
    let fits =
        |v: i64, lo: i64, hi: i64| if (lo..=hi).contains(&v) { Ok(v) } else { Err(FaultKind::OutOfDomain) };
    for s in list {
        match s {
            Do::Assign(which, op, e) => {
                let was = if *which == 0 { w.a } else { w.b };
                let v = w.number(e, names)?;
                let new = match *op {
                    "=" => Some(v),
                    "+=" => was.checked_add(v),
                    "-=" => was.checked_sub(v),
                    _ => was.checked_mul(v),
                };
                let new = fits(new.ok_or(FaultKind::Overflow)?, -MOST, MOST)?;
                *(if *which == 0 { &mut w.a } else { &mut w.b }) = new;
            }
            Do::Load(c, e) => {
                let v = fits(w.number(e, names)?, 0, 9)?;
                let cell = w.cell(*c, names) as usize;
                w.load[cell] = v;
            }
            Do::Here(c) => w.here = w.cell(*c, names),
            Do::SwapNumbers => (w.a, w.b) = (w.b, w.a),
            Do::SwapLoads(c, d) => {
                let (c, d) = (w.cell(*c, names) as usize, w.cell(*d, names) as usize);
                w.load.swap(c, d);
            }
            Do::Change(add, wet, c) => {
                let cell = w.cell(*c, names);
                let set = if *wet { &mut w.wet } else { &mut w.dry };
                if *add {
                    set.insert(cell)
                } else {
                    set.remove(&cell)
                };
            }
            Do::Whole(wet, s) => {
                let new = w.set(s, names)?;
                *(if *wet { &mut w.wet } else { &mut w.dry }) = new;
            }
            Do::If(c, yes, no) => run(if w.truth(c, names)? { yes } else { no }, w, names)?,
            Do::For(s, c, body) => {
                // Fixed when it starts, the filter included.
                let mut over = vec![];
                for x in w.set(s, names)? {
                    names.push(x);
                    let wanted = w.truth(c, names);
                    names.pop();
                    if wanted? {
                        over.push(x);
                    }
                }
                for x in over {
                    names.push(x);
                    let ended = run(body, w, names);
                    names.pop();
                    ended?;
                }
            }
            Do::Repeat(most, c, body) => {
                let mut rounds = 0;
                while w.truth(c, names)? {
                    if rounds == *most {
                        return Err(End::Fault(FaultKind::RepeatBound));
                    }
                    rounds += 1;
                    run(body, w, names)?;
                }
            }
            Do::Refuse(c) => {
                if !w.truth(c, names)? {
                    return Err(End::Refused);
                }
            }
        }
    }
    Ok(())
}

fn statements_text(list: &[Do], names: usize, indent: usize) -> String {
    let mut out = String::new();
    let set_name = |wet: bool| if wet { "wet" } else { "dry" };
    for s in list {
        let block = |list: &[Do], names: usize| statements_text(list, names, indent + 1);
        let pad = "    ".repeat(indent);
        let line = match s {
            Do::Assign(which, op, e) => format!("{} {op} {}", ["a", "b"][*which], number_text(e, names).0),
            Do::Load(c, e) => format!("load[{}] = {}", cell_text(*c), number_text(e, names).0),
            Do::Here(c) => format!("here = {}", cell_text(*c)),
            Do::SwapNumbers => "swap a, b".into(),
            Do::SwapLoads(c, d) => format!("swap load[{}], load[{}]", cell_text(*c), cell_text(*d)),
            Do::Change(true, wet, c) => format!("add {} to {}", cell_text(*c), set_name(*wet)),
            Do::Change(false, wet, c) => format!("remove {} from {}", cell_text(*c), set_name(*wet)),
            Do::Whole(wet, s) => format!("{} = {}", set_name(*wet), set_text(s, names).0),
            Do::If(c, yes, no) => {
                let head = format!("if {} {{\n{}{pad}}}", truth_text(c, names).0, block(yes, names));
                if no.is_empty() { head } else { format!("{head} else {{\n{}{pad}}}", block(no, names)) }
            }
            Do::For(s, c, body) => format!(
                "for x{names} in {} where {} {{\n{}{pad}}}",
                set_text(s, names).0,
                truth_text(c, names + 1).0,
                block(body, names + 1)
            ),
            Do::Repeat(most, c, body) => {
                format!(
                    "repeat at most {most} while {} {{\n{}{pad}}}",
                    truth_text(c, names).0,
                    block(body, names)
                )
            }
            Do::Refuse(c) => format!("refuse \"no\" unless {}", truth_text(c, names).0),
        };
        out.push_str(&format!("{pad}{line}\n"));
    }
    out
}

fn statements(m: &mut Maker, deep: u32, names: usize) -> Vec<Do> {
    let n = m.0.random_range(1..4);
    (0..n).map(|_| statement(m, deep, names)).collect()
}

fn statement(m: &mut Maker, deep: u32, names: usize) -> Do {
    let kind = if deep == 0 { m.0.random_range(0..10) } else { m.0.random_range(0..15) };
    match kind {
        0..3 => {
            let op = ["=", "+=", "-=", "*="][m.0.random_range(0..4)];
            Do::Assign(m.0.random_range(0..2), op, m.number(2, names))
        }
        3 | 4 => {
            // Mostly within the bounds: a value that breaks them ends the whole move.
            let value = N::Bin("mod", Box::new(m.number(2, names)), Box::new(N::Lit(10)));
            Do::Load(m.cell(names), if m.0.random_bool(0.9) { value } else { m.number(1, names) })
        }
        5 => Do::Here(m.cell(names)),
        6 => Do::SwapNumbers,
        7 => Do::SwapLoads(m.cell(names), m.cell(names)),
        8 => Do::Change(m.0.random(), m.0.random(), m.cell(names)),
        9 => Do::Whole(m.0.random(), m.set(2, names)),
        10 => {
            let no = if m.0.random() { statements(m, deep - 1, names) } else { vec![] };
            Do::If(m.truth(2, names), statements(m, deep - 1, names), no)
        }
        11 | 12 => Do::For(m.set(1, names), m.truth(1, names + 1), statements(m, deep - 1, names + 1)),
        13 => Do::Repeat(m.0.random_range(1..6), m.truth(2, names), statements(m, deep - 1, names)),
        _ => Do::Refuse(C::Or(Box::new(m.truth(1, names)), Box::new(m.truth(1, names)))),
    }
}

#[test]
fn random_statements_do_what_they_say() {
    let mut m = Maker(SmallRng::seed_from_u64(77));
    let (mut done, mut refused, mut faults) = (0, 0, BTreeMap::<String, u32>::new());
    for round in 0..500 {
        let world = m.world();
        let list: Vec<Vec<Do>> = (0..8).map(|_| statements(&mut m, 3, 0)).collect();
        let moves: Vec<String> =
            (0..).zip(&list).map(|(i, l)| format!("move m{i} {{\n{}}}", statements_text(l, 0, 1))).collect();
        let asked = Asked::new(&world, &moves);
        for (i, l) in list.iter().enumerate() {
            let mut after = world.clone();
            let want = match run(l, &mut after, &mut vec![]) {
                Ok(()) => Ok(Some(after)),
                Err(End::Refused) => Ok(None),
                Err(End::Fault(f)) => Err(f),
            };
            let got = asked.made(&format!("m{i}")).map(|s| s.map(|s| asked.world(&s)));
            assert_eq!(got, want, "round {round}: {}\n{world:?}", moves[i]);
            match want {
                Ok(Some(w)) => done += i32::from(w != world),
                Ok(None) => refused += 1,
                Err(f) => *faults.entry(format!("{f:?}")).or_default() += 1,
            }
        }
    }
    assert!(done > 1_000 && refused > 100, "{done} {refused}");
    for fault in ["DivideByZero", "NoMatch", "OutOfDomain", "RepeatBound"] {
        assert!(faults.get(fault).is_some_and(|n| *n > 10), "{faults:?}");
    }
}

/// The board that all of this is asked on.
#[test]
fn the_board_is_as_it_was_written() {
    let world = Maker(SmallRng::seed_from_u64(3)).world();
    let asked = Asked::new(&world, &["move stay { out = 0 }".to_string()]);
    let b = &asked.game.bound;
    assert_eq!((b.rows as i64, b.cols as i64), (ROWS, COLS));
    assert_eq!(asked.world(&b.position), world);
    assert_eq!(asked.made("stay").map(|s| s.map(|s| asked.world(&s))), Ok(Some(world)));
}

/// A known step from every cell of a 3 x 4 board leads to the cell that rows and columns say, or off the board: as a value, as a
/// condition, and among the cells around.
#[test]
fn known_steps_from_cells_lead_where_rows_and_columns_say() {
    let (rows, cols) = (3i64, 4i64);
    let marks: Vec<String> = (1..=rows * cols).map(|n| n.to_string()).collect();
    let board: Vec<String> = marks.chunks(cols as usize).map(|row| row.join(" ")).collect();
    let mut text = "model steps\nlevel mark: grid of 0..40\nstate n: 0..99999 = 0\n".to_string();
    let mut want = vec![];
    for dr in -3..=3i64 {
        for dc in -4..=4i64 {
            let by = format!("({dr}) * down + ({dc}) * right");
            let name = format!("m{}", want.len());
            text.push_str(&format!(
                "move {name} {{\n    n = sum(c on mark: (mark[c + ({by})] outside 40))\n    \
                 n += 1000 * count(c on mark where c + ({by}) on board)\n    \
                 for c on mark where not c + ({by}) on board {{ n += 30000 / 12 }}\n}}\n"
            ));
            let steps = (0..rows * cols).map(|c| (c / cols + dr, c % cols + dc));
            let on: Vec<i64> = steps
                .filter(|(r, c)| (0..rows).contains(r) && (0..cols).contains(c))
                .map(|(r, c)| r * cols + c + 1)
                .collect();
            let off = rows * cols - on.len() as i64;
            want.push((name, on.iter().sum::<i64>() + 40 * off + 1000 * on.len() as i64 + 2500 * off));
        }
    }
    let around = |c: i64| {
        let beside = [(-1, 0), (0, 1), (1, 0), (0, -1)].map(|(r, s)| (c / cols + r, c % cols + s));
        let on = beside.into_iter().filter(|(r, s)| (0..rows).contains(r) && (0..cols).contains(s));
        on.map(|(r, s)| r * cols + s + 1).sum::<i64>()
    };
    text.push_str(
        "move near { n = sum(c on mark: sum(b in around4(c): mark[b]) * mark[c]) }\ngoal n == 99999\n",
    );
    want.push(("near".to_string(), (0..rows * cols).map(|c| around(c) * (c + 1)).sum()));
    let game = game(&text, &format!("values.mark = '''\n{}\n'''", board.join("\n")));
    let table = common::agreed_at_start(&game).expect("all executors agree");
    let slot = &game.bound.slots[game.bound.model.var("n").expect("declared")];
    for (name, value) in want {
        let number =
            table.list.iter().position(|(of, _)| game.bound.model.moves[*of].name == name).expect("a move");
        match step(&game.bound, &table, &game.bound.position, number, false) {
            Ok(Tried::Made(list)) => assert_eq!(i64::from(list[0].made.state[slot.base]), value, "{name}"),
            _ => panic!("{name} is made"),
        }
    }
}

/// The cells that are reached from one, step by step, and those beside them where a rim is asked for.
fn reached(
    tile: &[i64],
    (rows, cols): (i64, i64),
    from: i64,
    steps: &[(i64, i64)],
    rim: bool,
) -> BTreeSet<i64> {
    let beside = |c: i64| {
        let all = steps.iter().map(move |(r, s)| (c / cols + r, c % cols + s));
        all.filter(move |(r, s)| (0..rows).contains(r) && (0..cols).contains(s))
            .map(move |(r, s)| r * cols + s)
    };
    let mut inside = BTreeSet::from([from]);
    let mut open = vec![from];
    while let Some(c) = open.pop() {
        for n in beside(c).filter(|n| tile[*n as usize] == tile[from as usize]) {
            if inside.insert(n) {
                open.push(n);
            }
        }
    }
    let around: BTreeSet<i64> = inside.iter().flat_map(|c| beside(*c)).filter(|_| rim).collect();
    inside.union(&around).copied().collect()
}

/// The words of a flood, its steps, and whether it has a rim.
type Flooding<'w> = (&'w str, &'w [(i64, i64)], bool);

/// Floods through cells that hold what the first one holds, on random boards, against a search that the test has for itself: by
/// four, eight and slanting steps, with a rim and without.
#[test]
fn floods_reach_what_is_reached_step_by_step() {
    let four = [(-1, 0), (0, 1), (1, 0), (0, -1)];
    let eight: Vec<(i64, i64)> =
        (-1..=1).flat_map(|r| (-1..=1).map(move |c| (r, c))).filter(|s| *s != (0, 0)).collect();
    let ways: [Flooding<'_>; 4] = [
        ("by around4 while tile[n] == tile[c]", &four, false),
        ("by around8 while tile[c] == tile[n]", &eight, false),
        ("by around(2 * down, up + left) while tile[n] == tile[c]", &[(2, 0), (-1, -1)], false),
        ("by around4 while tile[n] == tile[c], rim", &four, true),
    ];
    let mut text = "model floods\nlevel tile: grid of 0..2\nstate many, spots: 0..9999 = 0\n".to_string();
    for (i, (words, ..)) in ways.iter().enumerate() {
        text.push_str(&format!(
            "fn group{i}(c: cell) = flood(n from c {words})\n\
             move m{i}(c: cell) {{\n    many = count(n in group{i}(c))\n    \
             spots = sum(n in group{i}(c): 9 * row(n) + col(n))\n}}\n"
        ));
    }
    text.push_str("goal many == 9999\n");
    let mut rng = SmallRng::seed_from_u64(4711);
    // On small boards sets are bits, on large ones a number a cell.
    let sides = [(3i64, 5i64), (8, 8), (9, 9)];
    for (rows, cols) in sides.into_iter().flat_map(|s| [s; 6]) {
        let tile: Vec<i64> = (0..rows * cols).map(|_| rng.random_range(0..3)).collect();
        let drawn: Vec<String> = tile
            .chunks(cols as usize)
            .map(|row| row.iter().map(i64::to_string).collect::<Vec<_>>().join(" "))
            .collect();
        let game = game(&text, &format!("values.tile = '''\n{}\n'''", drawn.join("\n")));
        let b = &game.bound;
        let bits = game.code.ops.iter().any(|op| matches!(op, Op::FloodBits { .. }));
        let blocks = game.code.ops.iter().any(|op| matches!(op, Op::FloodEqual { .. }));
        assert_eq!((bits, blocks), (rows * cols <= 64, rows * cols > 64));
        let table = common::agreed_at_start(&game).expect("all executors agree");
        let [many, spots] = ["many", "spots"].map(|n| b.slots[b.model.var(n).expect("declared")].base);
        for (number, (of, params)) in table.list.iter().enumerate() {
            let (_, steps, rim) = ways[*of];
            let want = reached(&tile, (rows, cols), params[0], steps, rim);
            let sum: i64 = want.iter().map(|c| 9 * (c / cols + 1) + c % cols + 1).sum();
            match step(b, &table, &b.position, number, false) {
                Ok(Tried::Made(list)) => {
                    let state = &list[0].made.state;
                    assert_eq!((state[many] as usize, i64::from(state[spots])), (want.len(), sum), "{text}");
                }
                _ => panic!("every move is made"),
            }
        }
    }
}
