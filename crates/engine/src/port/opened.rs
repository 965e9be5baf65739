//! A port with one other end and what is open of it: how it is opened, and again after it was lost.

use super::echo::Unecho;
use super::tty::OpenFault;
use super::way::{Open, Way};
use crate::Moment;
use crate::hub::Chunk;
use crate::port::worker::Bell;
use crate::shared::{Event, Shared};
use crate::speak::Side;
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
    /// What it leads to is missing; it is opened as soon as that is there.
    Missing(OpenFault),
    /// It is opened as soon as it can be.
    Later,
}

impl Begin {
    /// What is open of it.
    pub(super) fn open(self) -> Option<Open> {
        if let Self::Opened(open) = self { Some(open) } else { None }
    }
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
    /// That it is not open was told.
    told: bool,
    /// Whether it can be opened has been found out once.
    tried: bool,
    /// It is being connected, by a thread that may wait.
    connecting: Option<Receiver<Result<Open, OpenFault>>>,
}

impl OpenedPort {
    /// A port, and tells whether it is open.
    pub(crate) fn begin(shared: &Shared, port: usize, (way, begin): (Way, Begin), now: Moment) -> Self {
        let settings = shared.ports.get(port);
        let (mut told, mut again) = (false, 0);
        match &begin {
            Begin::Opened(_) => shared.tell(Event::PortUp { port, what: way.shown() }),
            Begin::Missing(fault) => {
                let why = format!("{} ({})", fault.what, fault.fix);
                shared.tell(Event::PortDown { port, why });
                (told, again) = (true, way.again(0));
            }
            Begin::Later => {}
        }
        let open = begin.open();
        let was_opened = open.is_some();
        let own = Self {
            port,
            name: settings.map(|port| port.name.clone()).unwrap_or_default(),
            echo: settings.is_some_and(|port| port.echo).then(Unecho::default),
            is_used: !matches!(way, Way::Pty { .. }),
            reopen_at: if open.is_some() { Moment::NEVER } else { now + again },
            again,
            way,
            open,
            told,
            tried: told || was_opened,
            connecting: None,
        };
        own.mark(shared, own.open.is_some());
        own
    }

    fn mark(&self, shared: &Shared, up: bool) {
        if let Some(port) = shared.health.ports.get(self.port) {
            port.up.store(up, Relaxed);
        }
    }

    /// It is lost, and will be opened again.
    pub(super) fn lost(&mut self, shared: &Shared, now: Moment, why: &str) {
        (self.open, self.told) = (None, true);
        self.again = self.way.again(0);
        self.reopen_at = now + self.again;
        self.mark(shared, false);
        passed(shared, &self.name, Side::Either, (now, now), &[]);
        let why = format!("{}: {why}", self.way.shown());
        shared.tell(Event::PortDown { port: self.port, why });
    }

    /// Opens it once more if it is time; whether it is open now. A connection is made by another thread: nothing else
    /// must wait for it.
    pub(super) fn reopens(&mut self, shared: &Shared, now: Moment, bell: &Bell) -> bool {
        let opened = match &self.connecting {
            Some(connecting) => match connecting.try_recv() {
                Ok(opened) => Some(opened),
                Err(TryRecvError::Empty) => return false,
                Err(TryRecvError::Disconnected) => None,
            },
            None if self.open.is_some() || now < self.reopen_at => return false,
            None if matches!(self.way, Way::Connect { .. }) => {
                self.connecting = self.connect(bell);
                if self.connecting.is_some() {
                    self.reopen_at = Moment::NEVER;
                    return false;
                }
                None
            }
            None => Some(self.way.open()),
        };
        (self.connecting, self.tried) = (None, true);
        match opened {
            Some(Ok(open)) => {
                (self.open, self.reopen_at, self.again, self.told) = (Some(open), Moment::NEVER, 0, false);
                self.mark(shared, true);
                return true;
            }
            Some(Err(fault)) if !std::mem::replace(&mut self.told, true) => {
                let why =
                    if self.way.must_open() { format!("{} ({})", fault.what, fault.fix) } else { fault.what };
                shared.tell(Event::PortDown { port: self.port, why });
            }
            _ => {}
        }
        self.again = self.way.again(self.again);
        self.reopen_at = now + self.again;
        false
    }

    /// Whether it is not known yet whether it can be opened: what is asked before that is known would fail for nothing.
    pub(super) const fn is_untried(&self) -> bool {
        !self.tried
    }

    fn connect(&self, bell: &Bell) -> Option<Receiver<Result<Open, OpenFault>>> {
        let (sender, receiver) = channel();
        let (way, bell) = (self.way.clone(), bell.clone());
        let connect = move || {
            // The port may have been closed meanwhile.
            let _ = sender.send(way.open());
            bell.ring();
        };
        std::thread::Builder::new().name("connect".into()).spawn(connect).ok().map(|_| receiver)
    }
}
