//! The loops around the machines: they read clocks and bytes and decide nothing.

mod driver;
pub(crate) mod echo;
pub(crate) mod pipe;
mod rs485;
pub(crate) mod tty;
pub(crate) mod wait;
mod way;

pub(crate) use driver::{Begin, LineThread, spawn};
pub(crate) use way::{Open, Way};
