//! Options of pictures, charts and graphs.

use super::*;

/// Light or dark pictures.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum ThemeArg {
    /// Dark on light.
    Light,
    /// Light on dark.
    Dark,
}

impl ThemeArg {
    /// The theme.
    pub fn theme(self) -> fendle_view::tiles::Theme {
        match self {
            ThemeArg::Light => fendle_view::tiles::Theme::Light,
            ThemeArg::Dark => fendle_view::tiles::Theme::Dark,
        }
    }
}

/// Which chart of a space is drawn.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChartArg {
    /// All three.
    All,
    /// States by depth and status.
    Depth,
    /// Running states by number of allowed moves.
    Branching,
    /// Winnable states by distance to a goal.
    Distance,
}

/// Where a picture goes.
#[derive(Args, Debug, Clone)]
pub struct PictureArgs {
    /// Write a picture to this file: the ending says which kind.
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Light or dark.
    #[arg(long, value_enum, default_value_t = ThemeArg::Light)]
    pub theme: ThemeArg,
}

impl PictureArgs {
    /// The file, where there is one.
    pub fn files(&self) -> &[PathBuf] {
        self.output.as_slice()
    }

    /// Whether it is to be a page.
    pub fn is_page(&self) -> bool {
        self.output.as_ref().is_some_and(|path| ending(path) == "html")
    }

    /// Refuses a file that cannot be written, before anything is computed. `pages`: it may be a page.
    ///
    /// # Errors
    ///
    /// Words.
    pub fn refuse(&self, files: &Files, pages: bool) -> Result<(), Trouble> {
        self.output.as_ref().map_or(Ok(()), |path| may_write(files, path, pages))
    }
}

/// Which states of a graph are kept.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeepArg {
    /// All of them.
    All,
    /// Without lost, dead and stuck ones.
    Alive,
    /// Only those that can be won, and goals.
    Winnable,
    /// Only those on shortest solutions.
    Shortest,
}

impl KeepArg {
    /// As the question has it.
    pub fn keep(self) -> Keep {
        match self {
            KeepArg::All => Keep::All,
            KeepArg::Alive => Keep::Alive,
            KeepArg::Winnable => Keep::Winnable,
            KeepArg::Shortest => Keep::Shortest,
        }
    }
}

/// How a graph is laid out.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum LayoutArg {
    /// By depth, one layer a move.
    Layers,
    /// By springs and repulsion.
    Force,
}

/// What the colours of arrows tell.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum ArrowsArg {
    /// Fatal moves.
    Fatal,
    /// The kinds of moves.
    Moves,
}

/// A state graph and how it is drawn.
#[derive(Args, Debug, Clone)]
pub struct GraphArgs {
    /// The level.
    #[command(flatten)]
    pub level: LevelArgs,
    /// A second level file: the two graphs side by side on one page.
    #[arg(value_name = "OTHER")]
    pub second: Option<PathBuf>,
    /// Which level of the second file, by name; alone: another level of the same file.
    #[arg(long, value_name = "NAME")]
    pub with: Option<String>,
    /// Where to: .html is a page to look into, .svg and .png are pictures, .graphml, .dot, .json, .csv and .parquet are for
    /// other programs.
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// How states are laid out.
    #[arg(long, value_enum, default_value_t = LayoutArg::Force)]
    pub layout: LayoutArg,
    /// Lay states out by what they hold, such as x=tug.col,y=tug.row.
    #[arg(long, value_name = "x=VALUE,y=VALUE")]
    pub place: Option<String>,
    /// Which states are kept.
    #[arg(long, value_enum, default_value_t = KeepArg::All)]
    pub keep: KeepArg,
    /// Only states near this position, as `fendle show --line` prints it.
    #[arg(long, value_name = "POSITION")]
    pub around: Option<String>,
    /// How near, in moves either way.
    #[arg(long, value_name = "K", default_value_t = 3)]
    pub steps: u32,
    /// Fold states that reach each other to one node.
    #[arg(long)]
    pub rooms: bool,
    /// What the colours of arrows tell.
    #[arg(long, value_enum, default_value_t = ArrowsArg::Fatal)]
    pub arrows: ArrowsArg,
    /// The most states that are drawn one by one; the others stand together by depth and status.
    #[arg(long, value_name = "N")]
    pub most: Option<usize>,
    /// Light or dark; pages follow the reader's system.
    #[arg(long, value_enum, default_value_t = ThemeArg::Light)]
    pub theme: ThemeArg,
}
