//! How many files, sockets and lines this process may have open.

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

/// The most that this user may raise the limit to; `None` where there is none.
#[must_use]
pub fn descriptor_limit() -> Option<u64> {
    getrlimit(Resource::Nofile).maximum
}

/// Raises the limit of this process to the most that its user may have.
pub fn raise_descriptor_limit() {
    let Rlimit { maximum, .. } = getrlimit(Resource::Nofile);
    // Where it cannot be raised the old one holds, and a pause in accepting is told.
    let _ = setrlimit(Resource::Nofile, Rlimit { current: maximum, maximum });
}
