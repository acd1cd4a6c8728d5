//! What may become a board: made by shuffling, by the model's own setup, by filling a template, or by small changes.

use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;

use fendle_core::Limits;
use fendle_lang::code::numbered::Backward;
use fendle_lang::model::EndKind;
use fendle_lang::play::{Tried, step, step_drawn};
use fendle_lang::reasons::numbering::backward;
use fendle_lang::run::Eval;
use fendle_lang::run::scatter::another_layout;
use fendle_lang::run::setup::Dice;

use super::boards::{Board, Template};
use super::draft::{By, Drafted, Mirror, Order, Safe, Shared, Tuned};
use super::figures::{Figures, Judged, judge};
use super::wish::Wish;
use crate::answer::Trouble;
use crate::budget::Budget;
use crate::load::{Loaded, Store, drawn_again};

/// Boards that are made anew before those that were kept are changed.
const FRESH: u64 = 128;
/// Effort for finding out how moves are taken back, in states that could be expanded meanwhile.
const BACK_EFFORT: usize = 1 << 22;
/// Boards that are made one after the other until the first move does not lose.
const MADE_AGAIN: usize = 200;
/// Places to which what would lose is moved, one after the other.
const MOVED: usize = 5_000;

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

/// Takes so many moves back at random, none of which returns where the last one came from; `None` where nothing leads to a position on the way.
fn taken_back(
    level: &Loaded,
    back: &Backward,
    from: &[i32],
    moves: u32,
    dice: &mut Dice,
) -> Option<Vec<i32>> {
    let b = &level.game.bound;
    let parts = |state: &[i32]| b.line_parts(state).into_iter().map(|p| p.0).collect::<Vec<_>>();
    // What no drawing shows, such as somebody inside a wall, was never on a board, though the rules lead on from there.
    let drawn = parts(from);
    let mut after: Option<Vec<i32>> = None;
    let mut here = from.to_vec();
    for _ in 0..moves {
        let mut open: Vec<(usize, Vec<i32>)> = vec![];
        back.each(&here, |of, undo| {
            let mut before = here.clone();
            undo.iter().for_each(|(at, value)| before[*at as usize] = *value);
            if Some(&before) != after.as_ref() && before != here {
                open.push((of.0 as usize, before));
            }
        });
        let mut found = None;
        while found.is_none() && !open.is_empty() {
            let (number, before) = open.swap_remove(dice.below(open.len() as u64) as usize);
            let leads = step(b, &level.moves, &before, number, true);
            if parts(&before) == drawn
                && let Ok(Tried::Made(list)) = leads
                && list.iter().any(|p| p.made.state == here)
            {
                found = Some(before);
            }
        }
        after = Some(std::mem::replace(&mut here, found?));
    }
    Some(here)
}

/// Something that may become a board.
pub(super) enum Candidate {
    /// A position of the level itself.
    State(Vec<i32>),
    /// Another board.
    Board(Board),
    /// Nothing could be made: why.
    None(&'static str),
}

/// What became of a first move.
enum Opened {
    /// It was made: the board after it.
    Plays(Board),
    /// It loses.
    Loses,
    /// It cannot be made, or the board is none.
    Refused,
}

/// Makes candidates: the same one for the same number, whoever asks.
pub(super) struct Maker<'m> {
    level: &'m Loaded,
    template: &'m Template,
    order: &'m Order,
    /// Where shuffles begin.
    pub from: Vec<i32>,
    /// How moves are taken back, where shuffles go against the direction of play.
    back: Option<Backward>,
    seed: u64,
    budget: &'m Arc<Budget>,
}

impl<'m> Maker<'m> {
    /// Prepares what is needed for the order.
    ///
    /// # Errors
    ///
    /// Words, where moves cannot be taken back.
    pub fn new(
        level: &'m Loaded,
        template: &'m Template,
        order: &'m Order,
        from: Vec<i32>,
        budget: &'m Arc<Budget>,
    ) -> Result<Maker<'m>, Trouble> {
        let back = match order.backwards {
            true => {
                let found = backward(&level.game, BACK_EFFORT, &mut || budget.is_stopped());
                if let Some(limit) = budget.stopped() {
                    return Err(Trouble::Limit(limit));
                }
                let found = found.ok_or("moves of this model cannot be taken back: they draw, hide things, or have too many ways through the rules");
                Some(found.map_err(|e| Trouble::Message(e.into()))?)
            }
            false => None,
        };
        Ok(Maker { level, template, order, from, back, seed: budget.wanted().seed, budget })
    }

    /// A board of an earlier draft.
    pub fn earlier(&self, board: &Board) -> Candidate {
        if !matches!(self.order.by, By::Shuffle | By::Setup) {
            return Candidate::Board(board.clone());
        }
        let own = self.template.load(board, "draft", self.budget);
        match own.filter(|own| own.game.bound.data == self.level.game.bound.data) {
            Some(own) => Candidate::State(own.game.bound.position.clone()),
            None => Candidate::None("it is no position of this level"),
        }
    }

    /// How many candidates there are; `None` where there is no end of them.
    pub fn all(&self) -> Option<u64> {
        let choices = self.order.tune.iter().map(|t| (t.greatest - t.least + 1) as u64);
        (self.order.by == By::Tune).then(|| choices.fold(1u64, u64::saturating_mul))
    }

    /// The candidate with a number; `parents`: boards that were kept, of which it may be a change; `near`: boards that came near to what is wanted,
    /// for small changes.
    pub fn make(&self, n: u64, parents: &[&Drafted], near: &[&Board]) -> Candidate {
        let mut dice =
            Dice::new(self.seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ n.wrapping_mul(0xD1B5_4A32_D192_ED03));
        let Some((first, safe)) = self.order.first else { return self.made(n, parents, near, &mut dice) };
        // What would lose is moved on one board; or whole boards are made until one does not lose.
        let boards = if safe == Safe::Again { MADE_AGAIN } else { 1 };
        for _ in 0..boards {
            if self.budget.is_stopped() {
                break;
            }
            let candidate = self.made(n, parents, near, &mut dice);
            if matches!(candidate, Candidate::None(_)) {
                return candidate;
            }
            match self.opened(&candidate, first, safe, &mut dice) {
                Opened::Plays(board) => return Candidate::Board(board),
                Opened::Refused => return Candidate::None("the first move is refused"),
                Opened::Loses => {}
            }
        }
        Candidate::None("the first move loses")
    }

    /// A candidate after its first move.
    fn opened(&self, candidate: &Candidate, first: usize, safe: Safe, dice: &mut Dice) -> Opened {
        let own;
        let (level, start, values) = match candidate {
            Candidate::State(state) => (self.level, state.clone(), vec![]),
            Candidate::Board(board) => {
                let Some(loaded) = self.template.load(board, "draft", self.budget) else {
                    return Opened::Refused;
                };
                own = loaded;
                (&own, own.game.bound.position.clone(), board.values.clone())
            }
            Candidate::None(_) => return Opened::Refused,
        };
        let b = &level.game.bound;
        let lost = |e: usize| b.model.endings[e].kind == EndKind::Lost;
        let mut state = start.clone();
        for _ in 0..if safe == Safe::Again { 1 } else { MOVED } {
            let Ok(Tried::Made(list)) = step_drawn(b, &level.moves, &state, first, false, dice) else {
                return Opened::Refused;
            };
            let Some(played) = list.into_iter().next() else { return Opened::Refused };
            if !played.ended.is_some_and(lost) {
                let board = self.template.drawn(b, &played.made.state);
                return Opened::Plays(Board { values, ..board });
            }
            state = another_layout(b, &start, dice).ok().flatten().unwrap_or_else(|| start.clone());
        }
        Opened::Loses
    }

    fn made(&self, n: u64, parents: &[&Drafted], near: &[&Board], dice: &mut Dice) -> Candidate {
        // Where most of something is wanted, every second board is one of the best, changed.
        let fresh = if self.order.earlier.0.is_empty() { FRESH.min(self.order.tries / 4) } else { 0 };
        let climbs = self.order.most.is_some() && n >= fresh && n % 2 == 1;
        if climbs && !parents.is_empty() {
            let parent = parents[dice.below(parents.len() as u64) as usize];
            return match self.order.by {
                By::Shuffle | By::Setup => {
                    let moves = 1 + dice.below(12) as u32;
                    self.walked(&parent.position.state, moves, dice)
                }
                _ => self.edited(&parent.board, dice),
            };
        }
        match self.order.by {
            By::Shuffle => {
                let (least, most) = self.order.shuffles;
                let moves = least + dice.below(u64::from(most.saturating_sub(least)) + 1) as u32;
                self.walked(&self.from, moves, dice)
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
            By::Fill => match self.filled(dice) {
                Some(board) => Candidate::Board(self.tuned(board, dice)),
                None => Candidate::None("what is to be put does not fit, or floor was cut off"),
            },
            // Every second one is a change of a board that came near.
            By::Edit if !near.is_empty() && n % 2 == 1 => {
                self.edited(near[dice.below(near.len() as u64) as usize], dice)
            }
            By::Edit | By::Deepest => self.edited(&self.template.board, dice),
            By::Tune => {
                let mut rest = n;
                let mut board = self.template.board.clone();
                // The last value changes fastest.
                for tuned in self.order.tune.iter().rev() {
                    let many = (tuned.greatest - tuned.least + 1) as u64;
                    board.values.push((tuned.name.clone(), tuned.least + (rest % many) as i64));
                    rest /= many;
                }
                board.values.reverse();
                Candidate::Board(board)
            }
        }
    }

    /// A position some random moves away.
    fn walked(&self, from: &[i32], moves: u32, dice: &mut Dice) -> Candidate {
        let state = match &self.back {
            Some(back) => taken_back(self.level, back, from, moves, dice),
            None => shuffled(self.level, from, moves, dice),
        };
        match state {
            Some(state) if self.runs(&state) => Candidate::State(state),
            Some(_) => Candidate::None("it has ended already"),
            None => Candidate::None("play was stuck"),
        }
    }

    /// A board with level values that are drawn.
    fn tuned(&self, board: Board, dice: &mut Dice) -> Board {
        let mut draw = |t: &Tuned| t.least + dice.below((t.greatest - t.least + 1) as u64) as i64;
        let values = self.order.tune.iter().map(|t| (t.name.clone(), draw(t))).collect();
        Board { values, ..board }
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
                .filter(|c| board.cells[*c] == plain && self.order.takes(put, *c))
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
                } else if left >= 2 && board.cells[other] == plain && self.order.takes(put, other) {
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
        if dice.below(2) == 0 {
            board = self.tuned(board, dice);
        }
        match fits && self.hangs_together(&board) {
            true => Candidate::Board(board),
            false => Candidate::None("the change leaves what may be put, or cuts floor off"),
        }
    }

    /// Judges a candidate; with its level, where it is one of its own.
    pub fn judge(
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
                        _ => (Judged::Bad(wanted.0.failing(&figures).unwrap_or_default(), figures), None),
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
