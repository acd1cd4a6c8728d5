//! Ctrl-C and the progress bar: what stands around a question at a terminal.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};

use fendle_ask::bound::TableStore;
use fendle_ask::budget::{Listener, SoFar, Teller};
use fendle_ask::{Budget, End, Surroundings, Wanted};
use fendle_core::Progress;
use fendle_core::numbers::{bytes, grouped};
use indicatif::{ProgressBar, ProgressStyle};

use crate::args::Common;
use crate::memory;
use crate::tables::Folder;

static INTERRUPTED: AtomicBool = AtomicBool::new(false);

/// Catches Ctrl-C: the first one asks the question to stop, the second one ends the program.
fn catch_interrupts() {
    // A second call in one process finds the handler installed already.
    let _ = ctrlc::set_handler(|| {
        if INTERRUPTED.swap(true, Ordering::SeqCst) {
            std::process::exit(End::Interrupted.code().into());
        }
    });
}

/// Whether somebody asked to stop.
pub fn is_interrupted() -> bool {
    INTERRUPTED.load(Ordering::SeqCst)
}

/// The bar of this process.
static BAR: OnceLock<ProgressBar> = OnceLock::new();

/// Takes the bar off the terminal, before results are written. It comes back when there is more to be told.
pub fn clear() {
    if let Some(bar) = BAR.get() {
        bar.finish_and_clear();
    }
}

/// A bar on the error stream, where that is a terminal.
fn bar(quiet: bool) -> Option<&'static ProgressBar> {
    (std::io::stderr().is_terminal() && !quiet).then(|| {
        let bar = ProgressBar::new_spinner();
        if let Ok(style) = ProgressStyle::with_template("{spinner} {msg}") {
            bar.set_style(style.tick_chars("|/-\\ "));
        }
        BAR.get_or_init(|| bar)
    })
}

/// The one budget of a command, begun now.
pub fn budget(common: &Common) -> Budget {
    catch_interrupts();
    memory::set_budget(common.memory);
    let wanted = Wanted {
        max_states: common.max_states,
        memory: common.memory,
        time: common.time,
        threads: common.threads,
        seed: common.seed,
        native: common.executor.maker(),
    };
    let listener = bar(common.quiet).map(|bar| {
        let shown = Mutex::new(Instant::now());
        let tell = move |p: &Progress, elapsed: Duration, so_far: &SoFar| {
            let Ok(mut shown) = shown.try_lock() else { return };
            if shown.elapsed() < Duration::from_millis(100) {
                return;
            }
            *shown = Instant::now();
            if bar.is_finished() {
                bar.reset();
            }
            let rate = (p.states as f64 / elapsed.as_secs_f64().max(1e-9)) as u64;
            let best = so_far.best.map_or(String::new(), |n| format!("a solution of {n} moves, "));
            let least = so_far.least.map_or(String::new(), |n| format!("none below {n}, "));
            let trying = so_far.trying.map_or(String::new(), |t| format!("{t}: "));
            if p.states == 0 {
                bar.set_message(format!("{best}{least}{}", so_far.trying.unwrap_or("preparing")));
                bar.tick();
                return;
            }
            bar.set_message(format!(
                "{best}{least}{trying}{} states{}, {} a second, depth {}, {}",
                grouped(p.states),
                p.numbers
                    .map_or(String::new(), |n| format!(" ({} % of the numbers)", p.states * 100 / n.max(1))),
                grouped(rate),
                p.depth,
                bytes(p.bytes)
            ));
            bar.tick();
        };
        Box::new(tell) as Listener
    });
    let teller = common.verbose.then(|| Box::new(|words: &str| eprintln!("{words}")) as Teller);
    let tables = Folder::of_user().filter(|_| !common.no_cache).map(|f| Box::new(f) as Box<dyn TableStore>);
    let around =
        Surroundings { interrupted: &INTERRUPTED, listener, memory_now: Some(memory::now), tables, teller };
    Budget::new(wanted, around)
}
