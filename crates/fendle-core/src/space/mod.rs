//! The visited states of a sweep: exact, packed, sharded by hash.
//!
//! Every state is kept whole; nothing is decided on a hash alone. A space is four things behind four small doors:
//!
//! * `table`: the packed states of each shard, and the index that finds them;
//! * `classes`: what is known of each state, one byte with its degree;
//! * `log`: the transitions, as bytes, in the order in which states were expanded;
//! * `levels`: which states lie at which depth.
//!
//! Where a small range of numbers holds all states (see [`crate::model::Numbering`]) and enough of them were met, a space
//! changes into `dense`, which takes the place of the other four: a state is its number there. Where memory runs short it changes into a table of
//! `remainders`; when that grows no more it is a `dense` space as well, and the number of a state is that of its slot.
//!
//! `id` alone knows what a state's number looks like. Callers get copies of states, never a place in memory, so the
//! tables may lie elsewhere one day.
//!
//! # Cost
//!
//! With |S| states of b bytes and |T| transitions: `b |S|` for the states, 5 to 8 bytes a state for the index, 1 byte a
//! state for class and degree, and 1 to 4 bytes a transition for the log. Shards grow one at a time, so growing never
//! needs a second table of full size.

pub(crate) mod arrows;
pub(crate) mod cells;
mod classes;
pub(crate) mod dense;
pub(crate) mod id;
pub(crate) mod levels;
pub(crate) mod log;
mod on_slots;
mod on_stills;
pub(crate) mod remainders;
mod shard;
pub(crate) mod slots;
pub(crate) mod stills;
pub(crate) mod table;

pub use classes::Class;
use dense::Dense;
pub(crate) use id::MARKS_APART;
pub use id::{SHARDS, StateId};
pub(crate) use id::{hash, shard_of};
use levels::Levels;
pub use log::Edge;
pub(crate) use log::Targets;
pub(crate) use shard::Shard;
use table::GROUP;

use crate::classify::Marks;
use crate::model::{Expansion, Layout, Model, Numbering, Worker};
use classes::WIDE_DEGREE;
use on_slots::OnSlots;
use on_stills::OnStills;
use slots::Slots;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard};
use stills::Stills;

/// Bits of the numbers below a range.
#[must_use]
pub fn number_bits(range: u64) -> u32 {
    (64 - range.saturating_sub(1).leading_zeros()).max(1)
}

/// Calls what has a loop of its own for states of one word to four, and one for all others, for which `WORDS` is 0: most states are few words.
macro_rules! by_words {
    ($words:expr, $WORDS:ident => $call:expr) => {
        match $words {
            1 => $crate::space::by_words!(@ 1, $WORDS => $call),
            2 => $crate::space::by_words!(@ 2, $WORDS => $call),
            3 => $crate::space::by_words!(@ 3, $WORDS => $call),
            4 => $crate::space::by_words!(@ 4, $WORDS => $call),
            _ => $crate::space::by_words!(@ 0, $WORDS => $call),
        }
    };
    (@ $number:literal, $WORDS:ident => $call:expr) => {{
        const $WORDS: usize = $number;
        $call
    }};
}
pub(crate) use by_words;

/// Looks at stills; none of those who change them leaves them half changed.
pub(crate) fn read(stills: &RwLock<Stills>) -> RwLockReadGuard<'_, Stills> {
    stills.read().unwrap_or_else(PoisonError::into_inner)
}

/// Numbers that are looked through at once.
const PIECE: u64 = 1 << 16;
/// States of small depths that are listed at once, so that the range is looked through for all of them together.
const SORTED: u64 = 1 << 22;

/// All states that a sweep has seen, with their depths, classes and edges.
pub struct Space {
    /// The shape of a state as the shards hold it.
    pub(crate) layout: Layout,
    /// The shape of a packed state.
    pub(crate) packed: Layout,
    pub(crate) shards: Vec<Shard>,
    pub(crate) levels: Levels,
    pub(crate) sure: bool,
    pub(crate) starts: Vec<StateId>,
    /// Weights of the starts.
    pub(crate) start_weights: Vec<u64>,
    /// States that are won for certain, and with probability 1. Empty without chance.
    pub(crate) certain: Marks,
    pub(crate) almost_certain: Marks,
    /// Whether the edges are kept.
    pub(crate) logged: bool,
    /// Of some states not all moves are known: a branch was set aside, a limit of the machine ended a move, or the model broke.
    pub(crate) half_known: bool,
    /// How states are numbered, where the shards hold numbers instead of packed states.
    pub(crate) numbering: Option<Arc<dyn Numbering>>,
    /// Their stills, where the shards hold words that say which one a state has.
    pub(crate) stills: Option<Arc<RwLock<Stills>>>,
    /// The states by number, where that is how they are kept: the shards are then empty.
    pub(crate) dense: Option<Dense>,
}

impl Space {
    pub(crate) fn new(layout: Layout, sure: bool) -> Space {
        Space {
            layout,
            packed: layout,
            shards: (0..SHARDS).map(|n| Shard::new(n, layout)).collect(),
            levels: Levels::new(),
            sure,
            starts: vec![],
            start_weights: vec![],
            certain: Marks::default(),
            almost_certain: Marks::default(),
            logged: true,
            half_known: false,
            numbering: None,
            stills: None,
            dense: None,
        }
    }

    /// Whether the transitions are kept beside the states. Without them [`Space::each_edges`] has nothing to visit.
    #[must_use]
    pub fn has_edges(&self) -> bool {
        self.logged
    }

    /// Whether all moves of a state are surely known; not told of spaces by number.
    pub(crate) fn knows_moves(&self, id: StateId) -> bool {
        !self.half_known && self.dense.is_none() && id.local() < self.shards[id.shard()].expanded()
    }

    /// Gives words to the outcomes that have none, where states are kept as a still and moving bits: in their order, so that stills have the same numbers
    /// whoever met them first.
    pub(crate) fn name<'o>(&self, all: impl Iterator<Item = &'o mut Expansion>) {
        let Some(stills) = &self.stills else { return };
        let mut stills = stills.write().unwrap_or_else(PoisonError::into_inner);
        for out in all {
            let (places, states) = &out.unnamed;
            for (place, state) in places.iter().zip(states.chunks_exact(self.packed.words())) {
                out.outcomes[*place as usize] = stills.add(state);
            }
        }
    }

    /// Gives the memory of the edges back.
    pub(crate) fn drop_log(&mut self) {
        self.logged = false;
        self.shards.iter_mut().for_each(Shard::drop_log);
    }

    /// Number of distinct states.
    #[must_use]
    pub fn states_len(&self) -> u64 {
        match &self.dense {
            Some(dense) => dense.len(),
            None => self.shards.iter().map(|s| s.len() as u64).sum(),
        }
    }

    /// One more than the greatest id.
    #[must_use]
    pub fn ids_len(&self) -> usize {
        match &self.dense {
            Some(dense) => (dense.range() as usize).next_multiple_of(64),
            None => self.shards.iter().map(Shard::len).max().unwrap_or(0) * SHARDS,
        }
    }

    /// Number of states whose moves were tried.
    #[must_use]
    pub fn expanded_len(&self) -> u64 {
        match &self.dense {
            Some(dense) => dense.expanded,
            None => self.shards.iter().map(|s| u64::from(s.expanded())).sum(),
        }
    }

    /// Bytes taken by the tables, capacity included.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        let stills = self.stills.as_ref().map_or(0, |stills| read(stills).bytes());
        self.dense.as_ref().map_or(0, Dense::bytes)
            + stills
            + self.shards.iter().map(Shard::bytes).sum::<u64>()
    }

    /// Number of depths that hold a state: the greatest depth plus one.
    #[must_use]
    pub fn levels_len(&self) -> u32 {
        match &self.dense {
            Some(dense) => dense.per_depth().len() as u32,
            None => self.levels.len(),
        }
    }

    /// The start states, in the model's order, each once.
    #[must_use]
    pub fn starts(&self) -> &[StateId] {
        &self.starts
    }

    /// Their weights.
    #[must_use]
    pub fn start_weights(&self) -> &[u64] {
        &self.start_weights
    }

    /// Whether every move of the model has one outcome.
    #[must_use]
    pub fn is_sure(&self) -> bool {
        self.sure
    }

    /// Whether some way of playing wins from here against every draw.
    #[must_use]
    pub fn is_certain(&self, id: StateId) -> bool {
        let class = self.class(id);
        class == Class::Goal || class == Class::Winnable && (self.sure || self.certain.has(id))
    }

    /// Whether some way of playing wins from here with probability 1.
    #[must_use]
    pub fn is_almost_certain(&self, id: StateId) -> bool {
        let class = self.class(id);
        class == Class::Goal || class == Class::Winnable && (self.sure || self.almost_certain.has(id))
    }

    /// How many edges a state has, as far as they are told apart: 15 stands for any greater number.
    #[must_use]
    pub fn edges_len(&self, id: StateId) -> usize {
        match &self.dense {
            // Nothing is kept of them.
            Some(_) => 15,
            None => self.shards[id.shard()].classes.degree(id.local()),
        }
    }

    /// The number of a state, if it was seen.
    #[must_use]
    pub fn find(&self, state: &[u64]) -> Option<StateId> {
        let word = match (self.numbers(), &self.stills) {
            (Some(numbering), _) => numbering.number(state)?,
            (None, Some(stills)) => read(stills).find(state),
            (None, None) if self.slots().is_some() => state[0],
            (None, None) => return self.find_words(state),
        };
        match self.slots() {
            Some(slots) => slots.number(word).map(|number| StateId::from_number(number as u32)),
            None => self.find_words(&[word]),
        }
    }

    /// How states are numbered, where the space holds numbers instead of packed states.
    fn numbers(&self) -> Option<&dyn Numbering> {
        let of_dense = self.dense.as_ref().and_then(Dense::numbering);
        of_dense.or(self.numbering.as_ref()).map(AsRef::as_ref)
    }

    /// The slots of the states, where they lie in a table of remainders.
    fn slots(&self) -> Option<&Arc<Slots>> {
        self.dense.as_ref().and_then(Dense::slots)
    }

    /// The same for a state as the space holds it.
    pub(crate) fn find_words(&self, state: &[u64]) -> Option<StateId> {
        if let Some(dense) = &self.dense {
            let is_there = match dense.slots() {
                Some(slots) => state[0] != slots.nobody(),
                None => dense.get(state[0]) != 0,
            };
            return is_there.then(|| StateId::from_number(state[0] as u32));
        }
        let hash = hash(state);
        let shard = shard_of(hash);
        self.shards[shard].table.find(state, hash).map(|local| StateId::new(shard, local))
    }

    /// Appends the numbers of states as the space holds them, of those that were seen. In hashed tables some of them are looked for together, so that the memory
    /// answers them together.
    pub(crate) fn find_all(&self, states: &[u64], found: &mut Vec<Option<StateId>>) {
        if self.dense.is_some() {
            found.extend(states.iter().map(|word| self.find_words(&[*word])));
            return;
        }
        by_words!(self.words(), WORDS => self.find_each::<WORDS>(states, found))
    }

    /// The same in hashed tables, for states of `WORDS` words, or of any number of them where that is 0.
    fn find_each<const WORDS: usize>(&self, states: &[u64], found: &mut Vec<Option<StateId>>) {
        let words = if WORDS == 0 { self.words() } else { WORDS };
        for group in states.chunks(GROUP * words) {
            let mut places = [(0, (0, 0)); GROUP];
            let mut taken = 0;
            for (place, state) in places.iter_mut().zip(group.chunks_exact(words)) {
                let hash = hash(state);
                let shard = shard_of(hash);
                *place = (shard, self.shards[shard].table.place(hash));
                taken |= self.shards[shard].table.touch_line(place.1);
            }
            let places = &places[..group.len() / words];
            taken |= places
                .iter()
                .fold(0, |taken, (shard, place)| taken | self.shards[*shard].table.touch_state(*place));
            std::hint::black_box(taken);
            found.extend(places.iter().zip(group.chunks_exact(words)).map(|((shard, place), state)| {
                let local = self.shards[*shard].table.find_at::<WORDS>(state, *place)?;
                Some(StateId::new(*shard, local))
            }));
        }
    }

    /// The packed words of a state.
    #[must_use]
    pub fn state(&self, id: StateId) -> Vec<u64> {
        let mut out = Vec::with_capacity(self.layout.words());
        self.push_words(id, &mut out);
        if let Some(slots) = self.slots() {
            out[0] = slots.word(out[0]);
        }
        match (self.numbers(), &self.stills) {
            (Some(numbering), _) => numbering.state(out[0]),
            (None, Some(stills)) => {
                let word = out[0];
                out.clear();
                read(stills).push_states(&[word], &mut out);
                out
            }
            (None, None) => out,
        }
    }

    /// Words of one state as the space holds it.
    pub(crate) fn words(&self) -> usize {
        if self.dense.is_some() || self.holds_numbers() { 1 } else { self.layout.words() }
    }

    /// Appends a state as the space holds it.
    pub(crate) fn push_words(&self, id: StateId, out: &mut Vec<u64>) {
        match &self.dense {
            Some(_) => out.push(id.number().into()),
            None => self.shards[id.shard()].table.push_state(id.local() as usize, out),
        }
    }

    /// Whether of each state only a remainder is kept, and its place in the table says the rest.
    #[must_use]
    pub fn holds_remainders(&self) -> bool {
        self.slots().is_some()
    }

    /// Bits of one state as the space holds it; of remainders, with what their place says.
    #[must_use]
    pub fn bits(&self) -> u32 {
        if let Some(slots) = self.slots() {
            return slots.bits();
        }
        self.numbers().map_or(self.layout.bits, |n| number_bits(n.range()))
    }

    /// Whether the space holds numbers instead of packed states.
    #[must_use]
    pub fn holds_numbers(&self) -> bool {
        self.numbers().is_some()
    }

    /// How many different stills there are, where wide states are kept as a still and moving bits: what rarely changes, kept once, and what changes with most
    /// moves.
    #[must_use]
    pub fn stills_len(&self) -> Option<usize> {
        self.stills.as_ref().map(|stills| read(stills).len())
    }

    /// A worker for states as the space holds them.
    pub(crate) fn worker<'m>(&self, model: &'m dyn Model) -> Box<dyn Worker + 'm> {
        let on_words: Box<dyn Worker + 'm> = match &self.stills {
            _ if self.holds_numbers() => model.worker_by_number(),
            Some(stills) => Box::new(OnStills::new(model.worker(), stills.clone(), self.packed)),
            None => model.worker(),
        };
        match self.slots() {
            Some(slots) => Box::new(OnSlots::new(on_words, slots.clone())),
            None => on_words,
        }
    }

    /// The expanded states of one depth in one of [`SHARDS`] parts that are wanted.
    pub(crate) fn wanted_in(
        &self,
        part: usize,
        depth: u32,
        wanted: impl Fn(StateId, Class) -> bool,
    ) -> Vec<StateId> {
        let Some(dense) = &self.dense else {
            let shard = &self.shards[part];
            let range = self.level_of(part, depth);
            return (range.start..range.end.min(shard.expanded()))
                .map(|local| (StateId::new(part, local), shard.classes.get(local)))
                .filter(|(id, class)| wanted(*id, *class))
                .map(|(id, _)| id)
                .collect();
        };
        let (from, to) = self.part(part);
        let mut list = vec![];
        dense.each_at(from, to, depth, |number, mark| {
            let id = StateId::from_number(number as u32);
            if wanted(id, dense.class_of(mark)) {
                list.push(id);
            }
        });
        list
    }

    /// What is known of a state.
    #[must_use]
    pub fn class(&self, id: StateId) -> Class {
        match &self.dense {
            Some(dense) => dense.class_of(dense.get(id.number().into())),
            None => self.shards[id.shard()].classes.get(id.local()),
        }
    }

    /// Depth and class of a state.
    pub(crate) fn depth_and_class(&self, id: StateId) -> (u32, Class) {
        match &self.dense {
            Some(dense) => {
                let mark = dense.get(id.number().into());
                (dense.depth_of(mark), dense.class_of(mark))
            }
            None => (self.depth_of(id), self.class(id)),
        }
    }

    #[inline]
    pub(crate) fn set_class(&self, id: StateId, class: Class) {
        match &self.dense {
            Some(dense) => {
                let mark = dense.get(id.number().into());
                dense.change(id.number().into(), mark, dense.mark(dense.depth_of(mark), class));
            }
            None => self.shards[id.shard()].classes.set(id.local(), class),
        }
    }

    /// Least number of moves from the nearest start. O(log depth).
    #[must_use]
    pub fn depth_of(&self, id: StateId) -> u32 {
        match &self.dense {
            Some(dense) => dense.depth_of(dense.get(id.number().into())),
            None => self.levels.depth_of(id.shard(), id.local()),
        }
    }

    /// The local numbers of one depth in a shard.
    pub(crate) fn level_of(&self, shard: usize, depth: u32) -> std::ops::Range<u32> {
        self.levels.range(shard, depth, self.shards[shard].len())
    }

    /// How many states lie at a depth.
    #[must_use]
    pub fn level_len(&self, depth: u32) -> u64 {
        match &self.dense {
            Some(dense) => dense.per_depth()[depth as usize],
            None => (0..SHARDS).map(|n| self.level_of(n, depth).len() as u64).sum(),
        }
    }

    /// The states of one depth, in a fixed order that means nothing.
    pub fn level(&self, depth: u32) -> Box<dyn Iterator<Item = StateId> + '_> {
        if let Some(dense) = &self.dense {
            // A piece at a time, so that nothing large is made.
            let pieces = dense.range().div_ceil(PIECE);
            return Box::new((0..pieces).flat_map(move |n| {
                let mut here = vec![];
                let (from, to) = (n * PIECE, ((n + 1) * PIECE).min(dense.range()));
                dense.each_at(from, to, depth, |number, _| here.push(StateId::from_number(number as u32)));
                here
            }));
        }
        let of_shard = move |n| self.level_of(n, depth).map(move |local| StateId::new(n, local));
        Box::new((0..SHARDS).flat_map(of_shard))
    }

    /// Calls `see` with every state of one of [`SHARDS`] parts of the space, and its class.
    pub(crate) fn each_in_part(&self, part: usize, mut see: impl FnMut(StateId, Class)) {
        if let Some(dense) = &self.dense {
            let (from, to) = self.part(part);
            dense.each_seen(from, to, |number, mark| {
                see(StateId::from_number(number as u32), dense.class_of(mark))
            });
            return;
        }
        let shard = &self.shards[part];
        shard.classes.each(0, shard.len() as u32, |local, class, _| see(StateId::new(part, local), class));
    }

    /// How often each mark occurs in one of [`SHARDS`] parts of a space of numbers.
    pub(crate) fn marks_in_part(&self, part: usize) -> Vec<(dense::Mark, u64)> {
        let (from, to) = self.part(part);
        let Some(dense) = &self.dense else { return vec![] };
        let mut counts = vec![0u64; dense.marks_len()];
        dense.each_seen(from, to, |_, mark| counts[mark as usize] += 1);
        let met = counts.into_iter().enumerate().filter(|c| c.1 > 0);
        met.map(|(mark, count)| (mark as dense::Mark, count)).collect()
    }

    /// The numbers of one of [`SHARDS`] parts of a space of numbers: the first, and one past the last.
    pub(crate) fn part(&self, part: usize) -> (u64, u64) {
        let range = self.dense.as_ref().map_or(0, Dense::range);
        let each = range.div_ceil(SHARDS as u64).next_multiple_of(MARKS_APART as u64);
        ((part as u64 * each).min(range), ((part as u64 + 1) * each).min(range))
    }

    /// Some states from all over the space, about so many.
    #[must_use]
    pub fn sample(&self, count: usize) -> Vec<StateId> {
        let stride = (self.ids_len() / count.max(1)).max(1);
        let Some(dense) = &self.dense else { return self.ids().step_by(stride).collect() };
        let stride = (dense.len() / count.max(1) as u64).max(1);
        let (mut out, mut wait) = (vec![], 0u64);
        dense.each_seen(0, dense.range(), |number, _| {
            if wait == 0 {
                out.push(StateId::from_number(number as u32));
                wait = stride;
            }
            wait -= 1;
        });
        out
    }

    /// All states, nearest first.
    pub fn ids(&self) -> Box<dyn Iterator<Item = StateId> + '_> {
        let Some(dense) = &self.dense else {
            return Box::new((0..self.levels_len()).flat_map(|depth| self.level(depth)));
        };
        // Small depths are found together, so that the range is looked through a few times, and nothing large is made.
        Box::new(dense.depth_groups(SORTED).into_iter().flat_map(move |depths| {
            if depths.len() == 1 {
                return self.level(depths.start as u32);
            }
            Box::new(dense.by_depth(depths).0.into_iter().map(StateId::from_number))
        }))
    }

    /// Writes the values that a state is made of, in the order of [`Numbering::values`], where the space holds numbers; else says
    /// false, and its packed words are all that is known.
    pub fn values(&self, id: StateId, out: &mut Vec<i32>) -> bool {
        match self.dense.as_ref().and_then(Dense::numbering) {
            Some(numbering) => numbering.values(id.number().into(), out),
            None => return false,
        }
        true
    }

    /// Calls `visit` with every expanded state of one depth in one shard and its edges as they are kept, in local order.
    pub(crate) fn each_record_in(&self, shard: usize, depth: u32, visit: impl Fn(StateId, Targets<'_>)) {
        let range = self.level_of(shard, depth);
        let of_shard = |local, targets: Targets<'_>| visit(StateId::new(shard, local), targets);
        self.shards[shard].each_record(depth, range, |_, _| true, of_shard);
    }

    /// Calls `visit(local, edges)` for the expanded states of one depth in one shard, in local order.
    ///
    /// `wanted` says for which states the edges are decoded at all; the others are skipped.
    pub(crate) fn each_edges_in(
        &self,
        shard: usize,
        depth: u32,
        wanted: impl Fn(u32, Class) -> bool,
        mut visit: impl FnMut(u32, &[Edge]),
    ) {
        let mut edges: Vec<Edge> = Vec::with_capacity(16);
        self.shards[shard].each_record(depth, self.level_of(shard, depth), wanted, |local, targets| {
            edges.clear();
            targets.each(|code| edges.push(Edge::of(code, self.sure)));
            visit(local, &edges);
        });
    }

    /// Asks of the wanted states of one depth in one shard whether they have a target that `test` accepts: calls `hit(local)` for those that have
    /// one, `miss(local, targets)` for the others. With `alone` no target is looked at that need not be; else those of many states are looked at at
    /// once, wanted or not, which is faster where most of them are needed, and what a hit changes is seen some states later.
    pub(crate) fn each_by_target(
        &self,
        (shard, depth, alone): (usize, u32, bool),
        wanted: impl Fn(u32, Class) -> bool,
        test: impl Fn(StateId) -> bool,
        mut hit: impl FnMut(u32),
        mut miss: impl FnMut(u32, Targets<'_>),
    ) {
        let sure = self.sure;
        let (of_shard, range) = (&self.shards[shard], self.level_of(shard, depth));
        let mut see =
            |local, hits, targets: Targets<'_>| if hits { hit(local) } else { miss(local, targets) };
        if alone {
            of_shard.each_record(depth, range, wanted, |local, targets| {
                see(local, targets.any(|code| test(Edge::of(code, sure).to)), targets);
            });
        } else {
            let test = |code| test(Edge::of(code, sure).to);
            of_shard.each_tested((depth, range), test, |local, class, hits, targets| {
                if wanted(local, class) {
                    see(local, hits != 0, targets);
                }
            });
        }
    }

    /// Calls `hit(local, count)` for the wanted states of one depth in one shard with targets that `test` accepts, and how many.
    pub(crate) fn each_with_targets(
        &self,
        shard: usize,
        depth: u32,
        wanted: impl Fn(u32, Class) -> bool,
        test: impl Fn(StateId) -> bool,
        mut hit: impl FnMut(u32, u64),
    ) {
        let test = |code| test(Edge::of(code, self.sure).to);
        let level = (depth, self.level_of(shard, depth));
        self.shards[shard].each_tested(level, test, |local, class, hits, targets| {
            if hits != 0 && wanted(local, class) {
                let count = if targets.len() < WIDE_DEGREE { hits.count_ones().into() } else { hits };
                hit(local, count);
            }
        });
    }

    /// Calls `visit` with the edges of one state, in move order. O(edges of its level in its shard).
    pub fn each_edges_of(&self, id: StateId, mut visit: impl FnMut(Edge)) {
        if self.logged {
            let one = |local: u32, _| local == id.local();
            self.each_edges_in(id.shard(), self.depth_of(id), one, |_, e| e.iter().for_each(|e| visit(*e)));
        }
    }

    /// Calls `visit` with every expanded state of one depth and its edges in move order.
    pub fn each_edges(&self, depth: u32, mut visit: impl FnMut(StateId, &[Edge])) {
        if self.logged {
            for n in 0..SHARDS {
                let all = |_: u32, _: Class| true;
                self.each_edges_in(n, depth, all, |local, edges| visit(StateId::new(n, local), edges));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Keeps the edges of some states, as a round does: one by one where moves have several outcomes, else together.
    fn log(shard: &mut Shard, sure: bool, edges: &[Vec<Edge>], classes: &[Class]) {
        let degrees = edges.iter().map(Vec::len);
        if sure {
            let targets: Vec<StateId> = edges.iter().flatten().map(|e| e.to).collect();
            shard.log_sure(&targets, degrees.clone());
        } else {
            edges.iter().for_each(|e| shard.log_edges(e));
        }
        shard.expand(classes.iter().copied().zip(degrees));
    }

    /// States that are looked for together are found as one by one, whether they are there or not, and in an empty space none is.
    #[test]
    fn many_states_are_found_as_one_by_one() {
        let mut random = crate::numbers::Random::new(12);
        for words in [1, 2, 3, 4, 6] {
            let mut space = Space::new(Layout::new(64 * words as u32 - 7), true);
            let mut state = || {
                let mut state: Vec<u64> = (0..words).map(|_| random.below(40)).collect();
                state[0] = random.below(9_000);
                state
            };
            for put in [0, 1, 700, 6_000] {
                for _ in 0..put {
                    let state = state();
                    let hash = hash(&state);
                    space.shards[shard_of(hash)].insert(&state, hash).expect("room");
                }
                let there = space.shards.iter().flat_map(|shard| {
                    let mut states = vec![];
                    shard.table.push_states(0..shard.len().min(9), &mut states);
                    states
                });
                let there: Vec<u64> = there.collect();
                let known = there.chunks_exact(words).map(<[u64]>::to_vec);
                let asked: Vec<Vec<u64>> = known.chain((0..301).map(|_| state())).collect();
                let one_by_one: Vec<Option<StateId>> = asked.iter().map(|s| space.find_words(s)).collect();
                let mut found = vec![];
                space.find_all(&asked.concat(), &mut found);
                assert_eq!(found, one_by_one, "{words} words");
                assert!(found[..there.len() / words].iter().all(Option::is_some));
            }
        }
    }

    #[test]
    fn the_edge_log_gives_back_what_was_put_in() {
        for sure in [true, false] {
            let mut shard = Shard::new(0, Layout::new(20));
            let mut put = vec![];
            for i in 0..500u64 {
                shard.insert(&[i], hash(&[i])).expect("room");
                let degree = if i == 250 { 70_000 } else { (i % 90) as usize };
                let edges: Vec<Edge> = (0..degree)
                    .map(|k| Edge {
                        to: StateId::from_number((k as u32).wrapping_mul(2_654_435_761) >> (i % 20 + 1)),
                        last: sure || k % 3 == 0,
                    })
                    .collect();
                put.push(edges);
            }
            log(&mut shard, sure, &put, &vec![Class::Running; put.len()]);
            let mut seen = 0;
            let wanted = |local: u32, _| local % 7 != 3;
            shard.each_record(0, 0..500, wanted, |local, targets| {
                let mut got = vec![];
                targets.each(|code| got.push(Edge::of(code, sure)));
                assert_eq!(got, put[local as usize]);
                seen += 1;
            });
            assert_eq!(seen, (0..500).filter(|l| l % 7 != 3).count());
        }
    }

    /// Records of targets that grow and shrink, over several depths: what is counted, what is found first, and what is decoded.
    #[test]
    fn targets_are_counted_as_they_are_decoded() {
        let mut random = crate::numbers::Random::new(11);
        for sure in [true, false] {
            let mut space = Space::new(Layout::new(20), sure);
            let mut put: Vec<Vec<Vec<Edge>>> = vec![];
            for depth in 0..6u32 {
                if depth > 0 {
                    space.levels.push(std::array::from_fn(|n| space.shards[n].len() as u32));
                    space.shards[3].begin_depth();
                }
                let (mut here, mut classes, mut kept) = (vec![], vec![], 0);
                for _ in 0..random.below(40) {
                    let local = space.shards[3].len() as u64;
                    space.shards[3].insert(&[local], hash(&[local])).expect("room");
                    let degree = [0, 1, 1, 2, 3, 3, 5, 14, [15, 16, 200][random.below(3) as usize]]
                        [random.below(9) as usize];
                    let bits = 1 + random.below(28);
                    let edges: Vec<Edge> = (0..degree)
                        .map(|_| Edge {
                            to: StateId::from_number(random.below(1 << bits) as u32),
                            last: sure || random.below(2) == 0,
                        })
                        .collect();
                    classes.push(if random.below(3) == 0 { Class::Goal } else { Class::Running });
                    here.push(edges);
                    // Some at a time, most of them few enough for one block.
                    if random.below(6) == 0 {
                        log(&mut space.shards[3], sure, &here[kept..], &classes[kept..]);
                        kept = here.len();
                    }
                }
                log(&mut space.shards[3], sure, &here[kept..], &classes[kept..]);
                put.push(here);
            }
            let test = |id: StateId| id.number().is_multiple_of(3);
            let wanted = |_: u32, class: Class| class == Class::Running;
            for (depth, here) in put.iter().enumerate() {
                let depth = depth as u32;
                let first = space.level_of(3, depth).start;
                assert_eq!(space.level_of(3, depth).len(), here.len());
                let by_target = |alone| {
                    let (mut hits, mut missed) = (vec![], vec![]);
                    let miss = |local, targets: Targets<'_>| {
                        let mut states = vec![];
                        targets.each_state(sure, |to| states.push(to));
                        missed.push((local, states));
                    };
                    space.each_by_target((3, depth, alone), wanted, test, |local| hits.push(local), miss);
                    (hits, missed)
                };
                let (hits, missed) = by_target(false);
                assert_eq!((&hits, &missed), (&by_target(true).0, &by_target(true).1));
                let (mut counts, mut decoded) = (vec![], vec![]);
                space.each_with_targets(3, depth, wanted, test, |local, n| counts.push((local, n)));
                space.each_edges_in(3, depth, wanted, |local, edges| decoded.push((local, edges.to_vec())));
                let running: Vec<(u32, Vec<Edge>)> = (here.iter().enumerate())
                    .map(|(i, edges)| (first + i as u32, edges.clone()))
                    .filter(|(local, _)| space.class(StateId::new(3, *local)) == Class::Running)
                    .collect();
                let count = |edges: &[Edge]| edges.iter().filter(|e| test(e.to)).count() as u64;
                let counted: Vec<(u32, u64)> =
                    running.iter().map(|(l, e)| (*l, count(e))).filter(|c| c.1 > 0).collect();
                assert_eq!(hits, counted.iter().map(|c| c.0).collect::<Vec<_>>());
                let states = |edges: &[Edge]| edges.iter().map(|e| e.to).collect::<Vec<StateId>>();
                let others = running.iter().filter(|(_, edges)| count(edges) == 0);
                assert_eq!(missed, others.map(|(l, e)| (*l, states(e))).collect::<Vec<_>>());
                assert_eq!(counts, counted);
                assert_eq!(decoded, running);
                for (local, edges) in running {
                    assert_eq!(space.edges_len(StateId::new(3, local)), edges.len().min(15));
                }
            }
        }
    }
}
