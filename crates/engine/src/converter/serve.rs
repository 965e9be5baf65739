//! A listening port: one task a connection, a bound on how many, and who may come at all.

use super::{Answering, AnsweringAct, Asker};
use crate::Moment;
use crate::health::AskerTally;
use crate::moment::Clock;
use crate::shared::{AnswerSettings, AskerId, Event, Site};
use crate::speak::{News, Side};
use crate::tap::{Piece, Tap};
use std::collections::HashMap;
use std::future::poll_fn;
use std::io::ErrorKind;
use std::mem::MaybeUninit;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::task::{Context, Poll, ready};
use tokio::io::{AsyncRead, AsyncWriteExt, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::oneshot;
use tokio::task::AbortHandle;

/// A connection silent for so long may be closed for a new one, in microseconds.
const EVICT_AFTER: u64 = 10_000_000;

/// Bytes that are taken in at once.
const CHUNK: usize = 4096;

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
    site: Arc<Site>,
    /// The port's name, by which it is found in whatever project runs.
    name: Arc<str>,
    /// Who looks on, whatever project runs.
    tap: Arc<Tap>,
    clock: Clock,
    aliases: Option<Aliases>,
    connections: Mutex<Vec<Arc<Connection>>>,
    accepting: OnceLock<AbortHandle>,
    /// Counted up for each connection.
    next: AtomicU64,
}

struct Connection {
    number: u64,
    who: SocketAddr,
    /// When bytes last came that were not answered at once, in microseconds.
    last: AtomicU64,
    /// What is counted of it; set once it is served.
    tally: OnceLock<Arc<AskerTally>>,
    /// Ends its task at the next wait; set once that is spawned. The task itself need not listen for an end, which
    /// would cost more than a read of sixteen registers.
    task: OnceLock<AbortHandle>,
}

impl Connection {
    /// When it was last heard, in microseconds.
    fn heard(&self) -> u64 {
        let answered = self.tally.get().and_then(|tally| tally.tally.last_good());
        self.last.load(Relaxed).max(answered.map_or(0, |at| at.0))
    }

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
pub(super) fn spawn(site: &Arc<Site>, listening: Listening, clock: Clock) -> std::io::Result<Arc<Serving>> {
    let serving = Arc::new(Serving {
        site: Arc::clone(site),
        name: site
            .current()
            .ports
            .get(listening.port)
            .map(|port| port.name.as_str())
            .unwrap_or_default()
            .into(),
        tap: Arc::clone(&site.current().tap),
        clock,
        aliases: listening.aliases,
        connections: Mutex::new(vec![]),
        accepting: OnceLock::new(),
        next: AtomicU64::new(0),
    });
    listening.listener.set_nonblocking(true)?;
    let listener = TcpListener::from_std(listening.listener)?;
    if let Some(tally) = site.current().health.ports.get(listening.port) {
        tally.up.store(true, Relaxed);
    }
    let task = tokio::spawn(serve(Arc::clone(&serving), listener));
    // It is set only here.
    let _ = serving.accepting.set(task.abort_handle());
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
        let Some((port, settings)) = self.settings() else { return };
        let connections = self.connections();
        for connection in connections.iter() {
            if now.saturating_sub(connection.heard()) > settings.idle_timeout {
                connection.close();
                self.tell(connection.who, "closed: it was silent for longer than `idle-timeout`");
            }
        }
        if let Some(tally) = self.site.current().health.ports.get(port) {
            tally.clients.store(connections.len() as u64, Relaxed);
            tally.up.store(true, Relaxed);
        }
    }

    /// What the project that runs says of this port; nothing where it is no longer there.
    fn settings(&self) -> Option<(usize, AnswerSettings)> {
        let shared = self.site.current();
        let port = shared.ports.iter().position(|port| *port.name == *self.name)?;
        Some((port, shared.answers.get(port)?.clone()?))
    }

    /// Stops accepting and closes every connection.
    pub(super) fn close(&self) {
        if let Some(task) = self.accepting.get() {
            task.abort();
        }
        self.connections().iter().for_each(|connection| connection.close());
    }

    fn connections(&self) -> MutexGuard<'_, Vec<Arc<Connection>>> {
        self.connections.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn tell(&self, who: SocketAddr, why: impl Into<String>) {
        let shared = self.site.current();
        let port = shared.ports.iter().position(|port| *port.name == *self.name).unwrap_or_default();
        shared.tell(Event::Client { port, who: who.to_string(), why: why.into() });
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

    fn may_connect(&self, settings: &AnswerSettings, who: SocketAddr) -> bool {
        match (&settings.allow, self.claimed(who)) {
            (None, _) => true,
            (Some(_), None) => self.aliases.is_some(),
            (Some(allow), Some(address)) => allow.iter().any(|network| network.holds(address)),
        }
    }

    fn admit(self: Arc<Self>, stream: TcpStream, who: SocketAddr) {
        let Some((port, settings)) = self.settings() else { return };
        let turned_away = || {
            if let Some(tally) = self.site.current().health.ports.get(port) {
                tally.turned_away.fetch_add(1, Relaxed);
            }
        };
        if !self.may_connect(&settings, who) {
            turned_away();
            return self.tell(who, "turned away: `allow` does not hold its address");
        }
        let now = self.clock.now().0;
        let connection = {
            let mut connections = self.connections();
            if connections.len() >= settings.max_clients {
                let idle = connections.iter().min_by_key(|connection| connection.heard()).cloned();
                match idle.filter(|idle| now.saturating_sub(idle.heard()) > EVICT_AFTER) {
                    Some(idle) => {
                        connections.retain(|other| other.number != idle.number);
                        idle.close();
                        self.tell(idle.who, "closed for a new client: it was silent longest");
                    }
                    None => {
                        drop(connections);
                        turned_away();
                        let why = format!("turned away: {} clients are connected", settings.max_clients);
                        return self.tell(who, why);
                    }
                }
            }
            let number = self.next.fetch_add(1, Relaxed);
            let connection = Arc::new(Connection {
                number,
                who,
                last: AtomicU64::new(now),
                tally: OnceLock::new(),
                task: OnceLock::new(),
            });
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

    /// Leaves what has passed for those who look on.
    fn passed(&self, now: Moment, who: &Arc<str>, side: Side, bytes: &[u8]) {
        let piece = || Piece {
            port: Arc::clone(&self.name),
            who: Some(Arc::clone(who)),
            side,
            began: now,
            ended: now,
            bytes: bytes.to_vec(),
        };
        self.tap.passed(&self.name, now, piece);
    }

    /// Talks until one side ends it; says why if it was us.
    async fn converse(&self, stream: TcpStream, connection: &Connection) -> Option<String> {
        // Small answers at once; where the platform cannot, they come a little later.
        let _ = stream.set_nodelay(true);
        let who = connection.who;
        let id = match who.ip() {
            IpAddr::V4(own) => u64::from(u32::from(own)),
            IpAddr::V6(own) => u64::try_from(u128::from(own) & u128::from(u64::MAX)).unwrap_or(0),
        };
        let asker = Asker { id: AskerId(id), who: who.to_string(), address: self.claimed(who) };
        let (port, _) = self.settings()?;
        let claimed = self.claimed(who).map(|own| SocketAddr::from((own, who.port())));
        let shown: Arc<str> = claimed.unwrap_or(who).to_string().into();
        let answering = Answering::new(Arc::clone(&self.site), port, asker)?;
        // It is set only here.
        let _ = connection.tally.set(Arc::clone(answering.tally()));
        let mut talk = Talk { stream, answering, shown };
        let mut now = self.clock.now();
        loop {
            match talk.answering.poll(now) {
                AnsweringAct::Send(bytes) => {
                    self.passed(now, &talk.shown, Side::Answers, &bytes);
                    talk.stream.write_all(&bytes).await.ok()?;
                }
                AnsweringAct::Hand(handed) => {
                    let (done, ended) = oneshot::channel();
                    // The receiver is gone only with its connection; then nobody waits for the outcome.
                    let reply = move |result| {
                        let _ = done.send(result);
                    };
                    talk.answering.submit(*handed, Box::new(reply));
                    let result = ended.await.unwrap_or(Err(Answering::forgotten()));
                    now = self.clock.now();
                    talk.answering.ended(now, result);
                }
                AnsweringAct::HangUp(why) => return Some(format!("closed: {why}")),
                AnsweringAct::WaitUntil(_) | AnsweringAct::Rest => {
                    let Some(came) = poll_fn(|context| self.take_in(context, &mut talk)).await else {
                        self.passed(self.clock.now(), &talk.shown, Side::Either, &[]);
                        return None;
                    };
                    now = came.at;
                    connection.last.store(now.0, Relaxed);
                    if !came.unsent.is_empty() {
                        talk.stream.write_all(&came.unsent).await.ok()?;
                    }
                }
            }
        }
    }

    /// Takes what comes, and answers plain reads at once, until there is something else to do; nothing where the other
    /// side has ended it.
    fn take_in(&self, context: &mut Context<'_>, talk: &mut Talk) -> Poll<Option<Came>> {
        loop {
            // Here, and not in the connection's own memory, which was last touched long ago.
            let mut chunk = [MaybeUninit::uninit(); CHUNK];
            let mut room = ReadBuf::uninit(&mut chunk);
            let read = ready!(Pin::new(&mut talk.stream).poll_read(context, &mut room));
            let bytes = room.filled();
            if read.is_err() || bytes.is_empty() {
                return Poll::Ready(None);
            }
            let now = self.clock.now();
            self.passed(now, &talk.shown, Side::Asks, bytes);
            let (used, mut answers) = talk.answering.at_once(now, bytes);
            if used > 0 {
                self.passed(now, &talk.shown, Side::Answers, &answers);
                // As a rule all of it goes out; what does not is written before anything else.
                match talk.stream.try_write(&answers) {
                    Ok(sent) => drop(answers.drain(..sent)),
                    Err(error) if error.kind() == ErrorKind::WouldBlock => {}
                    Err(_) => return Poll::Ready(None),
                }
            }
            let rest = bytes.get(used..).unwrap_or_default();
            if !rest.is_empty() || !answers.is_empty() {
                talk.answering.handle(now, News::Bytes(rest));
                return Poll::Ready(Some(Came { at: now, unsent: answers }));
            }
        }
    }
}

/// One connection at work.
#[repr(C)]
struct Talk {
    // What every plain read touches stands first.
    stream: TcpStream,
    answering: Answering,
    /// Who it is, for those who look on.
    shown: Arc<str>,
}

/// Bytes came that take more than a look at the cells.
struct Came {
    at: Moment,
    /// Answers to what came before them, still to be written.
    unsent: Vec<u8>,
}
