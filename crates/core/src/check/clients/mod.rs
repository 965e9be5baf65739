//! Clients against the image that they ask: what they read, write and must be able to see.

mod expects;
mod meant;
mod writes;

use meant::Described;

use super::cells::{Cells, Melted, Stretch};
use super::cycles;
use super::forwarded::ShownThere;
use super::idle::{unfed, unread, unwritten, written_twice};
use super::taken_for::forms_differ;
use crate::finding::{Finding, PAST_THE_END, Severity};
use crate::form::{Form, Type};
use crate::plan::{Plan, PlannedRule, Source, Station};
use crate::project::{Asked, Client, Map, OnLoss, Owner, Project, Target, address, show_micros};
use crate::protocol::{AddressContext, Extent, SpaceId};
use crate::source::Span;
use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};

/// A poll so many times slower than a client reads is worth a remark.
const SLOWER: u64 = 2;
/// An age of so many intervals of a client is worth a remark.
const OLDER: u64 = 10;

/// One entry of a client's list, placed.
struct ClientRead<'c> {
    asked: &'c Asked,
    extent: Extent,
    /// Grains of one value.
    width: u32,
    /// One bit of the grain.
    bit: Option<u8>,
}

/// How often a rule's values are read by described clients.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Interval {
    /// At least once in so many microseconds.
    Every(u64),
    /// By one of which that is not said.
    Open,
}

/// Holds every client against its image; gives how often the rules are read, by `[[map]]`.
pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) -> HashMap<usize, Interval> {
    let cells = Cells::of(plan);
    let hidden = Melted::of(plan.unresolved.clone());
    let off = switched_off(project);
    let words = Described::of(project, plan);
    let mut intervals: HashMap<usize, Interval> = HashMap::new();
    let mut entered: Vec<OnlyClients<'_>> = vec![];
    let mut read_by_somebody: Vec<(usize, Extent)> = vec![];
    let mut described: Vec<usize> = vec![];
    let mut written: Vec<ClientWrite<'_>> = vec![];
    for client in &project.clients {
        let Some(image) = client.image.map(|image| image.value) else { continue };
        let Some(station) = plan.images.get(image) else { continue };
        // A controller that exchanges blocks asks nothing: it gets all of them.
        let asks = !cycles::exchanges(plan, client);
        let (reads, faults) = placed(client, station, if asks { &client.reads } else { &[] });
        findings.extend(faults);
        let (writes, faults) = placed(client, station, if asks { &client.writes } else { &[] });
        findings.extend(faults);
        let view = ClientView {
            project,
            plan,
            cells: &cells,
            client,
            image,
            station,
            hidden: &hidden,
            switched_off: &off,
            described: &words,
        };
        for read in &reads {
            let stretches = cells.over(image, read.extent);
            view.read(read, &stretches, &reads, findings);
            view.paced(read, &stretches, &mut intervals, findings);
            view.entered(read, &stretches, &mut entered);
        }
        findings.extend(view.twice(&reads));
        findings.extend(view.asks_another_unit());
        findings.extend(view.expects_another_loss(&reads));
        for write in &writes {
            view.write(write, findings);
        }
        written.extend(
            writes.iter().map(|wanted| (image, wanted.extent, wanted.asked.span, client.name.value.as_str())),
        );
        view.needs(&reads, findings);
        read_by_somebody.extend(reads.iter().chain(&writes).map(|wanted| (image, wanted.extent)));
        if !client.reads.is_empty() || !client.writes.is_empty() {
            described.push(image);
        }
    }
    written_twice(plan, &mut written, findings);
    let written = Melted::of(written.iter().map(|(image, extent, ..)| (*image, *extent)).collect());
    unwritten(project, plan, &described, &written, findings);
    unfed(project, plan, &entered, &written, findings);
    unread(project, plan, &described, read_by_somebody, findings);
    intervals
}

fn placed<'c>(client: &Client, station: &Station, list: &'c [Asked]) -> (Vec<ClientRead<'c>>, Vec<Finding>) {
    let (mut found, mut faults) = (vec![], vec![]);
    let Some(dialect) = station.dialect else { return (found, faults) };
    for asked in list {
        let context = AddressContext::of_image(&station.setup).with_form(asked.form.map(|form| form.value));
        let place = match address(dialect, &asked.address.value, asked.address.span, &context) {
            Ok(place) => place,
            Err(fault) => {
                faults.push(fault);
                continue;
            }
        };
        let Some(id) = station.spaces.id(&place.space.key) else { continue };
        let ty = asked.form.map_or(Type::Raw, |form| form.value.ty);
        let span = asked.form.map_or(asked.span, |form| form.span);
        match ty.width(place.space.grain) {
            Ok(width) => {
                let extent = Extent { space: id, first: place.first, count: width * asked.count };
                if place.space.len.is_some_and(|len| extent.end() > len) {
                    let what = format!("`{}` asks past the last {}", client.name.value, place.space.noun);
                    faults
                        .push(Finding::new("M17", asked.span, what).why(PAST_THE_END).fix("lower the count"));
                } else {
                    found.push(ClientRead { asked, extent, width, bit: place.bit });
                }
            }
            Err(why) => faults
                .push(Finding::new("M35", span, format!("`{ty}` {why}")).fix("write a type that it holds")),
        }
    }
    (found, faults)
}

/// What a client writes: image, cells, where that stands, its name.
pub(super) type ClientWrite<'p> = (usize, Extent, Span, &'p str);

/// Cells that a client reads and that only clients write: image, rule, where that stands, its name.
pub(super) type OnlyClients<'p> = (usize, &'p PlannedRule, Span, &'p str);

struct ClientView<'a> {
    project: &'a Project,
    plan: &'a Plan,
    cells: &'a Cells<'a>,
    client: &'a Client,
    image: usize,
    station: &'a Station,
    /// Cells that rules left out would feed.
    hidden: &'a Melted,
    switched_off: &'a SwitchedOff,
    described: &'a Described<'a>,
}

/// Where disabled rules would begin to feed: by image and space, the first cell and the rule's `[[map]]`.
type SwitchedOff = HashMap<(usize, Cow<'static, str>), BTreeMap<u32, usize>>;

fn switched_off(project: &Project) -> SwitchedOff {
    let mut found = SwitchedOff::new();
    for (at, map) in project.maps.iter().enumerate().filter(|(_, map)| !map.enabled) {
        let Ok(end) = project.endpoint(&map.to) else { continue };
        if let (Owner::Image(image), Target::Cells(address, _)) = (end.owner, &end.target) {
            let cells = found.entry((image, address.space.key.clone())).or_default();
            cells.entry(address.first).or_insert(at);
        }
    }
    found
}

impl ClientView<'_> {
    fn show(&self, space: SpaceId, first: u32) -> String {
        self.station.show(space, first, None)
    }

    fn note(&self, finding: Finding, rule: &PlannedRule) -> Finding {
        match self.project.maps.get(rule.map) {
            Some(map) => finding.note(map.to.span, "the rule"),
            None => finding,
        }
    }

    fn read(
        &self,
        wanted: &ClientRead<'_>,
        stretches: &[Stretch<'_>],
        all: &[ClientRead<'_>],
        findings: &mut Vec<Finding>,
    ) {
        findings.extend(self.one_beside(wanted, stretches, "read"));
        for stretch in stretches {
            match stretch {
                Stretch::Bare(extent) => self.bare(wanted, *extent, "reads", findings),
                Stretch::Fed(rule, part) => {
                    self.fed(wanted, rule, *part, all, findings);
                    self.torn(wanted, rule, findings);
                }
            }
        }
        findings.extend(self.spans_devices(wanted, stretches));
    }

    /// A value whose registers come in two requests, because the client's requests are that short.
    fn torn(&self, wanted: &ClientRead<'_>, rule: &PlannedRule, findings: &mut Vec<Finding>) {
        let Some(most) = self.client.max_read.filter(|most| *most < wanted.extent.count) else { return };
        if rule.target.width < 2 {
            return;
        }
        let begins = rule.target.first.max(wanted.extent.first);
        let cuts = |item: &u32| {
            let value = rule.target.item(*item);
            let inside = value.first.checked_sub(wanted.extent.first);
            inside.is_some_and(|offset| offset / most != (offset + value.count - 1) / most)
        };
        let first = (begins - rule.target.first) / rule.target.width;
        if let Some(item) = (first..rule.target.count).find(cuts) {
            let at = self.show(rule.target.space, rule.target.item(item).first);
            let what = format!(
                "`{}` takes {most} registers in one request, which cuts the value at {at} in two",
                self.client.name.value
            );
            let fix = format!(
                "let the client read {} registers at once, or begin its reads at whole values",
                most / rule.target.width * rule.target.width
            );
            findings.push(self.note(Finding::new("M35", wanted.asked.span, what).fix(fix), rule));
        }
    }

    fn bare(&self, wanted: &ClientRead<'_>, extent: Extent, does: &str, findings: &mut Vec<Finding>) {
        // A rule that could not be resolved may feed it: its own fault has been found.
        if self.hidden.meets(self.image, extent) {
            return;
        }
        let first = self.show(extent.space, extent.first);
        let more =
            if extent.count > 1 { format!(" and {} after it", extent.count - 1) } else { String::new() };
        let what = format!("`{}` {does} {first}{more}, which no rule feeds", self.client.name.value);
        let zero = self.project.images.get(self.image).is_some_and(|image| image.unmapped_zero);
        let mut finding = Finding::new("M04", wanted.asked.span, what);
        if let Some(map) = self.switched_off(extent) {
            finding = finding
                .note(map.span, "a rule that would feed it, with `enabled = false`")
                .fix("switch that rule on, or take this out of the client");
        }
        if zero && does == "reads" {
            finding = finding
                .severity(Severity::Remark)
                .fix("it reads as 0, because the image says `unmapped = \"zero\"`");
        }
        findings.push(finding);
    }

    /// A disabled rule whose target lies in these cells.
    fn switched_off(&self, extent: Extent) -> Option<&Map> {
        let space = self.station.space_at(extent.space)?;
        let cells = self.switched_off.get(&(self.image, space.key.clone()))?;
        let (_, map) = cells.range(extent.first..extent.end()).next()?;
        self.project.maps.get(*map)
    }

    /// How often it reads, against how often the values come and how old they may be.
    fn paced(
        &self,
        wanted: &ClientRead<'_>,
        stretches: &[Stretch<'_>],
        intervals: &mut HashMap<usize, Interval>,
        findings: &mut Vec<Finding>,
    ) {
        let every = wanted.asked.every;
        let mut slowest: Option<&PlannedRule> = None;
        let mut oldest: Option<&PlannedRule> = None;
        for stretch in stretches {
            let Stretch::Fed(rule, _) = *stretch else { continue };
            let known = intervals.entry(rule.map).or_insert(every.map_or(Interval::Open, Interval::Every));
            *known = match (*known, every) {
                (Interval::Every(known), Some(every)) => Interval::Every(known.min(every)),
                _ => Interval::Open,
            };
            if matches!(rule.source, Source::Values { .. }) {
                slowest = slowest.filter(|slow| slow.every >= rule.every).or(Some(rule));
                oldest = oldest.filter(|old| old.max_age >= rule.max_age).or(Some(rule));
            }
        }
        let Some(every) = every else { return };
        if let Some(rule) = slowest.filter(|rule| rule.every > SLOWER * every) {
            let what = format!(
                "`{}` reads {} every {}, and it is polled every {}: most reads bring the same value again",
                self.client.name.value,
                self.show(rule.target.space, rule.target.first),
                show_micros(every),
                show_micros(rule.every)
            );
            let finding = Finding::new("M23", wanted.asked.span, what).severity(Severity::Remark);
            findings.push(
                self.note(
                    finding.fix("poll as often as it is read, or let the client read less often"),
                    rule,
                ),
            );
        }
        if let Some(rule) = oldest.filter(|rule| rule.max_age > OLDER * every && rule.max_age < u64::MAX) {
            let what = format!(
                "`{}` reads {} every {}, and it may be {} old before it counts as lost",
                self.client.name.value,
                self.show(rule.target.space, rule.target.first),
                show_micros(every),
                show_micros(rule.max_age)
            );
            findings.push(self.note(Finding::new("M65", wanted.asked.span, what), rule));
        }
    }

    /// Addresses in two of its reads; two bits of one register are two things.
    fn twice(&self, reads: &[ClientRead<'_>]) -> Vec<Finding> {
        let mut sorted: Vec<&ClientRead<'_>> = reads.iter().collect();
        sorted.sort_by_key(|wanted| (wanted.extent.space, wanted.extent.first, wanted.bit));
        let is_twice = |one: &ClientRead<'_>, other: &ClientRead<'_>| {
            one.extent.space == other.extent.space
                && other.extent.first < one.extent.end()
                && (one.bit.is_none() || other.bit.is_none() || one.bit == other.bit)
        };
        let told = |one: &ClientRead<'_>, other: &ClientRead<'_>| {
            let what = format!(
                "`{}` reads {} in two of its entries",
                self.client.name.value,
                self.show(other.extent.space, other.extent.first)
            );
            let (first, second) = if one.asked.span < other.asked.span { (one, other) } else { (other, one) };
            Finding::new("M64", second.asked.span, what).note(first.asked.span, "the other entry")
        };
        let pairs = sorted.windows(2).filter_map(|pair| match pair {
            [one, other] if is_twice(one, other) => Some(told(one, other)),
            _ => None,
        });
        pairs.collect()
    }

    /// Begin and end are those of a rule, moved by one: offset and reference number taken for each other.
    fn one_beside(&self, wanted: &ClientRead<'_>, stretches: &[Stretch<'_>], does: &str) -> Option<Finding> {
        let bare = stretches.iter().any(|stretch| matches!(stretch, Stretch::Bare(_)));
        let Extent { space, first, .. } = wanted.extent;
        let starts = |grain: u32| {
            self.cells.at(self.image, space, grain).filter(|(_, rule)| rule.target.first == grain)
        };
        if starts(first).is_some() {
            return None;
        }
        // One before: the first cell is bare. One after: the last one is, or the value is cut in its middle.
        let before = bare && self.cells.at(self.image, space, first).is_none();
        let after = first > 0 && (bare || wanted.width > 1);
        let (moved, rule) =
            match (before.then(|| starts(first + 1)).flatten(), after.then(|| starts(first - 1)).flatten()) {
                (Some((_, rule)), _) => (first + 1, rule),
                (None, Some((_, rule))) => (first - 1, rule),
                (None, None) => return None,
            };
        let what = format!(
            "the {does} begins at {}, one beside the rule at {}",
            self.show(space, first),
            self.show(space, moved)
        );
        let shown = self.show(space, moved);
        let finding = Finding::new("M54", wanted.asked.address.span, what)
            .fix(format!("{does} {shown}; does the client count from 0?"));
        Some(self.note(finding, rule))
    }

    fn fed(
        &self,
        wanted: &ClientRead<'_>,
        rule: &PlannedRule,
        part: Extent,
        all: &[ClientRead<'_>],
        findings: &mut Vec<Finding>,
    ) {
        let target = rule.target;
        let skew = (part.first - target.first) % target.width;
        let cut = (part.end() - target.first) % target.width;
        let value = format!("`{}` of {} registers", rule.conversion.to.ty, target.width);
        if skew != 0 || cut != 0 {
            let what = if skew != 0 {
                format!("the read begins inside a {value} at {}", self.show(part.space, part.first - skew))
            } else {
                format!("the read ends inside a {value} at {}", self.show(part.space, part.end() - cut))
            };
            let finding = Finding::new("M35", wanted.asked.span, what).fix("read whole values");
            findings.push(self.note(finding, rule));
        } else if let Some(form) = wanted.asked.form {
            findings.extend(self.form_differs(wanted, rule, &form.value, form.span));
        }
        if skew == 0 && cut == 0 {
            findings.extend(self.means_another(wanted, rule, part));
        }
        // The read covers the rule's beginning, and nobody at this client reads its end.
        let begins = wanted.extent.first <= target.first;
        let covered = |grain: u32| {
            all.iter()
                .any(|w| w.extent.space == part.space && (w.extent.first..w.extent.end()).contains(&grain))
        };
        let rule_end = target.extent().end();
        if begins && part.end() < rule_end && !covered(rule_end - 1) {
            let carried = target.count;
            let read = (part.end() - target.first) / target.width;
            let what = format!(
                "the rule carries {carried} values from {} on, and `{}` reads {read} of them",
                self.show(target.space, target.first),
                self.client.name.value
            );
            let finding = Finding::new("M06", wanted.asked.span, what);
            findings.push(self.note(finding, rule));
        }
        let beyond =
            part.end() == rule_end && wanted.extent.end() > rule_end && wanted.extent.first == target.first;
        if beyond
            && wanted.asked.form.is_some_and(|f| f.value.ty == rule.conversion.to.ty)
            && self.cells.at(self.image, part.space, rule_end).is_none()
        {
            let asked = wanted.extent.count / wanted.width;
            let what = format!(
                "the rule carries {} values, and `{}` asks for {asked}",
                target.count, self.client.name.value
            );
            findings.push(self.note(Finding::new("M06", wanted.asked.span, what), rule));
        }
    }

    fn form_differs(
        &self,
        wanted: &ClientRead<'_>,
        rule: &PlannedRule,
        form: &Form,
        span: crate::source::Span,
    ) -> Option<Finding> {
        let same = (form.ty, form.order, form.scaling());
        let ours = &rule.conversion.to;
        if same == (ours.ty, ours.order, ours.scaling()) {
            return None;
        }
        let at = self.show(rule.target.space, wanted.extent.first.max(rule.target.first));
        let space = self.station.space_at(rule.target.space);
        let usual =
            self.station.dialect.zip(space).and_then(|(dialect, space)| dialect.notation().order(space));
        // What a list says of no order is not held against one.
        let own = |form: &Form| match form.order {
            None if wanted.asked.is_listed => None,
            order => Some(order.or(usual).unwrap_or_default()),
        };
        let shown = ShownThere { at: &at, of: "the rule shows" };
        let theirs = (form, wanted.asked.scale_at, span);
        let finding = forms_differ(&self.client.name.value, &shown, theirs, &rule.conversion.to, own)?;
        Some(self.note(finding, rule))
    }

    /// A read is refused whole: one lost device takes the others' values with it.
    fn spans_devices(&self, wanted: &ClientRead<'_>, stretches: &[Stretch<'_>]) -> Option<Finding> {
        let polled = stretches.iter().filter_map(|stretch| match stretch {
            Stretch::Fed(rule, _) if matches!(rule.source, crate::plan::Source::Values { .. }) => Some(*rule),
            _ => None,
        });
        let mut devices: Vec<(usize, &PlannedRule)> =
            polled.filter_map(|rule| Some((rule.source.device()?, rule))).collect();
        let refusing = devices.iter().any(|(_, rule)| rule.on_loss == OnLoss::Refuse);
        devices.dedup_by_key(|(device, _)| *device);
        let (first, second) = (devices.first()?, devices.get(1)?);
        if !refusing {
            return None;
        }
        let name = |at: usize| self.plan.devices.get(at).map_or("", |device| device.name.as_str());
        let what = format!(
            "one read of `{}` holds values of `{}` and `{}`",
            self.client.name.value,
            name(first.0),
            name(second.0)
        );
        let limit = self.client.max_read.unwrap_or(u32::MAX);
        if wanted.extent.count > limit && first.1.target.extent().end() - wanted.extent.first == limit {
            return None;
        }
        let finding = Finding::new("M50", wanted.asked.span, what);
        Some(self.note(finding, second.1))
    }
}

impl<'a> ClientView<'a> {
    /// Cells that it reads and that only clients write.
    fn entered(&self, wanted: &ClientRead<'_>, stretches: &[Stretch<'a>], found: &mut Vec<OnlyClients<'a>>) {
        for stretch in stretches {
            if let Stretch::Fed(rule, _) = *stretch
                && matches!(rule.source, Source::Client)
            {
                found.push((self.image, rule, wanted.asked.span, self.client.name.value.as_str()));
            }
        }
    }
}
