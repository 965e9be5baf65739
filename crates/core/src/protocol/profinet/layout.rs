//! What the keys say of an IO device: its name and address, its slots, and where their bytes lie in a frame.

use crate::protocol::{Key, KeyKind, Setup, key};
use std::net::Ipv4Addr;
use woodrush_wire::profinet::dcp::IpSuite;
use woodrush_wire::profinet::iocr::Placed;
use woodrush_wire::profinet::rt::{DATA, TICK_NS};
use woodrush_wire::profinet::submodules::Expected;

/// The shortest cycle where none is written, in microseconds.
const PERIOD: u32 = 8000;
/// The longest cycle, in microseconds.
pub(super) const PERIOD_MAX: u32 = 512_000;
/// The shortest, in microseconds: one send clock.
pub(super) const PERIOD_MIN: u32 = 1000;
/// Ticks of the send clock, of which a cycle is a multiple.
pub const SEND_CLOCK: u16 = 32;
/// Cycles without a frame after which a controller is lost, where nothing is written: what most of them are set to.
const WATCHDOG: u32 = 3;
/// The longest that a watchdog waits, in microseconds.
pub const WATCHDOG_MAX_US: u64 = 1_920_000;
/// The vendor's number of devices that have none of their own.
pub const TEST_VENDOR: u16 = 0xFFF1;
/// The device's number, likewise.
const TEST_PRODUCT: u16 = 0x0203;
/// The head's module: slot 0.
pub(super) const HEAD_MODULE: u32 = 1;
/// Subslots of the head, each with its ident: itself, its interface, its port.
pub const HEAD: [(u16, u32); 3] = [(1, 1), (0x8000, 2), (0x8001, 3)];
/// Submodules that one station may have, its head's among them: what openings and their answers are sized for.
pub const SUBMODULES_MAX: usize = 256;
/// The table of the keys of one slot, and of what a device says of itself.
const SLOT: &str = "slot";
pub(super) const IDENTITY: &str = "identity";

const SLOTS: &str = "its slots, each with the bytes that go to the controller and those that come from it";
const BYTES: KeyKind = KeyKind::Whole(0, 1439);

/// The keys of IO devices and their controllers.
pub(super) const KEYS: [Key; 18] = [
    key(
        "images",
        "station-name",
        KeyKind::Text,
        "the name of station as shipped; a controller may change it",
    ),
    key(
        "images",
        "address",
        KeyKind::Text,
        "the station's own address with its network, such as `192.0.2.30/24`; else the controller gives one",
    ),
    key("images", "slots", KeyKind::Rows(SLOT), SLOTS),
    key("images", "period", KeyKind::Duration, "the shortest cycle that is accepted; default 8ms"),
    key(
        "clients",
        "station-name",
        KeyKind::Text,
        "the name of station that it looks for; default the image's",
    ),
    key("clients", "slots", KeyKind::Rows(SLOT), "as set up at the controller; default the image's"),
    key("clients", "period", KeyKind::Duration, "its cycle; default the image's shortest"),
    key(
        "clients",
        "watchdog",
        KeyKind::Whole(1, 0x1E00),
        "cycles without a frame after which the connection is lost; default as many as 400 ms have, 3 at least",
    ),
    key(SLOT, "slot", KeyKind::Whole(1, 0x7FFF), "its number"),
    key(SLOT, "subslot", KeyKind::Whole(1, 0x7FFF), "which part of the slot; default 1"),
    key(SLOT, "in", BYTES, "bytes to the controller"),
    key(SLOT, "out", BYTES, "bytes from the controller"),
    key("ports", "identity", KeyKind::Row(IDENTITY), "what we say of ourselves; without it test numbers"),
    key(IDENTITY, "vendor", KeyKind::Whole(0, 65_535), "the vendor's number"),
    key(IDENTITY, "product", KeyKind::Whole(0, 65_535), "the number of the device among the vendor's"),
    key(IDENTITY, "revision", KeyKind::Text, "of its software: major and minor, such as `1.2`"),
    key(IDENTITY, "serial", KeyKind::Whole(0, u32::MAX as i64), "the serial number"),
    key(IDENTITY, "name", KeyKind::Text, "what it is ordered by and its type is called, at most 20 letters"),
];

/// One submodule with data.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Submodule {
    /// Which slot.
    pub slot: u16,
    /// Which subslot of it.
    pub subslot: u16,
    /// Bytes to the controller.
    pub input: u16,
    /// Bytes from it.
    pub output: u16,
}

impl Submodule {
    /// Its ident, which follows from its bytes: file and device cannot differ.
    #[must_use]
    pub fn ident(&self) -> u32 {
        0x1000_0000 | u32::from(self.input) << 12 | u32::from(self.output)
    }

    /// Bits 1 and 0 of its properties: whether it has inputs and outputs.
    const fn kind(&self) -> u16 {
        (self.input > 0) as u16 | ((self.output > 0) as u16) << 1
    }

    /// As messages name it: `slot 1`, or `slot 1, subslot 2`.
    #[must_use]
    pub fn shown(&self) -> String {
        match self.subslot {
            1 => format!("slot {}", self.slot),
            subslot => format!("slot {}, subslot {subslot}", self.slot),
        }
    }

    fn expected(&self, module: u32) -> Expected {
        Expected {
            api: 0,
            slot: self.slot,
            module,
            module_properties: 0,
            subslot: self.subslot,
            ident: self.ident(),
            properties: self.kind(),
            input: (self.output == 0 || self.input > 0).then_some(self.input),
            output: (self.output > 0).then_some(self.output),
        }
    }
}

/// What a station is, as its keys say.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct StationLayout {
    /// Its name of station.
    pub name: String,
    /// Its address; `None` where a controller gives one.
    pub address: Option<IpSuite>,
    /// Its submodules in the order of their slots.
    pub submodules: Vec<Submodule>,
    /// From frame to frame, in microseconds: the shortest that is accepted, or a controller's own.
    pub period: u32,
    /// Cycles without a frame after which it is lost.
    pub watchdog: u32,
}

/// One thing in the data of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FramePart {
    /// Where.
    pub placed: Placed,
    /// Bytes of data before the provider's status; `None` for a consumer's status.
    pub data: Option<u16>,
}

impl StationLayout {
    /// What the keys of a station say; `None` where it has no slots.
    #[must_use]
    pub fn of(setup: &Setup) -> Option<Self> {
        let row = |row: &Setup| {
            let bytes = |key| row.number(key).and_then(|own| u16::try_from(own).ok());
            Some(Submodule {
                slot: bytes("slot")?,
                subslot: bytes("subslot").unwrap_or(1),
                input: bytes("in").unwrap_or(0),
                output: bytes("out").unwrap_or(0),
            })
        };
        let mut submodules: Vec<Submodule> = setup.all_rows("slots").filter_map(row).collect();
        submodules.sort_by_key(|own| (own.slot, own.subslot));
        let period = period(setup);
        (!submodules.is_empty()).then(|| Self {
            name: setup.word("station-name").unwrap_or_default().to_string(),
            address: setup.word("address").and_then(|text| suite(text).ok()),
            submodules,
            period,
            watchdog: setup.number("watchdog").unwrap_or(WATCHDOG),
        })
    }

    /// The ident of the module in a slot: that of its one submodule, or one that follows from all of them.
    #[must_use]
    pub fn module_ident(&self, slot: u16) -> u32 {
        let here = || self.submodules.iter().filter(move |own| own.slot == slot);
        match (here().count(), here().next()) {
            (1, Some(own)) if own.subslot == 1 => own.ident(),
            _ => {
                // FNV-1a over all that there is in it.
                let fields = here().flat_map(|own| [own.subslot, own.input, own.output]);
                let bytes = fields.flat_map(u16::to_be_bytes);
                let sum =
                    bytes.fold(0x811C_9DC5u32, |sum, byte| (sum ^ u32::from(byte)).wrapping_mul(0x0100_0193));
                0x2000_0000 | sum & 0x0FFF_FFFF
            }
        }
    }

    /// All submodules as a controller expects them, the head's with them.
    #[must_use]
    pub fn expected(&self) -> Vec<Expected> {
        let head = |(subslot, ident): (u16, u32)| Expected {
            api: 0,
            slot: 0,
            module: HEAD_MODULE,
            module_properties: 0,
            subslot,
            ident,
            properties: 0,
            input: Some(0),
            output: None,
        };
        let own = |own: &Submodule| own.expected(self.module_ident(own.slot));
        HEAD.into_iter().map(head).chain(self.submodules.iter().map(own)).collect()
    }

    /// What lies in the data of a frame, to the controller or from it, and how many bytes they are: one after the other in
    /// the order of the slots, at least forty.
    #[must_use]
    pub fn frame(&self, to_controller: bool) -> (Vec<FramePart>, u32) {
        let (mut parts, mut at) = (vec![], 0u32);
        for own in self.expected() {
            let (data, other) = if to_controller { (own.input, own.output) } else { (own.output, own.input) };
            let place = |at: u32| Placed {
                api: 0,
                slot: own.slot,
                subslot: own.subslot,
                offset: u16::try_from(at).unwrap_or(u16::MAX),
            };
            if let Some(bytes) = data {
                parts.push(FramePart { placed: place(at), data });
                at += u32::from(bytes) + 1;
            }
            if other.is_some() {
                parts.push(FramePart { placed: place(at), data: None });
                at += 1;
            }
        }
        (parts, at.max((*DATA.start()).into()))
    }

    /// How many send clocks a cycle has.
    #[must_use]
    pub fn ratio(&self) -> u16 {
        u16::try_from(u64::from(self.period) * 1000 / (u64::from(TICK_NS) * u64::from(SEND_CLOCK)))
            .unwrap_or(512)
    }
}

/// The cycle that a setup says, in microseconds.
pub(super) fn period(setup: &Setup) -> u32 {
    setup.number("period").unwrap_or(PERIOD)
}

/// Whether a cycle is one that can be: a send clock of 1 ms, times a power of two.
pub(super) fn is_cycle(period: u32) -> bool {
    let clocks = period / PERIOD_MIN;
    period.is_multiple_of(PERIOD_MIN) && clocks.is_power_of_two() && period <= PERIOD_MAX
}

/// Cycles of a watchdog where none is written: as many as 400 ms have, and three at least.
pub(super) fn usual_watchdog(period: u32) -> u32 {
    (400_000 / period.max(1)).max(WATCHDOG)
}

/// An address with its network, such as `192.0.2.30/24`.
///
/// # Errors
/// What is wrong with it, in words.
pub fn suite(text: &str) -> Result<IpSuite, String> {
    let wrong = || format!("`{text}` is not an address with its network, such as `192.0.2.30/24`");
    let (address, bits) = text.split_once('/').ok_or_else(wrong)?;
    let address: Ipv4Addr = address.parse().map_err(|_| wrong())?;
    let bits: u32 = bits.parse().ok().filter(|bits| (1..=30).contains(bits)).ok_or_else(wrong)?;
    let mask = Ipv4Addr::from(u32::MAX << (32 - bits));
    let host = u32::from(address) & !u32::from(mask);
    if address.is_multicast() || address.is_loopback() || host == 0 || host == !u32::from(mask) {
        return Err(format!("{address} cannot be the address of a station in a network of {bits} bits"));
    }
    Ok(IpSuite { address, mask, gateway: Ipv4Addr::UNSPECIFIED })
}

/// The same as the file writes it; nothing where there is none.
#[must_use]
pub fn shown_suite(suite: IpSuite) -> String {
    match suite.address.is_unspecified() {
        true => String::new(),
        false => format!("{}/{}", suite.address, u32::from(suite.mask).count_ones()),
    }
}

/// What a device says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct IoIdentity {
    /// The vendor's number.
    pub vendor: u16,
    /// The number of the device among the vendor's.
    pub product: u16,
    /// Major and minor of its software.
    pub revision: (u8, u8),
    /// The serial number.
    pub serial: u32,
    /// What it is ordered by, and its type.
    pub name: String,
}

impl IoIdentity {
    /// What a port's keys say; test numbers where they say nothing.
    #[must_use]
    pub fn of(setup: &Setup) -> Self {
        let row = setup.row(IDENTITY);
        let number = |key: &str, usual: u16| {
            row.and_then(|row| row.number(key)).and_then(|own| u16::try_from(own).ok()).unwrap_or(usual)
        };
        let revision = row.and_then(|row| row.word("revision")).and_then(|text| {
            let (major, minor) = text.split_once('.')?;
            Some((major.parse().ok()?, minor.parse().ok()?))
        });
        Self {
            vendor: number("vendor", TEST_VENDOR),
            product: number("product", TEST_PRODUCT),
            revision: revision.unwrap_or((1, 0)),
            serial: row.and_then(|row| row.number("serial")).unwrap_or(1),
            name: row.and_then(|row| row.word("name")).unwrap_or("WOODRUSH-IO").to_string(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::collection::btree_map;
    use proptest::prelude::*;

    fn layout(submodules: Vec<Submodule>) -> StationLayout {
        StationLayout { name: "raceway-box".into(), address: None, submodules, period: 8000, watchdog: 3 }
    }

    #[test]
    fn an_address_is_one_of_a_station_in_its_network() {
        for (text, mask) in
            [("192.0.2.30/24", 24), ("192.0.2.1/30", 30), ("10.0.0.1/8", 8), ("192.0.2.129/25", 25)]
        {
            let own = suite(text).unwrap();
            assert_eq!((shown_suite(own).as_str(), u32::from(own.mask).count_ones()), (text, mask));
        }
        for (text, why) in [
            ("192.0.2.30", "is not an address with its network"),
            ("192.0.2.30/", "is not an address with its network"),
            ("192.0.2.30/0", "is not an address with its network"),
            ("192.0.2.30/31", "is not an address with its network"),
            ("192.0.2/24", "is not an address with its network"),
            ("192.0.2.0/24", "cannot be the address of a station"),
            ("192.0.2.255/24", "cannot be the address of a station"),
            ("127.0.0.1/8", "cannot be the address of a station"),
            ("224.0.0.5/24", "cannot be the address of a station"),
        ] {
            let fault = suite(text).unwrap_err();
            assert!(fault.contains(why), "{text}: {fault}");
        }
        assert_eq!(shown_suite(IpSuite::NONE), "");
    }

    #[test]
    fn cycles_are_powers_of_two_of_the_send_clock() {
        let good: Vec<u32> = (0..=600).map(|ms| ms * 1000).filter(|own| is_cycle(*own)).collect();
        assert_eq!(good, [1000, 2000, 4000, 8000, 16_000, 32_000, 64_000, 128_000, 256_000, 512_000]);
        for own in [999, 1001, 1500, 8001] {
            assert!(!is_cycle(own), "{own}");
        }
        for period in good {
            let own = StationLayout { period, ..layout(vec![]) };
            assert_eq!(u32::from(own.ratio()) * 1000, period);
            // As many as 400 ms have, and three at least.
            let cycles = usual_watchdog(period);
            assert!(
                cycles == 3 || cycles * period <= 400_000 && (cycles + 1) * period > 400_000,
                "{period}: {cycles}"
            );
            assert!(u64::from(cycles * period) <= WATCHDOG_MAX_US, "{period}: {cycles}");
        }
    }

    proptest! {
        #[test]
        fn everything_has_its_own_place_in_a_frame(
            slots in btree_map((1u16..100, 1u16..4), (0u16..70, 0u16..70), 0..10),
            to_controller: bool,
        ) {
            let submodule = |((slot, subslot), (input, output))| Submodule { slot, subslot, input, output };
            let own = layout(slots.into_iter().map(submodule).collect());
            let (parts, length) = own.frame(to_controller);
            let mut taken = vec![false; length as usize];
            for part in &parts {
                let begin = usize::from(part.placed.offset);
                for place in &mut taken[begin..=begin + usize::from(part.data.unwrap_or(0))] {
                    prop_assert!(!std::mem::replace(place, true), "two have one place");
                }
            }
            // No hole but at the end, where a short frame is filled up to forty bytes.
            let used = taken.iter().rposition(|own| *own).map_or(0, |last| last + 1);
            prop_assert!(taken[..used].iter().all(|own| *own) && (used == taken.len() || length == 40));
            // Whatever has data one way has a status the other way, the head's three among them.
            let (others, _) = own.frame(!to_controller);
            let at = |own: &FramePart| (own.placed.slot, own.placed.subslot);
            for part in parts.iter().filter(|part| part.data.is_none()) {
                let answered = others.iter().any(|other| other.data.is_some() && at(other) == at(part));
                prop_assert!(answered, "slot {}", part.placed.slot);
            }
            prop_assert_eq!(own.expected().len(), HEAD.len() + own.submodules.len());
        }

        #[test]
        fn other_bytes_are_another_module(one in (0u16..1440, 0u16..1440), other in (0u16..1440, 0u16..1440)) {
            let ident = |(input, output)| layout(vec![Submodule { slot: 1, subslot: 1, input, output }]).module_ident(1);
            prop_assert_eq!(ident(one) == ident(other), one == other);
        }
    }
}
