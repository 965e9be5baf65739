//! What changes between two states of a site for the clients of its images and for the devices on its lines.

mod followers;
mod lists;
mod renames;
mod site;

pub(crate) use followers::has_setting;
pub use followers::{Follower, FollowerRow, asked_behind, asked_by_old_number, followers};
pub use site::{KnownSite, KnownValue};

use crate::form::Form;
use crate::ledger::EndSettings;
use crate::source::Span;
use renames::{Renamed, renamed, translated};
use std::collections::{BTreeMap, HashMap, HashSet};

/// What is said of a value that no device has.
const WRITTEN_BY_CLIENTS: &str = "written by clients";

/// What became of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangeKind {
    /// It stands at another address.
    Moved,
    /// Something else of it, or something else at its address.
    Changed,
    /// It is at no address any more, and nothing stands at its own.
    Gone,
    /// It was not there.
    New,
}

/// One thing that is otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// What: `type`, `order`, `scale`, `unit`, `access`, `source`, `interval`, `on-loss`, or a setting's name.
    pub what: String,
    /// As it was; empty where it was not.
    pub was: String,
    /// As it is; empty where it is not.
    pub is: String,
    /// Whether a client or device that keeps to the old one goes wrong.
    pub must_follow: bool,
}

/// A value that changed for its clients.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ValueChange {
    /// Image and address as they were, under the image's new name; `None` where it is new.
    pub was_at: Option<String>,
    /// Image and address as they are; `None` where it is gone.
    pub is_at: Option<String>,
    /// What became of it.
    pub kind: ChangeKind,
    /// Its source, as it is called now; of one that is gone, as it was.
    pub source: String,
    /// What stands at its old address now, where it moved and something does.
    pub taken_by: Option<String>,
    /// All that is otherwise beside the address.
    pub differs: Vec<Difference>,
    /// The line of the old one, in an issue.
    pub old_span: Span,
    /// The `[[map]]` that shows it now; of one that moved away from a taken address, that of the new place.
    pub map: Option<usize>,
    /// How it lay there; empty where it is new.
    pub form_was: String,
    /// How it lies there; empty where it is gone.
    pub form_is: String,
    /// The whole of it, as it was and as it is, in words.
    pub texts: (String, String),
}

impl ValueChange {
    /// Its image.
    #[must_use]
    pub fn image(&self) -> &str {
        image_of(self.was_at.as_deref().or(self.is_at.as_deref()).unwrap_or_default())
    }

    /// Whether a client or device that keeps to the old one goes wrong.
    #[must_use]
    pub fn must_follow(&self) -> bool {
        match self.kind {
            ChangeKind::Moved | ChangeKind::Gone => true,
            ChangeKind::New => false,
            ChangeKind::Changed => self.differs.iter().any(|own| own.must_follow),
        }
    }
}

/// An image or a device whose settings are otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EndChange {
    /// Its name now.
    pub name: String,
    /// The settings that differ; one without a name where the whole end is new or gone.
    pub differs: Vec<Difference>,
    /// The line of the old settings, in an issue.
    pub old_span: Span,
    /// Where the new ones stand, in a project.
    pub span: Span,
}

/// All that differs between two states of a site.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Comparison {
    /// Devices that are called otherwise, by their old names.
    pub renamed_devices: BTreeMap<String, String>,
    /// Images likewise.
    pub renamed_images: BTreeMap<String, String>,
    /// Values, in the order of their addresses.
    pub values: Vec<ValueChange>,
    /// Images that are asked otherwise.
    pub images: Vec<EndChange>,
    /// Devices that are set otherwise.
    pub devices: Vec<EndChange>,
}

impl Comparison {
    /// Holds two states of a site against each other.
    #[must_use]
    pub fn of(old: &KnownSite, new: &KnownSite) -> Self {
        let renamed_images = renames::images(old, new);
        let renamed_devices = renames::devices(old, new, &renamed_images);
        Self {
            values: values(old, new, &renamed_images, &renamed_devices),
            images: ends(&old.images, &new.images, &renamed_images),
            devices: ends(&old.devices, &new.devices, &renamed_devices),
            renamed_devices,
            renamed_images,
        }
    }
}

fn values(old: &KnownSite, new: &KnownSite, images: &Renamed, devices: &Renamed) -> Vec<ValueChange> {
    // What was known, under the names of now.
    let known: BTreeMap<String, (String, &KnownValue)> = old
        .values
        .iter()
        .map(|(at, value)| (translated(at, images), (renamed(&value.issued.source, devices), value)))
        .collect();
    // Where each value is now; of one that is shown twice, the first.
    let mut places: HashMap<(&str, &str), &str> = HashMap::new();
    for (at, value) in new.values.iter().rev().filter(|(_, value)| value.issued.source != WRITTEN_BY_CLIENTS)
    {
        places.insert((image_of(at), &value.issued.source), at);
    }
    let was_there = |at: &str, source: &str| known.get(at).is_some_and(|(own, _)| own == source);
    let mut found = vec![];
    let mut moved_to: HashSet<&str> = HashSet::new();
    for (at, (source, value)) in &known {
        let here = new.values.get(at);
        if let Some(here) = here.filter(|here| here.issued.source == *source) {
            let differs = differences(value, here);
            if !differs.is_empty() {
                found.push(change(
                    ChangeKind::Changed,
                    (Some(at), Some(at)),
                    source,
                    Some(value),
                    Some(here),
                    differs,
                ));
            }
            continue;
        }
        // Another address shows it that did not when it was handed over.
        let there = places.get(&(image_of(at), source.as_str())).copied();
        if let Some((there, moved)) = there
            .filter(|there| !was_there(there, source))
            .and_then(|there| Some((there, new.values.get(there)?)))
        {
            moved_to.insert(there);
            let differs = differences(value, moved);
            let own =
                change(ChangeKind::Moved, (Some(at), Some(there)), source, Some(value), Some(moved), differs);
            found.push(ValueChange { taken_by: here.map(|here| here.issued.to_string()), ..own });
            continue;
        }
        match here {
            Some(here) => {
                let mut differs = vec![difference("source", source, &here.issued.source, true)];
                differs.extend(differences(value, here));
                found.push(change(
                    ChangeKind::Changed,
                    (Some(at), Some(at)),
                    &here.issued.source,
                    Some(value),
                    Some(here),
                    differs,
                ));
            }
            None => found.push(change(ChangeKind::Gone, (Some(at), None), source, Some(value), None, vec![])),
        }
    }
    for (at, value) in
        new.values.iter().filter(|(at, _)| !known.contains_key(*at) && !moved_to.contains(at.as_str()))
    {
        found.push(change(
            ChangeKind::New,
            (None, Some(at)),
            &value.issued.source,
            None,
            Some(value),
            vec![],
        ));
    }
    found
}

fn change(
    kind: ChangeKind,
    (was_at, is_at): (Option<&str>, Option<&str>),
    source: &str,
    old: Option<&KnownValue>,
    new: Option<&KnownValue>,
    differs: Vec<Difference>,
) -> ValueChange {
    let text = |value: Option<&KnownValue>| value.map(|value| value.issued.to_string()).unwrap_or_default();
    ValueChange {
        was_at: was_at.map(str::to_string),
        is_at: is_at.map(str::to_string),
        kind,
        source: source.to_string(),
        taken_by: None,
        differs,
        old_span: old.map(|old| old.issued.span).unwrap_or_default(),
        map: new.and_then(|new| new.map),
        form_was: old.map(|old| old.issued.form.clone()).unwrap_or_default(),
        form_is: new.map(|new| new.issued.form.clone()).unwrap_or_default(),
        texts: (text(old), text(new)),
    }
}

fn difference(what: &str, was: &str, is: &str, must_follow: bool) -> Difference {
    Difference { what: what.into(), was: was.into(), is: is.into(), must_follow }
}

/// All but the address and the source.
fn differences(old: &KnownValue, new: &KnownValue) -> Vec<Difference> {
    let mut found = forms(&old.issued.form, &new.issued.form);
    let mut add = |what: &str, was: &str, is: &str, must_follow: bool| {
        if was != is {
            found.push(difference(what, was, is, must_follow));
        }
    };
    add("unit", &old.issued.eu, &new.issued.eu, true);
    // Who may do more than before has nothing to follow.
    let may_less = old.issued.access.chars().any(|way| !new.issued.access.contains(way));
    add("access", &old.issued.access, &new.issued.access, may_less);
    // Issues say nothing of these.
    if let (Some(was), Some(is)) = (&old.on_loss, &new.on_loss) {
        add("on-loss", was, is, true);
    }
    if let (Some(was), Some(is)) = (&old.every, &new.every) {
        add("interval", was, is, false);
    }
    found
}

/// The parts of a form: type, order and scale.
fn forms(old: &str, new: &str) -> Vec<Difference> {
    if old == new {
        return vec![];
    }
    let (Ok(one), Ok(other)) = (Form::parse(old), Form::parse(new)) else {
        return vec![difference("type", old, new, true)];
    };
    let mut found = vec![];
    let mut add = |what: &str, was: String, is: String| {
        if was != is {
            found.push(difference(what, &was, &is, true));
        }
    };
    add("type", one.ty.to_string(), other.ty.to_string());
    let order = |form: &Form| match form.ty.bytes() {
        Some(bytes @ (4 | 8)) => form.order().letters(bytes).to_string(),
        _ => form.order.map_or(String::new(), |order| order.letters(2).to_string()),
    };
    // An order that a type has none of is told with the type.
    if one.ty.bytes() == other.ty.bytes() {
        add("order", order(&one), order(&other));
    }
    let scale = |form: &Form| {
        let plain = Form { order: None, ..*form }.to_string();
        plain.split_once(' ').map_or_else(|| "scale 1".to_string(), |(_, scale)| scale.to_string())
    };
    if one.scaling() != other.scaling() {
        add("scale", scale(&one), scale(&other));
    }
    found
}

/// Images or devices, by name.
fn ends(
    old: &BTreeMap<String, EndSettings>,
    new: &BTreeMap<String, EndSettings>,
    renamed: &Renamed,
) -> Vec<EndChange> {
    // An issue of before says nothing of settings.
    if old.is_empty() {
        return vec![];
    }
    let now_called = |name: &String| renamed.get(name).unwrap_or(name).clone();
    let known: BTreeMap<String, &EndSettings> =
        old.iter().map(|(name, settings)| (now_called(name), settings)).collect();
    let whole =
        |was: String, is: String, must_follow| vec![Difference { what: String::new(), was, is, must_follow }];
    let mut found = vec![];
    for (name, was) in &known {
        let (span, differs) = match new.get(name) {
            Some(is) => (is.span, settings(was, is)),
            None => (Span::default(), whole(was.to_string(), String::new(), true)),
        };
        if !differs.is_empty() {
            found.push(EndChange { name: name.clone(), differs, old_span: was.span, span });
        }
    }
    for (name, is) in new.iter().filter(|(name, _)| !known.contains_key(*name)) {
        let differs = whole(String::new(), is.to_string(), false);
        found.push(EndChange { name: name.clone(), differs, old_span: Span::default(), span: is.span });
    }
    found
}

fn settings(was: &EndSettings, is: &EndSettings) -> Vec<Difference> {
    let gone = was.items.iter().filter(|(name, value)| is.get(name) != Some(value));
    let gone =
        gone.flat_map(|(name, value)| lists::of_setting(name, value, is.get(name).unwrap_or_default()));
    let come = is.items.iter().filter(|(name, _)| was.get(name).is_none());
    gone.chain(come.map(|(name, value)| difference(name, "", value, true))).collect()
}

/// The image of an address with its image.
pub(crate) fn image_of(address: &str) -> &str {
    address.split(':').next().unwrap_or_default()
}

#[cfg(test)]
mod tests;
