//! Modbus exceptions (APP section 7): what they mean and how people write them.

use crate::protocol::refusals::{self, LastErrors, Refusals};
use woodrush_wire::modbus::Exception;

/// The exceptions of Modbus.
pub(super) static REFUSALS: Refusals = Refusals {
    name: "Modbus exception",
    shown: |code| format!("Modbus exception {code} (0x{code:02X})"),
    words,
    more,
    parse,
    codes: &CODES,
    too_long: &[],
    // A server has no exception 0: there it says that all is well.
    health: LastErrors { from: 1, shown: |code| code, code: |shown| Some(shown).filter(|code| *code < 256) },
    lost: "exception 11 (0x0B)",
};

/// The meaning in the standard's words, and the likely cause.
fn words(code: u32) -> (&'static str, &'static str) {
    let exception = Exception(u8::try_from(code).unwrap_or(0));
    let cause = match exception {
        Exception::ILLEGAL_FUNCTION => "the device does not serve this function: look at its manual",
        Exception::ILLEGAL_DATA_ADDRESS => {
            "some part of the range does not exist there, or may not be written"
        }
        Exception::ILLEGAL_DATA_VALUE => "the count is more than it takes, or the value does not suit it",
        Exception::SERVER_DEVICE_FAILURE => "the device failed while doing it",
        Exception::ACKNOWLEDGE | Exception::SERVER_DEVICE_BUSY => "the device is busy; poll it less often",
        Exception::GATEWAY_PATH_UNAVAILABLE => "nothing serves that unit, or the line behind is down",
        Exception::GATEWAY_TARGET_FAILED => "the value's source is lost or its value too old",
        _ => "look at the device's manual",
    };
    (exception.name(), cause)
}

/// What else there is to say of an exception.
const fn more(code: u32) -> Option<&'static str> {
    Some(match code {
        1 => {
            "Typical: function 4 asked of a device that has holding registers only, or 16 of one that takes 6 (`write-one = \"single\"`). The line and the unit are right."
        }
        2 => {
            "Typical: one register past the end of what exists, an offset taken for a reference number, a register that cannot be written, or a hole in the range. Our own images answer it where no rule feeds an address (M04), and for a part of a value of several registers. `woodrush scan` finds the ranges that a device has."
        }
        3 => {
            "Typical: more registers in one request than the device takes (`max-read`, `max-write`), or a value outside of its range. Our own images answer it where a written value does not fit the rule's form."
        }
        4 => "The request was right and the device could not do it; its own display or log may say why.",
        5 => "Not a failure: the device works on it and will be asked again.",
        6 => {
            "Ask again later; if it stays so, ask less often, or look for a second client that keeps it busy."
        }
        7 => "An old code of programming functions; few devices use it.",
        8 => "An old code of file functions: the device's memory failed its check.",
        10 => {
            "From a gateway: it has no way for that unit. From Woodrush: the port behind is closed, or nothing serves the unit. Look at `woodrush status`: which port is down?"
        }
        11 => {
            "From a gateway: the device behind did not answer. From an image of Woodrush: the source of a value in the range is lost or too old, and the whole read is refused so that an old value is never taken for a live one (`on-loss`). Look at `woodrush status`: which device is lost? A client that reads values of several devices in one request loses all with one of them (M50)."
        }
        _ => return None,
    })
}

/// An exception as people write it: `11`, `0x0B`, `exception 11`, `Modbus exception 11 (0x0B)`.
fn parse(word: &str) -> Option<u32> {
    let word = word.split(" (").next().unwrap_or(word);
    let number = word.strip_prefix("modbus ").unwrap_or(word);
    let number = number.strip_prefix("exception ").unwrap_or(number).trim_start_matches("code ");
    refusals::number(number)
}

/// The exceptions that have a name.
const CODES: [u32; 10] = [1, 2, 3, 4, 5, 6, 7, 8, 10, 11];
