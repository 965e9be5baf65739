//! One rule at a time: both ends read, forms settled, limits held.

use super::{Plan, PlannedRule, Source};
use crate::finding::Finding;
use crate::form::{Conversion, Form, Order, Type};
use crate::project::{Endpoint, Map, OnLoss, Owner, Project, Sending, Target, Told};
use crate::protocol::{
    Address, BitWrite, Brings, Dialect, Extent, Grain, Place, Setup, Space, SpaceId, Verb,
};
use crate::source::Span;
use std::collections::HashSet;

/// Coils that stand for one register.
const REGISTER_BITS: u32 = 16;

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
    // Read-write from an image to a device is the same way read from the other end.
    if let (Owner::Image(_), Owner::Device(_), Some(_)) = (from.owner, to.owner, rule.read_write) {
        let turned = Ends { project, rule, from: &to, to: &from };
        return turned.resolve(plan, map, rule.poll.map(|poll| poll.value));
    }
    Ends { project, rule, from: &from, to: &to }.resolve(plan, map, rule.poll.map(|poll| poll.value))
}

/// Where a rule that cannot be resolved would land.
pub(super) fn landing(project: &Project, plan: &Plan, rule: &Map) -> Option<(usize, Extent)> {
    let end = project.endpoint(&rule.to).ok()?;
    let Target::Cells(address, _) = &end.target else { return None };
    let board = plan.board_of(end.owner)?;
    let at = plan.board(board)?.spaces.iter().position(|space| space.key == address.space.key)?;
    let space = SpaceId(u16::try_from(at).ok()?);
    Some((board, Extent { space, first: address.first, count: 1 }))
}

/// Both ends of one rule.
struct Ends<'a> {
    project: &'a Project,
    rule: &'a Map,
    from: &'a Endpoint,
    to: &'a Endpoint,
}

type Resolved = (Source, Place, Conversion);

impl Ends<'_> {
    fn resolve(&self, plan: &mut Plan, map: usize, poll: Option<u64>) -> Result<PlannedRule, Vec<Finding>> {
        let (Target::Cells(target, target_point), Some(board)) =
            (&self.to.target, plan.board_of(self.to.owner))
        else {
            let what = "what the converter tells about itself can be read and not written";
            return Err(vec![Finding::new("F10", self.to.span, what).mend("write an image or a device")]);
        };
        let own = self.device().and_then(|device| self.project.devices.get(device)).map(|d| d.poll.value);
        let (source, target, conversion) = match &self.from.target {
            Target::Told(told) => self.told(plan, *told, target)?,
            Target::Cells(address, point) => self.cells(plan, address, *point, target, *target_point)?,
        };
        let on_loss = self.on_loss()?;
        let sending = self.sending()?;
        let invalid = match &self.from.target {
            Target::Cells(_, Some(point)) => {
                self.point(self.from, *point).map(|p| p.invalid.as_slice().into())
            }
            _ => None,
        };
        Ok(PlannedRule {
            map,
            source,
            board,
            target,
            target_point: *target_point,
            conversion: plan.shared(conversion),
            writable: self.rule.read_write.is_some(),
            every: poll.or(own).unwrap_or(1_000_000).max(1000),
            max_age: 0,
            on_loss,
            sending,
            confirm: self.rule.confirm,
            invalid: invalid.unwrap_or_default(),
        })
    }

    fn device(&self) -> Option<usize> {
        match self.from.owner {
            Owner::Device(device) => Some(device),
            _ => None,
        }
    }

    fn to_device(&self) -> bool {
        matches!(self.to.owner, Owner::Device(_))
    }

    fn point(&self, end: &Endpoint, point: usize) -> Option<&crate::project::Point> {
        match end.owner {
            Owner::Device(device) => self.project.profile_of(device)?.points.get(point),
            _ => None,
        }
    }

    fn on_loss(&self) -> Result<OnLoss, Vec<Finding>> {
        let wrong = |span, what: &str, mend: &str| Err(vec![Finding::new("F03", span, what).mend(mend)]);
        match (self.rule.on_loss, self.to.owner) {
            (Some(at), Owner::Device(_)) if at.value == OnLoss::Refuse => wrong(
                at.span,
                "a device that is written cannot be refused anything",
                "write stop, hold or fill V",
            ),
            (Some(at), Owner::Image(_)) if at.value == OnLoss::Stop => wrong(
                at.span,
                "`stop` is for rules that write to a device",
                "write refuse, hold or fill 0x8000",
            ),
            (Some(at), _) => Ok(at.value),
            (None, Owner::Device(_)) => Ok(OnLoss::Stop),
            (None, Owner::Image(image)) => {
                Ok(self.project.images.get(image).map(|image| image.on_loss).unwrap_or_default())
            }
            (None, Owner::Converter) => Ok(OnLoss::Refuse),
        }
    }

    fn sending(&self) -> Result<Sending, Vec<Finding>> {
        let from_image = matches!(self.from.owner, Owner::Image(_));
        match self.rule.send.as_deref() {
            Some(send) if !self.to_device() => {
                let what = "`send` is for rules that write to a device";
                Err(vec![Finding::new("F03", send.span, what).mend("leave it away")])
            }
            Some(send) if send.value.on_write && !from_image => {
                let what = "nobody writes here: the values are polled";
                let mend = "write `on-change` or `every 10s`";
                Err(vec![Finding::new("F03", send.span, what).mend(mend).note(self.from.span, "the source")])
            }
            Some(send) => Ok(send.value),
            None if !self.to_device() => Ok(Sending::default()),
            None => Ok(Sending { on_write: from_image, on_change: !from_image, every: None }),
        }
    }

    fn told(&self, plan: &mut Plan, item: Told, target: &Address) -> Result<Resolved, Vec<Finding>> {
        let own = item.ty();
        if let Some(access) = self.rule.read_write {
            let what = "health is told by the converter and cannot be written";
            return Err(vec![Finding::new("M47", access, what)]);
        }
        let default = Form::plain(own);
        let to = self.to.form.map_or(default, |form| form.value);
        let bit = target.space.grain == Grain::Bit || target.bit.is_some();
        if bit && own != Type::Bool {
            let what = format!("`{}` is a number and does not go into one bit", item.show(self.project));
            return Err(vec![Finding::new("M35", self.to.span, what).mend("show it in a register")]);
        }
        let width = self.width(to.ty, target, self.to.span)?;
        let place = Place { space: SpaceId(0), first: target.first, width, count: 1, bit: target.bit };
        let found = self.sending_limits(target, &place, None);
        if !found.is_empty() {
            return Err(found);
        }
        let place = self.placed(plan, target, place)?;
        let conversion = Conversion { from: default, to, overflow: self.rule.overflow };
        Ok((Source::Told(item), place, conversion))
    }

    fn cells(
        &self,
        plan: &mut Plan,
        address: &Address,
        point: Option<usize>,
        target: &Address,
        target_point: Option<usize>,
    ) -> Result<Resolved, Vec<Finding>> {
        let (from, to) = self.forms(address, target)?;
        let mut found = vec![];
        let widths = (self.width(from.ty, address, self.from.span), self.width(to.ty, target, self.to.span));
        let (Ok(width), Ok(target_width)) = widths else {
            return Err([widths.0.err(), widths.1.err()].into_iter().flatten().flatten().collect());
        };
        if (from.ty == Type::Raw) != (to.ty == Type::Raw)
            && !matches!((from.ty, to.ty), (Type::Bool, _) | (_, Type::Bool))
        {
            let what = "`raw` copies cells as they are, and the other end asks for a value".to_string();
            found.push(Finding::new("F08", self.to.span, what).mend("write the same form at both ends"));
        }
        let (width, target_width, count) = self.counts(address, target, (width, from.ty), target_width)?;
        let space = SpaceId(0);
        let place = Place { space, first: address.first, width, count, bit: address.bit };
        let landing = Place { space, first: target.first, width: target_width, count, bit: target.bit };
        found.extend(self.runs_past(address, &place, self.from));
        found.extend(self.runs_past(target, &landing, self.to));
        if let Owner::Device(device) = self.from.owner {
            found.extend(self.sizes(device, address, &place, self.from.span));
            found.extend(self.reading_limits(device, address, &place));
            found.extend(self.writing_back(address, point, target));
        }
        if let (Some(access), Owner::Image(_), Owner::Image(_)) =
            (self.rule.read_write, self.from.owner, self.to.owner)
        {
            let what = "what one client writes and another reads goes one way".to_string();
            found.push(
                Finding::new("F09", access, what)
                    .mend("write a second rule into other cells, or let both ask one image"),
            );
        }
        if let (Some(access), Owner::Device(_), Owner::Device(_)) =
            (self.rule.read_write, self.from.owner, self.to.owner)
        {
            let what = "nobody tells the converter when a device changes a value by itself".to_string();
            found.push(
                Finding::new("F09", access, what)
                    .mend("write a second rule the other way, into another address"),
            );
        }
        if let (Owner::Image(_), false) = (self.from.owner, address.space.writable) {
            let what =
                format!("a client cannot write {}, so there is nothing to carry on", address.space.a());
            found.push(
                Finding::new("M47", self.from.span, what).mend("begin at a coil or a holding register"),
            );
        }
        found.extend(self.sending_limits(target, &landing, target_point));
        if (address.bit.is_some() || target.bit.is_some()) && count > 1 {
            let what = "one bit of a register has no next one, so it cannot be counted".to_string();
            found.push(Finding::new("F09", self.from.span, what).mend("write one rule a bit"));
        }
        if let (Some(bit), Owner::Image(_)) = (address.bit, self.from.owner) {
            let what = format!("clients write whole registers, and bit {bit} is a part of one");
            found.push(
                Finding::new("F09", self.from.span, what)
                    .mend("begin at a coil, or carry the whole register"),
            );
        }
        if !found.is_empty() {
            return Err(found);
        }
        let landing = self.placed(plan, target, landing)?;
        let conversion = Conversion { from, to, overflow: self.rule.overflow };
        let source = match self.from.owner {
            Owner::Device(device) => {
                let station = plan.devices.get_mut(device).ok_or_else(Vec::new)?;
                let place = Place { space: station.space(&address.space), ..place };
                Source::Poll { device, place, point }
            }
            Owner::Image(image) => {
                let station = plan.images.get_mut(image).ok_or_else(Vec::new)?;
                let place = Place { space: station.space(&address.space), ..place };
                Source::Entry { image, place, rule: 0 }
            }
            Owner::Converter => return Err(vec![]),
        };
        Ok((source, landing, conversion))
    }

    /// Widths of one value at both ends, and how many values: registers onto bits are sixteen each, and the reverse.
    fn counts(
        &self,
        address: &Address,
        target: &Address,
        (width, ty): (u32, Type),
        target_width: u32,
    ) -> Result<(u32, u32, u32), Vec<Finding>> {
        let count = self.rule.count.map_or(1, |count| count.value);
        let whole = |end: &Address| end.bit.is_none() && end.space.grain == Grain::Bytes(2);
        let bits = |end: &Address| end.space.grain == Grain::Bit;
        match ty {
            Type::Raw if whole(address) && bits(target) => Ok((1, REGISTER_BITS, count)),
            Type::Raw if bits(address) && whole(target) => {
                if !count.is_multiple_of(REGISTER_BITS) {
                    let what = format!("{count} bits do not fill whole registers of {REGISTER_BITS}");
                    let at = self.rule.count.map_or(self.from.span, |count| count.span);
                    return Err(vec![Finding::new("F09", at, what).mend("write a `count` of 16, 32, …")]);
                }
                Ok((REGISTER_BITS, 1, count / REGISTER_BITS))
            }
            _ => Ok((width, target_width, count)),
        }
    }

    /// The forms of both ends: what one leaves open, the other says.
    fn forms(&self, source: &Address, target: &Address) -> Result<(Form, Form), Vec<Finding>> {
        let bits = |address: &Address| address.space.grain == Grain::Bit || address.bit.is_some();
        let mut from_written = self.from.form.map(|form| form.value);
        let mut to_written = self.to.form.map(|form| form.value);
        for (end, form, address) in [(self.from, from_written, source), (self.to, to_written, target)] {
            let only = address.space.only;
            if let (Some(form), Some(at)) = (form, end.form)
                && !only.is_empty()
                && !only.iter().any(|known| *known == form.ty || known.is_text() && form.ty.is_text())
            {
                let words: Vec<String> = only.iter().map(ToString::to_string).collect();
                let words = crate::project::list_or(&words);
                let what = format!("{} holds {words}, not `{}`", address.space.a(), form.ty);
                let mend = "leave the form away there, and write at the other end what is wanted";
                return Err(vec![Finding::new("M57", at.span, what).mend(mend)]);
            }
        }
        // Words onto bits are copied bit by bit; everything else has the type that its address brings.
        if (from_written, to_written) != (None, None) || bits(source) == bits(target) {
            let brought = (
                from_written.or_else(|| brought(source, to_written, target)),
                to_written.or_else(|| brought(target, from_written, source)),
            );
            (from_written, to_written) = brought;
        }
        let single = self.rule.count.is_none_or(|count| count.value == 1);
        let default = match (from_written.or(to_written), bits(source), bits(target)) {
            (Some(form), ..) => Form { order: None, ..form },
            (None, true, true) => Form::plain(Type::Bool),
            (None, true, false) if single => Form::plain(Type::Bool),
            (None, false, true) if target.bit.is_some() => {
                let what = "a whole register does not go into one bit".to_string();
                let mend = "name the bit that is meant, such as `400010.3`";
                return Err(vec![Finding::new("M35", self.from.span, what).mend(mend)]);
            }
            (None, ..) => Form::plain(Type::Raw),
        };
        let mut from = from_written.unwrap_or(widened(default, source));
        let mut to = to_written.unwrap_or(widened(default, target));
        self.settle(&mut from, self.from, source)?;
        self.settle(&mut to, self.to, target)?;
        Ok((from, to))
    }

    /// The order of one end: an image has that of its protocol, a device must have one where the protocol has none.
    fn settle(&self, form: &mut Form, end: &Endpoint, address: &Address) -> Result<(), Vec<Finding>> {
        if form.order.is_some() {
            return Ok(());
        }
        let own = self.dialect(end.owner).and_then(Dialect::order);
        // A value of one or two bytes lies the same way in all of them.
        let grain = u32::try_from(address.space.grain.cell_bytes()).unwrap_or(2);
        let ordered = form.ty.bytes().is_some_and(|bytes| bytes > grain.max(2));
        form.order = own.filter(|_| ordered);
        if matches!(form.ty, Type::Text(_)) {
            // Characters come in the order in which they are read, wherever the low word of a number is.
            form.order = form.order.map(|order| Order { low_word_first: false, ..order });
        }
        let bytes = form.ty.bytes().unwrap_or(0);
        let several = bytes as usize > address.space.grain.cell_bytes() && !matches!(form.ty, Type::Text(_));
        let device = matches!(end.owner, Owner::Device(_));
        if device && own.is_none() && several && address.space.grain != Grain::Bit {
            return Err(vec![self.no_order(form, bytes, end)]);
        }
        Ok(())
    }

    fn no_order(&self, form: &Form, bytes: u32, end: &Endpoint) -> Finding {
        let letters: Vec<&str> = crate::form::Order::ALL.iter().map(|order| order.letters(bytes)).collect();
        let at = end.form.map_or(end.span, |form| form.span);
        let written = self.project.sources.text(at).trim();
        let what =
            format!("`{}` lies in {} registers, and nothing says in which order", form.ty, bytes.div_ceil(2));
        let example = if end.form.is_some() {
            format!("write `{written} {}`", letters.get(1).unwrap_or(&"CDAB"))
        } else {
            format!("write `{written} as {} {}`", form.ty, letters.get(1).unwrap_or(&"CDAB"))
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
            Owner::Converter => None,
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

    /// The place with its space in the station that it belongs to.
    fn placed(&self, plan: &mut Plan, target: &Address, place: Place) -> Result<Place, Vec<Finding>> {
        let station = match self.to.owner {
            Owner::Image(image) => plan.images.get_mut(image),
            Owner::Device(device) => plan.devices.get_mut(device),
            Owner::Converter => None,
        };
        let space = station.ok_or_else(Vec::new)?.space(&target.space);
        match self.runs_past(target, &place, self.to) {
            Some(finding) => Err(vec![finding]),
            None => Ok(Place { space, ..place }),
        }
    }

    fn runs_past(&self, address: &Address, place: &Place, end: &Endpoint) -> Option<Finding> {
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
            Finding::new("M17", self.rule.count.map_or(end.span, |count| count.span), what)
                .mend("lower `count`, or begin earlier")
        })
    }

    /// The device's own table sizes, where they are known.
    fn sizes(&self, device: usize, address: &Address, place: &Place, span: Span) -> Option<Finding> {
        // What every device of the protocol has; other tables were made by somebody, as long as he said.
        let standing =
            |dialect: &'static dyn Dialect| dialect.standing().iter().any(|s| s.key == address.space.key);
        let dialect = self.project.device_dialect(device)?;
        let made = !standing(dialect);
        let device = self.project.devices.get(device)?;
        let (name, size) =
            device.tables.iter().find(|(name, _)| name.value == dialect.table(&address.space))?;
        let end = place.extent().end();
        (end > dialect.grains_of(&address.space, *size)).then(|| {
            let last = if made {
                dialect.show(&address.space, end - place.width, place.width, None, &device.setup).canonical
            } else {
                format!("offset {}", end - 1)
            };
            let what = format!(
                "it ends at {last}, but `{}` has only {size} {}s",
                device.name.value, address.space.noun
            );
            Finding::new(if made { "M34" } else { "M17" }, span, what)
                .note(name.span, "its size is said here")
                .mend("correct the address, or the size")
        })
    }

    fn setup(&self, device: usize) -> Option<(&'static dyn Dialect, &Setup)> {
        Some((self.project.device_dialect(device)?, &self.project.devices.get(device)?.setup))
    }

    /// One value must fit one request, each way.
    fn reading_limits(&self, device: usize, address: &Address, place: &Place) -> Vec<Finding> {
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
                    .mend("take a narrower form: a value split over two reads would tear"),
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
    fn writing_back(&self, address: &Address, point: Option<usize>, target: &Address) -> Vec<Finding> {
        let Some(access) = self.rule.read_write else { return vec![] };
        let mut found = vec![];
        for (end, span, who) in [(address, self.from.span, "device"), (target, self.to.span, "client")] {
            if !end.space.writable {
                let what = match who {
                    "client" => format!("a client cannot write {}", end.space.a()),
                    _ => format!("{} of a device cannot be written", end.space.a()),
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
    fn sending_limits(&self, target: &Address, place: &Place, point: Option<usize>) -> Vec<Finding> {
        let Owner::Device(device) = self.to.owner else { return vec![] };
        let mut found = vec![];
        if !target.space.writable {
            let what = format!("{} of a device cannot be written", target.space.a());
            found.push(Finding::new("M47", self.to.span, what).mend("choose a table that can be written"));
        } else if target.bit.is_some() && target.space.bits == BitWrite::Never {
            let what = format!("one bit of {} cannot be written alone", target.space.a());
            found.push(Finding::new("M47", self.to.span, what).mend("write the whole of it"));
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
        let mend = if self.rule.read_write.is_some() {
            "drop `access = \"read-write\"`, or give the point `access = \"read-write\"` if the manual says so"
        } else {
            "give the point `access = \"read-write\"` if the manual says so"
        };
        Some(finding.mend(mend))
    }
}

/// A byte's form where addresses are whole words: the same number in a word.
fn widened(form: Form, address: &Address) -> Form {
    let ty = match (form.ty, address.space.grain) {
        (Type::U8, Grain::Bytes(2..)) => Type::U16,
        (Type::I8, Grain::Bytes(2..)) => Type::I16,
        (ty, _) => ty,
    };
    Form { ty, ..form }
}

/// The form that an address brings where nobody wrote one there. What the other end says of scale holds here too; where
/// the address only says how wide, a type as wide that the other end has.
fn brought(own: &Address, other_written: Option<Form>, other: &Address) -> Option<Form> {
    let as_wide = |ty: Type, wide: Type| ty.bytes() == wide.bytes() && ty.bytes().is_some();
    let ty = match (own.brings, other_written, other.brings) {
        (Brings::Nothing, ..) => return None,
        (Brings::Type(ty), ..) => ty,
        (Brings::Width(wide), Some(form), _) if as_wide(form.ty, wide) => form.ty,
        (Brings::Width(wide), None, Brings::Type(ty)) if as_wide(ty, wide) => ty,
        (Brings::Width(wide), ..) => wide,
    };
    let number = !matches!(ty, Type::Text(_) | Type::Bool | Type::Raw);
    let scaled = other_written.filter(|form| number && form.is_scaled());
    Some(scaled.map_or(Form::plain(ty), |form| Form { ty, order: None, ..form }))
}

fn too_wide(
    span: Span,
    width: u32,
    space: &Space,
    limit: crate::protocol::TooMuch,
    instead: &str,
) -> Finding {
    let what = format!(
        "one value takes {width} {}, and one write of this device {} ({})",
        space.grains(),
        limit.limit,
        limit.source
    );
    Finding::new("M16", span, what)
        .mend(format!("{instead}, or take a device that takes the value in one write"))
}

/// Two rules on one cell: the later one is found and left out.
pub(super) fn drop_overlaps(project: &Project, plan: &mut Plan, findings: &mut Vec<Finding>) {
    let mut order: Vec<usize> = (0..plan.rules.len()).collect();
    let key = |rule: &PlannedRule| (rule.board, rule.target.space, rule.target.first, rule.target.bit);
    order.sort_by_key(|at| plan.rules.get(*at).map(key));
    let mut dropped = vec![];
    let mut reach: Option<usize> = None;
    for at in order {
        let (Some(rule), before) = (plan.rules.get(at), reach.and_then(|before| plan.rules.get(before)))
        else {
            continue;
        };
        if let (Some(before), Some(earlier)) = (before, reach) {
            let same = (before.board, before.target.space) == (rule.board, rule.target.space);
            let bits = before.target.bit.zip(rule.target.bit);
            let apart =
                before.target.first == rule.target.first && bits.is_some_and(|(one, other)| one != other);
            if same && rule.target.first < before.target.extent().end() && !apart {
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
    let dropped: HashSet<usize> = dropped.into_iter().collect();
    if !dropped.is_empty() {
        let mut at = 0;
        let unresolved = &mut plan.unresolved;
        plan.rules.retain(|rule| {
            let stays = !dropped.contains(&at);
            at += 1;
            if !stays {
                unresolved.push((rule.board, rule.target.extent()));
            }
            stays
        });
    }
}

fn overlap(project: &Project, plan: &Plan, first: usize, second: usize, cell: u32) -> Option<Finding> {
    let (first, second) = (plan.rules.get(first)?, plan.rules.get(second)?);
    let board = plan.board(second.board)?;
    let (other, this) = (project.maps.get(first.map)?, project.maps.get(second.map)?);
    let shown = board.show(second.target.space, cell, None);
    let next = board.show(first.target.space, first.target.extent().end(), None);
    let written = |rule: &PlannedRule| matches!(rule.source, Source::Client);
    let move_it = format!("move one of them; the first free address after the other is {next}");
    Some(match (written(first), written(second)) {
        (true, true) => {
            Finding::new("M17", this.from.span, format!("two rules take {shown} apart in different ways"))
                .note(other.from.span, "the other rule")
                .mend("let both begin at the same address with the same form and count")
        }
        (_, true) => Finding::new(
            "F09",
            this.from.span,
            format!("{shown} is fed by a rule, so no client can write it"),
        )
        .note(other.to.span, "that rule")
        .mend("begin this rule where that one begins, or at another address"),
        _ => {
            let what = if plan.sink(second).is_some() {
                format!("two rules write {shown}")
            } else {
                format!("two rules feed {shown}")
            };
            Finding::new("M17", this.to.span, what).note(other.to.span, "the other rule").mend(move_it)
        }
    })
}
