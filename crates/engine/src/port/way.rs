//! How a port is opened: a serial line, an outgoing connection, or a virtual serial port that we make.

use super::rs485;
use super::tty::{self, OpenFault};
use crate::admission::keep_alive;
use rustix::fd::{AsFd, OwnedFd};
use rustix::fs::{Mode, OFlags, open};
use rustix::io::Errno;
use std::net::{SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::time::Duration;
use woodrush_core::project::Line;

/// How long a connection may take to be made.
const CONNECT_PATIENCE: Duration = Duration::from_secs(2);
/// How often what went away is tried again, in microseconds: a line always, a connection less and less often.
const AGAIN: u64 = 1_000_000;
const AGAIN_MOST: u64 = 30_000_000;

/// Where a port's bytes come from and go to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Way {
    /// A serial line.
    Serial { path: PathBuf, line: Line, two_wires: bool },
    /// A connection that we make.
    Connect { to: SocketAddr },
    /// A virtual serial port at this path.
    Pty { path: PathBuf },
}

/// An open way; what must go with it is removed when it is dropped.
pub(crate) struct Open {
    pub(crate) fd: OwnedFd,
    /// The other end of a virtual port may be shut without the port being gone.
    pub(crate) is_pty: bool,
    /// Its link, removed when it is dropped.
    _link: Option<PtyLink>,
}

impl Open {
    /// A connection that a client made to us.
    pub(crate) fn of(fd: OwnedFd) -> Self {
        Self { fd, is_pty: false, _link: None }
    }
}

struct PtyLink(PathBuf);

impl Drop for PtyLink {
    fn drop(&mut self) {
        // If it is gone already, all the better.
        let _ = std::fs::remove_file(&self.0);
    }
}

impl Way {
    /// For the log.
    pub(crate) fn shown(&self) -> String {
        match self {
            Self::Serial { path, .. } | Self::Pty { path } => path.display().to_string(),
            Self::Connect { to } => to.to_string(),
        }
    }

    /// Whether a start without it makes no sense: a wrong path should be told at once, a peer may come later.
    pub(crate) fn must_open(&self) -> bool {
        !matches!(self, Self::Connect { .. })
    }

    /// Whether nothing but its own end goes through it: reading can wait while a request is worked on, and the other
    /// side then waits too.
    pub(crate) fn is_stream(&self) -> bool {
        matches!(self, Self::Connect { .. })
    }

    /// The path of a line or of a virtual port.
    pub(crate) fn path(&self) -> Option<&Path> {
        match self {
            Self::Serial { path, .. } | Self::Pty { path } => Some(path),
            Self::Connect { .. } => None,
        }
    }

    /// The wait before the next try, after one that followed `before`.
    pub(crate) fn again(&self, before: u64) -> u64 {
        match self {
            Self::Connect { .. } => before.saturating_mul(2).clamp(AGAIN, AGAIN_MOST),
            _ => AGAIN,
        }
    }

    /// Opens it.
    ///
    /// # Errors
    /// Why not, with the fix.
    pub(crate) fn open(&self) -> Result<Open, OpenFault> {
        match self {
            Self::Serial { path, line, two_wires } => {
                let fd = tty::open_line(path, *line)?;
                if *two_wires {
                    rs485::drive_direction(fd.as_fd());
                }
                Ok(Open { fd, is_pty: false, _link: None })
            }
            Self::Connect { to } => connect(*to),
            Self::Pty { path } => make_pty(path),
        }
    }
}

fn connect(to: SocketAddr) -> Result<Open, OpenFault> {
    let fault = |error: std::io::Error| {
        let (what, fix) = match error.kind() {
            std::io::ErrorKind::ConnectionRefused => (
                format!("{to} refuses the connection"),
                "the machine is there and nothing listens on that port: is the port number right?",
            ),
            std::io::ErrorKind::TimedOut => (
                format!("{to} does not answer"),
                "is the address right, the machine on, and in this subnet or behind the router?",
            ),
            std::io::ErrorKind::HostUnreachable | std::io::ErrorKind::NetworkUnreachable => (
                format!("no route to {to}: {error}"),
                "is it in another subnet, the prefix length wrong, the router missing, or the machine off?",
            ),
            _ => (format!("no connection to {to}: {error}"), "check the address and the network"),
        };
        OpenFault::new(what, fix)
    };
    let stream = TcpStream::connect_timeout(&to, CONNECT_PATIENCE).map_err(fault)?;
    // Small requests at once; where the platform cannot, they come a little later.
    let _ = stream.set_nodelay(true);
    keep_alive(&stream);
    stream.set_nonblocking(true).map_err(fault)?;
    Ok(Open { fd: stream.into(), is_pty: false, _link: None })
}

/// Whether a link is one that a converter made and left: it leads to a pty that no longer exists, or that is closed at
/// its other end. Any other link is not ours.
fn is_left_over(path: &Path) -> bool {
    let Ok(target) = std::fs::read_link(path) else { return false };
    if !target.starts_with("/dev/pts") {
        return false;
    }
    let flags = OFlags::RDWR | OFlags::NOCTTY | OFlags::NONBLOCK | OFlags::CLOEXEC;
    match open(&target, flags, Mode::empty()) {
        Err(errno) => matches!(errno, Errno::NOENT | Errno::IO | Errno::NXIO),
        Ok(_) => false,
    }
}

fn make_pty(path: &Path) -> Result<Open, OpenFault> {
    let fault = |what: String, fix: &str| OpenFault::new(what, fix);
    let pty = tty::make_pty()
        .map_err(|errno| fault(format!("no virtual port can be made: {errno}"), "free ptys"))?;
    match std::fs::symlink_metadata(path) {
        // Left over by a converter that was killed, or in use by one that lives.
        Ok(found) if found.is_symlink() && is_left_over(path) => {
            let _ = std::fs::remove_file(path);
        }
        Ok(_) => {
            let what = format!(
                "{} exists and is not a virtual port that a converter has left behind",
                path.display()
            );
            return Err(fault(what, "write another path in the port's `pty`, or remove what is there"));
        }
        Err(_) => {}
    }
    std::os::unix::fs::symlink(&pty.path, path).map_err(|error| {
        fault(
            format!("{} cannot be made: {error}", path.display()),
            "write a path in a folder that may be written",
        )
    })?;
    Ok(Open { fd: pty.master, is_pty: true, _link: Some(PtyLink(path.to_path_buf())) })
}
