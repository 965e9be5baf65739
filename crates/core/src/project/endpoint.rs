//! The two ends of a rule: `DEVICE.POINT`, `DEVICE:ADDRESS`, `IMAGE:ADDRESS`, `DEVICE.health.ITEM`, and a form.

use super::Project;
use super::asked::{address, list_or, split_form};
use super::health::{BoxHealth, Health, HealthItem, ImageHealth, PortHealth, Words};
use crate::finding::Finding;
use crate::form::Form;
use crate::nearest::nearest;
use crate::protocol::{Address, AddressContext};
use crate::source::{Span, Spanned};

/// Whose end it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Owner {
    /// Index of a device.
    Device(usize),
    /// Index of an image.
    Image(usize),
    /// The converter itself, which tells about rules, ports and the box.
    Converter,
}

impl Owner {
    /// The device, if it is one.
    #[must_use]
    pub const fn device(self) -> Option<usize> {
        match self {
            Self::Device(device) => Some(device),
            Self::Image(_) | Self::Converter => None,
        }
    }
}

/// What is named there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// An address; with the index of the point in the device's profile where one was named.
    Cells(Address, Option<usize>),
    /// Something that the converter tells.
    Health(HealthItem),
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
    pub form: Option<Spanned<Form>>,
}

impl Project {
    /// Reads one end of a rule, or one of the endpoints that a device or client must have.
    ///
    /// # Errors
    /// Which part is wrong and what was likely meant, as a finding.
    pub fn endpoint(&self, text: &Spanned<String>) -> Result<Endpoint, Finding> {
        let (plain, form) = split_form(&text.value, text.span)?;
        let plain = plain.trim_end();
        let cut = plain.bytes().position(|byte| matches!(byte, b'.' | b':')).unwrap_or(plain.len());
        let (name, rest) = plain.split_at(cut);
        let rest_at = text.span.part(cut + 1, plain.len());
        if matches!(name, "rules" | "ports" | "converter") && !self.owners.contains_key(name) {
            let told = self.told(name, plain.get(cut + 1..).unwrap_or_default(), rest_at)?;
            return Ok(Endpoint {
                span: text.span,
                owner: Owner::Converter,
                target: Target::Health(told),
                form,
            });
        }
        let owner = self.owner(name, text.span.part(0, cut))?;
        let endpoint = |target, form| Ok(Endpoint { span: text.span, owner, target, form });
        let mut marks = rest.chars();
        let mark = marks.next();
        let rest = marks.as_str();
        match (mark, owner) {
            (Some(':'), _) => {
                let (dialect, context) = match owner {
                    Owner::Device(at) => (
                        self.device_dialect(at),
                        self.devices.get(at).map(|device| AddressContext::of_device(&device.setup)),
                    ),
                    Owner::Image(at) => (
                        self.image_dialect(at),
                        self.images.get(at).map(|image| AddressContext::of_image(&image.setup)),
                    ),
                    Owner::Converter => (None, None),
                };
                let (Some(dialect), Some(context)) = (dialect, context) else {
                    return Err(Finding::quiet(text.span));
                };
                let context = context.with_form(form.map(|form| form.value));
                endpoint(Target::Cells(address(dialect, rest, rest_at, &context)?, None), form)
            }
            (Some('.'), Owner::Device(device)) => {
                if let Some(item) = rest.strip_prefix("health.") {
                    let health = item_of::<Health>(item, "a device", rest_at)?;
                    return endpoint(Target::Health(HealthItem::Device(device, health)), form);
                }
                if let Some(form) = form {
                    let what = format!("`{name}.{rest}` is a point and has the form of its profile");
                    return Err(
                        Finding::new("F08", form.span, what).fix("leave `as …` out, or change the profile")
                    );
                }
                self.point_endpoint(device, text.span, rest, rest_at)
            }
            (Some('.'), Owner::Image(image)) if self.exchanges(image) && rest.starts_with("health.") => {
                let item = rest.strip_prefix("health.").unwrap_or_default();
                let health = item_of::<ImageHealth>(item, "an image", rest_at)?;
                endpoint(Target::Health(HealthItem::Image(image, health)), form)
            }
            (Some('.'), Owner::Image(_) | Owner::Converter) => {
                let what = format!("`{name}` is an image, which has addresses and no points");
                Err(Finding::new("F10", text.span, what)
                    .fix(format!("write `{name}:ADDRESS`, such as `{name}:400001`")))
            }
            _ => {
                let what = format!("`{plain}` names no address");
                let fix = format!("write `{name}:ADDRESS`, or for a device `{name}.POINT`");
                Err(Finding::new("F10", text.span, what).fix(fix))
            }
        }
    }

    /// Whether a controller exchanges with an image in cycles.
    fn exchanges(&self, image: usize) -> bool {
        self.image_dialect(image).is_some_and(|dialect| dialect.cyclic().is_some())
    }

    fn point_endpoint(&self, device: usize, span: Span, name: &str, at: Span) -> Result<Endpoint, Finding> {
        let owner_name = self.devices.get(device).map_or("", |d| d.name.value.as_str());
        let Some(profile) = self.profile_of(device) else {
            if self.devices.get(device).is_some_and(|d| d.profile.is_some()) {
                return Err(Finding::quiet(span));
            }
            let what = format!("`{owner_name}` has no profile, so it has no point `{name}`");
            return Err(Finding::new("F05", at, what).fix("give the device a `profile`, or write an address"));
        };
        let Some(index) = profile.points.iter().position(|point| point.name.value == name) else {
            let near = nearest(name, profile.points.iter().map(|point| point.name.value.as_str()));
            let what = format!("the profile of `{owner_name}` has no point `{name}`");
            let mut finding = Finding::new("F05", at, what);
            if profile.points.is_empty() {
                return Err(Finding::quiet(span));
            }
            finding = match near {
                Some(near) => finding.fix(format!("write `{near}`")),
                None => {
                    let some: Vec<String> =
                        profile.points.iter().take(6).map(|p| p.name.value.clone()).collect();
                    finding.fix(format!("its points are {}", list_or(&some).replace(" or ", " and ")))
                }
            };
            return Err(finding);
        };
        let Some(point) = profile.points.get(index) else { return Err(Finding::quiet(span)) };
        // A faulty form or address of the profile is reported once, there.
        if point.is_unclear {
            return Err(Finding::quiet(span));
        }
        let address = self.point_address(device, point).map_err(|fault| match self.devices.get(device) {
            // Only the shift of this device can be the reason, if the profile's own address is sound.
            Some(own) if own.shift.value != 0 => Finding::new(fault.code, own.shift.span, fault.what)
                .fix("choose a `shift` that keeps every point within its table"),
            _ => Finding::quiet(span),
        })?;
        let target = Target::Cells(address, Some(index));
        Ok(Endpoint { span, owner: Owner::Device(device), target, form: point.form })
    }

    /// `NAME.health.ITEM` of rules and ports, `health.ITEM` of the converter.
    fn told(&self, kind: &str, rest: &str, at: Span) -> Result<HealthItem, Finding> {
        let Some((name, item)) = rest.split_once("health.") else {
            let form = if kind == "converter" { "converter.health.ITEM" } else { "NAME.health.ITEM" };
            let what = format!("`{kind}.{rest}` is not a health item of the converter");
            return Err(Finding::new("F10", at, what).fix(format!("write `{form}`")));
        };
        let name = name.trim_end_matches('.');
        let unknown = |noun: &str, near: Option<String>| {
            let finding = Finding::new("F05", at, format!("there is no {noun} `{name}`"));
            Err(match near {
                Some(near) => finding.fix(format!("write `{near}`")),
                None => finding,
            })
        };
        match kind {
            "converter" => Ok(HealthItem::Converter(item_of::<BoxHealth>(item, "the converter", at)?)),
            "ports" => match self.port(name) {
                Some(port) => Ok(HealthItem::Port(port, item_of::<PortHealth>(item, "a port", at)?)),
                None => {
                    let near = nearest(name, self.ports.iter().map(|port| port.name.value.as_str()));
                    unknown("port", near.map(str::to_string))
                }
            },
            _ => match self.rule_names.get(name) {
                Some(rule) => Ok(HealthItem::Rule(*rule, item_of::<Health>(item, "a rule", at)?)),
                None => {
                    let near = nearest(name, self.rule_names.keys().map(String::as_str));
                    unknown("rule", near.map(str::to_string))
                }
            },
        }
    }

    fn owner(&self, name: &str, span: Span) -> Result<Owner, Finding> {
        if let Some(owner) = self.owners.get(name) {
            return Ok(*owner);
        }
        let names = self.devices.iter().map(|d| &d.name).chain(self.images.iter().map(|i| &i.name));
        let near = nearest(name, names.map(|name| name.value.as_str()));
        let mut finding = Finding::new("F05", span, format!("there is no device or image `{name}`"));
        if let Some(near) = near {
            finding = finding.fix(format!("write `{near}`"));
        } else if self.port(name).is_some() {
            finding = finding.fix(format!("`{name}` is a port; name a device on it or an image"));
        }
        Err(finding)
    }
}

/// The item of that word, or what was likely meant.
fn item_of<T: Words>(word: &str, whose: &str, at: Span) -> Result<T, Finding> {
    T::find(word).ok_or_else(|| {
        let words: Vec<String> = T::ALL.iter().map(|(_, word)| (*word).to_string()).collect();
        let near = nearest(word, words.iter().map(String::as_str));
        let offer = near.map_or_else(|| list_or(&words), |near| format!("`{near}`"));
        Finding::new("F05", at, format!("{whose}'s health has no `{word}`")).fix(format!("write {offer}"))
    })
}
