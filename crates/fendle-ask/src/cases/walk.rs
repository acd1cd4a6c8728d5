//! Positions and moves to choose test cases from: breadth first from the start, along a solution, and by random play.

use std::collections::HashMap;

use fendle_core::Limit;
use fendle_lang::model::{Dom, Extent};
use fendle_lang::run::RunFault;
use fendle_lang::run::marks::{Mark, Way};
use fendle_lang::run::next_way;
use fendle_lang::run::setup::{Dice, sample};

use super::trial::{Run, Seen, Trial, ended, try_move};
use crate::budget::Budget;
use crate::load::Loaded;

/// Parts of expressions that are evaluated for the positions, at the most.
const WORK: u64 = 60_000_000;
/// The share of them that is spent breadth first, where not everything can be seen.
const BROAD: u64 = WORK / 2;
/// Trials that are kept.
const TRIALS_MAX: usize = 600_000;
/// Outcomes of a move that are all tried; of more than these some are drawn.
const OUTCOMES_ALL: usize = 24;
/// Outcomes that are drawn where there are more.
const OUTCOMES_DRAWN: usize = 4;
/// Starts that a setup is asked for.
const STARTS: u64 = 8;
/// Starts of a setup that are all looked at.
const STARTS_ALL: usize = 64;
/// Moves of a random play.
const PLAY_MOVES: usize = 400;
/// Trials that are kept for each thing that they show.
const KEPT: usize = 3;
/// Combinations of ways through the rules that are told apart.
const COMBINATIONS: usize = 300;

/// Something that a test case can show.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Shows {
    /// A statement went this way.
    Went(Mark),
    /// It did so twice in one move, or more often.
    Again(Mark),
    /// The move was made.
    Made(usize),
    /// The move is not offered.
    NotOffered(usize),
    /// The move is refused for this reason, in this direction where it has one.
    Refused(usize, String, Option<i64>),
    /// The position after it is an ending, or none, and how.
    Ends(String),
    /// No move is allowed after it.
    Stuck,
    /// After it one move more ends the game so.
    OneBefore(String),
    /// The game is over before it, so.
    Over(String),
    /// The move changes the first row, the last row, the first column, the last column, or one of the four corners: which of these.
    Edge(usize, u8),
    /// It is refused at a cell there.
    RefusedEdge(usize, u8),
    /// The move is made at a cell in the first row, the last row, the first column, the last column, or a corner.
    At(usize, u8),
    /// The board is full, and the game goes on: before the move, and whether the move is allowed.
    Full(bool),
    /// The board is full after the move, and the game goes on.
    Fills,
    /// A value was drawn.
    Drew(String),
    /// A cell was drawn: the first one, the last one, the only one that could be.
    DrewCell(u8),
    /// A phase changed something, or did not.
    Phase(String, bool),
    /// Score was gained, or none.
    Scored(bool),
    /// A combination of ways through the rules, by a number; in this direction.
    Way(u32, Option<i64>),
}

/// What was met.
pub struct Walk {
    /// The positions.
    pub states: Vec<Vec<i32>>,
    /// How each has ended, where it has.
    pub ended: Vec<Option<String>>,
    /// The trials.
    pub trials: Vec<Trial>,
    /// Every position that can be reached from the start is among the positions, and every move was tried in all of its outcomes.
    pub complete: bool,
    /// The limit that was hit.
    pub limit: Option<Limit>,
    /// For each thing that was shown the first trials that show it.
    pub shown: HashMap<Shows, Vec<u32>>,
    /// Positions whose moves were tried.
    pub opened: usize,
}

struct Walker<'w> {
    level: &'w Loaded,
    budget: &'w Budget,
    out: Walk,
    index: HashMap<Vec<i32>, u32>,
    /// The trials of each position whose moves were tried.
    trials_of: Vec<Option<std::ops::Range<u32>>>,
    work: u64,
    combinations: HashMap<u64, u32>,
    /// The variables that are grids or sets, for boards that are full.
    boards: Vec<std::ops::Range<usize>>,
    /// Where in a state a cell stands by itself.
    cells: Vec<usize>,
}

/// Why the walk ends before its end.
enum Ends {
    /// Enough was done.
    Enough,
    /// A limit.
    Limit(Limit),
    /// The model breaks in this position, at this move.
    Breaks(RunFault, Vec<i32>),
}

/// A model fault, and the position that shows it.
pub type Broken = (RunFault, Vec<i32>);

/// Walks. `way`: the positions of a solution, where one is known.
///
/// # Errors
///
/// A model fault.
pub fn walk(level: &Loaded, way: &[Vec<i32>], budget: &Budget) -> Result<Walk, Broken> {
    let b = &level.game.bound;
    let boards = (b.model.vars.iter().zip(&b.slots))
        .filter(|(def, _)| def.state && matches!(def.shape, Extent::Grid | Extent::Set))
        .map(|(_, slot)| slot.base..slot.base + slot.len)
        .filter(|r| !r.is_empty())
        .collect();
    let cells = (b.model.vars.iter().zip(&b.slots))
        .filter(|(def, slot)| {
            def.state && def.shape == Extent::One && matches!(def.dom, Dom::Cell) && slot.len == 1
        })
        .map(|(_, slot)| slot.base)
        .collect();
    let out = Walk {
        states: vec![],
        ended: vec![],
        trials: vec![],
        complete: false,
        limit: None,
        shown: HashMap::new(),
        opened: 0,
    };
    let mut w = Walker {
        level,
        budget,
        out,
        index: HashMap::new(),
        trials_of: vec![],
        work: 0,
        combinations: HashMap::new(),
        boards,
        cells,
    };
    match w.all(way) {
        Ok(()) | Err(Ends::Enough) => {}
        Err(Ends::Limit(limit)) => w.out.limit = Some(limit),
        Err(Ends::Breaks(fault, state)) => return Err((fault, state)),
    }
    w.borders();
    Ok(w.out)
}

impl Walker<'_> {
    fn all(&mut self, way: &[Vec<i32>]) -> Result<(), Ends> {
        let b = &self.level.game.bound;
        let start = self.meet(b.position.clone())?;
        let mut exact = !b.drawn;
        let mut starts = vec![start];
        // Where the setup draws from few starts, all of them; else some, by seed.
        let all = if b.drawn { fendle_lang::run::setup::all(b).ok().flatten() } else { None };
        if let Some(all) = all.filter(|all| all.starts.len() <= STARTS_ALL) {
            for (state, _) in all.starts {
                starts.push(self.meet(state)?);
            }
            exact = true;
        } else if b.drawn {
            let first = self.budget.wanted().seed;
            for seed in first..first.saturating_add(STARTS) {
                if let Ok(drawn) = sample(b, seed) {
                    starts.push(self.meet(drawn.state)?);
                }
            }
        }
        let mut at = 0;
        while at < self.out.states.len() && self.work < BROAD {
            exact &= self.open(at)?;
            at += 1;
        }
        if at == self.out.states.len() {
            self.out.complete = exact;
            return Ok(());
        }
        self.along(way)?;
        let mut dice = Dice::new(self.budget.wanted().seed);
        // Plays that end early cost little: their number is bounded, too.
        for from in starts.iter().cycle().take(10_000) {
            self.play(*from, &mut dice)?;
        }
        Ok(())
    }

    /// Takes a position in; its number.
    fn meet(&mut self, state: Vec<i32>) -> Result<u32, Ends> {
        if let Some(&at) = self.index.get(&state) {
            return Ok(at);
        }
        let ended = ended(&self.level.game.bound, &state);
        let ended = ended.map_err(|fault| self.broke(fault, &state))?;
        let at = self.out.states.len() as u32;
        self.index.insert(state.clone(), at);
        self.out.states.push(state);
        self.out.ended.push(ended);
        self.trials_of.push(None);
        Ok(at)
    }

    fn broke(&self, fault: RunFault, state: &[i32]) -> Ends {
        match self.budget.stopped() {
            Some(limit) => Ends::Limit(limit),
            None => Ends::Breaks(fault, state.to_vec()),
        }
    }

    /// Tries every move in a position. Says whether all outcomes were tried.
    fn open(&mut self, at: usize) -> Result<bool, Ends> {
        if self.trials_of[at].is_some() {
            return Ok(true);
        }
        if let Some(limit) = self.budget.stopped() {
            return Err(Ends::Limit(limit));
        }
        if self.out.opened as u64 >= self.budget.limits().max_states {
            return Err(Ends::Limit(Limit::MaxStates));
        }
        if self.out.trials.len() > TRIALS_MAX || self.work > WORK {
            return Err(Ends::Enough);
        }
        self.out.opened += 1;
        let from = self.out.trials.len() as u32;
        let moves = self.level.moves.list.len();
        if let Some(how) = self.out.ended[at].clone() {
            for number in 0..moves {
                let trial = Trial { state: at as u32, number: number as u32, take: vec![], to: None };
                self.keep(trial, [Shows::Over(how.clone())]);
            }
            self.trials_of[at] = Some(from..self.out.trials.len() as u32);
            return Ok(true);
        }
        let mut all = true;
        for number in 0..moves {
            all &= self.outcomes(at, number)?;
        }
        self.trials_of[at] = Some(from..self.out.trials.len() as u32);
        Ok(all)
    }

    /// Tries the outcomes of a move. Whether all were tried.
    fn outcomes(&mut self, at: usize, number: usize) -> Result<bool, Ends> {
        let (seen, run) = self.trial(at, number, vec![])?;
        if run.of.is_empty() || !matches!(seen, Seen::Made(_)) {
            return Ok(true);
        }
        let many = run.of.iter().try_fold(1usize, |n, of| n.checked_mul(*of)).unwrap_or(usize::MAX);
        if many > OUTCOMES_ALL {
            let mut dice = Dice::new(self.budget.wanted().seed ^ ((at as u64) << 20) ^ number as u64);
            for _ in 0..OUTCOMES_DRAWN {
                // As many draws as the first outcome has: past these the first thing is taken.
                let take = run.of.iter().map(|of| dice.below(*of as u64) as usize).collect();
                self.trial(at, number, take)?;
            }
            self.trial(at, number, run.of.iter().map(|of| of - 1).collect())?;
            return Ok(false);
        }
        let mut take = vec![];
        let mut of = run.of;
        for _ in 0..4 * OUTCOMES_ALL {
            if !next_way(&mut take, &of) {
                return Ok(true);
            }
            of = self.trial(at, number, take.clone())?.1.of;
        }
        Ok(false)
    }

    /// Tries one outcome of a move.
    fn trial(&mut self, at: usize, number: usize, take: Vec<usize>) -> Result<(Seen, Run), Ends> {
        let level = self.level;
        let (b, moves) = (&level.game.bound, &level.moves);
        let mut run = Run::default();
        let state = self.out.states[at].clone();
        let seen = try_move(b, moves, &state, (number, &take), &mut run);
        let seen = seen.map_err(|fault| self.broke(fault, &state))?;
        self.work += run.work + 20;
        let mut to = None;
        if let Seen::Made(done) = &seen {
            if !done.cut {
                to = Some(self.meet(done.state.clone())?);
            }
        } else if let Seen::Breaks(_) = &seen {
            // Tried again for the fault itself, with its place.
            let (of, params) = &moves.list[number];
            let again = fendle_lang::run::Eval::new(b).apply_along(&state, (*of, params), &take);
            if let Err(fault) = again {
                return Err(self.broke(fault, &state));
            }
        }
        let shows = self.shows(&state, number, &seen, &run);
        let trial = Trial { state: at as u32, number: number as u32, take, to };
        self.keep(trial, shows);
        Ok((seen, run))
    }

    fn keep(&mut self, trial: Trial, shows: impl IntoIterator<Item = Shows>) {
        let at = self.out.trials.len() as u32;
        self.out.trials.push(trial);
        for show in shows {
            let list = self.out.shown.entry(show).or_default();
            if list.len() < KEPT && list.last() != Some(&at) {
                list.push(at);
            }
        }
    }

    /// What a trial shows, as far as it can be seen from it alone.
    #[expect(clippy::too_many_lines, reason = "one part for each thing that a trial can show")]
    fn shows(&mut self, before: &[i32], number: usize, seen: &Seen, run: &Run) -> Vec<Shows> {
        let level = self.level;
        let b = &level.game.bound;
        let (of, params) = &level.moves.list[number];
        let def = &b.model.moves[*of];
        let turned = def.params.iter().position(|p| matches!(p, Dom::Dir4 | Dom::Dir8));
        let turned = turned.map(|at| params[at]);
        let mut out: Vec<Shows> = vec![];
        let mut marks = run.marks.clone();
        marks.sort_unstable();
        for pair in marks.windows(2) {
            if pair[0] == pair[1] && matches!(pair[0].way, Way::Held | Way::Reached) {
                out.push(Shows::Again(pair[0]));
            }
        }
        marks.dedup();
        let full = |state: &[i32]| self.boards.iter().any(|r| state[r.clone()].iter().all(|v| *v != 0));
        if full(before) {
            out.push(Shows::Full(matches!(seen, Seen::Made(_))));
        }
        let edge = |(r, c): (i64, i64)| -> u8 {
            let (rows, cols) = (b.rows as i64, b.cols as i64);
            let (top, bottom, left, right) = (r == 0, r == rows - 1, c == 0, c == cols - 1);
            let list = [top, bottom, left, right, top && left, top && right, bottom && left, bottom && right];
            (list.iter().zip(0..)).fold(0, |bits, (is, at)| bits | u8::from(*is) << at)
        };
        let edges = |bits: u8| (0..8).filter(move |i| bits >> i & 1 == 1);
        match seen {
            Seen::NotOffered => out.push(Shows::NotOffered(*of)),
            Seen::Refused(why, at) => {
                out.push(Shows::Refused(*of, why.clone(), None));
                out.push(Shows::Refused(*of, why.clone(), turned));
                let bits = at.iter().fold(0, |bits, p| bits | edge(*p));
                out.extend(edges(bits).map(|e| Shows::RefusedEdge(*of, e)));
            }
            Seen::Made(done) => {
                out.push(Shows::Made(*of));
                for (dom, cell) in def.params.iter().zip(params) {
                    if matches!(dom, Dom::Cell) && b.cols > 0 {
                        let bits = edge((cell / b.cols as i64, cell % b.cols as i64));
                        out.extend(edges(bits).map(|e| Shows::At(*of, e)));
                    }
                }
                let ends = done.ended.clone().unwrap_or_else(|| "running".into());
                out.push(Shows::Ends(ends));
                if done.ended.is_none() && full(&done.state) && !full(before) {
                    out.push(Shows::Fills);
                }
                let mut bits = 0;
                for r in &self.boards {
                    for (cell, at) in r.clone().enumerate() {
                        if before[at] != done.state[at] && b.cols > 0 {
                            bits |= edge(((cell / b.cols) as i64, (cell % b.cols) as i64));
                        }
                    }
                }
                for at in self.cells.iter().filter(|at| before[**at] != done.state[**at] && b.cols > 0) {
                    let cell = i64::from(done.state[*at]);
                    bits |= edge((cell / b.cols as i64, cell % b.cols as i64));
                }
                out.extend(edges(bits).map(|e| Shows::Edge(*of, e)));
                for (drawn, of) in done.draws.iter().zip(&run.of) {
                    let is_cell = drawn.what.starts_with('r') && drawn.what.contains('c');
                    match (is_cell, of) {
                        (false, _) => out.push(Shows::Drew(drawn.what.clone())),
                        (true, 1) => out.push(Shows::DrewCell(0)),
                        (true, _) if drawn.what == "r1c1" => out.push(Shows::DrewCell(1)),
                        (true, _) if drawn.what == format!("r{}c{}", b.rows, b.cols) => {
                            out.push(Shows::DrewCell(2));
                        }
                        (true, _) => out.push(Shows::DrewCell(3)),
                    }
                }
                let mut last = before;
                for (name, state) in &done.phases {
                    out.push(Shows::Phase(name.clone(), state != last));
                    last = state;
                }
                out.push(Shows::Scored(done.score != 0));
            }
            Seen::Over(_) | Seen::Breaks(_) => {}
        }
        let combination = marks.iter().fold(*of as u64, |h, m| {
            let bits = u64::from(m.span.start) << 3 | m.way as u64;
            (h.rotate_left(7) ^ bits).wrapping_mul(0x9E37_79B9_7F4A_7C15)
        });
        let next = self.combinations.len() as u32;
        if self.combinations.len() < COMBINATIONS || self.combinations.contains_key(&combination) {
            let n = *self.combinations.entry(combination).or_insert(next);
            out.push(Shows::Way(n, turned));
        }
        out.extend(marks.into_iter().map(Shows::Went));
        out
    }

    /// Opens the positions of a way.
    fn along(&mut self, way: &[Vec<i32>]) -> Result<(), Ends> {
        for state in way {
            let at = self.meet(state.clone())?;
            self.open(at as usize)?;
        }
        Ok(())
    }

    /// Plays at random.
    fn play(&mut self, start: u32, dice: &mut Dice) -> Result<(), Ends> {
        let mut at = start as usize;
        for _ in 0..PLAY_MOVES {
            self.open(at)?;
            let open: Vec<u32> = self.tried(at).iter().filter_map(|t| t.to).collect();
            if open.is_empty() {
                return Ok(());
            }
            at = open[dice.below(open.len() as u64) as usize] as usize;
        }
        Ok(())
    }

    /// The trials of a position that was opened.
    fn tried(&self, at: usize) -> &[Trial] {
        let range = self.trials_of[at].clone().unwrap_or_default();
        &self.out.trials[range.start as usize..range.end as usize]
    }

    /// What can be seen only when the positions after a move are known: dead ends, and ends that are one move away.
    fn borders(&mut self) {
        let mut next: HashMap<u32, Vec<String>> = HashMap::new();
        for trial in &self.out.trials {
            if let Some(how) = trial.to.and_then(|to| self.out.ended[to as usize].clone()) {
                let list = next.entry(trial.state).or_default();
                if !list.contains(&how) {
                    list.push(how);
                }
            }
        }
        for at in 0..self.out.trials.len() {
            let Some(to) = self.out.trials[at].to else { continue };
            let mut shows = vec![];
            let stands = self.out.ended[to as usize].is_none() && self.trials_of[to as usize].is_some();
            if stands && self.tried(to as usize).iter().all(|t| t.to.is_none()) {
                shows.push(Shows::Stuck);
            }
            let near = next.get(&to).into_iter().flatten().cloned();
            shows.extend(near.map(Shows::OneBefore));
            for show in shows {
                let list = self.out.shown.entry(show).or_default();
                if list.len() < KEPT {
                    list.push(at as u32);
                }
            }
        }
    }
}
