//! Where traffic comes from: a running converter, a line, or a capture.

use crate::Failure;
use std::collections::HashSet;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_core::project::Wires;
use woodrush_core::protocol::{DIALECTS, Dialect, Setup, dialect};
use woodrush_engine::Moment;
use woodrush_engine::capture::{Capture, Caught};
use woodrush_engine::speak::Side;
use woodrush_engine::tap::{Chunk, Dated, Follow, LineListener, Spoken, Taken};

/// How long a look waits, so that the end of the command is heard in time.
const LOOK: Duration = Duration::from_millis(200);
/// Pieces of a capture that are taken at once.
const BATCH: usize = 500;
/// A request of a capture counts as not answered after so long, in microseconds.
const PATIENCE: u64 = 5_000_000;

/// Where traffic comes from.
pub(super) enum Source {
    Converter(Follow),
    Line(LineListener),
    File(Box<FileSource>),
}

/// What came at one look.
pub(super) struct Batch {
    pub(super) now: Moment,
    pub(super) taken: Taken,
    /// Ports that were not known before, with what is used there.
    pub(super) learnt: Vec<(String, Spoken)>,
}

impl Source {
    pub(super) fn dated(&self) -> Dated {
        match self {
            Self::Converter(follow) => follow.dated,
            Self::Line(listener) => listener.dated,
            Self::File(_) => Dated::plain(),
        }
    }

    /// What has passed since the last look; `None` at its end, with the reason where there is one.
    pub(super) fn look(&mut self) -> Result<Option<Batch>, Failure> {
        let look = |now, taken| Some(Batch { now, taken, learnt: vec![] });
        match self {
            Self::Converter(follow) => match follow.fetch(LOOK) {
                Ok(Some((now, taken))) => Ok(look(now, taken)),
                Ok(None) => Ok(look(Moment(0), Taken::default())),
                Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => {
                    Err(Failure::Outside("the converter has ended".into()))
                }
                Err(error) => Err(Failure::Outside(format!("the converter is gone: {error}"))),
            },
            Self::Line(listener) => match listener.fetch(LOOK) {
                Ok((now, taken)) => Ok(look(now, taken)),
                Err(_) => Err(Failure::Outside("the line is gone: was the adapter pulled out?".into())),
            },
            Self::File(file) => file.look(),
        }
    }
}

/// A capture, with the ports of the project that its connections belong to.
pub(super) struct FileSource {
    capture: Capture,
    /// Where ports of the project answer or ask, and their names.
    servers: Vec<(SocketAddr, String)>,
    known: HashSet<String>,
    /// A protocol that was named for what does not tell its own.
    protocol: Option<&'static str>,
    cut: Option<String>,
    ended: bool,
    last: Moment,
    /// Bytes before which some are missing: they begin the next look.
    behind_gap: Option<Caught>,
}

impl FileSource {
    pub(super) fn open(
        file: Vec<u8>,
        checked: Option<&Checked>,
        protocol: Option<&'static str>,
    ) -> Result<Self, Failure> {
        let capture = Capture::open(file).map_err(|cut| Failure::Usage(cut.to_string()))?;
        let mut servers = vec![];
        for port in checked.map_or(&[][..], |checked| checked.project.ports.as_slice()) {
            let at = match &port.wires {
                Some(Wires::Listen { at }) => &at.value,
                Some(Wires::Connect { to }) => &to.value,
                _ => continue,
            };
            servers.push((SocketAddr::from((at.host, at.port)), port.name.value.clone()));
        }
        let known = checked.map(|checked| Spoken::of(checked).into_keys().collect()).unwrap_or_default();
        Ok(Self {
            capture,
            servers,
            known,
            protocol,
            cut: None,
            ended: false,
            last: Moment(0),
            behind_gap: None,
        })
    }

    fn look(&mut self) -> Result<Option<Batch>, Failure> {
        if let Some(cut) = self.cut.take() {
            return Err(Failure::Outside(format!("{cut}; what came before it is shown")));
        }
        if self.ended {
            return Ok(None);
        }
        let (mut taken, mut learnt) = (Taken::default(), vec![]);
        let servers = &self.servers;
        let is_server = |at: SocketAddr| {
            let usual = DIALECTS.iter().any(|dialect| dialect.framing().usual_tcp_port() == Some(at.port()));
            usual || servers.iter().any(|(known, _)| matches(*known, at))
        };
        while taken.pieces.len() < BATCH {
            let caught = match self.behind_gap.take() {
                Some(caught) => {
                    taken.lost += 1;
                    Ok(Some(caught))
                }
                None => self.capture.next(&is_server),
            };
            match caught {
                Ok(Some(caught)) if caught.gap && !taken.pieces.is_empty() => {
                    self.behind_gap = Some(caught);
                    break;
                }
                Ok(Some(caught)) => {
                    self.last = Moment(caught.at).max(self.last);
                    let port = port_of(&caught, servers, &self.known);
                    if !self.known.contains(&port)
                        && let Some(spoken) = spoken(&caught, self.protocol)
                    {
                        self.known.insert(port.clone());
                        learnt.push((port.clone(), spoken));
                    }
                    taken.pieces.push(piece(caught, &port));
                }
                Ok(None) => {
                    self.ended = true;
                    break;
                }
                Err(cut) => {
                    (self.cut, self.ended) = (Some(cut.to_string()), true);
                    break;
                }
            }
        }
        Ok(Some(Batch { now: self.last, taken, learnt }))
    }

    /// Packets that said nothing to us.
    pub(super) fn passed_over(&self) -> u64 {
        self.capture.passed_over
    }
}

fn matches(known: SocketAddr, at: SocketAddr) -> bool {
    known.port() == at.port() && (known.ip().is_unspecified() || known.ip() == at.ip())
}

/// The port of the project, or a name for what is none of it.
fn port_of(caught: &Caught, servers: &[(SocketAddr, String)], known: &HashSet<String>) -> String {
    // Our own captures have an interface for each port, and say what is used there.
    if known.contains(&caught.interface) || described(caught).is_some() {
        return caught.interface.clone();
    }
    let own = caught.server.and_then(|at| servers.iter().find(|(known, _)| matches(*known, at)));
    match (own, caught.server) {
        (Some((_, name)), _) => name.clone(),
        // One name for all who ask there.
        (None, Some(at)) => at.to_string(),
        (None, None) if caught.interface.is_empty() => "capture".into(),
        (None, None) => caught.interface.clone(),
    }
}

fn described(caught: &Caught) -> Option<&'static dyn Dialect> {
    caught.description.split(' ').next().and_then(dialect)
}

fn spoken(caught: &Caught, named: Option<&'static str>) -> Option<Spoken> {
    let told = || {
        let name = caught.dissector.as_deref()?;
        DIALECTS.into_iter().find(|dialect| dialect.framing().dissector() == Some(name))
    };
    let usual = || {
        let port = caught.server?.port();
        DIALECTS.into_iter().find(|dialect| dialect.framing().usual_tcp_port() == Some(port))
    };
    let protocol = named.or_else(|| described(caught).or_else(told).or_else(usual).map(|own| own.name()))?;
    Some(Spoken {
        protocol,
        setup: Setup::default(),
        stations: vec![],
        published: vec![],
        patience: PATIENCE,
    })
}

fn piece(caught: Caught, port: &str) -> Chunk {
    let who: Option<Arc<str>> = caught.client.map(|client| client.to_string().into());
    let at = Moment(caught.at);
    let side = if caught.bytes.is_empty() { Side::Either } else { caught.side };
    Chunk { port: port.into(), who, side, began: at, ended: at, bytes: caught.bytes }
}
