//! A client that waits for its answers, on a socket or a line: simulated clients and the proof ask through it.

use crate::Moment;
use crate::moment::Clock;
use crate::port::wait::{readable, write_all};
use crate::speak::{Act, Ask, Client, ClientSetup, Message, News, Ticket, speaker};
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, connect, socket_with};
use std::io::ErrorKind;
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::time::Duration;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Extent;
use woodrush_core::{Blame, Kind, Refusal};

/// One way to a server of one station.
pub struct Dialer {
    wire: OwnedFd,
    client: Box<dyn Client>,
    clock: Clock,
    next: u64,
    line: LineTime,
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
        stream.set_nonblocking(true)?;
        let line = LineTime { char_nanos: 0, silence: 0, own_silence: 0, timeout, turnaround: 0 };
        Self::over(stream.into(), line, protocol, station)
    }

    /// Over an open, non-blocking descriptor; on a line bytes take their time.
    ///
    /// # Errors
    /// The protocol cannot be spoken.
    pub fn over(wire: OwnedFd, line: LineTime, protocol: &str, station: &Station) -> std::io::Result<Self> {
        let speaker = speaker(protocol).ok_or(ErrorKind::Unsupported)?;
        // Whoever dials is the other end of the station.
        let port = station.dialect.map(|dialect| dialect.other_end(&station.setup)).unwrap_or_default();
        let setup = ClientSetup { stations: std::slice::from_ref(station), line, retries: 0, port: &port };
        Ok(Self { wire, client: (speaker.client)(&setup), clock: Clock::start(), next: 0, line })
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

    /// Sends a whole request to any unit and gives back the whole answer.
    ///
    /// # Errors
    /// That no sound answer came.
    pub fn pass(&mut self, unit: u16, message: Message) -> Result<Vec<u8>, Refusal> {
        self.ask(Ask::Pass { unit, message })
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
                    self.on_the_wire(bytes.len());
                    if write_all(&self.wire, &bytes).is_err() {
                        self.client.handle(now, News::Down);
                    }
                }
                Act::Done(done, result) if done == ticket => return result,
                Act::Done(..) => {}
                Act::HangUp(_) => {
                    // Whatever comes after this is for nobody.
                    let _ = rustix::net::shutdown(&self.wire, rustix::net::Shutdown::Both);
                    self.client.handle(now, News::Down);
                }
                Act::Rest => return Err(Refusal::new(Kind::NoAnswer, Blame::Us)),
                Act::WaitUntil(moment) => {
                    if !readable(&self.wire, moment.since(now).max(1)) {
                        continue;
                    }
                    match rustix::io::read(&self.wire, &mut chunk) {
                        Ok(0) => self.client.handle(now, News::Down),
                        Ok(count) => {
                            self.on_the_wire(count);
                            let bytes = chunk.get(..count).unwrap_or_default();
                            self.client.handle(self.clock.now(), News::Bytes(bytes));
                        }
                        Err(Errno::AGAIN | Errno::INTR) => {}
                        Err(_) => self.client.handle(now, News::Down),
                    }
                }
            }
        }
    }

    /// Lets the time pass that bytes take on a line.
    fn on_the_wire(&self, bytes: usize) {
        let takes = self.line.bytes(u32::try_from(bytes).unwrap_or(u32::MAX));
        if takes > 0 {
            let until = self.clock.now() + takes;
            pass(&self.clock, until);
        }
    }
}

fn pass(clock: &Clock, until: Moment) {
    let left = until.since(clock.now());
    #[allow(
        clippy::disallowed_methods,
        reason = "the simulated client waits as its line would make it wait"
    )]
    std::thread::sleep(Duration::from_micros(left));
}
