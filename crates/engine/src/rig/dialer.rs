//! A client on a socket that waits for its answers: simulated clients and the proof ask through it.

use crate::moment::Clock;
use crate::speak::{Act, Ask, Client, ClientSetup, News, Ticket, speaker};
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, connect, socket_with};
use std::io::{ErrorKind, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::time::Duration;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// One connection to a server of one station.
pub struct Dialer {
    stream: TcpStream,
    client: Box<dyn Client>,
    clock: Clock,
    next: u64,
}

impl Dialer {
    /// Connects to a listening port; `from` is the loopback address that stands for a client on the bench.
    ///
    /// # Errors
    /// The connection cannot be made, or the station's protocol cannot be spoken.
    pub fn connect(
        to: SocketAddr,
        from: Option<Ipv4Addr>,
        protocol: &str,
        station: &Station,
        timeout: u64,
    ) -> std::io::Result<Self> {
        let speaker = speaker(protocol).ok_or(ErrorKind::Unsupported)?;
        let stream = match from {
            None => TcpStream::connect_timeout(&to, Duration::from_micros(timeout.max(1000)))?,
            Some(own) => {
                let socket =
                    socket_with(AddressFamily::INET, SocketType::STREAM, SocketFlags::CLOEXEC, None)?;
                bind(&socket, &SocketAddr::from((own, 0)))?;
                connect(&socket, &to)?;
                TcpStream::from(socket)
            }
        };
        stream.set_nodelay(true)?;
        let line = LineTime { char_nanos: 0, silence: 0, own_silence: 0, timeout };
        let setup = ClientSetup { stations: std::slice::from_ref(station), line, retries: 0 };
        Ok(Self { stream, client: (speaker.client)(&setup), clock: Clock::start(), next: 0 })
    }

    /// Reads cells.
    ///
    /// # Errors
    /// What the server answered instead, or that it did not.
    pub fn read(&mut self, extent: Extent) -> Result<Vec<u8>, Refusal> {
        self.ask(Ask::Read { station: 0, extent })
    }

    /// Writes cells.
    ///
    /// # Errors
    /// What the server answered instead, or that it did not.
    pub fn write(&mut self, extent: Extent, cells: Vec<u8>) -> Result<(), Refusal> {
        self.ask(Ask::Write { station: 0, extent, cells }).map(|_| ())
    }

    fn ask(&mut self, ask: Ask) -> Result<Vec<u8>, Refusal> {
        let ticket = Ticket(self.next);
        self.next += 1;
        self.client.ask(ticket, ask);
        let mut chunk = [0; 1024];
        loop {
            let now = self.clock.now();
            match self.client.poll(now) {
                Act::Send(bytes) => {
                    if self.stream.write_all(&bytes).is_err() {
                        self.client.handle(now, News::Down);
                    }
                }
                Act::Done(done, result) if done == ticket => return result,
                Act::Done(..) => {}
                Act::Rest => return Err(Refusal::new(Kind::NoAnswer, Blame::Us)),
                Act::WaitUntil(moment) => {
                    let wait = Duration::from_micros(moment.since(now).max(1));
                    // A wait of that length is always allowed.
                    let _ = self.stream.set_read_timeout(Some(wait));
                    match self.stream.read(&mut chunk) {
                        Ok(0) => self.client.handle(now, News::Down),
                        Ok(count) => self
                            .client
                            .handle(self.clock.now(), News::Bytes(chunk.get(..count).unwrap_or_default())),
                        Err(error)
                            if matches!(
                                error.kind(),
                                ErrorKind::WouldBlock | ErrorKind::TimedOut | ErrorKind::Interrupted
                            ) => {}
                        Err(_) => self.client.handle(now, News::Down),
                    }
                }
            }
        }
    }
}
