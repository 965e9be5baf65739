//! What the keys say of blocks that are exchanged in cycles: assemblies, times, and who we are.

use crate::protocol::{Key, KeyKind, Setup, key};

/// The period where none is written, in microseconds.
const PERIOD: u32 = 20_000;
/// Periods without a frame, where nothing is written.
pub(super) const MULTIPLIER: u32 = 4;
/// The points of controllers that only read, where nothing is written.
pub(super) const INPUT_ONLY: u32 = 152;
pub(super) const LISTEN_ONLY: u32 = 153;
/// The table of the keys of one assembly, and of what a device says of itself.
const ASSEMBLY: &str = "assembly";
const IDENTITY: &str = "identity";

const INPUTS: &str =
    "the assembly that the controller reads: its number and, unless the rules say it, its bytes";
const OUTPUTS: &str =
    "the assembly that the controller writes: its number and, unless the rules say it, its bytes";
const CONFIG: &str = "the assembly of the configuration that comes with the opening of a connection";
const POINT: KeyKind = KeyKind::Whole(1, 65_535);

/// How often a frame goes each way, in microseconds.
pub(super) fn period(setup: &Setup) -> u32 {
    setup.number("period").unwrap_or(PERIOD)
}

/// The keys of exchanges in cycles.
pub(super) const KEYS: [Key; 29] = [
    key("images", "inputs", KeyKind::Row(ASSEMBLY), INPUTS),
    key("images", "outputs", KeyKind::Row(ASSEMBLY), OUTPUTS),
    key("images", "config", KeyKind::Row(ASSEMBLY), CONFIG),
    key(
        "images",
        "period",
        KeyKind::Duration,
        "the shortest interval of frames that is accepted; default 20ms",
    ),
    key("images", "input-only", POINT, "the heartbeat of connections that only read; default 152"),
    key("images", "listen-only", POINT, "the heartbeat of connections that only listen; default 153"),
    key("devices", "address", KeyKind::Text, "the IPv4 address of an I/O device on a `network` port"),
    key("devices", "inputs", KeyKind::Row(ASSEMBLY), INPUTS),
    key("devices", "outputs", KeyKind::Row(ASSEMBLY), OUTPUTS),
    key("devices", "config", KeyKind::Row(ASSEMBLY), CONFIG),
    key("devices", "period", KeyKind::Duration, "how often a frame goes each way; default 20ms"),
    key(
        "devices",
        "multiplier",
        KeyKind::Whole(4, 512),
        "periods without a frame after which the connection is lost: 4, 8, 16 to 512; default 4",
    ),
    key("devices", "input-only", POINT, "the heartbeat where the device has no `outputs`; default 152"),
    key("clients", "inputs", KeyKind::Row(ASSEMBLY), INPUTS),
    key("clients", "outputs", KeyKind::Row(ASSEMBLY), OUTPUTS),
    key("clients", "config", KeyKind::Row(ASSEMBLY), CONFIG),
    key("clients", "period", KeyKind::Duration, "how often a frame goes each way; default the image's"),
    key("clients", "multiplier", KeyKind::Whole(4, 512), "as a device's; default 16"),
    key("clients", "input-only", POINT, "the heartbeat where the controller only reads; default the image's"),
    key(ASSEMBLY, "assembly", POINT, "its number"),
    key(ASSEMBLY, "bytes", KeyKind::Whole(0, 509), "its bytes, without sequence count and header"),
    key(ASSEMBLY, "data", KeyKind::Text, "of a configuration: its bytes, as pairs of hex digits"),
    key("ports", "identity", KeyKind::Row(IDENTITY), "what we say of ourselves; without it test numbers"),
    key(IDENTITY, "vendor", KeyKind::Whole(0, 65_535), "the vendor's number"),
    key(IDENTITY, "device-type", KeyKind::Whole(0, 65_535), "the number of the device type"),
    key(IDENTITY, "product", KeyKind::Whole(0, 65_535), "the product code"),
    key(IDENTITY, "revision", KeyKind::Text, "major and minor, such as `1.2`"),
    key(IDENTITY, "serial", KeyKind::Whole(0, u32::MAX as i64), "the serial number"),
    key(IDENTITY, "name", KeyKind::Text, "the product's name, at most 32 letters"),
];

/// One assembly as the keys say it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Assembly {
    /// Its number.
    pub number: u32,
    /// Its bytes.
    pub bytes: u32,
}

/// What one station exchanges, as its keys say.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Layout {
    /// What goes to the controller.
    pub inputs: Assembly,
    /// What comes from it; `None` where it only reads.
    pub outputs: Option<Assembly>,
    /// What takes the configuration.
    pub config: Option<Assembly>,
    /// The configuration's bytes.
    pub data: Vec<u8>,
    /// The point of a heartbeat instead of outputs.
    pub input_only: u32,
    /// The point of a heartbeat of one that listens beside another.
    pub listen_only: u32,
    /// From frame to frame, in microseconds.
    pub period: u32,
    /// Periods without a frame after which it is lost.
    pub multiplier: u32,
}

pub(super) fn assembly(setup: &Setup, key: &str) -> Option<Assembly> {
    let row = setup.row(key)?;
    Some(Assembly { number: row.number("assembly")?, bytes: row.number("bytes").unwrap_or(0) })
}

impl Layout {
    /// What the keys of a station say; `None` where it exchanges nothing.
    #[must_use]
    pub fn of(setup: &Setup) -> Option<Self> {
        let data = setup.row("config").and_then(|row| row.word("data")).map(hex_pairs);
        Some(Self {
            inputs: assembly(setup, "inputs")?,
            outputs: assembly(setup, "outputs"),
            config: assembly(setup, "config"),
            data: data.and_then(Result::ok).unwrap_or_default(),
            input_only: setup.number("input-only").unwrap_or(INPUT_ONLY),
            listen_only: setup.number("listen-only").unwrap_or(LISTEN_ONLY),
            period: period(setup),
            multiplier: setup.number("multiplier").unwrap_or(MULTIPLIER),
        })
    }

    /// The multiplier as it goes over the wire: 4 << n periods.
    #[must_use]
    pub fn multiplier_code(&self) -> u8 {
        multiplier_code(self.multiplier)
    }
}

/// A multiplier as it goes over the wire: 4 << n periods.
pub(super) fn multiplier_code(multiplier: u32) -> u8 {
    u8::try_from((multiplier.max(4) / 4).ilog2()).unwrap_or(0)
}

pub(super) fn hex_pairs(text: &str) -> Result<Vec<u8>, String> {
    let digits: String = text.chars().filter(|own| !own.is_whitespace()).collect();
    let wrong = || format!("`{text}` is not bytes in hex (such as `01 02`)");
    if !digits.len().is_multiple_of(2) || !digits.is_ascii() {
        return Err(wrong());
    }
    let pairs = (0..digits.len()).step_by(2).map(|at| digits.get(at..at + 2).unwrap_or_default());
    pairs.map(|pair| u8::from_str_radix(pair, 16).map_err(|_| wrong())).collect()
}

/// What a device says of itself: vendor, device type, product, revision, serial number, name.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct OwnIdentity {
    /// The vendor's number.
    pub vendor: u16,
    /// The number of the device type.
    pub device_type: u16,
    /// The product code.
    pub product: u16,
    /// Major and minor.
    pub revision: (u8, u8),
    /// The serial number.
    pub serial: u32,
    /// The product's name.
    pub name: String,
}

impl OwnIdentity {
    /// What a port's keys say; test numbers where they say nothing.
    #[must_use]
    pub fn of(setup: &Setup) -> Self {
        let row = setup.row(IDENTITY);
        let number = |key: &str, usual: u16| {
            row.and_then(|row| row.number(key)).and_then(|own| u16::try_from(own).ok()).unwrap_or(usual)
        };
        Self {
            vendor: number("vendor", super::VENDOR),
            device_type: number("device-type", 0x2B),
            product: number("product", 0x0101),
            revision: row.and_then(|row| row.word("revision")).and_then(revision).unwrap_or((1, 2)),
            serial: row.and_then(|row| row.number("serial")).unwrap_or(0xC0FF_EE01),
            name: row.and_then(|row| row.word("name")).unwrap_or("Woodrush IO").to_string(),
        }
    }
}

fn revision(text: &str) -> Option<(u8, u8)> {
    let (major, minor) = text.split_once('.')?;
    let (major, minor) = (major.parse().ok()?, minor.parse().ok()?);
    ((1..=127).contains(&major) && minor > 0).then_some((major, minor))
}

/// A station with these blocks, each with its number and its bytes, as tests need it.
#[cfg(test)]
pub(super) fn blocks(inputs: (u32, u32), outputs: Option<(u32, u32)>) -> Setup {
    let row =
        |(number, bytes)| Setup { numbers: vec![("assembly", number), ("bytes", bytes)], ..Setup::default() };
    let rows = [Some(("inputs", row(inputs))), outputs.map(|own| ("outputs", row(own)))];
    Setup {
        rows: rows.into_iter().flatten().collect(),
        numbers: vec![("period", 10_000)],
        ..Setup::default()
    }
}
