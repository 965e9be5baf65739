//! How a station is found, named and addressed (DCP), as the one who answers.

use super::ether::{Mac, frame};
use crate::Moment;
use std::collections::VecDeque;
use woodrush_core::protocol::profinet::IoIdentity;
use woodrush_wire::profinet::dcp::{
    self, Choice, Dcp, DcpBlock, Emit, IpSuite, Kind, PERMANENT, Service, outcome,
};
use woodrush_wire::profinet::{ETHERTYPE, name};

/// Answers to identifications that wait until their time has come.
const WAITING_MAX: usize = 32;
/// The step by which such answers are spread, in microseconds.
const SPREAD: u64 = 10_000;
/// How long a station blinks when it is asked to, in microseconds.
const BLINKS: u64 = 3_000_000;
/// What a station knows, as it says itself.
const OPTIONS: [Choice; 9] = [
    Choice::MAC,
    Choice::IP,
    Choice::STATION_TYPE,
    Choice::NAME,
    Choice::DEVICE_ID,
    Choice::ROLE,
    Choice::OPTIONS,
    Choice::SIGNAL,
    Choice::RESET,
];

/// Something that others did to a station.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum NamingChange {
    /// It has another name, or none.
    Name(String, Permanence),
    /// It has another address, or none.
    Address(IpSuite, Permanence),
    /// It is as it was shipped, but for what the file says.
    Reset,
    /// It shows where it is.
    Blinks,
}

/// Whether a change outlives the power.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Permanence {
    Permanent,
    Temporary,
}

impl Permanence {
    const fn of(qualifier: u16) -> Self {
        if qualifier & PERMANENT == 0 { Self::Temporary } else { Self::Permanent }
    }
}

/// A station as others find it.
#[derive(Debug)]
pub(super) struct StationNaming {
    pub(super) mac: Mac,
    pub(super) name: String,
    pub(super) identity: IoIdentity,
    pub(super) role: u8,
    waiting: VecDeque<(Moment, Vec<u8>)>,
    pub(super) blinks_until: Moment,
}

/// What of a station a frame may be about.
#[derive(Debug, Clone, Copy)]
pub(super) struct Present {
    pub(super) suite: IpSuite,
    /// Another station has its address too.
    pub(super) rival: bool,
    /// A controller is connected.
    pub(super) connected: bool,
}

impl StationNaming {
    pub(super) fn new(mac: Mac, name: String, identity: IoIdentity, role: u8) -> Self {
        Self { mac, name, identity, role, waiting: VecDeque::new(), blinks_until: Moment(0) }
    }

    pub(super) fn wakes_at(&self) -> Moment {
        self.waiting.iter().map(|(at, _)| *at).min().unwrap_or(Moment::NEVER)
    }

    /// The next answer whose time has come.
    pub(super) fn poll(&mut self, now: Moment) -> Option<Vec<u8>> {
        let at = self.waiting.iter().position(|(at, _)| now >= *at)?;
        self.waiting.remove(at).map(|(_, frame)| frame)
    }

    fn value(&self, choice: Choice, present: Present) -> Option<(u16, Vec<u8>)> {
        Some(match choice {
            Choice::MAC => (0, self.mac.to_vec()),
            Choice::IP => {
                let set = !present.suite.address.is_unspecified();
                let conflict = if present.rival { dcp::IP_CONFLICT } else { 0 };
                ((u16::from(set) * dcp::IP_SET) | conflict, present.suite.bytes().to_vec())
            }
            Choice::STATION_TYPE => (0, self.identity.name.as_bytes().to_vec()),
            Choice::NAME => (0, self.name.as_bytes().to_vec()),
            Choice::DEVICE_ID => {
                (0, [self.identity.vendor.to_be_bytes(), self.identity.product.to_be_bytes()].concat())
            }
            Choice::ROLE => (0, vec![self.role, 0]),
            Choice::OPTIONS => (0, OPTIONS.iter().flat_map(|own| [own.0, own.1]).collect()),
            Choice::INSTANCE => (0, vec![0, 1]),
            _ => return None,
        })
    }

    fn answered(&self, to: Mac, request: &Dcp<'_>, blocks: impl FnOnce(&Emit, &mut Vec<u8>)) -> Vec<u8> {
        frame(to, self.mac, ETHERTYPE, None, |out| {
            let begun = Emit::begin(out, request.service, Kind::Success, request.transaction, 0);
            blocks(&begun, out);
            begun.end(out);
        })
    }

    /// Whether one filter of an identification fits.
    fn fits(&self, block: &DcpBlock<'_>, present: Present) -> bool {
        match block.choice {
            Choice::ALL => true,
            // Its neighbours are not known to it.
            Choice::ALIAS => false,
            choice => self.value(choice, present).is_some_and(|(_, value)| value == block.value),
        }
    }

    fn identified(&mut self, now: Moment, from: Mac, request: &Dcp<'_>, present: Present) {
        let mut blocks = request.blocks().peekable();
        if blocks.peek().is_none() || !blocks.all(|block| self.fits(&block, present)) {
            return;
        }
        let own = self.answered(from, request, |begun, out| {
            for choice in [
                Choice::STATION_TYPE,
                Choice::NAME,
                Choice::DEVICE_ID,
                Choice::ROLE,
                Choice::OPTIONS,
                Choice::INSTANCE,
                Choice::IP,
            ] {
                if let Some((word, value)) = self.value(choice, present) {
                    begun.block(out, choice, word, &value);
                }
            }
        });
        // Where many answer, each has its own time, by the last numbers of its address.
        let [.., high, low] = self.mac;
        let factor = u64::from(request.delay.clamp(1, dcp::DELAY_MAX));
        let later = u64::from(u16::from_be_bytes([high, low])) % factor * SPREAD;
        if self.waiting.len() < WAITING_MAX {
            self.waiting.push_back((now + later, own));
        }
    }

    fn got(&self, from: Mac, request: &Dcp<'_>, present: Present) -> Vec<u8> {
        self.answered(from, request, |begun, out| {
            for block in request.blocks() {
                match self.value(block.choice, present) {
                    Some((word, value)) => begun.block(out, block.choice, word, &value),
                    None => begun.outcome(out, block.choice, unknown(block.choice)),
                }
            }
        })
    }

    /// Carries out one block of a request to set; what became of it.
    fn set_one(
        &mut self,
        now: Moment,
        block: &DcpBlock<'_>,
        present: &mut Present,
        changes: &mut Vec<NamingChange>,
    ) -> u8 {
        let permanence = Permanence::of(block.word.unwrap_or(0));
        match block.choice {
            Choice::NAME => {
                let Ok(new) = std::str::from_utf8(block.value) else { return outcome::VALUE };
                if !new.is_empty() && name::check(new).is_err() {
                    return outcome::VALUE;
                }
                // What it is already it may be called again.
                if present.connected && new != self.name {
                    return outcome::IN_OPERATION;
                }
                self.name = new.to_string();
                changes.push(NamingChange::Name(new.to_string(), permanence));
                outcome::OK
            }
            Choice::IP => {
                let Some(suite) = IpSuite::of(block.value).filter(is_usable) else { return outcome::VALUE };
                if present.connected && suite != present.suite {
                    return outcome::IN_OPERATION;
                }
                present.suite = suite;
                changes.push(NamingChange::Address(suite, permanence));
                outcome::OK
            }
            Choice::SIGNAL if block.value == dcp::FLASH.to_be_bytes() => {
                self.blinks_until = now + BLINKS;
                changes.push(NamingChange::Blinks);
                outcome::OK
            }
            Choice::SIGNAL => outcome::VALUE,
            Choice::FACTORY | Choice::RESET => {
                let wanted = block.word.unwrap_or(0) >> 1;
                if block.choice == Choice::RESET && wanted != dcp::RESET_COMMUNICATION >> 1 {
                    return outcome::VALUE;
                }
                if present.connected {
                    return outcome::IN_OPERATION;
                }
                self.name.clear();
                present.suite = IpSuite::NONE;
                changes.push(NamingChange::Reset);
                outcome::OK
            }
            Choice::BEGIN | Choice::END => outcome::OK,
            choice if self.value(choice, *present).is_some() => outcome::SUBOPTION,
            choice => unknown(choice),
        }
    }

    /// Takes a frame; what is to be answered at once, and what has changed.
    pub(super) fn take(
        &mut self,
        now: Moment,
        (to, from): (Mac, Mac),
        payload: &[u8],
        mut present: Present,
    ) -> (Option<Vec<u8>>, Vec<NamingChange>) {
        let mut changes = vec![];
        let Ok(request) = Dcp::parse(payload) else { return (None, changes) };
        if request.kind != Kind::Request || from == self.mac {
            return (None, changes);
        }
        match request.service {
            Service::Identify if to == dcp::IDENTIFY_TO => {
                self.identified(now, from, &request, present);
                (None, changes)
            }
            Service::Get if to == self.mac => (Some(self.got(from, &request, present)), changes),
            Service::Set if to == self.mac => {
                let outcomes: Vec<(Choice, u8)> = request
                    .blocks()
                    .map(|block| (block.choice, self.set_one(now, &block, &mut present, &mut changes)))
                    .collect();
                let own = self.answered(from, &request, |begun, out| {
                    outcomes.iter().for_each(|(choice, code)| begun.outcome(out, *choice, *code));
                });
                (Some(own), changes)
            }
            _ => (None, changes),
        }
    }
}

/// Why something that is not known is refused: the option or the suboption.
const fn unknown(choice: Choice) -> u8 {
    if matches!(choice.0, 1 | 2 | 5) { outcome::SUBOPTION } else { outcome::OPTION }
}

/// Whether a station can have such an address; none at all is one that it can have.
fn is_usable(suite: &IpSuite) -> bool {
    if suite.address.is_unspecified() {
        return true;
    }
    let mask = u32::from(suite.mask);
    let host = u32::from(suite.address) & !mask;
    let is_mask = mask != 0 && (!mask).wrapping_add(1).is_power_of_two() && !mask != 0;
    let odd = suite.address.is_multicast() || suite.address.is_broadcast() || suite.address.is_loopback();
    is_mask && !odd && host != 0 && host != !mask
}
