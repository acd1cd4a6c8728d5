//! Wide states as a *still*, which is kept once, and moving bits.
//!
//! On a board of real size most moves change a few bits of a state and leave the others as they are: a piece falls, an agent walks, and the board
//! stays. The bits that rarely change are the *still* of a state, the others are *moving*. Each still is kept once and has a number;
//! a state is then one word, however wide it is:
//!
//! ```text
//! word     [number of the still | moving bits]
//! ```
//!
//! With n states and m stills of b bytes this takes 8 n + (b + 8) m bytes at most, instead of b n; on a well of 20 x 10 m is n / 70 among the first million states. Which bits are moving
//! changes what it costs, and nothing else: every state has one word, and every word one state.
//!
//! Source: the dictionary of parts of A. Laarman, J. van de Pol and M. Weber, *Parallel recursive state compression for free* (2011), here of one part.

use super::table::StateTable;
use super::{by_words, hash};
use crate::model::Layout;

/// Bits of the number of a still: there are no more of them than states.
const NUMBER_BITS: u32 = 30;
/// Most moving bits.
const MOVING_MAX: u32 = 63 - NUMBER_BITS;
/// Most words of a state that is split so.
const WORDS_MAX: usize = 16;

/// No word: that of a state whose still has no number yet.
pub(crate) const UNKNOWN: u64 = u64::MAX;

/// Moving bits that lie beside each other.
#[derive(Clone, Copy, Debug)]
struct Run {
    word: usize,
    shift: u32,
    mask: u64,
    /// Where they lie among the moving bits.
    to: u32,
}

/// The stills that were met, with their numbers, and which bits of a state belong to them.
pub(crate) struct Stills {
    /// Of each word of a packed state the bits that are moving.
    moving: Vec<u64>,
    runs: Vec<Run>,
    moving_bits: u32,
    /// States whose moving bits are 0.
    met: StateTable,
}

impl Stills {
    /// None met, of states of this layout with these moving bits. `None` where a word cannot hold a state so.
    pub(crate) fn new(layout: Layout, moving: Vec<u64>) -> Option<Stills> {
        let mut runs = vec![];
        let mut moving_bits = 0;
        for (word, mask) in moving.iter().enumerate() {
            let mut left = *mask;
            while left != 0 {
                let shift = left.trailing_zeros();
                let len = (left >> shift).trailing_ones();
                let mask = u64::MAX >> (64 - len);
                runs.push(Run { word, shift, mask, to: moving_bits });
                moving_bits += len;
                left &= !(mask << shift);
            }
        }
        if moving_bits > MOVING_MAX || moving.len() > WORDS_MAX {
            return None;
        }
        Some(Stills { moving, runs, moving_bits, met: StateTable::new(layout, (1 << NUMBER_BITS) - 1) })
    }

    /// The shape of a word.
    pub(crate) fn layout(&self) -> Layout {
        Layout::new(self.moving_bits + NUMBER_BITS)
    }

    /// Bits of the words that states have so far.
    pub(crate) fn word_bits(&self) -> u32 {
        self.moving_bits + usize::BITS - self.met.len().leading_zeros()
    }

    /// How many stills were met.
    pub(crate) fn len(&self) -> usize {
        self.met.len()
    }

    /// Bytes that they take.
    pub(crate) fn bytes(&self) -> u64 {
        self.met.bytes()
    }

    #[inline]
    fn moving_of(&self, state: &[u64]) -> u64 {
        self.runs.iter().fold(0, |word, run| word | (state[run.word] >> run.shift & run.mask) << run.to)
    }

    /// The still of a state, in the words that it has, and its hash.
    #[inline]
    fn still_of(&self, state: &[u64]) -> ([u64; WORDS_MAX], u64) {
        let mut words = [0; WORDS_MAX];
        for ((word, state), moving) in words.iter_mut().zip(state).zip(&self.moving) {
            *word = state & !moving;
        }
        (words, hash(&words[..self.moving.len()]))
    }

    fn word(&self, still: u32, state: &[u64]) -> u64 {
        u64::from(still) << self.moving_bits | self.moving_of(state)
    }

    /// The word of a packed state, or [`UNKNOWN`].
    pub(crate) fn find(&self, state: &[u64]) -> u64 {
        let (still, hash) = self.still_of(state);
        let number = self.met.find(&still[..self.moving.len()], hash);
        number.map_or(UNKNOWN, |number| self.word(number, state))
    }

    /// The same for what a state leads to, given both words of it: most often the still is the same. `WORDS` is how many words a state has, or 0.
    #[inline]
    pub(crate) fn find_near<const WORDS: usize>(&self, state: &[u64], word: u64, near: &[u64]) -> u64 {
        let words = if WORDS == 0 { self.moving.len() } else { WORDS };
        let (state, near, moving) = (&state[..words], &near[..words], &self.moving[..words]);
        let differs = (0..words).fold(0, |all, i| all | (state[i] ^ near[i]) & !moving[i]);
        if differs == 0 {
            return word >> self.moving_bits << self.moving_bits | self.moving_of(near);
        }
        self.find(near)
    }

    /// The word of a packed state; its still gets a number if it has none.
    pub(crate) fn add(&mut self, state: &[u64]) -> u64 {
        let (still, hash) = self.still_of(state);
        let number = self.met.insert(&still[..self.moving.len()], hash);
        // There are no more of them than states.
        let (number, _) = number.expect("a number for each still");
        self.word(number, state)
    }

    /// Appends the packed states of some words.
    pub(crate) fn push_states(&self, words: &[u64], out: &mut Vec<u64>) {
        by_words!(self.moving.len(), WORDS => self.push_each::<WORDS>(words, out))
    }

    /// The same for states of `WORDS` words, or of any number of them where that is 0.
    fn push_each<const WORDS: usize>(&self, words: &[u64], out: &mut Vec<u64>) {
        let wide = if WORDS == 0 { self.moving.len() } else { WORDS };
        let first = out.len();
        out.resize(first + words.len() * wide, 0);
        for (word, state) in words.iter().zip(out[first..].chunks_exact_mut(wide)) {
            self.met.read::<WORDS>((word >> self.moving_bits) as usize, state);
            for run in &self.runs {
                state[run.word] |= (word >> run.to & run.mask) << run.shift;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numbers::Random;

    /// Each state has one word, from whatever it is found, and each word gives its state back.
    #[test]
    fn states_and_words_stand_for_each_other() {
        let mut random = Random::new(5);
        for bits in [70, 128, 221, 500] {
            let layout = Layout::new(bits);
            let last = u64::MAX >> (64 * layout.words() as u32 - bits);
            let mut mask = |n: u64| -> Vec<u64> {
                let mut words: Vec<u64> = (0..layout.words())
                    .map(|_| (0..n).fold(u64::MAX, |bits, _| bits & random.below(u64::MAX)))
                    .collect();
                *words.last_mut().expect("a word") &= last;
                words
            };
            let moving = mask(if bits > 200 { 6 } else { 3 });
            let still = mask(2);
            let mut stills = Stills::new(layout, moving.clone()).expect("few moving bits");
            let mut met: Vec<(Vec<u64>, u64)> = vec![];
            for _ in 0..500 {
                let state: Vec<u64> = mask(1).iter().zip(&still).map(|(a, b)| a & b).collect();
                let before = stills.find(&state);
                let word = stills.add(&state);
                assert!(before == UNKNOWN || before == word);
                assert!(word < 1 << stills.layout().bits);
                met.push((state, word));
                let (near, other) = &met[met.len() / 2];
                assert_eq!(stills.find_near::<0>(&met[met.len() - 1].0, word, near), *other);
            }
            for (state, word) in &met {
                let mut out = vec![9];
                stills.push_states(&[*word], &mut out);
                assert_eq!((&out[1..], stills.find(state)), (&state[..], *word));
                let same = met.iter().filter(|m| m.1 == *word);
                assert!(same.into_iter().all(|m| m.0 == *state));
            }
            let unmet: Vec<u64> = still.iter().zip(&moving).map(|(a, b)| !a & !b & last).collect();
            assert_eq!(stills.find(&unmet) == UNKNOWN, met.iter().all(|m| m.0 != unmet));
        }
    }

    #[test]
    fn a_word_has_room_for_few_moving_bits() {
        assert!(Stills::new(Layout::new(128), vec![u64::MAX >> 31, 0]).is_some());
        assert!(Stills::new(Layout::new(128), vec![u64::MAX >> 30, 0]).is_none());
        assert!(Stills::new(Layout::new(64 * 17), vec![0; 17]).is_none());
    }
}
