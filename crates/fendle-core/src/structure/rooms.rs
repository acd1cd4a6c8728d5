//! Rooms of a space, and the doors between them.

use super::Rooms;
use crate::classify::Marks;
use crate::components::{Membership, each_component};
use crate::graph::Arrows;
use crate::limits::{Limit, Pace};
use crate::space::{Class, Space, StateId};

/// Doors of one state up to which those that occur twice are found at once; more are sorted.
const FEW: usize = 64;

/// What is counted of rooms, room by room.
struct Counting<'a> {
    space: &'a Space,
    arrows: &'a Arrows,
    /// The states that are won or can be, those of them that can be, and the dead ones: one bit each, which stays near while states are looked at in no order.
    hopeful: Marks,
    winnable: Marks,
    dead: Marks,
    /// Where the doors of a state lead.
    doors: Vec<u32>,
    rooms: Rooms,
}

impl Counting<'_> {
    /// Counts a room that has just been found. A room may hold all states, so the watch is asked on the way.
    fn see(&mut self, states: &[u32], known: &Membership, pace: &mut Pace<'_>) -> Result<(), Limit> {
        let (space, doors, rooms) = (self.space, &mut self.doors, &mut self.rooms);
        let [mut wins, mut dead, mut left] = [false; 3];
        for state in states {
            let id = StateId::from_number(*state);
            wins |= self.winnable.has(id);
            dead |= self.dead.has(id);
            let targets = self.arrows.targets(known.arrows(*state));
            doors.clear();
            for to in targets {
                if !known.is_same(*state, *to) && (doors.len() >= FEW || !doors.contains(to)) {
                    doors.push(*to);
                }
            }
            if doors.len() > FEW {
                doors.sort_unstable();
                doors.dedup();
            }
            left |= !doors.is_empty();
            rooms.doors += doors.len() as u64;
            let winnable = doors.iter().filter(|to| self.hopeful.has(StateId::from_number(**to)));
            rooms.winnable_doors += winnable.count() as u64;
            pace.step(targets.len() as u64 + 1)?;
        }
        rooms.largest = rooms.largest.max(states.len() as u64);
        rooms.winnable_rooms += u64::from(wins);
        if dead && !left {
            rooms.traps += 1;
            rooms.trap_states += states.len() as u64;
            for state in states {
                let depth = space.depth_of(StateId::from_number(*state));
                rooms.trap_depth = Some(rooms.trap_depth.map_or(depth, |least| least.min(depth)));
                pace.step(1)?;
            }
        }
        Ok(())
    }
}

/// Finds the rooms, and what leads from one to another. Each room is looked at when it has just been found, while where its arrows lead is still
/// near. O(|S| + |T|) time; 8 bytes and three bits a state, and up to 16 bytes while it runs.
pub(super) fn rooms(space: &Space, arrows: &Arrows, pace: &mut Pace<'_>) -> Result<Rooms, Limit> {
    let [hopeful, winnable, dead] =
        Marks::of_each(space, |c| [c.is_hopeful(), c == Class::Winnable, c == Class::Dead]);
    let rooms = Rooms::default();
    let mut counting = Counting { space, arrows, hopeful, winnable, dead, doors: vec![], rooms };
    let starts = || space.starts().iter().map(|s| s.number());
    let see = |states: &[u32], known: &Membership, pace: &mut Pace<'_>| counting.see(states, known, pace);
    let found = each_component(arrows, starts(), |_| true, pace, see)?;
    let mut out = counting.rooms;
    out.rooms = found.count().into();
    // Every winnable room can be reached and has a door to a hopeful one: with as many doors as rooms each has one,
    // and they form one chain.
    let first = starts().next();
    let one_room = starts().all(|s| first.is_some_and(|f| found.is_same(f, s)));
    out.essentially_unique = out.winnable_rooms > 0 && out.winnable_doors == out.winnable_rooms && one_room;
    Ok(out)
}
