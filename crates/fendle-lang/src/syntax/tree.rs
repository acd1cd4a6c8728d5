//! The syntax tree: what was written, not yet checked.

use crate::source::Span;

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
    /// `array KEY of T`, the key an enum, `row` or `column`
    Array(Name, Box<Type>),
    /// `array LO..HI of T`
    ArrayBy(Expr, Expr, Box<Type>),
    /// `list of T max N`, or `bag of T max N`
    List {
        /// The entries.
        elem: Box<Type>,
        /// The bound.
        max: Expr,
        /// Whether order does not matter.
        bag: bool,
    },
    /// `maybe T`
    Maybe(Box<Type>),
    /// `first N of ENUM`
    First(Expr, Name),
    /// `placed SHAPES`
    Placed(Name),
    /// `rearranged TARGET`
    Rearranged(Name),
    /// Part of the language to come; already reported.
    Unsupported,
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
    List,
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
    /// The empty list.
    Empty,
    /// What could not be read; already reported.
    Lost,
    /// `can shift(left)`, `can any`
    Can(Name, Vec<Expr>),
    /// `some outcome of shift(left): C`; `true` for every
    Leads(bool, Name, Vec<Expr>, Box<Expr>),
    /// `x.push(v)`
    Method(Box<Expr>, Name, Vec<Expr>),
    /// `card(rank: 1, suit: tar)`
    Record(Name, Vec<(Name, Expr)>),
    Quant {
        kind: QuantKind,
        binder: Binder,
        body: Option<Box<Expr>>,
    },
    Flood {
        name: Name,
        /// `a to b`: the condition is about going from one cell to a neighbour.
        to: Option<Name>,
        from: Box<Expr>,
        by: Vec<Expr>,
        by_name: Option<Name>,
        cond: Box<Expr>,
        rim: bool,
    },
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

/// What is drawn from.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum DrawFrom {
    /// `draw on G where C weight W`, with the bound name
    Range { binder: Binder, weight: Option<Expr> },
    /// `draw from (1 weight 9, 2)`
    Values(Vec<(Expr, Option<Expr>)>),
}

/// A block of statements.
pub type Block = Vec<Stmt>;

/// Kinds of statements.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub enum StmtKind {
    Let {
        name: Name,
        ty: Option<Type>,
        value: Expr,
        mutable: bool,
    },
    Assign {
        target: Expr,
        op: Option<BinOp>,
        value: Expr,
    },
    Swap(Expr, Expr),
    If {
        cond: Expr,
        then: Block,
        other: Block,
    },
    For {
        binder: Binder,
        body: Block,
    },
    Repeat {
        bound: Expr,
        cond: Expr,
        body: Block,
        cut: bool,
    },
    /// `let x = draw ...` or `TARGET = draw ...`, with what happens when there is nothing to draw
    Draw {
        name: Option<Name>,
        ty: Option<Type>,
        target: Option<Expr>,
        from: DrawFrom,
        other: Option<Block>,
    },
    /// `write A, B, then V, into G along L`
    Write {
        parts: Vec<Expr>,
        fill: Expr,
        into: Expr,
        along: Expr,
    },
    /// `take last N of A onto B`
    Take {
        count: Expr,
        from: Expr,
        onto: Expr,
    },
    /// `cut r in rows where C out of G, V from DIR`
    CutOut {
        binder: Binder,
        grid: Expr,
        fill: Expr,
        from: Expr,
    },
    /// `insert A into G at L, from DIR`
    Insert {
        row: Expr,
        grid: Expr,
        at: Expr,
        from: Expr,
    },
    /// `require C`: this start is dropped when it does not hold
    Require {
        cond: Expr,
        why: Option<String>,
    },
    Phase {
        name: String,
        body: Block,
    },
    Offer(Expr),
    Refuse {
        why: String,
        at: Vec<Expr>,
        unless: Option<Expr>,
    },
    Judge,
    Win,
    Lose(String),
    Stop(Option<String>),
    Note {
        text: String,
        at: Option<Expr>,
    },
    Score(Expr),
    Add(Expr, Expr),
    Remove(Expr, Expr),
    Call(Name, Vec<Expr>),
    /// `x.push(v)` and its like
    Method(Expr),
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
    /// `where C`: it is drawn only where this holds.
    pub filter: Option<Expr>,
}

/// One line of a `picture` block: `TARGET = VALUES: FORM COLOUR "label"`.
#[derive(Clone, Debug)]
pub struct LookRule {
    /// What is drawn so.
    pub target: Name,
    /// For which values; `None` for all but the plain one.
    pub values: Option<(Expr, Option<Expr>)>,
    /// Forms and colours, by name.
    pub words: Vec<Name>,
    /// A colour by its parts.
    pub rgb: Option<([i64; 3], Span)>,
    /// What is written on it.
    pub label: Option<(String, Span)>,
}

/// A piece of several cells, drawn.
#[derive(Clone, Debug)]
pub struct ShapeDef {
    /// Its name.
    pub name: Name,
    /// `about corner R, C`: rows and columns from the upper left corner of the drawing.
    pub corner: Option<(i64, i64)>,
    /// `about cell R, C`: row and column in the drawing, from 1.
    pub cell: Option<(i64, i64)>,
    /// One drawing to be turned, or all turns.
    pub turns: Vec<BoardText>,
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
    /// `seed N`: which start the setup draws
    Seed(u64, Span),
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
    /// `score N`
    Score(i64, Span),
    /// `some outcome ...` or `every outcome ...`, or `chance N / M` of the outcomes that hold
    Outcomes {
        /// How many of them must.
        how: OutcomeHow,
        /// What must hold.
        what: Box<ExampleLine>,
        /// The words.
        span: Span,
    },
}

/// Which outcomes of the last move must satisfy a line of an example.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OutcomeHow {
    /// At least one.
    Some,
    /// All.
    Every,
    /// Those that do have this chance together.
    Chance(u64, u64),
}

/// Values with weights.
pub type Weighted = Vec<(Expr, Option<Expr>)>;

/// What is known beforehand of a hidden variable.
#[derive(Clone, Debug, Default)]
pub struct Prior {
    /// `each c (V weight W, ...)`: every value by itself, with these weights.
    pub each: Option<(Option<Name>, Weighted)>,
    /// `with C`
    pub with: Option<Expr>,
}

/// What is declared to be interchangeable.
#[derive(Clone, Debug)]
#[allow(clippy::large_enum_variant)]
pub enum Likeness {
    /// `alike A, B`: an enum, or values of one
    Names(Vec<Name>),
    /// `alike LO..HI in V, W`: numbers that these variables hold
    Numbers(Expr, Expr, Vec<Name>),
    /// `alike piles of V, W except E, F`: the keys of arrays that are keyed alike
    Piles(Vec<Name>, Vec<Expr>),
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
        /// `= (KEY: V, ...)`: one value for each key of an array
        defaults: Vec<(Name, Expr)>,
        outside: Option<Expr>,
        hidden: Option<Prior>,
        untold: bool,
    },
    /// `tell NAME: E for c on G where C`
    Tell {
        name: Option<Name>,
        value: Expr,
        binder: Option<Binder>,
        when: Option<Expr>,
        span: Span,
    },
    Tally(Vec<Name>),
    Show {
        name: Name,
        joined: bool,
        /// Of several glyphs that fit, the first one is drawn.
        layered: bool,
        /// `at c`: the name of the cell in conditions.
        at: Option<Name>,
        rules: Vec<ShowRule>,
    },
    /// `show board shifted`: every second row begins half a cell further to the right.
    Shifted(Span),
    /// `derived NAME: T = E`: follows from the rest of the state.
    Derived {
        name: Name,
        ty: Option<Type>,
        value: Expr,
    },
    /// How pictures draw things.
    Picture(Vec<LookRule>),
    Fn {
        name: Name,
        params: Vec<Param>,
        /// The type of what it gives, where the model says it.
        result: Option<Type>,
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
        waiting: bool,
    },
    Record(Name, Vec<Param>),
    Shapes {
        name: Name,
        /// `of ENUM`: what the letters of the drawings stand for.
        of: Option<Name>,
        mirrored: bool,
        shapes: Vec<ShapeDef>,
    },
    /// `tick every N moves { }` or `tick on MOVE { }`
    Tick {
        every: Option<Expr>,
        on: Option<Name>,
        body: Block,
        span: Span,
    },
    Setup {
        attempts: Option<Expr>,
        body: Block,
        span: Span,
    },
    Aim {
        most: bool,
        what: Option<Expr>,
        span: Span,
    },
    /// `spread LO..HI over VAR, VAR`, or `spread RECORD over VAR, VAR`
    Spread {
        range: Option<(Expr, Expr)>,
        record: Option<Name>,
        over: Vec<Name>,
        span: Span,
    },
    Law {
        title: String,
        turn: Name,
        span: Span,
    },
    /// `law never C because "why"`: no reached state is so.
    Never {
        condition: Expr,
        why: String,
        span: Span,
    },
    /// `alike ...`: values or keys that the rules do not tell apart
    Alike {
        what: Likeness,
        when: Option<Expr>,
        span: Span,
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
    Bound(Expr, Span),
    /// `promise E of M`
    Promise(Expr, Expr, Span),
    /// `cost NAME of MOVE(A, B) = E`
    Cost {
        /// What is counted.
        name: Name,
        /// The move.
        of: Name,
        /// Names for its parameters.
        params: Vec<Name>,
        /// How much the move counts.
        count: Expr,
        /// Where.
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
    /// Names in items that could not be read: they may be declared there, so nothing is said of their use.
    pub lost: Vec<String>,
}
