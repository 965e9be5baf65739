//! General statuses of CIP and the words behind them: what they mean and how people write them.

use crate::protocol::refusals::{self, LastErrors, Refusals};
use woodrush_wire::enip::status::{self, ADDITIONAL};
use woodrush_wire::enip::tags::{STRING_HANDLE, TagType};

/// A general status in the low byte, the first word behind it above; 0 where there is none.
const fn code(status: u8, word: u16) -> u32 {
    status as u32 | (word as u32) << 8
}

/// Where the general statuses stand in `health.last-error`, and where those with a word.
const GENERAL: u32 = 2048;
const WITH_WORD: u32 = 2304;

/// General statuses that have words of the standard.
const PLAIN: usize = 0x2F;

#[allow(clippy::cast_possible_truncation, reason = "it counts to 0x2E")]
static CODES: [u32; PLAIN + ADDITIONAL.len()] = {
    let mut codes = [0; PLAIN + ADDITIONAL.len()];
    let mut at = 1;
    while at < PLAIN {
        codes[at - 1] = at as u32;
        at += 1;
    }
    codes[PLAIN - 1] = status::TAG_ERROR as u32;
    at = 0;
    while at < ADDITIONAL.len() {
        codes[PLAIN + at] = code(ADDITIONAL[at].0, ADDITIONAL[at].1);
        at += 1;
    }
    codes
};

/// Statuses of controllers with tags.
pub(super) static REFUSALS: Refusals = Refusals {
    name: "CIP status",
    shown: |code| {
        if code >= OTHER_TYPE {
            return type_shown(code);
        }
        let (status, word) = parts(code);
        if word == 0 {
            format!("CIP status 0x{status:02X}")
        } else {
            format!("CIP status 0x{status:02X}/0x{word:04X}")
        }
    },
    words,
    more,
    parse,
    codes: &CODES,
    too_long: &[status::REPLY_TOO_LARGE as u32],
    health: LastErrors { from: GENERAL, shown: health, code: of_health },
    lost: "CIP status 0x10",
};

/// Above it, what was found is no status but the type of a tag, where the project says another.
const OTHER_TYPE: u32 = 1 << 24;
/// The same for a structure, by its handle.
const OTHER_STRUCTURE: u32 = 2 << 24;

/// The code that says that a tag is of that type, and not of the one that the project says.
#[must_use]
pub fn other_type(found: TagType) -> u32 {
    match found.handle {
        None => OTHER_TYPE | u32::from(found.code),
        Some(handle) => OTHER_STRUCTURE | u32::from(handle),
    }
}

/// What was found, in words.
fn type_shown(code: u32) -> String {
    let word = u16::try_from(code & 0xFFFF).unwrap_or(0);
    if code >= OTHER_STRUCTURE {
        return if word == STRING_HANDLE {
            "type STRING".into()
        } else {
            format!("a structure (0x{word:04X})")
        };
    }
    match TagType::elementary(word).name() {
        Some(name) => format!("type {name}"),
        None => format!("type 0x{word:04X}"),
    }
}

/// The status and the word of a code.
fn parts(code: u32) -> (u8, u16) {
    (u8::try_from(code & 0xFF).unwrap_or(0), u16::try_from(code >> 8 & 0xFFFF).unwrap_or(0))
}

fn health(own: u32) -> u32 {
    let own = if own >= OTHER_TYPE { code(status::TAG_ERROR, status::tag::TYPE_MISMATCH) } else { own };
    let at = ADDITIONAL.iter().position(|(status, word, _)| code(*status, *word) == own);
    match at.and_then(|at| u32::try_from(at).ok()) {
        Some(at) => WITH_WORD + at,
        None => GENERAL + (own & 0xFF),
    }
}

fn of_health(shown: u32) -> Option<u32> {
    match shown.checked_sub(WITH_WORD) {
        Some(at) => ADDITIONAL.get(at as usize).map(|(status, word, _)| code(*status, *word)),
        None => shown.checked_sub(GENERAL),
    }
}

/// The meaning in the standard's words, and the likely cause.
fn words(code: u32) -> (&'static str, &'static str) {
    if code >= OTHER_TYPE {
        return (
            "another type than in the project",
            "correct the type here, or have the tag declared with it",
        );
    }
    let (general, word) = parts(code);
    let meaning = status::additional_words(general, word).unwrap_or_else(|| status::words(general));
    let cause = match (general, word) {
        (
            status::PATH_SEGMENT_ERROR | status::PATH_DESTINATION_UNKNOWN | status::OBJECT_DOES_NOT_EXIST,
            _,
        ) => "there is no such tag, or not in that program: `woodrush scan` lists what there is",
        (status::PRIVILEGE_VIOLATION, _) => "the tag's external access does not allow it",
        (status::DEVICE_STATE_CONFLICT | 0x0C, _) => "the controller is in a mode that does not allow it",
        (status::SERVICE_NOT_SUPPORTED, _) => {
            "that module has no tags: `slot` or `route` is missing, or leads to another module"
        }
        (status::REPLY_TOO_LARGE, _) => "ask for less at once: lower `max-read`",
        (status::RESOURCE_UNAVAILABLE, _) | (0x01, 0x0113 | 0x0301 | 0x0302) => {
            "the controller has no connection left: close others, or write `connected = false`"
        }
        (0x01, 0x0311 | 0x0312 | 0x0315 | 0x0204 | 0x0205) => "check `slot` and `route`",
        (0x01, 0x0100 | 0x0107 | 0x0203) => "an earlier connection is still open; it is opened again",
        (0x01, 0x0106) => "another controller writes these outputs: one may, the others open the inputs only",
        (0x01, 0x0119) => "to listen along, another controller must have opened the inputs first",
        (0x01, 0x0111 | 0x0112) => {
            "the other end does not send as often: lengthen the period at the controller"
        }
        (0x01, 0x0114..=0x0116) => "the electronic key is of another device: read its EDS file anew",
        (0x01, 0x0117 | 0x0129..=0x012B) => "compare the numbers of the assemblies at both ends",
        (0x01, 0x0126..=0x0128) => {
            "compare the sizes at both ends, without the run/idle header; the word behind it is the right one"
        }
        (0x01, 0x0118 | 0x011C..=0x0124 | 0x0132 | 0x0133) => {
            "the other end does not take such a connection: choose an exclusive owner or an input-only one"
        }
        (0x01, _) => "the controller does not take such a connection: write `connected = false`",
        (status::TAG_ERROR, status::tag::TYPE_MISMATCH) => {
            "the tag's type was changed: correct it here, or there"
        }
        (status::TAG_ERROR, status::tag::OFFSET_PAST_END | status::tag::ELEMENTS_PAST_END) => {
            "the array is shorter: correct the index or `count`"
        }
        (status::NOT_ENOUGH_DATA | status::TOO_MUCH_DATA, _) => {
            "the tag is of another size: its type was changed"
        }
        _ => "look at the controller's manual",
    };
    (meaning, cause)
}

/// What else there is to say of a status.
const fn more(code: u32) -> Option<&'static str> {
    match code {
        0x06 => Some("No fault: the rest follows. Woodrush asks on from there."),
        0x1E => Some("Each service of the message has a status of its own."),
        _ => None,
    }
}

/// A status as people write it: `CIP status 0x05`, `CIP 5`, `CIP status 0xFF/0x2105`.
fn parse(word: &str) -> Option<u32> {
    let rest =
        ["cip status ", "general status ", "cip "].into_iter().find_map(|begin| word.strip_prefix(begin))?;
    let (general, word) = rest.split_once('/').unwrap_or((rest, "0"));
    let general = u8::try_from(refusals::number(general.trim())?).ok()?;
    let word = u16::try_from(refusals::number(word.trim())?).ok()?;
    Some(code(general, word))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_status_goes_to_health_and_back() {
        for own in CODES {
            assert_eq!(of_health(health(own)), Some(own), "{own:X}");
            let (meaning, cause) = words(own);
            assert!(!meaning.is_empty() && meaning != "reserved" && !cause.is_empty());
            let shown = (REFUSALS.shown)(own).to_lowercase();
            assert_eq!(parse(&shown), Some(own), "{shown}");
        }
        assert_eq!(
            (health(0x05), health(code(0xFF, 0x2105)), health(code(1, 0x9999))),
            (2053, 2304 + 42, 2049)
        );
    }
}
