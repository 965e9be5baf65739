//! An allocator that counts, for benches that hold allocations against a limit.

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

/// The system's allocator, with a count.
pub struct Counting;

static COUNT: AtomicU64 = AtomicU64::new(0);

/// Allocations so far.
#[must_use]
pub fn allocations() -> u64 {
    COUNT.load(Relaxed)
}

// SAFETY: every call goes to the system's allocator unchanged; only a counter is added.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        COUNT.fetch_add(1, Relaxed);
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        unsafe { System.dealloc(pointer, layout) }
    }

    unsafe fn realloc(&self, pointer: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        COUNT.fetch_add(1, Relaxed);
        unsafe { System.realloc(pointer, layout, size) }
    }
}
