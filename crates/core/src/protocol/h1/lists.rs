//! Parameters of standard blocks, with their place, type and access, as H1's function block specification lists them; and
//! what a type is made of.
//!
//! Places and types are from the specification as far as it is known here; a profile may say another of any of them.

use crate::form::Type;
use woodrush_wire::h1::kind;

/// A type of parameters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ParameterType {
    /// As profiles call it.
    pub name: &'static str,
    /// Its number on the link.
    pub code: u8,
    /// Its bytes.
    pub bytes: u8,
    /// What it is made of; one member without a name where it is no structure.
    pub members: &'static [Member],
}

/// A member of a structure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Member {
    /// As it stands behind the parameter.
    pub name: &'static str,
    /// Its first byte.
    pub at: u8,
    /// Its type.
    pub ty: Type,
    /// Its sub-index.
    pub sub: u8,
}

const fn m(name: &'static str, at: u8, ty: Type, sub: u8) -> Member {
    Member { name, at, ty, sub }
}

const fn plain(name: &'static str, code: u8, bytes: u8, members: &'static [Member]) -> ParameterType {
    ParameterType { name, code, bytes, members }
}

const BITS: Type = Type::U16;

static U8: ParameterType = plain("U8", kind::UNSIGNED8, 1, &[m("", 0, Type::U8, 0)]);
static U16: ParameterType = plain("U16", kind::UNSIGNED16, 2, &[m("", 0, Type::U16, 0)]);
static U32: ParameterType = plain("U32", kind::UNSIGNED32, 4, &[m("", 0, Type::U32, 0)]);
static I8: ParameterType = plain("I8", kind::INTEGER8, 1, &[m("", 0, Type::I8, 0)]);
static I16: ParameterType = plain("I16", kind::INTEGER16, 2, &[m("", 0, Type::I16, 0)]);
static I32: ParameterType = plain("I32", kind::INTEGER32, 4, &[m("", 0, Type::I32, 0)]);
static FLOAT: ParameterType = plain("FLOAT", kind::FLOAT, 4, &[m("", 0, Type::F32, 0)]);
static STRING: ParameterType = plain("STRING32", kind::VISIBLE_STRING, 32, &[m("", 0, Type::Text(32), 0)]);
static BIT16: ParameterType = plain("BITS16", kind::BIT_STRING, 2, &[m("", 0, BITS, 0)]);
static BLOCK_ERR: ParameterType = plain("BLOCK_ERR", kind::BLOCK_ERR, 2, &[m("", 0, BITS, 0)]);
static DS_65: ParameterType =
    plain("DS-65", kind::DS_65, 5, &[m("STATUS", 0, Type::U8, 1), m("VALUE", 1, Type::F32, 2)]);
static DS_66: ParameterType =
    plain("DS-66", kind::DS_66, 2, &[m("STATUS", 0, Type::U8, 1), m("VALUE", 1, Type::U8, 2)]);
static DS_68: ParameterType = plain(
    "DS-68",
    kind::DS_68,
    11,
    &[
        m("EU_100", 0, Type::F32, 1),
        m("EU_0", 4, Type::F32, 2),
        m("UNITS_INDEX", 8, Type::U16, 3),
        m("DECIMAL", 10, Type::I8, 4),
    ],
);
static DS_69: ParameterType = plain(
    "DS-69",
    kind::DS_69,
    4,
    &[
        m("TARGET", 0, Type::U8, 1),
        m("ACTUAL", 1, Type::U8, 2),
        m("PERMITTED", 2, Type::U8, 3),
        m("NORMAL", 3, Type::U8, 4),
    ],
);
// The link has no number of its own for these two bytes.
static GRANT_DENY: ParameterType =
    plain("GRANT-DENY", kind::OCTET_STRING, 2, &[m("GRANT", 0, Type::U8, 1), m("DENY", 1, Type::U8, 2)]);
static DS_74: ParameterType = plain(
    "DS-74",
    kind::DS_74,
    8,
    &[
        m("CURRENT", 0, BITS, 1),
        m("UNACKNOWLEDGED", 2, BITS, 2),
        m("UNREPORTED", 4, BITS, 3),
        m("DISABLED", 6, BITS, 4),
    ],
);
static DS_82: ParameterType = plain(
    "DS-82",
    kind::DS_82,
    11,
    &[
        m("SIMULATE_STATUS", 0, Type::U8, 1),
        m("SIMULATE_VALUE", 1, Type::F32, 2),
        m("TRANSDUCER_STATUS", 5, Type::U8, 3),
        m("TRANSDUCER_VALUE", 6, Type::F32, 4),
        m("ENABLE_DISABLE", 10, Type::U8, 5),
    ],
);

/// Every type that a profile may name.
pub(super) static TYPES: [&ParameterType; 17] = [
    &U8,
    &U16,
    &U32,
    &I8,
    &I16,
    &I32,
    &FLOAT,
    &STRING,
    &BIT16,
    &BLOCK_ERR,
    &DS_65,
    &DS_66,
    &DS_68,
    &DS_69,
    &GRANT_DENY,
    &DS_74,
    &DS_82,
];

/// How a parameter may be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ParameterAccess {
    /// Not at all.
    Read,
    /// Any time; what it was is forgotten at a restart.
    Dynamic,
    /// It is kept, and its block counts each change in `ST_REV`.
    Static,
    /// The same, while the block is out of service.
    OutOfService,
}

/// A parameter of a standard block.
#[derive(Debug, Clone, Copy)]
pub struct StandardParameter {
    /// Its place in the block, from 1.
    pub place: u16,
    /// Its name.
    pub name: &'static str,
    /// Its type.
    pub ty: &'static ParameterType,
    /// How it may be written.
    pub access: ParameterAccess,
    /// Whether it is an output that others can be given as it is made.
    pub publishes: bool,
}

const fn p(
    place: u16,
    name: &'static str,
    ty: &'static ParameterType,
    access: ParameterAccess,
) -> StandardParameter {
    StandardParameter { place, name, ty, access, publishes: false }
}

const fn out(
    place: u16,
    name: &'static str,
    ty: &'static ParameterType,
    access: ParameterAccess,
) -> StandardParameter {
    StandardParameter { place, name, ty, access, publishes: true }
}

use ParameterAccess::{Dynamic as D, OutOfService as O, Read as R, Static as S};

/// What every block begins with.
static COMMON: [StandardParameter; 6] = [
    p(1, "ST_REV", &U16, R),
    p(2, "TAG_DESC", &STRING, S),
    p(3, "STRATEGY", &U16, S),
    p(4, "ALERT_KEY", &U8, S),
    p(5, "MODE_BLK", &DS_69, D),
    p(6, "BLOCK_ERR", &BLOCK_ERR, R),
];

static RESOURCE: [StandardParameter; 29] = [
    p(7, "RS_STATE", &U8, R),
    p(10, "MANUFAC_ID", &U32, R),
    p(11, "DEV_TYPE", &U16, R),
    p(12, "DEV_REV", &U8, R),
    p(13, "DD_REV", &U8, R),
    p(14, "GRANT_DENY", &GRANT_DENY, D),
    p(15, "HARD_TYPES", &BIT16, R),
    p(16, "RESTART", &U8, D),
    p(17, "FEATURES", &BIT16, R),
    p(18, "FEATURE_SEL", &BIT16, S),
    p(19, "CYCLE_TYPE", &BIT16, R),
    p(20, "CYCLE_SEL", &BIT16, S),
    p(21, "MIN_CYCLE_T", &U32, R),
    p(22, "MEMORY_SIZE", &U16, R),
    p(23, "NV_CYCLE_T", &U32, R),
    p(24, "FREE_SPACE", &FLOAT, R),
    p(25, "FREE_TIME", &FLOAT, R),
    p(26, "SHED_RCAS", &U32, S),
    p(27, "SHED_ROUT", &U32, S),
    p(28, "FAULT_STATE", &U8, R),
    p(29, "SET_FSTATE", &U8, D),
    p(30, "CLR_FSTATE", &U8, D),
    p(31, "MAX_NOTIFY", &U8, R),
    p(32, "LIM_NOTIFY", &U8, S),
    p(33, "CONFIRM_TIME", &U32, S),
    p(34, "WRITE_LOCK", &U8, S),
    p(38, "ACK_OPTION", &BIT16, S),
    p(39, "WRITE_PRI", &U8, S),
    p(41, "ITK_VER", &U16, R),
];

static AI: [StandardParameter; 24] = [
    p(7, "PV", &DS_65, R),
    out(8, "OUT", &DS_65, D),
    p(9, "SIMULATE", &DS_82, D),
    p(10, "XD_SCALE", &DS_68, O),
    p(11, "OUT_SCALE", &DS_68, O),
    p(12, "GRANT_DENY", &GRANT_DENY, D),
    p(13, "IO_OPTS", &BIT16, O),
    p(14, "STATUS_OPTS", &BIT16, O),
    p(15, "CHANNEL", &U16, O),
    p(16, "L_TYPE", &U8, O),
    p(17, "LOW_CUT", &FLOAT, S),
    p(18, "PV_FTIME", &FLOAT, S),
    p(19, "FIELD_VAL", &DS_65, R),
    p(22, "ALARM_SUM", &DS_74, S),
    p(23, "ACK_OPTION", &BIT16, S),
    p(24, "ALARM_HYS", &FLOAT, S),
    p(25, "HI_HI_PRI", &U8, S),
    p(26, "HI_HI_LIM", &FLOAT, S),
    p(27, "HI_PRI", &U8, S),
    p(28, "HI_LIM", &FLOAT, S),
    p(29, "LO_PRI", &U8, S),
    p(30, "LO_LIM", &FLOAT, S),
    p(31, "LO_LO_PRI", &U8, S),
    p(32, "LO_LO_LIM", &FLOAT, S),
];

static DI: [StandardParameter; 12] = [
    p(7, "PV_D", &DS_66, R),
    out(8, "OUT_D", &DS_66, D),
    p(12, "GRANT_DENY", &GRANT_DENY, D),
    p(13, "IO_OPTS", &BIT16, O),
    p(14, "STATUS_OPTS", &BIT16, O),
    p(15, "CHANNEL", &U16, O),
    p(16, "PV_FTIME", &FLOAT, S),
    p(17, "FIELD_VAL_D", &DS_66, R),
    p(20, "ALARM_SUM", &DS_74, S),
    p(21, "ACK_OPTION", &BIT16, S),
    p(22, "DISC_PRI", &U8, S),
    p(23, "DISC_LIM", &U8, S),
];

static AO: [StandardParameter; 22] = [
    p(7, "PV", &DS_65, R),
    p(8, "SP", &DS_65, D),
    out(9, "OUT", &DS_65, D),
    p(10, "SIMULATE", &DS_82, D),
    p(11, "PV_SCALE", &DS_68, O),
    p(12, "XD_SCALE", &DS_68, O),
    p(13, "GRANT_DENY", &GRANT_DENY, D),
    p(14, "IO_OPTS", &BIT16, O),
    p(15, "STATUS_OPTS", &BIT16, O),
    p(16, "READBACK", &DS_65, R),
    p(17, "CAS_IN", &DS_65, D),
    p(18, "SP_RATE_DN", &FLOAT, S),
    p(19, "SP_RATE_UP", &FLOAT, S),
    p(20, "SP_HI_LIM", &FLOAT, S),
    p(21, "SP_LO_LIM", &FLOAT, S),
    p(22, "CHANNEL", &U16, O),
    p(23, "FSTATE_TIME", &FLOAT, S),
    p(24, "FSTATE_VAL", &FLOAT, S),
    out(25, "BKCAL_OUT", &DS_65, R),
    p(26, "RCAS_IN", &DS_65, D),
    p(27, "SHED_OPT", &U8, S),
    p(28, "RCAS_OUT", &DS_65, R),
];

static DO: [StandardParameter; 15] = [
    p(7, "PV_D", &DS_66, R),
    p(8, "SP_D", &DS_66, D),
    out(9, "OUT_D", &DS_66, D),
    p(13, "GRANT_DENY", &GRANT_DENY, D),
    p(14, "IO_OPTS", &BIT16, O),
    p(15, "STATUS_OPTS", &BIT16, O),
    p(16, "READBACK_D", &DS_66, R),
    p(17, "CAS_IN_D", &DS_66, D),
    p(18, "CHANNEL", &U16, O),
    p(19, "FSTATE_TIME", &FLOAT, S),
    p(20, "FSTATE_VAL_D", &U8, S),
    out(21, "BKCAL_OUT_D", &DS_66, R),
    p(22, "RCAS_IN_D", &DS_66, D),
    p(23, "SHED_OPT", &U8, S),
    p(24, "RCAS_OUT_D", &DS_66, R),
];

static PID: [StandardParameter; 51] = [
    p(7, "PV", &DS_65, R),
    p(8, "SP", &DS_65, D),
    out(9, "OUT", &DS_65, D),
    p(10, "PV_SCALE", &DS_68, O),
    p(11, "OUT_SCALE", &DS_68, O),
    p(12, "GRANT_DENY", &GRANT_DENY, D),
    p(13, "CONTROL_OPTS", &BIT16, O),
    p(14, "STATUS_OPTS", &BIT16, O),
    p(15, "IN", &DS_65, D),
    p(16, "PV_FTIME", &FLOAT, S),
    p(17, "BYPASS", &U8, S),
    p(18, "CAS_IN", &DS_65, D),
    p(19, "SP_RATE_DN", &FLOAT, S),
    p(20, "SP_RATE_UP", &FLOAT, S),
    p(21, "SP_HI_LIM", &FLOAT, S),
    p(22, "SP_LO_LIM", &FLOAT, S),
    p(23, "GAIN", &FLOAT, S),
    p(24, "RESET", &FLOAT, S),
    p(25, "BAL_TIME", &FLOAT, S),
    p(26, "RATE", &FLOAT, S),
    p(27, "BKCAL_IN", &DS_65, D),
    p(28, "OUT_HI_LIM", &FLOAT, S),
    p(29, "OUT_LO_LIM", &FLOAT, S),
    p(30, "BKCAL_HYS", &FLOAT, S),
    out(31, "BKCAL_OUT", &DS_65, R),
    p(32, "RCAS_IN", &DS_65, D),
    p(33, "ROUT_IN", &DS_65, D),
    p(34, "SHED_OPT", &U8, S),
    p(35, "RCAS_OUT", &DS_65, R),
    p(36, "ROUT_OUT", &DS_65, R),
    p(37, "TRK_SCALE", &DS_68, O),
    p(38, "TRK_IN_D", &DS_66, D),
    p(39, "TRK_VAL", &DS_65, D),
    p(40, "FF_VAL", &DS_65, D),
    p(41, "FF_SCALE", &DS_68, O),
    p(42, "FF_GAIN", &FLOAT, S),
    p(45, "ALARM_SUM", &DS_74, S),
    p(46, "ACK_OPTION", &BIT16, S),
    p(47, "ALARM_HYS", &FLOAT, S),
    p(48, "HI_HI_PRI", &U8, S),
    p(49, "HI_HI_LIM", &FLOAT, S),
    p(50, "HI_PRI", &U8, S),
    p(51, "HI_LIM", &FLOAT, S),
    p(52, "LO_PRI", &U8, S),
    p(53, "LO_LIM", &FLOAT, S),
    p(54, "LO_LO_PRI", &U8, S),
    p(55, "LO_LO_LIM", &FLOAT, S),
    p(56, "DV_HI_PRI", &U8, S),
    p(57, "DV_HI_LIM", &FLOAT, S),
    p(58, "DV_LO_PRI", &U8, S),
    p(59, "DV_LO_LIM", &FLOAT, S),
];

/// What a block is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum BlockKind {
    /// The device itself; one of each.
    Resource,
    /// What turns a measured thing into a value, or a value into a thing that moves.
    Transducer,
    /// Analog input.
    Ai,
    /// Discrete input.
    Di,
    /// Analog output.
    Ao,
    /// Discrete output.
    Do,
    /// Controller.
    Pid,
}

/// Every kind: as profiles call it, its number on the link, and how many parameters the standard gives it.
static KINDS: [(BlockKind, &str, u16, u16, &[StandardParameter]); 7] = [
    (BlockKind::Resource, "RESOURCE", 0x8001, 41, &RESOURCE),
    (BlockKind::Transducer, "TRANSDUCER", 0x8002, 6, &[]),
    (BlockKind::Ai, "AI", 0x0101, 36, &AI),
    (BlockKind::Di, "DI", 0x0102, 24, &DI),
    (BlockKind::Ao, "AO", 0x0103, 30, &AO),
    (BlockKind::Do, "DO", 0x0104, 26, &DO),
    (BlockKind::Pid, "PID", 0x0105, 65, &PID),
];

/// The words of all kinds, for the key's list.
pub(super) const KIND_WORDS: [&str; 7] = ["RESOURCE", "TRANSDUCER", "AI", "DI", "AO", "DO", "PID"];

impl BlockKind {
    fn row(self) -> Option<&'static (Self, &'static str, u16, u16, &'static [StandardParameter])> {
        KINDS.iter().find(|(kind, ..)| *kind == self)
    }

    /// The kind that profiles call so.
    #[must_use]
    pub fn of_word(word: &str) -> Option<Self> {
        KINDS.iter().find(|(_, own, ..)| *own == word).map(|(kind, ..)| *kind)
    }

    /// The kind of that number on the link.
    #[must_use]
    pub fn of_code(code: u16) -> Option<Self> {
        KINDS.iter().find(|(_, _, own, ..)| *own == code).map(|(kind, ..)| *kind)
    }

    /// As profiles call it.
    #[must_use]
    pub fn word(self) -> &'static str {
        self.row().map_or("", |(_, word, ..)| *word)
    }

    /// Its number on the link.
    #[must_use]
    pub fn code(self) -> u16 {
        self.row().map_or(0, |(_, _, code, ..)| *code)
    }

    /// How many parameters the standard gives it.
    #[must_use]
    pub fn length(self) -> u16 {
        self.row().map_or(6, |(_, _, _, length, _)| *length)
    }

    /// Its parameters.
    pub fn parameters(self) -> impl Iterator<Item = &'static StandardParameter> {
        COMMON.iter().chain(self.row().map_or(&[][..], |(.., own)| own))
    }
}

/// The type that a profile calls so.
#[must_use]
pub fn type_of(name: &str) -> Option<&'static ParameterType> {
    TYPES.into_iter().find(|own| own.name.eq_ignore_ascii_case(name))
}

/// The type of that number on the link.
#[must_use]
pub fn type_of_code(code: u8) -> Option<&'static ParameterType> {
    TYPES.into_iter().find(|own| own.code == code)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_ascend_and_stay_within_their_blocks() {
        for (kind, word, ..) in KINDS {
            let places: Vec<u16> = kind.parameters().map(|own| own.place).collect();
            assert!(places.windows(2).all(|pair| pair[0] < pair[1]), "{word}: {places:?}");
            assert!(places.iter().all(|place| *place <= kind.length()), "{word}");
            let mut names: Vec<&str> = kind.parameters().map(|own| own.name).collect();
            names.sort_unstable();
            let all = names.len();
            names.dedup();
            assert_eq!(names.len(), all, "{word}");
            assert_eq!(BlockKind::of_word(word), Some(kind));
            assert_eq!(BlockKind::of_code(kind.code()), Some(kind));
        }
        assert_eq!(KIND_WORDS, KINDS.map(|(_, word, ..)| word));
    }

    #[test]
    fn members_fill_their_type() {
        for ty in TYPES {
            let bytes: u32 = ty.members.iter().map(|own| own.ty.bytes().unwrap_or(32)).sum();
            assert_eq!(bytes, u32::from(ty.bytes), "{}", ty.name);
            assert_eq!(
                woodrush_wire::h1::value_size(ty.code).unwrap_or(ty.bytes.into()),
                usize::from(ty.bytes)
            );
        }
    }

    /// The places that the reference names for what integrators use most.
    #[test]
    fn places_are_those_of_the_reference() {
        let place =
            |kind: BlockKind, name: &str| kind.parameters().find(|own| own.name == name).unwrap().place;
        assert_eq!(place(BlockKind::Ai, "OUT"), 8);
        assert_eq!(place(BlockKind::Ai, "L_TYPE"), 16);
        assert_eq!(place(BlockKind::Ao, "CHANNEL"), 22);
        assert_eq!(place(BlockKind::Pid, "GAIN"), 23);
        assert_eq!(place(BlockKind::Di, "OUT_D"), 8);
        assert_eq!(place(BlockKind::Do, "CHANNEL"), 18);
        assert_eq!((place(BlockKind::Do, "IO_OPTS"), place(BlockKind::Do, "STATUS_OPTS")), (14, 15));
        let denied = [BlockKind::Resource, BlockKind::Ai, BlockKind::Ao, BlockKind::Do, BlockKind::Pid];
        assert_eq!(denied.map(|kind| place(kind, "GRANT_DENY")), [14, 12, 13, 13, 12]);
        assert_eq!(place(BlockKind::Resource, "WRITE_LOCK"), 34);
    }
}
