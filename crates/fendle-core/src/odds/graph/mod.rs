//! A space with chance, written out as a graph in flat tables.
//!
//! ```text
//! states   packed, found by a table, numbered in the order in which they were met: nearest first
//! arcs     of each state: where each allowed move leads, a state or a position before a draw
//! nodes    positions before a draw (or, where moves do not stop there, single moves that draw): where the draws lead
//! patterns the weights and scores of a node's outcomes; nodes with the same share them
//! ```
//!
//! Moves of any states that come to the same position before their first draw share its outcomes, which are made once.
//!
//! # Cost
//!
//! With S states of b bytes, A allowed moves, N positions and O outcomes of them: `(b + 10) S + (5 to 8) A + (b + 18) N + 4 O`
//! bytes while it is made, some `5 (S + N)` less afterwards. The rules run on all threads; what they give is put into the tables
//! by one, in a fixed order, so the numbers do not depend on the threads.

mod by_number;
mod crew;
mod found;
mod write;

use std::sync::OnceLock;

use rayon::prelude::*;

use super::NoOdds;
use crate::components::Digraph;
use crate::explore::pool;
use crate::limits::{Limit, Limits, Watch};
use crate::model::{Fault, Layout, Model, MoveId};
use crate::space::Class;
use found::States;
use write::{Builder, Halted};

/// The chances of the outcomes of a node.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Pattern {
    pub(super) weights: Box<[u64]>,
    /// Mean scores times weights; empty where scores do not matter, or are 0.
    pub(super) scores: Box<[i64]>,
}

impl Pattern {
    pub(super) fn total(&self) -> u128 {
        self.weights.iter().map(|w| u128::from(*w)).sum()
    }
}

/// Move numbers, as narrow as they can be.
enum Moves {
    Byte(Vec<u8>),
    Half(Vec<u16>),
    Word(Vec<u32>),
}

impl Moves {
    fn below(most: usize) -> Moves {
        match most {
            0..=0x100 => Moves::Byte(vec![]),
            0x101..=0x1_0000 => Moves::Half(vec![]),
            _ => Moves::Word(vec![]),
        }
    }
    fn push(&mut self, of: MoveId) {
        match self {
            Moves::Byte(v) => v.push(of.0 as u8),
            Moves::Half(v) => v.push(of.0 as u16),
            Moves::Word(v) => v.push(of.0),
        }
    }
    fn make_room(&mut self, more: usize) {
        match self {
            Moves::Byte(v) => make_room(v, more),
            Moves::Half(v) => make_room(v, more),
            Moves::Word(v) => make_room(v, more),
        }
    }
    fn truncate(&mut self, len: usize) {
        match self {
            Moves::Byte(v) => v.truncate(len),
            Moves::Half(v) => v.truncate(len),
            Moves::Word(v) => v.truncate(len),
        }
    }
    fn get(&self, i: usize) -> MoveId {
        MoveId(match self {
            Moves::Byte(v) => v[i].into(),
            Moves::Half(v) => v[i].into(),
            Moves::Word(v) => v[i],
        })
    }
    fn bytes(&self) -> u64 {
        match self {
            Moves::Byte(v) => v.capacity() as u64,
            Moves::Half(v) => 2 * v.capacity() as u64,
            Moves::Word(v) => 4 * v.capacity() as u64,
        }
    }
}

/// Makes room for more entries, an eighth at a time: doubling would take twice the memory at the end.
fn make_room<T>(v: &mut Vec<T>, more: usize) {
    if v.capacity() - v.len() < more {
        v.reserve_exact(more.max(v.len() / 8));
    }
}

/// The graph. *Vertices* are the states, from 0, and then the nodes.
pub(super) struct Graph {
    layout: Layout,
    states: States,
    /// The starts, each once, and their weights.
    pub(super) starts: Vec<(u32, u64)>,
    /// What is known of each state.
    pub(super) classes: Vec<Class>,
    /// First state of each depth, and one past the last state.
    pub(super) levels: Vec<u32>,
    /// The first node that is met from each depth, and one past the last node.
    pub(super) node_levels: Vec<u32>,
    arc_first: Vec<u32>,
    arc_to: Vec<u32>,
    arc_of: Moves,
    /// Score of each arc; empty where none scores.
    arc_score: Vec<i64>,
    node_first: Vec<u32>,
    out_to: Vec<u32>,
    pattern: Vec<u32>,
    patterns: Vec<Pattern>,
    /// What ended the writing before everything was seen.
    pub(super) limit: Option<Limit>,
    /// Branches of chance were set aside: such states are open.
    pub(super) set_aside: bool,
    /// States standing for what was set aside.
    pub(super) aside: Vec<u32>,
    /// How many threads work on it, and these threads, when there was need of them.
    threads: usize,
    pool: OnceLock<rayon::ThreadPool>,
}

/// Why there is no graph: the model broke.
pub(super) struct Broke {
    pub(super) fault: Fault,
    /// Whether moves stopped before their draws: without that the fault may be another one, or none.
    pub(super) apart: bool,
}

impl Graph {
    /// Runs something on the threads that may work on it.
    pub(super) fn on_threads<T: Send>(&self, run: impl FnOnce() -> T + Send) -> T {
        pool(&self.pool, self.threads).install(run)
    }

    /// How many states there are.
    pub(super) fn states_len(&self) -> usize {
        self.classes.len()
    }

    /// How many vertices there are.
    pub(super) fn vertices_len(&self) -> usize {
        self.states_len() + self.pattern.len()
    }

    /// Whether a vertex is a state.
    #[inline]
    pub(super) fn is_state(&self, v: u32) -> bool {
        (v as usize) < self.classes.len()
    }

    /// The arcs of a state, by number.
    #[inline]
    pub(super) fn arcs(&self, state: u32) -> std::ops::Range<usize> {
        self.arc_first[state as usize] as usize..self.arc_first[state as usize + 1] as usize
    }

    /// The vertex that an arc leads to.
    #[inline]
    pub(super) fn to(&self, arc: usize) -> u32 {
        self.arc_to[arc]
    }

    /// The move of an arc.
    pub(super) fn of(&self, arc: usize) -> MoveId {
        self.arc_of.get(arc)
    }

    /// The score of an arc, without that of the draws behind it.
    #[inline]
    pub(super) fn score(&self, arc: usize) -> i64 {
        self.arc_score.get(arc).copied().unwrap_or(0)
    }

    /// The states that a node leads to, and their chances. No outcomes: nothing is known of it.
    #[inline]
    pub(super) fn outcomes(&self, node: u32) -> (&[u32], &Pattern) {
        let n = node as usize - self.classes.len();
        let range = self.node_first[n] as usize..self.node_first[n + 1] as usize;
        (&self.out_to[range], &self.patterns[self.pattern[n] as usize])
    }

    /// How many arcs there are.
    pub(super) fn arcs_len(&self) -> usize {
        self.arc_to.len()
    }

    /// How many arrows between vertices there are: arcs, and outcomes of nodes.
    pub(super) fn arrows_len(&self) -> usize {
        self.arc_to.len() + self.out_to.len()
    }

    /// How many outcomes an arc has.
    pub(super) fn outcomes_len(&self, arc: usize) -> u32 {
        let to = self.to(arc);
        if self.is_state(to) { 1 } else { self.outcomes(to).0.len() as u32 }
    }

    /// The packed words of a state.
    pub(super) fn state(&self, s: u32) -> Vec<u64> {
        self.states.state(s as usize)
    }

    /// Triples of a state, an allowed move and an outcome.
    pub(super) fn transitions(&self) -> u64 {
        let each = (0..self.arc_to.len()).into_par_iter().with_min_len(1 << 14);
        self.on_threads(|| each.map(|a| u64::from(self.outcomes_len(a))).sum())
    }

    /// Calls `visit` with every vertex that a vertex leads to.
    #[inline]
    pub(super) fn each(&self, v: u32, mut visit: impl FnMut(u32)) {
        (self.first(v)..self.first(v + 1)).for_each(|a| visit(self.target(a)));
    }

    /// Whether anything follows a vertex.
    #[inline]
    pub(super) fn leads_on(&self, v: u32) -> bool {
        self.first(v) < self.first(v + 1)
    }

    /// Bytes that the tables take.
    pub(super) fn bytes(&self) -> u64 {
        let words = 4
            * (self.arc_first.capacity()
                + self.arc_to.capacity()
                + self.node_first.capacity()
                + self.out_to.capacity()
                + self.pattern.capacity());
        self.states.bytes()
            + self.classes.capacity() as u64
            + self.arc_of.bytes()
            + 8 * self.arc_score.capacity() as u64
            + words as u64
    }

    /// Writes a space out, with moves that stop before their draws where that can be.
    ///
    /// # Errors
    ///
    /// [`NoOdds::Fault`].
    pub(super) fn written(model: &dyn Model, limits: &Limits, watch: &dyn Watch) -> Result<Graph, NoOdds> {
        match Graph::new(model, limits, watch, true) {
            Ok(g) => Ok(g),
            // The fault, or whether there is one at all, is told by moves that are made in one piece.
            Err(broke) if broke.apart => {
                Graph::new(model, limits, watch, false).map_err(|b| NoOdds::Fault(b.fault))
            }
            Err(broke) => Err(NoOdds::Fault(broke.fault)),
        }
    }

    /// Writes a space out: everything that can be reached from the model's starts.
    ///
    /// A limit is noted in the graph; states that were not expanded are then open.
    ///
    /// # Errors
    ///
    /// [`Broke`] where the model broke; and a fault of a start.
    pub(super) fn new(
        model: &dyn Model,
        limits: &Limits,
        watch: &dyn Watch,
        apart: bool,
    ) -> Result<Graph, Broke> {
        Graph::within(model, limits, watch, apart, None)
    }

    /// The same as far as so many moves lead; of the states there only their class is known.
    pub(super) fn within(
        model: &dyn Model,
        limits: &Limits,
        watch: &dyn Watch,
        apart: bool,
        most: Option<u32>,
    ) -> Result<Graph, Broke> {
        let mut builder = Builder::new(model, limits, watch, apart);
        builder.most = most;
        builder.starts().map_err(|fault| Broke { fault, apart: false })?;
        to_the_end(builder)
    }
}

/// Writes out what is left, with states by number where that pays.
fn to_the_end(mut builder: Builder<'_>) -> Result<Graph, Broke> {
    let stop = match builder.run() {
        Ok(()) => return Ok(builder.finish()),
        Err(stop) => stop,
    };
    let begun = |fault| Broke { fault, apart: false };
    match stop {
        Halted::Fault(fault) => Err(Broke { fault, apart: builder.form.is_some() }),
        Halted::Limit(limit) => {
            builder.g.limit = Some(limit);
            Ok(builder.finish())
        }
        Halted::ByNumber => match builder.numbers() {
            None => to_the_end(builder),
            Some((Some(narrow), numbering)) => {
                to_the_end(builder.again(&*narrow, Some(numbering)).map_err(begun)?)
            }
            Some((None, numbering)) => {
                let model = builder.model;
                to_the_end(builder.again(model, Some(numbering)).map_err(begun)?)
            }
        },
        Halted::NoNumber(strays) => match builder.wider(&strays) {
            Some((wide, numbering)) => to_the_end(builder.renumbered(&*wide, numbering)),
            None => {
                let model = builder.model;
                to_the_end(builder.again(model, None).map_err(begun)?)
            }
        },
    }
}

impl Digraph for Graph {
    fn len(&self) -> usize {
        self.vertices_len()
    }
    #[inline]
    fn first(&self, node: u32) -> u32 {
        let (v, states) = (node as usize, self.classes.len());
        // Outcomes are numbered behind the arcs.
        if v < states { self.arc_first[v] } else { self.arc_to.len() as u32 + self.node_first[v - states] }
    }
    #[inline]
    fn target(&self, arrow: u32) -> u32 {
        let arrow = arrow as usize;
        match self.arc_to.get(arrow) {
            Some(to) => *to,
            None => self.out_to[arrow - self.arc_to.len()],
        }
    }
}
