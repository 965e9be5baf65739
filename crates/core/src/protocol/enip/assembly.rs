//! Assemblies that are exchanged in cycles (transport class 1): keys, addresses, sizes and frames.

use super::ends::differences;
use super::layout::{Assembly, INPUT_ONLY, Layout, MULTIPLIER, assembly, hex_pairs, multiplier_code, period};
use super::requests::{REPLY, TO_OBJECT, Way, wrapped};
use super::{TAGS, route_fault};
use crate::form::Order;
use crate::protocol::direct::{self, Block};
use crate::protocol::requests::one_part;
use crate::protocol::{
    Address, AddressContext, AddressFault, Cost, Cyclic, CyclicTimes, DeviceFile, Dialect, Example, Extent,
    FrameExample, Framing, Holder, Key, Link, Notation, PortKeys, Refusals, Requests, SettingFault, Setup,
    ShownAddress, Slot, Space, StationId, Stations, TooMuch, Transport, Verb,
};
use std::borrow::Cow;
use std::ops::RangeInclusive;
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::connection::lost_after;
use woodrush_wire::enip::cyclic::{CyclicData, CyclicFrame, HEADER_BYTES, OVERHEAD, SEQUENCE_BYTES};
use woodrush_wire::enip::epath::Object;

/// `ethernet-ip` with `inputs`.
#[derive(Debug)]
pub(super) struct AssembliesInCycles;

/// `ethernet-ip` with `inputs`.
pub(super) static ASSEMBLIES: AssembliesInCycles = AssembliesInCycles;

/// The most that the size of one direction of an ordinary connection says: nine bits.
const SIZE_MAX: u32 = 511;
/// The shortest period, in microseconds: what a scanner of this trade asks for at least.
const PERIOD_MIN: u64 = 1000;
/// The longest, in microseconds: above it nobody calls it an exchange in cycles.
const PERIOD_MAX: u64 = 3_200_000;
/// Bytes of Ethernet around a packet, its pause and preamble with them, and of IPv4 and UDP.
const AROUND: u32 = 38 + 20 + 8;

/// The key of the space that is a block.
const fn key_of(block: Block) -> &'static str {
    match block {
        Block::Inputs => "inputs",
        Block::Outputs => "outputs",
    }
}

fn block_of(space: &Space) -> Block {
    if space.key == "outputs" { Block::Outputs } else { Block::Inputs }
}

/// The space of a block, as `holder` sees it.
fn space(block: Block, setup: &Setup, holder: Holder) -> Space {
    let bytes = setup.row(key_of(block)).and_then(|row| row.number("bytes"));
    block.space(holder, Cow::Borrowed(key_of(block)), None, bytes)
}

impl Dialect for AssembliesInCycles {
    fn name(&self) -> &'static str {
        TAGS.name()
    }

    fn family(&self) -> &'static str {
        "assemblies"
    }

    fn notation(&self) -> &dyn Notation {
        self
    }

    fn stations(&self) -> &dyn Stations {
        self
    }

    fn framing(&self) -> &dyn Framing {
        TAGS.framing()
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        if transport == Transport::Network {
            return Ok(());
        }
        Err(
            "blocks in cycles need all sockets of an address: write `network = \"192.0.2.10\"`, our own address there",
        )
    }

    fn refusals(&self) -> &'static Refusals {
        TAGS.refusals()
    }

    fn keys(&self) -> &'static [Key] {
        TAGS.keys()
    }

    fn station_faults(&self, setup: &Setup, _port: PortKeys<'_>) -> Vec<SettingFault> {
        let fault = |code, key, what: String, fix: &str| SettingFault { code, key, what, fix: fix.into() };
        let mut found: Vec<SettingFault> = route_fault(setup).into_iter().collect();
        for (key, around) in [("inputs", SEQUENCE_BYTES), ("outputs", SEQUENCE_BYTES + HEADER_BYTES)] {
            let Some(row) = setup.row(key) else { continue };
            if row.number("assembly").is_none() {
                let what = format!("`{key}` does not say which assembly it is");
                found.push(fault("F04", key, what, "add its number: `{ assembly = 100, bytes = 32 }`"));
            }
            let most = SIZE_MAX - u32::from(around);
            if row.number("bytes").is_some_and(|bytes| bytes > most) {
                let what = format!("`{key}` has more than the {most} bytes that one connection carries");
                found.push(fault(
                    "M08",
                    key,
                    what,
                    "make it smaller, or divide it into two images or devices",
                ));
            }
        }
        if setup.row("inputs").is_none() {
            let what = "it has `outputs` and no `inputs`".to_string();
            let fix =
                "add `inputs = { assembly = 100 }`: a connection has both directions, if only of 0 bytes";
            found.push(fault("F04", "inputs", what, fix));
        }
        let numbers = ["inputs", "outputs", "config"].map(|key| assembly(setup, key).map(|own| own.number));
        if let [Some(inputs), Some(outputs), _] = numbers
            && inputs == outputs
        {
            let what = format!("assembly {inputs} is both `inputs` and `outputs`");
            found.push(fault(
                "M08",
                "outputs",
                what,
                "look up the two numbers: each direction has one of its own",
            ));
        }
        if let Some(own) = setup.number("multiplier")
            && !(own.is_power_of_two() && (4..=512).contains(&own))
        {
            let what = format!("`multiplier` cannot be {own}");
            found.push(fault("F03", "multiplier", what, "write 4, 8, 16, 32, 64, 128, 256 or 512"));
        }
        if let Some(Err(why)) = setup.row("config").and_then(|row| row.word("data")).map(hex_pairs) {
            found.push(fault("F03", "config", why, "write pairs of hex digits, such as `data = \"01 02\"`"));
        }
        found
    }

    fn requests(&self) -> Option<&dyn Requests> {
        Some(self)
    }

    fn cyclic(&self) -> Option<&dyn Cyclic> {
        Some(self)
    }
}

impl Notation for AssembliesInCycles {
    fn parse(&self, text: &str, context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        let own = direct::parse(text)?;
        let whole = |what: String| AddressFault { code: "M08", at: 0..text.len(), what, likely: vec![] };
        let key = key_of(own.block);
        if context.setup.row(key).is_none() {
            let other = if own.block == Block::Inputs { "outputs" } else { "inputs" };
            return Err(whole(format!(
                "`{text}` is an {}, and only `{other}` is written there: add `{key} = {{ assembly = … }}`",
                own.block.seen()
            )));
        }
        let space = space(own.block, context.setup, context.holder);
        let bytes = match own.brings {
            crate::protocol::ImpliedType::Width(ty) => ty.bytes().unwrap_or(1),
            _ => 1,
        };
        if let Some(len) = space.len
            && own.byte.saturating_add(bytes) > len
        {
            let (last, number) = (own.byte.saturating_add(bytes - 1), assembly(context.setup, key));
            let number = number.map_or(0, |own| own.number);
            let what = format!("`{text}` ends at byte {last}, and `{key}` (assembly {number}) has");
            return Err(whole(match len {
                0 => format!("{what} none"),
                1 => format!("{what} one"),
                _ => format!("{what} {len} bytes, 0 to {}", len - 1),
            }));
        }
        if own.byte >= SIZE_MAX {
            return Err(whole(format!("byte {} is past the end of any block ({SIZE_MAX} bytes)", own.byte)));
        }
        Ok(Address { space, first: own.byte, bit: own.bit, brings: own.brings })
    }

    fn show(&self, space: &Space, first: u32, width: u32, bit: Option<u8>, _setup: &Setup) -> ShownAddress {
        let block = block_of(space);
        ShownAddress {
            canonical: direct::show(block, first, width, bit),
            offset: format!("{}, byte {first}", key_of(block)),
            hex: format!("0x{first:04X}"),
        }
    }

    fn table_unit(&self, _space: &Space) -> &'static str {
        "byte"
    }

    fn order(&self, _space: &Space) -> Option<Order> {
        Some(Order { low_word_first: true, low_byte_first: true })
    }
}

impl Stations for AssembliesInCycles {
    fn other_end(&self, ours: &Setup) -> Setup {
        let rows = ["inputs", "outputs", "config"].into_iter();
        let rows = rows.filter_map(|key| Some((key, ours.row(key)?.clone()))).collect();
        let period = period(ours);
        let input_only = ours.number("input-only").unwrap_or(INPUT_ONLY);
        // A controller waits for several frames: how many is its own affair, and unless it is said there are sixteen.
        let numbers = vec![("period", period), ("input-only", input_only), ("multiplier", 16)];
        Setup { rows, numbers, ..Setup::default() }
    }

    fn shared_keys(&self) -> &'static [&'static str] {
        &["inputs", "outputs", "config", "period"]
    }

    fn station(&self, setup: &Setup) -> Option<StationId> {
        match setup.word("address") {
            Some(address) => Some(StationId::Name(address.into())),
            None => assembly(setup, "inputs").map(|own| StationId::Number(own.number)),
        }
    }

    fn to_set_up(&self, link: &Link<'_>) -> Option<String> {
        let layout = Layout::of(link.setup)?;
        let block =
            |name: &str, own: Assembly| format!("{name} assembly {}, {} bytes", own.number, own.bytes);
        let mut words = vec![block("input", layout.inputs)];
        words.extend(layout.outputs.map(|own| block("output", own)));
        words.extend(layout.config.map(|own| block("configuration", own)));
        let every = crate::shown::show_micros(layout.period.into());
        Some(if link.image {
            format!("a connection of class 1: {}, every {every} or more slowly", words.join("; "))
        } else {
            format!("its address {}: {}", link.setup.word("address").unwrap_or("?"), words.join("; "))
        })
    }
}

impl Requests for AssembliesInCycles {
    fn no_retries(&self) -> Option<&'static str> {
        TAGS.no_retries()
    }

    fn cost(&self, _verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch> {
        let (_, count) = one_part(parts)?;
        let limit = SIZE_MAX - u32::from(SEQUENCE_BYTES);
        if count > limit {
            return Err(TooMuch { limit, source: "the size of a connection" });
        }
        let (around, behind) = Way::of(setup).around();
        Ok(Cost { out: around + TO_OBJECT + 2, back: behind + REPLY + count, turns: 0 })
    }

    fn example(&self, verb: Verb, space: &Space, _first: u32, cells: &[u8], setup: &Setup) -> Example {
        let number = assembly(setup, &space.key).map_or(0, |own| own.number);
        let object = Object { class: class::ASSEMBLY, instance: number, attribute: Some(3) };
        let (mut request, mut answer) = (vec![], vec![]);
        let code = match verb {
            Verb::Read => service::GET_ATTRIBUTE_SINGLE,
            Verb::Write => service::SET_ATTRIBUTE_SINGLE,
        };
        cip::emit_to(&mut request, code, object);
        match verb {
            Verb::Read => Reply::good(code, cells).emit(&mut answer),
            Verb::Write => {
                request.extend_from_slice(cells);
                Reply::good(code, &[]).emit(&mut answer);
            }
        }
        let words = format!("attribute 3 of assembly {number}, {} bytes", cells.len());
        let way = Way::of(setup);
        Example { words, request: wrapped(&way, true, &request), answer: wrapped(&way, false, &answer) }
    }
}

impl Cyclic for AssembliesInCycles {
    fn slots(&self, setup: &Setup, holder: Holder) -> Vec<Slot> {
        let own = |block| setup.row(key_of(block)).map(|_| space(block, setup, holder));
        let (inputs, outputs) = (own(Block::Inputs), own(Block::Outputs));
        match holder {
            Holder::Image => vec![Slot { comes: outputs, goes: inputs }],
            Holder::Device => vec![Slot { comes: inputs, goes: outputs }],
        }
    }

    fn times(&self, setup: &Setup) -> CyclicTimes {
        let period = period(setup);
        let code = multiplier_code(setup.number("multiplier").unwrap_or(MULTIPLIER));
        CyclicTimes { period: period.into(), lost_after: lost_after(period, code) }
    }

    fn frame_bytes(&self, setup: &Setup, to_controller: bool) -> u32 {
        let block = if to_controller { Block::Inputs } else { Block::Outputs };
        let own = assembly(setup, key_of(block));
        // A heartbeat has no header.
        let head = if block == Block::Outputs && own.is_some() { HEADER_BYTES } else { 0 };
        let around = AROUND + u32::try_from(OVERHEAD).unwrap_or(0) + u32::from(SEQUENCE_BYTES + head);
        around + own.map_or(0, |own| own.bytes)
    }

    fn tells_loss(&self) -> bool {
        false
    }

    fn periods(&self) -> RangeInclusive<u64> {
        PERIOD_MIN..=PERIOD_MAX
    }

    fn most_bytes(&self, space: &Space) -> u32 {
        let head = if block_of(space) == Block::Outputs { HEADER_BYTES } else { 0 };
        SIZE_MAX - u32::from(SEQUENCE_BYTES + head)
    }

    fn example(&self, space: &Space, bytes: &[u8], setup: &Setup) -> FrameExample {
        let block = block_of(space);
        let header = (block == Block::Outputs).then_some(1);
        let mut body = vec![];
        CyclicData { sequence: 1, header, data: bytes }.emit(&mut body);
        let mut frame = vec![];
        CyclicFrame { connection: 0, number: 1, body: &body }.emit(&mut frame);
        let number = assembly(setup, key_of(block)).map_or(0, |own| own.number);
        let begins = frame.len() - bytes.len();
        let words = format!("{}: assembly {number}, {} bytes", block.seen(), bytes.len());
        FrameExample { words, bytes: frame, begins }
    }

    fn device_file(
        &self,
        images: &[(&str, &Setup)],
        port: &Setup,
        date: (i16, i8, i8),
    ) -> Option<DeviceFile> {
        let text = super::eds::text(images, port, date);
        Some(DeviceFile { format: "eds", suffix: "eds", name: None, text })
    }

    fn numbers(&self, setup: &Setup) -> Vec<(&'static str, u32)> {
        let number = |key| Some((key, assembly(setup, key)?.number));
        ["inputs", "outputs"].into_iter().filter_map(number).collect()
    }

    fn differences(&self, ours: &Setup, theirs: &Setup) -> Vec<SettingFault> {
        differences(ours, theirs)
    }

    fn has(&self, _theirs: &Setup, _space: &Space) -> bool {
        // A connection has both blocks, if only of 0 bytes.
        true
    }

    fn settle(&self, setup: &mut Setup, space: &Space, bytes: u32) {
        let row = setup.rows.iter_mut().find(|(key, _)| *key == key_of(block_of(space)));
        if let Some((_, row)) = row.filter(|(_, row)| row.number("bytes").is_none()) {
            row.numbers.push(("bytes", bytes));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::layout::blocks as setup;
    use super::*;
    use crate::form::Type;
    use crate::protocol::Flow;
    use crate::protocol::ImpliedType;

    #[test]
    fn inputs_go_from_an_image_and_come_from_a_device() {
        let own = setup((100, 12), Some((150, 4)));
        let flow =
            |text: &str, context: AddressContext<'_>| ASSEMBLIES.parse(text, &context).unwrap().space.flow;
        let (image, device) = (AddressContext::of_image(&own), AddressContext::of_device(&own));
        assert_eq!((flow("%IW0", image), flow("%QW0", image)), (Flow::Goes, Flow::Comes));
        assert_eq!((flow("%IW0", device), flow("%QW0", device)), (Flow::Comes, Flow::Goes));
        let address = ASSEMBLIES.parse("%ID8", &image).unwrap();
        assert_eq!((address.first, address.brings), (8, ImpliedType::Width(Type::U32)));
        for text in ["%ID9", "%IW11", "%QX4.0", "%IL5"] {
            let fault = ASSEMBLIES.parse(text, &image).unwrap_err();
            assert_eq!(fault.code, "M08", "{text}: {}", fault.what);
        }
        let fault = ASSEMBLIES.parse("%QW0", &AddressContext::of_image(&setup((100, 12), None))).unwrap_err();
        assert!(fault.what.contains("add `outputs ="), "{}", fault.what);
    }

    #[test]
    fn a_frame_is_the_one_of_the_vectors() {
        let own = setup((100, 12), Some((150, 4)));
        let space = |text| ASSEMBLIES.parse(text, &AddressContext::of_image(&own)).unwrap().space;
        let frame = Cyclic::example(&ASSEMBLIES, &space("%IB0"), &(0x10..0x1C).collect::<Vec<u8>>(), &own);
        assert_eq!(frame.bytes.len(), 32, "as `io_to`");
        assert_eq!(frame.bytes.get(frame.begins..frame.begins + 2), Some(&[0x10, 0x11][..]));
        let frame = Cyclic::example(&ASSEMBLIES, &space("%QB0"), &[1, 2, 3, 4], &own);
        assert_eq!((frame.bytes.len(), frame.begins), (28, 24), "as `io_ot_run`, behind the header");
        assert_eq!(ASSEMBLIES.frame_bytes(&own, true), 98);
    }

    #[test]
    fn keys_that_cannot_be_are_told() {
        let codes = |setup: &Setup| {
            ASSEMBLIES
                .station_faults(setup, PortKeys(&Setup::default()))
                .iter()
                .map(|own| own.code)
                .collect::<Vec<_>>()
        };
        assert!(codes(&setup((100, 509), Some((150, 505)))).is_empty());
        assert_eq!(codes(&setup((100, 510), Some((150, 506)))), ["M08", "M08"]);
        assert_eq!(codes(&setup((100, 4), Some((100, 4)))), ["M08"]);
        let odd = Setup { numbers: vec![("multiplier", 6)], ..setup((100, 4), None) };
        assert_eq!(codes(&odd), ["F03"]);
        let layout = Layout::of(&Setup { numbers: vec![("multiplier", 64)], ..odd }).unwrap();
        assert_eq!((layout.multiplier_code(), layout.period), (4, 20_000));
        assert_eq!(hex_pairs("01 0A ff"), Ok(vec![1, 10, 255]));
        assert!(["0", "zz", "Ä0"].iter().all(|text| hex_pairs(text).is_err()));
    }
}
