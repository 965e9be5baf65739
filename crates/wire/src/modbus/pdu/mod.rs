//! The meaning of a Modbus message: function code and data (APP section 6), apart from any frame.
//!
//! Known are functions 1 to 8, 11, 12, 15 to 17, 22 to 24 and 43/14; every other is kept as `Other`, so that it can be
//! shown, carried or refused with exception 1 by the layer above.

mod request;
mod response;

pub use request::Request;
pub use response::Response;

/// Set in the function code of an exception (APP section 7).
pub(super) const EXCEPTION_BIT: u8 = 0x80;
/// Function 43 carries other protocols' messages; this type is device identification (APP 6.19, 6.21).
pub const IDENTIFICATION: u8 = 14;

/// The code of a refusal (APP section 7), 1 to 255; codes that the standard does not name are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Exception(pub u8);

impl Exception {
    /// The function is unknown or not allowed now.
    pub const ILLEGAL_FUNCTION: Self = Self(1);
    /// Some part of offset and count does not exist.
    pub const ILLEGAL_DATA_ADDRESS: Self = Self(2);
    /// The request's structure is wrong: count, byte count, length, coil value.
    pub const ILLEGAL_DATA_VALUE: Self = Self(3);
    /// An unrecoverable fault while doing it.
    pub const SERVER_DEVICE_FAILURE: Self = Self(4);
    /// Accepted, takes long.
    pub const ACKNOWLEDGE: Self = Self(5);
    /// Busy with a long command.
    pub const SERVER_DEVICE_BUSY: Self = Self(6);
    /// A gateway could not get the request onto a path to the target.
    pub const GATEWAY_PATH_UNAVAILABLE: Self = Self(0x0A);
    /// The request went out and no sound answer came back.
    pub const GATEWAY_TARGET_FAILED: Self = Self(0x0B);

    /// The standard's name, in small letters; `unknown exception` for codes that it does not name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self.0 {
            1 => "illegal function",
            2 => "illegal data address",
            3 => "illegal data value",
            4 => "server device failure",
            5 => "acknowledge",
            6 => "server device busy",
            7 => "negative acknowledge",
            8 => "memory parity error",
            0x0A => "gateway path unavailable",
            0x0B => "gateway target device failed to respond",
            _ => "unknown exception",
        }
    }
}

const fn coil_value(word: u16) -> Option<bool> {
    match word {
        0xFF00 => Some(true),
        0 => Some(false),
        _ => None,
    }
}

fn put_words(out: &mut Vec<u8>, words: &[u16]) {
    for word in words {
        out.extend_from_slice(&word.to_be_bytes());
    }
}

fn put_counted(out: &mut Vec<u8>, data: &[u8]) {
    out.push(u8::try_from(data.len()).unwrap_or(u8::MAX));
    out.extend_from_slice(data);
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)]
mod tests;
