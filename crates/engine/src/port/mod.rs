//! The loops around the machines: they read clocks and bytes and decide nothing.

mod rs485;
pub(crate) mod serial;
pub(crate) mod tty;

pub(crate) use serial::{LineThread, spawn_line};
