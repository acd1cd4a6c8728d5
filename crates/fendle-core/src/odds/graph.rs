//! A classified space written out as a graph with weights, in flat tables.

use std::collections::HashMap;

use crate::components::{Digraph, components};
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::{Expansion, Model, MoveId, Odds};
use crate::space::{Class, Space};

#[derive(Clone, Copy)]
pub(super) struct RunAt {
    pub(super) of: MoveId,
    pub(super) first: u32,
    pub(super) len: u32,
}

/// The space written out: for each state its runs, for each run its outcomes.
pub(super) struct Graph {
    /// First run of a state, by id; one more entry at the end.
    pub(super) runs_of: Vec<(u32, u32)>,
    pub(super) runs: Vec<RunAt>,
    pub(super) to: Vec<u32>,
    pub(super) odds: Vec<Odds>,
    pub(super) classes: Vec<Class>,
}

/// Bytes of one outcome in the tables.
const OUTCOME_BYTES: usize = 36;

impl Graph {
    pub(super) fn runs(&self, s: u32) -> &[RunAt] {
        let (from, to) = self.runs_of[s as usize];
        &self.runs[from as usize..to as usize]
    }
    pub(super) fn outcomes(&self, r: RunAt) -> impl Iterator<Item = (u32, Odds)> + '_ {
        let range = r.first as usize..(r.first + r.len) as usize;
        self.to[range.clone()].iter().copied().zip(self.odds[range].iter().copied())
    }
    pub(super) fn total(&self, r: RunAt) -> u128 {
        self.odds[r.first as usize..(r.first + r.len) as usize].iter().map(|o| u128::from(o.weight)).sum()
    }

    /// Expands every running state of a space once more.
    ///
    /// # Errors
    ///
    /// The [`Limit`] that the watch names, or [`Limit::Memory`] when the graph would not fit.
    pub(super) fn new(
        model: &dyn Model,
        space: &Space,
        limits: &Limits,
        watch: &dyn Watch,
    ) -> Result<Graph, Limit> {
        let ids = space.ids_len();
        let mut g = Graph {
            runs_of: vec![(0, 0); ids],
            runs: vec![],
            to: vec![],
            odds: vec![],
            classes: vec![Class::Open; ids],
        };
        let words = model.layout().words();
        let mut worker = model.worker();
        let mut out = Expansion::default();
        let mut expanded = 0;
        let mut looked = 0;
        for id in space.ids() {
            let class = space.class(id);
            g.classes[id.index()] = class;
            if !matches!(class, Class::Winnable | Class::Dead | Class::Free | Class::Open) {
                continue;
            }
            expanded += 1;
            out.clear();
            worker.expand(&space.state(id), false, &mut out);
            let from = g.runs.len() as u32;
            let mut states = out.outcomes.chunks_exact(words);
            let mut at = 0;
            let before = (g.runs.len(), g.to.len());
            let mut whole = out.unfinished.is_empty();
            if g.to.len() + out.outcomes_len() >= u32::MAX as usize {
                return Err(Limit::Memory);
            }
            for run in &out.runs {
                let first = g.to.len() as u32;
                for state in states.by_ref().take(run.outcomes as usize) {
                    match space.find(state) {
                        Some(t) => g.to.push(t.number()),
                        None => whole = false,
                    }
                    g.odds.push(out.odds.get(at).copied().unwrap_or(Odds::SURE));
                    at += 1;
                }
                g.runs.push(RunAt { of: run.of, first, len: run.outcomes });
            }
            if !whole {
                // Not expanded within the limits: nothing is known behind it.
                g.runs.truncate(before.0);
                g.to.truncate(before.1);
                g.odds.truncate(before.1);
                g.classes[id.index()] = Class::Open;
            }
            g.runs_of[id.index()] = (from, g.runs.len() as u32);
            looked += 16 + out.outcomes_len();
            if looked > 4096 {
                looked = 0;
                let bytes = (g.to.len() * OUTCOME_BYTES + g.runs.len() * 12 + ids * 9) as u64;
                let depth = space.depth_of(id);
                let progress = Progress { states: space.states_len(), expanded, depth, bytes, numbers: None };
                if let Some(limit) = watch.look(&progress) {
                    return Err(limit);
                }
                if space.bytes() + bytes > limits.memory_bytes {
                    return Err(Limit::Memory);
                }
            }
        }
        Ok(g)
    }

    /// Strongly connected parts of the states that `inside` accepts, successors first.
    pub(super) fn parts(
        &self,
        inside: impl Fn(u32) -> bool,
        pace: &mut Pace<'_>,
    ) -> Result<Vec<Vec<u32>>, Limit> {
        Ok(components(self, 0..self.classes.len() as u32, inside, pace)?.lists())
    }

    pub(super) fn has_loop(&self, part: &[u32]) -> bool {
        part.len() > 1 || self.runs(part[0]).iter().any(|r| self.outcomes(*r).any(|(t, _)| t == part[0]))
    }
}

impl Digraph for Graph {
    fn len(&self) -> usize {
        self.classes.len()
    }
    // The outcomes of a state lie one after the other.
    fn arrows(&self, from: u32) -> (u32, u32) {
        match self.runs(from) {
            [] => (0, 0),
            [first, .., last] => (first.first, last.first + last.len),
            [only] => (only.first, only.first + only.len),
        }
    }
    #[inline]
    fn target(&self, arrow: u32) -> u32 {
        self.to[arrow as usize]
    }
}

/// The runs of some states that stay among them, with numbers of their own.
struct Staying {
    first: Vec<u32>,
    to: Vec<u32>,
}

impl Digraph for Staying {
    fn len(&self) -> usize {
        self.first.len() - 1
    }
    fn arrows(&self, from: u32) -> (u32, u32) {
        (self.first[from as usize], self.first[from as usize + 1])
    }
    fn target(&self, arrow: u32) -> u32 {
        self.to[arrow as usize]
    }
}

/// The largest sets of states of a part, with the runs that never leave them, in which play can stay for
/// ever (end components). By repeated splitting: de Alfaro, 1997, 3.3. Memory: the part, not the space.
pub(super) fn end_components(g: &Graph, part: &[u32], pace: &mut Pace<'_>) -> Result<Vec<Vec<u32>>, Limit> {
    let mut work = vec![part.to_vec()];
    let mut out = vec![];
    while let Some(set) = work.pop() {
        let mut inside: std::collections::HashSet<u32> = set.iter().copied().collect();
        // States whose runs all leave go; until none does.
        loop {
            pace.step(8 * inside.len() as u64)?;
            let stays = |s: &u32| g.runs(*s).iter().any(|r| g.outcomes(*r).all(|(t, _)| inside.contains(&t)));
            let gone: Vec<u32> = inside.iter().copied().filter(|s| !stays(s)).collect();
            if gone.is_empty() {
                break;
            }
            gone.iter().for_each(|s| {
                inside.remove(s);
            });
        }
        if inside.is_empty() {
            continue;
        }
        // Strongly connected by the runs that stay.
        let mut list: Vec<u32> = inside.iter().copied().collect();
        list.sort_unstable();
        let number: HashMap<u32, u32> = list.iter().enumerate().map(|(i, s)| (*s, i as u32)).collect();
        let mut sub = Staying { first: vec![0], to: vec![] };
        for &s in &list {
            for r in g.runs(s) {
                if g.outcomes(*r).all(|(t, _)| inside.contains(&t)) {
                    sub.to.extend(g.outcomes(*r).map(|(t, _)| number[&t]));
                }
            }
            sub.first.push(sub.to.len() as u32);
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
