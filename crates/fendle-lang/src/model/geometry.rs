//! Directions, places, lanes and shapes.

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
    /// What each cell of each turn is a part of, as a value of the enum of the parts; empty where shapes have no parts.
    pub parts: Vec<Vec<i64>>,
    /// How many turns, from the first one, are not mirrored. The others follow, if mirroring gives other ones.
    pub plain: usize,
    /// For each turn the one that it is mirrored to, left and right exchanged; empty where shapes are not mirrored.
    pub mirrors: Vec<usize>,
}

impl ShapeTurns {
    /// The first turn that this one can be turned to, and how many there are: mirrored turns are a circle of their own.
    #[must_use]
    pub fn circle(&self, turn: usize) -> (usize, usize) {
        if turn < self.plain { (0, self.plain) } else { (self.plain, self.turns.len() - self.plain) }
    }
}

/// Shapes that a placed value can have.
#[derive(Clone, Debug)]
pub struct ShapesDef {
    /// Their name.
    pub name: String,
    /// The enum of their names.
    pub kind: usize,
    /// The enum of their parts, where they have parts.
    pub of: Option<usize>,
    /// Whether they can be mirrored.
    pub mirrored: bool,
    /// One entry a shape.
    pub shapes: Vec<ShapeTurns>,
    /// For each shape the number of its first turn among all.
    pub firsts: Vec<usize>,
    /// All turns of all shapes: (shape, turn).
    pub all: Vec<(usize, usize)>,
    /// How far an anchor may lie off the board.
    pub margin: i64,
}

impl ShapesDef {
    /// Numbers all turns of all shapes, and finds how far they reach.
    pub fn number(&mut self) {
        self.firsts.clear();
        self.all.clear();
        for (i, s) in self.shapes.iter().enumerate() {
            self.firsts.push(self.all.len());
            self.all.extend((0..s.turns.len()).map(|t| (i, t)));
        }
        let cells = self.shapes.iter().flat_map(|s| s.turns.iter().flatten());
        self.margin = cells.map(|(r, c)| r.abs().max(c.abs())).max().unwrap_or(0) + 3;
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
    /// The place with this row and column, from 1; `None` where it is too far off the board to be named.
    #[must_use]
    pub fn named_place(row: i64, col: i64) -> Option<i64> {
        // As two comparisons each, so that the least number has no absolute value to overflow.
        let near = |x: i64| x > -BIAS / 2 && x < BIAS / 2;
        (near(row) && near(col)).then(|| place(row - 1, col - 1))
    }
    /// Row and column of a place, from 0; negative off the board.
    #[must_use]
    pub fn row_col(place: i64) -> (i64, i64) {
        ((place >> 16) - BIAS, (place & 0xffff) - BIAS)
    }
    /// The cell that lies so many rows and columns from another one, on a board of rows and columns; `None` off the board.
    #[must_use]
    pub fn beside(cell: i64, (down, right): (i64, i64), (rows, cols): (i64, i64)) -> Option<i64> {
        let (row, col) = (cell / cols + down, cell % cols + right);
        ((0..rows).contains(&row) && (0..cols).contains(&col)).then_some(row * cols + col)
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
    /// Bits moved on by so many places, towards lower ones where that is below 0.
    #[must_use]
    pub fn bits_moved(bits: i64, by: i32) -> i64 {
        let bits = bits as u64;
        let moved = if by >= 0 { bits.checked_shl(by as u32) } else { bits.checked_shr(by.unsigned_abs()) };
        moved.unwrap_or(0) as i64
    }
    /// A lane.
    #[must_use]
    pub fn lane(first: i64, dir: i64, len: i64) -> i64 {
        first << 40 | dir << 32 | len
    }
    /// Lane number `i` at the wall that a straight direction points at, on a board of so many rows and columns.
    #[must_use]
    pub fn lane_at(wall: i64, i: i64, (rows, cols): (i64, i64)) -> i64 {
        match wall {
            0 => lane(i, 2, rows),
            1 => lane(i * cols + cols - 1, 3, cols),
            2 => lane((rows - 1) * cols + i, 0, rows),
            _ => lane(i * cols, 1, cols),
        }
    }
    /// Cell `i` of a lane.
    #[must_use]
    pub fn lane_cell(lane: i64, i: i64, cols: i64) -> i64 {
        let (first, dir, _) = lane_parts(lane);
        let (dr, dc) = super::DIR_STEPS[dir as usize];
        first + i * (dr * cols + dc)
    }
    /// First cell, direction and length of a lane.
    #[must_use]
    pub fn lane_parts(lane: i64) -> (i64, i64, i64) {
        (lane >> 40, lane >> 32 & 0xff, lane & 0xffff_ffff)
    }
}
