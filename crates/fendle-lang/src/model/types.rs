//! Types of expressions and variables.

use super::*;

/// Types of expressions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Ty {
    /// Yes or no.
    Bool,
    /// A whole number.
    Int,
    /// A value of this enum, by its number.
    Enum(usize),
    /// A direction.
    Dir,
    /// A step of rows and columns.
    Offset,
    /// A cell of the board.
    Cell,
    /// A spot, on the board or beside it.
    Place,
    /// Cells in a line.
    Lane,
    /// A set of cells.
    Set,
    /// A value for each cell.
    Grid(Scalar),
    /// A value for each key.
    Array(Keyed, Scalar),
    /// Entries of a list; `true` for a bag.
    List(Scalar, bool),
    /// One list for each key.
    Lists(Keyed, Scalar, bool),
    /// The part of an array of arrays, of grids or of sets at its first key; only read further, or taken for the set that it is.
    Part(usize, Scalar),
    /// A record of this type, by its number.
    Record(RecordId),
    /// A shape of this group, by its number, with its turn and place.
    Placed(usize),
    /// One of these, or `none`.
    Maybe(Base),
    /// `none`: fits every `maybe`.
    Nothing,
    /// Already reported: fits everything.
    Bad,
}

/// Types of single values that a state can hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Scalar {
    /// Yes or no.
    Bool,
    /// A whole number.
    Int,
    /// A value of this enum, by its number.
    Enum(usize),
    /// A direction.
    Dir,
    /// A cell of the board.
    Cell,
    /// A record of this type, by its number.
    Record(RecordId),
    /// A shape of this group, by its number, with its turn and place.
    Placed(usize),
    /// One of these, or `none`.
    Maybe(Base),
}

/// Types that a `maybe` can hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Base {
    /// A whole number.
    Int,
    /// A value of this enum, by its number.
    Enum(usize),
    /// A direction.
    Dir,
    /// A cell of the board.
    Cell,
    /// A record of this type, by its number.
    Record(RecordId),
    /// A shape of this group, by its number, with its turn and place.
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
pub enum Keyed {
    /// The values of this enum, by its number.
    Enum(usize),
    /// Rows of the board, from 1.
    Row,
    /// Columns of the board, from 1.
    Column,
    /// A range of numbers: an index into the model's `ranges`.
    Range(usize),
    /// The cells of the board.
    Cell,
    /// Two keys after each other: an index into the model's `pairs`. The second one runs fastest.
    Pair(usize),
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
pub enum Dom {
    /// Yes or no.
    Bool,
    /// Numbers from the first to the second.
    Range(Box<Expr>, Box<Expr>),
    /// A value of this enum, by its number.
    Enum(usize),
    /// One of the first so many values of this enum.
    First(usize, Box<Expr>),
    /// One of four directions.
    Dir4,
    /// One of eight directions.
    Dir8,
    /// A cell of the board.
    Cell,
    /// A record of this type, by its number.
    Record(RecordId),
    /// A shape of this group, by its number, with its turn and place.
    Placed(usize),
    /// One of these, or `none`.
    Maybe(Box<Dom>),
}

impl Dom {
    /// The type of its values.
    #[must_use]
    pub fn scalar(&self) -> Scalar {
        match self {
            Dom::Bool => Scalar::Bool,
            Dom::Range(..) => Scalar::Int,
            Dom::Enum(e) | Dom::First(e, _) => Scalar::Enum(*e),
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
pub enum Extent {
    /// One value.
    One,
    /// A value for each cell.
    Grid,
    /// A set of cells.
    Set,
    /// A value for each key.
    Array(Keyed),
    /// A list with a bound; `true` for a bag, which is kept sorted.
    List(bool),
    /// One list for each key.
    Lists(Keyed, bool),
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
