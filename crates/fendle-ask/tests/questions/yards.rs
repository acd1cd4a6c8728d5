//! Random yards of barges, with walls and water, against a plain look at all their states: counts, solutions, fatal moves, states that
//! every solution passes, and what of a yard nobody needs.

use std::collections::{BTreeMap, BTreeSet};

use fendle_ask::explore::{How, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::hunt::Promise;
use fendle_ask::moves::moves;
use fendle_ask::solve::solve;
use fendle_ask::structure::Idle;
use fendle_ask::{End, Loaded, Store};
use fendle_core::space::Class;

use crate::common::{Dice, Texts, budget, loaded, seeds};

pub const SHOVE: &str = include_str!("../../../../models/shove.fendle");

/// The agent's cell, and one bit for each cell with a barge.
pub type At = (usize, u32);

const WAYS: [(&str, i32, i32); 4] = [("up", -1, 0), ("right", 0, 1), ("down", 1, 0), ("left", 0, -1)];

#[derive(Clone, PartialEq)]
pub struct Yard {
    cols: usize,
    wall: Vec<bool>,
    water: Vec<bool>,
    berth: Vec<bool>,
    pub start: At,
}

impl Yard {
    /// Some yard of up to 12 cells, with an agent, barges and berths.
    pub fn any(dice: &mut Dice) -> Yard {
        let size = [(3, 3), (3, 4), (2, 5), (1, 7), (4, 3)][dice.below(5)];
        let barges = 1 + dice.below(2);
        Yard::sized(dice, size, barges, 1)
    }

    /// Some yard of so many rows and columns, of at most 32 cells, with so many barges where there is room. Walls and water are `rare` times
    /// as rare as usual.
    pub fn sized(dice: &mut Dice, (rows, cols): (usize, usize), barges_wanted: usize, rare: usize) -> Yard {
        let cells = rows * cols;
        let wall: Vec<bool> = (0..cells).map(|_| dice.below(7 * rare) == 0).collect();
        let water = (0..cells).map(|c| !wall[c] && dice.below(9 * rare) == 0).collect::<Vec<_>>();
        let mut free: Vec<usize> = (0..cells).filter(|c| !wall[*c] && !water[*c]).collect();
        let mut take = |dice: &mut Dice| {
            if free.is_empty() { None } else { Some(free.swap_remove(dice.below(free.len()))) }
        };
        let agent = take(dice).unwrap_or(0);
        let mut barges = 0;
        for _ in 0..barges_wanted {
            barges |= take(dice).map_or(0, |c| 1u32 << c);
        }
        let mut berth = vec![false; cells];
        for _ in 0..barges.count_ones() as usize - dice.below(2).min(barges.count_ones() as usize) {
            let c = dice.below(cells);
            berth[c] |= !wall[c] && !water[c];
        }
        let wall = wall.iter().enumerate().map(|(c, w)| *w && c != agent).collect();
        Yard { cols, wall, water, berth, start: (agent, barges) }
    }

    fn cells(&self) -> usize {
        self.wall.len()
    }

    pub fn drawn(&self, (agent, barges): At) -> String {
        let glyph = |c: usize| match (c == agent, barges >> c & 1 == 1, self.berth[c]) {
            (true, _, true) => 'R',
            (true, _, false) => 'A',
            (_, true, true) => 'Q',
            (_, true, false) => 'o',
            (_, _, true) => '_',
            _ if self.wall[c] => 'H',
            _ if self.water[c] => 'w',
            _ => '.',
        };
        let rows: Vec<String> =
            (0..self.cells()).step_by(self.cols).map(|r| (r..r + self.cols).map(glyph).collect()).collect();
        rows.join("/")
    }

    /// The cell beside another one.
    fn beside(&self, cell: usize, (_, down, right): (&str, i32, i32)) -> Option<usize> {
        let (row, col) = ((cell / self.cols) as i32 + down, (cell % self.cols) as i32 + right);
        let on = row >= 0 && col >= 0 && col < self.cols as i32 && row < (self.cells() / self.cols) as i32;
        on.then(|| row as usize * self.cols + col as usize)
    }

    pub fn is_won(&self, (_, barges): At) -> bool {
        (0..self.cells()).all(|c| !self.berth[c] || barges >> c & 1 == 1)
    }

    pub fn is_lost(&self, at: At) -> bool {
        !self.is_won(at) && at.1.count_ones() < self.berth.iter().filter(|b| **b).count() as u32
    }

    /// What the allowed moves lead to, in their order; nothing where the play has ended.
    pub fn moves(&self, at: At) -> Vec<(&'static str, At)> {
        if self.is_won(at) || self.is_lost(at) {
            return vec![];
        }
        let (agent, barges) = at;
        let one = |way: &(&'static str, i32, i32)| {
            let next = self.beside(agent, *way)?;
            if self.wall[next] || self.water[next] {
                return None;
            }
            if barges >> next & 1 == 0 {
                return Some((way.0, (next, barges)));
            }
            let beyond = self.beside(next, *way)?;
            if self.wall[beyond] || barges >> beyond & 1 == 1 {
                return None;
            }
            let left = barges & !(1 << next);
            Some((way.0, (next, if self.water[beyond] { left } else { left | 1 << beyond })))
        };
        WAYS.iter().filter_map(one).collect()
    }

    /// All states that can be reached, with their depths.
    pub fn depths(&self) -> BTreeMap<At, u32> {
        self.depths_without(None)
    }

    /// The same without passing one of them.
    fn depths_without(&self, shut: Option<At>) -> BTreeMap<At, u32> {
        let mut depths = BTreeMap::new();
        let (mut ring, mut depth) = (vec![self.start], 0);
        while !ring.is_empty() {
            ring.retain(|at| Some(*at) != shut && !depths.contains_key(at));
            depths.extend(ring.iter().map(|at| (*at, depth)));
            ring = ring.iter().flat_map(|at| self.moves(*at)).map(|m| m.1).collect();
            depth += 1;
        }
        depths
    }

    /// The fewest moves to a won state.
    pub fn least(&self) -> Option<u32> {
        self.depths().iter().filter(|(at, _)| self.is_won(**at)).map(|(_, d)| *d).min()
    }

    fn classes(&self, depths: &BTreeMap<At, u32>) -> BTreeMap<At, Class> {
        let mut hopeful: BTreeSet<At> = depths.keys().copied().filter(|at| self.is_won(*at)).collect();
        loop {
            let more: Vec<At> = (depths.keys().copied())
                .filter(|at| !hopeful.contains(at) && self.moves(*at).iter().any(|m| hopeful.contains(&m.1)))
                .collect();
            if more.is_empty() {
                break;
            }
            hopeful.extend(more);
        }
        let class = |at: At| match () {
            () if self.is_won(at) => Class::Goal,
            () if self.is_lost(at) => Class::Lost,
            () if self.moves(at).is_empty() => Class::Stuck,
            () if hopeful.contains(&at) => Class::Winnable,
            () => Class::Dead,
        };
        depths.keys().map(|at| (*at, class(*at))).collect()
    }

    pub fn level(&self) -> (Store, Loaded) {
        let text = format!(
            "model = 'shove.fendle'\n[[level]]\nname = 'yard'\nstart.yard = '{}'\n",
            self.drawn(self.start)
        );
        let texts = Texts::new([("shove.fendle", SHOVE), ("yard.toml", text.as_str())]);
        let mut store = Store::default();
        let level = loaded(&mut store, &texts, "yard.toml", "yard", None);
        (store, level)
    }
}

/// Some yard that begins running; one that can be won where that is asked.
pub fn some_yard(dice: &mut Dice, winnable: bool) -> Yard {
    let begins = |yard: &Yard| !yard.is_won(yard.start) && !yard.is_lost(yard.start);
    let fits = |yard: &Yard| begins(yard) && (!winnable || yard.least().is_some());
    (0..1000).map(|_| Yard::any(dice)).find(fits).expect("many can be won")
}

/// Calls `ask` with some yards that begin running, each with its states, and the level of it. Every other one can be won.
fn each_yard(
    range: std::ops::Range<u64>,
    mut ask: impl FnMut(&Yard, &BTreeMap<At, u32>, &mut Store, Loaded),
) {
    for seed in seeds(range) {
        let yard = some_yard(&mut Dice::new(seed), seed % 2 == 1);
        let (mut store, level) = yard.level();
        ask(&yard, &yard.depths(), &mut store, level);
    }
}

#[test]
fn counts_are_those_of_all_states() {
    let mut met = BTreeSet::new();
    each_yard(0..200, |yard, depths, store, level| {
        let text = yard.drawn(yard.start);
        let found = explore(store, &level, How::default(), &budget()).expect("an answer").found;
        let counts = &found.counts;
        let classes = yard.classes(depths);
        let count = |class: Class| classes.values().filter(|c| **c == class).count() as u64;
        assert_eq!(counts.states, depths.len() as u64, "{text}");
        assert_eq!(counts.depth, *depths.values().max().expect("the start"), "{text}");
        for class in [Class::Goal, Class::Lost, Class::Stuck, Class::Dead, Class::Winnable] {
            let told = match class {
                Class::Goal => counts.goal,
                Class::Lost => counts.lost,
                Class::Stuck => counts.stuck,
                Class::Dead => counts.dead,
                _ => counts.winnable,
            };
            assert_eq!(told, count(class), "{class:?} of {text}");
            if told > 0 {
                met.insert(format!("{class:?}"));
            }
        }
        let moves = |at: &At| yard.moves(*at).len() as u64;
        assert_eq!(counts.transitions, depths.keys().map(moves).sum::<u64>(), "{text}");
        let fatal = |at: &At| yard.moves(*at).iter().filter(|m| classes[&m.1].is_bad()).count() as u64;
        let winnable = || classes.iter().filter(|(_, c)| **c == Class::Winnable);
        assert_eq!(counts.fatal_moves, winnable().map(|(at, _)| fatal(at)).sum::<u64>(), "{text}");
        let first = winnable().filter(|(at, _)| fatal(at) > 0).map(|(at, _)| depths[at]).min();
        assert_eq!(counts.first_fatal_depth, first, "{text}");
        assert_eq!(counts.shortest, yard.least(), "{text}");
    });
    assert_eq!(met.len(), 5, "{met:?}");
}

#[test]
fn solutions_are_shortest_and_can_be_played() {
    let (mut won, mut lost) = (0, 0);
    each_yard(200..290, |yard, _, store, level| {
        let text = yard.drawn(yard.start);
        let answer = solve(store, &level, Promise::Best, &budget(), None).expect("an answer");
        let found = &answer.found;
        assert_eq!(found.solution.as_ref().map(|s| s.len() as u32), yard.least(), "{text}");
        let Some(names) = &found.solution else {
            lost += 1;
            assert_eq!((found.verdict, answer.end()), ("unsolvable", End::No), "{text}");
            return;
        };
        won += 1;
        assert!(found.shortest, "{text}");
        let mut at = yard.start;
        let mut lines = vec![yard.drawn(at)];
        for name in names {
            let way = name.strip_prefix("go ").expect("the only move of these yards");
            at = yard.moves(at).into_iter().find(|m| m.0 == way).expect("an allowed move").1;
            lines.push(yard.drawn(at));
        }
        assert!(yard.is_won(at), "{names:?} in {text}");
        assert_eq!(found.positions.iter().map(|p| p.line.clone()).collect::<Vec<_>>(), lines, "{text}");
    });
    assert!(won > 15 && lost > 15, "{won} won, {lost} not");
}

/// The yard with one thing taken out: a wall, water or barge becomes floor, and empty floor becomes a wall.
fn without_each(yard: &Yard) -> BTreeMap<(&'static str, usize), Yard> {
    let mut out = BTreeMap::new();
    for c in 0..yard.cells() {
        let mut other = yard.clone();
        let barge = yard.start.1 >> c & 1 == 1;
        if yard.wall[c] {
            other.wall[c] = false;
            out.insert(("wall", c), other);
        } else if yard.water[c] {
            other.water[c] = false;
            out.insert(("wall", c), other);
        } else if barge {
            other.start.1 &= !(1 << c);
            out.insert(("piece", c), other);
        } else if !yard.berth[c] && c != yard.start.0 {
            other.wall[c] = true;
            out.insert(("cell", c), other);
        }
    }
    out
}

#[test]
fn idle_parts_are_those_without_which_the_least_moves_stay() {
    let (mut idle_ones, mut needed) = (0, 0);
    each_yard(300..380, |yard, _, store, level| {
        let text = yard.drawn(yard.start);
        let how = How { structure: Some(true), ..How::default() };
        let found = explore(store, &level, how, &budget()).expect("an answer").found;
        let parts = found.structure.expect("it was asked for").0.expect("a small space");
        let Some(least) = yard.least() else {
            assert!(matches!(parts.idle, Idle::NotTried(_)), "{text}");
            return;
        };
        let Idle::Tried { tried, idle, open } = &parts.idle else { panic!("{:?} of {text}", parts.idle) };
        let all = without_each(yard);
        let cell = |c: usize| format!("r{}c{}", c / yard.cols + 1, c % yard.cols + 1);
        let wanted: BTreeSet<(String, String)> = (all.iter())
            .filter(|(_, other)| other.least() == Some(least))
            .map(|((kind, c), _)| ((*kind).to_string(), cell(*c)))
            .collect();
        let told: BTreeSet<(String, String)> =
            idle.iter().map(|p| (p.kind.word().to_string(), p.cell.clone())).collect();
        assert_eq!((told, *tried, *open), (wanted, all.len(), 0), "{text}");
        idle_ones += idle.len();
        needed += tried - idle.len();
    });
    assert!(idle_ones > 40 && needed > 40, "{idle_ones} idle, {needed} not");
}

#[test]
fn every_solution_passes_what_cannot_be_shut() {
    let mut passed = 0;
    each_yard(400..460, |yard, depths, store, level| {
        let text = yard.drawn(yard.start);
        let how = How { structure: Some(false), ..How::default() };
        let found = explore(store, &level, how, &budget()).expect("an answer").found;
        let parts = found.structure.expect("it was asked for").0.expect("a small space");
        let must = |at: &At| !yard.depths_without(Some(*at)).keys().any(|other| yard.is_won(*other));
        let wanted: BTreeSet<String> = match yard.least() {
            Some(_) => depths.keys().filter(|at| must(at)).map(|at| yard.drawn(*at)).collect(),
            None => BTreeSet::new(),
        };
        let told: BTreeSet<String> = parts.must_pass.iter().map(|p| p.line.clone()).collect();
        assert_eq!(told, wanted, "{text}");
        passed += told.len();
        for (position, depth) in parts.must_pass.iter().zip(&parts.must_pass_depths) {
            let at = depths.keys().find(|at| yard.drawn(**at) == position.line).expect("it is a state");
            assert_eq!(*depth, depths[at], "{} in {text}", position.line);
        }
    });
    assert!(passed > 60, "{passed} states that must be passed");
}

/// What a yard refuses, and why.
#[test]
fn refused_moves_say_what_is_in_the_way() {
    let mut met = BTreeSet::new();
    each_yard(500..760, |yard, _, store, level| {
        let text = yard.drawn(yard.start);
        let listed = moves(store, &level, &budget()).expect("an answer").found;
        let allowed: Vec<String> = yard.moves(yard.start).iter().map(|m| format!("go {}", m.0)).collect();
        let told: Vec<String> = listed.allowed.iter().map(|m| m.name.clone()).collect();
        assert_eq!(told, allowed, "{text}");
        for refused in &listed.refused {
            let way = *WAYS.iter().find(|w| refused.name == format!("go {}", w.0)).expect("a way");
            let next = yard.beside(yard.start.0, way);
            let beyond = next.and_then(|next| yard.beside(next, way));
            let why = match (next, beyond) {
                (None, _) => "a wall",
                (Some(next), _) if yard.wall[next] => "a wall",
                (Some(next), _) if yard.water[next] => "water",
                (_, Some(beyond)) if !yard.wall[beyond] => "another barge behind it",
                _ => "a wall behind the barge",
            };
            assert_eq!(refused.why, why, "{} in {text}", refused.name);
            met.insert(why);
        }
        assert_eq!(told.len() + listed.refused.len(), 4, "{text}");
    });
    assert_eq!(met.len(), 4, "{met:?}");
}

#[test]
fn positions_are_found_by_what_lies_where() {
    each_yard(600..640, |yard, depths, store, mut level| {
        let text = yard.drawn(yard.start);
        for c in 0..yard.cells() {
            let name = format!("r{}c{}", c / yard.cols + 1, c % yard.cols + 1);
            let ask = |at: &At| at.1 >> c & 1 == 1 && at.0 != yard.start.0;
            let condition = format!("{name} in barge and tug != start.tug");
            let found = find(store, &mut level, &condition, (Draws::Some, 0), &budget()).expect("an answer");
            let all: Vec<u32> = depths.iter().filter(|(at, _)| ask(at)).map(|(_, d)| *d).collect();
            assert_eq!(found.found.count, all.len() as u64, "{condition} in {text}");
            assert_eq!(
                found.found.depth.map(|d| d as u32),
                all.iter().min().copied(),
                "{condition} in {text}"
            );
            assert_eq!(found.end(), if all.is_empty() { End::No } else { End::Yes }, "{condition} in {text}");
        }
    });
}
