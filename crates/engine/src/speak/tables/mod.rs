//! Commands of data tables, whatever link carries them: questions and refusals between spaces and commands.

mod answering;
mod asking;
mod heard;
mod split;

pub(super) use answering::{Begun, TableWork};
pub(super) use asking::{Replied, TableAsk};
pub(super) use heard::TableEar;

use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::tables::{EXTENDED, ext_words, is_for_later, sts_words};

/// STS and EXT STS.
pub(super) type Sts = (u8, u8);

/// The name under which refusals carry a status: STS, or 256 and the EXT STS.
const NATIVE: &str = "data table status";
/// The statuses that a server answers with.
pub(super) const ILLEGAL: Sts = (0x10, 0);
const GONE: Sts = (0x30, 0);
const PROTECTED: Sts = (0x50, 0);
const NOTHING_THERE: Sts = (EXTENDED, 0x06);
pub(super) const TOO_LARGE: Sts = (EXTENDED, 0x09);
const NO_ACCESS: Sts = (EXTENDED, 0x0B);
const BAD_DATA: Sts = (EXTENDED, 0x12);
const FAILED: Sts = (EXTENDED, 0x14);
const OTHER_TYPE: Sts = (EXTENDED, 0x17);
const BUSY: Sts = (EXTENDED, 0x1F);

/// A controller's status as a refusal.
pub(super) fn refusal((sts, ext): Sts) -> Refusal {
    let kind = match (sts, ext) {
        (0x50, _) | (EXTENDED, 0x06 | 0x07 | 0x13) => Kind::NoSuchAddress,
        (EXTENDED, 0x09 | 0x0A) => Kind::TooMuch,
        (0x02 | 0x05 | 0x07 | 0x30, _) => Kind::NoAnswer,
        _ if is_for_later(sts, ext) => Kind::Busy,
        _ => Kind::Fault,
    };
    let code = if sts == EXTENDED { 256 + u32::from(ext) } else { sts.into() };
    Refusal::new(kind, Blame::Device).with_native(NATIVE, code)
}

/// The status that answers a refusal: the controller's own where there is one.
pub(super) fn status(refusal: Refusal) -> Sts {
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
        | Kind::TypeDiffers
        | Kind::Unsound => GONE,
    }
}

/// The number that a refusal is answered with: STS, or 256 and the EXT STS.
pub(super) fn native(refusal: Refusal) -> (u32, &'static str) {
    let (sts, ext) = status(refusal);
    match sts {
        EXTENDED => (256 + u32::from(ext), ext_words(ext)),
        sts => (sts.into(), sts_words(sts)),
    }
}
