//! Finding stations and giving them names and addresses (DCP), as the one who asks.

use super::ether::{BROADCAST, EtherFrame, Mac, frame};
use super::ip::{ARP, arp_frame};
use crate::hex::mac_shown;
use crate::speak::{Discovery, FoundStation, LinkWords, NewIdentity, Socket};
use etherparse::{ArpOperation, ArpPacketSlice};
use std::net::Ipv4Addr;
use woodrush_core::one_line::one_line;
use woodrush_core::protocol::profinet::{shown_suite, suite};
use woodrush_wire::profinet::dcp::{self, Choice, Dcp, Emit, IpSuite, Kind, Service, outcome};
use woodrush_wire::profinet::{ETHERTYPE, name};

pub(super) static STATIONS: Discovery = Discovery {
    words: &WORDS,
    sockets: &[
        Socket::Frames { kind: ETHERTYPE, groups: &[], port: None },
        Socket::Frames { kind: ARP, groups: &[], port: None },
    ],
    question,
    answer,
    check,
    order,
    outcome: outcome_of,
    probe,
    holder,
};

static WORDS: LinkWords = LinkWords {
    link: "interface",
    station: "station",
    name: "name",
    also: &[
        ("address", "address"),
        ("role", "role"),
        ("vendor", "vendor"),
        ("device-id", "id"),
        ("type", "type"),
    ],
    part: "",
    of_part: ["", ""],
};

/// A question or an order about names and addresses.
pub(super) fn dcp_frame(
    (to, from): (Mac, Mac),
    number: u32,
    service: Service,
    blocks: &[(Choice, u16, &[u8])],
) -> Vec<u8> {
    let delay = u16::from(service == Service::Identify);
    frame(to, from, ETHERTYPE, None, |out| {
        let begun = Emit::begin(out, service, Kind::Request, number, delay);
        blocks.iter().for_each(|(choice, word, value)| begun.block(out, *choice, *word, value));
        begun.end(out);
    })
}

/// Who has a name, or who is there at all.
fn question(from: Mac, number: u32, name: Option<&str>) -> Vec<u8> {
    let all = (Choice::ALL, 0, &[][..]);
    let filter = name.map_or(all, |name| (Choice::NAME, 0, name.as_bytes()));
    dcp_frame((dcp::IDENTIFY_TO, from), number, Service::Identify, &[filter])
}

fn of_us<'f>(bytes: &'f [u8], number: u32, service: Service) -> Option<(Mac, Dcp<'f>)> {
    let ether = EtherFrame::parse(bytes).filter(|own| own.kind == ETHERTYPE)?;
    let own = Dcp::parse(ether.payload).ok()?;
    (own.kind == Kind::Success && own.service == service && own.transaction == number)
        .then_some((ether.from, own))
}

/// Reads an answer to the question of that number; `None` where it is none.
fn answer(bytes: &[u8], number: u32) -> Option<([u8; 6], FoundStation)> {
    let (from, own) = of_us(bytes, number, Service::Identify)?;
    let text = |choice| one_line(own.find(choice).map_or(&[][..], |block| block.value));
    let station_name = text(Choice::NAME);
    let mut remarks = vec![];
    if station_name.is_empty() {
        remarks.push("it has no name yet: `woodrush readdress` gives it one".to_string());
    } else if let Err(fault) = name::check(&station_name) {
        remarks.push(format!("its name is none that a station may have: {fault}"));
    }
    let block = own.find(Choice::IP);
    let suite = block.and_then(|block| IpSuite::of(block.value)).unwrap_or(IpSuite::NONE);
    if block.and_then(|block| block.word).is_some_and(|word| word & dcp::IP_CONFLICT != 0) {
        remarks.push("another station has its address too".to_string());
    }
    let half = |at: usize| {
        let value = own.find(Choice::DEVICE_ID).map_or(&[][..], |block| block.value);
        value.get(at..at + 2).map(|two| format!("0x{:02X}{:02X}", two[0], two[1])).unwrap_or_default()
    };
    let role = own.find(Choice::ROLE).and_then(|block| block.value.first().copied()).unwrap_or(0);
    let role = match role {
        role if role & dcp::ROLE_CONTROLLER != 0 => "controller",
        role if role & dcp::ROLE_DEVICE != 0 => "device",
        _ => "",
    };
    let station = FoundStation {
        address: mac_shown(from),
        name: station_name,
        device: None,
        also: vec![
            ("address", shown_suite(suite)),
            ("role", role.to_string()),
            ("vendor", half(0)),
            ("device-id", half(2)),
            ("type", text(Choice::STATION_TYPE)),
        ],
        remarks,
        parts: vec![],
    };
    Some((from, station))
}

/// Whether a name and an address may be given, and if not, why.
fn check(new: &NewIdentity) -> Result<(), String> {
    if let Some(own) = &new.name {
        name::check(own).map_err(|fault| format!("`{own}` cannot be a name of station: {fault}"))?;
    }
    new.address.as_deref().map_or(Ok(()), |own| suite(own).map(drop))
}

/// The order to be called and addressed so.
fn order(from: Mac, to: Mac, number: u32, new: &NewIdentity) -> Vec<u8> {
    let lasting = u16::from(new.permanent) * dcp::PERMANENT;
    let address = new.address.as_deref().and_then(|own| suite(own).ok());
    let bytes = address.map(|own| IpSuite { gateway: own.address, ..own }.bytes());
    let named = new.name.as_ref().map(|own| (Choice::NAME, lasting, own.as_bytes()));
    let addressed = bytes.as_ref().map(|own| (Choice::IP, lasting, &own[..]));
    let blocks: Vec<_> = named.into_iter().chain(addressed).collect();
    dcp_frame((to, from), number, Service::Set, &blocks)
}

/// What the station says to the order of that number.
fn outcome_of(bytes: &[u8], number: u32, from: Mac) -> Option<Result<(), String>> {
    let (_, own) = of_us(bytes, number, Service::Set).filter(|(mac, _)| *mac == from)?;
    let bad = own.blocks().filter(|own| own.choice == Choice::RESPONSE).find_map(|own| match own.value {
        [_, _, outcome::OK] => None,
        [1, _, code] => Some(format!("it does not take the address: {}", outcome::words(*code))),
        [_, _, code] => Some(format!("it does not take the name: {}", outcome::words(*code))),
        _ => Some("it answers something else".to_string()),
    });
    Some(bad.map_or(Ok(()), Err))
}

/// The question who has an address, of one who has none.
fn probe(from: Mac, address: Ipv4Addr) -> Vec<u8> {
    let whom = ([0; 6], address);
    arp_frame((from, Ipv4Addr::UNSPECIFIED), BROADCAST, ArpOperation::REQUEST, whom).unwrap_or_default()
}

/// Who says that it has an address.
fn holder(bytes: &[u8], address: Ipv4Addr) -> Option<Mac> {
    let ether = EtherFrame::parse(bytes).filter(|own| own.kind == ARP)?;
    let own = ArpPacketSlice::from_slice(ether.payload).ok()?;
    let said = own.sender_protocol_addr() == address.octets();
    said.then(|| own.sender_hw_addr().first_chunk().copied())?
}
