//! `woodrush map --eds` and `--gsdml`: the file by which an engineering system knows the converter's connections.

use crate::console::Console;
use crate::{Failure, Verdict};
use std::path::{Path, PathBuf};
use woodrush_core::check::Checked;
use woodrush_core::project::Owner;
use woodrush_core::protocol::{DeviceFile, Setup};

/// Writes the file of that format of every port whose images a controller exchanges with; several have the port's name in
/// theirs. A folder gets them under the names that they must have.
pub(crate) fn run(
    console: &mut Console,
    path: &Path,
    (format, to): (&str, &Path),
) -> Result<Verdict, Failure> {
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let (files, others): (Vec<_>, Vec<_>) =
        files(&checked, today()).into_iter().partition(|(_, file)| file.format == format);
    if files.is_empty() {
        return Err(Failure::Usage(match others.first() {
            Some((port, other)) => format!("the controllers of port `{port}` know it by another file: write `--{}`", other.format),
            None => "no controller exchanges anything with the converter in cycles: an image needs `inputs` on a `network` port, \
                     or `slots` on an `ethernet` port"
                .into(),
        }));
    }
    let several = files.len() > 1;
    for (port, DeviceFile { suffix, name, text, .. }) in files {
        let place = match name {
            Some(name) if to.is_dir() => to.join(name),
            _ if several => named(to, &port, suffix),
            _ => to.to_path_buf(),
        };
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
fn files(checked: &Checked, date: (i16, i8, i8)) -> Vec<(String, DeviceFile)> {
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
        Some((port.name.value.clone(), dialect.cyclic()?.device_file(&images, &port.setup, date)?))
    };
    ports.filter_map(file).collect()
}

fn today() -> (i16, i8, i8) {
    let now = jiff::Timestamp::now().to_zoned_datetime(jiff::tz::TimeZone::system());
    (now.year(), now.month(), now.day())
}
