//! Finding and reading the project's files.

use crate::Failure;
use crate::args::Global;
use std::path::{Path, PathBuf};
use woodrush_core::check::{Checked, check};
use woodrush_core::project::read;

/// The name that is looked for.
const NAME: &str = "woodrush.toml";

/// The project file: the one that was named, or the first on the way up.
pub(crate) fn find(global: &Global) -> Result<PathBuf, Failure> {
    if let Some(path) = &global.project {
        return Ok(path.clone());
    }
    let here = std::env::current_dir()?;
    let found = here.ancestors().map(|folder| folder.join(NAME)).find(|path| path.is_file());
    found.map(|path| path.strip_prefix(&here).map(Path::to_path_buf).unwrap_or(path)).ok_or_else(|| {
        Failure::Usage(format!(
            "there is no {NAME} in {} or a folder above (name one with `-p FILE`, or make one with `woodrush new DIR`)",
            here.display()
        ))
    })
}

/// Reads a text file of a project; paths are taken from the project file's folder.
pub(crate) fn reader(project: &Path) -> impl Fn(&str) -> Result<String, String> + use<> {
    let folder = project.parent().map(Path::to_path_buf).unwrap_or_default();
    move |path: &str| {
        let whole = folder.join(path);
        std::fs::read_to_string(&whole).map_err(|error| match error.kind() {
            std::io::ErrorKind::NotFound => format!("{} does not exist", whole.display()),
            std::io::ErrorKind::PermissionDenied => {
                format!("{} may not be read by this user", whole.display())
            }
            std::io::ErrorKind::InvalidData => format!("{} is not UTF-8 text", whole.display()),
            _ => format!("{}: {error}", whole.display()),
        })
    }
}

/// Reads and checks the project; its faults are findings, an unreadable file is a failure.
pub(crate) fn load(path: &Path) -> Result<Checked, Failure> {
    let name = path.display().to_string();
    let own = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let text = reader(path)(&own)
        .map_err(|why| Failure::Usage(format!("the project file cannot be read: {why}")))?;
    let load = reader(path);
    Ok(check(read(&name, text, &mut |path| load(path))))
}

/// A project without errors; with some, they are shown and it is a "no".
pub(crate) fn load_sound(
    console: &mut crate::console::Console,
    path: &Path,
) -> Result<Option<Checked>, Failure> {
    let checked = load(path)?;
    if let Some(finding) = checked.findings.iter().find(|finding| finding.rule.code == "F07") {
        return Err(Failure::Usage(format!("{} ({})", finding.what, finding.mend)));
    }
    if checked.has_errors() {
        let text = crate::render::findings::text(console, &checked, true);
        console.note(&text);
        console.complain("the project has errors, so nothing was started");
        return Ok(None);
    }
    Ok(Some(checked))
}
