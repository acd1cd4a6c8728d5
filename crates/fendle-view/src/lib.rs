//! What the analyses found, as text and as pictures. Values in, text and pictures out; no analysis of its
//! own, and no knowledge of the language.
//!
//! * [`board`]: boards with row and column names, marked cells, boards side by side.
//! * [`chart`]: bars made of text.
//! * [`net`]: state graphs, laid out and drawn; [`page`]: pages that need nothing beside themselves.
//! * [`scene`]: shapes and words as SVG and PNG, the same on every machine.
//! * [`text`]: numbers grouped in threes, aligned tables, folded lists.
//! * [`tiles`]: boards as pictures.

pub mod board;
pub mod chart;
pub mod columns;
pub mod export;
pub mod net;
pub mod page;
pub mod scene;
pub mod text;
pub mod tiles;
