//! A rule, and what it says of when values come, what a reader gets once they are lost, and when a device is written.

use super::AreaUse;
use crate::form::Overflow;
use crate::source::{Span, Spanned};
use std::fmt;

/// How a device's values come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Polling {
    /// They are asked for so often, in microseconds.
    Every(u64),
    /// They come by themselves.
    Published,
}

impl Polling {
    /// How often they are asked for, in microseconds; `None` where they come by themselves.
    #[must_use]
    pub const fn every(self) -> Option<u64> {
        match self {
            Self::Every(every) => Some(every),
            Self::Published => None,
        }
    }
}

/// What a reader gets once a value's source is lost.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnLoss {
    /// A refusal.
    #[default]
    Refuse,
    /// The last value; a refusal while there has been none.
    Hold,
    /// One word repeated, 0 or 1 for bits; a device gets it once.
    Fill(u16),
    /// Towards a device: nothing is sent any more.
    Stop,
}

/// As it is written.
impl fmt::Display for OnLoss {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Refuse => f.write_str("refuse"),
            Self::Hold => f.write_str("hold"),
            Self::Stop => f.write_str("stop"),
            Self::Fill(word) => write!(f, "fill 0x{word:04X}"),
        }
    }
}

/// When a device is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Sending {
    /// At each write of a client, also when the value is the same.
    pub on_write: bool,
    /// When the value differs from what was sent last.
    pub on_change: bool,
    /// Again and again, in microseconds.
    pub every: Option<u64>,
}

impl Sending {
    /// Whether the device shall hold the rule's value, not only hear of it when a client writes.
    #[must_use]
    pub const fn keeps(&self) -> bool {
        self.on_change || self.every.is_some()
    }
}

/// A rule: data flows from `from` to `to`.
#[derive(Debug, Clone)]
pub struct Map {
    /// The whole rule's place: its header.
    pub span: Span,
    /// A name for messages and reports.
    pub name: Option<Spanned<String>>,
    /// Source, as written.
    pub from: Spanned<String>,
    /// Target, as written.
    pub to: Spanned<String>,
    /// Values in a row.
    pub count: Option<Spanned<u32>>,
    /// `false` keeps it in the file and out of work.
    pub enabled: bool,
    /// Whether a write on the `to` side goes back to `from`.
    pub read_write: Option<Span>,
    /// Overrides the device's poll.
    pub poll: Option<Spanned<Polling>>,
    /// Overrides the image's.
    pub on_loss: Option<Spanned<OnLoss>>,
    /// What becomes of a value that does not fit.
    pub overflow: Overflow,
    /// A client's write is answered when the device has answered.
    pub after_device: bool,
    /// When a device is written, if the rule says so.
    pub send: Option<Box<Spanned<Sending>>>,
    /// The rules with which it comes from one poll.
    pub together: Option<Box<Spanned<String>>>,
    /// The area that its address is out of.
    pub area: Option<Box<AreaUse>>,
    /// A remark for people.
    pub note: Option<Box<str>>,
}

impl Map {
    /// A rule that says nothing but its two ends.
    pub(crate) const fn plain(span: Span, from: Spanned<String>, to: Spanned<String>) -> Self {
        Self {
            span,
            name: None,
            from,
            to,
            count: None,
            enabled: true,
            read_write: None,
            poll: None,
            on_loss: None,
            overflow: Overflow::Refuse,
            after_device: true,
            send: None,
            together: None,
            area: None,
            note: None,
        }
    }
}
