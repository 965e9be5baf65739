//! Messages into a capture, each with what we make of it as a comment.

use super::{ANSWERS, ASKS, ETHERNET, EXPORTED_PDU, PORT_TYPE, RAW_IP, UNKNOWN, pcapng};
use super::{TAG_FROM, TAG_PORT_TYPE, TAG_PROTOCOL, TAG_TO};
use crate::speak::Side;
use etherparse::PacketBuilder;
use std::collections::HashMap;
use std::io::Write;
use std::net::SocketAddrV4;
use woodrush_core::protocol::Dialect;

/// Data of one made-up packet at most.
const SEGMENT: usize = 16 * 1024;

/// The two ends of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Flow {
    /// The client.
    pub client: SocketAddrV4,
    /// The server.
    pub server: SocketAddrV4,
}

/// One message to be written.
#[derive(Debug, Clone, Copy)]
pub struct CapturedMessage<'a> {
    /// The port's name.
    pub port: &'a str,
    /// What the port is, in words.
    pub description: &'a str,
    /// What is used there.
    pub dialect: &'static dyn Dialect,
    /// The connection; `None` on a line.
    pub flow: Option<Flow>,
    /// It was a datagram of its own, over UDP.
    pub datagram: bool,
    /// Whose message it is.
    pub side: Side,
    /// When its last byte had passed, in microseconds since 1970.
    pub at: u64,
    /// All of it.
    pub bytes: &'a [u8],
    /// What it says, in words.
    pub comment: &'a str,
}

/// Writes a capture.
pub struct CaptureWriter<W: Write> {
    out: W,
    /// By port and link type, in the order of their numbers.
    interfaces: Vec<(String, u16)>,
    /// Bytes that each end of a connection has sent: client, server.
    sent: HashMap<Flow, (u32, u32)>,
}

impl<W: Write> CaptureWriter<W> {
    /// Begins a capture.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn begin(mut out: W) -> std::io::Result<Self> {
        let application = concat!("woodrush ", env!("CARGO_PKG_VERSION"));
        pcapng::section(application, &mut out)?;
        Ok(Self { out, interfaces: vec![], sent: HashMap::new() })
    }

    /// Writes a message.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn add(&mut self, message: &CapturedMessage<'_>) -> std::io::Result<()> {
        if message.dialect.framing().is_ethernet() {
            let interface = self.interface(message, ETHERNET)?;
            return pcapng::packet(interface, message.at, message.bytes, message.comment, &mut self.out);
        }
        // On another port the analyser would not know what it is.
        if let Some(flow) = message.flow.filter(|_| message.datagram) {
            return self.datagram(message, flow);
        }
        let usual = |flow: &Flow| message.dialect.framing().usual_tcp_port() == Some(flow.server.port());
        match message.flow.filter(usual) {
            Some(flow) => self.segments(message, flow),
            None => self.exported(message),
        }
    }

    /// Hands what was written to the system.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn flush(&mut self) -> std::io::Result<()> {
        self.out.flush()
    }

    /// Tells how many pieces were missed so far, and ends.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn end(mut self, at: u64, missed: u64) -> std::io::Result<()> {
        if missed > 0 && !self.interfaces.is_empty() {
            pcapng::statistics(0, at, missed, &mut self.out)?;
        }
        self.out.flush()
    }

    fn interface(&mut self, message: &CapturedMessage<'_>, link: u16) -> std::io::Result<u32> {
        let known = self.interfaces.iter().position(|(port, own)| port == message.port && *own == link);
        let at = match known {
            Some(at) => at,
            None => {
                pcapng::interface(link, message.port, message.description, &mut self.out)?;
                self.interfaces.push((message.port.to_string(), link));
                self.interfaces.len() - 1
            }
        };
        u32::try_from(at).map_err(|_| std::io::ErrorKind::InvalidInput.into())
    }

    fn segments(&mut self, message: &CapturedMessage<'_>, flow: Flow) -> std::io::Result<()> {
        let interface = self.interface(message, RAW_IP)?;
        let answers = message.side == Side::Answers;
        for data in message.bytes.chunks(SEGMENT) {
            let (client, server) = self.sent.entry(flow).or_insert((1, 1));
            let (from, to, seq, ack) = match answers {
                false => (flow.client, flow.server, *client, *server),
                true => (flow.server, flow.client, *server, *client),
            };
            let builder = PacketBuilder::ipv4(from.ip().octets(), to.ip().octets(), 64);
            let builder = builder.tcp(from.port(), to.port(), seq, 64_240).ack(ack).psh();
            let mut packet = Vec::with_capacity(builder.size(data.len()));
            builder.write(&mut packet, data).map_err(std::io::Error::other)?;
            let own = if answers { server } else { client };
            *own = own.wrapping_add(u32::try_from(data.len()).unwrap_or(0));
            pcapng::packet(interface, message.at, &packet, message.comment, &mut self.out)?;
        }
        Ok(())
    }

    fn datagram(&mut self, message: &CapturedMessage<'_>, flow: Flow) -> std::io::Result<()> {
        let interface = self.interface(message, RAW_IP)?;
        let (from, to) = match message.side {
            Side::Answers => (flow.server, flow.client),
            _ => (flow.client, flow.server),
        };
        let builder = PacketBuilder::ipv4(from.ip().octets(), to.ip().octets(), 64);
        let builder = builder.udp(from.port(), to.port());
        let mut packet = Vec::with_capacity(builder.size(message.bytes.len()));
        builder.write(&mut packet, message.bytes).map_err(std::io::Error::other)?;
        pcapng::packet(interface, message.at, &packet, message.comment, &mut self.out)
    }

    fn exported(&mut self, message: &CapturedMessage<'_>) -> std::io::Result<()> {
        let interface = self.interface(message, EXPORTED_PDU)?;
        let mut packet = vec![];
        let mut tag = |code: u16, value: &[u8]| {
            packet.extend_from_slice(&code.to_be_bytes());
            let length = value.len().next_multiple_of(4);
            packet.extend_from_slice(&u16::try_from(length).unwrap_or(0).to_be_bytes());
            packet.extend_from_slice(value);
            packet.resize(packet.len() + length - value.len(), 0);
        };
        tag(TAG_PROTOCOL, message.dialect.framing().dissector().unwrap_or(UNKNOWN).as_bytes());
        let (from, to) = match (message.side, message.flow) {
            // Nobody knows who said it.
            (Side::Either, _) => (0, 0),
            (Side::Asks, None) => (ASKS, ANSWERS),
            (Side::Answers, None) => (ANSWERS, ASKS),
            (Side::Asks, Some(flow)) => (flow.client.port().into(), flow.server.port().into()),
            (Side::Answers, Some(flow)) => (flow.server.port().into(), flow.client.port().into()),
        };
        tag(TAG_PORT_TYPE, &PORT_TYPE.to_be_bytes());
        tag(TAG_FROM, &from.to_be_bytes());
        tag(TAG_TO, &to.to_be_bytes());
        tag(0, &[]);
        packet.extend_from_slice(message.bytes);
        pcapng::packet(interface, message.at, &packet, message.comment, &mut self.out)
    }
}
