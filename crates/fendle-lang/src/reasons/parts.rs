//! What a level is made of: the parts of its goal, and the parts of its board that can be taken out.

use crate::Game;
use crate::model::*;
use crate::reasons::keeps::game_of;
use crate::run::Eval;
use crate::run::TooLarge;
use crate::state::Bound;
use crate::state::cell_name;
use crate::syntax::tree::QuantKind;

/// Whether each part of the goal is done in a state: the conditions that it joins, every element that an `all` runs over, every
/// cell of boards that have to be equal. `None` where the model has no one goal condition.
#[must_use]
pub fn goal_done(b: &Bound, state: &[i32]) -> Option<Vec<bool>> {
    let model = &b.model;
    let mut goals = model.statuses.iter().filter(|s| model.endings[s.ending].kind == EndKind::Goal);
    let goal = goals.next()?;
    if goals.next().is_some() {
        return None;
    }
    let mut eval = Eval::new(b);
    eval.look_at(state);
    let mut out = vec![];
    done(b, &mut eval, state, &goal.cond.expr, &vec![0; goal.cond.locals.len()], &mut out)?;
    Some(out)
}

fn done(
    b: &Bound,
    eval: &mut Eval<'_>,
    state: &[i32],
    e: &Expr,
    frame: &[i64],
    out: &mut Vec<bool>,
) -> Option<()> {
    match &e.kind {
        Ek::And(x, y) => {
            done(b, eval, state, x, frame, out)?;
            done(b, eval, state, y, frame, out)
        }
        Ek::Quant(q) if q.kind == QuantKind::All => {
            let body = q.body.as_ref()?;
            let mut frame = frame.to_vec();
            for x in eval.range_in(&q.over, &frame).ok()? {
                frame[q.local] = x;
                if let Some(f) = &q.filter
                    && eval.scalar_in(f, &frame).ok()? == 0
                {
                    continue;
                }
                done(b, eval, state, body, &frame, out)?;
            }
            Some(())
        }
        Ek::SameBlock(x, y, Sameness::Same) => {
            let values = |e: &Expr| -> Option<Vec<i32>> {
                let Ek::Var(When::Now, v) = e.kind else { return None };
                let slot = &b.slots[v];
                let from = if b.model.vars[v].state { state } else { &b.data };
                Some(from[slot.base..slot.base + slot.len].to_vec())
            };
            match (values(x), values(y)) {
                (Some(x), Some(y)) => out.extend(x.iter().zip(&y).map(|(x, y)| x == y)),
                _ => out.push(eval.scalar_in(e, frame).ok()? != 0),
            }
            Some(())
        }
        Ek::Call(f, args) if args.is_empty() => {
            let def = &b.model.fns[*f];
            done(b, eval, state, &def.body, &vec![0; def.locals.len()], out)
        }
        _ => {
            out.push(eval.scalar_in(e, frame).ok()? != 0);
            Some(())
        }
    }
}

/// What kind of thing is taken out of a level.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Removed {
    /// What a grid of the level holds at a cell: a wall, water.
    Wall,
    /// A piece of the start.
    Piece,
    /// An empty cell: it becomes like what lies off the board.
    Cell,
}

impl Removed {
    /// In one word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Removed::Wall => "wall",
            Removed::Piece => "piece",
            Removed::Cell => "cell",
        }
    }
}

/// A level with one thing taken out.
pub struct Without {
    /// What kind of thing.
    pub kind: Removed,
    /// What it is, by the name of what holds it; empty for a cell.
    pub name: String,
    /// Where it is.
    pub cell: String,
    /// The level without it.
    pub bound: Bound,
}

/// The level with each wall, each piece and each empty cell taken out alone. `reached`: some states of its space, by which it is
/// told which cells of a grid are one body: a body is taken out whole.
#[must_use]
pub fn without_each(b: &Bound, reached: &[Vec<i32>]) -> Vec<Without> {
    let model = &b.model;
    let mut out = vec![];
    let mut taken = vec![false; b.cells()];
    let mut eval = Eval::new(b);
    for (v, def) in model.variables() {
        let slot = &b.slots[v];
        match def.shape {
            Extent::Grid | Extent::Set => {}
            Extent::One if def.state && def.dom.scalar() == Scalar::Cell => {
                if let Some(t) = taken.get_mut(b.position[slot.base] as usize) {
                    *t = true;
                }
                continue;
            }
            _ => continue,
        }
        let twin = model.vars.iter().any(|d| d.rearranged == Some(v));
        let nothing = match (&def.default, def.state) {
            (Some(e), _) if e.ty.scalar().is_some() => eval.lone(e).ok(),
            (None, true) => Some(0),
            (None, false) if def.shape == Extent::Set || def.dom.scalar() == Scalar::Bool => Some(0),
            _ => None,
        };
        let mut gone: Vec<usize> = vec![];
        for cell in 0..slot.len {
            let from = if def.state { &b.position } else { &b.data };
            let value = i64::from(from[slot.base + cell]);
            if value != nothing.unwrap_or(0) {
                taken[cell] = true;
            }
            if gone.contains(&cell) {
                continue;
            }
            // Rearranged grids keep their pieces; what the goal wants is no part to be taken out.
            let fixed = def.rearranged.is_some() || twin || !def.state && def.shape == Extent::Set;
            let Some(nothing) = nothing.filter(|n| *n != value && slot.holds(*n) && !fixed) else { continue };
            let mut bound = b.clone();
            let cells = match def.state {
                true => body_at(b, v, cell, reached),
                false => vec![cell],
            };
            for &part in &cells {
                if def.state {
                    bound.position[slot.base + part] = nothing as i32;
                    bound.start[slot.base + part] = nothing as i32;
                } else {
                    bound.data[slot.base + part] = nothing as i32;
                }
            }
            out.push(Without {
                kind: if def.state { Removed::Piece } else { Removed::Wall },
                name: def.name.clone(),
                cell: cells.iter().map(|c| cell_name(*c, b.cols)).collect::<Vec<_>>().join(" "),
                bound,
            });
            gone.extend(cells);
        }
    }
    for cell in (0..b.cells()).filter(|c| !taken[*c]) {
        let mut bound = b.clone();
        let mut changed = false;
        for (v, def) in model.variables().filter(|(_, d)| !d.state && d.shape == Extent::Grid) {
            let Some(outside) = def.outside.as_ref().and_then(|e| eval.lone(e).ok()) else { continue };
            let at = b.slots[v].base + cell;
            changed |= i64::from(bound.data[at]) != outside;
            bound.data[at] = outside as i32;
        }
        if changed {
            let cell = cell_name(cell, b.cols);
            out.push(Without { kind: Removed::Cell, name: String::new(), cell, bound });
        }
    }
    out.sort_by_key(|w| w.kind);
    out
}

/// The cells of the body of which a cell of a grid is a part: all that hold its value, where these keep their form in every state
/// that was reached and are seen to move, or hang together and never do. Else the cell alone.
fn body_at(b: &Bound, v: VarId, cell: usize, reached: &[Vec<i32>]) -> Vec<usize> {
    let slot = &b.slots[v];
    let value = b.position[slot.base + cell];
    let held =
        |state: &[i32]| -> Vec<usize> { (0..slot.len).filter(|c| state[slot.base + c] == value).collect() };
    let cells = held(&b.position);
    if cells.len() < 2 || b.model.vars[v].dom.scalar() == Scalar::Bool {
        return vec![cell];
    }
    // Rows and columns from the first cell, so that a body that was moved has the same form.
    let form = |cells: &[usize]| -> Vec<(i64, i64)> {
        let at = |c: usize| ((c / b.cols) as i64, (c % b.cols) as i64);
        let first = cells.first().map_or((0, 0), |c| at(*c));
        cells.iter().map(|c| (at(*c).0 - first.0, at(*c).1 - first.1)).collect()
    };
    let own = form(&cells);
    let mut moves = false;
    for state in reached {
        let there = held(state);
        if form(&there) != own {
            return vec![cell];
        }
        moves |= there != cells;
    }
    if moves || hangs_together(&cells, b.cols) { cells } else { vec![cell] }
}

/// Whether cells are one piece, side by side.
fn hangs_together(cells: &[usize], cols: usize) -> bool {
    let mut seen = vec![cells[0]];
    let mut next = 0;
    while let Some(&c) = seen.get(next) {
        next += 1;
        let beside = |o: &usize| {
            let (rows, columns) = ((o / cols).abs_diff(c / cols), (o % cols).abs_diff(c % cols));
            rows + columns == 1
        };
        let more: Vec<usize> = cells.iter().copied().filter(|o| beside(o) && !seen.contains(o)).collect();
        seen.extend(more);
    }
    seen.len() == cells.len()
}

impl Without {
    /// The game of the level without it, every state standing for itself.
    ///
    /// # Errors
    ///
    /// [`TooLarge`] when a limit is passed.
    pub fn game(self) -> Result<Game, TooLarge> {
        game_of(Bound { canon: None, ..self.bound })
    }
}
