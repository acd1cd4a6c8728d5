//! Small random games written out, and what is true of them by the plainest means.

use fendle_core::table::{Row, Table};
use fendle_core::{Class, Odds, Status};
use rand::{Rng, rngs::SmallRng};

/// A move: its number, and where it leads with what weights.
pub type Move = (u32, Vec<(usize, u64)>);

/// A game: states are numbers, play begins in some of them.
#[derive(Clone, Debug)]
pub struct Game {
    pub status: Vec<Status>,
    pub moves: Vec<Vec<Move>>,
    /// What is told in each state.
    pub told: Vec<u64>,
    /// Starts with weights.
    pub starts: Vec<(usize, u64)>,
    /// Moves on which the model breaks: state, number, value.
    pub breaks: Vec<(usize, u32, i64)>,
}

impl Game {
    /// Some game of so many states. `draws`: moves may lead to several.
    pub fn any(rng: &mut SmallRng, states: usize, draws: bool) -> Game {
        let status = |s: usize, n: usize| match n {
            0 if s > 0 => Status::Goal,
            1 if s > 0 => Status::Lost(0),
            2 if s > 0 => Status::Over(0),
            _ => Status::Running,
        };
        let status = (0..states).map(|s| status(s, rng.random_range(0..14))).collect();
        let moves = (0..states).map(|_| {
            let count = rng.random_range(0..4u32);
            let one = |m| {
                let wide = if draws && rng.random_range(0..2) == 0 { rng.random_range(1..4) } else { 1 };
                let mut to: Vec<(usize, u64)> = vec![];
                for _ in 0..wide {
                    let t = rng.random_range(0..states);
                    if to.iter().all(|o| o.0 != t) {
                        to.push((t, rng.random_range(1..5)));
                    }
                }
                (m, to)
            };
            (0..count).map(one).collect()
        });
        let moves = moves.collect();
        let told = (0..states).map(|_| rng.random_range(0..3)).collect();
        let mut starts = vec![(0, 1)];
        if rng.random_range(0..3) == 0 {
            starts.push((1, rng.random_range(1..4)));
        }
        Game { status, moves, told, starts, breaks: vec![] }
    }

    pub fn len(&self) -> usize {
        self.status.len()
    }

    /// The same as a model.
    pub fn table(&self) -> Table {
        let row = |s: usize| {
            let row = Row::new(self.status[s]).tells(self.told[s]);
            let row = self.moves[s].iter().fold(row, |row, (m, to)| {
                row.draws(*m, to.iter().map(|&(t, weight)| (t, Odds::scored(weight, 0))))
            });
            let own = self.breaks.iter().filter(|b| b.0 == s);
            own.fold(row, |row, &(_, m, value)| row.breaks_on(m, value))
        };
        Table::new((0..self.len()).map(row)).start(self.starts.iter().copied()).with_goal()
    }

    /// The moves that can be made in a state.
    pub fn open(&self, s: usize) -> &[Move] {
        if self.status[s] == Status::Running { &self.moves[s] } else { &[] }
    }

    /// States that one move leads to, if it falls so.
    pub fn next(&self, s: usize) -> impl Iterator<Item = usize> {
        self.open(s).iter().flat_map(|m| m.1.iter().map(|o| o.0))
    }

    /// The least number of moves from a start, of states that can be reached.
    pub fn depths(&self) -> Vec<Option<u32>> {
        let mut out = vec![None; self.len()];
        let mut ring: Vec<usize> = self.starts.iter().map(|s| s.0).collect();
        for depth in 0.. {
            ring.retain(|s| out[*s].is_none());
            if ring.is_empty() {
                break;
            }
            ring.iter().for_each(|s| out[*s] = Some(depth));
            ring = ring.iter().flat_map(|s| self.next(*s)).collect();
        }
        out
    }

    /// States from which some of the wanted ones can be reached, with the least number of moves if all falls well.
    pub fn far(&self, wanted: impl Fn(usize) -> bool) -> Vec<Option<u32>> {
        let mut out: Vec<Option<u32>> = (0..self.len()).map(|s| wanted(s).then_some(0)).collect();
        for _ in 0..self.len() {
            for s in 0..self.len() {
                let through = self.next(s).filter_map(|t| out[t]).min().map(|d| d + 1);
                out[s] = out[s].into_iter().chain(through).min();
            }
        }
        out
    }

    pub fn classes(&self) -> Vec<Class> {
        let far = self.far(|s| self.status[s] == Status::Goal);
        (0..self.len())
            .map(|s| match self.status[s] {
                Status::Goal => Class::Goal,
                Status::Lost(_) => Class::Lost,
                Status::Over(_) => Class::Over,
                _ if self.moves[s].is_empty() => Class::Stuck,
                _ if far[s].is_some() => Class::Winnable,
                _ => Class::Dead,
            })
            .collect()
    }

    /// Won in so many moves at the most, whatever is drawn; `None` where no way of playing is sure of that.
    pub fn sure(&self) -> Vec<Option<u32>> {
        let mut out: Vec<Option<u32>> =
            (0..self.len()).map(|s| (self.status[s] == Status::Goal).then_some(0)).collect();
        for depth in 1..=self.len() as u32 {
            let before = out.clone();
            let wins = |m: &Move| m.1.iter().all(|o| before[o.0].is_some());
            for s in (0..self.len()).filter(|s| before[*s].is_none()) {
                if self.open(s).iter().any(wins) {
                    out[s] = Some(depth);
                }
            }
        }
        out
    }

    /// Whether some way of playing wins with probability 1: the states from which a goal stays within reach by moves that never
    /// leave them.
    pub fn almost_sure(&self) -> Vec<bool> {
        let mut stay = vec![true; self.len()];
        loop {
            let kept = |m: &&Move| m.1.iter().all(|o| stay[o.0]);
            let mut can: Vec<bool> = (0..self.len()).map(|s| self.status[s] == Status::Goal).collect();
            for _ in 0..self.len() {
                for s in 0..self.len() {
                    can[s] |= self.open(s).iter().filter(kept).any(|m| m.1.iter().any(|o| can[o.0]));
                }
            }
            if can == stay {
                return can;
            }
            stay = can;
        }
    }

    /// The best chance to be won, and the least to end badly, within so many moves.
    pub fn within(&self, moves: u32) -> (Vec<f64>, Vec<f64>) {
        let won = |s: usize| f64::from(u8::from(self.status[s] == Status::Goal));
        let ends_badly = |s: usize| {
            let bad = matches!(self.status[s], Status::Lost(_) | Status::Over(_));
            f64::from(u8::from(bad || self.status[s] == Status::Running && self.moves[s].is_empty()))
        };
        let mut win: Vec<f64> = (0..self.len()).map(won).collect();
        let mut ruin: Vec<f64> = (0..self.len()).map(ends_badly).collect();
        for _ in 0..moves {
            let (was_win, was_ruin) = (win.clone(), ruin.clone());
            for s in 0..self.len() {
                let each = |values: &[f64]| -> Vec<f64> {
                    self.open(s).iter().map(|m| mean(&m.1, values)).collect()
                };
                if let Some(best) = each(&was_win).into_iter().reduce(f64::max) {
                    win[s] = best;
                }
                if let Some(least) = each(&was_ruin).into_iter().reduce(f64::min) {
                    ruin[s] = least;
                }
            }
        }
        (win, ruin)
    }

    /// The best chance to win, however long it takes; of small games, counted until nothing changes.
    pub fn win(&self) -> Vec<f64> {
        self.within(6_000).0
    }
}

/// The mean of values over outcomes.
pub fn mean(to: &[(usize, u64)], values: &[f64]) -> f64 {
    let all: u64 = to.iter().map(|o| o.1).sum();
    to.iter().map(|o| o.1 as f64 * values[o.0]).sum::<f64>() / all as f64
}
