//! A station whose memory has names instead of tables: each name is a space of its own.

use std::borrow::Cow;
use woodrush_core::Spanned;
use woodrush_core::check::{Checked, check};
use woodrush_core::project::read;
use woodrush_core::protocol::{
    Address, AddressFault, BitWrite, Cost, Dialect, Example, Framing, Grain, ImpliedType, Notation, Reading,
    Refusals, Requests, Setup, ShownAddress, Space, Stations, TooMuch, Transport, Verb, dialect,
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
    fn parse(&self, text: &str, _reading: &Reading<'_>) -> Result<Address, AddressFault> {
        let space = Space {
            key: Cow::Owned(text.to_string()),
            noun: "name",
            grain: Grain::Bytes(2),
            align: 1,
            len: Some(1),
            writable: true,
            bits: BitWrite::Never,
            only: &[],
            rewritten: false,
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

impl Stations for Named {}

impl Framing for Named {}

impl Requests for Named {
    fn cost(&self, _verb: Verb, space: &Space, count: u32, _setup: &Setup) -> Result<Cost, TooMuch> {
        if count > 1 {
            return Err(TooMuch { limit: 1, source: "a name" });
        }
        Ok(Cost { out: u32::try_from(space.key.len()).unwrap_or(0) + 30, back: 32, turns: 0 })
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
    let mut read = read("names.toml", text.to_string(), &mut |path| Err(path.to_string()));
    let port =
        read.project.ports.iter_mut().find(|port| port.name.value == "plc").expect("it is in the text");
    let span = port.protocol.expect("it is in the text").span;
    port.protocol = Some(Spanned { value: &NAMED, span });
    let checked = check(read);
    let errors: Vec<&str> = checked.findings.iter().map(|finding| finding.what.as_str()).collect();
    assert!(!checked.has_errors(), "{errors:#?}");
    checked
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;
    use woodrush_core::plan::Source;

    /// An index of 16 bits would make the last names the first ones again.
    #[test]
    fn no_two_of_70_000_names_are_one() {
        let checked = check_names(&names_site(70_000));
        assert_eq!(checked.plan.devices[0].spaces.len(), 70_000);
        let read = checked.plan.rules.iter().filter_map(|rule| match rule.source {
            Source::Poll { place, .. } => Some(place.space),
            _ => None,
        });
        assert_eq!(read.collect::<BTreeSet<_>>().len(), 70_000);
        assert_eq!(checked.plan.transfers.len(), 70_000);
    }
}
