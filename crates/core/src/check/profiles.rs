//! Points of profiles: addresses, forms, ranges, and points that lie over one another.

use crate::finding::{Finding, Severity};
use crate::form::{Form, Type};
use crate::project::{Point, Profile, Project, Role};
use crate::protocol::{Address, AddressContext, Setup};

/// Points are read in the dialect of the first device that has the profile.
pub(super) fn check(project: &Project, findings: &mut Vec<Finding>) {
    for (index, profile) in project.profiles.iter().enumerate() {
        let user = project.devices.iter().position(|device| device.profile.is_some_and(|p| p.value == index));
        let Some(dialect) = user.and_then(|device| project.device_dialect(device)) else { continue };
        let empty = Setup::default();
        let setup =
            user.and_then(|device| project.devices.get(device)).map_or(&empty, |device| &device.setup);
        let mut places: Vec<(Address, u32, &Point)> = vec![];
        for point in &profile.points {
            let parsed = dialect
                .notation()
                .parse(
                    &point.at.value,
                    &AddressContext::of_device(setup).with_form(point.form.map(|form| form.value)),
                )
                .map(|address| Address { first: address.first.saturating_add(point.later), ..address });
            let address = match parsed {
                Ok(address) => address,
                Err(fault) => {
                    let mut finding = Finding::new(
                        fault.code,
                        point.at.span.part(fault.at.start, fault.at.end),
                        fault.what,
                    );
                    if !fault.likely.is_empty() {
                        finding = finding.fix(format!("write {}", crate::project::list_or(&fault.likely)));
                    }
                    findings.push(finding);
                    continue;
                }
            };
            if point.read_write && !address.space.writable {
                let what = format!(
                    "`{}` is said to be writable, but no {} can be written",
                    point.name.value, address.space.noun
                );
                findings.push(
                    Finding::new("M47", point.at.span, what)
                        .fix("drop `access = \"read-write\"`, or correct the address"),
                );
            }
            let ty = point.form.map_or(Type::Raw, |form| form.value.ty);
            match ty.width(address.space.grain) {
                Ok(width) => places.push((address, width, point)),
                Err(why) => {
                    let span = point.form.map_or(point.at.span, |form| form.span);
                    let finding = Finding::new("M35", span, format!("`{ty}` {why}"));
                    findings.push(finding.fix(format!("choose a type that {} holds", address.space.a())));
                }
            }
            findings.extend(range_and_form(point));
            findings.extend(role(point));
        }
        findings.extend(over_one_another(profile, &mut places));
    }
}

/// A setting of the device's line: written by accident it is not found again, and without its codes it cannot be chosen.
fn role(point: &Point) -> Option<Finding> {
    let what = match point.role? {
        Role::LineSpeed | Role::LineParity if point.values.is_empty() => {
            let what =
                format!("`{}` sets the line, and nothing says how its values are coded", point.name.value);
            let fix = "add `values`, such as `values = { 9600 = 0, 19200 = 1 }`, as the manual says";
            return Some(Finding::new("F04", point.name.span, what).fix(fix));
        }
        Role::UnitAddress => "is the device's number on its line",
        Role::LineSpeed | Role::LineParity => "sets the device's line",
        Role::Unlock | Role::Apply => return None,
    };
    if point.guarded || !point.read_write {
        return None;
    }
    let what = format!("`{}` {what}, and may be written like any value", point.name.value);
    Some(
        Finding::new("F04", point.name.span, what)
            .severity(Severity::Warning)
            .fix("add `guarded = true`: `readdress` still writes it, and nothing else does by accident"),
    )
}

/// The point's range in raw values must fit its type, and a scale must leave some steps in it.
fn range_and_form(point: &Point) -> Option<Finding> {
    let (range, form) = (point.range?, point.form?);
    let ty = form.value.ty;
    let (least, most) = ty.limits()?;
    let (low, high) = range.value;
    let ends = [least, most].map(|raw| form.value.value_of(raw as f64));
    let step = (form.value.value_of(1.0) - form.value.value_of(0.0)).abs();
    let (reach_low, reach_high) = (ends[0].min(ends[1]), ends[0].max(ends[1]));
    let slack = (high - low) * 1e-6;
    let finding = |what: String, fix: String| {
        Some(Finding::new("M36", form.span, what).note(range.span, "the range is said here").fix(fix))
    };
    if low < reach_low - slack && !ty.is_signed() {
        return finding(
            format!(
                "`{}` goes down to {low}, which `{}` cannot show: it ends at {}",
                point.name.value,
                form.value,
                tidy(reach_low)
            ),
            format!("write `{}`, if the manual says that the value is signed", signed(ty)),
        );
    }
    if high > reach_high + slack || low < reach_low - slack {
        let (end, reach) = if high > reach_high + slack { (high, reach_high) } else { (low, reach_low) };
        let unsigned = ty.is_signed() && most as f64 * 2.0 * step >= high;
        let fix = if unsigned {
            "write the unsigned type, if the manual says that the value has no sign; else look at the scale"
                .into()
        } else if form.value.linear.is_some() {
            "look at the manual: are both ends of the scale right?".into()
        } else {
            format!("is the scale {}?", larger(form.value, end))
        };
        let what = format!(
            "`{}` goes to {end}, which `{}` cannot show: it ends at {}",
            point.name.value,
            form.value,
            tidy(reach)
        );
        return finding(what, fix);
    }
    let steps = (high - low) / step;
    if form.value.is_scaled() && steps < 10.0 {
        let what = format!("`{}` leaves only {} steps between {low} and {high}", form.value, steps.floor());
        return finding(
            what,
            "look at the manual: the scale may be off by ten, a hundred or a thousand".into(),
        );
    }
    None
}

/// A limit without the dust of binary fractions.
fn tidy(number: f64) -> f64 {
    (number * 1e6).round() / 1e6
}

fn signed(ty: Type) -> Type {
    match ty {
        Type::U8 => Type::I8,
        Type::U32 => Type::I32,
        Type::U64 => Type::I64,
        _ => Type::I16,
    }
}

/// The least power of ten times the scale with which the value fits.
fn larger(form: Form, end: f64) -> String {
    let (least, most) = form.ty.limits().unwrap_or((0, 1));
    let reach = if end < 0.0 { least } else { most } as f64;
    let mut scale = form.scale;
    while scale.exponent < 17 && (reach * scale.as_f64() + form.plus.as_f64()).abs() < end.abs() {
        scale.exponent += 1;
    }
    scale.to_string()
}

/// Points on one address, and wide points that reach into the next one.
fn over_one_another(profile: &Profile, places: &mut [(Address, u32, &Point)]) -> Vec<Finding> {
    places.sort_by(|a, b| (&a.0.space.key, a.0.first).cmp(&(&b.0.space.key, b.0.first)));
    let mut found = vec![];
    for pair in places.windows(2) {
        let [(before, width, first), (after, _, second)] = pair else { continue };
        // Points of one row that reach into each other are one mistake, told elsewhere.
        let row = first.row.is_some() && first.name.span == second.name.span;
        if row || before.space.key != after.space.key || after.first >= before.first + width {
            continue;
        }
        let form = |point: &Point| point.form.map(|form| form.value);
        if before.first != after.first {
            let ty = form(first).map_or(Type::Raw, |form| form.ty);
            let what = format!(
                "`{}` is a `{ty}` of {width} registers, and `{}` begins in its middle",
                first.name.value, second.name.value
            );
            let finding = Finding::new("M35", second.at.span, what).note(first.at.span, "the wider point");
            found.push(
                finding
                    .fix(format!("give `{}` the address after it, or correct its type", second.name.value)),
            );
        } else if before.bit == after.bit && form(first) != form(second) {
            let what = format!(
                "`{}` and `{}` of `{}` are one address in two forms",
                first.name.value, second.name.value, profile.name
            );
            found.push(Finding::new("M10", second.at.span, what).note(first.at.span, "the other point"));
        }
    }
    found
}
