//! A capture that is written while traffic passes.

use super::lines;
use super::said::ShownMessage;
use crate::Failure;
use std::fs::File;
use std::io::BufWriter;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::path::{Path, PathBuf};
use woodrush_core::check::Checked;
use woodrush_core::project::Wires;
use woodrush_core::protocol::dialect;
use woodrush_engine::capture::{CaptureWriter, CapturedMessage, Flow};
use woodrush_engine::speak::Side;
use woodrush_engine::tap::{DatagramPeer, Passed};

/// Messages are put into the order of their moments over so long, in microseconds: ports tell of theirs apart.
const ORDER: u64 = 1_000_000;

/// A capture that is written.
pub(super) struct Saved {
    path: PathBuf,
    writer: CaptureWriter<BufWriter<File>>,
    /// By port: what it is, and the ends of its connection where there is one.
    ports: Vec<Port>,
    count: u64,
    waiting: Vec<Waiting>,
}

struct Port {
    name: String,
    description: String,
    protocol: &'static str,
    /// Who asks and who answers; who asks is told by each connection where we answer.
    flow: Option<Flow>,
}

/// A message that waits for earlier ones.
struct Waiting {
    at: u64,
    port: String,
    who: Option<SocketAddrV4>,
    datagram: Option<DatagramPeer>,
    side: Side,
    bytes: Vec<u8>,
    comment: String,
}

impl Saved {
    pub(super) fn create(path: &Path, checked: Option<&Checked>) -> Result<Self, Failure> {
        let begun = File::create(path).and_then(|file| CaptureWriter::begin(BufWriter::new(file)));
        let writer = begun.map_err(|error| fault(path, &error))?;
        let ports = checked.map(ports).unwrap_or_default();
        Ok(Self { path: path.to_path_buf(), writer, ports, count: 0, waiting: vec![] })
    }

    /// Takes a message; `at` is its moment, in microseconds since 1970.
    pub(super) fn add(&mut self, said: &ShownMessage, who: Option<&str>, passed: &Passed, at: u64) {
        if passed.bytes.is_empty() {
            return;
        }
        let who_asks = who.and_then(|who| who.parse().ok());
        keep_order(&mut self.waiting, at, &said.port, who_asks);
        self.waiting.push(Waiting {
            at,
            port: said.port.clone(),
            who: who_asks,
            datagram: who.and_then(DatagramPeer::of),
            side: passed.side,
            bytes: passed.bytes.clone(),
            comment: lines::comment(said),
        });
    }

    /// Another protocol is spoken at a port, or it is one that the project does not have.
    pub(super) fn learn(&mut self, port: &str, protocol: &'static str) {
        if self.ports.iter().all(|known| known.name != port) {
            let (name, description) = (port.to_string(), protocol.to_string());
            self.ports.push(Port { name, description, protocol, flow: None });
        }
    }

    /// Writes what is old enough that nothing earlier can come any more.
    pub(super) fn looked(&mut self) -> Result<(), Failure> {
        let newest = self.waiting.iter().map(|waiting| waiting.at).max().unwrap_or(0);
        self.write_until(newest.saturating_sub(ORDER))
    }

    fn write_until(&mut self, end: u64) -> Result<(), Failure> {
        self.waiting.sort_by_key(|waiting| waiting.at);
        let ready = self.waiting.partition_point(|waiting| waiting.at <= end);
        if ready == 0 {
            return Ok(());
        }
        let written = self.waiting.drain(..ready).try_for_each(|waiting| {
            self.count += 1;
            let known = self.ports.iter().find(|port| port.name == waiting.port);
            let Some(dialect) = dialect(known.map_or("raw", |port| port.protocol)) else { return Ok(()) };
            let flow = known.and_then(|port| port.flow);
            let flow = flow.map(|flow| match waiting.datagram {
                Some(peer) => {
                    Flow { client: peer.address, server: SocketAddrV4::new(*flow.server.ip(), peer.local) }
                }
                None => Flow { client: waiting.who.unwrap_or(flow.client), ..flow },
            });
            self.writer.add(&CapturedMessage {
                port: &waiting.port,
                description: known.map_or("", |port| port.description.as_str()),
                dialect,
                flow,
                datagram: waiting.datagram.is_some(),
                side: waiting.side,
                at: waiting.at,
                bytes: &waiting.bytes,
                comment: &waiting.comment,
            })
        });
        written.and_then(|()| self.writer.flush()).map_err(|error| fault(&self.path, &error))
    }

    /// Writes the rest, and how many pieces were missed; gives the number of messages, and where they are.
    pub(super) fn end(mut self, missed: u64) -> Result<(u64, PathBuf), Failure> {
        let last = self.waiting.iter().map(|waiting| waiting.at).max().unwrap_or(0);
        self.write_until(last)?;
        self.writer.end(last, missed).map_err(|error| fault(&self.path, &error))?;
        Ok((self.count, self.path))
    }
}

/// What passed before stays before what passes at that moment. When a request has left is worked out from the line's rate, and
/// a virtual port, an adapter or a serial server may have its answer sooner.
fn keep_order(waiting: &mut [Waiting], at: u64, port: &str, who: Option<SocketAddrV4>) {
    for earlier in waiting.iter_mut().filter(|own| own.port == port && own.who == who) {
        earlier.at = earlier.at.min(at);
    }
}

fn fault(path: &Path, error: &std::io::Error) -> Failure {
    Failure::Outside(format!("the capture {} cannot be written: {error}", path.display()))
}

/// What each port is in a capture: the project's own addresses, also on the bench.
fn ports(checked: &Checked) -> Vec<Port> {
    let project = &checked.project;
    let own = project.converter.address.as_ref().map_or(Ipv4Addr::LOCALHOST, |own| own.value.address);
    let nobody = SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, 0);
    let port = |(at, port): (u16, &woodrush_core::project::Port)| {
        let protocol = port.protocol?.value.name();
        let (description, flow) = match port.wires.as_ref()? {
            Wires::Serial { line, .. } => {
                (line.map_or_else(String::new, |line| format!(" at {}", line.value)), None)
            }
            Wires::Pty { .. } => (" on a virtual port".into(), None),
            Wires::Listen { at } => {
                let host = if at.value.host.is_unspecified() { own } else { at.value.host };
                let server = SocketAddrV4::new(host, at.value.port);
                (format!(" at {server}"), Some(Flow { client: nobody, server }))
            }
            Wires::Network { at } => {
                let host = if at.value.is_unspecified() { own } else { at.value };
                let usual = port.protocol?.value.framing().usual_tcp_port().unwrap_or(0);
                let server = SocketAddrV4::new(host, usual);
                (format!(" at {host}"), Some(Flow { client: nobody, server }))
            }
            Wires::Ethernet { interface } => (format!(" on {}", interface.value), None),
            Wires::Connect { to } => {
                let server = SocketAddrV4::new(to.value.host, to.value.port);
                let client = SocketAddrV4::new(own, 40_000 + at);
                (format!(" to {server}"), Some(Flow { client, server }))
            }
        };
        let name = port.name.value.clone();
        Some(Port { name, description: format!("{protocol}{description}"), protocol, flow })
    };
    (0u16..).zip(&project.ports).filter_map(port).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_that_is_sooner_than_the_line_allows_stays_behind_its_request() {
        let message = |port: &str, at, side| Waiting {
            at,
            port: port.into(),
            who: None,
            datagram: None,
            side,
            bytes: vec![1],
            comment: String::new(),
        };
        let mut waiting = vec![message("raceway", 9_000, Side::Asks), message("pump", 9_500, Side::Asks)];
        keep_order(&mut waiting, 4_000, "raceway", None);
        waiting.push(message("raceway", 4_000, Side::Answers));
        waiting.sort_by_key(|own| own.at);
        let order: Vec<_> = waiting.iter().map(|own| (own.port.as_str(), own.side, own.at)).collect();
        let wanted =
            [("raceway", Side::Asks, 4_000), ("raceway", Side::Answers, 4_000), ("pump", Side::Asks, 9_500)];
        assert_eq!(order, wanted);
    }
}
