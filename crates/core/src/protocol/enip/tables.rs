//! Data tables of older controllers behind EtherNet/IP: the same files and commands as over their own link, each in a
//! message of the router.

use super::requests::{REPLY, TO_OBJECT, Way, wrapped};
use super::{TAGS, VENDOR, route_fault};
use crate::protocol::requests::one_part;
use crate::protocol::tables::{self, Tables, asking, changing, fitting};
use crate::protocol::{
    Cost, Dialect, Example, Extent, Framing, Key, Link, Notation, PortKeys, Refusals, Requests, Search,
    SettingFault, Setup, Space, Stations, Territory, TooMuch, Transport, Verb,
};
use woodrush_wire::enip::tables::Execute;
use woodrush_wire::tables::COMMAND;

/// `ethernet-ip` with `memory = "tables"`.
#[derive(Debug)]
pub(super) struct TablesInMessages;

/// `ethernet-ip` with `memory = "tables"`.
pub(super) static TABLES: TablesInMessages = TablesInMessages;

/// Vendor and serial number of the requester: ours, as in connections that we open.
pub const REQUESTER: [u8; 6] = {
    let [low, high] = VENDOR.to_le_bytes();
    [low, high, 0, 0, 0, 0]
};
/// Bytes before a command's parameters, and before a reply's data: the id with its length, CMD, STS and TNS.
const HEAD: u32 = 7 + 4;

impl Dialect for TablesInMessages {
    fn name(&self) -> &'static str {
        TAGS.name()
    }

    fn family(&self) -> &'static str {
        "data tables"
    }

    fn notation(&self) -> &dyn Notation {
        &Tables
    }

    fn stations(&self) -> &dyn Stations {
        self
    }

    fn framing(&self) -> &dyn Framing {
        TAGS.framing()
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        TAGS.runs_on(transport)
    }

    fn refusals(&self) -> &'static Refusals {
        &tables::REFUSALS
    }

    fn keys(&self) -> &'static [Key] {
        TAGS.keys()
    }

    fn station_faults(&self, setup: &Setup, _port: PortKeys<'_>) -> Vec<SettingFault> {
        let list = setup.declared.as_ref().map(|_| SettingFault {
            code: "F03",
            key: "tags",
            what: "`tags` is a list of names, and data tables have none".into(),
            fix: "remove `tags`; sizes of files are said by `tables = { N7 = 100 }`".into(),
        });
        route_fault(setup).into_iter().chain(list).collect()
    }

    fn requests(&self) -> Option<&dyn Requests> {
        Some(self)
    }
}

impl Stations for TablesInMessages {
    fn shared_keys(&self) -> &'static [&'static str] {
        &["route", "slot"]
    }

    fn to_set_up(&self, link: &Link<'_>) -> Option<String> {
        if link.image {
            return Some("message instructions (typed read and write of data tables) to this address".into());
        }
        Some("its IP address; its files are read and written as they are".into())
    }
}

impl Search for TablesInMessages {
    fn identity(&self) -> &'static [(u8, &'static [u8])] {
        Search::identity(&TAGS)
    }

    fn identity_shown(&self, code: u8, answer: &[u8]) -> Option<String> {
        Search::identity_shown(&TAGS, code, answer)
    }

    fn territories(&self) -> &'static [Territory] {
        &tables::TERRITORIES
    }
}

/// Request and reply as they go over the network, the numbers of session and connection 0.
fn exchanged(words: String, body: &[u8], data: &[u8], setup: &Setup) -> Example {
    let asked = Execute { requester: &REQUESTER, cmd: COMMAND, sts: 0, tns: 1, body };
    let (mut request, mut answer) = (vec![], vec![]);
    asked.emit_request(&mut request);
    asked.reply(0, data).emit_response(&mut answer);
    let way = Way::of(setup);
    Example { words, request: wrapped(&way, true, &request), answer: wrapped(&way, false, &answer) }
}

impl Requests for TablesInMessages {
    fn search(&self) -> Option<&dyn Search> {
        Some(self)
    }

    fn no_retries(&self) -> Option<&'static str> {
        TAGS.no_retries()
    }

    fn cost(&self, verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch> {
        let (space, count) = one_part(parts)?;
        let fitting = fitting(verb, space, count, setup)?;
        let way = Way::of(setup);
        let (around, behind) = way.around();
        let asked = TO_OBJECT + HEAD + fitting.asked;
        // The request within another one is filled to whole words.
        let fill = if way.connected || way.route.is_empty() { 0 } else { asked % 2 };
        Ok(Cost { out: around + asked + fill, back: behind + REPLY + HEAD + fitting.answered, turns: 0 })
    }

    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example {
        match asking(verb, space, first, cells, setup) {
            Some((words, body, data)) => exchanged(words, &body, &data, setup),
            None => Example { words: "no such place".into(), request: vec![], answer: vec![] },
        }
    }

    fn example_bit(&self, space: &Space, first: u32, bit: u8, on: bool, setup: &Setup) -> Option<Example> {
        let (words, body) = changing(space, first, bit, on, setup)?;
        Some(exchanged(words, &body, &[], setup))
    }
}
