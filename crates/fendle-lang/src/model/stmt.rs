//! Statements.

use super::*;

/// Something that can be assigned to.
#[derive(Clone, Debug)]
pub enum Target {
    /// A local name.
    Local(LocalId),
    /// A cell of a local set, or an entry by its key.
    LocalAt(LocalId, Expr),
    /// A variable of the state.
    Var(VarId),
    /// One value of a variable, by its cell or key.
    VarAt(VarId, Expr),
    /// An entry of a list.
    Entry(ListRef, Spot),
}

/// A list that can be changed.
#[derive(Clone, Debug)]
pub enum ListRef {
    /// A local list.
    Local(LocalId),
    /// A variable of the state.
    Var(VarId),
    /// One of several, by the number of its key.
    VarAt(VarId, Expr),
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
pub enum DrawFrom {
    /// One of what a range has, by weight.
    Range {
        /// What it runs over.
        over: Range,
        /// Only those for which this holds.
        filter: Option<Expr>,
        /// The weight of each; 1 without it.
        weight: Option<Expr>,
    },
    /// One of these values, with their weights.
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
pub enum St {
    /// `let`, `var` and assignment.
    Assign(Target, Expr),
    /// Exchanges two values.
    Swap(Target, Target),
    /// A condition, what is done where it holds, and what where it does not.
    If(Expr, Vec<Stmt>, Vec<Stmt>),
    /// Runs over things one after the other.
    For {
        /// The local name of the thing.
        local: LocalId,
        /// What it runs over.
        over: Range,
        /// Only those for which this holds.
        filter: Option<Expr>,
        /// What is done for each.
        body: Vec<Stmt>,
    },
    /// Does something again while a condition holds.
    Repeat {
        /// The most rounds.
        bound: Expr,
        /// What is asked before each round.
        cond: Expr,
        /// What is done in a round.
        body: Vec<Stmt>,
        /// Past the bound the branch is set aside, instead of breaking.
        cut: bool,
    },
    /// Draws a value into `local`, then runs `rest`; or `other` when there is nothing to draw.
    Draw {
        /// The local name of what is drawn.
        local: LocalId,
        /// What is drawn from.
        from: DrawFrom,
        /// The drawn value, read from `local`, is assigned to this.
        into: Option<Target>,
        /// What is done with it: the rest of the block.
        rest: Vec<Stmt>,
        /// What is done where there is nothing to draw.
        other: Option<Vec<Stmt>>,
    },
    /// A local list with its bound; empty without a value.
    NewList {
        /// The local name of the list.
        local: LocalId,
        /// Its first value.
        value: Option<Expr>,
        /// The most entries.
        max: Expr,
    },
    /// Appends a value to a list.
    Push(ListRef, Expr),
    /// Takes the last entry out of a list, which must be there.
    Pop(ListRef),
    /// Empties a list.
    Clear(ListRef),
    /// Takes the first entry of this value out; it must be there.
    Drop(ListRef, Expr),
    /// The last so many entries of one list go onto another, in their order.
    Take(Expr, ListRef, ListRef),
    /// The values, then the filling, into a grid along a lane.
    Write {
        /// Values and lists, one after the other.
        parts: Vec<Expr>,
        /// What fills the rest.
        fill: Expr,
        /// The grid.
        into: Target,
        /// The lane.
        along: Expr,
    },
    /// The lanes that `filter` accepts are taken out of a grid, and filling comes from `from`.
    CutOut {
        /// The local name of the lane.
        local: LocalId,
        /// Lanes are columns; else rows.
        columns: bool,
        /// Which lanes go.
        filter: Expr,
        /// The grid.
        into: Target,
        /// What comes in.
        fill: Expr,
        /// The side from which it comes.
        from: Expr,
    },
    /// A row or column is pushed into a grid at a lane; what lies there moves away from `from`.
    Insert {
        /// The lane that comes in.
        row: Expr,
        /// The grid.
        into: Target,
        /// Which lane it becomes.
        at: Expr,
        /// The side from which it comes.
        from: Expr,
    },
    /// Drops this start where the condition does not hold; with words.
    Require(Expr, Option<String>),
    /// A step that players see by itself: its name, and what it does.
    Phase(String, Vec<Stmt>),
    /// Refuses the move.
    Refuse {
        /// The reason, by its number.
        site: usize,
        /// Cells that are to blame.
        at: Vec<Expr>,
        /// What must hold; always refused without it.
        unless: Option<Expr>,
    },
    /// Asks the ends at once.
    Judge,
    /// Ends the game, by the number of the ending.
    End(usize),
    /// Something worth telling, and where.
    Note(String, Option<Expr>),
    /// The move gains so much.
    Score(Expr),
    /// Counts so much, under the number of a tally.
    Tally(usize, Expr),
    /// Calls a procedure, by its number, with arguments.
    Call(ProcId, Vec<Expr>),
}
