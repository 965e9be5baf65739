//! A port with one other end and what is open of it: how it is opened, and again after it was lost.

use super::echo::Unecho;
use super::tty::OpenFault;
use super::wait::wake;
use super::way::{Open, Way};
use crate::Moment;
use crate::hub::Chunk;
use crate::shared::{Event, Shared};
use crate::speak::Side;
use rustix::fd::OwnedFd;
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::mpsc::{Receiver, TryRecvError, channel};

/// Leaves what has passed for a tap.
pub(super) fn passed(
    shared: &Shared,
    port: &str,
    side: Side,
    (began, ended): (Moment, Moment),
    bytes: &[u8],
) {
    shared.tap.passed(port, began, || Chunk {
        port: port.into(),
        who: None,
        side,
        began,
        ended,
        bytes: bytes.to_vec(),
    });
}

/// What a port begins with.
pub(crate) enum Begin {
    /// It was opened before.
    Opened(Open),
    /// It is opened now; where it must be and cannot, it does not begin.
    Open,
    /// It is opened now, and where what it leads to is missing, later.
    OpenLater,
    /// It is opened now or later, whatever is in the way.
    Whenever,
}

/// One port of a thread.
pub(crate) struct OpenedPort {
    pub(super) port: usize,
    pub(super) name: String,
    pub(super) way: Way,
    pub(super) echo: Option<Unecho>,
    pub(super) open: Option<Open>,
    /// A program has the other end of a virtual port open.
    pub(super) is_used: bool,
    pub(super) reopen_at: Moment,
    again: u64,
    /// It is being connected, by a thread that may wait.
    connecting: Option<Receiver<Result<Open, OpenFault>>>,
}

impl OpenedPort {
    /// Opens a port, and tells whether it is.
    ///
    /// # Errors
    /// It cannot be opened, and must be now.
    pub(crate) fn begin(
        shared: &Shared,
        port: usize,
        (way, begin): (Way, Begin),
        now: Moment,
    ) -> Result<Self, OpenFault> {
        let (later, whenever) = (matches!(begin, Begin::OpenLater), matches!(begin, Begin::Whenever));
        let may_wait = |fault: &OpenFault| !way.must_open() || whenever || later && fault.missing;
        let opened = match begin {
            Begin::Opened(open) => Ok(open),
            Begin::Open | Begin::OpenLater | Begin::Whenever => way.open(),
        };
        let open = match opened {
            Ok(open) => Some(open),
            Err(fault) if may_wait(&fault) => {
                let why =
                    if way.must_open() { format!("{} ({})", fault.what, fault.fix) } else { fault.what };
                shared.tell(Event::PortDown { port, why });
                None
            }
            Err(fault) => return Err(fault),
        };
        if open.is_some() {
            shared.tell(Event::PortUp { port, what: way.shown() });
        }
        let settings = shared.ports.get(port);
        let again = if open.is_some() { 0 } else { way.again(0) };
        let own = Self {
            port,
            name: settings.map(|port| port.name.clone()).unwrap_or_default(),
            echo: settings.is_some_and(|port| port.echo).then(Unecho::default),
            is_used: !matches!(way, Way::Pty { .. }),
            reopen_at: if open.is_some() { Moment::NEVER } else { now + again },
            again,
            way,
            open,
            connecting: None,
        };
        own.mark(shared, own.open.is_some());
        Ok(own)
    }

    fn mark(&self, shared: &Shared, up: bool) {
        if let Some(port) = shared.health.ports.get(self.port) {
            port.up.store(up, Relaxed);
        }
    }

    /// It is lost, and will be opened again.
    pub(super) fn lost(&mut self, shared: &Shared, now: Moment, why: &str) {
        self.open = None;
        self.again = self.way.again(0);
        self.reopen_at = now + self.again;
        self.mark(shared, false);
        passed(shared, &self.name, Side::Either, (now, now), &[]);
        let why = format!("{}: {why}", self.way.shown());
        shared.tell(Event::PortDown { port: self.port, why });
    }

    /// Opens it once more if it is time; whether it is open now. Where others share the thread, a connection is made by
    /// another one: they must not wait for it.
    pub(super) fn reopens(
        &mut self,
        shared: &Shared,
        now: Moment,
        shares: bool,
        waker: &Arc<OwnedFd>,
    ) -> bool {
        let opened = match &self.connecting {
            Some(connecting) => match connecting.try_recv() {
                Ok(opened) => opened.ok(),
                Err(TryRecvError::Empty) => return false,
                Err(TryRecvError::Disconnected) => None,
            },
            None if self.open.is_some() || now < self.reopen_at => return false,
            None if shares && matches!(self.way, Way::Connect { .. }) => {
                self.connecting = self.connect(waker);
                if self.connecting.is_some() {
                    self.reopen_at = Moment::NEVER;
                    return false;
                }
                None
            }
            None => self.way.open().ok(),
        };
        self.connecting = None;
        let Some(open) = opened else {
            self.again = self.way.again(self.again);
            self.reopen_at = now + self.again;
            return false;
        };
        (self.open, self.reopen_at, self.again) = (Some(open), Moment::NEVER, 0);
        self.mark(shared, true);
        true
    }

    fn connect(&self, waker: &Arc<OwnedFd>) -> Option<Receiver<Result<Open, OpenFault>>> {
        let (sender, receiver) = channel();
        let (way, waker) = (self.way.clone(), Arc::clone(waker));
        let connect = move || {
            // The port may have been closed meanwhile.
            let _ = sender.send(way.open());
            wake(&waker);
        };
        std::thread::Builder::new().name("connect".into()).spawn(connect).ok().map(|_| receiver)
    }
}
