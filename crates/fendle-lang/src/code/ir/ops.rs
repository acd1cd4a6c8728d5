//! Operations.

use super::*;

/// Other names for what an operation names.
pub(crate) trait Renaming {
    fn register(&mut self, r: R) -> R;
    fn block(&mut self, m: M) -> M;
    fn jump(&mut self, to: To) -> To;
}

trait Renamed {
    fn renamed(self, by: &mut dyn Renaming) -> Self;
}

impl Renamed for R {
    fn renamed(self, by: &mut dyn Renaming) -> R {
        by.register(self)
    }
}

impl Renamed for M {
    fn renamed(self, by: &mut dyn Renaming) -> M {
        by.block(self)
    }
}

impl Renamed for To {
    fn renamed(self, by: &mut dyn Renaming) -> To {
        by.jump(self)
    }
}

macro_rules! keeps_its_name {
    ($($ty:ty),*) => {
        $(impl Renamed for $ty {
            fn renamed(self, _: &mut dyn Renaming) -> $ty {
                self
            }
        })*
    };
}
keeps_its_name!(Site, i64, i32, u32, u16, u8, bool);

macro_rules! ops {
    ($($(#[$doc:meta])* $name:ident { $($field:ident : $ty:ty),* } => [$($role:expr),*];)*) => {
        /// One operation. `d` is written, other registers are read.
        #[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
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

            /// The same operation with its registers, blocks and jumps renamed.
            pub(crate) fn renamed(self, by: &mut dyn Renaming) -> Op {
                let _ = &by;
                match self { $(Op::$name { $($field),* } => Op::$name { $($field: $field.renamed(by)),* },)* }
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
    ShapeMirror { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    /// What the cell of a shape at a place is a part of.
    ShapePart { d: R, p: R, at: R, shapes: u16, site: Site } => [Reads(p), Reads(at), Writes(d), Faults(site)];
    ShapeLen { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    /// Place number `i` that the shape covers.
    ShapeCell { d: R, p: R, i: R, shapes: u16 } => [Reads(p), Reads(i), Writes(d)];
    /// Suspends: goes on once for each of the `n` values in the list at `base`, weighted by the list
    /// at `weights`, or evenly when that is address 0.
    Draw { d: R, n: R, base: M, weights: M, point: u16 } => [Reads(n), Writes(d), Block(base, Some(2)), Block(weights, Some(2))];
    /// Suspends: branches that are equal here go on as one.
    Merge { point: u16 } => [];
    /// Stands before a draw, and suspends where the machine is to stop there.
    BeforeDraw { point: u16 } => [];
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
    /// Calls `see` with each register that it reads or, with `true`, writes, in this order.
    pub fn visit(&self, see: &mut dyn FnMut(R, bool)) {
        self.roles(&mut |role| match role {
            Role::Reads(r) => see(r, false),
            Role::Writes(r) => see(r, true),
            _ => {}
        });
    }

    /// Calls `see` with each place that it can jump to.
    pub fn jumps(&self, see: &mut dyn FnMut(To)) {
        self.roles(&mut |role| {
            if let Role::Jumps(to) = role {
                see(to);
            }
        });
    }

    pub(super) fn ends(&self) -> bool {
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
