//! Relaxed puzzles and guided search against whole spaces: on 3,000 random levels no bound says too much in any state, what is called
//! dead is dead, and every search agrees with looking at all states.

use crate::common;

use std::collections::HashMap;

use common::{games, model, times};
use fendle_core::graph::Distances;
use fendle_core::guided::beam::{self, Wide};
use fendle_core::guided::best::{self, Ask, Order};
use fendle_core::guided::deepen::deepen;
use fendle_core::guided::dive::{self, Dive, Prefer};
use fendle_core::guided::ground::{Moves, Unpack};
use fendle_core::guided::shorten::shorten;
use fendle_core::guided::ways::WaysGround;
use fendle_core::relaxed::bounds::Bounds;
use fendle_core::relaxed::choose::{self, Effort};
use fendle_core::relaxed::{Pattern, Task, cache};
use fendle_core::{Class, Expansion, Limits, Model as _, MoveId, NoWatch, Route, Status};
use fendle_lang::Game;
use fendle_lang::model::EndKind;
use fendle_lang::play::{MoveTable, Tried, is_won, step};
use fendle_lang::reasons::counting::{countable, with_counting};
use fendle_lang::reasons::gap::with_gap;
use fendle_lang::reasons::relaxed::{declared_bound, pattern_words, task_of};
use fendle_lang::run::Eval;
use rand::{Rng, SeedableRng, rngs::SmallRng, seq::SliceRandom};

/// States of a level above which it is left out.
const STATES_MAX: u64 = 6_000;

#[derive(Default)]
struct Tally {
    levels: u64,
    states: u64,
    /// States whose bound is more than 0, and exactly the distance.
    told: u64,
    tight: u64,
    dead: u64,
    dead_found: u64,
    folded: u64,
    deepened: u64,
    unsolvable: u64,
    /// States whose bound is more than 0 where something else is counted, and levels of which a solution counts more than 0.
    counted: u64,
    least: u64,
}

fn relax(task: &Task, effort: Effort) -> Bounds {
    let mut maker = |task: &Task, wanted: &[(Pattern, bool)]| choose::make(task, wanted, &NoWatch);
    choose::choose(task, effort, 3, &mut maker).expect("no limit")
}

/// Plays moves by the reference executor; whether they end in a goal.
fn wins(game: &Game, moves: &[MoveId]) -> bool {
    let table = MoveTable::new(&game.bound).expect("few moves");
    let mut state = game.bound.position.clone();
    for of in moves {
        let Ok(Tried::Made(list)) = step(&game.bound, &table, &state, of.0 as usize, false) else {
            return false;
        };
        state.clone_from(&list[0].made.state);
    }
    is_won(&game.bound, &state)
}

/// Compares all that is said of a level with its whole space. `say` names it.
fn check(game: &Game, rng: &mut SmallRng, tally: &mut Tally, say: &dyn Fn() -> String) {
    let game = game.apart();
    let limits = Limits { max_states: STATES_MAX, threads: 1, ..Limits::default() };
    let found = fendle_core::explore(&game, limits, false, &NoWatch).expect("a start");
    if found.counts.limit.is_some() || found.fault.is_some() {
        return;
    }
    let Some(task) = task_of(&game, 60_000, &mut || false) else { return };
    tally.levels += 1;
    let positions = 1 << rng.random_range(4..16);
    let mut bounds = relax(&task, Effort { positions, all: 8 * positions });
    bounds.declared = declared_bound(&game).filter(|w| w.is_proved(&task));
    let far = Distances::in_space(&found.space, &NoWatch).expect("no limit");
    let mut judge = bounds.judge(&task);
    for id in found.space.ids() {
        let values = game.unpack(&found.space.state(id));
        let class = found.space.class(id);
        if matches!(class, Class::Lost | Class::Over) {
            continue;
        }
        let says = judge.says(&values);
        let truth = far.get(id).filter(|_| matches!(class, Class::Goal | Class::Winnable));
        tally.states += 1;
        match (says.least, truth) {
            (Some(least), Some(truth)) => {
                assert!(least <= truth, "{}: {least} moves at the least, {truth} are enough", say());
                assert!(says.sum <= truth, "{}: a sum of {}, {truth} are enough", say(), says.sum);
                tally.told += u64::from(least > 0);
                tally.tight += u64::from(least == truth && truth > 0);
            }
            (None, Some(truth)) => panic!("{}: called dead, and {truth} moves win", say()),
            (least, None) => {
                tally.dead += 1;
                tally.dead_found += u64::from(least.is_none());
                assert_eq!(judge.no_way(&values).is_some(), least.is_none(), "{}", say());
            }
        }
    }
    let start = *found.space.starts().first().expect("a start");
    let wins = matches!(found.space.class(start), Class::Goal | Class::Winnable);
    let truth = far.get(start).filter(|_| wins);
    if truth.is_none() {
        tally.unsolvable += 1;
    }
    let ends_otherwise = game.bound.model.endings.iter().any(|e| e.kind != EndKind::Goal);
    agree(&game, (&task, &bounds), truth, ends_otherwise, tally, say);
    // What the model counts comes first; of the rest, one.
    let names = countable(&game);
    let some = names[rng.random_range(0..names.len())].clone();
    for name in [names[0].clone(), some] {
        if rng.random_range(0..3) > 0 {
            continue;
        }
        count(&game, &name, rng, tally, say);
    }
}

/// The least that a way to a goal counts from each state that can be reached, by relaxing every step until nothing changes; the costs
/// are those of the reference executor.
fn least_counts(game: &Game, counting: &Game) -> HashMap<Vec<u64>, Option<u32>> {
    let list = MoveTable::new(&game.bound).expect("few moves").list;
    let mut eval = Eval::new(&counting.bound);
    let (mut worker, mut twin) = (game.worker(), counting.worker());
    let start = game.pack(&game.bound.position);
    let words = start.len();
    let mut numbers: HashMap<Vec<u64>, usize> = HashMap::from([(start.clone(), 0)]);
    let mut states = vec![start];
    let mut least: Vec<Option<u32>> = vec![];
    let mut steps: Vec<(usize, u32, usize)> = vec![];
    while least.len() < states.len() {
        let at = least.len();
        let state = states[at].clone();
        let status = worker.status(&state).expect("no fault");
        least.push((status == Status::Goal).then_some(0));
        if status != Status::Running {
            continue;
        }
        let mut out = Expansion::default();
        worker.expand(&state, false, &mut out);
        for (run, next) in out.runs.iter().zip(out.outcomes.chunks_exact(words)) {
            let (of, params) = &list[run.of.0 as usize];
            let cost = eval.counts_in(&game.unpack(&state), (*of, params)).expect("no fault");
            assert_eq!(twin.counts(&state, run.of), Ok(cost), "both executors count the same");
            let to = *numbers.entry(next.to_vec()).or_insert_with(|| {
                states.push(next.to_vec());
                states.len() - 1
            });
            steps.push((at, cost, to));
        }
    }
    loop {
        let mut changed = false;
        for &(from, cost, to) in steps.iter().rev() {
            let Some(there) = least[to] else { continue };
            if least[from].is_none_or(|l| l > there + cost) {
                least[from] = Some(there + cost);
                changed = true;
            }
        }
        if !changed {
            return states.into_iter().zip(least).collect();
        }
    }
}

/// Something else than moves is counted: no bound says too much, and the search finds the least.
fn count(game: &Game, name: &str, rng: &mut SmallRng, tally: &mut Tally, say: &dyn Fn() -> String) {
    let counting = with_counting(game, name).expect("a name");
    let truth = least_counts(game, &counting);
    let Some(task) = task_of(&counting, 60_000, &mut || false) else { return };
    let positions = 1 << rng.random_range(4..16);
    let bounds = relax(&task, Effort { positions, all: 8 * positions });
    let mut judge = bounds.judge(&task);
    for (state, truth) in &truth {
        match (judge.says(&game.unpack(state)).least, truth) {
            (Some(least), Some(truth)) => {
                assert!(least <= *truth, "{}: {least} {name} at the least, {truth} are enough", say());
                tally.counted += u64::from(least > 0);
            }
            (None, Some(truth)) => panic!("{}: called dead, and {truth} {name} win", say()),
            (_, None) => {}
        }
    }
    let unpack = |state: &[u64], values: &mut Vec<i32>| {
        values.resize(game.bound.start.len(), 0);
        game.bound.codec.unpack(state, values);
    };
    let start = game.pack(&game.bound.position);
    let truth = truth[&start];
    let bounds = Some((&task, &bounds, &unpack as &Unpack));
    let ground = Moves { model: &counting, start, bounds, asks_promise: false, counts: true };
    let ask = Ask { order: Order::SHORTEST, any: false, below: u32::MAX, states: u64::MAX };
    let limits = Limits { threads: 1, ..Limits::default() };
    let found = best::search(&ground, ask, &limits, &NoWatch);
    assert_eq!(found.steps.as_ref().map(|_| found.cost), truth, "{}: least {name}", say());
    assert_eq!(found.least, truth, "{}: the bound of least {name}", say());
    tally.least += u64::from(truth.is_some_and(|t| t > 0));
}

/// Every search finds what there is.
fn agree(
    game: &Game,
    (task, bounds): (&Task, &Bounds),
    truth: Option<u32>,
    ends_otherwise: bool,
    tally: &mut Tally,
    say: &dyn Fn() -> String,
) {
    let limits = Limits { threads: 1, ..Limits::default() };
    let looking = with_gap(game).expect("a goal that is a condition");
    let unpack = |state: &[u64], values: &mut Vec<i32>| {
        values.resize(game.bound.start.len(), 0);
        game.bound.codec.unpack(state, values);
    };
    let start = game.pack(&game.bound.position);
    let ground = Moves {
        model: &looking,
        start: start.clone(),
        bounds: Some((task, bounds, &unpack as &Unpack)),
        asks_promise: true,
        counts: false,
    };
    let ask = |order, any| Ask { order, any, below: u32::MAX, states: u64::MAX };
    let shortest = best::search(&ground, ask(Order::SHORTEST, false), &limits, &NoWatch);
    assert_eq!(shortest.steps.as_ref().map(|s| s.len() as u32), truth, "{}: shortest ways first", say());
    assert_eq!(shortest.least, truth, "{}: the bound of shortest ways first", say());
    let soon = best::search(&ground, ask(Order { paid: 1, least: 2, guess: 3 }, true), &limits, &NoWatch);
    assert_eq!(soon.steps.is_some(), truth.is_some(), "{}: any way", say());
    let moves = |steps: &[u32]| -> Vec<MoveId> { steps.iter().map(|s| MoveId(*s)).collect() };
    for prefer in [Prefer::Few, Prefer::Many, Prefer::Near] {
        let found = dive::search(&ground, Dive { prefer, states: 100_000, seed: 5 }, &limits, &NoWatch);
        if truth != Some(0) {
            assert_eq!(found.steps.is_some(), truth.is_some(), "{}: {prefer:?}", say());
            assert!(found.steps.is_none_or(|s| wins(game, &moves(&s))), "{}: {prefer:?}", say());
        }
    }
    let wide =
        Wide { width: 1 << 16, least: 1, guess: 1, below: u32::MAX, states: u64::MAX, seed: 2, many: true };
    let found = beam::search(&ground, wide, &limits, &NoWatch);
    assert_eq!(found.steps.map(|s| s.len() as u32), truth, "{}: a beam as wide as all", say());
    if let Some(steps) = &soon.steps {
        // A way that is no shortest one is shortened to one that still wins.
        let mut route = route_of(game, &moves(steps));
        shorten(game, &mut route, 400, &NoWatch, &mut |_| {});
        assert!(wins(game, &route.moves) && route.moves.len() as u32 >= truth.unwrap_or(0), "{}", say());
        assert!(route.moves.len() <= steps.len());
    }
    // The ways know nothing of an end that is no goal.
    if !task.exact || ends_otherwise {
        return;
    }
    // Deepening has no end where there is no way and moves can be taken back.
    if truth.is_some() {
        let deep = deepen(task, bounds, (u32::MAX, u64::MAX), &NoWatch, &mut |_| {});
        tally.deepened += 1;
        assert_eq!(deep.moves.as_ref().map(|m| m.len() as u32), truth, "{}: deepening", say());
        assert!(deep.moves.is_none_or(|m| wins(game, &m)), "{}: deepening", say());
    }
    let ground = WaysGround::new(task, bounds);
    tally.folded += u64::from(ground.is_folded());
    let found = best::search(&ground, ask(Order { paid: 1, least: 2, guess: 0 }, true), &limits, &NoWatch);
    assert_eq!(found.steps.is_some(), truth.is_some(), "{}: over ways", say());
    if let Some(steps) = found.steps {
        assert!(wins(game, &ground.moves(&steps)), "{}: over ways", say());
    }
}

fn route_of(game: &Game, moves: &[MoveId]) -> Route {
    let mut worker = game.worker();
    let mut route = Route { moves: moves.to_vec(), states: vec![game.pack(&game.bound.position)] };
    for of in moves {
        let mut next = vec![];
        let here = route.states.last().expect("a state");
        worker.sample(here, *of, &mut |_| 0, &mut next).expect("no fault");
        route.states.push(next);
    }
    route
}

/// A random model of parts that go together, and a level of it.
#[expect(clippy::too_many_lines, reason = "mostly the texts of moves")]
fn random_puzzle(rng: &mut SmallRng) -> (String, String) {
    let (rows, cols) = (rng.random_range(1..=3usize), rng.random_range(2..=4usize));
    let cells = rows * cols;
    let parts = [
        "move walk(d: dir4) { let n = at + d; refuse \"edge\" unless n on board; refuse \"box\" unless not n in box; at = n }",
        "move push(d: dir4) { let n = at + d; let m = n + d; refuse \"none\" unless n in box and n on board; \
         refuse \"edge\" unless m on board; refuse \"full\" unless not m in box; remove cell(n) from box; add cell(m) to box; at = cell(n) }",
        "move pull(d: dir4) { let n = at + d; let m = at - d; refuse \"none\" unless m in box and m on board; refuse \"edge\" unless n on board; \
         refuse \"full\" unless not n in box; remove cell(m) from box; add at to box; at = cell(n) }",
        "move hop(c: cell, d: dir4) { offer c in box; let o = c + d; let t = c + 2 * d; refuse \"none\" unless o in box; refuse \"edge\" unless t on board; \
         refuse \"full\" unless not t in box; remove c from box; remove cell(o) from box; add cell(t) to box }",
        "move turn(d: dir4) { let n = at + d; refuse \"edge\" unless n on board; lamp[cell(n)] = not lamp[cell(n)] }",
        "move take { refuse \"no key\" unless keys > 0; refuse \"lit\" unless not lamp[at]; keys -= 1; lamp[at] = true }",
        "move find { refuse \"enough\" unless keys < 2; refuse \"dark\" unless lamp[at]; keys += 1; lamp[at] = false }",
        "move leap(c: cell) { refuse \"box\" unless not c in box; refuse \"near\" unless abs(row(c) - row(at)) + abs(col(c) - col(at)) == 2; at = c }",
        "move shift(d: dir4) { let n = at + d; refuse \"edge\" unless n on board; swap tile[at], tile[cell(n)]; at = cell(n) }",
        "move trade(c: cell, d: dir4) { let n = c + d; refuse \"edge\" unless n on board; refuse \"kind\" unless tile[c] == 1 and tile[cell(n)] != 1; \
         swap tile[c], tile[cell(n)] }",
        "move both(c: cell, d: dir4) { offer c in box; let n = c + d; let m = n + d; refuse \"two\" unless n in box; refuse \"edge\" unless m on board; \
         refuse \"full\" unless not m in box; remove c from box; add cell(m) to box }",
        "move sink { refuse \"none\" unless (at + right) in box and (at + right) on board; remove cell(at + right) from box }",
    ];
    let mut chosen: Vec<&str> = parts.to_vec();
    chosen.shuffle(rng);
    chosen.truncate(rng.random_range(1..=4));
    let goals = [
        "all(c in berth: c in box)",
        "at == home",
        "keys == 0",
        "all(c on lamp: lamp[c] == lit[c])",
        "tile == target",
        "not home in box",
    ];
    let mut wanted: Vec<&str> = goals.to_vec();
    wanted.shuffle(rng);
    wanted.truncate(rng.random_range(1..=2));
    let lost = if rng.random_range(0..6) == 0 {
        "lost when keys == 2 because \"too many\"\nstatus goal, lost\n"
    } else {
        ""
    };
    // What moves count, some of them.
    let mut costs = String::new();
    for part in &chosen {
        let head = part[5..].split(" {").next().expect("a head");
        let (name, params) = head.split_once('(').unwrap_or((head, ""));
        let params: Vec<&str> = params.split(", ").filter_map(|p| Some(p.split_once(':')?.0)).collect();
        let counts =
            ["0", "1", "2", "if at == home then 3 else 1", "if lamp[at] then 0 else 1", "count(k in box)"];
        let mut counts = counts.to_vec();
        if params.contains(&"d") {
            counts.extend(["if at + d in box then 1 else 0"; 3]);
        }
        let params = if params.is_empty() { String::new() } else { format!("({})", params.join(", ")) };
        if rng.random_range(0..4) > 0 {
            let count = counts[rng.random_range(0..counts.len())];
            costs.push_str(&format!("cost toll of {name}{params} = {count}\n"));
        }
    }
    let text = format!(
        "model puzzle\nlevel berth: set of cells\nlevel home: cell\nlevel lit: grid of bool\nlevel target: grid of 0..9\n\
         state at: cell\nstate box: set of cells\nstate lamp: grid of bool\nstate keys: 0..2\nstate tile: rearranged target\n{}\ngoal {}\n{lost}{costs}",
        chosen.join("\n"),
        wanted.join(" and ")
    );
    let cell = |rng: &mut SmallRng| format!("r{}c{}", rng.random_range(1..=rows), rng.random_range(1..=cols));
    let some = |rng: &mut SmallRng, most: usize| -> String {
        let mut list = vec!['.'; cells];
        (0..rng.random_range(0..=most)).for_each(|_| list[rng.random_range(0..cells)] = 'x');
        list.chunks(cols).map(|r| r.iter().collect::<String>()).collect::<Vec<_>>().join("/")
    };
    let grid = |list: &[String]| list.chunks(cols).map(|r| r.join(" ")).collect::<Vec<_>>().join("/");
    let bits = |rng: &mut SmallRng| -> String {
        let list: Vec<String> =
            (0..cells).map(|_| if rng.random_range(0..3) == 0 { "x".into() } else { ".".into() }).collect();
        list.chunks(cols).map(|r| r.concat()).collect::<Vec<_>>().join("/")
    };
    let distinct = rng.random_range(0..3) > 0;
    let mut tiles: Vec<String> =
        (0..cells).map(|i| (if distinct { i.min(9) } else { i % 3 }).to_string()).collect();
    let target = grid(&tiles);
    tiles.shuffle(rng);
    let level = format!(
        "model = 'puzzle'\n[[level]]\nname = 'one'\nsize = [{rows}, {cols}]\nvalues.berth = '{}'\nvalues.home = '{}'\nvalues.lit = '{}'\nvalues.target = '{target}'\n\
         start.at = '{}'\nstart.box = '{}'\nstart.lamp = '{}'\nstart.keys = {}\nstart.tile = '{}'\n",
        some(rng, 2),
        cell(rng),
        bits(rng),
        cell(rng),
        some(rng, 3),
        bits(rng),
        rng.random_range(0..=1),
        grid(&tiles),
    );
    (text, level)
}

#[test]
fn random_puzzles_are_never_said_too_much_of() {
    let mut tally = Tally::default();
    for seed in 0..800 * times() {
        let mut rng = SmallRng::seed_from_u64(seed);
        let (text, level) = random_puzzle(&mut rng);
        let game = games(&model(&text), &level).remove(0);
        check(&game, &mut rng, &mut tally, &|| format!("seed {seed}\n{text}\n{level}"));
    }
    let t = &tally;
    println!(
        "{} levels, {} states: {} with a bound, {} exact; {} dead, {} found; {} folded, {} deepened, {} unsolvable",
        t.levels, t.states, t.told, t.tight, t.dead, t.dead_found, t.folded, t.deepened, t.unsolvable
    );
    assert!(t.levels > 400 && t.told > t.states / 10, "{} levels, {} of {}", t.levels, t.told, t.states);
    println!("something else counted: {} states with a bound, {} levels", t.counted, t.least);
    assert!(t.counted > 400 && t.least > 12);
    assert!(t.dead_found > 400 && t.deepened > 80 && t.folded > 12 && t.unsolvable > 40);
}

fn library(name: &str) -> String {
    std::fs::read_to_string(format!("{}/../../models/{name}.fendle", env!("CARGO_MANIFEST_DIR")))
        .expect("a model")
}

#[test]
fn random_yards_are_never_said_too_much_of() {
    let mut tally = Tally::default();
    let yard = model(&library("shove"));
    for seed in 0..350 * times() {
        let mut rng = SmallRng::seed_from_u64(seed);
        let (rows, cols) = (rng.random_range(2..=4usize), rng.random_range(3..=5usize));
        let mut glyphs: Vec<char> = (0..rows * cols)
            .map(|_| match rng.random_range(0..24) {
                0..3 => 'H',
                3 => 'w',
                4..7 => 'o',
                7..9 => '_',
                9 => 'u',
                10 => 'p',
                11 => 'g',
                _ => '.',
            })
            .collect();
        let at = rng.random_range(0..glyphs.len());
        glyphs[at] = 'A';
        let drawn = glyphs.chunks(cols).map(|r| r.iter().collect::<String>()).collect::<Vec<_>>().join("/");
        let mut level = format!("model = 'shove'\n[[level]]\nname = 'one'\nstart.yard = '{drawn}'\n");
        for (name, value) in [("strength", "2"), ("glide", "true"), ("pulls", "true"), ("back", "true")] {
            if rng.random_range(0..6) == 0 {
                level.push_str(&format!("values.{name} = {value}\n"));
            }
        }
        let game = games(&yard, &level).remove(0);
        check(&game, &mut rng, &mut tally, &|| level.clone());
    }
    let t = &tally;
    println!(
        "{} levels, {} states: {} with a bound, {} exact; {} dead, {} found; {} folded; {} and {} counting pushes",
        t.levels, t.states, t.told, t.tight, t.dead, t.dead_found, t.folded, t.counted, t.least
    );
    assert!(t.counted > 400 && t.least > 6);
    assert!(
        t.levels > 200 && t.dead_found > t.dead / 4,
        "{} levels, {} of {}",
        t.levels,
        t.dead_found,
        t.dead
    );
}

#[test]
fn random_decks_are_never_said_too_much_of() {
    let mut tally = Tally::default();
    let deck = model(&library("slide"));
    for seed in 0..500 {
        let mut rng = SmallRng::seed_from_u64(seed);
        let (rows, cols) = [(2, 2), (2, 3), (3, 2), (1, 5)][rng.random_range(0..4)];
        let cells = rows * cols;
        let repeat = rng.random_range(0..3) == 0;
        let mut tiles: Vec<String> = (0..cells)
            .map(|i| if i > 0 && repeat { (i % 2 + 1).to_string() } else { i.to_string() })
            .collect();
        let grid = |list: &[String]| list.chunks(cols).map(|r| r.join(" ")).collect::<Vec<_>>().join("/");
        let target = grid(&tiles);
        tiles.shuffle(&mut rng);
        let bolted: String = if rng.random_range(0..4) == 0 {
            let at = rng.random_range(0..cells);
            let list: Vec<char> = (0..cells).map(|i| if i == at { 'x' } else { '.' }).collect();
            let drawn = list.chunks(cols).map(|r| r.iter().collect::<String>()).collect::<Vec<_>>().join("/");
            format!("values.bolted = '{drawn}'\n")
        } else {
            String::new()
        };
        let level = format!(
            "model = 'slide'\n[[level]]\nname = 'one'\nsize = [{rows}, {cols}]\nvalues.target = '{target}'\n{bolted}start.tile = '{}'\n",
            grid(&tiles)
        );
        let game = games(&deck, &level).remove(0);
        check(&game, &mut rng, &mut tally, &|| level.clone());
    }
    let t = &tally;
    assert!(t.levels > 300 && t.tight > 1_000, "{} levels, {} exact", t.levels, t.tight);
}

#[test]
fn kept_tables_are_what_was_made_and_damaged_ones_are_refused() {
    let deck = model(&library("slide"));
    let level = "model = 'slide'\n[[level]]\nname = 'one'\nsize = [2, 4]\nvalues.target = '. 1 2 3/4 5 6 7'\nstart.tile = '7 6 5 4/3 2 1 .'\n";
    let game = games(&deck, level).remove(0);
    let task = task_of(&game, 60_000, &mut || false).expect("followed");
    let own = cache::name_of(&task);
    for fold in [false, true] {
        let pattern = fendle_core::relaxed::pattern::of_kinds(
            &task,
            &[1, 2, 5],
            fendle_core::relaxed::pattern::Counts::Own,
        );
        assert_eq!(pattern_words(&task, &pattern), "tile 1, 2 and 5 with tile 0");
        let made = choose::make(&task, &[(pattern.clone(), fold)], &NoWatch).expect("no limit").remove(0);
        let made = made.expect("a table");
        // The places of three tiles and the gap among eight; without the gap those of the tiles.
        assert_eq!(made.positions(), 8 * 7 * 6 * 5);
        assert_eq!(made.bytes(), if fold { 8 * 7 * 6 } else { 8 * 7 * 6 * 5 });
        let name = cache::table_name(&own, &pattern, fold);
        let bytes = cache::write(&made, &name);
        let back = cache::read(&bytes, &name, &task, &pattern).expect("what was written");
        assert_eq!((back.bytes(), back.most), (made.bytes(), made.most));
        assert_eq!(cache::write(&back, &name), bytes);
        for at in (0..bytes.len()).step_by(7) {
            let mut damaged = bytes.clone();
            damaged[at] ^= 4;
            // The last bits of what is compressed may say nothing: then the table is what it was.
            let read = cache::read(&damaged, &name, &task, &pattern);
            assert!(read.is_none_or(|t| cache::write(&t, &name) == bytes), "byte {at} is not missed");
        }
        assert!(cache::read(&bytes[..bytes.len() - 1], &name, &task, &pattern).is_none());
        assert!(cache::read(&bytes, &own, &task, &pattern).is_none(), "another name");
    }
}

/// A rack of pegs: what lies beside it is told by dots.
fn rack(drawn: &str, values: &str) -> Game {
    let hop = model(include_str!("../../../models/hop.fendle"));
    games(&hop, &format!("model = 'hop'\n[[level]]\nvalues = {{ {values} }}\nstart.rack = '''\n{drawn}\n'''"))
        .remove(0)
}

/// Of the eight ways to turn or mirror a square those are found after which the level is the same puzzle: board and goal, whatever
/// lies on it at the start.
#[test]
fn boards_that_are_the_same_when_turned_are_found_from_the_ways() {
    let turns = |drawn: &str, values: &str| {
        task_of(&rack(drawn, values), 60_000, &mut || false).expect("its ways are followed").turns.len()
    };
    let cross = ".oo.\n_ooo\nooo_\n.oo.";
    assert_eq!(turns(cross, ""), 7);
    assert_eq!(turns(cross, "last = 'r2c2'"), 1, "only along the diagonal through that place");
    assert_eq!(turns("ooo_\noooo\nooo.\noo..", ""), 1);
    assert_eq!(turns("o_oo\noo_o\noooo", ""), 3, "a board that is no square is turned by half or mirrored");
    assert_eq!(turns("ooo_\n.ooo\noo_o", ""), 1, "upside down, the places are the same");
    assert_eq!(turns(".oo_\n.ooo\noo_o", ""), 0);
    // What the goal tells apart is not exchanged.
    let slide = model(common::SLIDE);
    let deck = |target: &str, tiles: &str| {
        let text = format!(
            "model = 'slide'\n[[level]]\nvalues.target = '''\n{target}\n'''\nstart.tile = '''\n{tiles}\n'''"
        );
        task_of(&games(&slide, &text).remove(0), 60_000, &mut || false).expect("ways").turns.len()
    };
    assert_eq!(deck("1 2 3\n4 5 6\n7 8 .", "1 2 3\n4 . 5\n7 8 6"), 0);
    assert_eq!(deck("1 2 1\n3 . 3\n1 2 1", "1 2 1\n3 1 3\n1 2 ."), 3);
}

/// A search that takes turned positions for one finds ways that are as short, and sees a part of the states; the ways it finds are
/// played by the reference executor.
#[test]
fn a_search_that_turns_boards_finds_ways_as_short() {
    let mut rng = SmallRng::seed_from_u64(77);
    let (mut solved, mut turned_seen, mut all_seen) = (0, 0, 0);
    for _ in 0..60 {
        let shapes = [
            ".ooo.\nooooo\nooooo\nooooo\n.ooo.",
            "oooo\noooo\noooo\noooo",
            ".oo.\noooo\noooo\n.oo.",
            "ooo\nooo\nooo\nooo",
        ];
        let shape = shapes[rng.random_range(0..shapes.len())];
        // Left and right alike at the start: then turned positions are reached, too.
        let half = |row: &str, rng: &mut SmallRng| -> String {
            let (n, mut out) = (row.len(), row.as_bytes().to_vec());
            for c in 0..n.div_ceil(2) {
                if out[c] == b'o' && rng.random_range(0..100) < 25 {
                    (out[c], out[n - 1 - c]) = (b'_', b'_');
                }
            }
            String::from_utf8(out).expect("letters")
        };
        let drawn = shape.lines().map(|row| half(row, &mut rng)).collect::<Vec<_>>().join("\n");
        let left = rng.random_range(1..3);
        let game = rack(&drawn, &format!("left_over = {left}"));
        let Some(task) = task_of(&game, 60_000, &mut || false) else { continue };
        if task.goals.is_empty() || !task.exact {
            continue;
        }
        let bounds = relax(&task, Effort { positions: 1 << 10, all: 1 << 12 });
        let ask = Ask { order: Order::SHORTEST, any: false, below: u32::MAX, states: u64::MAX };
        let limits = Limits { threads: 1, ..Limits::default() };
        let plain = Task { turns: vec![], ..task.clone() };
        let search = |task: &Task| {
            let ground = WaysGround::new(task, &bounds);
            let found = best::search(&ground, ask, &limits, &NoWatch);
            let moves = found.steps.as_ref().map(|s| ground.moves(s));
            (found.states, moves)
        };
        let ((with, short), (without, plain)) = (search(&task), search(&plain));
        assert_eq!(short.as_ref().map(Vec::len), plain.as_ref().map(Vec::len), "{drawn}");
        assert!(with <= without, "{drawn}: {with} states turned, {without} else");
        turned_seen += with;
        all_seen += without;
        if let Some(moves) = short {
            assert!(wins(&game, &moves), "{drawn}");
            solved += 1;
        }
    }
    assert!(solved > 10, "{solved}");
    assert!(turned_seen * 3 < all_seen * 2, "{turned_seen} of {all_seen}");
}
