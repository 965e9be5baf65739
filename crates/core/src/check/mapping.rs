//! Rules against each other and against what was promised.

use crate::finding::{Finding, Severity};
use crate::plan::{Plan, PlannedRule, Source, to_u32};
use crate::project::{Endpoint, Owner, Project, Target};
use crate::protocol::{Flow, Verb};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    two_addresses(project, plan, findings);
    promised(project, plan, findings);
    super::rings::check(project, plan, findings);
    groups(project, plan, findings);
    unseen_age(project, plan, findings);
}

/// One point shown twice in the same image.
fn two_addresses(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let key = |at: u32| {
        let rule = plan.rules.get(at as usize)?;
        let Source::Values { owner: Owner::Device(device), place, .. } = rule.source else { return None };
        Some((rule.board, device, place.space, place.first, place.width, place.bit, at))
    };
    let mut places: Vec<_> = (0..to_u32(plan.rules.len())).filter_map(key).collect();
    places.sort_unstable();
    for pair in places.windows(2) {
        let [first, second] = pair else { continue };
        if (first.0, first.1, first.2, first.3, first.4, first.5)
            == (second.0, second.1, second.2, second.3, second.4, second.5)
        {
            findings.extend(shown_twice(project, plan, first.6 as usize, second.6 as usize));
        }
    }
}

fn shown_twice(project: &Project, plan: &Plan, first: usize, second: usize) -> Option<Finding> {
    let (first, second) = (plan.rules.get(first)?, plan.rules.get(second)?);
    let (other, this) = (project.maps.get(first.map)?, project.maps.get(second.map)?);
    let image = plan.board(second.board)?;
    let both = [first, second].map(|rule| image.show(rule.target.space, rule.target.first, None));
    let what = format!("`{}` is shown twice, at {} and at {}", this.from.value, both[0], both[1]);
    Some(Finding::new("M10", this.to.span, what).note(other.to.span, "the other"))
}

/// `needs` of devices: the point must be carried by some rule.
fn promised(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut carried: Vec<(usize, usize)> = vec![];
    for rule in &plan.rules {
        if let Source::Values { owner: Owner::Device(device), point: Some(point), .. } = rule.source {
            carried.push((device, point));
        }
        // One that is written is carried as well.
        carried.extend(plan.sink(rule).zip(rule.target_point));
    }
    carried.sort_unstable();
    // A rule that was left out for another fault would carry it all the same.
    let meant = |name: &str| {
        project.maps.iter().any(|map| map.enabled && (map.from.value == name || map.to.value == name))
    };
    for (at, device) in project.devices.iter().enumerate() {
        for need in &device.must_map {
            let profile = project.profile_of(at);
            let point =
                profile.and_then(|profile| profile.points.iter().position(|p| p.name.value == need.value));
            match point {
                Some(point) if carried.binary_search(&(at, point)).is_ok() => {}
                Some(_) if meant(&format!("{}.{}", device.name.value, need.value)) => {}
                Some(_) => {
                    let what = format!(
                        "`{}.{}` was promised, and no rule carries it",
                        device.name.value, need.value
                    );
                    let fix =
                        format!("add a `[[map]]` with `from = \"{}.{}\"`", device.name.value, need.value);
                    findings.push(Finding::new("M11", need.span, what).fix(fix));
                }
                None if profile.is_some_and(|profile| profile.points.is_empty()) => {}
                None => {
                    let what = format!("`{}` has no point `{}`", device.name.value, need.value);
                    findings.push(
                        Finding::new("F05", need.span, what).fix("write the name of a point of its profile"),
                    );
                }
            }
        }
    }
}

/// Rules of one group that no single request can bring.
fn groups(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    let mut groups: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (at, rule) in plan.rules.iter().enumerate() {
        if let Some(group) = project.maps.get(rule.map).and_then(|map| map.together.as_ref()) {
            groups.entry(&group.value).or_default().push(at);
        }
    }
    // By rule of a group: the requests that bring it, and how many values each.
    let mut brought: HashMap<u32, Vec<(usize, u32)>> = HashMap::new();
    for (at, transfer) in plan.transfers.iter().enumerate().filter(|_| !groups.is_empty()) {
        let steps = plan.steps.get(transfer.steps.start as usize..transfer.steps.end as usize);
        for step in steps.unwrap_or_default() {
            let own = brought.entry(step.rule).or_default();
            match own.last_mut() {
                Some((last, items)) if *last == at => *items += step.items,
                _ => own.push((at, step.items)),
            }
        }
    }
    for (name, rules) in groups {
        let whole = |rule: &usize| -> BTreeSet<usize> {
            let values = plan.rules.get(*rule).map_or(0, |rule| rule.target.count);
            let own = brought.get(&to_u32(*rule)).into_iter().flatten();
            own.filter(|(_, items)| *items == values).map(|(at, _)| *at).collect()
        };
        let mut common: Option<BTreeSet<usize>> = None;
        for rule in &rules {
            let own = whole(rule);
            common = Some(common.map_or(own.clone(), |common| &common & &own));
        }
        let together = common.is_some_and(|common| !common.is_empty());
        let (Some(first), Some(last)) = (rules.first(), rules.last()) else { continue };
        if first == last {
            continue;
        }
        if together {
            findings.extend(apart(project, plan, name, &rules));
            continue;
        }
        let span = |at: &usize| {
            let group = |map: &crate::project::Map| map.together.as_ref().map(|word| word.span);
            plan.rules
                .get(*at)
                .and_then(|rule| project.maps.get(rule.map))
                .and_then(group)
                .unwrap_or_default()
        };
        let what = format!("the rules with `together = \"{name}\"` cannot come from one request");
        let finding = Finding::new("M37", span(last), what).note(span(first), "the first of them");
        findings.push(finding.fix(
            "let them lie within one read of one device and table, with the same `poll`; or raise `read-gap` or `max-read`",
        ));
    }
}

/// Values that come together and lie where no reader gets them in one request.
fn apart(project: &Project, plan: &Plan, name: &str, rules: &[usize]) -> Option<Finding> {
    let own = || rules.iter().filter_map(|at| plan.rules.get(*at));
    let first = own().next()?;
    let (image, place) = (plan.images.get(first.board)?, first.target.extent());
    let same = |rule: &PlannedRule| rule.board == first.board && rule.target.space == place.space;
    let apart = own().find(|rule| !same(rule)).or_else(|| {
        let begin = own().map(|rule| rule.target.extent().first).min()?;
        let last = own().max_by_key(|rule| rule.target.extent().end())?;
        let space = image.space_at(place.space)?;
        let count = last.target.extent().end() - begin;
        image.dialect?.cost(Verb::Read, space, count, &image.setup).is_err().then_some(last)
    })?;
    let map = project.maps.get(apart.map)?;
    let other = project.maps.get(first.map)?;
    let what = format!(
        "the rules with `together = \"{name}\"` come from one request, and a reader takes them in two: between those a new value may come"
    );
    let finding = Finding::new("M37", map.to.span, what).severity(Severity::Warning);
    Some(
        finding
            .note(other.to.span, "the first of them")
            .fix("lay them side by side in one table of the image"),
    )
}

/// A value sent into a device that cannot tell there whether it is old.
fn unseen_age(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    // By device that is told: whose health, or that of something else.
    let mut hears: HashSet<(usize, Option<usize>)> = HashSet::new();
    for rule in &plan.rules {
        if let (Source::Health(told), Some(device)) = (rule.source, plan.sink(rule)) {
            hears.insert((device, told.device()));
        }
    }
    let told = |device: usize, about: usize| {
        hears.contains(&(device, Some(about))) || hears.contains(&(device, None))
    };
    let mut said: HashSet<(usize, usize)> = HashSet::new();
    for rule in &plan.rules {
        let (Source::Values { owner: Owner::Device(from), .. }, Some(to)) = (rule.source, plan.sink(rule))
        else {
            continue;
        };
        // A device that is sent blocks is told with them that something of them is lost.
        let cyclic = plan.flow(Owner::Device(to), rule.target.space) == Flow::Goes;
        if cyclic
            || rule.on_loss != crate::project::OnLoss::Stop
            || told(to, from)
            || !said.insert((from, to))
        {
            continue;
        }
        let (Some(map), Some(source), Some(target)) =
            (project.maps.get(rule.map), plan.devices.get(from), plan.devices.get(to))
        else {
            continue;
        };
        let what =
            format!("`{}` gets a value from `{}` but cannot tell when it is stale", target.name, source.name);
        let fix = format!("send `{}.health.online` beside it, or `on-loss = \"fill V\"`", source.name);
        findings.push(Finding::new("M53", map.to.span, what).fix(fix));
    }
}

/// The place that a required endpoint names, for holding against what is carried.
pub(super) fn carries(plan: &Plan, endpoint: &Endpoint) -> Vec<usize> {
    let matches = |rule: &crate::plan::PlannedRule| match (&endpoint.target, endpoint.owner, rule.source) {
        (Target::Health(wanted), _, Source::Health(told)) => *wanted == told,
        (
            Target::Cells(address, _),
            Owner::Device(at),
            Source::Values { owner: Owner::Device(device), place, .. },
        ) => {
            let id = plan.devices.get(device).and_then(|d| d.spaces.id(&address.space.key));
            let same_space = id == Some(place.space);
            at == device && same_space && (place.first..place.extent().end()).contains(&address.first)
        }
        (Target::Cells(address, _), Owner::Image(at), _) => {
            let id = plan.images.get(at).and_then(|i| i.spaces.id(&address.space.key));
            let same_space = id == Some(rule.target.space);
            at == rule.board
                && !matches!(rule.source, Source::Client)
                && same_space
                && (rule.target.first..rule.target.extent().end()).contains(&address.first)
        }
        _ => false,
    };
    plan.rules.iter().enumerate().filter(|(_, rule)| matches(rule)).map(|(at, _)| at).collect()
}
