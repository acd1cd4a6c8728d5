//! Statements.

use super::*;

/// Something that can be assigned to.
#[derive(Clone, Debug)]
pub enum Target {
    /// A local name.
    Local(usize),
    /// A cell of a local set, or an entry by its key.
    LocalAt(usize, Expr),
    /// A variable of the state.
    Var(usize),
    /// One value of a variable, by its cell or key.
    VarAt(usize, Expr),
    /// An entry of a list.
    Entry(ListRef, Spot),
}

/// A list that can be changed.
#[derive(Clone, Debug)]
pub enum ListRef {
    /// A local list.
    Local(usize),
    /// A variable of the state.
    Var(usize),
    /// One of several, by the number of its key.
    VarAt(usize, Expr),
}

/// Which entry of a list.
#[derive(Clone, Debug)]
pub enum Spot {
    /// The first one.
    First,
    /// The last one.
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
pub struct Stmt {
    /// What it does.
    pub kind: St,
    /// Where it stands in the text of the model.
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
