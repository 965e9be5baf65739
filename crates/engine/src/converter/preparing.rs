//! Opening whatever a project needs, before anything of the one that runs is touched.

use super::bindings::{Bindings, listen_fault};
use super::ready::{OpenPort, Ready, ReadyName, ReadyPort};
use super::running::StartFault;
use super::serve;
use crate::admission::ListenPlace;
use crate::moment::Clock;
use crate::net::{self, NetPlace, Place};
use crate::port::pipe::{Front, PipeEnds};
use crate::port::worker::IdleWorker;
use crate::port::{Begin, Way, can_drive};
use crate::shared::{Identity, PortSettings, Role, Shared, Site};
use std::net::{SocketAddr, TcpListener};
use std::path::Path;
use std::sync::Arc;
use tokio::runtime::Handle;
use woodrush_core::check::Checked;
use woodrush_core::project::{HostPort, Port, Wires};
use woodrush_core::protocol::dialect;

/// Whether ports are opened for the first time or for a changed project.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum When {
    Start,
    Reload,
}

/// The ports of a project that runs, or will.
pub(super) struct Preparing<'a> {
    pub(super) site: &'a Arc<Site>,
    pub(super) clock: Clock,
    pub(super) bindings: &'a Bindings,
    /// Those of the project that runs.
    pub(super) open: &'a [OpenPort],
    /// `None` only while the converter ends.
    pub(super) runtime: Option<Handle>,
    pub(super) checked: &'a Checked,
    pub(super) shared: &'a Arc<Shared>,
    pub(super) when: When,
}

/// One port of it.
struct OnePort<'a> {
    at: usize,
    port: &'a Port,
    settings: &'a PortSettings,
    identity: &'a Identity,
}

impl OnePort<'_> {
    fn fault(&self, what: String, fix: &str) -> StartFault {
        StartFault { port: self.settings.name.clone(), what, fix: fix.into() }
    }

    fn worker(&self, name: &str) -> Result<IdleWorker, StartFault> {
        IdleWorker::new(name).map_err(|error| {
            self.fault(format!("no thread: {error}"), "free memory, or raise the limits of threads and files")
        })
    }

    fn named(&self, paths: &[Option<&Path>]) -> ReadyName {
        ReadyName::new(self.settings, paths)
    }
}

impl<'a> Preparing<'a> {
    /// All that are not open yet. Sockets first: a port in use is found before any line is opened.
    ///
    /// # Errors
    /// The first that cannot be opened.
    pub(super) fn all(&self) -> Result<Vec<ReadyPort>, StartFault> {
        let mut ports: Vec<OnePort<'_>> =
            (0..self.checked.project.ports.len()).filter_map(|at| self.port(at)).collect();
        ports.sort_by_key(|own| !matches!(&own.port.wires, Some(Wires::Listen { .. })));
        let (mut ready, mut along): (Vec<ReadyPort>, Vec<usize>) = (vec![], vec![]);
        for own in ports {
            if along.contains(&own.at) || self.open.iter().any(|open| open.is(own.settings)) {
                continue;
            }
            ready.extend(match (&own.identity.role, &own.port.wires) {
                (Role::Idle, _) => None,
                (Role::Pipes(to), wires) => self.pipe(&own, to, wires.as_ref())?,
                (_, Some(Wires::Listen { at })) => self.listening(&own, at)?,
                (_, Some(Wires::Network { at })) => Some(self.network(&own, Place::Address(at.value))?),
                (_, Some(Wires::Ethernet { interface })) => {
                    Some(self.network(&own, Place::Interface(interface.value.clone()))?)
                }
                (role, _) => {
                    let asks = *role == Role::Asks;
                    // Those that have a device in common have one schedule, and so one thread.
                    let together = if asks { self.shared.plan.ports_together(own.at) } else { vec![own.at] };
                    along.extend(&together);
                    self.line(&own, &together, asks)?
                }
            });
        }
        Ok(ready)
    }

    fn port(&self, at: usize) -> Option<OnePort<'a>> {
        let (port, settings) = (self.checked.project.ports.get(at)?, self.shared.ports.get(at)?);
        Some(OnePort { at, port, settings, identity: settings.identity.as_ref()? })
    }

    fn listening(&self, own: &OnePort<'_>, at: &HostPort) -> Result<Option<ReadyPort>, StartFault> {
        let place = self.bind(own, at)?;
        let Some(runtime) = self.runtime.clone() else { return Ok(None) };
        let aliases = self.bindings.bench.clone();
        let serving = serve::prepare(self.site, own.settings, place, aliases, self.clock, runtime).map_err(
            |error| own.fault(format!("it cannot be served: {error}"), "raise the limit of open files"),
        )?;
        Ok(Some(ReadyPort { ports: vec![own.named(&[])], at: Ready::Serving(serving) }))
    }

    fn network(&self, own: &OnePort<'_>, at: Place) -> Result<ReadyPort, StartFault> {
        let before = self.open.iter().find(|open| open.identity.wires == own.identity.wires);
        let elsewhere = self.bindings.elsewhere(own.at);
        let usual = dialect(own.settings.protocol).and_then(|own| own.framing().usual_tcp_port());
        let address = at.address().map(|own| elsewhere.own.unwrap_or(own));
        let place = NetPlace {
            at,
            elsewhere,
            aliases: self.bindings.bench.clone(),
            spare: before.and_then(OpenPort::spare),
            may_wait: self.bindings.may_be_missing,
        };
        let (net, missing) = net::prepare(self.site, self.shared, own.at, place, self.clock)
            .map_err(|open| own.fault(open.what, &open.fix))?;
        let messages = address.map(|own| SocketAddr::from((own, usual.unwrap_or(0))));
        let at = Ready::Network { net: Box::new(net), messages, missing };
        Ok(ReadyPort { ports: vec![own.named(&[])], at })
    }

    fn pipe(
        &self,
        own: &OnePort<'_>,
        to: &str,
        wires: Option<&Wires>,
    ) -> Result<Option<ReadyPort>, StartFault> {
        let other =
            self.shared.ports.iter().position(|port| port.name == to).and_then(|at| self.port_of_pipe(at));
        let Some((other, back)) = other else { return Ok(None) };
        let (front, first, socket) = if let Some(Wires::Listen { at }) = wires {
            let place = self.bind(own, at)?;
            let socket = place.second().map_err(|error| {
                own.fault(format!("no descriptor: {error}"), "raise the limit of open files")
            })?;
            (Front::Listen(place, self.bindings.bench.clone()), Begin::Later, socket)
        } else {
            let Some(way) = self.bindings.way(own.at, own.port) else { return Ok(None) };
            let first = self.begin(own.port, &way)?;
            (Front::Way(way), first, None)
        };
        let second = self.begin(other, &back)?;
        let path = if let Front::Way(way) = &front { way.path() } else { None };
        let ports = vec![own.named(&[path, back.path()])];
        let missing = match &front {
            Front::Listen(ListenPlace { wanted, listener: None }, _) => Some(*wanted),
            _ => None,
        };
        let at = self.shared.ports.iter().position(|port| port.name == to).unwrap_or(usize::MAX);
        let ends = Box::new(PipeEnds { from: (own.at, front, first), to: (at, back, second) });
        let at = Ready::Pipe { worker: own.worker("pipe")?, ends, socket, missing };
        Ok(Some(ReadyPort { ports, at }))
    }

    /// The port on which the bytes of a pipe go on.
    fn port_of_pipe(&self, at: usize) -> Option<(&'a Port, Way)> {
        let port = self.checked.project.ports.get(at)?;
        Some((port, self.bindings.way(at, port)?))
    }

    fn line(
        &self,
        own: &OnePort<'_>,
        together: &[usize],
        asks: bool,
    ) -> Result<Option<ReadyPort>, StartFault> {
        let (mut ports, mut ways) = (vec![], vec![]);
        let others = together.iter().copied().filter(|other| *other != own.at);
        for one in std::iter::once(own.at).chain(others).filter_map(|at| self.port(at)) {
            if !can_drive(self.shared, one.at, asks) {
                return Err(one.fault("the port has no protocol".into(), "add `protocol`"));
            }
            let Some(way) = self.bindings.way(one.at, one.port) else { continue };
            ports.push(one.named(&[way.path()]));
            let begin = self.begin(one.port, &way)?;
            ways.push((one.at, way, begin));
        }
        if ways.is_empty() {
            return Ok(None);
        }
        let worker = own.worker(&format!("port-{}", own.at))?;
        Ok(Some(ReadyPort { ports, at: Ready::Line { worker, ways, asks } }))
    }

    /// What a line or connection begins with. A line of a port that will be closed is opened once that is; a connection is
    /// made beside everything else.
    fn begin(&self, port: &Port, way: &Way) -> Result<Begin, StartFault> {
        let ours = |open: &OpenPort| way.path().is_some_and(|own| open.paths.iter().any(|path| path == own));
        if !way.must_open() || self.open.iter().any(ours) {
            return Ok(Begin::Later);
        }
        match way.open() {
            Ok(open) => Ok(Begin::Opened(open)),
            Err(fault) if self.may_be_missing() && fault.missing => Ok(Begin::Missing(fault)),
            Err(fault) => Err(StartFault { port: port.name.value.clone(), what: fault.what, fix: fault.fix }),
        }
    }

    fn may_be_missing(&self) -> bool {
        self.when == When::Start && self.bindings.may_be_missing
    }

    /// Binds a listening port; to an address that a port of the old project has, by the socket that is there.
    fn bind(&self, own: &OnePort<'_>, place: &HostPort) -> Result<ListenPlace, StartFault> {
        let wanted = match &self.bindings.bench {
            Some(_) => SocketAddr::from(([127, 0, 0, 1], 0)),
            None => SocketAddr::from((place.host, place.port)),
        };
        let before = self.open.iter().find(|open| open.identity.wires == own.identity.wires);
        if let Some(listener) = before.and_then(OpenPort::socket) {
            return Ok(ListenPlace { wanted, listener: Some(listener) });
        }
        match TcpListener::bind(wanted) {
            Ok(listener) => Ok(ListenPlace { wanted, listener: Some(listener) }),
            Err(error) if error.kind() == std::io::ErrorKind::AddrNotAvailable && self.may_be_missing() => {
                Ok(ListenPlace { wanted, listener: None })
            }
            Err(error) => Err(listen_fault(&|what, fix| own.fault(what, fix), wanted, &error)),
        }
    }
}
