//! `woodrush map --eds`: the file by which an engineering system knows the converter's connections.

use crate::console::Console;
use crate::{Failure, Verdict};
use std::path::{Path, PathBuf};
use woodrush_core::check::Checked;
use woodrush_core::project::Owner;
use woodrush_core::protocol::Setup;

/// Writes the file of every port whose images a controller exchanges with; several have the port's name in theirs.
pub(crate) fn run(console: &mut Console, path: &Path, to: &Path) -> Result<Verdict, Failure> {
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let files = files(&checked, today());
    if files.is_empty() {
        return Err(Failure::Usage(
            "no controller exchanges blocks with the converter: an image needs `inputs` on a `network` port"
                .into(),
        ));
    }
    let several = files.len() > 1;
    for (port, suffix, text) in files {
        let place = if several { named(to, &port, suffix) } else { to.to_path_buf() };
        crate::kept::put(&place, text.as_bytes())?;
        console.note(&format!("{} describes the connections of port `{port}`", place.display()));
    }
    Ok(Verdict::Yes)
}

/// The file beside that path for one of several ports: `cell.eds` becomes `cell-line.eds`.
fn named(to: &Path, port: &str, suffix: &str) -> PathBuf {
    let stem = to.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let suffix = to.extension().map_or_else(|| suffix.to_string(), |own| own.to_string_lossy().into_owned());
    to.with_file_name(format!("{stem}-{port}.{suffix}"))
}

/// Each port with its file.
fn files(checked: &Checked, date: (i16, i8, i8)) -> Vec<(String, &'static str, String)> {
    let ports = checked.project.ports.iter().enumerate();
    let file = |(at, port): (usize, &woodrush_core::project::Port)| {
        let links = checked.plan.links.iter().filter(|link| link.port == at);
        let images: Vec<(&str, &Setup)> = links
            .filter(|link| matches!(link.with, Owner::Image(_)))
            .filter_map(|link| checked.plan.station(link.with))
            .map(|station| (station.name.as_str(), &station.setup))
            .collect();
        let (first, _) = images.first()?;
        let dialect = checked.plan.images.iter().find(|image| image.name == *first)?.dialect?;
        let (suffix, text) = dialect.cyclic()?.device_file(&images, &port.setup, date)?;
        Some((port.name.value.clone(), suffix, text))
    };
    ports.filter_map(file).collect()
}

fn today() -> (i16, i8, i8) {
    let now = jiff::Timestamp::now().to_zoned_datetime(jiff::tz::TimeZone::system());
    (now.year(), now.month(), now.day())
}
