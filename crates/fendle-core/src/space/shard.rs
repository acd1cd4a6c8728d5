//! One part of the states that hashed tables hold, with their classes and edges.

use std::ops::Range;

use super::classes::{Class, Classes, Known};
use super::id::{LOCAL_MAX, StateId};
use super::log::{Edge, EdgeLog, Targets};
use super::table::StateTable;
use crate::model::Layout;

/// One of [`SHARDS`] parts of a space: states whose hashes begin alike.
pub(crate) struct Shard {
    number: usize,
    pub(crate) table: StateTable,
    pub(crate) classes: Classes,
    log: EdgeLog,
    /// How many states, in local order, were expanded.
    expanded: u32,
}

impl Shard {
    pub(crate) fn new(number: usize, layout: Layout) -> Shard {
        Shard {
            number,
            table: StateTable::new(layout, LOCAL_MAX),
            classes: Classes::default(),
            log: EdgeLog::new(),
            expanded: 0,
        }
    }

    pub(crate) fn len(&self) -> usize {
        self.table.len()
    }

    pub(crate) fn expanded(&self) -> u32 {
        self.expanded
    }

    /// Finds or adds a state. `None` when the shard holds all it can number.
    pub(crate) fn insert(&mut self, state: &[u64], hash: u64) -> Option<(StateId, bool)> {
        let found = self.table.insert(state, hash);
        self.grow_classes();
        found.map(|(local, new)| (StateId::new(self.number, local), new))
    }

    /// Inserts whole states one after the other and appends their ids. False when the shard is full; the rest is then not
    /// inserted.
    pub(crate) fn insert_all(&mut self, states: &[u64], ids: &mut Vec<StateId>) -> bool {
        let fits = self.table.insert_all(states, |local, _| {
            ids.push(StateId::new(self.number, local));
            true
        });
        self.grow_classes();
        fits
    }

    fn grow_classes(&mut self) {
        self.classes.grow_to(self.table.len());
    }

    /// Takes the state added last out again.
    pub(crate) fn pop(&mut self) {
        self.table.pop();
        self.classes.pop();
    }

    /// Keeps the edges of the next state in local order, of a model whose moves can have several outcomes.
    pub(crate) fn log_edges(&mut self, edges: &[Edge]) {
        self.log.append(edges, false);
    }

    /// Keeps what the next states in local order lead to, in a row, and to how many each of them: of a model all of whose moves have one outcome.
    pub(crate) fn log_sure(&mut self, targets: &[StateId], degrees: impl Iterator<Item = usize> + Clone) {
        self.log.append_sure(targets, degrees);
    }

    /// Counts the next states in local order as expanded: the class of each, and how many edges it has.
    pub(crate) fn expand(&mut self, states: impl Iterator<Item = (Class, usize)>) {
        self.expanded += self.classes.set_expanded(self.expanded, states);
    }

    /// Gives the memory of the edges back: none are kept any more.
    pub(super) fn drop_log(&mut self) {
        self.log = EdgeLog::new();
    }

    /// Says that the states not expanded so far lie one move deeper than those before.
    pub(crate) fn begin_depth(&mut self) {
        self.log.begin_depth();
    }

    pub(super) fn bytes(&self) -> u64 {
        self.table.bytes() + self.classes.bytes() + self.log.bytes()
    }

    /// Walks the records of states of one depth, in local order, `range` being its local numbers: `visit(local, targets)`
    /// for the expanded states that are `wanted`; the others are skipped.
    pub(super) fn each_record(
        &self,
        depth: u32,
        range: Range<u32>,
        wanted: impl Fn(u32, Class) -> bool,
        mut visit: impl FnMut(u32, Targets<'_>),
    ) {
        let Some(mut reader) = self.log.read(depth) else { return };
        self.classes.each(range.start, range.end.min(self.expanded), |local, class, degree| {
            let targets = reader.next(degree);
            if wanted(local, class) {
                visit(local, targets);
            }
        });
    }

    /// Calls `visit(local, class, hits, targets)` for all expanded states of one depth, `range` being its local numbers. `hits` is 0 where `test`
    /// accepts the code of no target; it has a bit for each target, or is the number of those that are accepted for a state of [`WIDE_DEGREE`] or more.
    ///
    /// Many targets are tested one after the other before any is told, so that what is read for them is asked for at once.
    #[inline]
    pub(super) fn each_tested(
        &self,
        (depth, range): (u32, Range<u32>),
        test: impl Fn(u64) -> bool,
        mut visit: impl FnMut(u32, Class, u64, Targets<'_>),
    ) {
        let Some(mut reader) = self.log.read(depth) else { return };
        self.classes.each_piece(range.start, range.end.min(self.expanded), |first, piece| {
            let (mut local, mut piece) = (first, piece);
            while let [next, ..] = piece {
                let (states, mut targets) = reader.next_group(piece.iter().map(Known::degree));
                let (group, rest) = piece.split_at(states.max(1));
                piece = rest;
                if states == 0 {
                    let (class, degree) = next.get();
                    let targets = reader.next(degree);
                    let mut hits = 0;
                    targets.each(|code| hits += u64::from(test(code)));
                    visit(local, class, hits, targets);
                    local += 1;
                    continue;
                }
                let mut hits = targets.bits(&test);
                for known in group {
                    let (class, degree) = known.get();
                    let (own, others) = targets.split(degree);
                    visit(local, class, hits & ((1 << degree) - 1), own);
                    (targets, hits) = (others, hits >> degree);
                    local += 1;
                }
            }
        });
    }
}
