//! Wide states as a still and moving bits: the same space as in packed words, state by state, against a plain search with the standard library.

use std::collections::{HashMap, VecDeque};

use fendle_core::proof::{StateSet, pack_states};
use fendle_core::{
    Class, Expansion, Exploration, Explored, Fault, Layout, Limits, Model, MoveId, NoWatch, Odds, Start,
    Status, Worker, explore,
};

const COLS: u64 = 6;
const ROWS: u64 = 19;
const CELLS: u64 = COLS * ROWS;
/// Where the falling cell, how many are left and the clock are written, behind one bit a cell.
const AT: u64 = CELLS;
const LEFT: u64 = AT + 7;
const CLOCK: u64 = LEFT + 3;
const BITS: u64 = CLOCK + 2;

/// Single cells fall into a well, one after the other, and stay where they cannot fall any further. Won when the floor is full, lost when a cell
/// stays in the top row. `tosses`: a cell that is let go may slip to either side.
pub struct Well {
    pub cells: u64,
    pub tosses: bool,
}

fn get(state: &[u64], at: u64, bits: u64) -> u64 {
    let wide = u128::from(state[0]) | u128::from(state[1]) << 64;
    (wide >> at) as u64 & ((1 << bits) - 1)
}

fn put(state: &mut [u64; 2], at: u64, bits: u64, value: u64) {
    let mut wide = u128::from(state[0]) | u128::from(state[1]) << 64;
    wide = wide & !(((1u128 << bits) - 1) << at) | u128::from(value) << at;
    *state = [wide as u64, (wide >> 64) as u64];
}

impl Well {
    fn start(&self) -> [u64; 2] {
        let mut state = [0; 2];
        put(&mut state, AT, 7, COLS / 2);
        put(&mut state, LEFT, 3, self.cells);
        state
    }

    fn status(&self, state: &[u64; 2]) -> Status {
        let row = |row: u64| get(state, row * COLS, COLS);
        if row(ROWS - 1) == (1 << COLS) - 1 {
            Status::Goal
        } else if row(0) != 0 {
            Status::Lost(0)
        } else {
            Status::Running
        }
    }

    /// Where a move leads: to either side, down, or nowhere but on in time.
    fn next(&self, state: &[u64; 2], of: u32) -> Vec<[u64; 2]> {
        let (at, left) = (get(state, AT, 7), get(state, LEFT, 3));
        if left == 0 {
            return vec![];
        }
        let (row, col) = (at / COLS, at % COLS);
        let free = |cell: u64| get(state, cell, 1) == 0;
        let mut next = *state;
        put(&mut next, CLOCK, 2, (get(state, CLOCK, 2) + 1) % 3);
        match of {
            0 if col > 0 && free(at - 1) => put(&mut next, AT, 7, at - 1),
            1 if col + 1 < COLS && free(at + 1) => put(&mut next, AT, 7, at + 1),
            2 if row + 1 < ROWS && free(at + COLS) => {
                put(&mut next, AT, 7, at + COLS);
                let mut all = vec![next];
                for side in [at + COLS - 1, at + COLS + 1] {
                    if self.tosses && side / COLS == row + 1 && side < CELLS && free(side) {
                        put(&mut next, AT, 7, side);
                        all.push(next);
                    }
                }
                return all;
            }
            2 => {
                put(&mut next, at, 1, 1);
                put(&mut next, AT, 7, COLS / 2);
                put(&mut next, LEFT, 3, left - 1);
            }
            3 if row == ROWS - 1 => {}
            _ => return vec![],
        }
        vec![next]
    }
}

impl Model for Well {
    fn layout(&self) -> Layout {
        Layout::new(BITS as u32)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        Ok(vec![Start { state: self.start().to_vec(), weight: 1 }])
    }
    fn moves_len(&self) -> usize {
        4
    }
    fn move_name(&self, of: MoveId) -> String {
        ["left", "right", "down", "wait"][of.0 as usize].into()
    }
    fn is_sure(&self) -> bool {
        !self.tosses
    }
    fn is_waiting(&self, of: MoveId) -> bool {
        of.0 == 3
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(Well { ..*self })
    }
}

impl Worker for Well {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        Ok(Well::status(self, &[state[0], state[1]]))
    }

    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        for state in states.chunks_exact(2) {
            let state = [state[0], state[1]];
            let status = Well::status(self, &state);
            let goes_on = status == Status::Running || past_goals && status == Status::Goal;
            for of in (0..4).filter(|_| goes_on) {
                for (i, next) in self.next(&state, of).iter().enumerate() {
                    out.outcome_with(next, Odds::scored(1 + i as u64, 0));
                }
                out.end_move(MoveId(of));
            }
            out.end_state(status, None);
        }
    }

    fn same_but_clocks(&mut self, a: &[u64], b: &[u64]) -> bool {
        let [mut a, mut b] = [a, b].map(|s| [s[0], s[1]]);
        put(&mut a, CLOCK, 2, 0);
        put(&mut b, CLOCK, 2, 0);
        a == b
    }
}

/// Every state with its depth, by a queue and a map.
fn by_hand(well: &Well) -> HashMap<[u64; 2], u32> {
    let (mut depths, mut work) = (HashMap::from([(well.start(), 0)]), VecDeque::from([well.start()]));
    while let Some(state) = work.pop_front() {
        if well.status(&state) != Status::Running {
            continue;
        }
        for next in (0..4).flat_map(|of| well.next(&state, of)) {
            if !depths.contains_key(&next) {
                depths.insert(next, depths[&state] + 1);
                work.push_back(next);
            }
        }
    }
    depths
}

/// Each state with its depth, its class and where it leads, sorted.
type Told = Vec<(Vec<u64>, u32, Class, Vec<Vec<u64>>)>;

fn told(found: &Explored) -> Told {
    let space = &found.space;
    let mut all = vec![];
    for depth in 0..space.levels_len() {
        space.each_edges(depth, |id, edges| {
            let to = edges.iter().map(|e| space.state(e.to)).collect();
            assert_eq!(space.find(&space.state(id)), Some(id));
            all.push((space.state(id), depth, space.class(id), to));
        });
    }
    all.sort_by(|a, b| a.0.cmp(&b.0));
    all
}

#[test]
fn a_space_of_stills_is_the_space_in_packed_words() {
    for well in [Well { cells: 4, tosses: false }, Well { cells: 3, tosses: true }] {
        let limits = Limits { threads: 2, ..Limits::default() };
        let packed = explore(&well, limits, false, &NoWatch).expect("a start");
        assert!(packed.space.stills_len().is_none(), "edges are kept");
        let depths = by_hand(&well);
        assert_eq!(packed.counts.states as usize, depths.len());
        let plain = told(&packed);
        assert!(plain.iter().all(|(state, depth, ..)| depths[&[state[0], state[1]]] == *depth));
        for threads in [1, 2, 7] {
            let limits = Limits { threads, drop_edges: true, number_from: 1 << 12, ..limits };
            let found = explore(&well, limits, false, &NoWatch).expect("a start");
            let stills = found.space.stills_len().expect("of stills");
            assert!(stills * 20 < depths.len(), "{stills} of {}", depths.len());
            assert!(found.space.bits() < BITS as u32);
            assert!(found.space.bytes() < packed.space.bytes());
            assert_eq!(found.counts.bits_per_state, BITS as u32);
            assert_eq!(told(&found), plain, "{threads} threads");
            // Of what was not met there is no state, whether its still was met or not.
            let mut other = well.start();
            put(&mut other, CLOCK, 2, 2);
            put(&mut other, AT, 7, 100);
            assert_eq!(found.space.find(&other).is_some(), depths.contains_key(&other));
            put(&mut other, 0, 3, 5);
            assert_eq!(found.space.find(&other), None);
            // Proofs hold packed states.
            let proof = pack_states(&found.space);
            let set = StateSet::read(&proof, well.layout(), depths.len() as u64, 1 << 30).expect("whole");
            assert!(plain.iter().all(|(state, ..)| set.holds(state)));
        }
    }
}

#[test]
fn limits_end_a_space_of_stills_alike_on_all_threads() {
    let well = Well { cells: 5, tosses: false };
    let limits = Limits { drop_edges: true, number_from: 1 << 12, ..Limits::default() };
    for limits in [Limits { max_states: 20_000, ..limits }, Limits { memory_bytes: 400_000, ..limits }] {
        let ends: Vec<_> = [1, 2, 7]
            .map(|threads| {
                let found = explore(&well, Limits { threads, ..limits }, false, &NoWatch).expect("a start");
                assert!(found.space.stills_len().is_some() && found.counts.limit.is_some());
                assert!(found.counts.states <= limits.max_states);
                (found.counts.clone(), told(&found))
            })
            .into();
        assert!(ends[0] == ends[1] && ends[1] == ends[2]);
    }
}

/// Where the edges had to go, moves are tried again on words, and what can be won is the same.
#[test]
fn stills_need_no_log_of_edges() {
    for well in [Well { cells: 4, tosses: false }, Well { cells: 3, tosses: true }] {
        let limits = Limits { threads: 2, ..Limits::default() };
        let packed = explore(&well, limits, false, &NoWatch).expect("a start");
        let wanted = Limits { drop_edges: true, number_from: 1 << 12, ..limits };
        let without_log =
            (1..40).map(|n| Limits { memory_bytes: n * 100_000, ..wanted }).find_map(|limits| {
                let found = explore(&well, limits, false, &NoWatch).expect("a start");
                (found.counts.complete && !found.space.has_edges()).then_some(found)
            });
        let found = without_log.expect("room for states, and none for edges");
        assert!(found.space.stills_len().is_some());
        assert_eq!(Exploration { edges_kept: true, ..found.counts.clone() }, packed.counts);
        for (state, depth, class, _) in told(&packed) {
            let id = found.space.find(&state).expect("the same states");
            assert_eq!((found.space.depth_of(id), found.space.class(id)), (depth, class));
        }
    }
}

/// A walk along places on which nothing else changes, then a book that is written page by page: at first one still, in the end as many as pages.
struct Book;

const PLACES: u64 = 3_000;
const PAGES: u64 = 12_000;

impl Model for Book {
    fn layout(&self) -> Layout {
        Layout::new(128)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        Ok(vec![Start { state: vec![0, 0], weight: 1 }])
    }
    fn moves_len(&self) -> usize {
        1
    }
    fn move_name(&self, _: MoveId) -> String {
        "go on".into()
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(Book)
    }
}

impl Worker for Book {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        Ok(if state[1] == page(PAGES) { Status::Goal } else { Status::Running })
    }

    fn expand(&mut self, states: &[u64], _: bool, out: &mut Expansion) {
        for state in states.chunks_exact(2) {
            let status = self.status(state).expect("sound");
            if state[0] < PLACES {
                out.outcome(&[state[0] + 1, 0]);
            } else if status == Status::Running {
                out.outcome(&[PLACES, page(state[1].wrapping_mul(PAGE_OF) + 1)]);
            }
            out.end_move(MoveId(0));
            out.end_state(status, None);
        }
    }
}

/// What is written up to a page, and the number by which it is multiplied to find the page again.
fn page(n: u64) -> u64 {
    n.wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

const PAGE_OF: u64 = 0xf1de83e19937733d;

#[test]
fn stills_by_which_nothing_is_gained_are_given_up() {
    let limits = Limits { threads: 1, ..Limits::default() };
    let packed = explore(&Book, limits, false, &NoWatch).expect("a start");
    for (most, kept) in [(PLACES, true), (u64::MAX, false)] {
        let limits = Limits { drop_edges: true, number_from: 1 << 10, max_states: most, ..limits };
        let found = explore(&Book, limits, false, &NoWatch).expect("a start");
        assert_eq!(found.space.stills_len().is_some(), kept, "{most} states");
        if !kept {
            assert_eq!(found.counts, packed.counts);
            assert_eq!(found.counts.states, PLACES + PAGES + 1);
            assert_eq!(told(&found), told(&packed));
        }
    }
}
