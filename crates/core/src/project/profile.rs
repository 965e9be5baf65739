//! A profile: the description of one kind of device.

use super::caps;
use super::fields::Fields;
use super::reader::Reader;
use crate::finding::Finding;
use crate::form::Form;
use crate::line::Line;
use crate::protocol::DeviceBlocks;
use crate::source::Spanned;
use std::sync::Arc;

/// One kind of device.
#[derive(Debug, Default)]
pub struct Profile {
    /// What it is, in words.
    pub name: String,
    /// The path as the project file writes it.
    pub path: String,
    /// Line settings as shipped.
    pub line: Option<Spanned<Line>>,
    /// The station as shipped.
    pub unit: Option<Spanned<u32>>,
    /// Most registers in one read, and in one write.
    pub limits: Vec<(&'static str, u32)>,
    /// `single` or `multiple`.
    pub write_one: Option<String>,
    /// Sizes of its spaces by name, if known.
    pub tables: Vec<(Spanned<String>, u32)>,
    /// The blocks that it is made of, where it has some.
    pub blocks: Option<Arc<DeviceBlocks>>,
    /// Its points, in file order.
    pub points: Vec<Point>,
}

/// What a point is for commands that change a device's settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// The device's number on its line.
    UnitAddress,
    /// The speed of its line.
    LineSpeed,
    /// The parity, and where it is coded so the stop bits, of its line.
    LineParity,
    /// What must be written before settings can be; asked for and never stored.
    Unlock,
    /// What makes written settings take effect.
    Apply,
}

impl Role {
    fn parse(word: &str) -> Option<Self> {
        Some(match word {
            "unit-address" => Self::UnitAddress,
            "line-speed" => Self::LineSpeed,
            "line-parity" => Self::LineParity,
            "unlock" => Self::Unlock,
            "apply" => Self::Apply,
            _ => return None,
        })
    }
}

/// One named value of a profile.
#[derive(Debug, Clone)]
pub struct Point {
    /// Its name and where that stands.
    pub name: Spanned<String>,
    /// Its address as written; read in the dialect of the device that uses it.
    pub at: Spanned<String>,
    /// Its form; `None` copies registers as they are.
    pub form: Option<Spanned<Form>>,
    /// A form was written that is not understood: nothing that uses the point can be judged.
    pub is_unclear: bool,
    /// Engineering unit.
    pub eu: Option<String>,
    /// A remark for people.
    pub note: Option<Box<str>>,
    /// Least and greatest engineering value.
    pub range: Option<Spanned<(f64, f64)>>,
    /// Whether it may be written.
    pub read_write: bool,
    /// What commands know it as.
    pub role: Option<Role>,
    /// How its values are coded: the value as it is said, and the number that stands for it.
    pub values: Vec<(Spanned<String>, u32)>,
    /// A wrong value there does harm that no later write takes back: no test writes it.
    pub guarded: bool,
    /// The maker's own example: raw words, and the value that they stand for.
    pub example: Option<Spanned<String>>,
    /// Raw words that mean "no value".
    pub invalid: Vec<u64>,
    /// Addresses after the one that is written: its place in a row of points.
    pub later: u32,
    /// Its place in a row of points and their distance as written, where it is one of several.
    pub row: Option<(u32, Spanned<u32>)>,
}

pub(super) fn read(r: &mut Reader<'_>, table: &toml::de::DeTable<'_>, path: &str) -> Profile {
    let mut profile = Profile { path: path.into(), ..Profile::default() };
    let mut identity = DeviceBlocks::default();
    let top = Fields::top(r, "profile-file", "this profile", table);
    if let Some(head) = top.table(r, "profile", "profile", "`[profile]`") {
        profile.name = head.text(r, "name").map(|name| name.value).unwrap_or_default();
        profile.line = head.line(r, "line");
        profile.unit = head.whole(r, "unit");
        for key in ["max-read", "max-write"] {
            profile.limits.extend(head.whole(r, key).map(|limit| (key, limit.value)));
        }
        profile.write_one = head.text(r, "write-one").map(|word| word.value);
        profile.tables = head.sizes(r, "tables");
        identity = super::read_blocks::identity(r, &head);
    }
    profile.blocks = super::read_blocks::blocks(r, &top, identity, path).map(Arc::new);
    for (name, fields) in top.named(r, "points", "point") {
        let Some(at) = fields.required(r, "at", "an address such as `300001`") else { continue };
        let form = fields.text(r, "as").and_then(|text| match Form::parse(&text.value) {
            Ok(value) => Some(Spanned { value, span: text.span }),
            Err(fault) => {
                r.find(Finding::new("F08", text.span.part(fault.at.start, fault.at.end), fault.what));
                None
            }
        });
        let point = Point {
            name,
            at,
            is_unclear: form.is_none() && fields.has("as"),
            form,
            eu: fields.text(r, "eu").map(|eu| eu.value),
            note: fields.text(r, "note").map(|note| note.value.into()),
            range: if fields.has("range") { fields.range(r, "range") } else { None },
            read_write: fields.text(r, "access").is_some_and(|access| access.value == "read-write"),
            role: fields.text(r, "role").and_then(|word| Role::parse(&word.value)),
            values: if fields.has("values") { fields.sizes(r, "values") } else { vec![] },
            guarded: fields.switch(r, "guarded").unwrap_or(false),
            example: fields.text(r, "example"),
            invalid: fields.wholes(r, "invalid", 0, i64::MAX).map(|words| words.value).unwrap_or_default(),
            later: 0,
            row: None,
        };
        let repeat = fields.whole(r, "repeat");
        let count = profile.points.len() + repeat.map_or(1, |repeat| repeat.value as usize);
        if count > caps::POINTS {
            r.find(caps::too_many(
                point.name.span,
                "points and more in one profile",
                count as u64,
                caps::POINTS as u64,
            ));
            break;
        }
        let Some(repeat) = repeat else {
            profile.points.push(point);
            continue;
        };
        let bytes = point.form.and_then(|form| form.value.ty.bytes()).unwrap_or(2);
        let width = Spanned { value: bytes.div_ceil(2).max(1), span: point.at.span };
        let stride = fields.whole(r, "stride").unwrap_or(width);
        for number in 1..=repeat.value {
            profile.points.push(Point {
                name: Spanned { value: format!("{}-{number}", point.name.value), span: point.name.span },
                later: (number - 1).saturating_mul(stride.value),
                row: Some((number, stride)),
                ..point.clone()
            });
        }
    }
    profile
}
