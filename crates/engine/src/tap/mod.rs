//! Looking on: what passes at the ports of a converter or on a line, as messages.
//!
//! The ports leave bytes in a [`Tap`] while somebody looks on; an ear of the port's protocol makes messages of them, a
//! [`Conversation`] pairs requests with answers, and [`Counted`] counts them. Nothing here ever says anything.

mod conversation;
mod hub;
mod tally;

pub use conversation::{Conversation, Passed, What};
pub use hub::{Piece, Taken, Tap, Watcher};
pub use tally::{CLASSES, Counted, Times};
