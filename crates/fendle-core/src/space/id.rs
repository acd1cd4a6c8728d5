//! Numbers of states: the one place that knows what they look like.
//!
//! A state belongs to one of [`SHARDS`] shards by its hash, and has a local number there in the order in which it was
//! first met. [`StateId`] joins the two, so that ids stay dense:
//!
//! ```text
//! id = local * SHARDS + shard
//! ```

/// Number of shards. Fixed, so that the order of states does not depend on the machine.
pub const SHARDS: usize = 64;
const SHARD_BITS: u32 = 6;
/// States with neighbouring ids whose bits of [`Marks`](crate::classify::Marks) lie together: a word of 64 states for each shard.
pub(crate) const MARKS_APART: usize = SHARDS * 64;

/// Most states that one shard numbers.
pub(crate) const LOCAL_MAX: usize = (1 << 24) - 2;

/// A visited state: dense, valid for one [`Space`](super::Space). Prints as `s12`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct StateId(u32);

impl StateId {
    /// The state with this number; the number comes from [`StateId::number`].
    #[must_use]
    pub fn from_number(number: u32) -> StateId {
        StateId(number)
    }

    /// The number, for tables that keep ids in four bytes.
    #[inline]
    #[must_use]
    pub fn number(self) -> u32 {
        self.0
    }

    /// The number as an index into a table of [`Space::ids_len`](super::Space::ids_len) entries.
    #[inline]
    #[must_use]
    pub fn index(self) -> usize {
        self.0 as usize
    }

    #[inline]
    pub(crate) fn new(shard: usize, local: u32) -> StateId {
        StateId(local << SHARD_BITS | shard as u32)
    }
    #[inline]
    pub(crate) fn shard(self) -> usize {
        (self.0 as usize) & (SHARDS - 1)
    }
    #[inline]
    pub(crate) fn local(self) -> u32 {
        self.0 >> SHARD_BITS
    }
}

impl std::fmt::Display for StateId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "s{}", self.0)
    }
}

/// Odd numbers that mix bits well, of the finaliser of MurmurHash3 (Appleby, public domain).
pub(super) const FACTORS: [u64; 2] = [0xff51_afd7_ed55_8ccd, 0xc4ce_b9fe_1a85_ec53];

/// Mixes all bits of a state: the finaliser of MurmurHash3 (Appleby, public domain), folded over words.
#[inline]
pub(crate) fn hash(state: &[u64]) -> u64 {
    let mut h = 0x9e37_79b9_7f4a_7c15_u64;
    for &word in state {
        h ^= word;
        h ^= h >> 33;
        h = h.wrapping_mul(FACTORS[0]);
        h ^= h >> 33;
        h = h.wrapping_mul(FACTORS[1]);
        h ^= h >> 33;
    }
    h
}

/// The shard that a state with this hash belongs to.
#[inline]
pub(crate) fn shard_of(hash: u64) -> usize {
    (hash >> (64 - SHARD_BITS)) as usize
}

/// The bits of a hash that choose a slot within a shard, at the top.
#[inline]
pub(crate) fn slot_bits(hash: u64) -> u64 {
    hash << SHARD_BITS
}
