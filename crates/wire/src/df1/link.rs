//! Symbols, stuffing and checks of the link, both ways.
//!
//! What a check covers: in a full-duplex message and a slave's its data, for a CRC with the ETX behind them; in a
//! master's message to a station also the station, for a CRC with the STX; in a poll the station, always by BCC. A doubled
//! DLE counts once, DLEs of symbols never, and check bytes are never doubled.

use super::message::{MESSAGE_MAX, MESSAGE_MIN};

const SOH: u8 = 0x01;
const STX: u8 = 0x02;
const ETX: u8 = 0x03;
const EOT: u8 = 0x04;
const ENQ: u8 = 0x05;
const ACK: u8 = 0x06;
const DLE: u8 = 0x10;
const NAK: u8 = 0x15;
/// NAK as one published table prints it: never sent.
const NAK_OTHER: u8 = 0x0F;

/// How messages are checked; a setting of both ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Check {
    /// Two's complement of the 8-bit sum, one byte.
    Bcc,
    /// Polynomial A001 from 0000 on, two bytes, the low one first.
    Crc,
}

/// A check as far as it has come.
#[derive(Debug, Clone, Copy, Default)]
struct Sum {
    sum: u8,
    crc: u16,
    /// The same without the STX of a master's message: what some masters send.
    bare: u16,
}

fn crc(mut register: u16, byte: u8) -> u16 {
    register ^= u16::from(byte);
    for _ in 0..8 {
        let carry = register & 1 == 1;
        register >>= 1;
        if carry {
            register ^= 0xA001;
        }
    }
    register
}

impl Sum {
    fn data(&mut self, byte: u8) {
        self.sum = self.sum.wrapping_add(byte);
        (self.crc, self.bare) = (crc(self.crc, byte), crc(self.bare, byte));
    }

    fn stx(&mut self) {
        self.crc = crc(self.crc, STX);
    }

    fn etx(&mut self) {
        (self.crc, self.bare) = (crc(self.crc, ETX), crc(self.bare, ETX));
    }

    const fn bcc(self) -> u8 {
        self.sum.wrapping_neg()
    }

    fn emit(self, check: Check, out: &mut Vec<u8>) {
        match check {
            Check::Bcc => out.push(self.bcc()),
            Check::Crc => out.extend_from_slice(&self.crc.to_le_bytes()),
        }
    }
}

/// A symbol that stands alone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Symbol {
    /// The last message is taken.
    Ack,
    /// The last message is refused.
    Nak,
    /// Say your last response again (full duplex).
    Enq,
    /// Nothing to send (half duplex).
    Eot,
}

impl Symbol {
    /// Its bytes.
    #[must_use]
    pub const fn bytes(self) -> [u8; 2] {
        [
            DLE,
            match self {
                Self::Ack => ACK,
                Self::Nak => NAK,
                Self::Enq => ENQ,
                Self::Eot => EOT,
            },
        ]
    }
}

fn stuffed(byte: u8, out: &mut Vec<u8>) {
    out.push(byte);
    if byte == DLE {
        out.push(DLE);
    }
}

/// Appends a message: in full duplex, or a slave's.
pub fn emit_message(data: &[u8], check: Check, out: &mut Vec<u8>) {
    framed(data, check, Sum::default(), out);
}

/// Appends a master's message to a station; FF is for all.
pub fn emit_to_station(station: u8, data: &[u8], check: Check, out: &mut Vec<u8>) {
    out.extend_from_slice(&[DLE, SOH]);
    stuffed(station, out);
    let mut sum = Sum::default();
    sum.data(station);
    sum.stx();
    framed(data, check, sum, out);
}

fn framed(data: &[u8], check: Check, mut sum: Sum, out: &mut Vec<u8>) {
    out.extend_from_slice(&[DLE, STX]);
    for byte in data {
        stuffed(*byte, out);
        sum.data(*byte);
    }
    out.extend_from_slice(&[DLE, ETX]);
    sum.etx();
    sum.emit(check, out);
}

/// Appends a poll of a station.
pub fn emit_poll(station: u8, out: &mut Vec<u8>) {
    out.extend_from_slice(&[DLE, ENQ]);
    stuffed(station, out);
    out.push(station.wrapping_neg());
}

/// What was heard with a byte.
#[derive(Debug, PartialEq, Eq)]
pub enum Heard<'a> {
    /// Nothing that is whole.
    Nothing,
    /// A sound message; from a master with the station that it is for.
    Message {
        /// The station, in half duplex from the master.
        station: Option<u8>,
        /// Header and body, 6 to 250 bytes.
        data: &'a [u8],
    },
    /// A message that cannot be trusted, and why; from a master with its station.
    Damaged(Option<u8>, &'static str),
    /// A symbol that stands alone, or stands inside a message and is none of it.
    Symbol(Symbol),
    /// The master polls a station (half duplex).
    Poll(u8),
    /// A symbol that has no business outside of a message.
    Stray,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Outside,
    OutsideDle,
    /// Behind DLE SOH, or DLE ENQ in half duplex: a station is next.
    Station {
        polled: bool,
    },
    StationDle {
        polled: bool,
    },
    /// The check of a poll is next.
    PollCheck(u8),
    /// DLE STX must be next.
    Begin(u8),
    BeginDle(u8),
    Inside,
    InsideDle,
    /// Check bytes, with the first of two.
    Ending(Option<u8>),
}

/// Finds messages and symbols in a stream, byte by byte.
#[derive(Debug)]
pub struct Scanner {
    check: Check,
    half: bool,
    state: State,
    station: Option<u8>,
    sum: Sum,
    data: Vec<u8>,
    /// More data came than a message has.
    long: bool,
}

impl Scanner {
    /// In full or half duplex, with the check that both ends are set to.
    #[must_use]
    pub fn new(check: Check, half: bool) -> Self {
        Self {
            check,
            half,
            state: State::Outside,
            station: None,
            sum: Sum::default(),
            data: Vec::with_capacity(MESSAGE_MAX),
            long: false,
        }
    }

    /// Forgets what is unfinished: the line was still for too long.
    pub fn reset(&mut self) {
        self.state = State::Outside;
    }

    /// Whether something is unfinished.
    #[must_use]
    pub fn is_inside(&self) -> bool {
        self.state != State::Outside
    }

    fn begin(&mut self) {
        self.data.clear();
        self.long = false;
        self.sum = Sum::default();
        if let Some(station) = self.station {
            self.sum.data(station);
            self.sum.stx();
        }
        self.state = State::Inside;
    }

    fn take(&mut self, byte: u8) {
        self.long |= self.data.len() >= MESSAGE_MAX;
        if !self.long {
            self.data.push(byte);
        }
        self.sum.data(byte);
        self.state = State::Inside;
    }

    /// Takes one byte of the stream.
    pub fn push(&mut self, byte: u8) -> Heard<'_> {
        match self.state {
            State::Outside if byte == DLE => self.state = State::OutsideDle,
            State::Outside => {}
            State::OutsideDle => {
                self.state = State::Outside;
                return self.symbol(byte);
            }
            State::Station { polled } if byte == DLE => self.state = State::StationDle { polled },
            State::Station { polled } => self.station_is(polled, byte),
            State::StationDle { polled } if byte == DLE => self.station_is(polled, byte),
            State::StationDle { polled: true } => {
                // A station of 10 that was not doubled: this is its check already.
                self.state = State::Outside;
                return if byte == DLE.wrapping_neg() { Heard::Poll(DLE) } else { self.symbol(byte) };
            }
            State::StationDle { polled: false } => {
                self.state = State::Outside;
                return self.symbol(byte);
            }
            State::PollCheck(station) => {
                self.state = State::Outside;
                return if byte == station.wrapping_neg() { Heard::Poll(station) } else { Heard::Nothing };
            }
            State::Begin(station) if byte == DLE => self.state = State::BeginDle(station),
            State::Begin(_) => self.state = State::Outside,
            State::BeginDle(station) => {
                self.state = State::Outside;
                if byte != STX {
                    return self.symbol(byte);
                }
                self.station = Some(station);
                self.begin();
            }
            State::Inside if byte == DLE => self.state = State::InsideDle,
            State::Inside => self.take(byte),
            State::InsideDle => return self.inside(byte),
            State::Ending(first) => return self.end(first, byte),
        }
        Heard::Nothing
    }

    fn station_is(&mut self, polled: bool, station: u8) {
        self.state = if polled { State::PollCheck(station) } else { State::Begin(station) };
    }

    /// DLE and this byte, outside of a message.
    fn symbol(&mut self, byte: u8) -> Heard<'_> {
        match byte {
            STX => {
                self.station = None;
                self.begin();
            }
            SOH if self.half => self.state = State::Station { polled: false },
            ENQ if self.half => self.state = State::Station { polled: true },
            ENQ => return Heard::Symbol(Symbol::Enq),
            ACK => return Heard::Symbol(Symbol::Ack),
            NAK | NAK_OTHER => return Heard::Symbol(Symbol::Nak),
            EOT if self.half => return Heard::Symbol(Symbol::Eot),
            DLE => self.state = State::OutsideDle,
            _ => return Heard::Stray,
        }
        Heard::Nothing
    }

    /// DLE and this byte, inside a message.
    fn inside(&mut self, byte: u8) -> Heard<'_> {
        match byte {
            DLE => self.take(DLE),
            // Broken off and begun again.
            STX => self.begin(),
            ETX => {
                self.sum.etx();
                self.state = State::Ending(None);
            }
            // Responses to our own message may stand inside the peer's.
            ACK | NAK | NAK_OTHER if !self.half => {
                self.state = State::Inside;
                return Heard::Symbol(if byte == ACK { Symbol::Ack } else { Symbol::Nak });
            }
            SOH if self.half => self.state = State::Station { polled: false },
            _ => {
                self.state = State::Outside;
                return Heard::Damaged(self.station, "a DLE that is neither doubled nor part of a symbol");
            }
        }
        Heard::Nothing
    }

    fn end(&mut self, first: Option<u8>, byte: u8) -> Heard<'_> {
        let right = match (self.check, first) {
            (Check::Bcc, _) => byte == self.sum.bcc(),
            (Check::Crc, None) => {
                self.state = State::Ending(Some(byte));
                return Heard::Nothing;
            }
            (Check::Crc, Some(low)) => {
                let came = u16::from_le_bytes([low, byte]);
                came == self.sum.crc || self.station.is_some() && came == self.sum.bare
            }
        };
        self.state = State::Outside;
        let station = self.station;
        if !right {
            let why = match self.check {
                Check::Bcc => "its BCC is wrong (is the other end set to CRC, or its parity another?)",
                Check::Crc => "its CRC is wrong (is the other end set to BCC, or its parity another?)",
            };
            return Heard::Damaged(station, why);
        }
        if self.long || self.data.len() < MESSAGE_MIN {
            return Heard::Damaged(station, "it has fewer than 6 or more than 250 bytes");
        }
        Heard::Message { station, data: &self.data }
    }
}
