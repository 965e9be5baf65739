//! A listening port: one task a connection, a bound on how many, and who may come at all.

use super::{Answering, AnsweringAct};
use crate::moment::Clock;
use crate::shared::{Event, ListenSettings, Shared};
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::oneshot;
use tokio::task::AbortHandle;
use woodrush_core::{Blame, Kind, Refusal};

/// A connection silent for so long may be closed for a new one, in microseconds.
const EVICT_AFTER: u64 = 10_000_000;

/// Addresses that stand for others on the bench, where everybody comes from this machine.
pub type Aliases = Arc<HashMap<IpAddr, Ipv4Addr>>;

/// A listening socket that is bound and not yet served.
pub struct Listening {
    /// Index of the port.
    pub port: usize,
    /// The bound socket.
    pub listener: std::net::TcpListener,
    /// On the bench, whom a loopback address stands for.
    pub aliases: Option<Aliases>,
}

/// One listening port at work.
pub struct Serving {
    shared: Arc<Shared>,
    settings: ListenSettings,
    port: usize,
    clock: Clock,
    aliases: Option<Aliases>,
    connections: Mutex<Vec<Arc<Connection>>>,
    /// Counted up for each connection.
    next: AtomicU64,
}

struct Connection {
    number: u64,
    who: SocketAddr,
    /// When bytes last came, in microseconds.
    last: AtomicU64,
    /// Ends its task at the next wait; set once that is spawned. The task itself need not listen for an end, which
    /// would cost more than a read of sixteen registers.
    task: OnceLock<AbortHandle>,
}

impl Connection {
    fn close(&self) {
        if let Some(task) = self.task.get() {
            task.abort();
        }
    }
}

/// Takes a connection off the list when its task ends, however it ends.
struct Listed {
    serving: Arc<Serving>,
    connection: Arc<Connection>,
}

impl Drop for Listed {
    fn drop(&mut self) {
        self.serving.connections().retain(|other| other.number != self.connection.number);
    }
}

/// Serves a port until the runtime ends.
pub(super) fn spawn(
    shared: &Arc<Shared>,
    settings: ListenSettings,
    listening: Listening,
    clock: Clock,
) -> std::io::Result<Arc<Serving>> {
    let serving = Arc::new(Serving {
        shared: Arc::clone(shared),
        settings,
        port: listening.port,
        clock,
        aliases: listening.aliases,
        connections: Mutex::new(vec![]),
        next: AtomicU64::new(0),
    });
    listening.listener.set_nonblocking(true)?;
    let listener = TcpListener::from_std(listening.listener)?;
    tokio::spawn(serve(Arc::clone(&serving), listener));
    Ok(serving)
}

/// Accepts connections for ever.
async fn serve(serving: Arc<Serving>, listener: TcpListener) {
    loop {
        match listener.accept().await {
            Ok((stream, who)) => Arc::clone(&serving).admit(stream, who),
            // Out of descriptors: the next one may fit again.
            Err(_) => tokio::task::yield_now().await,
        }
    }
}

impl Serving {
    /// Closes connections that have been silent for longer than the port allows.
    pub(super) fn sweep(&self) {
        let now = self.clock.now().0;
        for connection in self.connections().iter() {
            if now.saturating_sub(connection.last.load(Relaxed)) > self.settings.idle_timeout {
                connection.close();
                self.tell(connection.who, "closed: it was silent for longer than `idle-timeout`");
            }
        }
    }

    fn connections(&self) -> MutexGuard<'_, Vec<Arc<Connection>>> {
        self.connections.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn tell(&self, who: SocketAddr, why: impl Into<String>) {
        self.shared.tell(Event::Client { port: self.port, who: who.to_string(), why: why.into() });
    }

    /// The address that `allow` is held against.
    fn claimed(&self, who: SocketAddr) -> Option<Ipv4Addr> {
        let own = match who.ip() {
            IpAddr::V4(own) => own,
            IpAddr::V6(own) => own.to_ipv4_mapped()?,
        };
        match &self.aliases {
            None => Some(own),
            // Somebody at the bench who plays nobody: let him look.
            Some(aliases) => aliases.get(&IpAddr::V4(own)).copied(),
        }
    }

    fn may_connect(&self, who: SocketAddr) -> bool {
        match (&self.settings.allow, self.claimed(who)) {
            (None, _) => true,
            (Some(_), None) => self.aliases.is_some(),
            (Some(allow), Some(address)) => allow.iter().any(|network| network.holds(address)),
        }
    }

    fn admit(self: Arc<Self>, stream: TcpStream, who: SocketAddr) {
        if !self.may_connect(who) {
            return self.tell(who, "turned away: `allow` does not hold its address");
        }
        let now = self.clock.now().0;
        let connection = {
            let mut connections = self.connections();
            if connections.len() >= self.settings.max_clients {
                let idle = connections.iter().min_by_key(|connection| connection.last.load(Relaxed)).cloned();
                match idle.filter(|idle| now.saturating_sub(idle.last.load(Relaxed)) > EVICT_AFTER) {
                    Some(idle) => {
                        connections.retain(|other| other.number != idle.number);
                        idle.close();
                        self.tell(idle.who, "closed for a new client: it was silent longest");
                    }
                    None => {
                        drop(connections);
                        return self.tell(
                            who,
                            format!("turned away: {} clients are connected", self.settings.max_clients),
                        );
                    }
                }
            }
            let number = self.next.fetch_add(1, Relaxed);
            let connection =
                Arc::new(Connection { number, who, last: AtomicU64::new(now), task: OnceLock::new() });
            connections.push(Arc::clone(&connection));
            connection
        };
        let listed = Listed { serving: self, connection: Arc::clone(&connection) };
        let task = tokio::spawn(async move {
            if let Some(why) = listed.serving.converse(stream, &listed.connection).await {
                listed.serving.tell(who, why);
            }
        });
        // It is set only here.
        let _ = connection.task.set(task.abort_handle());
    }

    /// Talks until one side ends it; says why if it was us.
    async fn converse(&self, mut stream: TcpStream, connection: &Connection) -> Option<String> {
        // Small answers at once; where the platform cannot, they come a little later.
        let _ = stream.set_nodelay(true);
        let mut answering = Answering::new(Arc::clone(&self.shared), self.settings.clone())?;
        let mut chunk = vec![0; 4096];
        let mut now = self.clock.now();
        loop {
            match answering.poll(now) {
                AnsweringAct::Send(bytes) => stream.write_all(&bytes).await.ok()?,
                AnsweringAct::Write(write) => {
                    let (done, ended) = oneshot::channel();
                    // The receiver is gone only with its connection; then nobody waits for the outcome.
                    let reply = move |result| {
                        let _ = done.send(result);
                    };
                    answering.submit(write, Box::new(reply));
                    let gone = Refusal::new(Kind::NoPath, Blame::Us);
                    answering.wrote(ended.await.unwrap_or(Err(gone)));
                    now = self.clock.now();
                }
                AnsweringAct::HangUp(why) => return Some(format!("closed: {why}")),
                AnsweringAct::WaitUntil(_) | AnsweringAct::Rest => match stream.read(&mut chunk).await {
                    Ok(0) | Err(_) => return None,
                    Ok(count) => {
                        now = self.clock.now();
                        connection.last.store(now.0, Relaxed);
                        answering.handle(now, chunk.get(..count).unwrap_or_default());
                    }
                },
            }
        }
    }
}
