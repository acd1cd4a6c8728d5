//! Plays seeded boards of hidden rocks from a safe corner, by what is certain and else by the least risk, and
//! measures the analyses: how often that wins, with a 95 % interval, and how long an analysis takes.
//!
//! An *analysis* is everything between two looks at the board: reading the new numbers as clues, exact chances of all
//! cells, and which moves are safe or risk least. Making the moves, which is the game's own work, is not in it. What it stands for: a designer who has a
//! pack of boards judged, and a game that gives hints while it is played.
//!
//! `cargo run --release --features bench --bin fendle-reef` plays all sizes; `fendle-reef ROWS COLS ROCKS BOARDS` one of them.

use std::sync::Arc;
use std::time::Instant;

use fendle_core::numbers::grouped;
use fendle_core::simulate::share_interval;
use fendle_lang::code::native::WhenItPays;
use fendle_lang::known::Foresight;
use fendle_lang::known::player::{Player, risk_of};
use fendle_lang::model::{EndKind, Model};
use fendle_lang::play::{MoveTable, Tried, step};
use fendle_lang::reasons::keeps::game_of;
use fendle_lang::run::scatter;
use fendle_lang::run::setup::{Dice, sample};
use fendle_lang::syntax::level;
use fendle_lang::{Bound, Game, Sources, bind, compile};
use fendle_view::text::table;
use rayon::prelude::*;

const SWEEP: &str = include_str!("../../../../models/sweep.fendle");

/// What one play gave.
struct Played {
    won: bool,
    /// Seconds of each analysis.
    analyses: Vec<f64>,
    /// Seconds of making moves: what the game itself does.
    moving: f64,
    guesses: u64,
    /// Seconds of each guess that looked ahead.
    looking: Vec<f64>,
}

fn board(model: &Arc<Model>, rows: usize, cols: usize, rocks: usize) -> Bound {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let text = format!(
        "model = 'm'\n[[level]]\nsize = [{rows}, {cols}]\nvalues = {{ rocks = {rocks}, shown = 'r1c1' }}\n"
    );
    let file = sources.add("level", text.as_str());
    let levels = level::read(file, &text, &mut errors).expect("a level reads");
    bind(model, file, &levels.levels[0], &[], &mut errors).expect("a level binds")
}

fn play(game: &Game, moves: &MoveTable, seed: u64, ahead: bool) -> Played {
    let mut b = game.bound.clone();
    b.start = scatter::scatter(&b, &mut Dice::new(seed)).expect("a layout");
    b.position = sample(&b, seed).expect("a start").state;
    let start = b.position.clone();
    let mut out = Played { won: false, analyses: vec![], moving: 0.0, guesses: 0, looking: vec![] };
    let mut player = Player::new(&b, moves, &[]).expect("counts").with_game(game);
    let mut now = start;
    loop {
        let began = Instant::now();
        player.look(now).expect("counts");
        let found = player.infer().expect("the truth agrees");
        let mut list = player.safe_moves(&found).expect("no fault");
        if list.is_empty() {
            let mut best: Option<(f64, usize)> = None;
            for (m, ways) in player.ways(&player.state).expect("no fault") {
                let ways = ways.expect("one cell decides");
                let risk = risk_of(&player.known.system, &found, &ways).expect("an answer").number();
                if best.is_none_or(|b| risk < b.0) {
                    best = Some((risk, m));
                }
            }
            list.extend(best.map(|b| b.1));
            out.guesses += 1;
        }
        out.analyses.push(began.elapsed().as_secs_f64());
        if ahead && player.safe_moves(&found).expect("no fault").is_empty() {
            let began = Instant::now();
            let guess = player.guess_ahead(&found, Foresight::default()).expect("an answer");
            list = guess.map(|g| g.of).into_iter().collect();
            out.looking.push(began.elapsed().as_secs_f64());
        }
        let began = Instant::now();
        now = player.state.clone();
        for m in list {
            // A safe cell may be open by now.
            let Tried::Made(made) = step(&b, moves, &now, m, false).expect("no fault") else { continue };
            let [played] = made.as_slice() else { unreachable!("nothing is drawn") };
            now.clone_from(&played.made.state);
            if let Some(end) = played.ended {
                out.won = b.model.endings[end].kind == EndKind::Goal;
                return out;
            }
        }
        out.moving += began.elapsed().as_secs_f64();
    }
}

/// A row for the least risk, and one for looking ahead, on the same boards.
fn rows(model: &Arc<Model>, rows: usize, cols: usize, rocks: usize, boards: u64) -> [Vec<String>; 2] {
    let b = board(model, rows, cols, rocks);
    let moves = MoveTable::new(&b).expect("few moves");
    let mut game = game_of(b).expect("a bench level fits");
    game.native = WhenItPays::by(fendle_native::make);
    let play_all = |ahead: bool| -> Vec<Played> {
        (0..boards).into_par_iter().map(|seed| play(&game, &moves, seed, ahead)).collect()
    };
    let (plain, ahead) = (play_all(false), play_all(true));
    let row = |plays: &[Played], how: &str, beside: String| {
        let won = plays.iter().filter(|p| p.won).count() as u64;
        let times: Vec<f64> = plays.iter().flat_map(|p| p.analyses.iter().copied()).collect();
        let looking: Vec<f64> = plays.iter().flat_map(|p| p.looking.iter().copied()).collect();
        let (lo, hi) = share_interval(won, boards);
        let mean = |t: &[f64]| 1e3 * t.iter().sum::<f64>() / t.len().max(1) as f64;
        let worst = |t: &[f64]| 1e3 * t.iter().copied().fold(0.0, f64::max);
        let all = |p: &Played| p.moving + p.analyses.iter().chain(&p.looking).sum::<f64>();
        vec![
            format!("{rows}x{cols}, {rocks}"),
            how.to_string(),
            grouped(boards),
            format!("{:.1} %", 100.0 * won as f64 / boards.max(1) as f64),
            format!("{:.1} to {:.1} %", 100.0 * lo, 100.0 * hi),
            beside,
            grouped(times.len() as u64),
            format!("{:.2}", mean(&times)),
            format!("{:.1}", worst(&times)),
            format!("{:.1}", plays.iter().map(|p| p.guesses).sum::<u64>() as f64 / boards.max(1) as f64),
            if looking.is_empty() {
                "-".into()
            } else {
                format!("{:.0}, {:.0}", mean(&looking), worst(&looking))
            },
            format!("{:.1}", plays.iter().map(all).sum::<f64>()),
        ]
    };
    // The difference on the same boards, with its 95 % interval.
    let steps = plain.iter().zip(&ahead).map(|(p, a)| f64::from(i8::from(a.won) - i8::from(p.won)));
    let steps: Vec<f64> = steps.collect();
    let n = boards.max(1) as f64;
    let mean = steps.iter().sum::<f64>() / n;
    let spread = (steps.iter().map(|s| (s - mean).powi(2)).sum::<f64>() / n).sqrt();
    let half = 1.96 * spread / n.sqrt();
    let beside = format!("{:+.1} ({:+.1} to {:+.1})", 1e2 * mean, 1e2 * (mean - half), 1e2 * (mean + half));
    [row(&plain, "least risk", String::new()), row(&ahead, "ahead", beside)]
}

fn main() {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("sweep", SWEEP);
    let model = Arc::new(compile(file, SWEEP, &mut errors).expect("a library model compiles"));
    let args: Vec<u64> = std::env::args().skip(1).filter_map(|a| a.parse().ok()).collect();
    let sizes: Vec<(usize, usize, usize, u64)> = match args.as_slice() {
        [r, c, n, boards] => vec![(*r as usize, *c as usize, *n as usize, *boards)],
        _ => vec![(9, 9, 10, 1000), (16, 16, 40, 1000), (16, 30, 99, 1000)],
    };
    let rows: Vec<Vec<String>> =
        sizes.into_iter().flat_map(|(r, c, n, boards)| rows(&model, r, c, n, boards)).collect();
    let head = [
        "board, rocks",
        "guesses by",
        "plays",
        "won",
        "95 % interval",
        "difference, %",
        "analyses",
        "mean ms",
        "worst ms",
        "guesses a play",
        "looking ahead, mean and worst ms",
        "s of one core",
    ];
    for line in table(&head, &rows) {
        println!("{line}");
    }
}
