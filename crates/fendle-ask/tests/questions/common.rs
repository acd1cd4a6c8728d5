//! Texts in memory, and a map as a puzzle.

use std::collections::HashMap;
use std::fmt::Write as _;
use std::path::Path;
use std::sync::Arc;

use fendle_ask::load::load;
use fendle_ask::{Budget, Loaded, Provider, Store, Want, Wanted, Wish};
use fendle_core::Class;
use fendle_lang::run::setup;

/// Texts by name.
pub struct Texts(HashMap<String, String>);

impl Texts {
    pub fn new<'t>(list: impl IntoIterator<Item = (&'t str, &'t str)>) -> Texts {
        Texts(list.into_iter().map(|(name, text)| (name.to_string(), text.to_string())).collect())
    }
}

impl Provider for Texts {
    fn read(&self, path: &Path) -> Result<String, String> {
        let name = path.to_str().unwrap_or_default();
        self.0.get(name).cloned().ok_or_else(|| format!("{name} is not here"))
    }
    fn exists(&self, path: &Path) -> bool {
        self.read(path).is_ok()
    }
    fn library(&self) -> Vec<&'static str> {
        vec![]
    }
    fn library_model(&self, _: &str) -> Option<&'static str> {
        None
    }
}

pub fn budget() -> Arc<Budget> {
    Arc::new(Budget::plain(Wanted::default()))
}

/// At the most so many states.
pub fn few(max_states: u64) -> Arc<Budget> {
    Arc::new(Budget::plain(Wanted { max_states: Some(max_states), ..Wanted::default() }))
}

/// A level of some texts, begun at a position where one is given.
pub fn loaded(store: &mut Store, texts: &Texts, file: &str, level: &str, at: Option<&str>) -> Loaded {
    let wish =
        Wish { file: file.into(), level: Some(level.into()), at: at.map(String::from), ..Wish::default() };
    load(store, texts, &wish, Want::All, &budget()).unwrap_or_else(|t| panic!("a sound level: {t:?}"))
}

/// The seeds of some random cases; `FENDLE_TIMES=10 cargo test -p fendle-ask` looks ten times as far.
pub fn seeds(range: std::ops::Range<u64>) -> std::ops::Range<u64> {
    let times = std::env::var("FENDLE_TIMES").ok().and_then(|n| n.parse().ok()).unwrap_or(1);
    // Apart from those of other tests, where they are more.
    let first = if times > 1 { range.start << 20 } else { range.start };
    first..first + (range.end - range.start) * times
}

/// Small random numbers, the same on every machine.
pub struct Dice(setup::Dice);

impl Dice {
    pub fn new(seed: u64) -> Dice {
        Dice(setup::Dice::new(seed))
    }

    /// A number below `n`.
    pub fn below(&mut self, n: usize) -> usize {
        self.0.below(n as u64) as usize
    }
}

/// Calls `ask` with some maps and their levels. `draws`: moves may lead to several landings.
pub fn each_map(range: std::ops::Range<u64>, draws: bool, mut ask: impl FnMut(&Map, &mut Store, Loaded)) {
    for seed in seeds(range) {
        let map = Map::any(&mut Dice::new(seed), draws);
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        ask(&map, &mut store, level);
    }
}

/// Names of moves on a map, in their order.
pub const MOVES: [&str; 3] = ["along", "beside", "across"];

/// A map of landings, numbered from 1: each move leads from a landing to others, with weights, or is refused there.
#[derive(Clone, Debug)]
pub struct Map {
    /// For each landing and each of [`MOVES`] where it leads: landings, each with a weight.
    pub ways: Vec<[Vec<(usize, u32)>; 3]>,
    pub won: Vec<bool>,
    pub lost: Vec<bool>,
}

impl Map {
    /// Some map of 4 to 12 landings. `draws`: moves may lead to several.
    pub fn any(dice: &mut Dice, draws: bool) -> Map {
        let n = 4 + dice.below(9);
        let mut ways = vec![];
        for _ in 0..n {
            ways.push(std::array::from_fn(|_| {
                if dice.below(8) < 3 {
                    return vec![];
                }
                let count = if draws && dice.below(2) == 0 { 2 + dice.below(2) } else { 1 };
                let mut to: Vec<(usize, u32)> = vec![];
                for _ in 0..count {
                    let target = dice.below(n);
                    if to.iter().all(|t| t.0 != target) {
                        to.push((target, 1 + dice.below(4) as u32));
                    }
                }
                to
            }));
        }
        // The start is running.
        let won: Vec<bool> = (0..n).map(|i| i > 0 && dice.below(7) == 0).collect();
        let lost = (0..n).map(|i| i > 0 && !won[i] && dice.below(5) == 0).collect();
        Map { ways, won, lost }
    }

    pub fn len(&self) -> usize {
        self.ways.len()
    }

    pub fn has_ended(&self, at: usize) -> bool {
        self.won[at] || self.lost[at]
    }

    /// Where the allowed moves of a landing lead, in the order of moves.
    pub fn allowed(&self, at: usize) -> Vec<(usize, &[(usize, u32)])> {
        if self.has_ended(at) {
            return vec![];
        }
        let moves = self.ways[at].iter().enumerate();
        moves.filter(|(_, to)| !to.is_empty()).map(|(m, to)| (m, to.as_slice())).collect()
    }

    /// Moves from the nearest of some landings, of what can be reached from them if everything falls well.
    pub fn depths(&self, from: &[usize]) -> Vec<Option<u32>> {
        let mut out = vec![None; self.len()];
        let (mut ring, mut depth) = (from.to_vec(), 0);
        while !ring.is_empty() {
            ring.retain(|at| out[*at].is_none());
            ring.iter().for_each(|at| out[*at] = Some(depth));
            let ways = ring.iter().flat_map(|at| self.allowed(*at));
            ring = ways.flat_map(|(_, to)| to.iter().map(|t| t.0)).collect();
            depth += 1;
        }
        out
    }

    /// Moves from each landing to the nearest won one, if everything falls well: asked again and again, until nothing changes.
    pub fn far(&self) -> Vec<Option<u32>> {
        let mut far: Vec<Option<u32>> = self.won.iter().map(|won| won.then_some(0)).collect();
        for _ in 0..self.len() {
            for at in 0..self.len() {
                let on = self.allowed(at).into_iter().flat_map(|m| m.1).filter_map(|t| far[t.0]).min();
                far[at] = far[at].into_iter().chain(on.map(|d| d + 1)).min();
            }
        }
        far
    }

    /// The class of each landing.
    pub fn classes(&self) -> Vec<Class> {
        let far = self.far();
        let class = |at: usize| match () {
            () if self.won[at] => Class::Goal,
            () if self.lost[at] => Class::Lost,
            () if self.allowed(at).is_empty() => Class::Stuck,
            () if far[at].is_some() => Class::Winnable,
            () => Class::Dead,
        };
        (0..self.len()).map(class).collect()
    }

    /// Some play from the start of at most so many moves: each move, and the landing that it leads to.
    pub fn play(&self, dice: &mut Dice, most: usize) -> Vec<(usize, usize)> {
        let (mut at, mut out) = (0, vec![]);
        while out.len() < most && !self.allowed(at).is_empty() {
            let allowed = self.allowed(at);
            let (m, to) = allowed[dice.below(allowed.len())];
            at = to[dice.below(to.len())].0;
            out.push((m, at));
        }
        out
    }

    /// The map as a model, on which one walks from landing 1.
    pub fn model(&self) -> String {
        let any = |marks: &[bool]| {
            let list: Vec<String> =
                (0..self.len()).filter(|i| marks[*i]).map(|i| format!("at == {}", i + 1)).collect();
            if list.is_empty() { "at < 1".to_string() } else { list.join(" or ") }
        };
        let mut out = format!("model walk\nstate at: 1..{} = 1\n", self.len());
        for (m, name) in MOVES.iter().enumerate() {
            let open: Vec<bool> = self.ways.iter().map(|w| !w[m].is_empty()).collect();
            let _ = writeln!(out, "move {name} {{\n    refuse \"no way {name}\" unless {}", any(&open));
            let mut word = "if";
            for (i, ways) in self.ways.iter().enumerate().filter(|(i, _)| open[*i]) {
                let to: Vec<String> =
                    ways[m].iter().map(|(to, weight)| format!("{} weight {weight}", to + 1)).collect();
                let value = match &ways[m][..] {
                    [(only, _)] => (only + 1).to_string(),
                    _ => format!("draw from ({})", to.join(", ")),
                };
                let _ = writeln!(out, "    {word} at == {} {{ at = {value} }}", i + 1);
                word = "else if";
            }
            out += "}\n";
        }
        let _ = writeln!(
            out,
            "goal {}\nlost when {} because \"a pit\"\nstatus goal, lost",
            any(&self.won),
            any(&self.lost)
        );
        out
    }

    pub fn texts(&self) -> Texts {
        Texts::new([
            ("walk.fendle", self.model().as_str()),
            ("walk.toml", "model = 'walk.fendle'\n[[level]]\nname = 'map'\n"),
        ])
    }
}
