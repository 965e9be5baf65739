//! What reads and writes of parameters cost, and how they look.

use super::{H1, Located, parameter, rate};
use crate::protocol::requests::one_part;
use crate::protocol::{Cost, Example, Extent, Publishing, Requests, SetUp, Setup, Space, TooMuch, Verb};
use woodrush_wire::h1::frame::{self, HEADER, Kind};
use woodrush_wire::h1::status::Status;
use woodrush_wire::h1::{ANY_REVISION, Object, Publication, Request, Response, Typed};

/// Bytes of an object's place, and around a value.
const PLACE: u32 = 4;
const AROUND: u32 = 3;

impl Requests for H1 {
    fn set_up(&self) -> Option<&dyn SetUp> {
        Some(self)
    }

    fn publishing(&self, setup: &Setup) -> Option<Publishing> {
        Some(super::publishing(setup))
    }

    fn no_retries(&self) -> Option<&'static str> {
        Some(
            "the link answers each request by its number, and a second one would take the segment's time twice",
        )
    }

    fn cost(&self, verb: Verb, parts: &[(&Space, Extent)], _setup: &Setup) -> Result<Cost, TooMuch> {
        let (space, count) = one_part(parts)?;
        let most = space.len.unwrap_or(count);
        if count > most {
            return Err(TooMuch { limit: most, source: "one parameter" });
        }
        let header = u32::try_from(HEADER).unwrap_or(0) + PLACE;
        let value = AROUND + count;
        // One turn: what the link keeps between two requests.
        Ok(match verb {
            Verb::Read => Cost { out: header, back: header + value, turns: 1 },
            Verb::Write => Cost { out: header + 2 + value, back: header + 2, turns: 1 },
        })
    }

    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example {
        let (node, own) = (setup.number("node").unwrap_or(0), Located::of(space));
        let count = u32::try_from(cells.len()).unwrap_or(0);
        let sub = own.and_then(|own| own.sub_index(first, count)).unwrap_or(0);
        let index = own.map_or(0, |own| own.index);
        let code = own.and_then(|own| own.bytes_of(sub)).map_or(0, |(_, _, code)| code);
        let at = Object { node: u8::try_from(node).unwrap_or(0), index, sub };
        let cells = sound(own, sub, cells);
        let value = Typed { kind: code, data: &cells };
        let (request, response) = match verb {
            Verb::Read => (Request::Read(at), Response::Read { at, value }),
            Verb::Write => {
                (Request::Write { at, revision: ANY_REVISION, value }, Response::Write { at, revision: 1 })
            }
        };
        let word = if verb == Verb::Read { "read" } else { "write" };
        let part = if sub == 0 { String::new() } else { format!(", sub-index {sub}") };
        Example {
            words: format!(
                "{word} {}, node 0x{node:02X}, index {index}{part}",
                if sub == 0 { space.name().to_string() } else { parameter::show(space, first) }
            ),
            request: framed(Kind::Request, request.op(), 1, &|out| request.emit(out)),
            answer: framed(Kind::Response, response.op(), 1, &|out| response.emit(out)),
        }
    }

    fn published_example(&self, space: &Space, cells: &[u8], setup: &Setup) -> Option<Example> {
        let (node, own) = (setup.number("node").unwrap_or(0), Located::of(space)?);
        let at = Object { node: u8::try_from(node).unwrap_or(0), index: own.index, sub: 0 };
        let stale = u8::try_from(super::publishing(setup).missed).unwrap_or(u8::MAX);
        let request = Request::Subscribe { id: 1, at, period_ms: 0, stale };
        let cells = sound(Some(own), 0, cells);
        let value = Typed { kind: own.ty.code, data: &cells };
        let data = Publication::Data { id: 1, sequence: 1, stale: false, more_flags: 0, age_ms: 0, value };
        Some(Example {
            words: format!("{}, node 0x{node:02X}, index {}, subscribed to once", space.name(), own.index),
            request: framed(Kind::Request, request.op(), 1, &|out| request.emit(out)),
            answer: framed(Kind::Publication, data.op(), 0, &|out| data.emit(out)),
        })
    }

    fn execution(&self, space: &Space, setup: &Setup) -> Option<u64> {
        let block = space.name().split('.').next()?;
        setup.blocks.as_deref()?.block(block)?.execution.map(u64::from)
    }
}

fn framed(kind: Kind, op: u16, invoke: u16, payload: &dyn Fn(&mut Vec<u8>)) -> Vec<u8> {
    let mut out = vec![];
    frame::emit_with(kind, op, invoke, &mut out, payload);
    out
}

/// A whole parameter with a good status, where an example leaves it open.
fn sound(own: Option<Located>, sub: u8, cells: &[u8]) -> Vec<u8> {
    let mut cells = cells.to_vec();
    if let (Some(_), 0, Some(status)) = (own.and_then(|own| own.judged()), sub, cells.first_mut())
        && *status == 0
    {
        *status = Status::GOOD.0;
    }
    cells
}

/// What is kept between two requests on a link, in microseconds.
pub(super) fn pause(setup: &Setup) -> u64 {
    1_000_000 / u64::from(rate(setup).max(1))
}
