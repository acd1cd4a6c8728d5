//! Values of all vertices for the best way of playing, as bounds.
//!
//! Parts are taken successors first. A vertex that lies on no cycle is valued once. A part with cycles and without draws is a
//! question of shortest or longest ways (Dijkstra 1959; Bellman 1958, with the cycle where one gains for ever). A part with
//! draws becomes a [`Knot`], whose decisions are iterated: probabilities here, from below and from above; sums in `sums`.

use std::cmp::Ordering;
use std::collections::{BinaryHeap, HashMap, VecDeque};

use rayon::prelude::*;

use super::classes::{ALMOST, Marks, OPEN, REACHES};
use super::graph::{Graph, Pattern};
use super::interval::{ANY, Bounds, mean, plus};
use super::knot::{Knot, NONE, Rounds, rounds};
use super::order::{Local, Parts};
use crate::limits::{Limit, Pace};

/// What every move adds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Gain {
    /// Nothing: a value stands at the end of play.
    Nothing,
    /// One: moves are counted.
    One,
    /// Its score.
    Score,
}

/// What is computed.
pub(super) struct Task<'g> {
    pub(super) g: &'g Graph,
    pub(super) marks: &'g Marks,
    /// The best is the most.
    pub(super) most: bool,
    pub(super) gain: Gain,
    /// Only vertices with this mark matter, and play ends for sure; `None` for the chance to win.
    pub(super) mark: Option<u8>,
    /// Play may be broken off anywhere, for nothing: only whether something gains for ever is of interest.
    pub(super) breaks_off: bool,
    /// What a state in which play has ended is worth.
    pub(super) at_end: &'g (dyn Fn(u32) -> i64 + Sync),
}

/// Values of all vertices.
pub(super) struct Solved {
    pub(super) values: Vec<Bounds>,
    /// For the decisions of parts with cycles, by their first state, the option that was best: a state and an arc.
    pub(super) choices: HashMap<u32, (u32, u32)>,
    /// A cycle that gains for ever, where one is met: states and arcs. Empty where chance takes part.
    pub(super) cycle: Option<Vec<(u32, u32)>>,
    /// The value of some part could not be bounded.
    pub(super) unknown: bool,
}

/// For decisions, by their first state, an option: a state and one of its arcs.
pub(super) type Choices = Vec<(u32, (u32, u32))>;

/// How near bounds of a probability on a cycle must come.
const NEAR: f64 = 1e-12;
/// Most rounds over one part.
pub(super) const ROUNDS: usize = 100_000;

impl Task<'_> {
    /// Whether play from here on is a matter of choice or chance.
    #[inline]
    pub(super) fn is_open(&self, v: u32) -> bool {
        match self.mark {
            None => {
                let marks = self.marks.of[v as usize];
                marks & ALMOST == 0 && marks & (REACHES | OPEN) != 0 && self.g.leads_on(v)
            }
            Some(mark) => self.marks.has(v, mark) && self.g.leads_on(v),
        }
    }

    /// Whether an arc to this vertex may be taken.
    #[inline]
    pub(super) fn permits(&self, v: u32) -> bool {
        self.mark.is_none_or(|m| self.marks.has(v, m))
    }

    /// What an arc adds.
    #[inline]
    pub(super) fn gain(&self, arc: usize) -> i64 {
        match self.gain {
            Gain::Nothing => 0,
            Gain::One => 1,
            Gain::Score => self.g.score(arc),
        }
    }

    /// The sum of scores times weights of a pattern.
    #[inline]
    pub(super) fn scores(&self, pattern: &Pattern) -> f64 {
        if self.gain != Gain::Score || pattern.scores.is_empty() {
            return 0.0;
        }
        pattern.scores.iter().map(|s| *s as f64).sum()
    }

    /// The scores times weights of a pattern that matter.
    pub(super) fn each_score<'p>(&self, pattern: &'p Pattern) -> impl Iterator<Item = i64> + 'p {
        let none = self.gain != Gain::Score;
        pattern.scores.iter().copied().filter(move |_| !none)
    }

    /// Whether a gain makes the value better.
    pub(super) fn betters(&self, gain: i64) -> bool {
        if self.most { gain > 0 } else { gain < 0 }
    }

    /// The better of two.
    #[inline]
    pub(super) fn better_of(&self, a: Bounds, b: Bounds) -> Bounds {
        if self.most { (a.0.max(b.0), a.1.max(b.1)) } else { (a.0.min(b.0), a.1.min(b.1)) }
    }

    /// What a vertex is worth that is not looked into.
    fn fixed(&self, v: u32) -> Bounds {
        let marks = self.marks.of[v as usize];
        match self.mark {
            None if marks & ALMOST != 0 => (1.0, 1.0),
            None if marks & (REACHES | OPEN) == 0 => (0.0, 0.0),
            None => (0.0, 1.0),
            Some(mark) if marks & mark != 0 && self.g.is_state(v) => super::interval::whole((self.at_end)(v)),
            Some(_) => ANY,
        }
    }

    /// What an arc is worth, given the values behind it.
    #[inline]
    pub(super) fn arc(&self, arc: usize, values: &[Bounds]) -> Bounds {
        plus(self.gain(arc), values[self.g.to(arc) as usize])
    }

    /// The value of a vertex on no cycle.
    #[inline]
    fn value(&self, v: u32, values: &[Bounds]) -> Bounds {
        let g = self.g;
        if !g.is_state(v) {
            let (out, pattern) = g.outcomes(v);
            let parts = out.iter().zip(&pattern.weights).map(|(t, w)| (*w, values[*t as usize]));
            return mean(parts, self.scores(pattern));
        }
        let mut best: Option<Bounds> = self.breaks_off.then_some((0.0, 0.0));
        for a in g.arcs(v).filter(|a| self.permits(g.to(*a))) {
            let value = self.arc(a, values);
            best = Some(best.map_or(value, |b| self.better_of(b, value)));
        }
        best.unwrap_or(ANY)
    }

    /// A probability is one.
    fn clamp(&self, (lo, hi): Bounds) -> Bounds {
        if self.mark.is_none() { (lo.max(0.0), hi.min(1.0)) } else { (lo, hi) }
    }

    /// Values all vertices. With `choose` the best options of parts with cycles are kept.
    pub(super) fn solve(&self, parts: &Parts, choose: bool, pace: &mut Pace<'_>) -> Result<Solved, Limit> {
        let g = self.g;
        let all = (0..g.vertices_len() as u32).into_par_iter().with_min_len(1 << 14);
        let mut solved = Solved {
            values: g.on_threads(|| all.map(|v| self.fixed(v)).collect()),
            choices: HashMap::new(),
            cycle: None,
            unknown: false,
        };
        if parts.has_none() {
            let one = |v: u32, values: &[Bounds]| match self.is_open(v) {
                true => self.clamp(self.value(v, values)),
                false => values[v as usize],
            };
            parts.fill(g, &mut solved.values, one, pace)?;
            return Ok(solved);
        }
        let mut local = Local::default();
        for part in parts.iter() {
            pace.step(2 * part.len() as u64)?;
            if !parts.has_cycle(part) {
                let v = part[0];
                if self.is_open(v) {
                    solved.values[v as usize] = self.clamp(self.value(v, &solved.values));
                }
                continue;
            }
            let members: Vec<u32> = part.iter().copied().filter(|v| self.is_open(*v)).collect();
            if members.is_empty() {
                continue;
            }
            local.take(g, &members);
            let choices = if self.spoilt(&local, &mut solved) {
                vec![]
            } else if self.mark.is_none() {
                self.chances(&local, &mut solved, pace)?
            } else if members.iter().all(|v| g.is_state(*v)) {
                self.ways(&local, &mut solved, pace)?
            } else {
                self.sums(&local, &mut solved, pace)?
            };
            if choose {
                solved.choices.extend(choices);
            }
        }
        Ok(solved)
    }

    /// The chance to win in a part with cycles.
    fn chances(&self, local: &Local, solved: &mut Solved, pace: &mut Pace<'_>) -> Result<Choices, Limit> {
        let knot = self.knot(local, pace)?.expect("going round changes no chance");
        let mut x = vec![(0.0, 1.0); knot.states.len()];
        let order = self.nearest_first(&knot, local);
        let values = &solved.values;
        for _ in 0..ROUNDS {
            let (mut widest, mut changed) = (0.0f64, false);
            for &d in &order {
                pace.step(4 * knot.options[d].len() as u64)?;
                let options = knot.options[d].iter();
                let best = options.map(|o| knot.option(self, local, &x, values, *o));
                let best = best.reduce(|a, b| self.better_of(a, b)).unwrap_or((0.0, 0.0));
                let new = (x[d].0.max(best.0), x[d].1.min(best.1));
                changed |= new != x[d];
                x[d] = new;
                widest = widest.max(new.1 - new.0);
            }
            if widest < NEAR || !changed {
                break;
            }
        }
        Ok(self.write_values(&knot, local, &x, solved))
    }

    /// Writes the values of the decisions to their states and to the nodes of the part; tells the best options.
    pub(super) fn write_values(
        &self,
        knot: &Knot,
        local: &Local,
        x: &[Bounds],
        solved: &mut Solved,
    ) -> Choices {
        let middle = |b: Bounds| f64::midpoint(b.0, b.1);
        let mut choices = vec![];
        for (d, options) in knot.options.iter().enumerate() {
            let worth = |o: &(u32, u32)| middle(knot.option(self, local, x, &solved.values, *o));
            let best = options.iter().copied().max_by(|a, b| {
                let order = worth(a).total_cmp(&worth(b));
                if self.most { order } else { order.reverse() }
            });
            choices.extend(best.map(|o| (knot.states[d][0], o)));
        }
        for (i, &v) in local.members.iter().enumerate() {
            if knot.decision_of[i] != NONE {
                solved.values[v as usize] = self.clamp(knot.value(local, x, &solved.values, v));
            }
        }
        for &v in local.members.iter().filter(|v| !self.g.is_state(**v)) {
            solved.values[v as usize] = self.clamp(self.value(v, &solved.values));
        }
        choices
    }

    /// The decisions, those with a way out of the part first, and then those that lead to them.
    pub(super) fn nearest_first(&self, knot: &Knot, local: &Local) -> Vec<usize> {
        let n = knot.states.len();
        let mut seen = vec![false; n];
        let mut seen_at = vec![false; local.len()];
        let mut queue = VecDeque::new();
        let mut order = vec![];
        for (i, &v) in local.members.iter().enumerate() {
            let mut out = false;
            self.g.each(v, |t| out |= local.number(t).is_none());
            if out {
                seen_at[i] = true;
                queue.push_back(i);
            }
        }
        while let Some(i) = queue.pop_front() {
            let d = knot.decision_of[i];
            if d != NONE && !std::mem::replace(&mut seen[d as usize], true) {
                order.push(d as usize);
            }
            for &from in local.sources(i) {
                if !std::mem::replace(&mut seen_at[from as usize], true) {
                    queue.push_back(from as usize);
                }
            }
        }
        order.extend((0..n).filter(|d| !seen[*d]));
        order
    }

    /// The best ways out of a part in which nothing is drawn.
    fn ways(&self, local: &Local, solved: &mut Solved, pace: &mut Pace<'_>) -> Result<Choices, Limit> {
        let n = local.len();
        let mut great = 1.0f64;
        for v in &local.members {
            self.g.each(*v, |t| {
                let (lo, hi) = solved.values[t as usize];
                if local.number(t).is_none() && lo.is_finite() && hi.is_finite() {
                    great = great.max(lo.abs()).max(hi.abs());
                }
            });
        }
        let mut choice: Vec<Option<u32>> = vec![None; n];
        for slack in [0.0, 1e-10 * great] {
            let mut ends = [vec![], vec![]];
            let mut cycle = None;
            for (upper, end) in [false, true].into_iter().zip(&mut ends) {
                choice.fill(None);
                match self.best_ways(local, &solved.values, &mut choice, (upper, slack), pace)? {
                    Ok(values) => *end = values,
                    Err(at) => {
                        cycle = Some(self.cycle(local, &choice, at));
                        break;
                    }
                }
            }
            match cycle {
                None => {
                    let wide = slack * n as f64;
                    for (i, v) in local.members.iter().enumerate() {
                        solved.values[*v as usize] = (ends[0][i] - wide, ends[1][i] + wide);
                    }
                    let chosen = local.members.iter().zip(&choice);
                    return Ok(chosen.filter_map(|(v, a)| a.map(|a| (*v, (*v, a)))).collect());
                }
                Some(cycle) => {
                    let sum: i128 = cycle.iter().map(|c| i128::from(self.gain(c.1 as usize))).sum();
                    if if self.most { sum > 0 } else { sum < 0 } {
                        self.without_bound(local, solved);
                        solved.cycle.get_or_insert(cycle);
                        return Ok(vec![]);
                    }
                    // Rounding outward looked like a gain: only what is clearly better counts then.
                }
            }
        }
        self.not_known(local, solved);
        Ok(vec![])
    }

    /// Every vertex of a part can be made as good as one likes.
    pub(super) fn without_bound(&self, local: &Local, solved: &mut Solved) {
        let best = if self.most { f64::INFINITY } else { f64::NEG_INFINITY };
        for v in &local.members {
            solved.values[*v as usize] = (best, best);
        }
    }

    pub(super) fn not_known(&self, local: &Local, solved: &mut Solved) {
        solved.unknown = true;
        for v in &local.members {
            solved.values[*v as usize] = ANY;
        }
    }

    /// Whether something behind a part is without bound, or not known: then all of the part is.
    fn spoilt(&self, local: &Local, solved: &mut Solved) -> bool {
        let best = if self.most { f64::INFINITY } else { f64::NEG_INFINITY };
        let (mut endless, mut unknown) = (false, false);
        for &v in &local.members {
            self.g.each(v, |t| {
                if local.number(t).is_none() && self.permits(t) {
                    let (lo, hi) = solved.values[t as usize];
                    endless |= lo == best && hi == best;
                    unknown |= lo == f64::NEG_INFINITY && hi == f64::INFINITY;
                }
            });
        }
        if endless {
            self.without_bound(local, solved);
        } else if unknown {
            self.not_known(local, solved);
        }
        endless || unknown
    }

    /// One side of the values of a part in which nothing is drawn: by Dijkstra's way where no arc inside gains, else by
    /// Bellman's, which gives the number of a vertex that leads into a cycle where one seems to gain for ever. `choice` is
    /// filled with the best arcs.
    fn best_ways(
        &self,
        local: &Local,
        values: &[Bounds],
        choice: &mut [Option<u32>],
        (upper, slack): (bool, f64),
        pace: &mut Pace<'_>,
    ) -> Result<Result<Vec<f64>, usize>, Limit> {
        let g = self.g;
        let n = local.len();
        let inside = |a: usize| local.number(g.to(a));
        let arcs = |i: usize| g.arcs(local.members[i]).filter(|a| self.permits(g.to(*a)));
        let gains = (0..n).any(|i| arcs(i).any(|a| inside(a).is_some() && self.betters(self.gain(a))));
        let side = |b: Bounds| if upper { b.1 } else { b.0 };
        let better = |a: f64, b: f64| if self.most { a > b + slack } else { a < b - slack };
        let worst = if self.most { f64::NEG_INFINITY } else { f64::INFINITY };
        let mut value = vec![if self.breaks_off { 0.0 } else { worst }; n];
        for i in 0..n {
            for a in arcs(i).filter(|a| inside(*a).is_none()) {
                let v = side(self.arc(a, values));
                if better(v, value[i]) {
                    value[i] = v;
                    choice[i] = Some(a as u32);
                }
            }
        }
        // The best arc from one vertex to another, and what it is worth.
        let through = |value: &[f64], from: usize, to: usize| {
            let found = arcs(from).filter(|a| inside(*a) == Some(to));
            let worth = |a: usize| side(plus(self.gain(a), (value[to], value[to])));
            found.map(|a| (worth(a), a as u32)).reduce(|x, y| if better(y.0, x.0) { y } else { x })
        };
        if !gains {
            let near = |value: f64, at: usize| Near::new(value, at, self.most);
            let mut heap: BinaryHeap<Near> =
                (0..n).filter(|i| value[*i] != worst).map(|i| near(value[i], i)).collect();
            let mut done = vec![false; n];
            while let Some(Near { at, .. }) = heap.pop() {
                if std::mem::replace(&mut done[at], true) {
                    continue;
                }
                for &from in local.sources(at) {
                    pace.step(2)?;
                    let from = from as usize;
                    if !done[from]
                        && let Some((v, a)) = through(&value, from, at)
                        && better(v, value[from])
                    {
                        value[from] = v;
                        choice[from] = Some(a);
                        heap.push(near(v, from));
                    }
                }
            }
            return Ok(Ok(value));
        }
        let mut queue: VecDeque<usize> = (0..n).filter(|i| value[*i] != worst).collect();
        let mut waits: Vec<bool> = value.iter().map(|v| *v != worst).collect();
        // How many arcs the best way found so far has: one of more than n arcs goes round.
        let mut length = vec![0u32; n];
        while let Some(to) = queue.pop_front() {
            waits[to] = false;
            for &from in local.sources(to) {
                pace.step(2)?;
                let from = from as usize;
                let Some((v, a)) = through(&value, from, to) else { continue };
                if !better(v, value[from]) {
                    continue;
                }
                value[from] = v;
                choice[from] = Some(a);
                length[from] = length[to] + 1;
                if length[from] as usize > n {
                    return Ok(Err(from));
                }
                if !std::mem::replace(&mut waits[from], true) {
                    queue.push_back(from);
                }
            }
        }
        Ok(Ok(value))
    }

    /// The cycle that the chosen arcs lead into.
    fn cycle(&self, local: &Local, choice: &[Option<u32>], from: usize) -> Vec<(u32, u32)> {
        let next = |i: usize| choice[i].and_then(|a| local.number(self.g.to(a as usize)));
        let mut at = from;
        for _ in 0..local.len() {
            at = next(at).unwrap_or(at);
        }
        let begin = at;
        let mut out = vec![];
        while let Some(a) = choice[at] {
            out.push((local.members[at], a));
            match next(at) {
                Some(n) if n != begin => at = n,
                _ => break,
            }
        }
        out
    }

    /// The decisions of a part, for fractions; `None` where they cannot be told.
    pub(super) fn knot(&self, local: &Local, pace: &mut Pace<'_>) -> Result<Option<Knot>, Limit> {
        if self.mark.is_some() && local.members.iter().all(|v| self.g.is_state(*v)) {
            return Ok(Some(Knot::new(self, local, &[])));
        }
        Ok(match rounds(self, &local.members, pace)? {
            Rounds::Free(groups) => Some(Knot::new(self, local, &groups)),
            _ => None,
        })
    }
}

/// A vertex in a heap: the best value first, then the least number.
struct Near {
    value: f64,
    at: usize,
}

impl Near {
    fn new(value: f64, at: usize, most: bool) -> Near {
        Near { value: if most { value } else { -value }, at }
    }
}

impl PartialEq for Near {
    fn eq(&self, other: &Near) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Near {}

impl PartialOrd for Near {
    fn partial_cmp(&self, other: &Near) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Near {
    fn cmp(&self, other: &Near) -> Ordering {
        self.value.total_cmp(&other.value).then(other.at.cmp(&self.at))
    }
}
