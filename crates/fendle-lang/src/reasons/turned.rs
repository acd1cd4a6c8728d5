//! Which turned and mirrored boards are the same puzzle.

use fendle_core::relaxed::{Task, Turn};

use super::effects::var_of_places;
use crate::model::{Base, DIR_STEPS, Extent, Keyed, NONE, Scalar};
use crate::state::Bound;

/// How cells are exchanged: rows with columns first, then rows from the other end, then columns.
#[derive(Clone, Copy)]
pub(super) struct Exchange {
    pub(super) across: bool,
    pub(super) rows: bool,
    pub(super) columns: bool,
}

impl Exchange {
    pub(super) fn cell(self, b: &Bound, cell: i32) -> i32 {
        let (n, cols) = (b.rows as i32, b.cols as i32);
        let (mut row, mut col) = (cell / cols, cell % cols);
        if self.across {
            (row, col) = (col, row);
        }
        if self.rows {
            row = n - 1 - row;
        }
        if self.columns {
            col = cols - 1 - col;
        }
        row * cols + col
    }

    fn direction(self, dir: i32) -> Option<i32> {
        let (mut row, mut col) = *DIR_STEPS.get(usize::try_from(dir).ok()?)?;
        if self.across {
            (row, col) = (col, row);
        }
        if self.rows {
            row = -row;
        }
        if self.columns {
            col = -col;
        }
        DIR_STEPS.iter().position(|s| *s == (row, col)).map(|d| d as i32)
    }

    /// What a value is called afterwards; `None` for values that are not followed.
    pub(super) fn value(self, b: &Bound, scalar: Scalar, value: i32) -> Option<i32> {
        match scalar {
            Scalar::Maybe(_) if i64::from(value) == NONE => Some(value),
            Scalar::Cell | Scalar::Maybe(Base::Cell) => Some(self.cell(b, value)),
            Scalar::Dir | Scalar::Maybe(Base::Dir) => self.direction(value),
            Scalar::Bool | Scalar::Int | Scalar::Enum(_) | Scalar::Maybe(Base::Int | Base::Enum(_)) => {
                Some(value)
            }
            _ => None,
        }
    }
}

/// The ways to turn or mirror the board after which the level is the same puzzle of ways. That a board may be turned is not taken
/// from the model's laws: it is proved of the ways themselves.
#[must_use]
pub fn turns_of(b: &Bound, task: &Task) -> Vec<Turn> {
    if b.rows == 0 || task.ways.is_empty() {
        return vec![];
    }
    let vars = var_of_places(b);
    let all = (1..8).map(|n| Exchange { across: n & 4 != 0, rows: n & 2 != 0, columns: n & 1 != 0 });
    all.filter(|x| !x.across || b.rows == b.cols)
        .filter_map(|exchange| {
            Turn::of(task, &|place, value| {
                let at = place as usize;
                let v = vars[at]?;
                let (def, slot) = (&b.model.vars[v], &b.slots[v]);
                let value = exchange.value(b, def.dom.scalar(), value)?;
                let there = match def.shape {
                    Extent::Grid | Extent::Set | Extent::Array(Keyed::Cell) => {
                        slot.base as u32 + exchange.cell(b, (at - slot.base) as i32) as u32
                    }
                    Extent::One | Extent::Array(Keyed::Enum(_) | Keyed::Range(_)) => place,
                    _ => return None,
                };
                Some((there, value))
            })
        })
        .collect()
}
