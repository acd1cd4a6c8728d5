//! The intermediate form: flat code over registers and one memory, for one bound model.
//!
//! ```text
//! registers  r0, r1, ...   64-bit numbers
//! memory     | level data | start | before | now | scratch |   32-bit numbers, one a cell
//! ```
//!
//! Blocks (boards, sets, arrays) are addresses fixed when the code is made. Jumps stay inside
//! their program. Everything that can break names a *site*: what broke, and where in the model.
//!
//! A list is its length, its entries, and unused places up to its bound. Lists are named by the
//! address in a register, since one of several is chosen by a key; what is known of them before
//! stands in [`Code::lists`].
//!
//! `Draw` and `Merge` suspend a program, and so does `BeforeDraw` where that is asked for: see [`Point`].

mod live;
mod ops;
mod positions;
mod reuse;
mod tidy;
mod verify;

pub(crate) use ops::Jumps;
pub use ops::Op;
pub use positions::{Held, Positions};
pub use reuse::{may_store_below, reuse};
pub(crate) use tidy::keep_in_code;
pub use tidy::tidy;

use crate::model::{Cmp, VarId, code};
use crate::run::FaultKind;
use crate::source::Span;
use std::fmt;

/// A register.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct R(pub u16);

/// An address in memory.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct M(pub u32);

/// A place in the code.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct To(pub u32);

/// A fault site.
#[derive(Clone, Copy, Default, PartialEq, Eq, Hash)]
pub struct Site(pub u32);

impl fmt::Debug for R {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "r{}", self.0)
    }
}

impl fmt::Debug for M {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "@{}", self.0)
    }
}

impl fmt::Debug for To {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "->{}", self.0)
    }
}

impl fmt::Debug for Site {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "#{}", self.0)
    }
}

/// How two numbers compare.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Comparison {
    /// The first is the second.
    Equal,
    /// It is another one.
    Differs,
    /// It is less.
    Below,
    /// It is not more.
    AtMost,
    /// It is more.
    Above,
    /// It is not less.
    AtLeast,
}

impl From<Cmp> for Comparison {
    fn from(how: Cmp) -> Comparison {
        match how {
            Cmp::Eq => Comparison::Equal,
            Cmp::Ne => Comparison::Differs,
            Cmp::Lt => Comparison::Below,
            Cmp::Le => Comparison::AtMost,
        }
    }
}

impl Comparison {
    /// The same with the two numbers exchanged.
    #[must_use]
    pub fn turned(self) -> Comparison {
        match self {
            Comparison::Below => Comparison::Above,
            Comparison::AtMost => Comparison::AtLeast,
            Comparison::Above => Comparison::Below,
            Comparison::AtLeast => Comparison::AtMost,
            same => same,
        }
    }

    /// Whether it holds of two numbers.
    #[inline]
    #[must_use]
    pub fn holds(self, a: i64, b: i64) -> bool {
        match self {
            Comparison::Equal => a == b,
            Comparison::Differs => a != b,
            Comparison::Below => a < b,
            Comparison::AtMost => a <= b,
            Comparison::Above => a > b,
            Comparison::AtLeast => a >= b,
        }
    }
}

/// What an operand is to its operation, for the verifier.
pub(crate) enum Role {
    Reads(R),
    Writes(R),
    /// A block: an address and its length; `None` means one value a cell.
    Block(M, Option<u32>),
    Jumps(To),
    Faults(Site),
}

/// Where and how something can break.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct FaultSite {
    /// What breaks.
    pub kind: FaultKind,
    /// Where in the model.
    pub span: Span,
}

/// A piece of code with one entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Program {
    /// What it is for, as printed.
    pub name: String,
    /// First operation.
    pub entry: u32,
    /// One past the last operation.
    pub end: u32,
    /// Registers that are set before it runs.
    pub params: Vec<R>,
}

impl Program {
    /// How many operations it has.
    #[must_use]
    pub fn len(&self) -> usize {
        (self.end - self.entry) as usize
    }

    /// Whether it has none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// One move with its parameters filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MoveEntry {
    /// The move's number in the model.
    pub of: u32,
    /// Its program.
    pub program: u32,
    /// Values of the registers that the program takes.
    pub args: Vec<i64>,
    /// Values of all parameters.
    pub params: Vec<i64>,
}

/// What is known of a list before the code runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ListInfo {
    /// The block that it lies in.
    pub base: M,
    /// The length of that block.
    pub len: u32,
    /// Most entries.
    pub cap: u32,
    /// What stands in unused places.
    pub pad: i32,
    /// Least value of an entry.
    pub lo: i32,
    /// Greatest value of an entry.
    pub hi: i32,
    /// An entry may be `none`.
    pub maybe: bool,
    /// Kept sorted.
    pub bag: bool,
    /// Part of the state now: stores are remembered.
    pub puts: bool,
}

impl ListInfo {
    /// Whether an entry may hold a value.
    #[inline]
    #[must_use]
    pub fn holds(&self, v: i64) -> bool {
        v >= i64::from(self.lo) && v <= i64::from(self.hi) || self.maybe && v == crate::model::NONE
    }
}

/// Shapes as the executor needs them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ShapeTable {
    /// Rows in which an anchor may lie.
    pub rows: i64,
    /// Columns in which an anchor may lie.
    pub cols: i64,
    /// How far off the board.
    pub margin: i64,
    /// For each turn of each shape: shape, turn, number of the first turn that it can be turned to, how many there are.
    pub all: Vec<(i64, i64, i64, i64)>,
    /// For each turn the offsets of its cells.
    pub cells: Vec<Vec<i64>>,
    /// For each shape the number of its first turn.
    pub firsts: Vec<i64>,
    /// For each turn what its cells are parts of; empty where shapes have no parts.
    pub parts: Vec<Vec<i64>>,
    /// For each turn the one that it is mirrored to; empty where shapes are not mirrored.
    pub mirrors: Vec<i64>,
}

impl ShapeTable {
    /// How many values a placed shape can have.
    #[must_use]
    pub fn values_len(&self) -> i64 {
        self.all.len() as i64 * self.rows * self.cols
    }

    /// Which of the 64 cells of one word of a board a placed shape covers, as bits, and whether it covers nothing off the board. O(cells of the
    /// shape).
    #[must_use]
    pub fn covered(&self, p: i64, (rows, cols): (i64, i64), word: u8) -> (u64, bool) {
        let (line, col) = (p / self.cols, p % self.cols - self.margin);
        let (all, row) = (line / self.rows, line % self.rows - self.margin);
        let (mut bits, mut whole) = (0u64, true);
        for offset in &self.cells[all as usize] {
            let (down, right) = code::offset_parts(*offset);
            let (r, c) = (row + down, col + right);
            if (0..rows).contains(&r) && (0..cols).contains(&c) {
                let cell = r * cols + c;
                bits |= u64::from(cell / 64 == i64::from(word)) << (cell % 64);
            } else {
                whole = false;
            }
        }
        (bits, whole)
    }
}

/// Where a program can be suspended. A branch is the state now, what is live here, and where it
/// goes on; branches that agree in all of it are one.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Point {
    /// Registers that are read later before they are written.
    pub regs: Vec<R>,
    /// Scratch blocks that are.
    pub blocks: Vec<(u32, u32)>,
    /// Breaks when chances no longer fit.
    pub too_fine: Site,
    /// Breaks when there are too many branches.
    pub too_many: Site,
}

/// What a move counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CountOf {
    /// Always this.
    Known(u32),
    /// What this program gives in the state before it; the site breaks where that is no count.
    Asked(u32, Site),
}

/// The whole code of a bound model.
#[derive(Clone, Debug, Default)]
pub struct Code {
    /// All operations.
    pub ops: Vec<Op>,
    /// All programs, in the order of their code.
    pub programs: Vec<Program>,
    /// The moves, in move order.
    pub moves: Vec<MoveEntry>,
    /// The numbers of the moves that may be offered in some state; whatever the state is, the others are not.
    pub tried: Vec<u32>,
    /// The program that gives the ending + 1, or 0.
    pub status: u32,
    /// The same on a state that has been changed: nothing remembered is used.
    pub status_changed: u32,
    /// The program that gives the number of the first broken law + 1, or 0.
    pub laws: u32,
    /// For each kept quantity: the program that gives it, the same on a changed state, and the
    /// site that breaks when it changes.
    pub keeps: Vec<(u32, u32, Site)>,
    /// The program that gives what an aim is about.
    pub aim: Option<u32>,
    /// The programs that give what a running state promises, and what that is a share of.
    pub promise: Option<(u32, u32)>,
    /// What each move counts, in move order; empty where every move counts 1.
    pub counts: Vec<CountOf>,
    /// Fault sites.
    pub sites: Vec<FaultSite>,
    /// The site of each law, in the order of `laws`.
    pub law_sites: Vec<Site>,
    /// The site at which each rearranged variable breaks when it no longer is.
    pub pack_sites: Vec<(VarId, Site)>,
    /// Ranges for `CheckBlock`.
    pub doms: Vec<(i32, i32, bool)>,
    /// Lists.
    pub lists: Vec<ListInfo>,
    /// Shapes.
    pub shapes: Vec<ShapeTable>,
    /// What lies beside each cell, for floods.
    pub beside: Vec<Beside>,
    /// Where steps lead, on boards of one word.
    pub steps: Vec<Steps>,
    /// Where programs can be suspended.
    pub points: Vec<Point>,
    /// Scratch blocks: address and length, ascending.
    pub scratch: Vec<(u32, u32)>,
    /// Registers used.
    pub registers: u32,
    /// Numbers remembered for a state.
    pub memos: u32,
    /// Size of the memory.
    pub memory: u32,
    /// Where the state before the move, and the state now, begin; both `state_len` long.
    pub before: u32,
    /// See `before`.
    pub now: u32,
    /// Numbers of one state.
    pub state_len: u32,
    /// Cells of the board.
    pub cells: u32,
}

/// The cells that lie beside each cell by some steps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Beside {
    /// Where the cells of each cell begin in `cells`, and where the last ones end.
    firsts: Vec<u32>,
    cells: Vec<u16>,
}

impl Beside {
    /// Of a board with so many rows and columns, by steps in rows and columns. O(cells * steps).
    #[must_use]
    pub fn new((rows, cols): (i64, i64), steps: &[(i64, i64)]) -> Beside {
        let mut out = Beside { firsts: vec![0], cells: vec![] };
        for cell in 0..rows * cols {
            let beside = steps.iter().filter_map(|by| code::beside(cell, *by, (rows, cols)));
            out.cells.extend(beside.map(|c| c as u16));
            out.firsts.push(out.cells.len() as u32);
        }
        out
    }

    /// The cells beside one.
    #[inline]
    #[must_use]
    pub fn of(&self, cell: usize) -> &[u16] {
        &self.cells[self.firsts[cell] as usize..self.firsts[cell + 1] as usize]
    }
}

/// Where some steps lead from the cells of a board that has at most 64.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Steps {
    /// For each step the cells from which it stays on the board, and by how many bits it moves them on.
    pub all: Vec<(u64, i32)>,
}

impl Steps {
    /// Of a board with so many rows and columns, by steps in rows and columns. O(cells * steps).
    #[must_use]
    pub fn new((rows, cols): (i64, i64), steps: &[(i64, i64)]) -> Steps {
        let one = |&(down, right): &(i64, i64)| {
            let stays = (0..rows * cols).filter(|c| code::beside(*c, (down, right), (rows, cols)).is_some());
            let from = stays.fold(0u64, |bits, c| bits | 1u64.checked_shl(c as u32).unwrap_or(0));
            (from, (down * cols + right) as i32)
        };
        // A step that leaves the board from everywhere moves nothing.
        Steps { all: steps.iter().map(one).filter(|s| s.0 != 0).collect() }
    }

    /// Some cells and those that one step leads to from them.
    #[inline]
    #[must_use]
    pub fn spread(&self, cells: u64) -> u64 {
        let moved = |(from, by): &(u64, i32)| code::bits_moved((cells & from) as i64, *by) as u64;
        self.all.iter().map(moved).fold(cells, |all, more| all | more)
    }

    /// The cells among some that are reached from one through others of them.
    #[must_use]
    pub fn flood(&self, among: u64, from: i64) -> u64 {
        let mut reached = if (0..64).contains(&from) { among & 1 << from } else { 0 };
        loop {
            let more = self.spread(reached) & among;
            if more == reached {
                return reached;
            }
            reached = more;
        }
    }
}

impl Code {
    /// The code as text, one operation a line.
    #[must_use]
    pub fn print(&self) -> String {
        let mut out = format!(
            "{} operations, {} registers, {} numbers of memory, {} fault sites\n",
            self.ops.len(),
            self.registers,
            self.memory,
            self.sites.len()
        );
        for p in &self.programs {
            out.push_str(&format!("\n{}:\n", p.name));
            for (i, op) in self.ops[p.entry as usize..p.end as usize].iter().enumerate() {
                out.push_str(&format!("  {:5}  {op:?}\n", p.entry as usize + i));
            }
        }
        out
    }
}
