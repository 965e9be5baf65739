//! An allocator that counts, for benches that hold allocations or the heap against a limit.

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

/// The system's allocator, with counts.
pub struct Counting;

static COUNT: AtomicU64 = AtomicU64::new(0);
static HELD: AtomicU64 = AtomicU64::new(0);
static PEAK: AtomicU64 = AtomicU64::new(0);

/// Allocations so far.
#[must_use]
pub fn allocations() -> u64 {
    COUNT.load(Relaxed)
}

/// Bytes that are held now.
#[must_use]
pub fn held() -> u64 {
    HELD.load(Relaxed)
}

/// The most bytes that are held at one time while `work` runs.
pub fn peak_of(work: impl FnOnce()) -> u64 {
    PEAK.store(held(), Relaxed);
    work();
    PEAK.load(Relaxed)
}

fn taken(bytes: usize) {
    let now = HELD.fetch_add(bytes as u64, Relaxed) + bytes as u64;
    PEAK.fetch_max(now, Relaxed);
}

fn given_back(bytes: usize) {
    HELD.fetch_sub(bytes as u64, Relaxed);
}

// SAFETY: every call goes to the system's allocator unchanged; only counters are added.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        COUNT.fetch_add(1, Relaxed);
        taken(layout.size());
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        given_back(layout.size());
        unsafe { System.dealloc(pointer, layout) }
    }

    unsafe fn realloc(&self, pointer: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        COUNT.fetch_add(1, Relaxed);
        taken(size);
        given_back(layout.size());
        unsafe { System.realloc(pointer, layout, size) }
    }
}
