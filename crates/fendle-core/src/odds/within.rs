//! What can be had, and what can happen, within a few moves: exact on any board, however large its space.
//!
//! The space is written out as far as so many moves lead; values are then counted down, one move at a time:
//!
//! ```text
//! after 0 moves   a state is worth what it is: won, ended badly, or neither
//! after k moves   the best of its moves, by what their outcomes are worth after k - 1
//! ```
//!
//! O(moves x size of what was written out).

use super::graph::Graph;
use super::interval::{Bounds, mean};
use super::{Broken, MoveId, Value, chance_of};
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::Model;
use crate::space::Class;

/// What a move is worth within the moves that are left.
#[derive(Clone, Debug, PartialEq)]
pub struct NearMove {
    /// The move.
    pub of: MoveId,
    /// How many outcomes it has.
    pub outcomes: u32,
    /// The best probability to win.
    pub win: Value,
    /// The least probability to end badly: lost, stuck, or over without being won.
    pub ruin: Value,
}

/// Answers for the next moves from one start.
#[derive(Clone, Debug, PartialEq)]
pub struct Within {
    /// How many moves were looked ahead.
    pub moves: u32,
    /// The best probability to have won by then. `None` without a goal.
    pub win: Option<Value>,
    /// The least number of moves by which some way of playing has won, whatever is drawn.
    pub sure_win: Option<u32>,
    /// The least probability to have ended badly by then.
    pub ruin: Value,
    /// After how many moves at the earliest play can have ended badly whatever the player does, if everything falls badly.
    pub forced_ruin: Option<u32>,
    /// What each move from the start is worth, in move order.
    pub from_start: Vec<NearMove>,
    /// States that were seen.
    pub states: u64,
    /// What ended the looking early: bounds then hold whatever was not seen, and what was not found may be there.
    pub limit: Option<Limit>,
}

/// One thing that is counted down.
struct Countdown {
    states: Vec<Bounds>,
    next: Vec<Bounds>,
    nodes: Vec<Bounds>,
    /// The best of the moves is the one with the most, or the one with the least.
    most: bool,
}

impl Countdown {
    fn new(g: &Graph, most: bool, ended: impl Fn(Class) -> Option<f64>) -> Countdown {
        let worth = |c: &Class| match (c, ended(*c)) {
            (_, Some(x)) => (x, x),
            (Class::Open, None) => (0.0, 1.0),
            _ => (0.0, 0.0),
        };
        let states: Vec<Bounds> = g.classes.iter().map(worth).collect();
        let nodes = vec![(0.0, 1.0); g.vertices_len() - g.states_len()];
        Countdown { next: states.clone(), states, nodes, most }
    }

    /// Values the nodes that are met from the first states.
    fn draw(&mut self, g: &Graph, nodes: usize, pace: &mut Pace<'_>) -> Result<(), Limit> {
        for n in 0..nodes {
            pace.step(4)?;
            let (out, pattern) = g.outcomes((g.states_len() + n) as u32);
            if !out.is_empty() {
                let parts = out.iter().zip(&pattern.weights);
                let (lo, hi) = mean(parts.map(|(t, w)| (*w, self.states[*t as usize])), 0.0);
                self.nodes[n] = (lo.max(0.0), hi.min(1.0));
            }
        }
        Ok(())
    }

    fn arc(&self, g: &Graph, arc: usize) -> Bounds {
        let to = g.to(arc) as usize;
        self.states.get(to).copied().unwrap_or_else(|| self.nodes[to - g.states_len()])
    }

    /// One move more for the first states.
    fn step(&mut self, g: &Graph, count: usize, pace: &mut Pace<'_>) -> Result<(), Limit> {
        for s in 0..count {
            pace.step(2)?;
            let best = g.arcs(s as u32).map(|a| self.arc(g, a)).reduce(|x, y| {
                if self.most { (x.0.max(y.0), x.1.max(y.1)) } else { (x.0.min(y.0), x.1.min(y.1)) }
            });
            self.next[s] = best.unwrap_or(self.states[s]);
        }
        self.states[..count].copy_from_slice(&self.next[..count]);
        Ok(())
    }
}

/// Answers for the next `moves` moves.
///
/// A limit is noted in the answer. With several starts the values are their weighted mean, and there is no list of moves.
///
/// # Errors
///
/// [`Broken`] when the model breaks, or a limit leaves nothing to tell.
pub fn within(model: &dyn Model, moves: u32, limits: &Limits, watch: &dyn Watch) -> Result<Within, Broken> {
    let mut built = Graph::within(model, limits, watch, true, Some(moves));
    if let Err(broke) = &built
        && broke.apart
    {
        built = Graph::within(model, limits, watch, false, Some(moves));
    }
    let g = built.map_err(|b| Broken::Fault(b.fault))?;
    let progress = Progress { states: g.states_len() as u64, bytes: g.bytes(), ..Progress::default() };
    let pace = if g.limit.is_some() { Pace::wrapping_up(watch) } else { Pace::new(watch) };
    let mut pace = pace.at(progress);
    let bad = |c: Class| matches!(c, Class::Lost | Class::Over | Class::Stuck);
    let mut win = Countdown::new(&g, true, |c| (c == Class::Goal).then_some(1.0));
    let mut ruin = Countdown::new(&g, false, |c| bad(c).then_some(1.0));
    // Whether it is sure, in the same way: 1 where it is, 0 where it is not, and draws fall as badly as they can.
    let sure = |yes: &dyn Fn(Class) -> bool| -> Vec<bool> { g.classes.iter().map(|c| yes(*c)).collect() };
    let (mut won, mut forced) = (sure(&|c| c == Class::Goal), sure(&bad));
    let starts: Vec<u32> = g.starts.iter().map(|s| s.0).collect();
    let all = |set: &[bool]| starts.iter().all(|s| set[*s as usize]);
    let (mut sure_win, mut forced_ruin) = (all(&won).then_some(0), all(&forced).then_some(0));
    let mut from_start = vec![];
    for k in 1..=moves {
        let stop = |limit| Broken::Limit(g.limit.unwrap_or(limit), g.states_len() as u64);
        // States from which so many moves were written out, and the nodes that these meet.
        let depth = (moves - k) as usize;
        let count = g.levels.get(depth + 1).or(g.levels.last()).map_or(0, |n| *n as usize);
        let nodes = g.node_levels.get(depth + 1).or(g.node_levels.last()).map_or(0, |n| *n as usize);
        for down in [&mut win, &mut ruin] {
            down.draw(&g, nodes, &mut pace).map_err(stop)?;
        }
        if k == moves
            && let [s] = starts[..]
        {
            let one = |a: usize| NearMove {
                of: g.of(a),
                outcomes: g.outcomes_len(a),
                win: chance_of(win.arc(&g, a)),
                ruin: chance_of(ruin.arc(&g, a)),
            };
            from_start = g.arcs(s).map(one).collect();
        }
        for down in [&mut win, &mut ruin] {
            down.step(&g, count, &mut pace).map_err(stop)?;
        }
        let (was_won, was_forced) = (won.clone(), forced.clone());
        let all_won = |v: u32| match g.is_state(v) {
            true => was_won[v as usize],
            false => g.leads_on(v) && g.outcomes(v).0.iter().all(|t| was_won[*t as usize]),
        };
        let any_forced = |v: u32| match g.is_state(v) {
            true => was_forced[v as usize],
            false => g.outcomes(v).0.iter().any(|t| was_forced[*t as usize]),
        };
        for s in 0..count as u32 {
            pace.step(2).map_err(stop)?;
            won[s as usize] |= g.arcs(s).any(|a| all_won(g.to(a)));
            forced[s as usize] |= g.leads_on(s) && g.arcs(s).all(|a| any_forced(g.to(a)));
        }
        sure_win = sure_win.or(all(&won).then_some(k));
        forced_ruin = forced_ruin.or(all(&forced).then_some(k));
    }
    let weighted = |down: &Countdown| {
        let parts = g.starts.iter().map(|(s, w)| (*w, down.states[*s as usize]));
        chance_of(mean(parts, 0.0))
    };
    Ok(Within {
        moves,
        win: model.has_goal().then(|| weighted(&win)),
        sure_win,
        ruin: weighted(&ruin),
        forced_ruin,
        from_start,
        states: g.states_len() as u64,
        limit: g.limit,
    })
}
