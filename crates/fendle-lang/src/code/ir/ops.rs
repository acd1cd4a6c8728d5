//! Operations.

use super::*;

/// Other names for what an operation names.
pub(crate) trait Renaming {
    fn register(&mut self, r: R) -> R {
        r
    }
    fn block(&mut self, m: M) -> M {
        m
    }
    fn jump(&mut self, to: To) -> To {
        to
    }
}

/// Other places for jumps alone.
pub(crate) struct Jumps<F>(pub F);

impl<F: FnMut(u32) -> u32> Renaming for Jumps<F> {
    fn jump(&mut self, to: To) -> To {
        To((self.0)(to.0))
    }
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
keeps_its_name!(Site, Comparison, i64, i32, u32, u16, u8, bool);

macro_rules! ops {
    ($($(#[$doc:meta])* $name:ident { $($field:ident : $ty:ty),* } => [$($role:expr),*];)*) => {
        /// One operation. `d` is the register that is written, except where it is a block; other registers are read. `site` is where a fault points,
        /// `to` where it goes on, `list`, `shapes`, `memo` and `point` are numbers of what the code keeps beside its operations.
        #[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
        pub enum Op { $($(#[$doc])* $name { $(#[doc = concat!("Operand `", stringify!($field), "`, as the operation says.")] $field: $ty),* },)* }

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
    /// `d = v`
    Const { d: R, v: i64 } => [Writes(d)];
    /// `d = s`
    Copy { d: R, s: R } => [Reads(s), Writes(d)];
    /// `d = a + b`; breaks when it grows too large.
    Add { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// `d = a - b`; breaks when it grows too large.
    Sub { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// `d = a * b`; breaks when it grows too large.
    Mul { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// `d = a / b`, so that the rest is never negative; breaks when `b` is 0.
    Div { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// `d = a mod b`, from 0 to `abs(b) - 1`; breaks when `b` is 0.
    Mod { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// `d = a ** b`; breaks when it grows too large.
    Pow { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// The lesser of two.
    Min { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// The greater of two.
    Max { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// `d = -a`; breaks when it grows too large.
    Neg { d: R, a: R, site: Site } => [Reads(a), Writes(d), Faults(site)];
    /// `d = abs(a)`; breaks when it grows too large.
    Abs { d: R, a: R, site: Site } => [Reads(a), Writes(d), Faults(site)];
    /// `d` is 1 where `a == b`, else 0.
    Eq { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// `d` is 1 where `a != b`, else 0.
    Ne { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// `d` is 1 where `a < b`, else 0.
    Lt { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// `d` is 1 where `a <= b`, else 0.
    Le { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// `d` is 1 where `a` is 0, else 0.
    Not { d: R, a: R } => [Reads(a), Writes(d)];
    /// Goes on at `to`.
    Jump { to: To } => [Jumps(to)];
    /// Goes on at `to` where `a` is not 0.
    JumpIf { a: R, to: To } => [Reads(a), Jumps(to)];
    /// Goes on at `to` where `a` is 0.
    JumpUnless { a: R, to: To } => [Reads(a), Jumps(to)];
    /// Goes on at `to` where `a == b`.
    JumpEq { a: R, b: R, to: To } => [Reads(a), Reads(b), Jumps(to)];
    /// Goes on at `to` where `a != b`.
    JumpNe { a: R, b: R, to: To } => [Reads(a), Reads(b), Jumps(to)];
    /// Goes on at `to` where `a < b`.
    JumpLt { a: R, b: R, to: To } => [Reads(a), Reads(b), Jumps(to)];
    /// Goes on at `to` where `a <= b`.
    JumpLe { a: R, b: R, to: To } => [Reads(a), Reads(b), Jumps(to)];
    /// `d += 1`, without a check: loop counters.
    Inc { d: R } => [Reads(d), Writes(d)];
    /// Jumps back, and takes one step from the budget.
    Loop { to: To, site: Site } => [Jumps(to), Faults(site)];
    /// `d += 1`; back while `d < n`; one step from the budget.
    LoopTo { d: R, n: u32, to: To, site: Site } => [Reads(d), Writes(d), Jumps(to), Faults(site)];
    /// Breaks when `a..b` is too long to run over.
    CheckLoop { a: R, b: R, site: Site } => [Reads(a), Reads(b), Faults(site)];
    /// `d` is value `i` of the block at `base`.
    Load { d: R, base: M, i: R } => [Reads(i), Block(base, Some(1)), Writes(d)];
    /// `d` is the value at `from`.
    LoadAt { d: R, from: M } => [Block(from, Some(1)), Writes(d)];
    /// Value `i` of the block at `base` becomes `s`: scratch, which is no part of the state.
    Store { base: M, i: R, s: R } => [Reads(i), Reads(s), Block(base, Some(1))];
    /// The value at `to` becomes `s`: scratch.
    StoreAt { to: M, s: R } => [Reads(s), Block(to, Some(1))];
    /// A store into the state now, which is remembered so that it can be packed and undone.
    Put { base: M, i: R, s: R } => [Reads(i), Reads(s), Block(base, Some(1))];
    /// The same at a known place.
    PutAt { to: M, s: R } => [Reads(s), Block(to, Some(1))];
    /// The same for a whole block.
    PutBlock { d: M, s: M, len: u32 } => [Block(d, Some(len)), Block(s, Some(len))];
    /// Breaks unless `s` is in `lo..=hi`.
    Check { s: R, lo: i32, hi: i32, site: Site } => [Reads(s), Faults(site)];
    /// Breaks unless each value of a block is in a domain, by its number.
    CheckBlock { base: M, len: u32, dom: u16, site: Site } => [Block(base, Some(len)), Faults(site)];
    /// Copies a block into scratch.
    CopyBlock { d: M, s: M, len: u32 } => [Block(d, Some(len)), Block(s, Some(len))];
    /// Empties a set of cells in scratch.
    ClearCells { d: M } => [Block(d, None)];
    /// `d` is 1 where two blocks hold the same, else 0.
    SameBlock { d: R, a: M, b: M, len: u32 } => [Block(a, Some(len)), Block(b, Some(len)), Writes(d)];
    /// The cells of one set or the other.
    Union { d: M, a: M, b: M } => [Block(d, None), Block(a, None), Block(b, None)];
    /// The cells of one set that are not in the other.
    Minus { d: M, a: M, b: M } => [Block(d, None), Block(a, None), Block(b, None)];
    /// The cells of both sets.
    Both { d: M, a: M, b: M } => [Block(d, None), Block(a, None), Block(b, None)];
    /// The place of a cell.
    PlaceOf { d: R, c: R } => [Reads(c), Writes(d)];
    /// The cell of a place; breaks when it is off the board.
    CellOf { d: R, p: R, site: Site } => [Reads(p), Writes(d), Faults(site)];
    /// The cell of a place, or a jump when it is off the board.
    CellOr { d: R, p: R, to: To } => [Reads(p), Writes(d), Jumps(to)];
    /// The cell that lies by an offset `o` from a cell; goes on at `to` where that is off the board, and `d` stays what it was.
    Beside { d: R, c: R, o: i32, to: To } => [Reads(c), Writes(d), Jumps(to)];
    /// The set of the cells that are reached from a cell through cells that hold `v`, itself with them, by steps to what lies beside; empty
    /// where the first cell does not hold it.
    FloodEqual { d: M, base: M, from: R, v: R, beside: u16 } => [Reads(from), Reads(v), Block(d, None), Block(base, None)];
    /// `d` is 1 where a place is on the board, else 0.
    OnBoard { d: R, p: R } => [Reads(p), Writes(d)];
    /// A place and an offset; breaks when that is too far away.
    Shift { d: R, p: R, o: R, site: Site } => [Reads(p), Reads(o), Writes(d), Faults(site)];
    /// A place less an offset; breaks when that is too far away.
    ShiftBack { d: R, p: R, o: R, site: Site } => [Reads(p), Reads(o), Writes(d), Faults(site)];
    /// A place and an offset, unchecked: only for a place that is tested for the board next.
    Peek { d: R, p: R, o: R } => [Reads(p), Reads(o), Writes(d)];
    /// The sum of two offsets.
    OffAdd { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// The difference of two offsets.
    OffSub { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// An offset, `b` times.
    OffMul { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// The offset of a step in a direction.
    DirOff { d: R, a: R } => [Reads(a), Writes(d)];
    /// The row of a place, from 1.
    Row { d: R, p: R } => [Reads(p), Writes(d)];
    /// The column of a place, from 1.
    Col { d: R, p: R } => [Reads(p), Writes(d)];
    /// The place in row `a` and column `b`.
    PlaceAt { d: R, a: R, b: R, site: Site } => [Reads(a), Reads(b), Writes(d), Faults(site)];
    /// The direction that points the other way.
    Opposite { d: R, a: R } => [Reads(a), Writes(d)];
    /// A direction, a quarter clockwise.
    Turned { d: R, a: R } => [Reads(a), Writes(d)];
    /// How many lanes begin at the wall that a direction points at; breaks for a slanting one.
    LanesLen { d: R, a: R, site: Site } => [Reads(a), Writes(d), Faults(site)];
    /// Lane number `i` at the wall that direction `a` points at.
    LaneAt { d: R, a: R, i: R } => [Reads(a), Reads(i), Writes(d)];
    /// How many cells a lane has.
    LaneLen { d: R, a: R } => [Reads(a), Writes(d)];
    /// Whether a lane is a column.
    LaneVertical { d: R, a: R } => [Reads(a), Writes(d)];
    /// Cell `i` of a lane.
    LaneCell { d: R, a: R, i: R } => [Reads(a), Reads(i), Writes(d)];
    /// The parity of an arrangement; breaks when a value stands twice.
    Parity { d: R, base: M, len: u32, site: Site } => [Block(base, Some(len)), Writes(d), Faults(site)];
    /// `d` is 1 where all values of a block differ, else 0.
    Distinct { d: R, base: M, len: u32 } => [Block(base, Some(len)), Writes(d)];
    /// Advances `d` to the next cell that is in the block, itself included; jumps when none is left.
    NextIn { d: R, base: M, to: To } => [Reads(d), Writes(d), Block(base, None), Jumps(to)];
    /// The same for cells that hold the value `v`.
    NextEq { d: R, base: M, v: i32, to: To } => [Reads(d), Writes(d), Block(base, None), Jumps(to)];
    /// Bit `i` of `d`, for each `i` below `n` (at most 64), says how value `i` of the block at `a` compares with that of the block at `b`.
    CompareBlocks { d: R, a: M, b: M, n: u8, how: Comparison } => [Block(a, Some(n.into())), Block(b, Some(n.into())), Writes(d)];
    /// The same with the one number `v`.
    CompareTo { d: R, a: M, v: i32, n: u8, how: Comparison } => [Block(a, Some(n.into())), Writes(d)];
    /// The same with the one value in `v`.
    Compare { d: R, a: M, v: R, n: u8, how: Comparison } => [Reads(v), Block(a, Some(n.into())), Writes(d)];
    /// The bits of both.
    BitAnd { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// The bits of one or the other.
    BitOr { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// The bits of `a` that `b` does not have.
    BitMinus { d: R, a: R, b: R } => [Reads(a), Reads(b), Writes(d)];
    /// The bits moved on by `by` places, towards lower ones where that is below 0; those that leave the 64 are lost.
    BitMove { d: R, s: R, by: i32 } => [Reads(s), Writes(d)];
    /// How many bits are set.
    BitCount { d: R, s: R } => [Reads(s), Writes(d)];
    /// Bit `i`: 1 or 0; 0 where there is no such bit.
    BitAt { d: R, s: R, i: R } => [Reads(s), Reads(i), Writes(d)];
    /// The cells with a bit in `s`, as a block.
    CellsOf { d: M, s: R } => [Block(d, None), Reads(s)];
    /// The cells in `m` that are reached from the cell `from` through others of them by steps, itself with them; none where it is not in `m`.
    FloodBits { d: R, m: R, from: R, steps: u16 } => [Reads(m), Reads(from), Writes(d)];
    /// The cells in `s` and those that one step leads to from them.
    Spread { d: R, s: R, steps: u16 } => [Reads(s), Writes(d)];
    /// Advances `d` to the next number whose bit is set in `s`, itself included; jumps when none is left.
    NextBit { d: R, s: R, to: To } => [Reads(d), Reads(s), Writes(d), Jumps(to)];
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
    /// Stores `s` at the address `a`, inside a list.
    PutInto { a: R, s: R, list: u16 } => [Reads(a), Reads(s)];
    /// Copies the list at `s` to `d`; breaks when it does not fit.
    ListCopy { d: R, s: R, list: u16, from: u16, site: Site } => [Reads(d), Reads(s), Faults(site)];
    /// Breaks when an entry of the list at `s` is out of the range of list `list`.
    ListCheck { s: R, list: u16, site: Site } => [Reads(s), Faults(site)];
    /// `d` is 1 where two lists hold the same, else 0.
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
    /// The values along a lane of the state now that compare so with `v` move to its beginning, in their order; the rest of it holds `fill`. What
    /// becomes another value is remembered.
    Gather { base: M, lane: R, how: Comparison, v: i32, fill: i32 } => [Block(base, None), Reads(lane)];
    /// Makes room for a lane: what lies from it on, seen from the side `flags` says, moves on by one.
    OpenLane { d: M, s: M, lane: R, flags: u8 } => [Block(d, None), Block(s, None), Reads(lane)];
    /// A placed shape moved by an offset; breaks when that is too far away.
    ShapeMove { d: R, p: R, o: R, shapes: u16, site: Site } => [Reads(p), Reads(o), Writes(d), Faults(site)];
    /// A placed shape turned by quarters, clockwise.
    ShapeTurn { d: R, p: R, by: R, shapes: u16 } => [Reads(p), Reads(by), Writes(d)];
    /// A shape, unturned, at a place.
    ShapeMake { d: R, k: R, p: R, shapes: u16, site: Site } => [Reads(k), Reads(p), Writes(d), Faults(site)];
    /// The place of a placed shape's anchor.
    ShapeAnchor { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    /// Which of its shapes a placed one is.
    ShapeKind { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    /// The turn of a placed shape, from 0.
    ShapeTurnOf { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    /// A placed shape with left and right exchanged.
    ShapeMirror { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    /// What the cell of a shape at a place is a part of.
    ShapePart { d: R, p: R, at: R, shapes: u16, site: Site } => [Reads(p), Reads(at), Writes(d), Faults(site)];
    /// How many places a placed shape covers.
    ShapeLen { d: R, p: R, shapes: u16 } => [Reads(p), Writes(d)];
    /// Place number `i` that the shape covers.
    ShapeCell { d: R, p: R, i: R, shapes: u16 } => [Reads(p), Reads(i), Writes(d)];
    /// Which of the 64 cells of one word a placed shape covers, as bits.
    ShapeBits { d: R, p: R, word: u8, shapes: u16 } => [Reads(p), Writes(d)];
    /// `d` is 1 where a placed shape covers, of the 64 cells of one word, only such as are among the bits of `s`, and, where that is the last word
    /// of the board, nothing off the board; else 0.
    ShapeFits { d: R, p: R, s: R, word: u8, shapes: u16 } => [Reads(p), Reads(s), Writes(d)];
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
    /// Remembers a value for this state.
    Remember { s: R, memo: u16 } => [Reads(s)];
    /// The move gains `s`.
    Score { s: R, site: Site } => [Reads(s), Faults(site)];
    /// Notes a cell that is to blame for the refusal that follows.
    RefuseAt { p: R } => [Reads(p)];
    /// Notes the cells of a set for it.
    RefuseIn { base: M } => [Block(base, None)];
    /// Notes the cells with a bit in `s` for it.
    RefuseAmong { s: R } => [Reads(s)];
    /// Refuses the move, for the reason of this number.
    Refuse { which: u32 } => [];
    /// The move is none here.
    NotOffered { } => [];
    /// Breaks.
    Fault { site: Site } => [Faults(site)];
    /// Breaks, and tells the value `s`.
    FaultWith { s: R, site: Site } => [Reads(s), Faults(site)];
    /// Ends the program with a value.
    Give { s: R } => [Reads(s)];
    /// Ends the program.
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
