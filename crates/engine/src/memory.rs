//! Memory that reading a large project has left behind.

/// Gives free memory back to the system, where the allocator keeps it for itself.
pub fn give_memory_back() {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    #[allow(unsafe_code, reason = "the allocator's own call to return free pages; std has none")]
    // SAFETY: malloc_trim takes no pointer and may be called at any time from any thread.
    unsafe {
        libc::malloc_trim(0);
    }
}
