//! A station whose memory has names instead of tables: each name is a space of its own.

use std::borrow::Cow;
use woodrush_core::Spanned;
use woodrush_core::check::{Checked, check};
use woodrush_core::project::read;
use woodrush_core::protocol::{
    Address, AddressContext, AddressFault, BitWrite, Cost, Dialect, Example, Extent, Flow, Framing, Grain,
    ImpliedType, Notation, Refusals, Requests, Setup, ShownAddress, Space, StationId, Stations, TooMuch,
    Transport, Verb, dialect,
};

/// Stands in for a protocol of names: nothing is spoken, so only what `check` asks of it is here.
#[derive(Debug)]
struct Named;

static NAMED: Named = Named;

impl Dialect for Named {
    fn name(&self) -> &'static str {
        "named"
    }

    fn family(&self) -> &'static str {
        "names"
    }

    fn runs_on(&self, _transport: Transport) -> Result<(), &'static str> {
        Ok(())
    }

    fn refusals(&self) -> &'static Refusals {
        dialect("modbus-tcp").expect("it is in the list").refusals()
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

    fn requests(&self) -> Option<&dyn Requests> {
        Some(self)
    }
}

impl Notation for Named {
    fn parse(&self, text: &str, _context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        let space = Space {
            flow: Flow::Asked,
            key: Cow::Owned(text.to_string()),
            noun: "name",
            grain: Grain::Bytes(2),
            align: 1,
            len: Some(1),
            writable: true,
            bits: BitWrite::Never,
            only: &[],
            shown: None,
            rewritten: false,
            whole: false,
            publishes: false,
        };
        Ok(Address { space, first: 0, bit: None, brings: ImpliedType::Nothing })
    }

    fn show(
        &self,
        space: &Space,
        _first: u32,
        _width: u32,
        _bit: Option<u8>,
        _setup: &Setup,
    ) -> ShownAddress {
        ShownAddress {
            canonical: space.key.to_string(),
            offset: space.key.to_string(),
            hex: space.key.to_string(),
        }
    }
}

impl Stations for Named {
    fn station(&self, setup: &Setup) -> Option<StationId> {
        setup.word("station-name").map(|name| StationId::Name(name.into()))
    }

    fn station_key(&self, _transport: Transport) -> Option<(&'static str, std::ops::Range<u32>)> {
        Some(("station-name", 0..0))
    }
}

impl Framing for Named {}

/// Most bytes of a request, and of its answer.
const MOST: u32 = 500;

impl Requests for Named {
    fn cost(&self, _verb: Verb, parts: &[(&Space, Extent)], _setup: &Setup) -> Result<Cost, TooMuch> {
        if parts.iter().any(|(_, extent)| extent.count > 1) {
            return Err(TooMuch { limit: 1, source: "a name" });
        }
        let name = |(space, _): &(&Space, Extent)| u32::try_from(space.key.len()).unwrap_or(u32::MAX);
        let out = 30 + parts.iter().map(|part| 4 + name(part)).sum::<u32>();
        let back = 30 + 6 * u32::try_from(parts.len()).unwrap_or(u32::MAX);
        if out.max(back) > MOST {
            return Err(TooMuch { limit: 1, source: "the connection" });
        }
        Ok(Cost { out, back, turns: 0 })
    }

    fn gathers(&self) -> bool {
        true
    }

    fn example(&self, _: Verb, space: &Space, _: u32, _: &[u8], _: &Setup) -> Example {
        Example { words: space.key.to_string(), request: vec![], answer: vec![] }
    }
}

/// A project in which one device has so many names, each shown in a register.
#[must_use]
pub fn names_site(names: usize) -> String {
    let mut text = String::from(
        "[project]\nname = \"Names\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\n\
         allow = [\"192.0.2.0/24\"]\n[ports.plc]\nconnect = \"192.0.2.20:44818\"\nprotocol = \"modbus-tcp\"\n\
         [devices.plc]\nport = \"plc\"\npoll = \"60s\"\n",
    );
    for image in 0..names.div_ceil(60_000) {
        text += &format!("[images.scada-{image}]\nport = \"office\"\nunit = {}\n", image + 1);
    }
    for name in 0..names {
        let (image, target) = (name / 60_000, 400_001 + name % 60_000);
        text += &format!("[[map]]\nfrom = \"plc:Line{name}.Amps\"\nto = \"scada-{image}:{target}\"\n");
    }
    text
}

/// Checks it, with names spoken on the device's port.
///
/// # Panics
/// It has errors, which is a bug here.
#[must_use]
pub fn check_names(text: &str) -> Checked {
    let checked = check_named(text, &["north"]);
    let errors: Vec<&str> = checked.findings.iter().map(|finding| finding.what.as_str()).collect();
    assert!(!checked.has_errors(), "{errors:#?}");
    checked
}

/// The same with names for the first devices themselves, errors and all.
fn check_named(text: &str, names: &[&str]) -> Checked {
    let mut read = read("names.toml", text.to_string(), &mut |path| Err(path.to_string()));
    let port =
        read.project.ports.iter_mut().find(|port| port.name.value == "plc").expect("it is in the text");
    let span = port.protocol.expect("it is in the text").span;
    port.protocol = Some(Spanned { value: &NAMED, span });
    for (device, name) in read.project.devices.iter_mut().zip(names) {
        device.setup.words.push(("station-name", (*name).to_string()));
    }
    check(read)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;
    use woodrush_core::plan::Source;

    /// An index of 16 bits would make the last names the first ones again.
    #[test]
    fn no_two_of_70_000_names_are_one_and_few_requests_bring_them() {
        let checked = check_names(&names_site(70_000));
        let plan = &checked.plan;
        assert_eq!(plan.devices[0].spaces.len(), 70_000);
        let read = plan.rules.iter().filter_map(|rule| match rule.source {
            Source::Values { place, .. } => Some(place.space),
            _ => None,
        });
        assert_eq!(read.collect::<BTreeSet<_>>().len(), 70_000);
        let parts: BTreeSet<_> = plan.transfers.iter().flat_map(|transfer| transfer.parts.iter()).collect();
        assert_eq!(parts.len(), 70_000);
        // Never more than one request above what their bytes take.
        let bytes: usize = (0..70_000).map(|name| 4 + format!("Line{name}.Amps").len()).sum();
        let least = bytes.div_ceil(MOST as usize - 30);
        let most = bytes.div_ceil(MOST as usize - 30 - 19) + 1;
        assert!((least..=most).contains(&plan.transfers.len()), "{} requests", plan.transfers.len());
    }

    #[test]
    fn two_stations_of_one_name_are_one() {
        let text = names_site(3) + "[devices.other]\nport = \"plc\"\npoll = \"60s\"\n";
        let told = |names: &[&str]| {
            let checked = check_named(&text, names);
            let of = checked.findings.into_iter().filter(|finding| finding.rule.code == "M25");
            of.map(|finding| finding.what).collect::<Vec<_>>()
        };
        assert_eq!(told(&["north", "south"]), Vec::<String>::new());
        assert_eq!(told(&["north", "north"]), ["`plc` and `other` are both station-name north on `plc`"]);
        let one = check_named(&text, &["north", "south"]);
        assert_eq!(one.plan.devices[0].station_shown(), "station-name north");
    }

    /// A project of names that are so long.
    fn names(lengths: &[usize]) -> Checked {
        let mut text = names_site(0);
        text += "[images.scada-0]\nport = \"office\"\n";
        for (at, length) in lengths.iter().enumerate() {
            let name = format!("{}{at}", "N".repeat(length - 1));
            text += &format!("[[map]]\nfrom = \"plc:{name}\"\nto = \"scada-0:{}\"\n", 400_001 + at);
        }
        check_names(&text)
    }

    /// The fewest requests over all ways to cut the row.
    fn fewest(lengths: &[usize]) -> usize {
        let fits = |cut: &[usize]| 30 + cut.iter().map(|length| 4 + length).sum::<usize>() <= MOST as usize;
        let ways = 0u32..1 << (lengths.len() - 1);
        let requests = ways.filter_map(|way| {
            let mut cuts: Vec<Vec<usize>> = vec![vec![]];
            for (at, length) in lengths.iter().enumerate() {
                if at > 0 && way >> (at - 1) & 1 == 1 {
                    cuts.push(vec![]);
                }
                cuts.last_mut()?.push(*length);
            }
            cuts.iter().all(|cut| fits(cut)).then_some(cuts.len())
        });
        requests.min().unwrap()
    }

    #[test]
    fn six_names_take_as_few_requests_as_trying_all_ways_finds() {
        let mut seed = 7u64;
        for _ in 0..200 {
            let lengths: Vec<usize> = (0..6)
                .map(|_| {
                    seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                    20 + usize::try_from(seed >> 33).unwrap() % 300
                })
                .collect();
            let checked = names(&lengths);
            assert_eq!(checked.plan.transfers.len(), fewest(&lengths), "{lengths:?}");
        }
    }

    #[test]
    fn what_one_request_brings_lands_where_it_belongs_and_is_halved_by_parts() {
        let checked = names(&[40, 60, 80]);
        let plan = &checked.plan;
        let [transfer] = &plan.transfers[..] else { panic!("{:?}", plan.transfers) };
        let steps = &plan.steps[transfer.steps.start as usize..transfer.steps.end as usize];
        let offsets: Vec<(u32, u32)> = steps.iter().map(|step| (step.rule, step.offset)).collect();
        assert_eq!(offsets, [(0, 0), (1, 2), (2, 4)]);
        let counts = |most| plan.pieces(0, most).iter().map(Vec::len).collect::<Vec<_>>();
        assert_eq!((counts(u32::MAX), counts(2), counts(1)), (vec![3], vec![2, 1], vec![1, 1, 1]));
        let place = |part: usize| plan.place_in_answer(transfer, transfer.parts[part]);
        assert_eq!([place(0), place(2)], [Some(0..2), Some(4..6)]);
    }
}
