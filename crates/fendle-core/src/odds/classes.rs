//! What can be said of each vertex by the graph alone: whether a goal can be reached, whether some way of playing wins against
//! every draw or with probability 1, whether some way of playing ends.

use rayon::prelude::*;

use super::graph::Graph;
use super::order::{Local, Parts};
use crate::limits::{Limit, Pace};
use crate::space::Class;

/// A goal can be reached.
pub(super) const REACHES: u8 = 1;
/// Something open can be reached.
pub(super) const OPEN: u8 = 2;
/// Some way of playing wins against every draw.
pub(super) const CERTAIN: u8 = 4;
/// Some way of playing wins with probability 1.
pub(super) const ALMOST: u8 = 8;
/// Some way of playing ends with probability 1, won or not.
pub(super) const ENDS: u8 = 16;

/// Every vertex.
pub(super) const SEEN: u8 = 32;

/// Marks of every vertex, and counts.
pub(super) struct Marks {
    pub(super) of: Vec<u8>,
    pub(super) fatal_moves: u64,
    pub(super) fatal_draws: u64,
}

impl Marks {
    #[inline]
    pub(super) fn has(&self, v: u32, mark: u8) -> bool {
        self.of[v as usize] & mark != 0
    }

    /// Finds all marks, gives every running state its class, and counts fatal moves and draws. One pass over the parts; inside
    /// a part with cycles, sets that grow or shrink until nothing changes (de Alfaro, *Formal Verification of Probabilistic
    /// Systems*, 1997, 3.3). O(V + E) without cycles.
    pub(super) fn find(
        g: &mut Graph,
        parts: &Parts,
        has_goal: bool,
        pace: &mut Pace<'_>,
    ) -> Result<Marks, Limit> {
        let mut marks = Marks { of: vec![SEEN; g.vertices_len()], fatal_moves: 0, fatal_draws: 0 };
        let mut local = Local::default();
        if parts.has_none() && !g.classes.contains(&Class::Idle) {
            let mut of = std::mem::take(&mut marks.of);
            parts.fill(g, &mut of, |v, of| alone(g, v, of), pace)?;
            marks.of = of;
            marks.classify(g, has_goal);
            marks.count_fatal(g, pace)?;
            return Ok(marks);
        }
        for part in parts.iter() {
            pace.step(part.len() as u64)?;
            wake_idle(g, part);
            if !parts.has_cycle(part) {
                marks.of[part[0] as usize] = alone(g, part[0], &marks.of);
                continue;
            }
            let mut reach = 0;
            for &v in part {
                let own = own(g, v);
                marks.of[v as usize] |= own;
                reach |= own & (REACHES | OPEN);
                g.each(v, |t| reach |= marks.of[t as usize] & (REACHES | OPEN));
            }
            for &v in part {
                marks.of[v as usize] |= reach & (REACHES | OPEN);
            }
            local.take(g, part);
            marks.attract(g, &local, pace)?;
            marks.stay(g, &local, ALMOST, pace)?;
            marks.stay(g, &local, ENDS, pace)?;
        }
        marks.classify(g, has_goal);
        marks.count_fatal(g, pace)?;
        Ok(marks)
    }

    /// Gives every running state its class.
    fn classify(&self, g: &mut Graph, has_goal: bool) {
        for s in 0..g.states_len() {
            if g.classes[s] == Class::Running {
                g.classes[s] = match self.of[s] {
                    _ if !has_goal => Class::Free,
                    m if m & REACHES != 0 => Class::Winnable,
                    m if m & OPEN != 0 => Class::Open,
                    _ => Class::Dead,
                };
            }
        }
    }

    /// Marks those vertices of a part from which play gets to a certain one against every draw.
    fn attract(&mut self, g: &Graph, local: &Local, pace: &mut Pace<'_>) -> Result<(), Limit> {
        // How many arrows of a node lead to no certain vertex yet.
        let missing = |m: &Marks, v: u32| {
            let mut n = 0u32;
            g.each(v, |t| n += u32::from(!m.has(t, CERTAIN)));
            n
        };
        let mut left: Vec<u32> = local.members.iter().map(|&v| missing(self, v)).collect();
        let mut work: Vec<u32> = vec![];
        for (i, &v) in local.members.iter().enumerate() {
            if follows(g, v, |t| self.has(t, CERTAIN)) {
                work.push(i as u32);
                self.of[v as usize] |= CERTAIN;
            }
        }
        while let Some(i) = work.pop() {
            pace.step(1)?;
            for &from in local.sources(i as usize) {
                left[from as usize] -= 1;
                let v = local.members[from as usize];
                if !self.has(v, CERTAIN) && (g.is_state(v) || left[from as usize] == 0) {
                    self.of[v as usize] |= CERTAIN;
                    work.push(from);
                }
            }
        }
        Ok(())
    }

    /// Marks the greatest set of vertices of a part from which play can get out of the part to a marked one without ever
    /// leaving the set and the marked ones.
    fn stay(&mut self, g: &Graph, local: &Local, mark: u8, pace: &mut Pace<'_>) -> Result<(), Limit> {
        let n = local.len();
        let mut inside = vec![true; n];
        let fine = |m: &Marks, inside: &[bool], t: u32| match local.number(t) {
            Some(i) => inside[i],
            None => m.has(t, mark),
        };
        loop {
            // Those that cannot stay go, and then those that only led to them.
            let mut work: Vec<u32> = (0..n as u32).collect();
            while let Some(i) = work.pop() {
                pace.step(1)?;
                let v = local.members[i as usize];
                if inside[i as usize] && !follows(g, v, |t| fine(self, &inside, t)) {
                    inside[i as usize] = false;
                    work.extend(local.sources(i as usize).iter().filter(|f| inside[**f as usize]));
                }
            }
            // From which of those that are left is there a way out?
            let mut reach = vec![false; n];
            for i in (0..n).filter(|i| inside[*i]) {
                let mut out = false;
                g.each(local.members[i], |t| out |= local.number(t).is_none() && self.has(t, mark));
                if out {
                    reach[i] = true;
                    work.push(i as u32);
                }
            }
            while let Some(i) = work.pop() {
                pace.step(1)?;
                for &from in local.sources(i as usize) {
                    if inside[from as usize] && !reach[from as usize] {
                        reach[from as usize] = true;
                        work.push(from);
                    }
                }
            }
            let same = reach == inside;
            inside = reach;
            if same {
                break;
            }
        }
        for i in (0..n).filter(|i| inside[*i]) {
            self.of[local.members[i] as usize] |= mark;
        }
        Ok(())
    }

    fn count_fatal(&mut self, g: &Graph, pace: &mut Pace<'_>) -> Result<(), Limit> {
        // For each node how many outcomes are bad where another one is not, and in the lowest bit whether all are. Of what was not
        // seen to its end neither is known.
        let states = g.states_len() as u32;
        let of_node = |v: u32| {
            let out = g.outcomes(v).0;
            let bad = out.iter().filter(|t| g.classes[**t as usize].is_bad()).count();
            let is_hopeful = bad > 0 && out.iter().any(|t| g.classes[*t as usize].is_hopeful());
            if is_hopeful { (bad as u32) << 1 } else { u32::from(bad == out.len() && bad > 0) }
        };
        let mut bad: Vec<u32> = vec![];
        let nodes = states..g.vertices_len() as u32;
        g.on_threads(|| nodes.into_par_iter().with_min_len(PIECE).map(of_node).collect_into_vec(&mut bad));
        let of_state = |s: u32| {
            let (mut moves, mut draws) = (0u64, 0u64);
            for arc in g.arcs(s) {
                let to = g.to(arc);
                if g.is_state(to) {
                    moves += u64::from(g.classes[to as usize].is_bad());
                } else {
                    let (all, bad) = (bad[(to - states) as usize] & 1, bad[(to - states) as usize] >> 1);
                    moves += u64::from(all);
                    draws += u64::from(bad);
                }
            }
            (moves, draws)
        };
        let winnable = |s: &u32| g.classes[*s as usize] == Class::Winnable;
        let mut from = 0;
        while from < states {
            let to = (from + 64 * PIECE as u32).min(states);
            pace.step(2 * u64::from(to - from))?;
            let piece = (from..to).into_par_iter().with_min_len(PIECE).filter(winnable).map(of_state);
            let (moves, draws) = g.on_threads(|| piece.reduce(|| (0, 0), |a, b| (a.0 + b.0, a.1 + b.1)));
            self.fatal_moves += moves;
            self.fatal_draws += draws;
            from = to;
        }
        Ok(())
    }
}

/// Vertices that one thread works on at a time.
const PIECE: usize = 1 << 13;

/// The marks of a vertex that is a part by itself: its own, what some of those behind it have, and of a node what all have.
fn alone(g: &Graph, v: u32, of: &[u8]) -> u8 {
    let (mut some, mut all) = (0, u8::MAX);
    g.each(v, |t| {
        let mark = of[t as usize];
        some |= mark;
        all &= mark;
    });
    let follows = if g.is_state(v) {
        some
    } else if g.leads_on(v) {
        all
    } else {
        0
    };
    of[v as usize] | own(g, v) | some & (REACHES | OPEN) | follows & (CERTAIN | ALMOST | ENDS)
}

/// The marks that a vertex has of itself.
fn own(g: &Graph, v: u32) -> u8 {
    if g.is_state(v) {
        match g.classes[v as usize] {
            Class::Goal => REACHES | CERTAIN | ALMOST | ENDS,
            Class::Lost | Class::Over | Class::Stuck => ENDS,
            Class::Open => OPEN,
            _ => 0,
        }
    } else if g.outcomes(v).0.is_empty() {
        OPEN
    } else {
        0
    }
}

/// Whether a vertex can make sure that the next one is good: a state by one of its moves, a node by all of its outcomes.
#[inline]
fn follows(g: &Graph, v: u32, good: impl Fn(u32) -> bool) -> bool {
    if g.is_state(v) {
        g.arcs(v).any(|a| good(g.to(a)))
    } else {
        let out = g.outcomes(v).0;
        !out.is_empty() && out.iter().all(|t| good(*t))
    }
}

/// Idle states whose waiting leads only to idle or stuck states are stuck; the others are running.
fn wake_idle(g: &mut Graph, part: &[u32]) {
    let idle = |g: &Graph, v: u32| g.is_state(v) && g.classes[v as usize] == Class::Idle;
    if !part.iter().any(|v| idle(g, *v)) {
        return;
    }
    let mut stays = true;
    for &v in part {
        stays &= !g.is_state(v) || idle(g, v);
        // What lies behind the part has its class already: what is still idle belongs to it.
        let still = |t: u32| matches!(g.classes[t as usize], Class::Idle | Class::Stuck);
        g.each(v, |t| {
            stays &= if g.is_state(t) {
                still(t)
            } else {
                g.leads_on(t) && g.outcomes(t).0.iter().all(|o| still(*o))
            };
        });
    }
    for &v in part {
        if idle(g, v) {
            g.classes[v as usize] = if stays { Class::Stuck } else { Class::Running };
        }
    }
}
