//! The visited states of a sweep: exact, packed, sharded by hash.
//!
//! Every state is kept whole; nothing is decided on a hash alone. A state belongs to one of
//! [`SHARDS`] shards by its hash, and within its shard it has a local number in the order in
//! which it was first met. A [`StateId`] joins the two, so that ids stay dense:
//!
//! ```text
//! id = local * SHARDS + shard
//!
//! shard:  chunks   [state 0][state 1]...   ceil(bits / 8) bytes each, 4096 to a chunk
//!         class    one byte a state:  number of edges (4) | [`Class`] (4)
//!         index    open addressing, linear probing; a slot is 0, or  tag(8) | local + 1 (24)
//!         log      the edges, in local order, the targets in 1 to 4 bytes each
//!         levels   where each depth begins in chunks and log
//! ```
//!
//! # Cost
//!
//! With |S| states of b bytes and |T| transitions: `b |S|` for the states, 4.7 to 5.9 bytes a state for
//! the index (load between 0.68 and 0.85), 1 byte a state for class and degree, and 1 to 4 bytes a
//! transition for the log. Shards grow one at a time, so growing never needs a second table of
//! full size.

use std::sync::atomic::{AtomicU8, Ordering};

use crate::classify::Marks;
use crate::model::Layout;

/// Number of shards. Fixed, so that the order of states does not depend on the machine.
pub const SHARDS: usize = 64;
const SHARD_BITS: u32 = 6;
const CHUNK: usize = 4096;
const LOG_BLOCK: usize = 1 << 16;
const LOCAL_MAX: usize = (1 << 24) - 2;
const WIDE_DEGREE: usize = 15;

/// A visited state: dense, valid for one [`Space`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct StateId(pub u32);

impl StateId {
    fn new(shard: usize, local: u32) -> StateId {
        StateId(local << SHARD_BITS | shard as u32)
    }
    fn shard(self) -> usize {
        (self.0 as usize) & (SHARDS - 1)
    }
    fn local(self) -> u32 {
        self.0 >> SHARD_BITS
    }
}

impl std::fmt::Display for StateId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "s{}", self.0)
    }
}

/// What is known of a visited state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(u8)]
pub enum Class {
    /// Not expanded, or not classified, because a limit was hit.
    Open = 0,
    /// Won.
    Goal = 1,
    /// Lost.
    Lost = 2,
    /// Ended otherwise.
    Over = 3,
    /// Running, and no move is allowed.
    Stuck = 4,
    /// Running, moves are left, and no goal can be reached.
    Dead = 5,
    /// Running, and a goal can be reached.
    Winnable = 6,
    /// Running, in a model without a goal.
    Free = 7,
    /// Expanded, and not yet classified: only while a search runs.
    Running = 8,
    /// The same, where only waiting is left and changes nothing but clocks.
    Idle = 9,
}

impl Class {
    fn of(byte: u8) -> Class {
        match byte & 15 {
            1 => Class::Goal,
            2 => Class::Lost,
            3 => Class::Over,
            4 => Class::Stuck,
            5 => Class::Dead,
            6 => Class::Winnable,
            7 => Class::Free,
            8 => Class::Running,
            9 => Class::Idle,
            _ => Class::Open,
        }
    }
}

/// One transition out of a state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Edge {
    /// Where it leads.
    pub to: StateId,
    /// Whether it is the last outcome of its move.
    pub last: bool,
}

#[derive(Clone, Copy, Debug, Default)]
struct LogPos {
    block: u32,
    offset: u32,
}

/// Targets of one width, in whole records.
struct LogBlock {
    width: u8,
    bytes: Vec<u8>,
}

#[derive(Clone, Copy, Debug, Default)]
struct LevelStart {
    local: u32,
    log: LogPos,
}

pub(crate) struct Shard {
    number: usize,
    words: usize,
    width: usize,
    last_mask: u64,
    chunks: Vec<Vec<u8>>,
    classes: Vec<Vec<AtomicU8>>,
    index: Vec<u32>,
    len: usize,
    expanded: u32,
    log: Vec<LogBlock>,
    levels: Vec<LevelStart>,
    /// Bytes of all log blocks, the first counted as if it were full.
    log_bytes: u64,
}

/// Mixes all bits of a state: the finaliser of MurmurHash3 (Appleby, public domain), folded over words.
#[inline]
pub(crate) fn hash(state: &[u64]) -> u64 {
    let mut h = 0x9e37_79b9_7f4a_7c15_u64;
    for &word in state {
        h ^= word;
        h ^= h >> 33;
        h = h.wrapping_mul(0xff51_afd7_ed55_8ccd);
        h ^= h >> 33;
        h = h.wrapping_mul(0xc4ce_b9fe_1a85_ec53);
        h ^= h >> 33;
    }
    h
}

#[inline]
pub(crate) fn shard_of(hash: u64) -> usize {
    (hash >> (64 - SHARD_BITS)) as usize
}

impl Shard {
    fn new(number: usize, layout: Layout) -> Shard {
        let words = layout.words();
        let width = layout.bytes();
        let last_bytes = width - 8 * (words - 1);
        let last_mask = if last_bytes == 8 { u64::MAX } else { (1 << (8 * last_bytes)) - 1 };
        Shard {
            number,
            words,
            width,
            last_mask,
            chunks: vec![],
            classes: vec![],
            index: vec![],
            len: 0,
            expanded: 0,
            log: vec![],
            levels: vec![LevelStart::default()],
            log_bytes: 0,
        }
    }

    pub(crate) fn len(&self) -> usize {
        self.len
    }

    pub(crate) fn expanded(&self) -> u32 {
        self.expanded
    }

    #[inline]
    fn word(&self, local: usize, i: usize) -> u64 {
        let at = (local % CHUNK) * self.width + 8 * i;
        let chunk = &self.chunks[local / CHUNK];
        let raw = u64::from_le_bytes(chunk[at..at + 8].try_into().expect("eight bytes"));
        if i + 1 == self.words { raw & self.last_mask } else { raw }
    }

    #[inline]
    fn equals(&self, local: usize, state: &[u64]) -> bool {
        (0..self.words).all(|i| self.word(local, i) == state[i])
    }

    pub(crate) fn push_state(&self, local: usize, out: &mut Vec<u64>) {
        for i in 0..self.words {
            out.push(self.word(local, i));
        }
    }

    #[inline]
    fn slot(&self, hash: u64) -> usize {
        ((u128::from(hash << SHARD_BITS) * self.index.len() as u128) >> 64) as usize
    }

    #[inline]
    fn tag(hash: u64) -> u32 {
        ((hash & 0xff) as u32) << 24
    }

    pub(crate) fn find(&self, state: &[u64], hash: u64) -> Option<u32> {
        if self.index.is_empty() {
            return None;
        }
        let tag = Shard::tag(hash);
        let mut slot = self.slot(hash);
        loop {
            let entry = self.index[slot];
            if entry == 0 {
                return None;
            }
            let local = (entry & 0x00ff_ffff) - 1;
            if entry & 0xff00_0000 == tag && self.equals(local as usize, state) {
                return Some(local);
            }
            slot += 1;
            if slot == self.index.len() {
                slot = 0;
            }
        }
    }

    /// Finds or adds a state. `None` when the shard holds all it can number.
    #[inline]
    pub(crate) fn insert(&mut self, state: &[u64], hash: u64) -> Option<(StateId, bool)> {
        if self.len * 20 >= self.index.len() * 17 {
            self.grow();
        }
        let tag = Shard::tag(hash);
        let mut slot = self.slot(hash);
        loop {
            let entry = self.index[slot];
            if entry == 0 {
                break;
            }
            if entry & 0xff00_0000 == tag {
                let local = (entry & 0x00ff_ffff) - 1;
                if self.equals(local as usize, state) {
                    return Some((StateId::new(self.number, local), false));
                }
            }
            slot += 1;
            if slot == self.index.len() {
                slot = 0;
            }
        }
        if self.len == LOCAL_MAX {
            return None;
        }
        let local = self.len;
        self.index[slot] = tag | (local as u32 + 1);
        self.append(state);
        Some((StateId::new(self.number, local as u32), true))
    }

    /// Inserts whole states one after the other and appends their ids. False when the shard is
    /// full; the rest is then not inserted.
    ///
    /// Looks at a group of slots before any is needed, so that the memory answers them together.
    pub(crate) fn insert_all(&mut self, states: &[u64], ids: &mut Vec<u32>) -> bool {
        const GROUP: usize = 16;
        if self.index.is_empty() {
            self.grow();
        }
        let words = self.words;
        for group in states.chunks(GROUP * words) {
            let n = group.len() / words;
            let mut hashes = [0u64; GROUP];
            let mut entries = [0u32; GROUP];
            for (i, state) in group.chunks_exact(words).enumerate() {
                hashes[i] = hash(state);
                entries[i] = self.index[self.slot(hashes[i])];
            }
            let mut same = [false; GROUP];
            for (i, state) in group.chunks_exact(words).enumerate() {
                let entry = entries[i];
                // What is found here stays found: inserting takes nothing away.
                same[i] = entry != 0
                    && entry & 0xff00_0000 == Shard::tag(hashes[i])
                    && self.equals((entry & 0x00ff_ffff) as usize - 1, state);
            }
            for (i, state) in group.chunks_exact(words).enumerate().take(n) {
                if same[i] {
                    ids.push(StateId::new(self.number, (entries[i] & 0x00ff_ffff) - 1).0);
                    continue;
                }
                match self.insert(state, hashes[i]) {
                    Some((id, _)) => ids.push(id.0),
                    None => return false,
                }
            }
        }
        true
    }

    fn append(&mut self, state: &[u64]) {
        let local = self.len;
        if local.is_multiple_of(CHUNK) {
            // The first chunk grows as needed, so that tiny spaces stay tiny.
            let room = if local == 0 { 0 } else { CHUNK };
            self.chunks.push(Vec::with_capacity(room * self.width + 16));
            self.classes.push(Vec::with_capacity(room));
        }
        let at = (local % CHUNK) * self.width;
        let chunk = self.chunks.last_mut().expect("a chunk");
        chunk.resize(at + 8 * self.words + 8, 0);
        for (i, word) in state.iter().enumerate() {
            chunk[at + 8 * i..at + 8 * i + 8].copy_from_slice(&word.to_le_bytes());
        }
        chunk.truncate(at + self.width + 8);
        self.classes.last_mut().expect("a chunk").push(AtomicU8::new(0));
        self.len += 1;
    }

    fn grow(&mut self) {
        let room = (self.index.len() + self.index.len() / 5).max(16);
        self.index = vec![0; room];
        let mut state = Vec::with_capacity(self.words);
        for local in 0..self.len {
            state.clear();
            self.push_state(local, &mut state);
            let hash = hash(&state);
            let mut slot = self.slot(hash);
            while self.index[slot] != 0 {
                slot += 1;
                if slot == room {
                    slot = 0;
                }
            }
            self.index[slot] = Shard::tag(hash) | (local as u32 + 1);
        }
    }

    /// Takes the state added last out again.
    ///
    /// Clearing its slot is safe: nothing was added after it, so no probe runs through it.
    pub(crate) fn pop(&mut self) {
        let local = self.len - 1;
        let mut state = Vec::with_capacity(self.words);
        self.push_state(local, &mut state);
        let mut slot = self.slot(hash(&state));
        while self.index[slot] & 0x00ff_ffff != local as u32 + 1 {
            slot = (slot + 1) % self.index.len();
        }
        self.index[slot] = 0;
        self.len = local;
        self.classes[local / CHUNK].pop();
        if local.is_multiple_of(CHUNK) {
            self.chunks.pop();
            self.classes.pop();
        }
    }

    #[inline]
    pub(crate) fn raw_class(&self, local: u32) -> &AtomicU8 {
        &self.classes[local as usize / CHUNK][local as usize % CHUNK]
    }

    pub(crate) fn class(&self, local: u32) -> Class {
        Class::of(self.raw_class(local).load(Ordering::Relaxed))
    }

    /// Only the thread that works on this shard calls this: reading and writing need not be one step.
    pub(crate) fn set_class(&self, local: u32, class: Class) {
        let byte = self.raw_class(local);
        byte.store(byte.load(Ordering::Relaxed) & 0xf0 | class as u8, Ordering::Relaxed);
    }

    fn set_degree(&mut self, local: u32, degree: u8) {
        let byte = self.classes[local as usize / CHUNK][local as usize % CHUNK].get_mut();
        *byte = *byte & 15 | degree << 4;
    }

    /// Appends the edges of the next state in local order: (id, last outcome of its move).
    pub(crate) fn log_edges(&mut self, edges: &[(u32, bool)], sure: bool) {
        let local = self.expanded;
        self.expanded += 1;
        let code = |&(id, last): &(u32, bool)| {
            if sure { u64::from(id) } else { u64::from(id) << 1 | u64::from(last) }
        };
        let greatest = edges.iter().map(code).max().unwrap_or(0);
        let width = ((64 - greatest.leading_zeros()).div_ceil(8) as u8).max(1);
        // Targets of a later state are rarely shorter: a block only ever grows wider.
        let width = width.max(self.log.last().map_or(1, |b| b.width));
        let wide = edges.len() >= WIDE_DEGREE;
        let need = if wide { 4 } else { 0 } + edges.len() * usize::from(width);
        let fits = self
            .log
            .last()
            .is_some_and(|b| b.width == width && b.bytes.len() + need <= LOG_BLOCK.max(b.bytes.capacity()));
        if !fits && need > 0 {
            let room = if self.log.is_empty() { 0 } else { LOG_BLOCK.max(need) };
            self.log.push(LogBlock { width, bytes: Vec::with_capacity(room) });
            self.log_bytes += LOG_BLOCK.max(need) as u64;
        }
        self.set_degree(local, edges.len().min(WIDE_DEGREE) as u8);
        if need == 0 {
            return;
        }
        let block = &mut self.log.last_mut().expect("a block").bytes;
        if wide {
            block.extend_from_slice(&(edges.len() as u32).to_le_bytes());
        }
        for edge in edges {
            block.extend_from_slice(&code(edge).to_le_bytes()[..usize::from(width)]);
        }
    }

    fn drop_log(&mut self) {
        self.log = vec![];
        self.log_bytes = 0;
    }

    /// Counts the next state in local order as expanded without keeping its edges.
    pub(crate) fn skip_edges(&mut self, count: usize) {
        let local = self.expanded;
        self.expanded += 1;
        self.set_degree(local, count.min(WIDE_DEGREE) as u8);
    }

    fn log_end(&self) -> LogPos {
        match self.log.last() {
            None => LogPos::default(),
            Some(b) => LogPos { block: self.log.len() as u32 - 1, offset: b.bytes.len() as u32 },
        }
    }

    /// Says that the states from `local` on lie one move deeper than those before.
    ///
    /// Called when all states before `local` are expanded, so the log ends where theirs end.
    pub(crate) fn begin_level_at(&mut self, local: u32) {
        let start = LevelStart { local, log: self.log_end() };
        self.levels.push(start);
    }

    /// The locals of one depth.
    pub(crate) fn level(&self, depth: u32) -> std::ops::Range<u32> {
        let at = |d: usize| self.levels.get(d).map_or(self.len as u32, |l| l.local);
        at(depth as usize)..at(depth as usize + 1)
    }

    fn depth_of(&self, local: u32) -> u32 {
        self.levels.partition_point(|l| l.local <= local) as u32 - 1
    }

    /// Bytes taken. O(1): only the first chunk and the first block are smaller than the others.
    pub(crate) fn bytes(&self) -> u64 {
        let chunk = match self.chunks.len() {
            0 => 0,
            1 => self.chunks[0].capacity() + self.classes[0].capacity(),
            n => n * (CHUNK * (self.width + 1) + 16),
        };
        let log = match self.log.as_slice() {
            [] => 0,
            [only] => only.bytes.capacity() as u64,
            _ => self.log_bytes,
        };
        4 * self.index.len() as u64 + chunk as u64 + log
    }

    /// Walks the records of one depth, in local order: `visit(local, targets)` for the expanded
    /// states that are `wanted`; the others are skipped.
    fn each_record(
        &self,
        depth: u32,
        wanted: impl Fn(u32, Class) -> bool,
        mut visit: impl FnMut(u32, Targets<'_>),
    ) {
        let Some(start) = self.levels.get(depth as usize) else { return };
        let range = self.level(depth);
        let (mut block, mut at) = (start.log.block as usize, start.log.offset as usize);
        let end = range.end.min(self.expanded);
        let mut first = range.start;
        while first < end {
            let (chunk, from) = (first as usize / CHUNK, first as usize % CHUNK);
            let to = CHUNK.min(from + (end - first) as usize);
            for (k, byte) in self.classes[chunk][from..to].iter().enumerate() {
                let local = first + k as u32;
                let byte = byte.load(Ordering::Relaxed);
                let wants = wanted(local, Class::of(byte));
                let mut degree = usize::from(byte >> 4);
                if degree == 0 {
                    if wants {
                        visit(local, Targets { bytes: &[], width: 1, at: 0, end: 0 });
                    }
                    continue;
                }
                while self.log[block].bytes.len() == at {
                    block += 1;
                    at = 0;
                }
                let LogBlock { width, bytes } = &self.log[block];
                let width = usize::from(*width);
                if degree == WIDE_DEGREE {
                    degree = u32::from_le_bytes(bytes[at..at + 4].try_into().expect("four")) as usize;
                    at += 4;
                }
                let end = at + degree * width;
                if wants {
                    visit(local, Targets { bytes, width, at, end });
                }
                at = end;
            }
            first += (to - from) as u32;
        }
    }

    /// Calls `visit(local, edges)` for the expanded states of one depth, in local order.
    ///
    /// `wanted` says for which states the edges are decoded at all; the others are skipped.
    pub(crate) fn each_edges(
        &self,
        depth: u32,
        sure: bool,
        wanted: impl Fn(u32, Class) -> bool,
        mut visit: impl FnMut(u32, &[Edge]),
    ) {
        let mut edges: Vec<Edge> = Vec::with_capacity(16);
        self.each_record(depth, wanted, |local, targets| {
            edges.clear();
            edges.extend(targets.map(|code| {
                if sure {
                    Edge { to: StateId(code as u32), last: true }
                } else {
                    Edge { to: StateId((code >> 1) as u32), last: code & 1 == 1 }
                }
            }));
            visit(local, &edges);
        });
    }

    /// Calls `hit(local)` for the wanted states of one depth with a target that `test` accepts.
    pub(crate) fn each_with_target(
        &self,
        depth: u32,
        sure: bool,
        wanted: impl Fn(u32, Class) -> bool,
        test: impl Fn(StateId) -> bool,
        mut hit: impl FnMut(u32),
    ) {
        let shift = u32::from(!sure);
        self.each_record(depth, wanted, |local, mut targets| {
            if targets.any(|code| test(StateId((code >> shift) as u32))) {
                hit(local);
            }
        });
    }
}

/// The targets of one record, as they were coded.
struct Targets<'a> {
    bytes: &'a [u8],
    width: usize,
    at: usize,
    end: usize,
}

impl Iterator for Targets<'_> {
    type Item = u64;

    #[inline]
    fn next(&mut self) -> Option<u64> {
        if self.at == self.end {
            return None;
        }
        let at = self.at;
        self.at += self.width;
        // One load of eight bytes where they are there; the last records of a block read singly.
        Some(match self.bytes.get(at..at + 8) {
            Some(eight) => {
                let raw = u64::from_le_bytes(eight.try_into().expect("eight bytes"));
                raw & (u64::MAX >> (64 - 8 * self.width))
            }
            None => self.bytes[at..at + self.width].iter().rev().fold(0, |v, &b| v << 8 | u64::from(b)),
        })
    }
}

/// All states that a sweep has seen, with their depths, classes and edges.
pub struct Space {
    pub(crate) layout: Layout,
    pub(crate) shards: Vec<Shard>,
    pub(crate) levels_len: u32,
    pub(crate) sure: bool,
    pub(crate) starts: Vec<StateId>,
    /// Weights of the starts.
    pub(crate) start_weights: Vec<u64>,
    /// States that are won for certain, and with probability 1. Empty without chance.
    pub(crate) certain: Marks,
    pub(crate) almost_certain: Marks,
    /// For each depth the first local number of each shard.
    pub(crate) firsts: Vec<[u32; SHARDS]>,
    /// For each depth the least depth that an edge from it leads to.
    pub(crate) reach: Vec<u32>,
    /// Whether the edges are kept.
    pub(crate) logged: bool,
}

impl Space {
    pub(crate) fn new(layout: Layout, sure: bool) -> Space {
        Space {
            layout,
            shards: (0..SHARDS).map(|n| Shard::new(n, layout)).collect(),
            levels_len: 1,
            sure,
            starts: vec![],
            start_weights: vec![],
            certain: Marks::default(),
            almost_certain: Marks::default(),
            firsts: vec![[0; SHARDS]],
            reach: vec![0],
            logged: true,
        }
    }

    /// Whether the transitions are kept beside the states. Without them [`Space::each_edges`] has nothing to visit.
    #[must_use]
    pub fn has_edges(&self) -> bool {
        self.logged
    }

    /// Gives the memory of the edges back.
    pub(crate) fn drop_log(&mut self) {
        self.logged = false;
        self.shards.iter_mut().for_each(Shard::drop_log);
    }

    /// Number of distinct states.
    #[must_use]
    pub fn states_len(&self) -> u64 {
        self.shards.iter().map(|s| s.len as u64).sum()
    }

    /// One more than the greatest id.
    #[must_use]
    pub fn ids_len(&self) -> usize {
        self.shards.iter().map(|s| s.len).max().unwrap_or(0) * SHARDS
    }

    /// Number of states whose moves were tried.
    #[must_use]
    pub fn expanded_len(&self) -> u64 {
        self.shards.iter().map(|s| u64::from(s.expanded)).sum()
    }

    /// Bytes taken by the tables, capacity included.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.shards.iter().map(Shard::bytes).sum()
    }

    /// Number of depths that hold a state: the greatest depth plus one.
    #[must_use]
    pub fn levels_len(&self) -> u32 {
        self.levels_len
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
        usize::from(self.shards[id.shard()].raw_class(id.local()).load(Ordering::Relaxed) >> 4)
    }

    /// The number of a state, if it was seen.
    #[must_use]
    pub fn find(&self, state: &[u64]) -> Option<StateId> {
        let hash = hash(state);
        let shard = shard_of(hash);
        self.shards[shard].find(state, hash).map(|local| StateId::new(shard, local))
    }

    /// The packed words of a state.
    #[must_use]
    pub fn state(&self, id: StateId) -> Vec<u64> {
        let mut out = Vec::with_capacity(self.layout.words());
        self.shards[id.shard()].push_state(id.local() as usize, &mut out);
        out
    }

    /// What is known of a state.
    #[must_use]
    pub fn class(&self, id: StateId) -> Class {
        self.shards[id.shard()].class(id.local())
    }

    pub(crate) fn set_class(&self, id: StateId, class: Class) {
        self.shards[id.shard()].set_class(id.local(), class);
    }

    /// Least number of moves from the nearest start. O(log depth).
    #[must_use]
    pub fn depth_of(&self, id: StateId) -> u32 {
        self.shards[id.shard()].depth_of(id.local())
    }

    /// How many states lie at a depth.
    #[must_use]
    pub fn level_len(&self, depth: u32) -> u64 {
        self.shards.iter().map(|s| s.level(depth).len() as u64).sum()
    }

    /// The states of one depth, in a fixed order that means nothing.
    pub fn level(&self, depth: u32) -> impl Iterator<Item = StateId> + '_ {
        self.shards
            .iter()
            .enumerate()
            .flat_map(move |(n, s)| s.level(depth).map(move |local| StateId::new(n, local)))
    }

    /// Calls `visit` with the edges of one state, in move order. O(edges of its level in its shard).
    pub fn each_edges_of(&self, id: StateId, mut visit: impl FnMut(Edge)) {
        if !self.logged {
            return;
        }
        let depth = self.depth_of(id);
        self.shards[id.shard()].each_edges(
            depth,
            self.sure,
            |local, _| local == id.local(),
            |_, edges| edges.iter().for_each(|e| visit(*e)),
        );
    }

    /// Calls `visit` with every expanded state of one depth and its edges in move order.
    pub fn each_edges(&self, depth: u32, mut visit: impl FnMut(StateId, &[Edge])) {
        if !self.logged {
            return;
        }
        for (n, shard) in self.shards.iter().enumerate() {
            shard.each_edges(
                depth,
                self.sure,
                |_, _| true,
                |local, edges| {
                    visit(StateId::new(n, local), edges);
                },
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_state_is_found_again_in_one_word_and_in_two() {
        for bits in [1, 7, 8, 22, 63, 64, 65, 100, 128, 130] {
            let layout = Layout::new(bits);
            let mut shard = Shard::new(3, layout);
            let words = layout.words();
            let count = if bits < 14 { 1 << bits } else { 10_000u64 };
            let state = |i: u64| -> Vec<u64> {
                let mut s = vec![0; words];
                s[0] = i;
                // The top bit of the layout is used too.
                if i % 3 == 1 && bits > 14 {
                    s[words - 1] |= 1 << ((bits - 1) % 64);
                }
                s
            };
            for i in 0..count {
                let s = state(i);
                let (id, new) = shard.insert(&s, hash(&s)).expect("room");
                assert!(new, "bits {bits}, state {i}");
                assert_eq!(id.local() as u64, i);
            }
            for i in 0..count {
                let s = state(i);
                assert_eq!(shard.insert(&s, hash(&s)).map(|x| x.1), Some(false));
                let mut back = vec![];
                shard.push_state(i as usize, &mut back);
                assert_eq!(back, s, "bits {bits}");
            }
            for i in (count / 2..count).rev() {
                shard.pop();
                let s = state(i);
                assert_eq!(shard.find(&s, hash(&s)), None);
            }
            assert_eq!(shard.len() as u64, count / 2);
            let s = state(count / 2 - 1);
            assert!(count < 2 || shard.find(&s, hash(&s)).is_some());
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
                let edges: Vec<(u32, bool)> = (0..degree)
                    .map(|k| ((k as u32).wrapping_mul(2_654_435_761) >> (i % 20 + 1), sure || k % 3 == 0))
                    .collect();
                shard.log_edges(&edges, sure);
                put.push(edges);
            }
            let mut seen = 0;
            shard.each_edges(
                0,
                sure,
                |local, _| local % 7 != 3,
                |local, edges| {
                    let got: Vec<_> = edges.iter().map(|e| (e.to.0, e.last)).collect();
                    assert_eq!(got, put[local as usize]);
                    seen += 1;
                },
            );
            assert_eq!(seen, (0..500).filter(|l| l % 7 != 3).count());
        }
    }
}
