//! Why a value is none: status bytes that are not good, and errors of the link.

use crate::protocol::refusals::{self, LastErrors, Refusals};
use woodrush_wire::h1::error;
use woodrush_wire::h1::status::{Quality, Status};

/// Where status bytes stand in `health.last-error`, and where errors of the link.
const STATUS: u32 = 4096;
const LINK: u32 = STATUS + 256;

/// The number of an error of the link: above all status bytes.
#[must_use]
pub const fn link_code(class: u8, code: u8) -> u32 {
    256 + ((class as u32) << 5 | (code as u32 & 0x1F))
}

/// A device of that tag is another one: its device id is not the one that the project says.
pub const REPLACED: u32 = link_code(10, 1);
/// No device of the segment has that tag.
pub const NO_TAG: u32 = link_code(10, 2);
/// The device has another revision than its profile describes.
pub const OTHER_REVISION: u32 = link_code(10, 3);
/// The block at an index is of another kind than the profile says.
pub const OTHER_BLOCK: u32 = link_code(10, 4);
/// The value has another size than its type.
pub const WRONG_SIZE: u32 = link_code(10, 5);

static CODES: [u32; 32] = [
    0x00,
    0x04,
    0x08,
    0x0C,
    0x10,
    0x14,
    0x18,
    0x1C,
    0x40,
    0x44,
    0x48,
    0x4C,
    0x50,
    0x54,
    0x58,
    link_code(4, 1),
    link_code(6, 1),
    link_code(6, 3),
    link_code(6, 7),
    link_code(6, 8),
    link_code(6, 16),
    link_code(6, 17),
    link_code(6, 18),
    link_code(8, 1),
    link_code(9, 1),
    link_code(9, 2),
    link_code(9, 3),
    REPLACED,
    NO_TAG,
    OTHER_REVISION,
    OTHER_BLOCK,
    WRONG_SIZE,
];

/// Status bytes and errors of the link.
pub(super) static REFUSALS: Refusals = Refusals {
    name: "H1 status",
    shown: |code| match parts(code) {
        None => format!("H1 status 0x{code:02X}"),
        Some((class, number)) => format!("H1 link error {class}/{number}"),
    },
    words,
    more: |_| None,
    parse,
    codes: &CODES,
    too_long: &[],
    health: LastErrors { from: STATUS, shown: health, code: of_health },
    lost: "H1 link error 8/1",
};

/// Class and code of an error of the link; `None` of a status byte.
const fn parts(code: u32) -> Option<(u32, u32)> {
    match code.checked_sub(256) {
        Some(own) => Some((own >> 5, own & 0x1F)),
        None => None,
    }
}

fn words(code: u32) -> (&'static str, &'static str) {
    match code {
        REPLACED => {
            return (
                "replaced device",
                "another device has this tag: its device id is not the one in the project; nothing is written to it until `device-id` says that it is meant",
            );
        }
        NO_TAG => {
            return (
                "no device has this tag",
                "it is off, or has no address yet, or lies in the unpolled range, or has another tag: `woodrush scan` lists the devices on the segment",
            );
        }
        OTHER_REVISION => {
            return (
                "another device revision",
                "its indices may have moved: nothing is written; take the profile of that revision",
            );
        }
        OTHER_BLOCK => {
            return ("another block at that index", "the profile is of another type or revision of device");
        }
        WRONG_SIZE => return ("a value of another size", "what came is not of the type that it says"),
        _ => {}
    }
    if let Some((class, number)) = parts(code) {
        let byte = |number: u32| u8::try_from(number).unwrap_or(u8::MAX);
        let pair = (byte(class), byte(number));
        let words = error::words(pair.0, pair.1).unwrap_or("unknown error of the link");
        let cause = match pair {
            error::DENIED => {
                "the block is not out of service, or in a mode in which this is not written; or the device is write-locked (`RB.WRITE_LOCK`), or the block denies it to others (`GRANT_DENY`)"
            }
            error::REVISION_CHANGED => "another tool changed the block meanwhile: read it again",
            error::NO_OBJECT => "the profile is of another type or revision of device",
            error::TYPE_CONFLICT => "the profile says another type than the device has",
            error::NO_NODE => "the device has left the segment, or has another address now",
            error::MODE_NOT_PERMITTED => "`MODE_BLK.PERMITTED` says which modes the block takes",
            _ => "the link does not take it",
        };
        return (words, cause);
    }
    let status = Status(u8::try_from(code).unwrap_or(0));
    let words = match status.quality() {
        Quality::Bad => status.sub_words().unwrap_or("bad"),
        Quality::Uncertain => "uncertain",
        _ => "good",
    };
    let cause = match (status.quality(), status.sub()) {
        (Quality::Bad, 1) => {
            "a parameter of the block keeps it from working: `woodrush set-up DEVICE --dry-run` says which"
        }
        (Quality::Bad, 2) => "nothing is connected to that input of the block",
        (Quality::Bad, 3) => "the device itself has failed",
        (Quality::Bad, 4) => "the sensor or its wires: look at the device's transducer block",
        (Quality::Bad, 5 | 6) => {
            "the device's publications do not come: is it in the live list, and is there a link active scheduler?"
        }
        (Quality::Bad, 7) => {
            "the block, or the device's resource block, is out of service: read MODE_BLK and BLOCK_ERR"
        }
        (Quality::Bad, _) => "the device says no more than that",
        _ => "the device is not certain of it; `uncertain = \"keep\"` at the device takes it all the same",
    };
    (words, cause)
}

fn health(code: u32) -> u32 {
    STATUS + code
}

fn of_health(shown: u32) -> Option<u32> {
    shown.checked_sub(STATUS).filter(|code| *code < LINK - STATUS + 384)
}

fn parse(text: &str) -> Option<u32> {
    let text = text.strip_prefix("h1 ").unwrap_or(text);
    if let Some(status) = text.strip_prefix("status ") {
        return refusals::number(status).filter(|code| *code < 256);
    }
    let (class, code) = text.strip_prefix("link error ")?.split_once('/')?;
    Some(link_code(class.parse().ok()?, code.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::protocol::{health_shown, refusal_health, refusal_shown};

    #[test]
    fn numbers_are_told_and_found_again() {
        for code in CODES {
            let shown = (REFUSALS.shown)(code);
            assert_eq!(parse(&shown.to_lowercase()), Some(code), "{shown}");
            assert!(!words(code).0.is_empty() && !words(code).1.is_empty(), "{shown}");
            assert_eq!(of_health(health(code)), Some(code));
        }
        assert_eq!(refusal_shown(("H1 status", 0x10)), "H1 status 0x10, sensor failure");
        assert_eq!(
            health_shown(refusal_health(("H1 status", link_code(6, 16)))),
            "H1 link error 6/16, the static revision has changed"
        );
    }
}
