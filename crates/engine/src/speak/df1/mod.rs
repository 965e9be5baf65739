//! DF1: questions and refusals between spaces and commands, the same in full and half duplex.

mod client;
mod observer;
mod server;
mod slaves;
mod split;
#[cfg(test)]
mod tests;

use super::Speaker;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::df1::is_for_later;

/// `df1`.
pub(super) const FULL: Speaker = Speaker {
    name: "df1",
    client: Some(|setup| Box::new(client::TableClient::new(setup, false))),
    server: Some(|setup| Box::new(server::TableServer::new(setup, false))),
    observer: |setup| Box::new(observer::TableObserver::new(false, setup)),
};

/// `df1-half`.
pub(super) const HALF: Speaker = Speaker {
    name: "df1-half",
    client: Some(|setup| Box::new(client::TableClient::new(setup, true))),
    server: Some(|setup| Box::new(slaves::Slaves::new(setup))),
    observer: |setup| Box::new(observer::TableObserver::new(true, setup)),
};

/// The name under which refusals carry a status: STS, or 256 and the EXT STS.
const NATIVE: &str = "DF1 status";
/// STS that says that one more byte follows.
const EXTENDED: u8 = 0xF0;
/// The statuses that a server answers with.
const ILLEGAL: (u8, u8) = (0x10, 0);
const GONE: (u8, u8) = (0x30, 0);
const PROTECTED: (u8, u8) = (0x50, 0);
const NOTHING_THERE: (u8, u8) = (EXTENDED, 0x06);
const TOO_LARGE: (u8, u8) = (EXTENDED, 0x09);
const NO_ACCESS: (u8, u8) = (EXTENDED, 0x0B);
const BAD_DATA: (u8, u8) = (EXTENDED, 0x12);
const FAILED: (u8, u8) = (EXTENDED, 0x14);
const OTHER_TYPE: (u8, u8) = (EXTENDED, 0x17);
const BUSY: (u8, u8) = (EXTENDED, 0x1F);

/// A controller's status as a refusal.
fn refusal((sts, ext): (u8, u8)) -> Refusal {
    let kind = match (sts, ext) {
        (0x50, _) | (EXTENDED, 0x06 | 0x07 | 0x13) => Kind::NoSuchAddress,
        (EXTENDED, 0x09 | 0x0A) => Kind::TooMuch,
        (0x02 | 0x05 | 0x07 | 0x30, _) => Kind::NoAnswer,
        _ if is_for_later(sts, ext) => Kind::Busy,
        _ => Kind::Fault,
    };
    let code = if sts == EXTENDED { 256 + u32::from(ext) } else { sts.into() };
    Refusal { kind, blame: Blame::Device, native: Some((NATIVE, code)) }
}

/// The status that answers a refusal: the controller's own where there is one.
fn status(refusal: Refusal) -> (u8, u8) {
    if let Some((NATIVE, code)) = refusal.native {
        let byte = |code: u32| u8::try_from(code).unwrap_or(0x14);
        return code.checked_sub(256).map_or_else(|| (byte(code), 0), |ext| (EXTENDED, byte(ext)));
    }
    match refusal.kind {
        Kind::NoSuchAddress => NOTHING_THERE,
        Kind::ReadOnly => NO_ACCESS,
        Kind::TooMuch => TOO_LARGE,
        Kind::BadValue | Kind::DoesNotFit => BAD_DATA,
        Kind::NoSuchCommand => ILLEGAL,
        Kind::Busy => BUSY,
        Kind::WrongMode => (0x70, 0),
        Kind::Fault => FAILED,
        Kind::NoPath
        | Kind::NoAnswer
        | Kind::Damaged
        | Kind::Mismatch
        | Kind::Lost
        | Kind::NeverSeen
        | Kind::TypeDiffers => GONE,
    }
}
