//! The command line: what can be typed, and its help.

use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::{Args, Parser, Subcommand, ValueEnum};
use fendle_ask::Wish;
use fendle_ask::find::Draws;
use fendle_ask::graph::Keep;
use fendle_ask::odds::AHEAD;
use fendle_core::simulate::Policy;
use fendle_lang::code::native::Maker;

use crate::files::{Files, ending};
use crate::picture::may_write;
use crate::session::Trouble;

mod drafting;
mod pictures;

pub use drafting::*;
pub use pictures::*;

/// Ask a tile or grid puzzle what is solvable, what is dead, and why.
///
/// A mechanic is written once as a model (NAME.fendle), a board as a level file (NAME.toml).
/// `fendle demo` shows everything at work; `fendle new slide` writes a model and a level to
/// start from.
#[derive(Parser, Debug)]
#[command(name = "fendle", version, max_term_width = 100, propagate_version = true)]
pub struct Cli {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
    /// Options that mean the same everywhere.
    #[command(flatten)]
    pub common: Common,
}

/// Options that mean the same everywhere.
#[derive(Args, Debug, Clone)]
pub struct Common {
    /// Text to be read, or one JSON value.
    #[arg(long, global = true, value_enum, default_value_t = Format::Text)]
    pub format: Format,
    /// Seed for everything drawn at random: the same start, the same draws, on every machine.
    #[arg(long, global = true, value_name = "N", default_value_t = 1, hide_short_help = true)]
    pub seed: u64,
    /// Stop after this many distinct states; the answer is then "undecided".
    #[arg(long, global = true, value_name = "N", value_parser = parse_count)]
    pub max_states: Option<u64>,
    /// Memory for the tables of a search, such as 500M or 4G.
    #[arg(long, global = true, value_name = "SIZE", value_parser = parse_size, default_value = "4G")]
    pub memory: u64,
    /// Stop after this long, such as 30s or 5m.
    #[arg(long, global = true, value_name = "DURATION", value_parser = parse_duration)]
    pub time: Option<Duration>,
    /// Threads; all cores by default. No answer depends on it.
    #[arg(long, global = true, value_name = "N", default_value_t = 0, hide_default_value = true)]
    pub threads: usize,
    /// What runs the rules where many states are asked about; no answer depends on it.
    #[arg(long, global = true, value_enum, default_value_t = ExecutorArg::Native, hide_short_help = true)]
    pub executor: ExecutorArg,
    /// Keep no tables of relaxed puzzles, and use none that were kept, in the cache folder ($XDG_CACHE_HOME/fendle, or
    /// ~/.cache/fendle).
    #[arg(long, global = true, hide_short_help = true)]
    pub no_cache: bool,
    /// Run again whenever a file that was read is saved, with what has changed on top: for check, show, moves, solve, explore and audit.
    #[arg(long, global = true, hide_short_help = true)]
    pub watch: bool,
    /// Colour in diagnostics. NO_COLOR and pipes are respected.
    #[arg(long, global = true, value_enum, default_value_t = When::Auto)]
    pub color: When,
    /// Say only what was asked for: no progress, no hints.
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Say more: effort, and what is usually left out.
    #[arg(short, long, global = true)]
    pub verbose: bool,
}

/// What runs the rules.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum ExecutorArg {
    /// Machine code made while the program runs, where this machine allows it and it pays.
    Native,
    /// The interpreter alone.
    Plain,
}

impl ExecutorArg {
    /// What makes native code, where that is wanted.
    pub fn maker(self) -> Option<Maker> {
        match self {
            ExecutorArg::Native => Some(fendle_native::make),
            ExecutorArg::Plain => None,
        }
    }
}

/// Form of the output.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
}

/// When to use colour.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum When {
    /// On a terminal, unless NO_COLOR is set.
    Auto,
    /// Always.
    Always,
    /// Never, and diagnostics in one line each.
    Never,
}

/// How a simulated player chooses: `random`, `greedy`, `ahead`, or `ahead:N`.
fn policy(text: &str) -> Result<Policy, String> {
    match text.split_once(':') {
        None if text == "random" => Ok(Policy::Random),
        None if text == "greedy" => Ok(Policy::Greedy),
        None if text == "ahead" => Ok(Policy::Ahead(AHEAD)),
        Some(("ahead", states)) => match states.parse() {
            Ok(n @ 1..=1_000_000_000) => Ok(Policy::Ahead(n)),
            _ => Err(format!("`{states}` is no number of states from 1 to 1000000000")),
        },
        _ => Err("a policy is `random`, `greedy`, `ahead`, or `ahead:N` for N states a move".into()),
    }
}

/// Which draws of a move have to lead somewhere.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum DrawsArg {
    /// At least one.
    SomeDraw,
    /// All of them.
    EveryDraw,
}

impl DrawsArg {
    /// As the question has it.
    pub fn draws(self) -> Draws {
        match self {
            DrawsArg::SomeDraw => Draws::Some,
            DrawsArg::EveryDraw => Draws::Every,
        }
    }
}

/// Whose eyes a position is drawn for.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum ViewArg {
    /// Everything.
    Author,
    /// What the player sees.
    Player,
}

/// A level and the position to start from.
#[derive(Args, Debug, Clone)]
pub struct LevelArgs {
    /// The level file; with --game the command that starts a game.
    #[arg(value_name = "LEVEL")]
    pub file: PathBuf,
    /// LEVEL is a command: it starts a running game that is its own model. The game answers JSON-RPC 2.0 on its standard input and output; all its
    /// positions are asked for first.
    #[arg(long, hide_short_help = true)]
    pub game: bool,
    /// Which level of the file, by name; the first by default.
    #[arg(long, value_name = "NAME")]
    pub level: Option<String>,
    /// Begin at this position, in the form that `fendle show --line` prints.
    #[arg(long, value_name = "POSITION")]
    pub at: Option<String>,
    /// Play these moves first, such as "slide left; slide up".
    #[arg(long, value_name = "MOVES")]
    pub after: Option<String>,
    /// Draw positions with everything on them, or as the player sees them.
    #[arg(long, value_enum, default_value_t = ViewArg::Author)]
    pub view: ViewArg,
    /// Take the layout as known: by default analyses play with what the player can know.
    #[arg(long)]
    pub known: bool,
    /// Give a level value, such as rows=4; may be repeated.
    #[arg(long = "set", value_name = "NAME=VALUE")]
    pub sets: Vec<String>,
}

impl LevelArgs {
    /// A level of a file as it is written, for its author.
    pub fn of(file: &Path, level: Option<String>, known: bool) -> LevelArgs {
        LevelArgs {
            file: file.to_path_buf(),
            level,
            game: false,
            at: None,
            after: None,
            view: ViewArg::Author,
            known,
            sets: vec![],
        }
    }

    /// As the question has it.
    pub fn wish(&self) -> Wish {
        Wish {
            file: self.file.clone(),
            level: self.level.clone(),
            at: self.at.clone(),
            after: self.after.clone(),
            as_player: self.view == ViewArg::Player,
            known: self.known,
            sets: self.sets.clone(),
        }
    }
}

/// The commands, in the order of the work.
#[derive(Subcommand, Debug)]
pub enum Command {
    /// Run the harbour pack from end to end.
    Demo,
    /// Write a library model and a level, ready to edit.
    New {
        /// The family: see `fendle new --list`.
        #[arg(value_name = "FAMILY", required_unless_present = "list")]
        family: Option<String>,
        /// Where to write; the family's name by default.
        #[arg(value_name = "DIR")]
        dir: Option<PathBuf>,
        /// List the families.
        #[arg(long)]
        list: bool,
    },
    /// Are models and levels well formed, do the examples pass, are the starts sane.
    Check {
        /// Models (.fendle), level files (.toml), or folders of them.
        #[arg(value_name = "PATH", required = true)]
        paths: Vec<PathBuf>,
        /// Draw every shape in all its turns: anchor, period, and which turns look alike.
        #[arg(long)]
        shapes: bool,
        /// Print the intermediate form of each level's model.
        #[arg(long)]
        code: bool,
        /// Say what the examples of each model would not notice: small mistakes in its rules that no example fails on.
        #[arg(long)]
        sharp: bool,
        /// Recheck a proof file against one level file, by the reference executor alone.
        #[arg(long, value_name = "FILE", conflicts_with_all = ["shapes", "code", "sharp"])]
        proof: Option<PathBuf>,
        /// Which level of the file, by name, the proof is rechecked against; the one that it names by default.
        #[arg(long, value_name = "NAME", requires = "proof")]
        level: Option<String>,
        /// Give a level value with which the proof was made, such as rows=4; may be repeated.
        #[arg(long = "set", value_name = "NAME=VALUE", requires = "proof")]
        sets: Vec<String>,
    },
    /// The position, and what is on it, counted.
    Show {
        #[command(flatten)]
        level: LevelArgs,
        /// Print the position in one line, as --at takes it.
        #[arg(long)]
        line: bool,
        #[command(flatten)]
        picture: PictureArgs,
    },
    /// Every move: allowed with its result, or refused with the reason and the cells.
    Moves {
        #[command(flatten)]
        level: LevelArgs,
        #[command(flatten)]
        picture: PictureArgs,
    },
    /// Play moves, phase by phase.
    Trace {
        #[command(flatten)]
        level: LevelArgs,
        /// The moves, such as "slide left; slide up x 2"; a draw is named behind a slash, as in
        /// "shift left / 2 at r1c3".
        #[arg(value_name = "MOVES")]
        moves: String,
        /// Show each draw: what was drawn, how likely it was, out of how many.
        #[arg(long)]
        draws: bool,
        /// Say after each move whether the position can still be won, and name the first fatal move.
        #[arg(long)]
        verdict: bool,
        #[command(flatten)]
        picture: PictureArgs,
    },
    /// Play a level in the terminal: by keys, with hints, and with a light that says whether it can still be won.
    Play {
        #[command(flatten)]
        level: LevelArgs,
        /// Press these keys instead of playing in the terminal, and print the last screen: `right`, `shift-up`, `enter`, `space`, `esc`, or single
        /// characters.
        #[arg(long, value_name = "KEYS")]
        keys: Option<String>,
        /// Record the play into this file, one line of JSON a move; `@FILE` stands for its moves in other commands.
        #[arg(short = 'o', long = "record", value_name = "FILE")]
        record: Option<PathBuf>,
        /// Colours for a light or a dark terminal.
        #[arg(long, value_enum, default_value_t = ThemeArg::Dark)]
        theme: ThemeArg,
    },
    /// A solution, the shortest where that can be proved, or a proof that there is none.
    Solve {
        #[command(flatten)]
        level: LevelArgs,
        /// Do not draw the boards of the solution.
        #[arg(long)]
        brief: bool,
        /// Take the first solution, however long.
        #[arg(long, conflicts_with = "shortest")]
        any: bool,
        /// Only a solution that is proved to be shortest is an answer; else it is "undecided".
        #[arg(long)]
        shortest: bool,
        /// Count only what goes by this name, instead of all moves: what the model says a `cost` of, or moves of one kind.
        #[arg(long, value_name = "NAME")]
        moves_counting: Option<String>,
        /// How many different solutions there are, and won positions.
        #[arg(long, conflicts_with_all = ["any", "shortest", "moves_counting", "proof", "output"])]
        count: bool,
        /// Write a proof of the answer to this file: a solution, a kept quantity, or a closed set of states.
        #[arg(long, value_name = "FILE")]
        proof: Option<PathBuf>,
        #[command(flatten)]
        picture: PictureArgs,
    },
    /// How many moves a goal needs at the least, and the relaxed puzzles that prove it: some of the things alone.
    Bound {
        #[command(flatten)]
        level: LevelArgs,
        /// Most positions of one relaxed puzzle.
        #[arg(long, value_name = "N", value_parser = parse_count)]
        positions: Option<u64>,
    },
    /// The whole reachable space: counts, depths, verdicts, fatal moves.
    Explore {
        #[command(flatten)]
        level: LevelArgs,
        /// Go on past won states as if they were running.
        #[arg(long)]
        past_goals: bool,
        /// Also the structure: delays of fatal moves, traps, rooms and doors, must-pass states, shortest solutions,
        /// corridor, detours, idle parts.
        #[arg(long, conflicts_with = "past_goals")]
        structure: bool,
        /// Try all walls, pieces and cells for idle ones, however long it takes.
        #[arg(long, requires = "structure")]
        idle: bool,
        /// Which chart -o draws.
        #[arg(long, value_enum, default_value_t = ChartArg::All, requires = "output")]
        chart: ChartArg,
        #[command(flatten)]
        picture: PictureArgs,
    },
    /// The nearest reachable position in which a condition holds, the way there, and how many there are.
    Find {
        #[command(flatten)]
        level: LevelArgs,
        /// The condition: the model's own expressions, and words such as `stuck`, `dead`, `can any`,
        /// `can shift(left)`, `depth > 3`, `every outcome of shift(left): stuck`.
        #[arg(value_name = "CONDITION")]
        condition: String,
        /// Whether every draw, or some draw, has to lead there; for --moves-before and --within.
        #[arg(long = "for", value_enum, default_value_t = DrawsArg::SomeDraw, value_name = "DRAWS")]
        draws: DrawsArg,
        /// Positions from which this many moves can lead to such a position.
        #[arg(long, value_name = "K", default_value_t = 0)]
        moves_before: u32,
        /// Take the first such position that a guided search meets, on boards too large to be seen whole.
        #[arg(long, conflicts_with_all = ["draws", "moves_before"])]
        any: bool,
        /// Ask only whether it can be brought about within the next N moves: exact on any board, however large its space.
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000), conflicts_with_all = ["any", "moves_before"])]
        within: Option<u32>,
        /// Whatever the player does: every move has to lead there, not only one of them; for --within.
        #[arg(long, requires = "within")]
        whatever: bool,
    },
    /// Why a position cannot be won: kept quantities, a minimal part of it that is already dead; or what its fatal
    /// moves destroy.
    Why {
        #[command(flatten)]
        level: LevelArgs,
        /// All minimal dead parts of the level, most frequent first.
        #[arg(long)]
        all: bool,
        /// Over every state that the types allow, or every placement of the pieces, reachable or not.
        #[arg(long)]
        typed: bool,
        /// The most parts that --all looks for.
        #[arg(long, value_name = "N", default_value_t = 24, requires = "all")]
        most: usize,
        #[command(flatten)]
        picture: PictureArgs,
    },
    /// The state graph as a page to look into, a picture, or a file for other programs.
    Graph {
        #[command(flatten)]
        graph: GraphArgs,
    },
    /// Chance: possible, certain, the best probability, what each move is worth, the best of an aim.
    Odds {
        #[command(flatten)]
        level: LevelArgs,
        /// Play this many games too, by a simple policy: an estimate.
        #[arg(long, value_name = "N")]
        plays: Option<u64>,
        /// How the simulated player chooses: `random` (any move), `greedy` (most score at once), or `ahead:N` (best over the
        /// next moves, looking at about N states for each). Several, with commas between, are compared on the same draws.
        #[arg(long, value_name = "POLICY", value_parser = policy, value_delimiter = ',')]
        policy: Vec<Policy>,
        /// Look only at the next N moves: exact on any board, however large its space.
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000), conflicts_with_all = ["plays", "policy", "exact", "output"])]
        within: Option<u32>,
        /// Write the best move of every state to this file, for a game to carry along: lines of comma-separated values, ending in
        /// .csv, or compressed in .csv.gz.
        #[arg(long, value_name = "FILE", conflicts_with = "within")]
        best_moves: Option<PathBuf>,
        /// Give every value as a fraction, as far as a quarter of the memory holds them; without this only small spaces do.
        #[arg(long)]
        exact: bool,
        #[command(flatten)]
        picture: PictureArgs,
    },
    /// Hidden things: what is certain and by which clues, exact chances, the chance to win after each choice.
    Infer {
        #[command(flatten)]
        level: LevelArgs,
        /// Play from the opening by certain steps alone: can the level be finished without a guess?
        #[arg(long)]
        no_guess: bool,
        /// Where the chance to win is too dear to compute, estimate it after the best moves by this many careful plays.
        #[arg(long, value_name = "N")]
        plays: Option<u64>,
        #[command(flatten)]
        picture: PictureArgs,
    },
    /// What each move of a finished or broken-off play cost: distance to the goal, the first fatal move, refused attempts.
    Review {
        #[command(flatten)]
        level: LevelArgs,
        /// The moves as they were tried, such as "go left; go up x 2"; refused ones are counted apart.
        #[arg(value_name = "MOVES")]
        moves: String,
    },
    /// Two levels side by side.
    Compare {
        /// The first level file.
        #[arg(value_name = "LEVEL_A")]
        first: PathBuf,
        /// The second one; the same file by default.
        #[arg(value_name = "LEVEL_B")]
        second: Option<PathBuf>,
        /// Which level of the first file, by name; the first by default.
        #[arg(long, value_name = "NAME")]
        level: Option<String>,
        /// Which level of the second file, by name; the first by default.
        #[arg(long = "with", value_name = "NAME")]
        with: Option<String>,
        /// Compare what can be reached: counts, whether the spaces have the same shape, what is only in one.
        #[arg(long, required_unless_present_any = ["game", "record"])]
        spaces: bool,
        /// Compare with a running game, in step: this command starts it, and it answers JSON-RPC 2.0 on its standard input and output.
        #[arg(long, value_name = "COMMAND", conflicts_with_all = ["spaces", "second", "with"])]
        game: Option<String>,
        /// Names of the game for moves, values and glyphs of the model: a TOML file with tables named moves, values, glyphs.
        #[arg(long, value_name = "FILE", conflicts_with = "spaces")]
        names: Option<PathBuf>,
        /// Compare with plays that a game recorded: lines of JSON, one a move.
        #[arg(long, value_name = "FILE", conflicts_with_all = ["spaces", "second", "with", "game"])]
        record: Option<PathBuf>,
        /// Go on after the first difference, to one of each further kind.
        #[arg(long, conflicts_with = "spaces")]
        all: bool,
        /// Draw the first difference: before, the phases of the model, and the game (.svg or .png).
        #[arg(short, long, value_name = "FILE", conflicts_with = "spaces")]
        output: Option<PathBuf>,
        /// Light or dark.
        #[arg(long, value_enum, default_value_t = ThemeArg::Light)]
        theme: ThemeArg,
        /// Take the layout as known.
        #[arg(long)]
        known: bool,
    },
    /// New boards: made by shuffling, by the setup, by filling, by small changes, or as the farthest of all; judged by what is wanted of them.
    Draft {
        #[command(flatten)]
        level: LevelArgs,
        #[command(flatten)]
        order: DraftArgs,
    },
    /// Boards from other programs as a level file: tables of cells (.csv), and tile maps (.xml) as map editors write them.
    Import {
        /// The files; each is a level.
        #[arg(value_name = "FILE", required = true)]
        files: Vec<PathBuf>,
        /// The model, as a level file names it: one of the library, or a path from the level file that is written.
        #[arg(long, value_name = "NAME")]
        model: String,
        /// What the cells stand for: a TOML file with a table `cells` of texts and glyphs, and tables `layers.NAME` of tile numbers and variables.
        #[arg(long, value_name = "FILE")]
        tiles: Option<PathBuf>,
        /// The level file that is written (.toml).
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
    },
    /// The board of a level for another program: a table of cells (.csv), or a tile map (.xml).
    Export {
        #[command(flatten)]
        level: LevelArgs,
        /// What the cells stand for, as for `import`.
        #[arg(long, value_name = "FILE")]
        tiles: Option<PathBuf>,
        /// A tile map whose layers get the new tiles, and that stays as it is otherwise.
        #[arg(long, value_name = "FILE")]
        like: Option<PathBuf>,
        /// The file that is written (.csv, .xml).
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
    },
    /// The fewest changes after which the level is as it is wanted, with the proof that no fewer are enough.
    Mend {
        #[command(flatten)]
        level: LevelArgs,
        /// What the level is to be like: a condition over its figures, such as "moves >= 12 and dead == 0".
        #[arg(long, value_name = "CONDITION", default_value = "solvable")]
        want: String,
        /// What may change: variables that the board draws, or glyphs, such as "wall, barge, berth".
        #[arg(long, value_name = "NAMES")]
        may: String,
        /// Cells that stay as they are, such as "r1c1 r2c3".
        #[arg(long, value_name = "CELLS", default_value = "")]
        fixed: String,
        /// What a change of a variable costs where it is not 1, such as wall=3; may be repeated.
        #[arg(long = "cost", value_name = "NAME=N")]
        costs: Vec<String>,
        /// The greatest cost that is tried.
        #[arg(long, value_name = "N", default_value_t = 4, value_parser = clap::value_parser!(u32).range(1..=99))]
        most: u32,
        /// Write the mended level into this file (.toml), or draw before and after (.svg, .png); may be repeated.
        #[arg(short, long, value_name = "FILE")]
        output: Vec<PathBuf>,
        /// Light or dark.
        #[arg(long, value_enum, default_value_t = ThemeArg::Light)]
        theme: ThemeArg,
    },
    /// Test cases for your own code: positions, moves and results that show every way through the rules and catch mistakes in them.
    Cases {
        #[command(flatten)]
        level: LevelArgs,
        /// Write the cases into this file, as JSON (.json); without it they are listed.
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// So many cases at the most, the best ones; 60 by default.
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=10_000))]
        most: Option<u32>,
        /// Names of your code for moves, values and glyphs of the model: a TOML file with tables named moves, values, glyphs.
        #[arg(long, value_name = "FILE")]
        names: Option<PathBuf>,
    },
    /// Every level against what it expects.
    Audit {
        /// Level files, or folders of them; with --model also tables of cells (.csv) and tile maps (.xml).
        #[arg(value_name = "PACK", required = true)]
        paths: Vec<PathBuf>,
        /// The model of boards from other programs, as for `import`.
        #[arg(long, value_name = "NAME")]
        model: Option<String>,
        /// What their cells stand for, as for `import`.
        #[arg(long, value_name = "FILE", requires = "model")]
        tiles: Option<PathBuf>,
        /// Also write a report with pictures of the levels: a page (.html).
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Also write the results as JUnit XML (.xml), for a CI service.
        #[arg(long, value_name = "FILE")]
        junit: Option<PathBuf>,
        /// Write what holds today into a file beside the pack (frozen.json in a folder, NAME.frozen.json beside a file): from then on `audit` says
        /// what has changed since, and ends with 1.
        #[arg(long)]
        freeze: bool,
        /// Put the levels side by side instead, in the order of the pack: figures of difficulty, where they jump, neighbours of the same shape. -o draws
        /// it (.svg, .png).
        #[arg(long, conflicts_with_all = ["freeze", "junit"])]
        profile: bool,
    },
    /// Print a completion script for a shell.
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Print the manual page, in roff.
    Manual,
}

fn parse_count(text: &str) -> Result<u64, String> {
    let digits: String = text.chars().filter(|c| *c != '_' && *c != ',').collect();
    match digits.parse::<u64>() {
        Ok(0) => Err("at least 1".into()),
        Ok(n) => Ok(n),
        Err(_) => Err("a count is wanted, such as 1000000".into()),
    }
}

fn parse_size(text: &str) -> Result<u64, String> {
    let lower = text.trim().to_ascii_lowercase();
    let lower = lower.strip_suffix("ib").or(lower.strip_suffix('b')).unwrap_or(&lower);
    let (digits, unit) = match lower.chars().last() {
        Some('k') => (&lower[..lower.len() - 1], 1 << 10),
        Some('m') => (&lower[..lower.len() - 1], 1 << 20),
        Some('g') => (&lower[..lower.len() - 1], 1 << 30),
        _ => (lower, 1u64),
    };
    digits
        .parse::<u64>()
        .ok()
        .and_then(|n| n.checked_mul(unit))
        .filter(|&n| n >= 1 << 20)
        .ok_or_else(|| "a size of at least 1M is wanted, such as 500M or 4G".into())
}

fn parse_duration(text: &str) -> Result<Duration, String> {
    let text = text.trim();
    let (digits, unit) = if let Some(d) = text.strip_suffix("ms") {
        (d, 0.001)
    } else if let Some(d) = text.strip_suffix('s') {
        (d, 1.0)
    } else if let Some(d) = text.strip_suffix('m') {
        (d, 60.0)
    } else if let Some(d) = text.strip_suffix('h') {
        (d, 3600.0)
    } else {
        (text, 1.0)
    };
    match digits.parse::<f64>() {
        Ok(n) if n > 0.0 && n * unit < 1e9 => Ok(Duration::from_secs_f64(n * unit)),
        _ => Err("a duration is wanted, such as 30s or 5m".into()),
    }
}
