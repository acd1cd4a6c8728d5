//! The structure of a classified space: where it dies, what every solution must do, how wide the way is.
//!
//! Says nothing of a space that was not seen whole. With chance, a way is one of moves and draws: *every lucky way*
//! passes a must-pass state, and a fatal move is fatal whatever is drawn.
//!
//! All of it is linear in states and transitions, but for what is counted up to swaps, which looks at every shortest solution.

use std::sync::OnceLock;

use rayon::prelude::*;
use serde::Serialize;

use crate::classify::Marks;
use crate::explore::by_number::PANE;
use crate::explore::{Explored, pool};
use crate::graph::{Arrows, Distances, Transitions, arrows_bytes};
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::Model;
use crate::space::{Class, Edge, SHARDS, StateId};

mod rooms;
mod ways;

use rooms::rooms;
pub use ways::OnWay;
use ways::must_pass;

/// Shortest solutions above which they are not looked at one by one.
pub const SOLUTIONS_MAX: u32 = 1_000_000;

/// Numbers that one thread walks over at a time.
const WALKED: u64 = 8 * PANE;

/// Why a structure was not computed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotSeen {
    /// The space was not seen whole.
    Open,
    /// The graph would take this many bytes beside the space, more than the budget.
    Memory {
        /// Bytes wanted.
        bytes: u64,
    },
    /// This limit ended it.
    Stopped(Limit),
}

impl From<Limit> for NotSeen {
    fn from(limit: Limit) -> NotSeen {
        NotSeen::Stopped(limit)
    }
}

/// How long a fatal move goes unnoticed: the least number of moves after it until a state can be stuck, lost or over.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Delay {
    /// Fatal moves after which it can show.
    pub shows: u64,
    /// Fatal moves after which nothing ever shows: play can only go on.
    pub never_shows: u64,
    /// Least delay of those that show.
    pub least: u32,
    /// Greatest delay of those that show.
    pub greatest: u32,
    /// Sum of the delays of those that show.
    pub sum: u64,
}

impl Delay {
    /// Mean delay of those that show.
    #[must_use]
    pub fn mean(&self) -> Option<f64> {
        (self.shows > 0).then(|| self.sum as f64 / self.shows as f64)
    }
}

/// Some of several: `part` of `all`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Share {
    /// How many of them.
    pub part: u64,
    /// Of how many.
    pub all: u64,
}

/// Strongly connected parts of the space, and what leads from one to another for good.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Rooms {
    /// How many rooms there are: every state is in one.
    pub rooms: u64,
    /// States of the largest.
    pub largest: u64,
    /// Pairs of states with a transition from one room to another.
    pub doors: u64,
    /// Rooms that hold a winnable state.
    pub winnable_rooms: u64,
    /// Doors between winnable rooms, or from one to a goal.
    pub winnable_doors: u64,
    /// One chain of doors carries every solution.
    pub essentially_unique: bool,
    /// Rooms of dead states that cannot be left, and in which play goes on for ever.
    pub traps: u64,
    /// States in them.
    pub trap_states: u64,
    /// Least depth of a state in a trap.
    pub trap_depth: Option<u32>,
}

/// The shortest solutions.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Shortest {
    /// Moves of each.
    pub moves: u32,
    /// How many there are, exactly, in decimal digits: sequences of moves, and of draws with chance.
    pub count: String,
    /// How many when those are the same that differ in neighbouring moves which can be swapped with the same result;
    /// `None` with chance or above [`SOLUTIONS_MAX`].
    pub up_to_swaps: Option<u64>,
    /// States that lie on one of them.
    pub states: u64,
    /// Moves allowed on them that keep the game winnable.
    pub corridor: Share,
}

/// What [`structure`] found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Structure {
    /// Fatal moves by the depth of the state that they leave.
    pub fatal_by_depth: Vec<u64>,
    /// How long they go unnoticed.
    pub delay: Delay,
    /// Rooms, doors and traps.
    pub rooms: Rooms,
    /// States on every way from the start to a goal, in the order of the ways.
    #[serde(skip)]
    pub must_pass: Vec<StateId>,
    /// The shortest solutions.
    pub shortest: Option<Shortest>,
    /// Moves of winnable states that keep the game winnable, of all their allowed moves.
    pub corridor: Share,
    /// Allowed moves of running states, of how many running states.
    pub branching: Share,
    /// The most allowed moves of one state.
    pub widest: u32,
    /// Winnable states by their distance to a goal.
    pub by_distance: Vec<u64>,
}

fn moves_of(edges: &[Edge]) -> impl Iterator<Item = &[Edge]> {
    edges.split_inclusive(|e| e.last)
}

/// Computes the structure of a space that was seen whole, and the distances behind it.
///
/// # Errors
///
/// [`NotSeen`] when it cannot be.
pub fn structure(
    model: &dyn Model,
    found: &Explored,
    limits: &Limits,
    watch: &dyn Watch,
) -> Result<(Structure, Distances), NotSeen> {
    let (space, counts) = (&found.space, &found.counts);
    if !counts.is_whole() || counts.open > 0 {
        return Err(NotSeen::Open);
    }
    // Arrows one way, then the other; numbers and stacks beside them. Without a log both at once.
    let arrows = arrows_bytes(space, counts.transitions);
    let [one_way, both_ways] = [1, 2].map(|ways| ways * arrows + 24 * space.ids_len() as u64);
    let fits = |bytes: u64| space.bytes() + bytes <= limits.memory_bytes;
    let together = fits(both_ways);
    let bytes = if together || !space.has_edges() { both_ways } else { one_way };
    if !Transitions::are_known(space) || counts.transitions >= u64::from(u32::MAX) || !fits(bytes) {
        return Err(NotSeen::Memory { bytes });
    }
    let progress = Progress {
        states: counts.states,
        expanded: counts.states,
        depth: counts.depth,
        bytes,
        numbers: None,
    };
    let ask = || Pace::new(watch).at(progress);
    ask().now()?;
    let threads = OnceLock::new();
    pool(&threads, limits.threads).install(|| {
        let made = Transitions::of(model, found, &mut ask())?;
        let Some(transitions) = made else { return Err(NotSeen::Memory { bytes }) };
        Ok(whole(model, &transitions, counts.shortest, together, &ask)?)
    })
}

/// The structure of a space whose transitions are at hand. Where arrows both ways have room, two things are found at once: `together`.
fn whole<'w>(
    model: &dyn Model,
    transitions: &Transitions<'_>,
    shortest: Option<u32>,
    together: bool,
    ask: &(dyn Fn() -> Pace<'w> + Sync),
) -> Result<(Structure, Distances), Limit> {
    let space = transitions.space;
    let of_log = match transitions.arrows() {
        Some(_) => None,
        None => Some(Arrows::of_log(space, &mut ask())?),
    };
    let arrows = transitions.arrows().or(of_log.as_ref()).expect("arrows that were made before, or now");
    let rooms = || rooms(space, arrows, &mut ask());
    let passed = |on_way: &Option<OnWay>| match on_way {
        Some(on) => must_pass(space, arrows, &on.one_way(transitions), &mut ask()),
        None => Ok(vec![]),
    };
    let (of_rooms, must_pass, walked, far, on_way);
    if together {
        // Rooms are found one after the other, by one thread; the other ones do the rest beside it.
        let behind = || {
            let far = Distances::of(space, &arrows.reversed(), &mut ask())?;
            let on_way = shortest.map(|length| OnWay::by(space, &far, length, &mut ask())).transpose()?;
            let walked = Structure::walk(transitions, &far, &ask())?;
            Ok((walked, passed(&on_way)?, far, on_way))
        };
        let (found, behind) = rayon::join(rooms, behind);
        of_rooms = found?;
        (walked, must_pass, far, on_way) = behind?;
    } else {
        on_way = shortest.map(|length| OnWay::among(transitions, length, &mut ask())).transpose()?;
        (of_rooms, must_pass) = (rooms()?, passed(&on_way)?);
        drop(of_log);
        far = Distances::of(space, &Arrows::backward(space, &mut ask())?, &mut ask())?;
        walked = Structure::walk(transitions, &far, &ask())?;
    }
    let mut out = Structure { rooms: of_rooms, must_pass, ..walked };
    if let Some(on) = &on_way {
        out.shortest = Some(on.shortest(model, transitions, &mut ask())?);
    }
    Ok((out, far))
}

/// What is asked of where a move leads.
struct Sides<'a> {
    far: &'a Distances,
    /// The states from which nothing can be won any more.
    bad: Marks,
}

impl Structure {
    /// One pass over all transitions, on all threads: fatal moves, delays and shares.
    fn walk(transitions: &Transitions<'_>, far: &Distances, look: &Pace<'_>) -> Result<Structure, Limit> {
        let space = transitions.space;
        let sides = Sides { far, bad: Marks::of(space, Class::is_bad) };
        let seen: Vec<Result<Structure, Limit>> = match (transitions.arrows(), &space.dense) {
            (Some(arrows), Some(dense)) => {
                let pane = |n: u64| {
                    look.now()?;
                    let mut seen = Structure::default();
                    let (start, end) = (n * WALKED, ((n + 1) * WALKED).min(dense.range()));
                    dense.each_seen(start, end, |number, mark| {
                        let id = StateId::from_number(number as u32);
                        let (depth, class) = (dense.depth_of(mark), dense.class_of(mark));
                        let targets = arrows.from(id).iter().map(|to| StateId::from_number(*to));
                        seen.see(&sides, (depth, class, id), targets.map(std::iter::once));
                    });
                    Ok(seen)
                };
                (0..dense.range().div_ceil(WALKED)).into_par_iter().map(pane).collect()
            }
            _ => {
                let shard = |n| {
                    let mut seen = Structure::default();
                    for depth in 0..space.levels_len() {
                        look.now()?;
                        space.each_edges_in(
                            n,
                            depth,
                            |_, _| true,
                            |local, edges| {
                                let id = StateId::new(n, local);
                                let class = space.class(id);
                                let moves = moves_of(edges).map(|outcomes| outcomes.iter().map(|e| e.to));
                                seen.see(&sides, (depth, class, id), moves);
                            },
                        );
                    }
                    Ok(seen)
                };
                (0..SHARDS).into_par_iter().map(shard).collect()
            }
        };
        let mut out = Structure::default();
        for part in seen {
            out.add(part?);
        }
        while out.fatal_by_depth.last() == Some(&0) {
            out.fatal_by_depth.pop();
        }
        Ok(out)
    }

    /// Counts a state, given what each of its moves may lead to.
    fn see<M: Iterator<Item = StateId> + Clone>(
        &mut self,
        Sides { far, bad }: &Sides<'_>,
        (depth, class, id): (u32, Class, StateId),
        moves: impl Iterator<Item = M>,
    ) {
        if !matches!(class, Class::Winnable | Class::Dead | Class::Stuck | Class::Free) {
            return;
        }
        let mut count = 0;
        for outcomes in moves {
            count += 1;
            if class != Class::Winnable {
                continue;
            }
            if !outcomes.clone().all(|to| bad.has(to)) {
                self.corridor.part += 1;
                continue;
            }
            add_at(&mut self.fatal_by_depth, depth, 1);
            match outcomes.filter_map(|to| far.get(to)).min() {
                Some(delay) => {
                    let d = &mut self.delay;
                    d.least = if d.shows == 0 { delay } else { d.least.min(delay) };
                    d.greatest = d.greatest.max(delay);
                    d.shows += 1;
                    d.sum += u64::from(delay);
                }
                None => self.delay.never_shows += 1,
            }
        }
        self.widest = self.widest.max(count as u32);
        self.branching.part += count;
        self.branching.all += 1;
        if class == Class::Winnable {
            self.corridor.all += count;
            if let Some(d) = far.get(id) {
                add_at(&mut self.by_distance, d, 1);
            }
        }
    }

    /// Adds what was counted of other states.
    fn add(&mut self, other: Structure) {
        for (depth, n) in other.fatal_by_depth.iter().enumerate() {
            add_at(&mut self.fatal_by_depth, depth as u32, *n);
        }
        for (distance, n) in other.by_distance.iter().enumerate() {
            add_at(&mut self.by_distance, distance as u32, *n);
        }
        let (d, o) = (&mut self.delay, &other.delay);
        d.least = match (d.shows, o.shows) {
            (_, 0) => d.least,
            (0, _) => o.least,
            _ => d.least.min(o.least),
        };
        d.greatest = d.greatest.max(o.greatest);
        d.shows += o.shows;
        d.sum += o.sum;
        d.never_shows += o.never_shows;
        self.widest = self.widest.max(other.widest);
        for (share, more) in [(&mut self.branching, &other.branching), (&mut self.corridor, &other.corridor)]
        {
            share.part += more.part;
            share.all += more.all;
        }
    }
}

/// Adds to an entry of a list that is as long as needed.
fn add_at(list: &mut Vec<u64>, at: u32, n: u64) {
    if list.len() <= at as usize {
        list.resize(at as usize + 1, 0);
    }
    list[at as usize] += n;
}
