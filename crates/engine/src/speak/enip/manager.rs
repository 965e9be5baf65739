//! Connections of class 1 that others open: who may open which, and why not; whose frames go and come.

use super::io::{Agreed, RunningConnection, TakenFrame};
use super::refusal;
use crate::Moment;
use crate::speak::{LinkFaults, LinkLoss, LinkNews, NetAct, NodeSetup, Produced};
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_core::project::Network;
use woodrush_core::protocol::enip::{Layout, OwnIdentity};
use woodrush_wire::enip::connection::{ForwardOpen, Opened, Triad, lost_after};
use woodrush_wire::enip::cyclic::{CyclicFrame, HEADER_BYTES, Points, SEQUENCE_BYTES};
use woodrush_wire::enip::epath::Key;
use woodrush_wire::enip::objects::Identity;
use woodrush_wire::enip::status::{self, connection as refused};

/// Most connections of one end that only read: a spare controller and some displays need a few.
const CONNECTIONS_MAX: usize = 64;
/// The longest interval that is accepted, in microseconds.
const INTERVAL_MAX: u32 = 10_000_000;
/// Most news that wait to be told: one for each connection, and one for each link.
const NEWS_MAX: usize = 256;

/// Why a connection is not opened: the general status and the words behind it, and the same in words.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct NotOpenedBecause {
    pub(super) status: u8,
    pub(super) words: Vec<u16>,
    pub(super) why: String,
}

fn because(word: u16, why: impl Into<String>) -> NotOpenedBecause {
    NotOpenedBecause { status: status::CONNECTION_FAILURE, words: vec![word], why: why.into() }
}

/// What others open: an image, or a simulated device.
struct Target {
    /// The node's number of it.
    link: usize,
    name: String,
    layout: Layout,
    writers: Option<Vec<Network>>,
    fault: LinkFaults,
    /// Whom it refused last, and by which word; told again only when that changes.
    refused: Option<(Ipv4Addr, u16)>,
    /// Outputs that were set by a message count as lost from then on.
    set_until: Option<Moment>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Application {
    /// It writes the outputs: one at a time.
    Owner,
    /// It only reads.
    InputOnly,
    /// It reads as long as another one does.
    ListenOnly,
}

struct TargetConnection {
    link: usize,
    application: Application,
    triad: Triad,
    /// It says whether somebody is there: the owner, or where there are no outputs one that reads.
    leads: bool,
    running: RunningConnection,
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
    identity: OwnIdentity,
    address: Option<Ipv4Addr>,
    targets: Vec<Target>,
    connections: Vec<TargetConnection>,
    next_id: u32,
    news: VecDeque<NetAct>,
    /// The UDP socket of frames, by its place among those of the node.
    socket: usize,
}

/// The right size of something, in words.
fn sizes(what: &str, got: u32, right: u32) -> String {
    format!("its {what} is {got} bytes, and {right} is right")
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

    /// The key of a path against what we are.
    fn key_fault(&self, key: Key) -> Option<NotOpenedBecause> {
        let own = &self.identity;
        let differs = |theirs: u16, ours: u16| theirs != 0 && theirs != ours;
        if differs(key.vendor, own.vendor) || differs(key.product, own.product) {
            let why = format!(
                "its key is for vendor {} product {}, and this is {} {}",
                key.vendor, key.product, own.vendor, own.product
            );
            return Some(because(refused::KEY_VENDOR_OR_PRODUCT, why));
        }
        if differs(key.device_type, own.device_type) {
            let why =
                format!("its key is for device type {}, and this is {}", key.device_type, own.device_type);
            return Some(because(refused::KEY_DEVICE_TYPE, why));
        }
        let (major, minor) = (key.major & 0x7F, key.minor);
        let compatible = key.major & 0x80 != 0;
        let minor_fits = match compatible {
            true => own.revision.1 >= minor,
            false => minor == 0 || own.revision.1 == minor,
        };
        if major != 0 && major != own.revision.0 || !minor_fits {
            let why = format!(
                "its key is for revision {major}.{minor}, and this is {}.{}",
                own.revision.0, own.revision.1
            );
            return Some(because(refused::KEY_REVISION, why));
        }
        None
    }

    /// Whether a connection may be opened: what it is then.
    fn judge(
        &self,
        peer: SocketAddrV4,
        open: &ForwardOpen<'_>,
        points: Option<&Points<'_>>,
        target: Option<usize>,
    ) -> Result<(usize, Application), NotOpenedBecause> {
        if let Some(word) = open.fault() {
            let why = status::additional_words(status::CONNECTION_FAILURE, word).unwrap_or_default();
            return Err(because(word, why));
        }
        match (open.transport & 0x0F, open.transport >> 4 & 7, open.transport >> 7) {
            (1, 0, 0) => {}
            (1, 0, _) => return Err(because(refused::DIRECTION, "it asks for a server's direction")),
            (1, trigger, _) => {
                let why = format!("it asks for trigger {trigger}, and 0 (cyclic) is served");
                return Err(because(refused::TRIGGER, why));
            }
            (class, ..) => {
                return Err(because(
                    refused::CLASS,
                    format!("it asks for transport class {class}, and 1 is served"),
                ));
            }
        }
        if self.connections.iter().any(|own| own.triad == open.triad) {
            return Err(because(refused::DUPLICATE, "it has this connection already"));
        }
        let Some(points) = points else {
            return Err(because(refused::INVALID_PATH, "its path does not lead to two assemblies"));
        };
        if let Some(fault) = points.key.and_then(|key| self.key_fault(key)) {
            return Err(fault);
        }
        let heads_to = |target: &Target| {
            let layout = &target.layout;
            match points.to_target {
                own if layout.outputs.is_some_and(|outputs| outputs.number == own) => {
                    Some(Application::Owner)
                }
                own if layout.input_only == own => Some(Application::InputOnly),
                own if layout.listen_only == own => Some(Application::ListenOnly),
                _ => None,
            }
        };
        let Some((at, own)) = target.and_then(|at| Some((at, self.targets.get(at)?))) else {
            let taken = self.targets.iter().any(|target| heads_to(target).is_some());
            let inputs: Vec<String> =
                self.targets.iter().map(|target| target.layout.inputs.number.to_string()).collect();
            let inputs = inputs.join(", ");
            return Err(match taken {
                true => because(
                    refused::POINT_TO_ORIGINATOR,
                    format!("its input assembly is {}, and here is {inputs}", points.to_originator),
                ),
                false => because(
                    refused::POINT_TO_TARGET,
                    format!(
                        "its assemblies are {} (out) and {} (in), and the inputs here are {inputs}",
                        points.to_target, points.to_originator
                    ),
                ),
            });
        };
        let layout = &own.layout;
        if let Some(config) = points.configuration
            && layout.config.is_some_and(|own| own.number != config)
        {
            let right = layout.config.map_or(0, |own| own.number);
            let why = format!("its configuration assembly is {config}, and {right} is right");
            return Err(because(refused::CONFIGURATION_POINT, why));
        }
        let Some(application) = heads_to(own) else {
            let right = layout.outputs.map_or(layout.input_only, |own| own.number);
            let why = format!("its output assembly is {}, and {right} is right", points.to_target);
            return Err(because(refused::POINT_TO_TARGET, why));
        };
        self.fits(peer, open, points, own, application)?;
        Ok((at, application))
    }

    /// Types, sizes, intervals, and whether it is free.
    fn fits(
        &self,
        peer: SocketAddrV4,
        open: &ForwardOpen<'_>,
        points: &Points<'_>,
        own: &Target,
        application: Application,
    ) -> Result<(), NotOpenedBecause> {
        let layout = &own.layout;
        if (open.to_target.kind(), open.to_originator.kind()) == (0, 0) {
            return Err(because(refused::NULL, "it opens nothing, neither to the target nor back"));
        }
        if open.to_target.kind() != 2 {
            return Err(because(refused::TYPE_TO_TARGET, "what it sends is not point to point"));
        }
        if open.to_originator.kind() != 2 {
            let why = "it wants its inputs by multicast, and point to point is served";
            return Err(because(refused::TYPE_TO_ORIGINATOR, why));
        }
        if open.to_target.is_variable() {
            return Err(because(
                refused::FIXED_TO_TARGET,
                "what it sends has a variable size, and a fixed one is served",
            ));
        }
        if open.to_originator.is_variable() {
            let why = "it wants its inputs of a variable size, and a fixed one is served";
            return Err(because(refused::FIXED_TO_ORIGINATOR, why));
        }
        let config = layout.config.map_or(0, |own| own.bytes);
        let data = u32::try_from(points.data.len()).unwrap_or(u32::MAX);
        // Whole words go over the wire.
        if data.div_ceil(2) != config.div_ceil(2) && (data > 0 || config > 0) {
            let right = u16::try_from(config).unwrap_or(u16::MAX);
            let mut because = because(refused::CONFIGURATION_SIZE, sizes("configuration", data, config));
            because.words.push(right);
            return Err(because);
        }
        let heads = u32::from(SEQUENCE_BYTES);
        let to_target = match application {
            Application::Owner => {
                heads + u32::from(HEADER_BYTES) + layout.outputs.map_or(0, |outputs| outputs.bytes)
            }
            _ => heads,
        };
        let wrong = |word: u16, what: &str, got: u16, right: u32| {
            let mut because = because(word, sizes(what, got.into(), right));
            because.words.push(u16::try_from(right).unwrap_or(u16::MAX));
            because
        };
        if u32::from(open.to_target.size()) != to_target {
            return Err(wrong(
                refused::SIZE_TO_TARGET,
                "size to the target",
                open.to_target.size(),
                to_target,
            ));
        }
        let to_originator = heads + layout.inputs.bytes;
        if u32::from(open.to_originator.size()) != to_originator {
            let got = open.to_originator.size();
            return Err(wrong(refused::SIZE_TO_ORIGINATOR, "size to the originator", got, to_originator));
        }
        let fast = open.to_target_interval < layout.period || open.to_originator_interval < layout.period;
        if fast {
            let shortest = open.to_target_interval.min(open.to_originator_interval);
            let shown = woodrush_core::project::show_micros;
            let why = format!(
                "it wants a frame every {}, and {} is the shortest interval here (`period`)",
                shown(shortest.into()),
                shown(layout.period.into())
            );
            let mut because = because(refused::INTERVAL, why);
            // The least that is acceptable (type 2), each way.
            because.words.push(0x0202);
            for _ in 0..2 {
                because.words.push(u16::try_from(layout.period & 0xFFFF).unwrap_or(0));
                because.words.push(u16::try_from(layout.period >> 16).unwrap_or(0));
            }
            return Err(because);
        }
        if open.to_target_interval > INTERVAL_MAX || open.to_originator_interval > INTERVAL_MAX {
            return Err(because(
                refused::INTERVAL_UNSUPPORTED,
                "it wants a frame less often than every 10 s",
            ));
        }
        let here = || self.connections.iter().filter(|connection| connection.link == own.link);
        match application {
            Application::Owner => {
                if let Some(other) = here().find(|connection| connection.application == Application::Owner) {
                    let why = format!("{} has the outputs", other.running.agreed.peer.ip());
                    return Err(because(refused::OWNED, why));
                }
                if own
                    .writers
                    .as_ref()
                    .is_some_and(|writers| !writers.iter().any(|net| net.holds(*peer.ip())))
                {
                    let why = "`writers` shuts it out".to_string();
                    return Err(NotOpenedBecause { status: status::PRIVILEGE_VIOLATION, words: vec![], why });
                }
            }
            Application::ListenOnly => {
                if !here().any(|connection| connection.application != Application::ListenOnly) {
                    let why = "it would listen beside another connection, and there is none";
                    return Err(because(refused::LISTEN_ONLY, why));
                }
            }
            Application::InputOnly => {}
        }
        // The one that owns the outputs always has its place.
        let readers = self.connections.iter().filter(|own| own.application != Application::Owner).count();
        if application != Application::Owner && readers >= CONNECTIONS_MAX {
            let why = format!("{CONNECTIONS_MAX} others read already");
            return Err(because(refused::OUT_OF_CONNECTIONS, why));
        }
        Ok(())
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
        let wait = lost_after(open.to_target_interval, open.multiplier);
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
                running: RunningConnection::new(now, agreed),
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

    /// Closes a connection of that peer; whether there was one.
    pub(super) fn close(&mut self, peer: Ipv4Addr, triad: Triad) -> bool {
        let own = |own: &TargetConnection| own.triad == triad && *own.running.agreed.peer.ip() == peer;
        let Some(at) = self.connections.iter().position(own) else { return false };
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
