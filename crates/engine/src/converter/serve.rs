//! A listening port: one task a connection, a bound on how many, and who may come at all.

use crate::Moment;
use crate::admission::{
    Admission, Aliases, ListenPlace, Seat, admit, claimed, is_out_of_room, keep_alive, may_connect,
};
use crate::health::ClientTally;
use crate::hub::{Chunk, Tap};
use crate::moment::Clock;
use crate::session::{ClientIdentity, Session, SessionAct};
use crate::shared::{AnswerSettings, ClientId, Event, PortSettings, Reply, Site};
use crate::speak::{News, Side};

use std::future::poll_fn;
use std::io::ErrorKind;
use std::mem::MaybeUninit;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::task::{Context, Poll, ready};
use tokio::io::{AsyncRead, AsyncWriteExt, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::Handle;
use tokio::sync::{Notify, oneshot};
use tokio::task::AbortHandle;

/// Bytes that are taken in at once.
const CHUNK: usize = 4096;

/// One listening port at work.
pub struct Serving {
    site: Arc<Site>,
    /// The port's name, by which it is found in whatever project runs.
    name: Arc<str>,
    /// Observers of the traffic, whatever project runs.
    tap: Arc<Tap>,
    clock: Clock,
    aliases: Option<Aliases>,
    connections: Mutex<Vec<Arc<Connection>>>,
    runtime: Handle,
    wanted: SocketAddr,
    /// A second descriptor of the socket, and where it really is; set once it is bound.
    bound: OnceLock<(std::net::TcpListener, SocketAddr)>,
    accepting: OnceLock<AbortHandle>,
    /// Told when a descriptor may be free again.
    room: Notify,
    /// Counted up for each connection.
    next: AtomicU64,
}

struct Connection {
    number: u64,
    who: SocketAddr,
    /// When a request was last taken or answered other than at once, or when it connected, in microseconds. Bytes alone
    /// do not count: a client that sends half a request, or reads no answers, is as good as silent.
    last: AtomicU64,
    /// A request of it is in the hands of a line or another port.
    waits: AtomicBool,
    /// What is counted of it; set once it is served.
    tally: OnceLock<Arc<ClientTally>>,
    /// Ends its task at the next wait; set once that is spawned. The task itself need not listen for an end, which
    /// would cost more than a read of sixteen registers.
    task: OnceLock<AbortHandle>,
}

impl Connection {
    /// When it last asked something whole, in microseconds.
    fn heard(&self, now: Moment) -> Moment {
        if self.waits.load(Relaxed) {
            return now;
        }
        let answered = self.tally.get().and_then(|tally| tally.tally.last_good());
        Moment(self.last.load(Relaxed).max(answered.map_or(0, |at| at.0)))
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
        self.serving.room.notify_one();
    }
}

/// A listening port that is ready to begin.
pub(super) struct ReadyServing {
    pub(super) serving: Arc<Serving>,
    /// None while its address is not there yet.
    listener: Option<TcpListener>,
}

/// Makes a port ready to be served until the runtime ends; where its address is missing, as soon as that is there.
///
/// # Errors
/// The system has no descriptor left.
pub(super) fn prepare(
    site: &Arc<Site>,
    settings: &PortSettings,
    place: ListenPlace,
    aliases: Option<Aliases>,
    clock: Clock,
    runtime: Handle,
) -> std::io::Result<ReadyServing> {
    let serving = Arc::new(Serving {
        site: Arc::clone(site),
        name: settings.name.as_str().into(),
        tap: Arc::clone(&site.current().tap),
        clock,
        aliases,
        connections: Mutex::new(vec![]),
        runtime,
        wanted: place.wanted,
        bound: OnceLock::new(),
        accepting: OnceLock::new(),
        room: Notify::new(),
        next: AtomicU64::new(0),
    });
    let listener = place.listener.map(|listener| serving.bind(listener)).transpose()?;
    Ok(ReadyServing { serving, listener })
}

impl ReadyServing {
    /// Begins to accept connections; or says that its address is missing.
    pub(super) fn begin(self) -> Arc<Serving> {
        match self.listener {
            Some(listener) => self.serving.begin(listener),
            None => {
                let port = self.serving.port();
                let why = format!("{} is not an address of this machine yet", self.serving.wanted.ip());
                self.serving.site.current().tell(Event::PortDown { port, why });
            }
        }
        self.serving
    }
}

/// Accepts connections for ever. Without a free descriptor it pauses until one may be free: to try again and again
/// would use a core and bring nothing.
async fn accept(serving: Arc<Serving>, listener: TcpListener) {
    let mut paused = false;
    loop {
        match listener.accept().await {
            Ok((stream, who)) => {
                if std::mem::take(&mut paused) {
                    serving.tell_accepting(None);
                }
                Arc::clone(&serving).admit(stream, who);
            }
            Err(error) if is_out_of_room(&error) => {
                if !std::mem::replace(&mut paused, true) {
                    serving.tell_accepting(Some(error.to_string()));
                }
                serving.room.notified().await;
            }
            // The client went before it was accepted.
            Err(_) => tokio::task::yield_now().await,
        }
    }
}

impl Serving {
    /// Makes a socket ready to be accepted from.
    fn bind(&self, listener: std::net::TcpListener) -> std::io::Result<TcpListener> {
        listener.set_nonblocking(true)?;
        let (second, real) = (listener.try_clone()?, listener.local_addr()?);
        let _inside = self.runtime.enter();
        let listener = TcpListener::from_std(listener)?;
        // It is set only here.
        let _ = self.bound.set((second, real));
        Ok(listener)
    }

    /// Begins to accept connections.
    fn begin(self: &Arc<Self>, listener: TcpListener) {
        let task = self.runtime.spawn(accept(Arc::clone(self), listener));
        // It is set only here.
        let _ = self.accepting.set(task.abort_handle());
        let port = self.port();
        let shared = self.site.current();
        if let Some(tally) = shared.health.ports.get(port) {
            tally.up.store(true, Relaxed);
        }
        let what = self.real().unwrap_or(self.wanted).to_string();
        shared.tell(Event::PortUp { port, what });
    }

    /// Where it listens, once it does.
    pub(super) fn real(&self) -> Option<SocketAddr> {
        self.bound.get().map(|(_, real)| *real)
    }

    /// Its socket once more, for another port at the same address.
    pub(super) fn socket(&self) -> Option<std::net::TcpListener> {
        self.bound.get().and_then(|(listener, _)| listener.try_clone().ok())
    }

    /// Closes connections that have been silent for longer than the port allows, and looks whether an address that was
    /// missing is there.
    pub(super) fn sweep(self: &Arc<Self>) {
        let now = self.clock.now();
        self.room.notify_one();
        if self.bound.get().is_none()
            && let Ok(listener) = std::net::TcpListener::bind(self.wanted)
            // Where it fails it is tried again at the next look.
            && let Ok(listener) = self.bind(listener)
        {
            self.begin(listener);
        }
        let Some((port, settings)) = self.settings() else { return };
        let connections = self.connections();
        for connection in connections.iter() {
            if now.since(connection.heard(now)) > settings.idle_timeout {
                connection.close();
                self.tell(connection.who, "closed: it was idle for longer than `idle-timeout`");
            }
        }
        if let Some(tally) = self.site.current().health.ports.get(port) {
            tally.clients.store(connections.len() as u64, Relaxed);
            tally.up.store(self.bound.get().is_some(), Relaxed);
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

    /// Its index in the project that runs.
    fn port(&self) -> usize {
        self.site.current().ports.iter().position(|port| *port.name == *self.name).unwrap_or_default()
    }

    fn tell(&self, who: SocketAddr, why: impl Into<String>) {
        let port = self.port();
        self.site.current().tell(Event::Client { port, who: who.to_string(), why: why.into() });
    }

    fn tell_accepting(&self, trouble: Option<String>) {
        self.site.current().tell(Event::Accepting { port: self.port(), trouble });
    }

    fn admit(self: Arc<Self>, stream: TcpStream, who: SocketAddr) {
        let Some((port, settings)) = self.settings() else { return };
        let turned_away = |why: String| {
            if let Some(tally) = self.site.current().health.ports.get(port) {
                tally.turned_away.fetch_add(1, Relaxed);
            }
            self.tell(who, format!("turned away: {why}"));
        };
        if !may_connect(settings.allow.as_deref(), self.aliases.as_ref(), who) {
            return turned_away("`allow` does not hold its address".into());
        }
        keep_alive(&stream);
        let now = self.clock.now();
        let connection = {
            let mut connections = self.connections();
            let seat =
                |own: &Arc<Connection>| Seat { address: own.who.ip().to_canonical(), heard: own.heard(now) };
            let seats: Vec<Seat> = connections.iter().map(seat).collect();
            match admit(&settings, &seats, who.ip().to_canonical(), now) {
                Admission::Room => {}
                Admission::InsteadOf(at, why) => {
                    let other = connections.swap_remove(at);
                    other.close();
                    self.tell(other.who, format!("closed for a new client: {why}"));
                }
                Admission::TurnedAway(why) => {
                    drop(connections);
                    return turned_away(why);
                }
            }
            let number = self.next.fetch_add(1, Relaxed);
            let connection = Arc::new(Connection {
                number,
                who,
                last: AtomicU64::new(now.0),
                waits: AtomicBool::new(false),
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
        let piece = || Chunk {
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
        let address = claimed(self.aliases.as_ref(), who);
        let client = ClientIdentity { id: ClientId(id), who: who.to_string(), address };
        let (port, _) = self.settings()?;
        let known = address.map(|own| SocketAddr::from((own, who.port())));
        let shown: Arc<str> = known.unwrap_or(who).to_string().into();
        let answering = Session::new(Arc::clone(&self.site), port, client)?;
        // It is set only here.
        let _ = connection.tally.set(Arc::clone(answering.tally()));
        let mut talk = Talk { stream, answering, shown };
        let mut now = self.clock.now();
        let mut taken = 0;
        loop {
            let act = talk.answering.poll(now);
            if talk.answering.taken() != taken {
                taken = talk.answering.taken();
                connection.last.store(now.0, Relaxed);
            }
            match act {
                SessionAct::Send(bytes) => {
                    self.passed(now, &talk.shown, Side::Answers, &bytes);
                    talk.stream.write_all(&bytes).await.ok()?;
                    connection.last.store(now.0, Relaxed);
                }
                SessionAct::Hand(ticket) => {
                    let (done, ended) = oneshot::channel();
                    // The receiver is gone only with its connection; then nobody waits for the outcome.
                    let reply = Reply::new(ticket, move |ticket, outcome| drop(done.send((ticket, outcome))));
                    talk.answering.submit(reply);
                    connection.waits.store(true, Relaxed);
                    // A reply tells an outcome whatever becomes of it, and is never lost before it has.
                    let (ticket, outcome) = ended.await.ok()?;
                    now = self.clock.now();
                    connection.last.store(now.0, Relaxed);
                    connection.waits.store(false, Relaxed);
                    talk.answering.ended(now, ticket, outcome);
                }
                SessionAct::HangUp(why) => return Some(format!("closed: {why}")),
                SessionAct::WaitUntil(_) | SessionAct::Rest => {
                    let Some(came) = poll_fn(|context| self.take_in(context, &mut talk)).await else {
                        self.passed(self.clock.now(), &talk.shown, Side::Either, &[]);
                        return None;
                    };
                    now = came.at;
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
            let (used, mut answers) = talk.answering.answer_reads(now, bytes);
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
    answering: Session,
    /// Who it is, for those who look on.
    shown: Arc<str>,
}

/// Bytes came that take more than a look at the cells.
struct Came {
    at: Moment,
    /// Answers to what came before them, still to be written.
    unsent: Vec<u8>,
}
