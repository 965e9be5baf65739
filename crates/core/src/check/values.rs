//! One set of registers in two forms, and values that the other end cannot hold.

use crate::finding::{Finding, Severity};
use crate::form::{Conversion, Form, Overflow, Type};
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Map, Owner, Point, Project};
use crate::protocol::{Place, SpaceId};
use crate::source::Span;

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    two_rules(project, plan, findings);
    rule_and_point(project, plan, findings);
    ranges(project, plan, findings);
}

/// A place as a rule takes it.
struct Taken<'p> {
    owner: Owner,
    place: Place,
    form: &'p Form,
    rule: usize,
}

impl Taken<'_> {
    /// Whether two forms of one place say different things of it. Cells as they are, single bits and characters lie over
    /// numbers in many good projects.
    fn contradicts(&self, other: &Self) -> bool {
        let plain = |form: &Form| matches!(form.ty, Type::Raw | Type::Bool | Type::Text(_));
        if self.place.bit.is_some() || other.place.bit.is_some() || plain(self.form) || plain(other.form) {
            return false;
        }
        let apart = self.place.first.abs_diff(other.place.first);
        let aligned = self.place.width == other.place.width && apart.is_multiple_of(self.place.width.max(1));
        !aligned || self.form.ty != other.form.ty || self.form.order() != other.form.order()
    }
}

/// The end of a rule that lies in a device, where the rule names an address and not a point of the profile.
fn in_device(plan: &Plan, rule: &PlannedRule) -> Option<(usize, Place, Form, Option<usize>)> {
    if let Some(device) = plan.sink(rule) {
        return Some((device, rule.target, rule.conversion.to, rule.target_point));
    }
    match rule.source {
        Source::Values { owner: Owner::Device(device), place, point } => {
            Some((device, place, rule.conversion.from, point))
        }
        _ => None,
    }
}

fn span_in_device(plan: &Plan, rule: &PlannedRule, map: &Map) -> Span {
    if plan.sink(rule).is_some() { map.to.span } else { map.from.span }
}

/// Two rules that read the same place in different forms, wholly or in part: of a device, or of what clients write.
fn two_rules(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut taken: Vec<Taken<'_>> = Vec::with_capacity(plan.rules.len());
    for (at, rule) in plan.rules.iter().enumerate() {
        let (owner, place) = match rule.source {
            Source::Values { owner, place, .. } => (owner, place),
            Source::ClientCells { image, place, .. } => (Owner::Image(image), place),
            Source::Health(_) | Source::Client => continue,
        };
        taken.push(Taken { owner, place, form: &rule.conversion.from, rule: at });
    }
    taken
        .sort_by_key(|own| (own.owner, own.place.space, own.place.first, own.place.extent().end(), own.rule));
    let mut reach: Option<&Taken<'_>> = None;
    for own in &taken {
        if let Some(before) = reach.filter(|before| {
            (before.owner, before.place.space) == (own.owner, own.place.space)
                && own.place.first < before.place.extent().end()
        }) {
            if before.contradicts(own) {
                findings.extend(contradiction(project, plan, before, own));
            }
            if own.place.extent().end() <= before.place.extent().end() {
                continue;
            }
        }
        reach = Some(own);
    }
}

fn contradiction(project: &Project, plan: &Plan, one: &Taken<'_>, other: &Taken<'_>) -> Option<Finding> {
    let (first, second) = if one.rule < other.rule { (one, other) } else { (other, one) };
    let map = |taken: &Taken<'_>| project.maps.get(plan.rules.get(taken.rule)?.map);
    let (before, own) = (map(first)?, map(second)?);
    // Where both lie: the place of the one that begins later.
    let place = if second.place.first >= first.place.first { second.place } else { first.place };
    let shown = plan.station(second.owner)?.show_wide(place.space, place.first, place.width, None);
    let what = format!("{shown} is read as `{}` here, and by another rule as `{}`", second.form, first.form);
    let finding = Finding::new("M35", own.from.span, what).severity(Severity::Warning);
    let fix = match second.owner {
        Owner::Device(_) => "one of the two is wrong: look at the device's manual",
        _ => "one of the two is wrong: look at what the other end writes there",
    };
    Some(finding.note(before.from.span, "the other rule").fix(fix))
}

/// A rule that names an address at which its device's profile has a point of another form.
fn rule_and_point(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut known: Vec<Option<Vec<PointPlace>>> = plan.devices.iter().map(|_| None).collect();
    for rule in &plan.rules {
        let Some((device, place, form, None)) = in_device(plan, rule) else { continue };
        let (Some(map), Some(profile)) = (project.maps.get(rule.map), project.profile_of(device)) else {
            continue;
        };
        let Some(slot) = known.get_mut(device) else { continue };
        let points = slot.get_or_insert_with(|| points_of(project, plan, device));
        let end = place.extent().end();
        let begin =
            points.partition_point(|(space, _, last, _)| (*space, *last) <= (place.space, place.first));
        let over = points.get(begin..).unwrap_or_default().iter();
        for (space, first, last, at) in
            over.take_while(|(space, first, ..)| (*space, *first) < (place.space, end))
        {
            let Some(point) = profile.points.get(*at) else { continue };
            let Some(own) = point.form else { continue };
            let theirs = Place { space: *space, first: *first, width: last - first, count: 1, bit: None };
            let one = Taken { owner: Owner::Device(device), place: theirs, form: &own.value, rule: 0 };
            let other = Taken { owner: Owner::Device(device), place, form: &form, rule: 0 };
            if !one.contradicts(&other) {
                continue;
            }
            let what = format!(
                "`{form}` takes registers of the point `{}`, which is `{}`",
                point.name.value, own.value
            );
            findings.push(
                Finding::new("M35", span_in_device(plan, rule, map), what)
                    .severity(Severity::Warning)
                    .note(own.span, "the point")
                    .fix(format!("name the point, or write `as {}` at its address", own.value)),
            );
            break;
        }
    }
}

/// Space, first grain, end and index of a point.
type PointPlace = (SpaceId, u32, u32, usize);

/// The places of all points of a device that have a form, sorted.
fn points_of(project: &Project, plan: &Plan, device: usize) -> Vec<PointPlace> {
    let (Some(profile), Some(station)) = (project.profile_of(device), plan.devices.get(device)) else {
        return vec![];
    };
    let place = |(at, point): (usize, &Point)| {
        let address = project.point_address(device, point).ok().filter(|address| address.bit.is_none())?;
        let space = station.spaces.id(&address.space.key)?;
        let width = point.form?.value.ty.width(address.space.grain).ok()?;
        Some((space, address.first, address.first + width, at))
    };
    let mut found: Vec<_> = profile.points.iter().enumerate().filter_map(place).collect();
    found.sort_unstable_by_key(|(space, first, last, at)| (*space, *last, *first, *at));
    found
}

/// The point that one end of a rule names.
fn point_of(project: &Project, owner: Owner, point: Option<usize>) -> Option<&Point> {
    match owner {
        Owner::Device(device) => project.profile_of(device)?.points.get(point?),
        _ => None,
    }
}

/// What a source can say, against what the other end can hold, and the units of the two.
fn ranges(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for rule in &plan.rules {
        let Some(map) = project.maps.get(rule.map) else { continue };
        let Source::Values { owner: Owner::Device(device), point, .. } = rule.source else { continue };
        let Some(source) = point_of(project, Owner::Device(device), point) else { continue };
        let target = plan.sink(rule).and_then(|to| point_of(project, Owner::Device(to), rule.target_point));
        if let (Some(range), true) = (source.range, rule.conversion.overflow == Overflow::Refuse) {
            findings.extend(
                too_narrow(&rule.conversion, range.value, source, map)
                    .map(|f| f.note(range.span, "the range is said here")),
            );
        }
        let Some(target) = target else { continue };
        if let (Some(from), Some(to)) = (source.range, target.range) {
            let (low, high) = (from.value.0 < to.value.0, from.value.1 > to.value.1);
            if low || high {
                let what = format!(
                    "`{}` goes from {} to {}, and `{}` takes {} to {}",
                    source.name.value, from.value.0, from.value.1, target.name.value, to.value.0, to.value.1
                );
                findings.push(
                    Finding::new("M36", map.to.span, what)
                        .severity(Severity::Warning)
                        .note(from.span, "the source")
                        .note(to.span, "the target")
                        .fix("does the rule carry the right value? else correct the ranges"),
                );
            }
        }
        if let (Some(from), Some(to)) = (&source.eu, &target.eu)
            && !from.eq_ignore_ascii_case(to)
        {
            let what = format!("`{}` is in {from}, and `{}` in {to}", source.name.value, target.name.value);
            findings.push(
                Finding::new("M36", map.to.span, what)
                    .severity(Severity::Warning)
                    .fix("write the `scale` and `plus` that turn one unit into the other, and say so in a `note`; or correct `eu`"),
            );
        }
    }
}

/// The range of a source that the form at the other end cannot hold.
fn too_narrow(
    conversion: &Conversion,
    (low, high): (f64, f64),
    source: &Point,
    map: &Map,
) -> Option<Finding> {
    let ty = conversion.to.ty;
    // The point's own form is held against its range where the profile is read.
    if ty == conversion.from.ty && conversion.to.scaling() == conversion.from.scaling() {
        return None;
    }
    let (least, most) = ty.limits()?;
    let ends = [least, most].map(|raw| conversion.to.value_of(raw as f64));
    let (reach_low, reach_high) = (ends[0].min(ends[1]), ends[0].max(ends[1]));
    let slack = (high - low) * 1e-6;
    let end = if low < reach_low - slack {
        low
    } else if high > reach_high + slack {
        high
    } else {
        return None;
    };
    let what = format!(
        "`{}` can be {end}, and `{}` at the other end holds {reach_low} to {reach_high}: such a value counts as lost",
        source.name.value, conversion.to
    );
    Some(
        Finding::new("M36", map.to.span, what)
            .severity(Severity::Warning)
            .fix("write a wider or a signed type there, another scale, or `overflow = \"clamp\"`"),
    )
}
