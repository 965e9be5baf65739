//! PROFINET IO: the converter as an IO device whose slots a controller exchanges in cycles.

mod ends;
mod gsdml;
mod layout;
mod refusals;
mod slots;
mod terms;

pub use layout::{
    FramePart, HEAD, IoIdentity, SEND_CLOCK, SUBMODULES_MAX, StationLayout, Submodule, TEST_VENDOR,
    WATCHDOG_MAX_US, shown_suite, suite,
};
pub use slots::key_of;

use super::direct;
use super::{
    Address, AddressContext, AddressFault, Cyclic, Dialect, Framing, ImpliedType, Key, Link, Notation,
    PortKeys, Refusals, SettingFault, Setup, ShownAddress, Space, StationId, Stations, Transport,
};
use crate::form::Order;
use crate::term::Term;
use layout::{IDENTITY, is_cycle, period, usual_watchdog};
use slots::{of_key, space, words_of};
use woodrush_wire::profinet::rt::DATA;
use woodrush_wire::profinet::{ETHERTYPE, RPC_PORT, name};

/// EtherTypes of a tagged frame and of IP, and the number of UDP in that.
const VLAN: u16 = 0x8100;
const IPV4: u16 = 0x0800;
const UDP: u8 = 17;

/// `profinet`.
#[derive(Debug)]
pub(super) struct IoDevice;

/// `profinet`.
pub(super) static DEVICE: IoDevice = IoDevice;

impl Dialect for IoDevice {
    fn name(&self) -> &'static str {
        "profinet"
    }

    fn family(&self) -> &'static str {
        "slots"
    }

    fn notation(&self) -> &dyn Notation {
        self
    }

    fn stations(&self) -> &dyn Stations {
        self
    }

    fn framing(&self) -> &dyn Framing {
        self
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        if transport == Transport::Ethernet {
            return Ok(());
        }
        Err("its frames go over bare Ethernet: write `ethernet = \"eth1\"`, the interface that leads there")
    }

    fn refusals(&self) -> &'static Refusals {
        &refusals::REFUSALS
    }

    fn terms(&self) -> &'static [Term] {
        terms::TERMS
    }

    fn keys(&self) -> &'static [Key] {
        &layout::KEYS
    }

    fn station_faults(&self, setup: &Setup, _port: PortKeys<'_>) -> Vec<SettingFault> {
        let mut found = vec![];
        let mut add =
            |code, key, what: String, fix: String| found.push(SettingFault { code, key, what, fix });
        match setup.word("station-name") {
            None => add(
                "F04",
                "station-name",
                "it has no `station-name`, by which the controller finds it".into(),
                "add one, such as `station-name = \"raceway-box\"`".into(),
            ),
            Some(own) => {
                if let Err(fault) = name::check(own) {
                    add(
                        "F03",
                        "station-name",
                        format!("`{own}` cannot be a name of station: {fault}"),
                        "write small letters, digits and hyphens, such as `raceway-box`".into(),
                    );
                }
            }
        }
        if let Some(Err(why)) = setup.word("address").map(suite) {
            add(
                "M29",
                "address",
                why,
                "write the address and the bits of its network, such as `192.0.2.30/24`".into(),
            );
        }
        if !is_cycle(period(setup)) {
            add(
                "F03",
                "period",
                format!("a cycle of {} cannot be", crate::shown::show_micros(period(setup).into())),
                "write 1ms, 2ms, 4ms, 8ms, 16ms, 32ms, 64ms, 128ms, 256ms or 512ms".into(),
            );
        }
        let rows: Vec<&Setup> = setup.all_rows("slots").collect();
        if rows.is_empty() {
            add(
                "F04",
                "slots",
                "it has no `slots`".into(),
                "add them with their bytes: `slots = [{ slot = 1, in = 8 }, { slot = 2, out = 4 }]`".into(),
            );
        }
        for (at, row) in rows.iter().enumerate() {
            let place = |row: &Setup| (row.number("slot"), row.number("subslot").unwrap_or(1));
            let Some(slot) = row.number("slot") else {
                add(
                    "F04",
                    "slots",
                    "one of the slots has no number".into(),
                    "add it: `{ slot = 1, in = 8 }`".into(),
                );
                continue;
            };
            let bytes = |key| row.number(key).unwrap_or(0);
            if bytes("in") + bytes("out") == 0 {
                let what = format!("slot {slot} has no bytes either way");
                add("M08", "slots", what, "add `in`, `out` or both, or take it out".into());
            }
            if rows.iter().take(at).any(|other| place(other) == place(row)) {
                let what = format!("slot {slot} is there twice");
                add("M08", "slots", what, "give one of them another number, or a `subslot`".into());
            }
        }
        let most = SUBMODULES_MAX - HEAD.len();
        if rows.len() > most {
            let what = format!(
                "it has {} slots and subslots, and {most} are the most of one station: its controller would be refused",
                rows.len()
            );
            add("M08", "slots", what, "part them over two stations, or put more bytes into one slot".into());
        }
        if let Some(layout) = StationLayout::of(setup) {
            for (to_controller, word) in [(true, "to the controller"), (false, "from the controller")] {
                let (_, length) = layout.frame(to_controller);
                if length > (*DATA.end()).into() {
                    let what = format!(
                        "a frame {word} would have {length} bytes of data and status, and {} are the most",
                        DATA.end()
                    );
                    add("M08", "slots", what, "take slots out, or part them over two stations".into());
                }
            }
        }
        found
    }

    fn cyclic(&self) -> Option<&dyn Cyclic> {
        Some(self)
    }
}

impl Notation for IoDevice {
    fn parse(&self, text: &str, context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        let whole = |code, what: String, likely| AddressFault { code, at: 0..text.len(), what, likely };
        let Some((place, rest)) = text.split_once(':') else {
            let mut likely = vec![];
            if direct::parse(text).is_ok() {
                likely.push(format!("1:{text}"));
            }
            let what = format!("`{text}` does not say which slot: `1:%IW0` is a word of slot 1");
            return Err(whole("F10", what, likely));
        };
        let number = |digits: &str| {
            digits.parse::<u16>().ok().filter(|own| (1..=0x7FFF).contains(own) && !digits.starts_with('+'))
        };
        let (slot, subslot) = place.split_once('/').unwrap_or((place, "1"));
        let (Some(slot), Some(subslot)) = (number(slot), number(subslot)) else {
            let what = format!("`{place}` is no slot: write its number, or slot and subslot as `1/2`");
            return Err(whole("F10", what, vec![]));
        };
        let own = direct::parse(rest).map_err(|fault| {
            let by = place.len() + 1;
            let likely = fault.likely.iter().map(|own| format!("{place}:{own}")).collect();
            AddressFault { at: fault.at.start + by..fault.at.end + by, likely, ..fault }
        })?;
        let layout = StationLayout::of(context.setup);
        let mut len = None;
        if let Some(layout) = &layout {
            let found = layout.submodules.iter().find(|own| (own.slot, own.subslot) == (slot, subslot));
            let Some(found) = found else {
                let there: Vec<String> = layout.submodules.iter().map(Submodule::shown).collect();
                let what = format!("there is no slot `{place}`; there is {}", there.join("; "));
                return Err(whole("M08", what, vec![]));
            };
            let (bytes, key, other) = match own.block {
                direct::Block::Inputs => (found.input, "in", "out"),
                direct::Block::Outputs => (found.output, "out", "in"),
            };
            let shown = found.shown();
            if bytes == 0 {
                let what = format!(
                    "`{text}` is an {}, and {shown} has only `{other}`: `%I` is what the controller reads, `%Q` what it \
                     writes",
                    own.block.seen()
                );
                return Err(whole("M08", what, vec![]));
            }
            let width = match own.brings {
                ImpliedType::Width(ty) => ty.bytes().unwrap_or(1),
                _ => 1,
            };
            if own.byte.saturating_add(width) > bytes.into() {
                let last = own.byte.saturating_add(width - 1);
                let what = format!(
                    "`{text}` ends at byte {last}, and `{key}` of {shown} has {bytes} byte{}; the status byte behind \
                     them is no part of them",
                    if bytes == 1 { ", 0".to_string() } else { format!("s, 0 to {}", bytes - 1) }
                );
                return Err(whole("M08", what, vec![]));
            }
            len = Some(bytes);
        }
        let space = space(slot, subslot, own.block, len, context.holder);
        if own.byte >= self.most_bytes(&space) {
            let what =
                format!("byte {} is past the end of any slot ({} bytes)", own.byte, self.most_bytes(&space));
            return Err(whole("M08", what, vec![]));
        }
        Ok(Address { space, first: own.byte, bit: own.bit, brings: own.brings })
    }

    fn show(&self, space: &Space, first: u32, width: u32, bit: Option<u8>, _setup: &Setup) -> ShownAddress {
        let (slot, subslot, block) = of_key(&space.key).unwrap_or((0, 1, direct::Block::Inputs));
        let place = if subslot == 1 { slot.to_string() } else { format!("{slot}/{subslot}") };
        ShownAddress {
            canonical: format!("{place}:{}", direct::show(block, first, width, bit)),
            offset: format!("{}, byte {first}", words_of(slot, subslot, block)),
            hex: format!("0x{first:04X}"),
        }
    }

    fn table<'s>(&self, space: &'s Space) -> &'s str {
        space.name()
    }

    fn table_unit(&self, _space: &Space) -> &'static str {
        "byte"
    }

    fn order(&self, _space: &Space) -> Option<Order> {
        Some(Order::HIGH_FIRST)
    }
}

impl Stations for IoDevice {
    fn other_end(&self, ours: &Setup) -> Setup {
        let slots = ours.all_rows("slots").map(|row| ("slots", row.clone()));
        // It calls us by our numbers, which the file that describes us has told it.
        let identity = ours.row(IDENTITY).map(|row| (IDENTITY, row.clone()));
        let rows = slots.chain(identity).collect();
        let words = ours.word("station-name").map(|own| ("station-name", own.to_string()));
        let period = period(ours);
        let numbers = vec![("period", period), ("watchdog", usual_watchdog(period))];
        Setup { rows, numbers, words: words.into_iter().collect(), ..Setup::default() }
    }

    fn shared_keys(&self) -> &'static [&'static str] {
        &["station-name", "slots", "period"]
    }

    fn station(&self, setup: &Setup) -> Option<StationId> {
        Some(StationId::Name(setup.word("station-name")?.into()))
    }

    fn to_set_up(&self, link: &Link<'_>) -> Option<String> {
        let layout = StationLayout::of(link.setup)?;
        let mut words = vec![];
        for own in &layout.submodules {
            words.push(format!("{}: {} (ident 0x{:08X})", own.shown(), ends::bytes(own), own.ident()));
        }
        let every = crate::shown::show_micros(layout.period.into());
        let own = IoIdentity::of(link.setup);
        let address = match layout.address {
            Some(address) => format!("its address is {}", shown_suite(address)),
            None => "the controller gives it an address".into(),
        };
        Some(format!(
            "an IO device of the name `{}` of RT class 1, vendor 0x{:04X}, device 0x{:04X}; {address}; {}; a cycle of \
             {every} or more",
            layout.name,
            own.vendor,
            own.product,
            words.join("; ")
        ))
    }
}

impl Framing for IoDevice {
    fn is_ethernet(&self) -> bool {
        true
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        let half = |at: usize| bytes.get(at..)?.first_chunk().map(|own| u16::from_be_bytes(*own));
        let (kind, payload) = match half(12) {
            Some(VLAN) => (half(16), 18),
            kind => (kind, 14),
        };
        match kind {
            Some(ETHERTYPE) => true,
            // Calls, in one piece.
            Some(IPV4) => {
                let length = bytes.get(payload).map_or(0, |own| usize::from(own & 0x0F) * 4);
                let udp = payload + length;
                bytes.get(payload + 9) == Some(&UDP) && [half(udp), half(udp + 2)].contains(&Some(RPC_PORT))
            }
            _ => false,
        }
    }

    fn dissector(&self) -> Option<&'static str> {
        Some("pn_io")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::form::Type;
    use crate::protocol::Flow;
    use woodrush_wire::profinet::rt::iox;

    pub(super) fn row(slot: u32, input: u32, output: u32) -> Setup {
        Setup { numbers: vec![("slot", slot), ("in", input), ("out", output)], ..Setup::default() }
    }

    pub(super) fn station(rows: &[Setup]) -> Setup {
        Setup {
            rows: rows.iter().map(|row| ("slots", row.clone())).collect(),
            words: vec![("station-name", "raceway-box".into())],
            ..Setup::default()
        }
    }

    #[test]
    fn addresses_say_slot_and_place_as_the_controller_sees_them() {
        let own = station(&[row(1, 8, 0), row(2, 0, 4)]);
        let image = AddressContext::of_image(&own);
        let found = DEVICE.parse("1:%ID4", &image).unwrap();
        assert_eq!(
            (found.first, found.brings, found.space.flow),
            (4, ImpliedType::Width(Type::U32), Flow::Goes)
        );
        assert_eq!(DEVICE.parse("2:%QX0.7", &image).unwrap().space.flow, Flow::Comes);
        assert_eq!(
            DEVICE.parse("2:%QX0.7", &AddressContext::of_device(&own)).unwrap().space.flow,
            Flow::Goes
        );
        let shown = DEVICE.show(&found.space, 4, 4, None, &own);
        assert_eq!((shown.canonical.as_str(), shown.offset.as_str()), ("1:%ID4", "slot 1 inputs, byte 4"));
        for (text, code, what) in [
            ("%IW0", "F10", "does not say which slot"),
            ("0:%IW0", "F10", "is no slot"),
            ("1/x:%IW0", "F10", "is no slot"),
            ("3:%IW0", "M08", "there is no slot `3`; there is slot 1; slot 2"),
            ("1:%QW0", "M08", "slot 1 has only `in`"),
            ("1:%IW7", "M08", "ends at byte 8, and `in` of slot 1 has 8 bytes, 0 to 7"),
            ("1:%IW4.2", "F10", "a bit is written with X"),
        ] {
            let fault = DEVICE.parse(text, &image).unwrap_err();
            assert!(fault.code == code && fault.what.contains(what), "{text}: {} {}", fault.code, fault.what);
            assert!(fault.at.end <= text.len());
        }
        let bare = Setup::default();
        assert!(DEVICE.parse("7/2:%IB0", &AddressContext::of_device(&bare)).is_ok(), "no slots are known");
    }

    #[test]
    fn a_frame_is_the_one_of_the_vectors() {
        let own = station(&[row(1, 8, 0), row(2, 0, 4)]);
        let space = |text| DEVICE.parse(text, &AddressContext::of_image(&own)).unwrap().space;
        let frame = DEVICE.example(&space("1:%IB0"), &[0x11, 0x12, 0x13, 0x14, 0x15, 0x16, 0x17, 0x18], &own);
        let good = iox::GOOD;
        assert_eq!(
            frame.bytes.get(2..14),
            Some(&[good, good, good, 0x11, 0x12, 0x13, 0x14, 0x15, 0x16, 0x17, 0x18, good][..])
        );
        assert_eq!((frame.begins, frame.bytes.len()), (5, 46));
        let frame = DEVICE.example(&space("2:%QB0"), &[1, 2, 3, 4], &own);
        assert_eq!((frame.begins, frame.bytes.get(6..11)), (6, Some(&[1, 2, 3, 4, good][..])));
        assert_eq!(DEVICE.frame_bytes(&own, true), 42 + 6 + 40);
    }

    #[test]
    fn keys_that_cannot_be_are_told() {
        let codes = |setup: &Setup| {
            DEVICE
                .station_faults(setup, PortKeys(&Setup::default()))
                .iter()
                .map(|own| own.code)
                .collect::<Vec<_>>()
        };
        let own = station(&[row(1, 8, 0), row(2, 0, 4)]);
        assert!(codes(&own).is_empty());
        assert_eq!(codes(&Setup::default()), ["F04", "F04"]);
        let with = |numbers: &[(&'static str, u32)], words: &[(&'static str, &str)]| Setup {
            numbers: numbers.to_vec(),
            words: words.iter().map(|(key, word)| (*key, (*word).to_string())).collect(),
            ..own.clone()
        };
        assert_eq!(codes(&with(&[("period", 3000)], &[("station-name", "Pump7")])), ["F03", "F03"]);
        let addressed = |address| codes(&with(&[], &[("station-name", "a"), ("address", address)]));
        assert!(addressed("192.0.2.30/24").is_empty());
        for wrong in ["192.0.2.30", "192.0.2.0/24", "192.0.2.255/24", "192.0.2.30/33", "x/24"] {
            assert_eq!(addressed(wrong), ["M29"], "{wrong}");
        }
        assert_eq!(codes(&station(&[row(1, 0, 0), row(2, 1, 0), row(2, 2, 0)])), ["M08", "M08"]);
        assert_eq!(codes(&station(&[row(1, 1439, 0)])), ["M08"], "status bytes count");
        let layout = StationLayout::of(&station(&[row(1, 8, 0)])).unwrap();
        assert_eq!((layout.module_ident(1), layout.ratio()), (0x1000_8000, 8));
        let parted = |input| {
            let second =
                Setup { numbers: vec![("slot", 1), ("subslot", 2), ("in", input)], ..Setup::default() };
            StationLayout::of(&station(&[row(1, 8, 0), second])).unwrap().module_ident(1)
        };
        assert_ne!(parted(2), parted(3));
    }
}
