//! A strongly connected part with cycles, as a set of decisions.
//!
//! End components (sets of states in which play can stay for ever) in which going round gains and costs nothing are one
//! decision: whoever is in one can get to any of its ways out. What is left has one solution, since every other cycle leaks or
//! costs (Haddad and Monmege, *Interval iteration for MDPs*, 2018; Baier et al., *Stochastic shortest paths and weight-bounded
//! properties*, 2018).

use super::graph::Graph;
use super::interval::{Bounds, mean, plus};
use super::order::{Arrows, Local};
use super::values::Task;
use crate::components::components;
use crate::limits::{Limit, Pace};

/// The decisions of a part.
pub(super) struct Knot {
    /// For each vertex of the part its decision; [`NONE`] for nodes, and for what is no matter.
    pub(super) decision_of: Vec<u32>,
    /// For each vertex of the part what it is worth more than its decision.
    pub(super) shift: Vec<i64>,
    /// The states of each decision.
    pub(super) states: Vec<Vec<u32>>,
    /// The ways on: for each decision, a state and one of its arcs.
    pub(super) options: Vec<Vec<(u32, u32)>>,
}

/// No decision.
pub(super) const NONE: u32 = u32::MAX;

/// States and nodes in which play can stay for ever, and what each is worth more than the first of them.
pub(super) struct Group {
    members: Vec<u32>,
    shift: Vec<i64>,
}

/// What going round in a part can do.
pub(super) enum Rounds {
    /// Nothing, in these groups, and elsewhere only harm.
    Free(Vec<Group>),
    /// It gains every time.
    Gain,
    /// Not known.
    Unknown,
}

impl Knot {
    /// The decisions of a part that was taken up. O(its arrows).
    pub(super) fn new(task: &Task<'_>, local: &Local, groups: &[Group]) -> Knot {
        let g = task.g;
        let n = local.len();
        let mut knot =
            Knot { decision_of: vec![NONE; n], shift: vec![0; n], states: vec![], options: vec![] };
        let mut group_of = vec![NONE; n];
        for (k, group) in groups.iter().enumerate() {
            for (v, shift) in group.members.iter().zip(&group.shift) {
                let i = local.number(*v).expect("groups lie inside the part");
                group_of[i] = k as u32;
                knot.shift[i] = *shift;
            }
        }
        let mut decision_of_group = vec![NONE; groups.len()];
        for (i, &v) in local.members.iter().enumerate() {
            if !g.is_state(v) || !task.is_open(v) {
                continue;
            }
            let next = knot.states.len() as u32;
            let decision = match group_of[i] {
                NONE => next,
                k => {
                    let known = &mut decision_of_group[k as usize];
                    *known = (*known).min(next);
                    *known
                }
            };
            if decision == next {
                knot.states.push(vec![]);
                knot.options.push(vec![]);
            }
            knot.decision_of[i] = decision;
            knot.states[decision as usize].push(v);
            let inside =
                |t: u32| group_of[i] != NONE && local.number(t).is_some_and(|j| group_of[j] == group_of[i]);
            let arcs = g.arcs(v).filter(|a| task.permits(g.to(*a)) && !inside(g.to(*a)));
            knot.options[decision as usize].extend(arcs.map(|a| (v, a as u32)));
        }
        knot
    }

    /// The value of a state, given those of the decisions.
    #[inline]
    pub(super) fn value(&self, local: &Local, x: &[Bounds], values: &[Bounds], t: u32) -> Bounds {
        match local.number(t) {
            Some(i) if self.decision_of[i] != NONE => plus(self.shift[i], x[self.decision_of[i] as usize]),
            _ => values[t as usize],
        }
    }

    /// What an option is worth to its decision.
    pub(super) fn option(
        &self,
        task: &Task<'_>,
        local: &Local,
        x: &[Bounds],
        values: &[Bounds],
        (state, arc): (u32, u32),
    ) -> Bounds {
        let g = task.g;
        let to = g.to(arc as usize);
        // A node without outcomes is one of which nothing was seen: it is worth what it was taken to be worth.
        let behind = if g.is_state(to) || !g.leads_on(to) {
            self.value(local, x, values, to)
        } else {
            let (out, pattern) = g.outcomes(to);
            let parts = out.iter().zip(&pattern.weights).map(|(t, w)| (*w, self.value(local, x, values, *t)));
            mean(parts, task.scores(pattern))
        };
        let shift = local.number(state).map_or(0, |i| self.shift[i]);
        plus(task.gain(arc as usize) - shift, behind)
    }
}

/// The largest sets of vertices among `members`, with the arcs that `allowed` accepts, in which play can stay for ever. By
/// repeated splitting: de Alfaro, 1997, 3.3. O(arrows x depth of splitting).
pub(super) fn end_components(
    g: &Graph,
    members: &[u32],
    allowed: &dyn Fn(u32, usize) -> bool,
    pace: &mut Pace<'_>,
) -> Result<Vec<Vec<u32>>, Limit> {
    let mut local = Local::default();
    let mut work = vec![members.to_vec()];
    let mut out = vec![];
    while let Some(set) = work.pop() {
        local.take(g, &set);
        let mut inside = vec![true; set.len()];
        let stays = |inside: &[bool], v: u32| {
            let here = |t: u32| local.number(t).is_some_and(|i| inside[i]);
            if g.is_state(v) {
                g.arcs(v).any(|a| allowed(v, a) && here(g.to(a)))
            } else {
                let outcomes = g.outcomes(v).0;
                !outcomes.is_empty() && outcomes.iter().all(|t| here(*t))
            }
        };
        let mut left: Vec<u32> = (0..set.len() as u32).collect();
        while let Some(i) = left.pop() {
            pace.step(1)?;
            if inside[i as usize] && !stays(&inside, set[i as usize]) {
                inside[i as usize] = false;
                left.extend(local.sources(i as usize).iter().filter(|f| inside[**f as usize]));
            }
        }
        let list: Vec<u32> = (0..set.len()).filter(|i| inside[*i]).map(|i| set[i]).collect();
        if list.is_empty() {
            continue;
        }
        local.take(g, &list);
        let mut sub = Arrows::new();
        let here = |t: u32| local.number(t).map(|i| i as u32);
        for &v in &list {
            if g.is_state(v) {
                sub.push(g.arcs(v).filter(|a| allowed(v, *a)).filter_map(|a| here(g.to(a))));
            } else {
                sub.push(g.outcomes(v).0.iter().filter_map(|t| here(*t)));
            }
        }
        let parts = components(&sub, 0..list.len() as u32, |_| true, pace)?.lists();
        if parts.len() == 1 {
            out.push(list);
        } else {
            work.extend(parts.into_iter().map(|p| p.into_iter().map(|i| list[i as usize]).collect()));
        }
    }
    Ok(out)
}

/// Finds out what going round among these vertices can do. `members`: those of a part that are of interest.
pub(super) fn rounds(task: &Task<'_>, members: &[u32], pace: &mut Pace<'_>) -> Result<Rounds, Limit> {
    let g = task.g;
    let permits = |_: u32, a: usize| task.permits(g.to(a));
    let mut groups = vec![];
    for end in end_components(g, members, &permits, pace)? {
        let mut here = Local::default();
        here.take(g, &end);
        let inside = |v: u32, a: usize| permits(v, a) && here.number(g.to(a)).is_some();
        let (mut gains, mut costs) = (false, false);
        for &v in &end {
            if g.is_state(v) {
                for a in g.arcs(v).filter(|a| inside(v, *a)) {
                    gains |= task.betters(task.gain(a));
                    costs |= task.betters(-task.gain(a));
                }
            } else {
                for s in task.each_score(g.outcomes(v).1) {
                    gains |= task.betters(s);
                    costs |= task.betters(-s);
                }
            }
        }
        match (gains, costs) {
            (false, false) => groups.push(Group { shift: vec![0; end.len()], members: end }),
            (true, false) => return Ok(Rounds::Gain),
            // Where only parts of it go round for nothing, those are free.
            (false, true) => {
                let free = |v: u32, a: usize| inside(v, a) && task.gain(a) == 0;
                let quiet = |v: &u32| g.is_state(*v) || task.each_score(g.outcomes(*v).1).all(|s| s == 0);
                let quiet: Vec<u32> = end.iter().copied().filter(quiet).collect();
                let free = end_components(g, &quiet, &free, pace)?;
                groups.extend(free.into_iter().map(|e| Group { shift: vec![0; e.len()], members: e }));
            }
            (true, true) => match potentials(task, &end, &here, &inside) {
                Some(shift) => groups.push(Group { members: end, shift }),
                None => match mean_gain(task, &end, &here, &inside, pace)? {
                    Some(true) => return Ok(Rounds::Gain),
                    Some(false) => {}
                    None => return Ok(Rounds::Unknown),
                },
            },
        }
    }
    Ok(Rounds::Free(groups))
}

/// Where every round comes to nothing in the end, whatever is drawn: what each vertex is worth more than the first one.
fn potentials(
    task: &Task<'_>,
    end: &[u32],
    here: &Local,
    inside: &dyn Fn(u32, usize) -> bool,
) -> Option<Vec<i64>> {
    let g = task.g;
    let mut shift: Vec<Option<i64>> = vec![None; end.len()];
    shift[0] = Some(0);
    let mut work = vec![0usize];
    // What a step gains is what its target is worth less.
    let step = |shift: &mut Vec<Option<i64>>, work: &mut Vec<usize>, from: usize, to: u32, gain: i64| {
        let Some(j) = here.number(to) else { return true };
        let want = shift[from].and_then(|s| s.checked_sub(gain));
        match (shift[j], want) {
            (_, None) => false,
            (None, w) => {
                shift[j] = w;
                work.push(j);
                true
            }
            (known, w) => known == w,
        }
    };
    while let Some(i) = work.pop() {
        let v = end[i];
        if g.is_state(v) {
            for a in g.arcs(v).filter(|a| inside(v, *a)) {
                if !step(&mut shift, &mut work, i, g.to(a), task.gain(a)) {
                    return None;
                }
            }
        } else {
            let (out, pattern) = g.outcomes(v);
            for (k, t) in out.iter().enumerate() {
                let score = pattern.scores.get(k).copied().unwrap_or(0);
                let weight = pattern.weights[k] as i64;
                if weight == 0 || score % weight != 0 || !step(&mut shift, &mut work, i, *t, score / weight) {
                    return None;
                }
            }
        }
    }
    shift.into_iter().collect()
}

/// Rounds over an end component until the sign of what a round gains in the mean is known.
const GAIN_ROUNDS: usize = 20_000;

/// Whether the best way of going round gains in the mean (`true`), or every way costs. Bounds by one step of the equations:
/// A. R. Odoni, *On finding the maximal gain for Markov decision processes*, Operations Research 17 (1969). `None` where the
/// bounds do not part from 0.
fn mean_gain(
    task: &Task<'_>,
    end: &[u32],
    here: &Local,
    inside: &dyn Fn(u32, usize) -> bool,
    pace: &mut Pace<'_>,
) -> Result<Option<bool>, Limit> {
    let g = task.g;
    let states: Vec<usize> = (0..end.len()).filter(|i| g.is_state(end[*i])).collect();
    let mut x: Vec<Bounds> = vec![(0.0, 0.0); end.len()];
    for _ in 0..GAIN_ROUNDS {
        let (mut least, mut most) = (f64::INFINITY, f64::NEG_INFINITY);
        let at = |x: &[Bounds], t: u32| here.number(t).map_or((0.0, 0.0), |i| x[i]);
        let mut next = x.clone();
        for &i in &states {
            pace.step(8)?;
            let v = end[i];
            let mut best: Option<Bounds> = None;
            for a in g.arcs(v).filter(|a| inside(v, *a)) {
                let to = g.to(a);
                let behind = if g.is_state(to) {
                    at(&x, to)
                } else {
                    let (out, pattern) = g.outcomes(to);
                    mean(
                        out.iter().zip(&pattern.weights).map(|(t, w)| (*w, at(&x, *t))),
                        task.scores(pattern),
                    )
                };
                let value = plus(task.gain(a), behind);
                best = Some(best.map_or(value, |b| task.better_of(b, value)));
            }
            let best = best.unwrap_or((0.0, 0.0));
            least = least.min(super::interval::add_down(best.0, -x[i].1));
            most = most.max(super::interval::add_up(best.1, -x[i].0));
            // Half a step, so that play in turns does not go to and fro for ever.
            let middle = f64::midpoint(f64::midpoint(best.0, best.1), x[i].0);
            next[i] = (middle, middle);
        }
        let base = states.first().map_or(0.0, |i| next[*i].0);
        for &i in &states {
            let v = next[i].0 - base;
            x[i] = (v, v);
        }
        let (good, bad) = if task.most { (least > 0.0, most < 0.0) } else { (most < 0.0, least > 0.0) };
        if good || bad {
            return Ok(Some(good));
        }
    }
    Ok(None)
}
