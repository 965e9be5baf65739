//! What a rule needs of its ends: room in tables and requests, and leave to write.

use super::Ends;
use crate::finding::{Finding, PAST_THE_END};
use crate::project::{Endpoint, Owner};
use crate::protocol::{Address, BitWrite, Dialect, Flow, Place, Setup, Space, TooMuch, Verb};
use crate::source::Span;

impl Ends<'_> {
    pub(super) fn runs_past(&self, address: &Address, place: &Place, end: &Endpoint) -> Option<Finding> {
        let whose = if matches!(end.owner, Owner::Device(_)) { "device" } else { "image" };
        let (len, last) = (address.space.len?, place.extent().end());
        (last > len).then(|| {
            let what = format!(
                "{} values end at offset {}, past the {whose}'s last {}, {}",
                place.count,
                last - 1,
                address.space.noun,
                len - 1
            );
            // The end of a block is where both ends have agreed on it.
            let code = if address.space.flow == Flow::Asked { "M17" } else { "M08" };
            Finding::new(code, self.rule.count.map_or(end.span, |count| count.span), what)
                .why(PAST_THE_END)
                .fix("lower `count`, or begin earlier")
        })
    }

    /// The device's own table sizes, where they are known.
    pub(super) fn sizes(
        &self,
        device: usize,
        address: &Address,
        place: &Place,
        span: Span,
    ) -> Option<Finding> {
        // What every device of the protocol has; other tables a programmer made, as long as the file says.
        let standing = |dialect: &'static dyn Dialect| {
            dialect.notation().standing().iter().any(|s| s.key == address.space.key)
        };
        let dialect = self.project.device_dialect(device)?;
        let made = !standing(dialect);
        let device = self.project.devices.get(device)?;
        let (name, size) = device
            .tables
            .iter()
            .find(|(name, _)| dialect.notation().is_table(&address.space, &name.value))?;
        let end = place.extent().end();
        (end > dialect.notation().grains_of(&address.space, *size)).then(|| {
            let last = if made {
                dialect
                    .notation()
                    .show(&address.space, end - place.width, place.width, None, &device.setup)
                    .canonical
            } else {
                format!("offset {}", end - 1)
            };
            let what = format!(
                "it ends at {last}, but `{}` has only {size} {}s",
                device.name.value, address.space.noun
            );
            let found = if made {
                Finding::new("M34", span, what)
            } else {
                Finding::new("M17", span, what).why(PAST_THE_END)
            };
            found.note(name.span, "its size is given here").fix("correct the address, or the size")
        })
    }

    fn setup(&self, device: usize) -> Option<(&'static dyn Dialect, &Setup)> {
        Some((self.project.device_dialect(device)?, &self.project.devices.get(device)?.setup))
    }

    /// One value must fit one request, each way.
    pub(super) fn reading_limits(&self, device: usize, address: &Address, place: &Place) -> Vec<Finding> {
        let Some((dialect, setup)) = self.setup(device) else { return vec![] };
        let mut found = vec![];
        if let Err(limit) = dialect.cost(Verb::Read, &address.space, place.width, setup) {
            let what = format!(
                "one value takes {} {}, and one read of this device {} ({})",
                place.width,
                address.space.grains(),
                limit.limit,
                limit.source
            );
            found.push(
                Finding::new("M16", self.from.span, what)
                    .fix("take a narrower form: a value split over two reads would tear"),
            );
        }
        if let (Some(access), Err(limit)) =
            (self.rule.read_write, dialect.cost(Verb::Write, &address.space, place.width, setup))
        {
            found.push(too_wide(access, place.width, &address.space, limit, "make the rule read-only"));
        }
        found
    }

    /// A read-write rule needs tables that can be written at both ends, and a point that may be.
    pub(super) fn writing_back(
        &self,
        address: &Address,
        point: Option<usize>,
        target: &Address,
    ) -> Vec<Finding> {
        let Some(access) = self.rule.read_write else { return vec![] };
        let mut found = vec![];
        for (end, Endpoint { owner, span, .. }) in [(address, self.from), (target, self.to)] {
            let span = *span;
            if !end.space.writable {
                let what = match owner {
                    Owner::Device(_) => format!("{} of a device cannot be written", end.space.a()),
                    _ => format!("a client cannot write {}", end.space.a()),
                };
                found.push(Finding::new("M47", access, what).note(span, "this end"));
            } else if end.bit.is_some() && end.space.bits == BitWrite::Never {
                let what = format!("one bit of {} cannot be written alone", end.space.a());
                found.push(Finding::new("M47", access, what).note(span, "this end"));
            }
        }
        found.extend(self.guarded(self.from, point, access));
        found
    }

    /// What a rule towards a device needs there.
    pub(super) fn sending_limits(
        &self,
        target: &Address,
        place: &Place,
        point: Option<usize>,
    ) -> Vec<Finding> {
        let Owner::Device(device) = self.to.owner else { return vec![] };
        let mut found = vec![];
        if !target.space.writable {
            let what = format!("{} of a device cannot be written", target.space.a());
            found.push(Finding::new("M47", self.to.span, what).fix("choose a table that can be written"));
        } else if target.bit.is_some() && target.space.bits == BitWrite::Never {
            let what = format!("one bit of {} cannot be written alone", target.space.a());
            found.push(Finding::new("M47", self.to.span, what).fix("write the whole of it"));
        }
        found.extend(self.sizes(device, target, place, self.to.span));
        if let Some((dialect, setup)) = self.setup(device)
            && let Err(limit) = dialect.cost(Verb::Write, &target.space, place.width, setup)
        {
            found.push(too_wide(self.to.span, place.width, &target.space, limit, "take a narrower form"));
        }
        found.extend(self.guarded(self.to, point, self.to.span));
        found
    }

    /// A point that its profile calls read-only is not written.
    fn guarded(&self, end: &Endpoint, point: Option<usize>, span: Span) -> Option<Finding> {
        let point = self.point(end, point?).filter(|point| !point.read_write)?;
        let what = format!("its profile says that `{}` is read-only", point.name.value);
        let finding = Finding::new("M47", span, what).note(point.name.span, "the point");
        let fix = if self.rule.read_write.is_some() {
            "drop `access = \"read-write\"`, or give the point `access = \"read-write\"` if the manual says so"
        } else {
            "give the point `access = \"read-write\"` if the manual says so"
        };
        Some(finding.fix(fix))
    }
}

fn too_wide(span: Span, width: u32, space: &Space, limit: TooMuch, instead: &str) -> Finding {
    let what = format!(
        "one value takes {width} {}, and one write of this device {} ({})",
        space.grains(),
        limit.limit,
        limit.source
    );
    Finding::new("M16", span, what)
        .fix(format!("{instead}, or take a device that takes the value in one write"))
}
