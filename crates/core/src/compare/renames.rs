//! Devices and images that are called otherwise now, and are the same: what no client or device can see is not a change.

use super::KnownSite;
use crate::ledger::EndSettings;
use std::collections::{BTreeMap, BTreeSet};

/// New names by old ones.
pub(super) type Renamed = BTreeMap<String, String>;

/// Images: those that are asked in the same way.
pub(super) fn images(old: &KnownSite, new: &KnownSite) -> Renamed {
    alike(&old.images, &new.images)
}

/// Devices: those that are set in the same way, or whose values all stand at the same addresses under the other name.
pub(super) fn devices(old: &KnownSite, new: &KnownSite, images: &Renamed) -> Renamed {
    let mut found = alike(&old.devices, &new.devices);
    let mut votes: BTreeMap<&str, BTreeSet<Option<&str>>> = BTreeMap::new();
    let gone: BTreeSet<&str> = names(old).difference(&names(new)).copied().collect();
    let come: BTreeSet<&str> = names(new).difference(&names(old)).copied().collect();
    for (address, value) in &old.values {
        let Some((name, rest)) = parts(&value.issued.source).filter(|(name, _)| gone.contains(name)) else {
            continue;
        };
        let there = new.values.get(&translated(address, images));
        let other = there.and_then(|there| parts(&there.issued.source));
        let other = other.filter(|(other, same)| come.contains(other) && *same == rest);
        votes.entry(name).or_default().insert(other.map(|(other, _)| other));
    }
    let taken: BTreeSet<String> = found.values().cloned().collect();
    for (name, others) in votes {
        if let (1, Some(Some(other))) = (others.len(), others.first())
            && !found.contains_key(name)
            && !taken.contains(*other)
        {
            found.insert(name.to_string(), (*other).to_string());
        }
    }
    found
}

/// Names of one side only, whose settings are those of exactly one end of the other side.
fn alike(old: &BTreeMap<String, EndSettings>, new: &BTreeMap<String, EndSettings>) -> Renamed {
    let only = |own: &BTreeMap<String, EndSettings>, other: &BTreeMap<String, EndSettings>| {
        let mut by_settings: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (name, settings) in own.iter().filter(|(name, _)| !other.contains_key(*name)) {
            by_settings.entry(settings.to_string()).or_default().push(name.clone());
        }
        by_settings
    };
    let (gone, come) = (only(old, new), only(new, old));
    let pairs = gone.iter().filter_map(|(settings, names)| {
        match (names.as_slice(), come.get(settings)?.as_slice()) {
            ([old], [new]) => Some((old.clone(), new.clone())),
            _ => None,
        }
    });
    pairs.collect()
}

/// All devices that are known by their settings or by their values.
fn names(site: &KnownSite) -> BTreeSet<&str> {
    let sources = site.values.values().filter_map(|value| parts(&value.issued.source));
    sources.map(|(name, _)| name).chain(site.devices.keys().map(String::as_str)).collect()
}

/// A device's name, and the rest of a source behind it.
fn parts(source: &str) -> Option<(&str, &str)> {
    source.find(['.', ':']).map(|at| source.split_at(at))
}

/// An image's address under the image's new name.
pub(super) fn translated(address: &str, images: &Renamed) -> String {
    match address.split_once(':') {
        Some((image, at)) => format!("{}:{at}", images.get(image).map_or(image, String::as_str)),
        None => address.to_string(),
    }
}

/// A source under its device's new name.
pub(super) fn renamed(source: &str, devices: &Renamed) -> String {
    match parts(source) {
        Some((name, rest)) => match devices.get(name) {
            Some(new) => format!("{new}{rest}"),
            None => source.to_string(),
        },
        None => source.to_string(),
    }
}
