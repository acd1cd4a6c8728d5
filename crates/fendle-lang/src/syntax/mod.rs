//! Texts as they are written: models to a syntax tree, level files to keys and raw values, each with its place.

pub mod level;
pub mod lexer;
pub mod parser;
pub mod tree;
