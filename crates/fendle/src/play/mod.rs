//! A level that is played by hand: in the terminal, or by keys that are given.
//!
//! ```text
//! keys      names of keys, and which keys make which moves
//! app       what a key does: moves, taking back, lists, hints. Knows no terminal
//! screen    what is shown, as a picture of characters
//! ```
//!
//! The terminal itself (raw mode, events) is in this file alone.

pub mod app;
pub mod keys;
pub mod screen;

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc;
use std::time::Duration;

use fendle_ask::budget::{Surroundings, Wanted};
use fendle_ask::light::{Judge, Light};
use fendle_ask::{Budget, Loaded};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{self, Event, KeyEventKind};

use app::{App, Wish};
use keys::Key;

/// Columns and rows of a screen that no terminal gives.
const SIZE: (u16, u16) = (96, 30);
/// How long one position is looked at while somebody plays.
const LOOK: Duration = Duration::from_secs(20);

/// Answers what the program that plays does not know by itself.
pub trait Asks {
    /// The risk of each cell where things are hidden, as lines.
    fn risk(&mut self, level: &Loaded) -> Vec<String>;
}

/// Plays by keys; gives the last screen as lines.
pub fn by_keys(app: &mut App<'_>, keys: &[Key], asks: &mut dyn Asks, budget: &Budget) -> Vec<String> {
    let mut judge = Judge::new(app.playing.level(), budget);
    let mut tell = |app: &mut App<'_>| {
        for state in app.playing.states() {
            if !app.knows(&state) {
                let light = judge.says(&state, budget);
                app.take_light(state, light);
            }
        }
    };
    for key in keys {
        if app.wants_light(*key) {
            tell(app);
        }
        match app.key(*key) {
            Wish::Leave => break,
            Wish::Risk => {
                let lines = asks.risk(&app.playing.here());
                app.show(lines);
            }
            Wish::Nothing => {}
        }
    }
    tell(app);
    let mut terminal = Terminal::new(TestBackend::new(SIZE.0, SIZE.1)).expect("a screen in memory");
    terminal.draw(|frame| screen::draw(app, frame)).expect("a screen in memory");
    let buffer = terminal.backend().buffer();
    let row = |y: u16| {
        let cells = (0..SIZE.0).map(|x| buffer[(x, y)].symbol());
        cells.collect::<String>().trim_end().to_string()
    };
    let mut lines: Vec<String> = (0..SIZE.1).map(row).collect();
    // Where a terminal is empty, one empty line is enough.
    lines.dedup_by(|a, b| a.is_empty() && b.is_empty());
    lines
}

/// Set when the position that is looked at is no longer the one that is played.
static STOP: AtomicBool = AtomicBool::new(false);

/// Plays in the terminal until whoever plays leaves.
///
/// # Errors
///
/// Where the terminal cannot be used.
pub fn in_terminal(app: &mut App<'_>, asks: &mut dyn Asks, wanted: Wanted) -> std::io::Result<()> {
    let mut terminal = ratatui::try_init()?;
    let ended = std::thread::scope(|scope| {
        let (ask, asked) = mpsc::channel::<Vec<i32>>();
        let (tell, told) = mpsc::channel::<(Vec<i32>, Light)>();
        let level = app.playing.level();
        scope.spawn(move || look(level, wanted, &asked, &tell));
        let ended = events(app, &mut terminal, asks, &ask, &told);
        STOP.store(true, Ordering::Relaxed);
        drop(ask);
        ended
    });
    ratatui::restore();
    ended
}

/// Says of positions whether they can be won, the newest one first, until nobody asks any more.
fn look(
    level: &Loaded,
    wanted: Wanted,
    asked: &mpsc::Receiver<Vec<i32>>,
    tell: &mpsc::Sender<(Vec<i32>, Light)>,
) {
    let budget = |time| {
        let around = Surroundings { interrupted: &STOP, ..Surroundings::default() };
        Budget::new(Wanted { time: Some(time), ..wanted }, around)
    };
    // The whole space may take longer than one position; it is given up when somebody leaves.
    let mut judge = Judge::new(level, &budget(3 * LOOK));
    while let Ok(mut state) = asked.recv() {
        while let Ok(newer) = asked.try_recv() {
            state = newer;
        }
        STOP.store(false, Ordering::Relaxed);
        let light = judge.says(&state, &budget(LOOK));
        // What was given up half-way is no answer; it is asked again when play comes back there.
        if STOP.load(Ordering::Relaxed) && matches!(light, Light::NotKnown(_)) {
            continue;
        }
        if tell.send((state, light)).is_err() {
            return;
        }
    }
}

fn events(
    app: &mut App<'_>,
    terminal: &mut ratatui::DefaultTerminal,
    asks: &mut dyn Asks,
    ask: &mpsc::Sender<Vec<i32>>,
    told: &mpsc::Receiver<(Vec<i32>, Light)>,
) -> std::io::Result<()> {
    let mut waits_for: Option<Vec<i32>> = None;
    loop {
        while let Ok((state, light)) = told.try_recv() {
            if waits_for.as_ref() == Some(&state) {
                waits_for = None;
            }
            app.take_light(state, light);
        }
        let here = app.playing.state();
        if !app.knows(here) && waits_for.as_deref() != Some(here) {
            // The first question waits until the judge is ready, and must not stop it.
            if waits_for.is_some() && app.knows_any() {
                STOP.store(true, Ordering::Relaxed);
            }
            waits_for = Some(here.to_vec());
            let _ = ask.send(here.to_vec());
        }
        terminal.draw(|frame| screen::draw(app, frame))?;
        if !event::poll(Duration::from_millis(80))? {
            continue;
        }
        let Event::Key(pressed) = event::read()? else { continue };
        if pressed.kind == KeyEventKind::Release {
            continue;
        }
        let Some(key) = keys::of_event(pressed) else { continue };
        match app.key(key) {
            Wish::Leave => return Ok(()),
            Wish::Risk => {
                let lines = asks.risk(&app.playing.here());
                app.show(lines);
            }
            Wish::Nothing => {}
        }
    }
}
