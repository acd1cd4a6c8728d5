//! Models written in plain Rust, by hand: twins of the library's `slide` and `shove`, a small
//! game of chance, and a small hidden one. They pack their states in their own way.

#![allow(dead_code)]

use fendle_core::{Expansion, Fault, Layout, Model, MoveId, Odds, Place, Refusal, Start, Status, Worker};

/// Up, right, down, left: the language's order.
pub const STEPS: [(i64, i64); 4] = [(-1, 0), (0, 1), (1, 0), (0, -1)];
const NAMES: [&str; 4] = ["up", "right", "down", "left"];

/// Cells of a board and their neighbours.
#[derive(Clone, Copy, Debug)]
pub struct Board {
    pub rows: i64,
    pub cols: i64,
}

impl Board {
    pub fn step(self, cell: usize, d: usize, times: i64) -> Option<usize> {
        let (r, c) = (cell as i64 / self.cols, cell as i64 % self.cols);
        let (r, c) = (r + times * STEPS[d].0, c + times * STEPS[d].1);
        (r >= 0 && c >= 0 && r < self.rows && c < self.cols).then(|| (r * self.cols + c) as usize)
    }
}

// ---- slide ----

/// Sliding tiles; at most 16 cells, 4 bits each.
pub struct Slide {
    pub board: Board,
    pub target: Vec<u8>,
    pub bolted: Vec<bool>,
    pub start: Vec<u8>,
}

impl Slide {
    pub fn pack(tiles: &[u8]) -> u64 {
        tiles.iter().enumerate().fold(0, |w, (i, &t)| w | u64::from(t) << (4 * i))
    }
    pub fn unpack(&self, word: u64) -> Vec<u8> {
        (0..self.target.len()).map(|i| (word >> (4 * i) & 15) as u8).collect()
    }
    /// What comes of a move: the tiles, or the reason against it.
    fn slide(&self, tiles: &[u8], d: usize) -> Result<Vec<u8>, &'static str> {
        let gap = tiles.iter().position(|t| *t == 0).expect("a gap");
        let car = self.board.step(gap, d, -1).ok_or("the edge of the board")?;
        if self.bolted[car] {
            return Err("bolted down");
        }
        let mut next = tiles.to_vec();
        next.swap(gap, car);
        Ok(next)
    }
}

impl Model for Slide {
    fn layout(&self) -> Layout {
        Layout::new(4 * self.target.len() as u32)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        Ok(vec![Start { state: vec![Slide::pack(&self.start)], weight: 1 }])
    }
    fn moves_len(&self) -> usize {
        4
    }
    fn move_name(&self, of: MoveId) -> String {
        format!("slide {}", NAMES[of.0 as usize])
    }
    fn has_goal(&self) -> bool {
        true
    }
    fn is_sure(&self) -> bool {
        true
    }
    fn reason(&self, _: u16) -> String {
        String::new()
    }
    fn fault_text(&self, _: &Fault) -> String {
        String::new()
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(SlideWorker(self))
    }
}

struct SlideWorker<'m>(&'m Slide);

impl Worker for SlideWorker<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        let won = self.0.unpack(state[0]) == self.0.target;
        Ok(if won { Status::Goal } else { Status::Running })
    }
    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        for state in states {
            let status = self.status(&[*state]).expect("no faults");
            if status == Status::Running || past_goals {
                let tiles = self.0.unpack(*state);
                for d in 0..4 {
                    if let Ok(next) = self.0.slide(&tiles, d) {
                        out.outcome(&[Slide::pack(&next)]);
                    }
                    out.end_move(MoveId(d as u32));
                }
            }
            out.end_state(status, None);
        }
    }
    fn refusals(&mut self, state: &[u64]) -> Result<Vec<Refusal>, Fault> {
        let tiles = self.0.unpack(state[0]);
        Ok((0..4)
            .filter_map(|d| {
                let why = self.0.slide(&tiles, d).err()?.to_string();
                Some(Refusal { of: MoveId(d as u32), why, at: vec![], site: 0 })
            })
            .collect())
    }
}

// ---- shove ----

/// Pushing bodies; at most 64 cells. A state is two words: the barges, then the tug.
#[derive(Clone, Debug)]
pub struct Shove {
    pub board: Board,
    pub wall: u64,
    pub water: u64,
    pub berth: u64,
    pub barges: u64,
    pub tug: usize,
}

impl Shove {
    /// Reads the glyphs of the library's drawing.
    pub fn read(text: &str) -> Shove {
        let rows: Vec<&str> = text.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
        let board = Board { rows: rows.len() as i64, cols: rows[0].len() as i64 };
        let mut s = Shove { board, wall: 0, water: 0, berth: 0, barges: 0, tug: 0 };
        for (i, g) in rows.concat().chars().enumerate() {
            let bit = 1 << i;
            match g {
                'H' => s.wall |= bit,
                'w' => s.water |= bit,
                '_' => s.berth |= bit,
                'o' => s.barges |= bit,
                'Q' => (s.barges, s.berth) = (s.barges | bit, s.berth | bit),
                'A' => s.tug = i,
                'R' => (s.tug, s.berth) = (i, s.berth | bit),
                '.' => {}
                other => panic!("no glyph: {other}"),
            }
        }
        s
    }

    pub fn status_of(&self, barges: u64) -> Status {
        if barges & self.berth == self.berth {
            Status::Goal
        } else if barges.count_ones() < self.berth.count_ones() {
            Status::Lost(0)
        } else {
            Status::Running
        }
    }

    pub fn go(&self, barges: u64, tug: usize, d: usize) -> Option<(u64, usize)> {
        let next = self.board.step(tug, d, 1)?;
        let bit = 1u64 << next;
        if (self.wall | self.water) & bit != 0 {
            return None;
        }
        let mut barges = barges;
        if barges & bit != 0 {
            let beyond = 1u64 << self.board.step(tug, d, 2)?;
            if (self.wall | barges) & beyond != 0 {
                return None;
            }
            barges &= !bit;
            if self.water & beyond == 0 {
                barges |= beyond;
            }
        }
        Some((barges, next))
    }
}

impl Model for Shove {
    fn layout(&self) -> Layout {
        Layout::new(64 + 6)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        Ok(vec![Start { state: vec![self.barges, self.tug as u64], weight: 1 }])
    }
    fn moves_len(&self) -> usize {
        4
    }
    fn move_name(&self, of: MoveId) -> String {
        format!("go {}", NAMES[of.0 as usize])
    }
    fn has_goal(&self) -> bool {
        true
    }
    fn is_sure(&self) -> bool {
        true
    }
    fn reason(&self, _: u16) -> String {
        "too few barges are left".into()
    }
    fn fault_text(&self, _: &Fault) -> String {
        String::new()
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(ShoveWorker(self))
    }
}

struct ShoveWorker<'m>(&'m Shove);

impl Worker for ShoveWorker<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        Ok(self.0.status_of(state[0]))
    }
    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        for state in states.chunks_exact(2) {
            let status = self.0.status_of(state[0]);
            if status == Status::Running || past_goals && status == Status::Goal {
                for d in 0..4 {
                    if let Some((barges, tug)) = self.0.go(state[0], state[1] as usize, d) {
                        out.outcome(&[barges, tug as u64]);
                    }
                    out.end_move(MoveId(d as u32));
                }
            }
            out.end_state(status, None);
        }
    }
    fn refusals(&mut self, state: &[u64]) -> Result<Vec<Refusal>, Fault> {
        let (barges, tug) = (state[0], state[1] as usize);
        Ok((0..4)
            .filter(|&d| self.0.go(barges, tug, d).is_none())
            .map(|d| {
                let at = self.0.board.step(tug, d, 1).unwrap_or(tug) as i64;
                let at = Place { row: (at / self.0.board.cols) as i32, col: (at % self.0.board.cols) as i32 };
                Refusal { of: MoveId(d as u32), why: "blocked".into(), at: vec![at], site: 0 }
            })
            .collect())
    }
}

// ---- chance ----

/// A purse of coins, at most `top`: a toss wins one coin (weight 2) or loses one (weight 1); a
/// bold toss wins two or loses all. Won with `top` coins, lost with none. States 0 to `top`.
pub struct Coins {
    pub top: u64,
}

impl Model for Coins {
    fn layout(&self) -> Layout {
        Layout::new(8)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        // Two coins twice as often as one.
        Ok(vec![Start { state: vec![1], weight: 1 }, Start { state: vec![2], weight: 2 }])
    }
    fn moves_len(&self) -> usize {
        2
    }
    fn move_name(&self, of: MoveId) -> String {
        ["toss", "bold"][of.0 as usize].into()
    }
    fn has_goal(&self) -> bool {
        true
    }
    fn is_sure(&self) -> bool {
        false
    }
    fn reason(&self, _: u16) -> String {
        "no coin is left".into()
    }
    fn fault_text(&self, _: &Fault) -> String {
        String::new()
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(CoinWorker(self.top))
    }
}

struct CoinWorker(u64);

impl Worker for CoinWorker {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        Ok(match state[0] {
            0 => Status::Lost(0),
            n if n == self.0 => Status::Goal,
            _ => Status::Running,
        })
    }
    fn expand(&mut self, states: &[u64], _: bool, out: &mut Expansion) {
        for &n in states {
            let status = self.status(&[n]).expect("no faults");
            if status == Status::Running {
                out.outcome_with(&[n + 1], Odds::scored(2, 1));
                out.outcome_with(&[n - 1], Odds::scored(1, -1));
                out.end_move(MoveId(0));
                out.outcome(&[(n + 2).min(self.0)]);
                out.outcome(&[0]);
                out.end_move(MoveId(1));
            }
            out.end_state(status, None);
        }
    }
    fn refusals(&mut self, _: &[u64]) -> Result<Vec<Refusal>, Fault> {
        Ok(vec![])
    }
}

// ---- hidden ----

/// Boxes in a row, one of which holds a wasp; opening it loses, opening all others wins. The
/// player is told which boxes are open and whether the wasp sits next to an open one.
/// A state: the wasp's box in 4 bits, then a bit for each open box.
pub struct Boxes {
    pub count: u32,
}

impl Model for Boxes {
    fn layout(&self) -> Layout {
        Layout::new(4 + self.count)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        Ok((0..self.count).map(|w| Start { state: vec![w.into()], weight: 1 }).collect())
    }
    fn moves_len(&self) -> usize {
        self.count as usize
    }
    fn move_name(&self, of: MoveId) -> String {
        format!("open {}", of.0 + 1)
    }
    fn has_goal(&self) -> bool {
        true
    }
    fn is_sure(&self) -> bool {
        true
    }
    fn reason(&self, _: u16) -> String {
        "stung".into()
    }
    fn fault_text(&self, _: &Fault) -> String {
        String::new()
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(BoxWorker(self.count))
    }
}

struct BoxWorker(u32);

impl Worker for BoxWorker {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        let (wasp, open) = (state[0] & 15, state[0] >> 4);
        Ok(if open >> wasp & 1 == 1 {
            Status::Lost(0)
        } else if open.count_ones() == self.0 - 1 {
            Status::Goal
        } else {
            Status::Running
        })
    }
    fn expand(&mut self, states: &[u64], _: bool, out: &mut Expansion) {
        for &s in states {
            let status = self.status(&[s]).expect("no faults");
            if status == Status::Running {
                for i in (0..self.0).filter(|i| s >> (4 + i) & 1 == 0) {
                    out.outcome(&[s | 1 << (4 + i)]);
                    out.end_move(MoveId(i));
                }
            }
            out.end_state(status, None);
        }
    }
    fn refusals(&mut self, state: &[u64]) -> Result<Vec<Refusal>, Fault> {
        Ok((0..self.0)
            .filter(|i| state[0] >> (4 + i) & 1 == 1)
            .map(|i| Refusal { of: MoveId(i), why: "open already".into(), at: vec![], site: 0 })
            .collect())
    }
    fn told(&mut self, state: &[u64], out: &mut Vec<u64>) {
        let (wasp, open) = (state[0] & 15, state[0] >> 4);
        let near = (open << 1 | open >> 1) >> wasp & 1;
        out.extend([open, near]);
    }
}

// ---- brute force ----

/// Counts of a space, found by plain means that share nothing with the crate.
#[derive(Debug, PartialEq, Eq)]
pub struct Plain {
    pub states: u64,
    pub transitions: u64,
    pub per_depth: Vec<u64>,
    pub goal: u64,
    pub lost: u64,
    pub stuck: u64,
    pub dead: u64,
    pub winnable: u64,
    pub fatal_moves: u64,
    pub shortest: Option<u32>,
}

/// Explores a `shove` level with maps and a plain fixpoint.
pub fn plain_shove(level: &Shove) -> Plain {
    use std::collections::HashMap;
    type S = (u64, usize);
    let start: S = (level.barges, level.tug);
    let mut depth: HashMap<S, u32> = HashMap::from([(start, 0)]);
    let mut edges: HashMap<S, Vec<S>> = HashMap::new();
    let mut layer = vec![start];
    let mut per_depth = vec![];
    while !layer.is_empty() {
        per_depth.push(layer.len() as u64);
        let mut next = vec![];
        for s in layer {
            let running = level.status_of(s.0) == Status::Running;
            let out: Vec<S> = (0..4).filter(|_| running).filter_map(|d| level.go(s.0, s.1, d)).collect();
            for &t in &out {
                if let std::collections::hash_map::Entry::Vacant(e) = depth.entry(t) {
                    e.insert(per_depth.len() as u32);
                    next.push(t);
                }
            }
            edges.insert(s, out);
        }
        layer = next;
    }
    let goal = |s: &S| level.status_of(s.0) == Status::Goal;
    let mut good: HashMap<S, bool> = depth.keys().map(|s| (*s, goal(s))).collect();
    loop {
        let more: Vec<S> = edges
            .iter()
            .filter(|(s, out)| !good[s] && out.iter().any(|t| good[t]))
            .map(|(s, _)| *s)
            .collect();
        if more.is_empty() {
            break;
        }
        for s in more {
            good.insert(s, true);
        }
    }
    let mut p = Plain {
        states: depth.len() as u64,
        transitions: edges.values().map(|e| e.len() as u64).sum(),
        per_depth,
        goal: 0,
        lost: 0,
        stuck: 0,
        dead: 0,
        winnable: 0,
        fatal_moves: 0,
        shortest: depth.iter().filter(|(s, _)| goal(s)).map(|(_, d)| *d).min(),
    };
    for s in depth.keys() {
        match level.status_of(s.0) {
            Status::Goal => p.goal += 1,
            Status::Lost(_) => p.lost += 1,
            _ if edges[s].is_empty() => p.stuck += 1,
            _ if good[s] => {
                p.winnable += 1;
                p.fatal_moves += edges[s].iter().filter(|t| !good[t]).count() as u64;
            }
            _ => p.dead += 1,
        }
    }
    p
}

/// A small random `shove` drawing: some walls, water, barges, berths, one tug.
pub fn random_yard(rng: &mut impl rand::Rng) -> String {
    let (rows, cols) = (rng.random_range(2..=4usize), rng.random_range(3..=5usize));
    let mut glyphs: Vec<char> = (0..rows * cols)
        .map(|_| match rng.random_range(0..20) {
            0..3 => 'H',
            3 => 'w',
            4..6 => 'o',
            6 => '_',
            _ => '.',
        })
        .collect();
    let at = rng.random_range(0..glyphs.len());
    glyphs[at] = 'A';
    glyphs.chunks(cols).map(|r| r.iter().collect::<String>()).collect::<Vec<_>>().join("\n")
}
