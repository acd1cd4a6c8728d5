//! When wide states are kept as a still and moving bits: see [`crate::space::stills`].

use std::sync::{Arc, RwLock};

use super::*;
use crate::space::stills::Stills;

/// How many times more states there are when it is looked again whether that pays.
const AGAIN: u64 = 4;
/// States from which it is not looked any more: a search that begins again sees them twice.
const UP_TO: u64 = 1 << 19;
/// States whose moves are looked at.
const SAMPLE: usize = 1 << 10;
/// About how many words of changes are looked at.
const CHANGES_MAX: usize = 1 << 18;
/// A bit is moving when one in so many moves changes it.
const MOVING: u64 = 12;
/// One in so many moves may change the still.
const RARELY: u64 = 8;
/// Bytes that the index of the stills takes for each still.
const INDEXED: usize = 8;

/// Where the words of a sample of moves differ.
struct Sample {
    /// For each transition the bits that it changes, word by word.
    changed: Vec<u64>,
    words: usize,
}

impl Sample {
    /// The transitions of the states that were expanded last.
    fn of(space: &Space) -> Sample {
        let words = space.layout.words();
        let mut out = Sample { changed: vec![], words };
        let mut left = SAMPLE;
        for depth in (0..space.levels_len()).rev() {
            for n in 0..SHARDS {
                let first = space.level_of(n, depth).start as usize;
                space.each_edges_in(
                    n,
                    depth,
                    |local, _| (local as usize) < first + SAMPLE / SHARDS,
                    |local, edges| {
                        left = left.saturating_sub(1);
                        let from = space.state(StateId::new(n, local));
                        // Of states with thousands of moves few are enough.
                        for edge in edges.iter().take(CHANGES_MAX.saturating_sub(out.changed.len())) {
                            let to = space.state(edge.to);
                            out.changed.extend(from.iter().zip(&to).map(|(a, b)| a ^ b));
                        }
                    },
                );
            }
            if left == 0 {
                break;
            }
        }
        out
    }

    fn len(&self) -> u64 {
        (self.changed.len() / self.words) as u64
    }

    /// The bits that often change.
    fn moving(&self) -> Vec<u64> {
        let mut changes = vec![[0u64; 64]; self.words];
        for transition in self.changed.chunks_exact(self.words) {
            for (changes, word) in changes.iter_mut().zip(transition) {
                let mut left = *word;
                while left != 0 {
                    changes[left.trailing_zeros() as usize] += 1;
                    left &= left - 1;
                }
            }
        }
        let often = |changes: &u64| changes * MOVING > self.len();
        let word = |changes: &[u64; 64]| {
            changes.iter().enumerate().fold(0, |word, (bit, changes)| word | u64::from(often(changes)) << bit)
        };
        changes.iter().map(word).collect()
    }

    /// How many transitions change another bit.
    fn others(&self, moving: &[u64]) -> u64 {
        let others = |changed: &&[u64]| changed.iter().zip(moving).any(|(c, m)| c & !m != 0);
        self.changed.chunks_exact(self.words).filter(others).count() as u64
    }
}

/// How many stills there may be so that states which are words of another layout, and the stills, take one `share`th of what packed states take.
fn most_stills(packed: Layout, word: Layout, states: u64, share: usize) -> usize {
    let (packed, word) = (packed.bytes(), word.bytes());
    packed.saturating_sub(share * word) * states as usize / (share * (packed + INDEXED))
}

impl<'m> Sweep<'m> {
    /// Begins again with stills, if most moves leave most of a wide state as it was; without, if there turn out to be so many that nothing is gained.
    pub(super) fn change_to_stills(&mut self) {
        let space = &self.space;
        let states = space.states_len();
        if let Some(stills) = space.stills_len() {
            // Those that were met before it began again are many beside few states.
            if !(self.stills_asked_at..UP_TO).contains(&states) {
                return;
            }
            self.stills_asked_at = 2 * states;
            if stills > most_stills(space.packed, space.layout, states, 1) {
                let starts = space.starts.iter().map(|id| space.state(*id)).collect();
                self.begin_again(Space::new(space.packed, space.sure), starts);
                self.stills_asked_at = u64::MAX;
            }
            return;
        }
        // Where edges are kept, what asks for them may go by the order of states: it stays what it was.
        if space.layout.words() < 2
            || !(self.limits.drop_edges && space.logged)
            || !((self.limits.number_from / 2).max(self.stills_asked_at)..UP_TO).contains(&states)
        {
            return;
        }
        self.stills_asked_at = states * AGAIN;
        let sample = Sample::of(space);
        let moving = sample.moving();
        if sample.others(&moving) * RARELY > sample.len() {
            return;
        }
        let Some(mut stills) = Stills::new(space.layout, moving) else { return };
        // Half of the room should be gained.
        let most = most_stills(space.packed, stills.layout(), states, 2);
        for id in (0..space.levels_len()).flat_map(|depth| space.level(depth)) {
            stills.add(&space.state(id));
            if stills.len() > most {
                return;
            }
        }
        let starts: Vec<Vec<u64>> = space.starts.iter().map(|id| space.state(*id)).collect();
        let starts = starts.iter().map(|state| vec![stills.add(state)]).collect();
        let again = Space { packed: space.packed, ..Space::new(stills.layout(), space.sure) };
        self.begin_again(again, starts);
        self.space.stills = Some(Arc::new(RwLock::new(stills)));
    }
}
