//! Conditions that are asked of all cells at once, against one look after the other in the test: on boards of one word and of several, with
//! steps off the board, guards, and what cannot be asked at once beside what can.

use crate::common;

use common::{compare, game};
use fendle_lang::code::ir::Op;
use fendle_lang::code::machine::Machine;
use fendle_lang::play::{MoveTable, Tried, step};
use rand::{Rng, SeedableRng, rngs::SmallRng};

type Step = (i64, i64);

/// A condition on a cell `c`.
#[derive(Clone, Debug)]
enum Asks {
    /// `(tile[c + s] outside o) < v`, by the comparison with this number.
    Holds(Step, i64, usize, i64),
    /// The same with what lies by another step, off the board 1.
    Like(Step, i64, usize, Step),
    /// With the value of a variable, which is 2.
    LikePicked(Step, usize),
    /// With what a grid of the level has there.
    LikePlan(Step, usize),
    /// `c + s on board`.
    On(Step),
    /// `c + s on board and tile[c + s] == tile[c]`.
    Beside(Step),
    Marked,
    /// `(row(c) + 2 * col(c)) mod 3 == n`
    Striped(i64),
    /// `any(near in around4(c) where tile[near] > v: mark[near])`, or all of them.
    Around(bool, i64),
    /// Some line of three alike begins in a direction: a function with a loop in a loop.
    Lines(bool),
    Not(Box<Asks>),
    And(Box<Asks>, Box<Asks>),
    Or(Box<Asks>, Box<Asks>),
    /// `(a) == (b)`
    Same(Box<Asks>, Box<Asks>),
}

const SIGNS: [&str; 6] = ["==", "!=", "<", "<=", ">", ">="];

fn holds(sign: usize, a: i64, b: i64) -> bool {
    [a == b, a != b, a < b, a <= b, a > b, a >= b][sign]
}

struct Board {
    rows: i64,
    cols: i64,
    tile: Vec<i64>,
    mark: Vec<bool>,
    plan: Vec<i64>,
}

impl Board {
    fn drawn(rng: &mut SmallRng, (rows, cols): (i64, i64)) -> Board {
        let n = (rows * cols) as usize;
        Board {
            rows,
            cols,
            tile: (0..n).map(|_| rng.random_range(0..4)).collect(),
            mark: (0..n).map(|_| rng.random_bool(0.4)).collect(),
            plan: (0..n).map(|_| rng.random_range(0..4)).collect(),
        }
    }

    fn at(&self, c: i64, (down, right): Step) -> Option<i64> {
        let (r, s) = (c / self.cols + down, c % self.cols + right);
        ((0..self.rows).contains(&r) && (0..self.cols).contains(&s)).then_some(r * self.cols + s)
    }

    fn tile(&self, c: i64, by: Step, outside: i64) -> i64 {
        self.at(c, by).map_or(outside, |c| self.tile[c as usize])
    }

    fn says(&self, asks: &Asks, c: i64) -> bool {
        let here = self.tile[c as usize];
        match asks {
            Asks::Holds(by, outside, sign, v) => holds(*sign, self.tile(c, *by, *outside), *v),
            Asks::Like(by, outside, sign, to) => {
                holds(*sign, self.tile(c, *by, *outside), self.tile(c, *to, 1))
            }
            Asks::LikePicked(by, sign) => holds(*sign, self.tile(c, *by, 3), 2),
            Asks::LikePlan(by, sign) => holds(*sign, self.tile(c, *by, 0), self.plan[c as usize]),
            Asks::On(by) => self.at(c, *by).is_some(),
            Asks::Beside(by) => self.at(c, *by).is_some_and(|n| self.tile[n as usize] == here),
            Asks::Marked => self.mark[c as usize],
            Asks::Striped(n) => (c / self.cols + 1 + 2 * (c % self.cols + 1)) % 3 == *n,
            Asks::Around(any, v) => {
                let near = [(-1, 0), (0, 1), (1, 0), (0, -1)].into_iter().filter_map(|by| self.at(c, by));
                let mut asked = near.filter(|n| self.tile[*n as usize] > *v).map(|n| self.mark[n as usize]);
                if *any { asked.any(|m| m) } else { asked.all(|m| m) }
            }
            Asks::Lines(any) => {
                let line = |(r, s): Step| (1..=2).all(|j| self.tile(c, (j * r, j * s), 9) == here);
                let mut ways = [(0, 1), (1, 0)].into_iter();
                if *any { ways.any(line) } else { ways.all(line) }
            }
            Asks::Not(a) => !self.says(a, c),
            Asks::And(a, b) => self.says(a, c) && self.says(b, c),
            Asks::Or(a, b) => self.says(a, c) || self.says(b, c),
            Asks::Same(a, b) => self.says(a, c) == self.says(b, c),
        }
    }

    fn drawing<T: ToString>(&self, values: &[T], between: &str) -> String {
        let rows = values.chunks(self.cols as usize);
        let row = |row: &[T]| row.iter().map(T::to_string).collect::<Vec<_>>().join(between);
        rows.map(row).collect::<Vec<_>>().join("\n")
    }

    fn level(&self) -> String {
        let marks: Vec<char> = self.mark.iter().map(|m| if *m { 'x' } else { '.' }).collect();
        format!(
            "start.tile = '''\n{}\n'''\nstart.mark = '''\n{}\n'''\nvalues.plan = '''\n{}\n'''\n",
            self.drawing(&self.tile, " "),
            self.drawing(&marks, ""),
            self.drawing(&self.plan, " "),
        )
    }
}

fn by((down, right): Step) -> String {
    format!("c + ({down}) * down + ({right}) * right")
}

fn text(asks: &Asks) -> String {
    match asks {
        Asks::Holds(s, o, sign, v) => format!("(tile[{}] outside {o}) {} {v}", by(*s), SIGNS[*sign]),
        Asks::Like(s, o, sign, t) => {
            format!("(tile[{}] outside {o}) {} (tile[{}] outside 1)", by(*s), SIGNS[*sign], by(*t))
        }
        Asks::LikePicked(s, sign) => format!("(tile[{}] outside 3) {} picked", by(*s), SIGNS[*sign]),
        Asks::LikePlan(s, sign) => format!("(tile[{}] outside 0) {} plan[c]", by(*s), SIGNS[*sign]),
        Asks::On(s) => format!("{} on board", by(*s)),
        Asks::Beside(s) => format!("({0} on board and tile[{0}] == tile[c])", by(*s)),
        Asks::Marked => "mark[c]".into(),
        Asks::Striped(n) => format!("(row(c) + 2 * col(c)) mod 3 == {n}"),
        Asks::Around(any, v) => {
            format!(
                "{}(near in around4(c) where tile[near] > {v}: mark[near])",
                if *any { "any" } else { "all" }
            )
        }
        Asks::Lines(any) => if *any { "lines(c)" } else { "cross(c)" }.into(),
        Asks::Not(a) => format!("not ({})", text(a)),
        Asks::And(a, b) => format!("(({}) and ({}))", text(a), text(b)),
        Asks::Or(a, b) => format!("(({}) or ({}))", text(a), text(b)),
        Asks::Same(a, b) => format!("(({}) == ({}))", text(a), text(b)),
    }
}

fn drawn(rng: &mut SmallRng, depth: u32) -> Asks {
    let step = |rng: &mut SmallRng| match rng.random_range(0..3) {
        0 => (0, 0),
        1 => (rng.random_range(-1..=1), rng.random_range(-1..=1)),
        _ => (rng.random_range(-3..=3), rng.random_range(-4..=4)),
    };
    let sign = |rng: &mut SmallRng| rng.random_range(0..SIGNS.len());
    let deeper = |rng: &mut SmallRng| Box::new(drawn(rng, depth - 1));
    match rng.random_range(0..if depth == 0 { 10 } else { 16 }) {
        0 | 1 => Asks::Holds(step(rng), rng.random_range(0..4), sign(rng), rng.random_range(-1..5)),
        2 | 3 => Asks::Like(step(rng), rng.random_range(0..4), sign(rng), step(rng)),
        4 => Asks::LikePicked(step(rng), sign(rng)),
        5 => Asks::LikePlan(step(rng), sign(rng)),
        6 => match rng.random_range(0..3) {
            0 => Asks::On(step(rng)),
            1 => Asks::Beside(step(rng)),
            _ => Asks::Marked,
        },
        7 => Asks::Striped(rng.random_range(0..3)),
        8 => Asks::Around(rng.random(), rng.random_range(-1..4)),
        9 => Asks::Lines(rng.random()),
        10 => Asks::Not(deeper(rng)),
        11 | 12 => Asks::And(deeper(rng), deeper(rng)),
        13 | 14 => Asks::Or(deeper(rng), deeper(rng)),
        _ => Asks::Same(deeper(rng), deeper(rng)),
    }
}

/// A model with seven moves for each condition: is there a cell, are all so, how many are there, which are they and which is the first; in how
/// many rows are all so, and how many are so in the columns that have one.
fn written(all: &[(Asks, Asks)]) -> String {
    let mut out = "model asks\nlevel plan: grid of 0..3\nstate tile: grid of 0..3\nstate mark: set of cells\nstate picked: 0..3 = 2\n\
         state n: 0..9999999 = 0\n\
         fn lines(c: cell) = any(d in dir4 where d == right or d == down: all(j in 1..2: (tile[c + j * d] outside 9) == tile[c]))\n\
         fn cross(c: cell) = all(d in dir4 where d == right or d == down: all(j in 1..2: (tile[c + j * d] outside 9) == tile[c]))\n"
        .to_string();
    for (i, (a, b)) in all.iter().enumerate() {
        let (a, b) = (text(a), text(b));
        out.push_str(&format!(
            "move any{i} {{ n = if any(c on tile where {b}: {a}) then 1 else 0 }}\n\
             move all{i} {{ if not all(c on tile where {b}: {a}) {{ n = 1 }} }}\n\
             move count{i} {{ n = count(c on tile where {a}) }}\n\
             move which{i} {{ for c on tile where {a} {{ n += 13 * row(c) + col(c); tile[c] = 0 }} }}\n\
             move first{i} {{ n = if any(c on tile where {a}) then col(first(c on tile where {a})) else 0 }}\n\
             move rows{i} {{ n = count(r in rows where all(c in r where {b}: {a})) }}\n\
             move columns{i} {{ n = sum(r in columns where any(c in r where {b}: {a}): count(c in r where {a}) * count(c in r where {a})) }}\n"
        ));
    }
    out + "goal n == 9999999\n"
}

/// What each move of a condition writes into `n`.
fn wanted(board: &Board, (a, b): &(Asks, Asks)) -> [i64; 7] {
    let cells = || 0..board.rows * board.cols;
    let hit: Vec<i64> = cells().filter(|c| board.says(a, *c)).collect();
    let asked = || cells().filter(|c| board.says(b, *c));
    let (row, col) = (|c: i64| c / board.cols + 1, |c: i64| c % board.cols + 1);
    let whole = |r: &i64| asked().filter(|c| row(*c) == *r).all(|c| board.says(a, c));
    let of_column = |s: i64| hit.iter().filter(|c| col(**c) == s).count() as i64;
    let some = |s: &i64| asked().filter(|c| col(*c) == *s).any(|c| board.says(a, c));
    [
        asked().any(|c| board.says(a, c)).into(),
        i64::from(!asked().all(|c| board.says(a, c))),
        hit.len() as i64,
        hit.iter().map(|c| 13 * row(*c) + col(*c)).sum(),
        hit.first().map_or(0, |c| col(*c)),
        (1..=board.rows).filter(whole).count() as i64,
        (1..=board.cols).filter(some).map(|s| of_column(s) * of_column(s)).sum(),
    ]
}

#[test]
fn what_is_asked_of_all_cells_at_once_is_what_each_cell_says() {
    let mut rng = SmallRng::seed_from_u64(2611);
    let mut at_once = [0; 3];
    for sides in [(1, 1), (1, 7), (3, 4), (5, 5), (8, 8), (5, 13), (10, 13), (16, 16), (17, 16)] {
        // As many conditions as fit into one model.
        let (models, conditions) = if sides.0 * sides.1 > 200 { (5, 5) } else { (3, 10) };
        for _ in 0..models {
            let all: Vec<(Asks, Asks)> =
                (0..conditions).map(|_| (drawn(&mut rng, 2), drawn(&mut rng, 1))).collect();
            let board = Board::drawn(&mut rng, sides);
            let (model, level) = (written(&all), board.level());
            let game = game(&model, &level);
            for op in &game.code.ops {
                match op {
                    Op::CompareBlocks { .. } => at_once[0] += 1,
                    Op::Compare { .. } => at_once[1] += 1,
                    Op::CompareTo { .. } => at_once[2] += 1,
                    _ => {}
                }
            }
            let b = &game.bound;
            let table = common::agreed_at_start(&game).unwrap_or_else(|e| panic!("{e}\n{model}\n{level}"));
            let n = b.slots[b.model.var("n").expect("declared")].base;
            let wanted = all.iter().flat_map(|asks| wanted(&board, asks));
            for (number, want) in wanted.enumerate() {
                match step(b, &table, &b.position, number, false) {
                    Ok(Tried::Made(list)) => {
                        let name = &b.model.moves[table.list[number].0].name;
                        assert_eq!(i64::from(list[0].made.state[n]), want, "{name}\n{model}\n{level}");
                    }
                    _ => panic!("every move is made"),
                }
            }
        }
    }
    let [blocks, registers, numbers] = at_once;
    assert!(
        blocks > 500 && registers > 20 && numbers > 500,
        "{blocks} comparisons of blocks, {registers} with registers, {numbers} with numbers"
    );
}

#[test]
fn what_might_break_is_asked_cell_by_cell() {
    // A division by 0 breaks, and only if no cell before it decides.
    let model = "model breaks\nstate tile: grid of 0..3\nstate n: 0..99 = 0\n\
         move decided { n = if any(c on tile: tile[c] > 0 and 6 / (tile[c] - 1) > 2) then 1 else 0 }\n\
         move guarded { n = if any(c on tile: c + right on board and tile[c + right] == tile[c]) then 1 else 0 }\n\
         move divided { n = count(c on tile where 6 / tile[c] > 2) }\n\
         goal n == 99";
    for (tiles, faults) in [
        ("11/00", [true, false, true]),
        ("21/00", [false, false, true]),
        ("01/22", [true, false, true]),
        ("32/11", [false, false, false]),
    ] {
        let rows: Vec<String> = tiles.split('/').map(|row| format!("{} {}", &row[..1], &row[1..])).collect();
        let game = game(model, &format!("start.tile = '''\n{}\n'''", rows.join("\n")));
        let b = &game.bound;
        let table = common::agreed_at_start(&game).expect("all executors agree");
        for (number, fault) in faults.into_iter().enumerate() {
            let made = step(b, &table, &b.position, number, false);
            assert_eq!(made.is_err(), fault, "move {number} on {tiles}");
        }
    }
}

#[test]
fn a_board_without_a_hit_and_one_full_of_them() {
    let model = "model ends\nstate tile: grid of 0..3\nstate n: 0..999 = 0\n\
         move none { refuse \"some are left\" unless all(c on tile: tile[c] == 0); n = count(c on tile where tile[c] == 0) }\n\
         move some { refuse \"none is left\" unless any(c on tile: tile[c] > 0); n = count(c on tile where tile[c] > 0) }\n\
         goal n == 999";
    for (rows, cols) in [(1, 1), (8, 8), (4, 16), (9, 9), (16, 16)] {
        for glyph in ["0", "2"] {
            let board = vec![vec![glyph; cols].join(" "); rows].join("\n");
            let game = game(model, &format!("start.tile = '''\n{board}\n'''"));
            let b = &game.bound;
            let table = common::agreed_at_start(&game).expect("all executors agree");
            let n = b.slots[b.model.var("n").expect("declared")].base;
            let (made, refused) = if glyph == "0" { (0, 1) } else { (1, 0) };
            match step(b, &table, &b.position, made, false) {
                Ok(Tried::Made(list)) => assert_eq!(list[0].made.state[n] as usize, rows * cols),
                _ => panic!("the move is made"),
            }
            assert!(matches!(step(b, &table, &b.position, refused, false), Ok(Tried::Refused { .. })));
        }
    }
}

/// Shapes that are placed on and off the board: do they fit, what do they cover.
#[test]
fn what_a_shape_covers_is_what_its_places_say() {
    let model = "model covers\n\
         shapes plank { pole \"x@x\"\n knee \"x./@x\"\n bale about corner 1, 1 \"xx/xx\" }\n\
         state full: grid of bool\nstate piece: placed plank\nstate n: 0..99 = 0\n\
         fn fits(p: placed plank) = all(c in cells(p): c on board and not full[c])\n\
         move go(d: dir4) { n = if fits(piece + d) then 1 else 0; piece = piece + d }\n\
         move spin { piece = turned(piece); n = if fits(piece) then 1 else 0 }\n\
         move hits { n = if any(c in cells(piece) where c on board: full[c]) then 1 else 0 }\n\
         move clear { n = if all(c in cells(piece) where c on board: not full[c]) then 1 else 0 }\n\
         move inside { refuse \"off\" unless all(c in cells(piece): c on board); n = 1 }\n\
         goal n == 99";
    let mut rng = SmallRng::seed_from_u64(77);
    let (mut bits, mut seen) = (0, 0);
    for (rows, cols) in [(3, 4), (8, 8), (9, 8), (8, 16), (12, 11)] {
        for _ in 0..4 {
            let full: Vec<String> = (0..rows)
                .map(|_| (0..cols).map(|_| if rng.random_bool(0.3) { 'x' } else { '.' }).collect())
                .collect();
            let kind = ["pole", "knee", "bale"][rng.random_range(0..3)];
            let level = format!(
                "start.full = '''\n{}\n'''\nstart.piece = '{kind}@r{}c{}'",
                full.join("\n"),
                rng.random_range(1..=rows),
                rng.random_range(1..=cols)
            );
            let game = game(model, &level);
            let b = &game.bound;
            bits += usize::from(
                game.code.ops.iter().any(|op| matches!(op, Op::ShapeBits { .. } | Op::ShapeFits { .. })),
            );
            let native = common::compiled(&game);
            let mut both = common::both(&game, &native);
            let table = MoveTable::new(b).expect("few moves");
            let mut machine = Machine::new(b, &game.code);
            // All positions that some steps lead to, over the rim with them.
            let mut states = vec![b.position.clone()];
            let mut at = 0;
            while at < states.len() && at < 150 {
                common::compare_native(&game, &mut both, &states[at])
                    .unwrap_or_else(|e| panic!("{e}\n{level}"));
                let next = compare(&game, &table, &mut machine, &states[at].clone())
                    .unwrap_or_else(|e| panic!("{e}\n{level}"))
                    .next;
                for state in next {
                    if !states.contains(&state) {
                        states.push(state);
                    }
                }
                at += 1;
            }
            seen += at;
        }
    }
    assert_eq!(bits, 20, "all boards");
    assert!(seen > 800, "{seen} states");
}

/// What is tried inside of what is tried is not tried for ever: such models are written the plain way, and say the same.
#[test]
fn tries_inside_of_tries_come_to_an_end() {
    let same = (0..60).fold("lit".to_string(), |inner, _| format!("same({inner})"));
    let asked: Vec<String> = (0..5).map(|i| format!("(tile[c + d{i}] outside 0) == {}", i % 4)).collect();
    let any = (0..5).fold(asked.join(" and "), |inner, i| format!("any(d{i} in dir8: {inner})"));
    let text = format!(
        "model tries\nstate lit: set of cells\nstate tile: grid of 0..3\nstate n: 0..99 = 0\n\
         fn same(s: set of cells) = s\n\
         move nested {{ n = count(c in {same}) }}\n\
         move asked {{ n = if any(c on tile: {any}) then 1 else 2 }}\n\
         move plain {{ n = count(c on tile where tile[c] == 1) }}\ngoal n == 99\n"
    );
    let game = game(&text, "start.lit = 'xx.'\nstart.tile = '1 2 1'");
    let b = &game.bound;
    let table = MoveTable::new(b).expect("few moves");
    let mut machine = Machine::new(b, &game.code);
    compare(&game, &table, &mut machine, &b.position.clone()).expect("both executors agree");
    let n = b.slots[b.model.var("n").expect("declared")].base;
    for (number, want) in [(0, 2), (2, 2)] {
        match step(b, &table, &b.position, number, false) {
            Ok(Tried::Made(list)) => assert_eq!(list[0].made.state[n], want),
            _ => panic!("the move is made"),
        }
    }
    // What comes behind them is still found for all cells at once, or it is not: it says the same.
    assert!(game.code.ops.len() < 4_000, "{} operations", game.code.ops.len());
}

/// For all rows of a count the board is compared once; what a register holds is not found again; and a number that decides is not asked for.
#[test]
fn what_was_found_is_not_found_again() {
    let model = "model rows\nshapes plank { knee \"x./@x\" }\nstate full: grid of bool\nstate piece: placed plank\nstate n: 0..99 = 0\n\
         fn fits(p: placed plank) = all(c in cells(p): c on board and not full[c])\n\
         move lay(c: cell) { full[c] = true; n = count(r in rows where all(x in r: full[x])) + 10 * count(r in rows where all(x in r: full[x])) }\n\
         move turn { refuse \"no room\" unless any(o in offsets(stay, left, right): fits(turned(piece) + o))\n\
             piece = turned(piece) + first(o in offsets(stay, left, right) where fits(turned(piece) + o)) }\n\
         goal n == 99";
    let level =
        "start.full = '''\nxxxx\n.xxx\nxxxx\n....\nxxxx\nxx.x\n....\n....\n'''\nstart.piece = 'knee@r3c2'";
    let game = game(model, level);
    let count = |name: &str, is: fn(&Op) -> bool| {
        let named = |p: &&fendle_lang::code::ir::Program| p.name.starts_with(name);
        let p = game.code.programs.iter().find(named).expect("a program of that name");
        game.code.ops[p.entry as usize..p.end as usize].iter().filter(|op| is(op)).count()
    };
    assert_eq!(count("move lay", |op| matches!(op, Op::CompareTo { .. })), 2, "once for each count");
    assert_eq!(count("move lay", |op| matches!(op, Op::LaneCell { .. } | Op::Loop { .. })), 0);
    // Moved by nothing a shape stays, and the last one is moved by what was found.
    assert_eq!(count("move turn", |op| matches!(op, Op::ShapeFits { .. })), 6, "three are asked twice");
    assert_eq!(count("move turn", |op| matches!(op, Op::ShapeMove { .. })), 5);
    let table = common::agreed_at_start(&game).expect("all executors agree");
    // Four rows are full where the gap of the second one is laid.
    let n = game.bound.slots[game.bound.model.var("n").expect("declared")].base;
    match step(&game.bound, &table, &game.bound.position, 4, false) {
        Ok(Tried::Made(list)) => assert_eq!(list[0].made.state[n], 44),
        _ => panic!("the move is made"),
    }
}
