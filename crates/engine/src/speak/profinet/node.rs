//! One end on an interface: a station with its MAC address, as an IO device or as a controller.

use super::Ended;
use super::calls::send;
use super::controller::{Controller, MASK};
use super::device::Device;
use super::ether::{EtherFrame, Mac};
use super::ip::{ARP, IPV4, IpStack};
use super::naming::{NamingChange, Permanence, Present, StationNaming};
use crate::Moment;
use crate::speak::{LinkFaults, NetAct, NetNews, Node, NodeLink, NodeSetup, Produced, Socket, StationNews};
use std::collections::VecDeque;
use std::net::Ipv4Addr;
use woodrush_core::protocol::profinet::{IoIdentity, StationLayout, shown_suite, suite};
use woodrush_wire::profinet::dcp::{self, IpSuite};
use woodrush_wire::profinet::rt::is_cyclic;
use woodrush_wire::profinet::status::ended;
use woodrush_wire::profinet::{ETHERTYPE, RPC_PORT, lldp, rta};

const SOCKETS: [Socket; 3] = [
    Socket::Frames { kind: ETHERTYPE, groups: &[dcp::IDENTIFY_TO], port: None },
    Socket::Frames { kind: ARP, groups: &[], port: None },
    Socket::Frames { kind: IPV4, groups: &[], port: Some(RPC_PORT) },
];
/// What is kept of a station beyond a run.
const NAME: &str = "station-name";
const ADDRESS: &str = "address";
/// From here on links are numbered that are opened a second time on purpose: nothing is exchanged by them.
const SECOND: usize = 1 << 20;

/// What a station is.
enum StationRole {
    Device(Box<Device>),
    Controller(Box<Controller>),
    /// It is only there, and has a name.
    Bystander,
}

/// One station of the interface: a converter has one, a simulated end more where faults ask for it.
struct Station {
    stack: IpStack,
    naming: StationNaming,
    role: StationRole,
    /// What it was set up as.
    setup: NodeLink,
    told_rival: bool,
    greets_at: Moment,
}

/// One end.
pub(super) struct EthernetNode {
    setup: NodeSetup,
    mac: Option<Mac>,
    stations: Vec<Station>,
    out: VecDeque<NetAct>,
    /// The link whose frame is waited for.
    asked: bool,
}

impl EthernetNode {
    pub(super) fn new(setup: &NodeSetup) -> Self {
        Self { setup: setup.clone(), mac: None, stations: vec![], out: VecDeque::new(), asked: false }
    }

    fn kept(&self, key: &str) -> Option<&str> {
        self.setup.kept.iter().find(|(own, _)| own == key).map(|(_, value)| value.as_str())
    }

    /// An IO device as its keys say, or as it was named and addressed since.
    fn device(&self, link: usize, own: &NodeLink, mac: Mac) -> Option<Station> {
        let layout = StationLayout::of(&own.setup)?;
        let identity = IoIdentity::of(&self.setup.port);
        let name = self.kept(NAME).map_or_else(|| layout.name.clone(), str::to_string);
        let kept = self.kept(ADDRESS).map(|text| suite(text).unwrap_or(IpSuite::NONE));
        let address = kept.or(layout.address).unwrap_or(IpSuite::NONE);
        let naming = StationNaming::new(mac, name, identity.clone(), dcp::ROLE_DEVICE);
        let device = Device::new(link, layout, identity, mac, self.setup.first);
        Some(Station {
            stack: IpStack::new(mac, address),
            naming,
            role: StationRole::Device(Box::new(device)),
            setup: own.clone(),
            told_rival: false,
            greets_at: Moment(0),
        })
    }

    /// A controller of the device whose keys those are.
    fn controller(&self, link: usize, own: &NodeLink, mac: Mac, address: Ipv4Addr) -> Option<Station> {
        let layout = StationLayout::of(&own.setup)?;
        let identity = IoIdentity::of(&self.setup.port);
        let mask = layout.address.map_or(MASK, |own| own.mask);
        let name: String =
            own.name.chars().map(|own| if own.is_ascii_alphanumeric() { own } else { '-' }).collect();
        let name = name.trim_matches('-').to_ascii_lowercase();
        let device = own.opens?;
        let naming = StationNaming::new(mac, name.clone(), identity, dcp::ROLE_CONTROLLER);
        let first = self.setup.first ^ u16::from(mac[5]);
        // Calls name the device by its own numbers, not by the controller's.
        let mut controller = Controller::new(link, (name, layout), device, IoIdentity::of(&own.setup), first);
        let mut stack = IpStack::new(mac, IpSuite { address, mask, gateway: address });
        let fault = LinkFaults { second_owner: false, name_taken: false, ..own.fault };
        controller.set_fault(Moment(0), &mut stack, fault);
        Some(Station {
            stack,
            naming,
            role: StationRole::Controller(Box::new(controller)),
            setup: own.clone(),
            told_rival: false,
            greets_at: Moment(0),
        })
    }

    /// Stations for all links, and for what goes wrong on purpose.
    fn all_stations(&self, mac: Mac) -> Vec<Station> {
        let mut all = vec![];
        for (link, own) in self.setup.links.iter().enumerate() {
            let Some(address) = self.setup.address.filter(|_| own.opens.is_some()) else {
                all.extend(self.device(link, own, mac));
                continue;
            };
            all.extend(self.controller(link, own, mac, address));
            let other = |bit: u8| [mac[0], mac[1], mac[2], mac[3] ^ bit, mac[4], mac[5]];
            if own.fault.second_owner {
                let beside = Ipv4Addr::from(u32::from(address) ^ 0x40);
                let plain =
                    NodeLink { fault: LinkFaults::default(), name: format!("{}-2", own.name), ..own.clone() };
                all.extend(self.controller(SECOND + link, &plain, other(0x80), beside));
            }
            if own.fault.name_taken
                && let Some(mut station) = self.device(link, own, other(0x40))
            {
                station.role = StationRole::Bystander;
                station.stack = IpStack::new(other(0x40), IpSuite::NONE);
                all.push(station);
            }
        }
        all
    }

    fn begin(&mut self) {
        let Some(mac) = self.mac else { return };
        self.stations = self.all_stations(mac);
        self.stations.iter_mut().for_each(|own| own.begin(&mut self.out));
    }
}

impl Station {
    /// It says to all that it is there, and to us how it is named and addressed.
    fn begin(&mut self, out: &mut VecDeque<NetAct>) {
        self.stack.announce();
        if let Some(link) = self.link() {
            let is = vec![(NAME, self.naming.name.clone()), (ADDRESS, shown_suite(self.stack.suite()))];
            out.push_back(NetAct::Station(link, StationNews::Begins(is)));
        }
    }

    fn present(&self) -> Present {
        let connected = matches!(&self.role, StationRole::Device(own) if own.is_connected());
        Present { suite: self.stack.suite(), rival: self.stack.rival.is_some(), connected }
    }

    fn is_due(&self, now: Moment) -> Option<usize> {
        match &self.role {
            StationRole::Device(own) if own.is_due(now) => Some(own.link),
            StationRole::Controller(own) if own.is_due(now) => Some(own.link),
            _ => None,
        }
    }

    fn acts(&mut self) -> Option<&mut VecDeque<NetAct>> {
        match &mut self.role {
            StationRole::Device(own) => Some(&mut own.out),
            StationRole::Controller(own) => Some(&mut own.out),
            StationRole::Bystander => None,
        }
    }

    fn link(&self) -> Option<usize> {
        match &self.role {
            StationRole::Device(own) => Some(own.link),
            _ => None,
        }
    }

    fn changed(&mut self, change: NamingChange, out: &mut VecDeque<NetAct>) {
        let Some(link) = self.link() else { return };
        let keep = |key, value: String, permanence| {
            let permanent = permanence == Permanence::Permanent;
            NetAct::Station(link, StationNews::Now { key, value, permanent })
        };
        match change {
            NamingChange::Name(name, permanence) => out.push_back(keep(NAME, name, permanence)),
            NamingChange::Address(suite, permanence) => {
                self.stack.set_suite(suite);
                self.told_rival = false;
                out.push_back(keep(ADDRESS, shown_suite(suite), permanence));
            }
            NamingChange::Reset => {
                self.stack.set_suite(IpSuite::NONE);
                out.push_back(keep(NAME, String::new(), Permanence::Permanent));
                out.push_back(keep(ADDRESS, String::new(), Permanence::Permanent));
            }
            NamingChange::Blinks => out.push_back(NetAct::Station(link, StationNews::Blinks)),
        }
    }

    fn take(&mut self, now: Moment, ether: &EtherFrame<'_>, out: &mut VecDeque<NetAct>) {
        let EtherFrame { to, from, kind, payload } = *ether;
        match kind {
            ARP => self.stack.take_arp(now, payload),
            IPV4 if to == self.stack.mac => {
                let Some(datagram) = self.stack.take_ip(ether).filter(|own| own.port == RPC_PORT) else {
                    return;
                };
                let (back, bytes) = (datagram.from, datagram.bytes);
                let answer = match &mut self.role {
                    StationRole::Device(own) => own.take_call(now, (back, from), bytes),
                    StationRole::Controller(own) => own.take_call(now, &self.stack, bytes),
                    StationRole::Bystander => None,
                };
                if let Some(answer) = answer {
                    send(&mut self.stack, now, back, answer);
                }
            }
            ETHERTYPE => {
                let id = payload.first_chunk().map_or(0, |own| u16::from_be_bytes(*own));
                match (id, &mut self.role) {
                    (id, StationRole::Device(own)) if is_cyclic(id) => own.take_frame(now, from, payload),
                    (id, StationRole::Controller(own)) if is_cyclic(id) => own.take_frame(now, from, payload),
                    (rta::HIGH | rta::LOW, StationRole::Device(own)) => own.take_alarm(from, payload),
                    (rta::HIGH | rta::LOW, StationRole::Controller(own)) => {
                        own.take_alarm(now, from, payload)
                    }
                    _ => {
                        if let StationRole::Controller(own) = &mut self.role {
                            own.take_dcp(now, &mut self.stack, from, payload);
                        }
                        let present = self.present();
                        let (answer, changes) = self.naming.take(now, (to, from), payload, present);
                        if let Some(bytes) = answer {
                            out.push_back(NetAct::Frame { bytes, due: None });
                        }
                        changes.into_iter().for_each(|change| self.changed(change, out));
                    }
                }
            }
            _ => {}
        }
        self.tell_rival(out);
    }

    /// Somebody else says that it has our address: once.
    fn tell_rival(&mut self, out: &mut VecDeque<NetAct>) {
        let (Some(rival), Some(link)) = (self.stack.rival, self.link()) else { return };
        if !std::mem::replace(&mut self.told_rival, true) {
            let address = self.stack.suite().address;
            out.push_back(NetAct::Station(link, StationNews::Rival { address, mac: rival }));
        }
    }

    fn poll(&mut self, now: Moment, out: &mut VecDeque<NetAct>) {
        if now >= self.greets_at {
            self.greets_at = now + lldp::EVERY;
            out.push_back(NetAct::Frame { bytes: self.greeting(), due: None });
        }
        match &mut self.role {
            StationRole::Device(own) => {
                if let Some((to, bytes)) = own.poll(now) {
                    send(&mut self.stack, now, to, bytes);
                }
            }
            StationRole::Controller(own) => own.poll(now, &mut self.stack),
            StationRole::Bystander => {}
        }
        while let Some(bytes) = self.naming.poll(now).or_else(|| self.stack.out.pop_front()) {
            out.push_back(NetAct::Frame { bytes, due: None });
        }
    }

    /// What it says of itself to the next station.
    fn greeting(&self) -> Vec<u8> {
        let own =
            lldp::Neighbour { name: &self.naming.name, mac: self.stack.mac, address: self.stack.address() };
        super::ether::frame(lldp::TO, self.stack.mac, lldp::ETHERTYPE, None, |out| own.emit(out))
    }

    fn wakes_at(&self) -> Moment {
        let role = match &self.role {
            StationRole::Device(own) => own.wakes_at(),
            StationRole::Controller(own) => own.wakes_at(),
            StationRole::Bystander => Moment::NEVER,
        };
        role.min(self.naming.wakes_at()).min(self.greets_at)
    }
}

impl Node for EthernetNode {
    fn sockets(&self) -> &'static [Socket] {
        &SOCKETS
    }

    fn set_up(&mut self, now: Moment, setup: &NodeSetup) {
        self.setup = setup.clone();
        let Some(mac) = self.mac else { return };
        let mut before = std::mem::take(&mut self.stations);
        for mut new in self.all_stations(mac) {
            let same = |own: &Station| own.stack.mac == new.stack.mac && own.setup.setup == new.setup.setup;
            let Some(at) = before.iter().position(same) else {
                new.begin(&mut self.out);
                self.stations.push(new);
                continue;
            };
            let mut kept = before.remove(at);
            match (&mut kept.role, &new.role) {
                (StationRole::Device(own), StationRole::Device(new)) => own.link = new.link,
                (StationRole::Controller(own), StationRole::Controller(other)) => {
                    own.link = other.link;
                    own.set_fault(now, &mut kept.stack, new.setup.fault);
                }
                _ => {}
            }
            kept.setup = new.setup;
            self.stations.push(kept);
        }
        for mut gone in before {
            gone.shut(now);
            gone.poll(now, &mut self.out);
            if let Some(acts) = gone.acts() {
                self.out.append(acts);
            }
        }
    }

    fn shut(&mut self, now: Moment) {
        self.stations.iter_mut().for_each(|own| own.shut(now));
    }

    fn produced(&mut self, now: Moment, link: usize, cells: &Produced) {
        self.asked = false;
        for own in &mut self.stations {
            match &mut own.role {
                StationRole::Device(own) if own.link == link => own.produced(now, cells),
                StationRole::Controller(own) if own.link == link => own.produced(now, cells),
                _ => {}
            }
        }
    }

    fn handle(&mut self, now: Moment, news: NetNews<'_>) {
        match news {
            NetNews::Interface(mac) => {
                self.mac = Some(mac);
                self.begin();
            }
            NetNews::Down => {
                self.stations.iter_mut().for_each(|own| own.shut(now));
                for own in &mut self.stations {
                    if let Some(acts) = own.acts() {
                        self.out.append(acts);
                    }
                }
            }
            NetNews::Frame(bytes) => self.hear(now, bytes),
            _ => {}
        }
    }

    fn poll(&mut self, now: Moment) -> NetAct {
        let act = self.next(now);
        if let NetAct::Frame { bytes, .. } = &act
            && self.stations.len() > 1
        {
            // Stations of one end hear each other, which no switch does for them.
            self.hear(now, bytes);
        }
        act
    }
}

impl EthernetNode {
    /// Gives a frame to whom it is for.
    fn hear(&mut self, now: Moment, bytes: &[u8]) {
        let Some(ether) = EtherFrame::parse(bytes) else { return };
        let group = ether.to[0] & 1 == 1;
        for own in self.stations.iter_mut().filter(|own| group || own.stack.mac == ether.to) {
            if own.stack.mac != ether.from {
                own.take(now, &ether, &mut self.out);
            }
        }
    }

    fn next(&mut self, now: Moment) -> NetAct {
        // What is due goes first, whatever came.
        let due = self.stations.iter().find_map(|own| own.is_due(now));
        if let Some(link) = due.filter(|_| !self.asked) {
            self.asked = true;
            return NetAct::Produce(link);
        }
        for own in &mut self.stations {
            if let Some(act) = own.acts().and_then(VecDeque::pop_front) {
                return act;
            }
        }
        if self.out.is_empty() {
            self.stations.iter_mut().for_each(|own| own.poll(now, &mut self.out));
        }
        if let Some(act) = self.out.pop_front() {
            return act;
        }
        if let Some(act) = self.stations.iter_mut().find_map(|own| own.acts()?.pop_front()) {
            return act;
        }
        match self.stations.iter().map(Station::wakes_at).min() {
            None | Some(Moment::NEVER) => NetAct::Rest,
            Some(moment) => NetAct::WaitUntil(moment),
        }
    }
}

impl Station {
    fn shut(&mut self, now: Moment) {
        match &mut self.role {
            StationRole::Device(own) => own.end(ended::OWN_END, Ended::Closed),
            StationRole::Controller(own) => own.shut(now),
            StationRole::Bystander => {}
        }
    }
}
