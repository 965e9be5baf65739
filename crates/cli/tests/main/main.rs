//! The built program, driven in temporary folders as its users drive it.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::disallowed_methods, missing_docs)]

mod accepting;
mod addresses;
mod asking;
mod assigning;
mod bench;
mod captured;
mod checking;
mod comparing;
mod decoding;
mod enduring;
mod exchanging;
mod explaining;
mod failures;
mod faulting;
mod handing_over;
mod house;
mod importing;
mod looking;
mod naming;
mod proving;
mod readdressing;
mod running;
mod scanning;
mod segment;
mod slots;
mod tapping;
mod terminal;
mod tool;
mod watching;
