//! Measures exploring and classifying whole spaces through the language.
//!
//! Each case runs in a process of its own, so that the operating system's high-water mark of
//! memory is that of the case. Dimensions: packed by rank (`slide`) against plain bits (`shove`),
//! sure moves against drawn ones (`merge`), one thread against two. `layout` and `page` measure
//! pictures of state graphs. What it stands for: a designer's `fendle explore` on a level near the
//! size that one sitting allows. The counts are checked where they are known.
//!
//! `cargo run --release --features bench --bin fendle-bench` runs all cases; a case and a number of threads run one, `odds NAME`
//! one of the values of chance. Large cases (`slide-3x4`, `shove-73m`) and `native`, which measures how long native code of
//! each library model takes to make, run only when they are named. With `FENDLE_PLAIN` set the interpreter runs the rules.

use std::process::Command;
use std::sync::Arc;
use std::time::Instant;

use fendle_core::knowledge::Knowing;
use fendle_core::numbers::{bytes, grouped};
use fendle_core::odds::{Fractions, odds};
use fendle_core::structure::structure;
use fendle_core::{Limits, NoWatch, explore};
use fendle_lang::code::native::WhenItPays;
use fendle_lang::reasons::exchange::exchange;
use fendle_lang::reasons::keeps::game_of;
use fendle_lang::run::scatter::layouts_by_names;
use fendle_lang::run::setup::worlds_of;
use fendle_lang::syntax::level;
use fendle_lang::{Game, Sources, bind, compile};
use fendle_view::net::{Arrow, Boards, Net, Node, Status, force, layers};
use fendle_view::text::table;
use fendle_view::tiles::{Figure, Paint, Thing};

struct Case {
    name: &'static str,
    model: &'static str,
    level: &'static str,
    past_goals: bool,
    /// States and depth, where they are known from elsewhere.
    known: Option<(u64, u32)>,
    /// Takes a minute, and runs only when it is named.
    large: bool,
}

const SLIDE: &str = include_str!("../../../../models/slide.fendle");
const MERGE: &str = include_str!("../../../../models/merge.fendle");
const SHOVE: &str = include_str!("../../../../models/shove.fendle");
const COIL: &str = include_str!("../../../../models/coil.fendle");
const FALL: &str = include_str!("../../../../models/fall.fendle");
const MATCH: &str = include_str!("../../../../models/match.fendle");
const CLUMP: &str = include_str!("../../../../models/clump.fendle");

/// The library's models with their first levels.
const LIBRARY: &[(&str, &str, &str)] = &[
    ("clump", CLUMP, include_str!("../../../../models/clump.start.toml")),
    ("coil", COIL, include_str!("../../../../models/coil.start.toml")),
    ("fall", FALL, include_str!("../../../../models/fall.start.toml")),
    ("match", MATCH, include_str!("../../../../models/match.start.toml")),
    ("merge", MERGE, include_str!("../../../../models/merge.start.toml")),
    (
        "pairs",
        include_str!("../../../../models/pairs.fendle"),
        include_str!("../../../../models/pairs.start.toml"),
    ),
    ("shove", SHOVE, include_str!("../../../../models/shove.start.toml")),
    ("slide", SLIDE, include_str!("../../../../models/slide.start.toml")),
    (
        "sweep",
        include_str!("../../../../models/sweep.fendle"),
        include_str!("../../../../models/sweep.start.toml"),
    ),
    (
        "wade",
        include_str!("../../../../models/wade.fendle"),
        include_str!("../../../../models/wade.start.toml"),
    ),
];

const CASES: &[Case] = &[
    Case {
        name: "slide-2x5",
        model: SLIDE,
        level: "model = 'slide'\nvalues.target = '''\n1 2 3 4 5\n6 7 8 9 .\n'''\n[[level]]\n",
        past_goals: true,
        known: Some((1_814_400, 55)),
        large: false,
    },
    Case {
        name: "slide-3x4",
        model: SLIDE,
        level: "model = 'slide'\nvalues.target = '''\n1 2 3 4\n5 6 7 8\n9 10 11 .\n'''\n[[level]]\n",
        past_goals: true,
        known: Some((239_500_800, 53)),
        large: true,
    },
    Case {
        name: "shove-73m",
        model: SHOVE,
        level: "model = 'shove'\n[[level]]\nstart.yard = '''\nA......\n.o.o.o.\n.......\n..._...\n.o...o.\n.......\n..._..H\n'''\n",
        past_goals: false,
        known: None,
        large: true,
    },
    Case {
        name: "shove-6m",
        model: SHOVE,
        level: "model = 'shove'\n[[level]]\nstart.yard = '''\nA..H...\n.o.o.o.\n..._..H\n.o_o_..\n..H...w\n'''\n",
        past_goals: false,
        known: None,
        large: false,
    },
    Case {
        name: "coil-12",
        model: COIL,
        level: "model = 'coil'\nvalues = { rings = 12, posts = 3 }\n[[level]]\n",
        past_goals: false,
        known: Some((531_441, 4_095)),
        large: false,
    },
    Case {
        name: "fall-8x4",
        model: FALL,
        level: "model = 'fall'\n[[level]]\nsize = [8, 4]\nvalues.queue = 'knee knee bale pole knee bale pole knee knee'\n",
        past_goals: false,
        known: None,
        large: false,
    },
    Case {
        name: "match-4x4",
        model: MATCH,
        level: "model = 'match'\n[[level]]\nvalues.kinds = 4\nvalues.free = true\nstart.tile = '''\n1213\n2.41\n12.2\n3142\n'''\n",
        past_goals: false,
        known: None,
        large: false,
    },
    Case {
        name: "clump-6x8",
        model: CLUMP,
        level: "model = 'clump'\n[[level]]\nstart.tile = '''\n12123123\n21312312\n12321213\n31213121\n23132312\n13212131\n'''\n",
        past_goals: false,
        known: None,
        large: false,
    },
    Case {
        name: "merge-2x4",
        model: MERGE,
        level: "model = 'merge'\n[[level]]\nvalues = { high = 2, wide = 4, top = 6 }\n",
        past_goals: false,
        known: None,
        large: false,
    },
];

fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with("VmHWM:")).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|n| n.parse::<u64>().ok()).unwrap_or(0) * 1024
}

fn game(case: &Case) -> Game {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("model", case.model);
    let model = Arc::new(compile(file, case.model, &mut errors).expect("a library model compiles"));
    let file = sources.add("level", case.level);
    let levels = level::read(file, case.level, &mut errors).expect("a bench level reads");
    let bound = bind(&model, file, &levels.levels[0], &[], &mut errors).expect("a bench level binds");
    let starts = if bound.drawn {
        fendle_lang::run::setup::all(&bound).expect("a setup that draws").expect("few ways").starts
    } else {
        vec![]
    };
    let mut game = game_of(bound).expect("a bench level fits");
    game.starts = starts;
    if std::env::var_os("FENDLE_PLAIN").is_none() {
        game.native = WhenItPays::by(fendle_native::make);
    }
    game
}

fn run_one(case: &Case, threads: usize) {
    let game = game(case);
    let limits = Limits { threads, memory_bytes: 20 << 30, drop_edges: true, ..Limits::default() };
    let base = peak();
    let began = Instant::now();
    let found = explore(&game, limits, case.past_goals, &NoWatch).expect("the start is sound");
    let seconds = began.elapsed().as_secs_f64();
    let c = &found.counts;
    assert!(c.complete && found.fault.is_none());
    assert_eq!(c.goal + c.lost + c.over + c.stuck + c.dead + c.winnable + c.free, c.states);
    if let Some((states, depth)) = case.known {
        assert_eq!((c.states, c.depth), (states, depth));
    }
    let peak = peak();
    let row = [
        case.name.to_string(),
        threads.to_string(),
        grouped(c.states),
        c.bits_per_state.to_string(),
        grouped(c.transitions),
        grouped(c.depth.into()),
        format!("{seconds:.2}"),
        format!("{:.2}", c.transitions as f64 / seconds / threads as f64 / 1e6),
        format!("{:.1}", peak as f64 / c.states as f64),
        format!("{:.1}", (peak - base) as f64 / c.states as f64),
        bytes(peak),
    ];
    println!("{}", row.join("|"));
}

/// The structure of the `shove` space: how long it takes beside plain exploring, and bytes a state beside the packed state.
fn run_structure(case: &Case) {
    let game = game(case);
    let limits = Limits { threads: 2, memory_bytes: 20 << 30, ..Limits::default() };
    let base = peak();
    let began = Instant::now();
    let found = explore(&game, limits, false, &NoWatch).expect("the start is sound");
    let exploring = began.elapsed().as_secs_f64();
    let explored = peak();
    let began = Instant::now();
    let (s, far) = structure(&game, &found, &limits, &NoWatch).expect("seen whole");
    let seconds = began.elapsed().as_secs_f64();
    let c = &found.counts;
    assert_eq!(s.fatal_by_depth.iter().sum::<u64>(), c.fatal_moves);
    assert_eq!(s.by_distance.iter().sum::<u64>(), c.winnable);
    assert!(found.space.starts().iter().all(|id| far.get(*id) == c.shortest));
    let packed = u64::from(c.bits_per_state.div_ceil(8));
    let beside = |n: u64| format!("{:.1}", (n - base) as f64 / c.states as f64 - packed as f64);
    let row = [
        case.name.to_string(),
        grouped(c.states),
        grouped(c.transitions),
        format!("{exploring:.2}"),
        format!("{seconds:.2}"),
        format!("{:.2}", (exploring + seconds) / exploring),
        beside(explored),
        beside(peak()),
    ];
    println!("{}", row.join("|"));
}

/// Values of chance and of what can be known: a case, its model and level, and the value that the answer must hold: the best
/// chance to win, or the least expected moves.
const ODDS: [(&str, &str, &str, Truth); 3] = [
    (
        "merge-2x3-to-32",
        MERGE,
        "model = 'merge'\n[[level]]\nvalues = { high = 2, wide = 3, top = 5 }\n",
        Truth::States(16_734),
    ),
    (
        "merge-3x3-to-64",
        MERGE,
        "model = 'merge'\n[[level]]\nvalues = { high = 3, wide = 3, top = 6 }\nstart.tile = '''\n2 2 .\n. . .\n. . .\n'''\n",
        Truth::Win(0.999_999_999_999_999_9, 1.0),
    ),
    (
        "pairs-6",
        include_str!("../../../../models/pairs.fendle"),
        "model = 'pairs'\n[[level]]\nvalues.deal = '1 1 2 2 3 3 4 4 5 5 6 6'\n",
        Truth::Moves(63_496.0 / 3_465.0),
    ),
];

/// What is known of a case.
enum Truth {
    States(u64),
    /// The best chance to win lies between these.
    Win(f64, f64),
    Moves(f64),
}

/// Values one case, and measures it in a process of its own.
fn run_odds(name: &str) {
    let (_, model, level, truth) = ODDS.iter().find(|c| c.0 == name).expect("the name of a case");
    let level: &'static str = level;
    let game = game(&Case { name: "", model, level, past_goals: false, known: None, large: false });
    let limits = Limits { threads: 2, memory_bytes: 20 << 30, ..Limits::default() };
    let base = peak();
    let began = Instant::now();
    let found = if game.bound.model.hides() {
        let what = exchange(&game.bound).expect("cells are alike");
        let names = what.names.clone().expect("names");
        let once =
            layouts_by_names(&game.bound, names.var, &names.groups, (1 << 22, &|| false)).expect("few");
        let worlds = worlds_of(&game.bound, once, 1 << 22).expect("a prior").expect("few");
        let packed: Vec<(Vec<u64>, u64)> = worlds.iter().map(|(s, w)| (game.pack(s), *w)).collect();
        let knowing = Knowing::alike(&game, &packed, None, what.of(&game)).expect("worlds");
        odds(&knowing, &limits, Fractions::Never, &NoWatch)
    } else {
        odds(&game, &limits, Fractions::Never, &NoWatch)
    };
    let found = found.expect("sound, and within the limits");
    let seconds = began.elapsed().as_secs_f64();
    let win = found.win.as_ref().map_or((0.0, 1.0), |w| (w.low(), w.high()));
    match truth {
        Truth::States(states) => assert_eq!(found.counts.states, *states),
        Truth::Win(low, high) => assert!(win.0 <= *low && *high <= win.1, "{win:?}"),
        Truth::Moves(n) => {
            let moves = found.moves.as_ref().expect("it is won with probability 1");
            assert!(moves.low() <= n + 1e-9 && n - 1e-9 <= moves.high(), "{moves:?}");
        }
    }
    let row = [
        name.to_string(),
        grouped(found.counts.states),
        format!("{seconds:.2}"),
        bytes(peak() - base),
        format!("{:.3e}", win.1 - win.0),
    ];
    println!("{}", row.join("|"));
}

/// A made-up graph of `n` nodes in rows, each with three arrows: to its neighbour, to the next row, and to one not far away.
fn woven(n: u32) -> Net {
    let wide = f64::from(n).sqrt() as u32;
    let nodes = (0..n).map(|i| Node::plain(String::new(), i / wide, Status::Winnable)).collect();
    let mut seed = 1u32;
    let mut arrows = vec![];
    for i in 0..n {
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        for to in [i + 1, i + wide, i + 2 + seed % (4 * wide)] {
            arrows.push(Arrow { from: i, to: to % n, name: 0, fatal: false });
        }
    }
    Net { title: "woven".into(), nodes, arrows, names: vec!["go".into()], ..Net::default() }
}

/// Layouts by force and in layers: seconds.
fn run_layout(n: u32) {
    let net = woven(n);
    let began = Instant::now();
    let spots = force(&net, 1, 120, &|| false);
    let by_force = began.elapsed().as_secs_f64();
    assert!(spots.len() == n as usize && spots.iter().all(|p| p.0.is_finite() && p.1.is_finite()));
    let began = Instant::now();
    assert_eq!(layers(&net).len(), n as usize);
    let row = [
        grouped(n.into()),
        grouped(net.arrows.len() as u64),
        format!("{by_force:.2}"),
        format!("{:.2}", began.elapsed().as_secs_f64()),
    ];
    println!("{}", row.join("|"));
}

/// The page of a sliding puzzle's whole graph, with its boards: nodes, arrows, size.
fn run_page() {
    let case = Case {
        large: false,
        name: "slide-2x4",
        model: SLIDE,
        level: "model = 'slide'\nvalues.target = '''\n1 2 3 4\n5 6 7 .\n'''\n[[level]]\n",
        past_goals: true,
        known: None,
    };
    let game = game(&case);
    let found = explore(&game, Limits::default(), true, &NoWatch).expect("the start is sound");
    assert_eq!(found.counts.states, 20_160, "half of 8!");
    let space = &found.space;
    let mut number = vec![0u32; space.ids_len()];
    let mut net = Net { title: "slide-2x4".into(), names: vec!["slide".into()], ..Net::default() };
    let mut boards = Boards { rows: 2, cols: 4, ..Boards::default() };
    boards.kinds.push(vec![]);
    boards.kinds.extend((1..8).map(|k| vec![Thing::new(Figure::Slab, Paint::Named(k), k.to_string())]));
    for id in space.ids() {
        number[id.index()] = net.nodes.len() as u32;
        let state = game.unpack(&space.state(id));
        boards.cells.push(state.iter().take(8).map(|v| *v as u16).collect());
        net.nodes.push(Node::plain(game.bound.line(&state), space.depth_of(id), Status::Winnable));
    }
    for d in 0..space.levels_len() {
        space.each_edges(d, |id, edges| {
            let arrow = |to: u32| Arrow { from: number[id.index()], to, name: 0, fatal: false };
            net.arrows.extend(edges.iter().map(|e| arrow(number[e.to.index()])));
        });
    }
    net.boards = Some(boards);
    let spots = layers(&net);
    let began = Instant::now();
    let mut page = vec![];
    let written = fendle_view::page::write_graph(&mut page, "slide-2x4", &[(&net, &spots)], &[]);
    let size = written.map_or(0, |()| page.len());
    let row = [
        grouped(net.nodes.len() as u64),
        grouped(net.arrows.len() as u64),
        bytes(size as u64),
        format!("{:.2}", began.elapsed().as_secs_f64()),
    ];
    println!("{}", row.join("|"));
}

/// How long native code takes to make: operations, milliseconds, bytes.
fn run_native() {
    let library = LIBRARY.iter().map(|(name, model, start)| (*name, *model, start.replace("$MODEL", name)));
    let cases = CASES.iter().map(|c| (c.name, c.model, c.level.to_string()));
    let rows: Vec<Vec<String>> = (library.chain(cases))
        .map(|(name, model, level)| {
            let level = level.leak();
            let game = game(&Case { name, model, level, past_goals: false, known: None, large: false });
            let (bytes, time) = fendle_native::compile(&game.bound, &game.code)
                .and_then(|code| code.make_all(&game.code))
                .expect("this machine makes native code");
            vec![
                name.into(),
                game.code.ops.len().to_string(),
                format!("{:.1}", time.as_secs_f64() * 1e3),
                grouped(bytes as u64),
            ]
        })
        .collect();
    table(&["case", "operations", "ms", "bytes"], &rows).iter().for_each(|line| println!("{line}"));
}

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    if let [name, what] = args.as_slice()
        && what == "structure"
    {
        run_structure(CASES.iter().find(|c| c.name == name).expect("the name of a case"));
        return;
    }
    match args.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["layout"] => return run_layout(100_000),
        ["page"] => return run_page(),
        ["native"] => return run_native(),
        _ => {}
    }
    if let [what, name] = args.as_slice()
        && what == "odds"
    {
        return run_odds(name);
    }
    if let [name, threads] = args.as_slice() {
        let case = CASES.iter().find(|c| c.name == name).expect("the name of a case");
        run_one(case, threads.parse().expect("a number of threads"));
        return;
    }
    let me = std::env::current_exe().expect("this program has a path");
    let mut rows = vec![];
    for case in CASES.iter().filter(|c| !c.large) {
        for threads in ["1", "2"] {
            let out = Command::new(&me).args([case.name, threads]).output().expect("it runs itself");
            let text = String::from_utf8_lossy(&out.stdout);
            assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
            rows.push(text.trim().split('|').map(String::from).collect::<Vec<_>>());
        }
    }
    let head = [
        "case",
        "threads",
        "states",
        "bits",
        "transitions",
        "depth",
        "s",
        "M trans/s/core",
        "B/state, process",
        "B/state, search",
        "peak",
    ];
    for line in table(&head, &rows) {
        println!("{line}");
    }
    let out = Command::new(&me).args(["shove-6m", "structure"]).output().expect("it runs itself");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let text = String::from_utf8_lossy(&out.stdout);
    let rows = [text.trim().split('|').map(String::from).collect::<Vec<_>>()];
    let head = [
        "case",
        "states",
        "transitions",
        "explore s",
        "structure s",
        "both / explore",
        "B/state beside packed, explore",
        "with structure",
    ];
    println!();
    for line in table(&head, &rows) {
        println!("{line}");
    }
    let mut rows = vec![];
    for (name, ..) in ODDS {
        let out = Command::new(&me).args(["odds", name]).output().expect("it runs itself");
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        rows.push(
            String::from_utf8_lossy(&out.stdout).trim().split('|').map(String::from).collect::<Vec<_>>(),
        );
    }
    println!();
    table(&["odds", "states", "s", "memory", "width of the chance"], &rows)
        .iter()
        .for_each(|l| println!("{l}"));
    for (case, head) in [
        ("layout", ["nodes", "arrows", "by force s", "in layers s"]),
        ("page", ["nodes", "arrows", "page", "writing s"]),
    ] {
        let out = Command::new(&me).args([case]).output().expect("it runs itself");
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        let text = String::from_utf8_lossy(&out.stdout);
        println!();
        for line in table(&head, &[text.trim().split('|').map(String::from).collect::<Vec<_>>()]) {
            println!("{line}");
        }
    }
}
