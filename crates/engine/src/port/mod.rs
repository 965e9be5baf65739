//! The loops around the machines: they read clocks and bytes and decide nothing.

mod driver;
pub(crate) mod echo;
mod opened;
pub(crate) mod pipe;
mod rs485;
pub(crate) mod tty;
pub(crate) mod wait;

mod way;
pub(crate) mod worker;

pub(crate) use driver::{can_drive, drive};
pub(crate) use opened::{Begin, OpenedPort};
pub(crate) use way::Way;
