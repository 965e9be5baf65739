//! Values of parameters as people read and write them: modes, errors of a block, units, choices.

use super::lists::Member;
use super::units::{unit_code, unit_shown};
use crate::form::Type;
use crate::one_line::one_line;
use woodrush_wire::h1::status::Status;

/// Bits of a mode, the first of several the one that counts.
pub const MODES: [(u8, &str); 8] = [
    (0x80, "OOS"),
    (0x40, "IMAN"),
    (0x20, "LO"),
    (0x10, "MAN"),
    (0x08, "AUTO"),
    (0x04, "CAS"),
    (0x02, "RCAS"),
    (0x01, "ROUT"),
];

/// Out of service.
pub const OOS: u8 = 0x80;
/// Automatic.
pub const AUTO: u8 = 0x08;
/// Manual.
pub const MAN: u8 = 0x10;
/// Cascade.
pub const CAS: u8 = 0x04;

/// Bits of `BLOCK_ERR`, bit 0 first.
pub const BLOCK_ERRORS: [&str; 16] = [
    "other",
    "block configuration error",
    "link configuration error",
    "simulate active",
    "local override",
    "fault state set",
    "device needs maintenance soon",
    "input failure",
    "output failure",
    "memory failure",
    "lost static data",
    "lost non-volatile data",
    "readback check failed",
    "device needs maintenance now",
    "power-up",
    "out of service",
];

/// `BLOCK_ERR`: the block is configured so that it cannot work.
pub const CONFIGURATION: u16 = 1 << 1;
/// `BLOCK_ERR`: simulation is on.
pub const SIMULATING: u16 = 1 << 3;
/// `BLOCK_ERR`: the input is bad.
pub const INPUT_FAILURE: u16 = 1 << 7;
/// `BLOCK_ERR`: out of service.
pub const OUT_OF_SERVICE: u16 = 1 << 15;

/// Values of a parameter that have words.
type Choices = &'static [(u8, &'static str)];

const L_TYPES: Choices = &[(0, "uninitialised"), (1, "direct"), (2, "indirect"), (3, "indirect square root")];

/// Choices by the name of the parameter, or of the member.
const CHOICES: [(&str, Choices); 8] = [
    ("L_TYPE", L_TYPES),
    ("WRITE_LOCK", &[(1, "unlocked"), (2, "locked")]),
    ("RESTART", &[(1, "run"), (2, "resource"), (3, "defaults"), (4, "processor")]),
    ("ENABLE_DISABLE", &[(1, "off"), (2, "on")]),
    ("BYPASS", &[(1, "off"), (2, "on")]),
    (
        "RS_STATE",
        &[
            (1, "start/restart"),
            (2, "initialisation"),
            (3, "on-line linking"),
            (4, "on-line"),
            (5, "standby"),
            (6, "failure"),
        ],
    ),
    ("FAULT_STATE", &[(1, "clear"), (2, "active")]),
    ("SET_FSTATE", &[(1, "off"), (2, "set")]),
];

/// Options by bit, of the parameter of that name.
const OPTIONS: [(&str, &[(u8, &str)]); 3] = [
    (
        "IO_OPTS",
        &[
            (0, "invert"),
            (1, "SP-PV track in MAN"),
            (3, "SP-PV track in LO"),
            (4, "SP track retained target"),
            (5, "increase to close"),
            (6, "fault state to value"),
            (7, "use fault state value on restart"),
            (8, "target to MAN if fault state"),
            (9, "use PV for BKCAL_OUT"),
            (10, "low cutoff"),
        ],
    ),
    (
        "STATUS_OPTS",
        &[
            (0, "IFS if bad IN"),
            (1, "IFS if bad CAS_IN"),
            (2, "use uncertain as good"),
            (3, "propagate fault forward"),
            (4, "propagate fault backward"),
            (5, "target to MAN if bad IN"),
            (6, "uncertain if limited"),
            (7, "bad if limited"),
            (8, "uncertain if MAN"),
        ],
    ),
    ("GRANT_DENY", &[(0, "program"), (1, "tune"), (2, "alarm"), (3, "local")]),
];

/// The bit of `GRANT_DENY` for modes, set points and outputs.
pub const PROGRAM: u8 = 1;
/// The bit of `GRANT_DENY` for what is set up.
pub const TUNE: u8 = 1 << 1;
/// The bit of `GRANT_DENY` for limits and priorities of alarms.
pub const ALARM: u8 = 1 << 2;

/// The bit of `IO_OPTS` that lets small inputs count as none.
pub const LOW_CUTOFF: u16 = 1 << 10;
/// The bit of `IO_OPTS` that turns a discrete value round.
pub const INVERT: u16 = 1;
/// The bit of `STATUS_OPTS` that makes a limited value uncertain.
pub const UNCERTAIN_IF_LIMITED: u16 = 1 << 6;
/// The bit of `STATUS_OPTS` that makes a limited value bad.
pub const BAD_IF_LIMITED: u16 = 1 << 7;

/// A mode: `AUTO`; several joined by `|`.
#[must_use]
pub fn mode_shown(mode: u8) -> String {
    let set: Vec<&str> = MODES.iter().filter(|(bit, _)| mode & bit != 0).map(|(_, name)| *name).collect();
    if set.is_empty() { "none".into() } else { set.join("|") }
}

/// `BLOCK_ERR` in words: `block configuration error, out of service`.
#[must_use]
pub fn errors_shown(errors: u16) -> String {
    let set: Vec<&str> = (0..16)
        .filter(|bit| errors >> bit & 1 == 1)
        .filter_map(|bit| BLOCK_ERRORS.get(bit).copied())
        .collect();
    if set.is_empty() { "no error".into() } else { set.join(", ") }
}

fn choices(parameter: &str, member: &str) -> Option<Choices> {
    CHOICES.iter().find(|(name, _)| [parameter, member].contains(name)).map(|(_, own)| *own)
}

fn options(parameter: &str) -> Option<&'static [(u8, &'static str)]> {
    OPTIONS.iter().find(|(name, _)| *name == parameter).map(|(_, own)| *own)
}

fn number(bytes: &[u8]) -> u32 {
    bytes.iter().fold(0, |sum, byte| sum << 8 | u32::from(*byte))
}

/// A member's value in words, where it is more than a number.
pub(super) fn in_words(parameter: &str, member: &Member, bytes: &[u8]) -> Option<String> {
    // Its number stands beside it.
    if let (true, Some(status)) = (is_status(member), bytes.first()) {
        return Some(Status(*status).to_string());
    }
    has_words(parameter, member).then(|| shown(parameter, member, bytes))
}

fn is_status(member: &Member) -> bool {
    matches!(member.name, "STATUS" | "SIMULATE_STATUS" | "TRANSDUCER_STATUS")
}

/// Whether a member says something besides a number.
pub(super) fn has_words(parameter: &str, member: &Member) -> bool {
    let own =
        matches!(parameter, "MODE_BLK" | "BLOCK_ERR") || is_status(member) || member.name == "UNITS_INDEX";
    own || choices(parameter, member.name).is_some() || options(parameter).is_some()
}

/// The value of a member in words.
pub(super) fn shown(parameter: &str, member: &Member, bytes: &[u8]) -> String {
    let raw = number(bytes);
    let byte = bytes.first().copied().unwrap_or_default();
    match (parameter, member.name, member.ty) {
        ("MODE_BLK", ..) => mode_shown(byte),
        ("BLOCK_ERR", ..) => errors_shown(u16::try_from(raw).unwrap_or(0)),
        _ if is_status(member) => format!("{} (0x{byte:02X})", Status(byte)),
        (_, "UNITS_INDEX", _) => unit_shown(u16::try_from(raw).unwrap_or(0)),
        (_, _, Type::F32) => f32::from_bits(raw).to_string(),
        (_, _, Type::I8) => byte.cast_signed().to_string(),
        (_, _, Type::Text(_)) => {
            let end = bytes.iter().rposition(|byte| !matches!(byte, 0 | b' ')).map_or(0, |last| last + 1);
            format!("\"{}\"", one_line(bytes.get(..end).unwrap_or_default()))
        }
        _ => {
            if let Some((_, word)) =
                choices(parameter, member.name).and_then(|own| own.iter().find(|(code, _)| *code == byte))
            {
                return (*word).to_string();
            }
            if let Some(options) = options(parameter) {
                let set = options.iter().filter(|(bit, _)| raw >> bit & 1 == 1).map(|(_, name)| *name);
                let set: Vec<&str> = set.collect();
                return if set.is_empty() { "none".into() } else { set.join(", ") };
            }
            raw.to_string()
        }
    }
}

/// What a person writes for a member, as its bytes.
///
/// # Errors
/// It is no value of that member, in words.
pub(super) fn read(parameter: &str, member: &Member, text: &str) -> Result<Vec<u8>, String> {
    let text = text.trim();
    let listed = |words: Vec<&str>| Err(format!("`{text}` is not one of {}", words.join(", ")));
    let whole =
        text.strip_prefix("0x").map_or_else(|| text.parse().ok(), |hex| i64::from_str_radix(hex, 16).ok());
    if parameter == "MODE_BLK" {
        let upper = text.to_ascii_uppercase();
        return match (MODES.iter().find(|(_, name)| *name == upper), whole) {
            (Some((bit, _)), _) => Ok(vec![*bit]),
            (None, Some(number)) if (1..256).contains(&number) => Ok(vec![number.to_le_bytes()[0]]),
            _ => listed(MODES.iter().map(|(_, name)| *name).collect()),
        };
    }
    if member.name == "UNITS_INDEX" {
        return unit_code(text)
            .map(|code| code.to_be_bytes().to_vec())
            .ok_or_else(|| format!("`{text}` is not a unit that is known: write its code"));
    }
    if let Some(choices) = choices(parameter, member.name) {
        let lower = text.to_ascii_lowercase();
        return match (choices.iter().find(|(_, word)| *word == lower), whole) {
            (Some((code, _)), _) => Ok(vec![*code]),
            (None, Some(number)) if (0..256).contains(&number) => Ok(vec![number.to_le_bytes()[0]]),
            _ => listed(choices.iter().map(|(_, word)| *word).collect()),
        };
    }
    if let Some(options) = options(parameter).filter(|_| whole.is_none()) {
        let mut bits = 0u16;
        for word in text.split(',').map(str::trim).filter(|word| !word.is_empty() && *word != "none") {
            match options.iter().find(|(_, name)| name.eq_ignore_ascii_case(word)) {
                Some((bit, _)) => bits |= 1 << bit,
                None => return listed(options.iter().map(|(_, name)| *name).collect()),
            }
        }
        let width = member.ty.bytes().unwrap_or(2) as usize;
        return Ok(bits.to_be_bytes().get(2usize.saturating_sub(width)..).unwrap_or_default().to_vec());
    }
    match member.ty {
        Type::F32 => match text.parse::<f32>() {
            Ok(number) if number.is_finite() => Ok(number.to_be_bytes().to_vec()),
            _ => Err(format!("`{text}` is not a number")),
        },
        Type::Text(most) if text.is_ascii() && text.len() <= usize::from(most) => {
            let mut bytes = text.as_bytes().to_vec();
            bytes.resize(most.into(), b' ');
            Ok(bytes)
        }
        Type::Text(most) => Err(format!("`{text}` is not a text of at most {most} ASCII characters")),
        ty => {
            let bytes = ty.bytes().unwrap_or(1);
            let signed = matches!(ty, Type::I8 | Type::I16 | Type::I32);
            let bits = 8 * bytes;
            let (low, high) = if signed {
                (-(1i64 << (bits - 1)), (1i64 << (bits - 1)) - 1)
            } else {
                (0, (1i64 << bits) - 1)
            };
            match whole.filter(|number| (low..=high).contains(number)) {
                Some(number) => Ok(number.to_be_bytes()[8 - bytes as usize..].to_vec()),
                None => Err(format!("`{text}` is not a whole number of {low} to {high}")),
            }
        }
    }
}

/// A scale as people write it: `0..120 degC`.
///
/// # Errors
/// It is none, in words.
pub(super) fn read_scale(text: &str) -> Result<(f32, f32, u16), String> {
    let wrong = || format!("`{text}` is not a scale such as `0..120 degC`");
    let (range, unit) = text.trim().split_once(' ').ok_or_else(wrong)?;
    let (low, high) = range.split_once("..").ok_or_else(wrong)?;
    let number = |text: &str| text.parse::<f32>().ok().filter(|number| number.is_finite()).ok_or_else(wrong);
    let unit = unit.trim();
    let code =
        unit_code(unit).ok_or_else(|| format!("`{unit}` is not a unit that is known: write `unit CODE`"))?;
    Ok((number(low)?, number(high)?, code))
}

/// The same of its three parts.
#[must_use]
pub fn scale_shown(eu_0: f32, eu_100: f32, unit: u16) -> String {
    format!("{eu_0}..{eu_100} {}", unit_shown(unit))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::protocol::h1::lists::{BlockKind, type_of};

    fn member(kind: BlockKind, parameter: &str, name: &str) -> Member {
        let ty = kind.parameters().find(|own| own.name == parameter).unwrap().ty;
        *ty.members.iter().find(|own| own.name == name).unwrap()
    }

    #[test]
    fn words_of_a_member_are_read_back() {
        for (parameter, name, words) in [
            ("MODE_BLK", "TARGET", "AUTO"),
            ("L_TYPE", "", "indirect square root"),
            ("OUT_SCALE", "UNITS_INDEX", "degC"),
            ("OUT_SCALE", "EU_100", "0.1"),
            ("OUT_SCALE", "DECIMAL", "-1"),
            ("IO_OPTS", "", "invert, low cutoff"),
            ("STATUS_OPTS", "", "uncertain if limited"),
            ("CHANNEL", "", "65535"),
            ("SIMULATE", "ENABLE_DISABLE", "on"),
            ("GRANT_DENY", "DENY", "program, alarm"),
        ] {
            let own = member(BlockKind::Ai, parameter, name);
            let bytes = read(parameter, &own, words).unwrap();
            assert_eq!(bytes.len(), own.ty.bytes().unwrap() as usize);
            assert_eq!(shown(parameter, &own, &bytes), words);
        }
        let tag = read("TAG_DESC", &type_of("STRING32").unwrap().members[0], "Inlet").unwrap();
        assert_eq!(tag.len(), 32);
    }

    #[test]
    fn what_is_no_value_is_told_with_what_would_be() {
        let own = |parameter, name| member(BlockKind::Ai, parameter, name);
        assert!(read("MODE_BLK", &own("MODE_BLK", "TARGET"), "automatic").unwrap_err().contains("AUTO"));
        assert!(read("L_TYPE", &own("L_TYPE", ""), "sqrt").unwrap_err().contains("indirect square root"));
        assert!(read("CHANNEL", &own("CHANNEL", ""), "65536").unwrap_err().contains("0 to 65535"));
        assert!(read("LOW_CUT", &own("LOW_CUT", ""), "NaN").unwrap_err().contains("not a number"));
        assert_eq!(read_scale("-50..150 degC"), Ok((-50.0, 150.0, 1001)));
        assert!(read_scale("0..120").unwrap_err().contains("0..120 degC"));
        assert!(read_scale("0..120 furlong").unwrap_err().contains("unit CODE"));
        assert_eq!(scale_shown(-50.0, 150.0, 1001), "-50..150 degC");
    }

    #[test]
    fn modes_and_errors_are_told_in_words() {
        assert_eq!(mode_shown(0x98), "OOS|MAN|AUTO");
        assert_eq!(errors_shown(0x8002), "block configuration error, out of service");
        assert_eq!((mode_shown(0), errors_shown(0)), ("none".into(), "no error".into()));
    }
}
