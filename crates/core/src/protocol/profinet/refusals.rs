//! Statuses of calls and of the end of a connection: what they mean and how people write them.

use crate::protocol::refusals::{LastErrors, Refusals};
use woodrush_wire::profinet::status::{PnioStatus, calls, ended, place, record, service};

/// Where the statuses stand in `health.last-error`: by their place in [`CODES`], as no part of them is one of a kind.
const FROM: u32 = 8192;
/// A status that is not among them.
const OTHER: u32 = FROM + 0xFF;

const fn refused(service: u8, place: u8, number: u8) -> u32 {
    PnioStatus::protocol(service, place, number).0
}

/// The statuses that have words, in the order of their numbers in `health.last-error`: new ones go to the end.
static CODES: [u32; 33] = [
    refused(service::CONNECT, place::CALLS, calls::ARGS_LENGTH),
    refused(service::CONNECT, place::CALLS, calls::UNKNOWN_BLOCKS),
    refused(service::CONNECT, place::CALLS, calls::IOCR_MISSING),
    refused(service::CONNECT, place::CALLS, calls::ALARM_CR_COUNT),
    refused(service::CONNECT, place::CALLS, calls::OUT_OF_RELATIONS),
    refused(service::CONNECT, place::CALLS, calls::RELATION_UNKNOWN),
    refused(service::CONNECT, place::CALLS, calls::STATE),
    refused(service::CONNECT, place::AR, 0x04),
    refused(service::CONNECT, place::AR, 0x09),
    refused(service::CONNECT, place::IOCR, 0x08),
    refused(service::CONNECT, place::IOCR, 0x09),
    refused(service::CONNECT, place::IOCR, 0x0A),
    refused(service::CONNECT, place::IOCR, 0x0B),
    refused(service::CONNECT, place::IOCR, 0x0F),
    refused(service::CONNECT, place::IOCR, 0x15),
    refused(service::CONNECT, place::IOCR, 0x18),
    refused(service::CONNECT, place::IOCR, 0x1C),
    refused(service::RELEASE, place::CALLS, calls::RELATION_UNKNOWN),
    PnioStatus::record(service::READ, record::INVALID_INDEX).0,
    PnioStatus::record(service::WRITE, record::INVALID_INDEX).0,
    PnioStatus::record(service::WRITE, record::INVALID_SLOT).0,
    PnioStatus::ended(ended::WATCHDOG).0,
    PnioStatus::ended(ended::READY_FAILED).0,
    PnioStatus::ended(ended::NEW_RELATION).0,
    PnioStatus::ended(ended::ACTIVITY).0,
    PnioStatus::ended(ended::OWN_END).0,
    PnioStatus::ended(ended::RELEASED).0,
    PnioStatus::ended(ended::DEACTIVATED).0,
    PnioStatus::ended(ended::REMOVED).0,
    PnioStatus::ended(ended::VIOLATION).0,
    PnioStatus::ended(ended::RENAMED).0,
    PnioStatus::ended(ended::RESET).0,
    PnioStatus::ended(ended::READDRESSED).0,
];

/// Statuses of IO devices and controllers.
pub(super) static REFUSALS: Refusals = Refusals {
    name: "PNIO status",
    shown: |code| {
        let [a, b, c, d] = code.to_be_bytes();
        format!("PNIO status {a:02X} {b:02X} {c:02X} {d:02X}")
    },
    words,
    more: |_| None,
    parse,
    codes: &CODES,
    too_long: &[],
    health: LastErrors { from: FROM, shown: health, code: of_health },
    lost: "a bad provider status of the slot",
};

fn health(own: u32) -> u32 {
    let at = CODES.iter().position(|code| *code == own).and_then(|at| u32::try_from(at).ok());
    at.map_or(OTHER, |at| FROM + at)
}

fn of_health(shown: u32) -> Option<u32> {
    CODES.get(usize::try_from(shown.checked_sub(FROM)?).ok()?).copied()
}

/// The meaning, and the likely cause.
fn words(code: u32) -> (&'static str, &'static str) {
    let [_, decode, first, second] = code.to_be_bytes();
    match (decode, first, second) {
        (0x81, place::CALLS, calls::OUT_OF_RELATIONS) => (
            "another controller is connected",
            "one controller may: take the station out of the other's set-up",
        ),
        (0x81, place::CALLS, calls::RELATION_UNKNOWN) => {
            ("there is no such connection", "it has ended meanwhile, and is opened again")
        }
        (0x81, place::CALLS, calls::STATE) => {
            ("not in this state", "steps of the opening came out of order: the controller begins again")
        }
        (0x81, place::CALLS, _) => (
            "a call that is not complete",
            "the controller opens in a way that is not served: look for another access point in its set-up",
        ),
        (0x81, place::AR, 0x04 | 0x09) => (
            "a relation of another kind",
            "the controller asks for a shared, redundant or isochronous device: choose an ordinary one of RT class 1",
        ),
        (0x81, place::IOCR, 0x08) => {
            ("the data of a frame have a wrong length", "compare the slots at both ends")
        }
        (0x81, place::IOCR, 0x09) => ("a FrameID outside its class", "choose RT class 1 at the controller"),
        (0x81, place::IOCR, 0x0A) => {
            ("another send clock than 1 ms", "set the send clock to 1 ms at the controller")
        }
        (0x81, place::IOCR, 0x0B) => {
            ("a cycle that is not accepted", "lengthen the cycle at the controller, or shorten `period` here")
        }
        (0x81, place::IOCR, 0x0F) => {
            ("a watchdog of more than 1.92 s", "lower the number of cycles without data at the controller")
        }
        (0x81, place::IOCR, _) => (
            "the data of a frame do not fit the submodules",
            "the controller's description of the station is another one: read the file of `woodrush map --gsdml` again",
        ),
        (0x81, place::ENDED, ended::WATCHDOG) => (
            "no frame came in time",
            "the other end is gone, or the network loses frames: lengthen the watchdog",
        ),
        (0x81, place::ENDED, ended::READY_FAILED) => (
            "the controller did not confirm that the device is ready",
            "it cannot be reached at UDP port 34964: look for a filter between the two",
        ),
        (0x81, place::ENDED, ended::NEW_RELATION) => {
            ("a new connection took its place", "the controller has begun again")
        }
        (0x81, place::ENDED, ended::ACTIVITY) => (
            "the steps of the opening took too long",
            "the controller gave up half way: look at its diagnosis",
        ),
        (0x81, place::ENDED, ended::OWN_END) => (
            "its own program ended it",
            "the other end was stopped, or set up otherwise: it opens again when it is there",
        ),
        (0x81, place::ENDED, ended::RELEASED) => {
            ("it was released", "the controller has taken the station out of its exchange in good order")
        }
        (0x81, place::ENDED, ended::DEACTIVATED) => {
            ("the device was switched off at the controller", "switch it on there, in its program or by hand")
        }
        (0x81, place::ENDED, ended::REMOVED) => (
            "the connection is no longer set up",
            "the controller was loaded with a set-up without the station: compare the two",
        ),
        (0x81, place::ENDED, ended::VIOLATION) => (
            "the other end did not keep to the protocol",
            "record it with `woodrush tap --save` and send it to that end's maker",
        ),
        (0x81, place::ENDED, ended::RENAMED) => {
            ("the station has another name", "give it back the name that the controller looks for")
        }
        (0x81, place::ENDED, ended::RESET) => (
            "the station was reset to what it was shipped as",
            "give it its name again: `woodrush readdress --ethernet`",
        ),
        (0x81, place::ENDED, ended::READDRESSED) => (
            "the station has another address",
            "it was given one by hand: the controller gives it its own again",
        ),
        (0x80, record::INVALID_INDEX, _) => ("there is no such record", "the station has no such parameter"),
        (0x80, record::INVALID_SLOT, _) => {
            ("there is no such slot or subslot", "compare the slots at both ends")
        }
        _ => ("refused", "look at the controller's diagnosis"),
    }
}

/// A status as people write it: `PNIO status DB 81 40 04`, `pnio DB814004`, with or without blanks.
fn parse(word: &str) -> Option<u32> {
    // Four bytes apart are what controllers show of it.
    let is_bare = |word: &str| {
        let parts: Vec<&str> = word.split_whitespace().collect();
        parts.len() == 4 && parts.iter().all(|part| part.len() == 2)
    };
    let begun = ["pnio status ", "pnio "].into_iter().find_map(|begin| word.strip_prefix(begin));
    let rest = begun.or_else(|| Some(word).filter(|word| is_bare(word)))?;
    let digits: String = rest.trim_start_matches("0x").chars().filter(|own| !own.is_whitespace()).collect();
    if digits.len() != 8 {
        return None;
    }
    u32::from_str_radix(&digits, 16).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_status_goes_to_health_and_back() {
        for (at, own) in CODES.into_iter().enumerate() {
            assert_eq!(of_health(health(own)), Some(own), "{own:X}");
            assert!(CODES.iter().skip(at + 1).all(|other| *other != own), "{own:X}");
            let (meaning, cause) = words(own);
            assert!(!meaning.is_empty() && !cause.is_empty() && meaning != "refused", "{own:X}");
            let shown = (REFUSALS.shown)(own).to_lowercase();
            assert_eq!(parse(&shown), Some(own), "{shown}");
            assert_eq!(parse(shown.trim_start_matches("pnio status ")), Some(own), "{shown}");
            assert!(PnioStatus(own).words().is_some(), "{own:X}");
        }
        assert_eq!((health(0xDB81_4099), of_health(OTHER), parse("pnio 12")), (OTHER, None, None));
    }
}
