//! The syntax tree: what was written, not yet checked.

use crate::diag::Span;

/// A name and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Name {
    /// The name.
    pub text: String,
    /// Its place.
    pub span: Span,
}

/// A text board: the lines and where they begin in the file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BoardText {
    /// The lines between the quotes.
    pub text: String,
    /// Byte of the first character of `text` in its file.
    pub at: u32,
    /// The whole token.
    pub span: Span,
}

/// Types as written.
#[derive(Clone, Debug)]
pub enum TypeKind {
    /// `lo..hi`
    Range(Expr, Expr),
    /// `bool`, `cell`, `place`, `dir4`, `dir8`, or an enum
    Named(String),
    /// `grid of T [sized (rows, cols)]`
    Grid(Box<Type>, Option<(Expr, Expr)>),
    /// `set of cells`
    Set,
    /// `array KEY of T`
    Array(Name, Box<Type>),
    /// `rearranged TARGET`
    Rearranged(Name),
    /// Part of the language to come; already reported.
    Later,
}

/// A type and its place.
#[derive(Clone, Debug)]
pub struct Type {
    /// What it is.
    pub kind: TypeKind,
    /// Where it is.
    pub span: Span,
}

/// Binary operators.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum BinOp {
    Add,
    Sub,
    Mul,
    Div,
    Mod,
    Pow,
    Eq,
    Ne,
    Lt,
    Le,
    Gt,
    Ge,
    And,
    Or,
    In,
    On,
}

/// Quantifiers: one bracketed form for all.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum QuantKind {
    Count,
    All,
    Any,
    The,
    First,
    Sum,
    Min,
    Max,
    Set,
}

/// What a bound name runs over: `c on tile`, `d in dir4`, `i in 1..5`.
#[derive(Clone, Debug)]
pub struct Binder {
    /// The bound name.
    pub name: Name,
    /// True for `on`.
    pub on: bool,
    /// The thing run over; for `a..b` the lower end.
    pub over: Box<Expr>,
    /// The upper end of `a..b`.
    pub upto: Option<Box<Expr>>,
    /// `where C`
    pub filter: Option<Box<Expr>>,
}

/// An expression and its place.
#[derive(Clone, Debug)]
pub struct Expr {
    /// What it is.
    pub kind: ExprKind,
    /// Where it is.
    pub span: Span,
}

/// Kinds of expressions.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum ExprKind {
    Int(i64),
    Bool(bool),
    Name(String),
    Field(Box<Expr>, Name),
    Index(Box<Expr>, Box<Expr>),
    Outside(Box<Expr>, Box<Expr>),
    Not(Box<Expr>),
    Neg(Box<Expr>),
    Bin(BinOp, Box<Expr>, Box<Expr>),
    Cond(Box<Expr>, Box<Expr>, Box<Expr>),
    Call(Name, Vec<Expr>),
    Quant { kind: QuantKind, binder: Binder, body: Option<Box<Expr>> },
    Flood { name: Name, from: Box<Expr>, by: Vec<Expr>, by_name: Option<Name>, cond: Box<Expr>, rim: bool },
    Board(BoardText),
}

/// Statements and their places.
#[derive(Clone, Debug)]
pub struct Stmt {
    /// What it is.
    pub kind: StmtKind,
    /// Where it is; for blocks, their head.
    pub span: Span,
}

/// A block of statements.
pub type Block = Vec<Stmt>;

/// Kinds of statements.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum StmtKind {
    Let { name: Name, ty: Option<Type>, value: Expr, mutable: bool },
    Assign { target: Expr, op: Option<BinOp>, value: Expr },
    Swap(Expr, Expr),
    If { cond: Expr, then: Block, other: Block },
    For { binder: Binder, body: Block },
    Repeat { bound: Expr, cond: Expr, body: Block },
    Phase { name: String, body: Block },
    Offer(Expr),
    Refuse { why: String, at: Vec<Expr>, unless: Option<Expr> },
    Judge,
    Win,
    Lose(String),
    Stop(Option<String>),
    Note { text: String, at: Option<Expr> },
    Score(Expr),
    Add(Expr, Expr),
    Remove(Expr, Expr),
    Call(Name, Vec<Expr>),
}

/// A parameter.
#[derive(Clone, Debug)]
pub struct Param {
    /// Its name.
    pub name: Name,
    /// Its type.
    pub ty: Type,
}

/// One rule of a `show` block.
#[derive(Clone, Debug)]
pub struct ShowRule {
    /// The glyph.
    pub glyph: String,
    /// Its place.
    pub span: Span,
    /// What it stands for: a value, or facts about variables.
    pub facts: Vec<Expr>,
}

/// One line of an example.
#[derive(Clone, Debug)]
pub enum ExampleLine {
    /// `size ROWS, COLS`
    Size(usize, usize, Span),
    /// `level NAME board` or `level NAME = value`
    Level(Name, Expr),
    /// `start NAME board` or `start NAME = value`
    Start(Name, Expr),
    /// `do MOVES`, as written
    Do(String, Span),
    /// `see NAME board`
    SeeBoard(Name, BoardText),
    /// `see (COND)`
    See(Expr),
    /// `refused "why"`
    Refused(String, Span),
    /// `status WORD ["why"]`
    Status(Name, Option<String>),
}

/// Items of a model. There are few of them: their size does not matter.
#[derive(Clone, Debug)]
#[allow(clippy::large_enum_variant)]
#[allow(missing_docs)]
pub enum Item {
    Const(Name, Expr),
    Enum(Name, Vec<Name>),
    Var {
        state: bool,
        names: Vec<Name>,
        ty: Type,
        when: Option<Expr>,
        default: Option<Expr>,
        outside: Option<Expr>,
    },
    Tally(Vec<Name>),
    Show {
        name: Name,
        joined: bool,
        rules: Vec<ShowRule>,
    },
    Fn {
        name: Name,
        params: Vec<Param>,
        body: Expr,
    },
    Proc {
        name: Name,
        params: Vec<Param>,
        body: Block,
    },
    Move {
        name: Name,
        params: Vec<Param>,
        body: Block,
    },
    After(Block, Span),
    Goal(Expr, Span),
    Lost(Expr, String, Span),
    Over(Expr, Option<String>, Span),
    Status(Vec<Name>, Span),
    Always(Expr, String, Span),
    Keeps {
        quantity: Expr,
        when: Option<Expr>,
        goal: Option<Expr>,
        why: String,
        span: Span,
    },
    Example {
        title: String,
        lines: Vec<ExampleLine>,
        span: Span,
    },
}

/// A parsed model file.
#[derive(Clone, Debug, Default)]
pub struct Source {
    /// The model's name.
    pub name: Option<Name>,
    /// Its items in order.
    pub items: Vec<Item>,
}
