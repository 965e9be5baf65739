//! Where in a data table: as fields of a typed logical command, or as levels of an address.

use crate::{Reader, WireError, WireFault};

/// A number of one byte up to 254, or FF and two bytes, the low one first.
fn number(reader: &mut Reader<'_>, field: &'static str) -> Result<u16, WireError> {
    match reader.u8(field)? {
        0xFF => Ok(reader.u16(field)?.swap_bytes()),
        byte => Ok(byte.into()),
    }
}

fn emit_number(number: u16, out: &mut Vec<u8>) {
    match u8::try_from(number) {
        Ok(byte) if byte < 0xFF => out.push(byte),
        _ => {
            out.push(0xFF);
            out.extend_from_slice(&number.to_le_bytes());
        }
    }
}

/// A place as the typed logical commands name it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Logical {
    /// Number of the file.
    pub file: u16,
    /// Type code of the file, 80 to 9F hex.
    pub kind: u8,
    /// Number of the element.
    pub element: u16,
    /// Number of the word in the element; `None` in commands of two fields.
    pub sub: Option<u16>,
}

impl Logical {
    pub(super) fn parse(reader: &mut Reader<'_>, with_sub: bool) -> Result<Self, WireError> {
        let (file, kind) = (number(reader, "file")?, reader.u8("file type")?);
        let element = number(reader, "element")?;
        let sub = if with_sub { Some(number(reader, "sub-element")?) } else { None };
        Ok(Self { file, kind, element, sub })
    }

    /// Appends the fields.
    pub fn emit(&self, out: &mut Vec<u8>) {
        emit_number(self.file, out);
        out.push(self.kind);
        emit_number(self.element, out);
        if let Some(sub) = self.sub {
            emit_number(sub, out);
        }
    }
}

/// A place as the word-range, typed and read-modify-write commands name it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Table<'a> {
    /// By levels; the first one, which always is the data table, may be spelled out.
    Levels {
        /// The first level stands there, as 0.
        spelled: bool,
        /// Number of the file.
        file: u16,
        /// Number of the element.
        element: u16,
        /// Number of the word in the element.
        sub: Option<u16>,
    },
    /// As text, such as `$N7:0`.
    Text(&'a [u8]),
}

impl<'a> Table<'a> {
    /// An element of a file, or a word of it.
    #[must_use]
    pub const fn of(file: u16, element: u16, sub: Option<u16>) -> Self {
        Self::Levels { spelled: false, file, element, sub }
    }

    pub(super) fn parse(reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let mask = reader.u8("address mask")?;
        if mask == 0 {
            return reader.text("address text").map(Self::Text);
        }
        if mask & 0x06 != 0x06 || mask > 0x0F {
            let allowed = "0 for text, or levels 06, 07, 0E, 0F";
            let fault = WireFault::Choice { field: "address mask", got: mask.into(), allowed };
            return Err(WireError { layer: "data table command", at: 0, fault });
        }
        let spelled = mask & 1 != 0;
        if spelled {
            reader.u8_in("level 1", 0, 0)?;
        }
        let (file, element) = (number(reader, "file")?, number(reader, "element")?);
        let sub = if mask & 8 != 0 { Some(number(reader, "sub-element")?) } else { None };
        Ok(Self::Levels { spelled, file, element, sub })
    }

    /// Appends the address.
    pub fn emit(&self, out: &mut Vec<u8>) {
        match self {
            Self::Text(text) => {
                out.push(0);
                out.extend_from_slice(text);
                out.push(0);
            }
            Self::Levels { spelled, file, element, sub } => {
                out.push(0x06 | u8::from(*spelled) | u8::from(sub.is_some()) << 3);
                if *spelled {
                    out.push(0);
                }
                emit_number(*file, out);
                emit_number(*element, out);
                if let Some(sub) = sub {
                    emit_number(*sub, out);
                }
            }
        }
    }
}
