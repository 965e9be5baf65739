//! What a user names on the command line, to read or write it once: a point, an address of a device or image, or a bare
//! address of a station that no project knows.

mod value;

pub use value::ShownValue;

use crate::checked::Checked;
use crate::finding::Finding;
use crate::form::{Form, Order, Type};
use crate::plan::{Plan, Source, Station};
use crate::project::{Asked, Endpoint, Owner, Target, parse_asked};
use crate::protocol::{
    Address, AddressContext, Dialect, Extent, Grain, ImpliedType, Place, Setup, Space, Spaces, Verb,
};
use crate::source::{Span, Spanned};

/// Values in a row at one station.
#[derive(Debug, Clone)]
pub struct Wanted {
    /// As it was written, without form and count.
    pub written: String,
    /// Whose it is, where a project says so.
    pub owner: Option<Owner>,
    /// Whom to ask; its spaces hold the one that is meant.
    pub station: Station,
    /// Where there.
    pub place: Place,
    /// In which form.
    pub form: Form,
    /// Engineering unit.
    pub eu: Option<String>,
    /// Least and greatest engineering value.
    pub range: Option<(f64, f64)>,
    /// Why nothing should be written there, in words.
    pub read_only: Option<String>,
    /// A wrong value there does harm that no later write takes back.
    pub guarded: bool,
    /// The rule that feeds it, where it is an image's.
    pub rule: Option<usize>,
    /// How often, in microseconds, where that was written.
    pub every: Option<u64>,
    /// It is shown member by member.
    pub is_whole: bool,
}

fn at(text: &str) -> Spanned<String> {
    Spanned { value: text.to_string(), span: Span::default() }
}

/// One end as it is typed: of a name whose type only the rules of the project say, they say it.
///
/// # Errors
/// Which part is wrong and what was likely meant.
pub fn endpoint(checked: &Checked, text: &Spanned<String>) -> Result<Endpoint, Finding> {
    let (project, plan) = (&checked.project, &checked.plan);
    project.endpoint(text).or_else(|fault| {
        let typed = known_type(plan, &text.value).ok_or(fault)?;
        project.endpoint(&Spanned { value: format!("{} as {typed}", text.value), span: text.span })
    })
}

/// The type that the rules of a project have for a name; `None` where they know none, or addresses have no names.
fn known_type(plan: &Plan, text: &str) -> Option<Type> {
    let (name, address) = text.split_once(':')?;
    let of = |station: &&Station| station.name == name;
    let device = plan.devices.iter().find(of).map(|own| (own, AddressContext::of_device(&own.setup)));
    let image = || plan.images.iter().find(of).map(|own| (own, AddressContext::of_image(&own.setup)));
    let (station, context) = device.or_else(image)?;
    let context = context.with_spaces(&station.spaces);
    match station.dialect?.notation().parse(address, &context).ok()?.brings {
        ImpliedType::Type(ty) => Some(ty),
        ImpliedType::Nothing | ImpliedType::Width(_) => None,
    }
}

impl Wanted {
    /// Reads `DEVICE.POINT`, `DEVICE:ADDRESS` or `IMAGE:ADDRESS` with `[as FORM] [xN] [every T]`.
    ///
    /// # Errors
    /// What is wrong and what was likely meant.
    pub fn of_project(checked: &Checked, text: &str) -> Result<Self, Finding> {
        let (project, plan) = (&checked.project, &checked.plan);
        let asked = parse_asked(&at(text))?;
        if let Some(found) = Self::whole(checked, &asked) {
            return Ok(found);
        }
        let whole = match &asked.form {
            Some(form) => format!("{} as {}", asked.address.value, form.value),
            None => asked.address.value.clone(),
        };
        let endpoint = endpoint(checked, &at(&whole))?;
        let (station, owner) = match endpoint.owner {
            Owner::Device(device) => (plan.devices.get(device), endpoint.owner),
            Owner::Image(image) => (plan.images.get(image), endpoint.owner),
            Owner::Converter => (None, endpoint.owner),
        };
        let Target::Cells(address, point) = endpoint.target else {
            let what = format!("`{}` is health of the converter", asked.address.value);
            return Err(Finding::new("F10", Span::default(), what)
                .fix("look at it with `woodrush status`, or read the image's address that shows it"));
        };
        let mut station = station.cloned().ok_or_else(|| Finding::quiet(Span::default()))?;
        let space = station.space(&address.space);
        let point = point.and_then(|point| match owner {
            Owner::Device(device) => project.profile_of(device)?.points.get(point),
            _ => None,
        });
        let rule = match owner {
            Owner::Image(image) => plan.feeding(image, space, address.first).map(|(rule, _)| rule),
            _ => None,
        };
        let fed = rule.and_then(|rule| plan.rules.get(rule));
        // What a rule shows has the form in which it shows it, at the beginning of a value.
        let shown = fed.filter(|rule| (address.first - rule.target.first).is_multiple_of(rule.target.width));
        let form = endpoint.form.map(|form| form.value).or_else(|| Some(shown?.conversion.to));
        let strict = matches!(owner, Owner::Device(_));
        let mut wanted = Self::placed(station, &address, form, &asked, strict)?;
        wanted.owner = Some(owner);
        wanted.rule = rule;
        wanted.eu = point.and_then(|point| point.eu.clone());
        wanted.range = point.and_then(|point| point.range.map(|range| range.value));
        if let (Some(fed), None) = (fed, point)
            && let Source::Values { owner: Owner::Device(device), point: Some(at), .. } = fed.source
        {
            let of = project.profile_of(device).and_then(|profile| profile.points.get(at));
            // A form of one's own may have another scale, and with it another unit.
            let same = wanted.form.scaling() == fed.conversion.to.scaling();
            wanted.eu = of.filter(|_| same).and_then(|point| point.eu.clone());
        }
        if wanted.read_only.is_none() {
            wanted.read_only = match (owner, point, fed) {
                (Owner::Device(_), Some(point), _) if !point.read_write => {
                    Some("its profile says read-only".into())
                }
                (Owner::Device(device), None, _) => wanted.point_there(checked, device),
                (Owner::Image(_), _, None) => Some("no rule takes a write there".into()),
                (Owner::Image(_), _, Some(rule)) if !rule.writable && rule.source != Source::Client => {
                    Some("its rule is read-only".into())
                }
                _ => None,
            };
        }
        wanted.guarded = match owner {
            Owner::Device(device) => wanted.endangers(checked, device),
            _ => false,
        };
        Ok(wanted)
    }

    /// Reads `ADDRESS [as FORM] [xN] [every T]` of a station that no project knows.
    ///
    /// # Errors
    /// What is wrong and what was likely meant.
    pub fn bare(station: &Station, text: &str) -> Result<Self, Finding> {
        let asked = parse_asked(&at(text))?;
        let dialect = station.dialect.ok_or_else(|| Finding::quiet(Span::default()))?;
        let form = asked.form.map(|form| form.value);
        let context = AddressContext::of_device(&station.setup).with_form(form).with_spaces(&station.spaces);
        let address = crate::project::address(dialect, &asked.address.value, asked.address.span, &context)?;
        Self::placed(station.clone(), &address, form, &asked, true)
    }

    /// All of a space of a device of the project, named as people write it.
    #[must_use]
    pub fn of_space(checked: &Checked, device: usize, space: &Space) -> Option<Self> {
        let mut station = checked.plan.devices.get(device)?.clone();
        let id = station.space(space);
        let width = space.len?;
        Some(Self {
            written: format!("{}:{}", station.name, space.name()),
            owner: Some(Owner::Device(device)),
            place: Place { space: id, first: 0, width, count: 1, bit: None },
            station,
            form: Form::plain(Type::Raw),
            eu: None,
            range: None,
            read_only: None,
            guarded: false,
            rule: None,
            every: None,
            is_whole: false,
        })
    }

    /// The whole that `DEVICE:ADDRESS` names, which is shown member by member; `None` where it names one value.
    fn whole(checked: &Checked, asked: &Asked) -> Option<Self> {
        let text = &asked.address.value;
        let (name, address) = text.split_once(':').filter(|_| asked.form.is_none())?;
        let device = checked.project.device(name)?;
        let station = checked.plan.devices.get(device)?;
        let notation = station.dialect?.notation();
        let context = AddressContext::of_device(&station.setup);
        // What names a value is one, whatever lies around it.
        if notation.parse(address.trim(), &context).is_ok() {
            return None;
        }
        let space = notation.meanings().whole(address.trim(), &context)?;
        let found = Self::of_space(checked, device, &space)?;
        Some(Self {
            written: text.clone(),
            is_whole: true,
            read_only: Some("it has several members: write one of them".into()),
            every: asked.every,
            ..found
        })
    }

    fn placed(
        mut station: Station,
        address: &Address,
        written: Option<Form>,
        asked: &Asked,
        strict: bool,
    ) -> Result<Self, Finding> {
        let fault = |code, what: String, fix: &str| Err(Finding::new(code, asked.span, what).fix(fix));
        let form = form_at(station.dialect, address, written);
        let ty = form.ty;
        if address.bit.is_some() && (ty != Type::Bool || asked.count > 1) {
            return fault("M35", format!("`{}` is one bit", asked.address.value), "leave form and count out");
        }
        let width = match ty.width(address.space.grain) {
            Ok(width) => width,
            Err(why) => {
                let fix = format!("choose a type that {} holds", address.space.a());
                return fault("M35", format!("`{ty}` {why}"), &fix);
            }
        };
        let wide = ty.bytes().is_some_and(|bytes| bytes as usize > address.space.grain.cell_bytes());
        let no_order = form.order.is_none()
            && station.dialect.is_none_or(|dialect| dialect.notation().order(&address.space).is_none());
        if strict && wide && no_order && !ty.is_text() {
            let letters: Vec<&str> =
                Order::ALL.iter().map(|order| order.letters(ty.bytes().unwrap_or(4))).collect();
            let what = format!("`{ty}` lies in {width} registers, and nothing says in which order");
            let fix = format!(
                "write `{} as {ty} {}`, or another of {}; `woodrush decode` finds the one that fits a known value",
                asked.address.value,
                letters.get(1).unwrap_or(&"CDAB"),
                letters.join(", ")
            );
            return fault("M35", what, &fix);
        }
        let end = u64::from(address.first) + u64::from(width) * u64::from(asked.count);
        if address.space.len.is_some_and(|len| end > u64::from(len)) {
            let what = format!(
                "{} values from `{}` on run past the end of the table",
                asked.count, asked.address.value
            );
            return fault("M17", what, "ask for fewer");
        }
        let space = station.space(&address.space);
        let read_only = (!address.space.writable).then(|| format!("{} cannot be written", address.space.a()));
        Ok(Self {
            written: asked.address.value.clone(),
            owner: None,
            place: Place { space, first: address.first, width, count: asked.count, bit: address.bit },
            station,
            form,
            eu: None,
            range: None,
            read_only,
            guarded: false,
            rule: None,
            every: asked.every,
            is_whole: false,
        })
    }

    /// Points of the device's profile that lie within what is wanted.
    fn points<'c>(&self, checked: &'c Checked, device: usize) -> Vec<&'c crate::project::Point> {
        let profile = checked.project.profile_of(device);
        let own = self.place.extent();
        let Some(key) = self.station.space_at(self.place.space).map(|space| space.key.clone()) else {
            return vec![];
        };
        let here = |point: &&crate::project::Point| {
            let Ok(address) = checked.project.point_address(device, point) else { return false };
            let ty = point.form.map_or(Type::Raw, |form| form.value.ty);
            let width = ty.width(address.space.grain).unwrap_or(1);
            address.space.key == key && address.first < own.end() && own.first < address.first + width
        };
        profile.map_or_else(Vec::new, |profile| profile.points.iter().filter(here).collect())
    }

    fn point_there(&self, checked: &Checked, device: usize) -> Option<String> {
        let points = self.points(checked, device);
        let fixed = points.iter().find(|point| !point.read_write)?;
        Some(format!("`{}` lies there, and its profile says read-only", fixed.name.value))
    }

    fn endangers(&self, checked: &Checked, device: usize) -> bool {
        self.points(checked, device).iter().any(|point| point.guarded)
    }

    /// Whether no request brings it: it comes by itself, in frames.
    #[must_use]
    pub fn goes_in_frames(&self) -> bool {
        self.station.dialect.is_some_and(|dialect| dialect.requests().is_none())
    }

    /// The requests that bring or take all of it, no value in two of them.
    ///
    /// # Errors
    /// One value alone is more than the station takes, in words.
    pub fn requests(&self, verb: Verb) -> Result<Vec<Extent>, String> {
        let station = &self.station;
        let (Some(dialect), Some(space)) = (station.dialect, station.space_at(self.place.space)) else {
            return Err("it has no protocol".into());
        };
        if dialect.requests().is_none() {
            return Err(format!(
                "{} of `{}` go in frames, and there is no request for them: a running converter's frames can be read (start `woodrush run`), and only its controller writes them",
                space.grains(),
                station.name
            ));
        }
        let fits = |items: u32| dialect.cost(verb, space, items * self.place.width, &station.setup);
        if let Err(much) = fits(1) {
            return Err(format!(
                "one value is {} {}, and {} allows {}",
                self.place.width,
                space.grains(),
                much.source,
                much.limit
            ));
        }
        let mut most = self.place.count;
        while most > 1 && fits(most).is_err() {
            most -= 1;
        }
        let mut found = vec![];
        let mut item = 0;
        while item < self.place.count {
            let items = most.min(self.place.count - item);
            let first = self.place.first + item * self.place.width;
            found.push(Extent { space: self.place.space, first, count: items * self.place.width });
            item += items;
        }
        Ok(found)
    }

    /// Bytes of one grain's cells.
    #[must_use]
    pub fn each(&self) -> usize {
        self.station.space_at(self.place.space).map_or(2, |space| space.grain.cell_bytes())
    }
}

impl Station {
    /// A station that no project knows.
    #[must_use]
    pub fn bare(name: &str, dialect: &'static dyn Dialect, setup: Setup) -> Self {
        Self { name: name.into(), port: 0, dialect: Some(dialect), setup, spaces: Spaces::standing(dialect) }
    }
}

/// The form that is written, or else what the address says by itself; in the protocol's own order where none is
/// written and a value is wider than a grain.
#[must_use]
pub fn form_at(dialect: Option<&dyn Dialect>, address: &Address, written: Option<Form>) -> Form {
    let bit = address.bit.is_some() || address.space.grain == Grain::Bit;
    let form = written.unwrap_or(match address.brings {
        ImpliedType::Width(ty) | ImpliedType::Type(ty) => Form::plain(ty),
        ImpliedType::Nothing => Form::plain(if bit { Type::Bool } else { Type::Raw }),
    });
    let grain = address.space.grain.cell_bytes();
    let own = dialect.and_then(|dialect| dialect.notation().order(&address.space));
    // Two bytes lie the same way in all orders, but where the less significant one comes first.
    let least = if own.is_some_and(|own| own.low_byte_first) { grain } else { grain.max(2) };
    let own = own.filter(|_| form.ty.bytes().is_some_and(|bytes| bytes as usize > least));
    // Characters come in the order in which they are read, wherever the low word or byte of a number is.
    let own = own.map(|order| match form.ty.is_text() {
        true => Order { low_word_first: false, low_byte_first: order.low_byte_first && grain > 1 },
        false => order,
    });
    Form { order: form.order.or(own), ..form }
}

#[cfg(test)]
mod tests;
