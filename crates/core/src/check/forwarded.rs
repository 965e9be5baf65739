//! Clients that ask through a forward: the units that it passes, the functions that it lets through, and the forms of
//! what lies behind it.

use super::taken_for::forms_differ;
use crate::finding::Finding;
use crate::form::{Form, Type};
use crate::nearest::nearest;
use crate::plan::{Plan, Station};
use crate::project::{Asked, Client, Forward, Point, Project, address};
use crate::protocol::{Address, AddressContext, Dialect, Setup, Verb};

pub(super) fn check(project: &Project, plan: &Plan, findings: &mut Vec<Finding>) {
    for client in &project.clients {
        let Some(port) = client.port else { continue };
        let Some(settings) = project.ports.get(port.value) else { continue };
        let Some(dialect) =
            settings.protocol.map(|protocol| protocol.value).filter(|dialect| !dialect.is_opaque())
        else {
            continue;
        };
        let from_here = |forward: &&Forward| forward.from.is_some_and(|from| from.value == port.value);
        let view = ForwardView {
            project,
            plan,
            client,
            dialect,
            port: settings.name.value.as_str(),
            forwards: project.forwards.iter().filter(from_here).collect(),
            at: port.value,
        };
        view.units(findings);
        view.devices(findings);
        view.requests(findings);
    }
}

struct ForwardView<'a> {
    project: &'a Project,
    plan: &'a Plan,
    client: &'a Client,
    dialect: &'static dyn Dialect,
    port: &'a str,
    forwards: Vec<&'a Forward>,
    at: usize,
}

impl ForwardView<'_> {
    /// The forward that passes a unit, and what the unit is behind it.
    fn passes(&self, unit: u16) -> Option<(&Forward, u16)> {
        self.forwards.iter().find_map(|forward| {
            let (_, behind) = forward.units.as_ref()?.value.iter().find(|(here, _)| *here == unit)?;
            Some((*forward, *behind))
        })
    }

    fn asked(&self) -> &[u16] {
        self.client.units.as_ref().map_or(&[], |units| units.value.as_slice())
    }

    /// Units that nothing answers for at that port.
    fn units(&self, findings: &mut Vec<Finding>) {
        let Some(units) = &self.client.units else { return };
        let image = |unit: u16| {
            self.project.images.iter().any(|image| {
                let own = self.dialect.stations().number(&image.setup);
                image.port.is_some_and(|port| port.value == self.at)
                    && own.is_none_or(|own| own == u32::from(unit))
            })
        };
        let lost: Vec<String> = units
            .value
            .iter()
            .filter(|unit| **unit != 0 && self.passes(**unit).is_none() && !image(**unit))
            .map(ToString::to_string)
            .collect();
        if lost.is_empty() {
            return;
        }
        let few = lost.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
        let more = if lost.len() > 3 { format!(" and {} more", lost.len() - 3) } else { String::new() };
        let what = format!(
            "`{}` asks unit {few}{more} on `{}`, and no forward passes it",
            self.client.name.value, self.port
        );
        let mut finding = Finding::new("M04", units.span, what)
            .fix("add the unit to `units` of a forward, or correct it at the client");
        if let Some(known) = self.forwards.first().and_then(|forward| forward.units.as_ref()) {
            finding = finding.note(known.span, "units that are forwarded");
        }
        findings.push(finding);
    }

    /// Whom it means behind its units, against the devices that answer there.
    fn devices(&self, findings: &mut Vec<Finding>) {
        let client = &self.client.name.value;
        for (unit, meant) in &self.client.meant {
            let Some(device) = self.project.device(&meant.value) else {
                let near =
                    nearest(&meant.value, self.project.devices.iter().map(|own| own.name.value.as_str()));
                let fix = near.map_or("write the name of a device".into(), |near| format!("write `{near}`"));
                let what = format!("there is no device `{}`", meant.value);
                findings.push(Finding::new("F05", meant.span, what).fix(fix));
                continue;
            };
            // A unit that no forward passes is told as such.
            let Some((forward, behind)) = self.passes(*unit) else { continue };
            let Some(to) = forward.to else { continue };
            let number = |at: usize| self.plan.devices.get(at).filter(|own| own.port == to.value)?.number();
            if number(device) == Some(u32::from(behind)) {
                continue;
            }
            let other = (0..self.plan.devices.len()).find(|at| number(*at) == Some(u32::from(behind)));
            let other = other.and_then(|at| self.project.devices.get(at));
            let there = other.map_or("no device".into(), |other| format!("`{}`", other.name.value));
            let what = format!(
                "`{client}` takes unit {unit} on `{}` for `{}`, and behind it is {there}",
                self.port, meant.value
            );
            let mut finding = Finding::new("M63", meant.span, what)
                .why("one device stands under the name of another, and a write goes to the wrong one");
            if let Some(other) = other {
                finding = finding.note(other.name.span, "the device that answers");
            }
            let asked = forward.units.as_ref().and_then(|units| {
                let (asked, _) =
                    units.value.iter().find(|(_, there)| number(device) == Some(u32::from(*there)))?;
                Some(*asked)
            });
            findings.push(match asked {
                Some(asked) => {
                    finding.fix(format!("`{}` is unit {asked} there: correct it at the client", meant.value))
                }
                None => finding.fix(format!(
                    "let a forward pass a unit to `{}`, and correct it at the client",
                    meant.value
                )),
            });
        }
    }

    /// What it reads and writes, against the functions that pass and the points that lie there.
    fn requests(&self, findings: &mut Vec<Finding>) {
        let reads = self.client.reads.iter().map(|asked| (asked, Verb::Read));
        for (asked, verb) in reads.chain(self.client.writes.iter().map(|asked| (asked, Verb::Write))) {
            let empty = Setup::default();
            let context = AddressContext::of_device(&empty).with_form(asked.form.map(|form| form.value));
            let place = match address(self.dialect, &asked.address.value, asked.address.span, &context) {
                Ok(place) => place,
                Err(fault) => {
                    findings.push(fault);
                    continue;
                }
            };
            findings.extend(self.kept_back(asked, verb, &place));
            findings.extend(self.differs(asked, verb, &place));
        }
    }

    /// The codes of the requests by which this may be asked: a single value is written in two ways.
    fn codes(&self, asked: &Asked, verb: Verb, place: &Address) -> Vec<u8> {
        let each = place.space.grain.cell_bytes();
        let ty = asked.form.map_or(Type::Raw, |form| form.value.ty);
        let Ok(width) = ty.width(place.space.grain) else { return vec![] };
        let count = width.saturating_mul(asked.count).min(64) as usize;
        let cells = vec![0; count.max(1) * each];
        let ways = ["single", "multiple"].map(|way| {
            let setup =
                Setup { numbers: vec![], words: vec![("write-one", way.to_string())], ..Setup::default() };
            let requests = self.dialect.requests()?;
            let example = requests.example(verb, &place.space, place.first, &cells, &setup);
            requests.request_code(&example.request)
        });
        let mut codes: Vec<u8> = ways.into_iter().flatten().collect();
        codes.dedup();
        codes
    }

    fn kept_back(&self, asked: &Asked, verb: Verb, place: &Address) -> Option<Finding> {
        let codes = self.codes(asked, verb, place);
        let closed = |forward: &&Forward| {
            let functions = forward.functions.as_ref()?;
            let open = codes.iter().any(|code| functions.value.contains(code));
            (!open && !codes.is_empty()).then_some(functions.span)
        };
        let units = self.asked();
        let (unit, span) = units.iter().find_map(|unit| Some((*unit, closed(&self.passes(*unit)?.0)?)))?;
        let does = if verb == Verb::Read { "reads" } else { "writes" };
        let words: Vec<String> = codes.iter().map(ToString::to_string).collect();
        let what = format!(
            "`{}` {does} {} of unit {unit} with function {}, which the forward blocks",
            self.client.name.value,
            asked.address.value,
            words.join(" or ")
        );
        let code = if verb == Verb::Read { "M04" } else { "M47" };
        let finding = Finding::new(code, asked.span, what).note(span, "the functions that pass");
        Some(finding.fix("add the function to `functions` of the forward, or take it out of the client"))
    }

    /// The device behind a unit.
    fn device(&self, unit: u16) -> Option<usize> {
        let (forward, behind) = self.passes(unit)?;
        let to = forward.to?.value;
        (0..self.plan.devices.len()).find(|at| {
            let here = self.plan.devices.get(*at).is_some_and(|device| device.port == to);
            here && self.plan.devices.get(*at).and_then(Station::number) == Some(behind.into())
        })
    }

    /// The point that begins where the client asks, in another form.
    fn differs(&self, asked: &Asked, verb: Verb, place: &Address) -> Option<Finding> {
        let form = asked.form?;
        for unit in self.asked() {
            let Some(device) = self.device(*unit) else { continue };
            let Some(profile) = self.project.profile_of(device) else { continue };
            let there = |point: &&Point| {
                let own = self.project.point_address(device, point);
                own.is_ok_and(|own| {
                    own.space.key == place.space.key && own.first == place.first && own.bit == place.bit
                })
            };
            let Some(point) = profile.points.iter().find(there) else { continue };
            if verb == Verb::Write && !point.read_write {
                let what = format!(
                    "`{}` writes {} of unit {unit}, and the profile says that `{}` is read-only",
                    self.client.name.value, asked.address.value, point.name.value
                );
                return Some(Finding::new("M47", asked.span, what).note(point.name.span, "the point"));
            }
            let Some(own) = point.form else { continue };
            let shown = ShownThere {
                at: &asked.address.value,
                of: &format!("the device has there, as `{}`,", point.name.value),
            };
            let order = |form: &Form| form.order;
            let found = forms_differ(
                &self.client.name.value,
                &shown,
                (&form.value, asked.scale_at, form.span),
                &own.value,
                order,
            );
            if let Some(finding) = found {
                return Some(finding.note(own.span, "the point"));
            }
        }
        None
    }
}

/// Where a client asks, and what shows it there, for messages.
pub(super) struct ShownThere<'a> {
    /// The address.
    pub(super) at: &'a str,
    /// `the rule shows`.
    pub(super) of: &'a str,
}
