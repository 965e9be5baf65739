//! What waits: ports, the converter, simulated devices and clients, the proof.
//!
//! Decisions are state machines without clock or socket: commands are verbs, news comes by `handle`, `poll(now)` says
//! what to do next, and calling it early or often changes nothing. The loops around them, in [`port`] and
//! [`converter`], read clocks and bytes and decide nothing. A serial line is one OS thread; sockets are tasks.
#![deny(unsafe_code)]

mod admission;
pub mod bench;
pub mod capture;
pub mod control;
pub mod converter;
mod descriptors;
mod dialer;
mod dice;
pub mod direct;
#[cfg(any(test, feature = "exercise"))]
pub mod exercise;
pub mod health;
mod hex;
mod hub;
pub mod image;
pub mod keyboard;
pub mod line;
mod memory;
mod moment;
pub mod monitor;
mod net;
mod plain_file;
pub mod port;
pub mod prove;
mod put_file;
pub mod readdress;
pub mod rig;
pub mod scan;
pub mod session;
pub mod shared;
pub mod speak;
pub mod stop;
pub mod tap;

pub use descriptors::{descriptor_limit, raise_descriptor_limit};
pub use dialer::{Dialer, Evidence};
pub use hex::{bytes_of_hex, mac_shown};
pub use memory::give_memory_back;
pub use moment::Moment;
pub use plain_file::{PLAIN_MAX, read_plain, read_plain_bytes};
pub use put_file::{ReadyFile, followed, put_file};
