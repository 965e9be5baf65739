//! Messages out of a capture: our own, or one that another program has made of TCP connections.

use super::pcapng::{Block, Blocks};
use super::{ANSWERS, ASKS, ETHERNET, EXPORTED_PDU, RAW_IP, TAG_FROM, TAG_PROTOCOL, TAG_TO, UNKNOWN};
use crate::speak::Side;
use etherparse::{EtherType, NetSlice, SlicedPacket, TcpSlice, TransportSlice};
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use woodrush_core::protocol::DIALECTS;

const NULL: u16 = 0;
const RAW: u16 = 12;
const IPV4: u16 = 228;
const COOKED: u16 = 113;
const COOKED_2: u16 = 276;

/// Bytes of one side of a conversation, out of a capture.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Caught {
    /// The interface's name; of our own captures the port's.
    pub interface: String,
    /// The interface's description; of our own captures it begins with the protocol's name.
    pub description: String,
    /// The name under which analysers know the protocol, where the packet says it.
    pub dissector: Option<String>,
    /// Who answers, on TCP.
    pub server: Option<SocketAddr>,
    /// Who asks, on TCP.
    pub client: Option<SocketAddr>,
    /// Whose bytes they are.
    pub side: Side,
    /// When they had passed, in microseconds since 1970.
    pub at: u64,
    /// None where the connection ends.
    pub bytes: Vec<u8>,
    /// Bytes before them are missing.
    pub gap: bool,
}

/// A capture that cannot be read to its end.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct BrokenCapture(pub String);

struct Interface {
    link: u16,
    name: String,
    description: String,
}

/// One connection: who answers, and which byte each side says next.
struct Stream {
    server: SocketAddr,
    next: HashMap<SocketAddr, u32>,
}

/// A capture, read from its beginning.
pub struct Capture {
    blocks: Blocks,
    interfaces: Vec<Interface>,
    streams: HashMap<[SocketAddr; 2], Stream>,
    /// Packets that carry nothing of a field bus that is known here.
    pub passed_over: u64,
}

impl Capture {
    /// Of a whole file.
    ///
    /// # Errors
    /// It is no capture.
    pub fn open(file: Vec<u8>) -> Result<Self, BrokenCapture> {
        let blocks = Blocks::new(file).map_err(BrokenCapture)?;
        Ok(Self { blocks, interfaces: vec![], streams: HashMap::new(), passed_over: 0 })
    }

    /// The next bytes; `is_server` says whether a server is known to answer there. `None` at the end.
    ///
    /// # Errors
    /// The capture is cut or damaged there; what came before is good.
    pub fn next(&mut self, is_server: &dyn Fn(SocketAddr) -> bool) -> Result<Option<Caught>, BrokenCapture> {
        loop {
            match self.blocks.next().map_err(BrokenCapture)? {
                None => return Ok(None),
                Some(Block::Section) => self.interfaces.clear(),
                Some(Block::Interface { link, name, description }) => {
                    self.interfaces.push(Interface { link, name, description });
                }
                Some(Block::Packet { interface, at, data }) => {
                    match self.packet(interface, at, &data, is_server) {
                        Some(caught) => return Ok(Some(caught)),
                        None => self.passed_over += 1,
                    }
                }
            }
        }
    }

    fn packet(
        &mut self,
        interface: usize,
        at: u64,
        data: &[u8],
        is_server: &dyn Fn(SocketAddr) -> bool,
    ) -> Option<Caught> {
        let Interface { link, name, description } = self.interfaces.get(interface)?;
        let (interface, description) = (name.clone(), description.clone());
        let found = match *link {
            EXPORTED_PDU => {
                let pdu = exported(data)?;
                return Some(Caught { interface, description, at, ..pdu });
            }
            ETHERNET => {
                let whole = DIALECTS
                    .iter()
                    .map(|own| own.framing())
                    .find(|own| own.is_ethernet() && own.is_frame(data));
                if let Some(framing) = whole {
                    return Some(Caught {
                        interface,
                        description,
                        dissector: framing.dissector().map(String::from),
                        server: None,
                        client: None,
                        side: Side::Either,
                        at,
                        bytes: data.to_vec(),
                        gap: false,
                    });
                }
                SlicedPacket::from_ethernet(data).ok()?
            }
            RAW_IP | RAW | IPV4 => SlicedPacket::from_ip(data).ok()?,
            NULL => SlicedPacket::from_ip(data.get(4..)?).ok()?,
            COOKED => SlicedPacket::from_linux_sll(data).ok()?,
            COOKED_2 => {
                let kind = u16::from_be_bytes(*data.first_chunk()?);
                SlicedPacket::from_ether_type(EtherType(kind), data.get(20..)?).ok()?
            }
            _ => return None,
        };
        let (from, to): (IpAddr, IpAddr) = match found.net? {
            NetSlice::Ipv4(ip) => (ip.header().source_addr().into(), ip.header().destination_addr().into()),
            NetSlice::Ipv6(ip) => (ip.header().source_addr().into(), ip.header().destination_addr().into()),
            NetSlice::Arp(_) => return None,
        };
        let Some(TransportSlice::Tcp(tcp)) = found.transport else { return None };
        let from = SocketAddr::new(from, tcp.source_port());
        let to = SocketAddr::new(to, tcp.destination_port());
        let (server, bytes, gap) = self.segment(from, to, &tcp, is_server)?;
        let (side, client) = if from == server { (Side::Answers, to) } else { (Side::Asks, from) };
        let (server, client) = (Some(server), Some(client));
        Some(Caught { interface, description, dissector: None, server, client, side, at, bytes, gap })
    }

    /// Who answers on its connection, the bytes that are new, and whether some are missing before them.
    fn segment(
        &mut self,
        from: SocketAddr,
        to: SocketAddr,
        tcp: &TcpSlice<'_>,
        is_server: &dyn Fn(SocketAddr) -> bool,
    ) -> Option<(SocketAddr, Vec<u8>, bool)> {
        let mut key = [from, to];
        key.sort_unstable();
        let (seq, data) = (tcp.sequence_number(), tcp.payload());
        let opens = tcp.syn() && !tcp.ack();
        let server = match () {
            () if opens => to,
            () if tcp.syn() || is_server(from) => from,
            () if is_server(to) => to,
            // Servers have the smaller numbers.
            () if from.port() < to.port() => from,
            () => to,
        };
        if tcp.syn() {
            let stream = self.streams.entry(key).or_insert(Stream { server, next: HashMap::new() });
            if opens {
                (stream.server, stream.next) = (server, HashMap::new());
            }
            stream.next.insert(from, seq.wrapping_add(1));
            return None;
        }
        let stream = self.streams.entry(key).or_insert(Stream { server, next: HashMap::new() });
        let server = stream.server;
        if tcp.fin() && data.is_empty() || tcp.rst() {
            self.streams.remove(&key);
            return Some((server, vec![], false));
        }
        if data.is_empty() {
            return None;
        }
        let next = *stream.next.entry(from).or_insert(seq);
        // How far it begins before what is due, counted in a circle.
        let early = next.wrapping_sub(seq);
        let (skip, gap) = if early < 1 << 31 { (early as usize, false) } else { (0, true) };
        let fresh = data.get(skip..).filter(|fresh| !fresh.is_empty())?;
        let end = seq.wrapping_add(u32::try_from(data.len()).unwrap_or(0));
        stream.next.insert(from, end);
        Some((server, fresh.to_vec(), gap))
    }
}

/// What an exported PDU carries.
fn exported(data: &[u8]) -> Option<Caught> {
    let (mut rest, mut dissector) = (data, None);
    let (mut from, mut to) = (0, 0);
    loop {
        let code = u16::from_be_bytes(*rest.first_chunk()?);
        let length = usize::from(u16::from_be_bytes(*rest.get(2..)?.first_chunk()?));
        let value = rest.get(4..4 + length)?;
        rest = rest.get(4 + length..)?;
        let number = || value.first_chunk::<4>().map_or(0, |four| u32::from_be_bytes(*four));
        match code {
            0 => break,
            TAG_PROTOCOL => {
                let name = String::from_utf8_lossy(value);
                dissector = Some(name.trim_end_matches('\0').to_string()).filter(|name| name != UNKNOWN);
            }
            TAG_FROM => from = number(),
            TAG_TO => to = number(),
            _ => {}
        }
    }
    let port = |number: u32| {
        let number = u16::try_from(number).ok()?;
        Some(SocketAddr::from(([0, 0, 0, 0], number)))
    };
    let (side, client) = match (from, to) {
        (0, 0) => (Side::Either, None),
        (ASKS, ANSWERS) => (Side::Asks, None),
        (ANSWERS, ASKS) => (Side::Answers, None),
        // A connection: servers have the smaller numbers.
        (from, to) if from > to => (Side::Asks, port(from)),
        (_, to) => (Side::Answers, port(to)),
    };
    Some(Caught {
        interface: String::new(),
        description: String::new(),
        dissector,
        server: None,
        client,
        side,
        at: 0,
        bytes: rest.to_vec(),
        gap: false,
    })
}
