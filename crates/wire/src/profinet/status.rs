//! What a call or the end of a connection says: four bytes, from who was wrong to which field.

use super::block::HEAD;
use super::{connect, iocr, records, submodules};
use crate::{WireError, WireFault};
use std::fmt;

/// Error code, how it is read, and two numbers; 0 is good.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct PnioStatus(pub u32);

/// The service that refuses: the first byte.
pub mod service {
    /// Connect.
    pub const CONNECT: u8 = 0xDB;
    /// Release.
    pub const RELEASE: u8 = 0xDC;
    /// Control: the end of parameters, ready.
    pub const CONTROL: u8 = 0xDD;
    /// Read.
    pub const READ: u8 = 0xDE;
    /// Write.
    pub const WRITE: u8 = 0xDF;
    /// The alarm channel.
    pub const ALARM: u8 = 0xCF;
}

/// The first number of errors of the protocol: which block, or whose machine.
pub mod place {
    /// The application relation's block.
    pub const AR: u8 = 1;
    /// A block of one direction of frames.
    pub const IOCR: u8 = 2;
    /// A block of expected submodules.
    pub const EXPECTED: u8 = 3;
    /// The alarm channel's block.
    pub const ALARM_CR: u8 = 4;
    /// The block of a write.
    pub const WRITE: u8 = 8;
    /// The block of a read.
    pub const READ: u8 = 9;
    /// The block of an end of parameters.
    pub const PARAMETERS_END: u8 = 0x14;
    /// The block of ready.
    pub const READY: u8 = 0x16;
    /// The block of a release.
    pub const RELEASE: u8 = 0x28;
    /// The machine of calls.
    pub const CALLS: u8 = 0x40;
    /// The end of a connection by the alarm channel.
    pub const ENDED: u8 = 0xFD;
}

/// Second numbers behind [`place::CALLS`].
pub mod calls {
    /// The lengths of the arguments contradict each other.
    pub const ARGS_LENGTH: u8 = 0;
    /// There are blocks that do not belong here.
    pub const UNKNOWN_BLOCKS: u8 = 1;
    /// A direction of frames is missing.
    pub const IOCR_MISSING: u8 = 2;
    /// There is no alarm channel, or more than one.
    pub const ALARM_CR_COUNT: u8 = 3;
    /// Another controller has the relation that there is.
    pub const OUT_OF_RELATIONS: u8 = 4;
    /// There is no relation of that name.
    pub const RELATION_UNKNOWN: u8 = 5;
    /// Not in this state.
    pub const STATE: u8 = 6;
}

/// Second numbers behind [`place::ENDED`]: why an end breaks a connection off.
pub mod ended {
    /// Nothing came in time.
    pub const WATCHDOG: u8 = 5;
    /// The steps of the opening took too long.
    pub const ACTIVITY: u8 = 6;
    /// The controller's readiness was not confirmed.
    pub const READY_FAILED: u8 = 0x0C;
    /// Its own program ends it.
    pub const OWN_END: u8 = 0x0D;
    /// A new relation took its place.
    pub const NEW_RELATION: u8 = 0x0E;
    /// It was released.
    pub const RELEASED: u8 = 0x0F;
    /// The device was switched off at the controller.
    pub const DEACTIVATED: u8 = 0x10;
    /// The relation is no longer set up.
    pub const REMOVED: u8 = 0x11;
    /// The other end did not keep to the protocol.
    pub const VIOLATION: u8 = 0x12;
    /// The station has another name.
    pub const RENAMED: u8 = 0x1F;
    /// The station was reset to what it was shipped as.
    pub const RESET: u8 = 0x20;
    /// The station has another address.
    pub const READDRESSED: u8 = 0x25;
}

/// First numbers of refused records.
pub mod record {
    /// There is no such record.
    pub const INVALID_INDEX: u8 = 0xB0;
    /// It has another length.
    pub const WRITE_LENGTH: u8 = 0xB1;
    /// There is no such slot or subslot.
    pub const INVALID_SLOT: u8 = 0xB2;
    /// It may not be accessed.
    pub const ACCESS_DENIED: u8 = 0xB6;
    /// Not now.
    pub const BUSY: u8 = 0xA7;
}

/// How an error of the protocol is read: the second byte.
const PROTOCOL: u8 = 0x81;
/// How an error of a record is read.
const RECORD: u8 = 0x80;

impl PnioStatus {
    /// Nothing is wrong.
    pub const OK: Self = Self(0);

    /// A refusal by the protocol.
    #[must_use]
    pub const fn protocol(service: u8, place: u8, number: u8) -> Self {
        Self(u32::from_be_bytes([service, PROTOCOL, place, number]))
    }

    /// A refusal of a record.
    #[must_use]
    pub const fn record(service: u8, number: u8) -> Self {
        Self(u32::from_be_bytes([service, RECORD, number, 0]))
    }

    /// The end of a connection.
    #[must_use]
    pub const fn ended(number: u8) -> Self {
        Self::protocol(service::ALARM, place::ENDED, number)
    }

    /// The two numbers.
    #[must_use]
    pub const fn numbers(self) -> (u8, u8) {
        let [.., first, second] = self.0.to_be_bytes();
        (first, second)
    }

    /// What it says, in words; `None` where it is none that is known here.
    #[must_use]
    pub fn words(self) -> Option<String> {
        let [service, decode, first, second] = self.0.to_be_bytes();
        let fixed = |words: &str| Some(words.to_string());
        match (service, decode, first, second) {
            (0, 0, 0, 0) => fixed("done"),
            (_, RECORD, record::INVALID_INDEX, _) => fixed("there is no such record"),
            (_, RECORD, record::WRITE_LENGTH, _) => fixed("the record has another length"),
            (_, RECORD, record::INVALID_SLOT, _) => fixed("there is no such slot or subslot"),
            (_, RECORD, record::ACCESS_DENIED, _) => fixed("the record may not be accessed"),
            (_, RECORD, record::BUSY, _) => fixed("busy"),
            (_, PROTOCOL, place::CALLS, own) => fixed(match own {
                calls::ARGS_LENGTH => "the lengths of the call contradict each other",
                calls::UNKNOWN_BLOCKS => "the call has blocks that do not belong in it",
                calls::IOCR_MISSING => "a direction of frames is missing",
                calls::ALARM_CR_COUNT => "the alarm channel is missing, or there twice",
                calls::OUT_OF_RELATIONS => "another controller is connected",
                calls::RELATION_UNKNOWN => "there is no such connection",
                calls::STATE => "not in this state",
                _ => return None,
            }),
            (_, PROTOCOL, place::ENDED, own) => fixed(match own {
                ended::WATCHDOG => "no frame came in time",
                ended::READY_FAILED => "the controller did not confirm that the device is ready",
                ended::NEW_RELATION => "a new connection took its place",
                ended::ACTIVITY => "the steps of the opening took too long",
                ended::OWN_END => "its own program ended it",
                ended::RELEASED => "it was released",
                ended::DEACTIVATED => "the device was switched off at the controller",
                ended::REMOVED => "it is no longer set up",
                ended::VIOLATION => "the other end did not keep to the protocol",
                ended::RENAMED => "the station has another name",
                ended::RESET => "the station was reset to what it was shipped as",
                ended::READDRESSED => "the station has another address",
                _ => return None,
            }),
            (_, PROTOCOL, own, number) => {
                let (layer, _, fields) = FIELDS.iter().find(|(_, place, _)| *place == own)?;
                let field = HEAD.iter().chain(*fields).nth(number.into())?;
                Some(format!("{layer}: {field}"))
            }
            _ => None,
        }
    }
}

impl fmt::Display for PnioStatus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c, d] = self.0.to_be_bytes();
        write!(f, "{a:02X} {b:02X} {c:02X} {d:02X}")?;
        match self.words() {
            Some(words) => write!(f, " ({words})"),
            None => Ok(()),
        }
    }
}

/// The fields of blocks behind their heads, in the order by which refusals number them.
const FIELDS: [(&str, u8, &[&str]); 6] = [
    ("AR block", place::AR, &connect::AR_FIELDS),
    ("IOCR block", place::IOCR, &iocr::IOCR_FIELDS),
    ("expected submodule block", place::EXPECTED, &submodules::FIELDS),
    ("alarm CR block", place::ALARM_CR, &connect::ALARM_FIELDS),
    ("write block", place::WRITE, &records::FIELDS),
    ("read block", place::READ, &records::FIELDS),
];

/// How a call of a service is refused that cannot be read: by its block and the number of the field.
#[must_use]
pub fn of(service: u8, error: &WireError) -> PnioStatus {
    let field = match error.fault {
        WireFault::Short { field, .. }
        | WireFault::Range { field, .. }
        | WireFault::Choice { field, .. }
        | WireFault::Disagree { field, .. } => field,
        // A block that goes on has a wrong length.
        WireFault::Trailing { .. } | WireFault::Checksum { .. } => HEAD[1],
    };
    let Some((_, place, fields)) = FIELDS.iter().find(|(layer, ..)| *layer == error.layer) else {
        let number = if error.layer == "block" { calls::UNKNOWN_BLOCKS } else { calls::ARGS_LENGTH };
        return PnioStatus::protocol(service, place::CALLS, number);
    };
    let number = HEAD.iter().chain(*fields).position(|own| *own == field).unwrap_or(1);
    PnioStatus::protocol(service, *place, u8::try_from(number).unwrap_or(1))
}
