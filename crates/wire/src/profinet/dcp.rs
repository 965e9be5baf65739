//! Discovery and configuration: who is there, and what name and address each station has.
//!
//! ```text
//! FrameID 2  service 1  type 1  transaction 4  delay 2  length 2  blocks
//! block: option 1  suboption 1  length 2  [information or qualifier 2]  value  [00 where the length is odd]
//! ```
//!
//! A request to get is a list of option and suboption alone. Frames that are refused are dropped.

use crate::{Reader, WireError, WireFault};
use std::net::Ipv4Addr;

const LAYER: &str = "DCP";
/// Where requests to identify go.
pub const IDENTIFY_TO: [u8; 6] = [0x01, 0x0E, 0xCF, 0, 0, 0];
/// Where greetings go.
pub const HELLO_TO: [u8; 6] = [0x01, 0x0E, 0xCF, 0, 0, 1];
/// The longest delay factor of a request to identify.
pub const DELAY_MAX: u16 = 6400;

/// What a frame is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Service {
    /// What a station has is asked.
    Get,
    /// It is changed.
    Set,
    /// Who has something is asked of all.
    Identify,
    /// A station says by itself that it is there.
    Hello,
}

/// Whether a frame asks or answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// It asks.
    Request,
    /// It answers, block by block.
    Success,
    /// The service is not known.
    NotSupported,
}

impl Service {
    const fn code(self) -> u8 {
        match self {
            Self::Get => 3,
            Self::Set => 4,
            Self::Identify => 5,
            Self::Hello => 6,
        }
    }

    /// FrameID of its requests, and of its answers.
    const fn frame_ids(self) -> (u16, u16) {
        match self {
            Self::Get | Self::Set => (0xFEFD, 0xFEFD),
            Self::Identify => (0xFEFE, 0xFEFF),
            Self::Hello => (0xFEFC, 0xFEFC),
        }
    }
}

/// What a block is about: option and suboption.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Choice(pub u8, pub u8);

impl Choice {
    /// MAC address.
    pub const MAC: Self = Self(1, 1);
    /// Address, mask and gateway.
    pub const IP: Self = Self(1, 2);
    /// What the maker calls the station's type.
    pub const STATION_TYPE: Self = Self(2, 1);
    /// Name of station.
    pub const NAME: Self = Self(2, 2);
    /// Vendor and device number.
    pub const DEVICE_ID: Self = Self(2, 3);
    /// Device or controller.
    pub const ROLE: Self = Self(2, 4);
    /// What the station knows.
    pub const OPTIONS: Self = Self(2, 5);
    /// A name by a neighbour: only to be found by.
    pub const ALIAS: Self = Self(2, 6);
    /// Number of the device's instance.
    pub const INSTANCE: Self = Self(2, 7);
    /// A transaction begins.
    pub const BEGIN: Self = Self(5, 1);
    /// It ends.
    pub const END: Self = Self(5, 2);
    /// It shows where it is, by a light.
    pub const SIGNAL: Self = Self(5, 3);
    /// What became of one block of a request.
    pub const RESPONSE: Self = Self(5, 4);
    /// It becomes as it was shipped, in the old way.
    pub const FACTORY: Self = Self(5, 5);
    /// It becomes as it was shipped, as far as its qualifier says.
    pub const RESET: Self = Self(5, 6);
    /// Whether the station greets.
    pub const INITIATIVE: Self = Self(6, 1);
    /// Every station.
    pub const ALL: Self = Self(255, 255);
}

/// What became of one block of a request to set.
pub mod outcome {
    /// It is done.
    pub const OK: u8 = 0;
    /// The option is not known.
    pub const OPTION: u8 = 1;
    /// The suboption is not known, or has nothing to be set.
    pub const SUBOPTION: u8 = 2;
    /// It is known and was not set.
    pub const NOT_SET: u8 = 3;
    /// There is no room.
    pub const RESOURCE: u8 = 4;
    /// The value cannot be taken.
    pub const VALUE: u8 = 5;
    /// A controller is connected.
    pub const IN_OPERATION: u8 = 6;

    /// In words.
    #[must_use]
    pub const fn words(code: u8) -> &'static str {
        match code {
            OK => "done",
            OPTION => "it does not know the option",
            SUBOPTION => "it does not know the suboption",
            NOT_SET => "it did not set it",
            RESOURCE => "it has no room",
            VALUE => "it does not take the value",
            IN_OPERATION => "a controller is connected to it",
            _ => "it refuses with an unknown number",
        }
    }
}

/// Bit 0 of the qualifier of a request to set: it outlives the power.
pub const PERMANENT: u16 = 1;
/// The qualifier of a reset: name and address.
pub const RESET_COMMUNICATION: u16 = 4;
/// What a station that blinks is told.
pub const FLASH: u16 = 0x0100;
/// In the information of an address: it is set.
pub const IP_SET: u16 = 1;
/// In the information of an address: another station has it too.
pub const IP_CONFLICT: u16 = 0x80;
/// Bit of the role of a device.
pub const ROLE_DEVICE: u8 = 1;
/// Bit of the role of a controller.
pub const ROLE_CONTROLLER: u8 = 2;

/// Address, mask and gateway.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct IpSuite {
    /// The station's own.
    pub address: Ipv4Addr,
    /// Of its network.
    pub mask: Ipv4Addr,
    /// The way out; its own address or 0.0.0.0 where there is none.
    pub gateway: Ipv4Addr,
}

impl IpSuite {
    /// None at all.
    pub const NONE: Self =
        Self { address: Ipv4Addr::UNSPECIFIED, mask: Ipv4Addr::UNSPECIFIED, gateway: Ipv4Addr::UNSPECIFIED };

    /// The twelve bytes of a block.
    #[must_use]
    pub fn bytes(&self) -> [u8; 12] {
        let mut bytes = [0; 12];
        let fields = [self.address, self.mask, self.gateway];
        for (place, field) in bytes.chunks_exact_mut(4).zip(fields) {
            place.copy_from_slice(&field.octets());
        }
        bytes
    }

    /// What twelve bytes say; `None` where there are more or fewer.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Option<Self> {
        let [a, b, c, d, e, f, g, h, i, j, k, l] = *bytes.as_array()?;
        let address = |octets: [u8; 4]| Ipv4Addr::from(octets);
        Some(Self {
            address: address([a, b, c, d]),
            mask: address([e, f, g, h]),
            gateway: address([i, j, k, l]),
        })
    }
}

/// One block of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DcpBlock<'a> {
    /// What it is about.
    pub choice: Choice,
    /// The word before the value: information in an answer, a qualifier in a request to set.
    pub word: Option<u16>,
    /// The value.
    pub value: &'a [u8],
}

/// One frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dcp<'a> {
    /// What it is for.
    pub service: Service,
    /// Whether it asks.
    pub kind: Kind,
    /// The same in an answer as in its request.
    pub transaction: u32,
    /// Over how many stations answers to an identification are spread; 0 in other frames.
    pub delay: u16,
    blocks: &'a [u8],
}

/// Whether a word stands before the value of a block of such a frame.
const fn has_word(service: Service, kind: Kind) -> bool {
    !matches!((service, kind), (Service::Identify, Kind::Request) | (Service::Set, Kind::Success))
}

fn block<'a>(reader: &mut Reader<'a>, service: Service, kind: Kind) -> Result<DcpBlock<'a>, WireError> {
    let choice = Choice(reader.u8("option")?, reader.u8("suboption")?);
    if (service, kind) == (Service::Get, Kind::Request) {
        return Ok(DcpBlock { choice, word: None, value: &[] });
    }
    // What became of a block has no word of its own, whatever the frame.
    let has_word = has_word(service, kind) && choice != Choice::RESPONSE;
    let length = usize::from(reader.u16_in("block length", if has_word { 2 } else { 0 }, u16::MAX)?);
    let word = if has_word { Some(reader.u16("information")?) } else { None };
    let value = reader.bytes("block", if has_word { length - 2 } else { length })?;
    if length % 2 == 1 {
        reader.u8_in("padding", 0, 0)?;
    }
    Ok(DcpBlock { choice, word, value })
}

impl<'a> Dcp<'a> {
    /// Reads a frame, from its FrameID on; what Ethernet has filled it up with is passed over.
    ///
    /// # Errors
    /// It is cut, a block goes past its end, or its service, kind and FrameID do not belong together.
    pub fn parse(frame: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, frame);
        let frame_id = reader.u16("FrameID")?;
        let at = reader.at;
        let allowed = "3 get, 4 set, 5 identify and 6 hello, each with its own FrameID";
        let code = reader.u8("service")?;
        let known = [Service::Get, Service::Set, Service::Identify, Service::Hello];
        let kind_at = reader.at;
        let kind_code = reader.u8("service type")?;
        let kind = match kind_code {
            0 => Kind::Request,
            1 => Kind::Success,
            5 => Kind::NotSupported,
            got => {
                let fault = WireFault::Choice {
                    field: "service type",
                    got: got.into(),
                    allowed: "0 request, 1 success, 5 not supported",
                };
                return reader.fault(kind_at, fault);
            }
        };
        let service = known.into_iter().find(|own| {
            let (asks, answers) = own.frame_ids();
            own.code() == code && frame_id == if kind == Kind::Request { asks } else { answers }
        });
        let Some(service) = service else {
            return reader.fault(at, WireFault::Choice { field: "service", got: code.into(), allowed });
        };
        let transaction = reader.u32("transaction")?;
        let delay = reader.u16("delay")?;
        let length = reader.u16("data length")?;
        let begin = reader.at;
        let blocks = reader.bytes("blocks", length.into())?;
        let mut inner = Reader::new(LAYER, frame.get(..begin + blocks.len()).unwrap_or_default());
        inner.at = begin;
        while !inner.is_at_end() {
            block(&mut inner, service, kind)?;
        }
        Ok(Self { service, kind, transaction, delay, blocks })
    }

    /// One after the other.
    pub fn blocks(&self) -> impl Iterator<Item = DcpBlock<'a>> {
        let mut reader = Reader::new(LAYER, self.blocks);
        let (service, kind) = (self.service, self.kind);
        std::iter::from_fn(move || {
            if reader.is_at_end() {
                return None;
            }
            block(&mut reader, service, kind).ok()
        })
    }

    /// The first block about something.
    #[must_use]
    pub fn find(&self, choice: Choice) -> Option<DcpBlock<'a>> {
        self.blocks().find(|block| block.choice == choice)
    }

    /// Appends the frame.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let begin = Emit::begin(out, self.service, self.kind, self.transaction, self.delay);
        out.extend_from_slice(self.blocks);
        begin.end(out);
    }
}

/// A frame that is being appended, block by block.
#[derive(Debug)]
#[must_use = "a frame has no length before its end"]
pub struct Emit {
    service: Service,
    kind: Kind,
    length: usize,
}

impl Emit {
    /// Appends what stands before the blocks.
    pub fn begin(out: &mut Vec<u8>, service: Service, kind: Kind, transaction: u32, delay: u16) -> Self {
        let (asks, answers) = service.frame_ids();
        let (frame_id, code) = match kind {
            Kind::Request => (asks, 0),
            Kind::Success => (answers, 1),
            Kind::NotSupported => (answers, 5),
        };
        out.extend_from_slice(&frame_id.to_be_bytes());
        out.extend_from_slice(&[service.code(), code]);
        out.extend_from_slice(&transaction.to_be_bytes());
        out.extend_from_slice(&delay.to_be_bytes());
        let length = out.len();
        out.extend_from_slice(&[0, 0]);
        Self { service, kind, length }
    }

    /// Appends a block; the word is left out where such a frame has none.
    pub fn block(&self, out: &mut Vec<u8>, choice: Choice, word: u16, value: &[u8]) {
        out.extend_from_slice(&[choice.0, choice.1]);
        if (self.service, self.kind) == (Service::Get, Kind::Request) {
            return;
        }
        let has_word = has_word(self.service, self.kind) && choice != Choice::RESPONSE;
        let length = value.len() + if has_word { 2 } else { 0 };
        out.extend_from_slice(&u16::try_from(length).unwrap_or(u16::MAX).to_be_bytes());
        if has_word {
            out.extend_from_slice(&word.to_be_bytes());
        }
        out.extend_from_slice(value);
        if length % 2 == 1 {
            out.push(0);
        }
    }

    /// Appends what became of a block of a request.
    pub fn outcome(&self, out: &mut Vec<u8>, of: Choice, outcome: u8) {
        self.block(out, Choice::RESPONSE, 0, &[of.0, of.1, outcome]);
    }

    /// Says how long the blocks are.
    pub fn end(self, out: &mut [u8]) {
        let length = u16::try_from(out.len().saturating_sub(self.length + 2)).unwrap_or(u16::MAX);
        if let Some(field) = out.get_mut(self.length..self.length + 2) {
            field.copy_from_slice(&length.to_be_bytes());
        }
    }
}
