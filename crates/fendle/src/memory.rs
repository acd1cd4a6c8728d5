//! The allocator of this program: the system's, with a count of what is held.
//!
//! A question asks the count and stops in time when its budget is used up. Two ends are left to the allocator itself, since
//! Rust ends a program without words there: when the system gives no more memory, and when the budget is passed by a quarter
//! between two looks. Both say so and end with "undecided".

use std::alloc::{GlobalAlloc, Layout, System};
use std::io::Write as _;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::Instant;

use fendle_ask::End;

/// Counts what the system's allocator gives.
pub struct Counting;

static LIVE: AtomicU64 = AtomicU64::new(0);
static PEAK: AtomicU64 = AtomicU64::new(0);
static CEILING: AtomicU64 = AtomicU64::new(u64::MAX);
/// What the program is itself, as far as that counts.
static OWN: AtomicU64 = AtomicU64::new(0);
static BUDGET: AtomicU64 = AtomicU64::new(u64::MAX);
/// When a budget was set, and after how many milliseconds it was looked for freed memory last.
static BEGAN: OnceLock<Instant> = OnceLock::new();
static LOOKED: AtomicU64 = AtomicU64::new(0);
/// What the process held beside what was allocated when it gave freed memory back last, or less at a look since then; and when a budget was set.
static KEPT: AtomicU64 = AtomicU64::new(0);
static KEPT_AT_FIRST: AtomicU64 = AtomicU64::new(0);
/// Milliseconds between two looks for freed memory.
const LOOK_MS: u64 = 20;
/// The part of the budget that is worth giving back.
const WORTH_SHARE: u64 = 16;

/// Says why, and ends the program: nothing can be unwound where an allocation fails.
fn end(words: &[u8]) -> ! {
    // Neither allocates: the error stream has no buffer.
    let _ = std::io::stderr().write_all(words);
    std::process::exit(End::Undecided.code().into())
}

fn took(size: usize) {
    let now = LIVE.fetch_add(size as u64, Relaxed) + size as u64;
    if now > PEAK.load(Relaxed) {
        PEAK.store(now, Relaxed);
        if now > CEILING.load(Relaxed) {
            CEILING.store(u64::MAX, Relaxed);
            end(b"fendle: undecided: the memory budget (--memory) is used up; --memory gives more\n");
        }
    }
}

fn gave_back(size: usize) {
    LIVE.fetch_sub(size as u64, Relaxed);
}

fn given(at: *mut u8) -> *mut u8 {
    if at.is_null() {
        end(b"fendle: undecided: the system gives no more memory, less than --memory allows; --memory with a smaller size ends with a partial answer\n");
    }
    at
}

// SAFETY: every call is passed on to the system's allocator with the arguments it came with, and its pointer is returned as it
// is; the counters are atomics and allocate nothing.
#[allow(unsafe_code)]
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        took(layout.size());
        // SAFETY: the caller's promises about `layout` are those that `System` asks for.
        given(unsafe { System.alloc(layout) })
    }

    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        took(layout.size());
        // SAFETY: as above.
        given(unsafe { System.alloc_zeroed(layout) })
    }

    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        gave_back(layout.size());
        // SAFETY: `at` came from `System` with this layout, since every allocation does.
        unsafe { System.dealloc(at, layout) }
    }

    unsafe fn realloc(&self, at: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        // What is large gets another place without being copied, so that there are never two of it.
        if size > layout.size() {
            took(size - layout.size());
        } else {
            gave_back(layout.size() - size);
        }
        // SAFETY: as above; `size` is the caller's promise.
        given(unsafe { System.realloc(at, layout, size) })
    }
}

/// Bytes that the program holds now: what was allocated, and what it is itself. A question asks this again and again; now and then it is looked whether much
/// was freed that the system did not get back.
pub fn now() -> u64 {
    let live = LIVE.load(Relaxed);
    if let Some(began) = BEGAN.get() {
        let now = began.elapsed().as_millis() as u64;
        let last = LOOKED.load(Relaxed);
        // One thread of those that see it at once.
        if now >= last + LOOK_MS && LOOKED.compare_exchange(last, now, Relaxed, Relaxed).is_ok() {
            look_for_freed(live);
        }
    }
    // What lies between pieces that are in use cannot be given back, but may be taken for new ones.
    live + OWN.load(Relaxed) + KEPT.load(Relaxed).saturating_sub(KEPT_AT_FIRST.load(Relaxed))
}

/// Gives back what was freed where that is a good part of the budget, beside what cannot be given back.
fn look_for_freed(live: u64) {
    let worth = BUDGET.load(Relaxed) / WORTH_SHARE;
    let mut now = resident().saturating_sub(live);
    let before = KEPT.load(Relaxed);
    if now > before.saturating_add(worth) {
        give_back();
        now = resident().saturating_sub(live);
    } else if now >= before {
        return;
    }
    KEPT.store(now, Relaxed);
}

/// Gives the pages that were freed back to the system. Its allocator keeps what was freed in small pieces and takes large ones from the system anew, so that
/// a process that frees one table for another of pieces of a different size would hold both.
fn give_back() {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    // SAFETY: the call has no conditions: it may come from any thread at any time, and touches nothing that is allocated.
    #[allow(unsafe_code)]
    unsafe {
        libc::malloc_trim(0);
    }
}

/// Lets the budget of a question count: past a quarter more than it the program ends.
pub fn set_budget(bytes: u64) {
    // What the program is itself, its code and its stacks: some more of it is touched as it goes on.
    let own = resident().saturating_sub(LIVE.load(Relaxed)) + (4 << 20);
    KEPT.store(own, Relaxed);
    KEPT_AT_FIRST.store(own, Relaxed);
    // A budget smaller than that counts for what is allocated, or nothing could be asked at all.
    OWN.store(own.min(bytes / 4), Relaxed);
    BUDGET.store(bytes, Relaxed);
    BEGAN.get_or_init(Instant::now);
    CEILING.store(bytes.saturating_add(bytes / 4).saturating_add(16 << 20), Relaxed);
}

/// A field of the operating system's account of this process, in bytes; 0 where it gives none.
fn account(field: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with(field)).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|n| n.parse::<u64>().ok()).unwrap_or(0) * 1024
}

fn resident() -> u64 {
    account("VmRSS:")
}

/// The greatest amount of memory that this process has held, in bytes; 0 where it is not known.
pub fn peak() -> u64 {
    account("VmHWM:")
}
