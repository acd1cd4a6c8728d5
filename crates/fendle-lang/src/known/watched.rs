//! What has to be worked out again when a state has changed.

use crate::run::Noted;

/// Things that are worked out from a state one by one, and the values that each was worked out from: when the state
/// changes, only those that read what changed are worked out again.
#[derive(Clone, Debug, Default)]
pub(crate) struct Watched {
    state: Vec<i32>,
    /// For each thing the places that it read.
    reads: Vec<Noted>,
    /// For each place of the state the things that read it once.
    readers: Vec<Vec<u32>>,
    stale: Vec<bool>,
}

impl Watched {
    /// So many things, none of them worked out yet.
    pub(crate) fn new(things: usize) -> Watched {
        Watched { reads: vec![Noted::default(); things], stale: vec![true; things], ..Watched::default() }
    }

    /// The state is this one from now on.
    pub(crate) fn turn_to(&mut self, state: &[i32]) {
        if self.state.len() != state.len() {
            self.state = state.to_vec();
            self.readers = vec![vec![]; state.len()];
            self.stale.fill(true);
            return;
        }
        let mut changed = false;
        for (at, value) in state.iter().enumerate() {
            if self.state[at] != *value {
                self.state[at] = *value;
                self.changed(at);
                changed = true;
            }
        }
        if changed {
            for (thing, noted) in self.reads.iter().enumerate() {
                self.stale[thing] |= noted.everything;
            }
        }
    }

    /// For each thing whether it would have to be worked out again in another state.
    pub(crate) fn stale_in(&self, state: &[i32]) -> Vec<bool> {
        let mut out = self.stale.clone();
        let changed = (0..state.len().min(self.state.len())).filter(|at| self.state[*at] != state[*at]);
        let mut any = false;
        for at in changed {
            any = true;
            self.readers[at].iter().for_each(|t| out[*t as usize] = true);
        }
        if any {
            out.iter_mut().zip(&self.reads).for_each(|(o, noted)| *o |= noted.everything);
        }
        out
    }

    /// What was read at this place is something else now.
    pub(crate) fn changed(&mut self, at: usize) {
        let Some(readers) = self.readers.get(at) else { return };
        for &thing in readers {
            let thing = thing as usize;
            // It may no longer read it.
            self.stale[thing] |= self.reads[thing].places.binary_search(&(at as u32)).is_ok();
        }
    }

    /// Whether a thing has to be worked out again.
    pub(crate) fn is_stale(&self, thing: usize) -> bool {
        self.stale[thing]
    }

    /// A thing was worked out in this state, from this.
    pub(crate) fn worked_out(&mut self, thing: usize, from: Noted) {
        let before = std::mem::replace(&mut self.reads[thing], from);
        for &at in &self.reads[thing].places {
            if before.places.binary_search(&at).is_err() {
                let readers = &mut self.readers[at as usize];
                // A place that is read, not read, and read again is not listed twice.
                if !readers.contains(&(thing as u32)) {
                    readers.push(thing as u32);
                }
            }
        }
        self.stale[thing] = false;
    }
}
