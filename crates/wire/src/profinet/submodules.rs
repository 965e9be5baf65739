//! What a device is made of: the submodules that a controller expects, and how what is plugged differs.

use super::block::{self, Block, kind};
use crate::{Reader, WireError, WireFault};

pub(super) const FIELDS: [&str; 13] = [
    "number of APIs",
    "API",
    "slot",
    "module ident",
    "module properties",
    "number of submodules",
    "subslot",
    "submodule ident",
    "submodule properties",
    "data description",
    "data length",
    "IOCS length",
    "IOPS length",
];

/// A submodule that is expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Expected {
    /// Profile of the application.
    pub api: u32,
    /// Which slot.
    pub slot: u16,
    /// What module is in it.
    pub module: u32,
    /// Bits of the module.
    pub module_properties: u16,
    /// Which subslot.
    pub subslot: u16,
    /// What submodule is in it.
    pub ident: u32,
    /// Bits 1 and 0: whether it has inputs and outputs.
    pub properties: u16,
    /// Bytes that it sends to the controller; also one without data has an input, of none.
    pub input: Option<u16>,
    /// Bytes that the controller sends to it.
    pub output: Option<u16>,
}

/// Reads one block and gives each submodule that is expected.
///
/// # Errors
/// It is cut or goes on, or a field is out of its range: nothing that was given counts then.
pub fn parse(block: &Block<'_>, mut take: impl FnMut(Expected)) -> Result<(), WireError> {
    let mut reader = block.reader();
    for _ in 0..reader.u16_in("number of APIs", 1, 64)? {
        let api = reader.u32("API")?;
        let slot = reader.u16_in("slot", 0, 0x7FFF)?;
        let module = reader.u32("module ident")?;
        let module_properties = reader.u16("module properties")?;
        for _ in 0..reader.u16("number of submodules")? {
            let subslot = reader.u16_in("subslot", 1, 0x9FFF)?;
            let ident = reader.u32("submodule ident")?;
            let properties = reader.u16("submodule properties")?;
            let (mut input, mut output) = (None, None);
            match properties & 3 {
                0 | 1 => input = Some(description(&mut reader, 1)?),
                2 => output = Some(description(&mut reader, 2)?),
                _ => {
                    input = Some(description(&mut reader, 1)?);
                    output = Some(description(&mut reader, 2)?);
                }
            }
            take(Expected {
                api,
                slot,
                module,
                module_properties,
                subslot,
                ident,
                properties,
                input,
                output,
            });
        }
    }
    reader.end()
}

fn description(reader: &mut Reader<'_>, wanted: u16) -> Result<u16, WireError> {
    let at = reader.at;
    let got = reader.u16("data description")?;
    if got != wanted {
        let (low, high) = (wanted.into(), wanted.into());
        return reader.fault(at, WireFault::Range { field: "data description", got: got.into(), low, high });
    }
    let length = reader.u16_in("data length", 0, *super::rt::DATA.end())?;
    reader.u8_in("IOCS length", 1, 1)?;
    reader.u8_in("IOPS length", 1, 1)?;
    Ok(length)
}

/// Appends a block with the submodules of one slot, which must be there.
pub fn emit(out: &mut Vec<u8>, submodules: &[Expected]) {
    let Some(first) = submodules.first() else { return };
    block::emit_with(out, kind::EXPECTED, 0, |out| {
        out.extend_from_slice(&1u16.to_be_bytes());
        out.extend_from_slice(&first.api.to_be_bytes());
        out.extend_from_slice(&first.slot.to_be_bytes());
        out.extend_from_slice(&first.module.to_be_bytes());
        out.extend_from_slice(&first.module_properties.to_be_bytes());
        out.extend_from_slice(&u16::try_from(submodules.len()).unwrap_or(u16::MAX).to_be_bytes());
        for own in submodules {
            out.extend_from_slice(&own.subslot.to_be_bytes());
            out.extend_from_slice(&own.ident.to_be_bytes());
            out.extend_from_slice(&own.properties.to_be_bytes());
            for (code, length) in [(1u16, own.input), (2, own.output)] {
                let Some(length) = length else { continue };
                out.extend_from_slice(&code.to_be_bytes());
                out.extend_from_slice(&length.to_be_bytes());
                out.extend_from_slice(&[1, 1]);
            }
        }
    });
}

/// How a slot differs from what is expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ModuleState {
    /// There is none.
    Missing,
    /// Another one, which cannot stand in for it.
    Wrong,
    /// The right one, of which a submodule differs.
    Proper,
    /// Another one, which stands in for it.
    Substitute,
}

impl ModuleState {
    const fn of(code: u16) -> Option<Self> {
        match code {
            0 => Some(Self::Missing),
            1 => Some(Self::Wrong),
            2 => Some(Self::Proper),
            3 => Some(Self::Substitute),
            _ => None,
        }
    }

    const fn code(self) -> u16 {
        match self {
            Self::Missing => 0,
            Self::Wrong => 1,
            Self::Proper => 2,
            Self::Substitute => 3,
        }
    }

    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Missing => "there is no module",
            Self::Wrong => "another module is there",
            Self::Proper => "the module is right",
            Self::Substitute => "another module stands in",
        }
    }
}

/// State of a submodule: there is none.
pub const SUBMODULE_MISSING: u16 = 0x9800;
/// State of a submodule: another one, which cannot stand in for it.
pub const SUBMODULE_WRONG: u16 = 0x9000;

/// One slot or subslot that differs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Difference {
    /// Profile of the application.
    pub api: u32,
    /// Which slot.
    pub slot: u16,
    /// What is in it.
    pub module: u32,
    /// How it differs.
    pub state: ModuleState,
    /// Which subslot, what is in it, and its state; `None` where the slot is empty.
    pub submodule: Option<(u16, u32, u16)>,
}

/// Reads a block of differences and gives each of them.
///
/// # Errors
/// It is cut or goes on, or a state is none.
pub fn parse_differences(block: &Block<'_>, mut take: impl FnMut(Difference)) -> Result<(), WireError> {
    let mut reader = block.reader();
    for _ in 0..reader.u16_in("number of APIs", 1, 64)? {
        let api = reader.u32("API")?;
        for _ in 0..reader.u16("number of modules")? {
            let slot = reader.u16("slot")?;
            let module = reader.u32("module ident")?;
            let state = reader.choice("module state", "0 to 3", ModuleState::of)?;
            let count = reader.u16("number of submodules")?;
            if count == 0 {
                take(Difference { api, slot, module, state, submodule: None });
            }
            for _ in 0..count {
                let own =
                    (reader.u16("subslot")?, reader.u32("submodule ident")?, reader.u16("submodule state")?);
                take(Difference { api, slot, module, state, submodule: Some(own) });
            }
        }
    }
    reader.end()
}

/// Appends a block of differences of profile 0, each slot with its subslots in a row.
pub fn emit_differences(out: &mut Vec<u8>, differences: &[Difference]) {
    block::emit_with(out, kind::MODULE_DIFF, 0, |out| {
        let half = |out: &mut Vec<u8>, own: usize| {
            out.extend_from_slice(&u16::try_from(own).unwrap_or(u16::MAX).to_be_bytes());
        };
        half(out, 1);
        out.extend_from_slice(&[0; 4]);
        let slots = || differences.chunk_by(|own, other| own.slot == other.slot);
        half(out, slots().count());
        for slot in slots() {
            let Some(first) = slot.first() else { continue };
            out.extend_from_slice(&first.slot.to_be_bytes());
            out.extend_from_slice(&first.module.to_be_bytes());
            out.extend_from_slice(&first.state.code().to_be_bytes());
            let submodules = || slot.iter().filter_map(|own| own.submodule);
            half(out, submodules().count());
            for (subslot, ident, state) in submodules() {
                out.extend_from_slice(&subslot.to_be_bytes());
                out.extend_from_slice(&ident.to_be_bytes());
                out.extend_from_slice(&state.to_be_bytes());
            }
        }
    });
}
