//! A converter at work: its threads and tasks, from the first open to the last close, and the change to another project
//! in between.

use super::bindings::{Bindings, listen_fault};
use super::identity::{Identity, Role, kept};
use super::keeper::Keeper;
use super::serve::{self, Serving};
use crate::admission::ListenPlace;
use crate::moment::Clock;
use crate::net::{self, NetThread, Place};
use crate::port::pipe::{self, Front, Pipe};
use crate::port::tty::OpenFault;
use crate::port::{Begin, LineThread, Open, OpenedPort, Way, spawn};
use crate::shared::{Event, Shared, Site};
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::project::{Port, Wires};
use woodrush_core::protocol::dialect;

/// Why a converter cannot start: one port, in words, with the fix.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("port `{port}`: {what} ({fix})")]
pub struct StartFault {
    /// Name of the port.
    pub port: String,
    /// What is in the way.
    pub what: String,
    /// What to do.
    pub fix: String,
}

/// One open port: its name, and what must be the same in another project for it to stay open.
struct OpenPort {
    name: String,
    kept_by: Identity,
    /// Of its lines and virtual ports.
    paths: Vec<PathBuf>,
    at: Opened,
}

impl OpenPort {
    /// Whether it is one of these ports, opened by the same.
    fn is_among(&self, wanted: &[(String, Identity)]) -> bool {
        wanted.iter().any(|(name, kept)| *name == self.name && *kept == self.kept_by)
    }
}

enum Opened {
    Serving(Arc<Serving>),
    Thread(LineThread),
    /// By the thread of another one.
    Along,
    /// With where messages are taken.
    Network(NetThread, Option<SocketAddr>),
    /// Held so that it goes on; with a second descriptor of its socket and where that is.
    Pipe(#[allow(dead_code, reason = "it ends when it is dropped")] Pipe, Option<(TcpListener, SocketAddr)>),
}

impl Opened {
    /// The socket that it listens on, once more.
    fn socket(&self) -> Option<TcpListener> {
        match self {
            Self::Serving(serving) => serving.socket(),
            Self::Pipe(_, socket) => socket.as_ref().and_then(|(socket, _)| socket.try_clone().ok()),
            Self::Thread(_) | Self::Along | Self::Network(..) => None,
        }
    }
}

/// A port that is to be opened, with what of it could be opened before.
struct Prepared {
    port: usize,
    kept: Identity,
    front: Prefix,
    /// The other side of a pipe.
    back: Option<Way>,
}

/// What a port begins with.
enum Prefix {
    Listens(ListenPlace),
    /// All sockets of an address, opened by its own thread.
    Network(Place),
    Opens(Way, Begin),
}

/// A converter at work; dropping it closes everything.
pub struct Running {
    /// The project that runs.
    pub site: Arc<Site>,
    clock: Clock,
    bindings: Bindings,
    open: Vec<OpenPort>,
    served: Arc<Mutex<Vec<Arc<Serving>>>>,
    keeper: Option<Keeper>,
    runtime: Option<tokio::runtime::Runtime>,
}

impl Drop for Running {
    fn drop(&mut self) {
        self.open.clear();
        self.keeper = None;
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_timeout(Duration::from_millis(500));
        }
    }
}

/// Opens every port and begins. `plan` may differ from the project's only in tests that break it on purpose.
///
/// # Errors
/// The first port that cannot be opened.
pub fn start(
    checked: &Checked,
    plan: Arc<Plan>,
    bindings: &Bindings,
    tell: impl Fn(Event) + Send + Sync + 'static,
) -> Result<Running, StartFault> {
    let shared = Shared::new(checked, plan, tell);
    let mut builder = tokio::runtime::Builder::new_multi_thread();
    let runtime = builder.worker_threads(2).enable_io().build().map_err(|error| StartFault {
        port: String::new(),
        what: format!("no threads: {error}"),
        fix: "free memory or raise the limit of threads".into(),
    })?;
    let served = Arc::default();
    let mut running = Running {
        site: Site::new(shared),
        clock: Clock::start(),
        bindings: bindings.clone(),
        open: vec![],
        keeper: Some(Keeper::spawn(&served)),
        served,
        runtime: Some(runtime),
    };
    let prepared = running.prepare(checked, &running.shared().plan, When::Start)?;
    running.open(prepared)?;
    Ok(running)
}

impl Running {
    /// Where each listening port really is, by index.
    #[must_use]
    pub fn listening(&self) -> Vec<(usize, SocketAddr)> {
        let shared = self.site.current();
        let place = |open: &OpenPort| {
            let port = shared.ports.iter().position(|port| port.name == open.name)?;
            match &open.at {
                Opened::Serving(serving) => Some((port, serving.real()?)),
                Opened::Pipe(_, Some((_, at))) | Opened::Network(_, Some(at)) => Some((port, *at)),
                _ => None,
            }
        };
        self.open.iter().filter_map(place).collect()
    }

    /// Where stations of networks are that are not where the project says: port, its own address, and the real one.
    #[must_use]
    pub fn elsewhere_stations(&self) -> Vec<(usize, Ipv4Addr, Ipv4Addr)> {
        self.bindings.network_stations.iter().map(|((port, own), real)| (*port, *own, *real)).collect()
    }

    /// What is shared now.
    #[must_use]
    pub fn shared(&self) -> Arc<Shared> {
        self.site.current()
    }

    pub(crate) fn clock(&self) -> Clock {
        self.clock
    }

    /// Takes a changed project: ports, connections and values that the change does not touch stay as they are. What is
    /// new is opened before anything old is closed. Says what was done.
    ///
    /// # Errors
    /// A port that is new or changed cannot be opened; then nothing has changed.
    pub fn reload(&mut self, checked: &Checked, plan: Arc<Plan>) -> Result<String, StartFault> {
        let prepared = self.prepare(checked, &plan, When::Reload)?;
        let old = self.site.current();
        let next = Arc::new(Shared::renewed(checked, plan, old.teller(), Some(&old)));
        next.adopt_values(&old);
        let wanted = wanted(checked, &next.plan);
        let before = self.open.len();
        self.open.retain(|open| {
            let stays = open.is_among(&wanted);
            if let (false, Opened::Serving(serving)) = (stays, &open.at) {
                serving.close();
            }
            stays
        });
        self.lock_served().retain(|serving| {
            self.open.iter().any(|open| matches!(&open.at, Opened::Serving(own) if Arc::ptr_eq(own, serving)))
        });
        let closed = before - self.open.len();
        for (name, queue) in old.ports.iter().map(|port| &port.name).zip(&old.queues) {
            if !self.open.iter().any(|open| open.name == *name) {
                queue.refuse_all();
            }
        }
        self.site.replace(next);
        for open in &self.open {
            match &open.at {
                Opened::Thread(thread) => thread.look(),
                Opened::Network(thread, _) => thread.look(),
                _ => {}
            }
        }
        let stayed = self.open.len();
        let opened = self.open(prepared);
        let what = format!(
            "reloaded: {stayed} ports stay open, {closed} closed, {} opened",
            self.open.len() - stayed
        );
        self.site.current().tell(Event::Reloaded { what: what.clone() });
        opened.map(|()| what)
    }

    fn lock_served(&self) -> std::sync::MutexGuard<'_, Vec<Arc<Serving>>> {
        self.served.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Opens as much as can be opened of the ports that a project has and that are not open yet, without touching those
    /// that are. Sockets first: a port in use is found before any line is opened.
    fn prepare(&self, checked: &Checked, plan: &Plan, when: When) -> Result<Vec<Prepared>, StartFault> {
        let listens = |port: &Port| matches!(&port.wires, Some(Wires::Listen { .. }));
        let mut ports: Vec<(usize, &Port)> = checked.project.ports.iter().enumerate().collect();
        ports.sort_by_key(|(_, port)| !listens(port));
        let wanted = wanted(checked, plan);
        let stays =
            |port: &Port| self.open.iter().any(|open| open.name == port.name.value && open.is_among(&wanted));
        let mut prepared = vec![];
        for (at, port) in ports {
            let Some(kept) = kept(checked, plan, at).filter(|kept| kept.role != Role::Idle) else { continue };
            if stays(port) {
                continue;
            }
            let back = match kept.role {
                Role::Pipes(to) => {
                    match checked.project.ports.get(to).and_then(|other| self.bindings.way(to, other)) {
                        Some(way) => Some(way),
                        None => continue,
                    }
                }
                _ => None,
            };
            let front = match &port.wires {
                Some(Wires::Listen { at: place }) => Prefix::Listens(self.bind(port, place, &kept, when)?),
                Some(Wires::Network { at }) => Prefix::Network(Place::Address(at.value)),
                Some(Wires::Ethernet { interface }) => {
                    Prefix::Network(Place::Interface(interface.value.clone()))
                }
                _ => match self.bindings.way(at, port) {
                    Some(way) => {
                        let begin = self.begin(port, &way, when)?;
                        Prefix::Opens(way, begin)
                    }
                    None => continue,
                },
            };
            prepared.push(Prepared { port: at, kept, front, back });
        }
        Ok(prepared)
    }

    /// Opens a line before the old project's ports are closed, where it is not one of those.
    fn begin(&self, port: &Port, way: &Way, when: When) -> Result<Begin, StartFault> {
        if when == When::Start {
            return Ok(if self.bindings.may_be_missing { Begin::OpenLater } else { Begin::Open });
        }
        let ours = |open: &OpenPort| way.path().is_some_and(|own| open.paths.iter().any(|path| path == own));
        if !way.must_open() || self.open.iter().any(ours) {
            return Ok(Begin::Whenever);
        }
        let opened: Result<Open, _> = way.open();
        opened.map(Begin::Opened).map_err(|fault| StartFault {
            port: port.name.value.clone(),
            what: fault.what,
            fix: fault.fix,
        })
    }

    /// Gives every prepared port its thread or task.
    fn open(&mut self, mut prepared: Vec<Prepared>) -> Result<(), StartFault> {
        prepared.reverse();
        while let Some(Prepared { port: at, kept, front, back }) = prepared.pop() {
            let shared = self.site.current();
            let Some(name) = shared.ports.get(at).map(|port| port.name.clone()) else { continue };
            let fault = |what: String, fix: &str| StartFault { port: name.clone(), what, fix: fix.into() };
            let no_thread = |error: std::io::Error| {
                fault(format!("no thread: {error}"), "free memory or raise the limit of threads")
            };
            let ways = [if let Prefix::Opens(way, _) = &front { Some(way) } else { None }, back.as_ref()];
            let paths = ways.into_iter().flatten().filter_map(Way::path).map(PathBuf::from).collect();
            let opened = match (front, back) {
                (Prefix::Listens(place), None) => {
                    let Some(runtime) = &self.runtime else { continue };
                    if place.listener.is_none() {
                        self.tell_missing(at, place.wanted);
                    }
                    let aliases = self.bindings.bench.clone();
                    let runtime = runtime.handle().clone();
                    let serving = serve::spawn(&self.site, at, place, aliases, self.clock, runtime)
                        .map_err(|error| fault(format!("it cannot be served: {error}"), "try again"))?;
                    self.lock_served().push(Arc::clone(&serving));
                    Opened::Serving(serving)
                }
                (Prefix::Opens(way, begin), None) => {
                    let asks = kept.role == Role::Asks;
                    let open_fault = |open: OpenFault| fault(open.what, &open.fix);
                    let open = |at, own| OpenedPort::begin(&shared, at, own, self.clock.now());
                    let mut ports = vec![open(at, (way, begin)).map_err(open_fault)?];
                    // Those that have a device in common with it have one schedule, and so one thread.
                    let together = if asks { shared.plan.ports_together(at) } else { vec![] };
                    for other in prepared.extract_if(.., |own| together.contains(&own.port)) {
                        let Some(name) = shared.ports.get(other.port).map(|port| port.name.clone()) else {
                            continue;
                        };
                        let Prefix::Opens(way, begin) = other.front else { continue };
                        let paths = way.path().map(PathBuf::from).into_iter().collect();
                        let opened = open(other.port, (way, begin)).map_err(|open| StartFault {
                            port: name.clone(),
                            what: open.what,
                            fix: open.fix,
                        })?;
                        ports.push(opened);
                        self.open.push(OpenPort { name, kept_by: other.kept, paths, at: Opened::Along });
                    }
                    Opened::Thread(spawn(&self.site, ports, asks, self.clock).map_err(open_fault)?)
                }
                (Prefix::Network(own), _) => {
                    let elsewhere = self.bindings.elsewhere(at);
                    let usual =
                        dialect(protocol_of(&shared, at)).and_then(|own| own.framing().usual_tcp_port());
                    let address = own.address().map(|own| elsewhere.own.unwrap_or(own));
                    let place = address.map(|own| SocketAddr::from((own, usual.unwrap_or(0))));
                    let aliases = self.bindings.bench.clone();
                    let may_wait = self.bindings.may_be_missing;
                    let thread = net::spawn(&self.site, at, own, (elsewhere, aliases), may_wait, self.clock)
                        .map_err(|open| fault(open.what, &open.fix))?;
                    Opened::Network(thread, place)
                }
                (Prefix::Listens(place), Some(back)) => {
                    let Role::Pipes(to) = kept.role else { continue };
                    let socket = place
                        .listener
                        .as_ref()
                        .and_then(|socket| Some((socket.try_clone().ok()?, socket.local_addr().ok()?)));
                    if socket.is_none() {
                        self.tell_missing(at, place.wanted);
                    }
                    let front = Front::Listen(place, self.bindings.bench.clone());
                    let pipe = pipe::spawn(&self.site, (at, front), (to, back), self.clock);
                    Opened::Pipe(pipe.map_err(no_thread)?, socket)
                }
                (Prefix::Opens(way, _), Some(back)) => {
                    let Role::Pipes(to) = kept.role else { continue };
                    let pipe = pipe::spawn(&self.site, (at, Front::Way(way)), (to, back), self.clock);
                    Opened::Pipe(pipe.map_err(no_thread)?, None)
                }
            };
            self.open.push(OpenPort { name, kept_by: kept, paths, at: opened });
        }
        Ok(())
    }

    fn tell_missing(&self, port: usize, wanted: SocketAddr) {
        let why = format!("{} is not an address of this machine yet", wanted.ip());
        self.site.current().tell(Event::PortDown { port, why });
    }

    /// Binds a listening port; to an address that a port of the old project has, by the socket that is there.
    fn bind(
        &self,
        port: &Port,
        place: &woodrush_core::project::HostPort,
        kept: &Identity,
        when: When,
    ) -> Result<ListenPlace, StartFault> {
        let wanted = match &self.bindings.bench {
            Some(_) => SocketAddr::from(([127, 0, 0, 1], 0)),
            None => SocketAddr::from((place.host, place.port)),
        };
        let before = self.open.iter().find(|open| open.kept_by.wires == kept.wires);
        if let Some(listener) = before.and_then(|open| open.at.socket()) {
            return Ok(ListenPlace { wanted, listener: Some(listener) });
        }
        match TcpListener::bind(wanted) {
            Ok(listener) => Ok(ListenPlace { wanted, listener: Some(listener) }),
            Err(error)
                if error.kind() == std::io::ErrorKind::AddrNotAvailable
                    && self.bindings.may_be_missing
                    && when == When::Start =>
            {
                Ok(ListenPlace { wanted, listener: None })
            }
            Err(error) => {
                let fault = |what: String, fix: &str| StartFault {
                    port: port.name.value.clone(),
                    what,
                    fix: fix.into(),
                };
                Err(listen_fault(&fault, wanted, &error))
            }
        }
    }
}

fn protocol_of(shared: &Shared, port: usize) -> &'static str {
    shared.ports.get(port).map_or("", |port| port.protocol)
}

/// Whether ports are opened for the first time or for a changed project.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum When {
    Start,
    Reload,
}

/// Every port of a project that is opened, and by what.
fn wanted(checked: &Checked, plan: &Plan) -> Vec<(String, Identity)> {
    let ports = checked.project.ports.iter().enumerate();
    ports.filter_map(|(at, port)| Some((port.name.value.clone(), kept(checked, plan, at)?))).collect()
}
