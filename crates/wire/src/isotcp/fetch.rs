//! FETCH and WRITE: 16 bytes of header, blocks with a length each, and data behind it.
//!
//! ```text
//! request  53 35 10 01 03 OP 03 08 ORG DB START START LENGTH LENGTH FF 02
//! answer   53 35 10 01 03 OP 0F 03 ERROR FF 07 0 0 0 0 0
//! ```
//! `OP` is 3 WRITE, 4 its answer, 5 FETCH, 6 its answer. Start and length count in the units of the area. Behind an odd
//! number of data bytes stands one more, 0, so that the data are whole words; both ways of it are taken.

use crate::{Reader, WireError, WireFault};

const LAYER: &str = "FETCH/WRITE header";
const HEADER: usize = 16;
const SYSTEM: [u8; 2] = [0x53, 0x35];

/// Memory that can be asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Area {
    /// A data block; start and length in words.
    DataBlock,
    /// Markers, also called flags; in bytes.
    Markers,
    /// Inputs as the controller's program sees them; in bytes.
    Inputs,
    /// Outputs as the controller's program sees them; in bytes.
    Outputs,
    /// Inputs and outputs past what the program sees; in bytes.
    Peripheral,
    /// Counters, one word each.
    Counters,
    /// Timers, one word each.
    Timers,
}

impl Area {
    /// All of them, in the order of their numbers.
    pub const ALL: [Self; 7] = [
        Self::DataBlock,
        Self::Markers,
        Self::Inputs,
        Self::Outputs,
        Self::Peripheral,
        Self::Counters,
        Self::Timers,
    ];

    /// Its number in the header, `ORG`.
    #[must_use]
    pub fn org(self) -> u8 {
        let at = Self::ALL.iter().position(|area| *area == self);
        at.and_then(|at| u8::try_from(at + 1).ok()).unwrap_or_default()
    }

    /// The area of a number, where it is one that is offered.
    #[must_use]
    pub fn of(org: u8) -> Option<Self> {
        Self::ALL.get(usize::from(org).checked_sub(1)?).copied()
    }

    /// Bytes of one unit of its length.
    #[must_use]
    pub const fn unit(self) -> usize {
        match self {
            Self::DataBlock | Self::Counters | Self::Timers => 2,
            Self::Markers | Self::Inputs | Self::Outputs | Self::Peripheral => 1,
        }
    }
}

/// Which memory: as in the header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Range {
    /// The number of the area; [`Area::of`] says whether there is one.
    pub org: u8,
    /// The block; 0 and meaningless elsewhere.
    pub block: u8,
    /// In units of the area.
    pub start: u16,
    /// In units of the area.
    pub length: u16,
}

impl Range {
    /// Bytes that it is long; `None` where there is no such area.
    #[must_use]
    pub fn bytes(&self) -> Option<usize> {
        Some(usize::from(self.length) * Area::of(self.org)?.unit())
    }
}

/// What is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Request<'a> {
    /// Data, please.
    Fetch(Range),
    /// Take these; as they came, which may be too few.
    Write(Range, &'a [u8]),
}

impl<'a> Request<'a> {
    /// Reads a whole message.
    ///
    /// # Errors
    /// It is no such message: close the connection.
    pub fn parse(message: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, message);
        let op = op_code(&mut reader, "3 or 5 in a request", &[3, 5])?;
        constant(&mut reader, "ORG block id", 3)?;
        constant(&mut reader, "ORG block length", 8)?;
        let range = Range {
            org: reader.u8("ORG")?,
            block: reader.u8("DB number")?,
            start: reader.u16("start")?,
            length: reader.u16("length")?,
        };
        constant(&mut reader, "empty block id", 0xFF)?;
        constant(&mut reader, "empty block length", 2)?;
        if op == 3 {
            return Ok(Self::Write(range, reader.rest()));
        }
        reader.end()?;
        Ok(Self::Fetch(range))
    }

    /// Which memory.
    #[must_use]
    pub const fn range(&self) -> Range {
        match self {
            Self::Fetch(range) | Self::Write(range, _) => *range,
        }
    }

    /// The data of a write without the byte that only fills a word; `None` where they are not what the length says.
    #[must_use]
    pub fn data(&self) -> Option<&'a [u8]> {
        match self {
            Self::Fetch(_) => Some(&[]),
            Self::Write(range, data) => unpadded(data, range.bytes()?),
        }
    }

    /// Appends the message; a write's data as they are.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let (op, data): (u8, &[u8]) = match self {
            Self::Fetch(_) => (5, &[]),
            Self::Write(_, data) => (3, data),
        };
        let Range { org, block, start, length } = self.range();
        out.extend_from_slice(&[SYSTEM[0], SYSTEM[1], 0x10, 1, 3, op, 3, 8, org, block]);
        out.extend_from_slice(&start.to_be_bytes());
        out.extend_from_slice(&length.to_be_bytes());
        out.extend_from_slice(&[0xFF, 2]);
        out.extend_from_slice(data);
    }
}

/// What is answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer<'a> {
    /// To a FETCH: the error number, 0 for good, and the data as they came.
    Fetched(u8, &'a [u8]),
    /// To a WRITE: the error number, 0 for good.
    Wrote(u8),
}

impl<'a> Answer<'a> {
    /// Reads a whole message.
    ///
    /// # Errors
    /// It is no such message: close the connection.
    pub fn parse(message: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, message);
        let op = op_code(&mut reader, "4 or 6 in an answer", &[4, 6])?;
        constant(&mut reader, "acknowledge block id", 0x0F)?;
        constant(&mut reader, "acknowledge block length", 3)?;
        let error = reader.u8("error number")?;
        constant(&mut reader, "empty block id", 0xFF)?;
        constant(&mut reader, "empty block length", 7)?;
        reader.bytes("fill", 5)?;
        if op == 6 && error == 0 {
            return Ok(Self::Fetched(0, reader.rest()));
        }
        reader.end()?;
        Ok(if op == 6 { Self::Fetched(error, &[]) } else { Self::Wrote(error) })
    }

    /// Appends the message; fetched data as they are.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let (op, error, data): (u8, u8, &[u8]) = match self {
            Self::Fetched(error, data) => (6, *error, data),
            Self::Wrote(error) => (4, *error, &[]),
        };
        out.extend_from_slice(&[
            SYSTEM[0], SYSTEM[1], 0x10, 1, 3, op, 0x0F, 3, error, 0xFF, 7, 0, 0, 0, 0, 0,
        ]);
        out.extend_from_slice(data);
    }

    /// The data that answer a request; for a write none.
    ///
    /// # Errors
    /// It answers another kind of request, or brings another number of bytes than were asked for: close the connection.
    pub fn to(&self, request: &Request<'_>) -> Result<Result<&'a [u8], u8>, WireError> {
        let fault = |at, fault| Err(WireError { layer: LAYER, at, fault });
        match (self, request) {
            (Self::Fetched(0, data), Request::Fetch(range)) => {
                let asked = range.bytes().unwrap_or_default();
                match unpadded(data, asked) {
                    Some(data) => Ok(Ok(data)),
                    None => fault(
                        HEADER,
                        WireFault::Disagree {
                            field: "data",
                            said: data.len(),
                            other: "the request's length",
                            asked,
                        },
                    ),
                }
            }
            (Self::Wrote(0), Request::Write(..)) => Ok(Ok(&[])),
            (Self::Fetched(error, _), Request::Fetch(_)) | (Self::Wrote(error), Request::Write(..)) => {
                Ok(Err(*error))
            }
            _ => {
                let (got, allowed) =
                    if matches!(self, Self::Wrote(_)) { (4, "6 to a FETCH") } else { (6, "4 to a WRITE") };
                fault(5, WireFault::Choice { field: "op code", got, allowed })
            }
        }
    }
}

/// So many bytes, behind which one more may stand that fills a word.
fn unpadded(data: &[u8], bytes: usize) -> Option<&[u8]> {
    let whole = data.len() == bytes || data.len() == bytes.next_multiple_of(2);
    data.get(..bytes).filter(|_| whole)
}

fn constant(reader: &mut Reader<'_>, field: &'static str, value: u8) -> Result<(), WireError> {
    reader.u8_in(field, value, value).map(|_| ())
}

/// The part of the header that all messages share; gives the op code.
fn op_code(reader: &mut Reader<'_>, allowed: &'static str, known: &[u8]) -> Result<u8, WireError> {
    reader.choice("system id", "0x5335", |id| (id.to_be_bytes() == SYSTEM).then_some(()))?;
    constant(reader, "header length", 0x10)?;
    constant(reader, "op-code block id", 1)?;
    constant(reader, "op-code block length", 3)?;
    let op = reader.u8("op code")?;
    if known.contains(&op) {
        return Ok(op);
    }
    let fault = WireFault::Choice { field: "op code", got: op.into(), allowed };
    Err(WireError { layer: LAYER, at: 5, fault })
}

/// What an error number means.
#[must_use]
pub const fn error_words(error: u8) -> &'static str {
    match error {
        0x00 => "no error",
        0x02 => "the block does not exist",
        0x03 => "the block or area is too small",
        0xFF => "failed, no reason given",
        _ => "failed",
    }
}
