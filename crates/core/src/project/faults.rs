//! What a fault of the rig is: the project's reader, the `rig` command, its status and `rig mend` read one table of kinds.

use super::Project;
use super::fault_kinds::{AS_UNIT, CLOSE, FAULTS, LATE, NAME_TAKEN, SHORT, SLOW, TWICE, WRONG_SLOT};
use super::scalars::duration;
use crate::form::{Decimal, Form, Type};
use crate::protocol::{AddressContext, Alteration, Key, Requests, Setup, SpaceId};
use crate::shown::show_micros;
use crate::source::Spanned;

/// What goes wrong on a line as a whole.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct LineFaults {
    /// Bytes stop both ways; nothing closes.
    pub cut: bool,
    /// Its adapter or connection is gone.
    pub unplugged: bool,
    /// This share of its bytes is damaged, 0 to 1.
    pub noise: f64,
    /// Connections to it are refused.
    pub closed: bool,
    /// Nobody says who may send: nothing comes by itself.
    pub no_master: bool,
}

/// What goes wrong with one device.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct DeviceFaults {
    /// It does not answer.
    pub mute: bool,
    /// It answers this much later, in microseconds.
    pub slow: u64,
    /// It answers every request with this code.
    pub refuse: Option<u8>,
    /// It answers after the timeout.
    pub late: bool,
    /// It sends each answer twice.
    pub twice: bool,
    /// Its answers end too early.
    pub short: bool,
    /// It answers as this unit.
    pub as_unit: Option<u8>,
    /// The first acknowledgement of each message gets lost.
    pub drop_ack: bool,
    /// It takes no writes.
    pub read_only: bool,
    /// This space of it has another name.
    pub renamed: Option<SpaceId>,
    /// This space of it has another type.
    pub retyped: Option<SpaceId>,
    /// What it measures has this status.
    pub bad_status: Option<u8>,
    /// It is out of service as a whole.
    pub out_of_service: bool,
    /// Another one of its kind stands in its place.
    pub swapped: bool,
    /// It answers at this address.
    pub moved_to: Option<u8>,
    /// What comes of it by itself comes so much later, in microseconds.
    pub late_publications: u64,
    /// Of a thousand of those so many do not come.
    pub dropped_publications: u16,
    /// It is locked against writes.
    pub write_lock: bool,
    /// Its blocks are in no schedule.
    pub unscheduled: bool,
    /// How often it was put back to how it left its maker; never: 0.
    pub as_shipped: u32,
    /// The bytes that it sends in cycles stand still.
    pub frozen: bool,
    /// It says that it is idle.
    pub idles: bool,
    /// Of a thousand frames that it sends so many do not come.
    pub dropped_cycles: u16,
    /// Its frames come so much later, in microseconds.
    pub late_cycles: u64,
    /// It opens with a wrong size, or sends one.
    pub wrong_size: bool,
    /// Another controller wants the same outputs.
    pub second_owner: bool,
    /// It expects another module than there is.
    pub wrong_slot: bool,
    /// Another station has the name that it looks for.
    pub name_taken: bool,
}

/// What a fault was given besides its place.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum FaultValue {
    /// Nothing: it is there.
    On,
    /// A time in microseconds.
    Micros(u64),
    /// A code or a unit.
    Number(u8),
    /// A share, 0 to 1.
    Share(f64),
    /// What has the name that was given.
    Space(SpaceId),
}

impl FaultValue {
    pub(super) fn micros(self) -> u64 {
        if let Self::Micros(micros) = self { micros } else { 0 }
    }

    pub(super) fn number(self) -> Option<u8> {
        if let Self::Number(number) = self { Some(number) } else { None }
    }

    pub(super) fn space(self) -> Option<SpaceId> {
        if let Self::Space(space) = self { Some(space) } else { None }
    }

    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share of 0 to 1")]
    pub(super) fn per_mille(self) -> u16 {
        (self.share() * 1000.0).round() as u16
    }

    pub(super) fn share(self) -> f64 {
        if let Self::Share(share) = self { share } else { 0.0 }
    }

    /// In words, as they stand in messages.
    #[must_use]
    pub fn shown(self) -> String {
        match self {
            // What it is called, its station knows.
            Self::On | Self::Space(_) => String::new(),
            Self::Micros(micros) => show_micros(micros),
            Self::Number(number) => number.to_string(),
            Self::Share(share) => (share * 1000.0).to_string(),
        }
    }
}

/// What must stand behind the place, as usage shows it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// Nothing.
    Nothing,
    /// A time.
    Duration,
    /// A number, hexadecimal with 0x.
    Number(FaultNumber),
    /// A share of all bytes.
    Share,
    /// The name of a tag.
    Tag,
}

/// What a fault's number is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FaultNumber {
    /// The unit that a device answers as.
    Unit,
    /// The code by which a device refuses, from 1.
    Exception,
    /// What a device says of its values.
    Status,
    /// An address on a link, from 1.
    Node,
}

impl FaultNumber {
    const fn word(self) -> &'static str {
        match self {
            Self::Unit => "UNIT",
            Self::Exception => "EXCEPTION",
            Self::Status => "STATUS",
            Self::Node => "NODE",
        }
    }
}

/// What a fault changes; without a value it is undone.
#[derive(Clone, Copy)]
pub enum Changes {
    /// A port's line.
    Line(fn(&mut LineFaults, Option<FaultValue>)),
    /// A device: how it is set, and what is set now.
    Device(fn(&mut DeviceFaults, Option<FaultValue>), fn(&DeviceFaults) -> Option<FaultValue>),
}

/// One kind of fault.
pub struct FaultKind {
    /// Its key in `[[rig.faults]]`; the same word is its command.
    pub key: Key,
    /// What it takes besides the place.
    pub takes: Takes,
    /// What it changes.
    pub changes: Changes,
    /// What is said behind the name once it has begun; `{}` stands for the value.
    pub says: &'static str,
    /// What the device's row says while it lasts; `{}` stands for the value.
    pub shown: &'static str,
    /// It belongs to the station on the wire, not to one node of a box.
    pub of_station: bool,
    /// It needs a link that acknowledges messages.
    pub of_acknowledgements: bool,
    /// It needs a link on which values come by themselves.
    pub of_publications: bool,
    /// It is about one end of an exchange in cycles: a device, or a client that is a controller.
    pub of_cycles: bool,
    /// Only a controller can do it.
    pub of_controllers: bool,
}

impl PartialEq for FaultKind {
    fn eq(&self, other: &Self) -> bool {
        self.word() == other.word()
    }
}

impl std::fmt::Debug for FaultKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

impl FaultKind {
    /// Its word, such as `mute`.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        self.key.name
    }

    /// Whether it is about a line; else it is about a device.
    #[must_use]
    pub const fn is_of_line(&self) -> bool {
        matches!(self.changes, Changes::Line(_))
    }

    /// How it is written, such as `slow DEVICE DURATION`.
    #[must_use]
    pub fn usage(&self) -> String {
        let place = match (self.is_of_line(), self.of_cycles) {
            (true, _) => "PORT",
            (false, true) if self.of_controllers => "CLIENT",
            (false, true) => "DEVICE-OR-CLIENT",
            (false, false) => "DEVICE",
        };
        let value = match self.takes {
            Takes::Nothing => return format!("{} {place}", self.word()),
            Takes::Duration => "DURATION",
            Takes::Number(number) => number.word(),
            Takes::Share => "SHARE",
            Takes::Tag => "TAG",
        };
        format!("{} {place} {value}", self.word())
    }
}

/// One entry of `[[rig.faults]]`, or of `rig cut …` on a running rig.
#[derive(Debug, Clone, PartialEq)]
pub struct RigFault {
    /// When, in microseconds after the start.
    pub at: u64,
    /// For how long, in microseconds; `None` until mended.
    pub lasts: Option<u64>,
    /// What goes wrong, and where.
    pub what: Spanned<Fault>,
}

/// What goes wrong on the rig, and where.
#[derive(Debug, Clone, PartialEq)]
pub struct Fault {
    /// What.
    pub kind: &'static FaultKind,
    /// The name of the port or device.
    pub place: String,
    /// What it takes; the rig puts in what has a name.
    pub value: FaultValue,
    /// The name that was given, where it takes one.
    pub name: Option<String>,
}

impl Fault {
    /// Reads the value of a fault's key, such as `do-1 200ms` for `slow`.
    ///
    /// # Errors
    /// What is wrong, in words.
    pub fn parse(word: &str, text: &str) -> Result<Self, String> {
        let Some(kind) = FAULTS.iter().find(|kind| kind.word() == word) else {
            return Err(format!("there is no fault `{word}`"));
        };
        let usage = || format!("`{word} {text}` is not of the form `{}`", kind.usage());
        let mut words = text.split_whitespace();
        let (place, value) = (words.next().ok_or_else(usage)?.to_string(), words.next());
        if words.next().is_some() {
            return Err(usage());
        }
        let name = value.filter(|_| kind.takes == Takes::Tag).map(str::to_string);
        let value = match (kind.takes, value) {
            (Takes::Nothing, None) | (Takes::Tag, Some(_)) => FaultValue::On,
            (Takes::Duration, Some(value)) => FaultValue::Micros(duration(value).ok_or_else(usage)?),
            // Some codes are known by their hex.
            (Takes::Number(what), Some(value)) => value
                .strip_prefix("0x")
                .map_or_else(|| value.parse().ok(), |hex| u8::from_str_radix(hex, 16).ok())
                .filter(|number| *number > 0 || matches!(what, FaultNumber::Unit | FaultNumber::Status))
                .map(FaultValue::Number)
                .ok_or_else(usage)?,
            (Takes::Share, Some(value)) => {
                let number = |text: &str| text.parse::<Decimal>().ok().map(Decimal::as_f64);
                let share = match value.strip_suffix('%') {
                    Some(percent) => number(percent).map(|percent| percent / 100.0),
                    None => number(value),
                };
                match share.ok_or_else(usage)? {
                    share if (0.0..=1.0).contains(&share) => FaultValue::Share(share),
                    _ => {
                        return Err(format!(
                            "`{value}` is more than all bytes: write a share, such as `{word} {place} 0.05` or `{word} {place} 5%`"
                        ));
                    }
                }
            }
            _ => return Err(usage()),
        };
        Ok(Self { kind, place, value, name })
    }

    /// Why it cannot happen to what it names, in words.
    #[must_use]
    pub fn unfit(&self, project: &Project) -> Option<String> {
        if self.kind == &CLOSE
            && let Some(port) = project.port(&self.place).and_then(|port| project.ports.get(port))
        {
            let line = port.line().map(|_| format!("`{}` is a line, to which nobody connects", self.place));
            return line;
        }
        if self.kind.of_publications && self.kind.is_of_line() {
            let port = project.ports.get(project.port(&self.place)?)?;
            let dialect = port.protocol?.value;
            let publishes = dialect.requests().and_then(|own| own.publishing(&port.setup)).is_some();
            let what =
                format!("`{}` speaks {}, in which nothing comes by itself", self.place, dialect.name());
            return (!publishes).then_some(what);
        }
        if let Some(client) = project.client(&self.place).filter(|_| project.device(&self.place).is_none()) {
            let image = project.clients.get(client)?.image?.value;
            let Some(cyclic) = project.image_dialect(image)?.cyclic() else {
                return Some(format!("`{}` exchanges nothing in cycles: it asks", self.place));
            };
            // Where no slot can say of itself that it is bad, there is none.
            let of_slots = self.kind == &WRONG_SLOT || self.kind == &NAME_TAKEN;
            let what =
                format!("`{}` exchanges blocks that have numbers, and neither slots nor names", self.place);
            return (of_slots && !cyclic.tells_loss()).then_some(what);
        }
        let device = project.device(&self.place)?;
        let dialect = project.device_dialect(device)?;
        if self.kind.of_cycles {
            let what = match (dialect.cyclic().is_some(), self.kind.of_controllers) {
                (false, _) => "exchanges nothing in cycles: it is asked",
                (true, true) => "is a device, and this is what a controller does",
                (true, false) => return None,
            };
            return Some(format!("`{}` {what}", self.place));
        }
        let setup = project.devices.get(device).map(|device| device.setup.clone()).unwrap_or_default();
        if self.kind.of_publications {
            let publishes = dialect.requests().and_then(|own| own.publishing(&setup)).is_some();
            let what =
                format!("`{}` speaks {}, in which nothing comes by itself", self.place, dialect.name());
            return (!publishes).then_some(what);
        }
        let of_answers = [&SLOW, &LATE, &TWICE, &SHORT, &AS_UNIT].contains(&self.kind);
        if of_answers && dialect.stations().one_answers_for_all() {
            return Some(format!(
                "`{}` is a device of a link that answers for all of them: this is not said of one",
                self.place
            ));
        }
        if let Some(name) = &self.name {
            let (own, setup) = (dialect.notation(), Setup::default());
            // Any type will do: what is asked is whether it can be a name at all.
            let context = AddressContext::of_device(&setup).with_form(Some(Form::plain(Type::I16)));
            let known =
                own.parse(name, &context).ok().and_then(|at| own.altered(&at.space, Alteration::Renamed));
            let what = format!("`{}` speaks {} and has no tag `{name}`", self.place, dialect.name());
            return known.is_none().then_some(what);
        }
        if !self.kind.of_acknowledgements {
            return None;
        }
        let what = format!(
            "`{}` speaks {}, whose messages are not acknowledged by the link",
            self.place,
            dialect.name()
        );
        let acknowledges = dialect.requests().is_some_and(Requests::acknowledges);
        (!acknowledges).then_some(what)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_are_read_by_the_table() {
        let parsed =
            |word: &str, text: &str| Fault::parse(word, text).map(|fault| (fault.place, fault.value));
        assert_eq!(parsed("slow", "do-1 200ms"), Ok(("do-1".into(), FaultValue::Micros(200_000))));
        assert_eq!(parsed("noise", "raceway 0.001"), Ok(("raceway".into(), FaultValue::Share(0.001))));
        assert_eq!(parsed("noise", "raceway 5%"), Ok(("raceway".into(), FaultValue::Share(0.05))));
        assert_eq!(parsed("refuse", "do-1 0x10"), Ok(("do-1".into(), FaultValue::Number(16))));
        for (word, text) in [
            ("cut", ""),
            ("cut", "a b"),
            ("refuse", "do-1 0"),
            ("noise", "raceway 2"),
            ("burn", "x"),
            ("mute", "a 1"),
        ] {
            assert!(parsed(word, text).is_err(), "{word} {text}");
        }
    }

    #[test]
    fn what_a_fault_sets_is_shown_and_undone() {
        for kind in FAULTS {
            let value = match kind.takes {
                Takes::Nothing => FaultValue::On,
                Takes::Duration => FaultValue::Micros(5),
                Takes::Number(_) => FaultValue::Number(4),
                Takes::Share => FaultValue::Share(0.5),
                Takes::Tag => FaultValue::Space(SpaceId(2)),
            };
            match kind.changes {
                Changes::Line(set) => {
                    let mut line = LineFaults::default();
                    set(&mut line, Some(value));
                    assert_ne!(line, LineFaults::default(), "{kind:?}");
                    set(&mut line, None);
                    assert_eq!(line, LineFaults::default(), "{kind:?}");
                }
                Changes::Device(set, get) => {
                    let mut device = DeviceFaults::default();
                    set(&mut device, Some(value));
                    assert_eq!(get(&device), Some(value), "{kind:?}");
                    set(&mut device, None);
                    assert_eq!(device, DeviceFaults::default(), "{kind:?}");
                }
            }
            assert_eq!(kind.says.contains("{}"), kind.takes != Takes::Nothing, "{kind:?}");
        }
    }
}
