//! The two executors agree on randomly written models: on every outcome, refusal, status and fault.
//!
//! The writer makes well-typed source text, so that the parser and the checker are under test
//! too. A count of operations shows that nothing of the intermediate form is left out.

use crate::common;

use std::collections::{BTreeMap, BTreeSet};

use common::{
    both, compare, compare_native, compare_positions, compiled, games, model, odds_agree, round_trips, times,
};
use fendle_lang::code::ir::Op;
use fendle_lang::code::machine::Machine;
use fendle_lang::play::MoveTable;
use fendle_lang::run::FaultKind;
use rand::{Rng, SeedableRng, rngs::SmallRng};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum T {
    Int,
    Bool,
    Cell,
    Place,
    Dir,
    Kind,
    Set,
    Lane,
}

/// Writes one random model.
struct Writer<'r> {
    rng: &'r mut SmallRng,
    names: Vec<(String, T, bool)>,
    fresh: usize,
    /// Inside `fn`: no `before`, no procedures.
    pure: bool,
    loops: usize,
    /// How many of the model's functions may be called here: they do not recurse.
    calls: usize,
    /// This body draws, and so it refuses nothing.
    draws: bool,
}

impl Writer<'_> {
    fn pick<'a>(&mut self, list: &[&'a str]) -> &'a str {
        list[self.rng.random_range(0..list.len())]
    }
    fn chance(&mut self, percent: u32) -> bool {
        self.rng.random_range(0..100) < percent
    }
    fn name(&mut self) -> String {
        self.fresh += 1;
        format!("x{}", self.fresh)
    }
    fn known(&mut self, ty: T) -> Option<String> {
        let list: Vec<String> = self.names.iter().filter(|n| n.1 == ty).map(|n| n.0.clone()).collect();
        if list.is_empty() { None } else { Some(list[self.rng.random_range(0..list.len())].clone()) }
    }
    fn scoped<R>(&mut self, f: impl FnOnce(&mut Self) -> R) -> R {
        let len = self.names.len();
        let out = f(self);
        self.names.truncate(len);
        out
    }
    fn when(&mut self) -> &'static str {
        if self.pure {
            ["", "start."][self.rng.random_range(0..2)]
        } else {
            ["", "", "before.", "start."][self.rng.random_range(0..4)]
        }
    }

    fn int(&mut self, d: usize) -> String {
        if d == 0 || self.chance(20) {
            let w = self.when();
            return match self.rng.random_range(0..6) {
                0 if self.chance(6) => "9000".into(),
                0 => self.rng.random_range(0..5).to_string(),
                1 => "limit".into(),
                2 => "K".into(),
                3 => self.known(T::Int).unwrap_or_else(|| "2".into()),
                4 => format!("{w}count_"),
                _ if self.calls > 0 && self.chance(40) => "busy()".into(),
                _ => self.pick(&["rows()", "cols()", "3"]).into(),
            };
        }
        let d = d - 1;
        match self.rng.random_range(0..25) {
            19 => {
                let w = self.when();
                self.pick(&["len(W pile)", "len(W heaps[oak])", "sum(zi in W pile: zi)", "len(W sack)"])
                    .replace("W ", w)
            }
            20 => {
                let w = self.when();
                let list = self.pick(&["pile", "heaps[elm]"]).to_string();
                let end = self.pick(&["last", "first"]).to_string();
                format!("(if len({w}{list}) > 0 then {w}{list}.{end} else {})", self.int(0))
            }
            21 => format!("(if len(pile) > 1 or flag then pile[{}] else 1)", self.int(0)),
            22 => format!("marks_[1 + abs({}) mod 3] + sides[{}]", self.int(d), self.int(0)),
            23 => self
                .pick(&[
                    "hand.rank",
                    "(if hold != none then given(hold) else 4)",
                    "given(hold)",
                    "turn(piece)",
                    "(if part(patch, anchor(patch)) == elm then 1 else 2)",
                    "count(zp in cells(patch) where part(patch, zp) == sort)",
                    "turn(patch)",
                ])
                .into(),
            24 => self
                .pick(&[
                    "row(anchor(piece))",
                    "count(zp in cells(piece) where zp on board)",
                    "sum(zr in rows where token[place(row(zr), 1)] outside 0 == 1: len(zr))",
                ])
                .into(),
            0 => format!("({} + {})", self.int(d), self.int(d)),
            1 => format!("({} - {})", self.int(d), self.int(d)),
            2 => format!("({} * {})", self.int(d), self.int(d)),
            3 => format!("({} / {})", self.int(d), self.int(d)),
            4 => format!("({} mod {})", self.int(d), self.int(d)),
            5 => format!("({} ** {})", self.int(d), self.int(d)),
            6 => format!("(-{})", self.int(0)),
            7 => format!("abs({})", self.int(d)),
            8 => format!("min({}, {})", self.int(d), self.int(d)),
            9 => format!("max({}, {})", self.int(d), self.int(d)),
            10 => {
                let w = self.when();
                format!("{w}token[{}]", self.cell(d))
            }
            11 => format!("nums[{}] outside {}", self.place(d), self.int(0)),
            12 => {
                let w = self.when();
                format!("{w}stock[{}]", self.kind(d))
            }
            13 => {
                let op = self.pick(&["row", "col"]).to_string();
                format!("{op}({})", self.place(d))
            }
            14 => format!("(if {} then {} else {})", self.boolean(d), self.int(d), self.int(d)),
            15 if self.calls > 3 => format!("helped({}, {})", self.cell(d), self.int(0)),
            15 => "limit".into(),
            16 => {
                let op = self.pick(&["sum", "min", "max"]).to_string();
                self.quant(&op, d, Some(T::Int))
            }
            17 => self.quant("count", d, None),
            _ => match self.known(T::Lane) {
                Some(l) => format!("len({l})"),
                None => "parity(plan)".into(),
            },
        }
    }

    fn boolean(&mut self, d: usize) -> String {
        if d == 0 || self.chance(15) {
            return match self.rng.random_range(0..5) {
                0 => "true".into(),
                1 => "false".into(),
                2 => self.known(T::Bool).unwrap_or_else(|| "flag".into()),
                3 => "flag".into(),
                _ if self.calls > 1 => "crowded()".into(),
                _ => "flag".into(),
            };
        }
        let d = d - 1;
        match self.rng.random_range(0..21) {
            20 => self.of_all_cells(),
            17 => format!("({} in {})", self.int(d), self.pick(&["pile", "sack", "heaps[sort]"])),
            18 => {
                let w = self.when();
                self.pick(&[
                    "pile == W pile",
                    "heaps[oak] != W heaps[ash]",
                    "hold == W hold",
                    "hand == W hand",
                    "sack == W sack",
                    "pile == list(zi in 1..2: zi)",
                    "hold == none",
                ])
                .replace("W ", w)
            }
            19 => self
                .pick(&[
                    "kind(piece) == bar",
                    "turned(piece) == piece",
                    "all(zp in cells(piece): zp on board and token[zp] < 3)",
                    "any(zp in cells(piece) where zp on board: token[zp] < 3)",
                    "any(zo in offsets(stay, left): piece + zo == start.piece)",
                ])
                .into(),
            0 => format!("({} and {})", self.boolean(d), self.boolean(d)),
            1 => format!("({} or {})", self.boolean(d), self.boolean(d)),
            2 => format!("(not {})", self.boolean(d)),
            3 | 4 => {
                let op = self.pick(&["==", "!=", "<", "<=", ">", ">="]).to_string();
                format!("({} {op} {})", self.int(d), self.int(d))
            }
            5 => {
                let op = self.pick(&["==", "!="]).to_string();
                format!("({} {op} {})", self.cell(d), self.place(d))
            }
            6 => {
                let op = self.pick(&["==", "!="]).to_string();
                format!("({} {op} {})", self.kind(d), self.kind(d))
            }
            7 => format!("({} == {})", self.dir(d), self.dir(d)),
            8 => format!("({} == {})", self.offset(d), self.offset(d)),
            9 => format!("wall[{}]", self.place(d)),
            10 => format!("({} on board)", self.place(d)),
            11 => format!("({} in {})", self.place(d), self.set(d)),
            12 => {
                let op = self.pick(&["==", "!="]).to_string();
                format!("({} {op} {})", self.set(d), self.set(d))
            }
            13 => {
                let w = self.when();
                self.pick(&[
                    "token == W token",
                    "plan != W plan",
                    "distinct(token)",
                    "distinct(plan)",
                    "stock == W stock",
                ])
                .replace("W ", w)
            }
            14 => {
                let op = self.pick(&["all", "any"]).to_string();
                self.quant(&op, d, Some(T::Bool))
            }
            15 => format!("mark[{}]", self.cell(d)),
            _ => {
                format!("(if {} then {} else {})", self.boolean(d), self.boolean(d), self.boolean(d))
            }
        }
    }

    /// A condition that is asked of all cells at once.
    fn of_all_cells(&mut self) -> String {
        let w = self.when();
        self.pick(&[
            "any(zc on token where token[zc] > 0: (W token[zc + right] outside 9) == token[zc])",
            "any(zc on token where zc + left on board and W token[zc + left] != token[zc])",
            "all(zc on token: any(zn in around4(zc): token[zn] <= W token[zc]))",
            "count(zc on token where (token[zc + up] outside 2) < (W token[zc + 2 * right] outside 1)) > 2",
            "first(zc on token where zc == spot or token[zc] != W token[zc] or not wall[zc]) == spot",
        ])
        .replace("W ", w)
    }

    fn cell(&mut self, d: usize) -> String {
        if d == 0 || self.chance(40) {
            let w = self.when();
            return self.known(T::Cell).filter(|_| w.is_empty()).unwrap_or_else(|| format!("{w}spot"));
        }
        let d = d - 1;
        match self.rng.random_range(0..3) {
            0 => self.quant("the", d, None),
            1 => self.quant("first", d, None),
            _ => format!("(if {} then {} else {})", self.boolean(d), self.cell(d), self.cell(d)),
        }
    }

    fn place(&mut self, d: usize) -> String {
        if d == 0 || self.chance(25) {
            return match self.known(T::Place) {
                Some(p) if self.chance(50) => p,
                _ => self.cell(0),
            };
        }
        let d = d - 1;
        match self.rng.random_range(0..4) {
            0 => format!("({} + {})", self.place(d), self.offset(d)),
            1 => format!("({} - {})", self.place(d), self.dir(d)),
            2 => format!("place({}, {})", self.int(d), self.int(d)),
            _ => self.cell(d),
        }
    }

    fn dir(&mut self, d: usize) -> String {
        if d == 0 || self.chance(40) {
            let w = self.when();
            return match self.known(T::Dir) {
                Some(n) if self.chance(60) => n,
                _ if self.chance(40) => format!("{w}facing"),
                _ => self.pick(&["up", "right", "down", "left", "down_left"]).into(),
            };
        }
        let op = self.pick(&["opposite", "turned"]).to_string();
        format!("{op}({})", self.dir(d - 1))
    }

    fn offset(&mut self, d: usize) -> String {
        if d == 0 {
            return self.dir(0);
        }
        let d = d - 1;
        match self.rng.random_range(0..5) {
            0 => format!("({} + {})", self.offset(d), self.dir(d)),
            1 => format!("({} - {})", self.dir(d), self.offset(d)),
            2 => format!("({} * {})", self.int(d), self.dir(d)),
            3 => format!("(-{})", self.dir(0)),
            _ => self.dir(d),
        }
    }

    fn kind(&mut self, d: usize) -> String {
        if d > 0 && self.chance(30) {
            return format!(
                "(if {} then {} else {})",
                self.boolean(d - 1),
                self.kind(d - 1),
                self.kind(d - 1)
            );
        }
        match self.known(T::Kind) {
            Some(k) if self.chance(50) => k,
            _ => self.pick(&["oak", "elm", "tree.ash", "sort"]).into(),
        }
    }

    fn set(&mut self, d: usize) -> String {
        if d == 0 || self.chance(30) {
            return match self.known(T::Set) {
                Some(s) if self.chance(60) => s,
                _ if self.calls > 2 && self.chance(30) => "reach(spot)".into(),
                _ => self.pick(&["mark", "wall"]).into(),
            };
        }
        let d = d - 1;
        match self.rng.random_range(0..5) {
            0 => format!("({} + {})", self.set(d), self.set(d)),
            1 => format!("({} - {})", self.set(d), self.set(d)),
            2 => format!("both({}, {})", self.set(d), self.set(d)),
            3 => self.quant("set", d, None),
            _ => {
                let (x, from) = (self.name(), self.cell(d));
                let by = match self.rng.random_range(0..3) {
                    0 => "around4".to_string(),
                    1 => "around8".into(),
                    _ => format!("around({}, {})", self.offset(1), self.offset(0)),
                };
                let rim = if self.chance(40) { ", rim" } else { "" };
                self.loops += 1;
                let cond = self.scoped(|w| {
                    w.names.push((x.clone(), T::Cell, false));
                    w.boolean(d.min(1))
                });
                self.loops -= 1;
                format!("flood({x} from {from} by {by} while {cond}{rim})")
            }
        }
    }

    /// `NAME in RANGE`, and the type of the name.
    fn binder(&mut self, d: usize, cells_only: bool) -> (String, String, T) {
        let x = self.name();
        let (over, ty) = match self.rng.random_range(0..if cells_only { 5 } else { 15 }) {
            0 | 1 => (format!("{x} on token"), T::Cell),
            2 => (format!("{x} in {}", self.set(d)), T::Cell),
            3 => {
                let by = self.pick(&["around4", "around8"]).to_string();
                (format!("{x} in {by}({})", self.place(d)), T::Cell)
            }
            4 => {
                let offsets: Vec<String> =
                    (0..self.rng.random_range(1..11)).map(|_| self.offset(1)).collect();
                (format!("{x} in around({}, {})", self.place(d), offsets.join(", ")), T::Cell)
            }
            5 => (format!("{x} in dir4"), T::Dir),
            6 => (format!("{x} in dir8"), T::Dir),
            7 => (format!("{x} in tree"), T::Kind),
            8 | 9 => (format!("{x} in {}..{}", self.int(0), self.int(d.min(1))), T::Int),
            10 => (format!("{x} in lanes(token, {})", self.dir(0)), T::Lane),
            11 => (
                format!(
                    "{x} in {}",
                    self.pick(&["pile", "sack", "heaps[elm]", "before_pile()"])
                        .replace("before_pile()", "list(zi in 1..3: zi)")
                ),
                T::Int,
            ),
            12 => (format!("{x} in {}", self.pick(&["rows", "columns"])), T::Lane),
            13 => (format!("{x} in cells(piece)"), T::Place),
            _ => match self.known(T::Lane) {
                Some(l) => (format!("{x} in {l}"), T::Cell),
                None => (format!("{x} in lanes({})", self.dir(0)), T::Lane),
            },
        };
        (x, over, ty)
    }

    fn quant(&mut self, op: &str, d: usize, body: Option<T>) -> String {
        if self.loops >= 3 {
            return match op {
                "the" | "first" => "spot".into(),
                "set" => "mark".into(),
                "all" | "any" => "flag".into(),
                _ => "count_".into(),
            };
        }
        self.loops += 1;
        let cells_only = matches!(op, "the" | "first" | "set");
        let (x, over, ty) = self.binder(d, cells_only);
        let out = self.scoped(|w| {
            w.names.push((x.clone(), ty, false));
            let filter = match w.rng.random_range(0..4) {
                0 if ty == T::Cell => format!(" where token[{x}] == {}", w.rng.random_range(0..4)),
                1 if ty == T::Cell => {
                    let set = w.pick(&["mark", "wall"]).to_string();
                    format!(" where {set}[{x}] and {}", w.boolean(d))
                }
                2 => String::new(),
                _ => format!(" where {}", w.boolean(d)),
            };
            let body = match body {
                Some(T::Bool) => format!(": {}", w.boolean(d)),
                Some(_) => format!(": {}", w.int(d)),
                None => String::new(),
            };
            format!("{op}({over}{filter}{body})")
        });
        self.loops -= 1;
        out
    }

    fn block(&mut self, d: usize, indent: &str, proc_: bool) -> String {
        self.scoped(|w| {
            let mut out = String::new();
            let inner = format!("{indent}    ");
            for _ in 0..w.rng.random_range(1..5) {
                out.push_str(&inner);
                out.push_str(&w.stmt(d, &inner, proc_));
                out.push('\n');
            }
            if w.chance(6) {
                let end = w.pick(&["win", "lose \"sunk\"", "stop", "stop \"enough\""]).to_string();
                out.push_str(&format!("{inner}{end}\n"));
            }
            format!("{{\n{out}{indent}}}")
        })
    }

    /// Statements about lists, lanes, records, shapes, and draws.
    #[expect(clippy::too_many_lines, reason = "one arm for each kind of statement")]
    fn newer(&mut self, d: usize, indent: &str) -> String {
        let e = 1;
        match self.rng.random_range(
            0..if self.draws && d > 0 {
                27
            } else if self.draws {
                25
            } else {
                22
            },
        ) {
            0 => format!("pile.push(abs({}) mod 10)", self.int(e)),
            1 => format!("pile.push({})", self.int(e)),
            2 if self.chance(80) => "if len(pile) > 0 { pile.pop() }".into(),
            2 => "pile.pop()".into(),
            3 => {
                let end = self.pick(&["last", "first"]).to_string();
                format!("if len(pile) > 0 {{ pile.{end} = abs({}) mod 10 }}", self.int(e))
            }
            4 => format!("heaps[{}].push(abs({}) mod 4)", self.kind(1), self.int(e)),
            5 => format!(
                "if len(heaps[oak]) > 0 {{ take last {} of heaps[oak] onto heaps[{}] }}",
                self.pick(&["1", "1", "2", "len(heaps[oak])"]),
                self.kind(1)
            ),
            6 => format!("add abs({}) mod 6 to sack", self.int(e)),
            7 => format!("if {0} in sack {{ remove {0} from sack }}", self.pick(&["1", "2", "3"])),
            8 => format!("marks_[1 + abs({}) mod 3] = abs({}) mod 5", self.int(e), self.int(e)),
            9 => match self.rng.random_range(0..4) {
                0 => "hold = none".into(),
                1 if self.chance(50) => "if flag { hold = none }; hold = 3 - given(hold)".into(),
                1 => format!("hold = {}", self.int(e)),
                2 => "swap hold, hold".into(),
                _ => format!("hold = if {} then none else 2", self.boolean(e)),
            },
            10 => format!("hand = card(rank: 1 + abs({}) mod 3, kind: {})", self.int(e), self.kind(1)),
            11 => {
                let x = self.name();
                let d = self.pick(&["left", "up", "facing", "down"]).to_string();
                let fill = self.int(0);
                let part = self.pick(&["1, ", "", "pile, "]).to_string();
                format!(
                    "for {x} in lanes(token, {d}) {{ write {part}list(zc in {x} where token[zc] > 1: token[zc]), then {fill}, into token along {x} }}"
                )
            }
            12 => {
                let x = self.name();
                let (what, sides) =
                    if self.chance(50) { ("rows", ["up", "down"]) } else { ("columns", ["left", "right"]) };
                let side = self.pick(&sides).to_string();
                let cond = self.scoped(|w| {
                    w.names.push((x.clone(), T::Lane, false));
                    w.boolean(2)
                });
                let fill = self.int(0);
                format!("cut {x} in {what} where {cond} out of token, {fill} from {side}")
            }
            13 => {
                let x = self.name();
                let (what, len, side) =
                    if self.chance(50) { ("rows", "cols()", "down") } else { ("columns", "rows()", "left") };
                format!(
                    "for {x} in {what} {{ if {} {{ insert list(zi in 1..{len}: zi) into token at {x}, from {side} }} }}",
                    self.boolean(2)
                )
            }
            14 => match self.rng.random_range(0..7) {
                4 => "patch = mirrored(patch)".into(),
                5 => format!("patch = turned({}, {})", self.pick(&["patch", "mirrored(patch)"]), self.int(1)),
                6 => format!("patch = placed({}, {})", self.pick(&["sash", "knot"]), self.place(1)),
                0 => "piece = turned(piece)".into(),
                1 => format!("piece = turned(piece, {})", self.int(e)),
                2 => format!("piece = placed({}, {})", self.pick(&["bit", "bar", "nook"]), self.place(1)),
                _ => format!("piece = piece {} {}", self.pick(&["+", "-"]), self.dir(1)),
            },
            15 => "for zp in cells(piece) { if zp on board { token[zp] = 4 } }".into(),
            16 => {
                let (x, y) = (self.name(), self.name());
                let n = self.rng.random_range(0..5);
                format!(
                    "var {x}: list of 0..9 max {n}\n{indent}{x}.push(abs({}) mod 10)\n{indent}let {y} = list(zj in 1..3 where {}: zj)\n{indent}{x} = {y}\n{indent}pile = {x}",
                    self.int(e),
                    self.boolean(1)
                )
            }
            17 => "pile.clear()".into(),
            18 => {
                let x = self.name();
                format!(
                    "var {x}: list of 0..9 max count_ = pile\n{indent}if len({x}) > 0 {{ {x}[1] = {}; {x}.pop() }}\n{indent}heaps[ash] = list(zi in {x} where zi < 4: zi)",
                    self.int(e)
                )
            }
            19 => self
                .pick(&[
                    "heaps = before.heaps",
                    "sack = before.sack",
                    "pile = heaps[elm]",
                    "heaps[oak] = pile",
                    "sack.clear()",
                    "marks_ = before.marks_",
                ])
                .into(),
            20 => {
                let x = self.name();
                format!("for {x} in pile where {x} > 1 {{ if len(pile) > 0 {{ pile.pop() }} }}")
            }
            21 => {
                let x = self.name();
                format!("for {x} in pile {{ count_ = {x}; pile.clear() }}")
            }
            22 => {
                let x = self.name();
                let cond = self.scoped(|w| {
                    w.names.push((x.clone(), T::Cell, false));
                    w.boolean(1)
                });
                let other = if d > 0 && self.chance(60) {
                    format!(" else {}", self.block(d.saturating_sub(1), indent, true))
                } else {
                    String::new()
                };
                let weight = if self.chance(40) { format!(" weight token[{x}]") } else { String::new() };
                let line = format!("let {x} = draw on token where {cond}{weight}{other}");
                self.names.push((x, T::Cell, false));
                line
            }
            23 => format!(
                "token[{}] = draw from (1 weight 9, 2 weight {}, {})",
                self.cell(1),
                self.int(0),
                self.int(0)
            ),
            24 => {
                let x = self.name();
                let over = self.pick(&["dir4", "pile", "1..3", "tree"]).to_string();
                let ty = match over.as_str() {
                    "dir4" => T::Dir,
                    "tree" => T::Kind,
                    _ => T::Int,
                };
                let line = format!("let {x} = draw in {over} else {{ count_ = 1 }}");
                self.names.push((x, ty, false));
                line
            }
            25 => {
                let body = self.block(d.saturating_sub(1), indent, true);
                format!(
                    "phase \"draws\" {{\n{indent}facing = draw in dir8\n{indent}if flag {body}\n{indent}}}"
                )
            }
            _ => {
                let body = self.block(d.saturating_sub(1), indent, true);
                format!(
                    "repeat at most {} while {} {{\n{indent}flag = draw from (true, false weight 2)\n{indent}if true {body}\n{indent}}} else cut",
                    self.int(0),
                    self.boolean(1)
                )
            }
        }
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each kind of statement")]
    fn stmt(&mut self, d: usize, indent: &str, proc_: bool) -> String {
        let e = 2;
        if self.chance(35) && self.loops < 2 {
            return self.newer(d, indent);
        }
        match self.rng.random_range(0..if d == 0 { 17 } else { 25 }) {
            0 => format!("token[{}] = {}", self.cell(e), self.int(e)),
            1 => format!("count_ = {}", self.int(e)),
            2 => {
                let op = self.pick(&["+=", "-=", "*="]).to_string();
                format!("count_ {op} {}", self.int(1))
            }
            3 => format!("spot = {}", self.cell(e)),
            4 => format!("facing = {}", self.dir(e)),
            5 => format!("sort = {}", self.kind(e)),
            6 => format!("stock[{}] = {}", self.kind(1), self.int(e)),
            7 => format!("flag = {}", self.boolean(e)),
            8 => {
                let op = self.pick(&["add W to mark", "remove W from mark", "mark[W] = flag"]).to_string();
                op.replace('W', &self.cell(e))
            }
            9 => match self.rng.random_range(0..4) {
                0 => format!("swap token[{}], token[{}]", self.cell(1), self.cell(1)),
                1 => "swap count_, stock[oak]".into(),
                _ => format!("swap plan[{}], plan[{}]", self.cell(1), self.cell(1)),
            },
            10 => match self.rng.random_range(0..4) {
                0 => "token = nums".into(),
                1 => "token = before.token".into(),
                2 if self.chance(30) => format!("plan[{}] = {}", self.cell(1), self.int(1)),
                2 => "plan = start.plan".into(),
                _ => format!("mark = {}", self.set(e)),
            },
            11 | 12 => {
                let (word, mutable) = if self.chance(50) { ("let", false) } else { ("var", true) };
                let x = self.name();
                let (ty, value) = match self.rng.random_range(0..7) {
                    0 => (T::Bool, self.boolean(e)),
                    1 => (T::Cell, self.cell(e)),
                    2 => (T::Place, self.place(e)),
                    3 => (T::Dir, self.dir(e)),
                    4 => (T::Kind, self.kind(e)),
                    5 => (T::Set, self.set(e)),
                    _ => (T::Int, self.int(e)),
                };
                let note = match ty {
                    T::Int if self.chance(30) => ": 0..9",
                    T::Place => ": place",
                    T::Dir if self.chance(30) => ": dir4",
                    T::Set => ": set of cells",
                    _ => "",
                };
                let line = format!("{word} {x}{note} = {value}");
                self.names.push((x.clone(), ty, mutable));
                line
            }
            13 => {
                let list: Vec<(String, T)> =
                    self.names.iter().filter(|n| n.2).map(|n| (n.0.clone(), n.1)).collect();
                if list.is_empty() {
                    return format!("score {}", self.int(e));
                }
                let (x, ty) = list[self.rng.random_range(0..list.len())].clone();
                match ty {
                    T::Bool => format!("{x} = {}", self.boolean(e)),
                    T::Cell => format!("{x} = {}", self.cell(e)),
                    T::Place => format!("{x} = {}", self.place(e)),
                    T::Dir => format!("{x} = {}", self.dir(e)),
                    T::Kind => format!("{x} = {}", self.kind(e)),
                    T::Set if self.chance(50) => format!("add {} to {x}", self.cell(1)),
                    T::Set => format!("{x} = {}", self.set(e)),
                    _ => format!("{x} = {}", self.int(e)),
                }
            }
            14 if self.chance(50) => {
                let x = self.name();
                let (a, b) = (self.int(1), self.kind(1));
                format!("var {x} = stock\n{indent}{x}[oak] = {a}\n{indent}{x}[{b}] = 2\n{indent}stock = {x}")
            }
            14 => format!("note \"here\" at {}", self.place(e)),
            15 => format!("seen += {}", self.int(1)),
            16 if !proc_ && !self.draws => format!("helper({}, {})", self.cell(1), self.int(1)),
            16 => "judge".into(),
            17 | 18 => {
                let cond = self.boolean(e);
                let then = self.block(d - 1, indent, proc_);
                let other = if self.chance(50) {
                    format!(" else {}", self.block(d - 1, indent, proc_))
                } else {
                    String::new()
                };
                format!("if {cond} {then}{other}")
            }
            19 => {
                // A place that is a cell inside the block.
                let p = self.name();
                let place = self.place(e);
                let head = format!("let {p} = {place}\n{indent}if {p} on board and {} ", self.boolean(1));
                let body = self.scoped(|w| {
                    w.names.push((p.clone(), T::Cell, false));
                    w.block(d - 1, indent, proc_)
                });
                // A cell needs no test, so the place is made one first.
                head.replace(&format!("let {p} = "), &format!("let {p}: place = ")) + &body
            }
            20 | 21 if self.loops < 2 => {
                self.loops += 1;
                let (x, over, ty) = self.binder(1, false);
                let out = self.scoped(|w| {
                    w.names.push((x.clone(), ty, false));
                    let filter =
                        if w.chance(50) { format!(" where {}", w.boolean(1)) } else { String::new() };
                    format!("for {over}{filter} {}", w.block(d - 1, indent, proc_))
                });
                self.loops -= 1;
                out
            }
            22 if self.loops < 2 => {
                self.loops += 1;
                let out = format!(
                    "repeat at most {} while {} {}",
                    self.int(0),
                    self.boolean(e),
                    self.block(d - 1, indent, proc_)
                );
                self.loops -= 1;
                out
            }
            23 => format!("phase \"p\" {}", self.block(d - 1, indent, proc_)),
            _ if self.draws => format!("flag = {}", self.boolean(e)),
            _ => {
                let at = match self.rng.random_range(0..3) {
                    0 => String::new(),
                    1 => format!(" at {}", self.place(1)),
                    _ => format!(" at {}, {}", self.place(1), self.set(1)),
                };
                format!("refuse \"no\"{at} unless {}", self.boolean(e))
            }
        }
    }

    fn model(&mut self) -> String {
        let mut out = String::from(
            "model m\n\
             const K = 2 + 1\n\
             enum tree { oak, elm, ash }\n\
             level wall: grid of bool outside true\n\
             level nums, layout: grid of 0..9\n\
             level limit: 0..9\n\
             state token: grid of 0..9\n\
             state plan: rearranged layout\n\
             state mark: set of cells\n\
             state spot: cell\n\
             state facing: dir8\n\
             state sort: tree\n\
             state count_: 0..9\n\
             state stock: array tree of 0..limit + 3\n\
             state flag: bool if limit > 1 = false\n\
             record card { rank: 1..3, kind: tree }\n\
             shapes tile_ { bit \"@\"; bar about corner 1, 1 \"xx/.x\"; nook \"x./@x\", \".x/@x\" }\n\
             shapes cloth of tree mirrored { sash \"oe\"; knot \"o./ea\" }\n\
             state patch: placed cloth\n\
             state pile: list of 0..9 max 4\n\
             state heaps: array tree of list of 0..3 max 3\n\
             state sack: bag of 0..5 max 4\n\
             state marks_: array 1..3 of 0..4\n\
             state sides: array column of 0..3\n\
             state hold: maybe 0..3\n\
             state hand: card\n\
             state piece: placed tile_\n\
             tally seen\n",
        );
        self.pure = true;
        out.push_str(&format!("fn busy() = {}\n", self.quant("count", 1, None)));
        self.calls = 1;
        out.push_str(&format!("fn crowded() = {}\n", self.quant("any", 1, Some(T::Bool))));
        self.calls = 2;
        let body = self.scoped(|w| {
            w.names.push(("a".into(), T::Cell, false));
            w.set(2)
        });
        out.push_str(&format!("fn reach(a: cell) = {body}\n"));
        self.calls = 3;
        let body = self.scoped(|w| {
            w.names.push(("a".into(), T::Cell, false));
            w.names.push(("b".into(), T::Int, false));
            w.int(2)
        });
        out.push_str(&format!("fn helped(a: cell, b: 0..3) = {body}\n"));
        self.calls = 4;
        self.pure = false;
        let body = self.scoped(|w| {
            w.names.push(("a".into(), T::Cell, false));
            w.names.push(("b".into(), T::Int, false));
            w.block(1, "", true)
        });
        out.push_str(&format!("proc helper(a: cell, b: 0..4) {body}\n"));
        let params = [("d: dir4", T::Dir), ("c: cell", T::Cell), ("n: 1..3", T::Int), ("k: tree", T::Kind)];
        for m in 0..2 {
            self.draws = self.chance(40);
            let (text, ty) = params[self.rng.random_range(0..params.len())];
            let body = self.scoped(|w| {
                w.names.push((text.split(':').next().unwrap_or("").into(), ty, false));
                let offer =
                    if w.chance(30) { format!("    offer {}\n", w.boolean(1)) } else { String::new() };
                w.block(2, "", false).replacen("{\n", &format!("{{\n{offer}"), 1)
            });
            out.push_str(&format!("move m{m}({text}) {body}\n"));
        }
        self.draws = self.chance(30);
        if self.chance(50) {
            let body = self.block(1, "", false);
            let refuses = body.contains("refuse") || body.contains("helper(") && out.contains("    refuse");
            if !refuses {
                out.push_str(&format!("after {body}\n"));
            }
        }
        if self.chance(30) {
            self.draws = true;
            let body = self.block(1, "", true).replace("judge", "flag = true");
            let every = self.pick(&["tick every 2 moves", "tick on m0", "tick every move"]).to_string();
            out.push_str(&format!("{every} {body}\n"));
        }
        self.draws = false;
        out.push_str(&format!("goal {}\n", self.boolean(2).replace("before.", "")));
        out.push_str(&format!("lost when {} because \"sunk\"\n", self.boolean(2).replace("before.", "")));
        out.push_str("status lost, goal\n");
        out
    }
}

const LEVEL: &str = "
model = 'm'
[[level]]
values.wall = '''
.x.
...
x..
'''
values.nums = '''
0 1 2
3 1 0
2 2 9
'''
values.layout = '''
0 1 2
3 4 5
6 7 8
'''
values.limit = LIMIT
start.token = '''
1 0 0
2 3 1
0 9 1
'''
start.plan = '''
1 0 2
3 4 5
6 7 8
'''
start.mark = '''
x..
.x.
...
'''
start.spot = 'r2c2'
start.facing = 'down'
start.sort = 'elm'
start.count_ = 3
start.stock = { oak = 1, elm = 0, ash = 2 }
start.pile = [3, 1]
start.heaps = { oak = '1 2', elm = 'empty', ash = '3' }
start.sack = '4 2'
start.marks_ = [1, 2, 0]
start.sides = { 1 = 0, 2 = 3, 3 = 1 }
start.hold = 2
start.hand = '2.elm'
start.piece = 'bar.1@r0c2'
start.patch = 'knot.0@r2c2'
";

/// Of so many random models one is compared with its native code as well.
const NATIVE_EVERY: u64 = 5;

#[test]
fn all_executors_agree_on_random_models() {
    let mut ops: BTreeMap<&str, usize> = Op::NAMES.iter().map(|n| (*n, 0)).collect();
    let mut kinds: BTreeSet<FaultKind> = BTreeSet::new();
    let (mut numbered, mut stopped) = (0, 0);
    // States of which native code left moves to the machine, and others.
    let mut expanded = [0, 0];
    let (mut done, mut refused, mut not_offered, mut drawn, mut set_aside) = (0, 0, 0, 0, 0);
    let times = times();
    for seed in 0..1200 * times {
        let mut rng = SmallRng::seed_from_u64(seed);
        let mut w =
            Writer { rng: &mut rng, names: vec![], fresh: 0, pure: false, loops: 0, calls: 0, draws: false };
        let text = w.model();
        let model = model(&text);
        let limit = seed % 4;
        let game = games(&model, &LEVEL.replace("LIMIT", &limit.to_string())).remove(0);
        for op in &game.code.ops {
            *ops.get_mut(op.name()).expect("named") += 1;
        }
        let moves = MoveTable::new(&game.bound).expect("few moves");
        let mut machine = Machine::new(&game.bound, &game.code);
        // Making native code takes longer than what these models do.
        let native = (seed % NATIVE_EVERY == 0).then(|| compiled(&game));
        let mut machines = native.as_ref().map(|n| both(&game, n));
        if native.is_some() {
            numbered += usize::from(round_trips(&game, 40).is_some());
            odds_agree(&game, 60);
        }
        let mut states = vec![game.bound.position.clone()];
        let mut at = 0;
        while at < states.len() && at < 12 {
            match machines.as_mut().map(|m| compare_native(&game, m, &states[at])) {
                Some(Err(e)) => panic!("seed {seed}: {e}\n{text}\n{}", game.code.print()),
                Some(Ok(whole)) => expanded[usize::from(whole)] += 1,
                None => {}
            }
            match compare(&game, &moves, &mut machine, &states[at].clone()) {
                Ok(seen) => {
                    done += seen.next.len();
                    drawn += seen.drawn;
                    set_aside += seen.set_aside;
                    refused += seen.refused;
                    not_offered += seen.not_offered;
                    kinds.extend(seen.faults.iter().map(|f| f.kind));
                    for s in seen.next {
                        if !states.contains(&s) {
                            states.push(s);
                        }
                    }
                }
                Err(e) => panic!("seed {seed}: {e}\n{text}\n{}", game.code.print()),
            }
            at += 1;
        }
        match compare_positions(&game, &states[..at]) {
            Ok(n) => stopped += n,
            Err(e) => panic!("seed {seed}: {e}\n{text}\n{}", game.code.print()),
        }
    }
    assert!(expanded[0] > 20 && expanded[1] > 2 * expanded[0], "{expanded:?}");
    assert!(stopped > 120, "{stopped} moves stopped before a draw");
    // Floods on boards of more than 64 cells are compared where boards are large: in `arithmetic`; blocks and what a register holds in
    // `cells_at_once`.
    let is_small = |name: &str| !["FloodEqual", "Compare"].contains(&name);
    let missing: Vec<_> = ops.iter().filter(|o| *o.1 == 0 && is_small(o.0)).map(|o| *o.0).collect();
    assert!(missing.is_empty(), "never written: {missing:?}");
    assert!(numbered > 12, "{numbered} models whose states had numbers");
    assert!(drawn > 800 && set_aside > 8, "{drawn} outcomes of draws, {set_aside} set aside");
    assert!(done > 2000 && refused > 120 && not_offered > 120, "{done} {refused} {not_offered}");
    for kind in [
        FaultKind::OutOfDomain,
        FaultKind::Overflow,
        FaultKind::DivideByZero,
        FaultKind::RepeatBound,
        FaultKind::NoMatch,
        FaultKind::TwoMatches,
        FaultKind::TooFarAway,
        FaultKind::NotRearranged,
        FaultKind::ListFull,
        FaultKind::ListEmpty,
        FaultKind::NoEntry,
        FaultKind::NothingToDraw,
        FaultKind::NoneGiven,
        FaultKind::WrittenTooLong,
    ] {
        assert!(kinds.contains(&kind), "{kind:?} was never met: {kinds:?}");
    }
}
