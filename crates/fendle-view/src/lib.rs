//! What the analyses found, as text. Values in, text out; no analysis of its own, and no
//! knowledge of the language.
//!
//! * [`board`]: boards with row and column names, marked cells, boards side by side.
//! * [`chart`]: bars made of text.
//! * [`text`]: numbers grouped in threes, aligned tables, folded lists.

pub mod board;
pub mod chart;
pub mod text;
