//! Finding and reading the project's files.

use crate::Failure;
use crate::args::Global;
use crate::render::findings;
use std::path::{Path, PathBuf};
use woodrush_core::check::{Checked, Finding, Severity, check, descriptors};
use woodrush_core::ledger::Ledger;
use woodrush_core::project::{has_address, read};

/// The name that is looked for.
const NAME: &str = "woodrush.toml";

/// The project file: the one that was named, or the first on the way up.
pub(crate) fn find(global: &Global) -> Result<PathBuf, Failure> {
    if let Some(path) = &global.project {
        // A folder stands for the project in it.
        return Ok(if path.is_dir() { path.join(NAME) } else { path.clone() });
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
        // Tables come out of spreadsheets, which write other encodings too.
        if whole.extension().is_none_or(|kind| !matches!(kind.to_str(), Some("csv" | "tsv" | "txt"))) {
            return woodrush_engine::read_plain(&whole);
        }
        let bytes = woodrush_engine::read_plain_bytes(&whole, woodrush_engine::PLAIN_MAX)?;
        Ok(woodrush_core::sheet::decode(&bytes).0)
    }
}

/// Reads and checks the project; its faults are findings, an unreadable file is a failure.
pub(crate) fn load(path: &Path) -> Result<Checked, Failure> {
    let name = path.display().to_string();
    let own = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let text = reader(path)(&own)
        .map_err(|why| Failure::Usage(format!("the project file cannot be read: {why}")))?;
    if text.trim().is_empty() {
        return Err(Failure::Usage(format!(
            "{name} is empty, which is not a project (`woodrush new DIR` makes one)"
        )));
    }
    let load = reader(path);
    let mut checked = check(read(&name, text, &mut |path| load(path)));
    if let Some(most) = woodrush_engine::descriptor_limit() {
        checked.findings.extend(descriptors(&checked.project, most));
    }
    // One that is there and cannot be read is not the same as none.
    let ledger = path.with_file_name(Ledger::name(&own));
    if ledger.exists() {
        woodrush_engine::read_plain(&ledger)
            .map_err(|why| Failure::Usage(format!("the ledger cannot be read: {why}")))?;
    }
    Ok(checked)
}

/// Whether every value has an address: a converter without some of its values is not what the file says.
pub(crate) fn addressed(checked: &Checked) -> Result<(), String> {
    let maps = checked.project.maps.iter().filter(|map| map.enabled && !has_address(map));
    let mut without = maps.filter_map(|map| map.area.as_deref()).map(|own| own.value.as_str());
    let Some(first) = without.next() else { return Ok(()) };
    Err(match without.count() {
        0 => format!("`{first}` has no address yet: run `woodrush map --assign` first"),
        more => {
            format!("`{first}` and {more} more values have no address yet: run `woodrush map --assign` first")
        }
    })
}

/// A project without errors; with some, they are shown and it is a "no".
pub(crate) fn load_sound(
    console: &mut crate::console::Console,
    path: &Path,
) -> Result<Option<Checked>, Failure> {
    let checked = load(path)?;
    if let Some(finding) = checked.findings.iter().find(|finding| finding.rule.code == "F07") {
        return Err(Failure::Usage(format!("{} ({})", finding.what, finding.fix)));
    }
    sound_but_for(console, checked, &|_| false)
}

/// A project whose only errors are those that are let pass.
pub(crate) fn sound_but_for(
    console: &mut crate::console::Console,
    mut checked: Checked,
    passes: &dyn Fn(&Finding) -> bool,
) -> Result<Option<Checked>, Failure> {
    let stops = |finding: &Finding| finding.severity == Severity::Error && !passes(finding);
    if checked.findings.iter().any(stops) {
        checked.findings.retain(|finding| !passes(finding));
        let text = findings::text(console, &checked, true, findings::MOST);
        console.note(&text);
        console.complain("the project has errors, so nothing was started");
        return Ok(None);
    }
    Ok(Some(checked))
}
