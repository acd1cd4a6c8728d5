//! Expressions of the language with an evaluator of their own: what they mean, how they are written with as few
//! parentheses as the language allows, and random ones.

#![allow(dead_code, missing_docs)]

use std::collections::BTreeSet;

use fendle_lang::run::FaultKind;
use rand::{Rng, rngs::SmallRng};

pub const ROWS: i64 = 3;
pub const COLS: i64 = 4;
/// What the result is stored in holds so much, up and down.
pub const MOST: i64 = 2_000;
/// Depths of the cells, row by row.
pub const DEPTH: [i64; 12] = [3, 0, 7, 1, 4, 4, 9, 2, 0, 5, 8, 6];

/// A number.
pub enum N {
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
    Load(Cell),
    Count(Box<S>, Box<C>),
    /// `sum`, `min` or `max` over a set.
    Over(&'static str, Box<S>, Box<N>),
}

/// A condition.
pub enum C {
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
pub enum S {
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
pub enum Cell {
    Here,
    Name(usize),
}

pub const DIRS: [(&str, i64, i64); 4] = [("up", -1, 0), ("right", 0, 1), ("down", 1, 0), ("left", 0, -1)];

// ---- what it means ----

/// The values that expressions read.
#[derive(Clone, Debug, PartialEq)]
pub struct World {
    pub a: i64,
    pub b: i64,
    pub here: i64,
    pub wet: BTreeSet<i64>,
    pub dry: BTreeSet<i64>,
    /// A grid that statements may write.
    pub load: Vec<i64>,
}

pub type Result_<T> = Result<T, FaultKind>;

impl World {
    pub fn cell(&self, c: Cell, names: &[i64]) -> i64 {
        match c {
            Cell::Here => self.here,
            Cell::Name(i) => names[i],
        }
    }

    pub fn number(&self, e: &N, names: &mut Vec<i64>) -> Result_<i64> {
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
            N::Load(c) => self.load[self.cell(*c, names) as usize],
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

    pub fn with<T>(&self, x: i64, names: &mut Vec<i64>, ask: impl Fn(&World, &mut Vec<i64>) -> T) -> T {
        names.push(x);
        let out = ask(self, names);
        names.pop();
        out
    }

    pub fn truth(&self, e: &C, names: &mut Vec<i64>) -> Result_<bool> {
        Ok(match e {
            C::True => true,
            C::Cmp(op, x, y) => {
                // Where both sides break the language leaves open which fault is told; today `>` asks its right side first.
                let (x, y) = if op.starts_with('>') {
                    let y = self.number(y, names)?;
                    (self.number(x, names)?, y)
                } else {
                    (self.number(x, names)?, self.number(y, names)?)
                };
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

    pub fn set(&self, e: &S, names: &mut Vec<i64>) -> Result_<BTreeSet<i64>> {
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
pub type Text = (String, u8);

/// The text, in parentheses if it binds more loosely than is wanted.
pub fn at_least((text, binds): Text, want: u8) -> String {
    if binds < want { format!("({text})") } else { text }
}

pub fn cell_text(c: Cell) -> String {
    match c {
        Cell::Here => "here".into(),
        Cell::Name(i) => format!("x{i}"),
    }
}

pub fn number_text(e: &N, names: usize) -> Text {
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
        N::Load(c) => (format!("load[{}]", cell_text(*c)), 9),
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

pub fn truth_text(e: &C, names: usize) -> Text {
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

pub fn set_text(e: &S, names: usize) -> Text {
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

pub struct Maker(pub SmallRng);

impl Maker {
    pub fn cell(&mut self, names: usize) -> Cell {
        match self.0.random_range(0..=names) {
            0 => Cell::Here,
            i => Cell::Name(i - 1),
        }
    }

    pub fn number(&mut self, deep: u32, names: usize) -> N {
        let kind = if deep == 0 { self.0.random_range(0..6) } else { self.0.random_range(0..16) };
        let b = |n: N| Box::new(n);
        match kind {
            0 => N::Lit(self.0.random_range(0..10)),
            1 => N::A,
            2 => N::B,
            3 => N::Row(self.cell(names)),
            4 => N::Col(self.cell(names)),
            5 if self.0.random() => N::Load(self.cell(names)),
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

    pub fn truth(&mut self, deep: u32, names: usize) -> C {
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

    pub fn set(&mut self, deep: u32, names: usize) -> S {
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

/// A model with these moves, and a level that begins in this world.
pub fn written(world: &World, moves: &[String]) -> (String, String) {
    let model = format!(
        "model m\nlevel depth: grid of 0..9\nstate a, b: -{MOST}..{MOST}\nstate here: cell\nstate wet, dry: set of cells\n\
         state load: grid of 0..9\nstate out: -{MOST}..{MOST}\n{}\ngoal out == {MOST}\n",
        moves.join("\n")
    );
    let numbers = |list: &[i64]| -> String {
        let rows =
            list.chunks(COLS as usize).map(|r| r.iter().map(i64::to_string).collect::<Vec<_>>().join(" "));
        format!("'''\n{}\n'''", rows.collect::<Vec<_>>().join("\n"))
    };
    let cells = |set: &BTreeSet<i64>| -> String {
        let glyph = |i: i64| if set.contains(&i) { 'x' } else { '.' };
        let rows = (0..ROWS).map(|r| (0..COLS).map(|c| glyph(r * COLS + c)).collect::<String>());
        format!("'''\n{}\n'''", rows.collect::<Vec<_>>().join("\n"))
    };
    let level = format!(
        "values.depth = {}\nstart.a = {}\nstart.b = {}\nstart.here = 'r{}c{}'\nstart.wet = {}\nstart.dry = {}\nstart.load = {}\n\
         start.out = 0\n",
        numbers(&DEPTH),
        world.a,
        world.b,
        world.here / COLS + 1,
        world.here % COLS + 1,
        cells(&world.wet),
        cells(&world.dry),
        numbers(&world.load)
    );
    (model, level)
}

impl Maker {
    /// Any values.
    pub fn world(&mut self) -> World {
        let some =
            |rng: &mut SmallRng| (0..ROWS * COLS).filter(|_| rng.random_bool(0.4)).collect::<BTreeSet<i64>>();
        World {
            a: self.0.random_range(-9..10),
            b: self.0.random_range(-9..10),
            here: self.0.random_range(0..ROWS * COLS),
            wet: some(&mut self.0),
            dry: some(&mut self.0),
            load: (0..ROWS * COLS).map(|_| self.0.random_range(0..10)).collect(),
        }
    }
}
