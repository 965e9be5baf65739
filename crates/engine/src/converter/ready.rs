//! Ports that are ready to begin, and those that are open.

use super::serve::{ReadyServing, Serving};
use crate::moment::Clock;
use crate::net::{ReadyNet, Sockets};
use crate::port::pipe::{self, PipeEnds};
use crate::port::worker::{IdleWorker, Worker};
use crate::port::{Begin, OpenedPort, Way, drive};
use crate::shared::{Event, Identity, PortSettings, Site};
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A port that is ready to begin, or several that share a thread: everything that could fail has been done.
pub(super) struct ReadyPort {
    pub(super) ports: Vec<ReadyName>,
    pub(super) at: Ready,
}

/// Which port it is.
pub(super) struct ReadyName {
    name: String,
    identity: Option<Identity>,
    /// Of its lines and virtual ports.
    paths: Vec<PathBuf>,
}

impl ReadyName {
    pub(super) fn new(settings: &PortSettings, paths: &[Option<&Path>]) -> Self {
        let (name, identity) = (settings.name.clone(), settings.identity.clone());
        Self { name, identity, paths: paths.iter().flatten().map(PathBuf::from).collect() }
    }
}

/// With what it begins.
pub(super) enum Ready {
    Serving(ReadyServing),
    Line {
        worker: IdleWorker,
        ways: Vec<(usize, Way, Begin)>,
        asks: bool,
    },
    /// With where messages are taken, and what is missing.
    Network {
        net: Box<ReadyNet>,
        messages: Option<SocketAddr>,
        missing: Option<String>,
    },
    /// With a second descriptor of the socket on which others come, or where that would be.
    Pipe {
        worker: IdleWorker,
        ends: Box<PipeEnds>,
        socket: Option<(TcpListener, SocketAddr)>,
        missing: Option<SocketAddr>,
    },
}

impl ReadyPort {
    /// How many ports.
    pub(super) fn count(&self) -> usize {
        self.ports.len()
    }

    /// Begins; the project that it is of runs.
    pub(super) fn begin(self, site: &Arc<Site>, clock: Clock) -> Vec<OpenPort> {
        let shared = site.current();
        let first = self.ports.first().map(|own| own.name.as_str());
        let index = shared.ports.iter().position(|port| Some(port.name.as_str()) == first);
        let down = |why: String| {
            if let Some(port) = index {
                shared.tell(Event::PortDown { port, why });
            }
        };
        let at = match self.at {
            Ready::Serving(serving) => Some(Opened::Serving(serving.begin())),
            Ready::Line { worker, ways, asks } => {
                let now = clock.now();
                let opened = ways
                    .into_iter()
                    .map(|(at, way, begin)| OpenedPort::begin(&shared, at, (way, begin), now));
                drive(worker, site, opened.collect(), asks, clock).map(Opened::Thread)
            }
            Ready::Network { net, messages, missing } => {
                missing.into_iter().for_each(down);
                let spare = net.spare();
                Some(Opened::Network { worker: net.begin(), messages, spare })
            }
            Ready::Pipe { worker, ends, socket, missing } => {
                if let Some(wanted) = missing {
                    down(format!("{} is not an address of this machine yet", wanted.ip()));
                }
                Some(Opened::Pipe { _worker: pipe::begin(worker, site, *ends, clock), socket })
            }
        };
        let mut at = at;
        let open = |own: ReadyName| {
            let at = at.take().unwrap_or(Opened::Along);
            Some(OpenPort { name: own.name, identity: own.identity?, paths: own.paths, at })
        };
        self.ports.into_iter().filter_map(open).collect()
    }
}

/// One open port: its name, and what must be the same in another project for it to stay open.
pub(super) struct OpenPort {
    pub(super) name: String,
    pub(super) identity: Identity,
    /// Of its lines and virtual ports.
    pub(super) paths: Vec<PathBuf>,
    at: Opened,
}

enum Opened {
    Serving(Arc<Serving>),
    Thread(Worker),
    /// By the thread of another one.
    Along,
    /// With where messages are taken, and second descriptors of its sockets.
    Network {
        worker: Worker,
        messages: Option<SocketAddr>,
        spare: Option<Sockets>,
    },
    /// Held so that it goes on; with a second descriptor of its socket and where that is.
    Pipe {
        _worker: Worker,
        socket: Option<(TcpListener, SocketAddr)>,
    },
}

impl OpenPort {
    /// Whether it is this port, opened by the same.
    pub(super) fn is(&self, port: &PortSettings) -> bool {
        port.name == self.name && port.identity.as_ref() == Some(&self.identity)
    }

    pub(super) fn serving(&self) -> Option<&Arc<Serving>> {
        if let Opened::Serving(serving) = &self.at { Some(serving) } else { None }
    }

    /// Whether it is this listening port.
    pub(super) fn serves(&self, serving: &Arc<Serving>) -> bool {
        self.serving().is_some_and(|own| Arc::ptr_eq(own, serving))
    }

    /// The socket that it listens on, once more.
    pub(super) fn socket(&self) -> Option<TcpListener> {
        match &self.at {
            Opened::Serving(serving) => serving.socket(),
            Opened::Pipe { socket, .. } => socket.as_ref().and_then(|(socket, _)| socket.try_clone().ok()),
            Opened::Thread(_) | Opened::Along | Opened::Network { .. } => None,
        }
    }

    /// Second descriptors of its sockets on a network.
    pub(super) fn spare(&self) -> Option<&Sockets> {
        if let Opened::Network { spare, .. } = &self.at { spare.as_ref() } else { None }
    }

    /// Where others reach it.
    pub(super) fn listens_at(&self) -> Option<SocketAddr> {
        match &self.at {
            Opened::Serving(serving) => serving.real(),
            Opened::Pipe { socket, .. } => socket.as_ref().map(|(_, at)| *at),
            Opened::Network { messages, .. } => *messages,
            Opened::Thread(_) | Opened::Along => None,
        }
    }

    /// Lets it look whether the project has changed.
    pub(super) fn look(&self) {
        if let Opened::Thread(worker) | Opened::Network { worker, .. } = &self.at {
            worker.ring();
        }
    }

    /// Closes it, with all its connections.
    pub(super) fn close(self) {
        if let Opened::Serving(serving) = &self.at {
            serving.close();
        }
    }
}
