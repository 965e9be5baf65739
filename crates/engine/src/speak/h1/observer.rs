//! Listening to a client and a link: requests and answers by their number, and what comes by itself.

use super::subscribed::number_of;
use super::{NATIVE, refusal};
use crate::Moment;
use crate::speak::observer::Pending;
use crate::speak::{AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Says, Side, Touch};
use std::borrow::Cow;
use std::collections::HashMap;
use woodrush_core::plan::Station;
use woodrush_core::protocol::h1::{Located, tag};
use woodrush_core::protocol::{Space, StationId, Verb};
use woodrush_wire::h1::frame::{self, Frame, Kind, op};
use woodrush_wire::h1::{LinkError, Object, Publication, Request, Response, live};

/// Subscriptions that are remembered: more than one client may have.
const SUBSCRIPTIONS_MAX: usize = 4096;

pub(super) struct LinkObserver {
    stations: Vec<Station>,
    /// By side, as [`Side::index`] has it.
    pending: [Pending; 3],
    /// Tags by node, as a live list said.
    tags: HashMap<u8, String>,
    /// What a subscription's number is of.
    subscribed: HashMap<u16, Object>,
}

impl LinkObserver {
    pub(super) fn new(setup: &ObserverSetup<'_>) -> Self {
        let mut tags = HashMap::new();
        for station in setup.stations {
            let node = station.setup.number("node").and_then(|node| u8::try_from(node).ok());
            if let (Some(node), Some(tag)) = (node, tag(&station.setup)) {
                tags.insert(node, tag.to_string());
            }
        }
        // Who begins to listen later has not heard what was subscribed to.
        let known = setup.published.iter().filter_map(|own| {
            let node = own.station.setup.number("node").and_then(|node| u8::try_from(node).ok())?;
            let index = Located::of(own.station.space_at(own.extent.space)?)?.index;
            Some((number_of(own.transfer), Object { node, index, sub: 0 }))
        });
        Self {
            stations: setup.stations.to_vec(),
            pending: Default::default(),
            tags,
            subscribed: known.collect(),
        }
    }

    fn station(&self, node: u8) -> StationId {
        let tag = self.tags.get(&node).filter(|tag| !tag.is_empty());
        StationId::Name(tag.map_or_else(|| format!("node 0x{node:02X}").into(), |tag| tag.as_str().into()))
    }

    /// The space of an object, where the project knows its device.
    fn space(&self, at: Object) -> Option<&Space> {
        let tag_here = self.tags.get(&at.node)?;
        let station = self.stations.iter().find(|own| tag(&own.setup) == Some(tag_here.as_str()))?;
        station.spaces.iter().find(|space| Located::of(space).is_some_and(|own| own.index == at.index))
    }

    fn touch(&self, verb: Verb, at: Object, cells: Option<&[u8]>) -> Vec<Touch> {
        let Some(space) = self.space(at) else { return vec![] };
        let bytes = Located::of(space).and_then(|own| own.bytes_of(at.sub));
        let Some((first, count, _)) = bytes else { return vec![] };
        let cells = cells.filter(|cells| cells.len() == count as usize).map(<[u8]>::to_vec);
        vec![Touch { verb, space: space.clone(), first, count, cells }]
    }

    fn request(&mut self, frame: &Frame<'_>) -> Says {
        let (station, words, touches) = match Request::parse(frame.op, frame.payload) {
            Ok(Some(Request::Read(at))) => (Some(at), object("read", at), self.touch(Verb::Read, at, None)),
            Ok(Some(Request::Write { at, value, .. })) => {
                (Some(at), object("write", at), self.touch(Verb::Write, at, Some(value.data)))
            }
            Ok(Some(Request::Subscribe { id, at, .. })) => {
                if self.subscribed.len() >= SUBSCRIPTIONS_MAX {
                    self.subscribed.clear();
                }
                self.subscribed.insert(id, at);
                (Some(at), object("subscribe to", at), vec![])
            }
            Ok(Some(Request::Identify(node) | Request::Blocks(node))) => {
                let at = Object { node, index: 0, sub: 0 };
                (Some(at), named(frame.op), vec![])
            }
            Ok(Some(Request::FindTag(tag))) => (None, format!("find tag {tag}"), vec![]),
            Ok(Some(_)) => (None, named(frame.op), vec![]),
            Ok(None) => (None, format!("operation 0x{:02X}", frame.op), vec![]),
            Err(error) => return Says::Noise(error.to_string()),
        };
        Says::Request(Box::new(Asked {
            station: station.map(|at| self.station(at.node)),
            number: Some(frame.invoke.into()),
            code: frame.op.into(),
            words: Cow::Owned(words),
            touches,
            all: false,
            body: frame.payload.to_vec(),
        }))
    }

    fn publication(&mut self, frame: &Frame<'_>) -> Says {
        match Publication::parse(frame.op, frame.payload) {
            Ok(Some(Publication::Data { id, stale, age_ms, value, .. })) => {
                let at = self.subscribed.get(&id).copied();
                let words = match at {
                    Some(at) => object("publishes", at),
                    None => format!("publication {id}"),
                };
                let age = if age_ms == 0 { String::new() } else { format!(", {age_ms} ms old") };
                let stale = if stale { ", stale" } else { "" };
                Says::Published(Box::new(Asked {
                    station: at.map(|at| self.station(at.node)),
                    number: None,
                    code: frame.op.into(),
                    words: Cow::Owned(format!("{words}{age}{stale}")),
                    touches: at.map_or_else(Vec::new, |at| self.touch(Verb::Read, at, Some(value.data))),
                    all: false,
                    body: frame.payload.to_vec(),
                }))
            }
            Ok(Some(Publication::LiveChange { node, flags, .. })) => {
                let what = match flags {
                    0 => "has left the segment",
                    own if own & live::DEFAULT_ADDRESS != 0 => "is there without an address of its own",
                    _ => "is on the segment",
                };
                let words = Cow::Owned(format!("{} {what}", self.station(node)));
                Says::Sign { words, bad: flags == 0 }
            }
            Ok(None) => Says::Noise(format!("operation 0x{:02X} does not come by itself", frame.op)),
            Err(error) => Says::Noise(error.to_string()),
        }
    }

    fn says(&mut self, frame: &Frame<'_>) -> Says {
        match frame.kind {
            Kind::Request => self.request(frame),
            Kind::Publication => self.publication(frame),
            Kind::Response | Kind::Error => {
                if let Ok(Some(Response::LiveList { entries, .. })) = Response::parse(frame.op, frame.payload)
                    && frame.kind == Kind::Response
                {
                    self.tags = entries.iter().map(|own| (own.node, own.tag.to_string())).collect();
                }
                let is_error = u8::from(frame.kind == Kind::Error);
                let op = frame.op.to_be_bytes();
                let body = [&[is_error], &op[..], frame.payload].concat();
                Says::Answer { station: None, number: Some(frame.invoke.into()), body }
            }
        }
    }
}

/// What is done with an object, in words; of whom stands beside it.
fn object(what: &str, at: Object) -> String {
    let Object { index, sub, .. } = at;
    let part = if sub == 0 { String::new() } else { format!(" sub-index {sub}") };
    format!("{what} index {index}{part}")
}

fn named(code: u16) -> String {
    op::name(code).unwrap_or_default().to_string()
}

impl Observer for LinkObserver {
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]) {
        if let Some(pending) = self.pending.get_mut(side.index()) {
            pending.take(began, now, bytes);
        }
    }

    fn poll(&mut self, now: Moment) -> Option<Heard> {
        for side in [Side::Asks, Side::Answers, Side::Either] {
            let Some(pending) = self.pending.get_mut(side.index()) else { continue };
            let bytes = std::mem::take(&mut pending.bytes);
            let found = match frame::parse(&bytes) {
                Ok(Some((frame, used))) => Some((used, self.says(&frame))),
                Ok(None) => None,
                Err(error) => Some((bytes.len(), Says::Noise(error.to_string()))),
            };
            let pending = self.pending.get_mut(side.index())?;
            pending.bytes = bytes;
            match found {
                Some((used, says)) => return Some(pending.cut(side, used, says)),
                None if pending.is_still(now) => {
                    let (count, why) = (pending.bytes.len(), "a message that does not end".to_string());
                    return Some(pending.cut(side, count, Says::Noise(why)));
                }
                None => {}
            }
        }
        None
    }

    fn answer(&self, request: &Asked, answer: &[u8]) -> AnswerMeaning {
        let [is_error, high, low, payload @ ..] = answer else {
            return AnswerMeaning::Unfitting("it is cut".into());
        };
        let code = u16::from_be_bytes([*high, *low]);
        if *is_error == 1 {
            return match LinkError::parse(payload) {
                Ok(error) => {
                    let native = refusal(error.class, error.code).native;
                    let number = woodrush_core::protocol::h1::link_code(error.class, error.code);
                    AnswerMeaning::Refused(native.unwrap_or((NATIVE, number)))
                }
                Err(error) => AnswerMeaning::Unfitting(error.to_string()),
            };
        }
        if u32::from(code) != request.code {
            return AnswerMeaning::Unfitting(format!("operation 0x{code:02X} answers another one"));
        }
        match Response::parse(code, payload) {
            Ok(Some(Response::Read { value, .. })) if request.touches.is_empty() => {
                AnswerMeaning::Words(format!("type {}, {}", value.kind, hex(value.data)))
            }
            Ok(Some(Response::Read { value, .. })) => AnswerMeaning::Good(vec![value.data.to_vec()]),
            Ok(Some(Response::Write { revision, .. })) => {
                AnswerMeaning::Words(format!("written, static revision {revision}"))
            }
            Ok(Some(Response::Hello { server, link, .. })) => {
                AnswerMeaning::Words(format!("{server}, link {link}"))
            }
            Ok(Some(Response::LiveList { entries, .. })) => {
                let nodes: Vec<String> = entries
                    .iter()
                    .map(|own| format!("0x{:02X} {}", own.node, own.tag).trim_end().into())
                    .collect();
                AnswerMeaning::Words(nodes.join(", "))
            }
            Ok(Some(Response::Link(link))) => AnswerMeaning::Words(format!(
                "scheduler 0x{:02X}, macrocycle {} ms, {} unpolled from 0x{:02X}",
                link.scheduler, link.macrocycle_ms, link.unpolled, link.first_unpolled
            )),
            Ok(Some(Response::Identify(own))) => {
                AnswerMeaning::Words(format!("{}, {}, revision {}", own.tag, own.device_id, own.revision))
            }
            Ok(Some(Response::Blocks { blocks, .. })) => {
                let names: Vec<&str> = blocks.iter().map(|own| own.tag).collect();
                AnswerMeaning::Words(names.join(", "))
            }
            Ok(Some(Response::Subscribe { granted_ms, .. })) => {
                AnswerMeaning::Words(format!("granted, every {granted_ms} ms"))
            }
            Ok(Some(_)) => AnswerMeaning::Words("good".into()),
            Ok(None) => AnswerMeaning::Unfitting(format!("operation 0x{code:02X} is not answered")),
            Err(error) => AnswerMeaning::Unfitting(error.to_string()),
        }
    }

    fn reset(&mut self) {
        self.pending.iter_mut().for_each(Pending::clear);
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ")
}
