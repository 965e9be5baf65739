//! A converter at work: its threads and tasks, from the first open to the last close.

use super::serve::{self, Aliases};
use super::{Listening, Serving};
use crate::moment::Clock;
use crate::port::{LineThread, spawn_line};
use crate::shared::{Event, Shared};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::thread::JoinHandle;
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::project::Wires;

/// How often silent connections are looked for.
const SWEEP: Duration = Duration::from_millis(500);

/// Where ports really go, when that is not where the project says: the bench.
#[derive(Debug, Clone, Default)]
pub struct Bindings {
    /// Path of a serial port's line, by port.
    pub serial: HashMap<usize, PathBuf>,
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

/// A converter at work; dropping it closes everything.
pub struct Running {
    /// What its threads and tasks share.
    pub shared: Arc<Shared>,
    /// Where each listening port really is, by index.
    pub listening: Vec<(usize, SocketAddr)>,
    lines: Vec<LineThread>,
    keeper: Option<Keeper>,
    runtime: Option<tokio::runtime::Runtime>,
}

impl Drop for Running {
    fn drop(&mut self) {
        self.lines.clear();
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
    let project = &checked.project;
    let shared = Shared::new(checked, plan, tell);
    let clock = Clock::start();
    let fault = |port: usize, what: String, mend: &str| StartFault {
        port: project.ports.get(port).map(|port| port.name.value.clone()).unwrap_or_default(),
        what,
        mend: mend.into(),
    };
    let mut builder = tokio::runtime::Builder::new_multi_thread();
    let runtime = builder.worker_threads(2).enable_io().build().map_err(|error| {
        fault(0, format!("no threads: {error}"), "free memory or raise the limit of threads")
    })?;
    let mut running = Running {
        shared: Arc::clone(&shared),
        listening: vec![],
        lines: vec![],
        keeper: None,
        runtime: None,
    };
    let mut served = vec![];
    // Sockets first: a port in use is found before any line is opened and polled.
    for (index, port) in project.ports.iter().enumerate() {
        let (Some(Wires::Listen { at }), Some(Some(settings))) = (&port.wires, shared.listens.get(index))
        else {
            continue;
        };
        let address = match &bindings.bench {
            Some(_) => SocketAddr::from(([127, 0, 0, 1], 0)),
            None => SocketAddr::from((at.value.host, at.value.port)),
        };
        let listener = std::net::TcpListener::bind(address)
            .map_err(|error| listen_fault(&fault, index, address, &error))?;
        let real = listener.local_addr().unwrap_or(address);
        let listening = Listening { port: index, listener, aliases: bindings.bench.clone() };
        let _inside = runtime.enter();
        let serving = serve::spawn(&shared, settings.clone(), listening, clock)
            .map_err(|error| fault(index, format!("{address} cannot be served: {error}"), "try again"))?;
        served.push(serving);
        shared.tell(Event::PortUp { port: index, what: real.to_string() });
        running.listening.push((index, real));
    }
    for (index, port) in project.ports.iter().enumerate() {
        let Some(Wires::Serial { path, line: Some(line), wiring }) = &port.wires else { continue };
        if !shared.plan.devices.iter().any(|device| device.port == index) {
            continue;
        }
        let real = bindings.serial.get(&index).cloned().unwrap_or_else(|| PathBuf::from(&path.value));
        let two_wires = wiring.as_ref().is_some_and(|wiring| wiring.value == "rs485");
        let thread = spawn_line(&shared, index, real, line.value, two_wires, clock)
            .map_err(|open| fault(index, open.what, &open.mend))?;
        running.lines.push(thread);
    }
    running.keeper = Some(Keeper::spawn(served));
    running.runtime = Some(runtime);
    Ok(running)
}

/// The thread that looks for silent connections. A timer in the runtime would cost every exchange a little, for
/// something that is looked at twice a second.
struct Keeper {
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Keeper {
    fn spawn(served: Vec<Arc<Serving>>) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let asked = Arc::clone(&stop);
        let look = move || {
            while !asked.load(Relaxed) {
                std::thread::park_timeout(SWEEP);
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
    fault: &impl Fn(usize, String, &str) -> StartFault,
    port: usize,
    address: SocketAddr,
    error: &std::io::Error,
) -> StartFault {
    match error.kind() {
        std::io::ErrorKind::AddrInUse => fault(
            port,
            format!("{address} is in use by another program"),
            "stop it (`ss -ltnp` names it), or write another port in `listen`",
        ),
        std::io::ErrorKind::PermissionDenied => {
            let mend = "ports below 1024 need the right to bind them (`setcap cap_net_bind_service+ep`), or choose one above";
            fault(port, format!("{address} may not be opened by this user"), mend)
        }
        std::io::ErrorKind::AddrNotAvailable => fault(
            port,
            format!("{address} is no address of this machine"),
            "write 0.0.0.0 for all addresses, or one of its own",
        ),
        _ => fault(port, format!("{address} cannot be opened: {error}"), "check `listen`"),
    }
}
