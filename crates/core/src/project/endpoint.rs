//! The two ends of a rule: `DEVICE.POINT`, `DEVICE:ADDRESS`, `IMAGE:ADDRESS`, `DEVICE.health.ITEM`, and a form.

use super::Project;
use super::asked::{address, list_or, split_form};
use crate::finding::Finding;
use crate::form::Form;
use crate::nearest::nearest;
use crate::protocol::Address;
use crate::source::{At, Span};

/// Whose end it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Owner {
    /// Index of a device.
    Device(usize),
    /// Index of an image.
    Image(usize),
}

/// What a device tells about itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Health {
    /// 1 answers, 0 lost.
    Online,
    /// Age of the oldest value, tenths of a second, stays at 65535.
    Age,
    /// Good polls; wraps.
    Polls,
    /// Failed polls; wraps.
    Errors,
    /// The last failure as a number.
    LastError,
}

impl Health {
    /// Each with the word that the project file uses.
    pub const ALL: [(Self, &'static str); 5] = [
        (Self::Online, "online"),
        (Self::Age, "age"),
        (Self::Polls, "polls"),
        (Self::Errors, "errors"),
        (Self::LastError, "last-error"),
    ];

    /// The word that the project file uses.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(item, _)| *item == self).map_or("", |(_, word)| word)
    }
}

/// What is named there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// An address; with the index of the point in the device's profile where one was named.
    Cells(Address, Option<usize>),
    /// Something that the device tells about itself.
    Health(Health),
}

/// One end of a rule, read.
#[derive(Debug, Clone)]
pub struct Endpoint {
    /// Where it stands.
    pub span: Span,
    /// Whose.
    pub owner: Owner,
    /// What.
    pub target: Target,
    /// In which form; a point brings that of its profile.
    pub form: Option<At<Form>>,
}

impl Project {
    /// Reads one end of a rule, or one of the endpoints that somebody `needs`.
    ///
    /// # Errors
    /// Which part is wrong and what was likely meant, as a finding.
    pub fn endpoint(&self, text: &At<String>) -> Result<Endpoint, Finding> {
        let (plain, form) = split_form(&text.value, text.span)?;
        let plain = plain.trim_end();
        let cut = plain.find(['.', ':']).unwrap_or(plain.len());
        let (name, rest) = plain.split_at(cut);
        let rest_at = text.span.part(cut + 1, plain.len());
        let owner = self.owner(name, text.span.part(0, cut))?;
        let endpoint = |target, form| Ok(Endpoint { span: text.span, owner, target, form });
        let mut marks = rest.chars();
        let mark = marks.next();
        let rest = marks.as_str();
        match (mark, owner) {
            (Some(':'), _) => {
                let (dialect, setup) = match owner {
                    Owner::Device(at) => (self.device_dialect(at), self.devices.get(at).map(|d| &d.setup)),
                    Owner::Image(at) => (self.image_dialect(at), self.images.get(at).map(|i| &i.setup)),
                };
                let (Some(dialect), Some(setup)) = (dialect, setup) else {
                    return Err(Finding::quiet(text.span));
                };
                endpoint(Target::Cells(address(dialect, rest, rest_at, setup)?, None), form)
            }
            (Some('.'), Owner::Device(device)) => {
                if let Some(item) = rest.strip_prefix("health.") {
                    let known = Health::ALL.iter().find(|(_, word)| *word == item);
                    let Some((health, _)) = known else {
                        let near = nearest(item, Health::ALL.iter().map(|(_, word)| *word));
                        let offer = near.map_or("online, age, polls, errors or last-error", |word| word);
                        let what = format!("a device's health has no `{item}`");
                        return Err(Finding::new("F05", rest_at, what).mend(format!("write {offer}")));
                    };
                    return endpoint(Target::Health(*health), form);
                }
                if let Some(form) = form {
                    let what = format!("`{name}.{rest}` is a point and has the form of its profile");
                    return Err(
                        Finding::new("F08", form.span, what).mend("leave `as …` away, or change the profile")
                    );
                }
                self.point_endpoint(device, text.span, rest, rest_at)
            }
            (Some('.'), Owner::Image(_)) => {
                let what = format!("`{name}` is an image, which has addresses and no points");
                Err(Finding::new("F10", text.span, what)
                    .mend(format!("write `{name}:ADDRESS`, such as `{name}:400001`")))
            }
            _ => {
                let what = format!("`{plain}` names no address");
                let mend = format!("write `{name}:ADDRESS`, or for a device `{name}.POINT`");
                Err(Finding::new("F10", text.span, what).mend(mend))
            }
        }
    }

    fn point_endpoint(&self, device: usize, span: Span, name: &str, at: Span) -> Result<Endpoint, Finding> {
        let owner_name = self.devices.get(device).map_or("", |d| d.name.value.as_str());
        let Some(profile) = self.profile_of(device) else {
            if self.devices.get(device).is_some_and(|d| d.profile.is_some()) {
                return Err(Finding::quiet(span));
            }
            let what = format!("`{owner_name}` has no profile, so it has no point `{name}`");
            return Err(
                Finding::new("F05", at, what).mend("give the device a `profile`, or write an address")
            );
        };
        let Some(index) = profile.points.iter().position(|point| point.name.value == name) else {
            let near = nearest(name, profile.points.iter().map(|point| point.name.value.as_str()));
            let what = format!("the profile of `{owner_name}` has no point `{name}`");
            let mut finding = Finding::new("F05", at, what);
            if profile.points.is_empty() {
                return Err(Finding::quiet(span));
            }
            finding = match near {
                Some(near) => finding.mend(format!("write `{near}`")),
                None => {
                    let some: Vec<String> =
                        profile.points.iter().take(6).map(|p| p.name.value.clone()).collect();
                    finding.mend(format!("its points are {}", list_or(&some).replace(" or ", " and ")))
                }
            };
            return Err(finding);
        };
        let (Some(point), Some(dialect), Some(owner)) =
            (profile.points.get(index), self.device_dialect(device), self.devices.get(device))
        else {
            return Err(Finding::quiet(span));
        };
        // A faulty form or address of the profile is reported once, there.
        if point.is_unclear {
            return Err(Finding::quiet(span));
        }
        let address = dialect.parse(&point.at.value, &owner.setup).map_err(|_| Finding::quiet(span))?;
        let target = Target::Cells(address, Some(index));
        Ok(Endpoint { span, owner: Owner::Device(device), target, form: point.form })
    }

    fn owner(&self, name: &str, span: Span) -> Result<Owner, Finding> {
        if let Some(owner) = self.owners.get(name) {
            return Ok(*owner);
        }
        let names = self.devices.iter().map(|d| &d.name).chain(self.images.iter().map(|i| &i.name));
        let near = nearest(name, names.map(|name| name.value.as_str()));
        let mut finding = Finding::new("F05", span, format!("there is no device or image `{name}`"));
        if let Some(near) = near {
            finding = finding.mend(format!("write `{near}`"));
        } else if self.port(name).is_some() {
            finding = finding.mend(format!("`{name}` is a port; name a device on it or an image"));
        }
        Err(finding)
    }
}
