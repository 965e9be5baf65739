//! A message as data: what every rendering of it shows.

use serde::{Serialize, Serializer};
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use woodrush_core::check::Checked;
use woodrush_core::form::hex_words;
use woodrush_core::names::Names;
use woodrush_core::plan::Station;
use woodrush_core::project::Owner;
use woodrush_core::protocol::{
    Dialect, Grain, Setup, ShownAddress, StationId, Transport, Verb, dialect, refusal_cause, refusal_number,
    refusal_shown,
};
use woodrush_core::wanted::Wanted;
use woodrush_engine::speak::{AnswerMeaning, Asked, Side, Touch};
use woodrush_engine::tap::{DatagramPeer, Meaning, Passed, Spoken};

/// One message.
#[derive(Debug, Clone, Serialize)]
pub(super) struct ShownMessage {
    format: u32,
    /// In microseconds since 1970; told as UTC.
    #[serde(rename = "time", serialize_with = "stamp")]
    pub(super) unix: u64,
    pub(super) port: String,
    /// Who asks, where several may.
    pub(super) who: Option<String>,
    pub(super) exchange: Option<u64>,
    pub(super) kind: MessageKind,
    #[serde(skip)]
    pub(super) side: Side,
    pub(super) station: Option<StationId>,
    /// As it is called on its line: `unit 23`.
    #[serde(skip)]
    pub(super) station_shown: String,
    /// The device or image of the project.
    pub(super) owner: Option<String>,
    /// The owner is a box of several nodes.
    #[serde(skip)]
    pub(super) is_box: bool,
    pub(super) code: Option<u32>,
    pub(super) words: String,
    pub(super) places: Vec<Place>,
    pub(super) values: Vec<Value>,
    /// Values beyond those that are shown.
    #[serde(skip)]
    pub(super) more: usize,
    pub(super) took_us: Option<u64>,
    /// The same was asked before and not answered.
    pub(super) again: bool,
    /// Of what is sent in cycles: whether it differs from the frame before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) changed: Option<bool>,
    /// Of what is sent in cycles: how many frames before it were alike.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) unchanged: Option<u64>,
    pub(super) failed: bool,
    /// What went wrong, or what is told besides values.
    pub(super) why: Option<String>,
    /// The same for a line that has not much room.
    #[serde(skip)]
    pub(super) short: Option<String>,
    /// Names of the values that were not got or not taken, where it failed.
    pub(super) about: Vec<String>,
    /// The likeliest cause.
    pub(super) cause: Option<&'static str>,
    pub(super) writes: bool,
    /// All of it, told in hex.
    #[serde(serialize_with = "hex")]
    pub(super) bytes: Vec<u8>,
}

fn stamp<S: Serializer>(unix: &u64, to: S) -> Result<S::Ok, S::Error> {
    to.serialize_str(&super::stamp(*unix))
}

fn hex<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
    to.serialize_str(&hex_bytes(bytes))
}

/// Pairs of digits with blanks between them.
pub(super) fn hex_bytes(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789ABCDEF";
    let digit = |half: u8| DIGITS.get(usize::from(half)).map_or('?', |digit| char::from(*digit));
    let mut text = String::with_capacity(bytes.len() * 3);
    for (at, byte) in bytes.iter().enumerate() {
        if at > 0 {
            text.push(' ');
        }
        text.push(digit(byte >> 4));
        text.push(digit(byte & 15));
    }
    text
}

/// What it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum MessageKind {
    Request,
    Answer,
    Published,
    Cycle,
    NoAnswer,
    Mismatched,
    Sign,
    Damaged,
}

/// Grains in a row that a request reads or writes.
#[derive(Debug, Clone, Serialize)]
pub(super) struct Place {
    pub(super) verb: &'static str,
    pub(super) address: String,
    pub(super) offset: String,
    pub(super) count: u32,
    /// The words that go or come, in hex.
    pub(super) raw: Option<String>,
}

/// One value, by its name in the project.
#[derive(Debug, Clone, Serialize)]
pub(super) struct Value {
    pub(super) name: String,
    pub(super) raw: String,
    #[serde(serialize_with = "woodrush_core::shown::maybe")]
    pub(super) value: Option<String>,
    pub(super) eu: Option<String>,
}

/// Knows the project's names for whatever passes.
pub(super) struct MessageTeller {
    names: Names,
    /// By the port's name: its index, and what is used there.
    ports: HashMap<String, (usize, Spoken)>,
    devices: Vec<Station>,
    images: Vec<Station>,
    clients: HashMap<IpAddr, String>,
    /// By port and unit: the port and unit that a request is passed on to.
    plan: std::sync::Arc<woodrush_core::plan::Plan>,
    /// Most values of one message.
    most: usize,
}

impl MessageTeller {
    /// With a project's names; `most` values of one message are worked out.
    pub(super) fn new(checked: Option<&Checked>, most: usize) -> Self {
        let Some(checked) = checked else {
            return Self {
                names: Names::default(),
                ports: HashMap::new(),
                devices: vec![],
                images: vec![],
                clients: HashMap::new(),
                plan: std::sync::Arc::default(),
                most,
            };
        };
        let spoken = Spoken::of(checked);
        let at = |name: &String| checked.project.port(name);
        let clients = checked.project.clients.iter().filter_map(|client| {
            Some((IpAddr::V4(client.address.as_ref()?.value), client.name.value.clone()))
        });
        Self {
            names: Names::of(checked),
            ports: spoken
                .into_iter()
                .filter_map(|(name, own)| Some((name.clone(), (at(&name)?, own))))
                .collect(),
            devices: checked.plan.devices.clone(),
            images: checked.plan.images.clone(),
            clients: clients.collect(),
            plan: std::sync::Arc::new(checked.plan.clone()),
            most,
        }
    }

    /// Another port, or another protocol at one.
    pub(super) fn learn(&mut self, port: &str, spoken: Spoken) {
        let at = self.ports.get(port).map_or(usize::MAX, |(at, _)| *at);
        self.ports.insert(port.to_string(), (at, spoken));
    }

    /// The name of a value of the project where it passes.
    pub(super) fn name_of(&self, wanted: &Wanted) -> String {
        let owner = wanted.owner.map(|owner| match owner {
            Owner::Device(at) => Owner::Device(self.plan.host(at)),
            other => other,
        });
        let own = owner.zip(wanted.station.space_at(wanted.place.space));
        let (first, count) = (wanted.place.first, wanted.place.width);
        let name = own.and_then(|(owner, space)| self.names.within(owner, space, first, count).next());
        name.map_or_else(|| wanted.written.clone(), |name| name.text.clone())
    }

    /// Who asks, by the name of the client if one has that address.
    fn who(&self, who: &str) -> String {
        let peer = DatagramPeer::of(who).map(|peer| SocketAddr::V4(peer.address));
        let at = peer.or_else(|| who.parse().ok());
        let known = at.and_then(|at| self.clients.get(&at.ip()));
        known.cloned().unwrap_or_else(|| peer.map_or_else(|| who.to_string(), |peer| peer.to_string()))
    }

    /// The device or image that is meant, through forwards too.
    fn owner(&self, port: usize, station: Option<&StationId>) -> Option<Owner> {
        let forwarded = || {
            let route = self.plan.route(port, u16::try_from(station?.number()?).ok()?)?;
            self.names.owner(route.to, Some(&StationId::Number(route.unit.into())))
        };
        self.names.owner(port, station).or_else(forwarded)
    }

    fn station(&self, owner: Option<Owner>) -> Option<&Station> {
        match owner? {
            Owner::Device(at) => self.devices.get(at),
            Owner::Image(at) => self.images.get(at),
            Owner::Converter => None,
        }
    }

    /// A message in the project's words; `unix` is its time in microseconds since 1970.
    pub(super) fn tell(&self, port: &str, who: Option<&str>, passed: &Passed, unix: u64) -> ShownMessage {
        let (at, spoken) = match self.ports.get(port) {
            Some((at, spoken)) => (*at, Some(spoken)),
            None => (usize::MAX, None),
        };
        let spoken_dialect = spoken.and_then(|spoken| dialect(spoken.protocol));
        let mut said = ShownMessage {
            format: 1,
            unix,
            port: port.to_string(),
            who: who.map(|who| self.who(who)),
            exchange: passed.exchange,
            kind: MessageKind::Sign,
            side: passed.side,
            station: None,
            station_shown: String::new(),
            owner: None,
            is_box: false,
            code: None,
            words: String::new(),
            places: vec![],
            values: vec![],
            more: 0,
            took_us: None,
            again: false,
            changed: None,
            unchanged: None,
            failed: false,
            why: None,
            short: None,
            about: vec![],
            cause: None,
            writes: false,
            bytes: passed.bytes.clone(),
        };
        let asked = match &passed.what {
            Meaning::Request { asked, .. }
            | Meaning::Answer { asked, .. }
            | Meaning::Silence { asked, .. }
            | Meaning::Published(asked)
            | Meaning::Cycle { what: asked, .. } => Some(asked),
            _ => None,
        };
        let owner = asked.and_then(|asked| self.owner(at, asked.station.as_ref()));
        if let Some(asked) = asked {
            said.station = asked.station.clone();
            said.station_shown = shown(spoken_dialect, asked);
            said.owner = match owner {
                Some(Owner::Device(at)) => Some(self.plan.name_with_nodes(at)),
                owner => self.station(owner).map(|station| station.name.clone()),
            };
            said.is_box = said.owner.as_ref() != self.station(owner).map(|station| &station.name);
            said.code = Some(asked.code);
            said.words = asked.words.to_string();
            said.writes = asked.touches.iter().any(|touch| touch.verb == Verb::Write);
        }
        let setup = self.station(owner).map(|station| &station.setup).or(spoken.map(|own| &own.setup));
        let place = |touch: &Touch, cells: Option<&[u8]>| place(spoken_dialect, setup, touch, cells);
        match &passed.what {
            Meaning::Request { asked, again } => {
                said.kind = MessageKind::Request;
                said.again = *again;
                for touch in &asked.touches {
                    said.places.push(place(touch, touch.cells.as_deref()));
                    self.values(&mut said, owner, touch, touch.cells.as_deref());
                }
            }
            Meaning::Answer { asked, told, took } => {
                said.kind = MessageKind::Answer;
                said.took_us = Some(*took);
                self.told(&mut said, (owner, spoken_dialect), asked, told, &place);
            }
            Meaning::Published(what) => {
                said.kind = MessageKind::Published;
                for touch in &what.touches {
                    said.places.push(place(touch, touch.cells.as_deref()));
                    self.values(&mut said, owner, touch, touch.cells.as_deref());
                    let members = members(spoken_dialect, touch, touch.cells.as_deref());
                    said.why = members.map(|members| format!("{}: {members}", touch.space.name()));
                }
            }
            Meaning::Cycle { what, changed, unchanged } => {
                said.kind = MessageKind::Cycle;
                // Stations of a network have no number that people know them by.
                said.station_shown = said.owner.clone().unwrap_or(said.station_shown);
                said.changed = Some(*changed);
                said.unchanged = (*changed && *unchanged > 0).then_some(*unchanged);
                for touch in &what.touches {
                    said.places.push(place(touch, touch.cells.as_deref()));
                    self.values(&mut said, owner, touch, touch.cells.as_deref());
                }
            }
            Meaning::Silence { asked, waited } => {
                said.kind = MessageKind::NoAnswer;
                said.failed = true;
                said.places = asked.touches.iter().map(|touch| place(touch, None)).collect();
                said.why = Some(format!("no answer within {}", super::span(*waited)));
                said.about = self.about(owner, &asked.touches);
            }
            Meaning::Stray(why) => {
                (said.kind, said.failed, said.why) = (MessageKind::Mismatched, true, Some(why.clone()))
            }
            Meaning::Sign(words, bad) => (said.words, said.failed) = (words.clone(), *bad),
            Meaning::Noise(why) => {
                (said.kind, said.failed, said.why) = (MessageKind::Damaged, true, Some(why.clone()))
            }
        }
        said
    }

    fn told(
        &self,
        said: &mut ShownMessage,
        (owner, spoken): (Option<Owner>, Option<&'static dyn Dialect>),
        asked: &Asked,
        told: &AnswerMeaning,
        place: &dyn Fn(&Touch, Option<&[u8]>) -> Place,
    ) {
        match told {
            AnswerMeaning::Good(cells) => {
                let reads = asked.touches.iter().filter(|touch| touch.verb == Verb::Read);
                for (touch, cells) in reads.zip(cells) {
                    said.places.push(place(touch, Some(cells)));
                    self.values(said, owner, touch, Some(cells));
                    said.why = members(spoken, touch, Some(cells));
                }
            }
            AnswerMeaning::Words(words) => said.why = Some(words.clone()),
            AnswerMeaning::Refused(native) => {
                said.failed = true;
                said.places = asked.touches.iter().map(|touch| place(touch, None)).collect();
                said.why = Some(format!("refused: {}", refusal_shown(*native)));
                said.short = Some(format!("refused: {}", refusal_number(*native)));
                said.about = self.about(owner, &asked.touches);
                said.cause = Some(refusal_cause(*native)).filter(|cause| !cause.is_empty());
            }
            AnswerMeaning::Partly(told) => {
                said.failed = true;
                for (touch, told) in asked.touches.iter().zip(told) {
                    let native = match told {
                        Ok(cells) => {
                            let cells = (touch.verb == Verb::Read).then_some(cells.as_slice());
                            said.places.push(place(touch, cells));
                            self.values(said, owner, touch, cells);
                            continue;
                        }
                        Err(native) => *native,
                    };
                    said.places.push(place(touch, None));
                    said.about.extend(self.about(owner, std::slice::from_ref(touch)));
                    said.why.get_or_insert_with(|| format!("refused: {}", refusal_shown(native)));
                    said.short.get_or_insert_with(|| format!("refused: {}", refusal_number(native)));
                    said.cause =
                        said.cause.take().or(Some(refusal_cause(native)).filter(|cause| !cause.is_empty()));
                }
            }
            AnswerMeaning::Unfitting(why) => {
                said.failed = true;
                said.why = Some(format!("it does not match its request: {why}"));
            }
        }
    }

    /// Names of the values that a request is about.
    fn about(&self, owner: Option<Owner>, touches: &[Touch]) -> Vec<String> {
        let Some(owner) = owner else { return vec![] };
        let names = touches.iter().flat_map(|touch| {
            self.names.within(owner, &touch.space, touch.first, touch.count).map(|name| name.text.clone())
        });
        names.take(self.most).collect()
    }

    fn values(&self, said: &mut ShownMessage, owner: Option<Owner>, touch: &Touch, cells: Option<&[u8]>) {
        let (Some(owner), Some(cells)) = (owner, cells) else { return };
        let each = touch.space.grain.cell_bytes();
        for name in self.names.within(owner, &touch.space, touch.first, touch.count) {
            if said.values.len() >= self.most {
                said.more += 1;
                continue;
            }
            let begin = (name.first - touch.first) as usize * each;
            let Some(own) = cells.get(begin..begin + name.width as usize * each) else { continue };
            let bit = each == 1 && name.width == 1 && touch.space.grain == Grain::Bit;
            let raw = if bit { own.iter().map(ToString::to_string).collect() } else { hex_words(own) };
            said.values.push(Value {
                name: name.text.clone(),
                raw,
                value: name.shown(own),
                eu: name.eu.clone(),
            });
        }
    }
}

/// A station as it is called on its line.
fn shown(dialect: Option<&'static dyn Dialect>, asked: &Asked) -> String {
    let key =
        dialect.and_then(|dialect| dialect.stations().station_key(Transport::Connect)).map(|(key, _)| key);
    match (key, &asked.station) {
        (_, Some(_)) if asked.all => "all".into(),
        (Some(key), Some(number)) => format!("{key} {number}"),
        (None, Some(number)) => number.to_string(),
        (_, None) => String::new(),
    }
}

/// What a structure holds, member by member; `None` where it is none.
fn members(dialect: Option<&'static dyn Dialect>, touch: &Touch, cells: Option<&[u8]>) -> Option<String> {
    let members = dialect?.notation_of(&touch.space).meanings().members(&touch.space, cells?);
    let one = |own: woodrush_core::protocol::ShownMember| format!("{} {}", own.name, own.shown);
    (members.len() > 1).then(|| members.into_iter().map(one).collect::<Vec<_>>().join(", "))
}

fn place(
    dialect: Option<&'static dyn Dialect>,
    setup: Option<&Setup>,
    touch: &Touch,
    cells: Option<&[u8]>,
) -> Place {
    let none = Setup::default();
    let shown = dialect.map(|dialect| {
        dialect.notation_of(&touch.space).show(&touch.space, touch.first, 1, None, setup.unwrap_or(&none))
    });
    let shown = shown.unwrap_or_else(|| ShownAddress {
        canonical: format!("{}:{}", touch.space.name(), touch.first),
        offset: String::new(),
        hex: String::new(),
    });
    let bits = touch.space.grain == Grain::Bit;
    let raw = |cells: &[u8]| match bits {
        true => cells.iter().map(ToString::to_string).collect(),
        false => hex_words(cells),
    };
    Place {
        verb: if touch.verb == Verb::Read { "read" } else { "write" },
        address: shown.canonical,
        offset: shown.offset,
        count: touch.count,
        raw: cells.map(raw),
    }
}
