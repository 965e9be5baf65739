//! One rule at a time: both ends read, forms settled, limits held.

use super::{Plan, PlannedRule, Source};
use crate::finding::Finding;
use crate::form::{Conversion, Form, Type};
use crate::project::{Endpoint, Health, Map, Owner, Project, Target};
use crate::protocol::{Address, BitWrite, Dialect, Extent, Grain, Place, Setup, Verb};
use crate::source::Span;

/// Resolves one rule, or says all that is wrong with it.
pub(super) fn rule(
    project: &Project,
    plan: &mut Plan,
    map: usize,
    rule: &Map,
) -> Result<PlannedRule, Vec<Finding>> {
    let (from, to) = match (project.endpoint(&rule.from), project.endpoint(&rule.to)) {
        (Ok(from), Ok(to)) => (from, to),
        (from, to) => return Err([from.err(), to.err()].into_iter().flatten().collect()),
    };
    let (Owner::Device(device), Owner::Image(image)) = (from.owner, to.owner) else {
        return Err(vec![direction(&from, &to)]);
    };
    let Target::Cells(target, _) = &to.target else {
        return Err(vec![Finding::new("F10", to.span, "an image has no health of its own")]);
    };
    let shared = Shared { project, rule, device, image, from: &from, to: &to, target };
    let every =
        rule.poll.map_or_else(|| project.devices.get(device).map_or(0, |d| d.poll.value), |poll| poll.value);
    let (source, target, conversion) = match &from.target {
        Target::Health(item) => shared.health(plan, *item)?,
        Target::Cells(address, point) => shared.polled(plan, address, *point)?,
    };
    Ok(PlannedRule {
        map,
        source,
        image,
        target,
        conversion,
        writable: rule.read_write.is_some(),
        every: every.max(1000),
        max_age: 0,
        on_loss: rule
            .on_loss
            .unwrap_or_else(|| project.images.get(image).map(|i| i.on_loss).unwrap_or_default()),
    })
}

/// Where a rule that cannot be resolved would land.
pub(super) fn landing(project: &Project, plan: &Plan, rule: &Map) -> Option<(usize, Extent)> {
    let end = project.endpoint(&rule.to).ok()?;
    let (Owner::Image(image), Target::Cells(address, _)) = (end.owner, &end.target) else { return None };
    let at = plan.images.get(image)?.spaces.iter().position(|space| space.key == address.space.key)?;
    let space = crate::protocol::SpaceId(u16::try_from(at).ok()?);
    Some((image, Extent { space, first: address.first, count: 1 }))
}

fn direction(from: &Endpoint, to: &Endpoint) -> Finding {
    let (what, mend) = match (from.owner, to.owner) {
        (Owner::Image(_), Owner::Device(_)) => (
            "a rule from an image to a device cannot be carried yet",
            "write it the other way round with `access = \"read-write\"`: writes then go to the device",
        ),
        (Owner::Device(_), Owner::Device(_)) => {
            ("a rule from a device to a device cannot be carried yet", "show the value in an image")
        }
        _ => ("a rule from an image to an image cannot be carried yet", "feed both images from the device"),
    };
    Finding::new("F09", from.span, what).mend(mend).note(to.span, "the other end")
}

/// What both kinds of source need.
struct Shared<'a> {
    project: &'a Project,
    rule: &'a Map,
    device: usize,
    image: usize,
    from: &'a Endpoint,
    to: &'a Endpoint,
    target: &'a Address,
}

type Resolved = Result<(Source, Place, Conversion), Vec<Finding>>;

impl Shared<'_> {
    fn health(&self, plan: &mut Plan, item: Health) -> Resolved {
        let own = if item == Health::Online { Type::Bool } else { Type::U16 };
        if let Some(access) = self.rule.read_write {
            return Err(vec![Finding::new(
                "M47",
                access,
                "health is told by the converter and cannot be written",
            )]);
        }
        let to = self.to.form.map_or_else(|| Form::plain(own), |form| form.value);
        if self.target.space.grain == Grain::Bit && own != Type::Bool {
            let what = format!(
                "`health.{}` is a number of 16 bits and does not go into {}",
                item.word(),
                self.target.space.a()
            );
            return Err(vec![Finding::new("M35", self.to.span, what).mend("show it in a register")]);
        }
        let width = self.width(to.ty, self.target, self.to.span)?;
        let target = self.place(plan, width, 1)?;
        let conversion = Conversion { from: Form::plain(own), to, overflow: self.rule.overflow };
        Ok((Source::Health { device: self.device, item }, target, conversion))
    }

    fn polled(&self, plan: &mut Plan, address: &Address, point: Option<usize>) -> Resolved {
        if let Some(bit) = self.target.bit {
            let what = format!(
                "bit {bit} of {} cannot be shown alone: a rule fills whole registers",
                self.target.space.a()
            );
            return Err(vec![
                Finding::new("F09", self.to.span, what).mend("show it as a coil or a discrete input"),
            ]);
        }
        let (from, to) = self.forms(address)?;
        let mut found = vec![];
        let count = self.rule.count.map_or(1, |count| count.value);
        let widths =
            (self.width(from.ty, address, self.from.span), self.width(to.ty, self.target, self.to.span));
        let (Ok(width), Ok(target_width)) = widths else {
            return Err([widths.0.err(), widths.1.err()].into_iter().flatten().flatten().collect());
        };
        if (from.ty == Type::Raw) != (to.ty == Type::Raw)
            && !matches!((from.ty, to.ty), (Type::Bool, _) | (_, Type::Bool))
        {
            let what = "`raw` copies cells as they are, and the other end asks for a value".to_string();
            found.push(Finding::new("F08", self.to.span, what).mend("write the same form at both ends"));
        }
        let place = Place {
            space: crate::protocol::SpaceId(0),
            first: address.first,
            width,
            count,
            bit: address.bit,
        };
        found.extend(self.runs_past(address, &place, self.from.span, "device"));
        found.extend(self.sizes(address, &place));
        found.extend(self.limits(address, &place));
        found.extend(self.writing(address, point));
        if address.bit.is_some() && count > 1 {
            let what = "one bit of a register has no next one, so it cannot be counted".to_string();
            found.push(Finding::new("F09", self.from.span, what).mend("write one rule a bit"));
        }
        let target = self.place(plan, target_width, count);
        match target {
            Ok(target) if found.is_empty() => {
                let station = plan.devices.get_mut(self.device);
                let space = station.map(|station| station.space(&address.space)).unwrap_or(place.space);
                let source = Source::Poll { device: self.device, place: Place { space, ..place }, point };
                Ok((source, target, Conversion { from, to, overflow: self.rule.overflow }))
            }
            Ok(_) => Err(found),
            Err(more) => Err(found.into_iter().chain(more).collect()),
        }
    }

    /// The forms of both ends: what one leaves open, the other says.
    fn forms(&self, source: &Address) -> Result<(Form, Form), Vec<Finding>> {
        let bits = |address: &Address| address.space.grain == Grain::Bit || address.bit.is_some();
        let from_written = self.from.form.map(|form| form.value);
        let to_written = self.to.form.map(|form| form.value);
        let default = match (from_written.or(to_written), bits(source), bits(self.target)) {
            (Some(form), ..) => Form { order: None, ..form },
            (None, true, true) => Form::plain(Type::Bool),
            (None, false, false) => Form::plain(Type::Raw),
            (None, true, false) if self.rule.count.is_none_or(|count| count.value == 1) => {
                Form::plain(Type::Bool)
            }
            (None, ..) => {
                let what =
                    format!("{} does not go onto {} as it is yet", source.space.a(), self.target.space.a());
                return Err(vec![
                    Finding::new("F09", self.to.span, what).mend("map single bits, such as `400010.3`"),
                ]);
            }
        };
        let mut from = from_written.unwrap_or(default);
        let mut to = to_written.unwrap_or(default);
        to.order = to.order.or_else(|| self.dialect(Owner::Image(self.image)).and_then(Dialect::order));
        if from.order.is_none() {
            from.order = self.dialect(Owner::Device(self.device)).and_then(Dialect::order);
            let bytes = from.ty.bytes().unwrap_or(0);
            let several =
                bytes as usize > source.space.grain.cell_bytes() && !matches!(from.ty, Type::Text(_));
            if from.order.is_none() && several && source.space.grain != Grain::Bit {
                return Err(vec![self.no_order(&from, bytes)]);
            }
        }
        Ok((from, to))
    }

    fn no_order(&self, from: &Form, bytes: u32) -> Finding {
        let letters: Vec<&str> = crate::form::Order::ALL.iter().map(|order| order.letters(bytes)).collect();
        let at = self.from.form.map_or(self.from.span, |form| form.span);
        let written = self.project.sources.text(at).trim();
        let what =
            format!("`{}` lies in {} registers, and nothing says in which order", from.ty, bytes.div_ceil(2));
        let example = if self.from.form.is_some() {
            format!("write `{written} {}`", letters.get(1).unwrap_or(&"CDAB"))
        } else {
            format!("write `{written} as {} {}`", from.ty, letters.get(1).unwrap_or(&"CDAB"))
        };
        Finding::new("M35", at, what).mend(format!(
            "{example}, or another of {}; the device's manual or a known value tells which",
            letters.join(", ")
        ))
    }

    fn dialect(&self, owner: Owner) -> Option<&'static dyn Dialect> {
        match owner {
            Owner::Device(at) => self.project.device_dialect(at),
            Owner::Image(at) => self.project.image_dialect(at),
        }
    }

    fn width(&self, ty: Type, address: &Address, span: Span) -> Result<u32, Vec<Finding>> {
        if address.bit.is_some() && !matches!(ty, Type::Bool) {
            let what = format!("`{ty}` does not fit one bit of a register");
            return Err(vec![Finding::new("M35", span, what).mend("write `as bool`, or leave the bit away")]);
        }
        ty.width(address.space.grain).map_err(|why| {
            vec![
                Finding::new("M35", span, format!("`{ty}` {why}"))
                    .mend(format!("choose a type that {} holds", address.space.a())),
            ]
        })
    }

    fn place(&self, plan: &mut Plan, width: u32, count: u32) -> Result<Place, Vec<Finding>> {
        let space = match plan.images.get_mut(self.image) {
            Some(station) => station.space(&self.target.space),
            None => return Err(vec![]),
        };
        let place = Place { space, first: self.target.first, width, count, bit: None };
        match self.runs_past(self.target, &place, self.to.span, "image") {
            Some(finding) => Err(vec![finding]),
            None => Ok(place),
        }
    }

    fn runs_past(&self, address: &Address, place: &Place, span: Span, whose: &str) -> Option<Finding> {
        let (len, end) = (address.space.len?, place.extent().end());
        (end > len).then(|| {
            let what = format!(
                "{} values end at offset {}, past the {whose}'s last {}, {}",
                place.count,
                end - 1,
                address.space.noun,
                len - 1
            );
            Finding::new("M17", self.rule.count.map_or(span, |count| count.span), what)
                .mend("lower `count`, or begin earlier")
        })
    }

    /// The device's own table sizes, where they are known.
    fn sizes(&self, address: &Address, place: &Place) -> Option<Finding> {
        let device = self.project.devices.get(self.device)?;
        let (name, size) = device.tables.iter().find(|(name, _)| name.value == address.space.key)?;
        let end = place.extent().end();
        (end > *size).then(|| {
            let what = format!(
                "it ends at offset {}, but `{}` has only {size} {}s",
                end - 1,
                device.name.value,
                address.space.noun
            );
            Finding::new("M17", self.from.span, what)
                .note(name.span, "its size is said here")
                .mend("correct the address, or the size")
        })
    }

    /// One value must fit one request, each way.
    fn limits(&self, address: &Address, place: &Place) -> Vec<Finding> {
        let Some(dialect) = self.dialect(Owner::Device(self.device)) else { return vec![] };
        let empty = Setup::default();
        let setup = self.project.devices.get(self.device).map_or(&empty, |device| &device.setup);
        let mut found = vec![];
        if let Err(limit) = dialect.cost(Verb::Read, &address.space, place.width, setup) {
            let what = format!(
                "one value takes {} registers, and one read of this device {} ({})",
                place.width, limit.limit, limit.source
            );
            found.push(
                Finding::new("M16", self.from.span, what)
                    .mend("take a narrower form: a value split over two reads would tear"),
            );
        }
        if let (Some(access), Err(limit)) =
            (self.rule.read_write, dialect.cost(Verb::Write, &address.space, place.width, setup))
        {
            let what = format!(
                "one value takes {} registers, and one write of this device {} ({})",
                place.width, limit.limit, limit.source
            );
            found.push(
                Finding::new("M16", access, what)
                    .mend("make the rule read-only, or take a device that takes the value in one write"),
            );
        }
        found
    }

    /// A read-write rule needs tables that can be written at both ends, and a point that may be.
    fn writing(&self, address: &Address, point: Option<usize>) -> Vec<Finding> {
        let Some(access) = self.rule.read_write else { return vec![] };
        let mut found = vec![];
        let ends = [(address, self.from.span, "the device"), (self.target, self.to.span, "a client")];
        for (end, span, who) in ends {
            if !end.space.writable {
                let what = match who {
                    "a client" => format!("a client cannot write {}", end.space.a()),
                    _ => format!("{} of a device cannot be written", end.space.a()),
                };
                found.push(Finding::new("M47", access, what).note(span, "this end"));
            } else if end.bit.is_some() && end.space.bits == BitWrite::Never {
                let what = format!("one bit of {} cannot be written alone yet", end.space.a());
                found.push(Finding::new("M47", access, what).note(span, "this end"));
            }
        }
        let profile = self.project.profile_of(self.device);
        if let Some(point) =
            profile.zip(point).and_then(|(profile, at)| profile.points.get(at)).filter(|p| !p.read_write)
        {
            let what = format!("its profile says that `{}` is read-only", point.name.value);
            let finding = Finding::new("M47", access, what).note(point.name.span, "the point");
            found.push(finding.mend("drop `access = \"read-write\"`, or give the point `access = \"read-write\"` if the manual says so"));
        }
        found
    }
}

/// Two rules on one cell: the later one is found and left out.
pub(super) fn drop_overlaps(project: &Project, plan: &mut Plan, findings: &mut Vec<Finding>) {
    let mut order: Vec<usize> = (0..plan.rules.len()).collect();
    let key = |rule: &PlannedRule| (rule.image, rule.target.space, rule.target.first);
    order.sort_by_key(|at| plan.rules.get(*at).map(key));
    let mut dropped = vec![];
    let mut reach: Option<usize> = None;
    for at in order {
        let (Some(rule), before) = (plan.rules.get(at), reach.and_then(|before| plan.rules.get(before)))
        else {
            continue;
        };
        if let (Some(before), Some(earlier)) = (before, reach) {
            let same = (before.image, before.target.space) == (rule.image, rule.target.space);
            if same && rule.target.first < before.target.extent().end() {
                let (first, second) = if earlier < at { (earlier, at) } else { (at, earlier) };
                findings.extend(overlap(project, plan, first, second, rule.target.first));
                dropped.push(second);
                if second == at {
                    continue;
                }
            }
        }
        reach = Some(at);
    }
    dropped.sort_unstable();
    for at in dropped.into_iter().rev() {
        let rule = plan.rules.remove(at);
        plan.unresolved.push((rule.image, rule.target.extent()));
    }
}

fn overlap(project: &Project, plan: &Plan, first: usize, second: usize, cell: u32) -> Option<Finding> {
    let (first, second) = (plan.rules.get(first)?, plan.rules.get(second)?);
    let image = plan.images.get(second.image)?;
    let (other, this) = (project.maps.get(first.map)?, project.maps.get(second.map)?);
    let what = format!("two rules feed {}", image.show(second.target.space, cell, None));
    let next = image.show(first.target.space, first.target.extent().end(), None);
    let finding = Finding::new("M17", this.to.span, what).note(other.to.span, "the other rule");
    Some(finding.mend(format!("move one of them; the first free address after the other is {next}")))
}
