//! The blocks of a pcapng file, and of the older format that many programs still write.

use std::io::Write;
use woodrush_core::one_line::one_line;

const SECTION: u32 = 0x0A0D_0D0A;
const INTERFACE: u32 = 1;
const PACKET_OLD: u32 = 2;
const PACKET_SIMPLE: u32 = 3;
const STATISTICS: u32 = 5;
const PACKET: u32 = 6;
const MAGIC: u32 = 0x1A2B_3C4D;
/// Options that any block may have.
const COMMENT: u16 = 1;
/// Options of a section and of an interface.
const APPLICATION: u16 = 4;
const NAME: u16 = 2;
const DESCRIPTION: u16 = 3;
const RESOLUTION: u16 = 9;
/// Option of statistics: packets that were dropped.
const DROPPED: u16 = 5;
/// The older format, with microseconds and with nanoseconds.
const PCAP_MICRO: u32 = 0xA1B2_C3D4;
const PCAP_NANO: u32 = 0xA1B2_3C4D;
/// No block of ours or of a field bus is longer; a length beyond it is damage.
const BLOCK_MAX: usize = 16 * 1024 * 1024;

fn padded(bytes: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(bytes);
    out.resize(out.len().next_multiple_of(4), 0);
}

fn option(code: u16, value: &[u8], out: &mut Vec<u8>) {
    let value = value.get(..value.len().min(usize::from(u16::MAX))).unwrap_or_default();
    out.extend_from_slice(&code.to_le_bytes());
    out.extend_from_slice(&u16::try_from(value.len()).unwrap_or(0).to_le_bytes());
    padded(value, out);
}

fn block(kind: u32, body: &[u8], out: &mut impl Write) -> std::io::Result<()> {
    let length = u32::try_from(body.len() + 12).map_err(|_| std::io::ErrorKind::InvalidInput)?;
    out.write_all(&kind.to_le_bytes())?;
    out.write_all(&length.to_le_bytes())?;
    out.write_all(body)?;
    out.write_all(&length.to_le_bytes())
}

/// Begins a file.
pub(super) fn section(application: &str, out: &mut impl Write) -> std::io::Result<()> {
    let mut body = vec![];
    body.extend_from_slice(&MAGIC.to_le_bytes());
    // Version 1.0; how long the section will be is not known.
    body.extend_from_slice(&[1, 0, 0, 0]);
    body.extend_from_slice(&u64::MAX.to_le_bytes());
    option(APPLICATION, application.as_bytes(), &mut body);
    option(0, &[], &mut body);
    block(SECTION, &body, out)
}

/// Adds an interface; they are numbered from 0 on.
pub(super) fn interface(
    link: u16,
    name: &str,
    description: &str,
    out: &mut impl Write,
) -> std::io::Result<()> {
    let mut body = vec![];
    body.extend_from_slice(&link.to_le_bytes());
    body.extend_from_slice(&[0; 2]);
    body.extend_from_slice(&0u32.to_le_bytes());
    option(NAME, name.as_bytes(), &mut body);
    option(DESCRIPTION, description.as_bytes(), &mut body);
    // Moments count microseconds.
    option(RESOLUTION, &[6], &mut body);
    option(0, &[], &mut body);
    block(INTERFACE, &body, out)
}

/// Adds a packet; `at` in microseconds since 1970.
pub(super) fn packet(
    interface: u32,
    at: u64,
    data: &[u8],
    comment: &str,
    out: &mut impl Write,
) -> std::io::Result<()> {
    let half = |shift: u32| u32::try_from(at >> shift & 0xFFFF_FFFF).unwrap_or(0);
    let length = u32::try_from(data.len()).map_err(|_| std::io::ErrorKind::InvalidInput)?;
    let mut body = vec![];
    for number in [interface, half(32), half(0), length, length] {
        body.extend_from_slice(&number.to_le_bytes());
    }
    padded(data, &mut body);
    if !comment.is_empty() {
        option(COMMENT, comment.as_bytes(), &mut body);
        option(0, &[], &mut body);
    }
    block(PACKET, &body, out)
}

/// Tells how many packets an interface did not get.
pub(super) fn statistics(interface: u32, at: u64, dropped: u64, out: &mut impl Write) -> std::io::Result<()> {
    let half = |shift: u32| u32::try_from(at >> shift & 0xFFFF_FFFF).unwrap_or(0);
    let mut body = vec![];
    for number in [interface, half(32), half(0)] {
        body.extend_from_slice(&number.to_le_bytes());
    }
    option(DROPPED, &dropped.to_le_bytes(), &mut body);
    option(0, &[], &mut body);
    block(STATISTICS, &body, out)
}

/// What a block says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Block {
    /// Interfaces are numbered from 0 on again.
    Section,
    /// One more interface.
    Interface { link: u16, name: String, description: String },
    /// A packet; `at` in microseconds since 1970.
    Packet { interface: usize, at: u64, data: Vec<u8> },
}

/// Numbers as the file has them.
#[derive(Debug, Clone, Copy)]
struct Endian {
    big: bool,
}

impl Endian {
    fn u16(self, bytes: &[u8], at: usize) -> Option<u16> {
        let pair = *bytes.get(at..)?.first_chunk()?;
        Some(if self.big { u16::from_be_bytes(pair) } else { u16::from_le_bytes(pair) })
    }

    fn u32(self, bytes: &[u8], at: usize) -> Option<u32> {
        let four = *bytes.get(at..)?.first_chunk()?;
        Some(if self.big { u32::from_be_bytes(four) } else { u32::from_le_bytes(four) })
    }

    fn size(self, bytes: &[u8], at: usize) -> Option<usize> {
        usize::try_from(self.u32(bytes, at)?).ok()
    }
}

/// The blocks of a file, one after the other.
#[derive(Debug)]
pub(super) struct Blocks {
    file: Vec<u8>,
    at: usize,
    endian: Endian,
    /// The older format: units of its moments in a second.
    old: Option<u64>,
    /// Units of a second, by interface.
    units: Vec<u64>,
}

impl Blocks {
    /// Of a whole file.
    ///
    /// # Errors
    /// It is no capture, in words.
    pub(super) fn new(file: Vec<u8>) -> Result<Self, String> {
        let first = |big| Endian { big }.u32(&file, 0);
        let mut blocks =
            Self { at: 0, endian: Endian { big: false }, old: None, units: vec![], file: vec![] };
        for big in [false, true] {
            match first(big) {
                Some(SECTION) => {}
                Some(PCAP_MICRO) => blocks.old = Some(1_000_000),
                Some(PCAP_NANO) => blocks.old = Some(1_000_000_000),
                _ => continue,
            }
            blocks.endian = Endian { big };
            blocks.file = file;
            return Ok(blocks);
        }
        Err("it is not a capture: its first bytes are those of neither pcapng nor pcap".into())
    }

    /// The next block that says something; `None` at the end.
    ///
    /// # Errors
    /// The file is cut or damaged there, in words.
    pub(super) fn next(&mut self) -> Result<Option<Block>, String> {
        if let Some(units) = self.old {
            return self.next_old(units);
        }
        loop {
            if self.at >= self.file.len() {
                return Ok(None);
            }
            let rest = self.file.get(self.at..).unwrap_or_default();
            let short = || format!("the capture ends in the middle of a block, at byte {}", self.at);
            let damaged = || format!("the capture is damaged at byte {}", self.at);
            if rest.len() < 12 {
                return Err(short());
            }
            let mut endian = self.endian;
            let section = endian.u32(rest, 0) == Some(SECTION);
            if section {
                endian.big = Endian { big: true }.u32(rest, 8) == Some(MAGIC);
            }
            let length = endian.size(rest, 4).filter(|length| *length >= 12 && length.is_multiple_of(4));
            let length = length.filter(|length| *length <= BLOCK_MAX).ok_or_else(damaged)?;
            let whole = rest.get(..length).ok_or_else(short)?;
            if endian.size(whole, length - 4) != Some(length) {
                return Err(damaged());
            }
            let kind = endian.u32(whole, 0).unwrap_or(0);
            let body = whole.get(8..length - 4).unwrap_or_default();
            let found = Self::block(endian, kind, body, &mut self.units).ok_or_else(damaged)?;
            self.endian = endian;
            self.at += length;
            if let Some(block) = found {
                return Ok(Some(block));
            }
        }
    }

    /// `None` is damage; a block that says nothing here is none.
    fn block(endian: Endian, kind: u32, body: &[u8], units: &mut Vec<u64>) -> Option<Option<Block>> {
        let found = match kind {
            SECTION => {
                units.clear();
                Block::Section
            }
            INTERFACE => {
                let link = endian.u16(body, 0)?;
                let (mut name, mut description, mut unit) = (String::new(), String::new(), 1_000_000);
                options(endian, body.get(8..)?, |code, value| match code {
                    NAME => name = one_line(value),
                    DESCRIPTION => description = one_line(value),
                    RESOLUTION => unit = resolution(value.first().copied().unwrap_or(6)),
                    _ => {}
                });
                units.push(unit);
                Block::Interface { link, name, description }
            }
            PACKET | PACKET_OLD => {
                let interface =
                    if kind == PACKET { endian.size(body, 0)? } else { usize::from(endian.u16(body, 0)?) };
                let unit = *units.get(interface)?;
                let stamp = u64::from(endian.u32(body, 4)?) << 32 | u64::from(endian.u32(body, 8)?);
                let length = endian.size(body, 12)?;
                let data = body.get(20..)?.get(..length)?.to_vec();
                Block::Packet { interface, at: micros(stamp, unit), data }
            }
            PACKET_SIMPLE => {
                let length = endian.size(body, 0)?;
                let data = body.get(4..)?.iter().take(length).copied().collect();
                Block::Packet { interface: 0, at: 0, data }
            }
            _ => return Some(None),
        };
        Some(Some(found))
    }

    fn next_old(&mut self, units: u64) -> Result<Option<Block>, String> {
        let short = || format!("the capture ends in the middle of a packet, at byte {}", self.at);
        let (endian, file) = (self.endian, &self.file);
        if self.at == 0 {
            let link = endian.u32(file, 20).ok_or_else(short)?;
            self.at = 24;
            let link = u16::try_from(link & 0xFFFF).unwrap_or(0);
            return Ok(Some(Block::Interface { link, name: String::new(), description: String::new() }));
        }
        if self.at >= file.len() {
            return Ok(None);
        }
        let head = file.get(self.at..self.at + 16).ok_or_else(short)?;
        let number = |at| endian.u32(head, at).unwrap_or(0);
        let length = number(8) as usize;
        if length > BLOCK_MAX {
            return Err(format!("the capture is damaged at byte {}", self.at));
        }
        let data = file.get(self.at + 16..self.at + 16 + length).ok_or_else(short)?.to_vec();
        let at = u64::from(number(0)) * 1_000_000 + micros(number(4).into(), units);
        self.at += 16 + length;
        Ok(Some(Block::Packet { interface: 0, at, data }))
    }
}

fn options<'b>(endian: Endian, mut rest: &'b [u8], mut each: impl FnMut(u16, &'b [u8])) {
    while let (Some(code), Some(length)) = (endian.u16(rest, 0), endian.u16(rest, 2)) {
        let length = usize::from(length);
        let Some(value) = rest.get(4..4 + length) else { return };
        if code == 0 {
            return;
        }
        each(code, value);
        rest = rest.get(4 + length.next_multiple_of(4)..).unwrap_or_default();
    }
}

/// Units of a second out of the option: a power of ten, or with the highest bit of two.
fn resolution(byte: u8) -> u64 {
    let power = u32::from(byte & 0x7F);
    let base: u64 = if byte & 0x80 == 0 { 10 } else { 2 };
    base.checked_pow(power).unwrap_or(1_000_000)
}

fn micros(stamp: u64, unit: u64) -> u64 {
    let unit = u128::from(unit.max(1));
    u64::try_from(u128::from(stamp) * 1_000_000 / unit).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file() -> Vec<u8> {
        let mut out = vec![];
        section("a test", &mut out).unwrap();
        interface(252, "raceway", "modbus-rtu at 38400 8E1", &mut out).unwrap();
        packet(0, 1_700_000_000_123_456, &[1, 2, 3, 4, 5], "a comment", &mut out).unwrap();
        statistics(0, 1_700_000_001_000_000, 7, &mut out).unwrap();
        packet(0, 1_700_000_002_000_000, &[9], "", &mut out).unwrap();
        out
    }

    fn all(file: Vec<u8>) -> (Vec<Block>, Option<String>) {
        let mut blocks = match Blocks::new(file) {
            Ok(blocks) => blocks,
            Err(why) => return (vec![], Some(why)),
        };
        let mut found = vec![];
        loop {
            match blocks.next() {
                Ok(Some(block)) => found.push(block),
                Ok(None) => return (found, None),
                Err(why) => return (found, Some(why)),
            }
        }
    }

    #[test]
    fn what_is_written_is_read_again() {
        let (found, fault) = all(file());
        let packet = |at, data: &[u8]| Block::Packet { interface: 0, at, data: data.to_vec() };
        let (name, description) = ("raceway".to_string(), "modbus-rtu at 38400 8E1".to_string());
        assert_eq!(
            (found, fault),
            (
                vec![
                    Block::Section,
                    Block::Interface { link: 252, name, description },
                    packet(1_700_000_000_123_456, &[1, 2, 3, 4, 5]),
                    packet(1_700_000_002_000_000, &[9]),
                ],
                None
            )
        );
    }

    #[test]
    fn a_capture_that_is_cut_gives_what_came_before_and_says_so() {
        let whole = file();
        let (all_of_it, _) = all(whole.clone());
        for end in 0..whole.len() {
            let (found, fault) = all(whole[..end].to_vec());
            assert!(found.iter().eq(all_of_it.iter().take(found.len())), "cut at {end}");
            // Between two blocks nobody can see that something is missing.
            let clean = fault.is_none();
            assert!(clean || fault.as_deref().is_some_and(|why| why.contains("capture")), "cut at {end}");
        }
    }

    #[test]
    fn damaged_bytes_are_never_more_than_a_message() {
        let whole = file();
        for at in 0..whole.len() {
            for change in [0xFF, 0x80, 0x01] {
                let mut bytes = whole.clone();
                bytes[at] ^= change;
                all(bytes);
            }
        }
    }

    #[test]
    fn the_older_format_is_read_in_both_orders_of_bytes() {
        for big in [false, true] {
            let number = |value: u32| if big { value.to_be_bytes() } else { value.to_le_bytes() };
            let mut bytes = vec![];
            for value in [PCAP_MICRO, 0x0002_0004, 0, 0, 65_535, 1, 1_700_000_000, 250, 3, 3] {
                bytes.extend_from_slice(&number(value));
            }
            bytes.extend_from_slice(&[7, 8, 9]);
            let (found, fault) = all(bytes);
            assert_eq!(fault, None);
            assert_eq!(
                found.last(),
                Some(&Block::Packet { interface: 0, at: 1_700_000_000_000_250, data: vec![7, 8, 9] })
            );
        }
    }
}
