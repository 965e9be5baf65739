//! Services of the connection manager: opening and closing connections, and requests that go on along a route.

use super::cip::service;
use super::epath::Path;
use super::status::connection as refused;
use crate::{Reader, WireError};

const LAYER: &str = "connection manager";

/// A request for a device behind a route.
///
/// ```text
/// tick 1  ticks 1  size 2  request  [00]  route words 1  00  route
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UnconnectedSend<'a> {
    /// The low four bits: a tick takes 2 to that many milliseconds.
    pub tick: u8,
    /// How many of them the answer may take.
    pub ticks: u8,
    /// The request.
    pub message: &'a [u8],
    /// Where it goes from the one that gets it.
    pub route: Path<'a>,
}

impl<'a> UnconnectedSend<'a> {
    /// Reads the data of the service.
    ///
    /// # Errors
    /// They are cut or go on, or the route is unsound.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let (tick, ticks) = (reader.u8("tick time")?, reader.u8("ticks")?);
        let size = reader.u16_le("request size")?;
        let message = reader.bytes("request", size.into())?;
        if size % 2 == 1 {
            reader.u8_in("pad byte", 0, 0)?;
        }
        let words = reader.u8("route size")?;
        reader.u8_in("reserved byte", 0, 0)?;
        let route = path(&mut reader, "route", words)?;
        reader.end()?;
        Ok(Self { tick, ticks, message, route })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let message = |out: &mut Vec<u8>| out.extend_from_slice(self.message);
        Self::emit_with(out, (self.tick, self.ticks), self.route, message);
    }

    /// Appends the data with a request that is appended by `message`.
    pub fn emit_with(
        out: &mut Vec<u8>,
        (tick, ticks): (u8, u8),
        route: Path<'_>,
        message: impl FnOnce(&mut Vec<u8>),
    ) {
        out.extend_from_slice(&[tick, ticks, 0, 0]);
        let begin = out.len();
        message(out);
        let size = u16::try_from(out.len() - begin).unwrap_or(u16::MAX);
        if let Some(field) = out.get_mut(begin - 2..begin) {
            field.copy_from_slice(&size.to_le_bytes());
        }
        if size % 2 == 1 {
            out.push(0);
        }
        out.extend_from_slice(&[words(route), 0]);
        out.extend_from_slice(route.bytes());
    }

    /// How long the answer may take, in milliseconds.
    #[must_use]
    pub fn timeout_ms(&self) -> u32 {
        u32::from(self.ticks) << (self.tick & 0x0F)
    }

    /// Tick and ticks of a time in milliseconds, rounded up; at most 8,355,840.
    #[must_use]
    pub fn ticks_of(ms: u32) -> (u8, u8) {
        let fits = |tick: &u8| ms.div_ceil(1 << *tick) <= u8::MAX.into();
        let tick = (0..15).find(fits).unwrap_or(15);
        (tick, u8::try_from(ms.div_ceil(1 << tick)).unwrap_or(u8::MAX))
    }
}

fn path<'a>(reader: &mut Reader<'a>, field: &'static str, words: u8) -> Result<Path<'a>, WireError> {
    let at = reader.at;
    let bytes = reader.bytes(field, usize::from(words) * 2)?;
    Path::parse(bytes).map_err(|error| WireError { at: error.at + at, ..error })
}

fn words(path: Path<'_>) -> u8 {
    u8::try_from(path.bytes().len() / 2).unwrap_or(u8::MAX)
}

/// How one direction of a connection is to be: type, priority, and how many bytes, the sequence count with them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Parameters {
    /// The bits as they were: 16 of an ordinary request, 32 of a large one.
    raw: u32,
    large: bool,
}

impl Parameters {
    /// Point to point, low priority, of any size up to this: what explicit messages use.
    #[must_use]
    pub const fn explicit(size: u16, large: bool) -> Self {
        let raw = if large { 0x4200_0000 | size as u32 } else { 0x4200 | (size & 0x1FF) as u32 };
        Self { raw, large }
    }

    /// Point to point, scheduled, of exactly this size: what runs again and again. The size counts the sequence count and a
    /// header.
    #[must_use]
    pub const fn cyclic(size: u16, large: bool) -> Self {
        let raw = if large { 0x4800_0000 | size as u32 } else { 0x4800 | (size & 0x1FF) as u32 };
        Self { raw, large }
    }

    /// Bytes.
    #[must_use]
    pub fn size(self) -> u16 {
        let mask = if self.large { 0xFFFF } else { 0x1FF };
        u16::try_from(self.raw & mask).unwrap_or(u16::MAX)
    }

    /// 0 null, 1 multicast, 2 point to point, 3 reserved.
    #[must_use]
    pub const fn kind(self) -> u32 {
        self.raw >> (if self.large { 29 } else { 13 }) & 3
    }

    /// Whether messages may be shorter.
    #[must_use]
    pub const fn is_variable(self) -> bool {
        self.raw >> (if self.large { 25 } else { 9 }) & 1 == 1
    }

    /// 0 low, 1 high, 2 scheduled, 3 urgent.
    #[must_use]
    pub const fn priority(self) -> u32 {
        self.raw >> (if self.large { 26 } else { 10 }) & 3
    }

    fn read(reader: &mut Reader<'_>, large: bool) -> Result<Self, WireError> {
        let field = "network parameters";
        let raw = if large { reader.u32_le(field)? } else { reader.u16_le(field)?.into() };
        Ok(Self { raw, large })
    }

    fn emit(self, out: &mut Vec<u8>) {
        let bytes = self.raw.to_le_bytes();
        out.extend_from_slice(bytes.get(..if self.large { 4 } else { 2 }).unwrap_or_default());
    }
}

/// Who opened a connection: the three numbers by which it is found again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Triad {
    /// The number that the originator gave it.
    pub serial: u16,
    /// The originator's vendor.
    pub vendor: u16,
    /// The originator's own serial number.
    pub originator: u32,
}

impl Triad {
    fn read(reader: &mut Reader<'_>) -> Result<Self, WireError> {
        Ok(Self {
            serial: reader.u16_le("connection serial number")?,
            vendor: reader.u16_le("originator vendor")?,
            originator: reader.u32_le("originator serial number")?,
        })
    }

    fn emit(self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.serial.to_le_bytes());
        out.extend_from_slice(&self.vendor.to_le_bytes());
        out.extend_from_slice(&self.originator.to_le_bytes());
    }
}

/// Class 1, cyclic trigger, client: frames that go again and again.
pub const CYCLIC: u8 = 0x01;
/// Class 3, application trigger, server: explicit messages.
pub const EXPLICIT: u8 = 0xA3;
/// The greatest timeout multiplier: 512 intervals.
pub const MULTIPLIER_MAX: u8 = 7;

/// A connection to be opened. `to_target` is what the standard calls O→T, `to_originator` T→O.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ForwardOpen<'a> {
    /// See [`UnconnectedSend::tick`].
    pub tick: u8,
    /// See [`UnconnectedSend::ticks`].
    pub ticks: u8,
    /// The id of what goes to the target; 0, the target chooses it.
    pub to_target_id: u32,
    /// The id of what goes to the originator, who chooses it.
    pub to_originator_id: u32,
    /// Who opens it.
    pub triad: Triad,
    /// It counts as lost after 4 << this many intervals.
    pub multiplier: u8,
    /// How often something goes to the target, in microseconds.
    pub to_target_interval: u32,
    /// How.
    pub to_target: Parameters,
    /// How often something goes to the originator, in microseconds.
    pub to_originator_interval: u32,
    /// How.
    pub to_originator: Parameters,
    /// Class, trigger and direction.
    pub transport: u8,
    /// Where to.
    pub path: Path<'a>,
}

impl<'a> ForwardOpen<'a> {
    /// Reads the data of the service.
    ///
    /// # Errors
    /// They are cut or go on, or the path is unsound.
    pub fn parse(data: &'a [u8], large: bool) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let (tick, ticks) = (reader.u8("tick time")?, reader.u8("ticks")?);
        let to_target_id = reader.u32_le("O->T connection id")?;
        let to_originator_id = reader.u32_le("T->O connection id")?;
        let triad = Triad::read(&mut reader)?;
        let multiplier = reader.u8("timeout multiplier")?;
        for _ in 0..3 {
            reader.u8_in("reserved byte", 0, 0)?;
        }
        let to_target_interval = reader.u32_le("O->T interval")?;
        let to_target = Parameters::read(&mut reader, large)?;
        let to_originator_interval = reader.u32_le("T->O interval")?;
        let to_originator = Parameters::read(&mut reader, large)?;
        let transport = reader.u8("transport and trigger")?;
        let words = reader.u8("connection path size")?;
        let path = path(&mut reader, "connection path", words)?;
        reader.end()?;
        Ok(Self {
            tick,
            ticks,
            to_target_id,
            to_originator_id,
            triad,
            multiplier,
            to_target_interval,
            to_target,
            to_originator_interval,
            to_originator,
            transport,
            path,
        })
    }

    /// The service by which it is asked.
    #[must_use]
    pub const fn service(&self) -> u8 {
        if self.to_target.large { service::LARGE_FORWARD_OPEN } else { service::FORWARD_OPEN }
    }

    /// The word of general status 1 for what no target may take.
    #[must_use]
    pub const fn fault(&self) -> Option<u16> {
        if self.multiplier > MULTIPLIER_MAX {
            return Some(refused::MULTIPLIER);
        }
        if self.to_target.kind() == 3 {
            return Some(refused::TYPE_TO_TARGET);
        }
        if self.to_originator.kind() == 3 {
            return Some(refused::TYPE_TO_ORIGINATOR);
        }
        None
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&[self.tick, self.ticks]);
        out.extend_from_slice(&self.to_target_id.to_le_bytes());
        out.extend_from_slice(&self.to_originator_id.to_le_bytes());
        self.triad.emit(out);
        out.extend_from_slice(&[self.multiplier, 0, 0, 0]);
        out.extend_from_slice(&self.to_target_interval.to_le_bytes());
        self.to_target.emit(out);
        out.extend_from_slice(&self.to_originator_interval.to_le_bytes());
        self.to_originator.emit(out);
        out.extend_from_slice(&[self.transport, words(self.path)]);
        out.extend_from_slice(self.path.bytes());
    }
}

/// An opened connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Opened<'a> {
    /// The id of what goes to the target, which chose it.
    pub to_target_id: u32,
    /// The id of what goes to the originator.
    pub to_originator_id: u32,
    /// Who opened it.
    pub triad: Triad,
    /// How often something really goes to the target, in microseconds.
    pub to_target_interval: u32,
    /// How often something really goes to the originator, in microseconds.
    pub to_originator_interval: u32,
    /// What the application adds.
    pub application: &'a [u8],
}

impl<'a> Opened<'a> {
    /// Reads the data of a good reply.
    ///
    /// # Errors
    /// They are cut or go on.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let to_target_id = reader.u32_le("O->T connection id")?;
        let to_originator_id = reader.u32_le("T->O connection id")?;
        let triad = Triad::read(&mut reader)?;
        let to_target_interval = reader.u32_le("O->T interval")?;
        let to_originator_interval = reader.u32_le("T->O interval")?;
        let application = application(reader)?;
        Ok(Self {
            to_target_id,
            to_originator_id,
            triad,
            to_target_interval,
            to_originator_interval,
            application,
        })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.to_target_id.to_le_bytes());
        out.extend_from_slice(&self.to_originator_id.to_le_bytes());
        self.triad.emit(out);
        out.extend_from_slice(&self.to_target_interval.to_le_bytes());
        out.extend_from_slice(&self.to_originator_interval.to_le_bytes());
        emit_application(out, self.application);
    }
}

/// How many words, a reserved byte, the words.
fn application<'a>(mut reader: Reader<'a>) -> Result<&'a [u8], WireError> {
    let words = reader.u8("application reply size")?;
    reader.u8("reserved byte")?;
    let application = reader.bytes("application reply", usize::from(words) * 2)?;
    reader.end()?;
    Ok(application)
}

fn emit_application(out: &mut Vec<u8>, application: &[u8]) {
    out.extend_from_slice(&[u8::try_from(application.len() / 2).unwrap_or(u8::MAX), 0]);
    out.extend_from_slice(application);
}

/// Why a connection was not opened or closed, behind the status: who asked, and how much of the route was left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NotOpened {
    /// Who asked.
    pub triad: Triad,
    /// Words of the path that were left where it failed.
    pub left: u8,
}

impl NotOpened {
    /// Reads the data of a refusal. Bytes behind them are not looked at: some add one, some none.
    ///
    /// # Errors
    /// They are cut.
    pub fn parse(data: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let triad = Triad::read(&mut reader)?;
        Ok(Self { triad, left: if reader.is_at_end() { 0 } else { reader.u8("words left")? } })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.triad.emit(out);
        out.extend_from_slice(&[self.left, 0]);
    }
}

/// A connection to be closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ForwardClose<'a> {
    /// See [`UnconnectedSend::tick`].
    pub tick: u8,
    /// See [`UnconnectedSend::ticks`].
    pub ticks: u8,
    /// Who opened it.
    pub triad: Triad,
    /// The path by which it was opened.
    pub path: Path<'a>,
}

impl<'a> ForwardClose<'a> {
    /// Reads the data of the service.
    ///
    /// # Errors
    /// They are cut or go on, or the path is unsound.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let (tick, ticks) = (reader.u8("tick time")?, reader.u8("ticks")?);
        let triad = Triad::read(&mut reader)?;
        let words = reader.u8("connection path size")?;
        reader.u8_in("reserved byte", 0, 0)?;
        let path = path(&mut reader, "connection path", words)?;
        reader.end()?;
        Ok(Self { tick, ticks, triad, path })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&[self.tick, self.ticks]);
        self.triad.emit(out);
        out.extend_from_slice(&[words(self.path), 0]);
        out.extend_from_slice(self.path.bytes());
    }
}

/// A closed connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Closed<'a> {
    /// Who had opened it.
    pub triad: Triad,
    /// What the application adds.
    pub application: &'a [u8],
}

impl<'a> Closed<'a> {
    /// Reads the data of a good reply.
    ///
    /// # Errors
    /// They are cut or go on.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(LAYER, data);
        let triad = Triad::read(&mut reader)?;
        Ok(Self { triad, application: application(reader)? })
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.triad.emit(out);
        emit_application(out, self.application);
    }
}

/// How long a connection lives without a message, in microseconds.
#[must_use]
pub fn lost_after(interval: u32, multiplier: u8) -> u64 {
    u64::from(interval) << (2 + multiplier.min(MULTIPLIER_MAX))
}
