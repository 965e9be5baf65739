//! The commands of controllers with a data table: what is read and written, by file, element and sub-element, and the
//! statuses that answer. The same on every link; the links are in folders of their own.
//!
//! Words, longs and floats are little-endian.

mod command;
mod place;
mod status;

pub use command::{Command, Set, sets};
pub use place::{Logical, Table};
pub use status::{ext_words, is_for_later, sts_words};

use std::borrow::Cow;

/// STS that says that one more status byte begins the data.
pub const EXTENDED: u8 = 0xF0;
/// The bit of CMD that replies have.
pub const REPLY: u8 = 0x40;
/// CMD of the commands that read and write.
pub const COMMAND: u8 = 0x0F;

/// Data of a good reply; else its STS, and for F0 the EXT STS behind it.
///
/// # Errors
/// The status, with 0 where there is no second one.
pub fn outcome(sts: u8, body: &[u8]) -> Result<&[u8], (u8, u8)> {
    match sts {
        0 => Ok(body),
        EXTENDED => Err((EXTENDED, body.first().copied().unwrap_or_default())),
        sts => Err((sts, 0)),
    }
}

/// What stands behind the header of a reply with that status, the reverse of [`outcome`]: the EXT STS or the data.
#[must_use]
pub fn reply_body((sts, ext): (u8, u8), data: &[u8]) -> Cow<'_, [u8]> {
    if sts == EXTENDED { Cow::Owned(vec![ext]) } else { Cow::Borrowed(data) }
}
