//! A client that waits for its answers, on a socket or a line: simulated clients, the proof, and people at the keyboard ask
//! through it.

use crate::Moment;
use crate::moment::Clock;
use crate::port::echo::Unecho;
use crate::port::wait::{readable, write_all};
use crate::speak::{Act, Ask, Client, ClientSetup, Message, News, Ticket, another, speaker};
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, connect, socket_with};
use std::io::ErrorKind;
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::sync::Arc;
use std::time::Duration;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{Extent, Setup};
use woodrush_core::{Blame, Kind, Refusal};

/// Most bytes of an exchange that are kept as evidence.
const EVIDENCE_MAX: usize = 512;

/// What an exchange looked like from outside.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Evidence {
    /// Bytes that went out, the last ones.
    pub sent: Vec<u8>,
    /// Bytes that came since, the first ones.
    pub came: Vec<u8>,
    /// The other end hung up.
    pub closed: bool,
    /// From the request's beginning to its end, in microseconds.
    pub took: u64,
    /// Why a running converter did not ask at all, in its words.
    pub unasked: Option<String>,
}

/// One way to a server of one station.
pub struct Dialer {
    wire: OwnedFd,
    client: Box<dyn Client>,
    clock: Clock,
    next: u64,
    line: LineTime,
    /// Keys of its protocol at this end.
    port: Setup,
    /// Bytes take their time here, because nothing else lets it pass.
    paced: bool,
    echo: Option<Unecho>,
    evidence: Evidence,
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
        let line =
            LineTime { char_nanos: 0, frame_gap: 0, own_frame_gap: 0, timeout, turnaround: 0, hurry: false };
        Self::over(stream.into(), line, protocol, station)
    }

    /// Over an open, non-blocking descriptor; on a line bytes take their time.
    ///
    /// # Errors
    /// The protocol cannot be spoken.
    pub fn over(wire: OwnedFd, line: LineTime, protocol: &str, station: &Station) -> std::io::Result<Self> {
        // The dialer is the other end of the station.
        let port =
            station.dialect.map(|dialect| dialect.stations().other_end(&station.setup)).unwrap_or_default();
        Self::new(wire, line, protocol, station, port, true)
    }

    /// Over a way that we have opened ourselves, as the converter would; `echo` where an adapter gives back what is sent.
    ///
    /// # Errors
    /// The protocol cannot be spoken.
    pub(crate) fn opened(
        wire: OwnedFd,
        line: LineTime,
        protocol: &str,
        station: &Station,
        echo: bool,
    ) -> std::io::Result<Self> {
        let mut dialer = Self::new(wire, line, protocol, station, station.setup.clone(), false)?;
        dialer.echo = echo.then(Unecho::default);
        Ok(dialer)
    }

    fn new(
        wire: OwnedFd,
        line: LineTime,
        protocol: &str,
        station: &Station,
        port: Setup,
        paced: bool,
    ) -> std::io::Result<Self> {
        let client = speaker(protocol).and_then(|speaker| speaker.client).ok_or(ErrorKind::Unsupported)?;
        let setup = ClientSetup {
            stations: std::slice::from_ref(station),
            line,
            retries: 0,
            port: &port,
            first: another(),
        };
        let client = client(&setup);
        let clock = Clock::start();
        Ok(Self {
            wire,
            client,
            clock,
            next: 0,
            line,
            port,
            paced,
            echo: None,
            evidence: Evidence::default(),
        })
    }

    /// Asks another station from now on.
    pub fn turn_to(&mut self, station: &Station) {
        let stations = std::slice::from_ref(station);
        self.client.set_up(&ClientSetup {
            stations,
            line: self.line,
            retries: 0,
            port: &self.port,
            first: 0,
        });
    }

    /// What the last exchange looked like.
    #[must_use]
    pub fn evidence(&self) -> &Evidence {
        &self.evidence
    }

    /// Reads cells.
    ///
    /// # Errors
    /// What the server answered instead, or that it did not.
    pub fn read(&mut self, extent: Extent) -> Result<Vec<u8>, Refusal> {
        self.ask(Ask::read(0, extent))
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

    /// Asks for anything that a station can be asked for.
    ///
    /// # Errors
    /// What the server answered instead, or that it did not.
    pub fn ask(&mut self, ask: Ask) -> Result<Vec<u8>, Refusal> {
        self.evidence = Evidence::default();
        let began = self.clock.now();
        let result = self.exchange(ask);
        self.evidence.took = self.clock.now().since(began);
        result
    }

    fn exchange(&mut self, ask: Ask) -> Result<Vec<u8>, Refusal> {
        let ticket = Ticket(self.next);
        self.next += 1;
        let parts = match &ask {
            Ask::Read { parts, .. } => Arc::clone(parts),
            _ => Arc::default(),
        };
        self.client.ask(ticket, ask);
        let mut chunk = [0; 1024];
        loop {
            let now = self.clock.now();
            match self.client.poll(now) {
                Act::Send(bytes) => {
                    self.on_the_wire(bytes.len());
                    // What came before belongs to an earlier try.
                    self.evidence.came.clear();
                    self.evidence.sent.clone_from(&bytes);
                    if let Some(echo) = &mut self.echo {
                        echo.sent(&bytes);
                    }
                    if write_all(&self.wire, &bytes).is_err() {
                        self.hung_up(now);
                    }
                }
                Act::Done(done, result) if done == ticket => {
                    return result.and_then(|values| values.of_use(&parts));
                }
                Act::Done(..) | Act::Came(..) | Act::Stopped(..) | Act::Tell(_) => {}
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
                        Ok(0) => self.hung_up(now),
                        Ok(count) => {
                            self.on_the_wire(count);
                            let mut bytes = chunk.get(..count).unwrap_or_default();
                            if let Some(echo) = &mut self.echo {
                                bytes = echo.came(bytes);
                            }
                            let room = EVIDENCE_MAX.saturating_sub(self.evidence.came.len());
                            self.evidence.came.extend(bytes.iter().take(room));
                            self.client.handle(self.clock.now(), News::Bytes(bytes));
                        }
                        Err(Errno::AGAIN | Errno::INTR) => {}
                        Err(_) => self.hung_up(now),
                    }
                }
            }
        }
    }

    fn hung_up(&mut self, now: Moment) {
        self.evidence.closed = true;
        self.client.handle(now, News::Down);
    }

    /// Lets the time pass that bytes take on a line.
    fn on_the_wire(&self, bytes: usize) {
        if !self.paced {
            return;
        }
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
