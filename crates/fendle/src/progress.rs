//! Ctrl-C and the progress bar: what stands around a question at a terminal.

use std::io::IsTerminal;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use fendle_ask::budget::Listener;
use fendle_ask::{Budget, End, Surroundings, Wanted};
use fendle_core::Progress;
use fendle_core::numbers::{bytes, grouped};
use indicatif::{ProgressBar, ProgressStyle};

use crate::args::Common;
use crate::memory;

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

/// A bar on the error stream, where that is a terminal.
fn bar(quiet: bool) -> Option<ProgressBar> {
    (std::io::stderr().is_terminal() && !quiet).then(|| {
        let bar = ProgressBar::new_spinner();
        if let Ok(style) = ProgressStyle::with_template("{spinner} {msg}") {
            bar.set_style(style.tick_chars("|/-\\ "));
        }
        bar
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
        let tell = move |p: &Progress, elapsed: Duration| {
            let Ok(mut shown) = shown.try_lock() else { return };
            if shown.elapsed() < Duration::from_millis(100) {
                return;
            }
            *shown = Instant::now();
            let rate = (p.states as f64 / elapsed.as_secs_f64().max(1e-9)) as u64;
            bar.set_message(format!(
                "{} states{}, {} a second, depth {}, {}",
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
    Budget::new(wanted, Surroundings { interrupted: &INTERRUPTED, listener, memory_now: Some(memory::now) })
}
