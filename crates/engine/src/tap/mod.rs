//! Looking on: what passes at the ports of a converter or on a line, as messages.
//!
//! The ports leave bytes in a [`Tap`] while somebody looks on; an ear of the port's protocol makes messages of them, a
//! [`Conversation`] pairs requests with answers, and [`Counted`] counts them. Nothing here ever says anything.

mod audience;
mod conversation;
mod hub;
mod line;
mod remote;
mod tally;

#[cfg(test)]
mod tests;

pub use audience::{Audience, Spoken, Where};
pub use conversation::{Conversation, Passed, What};
pub use hub::{Piece, Taken, Tap, Watcher};
pub use line::LineListener;
pub use remote::{Dated, Follow, TapDesk};
pub use tally::{CLASSES, Counted, Times};
