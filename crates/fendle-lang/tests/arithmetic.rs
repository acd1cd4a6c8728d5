//! Random expressions, written with as few parentheses as the language allows, against an evaluator that this file has
//! for itself: precedence, rounding, short circuits, quantifiers, sets, places, and which fault comes first.

mod common;

use std::collections::BTreeSet;

use common::{compare, game};
use fendle_lang::exec::Machine;
use fendle_lang::play::{MoveTable, Step, step};
use fendle_lang::reference::FaultKind;
use rand::{Rng, SeedableRng, rngs::SmallRng};

const ROWS: i64 = 3;
const COLS: i64 = 4;
/// What the result is stored in holds so much, up and down.
const MOST: i64 = 2_000;
/// Depths of the cells, row by row.
const DEPTH: [i64; 12] = [3, 0, 7, 1, 4, 4, 9, 2, 0, 5, 8, 6];

/// A number.
enum N {
    Lit(i64),
    A,
    B,
    Neg(Box<N>),
    Bin(&'static str, Box<N>, Box<N>),
    Call(&'static str, Vec<N>),
    If(Box<C>, Box<N>, Box<N>),
    Row(Cell),
    Col(Cell),
    Depth(Cell),
    Count(Box<S>, Box<C>),
    /// `sum`, `min` or `max` over a set.
    Over(&'static str, Box<S>, Box<N>),
}

/// A condition.
enum C {
    True,
    Cmp(&'static str, N, N),
    And(Box<C>, Box<C>),
    Or(Box<C>, Box<C>),
    Not(Box<C>),
    In(Cell, Box<S>),
    /// A cell and a step of so many cells in a direction: still on the board.
    OnBoard(Cell, i64, usize),
    Any(Box<S>, Box<C>),
    All(Box<S>, Box<C>),
}

/// A set of cells.
enum S {
    Wet,
    Dry,
    Plus(Box<S>, Box<S>),
    Minus(Box<S>, Box<S>),
    Both(Box<S>, Box<S>),
    Where(Box<C>),
    Around(Cell),
}

/// A cell: the one of the state, or the bound name of the n-th quantifier around.
#[derive(Clone, Copy)]
enum Cell {
    Here,
    Name(usize),
}

const DIRS: [(&str, i64, i64); 4] = [("up", -1, 0), ("right", 0, 1), ("down", 1, 0), ("left", 0, -1)];

// ---- what it means ----

/// The values that expressions read.
struct World {
    a: i64,
    b: i64,
    here: i64,
    wet: BTreeSet<i64>,
    dry: BTreeSet<i64>,
}

type Result_<T> = Result<T, FaultKind>;

impl World {
    fn cell(&self, c: Cell, names: &[i64]) -> i64 {
        match c {
            Cell::Here => self.here,
            Cell::Name(i) => names[i],
        }
    }

    fn number(&self, e: &N, names: &mut Vec<i64>) -> Result_<i64> {
        let whole = |x: Option<i64>| x.ok_or(FaultKind::Overflow);
        Ok(match e {
            N::Lit(n) => *n,
            N::A => self.a,
            N::B => self.b,
            N::Neg(x) => whole(self.number(x, names)?.checked_neg())?,
            N::Bin(op, x, y) => {
                let (x, y) = (self.number(x, names)?, self.number(y, names)?);
                match *op {
                    "+" => whole(x.checked_add(y))?,
                    "-" => whole(x.checked_sub(y))?,
                    "*" => whole(x.checked_mul(y))?,
                    "**" => whole(u32::try_from(y).ok().and_then(|y| x.checked_pow(y)))?,
                    _ if y == 0 => return Err(FaultKind::DivideByZero),
                    // What is left over is never negative: count down to it.
                    op => {
                        let left = (0..y.abs()).find(|r| (x - r) % y == 0).expect("one of them");
                        if op == "/" { (x - left) / y } else { left }
                    }
                }
            }
            N::Call(name, args) => {
                let list = args.iter().map(|x| self.number(x, names)).collect::<Result_<Vec<i64>>>()?;
                match *name {
                    "abs" => list[0].abs(),
                    "min" => *list.iter().min().expect("some"),
                    _ => *list.iter().max().expect("some"),
                }
            }
            N::If(c, x, y) => self.number(if self.truth(c, names)? { x } else { y }, names)?,
            N::Row(c) => self.cell(*c, names) / COLS + 1,
            N::Col(c) => self.cell(*c, names) % COLS + 1,
            N::Depth(c) => DEPTH[self.cell(*c, names) as usize],
            N::Count(s, c) => {
                let mut n = 0;
                for x in self.set(s, names)? {
                    n += i64::from(self.with(x, names, |w, names| w.truth(c, names))?);
                }
                n
            }
            N::Over(what, s, e) => {
                let mut list = vec![];
                for x in self.set(s, names)? {
                    list.push(self.with(x, names, |w, names| w.number(e, names))?);
                }
                match *what {
                    "sum" => whole(list.iter().try_fold(0i64, |sum, x| sum.checked_add(*x)))?,
                    "min" => *list.iter().min().ok_or(FaultKind::NoMatch)?,
                    _ => *list.iter().max().ok_or(FaultKind::NoMatch)?,
                }
            }
        })
    }

    fn with<T>(&self, x: i64, names: &mut Vec<i64>, ask: impl Fn(&World, &mut Vec<i64>) -> T) -> T {
        names.push(x);
        let out = ask(self, names);
        names.pop();
        out
    }

    fn truth(&self, e: &C, names: &mut Vec<i64>) -> Result_<bool> {
        Ok(match e {
            C::True => true,
            C::Cmp(op, x, y) => {
                let (x, y) = (self.number(x, names)?, self.number(y, names)?);
                match *op {
                    "==" => x == y,
                    "!=" => x != y,
                    "<" => x < y,
                    "<=" => x <= y,
                    ">" => x > y,
                    _ => x >= y,
                }
            }
            C::And(x, y) => self.truth(x, names)? && self.truth(y, names)?,
            C::Or(x, y) => self.truth(x, names)? || self.truth(y, names)?,
            C::Not(x) => !self.truth(x, names)?,
            C::In(c, s) => {
                let cell = self.cell(*c, names);
                self.set(s, names)?.contains(&cell)
            }
            C::OnBoard(c, n, d) => {
                let cell = self.cell(*c, names);
                let (r, k) = (cell / COLS + n * DIRS[*d].1, cell % COLS + n * DIRS[*d].2);
                (0..ROWS).contains(&r) && (0..COLS).contains(&k)
            }
            C::Any(s, c) => {
                for x in self.set(s, names)? {
                    if self.with(x, names, |w, names| w.truth(c, names))? {
                        return Ok(true);
                    }
                }
                false
            }
            C::All(s, c) => {
                for x in self.set(s, names)? {
                    if !self.with(x, names, |w, names| w.truth(c, names))? {
                        return Ok(false);
                    }
                }
                true
            }
        })
    }

    fn set(&self, e: &S, names: &mut Vec<i64>) -> Result_<BTreeSet<i64>> {
        Ok(match e {
            S::Wet => self.wet.clone(),
            S::Dry => self.dry.clone(),
            S::Plus(x, y) => &self.set(x, names)? | &self.set(y, names)?,
            S::Minus(x, y) => &self.set(x, names)? - &self.set(y, names)?,
            S::Both(x, y) => &self.set(x, names)? & &self.set(y, names)?,
            S::Where(c) => {
                let mut out = BTreeSet::new();
                for x in 0..ROWS * COLS {
                    if self.with(x, names, |w, names| w.truth(c, names))? {
                        out.insert(x);
                    }
                }
                out
            }
            S::Around(c) => {
                let cell = self.cell(*c, names);
                let near = |d: &(&str, i64, i64)| {
                    let (r, k) = (cell / COLS + d.1, cell % COLS + d.2);
                    ((0..ROWS).contains(&r) && (0..COLS).contains(&k)).then_some(r * COLS + k)
                };
                DIRS.iter().filter_map(near).collect()
            }
        })
    }
}

// ---- how it is written ----

/// A text and how tightly it binds: 0 `if`, 1 `or`, 2 `and`, 3 `not`, 4 comparisons, 5 `+ -`, 6 `* / mod`, 7 `-x`, 8 `**`, 9 a whole.
type Text = (String, u8);

/// The text, in parentheses if it binds more loosely than is wanted.
fn at_least((text, binds): Text, want: u8) -> String {
    if binds < want { format!("({text})") } else { text }
}

fn cell_text(c: Cell) -> String {
    match c {
        Cell::Here => "here".into(),
        Cell::Name(i) => format!("x{i}"),
    }
}

fn number_text(e: &N, names: usize) -> Text {
    match e {
        N::Lit(n) => (n.to_string(), 9),
        N::A => ("a".into(), 9),
        N::B => ("b".into(), 9),
        N::Neg(x) => (format!("-{}", at_least(number_text(x, names), 8)), 7),
        N::Bin("**", x, y) => {
            let side = |e| at_least(number_text(e, names), 9);
            (format!("{} ** {}", side(x), side(y)), 8)
        }
        N::Bin(op, x, y) => {
            let binds = if matches!(*op, "+" | "-") { 5 } else { 6 };
            // To the left of its like no parentheses are needed.
            let (x, y) = (at_least(number_text(x, names), binds), at_least(number_text(y, names), binds + 1));
            (format!("{x} {op} {y}"), binds)
        }
        N::Call(name, args) => {
            let list: Vec<String> = args.iter().map(|x| number_text(x, names).0).collect();
            (format!("{name}({})", list.join(", ")), 9)
        }
        N::If(c, x, y) => {
            let (c, x, y) = (truth_text(c, names).0, number_text(x, names).0, number_text(y, names).0);
            (format!("if {c} then {x} else {y}"), 0)
        }
        N::Row(c) => (format!("row({})", cell_text(*c)), 9),
        N::Col(c) => (format!("col({})", cell_text(*c)), 9),
        N::Depth(c) => (format!("depth[{}]", cell_text(*c)), 9),
        N::Count(s, c) => {
            let (s, c) = (set_text(s, names).0, truth_text(c, names + 1).0);
            (format!("count(x{names} in {s} where {c})"), 9)
        }
        N::Over(what, s, e) => {
            let (s, e) = (set_text(s, names).0, number_text(e, names + 1).0);
            (format!("{what}(x{names} in {s}: {e})"), 9)
        }
    }
}

fn truth_text(e: &C, names: usize) -> Text {
    match e {
        C::True => ("true".into(), 9),
        C::Cmp(op, x, y) => {
            let side = |e| at_least(number_text(e, names), 5);
            (format!("{} {op} {}", side(x), side(y)), 4)
        }
        C::And(x, y) => {
            let (x, y) = (at_least(truth_text(x, names), 2), at_least(truth_text(y, names), 3));
            (format!("{x} and {y}"), 2)
        }
        C::Or(x, y) => {
            let (x, y) = (at_least(truth_text(x, names), 1), at_least(truth_text(y, names), 2));
            (format!("{x} or {y}"), 1)
        }
        C::Not(x) => (format!("not {}", at_least(truth_text(x, names), 4)), 3),
        C::In(c, s) => (format!("{} in {}", cell_text(*c), at_least(set_text(s, names), 5)), 4),
        C::OnBoard(c, n, d) => (format!("{} + {n} * {} on board", cell_text(*c), DIRS[*d].0), 4),
        C::Any(s, c) | C::All(s, c) => {
            let word = if matches!(e, C::Any(..)) { "any" } else { "all" };
            let (s, c) = (set_text(s, names).0, truth_text(c, names + 1).0);
            (format!("{word}(x{names} in {s}: {c})"), 9)
        }
    }
}

fn set_text(e: &S, names: usize) -> Text {
    match e {
        S::Wet => ("wet".into(), 9),
        S::Dry => ("dry".into(), 9),
        S::Plus(x, y) | S::Minus(x, y) => {
            let op = if matches!(e, S::Plus(..)) { "+" } else { "-" };
            (format!("{} {op} {}", at_least(set_text(x, names), 5), at_least(set_text(y, names), 6)), 5)
        }
        S::Both(x, y) => (format!("both({}, {})", set_text(x, names).0, set_text(y, names).0), 9),
        S::Where(c) => (format!("set(x{names} in board where {})", truth_text(c, names + 1).0), 9),
        S::Around(c) => (format!("set(x{names} in around4({}))", cell_text(*c)), 9),
    }
}

// ---- making them up ----

struct Maker(SmallRng);

impl Maker {
    fn cell(&mut self, names: usize) -> Cell {
        match self.0.random_range(0..=names) {
            0 => Cell::Here,
            i => Cell::Name(i - 1),
        }
    }

    fn number(&mut self, deep: u32, names: usize) -> N {
        let kind = if deep == 0 { self.0.random_range(0..6) } else { self.0.random_range(0..16) };
        let b = |n: N| Box::new(n);
        match kind {
            0 => N::Lit(self.0.random_range(0..10)),
            1 => N::A,
            2 => N::B,
            3 => N::Row(self.cell(names)),
            4 => N::Col(self.cell(names)),
            5 => N::Depth(self.cell(names)),
            6 => N::Neg(b(self.number(deep - 1, names))),
            7 => N::Bin("**", b(self.number(deep - 1, names)), b(N::Lit(self.0.random_range(0..4)))),
            8 => {
                let name = ["abs", "min", "max"][self.0.random_range(0..3)];
                let n = if name == "abs" { 1 } else { self.0.random_range(2..4) };
                N::Call(name, (0..n).map(|_| self.number(deep - 1, names)).collect())
            }
            9 => {
                let c = Box::new(self.truth(deep - 1, names));
                N::If(c, b(self.number(deep - 1, names)), b(self.number(deep - 1, names)))
            }
            10 => N::Count(Box::new(self.set(deep - 1, names)), Box::new(self.truth(deep - 1, names + 1))),
            11 => {
                let what = ["sum", "min", "max"][self.0.random_range(0..3)];
                N::Over(what, Box::new(self.set(deep - 1, names)), b(self.number(deep - 1, names + 1)))
            }
            _ => {
                let op = ["+", "-", "*", "/", "mod"][self.0.random_range(0..5)];
                N::Bin(op, b(self.number(deep - 1, names)), b(self.number(deep - 1, names)))
            }
        }
    }

    fn truth(&mut self, deep: u32, names: usize) -> C {
        let kind = if deep == 0 { self.0.random_range(0..3) } else { self.0.random_range(0..9) };
        let b = |c: C| Box::new(c);
        match kind {
            0 => C::True,
            1 => C::OnBoard(self.cell(names), self.0.random_range(1..4), self.0.random_range(0..4)),
            2 | 3 => {
                let op = ["==", "!=", "<", "<=", ">", ">="][self.0.random_range(0..6)];
                let deep = deep.saturating_sub(1);
                C::Cmp(op, self.number(deep, names), self.number(deep, names))
            }
            4 => C::And(b(self.truth(deep - 1, names)), b(self.truth(deep - 1, names))),
            5 => C::Or(b(self.truth(deep - 1, names)), b(self.truth(deep - 1, names))),
            6 => C::Not(b(self.truth(deep - 1, names))),
            7 => C::In(self.cell(names), Box::new(self.set(deep - 1, names))),
            _ => {
                let (s, c) = (Box::new(self.set(deep - 1, names)), b(self.truth(deep - 1, names + 1)));
                if self.0.random() { C::Any(s, c) } else { C::All(s, c) }
            }
        }
    }

    fn set(&mut self, deep: u32, names: usize) -> S {
        let kind = if deep == 0 { self.0.random_range(0..3) } else { self.0.random_range(0..7) };
        let b = |s: S| Box::new(s);
        match kind {
            0 => S::Wet,
            1 => S::Dry,
            2 => S::Around(self.cell(names)),
            3 => S::Plus(b(self.set(deep - 1, names)), b(self.set(deep - 1, names))),
            4 => S::Minus(b(self.set(deep - 1, names)), b(self.set(deep - 1, names))),
            5 => S::Both(b(self.set(deep - 1, names)), b(self.set(deep - 1, names))),
            _ => S::Where(Box::new(self.truth(deep - 1, names + 1))),
        }
    }
}

/// A board of a set in a level file.
fn board(set: &BTreeSet<i64>) -> String {
    let rows: Vec<String> = (0..ROWS)
        .map(|r| (0..COLS).map(|c| if set.contains(&(r * COLS + c)) { 'x' } else { '.' }).collect())
        .collect();
    format!("'''\n{}\n'''", rows.join("\n"))
}

#[test]
fn random_expressions_mean_what_they_say() {
    let mut maker = Maker(SmallRng::seed_from_u64(2024));
    let depth: Vec<String> = DEPTH.chunks(COLS as usize).map(|r| r.map_text()).collect();
    let (mut values, mut faults) = (BTreeSet::new(), std::collections::BTreeMap::<String, u32>::new());
    for round in 0..700 {
        let some =
            |rng: &mut SmallRng| (0..ROWS * COLS).filter(|_| rng.random_bool(0.4)).collect::<BTreeSet<i64>>();
        let world = World {
            a: maker.0.random_range(-9..10),
            b: maker.0.random_range(-9..10),
            here: maker.0.random_range(0..ROWS * COLS),
            wet: some(&mut maker.0),
            dry: some(&mut maker.0),
        };
        let list: Vec<N> = (0..12).map(|_| maker.number(5, 0)).collect();
        let texts: Vec<String> = list.iter().map(|e| number_text(e, 0).0).collect();
        let moves: Vec<String> =
            (0..).zip(&texts).map(|(i, t)| format!("move m{i} {{ out = {t} }}")).collect();
        let model = format!(
            "model m\nlevel depth: grid of 0..9\nstate a, b: -9..9\nstate here: cell\nstate wet, dry: set of cells\n\
             state out: -{MOST}..{MOST}\n{}\ngoal out == {MOST}\n",
            moves.join("\n")
        );
        let level = format!(
            "values.depth = '''\n{}\n'''\nstart.a = {}\nstart.b = {}\nstart.here = 'r{}c{}'\nstart.wet = {}\nstart.dry = {}\nstart.out = 0\n",
            depth.join("\n"),
            world.a,
            world.b,
            world.here / COLS + 1,
            world.here % COLS + 1,
            board(&world.wet),
            board(&world.dry)
        );
        let g = game(&model, &level);
        let table = MoveTable::new(&g.bound).expect("few moves");
        let state = g.bound.position.clone();
        // Both executors agree, and the slow one with this file.
        let mut machine = Machine::new(&g.bound, &g.code);
        compare(&g, &table, &mut machine, &state).unwrap_or_else(|e| panic!("round {round}: {e}\n{model}"));
        let out = g.bound.slots[g.bound.model.var("out").expect("declared")].base;
        for (i, e) in list.iter().enumerate() {
            let want = world.number(e, &mut vec![]);
            let want = want.and_then(|v| if v.abs() <= MOST { Ok(v) } else { Err(FaultKind::OutOfDomain) });
            let number =
                table.list.iter().position(|(of, _)| g.bound.model.moves[*of].name == format!("m{i}"));
            let got = match step(&g.bound, &table, &state, number.expect("a move"), false) {
                Ok(Step::Made(list)) => Ok(i64::from(list[0].made.state[out])),
                Ok(_) => panic!("a move that refuses nothing"),
                Err(f) => Err(f.kind),
            };
            assert_eq!(got, want, "round {round}: {}\n{level}", texts[i]);
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

trait MapText {
    fn map_text(&self) -> String;
}

impl MapText for [i64] {
    fn map_text(&self) -> String {
        self.iter().map(i64::to_string).collect::<Vec<_>>().join(" ")
    }
}
