//! New boards for a model: made by shuffling, by the model's own setup, by filling a template, by small changes, or as the farthest of all; judged by
//! what is wanted of them.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

use fendle_core::graph::Distances;
use fendle_core::{Class, Explored, Limits};
use fendle_lang::Game;
use fendle_lang::play::{Tried, step_drawn};
use fendle_lang::run::Eval;
use fendle_lang::run::setup::Dice;
use fendle_lang::syntax::level::EXPECT_COUNTS;
use rayon::prelude::*;
use serde::Serialize;

use super::boards::{Board, Template};
use super::figures::{Figures, Judged, NAMES, judge};
use super::wish::{Wish, figures_json};
use crate::answer::{Answer, Asked, Trouble, Verdict};
use crate::budget::Budget;
use crate::hunt::Promise;
use crate::load::{Loaded, Store, drawn_again};
use crate::position::Position;
use crate::solve::solve;

/// States that are looked at for one board, where nothing else is said.
pub const BOARD_STATES: u64 = 300_000;
/// States of a space whose distances serve all boards at once.
const SHARED_STATES: u64 = 4_000_000;
/// Boards that are judged together.
const BATCH: u64 = 64;
/// Boards that are made anew before those that were kept are changed.
const FRESH: u64 = 128;
/// Placements that are all taken as starts.
const PLACEMENTS_MAX: usize = 400_000;

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
    /// What is put on plain cells.
    pub put: Vec<Put>,
    /// Glyphs that small changes may put, or take away.
    pub may: BTreeSet<String>,
    /// Cells that stay as they are.
    pub fixed: BTreeSet<usize>,
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
    found: Explored,
    distances: Distances,
}

impl Shared {
    /// Explores what can be reached from the starts of a game, past its goals. `None` where it is too large or breaks.
    pub fn of(game: &Game, budget: &Budget) -> Option<Shared> {
        let limits = Limits { drop_edges: false, number_from: u64::MAX, ..budget.limits() };
        let limits = Limits { max_states: limits.max_states.min(SHARED_STATES), ..limits };
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

/// Plays so many moves at random, none of which undoes the last one; `None` where play gets stuck before.
pub fn shuffled(level: &Loaded, from: &[i32], moves: u32, dice: &mut Dice) -> Option<Vec<i32>> {
    let b = &level.game.bound;
    let mut before: Option<Vec<i32>> = None;
    let mut here = from.to_vec();
    for _ in 0..moves {
        let mut order: Vec<usize> = (0..level.moves.list.len()).collect();
        let mut next = None;
        while next.is_none() && !order.is_empty() {
            let number = order.swap_remove(dice.below(order.len() as u64) as usize);
            if let Ok(Tried::Made(list)) = step_drawn(b, &level.moves, &here, number, true, dice) {
                next =
                    list.into_iter().map(|p| p.made.state).find(|s| Some(s) != before.as_ref() && *s != here);
            }
        }
        before = Some(std::mem::replace(&mut here, next?));
    }
    Some(here)
}

/// Something that may become a board.
enum Candidate {
    /// A position of the level itself.
    State(Vec<i32>),
    /// Another board.
    Board(Board),
    /// Nothing could be made: why.
    None(&'static str),
}

struct Maker<'m> {
    level: &'m Loaded,
    template: &'m Template,
    order: &'m Order,
    from: Vec<i32>,
    seed: u64,
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
    let maker = Maker { level, template, order, from, seed: budget.wanted().seed };
    let cheap = wish.names().union(&besides).all(|n| ["moves", "solvable"].contains(n));
    let states = matches!(order.by, By::Shuffle | By::Setup);
    let shared =
        if cheap && states && !hides { Shared::of(&level.game.at(maker.from.clone()), budget) } else { None };
    let most = budget.wanted().max_states.unwrap_or(BOARD_STATES);
    let limits = Limits { threads: 1, max_states: most, ..budget.limits() };
    let asked: BTreeSet<&'static str> = wish.names().union(&besides).copied().collect();
    let mut met: HashSet<Vec<String>> = HashSet::new();
    let mut kept: Vec<(f64, Drafted)> = vec![];
    while out.tried < order.tries && !budget.is_stopped() {
        let batch: Vec<u64> = (out.tried..(out.tried + BATCH).min(order.tries)).collect();
        let parents: Vec<&Drafted> = kept.iter().map(|k| &k.1).collect();
        let made: Vec<(u64, Candidate)> = batch.par_iter().map(|n| (*n, maker.make(*n, &parents))).collect();
        let mut fresh = vec![];
        for (n, candidate) in made {
            let board = match &candidate {
                Candidate::State(state) => template.drawn(b, state),
                Candidate::Board(board) => board.clone(),
                Candidate::None(why) => {
                    *out.fell.entry((*why).into()).or_default() += 1;
                    continue;
                }
            };
            let mut key = template.unturned(&board);
            key.extend(board.rest.iter().map(|(n, t)| format!("{n}={t}")));
            if met.insert(key) {
                fresh.push((n, candidate, board));
            } else {
                *out.fell.entry("made before, or turned or mirrored".into()).or_default() += 1;
            }
        }
        let judged: Vec<(Judged, Option<Arc<Loaded>>)> = fresh
            .par_iter()
            .map(|(_, candidate, _)| {
                maker.judge(store, candidate, shared.as_ref(), (&wish, &besides), &limits, budget)
            })
            .collect();
        out.tried += batch.len() as u64;
        for ((n, candidate, board), (judged, loaded)) in fresh.into_iter().zip(judged) {
            let figures = match judged {
                Judged::Good(figures) => figures,
                Judged::Bad(why) => {
                    *out.fell.entry(why).or_default() += 1;
                    continue;
                }
                Judged::Open => {
                    *out.fell.entry("not decided within the limits of a board".into()).or_default() += 1;
                    continue;
                }
                Judged::Breaks => {
                    *out.fell
                        .entry("the model breaks on it, or reads it as another board".into())
                        .or_default() += 1;
                    continue;
                }
            };
            out.good += 1;
            if order.most.is_none() && kept.len() >= order.keep {
                continue;
            }
            let rank = order.most.map_or(0.0, |name| figures.get(name).copied().unwrap_or(f64::NAN));
            let position = match (&candidate, &loaded) {
                (Candidate::State(state), _) => Position::new(b, state),
                (_, Some(own)) => Position::new(&own.game.bound, &own.game.bound.position),
                _ => continue,
            };
            let name = format!("{} {}", order.by.word(), n + 1);
            let text = template.text(&board, &name, &expect_of(&figures, &asked));
            let drafted = Drafted {
                name,
                number: n + 1,
                figures: figures_json(&figures),
                position,
                text,
                board,
                level: loaded,
            };
            kept.push((rank, drafted));
        }
        if order.most.is_some() {
            // The best first; of equal ones the one that was made first.
            kept.retain(|k| !k.0.is_nan());
            kept.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.number.cmp(&b.1.number)));
            kept.truncate(order.keep);
        } else if kept.len() >= order.keep {
            break;
        }
    }
    out.boards = kept.into_iter().map(|k| k.1).collect();
    let stopped = budget.stopped();
    let holds = match (out.boards.is_empty(), stopped) {
        (false, _) => Verdict::Holds,
        (true, None) => Verdict::Fails,
        (true, Some(_)) => Verdict::Undecided,
    };
    let tried = out.tried;
    Ok(Answer::new(Asked::of(level), holds, out).stopped(stopped, budget).took(budget, tried))
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
        }
    }
}

impl Maker<'_> {
    fn make(&self, n: u64, parents: &[&Drafted]) -> Candidate {
        let mut dice =
            Dice::new(self.seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ n.wrapping_mul(0xD1B5_4A32_D192_ED03));
        // Where most of something is wanted, every second board is one of the best, changed.
        let climbs = self.order.most.is_some() && n >= FRESH.min(self.order.tries / 4) && n % 2 == 1;
        if climbs && !parents.is_empty() {
            let parent = parents[dice.below(parents.len() as u64) as usize];
            return match self.order.by {
                By::Shuffle | By::Setup => {
                    let moves = 1 + dice.below(12) as u32;
                    shuffled(self.level, &parent.position.state, moves, &mut dice)
                        .map_or(Candidate::None("play was stuck"), Candidate::State)
                }
                _ => self.edited(&parent.board, &mut dice),
            };
        }
        match self.order.by {
            By::Shuffle => {
                let (least, most) = self.order.shuffles;
                let moves = least + dice.below(u64::from(most.saturating_sub(least)) + 1) as u32;
                match shuffled(self.level, &self.from, moves, &mut dice) {
                    Some(state) if self.runs(&state) => Candidate::State(state),
                    Some(_) => Candidate::None("it has ended already"),
                    None => Candidate::None("play was stuck"),
                }
            }
            By::Setup => {
                let b = &self.level.game.bound;
                match drawn_again(b, dice.below(u64::MAX - 1)) {
                    // What the player knows of a position has a beginning of its own.
                    Some(state) if b.model.hides() && !self.level.known => {
                        Candidate::Board(self.template.drawn(b, &state))
                    }
                    Some(state) => Candidate::State(state),
                    None => Candidate::None("the setup gave none"),
                }
            }
            By::Fill => self.filled(&mut dice).map_or(
                Candidate::None("what is to be put does not fit, or floor was cut off"),
                Candidate::Board,
            ),
            By::Edit | By::Deepest => self.edited(&self.template.board, &mut dice),
        }
    }

    fn runs(&self, state: &[i32]) -> bool {
        matches!(Eval::new(&self.level.game.bound).status(state), Ok(None))
    }

    /// Cells that may be filled or changed.
    fn open_cells(&self, board: &Board) -> Vec<usize> {
        let plain = self.template.plain().unwrap_or(".");
        let free = |c: &usize| {
            !self.order.fixed.contains(c)
                && (board.cells[*c] == plain || self.order.may.contains(&board.cells[*c]))
        };
        (0..board.cells.len()).filter(free).collect()
    }

    fn mirror(&self, cell: usize) -> usize {
        let (rows, cols) = (self.template.rows, self.template.cols);
        let (r, c) = (cell / cols, cell % cols);
        match self.order.mirrored {
            None => cell,
            Some(Mirror::Columns) => r * cols + (cols - 1 - c),
            Some(Mirror::Rows) => (rows - 1 - r) * cols + c,
        }
    }

    fn filled(&self, dice: &mut Dice) -> Option<Board> {
        let mut board = self.template.board.clone();
        let plain = self.template.plain()?.to_string();
        for put in &self.order.put {
            let many = put.least + dice.below((put.greatest - put.least) as u64 + 1) as usize;
            let mut left = many;
            let mut free: Vec<usize> = (0..board.cells.len())
                .filter(|c| board.cells[*c] == plain && !self.order.fixed.contains(c))
                .collect();
            while left > 0 {
                if free.is_empty() {
                    return None;
                }
                let at = free.swap_remove(dice.below(free.len() as u64) as usize);
                let other = self.mirror(at);
                if other == at {
                    board.cells[at].clone_from(&put.glyph);
                    left -= 1;
                } else if left >= 2 && board.cells[other] == plain && !self.order.fixed.contains(&other) {
                    board.cells[at].clone_from(&put.glyph);
                    board.cells[other].clone_from(&put.glyph);
                    free.retain(|c| *c != other);
                    left -= 2;
                }
            }
        }
        self.hangs_together(&board).then_some(board)
    }

    /// Whether the cells that somebody walks through hang together.
    fn hangs_together(&self, board: &Board) -> bool {
        if self.order.apart.is_empty() {
            return true;
        }
        let cols = self.template.cols;
        let floor = |c: usize| !self.order.apart.contains(&board.cells[c]);
        let all: Vec<usize> = (0..board.cells.len()).filter(|c| floor(*c)).collect();
        let Some(first) = all.first() else { return true };
        let mut met = HashSet::from([*first]);
        let mut open = vec![*first];
        while let Some(c) = open.pop() {
            let near = [
                (c >= cols).then(|| c - cols),
                (c + cols < board.cells.len()).then(|| c + cols),
                (c % cols > 0).then(|| c - 1),
                (c % cols + 1 < cols).then(|| c + 1),
            ];
            open.extend(near.into_iter().flatten().filter(|n| floor(*n) && met.insert(*n)));
        }
        met.len() == all.len()
    }

    /// A board with one to four cells changed; glyphs that are put count as they did, as far as the changes are exchanges.
    fn edited(&self, board: &Board, dice: &mut Dice) -> Candidate {
        let cells = self.open_cells(board);
        let plain = self.template.plain().unwrap_or(".").to_string();
        let mut glyphs: Vec<String> = self.order.may.iter().cloned().collect();
        if !glyphs.contains(&plain) {
            glyphs.push(plain);
        }
        if cells.len() < 2 || glyphs.len() < 2 {
            return Candidate::None("nothing may be changed: --may names glyphs or variables");
        }
        let mut board = board.clone();
        for _ in 0..1 + dice.below(3) {
            let at = cells[dice.below(cells.len() as u64) as usize];
            if dice.below(3) == 0 {
                let glyph = &glyphs[dice.below(glyphs.len() as u64) as usize];
                board.cells[at].clone_from(glyph);
            } else {
                let other = cells[dice.below(cells.len() as u64) as usize];
                board.cells.swap(at, other);
            }
        }
        let fits = self.order.put.iter().all(|put| {
            let n = board.cells.iter().filter(|g| **g == put.glyph).count();
            (put.least..=put.greatest).contains(&n)
        });
        match fits && self.hangs_together(&board) {
            true => Candidate::Board(board),
            false => Candidate::None("the change leaves what may be put, or cuts floor off"),
        }
    }

    fn judge(
        &self,
        store: &Store,
        candidate: &Candidate,
        shared: Option<&Shared>,
        wanted: (&Wish, &BTreeSet<&'static str>),
        limits: &Limits,
        budget: &Arc<Budget>,
    ) -> (Judged, Option<Arc<Loaded>>) {
        match candidate {
            Candidate::State(state) => {
                if let Some(depth) = shared.and_then(|s| s.depth(&self.level.game, state)) {
                    let moves = depth.map_or(f64::NAN, f64::from);
                    let figures =
                        Figures::from([("moves", moves), ("solvable", f64::from(u8::from(depth.is_some())))]);
                    return match wanted.0.holds(&figures) {
                        Some(true) => (Judged::Good(figures), None),
                        _ => (Judged::Bad(wanted.0.failing(&figures).unwrap_or_default()), None),
                    };
                }
                let level = self.level.at(state);
                (judge(store, &level, wanted, limits, budget), None)
            }
            Candidate::Board(board) => match self.template.load(board, "draft", budget) {
                Some(mut level) => {
                    level.known = self.level.known;
                    let judged = judge(store, &level, wanted, limits, budget);
                    (judged, Some(Arc::new(level)))
                }
                None => (Judged::Breaks, None),
            },
            Candidate::None(_) => (Judged::Open, None),
        }
    }
}

/// All ways to put the glyphs on plain cells, as boards; `None` where there are too many.
fn placements(template: &Template, order: &Order) -> Option<Vec<Board>> {
    let plain = template.plain()?.to_string();
    let mut list = vec![template.board.clone()];
    for put in &order.put {
        // Each cell after the one before: a set of cells is met once.
        let mut next: Vec<(Board, usize)> = list.into_iter().map(|b| (b, 0)).collect();
        for _ in 0..put.least {
            let mut more = vec![];
            for (board, from) in &next {
                for at in (*from..board.cells.len())
                    .filter(|c| board.cells[*c] == plain && !order.fixed.contains(c))
                {
                    let mut board = board.clone();
                    board.cells[at].clone_from(&put.glyph);
                    more.push((board, at + 1));
                    if more.len() > PLACEMENTS_MAX {
                        return None;
                    }
                }
            }
            next = more;
        }
        list = next.into_iter().map(|b| b.0).collect();
    }
    Some(list)
}

/// The farthest starts of a space.
struct Farthest {
    moves: u32,
    count: u64,
    /// Some of them.
    states: Vec<Vec<i32>>,
    /// States of the space.
    of: u64,
}

/// The farthest starts, from a space that is kept by number; `None` where it is not, or cannot be gone through backwards.
fn farthest_by_number(game: &Game, keep: usize, budget: &Budget) -> Result<Option<Farthest>, Trouble> {
    let limits = Limits { drop_edges: true, ..budget.limits() };
    let Ok(found) = fendle_core::explore(game, limits, true, budget) else { return Ok(None) };
    if let Some(limit) = found.counts.limit {
        return Err(Trouble::Limit(limit));
    }
    if found.counts.numbers.is_none() || !found.counts.complete || found.fault.is_some() {
        return Ok(None);
    }
    match found.farthest(game, limits.memory_bytes, budget) {
        None => Ok(None),
        Some(Err(limit)) => Err(Trouble::Limit(limit)),
        Some(Ok((moves, ids))) => {
            let states = ids.iter().take(keep).map(|id| game.unpack(&found.space.state(*id))).collect();
            Ok(Some(Farthest { moves, count: ids.len() as u64, states, of: found.counts.states }))
        }
    }
}

/// The farthest starts, from a space whose distances are all made.
fn farthest(game: &Game, keep: usize, budget: &Budget) -> Result<Farthest, Trouble> {
    let Some(shared) = Shared::of(game, budget) else {
        return match budget.stopped() {
            Some(limit) => Err(Trouble::Limit(limit)),
            None => Err(Trouble::Undecided(format!(
                "more than {SHARED_STATES} positions, or moves with chance: the farthest start is not known"
            ))),
        };
    };
    let space = &shared.found.space;
    let mut best = Farthest { moves: 0, count: 0, states: vec![], of: shared.found.counts.states };
    for id in space.ids().filter(|id| space.class(*id) == Class::Winnable) {
        let Some(moves) = shared.distances.get(id) else { continue };
        if moves > best.moves {
            best = Farthest { moves, count: 0, states: vec![], ..best };
        }
        if moves == best.moves {
            best.count += 1;
            if best.states.len() < keep {
                best.states.push(game.unpack(&space.state(id)));
            }
        }
    }
    Ok(best)
}

fn deepest(
    level: &Loaded,
    template: &Template,
    order: &Order,
    out: &mut Draft,
    budget: &Arc<Budget>,
) -> Result<(), Trouble> {
    let mut game = level.game.at(level.game.bound.position.clone());
    if !order.put.is_empty() {
        if order.put.iter().any(|p| p.least != p.greatest) {
            return Err("--by deepest puts an exact number of each glyph, such as \"o 2\"".into());
        }
        let Some(list) = placements(template, order) else {
            return Err(Trouble::Undecided(format!("there are more than {PLACEMENTS_MAX} placements")));
        };
        let states: Vec<Vec<i32>> = (list.par_iter())
            .filter_map(|board| {
                let own = template.load(board, "placement", budget)?;
                let b = &own.game.bound;
                // Positions of one level: what a glyph says of the level itself would make another one.
                (b.data == level.game.bound.data).then(|| b.position.clone())
            })
            .collect();
        if states.is_empty() {
            return Err("none of the placements is a position of this level".into());
        }
        out.tried = states.len() as u64;
        game.starts = states.into_iter().map(|s| (s, 1)).collect();
    }
    let best = match farthest_by_number(&game, order.keep, budget)? {
        Some(best) => best,
        None => farthest(&game, order.keep, budget)?,
    };
    out.tried = out.tried.max(best.of);
    out.deepest = Some(Deepest { moves: best.moves, count: best.count, of: best.of });
    out.good = best.count;
    for (n, state) in best.states.into_iter().enumerate() {
        let figures = Figures::from([("moves", f64::from(best.moves)), ("solvable", 1.0)]);
        let name = format!("deepest {}", n + 1);
        let board = template.drawn(&level.game.bound, &state);
        out.boards.push(Drafted {
            text: template.text(&board, &name, &expect_of(&figures, &BTreeSet::new())),
            name,
            number: n as u64 + 1,
            figures: figures_json(&figures),
            position: Position::new(&level.game.bound, &state),
            board,
            level: None,
        });
    }
    Ok(())
}
