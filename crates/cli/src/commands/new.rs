//! `woodrush new DIR`: a commented starter project that passes check and prove.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};

/// The starter's files, by their path in the new folder.
const FILES: [(&str, &str); 2] = [
    ("woodrush.toml", include_str!("../starter/woodrush.toml")),
    ("profiles/temperature-probe.toml", include_str!("../starter/profiles/temperature-probe.toml")),
];

pub(crate) fn run(console: &mut Console, dir: &Path) -> Result<Verdict, Failure> {
    write_files(dir, &FILES)?;
    let shown = dir.display();
    let made = || FILES.iter().map(|(path, _)| format!("{shown}/{path}"));
    match console.format {
        Format::Json => {
            console.json(&serde_json::json!({ "format": 1, "made": made().collect::<Vec<_>>() }))?
        }
        Format::Csv => {
            let rows = made().map(|path| vec![path]).collect();
            console.table(&Table { head: vec!["made"], rows, whole: &[] })?;
        }
        Format::Text => {}
    }
    if console.format != Format::Text {
        return Ok(Verdict::Yes);
    }
    console.say(&format!("{} {shown}", console.paint(Tone::Good, "made")))?;
    for (path, _) in FILES {
        console.say(&format!("  {shown}/{path}"))?;
    }
    console.note(&format!("next: cd {shown} && woodrush check && woodrush prove"));
    Ok(Verdict::Yes)
}

/// Writes files into a folder that does not exist yet or is empty: nothing is overwritten.
pub(crate) fn write_files(dir: &Path, files: &[(&str, &str)]) -> Result<(), Failure> {
    let taken = std::fs::read_dir(dir).is_ok_and(|mut entries| entries.next().is_some());
    if taken {
        return Err(Failure::Usage(format!(
            "{} is not empty; nothing was written (name a new folder)",
            dir.display()
        )));
    }
    let mut made = Made::default();
    let mut written = || -> std::io::Result<()> {
        for (path, text) in files {
            let whole = dir.join(path);
            if let Some(parent) = whole.parent() {
                made.folder(parent)?;
            }
            made.file(&whole, text)?;
        }
        Ok(())
    };
    written().map_err(|error| {
        made.remove();
        Failure::Outside(format!("{} cannot be written: {error}; nothing was left behind", dir.display()))
    })
}

/// What has been made so far, in order.
#[derive(Default)]
struct Made {
    files: Vec<PathBuf>,
    folders: Vec<PathBuf>,
}

impl Made {
    fn folder(&mut self, path: &Path) -> std::io::Result<()> {
        let missing: Vec<&Path> =
            path.ancestors().take_while(|own| !own.as_os_str().is_empty() && !own.exists()).collect();
        for folder in missing.into_iter().rev() {
            std::fs::create_dir(folder)?;
            self.folders.push(folder.to_path_buf());
        }
        Ok(())
    }

    fn file(&mut self, path: &Path, text: &str) -> std::io::Result<()> {
        let mut file = OpenOptions::new().write(true).create_new(true).open(path)?;
        self.files.push(path.to_path_buf());
        file.write_all(text.as_bytes())?;
        file.sync_all()
    }

    /// Takes all of it away again.
    fn remove(&self) {
        // What is gone already is no trouble, and what others have put into a folder stays.
        for file in &self.files {
            let _ = std::fs::remove_file(file);
        }
        for folder in self.folders.iter().rev() {
            let _ = std::fs::remove_dir(folder);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// As on a full disk: the last of the files cannot be written.
    #[test]
    fn what_fails_half_way_leaves_nothing_behind() {
        let folder = tempfile::tempdir().unwrap();
        let dir = folder.path().join("site/of/mine");
        let files = [("a.toml", "a"), ("profiles/b.toml", "b"), ("profiles/b.toml", "b again")];
        let Err(Failure::Outside(why)) = write_files(&dir, &files) else { panic!("it was written") };
        assert!(why.contains("nothing was left behind"), "{why}");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
        // A folder that was there, and what others have in it, stays.
        std::fs::create_dir_all(&dir).unwrap();
        write_files(&dir, &files[..2]).unwrap();
        assert!(dir.join("profiles/b.toml").exists());
    }
}
