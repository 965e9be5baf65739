//! A station on a simulated switch that has no name yet, as one comes out of its box: to be found, and to be named.

use super::network::Ground;
use crate::Moment;
use crate::moment::Clock;
use crate::net::{Doorkeeper, NetEnd, NetMachine, NetSession, Place, ReadyNet, idle_worker};
use crate::port::worker::Worker;
use crate::speak::{LinkFaults, LinkLoss, NodeLink, NodeSetup, Produced, Server, another, speaker};
use std::net::{SocketAddr, SocketAddrV4};
use woodrush_core::plan::Station;
use woodrush_core::protocol::Setup;

/// Plugs such a station in, made like that image; nothing where the network has no switch.
pub(super) fn plug(ground: &Ground, like: &Station, clock: Clock) -> Option<Worker> {
    let Ground::Switch(switch) = ground else { return None };
    let make = speaker(like.dialect?.name())?.node?;
    // All that it was shipped with, and nothing that others give it.
    let words = like.setup.words.iter().filter(|(key, _)| !matches!(*key, "station-name" | "address"));
    let setup = Setup { words: words.cloned().collect(), ..like.setup.clone() };
    let own = NodeLink {
        name: "new station".into(),
        setup,
        opens: None,
        writers: None,
        fault: LinkFaults::default(),
    };
    let setup = NodeSetup { links: vec![own], first: another(), ..NodeSetup::default() };
    let node = make(&setup);
    let at = Place::Switch(switch.name.clone());
    let open = at.open(node.sockets(), None).ok()?;
    let machine = NetMachine::new(node, Box::new(NothingBehind));
    let worker = idle_worker().ok()?;
    ReadyNet::new(worker, at, machine, Box::new(OpenDoor), Some(open), clock).ok().map(ReadyNet::begin)
}

/// It has no values.
struct NothingBehind;

impl NetEnd for NothingBehind {
    fn renewed(&mut self) -> Option<NodeSetup> {
        None
    }

    fn produce(&mut self, _now: Moment, _link: usize, _last: &mut Produced) {}

    fn came(&mut self, _now: Moment, _link: usize, _slot: usize, _cells: &[u8]) {}

    fn still(&mut self, _now: Moment, _link: usize) {}

    fn stopped(&mut self, _now: Moment, _link: usize, _why: LinkLoss) {}

    fn session(&mut self, _peer: SocketAddrV4, _server: Box<dyn Server>) -> Option<Box<dyn NetSession>> {
        None
    }
}

/// Frames get through as they are.
struct OpenDoor;

impl Doorkeeper for OpenDoor {
    fn lets_in(&self, _peer: SocketAddr) -> bool {
        true
    }

    fn admits(
        &mut self,
        _seats: &[(SocketAddr, Moment)],
        _who: SocketAddr,
        _now: Moment,
    ) -> Result<Option<usize>, ()> {
        Err(())
    }

    fn idle_timeout(&self) -> u64 {
        u64::MAX
    }
}
