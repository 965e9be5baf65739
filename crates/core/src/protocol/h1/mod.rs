//! Devices of an H1 segment behind a link that stands in for a linking device: blocks, parameters, keys, limits and costs.

mod analog;
mod lists;
mod parameter;
mod refusals;
mod requests;
mod set_up;
mod terms;
#[cfg(test)]
mod tests;
mod units;
pub mod words;

pub use analog::{AnalogInput, AnalogInputs, AnalogRun, ConfigurationFault, configuration_fault, run};
pub use lists::{
    BlockKind, Member, ParameterAccess, ParameterType, StandardParameter, type_of, type_of_code,
};
pub use parameter::{Located, Parameter, find, members, parameters};
pub use refusals::{NO_TAG, OTHER_BLOCK, OTHER_REVISION, REPLACED, WRONG_SIZE, link_code};
pub use units::{UNITS, unit_code, unit_shown};
pub use words::{errors_shown, mode_shown, scale_shown};

use super::{
    Address, AddressContext, AddressFault, Content, Dialect, Framing, Key, KeyKind, Link, Meanings, Notation,
    PortKeys, Publishing, Refusals, Requests, SettingFault, Setup, ShownAddress, ShownMember, Space,
    StationId, Stations, Transport,
};
use crate::form::{Order, Type};
use crate::term::Term;
use std::ops::Range;
use std::sync::Arc;
use woodrush_wire::h1::frame;

/// `h1-link`.
#[derive(Debug)]
pub(super) struct H1;

/// `h1-link`.
pub(super) static LINK: H1 = H1;

/// Characters of a device's tag, and of its device id.
const TAG_MAX: usize = 32;
/// The macrocycle where the project does not say.
const MACROCYCLE: u32 = 1_000_000;
/// Requests a second where the project does not say.
const RATE: u32 = 5;
/// What one publication takes of a macrocycle, all in, in microseconds: 20 to 30 ms.
const PUBLICATION: u64 = 25_000;
/// What one read or write takes of the unscheduled time, in microseconds: 50 to 100 ms.
const ACYCLIC: u64 = 75_000;
/// Publications in a row that are missing before a value counts as lost, where the project does not say.
const STALE: u32 = 3;

static KEYS: [Key; 18] = [
    Key {
        table: "ports",
        name: "unpolled",
        kind: KeyKind::Text,
        doc: "the nodes that the link never looks at, as set in it, such as `0x30-0xE9`: a device there is invisible",
    },
    Key {
        table: "ports",
        name: "macrocycle",
        kind: KeyKind::Duration,
        doc: "the segment's macrocycle, as set in the link; default 1s",
    },
    Key {
        table: "ports",
        name: "requests-per-second",
        kind: KeyKind::Whole(1, 50),
        doc: "most reads and writes a second on the link; default 5, because they take the segment's unscheduled time",
    },
    Key {
        table: "devices",
        name: "tag",
        kind: KeyKind::Text,
        doc: "the device's tag, by which it is found on its segment; at most 32 characters",
    },
    Key {
        table: "devices",
        name: "device-id",
        kind: KeyKind::Text,
        doc: "what never changes of the device; compared before the first write",
    },
    Key {
        table: "devices",
        name: "node",
        kind: KeyKind::Whole(0, 255),
        doc: "the node address that is expected; another one is followed and reported",
    },
    Key {
        table: "devices",
        name: "stale",
        kind: KeyKind::Whole(1, 255),
        doc: "publications in a row that are missing before a value counts as lost; default 3",
    },
    Key {
        table: "devices",
        name: "uncertain",
        kind: KeyKind::Choice(&["keep", "lose"]),
        doc: "a value that the device calls uncertain: `keep` it (default), or `lose` it",
    },
    Key {
        table: "blocks",
        name: "type",
        kind: KeyKind::Choice(&lists::KIND_WORDS),
        doc: "what the block is; its standard parameters are known",
    },
    Key {
        table: "blocks",
        name: "start",
        kind: KeyKind::Whole(1, 65_000),
        doc: "index of its block object, from the device's directory or its description",
    },
    Key {
        table: "blocks",
        name: "execution",
        kind: KeyKind::Duration,
        doc: "how long one run of it takes, for the budget of the macrocycle",
    },
    Key {
        table: "blocks",
        name: "channels",
        kind: KeyKind::Own(Content::Units),
        doc: "its channels with the units that each has: `{ 1 = \"degC\" }`",
    },
    Key {
        table: "blocks",
        name: "parameters",
        kind: KeyKind::Own(Content::Tables("parameters")),
        doc: "parameters that no standard lists, or that lie elsewhere: `{ PRIMARY_VALUE = { place = 14, type = \"DS-65\" } }`",
    },
    Key {
        table: "parameters",
        name: "place",
        kind: KeyKind::Whole(1, 1000),
        doc: "its place in the block: its index less `start`",
    },
    Key { table: "parameters", name: "type", kind: KeyKind::Choice(&TYPE_WORDS), doc: "its type" },
    Key {
        table: "parameters",
        name: "access",
        kind: KeyKind::Choice(&["read-only", "read-write"]),
        doc: "whether it may be written; default `read-only`",
    },
    Key {
        table: "profile",
        name: "device-type",
        kind: KeyKind::Whole(0, 65_535),
        doc: "the device's type number (DEV_TYPE)",
    },
    Key {
        table: "profile",
        name: "device-revision",
        kind: KeyKind::Whole(0, 255),
        doc: "the device revision (DEV_REV) that the indices hold for; another one is not written",
    },
];

/// The words of all types, for the key's list.
const TYPE_WORDS: [&str; 16] = [
    "U8",
    "U16",
    "U32",
    "I8",
    "I16",
    "I32",
    "FLOAT",
    "STRING32",
    "BITS16",
    "BLOCK_ERR",
    "DS-65",
    "DS-66",
    "DS-68",
    "DS-69",
    "DS-74",
    "DS-82",
];

/// The tag by which a device is found.
#[must_use]
pub fn tag(setup: &Setup) -> Option<&str> {
    setup.word("tag")
}

/// Whether what the device calls uncertain is taken.
#[must_use]
pub fn keeps_uncertain(setup: &Setup) -> bool {
    setup.word("uncertain") != Some("lose")
}

/// The segment's macrocycle as the project says it, in microseconds.
#[must_use]
pub fn macrocycle(setup: &Setup) -> u64 {
    setup.number("macrocycle").unwrap_or(MACROCYCLE).into()
}

/// Requests a second.
#[must_use]
pub fn rate(setup: &Setup) -> u32 {
    setup.number("requests-per-second").unwrap_or(RATE)
}

/// How a device's values come by themselves.
#[must_use]
pub fn publishing(setup: &Setup) -> Publishing {
    Publishing {
        turn: "macrocycle",
        every: macrocycle(setup),
        missed: setup.number("stale").unwrap_or(STALE),
        takes: PUBLICATION,
        request_takes: ACYCLIC,
    }
}

/// The nodes that the project says the link never looks at.
///
/// # Errors
/// It is no range of nodes, in words.
pub fn unpolled(port: PortKeys<'_>) -> Result<Option<Range<u32>>, String> {
    let Some(text) = port.0.word("unpolled") else { return Ok(None) };
    let wrong = || format!("`{text}` is not a range of nodes such as `0x30-0xE9`");
    let node = |text: &str| {
        let text = text.trim();
        let number = match text.strip_prefix("0x") {
            Some(hex) => u32::from_str_radix(hex, 16).ok(),
            None => text.parse().ok(),
        };
        number.filter(|node| *node < 256).ok_or_else(wrong)
    };
    let (first, last) = text.split_once('-').ok_or_else(wrong)?;
    let (first, last) = (node(first)?, node(last)?);
    if first > last { Err(wrong()) } else { Ok(Some(first..last + 1)) }
}

/// What a node address is for, where no device may have it.
#[must_use]
pub const fn node_fault(node: u32) -> Option<&'static str> {
    match node {
        0x00..=0x0F => Some("reserved"),
        0xF8..=0xFB => Some("a default address, of devices that have none of their own yet"),
        0xFC..=0xFF => Some("a visitor's address, of tools that are there for a while"),
        _ => None,
    }
}

impl Dialect for H1 {
    fn name(&self) -> &'static str {
        "h1-link"
    }

    fn family(&self) -> &'static str {
        "H1 blocks"
    }

    fn notation(&self) -> &dyn Notation {
        self
    }

    fn stations(&self) -> &dyn Stations {
        self
    }

    fn framing(&self) -> &dyn Framing {
        self
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        match transport {
            Transport::Connect => Ok(()),
            Transport::Listen => {
                Err("devices of a segment are asked, and the converter is none: write `connect`")
            }
            _ => Err("it goes over TCP to what stands in for a linking device: write `connect`"),
        }
    }

    fn refusals(&self) -> &'static Refusals {
        &refusals::REFUSALS
    }

    fn terms(&self) -> &'static [Term] {
        terms::terms()
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn port_faults(&self, setup: &Setup, _asks: bool) -> Vec<SettingFault> {
        let what = unpolled(PortKeys(setup)).err();
        let fault = |what| SettingFault {
            code: "F03",
            key: "unpolled",
            what,
            fix: "write the first and the last node, both as set in the link".into(),
        };
        what.map(fault).into_iter().collect()
    }

    fn station_faults(&self, setup: &Setup, port: PortKeys<'_>) -> Vec<SettingFault> {
        let mut found = vec![];
        let mut fault = |code, key, what: String, fix: &str| {
            found.push(SettingFault { code, key, what, fix: fix.into() });
        };
        match tag(setup) {
            // Told as any station without its key.
            None => {}
            Some(tag) if tag.len() > TAG_MAX || !tag.is_ascii() || tag.is_empty() => fault(
                "M39",
                "tag",
                format!("`{tag}` is not a valid tag (1 to {TAG_MAX} ASCII characters)"),
                "write the tag as set in the device",
            ),
            Some(_) => {}
        }
        if let Some(id) = setup.word("device-id").filter(|id| id.len() > TAG_MAX || !id.is_ascii()) {
            fault(
                "M39",
                "device-id",
                format!("`{id}` is not a valid device id (at most {TAG_MAX} ASCII characters)"),
                "write it as `woodrush scan` shows it",
            );
        }
        if let Some(node) = setup.number("node") {
            if let Some(what) = node_fault(node) {
                fault(
                    "M39",
                    "node",
                    format!("node 0x{node:02X} is {what}"),
                    "devices have 0x10 to 0xF7, outside the unpolled range",
                );
            }
            if let Some(range) = unpolled(port).ok().flatten().filter(|range| range.contains(&node)) {
                fault(
                    "M39",
                    "node",
                    format!(
                        "node 0x{node:02X} is in the unpolled range 0x{:02X}-0x{:02X}, where the link never looks: the device is invisible",
                        range.start,
                        range.end - 1
                    ),
                    "give the device a node outside of it, or make the range smaller in the link",
                );
            }
        }
        found
    }

    fn requests(&self) -> Option<&dyn Requests> {
        Some(self)
    }
}

impl Notation for H1 {
    fn parse(&self, text: &str, context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        parameter::parse(text, context)
    }

    fn show(&self, space: &Space, first: u32, _width: u32, _bit: Option<u8>, _setup: &Setup) -> ShownAddress {
        let own = Located::of(space);
        let index = own.map_or(0, |own| own.index);
        let member = own.and_then(|own| own.ty.members.iter().find(|own| u32::from(own.at) == first));
        let offset = match member.map(|own| own.sub).filter(|sub| *sub > 0) {
            Some(sub) => format!("index {index}, sub-index {sub}"),
            None => format!("index {index}"),
        };
        ShownAddress { canonical: parameter::show(space, first), offset, hex: format!("0x{index:04X}") }
    }

    fn table<'s>(&self, space: &'s Space) -> &'s str {
        space.name()
    }

    fn table_unit(&self, _space: &Space) -> &'static str {
        "byte"
    }

    fn named(&self, setup: &Setup) -> Vec<(Space, u32)> {
        let blocks = setup.blocks.iter().flat_map(|all| &all.blocks);
        let spaces = blocks.flat_map(parameters).map(|own| own.space());
        spaces.filter_map(|space| space.len.map(|len| (space, len))).collect()
    }

    fn meanings(&self) -> &dyn Meanings {
        self
    }

    fn order(&self, _space: &Space) -> Option<Order> {
        Some(Order::HIGH_FIRST)
    }
}

impl Meanings for H1 {
    fn whole(&self, text: &str, context: &AddressContext<'_>) -> Option<Space> {
        let (parameter, member) = find(context.setup.blocks.as_deref(), text).ok()?;
        (member.is_empty() && parameter.ty.members.len() > 1).then(|| parameter.space())
    }

    fn judge_of(&self, space: &Space, first: u32) -> Option<u32> {
        let (value, _) = Located::of(space)?.judged()?;
        (first == value).then_some(0)
    }

    fn judge_patterns(&self) -> &'static [u8] {
        &[0x80, 0x83, 0xC0, 0x81, 0x82, 0xFF, 0x94, 0xAA, 0xD5, 0xC3, 0xA8, 0x8C, 0x80, 0x10, 0x2F, 0x80]
    }

    fn is_sound(&self, judge: u8, setup: &Setup) -> bool {
        // The two highest bits: 0 bad, 1 uncertain, 2 and 3 good.
        judge >= 0x80 || judge >= 0x40 && keeps_uncertain(setup)
    }

    fn takes(&self, space: &Space, first: u32, cells: &[u8]) -> Option<bool> {
        let own = Located::of(space)?;
        let member = own.ty.members.iter().find(|own| u32::from(own.at) == first);
        Some(match member.map(|own| own.ty) {
            // Not a number is no set point, and infinity none either.
            Some(Type::F32) => cells.try_into().is_ok_and(|own| f32::from_be_bytes(own).is_finite()),
            _ if own.ty.name == "DS-69" => match cells {
                // Every block permits these, and of others each its own.
                [words::OOS | words::MAN | words::AUTO] => true,
                [0] => false,
                _ => return None,
            },
            _ => true,
        })
    }

    fn members(&self, space: &Space, cells: &[u8]) -> Vec<ShownMember> {
        members(space, cells)
    }

    fn words(&self, space: &Space, first: u32, cells: &[u8]) -> Option<String> {
        parameter::words_of(space, first, cells)
    }

    fn cells_of_words(&self, space: &Space, first: u32, text: &str) -> Option<Result<Vec<u8>, String>> {
        parameter::cells_of_words(space, first, text)
    }
}

impl Stations for H1 {
    fn shared_keys(&self) -> &'static [&'static str] {
        &["tag", "device-id", "node", "macrocycle", "unpolled"]
    }

    fn one_answers_for_all(&self) -> bool {
        true
    }

    fn station(&self, setup: &Setup) -> Option<StationId> {
        tag(setup).map(|tag| StationId::Name(Arc::from(tag)))
    }

    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        Some(("tag", 0..0))
    }

    fn to_set_up(&self, link: &Link<'_>) -> Option<String> {
        let tag = tag(link.setup).unwrap_or("its tag");
        Some(format!("the tag {tag} at the device, and its blocks in the segment's schedule"))
    }
}

impl Framing for H1 {
    fn usual_tcp_port(&self) -> Option<u16> {
        Some(10_900)
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        matches!(frame::parse(bytes), Ok(Some(_)))
    }

    fn pause(&self, setup: &Setup) -> u64 {
        requests::pause(setup)
    }
}
