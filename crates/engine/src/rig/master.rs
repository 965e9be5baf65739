//! The other end of a port that plays no devices and is no listening socket: a serial line, a virtual serial port, or a
//! connection that the converter makes. Others ask there, or bytes pass unread.

use crate::Dialer;
use crate::moment::{Clock, nap};
use crate::port::tty;
use rustix::fd::OwnedFd;
use std::io::{Error, ErrorKind};
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::project::{Line, Parity, Wires};

/// How a virtual serial port is opened: it has no speed of its own.
const PTY_LINE: Line = Line { baud: 115_200, data: 8, parity: Parity::None, stop: 1 };

/// How long is waited for a virtual serial port to appear, in microseconds.
const PATIENCE: u64 = 2_000_000;

/// Where a simulated client asks that does not dial a socket of the converter.
pub(super) struct Master {
    /// Index of the port.
    pub(super) port: usize,
    end: MasterEnd,
}

enum MasterEnd {
    /// The far end of a line that the converter opens.
    Line { wire: OwnedFd, path: PathBuf },
    /// The converter makes it; we open it.
    Pty { path: PathBuf },
    /// The converter dials it.
    Socket { listener: TcpListener, at: SocketAddr, wire: Mutex<Option<OwnedFd>> },
}

impl Master {
    /// For a port of these wires.
    pub(super) fn new(port: usize, wires: &Wires) -> std::io::Result<Option<Self>> {
        let end = match wires {
            Wires::Serial { .. } => {
                let pty = tty::make_pty()?;
                MasterEnd::Line { wire: pty.master, path: pty.path }
            }
            Wires::Pty { .. } => {
                let name = format!("woodrush-pty-{}-{port}-{:x}", std::process::id(), unique());
                MasterEnd::Pty { path: std::env::temp_dir().join(name) }
            }
            Wires::Connect { .. } => {
                let listener = TcpListener::bind((std::net::Ipv4Addr::LOCALHOST, 0))?;
                let at = listener.local_addr()?;
                MasterEnd::Socket { listener, at, wire: Mutex::new(None) }
            }
            Wires::Listen { .. } | Wires::Network { .. } | Wires::Ethernet { .. } => return Ok(None),
        };
        Ok(Some(Self { port, end }))
    }

    /// The path of the line that the converter opens.
    pub(super) fn serial(&self) -> Option<&Path> {
        if let MasterEnd::Line { path, .. } = &self.end { Some(path) } else { None }
    }

    /// Where the converter makes a virtual serial port.
    pub(super) fn pty(&self) -> Option<&Path> {
        if let MasterEnd::Pty { path } = &self.end { Some(path) } else { None }
    }

    /// What the converter dials.
    pub(super) fn socket(&self) -> Option<SocketAddr> {
        if let MasterEnd::Socket { at, .. } = &self.end { Some(*at) } else { None }
    }

    /// A client on this end.
    pub(super) fn dial(&self, line: LineTime, protocol: &str, station: &Station) -> std::io::Result<Dialer> {
        Dialer::over(self.wire()?, line, protocol, station)
    }

    /// Its bytes.
    pub(super) fn wire(&self) -> std::io::Result<OwnedFd> {
        match &self.end {
            MasterEnd::Line { wire, .. } => wire.try_clone(),
            MasterEnd::Pty { path } => {
                // The converter makes it, and may be a moment behind.
                let clock = Clock::start();
                while !path.exists() && clock.now().0 < PATIENCE {
                    nap(2000);
                }
                tty::open_shared(path, PTY_LINE).map_err(|fault| Error::other(fault.what))
            }
            MasterEnd::Socket { listener, wire, .. } => {
                let mut kept = wire.lock().unwrap_or_else(PoisonError::into_inner);
                if kept.is_none() {
                    let (stream, _) = listener.accept()?;
                    stream.set_nodelay(true)?;
                    stream.set_nonblocking(true)?;
                    *kept = Some(stream.into());
                }
                kept.as_ref().ok_or(ErrorKind::NotConnected)?.try_clone()
            }
        }
    }

    /// The connection was lost: the next client waits for the converter to dial again.
    pub(super) fn forget(&self) {
        if let MasterEnd::Socket { wire, .. } = &self.end {
            *wire.lock().unwrap_or_else(PoisonError::into_inner) = None;
        }
    }
}

fn unique() -> u64 {
    use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
    static NEXT: AtomicU64 = AtomicU64::new(0);
    NEXT.fetch_add(1, Relaxed)
}
