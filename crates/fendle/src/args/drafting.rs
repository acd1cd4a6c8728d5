//! Options of drafting boards.

use super::*;

/// Where drafted boards come from.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum ByArg {
    /// Legal moves from the solved position, none of which undoes the last one.
    Shuffle,
    /// The model's own setup.
    Setup,
    /// Glyphs put on the plain cells of the level (--put).
    Fill,
    /// Small changes of the level's board (--may).
    Edit,
    /// The farthest of all positions that can be reached, or of all placements (--put).
    Deepest,
}

/// What is mirrored.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum MirrorArg {
    /// The left half is the right half.
    Columns,
    /// The upper half is the lower half.
    Rows,
}

/// What boards are wanted.
#[derive(Args, Debug, Clone)]
pub struct DraftArgs {
    /// Where boards come from; `shuffle` by default. Whatever is said here may stand in the level file, too, under `draft`.
    #[arg(long, value_enum)]
    pub by: Option<ByArg>,
    /// What they are to be like: a condition over their figures, such as "moves >= 12 and dead == 0"; `--want list` names the figures.
    #[arg(long, value_name = "CONDITION")]
    pub want: Option<String>,
    /// Climb to the most of this figure and keep the best.
    #[arg(long, value_name = "FIGURE")]
    pub most: Option<String>,
    /// How many boards are kept; 5 by default.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub keep: Option<u32>,
    /// How many are tried; 2000 by default.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub tries: Option<u64>,
    /// How many moves a shuffle has; 20..60 by default.
    #[arg(long, value_name = "N..M")]
    pub shuffles: Option<String>,
    /// Shuffle against the direction of play: moves are taken back, from a won position.
    #[arg(long)]
    pub backwards: bool,
    /// Shuffle so many times with each number of moves, and say how deep they came; -o draws it.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=100_000))]
    pub samples: Option<u64>,
    /// What is put on plain cells: glyphs with their numbers, such as "o 2, H 3..6", or "o 2 in a" for the cells that bear a letter.
    #[arg(long, value_name = "LIST")]
    pub put: Option<String>,
    /// Letters of the cells, row by row, such as "..aa/..aa/bbbb", for --put and --fixed.
    #[arg(long, value_name = "ROWS")]
    pub cells: Option<String>,
    /// What small changes may put or take away: glyphs, or variables that the board draws.
    #[arg(long, value_name = "NAMES")]
    pub may: Option<String>,
    /// Cells that stay as they are, such as "r1c1 r2c3"; or letters of --cells.
    #[arg(long, value_name = "CELLS")]
    pub fixed: Option<String>,
    /// Filled boards are mirrored.
    #[arg(long, value_enum)]
    pub mirrored: Option<MirrorArg>,
    /// The cells without these glyphs hang together, such as H for walls.
    #[arg(long, value_name = "NAMES")]
    pub apart: Option<String>,
    /// A level value that is chosen among whole numbers, such as weight=1..20; may be repeated. Without --by every choice is tried.
    #[arg(long, value_name = "NAME=N..M")]
    pub tune: Vec<String>,
    /// A first move that is made on each board, and must not lose, such as "sound r3c3".
    #[arg(long, value_name = "MOVE")]
    pub first: Option<String>,
    /// How it is kept from losing: what would lose is moved elsewhere (`move`, the default), or the board is made again.
    #[arg(long, value_enum, requires = "first")]
    pub safe: Option<SafeArg>,
    /// Go on from the boards of an earlier draft (.toml).
    #[arg(long, value_name = "FILE")]
    pub resume: Option<PathBuf>,
    /// Write the boards into this level file (.toml), or draw them (.html, .svg, .png); may be repeated.
    #[arg(short, long, value_name = "FILE")]
    pub output: Vec<PathBuf>,
    /// Light or dark.
    #[arg(long, value_enum, default_value_t = ThemeArg::Light)]
    pub theme: ThemeArg,
}

/// How a first move is kept from losing.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum SafeArg {
    /// What would lose is moved to another place.
    Move,
    /// The board is made again.
    Again,
}
