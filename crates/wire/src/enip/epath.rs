//! Paths to objects and tags: segments in a row, each padded to whole words.
//!
//! ```text
//! 20 CC   24 II   28 EE   2C PP   30 AA     class, instance, element, connection point, attribute: 8 bits
//! 21 00 CC CC                               the same with 16 bits; 22 00 and four bytes with 32
//! 91 LEN chars [00]                         symbol: one part of a tag's name
//! 0P LINK   1P SIZE LINK… [00]              out of a port, to that address there
//! 34 04 …   43 MS   51 02 …   80 WORDS …    electronic key, production inhibit times, data
//! ```

use crate::{Reader, WireError, WireFault};

const LAYER: &str = "EPATH";
/// The port number that says that a longer one follows.
const EXTENDED_PORT: u8 = 15;

/// What a number in a path counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Logical {
    /// A class of objects.
    Class,
    /// An object of the class; 0 is the class itself.
    Instance,
    /// An element of an array, from 0 on.
    Member,
    /// A connection point: an assembly.
    Point,
    /// An attribute of the object.
    Attribute,
}

impl Logical {
    const ALL: [Self; 5] = [Self::Class, Self::Instance, Self::Member, Self::Point, Self::Attribute];

    /// Bits 4 to 2 of the segment's first byte.
    fn bits(self) -> u8 {
        let at = Self::ALL.iter().position(|kind| *kind == self).unwrap_or_default();
        u8::try_from(at).unwrap_or_default()
    }

    /// Classes and attributes have no numbers of 32 bits.
    const fn is_short(self) -> bool {
        matches!(self, Self::Class | Self::Attribute)
    }
}

/// Bytes of a number in a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Width {
    /// One.
    Byte,
    /// Two, behind a pad byte.
    Word,
    /// Four, behind a pad byte.
    Long,
}

impl Width {
    /// The least that holds a number.
    #[must_use]
    pub const fn of(value: u32) -> Self {
        match value {
            0..=0xFF => Self::Byte,
            0x100..=0xFFFF => Self::Word,
            _ => Self::Long,
        }
    }
}

/// Whom a connection is meant for; 0 matches anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Key {
    /// Who made it.
    pub vendor: u16,
    /// What it is.
    pub device_type: u16,
    /// Which product of the maker's.
    pub product: u16,
    /// The major revision; bit 7 asks for a compatible one.
    pub major: u8,
    /// The minor revision.
    pub minor: u8,
}

/// One step of a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Segment<'a> {
    /// Out of this port, to that address there.
    Port {
        /// The port's number; 1 is a controller's backplane.
        port: u16,
        /// The address: one byte is a slot, more are text.
        link: &'a [u8],
    },
    /// A number.
    Number {
        /// What it counts.
        kind: Logical,
        /// The number.
        value: u32,
        /// How wide it is written.
        width: Width,
    },
    /// Whom it is meant for.
    Key(Key),
    /// Production inhibit time in milliseconds.
    InhibitMs(u8),
    /// Production inhibit time in microseconds.
    InhibitUs(u32),
    /// Whole words of data for the object.
    Data(&'a [u8]),
    /// One part of a tag's name, of 1 to 255 characters.
    Symbol(&'a [u8]),
}

impl<'a> Segment<'a> {
    /// A number, as narrow as it can be.
    #[must_use]
    pub const fn number(kind: Logical, value: u32) -> Self {
        Self::Number { kind, value, width: Width::of(value) }
    }

    fn read(reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let at = reader.at;
        let first = reader.u8("segment")?;
        let unknown = |reader: &Reader<'a>| {
            let allowed = "a port, a number, a key, data or a symbol";
            reader.fault(at, WireFault::Choice { field: "segment", got: first.into(), allowed })
        };
        match first {
            0x00..=0x1F => Self::read_port(reader, first),
            0x34 => {
                reader.u8_in("key format", 4, 4)?;
                Ok(Self::Key(Key {
                    vendor: reader.u16_le("vendor")?,
                    device_type: reader.u16_le("device type")?,
                    product: reader.u16_le("product code")?,
                    major: reader.u8("major revision")?,
                    minor: reader.u8("minor revision")?,
                }))
            }
            0x20..=0x3F => {
                let Some(kind) = Logical::ALL.get(usize::from(first >> 2 & 7)).copied() else {
                    return unknown(reader);
                };
                let (value, width) = match first & 3 {
                    0 => (reader.u8("number")?.into(), Width::Byte),
                    1 => {
                        pad(reader)?;
                        (reader.u16_le("number")?.into(), Width::Word)
                    }
                    2 if !kind.is_short() => {
                        pad(reader)?;
                        (reader.u32_le("number")?, Width::Long)
                    }
                    _ => return unknown(reader),
                };
                Ok(Self::Number { kind, value, width })
            }
            0x43 => Ok(Self::InhibitMs(reader.u8("production inhibit time")?)),
            0x51 => {
                reader.u8_in("words", 2, 2)?;
                Ok(Self::InhibitUs(reader.u32_le("production inhibit time")?))
            }
            0x80 => {
                let words = reader.u8("words")?;
                Ok(Self::Data(reader.bytes("data", usize::from(words) * 2)?))
            }
            0x91 => {
                let length = reader.u8_in("symbol length", 1, u8::MAX)?;
                let symbol = reader.bytes("symbol", length.into())?;
                if length % 2 == 1 {
                    pad(reader)?;
                }
                Ok(Self::Symbol(symbol))
            }
            _ => unknown(reader),
        }
    }

    fn read_port(reader: &mut Reader<'a>, first: u8) -> Result<Self, WireError> {
        let sized = first & 0x10 != 0;
        // One byte is written without its size.
        let size = if sized { reader.u8_in("link size", 2, u8::MAX)? } else { 1 };
        let port = match first & 0x0F {
            EXTENDED_PORT => {
                let at = reader.at;
                let port = reader.u16_le("port")?;
                if port < EXTENDED_PORT.into() {
                    let (low, high) = (EXTENDED_PORT.into(), u16::MAX.into());
                    return reader.fault(at, WireFault::Range { field: "port", got: port.into(), low, high });
                }
                port
            }
            port => port.into(),
        };
        let link = reader.bytes("link address", size.into())?;
        if sized && size % 2 == 1 {
            pad(reader)?;
        }
        Ok(Self::Port { port, link })
    }

    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let low = |length: usize| u8::try_from(length).unwrap_or(u8::MAX);
        match *self {
            Self::Port { port, link } => {
                let nibble = u8::try_from(port).ok().filter(|port| *port < EXTENDED_PORT);
                let sized = link.len() != 1;
                out.push(nibble.unwrap_or(EXTENDED_PORT) | if sized { 0x10 } else { 0 });
                if sized {
                    out.push(low(link.len()));
                }
                if nibble.is_none() {
                    out.extend_from_slice(&port.to_le_bytes());
                }
                out.extend_from_slice(link);
                if sized && link.len() % 2 == 1 {
                    out.push(0);
                }
            }
            Self::Number { kind, value, width } => {
                let first = 0x20 | kind.bits() << 2;
                let [one, two, ..] = value.to_le_bytes();
                match width {
                    Width::Byte => out.extend_from_slice(&[first, one]),
                    Width::Word => out.extend_from_slice(&[first | 1, 0, one, two]),
                    Width::Long => {
                        out.extend_from_slice(&[first | 2, 0]);
                        out.extend_from_slice(&value.to_le_bytes());
                    }
                }
            }
            Self::Key(key) => {
                out.extend_from_slice(&[0x34, 4]);
                for number in [key.vendor, key.device_type, key.product] {
                    out.extend_from_slice(&number.to_le_bytes());
                }
                out.extend_from_slice(&[key.major, key.minor]);
            }
            Self::InhibitMs(time) => out.extend_from_slice(&[0x43, time]),
            Self::InhibitUs(time) => {
                out.extend_from_slice(&[0x51, 2]);
                out.extend_from_slice(&time.to_le_bytes());
            }
            Self::Data(data) => {
                out.extend_from_slice(&[0x80, low(data.len() / 2)]);
                out.extend_from_slice(data);
            }
            Self::Symbol(symbol) => {
                out.extend_from_slice(&[0x91, low(symbol.len())]);
                out.extend_from_slice(symbol);
                if symbol.len() % 2 == 1 {
                    out.push(0);
                }
            }
        }
    }
}

fn pad(reader: &mut Reader<'_>) -> Result<(), WireError> {
    reader.u8_in("pad byte", 0, 0).map(|_| ())
}

/// A path all of whose segments are sound.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Path<'a>(&'a [u8]);

impl<'a> Path<'a> {
    /// Reads all of it.
    ///
    /// # Errors
    /// A segment is none, or cut.
    pub fn parse(bytes: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, bytes);
        while !reader.is_at_end() {
            Segment::read(&mut reader)?;
        }
        Ok(Self(bytes))
    }

    /// Its steps.
    pub fn segments(&self) -> impl Iterator<Item = Segment<'a>> + Clone {
        let mut reader = Reader::new(LAYER, self.0);
        std::iter::from_fn(move || if reader.is_at_end() { None } else { Segment::read(&mut reader).ok() })
    }

    /// Its bytes.
    #[must_use]
    pub const fn bytes(&self) -> &'a [u8] {
        self.0
    }

    /// The path without its first steps out of ports, and those.
    #[must_use]
    pub fn split_route(&self) -> (Self, Self) {
        let mut reader = Reader::new(LAYER, self.0);
        let mut at = 0;
        while let Ok(Segment::Port { .. }) = Segment::read(&mut reader) {
            at = reader.at;
        }
        let (route, rest) = self.0.split_at_checked(at).unwrap_or((&[], self.0));
        (Self(route), Self(rest))
    }

    /// Class, instance and attribute, where it is a path to an object and no more.
    #[must_use]
    pub fn object(&self) -> Option<Object> {
        let mut object = Object { class: 0, instance: 0, attribute: None };
        let mut next = 0;
        for segment in self.segments() {
            let Segment::Number { kind, value, .. } = segment else { return None };
            match (next, kind) {
                (0, Logical::Class) => object.class = value,
                (1, Logical::Instance) => object.instance = value,
                (2, Logical::Attribute) => object.attribute = Some(value),
                _ => return None,
            }
            next += 1;
        }
        (next >= 2).then_some(object)
    }
}

/// Where a path to an object leads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Object {
    /// Its class.
    pub class: u32,
    /// Which one; 0 is the class itself.
    pub instance: u32,
    /// Which attribute, where one is named.
    pub attribute: Option<u32>,
}

impl Object {
    /// Appends the path to it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        Segment::number(Logical::Class, self.class).emit(out);
        Segment::number(Logical::Instance, self.instance).emit(out);
        if let Some(attribute) = self.attribute {
            Segment::number(Logical::Attribute, attribute).emit(out);
        }
    }
}
