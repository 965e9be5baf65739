//! One rule at a time: both ends read, forms settled, limits held.

mod forms;
mod limits;

use super::{Plan, PlannedRule, Source, Station};
use crate::finding::Finding;
use crate::form::{Conversion, Form, Type};
use crate::project::{Endpoint, HealthItem, Map, OnLoss, Owner, Polling, Project, Sending, Target};
use crate::protocol::{Address, CyclicTimes, Extent, Flow, Grain, Place, Space, SpaceId};
use crate::source::Span;

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
        return turned.resolve(plan, map);
    }
    Ends { project, rule, from: &from, to: &to }.resolve(plan, map)
}

/// Where a rule that cannot be resolved would land.
pub(super) fn landing(project: &Project, plan: &Plan, rule: &Map) -> Option<(usize, Extent)> {
    let end = project.endpoint(&rule.to).ok()?;
    let Target::Cells(address, _) = &end.target else { return None };
    let board = plan.board_of(end.owner)?;
    let space = plan.board(board)?.spaces.id(&address.space.key)?;
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
    fn resolve(&self, plan: &mut Plan, map: usize) -> Result<PlannedRule, Vec<Finding>> {
        let (Target::Cells(target, target_point), Some(board)) =
            (&self.to.target, plan.board_of(self.to.owner))
        else {
            let what = "health of the converter can be read and not written";
            return Err(vec![Finding::new("F10", self.to.span, what).fix("write an image or a device")]);
        };
        let found = self.against_the_flow(target);
        if !found.is_empty() {
            return Err(found);
        }
        let (source, target, conversion) = match &self.from.target {
            Target::Health(told) => self.told(plan, *told, target, *target_point)?,
            Target::Cells(address, point) => self.cells(plan, address, *point, target, *target_point)?,
        };
        let (every, published) = self.interval(plan)?;
        let on_loss = self.on_loss()?;
        let sending = self.sending(self.goes())?;
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
            every,
            published,
            max_age: 0,
            on_loss,
            sending,
            after_device: self.rule.after_device,
            invalid: invalid.unwrap_or_default(),
        })
    }

    /// Whether the rule begins where values come in cycles.
    fn comes(&self) -> bool {
        matches!(&self.from.target, Target::Cells(address, _) if address.space.flow == Flow::Comes)
    }

    /// How often frames go to and from a station, where they do.
    fn cyclic(&self, owner: Owner) -> Option<CyclicTimes> {
        let (dialect, setup) = match owner {
            Owner::Device(at) => (self.project.device_dialect(at)?, &self.project.devices.get(at)?.setup),
            Owner::Image(at) => (self.project.image_dialect(at)?, &self.project.images.get(at)?.setup),
            Owner::Converter => return None,
        };
        Some(dialect.cyclic()?.times(setup))
    }

    /// Whether a reader of the target can be refused one value.
    fn can_refuse(&self) -> bool {
        let Owner::Image(image) = self.to.owner else { return false };
        let cyclic = self.project.image_dialect(image).and_then(|dialect| dialect.cyclic());
        cyclic.is_none_or(|cyclic| cyclic.tells_loss())
    }

    /// A rule that begins where we send, or ends where the other end does: each with how both ends call it.
    fn against_the_flow(&self, target: &Address) -> Vec<Finding> {
        let name = |end: &Endpoint| match end.owner {
            Owner::Image(at) => self.project.images.get(at).map(|image| image.name.value.as_str()),
            Owner::Device(at) => self.project.devices.get(at).map(|device| device.name.value.as_str()),
            Owner::Converter => None,
        };
        let ours = |end: &Endpoint| matches!(end.owner, Owner::Image(_));
        let mut found = vec![];
        if let Target::Cells(source, _) = &self.from.target
            && source.space.flow == Flow::Goes
        {
            let (block, other) = blocks(ours(self.from));
            let what = format!(
                "a rule cannot begin in the {block} of `{}`: {}",
                name(self.from).unwrap_or_default(),
                if ours(self.from) {
                    "the controller reads them, and the converter writes them"
                } else {
                    "the converter writes them, as the device's controller"
                }
            );
            let fix = format!("begin in its {other}, or turn the rule round");
            found.push(Finding::new("M08", self.from.span, what).fix(fix));
        }
        if target.space.flow == Flow::Comes {
            let (other, block) = blocks(ours(self.to));
            let what = format!(
                "a rule cannot end in the {block} of `{}`: {}",
                name(self.to).unwrap_or_default(),
                if ours(self.to) {
                    "the controller writes them, and the converter reads them"
                } else {
                    "the device sends them, and the converter reads them"
                }
            );
            let fix = format!("end in its {other}, or turn the rule round");
            found.push(Finding::new("M08", self.to.span, what).fix(fix));
        }
        if let (Some(access), true) = (self.rule.read_write, self.comes() || target.space.flow == Flow::Goes)
        {
            let what = "a block in cycles goes one way, and this rule is to go both";
            found.push(
                Finding::new("F09", access, what)
                    .fix("write a second rule from the outputs of the controller"),
            );
        }
        found
    }

    /// How often the values are asked for, in microseconds, or come by themselves.
    fn interval(&self, plan: &Plan) -> Result<(u64, bool), Vec<Finding>> {
        if let Some(cyclic) = self.comes().then(|| self.cyclic(self.from.owner)).flatten() {
            if let Some(poll) = self.rule.poll {
                let what = "these values come in cycles and are not polled";
                return Err(vec![Finding::new("F03", poll.span, what).fix("leave `poll` out")]);
            }
            return Ok((cyclic.period, false));
        }
        let device = self.device();
        let own = device.and_then(|device| self.project.devices.get(device)).map(|device| device.poll);
        let poll = self.rule.poll.or(own);
        let (Some(at), Some(device), Target::Cells(address, _)) =
            (poll.filter(|poll| poll.value == Polling::Published), device, &self.from.target)
        else {
            let every = poll.map_or(1_000_000, |poll| poll.value.every().unwrap_or(1_000_000));
            return Ok((every.max(1000), false));
        };
        if let (Some(publishing), true) = (plan.publishing(device), address.space.publishes) {
            return Ok((publishing.every.max(1000), true));
        }
        let name = &self.project.devices.get(device).ok_or_else(Vec::new)?.name.value;
        let (what, fix) = match plan.publishing(device) {
            None => (
                format!("values of `{name}` do not come by themselves in its protocol"),
                "write how often it is asked, such as `1s`",
            ),
            Some(_) => (
                format!("`{}` does not come by itself, as `poll = \"published\"` says", self.rule.from.value),
                "add `poll = \"10s\"` to the rule: it is asked for then",
            ),
        };
        Err(vec![
            Finding::new("F03", self.rule.poll.map_or(self.from.span, |own| own.span), what)
                .note(at.span, "said here")
                .fix(fix),
        ])
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
        let wrong = |span, what: &str, fix: &str| Err(vec![Finding::new("F03", span, what).fix(fix)]);
        match (self.rule.on_loss, self.to.owner) {
            (Some(at), Owner::Device(_)) if at.value == OnLoss::Refuse => wrong(
                at.span,
                "a device that is written cannot be refused anything",
                "write stop, hold or fill V",
            ),
            (Some(at), Owner::Image(_)) if at.value == OnLoss::Refuse && !self.can_refuse() => wrong(
                at.span,
                "a controller that gets a block cannot be refused one value of it",
                "write hold or fill V, and map `DEVICE.health.online` into the same block",
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

    /// Whether the rule ends where values go in cycles.
    fn goes(&self) -> bool {
        matches!(&self.to.target, Target::Cells(address, _) if address.space.flow == Flow::Goes)
    }

    fn sending(&self, goes: bool) -> Result<Sending, Vec<Finding>> {
        let from_image = matches!(self.from.owner, Owner::Image(_)) && !self.comes();
        match self.rule.send.as_deref() {
            Some(send) if goes => {
                let what = "this value goes in every frame, whether it has changed or not";
                Err(vec![Finding::new("F03", send.span, what).fix("leave `send` out")])
            }
            None if goes => Ok(Sending::default()),
            Some(send) if !self.to_device() => {
                let what = "`send` is for rules that write to a device";
                Err(vec![Finding::new("F03", send.span, what).fix("leave it out")])
            }
            Some(send) if send.value.on_write && !from_image => {
                let what = "no client writes here: the values are polled";
                let fix = "write `on-change` or `every 10s`";
                Err(vec![Finding::new("F03", send.span, what).fix(fix).note(self.from.span, "the source")])
            }
            Some(send) => Ok(send.value),
            None if !self.to_device() => Ok(Sending::default()),
            None => Ok(Sending { on_write: from_image, on_change: !from_image, every: None }),
        }
    }

    fn told(
        &self,
        plan: &mut Plan,
        item: HealthItem,
        target: &Address,
        target_point: Option<usize>,
    ) -> Result<Resolved, Vec<Finding>> {
        let own = item.ty();
        if let Some(access) = self.rule.read_write {
            let what = "health comes from the converter and cannot be written";
            return Err(vec![Finding::new("M47", access, what)]);
        }
        let default = Form::plain(own);
        let to = self.to.form.map_or(default, |form| form.value);
        let bit = target.space.grain == Grain::Bit || target.bit.is_some();
        if bit && own != Type::Bool {
            let what = format!("`{}` is a number and does not go into one bit", item.show(self.project));
            return Err(vec![Finding::new("M35", self.to.span, what).fix("show it in a register")]);
        }
        let width = self.width(to.ty, target, self.to.span)?;
        let place = Place { space: SpaceId(0), first: target.first, width, count: 1, bit: target.bit };
        let found = self.sending_limits(target, &place, target_point);
        if !found.is_empty() {
            return Err(found);
        }
        let place = self.placed(plan, target, place)?;
        let conversion = Conversion { from: default, to, overflow: self.rule.overflow };
        Ok((Source::Health(item), place, conversion))
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
            found.push(Finding::new("F08", self.to.span, what).fix("write the same form at both ends"));
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
        }
        if let (Some(access), Owner::Device(_), Owner::Device(_)) =
            (self.rule.read_write, self.from.owner, self.to.owner)
        {
            let what = "a device does not tell the converter when a value changes".to_string();
            found.push(
                Finding::new("F09", access, what)
                    .fix("write a second rule the other way, into another address"),
            );
        }
        if self.comes() || self.device().is_some() || address.space.writable {
            found.extend(self.writing_back(address, point, target));
        } else {
            let what =
                format!("a client cannot write {}, so there is nothing to carry on", address.space.a());
            found
                .push(Finding::new("M47", self.from.span, what).fix("begin at a coil or a holding register"));
        }
        found.extend(self.sending_limits(target, &landing, target_point));
        if (address.bit.is_some() || target.bit.is_some()) && count > 1 {
            let what = "`count` goes from word to word, and this is one bit of one".to_string();
            found
                .push(Finding::new("F09", self.from.span, what).fix(self.bit_by_bit(address, target, count)));
        }
        if let (Some(bit), Owner::Image(_), false) = (address.bit, self.from.owner, self.comes()) {
            let what = format!("clients write whole registers, and bit {bit} is a part of one");
            found.push(
                Finding::new("F09", self.from.span, what).fix("begin at a coil, or carry the whole register"),
            );
        }
        if !found.is_empty() {
            return Err(found);
        }
        if let Some(finding) = self.other_type(plan, address) {
            return Err(vec![finding]);
        }
        let landing = self.placed(plan, target, landing)?;
        let conversion = Conversion { from, to, overflow: self.rule.overflow };
        let source = match self.from.owner {
            Owner::Device(device) => {
                let station = plan.devices.get_mut(device).ok_or_else(Vec::new)?;
                let place = Place { space: station.space(&address.space), ..place };
                Source::Values { owner: Owner::Device(device), place, point }
            }
            Owner::Image(image) => {
                let station = plan.images.get_mut(image).ok_or_else(Vec::new)?;
                let place = Place { space: station.space(&address.space), ..place };
                match address.space.flow {
                    Flow::Comes => Source::Values { owner: self.from.owner, place, point: None },
                    _ => Source::ClientCells { image, place, rule: 0 },
                }
            }
            Owner::Converter => return Err(vec![]),
        };
        Ok((source, landing, conversion))
    }

    /// How several bits of words are carried.
    fn bit_by_bit(&self, address: &Address, target: &Address, count: u32) -> String {
        let last = |bit: Option<u8>| bit.map(|bit| u32::from(bit) + count - 1);
        let end = |text: &str, bit: Option<u8>| match bit {
            Some(_) => format!("{}{{n}}", text.trim_end_matches(|digit: char| digit.is_ascii_digit())),
            None => "…".into(),
        };
        let first = address.bit.or(target.bit).unwrap_or(0);
        match last(address.bit).max(last(target.bit)) {
            Some(last) if last < 32 => format!(
                "write one rule a bit in one entry: `repeat = \"{first}-{last}\"`, `from = \"{}\"`, `to = \"{}\"`, with `{{…}}` where the other end counts on; or carry the whole word",
                end(&self.rule.from.value, address.bit),
                end(&self.rule.to.value, target.bit)
            ),
            _ => "write one rule a bit, or carry the whole word".into(),
        }
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
                    return Err(vec![Finding::new("F09", at, what).fix("write a `count` of 16, 32, …")]);
                }
                Ok((REGISTER_BITS, 1, count / REGISTER_BITS))
            }
            _ => Ok((width, target_width, count)),
        }
    }

    /// What is wrong where another rule has named the source as something else.
    fn other_type(&self, plan: &Plan, address: &Address) -> Option<Finding> {
        other_type(plan.station(self.from.owner)?, address, self.from.span)
    }

    /// The place with its space in the station that it belongs to.
    fn placed(&self, plan: &mut Plan, target: &Address, place: Place) -> Result<Place, Vec<Finding>> {
        let station = match self.to.owner {
            Owner::Image(image) => plan.images.get_mut(image),
            Owner::Device(device) => plan.devices.get_mut(device),
            Owner::Converter => None,
        };
        let station = station.ok_or_else(Vec::new)?;
        if let Some(finding) = other_type(station, target, self.to.span) {
            return Err(vec![finding]);
        }
        let space = station.space(&target.space);
        match self.runs_past(target, &place, self.to) {
            Some(finding) => Err(vec![finding]),
            None => Ok(Place { space, ..place }),
        }
    }
}

/// What is wrong where a name is known to hold values of another type than an address says.
fn other_type(station: &Station, address: &Address, span: Span) -> Option<Finding> {
    let known = station.space_at(station.spaces.id(&address.space.key)?)?;
    let types = |space: &Space| space.only.first().copied();
    let (own, other) = (types(&address.space)?, types(known)?);
    (own != other && known.shown.is_some()).then(|| {
        let what = format!("the tag is `{own}` here, and `{other}` in another rule");
        Finding::new("M33", span, what).fix("one of the two is wrong: ask the controller's programmer")
    })
}

/// The block that goes and the block that comes at such a station: an image sends inputs, a device gets outputs.
const fn blocks(image: bool) -> (&'static str, &'static str) {
    if image { ("inputs (%I)", "outputs (%Q)") } else { ("outputs (%Q)", "inputs (%I)") }
}
