//! `woodrush new DIR`: a commented starter project that passes check and prove.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use std::path::Path;

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
    let written = || -> std::io::Result<()> {
        for (path, text) in files {
            let whole = dir.join(path);
            if let Some(parent) = whole.parent() {
                std::fs::create_dir_all(parent)?;
            }
            std::fs::write(whole, text)?;
        }
        Ok(())
    };
    written().map_err(|error| Failure::Outside(format!("{} cannot be written: {error}", dir.display())))
}
