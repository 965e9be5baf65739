//! Who must follow a change: the clients with the rows of their lists, and the devices that must be set.

use super::{ChangeKind, Comparison, Difference, EndChange, ValueChange, image_of};
use crate::checked::Checked;
use crate::form::{Form, Type};
use crate::plan::{Plan, Station};
use crate::project::{Asked, Client, Project, address};
use crate::protocol::AddressContext;
use crate::source::Span;
use std::borrow::Cow;
use std::collections::BTreeMap;

/// One thing that must be changed at a client or device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FollowerRow {
    /// Where the old one stands, where that is in a file.
    pub span: Option<Span>,
    /// What is to be changed, in words.
    pub text: String,
}

/// A client, forward or device that still has the old one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Follower {
    /// In words: `client farm-office`, `device blower-1`.
    pub who: String,
    /// What is to be changed there.
    pub rows: Vec<FollowerRow>,
}

/// Changes of an image by table and first address, with how many addresses each takes.
type ByPlace<'c> = BTreeMap<(Cow<'static, str>, u32), Vec<(u32, &'c ValueChange)>>;

/// Who must follow: the clients of the project as it is now, and its devices.
#[must_use]
pub fn followers(comparison: &Comparison, now: &Checked) -> Vec<Follower> {
    let (project, plan) = (&now.project, &now.plan);
    let mut found = vec![];
    let concerned = comparison.values.iter().filter(|change| change.must_follow());
    let mut by_image: BTreeMap<&str, Vec<&ValueChange>> = BTreeMap::new();
    for change in concerned {
        by_image.entry(change.image()).or_default().push(change);
    }
    let asked_otherwise: BTreeMap<&str, &[Difference]> =
        comparison.images.iter().map(|end| (end.name.as_str(), end.differs.as_slice())).collect();
    let mut images: Vec<&str> = by_image.keys().chain(asked_otherwise.keys()).copied().collect();
    images.sort_unstable();
    images.dedup();
    for image in images {
        let changes = by_image.get(image).map_or(&[][..], Vec::as_slice);
        let settings: Vec<&Difference> = asked_otherwise
            .get(image)
            .into_iter()
            .flat_map(|all| all.iter())
            .filter(|own| own.must_follow)
            .collect();
        let own = project.image(image);
        let clients: Vec<&Client> = own.into_iter().flat_map(|own| project.clients_of(own)).collect();
        if clients.is_empty() && !(changes.is_empty() && settings.is_empty()) {
            let mut rows: Vec<FollowerRow> = settings.iter().map(|own| setting_row(None, own)).collect();
            rows.extend(changes.iter().map(|change| FollowerRow { span: None, text: told(change) }));
            found.push(Follower { who: format!("clients of {image}"), rows });
        }
        let placed = own.and_then(|own| plan.images.get(own)).map(|station| by_place(changes, station));
        for client in clients {
            let mut rows: Vec<FollowerRow> = settings
                .iter()
                .filter(|own| !has_setting(client, own))
                .map(|own| setting_row(Some(client.name.span), own))
                .collect();
            if let (Some(placed), Some(station)) = (&placed, own.and_then(|own| plan.images.get(own))) {
                rows.extend(rows_of(client, station, placed, changes));
            }
            if !rows.is_empty() {
                found.push(Follower { who: format!("client {}", client.name.value), rows });
            }
        }
    }
    found.extend(devices(comparison, project, plan));
    found
}

/// Devices that must be set, and who asks them through a forward.
fn devices(comparison: &Comparison, project: &Project, plan: &Plan) -> Vec<Follower> {
    let mut found = vec![];
    for end in &comparison.devices {
        if project.device(&end.name).is_none() {
            continue;
        }
        let rows: Vec<FollowerRow> = end
            .differs
            .iter()
            .filter(|own| own.must_follow)
            .map(|own| {
                let row = setting_row(Some(end.span), own);
                FollowerRow { text: format!("to be set there: {}", row.text), ..row }
            })
            .collect();
        if rows.is_empty() {
            continue;
        }
        found.push(Follower { who: format!("device {}", end.name), rows });
        found.extend(asked_by_old_number(project, plan, end));
    }
    found
}

/// Who asks a device whose number changed by its old one.
#[must_use]
pub fn asked_by_old_number(project: &Project, plan: &Plan, end: &EndChange) -> Vec<Follower> {
    let Some(device) = project.device(&end.name) else { return vec![] };
    let dialect = plan.devices.get(device).and_then(|station| station.dialect);
    let key = dialect.and_then(|dialect| dialect.stations().shared_keys().first());
    let differs = end.differs.iter().find(|own| key.is_some_and(|key| own.what == **key));
    match differs.and_then(|own| Some((own.was.parse().ok()?, own.is.parse().ok()?))) {
        Some((was, is)) => asked_behind(project, plan, device, was, is),
        None => vec![],
    }
}

/// Who asks a device by its old number through a forward: the forward itself, and the clients in front of it.
#[must_use]
pub fn asked_behind(project: &Project, plan: &Plan, device: usize, was: u32, is: u32) -> Vec<Follower> {
    let port = plan.devices.get(device).map(|device| device.port);
    let mut found = vec![];
    for forward in plan.forwards.iter().filter(|forward| Some(forward.to) == port) {
        let from = project.ports.get(forward.from).map_or("", |port| port.name.value.as_str());
        for (asked, _) in forward.units.iter().filter(|(_, answers)| u32::from(*answers) == was) {
            let text = format!(
                "unit {asked} goes to {was}, which no device has any more; make it {is} (`as-units`)"
            );
            let span = project.forwards.get(forward.forward).map(|forward| forward.span);
            let rows = vec![FollowerRow { span, text }];
            found.push(Follower { who: format!("the [[forward]] from port {from}"), rows });
            let asks = |client: &&Client| {
                client.port.as_ref().is_some_and(|port| port.value == forward.from)
                    && client.units.as_ref().is_some_and(|units| units.value.contains(asked))
            };
            for client in project.clients.iter().filter(asks) {
                let span = client.units.as_ref().map(|units| units.span);
                let rows = vec![FollowerRow { span, text: format!("it asks for unit {asked}") }];
                found.push(Follower { who: format!("client {}", client.name.value), rows });
            }
        }
    }
    found
}

fn setting_row(span: Option<Span>, own: &Difference) -> FollowerRow {
    let text = match (own.what.as_str(), own.is.as_str()) {
        ("", "") => format!("it is gone; it was {}", own.was),
        (what, "") => format!("no {what} any more; it was {}", own.was),
        (what, is) if own.was.is_empty() => format!("{what} {is}, and was not set"),
        (what, is) => format!("{what} {is}, and was {}", own.was),
    };
    FollowerRow { span, text }
}

/// Whether a client is known to be set so already.
pub(crate) fn has_setting(client: &Client, own: &Difference) -> bool {
    let set = match own.what.as_str() {
        "address" => client.dials.as_ref().map(|dials| dials.value.host.to_string()),
        "port" => client.dials.as_ref().map(|dials| dials.value.port.to_string()),
        "unit" => client.unit.map(|unit| unit.value.to_string()),
        "line" => client.line.map(|line| line.value.to_string()),
        "protocol" => client.protocol.map(|protocol| protocol.value.name().to_string()),
        _ => None,
    };
    set.is_some_and(|set| set == own.is)
}

fn by_place<'c>(changes: &[&'c ValueChange], station: &Station) -> ByPlace<'c> {
    let mut placed = ByPlace::new();
    for change in changes {
        let Some(at) = change.was_at.as_deref().and_then(|at| at.split_once(':')) else { continue };
        let form = Form::parse(&change.form_was).ok();
        if let Some((space, first, _, width)) = place_of(station, at.1, form, 1) {
            placed.entry((space, first)).or_default().push((width, change));
        }
    }
    placed
}

/// The table, the first address, the bit, and how many addresses are taken.
fn place_of(
    station: &Station,
    at: &str,
    form: Option<Form>,
    count: u32,
) -> Option<(Cow<'static, str>, u32, Option<u8>, u32)> {
    let context = AddressContext::of_image(&station.setup).with_form(form);
    let place = address(station.dialect?, at, Span::default(), &context).ok()?;
    let width = form.map_or(Type::Raw, |form| form.ty).width(place.space.grain).unwrap_or(1);
    Some((place.space.key.clone(), place.first, place.bit, width.saturating_mul(count).max(1)))
}

/// The widest value: a change that begins so far before a row may still reach into it.
const WIDEST: u32 = 128;

/// The rows of a client that keep to the old one.
fn rows_of(
    client: &Client,
    station: &Station,
    placed: &ByPlace<'_>,
    changes: &[&ValueChange],
) -> Vec<FollowerRow> {
    if client.reads.is_empty() && client.writes.is_empty() {
        // What it reads is not said: it may be any of them.
        let all =
            changes.iter().map(|change| FollowerRow { span: Some(client.name.span), text: told(change) });
        return all.collect();
    }
    let place = |asked: &Asked| {
        place_of(station, &asked.address.value, asked.form.map(|form| form.value), asked.count)
    };
    let all = || {
        client.reads.iter().map(|asked| (asked, false)).chain(client.writes.iter().map(|asked| (asked, true)))
    };
    let begins: BTreeMap<(Cow<'static, str>, u32), u32> = all()
        .filter_map(|(asked, _)| place(asked))
        .map(|(space, first, _, count)| ((space, first), count))
        .collect();
    let asks_at = |at: &str| {
        let at = at.split_once(':').map_or(at, |(_, at)| at);
        place_of(station, at, None, 1).is_some_and(|(space, first, ..)| {
            let before = begins.range(..=(space.clone(), first)).next_back();
            before.is_some_and(|((own, begin), count)| *own == space && first < begin + count)
        })
    };
    let mut rows = vec![];
    for (asked, is_write) in all() {
        let Some((space, first, bit, count)) = place(asked) else { continue };
        let from = (space.clone(), first.saturating_sub(WIDEST));
        let near = placed.range(from..(space.clone(), first.saturating_add(count)));
        for ((_, begin), changes) in near {
            for (width, change) in changes.iter().filter(|(width, _)| begin + width > first) {
                // Two bits of one register are two values.
                let other_bit = *width == 1
                    && bit.is_some()
                    && change.was_at.as_deref().is_some_and(|at| {
                        at.contains('.') && !at.ends_with(&format!(".{}", bit.unwrap_or(0)))
                    });
                if other_bit || follows_already(client, asked, change, is_write, &asks_at) {
                    continue;
                }
                rows.push(FollowerRow { span: Some(asked.span), text: told(change) });
            }
        }
    }
    rows
}

/// Whether a row says the new one already, or does not mean this value.
fn follows_already(
    client: &Client,
    asked: &Asked,
    change: &ValueChange,
    is_write: bool,
    asks_at: &dyn Fn(&str) -> bool,
) -> bool {
    let means = asked.is.as_ref().map(|is| is.value.as_str());
    match change.kind {
        ChangeKind::New => true,
        ChangeKind::Gone => means.is_some_and(|means| means != change.source),
        ChangeKind::Moved => match means {
            Some(means) => means != change.source,
            None => change.is_at.as_deref().is_some_and(asks_at),
        },
        ChangeKind::Changed => {
            let new = Form::parse(&change.form_is).ok();
            let form = asked.form.map(|form| form.value);
            let alike = |same: &dyn Fn(&Form, &Form) -> bool| {
                form.zip(new).is_some_and(|(own, new)| same(&own, &new))
            };
            let has = |own: &Difference| match own.what.as_str() {
                "type" => alike(&|own, new| own.ty == new.ty),
                "order" => alike(&|own, new| own.order() == new.order()),
                "scale" => asked.scale_at.is_some() && alike(&|own, new| own.scaling() == new.scaling()),
                "source" => means.is_some_and(|means| means == change.source),
                "access" => !is_write && own.is.contains('R'),
                "on-loss" => client.lost.is_some_and(|lost| lost.value.to_string() == own.is),
                _ => false,
            };
            change.differs.iter().filter(|own| own.must_follow).all(has)
        }
    }
}

/// A change in words, for a client that has the old one.
fn told(change: &ValueChange) -> String {
    let plain = |at: &Option<String>| {
        let at = at.as_deref().unwrap_or_default();
        at.strip_prefix(image_of(at)).map_or(at, |at| at.trim_start_matches(':')).to_string()
    };
    let (was, is) = (plain(&change.was_at), plain(&change.is_at));
    let mut parts: Vec<String> = vec![];
    match change.kind {
        ChangeKind::Moved => parts.push(format!("{} is at {is}, and was at {was}", change.source)),
        ChangeKind::Gone => parts.push(format!("{} is gone from {was}", change.source)),
        ChangeKind::New => parts.push(format!("{} is new at {is}", change.source)),
        ChangeKind::Changed => {}
    }
    let differs = change.differs.iter().filter(|own| own.must_follow).map(|own| {
        let said = |text: &str| if text.is_empty() { "none".to_string() } else { text.to_string() };
        format!("{} {}, and was {}", own.what, said(&own.is), said(&own.was))
    });
    let differs: Vec<String> = differs.collect();
    if !differs.is_empty() {
        let at = if change.kind == ChangeKind::Changed { format!("{was}: ") } else { String::new() };
        parts.push(format!("{at}{}", differs.join("; ")));
    }
    parts.join("; ")
}
