//! Services on tags: reading and writing elements whole or in fragments, changing bits, listing symbols.

use super::epath::{Logical, Path, Segment};
use crate::{Reader, WireError, WireFault};

const LAYER: &str = "tag service";

/// What the elements of a tag are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct TagType {
    /// One of [`type_code`], or [`STRUCTURE`].
    pub code: u16,
    /// Which structure it is, by its handle.
    pub handle: Option<u16>,
}

/// The elements are structures; a handle follows.
pub const STRUCTURE: u16 = 0x02A0;
/// The handle of the built-in string: a length of four bytes, 82 characters, two bytes of fill.
pub const STRING_HANDLE: u16 = 0x0FCE;
/// Characters of the built-in string.
pub const STRING_CHARACTERS: usize = 82;
/// Bytes of the built-in string.
pub const STRING_BYTES: usize = 88;

/// Elementary types by their numbers.
pub mod type_code {
    /// One bit in a byte; everything but 0 is true.
    pub const BOOL: u16 = 0xC1;
    /// 8 bits, signed.
    pub const SINT: u16 = 0xC2;
    /// 16 bits, signed.
    pub const INT: u16 = 0xC3;
    /// 32 bits, signed.
    pub const DINT: u16 = 0xC4;
    /// 64 bits, signed.
    pub const LINT: u16 = 0xC5;
    /// 8 bits.
    pub const USINT: u16 = 0xC6;
    /// 16 bits.
    pub const UINT: u16 = 0xC7;
    /// 32 bits.
    pub const UDINT: u16 = 0xC8;
    /// 64 bits.
    pub const ULINT: u16 = 0xC9;
    /// A number with a point, 32 bits.
    pub const REAL: u16 = 0xCA;
    /// A number with a point, 64 bits.
    pub const LREAL: u16 = 0xCB;
    /// 8 bits of their own.
    pub const BYTE: u16 = 0xD1;
    /// 16 bits of their own.
    pub const WORD: u16 = 0xD2;
    /// 32 bits of their own: a word of a packed array of bits.
    pub const DWORD: u16 = 0xD3;
    /// 64 bits of their own.
    pub const LWORD: u16 = 0xD4;
}

/// Elementary types: number, name and bytes of an element.
pub const TYPES: [(u16, &str, usize); 15] = [
    (type_code::BOOL, "BOOL", 1),
    (type_code::SINT, "SINT", 1),
    (type_code::INT, "INT", 2),
    (type_code::DINT, "DINT", 4),
    (type_code::LINT, "LINT", 8),
    (type_code::USINT, "USINT", 1),
    (type_code::UINT, "UINT", 2),
    (type_code::UDINT, "UDINT", 4),
    (type_code::ULINT, "ULINT", 8),
    (type_code::REAL, "REAL", 4),
    (type_code::LREAL, "LREAL", 8),
    (type_code::BYTE, "BYTE", 1),
    (type_code::WORD, "WORD", 2),
    (type_code::DWORD, "DWORD", 4),
    (type_code::LWORD, "LWORD", 8),
];

impl TagType {
    /// The built-in string.
    pub const STRING: Self = Self { code: STRUCTURE, handle: Some(STRING_HANDLE) };

    /// An elementary one.
    #[must_use]
    pub const fn elementary(code: u16) -> Self {
        Self { code, handle: None }
    }

    /// Bytes of an element; `None` where only the controller knows.
    #[must_use]
    pub fn bytes(self) -> Option<usize> {
        if self == Self::STRING {
            return Some(STRING_BYTES);
        }
        TYPES.iter().find(|(code, ..)| *code == self.code).map(|(.., bytes)| *bytes)
    }

    /// Its name; `None` where the standard has none.
    #[must_use]
    pub fn name(self) -> Option<&'static str> {
        if self == Self::STRING {
            return Some("STRING");
        }
        TYPES.iter().find(|(code, ..)| *code == self.code).map(|(_, name, _)| *name)
    }

    fn read(reader: &mut Reader<'_>) -> Result<Self, WireError> {
        let code = reader.u16_le("type")?;
        let handle = if code == STRUCTURE { Some(reader.u16_le("structure handle")?) } else { None };
        Ok(Self { code, handle })
    }

    /// Appends it, with its handle.
    pub fn emit(self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.code.to_le_bytes());
        if let Some(handle) = self.handle {
            out.extend_from_slice(&handle.to_le_bytes());
        }
    }

    /// Bytes that it takes on the wire.
    #[must_use]
    pub const fn wire_bytes(self) -> usize {
        if self.handle.is_some() { 4 } else { 2 }
    }
}

/// Reads the data of Read Tag: how many elements.
///
/// # Errors
/// They are not two bytes.
pub fn parse_read(data: &[u8]) -> Result<u16, WireError> {
    let mut reader = Reader::new(LAYER, data);
    let elements = reader.u16_le("elements")?;
    reader.end()?;
    Ok(elements)
}

/// A part of a tag's bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fragment {
    /// Elements of all parts.
    pub elements: u16,
    /// Where it begins, in bytes of the data.
    pub offset: u32,
}

impl Fragment {
    /// Reads the data of Read Tag Fragmented.
    ///
    /// # Errors
    /// They are not six bytes.
    pub fn parse(data: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let fragment = Self { elements: reader.u16_le("elements")?, offset: reader.u32_le("byte offset")? };
        reader.end()?;
        Ok(fragment)
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.elements.to_le_bytes());
        out.extend_from_slice(&self.offset.to_le_bytes());
    }
}

/// What a read brings: a type, and values or a part of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Values<'a> {
    /// What they are.
    pub tag_type: TagType,
    /// Their bytes, the lowest first.
    pub data: &'a [u8],
}

impl<'a> Values<'a> {
    /// Reads the data of a reply.
    ///
    /// # Errors
    /// The type is cut.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let tag_type = TagType::read(&mut reader)?;
        Ok(Self { tag_type, data: reader.rest() })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.tag_type.emit(out);
        out.extend_from_slice(self.data);
    }
}

/// What a write brings, whole or a part.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Write<'a> {
    /// What they are.
    pub tag_type: TagType,
    /// Elements of all parts.
    pub elements: u16,
    /// Where this part begins; `None` where it is whole.
    pub offset: Option<u32>,
    /// Bytes, the lowest first.
    pub data: &'a [u8],
}

impl<'a> Write<'a> {
    /// Reads the data of Write Tag, or of Write Tag Fragmented.
    ///
    /// # Errors
    /// They are cut.
    pub fn parse(data: &'a [u8], fragmented: bool) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let tag_type = TagType::read(&mut reader)?;
        let elements = reader.u16_le("elements")?;
        let offset = if fragmented { Some(reader.u32_le("byte offset")?) } else { None };
        Ok(Self { tag_type, elements, offset, data: reader.rest() })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.tag_type.emit(out);
        out.extend_from_slice(&self.elements.to_le_bytes());
        if let Some(offset) = self.offset {
            out.extend_from_slice(&offset.to_le_bytes());
        }
        out.extend_from_slice(self.data);
    }
}

/// Bits of one element that are set and cleared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Masks<'a> {
    /// Bits that become 1; as long as the element.
    pub or: &'a [u8],
    /// Bits that are kept of that; all others become 0.
    pub and: &'a [u8],
}

impl<'a> Masks<'a> {
    /// Reads the data of Read-Modify-Write.
    ///
    /// # Errors
    /// The size is none of 1, 2, 4 and 8, or the masks are cut.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let size = reader.u16_le("mask size")?;
        if !matches!(size, 1 | 2 | 4 | 8) {
            let allowed = "1, 2, 4 or 8";
            return reader.fault(0, WireFault::Choice { field: "mask size", got: size, allowed });
        }
        let masks =
            Self { or: reader.bytes("OR mask", size.into())?, and: reader.bytes("AND mask", size.into())? };
        reader.end()?;
        Ok(masks)
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&u16::try_from(self.or.len()).unwrap_or(u16::MAX).to_le_bytes());
        out.extend_from_slice(self.or);
        out.extend_from_slice(self.and);
    }
}

/// The attributes of a symbol that are asked for in a list: its name and its type.
pub const SYMBOL_ATTRIBUTES: [u16; 2] = [1, 2];

/// Appends the data of a request for names and types.
pub fn emit_list(out: &mut Vec<u8>) {
    out.extend_from_slice(&[2, 0]);
    SYMBOL_ATTRIBUTES.iter().for_each(|id| out.extend_from_slice(&id.to_le_bytes()));
}

/// What a symbol is: bit 15 structure, bits 14 and 13 dimensions, bit 12 the controller's own, bits 11 to 0 the type or
/// the structure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SymbolType(pub u16);

impl SymbolType {
    /// Whether it is a structure.
    #[must_use]
    pub const fn is_structure(self) -> bool {
        self.0 & 0x8000 != 0
    }

    /// Dimensions of its array; 0 where it is none.
    #[must_use]
    pub const fn dimensions(self) -> u16 {
        self.0 >> 13 & 3
    }

    /// Whether it is the controller's own.
    #[must_use]
    pub const fn is_system(self) -> bool {
        self.0 & 0x1000 != 0
    }

    /// The type's number, or the structure's.
    #[must_use]
    pub const fn code(self) -> u16 {
        self.0 & 0x0FFF
    }
}

/// One symbol of a controller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Symbol<'a> {
    /// Its number.
    pub instance: u32,
    /// Its name.
    pub name: &'a [u8],
    /// What it is.
    pub symbol_type: SymbolType,
}

impl Symbol<'_> {
    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.instance.to_le_bytes());
        out.extend_from_slice(&u16::try_from(self.name.len()).unwrap_or(u16::MAX).to_le_bytes());
        out.extend_from_slice(self.name);
        out.extend_from_slice(&self.symbol_type.0.to_le_bytes());
    }
}

/// Reads the symbols of a reply, each with name and type.
///
/// # Errors
/// One is cut.
pub fn parse_symbols(data: &[u8]) -> Result<Vec<Symbol<'_>>, WireError> {
    let mut reader = Reader::new("symbol list", data);
    let mut symbols = vec![];
    while !reader.is_at_end() {
        let instance = reader.u32_le("instance")?;
        let length = reader.u16_le("name length")?;
        let name = reader.bytes("name", length.into())?;
        symbols.push(Symbol { instance, name, symbol_type: SymbolType(reader.u16_le("symbol type")?) });
    }
    Ok(symbols)
}

/// Whether a path leads to a tag: by symbols, or by the number of one.
#[must_use]
pub fn is_tag(path: &Path<'_>) -> bool {
    match path.segments().next() {
        Some(Segment::Symbol(_)) => true,
        Some(Segment::Number { kind: Logical::Class, value, .. }) => {
            value == super::cip::class::SYMBOL
                && matches!(path.segments().nth(1), Some(Segment::Number { value, .. }) if value != 0)
        }
        _ => false,
    }
}
