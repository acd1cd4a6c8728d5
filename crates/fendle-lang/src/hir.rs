//! The checked syntax tree: names resolved, types known, sizes still open.
//!
//! Both executors start here. The reference executor walks this tree as it stands; the fast one
//! runs the intermediate form that [`crate::lower`] makes of it for one level.

use crate::ast::{ExampleLine, QuantKind};
use crate::diag::{FileId, Span};

/// Types of expressions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Ty {
    Bool,
    Int,
    Enum(usize),
    Dir,
    Offset,
    Cell,
    Place,
    Lane,
    Set,
    Grid(Scalar),
    Array(Keyed, Scalar),
    /// Entries of a list; `true` for a bag.
    List(Scalar, bool),
    /// One list for each key.
    Lists(Keyed, Scalar, bool),
    Record(usize),
    Placed(usize),
    Maybe(Base),
    /// `none`: fits every `maybe`.
    Nothing,
    /// Already reported: fits everything.
    Bad,
}

/// Types of single values that a state can hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Scalar {
    Bool,
    Int,
    Enum(usize),
    Dir,
    Cell,
    Record(usize),
    Placed(usize),
    Maybe(Base),
}

/// Types that a `maybe` can hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Base {
    Int,
    Enum(usize),
    Dir,
    Cell,
    Record(usize),
    Placed(usize),
}

impl Base {
    /// The same as a type of single values.
    #[must_use]
    pub fn scalar(self) -> Scalar {
        match self {
            Base::Int => Scalar::Int,
            Base::Enum(e) => Scalar::Enum(e),
            Base::Dir => Scalar::Dir,
            Base::Cell => Scalar::Cell,
            Base::Record(r) => Scalar::Record(r),
            Base::Placed(s) => Scalar::Placed(s),
        }
    }
}

/// What an array is keyed by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Keyed {
    Enum(usize),
    /// Rows of the board, from 1.
    Row,
    /// Columns of the board, from 1.
    Column,
    /// A range of numbers: an index into the model's `ranges`.
    Range(usize),
}

/// `none` as a number: below every value that a variable can hold.
pub const NONE: i64 = i32::MIN as i64;

impl Scalar {
    /// The same as the type of an expression.
    #[must_use]
    pub fn ty(self) -> Ty {
        match self {
            Scalar::Bool => Ty::Bool,
            Scalar::Int => Ty::Int,
            Scalar::Enum(e) => Ty::Enum(e),
            Scalar::Dir => Ty::Dir,
            Scalar::Cell => Ty::Cell,
            Scalar::Record(r) => Ty::Record(r),
            Scalar::Placed(s) => Ty::Placed(s),
            Scalar::Maybe(b) => Ty::Maybe(b),
        }
    }
    /// What a `maybe` of it holds; `None` where there is no such type.
    #[must_use]
    pub fn base(self) -> Option<Base> {
        Some(match self {
            Scalar::Int => Base::Int,
            Scalar::Enum(e) => Base::Enum(e),
            Scalar::Dir => Base::Dir,
            Scalar::Cell => Base::Cell,
            Scalar::Record(r) => Base::Record(r),
            Scalar::Placed(s) => Base::Placed(s),
            Scalar::Bool | Scalar::Maybe(_) => return None,
        })
    }
}

impl Ty {
    /// Whether a value is a block of several numbers.
    #[must_use]
    pub fn is_block(self) -> bool {
        matches!(self, Ty::Set | Ty::Grid(_) | Ty::Array(..) | Ty::List(..) | Ty::Lists(..))
    }
    /// The same as a type of single values, where it is one that a variable can hold.
    #[must_use]
    pub fn scalar(self) -> Option<Scalar> {
        Some(match self {
            Ty::Bool => Scalar::Bool,
            Ty::Int => Scalar::Int,
            Ty::Enum(e) => Scalar::Enum(e),
            Ty::Dir => Scalar::Dir,
            Ty::Cell => Scalar::Cell,
            Ty::Record(r) => Scalar::Record(r),
            Ty::Placed(s) => Scalar::Placed(s),
            Ty::Maybe(b) => Scalar::Maybe(b),
            _ => return None,
        })
    }
}

/// The values that a variable may hold.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum Dom {
    Bool,
    Range(Box<Expr>, Box<Expr>),
    Enum(usize),
    Dir4,
    Dir8,
    Cell,
    Record(usize),
    Placed(usize),
    Maybe(Box<Dom>),
}

impl Dom {
    /// The type of its values.
    #[must_use]
    pub fn scalar(&self) -> Scalar {
        match self {
            Dom::Bool => Scalar::Bool,
            Dom::Range(..) => Scalar::Int,
            Dom::Enum(e) => Scalar::Enum(*e),
            Dom::Dir4 | Dom::Dir8 => Scalar::Dir,
            Dom::Cell => Scalar::Cell,
            Dom::Record(r) => Scalar::Record(*r),
            Dom::Placed(s) => Scalar::Placed(*s),
            Dom::Maybe(d) => Scalar::Maybe(d.scalar().base().unwrap_or(Base::Int)),
        }
    }
}

/// How many values a variable holds, and how they are keyed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Shape {
    One,
    Grid,
    Set,
    Array(Keyed),
    /// A list with a bound; `true` for a bag, which is kept sorted.
    List(bool),
    /// One list for each key.
    Lists(Keyed, bool),
}

/// A `level` or `state` variable.
#[derive(Clone, Debug)]
pub struct VarDef {
    /// Its name.
    pub name: String,
    /// Where it is declared.
    pub span: Span,
    /// A state variable, or a level value.
    pub state: bool,
    /// Its shape.
    pub shape: Shape,
    /// The values it may hold; of a rearranged grid those of its target.
    pub dom: Dom,
    /// `sized (rows, cols)`
    pub sized: Option<(Expr, Expr)>,
    /// `rearranged TARGET`
    pub rearranged: Option<usize>,
    /// `if C`
    pub when: Option<Expr>,
    /// `= V`
    pub default: Option<Expr>,
    /// `outside V`
    pub outside: Option<Expr>,
    /// `max N` of a list
    pub max: Option<Expr>,
    /// Keeps what this variable began with, where a setup draws the start.
    pub shadow_of: Option<usize>,
    /// Counts accepted moves for `tick every N moves`; the model's author did not name it.
    pub clock: bool,
    /// The player does not see it.
    pub hidden: bool,
    /// Not hidden by a prior of its own, yet not told either.
    pub untold: bool,
    /// What is known beforehand of a hidden variable.
    pub prior: Option<Prior>,
}

/// Values with weights, and the local names that both may read.
pub type Weighted = (Vec<(Expr, Expr)>, Vec<LocalDef>);

/// What is known beforehand of a hidden variable.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Prior {
    /// Each value by itself, with these weights; `local` is the cell, the first of `locals`.
    pub each: Option<Weighted>,
    /// All layouts that satisfy this, and no other.
    pub with: Option<Body>,
}

/// What the player is told of what is hidden.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct TellDef {
    pub name: String,
    pub value: Expr,
    /// For each of these: the local name, what it runs over, and for which of them.
    pub over: Option<(usize, Range)>,
    pub filter: Option<Expr>,
    pub locals: Vec<LocalDef>,
    pub span: Span,
}

impl TellDef {
    /// The state variable whose value at the cell decides whether the cell is told, if it is that plain.
    #[must_use]
    pub fn opened(&self) -> Option<usize> {
        let (local, Range::Board) = self.over.as_ref().map(|(l, r)| (*l, r))? else { return None };
        match &self.filter.as_ref()?.kind {
            Ek::Index(base, at) if matches!(at.kind, Ek::Local(l) if l == local) => match base.kind {
                Ek::Var(When::Now, v) => Some(v),
                _ => None,
            },
            _ => None,
        }
    }
}

impl VarDef {
    /// The type of the whole variable.
    #[must_use]
    pub fn ty(&self) -> Ty {
        match self.shape {
            Shape::One => self.dom.scalar().ty(),
            Shape::Grid => Ty::Grid(self.dom.scalar()),
            Shape::Set => Ty::Set,
            Shape::Array(e) => Ty::Array(e, self.dom.scalar()),
            Shape::List(bag) => Ty::List(self.dom.scalar(), bag),
            Shape::Lists(key, bag) => Ty::Lists(key, self.dom.scalar(), bag),
        }
    }
}

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

/// A function.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct FnDef {
    pub name: String,
    pub params: usize,
    pub locals: Vec<LocalDef>,
    pub body: Expr,
}

/// A local name; parameters come first.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct LocalDef {
    pub name: String,
    pub ty: Ty,
    pub mutable: bool,
    pub dom: Option<Dom>,
    pub span: Span,
}

/// A procedure, or the `after` block.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct ProcDef {
    pub name: String,
    pub params: usize,
    pub locals: Vec<LocalDef>,
    pub body: Vec<Stmt>,
}

/// A move.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct MoveDef {
    pub name: String,
    pub params: Vec<Dom>,
    pub locals: Vec<LocalDef>,
    pub offers: Vec<Expr>,
    pub body: Vec<Stmt>,
    /// Declared `waiting`: it does nothing but let time pass.
    pub waiting: bool,
    pub span: Span,
}

/// What happens by itself when time passes.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct TickDef {
    /// After which move; `None` for every one.
    pub on: Option<usize>,
    /// The clock and its period, where it is more than one move.
    pub clock: Option<(usize, Expr)>,
    pub body: ProcDef,
}

/// How starts are drawn.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct SetupDef {
    pub body: ProcDef,
    pub attempts: Option<Expr>,
    pub span: Span,
}

/// A conserved collection: the lists of a variable together always hold each of these numbers once.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct SpreadDef {
    pub var: usize,
    pub lo: Expr,
    pub hi: Expr,
    pub span: Span,
}

/// What is to be made most or least of, beside or instead of a goal.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct AimDef {
    pub most: bool,
    /// `None` for the score.
    pub what: Option<Body>,
    pub span: Span,
}

/// What is interchangeable.
#[derive(Clone, Debug)]
#[allow(clippy::large_enum_variant)]
#[allow(missing_docs)]
pub enum Kind {
    /// Values of an enum.
    Values(usize, Vec<i64>),
    /// Numbers from `lo` to `hi` that some variables hold or are keyed by.
    Numbers { lo: Expr, hi: Expr, carriers: Vec<usize>, except: Vec<Expr> },
}

/// Values, piles or pieces that the rules treat alike.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct AlikeDef {
    pub kind: Kind,
    pub when: Option<Expr>,
    pub span: Span,
}

/// A law about turned or mirrored boards.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct LawDef {
    pub mirrored: bool,
    pub why: String,
    pub span: Span,
}

/// A refusing statement.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct RefuseSite {
    pub why: String,
    pub span: Span,
}

/// Something that can be assigned to.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum Target {
    Local(usize),
    LocalAt(usize, Expr),
    Var(usize),
    VarAt(usize, Expr),
    /// An entry of a list.
    Entry(ListRef, Spot),
}

/// A list that can be changed.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum ListRef {
    Local(usize),
    Var(usize),
    /// One of several, by the number of its key.
    VarAt(usize, Expr),
}

/// Which entry of a list.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum Spot {
    First,
    Last,
    /// From 1.
    At(Expr),
}

/// What is drawn from.
#[derive(Clone, Debug)]
#[allow(clippy::large_enum_variant)]
#[allow(missing_docs)]
pub enum DrawFrom {
    Range { over: Range, filter: Option<Expr>, weight: Option<Expr> },
    Values(Vec<(Expr, Expr)>),
}

/// A statement.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Stmt {
    pub kind: St,
    pub span: Span,
}

/// Kinds of statements.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum St {
    /// `let`, `var` and assignment.
    Assign(Target, Expr),
    Swap(Target, Target),
    If(Expr, Vec<Stmt>, Vec<Stmt>),
    For {
        local: usize,
        over: Range,
        filter: Option<Expr>,
        body: Vec<Stmt>,
    },
    Repeat {
        bound: Expr,
        cond: Expr,
        body: Vec<Stmt>,
        /// Past the bound the branch is set aside, instead of breaking.
        cut: bool,
    },
    /// Draws a value into `local`, then runs `rest`; or `other` when there is nothing to draw.
    Draw {
        local: usize,
        from: DrawFrom,
        /// The drawn value, read from `local`, is assigned to this.
        into: Option<Target>,
        rest: Vec<Stmt>,
        other: Option<Vec<Stmt>>,
    },
    /// A local list with its bound; empty without a value.
    NewList {
        local: usize,
        value: Option<Expr>,
        max: Expr,
    },
    Push(ListRef, Expr),
    Pop(ListRef),
    Clear(ListRef),
    /// Takes the first entry of this value out; it must be there.
    Drop(ListRef, Expr),
    /// The last so many entries of one list go onto another, in their order.
    Take(Expr, ListRef, ListRef),
    /// The values, then the filling, into a grid along a lane.
    Write {
        parts: Vec<Expr>,
        fill: Expr,
        into: Target,
        along: Expr,
    },
    /// The lanes that `filter` accepts are taken out of a grid, and filling comes from `from`.
    CutOut {
        local: usize,
        columns: bool,
        filter: Expr,
        into: Target,
        fill: Expr,
        from: Expr,
    },
    /// A row or column is pushed into a grid at a lane; what lies there moves away from `from`.
    Insert {
        row: Expr,
        into: Target,
        at: Expr,
        from: Expr,
    },
    Require(Expr, Option<String>),
    Phase(String, Vec<Stmt>),
    Refuse {
        site: usize,
        at: Vec<Expr>,
        unless: Option<Expr>,
    },
    Judge,
    End(usize),
    Note(String, Option<Expr>),
    Score(Expr),
    Tally(usize, Expr),
    Call(usize, Vec<Expr>),
}

/// How a game can end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum EndKind {
    Goal,
    Lost,
    Over,
}

/// One way to end: kind and reason. The same words are the same ending.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Ending {
    pub kind: EndKind,
    pub why: Option<String>,
}

/// A condition under which the game has ended.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct StatusCond {
    pub ending: usize,
    pub cond: Body,
    pub span: Span,
}

/// An expression that stands alone, with its local names.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Body {
    pub expr: Expr,
    pub locals: Vec<LocalDef>,
}

/// A law of the form `always`.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Always {
    pub cond: Body,
    pub why: String,
    pub span: Span,
}

/// A quantity that no move changes.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Keeps {
    pub quantity: Body,
    pub when: Option<Body>,
    pub goal: Option<Body>,
    pub why: String,
    pub span: Span,
}

/// What a glyph says of one variable at its cell.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Fact {
    pub var: usize,
    /// The value there; 1 for a member of a set and for "the cell is here".
    pub value: i64,
}

/// How something is drawn.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum Show {
    /// One grid, value by value.
    Values { var: usize, glyphs: Vec<(i64, String)>, joined: bool },
    /// Several variables in one drawing, one glyph a cell.
    Drawing { name: String, vars: Vec<usize>, rules: Vec<(char, Vec<Fact>)>, span: Span },
}

/// Forms in which pictures draw things, by the words of the language.
pub const FIGURES: [&str; 17] = [
    "block", "waves", "gravel", "hatch", "slab", "disk", "ring", "diamond", "wedge", "hexagon", "frame",
    "cross", "bar", "dot", "buoy", "label", "nothing",
];

/// Colours of pictures, by the words of the language.
pub const PAINTS: [&str; 12] =
    ["blue", "ochre", "sky", "brown", "navy", "sand", "teal", "clay", "slate", "rust", "ink", "chalk"];

/// A colour as a model gives it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Paint {
    /// One of [`PAINTS`]: each theme has its own shade of it.
    Named(usize),
    /// Red, green, blue.
    Rgb(u8, u8, u8),
}

/// How pictures draw a thing; what is `None` is left to the picture.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Look {
    /// Its form: one of [`FIGURES`].
    pub figure: Option<usize>,
    /// Its colour.
    pub paint: Option<Paint>,
    /// What is written on it.
    pub label: Option<String>,
}

/// What a line of a `picture` block is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Drawee {
    /// A variable.
    Var(usize),
    /// What the player is told.
    Tell(usize),
}

/// One line of a `picture` block.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct LookRule {
    /// A variable, something told, or both where they have one name.
    pub of: Vec<Drawee>,
    /// For these values; `None` for all but the plain one.
    pub values: Option<(i64, i64)>,
    pub look: Look,
}

/// An example to be run by `check`.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Example {
    pub title: String,
    pub span: Span,
    pub lines: Vec<(ExampleLine, Option<Body>)>,
}

/// An enum.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct EnumDef {
    pub name: String,
    pub values: Vec<String>,
}

/// A record type.
#[derive(Clone, Debug)]
pub struct RecordDef {
    /// Its name.
    pub name: String,
    /// Its parts.
    pub parts: Vec<(String, Dom)>,
}

/// One shape: for each of its turns the cells that it covers, as (row, column) from the anchor.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ShapeTurns {
    /// Its name.
    pub name: String,
    /// Distinct turns, clockwise from the drawing.
    pub turns: Vec<Vec<(i64, i64)>>,
    /// Turns that were drawn or made, before those that cover the same cells were merged.
    pub drawn: usize,
    /// Whether the anchor is a corner: then (0, 0) is the cell below and right of it.
    pub corner: bool,
}

/// Shapes that a placed value can have.
#[derive(Clone, Debug)]
pub struct ShapesDef {
    /// Their name.
    pub name: String,
    /// The enum of their names.
    pub kind: usize,
    /// One entry a shape.
    pub shapes: Vec<ShapeTurns>,
    /// For each shape the number of its first turn among all.
    pub firsts: Vec<usize>,
    /// All turns of all shapes: (shape, turn).
    pub all: Vec<(usize, usize)>,
    /// How far an anchor may lie off the board.
    pub margin: i64,
}

/// A checked model.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Model {
    pub file: FileId,
    pub name: String,
    pub enums: Vec<EnumDef>,
    pub records: Vec<RecordDef>,
    pub shapes: Vec<ShapesDef>,
    /// Collections that are conserved.
    pub spreads: Vec<SpreadDef>,
    /// Ranges that arrays are keyed by.
    pub ranges: Vec<(Expr, Expr)>,
    pub vars: Vec<VarDef>,
    pub tallies: Vec<String>,
    pub fns: Vec<FnDef>,
    pub procs: Vec<ProcDef>,
    pub moves: Vec<MoveDef>,
    pub after: Option<ProcDef>,
    pub ticks: Vec<TickDef>,
    pub setup: Option<SetupDef>,
    pub aim: Option<AimDef>,
    pub laws: Vec<LawDef>,
    pub alike: Vec<AlikeDef>,
    pub tells: Vec<TellDef>,
    pub refuses: Vec<RefuseSite>,
    pub endings: Vec<Ending>,
    /// In the order in which they are asked.
    pub statuses: Vec<StatusCond>,
    pub always: Vec<Always>,
    pub keeps: Vec<Keeps>,
    /// A number of moves that a goal needs at the least, as the model's author says.
    pub bound: Option<(Body, Span)>,
    pub shows: Vec<Show>,
    /// How pictures draw things; the first line that fits decides.
    pub looks: Vec<LookRule>,
    pub examples: Vec<Example>,
    /// Whether `win`, `lose` or `stop` is used, so that the ended part needs bits.
    pub ends_by_statement: bool,
    /// Whether a branch of a move can be set aside (`else cut`).
    pub cuts: bool,
}

impl Model {
    /// Whether the model can be won at all.
    #[must_use]
    pub fn has_goal(&self) -> bool {
        self.endings.iter().any(|e| e.kind == EndKind::Goal)
    }

    /// Whether anything is kept from the player.
    #[must_use]
    pub fn hides(&self) -> bool {
        self.vars.iter().any(|v| v.hidden || v.untold)
    }

    /// The number of a variable.
    #[must_use]
    pub fn var(&self, name: &str) -> Option<usize> {
        self.vars.iter().position(|v| v.name == name)
    }

    /// Endings that a state can say of itself: those of statements, and being set aside.
    #[must_use]
    pub fn ended_codes(&self) -> i64 {
        if self.cuts {
            self.endings.len() as i64 + 1
        } else if self.ends_by_statement {
            self.endings.len() as i64
        } else {
            0
        }
    }

    /// How pictures draw a value: each part by the first line that names it. `None` where no line is about it. A target is
    /// drawn like the grid that is rearranged to it.
    #[must_use]
    pub fn look(&self, of: Drawee, value: i64, plain: bool) -> Option<Look> {
        let twin = match of {
            Drawee::Var(v) => self.vars.iter().position(|d| d.rearranged == Some(v)).map(Drawee::Var),
            Drawee::Tell(_) => None,
        };
        let mut out: Option<Look> = None;
        let fits = |r: &&LookRule| match r.values {
            Some((lo, hi)) => (lo..=hi).contains(&value),
            None => !plain,
        };
        for r in self.looks.iter().filter(|r| r.of.iter().any(|o| *o == of || Some(*o) == twin)).filter(fits)
        {
            let look = out.get_or_insert_default();
            look.figure = look.figure.or(r.look.figure);
            look.paint = look.paint.or(r.look.paint);
            look.label = look.label.take().or_else(|| r.look.label.clone());
        }
        out
    }

    /// The glyphs of a grid that is drawn value by value, and whether they are joined. A target
    /// is drawn like the grid that is rearranged to it.
    #[must_use]
    pub fn values_show(&self, var: usize) -> Option<(&[(i64, String)], bool)> {
        let of = |v: usize| {
            self.shows.iter().find_map(|s| match s {
                Show::Values { var, glyphs, joined } if *var == v => Some((glyphs.as_slice(), *joined)),
                _ => None,
            })
        };
        let twin = self.vars.iter().position(|d| d.rearranged == Some(var));
        of(var).or_else(|| of(twin?))
    }
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

/// Puts conditions together again.
pub struct And;

impl And {
    /// One condition that holds when all do; `None` of nothing. They share their local names.
    #[must_use]
    pub fn of(parts: Vec<Body>) -> Option<Body> {
        parts.into_iter().reduce(|a, b| {
            let span = a.expr.span;
            let kind = Ek::And(Box::new(a.expr), Box::new(b.expr));
            Body { expr: Expr { kind, ty: Ty::Bool, span }, locals: a.locals }
        })
    }
}

/// Whether values of this kind are on a board.
#[must_use]
pub fn is_placed(dom: &Dom) -> bool {
    match dom {
        Dom::Cell | Dom::Placed(_) => true,
        Dom::Maybe(d) => is_placed(d),
        _ => false,
    }
}

/// Names of the directions, in the order of their numbers. The first four are `dir4`.
pub const DIRS: [&str; 8] = ["up", "right", "down", "left", "up_right", "down_right", "down_left", "up_left"];
/// (rows, columns) of the directions.
pub const DIR_STEPS: [(i64, i64); 8] = [(-1, 0), (0, 1), (1, 0), (0, -1), (-1, 1), (1, 1), (1, -1), (-1, -1)];

/// Offsets, places and lanes as single numbers, the same in both executors' tables.
///
/// An offset is `rows * 2^16 + cols`. A place is `(row + 2^14) * 2^16 + (col + 2^14)`, so that
/// adding an offset is one addition and a place off the board keeps its identity. A lane is
/// `first cell * 2^40 + direction it runs in * 2^32 + length`.
pub mod code {
    /// One row in an offset or a place.
    pub const ROW: i64 = 1 << 16;
    /// What is added to rows and columns of a place.
    pub const BIAS: i64 = 1 << 14;

    /// The place in a row and column, both from 0.
    #[must_use]
    pub fn place(row: i64, col: i64) -> i64 {
        (row + BIAS) * ROW + col + BIAS
    }
    /// Row and column of a place, from 0; negative off the board.
    #[must_use]
    pub fn row_col(place: i64) -> (i64, i64) {
        ((place >> 16) - BIAS, (place & 0xffff) - BIAS)
    }
    /// Whether a sum of a place and an offset is still exact.
    #[must_use]
    pub fn is_place(code: i64) -> bool {
        let (row, col) = (code >> 16, code & 0xffff);
        (1..2 * BIAS).contains(&row) && (1..2 * BIAS).contains(&col)
    }
    /// Rows and columns of an offset.
    #[must_use]
    pub fn offset_parts(offset: i64) -> (i64, i64) {
        let cols = ((offset + (ROW >> 1)) & 0xffff) - (ROW >> 1);
        ((offset - cols) >> 16, cols)
    }
    /// Whether an offset is small enough to be exact.
    #[must_use]
    pub fn is_offset(offset: i64) -> bool {
        let (r, c) = offset_parts(offset);
        r.abs() < BIAS / 2 && c.abs() < BIAS / 2
    }
    /// A lane.
    #[must_use]
    pub fn lane(first: i64, dir: i64, len: i64) -> i64 {
        first << 40 | dir << 32 | len
    }
    /// First cell, direction and length of a lane.
    #[must_use]
    pub fn lane_parts(lane: i64) -> (i64, i64, i64) {
        (lane >> 40, lane >> 32 & 0xff, lane & 0xffff_ffff)
    }
}
