//! The transitions of the states of one shard, in local order, as a log of bytes.
//!
//! A record holds the targets of one state, 1 to 4 bytes each (5 with chance); records of one width share a block. A state
//! with many targets has their exact number in front. With chance a target carries one bit more: whether it is the
//! last outcome of its move.

use super::classes::WIDE_DEGREE;
use super::id::StateId;

const LOG_BLOCK: usize = 1 << 16;

/// One transition out of a state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Edge {
    /// Where it leads.
    pub to: StateId,
    /// Whether it is the last outcome of its move.
    pub last: bool,
}

impl Edge {
    #[inline]
    fn code(self, sure: bool) -> u64 {
        let number = u64::from(self.to.number());
        if sure { number } else { number << 1 | u64::from(self.last) }
    }

    /// The edge behind a code of [`Targets`].
    #[inline]
    pub(super) fn of(code: u64, sure: bool) -> Edge {
        if sure {
            Edge { to: StateId::from_number(code as u32), last: true }
        } else {
            Edge { to: StateId::from_number((code >> 1) as u32), last: code & 1 == 1 }
        }
    }
}

/// A place in the log.
#[derive(Clone, Copy, Debug, Default)]
struct LogPos {
    block: usize,
    offset: usize,
}

/// Targets of one width, in whole records.
struct LogBlock {
    width: u8,
    bytes: Vec<u8>,
}

/// The log of one shard.
pub(crate) struct EdgeLog {
    blocks: Vec<LogBlock>,
    /// Where the records of each depth begin.
    depths: Vec<LogPos>,
    /// Bytes of all blocks but the last.
    closed: u64,
}

impl EdgeLog {
    pub(crate) fn new() -> EdgeLog {
        EdgeLog { blocks: vec![], depths: vec![LogPos::default()], closed: 0 }
    }

    /// Appends the edges of the next state in local order.
    pub(crate) fn append(&mut self, edges: &[Edge], sure: bool) {
        // As many bits as the greatest one has.
        let bits = edges.iter().fold(0, |bits, e| bits | e.code(sure));
        let width = ((64 - bits.leading_zeros()).div_ceil(8) as u8).max(1);
        // Targets of a later state are rarely shorter: a block only ever grows wider.
        let width = width.max(self.blocks.last().map_or(1, |b| b.width));
        let wide = edges.len() >= WIDE_DEGREE;
        let need = if wide { 4 } else { 0 } + edges.len() * usize::from(width);
        if need == 0 {
            return;
        }
        let fits = self
            .blocks
            .last()
            .is_some_and(|b| b.width == width && b.bytes.len() + need <= LOG_BLOCK.max(b.bytes.capacity()));
        if !fits {
            self.begin_block(width, need);
        }
        let block = &mut self.blocks.last_mut().expect("a block").bytes;
        if wide {
            block.extend_from_slice(&(edges.len() as u32).to_le_bytes());
        }
        match width {
            1 => write::<1>(block, edges, sure),
            2 => write::<2>(block, edges, sure),
            3 => write::<3>(block, edges, sure),
            4 => write::<4>(block, edges, sure),
            _ => write::<5>(block, edges, sure),
        }
    }

    /// Begins a block with room for so many bytes. The last one keeps no room that it does not need; where little was written yet a block grows as
    /// needed, so that tiny spaces stay tiny, though targets become wider there again and again.
    fn begin_block(&mut self, width: u8, need: usize) {
        if let Some(last) = self.blocks.last_mut() {
            last.bytes.shrink_to_fit();
            self.closed += last.bytes.capacity() as u64;
        }
        let room = if self.closed < LOG_BLOCK as u64 { need } else { LOG_BLOCK.max(need) };
        self.blocks.push(LogBlock { width, bytes: Vec::with_capacity(room) });
    }

    /// Says that the records from here on belong to the next depth.
    pub(crate) fn begin_depth(&mut self) {
        let end = match self.blocks.last() {
            None => LogPos::default(),
            Some(b) => LogPos { block: self.blocks.len() - 1, offset: b.bytes.len() },
        };
        self.depths.push(end);
    }

    /// Bytes taken. O(1).
    pub(crate) fn bytes(&self) -> u64 {
        self.closed + self.blocks.last().map_or(0, |b| b.bytes.capacity() as u64)
    }

    /// Reads the records of one depth from its beginning.
    pub(super) fn read(&self, depth: u32) -> Option<Reader<'_>> {
        let start = *self.depths.get(depth as usize)?;
        Some(Reader { log: self, at: start })
    }
}

/// Writes the codes of edges in `WIDTH` bytes each.
#[inline]
fn write<const WIDTH: usize>(block: &mut Vec<u8>, edges: &[Edge], sure: bool) {
    block.reserve(edges.len() * WIDTH);
    for edge in edges {
        let code: [u8; 8] = edge.code(sure).to_le_bytes();
        let code: [u8; WIDTH] = std::array::from_fn(|i| code[i]);
        block.extend_from_slice(&code);
    }
}

/// Reads records one after the other.
pub(super) struct Reader<'l> {
    log: &'l EdgeLog,
    at: LogPos,
}

impl<'l> Reader<'l> {
    /// The next record, of a state with this degree.
    #[inline]
    pub(super) fn next(&mut self, degree: usize) -> Targets<'l> {
        if degree == 0 {
            return Targets { bytes: &[], width: 1, at: 0, end: 0 };
        }
        while self.log.blocks[self.at.block].bytes.len() == self.at.offset {
            self.at = LogPos { block: self.at.block + 1, offset: 0 };
        }
        let LogBlock { width, bytes } = &self.log.blocks[self.at.block];
        let width = usize::from(*width);
        let (mut at, mut degree) = (self.at.offset, degree);
        if degree == WIDE_DEGREE {
            degree = u32::from_le_bytes(bytes[at..at + 4].try_into().expect("four")) as usize;
            at += 4;
        }
        let end = at + degree * width;
        self.at.offset = end;
        Targets { bytes, width, at, end }
    }
}

/// The targets of one record, as they were coded.
pub(super) struct Targets<'a> {
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
