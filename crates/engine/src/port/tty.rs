//! Opening serial lines and making ptys: raw, with the line's settings, told apart when something is in the way.

use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use rustix::fs::{FlockOperation, Mode, OFlags, flock, open};
use rustix::io::Errno;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{
    ControlModes, OptionalActions, QueueSelector, SpecialCodeIndex, Termios, tcflush, tcgetattr, tcsetattr,
};
use std::path::{Path, PathBuf};
use woodrush_core::project::{Line, Parity};

/// Control characters that raw mode does not use and that survive the way to the other end of a pty, which shows no
/// parity and no character size: they tell a simulated line what its opener is set to.
const MARK: (SpecialCodeIndex, u8) = (SpecialCodeIndex::VLNEXT, 0xA5);
const DATA: SpecialCodeIndex = SpecialCodeIndex::VREPRINT;
const PARITY: SpecialCodeIndex = SpecialCodeIndex::VEOL2;
const STOP: SpecialCodeIndex = SpecialCodeIndex::VWERASE;

/// Why a line cannot be opened, in words, with the fix.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct OpenFault {
    pub(crate) what: String,
    pub(crate) fix: String,
    /// What it leads to is not there, and may come: an adapter that is not plugged in.
    pub(crate) missing: bool,
}

impl OpenFault {
    pub(crate) fn new(what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { what: what.into(), fix: fix.into(), missing: false }
    }
}

/// Opens a serial line raw, with its settings, for us alone.
pub(crate) fn open_line(path: &Path, line: Line) -> Result<OwnedFd, OpenFault> {
    let fault = |errno: Errno| {
        let shown = path.display();
        let (what, fix): (String, &str) = match errno {
            Errno::NOENT => (
                format!("{shown} does not exist"),
                "is the adapter plugged in? `ls /dev/tty*` shows what is there",
            ),
            Errno::ACCESS | Errno::PERM => (
                format!("{shown} may not be opened by this user"),
                "join the group that owns it (`ls -l` shows it)",
            ),
            Errno::BUSY | Errno::WOULDBLOCK => (
                format!("{shown} is in use by {}", holder(path)),
                "stop the other program: two on one line damage each other's bytes",
            ),
            Errno::NOTTY => (
                format!("{shown} is not a serial line"),
                "write the path of a serial line in the port's `serial`",
            ),
            other => (format!("{shown} cannot be opened: {other}"), "check the path and the adapter"),
        };
        let missing = matches!(errno, Errno::NOENT | Errno::NXIO | Errno::NODEV);
        OpenFault { missing, ..OpenFault::new(what, fix) }
    };
    let tty = open_raw(path, line).map_err(fault)?;
    // Root is not kept out by the terminal's own exclusive mode, so a lock says it once more.
    flock(&tty, FlockOperation::NonBlockingLockExclusive).map_err(fault)?;
    // Some drivers do not know it; the lock stands.
    let _ = rustix::termios::ioctl_tiocexcl(&tty);
    Ok(tty)
}

/// Opens a line raw that others may have open too: several simulated clients of one virtual port.
pub(crate) fn open_shared(path: &Path, line: Line) -> Result<OwnedFd, OpenFault> {
    let fault = |errno| {
        OpenFault::new(format!("{} cannot be opened: {errno}", path.display()), "is the converter running?")
    };
    open_raw(path, line).map_err(fault)
}

fn open_raw(path: &Path, line: Line) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDWR | OFlags::NOCTTY | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let tty = open(path, flags, Mode::empty())?;
    let mut termios = tcgetattr(&tty)?;
    configure(&mut termios, line)?;
    tcsetattr(&tty, OptionalActions::Now, &termios)?;
    // What waited in the driver belongs to nobody's question.
    let _ = tcflush(&tty, QueueSelector::IOFlush);
    Ok(tty)
}

fn configure(termios: &mut Termios, line: Line) -> Result<(), Errno> {
    termios.make_raw();
    termios.set_speed(line.baud)?;
    let modes = &mut termios.control_modes;
    modes.remove(ControlModes::CSIZE | ControlModes::PARENB | ControlModes::PARODD | ControlModes::CSTOPB);
    modes.insert(ControlModes::CREAD | ControlModes::CLOCAL);
    modes.insert(if line.data == 7 { ControlModes::CS7 } else { ControlModes::CS8 });
    match line.parity {
        Parity::None => {}
        Parity::Even => modes.insert(ControlModes::PARENB),
        Parity::Odd => modes.insert(ControlModes::PARENB | ControlModes::PARODD),
    }
    if line.stop == 2 {
        modes.insert(ControlModes::CSTOPB);
    }
    let codes = &mut termios.special_codes;
    codes[SpecialCodeIndex::VMIN] = 0;
    codes[SpecialCodeIndex::VTIME] = 0;
    codes[MARK.0] = MARK.1;
    codes[DATA] = line.data;
    codes[STOP] = line.stop;
    codes[PARITY] = match line.parity {
        Parity::None => b'N',
        Parity::Even => b'E',
        Parity::Odd => b'O',
    };
    Ok(())
}

/// What the opener of a pty's other end is set to; the parity only if it is one of us, else that of `assumed`.
pub(crate) fn opener(master: BorrowedFd<'_>, assumed: Line) -> Line {
    let Ok(termios) = tcgetattr(master) else { return assumed };
    let codes = &termios.special_codes;
    let marked = codes[MARK.0] == MARK.1;
    let parity = match (marked, codes[PARITY]) {
        (true, b'N') => Parity::None,
        (true, b'E') => Parity::Even,
        (true, b'O') => Parity::Odd,
        _ => assumed.parity,
    };
    let (data, stop) = if marked { (codes[DATA], codes[STOP]) } else { (assumed.data, assumed.stop) };
    Line { baud: termios.output_speed(), data, parity, stop }
}

/// Who holds a line, by name and number, as far as this user may see.
fn holder(path: &Path) -> String {
    let nobody = || "another program".to_string();
    let Ok(real) = std::fs::canonicalize(path) else { return nobody() };
    let own = std::process::id();
    let Ok(processes) = std::fs::read_dir("/proc") else { return nobody() };
    for process in processes.flatten() {
        let Some(number) = process.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else {
            continue;
        };
        let Ok(files) = std::fs::read_dir(process.path().join("fd")) else { continue };
        let holds =
            files.flatten().any(|file| std::fs::read_link(file.path()).is_ok_and(|target| target == real));
        if holds && number != own {
            let name = std::fs::read_to_string(process.path().join("comm")).unwrap_or_default();
            return format!("`{}` (process {number})", name.trim());
        }
    }
    nobody()
}

/// The end of a pty that the rig holds, and the path of the end that others open.
pub(crate) struct Pty {
    pub(crate) master: OwnedFd,
    pub(crate) path: PathBuf,
}

/// Makes a pty that is raw before its other end is opened: a fresh one echoes and cooks.
pub(crate) fn make_pty() -> Result<Pty, Errno> {
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
    grantpt(&master)?;
    unlockpt(&master)?;
    let path = PathBuf::from(ptsname(&master, Vec::new())?.to_string_lossy().into_owned());
    let mut termios = tcgetattr(&master)?;
    termios.make_raw();
    tcsetattr(&master, OptionalActions::Now, &termios)?;
    let flags = rustix::fs::fcntl_getfl(&master)? | OFlags::NONBLOCK;
    rustix::fs::fcntl_setfl(&master, flags)?;
    Ok(Pty { master, path })
}

/// Throws away what waits on the way to a pty's other end.
pub(crate) fn flush(fd: impl AsFd) {
    // Nothing to do about a flush that fails: the reader has its own ways to get in step.
    let _ = tcflush(fd, QueueSelector::IOFlush);
}
