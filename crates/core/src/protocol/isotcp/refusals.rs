//! Error numbers of FETCH and WRITE: what they mean and how people write them.

use crate::protocol::refusals::{self, LastErrors, Refusals};
use woodrush_wire::isotcp::fetch;

/// The error numbers of controllers with data blocks.
pub(super) static REFUSALS: Refusals = Refusals {
    name: "block error",
    shown: |code| format!("block error {code} (0x{code:02X})"),
    words,
    more,
    parse,
    codes: &CODES,
    too_long: &[3],
    health: LastErrors {
        from: 1024,
        shown: |code| 1024 + code,
        code: |shown| shown.checked_sub(1024).filter(|code| *code < 256),
    },
    lost: "error 255 (0xFF)",
};

/// The meaning in the standard's words, and the likely cause.
fn words(code: u32) -> (&'static str, &'static str) {
    let error = u8::try_from(code).unwrap_or(1);
    let cause = match error {
        2 => "the controller's program has no such block: look at the number, or have it made",
        3 => "start and length go past the end of the block or area: have it made longer",
        0xFF => {
            "the controller refuses: the area is protected, the connection set up for the other direction, or the mode wrong"
        }
        _ => "look at the controller's manual",
    };
    (fetch::error_words(error), cause)
}

/// What else there is to say of an error number.
const fn more(code: u32) -> Option<&'static str> {
    match code {
        3 => Some(
            "Where a poll is answered so, Woodrush asks for half as much, down to single values, because some controllers mean that the request is too long.",
        ),
        _ => None,
    }
}

/// An error number as people write it: `block error 3`, `error 3`.
fn parse(word: &str) -> Option<u32> {
    let word = word.split(" (").next().unwrap_or(word);
    let number = word.strip_prefix("block error ").or_else(|| word.strip_prefix("error "))?;
    refusals::number(number)
}

/// The numbers that have words.
const CODES: [u32; 3] = [2, 3, 255];
