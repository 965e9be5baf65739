//! Looking on: what passes at the ports of a converter or on a line, as messages.
//!
//! The ports leave bytes in a [`Tap`] while somebody looks on; an observer of the port's protocol makes messages of them, a
//! [`Conversation`] pairs requests with answers, and [`Counted`] counts them. Nothing here ever says anything.

mod conversation;
mod conversations;
mod line;
mod remote;
mod tally;

#[cfg(test)]
mod tests;

pub use crate::hub::{Chunk, DatagramPeer, Taken, Tap, Watcher};
pub use conversation::{Conversation, Meaning, Passed};
pub use conversations::{Conversations, Spoken, Where};
pub use line::LineListener;
pub use remote::{Dated, Follow, TapHandler};
pub use tally::{CLASSES, Counted, Times};
