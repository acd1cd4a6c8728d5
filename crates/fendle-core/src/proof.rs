//! Proof files: what was found, in a form that can be rechecked without the search.
//!
//! ```text
//! fendle proof 1\n            what it is
//! length (4 bytes, little endian) | header (JSON)
//! length (8 bytes, little endian) | payload
//! SHA-256 of all that stands before (32 bytes)
//! ```
//!
//! The header says what is claimed of which level and rules. The payload of a closed set holds its states: sorted, each
//! as big-endian bytes without those that it shares with the one before it, compressed (DEFLATE). Nothing here is trusted: the
//! hash only tells a damaged file from a wrong one, and every claim is checked anew by whoever reads it.

use std::io::{Read, Write};

use flate2::Compression;
use flate2::bufread::DeflateDecoder;
use flate2::write::DeflateEncoder;
use sha2::{Digest, Sha256};

use crate::model::Layout;
use crate::space::Space;

/// What a proof file begins with.
pub const MAGIC: &[u8] = b"fendle proof 1\n";
/// Greatest header.
const HEADER_MAX: usize = 64 << 20;
/// Most bytes of a proof file that is read.
pub const FILE_BYTES_MAX: u64 = 4 << 30;

/// Why a file is no proof.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum BadProof {
    /// It does not begin like one.
    NoProof,
    /// It is shorter or longer than it says, or its hash is another one.
    Damaged,
    /// Its states cannot be read: in words.
    States(&'static str),
    /// Its states would take this many bytes, more than the budget.
    Memory(u64),
}

impl std::fmt::Display for BadProof {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            BadProof::NoProof => write!(f, "this is no proof file of this version"),
            BadProof::Damaged => write!(f, "this file is damaged: its hash does not fit what stands in it"),
            BadProof::States(what) => write!(f, "the closed set cannot be read: {what}"),
            BadProof::Memory(n) => {
                write!(f, "the closed set takes {n} bytes of memory, more than the budget (--memory)")
            }
        }
    }
}

/// A hash in hexadecimal digits.
#[must_use]
pub fn fingerprint(parts: &[&[u8]]) -> String {
    let mut hash = Sha256::new();
    for p in parts {
        hash.update((p.len() as u64).to_le_bytes());
        hash.update(p);
    }
    hash.finalize().iter().map(|b| format!("{b:02x}")).collect()
}

/// Puts a file together.
#[must_use]
pub fn seal(header: &str, payload: &[u8]) -> Vec<u8> {
    let mut out = MAGIC.to_vec();
    out.extend_from_slice(&(header.len() as u32).to_le_bytes());
    out.extend_from_slice(header.as_bytes());
    out.extend_from_slice(&(payload.len() as u64).to_le_bytes());
    out.extend_from_slice(payload);
    let hash = Sha256::digest(&out);
    out.extend_from_slice(&hash);
    out
}

/// Takes a file apart: header and payload.
///
/// # Errors
///
/// [`BadProof`] when it is none, or was changed.
pub fn open(file: &[u8]) -> Result<(&str, &[u8]), BadProof> {
    let body = file.strip_prefix(MAGIC).ok_or(BadProof::NoProof)?;
    if body.len() < 44 {
        return Err(BadProof::Damaged);
    }
    let (_, hash) = file.split_at(file.len() - 32);
    if Sha256::digest(&file[..file.len() - 32]).as_slice() != hash {
        return Err(BadProof::Damaged);
    }
    let take = |at: usize, n: usize| body.get(at..at.checked_add(n)?);
    let parts = || {
        let len = u32::from_le_bytes(take(0, 4)?.try_into().ok()?) as usize;
        let header = std::str::from_utf8(take(4, len.min(HEADER_MAX))?).ok()?;
        let size = u64::from_le_bytes(take(4 + len, 8)?.try_into().ok()?);
        let payload = take(12 + len, usize::try_from(size).ok()?)?;
        (12 + len + payload.len() + 32 == body.len()).then_some((header, payload))
    };
    parts().ok_or(BadProof::Damaged)
}

fn bytes_of(state: &[u64], width: usize, out: &mut [u8]) {
    for (i, b) in out.iter_mut().enumerate() {
        // The greatest byte first.
        let at = width - 1 - i;
        *b = (state[at / 8] >> (8 * (at % 8))) as u8;
    }
}

/// All states of a space as the payload of a closed set.
#[must_use]
pub fn pack_states(space: &Space) -> Vec<u8> {
    let width = space.packed.bytes();
    let mut all = Vec::with_capacity(space.states_len() as usize * width);
    let mut record = vec![0; width];
    for depth in 0..space.levels_len() {
        for id in space.level(depth) {
            bytes_of(&space.state(id), width, &mut record);
            all.extend_from_slice(&record);
        }
    }
    let mut order: Vec<&[u8]> = all.chunks_exact(width).collect();
    order.sort_unstable();
    let mut out = DeflateEncoder::new(vec![], Compression::new(6));
    let mut last: &[u8] = &[];
    for state in order {
        let same = state.iter().zip(last).take_while(|(a, b)| a == b).count();
        // Writing to memory does not fail.
        let _ = out.write_all(&[same as u8]);
        let _ = out.write_all(&state[same..]);
        last = state;
    }
    out.finish().unwrap_or_default()
}

/// A set of packed states: sorted, one after the other, nothing else.
pub struct StateSet {
    width: usize,
    words: usize,
    bytes: Vec<u8>,
}

impl StateSet {
    /// Reads the payload of a closed set of `count` states.
    ///
    /// # Errors
    ///
    /// [`BadProof`] when it does not hold so many, ascending, or they take more than `memory` bytes.
    pub fn read(payload: &[u8], layout: Layout, count: u64, memory: u64) -> Result<StateSet, BadProof> {
        let width = layout.bytes();
        let size = count.saturating_mul(width as u64);
        if size > memory || width > 255 {
            return Err(BadProof::Memory(size));
        }
        let mut input = DeflateDecoder::new(payload);
        let mut bytes = vec![];
        let (mut last, mut state) = (vec![0u8; width], vec![0u8; width]);
        for n in 0..count {
            let mut same = [0u8];
            input.read_exact(&mut same).map_err(|_| BadProof::States("it ends too early"))?;
            let same = usize::from(same[0]);
            if same >= width || n == 0 && same > 0 {
                return Err(BadProof::States("a state shares more than it has"));
            }
            input.read_exact(&mut state[same..]).map_err(|_| BadProof::States("it ends too early"))?;
            if n > 0 && state <= last {
                return Err(BadProof::States("its states do not ascend"));
            }
            bytes.extend_from_slice(&state);
            last.copy_from_slice(&state);
        }
        let ends = matches!(input.read(&mut [0]), Ok(0));
        // Nothing may lie behind what was packed, either.
        if ends && input.get_ref().is_empty() {
            Ok(StateSet { width, words: layout.words(), bytes })
        } else {
            Err(BadProof::States("it goes on past its end"))
        }
    }

    /// How many states there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.bytes.len() / self.width
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// One state, in order.
    #[must_use]
    pub fn state(&self, n: usize) -> Vec<u64> {
        let mut out = vec![0u64; self.words];
        for (i, b) in self.bytes[n * self.width..(n + 1) * self.width].iter().enumerate() {
            let at = self.width - 1 - i;
            out[at / 8] |= u64::from(*b) << (8 * (at % 8));
        }
        out
    }

    /// Whether a state is in it. O(log n).
    #[must_use]
    pub fn holds(&self, state: &[u64]) -> bool {
        let mut wanted = vec![0; self.width];
        bytes_of(state, self.width, &mut wanted);
        let (mut lo, mut hi) = (0, self.len());
        while lo < hi {
            let mid = (lo + hi) / 2;
            match self.bytes[mid * self.width..(mid + 1) * self.width].cmp(&wanted) {
                std::cmp::Ordering::Equal => return true,
                std::cmp::Ordering::Less => lo = mid + 1,
                std::cmp::Ordering::Greater => hi = mid,
            }
        }
        false
    }
}
