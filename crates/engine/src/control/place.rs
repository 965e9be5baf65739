//! Where control sockets lie, who may hold one, and whose socket it is that answers. Nothing of it depends on the
//! environment of a session: a service's converter is found from any login of the machine.

use super::Whose;
use rustix::fd::{AsFd, OwnedFd};
use rustix::fs::{FlockOperation, Mode, OFlags, flock, open};
use rustix::io::Errno;
use rustix::process::getuid;
use std::io::{Error, ErrorKind};
use std::os::unix::fs::{DirBuilderExt, FileTypeExt, MetadataExt, PermissionsExt};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};

/// The folder of services: below it only root, or the user for whom root has made it, can put anything.
const SYSTEM: &str = "/run/woodrush";
/// Others than owner and group have no right to write.
const WRITE_OTHERS: u32 = 0o022;

/// A place for a control socket that is held by this process; nobody else of this machine can hold the same.
pub struct Claim {
    path: PathBuf,
    listener: UnixListener,
    /// Locked as long as the place is held.
    _lock: OwnedFd,
}

impl Claim {
    /// Takes the place of a project, before anything else of it is opened.
    ///
    /// # Errors
    /// `AddrInUse` where another one of the same project runs, by whichever user; else why no place can be had, in words.
    pub fn take(whose: Whose, project: &Path) -> std::io::Result<Self> {
        let name = name(whose, project);
        match find(&name) {
            Ok(_) => return Err(Error::new(ErrorKind::AddrInUse, "")),
            Err(error) if error.kind() == ErrorKind::PermissionDenied => {
                return Err(Error::new(ErrorKind::AddrInUse, error.to_string()));
            }
            Err(_) => {}
        }
        let folder = serving_folder()?;
        let path = folder.join(&name);
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let lock = open(folder.join(format!("{name}.lock")), flags, Mode::RUSR | Mode::WUSR)?;
        flock(&lock, FlockOperation::NonBlockingLockExclusive).map_err(|errno| match errno {
            Errno::WOULDBLOCK => Error::new(ErrorKind::AddrInUse, ""),
            other => other.into(),
        })?;
        // Left over by one that was killed: the lock says that none holds it.
        if let Err(error) = std::fs::remove_file(&path)
            && error.kind() != ErrorKind::NotFound
        {
            return Err(error);
        }
        let listener = UnixListener::bind(&path)?;
        // In the folder of services the group that root has given it may speak to them.
        let mode = if folder == Path::new(SYSTEM) { 0o660 } else { 0o600 };
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode))?;
        if mode == 0o660 {
            let group = std::fs::metadata(&folder)?.gid();
            // Where the group cannot be given, the owner and root can still speak to it.
            let _ = std::os::unix::fs::chown(&path, None, Some(group));
        }
        Ok(Self { path, listener, _lock: lock })
    }

    /// Where other terminals find it.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    pub(super) fn listener(&self) -> std::io::Result<UnixListener> {
        self.listener.try_clone()
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        // If it is gone already, all the better. The lock's file stays: to remove it would let two hold one place.
        let _ = std::fs::remove_file(&self.path);
    }
}

/// The socket's name: after the project file's full path.
fn name(whose: Whose, project: &Path) -> String {
    let whole = std::fs::canonicalize(project).unwrap_or_else(|_| project.to_path_buf());
    // FNV-1a: only to tell projects apart, and the same in every build.
    let mark = whole.as_os_str().as_encoded_bytes().iter().fold(0xCBF2_9CE4_8422_2325u64, |hash, byte| {
        (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01B3)
    });
    let kind = match whose {
        Whose::Rig => "rig",
        Whose::Run => "run",
    };
    format!("{kind}-{mark:016x}.sock")
}

/// The folders of a user, the better one first.
fn folders_of(user: u32) -> [PathBuf; 2] {
    [format!("/run/user/{user}/woodrush").into(), format!("/tmp/woodrush-{user}").into()]
}

/// The folder in which this user's sockets are served: that of services where it is his, else one of his own. What lies
/// there may be trusted because nobody else can write there.
fn serving_folder() -> std::io::Result<PathBuf> {
    let own = getuid().as_raw();
    let system = PathBuf::from(SYSTEM);
    if own == 0 {
        // Root's are services; where /run cannot be written, as in some containers, the own folder serves.
        let _ = std::fs::DirBuilder::new().mode(0o755).create(&system);
    }
    if std::fs::symlink_metadata(&system).is_ok_and(|found| found.is_dir() && found.uid() == own) {
        return owned(system, own);
    }
    let [session, temporary] = folders_of(own);
    let folder = match session.parent().map(std::fs::symlink_metadata) {
        Some(Ok(found)) if found.is_dir() && found.uid() == own => session,
        _ => temporary,
    };
    match std::fs::DirBuilder::new().mode(0o700).create(&folder) {
        Err(error) if error.kind() != ErrorKind::AlreadyExists => Err(error),
        _ => owned(folder, own),
    }
}

/// A folder that is this user's, and in which nobody else can write.
fn owned(folder: PathBuf, own: u32) -> std::io::Result<PathBuf> {
    let found = std::fs::symlink_metadata(&folder)?;
    let shown = folder.display();
    let wrong = if !found.is_dir() {
        format!("{shown} is not a folder")
    } else if found.uid() != own {
        format!("{shown} belongs to {}", user_name(found.uid()))
    } else if found.mode() & WRITE_OTHERS != 0 {
        format!("other users may write in {shown}")
    } else {
        return Ok(folder);
    };
    let what = format!(
        "{wrong}, so a control socket there could belong to another user (remove it, or correct its owner and mode)"
    );
    Err(Error::new(ErrorKind::PermissionDenied, what))
}

/// Connects to the socket of a project, wherever it lies, and looks whose it is.
pub(super) fn connect(whose: Whose, project: &Path) -> std::io::Result<UnixStream> {
    find(&name(whose, project))
}

fn find(name: &str) -> std::io::Result<UnixStream> {
    let own = getuid().as_raw();
    let mut places = vec![PathBuf::from(SYSTEM)];
    places.extend(folders_of(own));
    if own == 0 {
        places.extend(everyones());
    }
    for folder in places {
        let path = folder.join(name);
        let Ok(about) = std::fs::symlink_metadata(&folder) else { continue };
        if !about.is_dir() || about.mode() & WRITE_OTHERS != 0 {
            continue;
        }
        // A user's own folder is that user's; root made the folder of services, whichever user owns it.
        if folder != Path::new(SYSTEM) && own != 0 && about.uid() != own {
            continue;
        }
        if !std::fs::symlink_metadata(&path).is_ok_and(|found| found.file_type().is_socket()) {
            continue;
        }
        match UnixStream::connect(&path) {
            Ok(stream) => {
                let peer = peer(&stream)?;
                if peer == own || peer == 0 || peer == about.uid() {
                    return Ok(stream);
                }
                let what = format!("{} answers at {}, and it is not theirs", user_name(peer), path.display());
                return Err(Error::new(ErrorKind::PermissionDenied, what));
            }
            Err(error) if error.kind() == ErrorKind::PermissionDenied => {
                let found = std::fs::symlink_metadata(&path)?;
                let what = format!(
                    "it runs as {}, and {} may not use it (join the group {}, or use `sudo -u {}`)",
                    user_name(found.uid()),
                    user_name(own),
                    group_name(found.gid()),
                    user_name(found.uid()),
                );
                return Err(Error::new(ErrorKind::PermissionDenied, what));
            }
            // Left over by one that was killed.
            Err(_) => {}
        }
    }
    Err(Error::new(ErrorKind::NotFound, "none of this project is running"))
}

/// Every user's folders, for root: each belongs to the user that its name says.
fn everyones() -> Vec<PathBuf> {
    let users = |folder: &str, prefix: &str| -> Vec<u32> {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let numbers = entries.filter_map(|entry| {
            entry.file_name().to_str().and_then(|name| name.strip_prefix(prefix)?.parse().ok())
        });
        numbers.collect()
    };
    let all = users("/run/user", "").into_iter().chain(users("/tmp", "woodrush-"));
    let his = |user: u32| {
        folders_of(user)
            .into_iter()
            .filter(move |folder| std::fs::symlink_metadata(folder).is_ok_and(|found| found.uid() == user))
    };
    all.flat_map(his).collect()
}

/// The user at the other end of a socket, as the system knows it.
pub(super) fn peer(stream: impl AsFd) -> std::io::Result<u32> {
    Ok(rustix::net::sockopt::socket_peercred(stream)?.uid.as_raw())
}

fn user_name(user: u32) -> String {
    named("/etc/passwd", user).unwrap_or_else(|| format!("user {user}"))
}

fn group_name(group: u32) -> String {
    named("/etc/group", group).unwrap_or_else(|| group.to_string())
}

/// The name of a number in one of the system's lists, whose third field it is.
fn named(list: &str, number: u32) -> Option<String> {
    let text = std::fs::read_to_string(list).ok()?;
    let wanted = number.to_string();
    let name = |line: &str| {
        let mut fields = line.split(':');
        let name = fields.next()?.to_string();
        (fields.nth(1)? == wanted).then_some(name)
    };
    text.lines().find_map(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_of_another_user_or_one_in_which_others_write_is_never_taken() {
        let folder = tempfile::tempdir().unwrap();
        let own = getuid().as_raw();
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o700)).unwrap();
        assert!(owned(folder.path().into(), own).is_ok());
        assert!(owned(folder.path().into(), own + 1).unwrap_err().to_string().contains("belongs to"));
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o777)).unwrap();
        assert!(owned(folder.path().into(), own).unwrap_err().to_string().contains("other users may write"));
        let link = folder.path().join("link");
        std::os::unix::fs::symlink("/", &link).unwrap();
        assert!(owned(link, own).unwrap_err().to_string().contains("is not a folder"));
    }

    #[test]
    fn one_place_is_held_once_and_found_by_its_project() {
        let folder = tempfile::tempdir().unwrap();
        let project = folder.path().join("woodrush.toml");
        std::fs::write(&project, "").unwrap();
        assert_eq!(connect(Whose::Run, &project).unwrap_err().kind(), ErrorKind::NotFound);
        let claim = Claim::take(Whose::Run, &project).unwrap();
        assert_eq!(Claim::take(Whose::Run, &project).err().unwrap().kind(), ErrorKind::AddrInUse);
        assert!(connect(Whose::Run, &project).is_ok(), "whatever the environment says");
        let rig = Claim::take(Whose::Rig, &project).unwrap();
        drop((claim, rig));
        let again = Claim::take(Whose::Run, &project).unwrap();
        // One that was killed leaves its socket.
        let path = again.path().to_path_buf();
        std::mem::forget(again);
        assert!(path.exists());
    }

    #[test]
    fn users_are_called_by_their_names_where_they_have_one() {
        assert_eq!(user_name(0), "root");
        assert_eq!(user_name(4_123_456_789), "user 4123456789");
    }
}
