//! As much IP as a station needs that is none of the machine's: it says who has its address, finds who has another one, and
//! carries datagrams of one UDP port, none of them in parts.

use super::ether::{BROADCAST, EtherFrame, Mac, frame};
use crate::Moment;
use etherparse::{
    ArpHardwareId, ArpOperation, ArpPacket, ArpPacketSlice, EtherType, IpNumber, Ipv4Slice, PacketBuilder,
    UdpSlice,
};
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_wire::profinet::dcp::IpSuite;

/// EtherTypes of address questions and of IP.
pub(super) const ARP: u16 = 0x0806;
pub(super) const IPV4: u16 = 0x0800;
/// Addresses that are known at once: a station talks to one controller, and some ask it.
const KNOWN_MAX: usize = 32;
/// Datagrams that wait until an address is found: the parts of a long call, and some.
const WAITING_MAX: usize = 24;
/// How long one waits, in microseconds.
const PATIENCE: u64 = 3_000_000;
/// Hops that a datagram may take.
const HOPS: u8 = 64;

/// A datagram that came for us.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Datagram<'a> {
    pub(super) from: SocketAddrV4,
    pub(super) port: u16,
    pub(super) bytes: &'a [u8],
}

/// A datagram that waits for the address of its receiver.
#[derive(Debug)]
struct WaitingDatagram {
    until: Moment,
    to: SocketAddrV4,
    port: u16,
    bytes: Vec<u8>,
}

/// A station's addresses, and whom it knows.
#[derive(Debug)]
pub(super) struct IpStack {
    pub(super) mac: Mac,
    suite: IpSuite,
    /// Another station says that it has our address: who.
    pub(super) rival: Option<Mac>,
    known: VecDeque<(Ipv4Addr, Mac)>,
    waiting: VecDeque<WaitingDatagram>,
    /// Frames that are to be sent.
    pub(super) out: VecDeque<Vec<u8>>,
}

impl IpStack {
    pub(super) fn new(mac: Mac, suite: IpSuite) -> Self {
        let (known, waiting, out) = (VecDeque::new(), VecDeque::new(), VecDeque::new());
        Self { mac, suite, rival: None, known, waiting, out }
    }

    pub(super) const fn suite(&self) -> IpSuite {
        self.suite
    }

    /// Its address, once it has one.
    pub(super) fn address(&self) -> Option<Ipv4Addr> {
        Some(self.suite.address).filter(|own| !own.is_unspecified())
    }

    /// It has another address from now on, and says so to all.
    pub(super) fn set_suite(&mut self, suite: IpSuite) {
        if self.suite == suite {
            return;
        }
        (self.suite, self.rival) = (suite, None);
        self.known.clear();
        self.waiting.clear();
        self.announce();
    }

    /// Asks who has our own address: another station that has it will answer.
    pub(super) fn announce(&mut self) {
        if let Some(own) = self.address() {
            self.ask(own);
        }
    }

    fn learn(&mut self, address: Ipv4Addr, mac: Mac) {
        if let Some(known) = self.known.iter_mut().find(|(own, _)| *own == address) {
            known.1 = mac;
            return;
        }
        if self.known.len() >= KNOWN_MAX {
            self.known.pop_front();
        }
        self.known.push_back((address, mac));
    }

    fn arp(&mut self, to: Mac, operation: ArpOperation, target: (Mac, Ipv4Addr)) {
        self.out.extend(arp_frame((self.mac, self.suite.address), to, operation, target));
    }

    /// Asks all stations for an address; the one that has it, if any, is known by [`Self::mac_of`] after a while.
    pub(super) fn ask_for(&mut self, whom: Ipv4Addr) {
        self.known.retain(|(own, _)| *own != whom);
        self.ask(whom);
    }

    fn ask(&mut self, for_whom: Ipv4Addr) {
        self.arp(BROADCAST, ArpOperation::REQUEST, ([0; 6], for_whom));
    }

    /// Who has an address, as far as it is known.
    pub(super) fn mac_of(&self, address: Ipv4Addr) -> Option<Mac> {
        self.known.iter().find(|(own, _)| *own == address).map(|(_, mac)| *mac)
    }

    /// Takes a question or answer about addresses.
    pub(super) fn take_arp(&mut self, now: Moment, payload: &[u8]) {
        let Ok(packet) = ArpPacketSlice::from_slice(payload) else { return };
        let four = |bytes: &[u8]| bytes.first_chunk::<4>().map(|own| Ipv4Addr::from(*own));
        let (Some(sender), Some(target)) =
            (four(packet.sender_protocol_addr()), four(packet.target_protocol_addr()))
        else {
            return;
        };
        let Some(mac) = packet.sender_hw_addr().first_chunk::<6>().copied() else { return };
        if mac == self.mac {
            return;
        }
        let Some(own) = self.address() else { return };
        if sender == own {
            self.rival = Some(mac);
            return;
        }
        if !sender.is_unspecified() && (target == own || self.mac_of(sender).is_some()) {
            self.learn(sender, mac);
        }
        if packet.operation() == ArpOperation::REQUEST && target == own {
            self.arp(mac, ArpOperation::REPLY, (mac, sender));
        }
        self.release(now);
    }

    /// Sends what waited for an address that is known now, and forgets what has waited too long.
    fn release(&mut self, now: Moment) {
        for waiting in std::mem::take(&mut self.waiting) {
            match self.mac_of(self.next_hop(*waiting.to.ip())) {
                Some(mac) => self.datagram(mac, waiting.to, waiting.port, &waiting.bytes),
                None if now < waiting.until => self.waiting.push_back(waiting),
                None => {}
            }
        }
    }

    /// A datagram of a packet that came for us; from whom it came is known from then on.
    pub(super) fn take_ip<'a>(&mut self, ether: &EtherFrame<'a>) -> Option<Datagram<'a>> {
        let own = self.address()?;
        let (_, datagram) = datagram_of(ether).filter(|(to, _)| *to == own)?;
        self.learn(*datagram.from.ip(), ether.from);
        Some(datagram)
    }

    /// Where a datagram goes next: its receiver, or the way out of the network.
    fn next_hop(&self, to: Ipv4Addr) -> Ipv4Addr {
        let mask = u32::from(self.suite.mask);
        let near = u32::from(to) & mask == u32::from(self.suite.address) & mask;
        let gateway = self.suite.gateway;
        if near || gateway.is_unspecified() || gateway == self.suite.address { to } else { gateway }
    }

    fn datagram(&mut self, mac: Mac, to: SocketAddrV4, port: u16, bytes: &[u8]) {
        let builder = PacketBuilder::ethernet2(self.mac, mac)
            .ipv4(self.suite.address.octets(), to.ip().octets(), HOPS)
            .udp(port, to.port());
        let mut packet = Vec::with_capacity(builder.size(bytes.len()));
        // Writing into memory cannot fail but for what is too long, which nothing here is.
        if builder.write(&mut packet, bytes).is_ok() {
            packet.resize(packet.len().max(60), 0);
            self.out.push_back(packet);
        }
    }

    /// Sends a datagram from a port, as soon as it is known who has the address.
    pub(super) fn send(&mut self, now: Moment, to: SocketAddrV4, port: u16, bytes: Vec<u8>) {
        if self.address().is_none() {
            return;
        }
        let hop = self.next_hop(*to.ip());
        match self.mac_of(*to.ip()).or_else(|| self.mac_of(hop)) {
            Some(mac) => self.datagram(mac, to, port, &bytes),
            None => {
                if self.waiting.len() >= WAITING_MAX {
                    self.waiting.pop_front();
                }
                self.waiting.push_back(WaitingDatagram { until: now + PATIENCE, to, port, bytes });
                self.ask(hop);
            }
        }
    }
}

/// A question or an answer about addresses, of a station that may have none itself.
pub(super) fn arp_frame(
    (mac, own): (Mac, Ipv4Addr),
    to: Mac,
    operation: ArpOperation,
    (their_mac, target): (Mac, Ipv4Addr),
) -> Option<Vec<u8>> {
    let kinds = (ArpHardwareId::ETHERNET, EtherType::IPV4);
    let (own, target) = (own.octets(), target.octets());
    let packet = ArpPacket::new(kinds.0, kinds.1, operation, &mac, &own, &their_mac, &target).ok()?;
    Some(frame(to, mac, ARP, None, |out| out.extend_from_slice(&packet.to_bytes())))
}

/// The datagram in a frame, whole and sound, and to whom it goes.
pub(super) fn datagram_of<'a>(ether: &EtherFrame<'a>) -> Option<(Ipv4Addr, Datagram<'a>)> {
    let packet = Ipv4Slice::from_slice(ether.payload).ok()?;
    let header = packet.header();
    let payload = packet.payload();
    if payload.fragmented || payload.ip_number != IpNumber::UDP || !sums_up(header.slice()) {
        return None;
    }
    let udp = UdpSlice::from_slice(payload.payload).ok()?;
    let from = SocketAddrV4::new(header.source_addr(), udp.source_port());
    if from.ip().is_unspecified() || from.ip().is_multicast() || from.ip().is_broadcast() {
        return None;
    }
    // It lives as long as the frame, and not as long as what was read of it.
    let begin = header.slice().len();
    let bytes = ether.payload.get(begin + 8..begin + usize::from(udp.length()))?;
    Some((header.destination_addr(), Datagram { from, port: udp.destination_port(), bytes }))
}

/// Whether the check sum of an IPv4 header is right.
fn sums_up(header: &[u8]) -> bool {
    let words = header.chunks_exact(2).map(|pair| u32::from(pair[0]) << 8 | u32::from(pair[1]));
    let sum: u32 = words.sum();
    let folded = (sum & 0xFFFF) + (sum >> 16);
    (folded & 0xFFFF) + (folded >> 16) == 0xFFFF
}
