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
#[allow(missing_docs)]
pub enum Arith {
    Add,
    Sub,
    Mul,
    Div,
    Mod,
    Pow,
    Min,
    Max,
}

/// Comparisons.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Cmp {
    Eq,
    Ne,
    Lt,
    Le,
}

/// Named operations.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Builtin {
    /// Row of a place, from 1.
    Row,
    /// Column of a place, from 1.
    Col,
    Abs,
    Opposite,
    Turned,
    /// 0 for an even arrangement of a grid's distinct values, 1 for an odd one.
    Parity,
    /// Whether all values of a grid differ.
    Distinct,
    /// Cells of a lane.
    Len,
    Rows,
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
#[allow(missing_docs)]
pub enum Asked {
    Running,
    Won,
    Lost,
    Over,
    Stuck,
    /// Running, moves are left, and no goal can be reached.
    Dead,
    Winnable,
    /// Some way of playing wins against every draw.
    Certain,
    Depth,
}

/// Kinds of expressions.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum Ek {
    Const(i64),
    Var(When, usize),
    Local(usize),
    /// Block at an index: a cell for grids and sets, the number of the key for arrays.
    Index(Box<Expr>, Box<Expr>),
    /// Grid or set at a place, with the value off the board.
    IndexOutside(Box<Expr>, Box<Expr>, Box<Expr>),
    Not(Box<Expr>),
    Neg(Box<Expr>),
    Arith(Arith, Box<Expr>, Box<Expr>),
    Cmp(Cmp, Box<Expr>, Box<Expr>),
    /// Equality of blocks; `true` negates.
    SameBlock(Box<Expr>, Box<Expr>, bool),
    And(Box<Expr>, Box<Expr>),
    Or(Box<Expr>, Box<Expr>),
    Cond(Box<Expr>, Box<Expr>, Box<Expr>),
    /// Place plus or minus (`true`) an offset.
    Shift(Box<Expr>, Box<Expr>, bool),
    OffAdd(Box<Expr>, Box<Expr>, bool),
    OffMul(Box<Expr>, Box<Expr>),
    DirOffset(Box<Expr>),
    ToPlace(Box<Expr>),
    /// The value, which must lie in a declared range.
    Within(Box<Expr>, Dom),
    /// A place that is known to be on the board.
    ToCell(Box<Expr>),
    OnBoard(Box<Expr>),
    /// Set operations on blocks of cells.
    Union(Box<Expr>, Box<Expr>),
    Minus(Box<Expr>, Box<Expr>),
    Both(Box<Expr>, Box<Expr>),
    Call(usize, Vec<Expr>),
    Builtin(Builtin, Vec<Expr>),
    Quant(Box<Quant>),
    Flood(Box<Flood>),
    /// Entry of a list, from 1.
    Entry(Box<Expr>, Box<Expr>),
    /// The last (`true`) or first entry of a list.
    End(Box<Expr>, bool),
    /// Whether a value is an entry of a list.
    InList(Box<Expr>, Box<Expr>),
    /// A record from its parts, in their order.
    MakeRecord(usize, Vec<Expr>),
    /// A part of a record.
    Part(Box<Expr>, usize, usize),
    /// The value of a `maybe` that is not `none`.
    Given(Box<Expr>),
    /// A placed shape moved by an offset.
    MoveShape(Box<Expr>, Box<Expr>, bool),
    /// Whether a move is allowed: any, or the move with these parameters.
    Can(Option<(usize, Vec<Expr>)>),
    /// Whether some (or every, `true`) outcome of a move leads to a state in which the condition
    /// holds; without a move, of any allowed one.
    Leads(bool, Option<(usize, Vec<Expr>)>, Box<Expr>),
    /// What an analysis says of the state.
    Asked(Asked),
}

/// A quantifier.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Quant {
    pub kind: QuantKind,
    pub local: usize,
    pub over: Range,
    pub filter: Option<Expr>,
    pub body: Option<Expr>,
}

/// Cells reached from one cell through a condition.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Flood {
    pub local: usize,
    /// The neighbour, where the condition is about going from a cell to it; the first cell is always reached then.
    pub next: Option<usize>,
    pub from: Expr,
    pub by: Vec<Expr>,
    pub cond: Expr,
    pub rim: bool,
}

/// What a loop or quantifier runs over; fixed when it starts.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum Range {
    Board,
    Cells(Expr),
    /// The places at these offsets that are on the board.
    Around(Expr, Vec<Expr>),
    Dirs(u8),
    Ints(Expr, Expr),
    Enum(usize),
    Lanes(Expr),
    Lane(Expr),
    List(Expr),
    /// These offsets, in this order.
    Offsets(Vec<Expr>),
    /// The places that a placed shape covers.
    Covered(Expr),
}

/// An expression that stands alone, with its local names.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Body {
    pub expr: Expr,
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
