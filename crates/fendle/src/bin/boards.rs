//! Boards too large to be seen whole, made by seed, and what `fendle solve` says of them.
//!
//! `cargo run --release --features bench --bin fendle-boards -- FOLDER [NAME ...]` writes the boards as level files into a folder and solves them with
//! the built program, as anybody can with the files. Without names all kinds run: `rings`, `pegs`, `tubes`, `tour`, `deck4`, `deck5`, `yards`,
//! `spoiled`, `cards` (which takes up to 50 minutes). What it prints is what docs/performance.md says.

use std::collections::HashSet;
use std::fmt::Write as _;
use std::path::Path;
use std::process::Command;
use std::time::Instant;

use rand::{Rng, SeedableRng, rngs::SmallRng, seq::SliceRandom};
use serde_json::Value;

/// A kind of boards: its name, its level file, the options with which each level is solved, seconds for each.
type Kind = (&'static str, String, &'static [&'static str], u32);

fn main() {
    let mut args = std::env::args().skip(1);
    let Some(folder) = args.next() else {
        eprintln!("a folder for the boards is missing: fendle-boards FOLDER [NAME ...]");
        std::process::exit(2);
    };
    let names: Vec<String> = args.collect();
    let folder = Path::new(&folder);
    std::fs::create_dir_all(folder).expect("the folder can be made");
    let yards = yards();
    let kinds: Vec<Kind> = vec![
        (
            "rings",
            "model = 'coil'\nvalues = { rings = 10, posts = 4 }\n[[level]]\nname = 'ten on four'\n".into(),
            &[],
            60,
        ),
        ("pegs", pegs(), &["--any"], 60),
        ("tubes", tubes(), &["--any"], 60),
        ("tour", tour(), &["--any"], 60),
        ("deck4", deck(4, 20, 2026), &[], 100),
        ("deck5", deck(5, 10, 2027), &[], 10),
        ("yards", yard_file(&yards), &["--any"], 60),
        ("spoiled", yard_file(&spoiled(&yards)), &[], 60),
        ("cards", cards(), &["--any"], 30),
    ];
    for (name, text, options, seconds) in kinds {
        if names.is_empty() || names.iter().any(|n| n == name) {
            let file = folder.join(format!("{name}.toml"));
            std::fs::write(&file, text).expect("the file can be written");
            run(folder, &file, (name, options, seconds));
        }
    }
}

/// Solves every level of a file twice, so that tables are made in the first round and read in the second.
fn run(folder: &Path, file: &Path, (name, options, seconds): (&str, &[&str], u32)) {
    let program = std::env::current_exe().expect("this program").with_file_name("fendle");
    let text = std::fs::read_to_string(file).expect("readable");
    let levels: Vec<&str> = (text.lines())
        .filter_map(|l| l.strip_prefix("name = "))
        .map(|n| n.trim_matches(|c| c == '\'' || c == '"'))
        .collect();
    let rounds = if name.starts_with("deck") { 2 } else { 1 };
    for round in 1..=rounds {
        let (mut sum, mut decided) = (0.0, 0);
        for level in &levels {
            let clock = Instant::now();
            let out = Command::new(&program)
                .arg("solve")
                .arg(file)
                .args(["--level", level, "--format", "json", "--quiet", "--time", &format!("{seconds}s")])
                .args(options)
                .env("XDG_CACHE_HOME", folder.join("cache"))
                .output()
                .expect("the built program runs");
            let took = clock.elapsed().as_secs_f64();
            let found: Value = serde_json::from_slice(&out.stdout).unwrap_or_default();
            let verdict = found["verdict"].as_str().unwrap_or("no answer");
            sum += took;
            decided += u32::from(verdict == "solvable" || verdict == "unsolvable");
            let moves = found["moves"].as_u64().map_or(String::new(), |n| format!(", {n} moves"));
            let least = match (found["shortest"].as_bool(), found["least"].as_u64(), &found["moves"]) {
                (_, _, Value::Null) => String::new(),
                (Some(true), ..) => ", shortest".into(),
                (_, Some(least), _) => format!(", none below {least}"),
                _ => String::new(),
            };
            let bytes = found["effort"]["peak_memory_bytes"].as_u64().unwrap_or(0);
            println!("{name:8} {level:12} {verdict}{moves}{least}: {took:.2} s, {} MB", bytes >> 20);
        }
        let n = levels.len();
        println!("{name:8} round {round}: {decided} of {n} decided, {:.2} s in the mean", sum / n as f64);
    }
}

/// Random starts of a sliding board whose gap, by its goal, comes first; those that parity allows.
fn deck(n: usize, count: usize, seed: u64) -> String {
    let mut rng = SmallRng::seed_from_u64(seed);
    let drawn = |tiles: &[usize]| {
        let glyph = |t: &usize| if *t == 0 { ".".to_string() } else { t.to_string() };
        tiles
            .chunks(n)
            .map(|r| r.iter().map(glyph).collect::<Vec<_>>().join(" "))
            .collect::<Vec<_>>()
            .join("\n")
    };
    let goal: Vec<usize> = (0..n * n).collect();
    let mut out = "model = 'slide'\n".to_string();
    let mut made = 0;
    while made < count {
        let mut tiles = goal.clone();
        tiles.shuffle(&mut rng);
        // A move exchanges the gap with a neighbour: one exchange, and one step of the gap.
        let mut cycles = 0;
        let mut seen = vec![false; n * n];
        for from in 0..n * n {
            let mut at = from;
            while !seen[at] {
                seen[at] = true;
                at = tiles[at];
                cycles += usize::from(at == from);
            }
        }
        let gap = tiles.iter().position(|t| *t == 0).expect("a gap");
        if (n * n - cycles + gap / n + gap % n).is_multiple_of(2) {
            made += 1;
            let _ = write!(
                out,
                "\n[[level]]\nname = 'start {made}'\nvalues.target = '''\n{}\n'''\nstart.tile = '''\n{}\n'''\n",
                drawn(&goal),
                drawn(&tiles)
            );
        }
    }
    out
}

/// The cross of 33 holes with one free in the middle: down to one anywhere, and to one in the middle.
fn pegs() -> String {
    let rack = "..ooo..\n..ooo..\nooooooo\nooo_ooo\nooooooo\n..ooo..\n..ooo..";
    format!(
        "model = 'hop'\n[[level]]\nname = 'cross'\nstart.rack = '''\n{rack}\n'''\n[[level]]\nname = 'cross home'\nvalues.last = 'r4c4'\n\
         start.rack = '''\n{rack}\n'''\n"
    )
}

/// 12 colours, 4 of each, in 12 tubes with 2 empty ones.
fn tubes() -> String {
    let dyes = "tar rust ochre teal navy chalk sand clay slate sky brown ink";
    let mut out = "model = 'tubes'\n".to_string();
    for k in 1..=5u64 {
        let mut rng = SmallRng::seed_from_u64(700 + k);
        let mut all: Vec<&str> = dyes.split(' ').flat_map(|d| [d; 4]).collect();
        all.shuffle(&mut rng);
        let parts: Vec<String> =
            all.chunks(4).enumerate().map(|(i, c)| format!("{}: {}", i + 1, c.join(" "))).collect();
        let _ = write!(
            out,
            "\n[[level]]\nname = 'rack {k}'\nvalues.tubes = 14\nstart.tube = \"{}, 13: empty, 14: empty\"\n",
            parts.join(", ")
        );
    }
    out
}

/// All cells of 8 x 8 once, and back to where it began.
fn tour() -> String {
    let round = "A.......\n".to_string() + &"........\n".repeat(7);
    format!(
        "model = 'tour'\n[[level]]\nname = 'eight'\nstart.round = '''\n{round}'''\n[[level]]\nname = 'eight closed'\nvalues.closed = true\n\
         start.round = '''\n{round}'''\n"
    )
}

/// 52 cards in 8 piles with 4 free places, one card a move.
fn cards() -> String {
    let mut out = "model = 'patience'\n".to_string();
    for k in 1..=100u64 {
        let mut rng = SmallRng::seed_from_u64(5200 + k);
        let mut deck: Vec<String> = ["tar", "rope", "sail", "gull"]
            .iter()
            .flat_map(|s| (1..=13).map(move |r| format!("{r}.{s}")))
            .collect();
        deck.shuffle(&mut rng);
        let piles: Vec<String> = (0..8)
            .map(|p| {
                let from = if p < 4 { 7 * p } else { 28 + 6 * (p - 4) };
                let len = if p < 4 { 7 } else { 6 };
                format!("{}: {}", p + 1, deck[from..from + len].join(" "))
            })
            .collect();
        let _ = write!(
            out,
            "\n[[level]]\nname = 'deal {k}'\nvalues = {{ piles = 8, spares = 4, any_first = true, runs = false }}\nstart.pile = \"{}\"\n",
            piles.join(", ")
        );
    }
    out
}

/// A yard: walls, berths, the agent, bodies. Cells are numbered row by row.
#[derive(Clone)]
struct Yard {
    cols: usize,
    walls: Vec<bool>,
    berths: Vec<usize>,
    at: usize,
    bodies: HashSet<usize>,
}

impl Yard {
    fn by(&self) -> [isize; 4] {
        let down = self.cols as isize;
        [-down, down, -1, 1]
    }

    fn is_free(&self, cell: usize) -> bool {
        !self.walls[cell] && !self.bodies.contains(&cell)
    }

    /// Where the agent can walk.
    fn walks(&self) -> Vec<usize> {
        let mut list = vec![self.at];
        let mut next = 0;
        while let Some(&cell) = list.get(next) {
            next += 1;
            for by in self.by() {
                let to = cell.wrapping_add_signed(by);
                if self.is_free(to) && !list.contains(&to) {
                    list.push(to);
                }
            }
        }
        list
    }

    /// Pushes that are possible, or pulls: the agent's cell before and after, the body's before and after.
    fn shoves(&self, pulls: bool) -> Vec<[usize; 4]> {
        let mut out = vec![];
        for at in self.walks() {
            for by in self.by() {
                let body = at.wrapping_add_signed(by);
                let free = if pulls { at.wrapping_add_signed(-by) } else { body.wrapping_add_signed(by) };
                if self.bodies.contains(&body) && self.is_free(free) {
                    out.push(if pulls { [at, free, body, at] } else { [at, body, body, free] });
                }
            }
        }
        out
    }

    fn make(&mut self, [_, at, from, to]: [usize; 4]) {
        self.at = at;
        self.bodies.remove(&from);
        self.bodies.insert(to);
    }

    fn drawn(&self) -> String {
        let glyph = |cell: usize| {
            let berth = self.berths.contains(&cell);
            match (self.walls[cell], cell == self.at, self.bodies.contains(&cell)) {
                (true, ..) => 'H',
                (_, true, _) => {
                    if berth {
                        'R'
                    } else {
                        'A'
                    }
                }
                (_, _, true) => {
                    if berth {
                        'Q'
                    } else {
                        'o'
                    }
                }
                _ => {
                    if berth {
                        '_'
                    } else {
                        '.'
                    }
                }
            }
        };
        let all: Vec<char> = (0..self.walls.len()).map(glyph).collect();
        all.chunks(self.cols).map(|r| r.iter().collect::<String>()).collect::<Vec<_>>().join("\n")
    }

    /// A body lies away from a berth in a corner of walls, or in a square of four walls and bodies: no push ever moves it again.
    fn is_stuck(&self) -> bool {
        let [up, down, left, right] = self.by();
        self.bodies.iter().any(|b| {
            let is_wall = |by: isize| self.walls[b.wrapping_add_signed(by)];
            let corner = (is_wall(up) || is_wall(down)) && (is_wall(left) || is_wall(right));
            corner && !self.berths.contains(b)
        }) || (0..self.walls.len() - self.cols - 1).any(|cell| {
            let square = [cell, cell + 1, cell + self.cols, cell + self.cols + 1];
            square.iter().all(|c| !self.is_free(*c))
                && square.iter().any(|c| self.bodies.contains(c) && !self.berths.contains(c))
        })
    }
}

/// Ten yards of 6 to 12 bodies, made by pulling them away from their berths, so that each can be solved.
fn yards() -> Vec<Yard> {
    let sizes = [
        (9, 10, 6, 0.12, 200),
        (9, 11, 7, 0.14, 250),
        (10, 11, 8, 0.14, 300),
        (10, 12, 9, 0.15, 300),
        (11, 12, 10, 0.15, 400),
        (11, 13, 11, 0.16, 400),
        (12, 13, 12, 0.16, 500),
        (10, 10, 6, 0.2, 300),
        (12, 12, 8, 0.22, 400),
        (12, 14, 12, 0.18, 600),
    ];
    let mut rng = SmallRng::seed_from_u64(31);
    sizes.into_iter().map(|size| yard(&mut rng, size)).collect()
}

fn yard(rng: &mut SmallRng, (rows, cols, n, share, pulls): (usize, usize, usize, f64, usize)) -> Yard {
    loop {
        let edge = |i: usize| {
            i / cols == 0 || i / cols == rows - 1 || i.is_multiple_of(cols) || i % cols == cols - 1
        };
        let walls: Vec<bool> = (0..rows * cols).map(|i| edge(i) || rng.random_bool(share)).collect();
        let open: Vec<usize> = (0..rows * cols).filter(|i| !walls[*i]).collect();
        let at = open[rng.random_range(0..open.len())];
        let mut yard = Yard { cols, walls, berths: vec![], at, bodies: HashSet::new() };
        // What cannot be walked to is wall.
        let floor = yard.walks();
        if floor.len() * 10 < (rows - 2) * (cols - 2) * 6 {
            continue;
        }
        open.iter().filter(|i| !floor.contains(i)).for_each(|i| yard.walls[*i] = true);
        let near = floor[rng.random_range(0..floor.len())];
        let far = |i: &usize| (i / cols).abs_diff(near / cols) + (i % cols).abs_diff(near % cols);
        let mut berths: Vec<usize> = floor.clone();
        berths.sort_by_key(|i| (far(i), *i));
        berths.truncate(n);
        let outside: Vec<usize> = floor.iter().copied().filter(|i| !berths.contains(i)).collect();
        yard.at = outside[rng.random_range(0..outside.len())];
        yard.bodies = berths.iter().copied().collect();
        yard.berths = berths;
        for _ in 0..pulls {
            let mut list = yard.shoves(true);
            list.sort_unstable();
            let Some(longest) = list.iter().map(|p| far(&p[3])).max() else { break };
            // Rather away than back.
            let liked: Vec<[usize; 4]> =
                list.iter().copied().filter(|p| far(&p[3]) > far(&p[2]) || far(&p[3]) == longest).collect();
            let list = if liked.is_empty() || rng.random_range(0..5) == 0 { list } else { liked };
            yard.make(list[rng.random_range(0..list.len())]);
        }
        if yard.bodies.iter().filter(|b| !yard.berths.contains(b)).count() + 1 >= n {
            return yard;
        }
    }
}

/// Five of them, each pushed at random until a body is stuck for good: told by looking at the walls beside it, and by nothing else.
fn spoiled(yards: &[Yard]) -> Vec<Yard> {
    let mut rng = SmallRng::seed_from_u64(77);
    let mut out = vec![];
    for yard in yards {
        for _ in 0..40 {
            let mut spoiled = yard.clone();
            for _ in 0..8 {
                let mut list = spoiled.shoves(false);
                list.sort_unstable();
                if list.is_empty() || spoiled.is_stuck() {
                    break;
                }
                spoiled.make(list[rng.random_range(0..list.len())]);
            }
            if spoiled.is_stuck() && !yard.is_stuck() {
                out.push(spoiled);
                break;
            }
        }
        if out.len() == 5 {
            break;
        }
    }
    out
}

fn yard_file(yards: &[Yard]) -> String {
    let mut out = "model = 'shove'\n".to_string();
    for (i, yard) in yards.iter().enumerate() {
        let _ =
            write!(out, "\n[[level]]\nname = 'yard {}'\nstart.yard = '''\n{}\n'''\n", i + 1, yard.drawn());
    }
    out
}
