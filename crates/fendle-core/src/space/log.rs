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
        self.append_codes(edges.iter().map(|e| e.code(sure)));
    }

    /// Appends what the next states in local order lead to, in a row, and to how many each of them: each of their moves has one outcome.
    pub(crate) fn append_sure(&mut self, targets: &[StateId], degrees: impl Iterator<Item = usize> + Clone) {
        let width = self.width_for(targets.iter().fold(0, |bits, to| bits | u64::from(to.number())));
        if self.fits(width, targets.len() * usize::from(width)) && degrees.clone().all(|d| d < WIDE_DEGREE) {
            self.write(width, targets.iter().map(|to| to.number().into()));
            return;
        }
        let mut left = targets;
        for degree in degrees {
            let (of_state, rest) = left.split_at(degree);
            left = rest;
            self.append_codes(of_state.iter().map(|to| to.number().into()));
        }
    }

    /// Appends the record of one state.
    #[inline]
    fn append_codes(&mut self, codes: impl ExactSizeIterator<Item = u64> + Clone) {
        let width = self.width_for(codes.clone().fold(0, |bits, code| bits | code));
        let degree = codes.len();
        let wide = degree >= WIDE_DEGREE;
        let need = if wide { 4 } else { 0 } + degree * usize::from(width);
        if need == 0 {
            return;
        }
        if !self.fits(width, need) {
            self.begin_block(width, need);
        }
        if wide {
            let block = self.blocks.last_mut().expect("a block");
            block.bytes.extend_from_slice(&(degree as u32).to_le_bytes());
        }
        self.write(width, codes);
    }

    /// Bytes of each target where these are all bits that any of them has. Targets of a later state are rarely shorter: a block only ever grows wider.
    fn width_for(&self, bits: u64) -> u8 {
        let width = ((64 - bits.leading_zeros()).div_ceil(8) as u8).max(1);
        width.max(self.blocks.last().map_or(1, |b| b.width))
    }

    /// Whether so many bytes more belong into the last block.
    fn fits(&self, width: u8, need: usize) -> bool {
        self.blocks
            .last()
            .is_some_and(|b| b.width == width && b.bytes.len() + need <= LOG_BLOCK.max(b.bytes.capacity()))
    }

    /// Writes targets into the last block, which has room for them.
    #[inline]
    fn write(&mut self, width: u8, codes: impl ExactSizeIterator<Item = u64>) {
        let block = &mut self.blocks.last_mut().expect("a block").bytes;
        match width {
            1 => write::<1>(block, codes),
            2 => write::<2>(block, codes),
            3 => write::<3>(block, codes),
            4 => write::<4>(block, codes),
            _ => write::<5>(block, codes),
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
        let mut reader = Reader { blocks: self.blocks.get(start.block..)?, bytes: &[], width: 1, at: 0 };
        if !reader.blocks.is_empty() {
            reader.next_block();
            reader.at = start.offset;
        }
        Some(reader)
    }
}

/// Writes the codes of edges in `WIDTH` bytes each.
#[inline]
fn write<const WIDTH: usize>(block: &mut Vec<u8>, codes: impl ExactSizeIterator<Item = u64>) {
    let first = block.len();
    block.resize(first + codes.len() * WIDTH, 0);
    for (bytes, code) in block[first..].as_chunks_mut::<WIDTH>().0.iter_mut().zip(codes) {
        bytes.copy_from_slice(&code.to_le_bytes()[..WIDTH]);
    }
}

/// Reads records one after the other.
pub(super) struct Reader<'l> {
    /// Those behind the one that is read.
    blocks: &'l [LogBlock],
    bytes: &'l [u8],
    width: usize,
    at: usize,
}

impl<'l> Reader<'l> {
    fn next_block(&mut self) {
        let (LogBlock { width, bytes }, rest) = self.blocks.split_first().expect("a block for each record");
        (self.blocks, self.bytes, self.width, self.at) = (rest, bytes, usize::from(*width), 0);
    }

    /// The next record, of a state with this degree.
    #[inline]
    pub(super) fn next(&mut self, degree: usize) -> Targets<'l> {
        if degree == 0 {
            return Targets { bytes: &[], width: 1 };
        }
        while self.bytes.len() == self.at {
            self.next_block();
        }
        let mut degree = degree;
        if degree == WIDE_DEGREE {
            let exact = self.bytes[self.at..self.at + 4].try_into().expect("four");
            degree = u32::from_le_bytes(exact) as usize;
            self.at += 4;
        }
        let end = self.at + degree * self.width;
        let bytes = &self.bytes[self.at..end];
        self.at = end;
        Targets { bytes, width: self.width }
    }
}

impl<'l> Reader<'l> {
    /// The targets of the next states in one go, and how many states these are: as many as have [`GROUP`] targets together, in one block. None where
    /// the next record has to be read by itself.
    #[inline]
    pub(super) fn next_group(&mut self, degrees: impl Iterator<Item = usize>) -> (usize, Targets<'l>) {
        if self.bytes.len() == self.at && !self.blocks.is_empty() {
            self.next_block();
        }
        let most = GROUP.min((self.bytes.len() - self.at) / self.width);
        let (mut states, mut targets) = (0, 0);
        for degree in degrees {
            if degree == WIDE_DEGREE || targets + degree > most {
                break;
            }
            states += 1;
            targets += degree;
        }
        let end = self.at + targets * self.width;
        let bytes = &self.bytes[self.at..end];
        self.at = end;
        (states, Targets { bytes, width: self.width })
    }
}

/// Targets that are looked at together: a bit of a word for each.
const GROUP: usize = 64;

/// The targets of one record, as they were coded.
#[derive(Clone, Copy)]
pub(crate) struct Targets<'a> {
    bytes: &'a [u8],
    width: usize,
}

impl<'a> Targets<'a> {
    /// The first ones, and the others.
    #[inline(always)]
    pub(super) fn split(self, first: usize) -> (Targets<'a>, Targets<'a>) {
        let (bytes, rest) = self.bytes.split_at(first * self.width);
        (Targets { bytes, ..self }, Targets { bytes: rest, ..self })
    }

    /// A bit for each of at most [`GROUP`] targets: whether `test` accepts its code. All are looked at, none waits for what was found of another one.
    #[inline(always)]
    pub(super) fn bits(self, test: impl Fn(u64) -> bool) -> u64 {
        let (mut bits, mut place) = (0, 0);
        self.each(|code| {
            bits |= u64::from(test(code)) << place;
            place += 1;
        });
        bits
    }

    /// How many edges there are.
    #[inline(always)]
    pub(crate) fn len(&self) -> usize {
        self.bytes.len() / self.width
    }

    /// Shows the code of one target after the other, until `enough` says so of one. Says whether it did.
    #[inline(always)]
    pub(super) fn any(self, enough: impl FnMut(u64) -> bool) -> bool {
        match self.width {
            1 => self.any_of::<1>(enough),
            2 => self.any_of::<2>(enough),
            3 => self.any_of::<3>(enough),
            4 => self.any_of::<4>(enough),
            _ => self.any_of::<5>(enough),
        }
    }

    #[inline(always)]
    fn any_of<const WIDTH: usize>(self, mut enough: impl FnMut(u64) -> bool) -> bool {
        self.bytes.as_chunks::<WIDTH>().0.iter().any(|bytes| {
            let mut code = [0; 8];
            code[..WIDTH].copy_from_slice(bytes);
            enough(u64::from_le_bytes(code))
        })
    }

    /// Shows the states that all edges lead to.
    #[inline(always)]
    pub(crate) fn each_state(self, sure: bool, mut show: impl FnMut(StateId)) {
        self.each(|code| show(Edge::of(code, sure).to));
    }

    /// Shows the codes of all targets.
    #[inline(always)]
    pub(super) fn each(self, mut show: impl FnMut(u64)) {
        self.any(|code| {
            show(code);
            false
        });
    }
}
