//! Statuses of controllers with a data table: what they mean and how people write them.

use crate::protocol::refusals::{LastErrors, Refusals};
use woodrush_wire::tables::{ext_words, sts_words};

/// STS, and 256 and the EXT STS.
pub(crate) static REFUSALS: Refusals = Refusals {
    name: "data table status",
    shown: |code| match code.checked_sub(256) {
        None => format!("STS 0x{code:02X}"),
        Some(ext) => format!("EXT STS 0x{ext:02X}"),
    },
    words,
    more,
    parse,
    codes: &CODES,
    // The file too small, the data too large, or both together.
    too_long: &[0x10, 0x107, 0x109, 0x10A],
    health: LastErrors {
        from: 512,
        shown: |code| 512 + code,
        code: |shown| shown.checked_sub(512).filter(|code| *code < 512),
    },
    lost: "STS 0x30",
};

/// The meaning in the standard's words, and the likely cause.
fn words(code: u32) -> (&'static str, &'static str) {
    let ext = code.checked_sub(256).and_then(|ext| u8::try_from(ext).ok());
    let sts = u8::try_from(code).unwrap_or(0xF0);
    let words = ext.map_or(sts_words(sts), ext_words);
    let cause = match (sts, ext) {
        (0x10, None) => {
            "check `commands` for its family, and the type of the file; older ones take 82 bytes at once: `max-read = 82`"
        }
        (0x50, None) | (_, Some(0x06 | 0x07 | 0x13)) => {
            "the file is missing, of another type, or shorter than what is asked at once"
        }
        (0x60, None) | (_, Some(0x0B | 0x10 | 0x1A | 0x1B | 0x1E)) => {
            "the file is protected, or another station holds it"
        }
        (0x70, None) => "turn its key switch to run",
        (_, Some(0x09 | 0x0A)) => "ask for less at once: `max-read = 82`, or what its manual says",
        (0x01 | 0x90 | 0xA0 | 0xB0 | 0xC0, None) | (_, Some(0x1F)) => {
            "the controller is busy; poll it less often"
        }
        (0x02 | 0x05 | 0x07 | 0x30, None) => "a node on the way does not reach the controller",
        _ => "look at the controller's manual",
    };
    (words, cause)
}

/// What else there is to say of a status.
const fn more(code: u32) -> Option<&'static str> {
    match code {
        0x10 | 0x107 | 0x109 | 0x10A => Some(
            "Where a poll is answered so, Woodrush asks for half as much, down to single values, remembers what works, and says so in the log.",
        ),
        _ => None,
    }
}

/// A status as people write it: `STS 10` (they are written in hex), `STS 0x10`, `EXT STS 0x0B`.
fn parse(word: &str) -> Option<u32> {
    let hex = |digits: &str| {
        u8::from_str_radix(digits.strip_prefix("0x").unwrap_or(digits), 16).ok().map(u32::from)
    };
    if let Some(ext) = word.strip_prefix("ext sts ") {
        return hex(ext).map(|ext| 256 + ext);
    }
    // A bare number is a status only where it says that it is hex.
    let digits = word.strip_prefix("sts ").or_else(|| word.starts_with("0x").then_some(word))?;
    hex(digits)
}

/// The statuses that have words: STS, and 256 and the EXT STS.
const CODES: [u32; 52] = [
    0x01, 0x02, 0x03, 0x04, 0x05, 0x06, 0x07, 0x08, 0x10, 0x20, 0x30, 0x40, 0x50, 0x60, 0x70, 0x80, 0x90,
    0xA0, 0xB0, 0x101, 0x102, 0x103, 0x104, 0x105, 0x106, 0x107, 0x108, 0x109, 0x10A, 0x10B, 0x10C, 0x10D,
    0x10E, 0x10F, 0x110, 0x111, 0x112, 0x113, 0x114, 0x115, 0x116, 0x117, 0x118, 0x119, 0x11A, 0x11B, 0x11E,
    0x11F, 0x122, 0x123, 0x124, 0xF0,
];
