//! New boards for a model: made by shuffling, by the model's own setup, by filling a template, by small changes, or as the farthest of all; judged by
//! what is wanted of them.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

use fendle_core::graph::Distances;
use fendle_core::{Class, Explored, Limits};
use fendle_lang::Game;
use fendle_lang::syntax::level::EXPECT_COUNTS;
use rayon::prelude::*;
use serde::Serialize;

use super::boards::{Board, Template};
use super::deepest::deepest;
use super::figures::{Figures, Judged, NAMES};
use super::maker::{Candidate, Maker};
use super::wish::{Wish, figures_json};
use crate::answer::{Answer, Asked, Trouble, Verdict};
use crate::budget::Budget;
use crate::hunt::Promise;
use crate::load::{Loaded, Store};
use crate::position::Position;
use crate::solve::solve;

/// States that are looked at for one board, where nothing else is said.
pub const BOARD_STATES: u64 = 300_000;
/// States of a space whose distances serve all boards at once.
pub(super) const SHARED_STATES: u64 = 4_000_000;
/// Boards that came near to what is wanted, and are changed further.
const NEAR: usize = 8;
/// Why a board fell away of which it is not known whether it is as it is wanted.
const NOT_DECIDED: &str = "not decided within the limits of a board";
/// Boards that are judged together.
const BATCH: u64 = 64;

/// Where boards come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum By {
    /// Legal moves from the solved or given position, none of which undoes the last one.
    Shuffle,
    /// The model's own setup.
    Setup,
    /// Glyphs put on the plain cells of the level.
    Fill,
    /// Small changes of the level's board.
    Edit,
    /// All positions that can be reached, or all placements: the farthest from a goal.
    Deepest,
    /// The level's own board, with each choice of some of its values.
    Tune,
}

/// How many of a glyph are put on a board.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Put {
    /// The glyph.
    pub glyph: String,
    /// At least.
    pub least: usize,
    /// At most.
    pub greatest: usize,
    /// Only on cells that bear this letter in [`Order::cells`].
    pub within: Option<char>,
}

/// A level value that is chosen among whole numbers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tuned {
    /// Its name.
    pub name: String,
    /// The least number.
    pub least: i64,
    /// The greatest.
    pub greatest: i64,
}

/// How the first move of a hidden board is kept from losing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Safe {
    /// What would lose is moved to another place.
    Move,
    /// The whole board is made again.
    Again,
}

/// What is mirrored on a filled board.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mirror {
    /// The left half is the right half.
    Columns,
    /// The upper half is the lower half.
    Rows,
}

/// What boards are wanted.
#[derive(Clone, Debug)]
pub struct Order {
    /// Where they come from.
    pub by: By,
    /// What they are to be like.
    pub wish: Option<Wish>,
    /// The figure of which most is wanted.
    pub most: Option<&'static str>,
    /// How many are kept.
    pub keep: usize,
    /// How many are tried.
    pub tries: u64,
    /// How many moves a shuffle has, at least and at most.
    pub shuffles: (u32, u32),
    /// Shuffles go against the direction of play: moves are taken back.
    pub backwards: bool,
    /// What is put on plain cells.
    pub put: Vec<Put>,
    /// Glyphs that small changes may put, or take away.
    pub may: BTreeSet<String>,
    /// Cells that stay as they are.
    pub fixed: BTreeSet<usize>,
    /// A letter for each cell, for what is put on some of them only; empty where none is.
    pub cells: Vec<char>,
    /// Level values that are chosen.
    pub tune: Vec<Tuned>,
    /// A first move that is made on each board and must not lose, by its number in the level's move table.
    pub first: Option<(usize, Safe)>,
    /// Boards of an earlier draft with the numbers of their tries, from which climbing goes on; and how many were tried.
    pub earlier: (Vec<(u64, Board)>, u64),
    /// What is mirrored.
    pub mirrored: Option<Mirror>,
    /// Glyphs that no one walks through: the other cells are to hang together.
    pub apart: BTreeSet<String>,
}

/// A board that was made.
#[derive(Clone, Debug, Serialize)]
pub struct Drafted {
    /// Its name.
    pub name: String,
    /// Which try made it, from 1.
    #[serde(rename = "try")]
    pub number: u64,
    /// Level values that were chosen for it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<(String, i64)>,
    /// Its figures.
    pub figures: BTreeMap<&'static str, Option<f64>>,
    /// Its position.
    pub position: Position,
    /// Its level, as it is written in a level file.
    pub text: String,
    /// The board.
    #[serde(skip)]
    pub board: Board,
    /// The level of this board, for a picture.
    #[serde(skip)]
    pub level: Option<Arc<Loaded>>,
}

/// What drafting came to.
#[derive(Clone, Debug, Serialize)]
pub struct Draft {
    /// Where boards came from.
    pub by: By,
    /// What was wanted.
    pub want: String,
    /// The boards, in the order in which they were made, or the best first.
    pub boards: Vec<Drafted>,
    /// How many were tried.
    pub tried: u64,
    /// How many were as wanted.
    pub good: u64,
    /// Why the others fell away, and how many for each reason.
    pub fell: BTreeMap<String, u64>,
    /// The figures that were asked for, in the order of a table.
    #[serde(skip)]
    pub shown: Vec<&'static str>,
    /// Among the deepest: how many positions were looked at, and how many moves the farthest of them need.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub deepest: Option<Deepest>,
}

/// The farthest starts.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct Deepest {
    /// Moves that they need.
    pub moves: u32,
    /// How many of them there are.
    pub count: u64,
    /// Positions that were looked at: all that can be reached, or all placements and what can be reached from them.
    pub of: u64,
}

/// A space whose distances serve many boards: those that are positions of it.
pub struct Shared {
    pub(super) found: Explored,
    pub(super) distances: Distances,
}

impl Shared {
    /// Explores what can be reached from the starts of a game, past its goals. `None` where it is too large or breaks.
    pub fn of(game: &Game, budget: &Budget) -> Option<Shared> {
        let limits =
            Limits { drop_edges: false, number_from: u64::MAX, ..budget.limits_within(SHARED_STATES) };
        let found = fendle_core::explore(game, limits, true, budget).ok()?;
        if !found.counts.complete || found.fault.is_some() || found.counts.chance {
            return None;
        }
        let distances = Distances::in_space(&found.space, budget).ok()?;
        Some(Shared { found, distances })
    }

    /// The greatest number of moves that a position needs.
    pub fn farthest(&self) -> u32 {
        let space = &self.found.space;
        let winnable = space.ids().filter(|id| space.class(*id) == Class::Winnable);
        winnable.filter_map(|id| self.distances.get(id)).max().unwrap_or(0)
    }

    /// Moves from a position to a goal; `None` inside where there is no way, `None` outside where the position is not among them.
    #[allow(clippy::option_option)]
    pub fn depth(&self, game: &Game, state: &[i32]) -> Option<Option<u32>> {
        let id = self.found.space.find(&game.pack(state))?;
        Some(match self.found.space.class(id) {
            Class::Goal | Class::Winnable => self.distances.get(id),
            _ => None,
        })
    }
}

/// A position from which shuffling begins: the solved one where a solution is found, else the level's own.
pub fn solved_start(store: &Store, level: &Loaded, budget: &Budget) -> Vec<i32> {
    let start = level.game.bound.position.clone();
    if fendle_lang::play::is_won(&level.game.bound, &start) {
        return start;
    }
    match solve(store, level, Promise::Any, budget, None) {
        Ok(answer) => answer.found.positions.last().map_or(start, |p| p.state.clone()),
        Err(_) => start,
    }
}

/// A draft that is being made.
struct Drafting<'d> {
    store: &'d Store,
    maker: Maker<'d>,
    template: &'d Template,
    level: &'d Loaded,
    order: &'d Order,
    wish: Wish,
    /// Figures that are found out beside those of the wish.
    besides: BTreeSet<&'static str>,
    shared: Option<Shared>,
    limits: Limits,
    budget: &'d Arc<Budget>,
    /// Boards that were made, each in one form for all that are turned or mirrored.
    met: HashSet<Vec<String>>,
    /// Boards that were kept, with their rank.
    kept: Vec<(f64, Drafted)>,
    /// Small changes that came nearest to what is wanted: how far they are off, and their numbers.
    near: Vec<(f64, u64, Board)>,
    out: Draft,
}

/// Drafts boards.
///
/// # Errors
///
/// [`Trouble`] when nothing can be made.
pub fn draft(
    store: &Store,
    level: &Loaded,
    template: &Template,
    order: &Order,
    budget: &Arc<Budget>,
) -> Result<Answer<Draft>, Trouble> {
    let b = &level.game.bound;
    let hides = b.model.hides() && !level.known;
    let wish = match &order.wish {
        Some(wish) => wish.clone(),
        None if hides => Wish::read("no_guess").map_err(Trouble::Message)?,
        None => Wish::read("solvable").map_err(Trouble::Message)?,
    };
    let mut besides: BTreeSet<&'static str> = order.most.into_iter().collect();
    besides.insert(if hides { "guesses" } else { "moves" });
    if order.by == By::Tune && !hides {
        // Chance: the moves of a lucky play are no figure of it.
        besides.remove("moves");
    }
    let mut out = Draft {
        by: order.by,
        want: wish.words(),
        boards: vec![],
        tried: 0,
        good: 0,
        fell: BTreeMap::new(),
        deepest: None,
        shown: (NAMES.iter().map(|f| f.0))
            .filter(|n| wish.names().contains(n) || besides.contains(n))
            .collect(),
    };
    if order.by == By::Deepest {
        deepest(level, template, order, &mut out, budget)?;
        let holds = if out.boards.is_empty() { Verdict::Fails } else { Verdict::Holds };
        let of = out.deepest.map_or(0, |d| d.of);
        return Ok(Answer::new(Asked::of(level), holds, out).took(budget, of));
    }
    let from = if order.by == By::Shuffle { solved_start(store, level, budget) } else { b.position.clone() };
    let maker = Maker::new(level, template, order, from, budget)?;
    let cheap = wish.names().union(&besides).all(|n| ["moves", "solvable"].contains(n));
    let states = matches!(order.by, By::Shuffle | By::Setup) && order.first.is_none() && !order.backwards;
    let shared =
        if cheap && states && !hides { Shared::of(&level.game.at(maker.from.clone()), budget) } else { None };
    let most = budget.wanted().max_states.unwrap_or(BOARD_STATES);
    let limits = Limits { threads: 1, max_states: most, ..budget.limits() };
    let (met, kept) = (HashSet::new(), vec![]);
    let mut making = Drafting {
        store,
        maker,
        template,
        level,
        order,
        wish,
        besides,
        shared,
        limits,
        budget,
        met,
        kept,
        near: vec![],
        out,
    };
    making.run();
    let mut out = making.out;
    out.boards = making.kept.into_iter().map(|k| k.1).collect();
    let stopped = budget.stopped();
    let holds = match (out.boards.is_empty(), stopped) {
        (false, _) => Verdict::Holds,
        // One of those that were not decided may be as it is wanted.
        (true, None) if !out.fell.contains_key(NOT_DECIDED) => Verdict::Fails,
        (true, _) => Verdict::Undecided,
    };
    let tried = out.tried;
    Ok(Answer::new(Asked::of(level), holds, out).stopped(stopped, budget).took(budget, tried))
}

impl Drafting<'_> {
    /// Makes and judges boards, until there are enough of them.
    fn run(&mut self) {
        let (earlier, begun) = (&self.order.earlier.0, self.order.earlier.1);
        let again: Vec<(u64, Candidate)> = (earlier.iter())
            .map(|(number, board)| (number.saturating_sub(1), self.maker.earlier(board)))
            .collect();
        if !again.is_empty() {
            self.take(again);
        }
        let end = begun + self.maker.all().unwrap_or(u64::MAX).min(self.order.tries);
        let mut next = begun;
        while next < end && !self.budget.is_stopped() {
            let batch: Vec<u64> = (next..(next + BATCH).min(end)).collect();
            let parents: Vec<&Drafted> = self.kept.iter().map(|k| &k.1).collect();
            let near: Vec<&Board> = self.near.iter().map(|n| &n.2).collect();
            let made = batch.par_iter().map(|n| (*n, self.maker.make(*n, &parents, &near))).collect();
            next += batch.len() as u64;
            self.take(made);
            self.out.tried = next - begun;
            if self.order.most.is_none() && self.kept.len() >= self.order.keep {
                break;
            }
        }
    }

    /// Notes that a candidate fell away.
    fn falls(&mut self, why: impl Into<String>) {
        *self.out.fell.entry(why.into()).or_default() += 1;
    }

    /// Judges candidates, and keeps those that are wanted.
    fn take(&mut self, made: Vec<(u64, Candidate)>) {
        let b = &self.level.game.bound;
        let mut fresh = vec![];
        for (n, candidate) in made {
            let board = match &candidate {
                Candidate::State(state) => self.template.drawn(b, state),
                Candidate::Board(board) => board.clone(),
                Candidate::None(why) => {
                    self.falls(*why);
                    continue;
                }
            };
            let mut key = self.template.unturned(&board);
            key.extend(board.rest.iter().map(|(n, t)| format!("{n}={t}")));
            key.extend(board.values.iter().map(|(n, v)| format!("{n}={v}")));
            if self.met.insert(key) {
                fresh.push((n, candidate, board));
            } else {
                self.falls("made before, or turned or mirrored");
            }
        }
        let wanted = (&self.wish, &self.besides);
        let judged: Vec<(Judged, Option<Arc<Loaded>>)> = fresh
            .par_iter()
            .map(|(_, candidate, _)| {
                self.maker.judge(
                    self.store,
                    candidate,
                    self.shared.as_ref(),
                    wanted,
                    &self.limits,
                    self.budget,
                )
            })
            .collect();
        for ((n, candidate, board), (judged, loaded)) in fresh.into_iter().zip(judged) {
            match judged {
                Judged::Good(figures) => self.keep(n, &candidate, board, &figures, loaded),
                Judged::Bad(why, figures) => {
                    self.falls(why);
                    if self.order.by == By::Edit {
                        self.near.push((self.wish.shortfall(&figures), n, board));
                    }
                }
                Judged::Open => self.falls(NOT_DECIDED),
                Judged::Breaks => self.falls("the model breaks on it, or reads it as another board"),
            }
        }
        self.near.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        self.near.truncate(NEAR);
        if self.order.most.is_some() {
            // The best first; of equal ones the one that was made first.
            self.kept.retain(|k| !k.0.is_nan());
            self.kept.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.number.cmp(&b.1.number)));
            self.kept.truncate(self.order.keep);
        }
    }

    /// Keeps a board that is as it is wanted.
    fn keep(
        &mut self,
        n: u64,
        candidate: &Candidate,
        board: Board,
        figures: &Figures,
        loaded: Option<Arc<Loaded>>,
    ) {
        self.out.good += 1;
        if self.order.most.is_none() && self.kept.len() >= self.order.keep {
            return;
        }
        let rank = self.order.most.map_or(0.0, |name| figures.get(name).copied().unwrap_or(f64::NAN));
        let position = match (candidate, &loaded) {
            (Candidate::State(state), _) => Position::new(&self.level.game.bound, state),
            (_, Some(own)) => Position::new(&own.game.bound, &own.game.bound.position),
            _ => return,
        };
        let name = format!("{} {}", self.order.by.word(), n + 1);
        let asked: BTreeSet<&'static str> = self.wish.names().union(&self.besides).copied().collect();
        let text = self.template.text(&board, &name, &expect_of(figures, &asked));
        let drafted = Drafted {
            name,
            number: n + 1,
            values: board.values.clone(),
            figures: figures_json(figures),
            position,
            text,
            board,
            level: loaded,
        };
        self.kept.push((rank, drafted));
    }
}

impl Order {
    /// Whether something may be put on a cell.
    #[must_use]
    pub fn takes(&self, put: &Put, cell: usize) -> bool {
        let here = self.cells.get(cell);
        !self.fixed.contains(&cell) && put.within.is_none_or(|letter| here == Some(&letter))
    }
}

/// What a level file may expect of a board with these figures: those that were asked for, and whether it can be solved in how many moves.
pub(super) fn expect_of(figures: &Figures, asked: &BTreeSet<&'static str>) -> Vec<(String, String)> {
    let mut out = vec![];
    let always = ["solvable", "moves", "guesses", "no_guess"];
    for (name, value) in figures.iter().filter(|f| asked.contains(f.0) || always.contains(f.0)) {
        let whole = value.is_finite() && value.fract() == 0.0 && *value >= 0.0;
        match *name {
            // With hidden things it is about what the player can know, which few levels are small enough for.
            "solvable" if figures.contains_key("no_guess") => {}
            "solvable" | "no_guess" => out.push(((*name).to_string(), (*value != 0.0).to_string())),
            _ if whole && EXPECT_COUNTS.contains(name) => {
                out.push(((*name).to_string(), format!("{value:.0}")))
            }
            _ => {}
        }
    }
    out
}

impl By {
    /// The word on the command line.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            By::Shuffle => "shuffle",
            By::Setup => "setup",
            By::Fill => "fill",
            By::Edit => "edit",
            By::Deepest => "deepest",
            By::Tune => "tune",
        }
    }
}
