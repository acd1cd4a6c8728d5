//! The allocator of this program: the system's, with a count of what is held.
//!
//! A question asks the count and stops in time when its budget is used up. Two ends are left to the allocator itself, since
//! Rust ends a program without words there: when the system gives no more memory, and when the budget is passed by a quarter
//! between two looks. Both say so and end with "undecided".

use std::alloc::{GlobalAlloc, Layout, System};
use std::io::Write as _;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

use fendle_ask::End;

/// Counts what the system's allocator gives.
pub struct Counting;

static LIVE: AtomicU64 = AtomicU64::new(0);
static PEAK: AtomicU64 = AtomicU64::new(0);
static CEILING: AtomicU64 = AtomicU64::new(u64::MAX);
static BESIDE: AtomicU64 = AtomicU64::new(0);

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
        took(size);
        gave_back(layout.size());
        // SAFETY: as above; `size` is the caller's promise.
        given(unsafe { System.realloc(at, layout, size) })
    }
}

/// Bytes that the program holds now: what was allocated, and what it is itself.
pub fn now() -> u64 {
    LIVE.load(Relaxed) + BESIDE.load(Relaxed)
}

/// Lets the budget of a question count: past a quarter more than it the program ends.
pub fn set_budget(bytes: u64) {
    // What the program is itself, its code and its stacks: some more of it is touched as it goes on.
    let own = resident().saturating_sub(LIVE.load(Relaxed)) + (4 << 20);
    // A budget smaller than that counts for what is allocated, or nothing could be asked at all.
    BESIDE.store(own.min(bytes / 4), Relaxed);
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
