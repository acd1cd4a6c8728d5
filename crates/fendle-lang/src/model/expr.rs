//! Expressions.

use super::*;

/// Which copy of a variable is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum When {
    /// As it is now; level values always.
    Now,
    /// Before the move.
    Before,
    /// As the level began.
    Start,
}

/// An expression.
#[derive(Clone, Debug)]
pub struct Expr {
    /// What it is.
    pub kind: Ek,
    /// Its type.
    pub ty: Ty,
    /// Where it is.
    pub span: Span,
}

/// Arithmetic.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Arith {
    /// The sum.
    Add,
    /// The difference.
    Sub,
    /// The product.
    Mul,
    /// The quotient, so that the rest is never negative; breaks on a division by zero.
    Div,
    /// The rest of a division, from 0; breaks on a division by zero.
    Mod,
    /// The power.
    Pow,
    /// The lesser.
    Min,
    /// The greater.
    Max,
}

/// Comparisons.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Cmp {
    /// Equal.
    Eq,
    /// Not equal.
    Ne,
    /// Less.
    Lt,
    /// Less or equal.
    Le,
}

impl Cmp {
    /// Whether it holds of two numbers.
    #[must_use]
    pub fn holds(self, a: i64, b: i64) -> bool {
        match self {
            Cmp::Eq => a == b,
            Cmp::Ne => a != b,
            Cmp::Lt => a < b,
            Cmp::Le => a <= b,
        }
    }
}

/// Named operations.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Builtin {
    /// Row of a place, from 1.
    Row,
    /// Column of a place, from 1.
    Col,
    /// The number without its sign.
    Abs,
    /// The direction that points the other way.
    Opposite,
    /// A direction, a quarter turn clockwise.
    Turned,
    /// 0 for an even arrangement of a grid's distinct values, 1 for an odd one.
    Parity,
    /// Whether all values of a grid differ.
    Distinct,
    /// Cells of a lane.
    Len,
    /// Rows of the board.
    Rows,
    /// Columns of the board.
    Cols,
    /// The place in a row and a column.
    PlaceAt,
    /// Entries of a list.
    ListLen,
    /// The first cell of a lane.
    LaneStart,
    /// A shape turned by quarters, clockwise.
    TurnShape,
    /// Where a placed shape's anchor is.
    Anchor,
    /// Which of its shapes a placed one is.
    KindOf,
    /// Its turn, from 0.
    TurnOf,
    /// A shape with left and right exchanged about its anchor.
    MirrorShape,
    /// What a placed shape's cell at a place is a part of.
    PartAt,
    /// A shape, unturned, at a place.
    Placed(usize),
}

/// Questions about a state that only the analyses can answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Asked {
    /// Play has not ended.
    Running,
    /// It has ended, won.
    Won,
    /// It has ended, lost.
    Lost,
    /// It has ended otherwise.
    Over,
    /// Running, and no move is allowed.
    Stuck,
    /// Running, moves are left, and no goal can be reached.
    Dead,
    /// Running, and a goal can be reached.
    Winnable,
    /// Some way of playing wins against every draw.
    Certain,
    /// Moves from the start, the fewest.
    Depth,
}

/// Along an offset, or against it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Sense {
    /// Along it.
    Plus,
    /// Against it.
    Minus,
}

impl Sense {
    /// A number with the sign of the sense.
    #[must_use]
    pub fn signed(self, n: i64) -> i64 {
        if self == Sense::Minus { -n } else { n }
    }
}

/// Whether two blocks are to hold the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Sameness {
    /// They are.
    Same,
    /// They are to differ.
    Unlike,
}

impl Sameness {
    /// Whether it is as it is to be, where they hold the same or do not.
    #[must_use]
    pub fn fits(self, same: bool) -> bool {
        same == (self == Sameness::Same)
    }
}

/// An end of a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ListEnd {
    /// Its first entry.
    First,
    /// Its last entry.
    Last,
}

/// Kinds of expressions.
#[derive(Clone, Debug)]
pub enum Ek {
    /// A number; truth values, directions, cells and names of enums are numbers, too.
    Const(i64),
    /// A variable, by its number, in one of its copies.
    Var(When, VarId),
    /// A local name, by its number.
    Local(LocalId),
    /// Block at an index: a cell for grids and sets, the number of the key for arrays.
    Index(Box<Expr>, Box<Expr>),
    /// Grid or set at a place, with the value off the board.
    IndexOutside(Box<Expr>, Box<Expr>, Box<Expr>),
    /// Not.
    Not(Box<Expr>),
    /// The number with the other sign.
    Neg(Box<Expr>),
    /// Arithmetic on two numbers.
    Arith(Arith, Box<Expr>, Box<Expr>),
    /// A comparison of two numbers.
    Cmp(Cmp, Box<Expr>, Box<Expr>),
    /// Whether two blocks hold the same, or differ.
    SameBlock(Box<Expr>, Box<Expr>, Sameness),
    /// Both; the second is asked only where the first holds.
    And(Box<Expr>, Box<Expr>),
    /// One of them; the second is asked only where the first does not hold.
    Or(Box<Expr>, Box<Expr>),
    /// The second where the first holds, else the third.
    Cond(Box<Expr>, Box<Expr>, Box<Expr>),
    /// A place moved by an offset.
    Shift(Box<Expr>, Box<Expr>, Sense),
    /// The sum or the difference of two offsets.
    OffAdd(Box<Expr>, Box<Expr>, Sense),
    /// An offset, so many times.
    OffMul(Box<Expr>, Box<Expr>),
    /// The offset of one step in a direction.
    DirOffset(Box<Expr>),
    /// A cell as a place.
    ToPlace(Box<Expr>),
    /// The value, which must lie in a declared range.
    Within(Box<Expr>, Dom),
    /// A place that is known to be on the board.
    ToCell(Box<Expr>),
    /// Whether a place is on the board.
    OnBoard(Box<Expr>),
    /// Set operations on blocks of cells.
    Union(Box<Expr>, Box<Expr>),
    /// Cells of the first that are not in the second.
    Minus(Box<Expr>, Box<Expr>),
    /// Cells of both.
    Both(Box<Expr>, Box<Expr>),
    /// A function, by its number, with arguments.
    Call(FnId, Vec<Expr>),
    /// A named operation with arguments.
    Builtin(Builtin, Vec<Expr>),
    /// A quantifier.
    Quant(Box<Quant>),
    /// Cells reached from one cell.
    Flood(Box<Flood>),
    /// Entry of a list, from 1.
    Entry(Box<Expr>, Box<Expr>),
    /// The first or the last entry of a list.
    End(Box<Expr>, ListEnd),
    /// Whether a value is an entry of a list.
    InList(Box<Expr>, Box<Expr>),
    /// A record from its parts, in their order.
    MakeRecord(RecordId, Vec<Expr>),
    /// A part of a record.
    Part(Box<Expr>, RecordId, usize),
    /// The value of a `maybe` that is not `none`.
    Given(Box<Expr>),
    /// A placed shape moved by an offset.
    MoveShape(Box<Expr>, Box<Expr>, Sense),
    /// Whether a move is allowed: any, or the move with these parameters.
    Can(Option<(usize, Vec<Expr>)>),
    /// Whether some or every outcome of a move leads to a state in which the condition
    /// holds; without a move, of any allowed one.
    Leads(HowMany, Option<(usize, Vec<Expr>)>, Box<Expr>),
    /// What an analysis says of the state.
    Asked(Asked),
}

/// A quantifier.
#[derive(Clone, Debug)]
pub struct Quant {
    /// Which one.
    pub kind: QuantKind,
    /// The local name of the thing.
    pub local: LocalId,
    /// What it runs over.
    pub over: Range,
    /// Only those for which this holds.
    pub filter: Option<Expr>,
    /// What is asked or taken of each; the thing itself without it.
    pub body: Option<Expr>,
}

/// Cells reached from one cell through a condition.
#[derive(Clone, Debug)]
pub struct Flood {
    /// The local name of the cell from which it goes on.
    pub local: LocalId,
    /// The neighbour, where the condition is about going from a cell to it; the first cell is always reached then.
    pub next: Option<LocalId>,
    /// Where it begins.
    pub from: Expr,
    /// The offsets by which it goes.
    pub by: Vec<Expr>,
    /// What has to hold.
    pub cond: Expr,
    /// Cells that do not satisfy the condition are reached, but not passed.
    pub rim: bool,
}

/// What a loop or quantifier runs over; fixed when it starts.
#[derive(Clone, Debug)]
pub enum Range {
    /// All cells of the board, row by row.
    Board,
    /// The cells of a set, in the same order.
    Cells(Expr),
    /// The places at these offsets that are on the board.
    Around(Expr, Vec<Expr>),
    /// The first so many directions: 4 or 8.
    Dirs(u8),
    /// Whole numbers from the first to the last, both included.
    Ints(Expr, Expr),
    /// The values of an enum, by its number.
    Enum(usize),
    /// The lanes that begin at the wall that a direction points at.
    Lanes(Expr),
    /// The cells of a lane, from its beginning.
    Lane(Expr),
    /// The entries of a list.
    List(Expr),
    /// These offsets, in this order.
    Offsets(Vec<Expr>),
    /// The places that a placed shape covers.
    Covered(Expr),
}

/// An expression that stands alone, with its local names.
#[derive(Clone, Debug)]
pub struct Body {
    /// The expression.
    pub expr: Expr,
    /// Its local names.
    pub locals: Vec<LocalDef>,
}

/// The parts of a condition that all have to hold.
#[must_use]
pub fn conjuncts_of(body: &Body) -> Vec<Body> {
    match &body.expr.kind {
        Ek::And(a, b) => [a, b]
            .into_iter()
            .flat_map(|e| conjuncts_of(&Body { expr: (**e).clone(), locals: body.locals.clone() }))
            .collect(),
        _ => vec![body.clone()],
    }
}

/// One condition that holds when all do; `None` of nothing. They share their local names.
#[must_use]
pub fn all_of(parts: Vec<Body>) -> Option<Body> {
    parts.into_iter().reduce(|a, b| {
        let span = a.expr.span;
        let kind = Ek::And(Box::new(a.expr), Box::new(b.expr));
        Body { expr: Expr { kind, ty: Ty::Bool, span }, locals: a.locals }
    })
}
