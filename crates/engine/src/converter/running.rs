//! A converter at work: its threads and tasks, from the first open to the last close, and the change to another project
//! in between.

use super::serve::{self, Aliases};
use super::{Listening, Serving};
use crate::moment::Clock;
use crate::port::pipe::{self, Front, Pipe};
use crate::port::{LineThread, Way, spawn};
use crate::shared::{Event, Shared, Site};
use std::collections::HashMap;
use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::project::{Port, Wires};
use woodrush_core::protocol::Setup;

/// How often silent connections are looked for.
const SWEEP: Duration = Duration::from_millis(500);

/// Where ports really go, when that is not where the project says: the bench.
#[derive(Debug, Clone, Default)]
pub struct Bindings {
    /// Path of a serial port's line, by port.
    pub serial: HashMap<usize, PathBuf>,
    /// Where an outgoing connection goes, by port.
    pub connect: HashMap<usize, SocketAddr>,
    /// Where a virtual serial port is made, by port.
    pub pty: HashMap<usize, PathBuf>,
    /// Every listening port goes to a free loopback port, and these addresses stand for others.
    pub bench: Option<Aliases>,
}

/// Why a converter cannot start: one port, in words, with the mend.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("port `{port}`: {what} ({mend})")]
pub struct StartFault {
    /// Name of the port.
    pub port: String,
    /// What is in the way.
    pub what: String,
    /// What to do.
    pub mend: String,
}

/// One open port: its name, and what must be the same in another project for it to stay open.
struct OpenPort {
    name: String,
    kept_by: Kept,
    at: At,
}

/// What a port is opened by.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Kept {
    wires: String,
    protocol: &'static str,
    role: Role,
    echo: bool,
    /// Keys of its protocol: both ends of a connection or link go by them.
    setup: Setup,
}

/// What is done on a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Role {
    /// We ask.
    Asks,
    /// Others ask.
    Answers,
    /// Bytes pass between it and another port.
    Pipes(usize),
    /// Nothing.
    Idle,
}

enum At {
    Serving(Arc<Serving>, SocketAddr),
    Thread(LineThread),
    /// Held so that it goes on.
    Pipe(#[allow(dead_code, reason = "it ends when it is dropped")] Pipe, Option<SocketAddr>),
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
        mend: "free memory or raise the limit of threads".into(),
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
    running.open_all(checked)?;
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
                At::Serving(_, at) | At::Pipe(_, Some(at)) => Some((port, *at)),
                _ => None,
            }
        };
        self.open.iter().filter_map(place).collect()
    }

    /// What is shared now.
    #[must_use]
    pub fn shared(&self) -> Arc<Shared> {
        self.site.current()
    }

    pub(crate) fn clock(&self) -> Clock {
        self.clock
    }

    /// Takes a changed project: ports, connections and values that the change does not touch stay as they are. Says
    /// what was done.
    ///
    /// # Errors
    /// A port that is new or changed cannot be opened; the project runs all the same, without that port.
    pub fn reload(&mut self, checked: &Checked, plan: Arc<Plan>) -> Result<String, StartFault> {
        let old = self.site.current();
        let next = Arc::new(Shared::renewed(checked, plan, old.teller(), Some(&old)));
        next.adopt_values(&old);
        // What is not the same any more closes before the new one may need its place.
        let wanted: Vec<(String, Kept)> = (0..checked.project.ports.len())
            .filter_map(|at| {
                Some((checked.project.ports.get(at)?.name.value.clone(), kept(checked, &next.plan, at)?))
            })
            .collect();
        let before = self.open.len();
        self.open.retain(|open| {
            let stays = wanted.iter().any(|(name, kept)| *name == open.name && *kept == open.kept_by);
            if let (false, At::Serving(serving, _)) = (stays, &open.at) {
                serving.close();
            }
            stays
        });
        self.lock_served().retain(|serving| {
            self.open.iter().any(|open| matches!(&open.at, At::Serving(own, _) if Arc::ptr_eq(own, serving)))
        });
        let closed = before - self.open.len();
        for (name, queue) in old.ports.iter().map(|port| &port.name).zip(&old.queues) {
            if !self.open.iter().any(|open| open.name == *name) {
                queue.refuse_all();
            }
        }
        self.site.replace(next);
        for open in &self.open {
            if let At::Thread(thread) = &open.at {
                thread.look();
            }
        }
        let stayed = self.open.len();
        let opened = self.open_all(checked);
        let what = format!(
            "the project is taken anew: {stayed} ports stay open, {closed} closed, {} opened",
            self.open.len() - stayed
        );
        self.site.current().tell(Event::Reloaded { what: what.clone() });
        opened.map(|()| what)
    }

    fn lock_served(&self) -> std::sync::MutexGuard<'_, Vec<Arc<Serving>>> {
        self.served.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Opens every port that is not open yet.
    fn open_all(&mut self, checked: &Checked) -> Result<(), StartFault> {
        let plan = Arc::clone(&self.site.current().plan);
        let order = |at: &usize| {
            let listens = matches!(
                checked.project.ports.get(*at).and_then(|p| p.wires.as_ref()),
                Some(Wires::Listen { .. })
            );
            // Sockets first: a port in use is found before any line is opened and polled.
            !listens
        };
        let mut ports: Vec<usize> = (0..checked.project.ports.len()).collect();
        ports.sort_by_key(order);
        for at in ports {
            let (Some(port), Some(kept)) = (checked.project.ports.get(at), kept(checked, &plan, at)) else {
                continue;
            };
            if self.open.iter().any(|open| open.name == port.name.value) {
                continue;
            }
            if let Some(open) = self.open_one(checked, at, port, kept.role)? {
                self.open.push(OpenPort { name: port.name.value.clone(), kept_by: kept, at: open });
            }
        }
        Ok(())
    }

    fn open_one(
        &self,
        checked: &Checked,
        at: usize,
        port: &Port,
        role: Role,
    ) -> Result<Option<At>, StartFault> {
        let fault =
            |what: String, mend: &str| StartFault { port: port.name.value.clone(), what, mend: mend.into() };
        match (&port.wires, role) {
            (Some(Wires::Listen { at: place }), Role::Answers) => {
                let (listener, real) = self.bind(&fault, place)?;
                let aliases = self.bindings.bench.clone();
                let listening = Listening { port: at, listener, aliases };
                let _inside = self.runtime.as_ref().map(tokio::runtime::Runtime::enter);
                let serving = serve::spawn(&self.site, listening, self.clock)
                    .map_err(|error| fault(format!("{real} cannot be served: {error}"), "try again"))?;
                self.lock_served().push(Arc::clone(&serving));
                self.site.current().tell(Event::PortUp { port: at, what: real.to_string() });
                Ok(Some(At::Serving(serving, real)))
            }
            (_, Role::Asks | Role::Answers) => {
                let Some(way) = self.way(at, port) else { return Ok(None) };
                let thread = spawn(&self.site, at, way, role == Role::Asks, self.clock)
                    .map_err(|open| fault(open.what, &open.mend))?;
                Ok(Some(At::Thread(thread)))
            }
            (wires, Role::Pipes(to)) => {
                let other = checked.project.ports.get(to);
                let Some(back) = other.and_then(|other| self.way(to, other)) else { return Ok(None) };
                let (front, real) = match wires {
                    Some(Wires::Listen { at: place }) => {
                        let (listener, real) = self.bind(&fault, place)?;
                        self.site.current().tell(Event::PortUp { port: at, what: real.to_string() });
                        (Front::Listen(listener), Some(real))
                    }
                    _ => match self.way(at, port) {
                        Some(way) => (Front::Way(way), None),
                        None => return Ok(None),
                    },
                };
                let pipe = pipe::spawn(&self.site.current(), (at, front), (to, back), self.clock);
                let pipe = pipe.map_err(|error| {
                    fault(format!("no thread: {error}"), "free memory or raise the limit of threads")
                })?;
                Ok(Some(At::Pipe(pipe, real)))
            }
            (_, Role::Idle) => Ok(None),
        }
    }

    fn bind(
        &self,
        fault: &impl Fn(String, &str) -> StartFault,
        place: &woodrush_core::project::HostPort,
    ) -> Result<(TcpListener, SocketAddr), StartFault> {
        let address = match &self.bindings.bench {
            Some(_) => SocketAddr::from(([127, 0, 0, 1], 0)),
            None => SocketAddr::from((place.host, place.port)),
        };
        let listener = TcpListener::bind(address).map_err(|error| listen_fault(fault, address, &error))?;
        let real = listener.local_addr().unwrap_or(address);
        Ok((listener, real))
    }

    /// How a port with one other end is opened.
    fn way(&self, at: usize, port: &Port) -> Option<Way> {
        Some(match port.wires.as_ref()? {
            Wires::Serial { path, line: Some(line), wiring } => Way::Serial {
                path: self.bindings.serial.get(&at).cloned().unwrap_or_else(|| PathBuf::from(&path.value)),
                line: line.value,
                two_wires: wiring.as_ref().is_some_and(|wiring| wiring.value == "rs485"),
            },
            Wires::Connect { to } => {
                let real = SocketAddr::from((to.value.host, to.value.port));
                Way::Connect { to: self.bindings.connect.get(&at).copied().unwrap_or(real) }
            }
            Wires::Pty { path } => Way::Pty {
                path: self.bindings.pty.get(&at).cloned().unwrap_or_else(|| PathBuf::from(&path.value)),
            },
            Wires::Serial { line: None, .. } | Wires::Listen { .. } => return None,
        })
    }
}

/// What a port is opened by; `None` for one that no wires are written for, or that another port's pipe opens.
fn kept(checked: &Checked, plan: &Plan, at: usize) -> Option<Kept> {
    let port = checked.project.ports.get(at)?;
    let wires = match port.wires.as_ref()? {
        Wires::Serial { path, line, wiring } => {
            let line = line.map(|line| line.value.to_string()).unwrap_or_default();
            format!(
                "serial {} {line} {}",
                path.value,
                wiring.as_ref().map_or("", |wiring| wiring.value.as_str())
            )
        }
        Wires::Listen { at } => format!("listen {}", at.value),
        Wires::Connect { to } => format!("connect {}", to.value),
        Wires::Pty { path } => format!("pty {}", path.value),
    };
    let role =
        match plan.forwards.iter().find(|forward| forward.raw && (forward.from == at || forward.to == at)) {
            Some(forward) if forward.from == at => Role::Pipes(forward.to),
            Some(_) => return None,
            None => {
                let asks = (0..plan.devices.len()).any(|device| plan.is_on(device, at))
                    || plan.forwards.iter().any(|forward| forward.to == at);
                let answers = plan.images.iter().any(|image| image.port == at)
                    || plan.forwards.iter().any(|forward| forward.from == at);
                match (asks, answers) {
                    (true, _) => Role::Asks,
                    (_, true) => Role::Answers,
                    _ => Role::Idle,
                }
            }
        };
    let protocol = port.protocol.map_or("", |protocol| protocol.value.name());
    Some(Kept { wires, protocol, role, echo: port.echo, setup: port.setup.clone() })
}

/// The thread that looks for silent connections. A timer in the runtime would cost every exchange a little, for
/// something that is looked at twice a second.
struct Keeper {
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Keeper {
    fn spawn(served: &Arc<Mutex<Vec<Arc<Serving>>>>) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let (asked, served) = (Arc::clone(&stop), Arc::clone(served));
        let look = move || {
            while !asked.load(Relaxed) {
                std::thread::park_timeout(SWEEP);
                let served = served.lock().unwrap_or_else(PoisonError::into_inner).clone();
                served.iter().for_each(|serving| serving.sweep());
            }
        };
        // Without the thread silent connections stay, which the limit of clients bounds.
        let thread = std::thread::Builder::new().name("keeper".into()).spawn(look).ok();
        Self { stop, thread }
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.stop.store(true, Relaxed);
        if let Some(thread) = self.thread.take() {
            thread.thread().unpark();
            // A panic there has been printed already.
            let _ = thread.join();
        }
    }
}

fn listen_fault(
    fault: &impl Fn(String, &str) -> StartFault,
    address: SocketAddr,
    error: &std::io::Error,
) -> StartFault {
    match error.kind() {
        std::io::ErrorKind::AddrInUse => fault(
            format!("{address} is in use by another program"),
            "stop it (`ss -ltnp` names it), or write another port in `listen`",
        ),
        std::io::ErrorKind::PermissionDenied => {
            let mend = "ports below 1024 need the right to bind them (`setcap cap_net_bind_service+ep`), or choose one above";
            fault(format!("{address} may not be opened by this user"), mend)
        }
        std::io::ErrorKind::AddrNotAvailable => fault(
            format!("{address} is no address of this machine"),
            "write 0.0.0.0 for all addresses, or one of its own",
        ),
        _ => fault(format!("{address} cannot be opened: {error}"), "check `listen`"),
    }
}
