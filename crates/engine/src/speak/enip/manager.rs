//! Connections of class 1 that others open: who may open which, and why not; whose frames go and come.

use super::io::{Agreed, RunningConnection, TakenFrame};
use super::judging::NotOpenedBecause;
use super::refusal;
use crate::Moment;
use crate::speak::{LinkFaults, LinkLoss, LinkNews, NetAct, NodeSetup, Produced};
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_core::project::Network;
use woodrush_core::protocol::enip::{Layout, OwnIdentity};
use woodrush_wire::enip::connection::{ForwardOpen, Opened, Triad, lost_after};
use woodrush_wire::enip::cyclic::{CyclicFrame, Points};
use woodrush_wire::enip::objects::Identity;
use woodrush_wire::enip::status;

/// Most news that wait to be told: one for each connection, and one for each link.
const NEWS_MAX: usize = 256;

/// What others open: an image, or a simulated device.
pub(super) struct Target {
    /// The node's number of it.
    pub(super) link: usize,
    pub(super) name: String,
    pub(super) layout: Layout,
    pub(super) writers: Option<Vec<Network>>,
    pub(super) fault: LinkFaults,
    /// Whom it refused last, and by which word; told again only when that changes.
    pub(super) refused: Option<(Ipv4Addr, u16)>,
    /// Outputs that were set by a message count as lost from then on.
    pub(super) set_until: Option<Moment>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Application {
    /// It writes the outputs: one at a time.
    Owner,
    /// It only reads.
    InputOnly,
    /// It reads as long as another one does.
    ListenOnly,
}

pub(super) struct TargetConnection {
    pub(super) link: usize,
    pub(super) application: Application,
    pub(super) triad: Triad,
    /// It says whether somebody is there: the owner, or where there are no outputs one that reads.
    pub(super) leads: bool,
    pub(super) running: RunningConnection,
}

/// An assembly as messages reach it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct FoundAssembly {
    /// The number of the inputs of its image: what wants name the image by.
    pub(super) station: u32,
    pub(super) link: usize,
    pub(super) bytes: u32,
    pub(super) block: AssemblyBlock,
}

/// Which assembly of a layout.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum AssemblyBlock {
    Inputs,
    Outputs,
    Config,
}

/// All of what others open at one end.
pub(super) struct Manager {
    pub(super) identity: OwnIdentity,
    pub(super) address: Option<Ipv4Addr>,
    pub(super) targets: Vec<Target>,
    pub(super) connections: Vec<TargetConnection>,
    pub(super) next_id: u32,
    pub(super) news: VecDeque<NetAct>,
    /// The UDP socket of frames, by its place among those of the node.
    pub(super) socket: usize,
}

/// The longest that a connection may go without a frame, in microseconds, unless [`PATIENT_PERIODS`] are longer: whoever opens
/// one may ask for hours, and its outputs would look live for as long.
const PATIENCE_MAX: u64 = 10_000_000;
/// So many periods it may be silent in any case.
const PATIENT_PERIODS: u64 = 100;

/// How long a connection goes on without a frame, in microseconds.
fn granted(open: &ForwardOpen<'_>) -> u64 {
    let most = (u64::from(open.to_target_interval) * PATIENT_PERIODS).max(PATIENCE_MAX);
    lost_after(open.to_target_interval, open.multiplier).min(most)
}

impl Manager {
    pub(super) fn new(setup: &NodeSetup, socket: usize) -> Self {
        let mut own = Self {
            identity: OwnIdentity::of(&setup.port),
            address: setup.address,
            targets: vec![],
            connections: vec![],
            next_id: u32::from(setup.first) << 16 | 1,
            news: VecDeque::new(),
            socket,
        };
        own.set_up(setup);
        own
    }

    pub(super) const fn own_identity(&self) -> &OwnIdentity {
        &self.identity
    }

    pub(super) const fn address(&self) -> Option<Ipv4Addr> {
        self.address
    }

    /// What is said of ourselves, with the state of the connections.
    pub(super) fn identity(&self) -> Identity<'_> {
        let owned = self.connections.iter().any(|own| own.application == Application::Owner);
        // Extended status: 6 a connection runs, 3 there is none.
        let extended = if self.connections.iter().any(|own| own.running.heard()) { 6 } else { 3 };
        let own = &self.identity;
        Identity {
            vendor: own.vendor,
            device_type: own.device_type,
            product: own.product,
            revision: own.revision,
            status: u16::from(owned) | extended << 4,
            serial: own.serial,
            name: own.name.as_bytes(),
        }
    }

    /// Takes a changed setup: what is the same stays open.
    pub(super) fn set_up(&mut self, setup: &NodeSetup) {
        self.identity = OwnIdentity::of(&setup.port);
        let old = std::mem::take(&mut self.targets);
        for (link, own) in setup.links.iter().enumerate().filter(|(_, own)| own.opens.is_none()) {
            let Some(layout) = Layout::of(&own.setup) else { continue };
            self.targets.push(Target {
                link,
                name: own.name.clone(),
                layout,
                writers: own.writers.clone(),
                fault: own.fault,
                refused: None,
                set_until: None,
            });
        }
        let mut kept = vec![];
        for mut own in std::mem::take(&mut self.connections) {
            let before = old.iter().find(|target| target.link == own.link);
            let same = |target: &&Target| {
                before.is_some_and(|before| (&before.name, &before.layout) == (&target.name, &target.layout))
            };
            match self.targets.iter().find(same) {
                Some(target) => {
                    own.link = target.link;
                    kept.push(own);
                }
                None => {
                    // Its image is another one now: the controller opens it anew, or is told why not.
                    let name = before.map(|before| before.name.clone());
                    let again = self.targets.iter().find(|target| Some(&target.name) == name.as_ref());
                    if let Some(link) = again.map(|target| target.link) {
                        self.tell(NetAct::Stopped(link, LinkLoss::Closed));
                    }
                }
            }
        }
        self.connections = kept;
    }

    /// The target that a message's assembly belongs to.
    pub(super) fn assembly(&self, number: u32) -> Option<FoundAssembly> {
        self.targets.iter().find_map(|target| {
            let layout = &target.layout;
            let blocks = [
                (AssemblyBlock::Inputs, Some(layout.inputs)),
                (AssemblyBlock::Outputs, layout.outputs),
                (AssemblyBlock::Config, layout.config),
            ];
            blocks.into_iter().find_map(|(block, own)| {
                let own = own.filter(|own| own.number == number)?;
                let station = layout.inputs.number;
                Some(FoundAssembly { station, link: target.link, bytes: own.bytes, block })
            })
        })
    }

    /// Outputs set by a message: as one frame, which counts as lost once the time of a frame's watchdog has passed.
    ///
    /// # Errors
    /// The status: an owner is connected, the size is wrong, or who asks may not write.
    pub(super) fn set(
        &mut self,
        now: Moment,
        who: Ipv4Addr,
        found: FoundAssembly,
        data: &[u8],
    ) -> Result<(), u8> {
        if found.block != AssemblyBlock::Outputs {
            return Err(status::ATTRIBUTE_NOT_SETTABLE);
        }
        let owned = self
            .connections
            .iter()
            .any(|own| own.link == found.link && own.application == Application::Owner);
        let Some(target) = self.targets.iter_mut().find(|target| target.link == found.link) else {
            return Err(status::OBJECT_DOES_NOT_EXIST);
        };
        if target.writers.as_ref().is_some_and(|writers| !writers.iter().any(|own| own.holds(who))) {
            return Err(status::PRIVILEGE_VIOLATION);
        }
        match u32::try_from(data.len()).unwrap_or(u32::MAX).cmp(&found.bytes) {
            std::cmp::Ordering::Less => return Err(status::NOT_ENOUGH_DATA),
            std::cmp::Ordering::Greater => return Err(status::TOO_MUCH_DATA),
            std::cmp::Ordering::Equal if owned => return Err(status::DEVICE_STATE_CONFLICT),
            std::cmp::Ordering::Equal => {}
        }
        let wait = lost_after(target.layout.period, target.layout.multiplier_code());
        target.set_until = Some(now + wait);
        let opened = LinkNews::Opened {
            peer: who,
            period: target.layout.period.into(),
            lost_after: wait,
            only_reads: false,
        };
        self.tell(NetAct::Tell(found.link, opened));
        self.tell(NetAct::Came { link: found.link, slot: 0, cells: data.to_vec() });
        Ok(())
    }

    fn tell(&mut self, news: NetAct) {
        // That nothing comes any more is never left out: an old value would go on looking live. It is one for each connection.
        if self.news.len() < NEWS_MAX || matches!(news, NetAct::Stopped(..)) {
            self.news.push_back(news);
        }
    }

    /// Opens a connection of class 1, or says why not.
    pub(super) fn open<'o>(
        &mut self,
        now: Moment,
        peer: SocketAddrV4,
        open: &ForwardOpen<'o>,
    ) -> Result<Opened<'o>, NotOpenedBecause> {
        let points = Points::of(&open.path);
        let target = points.as_ref().and_then(|points| {
            self.targets.iter().position(|target| target.layout.inputs.number == points.to_originator)
        });
        match self.judge(peer, open, points.as_ref(), target) {
            Ok((at, application)) => Ok(self.opened(now, peer, open, at, application)),
            Err(because) => {
                let word = because.words.first().copied().unwrap_or(0);
                // Of a connection that leads nowhere the first one tells.
                if let Some(own) = self.targets.get_mut(target.unwrap_or(0)) {
                    let again = own.refused.replace((*peer.ip(), word)) == Some((*peer.ip(), word));
                    let (link, refusal) = (own.link, refusal(because.status, Some(word)));
                    let why = because.why.clone();
                    if !again {
                        self.tell(NetAct::Tell(link, LinkNews::Refused { peer: *peer.ip(), refusal, why }));
                    }
                }
                Err(because)
            }
        }
    }

    fn opened<'o>(
        &mut self,
        now: Moment,
        peer: SocketAddrV4,
        open: &ForwardOpen<'o>,
        at: usize,
        application: Application,
    ) -> Opened<'o> {
        self.next_id = self.next_id.wrapping_add(0x1_0001).max(1);
        let takes = self.next_id;
        let owner = application == Application::Owner;
        let period = u64::from(open.to_originator_interval);
        let wait = granted(open);
        if let Some(target) = self.targets.get_mut(at) {
            (target.refused, target.set_until) = (None, None);
            let agreed = Agreed {
                peer,
                sends: open.to_originator_id,
                takes,
                out_bytes: Some(target.layout.inputs.bytes as usize),
                out_header: false,
                in_size: open.to_target.size(),
                in_header: owner,
                period,
                lost_after: wait,
            };
            let leads = owner || target.layout.outputs.is_none() && application == Application::InputOnly;
            let link = target.link;
            self.connections.push(TargetConnection {
                link,
                application,
                triad: open.triad,
                leads,
                running: RunningConnection::new(now, (takes & 0xFFFF) as usize, agreed),
            });
            let opened = LinkNews::Opened { peer: *peer.ip(), period, lost_after: wait, only_reads: !owner };
            self.tell(NetAct::Tell(link, opened));
        }
        Opened {
            to_target_id: takes,
            to_originator_id: open.to_originator_id,
            triad: open.triad,
            to_target_interval: open.to_target_interval,
            to_originator_interval: open.to_originator_interval,
            application: &[],
        }
    }

    /// Whether that peer has a connection open.
    pub(super) fn exchanges_with(&self, peer: Ipv4Addr) -> bool {
        self.connections.iter().any(|own| *own.running.agreed.peer.ip() == peer)
    }

    /// Closes a connection of that peer; whether there was one.
    pub(super) fn close(&mut self, peer: Ipv4Addr, triad: Triad) -> bool {
        let own = |own: &TargetConnection| own.triad == triad && *own.running.agreed.peer.ip() == peer;
        let Some(at) = self.connections.iter().position(own) else { return false };
        let link = self.connections.get(at).map_or(usize::MAX, |own| own.link);
        self.tell(NetAct::Tell(link, LinkNews::Ended { peer, how: "which closed it" }));
        self.release(at, &LinkLoss::Closed);
        true
    }

    /// Lets a connection go, and those that only listened beside it.
    fn release(&mut self, at: usize, why: &LinkLoss) {
        let gone = self.connections.remove(at);
        let link = gone.link;
        let leads = self.connections.iter().any(|own| own.link == link && own.leads);
        if gone.leads && !leads {
            self.tell(NetAct::Stopped(link, why.clone()));
        } else {
            let peer = *gone.running.agreed.peer.ip();
            self.tell(NetAct::Tell(link, LinkNews::OneLess { peer, why: why.clone() }));
        }
        let reads = |own: &TargetConnection| own.link == link && own.application != Application::ListenOnly;
        if !self.connections.iter().any(reads) {
            self.connections.retain(|own| own.link != link);
        }
    }

    /// All of them are gone: the sockets are.
    pub(super) fn drop_all(&mut self) {
        while !self.connections.is_empty() {
            self.release(0, &LinkLoss::Closed);
        }
    }

    /// Takes a frame that may be one of ours; whether it was.
    pub(super) fn take(&mut self, now: Moment, from: Ipv4Addr, frame: &CyclicFrame<'_>) -> bool {
        let own = self.connections.iter_mut().find(|own| own.running.agreed.takes == frame.connection);
        let Some(own) = own else { return false };
        let (link, leads) = (own.link, own.leads);
        let news = match own.running.take(now, from, frame) {
            None => return true,
            Some(_) if !leads => return true,
            Some(TakenFrame::New(data)) => NetAct::Came { link, slot: 0, cells: data.to_vec() },
            Some(TakenFrame::Same) => NetAct::Still(link),
            Some(TakenFrame::Idle) => NetAct::Stopped(link, LinkLoss::Idle),
            Some(TakenFrame::StillIdle) => return true,
        };
        self.tell(news);
        true
    }

    /// A link of which a frame is due.
    pub(super) fn due(&self, now: Moment) -> Option<usize> {
        self.connections.iter().find(|own| own.running.due(now).is_some()).map(|own| own.link)
    }

    /// Sends what is due of a link.
    pub(super) fn produced(
        &mut self,
        now: Moment,
        link: usize,
        cells: &Produced,
        out: &mut VecDeque<NetAct>,
    ) {
        let short = self.targets.iter().any(|target| target.link == link && target.fault.wrong_size);
        let bytes = cells.slots.first().map_or(&[][..], Vec::as_slice);
        for own in self.connections.iter_mut().filter(|own| own.link == link) {
            let Some((due, passed)) = own.running.due(now) else { continue };
            if passed > 0 {
                out.push_back(NetAct::Skipped(link, passed));
            }
            let frame = own.running.frame(due, true, bytes, short);
            let to = own.running.agreed.peer;
            out.push_back(NetAct::Datagram { socket: self.socket, to, bytes: frame, due: Some((link, due)) });
        }
    }

    /// What has become of it: watchdogs that have run out, and what others have done.
    pub(super) fn poll(&mut self, now: Moment) -> Option<NetAct> {
        if let Some(at) = self.connections.iter().position(|own| own.running.is_lost(now)) {
            self.release(at, &LinkLoss::Watchdog);
        }
        let over = |target: &&mut Target| target.set_until.is_some_and(|until| now >= until);
        if let Some(target) = self.targets.iter_mut().find(over) {
            target.set_until = None;
            let link = target.link;
            self.tell(NetAct::Stopped(link, LinkLoss::Watchdog));
        }
        self.news.pop_front()
    }

    /// When it has to be looked at again.
    pub(super) fn wakes_at(&self) -> Moment {
        let connections = self.connections.iter().map(|own| own.running.wakes_at());
        let sets = self.targets.iter().filter_map(|target| target.set_until);
        connections.chain(sets).min().unwrap_or(Moment::NEVER)
    }
}
