//! Rooms of a space, and the doors between them.

use std::sync::atomic::{AtomicU8, AtomicU32, Ordering::Relaxed};

use super::Rooms;
use crate::classify::Marks;
use crate::graph::{Parts, Transitions};
use crate::limits::{Limit, Pace};
use crate::space::{Class, StateId};

/// A transition leads out of the part.
const LEFT: u8 = 1;
/// The part holds a winnable state.
const WINS: u8 = 2;
/// The part holds a dead state.
const DEAD: u8 = 4;

/// What is known of each strongly connected part; any number of threads tell it. 5 bytes a part.
pub(super) struct Folded {
    parts: Parts,
    /// The states that are won or can be.
    hopeful: Marks,
    sizes: Vec<AtomicU32>,
    marks: Vec<AtomicU8>,
}

/// What one thread has seen of rooms and their doors.
#[derive(Default)]
pub(super) struct Doors {
    doors: u64,
    winnable_doors: u64,
    /// The part of the states that were seen last, how many there were, and their marks: states of one part often follow each other.
    part: u32,
    size: u32,
    mark: u8,
    /// Where the doors of a state lead.
    seen: Vec<u32>,
}

impl Folded {
    pub(super) fn new(parts: Parts, hopeful: Marks) -> Folded {
        let count = parts.count as usize;
        Folded {
            parts,
            hopeful,
            sizes: (0..count).map(|_| AtomicU32::new(0)).collect(),
            marks: (0..count).map(|_| AtomicU8::new(0)).collect(),
        }
    }

    /// Sees a state, and where its transitions lead.
    #[inline]
    pub(super) fn see(
        &self,
        doors: &mut Doors,
        (class, id): (Class, StateId),
        targets: impl Iterator<Item = StateId>,
    ) {
        let part = self.parts.part(id);
        if part != doors.part {
            self.note(doors);
            doors.part = part;
        }
        doors.size += 1;
        doors.mark |= match class {
            Class::Winnable => WINS,
            Class::Dead => DEAD,
            _ => 0,
        };
        let seen = &mut doors.seen;
        seen.clear();
        for to in targets {
            // Of many doors those that occur twice are found at once below.
            if self.parts.part(to) != part && (seen.len() >= 64 || !seen.contains(&to.number())) {
                seen.push(to.number());
            }
        }
        if seen.is_empty() {
            return;
        }
        if seen.len() > 64 {
            seen.sort_unstable();
            seen.dedup();
        }
        doors.mark |= LEFT;
        doors.doors += seen.len() as u64;
        let hopeful = seen.iter().filter(|t| self.hopeful.has(StateId::from_number(**t)));
        doors.winnable_doors += hopeful.count() as u64;
    }

    /// Tells what was seen of one part.
    fn note(&self, doors: &mut Doors) {
        let (part, size) = (doors.part as usize, std::mem::take(&mut doors.size));
        let mark = std::mem::take(&mut doors.mark);
        if size > 0 {
            self.sizes[part].fetch_add(size, Relaxed);
        }
        if self.marks[part].load(Relaxed) & mark != mark {
            self.marks[part].fetch_or(mark, Relaxed);
        }
    }

    /// What all threads together have seen.
    pub(super) fn rooms(
        &self,
        all: Vec<Doors>,
        transitions: &Transitions<'_>,
        pace: &mut Pace<'_>,
    ) -> Result<Rooms, Limit> {
        let mut out = Rooms { rooms: self.parts.count.into(), ..Rooms::default() };
        for mut doors in all {
            self.note(&mut doors);
            out.doors += doors.doors;
            out.winnable_doors += doors.winnable_doors;
        }
        for (size, mark) in self.sizes.iter().zip(&self.marks) {
            let (size, mark) = (u64::from(size.load(Relaxed)), mark.load(Relaxed));
            out.largest = out.largest.max(size);
            out.winnable_rooms += u64::from(mark & WINS != 0);
            if is_trap(mark) {
                out.traps += 1;
                out.trap_states += size;
            }
        }
        if out.traps > 0 {
            let mut nearest = u32::MAX;
            transitions.each_state(pace, |depth, class, id| {
                let of_trap = || is_trap(self.marks[self.parts.part(id) as usize].load(Relaxed));
                if depth < nearest && class == Class::Dead && of_trap() {
                    nearest = depth;
                }
            })?;
            out.trap_depth = Some(nearest);
        }
        // Every winnable room can be reached and has a door to a hopeful one: with as many doors as rooms each has one,
        // and they form one chain.
        let mut firsts = transitions.space.starts().iter().map(|s| self.parts.part(*s));
        let first = firsts.next();
        out.essentially_unique = out.winnable_rooms > 0
            && out.winnable_doors == out.winnable_rooms
            && firsts.all(|p| Some(p) == first);
        Ok(out)
    }
}

fn is_trap(mark: u8) -> bool {
    mark & (DEAD | LEFT) == DEAD
}
