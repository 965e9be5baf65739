//! Files that a project names: plain ones of a bounded size. A device, a FIFO or a folder is told at once; to read one
//! could wait for ever, or never end.

use rustix::fs::{FileType, Mode, OFlags, fstat, open};
use rustix::io::Errno;
use std::fs::File;
use std::io::Read;
use std::path::Path;

/// Most bytes of a file that a project names: a register list of 100,000 points has some 8 MB.
pub const PLAIN_MAX: u64 = 16 * 1024 * 1024;

/// The text of a plain file of at most [`PLAIN_MAX`] bytes.
///
/// # Errors
/// Why it cannot be read, in words that begin with its path.
pub fn read_plain(path: &Path) -> Result<String, String> {
    let bytes = read_plain_bytes(path, PLAIN_MAX)?;
    String::from_utf8(bytes).map_err(|_| format!("{} is not UTF-8 text", path.display()))
}

/// The bytes of a plain file of at most `most` bytes.
///
/// # Errors
/// Why it cannot be read, in words that begin with its path.
pub fn read_plain_bytes(path: &Path, most: u64) -> Result<Vec<u8>, String> {
    let shown = path.display();
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let file = open(path, flags, Mode::empty()).map_err(|errno| match errno {
        Errno::NOENT => format!("{shown} does not exist"),
        Errno::ACCESS | Errno::PERM => format!("{shown} may not be read by this user"),
        // The other end of a socket's file.
        Errno::NXIO => format!("{shown} is not a plain file"),
        other => format!("{shown}: {other}"),
    })?;
    let about = fstat(&file).map_err(|errno| format!("{shown}: {errno}"))?;
    let what = match FileType::from_raw_mode(about.st_mode) {
        FileType::RegularFile => None,
        FileType::Directory => Some("a folder"),
        FileType::Fifo => Some("a FIFO"),
        FileType::CharacterDevice | FileType::BlockDevice => Some("a device"),
        _ => Some("something else"),
    };
    if let Some(what) = what {
        return Err(format!("{shown} is {what}, not a plain file"));
    }
    let mut bytes = vec![];
    File::from(file).take(most + 1).read_to_end(&mut bytes).map_err(|error| format!("{shown}: {error}"))?;
    if bytes.len() as u64 > most {
        return Err(format!("{shown} is longer than {} MB, the most that is read", most / 1024 / 1024));
    }
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_a_plain_file_is_told_at_once() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("good"), "text").unwrap();
        assert_eq!(read_plain(&at("good")).unwrap(), "text");
        std::os::unix::fs::symlink(at("good"), at("link")).unwrap();
        assert_eq!(read_plain(&at("link")).unwrap(), "text", "a link to one is one");
        rustix::fs::mknodat(rustix::fs::CWD, at("pipe"), FileType::Fifo, Mode::RUSR, 0).unwrap();
        assert!(read_plain(&at("pipe")).unwrap_err().ends_with("is a FIFO, not a plain file"));
        assert!(read_plain(Path::new("/dev/zero")).unwrap_err().ends_with("is a device, not a plain file"));
        assert!(read_plain(folder.path()).unwrap_err().ends_with("is a folder, not a plain file"));
        assert!(read_plain(&at("none")).unwrap_err().ends_with("does not exist"));
        std::fs::write(at("bytes"), [0xFF, 0xFE]).unwrap();
        assert!(read_plain(&at("bytes")).unwrap_err().ends_with("is not UTF-8 text"));
        File::create(at("large")).unwrap().set_len(PLAIN_MAX + 1).unwrap();
        assert!(read_plain(&at("large")).unwrap_err().contains("is longer than 16 MB"));
    }
}
