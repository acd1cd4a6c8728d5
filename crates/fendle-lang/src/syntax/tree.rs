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
pub enum BinOp {
    /// `a + b`
    Add,
    /// `a - b`
    Sub,
    /// `a * b`
    Mul,
    /// `a / b`: rounded so that the rest is never negative
    Div,
    /// `a mod b`: from 0 to `abs(b) - 1`
    Mod,
    /// `a ** b`
    Pow,
    /// `a == b`
    Eq,
    /// `a != b`
    Ne,
    /// `a < b`
    Lt,
    /// `a <= b`
    Le,
    /// `a > b`
    Gt,
    /// `a >= b`
    Ge,
    /// `a and b`: the second is asked only where the first holds
    And,
    /// `a or b`: the second is asked only where the first does not hold
    Or,
    /// `a in b`: a member of a set, an entry of a list, a cell of a lane
    In,
    /// `a on b`: a place on the board
    On,
}

/// Quantifiers: one bracketed form for all.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum QuantKind {
    /// How many there are.
    Count,
    /// Whether the condition holds for all.
    All,
    /// Whether it holds for one at least.
    Any,
    /// The only one; breaks where there is none, or more than one.
    The,
    /// The first one; breaks where there is none.
    First,
    /// The sum of values.
    Sum,
    /// The least value; breaks where there is none.
    Min,
    /// The greatest value; breaks where there is none.
    Max,
    /// The set of the cells.
    Set,
    /// The list of the values.
    List,
}

/// How many outcomes of a move are asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum HowMany {
    /// One at least.
    Some,
    /// All of them.
    Every,
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
pub enum ExprKind {
    /// A whole number.
    Int(i64),
    /// `true` or `false`
    Bool(bool),
    /// A name.
    Name(String),
    /// `a.part`
    Field(Box<Expr>, Name),
    /// `a[b]`
    Index(Box<Expr>, Box<Expr>),
    /// `a[p] outside v`: `v` for places off the board
    Outside(Box<Expr>, Box<Expr>),
    /// `not a`
    Not(Box<Expr>),
    /// `-a`
    Neg(Box<Expr>),
    /// A binary operator between its operands.
    Bin(BinOp, Box<Expr>, Box<Expr>),
    /// `if a then b else c`
    Cond(Box<Expr>, Box<Expr>, Box<Expr>),
    /// `f(a, b)`
    Call(Name, Vec<Expr>),
    /// The empty list.
    Empty,
    /// What could not be read; already reported.
    Lost,
    /// `can shift(left)`, `can any`
    Can(Name, Vec<Expr>),
    /// `some outcome of shift(left): C`, `every outcome of shift(left): C`
    Leads(HowMany, Name, Vec<Expr>, Box<Expr>),
    /// `x.push(v)`
    Method(Box<Expr>, Name, Vec<Expr>),
    /// `card(rank: 1, suit: tar)`
    Record(Name, Vec<(Name, Expr)>),
    /// A quantifier: `count(c on tile where C)` and its like.
    Quant {
        /// Which one.
        kind: QuantKind,
        /// What it runs over.
        binder: Binder,
        /// What is asked or taken of each, where that is not the thing itself.
        body: Option<Box<Expr>>,
    },
    /// `flood(a to b from c by around8 while C)`
    Flood {
        /// The cell from which it goes on.
        name: Name,
        /// `a to b`: the condition is about going from one cell to a neighbour.
        to: Option<Name>,
        /// Where it begins.
        from: Box<Expr>,
        /// The directions in which it goes, one by one.
        by: Vec<Expr>,
        /// The name of a set of directions instead.
        by_name: Option<Name>,
        /// What has to hold.
        cond: Box<Expr>,
        /// Cells that do not satisfy the condition are reached, but not passed.
        rim: bool,
    },
    /// A board drawn in quotes.
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
pub enum DrawFrom {
    /// `draw on G where C weight W`, with the bound name
    Range {
        /// The bound name, and what it runs over.
        binder: Binder,
        /// The weight of each; 1 where none is written.
        weight: Option<Expr>,
    },
    /// `draw from (1 weight 9, 2)`
    Values(Vec<(Expr, Option<Expr>)>),
}

/// A block of statements.
pub type Block = Vec<Stmt>;

/// Kinds of statements.
#[derive(Clone, Debug)]
pub enum StmtKind {
    /// `let x: T = E`, or `var x = E`
    Let {
        /// The name.
        name: Name,
        /// Its type, where one is written.
        ty: Option<Type>,
        /// Its value.
        value: Expr,
        /// `var`: it may be assigned to later.
        mutable: bool,
    },
    /// `TARGET = E`, `TARGET += E`
    Assign {
        /// What is assigned to.
        target: Expr,
        /// The operator of `+=` and its like.
        op: Option<BinOp>,
        /// The value.
        value: Expr,
    },
    /// `swap A, B`
    Swap(Expr, Expr),
    /// `if C { } else { }`
    If {
        /// The condition.
        cond: Expr,
        /// Where it holds.
        then: Block,
        /// Where it does not.
        other: Block,
    },
    /// `for c on tile where C { }`
    For {
        /// What it runs over.
        binder: Binder,
        /// What is done for each.
        body: Block,
    },
    /// `repeat N while C { }`
    Repeat {
        /// The most rounds.
        bound: Expr,
        /// What is asked before each round.
        cond: Expr,
        /// What is done in a round.
        body: Block,
        /// `else cut`: past the bound the branch is set aside, instead of breaking.
        cut: bool,
    },
    /// `let x = draw ...` or `TARGET = draw ...`, with what happens when there is nothing to draw
    Draw {
        /// The name of what is drawn.
        name: Option<Name>,
        /// Its type, where one is written.
        ty: Option<Type>,
        /// What it is assigned to instead.
        target: Option<Expr>,
        /// What is drawn from.
        from: DrawFrom,
        /// What happens when there is nothing to draw.
        other: Option<Block>,
    },
    /// `write A, B, then V, into G along L`
    Write {
        /// Values and lists that are written one after the other.
        parts: Vec<Expr>,
        /// What fills the rest.
        fill: Expr,
        /// The grid.
        into: Expr,
        /// The lane.
        along: Expr,
    },
    /// `take last N of A onto B`
    Take {
        /// How many.
        count: Expr,
        /// The list that loses them.
        from: Expr,
        /// The list that gets them.
        onto: Expr,
    },
    /// `cut r in rows where C out of G, V from DIR`
    CutOut {
        /// The rows or columns that are taken out.
        binder: Binder,
        /// The grid.
        grid: Expr,
        /// What comes in.
        fill: Expr,
        /// The side from which it comes.
        from: Expr,
    },
    /// `insert A into G at L, from DIR`
    Insert {
        /// The row or column that comes in.
        row: Expr,
        /// The grid.
        grid: Expr,
        /// The lane that it becomes.
        at: Expr,
        /// The side from which it comes.
        from: Expr,
    },
    /// `require C`: this start is dropped when it does not hold
    Require {
        /// The condition.
        cond: Expr,
        /// Words for it.
        why: Option<String>,
    },
    /// `phase "name" { }`: a step that players see by itself
    Phase {
        /// Its name.
        name: String,
        /// What it does.
        body: Block,
    },
    /// `offer C`: the move is no move where this does not hold
    Offer(Expr),
    /// `refuse "why" at CELLS unless C`
    Refuse {
        /// The reason, in words.
        why: String,
        /// Cells that are to blame.
        at: Vec<Expr>,
        /// What must hold; always refused without it.
        unless: Option<Expr>,
    },
    /// `judge`: the ends are asked at once
    Judge,
    /// `win`
    Win,
    /// `lose "why"`
    Lose(String),
    /// `stop "why"`: it ends neither won nor lost
    Stop(Option<String>),
    /// `note "text" at CELL`: something worth telling
    Note {
        /// The words.
        text: String,
        /// Where.
        at: Option<Expr>,
    },
    /// `score E`: what the move gains
    Score(Expr),
    /// `add A to B`
    Add(Expr, Expr),
    /// `remove A from B`
    Remove(Expr, Expr),
    /// `p(a, b)`: a procedure
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
pub enum Item {
    /// `const NAME = E`
    Const(Name, Expr),
    /// `enum NAME { A, B }`
    Enum(Name, Vec<Name>),
    /// `state` or `level` variables
    Var {
        /// It changes with moves; else the level gives it.
        state: bool,
        /// Their names.
        names: Vec<Name>,
        /// Their type.
        ty: Type,
        /// `if C`: it is there only where this holds.
        when: Option<Expr>,
        /// Its value where the level gives none.
        default: Option<Expr>,
        /// `= (KEY: V, ...)`: one value for each key of an array
        defaults: Vec<(Name, Expr)>,
        /// Its value off the board.
        outside: Option<Expr>,
        /// What is known beforehand of it, where it is hidden.
        hidden: Option<Prior>,
        /// It is not hidden, but not told either.
        untold: bool,
    },
    /// `tell NAME: E for c on G where C`
    Tell {
        /// Its name; that of its function where none is written.
        name: Option<Name>,
        /// What is told.
        value: Expr,
        /// For each of these.
        binder: Option<Binder>,
        /// Only where this holds.
        when: Option<Expr>,
        /// Where it stands.
        span: Span,
    },
    /// `tally NAME, NAME`: things that analyses count
    Tally(Vec<Name>),
    /// `show NAME { }`: how a board is drawn as text
    Show {
        /// A variable, or a name for a drawing of several.
        name: Name,
        /// Glyphs stand without blanks between them.
        joined: bool,
        /// Of several glyphs that fit, the first one is drawn.
        layered: bool,
        /// `at c`: the name of the cell in conditions.
        at: Option<Name>,
        /// The glyphs.
        rules: Vec<ShowRule>,
    },
    /// `show board shifted`: every second row begins half a cell further to the right.
    Shifted(Span),
    /// `derived NAME: T = E`: follows from the rest of the state.
    Derived {
        /// Its name.
        name: Name,
        /// Its type, where one is written.
        ty: Option<Type>,
        /// What it follows from.
        value: Expr,
    },
    /// How pictures draw things.
    Picture(Vec<LookRule>),
    /// `fn NAME(...) = E`
    Fn {
        /// Its name.
        name: Name,
        /// Its parameters.
        params: Vec<Param>,
        /// The type of what it gives, where the model says it.
        result: Option<Type>,
        /// What it gives.
        body: Expr,
    },
    /// `proc NAME(...) { }`
    Proc {
        /// Its name.
        name: Name,
        /// Its parameters.
        params: Vec<Param>,
        /// What it does.
        body: Block,
    },
    /// `move NAME(...) { }`
    Move {
        /// Its name.
        name: Name,
        /// Its parameters.
        params: Vec<Param>,
        /// What it does.
        body: Block,
        /// `waiting`: it only lets time pass.
        waiting: bool,
    },
    /// `record NAME { ... }`
    Record(Name, Vec<Param>),
    /// `shapes NAME { ... }`
    Shapes {
        /// The group.
        name: Name,
        /// `of ENUM`: what the letters of the drawings stand for.
        of: Option<Name>,
        /// Mirrored shapes belong to it, too.
        mirrored: bool,
        /// The shapes.
        shapes: Vec<ShapeDef>,
    },
    /// `tick every N moves { }` or `tick on MOVE { }`
    Tick {
        /// After so many moves.
        every: Option<Expr>,
        /// After this move.
        on: Option<Name>,
        /// What it does.
        body: Block,
        /// Where it stands.
        span: Span,
    },
    /// `setup { }`: draws a start
    Setup {
        /// How often it is tried until nothing is dropped.
        attempts: Option<Expr>,
        /// What it does.
        body: Block,
        /// Where it stands.
        span: Span,
    },
    /// `aim most E`, `aim least score`
    Aim {
        /// The most is wanted; else the least.
        most: bool,
        /// Of this; of the score where nothing is written.
        what: Option<Expr>,
        /// Where it stands.
        span: Span,
    },
    /// `spread LO..HI over VAR, VAR`, or `spread RECORD over VAR, VAR`
    Spread {
        /// The values that the lists share.
        range: Option<(Expr, Expr)>,
        /// The record type whose values they share instead.
        record: Option<Name>,
        /// The lists.
        over: Vec<Name>,
        /// Where it stands.
        span: Span,
    },
    /// `law turned because "..."`: turning the board changes nothing
    Law {
        /// Its words.
        title: String,
        /// How the board is turned.
        turn: Name,
        /// Where it stands.
        span: Span,
    },
    /// `law never C because "why"`: no reached state is so.
    Never {
        /// What is never so.
        condition: Expr,
        /// Its words.
        why: String,
        /// Where it stands.
        span: Span,
    },
    /// `alike ...`: values or keys that the rules do not tell apart
    Alike {
        /// What is interchangeable.
        what: Likeness,
        /// Only where this holds.
        when: Option<Expr>,
        /// Where it stands.
        span: Span,
    },
    /// `after { }`: what happens behind every move
    After(Block, Span),
    /// `goal C`
    Goal(Expr, Span),
    /// `lost when C because "..."`
    Lost(Expr, String, Span),
    /// `over when C because "..."`
    Over(Expr, Option<String>, Span),
    /// `status goal, lost`: which end is asked first
    Status(Vec<Name>, Span),
    /// `always C because "..."`: a law of every state
    Always(Expr, String, Span),
    /// `keeps E because "..."`: a quantity that no move changes
    Keeps {
        /// What is kept.
        quantity: Expr,
        /// On levels where this holds.
        when: Option<Expr>,
        /// Its value in every won state, where one is written.
        goal: Option<Expr>,
        /// Its words.
        why: String,
        /// Where it stands.
        span: Span,
    },
    /// `bound E`: no solution has fewer moves
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
    /// `example "..." { }`
    Example {
        /// Its words.
        title: String,
        /// Its lines.
        lines: Vec<ExampleLine>,
        /// Where it stands.
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
