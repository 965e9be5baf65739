//! What is decided: the project file as typed data, addresses, forms, the plan and the checks.
//!
//! Pure: same input, same output. No files, no clock, no sockets; the caller brings the texts of the files.
//! Everything here speaks of spaces (linear tables of bits or of elements of N bytes), places in them and
//! transfers between them. What a protocol knows is behind [`protocol::Dialect`].
#![forbid(unsafe_code)]
#![cfg_attr(
    not(test),
    warn(clippy::cast_possible_truncation, clippy::cast_sign_loss, clippy::cast_possible_wrap)
)]

pub mod assign;
pub mod blocks;
pub mod budget;
pub mod cells;
pub mod check;
mod checked;
pub mod compare;
pub mod decode;
#[cfg(any(test, feature = "exercise"))]
pub mod exercise;
pub mod explain;
pub mod finding;
pub mod form;
mod grain;
pub mod handover;
pub mod import;
pub mod ledger;
mod line;
mod line_time;
pub mod names;
mod nearest;
pub mod one_line;
pub mod plan;
pub mod project;
pub mod protocol;
mod quoted;
mod refusal;
pub mod sheet;
pub mod shown;
mod source;
pub mod survey;
mod term;
pub mod trace;
pub mod wanted;

pub use nearest::nearest;
pub use refusal::{Blame, Kind, Refusal};
pub use source::{Position, SourceFile, Sources, Span, Spanned};
