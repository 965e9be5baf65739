//! DF1: a link of symbols and checked messages (ANSI X3.28, subcategories D1 and F1), full or half duplex, that carries the
//! commands of controllers with a data table (see [`crate::tables`]).
//!
//! A symbol is DLE and one byte; a data byte 10 is doubled. A message is
//! acknowledged by the link before its command is thought about, and answered later by a message of its own.

#[cfg(any(test, feature = "exercise"))]
pub mod exercise;
mod link;
mod message;
#[cfg(test)]
mod vectors;

pub use link::{Check, Heard, Scanner, Symbol, emit_message, emit_poll, emit_to_station};
pub use message::{BODY_MAX, MESSAGE_MAX, MESSAGE_MIN, Message};
