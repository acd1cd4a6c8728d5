//! Rooms of a space, and the doors between them.

use super::Rooms;
use crate::classify::Marks;
use crate::components::each_component;
use crate::graph::Arrows;
use crate::limits::{Limit, Pace};
use crate::space::{Class, Space, StateId};

/// Doors of one state up to which those that occur twice are found at once; more are sorted.
const FEW: usize = 64;

/// Finds the rooms, and what leads from one to another. Each room is looked at when it has just been found, while where its arrows lead is still
/// near. O(|S| + |T|) time; 8 bytes a state, and up to 16 while it runs.
pub(super) fn rooms(space: &Space, arrows: &Arrows, pace: &mut Pace<'_>) -> Result<Rooms, Limit> {
    let hopeful = Marks::of(space, Class::is_hopeful);
    let mut out = Rooms::default();
    let mut doors: Vec<u32> = vec![];
    let starts = || space.starts().iter().map(|s| s.number());
    let found = each_component(
        arrows,
        starts(),
        |_| true,
        pace,
        |states, known| {
            let [mut wins, mut dead, mut left] = [false; 3];
            for state in states {
                let id = StateId::from_number(*state);
                match space.class(id) {
                    Class::Winnable => wins = true,
                    Class::Dead => dead = true,
                    _ => {}
                }
                doors.clear();
                for to in arrows.from(id) {
                    if !known.is_same(*state, *to) && (doors.len() >= FEW || !doors.contains(to)) {
                        doors.push(*to);
                    }
                }
                if doors.len() > FEW {
                    doors.sort_unstable();
                    doors.dedup();
                }
                left |= !doors.is_empty();
                out.doors += doors.len() as u64;
                out.winnable_doors +=
                    doors.iter().filter(|to| hopeful.has(StateId::from_number(**to))).count() as u64;
            }
            out.largest = out.largest.max(states.len() as u64);
            out.winnable_rooms += u64::from(wins);
            if dead && !left {
                out.traps += 1;
                out.trap_states += states.len() as u64;
                let depth = states.iter().map(|s| space.depth_of(StateId::from_number(*s))).min();
                out.trap_depth = out.trap_depth.into_iter().chain(depth).min();
            }
        },
    )?;
    out.rooms = found.count().into();
    // Every winnable room can be reached and has a door to a hopeful one: with as many doors as rooms each has one,
    // and they form one chain.
    let first = starts().next();
    let one_room = starts().all(|s| first.is_some_and(|f| found.is_same(f, s)));
    out.essentially_unique = out.winnable_rooms > 0 && out.winnable_doors == out.winnable_rooms && one_room;
    Ok(out)
}
