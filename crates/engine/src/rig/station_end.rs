//! What lies behind a simulated station's node: its cells, who asks it by messages, and what gets through to it.

use super::device::SimDevice;
use crate::Moment;
use crate::dice::Dice;
use crate::moment::Clock;
use crate::net::{Doorkeeper, NetEnd, NetSession, SessionOut};
use crate::speak::{
    LinkFaults, LinkLoss, LinkNews, News, NodeSetup, Produced, Serve, Server, ServerSetup, Want,
};
use std::collections::BTreeSet;
use std::net::{SocketAddr, SocketAddrV4};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use woodrush_core::plan::CyclicLink;
use woodrush_core::project::{DeviceFaults, LineFaults};
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// Connections at once to one simulated station.
const SEATS: usize = 16;

/// What is seen of a link from its simulated end.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SeenLink {
    /// Frames come.
    pub online: bool,
    /// The other end has said that it is idle.
    pub idle: bool,
    /// Frames that came.
    pub frames: u64,
    /// How often it was opened.
    pub opened: u64,
    /// Why it was refused since it was opened or set up last, in words: all of it, or some of its slots.
    pub refused: Option<String>,
    /// Slots that the other end calls bad.
    pub bad: BTreeSet<usize>,
}

/// Bytes that a station sends and those that it gets, by the plan's link: slot by slot.
#[derive(Clone)]
pub(super) struct ExchangedBlocks {
    sends: Vec<Option<Extent>>,
    gets: Vec<Option<Extent>>,
}

impl ExchangedBlocks {
    pub(super) fn of(link: &CyclicLink) -> Self {
        // What comes to us is what they send.
        Self {
            sends: link.slots.iter().map(|slot| slot.comes.map(|(extent, _)| extent)).collect(),
            gets: link.slots.iter().map(|slot| slot.goes).collect(),
        }
    }
}

/// The cells of a simulated station behind its node.
pub(super) struct StationEnd {
    pub(super) sim: Arc<Mutex<SimDevice>>,
    pub(super) seen: Arc<Mutex<SeenLink>>,
    pub(super) blocks: ExchangedBlocks,
    pub(super) setup: NodeSetup,
    pub(super) serves: ServerSetup,
    pub(super) clock: Clock,
}

impl StationEnd {
    fn sim(&self) -> MutexGuard<'_, SimDevice> {
        self.sim.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn see(&self, change: impl FnOnce(&mut SeenLink)) {
        change(&mut self.seen.lock().unwrap_or_else(PoisonError::into_inner));
    }
}

impl NetEnd for StationEnd {
    fn renewed(&mut self) -> Option<NodeSetup> {
        let DeviceFaults { idles, wrong_size, second_owner, wrong_slot, name_taken, .. } =
            self.sim().ailment();
        let now = LinkFaults { idle: idles, wrong_size, second_owner, wrong_slot, name_taken };
        let own = self.setup.links.first_mut()?;
        if std::mem::replace(&mut own.fault, now) == now {
            return None;
        }
        // What it was told of before is of another setup.
        self.see(|seen| seen.refused = None);
        Some(self.setup.clone())
    }

    fn produce(&mut self, now: Moment, _link: usize, last: &mut Produced) {
        let mut sim = self.sim();
        if sim.ailment().frozen && !last.slots.is_empty() {
            return;
        }
        let mut bytes =
            |extent: &Option<Extent>| extent.and_then(|extent| sim.block(now, extent)).unwrap_or_default();
        last.slots = self.blocks.sends.iter().map(&mut bytes).collect();
        last.lost.clear();
    }

    fn came(&mut self, _now: Moment, _link: usize, slot: usize, cells: &[u8]) {
        if let Some(extent) = self.blocks.gets.get(slot).copied().flatten() {
            self.sim().poke(extent, cells);
        }
        self.see(|seen| {
            seen.bad.remove(&slot);
            seen.frames += 1;
            (seen.online, seen.idle) = (true, false);
        });
    }

    fn still(&mut self, _now: Moment, _link: usize) {
        self.see(|seen| {
            seen.frames += 1;
            (seen.online, seen.idle) = (true, false);
        });
    }

    fn unsound(&mut self, _now: Moment, _link: usize, slot: usize) {
        self.see(|seen| {
            seen.bad.insert(slot);
        });
    }

    fn stopped(&mut self, _now: Moment, _link: usize, why: LinkLoss) {
        self.see(|seen| {
            seen.bad.clear();
            (seen.online, seen.idle) = (why == LinkLoss::Idle, why == LinkLoss::Idle);
        });
    }

    fn news(&mut self, _link: usize, news: LinkNews) {
        self.see(|seen| match news {
            LinkNews::Opened { .. } => {
                seen.opened += 1;
                seen.refused = None;
            }
            LinkNews::Refused { why, .. } => seen.refused = Some(why),
            LinkNews::OneLess { .. } | LinkNews::Ended { .. } => {}
        });
    }

    fn session(&mut self, _peer: SocketAddrV4, mut server: Box<dyn Server>) -> Option<Box<dyn NetSession>> {
        server.set_up(&self.serves);
        Some(Box::new(StationSession { server, sim: Arc::clone(&self.sim), clock: self.clock }))
    }
}

/// One who asks a simulated station by messages.
struct StationSession {
    server: Box<dyn Server>,
    sim: Arc<Mutex<SimDevice>>,
    clock: Clock,
}

impl NetSession for StationSession {
    fn handle(&mut self, now: Moment, news: News<'_>) {
        self.server.handle(now, news);
    }

    fn is_waiting(&self) -> bool {
        false
    }

    fn poll(&mut self, now: Moment) -> SessionOut {
        loop {
            match self.server.poll(now) {
                Serve::Send(bytes) => return SessionOut::Send(bytes),
                Serve::HangUp(why) => return SessionOut::HangUp(why),
                Serve::WaitUntil(moment) => return SessionOut::WaitUntil(moment),
                Serve::Rest => return SessionOut::Rest,
                Serve::Want { want, .. } => {
                    let mut sim = self.sim.lock().unwrap_or_else(PoisonError::into_inner);
                    let bare = Refusal::new(Kind::NoSuchAddress, Blame::ClientIdentity);
                    let given = match want {
                        Want::Read(extent) => sim.block(self.clock.now(), extent).ok_or(bare),
                        _ => Err(Refusal::new(Kind::NoSuchCommand, Blame::ClientIdentity)),
                    };
                    drop(sim);
                    match given {
                        Ok(cells) => self.server.give(Ok(&cells)),
                        Err(refusal) => self.server.give(Err(refusal)),
                    }
                }
            }
        }
    }
}

/// What gets through to a simulated station and from it.
pub(super) struct StationDoor {
    pub(super) sim: Arc<Mutex<SimDevice>>,
    pub(super) line: Arc<Mutex<LineFaults>>,
    pub(super) dice: Dice,
}

impl StationDoor {
    fn faults(&self) -> (DeviceFaults, LineFaults) {
        let own = self.sim.lock().unwrap_or_else(PoisonError::into_inner).ailment();
        (own, *self.line.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn is_silent(&self) -> bool {
        let (own, line) = self.faults();
        own.mute || line.cut || line.unplugged
    }
}

impl Doorkeeper for StationDoor {
    fn lets_in(&self, _peer: SocketAddr) -> bool {
        !self.is_silent() && !self.faults().1.closed
    }

    fn admits(
        &mut self,
        seats: &[(SocketAddr, Moment)],
        _who: SocketAddr,
        _now: Moment,
    ) -> Result<Option<usize>, ()> {
        if seats.len() < SEATS { Ok(None) } else { Err(()) }
    }

    fn hears(&self) -> bool {
        !self.is_silent()
    }

    fn idle_timeout(&self) -> u64 {
        120_000_000
    }

    fn sends(&mut self, is_frame: bool) -> Option<u64> {
        let (own, line) = self.faults();
        let lost = f64::from(own.dropped_cycles) / 1000.0 + line.noise;
        let silent = own.mute || line.cut || line.unplugged;
        if silent || is_frame && lost > 0.0 && self.dice.share() < lost {
            return None;
        }
        Some(if is_frame { own.late_cycles } else { 0 })
    }
}
