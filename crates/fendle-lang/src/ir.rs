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
//! `Draw` and `Merge` suspend a program: see [`Point`].

use std::fmt;

use crate::diag::Span;
use crate::reference::FaultKind;

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

/// What an operand is to its operation, for the verifier.
pub(crate) enum Role {
    Reads(R),
    Writes(R),
    /// A block: an address and its length; `None` means one value a cell.
    Block(M, Option<u32>),
    Jumps(To),
    Faults(Site),
}

macro_rules! ops {
    ($($(#[$doc:meta])* $name:ident { $($field:ident : $ty:ty),* } => [$($role:expr),*];)*) => {
        /// One operation. `d` is written, other registers are read.
        #[derive(Clone, Copy, PartialEq, Eq, Debug)]
        #[allow(missing_docs)]
        pub enum Op { $($(#[$doc])* $name { $($field: $ty),* },)* }

        impl Op {
            /// The names of all operations.
            pub const NAMES: &'static [&'static str] = &[$(stringify!($name)),*];

            /// The name of this operation.
            #[must_use]
            pub fn name(&self) -> &'static str {
                match self { $(Op::$name { .. } => stringify!($name),)* }
            }

            #[allow(unused_variables)]
            pub(crate) fn roles(&self, visit: &mut dyn FnMut(Role)) {
                use Role::{Block, Faults, Jumps, Reads, Writes};
                let _ = (Block, Faults, Jumps, Reads, Writes);
                match *self { $(Op::$name { $($field),* } => { $(visit($role);)* })* }
            }
        }
    };
}

ops! {
    Const { d: R, v: i64 } => [Writes(d)];
    Copy { d: R, s: R } => [Reads(s), Writes(d)];
    Add { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    Sub { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    Mul { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    Div { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    Mod { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    Pow { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    Min { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    Max { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    Neg { d: R, a: R, site: Site } => [Reads(a), Writes(d), Faults(site)];
    Abs { d: R, a: R, site: Site } => [Reads(a), Writes(d), Faults(site)];
    Eq { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    Ne { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    Lt { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    Le { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    Not { d: R, a: R } => [Reads(a), Writes(d)];
    Jump { to: To } => [Jumps(to)];
    JumpIf { a: R, to: To } => [Reads(a), Jumps(to)];
    JumpUnless { a: R, to: To } => [Reads(a), Jumps(to)];
    JumpEq { a: R, b: R, to: To } => [Reads(a), Reads(b), Jumps(to)];
    JumpNe { a: R, b: R, to: To } => [Reads(a), Reads(b), Jumps(to)];
    JumpLt { a: R, b: R, to: To } => [Reads(a), Reads(b), Jumps(to)];
    JumpLe { a: R, b: R, to: To } => [Reads(a), Reads(b), Jumps(to)];
    /// `d += 1`, without a check: loop counters.
    Inc { d: R } => [Reads(d), Writes(d)];
    /// Jumps back, and takes one step from the budget.
    Loop { to: To, site: Site } => [Jumps(to), Faults(site)];
    /// `d += 1`; back while `d < n`; one step from the budget.
    LoopTo { d: R, n: u32, to: To, site: Site } => [Reads(d), Writes(d), Jumps(to), Faults(site)];
    /// Breaks when `a..b` is too long to run over.
    CheckLoop { a: R, b: R, site: Site } => [Reads(a), Reads(b), Faults(site)];
    Load { d: R, base: M, i: R } => [Reads(i), Block(base, Some(1)), Writes(d)];
    LoadAt { d: R, from: M } => [Block(from, Some(1)), Writes(d)];
    Store { base: M, i: R, s: R } => [Reads(i), Reads(s), Block(base, Some(1))];
    StoreAt { to: M, s: R } => [Reads(s), Block(to, Some(1))];
    /// A store into the state now, which is remembered so that it can be packed and undone.
    Put { base: M, i: R, s: R } => [Reads(i), Reads(s), Block(base, Some(1))];
    PutAt { to: M, s: R } => [Reads(s), Block(to, Some(1))];
    /// The same for a whole block.
    PutBlock { d: M, s: M, len: u32 } => [Block(d, Some(len)), Block(s, Some(len))];
    Check { s: R, lo: i32, hi: i32, site: Site } => [Reads(s), Faults(site)];
    CheckBlock { base: M, len: u32, dom: u16, site: Site } => [Block(base, Some(len)), Faults(site)];
    CopyBlock { d: M, s: M, len: u32 } => [Block(d, Some(len)), Block(s, Some(len))];
    ClearCells { d: M } => [Block(d, None)];
    SameBlock { d: R, a: M, b: M, len: u32 } => [Block(a, Some(len)), Block(b, Some(len)), Writes(d)];
    Union { d: M, a: M, b: M } => [Block(d, None), Block(a, None), Block(b, None)];
    Minus { d: M, a: M, b: M } => [Block(d, None), Block(a, None), Block(b, None)];
    Both { d: M, a: M, b: M } => [Block(d, None), Block(a, None), Block(b, None)];
    PlaceOf { d: R, c: R } => [Reads(c), Writes(d)];
    CellOf { d: R, p: R, site: Site } => [Reads(p), Writes(d), Faults(site)];
    /// The cell of a place, or a jump when it is off the board.
    CellOr { d: R, p: R, to: To } => [Reads(p), Writes(d), Jumps(to)];
    OnBoard { d: R, p: R } => [Reads(p), Writes(d)];
    Shift { d: R, p: R, o: R, site: Site } => [Reads(p), Reads(o), Writes(d), Faults(site)];
    ShiftBack { d: R, p: R, o: R, site: Site } => [Reads(p), Reads(o), Writes(d), Faults(site)];
    /// A place and an offset, unchecked: only for a place that is tested for the board next.
    Peek { d: R, p: R, o: R } => [Reads(p), Reads(o), Writes(d)];
    OffAdd { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    OffSub { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    OffMul { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    DirOff { d: R, a: R } => [Reads(a), Writes(d)];
    Row { d: R, p: R } => [Reads(p), Writes(d)];
    Col { d: R, p: R } => [Reads(p), Writes(d)];
    PlaceAt { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    Opposite { d: R, a: R } => [Reads(a), Writes(d)];
    Turned { d: R, a: R } => [Reads(a), Writes(d)];
    LanesLen { d: R, a: R, site: Site } => [Reads(a), Writes(d), Faults(site)];
    /// Lane number `i` at the wall that direction `a` points at.
    LaneAt { d: R, a: R, i: R } => [Reads(a), Reads(i), Writes(d)];
    LaneLen { d: R, a: R } => [Reads(a), Writes(d)];
    /// Whether a lane is a column.
    LaneVertical { d: R, a: R } => [Reads(a), Writes(d)];
    LaneCell { d: R, a: R, i: R } => [Reads(a), Reads(i), Writes(d)];
    Parity { d: R, base: M, len: u32, site: Site } => [Block(base, Some(len)), Writes(d), Faults(site)];
    Distinct { d: R, base: M, len: u32 } => [Block(base, Some(len)), Writes(d)];
    /// Advances `d` to the next cell that is in the block, itself included; jumps when none is left.
    NextIn { d: R, base: M, to: To } => [Reads(d), Writes(d), Block(base, None), Jumps(to)];
    /// The same for cells that hold the value `v`.
    NextEq { d: R, base: M, v: i32, to: To } => [Reads(d), Writes(d), Block(base, None), Jumps(to)];
    /// Appends `s` to the list at `base`, whose length is `d`; a number takes two places.
    Push { d: R, base: M, s: R } => [Reads(d), Reads(s), Writes(d), Block(base, Some(2))];
    /// Entry `i` of such a list.
    Entry { d: R, base: M, i: R } => [Reads(i), Block(base, Some(2)), Writes(d)];
    /// `d = a + b`, without a check: addresses.
    Sum { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// Breaks unless `i` is in `1..=n`.
    CheckEntry { i: R, n: R, site: Site } => [Reads(i), Reads(n), Faults(site)];
    /// A load and a store at an address that a register holds, inside a list.
    LoadFrom { d: R, a: R, list: u16 } => [Reads(a), Writes(d)];
    PutInto { a: R, s: R, list: u16 } => [Reads(a), Reads(s)];
    /// Copies the list at `s` to `d`; breaks when it does not fit.
    ListCopy { d: R, s: R, list: u16, from: u16, site: Site } => [Reads(d), Reads(s), Faults(site)];
    /// Breaks when an entry of the list at `s` is out of the range of list `list`.
    ListCheck { s: R, list: u16, site: Site } => [Reads(s), Faults(site)];
    ListSame { d: R, a: R, b: R, list: u16, other: u16 } => [Reads(a), Reads(b), Writes(d)];
    /// The number, from 1, of the first entry that is `v`; 0 for none.
    ListFind { d: R, a: R, v: R, list: u16 } => [Reads(a), Reads(v), Writes(d)];
    /// Adds `v` behind the others, or in its place in a bag; breaks when there is no room.
    ListAdd { a: R, v: R, list: u16, site: Site } => [Reads(a), Reads(v), Faults(site)];
    /// Takes out entry `i`.
    ListDrop { a: R, i: R, list: u16 } => [Reads(a), Reads(i)];
    /// Takes the last `n` entries, which are there, out of the list at `s`, into scratch at `to`.
    ListTail { s: R, n: R, to: M, list: u16 } => [Reads(s), Reads(n), Block(to, Some(1))];
    /// Adds the `n` entries in scratch at `from`; breaks when there is no room.
    ListJoin { d: R, n: R, from: M, list: u16, site: Site } => [Reads(d), Reads(n), Block(from, Some(1)), Faults(site)];
    /// Fills a block with zeros.
    Reset { d: M, len: u32 } => [Block(d, Some(len))];
    /// Takes lanes out of a grid: rows or columns (`flags` 1) that are marked in `gone`; `fill` comes
    /// in at the low side (`flags` 2) or at the high one.
    CutLanes { d: M, s: M, gone: M, fill: R, flags: u8 } => [Block(d, None), Block(s, None), Block(gone, Some(1)), Reads(fill)];
    /// Makes room for a lane: what lies from it on, seen from the side `flags` says, moves on by one.
    OpenLane { d: M, s: M, lane: R, flags: u8 } => [Block(d, None), Block(s, None), Reads(lane)];
    ShapeMove { d: R, p: R, o: R, shapes: u16, site: Site } => [Reads(p), Reads(o), Writes(d), Faults(site)];
    ShapeTurn { d: R, p: R, by: R, shapes: u16 } => [Reads(p), Reads(by), Writes(d)];
    ShapeMake { d: R, k: R, p: R, shapes: u16, site: Site } => [Reads(k), Reads(p), Writes(d), Faults(site)];
    ShapeAnchor { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    ShapeKind { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    ShapeTurnOf { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    ShapeLen { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    /// Place number `i` that the shape covers.
    ShapeCell { d: R, p: R, i: R, shapes: u16 } => [Reads(p), Reads(i), Writes(d)];
    /// Suspends: goes on once for each of the `n` values in the list at `base`, weighted by the list
    /// at `weights`, or evenly when that is address 0.
    Draw { d: R, n: R, base: M, weights: M, point: u16 } => [Reads(n), Writes(d), Block(base, Some(2)), Block(weights, Some(2))];
    /// Suspends: branches that are equal here go on as one.
    Merge { point: u16 } => [];
    /// Sets the branch aside.
    Cut { } => [];
    /// Takes a remembered value of this state, or goes on to compute it.
    Recall { d: R, memo: u16, to: To } => [Writes(d), Jumps(to)];
    Remember { s: R, memo: u16 } => [Reads(s)];
    Score { s: R, site: Site } => [Reads(s), Faults(site)];
    RefuseAt { p: R } => [Reads(p)];
    RefuseIn { base: M } => [Block(base, None)];
    Refuse { which: u32 } => [];
    NotOffered { } => [];
    Fault { site: Site } => [Faults(site)];
    FaultWith { s: R, site: Site } => [Reads(s), Faults(site)];
    /// Ends the program with a value.
    Give { s: R } => [Reads(s)];
    Done { } => [];
}

impl Op {
    fn ends(&self) -> bool {
        matches!(
            self,
            Op::Jump { .. }
                | Op::Loop { .. }
                | Op::Refuse { .. }
                | Op::NotOffered {}
                | Op::Fault { .. }
                | Op::FaultWith { .. }
                | Op::Give { .. }
                | Op::Cut {}
                | Op::Done {}
        )
    }
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
        v >= i64::from(self.lo) && v <= i64::from(self.hi) || self.maybe && v == crate::hir::NONE
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
    /// For each turn of each shape: shape, turn, number of the shape's first turn, number of its turns.
    pub all: Vec<(i64, i64, i64, i64)>,
    /// For each turn the offsets of its cells.
    pub cells: Vec<Vec<i64>>,
    /// For each shape the number of its first turn.
    pub firsts: Vec<i64>,
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

/// The whole code of a bound model.
#[derive(Clone, Debug, Default)]
pub struct Code {
    /// All operations.
    pub ops: Vec<Op>,
    /// All programs, in the order of their code.
    pub programs: Vec<Program>,
    /// The moves, in move order.
    pub moves: Vec<MoveEntry>,
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
    /// Fault sites.
    pub sites: Vec<FaultSite>,
    /// The site of each law, in the order of `laws`.
    pub law_sites: Vec<Site>,
    /// The site at which each rearranged variable breaks when it no longer is.
    pub pack_sites: Vec<(usize, Site)>,
    /// Ranges for `CheckBlock`.
    pub doms: Vec<(i32, i32, bool)>,
    /// Lists.
    pub lists: Vec<ListInfo>,
    /// Shapes.
    pub shapes: Vec<ShapeTable>,
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

    /// Checks the code, whoever made it:
    ///
    /// 1. programs lie inside the code, one after the other, and end in an operation that ends;
    /// 2. jumps stay inside their program;
    /// 3. registers, memos, sites, ranges and memory blocks exist;
    /// 4. the state now is changed by the operations that remember it, and by no others; below it
    ///    (level data, start, the state before) nothing is stored;
    /// 5. on every way through a program a register is written before it is read;
    /// 6. moves name programs and give them as many values as they take.
    ///
    /// # Errors
    ///
    /// Everything found, one line each.
    pub fn verify(&self) -> Result<(), Vec<String>> {
        let mut bad = vec![];
        let mut at = 0;
        for p in &self.programs {
            if p.entry != at || p.end <= p.entry || p.end as usize > self.ops.len() {
                bad.push(format!("{}: lies at {}..{}, expected to begin at {at}", p.name, p.entry, p.end));
                return Err(bad);
            }
            at = p.end;
            if !self.ops[p.end as usize - 1].ends() {
                bad.push(format!("{}: runs past its end", p.name));
            }
            self.verify_program(p, &mut bad);
        }
        for (i, m) in self.moves.iter().enumerate() {
            match self.programs.get(m.program as usize) {
                Some(p) if p.params.len() == m.args.len() => {}
                _ => bad.push(format!("move {i}: program {} does not take its values", m.program)),
            }
        }
        for which in [self.status, self.status_changed, self.laws] {
            if which as usize >= self.programs.len() {
                bad.push(format!("program {which} does not exist"));
            }
        }
        if bad.is_empty() { Ok(()) } else { Err(bad) }
    }

    /// Finds out what is live at each point, by the usual backward flow over registers and scratch
    /// blocks (Aho, Lam, Sethi, Ullman, *Compilers*, 9.2.5). O(operations x live things) a program.
    pub fn find_live(&mut self) {
        let mut found: Vec<(u16, Point)> = vec![];
        for p in &self.programs {
            let ops = &self.ops[p.entry as usize..p.end as usize];
            if !ops.iter().any(|op| matches!(op, Op::Draw { .. } | Op::Merge { .. })) {
                continue;
            }
            let regs = self.registers as usize;
            let words = (regs + self.scratch.len()).div_ceil(64);
            let mut live = vec![0u64; words * (ops.len() + 1)];
            let mut again = true;
            while again {
                again = false;
                for (i, op) in ops.iter().enumerate().rev() {
                    let mut set = vec![0u64; words];
                    if !op.ends() {
                        set.copy_from_slice(&live[(i + 1) * words..(i + 2) * words]);
                    }
                    op.roles(&mut |role| {
                        if let Role::Jumps(to) = role {
                            let j = (to.0 - p.entry) as usize;
                            for (s, l) in set.iter_mut().zip(&live[j * words..(j + 1) * words]) {
                                *s |= l;
                            }
                        }
                    });
                    self.flow_back(op, regs, &mut set);
                    let here = &mut live[i * words..(i + 1) * words];
                    if here != set.as_slice() {
                        here.copy_from_slice(&set);
                        again = true;
                    }
                }
            }
            for (i, op) in ops.iter().enumerate() {
                let (point, drawn) = match *op {
                    Op::Draw { point, d, .. } => (point, Some(d)),
                    Op::Merge { point } => (point, None),
                    _ => continue,
                };
                let set = &live[(i + 1) * words..(i + 2) * words];
                let has = |n: usize| set[n / 64] >> (n % 64) & 1 == 1;
                let regs_here = (0..regs).filter(|&r| has(r)).map(|r| R(r as u16));
                let live = Point {
                    regs: regs_here.filter(|r| Some(*r) != drawn).collect(),
                    blocks: (0..self.scratch.len())
                        .filter(|&b| has(regs + b))
                        .map(|b| self.scratch[b])
                        .collect(),
                    ..self.points[usize::from(point)].clone()
                };
                found.push((point, live));
            }
        }
        for (number, point) in found {
            self.points[usize::from(number)] = point;
        }
    }

    /// The scratch block that an address lies in.
    fn block_at(&self, m: M) -> Option<usize> {
        let i = self.scratch.partition_point(|b| b.0 <= m.0).checked_sub(1)?;
        (m.0 < self.scratch[i].0 + self.scratch[i].1).then_some(i)
    }

    /// From what is live behind an operation to what is live before it.
    fn flow_back(&self, op: &Op, regs: usize, set: &mut [u64]) {
        let mut kills: Vec<(M, u32)> = vec![];
        let mut uses: Vec<M> = vec![];
        let cells = self.cells;
        match *op {
            Op::ClearCells { d } => kills.push((d, cells)),
            Op::Reset { d, len } => kills.push((d, len)),
            Op::CopyBlock { d, s, len } => {
                kills.push((d, len));
                uses.push(s);
            }
            Op::Union { d, a, b } | Op::Minus { d, a, b } | Op::Both { d, a, b } => {
                kills.push((d, cells));
                uses.extend([a, b]);
            }
            Op::CutLanes { d, s, gone, .. } => {
                kills.push((d, cells));
                uses.extend([s, gone]);
            }
            Op::OpenLane { d, s, .. } => {
                kills.push((d, cells));
                uses.push(s);
            }
            // Parts of a block: the rest stays as it was.
            Op::Store { .. } | Op::StoreAt { .. } | Op::Push { .. } | Op::ListTail { .. } => {}
            Op::ListCopy { list, from, .. } => {
                let info = &self.lists[list as usize];
                kills.push((info.base, info.len));
                uses.push(self.lists[from as usize].base);
            }
            Op::ListSame { list, other, .. } => {
                uses.extend([self.lists[list as usize].base, self.lists[other as usize].base]);
            }
            Op::LoadFrom { list, .. }
            | Op::PutInto { list, .. }
            | Op::ListCheck { list, .. }
            | Op::ListFind { list, .. }
            | Op::ListAdd { list, .. }
            | Op::ListDrop { list, .. } => uses.push(self.lists[list as usize].base),
            Op::ListJoin { list, from, .. } => uses.extend([self.lists[list as usize].base, from]),
            _ => op.roles(&mut |role| {
                if let Role::Block(m, _) = role {
                    uses.push(m);
                }
            }),
        }
        for (m, len) in kills {
            if let Some(b) = self.block_at(m)
                && self.scratch[b] == (m.0, len)
            {
                set[(regs + b) / 64] &= !(1 << ((regs + b) % 64));
            }
        }
        for m in uses {
            if let Some(b) = self.block_at(m) {
                set[(regs + b) / 64] |= 1 << ((regs + b) % 64);
            }
        }
        let mut reads = vec![];
        op.roles(&mut |role| match role {
            // Where a jump is taken the register may keep what it held.
            Role::Writes(r) if !matches!(op, Op::CellOr { .. } | Op::Recall { .. }) => {
                set[r.0 as usize / 64] &= !(1 << (r.0 % 64));
            }
            Role::Reads(r) => reads.push(r),
            _ => {}
        });
        for r in reads {
            set[r.0 as usize / 64] |= 1 << (r.0 % 64);
        }
    }

    fn verify_program(&self, p: &Program, bad: &mut Vec<String>) {
        let range = p.entry..p.end;
        let mut say = |at: u32, text: String| bad.push(format!("{}: {at}: {text}", p.name));
        for at in range.clone() {
            let op = self.ops[at as usize];
            op.roles(&mut |role| match role {
                Role::Reads(r) | Role::Writes(r) if u32::from(r.0) >= self.registers => {
                    say(at, format!("{r:?} does not exist"));
                }
                Role::Jumps(to) if !range.contains(&to.0) => say(at, format!("{to:?} leaves the program")),
                Role::Faults(s) if s.0 as usize >= self.sites.len() => {
                    say(at, format!("{s:?} does not exist"))
                }
                Role::Block(m, len) if m.0 + len.unwrap_or(self.cells) > self.memory => {
                    say(at, format!("{m:?} lies outside the memory"));
                }
                _ => {}
            });
            let stored = match op {
                Op::Store { base, .. } | Op::Push { base, .. } => Some((base, false)),
                Op::Reset { d, .. } | Op::CutLanes { d, .. } | Op::OpenLane { d, .. } => Some((d, false)),
                Op::ListTail { to, .. } => Some((to, false)),
                Op::PutInto { list, .. }
                | Op::ListCopy { list, .. }
                | Op::ListAdd { list, .. }
                | Op::ListDrop { list, .. }
                | Op::ListJoin { list, .. } => self.lists.get(list as usize).map(|l| (l.base, l.puts)),
                Op::StoreAt { to, .. } => Some((to, false)),
                Op::CopyBlock { d, .. } | Op::ClearCells { d } => Some((d, false)),
                Op::Union { d, .. } | Op::Minus { d, .. } | Op::Both { d, .. } => Some((d, false)),
                Op::Put { base, .. } => Some((base, true)),
                Op::PutAt { to, .. } => Some((to, true)),
                Op::PutBlock { d, .. } => Some((d, true)),
                _ => None,
            };
            let state = self.now..self.now + self.state_len;
            if stored.is_some_and(|(m, puts)| state.contains(&m.0) != puts || m.0 < self.now) {
                say(at, "stores where it must not".into());
            }
            match op {
                Op::CheckBlock { dom, .. } if dom as usize >= self.doms.len() => {
                    say(at, format!("range {dom} does not exist"));
                }
                Op::Recall { memo, .. } | Op::Remember { memo, .. } if u32::from(memo) >= self.memos => {
                    say(at, format!("memo {memo} does not exist"));
                }
                Op::LoadFrom { list, .. }
                | Op::PutInto { list, .. }
                | Op::ListCopy { list, .. }
                | Op::ListCheck { list, .. }
                | Op::ListAdd { list, .. }
                | Op::ListDrop { list, .. }
                | Op::ListTail { list, .. }
                | Op::ListJoin { list, .. }
                    if list as usize >= self.lists.len() =>
                {
                    say(at, format!("list {list} does not exist"));
                }
                Op::ShapeMove { shapes, .. }
                | Op::ShapeTurn { shapes, .. }
                | Op::ShapeMake { shapes, .. }
                | Op::ShapeAnchor { shapes, .. }
                | Op::ShapeKind { shapes, .. }
                | Op::ShapeTurnOf { shapes, .. }
                | Op::ShapeLen { shapes, .. }
                | Op::ShapeCell { shapes, .. }
                    if shapes as usize >= self.shapes.len() =>
                {
                    say(at, format!("shapes {shapes} do not exist"));
                }
                Op::Draw { point, .. } | Op::Merge { point } if point as usize >= self.points.len() => {
                    say(at, format!("point {point} does not exist"));
                }
                _ => {}
            }
        }
        if !bad.is_empty() {
            return;
        }
        // Written-before-read: sets of written registers, joined by intersection, to a fixpoint.
        let words = (self.registers as usize).div_ceil(64);
        let len = (p.end - p.entry) as usize;
        let mut known: Vec<Option<Vec<u64>>> = vec![None; len];
        let mut first = vec![0u64; words];
        for r in &p.params {
            first[r.0 as usize / 64] |= 1 << (r.0 % 64);
        }
        known[0] = Some(first);
        let mut work = vec![0usize];
        let mut reported = vec![false; len];
        while let Some(i) = work.pop() {
            let mut set = known[i].clone().expect("only known operations are worked on");
            let op = self.ops[p.entry as usize + i];
            let mut next: Vec<(usize, Vec<u64>)> = vec![];
            let mut jumps = vec![];
            op.roles(&mut |role| match role {
                Role::Reads(r)
                    if set[r.0 as usize / 64] >> (r.0 % 64) & 1 == 0
                        && !std::mem::replace(&mut reported[i], true) =>
                {
                    bad.push(format!(
                        "{}: {}: {r:?} is read before it is written",
                        p.name,
                        p.entry as usize + i
                    ));
                }
                Role::Jumps(to) => jumps.push((to.0 - p.entry) as usize),
                _ => {}
            });
            let before = set.clone();
            op.roles(&mut |role| {
                if let Role::Writes(r) = role {
                    set[r.0 as usize / 64] |= 1 << (r.0 % 64);
                }
            });
            for j in jumps {
                // A cell that is off the board is not written; a recalled value is.
                let set = if matches!(op, Op::CellOr { .. }) { &before } else { &set };
                next.push((j, set.clone()));
            }
            if matches!(op, Op::Recall { .. }) {
                next.push((i + 1, before));
            } else if !op.ends() {
                next.push((i + 1, set));
            }
            for (j, set) in next {
                let changed = match &mut known[j] {
                    None => {
                        known[j] = Some(set);
                        true
                    }
                    Some(old) => {
                        let joined: Vec<u64> = old.iter().zip(&set).map(|(a, b)| a & b).collect();
                        let changed = joined != *old;
                        *old = joined;
                        changed
                    }
                };
                if changed {
                    work.push(j);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn code(ops: Vec<Op>) -> Code {
        let end = ops.len() as u32;
        Code {
            ops,
            programs: vec![Program { name: "p".into(), entry: 0, end, params: vec![] }],
            sites: vec![FaultSite { kind: FaultKind::Overflow, span: Span::default() }],
            registers: 4,
            memory: 12,
            before: 0,
            now: 5,
            state_len: 5,
            cells: 4,
            ..Code::default()
        }
    }

    #[test]
    fn an_operation_takes_sixteen_bytes() {
        assert_eq!(std::mem::size_of::<Op>(), 16);
    }

    #[test]
    fn the_verifier_names_every_kind_of_damage() {
        let (r0, r1, r9) = (R(0), R(1), R(9));
        let cases: Vec<(Vec<Op>, &str)> = vec![
            (vec![Op::Const { d: r0, v: 1 }], "runs past its end"),
            (vec![Op::Jump { to: To(7) }], "leaves the program"),
            (vec![Op::Const { d: r9, v: 1 }, Op::Done {}], "r9 does not exist"),
            (vec![Op::Copy { d: r0, s: r1 }, Op::Done {}], "r1 is read before"),
            (vec![Op::Fault { site: Site(3) }], "#3 does not exist"),
            (vec![Op::ClearCells { d: M(10) }, Op::Done {}], "outside the memory"),
            (vec![Op::Const { d: r0, v: 0 }, Op::StoreAt { to: M(2), s: r0 }, Op::Done {}], "stores where"),
            (vec![Op::Const { d: r0, v: 0 }, Op::StoreAt { to: M(6), s: r0 }, Op::Done {}], "stores where"),
            (vec![Op::Const { d: r0, v: 0 }, Op::PutAt { to: M(2), s: r0 }, Op::Done {}], "stores where"),
            (vec![Op::Recall { d: r0, memo: 0, to: To(1) }, Op::Done {}], "memo 0"),
            (
                // Written on one way only.
                vec![
                    Op::Const { d: r0, v: 0 },
                    Op::JumpIf { a: r0, to: To(3) },
                    Op::Const { d: r1, v: 0 },
                    Op::Give { s: r1 },
                ],
                "r1 is read before",
            ),
        ];
        for (ops, want) in cases {
            let bad = code(ops).verify().expect_err(want).join("\n");
            assert!(bad.contains(want), "{bad}");
        }
        let good = vec![Op::Const { d: r0, v: 5 }, Op::Give { s: r0 }];
        assert_eq!(code(good).verify(), Ok(()));
    }
}
