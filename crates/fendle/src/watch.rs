//! The clock, Ctrl-C and the progress bar, behind the trait that searches look at.

use std::io::IsTerminal;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use fendle_core::{Limit, Limits, Progress, Watch};
use fendle_view::text::{bytes, grouped};
use indicatif::{ProgressBar, ProgressStyle};

use crate::args::Common;

static INTERRUPTED: AtomicBool = AtomicBool::new(false);

/// Catches Ctrl-C: the first one asks the search to stop, the second one ends the program.
pub fn catch_interrupts() {
    // A second call in one process finds the handler installed already.
    let _ = ctrlc::set_handler(|| {
        if INTERRUPTED.swap(true, Ordering::SeqCst) {
            std::process::exit(130);
        }
    });
}

/// Watches one search.
pub struct Watcher {
    began: Instant,
    time: Option<Duration>,
    bar: Option<ProgressBar>,
    shown: Mutex<Instant>,
}

impl Watcher {
    /// Begins to watch.
    #[must_use]
    pub fn new(common: &Common) -> Watcher {
        catch_interrupts();
        let bar = (std::io::stderr().is_terminal() && !common.quiet).then(|| {
            let bar = ProgressBar::new_spinner();
            if let Ok(style) = ProgressStyle::with_template("{spinner} {msg}") {
                bar.set_style(style.tick_chars("|/-\\ "));
            }
            bar
        });
        let now = Instant::now();
        Watcher { began: now, time: common.time, bar, shown: Mutex::new(now) }
    }

    /// Seconds since it began.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        self.began.elapsed().as_secs_f64()
    }

    /// Takes the progress bar away.
    pub fn finish(&self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }
}

impl Watch for Watcher {
    fn look(&self, p: &Progress) -> Option<Limit> {
        if INTERRUPTED.load(Ordering::SeqCst) {
            return Some(Limit::Interrupted);
        }
        if let Some(bar) = &self.bar {
            let mut shown = self.shown.lock().expect("nobody panics while showing");
            if shown.elapsed() > Duration::from_millis(100) {
                *shown = Instant::now();
                let rate = (p.states as f64 / self.seconds().max(1e-9)) as u64;
                bar.set_message(format!(
                    "{} states, {} a second, depth {}, {}",
                    grouped(p.states),
                    grouped(rate),
                    p.depth,
                    bytes(p.bytes)
                ));
                bar.tick();
            }
        }
        match self.time {
            Some(most) if self.began.elapsed() > most => Some(Limit::Time),
            _ => None,
        }
    }
}

/// The limits of a search, from the options.
#[must_use]
pub fn limits(common: &Common) -> Limits {
    Limits {
        max_states: common.max_states.unwrap_or(u64::MAX),
        memory_bytes: common.memory,
        threads: common.threads,
        drop_edges: false,
    }
}

/// A limit in words.
#[must_use]
pub fn limit_text(limit: Limit, common: &Common) -> String {
    match limit {
        Limit::MaxStates => {
            format!("the limit of {} states (--max-states)", grouped(common.max_states.unwrap_or(0)))
        }
        Limit::Memory => format!("the memory budget of {} (--memory)", bytes(common.memory)),
        Limit::Time => format!("the time of {:?} (--time)", common.time.unwrap_or_default()),
        Limit::Interrupted => "an interrupt".into(),
        Limit::SetAside => "branches of chance that were set aside past the bound of their cascade".into(),
    }
}

/// The greatest amount of memory that this process has held, in bytes; 0 where it is not known.
#[must_use]
pub fn peak_memory() -> u64 {
    std::fs::read_to_string("/proc/self/status")
        .ok()
        .and_then(|s| {
            let line = s.lines().find(|l| l.starts_with("VmHWM:"))?;
            line.split_whitespace().nth(1)?.parse::<u64>().ok()
        })
        .map_or(0, |kib| kib * 1024)
}

/// How much time and memory something took, for JSON.
#[must_use]
pub fn effort(seconds: f64, states: u64) -> serde_json::Value {
    serde_json::json!({
        "seconds": seconds,
        "states_per_second": if seconds > 0.0 { (states as f64 / seconds) as u64 } else { 0 },
        "peak_memory_bytes": peak_memory(),
    })
}
