//! What people ask through a running converter: one request a line of its control socket, in turn with all others.

use crate::control::{self, Remote};
use crate::dialer::Evidence;
use crate::session::ended;
use crate::shared::{
    ClientId, Event, LineRequest, Message, Queued, Reply, ReplyTicket, Shared, Site, StillWanted,
    WriteRecord, given_up,
};
use crate::speak::{Ask, one_place};
use serde::{Deserialize, Serialize};
use std::sync::mpsc::channel;
use std::sync::{Arc, Weak};
use std::time::Duration;
use woodrush_core::form::Form;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{AddressContext, DIALECTS, Dialect, Extent, Setup, keys_of_setup, refusals};
use woodrush_core::{Blame, Kind, Refusal};

/// The verb by which the control socket knows it.
const VERB: &str = "ask";
/// All people at keyboards are one who asks, beside the clients.
const PERSON: ClientId = ClientId(u64::MAX / 2);
/// How much longer than its own timeout an exchange may wait for its turn.
const PATIENCE: Duration = Duration::from_secs(20);

/// The longest exchange that is waited for beyond that.
const LONGEST: Duration = Duration::from_secs(100);

#[derive(Serialize, Deserialize)]
struct WireRequest {
    port: String,
    numbers: Vec<(String, u32)>,
    words: Vec<(String, String)>,
    name: String,
    /// The type that lies there, where memory has names and each one type.
    form: Option<String>,
    what: WireAsk,
}

#[derive(Serialize, Deserialize)]
enum WireAsk {
    Read { at: String, grains: u32 },
    Write { at: String, grains: u32, cells: Vec<u8> },
    Change { at: String, grains: u32, keep: Vec<u8>, set: Vec<u8> },
    Pass { unit: u16, code: u8, body: Vec<u8>, writes: bool },
}

#[derive(Serialize, Deserialize)]
struct WireReply {
    cells: Option<Vec<u8>>,
    took: u64,
    refused: Option<Refused>,
}

#[derive(Serialize, Deserialize)]
struct Refused {
    kind: Kind,
    blame: Blame,
    native: Option<(String, u32)>,
    outcome_unknown: bool,
}

/// Asks a running converter to ask: what was answered, and how that went, a refusal too.
pub(super) fn ask(
    remote: &Remote,
    port: &str,
    station: &Station,
    ask: &Ask,
) -> (Result<Vec<u8>, Refusal>, Evidence) {
    let mut evidence = Evidence::default();
    let said = request(port, station, ask).and_then(|request| {
        let text = serde_json::to_string(&request).ok()?;
        // The converter gives up first: its patience is counted from the same moment, with the port's timeout.
        let answer = remote.say_within(PATIENCE + LONGEST, VERB, &[text]).ok()?;
        evidence.unasked = (!answer.done).then_some(answer.said);
        serde_json::from_value::<WireReply>(answer.data?).ok()
    });
    evidence.took = said.as_ref().map_or(0, |reply| reply.took);
    (said.ok_or(Refusal::new(Kind::NoPath, Blame::Us)).and_then(answered), evidence)
}

fn answered(reply: WireReply) -> Result<Vec<u8>, Refusal> {
    match (reply.cells, reply.refused) {
        (Some(cells), _) => Ok(cells),
        (None, Some(Refused { kind, blame, native, outcome_unknown })) => {
            let known = |(name, code): (String, u32)| Some((refusals(&name)?.name, code));
            Err(Refusal { native: native.and_then(known), outcome_unknown, ..Refusal::new(kind, blame) })
        }
        (None, None) => Err(Refusal::new(Kind::NoPath, Blame::Us)),
    }
}

fn request(port: &str, station: &Station, ask: &Ask) -> Option<WireRequest> {
    let dialect = station.dialect?;
    let at = |extent: &Extent| {
        let space = station.space_at(extent.space)?;
        Some(dialect.notation().show(space, extent.first, 0, None, &station.setup).canonical)
    };
    let place = match ask {
        Ask::Read { parts, .. } => one_place(parts),
        Ask::Write { extent, .. } | Ask::Change { extent, .. } => Some(*extent),
        Ask::Pass { .. } => None,
    };
    let only = place.and_then(|place| station.space_at(place.space)).map_or(&[][..], |space| space.only);
    let form = if let [only] = only { Some(only.to_string()) } else { None };
    let what = match ask {
        Ask::Read { parts, .. } => {
            let place = one_place(parts)?;
            WireAsk::Read { at: at(&place)?, grains: place.count }
        }
        Ask::Write { extent, cells, .. } => {
            WireAsk::Write { at: at(extent)?, grains: extent.count, cells: cells.clone() }
        }
        Ask::Change { extent, keep, set, .. } => {
            WireAsk::Change { at: at(extent)?, grains: extent.count, keep: keep.clone(), set: set.clone() }
        }
        Ask::Pass { unit, message } => WireAsk::Pass {
            unit: *unit,
            code: message.code,
            body: message.body.clone(),
            writes: message.writes,
        },
    };
    Some(WireRequest {
        port: port.into(),
        numbers: station.setup.numbers.iter().map(|(key, number)| ((*key).to_string(), *number)).collect(),
        words: station.setup.words.iter().map(|(key, word)| ((*key).to_string(), word.clone())).collect(),
        name: station.name.clone(),
        form,
        what,
    })
}

/// The converter's side: takes requests of other terminals.
pub struct ControlHandler(Weak<Site>);

impl ControlHandler {
    /// For a running converter; it ends with that.
    #[must_use]
    pub fn new(site: &Arc<Site>) -> Self {
        Self(Arc::downgrade(site))
    }

    /// Answers a request of the control socket; `None` for other verbs than this one.
    #[must_use]
    pub fn hear(&self, verb: &str, words: &[String]) -> Option<control::ControlAnswer> {
        (verb == VERB).then(|| self.answer(words))
    }

    fn answer(&self, words: &[String]) -> control::ControlAnswer {
        let done = self.carry_out(words.first().map_or("", String::as_str));
        match done {
            Ok(reply) => control::ControlAnswer {
                said: String::new(),
                done: true,
                rows: vec![],
                data: serde_json::to_value(reply).ok(),
            },
            Err(why) => control::ControlAnswer::of(Err(why)),
        }
    }

    fn carry_out(&self, text: &str) -> Result<WireReply, String> {
        let request: WireRequest =
            serde_json::from_str(text).map_err(|error| format!("not understood: {error}"))?;
        let site = self.0.upgrade().ok_or("the converter is ending")?;
        let step = site.step();
        let shared = site.current();
        let port = shared.ports.iter().position(|port| port.name == request.port);
        let port = port.ok_or_else(|| format!("the converter has no port `{}`", request.port))?;
        let settings = shared.ports.get(port).ok_or("no such port")?;
        let dialect = DIALECTS
            .iter()
            .find(|dialect| dialect.name() == settings.protocol)
            .ok_or("the port has no protocol")?;
        let known = shared.plan.devices.iter().find(|own| own.name == request.name && own.port == port);
        let setup =
            Setup { blocks: known.and_then(|own| own.setup.blocks.clone()), ..setup(*dialect, &request) };
        let dialect = dialect.by_memory(&setup).unwrap_or(*dialect);
        let mut station = Station::bare(&request.name, dialect, setup);
        station.port = port;
        let ask = to_ask(dialect, &mut station, request.form.as_deref(), request.what)?;
        let written = match &ask {
            Ask::Write { extent, cells, .. } => Some((*extent, cells.clone())),
            Ask::Change { extent, set, .. } => Some((*extent, set.clone())),
            _ => None,
        };
        let record = written.map(|(extent, cells)| WriteRecord {
            who: "by hand".into(),
            image: station.name.clone(),
            address: station.show(extent.space, extent.first, None),
            old: String::new(),
            new: woodrush_core::form::hex_words(&cells),
            outcome: String::new(),
        });
        let timeout = Duration::from_micros(shared.plan.lines.get(port).map_or(0, |line| line.timeout));
        let queue = shared.queues.get(port).ok_or("no such port")?;
        let (told, hears) = channel();
        let clock = crate::moment::Clock::start();
        let wanted = StillWanted::default();
        let line_request =
            LineRequest::ByHand { station: Box::new(station), ask: Box::new(ask), wanted: wanted.clone() };
        // The client may have gone. Each request has a channel of its own.
        let reply = Reply::new(ReplyTicket(0), move |_, outcome| drop(told.send(outcome)));
        queue.push(Queued::new(PERSON, line_request, reply));
        drop(step);
        let result = match hears.recv_timeout(PATIENCE + timeout) {
            Ok(result) => result,
            Err(_) if wanted.give_up() => {
                return Err("the port had no time for it, and it was not sent".to_string());
            }
            // It has begun, so that it ends within the port's own time.
            Err(_) => hears.recv_timeout(LONGEST.saturating_sub(timeout)).unwrap_or_else(|_| Err(given_up())),
        };
        log(&shared, record, result.as_ref().map(|_| ()));
        let took = clock.now().0;
        Ok(match result {
            Ok(cells) => WireReply { cells: Some(cells), took, refused: None },
            Err(refusal) => {
                let native = refusal.native.map(|(name, code)| (name.to_string(), code));
                WireReply {
                    cells: None,
                    took,
                    refused: Some(Refused {
                        kind: refusal.kind,
                        blame: refusal.blame,
                        native,
                        outcome_unknown: refusal.outcome_unknown,
                    }),
                }
            }
        })
    }
}

fn setup(dialect: &dyn Dialect, request: &WireRequest) -> Setup {
    // Keys are known by their own words.
    let known = |name: &str| keys_of_setup(dialect).find(|key| *key == name);
    Setup {
        numbers: request.numbers.iter().filter_map(|(key, number)| Some((known(key)?, *number))).collect(),
        words: request.words.iter().filter_map(|(key, word)| Some((known(key)?, word.clone()))).collect(),
        ..Setup::default()
    }
}

fn to_ask(
    dialect: &dyn Dialect,
    station: &mut Station,
    form: Option<&str>,
    what: WireAsk,
) -> Result<Ask, String> {
    let form = form.map(Form::parse).transpose().map_err(|fault| fault.what)?;
    let mut extent = |at: &str, count: u32| {
        let context = AddressContext::of_device(&station.setup).with_form(form);
        let address = dialect.notation().parse(at, &context).map_err(|fault| fault.what)?;
        let space = station.space(&address.space);
        Ok::<Extent, String>(Extent { space, first: address.first, count: count.max(1) })
    };
    Ok(match what {
        WireAsk::Read { at, grains } => Ask::read(0, extent(&at, grains)?),
        WireAsk::Write { at, grains, cells } => {
            Ask::Write { station: 0, extent: extent(&at, grains)?, cells }
        }
        WireAsk::Change { at, grains, keep, set } => {
            Ask::Change { station: 0, extent: extent(&at, grains)?, keep, set }
        }
        WireAsk::Pass { unit, code, body, writes } => {
            Ask::Pass { unit, message: Message { code, body, writes } }
        }
    })
}

fn log(shared: &Shared, record: Option<WriteRecord>, result: Result<(), &Refusal>) {
    if let Some(mut record) = record.filter(|_| shared.logs_writes) {
        record.outcome = ended(result.err());
        shared.tell(Event::Written(Box::new(record)));
    }
}
