//! Profiles as they are read, and what devices take from theirs.

use super::profile::{self, Profile};
use super::reader::{Reader, load_text};
use super::{Port, Project};
use crate::finding::Finding;
use crate::source::Spanned;

/// Reads the profiles that devices name, and fills devices from theirs.
pub(super) fn read_profiles(
    project: &mut Project,
    wanted: &[Spanned<String>],
    load: &mut dyn FnMut(&str) -> Result<String, String>,
    findings: &mut Vec<Finding>,
) {
    for path in wanted {
        let profile = read_profile(project, path, load, findings);
        let nothing = || Profile { path: path.value.clone(), ..Profile::default() };
        project.profiles.push(profile.unwrap_or_else(nothing));
    }
    for at in 0..project.devices.len() {
        fill_from_profile(project, at);
    }
}

fn read_profile(
    project: &mut Project,
    path: &Spanned<String>,
    load: &mut dyn FnMut(&str) -> Result<String, String>,
    findings: &mut Vec<Finding>,
) -> Option<Profile> {
    let text = load_text("profile", path, load).map_err(|finding| findings.push(finding)).ok()?;
    let file = project.sources.add(path.value.clone(), text.clone());
    let mut r = Reader::new(file, &text);
    let document = r.document();
    if !["profile", "points", "blocks"].iter().any(|key| document.get(*key).is_some()) {
        // Nothing of it is shown: a path that went astray may lead to what is not for all eyes.
        project.sources.forget(file);
        let what = format!("`{}` is not a profile: it has neither `[profile]` nor `[points]`", path.value);
        findings.push(Finding::new("F07", path.span, what).fix("write the path of a profile"));
        return None;
    }
    let profile = profile::read(&mut r, &document, &path.value);
    findings.append(&mut r.findings);
    Some(profile)
}

/// What a device leaves open is as its profile says.
fn fill_from_profile(project: &mut Project, at: usize) {
    let transport = project.devices.get(at).and_then(|d| project.port_of(d)).and_then(Port::transport);
    let key = project
        .device_dialect(at)
        .zip(transport)
        .and_then(|(dialect, transport)| Some(dialect.stations().station_key(transport)?.0));
    let Some(device) = project.devices.get_mut(at) else { return };
    let Some(profile) = device.profile.and_then(|profile| project.profiles.get(profile.value)) else {
        return;
    };
    device.setup.blocks.clone_from(&profile.blocks);
    for (name, limit) in &profile.limits {
        if device.setup.number(name).is_none() {
            device.setup.numbers.push((name, *limit));
        }
    }
    if let (Some(key), Some(unit)) = (key, profile.unit)
        && device.setup.number(key).is_none()
        && !device.station_written
    {
        device.setup.numbers.push((key, unit.value));
    }
    if let Some(word) = profile.write_one.as_ref().filter(|_| device.setup.word("write-one").is_none()) {
        device.setup.words.push(("write-one", word.clone()));
    }
    for (name, size) in &profile.tables {
        if !device.tables.iter().any(|(known, _)| known.value == name.value) {
            device.tables.push((name.clone(), *size));
        }
    }
}
