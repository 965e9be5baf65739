//! One end on a network: several sockets, several peers, asked and asking, and links that run in cycles.

use super::Server;
use crate::Moment;
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::{Arc, Mutex};
use woodrush_core::Refusal;
use woodrush_core::project::Network;
use woodrush_core::protocol::Setup;

/// Makes an end of a network with these links.
pub type MakeNode = fn(&NodeSetup) -> Box<dyn Node>;

/// A socket that an end has at its address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Socket {
    /// Peers connect to this TCP port.
    Listen(u16),
    /// Datagrams go and come by this UDP port.
    Datagrams(u16),
    /// Whole Ethernet frames go and come by its interface.
    Frames {
        /// Their EtherType.
        kind: u16,
        /// The groups to which they may go.
        groups: &'static [[u8; 6]],
        /// Of IP: only datagrams for this UDP port, in one piece.
        port: Option<u16>,
    },
}

/// A connection over TCP: one that a node has dialled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Channel(pub u32);

/// What an end needs to know.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NodeSetup {
    /// Its links, by the number that it names them by.
    pub links: Vec<NodeLink>,
    /// Keys of its protocol at the port.
    pub port: Setup,
    /// Its address; 0.0.0.0 where that is whichever the machine has.
    pub address: Option<Ipv4Addr>,
    /// Something that is another one for each run: numbers of connections begin there.
    pub first: u16,
    /// What it kept of the run before, each with its key: what others have named it.
    pub kept: Vec<(String, String)>,
}

/// What others have told stations, by image and key: it outlives a port that is opened again for a changed project.
pub type ToldStations = Arc<Mutex<BTreeMap<String, BTreeMap<String, String>>>>;

/// One link of an end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeLink {
    /// Whose it is, for messages.
    pub name: String,
    /// Keys of its station.
    pub setup: Setup,
    /// We open it, at that address; else the other end does.
    pub opens: Option<Ipv4Addr>,
    /// Who may open it so that it writes; `None` for all.
    pub writers: Option<Vec<Network>>,
    /// It goes wrong on purpose: a fault of simulated ends.
    pub fault: LinkFaults,
}

/// What a simulated end does wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct LinkFaults {
    /// It says that it is idle.
    pub idle: bool,
    /// Its frames are one byte too short.
    pub wrong_size: bool,
    /// Another controller opens it as well, as its owner.
    pub second_owner: bool,
    /// It expects another module than there is.
    pub wrong_slot: bool,
    /// Another station has the name of its other end.
    pub name_taken: bool,
}

/// What happened at the sockets.
#[derive(Debug, Clone, Copy)]
pub enum NetNews<'a> {
    /// They are there.
    Up,
    /// They are gone.
    Down,
    /// The interface is there, and has this MAC address.
    Interface([u8; 6]),
    /// A whole frame of one of the kinds in [`Node::sockets`].
    Frame(&'a [u8]),
    /// A connection that was dialled is there.
    Dialled(Channel),
    /// It is gone, or was never there.
    Closed(Channel),
    /// Bytes of it.
    Bytes(Channel, &'a [u8]),
    /// A datagram by the socket of that place in [`Node::sockets`].
    Datagram {
        /// Which socket.
        socket: usize,
        /// Whose it is.
        from: SocketAddrV4,
        /// All of it.
        bytes: &'a [u8],
    },
}

/// What goes in one frame: the bytes of each block, all of one moment.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Produced {
    /// By slot; nothing where nothing goes in it.
    pub slots: Vec<Vec<u8>>,
    /// The slots of which some value is lost, and that is to be said.
    pub lost: Vec<usize>,
}

/// Why nothing comes on a link any more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LinkLoss {
    /// The other end says that it does not run.
    Idle,
    /// Nothing came in time.
    Watchdog,
    /// The other end has closed it, or we have.
    Closed,
    /// Nothing came in time but frames whose sender says that their data mean nothing.
    Invalid,
}

impl LinkLoss {
    /// In the one word that every output uses.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Idle => "idle",
            Self::Watchdog => "watchdog",
            Self::Closed => "closed",
            Self::Invalid => "invalid",
        }
    }
}

/// Something that became of a link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LinkNews {
    /// It is open: with whom, how often a frame goes each way and after how long without one it is lost, in microseconds;
    /// and whether it only reads.
    Opened {
        /// The other end.
        peer: Ipv4Addr,
        /// From frame to frame.
        period: u64,
        /// Without a frame for so long, it is lost.
        lost_after: u64,
        /// Nothing is written by it.
        only_reads: bool,
    },
    /// The other end refuses to open it, or we do: why, in words.
    Refused {
        /// The other end.
        peer: Ipv4Addr,
        /// Its number, if it has one: general status and the word behind it.
        refusal: Refusal,
        /// What is wrong, in words.
        why: String,
    },
    /// One of several that only read is gone.
    OneLess {
        /// The other end.
        peer: Ipv4Addr,
        /// Why.
        why: LinkLoss,
    },
    /// The other end has ended it.
    Ended {
        /// Who: whoever said so, as the network knows it.
        peer: Ipv4Addr,
        /// How, to stand behind who.
        how: &'static str,
    },
}

impl LinkNews {
    /// The other end.
    pub const fn peer_mut(&mut self) -> &mut Ipv4Addr {
        match self {
            Self::Opened { peer, .. }
            | Self::Refused { peer, .. }
            | Self::OneLess { peer, .. }
            | Self::Ended { peer, .. } => peer,
        }
    }
}

/// What a station is, and what others did to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StationNews {
    /// What it is at the beginning, by key; empty where it is nothing.
    Begins(Vec<(&'static str, String)>),
    /// It has been named, addressed or set back: the key of what it is now, empty where it is nothing.
    Now {
        /// Which of what it keeps.
        key: &'static str,
        /// What it is now.
        value: String,
        /// It outlives the run.
        permanent: bool,
    },
    /// It shows where it is.
    Blinks,
    /// Another station says that it has the same address.
    Rival {
        /// The address.
        address: Ipv4Addr,
        /// Who.
        mac: [u8; 6],
    },
}

/// What an end wants done next.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the port"]
pub enum NetAct {
    /// Connect, and say when that is done.
    Dial(Channel, SocketAddrV4),
    /// Write these bytes to a connection that was dialled.
    Send(Channel, Vec<u8>),
    /// Close it.
    Close(Channel),
    /// Send a datagram by a socket.
    Datagram {
        /// Which socket.
        socket: usize,
        /// To whom.
        to: SocketAddrV4,
        /// All of it.
        bytes: Vec<u8>,
        /// The link whose frame it is, and when that was due.
        due: Option<(usize, Moment)>,
    },
    /// Send a whole frame by the interface.
    Frame {
        /// All of it.
        bytes: Vec<u8>,
        /// The link whose frame it is, and when that was due.
        due: Option<(usize, Moment)>,
    },
    /// A frame is due: say what goes in it by [`Node::produced`].
    Produce(usize),
    /// A frame came with bytes that differ from those before.
    Came {
        /// The link.
        link: usize,
        /// Which slot.
        slot: usize,
        /// All bytes of it.
        cells: Vec<u8>,
    },
    /// A frame came with the same bytes as before.
    Still(usize),
    /// The other end says that what comes in a slot of a link is bad.
    Unsound {
        /// The link.
        link: usize,
        /// Which slot.
        slot: usize,
    },
    /// Something was done to the station of a link.
    Station(usize, StationNews),
    /// Nothing comes on a link any more.
    Stopped(usize, LinkLoss),
    /// So many frames of a link were not sent, because their time had passed.
    Skipped(usize, u64),
    /// Something became of a link.
    Tell(usize, LinkNews),
    /// Nothing to do before this moment or news.
    WaitUntil(Moment),
    /// Nothing to do before news.
    Rest,
}

/// One end on a network. It reads no clock and opens nothing. After each call poll it until it waits or rests; too early or
/// too often changes nothing.
pub trait Node: Send {
    /// The sockets that it has at its address.
    fn sockets(&self) -> &'static [Socket];
    /// What answers one peer that has connected; it opens links of this node as well. `None` where nobody connects.
    fn server(&mut self, _peer: Ipv4Addr) -> Option<Box<dyn Server>> {
        None
    }
    /// Takes a changed setup: links whose keys are the same stay open.
    fn set_up(&mut self, now: Moment, setup: &NodeSetup);
    /// Closes whatever it has opened, in order; poll it until it rests.
    fn shut(&mut self, now: Moment);
    /// Takes what goes in the frame that is due.
    fn produced(&mut self, now: Moment, link: usize, cells: &Produced);
    /// Whether that peer exchanges with us: who asks over such a connection may be silent there.
    fn exchanges_with(&self, _peer: Ipv4Addr) -> bool {
        false
    }
    /// Takes news of the sockets.
    fn handle(&mut self, now: Moment, news: NetNews<'_>);
    /// What to do now: what is due goes before what came.
    fn poll(&mut self, now: Moment) -> NetAct;
}
